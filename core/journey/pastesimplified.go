package journey

import (
	"reflect"
	"slices"

	"missivum/core/markup"
	"missivum/core/style"
)

// simplified takes away what Chromium's editor takes away from all that is pasted: a div without attributes that is the only thing in
// an element, and elements in a line that hold one thing and look like the one around them. Measured with the installed one.
func simplified(root *markup.Node) {
	var gone []*markup.Node
	var visit func(n *markup.Node)
	visit = func(n *markup.Node) {
		for i, c := range n.Children {
			switch {
			case c.Kind != markup.Conditional && len(c.Children) > 0:
				visit(c)
			case c.Kind != markup.Text || i == len(n.Children)-1:
				gone = append(gone, needless(root, n)...)
			}
		}
	}
	visit(root)
	for _, n := range gone {
		n.Unwrap()
	}
}

// needless are the elements from one that holds a leaf upwards that can be done without.
func needless(root, start *markup.Node) (list []*markup.Node) {
	if start.Silent() {
		start = around(start)
	}
	var top *markup.Node // looks like start does
	for n := start; n != root; {
		if around(n) != root && n.Is("div") && len(n.Attrs) == 0 && holdsOne(around(n)) {
			list = append(list, n)
		}
		if n = around(n); !inLine(n) {
			continue
		}
		if !holdsOne(n) {
			top = nil
			break
		}
		if looksLike(start, n) {
			top = n
		}
	}
	if top != nil {
		for n := start; n != top; n = around(n) {
			list = append(list, n)
		}
	}
	return list
}

// around is the element around one whose tags are there.
func around(n *markup.Node) *markup.Node {
	for n = n.Parent; n.Silent(); n = n.Parent {
	}
	return n
}

// holdsOne reports whether an element holds one thing, but for elements whose tags are left out.
func holdsOne(n *markup.Node) bool {
	for len(n.Children) == 1 && n.Children[0].Silent() {
		n = n.Children[0]
	}
	return len(n.Children) == 1
}

// plainInLine are elements in a line whose look is all in style.Text.
var plainInLine = []string{"a", "span", "font", "i", "em", "cite", "dfn", "var", "abbr", "acronym", "label", "b", "strong"}

// inLine reports whether an element is laid out as part of a line.
func inLine(n *markup.Node) bool {
	display, declared := n.Declared("display")
	return n.Is(plainInLine...) && (!declared || display == "inline") ||
		n.Is("u", "s", "small", "big", "sub", "sup", "code", "tt", "ins", "del")
}

// looksLike reports whether an element looks like one around it: it and those between say nothing that shows.
func looksLike(inner, outer *markup.Node) bool {
	for n := inner; n != outer; n = around(n) {
		// a bold one in a bold one is bolder, a line under a line is another, and a link is more than its look
		if !n.Is(plainInLine...) || n.Is("a", "b", "strong") || slices.ContainsFunc(n.Style, func(d markup.Declaration) bool {
			return !slices.Contains([]string{"color", "font-family", "font-size", "font-style", "font-weight"}, d.Property)
		}) {
			return false
		}
	}
	return reflect.DeepEqual(textIn(inner), textIn(outer))
}

// textIn is how text looks in an element.
func textIn(n *markup.Node) style.Text {
	if n.Parent == nil {
		return style.PlainText
	}
	return textIn(n.Parent).In(n)
}
