package source

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"missivum/core/person"
)

// Record is what a source knows of a person.
type Record struct {
	Values map[string]string `json:"values"` // by field; blank ones are left out
	Groups []string          `json:"groups,omitempty"`
	Photo  string            `json:"photo,omitempty"` // SHA-256 of the photo as the source has it, in hexadecimal
}

// Layout is the order in which the fields of a source's people go into digests, so that it does not matter in which
// order a file has them.
type Layout struct {
	names  []string
	places []int
}

// NewLayout makes the layout of people with a schema.
func NewLayout(s *person.Schema) Layout {
	l := Layout{names: slices.Sorted(slices.Values(s.Names()))}
	for _, name := range l.names {
		column, _, _ := s.Column(name)
		l.places = append(l.places, column)
	}
	return l
}

// DigestSize is the length of a digest in bytes.
const DigestSize = 16

// Digest is a short form of what an entry says, equal for equal records. photo is that of Record.
func (l Layout) Digest(buffer []byte, e *Entry, photo string) (digest [DigestSize]byte, _ []byte) {
	buffer = buffer[:0]
	for i, name := range l.names {
		if value := e.At(l.places[i]); value != "" {
			buffer = appendPair(buffer, name, value)
		}
	}
	buffer = appendRest(buffer, e.Groups, photo)
	sum := sha256.Sum256(buffer)
	copy(digest[:], sum[:])
	return digest, buffer
}

// Digest is that of Layout for a record.
func (r Record) Digest() (digest [DigestSize]byte) {
	var buffer []byte
	for _, name := range slices.Sorted(maps.Keys(r.Values)) {
		buffer = appendPair(buffer, name, r.Values[name])
	}
	sum := sha256.Sum256(appendRest(buffer, r.Groups, r.Photo))
	copy(digest[:], sum[:])
	return digest
}

// appendPair adds a field and its value in a way that no other pair has.
func appendPair(b []byte, name, value string) []byte {
	return append(append(append(append(b, name...), 0), value...), 0)
}

// appendRest adds groups and photo.
func appendRest(b []byte, groups []string, photo string) []byte {
	for _, g := range groups {
		b = append(append(b, 1), g...)
	}
	return append(append(b, 2), photo...)
}

// Record makes a record of an entry.
func (l Layout) Record(e *Entry, photo string) Record {
	r := Record{Values: map[string]string{}, Groups: e.Groups, Photo: photo}
	for i, name := range l.names {
		if value := e.At(l.places[i]); value != "" {
			r.Values[name] = value
		}
	}
	return r
}

// Text is a record as JSON, the same for equal records.
func (r Record) Text() string {
	if r.Values == nil {
		r.Values = map[string]string{}
	}
	text, err := json.Marshal(r) // strings only: it cannot fail
	if err != nil {
		panic(err)
	}
	return string(text)
}

// ReadRecord reads what Text wrote; a blank text is an empty record.
func ReadRecord(text string) (r Record, err error) {
	if text == "" {
		return Record{Values: map[string]string{}}, nil
	}
	if err := json.Unmarshal([]byte(text), &r); err != nil {
		return r, fmt.Errorf("a stored record cannot be read: %w", err)
	}
	if r.Values == nil {
		r.Values = map[string]string{}
	}
	return r, nil
}

// Over gives a record with the given fields replaced by those of another: what a file that has only some fields says of
// a person of whom more is known.
func (r Record) Over(newer Record, fields []string) Record {
	out := Record{Values: maps.Clone(r.Values), Groups: newer.Groups, Photo: newer.Photo}
	if out.Values == nil {
		out.Values = map[string]string{}
	}
	if len(out.Groups) == 0 {
		out.Groups = r.Groups
	}
	if out.Photo == "" {
		out.Photo = r.Photo
	}
	for _, name := range fields {
		delete(out.Values, name)
		if value := newer.Values[name]; value != "" {
			out.Values[name] = value
		}
	}
	return out
}

