package check

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	"missivum/core/client"
	"missivum/core/markup"
	"missivum/core/problem"
	"missivum/core/style"
)

// Edit puts a text in the place of the source's bytes from Start up to End.
type Edit struct {
	Start int    `json:"start"`
	End   int    `json:"end"`
	Text  string `json:"text"`
}

// Fix puts a finding right by edits of the source. Every byte outside them stays as it is.
type Fix struct {
	Title string `json:"title"` // what it does, as an instruction
	Edits []Edit `json:"edits"` // in the order of the source, none over another
	Safe  bool   `json:"safe"`  // no client shows less after it than before
	Costs string `json:"costs"` // where it is not safe: what is lost by it
	// Pictures are files that it makes.
	Pictures []Redraw `json:"pictures,omitempty"`
}

// Apply makes the edits in a source. Edits that do not fit into it, or lie over each other, are an error and
// nothing is changed.
func Apply(source string, edits []Edit) (_ string, err error) {
	defer func() { err = problem.As(problem.Invalid, err) }()
	list := slices.Clone(edits)
	sort.SliceStable(list, func(i, j int) bool { return list[i].Start < list[j].Start })
	var b strings.Builder
	at := 0
	for _, e := range list {
		if e.Start < at || e.End < e.Start || e.End > len(source) {
			return source, fmt.Errorf("an edit of the bytes %d to %d does not fit", e.Start, e.End)
		}
		b.WriteString(source[at:e.Start])
		b.WriteString(e.Text)
		at = e.End
	}
	b.WriteString(source[at:])
	return b.String(), nil
}

// target is what a fix is for: a place that one or several profiles do something to.
type target struct {
	nodes     []*markup.Node // of the source as written
	span      markup.Span
	property  string // a declaration's; empty for others
	value     string
	behaviour *client.Behaviour
}

// first is the first node.
func (t target) first() *markup.Node { return t.nodes[0] }

// hand makes edits for a fix. When one of them cannot be made the fix is none.
type hand struct {
	doc   *markup.Document
	edits []Edit
	// dropped are declarations that go; they are taken out together, since what parts them depends on what stays.
	dropped []markup.Span
	fails   bool
}

func (p *Pass) hand() *hand { return &hand{doc: p.Source} }

// fix gives the fix that the edits make, or nil.
func (h *hand) fix(title string) *Fix {
	h.takeOut()
	if h.fails || len(h.edits) == 0 {
		return nil
	}
	sort.SliceStable(h.edits, func(i, j int) bool { return h.edits[i].Start < h.edits[j].Start })
	for i := 1; i < len(h.edits); i++ {
		if h.edits[i].Start < h.edits[i-1].End {
			return nil
		}
	}
	return &Fix{Title: title, Edits: h.edits, Safe: true}
}

// costly is fix for one that is not safe.
func (h *hand) costly(title, costs string) *Fix {
	m := h.fix(title)
	if m != nil {
		m.Safe, m.Costs = false, costs
	}
	return m
}

func (h *hand) replace(span markup.Span, text string) {
	h.edits = append(h.edits, Edit{span.Start, span.End, text})
}

func (h *hand) insert(at int, text string) { h.replace(markup.Span{Start: at, End: at}, text) }

// setAttribute writes an attribute into the element's start tag.
func (h *hand) setAttribute(n *markup.Node, name, value string) {
	if n.Open.Len() == 0 {
		h.fails = true
		return
	}
	value = markup.EscapeAttr(value)
	if a := n.Attribute(name); a != nil {
		h.replace(a.Span, name+`="`+value+`"`)
		return
	}
	h.insert(tagEnd(h.doc, n), " "+name+`="`+value+`"`)
}

// tagEnd is where in a start tag another attribute can be written.
func tagEnd(doc *markup.Document, n *markup.Node) int {
	end := n.Open.End
	raw := doc.Raw(n)
	if strings.HasSuffix(raw, "/>") {
		end--
		raw = raw[:len(raw)-1]
	}
	end--
	raw = raw[:len(raw)-1]
	return end - (len(raw) - len(strings.TrimRight(raw, " \t\r\n")))
}

// removeAttribute takes an attribute out of the start tag, with the space before it.
func (h *hand) removeAttribute(n *markup.Node, name string) {
	if a := n.Attribute(name); a != nil {
		h.remove(a.Span)
	}
}

// remove takes a span out, with the white space before it.
func (h *hand) remove(span markup.Span) {
	for span.Start > 0 && strings.ContainsRune(" \t\r\n", rune(h.doc.Source[span.Start-1])) {
		span.Start--
	}
	h.replace(span, "")
}

// declare writes a declaration at the end of an element's style attribute.
func (h *hand) declare(n *markup.Node, text string) {
	a := n.Attribute("style")
	if a == nil {
		h.setAttribute(n, "style", text)
		return
	}
	inner := h.doc.Source[a.Inner.Start:a.Inner.End]
	trimmed := strings.TrimRight(inner, " ;\t\r\n")
	quote := `"`
	if a.Inner.Start > 0 {
		quote = h.doc.Source[a.Inner.Start-1 : a.Inner.Start]
	}
	if quote != `"` && quote != "'" || strings.Contains(text, quote) {
		h.fails = true
		return
	}
	if trimmed != "" {
		text = "; " + text
	}
	h.replace(markup.Span{Start: a.Inner.Start + len(trimmed), End: a.Inner.End}, text)
}

