package clean

import (
	"fmt"
	"slices"
	"strings"

	"missivum/core/field"
	"missivum/core/markup"
	"missivum/core/style"
)

// metric properties change how tall a line is, even around nothing.
var metric = []string{"font", "font-size", "font-family", "line-height", "vertical-align"}

// textual properties are inherited and touch nothing but letters.
var textual = []string{"color", "font-weight", "font-style", "font-variant", "letter-spacing", "font", "font-size",
	"font-family", "line-height", "text-transform"}

// nesting takes one round of needless elements away and reports whether there were any.
func (t *cleaner) nesting() bool {
	changed := false
	for _, n := range t.elements() {
		if n.Parent == nil || own(n) {
			continue
		}
		switch {
		case t.named(n.Name):
			// a rule is about elements of that name
		case inlineName(n.Name) && len(n.Children) == 0 && drawsNothing(n) && t.mayJoin(before(n), after(n)):
			n.Remove()
			t.did("empty elements")
			changed = true
		case n.Is("span", "font") && len(n.Attrs) == 0 && len(n.Children) > 0 &&
			t.mayJoin(before(n), n.Children[0]) && t.mayJoin(n.Children[len(n.Children)-1], after(n)):
			n.Unwrap()
			t.did("elements around nothing special")
			changed = true
		case n.Is("span") && t.merge(n):
			t.did("spans in spans")
			changed = true
		case n.Is("div") && len(n.Attrs) == 0 && onlyBlocks(n) && !t.structural():
			n.Unwrap()
			t.did("needless blocks")
			changed = true
		case inlineName(n.Name) && t.join(n):
			t.did("neighbours that look the same")
			changed = true
		}
	}
	return changed
}

// mayJoin reports whether two pieces may become neighbours: they are not both text, or that is wanted.
func (t *cleaner) mayJoin(a, b *markup.Node) bool {
	return t.options.JoinText || a == nil || b == nil || a.Kind != markup.Text || b.Kind != markup.Text
}

// before is the node before one, or nil.
func before(n *markup.Node) *markup.Node {
	if at := slices.Index(n.Parent.Children, n); at > 0 {
		return n.Parent.Children[at-1]
	}
	return nil
}

// after is the node behind one, or nil.
func after(n *markup.Node) *markup.Node {
	if at := slices.Index(n.Parent.Children, n); at+1 < len(n.Parent.Children) {
		return n.Parent.Children[at+1]
	}
	return nil
}

// needless lists the elements that could go and stay since letters might move.
func (t *cleaner) needless() {
	var first *markup.Node
	count := 0
	for _, n := range t.elements("span", "font") {
		if len(n.Attrs) == 0 && !t.named(n.Name) {
			if count++; first == nil {
				first = n
			}
		}
	}
	if first != nil {
		t.leave(first, fmt.Sprintf("needless tags in running text: %d", count),
			"They do nothing, but letters next to each other without them may move by a part of a pixel; ask for it to have them dropped.")
	}
}

// own reports whether an element carries an attribute of the template language.
func own(n *markup.Node) bool {
	return slices.ContainsFunc(n.Attrs, func(a markup.Attr) bool { return field.Own(a.Name) || field.HasField(a.Value) })
}

// inlineName reports elements that stand in a line.
func inlineName(name string) bool {
	return slices.Contains([]string{"span", "font", "b", "i", "u", "strong", "em", "small"}, name)
}

// named reports whether a style sheet has a rule about elements of that name.
func (t *cleaner) named(name string) bool {
	for rest := t.sheet; ; {
		at := strings.Index(rest, name)
		if at < 0 {
			return false
		}
		before, after := byte(' '), byte(' ')
		if at > 0 {
			before = rest[at-1]
		}
		if at+len(name) < len(rest) {
			after = rest[at+len(name)]
		}
		if strings.IndexByte(" \t\r\n,}>+~*(", before) >= 0 && strings.IndexByte(" \t\r\n,{>+~.:#[)", after) >= 0 {
			return true
		}
		rest = rest[at+len(name):]
	}
}

// structural reports whether a style sheet asks how elements are nested.
func (t *cleaner) structural() bool {
	return strings.ContainsAny(t.sheet, ">+~*") || strings.Contains(t.sheet, "-child") || strings.Contains(t.sheet, "-of-type")
}