// FieldChange is one value that changes.
type FieldChange struct {
	Field  string `json:"field"`
	Before string `json:"before"`
	After  string `json:"after"`
}

// GroupsField is under which name a change of groups is listed, and PhotoField one of the photo.
const (
	GroupsField = "groups"
	PhotoField  = "photo"
)

// Changes lists what differs between two records, by field.
func Changes(before, after Record) []FieldChange {
	list := []FieldChange{}
	names := slices.Sorted(maps.Keys(before.Values))
	for name := range after.Values {
		if _, there := before.Values[name]; !there {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	for _, name := range names {
		if before.Values[name] != after.Values[name] {
			list = append(list, FieldChange{name, before.Values[name], after.Values[name]})
		}
	}
	if !slices.Equal(before.Groups, after.Groups) {
		list = append(list, FieldChange{GroupsField, groupNames(before.Groups), groupNames(after.Groups)})
	}
	if before.Photo != after.Photo {
		list = append(list, FieldChange{PhotoField, photoName(before.Photo), photoName(after.Photo)})
	}
	return list
}

// groupNames lists groups by the names that people know.
func groupNames(groups []string) string {
	names := make([]string, len(groups))
	for i, g := range groups {
		names[i] = GroupName(g)
	}
	return strings.Join(names, ", ")
}

// photoName is a photo in a list of changes: the beginning of its digest.
func photoName(photo string) string { return photo[:min(8, len(photo))] }

// Guard says how much a plan may do without being confirmed.
type Guard struct {
	Gone  int `json:"gone"`  // per cent of the source's people who are gone
	Blank int `json:"blank"` // per cent of the people with a value in a field in whom it turns blank
}

// DefaultGuard is the guard where none was set.
var DefaultGuard = Guard{Gone: 10, Blank: 20}

// fewest is how many people are always let through: of a small directory one is a large share.
const fewest = 2

// Holds says why a plan is held; nothing for one that may be applied. people are those of the source before, gone of
// them those who are gone; blank counts by field in how many a value turns blank, and filled how many had one.
func (g Guard) Holds(people, gone int, blank, filled map[string]int) []string {
	var why []string
	if gone > fewest && gone*100 > people*g.Gone {
		why = append(why, fmt.Sprintf("%d of %d people are gone: %s, more than %d per cent", gone, people, share(gone, people), g.Gone))
	}
	for _, field := range slices.Sorted(maps.Keys(blank)) {
		if n := blank[field]; n > fewest && n*100 > filled[field]*g.Blank {
			why = append(why, fmt.Sprintf("%s turns blank for %d of the %d people who have it: %s, more than %d per cent",
				field, n, filled[field], share(n, filled[field]), g.Blank))
		}
	}
	return why
}

// share is a part of a whole in per cent.
func share(part, whole int) string {
	if whole == 0 {
		return "100 per cent"
	}
	return fmt.Sprintf("%.0f per cent", float64(part)*100/float64(whole))
}

// Ranked is a record of a person with the name of its source.
type Ranked struct {
	Source string
	Record Record
}

// Value is a field's value and the source that it is from.
type Value struct {
	Field  string `json:"field"`
	Value  string `json:"value"`
	Source string `json:"source"`
}

// Merge gives the values that count of a person's records, which are in the order of their sources: of each field the
// first that is not blank. first names, by field, the sources that come before all others for it.
func Merge(records []Ranked, first map[string][]string) (values map[string]Value, groups []string) {
	values = map[string]Value{}
	for _, r := range records {
		for field, value := range r.Record.Values {
			if have, there := values[field]; !there || before(first[field], r.Source, have.Source) {
				values[field] = Value{Field: field, Value: value, Source: r.Source}
			}
		}
		groups = append(groups, r.Record.Groups...)
	}
	slices.Sort(groups)
	return values, slices.Compact(groups)
}

// before reports whether a source stands before another in a list; those that are not listed stand behind.
func before(list []string, a, b string) bool {
	at, other := slices.Index(list, a), slices.Index(list, b)
	return at >= 0 && (other < 0 || at < other)
}
