// Package journey sends a signature through a mail client: a document and a profile go in, the document as the client
// has it comes out, with typed events that say what happened to what, and where in the source. A profile is data
// (core/client); this is the engine that interprets it. Start with Simulate; Show adds dark mode and blocked pictures,
// Paste what a copying browser does.
package journey

import (
	"regexp"
	"slices"
	"strings"
	"sync"

	"missivum/core/client"
	"missivum/core/field"
	"missivum/core/markup"
	"missivum/core/style"
)

// Simulate gives the document as it is after the stages up to and including last, and the log of
// what happened. The document itself is not changed. Properties that the client ignores when it renders
// are taken away at the last stage, so that the result can be looked at in a browser.
//
// Node.Style must have been set by style.Inline. Pictures are taken to be allowed.
func Simulate(p *client.Profile, doc *markup.Document, last client.Stage) (*markup.Document, []Event) {
	return SimulateIn(View{}, p, doc, last)
}

// SimulateIn is Simulate in a view: in one with pictures blocked, what the client does until they are allowed
// happens too.
func SimulateIn(v View, p *client.Profile, doc *markup.Document, last client.Stage) (*markup.Document, []Event) {
	s := simulation{doc: doc.Clone()}
	for _, stage := range client.Stages {
		for i := range p.Behaviours {
			if b := &p.Behaviours[i]; b.Stage == stage && (b.While == "" || v.Blocked) {
				s.run(b)
			}
		}
		if stage == last {
			break
		}
	}
	return s.doc, s.log
}

// simulation is a document on its way through one profile.
type simulation struct {
	doc   *markup.Document
	log   []Event
	nodes []*markup.Node // all elements; nil after the tree was changed
}

// elements lists all elements of the tree as it is now, without those in conditional comments: for whoever has not
// honoured a comment, there are none in it.
func (s *simulation) elements() []*markup.Node {
	if s.nodes == nil {
		s.nodes = s.doc.Elements()
	}
	return s.nodes
}

// changed says that elements came, went or got other names.
func (s *simulation) changed() { s.nodes = nil }

// note remembers that something happened, at its place in the source.
func (s *simulation) note(b *client.Behaviour, n *markup.Node, about Subject, span markup.Span) {
	s.log = append(s.log, Event{Subject: about, Stage: b.Stage, Behaviour: b, Node: n, Span: span})
}

// run applies one behaviour wherever it matches.
func (s *simulation) run(b *client.Behaviour) {
	m := b.Match
	switch {
	case m.Structure != "":
		structureOf(m.Structure).run(s, b)
	case len(m.Elements) > 0:
		s.matchElements(b)
	case len(m.Schemes) > 0:
		s.schemes(b)
	case len(m.Properties) > 0 || len(m.Units) > 0 || len(m.Colours) > 0:
		s.properties(b)
	case len(m.Attributes) > 0:
		s.attributes(b)
	case len(m.AtRules) > 0 || len(m.Selectors) > 0:
		s.rules(b)
	case len(m.Texts) > 0:
		s.texts(b)
	}
}

// matchElements applies a behaviour to elements.
func (s *simulation) matchElements(b *client.Behaviour) {
	for _, n := range s.elements() {
		if !matchName(b.Match.Elements, n.Name) || slices.Contains(b.Match.Except, n.Name) || n.Name == "link" && !linksSheet(n) || gone(n) {
			continue
		}
		if b.Does == client.Added && !s.add(b, n) {
			continue
		}
		s.note(b, n, Subject{Kind: Element, Name: n.Name}, n.Open)
		switch b.Does {
		case client.Dropped, client.Refused:
			n.Remove()
		case client.Unwrapped:
			n.Unwrap()
		case client.Rewritten:
			s.add(b, n)
			n.Rename(b.To)
		}
		s.changed()
	}
}

// gone recognises an element of a part of the tree that was removed while its list was walked.
func gone(n *markup.Node) bool {
	for n.Parent != nil {
		n = n.Parent
	}
	return n.Kind != markup.Root
}

// attributes applies a behaviour to attributes.
func (s *simulation) attributes(b *client.Behaviour) {
	for _, n := range s.elements() {
		if len(n.Attrs) == 0 || !s.applies(b, n) {
			continue
		}
		for _, a := range slices.Clone(n.Attrs) {
			if field.Reserved(a.Name) || !matchName(b.Match.Attributes, a.Name) || matchName(b.Match.Except, a.Name) {
				continue
			}
			if len(b.Match.Values) > 0 && !matchName(b.Match.Values, strings.ToLower(strings.TrimSpace(a.Value))) {
				continue
			}
			if b.Does == client.Added && !s.add(b, n) {
				continue
			}
			s.note(b, n, Subject{Kind: Attribute, Name: a.Name, Value: a.Value}, a.Span)
			switch b.Does {
			case client.Dropped, client.Refused:
				n.RemoveAttr(a.Name)
			case client.Rewritten:
				s.rewrite(b, n, a)
			}
		}
	}
}

