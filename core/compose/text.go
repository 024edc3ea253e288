package compose

import (
	"strings"

	"github.com/rivo/uniseg"

	"missivum/core/field"
	"missivum/core/markup"
)

// Columns is the width of the text form; a word or an address that is longer stands on a line of
// its own (RFC 3676, 4.2, asks for at most 78).
const Columns = 72

// SeparatorLine stands above a signature in a text message: two hyphens and a space (RFC 3676, 4.3).
const SeparatorLine = "-- "

// The marks of a text program.
const (
	markBreak   field.Mark = iota + 1 // begin a new line
	markBlank                         // leave an empty line
	markLink                          // a link's label follows
	markAddress                       // the link's address follows
	markLinkEnd
)

// compileText makes the program of the text form: reading order of the markup, blocks and the cells of
// layout rows on lines of their own, pictures by their alternative text.
func (p *Prepared) compileText(table *field.Table, variant string) (*field.Program, error) {
	source := p.FieldSource()
	if errs := source.Validate(); len(errs) > 0 {
		return nil, errs
	}
	c := textCompiler{source: source, b: field.NewBuilder(table), variant: variant}
	c.children(p.Doc.Root)
	return c.b.Program(), nil
}

// textCompiler makes the program of the text form.
type textCompiler struct {
	source  *field.Source
	b       *field.Builder
	variant string
	simple  map[*markup.Node]bool // rows, whether they are simple
}

// simpleRow is markup.SimpleRow, worked out once for a row.
func (c *textCompiler) simpleRow(row *markup.Node) bool {
	simple, known := c.simple[row]
	if !known {
		if c.simple == nil {
			c.simple = map[*markup.Node]bool{}
		}
		simple = markup.SimpleRow(row)
		c.simple[row] = simple
	}
	return simple
}

// children compiles what is in an element.
func (c *textCompiler) children(n *markup.Node) { c.source.Children(c.b, n, c.node) }

// node compiles text, and elements by what they mean in lines.
func (c *textCompiler) node(n *markup.Node) {
	switch n.Kind {
	case markup.Text:
		pieces, _ := c.source.TextPieces(n)
		c.b.Pieces(pieces, field.EscapeNone, field.EscapeNone)
	case markup.Element:
		if markup.Unread(n) {
			return
		}
		leave, skip := c.source.Enter(c.b, n, c.variant, field.AsIs)
		if skip {
			return
		}
		c.element(n)
		leave()
	}
}

// element compiles one element: blocks begin lines, cells are separated, lists have signs.
func (c *textCompiler) element(n *markup.Node) {
	switch {
	case n.Is("br"):
		c.b.Mark(markBreak)
	case n.Is("img"):
		if alt := n.Attribute("alt"); alt != nil && !markup.Decoration(n) {
			pieces, _ := c.source.AttrPieces(*alt)
			c.b.Literal(" ")
			c.b.Pieces(pieces, field.EscapeNone, field.EscapeNone)
			c.b.Literal(" ")
		}
	case n.Is("a"):
		c.link(n)
	case n.Is("td", "th") && c.simpleRow(n.Parent):
		c.b.Literal(" ")
		c.children(n)
	case markup.Block(n.Name):
		edge := blockEdge(n)
		c.b.Mark(edge)
		if n.Is("li") {
			c.b.Literal("- ")
		}
		c.children(n)
		c.b.Mark(edge)
	default:
		c.children(n)
	}
}

// link compiles a link: its label, and its address where the label does not say it.
func (c *textCompiler) link(n *markup.Node) {
	href := n.Attribute("href")
	if href == nil {
		c.children(n)
		return
	}
	leave := c.source.EnterLink(c.b, n)
	c.b.Mark(markLink)
	leave()
	c.children(n)
	leave = c.source.EnterLink(c.b, n)
	c.b.Mark(markAddress)
	pieces, _ := c.source.AddressPieces(*href)
	c.b.AddressPieces(pieces, field.EscapePlainAddress, field.EscapePlainPart)
	c.b.Mark(markLinkEnd)
	leave()
}

// blockEdge is the mark at the edges of a block.
func blockEdge(n *markup.Node) field.Mark {
	if markup.StandsApart(n) {
		return markBlank
	}
	return markBreak
}

// appendText fills a text program and lays it out below the separator line.
func appendText(dst []byte, program *field.Program, f *field.Filler) []byte {
	w := textWriter{dst: append(append(dst, SeparatorLine...), '\n')}
	w.empty = len(w.dst)
	program.Run(f, &w)
	return w.finish()
}

// textWriter lays text out: white space is folded, lines are broken at Columns.
type textWriter struct {
	dst     []byte
	empty   int             // length of dst while nothing is written yet
	line    strings.Builder // the line being built
	space   bool            // a space is due
	blank   bool            // an empty line is due
	inLink  int             // byte length of line when the link's label began, plus one
	address *strings.Builder
}

