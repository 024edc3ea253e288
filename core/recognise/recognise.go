// Package recognise makes a template of a finished signature: the values of a known person are found in its text,
// addresses and attributes, and fields take their place. The template is then filled for that person and
// compared with the original. Start with Run.
package recognise

import (
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"gopkg.in/yaml.v3"

	"missivum/core/compose"
	"missivum/core/edit"
	"missivum/core/field"
	"missivum/core/markup"
	"missivum/core/person"
	"missivum/core/style"
	"missivum/core/template"
)

// Input is what recognising works on.
type Input struct {
	Parts  template.Parts // the finished signature; of the settings, title and pictures are kept
	People *person.Directory
	Person *person.Person
	Day    time.Time
	// Answers say for questions, by their ID, which expression is meant; an empty one leaves the text.
	Answers map[string]string
}

// Found is a value of the person that became a field.
type Found struct {
	Expression string `json:"expression"` // without braces
	Text       string `json:"text"`       // as it stood there
	markup.Place
}

// Question is a value that could be meant otherwise.
type Question struct {
	ID      string   `json:"id"` // line:column
	Text    string   `json:"text"`
	Context string   `json:"context"` // the words around it
	Choices []string `json:"choices"` // expressions; an empty one leaves the text
	Chosen  string   `json:"chosen"`
	markup.Place
}

// Difference is a piece of text or a link that is not the same in the original and in the filled template.
type Difference struct {
	What     string `json:"what"` // text or link
	Original string `json:"original"`
	Filled   string `json:"filled"`
}

// Result is the template and how it was made.
type Result struct {
	Parts       template.Parts
	Found       []Found
	Questions   []Question
	Differences []Difference
	Remaining   []Remaining // what stays of the person, or may be theirs
	NotFound    []string    // fields of the person with a value that stands nowhere
}

// Run makes the template. The error is that of a source that cannot be read, or of a template that cannot be
// filled, which answers can bring about.
func Run(in Input) (Result, error) {
	doc, err := style.Parse(in.Parts.Source)
	if err != nil {
		return Result{}, err
	}
	l := recogniser{in: in, doc: doc, used: map[string]bool{}}
	if l.candidates, err = candidates(in); err != nil {
		return Result{}, err
	}
	l.numbers = newNumbers(in, l.candidates)
	doc.Root.Walk(l.visit)
	l.joins()
	l.conditions()
	r := Result{Parts: in.Parts, Found: l.found, Questions: l.questions}
	if r.Parts.Source, err = l.apply(); err != nil {
		return Result{}, err
	}
	r.Parts.Texts = nil
	if r.Parts.Settings, err = l.settings(); err != nil {
		return Result{}, err
	}
	for _, name := range in.People.Schema.Names() {
		if !person.IsBlank(in.People.Get(in.Person, name)) && !l.used[name] {
			r.NotFound = append(r.NotFound, name)
		}
	}
	if r.Differences, err = compare(in, r.Parts); err != nil {
		return Result{}, err
	}
	if r.Remaining, err = remaining(in, r.Parts); err != nil {
		return Result{}, err
	}
	return r, nil
}

type recogniser struct {
	in         Input
	doc        *markup.Document
	candidates []candidate
	numbers    numbers
	edits      []edit.Edit
	found      []Found
	questions  []Question
	used       map[string]bool // fields, by canonical name
	pieces     []piece
}

// piece is a field in an element, for deciding which elements need it.
type piece struct {
	node  *markup.Node
	field string
}

// visit looks at one node.
func (l *recogniser) visit(n *markup.Node) bool {
	switch n.Kind {
	case markup.Text:
		if !n.Parent.Is("style", "script", "title") {
			l.text(n, l.doc.Raw(n), n.Open.Start)
		}
	case markup.Element:
		for _, a := range n.Attrs {
			switch {
			case markup.AddressAttribute(a.Name):
				l.address(n, a)
			case a.Name == "alt" || a.Name == "title" || a.Name == "aria-label":
				l.text(n, l.doc.Source[a.Inner.Start:a.Inner.End], a.Inner.Start)
			default:
				l.literalBraces(l.doc.Source[a.Inner.Start:a.Inner.End], a.Inner.Start)
			}
		}
	}
	return !n.Is("style", "script")
}

