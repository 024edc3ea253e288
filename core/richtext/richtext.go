// Package richtext writes a signature as rich text: a prepared document goes in, a program comes out that appends the
// form for each person. It follows the Rich Text Format specification, version 1.9.1. Start with Compile; writer.go lays
// out what the program fills.
package richtext

import (
	"bytes"
	"encoding/hex"
	"fmt"
	"image/color"
	"image/png"
	"math"
	"slices"
	"strings"
	"unicode/utf16"

	"missivum/core/field"
	"missivum/core/markup"
	"missivum/core/picture"
	"missivum/core/style"
	"missivum/core/template"
)

// The rich text form follows the Rich Text Format specification, version 1.9.1. Lengths are in twips, a
// twentieth of a point; a px is 15 of them.

// twips turns px into twips.
func twips(px float64) int { return int(math.Round(px * 15)) }

// rtfMark says to the writer of the rich text form what comes next.
type rtfMark uint8

const (
	rtfParagraph rtfMark = iota // a paragraph of looks[index] begins
	rtfRun                      // text of looks[index] follows
	rtfBreak                    // a new line in the paragraph
	rtfAddress                  // a link's address follows
	rtfLabel                    // and now its label
	rtfLinkEnd
	rtfPicture    // a picture begins, of which looks[index] stands before its alternative text
	rtfPictureEnd // looks[index] stands behind it, and the picture ends
	rtfTable      // a table begins
	rtfTableEnd
	rtfRow      // a row of looks[index] begins
	rtfCell     // a cell of cells[index] is announced
	rtfCells    // all cells of the row are announced
	rtfCellEnd  // a cell's content ends
	rtfRowEnd   // the row ends
	rtfCellOpen // a cell's content begins, of cells[index]
	rtfTab      // to the next column of a table that is written as lines
)

const rtfMarkBits = 5

// of packs a mark's kind and index into one number.
func (k rtfMark) of(index int) field.Mark { return field.Mark(index<<rtfMarkBits | int(k)) }

// rtfCellDef is a cell's definition in its row.
type rtfCellDef struct {
	look        string
	right       int // edge, in twips from the table's left
	width       int
	top, bottom int // padding
}

// Program is the compiled rich text form.
type Program struct {
	program *field.Program
	head    string
	looks   []string // control words of paragraphs, runs, rows, and the pieces of pictures
	cells   []rtfCellDef
}

// Source is what is compiled: a prepared document with its fields, for one variant.
type Source struct {
	Fields    *field.Source // the document, its styles inlined, and its schema
	Table     *field.Table  // takes the values
	Variant   string
	PictureOf func(img *markup.Node) *template.Picture // the template's picture that an <img> shows, or nil
}

// Compile compiles the rich text form of a variant: paragraphs, tables with widths, borders and shading, fonts, sizes,
// colours, links, and the template's pictures embedded with their display size. Other pictures are left out but for
// their alternative text. The error is field.Errors.
func Compile(s Source) (*Program, error) {
	if errs := s.Fields.Validate(); len(errs) > 0 {
		return nil, errs
	}
	c := rtfCompiler{source: s.Fields, pictureOf: s.PictureOf, b: field.NewBuilder(s.Table), variant: s.Variant,
		out: &Program{}, lookAt: map[string]int{}}
	c.fonts = []string{`\froman Times New Roman`}
	c.block(s.Fields.Doc.Root, rtfContext{text: style.PlainText, width: rtfPageWidth})
	c.out.program = c.b.Program()
	c.out.head = c.header()
	return c.out, nil
}

// rtfPageWidth is how wide a table without a width may become, in px.
const rtfPageWidth = 620

// rtfCompiler makes the program of the rich text form.
type rtfCompiler struct {
	source    *field.Source
	pictureOf func(img *markup.Node) *template.Picture
	b         *field.Builder
	variant   string
	out       *Program
	lookAt    map[string]int
	fonts     []string
	colors    []color.RGBA
}

