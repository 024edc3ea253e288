package check

import (
	"fmt"
	"slices"
	"strings"
	"unicode"

	"missivum/core/client"
	"missivum/core/field"
	"missivum/core/markup"
	"missivum/core/person"
)

// shown is one field in one line of the signature, and what stands beside it there.
type shown struct {
	expr  *field.Expr
	span  markup.Span
	place place
	block *markup.Node
	line  int // which line of the block, counted by its breaks
}

// place is where in a line a field stands.
type place uint8

const (
	inText        place = iota
	wholeAddress        // all of an address but its scheme
	partOfAddress       // a part of an address
)

// blankField finds fields that can be blank and leave something behind.
func blankField(p *Pass) {
	f := blankFinder{Pass: p, label: map[lineKey]string{}, fields: map[lineKey]map[string]bool{}}
	f.visit(p.Doc.Root, p.Doc.Root, nil)
	type key struct {
		lineKey
		field string
	}
	var order []key
	groups := map[key][]shown{}
	for _, s := range f.shown {
		k := key{lineKey{s.block, s.line}, s.expr.Field}
		if groups[k] == nil {
			order = append(order, k)
		}
		groups[k] = append(groups[k], s)
	}
	for _, k := range order {
		f.report(k.lineKey, groups[k])
	}
}

// lineKey is what makes what stays beside several blank fields one finding: the same line of the same block.
type lineKey struct {
	block *markup.Node
	line  int
}

// blankFinder collects what stays beside blank fields, for everybody at once.
type blankFinder struct {
	*Pass
	shown  []shown
	label  map[lineKey]string          // literal text of each line
	fields map[lineKey]map[string]bool // fields of each line
	lines  map[*markup.Node]int        // breaks seen in each block
}

// visit collects the fields below n that nothing protects. safe lists the fields that an element
// around asks for.
func (f *blankFinder) visit(n, block *markup.Node, safe []string) {
	if f.lines == nil {
		f.lines = map[*markup.Node]int{}
	}
	key := lineKey{block, f.lines[block]}
	switch n.Kind {
	case markup.Text:
		pieces, _ := f.Fields.TextPieces(n)
		for _, piece := range pieces {
			if piece.Expr == nil {
				f.label[key] += markup.Unescape(piece.Text)
			} else {
				f.note(piece.Expr, key, inText, safe)
			}
		}
		return
	case markup.Conditional, markup.Comment, markup.Doctype, markup.Stray:
		return
	case markup.Element:
		if n.Is("head", "style", "script") {
			return
		}
		if n.Is("br") {
			f.lines[block]++
			return
		}
		safe = append(append([]string(nil), safe...), f.protects(n)...)
		if markup.Block(n.Name) {
			block = n
			key = lineKey{block, 0}
		}
		if n.Is("img") {
			f.label[key] += "[picture]"
		}
		for _, a := range n.Attrs {
			if field.Own(a.Name) || !field.HasField(a.Value) {
				continue
			}
			pieces, _ := f.Fields.AttrPieces(a)
			where := addressPart(pieces)
			for _, piece := range pieces {
				if piece.Expr != nil && markup.AddressAttribute(a.Name) {
					f.note(piece.Expr, key, where, safe)
				}
			}
		}
	}
	for _, c := range n.Children {
		f.visit(c, block, safe)
	}
}

// addressPart reports whether an address is nothing without its fields.
func addressPart(pieces []field.Piece) place {
	literal := ""
	for _, p := range pieces {
		literal += p.Text
	}
	switch strings.ToLower(strings.TrimSpace(literal)) {
	case "", "tel:", "mailto:", "http://", "https://":
		return wholeAddress
	}
	return partOfAddress
}

// protects lists the fields that must have a value for the element to stay.
func (f *blankFinder) protects(n *markup.Node) []string {
	var names []string
	conditions, _ := f.Fields.Conditions(n)
	for _, c := range conditions {
		switch {
		case c.Unless:
		case c.Any:
			names = append(names, strings.Join(c.Fields, " or "))
		default:
			names = append(names, c.Fields...)
		}
	}
	if parent := n.Parent; parent.Kind == markup.Element && len(conditions) == 0 {
		if _, joined := parent.Attr(field.AttrJoin); joined {
			if shown := f.Fields.FieldsOf(n); oneField(shown) {
				names = append(names, shown[0].Field)
			}
		}
	}
	return names
}

// oneField reports whether all expressions are of one field.
func oneField(list []*field.Expr) bool {
	for _, e := range list {
		if e.Field != list[0].Field {
			return false
		}
	}
	return len(list) > 0
}

// note remembers a field whose label or separator stays when it is blank.
func (f *blankFinder) note(e *field.Expr, key lineKey, where place, safe []string) {
	if f.fields[key] == nil {
		f.fields[key] = map[string]bool{}
	}
	f.fields[key][e.Field] = true
	if text, ok := e.StandBy(); ok && text != "" || f.protected(e, safe) {
		return
	}
	f.shown = append(f.shown, shown{e, e.Span, where, key.block, key.line})
}

// protected reports whether an expression cannot be blank where it stands: it is a text, it is unknown
// (and reported as that), or an element around needs it, one of its fields, or one of the same fields.
func (f *blankFinder) protected(e *field.Expr, safe []string) bool {
	if len(e.Fields) == 0 || slices.Contains(safe, e.Field) {
		return true
	}
	for _, c := range e.Fields {
		if _, _, known := f.Fields.Schema.Column(c.Name); !known || slices.Contains(safe, c.Name) {
			return true
		}
	}
	return false
}

