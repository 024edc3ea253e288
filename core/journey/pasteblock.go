package journey

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"missivum/core/markup"
	"missivum/core/style"
)

// What Chromium does when it copies a selection and pastes it, measured with the installed one: the block that is all of what is copied
// vanishes, what text takes from it is written onto each piece in it, and shares of the width become px.

// copiedFrom is how wide the content of the page is from which a signature is copied, in px: a window of 900 px with the margins of a body.
const copiedFrom = 884

// vanishing are the blocks that are lost when they are all of what is copied. Headings, lists and tables stay.
var vanishing = []string{"div", "p", "center", "section", "article", "aside", "main", "nav", "header", "footer", "address",
	"blockquote", "figure",
	"figcaption", "form", "fieldset"}

// inherited are the properties that are written onto the pieces of a block that vanishes, in the order in which the browser writes them.
var inherited = []string{"color", "font-family", "font-size", "font-style", "font-weight", "letter-spacing", "text-align", "text-indent",
	"text-transform", "white-space", "word-spacing"}

// loneBlock takes the block away that is all of a document, and the one in it, and so on.
func loneBlock(doc *markup.Document) {
	given, behind, width := map[string]string{}, "", float64(copiedFrom)
	root := shownIn(doc.Root)
	for {
		trimmed(root)
		block := onlyBlock(root)
		if block == nil {
			break
		}
		if block.Is("center") {
			given["text-align"] = "-webkit-center"
		}
		if align, ok := block.Attr("align"); ok && block.Is("p") {
			given["text-align"] = strings.ToLower(align)
		} else if ok && block.Is("div") {
			given["text-align"] = "-webkit-" + strings.ToLower(align)
		}
		for _, d := range block.Style {
			px, isLength := style.Length(d.Value, 16)
			switch {
			case d.Property == "font":
				for property, value := range ofFont(d.Value) {
					if slices.Contains(inherited, property) {
						given[property] = worked(property, value)
					}
				}
			case slices.Contains(inherited, d.Property):
				given[d.Property] = worked(d.Property, d.Value)
			case d.Property == "background-color" || d.Property == "background" && !strings.Contains(d.Value, "url(") &&
				!strings.Contains(d.Value, "gradient"):
				behind = d.Value
			case d.Property == "width" && isLength && strings.HasSuffix(d.Value, "%"):
				width *= px / 16
			case d.Property == "width" && isLength:
				width = px
			}
		}
		block.Unwrap()
	}
	for property, value := range map[string]string{"font-weight": "400", "font-style": "normal", "text-align": "left",
		"letter-spacing": "normal",
		"text-transform": "none", "white-space": "normal"} {
		if given[property] == value {
			delete(given, property)
		}
	}
	line := lineAtEnd(root)
	for _, n := range slices.Clone(root.Children) {
		switch {
		case n == line:
		case n.Kind == markup.Element:
			handOn(n, given)
			frozen(n, width)
		case n.Kind == markup.Text && (len(given) > 0 || behind != "") && n.Data != "":
			span := markup.NewElement("span", n.Open)
			list := ordered(given, nil)
			if behind != "" {
				list = append([]markup.Declaration{{Property: "background-color", Value: behind}}, list...)
			}
			n.ReplaceWith(span)
			span.Append(n)
			restyle(span, list)
		}
	}
}

// shownIn is what holds all that is shown: the document, or the body of a whole page.
func shownIn(root *markup.Node) *markup.Node {
	var only *markup.Node
	for _, c := range root.Children {
		switch {
		case c.Kind == markup.Text && strings.TrimSpace(c.Data) == "" || c.Kind != markup.Text && c.Kind != markup.Element || c.Is("head"):
		case only != nil || !c.Is("html", "body"):
			return root
		default:
			only = c
		}
	}
	if only == nil {
		return root
	}
	return shownIn(only)
}

// trimmed takes blocks away that show nothing at the beginning and at the end: nothing in them can be selected.
func trimmed(root *markup.Node) {
	shows := func(n *markup.Node) bool {
		return strings.Trim(n.TextContent(), " \t\r\n\f") != "" ||
			len(n.Elements("img", "hr", "br", "table", "td", "input", "svg", "video", "canvas")) > 0 ||
			n.Is("img", "hr", "br", "table", "input", "svg", "canvas", "td", "tr")
	}
	for _, backwards := range []bool{false, true} {
		list := slices.Clone(root.Children)
		if backwards {
			slices.Reverse(list)
		}
		for _, n := range list {
			if n.Kind == markup.Element && n.Is(vanishing...) && !shows(n) && !(backwards && hasHeight(n)) {
				n.Remove()
			} else if n.Kind != markup.Text || strings.TrimSpace(n.Data) != "" {
				break
			}
		}
	}
}

