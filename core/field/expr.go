// Package field is the template language: fields between double braces with modifiers, and data-
// attributes that decide which elements stay. A template is compiled once into a flat list of
// literal bytes and field operations and then filled for any number of people by appending.
// Start with CompileHTML, Program.Append and Filler.
package field

import (
	"fmt"
	"slices"
	"strings"

	"missivum/core/markup"
	"missivum/core/person"
	"missivum/core/problem"
)

// Error is one mistake in a template.
type Error struct {
	markup.Place
	File    string   `json:"file,omitempty"` // empty for the template's source
	End     int      `json:"end"`            // byte offset behind the text in question
	Message string   `json:"message"`
	Nearest []string `json:"nearest,omitempty"` // what was probably meant
}

func (e Error) Error() string {
	s := fmt.Sprintf("line %d, column %d: %s", e.Line, e.Column, e.Message)
	if e.File != "" {
		s = e.File + ", " + s
	}
	if len(e.Nearest) > 0 {
		s += " Did you mean " + strings.Join(e.Nearest, " or ") + "?"
	}
	return s
}

// Errors are all mistakes of a template in the order of the source.
type Errors []Error

func (e Errors) Error() string {
	lines := make([]string, len(e))
	for i := range e {
		lines[i] = e[i].Error()
	}
	return strings.Join(lines, "\n")
}

// Problem makes the mistakes a refusal with their places.
func (e Errors) Problem() *problem.Error {
	places := make([]problem.Place, len(e))
	for i, m := range e {
		places[i] = problem.Place{
			File: m.File, Line: m.Line, Column: m.Column, Offset: m.Offset, End: m.End, Message: m.Message, Nearest: m.Nearest,
		}
	}
	return problem.New(problem.Refused, "The template has mistakes and cannot be filled:\n%s", e.Error()).At(places...)
}

// Expr is one field with its modifiers, or a text that is the same for everybody or for everybody who
// speaks a language.
type Expr struct {
	Text      string // as written, without the braces
	Field     string // canonical name, several joined by " or "; empty for a text
	Fields    []Column
	Literal   string       // a text in quotes, or a constant
	Texts     person.Texts // a text by language
	Fallback  []string     // languages of Texts for those whose own is missing
	Part      EntryPart    // a part of a list's entry, in an element with data-each
	Modifiers []Modifier
	Dialled   bool        // stands in an address and gives a number to dial, or nothing
	Span      markup.Span // with the braces, in the source
}

// Column is one field of an expression: its canonical name and its place in the schema, -1 when the
// directory lacks it.
type Column struct {
	Name  string
	Index int
}

// Raw is the person's first value among the expression's fields that is not blank, as it stands in the
// directory.
func (e *Expr) Raw(p *person.Person) string {
	for _, c := range e.Fields {
		if value := p.At(c.Index); !person.IsBlank(value) {
			return value
		}
	}
	return ""
}

// Modifier is one step behind a bar.
type Modifier struct {
	Name     string
	Argument string
	kind     *ModifierKind
}

// StandBy reports whether a blank field is replaced, and by what.
func (e *Expr) StandBy() (string, bool) {
	for _, m := range e.Modifiers {
		if m.Name == "or" {
			return m.Argument, true
		}
	}
	return "", false
}

// segment is a piece of a raw text: literal, or the inside of a field.
type segment struct {
	text   string
	offset int // of text in the raw string
	field  bool
	broken bool // braces that open and never close
}

// scan cuts a raw text at its double braces.
func scan(raw string) []segment {
	var list []segment
	for at := 0; at < len(raw); {
		open := strings.Index(raw[at:], "{{")
		if open < 0 {
			return append(list, segment{text: raw[at:], offset: at})
		}
		open += at
		if open > at {
			list = append(list, segment{text: raw[at:open], offset: at})
		}
		inner := open + 2
		end := closing(raw[inner:])
		if end < 0 {
			return append(list, segment{text: raw[open:], offset: open, broken: true})
		}
		list = append(list, segment{text: raw[inner : inner+end], offset: inner, field: true})
		at = inner + end + 2
	}
	return list
}

