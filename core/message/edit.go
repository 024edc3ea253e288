package message

import (
	"bytes"
	"cmp"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"missivum/core/problem"
)

// edit replaces bytes of a message, or of a text.
type edit struct {
	start, end int
	with       string
}

// apply makes edits; they must not overlap. Those at one offset are made in their order.
func apply[T []byte | string](source T, edits []edit) []byte {
	slices.SortStableFunc(edits, func(a, b edit) int { return cmp.Compare(a.start, b.start) })
	size := len(source)
	for _, e := range edits {
		size += len(e.with)
	}
	out := make([]byte, 0, size)
	at := 0
	for _, e := range edits {
		out = append(out, source[at:e.start]...)
		out = append(out, e.with...)
		at = e.end
	}
	return append(out, source[at:]...)
}

// Limits of lines in mail.
const (
	maxLine  = 990 // bytes; RFC 5322, 2.1.1 allows 998
	softLine = 400 // where the lines of markup that is put in are broken
)

// edits turns edits of the text into edits of the message. Where the character set and the transfer encoding hold what is put in,
// only that place changes; else the part is written anew in UTF-8. An error is of the kind Refused.
func (c *Content) edits(list []edit) ([]edit, error) {
	if p := c.Part; p.Body == p.End && p.Body > 0 && p.Header.raw[p.Body-1] != '\n' {
		return nil, problem.New(problem.Refused, "The part %s ends within its header.", p.Number)
	}
	if out, ok := c.splice(list); ok {
		return c.Part.opened(out), nil
	}
	if c.lossy || c.guessed {
		return nil, problem.New(problem.Refused,
			"The text's character set %q holds letters that cannot be read, so that it cannot be written anew.",
			c.Charset)
	}
	return c.anew(list), nil
}

// opened puts the blank line before what comes into a part that ends with its header: where a text is empty, that line can be the one
// that belongs to the boundary (RFC 2046, 5.1.1).
func (p *Part) opened(list []edit) []edit {
	before := p.Header.raw[:p.Body]
	if p.Body < p.End || bytes.HasSuffix(before, []byte("\n\n")) || bytes.HasSuffix(before, []byte("\r\n\r\n")) {
		return list
	}
	return append([]edit{{p.Body, p.Body, p.message.Newline}}, list...)
}

// splice makes the edits in place; false where that is not possible.
func (c *Content) splice(list []edit) ([]edit, bool) {
	page := c.Part.Media == "text/html"
	var out []edit
	if c.raw == nil && c.Part.Encoding == "base64" {
		return nil, false
	}
	for _, e := range list {
		start, end := c.dataOffset(e.start), c.dataOffset(e.end)
		if start < 0 || end < 0 {
			return nil, false
		}
		with := strings.ReplaceAll(e.with, "\r\n", "\n")
		if page && (c.Charset != "utf-8" || c.Part.Encoding == "7bit") {
			with = references(with)
		}
		data, ok := c.encode(with)
		if !ok || c.set != nil && !asciiBased(c.set) {
			return nil, false
		}
		if c.raw != nil {
			out = append(out, c.quoted(start, end, data))
			continue
		}
		if c.Part.Encoding == "7bit" && !isASCII(with) || longest(data) > maxLine {
			return nil, false
		}
		body := c.Part.Body
		before := len(c.data[bytes.LastIndexByte(c.data[:start], '\n')+1 : start])
		after := bytes.IndexByte(append(c.data[end:len(c.data):len(c.data)], '\n'), '\n')
		if first := bytes.IndexByte(append(data[:len(data):len(data)], '\n'), '\n'); before+first > maxLine && before > 0 && first > 0 ||
			after > 0 && after+len(data)-bytes.LastIndexByte(data, '\n') > maxLine {
			return nil, false
		}
		out = append(out, edit{body + start, body + end, strings.ReplaceAll(string(data), "\n", c.newline)})
	}
	return out, true
}

// quoted is an edit in quoted-printable text.
func (c *Content) quoted(start, end int, data []byte) edit {
	body := c.Part.Body
	source := c.Part.raw()
	from, to := c.behind(source, start), c.behind(source, end) // white space and soft line breaks stay behind it
	newline := "\r\n"
	if i := bytes.IndexByte(source, '\n'); i >= 0 && (i == 0 || source[i-1] != '\r') || i < 0 && c.newline == "\n" {
		newline = "\n"
	}
	text := appendQuotedPrintable(nil, data, newline)
	with := string(text)
	if from > 0 && source[from-1] != '\n' && len(text) > 0 {
		with = "=" + newline + with
	}
	if to < len(source) && len(text) > 0 && text[len(text)-1] != '\n' && source[to] != '\n' && source[to] != '\r' {
		with += "=" + newline
	}
	return edit{body + from, body + to, with}
}

// behind is where the encoded byte before an offset of data ends.
func (c *Content) behind(source []byte, at int) int {
	if at == 0 {
		return 0
	}
	i := int(c.raw[at-1])
	if source[i] == '=' && i+2 < len(source) && unhex(source[i+1]) >= 0 && unhex(source[i+2]) >= 0 {
		return i + 3
	}
	return i + 1
}

