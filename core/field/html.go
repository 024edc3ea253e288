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
	attrUnless  = "data-unless"
	attrIn      = "data-in"
	AttrJoin    = "data-join"
	AttrSlot    = "data-slot"
	AttrPicture = "data-picture"
	attrEach    = "data-each"
)

// attrAbsent marks a cell that nobody gets: it is kept so that the table adds up without it.
const attrAbsent = "data-absent"

// AttrSource says in markup to look at which bytes of the source an element came from: start, colon, end. It is never
// written by hand.
const AttrSource = "data-source-bytes"

// Reserved reports whether an attribute is one of the language's: none of them is there when a client sees the markup.
func Reserved(name string) bool {
	switch name {
	case AttrNeeds, attrUnless, attrIn, AttrJoin, AttrSlot, AttrPicture, attrEach, AttrSource, attrAbsent:
		return true
	}
	return false
}

// Attribute describes an attribute of the language.
type Attribute struct {
	Name    string `json:"name"`
	Doc     string `json:"doc"`
	Example string `json:"example"` // its value
}

// Attributes lists the attributes of the language in the order of the reference.
func Attributes() []Attribute { return attributes }

var attributes = []Attribute{
	{AttrNeeds, "The element stays only when the fields named have a value: all of them, or with \"or\" between them at least one.",
		"mobile or telephoneNumber"},
	{attrUnless, "The element stays only when none of the fields named has a value.", "mobile"},
	{attrIn, "The element is in these variants only.", "new internal"},
	{AttrJoin, "Its text stands between those children that are there.", " | "},
	{attrEach, "The element is repeated for each entry of a list field or of a constant.", "labeledURI"},
	{AttrSlot, "The element stays while the slot of that name in template.yaml is in force.", "banner"},
	{AttrPicture, "The img element shows the template's picture of that name.", "logo"},
}

// Own reports whether an attribute belongs to the template language.
func Own(name string) bool {
	return name == attrAbsent || slices.ContainsFunc(attributes, func(a Attribute) bool { return a.Name == name })
}

// Foreign reports a data- attribute that is not one of the language: of a generator, an editor or a page's script. It is
// left out of what goes out. The names of the language are those of Attributes, and no others.
func Foreign(name string) bool { return strings.HasPrefix(name, "data-") && !Reserved(name) }

// Meant is the attribute of the language that a foreign one is probably a misspelling of; empty for none.
func Meant(name string) string {
	for _, a := range attributes {
		if short := strings.TrimSuffix(a.Name, "s"); name == short || name == a.Name+"s" || len(a.Name) > 9 && oneOff(name, a.Name) {
			return a.Name
		}
	}
	return ""
}

// oneOff reports words that differ in one letter, or by one letter more or less.
func oneOff(a, b string) bool {
	if len(a) < len(b) {
		a, b = b, a
	}
	i := 0
	for i < len(b) && a[i] == b[i] {
		i++
	}
	return len(a) == len(b) && i < len(b) && a[i+1:] == b[i+1:] || len(a) == len(b)+1 && a[i+1:] == b[i:]
}

// MakeAbsent empties a table cell that nobody gets. Other elements are better removed.
func MakeAbsent(cell *markup.Node) {
	cell.Children = nil
	cell.SetAttr(attrAbsent, "")
}

// Source is a template's document with what is needed to understand its language.
type Source struct {
	Doc      *markup.Document
	Schema   *person.Schema
	Variants []string // those a data-in may name

	quiet bool // nobody reads what was probably meant
}

// Quiet is the source for who does not read its mistakes: what was probably meant is not worked out again.
func (s *Source) Quiet() *Source {
	quiet := *s
	quiet.quiet = true
	return &quiet
}

// Piece is a stretch of text or one field.
type Piece struct {
	Text string // raw, references not decoded
	Expr *Expr  // nil for text
}

