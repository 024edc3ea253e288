package clean

import (
	"strings"

	"missivum/core/markup"
	"missivum/core/style"
)

// facts are what style sheets and attributes say of elements that decides where white space may be changed.
type facts struct {
	inline map[*markup.Node]bool // a block that is drawn in the line
	kept   map[*markup.Node]bool // white space in it is drawn
}

// facts reads the styles that reach each element.
func (t *cleaner) facts() facts {
	f := facts{map[*markup.Node]bool{}, map[*markup.Node]bool{}}
	styled := t.doc.Clone()
	style.Inline(styled)
	theirs := map[markup.Span]*markup.Node{} // by where they stand: inlining takes style sheets away
	for _, n := range styled.Elements() {
		theirs[n.Open] = n
	}
	for _, n := range t.elements() {
		if n.Is("pre", "textarea", "script", "style") {
			f.kept[n] = true
		}
		drawn := theirs[n.Open]
		if drawn == nil || drawn.Name != n.Name {
			continue
		}
		if display, ok := drawn.Declared("display"); ok && display != "block" && !strings.HasPrefix(display, "table") && display != "none" {
			f.inline[n] = true
		}
		if float, ok := drawn.Declared("float"); ok && float != "none" {
			f.inline[n] = true
		}
		if space, ok := drawn.Declared("white-space"); ok && space != "normal" && space != "nowrap" {
			f.kept[n] = true
		}
	}
	return f
}

// printer writes the tree with indents. White space is added and folded only where it is not drawn: beside
// blocks and at the edges of what they hold.
type printer struct {
	doc   *markup.Document
	facts facts
	b     strings.Builder
}

// print writes the document with indents.
func (p *printer) print() string {
	p.flow(p.doc.Root, 0)
	return strings.TrimSpace(p.b.String()) + "\n"
}

// block reports whether a node begins a line of its own.
func (p *printer) block(n *markup.Node) bool {
	switch n.Kind {
	case markup.Doctype, markup.Conditional:
		return n.Kind == markup.Doctype || n.Inside("body", "td", "p", "div") == nil
	case markup.Element:
		if p.facts.inline[n] || strings.Contains(strings.ToLower(n.Name), ":") {
			return false
		}
		return markup.Block(n.Name) || n.Is("html", "head", "title", "meta", "link", "style", "base") && n.Inside("td", "p", "div") == nil
	}
	return false
}

// flow writes an element's content, each block and each run of the line between blocks on a line of its own.
func (p *printer) flow(n *markup.Node, depth int) {
	var run []*markup.Node
	flush := func() {
		text := p.inline(run)
		run = nil
		if text != "" {
			p.line(depth, text)
		}
	}
	for _, c := range n.Children {
		if p.block(c) {
			flush()
			p.node(c, depth)
		} else {
			run = append(run, c)
		}
	}
	flush()
}

// line writes a line at a depth.
func (p *printer) line(depth int, text string) {
	p.b.WriteString(strings.Repeat("  ", depth) + text + "\n")
}

// node writes a block.
func (p *printer) node(n *markup.Node, depth int) {
	if n.Kind != markup.Element {
		p.line(depth, strings.TrimSpace(p.raw(n)))
		return
	}
	open, end := p.openTag(n), p.closeTag(n)
	switch {
	case p.facts.kept[n]:
		p.line(depth, open+strings.TrimRight(p.rawChildren(n), " \t\n")+p.pad(n)+end)
	case len(n.Children) == 0:
		p.line(depth, open+end)
	case !p.holdsBlock(n):
		p.line(depth, open+p.inline(n.Children)+end)
	default:
		p.line(depth, open)
		if n.Is("html") {
			depth-- // the page itself is not indented
		}
		p.flow(n, depth+1)
		if n.Is("html") {
			depth++
		}
		if end != "" {
			p.line(depth, end)
		}
	}
}

// pad puts the end of a style sheet on a line of its own.
func (p *printer) pad(n *markup.Node) string {
	if n.Is("style") && strings.Contains(p.rawChildren(n), "\n") {
		return "\n"
	}
	return ""
}

// holdsBlock reports whether an element has blocks in it.
func (p *printer) holdsBlock(n *markup.Node) bool {
	for _, c := range n.Children {
		if p.block(c) {
			return true
		}
	}
	return false
}

// inline writes a run of the line: white space folded, none at its edges.
func (p *printer) inline(nodes []*markup.Node) string {
	var b strings.Builder
	for _, n := range nodes {
		p.writeInline(&b, n)
	}
	return strings.Trim(b.String(), " \t\r\n")
}

// writeInline writes what must stay in one line, since white space in it is seen.
func (p *printer) writeInline(b *strings.Builder, n *markup.Node) {
	switch n.Kind {
	case markup.Text:
		text := fold(p.doc.OpenTag(n))
		if strings.HasSuffix(b.String(), " ") { // of the text before
			text = strings.TrimPrefix(text, " ")
		}
		b.WriteString(text)
	case markup.Element:
		b.WriteString(p.openTag(n))
		switch {
		case p.facts.kept[n]:
			b.WriteString(p.rawChildren(n))
		default:
			for _, c := range n.Children {
				p.writeInline(b, c)
			}
		}
		b.WriteString(p.closeTag(n))
	default:
		b.WriteString(p.raw(n))
	}
}

// fold makes runs of white space one space, but for those in fields.
func fold(s string) string {
	var b strings.Builder
	space, depth := false, 0
	for i := 0; i < len(s); i++ {
		c := s[i]
		switch {
		case strings.HasPrefix(s[i:], "{{"):
			depth = 1
		case strings.HasPrefix(s[i:], "}}"):
			depth = 0
		}
		if depth == 0 && strings.IndexByte(" \t\r\n\f", c) >= 0 {
			space = true
			continue
		}
		if space {
			b.WriteByte(' ')
			space = false
		}
		b.WriteByte(c)
	}
	if space {
		b.WriteByte(' ')
	}
	return b.String()
}

// raw is a node as it stands in the source.
func (p *printer) raw(n *markup.Node) string {
	return p.doc.OpenTag(n) + p.rawChildren(n) + p.doc.CloseTag(n)
}

// rawChildren is what is in a node, as it stands.
func (p *printer) rawChildren(n *markup.Node) string {
	var b strings.Builder
	for _, c := range n.Children {
		b.WriteString(p.raw(c))
	}
	return b.String()
}

// openTag writes a start tag with all values in quotes.
func (p *printer) openTag(n *markup.Node) string {
	var b strings.Builder
	b.WriteString("<" + n.Name)
	for _, a := range n.Attrs {
		b.WriteString(" " + a.Name)
		if value := p.doc.RawValue(a); value != "" || a.Name == "alt" || a.Name == "href" || a.Name == "src" {
			b.WriteString(`="` + value + `"`)
		}
	}
	b.WriteByte('>')
	return b.String()
}

// closeTag is an end tag, also where the source left it out.
func (p *printer) closeTag(n *markup.Node) string {
	if markup.Void(n.Name) {
		return ""
	}
	return "</" + n.Name + ">"
}
