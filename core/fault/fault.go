// Package fault finds what is wrong in a directory: values that would go out in a signature and should not. Each fault has
// the person, the field, the value, what is wrong, and what it probably should be, ready to be sent to whoever maintains
// the directory. Nothing is guessed where a guess could be wrong: there is then no suggestion. Start with Find.
package fault

import (
	"context"
	"encoding/csv"
	"fmt"
	"io"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"missivum/core/person"
)

// Fault is one thing that is wrong with one person's value.
type Fault struct {
	Kind       string `json:"kind"`
	Mail       string `json:"mail"`
	Name       string `json:"name"`
	Field      string `json:"field"`
	Value      string `json:"value"`
	Says       string `json:"says"`       // what is wrong
	Suggestion string `json:"suggestion"` // what it probably should be; blank where nobody can know but the person
	Shown      string `json:"shown"`      // how it goes out as it is; blank where it is shown as written
}

// Kind is a kind of fault.
type Kind struct {
	ID    string `json:"id"`
	Title string `json:"title"`
	Why   string `json:"why"`
	Count int    `json:"count"`
}

// Kinds lists the kinds of faults in the order in which they are reported.
func Kinds() []Kind {
	return []Kind{
		{ID: "blank", Title: "Required field is blank", Why: "The signature shows a gap, or leaves out what everybody should have."},
		{ID: "number", Title: "Not certainly one telephone number", Why: "It is shown as written and cannot be pressed to dial."},
		{ID: "address", Title: "Not an address", Why: "A link or a reply goes nowhere."},
		{ID: "country", Title: "Country is not two letters", Why: "Telephone numbers cannot be read without the country's code (ISO 3166)."},
		{ID: "code", Title: "Code that the lookup does not know", Why: "What the lookup should give stays blank."},
		{ID: "postcode", Title: "Not a post code of the country", Why: "Post goes astray; often a spreadsheet dropped a zero in front."},
		{ID: "placeholder", Title: "Placeholder instead of a value", Why: "It is shown to everybody who gets a mail."},
		{ID: "garbled", Title: "Read in the wrong character set", Why: "Letters with accents are shown as pairs of other signs."},
		{ID: "markup", Title: "Markup in a value", Why: "The signs of markup are shown as they stand."},
		{ID: "letters", Title: "Letters of several scripts in one word",
			Why: "They look alike and are not: searching fails, and filters take it for fraud."},
		{ID: "capitals", Title: "All in capitals, or all in small letters", Why: "A name is written as people write it."},
		{ID: "spaces", Title: "Stray spaces", Why: "They come from copying; comparing and sorting fail."},
		{ID: "twice", Title: "The same value twice", Why: "Two people cannot both have it."},
		{ID: "long", Title: "Longer than a line of the signature", Why: "The line breaks, and the signature grows out of its columns."},
		{ID: "language", Title: "Language is not a code", Why: "The texts of the organisation are then shown in its first language."},
	}
}

// Options say what a directory is held against.
type Options struct {
	Country string // for people without one, two letters
	Needs   []Need // required fields
	Longest []Line // how many characters a line holds, for some people; where none says it, the usual
	// Unknown gives, by field, the codes of a person that no lookup knows; nil for none.
	Unknown  func(p *person.Person) map[string]string
	Progress func(done int) // called on several goroutines
}

// Need is a field that some people must have.
type Need struct {
	Field string
	Who   string                      // what asks for it, such as "the template crew"
	Of    func(p *person.Person) bool // whose it is; nil for everybody
}

// Line is how many characters a line of a signature holds for a field.
type Line struct {
	Field string
	Most  int
	Who   string                      // what says so, such as "the template crew"
	Of    func(p *person.Person) bool // whose it is
}

// usualLongest is how many characters a line of a signature usually holds: 400 pixels at 13 to 15 pixels.
var usualLongest = map[string]int{"cn": 44, "displayName": 44, "title": 56, "ou": 56, "o": 56, "street": 56}

// finder looks through one directory.
type finder struct {
	Options
	d      *person.Directory
	checks []columnCheck
	column map[string]int
	faults []Fault
	who    *person.Person
	twice  []map[string]int // by column, how many have a value
}

// columnCheck is what is asked of the values of a column.
type columnCheck struct {
	column int
	field  string
	find   []func(f *finder, field, value string)
}

// Find lists the faults of a directory, person by person in its order. It ends with the context's error when it is
// stopped.
func Find(ctx context.Context, d *person.Directory, o Options) ([]Fault, error) {
	f := &finder{Options: o, d: d, column: map[string]int{}}
	for column, field := range d.Schema.Names() {
		f.column[field] = column
		f.checks = append(f.checks, columnCheck{column, field, checksOf(field)})
	}
	f.countTwice()
	parts := make([][]Fault, runtime.GOMAXPROCS(0)) // people are looked through on all processors, each a part of them
	var done atomic.Int64
	var group sync.WaitGroup
	for n := range parts {
		group.Go(func() {
			own := *f
			for i := len(d.People) * n / len(parts); i < len(d.People)*(n+1)/len(parts); i++ {
				if ctx.Err() != nil {
					return
				}
				if now := done.Add(1); o.Progress != nil && now%500 == 1 {
					o.Progress(int(now))
				}
				own.person(&d.People[i])
			}
			parts[n] = own.faults
		})
	}
	group.Wait()
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	return append([]Fault{}, slices.Concat(parts...)...), nil
}

