package field

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	"missivum/core/markup"
	"missivum/core/person"
)

// The attributes of the language. None of them is left in what goes out.
const (
	AttrNeeds   = "data-needs"
	AttrUnless  = "data-unless"
	AttrIn      = "data-in"
	AttrJoin    = "data-join"
	AttrSlot    = "data-slot"
	AttrPicture = "data-picture"
)

var ownAttributes = []string{AttrNeeds, AttrUnless, AttrIn, AttrJoin, AttrSlot, AttrPicture}

// Own reports whether an attribute belongs to the template language.
func Own(name string) bool { return slices.Contains(ownAttributes, name) }

// Source is a template's document with what is needed to understand its language.
type Source struct {
	Doc      *markup.Document
	Schema   *person.Schema
	Variants []string // those a data-in may name
}

// Piece is a stretch of text or one field.
type Piece struct {
	Text string // raw, references not decoded
	Expr *Expr  // nil for text
}

// Validate finds all mistakes in fields and attributes of the language, in the order of the source.
func (s *Source) Validate() Errors {
	var errs Errors
	s.Doc.Root.Walk(func(n *markup.Node) bool {
		switch n.Kind {
		case markup.Text:
			if n.Parent.Is("style", "script") {
				for _, seg := range scan(n.Data) {
					if seg.field {
						errs = append(errs, s.problem(n.Open.Start+seg.offset, len(seg.text), "A field cannot stand in a <"+n.Parent.Name+"> element; put it into a style attribute or the text."))
					}
				}
				break
			}
			_, found := s.TextPieces(n)
			errs = append(errs, found...)
		case markup.Element:
			errs = append(errs, s.validateElement(n)...)
		}
		return true
	})
	sort.SliceStable(errs, func(i, j int) bool { return errs[i].Offset < errs[j].Offset })
	return errs
}

func (s *Source) validateElement(n *markup.Node) Errors {
	var errs Errors
	if HasField(n.Name) {
		errs = append(errs, s.problem(n.Open.Start, n.Open.Len(), "A field cannot be the name of an element."))
	}
	for _, a := range n.Attrs {
		switch {
		case HasField(a.Name):
			errs = append(errs, s.problem(a.Span.Start, a.Span.Len(), "A field cannot stand among the attributes; put it between the quotes of a value."))
		case HasField(a.Value) && forbidden(a.Name):
			errs = append(errs, s.problem(a.Span.Start, a.Span.Len(), "A field cannot stand in "+a.Name+": a directory value would run as a program."))
		case Own(a.Name):
			// read below
		case strings.HasPrefix(a.Name, "data-"):
			if near := person.Nearest(a.Name, ownAttributes); len(near) > 0 {
				e := s.problem(a.Span.Start, a.Span.Len(), fmt.Sprintf("%s is not an attribute of the template language.", a.Name))
				e.Nearest = near
				errs = append(errs, e)
			}
		default:
			_, found := s.AttrPieces(a)
			errs = append(errs, found...)
		}
	}
	_, found := s.Conditions(n)
	errs = append(errs, found...)
	if _, err := s.variantsOf(n); err != nil {
		errs = append(errs, *err)
	}
	return errs
}

// forbidden attributes run what stands in them.
func forbidden(name string) bool { return strings.HasPrefix(name, "on") || name == "srcdoc" }

func (s *Source) problem(offset, length int, message string) Error {
	return Error{Place: s.Doc.Place(offset), End: offset + length, Message: message}
}

// TextPieces cuts a text node at its fields.
func (s *Source) TextPieces(n *markup.Node) ([]Piece, Errors) {
	raw := s.Doc.Raw(n)
	if n.Changed() {
		raw = markup.EscapeText(n.Data)
	}
	return s.pieces(raw, n.Open.Start, !n.Changed())
}

// AttrPieces cuts an attribute's value, as it stands between double quotes, at its fields.
func (s *Source) AttrPieces(a markup.Attr) ([]Piece, Errors) {
	raw := s.Doc.RawValue(a)
	return s.pieces(raw, a.Inner.Start, !a.Changed() && len(raw) == a.Inner.Len())
}

// pieces parses raw. When exact, byte offsets in raw are offsets in the source; otherwise all
// places are the start.
func (s *Source) pieces(raw string, base int, exact bool) ([]Piece, Errors) {
	if !HasField(raw) {
		if raw == "" {
			return nil, nil
		}
		return []Piece{{Text: raw}}, nil
	}
	var list []Piece
	var errs Errors
	at := func(offset int) int {
		if exact {
			return base + offset
		}
		return base
	}
	for _, seg := range scan(raw) {
		switch {
		case seg.broken:
			errs = append(errs, s.problem(at(seg.offset), 2, "These braces open a field and are never closed."))
		case !seg.field:
			list = append(list, Piece{Text: seg.text})
		default:
			e, problems := parseExpr(markup.Unescape(seg.text), s.Schema)
			for _, p := range problems {
				err := s.problem(at(seg.offset+min(p.offset, len(seg.text))), 0, p.message)
				err.Nearest = p.nearest
				err.End = at(seg.offset + len(seg.text))
				errs = append(errs, err)
			}
			e.Span = markup.Span{Start: at(seg.offset - 2), End: at(seg.offset + len(seg.text) + 2)}
			list = append(list, Piece{Expr: &e})
		}
	}
	return list, errs
}