// closing finds the closing braces outside quotes; quotes may be written as references.
func closing(s string) int {
	end := strings.Index(s, "}}")
	if end < 0 {
		return -1
	}
	if !strings.ContainsAny(s[:end], `"'&`) {
		return end
	}
	var quote string
	for i := 0; i < min(len(s), end+MaxExpression); i++ {
		if quote == "" {
			if strings.HasPrefix(s[i:], "}}") {
				return i
			}
			for _, q := range []string{`"`, "'", "&quot;", "&#34;", "&#39;"} {
				if strings.HasPrefix(s[i:], q) {
					quote = q
					i += len(q) - 1
					break
				}
			}
		} else if strings.HasPrefix(s[i:], quote) {
			i += len(quote) - 1
			quote = ""
		}
	}
	return end // an unmatched quote: the parser will say so
}

// HasField reports whether a raw text holds a field.
func HasField(raw string) bool { return strings.Contains(raw, "{{") }

// BeginsWithField reports whether a raw text begins with a field.
func BeginsWithField(raw string) bool { return strings.HasPrefix(raw, "{{") }

// BeforeField is what stands in a raw text before its first field.
func BeforeField(raw string) string {
	before, _, _ := strings.Cut(raw, "{{")
	return before
}

// slip is a mistake inside one expression; offset counts bytes from its start.
type slip struct {
	offset  int
	message string
	nearest func() []string // what was probably meant; nil for nothing
	fatal   bool            // what follows cannot be read
}

// parseExpr reads what stands between double braces: a field name or a quoted text, then modifiers
// behind bars.
func parseExpr(text string, schema *person.Schema) (Expr, []slip) {
	if len(text) > MaxExpression {
		return Expr{}, []slip{{0, fmt.Sprintf("This field has more than %d bytes.", MaxExpression), nil, true}}
	}
	l := lexer{src: text}
	e := Expr{Text: strings.TrimSpace(text)}
	var problems []slip
	l.space()
	at := l.pos
	switch c := l.peek(); {
	case c == 0:
		return e, []slip{{0, "There is no field between the braces.", nil, true}}
	case c == '"' || c == '\'':
		s, ok := l.quoted()
		if !ok {
			return e, []slip{{at, "The quotes of this text are not closed.", nil, true}}
		}
		e.Literal = s
	default:
		problems = l.names(&e, schema)
		if len(problems) > 0 && problems[len(problems)-1].fatal {
			return e, problems
		}
	}
	for {
		l.space()
		at := l.pos
		if l.peek() == 0 {
			return e, problems
		}
		if l.peek() != '|' {
			return e, append(problems, slip{at, fmt.Sprintf("A bar (|) must stand before %q.", firstWord(text[at:])), nil, true})
		}
		l.pos++
		l.space()
		m, p := l.modifier()
		if p == nil {
			p = misplaced(e.Modifiers, m, at+1)
		}
		if p != nil {
			return e, append(problems, *p)
		}
		e.Modifiers = append(e.Modifiers, m)
	}
}

// names reads one name, or several fields with "or" between them.
func (l *lexer) names(e *Expr, schema *person.Schema) []slip {
	var problems []slip
	var fields []string
	for {
		l.space()
		at := l.pos
		name := l.word()
		if !person.ValidName(name) {
			return append(problems, slip{at, fmt.Sprintf("%q is not a field name.", firstWord(l.src[at:])), nil, true})
		}
		value, isConstant := schema.Constant(name)
		texts, isText := schema.Texts(name)
		column, canonical, known := schema.Column(name)
		part, isEntry := entryParts[strings.ToLower(name)]
		switch {
		case isEntry:
			e.Part = part
		case isConstant:
			e.Literal = value
		case isText:
			e.Texts, e.Fallback = texts, schema.Languages()
		default:
			if !known {
				problems = append(problems, slip{at, fmt.Sprintf("There is no field %q in the directory.", name),
					func() []string { return schema.Nearest(name) }, false})
			}
			e.Fields = append(e.Fields, Column{canonical, column})
			fields = append(fields, canonical)
		}
		l.space()
		rest := l.src[l.pos:]
		if !strings.HasPrefix(rest, "or ") && !strings.HasPrefix(rest, "or\t") && !strings.HasPrefix(rest, "or\n") {
			e.Field = strings.Join(fields, " or ")
			return problems
		}
		l.pos += len("or")
	}
}

