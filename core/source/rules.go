package source

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"missivum/core/field"
	"missivum/core/markup"
	"missivum/core/person"
	"missivum/core/problem"
)

// rules are a mapping's lookups and made fields, compiled for the fields of a source.
type rules struct {
	schema  *person.Schema
	lookups []lookup
	made    []made
	buffer  []byte
	notes   []Column
}

// lookup is a Lookup with the places of its fields.
type lookup struct {
	by    int
	table map[string][]given
}

// given is a value that a code gives.
type given struct {
	column int
	value  string
}

// made is a Rule with its program.
type made struct {
	column  int
	program *field.Program
	filler  *field.Filler
	needs   []int // columns of the fields that it shows; blank when all are, unless it has a text of its own
}

// compile makes rules for the fields that a source has. known are fields that may be named though the source has them
// not.
func (m *Mapping) compile(fields, known []string) (*rules, error) {
	names := slices.Clone(fields)
	for _, l := range m.Lookups {
		for _, code := range slices.Sorted(maps.Keys(l.Table)) {
			names = append(names, slices.Sorted(maps.Keys(l.Table[code]))...)
		}
	}
	for _, rule := range m.Fields {
		names = append(names, rule.Field)
	}
	r := &rules{schema: person.NewSchema(names...)}
	for _, l := range m.Lookups {
		if err := r.addLookup(l, fields); err != nil {
			return nil, err
		}
	}
	have := r.schema.Declaring(known...)
	for _, rule := range m.Fields {
		if err := r.addRule(rule, have); err != nil {
			return nil, err
		}
	}
	return r, nil
}

// addLookup compiles a lookup.
func (r *rules) addLookup(l Lookup, fields []string) error {
	by, _, _ := r.schema.Column(l.By)
	if by < 0 {
		message := fmt.Sprintf("a lookup is by %s, and no column is that field", l.By)
		if near := person.Nearest(l.By, fields); len(near) > 0 {
			message += "; there is " + strings.Join(near, ", ")
		}
		return problem.New(problem.Refused, "%s", message)
	}
	compiled := lookup{by: by, table: map[string][]given{}}
	for code, values := range l.Table {
		for _, name := range slices.Sorted(maps.Keys(values)) {
			column, _, _ := r.schema.Column(name)
			compiled.table[foldCode(code)] = append(compiled.table[foldCode(code)], given{column, values[name]})
		}
	}
	r.lookups = append(r.lookups, compiled)
	return nil
}

// addRule compiles a rule.
func (r *rules) addRule(rule Rule, have *person.Schema) error {
	source := &field.Source{Doc: markup.PlainText(rule.Text), Schema: have}
	pieces, errs := source.LinePieces(rule.Text, 0)
	if len(errs) > 0 {
		message := errs[0].Message
		if near := errs[0].Nearest; len(near) > 0 {
			message += " Did you mean " + strings.Join(near, " or ") + "?"
		}
		return problem.New(problem.Refused, "the field %s is made of %q: %s", rule.Field, rule.Text, message)
	}
	table := field.NewTable(r.schema, "")
	b := field.NewBuilder(table)
	column, _, _ := r.schema.Column(rule.Field)
	m := made{column: column, filler: nil}
	standing := false
	for _, piece := range pieces {
		if piece.Expr == nil {
			b.Literal(piece.Text)
			continue
		}
		b.Value(*piece.Expr, field.EscapeNone)
		if text, ok := piece.Expr.StandBy(); ok && text != "" {
			standing = true
		}
		for _, c := range piece.Expr.Fields {
			m.needs = append(m.needs, c.Index)
		}
	}
	if standing {
		m.needs = nil
	}
	m.program = b.Program()
	m.filler = field.NewFiller(table)
	r.made = append(r.made, m)
	r.notes = append(r.notes, Column{Field: rule.Field, Note: "made of " + rule.Text})
	return nil
}

// foldCode makes codes comparable: in small letters, without white space around them.
func foldCode(code string) string { return strings.ToLower(strings.TrimSpace(code)) }

// gives reports whether a field is given by a lookup or made by a rule.
func (r *rules) gives(column int) bool {
	for _, l := range r.lookups {
		for _, code := range l.table {
			if slices.ContainsFunc(code, func(g given) bool { return g.column == column }) {
				return true
			}
		}
	}
	return slices.ContainsFunc(r.made, func(m made) bool { return m.column == column })
}

// columns are the fields that are made, for who looks at what a source's columns are.
func (r *rules) columns() []Column { return r.notes }

// apply fills what lookups give and rules make. What comes out blank leaves what was there.
func (r *rules) apply(p *person.Person) {
	for _, l := range r.lookups {
		for _, g := range l.table[foldCode(p.Values[l.by])] {
			p.Values[g.column] = g.value
		}
	}
	for _, m := range r.made {
		if len(m.needs) > 0 && !slices.ContainsFunc(m.needs, func(c int) bool { return !person.IsBlank(p.At(c)) }) {
			continue
		}
		m.filler.Set(p)
		r.buffer = m.program.Append(r.buffer[:0], m.filler)
		if value := person.Clean(string(r.buffer)); value != "" {
			p.Values[m.column] = value
		}
	}
}

// Unknown gives a function that lists, by the field that holds it, the codes of a person that no lookup knows; nil for a
// mapping without lookups.
func (m Mapping) Unknown() func(get func(field string) string) map[string]string {
	if len(m.Lookups) == 0 {
		return nil
	}
	known := make([]map[string]bool, len(m.Lookups))
	for i, l := range m.Lookups {
		known[i] = map[string]bool{}
		for code := range l.Table {
			known[i][foldCode(code)] = true
		}
	}
	return func(get func(field string) string) (codes map[string]string) {
		for i, l := range m.Lookups {
			code := get(l.By)
			if foldCode(code) == "" || known[i][foldCode(code)] {
				continue
			}
			if codes == nil {
				codes = map[string]string{}
			}
			codes[l.By] = code
		}
		return codes
	}
}
