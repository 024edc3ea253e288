// Package compact makes the markup that goes out shorter and keeps its look: white space, declarations that say what
// holds anyway, and longer spellings than needed go. It works on a compiled document and never on a template's
// source. Start with Apply and Steps.
package compact

import (
	"slices"
	"strings"

	"missivum/core/markup"
	"missivum/core/style"
)

// Step is one kind of thing that is made shorter.
type Step struct {
	ID    string
	Title string
	apply func(*markup.Document)
}

// Steps lists the steps in their order, the harmless first.
func Steps() []Step {
	return []Step{
		{"white-space", "White space between tags and at the edges of blocks", WhiteSpace},
		{"attributes", "Empty attributes, and styles that repeat an attribute", attributes},
		{"defaults", "Declarations that change nothing", defaults},
		{"inherited", "Declarations that an outer element has set already", inherited},
		{"shorthands", "Four sides in one property", shorthands},
		{"values", "Shorter spellings of lengths and colours", values},
		{"spacing", "Spaces inside style attributes", spacing},
	}
}

// Apply makes a document shorter by the first steps, as many as count. Node.Style must be set; the document is
// changed in place.
func Apply(doc *markup.Document, count int) {
	for _, s := range Steps()[:count] {
		s.apply(doc)
	}
}

// All is how many steps there are.
func All() int { return len(Steps()) }

// WhiteSpace leaves one of several signs of white space, and none between the parts of tables and at the edges of
// blocks. Text whose white space counts is left alone.
func WhiteSpace(doc *markup.Document) {
	doc.Root.Walk(func(n *markup.Node) bool {
		if n.Is("pre", "textarea", "style", "script") || n.Kind == markup.Conditional {
			return false
		}
		if space, ok := n.Declared("white-space"); ok && strings.HasPrefix(space, "pre") {
			return false
		}
		if n.Kind == markup.Text && !n.Changed() && n.Open.Len() > 0 {
			tighten(doc, n)
		}
		return true
	})
}

func tighten(doc *markup.Document, n *markup.Node) {
	before, after := siblings(n)
	parent := n.Parent
	raw := doc.Raw(n)
	tablePart := parent.Is("table", "tbody", "thead", "tfoot", "tr")
	first := before == nil && (parent.Kind == markup.Root || block(parent.Name)) || edge(before) || endsInSpace(doc, before)
	last := after == nil && (parent.Kind == markup.Root || block(parent.Name)) || edge(after)
	start, end := 0, len(raw)
	if first || tablePart {
		for start < end && space(raw[start]) {
			start++
		}
	}
	if last || tablePart {
		for end > start && space(raw[end-1]) {
			end--
		}
	}
	var pieces []*markup.Node
	from, fields := start, 0
	cut := func(to int) {
		if to > from {
			span := markup.Span{Start: n.Open.Start + from, End: n.Open.Start + to}
			pieces = append(pieces, &markup.Node{Kind: markup.Text, Data: markup.Unescape(raw[from:to]), Open: span,
				Close: markup.Span{Start: span.End, End: span.End}})
		}
	}
	for i := start; i < end; i++ {
		switch {
		case strings.HasPrefix(raw[i:], "{{"):
			fields++
		case strings.HasPrefix(raw[i:], "}}"):
			fields--
		case fields <= 0 && i > start && space(raw[i]) && space(raw[i-1]):
			cut(i)
			for i < end && space(raw[i]) {
				i++
			}
			from = i
			i--
		}
	}
	cut(end)
	n.ReplaceWith(pieces...)
}

// block recognises elements at whose edges white space is not drawn. A body is none: one inside a template goes and leaves
// its content where it was.
func block(name string) bool { return markup.Block(name) && name != "body" }

// space recognises the white space of HTML; the no-break space is none of it.
func space(c byte) bool { return c == ' ' || c == '\n' || c == '\t' || c == '\r' || c == '\f' }

// endsInSpace reports whether a text before another, with a comment between, ends in white space: one sign of it is
// enough.
func endsInSpace(doc *markup.Document, n *markup.Node) bool {
	if n == nil || n.Kind != markup.Text || n.Changed() {
		return false
	}
	raw := doc.Raw(n)
	return raw != "" && space(raw[len(raw)-1])
}

// siblings are the nodes beside one: comments are left out, and behind it text that is white space only.
func siblings(n *markup.Node) (before, after *markup.Node) {
	behind := false
	for _, c := range n.Parent.Children {
		switch {
		case c == n:
			behind = true
		case c.Kind == markup.Comment || c.Kind == markup.Conditional:
		case !behind:
			before = c
		case c.Kind == markup.Text && strings.Trim(c.Data, " \t\r\n\f") == "":
		default:
			return before, c
		}
	}
	return before, nil
}

