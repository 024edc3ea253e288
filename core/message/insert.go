package message

import (
	"sort"
	"strings"

	"golang.org/x/net/html/atom"
)

// Insertion is where something is put into a text, and what must stand around it there, so that it is in nobody's
// paragraph: end tags before and start tags behind.
type Insertion struct {
	At     int
	Before string
	Behind string
	Gap    string // a line break where nothing else keeps what is put in apart from the text above it
	Below  string // the same towards what follows
}

// UnderNewest is where something stands directly under the newest text.
func (p *Place) UnderNewest() Insertion {
	switch {
	case p.page == nil && p.last < 0:
		return Insertion{At: p.At}
	case p.page == nil:
		return Insertion{At: p.lines[p.last].end}
	case p.last < 0:
		return Insertion{At: p.page.begin()}
	}
	from := p.page.elementAt(p.lines[p.last].end - 1)
	within := -1
	if p.next < len(p.lines) {
		within = p.page.common(from, p.page.elementAt(p.lines[p.next].start))
	} else {
		within = p.page.root(from)
	}
	in := p.page.behind(p.lines[p.last].end, from, within)
	if p.next == p.last+1 && p.next < len(p.lines) {
		in.Below = "<br>\n"
	}
	return in
}

// AtEnd is where something stands under everything.
func (p *Place) AtEnd() Insertion {
	if p.page == nil {
		return Insertion{At: p.textEnd()}
	}
	last := len(p.lines) - 1
	for last >= 0 && p.lines[last].blank() {
		last--
	}
	if last < 0 {
		return Insertion{At: p.page.begin()}
	}
	from := p.page.elementAt(p.lines[last].end - 1)
	return p.page.behind(p.lines[last].end, from, p.page.root(from))
}

// textEnd is the end of a text without the blank lines there.
func (p *Place) textEnd() int {
	for i := len(p.lines) - 1; i >= 0; i-- {
		if !p.lines[i].blank() {
			return p.lines[i].end
		}
	}
	return 0
}

// AtTop is where something stands above everything.
func (p *Place) AtTop() Insertion {
	if p.page == nil {
		return Insertion{}
	}
	return Insertion{At: p.page.begin()}
}

// begin is where the body's content begins.
func (p *page) begin() int {
	if p.body >= 0 {
		return p.elements[p.body].inner
	}
	at := p.headEnd
	for _, e := range p.elements {
		if e.tag == atom.Html && e.inner > at {
			at = e.inner
		}
		if e.start > at {
			break
		}
	}
	if at == 0 && len(p.source) > 1 && p.source[0] == '<' && p.source[1] == '!' { // a doctype or a comment before anything else
		if len(p.elements) > 0 {
			at = p.elements[0].start
		}
	}
	return at
}

// elementAt is the innermost element that holds an offset; -1 for none.
func (p *page) elementAt(at int) int {
	i := sort.Search(len(p.elements), func(i int) bool { return p.elements[i].start > at }) - 1
	for i >= 0 && p.elements[i].end <= at {
		i = p.elements[i].parent
	}
	return i
}

// common is the innermost element that holds both; -1 for none.
func (p *page) common(a, b int) int {
	seen := map[int]bool{}
	for ; a >= 0; a = p.elements[a].parent {
		seen[a] = true
	}
	for b >= 0 && !seen[b] {
		b = p.elements[b].parent
	}
	return b
}

// root is the body that holds an element, or the page; -1 for the latter.
func (p *page) root(e int) int {
	for ; e >= 0; e = p.elements[e].parent {
		if t := p.elements[e].tag; t == atom.Body || t == atom.Html {
			return e
		}
	}
	return -1
}

// strict are elements that hold certain elements only, so that nothing may be put directly into them.
var strict = map[atom.Atom]bool{atom.Table: true, atom.Tbody: true, atom.Thead: true, atom.Tfoot: true, atom.Tr: true, atom.Ul: true,
	atom.Ol: true, atom.Dl: true, atom.Select: true, atom.Colgroup: true}

// maxSplit is how many elements are ended, and begun anew, around a signature.
const maxSplit = 100

// behind is the insertion behind the child of within that holds the end of a line, which stands in the element from.
func (p *page) behind(lineEnd, from, within int) Insertion {
	child, cell, open, opened := -1, -1, "", 0
	for e := from; e >= 0 && e != within; e = p.elements[e].parent {
		child = e
		if !strict[p.elements[e].tag] {
			cell = e
		}
		if el := &p.elements[e]; el.close == el.end && el.splits() && el.tag != atom.P && opened < maxSplit {
			opened++
			open += "</" + el.tag.String() + ">"
		}
	}
	if within >= 0 && strict[p.elements[within].tag] && cell >= 0 {
		return Insertion{At: p.elements[cell].close, Before: open}
	}
	in := Insertion{At: lineEnd, Before: open}
	if !p.spaced(from) {
		in.Gap = "<br>\n"
	}
	if child >= 0 {
		in.At = p.elements[child].end
	}
	for e := within; e >= 0 && p.elements[e].splits() && opened < maxSplit; e = p.elements[e].parent {
		opened++
		el := &p.elements[e]
		in.Before += "</" + el.tag.String() + ">"
		in.Behind = p.source[el.start:el.inner] + in.Behind
	}
	return in
}

// spaced reports whether a line stands in a paragraph that has its usual space below it.
func (p *page) spaced(e int) bool {
	for ; e >= 0 && !blocks[p.elements[e].tag]; e = p.elements[e].parent {
	}
	if e < 0 || p.elements[e].tag != atom.P {
		return false
	}
	tag := strings.ToLower(p.source[p.elements[e].start:p.elements[e].inner])
	return !strings.Contains(tag, "margin") && !strings.Contains(tag, "mso")
}

// Seen is the text that a reader sees in a part of a page or a text, without white space and signs of quotation; for
// comparisons.
func Seen(page bool, source string) string {
	lines := textLines(source)
	if page {
		lines = readPage(source).lines
	}
	var b strings.Builder
	for _, l := range lines {
		b.WriteString(strings.ReplaceAll(l.text, " ", ""))
	}
	return b.String()
}