// rtfContext is what an element inherits.
type rtfContext struct {
	text        style.Text
	depth       int     // of tables
	left, right float64 // indents in px
	width       float64 // px
	paragraph   int     // look of the paragraph that holds it
}

// header writes the tables of fonts and colours.
func (c *rtfCompiler) header() string {
	var b strings.Builder
	b.WriteString(`{\rtf1\ansi\ansicpg1252\uc1\deff0{\fonttbl`)
	for i, f := range c.fonts {
		fmt.Fprintf(&b, `{\f%d%s;}`, i, f)
	}
	b.WriteString(`}{\colortbl;`)
	for _, rgb := range c.colors {
		fmt.Fprintf(&b, `\red%d\green%d\blue%d;`, rgb.R, rgb.G, rgb.B)
	}
	b.WriteString("}\n")
	return b.String()
}

// mark adds a mark for the writer.
func (c *rtfCompiler) mark(kind rtfMark, index int) { c.b.Mark(kind.of(index)) }

// look keeps control words and gives their number.
func (c *rtfCompiler) look(words string) int {
	if i, ok := c.lookAt[words]; ok {
		return i
	}
	c.out.looks = append(c.out.looks, words)
	c.lookAt[words] = len(c.out.looks) - 1
	return len(c.out.looks) - 1
}

// font gives the number of a font: the first name with the kind that a generic one names.
func (c *rtfCompiler) font(families []string) int {
	kind, name := `\fnil`, ""
	for _, f := range families {
		switch strings.ToLower(f) {
		case "serif":
			kind = `\froman`
		case "sans-serif", "system-ui":
			kind = `\fswiss`
		case "monospace":
			kind = `\fmodern`
		default:
			if name == "" {
				name = string(appendRTF(nil, strings.ReplaceAll(f, ";", "")))
			}
		}
	}
	if name == "" {
		name = map[string]string{`\fswiss`: "Arial", `\fmodern`: "Courier New"}[kind]
	}
	if name == "" {
		name = "Times New Roman"
	}
	entry := kind + " " + name
	if i := slices.Index(c.fonts, entry); i >= 0 {
		return i
	}
	c.fonts = append(c.fonts, entry)
	return len(c.fonts) - 1
}

// color gives the number of a colour; the first is 1.
func (c *rtfCompiler) color(rgb color.RGBA) int {
	if i := slices.Index(c.colors, rgb); i >= 0 {
		return i + 1
	}
	c.colors = append(c.colors, rgb)
	return len(c.colors)
}

// run gives the look of a run of text. Letters of scripts from right to left take the words behind \rtlch.
func (c *rtfCompiler) run(t style.Text) int {
	font, size := c.font(t.Families), max(int(math.Round(t.Size*1.5)), 2)
	other, own := "", ""
	if t.Bold {
		other, own = other+`\ab`, own+`\b`
	}
	if t.Italic {
		other, own = other+`\ai`, own+`\i`
	}
	if t.Underline {
		own += `\ul`
	}
	return c.look(fmt.Sprintf(`\rtlch\af%d\afs%d%s\ltrch\f%d\fs%d\cf%d%s`, font, size, other, font, size, c.color(t.Color), own))
}

// paragraph gives the control words of a paragraph in an element; n is nil between blocks.
func (c *rtfCompiler) paragraph(n *markup.Node, ctx rtfContext) string {
	words := `\pard\plain`
	switch ctx.depth {
	case 0:
	case 1:
		words += `\intbl`
	default:
		words += fmt.Sprintf(`\intbl\itap%d`, ctx.depth)
	}
	align := ctx.text.Align
	if ctx.text.RTL {
		words += `\rtlpar`
		if align == "" {
			align = "right"
		}
	}
	words += map[string]string{"center": `\qc`, "right": `\qr`, "justify": `\qj`}[align]
	if left := twips(ctx.left); left != 0 {
		words += fmt.Sprintf(`\li%d`, left)
	}
	if right := twips(ctx.right); right != 0 {
		words += fmt.Sprintf(`\ri%d`, right)
	}
	if n != nil {
		above, below := spacing(n, ctx.text.Size)
		if above > below {
			words += fmt.Sprintf(`\sb%d`, twips(above-below))
		}
		if below > 0 {
			words += fmt.Sprintf(`\sa%d`, twips(below))
		}
		if n.Is("hr") {
			words += `\brdrb\brdrs\brdrw15`
		}
	}
	if ctx.text.Line > 0 {
		if n != nil && len(n.Elements("img")) > 0 {
			words += fmt.Sprintf(`\sl%d\slmult0`, twips(ctx.text.Line)) // at least: an exact height would cut pictures
		} else {
			words += fmt.Sprintf(`\sl-%d\slmult0`, twips(ctx.text.Line))
		}
	}
	return words
}

