// Package people keeps the directory and takes files into it: first what would change, then the
// change.
package people

import (
	"context"
	"fmt"
	"io"
	"strings"
	"sync"

	"missivum/core/person"
	"missivum/core/problem"
	"missivum/service/store"
)

// People keeps the directory.
type People struct {
	Store  *store.Store
	Folder string // for the states before the last imports; empty keeps none

	mu       sync.Mutex
	cached   *person.Directory
	revision int
}

// Directory returns the directory and its revision, both of one moment. It must not be changed.
func (p *People) Directory(ctx context.Context) (d *person.Directory, revision int, err error) {
	err = p.Store.Read(ctx, func(tx *store.Tx) error {
		d, revision, err = p.DirectoryIn(tx)
		return err
	})
	return d, revision, err
}

// DirectoryIn is Directory in a unit of work. It is read from the store only when its revision is not the one in
// memory.
func (p *People) DirectoryIn(tx *store.Tx) (*person.Directory, int, error) {
	revision, err := tx.Revision()
	if err != nil {
		return nil, 0, err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.cached != nil && p.revision == revision {
		return p.cached, revision, nil
	}
	d, revision, err := tx.Directory()
	if err == nil && revision > p.revision {
		p.cached, p.revision = d, revision
	}
	return d, revision, err
}

// FieldChange is one value that an import changes.
type FieldChange struct {
	Field  string `json:"field"`
	Before string `json:"before"`
	After  string `json:"after"`
}

// Change is what an import does to one person.
type Change struct {
	Mail   string        `json:"mail"`
	Kind   string        `json:"kind"` // added, changed, removed
	Fields []FieldChange `json:"fields"`
}

// changesShown is how many changes a plan lists; the counts are of all.
const changesShown = 200

// Plan says what an import would do.
type Plan struct {
	Columns   []person.Column   `json:"columns"`
	Note      string            `json:"note"` // what should be known of the file's character set; may be empty
	Rows      int               `json:"rows"` // people in the file
	Added     int               `json:"added"`
	Changed   int               `json:"changed"`
	Removed   int               `json:"removed"`
	Unchanged int               `json:"unchanged"`
	Changes   []Change          `json:"changes"` // the first 200
	Bad       []person.RowError `json:"bad"`     // rows left out
	Applied   bool              `json:"applied"`
	Revision  int               `json:"revision"` // of the directory the plan was made for

	result   *person.Directory
	before   *person.Directory
	replaces bool // people who are not in the file are removed
}

// Plan reads a CSV file and works out what taking it in would change. mapping gives fields for headings,
// as person.NewReader takes it. With replace, people who are
// not in the file are removed; otherwise they stay. Fields that the file lacks keep their values.
func (p *People) Plan(ctx context.Context, file io.Reader, mapping map[string]string, replace bool) (*Plan, error) {
	var before *person.Directory
	var revision int
	err := p.Store.Read(ctx, func(tx *store.Tx) (err error) {
		before, revision, err = p.DirectoryIn(tx)
		return err
	})
	if err != nil {
		return nil, err
	}
	reader, err := person.NewReader(file, mapping, before.Schema.Names()...)
	if err != nil {
		return nil, problem.As(problem.Refused, err)
	}
	plan := &Plan{Columns: reader.Columns(), Note: reader.Note(), Revision: revision, Changes: []Change{}}
	incoming, bad, err := reader.All()
	if err != nil {
		return nil, problem.As(problem.Refused, err)
	}
	plan.Bad = bad
	plan.Rows = len(incoming.People)
	plan.replaces = replace
	plan.merge(before, incoming, replace)
	return plan, nil
}

// Confirm refuses a plan that removes people by mistake: when nobody was read, when rows were left out, and when the
// number that is removed is not the one that was confirmed.
func (plan *Plan) Confirm(removed int) error {
	switch {
	case !plan.replaces || plan.Removed == 0:
		return nil
	case plan.Rows == 0:
		return problem.New(problem.Refused,
			"The file has nobody that can be read; all %d people would be removed. Nothing was imported.", plan.Removed)
	case len(plan.Bad) > 0:
		return problem.New(problem.Refused, "%d rows cannot be read (the first: %v). Who stands there would be removed; correct them, "+
			"or import without removing. Nothing was imported.", len(plan.Bad), plan.Bad[0])
	case removed != plan.Removed:
		return problem.New(problem.Conflict, "This would remove %d people who are not in the file. Confirm that number: --remove %d, "+
			"or remove=%d in a request. Nothing was imported.", plan.Removed, plan.Removed, plan.Removed).In("remove")
	}
	return nil
}

// merge works out the directory after the import and counts the changes.
func (plan *Plan) merge(before, incoming *person.Directory, replace bool) {
	after := &person.Directory{Schema: person.NewSchema(append(before.Schema.Names(), incoming.Schema.Names()...)...)}
	mailIn, _, _ := incoming.Schema.Column("mail")
	byMail := map[string]*person.Person{}
	for i := range incoming.People {
		byMail[strings.ToLower(incoming.People[i].At(mailIn))] = &incoming.People[i]
	}
	target := make([]int, incoming.Schema.Len())
	for i, name := range incoming.Schema.Names() {
		target[i], _, _ = after.Schema.Column(name)
	}
	mailBefore, _, _ := before.Schema.Column("mail")
	known := map[string]bool{}
	for i := range before.People {
		old := &before.People[i]
		key := strings.ToLower(old.At(mailBefore))
		known[key] = true
		in := byMail[key]
		if in == nil && replace {
			plan.Removed++
			plan.list(Change{Mail: old.At(mailBefore), Kind: "removed", Fields: []FieldChange{}})
			continue
		}
		p := person.Person{Values: make([]string, after.Schema.Len())}
		copy(p.Values, old.Values)
		plan.update(&p, in, target, after.Schema.Names(), old.At(mailBefore))
		after.People = append(after.People, p)
	}
	for i := range incoming.People {
		in := &incoming.People[i]
		if known[strings.ToLower(in.At(mailIn))] {
			continue
		}
		p := person.Person{Values: make([]string, after.Schema.Len())}
		for c, value := range in.Values {
			p.Values[target[c]] = value
		}
		plan.Added++
		plan.list(Change{Mail: in.At(mailIn), Kind: "added", Fields: []FieldChange{}})
		after.People = append(after.People, p)
	}
	plan.result, plan.before = after, before
}

// update writes the incoming values over a person and notes what changes.
func (plan *Plan) update(p, in *person.Person, target []int, names []string, mail string) {
	var fields []FieldChange
	if in != nil {
		for c, value := range in.Values {
			if at := target[c]; p.Values[at] != value {
				fields = append(fields, FieldChange{Field: names[at], Before: p.Values[at], After: value})
				p.Values[at] = value
			}
		}
	}
	if len(fields) == 0 {
		plan.Unchanged++
		return
	}
	plan.Changed++
	plan.list(Change{Mail: mail, Kind: "changed", Fields: fields})
}

// list adds a change to the plan; of many, the first are listed and all are counted.
func (plan *Plan) list(c Change) {
	if len(plan.Changes) < changesShown {
		plan.Changes = append(plan.Changes, c)
	}
}

// Apply carries a plan out. It is a conflict when the directory changed since the plan was made.
func (p *People) Apply(ctx context.Context, plan *Plan) error {
	return p.Store.Write(ctx, func(tx *store.Tx) error { return p.ApplyIn(tx, plan) })
}

// ApplyIn is Apply in a unit of work.
func (p *People) ApplyIn(tx *store.Tx, plan *Plan) error {
	detail := fmt.Sprintf("%d added, %d changed, %d removed", plan.Added, plan.Changed, plan.Removed)
	if err := p.keep(plan); err != nil {
		return err
	}
	if err := tx.ReplaceDirectory(plan.result, plan.Revision, detail); err != nil {
		return err
	}
	plan.Applied = true
	return nil
}

// Search returns the people in whose values the text stands, letter case aside, all for an empty text.
func Search(d *person.Directory, text string) []*person.Person {
	text = strings.ToLower(strings.TrimSpace(text))
	found := []*person.Person{}
	for i := range d.People {
		p := &d.People[i]
		if text == "" || matches(p, text) {
			found = append(found, p)
		}
	}
	return found
}

// matches reports whether any field of a person has a text in it.
func matches(p *person.Person, text string) bool {
	for _, value := range p.Values {
		if strings.Contains(strings.ToLower(value), text) {
			return true
		}
	}
	return false
}
