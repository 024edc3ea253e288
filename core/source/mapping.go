package source

import (
	"bytes"
	"fmt"
	"maps"
	"slices"
	"strings"

	"gopkg.in/yaml.v3"

	"missivum/core/person"
	"missivum/core/problem"
)

// MappingSuffix ends the name of a file's mapping in place of .csv: it lies beside the file and is used without being
// named.
const MappingSuffix = ".mapping.yaml"

// Limits of a mapping.
const (
	maxMapping = 4 << 20 // bytes
	maxRules   = 200     // fields that are made
	maxLookups = 50
	maxCodes   = 20_000 // codes of one lookup
)

// Mapping says which column or attribute of a source is which field, and what is made of them. The zero value takes
// columns by their names and usual titles.
type Mapping struct {
	Key     string            // field whose value identifies a person at the source; empty for what the format has
	Columns map[string]string // the field by the column's heading or the attribute's name; empty leaves it out
	Lookups []Lookup          // in their order, before the fields that are made
	Fields  []Rule            // in their order; each sees what those before it made
	Lists   []string          // fields that keep all values of an attribute, one on each line; others keep the first
}

// Lookup is a table that gives fields for a code, such as a site's address.
type Lookup struct {
	By    string                       `yaml:"by"`              // field that holds the code
	Table map[string]map[string]string `yaml:"table,omitempty"` // values by code and field
	File  string                       `yaml:"file,omitempty"`  // CSV with the same: the first column holds the codes
}

// Rule makes a field by an expression of the template language.
type Rule struct{ Field, Text string }

// mappingFile is a mapping as YAML has it.
type mappingFile struct {
	Key     string            `yaml:"key,omitempty"`
	Columns map[string]string `yaml:"columns,omitempty"`
	Lookups []Lookup          `yaml:"lookups,omitempty"`
	Fields  yaml.Node         `yaml:"fields,omitempty"` // a mapping, in its order
	Lists   []string          `yaml:"lists,omitempty"`
}

// ReadMapping reads a mapping. open gives the files that its lookups name; nil where there are none to be read. Errors
// are problems.
func ReadMapping(data []byte, open func(name string) ([]byte, error)) (m Mapping, err error) {
	if len(data) > maxMapping {
		return m, problem.New(problem.TooLarge, "the mapping is larger than %d kB", maxMapping>>10)
	}
	var f mappingFile
	d := yaml.NewDecoder(bytes.NewReader(data))
	d.KnownFields(true)
	if err := d.Decode(&f); err != nil {
		return m, problem.New(problem.Refused, "the mapping cannot be read: %s", strings.TrimPrefix(err.Error(), "yaml: "))
	}
	m = Mapping{Key: f.Key, Columns: f.Columns, Lookups: f.Lookups, Lists: f.Lists}
	if f.Fields.Kind != 0 && f.Fields.Kind != yaml.MappingNode {
		return m, problem.New(problem.Refused, "fields, line %d: write a field and what it is made of, such as cn: \"{{ givenName }} {{ sn }}\"",
			f.Fields.Line)
	}
	for i := 0; i+1 < len(f.Fields.Content); i += 2 {
		m.Fields = append(m.Fields, Rule{Field: f.Fields.Content[i].Value, Text: f.Fields.Content[i+1].Value})
	}
	for i := range m.Lookups {
		if err := m.Lookups[i].load(open); err != nil {
			return m, err
		}
	}
	return m, m.check()
}

// load reads a lookup's table from its file.
func (l *Lookup) load(open func(name string) ([]byte, error)) error {
	if l.File == "" {
		return nil
	}
	if open == nil || l.Table != nil {
		return problem.New(problem.Refused, "the lookup by %s names the file %s; its table must stand in the mapping here", l.By, l.File)
	}
	data, err := open(l.File)
	if err != nil {
		return fmt.Errorf("the table of the lookup by %s cannot be read: %w", l.By, err)
	}
	if l.Table, err = ReadLookup(data); err != nil {
		return fmt.Errorf("%s: %w", l.File, err)
	}
	l.File = ""
	return nil
}

// ReadLookup reads the table of a lookup from CSV: codes in the first column, the fields named by the header.
func ReadLookup(data []byte) (map[string]map[string]string, error) {
	text, _, err := decoded(bytes.NewReader(data))
	if err != nil {
		return nil, problem.As(problem.Refused, err)
	}
	rows, err := rowsOf(text)
	if err != nil || len(rows) < 2 || len(rows[0]) < 2 {
		return nil, problem.New(problem.Refused, "the table needs a header, codes in the first column, and fields in the others")
	}
	table := map[string]map[string]string{}
	for n, row := range rows[1:] {
		if len(row) != len(rows[0]) {
			return nil, problem.New(problem.Refused, "row %d has %d of the %d values", n+2, len(row), len(rows[0]))
		}
		code := strings.TrimSpace(row[0])
		if _, twice := table[code]; twice || code == "" {
			return nil, problem.New(problem.Refused, "row %d: the code %q is blank or stands there twice", n+2, code)
		}
		table[code] = map[string]string{}
		for c, value := range row[1:] {
			table[code][strings.TrimSpace(rows[0][c+1])] = strings.TrimSpace(value)
		}
	}
	return table, nil
}

