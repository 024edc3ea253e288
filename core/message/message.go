// Package message reads mail so that it can be changed in one place while every other byte stays: which parts a message
// has, what kind of message it is, where its newest text ends, whether it carries a signature already, and how a
// signature is placed into it (stamped). Nothing here sends, stores or fetches anything. Start with Read, then Kind, Find
// and Stamp.
package message

import (
	"bytes"
	"fmt"
	"io"
	"mime"
	"regexp"
	"strconv"
	"strings"

	"golang.org/x/net/html/charset"
)

// Limits. What is beyond them is read as far as it goes and reported as a grave fault, so that it is left alone.
const (
	MaxSize   = 150 << 20 // bytes of a message
	maxHeader = 1 << 20   // bytes of one header
	maxParts  = 2_000
	maxDepth  = 30 // multiparts in multiparts
)

// Message is a message as it was read. Raw is never changed.
type Message struct {
	Raw     []byte
	Root    *Part
	Newline string // how its lines end: CRLF (RFC 5322, 2.3), or LF as files on some systems
	Faults  []Fault
	parts   int
}

// Fault is a way in which a message breaks the standards. A grave one makes it unsafe to change anything.
type Fault struct {
	Part  string `json:"part"` // its number such as 1.2; blank for the message
	Grave bool   `json:"grave"`
	Says  string `json:"says"`
}

// Part is a part of a message (RFC 2045, 2.4), the whole message among them. Offsets count bytes of Raw.
type Part struct {
	Number      string // as IMAP numbers them (RFC 3501, 6.4.5); blank for the whole
	Header      Header
	Start       int // of the header
	Body        int // behind the blank line
	End         int // before the line end that belongs to a boundary
	Media       string
	Params      map[string]string
	Encoding    string // transfer encoding in small letters; 7bit where none is named
	Disposition string // attachment, inline or blank
	Parent      *Part
	Parts       []*Part
	message     *Message
	closing     int // of a multipart: where the line end before the last boundary begins; -1 where it is missing
}

// Header is the fields of a header in their order.
type Header struct {
	raw    []byte
	Fields []Field
}

// Field is a field of a header. Offsets count bytes of the message.
type Field struct {
	Name       string
	Start, End int // with the line ends of all of its lines
	value      int
}

// Read reads a message. It never fails: what cannot be read is a fault.
func Read(raw []byte) *Message {
	m := &Message{Raw: raw, Newline: "\r\n"}
	if i := bytes.IndexByte(raw, '\n'); i >= 0 && (i == 0 || raw[i-1] != '\r') {
		m.Newline = "\n"
		m.fault(nil, false, "lines end in LF and not in CRLF")
	}
	if len(raw) > MaxSize {
		m.fault(nil, true, "the message is larger than %d MB", MaxSize>>20)
	}
	m.Root = m.part(nil, "", 0, len(raw), 0)
	return m
}

// fault notes a fault once.
func (m *Message) fault(p *Part, grave bool, format string, args ...any) {
	f := Fault{Grave: grave, Says: fmt.Sprintf(format, args...)}
	if p != nil {
		f.Part = p.Number
	}
	if len(m.Faults) < 50 {
		m.Faults = append(m.Faults, f)
	}
}

// part reads the part in raw[start:end].
func (m *Message) part(parent *Part, number string, start, end, depth int) *Part {
	p := &Part{Parent: parent, Number: number, Start: start, End: end, message: m, closing: -1}
	m.parts++
	m.header(p)
	m.describe(p)
	if !strings.HasPrefix(p.Media, "multipart/") {
		return p
	}
	switch boundary := p.Params["boundary"]; {
	case boundary == "":
		m.fault(p, true, "%s names no boundary", p.Media)
	case len(boundary) > 250:
		m.fault(p, true, "the boundary has %d characters; the standard allows 70", len(boundary))
	case depth >= maxDepth:
		m.fault(p, true, "multiparts stand more than %d deep", maxDepth)
	default:
		m.split(p, boundary, depth)
	}
	return p
}

// header reads the header of a part; a message has one.
func (m *Message) header(p *Part) {
	m.fields(p)
	if p.Parent == nil && len(p.Header.Fields) == 0 {
		m.fault(p, true, "there is no header")
	}
}