// hasHeight reports whether a block takes room without anything in it.
func hasHeight(n *markup.Node) bool {
	height, _ := n.Declared("height")
	px, ok := style.Length(height, 16)
	return ok && px > 0
}

// lineAtEnd makes a block that takes room and shows nothing an empty line, where it ends what is copied; nil for none.
func lineAtEnd(root *markup.Node) *markup.Node {
	for _, n := range slices.Backward(root.Children) {
		if n.Kind == markup.Text && strings.TrimSpace(n.Data) == "" {
			continue
		}
		if !n.Is(vanishing...) || len(n.Children) > 0 || !hasHeight(n) {
			return nil
		}
		line := markup.NewElement("div", n.Open)
		n.ReplaceWith(line)
		line.Append(markup.NewElement("br", n.Open))
		return line
	}
	return nil
}

// withoutMaps removes maps for the pointer that stand behind all that is shown, and are nothing without their areas.
func withoutMaps(n *markup.Node) (shown bool) {
	for _, c := range slices.Backward(slices.Clone(n.Children)) {
		switch {
		case c.Kind == markup.Text && strings.TrimSpace(c.Data) == "":
		case c.Is("map") && strings.TrimSpace(c.TextContent()) == "" && len(c.Elements("img")) == 0:
			c.Remove()
		case c.Kind == markup.Element && len(c.Children) > 0:
			if withoutMaps(c) {
				return true
			}
		default:
			return true
		}
	}
	return false
}

// plainSpaces makes a space that does not break a plain one where it stands alone between two signs of a line, as the
// browser does when it pastes.
func plainSpaces(root *markup.Node) {
	type sign struct {
		r    rune
		node *markup.Node // nil for the end of a line
	}
	var signs []sign
	var visit func(n *markup.Node)
	visit = func(n *markup.Node) {
		ends := n.Kind == markup.Element && !n.Is("a", "span", "b", "strong", "i", "em", "u", "font", "small", "big", "sub",
			"sup", "code", "abbr")
		if ends {
			signs = append(signs, sign{})
		}
		if n.Kind == markup.Text {
			for _, r := range n.Data {
				signs = append(signs, sign{r, n})
			}
		}
		for _, c := range n.Children {
			if c.Kind != markup.Conditional {
				visit(c)
			}
		}
		if ends {
			signs = append(signs, sign{})
		}
	}
	visit(root)
	shown := func(i int) bool {
		return i >= 0 && i < len(signs) && signs[i].node != nil && !strings.ContainsRune(" \t\r\n\u00a0", signs[i].r)
	}
	texts := map[*markup.Node]*strings.Builder{}
	for i, s := range signs {
		if s.node == nil {
			continue
		}
		if texts[s.node] == nil {
			texts[s.node] = &strings.Builder{}
		}
		if s.r == '\u00a0' && shown(i-1) && shown(i+1) {
			s.r = ' '
		}
		texts[s.node].WriteRune(s.r)
	}
	for n, text := range texts {
		if text.String() != n.Data {
			n.SetText(text.String())
		}
	}
}

// inherits is what an element has from those around it.
type inherits struct {
	size float64         // of its letters, px
	set  map[string]bool // the properties of initially that something around it sets
	// leftwards is whether its text runs from right to left.
	leftwards bool
}

// byElement stands in inherits.set for a side that an element or its attribute gives.
const byElement = "align"

// initially are values that say nothing where nothing around says otherwise: those of the page that is pasted into.
var initially = map[string][]string{"color": {"rgb(0, 0, 0)", "black", "#000", "#000000"}, "text-align": {"left", "start"},
	"letter-spacing": {"normal"}, "white-space": {"normal"}, "font-size": {"medium"}}

// workOut writes shares of the letters' size in px, and takes away what holds anyway.
func workOut(n *markup.Node, from inherits) {
	if n.Kind == markup.Element {
		from = from.in(n)
	}
	for _, c := range n.Children {
		if c.Kind != markup.Conditional {
			workOut(c, from)
		}
	}
}

