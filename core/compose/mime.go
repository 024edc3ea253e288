package compose

import (
	"bufio"
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/quotedprintable"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/emersion/go-message/textproto"

	"missivum/core/field"
	"missivum/core/problem"
)

// partHeader is the header of a MIME part that holds a page (RFC 2045, 4 to 6).
const partHeader = "MIME-Version: 1.0\r\nContent-Type: text/html; charset=utf-8\r\nContent-Transfer-Encoding: quoted-printable\r\n\r\n"

// hostedPage is the page that a MIME part holds; it is no form of its own.
const hostedPage Form = "hosted page"

// mimeForm is a page as a MIME part.
type mimeForm struct{ page appender }

// Append writes the header and the encoded page.
func (p mimeForm) Append(dst []byte, f *field.Filler) []byte {
	return appendQuotedPrintable(append(dst, partHeader...), p.page.Append(nil, f))
}

// appendQuotedPrintable appends text in the quoted-printable encoding (RFC 2045, 6.7); its line ends become
// CRLF.
func appendQuotedPrintable(dst, text []byte) []byte {
	b := bytes.NewBuffer(dst)
	w := quotedprintable.NewWriter(b)
	w.Write(text) // a buffer in memory takes everything
	w.Close()
	return b.Bytes()
}

// appendBase64 appends data in the base64 encoding in lines of 76 characters (RFC 2045, 6.8).
func appendBase64(dst, data []byte) []byte {
	text := base64.StdEncoding.EncodeToString(data)
	for text != "" {
		n := min(len(text), 76)
		dst = append(append(dst, text[:n]...), '\r', '\n')
		text = text[n:]
	}
	return dst
}

// errPart marks a MIME part file whose header cannot be kept; the message says why.
var errPart = errors.New("the part's header cannot be kept")

// ReplaceBody gives a MIME part file with another page as its body. The header lines stay as they are, and
// the page is written in the character set and the transfer encoding that they name (RFC 2045, 5.1 and 6.1).
func ReplaceBody(existing, page []byte) (_ []byte, err error) {
	defer func() { err = problem.As(problem.Refused, err) }()
	end, newline := headerEnd(existing)
	if end < 0 {
		return nil, fmt.Errorf("%w: the file has no header lines with a blank line behind them", errPart)
	}
	header := existing[:end]
	fields, err := readHeader(header)
	if err != nil {
		return nil, err
	}
	media, params, err := mime.ParseMediaType(fields.Get("Content-Type"))
	if err != nil || media != "text/html" {
		return nil, fmt.Errorf("%w: its Content-Type is %q and not text/html", errPart, fields.Get("Content-Type"))
	}
	charset := strings.ToLower(params["charset"])
	if strings.HasPrefix(charset, "utf-16") || strings.HasPrefix(charset, "utf-32") || charset == "utf-7" {
		return nil, fmt.Errorf("%w: its character set %s is none that holds ASCII", errPart, charset)
	}
	encoding := strings.ToLower(strings.TrimSpace(fields.Get("Content-Transfer-Encoding")))
	if charset != "utf-8" || encoding == "" || encoding == "7bit" {
		page = ASCII(page)
	}
	out := bytes.Clone(header)
	switch encoding {
	case "", "7bit", "8bit", "binary":
		return append(out, bytes.ReplaceAll(bytes.ReplaceAll(page, []byte("\r\n"), []byte("\n")), []byte("\n"), []byte(newline))...), nil
	case "quoted-printable":
		return append(out, bytes.ReplaceAll(appendQuotedPrintable(nil, page), []byte("\r\n"), []byte(newline))...), nil
	case "base64":
		return append(out, bytes.ReplaceAll(appendBase64(nil, page), []byte("\r\n"), []byte(newline))...), nil
	}
	return nil, fmt.Errorf("%w: its transfer encoding %q is not known", errPart, encoding)
}

// headerEnd finds where the body begins, and how the file ends its lines.
func headerEnd(file []byte) (end int, newline string) {
	if i := bytes.Index(file, []byte("\r\n\r\n")); i >= 0 {
		return i + 4, "\r\n"
	}
	if i := bytes.Index(file, []byte("\n\n")); i >= 0 {
		return i + 2, "\n"
	}
	return -1, ""
}

// readHeader reads header lines; a line that goes on in the next one is unfolded (RFC 5322, 2.2.3).
func readHeader(header []byte) (textproto.Header, error) {
	fields, err := textproto.ReadHeader(bufio.NewReader(bytes.NewReader(header)))
	if err != nil {
		return fields, fmt.Errorf("%w: %v", errPart, err)
	}
	return fields, nil
}

// ASCII writes letters beyond ASCII as character references, which mean the same in every character set.
func ASCII(page []byte) []byte {
	out := make([]byte, 0, len(page))
	for len(page) > 0 {
		r, size := utf8.DecodeRune(page)
		if r < utf8.RuneSelf {
			out = append(out, byte(r))
		} else {
			out = append(strconv.AppendInt(append(out, "&#"...), int64(r), 10), ';')
		}
		page = page[size:]
	}
	return out
}

// Body gives the page that a MIME part file of this program holds. An error is of the kind Refused.
func Body(part []byte) (_ []byte, err error) {
	defer func() { err = problem.As(problem.Refused, err) }()
	end, _ := headerEnd(part)
	if end < 0 || string(part[:end]) != partHeader {
		return nil, fmt.Errorf("%w: it does not begin as this program begins them", errPart)
	}
	return io.ReadAll(quotedprintable.NewReader(bytes.NewReader(part[end:])))
}

// PartBody decodes the body of a MIME part file by the transfer encoding that its header names (RFC 2045, 6.1); character
// sets are left as they are. An error is of the kind Refused.
func PartBody(part []byte) (_ []byte, err error) {
	defer func() { err = problem.As(problem.Refused, err) }()
	end, _ := headerEnd(part)
	if end < 0 {
		return nil, fmt.Errorf("%w: the file has no header lines with a blank line behind them", errPart)
	}
	fields, err := readHeader(part[:end])
	if err != nil {
		return nil, err
	}
	var body io.Reader = bytes.NewReader(part[end:])
	switch strings.ToLower(strings.TrimSpace(fields.Get("Content-Transfer-Encoding"))) {
	case "quoted-printable":
		body = quotedprintable.NewReader(body)
	case "base64":
		body = base64.NewDecoder(base64.StdEncoding, body)
	}
	return io.ReadAll(body)
}