// Conditions reads data-needs and data-unless of an element.
func (s *Source) Conditions(n *markup.Node) ([]Condition, Errors) {
	var list []Condition
	var errs Errors
	for _, name := range []string{AttrNeeds, AttrUnless} {
		a := n.Attribute(name)
		if a == nil {
			continue
		}
		c := Condition{Unless: name == AttrUnless, Span: a.Span}
		words := strings.FieldsFunc(a.Value, func(r rune) bool { return r == ' ' || r == ',' || r == '\n' || r == '\t' })
		hasAnd := false
		for _, word := range words {
			switch word {
			case "or":
				c.Any = true
				continue
			case "and":
				hasAnd = true
				continue
			}
			column, canonical, known := s.Schema.Column(word)
			if !known {
				e := s.problem(a.Inner.Start+max(strings.Index(a.Value, word), 0), len(word), fmt.Sprintf("There is no field %q in the directory.", word))
				e.Nearest = s.Schema.Nearest(word)
				errs = append(errs, e)
			}
			c.Fields = append(c.Fields, canonical)
			c.Columns = append(c.Columns, column)
		}
		if len(c.Fields) == 0 {
			errs = append(errs, s.problem(a.Span.Start, a.Span.Len(), name+" names no field."))
		}
		if c.Any && hasAnd {
			errs = append(errs, s.problem(a.Span.Start, a.Span.Len(), name+" mixes \"and\" with \"or\"; put one of them on an element around this one."))
		}
		list = append(list, c)
	}
	return list, errs
}

func (s *Source) variantsOf(n *markup.Node) ([]string, *Error) {
	a := n.Attribute(AttrIn)
	if a == nil {
		return nil, nil
	}
	words := strings.FieldsFunc(a.Value, func(r rune) bool { return r == ' ' || r == ',' })
	for _, w := range words {
		if !slices.Contains(s.Variants, w) {
			e := s.problem(a.Inner.Start+max(strings.Index(a.Value, w), 0), len(w), fmt.Sprintf("There is no variant %q; the template has %s.", w, strings.Join(s.Variants, ", ")))
			e.Nearest = person.Nearest(w, s.Variants)
			return nil, &e
		}
	}
	if len(words) == 0 {
		e := s.problem(a.Span.Start, a.Span.Len(), "data-in names no variant.")
		return nil, &e
	}
	return words, nil
}

// In reports whether an element belongs to a variant. The empty variant has everything.
func (s *Source) In(n *markup.Node, variant string) bool {
	words, _ := s.variantsOf(n)
	return variant == "" || len(words) == 0 || slices.Contains(words, variant)
}

// FieldsOf lists the fields shown anywhere in an element, without those that have a stand-by text.
func (s *Source) FieldsOf(n *markup.Node) []*Expr {
	var list []*Expr
	for _, e := range s.Exprs(n) {
		if text, ok := e.StandBy(); len(e.Fields) > 0 && (!ok || text == "") {
			list = append(list, e)
		}
	}
	return list
}

// Exprs lists the expressions in an element, in the order of the source.
func (s *Source) Exprs(n *markup.Node) []*Expr {
	var list []*Expr
	collect := func(pieces []Piece) {
		for _, p := range pieces {
			if p.Expr != nil {
				list = append(list, p.Expr)
			}
		}
	}
	n.Walk(func(c *markup.Node) bool {
		switch c.Kind {
		case markup.Text:
			pieces, _ := s.TextPieces(c)
			collect(pieces)
		case markup.Element:
			for _, a := range c.Attrs {
				if !Own(a.Name) {
					pieces, _ := s.AttrPieces(a)
					collect(pieces)
				}
			}
		}
		return true
	})
	return list
}

// Enter begins an element in a builder: its conditions, and as a piece of a data-join the separator.
// escape makes the separator fit for the form. leave closes the element; skip means that it is not in
// the variant.
func (s *Source) Enter(b *Builder, n *markup.Node, variant string, escape func(string) string) (leave func(), skip bool) {
	if !s.In(n, variant) {
		return nil, true
	}
	conditions, _ := s.Conditions(n)
	if n.Parent != nil && n.Parent.Kind == markup.Element {
		if separator, ok := n.Parent.Attr(AttrJoin); ok {
			if c, ok := s.presence(n); ok && len(conditions) == 0 {
				conditions = append(conditions, c)
			}
			ends := needAll(b, conditions)
			b.Between(escape(separator))
			return ends, false
		}
	}
	return needAll(b, conditions), false
}