// rewrite gives an attribute another value, or puts what the behaviour adds in its place.
func (s *simulation) rewrite(b *client.Behaviour, n *markup.Node, a markup.Attr) {
	if b.Adds == nil {
		n.SetAttr(a.Name, rewritten(b.To, a))
		return
	}
	n.RemoveAttr(a.Name)
	adds := *b.Adds
	adds.Value = strings.ReplaceAll(adds.Value, "*", a.Value)
	instead := *b
	instead.Adds = &adds
	s.add(&instead, n)
}

// rewritten gives the new value of an attribute. In lists of names each is rewritten.
func rewritten(to string, a markup.Attr) string {
	switch a.Name {
	case "class", "id", "for", "name", "headers":
		words := strings.Fields(a.Value)
		for i, w := range words {
			words[i] = strings.ReplaceAll(to, "*", w)
		}
		return strings.Join(words, " ")
	}
	return strings.ReplaceAll(to, "*", a.Value)
}

// add puts an attribute or a declaration on an element that has none, and reports whether it did.
func (s *simulation) add(b *client.Behaviour, n *markup.Node) bool {
	switch {
	case b.Adds == nil:
		return false
	case b.Adds.Property != "":
		rest := slices.Clone(n.Style)
		if b.Does == client.Rewritten {
			rest = slices.DeleteFunc(rest, func(d markup.Declaration) bool { return d.Property == b.Adds.Property })
		} else if _, has := n.Declared(b.Adds.Property); has {
			return false
		}
		n.SetStyle(append(rest, markup.Declaration{Property: b.Adds.Property, Value: b.Adds.Value,
			Span: markup.Span{Start: n.Open.Start, End: n.Open.Start}}))
	default:
		if _, has := n.Attr(b.Adds.Attribute); has && b.Does != client.Rewritten {
			return false
		}
		n.SetAttr(b.Adds.Attribute, b.Adds.Value)
	}
	return true
}

// applies reports whether a behaviour concerns an element.
func (s *simulation) applies(b *client.Behaviour, n *markup.Node) bool {
	return (len(b.Match.On) == 0 || n.Is(b.Match.On...)) && !n.Is(b.Match.NotOn...)
}

// properties applies a behaviour to declarations.
func (s *simulation) properties(b *client.Behaviour) {
	for _, n := range s.elements() {
		if len(n.Style) == 0 || !s.applies(b, n) {
			continue
		}
		var rest []markup.Declaration
		touched := false
		for i, d := range n.Style {
			after, hit := changed(b, d)
			if !hit {
				if touched {
					rest = append(rest, d)
				}
				continue
			}
			if !touched {
				rest = append(rest, n.Style[:i]...)
				touched = true
			}
			s.note(b, n, declared(d), d.Span)
			if after.Value != "" {
				rest = append(rest, after)
			}
		}
		if touched && b.Does != client.Kept {
			n.SetStyle(rest)
		}
	}
}

