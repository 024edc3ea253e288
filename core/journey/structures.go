package journey

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"missivum/core/client"
	"missivum/core/field"
	"missivum/core/markup"
	"missivum/core/style"
)

// structure is a kind of match that looks at how a document is built: it is found, which does no more than report it and
// add what the behaviour adds, or it is applied.
type structure struct {
	name  string
	doc   string
	find  func(*markup.Document, client.Match) []spot
	apply func(*simulation, *client.Behaviour)
	words func(Subject) string // what was found, for people; nil where subjects of other kinds are reported
}

// spot is a place at which a structure was found. Without a subject of its own it is the structure's.
type spot struct {
	node  *markup.Node
	span  markup.Span
	about Subject
}

// structures are all kinds. They are set in init, since their functions name them.
var structures []*structure

func init() {
	structures = []*structure{
		{
			name:  "document-tags",
			doc:   "Tags of html, head and body inside other content, or lone end tags of theirs.",
			apply: documentTags,
			words: func(s Subject) string { return "<" + s.Element + ">" },
		},
		{
			name:  "comments",
			doc:   "Comments.",
			apply: comments,
		},
		{
			name:  "stray-tags",
			doc:   "End tags that close nothing.",
			apply: strayTags,
		},
		{
			name:  "conditional-comments",
			doc:   "Comments whose content is meant for one engine, or for all others.",
			apply: conditionalComments,
		},
		{
			name:  "style-sheets",
			doc:   "Style sheets in the document.",
			apply: styleSheets,
		},
		{
			name:  "picture-without-size",
			doc:   "Pictures without width and height attributes that give pixels.",
			find:  unsizedPictures,
			words: func(s Subject) string { return "a picture without width and height attributes" },
		},
		{
			name:  "block-in-inline",
			doc:   "Block elements inside inline ones and inside paragraphs, the outermost of each nest.",
			find:  blocksInInline,
			words: func(s Subject) string { return "<" + s.Element + "> inside <" + s.Value + ">" },
		},
		{
			name:  "nested-tables",
			doc:   "Tables that lie in more than Match.Above others.",
			find:  nestedTables,
			words: func(s Subject) string { return fmt.Sprintf("a table inside %.0f others", s.Size) },
		},
		{
			name: "unknown-font",
			doc: "Font lists whose first font is not in Match.Fonts; a list for which the engine is given another font " +
				"for, by a style sheet for it alone or by mso-font-alt, is right.",
			find:  unknownFonts,
			words: func(s Subject) string { return "the font " + s.Value },
		},
		{
			name: "line-height-alone",
			doc:  "Line heights in lengths without the word processor's exact rule beside them.",
			find: lineHeightsAlone,
		},
		{
			name:  "exact-line-picture",
			doc:   "Pictures in lines whose height is exact for the word processor: it cuts them off at that height.",
			find:  picturesInExactLines,
			words: func(s Subject) string { return "a picture in a line of exact height" },
		},
		{
			name:  "table-without-gaps",
			doc:   "Tables that do not say that there is no gap between cells and around them: without cellspacing or cellpadding.",
			find:  tablesWithoutGaps,
			words: func(s Subject) string { return "a table without cellspacing and cellpadding" },
		},
		{
			name:  "link-colour-none",
			doc:   "Links with text that leave the colour to the client.",
			find:  linksWithoutColour,
			words: func(s Subject) string { return "a link without a colour" },
		},
		{
			name:  "link-colour-once",
			doc:   "Links with text whose colour stands on the link and on no element inside it that holds all of the text.",
			find:  linksColouredOnce,
			words: func(s Subject) string { return "a link whose colour does not stand on a span inside it too" },
		},
		{
			name:  "link-without-line",
			doc:   "Links with text that leave the underline to the client.",
			find:  linksWithoutLine,
			words: func(s Subject) string { return "a link without text-decoration" },
		},
		{
			name:  "plain-number",
			doc:   "Telephone numbers in text outside links.",
			find:  plainNumbers,
			words: func(s Subject) string { return "the telephone number " + s.Value + " outside a link" },
		},
		{
			name:  "plain-address",
			doc:   "Mail and web addresses in text outside links.",
			find:  plainAddresses,
			words: func(s Subject) string { return "the address " + s.Value + " outside a link" },
		},
		{
			name:  "small-text",
			doc:   "Text smaller than Match.Below px, once for each declaration that makes it so.",
			find:  smallTexts,
			words: func(s Subject) string { return fmt.Sprintf("text of %.4g px", s.Size) },
		},
		{
			name:  "wide",
			doc:   "Pictures, tables and other elements whose width is above Match.Above px.",
			find:  widePieces,
			words: func(s Subject) string { return fmt.Sprintf("<%s> %.4g px wide", s.Element, s.Size) },
		},
		{
			name:  "tall",
			doc:   "Pictures, cells and other elements whose height is above Match.Above px.",
			find:  tallPieces,
			words: func(s Subject) string { return fmt.Sprintf("<%s> %.4g px tall", s.Element, s.Size) },
		},
		{
			name: "hidden-content",
			doc:  "Elements with content that styles hide and that say nothing of it to the word processor.",
			find: hiddenContents,
		},
		{
			name:  "picture-gap",
			doc:   "Pictures that fill a cell but stand on a line of text in it: below each the room for descenders is left.",
			find:  pictureGaps,
			words: func(s Subject) string { return "a picture that fills its cell without display: block" },
		},
		{
			name:  "picture-border",
			doc:   "Linked pictures that do not say that they have no border.",
			find:  picturesWithBorder,
			words: func(s Subject) string { return "a linked picture without a border of 0" },
		},
		{
			name:  client.HostedPicture,
			doc:   "Pictures by address whose tag does not ask the client that sends them to leave them where they are hosted (nosend).",
			find:  picturesSentAlong,
			words: func(s Subject) string { return "a picture by address without nosend" },
		},
		{
			name:  "block-margins",
			doc:   "Paragraphs, headings and lists that leave their margins to the client.",
			find:  blocksWithoutMargin,
			words: func(s Subject) string { return "<" + s.Element + "> without margins of its own" },
		},
		{
			name:  "lone-block",
			doc:   "The one paragraph or division that is all of the signature, with nothing but text and inline elements in it.",
			find:  loneBlocks,
			words: func(s Subject) string { return "<" + s.Element + "> that is all of the signature" },
		},
	}
}

