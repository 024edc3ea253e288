package people

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"missivum/core/person"
	"missivum/core/problem"
	"missivum/core/source"
	"missivum/service/store"
)

// Apply carries a plan out: all of it or nothing. A plan that is held must be confirmed. It is a conflict when what it
// was made for changed meanwhile.
func (p *People) Apply(ctx context.Context, id int64, confirmed bool) (run store.Run, err error) {
	err = p.Store.Write(ctx, func(tx *store.Tx) error {
		run, err = p.ApplyIn(tx, id, confirmed)
		return err
	})
	return run, err
}

// ApplyIn is Apply in a unit of work.
func (p *People) ApplyIn(tx *store.Tx, id int64, confirmed bool) (store.Run, error) {
	run, err := tx.Run(id)
	if err != nil {
		return run, err
	}
	switch {
	case run.State != store.Planned && run.State != store.Held:
		return run, problem.New(problem.Conflict, "Run %d is %s; only a plan can be applied.", id, run.State)
	case run.State == store.Held && !confirmed:
		return run, problem.New(problem.Conflict, "Run %d is held: %s. Look at it, and confirm it if that is right.", id,
			strings.Join(run.Summary.Holds, "; "))
	}
	a, err := newApplier(tx, run.SourceID)
	if err != nil {
		return run, err
	}
	for _, name := range run.Summary.Fields {
		a.addField(name)
	}
	err = tx.EachRunChange(run.ID, func(c store.RunChange) error {
		person, err := a.change(c)
		if err == nil && c.Person == 0 {
			err = tx.SetRunPerson(run.ID, c.Number, person)
		}
		return err
	})
	if err != nil {
		return run, err
	}
	if err := a.finish(); err != nil {
		return run, err
	}
	run.State, run.Applied, run.Revision = store.Applied, tx.At(), a.revision
	if err := tx.PutRun(run); err != nil {
		return run, err
	}
	if run.Summary.Changes() > manyChanges {
		tx.After(func() { go p.Warm(context.WithoutCancel(tx.Context())) })
	}
	s := run.Summary
	return run, tx.Changed(action(run.Kind), "directory", strconv.Itoa(a.revision),
		fmt.Sprintf("run %d of %s: %d new, %d joined, %d changed, %d gone, %d back", run.ID, run.Source, s.New, s.Joined,
			s.Changed, s.Gone, s.Back))
}

// manyChanges is from how many changes on the directory is brought up to date before anybody asks for it.
const manyChanges = 1_000

// action is what is put on record for a kind of run.
func action(kind string) string {
	return map[string]string{"import": "imported", "sync": "synchronised", "edit": "edited", PushKind: "pushed", "undo": "undone"}[kind]
}

// Drop ends a plan that is not wanted.
func (p *People) Drop(ctx context.Context, id int64) (run store.Run, err error) {
	err = p.Store.Write(ctx, func(tx *store.Tx) error {
		if run, err = tx.Run(id); err != nil {
			return err
		}
		if run.State != store.Planned && run.State != store.Held {
			return problem.New(problem.Conflict, "Run %d is %s; only a plan can be dropped.", id, run.State)
		}
		run.State, run.Ended = store.Dropped, tx.At()
		return tx.PutRun(run)
	})
	return run, err
}

// Undo takes a run back: every record that it changed is again as it was before. It is a conflict when a later run
// changed any of them; that one is then to be undone first.
func (p *People) Undo(ctx context.Context, id int64) (undo store.Run, err error) {
	err = p.Store.Write(ctx, func(tx *store.Tx) error {
		run, err := tx.Run(id)
		if err != nil {
			return err
		}
		if run.State != store.Applied {
			return problem.New(problem.Conflict, "Run %d is %s; only a run that was applied can be undone.", id, run.State)
		}
		if undo, err = p.undoIn(tx, run); err != nil {
			return err
		}
		run.State, run.Ended = store.Undone, tx.At()
		if err := tx.PutRun(run); err != nil {
			return err
		}
		return pause(tx, run)
	})
	return undo, err
}

