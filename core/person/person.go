// Package person holds the people of a directory: their fields by the names of LDAP (RFC 4519,
// RFC 2798), the reader for CSV files, and what to know of a directory before filling a template
// from it. Start with Directory and ReadCSV.
package person

import (
	"errors"
	"fmt"
	"slices"
	"sort"
	"strings"

	"missivum/core/problem"

	"github.com/hbollon/go-edlib"
)

// Schema is the list of fields that a directory's people have, in the order of their values.
type Schema struct {
	names    []string
	index    map[string]int  // by lower-case name
	declared map[string]bool // lower-case names that are known though no value is held
	constant map[string]string
	texts    map[string]Texts
	fallback []string // languages of texts for those whose own has none, the first before the next
}

// Texts are one text in several languages (BCP 47).
type Texts map[string]string

// In returns the text in the first of the languages that it has, each with its region or without.
func (t Texts) In(languages ...string) string {
	for _, language := range languages {
		base, _, _ := strings.Cut(language, "-")
		for _, tag := range []string{language, base} {
			for have, text := range t {
				if tag != "" && strings.EqualFold(have, tag) {
					return text
				}
			}
		}
	}
	return ""
}

// WithConstants returns the schema with the organisation's constants (names after "org.") and texts by
// language (names after "text."), and the languages that stand in for a person's own, in their order.
func (s *Schema) WithConstants(constants map[string]string, texts map[string]Texts, fallback ...string) *Schema {
	wider := *s
	wider.constant, wider.texts, wider.fallback = constants, texts, fallback
	return &wider
}

// Languages are those that stand in for a person's own, the first before the next.
func (s *Schema) Languages() []string { return s.fallback }

// Constant returns the value of a constant, by its name with "org." before it.
func (s *Schema) Constant(name string) (string, bool) {
	value, ok := s.constant[strings.TrimPrefix(name, "org.")]
	return value, ok && strings.HasPrefix(name, "org.")
}

// Texts returns a text by its name with "text." before it.
func (s *Schema) Texts(name string) (Texts, bool) {
	texts, ok := s.texts[strings.TrimPrefix(name, "text.")]
	return texts, ok && strings.HasPrefix(name, "text.")
}

// Declaring returns the schema with more names that are known: fields that a directory may have. Those
// that it lacks are blank for everybody.
func (s *Schema) Declaring(names ...string) *Schema {
	if len(names) == 0 {
		return s
	}
	wider := *s
	wider.declared = map[string]bool{}
	for name := range s.declared {
		wider.declared[name] = true
	}
	for _, name := range names {
		wider.declared[strings.ToLower(name)] = true
	}
	return &wider
}

// NewSchema makes a schema of the given fields; standard aliases become their short names, and a
// name that stands twice counts once.
func NewSchema(names ...string) *Schema {
	s := &Schema{index: map[string]int{}}
	for _, name := range names {
		s.add(name)
	}
	return s
}

// add takes a field into the schema.
func (s *Schema) add(name string) int {
	name, _ = Canonical(name)
	key := strings.ToLower(name)
	if i, ok := s.index[key]; ok {
		return i
	}
	s.index[key] = len(s.names)
	s.names = append(s.names, name)
	return len(s.names) - 1
}

// Names lists the fields.
func (s *Schema) Names() []string { return append([]string(nil), s.names...) }

// Len is the number of fields.
func (s *Schema) Len() int { return len(s.names) }

// Column says where in Person.Values a field stands. A standard field that the directory lacks
// has column -1 and is known all the same: it is blank for everybody.
func (s *Schema) Column(name string) (column int, canonical string, known bool) {
	canonical, standard := Canonical(name)
	if i, ok := s.index[strings.ToLower(canonical)]; ok {
		return i, s.names[i], true
	}
	return -1, canonical, standard || s.declared[strings.ToLower(canonical)]
}

// Nearest lists up to three known field names that are spelt most like name.
func (s *Schema) Nearest(name string) []string {
	candidates := append([]string(nil), s.names...)
	for name := range s.declared {
		candidates = append(candidates, name)
	}
	for name := range s.constant {
		candidates = append(candidates, "org."+name)
	}
	for name := range s.texts {
		candidates = append(candidates, "text."+name)
	}
	for _, a := range Attributes {
		candidates = append(candidates, a.Name)
		if a.Alias != "" {
			candidates = append(candidates, a.Alias)
		}
	}
	return Nearest(name, candidates)
}