// beside writes a declaration behind one that stands in a style attribute or in a sheet.
func (h *hand) beside(declaration markup.Span, text string) {
	if !h.isDeclaration(declaration) {
		h.fails = true
		return
	}
	h.insert(declaration.End, "; "+text)
}

// isDeclaration tells the place of one declaration from that of a whole attribute.
func (h *hand) isDeclaration(span markup.Span) bool {
	text := h.doc.Source[span.Start:span.End]
	return span.Len() > 0 && strings.Contains(text, ":") && !strings.HasPrefix(strings.ToLower(text), "style")
}

// setValue writes another value into a declaration.
func (h *hand) setValue(declaration markup.Span, value string) {
	if !h.isDeclaration(declaration) {
		h.fails = true
		return
	}
	text := h.doc.Source[declaration.Start:declaration.End]
	colon := strings.IndexByte(text, ':')
	rest := text[colon+1:]
	from := colon + 1 + len(rest) - len(strings.TrimLeft(rest, " \t\r\n"))
	to := len(text)
	if bang := strings.LastIndexByte(text, '!'); bang > from {
		to = bang - (len(text[:bang]) - len(strings.TrimRight(text[:bang], " ")))
	}
	if strings.ContainsAny(value, "\"'") && strings.ContainsAny(value, h.quoteAround(declaration)) {
		h.fails = true
		return
	}
	h.replace(markup.Span{Start: declaration.Start + from, End: declaration.Start + to}, value)
}

// quoteAround is the sign that ends the attribute in which a declaration stands; empty for one in a sheet.
func (h *hand) quoteAround(span markup.Span) string {
	for _, n := range h.doc.Root.Elements() {
		if a := n.Attribute("style"); a != nil && a.Inner.Start <= span.Start && span.End <= a.Inner.End {
			return h.doc.Source[a.Inner.Start-1 : a.Inner.Start]
		}
	}
	return ""
}

// drop takes a declaration out when the fix is made: with the semicolon that parts it from the others, and with the
// style attribute where none is left in it.
func (h *hand) drop(declaration markup.Span) {
	if !h.isDeclaration(declaration) {
		h.fails = true
		return
	}
	h.dropped = append(h.dropped, declaration)
}

// takeOut makes the edits for all declarations that were dropped.
func (h *hand) takeOut() {
	if len(h.dropped) == 0 {
		return
	}
	for _, n := range h.doc.Root.Elements() {
		if left := h.takeOutOf(ownDeclarations(n)); left == 0 {
			h.removeAttribute(n, "style")
		}
		if n.Name != "style" {
			continue
		}
		for _, text := range n.Children {
			for _, rule := range style.ParseSheet(text.Data, text.Open.Start).Rules {
				if left := h.takeOutOf(rule.Declarations); left == 0 {
					h.remove(rule.Span)
				}
			}
		}
	}
}

// takeOutOf takes the dropped ones out of a list of declarations, each run of them with the signs up to the next one
// that stays, the last run with those before it. It tells how many stay; when none does, nothing is edited. -1: none
// of them was dropped.
func (h *hand) takeOutOf(list []markup.Declaration) int {
	goes := func(i int) bool { return slices.Contains(h.dropped, list[i].Span) }
	left := 0
	for i := range list {
		if !goes(i) {
			left++
		}
	}
	if left == len(list) {
		return -1
	}
	for i := 0; left > 0 && i < len(list); i++ {
		first := i
		for i < len(list) && goes(i) {
			i++
		}
		switch {
		case i == first:
		case i < len(list):
			h.replace(markup.Span{Start: list[first].Span.Start, End: list[i].Span.Start}, "")
		default:
			h.replace(markup.Span{Start: list[first-1].Span.End, End: list[i-1].Span.End}, "")
		}
	}
	return left
}

// rename gives an element another name in both tags.
func (h *hand) rename(n *markup.Node, name string) {
	if n.Close.Len() == 0 {
		h.fails = true
		return
	}
	h.replace(markup.Span{Start: n.Open.Start + 1, End: n.Open.Start + 1 + len(n.Name)}, name)
	h.replace(n.Close, "</"+name+">")
}

// unwrap takes an element's tags out and leaves its content.
func (h *hand) unwrap(n *markup.Node) {
	h.replace(n.Open, "")
	if n.Close.Len() > 0 {
		h.replace(n.Close, "")
	}
}

// wrapContent writes tags around an element's content.
func (h *hand) wrapContent(n *markup.Node, open, closing string) {
	if n.Close.Len() == 0 {
		h.fails = true
		return
	}
	h.insert(n.Open.End, open)
	h.insert(n.Close.Start, closing)
}

// wrap writes tags around an element.
func (h *hand) wrap(n *markup.Node, open, closing string) {
	if n.Close.Len() == 0 && !markup.Void(n.Name) {
		h.fails = true
		return
	}
	h.insert(n.Open.Start, open)
	h.insert(max(n.Close.End, n.Open.End), closing)
}

// sourceNode finds the element of the source as written that a node of the prepared document came from; nil when
// it came from none.
func (p *Pass) sourceNode(n *markup.Node) *markup.Node {
	if p.written == nil {
		p.written = map[int]*markup.Node{}
		for _, e := range p.Source.Root.Elements() {
			p.written[e.Open.Start] = e
		}
	}
	if n.Open.Len() == 0 {
		return nil
	}
	return p.written[n.Open.Start]
}

// within reports whether a declaration stands in the element's own style attribute.
func within(n *markup.Node, declaration markup.Span) bool {
	a := n.Attribute("style")
	return a != nil && a.Inner.Start <= declaration.Start && declaration.End <= a.Inner.End
}
