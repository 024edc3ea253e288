package client

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"missivum/core/markup"
	"missivum/core/style"
)

// structures are the kinds of match that look at how a document is built.
var structures = map[string]func(*simulation, *Behaviour){
	"document-tags":        documentTags,
	"comments":             comments,
	"stray-tags":           strayTags,
	"conditional-comments": conditionalComments,
	"style-sheets":         styleSheets,
	"picture-without-size": unsizedPictures,
	"block-in-inline":      blocksInInline,
	"nested-tables":        spots(NestedTables),
	"unknown-font":         spots(UnknownFonts),
	"line-height-alone":    spots(LineHeightsAlone),
	"exact-line-picture":   spots(PicturesInExactLines),
	"table-without-gaps":   spots(TablesWithoutGaps),
	"link-colour-none":     spots(LinksWithoutColour),
	"link-colour-once":     spots(LinksColouredOnce),
	"link-without-line":    spots(LinksWithoutLine),
	"plain-number":         spots(PlainNumbers),
	"plain-address":        spots(PlainAddresses),
	"small-text":           spots(SmallTexts),
	"wide":                 spots(WidePieces),
	"tall":                 spots(TallPieces),
	"hidden-content":       spots(HiddenContents),
	"picture-gap":          spots(PictureGaps),
	"picture-border":       spots(PicturesWithBorder),
	"block-margins":        spots(BlocksWithoutMargin),
	"lone-block":           spots(LoneBlocks),
}

// Spot is a place that a structure was found at.
type Spot struct {
	Node *markup.Node
	What string
	Span markup.Span
}

// spots makes a structure of a finder. Such structures are only told; what they do to the look is in words.
func spots(find func(*markup.Document, Match) []Spot) func(*simulation, *Behaviour) {
	return func(s *simulation, b *Behaviour) {
		for _, spot := range find(s.doc, b.Match) {
			if b.Adds != nil {
				s.add(b, spot.Node)
			}
			s.note(b, spot.Node, spot.What, spot.Span)
		}
	}
}

func documentTags(s *simulation, b *Behaviour) {
	for _, n := range MisplacedDocumentTags(s.doc) {
		s.note(b, n, "<"+n.Name+">", n.Open)
	}
	if b.Does == Unwrapped || b.Does == Dropped {
		s.doc.Fragment()
		s.changed()
	}
}

// MisplacedDocumentTags finds html, head and body tags inside other content, and lone end tags of
// theirs: what is left when a page was pasted where a piece of one belongs. A page of the usual build
// has none.
func MisplacedDocumentTags(doc *markup.Document) []*markup.Node {
	var found []*markup.Node
	doc.Root.Walk(func(n *markup.Node) bool {
		switch {
		case n.Kind == markup.Stray && (n.Name == "html" || n.Name == "body" || n.Name == "head"):
			found = append(found, n)
		case n.Is("html", "head", "body"):
			p := n.Parent
			usual := p.Kind == markup.Root || p.Is("html") && p.Parent.Kind == markup.Root && n.Name != "html"
			if !usual {
				found = append(found, n)
				return false
			}
		}
		return true
	})
	return found
}

func comments(s *simulation, b *Behaviour) {
	s.changed()
	s.doc.Root.Walk(func(n *markup.Node) bool {
		if n.Kind == markup.Comment && b.Does == Dropped {
			n.Remove()
		}
		return true
	})
}

// strayTags are end tags that close nothing; whoever reads the markup into a tree loses them.
func strayTags(s *simulation, _ *Behaviour) {
	s.doc.Root.Walk(func(n *markup.Node) bool {
		if n.Kind == markup.Stray {
			n.Remove()
		}
		return true
	})
}

