package markup

import "strings"

// Unread reports whether an element has nothing to read: it is not shown, or it is not text.
func Unread(n *Node) bool {
	if display, ok := n.Declared("display"); ok && strings.TrimSpace(display) == "none" {
		return true
	}
	return n.Is("head", "style", "script", "title", "meta", "link", "svg", "object", "iframe", "select", "textarea")
}

// Decoration reports whether a picture says nothing: a line or a spacer, or one that says so itself.
func Decoration(img *Node) bool {
	role, _ := img.Attr("role")
	hidden, _ := img.Attr("aria-hidden")
	width, height := img.Pixels("width"), img.Pixels("height")
	return role == "presentation" || role == "none" || hidden == "true" || width > 0 && width <= 3 || height > 0 && height <= 3
}

// SimpleRow reports whether a table row is read as one line: its cells hold a little text each, such as a label and its
// value.
func SimpleRow(row *Node) bool {
	simple := true
	row.Walk(func(n *Node) bool {
		if n != row && (n.Is("br", "img", "table") || n.Kind == Element && Block(n.Name) && !n.Is("td", "th")) {
			simple = false
		}
		return simple
	})
	return simple
}

// StandsApart reports whether an empty line stands around a block: paragraphs, headings and lists, unless their margin
// was set to nothing.
func StandsApart(n *Node) bool {
	if !n.Is("p", "h1", "h2", "h3", "h4", "h5", "h6", "ul", "ol", "blockquote", "hr") {
		return false
	}
	margin, ok := n.Declared("margin")
	return !ok || !strings.HasPrefix(strings.TrimSpace(margin), "0")
}
