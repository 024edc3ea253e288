package journey

import (
	"slices"
	"strings"

	"missivum/core/markup"
	"missivum/core/style"
)

// PasteInGecko is Paste for a browser with the Gecko engine. It hands over the markup as it is, with the declarations as
// they were written and the white space; what a style sheet did stays behind, what is not shown too, and elements and
// attributes that its list does not name are taken away. Measured by docs/measure/clients.
func PasteInGecko(doc *markup.Document) { pasteInGecko(doc, false) }

// pasteInGecko is PasteInGecko. Of markup that a page gave, what is not shown stays too, and a sheet but for its at-rules; addresses
// without a scheme go.
func pasteInGecko(doc *markup.Document, given bool) {
	for _, n := range doc.Root.Elements() {
		if !given && notShownInGecko(n) {
			n.Remove()
			continue
		}
		if given && n.Is("a", "area") {
			href, ok := n.Attr("href")
			if ok && (slices.Contains(schemeless, markup.SchemeOf(href)) || strings.HasPrefix(href, "\u201c")) {
				n.RemoveAttr("href")
			}
		}
		if !given && invisible(n) {
			n.Walk(func(c *markup.Node) bool {
				if c.Kind == markup.Text {
					c.Remove()
				}
				return true
			})
		}
		for _, a := range slices.Clone(n.Attrs) {
			if !passesGecko(n, a) {
				n.RemoveAttr(a.Name)
			}
		}
		switch {
		case n.Is("video"):
			n.SetAttr("controls", "")
		case n.Is("svg"), n.Is("details") && n.Attribute("open") == nil:
			empty(n)
		case n.Is("style", "script", "title"):
		case given && n.Is("area"):
		case !slices.Contains(geckoElements, n.Name):
			n.Unwrap()
			continue
		}
		n.Normalise()
		if n.Is("td", "th", "li") && (len(n.Children) == 0 || given && holdsNothing(n)) || n.Is("div") && !given && len(n.Children) == 0 {
			n.Append(markup.NewElement("br", n.Open)) // a line to write into
		}
	}
	if !given {
		asRead(doc)
		return
	}
	for _, n := range doc.Root.Elements() {
		for _, c := range slices.Clone(n.Children) {
			switch {
			case c.Kind != markup.Text:
			case n.Is("style"):
				if rules := keptRules(c.Data); rules != "" {
					c.SetText(rules)
				} else {
					c.Remove()
				}
			case n.Is("ul", "ol") && strings.Trim(c.Data, blanks) == "":
				c.Remove()
			}
		}
	}
	asRead(doc, "style")
	lineToWriteInto(doc.Root)
}

// holdsNothing reports whether an element shows nothing: no text, and none but divs in it.
func holdsNothing(n *markup.Node) bool {
	return !slices.ContainsFunc(n.Children, func(c *markup.Node) bool { return !c.Is("div") || len(c.Children) > 0 })
}

// keptRules are the rules of a style sheet that are pasted, one behind the other: those of other times and places are left behind.
func keptRules(sheet string) string {
	parsed := style.ParseSheet(sheet, 0)
	var spans []markup.Span
	for _, r := range parsed.Rules {
		spans = append(spans, r.Span)
	}
	for _, at := range parsed.At {
		if at.Name == "font-face" {
			spans = append(spans, at.Span)
		}
	}
	slices.SortFunc(spans, func(a, b markup.Span) int { return a.Start - b.Start })
	var b strings.Builder
	for _, s := range spans {
		b.WriteString(strings.TrimSpace(sheet[s.Start:s.End]))
	}
	return b.String()
}

// lineToWriteInto gives a line to a div without anything, and behind a line without anything, where they end all of what is pasted.
func lineToWriteInto(root *markup.Node) {
	last := lastOf(root)
	switch {
	case last.Is("div"):
		last.Append(markup.NewElement("br", last.Open))
	case last.Is("br"):
		siblings := last.Parent.Children
		if len(siblings) > 1 && (siblings[len(siblings)-2].Is("br") || markup.Block(siblings[len(siblings)-2].Name)) {
			last.Parent.Append(markup.NewElement("br", last.Open))
		}
	}
}

// schemeless are addresses without a scheme, but for those within the page.
var schemeless = []string{markup.EmptyAddress, markup.NetworkAddress, markup.WordAddress, markup.RelativeAddress}

// notShownInGecko says what has nothing that could be selected.
func notShownInGecko(n *markup.Node) bool {
	switch {
	case n.Is("button", "datalist", "iframe", "noembed", "noframes", "noscript", "select", "template", "option", "slot"),
		n.Is("audio") && n.Attribute("controls") == nil, n.Is("dialog") && n.Attribute("open") == nil, n.Attribute("hidden") != nil:
		return true
	}
	display, _ := n.Declared("display")
	return display == "none"
}

// passesGecko reports whether an attribute is pasted.
func passesGecko(n *markup.Node, a markup.Attr) bool {
	switch {
	case strings.HasPrefix(a.Name, "data-"), strings.HasPrefix(a.Name, "aria-"):
		return true
	case !slices.Contains(geckoAttributes, a.Name) && !n.Is("svg"):
		return false
	case a.Name == "href" && strings.HasSuffix(a.Value, "://"):
		return false
	case a.Name == "href":
		return !slices.Contains([]string{"javascript", "data", "file"}, markup.SchemeOf(strings.TrimSpace(a.Value)))
	}
	return true
}

// geckoElements are the elements whose tags are pasted; the content of others stays.
var geckoElements = strings.Fields(`a abbr acronym address article aside audio b bdi bdo big blockquote br canvas caption
	center cite code col colgroup data dd del details dfn dialog dir div dl dt em fieldset figcaption figure font footer
	form h1 h2 h3 h4 h5 h6 header hgroup hr i img input ins kbd keygen label legend li listing main map mark menu meter nav
	nobr ol output p picture pre progress q rb rp rt rtc ruby s samp section small source span strike strong sub summary
	sup table tbody td textarea tfoot th thead time tr tt u ul var video wbr math svg`)

// geckoAttributes are the attributes that are pasted, beside data-* and aria-*.
var geckoAttributes = strings.Fields(`abbr accept accept-charset accesskey action align alt as autocomplete autofocus
	autoplay axis background bgcolor border cellpadding cellspacing char charoff charset checked cite class clear color
	cols colspan compact content contenteditable controls coords crossorigin datetime dir disabled draggable enctype face
	for frame headers height high href hreflang hspace icon id integrity ismap itemid itemprop itemref itemscope itemtype
	kind label lang list longdesc loop low max maxlength media method min minlength multiple muted name nohref noshade
	novalidate nowrap open optimum pattern placeholder poster preload prompt readonly rel required rev reversed role rows
	rowspan rules scope selected shape size span spellcheck src srclang start style summary tabindex target title type
	usemap valign value vspace width wrap`)