// Children visits an element's children; those of an element with data-join are pieces to be joined, and
// the white space between them is left out.
func (s *Source) Children(b *Builder, n *markup.Node, visit func(*markup.Node)) {
	joined := n.Kind == markup.Element && n.Attribute(AttrJoin) != nil
	if joined {
		b.Join()
		defer b.EndJoin()
	}
	for _, child := range n.Children {
		if !joined || child.Kind != markup.Text || strings.TrimSpace(child.Data) != "" {
			visit(child)
		}
	}
}

// presence is the condition under which a joined piece without its own shows anything.
func (s *Source) presence(n *markup.Node) (Condition, bool) {
	c := Condition{Any: true}
	for _, e := range s.FieldsOf(n) {
		for _, column := range e.Fields {
			c.Fields = append(c.Fields, column.Name)
			c.Columns = append(c.Columns, column.Index)
		}
	}
	return c, len(c.Fields) > 0
}

func needAll(b *Builder, conditions []Condition) func() {
	var ends []int
	for _, c := range conditions {
		ends = append(ends, b.Needs(c))
	}
	return func() {
		for i := len(ends) - 1; i >= 0; i-- {
			b.End(ends[i])
		}
	}
}

// CompileHTML makes the program for a variant's markup. Plain comments and the attributes of the
// language are left out; all else comes out as it stands in the document. The values' escaping is
// decided here from where they stand.
func CompileHTML(s *Source, table *Table, variant string) (*Program, error) {
	if errs := s.Validate(); len(errs) > 0 {
		return nil, errs
	}
	c := htmlCompiler{Source: s, b: NewBuilder(table), variant: variant}
	c.children(s.Doc.Root)
	return c.b.Program(), nil
}

type htmlCompiler struct {
	*Source
	b       *Builder
	variant string
}

func (c *htmlCompiler) children(n *markup.Node) { c.Children(c.b, n, c.node) }

func (c *htmlCompiler) node(n *markup.Node) {
	switch n.Kind {
	case markup.Text:
		if n.Parent.Is("style", "script") {
			c.b.Literal(c.Doc.OpenTag(n))
			return
		}
		pieces, _ := c.TextPieces(n)
		c.pieces(pieces, func(int) Escape { return EscapeText })
	case markup.Comment:
		if conditionHalf(n) {
			c.b.Literal(c.Doc.Raw(n))
		}
	case markup.Element:
		leave, skip := c.Enter(c.b, n, c.variant, markup.EscapeText)
		if skip {
			return
		}
		c.startTag(n)
		c.children(n)
		c.b.Literal(c.Doc.CloseTag(n))
		leave()
	default:
		c.b.Literal(c.Doc.OpenTag(n))
		c.children(n)
		c.b.Literal(c.Doc.CloseTag(n))
	}
}

// conditionHalf recognises the two halves of a revealed conditional comment.
func conditionHalf(n *markup.Node) bool {
	return n.Condition != "" || strings.Contains(n.Data, "[endif]")
}

func (c *htmlCompiler) startTag(n *markup.Node) {
	plain := true
	for _, a := range n.Attrs {
		if Own(a.Name) || HasField(a.Value) {
			plain = false
		}
	}
	if plain {
		c.b.Literal(c.Doc.OpenTag(n))
		return
	}
	c.b.Literal("<" + n.Name)
	for _, a := range n.Attrs {
		if Own(a.Name) {
			continue
		}
		pieces, _ := c.AttrPieces(a)
		c.b.Literal(" " + a.Name + `="`)
		c.pieces(pieces, attrEscape(a.Name, pieces))
		c.b.Literal(`"`)
	}
	c.b.Literal(">")
}

func (c *htmlCompiler) pieces(pieces []Piece, escape func(int) Escape) {
	for i, p := range pieces {
		if p.Expr == nil {
			c.b.Literal(p.Text)
		} else {
			c.b.Value(*p.Expr, escape(i))
		}
	}
}

// attrEscape decides the escaping of each value in an attribute.
func attrEscape(name string, pieces []Piece) func(int) Escape {
	switch {
	case name == "style":
		return func(int) Escape { return EscapeStyle }
	case AddressAttribute(name):
		return func(i int) Escape {
			for _, p := range pieces[:i] {
				if p.Expr != nil || strings.TrimSpace(p.Text) != "" {
					return EscapePart
				}
			}
			return EscapeAddress
		}
	}
	return func(int) Escape { return EscapeAttr }
}

// AddressAttribute reports whether an attribute holds an address.
func AddressAttribute(name string) bool {
	switch name {
	case "href", "src", "action", "background", "cite", "longdesc", "poster", "data", "formaction", "srcset", "usemap", "profile", "xlink:href":
		return true
	}
	return false
}
