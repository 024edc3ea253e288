// Package people keeps the directory: the people, what each source knows of them, and the runs by which that changes.
// Whatever a source brings is first a plan and then, by Apply, the change. Start with People.
package people

import (
	"context"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"missivum/core/fault"
	"missivum/core/person"
	"missivum/service/store"
)

// People keeps the directory.
type People struct {
	Store *store.Store
	Now   func() time.Time
	Log   *slog.Logger

	mu        sync.Mutex
	cached    *person.Directory
	ids       []int64 // of the people of cached
	revision  int
	concerned concerned

	faulty   sync.Mutex
	faults   []fault.Fault
	faultsOf string // what faults are of

	blank []int // for how many people of cached each field is blank; nil while that was not asked for
}

// Directory returns the directory and its revision, both of one moment. It must not be changed.
func (p *People) Directory(ctx context.Context) (d *person.Directory, revision int, err error) {
	err = p.Store.Read(ctx, func(tx *store.Tx) error {
		d, revision, err = p.DirectoryIn(tx)
		return err
	})
	return d, revision, err
}

// DirectoryIn is Directory in a unit of work. The whole is read from the store once; after that only what changed.
func (p *People) DirectoryIn(tx *store.Tx) (*person.Directory, int, error) {
	d, _, revision, err := p.directoryIn(tx)
	return d, revision, err
}

// IDsIn gives the ids of the people of the directory, in their order.
func (p *People) IDsIn(tx *store.Tx) ([]int64, error) {
	_, ids, _, err := p.directoryIn(tx)
	return ids, err
}

// directoryIn reads the directory, the ids of its people and its revision.
func (p *People) directoryIn(tx *store.Tx) (*person.Directory, []int64, int, error) {
	fields, revision, err := tx.Fields()
	if err != nil {
		return nil, nil, 0, err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	switch {
	case p.cached != nil && p.revision == revision:
		return p.cached, p.ids, revision, nil
	case p.cached != nil && p.revision < revision:
		err = p.update(tx, fields, revision)
	case p.cached != nil: // of a moment that has passed: it is not kept
		d, ids, err := load(tx, fields)
		return d, ids, revision, err
	default:
		p.cached, p.ids, err = load(tx, fields)
		p.revision, p.blank = revision, nil
	}
	if err != nil {
		p.cached = nil
		return nil, nil, 0, err
	}
	return p.cached, p.ids, revision, nil
}

// Warm brings the directory into memory before anybody waits for it. Where that fails, whoever asks finds out.
func (p *People) Warm(ctx context.Context) {
	if _, _, err := p.Blank(ctx); err != nil && p.Log != nil {
		p.Log.Debug("reading the directory ahead", "error", err)
	}
}

// Blank counts for how many people each field is blank, in the order of the fields.
func (p *People) Blank(ctx context.Context) (*person.Directory, []int, error) {
	d, _, err := p.Directory(ctx)
	if err != nil {
		return nil, nil, err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.cached == d && p.blank != nil {
		return d, p.blank, nil
	}
	blank := make([]int, d.Schema.Len())
	for i := range d.People {
		for column := range blank {
			if person.IsBlank(d.People[i].At(column)) {
				blank[column]++
			}
		}
	}
	if p.cached == d {
		p.blank = blank
	}
	return d, blank, nil
}

// load reads the whole directory. Values that many people have are kept once.
func load(tx *store.Tx, fields []string) (*person.Directory, []int64, error) {
	d := &person.Directory{Schema: person.NewSchema(fields...)}
	var ids []int64
	same := map[string]string{}
	err := tx.EachPerson(func(s store.Person) {
		for i, value := range s.Values {
			if one, ok := same[value]; ok {
				s.Values[i] = one
			} else if len(same) < maxSame {
				same[value] = value
			}
		}
		ids = append(ids, s.ID)
		d.People = append(d.People, person.Person{Values: s.Values, Groups: s.Groups})
	})
	return d, ids, err
}

// maxSame is how many values are looked at to keep those once that many people have.
const maxSame = 50_000

// update brings the directory in memory up to date by what changed since.
func (p *People) update(tx *store.Tx, fields []string, revision int) error {
	next := &person.Directory{Schema: p.cached.Schema, People: slices.Clone(p.cached.People)}
	if len(fields) != next.Schema.Len() {
		next.Schema = person.NewSchema(fields...)
	}
	ids := slices.Clone(p.ids)
	gone := map[int64]bool{}
	err := tx.EachChanged(p.revision, func(s store.Person) {
		at, there := slices.BinarySearch(ids, s.ID)
		now := person.Person{Values: s.Values, Groups: s.Groups}
		switch {
		case !s.Left.IsZero():
			gone[s.ID] = there
		case there:
			next.People[at] = now
		default:
			ids = slices.Insert(ids, at, s.ID)
			next.People = slices.Insert(next.People, at, now)
		}
	})
	if err != nil {
		return err
	}
	back, err := tx.TakenBack(p.revision)
	if err != nil {
		return err
	}
	for _, id := range back {
		gone[id] = true
	}
	kept := 0
	for i, id := range ids {
		if !gone[id] {
			ids[kept], next.People[kept] = id, next.People[i]
			kept++
		}
	}
	p.cached, p.ids, p.revision, p.blank = &person.Directory{Schema: next.Schema, People: next.People[:kept]}, ids[:kept], revision, nil
	return nil
}

// fold makes values comparable by which records are matched.
func fold(value string) string { return strings.ToLower(strings.TrimSpace(value)) }
