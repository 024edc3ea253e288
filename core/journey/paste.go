package journey

import (
	"cmp"
	"fmt"
	"maps"
	"regexp"
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
func Paste(doc *markup.Document) { paste(doc, true) }

// paste is Paste; a lone block may stay.
func paste(doc *markup.Document, takesLoneBlocks bool) {
	compact.WhiteSpace(doc)
	withoutGaps(doc)
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
		if href, ok := n.Attr("href"); ok && n.Is("a", "area") {
			n.SetAttr("href", wholeAddress(href))
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
	asRead(doc)
	workOut(doc.Root, inherits{size: 16})
	withoutMaps(doc.Root)
	plainSpaces(doc.Root)
	if takesLoneBlocks {
		loneBlock(doc)
	}
	thinner{}.thin(doc.Root, map[string]string{})
	simplified(doc.Root)
}

// withoutGaps takes away white space between the parts of a flexible box or a grid, where it is not shown (CSS Flexible Box Layout, 4).
func withoutGaps(doc *markup.Document) {
	for _, n := range doc.Root.Elements() {
		display, _ := n.Declared("display")
		if !strings.HasSuffix(display, "flex") && !strings.HasSuffix(display, "grid") {
			continue
		}
		for _, c := range slices.Clone(n.Children) {
			if c.Kind == markup.Text && strings.Trim(c.Data, blanks) == "" {
				c.Remove()
			}
		}
	}
}

// asRead leaves what a browser has of a document: without comments and what belongs to the head, but for elements that stay,
// references decoded, and a row group in every table.
func asRead(doc *markup.Document, stay ...string) {
	doc.Root.Walk(func(n *markup.Node) bool {
		switch {
		case n.Is(stay...):
			return false
		case n.Kind == markup.Conditional || n.Is("style", "script", "link", "meta", "title"):
			n.Remove()
			return false
		case n.Kind == markup.Comment || n.Kind == markup.Stray:
			n.Remove()
		case n.Kind == markup.Text:
			n.SetText(n.Data)
		case n.Is("table"):
			rowGroup(n)
		}
		return true
	})
}

// addressed are the attributes that hold an address that is loaded or gone to.
var addressed = []string{"href", "src", "action", "background"}

// notCopied says what a browser leaves behind when it copies: what is not shown, and what cannot be selected.
func notCopied(n *markup.Node) bool {
	if n.Is("audio") && n.Attribute("controls") == nil || n.Is("dialog") && n.Attribute("open") == nil ||
		n.Is("datalist", "embed", "template", "area") || n.Attribute("hidden") != nil {
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

// thinner takes declarations off elements that say what the element around says already, and leaves out the tags of spans
// that then say nothing, as the browser does when it pastes.
type thinner struct {
	letter bool // the markup was put onto the clipboard letter by letter: nothing was worked out before
}

// thin does it for an element and all in it. given is what the element around gives.
func (t thinner) thin(n *markup.Node, given map[string]string) {
	if n.Kind == markup.Element {
		rest := slices.DeleteFunc(slices.Clone(n.Style), func(d markup.Declaration) bool { return t.redundant(n, d, given) })
		if t.letter {
			rest = contradicted(n, headingFont(n, withoutGround(rest, given)), given)
		}
		if !slices.Equal(rest, n.Style) {
			restyle(n, rest)
		}
		says := slices.ContainsFunc(n.Attrs, func(a markup.Attr) bool { return !field.Reserved(a.Name) })
		if !says && (n.Is("span") || t.letter && n.Is("font")) {
			n.Silence()
		}
		given = givenIn(n, given)
	}
	for _, c := range n.Children {
		if c.Kind != markup.Conditional {
			t.thin(c, given)
		}
	}
}

// contradicted makes a span of an element for bold or italic letters whose style says otherwise.
func contradicted(n *markup.Node, list []markup.Declaration, given map[string]string) []markup.Declaration {
	for i, d := range list {
		value := held(d.Property, d.Value)
		switch {
		case d.Important:
		case n.Is("b") && d.Property == "font-weight" && d.Value != "bold", n.Is("strong") && d.Property == "font-weight" && value == "normal",
			n.Is("i", "em") && d.Property == "font-style" && value == "normal":
			n.Rename("span")
			if held(d.Property, given[d.Property]) == value {
				return slices.Delete(slices.Clone(list), i, i+1)
			}
			return list
		}
	}
	return list
}

// withoutGround takes the colour out of backgrounds that is behind everything anyway.
func withoutGround(list []markup.Declaration, given map[string]string) (out []markup.Declaration) {
	for _, d := range list {
		if _, plain := style.Color(d.Value); plain && d.Property == "background" && held("background-color", given["background-color"]) ==
			held("background-color", d.Value) {
			out = append(out, declarationsOf("background-image: initial; background-position: initial; background-size: initial; "+
				"background-repeat: initial; background-attachment: initial; background-origin: initial; background-clip: initial")...)
			continue
		}
		out = append(out, d)
	}
	return out
}

// headingFont takes a font apart that says a heading is bold, which it is.
func headingFont(n *markup.Node, list []markup.Declaration) (out []markup.Declaration) {
	for _, d := range list {
		parts := ofFont(d.Value)
		if d.Property == "font" && heading(n) && parts != nil && slices.Contains(boldWeights, parts["font-weight"]) {
			out = append(out, fontParts(parts)...)
			continue
		}
		out = append(out, d)
	}
	return out
}

// slanted are the elements whose letters are italic by themselves.
var slanted = []string{"i", "em", "cite", "dfn", "var", "address"}

// boldWeights are the weights that a heading has already.
var boldWeights = []string{"bold", "600", "700", "800", "900"}

// handedOn are properties that text takes from the element around it, as the browser's editor sees it: what is behind a text
// and the line under it count too, the height of lines and the direction do not.
var handedOn = []string{"color", "font-family", "font-size", "font-style", "font-weight", "letter-spacing", "text-align",
	"white-space", "text-transform", "word-spacing", "text-indent", "background-color", "text-decoration"}

// seldom are further such properties, which are written only where a browser wrote them before.
var seldom = []string{"font-variant-ligatures", "font-variant-caps", "orphans", "widows"}

// fromTheStart is what holds in a box that says nothing itself.
var fromTheStart = map[string]string{"color": "rgb(0, 0, 0)", "font-size": "medium", "font-style": "normal", "font-weight": "normal",
	"letter-spacing": "normal", "text-align": "start", "white-space": "normal", "text-transform": "none", "word-spacing": "0px",
	"text-indent": "0px", "background-color": "transparent", "text-decoration": "none", "direction": "ltr",
	"font-variant-ligatures": "normal", "font-variant-caps": "normal", "orphans": "2", "widows": "2"}

// redundant reports whether a declaration says what holds anyway.
func (t thinner) redundant(n *markup.Node, d markup.Declaration, given map[string]string) bool {
	switch {
	case n.Is("span") && !t.letter && (d.Property == "line-height" || d.Property == "direction"):
	case n.Is("span") && t.letter && d.Property == "display" && d.Value == "inline":
		return true
	case !slices.Contains(handedOn, d.Property) && !(t.letter && slices.Contains(seldom, d.Property)), d.Important,
		n.Is("a") && n.Attribute("href") != nil && (d.Property == "color" || d.Property == "text-decoration"):
		return false
	case d.Property == "font-weight" && heading(n):
		return slices.Contains(boldWeights, d.Value)
	case n.Is("em", "i") && d.Property == "font-style" && d.Value == "italic":
		return true
	case heading(n) && d.Property == "font-size", n.Is("th") && (d.Property == "text-align" || d.Property == "font-weight"),
		n.Is("b", "strong") && d.Property == "font-weight", n.Is(slanted...) && d.Property == "font-style":
		return false
	case t.letter && strings.HasPrefix(d.Property, "font-") && declares(n, "font-size-adjust"):
		return false // it was written out of font
	case t.letter && d.Property == "text-align":
		return sideOf(d.Value, directionIn(n, given)) == given["text-align"]
	}
	return given[d.Property] != "" && held(d.Property, given[d.Property]) == held(d.Property, d.Value)
}

func declares(n *markup.Node, property string) bool {
	_, ok := n.Declared(property)
	return ok
}

// held is a value in one spelling, so that two that mean the same are the same.
func held(property, value string) string {
	switch property {
	case "color", "background-color":
		if c, ok := style.Color(value); ok {
			return fmt.Sprint(c)
		}
	case "font-weight": // bold or not: the editor knows nothing between
		n, err := strconv.Atoi(value)
		if err == nil && n >= 600 || value == "bold" || value == "bolder" {
			return "bold"
		}
		return "normal"
	case "letter-spacing", "word-spacing", "text-indent":
		if value == "0" {
			return "0px"
		}
	}
	return value
}

// sideOf is a text-align; start for the side where lines begin.
func sideOf(value, direction string) string {
	if value == "left" && direction != "rtl" || value == "right" && direction == "rtl" {
		return "start"
	}
	return value
}

// directionIn is in which direction text runs in an element.
func directionIn(n *markup.Node, given map[string]string) string {
	if d, ok := n.Declared("direction"); ok {
		return strings.ToLower(d)
	}
	if d, ok := n.Attr("dir"); ok {
		return strings.ToLower(d)
	}
	return given["direction"]
}

func heading(n *markup.Node) bool { return n.Is("h1", "h2", "h3", "h4", "h5", "h6") }

// ofAttribute marks a text-align that an attribute or a center element gave: a table in it begins anew.
const ofAttribute = "align"

// givenIn is what an element passes on to those in it.
func givenIn(n *markup.Node, given map[string]string) map[string]string {
	next := maps.Clone(given)
	switch {
	case n.Is("a"):
		delete(next, "color")
		if n.Attribute("href") != nil {
			next["text-decoration"] = "underline"
		}
	case n.Is("u", "ins"):
		next["text-decoration"] = "underline"
	case n.Is("b", "strong", "th"):
		next["font-weight"] = "bold"
	case n.Is(slanted...):
		next["font-style"] = "italic"
	case heading(n):
		delete(next, "font-size")
		next["font-weight"] = "bold"
	case n.Is("small", "big"):
		delete(next, "font-size")
	case n.Is("code", "tt", "pre", "kbd", "samp"):
		delete(next, "font-family")
		delete(next, "font-size")
		delete(next, "white-space")
	case n.Is("font"):
		attributesGiven(n, next)
	}
	next["direction"] = directionIn(n, given)
	switch align, aligned := n.Attr("align"); {
	case n.Is("table") && next[ofAttribute] != "":
		next["text-align"] = "start"
		delete(next, ofAttribute)
	case n.Is("table"):
	case n.Is("center", "th"):
		next["text-align"], next[ofAttribute] = "center", "yes"
	case aligned:
		next["text-align"], next[ofAttribute] = sideOf(strings.ToLower(align), next["direction"]), "yes"
	}
	if ground, ok := n.Attr("bgcolor"); ok {
		next["background-color"] = style.Serialized(ground)
	}
	for _, d := range n.Style {
		switch {
		case d.Property == "font":
			for property, value := range ofFont(d.Value) {
				next[property] = value
			}
		case d.Property == "background":
			delete(next, "background-color")
			if _, plain := style.Color(d.Value); plain {
				next["background-color"] = d.Value
			}
		case d.Property == "text-align":
			next[d.Property] = sideOf(d.Value, next["direction"])
			delete(next, ofAttribute)
		case slices.Contains(handedOn, d.Property), slices.Contains(seldom, d.Property), d.Property == "line-height", d.Property == "direction":
			next[d.Property] = d.Value
		}
	}
	return next
}

// attributesGiven is what the attributes of a font element give to what is in it.
func attributesGiven(n *markup.Node, given map[string]string) {
	if face, ok := n.Attr("face"); ok {
		given["font-family"] = families(face)
	}
	if n.Attribute("size") != nil {
		delete(given, "font-size")
	}
	if colour, ok := n.Attr("color"); ok {
		given["color"] = style.Serialized(colour)
	}
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
	list := sidesInto(sidesInto(style.JoinSides(style.JoinSides(n.Style, "padding"), "margin"), "padding"), "margin")
	var out []markup.Declaration
	for _, d := range list {
		if standard := standardNames[d.Property]; standard != "" {
			d.Property = standard
		}
		if !copiedDeclaration(n, d) {
			continue
		}
		d.Value = spelled(d)
		if d.Important && !strings.Contains(d.Value, "{{") {
			d.Value = strings.TrimSpace(d.Value)
		}
		out = append(out, d)
	}
	out = writtenOut(out)
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

// isKnown reports whether the browser knows a declaration.
func isKnown(d markup.Declaration) bool {
	low := strings.ToLower(strings.TrimSpace(d.Value))
	switch {
	case strings.HasPrefix(d.Property, "--"):
		return true
	case low == "":
		return false
	case !style.KnownProperty(d.Property) && d.Property != "text-size-adjust", d.Property == "behavior",
		strings.HasPrefix(d.Property, "mso-"), strings.HasPrefix(d.Property, "-ms-"), strings.HasPrefix(d.Property, "-moz-"):
		return false
	case strings.Contains(low, "var(") && resolved(low) == "", strings.Contains(low, "expression("):
		return false
	case strings.Contains(colonless.ReplaceAllString(low, ""), ":"):
		return false // two declarations that nothing parts
	case strings.HasSuffix(d.Property, "color") && !isColour(low), strings.HasPrefix(d.Property, "border") && !isBorder(low):
		return false
	case d.Property != "display" && style.TakesLength(d.Property):
		for _, word := range strings.Fields(low) {
			if n, err := strconv.ParseFloat(word, 64); err == nil && n != 0 {
				return false // a number without a unit
			}
		}
	}
	return true
}

// copiedDeclaration reports whether the browser knows a declaration, and whether it says more than the element does by
// itself.
func copiedDeclaration(n *markup.Node, d markup.Declaration) bool {
	low := strings.ToLower(strings.TrimSpace(d.Value))
	switch {
	case !isKnown(d):
		return false
	case d.Property == "text-decoration" && low == "underline" && (n.Is("u", "ins") || n.Is("a") && n.Attribute("href") != nil),
		d.Property == "text-decoration" && low == "none" && n.Is("p", "div", "td", "table", "tr", "tbody"),
		d.Property == "font-style" && low == "normal" && !n.Is("span", "a") && !n.Is(slanted...),
		d.Property == "font-weight" && (low == "normal" || low == "400") && n.Is("p", "div", "td", "table", "tr", "tbody"),
		d.Property == "border-collapse" && low == "separate",
		d.Property == "background-color" && low == "transparent", d.Property == "color" && low == "inherit" && n.Is("a", "span"):
		return false // it says what holds anyway
	case d.Property == "display":
		return low != "block" || !markup.Block(n.Name) || n.Is("table", "td", "th", "tr", "tbody", "li")
	}
	return true
}

// spelled is a value as the object model writes it.
func spelled(d markup.Declaration) string {
	if strings.Contains(d.Value, "{{") || strings.HasPrefix(d.Property, "--") {
		return d.Value
	}
	value := style.Serialized(d.Value)
	if strings.Contains(value, "gradient(") {
		value = commas.ReplaceAllString(value, ", ")
	}
	if strings.Contains(value, "var(") {
		value = style.Serialized(resolved(value))
	}
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
	if strings.HasSuffix(d.Property, "-shadow") {
		slices.SortStableFunc(words, func(a, b string) int { return cmp.Compare(colourFirst(a), colourFirst(b)) })
	}
	if d.Property == "padding" || d.Property == "margin" || d.Property == "border-width" || d.Property == "border-style" ||
		d.Property == "border-color" || d.Property == "border-radius" && !strings.Contains(value, "/") {
		words = style.FoldSides(words)
	}
	return strings.Join(words, " ")
}

// colourFirst orders the words of a shadow as the object model writes them.
func colourFirst(word string) int {
	if _, ok := style.Color(word); ok || strings.HasPrefix(word, "rgb") {
		return 0
	}
	return 1
}

// families writes a list of fonts as a browser spells it.
func families(value string) string {
	var list []string
	for _, f := range strings.Split(value, ",") {
		f = strings.TrimSpace(f)
		name := strings.Trim(f, `'"`)
		if f = name; strings.ContainsAny(name, " .") || name != "" && name[0] >= '0' && name[0] <= '9' {
			f = `"` + name + `"` // a name of one word needs no quotes, and one of several has them
		}
		list = append(list, f)
	}
	return strings.Join(list, ", ")
}

// unitless are properties whose 0 is a number and not a length.
var unitless = []string{"line-height", "opacity", "z-index", "order", "flex", "flex-grow", "flex-shrink", "font-weight",
	"orphans", "widows", "zoom", "tab-size"}

var (
	commas    = regexp.MustCompile(`,\s*`)
	colonless = regexp.MustCompile(`url\([^)]*\)|"[^"]*"|'[^']*'|\{\{[^}]*\}\}|progid:`)
	variable  = regexp.MustCompile(`var\(\s*--[\w-]+\s*(?:,\s*([^()]*(?:\([^()]*\))?[^()]*))?\)`)
	number    = regexp.MustCompile(`^([+-]?)(\d*\.\d*?)0+([a-z%]*)$`)
)

// resolved is a value whose variables, which nobody sets, are replaced by what stands in for them; blank where nothing does.
func resolved(value string) string {
	m := variable.FindStringSubmatch(value)
	if m == nil || m[1] == "" {
		return ""
	}
	return variable.ReplaceAllString(value, "$1")
}

// isColour reports whether a value can be a colour.
func isColour(low string) bool {
	if strings.Contains(low, "{{") || strings.Contains(low, "(") {
		return true
	}
	for _, w := range strings.Fields(low) {
		if _, ok := style.Color(w); !ok && style.ColourForm(w) == "" &&
			!slices.Contains([]string{"currentcolor", "transparent", "inherit", "initial", "unset", "revert", "windowtext", "canvas", "canvastext",
				"linktext"}, w) {
			return false
		}
	}
	return true
}

// isBorder reports whether a value can be a border's: its words are lengths, styles, colours, or what is not known here.
func isBorder(low string) bool {
	for _, w := range strings.Fields(low) {
		if bareHex.MatchString(w) && strings.ContainsAny(w, "abcdef") {
			return false // a colour without its sign
		}
	}
	return true
}

var (
	bareHex = regexp.MustCompile(`^([0-9a-f]{3}|[0-9a-f]{6})$`)
	scheme  = regexp.MustCompile(`^[a-z][a-z0-9+.-]*:`)
)

// wholeAddress is the address of a link as the browser copies it: in full, and encoded (RFC 3986).
func wholeAddress(href string) string {
	low := strings.ToLower(strings.TrimSpace(href))
	web := strings.HasPrefix(low, "http://") || strings.HasPrefix(low, "https://")
	if strings.Contains(href, "{{") || !web && scheme.MatchString(low) {
		return href
	}
	var b strings.Builder
	for i := range len(href) {
		if c := href[i]; c >= 0x80 || strings.IndexByte(" <>\"`", c) >= 0 {
			fmt.Fprintf(&b, "%%%02X", c)
		} else {
			b.WriteByte(c)
		}
	}
	href = strings.TrimSpace(b.String())
	if !web {
		return href
	}
	if rest := href[strings.Index(href, "://")+3:]; rest != "" && !strings.ContainsAny(rest, "/?#") {
		href += "/"
	}
	return href
}

// sidesInto puts sides that follow a shorthand into it.
func sidesInto(list []markup.Declaration, family string) []markup.Declaration {
	first := slices.IndexFunc(list, func(d markup.Declaration) bool { return d.Property == family })
	if first < 0 || strings.Contains(list[first].Value, "{{") {
		return list
	}
	words := strings.Fields(list[first].Value)
	if len(words) == 0 || len(words) > 4 || strings.Contains(list[first].Value, "(") {
		return list
	}
	sides := []string{words[0], words[min(1, len(words)-1)], words[0], words[min(1, len(words)-1)]}
	if len(words) > 2 {
		sides[2] = words[2]
	}
	if len(words) > 3 {
		sides[3] = words[3]
	}
	names := []string{family + "-top", family + "-right", family + "-bottom", family + "-left"}
	var rest []markup.Declaration
	for i, d := range list {
		at := slices.Index(names, d.Property)
		if i > first && at >= 0 && d.Important == list[first].Important && !strings.Contains(d.Value, "{{") {
			sides[at] = d.Value
			continue
		}
		rest = append(rest, d)
	}
	if len(rest) == len(list) {
		return list
	}
	at := slices.IndexFunc(rest, func(d markup.Declaration) bool { return d.Property == family })
	rest[at].Value = strings.Join(sides, " ")
	return rest
}

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
	case number.MatchString(low):
		m := number.FindStringSubmatch(low)
		return m[1] + strings.TrimSuffix(m[2], ".") + m[3]
	case strings.HasPrefix(low, "'"):
		return `"` + strings.Trim(word, "'") + `"`
	}
	if !strings.ContainsAny(word, `"'(`) {
		return low
	}
	return word
}