// conditionalComments: a client that honours them shows the content meant for it and leaves out
// what is meant for others; any other drops the hidden ones like every comment.
func conditionalComments(s *simulation, b *Behaviour) {
	s.changed()
	s.doc.Root.Walk(func(n *markup.Node) bool {
		switch {
		case n.Kind == markup.Conditional:
			s.note(b, n, "the content for ["+"if "+n.Condition+"]", n.Open)
			if b.Does == Honoured && !strings.HasPrefix(n.Condition, "!") {
				n.Unwrap()
				return true
			}
			n.Remove()
			return false
		case n.Kind == markup.Comment && strings.HasPrefix(n.Condition, "!") && b.Does == Honoured:
			s.note(b, n, "the content for ["+"if "+n.Condition+"]", n.Open)
			removeUntilEnd(n)
		}
		return true
	})
}

// removeUntilEnd removes a revealed condition's content up to the comment that ends it.
func removeUntilEnd(n *markup.Node) {
	p := n.Parent
	if p == nil {
		return
	}
	inside := false
	for _, c := range append([]*markup.Node(nil), p.Children...) {
		if c == n {
			inside = true
		}
		if !inside {
			continue
		}
		end := c != n && c.Kind == markup.Comment && strings.Contains(c.Data, "[endif]")
		c.Remove()
		if end {
			return
		}
	}
}

func styleSheets(s *simulation, b *Behaviour) {
	defer s.changed()
	for _, n := range s.elements() {
		if n.Name != "style" {
			continue
		}
		for _, rule := range rulesOf(n) {
			s.note(b, n, rule.what, rule.span)
		}
		n.Remove()
	}
}

// linksSheet tells a linked style sheet from other links of a head.
func linksSheet(link *markup.Node) bool {
	rel, _ := link.Attr("rel")
	return strings.Contains(strings.ToLower(rel), "stylesheet")
}

type sheetRule struct {
	what   string // such as "the rule @media"
	at     string // its at-keyword, if it has one
	source string // the rule as it stands
	text   *markup.Node
	span   markup.Span
}

// rulesOf lists the rules in a style sheet's element. style.Inline leaves there only what cannot
// be inlined, each rule as a text of its own that stands where the rule stood.
func rulesOf(n *markup.Node) []sheetRule {
	var list []sheetRule
	for _, c := range n.Children {
		sheet := style.ParseSheet(c.Data, c.Open.Start)
		place := func(span markup.Span) markup.Span {
			if c.Changed() {
				return c.Open
			}
			return span
		}
		for _, at := range sheet.At {
			list = append(list, sheetRule{"the rule @" + at.Name, at.Name, at.Text, c, place(at.Span)})
		}
		for _, r := range sheet.Rules {
			source := ""
			if at := r.Span.Start - c.Open.Start; at >= 0 && at+r.Span.Len() <= len(c.Data) {
				source = c.Data[at : at+r.Span.Len()]
			}
			list = append(list, sheetRule{"the rule " + strings.Join(r.Selectors, ", "), "", source, c, place(r.Span)})
		}
	}
	return list
}

func unsizedPictures(s *simulation, b *Behaviour) {
	for _, n := range s.doc.Root.Elements("img") {
		if Sized(n) {
			continue
		}
		s.note(b, n, "a picture without width and height attributes", n.Open)
	}
}

// Sized reports whether a picture has width and height attributes that give pixels.
func Sized(img *markup.Node) bool {
	for _, name := range []string{"width", "height"} {
		v, ok := img.Attr(name)
		if !ok || strings.TrimSpace(v) == "" || strings.HasSuffix(v, "%") {
			return false
		}
	}
	return true
}

func blocksInInline(s *simulation, b *Behaviour) {
	for _, n := range BlocksInInline(s.doc) {
		s.note(b, n, "<"+n.Name+"> inside <"+inlineAround(n)+">", n.Open)
	}
}

// BlocksInInline finds block elements inside inline ones and inside paragraphs, the outermost of
// each nest.
func BlocksInInline(doc *markup.Document) []*markup.Node {
	var found []*markup.Node
	doc.Root.Walk(func(n *markup.Node) bool {
		if n.Kind == markup.Element && markup.Block(n.Name) && inlineAround(n) != "" {
			found = append(found, n)
			return false
		}
		return true
	})
	return found
}

