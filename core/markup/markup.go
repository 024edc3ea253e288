// Package markup reads HTML source into a tree in which every element, attribute and text
// knows the bytes it came from, and writes the tree back: what was not changed comes out byte
// for byte as it went in. Conditional comments are kept, and their content is part of the tree.
// Start with Parse, Document.Render and Document.Place.
package markup

import (
	"sort"
	"strconv"
	"strings"
	"unicode/utf8"

	"golang.org/x/net/html"
)

// Kind says what a Node is.
type Kind uint8

// The kinds of node.
const (
	Root        Kind = iota // the document itself
	Element                 // a start tag, its children and its end tag
	Text                    // characters between tags
	Comment                 // a comment, also one half of a revealed conditional comment
	Conditional             // <!--[if ...]> ... <![endif]-->; the content is in Children
	Doctype                 // <!DOCTYPE ...>
	Stray                   // an end tag that closes nothing
)

// Span is a half-open range of byte offsets in the source. The zero Span means "not in the source".
type Span struct{ Start, End int }

// Len is the length of the span in bytes.
func (s Span) Len() int { return s.End - s.Start }

// Attr is one attribute of an element.
type Attr struct {
	Name  string // lower case
	Value string // character references decoded
	Span  Span   // name, sign and value in the source
	Inner Span   // the value alone, without quotes
	set   bool   // true when the value no longer is the source's
}

// Node is one piece of a document.
type Node struct {
	Kind      Kind
	Name      string // element or stray end tag: its name in lower case
	Attrs     []Attr
	Data      string // text with references decoded; a comment's content
	Condition string // Conditional, and a Comment that opens a revealed condition: the expression
	Parent    *Node
	Children  []*Node

	// Style holds the declarations that reach the element, weakest first, once style.Inline
	// has run: those of its style attribute and those of the style sheets.
	Style []Declaration

	Open  Span // start tag; for other kinds the whole node, for Conditional its opening part
	Close Span // end tag; empty when it was left out

	// Repeated are attributes of the start tag that do not count, since one before them has their name.
	Repeated []Span

	// ClosedAt is the byte offset of the start tag that ended this element without an end tag; 0
	// when it was not ended so.
	ClosedAt int

	changed bool
	renamed bool // the end tag no longer is the source's
	written bool // a text whose Data was set anew
	silent  bool // an element whose tags are not written
}

// Declaration is one property with its value, and where it stands in the source: in a style
// attribute or in a style sheet.
type Declaration struct {
	Property  string // lower case
	Value     string
	Important bool
	Span      Span
}

// String is the declaration as it is written in a style attribute.
func (d Declaration) String() string {
	s := d.Property + ": " + d.Value
	if d.Important {
		s += " !important"
	}
	return s
}

// Document is a parsed source.
type Document struct {
	Source string
	Root   *Node

	lines   []int // byte offset of each line's first byte
	runes   []int // how many characters stand before each markEvery bytes
	unended bool  // the source ends in a tag
}

// Place is a position in the source: lines and columns count from 1, columns in characters
// (Unicode code points).
type Place struct {
	Offset int `json:"offset"`
	Line   int `json:"line"`
	Column int `json:"column"`
}

// markEvery is after how many bytes the characters are counted, so that a place in a long line is found at once.
const markEvery = 256

// characters counts those before a byte offset.
func (d *Document) characters(offset int) int {
	mark := min(offset/markEvery, len(d.runes)-1)
	if mark < 0 {
		return 0
	}
	n := d.runes[mark]
	for i := mark * markEvery; i < offset; i++ {
		if utf8.RuneStart(d.Source[i]) {
			n++
		}
	}
	return n
}

// Place gives line and column of a byte offset. An offset beyond the source is the source's end.
func (d *Document) Place(offset int) Place {
	offset = min(max(offset, 0), len(d.Source))
	line := sort.SearchInts(d.lines, offset+1) - 1
	column := d.characters(offset) - d.characters(d.lines[line]) + 1
	return Place{Offset: offset, Line: line + 1, Column: column}
}

// Raw is the node's start tag, or the whole text or comment, as it stands in the source.
func (d *Document) Raw(n *Node) string { return d.Source[n.Open.Start:n.Open.End] }

// RawValue is the attribute's value as it can stand between double quotes: the source's own
// spelling while it is unchanged, else the value with its signs escaped.
func (d *Document) RawValue(a Attr) string {
	if a.set {
		return EscapeAttr(a.Value)
	}
	raw := d.Source[a.Inner.Start:a.Inner.End]
	return strings.ReplaceAll(raw, `"`, "&quot;")
}