// in gives what the children of an element have from it, and works its declarations out.
func (h inherits) in(n *markup.Node) inherits {
	next := inherits{size: h.size, set: map[string]bool{}, leftwards: h.leftwards}
	for property := range h.set {
		next.set[property] = true
	}
	switch _, aligned := n.Attr("align"); {
	case n.Is("table"):
		delete(next.set, byElement) // a table begins anew, below center and the like
	case n.Is("center", "th") || aligned:
		next.set[byElement] = true
	}
	direction, given := n.Declared("direction")
	if dir, ok := n.Attr("dir"); ok && !given {
		direction, given = strings.ToLower(dir), true
	}
	if given {
		next.leftwards = direction == "rtl"
	}
	if n.Is("font") && n.Attribute("color") != nil || n.Is("a") && n.Attribute("href") != nil || n.Is("body") && n.Attribute("text") != nil {
		next.set["color"] = true
	}
	if n.Is("pre", "textarea", "nobr") {
		next.set["white-space"] = true
	}
	next.size *= style.OwnSize(n.Name)
	list, changed := []markup.Declaration{}, false
	for _, d := range n.Style {
		if d.Property == "font-size" {
			if share, ok := percent(d.Value); ok {
				d.Value, changed = pixelText(h.size*share), true
			}
			next.size = h.sizeOf(d.Value)
		} else if parts := ofFont(d.Value); d.Property == "font" && parts != nil {
			next.size = h.sizeOf(parts["font-size"])
		}
		if values, known := initially[d.Property]; known {
			if next.leftwards && d.Property == "text-align" {
				values = []string{"right", "start"}
			}
			held := next.set[d.Property] || d.Property == "text-align" && next.set[byElement]
			if slices.Contains(values, strings.ToLower(d.Value)) && !held && !d.Important {
				changed = true
				continue
			}
			next.set[d.Property] = true
		}
		list = append(list, d)
	}
	for i, d := range list {
		share, ok := percent(d.Value)
		switch {
		case ok && d.Property == "line-height":
			list[i].Value, changed = pixelText(next.size*share), true
		case ok && share == 1 && d.Property == "width" && n.Is("img") && n.Pixels("width") > 0:
			list[i].Value, changed = pixelText(float64(n.Pixels("width"))), true // of a cell that is made for it
		}
	}
	if changed {
		restyle(n, list)
	}
	return next
}

// keywordSizes are the sizes of letters that have names (CSS Fonts 4, 2.5), in px.
var keywordSizes = map[string]float64{"xx-small": 9, "x-small": 10, "small": 13, "medium": 16, "large": 18, "x-large": 24, "xx-large": 32}

// sizeOf is a size of letters in px; that of what is around for one that is not known.
func (h inherits) sizeOf(value string) float64 {
	if px, ok := keywordSizes[strings.ToLower(value)]; ok {
		return px
	}
	if px, ok := style.Length(value, h.size); ok {
		return px
	}
	return h.size
}

// percent is a share written in percent, as a factor.
func percent(value string) (float64, bool) {
	number, found := strings.CutSuffix(value, "%")
	share, err := strconv.ParseFloat(number, 64)
	return share / 100, found && err == nil
}

// onlyBlock is the block that is all of what is shown; nil where there is more, or something else.
func onlyBlock(root *markup.Node) *markup.Node {
	var only *markup.Node
	for _, c := range root.Children {
		switch {
		case c.Kind == markup.Text && strings.TrimSpace(c.Data) == "" || c.Kind != markup.Text && c.Kind != markup.Element:
		case only != nil || c.Kind == markup.Text || !c.Is(vanishing...):
			return nil
		default:
			only = c
		}
	}
	if only == nil || len(only.Children) == 0 {
		return nil
	}
	return only
}

// ordered are declarations in the browser's order, without those that an element has itself.
func ordered(given map[string]string, own *markup.Node) (list []markup.Declaration) {
	for _, property := range inherited {
		value, ok := given[property]
		if !ok {
			continue
		}
		if own != nil {
			if _, has := own.Declared(property); has || own.Is("table") && property == "text-align" &&
				strings.HasPrefix(value, "-webkit-") || own.Is("b", "strong", "th") && property == "font-weight" ||
				own.Is("i", "em") && property == "font-style" || own.Is("a") && own.Attribute("href") != nil && property == "color" {
				continue
			}
			if _, has := own.Declared("font"); has && strings.HasPrefix(property, "font-") {
				continue
			}
		}
		list = append(list, markup.Declaration{Property: property, Value: value})
	}
	return list
}

// handOn writes what an element had from the block that vanished onto the element itself.
func handOn(n *markup.Node, given map[string]string) {
	if list := ordered(given, n); len(list) > 0 {
		restyle(n, append(list, n.Style...))
	}
}