// literalBraces writes double braces of the original so that they stay what they are.
func (l *recogniser) literalBraces(raw string, start int) {
	for at := 0; ; {
		i := strings.Index(raw[at:], "{{")
		if i < 0 {
			return
		}
		at += i
		l.edits = append(l.edits, edit.Edit{Start: start + at, End: start + at + 2, Text: "{{ '{{' }}"})
		at += 2
	}
}

// text finds values in a text or in an attribute that is one.
func (l *recogniser) text(n *markup.Node, raw string, start int) {
	l.literalBraces(raw, start)
	d := decode(raw)
	matches := l.matches(d.text)
	for i, m := range matches {
		span := markup.Span{Start: start + d.at[m.from], End: start + d.at[m.to]}
		place := l.doc.Place(span.Start)
		chosen := m.exprs[0]
		if choices := l.choices(d.text, matches, i); len(choices) > 1 {
			q := Question{ID: fmt.Sprintf("%d:%d", place.Line, place.Column), Text: d.text[m.from:m.to],
				Context: around(d.text, m.from, m.to), Choices: choices, Chosen: choices[0], Place: place}
			if answer, ok := l.in.Answers[q.ID]; ok && slices.Contains(choices, answer) {
				q.Chosen = answer
			}
			chosen = q.Chosen
			l.questions = append(l.questions, q)
		}
		if chosen == "" {
			continue
		}
		l.put(n, chosen, d.text[m.from:m.to], span)
	}
}

// put makes a field of a piece of the source.
func (l *recogniser) put(n *markup.Node, expression, text string, span markup.Span) {
	l.replace(n, "{{ "+expression+" }}", expression, text, span)
}

// replace puts markup with an expression in the place of a piece of the source.
func (l *recogniser) replace(n *markup.Node, with, expression, text string, span markup.Span) {
	l.edits = append(l.edits, edit.Edit{Start: span.Start, End: span.End, Text: with})
	l.found = append(l.found, Found{Expression: expression, Text: text, Place: l.doc.Place(span.Start)})
	name, _, _ := strings.Cut(expression, " ")
	l.used[name] = true
	l.pieces = append(l.pieces, piece{n, name})
}

// attribute adds an attribute of the language to an element.
func (l *recogniser) attribute(n *markup.Node, name, value string) {
	at := n.Open.Start + 1 + len(n.Name)
	l.edits = append(l.edits, edit.Edit{Start: at, End: at, Text: " " + name + `="` + value + `"`})
}

// around gives a match with some words before and behind it.
func around(text string, from, to int) string {
	start, end := max(from-30, 0), min(to+30, len(text))
	return strings.Join(strings.Fields(strings.ToValidUTF8(text[start:end], "")), " ")
}

// conditions adds data-needs to the lines and rows that say nothing without their fields, where a field is
// blank for somebody.
func (l *recogniser) conditions() {
	byBlock := map[*markup.Node][]string{}
	var order []*markup.Node
	for _, p := range l.pieces {
		block := line(p.node)
		if block == nil {
			continue
		}
		if byBlock[block] == nil {
			order = append(order, block)
		}
		if !slices.Contains(byBlock[block], p.field) {
			byBlock[block] = append(byBlock[block], p.field)
		}
	}
	for _, block := range order {
		l.needs(block, byBlock[block])
	}
}

// joins makes rows of pieces with one separator between them into joined ones, so that a piece that is blank
// takes its separator along.
func (l *recogniser) joins() {
	for _, n := range l.doc.Root.Elements("td", "th", "p", "div", "span", "li") {
		pieces, separators := rowOfPieces(n)
		if len(pieces) < 2 || !slices.ContainsFunc(pieces, func(p *markup.Node) bool { return len(l.fieldsIn(p)) > 0 }) {
			continue
		}
		text := strings.Join(strings.FieldsFunc(separators[0].Data, isSpace), " ")
		separator := " " + strings.ReplaceAll(text, "\u00a0", "&nbsp;") + " "
		if strings.HasPrefix(text, ",") || strings.HasPrefix(text, ";") {
			separator = text + " "
		}
		l.attribute(n, field.AttrJoin, separator)
		for _, s := range separators {
			l.edits = append(l.edits, edit.Edit{Start: s.Open.Start, End: s.Open.End})
		}
		for _, p := range pieces {
			if fields := l.fieldsIn(p); len(fields) > 0 {
				l.needs(p, fields)
			}
		}
	}
}