// Changed reports whether the attribute's value is no longer the source's.
func (a Attr) Changed() bool { return a.set }

// Changed reports whether the node's own tag or text differs from the source.
func (n *Node) Changed() bool { return n.changed || n.written }

// Attr returns the value of the named attribute and whether the element has it.
func (n *Node) Attr(name string) (string, bool) {
	if a := n.Attribute(name); a != nil {
		return a.Value, true
	}
	return "", false
}

// Attribute returns the named attribute, or nil.
func (n *Node) Attribute(name string) *Attr {
	for i := range n.Attrs {
		if n.Attrs[i].Name == name {
			return &n.Attrs[i]
		}
	}
	return nil
}

// SetAttr sets an attribute. An existing one keeps its place in the tag and in the source.
func (n *Node) SetAttr(name, value string) {
	n.changed = true
	if a := n.Attribute(name); a != nil {
		a.Value, a.set = value, true
		return
	}
	at := Span{n.Open.Start, n.Open.Start}
	n.Attrs = append(n.Attrs, Attr{Name: name, Value: value, Span: at, Inner: at, set: true})
}

// RemoveAttr takes the named attribute away and reports whether it was there.
func (n *Node) RemoveAttr(name string) bool {
	for i := range n.Attrs {
		if n.Attrs[i].Name == name {
			n.Attrs = append(n.Attrs[:i:i], n.Attrs[i+1:]...)
			n.changed = true
			return true
		}
	}
	return false
}

// SetStyle sets the element's declarations and writes them into its style attribute; with none
// the attribute goes.
func (n *Node) SetStyle(declarations []Declaration) {
	n.Style = declarations
	if len(declarations) == 0 {
		n.RemoveAttr("style")
		return
	}
	var b strings.Builder
	for i, d := range declarations {
		if i > 0 {
			b.WriteString("; ")
		}
		b.WriteString(d.String())
	}
	n.SetAttr("style", b.String())
}

// Declared returns the value of the strongest declaration of a property, and whether there is one.
func (n *Node) Declared(property string) (string, bool) {
	for i := len(n.Style) - 1; i >= 0; i-- {
		if n.Style[i].Property == property {
			return n.Style[i].Value, true
		}
	}
	return "", false
}

// Rename gives an element another name.
func (n *Node) Rename(name string) { n.Name, n.changed, n.renamed = name, true, true }

// Normalise makes the element's tags be written anew: names in lower case, values in double quotes with their signs
// escaped, and an end tag where one was left out.
func (n *Node) Normalise() {
	n.changed, n.renamed = true, true
	for i := range n.Attrs {
		n.Attrs[i].set = true
	}
}

// Silence leaves the element's tags out of what is written. Its content stays, and so does what the template
// language asks of the element: Unwrap would lose that.
func (n *Node) Silence() { n.silent = true }

// Silent reports whether the element's tags are left out.
func (n *Node) Silent() bool { return n.silent }

// SetText replaces the content of a text node or a comment.
func (n *Node) SetText(s string) { n.Data, n.written = s, true }

// Pixels is the value of an attribute such as width in px; 0 when it is missing or no number of pixels.
func (n *Node) Pixels(name string) int {
	v, _ := n.Attr(name)
	i, err := strconv.Atoi(strings.TrimSuffix(strings.TrimSpace(v), "px"))
	if err != nil || i < 0 {
		return 0
	}
	return i
}

// Is reports whether the node is an element with one of the names.
func (n *Node) Is(names ...string) bool {
	if n == nil || n.Kind != Element {
		return false
	}
	for _, name := range names {
		if n.Name == name {
			return true
		}
	}
	return false
}

// Inside returns the nearest ancestor element with one of the names, or nil.
func (n *Node) Inside(names ...string) *Node {
	for p := n.Parent; p != nil; p = p.Parent {
		if p.Is(names...) {
			return p
		}
	}
	return nil
}

// Remove takes the node and everything in it out of the tree.
func (n *Node) Remove() { n.replace(nil) }

// Unwrap takes the node out of the tree and leaves its children in its place.
func (n *Node) Unwrap() { n.replace(n.Children) }

// ReplaceWith puts other nodes in the node's place.
func (n *Node) ReplaceWith(nodes ...*Node) { n.replace(nodes) }

// replace puts other nodes in a node's place.
func (n *Node) replace(with []*Node) {
	p := n.Parent
	if p == nil {
		return
	}
	for i, c := range p.Children {
		if c != n {
			continue
		}
		rest := append([]*Node{}, p.Children[i+1:]...)
		p.Children = append(append(p.Children[:i:i], with...), rest...)
		break
	}
	for _, c := range with {
		c.Parent = p
	}
	n.Parent = nil
}