// Validate finds all mistakes in fields and attributes of the language, in the order of the source.
func (s *Source) Validate() Errors {
	var errs Errors
	if e := s.beyond(); e != nil {
		return Errors{*e}
	}
	s.Doc.Root.Walk(func(n *markup.Node) bool {
		if len(errs) >= mostMistakes {
			return false
		}
		switch n.Kind {
		case markup.Text:
			if n.Parent.Is("style", "script") {
				for _, seg := range scan(n.Data) {
					if seg.field {
						errs = append(errs, s.problem(n.Open.Start+seg.offset, len(seg.text), "A field cannot stand in a <"+
							n.Parent.Name+"> element; put it into a style attribute or the text."))
					}
				}
				break
			}
			pieces, found := s.TextPieces(n)
			errs = append(append(errs, found...), s.strayEntries(n, pieces)...)
		case markup.Element:
			errs = append(errs, s.validateElement(n)...)
		}
		return true
	})
	sort.SliceStable(errs, func(i, j int) bool { return errs[i].Offset < errs[j].Offset })
	return errs
}

// validateElement finds the mistakes in one element's fields and attributes.
func (s *Source) validateElement(n *markup.Node) Errors {
	var errs Errors
	if HasField(n.Name) {
		errs = append(errs, s.problem(n.Open.Start, n.Open.Len(), "A field cannot be the name of an element."))
	}
	for _, a := range n.Attrs {
		switch {
		case HasField(a.Name):
			errs = append(errs, s.problem(a.Span.Start, a.Span.Len(),
				"A field cannot stand among the attributes; put it between the quotes of a value."))
		case HasField(a.Value) && forbidden(a.Name):
			errs = append(errs, s.problem(a.Span.Start, a.Span.Len(), "A field cannot stand in "+a.Name+
				": a directory value would run as a program."))
		case Own(a.Name):
			// read below
		case Foreign(a.Name):
			// left out of what goes out, and reported by a check
		default:
			pieces, found := s.AttrPieces(a)
			errs = append(append(errs, found...), s.strayEntries(n, pieces)...)
		}
	}
	errs = append(errs, s.validateEach(n)...)
	_, found := s.Conditions(n)
	errs = append(errs, found...)
	if _, err := s.variantsOf(n); err != nil {
		errs = append(errs, *err)
	}
	return errs
}

// strayEntries finds expressions of a list's entry that stand in no element with data-each.
func (s *Source) strayEntries(n *markup.Node, pieces []Piece) Errors {
	var errs Errors
	for _, p := range pieces {
		if p.Expr == nil || p.Expr.Part == entryNone {
			continue
		}
		inside := n.Attribute(attrEach) != nil
		for up := n.Parent; up != nil && !inside; up = up.Parent {
			inside = up.Attribute(attrEach) != nil
		}
		if !inside {
			errs = append(errs, s.problem(p.Expr.Span.Start, p.Expr.Span.Len(),
				fmt.Sprintf("%q is an entry of a list: it stands only in an element with data-each.", p.Expr.Text)))
		}
	}
	return errs
}

// validateEach finds what is wrong with an element's data-each.
func (s *Source) validateEach(n *markup.Node) Errors {
	a := n.Attribute(attrEach)
	if a == nil {
		return nil
	}
	if l, _ := s.list(n); l.Field == "" && l.Constant == "" {
		if _, ok := s.Schema.Constant(strings.TrimSpace(a.Value)); !ok {
			e := s.problem(a.Inner.Start, a.Inner.Len(), fmt.Sprintf("There is no list %q: data-each names one field or one constant.", a.Value))
			e.Nearest = s.Schema.Nearest(a.Value)
			return Errors{e}
		}
	}
	if n.Is("td", "th") {
		if table := n.Inside("table"); table != nil && len(markup.TableOf(table).Rows) > 1 {
			return Errors{s.problem(a.Span.Start, a.Span.Len(),
				"data-each on a cell works in a table of one row only: the other rows would not add up. Put it on "+
					"the row, or on a table inside the cell.")}
		}
	}
	return nil
}

// list reads data-each of an element.
func (s *Source) list(n *markup.Node) (List, bool) {
	a := n.Attribute(attrEach)
	if a == nil {
		return List{}, false
	}
	name := strings.TrimSpace(a.Value)
	if constant, ok := s.Schema.Constant(name); ok {
		return List{Column: -1, Constant: constant, Span: a.Span}, true
	}
	column, canonical, known := s.Schema.Column(name)
	if !known {
		canonical = ""
	}
	return List{Column: column, Field: canonical, Span: a.Span}, true
}

