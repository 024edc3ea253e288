package compose

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"mime"
	"net/mail"
	"net/url"
	"time"

	"missivum/core/field"
	"missivum/core/picture"
	"missivum/core/template"
)

// Carried gives the addresses of pictures that are carried in the message (RFC 2392). An identifier follows
// from the picture's content, so that the same picture always has the same one.
func Carried(t *template.Template) Addresser {
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
// page shows.
type messageForm struct {
	page, text appender
	pictures   []carriedPicture
	title      string
	date       string
	name, mail int // expressions of the person's name and mail address
}

// carriedPicture is a picture's part, ready to be written.
type carriedPicture struct {
	address []byte // as it stands in the page
	part    []byte
}

func newMessageForm(t *template.Template, pictures []*template.Picture, table *field.Table, p *Prepared, day time.Time) (*messageForm, error) {
	m := &messageForm{title: "Signature " + t.Title(), date: time.Date(day.Year(), day.Month(), day.Day(), 12, 0, 0, 0, time.UTC).Format(time.RFC1123Z)}
	var err error
	if m.name, err = table.Add("cn or displayName", p.Schema); err != nil {
		return nil, err
	}
	if m.mail, err = table.Add("mail", p.Schema); err != nil {
		return nil, err
	}
	for _, p := range pictures {
		id := contentID(t, p)
		name := mime.FormatMediaType("inline", map[string]string{"filename": p.File})
		part := "Content-Type: " + picture.Media(p.Format) + "\r\nContent-Transfer-Encoding: base64\r\nContent-ID: <" + id + ">\r\nContent-Disposition: " + name + "\r\n\r\n"
		m.pictures = append(m.pictures, carriedPicture{[]byte("cid:" + url.PathEscape(id)), appendBase64([]byte(part), p.Data)})
	}
	return m, nil
}

// Append writes the draft. Header lines in a person's name are encoded (RFC 2047), so that no value can add
// a line of its own.
func (m *messageForm) Append(dst []byte, f *field.Filler) []byte {
	from := mail.Address{Name: f.Value(m.name), Address: oneAddress(f.Value(m.mail))}
	line := func(parts ...string) {
		for _, p := range parts {
			dst = append(dst, p...)
		}
		dst = append(dst, '\r', '\n')
	}
	line("Date: ", m.date)
	line("From: ", from.String())
	line("Subject: ", mime.QEncoding.Encode("utf-8", m.title))
	line("MIME-Version: 1.0")
	line(`Content-Type: multipart/alternative; boundary="`, alternativeBoundary, `"`)
	line()
	line("--", alternativeBoundary)
	line("Content-Type: text/plain; charset=utf-8")
	line("Content-Transfer-Encoding: quoted-printable")
	line()
	dst = appendQuotedPrintable(dst, m.text.Append([]byte("\n"), f))
	line()
	line("--", alternativeBoundary)
	line(`Content-Type: multipart/related; type="text/html"; boundary="`, relatedBoundary, `"`)
	line()
	line("--", relatedBoundary)
	line("Content-Type: text/html; charset=utf-8")
	line("Content-Transfer-Encoding: quoted-printable")
	line()
	page := m.page.Append(nil, f)
	dst = appendQuotedPrintable(dst, page)
	line()
	for _, p := range m.pictures {
		if bytes.Contains(page, p.address) {
			line("--", relatedBoundary)
			dst = append(dst, p.part...)
		}
	}
	line("--", relatedBoundary, "--")
	line()
	line("--", alternativeBoundary, "--")
	return dst
}

// oneAddress keeps a mail address only if it is one (RFC 5322, 3.4.1).
func oneAddress(value string) string {
	if a, err := mail.ParseAddress(value); err == nil && a.Address == value {
		return value
	}
	return "nobody@invalid"
}