// Append adds a child at the end.
func (n *Node) Append(c *Node) {
	c.Parent = n
	n.Children = append(n.Children, c)
}

// NewElement makes an element that is not in the source. Findings about it point at where.
func NewElement(name string, where Span) *Node {
	at := Span{where.Start, where.Start}
	return &Node{Kind: Element, Name: name, Open: at, Close: at, changed: true}
}

// NewText makes a text that is not in the source.
func NewText(s string, where Span) *Node {
	return &Node{Kind: Text, Data: s, Open: where, Close: Span{where.End, where.End}, written: true}
}

// NewDoctype makes the doctype of HTML (HTML Living Standard, 13.1.1).
func NewDoctype() *Node { return &Node{Kind: Doctype, written: true} }

// Walk visits the node and all in it in document order. When visit answers false the node's
// children are left out. Children may be removed while walking.
func (n *Node) Walk(visit func(*Node) bool) {
	if !visit(n) {
		return
	}
	for _, c := range append([]*Node(nil), n.Children...) {
		c.Walk(visit)
	}
}

// Elements lists the elements with one of the names below the node, in document order; with no
// name, all elements.
func (n *Node) Elements(names ...string) []*Node {
	var found []*Node
	n.Walk(func(c *Node) bool {
		if c.Kind == Element && (len(names) == 0 || c.Is(names...)) {
			found = append(found, c)
		}
		return true
	})
	return found
}

// Elements lists the elements with one of the names in document order, all for no name, without those in conditional
// comments: what one engine alone reads is not everybody's.
func (d *Document) Elements(names ...string) []*Node {
	var found []*Node
	d.Root.Walk(func(n *Node) bool {
		if n.Kind == Element && (len(names) == 0 || n.Is(names...)) {
			found = append(found, n)
		}
		return n.Kind != Conditional
	})
	return found
}

// TextContent is all text below the node, references decoded, without style sheets and scripts.
func (n *Node) TextContent() string {
	var b strings.Builder
	n.Walk(func(c *Node) bool {
		if c.Kind == Text {
			b.WriteString(c.Data)
		}
		return !c.Is("style", "script", "head", "title") && c.Kind != Conditional
	})
	return b.String()
}

// Clone copies the document so that one copy can be changed without the other.
func (d *Document) Clone() *Document {
	return &Document{Source: d.Source, Root: d.Root.Clone(), lines: d.lines, runes: d.runes}
}

// Clone copies the node and everything in it; the copy has no parent.
func (n *Node) Clone() *Node {
	c := *n
	c.Parent = nil
	c.Attrs = append([]Attr(nil), n.Attrs...)
	c.Style = append([]Declaration(nil), n.Style...)
	c.Children = make([]*Node, len(n.Children))
	for i, child := range n.Children {
		c.Children[i] = child.Clone()
		c.Children[i].Parent = &c
	}
	return &c
}

var attrEscaper = strings.NewReplacer("&", "&amp;", `"`, "&quot;", "<", "&lt;", ">", "&gt;", "\u00a0", "&nbsp;")
var textEscaper = strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", "\u00a0", "&nbsp;")

// EscapeAttr escapes a value for a double-quoted attribute.
func EscapeAttr(s string) string { return attrEscaper.Replace(s) }

// EscapeText escapes a string for text between tags.
func EscapeText(s string) string { return textEscaper.Replace(s) }

// Unescape decodes character references.
func Unescape(s string) string { return html.UnescapeString(s) }

// Void reports whether an element of that name has no content and no end tag.
func Void(name string) bool {
	switch name {
	case "area", "base", "br", "col", "embed", "hr", "img", "input", "link", "meta", "param", "source", "track", "wbr":
		return true
	}
	return false
}

// Block reports whether a browser lays out an element of that name as a block (or a part of a table).
func Block(name string) bool {
	switch name {
	case "address", "article", "aside", "blockquote", "body", "center", "dd", "details", "dir", "div", "dl", "dt",
		"fieldset", "figcaption", "figure", "footer", "form", "h1", "h2", "h3", "h4", "h5", "h6", "header",
		"hr", "li", "main", "menu", "nav", "ol", "p", "pre", "section", "summary", "ul",
		"table", "caption", "colgroup", "col", "thead", "tbody", "tfoot", "tr", "td", "th":
		return true
	}
	return false
}