// spacing is an element's margin above and below in px, by its style or by what browsers give it.
func spacing(n *markup.Node, size float64) (above, below float64) {
	if margin, ok := style.Box(n, "margin", size); ok {
		return margin.Top, margin.Bottom
	}
	if markup.StandsApart(n) {
		return size, size
	}
	return 0, 0
}

// block visits the children of what begins paragraphs of its own.
func (c *rtfCompiler) block(n *markup.Node, ctx rtfContext) {
	ctx.paragraph = c.look(c.paragraph(n, ctx))
	c.mark(rtfParagraph, ctx.paragraph)
	switch {
	case n.Is("li"):
		c.mark(rtfRun, c.run(ctx.text))
		c.b.Literal("• ")
	case n.Is("hr"):
		c.mark(rtfRun, c.run(ctx.text))
		c.b.Literal("\u00a0")
	}
	c.children(n, ctx)
}

// children compiles what is in an element.
func (c *rtfCompiler) children(n *markup.Node, ctx rtfContext) {
	run := c.run(ctx.text)
	c.source.Children(c.b, n, func(child *markup.Node) { c.child(child, ctx, run) })
}

// child compiles a text or an element in an element whose run is given.
func (c *rtfCompiler) child(child *markup.Node, ctx rtfContext, run int) {
	switch child.Kind {
	case markup.Text:
		c.mark(rtfRun, run)
		pieces, _ := c.source.TextPieces(child)
		c.b.Pieces(pieces, field.EscapeNone, field.EscapeNone)
	case markup.Element:
		if markup.Unread(child) {
			return
		}
		c.mark(rtfRun, run) // for a separator
		leave, skip := c.source.Enter(c.b, child, c.variant, field.AsIs)
		if skip {
			return
		}
		c.element(child, ctx)
		leave()
	}
}

// outOfPlace compiles what stands in a table and in none of its cells; like browsers it is shown before the table (HTML
// Living Standard, 13.2.6.1, foster parenting).
func (c *rtfCompiler) outOfPlace(n *markup.Node, ctx rtfContext) {
	run := c.run(ctx.text)
	for _, child := range n.Children {
		switch {
		case child.Is("tbody", "thead", "tfoot", "tr"):
			if leave, skip := c.source.Enter(c.b, child, c.variant, field.AsIs); !skip {
				c.outOfPlace(child, ctx)
				leave()
			}
		case child.Is("td", "th", "col", "colgroup") || child.Kind == markup.Text && strings.TrimSpace(child.Data) == "":
		default:
			c.child(child, ctx, run)
		}
	}
}

// element compiles one element by what it means on paper.
func (c *rtfCompiler) element(n *markup.Node, ctx rtfContext) {
	outside := ctx.text.RTL
	ctx.text = ctx.text.In(n)
	switch {
	case n.Is("br"):
		c.mark(rtfBreak, 0)
	case n.Is("img"):
		c.picture(n, ctx)
	case n.Is("a"):
		c.link(n, ctx)
	case n.Is("table"):
		c.outOfPlace(n, ctx)
		layout := markup.TableOf(n)
		if ctx.depth > 0 && linesWillDo(layout) || c.bareBox(layout) {
			c.lines(n, layout, ctx)
		} else {
			c.table(n, layout, ctx)
		}
		c.mark(rtfParagraph, ctx.paragraph)
	case markup.Block(n.Name):
		outer := ctx.paragraph
		if n.Is("ul", "ol", "blockquote", "dd") {
			ctx.left += 24
		}
		if padding, ok := style.Box(n, "padding", ctx.text.Size); ok {
			ctx.left, ctx.right = ctx.left+padding.Left, ctx.right+padding.Right
		}
		c.block(n, ctx)
		c.mark(rtfParagraph, outer)
	default:
		c.turned(n, outside, ctx)
	}
}

