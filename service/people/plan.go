package people

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"missivum/core/problem"
	"missivum/core/source"
	"missivum/service/store"
)

// Limits of a run.
const (
	skipsKept  = 1_000 // of those that were skipped, how many are named
	maxChanges = 1_000_000
)

// Incoming is what a source brings.
type Incoming struct {
	Source   string
	Kind     string // import or sync
	Reader   Reader
	Whole    bool     // people who are not in it are gone
	Gone     []string // keys of people who are gone, where not all people are brought
	Partly   bool     // fields that it lacks keep their values; otherwise they turn blank
	Quiet    bool     // a plan without changes is not stored
	Notes    []string
	Progress func(read int)
	Photo    func(mail string, data []byte) // takes the photos of who is new or changed; nil for none
	Late     func() Late                    // what is known once everything was read; nil for nothing
	Close    func()                         // ends the reading; nil for nothing
}

// Late is what a source says once everything was read.
type Late struct {
	Gone    []string        // keys of people who are gone
	Present map[string]bool // keys of all who are there; nil where that was not said
	Notes   []string
}

// Reader gives people one after the other (source.Reader). What Fields gives is certain at the end.
type Reader interface {
	Next() (source.Entry, error)
	Fields() []string
}

// planner works out what a source changes.
type planner struct {
	Incoming
	ctx     context.Context
	tx      *store.Tx
	source  store.Source
	known   map[string]*store.KnownRecord
	layout  source.Layout
	fields  []string
	match   string
	summary store.Summary
	changes []store.RunChange
	blank   map[string]int
	joined  map[int64]string // people whom a new record joins, by the key that does
	nobody  bool             // the directory has nobody with whom a record could be matched
}

// Plan reads what a source brings and works out what that changes. The plan is stored as a run; an older one of the same
// source that waits is dropped. Nothing else is changed.
func (p *People) Plan(ctx context.Context, in Incoming) (run store.Run, err error) {
	pl := &planner{Incoming: in, ctx: ctx, blank: map[string]int{}, joined: map[int64]string{}}
	err = p.Store.Read(ctx, func(tx *store.Tx) error { // what others write meanwhile is found when the plan is applied
		pl.tx = tx
		return pl.read(tx)
	})
	if err != nil {
		return run, err
	}
	pl.summary.Notes = append(slices.Clone(in.Notes), pl.summary.Notes...)
	if in.Quiet && len(pl.changes) == 0 && len(pl.summary.Holds) == 0 {
		return store.Run{SourceID: pl.source.ID, Source: pl.source.Name, Kind: in.Kind, State: store.Applied, Summary: pl.summary}, nil
	}
	err = p.Store.Write(ctx, func(tx *store.Tx) error {
		if err := dropOpen(tx, pl.source); err != nil {
			return err
		}
		run, err = tx.AddRun(store.Run{SourceID: pl.source.ID, Source: pl.source.Name, Kind: in.Kind, State: pl.state(),
			Summary: pl.summary}, pl.changes)
		return err
	})
	return run, err
}

// dropOpen drops the plans of a source that wait: the next one takes their place.
func dropOpen(tx *store.Tx, s store.Source) error {
	open, err := tx.OpenRuns(s.ID)
	if err != nil {
		return err
	}
	for _, old := range open {
		old.State, old.Ended = store.Dropped, tx.At()
		if err := tx.PutRun(old); err != nil {
			return err
		}
	}
	return nil
}

// state is planned, or held where the guard says so.
func (pl *planner) state() store.RunState {
	if len(pl.summary.Holds) > 0 {
		return store.Held
	}
	return store.Planned
}

// read compares everybody whom the source gives with what is known.
func (pl *planner) read(tx *store.Tx) (err error) {
	if pl.source, err = tx.Source(pl.Source); err != nil {
		return err
	}
	rules, err := rulesIn(tx)
	if err != nil {
		return err
	}
	pl.match = rules.match()
	if pl.known, err = tx.KnownRecords(pl.source.ID); err != nil {
		return err
	}
	there, left, err := tx.CountPeople()
	if err != nil {
		return err
	}
	pl.nobody = there+left == 0
	if err := pl.everybody(); err != nil {
		return err
	}
	if err := pl.departed(); err != nil {
		return err
	}
	return pl.guard(rules.Guard)
}

