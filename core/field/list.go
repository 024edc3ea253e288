package field

import (
	"regexp"
	"strings"

	"missivum/core/markup"
	"missivum/core/person"
)

// EntryPart is what an expression shows of an entry of a list field, in an element with data-each.
type EntryPart uint8

// The parts. An entry is a text, or as in a labeledURI (RFC 2079) an address, white space and a label.
const (
	entryNone    EntryPart = iota
	entryWhole             // {{ entry }}
	entryAddress           // {{ entry.address }}: up to the first white space
	entryLabel             // {{ entry.label }}: what stands behind it, or the address where nothing does
)

var entryParts = map[string]EntryPart{"entry": entryWhole, "entry.address": entryAddress, "entry.label": entryLabel}

// EntryNames lists the names that an element with data-each knows.
func EntryNames() []string { return []string{"entry", "entry.address", "entry.label"} }

// of takes the part out of an entry.
func (part EntryPart) of(entry string) string {
	address, label, _ := strings.Cut(entry, " ")
	switch {
	case part == entryWhole:
		return entry
	case part == entryLabel && label != "":
		return label
	}
	return address
}

// List is where the entries of a data-each come from: a field, or a constant.
type List struct {
	Column   int // -1 for a field that the directory lacks, and for a constant
	Field    string
	Constant string
	Span     markup.Span // of the attribute
}

// between parts the entries of a list.
var between = regexp.MustCompile(`\n|;(?:\s|$)`)

// entries cuts a list field's value: entries are parted by line ends, or by a semicolon with white space
// behind it. Blank ones are left out.
func entries(value string) []string {
	var entries []string
	for _, entry := range between.Split(value, -1) {
		if !person.IsBlank(entry) {
			entries = append(entries, person.Clean(entry))
		}
	}
	return entries
}

// entries are the list's for one person.
func (l *List) entries(p *person.Person) []string {
	if l.Constant != "" {
		return entries(l.Constant)
	}
	return entries(p.At(l.Column))
}

// loop is where a filler stands in a repeated element.
type loop struct {
	entries []string
	at      int
}

// entry is the entry of the list that is being written.
func (l *loop) entry() string { return l.entries[l.at] }