// pause pauses a source whose run was taken back: it would bring the same again. What it remembers of the last time is of
// no use any more.
func pause(tx *store.Tx, run store.Run) error {
	if run.Kind != "sync" {
		return nil
	}
	s, err := tx.Source(run.Source)
	if err != nil {
		return err
	}
	s.State.Paused, s.State.Cookie, s.State.Groups, s.State.Tag = true, "", "", ""
	s.State.Note = fmt.Sprintf("It is paused because run %d was undone.", run.ID)
	return tx.PutSourceState(s, "paused")
}

// undone are the kinds of changes that take others back.
var undone = map[string]string{"new": "gone", "joined": "gone", "changed": "changed", "gone": "back", "back": "gone"}

// undoIn makes a run of the opposite changes, and applies it.
func (p *People) undoIn(tx *store.Tx, run store.Run) (store.Run, error) {
	var changes []store.RunChange
	undo := store.Run{SourceID: run.SourceID, Source: run.Source, Kind: "undo", State: store.Planned, Undoes: run.ID}
	s := &undo.Summary
	counts := map[string]*int{"gone": &s.Gone, "changed": &s.Changed, "back": &s.Back, "new": &s.New}
	err := tx.EachRunChange(run.ID, func(c store.RunChange) error {
		kind := undone[c.Kind]
		*counts[kind]++
		before := c.After
		changes = append(changes, store.RunChange{Key: c.Key, Person: c.Person, Mail: c.Mail, Kind: kind, Before: before, After: c.Before})
		return nil
	})
	if err != nil {
		return undo, err
	}
	if len(changes) == 0 && run.Summary.Changes() > 0 {
		return undo, problem.New(problem.Conflict, "The changes of run %d are not kept any more; it cannot be undone.", run.ID)
	}
	slices.Reverse(changes) // records that were new are gone first
	if undo, err = tx.AddRun(undo, changes); err != nil {
		return undo, err
	}
	return p.ApplyIn(tx, undo.ID, true)
}

// applier changes records and works out the people again to whom they belong.
type applier struct {
	tx       *store.Tx
	source   int64
	sources  map[int64]string
	rules    Rules
	fields   []string
	column   map[string]int
	revision int
	touched  map[int64]bool // people to be worked out again
	removed  map[int64]bool // whose last record was taken back: as if they had never been there
}

// newApplier readies a change of a source's records.
func newApplier(tx *store.Tx, sourceID int64) (*applier, error) {
	fields, revision, err := tx.Fields()
	if err != nil {
		return nil, err
	}
	a := &applier{tx: tx, source: sourceID, revision: revision + 1, sources: map[int64]string{}, column: map[string]int{},
		touched: map[int64]bool{}, removed: map[int64]bool{}}
	if revision > 0 {
		for _, name := range fields {
			a.addField(name)
		}
	}
	if a.rules, err = rulesIn(tx); err != nil {
		return nil, err
	}
	list, err := tx.Sources()
	for _, s := range list {
		a.sources[s.ID] = s.Name
	}
	return a, err
}

// addField makes a field known; its place among the values is given.
func (a *applier) addField(name string) int {
	at, there := a.column[strings.ToLower(name)]
	if !there {
		at = len(a.fields)
		a.column[strings.ToLower(name)] = at
		a.fields = append(a.fields, name)
	}
	return at
}

// first reports whether a kind of change is the first that a source says of somebody.
func first(kind string) bool { return kind == "new" || kind == "joined" }

// stale is the conflict of a plan whose records changed meanwhile.
func stale(c store.RunChange) error {
	return problem.New(problem.Conflict, "What is known of %s changed meanwhile. Plan again; nothing was changed.", c.Mail)
}

