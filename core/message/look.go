package message

import (
	"encoding/base64"
	"html"
	"net/url"
	"strings"
)

// maxLook is how much of pictures a look carries, in bytes; what is beyond it is not shown.
const maxLook = 8 << 20

// Look is the message's text as a page: its HTML part with the pictures that it carries as data, else its text. What is active in it
// stays: it is to be shown only where nothing can run or load. A message without text, or one that cannot be read, is a blank page.
func (m *Message) Look() string {
	b := m.Bodies()
	if b.HTML != nil {
		if c, err := m.Content(b.HTML); err == nil {
			return m.withPictures(c.Text)
		}
	}
	if b.Plain == nil {
		return ""
	}
	c, err := m.Content(b.Plain)
	if err != nil {
		return ""
	}
	return `<pre style="white-space:pre-wrap;font:13px/1.4 monospace">` + html.EscapeString(c.Text) + `</pre>`
}

// withPictures puts carried pictures in the place of their addresses (RFC 2392).
func (m *Message) withPictures(page string) string {
	var pairs []string
	left := maxLook
	for _, p := range m.Leaves() {
		id := strings.Trim(strings.TrimSpace(p.Header.Value("Content-ID")), "<>")
		if id == "" || !strings.HasPrefix(p.Media, "image/") || !strings.Contains(page, "cid:") {
			continue
		}
		data, _, err := m.decoded(p)
		if left -= len(data); err != nil || left < 0 {
			continue
		}
		inline := "data:" + p.Media + ";base64," + base64.StdEncoding.EncodeToString(data)
		for _, address := range []string{id, url.PathEscape(id)} {
			pairs = append(pairs, "cid:"+address+`"`, inline+`"`, "cid:"+address+`'`, inline+`'`, "cid:"+address+")", inline+")")
		}
	}
	return strings.NewReplacer(pairs...).Replace(page)
}