// The signs that turn the direction of a piece of a line (Unicode Standard Annex 9, 2.1 and 2.3).
const (
	leftToRight = "\u202a"
	rightToLeft = "\u202b"
	turnBack    = "\u202c"
)

// turned visits the children of an inline element; where it goes the other way than what is around, signs say so,
// since not every reader keeps to the direction of runs.
func (c *rtfCompiler) turned(n *markup.Node, outside bool, ctx rtfContext) {
	if ctx.text.RTL == outside {
		c.children(n, ctx)
		return
	}
	c.mark(rtfRun, c.run(ctx.text))
	c.b.Literal(map[bool]string{false: leftToRight, true: rightToLeft}[ctx.text.RTL])
	c.children(n, ctx)
	c.b.Literal(turnBack)
}

// link compiles a link as a field (RTF 1.9.1, fields).
func (c *rtfCompiler) link(n *markup.Node, ctx rtfContext) {
	href := n.Attribute("href")
	if href == nil || inLink(n) { // a field in a field's result cannot be read
		c.children(n, ctx)
		return
	}
	leave := c.source.EnterLink(c.b, n)
	c.mark(rtfAddress, 0)
	pieces, _ := c.source.AddressPieces(*href)
	c.b.AddressPieces(pieces, field.EscapePlainAddress, field.EscapePlainPart)
	c.mark(rtfLabel, 0)
	leave()
	c.children(n, ctx)
	leave = c.source.EnterLink(c.b, n)
	c.mark(rtfLinkEnd, 0)
	leave()
}

// inLink reports whether an element stands in a link.
func inLink(n *markup.Node) bool {
	for outer := n.Inside("a"); outer != nil; outer = outer.Inside("a") {
		if outer.Attribute("href") != nil {
			return true
		}
	}
	return false
}

// picture embeds a picture of the template at its display size.
func (c *rtfCompiler) picture(n *markup.Node, ctx rtfContext) {
	if p := c.pictureOf(n); p != nil {
		width, height := displaySize(n, p, ctx)
		if data, err := embedded(p, width, height); err == nil {
			c.embed(n, data)
			return
		}
	}
	if alt := n.Attribute("alt"); alt != nil && !markup.Decoration(n) {
		c.mark(rtfRun, c.run(ctx.text))
		pieces, _ := c.source.AttrPieces(*alt)
		c.b.Pieces(pieces, field.EscapeNone, field.EscapeNone)
	}
}

// embed writes a picture with its alternative text, in which fields are filled like everywhere.
func (c *rtfCompiler) embed(n *markup.Node, data string) {
	before, behind := `{\pict`, data+"}"
	alt := n.Attribute("alt")
	if described := alt != nil && strings.TrimSpace(alt.Value) != ""; !described {
		c.mark(rtfPicture, c.look(before))
		c.mark(rtfPictureEnd, c.look(behind))
		return
	}
	c.mark(rtfPicture, c.look(before+`{\*\picprop{\sp{\sn wzDescription}{\sv `))
	pieces, _ := c.source.AttrPieces(*alt)
	c.b.Pieces(pieces, field.EscapeNone, field.EscapeNone)
	c.mark(rtfPictureEnd, c.look("}}}"+behind))
}

