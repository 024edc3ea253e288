package message

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"html"
	"strings"

	"missivum/core/problem"
)

// StampField is the header field that a stamped message carries. Who stamped it, with what and when stands in it; a message that
// has it is not stamped again.
const StampField = "Missivum-Stamp"

// Where is where a signature is put.
type Where string

// The places.
const (
	UnderNewest Where = "newest" // under the newest text
	AtEnd       Where = "end"    // under everything
	AtTop       Where = "top"    // above everything
	AtSide      Where = "side"   // beside the newest text; in text under it
	Nowhere     Where = "none"   // as a fallback: not at all
)

// Already is what is done where a signature of the sender stands in the message.
type Already string

// What may be done.
const (
	Leave   Already = "leave"   // the message stays as it is
	Replace Already = "replace" // one in the newest text is replaced
	Short   Already = "short"   // the short form is put in, if one stands in the conversation; one in the newest text stays
	Add     Already = "add"     // it is not looked for; for banners and disclaimers
)

// Picture is a picture that is carried in the message (RFC 2392).
type Picture struct {
	ID    string // Content-ID without brackets
	Media string
	File  string
	Data  []byte
}

// Signature is a signature in the forms that parts of a message need.
type Signature struct {
	Name     string // for the trace, such as "harbour, reply"
	HTML     string // a fragment
	Text     string // without a separator line
	Pictures []Picture
}

// Piece is one thing that is put into a message.
type Piece struct {
	Signature Signature
	Short     *Signature // for Short; nil for none
	Owner     Owner
	Known     []*Fingerprint
	Where     Where
	Fallback  Where // where the place of the newest text is unsure
	Already   Already
	Raise     *Look // plain text is raised to HTML; nil to answer text in text
	Separator bool  // text at the very end stands below the line of two hyphens and a space (RFC 3676, 4.3)
}

// Change is one thing that was done to a message, or why nothing was.
type Change struct {
	Part   string `json:"part"` // number of the part; blank for the message
	Says   string `json:"says"`
	Where  Where  `json:"where"`
	Line   int    `json:"line"` // of the part's decoded text, from 1; 0 for none
	Sure   bool   `json:"sure"`
	Shape  string `json:"shape"`
	Why    string `json:"why"`
	Before string `json:"-"` // the end of what stands before it
}

// Result is a message after its pieces were put in.
type Result struct {
	Raw     []byte
	Stamped bool // something was put in
	Changes []Change
	Unsure  bool // a place was unsure
}

// Stamp puts pieces into a message, one after another, and marks it with a header field. What is not changed stays byte for byte;
// the result is read again and compared before it is given. An error is of the kind Refused: the message is closed, broken, or
// does not allow the change; it is then to be sent as it is.
func (m *Message) Stamp(pieces []Piece, note string) (Result, error) {
	result := Result{Raw: m.Raw}
	if m.Root.Header.Has(StampField) {
		result.Changes = append(result.Changes, Change{Says: "It was stamped already.", Sure: true})
		return result, nil
	}
	if err := m.Open(); err != nil {
		return result, err
	}
	current := m
	if h := m.Raw[m.Root.Start:m.Root.Body]; m.Root.Body == len(m.Raw) && !endsInBlank(h) { // a header and nothing behind it
		end := m.Newline
		if !bytes.HasSuffix(h, []byte("\n")) {
			end += end
		}
		current = Read(append(m.Raw[:len(m.Raw):len(m.Raw)], end...))
	}
	for _, piece := range pieces {
		s := &stamper{m: current, piece: piece}
		if err := s.run(); err != nil {
			return Result{Raw: m.Raw}, err
		}
		result.Changes = append(result.Changes, s.changes...)
		result.Unsure = result.Unsure || s.unsure
		if len(s.edits) == 0 {
			continue
		}
		next := s.made()
		if err := s.verify(next); err != nil {
			return Result{Raw: m.Raw}, err
		}
		current, result.Stamped = next, true
	}
	if result.Stamped {
		result.Raw = apply(current.Raw, current.Root.addFields(StampField+": "+note+current.Newline))
	}
	return result, nil
}

