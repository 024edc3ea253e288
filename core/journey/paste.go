package journey

import (
	"slices"
	"strconv"
	"strings"

	"missivum/core/compact"
	"missivum/core/field"
	"missivum/core/markup"
	"missivum/core/style"
)

// Paste changes a document into what stands in an editable element after a browser copied and pasted it: declarations
// in the browser's own spelling, unknown ones gone, spans that say nothing new gone, white space that is not rendered
// gone, a row group in every table, attributes in double quotes and the style last, references decoded but those that
// must stay. It is what Chromium does (measured by a test, see docs/clients.md); Node.Style must be set.
func Paste(doc *markup.Document) {
	compact.WhiteSpace(doc)
	for _, n := range doc.Root.Elements() {
		if notCopied(n) {
			n.Remove()
			continue
		}
		pasteStyle(n)
		for _, a := range slices.Clone(n.Attrs) {
			if strings.HasPrefix(a.Name, "on") || a.Name == "contenteditable" || slices.Contains(addressed, a.Name) &&
				markup.SchemeOf(strings.TrimSpace(a.Value)) == "javascript" {
				n.RemoveAttr(a.Name)
			}
		}
		n.Normalise()
	}
	for _, n := range doc.Root.Elements() {
		switch {
		case n.Is("applet", "object"), n.Is("font") && len(n.Attrs) == 0:
			n.Unwrap()
		case invisible(n):
			n.Walk(func(c *markup.Node) bool {
				if c.Kind == markup.Text {
					c.Remove()
				}
				return true
			})
		case n.Is("canvas", "meter", "progress", "textarea", "video"), n.Is("details") && n.Attribute("open") == nil:
			empty(n)
		}
	}
	doc.Root.Walk(func(n *markup.Node) bool {
		switch {
		case n.Kind == markup.Conditional || n.Is("style", "script", "link", "meta", "title"):
			n.Remove()
			return false
		case n.Kind == markup.Comment || n.Kind == markup.Stray:
			n.Remove()
		case n.Kind == markup.Text && !field.HasField(n.Data):
			n.SetText(n.Data)
		case n.Is("table"):
			rowGroup(n)
		}
		return true
	})
	thinned(doc.Root, map[string]string{})
}

// addressed are the attributes that hold an address that is loaded or gone to.
var addressed = []string{"href", "src", "action", "background"}

// notCopied says what a browser leaves behind when it copies: what is not shown, and what cannot be selected.
func notCopied(n *markup.Node) bool {
	if n.Is("audio") && n.Attribute("controls") == nil || n.Is("dialog") && n.Attribute("open") == nil ||
		n.Is("datalist", "embed", "template") || n.Attribute("hidden") != nil {
		return true
	}
	if draggable, _ := n.Attr("draggable"); draggable == "true" && !n.Is("a", "img") {
		return true
	}
	display, _ := n.Declared("display")
	return display == "none"
}

// invisible recognises an element whose text is there and cannot be seen.
func invisible(n *markup.Node) bool {
	v, _ := n.Declared("visibility")
	return v == "hidden" || v == "collapse"
}

// empty takes away what is inside, but for the summary that a closed piece shows.
func empty(n *markup.Node) {
	for _, c := range slices.Clone(n.Children) {
		if !c.Is("summary") {
			c.Remove()
		}
	}
}

// thinned takes declarations off spans that say what the element around says already, and leaves out the tags of
// spans that then say nothing, as the browser does when it pastes.
func thinned(n *markup.Node, given map[string]string) {
	if n.Kind == markup.Element {
		if n.Is("span") {
			rest := slices.DeleteFunc(slices.Clone(n.Style), func(d markup.Declaration) bool { return given[d.Property] == d.Value })
			if len(rest) != len(n.Style) {
				n.Style = rest
				n.RemoveAttr("style")
				if len(rest) > 0 {
					n.SetStyle(rest)
					n.SetAttr("style", n.Attribute("style").Value+";")
				}
			}
			if !slices.ContainsFunc(n.Attrs, func(a markup.Attr) bool { return !field.Reserved(a.Name) }) {
				n.Silence()
			}
		}
		given = givenIn(n, given)
	}
	for _, c := range n.Children {
		if c.Kind != markup.Conditional {
			thinned(c, given)
		}
	}
}

// handedOn are properties that text takes from the element around it.
var handedOn = []string{"color", "font-family", "font-size", "font-style", "font-weight", "line-height", "letter-spacing",
	"text-align", "white-space", "text-transform", "word-spacing", "direction"}

// givenIn is what an element passes on to those in it.
func givenIn(n *markup.Node, given map[string]string) map[string]string {
	next := map[string]string{}
	for k, v := range given {
		next[k] = v
	}
	switch {
	case n.Is("a"):
		delete(next, "color")
	case n.Is("b", "strong", "th"):
		next["font-weight"] = "bold"
	case n.Is("i", "em"):
		next["font-style"] = "italic"
	case n.Is("h1", "h2", "h3", "h4", "h5", "h6", "small", "big", "font", "code", "tt", "pre"):
		next = map[string]string{}
	}
	for _, d := range n.Style {
		if slices.Contains(handedOn, d.Property) {
			next[d.Property] = d.Value
		}
	}
	return next
}