// report makes one finding of what stays in one place, with the people concerned.
func (f *blankFinder) report(key lineKey, group []shown) {
	expr, name := group[0].expr, group[0].expr.Field
	seen := map[place]bool{}
	for _, s := range group {
		seen[s.place] = true
	}
	label := strings.Join(strings.Fields(f.label[key]), " ")
	visible := seen[inText] && strings.IndexFunc(label, func(r rune) bool { return !unicode.IsSpace(r) }) >= 0
	alone := seen[inText] && len(f.fields[key]) == 1
	if !seen[wholeAddress] && !seen[partOfAddress] && !visible && !alone {
		return // another field stands beside it with nothing but space between
	}
	who, people, severity, any := f.blankFor(expr)
	if !any {
		return
	}
	var left []string
	if visible {
		left = append(left, quote(label)+" stays")
	}
	if seen[partOfAddress] {
		left = append(left, "the link's address lacks it")
	}
	if seen[wholeAddress] {
		left = append(left, "the link leads nowhere")
		if severity == client.Degrades {
			severity = client.Breaks
		}
	}
	if len(left) == 0 {
		left = append(left, "an empty line stays")
	}
	var m *Fix
	if len(f.fields[key]) == 1 {
		m = f.needing(key.block, name, f.lines[key.block]+1)
	}
	f.Report(Finding{
		Span:     group[0].span,
		Severity: severity,
		Message:  fmt.Sprintf("%s Then %s.", who, strings.Join(left, " and ")),
		People:   people,
		Fix:      m,
		Remedy:   fmt.Sprintf("Put data-needs=%q on the element that holds the field and what belongs to it.", name),
	})
}

// blankFor says for whom an expression is blank. Without a directory every field but the name and the
// mail address may be.
func (f *blankFinder) blankFor(e *field.Expr) (said string, people []string, severity client.Severity, any bool) {
	if f.People == nil {
		for _, c := range e.Fields {
			switch c.Name {
			case "mail", "cn", "sn", "givenName", "displayName", "uid":
				return "", nil, "", false
			}
		}
		return fmt.Sprintf("%s can be blank.", e.Field), nil, client.Note, true
	}
	who := f.whose(func(p *person.Person) bool { return e.Raw(p) == "" })
	if len(who) == 0 {
		return "", nil, "", false
	}
	return fmt.Sprintf("%s is blank for %s.", e.Field, f.named(who)), who, client.Degrades, true
}

// whose lists the mail addresses of the people for whom something holds.
func (p *Pass) whose(holds func(*person.Person) bool) []string {
	var who []string
	for i := range p.People.People {
		if holds(&p.People.People[i]) {
			who = append(who, p.People.Get(&p.People.People[i], "mail"))
		}
	}
	return who
}

// named writes how many of the people they are, and who the first two are.
func (p *Pass) named(who []string) string {
	first := who[:min(2, len(who))]
	return fmt.Sprintf("%d of %d people (%s%s)", len(who), len(p.People.People), strings.Join(first, ", "), more(len(who), len(first)))
}

// more says how many people are not named.
func more(count, named int) string {
	if count > named {
		return fmt.Sprintf(" and %d more", count-named)
	}
	return ""
}

// showsField reports whether a field stands in an element or in one of its attributes.
func (p *Pass) showsField(n *markup.Node) bool { return len(p.Fields.Exprs(n)) > 0 }

// labels are words that say what a field is; they go with it.
var labels = []string{"tel", "telephone", "phone", "mobile", "mob", "cell", "fax", "direct", "desk", "office", "ext",
	"extension", "mail", "email",
	"web", "www", "t", "m", "f", "p", "e", "d", "telefon", "handy", "mobil", "durchwahl", "portable", "fixe", "movil",
	"móvil", "cellulare", "fisso",
	"mobiel", "vast", "komórka", "room", "raum", "bureau", "dept", "department", "abteilung", "since", "born", "call", "sign"}

// labelled reports whether all that an element says beside its fields is a label: words that end with a colon, or known
// ones.
func (p *Pass) labelled(n *markup.Node) bool {
	var said strings.Builder
	n.Walk(func(c *markup.Node) bool {
		if c.Kind == markup.Text {
			pieces, _ := p.Fields.TextPieces(c)
			for _, piece := range pieces {
				if piece.Expr == nil {
					said.WriteString(markup.Unescape(piece.Text))
				} else {
					said.WriteByte('\x00')
				}
			}
		}
		return true
	})
	before, behind, _ := strings.Cut(said.String(), "\x00")
	if strings.ContainsFunc(behind, func(r rune) bool { return unicode.IsLetter(r) || unicode.IsDigit(r) }) {
		return false
	}
	before = strings.TrimSpace(strings.ReplaceAll(before, "\u00a0", " "))
	if strings.HasSuffix(before, ":") && len(strings.Fields(before)) <= 3 && !strings.ContainsAny(before, ",|;") {
		return true
	}
	words := strings.FieldsFunc(strings.ToLower(before), func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) })
	return !slices.ContainsFunc(words, func(w string) bool { return !slices.Contains(labels, w) })
}

// needing puts data-needs on the element whose only line holds the field.
func (p *Pass) needing(node *markup.Node, name string, lines int) *Fix {
	n := p.SourceNode(node)
	if n == nil || lines > 1 || !n.Is("p", "div", "li", "tr", "span") || n.Attribute("data-needs") != nil ||
		n.Attribute("data-unless") != nil || strings.Contains(name, " ") {
		return nil
	}
	for _, e := range n.Elements() {
		if e != n && (markup.Block(e.Name) || e.Is("img", "hr") || e.Is("a") && !p.showsField(e)) {
			return nil
		}
	}
	if !p.labelled(n) {
		return nil // the line says more than the field
	}
	h := p.Edit()
	h.SetAttribute(n, "data-needs", name)
	return fixOf(h, "Leave the whole line out when the field is blank")
}