// displaySize is how large a picture is shown, in px: by its attributes or its style, in its own proportion where
// one of them is missing, else its true pixels.
func displaySize(n *markup.Node, p *template.Picture, ctx rtfContext) (width, height int) {
	width, height = n.Pixels("width"), n.Pixels("height")
	if width == 0 {
		width = int(math.Round(widthOf(n, ctx.width, ctx.text.Size)))
	}
	if declared, ok := n.Declared("height"); ok && height == 0 {
		px, _ := style.Length(declared, ctx.text.Size)
		height = int(math.Round(px))
	}
	return p.Proportioned(width, height)
}

// embedded is a picture's data and sizes; what is neither PNG nor JPEG becomes a PNG, since rich text has none else.
func embedded(p *template.Picture, width, height int) (string, error) {
	data, kind := p.Data, `\pngblip`
	switch p.Format {
	case picture.PNG:
	case picture.JPEG:
		kind = `\jpegblip`
	default:
		read, err := picture.Read(data)
		if err != nil {
			return "", fmt.Errorf("reading %s: %w", p.File, err)
		}
		var b bytes.Buffer
		if err := png.Encode(&b, read.Image()); err != nil {
			return "", fmt.Errorf("writing %s: %w", p.File, err)
		}
		data = b.Bytes()
	}
	var b strings.Builder
	fmt.Fprintf(&b, `%s\picw%d\pich%d\picwgoal%d\pichgoal%d`, kind, p.Width, p.Height, twips(float64(width)), twips(float64(height)))
	b.WriteString(Digits(data))
	return b.String(), nil
}

// Digits is data as rich text writes it: hexadecimal digits, each 128 of them on a line of their own.
func Digits(data []byte) string {
	var b strings.Builder
	for digits := hex.EncodeToString(data); digits != ""; {
		n := min(len(digits), 128)
		b.WriteString("\n" + digits[:n])
		digits = digits[n:]
	}
	return b.String()
}

// table compiles a table: as lines where that will do, else as rows of cells.
func (c *rtfCompiler) table(n *markup.Node, layout markup.Table, ctx rtfContext) {
	t := c.newTable(n, layout, ctx)
	t.ctx.left, t.ctx.right = 0, 0
	c.mark(rtfTable, 0)
	t.rows(n, ctx.text, t.row)
	c.mark(rtfTableEnd, 0)
}

// newTable works out the widths of the columns.
func (c *rtfCompiler) newTable(n *markup.Node, layout markup.Table, ctx rtfContext) rtfTableCompiler {
	t := rtfTableCompiler{rtfCompiler: c, layout: layout, ctx: ctx, inset: ctx.left}
	t.padding, _ = style.Length(attr(n, "cellpadding"), ctx.text.Size)
	t.edges = c.columns(n, layout, ctx, t.padding)
	return t
}

// linesWillDo reports whether a table in a table can be written as lines, with tabs between its columns:
// many readers lose the content of tables in tables.
func linesWillDo(t markup.Table) bool {
	if t.Columns == 1 {
		return true
	}
	return !slices.ContainsFunc(t.Rows, func(tr *markup.Node) bool { return !markup.SimpleRow(tr) })
}

// bareBox reports whether a table is no more than a wrapper: one cell that draws nothing itself.
func (c *rtfCompiler) bareBox(t markup.Table) bool {
	if len(t.Cells) != 1 {
		return false
	}
	for n := t.Cells[0].Node; n.Is("td", "th", "tr", "tbody", "thead", "tfoot"); n = n.Parent {
		if _, shaded := style.Background(n); shaded {
			return false
		}
		if c.borders("", n) != "" {
			return false
		}
	}
	_, shaded := style.Background(t.Cells[0].Node.Inside("table"))
	return !shaded
}