// Text takes running text.
func (w *textWriter) Text(s string) {
	if w.address != nil {
		w.address.WriteString(s)
		return
	}
	for s != "" {
		i := strings.IndexAny(s, " \t\r\n\u00a0")
		if i < 0 {
			w.word(s)
			return
		}
		if i > 0 {
			w.word(s[:i])
		}
		w.space = w.line.Len() > 0
		if strings.HasPrefix(s[i:], "\u00a0") {
			i++
		}
		s = s[i+1:]
	}
}

// word writes a word, on the next line where it does not fit.
func (w *textWriter) word(s string) {
	if w.space {
		w.line.WriteByte(' ')
		w.space = false
	}
	w.line.WriteString(s)
}

// Mark takes a layout sign.
func (w *textWriter) Mark(m field.Mark) {
	switch m {
	case markBreak:
		w.endLine()
	case markBlank:
		w.endLine()
		w.blank = true
	case markLink:
		w.inLink = w.line.Len() + 1
	case markAddress:
		w.address = &strings.Builder{}
	case markLinkEnd:
		w.endLink()
	}
}

// endLink writes the address behind the label, unless the label says it already.
func (w *textWriter) endLink() {
	address := strings.TrimSpace(w.address.String())
	w.address = nil
	label := ""
	if w.inLink > 0 && w.inLink-1 <= w.line.Len() {
		label = strings.TrimSpace(w.line.String()[w.inLink-1:])
	}
	w.inLink = 0
	if address == "" || strings.HasSuffix(address, ":") || sameAddress(label, address) { // a scheme alone leads nowhere
		return
	}
	if label != "" {
		w.space = true
	}
	w.word("<" + address + ">")
}

// sameAddress reports whether a label already is the address: the same without scheme, or a
// telephone number with the same digits.
func sameAddress(label, address string) bool {
	scheme, rest, ok := strings.Cut(address, ":")
	if ok && strings.EqualFold(scheme, "tel") {
		return label != ""
	}
	rest = strings.TrimSuffix(strings.TrimPrefix(rest, "//"), "/")
	label = strings.TrimSuffix(label, "/")
	return strings.EqualFold(label, address) || strings.EqualFold(label, rest) || strings.EqualFold(label, strings.TrimPrefix(rest, "www."))
}

// endLine ends a line without white space at its end.
func (w *textWriter) endLine() {
	line := strings.TrimSpace(w.line.String())
	w.line.Reset()
	w.space = false
	if line == "" {
		return
	}
	if w.blank && len(w.dst) > w.empty {
		w.dst = append(w.dst, '\n')
	}
	w.blank = false
	w.dst = appendWrapped(w.dst, line)
}

// finish is the text, without blank lines at its ends.
func (w *textWriter) finish() []byte {
	w.endLine()
	return w.dst
}

// appendWrapped appends a line, broken at spaces so that each part is at most Columns wide; wide
// letters count two columns (Unicode Standard Annex 11).
func appendWrapped(dst []byte, line string) []byte {
	if len(line) <= Columns {
		return append(append(dst, line...), '\n')
	}
	width := 0
	for i, word := range strings.Split(line, " ") {
		w := columnsOf(word)
		switch {
		case i == 0:
		case width+1+w > Columns:
			dst = append(dst, '\n')
			width = 0
		default:
			dst = append(dst, ' ')
			width++
		}
		dst = append(dst, word...)
		width += w
	}
	return append(dst, '\n')
}

// LongestLine is the width in columns of the widest line of a text.
func LongestLine(text []byte) int {
	widest := 0
	for _, line := range strings.Split(string(text), "\n") {
		widest = max(widest, columnsOf(line))
	}
	return widest
}

// columnsOf is the width of a text in columns. That of printable ASCII is its length.
func columnsOf(text string) int {
	for i := range len(text) {
		if text[i] < ' ' || text[i] > '~' {
			return uniseg.StringWidth(text)
		}
	}
	return len(text)
}

// TextProgram is the compiled text form.
type TextProgram struct {
	program *field.Program
	byHand  bool
}

// TextProgram compiles the text form of a variant: the one written by hand where there is one, or else what
// follows from the markup.
func (p *Prepared) TextProgram(table *field.Table, variant string) (TextProgram, error) {
	if file, text, ok := p.Template.Text(variant); ok {
		program, err := p.compileHandText(table, file, text)
		return TextProgram{program, true}, err
	}
	program, err := p.compileText(table, variant)
	return TextProgram{program, false}, err
}

// Append appends the text form for the person set in the filler.
func (t TextProgram) Append(dst []byte, f *field.Filler) []byte {
	if t.byHand {
		return appendHandText(dst, t.program, f)
	}
	return appendText(dst, t.program, f)
}