// inlineAround names the inline element, or the paragraph that the block ends, around a block.
func inlineAround(n *markup.Node) string {
	p := n.Parent
	if p != nil && p.Kind == markup.Element && !markup.Block(p.Name) && !p.Is("html", "head") {
		return p.Name
	}
	if p == nil {
		return ""
	}
	// <p><div></div></p>: the div's tag ended the paragraph, and the paragraph's own end tag is left over
	var before *markup.Node
	behind := false
	for _, c := range p.Children {
		if c == n {
			behind = true
			continue
		}
		if !behind && c.Is("p") && c.ClosedAt > 0 && c.ClosedAt == n.Open.Start {
			before = c
		}
		if behind && before != nil && c.Kind == markup.Stray && c.Name == "p" {
			return "p"
		}
	}
	return ""
}

// NestedTables finds tables that lie in more than Match.Above others.
func NestedTables(doc *markup.Document, m Match) []Spot {
	var found []Spot
	for _, n := range doc.Root.Elements("table") {
		depth := 0
		for p := n.Inside("table"); p != nil; p = p.Inside("table") {
			depth++
		}
		if depth == m.Above {
			found = append(found, Spot{n, fmt.Sprintf("a table inside %d others", depth), n.Open})
		}
	}
	return found
}

// UnknownFonts finds font lists whose first font is not in Match.Fonts; a list that the engine is told another
// font for, by a style sheet for it alone or by mso-font-alt, is right.
func UnknownFonts(doc *markup.Document, m Match) []Spot {
	if engineFont(doc) {
		return nil
	}
	known := func(name string) bool {
		return slices.ContainsFunc(m.Fonts, func(f string) bool { return strings.EqualFold(f, name) })
	}
	var found []Spot
	for _, n := range doc.Root.Elements() {
		if _, told := n.Declared("mso-font-alt"); told {
			continue
		}
		for _, d := range n.Style {
			families := FamiliesOf(d)
			if len(families) > 0 && !known(families[0]) {
				found = append(found, Spot{n, "the font " + families[0], d.Span})
			}
		}
		if face, ok := n.Attr("face"); ok && n.Is("font") {
			if families := style.Families(face); len(families) > 0 && !known(families[0]) {
				found = append(found, Spot{n, "the font " + families[0], n.Attribute("face").Span})
			}
		}
	}
	return found
}

// FamiliesOf lists the fonts that a declaration of font-family or font asks for.
func FamiliesOf(d markup.Declaration) []string {
	switch d.Property {
	case "font-family":
		return style.Families(d.Value)
	case "font":
		if at := strings.LastIndexAny(strings.SplitN(d.Value, ",", 2)[0], "0123456789%"); at >= 0 {
			if _, list, ok := strings.Cut(d.Value[at:], " "); ok {
				return style.Families(list)
			}
		}
	}
	return nil
}

// engineFont tells whether a style sheet for one engine names a font. Of all others only rules that cannot be
// inlined are left when a simulation begins.
func engineFont(doc *markup.Document) bool {
	for _, n := range doc.Root.Elements("style") {
		for _, c := range n.Children {
			for _, rule := range style.ParseSheet(c.Data, 0).Rules {
				for _, d := range rule.Declarations {
					if d.Property == "font-family" && !strings.Contains(strings.Join(rule.Selectors, ","), ":") {
						return true
					}
				}
			}
		}
	}
	return false
}

// LineHeightsAlone finds line heights in lengths without the word processor's exact rule beside them.
func LineHeightsAlone(doc *markup.Document, _ Match) []Spot {
	var found []Spot
	for _, n := range doc.Root.Elements() {
		if _, told := n.Declared("mso-line-height-rule"); told || n.Is("img") { // a picture's is for its alternative text
			continue
		}
		for _, d := range n.Style {
			if d.Property == "line-height" && d.Value != "normal" && d.Value != "inherit" && strings.Trim(d.Value, "0px") != "" {
				found = append(found, Spot{n, d.Property + ": " + d.Value, d.Span})
			}
		}
	}
	return found
}

