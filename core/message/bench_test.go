package message

import (
	"bytes"
	"io"
	"strings"
	"testing"

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
			old := `<p class="MsoNormal"><span style="font-size:11.0pt;font-family:'Calibri',sans-serif">Der Anleger in Holm wird diese Woche ausgebaggert.<o:p></o:p></span></p>`
			page = strings.Replace(s.text, "</div></body>", strings.Repeat(old, 150)+"</div></body>", 1)
		}
	}
	return []byte("From: nell.sandoval@brackwater.example\r\nTo: runa.holt@quay.example\r\nSubject: Re: Berth 4\r\nMIME-Version: 1.0\r\n" +
		"Content-Type: multipart/mixed; boundary=m\r\n\r\n--m\r\nContent-Type: multipart/alternative; boundary=a\r\n\r\n--a\r\n" +
		"Content-Type: text/plain; charset=utf-8\r\nContent-Transfer-Encoding: quoted-printable\r\n\r\n" + encoded(t, text, "utf-8", "quoted-printable") +
		"\r\n--a\r\nContent-Type: text/html; charset=utf-8\r\nContent-Transfer-Encoding: quoted-printable\r\n\r\n" +
		encoded(t, page, "utf-8", "quoted-printable") + "\r\n--a--\r\n--m\r\nContent-Type: application/pdf\r\nContent-Transfer-Encoding: base64\r\n\r\n" +
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
