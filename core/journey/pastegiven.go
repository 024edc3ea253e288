package journey

import (
	"slices"
	"strings"

	"missivum/core/markup"
)

// Engine is what a browser is built on, as far as copying is concerned.
type Engine string

// The engines whose pastes are predicted.
const (
	Chromium Engine = "chromium"
	Gecko    Engine = "gecko"
)

// Engines lists the engines whose pastes are predicted.
func Engines() []Engine { return []Engine{Chromium, Gecko} }

// PasteGiven changes a document into what stands in an editable element after a page put it onto the clipboard letter by letter, as
// the page of one's own signature does, and a browser of an engine pasted it. Measured by docs/measure/clients and e2e. Node.Style
// must be set.
func PasteGiven(e Engine, doc *markup.Document) {
	if e == Gecko {
		pasteInGecko(doc, true)
		return
	}
	givenInChromium(doc)
}

// givenInChromium keeps white space, comments and the spelling of declarations, takes away spans that say nothing new, and writes the
// declarations anew only of elements from which one is taken away. Where a style sheet stands in the markup everything is worked
// out, as in Paste, but a lone block stays.
func givenInChromium(doc *markup.Document) {
	if len(doc.Elements("style")) > 0 {
		paste(doc, false)
		return
	}
	spelt := doc.Clone()
	elements, copies := doc.Root.Elements(), spelt.Root.Elements() // the same ones, one by one
	before := make([][]markup.Declaration, len(copies))
	for i, n := range copies {
		pasteStyle(n)
		before[i] = slices.Clone(n.Style)
	}
	thinned(spelt.Root, map[string]string{"color": "rgb(0, 0, 0)"})
	for i, n := range elements {
		for _, a := range slices.Clone(n.Attrs) {
			if strings.HasPrefix(a.Name, "on") || slices.Contains(addressed, a.Name) && markup.SchemeOf(strings.TrimSpace(a.Value)) == "javascript" {
				n.RemoveAttr(a.Name)
			}
		}
		anew := func(d markup.Declaration) bool { return writtenAnew(n, d) }
		if !slices.Equal(before[i], copies[i].Style) || slices.ContainsFunc(n.Style, anew) {
			n.RemoveAttr("style")
			if n.Style = nil; len(copies[i].Style) > 0 {
				n.SetStyle(copies[i].Style)
				n.SetAttr("style", strings.TrimSuffix(n.Attribute("style").Value, ";")+";")
			}
		}
		if copies[i].Silent() {
			n.Silence()
		}
		n.Normalise()
	}
	asGiven(doc)
}

// writtenAnew reports whether the browser takes a declaration apart, or away, so that all of the element's are written anew.
func writtenAnew(n *markup.Node, d markup.Declaration) bool {
	value := strings.ToLower(strings.TrimSpace(d.Value))
	switch d.Property {
	case "font":
		parts := ofFont(d.Value)
		return parts != nil && (parts["font-weight"] == "normal" || parts["font-weight"] == "400")
	case "background":
		return backgroundParts(d.Value) != nil
	case "text-decoration":
		return value == "underline" && n.Is("a") && n.Attribute("href") != nil
	case "border-collapse":
		return value == "separate"
	case "background-color":
		return value == "transparent"
	}
	return false
}

// asGiven leaves what a browser has of pasted markup: without what belongs to the head and the white space at the end, references
// decoded, and a row group in every table. The text of what is not shown goes.
func asGiven(doc *markup.Document) {
	doc.Root.Walk(func(n *markup.Node) bool {
		display, _ := n.Declared("display")
		switch {
		case n.Kind == markup.Conditional:
			return false
		case n.Kind == markup.Stray || n.Is("script", "link", "meta", "title"):
			n.Remove()
			return false
		case n.Kind == markup.Text:
			n.SetText(n.Data)
		case n.Is("table"):
			rowGroup(n)
		case display == "none":
			empty(n)
		}
		return true
	})
	endOfPaste(doc.Root)
}

// endOfPaste takes away the white space at the end of what is pasted, in the element that is last there too but for a table; a space
// behind words there becomes one that does not break.
func endOfPaste(n *markup.Node) {
	for _, child := range slices.Backward(slices.Clone(n.Children)) {
		text := strings.TrimRight(child.Data, " \t\r\n\f")
		switch {
		case child.Kind != markup.Text:
			if !child.Is("table") {
				endOfPaste(child)
			}
			return
		case text != "":
			if text != child.Data && !strings.HasSuffix(child.Data, "\n") {
				child.SetText(text + "\u00a0")
			}
			return
		}
		child.Remove()
	}
}
