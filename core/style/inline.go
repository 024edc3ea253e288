package style

import (
	"fmt"
	"regexp"
	"slices"
	"sort"
	"strings"

	"github.com/andybalholm/cascadia"
	"golang.org/x/net/html"

	"missivum/core/markup"
)

// Left is a rule of a style sheet that cannot be inlined.
type Left struct {
	Text string      // the rule as it stands
	What string      // such as "@media" or the selector
	Why  string      // one sentence
	Span markup.Span // in the source
}

// Report says what Inline did.
type Report struct {
	Inlined int    // rules brought to elements
	Unused  int    // rules that reach no element
	Left    []Left // rules that only a style sheet can carry
	// Beyond is set when style sheets bring more than MaxReached declarations to elements: the others were not inlined.
	Beyond bool
}

// weight orders declarations by the cascade (CSS Cascading and Inheritance Level 4, 6).
type weight struct {
	important   bool
	attribute   bool // a style attribute outranks every selector
	specificity cascadia.Specificity
	order       int
}

// less is the order of the cascade: importance, specificity, place.
func (a weight) less(b weight) bool {
	switch {
	case a.important != b.important:
		return b.important
	case a.attribute != b.attribute:
		return b.attribute
	case a.specificity != b.specificity:
		return a.specificity.Less(b.specificity)
	}
	return a.order < b.order
}

// weighed is a declaration with its weight.
type weighed struct {
	markup.Declaration
	weight
}

// Inline writes every declaration that a style sheet of the document brings to an element into the
// element's style attribute, in the order of the cascade, and takes the sheets away but for the rules
// that only a sheet can carry. Node.Style is set on every element that has declarations; each
// declaration keeps the place in the source where it was written. The document is changed in place.
func Inline(doc *markup.Document) Report {
	var report Report
	reached := map[*markup.Node][]weighed{}
	order, positional := 0, 0
	mirror, back := mirrorTree(doc.Root)
	for _, text := range sheetTexts(doc) {
		parsed := ParseSheet(text.Data, text.Open.Start)
		for _, at := range parsed.At {
			if at.Name == "charset" {
				continue
			}
			report.Left = append(report.Left, Left{
				Text: at.Text, What: "@" + at.Name, Span: at.Span,
				Why: "A rule that depends on the screen or loads something can only stand in a style sheet.",
			})
		}
		for _, rule := range parsed.Rules {
			hit := false
			for _, selector := range rule.Selectors {
				matcher, why := compile(selector)
				if matcher != nil && around(selector) {
					if positional++; positional > MaxPositional {
						matcher, why = nil, fmt.Sprintf("More than %d selectors count elements or look around; the others stay in the style sheet.",
							MaxPositional)
					}
				}
				if matcher == nil {
					report.Left = append(report.Left, Left{
						Text: selector + " { " + declarationText(rule.Declarations) + " }",
						What: selector, Why: why, Span: rule.Span,
					})
					hit = true
					continue
				}
				for _, found := range cascadia.QueryAll(mirror, matcher) {
					node := back[found]
					if node == nil || unseen(node) {
						continue
					}
					hit = true
					if order += len(rule.Declarations); order > MaxReached {
						report.Beyond = true
						continue
					}
					for i, d := range rule.Declarations {
						reached[node] = append(reached[node], weighed{d, weight{
							important: d.Important, specificity: matcher.Specificity(), order: order - len(rule.Declarations) + i,
						}})
					}
				}
			}
			if hit {
				report.Inlined++
			} else {
				report.Unused++
			}
		}
	}
	for _, node := range doc.Root.Elements() {
		apply(doc, node, reached[node], len(report.Left) > 0, &order)
	}
	replaceSheets(doc, report.Left)
	dropClasses(doc, report)
	return report
}

// unseen elements are never drawn; a rule such as * { margin: 0 } must not be written onto them.
func unseen(n *markup.Node) bool {
	return n.Is("html", "head", "title", "meta", "link", "base", "style", "script") || n.Inside("head") != nil
}

// compile reads one selector. Pseudo-classes that depend on what a reader does, and
// pseudo-elements, cannot be inlined.
func compile(selector string) (cascadia.Sel, string) {
	for _, dynamic := range []string{":hover", ":active", ":focus", ":visited", ":link", ":target", "::", ":before",
		":after", ":first-line", ":first-letter"} {
		if strings.Contains(strings.ToLower(selector), dynamic) {
			return nil, "A state or a generated piece (" + dynamic + ") can only stand in a style sheet."
		}
	}
	if why := simple(selector); why != "" {
		return nil, why
	}
	sel, err := cascadia.Parse(selector)
	if err != nil {
		return nil, "This selector cannot be matched: " + err.Error() + "."
	}
	return sel, ""
}

// sheets are the style elements that are inlined: for the screen, and not for one engine only.
func sheets(doc *markup.Document) []*markup.Node {
	return slices.DeleteFunc(doc.Root.Elements("style"), func(n *markup.Node) bool {
		media, _ := n.Attr("media")
		return n.Inside("svg") != nil || insideCondition(n) || media != "" && media != "all" && media != "screen"
	})
}

// sheetTexts are the texts of a document's style elements.
func sheetTexts(doc *markup.Document) []*markup.Node {
	var texts []*markup.Node
	for _, n := range sheets(doc) {
		texts = append(texts, n.Children...)
	}
	return texts
}

// insideCondition: a sheet for one engine only stays with that engine.
func insideCondition(n *markup.Node) bool {
	for p := n.Parent; p != nil; p = p.Parent {
		if p.Kind == markup.Conditional {
			return true
		}
	}
	return false
}