// person looks through one person's values.
func (f *finder) person(p *person.Person) {
	f.who = p
	for _, need := range f.Needs {
		column, _, _ := f.d.Schema.Column(need.Field)
		if person.IsBlank(p.At(column)) && (need.Of == nil || need.Of(p)) {
			f.add("blank", need.Field, "", need.Who+" needs it", "", "")
		}
	}
	for _, c := range f.checks {
		value := p.At(c.column)
		if value == "" {
			continue
		}
		before := len(f.faults)
		for _, find := range c.find {
			find(f, c.field, value)
			if len(f.faults) > before { // one thing at a time: what is no value at all is not also too long
				break
			}
		}
	}
	if f.Unknown == nil {
		return
	}
	unknown := f.Unknown(p)
	for _, c := range f.checks {
		if code, ok := unknown[c.field]; ok {
			f.add("code", c.field, code, "is in no lookup", "", "")
		}
	}
}

// value is a person's value of a field.
func (f *finder) value(field string) string {
	column, ok := f.column[field]
	if !ok {
		return ""
	}
	return f.who.At(column)
}

// add reports a fault of the person who is looked at.
func (f *finder) add(kind, field, value, says, suggestion, shown string) {
	name := f.value("cn")
	if name == "" {
		name = strings.TrimSpace(f.value("givenName") + " " + f.value("sn"))
	}
	f.faults = append(f.faults, Fault{Kind: kind, Mail: f.value("mail"), Name: name, Field: field, Value: value, Says: says,
		Suggestion: suggestion, Shown: shown})
}

// country is the country in which a person's numbers are read.
func (f *finder) country() string {
	if code := f.value("c"); len(code) == 2 {
		return code
	}
	return f.Country
}

// alone are fields that two people cannot both have, and how many may share a number before it is that of a switchboard.
var alone = map[string]int{"mail": 1 << 30, "uid": 1 << 30, "employeeNumber": 1 << 30, "mobile": 1 << 30, "telephoneNumber": 4}

// countTwice counts the values that only one person can have.
func (f *finder) countTwice() {
	f.twice = make([]map[string]int, f.d.Schema.Len())
	for column, field := range f.d.Schema.Names() {
		if alone[field] == 0 {
			continue
		}
		counts := map[string]int{}
		for i := range f.d.People {
			if key := sameKey(field, f.d.People[i].At(column)); key != "" {
				counts[key]++
			}
		}
		f.twice[column] = counts
	}
}

// sameKey makes values comparable: numbers by their digits.
func sameKey(field, value string) string {
	if !isNumber(field) {
		return strings.ToLower(strings.TrimSpace(value))
	}
	digits := strings.Map(func(r rune) rune {
		if r >= '0' && r <= '9' {
			return r
		}
		return -1
	}, value)
	if len(digits) < 6 {
		return ""
	}
	return digits
}

// twiceFault reports a value that somebody else has too.
func twiceFault(f *finder, field, value string) {
	n := f.twice[f.column[field]][sameKey(field, value)]
	if n > 1 && n <= alone[field] {
		f.add("twice", field, value, fmt.Sprintf("%d people have it", n), "", "")
	}
}

// Count counts faults by kind, in the order of Kinds; kinds without any are left out.
func Count(faults []Fault) []Kind {
	counts := map[string]int{}
	for _, f := range faults {
		counts[f.Kind]++
	}
	var list []Kind
	for _, k := range Kinds() {
		if k.Count = counts[k.ID]; k.Count > 0 {
			list = append(list, k)
		}
	}
	return list
}

// Only gives the faults of a kind, of a field, and with a text in them; blank for all.
func Only(faults []Fault, kind, field, search string) []Fault {
	search = strings.ToLower(strings.TrimSpace(search))
	return slices.DeleteFunc(slices.Clone(faults), func(f Fault) bool {
		text := strings.ToLower(f.Mail + "\n" + f.Name + "\n" + f.Value)
		return kind != "" && f.Kind != kind || field != "" && f.Field != field || search != "" && !strings.Contains(text, search)
	})
}

// WriteCSV writes faults as CSV (RFC 4180), to be sent to whoever maintains the directory.
func WriteCSV(w io.Writer, faults []Fault) error {
	out := csv.NewWriter(w)
	if err := out.Write([]string{"mail", "name", "field", "value", "kind", "what is wrong", "suggestion", "shown as"}); err != nil {
		return err
	}
	for _, f := range faults {
		if err := out.Write([]string{f.Mail, f.Name, f.Field, f.Value, f.Kind, f.Says, f.Suggestion, f.Shown}); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}