// lines writes a table as paragraphs.
func (c *rtfCompiler) lines(n *markup.Node, layout markup.Table, ctx rtfContext) {
	t := c.newTable(n, layout, ctx)
	stops := ""
	if layout.Columns > 1 {
		for _, edge := range t.edges[1 : len(t.edges)-1] {
			stops += fmt.Sprintf(`\tx%d`, twips(ctx.left+edge))
		}
	}
	t.rows(n, ctx.text, func(tr *markup.Node, number int, text style.Text) {
		first := true
		t.each(number, func(cell markup.Cell, above bool) {
			if above {
				return
			}
			inside := ctx
			inside.text = text.In(cell.Node)
			if !first {
				c.mark(rtfTab, 0)
				c.children(cell.Node, inside)
				return
			}
			first = false
			padding := t.paddingOf(cell.Node)
			inside.left, inside.right = ctx.left+padding.Left, ctx.right+padding.Right
			inside.width = max(ctx.width-padding.Left-padding.Right, 20)
			inside.paragraph = c.look(c.paragraph(nil, inside) + c.boxed(cell.Node, padding, inside.text) + stops)
			c.mark(rtfParagraph, inside.paragraph)
			c.children(cell.Node, inside)
		})
	})
}

// borders are the control words for an element's lines, each beginning with the given ones and its side.
func (c *rtfCompiler) borders(begin string, n *markup.Node) string {
	words := ""
	for _, side := range []string{"top", "left", "bottom", "right"} {
		if line, ok := style.Border(n, side); ok {
			words += fmt.Sprintf(`%s%c\brdrs\brdrw%d\brdrcf%d`, begin, side[0], max(twips(line.Width), 2), c.color(line.Color))
		}
	}
	return words
}

// boxed is what a cell written as a paragraph has of the cell: padding, height, lines and shading.
func (c *rtfCompiler) boxed(td *markup.Node, padding style.Sides, text style.Text) string {
	words := ""
	if height := float64(td.Pixels("height")); height > text.Line && text.Line > 0 {
		padding.Bottom += height - text.Line
	}
	if padding.Top > 0 {
		words += fmt.Sprintf(`\sb%d`, twips(padding.Top))
	}
	if padding.Bottom > 0 {
		words += fmt.Sprintf(`\sa%d`, twips(padding.Bottom))
	}
	words += c.borders(`\brdr`, td)
	if shade, ok := style.Background(td); ok {
		words += fmt.Sprintf(`\cbpat%d`, c.color(shade))
	}
	return words
}

// attr is an attribute's value, empty where it is not there.
func attr(n *markup.Node, name string) string {
	value, _ := n.Attr(name)
	return value
}

// rtfTableCompiler writes one table.
type rtfTableCompiler struct {
	*rtfCompiler
	layout  markup.Table
	ctx     rtfContext
	edges   []float64 // px, one more than columns
	padding float64   // px
	inset   float64   // px, of the table
}

// rows visits the rows below a table or a part of it, under their conditions.
func (t *rtfTableCompiler) rows(n *markup.Node, text style.Text, visit func(tr *markup.Node, number int, text style.Text)) {
	for _, child := range n.Children {
		if !child.Is("tr", "tbody", "thead", "tfoot") {
			continue
		}
		leave, skip := t.source.Enter(t.b, child, t.variant, field.AsIs)
		if skip {
			continue
		}
		if child.Is("tr") {
			visit(child, slices.Index(t.layout.Rows, child), text.In(child))
		} else {
			t.rows(child, text.In(child), visit)
		}
		leave()
	}
}

// row compiles a row with its borders and shading.
func (t *rtfTableCompiler) row(tr *markup.Node, number int, text style.Text) {
	words := fmt.Sprintf(`\trowd\trgaph0\trleft%d\trautofit0`, twips(t.inset))
	if text.RTL {
		words += `\rtlrow`
	}
	height := float64(tr.Pixels("height"))
	for _, c := range t.layout.Cells {
		if c.Row == number && c.Rows == 1 {
			height = max(height, float64(c.Node.Pixels("height")))
		}
	}
	if height > 0 {
		words += fmt.Sprintf(`\trrh%d`, twips(height))
	}
	t.mark(rtfRow, t.look(words))
	t.each(number, func(c markup.Cell, above bool) { t.mark(rtfCell, t.define(c, above, tr)) })
	t.mark(rtfCells, 0)
	t.each(number, func(c markup.Cell, above bool) {
		t.mark(rtfCellOpen, t.define(c, above, tr))
		if !above {
			t.content(c, text)
		}
		t.mark(rtfCellEnd, 0)
	})
	t.mark(rtfRowEnd, 0)
}