// drawsNothing reports whether an empty element leaves no trace: no box of its own, no taller line.
func drawsNothing(n *markup.Node) bool {
	for _, a := range n.Attrs {
		if a.Name != "style" && a.Name != "lang" && a.Name != "title" && !(n.Is("font") && a.Name == "color") {
			return false
		}
	}
	value, _ := n.Attr("style")
	for _, d := range style.ParseDeclarations(value, 0) {
		if !slices.Contains(textual, d.Property) || slices.Contains(metric, d.Property) {
			return false
		}
	}
	return true
}

// merge joins a span with the only thing in it, another span, when neither has a box and not both change how
// tall the line is.
func (t *cleaner) merge(n *markup.Node) bool {
	if len(n.Children) != 1 || !n.Children[0].Is("span") || own(n.Children[0]) {
		return false
	}
	inner := n.Children[0]
	outer, ok := textOnly(n)
	if !ok {
		return false
	}
	within, ok := textOnly(inner)
	if !ok || metrical(outer) && metrical(within) {
		return false
	}
	var all []markup.Declaration
	for _, d := range outer {
		if !slices.ContainsFunc(within, func(w markup.Declaration) bool { return w.Property == d.Property }) {
			all = append(all, d)
		}
	}
	if len(inner.Attrs) > 0 || len(n.Attrs) > 0 {
		n.SetStyle(append(all, within...))
	}
	inner.Unwrap()
	return true
}

// textOnly gives the declarations of an element that has a style attribute at most, and in it only textual
// ones that do not depend on what is around.
func textOnly(n *markup.Node) ([]markup.Declaration, bool) {
	for _, a := range n.Attrs {
		if a.Name != "style" {
			return nil, false
		}
	}
	value, _ := n.Attr("style")
	list := style.ParseDeclarations(value, 0)
	for _, d := range list {
		if !slices.Contains(textual, d.Property) || d.Important || strings.HasSuffix(d.Value, "em") ||
			strings.HasSuffix(d.Value, "%") || d.Value == "inherit" ||
			slices.Contains([]string{"bolder", "lighter", "larger", "smaller"}, d.Value) || d.Property == "font" {
			return nil, false
		}
	}
	return list, true
}

// metrical reports whether declarations move letters.
func metrical(list []markup.Declaration) bool {
	return slices.ContainsFunc(list, func(d markup.Declaration) bool { return slices.Contains(metric, d.Property) })
}

// onlyBlocks reports whether an element holds blocks and white space alone. Text would run into what stands
// before without it.
func onlyBlocks(n *markup.Node) bool {
	blocks := 0
	for _, c := range n.Children {
		switch {
		case c.Kind == markup.Text && strings.TrimSpace(c.Data) == "" && !strings.Contains(c.Data, "\u00a0"):
		case c.Is("div", "p", "table", "ul", "ol", "h1", "h2", "h3", "h4", "h5", "h6", "blockquote"):
			if display(c) != "" {
				return false
			}
			blocks++
		default:
			return false
		}
	}
	return blocks > 0
}

// display is what an element's own style says of its display, float or position; empty for nothing.
func display(n *markup.Node) string {
	value, _ := n.Attr("style")
	for _, d := range style.ParseDeclarations(value, 0) {
		if d.Property == "display" || d.Property == "float" || d.Property == "position" {
			return d.Value
		}
	}
	return ""
}

// join adds the next element's content to this one when both have the same name and attributes and nothing
// stands between them.
func (t *cleaner) join(n *markup.Node) bool {
	if len(n.Attrs) == 0 && !n.Is("b", "i", "u", "strong", "em") {
		return false
	}
	siblings := n.Parent.Children
	at := slices.Index(siblings, n)
	if at+1 >= len(siblings) || siblings[at+1].Name != n.Name || siblings[at+1].Kind != markup.Element || own(siblings[at+1]) {
		return false
	}
	next := siblings[at+1]
	if n.Is("span") {
		if _, ok := textOnly(n); !ok {
			return false
		}
	}
	same := slices.EqualFunc(n.Attrs, next.Attrs, func(a, b markup.Attr) bool { return a.Name == b.Name && a.Value == b.Value })
	if !same || len(n.Children) == 0 || len(next.Children) == 0 || !t.mayJoin(n.Children[len(n.Children)-1], next.Children[0]) {
		return false
	}
	for _, c := range next.Children {
		n.Append(c)
	}
	next.Children = nil
	next.Remove()
	return true
}