// check refuses what cannot be carried out with any source.
func (m *Mapping) check() error {
	if len(m.Columns)+len(m.Fields)+len(m.Lookups) == 0 && m.Key == "" {
		return problem.New(problem.Refused, "the mapping has no columns; write columns: and below it a line such as Adresse: street")
	}
	if len(m.Fields) > maxRules || len(m.Lookups) > maxLookups {
		return problem.New(problem.TooLarge, "the mapping has more than %d fields that are made, or more than %d lookups", maxRules, maxLookups)
	}
	names := map[string]string{m.Key: "the key"}
	for heading, field := range m.Columns {
		names[field] = fmt.Sprintf("column %q", heading)
	}
	for _, rule := range m.Fields {
		names[rule.Field] = "fields"
	}
	for _, list := range m.Lists {
		names[list] = "lists"
	}
	for _, l := range m.Lookups {
		names[l.By] = "a lookup"
		if l.By == "" || len(l.Table) == 0 {
			return problem.New(problem.Refused, "a lookup needs by:, the field with the code, and table:, what each code gives")
		}
		if len(l.Table) > maxCodes {
			return problem.New(problem.TooLarge, "the lookup by %s has more than %d codes", l.By, maxCodes)
		}
		for _, fields := range l.Table {
			for field := range fields {
				names[field] = "the lookup by " + l.By
			}
		}
	}
	for name, where := range names {
		if name != "" && !person.ValidName(name) {
			return problem.New(problem.Refused, "the field name %q for %s is not usable; use letters, digits and hyphens", name, where)
		}
	}
	return nil
}

// WriteMapping writes a mapping with what the columns of a source were taken for, as ReadMapping reads it.
func WriteMapping(columns []Column, m Mapping) ([]byte, error) {
	var root, node yaml.Node
	root.Kind, node.Kind = yaml.MappingNode, yaml.MappingNode
	for _, c := range columns {
		if c.Heading == "" {
			continue
		}
		heading, field := &yaml.Node{}, &yaml.Node{}
		heading.SetString(c.Heading)
		field.SetString(c.Field)
		if c.Field == "" {
			field.Style = yaml.DoubleQuotedStyle
			field.LineComment = "left out"
			if c.Note != "" {
				field.LineComment += ": " + c.Note
			}
		}
		node.Content = append(node.Content, heading, field)
	}
	add := func(name string, value any) {
		var key, n yaml.Node
		key.SetString(name)
		if err := n.Encode(value); err == nil {
			root.Content = append(root.Content, &key, &n)
		}
	}
	if m.Key != "" {
		add("key", m.Key)
	}
	add("columns", &node)
	if len(m.Lookups) > 0 {
		add("lookups", m.Lookups)
	}
	if len(m.Fields) > 0 {
		var made yaml.Node
		made.Kind = yaml.MappingNode
		for _, rule := range m.Fields {
			field, text := &yaml.Node{}, &yaml.Node{}
			field.SetString(rule.Field)
			text.SetString(rule.Text)
			made.Content = append(made.Content, field, text)
		}
		add("fields", &made)
	}
	if len(m.Lists) > 0 {
		add("lists", m.Lists)
	}
	var b bytes.Buffer
	fmt.Fprintln(&b, "# Which field each column is. An empty one is left out.")
	e := yaml.NewEncoder(&b)
	e.SetIndent(2)
	if err := e.Encode(&root); err != nil {
		return nil, err
	}
	return b.Bytes(), e.Close()
}

// With gives a mapping with fields for columns over its own.
func (m Mapping) With(columns map[string]string) Mapping {
	if len(columns) == 0 {
		return m
	}
	all := maps.Clone(m.Columns)
	if all == nil {
		all = map[string]string{}
	}
	maps.Copy(all, columns)
	m.Columns = all
	return m
}

// Text is a mapping as ReadMapping reads it.
func (m Mapping) Text() (string, error) {
	var columns []Column
	for _, heading := range slices.Sorted(maps.Keys(m.Columns)) {
		columns = append(columns, Column{Heading: heading, Field: m.Columns[heading]})
	}
	text, err := WriteMapping(columns, m)
	return string(text), err
}