// Open refuses messages that must not be changed: closed ones, and those whose faults make a change unsafe. The error is of the
// kind Refused.
func (m *Message) Open() error {
	if closed := m.closed(); closed != "" {
		return problem.New(problem.Refused, "The message is %s.", closed)
	}
	if f := m.Grave(); f != nil {
		return problem.New(problem.Refused, "The message is broken: %s.", f.Says)
	}
	return nil
}

// stamper puts one piece in.
type stamper struct {
	m         *Message
	piece     Piece
	edits     []edit
	changes   []Change
	unsure    bool
	expect    map[*Part]string // what the text of changed parts must be afterwards
	used      Signature
	structure *structure
}

func (s *stamper) run() error {
	s.expect = map[*Part]string{}
	b := s.m.Bodies()
	if b.HTML == nil && b.Plain == nil {
		s.note(nil, Change{Says: "It holds no text to stand under.", Sure: true})
		return nil
	}
	for _, p := range s.m.Leaves() {
		if p.Media == "application/ms-tnef" {
			return problem.New(problem.Refused,
				"The message holds its text in a host's own container, whose text would differ from what is stamped.")
		}
	}
	s.used = s.piece.Signature
	main := b.HTML
	if main == nil {
		main = b.Plain
	}
	content, place, err := s.read(main)
	if err != nil {
		return err
	}
	replace, leave := s.already(main, place)
	if leave {
		return nil
	}
	if err := s.put(main, content, place, replace); err != nil {
		return err
	}
	if b.HTML != nil && b.Plain != nil {
		content, place, err := s.read(b.Plain)
		if err != nil {
			return err
		}
		var replace *Earlier
		if s.piece.Already == Replace {
			replace = inNewest(place.Earlier(s.piece.Owner, s.piece.Known))
		}
		return s.put(b.Plain, content, place, replace)
	}
	return nil
}

func (s *stamper) note(p *Part, c Change) {
	if p != nil {
		c.Part = p.Number
	}
	s.changes = append(s.changes, c)
}

// read reads a text part and finds its newest text.
func (s *stamper) read(p *Part) (*Content, *Place, error) {
	content, err := s.m.Content(p)
	if err != nil {
		return nil, nil, err
	}
	place := content.Find(s.m.HintsOf())
	return content, &place, nil
}

// Find finds the newest text of a text part.
func (c *Content) Find(hints Hints) Place {
	if c.Part.Media == "text/html" {
		return FindInPage(c.Text, hints)
	}
	return FindInText(c.Text, hints)
}

// already decides by what stands there: what is replaced, and whether the message is left alone.
func (s *stamper) already(p *Part, place *Place) (replace *Earlier, leave bool) {
	if s.piece.Already == Add || s.piece.Already == "" {
		return nil, false
	}
	found := place.Earlier(s.piece.Owner, s.piece.Known)
	if len(found) == 0 {
		return nil, false
	}
	newest := inNewest(found)
	switch {
	case s.piece.Already == Leave:
		where := "in the conversation"
		if newest != nil {
			where = "in the newest text"
		}
		s.note(p, Change{Says: "The sender's signature stands " + where + " already; it stays.", Sure: true})
		return nil, true
	case s.piece.Already == Replace && newest != nil && newest.Whole:
		return newest, false
	case newest != nil:
		s.note(p, Change{Says: "The sender's signature stands in the newest text already; it stays.", Sure: true})
		return nil, true
	case s.piece.Already == Short && s.piece.Short != nil:
		s.used = *s.piece.Short
	}
	return nil, false
}

// inNewest is the first signature in the newest text; nil for none.
func inNewest(list []Earlier) *Earlier {
	for i := range list {
		if list[i].Newest {
			return &list[i]
		}
	}
	return nil
}

