// Package clean makes machine-made markup readable and keeps its look: what a word processor or a generator
// left behind goes, needless nesting is taken apart, and the source is indented. What it does not dare to
// touch it lists. Start with Clean.
package clean

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	"missivum/core/field"
	"missivum/core/markup"
	"missivum/core/style"
)

// Options say what may go beside leftovers.
type Options struct {
	Tracking bool // parameters of links that only count readers
	// JoinText takes tags away from between letters too. A browser kerns and places the letters on both sides
	// of a tag as two runs; joined, they may move by a part of a pixel.
	JoinText bool
	// IndentOnly changes nothing but white space and the spelling of tags.
	IndentOnly bool
}

// Change is one kind of thing that was done.
type Change struct {
	What  string `json:"what"`
	Count int    `json:"count"`
}

// Left is something that was not touched, with the reason.
type Left struct {
	markup.Place
	What string `json:"what"`
	Why  string `json:"why"`
}

// Result is the cleaned source and what was done to get it.
type Result struct {
	Source  string   `json:"source"`
	Changes []Change `json:"changes"` // in the order of the work
	Left    []Left   `json:"left"`    // in the order of the source; where that was nested wrongly, as browsers read it
	Before  int      `json:"before"`  // bytes
	After   int      `json:"after"`
}

// Clean cleans and indents a page or a fragment. Errors are those of markup.Parse.
func Clean(source string, o Options) (Result, error) {
	t := cleaner{options: o, result: Result{Before: len(source), Changes: []Change{}, Left: []Left{}}}
	var err error
	if t.doc, err = t.read(source); err != nil {
		return Result{}, err
	}
	if !o.IndentOnly {
		t.clean()
	}
	p := printer{doc: t.doc, facts: t.facts()}
	t.result.Source = p.print()
	t.result.After = len(t.result.Source)
	return t.result, nil
}

// clean takes away what is not needed.
func (t *cleaner) clean() {
	t.drop()
	t.rules()
	t.attributes()
	t.declarations()
	t.tracking()
	for t.nesting() {
	}
	t.needless()
	sort.SliceStable(t.result.Left, func(i, j int) bool { return t.result.Left[i].Offset < t.result.Left[j].Offset })
}

// cleaner is a document that is being cleaned, with what was done.
type cleaner struct {
	options Options
	doc     *markup.Document
	sheet   string // text of all style sheets
	result  Result
}

// elements lists the elements with one of the names, without those in conditional islands: what one engine
// alone reads is not touched.
func (t *cleaner) elements(names ...string) []*markup.Node { return t.doc.Elements(names...) }

// did counts a change.
func (t *cleaner) did(what string) {
	for i := range t.result.Changes {
		if t.result.Changes[i].What == what {
			t.result.Changes[i].Count++
			return
		}
	}
	t.result.Changes = append(t.result.Changes, Change{what, 1})
}

// leave lists something that is not touched, and why.
func (t *cleaner) leave(n *markup.Node, what, why string) {
	t.result.Left = append(t.result.Left, Left{t.doc.Place(n.Open.Start), what, why})
}

// read parses the source. Markup that is not nested as browsers read it is first written the way they do.
func (t *cleaner) read(source string) (*markup.Document, error) {
	doc, err := style.Parse(source)
	if err != nil {
		return nil, err
	}
	regular, err := doc.Regular()
	if err != nil || regular == source {
		return doc, err
	}
	t.did("wrong nesting written as browsers read it")
	return style.Parse(regular)
}

// drop takes away whole nodes: marks, islands with settings, and elements that draw nothing. Comments stay: they
// may be what the author has to say.
func (t *cleaner) drop() {
	t.doc.Root.Walk(func(n *markup.Node) bool {
		switch n.Kind {
		case markup.Comment:
			if mark := strings.TrimSpace(n.Data); mark == "StartFragment" || mark == "EndFragment" {
				n.Remove()
				t.did("marks of a copy")
			}
		case markup.Conditional:
			if settingsOnly(n) {
				n.Remove()
				t.did("conditional islands with settings only")
			} else {
				t.leave(n, "conditional island "+n.Condition,
					"It carries markup or styles for one engine; take it out yourself if nobody uses that engine.")
			}
			return false
		case markup.Element:
			return t.dropElement(n)
		}
		return true
	})
}

// styleText is the text of a style element.
func styleText(n *markup.Node) string {
	var b strings.Builder
	for _, c := range n.Children {
		b.WriteString(strings.ToLower(c.Data))
	}
	return b.String()
}