// rowGroup puts rows that stand in a table itself into a tbody, as browsers do.
func rowGroup(table *markup.Node) {
	var group *markup.Node
	for _, c := range slices.Clone(table.Children) {
		if !c.Is("tr") {
			if c.Kind == markup.Element {
				group = nil
			} else if group != nil {
				c.Remove()
				group.Append(c)
			}
			continue
		}
		if group == nil {
			group = markup.NewElement("tbody", c.Open)
			c.ReplaceWith(group)
		} else {
			c.Remove()
		}
		group.Append(c)
	}
}

// pasteStyle writes an element's declarations as a browser's object model spells them (CSSOM, 6.7.2).
func pasteStyle(n *markup.Node) {
	if n.Attribute("style") == nil && len(n.Style) == 0 {
		return
	}
	list := style.JoinSides(style.JoinSides(n.Style, "padding"), "margin")
	var out []markup.Declaration
	for _, d := range list {
		if standard := standardNames[d.Property]; standard != "" {
			d.Property = standard
		}
		if !copiedDeclaration(n, d) {
			continue
		}
		d.Value = spelled(d)
		out = append(out, d)
	}
	n.RemoveAttr("style")
	if len(out) == 0 {
		n.Style = nil
		return
	}
	n.SetStyle(out)
	n.SetAttr("style", n.Attribute("style").Value+";")
}

// standardNames are properties that the object model knows by another name.
var standardNames = map[string]string{
	"word-wrap": "overflow-wrap", "-webkit-text-size-adjust": "text-size-adjust", "-webkit-border-radius": "border-radius",
	"-webkit-box-shadow": "box-shadow", "-webkit-transform": "transform",
}

// copiedDeclaration reports whether the browser knows a declaration, and whether it says more than the element does by
// itself.
func copiedDeclaration(n *markup.Node, d markup.Declaration) bool {
	low := strings.ToLower(strings.TrimSpace(d.Value))
	switch {
	case strings.HasPrefix(d.Property, "--"):
		return true
	case !style.KnownProperty(d.Property) && d.Property != "text-size-adjust", d.Property == "behavior",
		strings.HasPrefix(d.Property, "mso-"), strings.HasPrefix(d.Property, "-ms-"), strings.HasPrefix(d.Property, "-moz-"):
		return false
	case strings.Contains(low, "var("), strings.Contains(low, "expression("):
		return false
	case d.Property == "display":
		return low != "block" || !markup.Block(n.Name) || n.Is("table", "td", "th", "tr", "tbody", "li")
	case style.TakesLength(d.Property):
		for _, word := range strings.Fields(low) {
			if n, err := strconv.ParseFloat(word, 64); err == nil && n != 0 {
				return false // a number without a unit
			}
		}
	}
	return true
}

// spelled is a value as the object model writes it.
func spelled(d markup.Declaration) string {
	if strings.Contains(d.Value, "{{") || strings.HasPrefix(d.Property, "--") {
		return d.Value
	}
	value := style.Serialized(d.Value)
	switch {
	case d.Property == "flex":
		if _, err := strconv.ParseFloat(value, 64); err == nil {
			return value + " 1 0%"
		}
	case d.Property == "font-family":
		return families(value)
	case d.Property == "font":
		value = strings.Replace(value, "/", " / ", 1)
		if at := strings.IndexByte(value, ','); at >= 0 || strings.ContainsAny(value, `'"`) {
			return strings.ReplaceAll(value, `'`, `"`)
		}
		return value
	}
	words := components(value)
	for i, w := range words {
		words[i] = spelledWord(d.Property, w)
	}
	if d.Property == "padding" || d.Property == "margin" || d.Property == "border-width" || d.Property == "border-style" ||
		d.Property == "border-color" {
		words = style.FoldSides(words)
	}
	return strings.Join(words, " ")
}

// families writes a list of fonts as a browser spells it.
func families(value string) string {
	var list []string
	for _, f := range strings.Split(value, ",") {
		f = strings.TrimSpace(f)
		if strings.HasPrefix(f, "'") || strings.HasPrefix(f, `"`) {
			f = `"` + strings.Trim(f, `'"`) + `"`
		}
		list = append(list, f)
	}
	return strings.Join(list, ", ")
}

// unitless are properties whose 0 is a number and not a length.
var unitless = []string{"line-height", "opacity", "z-index", "order", "flex", "flex-grow", "flex-shrink", "font-weight",
	"orphans", "widows", "zoom", "tab-size"}

// spelledWord writes a keyword as a browser spells it.
func spelledWord(property, word string) string {
	low := strings.ToLower(word)
	switch {
	case strings.HasPrefix(low, "url("):
		return `url("` + strings.Trim(strings.TrimSuffix(word[4:], ")"), `'" `) + `")`
	case low == "0" && !slices.Contains(unitless, property):
		return "0px"
	case strings.HasPrefix(low, ".") && len(low) > 1:
		return "0" + low
	case strings.HasPrefix(low, "'"):
		return `"` + strings.Trim(word, "'") + `"`
	}
	if !strings.ContainsAny(word, `"'(`) {
		return low
	}
	return word
}