// PicturesInExactLines finds pictures in lines whose height is exact for the word processor: it cuts them off at
// that height.
func PicturesInExactLines(doc *markup.Document, _ Match) []Spot {
	var found []Spot
	for _, n := range doc.Root.Elements("img") {
		height := float64(n.Pixels("height"))
		for e := n.Parent; e != nil && e.Kind == markup.Element; e = e.Parent {
			rule, ok := e.Declared("mso-line-height-rule")
			if !ok {
				continue
			}
			line, _ := e.Declared("line-height")
			if px, ok := style.Length(line, 16); rule == "exactly" && (!ok || px < height) {
				found = append(found, Spot{n, "a picture in a line of exact height", n.Open})
			}
			break
		}
	}
	return found
}

// TablesWithoutGaps finds tables that do not say that there is no gap between cells and around them: without
// cellspacing or cellpadding.
func TablesWithoutGaps(doc *markup.Document, _ Match) []Spot {
	var found []Spot
	for _, n := range doc.Root.Elements("table") {
		_, spacing := n.Attr("cellspacing")
		_, padding := n.Attr("cellpadding")
		if collapse, _ := n.Declared("border-collapse"); collapse == "collapse" {
			spacing = true
		}
		if !spacing || !padding {
			found = append(found, Spot{n, "a table without cellspacing and cellpadding", n.Open})
		}
	}
	return found
}

// textLinks are links that lead somewhere and have text.
func textLinks(doc *markup.Document) []*markup.Node {
	return slices.DeleteFunc(doc.Root.Elements("a"), func(n *markup.Node) bool {
		_, leads := n.Attr("href")
		return !leads || strings.TrimSpace(n.TextContent()) == ""
	})
}

// LinksWithoutColour finds links with text that leave the colour to the client.
func LinksWithoutColour(doc *markup.Document, _ Match) []Spot {
	var found []Spot
	for _, n := range textLinks(doc) {
		if _, own := n.Declared("color"); !own && !allColoured(n) {
			found = append(found, Spot{n, "a link without a colour", n.Open})
		}
	}
	return found
}

// LinksColouredOnce finds links with text whose colour stands on the link and on no element inside it that holds
// all of the text.
func LinksColouredOnce(doc *markup.Document, _ Match) []Spot {
	var found []Spot
	for _, n := range textLinks(doc) {
		if _, own := n.Declared("color"); own && !allColoured(n) {
			found = append(found, Spot{n, "a link whose colour does not stand on a span inside it too", n.Open})
		}
	}
	return found
}

// LinksWithoutLine finds links with text that leave the underline to the client.
func LinksWithoutLine(doc *markup.Document, _ Match) []Spot {
	var found []Spot
	for _, n := range textLinks(doc) {
		_, line := n.Declared("text-decoration")
		if _, long := n.Declared("text-decoration-line"); !line && !long {
			found = append(found, Spot{n, "a link without text-decoration", n.Open})
		}
	}
	return found
}

// allColoured reports whether every text in a link lies in an element inside it that has a colour.
func allColoured(n *markup.Node) bool {
	for _, c := range n.Children {
		switch {
		case c.Kind == markup.Text && strings.TrimSpace(c.Data) != "":
			return false
		case c.Kind != markup.Element:
		default:
			if _, ok := c.Declared("color"); !ok && !(c.Is("font") && c.Attribute("color") != nil) && !allColoured(c) {
				return false
			}
		}
	}
	return true
}

var (
	numberText  = regexp.MustCompile(`\+?\(?\d[\d\-/.()\x{a0} ]{6,}\d|\{\{[^}]*\|\s*phone[^}]*\}\}|\{\{\s*(telephoneNumber|mobile|facsimileTelephoneNumber|homePhone)\b[^}]*\}\}`)
	addressText = regexp.MustCompile(`[\w.+-]+@[\w-]+\.[\w.-]+\w|\bhttps?://\S+|\bwww\.[\w-]+\.\w[^\s<]*|\{\{\s*(mail|labeledURI)\b[^}]*\}\}`)
)