// put puts the signature into one text part.
func (s *stamper) put(p *Part, content *Content, place *Place, replace *Earlier) error {
	where := s.piece.Where
	if !place.Sure && replace == nil && where != AtEnd && where != AtTop {
		s.unsure = true
		if where = s.piece.Fallback; where == "" {
			where = AtEnd
		}
	}
	if where == Nowhere {
		s.note(p, Change{Says: "The place of the newest text is unsure; nothing was put in.", Where: where, Shape: place.Shape, Why: place.Why})
		return nil
	}
	page := p.Media == "text/html"
	var list []edit
	at := 0
	switch {
	case replace != nil:
		at = replace.Start
		list = []edit{{replace.Start, replace.End, s.body(page, content, Insertion{}, true, false)}}
	case where == AtSide && page:
		list = s.beside(place)
		if list == nil {
			where = UnderNewest
		} else {
			at = list[0].start
		}
	}
	if list == nil {
		in := insertion(place, where)
		at = in.At
		quoted := place.Quote < len(content.Text) && where != AtEnd
		list = []edit{{in.At, in.At, s.body(page, content, in, quoted, where == AtTop)}}
	}
	says := s.used.Name + " was put in"
	if replace != nil {
		says = s.used.Name + " replaced the signature that stood there"
	}
	s.note(p, Change{Says: says + ".", Where: where, Line: 1 + strings.Count(content.Text[:at], "\n"), Sure: place.Sure, Shape: place.Shape,
		Why: place.Why, Before: content.Text[max(0, at-80):at]})
	edits, err := content.edits(list)
	if err != nil {
		return err
	}
	s.expect[p] = string(apply(content.Text, list))
	switch {
	case !page && s.piece.Raise != nil && s.m.Bodies().HTML == nil:
		look := *s.piece.Raise
		s.note(p, Change{Says: "The plain text was raised to HTML in " + look.Font + ", " + look.Size + ".", Where: where, Sure: true})
		raised := s.raised(content, place, where)
		s.structure = &structure{p.Number, func(m *Message, p *Part) []edit { return s.raise(m, p, raised) }}
	case page && len(s.used.Pictures) > 0:
		s.structure = &structure{p.Number, s.carry}
	}
	s.edits = append(s.edits, edits...)
	return nil
}

// made is the message with the piece in it: first the texts, then what their parts must become.
func (s *stamper) made() *Message {
	m := Read(apply(s.m.Raw, s.edits))
	if s.structure == nil {
		return m
	}
	p := m.Root.find(s.structure.number)
	if p == nil {
		return m
	}
	return Read(apply(m.Raw, s.structure.make(m, p)))
}

// insertion is where a place lies.
func insertion(place *Place, where Where) Insertion {
	switch where {
	case AtEnd:
		return place.AtEnd()
	case AtTop:
		return place.AtTop()
	}
	return place.UnderNewest()
}

// markup is the signature as an element with its marks.
func (s *stamper) markup() string {
	class := MarkClass
	if s.piece.Owner.Mail != "" {
		class += " " + OwnerMark(s.piece.Owner.Mail)
	}
	return breakLines(`<div class="` + class + `">` + strings.TrimSpace(s.used.HTML) + `</div>`)
}

// body is what is put into a part: quoted says that a quotation follows, above that the text follows.
func (s *stamper) body(page bool, content *Content, in Insertion, quoted, above bool) string {
	if page {
		return in.Before + "\n" + in.Gap + s.markup() + "\n" + in.Below + in.Behind
	}
	text := strings.Trim(strings.ReplaceAll(s.used.Text, "\r\n", "\n"), "\n")
	if content.Flowed {
		text = stuffed(text)
	}
	var b strings.Builder
	before := content.Text[:in.At]
	if strings.TrimSpace(before) != "" && !above {
		if !strings.HasSuffix(before, "\n") {
			b.WriteString("\n")
		}
		if line := strings.TrimRight(before, "\r\n"); content.Flowed && strings.HasSuffix(line, " ") && !strings.HasSuffix(line, "\n-- ") {
			b.WriteString("\n") // ends the paragraph that flows on
		}
		b.WriteString("\n")
	}
	if s.piece.Separator && !quoted && !above {
		b.WriteString("-- \n")
	}
	b.WriteString(text)
	b.WriteString("\n")
	if behind := strings.TrimLeft(content.Text[in.At:], " \r"); (above || quoted) && !strings.HasPrefix(behind, "\n") {
		b.WriteString("\n")
	}
	return b.String()
}

// stuffed writes lines for format=flowed: fixed ones, with a space before what would be read otherwise (RFC 3676, 4.4).
func stuffed(text string) string {
	lines := strings.Split(text, "\n")
	for i, l := range lines {
		l = strings.TrimRight(l, " ")
		if strings.HasPrefix(l, " ") || strings.HasPrefix(l, ">") || strings.HasPrefix(l, "From ") {
			l = " " + l
		}
		lines[i] = l
	}
	return strings.Join(lines, "\n")
}

