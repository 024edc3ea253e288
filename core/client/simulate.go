package client

import (
	"fmt"
	"strings"

	"missivum/core/markup"
	"missivum/core/style"
)

// Event is one entry of a simulation's log.
type Event struct {
	Hop       Hop
	Behaviour *Behaviour
	Node      *markup.Node // of the document that was simulated, not of the result
	What      string       // such as "border-radius: 50%" or "<script>"
	Span      markup.Span  // in the source
}

// String is the event as one line.
func (e Event) String() string {
	s := fmt.Sprintf("%s: %s is %s", e.Hop, e.What, e.Behaviour.Does)
	if e.Behaviour.Says != "" {
		s += ": " + e.Behaviour.Says
	}
	return s
}

// Simulate gives the document as it is after the hops up to and including last, and the log of
// what happened. The document itself is not changed. Properties that the client ignores when it draws
// are taken away at the last hop, so that the result can be looked at in a browser.
//
// Node.Style must have been set by style.Inline.
func Simulate(p *Profile, doc *markup.Document, last Hop) (*markup.Document, []Event) {
	s := simulation{doc: doc.Clone()}
	for _, hop := range Hops {
		for i := range p.Behaviours {
			if b := &p.Behaviours[i]; b.Hop == hop {
				s.run(b)
			}
		}
		if hop == last {
			break
		}
	}
	return s.doc, s.log
}

type simulation struct {
	doc *markup.Document
	log []Event
}

func (s *simulation) note(b *Behaviour, n *markup.Node, what string, span markup.Span) {
	s.log = append(s.log, Event{Hop: b.Hop, Behaviour: b, Node: n, What: what, Span: span})
}

func (s *simulation) run(b *Behaviour) {
	m := b.Match
	switch {
	case m.Structure != "":
		structures[m.Structure](s, b)
	case len(m.Elements) > 0:
		s.elements(b)
	case len(m.Properties) > 0:
		s.properties(b)
	case len(m.Attributes) > 0:
		s.attributes(b)
	case len(m.Schemes) > 0:
		s.schemes(b)
	}
}

func (s *simulation) elements(b *Behaviour) {
	s.doc.Root.Walk(func(n *markup.Node) bool {
		if !n.Is(b.Match.Elements...) || n.Name == "link" && !linksSheet(n) {
			return true
		}
		what := "<" + n.Name + ">"
		if n.Name == "link" {
			what = "the linked style sheet"
		}
		s.note(b, n, what, n.Open)
		switch b.Does {
		case Dropped, Refused:
			n.Remove()
			return false
		case Unwrapped:
			n.Unwrap()
		}
		return true
	})
}

func (s *simulation) attributes(b *Behaviour) {
	for _, n := range s.doc.Root.Elements() {
		for _, a := range append([]markup.Attr(nil), n.Attrs...) {
			if matchName(b.Match.Attributes, a.Name) && s.applies(b, n) {
				s.note(b, n, a.Name, a.Span)
				if b.Does == Dropped || b.Does == Refused {
					n.RemoveAttr(a.Name)
				}
			}
		}
	}
}

func (s *simulation) applies(b *Behaviour, n *markup.Node) bool {
	return (len(b.Match.On) == 0 || n.Is(b.Match.On...)) && !n.Is(b.Match.NotOn...)
}

func (s *simulation) properties(b *Behaviour) {
	for _, n := range s.doc.Root.Elements() {
		if len(n.Style) == 0 || !s.applies(b, n) {
			continue
		}
		var rest []markup.Declaration
		changed := false
		for _, d := range n.Style {
			if !matchName(b.Match.Properties, d.Property) || !matchValue(b.Match, d) {
				rest = append(rest, d)
				continue
			}
			if b.Match.Part == "" {
				s.note(b, n, d.Property+": "+d.Value, d.Span)
				changed = true
				continue
			}
			without, found := withoutPart(b.Match.Part, d.Value)
			if found {
				s.note(b, n, d.Property+": "+d.Value, d.Span)
				changed = true
				d.Value = without
			}
			if d.Value != "" {
				rest = append(rest, d)
			}
		}
		if changed && b.Does != Kept {
			n.SetStyle(rest)
		}
	}
}