// fields reads the header lines (RFC 5322, 2.2).
func (m *Message) fields(p *Part) {
	p.Header.raw = m.Raw
	at := p.Start
	if p.Parent == nil && bytes.HasPrefix(m.Raw, []byte("From ")) { // of a mailbox file
		at = m.next(at, p.End)
	}
	for at < p.End {
		end := m.next(at, p.End)
		line := trimEnd(m.Raw[at:end])
		if len(line) == 0 {
			p.Body = end
			return
		}
		if end-p.Start > maxHeader {
			m.fault(p, true, "the header is larger than %d kB", maxHeader>>10)
			break
		}
		fields := p.Header.Fields
		if (line[0] == ' ' || line[0] == '\t') && len(fields) > 0 {
			fields[len(fields)-1].End = end
			at = end
			continue
		}
		colon := bytes.IndexByte(line, ':')
		name := ""
		if colon > 0 {
			name = strings.TrimRight(string(line[:colon]), " \t")
		}
		if !fieldName(name) {
			m.fault(p, true, "header line %d is no field", 1+bytes.Count(m.Raw[p.Start:at], []byte("\n")))
			p.Body = at
			return
		}
		p.Header.Fields = append(fields, Field{Name: name, Start: at, End: end, value: at + colon + 1})
		at = end
	}
	p.Body = at
}

// fieldName reports whether a name consists of the characters of field names (RFC 5322, 3.6.8).
func fieldName(name string) bool {
	for i := range len(name) {
		if name[i] <= ' ' || name[i] > '~' {
			return false
		}
	}
	return name != ""
}

// next is where the line after the one at an offset begins.
func (m *Message) next(at, end int) int {
	if i := bytes.IndexByte(m.Raw[at:end], '\n'); i >= 0 {
		return at + i + 1
	}
	return end
}

// trimEnd cuts a line's end off.
func trimEnd(line []byte) []byte {
	if line, ended := bytes.CutSuffix(line, []byte("\n")); ended {
		return bytes.TrimSuffix(line, []byte("\r"))
	}
	return line
}

// one are the fields that decide how a part is read; two of them would be read differently by different programs.
var one = []string{"Content-Type", "Content-Transfer-Encoding"}

// describe reads what the header says of the body (RFC 2045; RFC 2183).
func (m *Message) describe(p *Part) {
	for _, name := range one {
		if values := p.Header.Values(name); len(values) > 1 {
			m.fault(p, true, "%s stands there %d times", name, len(values))
		}
	}
	p.Media, p.Params, p.Encoding = "text/plain", map[string]string{}, "7bit"
	if p.Parent != nil && p.Parent.Media == "multipart/digest" {
		p.Media = "message/rfc822"
	}
	if value := p.Header.Value("Content-Type"); value != "" {
		media, params, ok := ParseType(value)
		if media == "" {
			media = "application/octet-stream" // RFC 2045, 5.2: what cannot be read is no text
		}
		if !ok {
			m.fault(p, media == "application/octet-stream" || strings.HasPrefix(media, "multipart/"), "Content-Type cannot be read: %q",
				shortened(value))
		}
		p.Media, p.Params = media, params
	}
	if e := strings.ToLower(strings.TrimSpace(p.Header.Value("Content-Transfer-Encoding"))); e != "" {
		p.Encoding, _, _ = strings.Cut(e, ";")
		p.Encoding = strings.TrimSpace(p.Encoding)
	}
	if value := p.Header.Value("Content-Disposition"); value != "" {
		d, _, _ := strings.Cut(value, ";")
		p.Disposition = strings.ToLower(strings.TrimSpace(d))
	}
}

// shortened is the beginning of a value for a sentence.
func shortened(s string) string {
	if len(s) > 60 {
		return s[:60] + "…"
	}
	return s
}

// loose reads a media type and parameters out of a field that breaks the grammar in ways that are often met.
var (
	looseType  = regexp.MustCompile(`^\s*([\w.+-]+/[\w.+-]+)\s*(?:;|$|\s)`)
	looseParam = regexp.MustCompile(`(?i)(?:^|[;\s])(boundary|charset|format|delsp|protocol|smime-type|report-type|method|type|` +
		`start|name|x-action)\s*=\s*("(?:[^"\\]|\\.)*"|[^;\s]+)`)
)