// Nearest lists up to three of the candidates that are spelt most like name, nearest first.
func Nearest(name string, candidates []string) []string {
	type scored struct {
		name  string
		score int
	}
	var list []scored
	seen := map[string]bool{}
	low := strings.ToLower(name)
	for _, c := range candidates {
		if seen[c] {
			continue
		}
		seen[c] = true
		d := edlib.OSADamerauLevenshteinDistance(low, strings.ToLower(c)) // swapped neighbours count one
		if d <= max(1, len(name)/3) || len(name) > 3 && strings.Contains(strings.ToLower(c), low) {
			list = append(list, scored{c, d})
		}
	}
	sort.SliceStable(list, func(i, j int) bool { return list[i].score < list[j].score })
	var names []string
	for _, l := range list[:min(3, len(list))] {
		names = append(names, l.name)
	}
	return names
}

// Person is one entry of a directory. Values stand in the order of the schema.
type Person struct {
	Values []string
	Groups []string // names or DNs (RFC 4514) of the groups that the person is in, sorted
	Names  bool     // the values are the fields' names: nobody, to look at a template with
}

// At returns the value in a column; a column of -1 is blank.
func (p *Person) At(column int) string {
	if column < 0 || column >= len(p.Values) {
		return ""
	}
	return p.Values[column]
}

// Directory is a set of people with one schema.
type Directory struct {
	Schema *Schema
	People []Person
}

// Get returns a person's field by name; an unknown one is blank.
func (d *Directory) Get(p *Person, field string) string {
	column, _, _ := d.Schema.Column(field)
	return p.At(column)
}

// Find returns the person with that mail address, compared without letter case, or nil.
func (d *Directory) Find(mail string) *Person {
	if i := d.Index(mail); i >= 0 {
		return &d.People[i]
	}
	return nil
}

// Index is the place of the person with that mail address in People, compared without letter case, or -1.
func (d *Directory) Index(mail string) int {
	column, _, _ := d.Schema.Column("mail")
	return slices.IndexFunc(d.People, func(p Person) bool { return strings.EqualFold(p.At(column), mail) })
}

// Named is Index for an address that somebody typed: the error names those that are near to it.
func (d *Directory) Named(mail string) (_ int, err error) {
	defer func() { err = problem.As(problem.Invalid, err) }()
	if i := d.Index(mail); i >= 0 {
		return i, nil
	}
	var mails []string
	for i := range d.People {
		mails = append(mails, d.Get(&d.People[i], "mail"))
	}
	message := fmt.Sprintf("there is nobody with the mail address %q among the %d people", mail, len(mails))
	if near := Nearest(mail, mails); len(near) > 0 {
		message += "; there is " + strings.Join(near, ", ")
	}
	return -1, errors.New(message)
}

// Blank counts for how many people a field is blank, and names the first few by mail address.
func (d *Directory) Blank(column int, names int) (count int, examples []string) {
	mail, _, _ := d.Schema.Column("mail")
	for i := range d.People {
		if IsBlank(d.People[i].At(column)) {
			count++
			if len(examples) < names {
				examples = append(examples, d.People[i].At(mail))
			}
		}
	}
	return count, examples
}

// IsBlank reports whether a value shows nothing: empty, white space or invisible signs only.
func IsBlank(value string) bool { return value == "" || strings.TrimSpace(Clean(value)) == "" }

// Clean makes a value fit for one line of text: control characters, line ends and runs of white
// space become one space; signs that turn the direction of what follows (U+202A to U+202E, U+2066 to
// U+2069) and other invisible ones are left out; broken UTF-8 is replaced. Letters of every script
// stay as they are.
func Clean(value string) string {
	if clean(value) {
		return value
	}
	var b strings.Builder
	b.Grow(len(value))
	pending := false
	for _, r := range strings.ToValidUTF8(value, "\uFFFD") {
		switch {
		case r <= ' ' || r >= 0x7f && r <= 0xa0 && r != 0xa0 || r == 0x2028 || r == 0x2029:
			pending = b.Len() > 0
			continue
		case r >= 0x202a && r <= 0x202e, r >= 0x2066 && r <= 0x2069, r == 0xfeff, r == 0x200b, r == 0x2060,
			r == 0xfffe, r == 0xffff:
			continue
		}
		if pending {
			b.WriteByte(' ')
			pending = false
		}
		b.WriteRune(r)
	}
	return b.String()
}

// clean is the quick test for values that need nothing: printable ASCII without runs of spaces.
func clean(s string) bool {
	space := true
	for i := 0; i < len(s); i++ {
		c := s[i]
		if c < ' ' || c >= 0x7f || c == ' ' && space {
			return false
		}
		space = c == ' '
	}
	return !space || s == ""
}
