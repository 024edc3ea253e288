// Package edit changes a template's source at places and leaves every other byte alone. An Editor collects edits for
// elements, attributes and declarations of a parsed source; Apply makes them. Fixes, new templates and cleaning use it.
// Start with New.
package edit

import (
	"slices"
	"sort"
	"strings"

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

// Apply makes the edits in a source. Edits that do not fit into it, or lie over each other, are an error and nothing is
// changed. Of several at one place each stands behind the one before it.
func Apply(source string, edits []Edit) (string, error) {
	list := slices.Clone(edits)
	sort.SliceStable(list, func(i, j int) bool { return list[i].Start < list[j].Start })
	var b strings.Builder
	at := 0
	for _, e := range list {
		if e.Start < at || e.End < e.Start || e.End > len(source) {
			return source, problem.New(problem.Invalid, "an edit of the bytes %d to %d does not fit", e.Start, e.End)
		}
		b.WriteString(source[at:e.Start])
		b.WriteString(e.Text)
		at = e.End
	}
	b.WriteString(source[at:])
	return b.String(), nil
}

// Editor collects edits of one source. When one of them cannot be made, none is.
type Editor struct {
	doc   *markup.Document
	edits []Edit
	// dropped are declarations that go; they are taken out together, since what parts them depends on what stays.
	dropped []markup.Span
	fails   bool
}

// New makes an editor of a source as it was parsed.
func New(doc *markup.Document) *Editor { return &Editor{doc: doc} }

// Document is the source that is edited.
func (h *Editor) Document() *markup.Document { return h.doc }

// Fail says that an edit cannot be made.
func (h *Editor) Fail() { h.fails = true }

// Empty reports whether nothing is edited and nothing failed.
func (h *Editor) Empty() bool { return !h.fails && len(h.edits) == 0 && len(h.dropped) == 0 }

// Edits gives the edits in the order of the source; false when one could not be made, when they lie over each other, or
// when there are none.
func (h *Editor) Edits() ([]Edit, bool) {
	h.takeOut()
	if h.fails || len(h.edits) == 0 {
		return nil, false
	}
	sort.SliceStable(h.edits, func(i, j int) bool { return h.edits[i].Start < h.edits[j].Start })
	for i := 1; i < len(h.edits); i++ {
		if h.edits[i].Start < h.edits[i-1].End {
			return nil, false
		}
	}
	return h.edits, true
}

// Replace puts a text in the place of a span.
func (h *Editor) Replace(span markup.Span, text string) {
	h.edits = append(h.edits, Edit{span.Start, span.End, text})
}

// Insert writes a text at a byte.
func (h *Editor) Insert(at int, text string) { h.Replace(markup.Span{Start: at, End: at}, text) }

// SetAttribute writes an attribute into the element's start tag.
func (h *Editor) SetAttribute(n *markup.Node, name, value string) {
	if n.Open.Len() == 0 {
		h.fails = true
		return
	}
	value = markup.EscapeAttr(value)
	if a := n.Attribute(name); a != nil {
		h.Replace(a.Span, name+`="`+value+`"`)
		return
	}
	h.Insert(tagEnd(h.doc, n), " "+name+`="`+value+`"`)
}

// tagEnd is where in a start tag another attribute can be written.
func tagEnd(doc *markup.Document, n *markup.Node) int {
	end := n.Open.End
	raw := doc.Raw(n)
	if k := len(n.Attrs); k > 0 && n.Attrs[k-1].Span.End == end-1 && strings.HasSuffix(raw, "/>") {
		return end - 1 // the slash is the end of an address without quotes
	}
	if strings.HasSuffix(raw, "/>") {
		end--
		raw = raw[:len(raw)-1]
	}
	end--
	raw = raw[:len(raw)-1]
	return end - (len(raw) - len(strings.TrimRight(raw, " \t\r\n")))
}

// RemoveAttribute takes an attribute out of the start tag, with the space before it.
func (h *Editor) RemoveAttribute(n *markup.Node, name string) {
	if a := n.Attribute(name); a != nil {
		h.Remove(a.Span)
	}
}

// Remove takes a span out, with the white space before it.
func (h *Editor) Remove(span markup.Span) {
	for span.Start > 0 && strings.ContainsRune(" \t\r\n", rune(h.doc.Source[span.Start-1])) {
		span.Start--
	}
	h.Replace(span, "")
}

// Declare writes a declaration at the end of an element's style attribute.
func (h *Editor) Declare(n *markup.Node, text string) {
	a := n.Attribute("style")
	if a == nil {
		h.SetAttribute(n, "style", text)
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
	h.Replace(markup.Span{Start: a.Inner.Start + len(trimmed), End: a.Inner.End}, text)
}

// Beside writes a declaration behind one that stands in a style attribute or in a sheet.
func (h *Editor) Beside(declaration markup.Span, text string) {
	if !h.IsDeclaration(declaration) {
		h.fails = true
		return
	}
	h.Insert(declaration.End, "; "+text)
}

// IsDeclaration reports whether the place is that of one declaration and not of a whole attribute.
func (h *Editor) IsDeclaration(span markup.Span) bool {
	text := h.doc.Source[span.Start:span.End]
	return span.Len() > 0 && strings.Contains(text, ":") && !strings.HasPrefix(strings.ToLower(text), "style")
}

// SetValue writes another value into a declaration.
func (h *Editor) SetValue(declaration markup.Span, value string) {
	if !h.IsDeclaration(declaration) {
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
	h.Replace(markup.Span{Start: declaration.Start + from, End: declaration.Start + to}, value)
}

// quoteAround is the sign that ends the attribute in which a declaration stands; empty for one in a sheet.
func (h *Editor) quoteAround(span markup.Span) string {
	for _, n := range h.doc.Root.Elements() {
		if a := n.Attribute("style"); a != nil && a.Inner.Start <= span.Start && span.End <= a.Inner.End {
			return h.doc.Source[a.Inner.Start-1 : a.Inner.Start]
		}
	}
	return ""
}

// Drop takes a declaration out when the edits are made: with the semicolon that parts it from the others, and with the
// style attribute where none is left in it.
func (h *Editor) Drop(declaration markup.Span) {
	if !h.IsDeclaration(declaration) {
		h.fails = true
		return
	}
	h.dropped = append(h.dropped, declaration)
}

// takeOut makes the edits for all declarations that were dropped.
func (h *Editor) takeOut() {
	if len(h.dropped) == 0 {
		return
	}
	for _, n := range h.doc.Root.Elements() {
		if left := h.takeOutOf(Declarations(n)); left == 0 {
			h.RemoveAttribute(n, "style")
		}
		if n.Name != "style" {
			continue
		}
		for _, text := range n.Children {
			for _, rule := range style.ParseSheet(text.Data, text.Open.Start).Rules {
				if left := h.takeOutOf(rule.Declarations); left == 0 {
					h.Remove(rule.Span)
				}
			}
		}
	}
	h.dropped = nil
}

// takeOutOf takes the dropped ones out of a list of declarations, each run of them with the signs up to the next one
// that stays, the last run with those before it. It gives how many stay; when none does, nothing is edited. -1: none
// of them was dropped.
func (h *Editor) takeOutOf(list []markup.Declaration) int {
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
			h.Replace(markup.Span{Start: list[first].Span.Start, End: list[i].Span.Start}, "")
		default:
			h.Replace(markup.Span{Start: list[first-1].Span.End, End: list[i-1].Span.End}, "")
		}
	}
	return left
}

// Rename gives an element another name in both tags.
func (h *Editor) Rename(n *markup.Node, name string) {
	if n.Close.Len() == 0 {
		h.fails = true
		return
	}
	h.Replace(markup.Span{Start: n.Open.Start + 1, End: n.Open.Start + 1 + len(n.Name)}, name)
	h.Replace(n.Close, "</"+name+">")
}

// Unwrap takes an element's tags out and leaves its content.
func (h *Editor) Unwrap(n *markup.Node) {
	h.Replace(n.Open, "")
	if n.Close.Len() > 0 {
		h.Replace(n.Close, "")
	}
}

// WrapContent writes tags around an element's content.
func (h *Editor) WrapContent(n *markup.Node, open, closing string) {
	if n.Close.Len() == 0 {
		h.fails = true
		return
	}
	h.Insert(n.Open.End, open)
	h.Insert(n.Close.Start, closing)
}

// Wrap writes tags around an element.
func (h *Editor) Wrap(n *markup.Node, open, closing string) {
	if n.Close.Len() == 0 && !markup.Void(n.Name) {
		h.fails = true
		return
	}
	h.Insert(n.Open.Start, open)
	h.Insert(max(n.Close.End, n.Open.End), closing)
}

// Declarations are those of an element's style attribute, with their places in the source.
func Declarations(n *markup.Node) []markup.Declaration {
	a := n.Attribute("style")
	if a == nil {
		return nil
	}
	return style.ParseDeclarations(a.Value, a.Inner.Start)
}

// Within reports whether a declaration stands in the element's own style attribute.
func Within(n *markup.Node, declaration markup.Span) bool {
	a := n.Attribute("style")
	return a != nil && a.Inner.Start <= declaration.Start && declaration.End <= a.Inner.End
}
