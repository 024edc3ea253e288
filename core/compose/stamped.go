package compose

import (
	"net/url"
	"strings"

	"missivum/core/field"
	"missivum/core/template"
)

// The forms in which a mail rule puts a signature into a message: fragments, with their pictures hosted or carried in the
// message. They are compiled for those who ask for them and are no files of a package.
const (
	StampHosted  Form = "stamp with hosted pictures"
	StampCarried Form = "stamp with carried pictures"
)

// Carried is a picture that a message carries.
type Carried struct {
	ID      string // Content-ID without brackets (RFC 2392)
	Picture *template.Picture
}

// compileStamp makes the program of a fragment with its pictures in one of the two ways.
func (c *compiler) compileStamp(variant string, form Form) (appender, error) {
	address := Hosted(c.Template)
	if form == StampCarried {
		address = carried(c.Template)
	}
	p, err := Prepare(c.Template, c.Schema, c.Day, address)
	if err != nil {
		return nil, err
	}
	return c.fragment(p, variant)
}

// Stamped gives the fragment that a mail rule puts into a message for one person, and the pictures that the message must then
// carry; none with hosted ones. The signature must have been compiled for the form.
func (s *Signature) Stamped(t *template.Template, variant string, form Form, f *field.Filler) (html string, pictures []Carried) {
	html = string(s.Append(nil, variant, form, f))
	if form != StampCarried {
		return html, nil
	}
	for _, p := range s.pictures {
		id := contentID(t, p)
		if strings.Contains(html, "cid:"+url.PathEscape(id)) {
			pictures = append(pictures, Carried{id, p})
		}
	}
	return html, pictures
}

// FillText gives the text form of a variant without its separator line, for one person.
func (s *Signature) FillText(variant string, f *field.Filler) string {
	return strings.TrimPrefix(string(s.Append(nil, variant, Text, f)), SeparatorLine+"\n")
}