// forbidden attributes run what stands in them.
func forbidden(name string) bool { return strings.HasPrefix(name, "on") || name == "srcdoc" }

// problem is a mistake at a place of the source.
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

// LinePieces cuts a line of a plain text that stands at a byte offset of the document.
func (s *Source) LinePieces(line string, offset int) ([]Piece, Errors) {
	return s.pieces(line, offset, true)
}

// AttrPieces cuts an attribute's value, as it stands between double quotes, at its fields.
func (s *Source) AttrPieces(a markup.Attr) ([]Piece, Errors) {
	raw := s.Doc.RawValue(a)
	return s.pieces(raw, a.Inner.Start, !a.Changed() && len(raw) == a.Inner.Len())
}

// attrPieces cuts any attribute's value at its fields.
func (s *Source) attrPieces(a markup.Attr) ([]Piece, Errors) {
	if a.Name == "href" {
		return s.AddressPieces(a)
	}
	return s.AttrPieces(a)
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
				if p.nearest != nil && !s.quiet {
					err.Nearest = p.nearest()
				}
				err.End = at(seg.offset + len(seg.text))
				errs = append(errs, err)
			}
			e.Span = markup.Span{Start: at(seg.offset - 2), End: at(seg.offset + len(seg.text) + 2)}
			list = append(list, Piece{Expr: &e})
		}
	}
	return list, errs
}

// Conditions reads data-needs and data-unless of an element; a data-each asks for its field too.
func (s *Source) Conditions(n *markup.Node) ([]Condition, Errors) {
	var list []Condition
	var errs Errors
	for _, name := range []string{AttrNeeds, attrUnless} {
		a := n.Attribute(name)
		if a == nil {
			continue
		}
		c := Condition{Unless: name == attrUnless, Span: a.Span}
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
				e := s.problem(a.Inner.Start+max(strings.Index(a.Value, word), 0), len(word),
					fmt.Sprintf("There is no field %q in the directory.", word))
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
			errs = append(errs, s.problem(a.Span.Start, a.Span.Len(), name+
				" mixes \"and\" with \"or\"; put one of them on an element around this one."))
		}
		list = append(list, c)
	}
	if l, ok := s.list(n); ok && l.Field != "" {
		list = append(list, Condition{Fields: []string{l.Field}, Columns: []int{l.Column}, Span: n.Attribute(attrEach).Span})
	}
	return list, errs
}