// edge reports whether white space beside a node is not drawn.
func edge(n *markup.Node) bool {
	if n != nil {
		if display, ok := n.Declared("display"); ok && strings.HasPrefix(display, "inline") {
			return false
		}
	}
	return n != nil && n.Kind == markup.Element && (block(n.Name) || n.Name == "br" || n.Name == "style")
}

func attributes(doc *markup.Document) {
	for _, n := range doc.Root.Elements() {
		for _, name := range []string{"class", "id", "title", "name"} {
			if v, ok := n.Attr(name); ok && strings.TrimSpace(v) == "" {
				n.RemoveAttr(name)
			}
		}
		if !n.Is("td", "th") {
			continue
		}
		if valign, ok := n.Attr("valign"); ok {
			without(n, func(d markup.Declaration) bool {
				return d.Property == "vertical-align" && strings.EqualFold(d.Value, valign)
			})
		}
	}
}

// without takes declarations off an element.
func without(n *markup.Node, drop func(markup.Declaration) bool) {
	rest := slices.DeleteFunc(slices.Clone(n.Style), drop)
	if len(rest) != len(n.Style) {
		n.SetStyle(rest)
	}
}

func zero(value string) bool { return strings.Trim(value, "0px ") == "" }

// defaults takes away what every client's own style sheet says too.
func defaults(doc *markup.Document) {
	for _, n := range doc.Root.Elements() {
		without(n, func(d markup.Declaration) bool {
			switch d.Property {
			case "margin", "margin-top", "margin-right", "margin-bottom", "margin-left":
				return zero(d.Value) && n.Is("td", "tr", "span", "div", "a", "b", "strong", "i", "em") && !several(n, "margin")
			case "padding", "padding-top", "padding-right", "padding-bottom", "padding-left":
				return zero(d.Value) && n.Is("span", "div", "p", "a", "b", "strong", "i", "em") && !several(n, "padding")
			case "border", "border-top", "border-right", "border-bottom", "border-left":
				return (d.Value == "none" || zero(d.Value) || noLine(d.Value)) && n.Is("span", "div", "p", "td", "a") && !several(n, "border")
			case "display":
				return d.Value == "block" && n.Is("div", "p") || d.Value == "inline" && n.Is("span", "b", "i", "strong", "em")
			case "text-align":
				return d.Value == "left" && n.Is("td", "div", "p") && !aligned(n)
			case "font-weight":
				return d.Value == "bold" && n.Is("b", "strong") && !within(n, "b", "strong")
			case "font-style":
				return d.Value == "italic" && n.Is("i", "em")
			case "text-decoration":
				return d.Value == "none" && n.Is("span", "div", "td", "p", "b", "strong")
			}
			return false
		})
	}
}

// noLine recognises a border without a line.
func noLine(value string) bool {
	words := strings.Fields(value)
	return slices.Contains(words, "none") || len(words) > 0 && zero(words[0])
}

// several reports whether an element declares more than one property of a family: one may be there to undo another.
func several(n *markup.Node, family string) bool {
	count := 0
	for _, d := range n.Style {
		if d.Property == family || strings.HasPrefix(d.Property, family+"-") && !strings.Contains(d.Property, "radius") &&
			!strings.Contains(d.Property, "spacing") && !strings.Contains(d.Property, "collapse") {
			count++
		}
	}
	return count > 1
}

func within(n *markup.Node, names ...string) bool { return n.Inside(names...) != nil }

// aligned reports whether something around an element, or on it, aligns it otherwise than the start of the line on
// the left.
func aligned(n *markup.Node) bool {
	for e := n; e != nil && e.Kind == markup.Element; e = e.Parent {
		if e.Attribute("dir") != nil || e.Is("center", "th", "caption") {
			return true
		}
		if align, ok := e.Attr("align"); ok && !strings.EqualFold(align, "left") && !e.Is("img", "table") {
			return true
		}
		for _, d := range e.Style {
			if d.Property == "direction" || d.Property == "text-align" && e != n && d.Value != "left" {
				return true
			}
		}
	}
	return false
}

// inheritable are properties that text takes from the element around it.
var inheritable = []string{"color", "font-family", "font-size", "font-style", "font-weight", "line-height", "letter-spacing",
	"text-align", "white-space", "text-transform"}