// beside puts the newest text and the signature into a table of two cells; nil where the newest text is no whole elements.
func (s *stamper) beside(place *Place) []edit {
	if place.first < 0 || place.last < 0 {
		return nil
	}
	p := place.page
	a, b := p.elementAt(place.lines[place.first].start), p.elementAt(place.lines[place.last].end-1)
	within := p.common(a, b)
	if place.next < len(place.lines) {
		within = p.common(within, p.elementAt(place.lines[place.next].start))
	} else {
		within = p.root(within)
	}
	for e := within; e >= 0; e = p.elements[e].parent {
		if strict[p.elements[e].tag] && e == within || p.elements[e].splits() {
			return nil
		}
	}
	start, end := place.lines[place.first].start, place.lines[place.last].end
	if c := p.childOf(a, within); c >= 0 {
		start = p.elements[c].start
	}
	if c := p.childOf(b, within); c >= 0 {
		if end = p.elements[c].end; p.elements[c].close == p.elements[c].end && p.elements[c].splits() {
			return nil
		}
	}
	const cell = `style="vertical-align:top;text-align:start;padding-bottom:12px"`
	return []edit{
		{start, start, "\n" + `<table role="presentation" cellpadding="0" cellspacing="0" border="0" width="100%"><tr><td ` + cell + ">"},
		{end, end, "</td>\n<td " + `style="vertical-align:top;padding-inline-start:16px;padding-bottom:12px">` + s.markup() +
			"</td></tr></table>\n"},
	}
}

// boundary is a boundary that stands nowhere in the message; the same message gets the same one.
func (s *stamper) boundary(name string) string {
	sum := sha256.Sum256(s.m.Raw)
	for i := 0; ; i++ {
		b := fmt.Sprintf("=_%s_%s_%d", name, hex.EncodeToString(sum[:6]), i)
		if !bytes.Contains(s.m.Raw, []byte(b)) {
			return b
		}
	}
}

// pictureParts are the pictures as parts, each behind a boundary.
func (s *stamper) pictureParts(boundary string, except map[string]bool) string {
	nl := s.m.Newline
	var b strings.Builder
	for _, p := range s.used.Pictures {
		if except[p.ID] {
			continue
		}
		name := strings.Map(func(r rune) rune {
			if r < ' ' || r > '~' || r == '"' || r == '\\' {
				return '_'
			}
			return r
		}, p.File)
		b.WriteString(nl + "--" + boundary + nl + "Content-Type: " + p.Media + nl + "Content-Transfer-Encoding: base64" + nl +
			"Content-ID: <" + p.ID + ">" + nl + `Content-Disposition: inline; filename="` + name + `"` + nl + nl)
		b.Write(appendBase64(nil, p.Data, nl))
	}
	return b.String()
}

// structure is what a part must become besides its new text.
type structure struct {
	number string // of the part
	make   func(m *Message, p *Part) []edit
}

// carry puts a page beside the pictures that it shows: into the multipart/related that it stands in, or into a new one (RFC 2387).
func (s *stamper) carry(m *Message, p *Part) []edit {
	if r := p.Parent; r != nil && r.Media == "multipart/related" && r.closing >= 0 {
		there := map[string]bool{}
		for _, c := range r.Parts {
			there[strings.Trim(c.Header.Value("Content-ID"), "<>")] = true
		}
		if parts := s.pictureParts(r.Params["boundary"], there); parts != "" {
			return []edit{{r.closing, r.closing, parts}}
		}
		return nil
	}
	boundary := s.boundary("related")
	return m.wrap(p, `multipart/related; type="text/html"`, boundary, s.pictureParts(boundary, nil))
}

