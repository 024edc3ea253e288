package people

import (
	"context"
	"maps"
	"slices"
	"strconv"
	"strings"

	"missivum/core/person"
	"missivum/core/problem"
	"missivum/core/source"
	"missivum/service/store"
)

// Edit stores values that only this directory knows: by mail address and field. They stand beside those of the sources,
// come before them, and survive every run. A blank one is taken away.
func (p *People) Edit(ctx context.Context, edits map[string]map[string]string) (run store.Run, err error) {
	err = p.Store.Write(ctx, func(tx *store.Tx) error {
		run, err = p.EditIn(tx, edits)
		return err
	})
	return run, err
}

// EditIn is Edit in a unit of work.
func (p *People) EditIn(tx *store.Tx, edits map[string]map[string]string) (run store.Run, err error) {
	kept, err := tx.Source(store.Kept)
	if err != nil {
		return run, err
	}
	run = store.Run{SourceID: kept.ID, Source: kept.Name, Kind: "edit", State: store.Planned}
	var changes []store.RunChange
	for _, mail := range slices.Sorted(maps.Keys(edits)) {
		c, err := editOf(tx, kept.ID, mail, edits[mail])
		if err != nil {
			return run, err
		}
		switch {
		case c.Before == c.After:
			run.Summary.Unchanged++
			continue
		case c.Kind == "joined":
			run.Summary.Joined++
		default:
			run.Summary.Changed++
		}
		changes = append(changes, c)
	}
	run.Summary.Read = len(edits)
	if run, err = tx.AddRun(run, changes); err != nil {
		return run, err
	}
	return p.ApplyIn(tx, run.ID, true)
}

// editOf is the change that an edit of one person is.
func editOf(tx *store.Tx, kept int64, mail string, values map[string]string) (c store.RunChange, err error) {
	who, err := tx.PersonByMail(mail)
	if err != nil {
		return c, err
	}
	key := strconv.FormatInt(who.ID, 10)
	stored, there, err := tx.Record(kept, key)
	if err != nil {
		return c, err
	}
	before, err := source.ReadRecord(stored.Record)
	if err != nil {
		return c, err
	}
	after := source.Record{Values: maps.Clone(before.Values)}
	for field, value := range values {
		name, _ := person.Canonical(field)
		if !person.ValidName(name) || strings.EqualFold(name, "mail") {
			return c, problem.New(problem.Invalid,
				"%q cannot be kept here; use a field of letters, digits and hyphens, other than mail.", field).In(field)
		}
		if delete(after.Values, name); strings.TrimSpace(value) != "" {
			after.Values[name] = strings.TrimSpace(value)
		}
	}
	c = store.RunChange{Key: key, Person: who.ID, Mail: who.Mail, Kind: "changed", Before: stored.Record, After: after.Text()}
	if !there {
		c.Kind = "joined"
	}
	if !there && len(after.Values) == 0 {
		c.After = ""
	}
	return c, nil
}

// Detail is everything that is known of a person.
type Detail struct {
	Person store.Person
	Values []source.Value // that are not blank, in the order of the directory's fields
	Others []source.Value // values that another source has and that do not count
	Runs   []store.Run    // the newest that changed the person, newest first
	Ways   []store.RunChange
}

// historyShown is how many changes of a person are shown.
const historyShown = 50

// Detail reads everything that is known of the person with a mail address, who may have left.
func (p *People) Detail(ctx context.Context, mail string) (d Detail, err error) {
	err = p.Store.Read(ctx, func(tx *store.Tx) error {
		if d.Person, err = tx.PersonByMail(mail); err != nil {
			return err
		}
		rules, err := rulesIn(tx)
		if err != nil {
			return err
		}
		list, err := tx.Sources()
		if err != nil {
			return err
		}
		names := map[int64]string{}
		for _, s := range list {
			names[s.ID] = s.Name
		}
		records, err := tx.RecordsOf(d.Person.ID)
		if err != nil {
			return err
		}
		all, _, err := ranked(records, names)
		if err != nil {
			return err
		}
		fields, _, err := tx.Fields()
		if err != nil {
			return err
		}
		values, _ := source.Merge(all, rules.First)
		for _, field := range fields {
			value, there := values[field]
			if there {
				d.Values = append(d.Values, value)
			}
			for _, r := range all {
				if other := r.Record.Values[field]; other != "" && (r.Source != value.Source) {
					d.Others = append(d.Others, source.Value{Field: field, Value: other, Source: r.Source})
				}
			}
		}
		d.Runs, d.Ways, err = tx.ChangesOf(d.Person.ID, historyShown)
		return err
	})
	return d, err
}