// everybody reads the source to its end.
func (pl *planner) everybody() error {
	var buffer []byte
	for {
		e, err := pl.Reader.Next()
		var row source.RowError
		switch {
		case errors.Is(err, io.EOF):
			pl.summary.Fields = pl.Reader.Fields()
			return nil
		case errors.As(err, &row):
			pl.skip(row)
			continue
		case err != nil:
			return problem.As(problem.Refused, err)
		}
		if pl.summary.Read++; pl.summary.Read%1000 == 0 {
			if err := pl.ctx.Err(); err != nil {
				return err
			}
			if pl.Progress != nil {
				pl.Progress(pl.summary.Read)
			}
		}
		if buffer, err = pl.entry(&e, buffer); err != nil {
			return err
		}
		if len(pl.changes) > maxChanges {
			return problem.New(problem.TooLarge, "A run changes at most %d people.", maxChanges)
		}
	}
}

// skip notes an entry that is left out.
func (pl *planner) skip(row source.RowError) {
	if pl.summary.Skipped++; len(pl.summary.Skips) < skipsKept {
		pl.summary.Skips = append(pl.summary.Skips, row)
	}
}

// entry compares one person with what is known of them. buffer is used for digests.
func (pl *planner) entry(e *source.Entry, buffer []byte) ([]byte, error) {
	photo := ""
	if len(e.Photo) > 0 {
		sum := sha256.Sum256(e.Photo)
		photo = hex.EncodeToString(sum[:])
	}
	if pl.fields == nil {
		schema := schemaOf(pl.Reader)
		pl.layout, pl.fields = source.NewLayout(schema), schema.Names()
	}
	known, there := pl.known[e.Key]
	digest, buffer := pl.layout.Digest(buffer, e, photo)
	if there && !known.Gone && known.Digest == digest {
		known.Seen = true
		pl.summary.Unchanged++
		return buffer, nil
	}
	after := pl.layout.Record(e, photo)
	if there {
		return buffer, pl.changed(e, after)
	}
	return buffer, pl.added(e, after)
}

// changed notes what is different of somebody whom the source had before.
func (pl *planner) changed(e *source.Entry, after source.Record) error {
	stored, ok, err := pl.tx.Record(pl.source.ID, e.Key)
	if err != nil || !ok {
		return err
	}
	before, err := source.ReadRecord(stored.Record)
	if err != nil {
		return err
	}
	if pl.Partly {
		after = before.Over(after, pl.Reader.Fields())
	}
	if pl.Photo == nil { // photos were not asked for
		after.Photo = before.Photo
	}
	pl.known[e.Key].Seen = true
	text := after.Text()
	kind := "changed"
	switch {
	case !stored.Gone.IsZero():
		kind = "back"
		pl.summary.Back++
	case text == before.Text():
		pl.summary.Unchanged++
		return nil
	default:
		pl.summary.Changed++
		for field := range before.Values {
			if after.Values[field] == "" {
				pl.blank[field]++
			}
		}
	}
	pl.keep(e, before, after)
	pl.changes = append(pl.changes, store.RunChange{Key: e.Key, Person: stored.Person, Mail: mailOf(after, before, e.Key), Kind: kind,
		Before: stored.Record, After: text})
	return nil
}

// mailOf is by which address a change is listed.
func mailOf(after, before source.Record, key string) string {
	for _, r := range []source.Record{after, before} {
		if mail := r.Values["mail"]; mail != "" {
			return mail
		}
	}
	return key
}

// added notes somebody whom the source did not have: a new person, or more about one who is known.
func (pl *planner) added(e *source.Entry, after source.Record) error {
	var joins int64
	if value := fold(after.Values[pl.match]); value != "" && !pl.nobody {
		id, err := pl.tx.MatchedPerson(value)
		if err != nil {
			return err
		}
		joins = id
	}
	if after.Values["mail"] == "" && joins == 0 {
		pl.skip(source.RowError{Row: e.Row, Message: "the mail address is blank"})
		return nil
	}
	if joins != 0 {
		taken, err := pl.taken(joins, e.Key)
		if err != nil {
			return err
		}
		if taken != "" {
			pl.skip(source.RowError{Row: e.Row, Message: fmt.Sprintf("%s %s is that of %s, whom this source has already",
				pl.match, after.Values[pl.match], taken)})
			return nil
		}
		pl.joined[joins] = e.Key
	}
	pl.keep(e, source.Record{}, after)
	c := store.RunChange{Key: e.Key, Person: joins, Mail: mailOf(after, after, e.Key), Kind: "new", After: after.Text()}
	if joins != 0 {
		c.Kind = "joined"
		pl.summary.Joined++
	} else {
		pl.summary.New++
	}
	pl.changes = append(pl.changes, c)
	return nil
}