// each visits the cells that cover a row, under their conditions; above is set for those that began in an
// earlier row.
func (t *rtfTableCompiler) each(row int, visit func(c markup.Cell, above bool)) {
	for _, i := range t.layout.Covered[row] {
		c := t.layout.Cells[i]
		leave, skip := t.source.Enter(t.b, c.Node, t.variant, func(string) string { return "" })
		if skip {
			continue
		}
		visit(c, c.Row != row)
		leave()
	}
}

// define makes a cell's definition and gives its number.
func (t *rtfTableCompiler) define(c markup.Cell, above bool, tr *markup.Node) int {
	n := c.Node
	words := ""
	switch {
	case above:
		words = `\clvmrg`
	case c.Rows > 1:
		words = `\clvmgf`
	}
	valign := strings.ToLower(attr(n, "valign") + attr(tr, "valign"))
	if v, ok := n.Declared("vertical-align"); ok {
		valign = v
	}
	words += map[string]string{"top": `\clvertalt`, "bottom": `\clvertalb`, "baseline": `\clvertalt`}[valign]
	if valign == "" || valign == "middle" {
		words += `\clvertalc`
	}
	words += t.borders(`\clbrdr`, n)
	for _, behind := range []*markup.Node{n, tr, tr.Inside("table")} {
		if shade, ok := style.Background(behind); ok {
			words += fmt.Sprintf(`\clcbpat%d`, t.color(shade))
			break
		}
	}
	padding := t.paddingOf(n)
	left, right := t.edges[c.Column], t.edges[c.Column+c.Cols]
	def := rtfCellDef{look: words, right: twips(t.inset + right), width: twips(right - left), top: twips(padding.Top),
		bottom: twips(padding.Bottom)}
	if i := slices.Index(t.out.cells, def); i >= 0 {
		return i
	}
	t.out.cells = append(t.out.cells, def)
	return len(t.out.cells) - 1
}

// paddingOf is the space around a cell's content.
func (t *rtfTableCompiler) paddingOf(n *markup.Node) style.Sides {
	padding, ok := style.Box(n, "padding", 16)
	if !ok {
		return style.Sides{Top: t.padding, Right: t.padding, Bottom: t.padding, Left: t.padding}
	}
	return padding
}

// content compiles what is in a cell.
func (t *rtfTableCompiler) content(c markup.Cell, text style.Text) {
	ctx := t.ctx
	ctx.text = text.In(c.Node)
	ctx.depth++
	padding := t.paddingOf(c.Node)
	ctx.left, ctx.right = padding.Left, padding.Right
	ctx.width = max(t.edges[c.Column+c.Cols]-t.edges[c.Column]-padding.Left-padding.Right, 20)
	t.block(c.Node, ctx)
}

// columns works out the edges of a table's columns in px: widths as written, and for columns without one
// what their text needs at most.
func (c *rtfCompiler) columns(n *markup.Node, layout markup.Table, ctx rtfContext, padding float64) []float64 {
	widths, fixed := make([]float64, layout.Columns), make([]bool, layout.Columns)
	given := widthOf(n, ctx.width, ctx.text.Size)
	available := ctx.width
	if given > 0 {
		available = given
	}
	for pass := range 2 { // cells of one column first
		for _, cell := range layout.Cells {
			there := c.source.In(cell.Node, c.variant) && c.source.In(cell.Node.Parent, c.variant)
			if (cell.Cols == 1) != (pass == 0) || !there {
				continue
			}
			c.widen(widths[cell.Column:cell.Column+cell.Cols], fixed[cell.Column:cell.Column+cell.Cols], cell.Node, ctx, available, padding)
		}
	}
	total, loose := 0.0, 0.0
	for i, w := range widths {
		total += w
		if !fixed[i] {
			loose += w
		}
	}
	if over := total - available; loose > 0 && (over > 0 || given > 0) {
		for i := range widths {
			if !fixed[i] {
				widths[i] = max(widths[i]-over*widths[i]/loose, 20)
			}
		}
	}
	edges := []float64{0}
	for i, w := range widths {
		edges = append(edges, edges[i]+max(w, 4))
	}
	return edges
}