// wrap puts a part into a new multipart, with more parts behind it. The fields of its header that describe it go with it; those
// of the message stay (RFC 2045, 9).
func (m *Message) wrap(p *Part, media, boundary, more string) []edit {
	nl := m.Newline
	head := "Content-Type: " + media + `; boundary="` + boundary + `"` + nl
	tail := more + nl + "--" + boundary + "--"
	if p.Parent != nil {
		return []edit{{p.Start, p.Start, head + nl + "--" + boundary + nl}, {p.End, p.End, tail}}
	}
	var edits []edit
	inner, added := "", head
	for _, f := range p.Header.Fields {
		if len(f.Name) < 8 || !strings.EqualFold(f.Name[:8], "content-") {
			continue
		}
		field := string(m.Raw[f.Start:f.End])
		if !strings.HasSuffix(field, "\n") {
			field += nl
		}
		inner += field
		edits = append(edits, edit{f.Start, f.End, added})
		added = ""
	}
	if !p.Header.Has("MIME-Version") {
		added = "MIME-Version: 1.0" + nl + added
	}
	edits = append(edits, p.addFields(added)...)
	body := "--" + boundary + nl + inner + nl
	if !endsInBlank(m.Raw[p.Start:p.Body]) {
		body = nl + body
	}
	return append(edits, edit{p.Body, p.Body, body}, edit{p.End, p.End, tail + nl})
}

// endsInBlank reports whether a header ends in its blank line.
func endsInBlank(header []byte) bool {
	return bytes.HasSuffix(header, []byte("\n\n")) || bytes.HasSuffix(header, []byte("\n\r\n")) || bytes.Equal(header, []byte("\r\n")) ||
		bytes.Equal(header, []byte("\n"))
}

// raised is a plain text as a page, with the signature in it.
func (s *stamper) raised(content *Content, place *Place, where Where) string {
	at := insertion(place, where).At
	look := *s.piece.Raise
	page := "<!DOCTYPE html>\n<html><head><meta charset=\"utf-8\"></head><body>\n"
	above, below := content.Text[:at], content.Text[at:]
	if strings.TrimSpace(above) != "" {
		page += content.raise(strings.TrimRight(above, "\r\n"), look) + "\n<br>\n"
	}
	page += s.markup() + "\n"
	if strings.TrimSpace(below) != "" {
		page += "<br>\n" + content.raise(strings.Trim(below, "\r\n"), look) + "\n"
	}
	return page + "</body></html>\n"
}

// raise puts a page beside a plain text that says the same (RFC 2046, 5.1.4).
func (s *stamper) raise(m *Message, p *Part, page string) []edit {
	nl := m.Newline
	part := "Content-Type: text/html; charset=utf-8" + nl + "Content-Transfer-Encoding: quoted-printable" + nl + nl +
		string(appendQuotedPrintable(nil, []byte(page), nl))
	boundary := s.boundary("alternative")
	if len(s.used.Pictures) > 0 {
		related := s.boundary("related")
		part = `Content-Type: multipart/related; type="text/html"; boundary="` + related + `"` + nl + nl + "--" + related + nl + part +
			s.pictureParts(related, nil) + nl + "--" + related + "--"
	}
	return m.wrap(p, "multipart/alternative", boundary, nl+"--"+boundary+nl+part)
}

// verify reads the result and compares: the texts are what they should be, and every part that was not touched is byte for byte
// what it was. An error means a mistake of this program, which a message must not pay for; its kind is Refused.
func (s *stamper) verify(next *Message) error {
	fail := func(what string) error {
		return problem.New(problem.Refused, "The stamped message was read again and %s, so it goes out unchanged.", what)
	}
	if f := next.Grave(); f != nil {
		return fail("is broken: " + f.Says)
	}
	after := next.Leaves()
	i := 0
	for _, p := range s.m.Leaves() {
		want, changed := s.expect[p]
		found := false
		for ; i < len(after) && !found; i++ {
			if !changed {
				found = bytes.Equal(after[i].raw(), p.raw()) && after[i].Media == p.Media
				continue
			}
			if after[i].Media != p.Media {
				continue
			}
			c, err := next.Content(after[i])
			found = err == nil && sameText(c.Text, want)
		}
		if !found {
			return fail("the part " + p.Number + " (" + p.Media + ") was not as it should be")
		}
	}
	return nil
}

// sameText compares texts; how lines end does not count, nor does how a page writes its letters.
func sameText(a, b string) bool {
	if a == b {
		return true
	}
	a, b = strings.ReplaceAll(a, "\r", ""), strings.ReplaceAll(b, "\r", "")
	return a == b || html.UnescapeString(a) == html.UnescapeString(b)
}