// raw is the part's body as it stands in the message.
func (p *Part) raw() []byte { return p.Header.raw[p.Body:p.End] }

// longest is the length of the longest line in bytes.
func longest(data []byte) int {
	most := 0
	for line := range bytes.SplitSeq(data, []byte("\n")) {
		most = max(most, len(line))
	}
	return most
}

// anew writes the whole part in UTF-8, in the transfer encoding that is shorter.
func (c *Content) anew(list []edit) []edit {
	text := apply(c.Text, list)
	text = bytes.ReplaceAll(bytes.ReplaceAll(text, []byte("\r\n"), []byte("\n")), []byte("\n"), []byte("\r\n"))
	beyond := 0
	for _, b := range text {
		if b >= 0x80 {
			beyond++
		}
	}
	encoding, body := "quoted-printable", []byte(nil)
	if c.Part.Encoding == "base64" || beyond > len(text)/6 {
		encoding, body = "base64", appendBase64(nil, text, c.Part.message.Newline)
	} else {
		body = appendQuotedPrintable(nil, text, c.Part.message.Newline)
	}
	return append(c.Part.describeAs("utf-8", encoding), c.Part.opened([]edit{{c.Part.Body, c.Part.End, string(body)}})...)
}

// references writes letters beyond ASCII as character references.
func references(s string) string {
	if isASCII(s) {
		return s
	}
	var b strings.Builder
	for _, r := range s {
		if r < 0x80 {
			b.WriteRune(r)
		} else {
			b.WriteString("&#")
			b.WriteString(strconv.Itoa(int(r)))
			b.WriteByte(';')
		}
	}
	return b.String()
}

var charsetParam = regexp.MustCompile(`(?i)(;\s*charset\*?\s*=\s*)("[^"]*"|[^;\s]+)`)

// describeAs are the edits of a part's header that give it another character set and transfer encoding.
func (p *Part) describeAs(charset, encoding string) []edit {
	var out []edit
	newline := p.message.Newline
	missing := ""
	if f := p.Header.field("Content-Type"); f != nil && p.Header.Value("Content-Type") == "" {
		out = append(out, edit{f.Start, f.End, "Content-Type: " + p.Media + "; charset=" + charset + newline})
	} else if f == nil {
		missing += "Content-Type: " + p.Media + "; charset=" + charset + newline
	} else if raw := string(p.Header.raw[f.Start:f.End]); charsetParam.MatchString(raw) {
		at := charsetParam.FindStringSubmatchIndex(raw)
		out = append(out, edit{f.Start + at[4], f.Start + at[5], charset})
	} else {
		end := len(strings.TrimRight(raw, "\r\n"))
		semicolon := "; "
		if strings.HasSuffix(strings.TrimRight(raw, " \t\r\n"), ";") {
			semicolon = " "
		}
		out = append(out, edit{f.Start + end, f.Start + end, semicolon + "charset=" + charset})
	}
	if f := p.Header.field("Content-Transfer-Encoding"); f == nil {
		missing += "Content-Transfer-Encoding: " + encoding + newline
	} else if p.Encoding != encoding {
		out = append(out, edit{f.Start, f.End, "Content-Transfer-Encoding: " + encoding + newline})
	}
	if p.Parent == nil && !p.Header.Has("MIME-Version") {
		missing += "MIME-Version: 1.0" + newline
	}
	return append(out, p.addFields(missing)...)
}

// addFields is the edit that adds lines at the end of a header.
func (p *Part) addFields(lines string) []edit {
	if lines == "" {
		return nil
	}
	if n := len(p.Header.Fields); n > 0 {
		at := p.Header.Fields[n-1].End
		if p.Header.raw[at-1] != '\n' { // a header without anything behind it
			lines = p.message.Newline + lines
		}
		return []edit{{at, at, lines}}
	}
	at := p.Start // a part without header begins with its blank line
	if p.Body == p.Start {
		lines += p.message.Newline
	}
	return []edit{{at, at, lines}}
}

// field is the first field of a name; nil for none.
func (h *Header) field(name string) *Field {
	for i := range h.Fields {
		if strings.EqualFold(h.Fields[i].Name, name) {
			return &h.Fields[i]
		}
	}
	return nil
}

// breakLines breaks long lines of markup where white space stands between attributes, so that nothing that is seen changes.
func breakLines(markup string) string {
	var b strings.Builder
	line, in, quote := 0, false, byte(0)
	for i := 0; i < len(markup); i++ {
		c := markup[i]
		switch {
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case in && (c == '"' || c == '\''):
			quote = c
		case in && c == '>':
			in = false
		case !in && c == '<' && i+1 < len(markup) && markup[i+1] != '!':
			in = true
		}
		if c == ' ' && in && quote == 0 && line > softLine {
			b.WriteByte('\n')
			line = 0
			continue
		}
		if line++; c == '\n' {
			line = 0
		}
		b.WriteByte(c)
	}
	return b.String()
}
