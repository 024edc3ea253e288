package message

import (
	"bytes"
	"encoding/base64"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/htmlindex"
	"golang.org/x/text/encoding/ianaindex"

	"missivum/core/problem"
)

// maxText is how many bytes of a text part are read; a longer one is left alone.
const maxText = 20 << 20

// Content is the text of a text part, and how it stands in the message.
type Content struct {
	Part    *Part
	Text    string // in UTF-8; where it was UTF-8 already, byte for byte, invalid ones too
	Charset string // as it was read, in small letters
	Flowed  bool   // format=flowed (RFC 3676)
	DelSp   bool

	newline string
	data    []byte            // decoded from its transfer encoding
	raw     []int32           // of quoted-printable: for each byte of data, and its end, where it stands in the body
	set     encoding.Encoding // nil where data is UTF-8 or ASCII
	lossy   bool              // Text does not hold all of data, so that it cannot be written anew
	guessed bool              // the character set is not what the part declares
}

// Content reads a text part. An error is of the kind Refused: the transfer encoding or the size does not allow a change.
func (m *Message) Content(p *Part) (*Content, error) {
	if p.End-p.Body > maxText {
		return nil, problem.New(problem.Refused, "The text is larger than %d MB.", maxText>>20)
	}
	c := &Content{Part: p, newline: m.Newline}
	var err error
	if c.data, c.raw, err = m.decoded(p); err != nil {
		return nil, err
	}
	if p.Encoding == "base64" {
		if i := bytes.IndexByte(c.data, '\n'); i >= 0 {
			c.newline = "\n"
			if i > 0 && c.data[i-1] == '\r' {
				c.newline = "\r\n"
			}
		}
	}
	c.Flowed = p.Media == "text/plain" && strings.EqualFold(p.Params["format"], "flowed")
	c.DelSp = c.Flowed && strings.EqualFold(p.Params["delsp"], "yes")
	c.decode(strings.ToLower(strings.TrimSpace(p.Params["charset"])))
	return c, nil
}

// Decoded is a part's content without its transfer encoding (RFC 2045, 6). An error is of the kind Refused: the encoding is broken
// or not known.
func (m *Message) Decoded(p *Part) ([]byte, error) {
	data, _, err := m.decoded(p)
	return data, err
}

// decoded is a part's content without its transfer encoding (RFC 2045, 6); raw is, for each byte of quoted-printable, where it stands.
func (m *Message) decoded(p *Part) (data []byte, raw []int32, err error) {
	body := m.Raw[p.Body:p.End]
	switch p.Encoding {
	case "7bit", "8bit", "binary":
		return body, nil, nil
	case "quoted-printable":
		data, raw = decodeQuotedPrintable(body)
		return data, raw, nil
	case "base64":
		if data, err = decodeBase64(body); err != nil {
			return nil, nil, problem.New(problem.Refused, "The text's base64 is broken: %v.", err)
		}
		return data, nil, nil
	}
	return nil, nil, problem.New(problem.Refused, "The transfer encoding %q of the text is not known.", shortened(p.Encoding))
}

// decode brings the text into UTF-8.
func (c *Content) decode(declared string) {
	c.Text, c.Charset = string(c.data), declared
	ascii := isASCII(c.Text)
	switch {
	case strings.HasPrefix(declared, "utf-16") || strings.HasPrefix(declared, "utf-32") || declared == "utf-7" ||
		strings.HasPrefix(declared, "iso-2022") || strings.HasPrefix(declared, "hz-"):
		// none of these is ASCII, whatever its bytes look like
	case declared == "utf-8" || declared == "utf8":
		c.Charset = "utf-8"
		return
	case ascii && (declared == "" || declared == "us-ascii" || declared == "ascii" || lookup(declared) == nil):
		c.Charset = "us-ascii"
		return
	case ascii:
		c.set = lookup(declared) // its other half may be written
		return
	}
	if c.set = lookup(declared); c.set == nil || declared == "us-ascii" {
		c.guessed = true
		if c.Charset = "utf-8"; utf8.Valid(c.data) {
			c.set = nil
			return
		}
		c.Charset, c.set = "windows-1252", lookup("windows-1252")
	}
	text, err := c.set.NewDecoder().Bytes(c.data)
	c.Text = string(text)
	if err != nil || strings.Contains(c.Text, "\ufffd") {
		c.lossy = true
	}
}

// lookup finds a character set by its name in the WHATWG Encoding Standard, or else in the IANA registry; nil for none.
func lookup(name string) encoding.Encoding {
	if name == "" {
		return nil
	}
	if e, err := htmlindex.Get(name); err == nil {
		return e
	}
	if e, err := ianaindex.MIME.Encoding(name); err == nil {
		return e
	}
	return nil
}

func isASCII(s string) bool {
	for i := range len(s) {
		if s[i] >= utf8.RuneSelf {
			return false
		}
	}
	return true
}

// dataOffset is where an offset of Text lies in data; -1 where that cannot be said.
func (c *Content) dataOffset(at int) int {
	if c.set == nil {
		return at
	}
	before, err := c.set.NewEncoder().Bytes([]byte(c.Text[:at]))
	if err != nil || !bytes.HasPrefix(c.data, before) {
		return -1
	}
	rest, err := c.set.NewDecoder().Bytes(c.data[len(before):])
	if err != nil || string(rest) != c.Text[at:] {
		return -1
	}
	return len(before)
}