// lexer reads an expression sign by sign.
type lexer struct {
	src string
	pos int
}

// peek is the next sign; 0 at the end.
func (l *lexer) peek() byte {
	if l.pos >= len(l.src) {
		return 0
	}
	return l.src[l.pos]
}

// space skips white space.
func (l *lexer) space() {
	for l.pos < len(l.src) && strings.IndexByte(" \t\r\n", l.src[l.pos]) >= 0 {
		l.pos++
	}
}

// word reads a name.
func (l *lexer) word() string {
	start := l.pos
	for l.pos < len(l.src) && strings.IndexByte(" \t\r\n|\"'", l.src[l.pos]) < 0 {
		l.pos++
	}
	return l.src[start:l.pos]
}

// quoted reads a text between quotes.
func (l *lexer) quoted() (string, bool) {
	quote := l.src[l.pos]
	end := strings.IndexByte(l.src[l.pos+1:], quote)
	if end < 0 {
		return "", false
	}
	s := l.src[l.pos+1 : l.pos+1+end]
	l.pos += end + 2
	return s, true
}

// modifier reads what stands behind a bar: a name and, where it takes one, its argument.
func (l *lexer) modifier() (Modifier, *slip) {
	at := l.pos
	name := l.word()
	if name == "" {
		return Modifier{}, &slip{at, "A modifier is missing behind the bar.", nil, true}
	}
	kind := modifierKind(name)
	if kind == nil {
		return Modifier{}, &slip{at, fmt.Sprintf("There is no modifier %q.", name),
			func() []string { return person.Nearest(name, modifierNames()) }, true}
	}
	m := Modifier{Name: kind.Name, kind: kind}
	l.space()
	argAt := l.pos
	if c := l.peek(); c == '"' || c == '\'' {
		s, ok := l.quoted()
		if !ok {
			return m, &slip{argAt, "The quotes of this text are not closed.", nil, true}
		}
		m.Argument = s
		if kind.Argument == "" {
			return m, &slip{argAt, fmt.Sprintf("The modifier %s takes no text.", name), nil, true}
		}
	} else if kind.Argument != "" {
		return m, &slip{argAt, fmt.Sprintf("The modifier %s needs a text in quotes: %s.", name, kind.Argument), nil, true}
	}
	if kind.accepts != nil {
		if err := kind.accepts(m.Argument); err != nil {
			return m, &slip{argAt, err.Error(), nil, true}
		}
	}
	return m, nil
}

// misplaced says what is wrong with a modifier behind others, if anything: each takes and gives values of
// some type.
func misplaced(before []Modifier, m Modifier, offset int) *slip {
	given := typeText
	for _, b := range before {
		if b.kind.Gives != typeSame {
			given = b.kind.Gives
		}
	}
	switch {
	case m.kind.Takes == typeText || m.kind.Takes == given:
		return nil
	case m.kind.Takes == typeField && !slices.ContainsFunc(before, func(b Modifier) bool { return b.kind.Gives != typeSame }):
		return nil
	case m.kind.Takes == typeNumber:
		return &slip{offset, fmt.Sprintf("The modifier %s stands behind one that shows a telephone number: phone or national.",
			m.Name), nil, false}
	}
	return &slip{offset, fmt.Sprintf("The modifier %s reads the field's own value: put it before %s.", m.Name,
		before[len(before)-1].Name), nil, false}
}

// firstWord is what a message quotes.
func firstWord(s string) string {
	words := strings.Fields(s)
	if len(words) == 0 {
		return ""
	}
	return words[0]
}