// widen gives a cell's columns the room that it asks for.
func (c *rtfCompiler) widen(widths []float64, fixed []bool, td *markup.Node, ctx rtfContext, available, padding float64) {
	want := widthOf(td, available, ctx.text.Size)
	given := want > 0
	sides := style.Sides{Left: padding, Right: padding}
	if own, ok := style.Box(td, "padding", ctx.text.Size); ok {
		sides = own
	}
	if given {
		if _, attribute := td.Attr("width"); !attribute {
			want += sides.Left + sides.Right
		}
	} else {
		want = c.extent(td, ctx.text.In(td)) + sides.Left + sides.Right
	}
	sum := 0.0
	for _, w := range widths {
		sum += w
	}
	last := len(widths) - 1
	for i := range widths {
		if !fixed[i] {
			last = i
		}
	}
	if want > sum && (len(widths) == 1 || !fixed[last]) {
		widths[last] += want - sum
	}
	if given && len(widths) == 1 {
		widths[0], fixed[0] = max(widths[0], want), true
	}
}

// fieldLetters is how many letters a value is taken to have when a column has no width.
const fieldLetters = 26

// extent guesses how wide an element's content is when nothing breaks its lines, in px.
func (c *rtfCompiler) extent(n *markup.Node, text style.Text) float64 {
	widest, line := 0.0, 0.0
	end := func() { widest, line = max(widest, line), 0 }
	var visit func(n *markup.Node, text style.Text)
	visit = func(n *markup.Node, text style.Text) {
		for _, child := range n.Children {
			switch {
			case child.Kind == markup.Text:
				pieces, _ := c.source.TextPieces(child)
				for _, p := range pieces {
					letters := fieldLetters
					if p.Expr == nil {
						letters = len([]rune(strings.Join(strings.Fields(markup.Unescape(p.Text)), " ")))
					}
					line += float64(letters) * text.Size * 0.56
				}
			case child.Is("br"):
				end()
			case child.Is("img"):
				line += float64(child.Pixels("width"))
			case child.Is("table"):
				end()
				edges := c.columns(child, markup.TableOf(child), rtfContext{text: text, width: rtfPageWidth}, 0)
				line = edges[len(edges)-1]
				end()
			case child.Kind == markup.Element && !markup.Unread(child):
				if markup.Block(child.Name) {
					end()
				}
				visit(child, text.In(child))
				if markup.Block(child.Name) {
					end()
				}
			}
		}
	}
	visit(n, text)
	end()
	return widest
}

// widthOf is the width that an element asks for, in px; 0 for none. A percentage is taken of the room.
func widthOf(n *markup.Node, room, size float64) float64 {
	value := attr(n, "width")
	if declared, ok := n.Declared("width"); ok {
		value = declared
	}
	if percent, ok := strings.CutSuffix(strings.TrimSpace(value), "%"); ok {
		share, _ := style.Length(percent, size)
		return room * share / 100
	}
	width, _ := style.Length(value, size)
	return width
}

// appendRTF appends text with what has a meaning in rich text escaped; letters beyond ASCII stand by their
// code with a question mark for readers that know none.
func appendRTF(dst []byte, s string) []byte {
	for _, r := range s {
		switch {
		case r == '\\' || r == '{' || r == '}':
			dst = append(dst, '\\', byte(r))
		case r == '\u00a0':
			dst = append(dst, `\~`...)
		case r < 0x80:
			dst = append(dst, byte(r))
		default:
			for _, unit := range utf16.Encode([]rune{r}) {
				dst = fmt.Appendf(dst, `\u%d\'3f`, int16(unit)) // 3f is the question mark
			}
		}
	}
	return dst
}
