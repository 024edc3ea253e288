package message

import (
	"bytes"
	"strings"
)

// Enclose puts a closed message, whole and byte for byte, into a new one that carries a signature: the fields of its header stand
// in the new one's too, without those that describe its body or vouch for it (RFC 2046, 5.2.1).
func (m *Message) Enclose(signature Signature, note string) []byte {
	nl := m.Newline
	var b bytes.Buffer
	for _, f := range m.Root.Header.Fields {
		name := strings.ToLower(f.Name)
		if strings.HasPrefix(name, "content-") || name == "mime-version" || name == "dkim-signature" || strings.HasPrefix(name, "arc-") {
			continue
		}
		b.Write(m.Raw[f.Start:f.End])
	}
	if b.Len() > 0 && !bytes.HasSuffix(b.Bytes(), []byte("\n")) {
		b.WriteString(nl)
	}
	s := &stamper{m: m, used: signature}
	mixed := s.boundary("enclosed")
	b.WriteString("MIME-Version: 1.0" + nl + `Content-Type: multipart/mixed; boundary="` + mixed + `"` + nl + StampField +
		": " + note + nl + nl)
	page := "<!DOCTYPE html>\n<html><head><meta charset=\"utf-8\"></head><body>\n" + s.markup() + "\n</body></html>\n"
	text := strings.Trim(signature.Text, "\r\n") + "\n"
	quoted := func(media, text string) string {
		return "Content-Type: " + media + "; charset=utf-8" + nl + "Content-Transfer-Encoding: quoted-printable" + nl + nl +
			string(appendQuotedPrintable(nil, []byte(text), nl))
	}
	part := quoted("text/html", page)
	if len(signature.Pictures) > 0 {
		related := s.boundary("related")
		part = `Content-Type: multipart/related; type="text/html"; boundary="` + related + `"` + nl + nl + "--" + related + nl + part +
			s.pictureParts(related, nil) + nl + "--" + related + "--"
	}
	alternative := s.boundary("alternative")
	b.WriteString("--" + mixed + nl + `Content-Type: multipart/alternative; boundary="` + alternative + `"` + nl + nl +
		"--" + alternative + nl + quoted("text/plain", text) + nl + "--" + alternative + nl + part + nl + "--" + alternative + "--" + nl +
		"--" + mixed + nl + "Content-Type: message/rfc822" + nl + "Content-Disposition: inline" + nl + nl)
	b.Write(m.Raw[m.Root.Start:])
	b.WriteString(nl + "--" + mixed + "--" + nl)
	return b.Bytes()
}