// changed gives a declaration as the behaviour leaves it, without a value when it goes, and whether it
// matched at all.
func changed(b *client.Behaviour, d markup.Declaration) (markup.Declaration, bool) {
	m := &b.Match
	if len(m.Properties) > 0 && !matchName(m.Properties, d.Property) || matchName(m.Except, d.Property) {
		return d, false
	}
	after := ""
	switch {
	case len(m.Units) > 0:
		if !style.HasUnit(d.Value, m.Units) {
			return d, false
		}
		after = style.RewriteUnits(d.Value, m.Units, b.To)
	case len(m.Colours) > 0:
		if !style.HasColour(d.Value, m.Colours) {
			return d, false
		}
		after = b.To
	case m.Part != "":
		without, found := withoutPart(m, d.Value, b.To)
		if !found {
			return d, false
		}
		d.Value = without
		return d, true
	case !matchValue(m, d):
		return d, false
	default:
		after = strings.ReplaceAll(b.To, "*", d.Value)
	}
	switch b.Does {
	case client.Kept:
	case client.Rewritten:
		d.Value = after
	default:
		d.Value = ""
	}
	return d, true
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

// globs are the patterns that were compiled. They come from the profiles, so there are few of them.
var globs sync.Map // of *regexp.Regexp by pattern

// glob compares a text with a pattern in which * stands for any run of signs. The cost is at most text times pattern,
// however many stars a profile's pattern has: RE2 does not try again.
func glob(pattern, s string) bool {
	if !strings.Contains(pattern, "*") {
		return pattern == s
	}
	compiled, ok := globs.Load(pattern)
	if !ok {
		parts := strings.Split(pattern, "*")
		for i, p := range parts {
			parts[i] = regexp.QuoteMeta(p)
		}
		compiled, _ = globs.LoadOrStore(pattern, regexp.MustCompile(`(?s)^`+strings.Join(parts, ".*")+`$`))
	}
	return compiled.(*regexp.Regexp).MatchString(s)
}

// withoutPart takes the components that match a pattern out of a value, or puts something in their place, and
// reports whether there were any.
func withoutPart(m *client.Match, value, to string) (string, bool) {
	var kept []string
	found := false
	for _, c := range components(value) {
		switch {
		case !glob(m.Part, strings.ToLower(c)) || matchName(m.PartExcept, strings.ToLower(c)):
			kept = append(kept, c)
		case to != "":
			kept, found = append(kept, to), true
		default:
			found = true
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
func matchValue(m *client.Match, d markup.Declaration) bool {
	value := strings.ToLower(d.Value)
	if len(m.Values) > 0 {
		return matchName(m.Values, value)
	}
	switch value {
	case "0", "0px", "none", "auto", "static", "initial", "normal", "visible", "0 0", "0 0 0 0", "0 auto":
		return false
	case "100%":
		return !strings.HasPrefix(d.Property, "max-") && !strings.HasPrefix(d.Property, "min-")
	case "1":
		return d.Property != "opacity"
	}
	return true
}

// schemes applies a behaviour to addresses by their scheme.
func (s *simulation) schemes(b *client.Behaviour) {
	names := b.Match.Attributes
	if len(names) == 0 {
		names = []string{"src", "background"}
	}
	for _, n := range s.elements() {
		if !s.applies(b, n) {
			continue
		}
		for _, name := range names {
			a := n.Attribute(name)
			if a == nil || field.HasField(a.Value) && !strings.Contains(field.BeforeField(a.Value), ":") {
				continue
			}
			scheme := markup.SchemeOf(a.Value)
			if !matchName(b.Match.Schemes, scheme) || matchName(b.Match.Except, scheme) {
				continue
			}
			if b.Does == client.Added && !s.add(b, n) {
				continue
			}
			s.note(b, n, Subject{Kind: Address, Value: scheme}, a.Span)
			switch b.Does {
			case client.Kept, client.Added:
			case client.Rewritten:
				n.SetAttr(name, strings.ReplaceAll(b.To, "*", strings.TrimPrefix(a.Value, "#")))
			case client.Dropped:
				n.RemoveAttr(name)
			default:
				n.SetAttr(name, "")
			}
		}
	}
}

// rules takes rules out of the style sheets by their at-keyword or their selectors.
func (s *simulation) rules(b *client.Behaviour) {
	for _, n := range s.elements() {
		if n.Name != "style" {
			continue
		}
		for _, rule := range rulesOf(n) {
			if !rule.is(&b.Match) {
				continue
			}
			s.note(b, n, rule.subject(), rule.span)
			if rule.text.Parent != nil && b.Does != client.Kept {
				rule.text.SetText(strings.Replace(rule.text.Data, rule.source, "", 1))
			}
		}
	}
}

// is reports whether a rule is of one of the at-keywords, or has a selector of one of the kinds: generated content, or
// a state such as :hover.
func (r sheetRule) is(m *client.Match) bool {
	if r.at != "" {
		return slices.Contains(m.AtRules, r.at)
	}
	for _, kind := range m.Selectors {
		if generated(r.selector) == (kind == "generated") && strings.Contains(r.selector, ":") {
			return true
		}
	}
	return false
}

// generated reports whether a selector is of content that the sheet makes, or of a part of a text.
func generated(selector string) bool {
	return strings.Contains(selector, ":before") || strings.Contains(selector, ":after") ||
		strings.Contains(selector, "::") || strings.Contains(selector, ":first-l")
}

// texts rewrites runs of signs in the text.
func (s *simulation) texts(b *client.Behaviour) {
	s.doc.Root.Walk(func(n *markup.Node) bool {
		if n.Kind == markup.Text && !n.Parent.Is("style", "script", "title") {
			for _, t := range b.Match.Texts {
				if strings.Contains(n.Data, t) {
					s.note(b, n, Subject{Kind: Text, Value: t}, n.Open)
					n.SetText(strings.ReplaceAll(n.Data, t, b.To))
				}
			}
		}
		return n.Kind != markup.Conditional
	})
}