// encode writes text in the content's character set; false where that cannot hold it.
func (c *Content) encode(text string) ([]byte, bool) {
	switch {
	case isASCII(text):
		return []byte(text), c.set == nil || asciiBased(c.set)
	case c.guessed:
		return nil, false
	case c.set != nil:
		out, err := c.set.NewEncoder().Bytes([]byte(text))
		return out, err == nil
	}
	return []byte(text), c.Charset == "utf-8"
}

// asciiBased reports whether ASCII letters are written as themselves.
func asciiBased(set encoding.Encoding) bool {
	const letters = "<a href=\"b\">~\\{|}&#0;\n"
	out, err := set.NewEncoder().String(letters)
	return err == nil && out == letters
}

// decodeQuotedPrintable decodes as RFC 2045, 6.7 asks of a robust reader: what is no valid sequence stands for itself. raw
// gives for each decoded byte, and for the end, where it begins.
func decodeQuotedPrintable(body []byte) (data []byte, raw []int32) {
	data, raw = make([]byte, 0, len(body)), make([]int32, 0, len(body)+1)
	for i := 0; i < len(body); {
		c := body[i]
		if c == ' ' || c == '\t' { // white space at the end of a line was added on the way
			j := i
			for j < len(body) && (body[j] == ' ' || body[j] == '\t') {
				j++
			}
			if j == len(body) || body[j] == '\n' || body[j] == '\r' && j+1 < len(body) && body[j+1] == '\n' {
				i = j
				continue
			}
			for ; i < j; i++ {
				data, raw = append(data, body[i]), append(raw, int32(i))
			}
			continue
		}
		if c == '=' {
			if n := softBreak(body[i+1:]); n >= 0 {
				i += 1 + n
				continue
			}
			if i+2 < len(body) {
				if hi, lo := unhex(body[i+1]), unhex(body[i+2]); hi >= 0 && lo >= 0 {
					data, raw = append(data, byte(hi<<4|lo)), append(raw, int32(i))
					i += 3
					continue
				}
			}
		}
		data, raw = append(data, c), append(raw, int32(i))
		i++
	}
	return data, append(raw, int32(len(body)))
}

// softBreak is how many bytes of a soft line break follow its equals sign; -1 for none.
func softBreak(rest []byte) int {
	i := 0
	for i < len(rest) && (rest[i] == ' ' || rest[i] == '\t') {
		i++
	}
	switch {
	case i == len(rest):
		return i
	case rest[i] == '\n':
		return i + 1
	case rest[i] == '\r' && i+1 < len(rest) && rest[i+1] == '\n':
		return i + 2
	}
	return -1
}

func unhex(c byte) int {
	switch {
	case c >= '0' && c <= '9':
		return int(c - '0')
	case c >= 'A' && c <= 'F':
		return int(c-'A') + 10
	case c >= 'a' && c <= 'f':
		return int(c-'a') + 10
	}
	return -1
}

// decodeBase64 decodes; characters outside of the alphabet are passed over (RFC 2045, 6.8).
func decodeBase64(body []byte) ([]byte, error) {
	clean := make([]byte, 0, len(body))
	for _, c := range body {
		if c >= 'A' && c <= 'Z' || c >= 'a' && c <= 'z' || c >= '0' && c <= '9' || c == '+' || c == '/' {
			clean = append(clean, c)
		} else if c > ' ' && c != '=' {
			return nil, problem.New(problem.Refused, "the sign %q stands in it", c)
		}
	}
	return base64.RawStdEncoding.AppendDecode(nil, clean)
}

// appendQuotedPrintable appends data in quoted-printable, in lines of at most 76 characters that end as the message's
// (RFC 2045, 6.7). Line ends in data stay line ends.
func appendQuotedPrintable(dst, data []byte, newline string) []byte {
	const hex = "0123456789ABCDEF"
	column := 0
	for i := 0; i < len(data); i++ {
		c := data[i]
		if c == '\n' || c == '\r' && i+1 < len(data) && data[i+1] == '\n' {
			if c == '\r' {
				i++
			}
			dst, column = append(dst, newline...), 0
			continue
		}
		atEnd := i+1 == len(data) || data[i+1] == '\n' || data[i+1] == '\r'
		plain := c > ' ' && c < 0x7f && c != '=' || (c == ' ' || c == '\t') && !atEnd
		if plain && column == 0 && (c == '.' || c == 'F' || c == '-') {
			plain = false // no line that a mail system could take for something else
		}
		size := 3
		if plain {
			size = 1
		}
		if column+size > 75 {
			dst, column = append(append(dst, '='), newline...), 0
			if plain && (c == '.' || c == 'F' || c == '-') {
				plain, size = false, 3
			}
		}
		if plain {
			dst = append(dst, c)
		} else {
			dst = append(dst, '=', hex[c>>4], hex[c&15])
		}
		column += size
	}
	return dst
}

// appendBase64 appends data in base64 in lines of 76 characters.
func appendBase64(dst, data []byte, newline string) []byte {
	for first := true; len(data) > 0; first = false {
		if !first {
			dst = append(dst, newline...)
		}
		n := min(len(data), 57)
		dst = base64.StdEncoding.AppendEncode(dst, data[:n])
		data = data[n:]
	}
	return dst
}