func isSpace(r rune) bool { return r == ' ' || r == '\t' || r == '\n' || r == '\r' }

// rowOfPieces gives an element's child elements and the texts between them, when these are all one and the
// same separator.
func rowOfPieces(n *markup.Node) (pieces, separators []*markup.Node) {
	for _, c := range n.Children {
		switch {
		case c.Kind == markup.Element && !markup.Block(c.Name) && !c.Is("br", "img"):
			pieces = append(pieces, c)
		case c.Kind == markup.Text && (c == n.Children[0] || c == n.Children[len(n.Children)-1]) && strings.TrimSpace(c.Data) == "":
		case c.Kind == markup.Text && separates(c.Data) &&
			(len(separators) == 0 || strings.TrimSpace(separators[0].Data) == strings.TrimSpace(c.Data)):
			separators = append(separators, c)
		default:
			return nil, nil
		}
	}
	if len(separators) != len(pieces)-1 {
		return nil, nil
	}
	return pieces, separators
}

// separates reports whether a text is a separator: a sign or two, and white space.
func separates(text string) bool {
	signs := strings.Trim(text, " \t\r\n\u00a0")
	return signs != "" && len([]rune(signs)) <= 2 && strings.Trim(signs, ",;|/·•–—-~+*") == ""
}

// fieldsIn lists the fields found in an element.
func (l *recogniser) fieldsIn(n *markup.Node) []string {
	var fields []string
	for _, p := range l.pieces {
		for up := p.node; up != nil; up = up.Parent {
			if up == n && !slices.Contains(fields, p.field) {
				fields = append(fields, p.field)
			}
		}
	}
	return fields
}

// needs makes an element stay only with one of the fields, if they can be blank.
func (l *recogniser) needs(n *markup.Node, fields []string) {
	if slices.ContainsFunc(fields, func(f string) bool { return !l.blankForSomebody(f) }) {
		return
	}
	l.attribute(n, field.AttrNeeds, strings.Join(fields, " or "))
}

// line is the row or block that holds one line of the signature, or nil: it holds no other block with text.
func line(n *markup.Node) *markup.Node {
	for p := n; p != nil; p = p.Parent {
		if !p.Is("tr", "p", "div", "li", "h1", "h2", "h3", "h4", "td") {
			continue
		}
		if p.Is("td") {
			if row := p.Parent; row.Is("tr") && holdsOneLine(row) {
				return row
			}
			return nil
		}
		if holdsOneLine(p) {
			return p
		}
		return nil
	}
	return nil
}

// holdsOneLine reports whether nothing in an element begins another line: no second block with content, no
// break and no picture.
func holdsOneLine(n *markup.Node) bool {
	blocks := 0
	for _, c := range n.Elements() {
		switch {
		case c == n:
		case c.Is("br", "img", "table"):
			return false
		case markup.Block(c.Name) && !c.Is("td", "th") && strings.TrimSpace(c.TextContent()) != "":
			blocks++
		}
	}
	return blocks <= 1
}

func (l *recogniser) blankForSomebody(name string) bool {
	column, _, _ := l.in.People.Schema.Column(name)
	count, _ := l.in.People.Blank(column, 0)
	return count > 0
}

// apply writes the source with the edits. Braces within a value that was found go with it.
func (l *recogniser) apply() (string, error) {
	sort.SliceStable(l.edits, func(i, j int) bool { return l.edits[i].Start < l.edits[j].Start })
	var edits []edit.Edit
	at := 0
	for _, e := range l.edits {
		if e.Start < at {
			continue
		}
		edits = append(edits, e)
		at = e.End
	}
	return edit.Apply(l.doc.Source, edits)
}