// taken gives the key by which this source has a person already; blank where it has not.
func (pl *planner) taken(person int64, key string) (string, error) {
	if other := pl.joined[person]; other != "" {
		return other, nil
	}
	records, err := pl.tx.RecordsOf(person)
	if err != nil {
		return "", err
	}
	for _, r := range records {
		if r.Source == pl.source.ID && r.Key != key && r.Gone.IsZero() {
			return r.Key, nil
		}
	}
	return "", nil
}

// keep hands on the photo of somebody who is new or changed.
func (pl *planner) keep(e *source.Entry, before, after source.Record) {
	if pl.Photo != nil && len(e.Photo) > 0 && before.Photo != after.Photo {
		pl.Photo(mailOf(after, before, e.Key), e.Photo)
	}
}

// departed notes who is gone: all who were not seen, of a source that is whole, or those whom it names.
func (pl *planner) departed() error {
	keys, present := pl.Gone, map[string]bool{}
	if pl.Late != nil {
		late := pl.Late()
		pl.summary.Notes = append(pl.summary.Notes, late.Notes...)
		keys = append(keys, late.Gone...)
		present = late.Present
	}
	if pl.Whole || pl.Late != nil && present != nil {
		keys = nil
		for key, known := range pl.known {
			if !known.Gone && !known.Seen && !present[key] {
				keys = append(keys, key)
			}
		}
		slices.Sort(keys)
	}
	for _, key := range keys {
		stored, ok, err := pl.tx.Record(pl.source.ID, key)
		if err != nil {
			return err
		}
		if !ok || !stored.Gone.IsZero() || pl.known[key] != nil && pl.known[key].Seen {
			continue
		}
		before, err := source.ReadRecord(stored.Record)
		if err != nil {
			return err
		}
		pl.summary.Gone++
		pl.changes = append(pl.changes, store.RunChange{Key: key, Person: stored.Person, Mail: mailOf(before, before, key), Kind: "gone",
			Before: stored.Record, After: stored.Record})
	}
	if pl.summary.Gone > 0 && pl.summary.New > 0 {
		pl.moved()
	}
	return nil
}

// moved notes people who seem to be gone and new at once, because what identifies them changed.
func (pl *planner) moved() {
	names := map[string]bool{}
	for _, c := range pl.changes {
		if c.Kind == "gone" {
			if r, err := source.ReadRecord(c.Before); err == nil && r.Values["cn"] != "" {
				names[strings.ToLower(r.Values["cn"])] = true
			}
		}
	}
	both := 0
	for _, c := range pl.changes {
		if c.Kind == "new" {
			if r, err := source.ReadRecord(c.After); err == nil && names[strings.ToLower(r.Values["cn"])] {
				both++
			}
		}
	}
	if both > 0 {
		pl.summary.Notes = append(pl.summary.Notes, fmt.Sprintf("%d of those who are gone have the name of somebody who is new. "+
			"If their mail addresses changed, name a field that stays as the key in the mapping, such as key: employeeNumber.", both))
	}
}

// guard holds a plan that does more than the guard lets through.
func (pl *planner) guard(g source.Guard) error {
	people := 0
	for _, known := range pl.known {
		if !known.Gone {
			people++
		}
	}
	filled := map[string]int{}
	for field := range maps.Keys(pl.blank) {
		n, err := pl.tx.Filled(pl.source.ID, field)
		if err != nil {
			return err
		}
		filled[field] = n
	}
	pl.summary.Holds = g.Holds(people, pl.summary.Gone, pl.blank, filled)
	if pl.Whole && pl.summary.Read == 0 && people > 0 {
		pl.summary.Holds = append(pl.summary.Holds, "nobody could be read")
	}
	if pl.Whole && pl.summary.Skipped > 0 && pl.summary.Gone > 0 && pl.Kind == "import" {
		pl.summary.Holds = append(pl.summary.Holds,
			fmt.Sprintf("%d people are gone, and %d rows could not be read: some of the people may stand there",
				pl.summary.Gone, pl.summary.Skipped))
	}
	return nil
}