// dropElement drops an element that only another program reads.
func (t *cleaner) dropElement(n *markup.Node) bool {
	name, _ := n.Attr("name")
	rel, _ := n.Attr("rel")
	switch {
	case n.Is("xml"):
		n.Remove()
		t.did("islands of data")
		return false
	case n.Is("meta") && slices.Contains([]string{"generator", "progid", "originator", "author", "created", "changed",
		"changedby"}, strings.ToLower(name)):
		n.Remove()
		t.did("marks of the program that wrote it")
	case n.Is("link") && slices.Contains([]string{"file-list", "edit-time-data", "themedata", "colorschememapping",
		"ole-object-data"}, strings.ToLower(rel)):
		n.Remove()
		t.did("marks of the program that wrote it")
	case strings.Contains(n.Name, ":"):
		if !own(n) && (len(n.Children) == 0 || !hasStyle(n)) {
			n.Unwrap()
			t.did("namespaced tags")
			return true
		}
		t.leave(n, "<"+n.Name+">", "It has a style or a condition of its own.")
	case n.Is("script", "form", "iframe", "object", "embed", "svg", "video", "audio"):
		t.leave(n, "<"+n.Name+">", "It does something beyond drawing; no mail client keeps it.")
		return false
	}
	return true
}

// hasStyle reports whether an element says anything about its look.
func hasStyle(n *markup.Node) bool {
	_, ok := n.Attr("style")
	return ok
}

// settingsOnly reports whether a conditional island holds nothing that is drawn or that styles anything.
func settingsOnly(n *markup.Node) bool {
	only := true
	n.Walk(func(c *markup.Node) bool {
		switch {
		case c == n || c.Kind == markup.Comment:
		case c.Kind == markup.Text:
			only = only && strings.TrimSpace(c.Data) == ""
		case c.Is("xml", "meta", "link"):
			return false // whatever stands in it
		default:
			only = false
		}
		return only
	})
	return only
}

// rules takes away what a style sheet says about elements that are not there, or to a word processor.
func (t *cleaner) rules() {
	for _, n := range t.elements("style") {
		if len(n.Children) != 1 || n.Children[0].Kind != markup.Text {
			continue
		}
		text := n.Children[0]
		kept := text.Data
		cuts := t.cuts(kept)
		for _, c := range cuts {
			kept = kept[:c.Start] + kept[c.End:]
			t.did(c.what)
		}
		kept = strings.TrimSpace(strings.NewReplacer("<!--", "", "-->", "").Replace(kept))
		if len(cuts) > 0 {
			kept = withoutBlankLines(kept)
		}
		if kept == "" {
			n.Remove()
			t.did("empty style sheets")
		} else if kept != strings.TrimSpace(text.Data) {
			text.SetText("\n" + kept + "\n")
		}
	}
	for _, n := range t.elements("style") {
		t.sheet += styleText(n)
	}
}

// cut is a piece of a style sheet that goes.
type cut struct {
	markup.Span
	what string
}

// cuts lists what goes of a style sheet, the last first, none within another.
func (t *cleaner) cuts(text string) []cut {
	var all []cut
	for _, span := range style.Unused(t.doc, text) {
		all = append(all, cut{span, "rules that reach nothing"})
	}
	sheet := style.ParseSheet(text, 0)
	for _, at := range sheet.At {
		if at.Name == "page" || at.Name == "list" || at.Name == "font-face" && !strings.Contains(at.Text, "src") {
			all = append(all, cut{at.Span, "rules for paper and for a word processor"})
		}
	}
	for _, rule := range sheet.Rules {
		for _, d := range rule.Declarations {
			if wordprocessed(d.Property) {
				all = append(all, cut{withSemicolon(text, d.Span), "declarations of a word processor"})
			}
		}
	}
	sort.SliceStable(all, func(i, j int) bool {
		return all[i].Start < all[j].Start || all[i].Start == all[j].Start && all[i].End > all[j].End
	})
	var outer []cut
	end := 0
	for _, c := range all {
		if c.Start >= end {
			outer, end = append(outer, c), c.End
		}
	}
	slices.Reverse(outer)
	return outer
}

// withoutBlankLines drops lines without content.
func withoutBlankLines(text string) string {
	var lines []string
	for _, line := range strings.Split(text, "\n") {
		if strings.TrimSpace(line) != "" {
			lines = append(lines, strings.TrimRight(line, " \t\r"))
		}
	}
	return strings.Join(lines, "\n")
}

// attributes takes away those that neither draw nor mean anything here.
func (t *cleaner) attributes() {
	for _, n := range t.elements() {
		for _, a := range slices.Clone(n.Attrs) {
			if what := t.leftover(n, a); what != "" {
				n.RemoveAttr(a.Name)
				t.did(what)
			}
		}
	}
}

// leftover says what kind of leftover an attribute is; empty for one that stays.
func (t *cleaner) leftover(n *markup.Node, a markup.Attr) string {
	switch {
	case field.Own(a.Name) || field.HasField(a.Name):
		return ""
	case a.Name == "class":
		return t.unusedName("classes without a rule", strings.Fields(strings.ToLower(a.Value)), ".")
	case a.Name == "id":
		if t.linked(a.Value) {
			return ""
		}
		return t.unusedName("ids without a use", []string{strings.ToLower(a.Value)}, "#")
	case strings.HasPrefix(a.Name, "xmlns"), strings.Contains(a.Name, ":") && !strings.HasPrefix(a.Name, "xlink:"):
		return "namespaced attributes"
	case strings.HasPrefix(a.Name, "data-"), a.Name == "spellcheck", a.Name == "contenteditable", a.Name == "tabindex":
		if strings.Contains(t.sheet, "["+a.Name) {
			return ""
		}
		return "attributes of an editor"
	case a.Name == "style" && strings.TrimSpace(a.Value) == "":
		return "empty style attributes"
	case strings.HasPrefix(a.Name, "on"):
		t.leave(n, a.Name, "It is a program; mail clients drop it.")
	}
	return ""
}

