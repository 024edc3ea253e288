package compose

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"net/url"
	"time"

	"github.com/emersion/go-message"
	"github.com/emersion/go-message/mail"
	"github.com/emersion/go-message/textproto"

	"missivum/core/field"
	"missivum/core/picture"
	"missivum/core/template"
)

// carried gives the addresses of pictures that are carried in the message (RFC 2392). An identifier follows
// from the picture's content, so that the same picture always has the same one.
func carried(t *template.Template) Addresser {
	return func(p *template.Picture) string { return "cid:" + url.PathEscape(contentID(t, p)) }
}

// contentID is a picture's Content-ID without its brackets, in the form of a message's (RFC 2045, 7).
func contentID(t *template.Template, p *template.Picture) string {
	host := "pictures.invalid"
	hosting, _ := t.Hosting()
	if u, err := url.Parse(hosting); err == nil && u.Hostname() != "" {
		host = u.Hostname()
	}
	sum := sha256.Sum256(p.Data)
	return hex.EncodeToString(sum[:12]) + "@" + host
}

// The boundaries between the parts of a draft. No line of quoted-printable or base64 text can be one
// (RFC 2045, 6.7).
const (
	alternativeBoundary = "=_alternative"
	relatedBoundary     = "=_related"
)

// messageForm is a message draft: the text form and the page as alternatives, with the pictures that the
// page shows. Its header lines and parts are go-message's; only the frame of boundaries around the parts is written
// here, because a picture's part is made once per template and not once per person.
type messageForm struct {
	page, text appender
	pictures   []carriedPicture
	title      string
	date       time.Time
	name, mail int // expressions of the person's name and mail address
}

// carriedPicture is a picture's part, ready to be written.
type carriedPicture struct {
	address []byte // as it stands in the page
	part    []byte
}

// newMessageForm encodes the pictures, which are the same for everybody.
func newMessageForm(t *template.Template, pictures []*template.Picture, table *field.Table, p *Prepared,
	day time.Time) (*messageForm, error) {
	m := &messageForm{title: "Signature " + t.Title(), date: time.Date(day.Year(), day.Month(), day.Day(), 12, 0, 0, 0, time.UTC)}
	var err error
	if m.name, err = table.Add("cn or displayName", p.Schema); err != nil {
		return nil, err
	}
	if m.mail, err = table.Add("mail", p.Schema); err != nil {
		return nil, err
	}
	for _, p := range pictures {
		id := contentID(t, p)
		var header message.Header
		header.SetContentDisposition("inline", map[string]string{"filename": p.File})
		header.AddRaw([]byte("Content-ID: <" + id + ">\r\n")) // as the standard writes it
		var part bytes.Buffer
		writePart(&part, header, picture.Media(p.Format), nil, "base64", bytes.TrimSuffix(appendBase64(nil, p.Data), []byte("\r\n")))
		m.pictures = append(m.pictures, carriedPicture{[]byte("cid:" + url.PathEscape(id)), part.Bytes()})
	}
	return m, nil
}

// Append writes the draft. Header lines in a person's name are encoded (RFC 2047), so that no value can add
// a line of its own.
func (m *messageForm) Append(dst []byte, f *field.Filler) []byte {
	var header mail.Header
	header.SetContentType("multipart/alternative", map[string]string{"boundary": alternativeBoundary})
	header.AddRaw([]byte("MIME-Version: 1.0\r\n"))
	header.AddRaw([]byte("X-Unsent: 1\r\n")) // clients that know it open the draft to be edited, and not as a received message
	header.SetSubject(m.title)
	header.SetAddressList("From", []*mail.Address{{Name: f.Value(m.name), Address: oneAddress(f.Value(m.mail))}})
	header.SetDate(m.date)
	b := bytes.NewBuffer(dst)
	textproto.WriteHeader(b, header.Header.Header) // a buffer in memory takes everything

	utf8 := map[string]string{"charset": "utf-8"}
	between := func(boundary, end string) { b.WriteString("--" + boundary + end + "\r\n") }
	between(alternativeBoundary, "")
	writePart(b, message.Header{}, "text/plain", utf8, "quoted-printable", appendQuotedPrintable(nil, m.text.Append([]byte("\n"), f)))
	between(alternativeBoundary, "")
	var related message.Header
	related.SetContentType("multipart/related", map[string]string{"type": "text/html", "boundary": relatedBoundary})
	textproto.WriteHeader(b, related.Header)
	between(relatedBoundary, "")
	page := m.page.Append(nil, f)
	writePart(b, message.Header{}, "text/html", utf8, "quoted-printable", appendQuotedPrintable(nil, page))
	for _, p := range m.pictures {
		if bytes.Contains(page, p.address) {
			between(relatedBoundary, "")
			b.Write(p.part)
		}
	}
	between(relatedBoundary, "--")
	b.WriteString("\r\n")
	between(alternativeBoundary, "--")
	return b.Bytes()
}

// writePart writes a part of a message with its header, its body already in a transfer encoding (RFC 2045, 6), and the
// line end that belongs to the boundary behind it.
func writePart(b *bytes.Buffer, header message.Header, media string, params map[string]string, encoding string, encoded []byte) {
	header.Set("Content-Transfer-Encoding", encoding)
	header.SetContentType(media, params)
	textproto.WriteHeader(b, header.Header) // a buffer in memory takes everything
	b.Write(encoded)
	b.WriteString("\r\n")
}

// oneAddress keeps a mail address only if it is one (RFC 5322, 3.4.1).
func oneAddress(value string) string {
	if a, err := mail.ParseAddress(value); err == nil && a.Address == value {
		return value
	}
	return "nobody@invalid"
}