// change carries one change out, and gives the person whom it is about.
func (a *applier) change(c store.RunChange) (int64, error) {
	stored, there, err := a.tx.Record(a.source, c.Key)
	if err != nil {
		return 0, err
	}
	gone := there && !stored.Gone.IsZero()
	switch {
	case first(c.Kind) == there, there && stored.Record != c.Before,
		(c.Kind == "changed" || c.Kind == "gone") && gone, c.Kind == "back" && !gone:
		return 0, stale(c)
	}
	if c.Kind == "gone" && c.After == "" { // a record that was new is taken back
		if err := a.tx.RemoveRecord(a.source, c.Key); err != nil {
			return 0, err
		}
		a.touched[stored.Person], a.removed[stored.Person] = true, true
		return stored.Person, nil
	}
	record, err := source.ReadRecord(c.After)
	if err != nil {
		return 0, err
	}
	r := store.Record{Source: a.source, Key: c.Key, Person: c.Person, Record: c.After}
	if there {
		r.Person = stored.Person
	}
	if c.Kind == "gone" {
		r.Gone = a.tx.At()
	}
	if r.Person == 0 {
		return a.newPerson(r, record)
	}
	a.touched[r.Person] = true
	delete(a.removed, r.Person)
	return r.Person, a.tx.PutRecord(r, record.Digest())
}

// newPerson stores a person of whom this is the first record.
func (a *applier) newPerson(r store.Record, record source.Record) (int64, error) {
	p := store.Person{Came: a.tx.At()}
	a.fill(&p, []source.Ranked{{Source: a.sources[a.source], Record: record}})
	id, err := a.tx.PutPerson(p, a.fields)
	if err != nil {
		return 0, err
	}
	r.Person = id
	return id, a.tx.PutRecord(r, record.Digest())
}

// fill gives a person the values that count.
func (a *applier) fill(p *store.Person, records []source.Ranked) {
	values, groups := source.Merge(records, a.rules.First)
	for _, name := range slices.Sorted(maps.Keys(values)) {
		a.addField(name)
	}
	p.Values = make([]string, len(a.fields))
	for name, value := range values {
		p.Values[a.column[strings.ToLower(name)]] = value.Value
	}
	p.Groups = groups
	p.Mail = values["mail"].Value
	p.Matched = fold(values[a.rules.match()].Value)
	p.Revision = a.revision
}

// finish works out everybody whom the changes concern, and stores the directory's next revision.
func (a *applier) finish() error {
	for _, id := range slices.Sorted(maps.Keys(a.touched)) {
		if err := a.person(id); err != nil {
			return err
		}
	}
	same, err := a.tx.SameMail(a.revision)
	if err != nil {
		return err
	}
	if len(same) > 0 {
		return problem.New(problem.Conflict, "Two people would have the mail address %s. Nothing was changed.",
			strings.Join(same, ", and two others "))
	}
	a.addField("mail")
	return a.tx.PutFields(a.fields, a.revision)
}

// person works one person out again.
func (a *applier) person(id int64) error {
	p, err := a.tx.PersonByID(id)
	if err != nil {
		return err
	}
	records, err := a.tx.RecordsOf(id)
	if err != nil {
		return err
	}
	ranked, there, err := ranked(records, a.sources)
	if err != nil {
		return err
	}
	if len(records) == 0 && a.removed[id] {
		return a.tx.TakeBack(id, a.revision)
	}
	switch {
	case there:
		p.Left = time.Time{}
	case p.Left.IsZero():
		p.Left = a.tx.At()
	}
	a.fill(&p, ranked)
	_, err = a.tx.PutPerson(p, a.fields)
	return err
}

// ranked are the records that count, in the order of their sources: those of sources that have the person, and of none,
// the last that was known. there says whether any source but what is kept here has the person.
func ranked(records []store.Record, sources map[int64]string) (list []source.Ranked, there bool, err error) {
	for _, r := range records {
		there = there || r.Gone.IsZero() && sources[r.Source] != store.Kept
	}
	for _, r := range records {
		if there && !r.Gone.IsZero() {
			continue
		}
		record, err := source.ReadRecord(r.Record)
		if err != nil {
			return nil, false, err
		}
		list = append(list, source.Ranked{Source: sources[r.Source], Record: record})
	}
	return list, there, nil
}

// schemaOf gives the schema of a reader of people.
func schemaOf(r Reader) *person.Schema {
	if s, ok := r.(interface{ Schema() *person.Schema }); ok {
		return s.Schema()
	}
	return person.NewSchema(r.Fields()...)
}