// ParseType reads a Content-Type (RFC 2045, 5.1; parameters by RFC 2231). ok is false where it breaks the grammar; what could
// be read is given nevertheless. The media type is in small letters.
func ParseType(value string) (media string, params map[string]string, ok bool) {
	media, params, err := mime.ParseMediaType(value)
	if err == nil && strings.Contains(media, "/") {
		return media, params, true
	}
	params = map[string]string{}
	found := looseType.FindStringSubmatch(value)
	if found == nil {
		return "", params, false
	}
	for _, p := range looseParam.FindAllStringSubmatch(value, -1) {
		name, v := strings.ToLower(p[1]), p[2]
		if strings.HasPrefix(v, `"`) {
			v = strings.NewReplacer(`\"`, `"`, `\\`, `\`).Replace(strings.Trim(v, `"`))
		}
		if _, twice := params[name]; !twice {
			params[name] = v
		}
	}
	return strings.ToLower(found[1]), params, false
}

// split reads the parts of a multipart (RFC 2046, 5.1.1).
func (m *Message) split(p *Part, boundary string, depth int) {
	delimiter := []byte("--" + boundary)
	begin := -1 // of the part that is open
	for at := p.Body; at < p.End; {
		i := bytes.Index(m.Raw[at:p.End], delimiter)
		if i < 0 {
			break
		}
		line := at + i
		end := m.next(line, p.End)
		if line > p.Body && m.Raw[line-1] != '\n' {
			at = line + 1
			continue
		}
		rest := bytes.TrimRight(m.Raw[line+len(delimiter):end], " \t\r\n")
		last := string(rest) == "--"
		if len(rest) > 0 && !last {
			at = line + 1
			continue
		}
		if begin >= 0 && !m.child(p, begin, m.lineEnd(line, begin), depth) {
			return
		}
		if last {
			p.closing = m.lineEnd(line, p.Body)
			if begin < 0 {
				m.fault(p, true, "%s has no parts", p.Media)
			}
			return
		}
		begin, at = end, end
	}
	if begin < 0 {
		m.fault(p, true, "the boundary of %s is not found", p.Media)
		return
	}
	m.child(p, begin, p.End, depth)
	m.fault(p, false, "the last boundary of %s is missing", p.Media)
}

// lineEnd is where the line end before an offset begins; it is not before from.
func (m *Message) lineEnd(at, from int) int {
	if at > from && m.Raw[at-1] == '\n' {
		at--
	}
	if at > from && m.Raw[at-1] == '\r' {
		at--
	}
	return at
}

// child adds a part to a multipart, unless there are too many.
func (m *Message) child(p *Part, start, end, depth int) bool {
	if m.parts >= maxParts {
		m.fault(p, true, "there are more than %d parts", maxParts)
		return false
	}
	number := strconv.Itoa(len(p.Parts) + 1)
	if p.Number != "" {
		number = p.Number + "." + number
	}
	p.Parts = append(p.Parts, m.part(p, number, start, max(start, end), depth+1))
	return true
}

// Leaves are the parts of a message that hold no others, in their order.
func (m *Message) Leaves() []*Part { return m.Root.leaves(nil) }

func (p *Part) leaves(list []*Part) []*Part {
	if len(p.Parts) == 0 {
		return append(list, p)
	}
	for _, c := range p.Parts {
		list = c.leaves(list)
	}
	return list
}

// find is the part of a number; nil for none.
func (p *Part) find(number string) *Part {
	if p.Number == number {
		return p
	}
	for _, c := range p.Parts {
		if found := c.find(number); found != nil {
			return found
		}
	}
	return nil
}

// Grave is the first fault that makes it unsafe to change the message; nil for none.
func (m *Message) Grave() *Fault {
	for i := range m.Faults {
		if m.Faults[i].Grave {
			return &m.Faults[i]
		}
	}
	return nil
}

// Value is the value of the first field of a name, unfolded, without white space around it; blank where there is none.
func (h *Header) Value(name string) string {
	for _, f := range h.Fields {
		if strings.EqualFold(f.Name, name) {
			return h.value(f)
		}
	}
	return ""
}

// Has reports whether there is a field of a name.
func (h *Header) Has(name string) bool {
	for _, f := range h.Fields {
		if strings.EqualFold(f.Name, name) {
			return true
		}
	}
	return false
}

// Values are the values of all fields of a name.
func (h *Header) Values(name string) []string {
	var list []string
	for _, f := range h.Fields {
		if strings.EqualFold(f.Name, name) {
			list = append(list, h.value(f))
		}
	}
	return list
}

// value unfolds a field's value (RFC 5322, 2.2.3).
func (h *Header) value(f Field) string {
	v := h.raw[f.value:f.End]
	if bytes.IndexByte(trimEnd(v), '\n') < 0 {
		return string(bytes.TrimSpace(v))
	}
	lines := strings.Split(strings.ReplaceAll(string(v), "\r\n", "\n"), "\n")
	for i := range lines {
		lines[i] = strings.TrimSpace(lines[i])
	}
	return strings.TrimSpace(strings.Join(lines, " "))
}

// words decodes encoded words in any character set that is known (RFC 2047).
var words = mime.WordDecoder{CharsetReader: func(set string, input io.Reader) (io.Reader, error) {
	return charset.NewReaderLabel(set, input)
}}

// Text is the value of the first field of a name with its encoded words decoded (RFC 2047, RFC 6532). What cannot be decoded
// stays as it is.
func (h *Header) Text(name string) string {
	value := h.Value(name)
	if text, err := words.DecodeHeader(value); err == nil {
		return text
	}
	return value
}

// Raw is a field's value as it stands, with the white space behind its colon and its folds as LF, without its last line end.
func (h *Header) Raw(f Field) string {
	return strings.ReplaceAll(strings.TrimRight(string(h.raw[f.value:f.End]), "\r\n"), "\r\n", "\n")
}
