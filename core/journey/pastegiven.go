package journey

import (
	"slices"
	"strings"

	"missivum/core/markup"
	"missivum/core/style"
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

// PasteGiven is what stands in an editable element after a page put markup onto the clipboard letter by letter, as the page of one's
// own signature does, and a browser of an engine pasted it. The markup is a filled fragment with its styles inlined. Measured by
// docs/measure/clients and e2e. An error says that what browsers make of the markup is above the limits of core/markup.
func PasteGiven(e Engine, fragment string) (string, error) {
	doc, err := markup.ParseOutput(fragment)
	if err != nil {
		return "", err
	}
	if doc, err = doc.AsBrowsers(); err != nil {
		return "", err
	}
	style.ReadAttributes(doc)
	if e == Gecko {
		pasteInGecko(doc, true)
	} else {
		givenInChromium(doc)
	}
	return doc.Render(), nil
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
	elements, copies := doc.Elements(), spelt.Elements() // the same ones, one by one
	before := make([][]markup.Declaration, len(copies))
	for i, n := range copies {
		pasteStyle(n)
		before[i] = slices.Clone(n.Style)
	}
	thinner{letter: true}.thin(spelt.Root, fromTheStart)
	for i, n := range elements {
		for _, a := range slices.Clone(n.Attrs) {
			if strings.HasPrefix(a.Name, "on") || slices.Contains(addressed, a.Name) && markup.SchemeOf(strings.TrimSpace(a.Value)) == "javascript" {
				n.RemoveAttr(a.Name)
			}
		}
		anew := func(d markup.Declaration) bool { return writtenAnew(n, d) }
		switch {
		case copies[i].Silent() && !slices.ContainsFunc(n.Style, asAround):
			n.Unwrap()
			continue
		case len(copies[i].Style) == 0 && !slices.ContainsFunc(n.Style, asAround):
			n.RemoveAttr("style")
			n.Style = nil
		case !slices.Equal(before[i], copies[i].Style) || slices.ContainsFunc(n.Style, anew):
			if n.SetStyle(copies[i].Style); len(n.Style) > 0 { // where it stood
				n.SetAttr("style", strings.TrimSuffix(n.Attribute("style").Value, ";")+";")
			}
		}
		if n.Normalise(); n.Name != copies[i].Name {
			n.Rename(copies[i].Name)
		}
	}
	asGiven(doc)
	simplified(doc.Root)
}

// asAround reports whether a declaration takes its value from around, or gives it up: the browser leaves such ones on spans.
func asAround(d markup.Declaration) bool {
	return slices.Contains([]string{"inherit", "initial", "unset", "revert"}, strings.ToLower(strings.TrimSpace(d.Value)))
}

// writtenAnew reports whether the browser takes a declaration apart, or away, so that all of the element's are written anew.
func writtenAnew(n *markup.Node, d markup.Declaration) bool {
	switch d.Property {
	case "font":
		parts := ofFont(d.Value)
		return parts != nil && (parts["font-weight"] == "normal" || parts["font-weight"] == "400")
	case "background":
		return backgroundParts(d.Value) != nil
	}
	return isKnown(d) && !asAround(d) && !copiedDeclaration(n, d) || n.Is("a") && n.Attribute("href") != nil && d.Property == "color" &&
		strings.EqualFold(strings.TrimSpace(d.Value), "inherit")
}

// asGiven leaves what a browser has of pasted markup: without what belongs to the head and the white space at the end, references
// decoded, and a row group in every table.
func asGiven(doc *markup.Document) {
	doc.Root.Walk(func(n *markup.Node) bool {
		switch {
		case n.Kind == markup.Conditional:
			return false
		case n.Kind == markup.Comment && !strings.HasPrefix(doc.Raw(n), "<!--"): // half a condition, to others than browsers
			n.SetText(strings.TrimSuffix(strings.TrimPrefix(doc.Raw(n), "<!"), ">"))
		case n.Kind == markup.Stray || n.Is("script", "link", "meta", "title"):
			n.Remove()
			return false
		case n.Kind == markup.Text:
			n.SetText(n.Data)
		case n.Is("table"):
			rowGroup(n)
		}
		return true
	})
	plainSpaces(doc.Root)
	startOfPaste(doc.Root)
	endOfPaste(doc.Root)
}

// blanks are the characters of white space in markup (HTML Living Standard, 4.12.1, ASCII whitespace).
const blanks = " \t\r\n\f"

// startOfPaste takes away white space before all of what is pasted; at the start of the first text every other one becomes a space
// that does not break.
func startOfPaste(root *markup.Node) {
	first := root
	for len(first.Children) > 0 && !isComment(first) {
		first = first.Children[0]
	}
	text := strings.TrimLeft(first.Data, blanks)
	switch {
	case first.Kind != markup.Text || text == first.Data || spacesKept(first) || first.Inside("td", "th") != nil:
	case text != "":
		first.SetText(unbroken(first.Data[:len(first.Data)-len(text)]) + text)
	case first.Parent == root:
		first.Remove()
	}
}

// endOfPaste takes away the last text of what is pasted where nothing of it shows. White space at the end of the text before it, or of
// the last text itself, becomes spaces that do not break.
func endOfPaste(root *markup.Node) {
	last := lastOf(root)
	if last.Kind == markup.Text && (strings.Trim(last.Data, blanks) == "" || !rendered(last)) {
		outermost := last.Parent == root
		if last.Remove(); outermost {
			return
		}
		last = lastOf(root)
	} else if isComment(last) {
		last = lastShown(root)
	}
	if last.Is("br") {
		siblings := last.Parent.Children
		if len(siblings) < 2 {
			return
		}
		last = siblings[len(siblings)-2]
	}
	if last.Kind == markup.Text && strings.Trim(last.Data, blanks) != "" && !spacesKept(last) {
		spacesAtEnd(last)
	}
}

// lastOf is the last node of all, with nothing in it.
func lastOf(n *markup.Node) *markup.Node {
	for len(n.Children) > 0 && n.Kind != markup.Conditional {
		n = n.Children[len(n.Children)-1]
	}
	return n
}

func isComment(n *markup.Node) bool { return n.Kind == markup.Comment || n.Kind == markup.Conditional }

// lastShown is the last node with nothing in it that is neither a comment nor white space; the root for none.
func lastShown(root *markup.Node) *markup.Node {
	last := root
	root.Walk(func(n *markup.Node) bool {
		if !isComment(n) && len(n.Children) == 0 && !(n.Kind == markup.Text && strings.Trim(n.Data, blanks) == "") {
			last = n
		}
		return !isComment(n)
	})
	return last
}

// rendered reports whether a node stands in nothing that is not displayed.
func rendered(n *markup.Node) bool {
	for ; n != nil; n = n.Parent {
		if display, _ := n.Declared("display"); display == "none" {
			return false
		}
	}
	return true
}

// spacesKept reports whether the white space of a text shows as it is written.
func spacesKept(n *markup.Node) bool {
	for ; n != nil; n = n.Parent {
		if space, ok := n.Declared("white-space"); ok || n.Is("pre") {
			return !ok || strings.HasPrefix(space, "pre")
		}
	}
	return false
}

// spacesAtEnd makes white space at the end of a text spaces that do not break: every other one of them, and the last.
func spacesAtEnd(n *markup.Node) {
	text := strings.TrimRight(n.Data, blanks+"\u00a0")
	if text == n.Data {
		return
	}
	spaces := unbroken(n.Data[len(text):])
	if rest, plain := strings.CutSuffix(spaces, " "); plain {
		spaces = rest + "\u00a0"
	}
	n.SetText(text + spaces)
}

// unbroken makes every other one of some spaces one that does not break, the first to begin with.
func unbroken(spaces string) string {
	runes := []rune(spaces)
	for i := range runes {
		runes[i] = []rune{'\u00a0', ' '}[i%2]
	}
	return string(runes)
}