// PlainNumbers finds telephone numbers in text outside links.
func PlainNumbers(doc *markup.Document, _ Match) []Spot {
	return plain(doc, numberText, "the telephone number %s outside a link", func(s string) bool {
		if strings.HasPrefix(s, "{{") {
			return true
		}
		digits := 0
		for _, r := range s {
			if r >= '0' && r <= '9' {
				digits++
			}
		}
		return digits >= 7 && digits <= 15
	})
}

// PlainAddresses finds mail and web addresses in text outside links.
func PlainAddresses(doc *markup.Document, _ Match) []Spot {
	return plain(doc, addressText, "the address %s outside a link", func(string) bool { return true })
}

func plain(doc *markup.Document, form *regexp.Regexp, words string, fits func(string) bool) []Spot {
	var found []Spot
	doc.Root.Walk(func(n *markup.Node) bool {
		if n.Is("a", "style", "script", "head", "title") || n.Kind == markup.Conditional {
			return false
		}
		if n.Kind == markup.Text {
			raw := n.Data
			if !n.Changed() { // places are those of the source
				raw = doc.Raw(n)
			}
			for _, at := range form.FindAllStringIndex(raw, -1) {
				text := raw[at[0]:at[1]]
				if !fits(text) {
					continue
				}
				span := n.Open
				if !n.Changed() {
					span = markup.Span{Start: n.Open.Start + at[0], End: n.Open.Start + at[1]}
				}
				found = append(found, Spot{n.Parent, fmt.Sprintf(words, text), span})
			}
		}
		return true
	})
	return found
}

// SmallTexts finds text smaller than Match.Below px, once for each declaration that makes it so.
func SmallTexts(doc *markup.Document, m Match) []Spot {
	var found []Spot
	told := map[int]bool{}
	var visit func(n *markup.Node, text style.Text, by Spot)
	visit = func(n *markup.Node, text style.Text, by Spot) {
		if n.Kind == markup.Element {
			before := text.Size
			text = text.In(n)
			if text.Size != before {
				by = Spot{n, "", n.Open}
				for _, d := range n.Style {
					if d.Property == "font-size" || d.Property == "font" {
						by.Span = d.Span
					}
				}
			}
		}
		for _, c := range n.Children {
			if c.Kind == markup.Text && strings.TrimSpace(c.Data) != "" && text.Size > 1 && text.Size < float64(m.Below) && by.Node != nil && !told[by.Span.Start] {
				told[by.Span.Start] = true
				by.What = fmt.Sprintf("text of %.4g px", text.Size)
				found = append(found, by)
			}
			if c.Kind != markup.Conditional && !c.Is("style", "script", "head") {
				visit(c, text, by)
			}
		}
	}
	visit(doc.Root, style.PlainText, Spot{})
	return found
}

// WidePieces finds pictures, tables and other elements whose width is above Match.Above px.
func WidePieces(doc *markup.Document, m Match) []Spot { return sized(doc, m, "width", "wide") }

// TallPieces finds pictures, cells and other elements whose height is above Match.Above px.
func TallPieces(doc *markup.Document, m Match) []Spot { return sized(doc, m, "height", "tall") }

func sized(doc *markup.Document, m Match, side, word string) []Spot {
	var found []Spot
	for _, n := range doc.Root.Elements() {
		px, span := float64(n.Pixels(side)), n.Open
		if a := n.Attribute(side); a != nil && a.Span.Len() > 0 {
			span = a.Span
		}
		for _, d := range n.Style {
			if d.Property == side || d.Property == "min-"+side {
				if length, ok := style.Length(d.Value, 0); ok && !strings.HasSuffix(d.Value, "%") && length > px {
					px, span = length, d.Span
				}
			}
		}
		if px > float64(m.Above) {
			found = append(found, Spot{n, fmt.Sprintf("<%s> %.4g px %s", n.Name, px, word), span})
		}
	}
	return found
}