// variantsOf are the variants that a data-in names.
func (s *Source) variantsOf(n *markup.Node) ([]string, *Error) {
	a := n.Attribute(attrIn)
	if a == nil {
		return nil, nil
	}
	words := strings.FieldsFunc(a.Value, func(r rune) bool { return r == ' ' || r == ',' })
	for _, w := range words {
		if !slices.Contains(s.Variants, w) {
			e := s.problem(a.Inner.Start+max(strings.Index(a.Value, w), 0), len(w),
				fmt.Sprintf("There is no variant %q; the template has %s.", w, strings.Join(s.Variants, ", ")))
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
	if n.Attribute(attrAbsent) != nil {
		return false
	}
	words, _ := s.variantsOf(n)
	return variant == "" || len(words) == 0 || slices.Contains(words, variant)
}

// FieldsOf lists the fields shown anywhere in an element, without those that have a fallback text.
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
					pieces, _ := s.attrPieces(a)
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
	separator, joined := "", false
	if n.Parent != nil && n.Parent.Kind == markup.Element {
		separator, joined = n.Parent.Attr(AttrJoin)
	}
	if joined && len(conditions) == 0 {
		if c, ok := s.presence(n); ok {
			conditions = append(conditions, c)
		}
	}
	leave = needAll(b, conditions)
	if l, ok := s.list(n); ok {
		each, ends := b.each(l), leave
		leave = func() {
			b.again(each)
			ends()
		}
	}
	if joined {
		b.between(escape(separator))
	}
	return leave, false
}

// Children visits an element's children; those of an element with data-join are pieces to be joined, and
// the white space between them is left out.
func (s *Source) Children(b *Builder, n *markup.Node, visit func(*markup.Node)) {
	joined := n.Kind == markup.Element && n.Attribute(AttrJoin) != nil
	if joined {
		b.join()
		defer b.endJoin()
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

// needAll begins a piece that is there only when all conditions hold; the answer ends it.
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
	c.grids = grids{map[*markup.Node]int{}, map[*markup.Node]gridPlace{}, map[*markup.Node]gridPlace{}}
	c.children(s.Doc.Root)
	return c.b.Program(), nil
}

// htmlCompiler makes the program of markup.
type htmlCompiler struct {
	*Source
	b       *Builder
	variant string
	grids   grids
}

// children compiles what is in an element.
func (c *htmlCompiler) children(n *markup.Node) { c.Children(c.b, n, c.node) }

// node compiles one node: literal bytes where nothing depends on the person, steps where something does.
func (c *htmlCompiler) node(n *markup.Node) {
	switch n.Kind {
	case markup.Text:
		if n.Parent.Is("style", "script") {
			c.b.Literal(c.Doc.OpenTag(n))
			return
		}
		pieces, _ := c.TextPieces(n)
		c.pieces(pieces, func(int) Escape { return escapeText })
	case markup.Comment:
		if conditionHalf(n) {
			c.b.Literal(c.Doc.Raw(n))
		}
	case markup.Element:
		leave, skip := c.Enter(c.b, n, c.variant, markup.EscapeText)
		if skip {
			return
		}
		fitted := c.fitted(n)
		enough := c.EnterLink(c.b, n)
		c.startTag(n)
		enough()
		c.children(n)
		enough = c.EnterLink(c.b, n)
		c.b.Literal(c.Doc.CloseTag(n))
		enough()
		fitted()
		leave()
	default:
		c.b.Literal(c.Doc.OpenTag(n))
		c.children(n)
		c.b.Literal(c.Doc.CloseTag(n))
	}
}

// fitted begins a table or a row that goes when nothing is left of it; the answer closes it.
func (c *htmlCompiler) fitted(n *markup.Node) (leave func()) {
	step := Step{}
	if n.Is("table") {
		c.grid(c.b, n, c.variant, &c.grids)
		at, ok := c.grids.table[n]
		if !ok {
			return func() {}
		}
		step = Step{Kind: StepGrid, Index: at}
	} else {
		at, ok := c.grids.row[n]
		if !ok || !c.b.program.Grids[at.grid].collapses(at.index) {
			return func() {}
		}
		step = Step{Kind: StepRow, Index: at.grid, Level: at.index}
	}
	c.b.step(step)
	number := len(c.b.program.Steps) - 1
	return func() { c.b.End(number) }
}

// conditionHalf recognises the two halves of a revealed conditional comment.
func conditionHalf(n *markup.Node) bool {
	return n.Condition != "" || strings.Contains(n.Data, "[endif]")
}

// startTag compiles a start tag without the attributes of the language.
func (c *htmlCompiler) startTag(n *markup.Node) {
	if n.Silent() {
		return
	}
	place, cell := c.grids.cell[n]
	plain := !cell
	for _, a := range n.Attrs {
		if Own(a.Name) || Foreign(a.Name) || HasField(a.Value) {
			plain = false
		}
	}
	if plain {
		c.b.Literal(c.Doc.OpenTag(n))
		return
	}
	c.b.Literal("<" + n.Name)
	for _, a := range n.Attrs {
		if Own(a.Name) || Foreign(a.Name) || cell && (a.Name == "colspan" || a.Name == "rowspan") {
			continue
		}
		pieces, _ := c.attrPieces(a)
		c.b.Literal(" " + a.Name + `="`)
		c.pieces(pieces, attrEscape(a.Name, pieces))
		c.b.Literal(`"`)
	}
	if cell {
		c.b.step(Step{Kind: StepColumns, Index: place.grid, Level: place.index})
		c.b.step(Step{Kind: StepRows, Index: place.grid, Level: place.index})
	}
	c.b.Literal(">")
}

// pieces compiles literal text and fields, each field escaped for where it stands.
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
		return func(int) Escape { return escapeStyle }
	case markup.AddressAttribute(name):
		return func(i int) Escape {
			for _, p := range pieces[:i] {
				if p.Expr != nil || strings.TrimSpace(p.Text) != "" {
					return EscapePart
				}
			}
			return escapeAddress
		}
	}
	return func(int) Escape { return escapeAttr }
}
