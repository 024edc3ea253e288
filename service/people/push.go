package people

import (
	"fmt"
	"strconv"
	"time"

	"missivum/core/source"
	"missivum/service/store"
)

// Pushed is what a source says of one person by itself.
type Pushed struct {
	Key    string
	Record source.Record
	Gone   bool
}

// PushKind is the kind of the runs that pushes are collected in.
const PushKind = "push"

// together is for how long pushes of one source are one run.
const together = 10 * time.Minute

// PushIn takes what a source says of people by itself, at once. What comes within ten minutes is one run, which can be
// looked at and undone as any other. A person without a mail address, whom no other source knows, is kept at the source
// and is nobody in the directory until they have one.
func (p *People) PushIn(tx *store.Tx, name string, list []Pushed) error {
	src, err := tx.Source(name)
	if err != nil {
		return err
	}
	rules, err := rulesIn(tx)
	if err != nil {
		return err
	}
	var changes []store.RunChange
	var sum store.Summary
	for _, one := range list {
		c, err := pushed(tx, src, rules, one)
		if err != nil {
			return err
		}
		switch c.Kind {
		case "":
			sum.Unchanged++
			continue
		case "new":
			sum.New++
		case "joined":
			sum.Joined++
		case "changed":
			sum.Changed++
		case "gone":
			sum.Gone++
		case "back":
			sum.Back++
		}
		changes = append(changes, c)
	}
	if len(changes) == 0 {
		return nil
	}
	return p.collect(tx, src, changes, sum)
}

// pushed is the change that a push is; without a kind for none.
func pushed(tx *store.Tx, src store.Source, rules Rules, one Pushed) (c store.RunChange, err error) {
	stored, there, err := tx.Record(src.ID, one.Key)
	if err != nil {
		return c, err
	}
	before, err := source.ReadRecord(stored.Record)
	if err != nil {
		return c, err
	}
	c = store.RunChange{Key: one.Key, Person: stored.Person, Mail: mailOf(one.Record, before, one.Key),
		Before: stored.Record, After: one.Record.Text()}
	gone := there && !stored.Gone.IsZero()
	switch {
	case one.Gone && there && !gone:
		c.Kind, c.After = "gone", stored.Record
	case one.Gone:
	case gone:
		c.Kind = "back"
	case there && c.After != before.Text():
		c.Kind = "changed"
	case !there:
		if c.Person, err = tx.MatchedPerson(fold(one.Record.Values[rules.match()])); err != nil {
			return c, err
		}
		switch {
		case c.Person != 0:
			c.Kind = "joined"
		case one.Record.Values["mail"] != "":
			c.Kind = "new"
		}
	}
	return c, nil
}

// collect applies changes, as a part of the run of the last minutes where there is one.
func (p *People) collect(tx *store.Tx, src store.Source, changes []store.RunChange, sum store.Summary) error {
	last, err := tx.Runs(src.Name, 0, 1)
	if err != nil {
		return err
	}
	run := store.Run{SourceID: src.ID, Source: src.Name, Kind: PushKind, State: store.Applied}
	from := 0
	if len(last) == 1 && last[0].Kind == PushKind && last[0].State == store.Applied && last[0].By == tx.By() &&
		tx.At().Sub(last[0].Planned) < together {
		run = last[0]
		if from, err = tx.LastRunChange(run.ID); err != nil {
			return err
		}
	} else if run, err = tx.AddRun(run, nil); err != nil {
		return err
	}
	a, err := newApplier(tx, src.ID)
	if err != nil {
		return err
	}
	for i := range changes {
		person, err := a.change(changes[i])
		if err != nil {
			return err
		}
		changes[i].Person = person
	}
	if err := a.finish(); err != nil {
		return err
	}
	if err := tx.AddRunChanges(run.ID, from, changes); err != nil {
		return err
	}
	s := &run.Summary
	s.Read += len(changes)
	s.New, s.Joined, s.Changed, s.Gone, s.Back = s.New+sum.New, s.Joined+sum.Joined, s.Changed+sum.Changed, s.Gone+sum.Gone, s.Back+sum.Back
	run.Applied, run.Revision = tx.At(), a.revision
	if err := tx.PutRun(run); err != nil {
		return err
	}
	return tx.Changed("pushed", "directory", strconv.Itoa(a.revision),
		fmt.Sprintf("run %d of %s: %d new, %d joined, %d changed, %d gone, %d back", run.ID, src.Name, sum.New, sum.Joined,
			sum.Changed, sum.Gone, sum.Back))
}