// matchName compares a name with patterns in which * stands for any run of signs.
func matchName(patterns []string, name string) bool {
	for _, p := range patterns {
		if glob(p, name) {
			return true
		}
	}
	return false
}

func glob(pattern, s string) bool {
	head, rest, star := strings.Cut(pattern, "*")
	if !star {
		return pattern == s
	}
	s, ok := strings.CutPrefix(s, head)
	for i := 0; ok && i <= len(s); i++ {
		if glob(rest, s[i:]) {
			return true
		}
	}
	return false
}

// withoutPart takes the components that match a pattern out of a value, and tells whether there were any.
func withoutPart(pattern, value string) (string, bool) {
	var kept []string
	found := false
	for _, c := range components(value) {
		if glob(pattern, strings.ToLower(c)) {
			found = true
		} else {
			kept = append(kept, c)
		}
	}
	return strings.Join(kept, " "), found
}

// components cuts a value at its spaces outside brackets and quotes.
func components(value string) []string {
	var list []string
	depth, start := 0, 0
	var quote rune
	for i, r := range value {
		switch {
		case quote != 0:
			if r == quote {
				quote = 0
			}
		case r == '"' || r == '\'':
			quote = r
		case r == '(':
			depth++
		case r == ')':
			depth--
		case r == ' ' && depth <= 0:
			if i > start {
				list = append(list, value[start:i])
			}
			start = i + 1
		}
	}
	if start < len(value) {
		list = append(list, value[start:])
	}
	return list
}

// matchValue leaves out values that do nothing anyway.
func matchValue(m Match, d markup.Declaration) bool {
	value := strings.ToLower(d.Value)
	if len(m.Values) > 0 {
		return matchName(m.Values, value)
	}
	switch value {
	case "0", "0px", "none", "auto", "static", "initial", "normal", "visible", "0 0", "0 0 0 0":
		return false
	case "100%":
		return !strings.HasPrefix(d.Property, "max-") && !strings.HasPrefix(d.Property, "min-")
	case "1":
		return d.Property != "opacity"
	}
	return true
}

func (s *simulation) schemes(b *Behaviour) {
	for _, n := range s.doc.Root.Elements() {
		for _, name := range []string{"src", "background"} {
			a := n.Attribute(name)
			if a == nil {
				continue
			}
			scheme, _, ok := strings.Cut(strings.TrimSpace(a.Value), ":")
			if !ok || !matchName(b.Match.Schemes, strings.ToLower(scheme)) {
				continue
			}
			s.note(b, n, strings.ToLower(scheme)+": address", a.Span)
			if b.Does != Kept {
				n.SetAttr(name, "")
			}
		}
	}
}

// structures are the kinds of match that look at how a document is built.
var structures = map[string]func(*simulation, *Behaviour){
	"document-tags":        documentTags,
	"comments":             comments,
	"conditional-comments": conditionalComments,
	"style-sheets":         styleSheets,
	"picture-without-size": unsizedPictures,
	"block-in-inline":      blocksInInline,
}

func documentTags(s *simulation, b *Behaviour) {
	for _, n := range MisplacedDocumentTags(s.doc) {
		s.note(b, n, "<"+n.Name+">", n.Open)
	}
	if b.Does == Unwrapped || b.Does == Dropped {
		s.doc.Fragment()
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
	s.doc.Root.Walk(func(n *markup.Node) bool {
		if n.Kind == markup.Comment && b.Does == Dropped {
			n.Remove()
		}
		return true
	})
}

// conditionalComments: a client that honours them shows the content meant for it and leaves out
// what is meant for others; any other drops the hidden ones like every comment.
func conditionalComments(s *simulation, b *Behaviour) {
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
	for _, n := range s.doc.Root.Elements("style") {
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
	what string
	span markup.Span
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
			list = append(list, sheetRule{"the rule @" + at.Name, place(at.Span)})
		}
		for _, r := range sheet.Rules {
			list = append(list, sheetRule{"the rule " + strings.Join(r.Selectors, ", "), place(r.Span)})
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