// unusedName drops classes or an id that nothing names.
func (t *cleaner) unusedName(what string, names []string, sign string) string {
	for _, name := range names {
		if strings.Contains(t.sheet, sign+name) {
			return ""
		}
	}
	if strings.Contains(t.sheet, "[class") || strings.Contains(t.sheet, "[id") {
		return ""
	}
	return what
}

// linked reports whether a link of the page leads to an id or name.
func (t *cleaner) linked(id string) bool {
	return slices.ContainsFunc(t.elements(), func(n *markup.Node) bool {
		href, _ := n.Attr("href")
		target, _ := n.Attr("for")
		usemap, _ := n.Attr("usemap")
		return id != "" && (href == "#"+id || target == id || usemap == "#"+id)
	})
}

// kept properties of a word processor are set on purpose: they fix what its engine does.
var kept = []string{"mso-line-height-rule", "mso-table-lspace", "mso-table-rspace", "mso-padding-alt", "mso-hide",
	"mso-height-rule", "mso-text-raise", "mso-color-alt"}

// wordprocessed reports whether a property means something to a word processor alone.
func wordprocessed(property string) bool {
	return strings.HasPrefix(property, "mso-") && !slices.Contains(kept, property) || property == "tab-interval" ||
		slices.Contains([]string{"tab-stops", "panose-1", "text-underline", "layout-grid-mode", "punctuation-wrap"}, property)
}

// withSemicolon is a declaration's place with the semicolon and the white space behind it.
func withSemicolon(sheet string, span markup.Span) markup.Span {
	for span.End < len(sheet) && strings.IndexByte(" \t\r\n;", sheet[span.End]) >= 0 {
		span.End++
	}
	return span
}

// declarations cleans style attributes.
func (t *cleaner) declarations() {
	for _, n := range t.elements() {
		value, ok := n.Attr("style")
		if !ok || field.HasField(value) {
			continue
		}
		list := style.ParseDeclarations(value, 0)
		var keep []markup.Declaration
		for i, d := range list {
			switch {
			case strings.HasPrefix(d.Property, "mso-") && slices.Contains(kept, d.Property):
				t.leave(n, d.Property, "It fixes what the word-processor engine does.")
				keep = append(keep, d)
			case wordprocessed(d.Property):
				t.did("declarations of a word processor")
			case repeated(list[i+1:], d):
				t.did("declarations said twice")
			default:
				keep = append(keep, d)
			}
		}
		if len(keep) == len(list) {
			continue
		}
		if keep == nil {
			n.RemoveAttr("style")
			continue
		}
		n.SetStyle(keep)
	}
}

// repeated reports whether a later declaration makes this one needless: it is of the same property and weight
// and its value is one that every client knows, so that this one is no stand-by for it.
func repeated(later []markup.Declaration, d markup.Declaration) bool {
	return slices.ContainsFunc(later, func(l markup.Declaration) bool {
		if l.Property != d.Property || l.Important != d.Important {
			return false
		}
		_, length := style.Length(l.Value, 16)
		_, colour := style.Color(l.Value)
		return l.Value == d.Value || length || colour && !strings.Contains(l.Value, "rgba")
	})
}

// tracking takes away what only counts readers, where that is wanted, and lists it otherwise.
func (t *cleaner) tracking() {
	for _, n := range t.elements("a", "area") {
		href, ok := n.Attr("href")
		clean := withoutTracking(href)
		if !ok || clean == href {
			continue
		}
		if t.options.Tracking {
			n.SetAttr("href", clean)
			t.did("tracking parameters")
		} else {
			t.leave(n, "tracking parameters", fmt.Sprintf("%s could be %s; ask for it to have them dropped.", href, clean))
		}
	}
	for _, n := range t.elements("img") {
		src, _ := n.Attr("src")
		if n.Pixels("width") > 1 || n.Pixels("height") > 1 || n.Pixels("width")+n.Pixels("height") == 0 || !strings.HasPrefix(src, "http") {
			continue
		}
		t.leave(n, "picture of one pixel", "It may hold room open or count readers; look at it.")
	}
}

// withoutTracking drops the parameters of an address that only say where a reader came from: those whose
// names begin with utm_ or end with clid.
func withoutTracking(address string) string {
	path, rest, ok := strings.Cut(address, "?")
	if !ok {
		return address
	}
	query, fragment, hasFragment := strings.Cut(rest, "#")
	var keep []string
	for _, pair := range strings.Split(query, "&") {
		name, _, _ := strings.Cut(strings.ToLower(pair), "=")
		if !strings.HasPrefix(name, "utm_") && !strings.HasSuffix(name, "clid") {
			keep = append(keep, pair)
		}
	}
	if len(keep) > 0 {
		path += "?" + strings.Join(keep, "&")
	}
	if hasFragment {
		path += "#" + fragment
	}
	return path
}