// settings writes template.yaml: the person as sample, their language and country for everybody without, and
// the directory's own fields that were found.
func (l *recogniser) settings() (string, error) {
	get := func(name string) string { return person.Clean(l.in.People.Get(l.in.Person, name)) }
	s := struct {
		Title    string   `yaml:"title"`
		Language string   `yaml:"language,omitempty"`
		Country  string   `yaml:"country,omitempty"`
		Fields   []string `yaml:"fields,omitempty,flow"`
		Sample   string   `yaml:"sample"`
		Pictures any      `yaml:"pictures,omitempty"`
	}{Title: "From the signature of " + get("mail"), Language: get("preferredLanguage"), Sample: get("mail")}
	var given map[string]any
	if err := yaml.Unmarshal([]byte(l.in.Parts.Settings), &given); err != nil {
		return "", err
	}
	s.Pictures = given["pictures"]
	if c := get("c"); len(c) == 2 {
		s.Country = c
	}
	for _, name := range l.in.People.Schema.Names() {
		if _, standard := person.Canonical(name); !standard && l.used[name] {
			s.Fields = append(s.Fields, name)
		}
	}
	text, err := yaml.Marshal(s)
	return string(text), err
}

// compare fills the template for the person and lists where text and links are not the original's.
func compare(in Input, parts template.Parts) ([]Difference, error) {
	made, err := template.New("made", parts)
	if err != nil {
		return nil, err
	}
	s, err := compose.Compile(compose.Source{Template: made, Schema: in.People.Schema, Day: in.Day,
		Variants: made.Variants()[:1]}, compose.Fragment)
	if err != nil {
		return nil, err
	}
	filled, err := markup.ParseOutput(string(s.Fill(made.Variants()[0], compose.Fragment, in.Person)))
	if err != nil {
		return nil, err
	}
	original, err := style.Parse(in.Parts.Source)
	if err != nil {
		return nil, err
	}
	differences := []Difference{}
	for _, what := range []string{"text", "link"} {
		for _, d := range differ(shownIn(original, what), shownIn(filled, what)) {
			d.What = what
			differences = append(differences, d)
		}
	}
	return differences, nil
}

// shownIn lists the words of a document, or its links.
func shownIn(doc *markup.Document, what string) []string {
	var list []string
	doc.Root.Walk(func(n *markup.Node) bool {
		switch {
		case what == "text" && n.Kind == markup.Text && !n.Parent.Is("title"):
			list = append(list, strings.Fields(n.Data)...)
		case what == "link" && n.Kind == markup.Element:
			if href, ok := n.Attr("href"); ok {
				list = append(list, href)
			}
		}
		return !n.Is("style", "script", "head") && n.Kind != markup.Conditional
	})
	return list
}

// mostCells is how large two lists may be, one times the other, to be compared entry by entry.
const mostCells = 1 << 20

// excerpt is the beginning of a list.
func excerpt(words []string) string {
	text := strings.Join(words[:min(len(words), 40)], " ")
	if len(words) > 40 {
		text += " ..."
	}
	return text
}

// differ lists where two lists differ: runs of entries that are in one of them only, by their longest common
// part.
func differ(a, b []string) []Difference {
	for len(a) > 0 && len(b) > 0 && a[0] == b[0] {
		a, b = a[1:], b[1:]
	}
	for len(a) > 0 && len(b) > 0 && a[len(a)-1] == b[len(b)-1] {
		a, b = a[:len(a)-1], b[:len(b)-1]
	}
	if len(a)*len(b) > mostCells {
		return []Difference{{Original: excerpt(a), Filled: excerpt(b)}}
	}
	length := make([][]int, len(a)+1)
	for i := range length {
		length[i] = make([]int, len(b)+1)
	}
	for i := len(a) - 1; i >= 0; i-- {
		for j := len(b) - 1; j >= 0; j-- {
			if a[i] == b[j] {
				length[i][j] = length[i+1][j+1] + 1
			} else {
				length[i][j] = max(length[i+1][j], length[i][j+1])
			}
		}
	}
	var list []Difference
	var left, right []string
	flush := func() {
		if len(left)+len(right) > 0 {
			list = append(list, Difference{Original: strings.Join(left, " "), Filled: strings.Join(right, " ")})
		}
		left, right = nil, nil
	}
	i, j := 0, 0
	for i < len(a) || j < len(b) {
		switch {
		case i < len(a) && j < len(b) && a[i] == b[j]:
			flush()
			i, j = i+1, j+1
		case j == len(b) || i < len(a) && length[i+1][j] >= length[i][j+1]:
			left = append(left, a[i])
			i++
		default:
			right = append(right, b[j])
			j++
		}
	}
	flush()
	return list
}