// frozen writes a share of the width in px.
func frozen(n *markup.Node, width float64) {
	for i, d := range n.Style {
		share, err := strconv.ParseFloat(strings.TrimSuffix(d.Value, "%"), 64)
		if d.Property != "width" || !strings.HasSuffix(d.Value, "%") || err != nil {
			continue
		}
		list := slices.Clone(n.Style)
		list[i].Value = pixelText(width * share / 100)
		restyle(n, list)
	}
}

// pixelText is a length in px with three digits at most.
func pixelText(px float64) string {
	return strings.TrimSuffix(strings.TrimRight(strconv.FormatFloat(px, 'f', 3, 64), "0"), ".") + "px"
}

// restyle gives an element declarations, and writes them as its last attribute.
func restyle(n *markup.Node, list []markup.Declaration) {
	n.RemoveAttr("style")
	n.SetStyle(list)
	if len(list) > 0 {
		n.SetAttr("style", n.Attribute("style").Value+";")
	}
}

// worked is a value as the browser has worked it out.
func worked(property, value string) string {
	low := strings.ToLower(strings.TrimSpace(value))
	switch property {
	case "font-weight":
		switch low {
		case "bold", "bolder":
			return "700"
		case "normal":
			return "400"
		}
	case "font-size", "letter-spacing", "word-spacing", "text-indent":
		if px, ok := style.Length(low, 16); ok {
			return pixelText(px)
		}
	case "color":
		if c, ok := style.Color(low); ok {
			return fmt.Sprintf("rgb(%d, %d, %d)", c.R, c.G, c.B)
		}
	}
	return value
}

// fontReset is what font sets beside what it names, as the browser writes it where it writes font out.
const fontReset = "font-size-adjust: none; font-language-override: normal; font-kerning: auto; font-optical-sizing: auto; " +
	"font-feature-settings: normal; font-variation-settings: normal; font-stretch: normal"

// ofFont takes a font apart; nil for one that cannot be.
func ofFont(value string) map[string]string {
	words := components(value)
	parts := map[string]string{"font-style": "normal", "font-variant": "normal", "font-weight": "normal", "line-height": "normal"}
	for i, w := range words {
		low := strings.ToLower(w)
		switch {
		case low == "italic" || low == "oblique":
			parts["font-style"] = low
		case low == "small-caps":
			parts["font-variant"] = low
		case low == "bold" || low == "bolder" || low == "lighter" || len(low) == 3 && strings.HasSuffix(low, "00"):
			parts["font-weight"] = low
		case low == "normal" || low == "/":
		default:
			size, height, slash := strings.Cut(w, "/")
			if _, ok := style.Length(size, 16); !ok && !strings.HasSuffix(size, "%") && !strings.Contains(size, "small") &&
				!strings.Contains(size, "large") && size != "medium" {
				return nil
			}
			parts["font-size"] = size
			rest := words[i+1:]
			if slash && height != "" {
				parts["line-height"] = height
			} else if len(rest) > 1 && rest[0] == "/" {
				parts["line-height"], rest = rest[1], rest[2:]
			}
			if len(rest) == 0 {
				return nil
			}
			parts["font-family"] = families(strings.Join(rest, " "))
			return parts
		}
	}
	return nil
}

// fontParts writes a font out as the browser does, but for its weight.
func fontParts(parts map[string]string) []markup.Declaration {
	list := declarationsOf("font-style: " + parts["font-style"] + "; font-variant: " + parts["font-variant"] + "; " + fontReset)
	for _, name := range []string{"font-size", "line-height", "font-family"} {
		list = append(list, markup.Declaration{Property: name, Value: parts[name]})
	}
	return list
}

// writtenOut gives shorthands as the browser writes them: a font without a weight, a background without a colour, and a border with another
// one on a side are taken apart.
func writtenOut(list []markup.Declaration) []markup.Declaration {
	var out []markup.Declaration
	for _, d := range list {
		switch {
		case strings.Contains(d.Value, "{{") || d.Important:
		case d.Property == "font":
			if parts := ofFont(d.Value); parts != nil && (parts["font-weight"] == "normal" || parts["font-weight"] == "400") {
				out = append(out, fontParts(parts)...)
				continue
			}
		case d.Property == "background":
			if parts := backgroundParts(d.Value); parts != nil {
				out = append(out, parts...)
				continue
			}
		}
		out = append(out, d)
	}
	return noBorders(borders(out))
}