// HiddenContents finds elements with content that styles hide and that do not tell the word processor so.
func HiddenContents(doc *markup.Document, _ Match) []Spot {
	var found []Spot
	for _, n := range doc.Root.Elements() {
		if _, told := n.Declared("mso-hide"); told {
			continue
		}
		for _, d := range n.Style {
			hides := d.Property == "display" && d.Value == "none" || d.Property == "visibility" && d.Value == "hidden" ||
				d.Property == "max-height" && strings.Trim(d.Value, "0px") == "" || d.Property == "opacity" && d.Value == "0"
			if hides && (strings.TrimSpace(n.TextContent()) != "" || len(n.Elements("img")) > 0) {
				found = append(found, Spot{n, d.Property + ": " + d.Value, d.Span})
				break
			}
		}
	}
	return found
}

// PictureGaps finds pictures that fill a cell but stand on a line of text in it: below each the room for
// descenders is left.
func PictureGaps(doc *markup.Document, _ Match) []Spot {
	var found []Spot
	for _, n := range doc.Root.Elements("img") {
		if display, _ := n.Declared("display"); display == "block" {
			continue
		}
		cell, inner := n.Parent, n
		for cell.Is("a") {
			cell, inner = cell.Parent, cell
		}
		if !cell.Is("td", "th") || !sliced(cell) {
			continue
		}
		alone := true
		for _, c := range cell.Children {
			alone = alone && (c == inner || c.Kind == markup.Comment || c.Kind == markup.Text && strings.TrimSpace(c.Data) == "")
		}
		if alone {
			found = append(found, Spot{n, "a picture that fills its cell without display: block", n.Open})
		}
	}
	return found
}

// sliced reports whether a cell is part of a picture cut into a table: a cell beside, above or below it holds a
// picture alone too.
func sliced(cell *markup.Node) bool {
	table := cell.Inside("table")
	if table == nil {
		return false
	}
	pictures := 0
	for _, c := range table.Elements("td", "th") {
		if strings.TrimSpace(c.TextContent()) == "" && len(c.Elements("img")) == 1 && c.Inside("table") == table {
			pictures++
		}
	}
	return pictures > 1
}

// PicturesWithBorder finds linked pictures that do not say that they have no border.
func PicturesWithBorder(doc *markup.Document, _ Match) []Spot {
	var found []Spot
	for _, n := range doc.Root.Elements("img") {
		if n.Inside("a") == nil {
			continue
		}
		_, told := n.Attr("border")
		for _, d := range n.Style {
			told = told || strings.HasPrefix(d.Property, "border") && d.Property != "border-radius"
		}
		if !told {
			found = append(found, Spot{n, "a linked picture without a border of 0", n.Open})
		}
	}
	return found
}

// BlocksWithoutMargin finds paragraphs, headings and lists that leave their margins to the client.
func BlocksWithoutMargin(doc *markup.Document, _ Match) []Spot {
	var found []Spot
	for _, n := range doc.Root.Elements("p", "h1", "h2", "h3", "h4", "h5", "h6", "ul", "ol", "blockquote") {
		told := false
		for _, d := range n.Style {
			told = told || d.Property == "margin" || d.Property == "margin-top" || d.Property == "margin-bottom"
		}
		if !told {
			found = append(found, Spot{n, "<" + n.Name + "> without margins of its own", n.Open})
		}
	}
	return found
}

// LoneBlocks finds the one paragraph or division that is all of the signature, with nothing but text and inline
// elements in it.
func LoneBlocks(doc *markup.Document, _ Match) []Spot {
	var outer []*markup.Node
	var visit func(n *markup.Node)
	visit = func(n *markup.Node) {
		for _, c := range n.Children {
			switch {
			case c.Is("html", "body"):
				visit(c)
			case c.Is("head", "style", "link", "meta", "title"):
			case c.Kind == markup.Element, c.Kind == markup.Text && strings.TrimSpace(c.Data) != "":
				outer = append(outer, c)
			}
		}
	}
	visit(doc.Root)
	if len(outer) != 1 || !outer[0].Is("p", "div") || len(outer[0].Style) == 0 {
		return nil
	}
	for _, e := range outer[0].Elements() {
		if e != outer[0] && (markup.Block(e.Name) || e.Is("img")) {
			return nil
		}
	}
	return []Spot{{outer[0], "<" + outer[0].Name + "> that is all of the signature", outer[0].Open}}
}