// inherited takes declarations off inline elements and blocks that the nearest element around has given already. It
// never reaches across a cell: some engines hand nothing on there. Links and what stands in them keep theirs, since
// clients colour links themselves.
func inherited(doc *markup.Document) {
	var visit func(n *markup.Node, given map[string]string)
	visit = func(n *markup.Node, given map[string]string) {
		if n.Kind == markup.Element {
			switch {
			case n.Is("td", "th", "table", "tr", "tbody", "thead", "tfoot", "a", "li", "caption"):
				given = nil
			case n.Is("span", "div", "p", "b", "strong", "i", "em") && !within(n, "a"):
				without(n, func(d markup.Declaration) bool {
					if own(n, d.Property) || d.Important || !slices.Contains(inheritable, d.Property) || relative(d.Value) ||
						strings.Contains(d.Value, "{{") {
						return false
					}
					value, ok := given[d.Property]
					return ok && value == d.Value
				})
			default:
				given = nil
			}
			given = extended(given, n)
		}
		for _, c := range n.Children {
			if c.Kind != markup.Conditional {
				visit(c, given)
			}
		}
	}
	visit(doc.Root, nil)
}

// own are properties that an element's name sets.
func own(n *markup.Node, property string) bool {
	return property == "font-weight" && n.Is("b", "strong") || property == "font-style" && n.Is("i", "em")
}

// relative recognises values that are taken of what is around: the same again is not the same.
func relative(value string) bool {
	return style.HasUnit(value, []string{"em", "ex", "%", "rem"}) || strings.Contains(value, "%") || value == "bolder" ||
		value == "lighter" || value == "larger" || value == "smaller"
}

// extended is what is given inside an element.
func extended(given map[string]string, n *markup.Node) map[string]string {
	if len(n.Style) == 0 && !n.Is("b", "strong", "i", "em", "font", "small", "big", "center") {
		return given
	}
	next := map[string]string{}
	for k, v := range given {
		next[k] = v
	}
	switch n.Name {
	case "b", "strong":
		delete(next, "font-weight")
	case "i", "em":
		delete(next, "font-style")
	case "font", "small", "big", "center":
		next = map[string]string{}
	}
	for _, d := range n.Style {
		switch {
		case d.Property == "font":
			for _, p := range []string{"font-family", "font-size", "font-style", "font-weight", "line-height"} {
				delete(next, p)
			}
		case d.Property == "font-size" && relative(d.Value):
			delete(next, "font-size")
			delete(next, "line-height")
		default:
			next[d.Property] = d.Value
		}
	}
	return next
}

// shorthands writes the four sides of margin and padding as one property, and equal sides once.
func shorthands(doc *markup.Document) {
	for _, n := range doc.Root.Elements() {
		list := slices.Clone(n.Style)
		for _, family := range []string{"padding", "margin"} {
			list = style.JoinSides(list, family)
		}
		for i, d := range list {
			if d.Property == "padding" || d.Property == "margin" {
				list[i].Value = foldSides(d.Value)
			}
		}
		if !slices.Equal(list, n.Style) {
			n.SetStyle(list)
		}
	}
}

// foldSides writes equal sides once. Values with functions and fields stay.
func foldSides(value string) string {
	if strings.Contains(value, "(") || strings.Contains(value, "{{") {
		return value
	}
	return strings.Join(style.FoldSides(strings.Fields(value)), " ")
}

// values writes 0 without a unit and colours with three digits where six say the same.
func values(doc *markup.Document) {
	for _, n := range doc.Root.Elements() {
		list := slices.Clone(n.Style)
		for i, d := range list {
			if strings.ContainsAny(d.Value, `('"{`) {
				continue
			}
			words := strings.Fields(d.Value)
			for k, w := range words {
				words[k] = shorter(w)
			}
			list[i].Value = strings.Join(words, " ")
		}
		if !slices.Equal(list, n.Style) {
			n.SetStyle(list)
		}
	}
}

func shorter(word string) string {
	low := strings.ToLower(word)
	switch low {
	case "0px", "0pt", "0em", "0.0px", "0.0pt":
		return "0"
	}
	if len(low) == 7 && low[0] == '#' && style.ColourForm(low) == "hex6" {
		if low[1] == low[2] && low[3] == low[4] && low[5] == low[6] {
			return "#" + string([]byte{low[1], low[3], low[5]})
		}
		return low
	}
	if strings.HasPrefix(low, "0.") && len(low) > 2 {
		return word[1:]
	}
	return word
}

// spacing writes style attributes without the spaces that only people need.
func spacing(doc *markup.Document) {
	for _, n := range doc.Root.Elements() {
		if len(n.Style) == 0 {
			continue
		}
		var b strings.Builder
		for i, d := range n.Style {
			if i > 0 {
				b.WriteByte(';')
			}
			b.WriteString(d.Property + ":" + commas(d.Value))
			if d.Important {
				b.WriteString("!important")
			}
		}
		n.SetAttr("style", b.String())
	}
}

// commas drops the spaces behind commas outside quotes, brackets and fields.
func commas(value string) string {
	if strings.ContainsAny(value, `('"{`) && !strings.HasPrefix(value, "'") {
		return value
	}
	return strings.ReplaceAll(value, ", ", ",")
}