// structureOf returns the structure of a name. The schema of profiles lists the names, and a test holds the two
// together.
func structureOf(name string) *structure {
	for _, s := range structures {
		if s.name == name {
			return s
		}
	}
	return &structure{name: name}
}

// run finds the structure and applies the behaviour to what is found.
func (st *structure) run(s *simulation, b *client.Behaviour) {
	if st.apply != nil {
		st.apply(s, b)
		return
	}
	if st.find == nil {
		return
	}
	for _, found := range st.find(s.doc, b.Match) {
		if b.Adds != nil {
			s.add(b, found.node)
		}
		if found.about.Kind == "" {
			found.about.Kind, found.about.Name = Structure, st.name
		}
		s.note(b, found.node, found.about, found.span)
	}
}

// says is what becomes of a structure, in words.
func (st *structure) says(s Subject) string {
	if st.words == nil {
		return st.name
	}
	return st.words(s)
}

// documentTags handles html, head and body in what is pasted or appended.
func documentTags(s *simulation, b *client.Behaviour) {
	for _, n := range MisplacedDocumentTags(s.doc) {
		s.note(b, n, Subject{Kind: Structure, Name: "document-tags", Element: n.Name}, n.Open)
	}
	if b.Does == client.Unwrapped || b.Does == client.Dropped {
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

// comments handles comments, conditional ones too.
func comments(s *simulation, b *client.Behaviour) {
	s.changed()
	s.doc.Root.Walk(func(n *markup.Node) bool {
		if n.Kind == markup.Comment && b.Does == client.Dropped {
			n.Remove()
		}
		return true
	})
}

// strayTags are end tags that close nothing; whoever reads the markup into a tree loses them.
func strayTags(s *simulation, _ *client.Behaviour) {
	s.doc.Root.Walk(func(n *markup.Node) bool {
		if n.Kind == markup.Stray {
			n.Remove()
		}
		return true
	})
}

// conditionalComments: a client that honours them shows the content meant for it and leaves out
// what is meant for others; any other drops the hidden ones like every comment.
func conditionalComments(s *simulation, b *client.Behaviour) {
	s.changed()
	s.doc.Root.Walk(func(n *markup.Node) bool {
		switch {
		case n.Kind == markup.Conditional:
			s.note(b, n, Subject{Kind: Condition, Value: n.Condition}, n.Open)
			if b.Does == client.Honoured && !strings.HasPrefix(n.Condition, "!") {
				n.Unwrap()
				return true
			}
			n.Remove()
			return false
		case n.Kind == markup.Comment && strings.HasPrefix(n.Condition, "!") && b.Does == client.Honoured:
			s.note(b, n, Subject{Kind: Condition, Value: n.Condition}, n.Open)
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

// styleSheets handles style elements and linked sheets.
func styleSheets(s *simulation, b *client.Behaviour) {
	defer s.changed()
	for _, n := range s.elements() {
		if n.Name != "style" {
			continue
		}
		for _, rule := range rulesOf(n) {
			s.note(b, n, rule.subject(), rule.span)
		}
		n.Remove()
	}
}

// linksSheet recognises a linked style sheet among the links of a head.
func linksSheet(link *markup.Node) bool {
	rel, _ := link.Attr("rel")
	return strings.Contains(strings.ToLower(rel), "stylesheet")
}

// sheetRule is a rule of a sheet.
type sheetRule struct {
	at       string // its at-keyword, if it has one
	selector string // otherwise its selectors
	source   string // the rule as it stands
	text     *markup.Node
	span     markup.Span
}

// subject is the rule as an event names it.
func (r sheetRule) subject() Subject { return Subject{Kind: Rule, Name: r.at, Selector: r.selector} }

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
			list = append(list, sheetRule{at.Name, "", at.Text, c, place(at.Span)})
		}
		for _, r := range sheet.Rules {
			source := ""
			if at := r.Span.Start - c.Open.Start; at >= 0 && at+r.Span.Len() <= len(c.Data) {
				source = c.Data[at : at+r.Span.Len()]
			}
			list = append(list, sheetRule{"", strings.Join(r.Selectors, ", "), source, c, place(r.Span)})
		}
	}
	return list
}

// unsizedPictures finds pictures without both attributes of size.
func unsizedPictures(doc *markup.Document, _ client.Match) []spot {
	var found []spot
	for _, n := range doc.Root.Elements("img") {
		if !Sized(n) {
			found = append(found, spot{node: n, span: n.Open})
		}
	}
	return found
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

// blocksInInline finds block elements inside inline ones and inside paragraphs, the outermost of each nest.
func blocksInInline(doc *markup.Document, _ client.Match) []spot {
	var found []spot
	doc.Root.Walk(func(n *markup.Node) bool {
		if n.Kind != markup.Element || !markup.Block(n.Name) {
			return true
		}
		if around := inlineAround(n); around != "" {
			found = append(found, spot{n, n.Open, Subject{Element: n.Name, Value: around}})
			return false
		}
		return true
	})
	return found
}

// inlineAround names the inline element, or the paragraph that the block ends, around a block.
func inlineAround(n *markup.Node) string {
	p := n.Parent
	if p != nil && p.Kind == markup.Element && !markup.Block(p.Name) && !p.Is("html", "head") && !strings.Contains(p.Name, ":") {
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

// nestedTables finds tables that lie in more than Match.Above others.
func nestedTables(doc *markup.Document, m client.Match) []spot {
	var found []spot
	for _, n := range doc.Root.Elements("table") {
		depth := 0
		for p := n.Inside("table"); p != nil; p = p.Inside("table") {
			depth++
		}
		if depth == m.Above {
			found = append(found, spot{n, n.Open, Subject{Size: float64(depth)}})
		}
	}
	return found
}

// unknownFonts finds font lists whose first font is not in Match.Fonts; a list for which the engine is given another
// font for, by a style sheet for it alone or by mso-font-alt, is right.
func unknownFonts(doc *markup.Document, m client.Match) []spot {
	if engineFont(doc) {
		return nil
	}
	known := func(name string) bool {
		return slices.ContainsFunc(m.Fonts, func(f string) bool { return strings.EqualFold(f, name) })
	}
	var found []spot
	for _, n := range doc.Root.Elements() {
		if _, stated := n.Declared("mso-font-alt"); stated {
			continue
		}
		for _, d := range n.Style {
			families := style.FamiliesOf(d)
			if len(families) > 0 && !known(families[0]) {
				found = append(found, spot{n, d.Span, Subject{Value: families[0]}})
			}
		}
		if face, ok := n.Attr("face"); ok && n.Is("font") {
			if families := style.Families(face); len(families) > 0 && !known(families[0]) {
				found = append(found, spot{n, n.Attribute("face").Span, Subject{Value: families[0]}})
			}
		}
	}
	return found
}

// engineFont reports whether a style sheet for one engine names a font. Of all others only rules that cannot be
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

// lineHeightsAlone finds line heights in lengths without the word processor's exact rule beside them.
func lineHeightsAlone(doc *markup.Document, _ client.Match) []spot {
	var found []spot
	for _, n := range doc.Root.Elements() {
		if _, stated := n.Declared("mso-line-height-rule"); stated || n.Is("img") { // a picture's is for its alternative text
			continue
		}
		for _, d := range n.Style {
			if d.Property == "line-height" && d.Value != "normal" && d.Value != "inherit" && strings.Trim(d.Value, "0px") != "" {
				found = append(found, spot{n, d.Span, declared(d)})
			}
		}
	}
	return found
}

// picturesInExactLines finds pictures in lines whose height is exact for the word processor: it cuts them off at
// that height.
func picturesInExactLines(doc *markup.Document, _ client.Match) []spot {
	var found []spot
	for _, n := range doc.Root.Elements("img") {
		height := float64(n.Pixels("height"))
		for e := n.Parent; e != nil && e.Kind == markup.Element; e = e.Parent {
			rule, ok := e.Declared("mso-line-height-rule")
			if !ok {
				continue
			}
			line, _ := e.Declared("line-height")
			if px, ok := style.Length(line, 16); rule == "exactly" && (!ok || px < height) {
				found = append(found, spot{node: n, span: n.Open})
			}
			break
		}
	}
	return found
}

// tablesWithoutGaps finds tables that do not say that there is no gap between cells and around them: without
// cellspacing or cellpadding.
func tablesWithoutGaps(doc *markup.Document, _ client.Match) []spot {
	var found []spot
	for _, n := range doc.Root.Elements("table") {
		_, spacing := n.Attr("cellspacing")
		_, padding := n.Attr("cellpadding")
		if collapse, _ := n.Declared("border-collapse"); collapse == "collapse" {
			spacing = true
		}
		if !spacing || !padding {
			found = append(found, spot{node: n, span: n.Open})
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

// linksWithoutColour finds links with text that leave the colour to the client.
func linksWithoutColour(doc *markup.Document, _ client.Match) []spot {
	var found []spot
	for _, n := range textLinks(doc) {
		if _, own := n.Declared("color"); !own && !allColoured(n) {
			found = append(found, spot{node: n, span: n.Open})
		}
	}
	return found
}

// linksColouredOnce finds links with text whose colour stands on the link and on no element inside it that holds
// all of the text.
func linksColouredOnce(doc *markup.Document, _ client.Match) []spot {
	var found []spot
	for _, n := range textLinks(doc) {
		if _, own := n.Declared("color"); own && !allColoured(n) {
			found = append(found, spot{node: n, span: n.Open})
		}
	}
	return found
}

// linksWithoutLine finds links with text that leave the underline to the client.
func linksWithoutLine(doc *markup.Document, _ client.Match) []spot {
	var found []spot
	for _, n := range textLinks(doc) {
		_, line := n.Declared("text-decoration")
		if _, long := n.Declared("text-decoration-line"); !line && !long {
			found = append(found, spot{node: n, span: n.Open})
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
	numberText = regexp.MustCompile(`\+?\(?\d[\d\-/.()\x{a0} ` +
		`]{6,}\d|\{\{[^}]*\|\s*phone[^}]*\}\}|\{\{\s*(telephoneNumber|mobile|facsimileTelephoneNumber|homePhone)\b[^}]*\}\}`)
	addressText = regexp.MustCompile(`[\w.+-]+@[\w-]+\.[\w.-]+\w|\bhttps?://\S+|\bwww\.[\w-]+\.\w[^\s<]*|\{\{\s*(mail|labeledURI)\b[^}]*\}\}`)
)

// registered are words before a number of a register, a tax or a bank account, which is none to be dialled.
var registered = regexp.MustCompile(`(?i)(\b(vat|ust|uid|tva|btw|moms|iva|hrb|hra|hr|iban|bic|swift|kvk|siret|siren|` +
	`cvr|abn|acn|nif|cif|org|orgnr|` +
	`krs|regon|nip|reg|registered|registration|company|charity|licen[cs]e|customer|account|konto)\b[^+\d]{0,30}[A-Z]{0,2}[ \d]*)$`)

// plainNumbers finds telephone numbers in text outside links.
func plainNumbers(doc *markup.Document, _ client.Match) []spot {
	return plain(doc, numberText, func(s string) bool {
		if field.BeginsWithField(s) {
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

// plainAddresses finds mail and web addresses in text outside links.
func plainAddresses(doc *markup.Document, _ client.Match) []spot {
	return plain(doc, addressText, func(string) bool { return true })
}

// plain finds texts outside links that a client makes links of.
func plain(doc *markup.Document, form *regexp.Regexp, fits func(string) bool) []spot {
	var found []spot
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
				if !fits(text) || registered.MatchString(raw[max(0, at[0]-40):at[0]]) {
					continue
				}
				span := n.Open
				if !n.Changed() {
					span = markup.Span{Start: n.Open.Start + at[0], End: n.Open.Start + at[1]}
				}
				found = append(found, spot{n.Parent, span, Subject{Value: text}})
			}
		}
		return true
	})
	return found
}

// smallTexts finds text smaller than Match.Below px, once for each declaration that makes it so.
func smallTexts(doc *markup.Document, m client.Match) []spot {
	var found []spot
	reported := map[int]bool{}
	var visit func(n *markup.Node, text style.Text, by spot)
	visit = func(n *markup.Node, text style.Text, by spot) {
		if n.Kind == markup.Element {
			before := text.Size
			text = text.In(n)
			if text.Size != before {
				by = spot{node: n, span: n.Open}
				for _, d := range n.Style {
					if d.Property == "font-size" || d.Property == "font" {
						by.span = d.Span
					}
				}
			}
		}
		for _, c := range n.Children {
			if c.Kind == markup.Text && strings.TrimSpace(c.Data) != "" && text.Size > 1 && text.Size < float64(m.Below) &&
				by.node != nil && !reported[by.span.Start] {
				reported[by.span.Start] = true
				by.about.Size = text.Size
				found = append(found, by)
			}
			if c.Kind != markup.Conditional && !c.Is("style", "script", "head") {
				visit(c, text, by)
			}
		}
	}
	visit(doc.Root, style.PlainText, spot{})
	return found
}

// widePieces finds pictures, tables and other elements whose width is above Match.Above px.
func widePieces(doc *markup.Document, m client.Match) []spot { return sized(doc, m, "width") }

// tallPieces finds pictures, cells and other elements whose height is above Match.Above px.
func tallPieces(doc *markup.Document, m client.Match) []spot { return sized(doc, m, "height") }

// sized finds elements that are larger on a side than Match.Above px.
func sized(doc *markup.Document, m client.Match, side string) []spot {
	var found []spot
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
			found = append(found, spot{n, span, Subject{Element: n.Name, Size: px}})
		}
	}
	return found
}

// hiddenContents finds elements with content that styles hide and that say nothing of it to the word processor.
func hiddenContents(doc *markup.Document, _ client.Match) []spot {
	var found []spot
	for _, n := range doc.Root.Elements() {
		if _, stated := n.Declared("mso-hide"); stated {
			continue
		}
		for _, d := range n.Style {
			hides := d.Property == "display" && d.Value == "none" || d.Property == "visibility" && d.Value == "hidden" ||
				d.Property == "max-height" && strings.Trim(d.Value, "0px") == "" || d.Property == "opacity" && d.Value == "0"
			if hides && (strings.TrimSpace(n.TextContent()) != "" || len(n.Elements("img")) > 0) {
				found = append(found, spot{n, d.Span, declared(d)})
				break
			}
		}
	}
	return found
}

// pictureGaps finds pictures that fill a cell but stand on a line of text in it: below each the room for
// descenders is left.
func pictureGaps(doc *markup.Document, _ client.Match) []spot {
	var found []spot
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
			found = append(found, spot{node: n, span: n.Open})
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

// picturesWithBorder finds linked pictures that do not say that they have no border.
func picturesWithBorder(doc *markup.Document, _ client.Match) []spot {
	var found []spot
	for _, n := range doc.Root.Elements("img") {
		if n.Inside("a") == nil {
			continue
		}
		_, stated := n.Attr("border")
		for _, d := range n.Style {
			stated = stated || strings.HasPrefix(d.Property, "border") && d.Property != "border-radius"
		}
		if !stated {
			found = append(found, spot{node: n, span: n.Open})
		}
	}
	return found
}

// picturesSentAlong finds the pictures that a client carries although they are hosted.
func picturesSentAlong(doc *markup.Document, _ client.Match) []spot {
	var found []spot
	for _, n := range doc.Root.Elements("img") {
		if SentAlong(n) {
			found = append(found, spot{node: n, span: n.Open})
		}
	}
	return found
}

// SentAlong reports whether a picture has its address in the net, or one from the directory, and does not say nosend.
func SentAlong(img *markup.Node) bool {
	src, _ := img.Attr("src")
	src = strings.ToLower(strings.TrimSpace(src))
	_, stays := img.Attr("nosend")
	return !stays && (strings.HasPrefix(src, "https://") || strings.HasPrefix(src, "http://") || strings.HasPrefix(src, "{{"))
}

// blocksWithoutMargin finds paragraphs, headings and lists that leave their margins to the client.
func blocksWithoutMargin(doc *markup.Document, _ client.Match) []spot {
	var found []spot
	for _, n := range doc.Root.Elements("p", "h1", "h2", "h3", "h4", "h5", "h6", "ul", "ol", "blockquote") {
		stated := false
		for _, d := range n.Style {
			stated = stated || d.Property == "margin" || d.Property == "margin-top" || d.Property == "margin-bottom"
		}
		if !stated {
			found = append(found, spot{n, n.Open, Subject{Element: n.Name}})
		}
	}
	return found
}

// loneBlocks finds the one paragraph or division that is all of the signature, with nothing but text and inline
// elements in it.
func loneBlocks(doc *markup.Document, _ client.Match) []spot {
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
	return []spot{{outer[0], outer[0].Open, Subject{Element: outer[0].Name}}}
}