// noBorders writes a border of none out in its parts, as the browser does.
func noBorders(list []markup.Declaration) []markup.Declaration {
	var out []markup.Declaration
	for _, d := range list {
		switch {
		case d.Value != "none" || d.Important || !strings.HasPrefix(d.Property, "border"):
			out = append(out, d)
		case d.Property == "border":
			out = append(out, declarationsOf("border-width: medium; border-style: none; border-color: currentcolor; border-image: none")...)
		case slices.Contains([]string{"border-top", "border-right", "border-bottom", "border-left"}, d.Property):
			out = append(out, declarationsOf(d.Property+"-width: medium; "+d.Property+"-style: none; "+d.Property+"-color: currentcolor")...)
		default:
			out = append(out, d)
		}
	}
	return out
}

func declarationsOf(text string) (list []markup.Declaration) {
	for _, part := range strings.Split(text, "; ") {
		property, value, _ := strings.Cut(part, ": ")
		list = append(list, markup.Declaration{Property: property, Value: value})
	}
	return list
}

// backgroundParts takes a background apart that has no colour; nil for one that has, or that has several layers.
func backgroundParts(value string) []markup.Declaration {
	parts := map[string]string{}
	var position []string
	words := components(value)
	for i := 0; i < len(words); i++ {
		w, low := words[i], strings.ToLower(words[i])
		switch {
		case strings.Contains(low, "url(") || strings.Contains(low, "gradient(") || low == "none":
			parts["image"] = w
		case strings.HasPrefix(low, "repeat") || low == "no-repeat":
			parts["repeat"] = low
		case low == "fixed" || low == "scroll" || low == "local":
			parts["attachment"] = low
		case low == "/" && i+1 < len(words):
			parts["size"] = words[i+1]
			i++
		case slices.Contains([]string{"left", "right", "top", "bottom", "center"}, low) || low[0] >= '0' && low[0] <= '9' || low[0] == '-':
			at, size, slash := strings.Cut(low, "/")
			if position = append(position, at); slash {
				parts["size"] = size
			}
		default:
			if at, size, slash := strings.Cut(low, "/"); slash && slices.Contains([]string{"left", "right", "top", "bottom", "center"}, at) {
				position, parts["size"] = append(position, at), size
				continue
			}
			return nil // a colour, or what is not known here
		}
	}
	if parts["image"] == "" || slices.ContainsFunc(words, func(w string) bool { return strings.HasSuffix(w, ",") }) {
		return nil
	}
	if len(position) == 1 && position[0] == "center" {
		position = append(position, "center")
	}
	parts["position"] = strings.Join(position, " ")
	var list []markup.Declaration
	for _, name := range []string{"image", "position", "size", "repeat", "attachment", "origin", "clip"} {
		value := parts[name]
		if value == "" {
			value = "initial"
		}
		list = append(list, markup.Declaration{Property: "background-" + name, Value: value})
	}
	return list
}

// borders takes a border apart where one on a side follows it.
func borders(list []markup.Declaration) []markup.Declaration {
	first := slices.IndexFunc(list, func(d markup.Declaration) bool { return d.Property == "border" })
	if first < 0 {
		return list
	}
	names := []string{"border-top", "border-right", "border-bottom", "border-left"}
	sides, later := [4][3]string{}, false
	width, kind, colour := borderParts(list[first].Value)
	for i := range sides {
		sides[i] = [3]string{width, kind, colour}
	}
	var rest []markup.Declaration
	for i, d := range list {
		at := slices.Index(names, d.Property)
		switch {
		case i == first:
		case i > first && at >= 0:
			width, kind, colour := borderParts(d.Value)
			sides[at], later = [3]string{width, kind, colour}, true
		default:
			rest = append(rest, d)
		}
	}
	if !later {
		return list
	}
	for part, name := range []string{"border-width", "border-style", "border-color"} {
		values := []string{sides[0][part], sides[1][part], sides[2][part], sides[3][part]}
		rest = append(rest, markup.Declaration{Property: name, Value: strings.Join(style.FoldSides(values), " ")})
	}
	return append(rest, markup.Declaration{Property: "border-image", Value: "none"})
}

// borderParts are width, style and colour of a border as the browser writes them.
func borderParts(value string) (width, kind, colour string) {
	width, kind, colour = "medium", "none", "currentcolor"
	for _, w := range components(value) {
		low := strings.ToLower(w)
		switch {
		case low == "0":
			width = "0px"
		case slices.Contains([]string{"none", "solid", "dotted", "dashed", "double", "groove", "ridge", "inset", "outset", "hidden"}, low):
			kind = low
		case low[0] >= '0' && low[0] <= '9' || low[0] == '.' || low == "thin" || low == "medium" || low == "thick":
			width = w
		default:
			colour = w
		}
	}
	return width, kind, colour
}
