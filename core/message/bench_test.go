package message

import (
	"bytes"
	"io"
	"strings"
	"testing"
	"time"

	gomessage "github.com/emersion/go-message"
	_ "github.com/emersion/go-message/charset" // so that both decode alike
	"golang.org/x/net/html"
)

// typical is a reply in text and HTML with an attachment of 60 kB below a conversation of some pages.
func typical(t testing.TB) []byte {
	var text, page string
	for _, s := range corpus(t) {
		if s.language == "de" && s.shape == "text-intro-and-signs" {
			text = s.text + strings.Repeat("> Der Anleger in Holm wird diese Woche ausgebaggert, und der in Havsund auch.\n", 150)
		}
		if s.language == "de" && s.shape == "html-word-processor-header" {
			old := `<p class="MsoNormal"><span style="font-size:11.0pt;font-family:'Calibri',sans-serif">Der ` +
				`Anleger in Holm wird diese Woche ausgebaggert.<o:p></o:p></span></p>`
			page = strings.Replace(s.text, "</div></body>", strings.Repeat(old, 150)+"</div></body>", 1)
		}
	}
	return []byte("From: nell.sandoval@brackwater.example\r\nTo: runa.holt@quay.example\r\nSubject: Re: Berth 4\r\nMIME-Version: 1.0\r\n" +
		"Content-Type: multipart/mixed; boundary=m\r\n\r\n--m\r\nContent-Type: multipart/alternative; boundary=a\r\n\r\n--a\r\n" +
		"Content-Type: text/plain; charset=utf-8\r\nContent-Transfer-Encoding: quoted-printable\r\n\r\n" +
		encoded(t, text, "utf-8", "quoted-printable") +
		"\r\n--a\r\nContent-Type: text/html; charset=utf-8\r\nContent-Transfer-Encoding: quoted-printable\r\n\r\n" +
		encoded(t, page, "utf-8", "quoted-printable") +
		"\r\n--a--\r\n--m\r\nContent-Type: application/pdf\r\nContent-Transfer-Encoding: base64\r\n\r\n" +
		string(appendBase64(nil, bytes.Repeat([]byte{1, 2, 3}, 20_000), "\r\n")) + "\r\n--m--\r\n")
}

// BenchmarkParse is what stamping is compared with: the message read by a common library, its texts decoded and its page parsed.
func BenchmarkParse(b *testing.B) {
	raw := typical(b)
	b.SetBytes(int64(len(raw)))
	for b.Loop() {
		e, err := gomessage.Read(bytes.NewReader(raw))
		if err != nil {
			b.Fatal(err)
		}
		err = e.Walk(func(_ []int, part *gomessage.Entity, err error) error {
			media, _, _ := part.Header.ContentType()
			switch {
			case media == "text/html":
				_, err = html.Parse(part.Body)
			case !strings.HasPrefix(media, "multipart/"):
				_, err = io.Copy(io.Discard, part.Body)
			}
			return err
		})
		if err != nil {
			b.Fatal(err)
		}
	}
}

func BenchmarkRead(b *testing.B) {
	raw := typical(b)
	b.SetBytes(int64(len(raw)))
	for b.Loop() {
		Read(raw)
	}
}

func BenchmarkStamp(b *testing.B) {
	raw := typical(b)
	p := piece(false)
	b.SetBytes(int64(len(raw)))
	for b.Loop() {
		if r, err := Read(raw).Stamp([]Piece{p}, "1; test"); err != nil || !r.Stamped {
			b.Fatal(err)
		}
	}
}

// TestHostileMessagesCostLittle stamps messages made to be slow: each must take less than fifty times what a typical one of the
// same size takes, measured in the same run.
func TestHostileMessagesCostLittle(t *testing.T) {
	const size = 400_000
	fill := func(piece string) string { return strings.Repeat(piece, size/len(piece)) }
	cases := map[string][2]string{
		"elements in elements":  {"text/html", fill("<div>") + "x"},
		"quotations":            {"text/html", fill("<blockquote type=cite>x")},
		"named quotations":      {"text/html", fill(`<div class="quote">x`)},
		"elements and lines":    {"text/html", fill("<div>x<br>")},
		"signatures":            {"text/html", fill("<p>" + booking(false).HTML + "</p>")},
		"formatting":            {"text/html", fill("<b><i>x</p>")},
		"stray end tags":        {"text/html", strings.Repeat("<p><b>", size/40) + strings.Repeat("</table></i>", size/30)},
		"labels":                {"text/plain", fill("Ab: cd\n")},
		"header blocks":         {"text/plain", fill("From: a@b.example\nSent: 3.11.2026 14:05\nSubject: x\n\nx\n")},
		"introductions":         {"text/plain", fill("On 3.11.2026 14:05, a@b.example wrote:\n> x\n")},
		"signs":                 {"text/plain", fill("> > > > > > > > x\n")},
		"one line":              {"text/plain", fill("word@word 3.11. ")},
		"lines of dashes":       {"text/plain", fill("----- a -----\n")},
		"signatures in text":    {"text/plain", fill(booking(false).Text + "\n\n")},
		"one line of page text": {"text/html", fill("word &amp; 3.11. ")},
	}
	measure := func(raw []byte) time.Duration {
		began := time.Now()
		if _, err := Read(raw).Stamp([]Piece{piece(false)}, "1; test"); err != nil {
			t.Error(err)
		}
		return time.Since(began)
	}
	usual := measure(letter(t, "text/html", "utf-8", "8bit", "<body>"+fill("<p>The berth at Holm is dredged this week.</p>\n")+"</body>"))
	for name, c := range cases {
		if took := measure(letter(t, c[0], "utf-8", "8bit", c[1])); took > 50*usual {
			t.Errorf("%s: %v, a usual one %v", name, took, usual)
		} else {
			t.Logf("%s: %v, a usual one %v", name, took, usual)
		}
	}
}