// replaceSheets leaves the rules that could not be inlined in the first sheet and removes the others.
func replaceSheets(doc *markup.Document, left []Left) {
	for i, n := range sheets(doc) {
		if i > 0 || len(left) == 0 {
			n.Remove()
			continue
		}
		n.Children = nil
		for _, l := range left { // one text for each rule, so that each keeps its place
			n.Append(markup.NewText("\n"+l.Text, l.Span))
		}
	}
}

// dropClasses removes class attributes that no rule needs any more. A document that never had a
// sheet keeps its classes.
func dropClasses(doc *markup.Document, report Report) {
	if report.Inlined+report.Unused == 0 {
		return
	}
	named := map[string]bool{}
	for _, l := range report.Left {
		for _, name := range classNames.FindAllString(l.Text, -1) {
			named[name[1:]] = true
		}
	}
	for _, n := range doc.Root.Elements() {
		class, ok := n.Attr("class")
		if !ok {
			continue
		}
		needed := false
		for _, name := range strings.Fields(class) {
			needed = needed || named[name]
		}
		if !needed {
			n.RemoveAttr("class")
		}
	}
}

// classNames are names of classes in CSS (Selectors Level 4, 6.6), and numbers with a point, which do no harm.
var classNames = regexp.MustCompile(`\.[\p{L}\d_\\-]+`)

// apply merges what reached an element with its style attribute.
func apply(doc *markup.Document, n *markup.Node, list []weighed, keepImportant bool, order *int) {
	own := attributeDeclarations(doc, n)
	for _, d := range own {
		*order++
		list = append(list, weighed{d, weight{important: d.Important, attribute: true, order: *order}})
	}
	if len(list) == 0 {
		return
	}
	sort.SliceStable(list, func(i, j int) bool { return list[i].weight.less(list[j].weight) })
	var merged []markup.Declaration
	last := map[string]int{} // the declaration of each property that counts
	for i, d := range list {
		last[d.Property] = i
	}
	for i, d := range list {
		if last[d.Property] != i {
			continue
		}
		d.Important = d.Important && keepImportant
		d.Value = softQuotes(d.Value)
		merged = append(merged, d.Declaration)
	}
	n.Style = merged
	if len(own) != len(list) || len(merged) != len(own) {
		n.SetStyle(merged)
	}
}

// softQuotes writes a value's quotes so that they need no escaping inside a double-quoted attribute.
func softQuotes(value string) string {
	if strings.Contains(value, `"`) && !strings.ContainsAny(value, "'{") {
		return strings.ReplaceAll(value, `"`, "'")
	}
	return value
}

// attributeDeclarations are those of a style attribute, each with its place.
func attributeDeclarations(doc *markup.Document, n *markup.Node) []markup.Declaration {
	a := n.Attribute("style")
	if a == nil {
		return nil
	}
	list := ParseDeclarations(a.Value, a.Inner.Start)
	if a.Changed() || doc.Source[a.Inner.Start:a.Inner.End] != a.Value {
		for i := range list { // references in the value shift places: point at the attribute
			list[i].Span = a.Span
		}
	}
	return list
}

// declarationText writes declarations as an attribute has them.
func declarationText(list []markup.Declaration) string {
	var parts []string
	for _, d := range list {
		parts = append(parts, d.String())
	}
	return strings.Join(parts, "; ")
}

// mirrorTree builds the tree that selectors are matched against, with the row group that a browser
// puts into every table, and the way back from its nodes.
func mirrorTree(root *markup.Node) (*html.Node, map[*html.Node]*markup.Node) {
	back := map[*html.Node]*markup.Node{}
	top := &html.Node{Type: html.DocumentNode}
	mirrorChildren(top, root, back)
	return top, back
}

// mirrorChildren builds the tree that selectors are matched on.
func mirrorChildren(into *html.Node, from *markup.Node, back map[*html.Node]*markup.Node) {
	var group *html.Node
	for _, c := range from.Children {
		switch c.Kind {
		case markup.Text:
			into.AppendChild(&html.Node{Type: html.TextNode, Data: c.Data})
		case markup.Element:
			m := &html.Node{Type: html.ElementNode, Data: c.Name}
			for _, a := range c.Attrs {
				m.Attr = append(m.Attr, html.Attribute{Key: a.Name, Val: a.Value})
			}
			back[m] = c
			parent := into
			if c.Name == "tr" && from.Is("table") {
				if group == nil {
					group = &html.Node{Type: html.ElementNode, Data: "tbody"}
					into.AppendChild(group)
				}
				parent = group
			} else {
				group = nil
			}
			parent.AppendChild(m)
			mirrorChildren(m, c, back)
		}
	}
}

// Unused lists the rules of a style sheet's text that reach no element of the document, by their place in the
// text. Rules of which that cannot be said (states of the reader's mouse, conditions) are not among them.
func Unused(doc *markup.Document, sheet string) []markup.Span {
	mirror, _ := mirrorTree(doc.Root)
	var unused []markup.Span
	positional := 0
	for _, rule := range ParseSheet(sheet, 0).Rules {
		reaches := false
		for _, selector := range rule.Selectors {
			matcher, _ := compile(selector)
			if around(selector) {
				if positional++; positional > MaxPositional {
					matcher = nil // nobody can say in time
				}
			}
			reaches = reaches || matcher == nil || len(cascadia.QueryAll(mirror, matcher)) > 0
		}
		if !reaches {
			unused = append(unused, rule.Span)
		}
	}
	return unused
}

// ReadAttributes sets Node.Style from the style attributes alone and leaves style sheets as they are.
func ReadAttributes(doc *markup.Document) {
	for _, n := range doc.Root.Elements() {
		n.Style = attributeDeclarations(doc, n)
	}
}
