package message

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"mime/quotedprintable"
	"strings"
	"testing"

	"golang.org/x/text/encoding/htmlindex"
)

var nell = Owner{Mail: "nell.sandoval@brackwater.example", Name: "Nell Sandoval"}

// booking is a signature with letters beyond ASCII, and a picture that is carried.
func booking(carried bool) Signature {
	s := Signature{Name: "harbour, new",
		Text: "Nell Sandoval\nBooking office · Kärrholmen\n+44 20 7946 0018\nnell.sandoval@brackwater.example",
		HTML: `<table><tr><td style="font-family:Arial"><b>Nell Sandoval</b><br>Booking office · Kärrholmen<br>+44 20 7946 0018<br>` +
			`<a href="mailto:nell.sandoval@brackwater.example">nell.sandoval@brackwater.example</a></td></tr></table>`}
	if carried {
		s.HTML = strings.Replace(s.HTML, "<table>", `<img src="cid:logo@brackwater.example" width="1" height="1" alt="">`+"<table>", 1)
		s.Pictures = []Picture{{ID: "logo@brackwater.example", Media: "image/png", File: "logo.png", Data: bytes.Repeat([]byte{0x89, 'P'}, 100)}}
	}
	return s
}

// piece is that signature under the newest text.
func piece(carried bool) Piece {
	s := booking(carried)
	return Piece{Signature: s, Owner: nell, Where: UnderNewest, Fallback: AtEnd, Already: Leave, Separator: true,
		Known: []*Fingerprint{NewFingerprint(s.Name, true, s.HTML, nell), NewFingerprint(s.Name, false, s.Text, nell)}}
}

// encoded is a text in a character set and a transfer encoding.
func encoded(t testing.TB, text, charset, encoding string) string {
	t.Helper()
	text = strings.ReplaceAll(text, "\n", "\r\n")
	if charset != "" && charset != "utf-8" && charset != "us-ascii" {
		set, err := htmlindex.Get(charset)
		if err != nil {
			t.Fatal(err)
		}
		if text, err = set.NewEncoder().String(text); err != nil {
			t.Fatal(err)
		}
	}
	var b strings.Builder
	switch encoding {
	case "quoted-printable":
		w := quotedprintable.NewWriter(&b)
		w.Write([]byte(text))
		w.Close()
	case "base64":
		b.WriteString(base64.StdEncoding.EncodeToString([]byte(text)))
	default:
		b.WriteString(text)
	}
	return b.String()
}

// letter is a message of one part.
func letter(t testing.TB, media, charset, encoding, text string) []byte {
	return []byte("From: Nell Sandoval <nell.sandoval@brackwater.example>\r\nTo: Runa Holt " +
		"<runa.holt@quay.example>\r\nSubject: Re: Berth 4\r\n" +
		"MIME-Version: 1.0\r\nContent-Type: " + media + "; charset=" + charset + "\r\nContent-Transfer-Encoding: " + encoding + "\r\n\r\n" +
		encoded(t, text, charset, encoding))
}

// stamped stamps a message, and checks what holds for every message: the second stamping changes nothing.
func stamped(t testing.TB, raw []byte, p Piece) (*Message, Result) {
	t.Helper()
	result, err := Read(raw).Stamp([]Piece{p}, "1; test")
	if err != nil {
		t.Fatalf("%v\n%s", err, raw)
	}
	again, err := Read(result.Raw).Stamp([]Piece{p}, "1; test")
	if err != nil || result.Stamped && !bytes.Equal(again.Raw, result.Raw) {
		t.Fatalf("the second stamping: %v\n%s", err, again.Raw)
	}
	return Read(result.Raw), result
}

func TestStampInEveryEncoding(t *testing.T) {
	for _, s := range corpus(t) {
		if s.language != "de" && s.language != "en" && s.language != "fr" || !isLatin(s.text) {
			continue
		}
		media := "text/plain"
		if s.page {
			media = "text/html"
		}
		for _, charset := range []string{"utf-8", "iso-8859-1", "windows-1252", "utf-16le"} {
			for _, encoding := range []string{"8bit", "quoted-printable", "base64"} {
				if charset == "utf-16le" && encoding != "base64" {
					continue
				}
				text := strings.NewReplacer("…", "...", "’", "'").Replace(s.text)
				raw := letter(t, media, charset, encoding, text)
				m, result := stamped(t, raw, piece(false))
				if !result.Stamped {
					continue // the writer's own signature stands there
				}
				p := m.Leaves()[0]
				c, err := m.Content(p)
				if err != nil {
					t.Fatal(err)
				}
				before, behind, found := strings.Cut(c.Text, "Nell Sandoval</b>")
				if !s.page {
					before, behind, found = strings.Cut(c.Text, "Nell Sandoval\nBooking office ·")
					if !found {
						before, behind, found = strings.Cut(c.Text, "Nell Sandoval\r\nBooking office ·")
					}
				}
				if !found || !strings.Contains(strings.NewReplacer("&#228;", "ä").Replace(behind), "Kärrholmen") {
					t.Fatalf("%s in %s, %s, %s: the signature is not there:\n%s", s.shape, s.language, charset, encoding, c.Text)
				}
				if p, right := s.found(); right && p.Sure && strings.TrimSuffix(Seen(s.page, before), "--") != Seen(s.page, s.text[:s.place]) {
					t.Errorf("%s in %s, %s, %s: it stands at another place:\n%s", s.shape, s.language, charset, encoding, c.Text)
				}
				if longest(result.Raw) > 998 {
					t.Errorf("%s: a line of %d bytes", s.shape, longest(result.Raw))
				}
			}
		}
	}
}

func TestWhatIsNotTouchedStaysByteForByte(t *testing.T) {
	page := "<p>Hello</p><p>See you at berth 4.</p>"
	attachment := "--m\r\nContent-Type: application/pdf; name=plan.pdf\r\nContent-Transfer-Encoding: " +
		"base64\r\nContent-Disposition: attachment\r\n\r\nAAEC\r\nAw==\r\n\r\n"
	both := "--a\r\nContent-Type: text/plain\r\n\r\nHello\r\n\r\nSee you at berth 4.\r\n--a\r\nContent-Type: text/html; charset=utf-8\r\n" +
		"Content-Transfer-Encoding: quoted-printable\r\n\r\n" + page + "=\r\n=20\r\n--a--\r\n"
	head := "From: nell.sandoval@brackwater.example\r\nX-Odd:   two  spaces \r\n\tand a fold\r\nMIME-Version: 1.0\r\n"
	cases := map[string]string{
		"both": head + "Content-Type: multipart/alternative; boundary=a\r\n\r\nThis is the preamble.\r\n" + both + "epilogue\r\n",
		"mixed": head +
			"Content-Type: multipart/mixed; boundary=m\r\n\r\n--m\r\nContent-Type: multipart/alternative; boundary=\"a\"\r\n\r\n" +
			both + attachment + "--m--",
		"text alone":      head + "Content-Type: text/plain; charset=us-ascii\r\n\r\nHello\r\n\r\nSee you at berth 4.\r\n",
		"html alone":      head + "Content-Type: text/html\r\n\r\n" + page,
		"no content type": "From: nell.sandoval@brackwater.example\r\n\r\nHello\r\n",
		"no body":         "From: nell.sandoval@brackwater.example\r\nSubject: x\r\n",
		"no last boundary": head +
			"Content-Type: multipart/mixed; boundary=m\r\n\r\n--m\r\nContent-Type: text/html\r\n\r\n" + page + "\r\n" + attachment,
		"related": head + "Content-Type: multipart/related; boundary=r\r\n\r\n--r\r\nContent-Type: text/html\r\n\r\n" + page +
			"\r\n--r\r\nContent-Type: image/png\r\nContent-ID: <a@b>\r\nContent-Transfer-Encoding: base64\r\n\r\nAAEC\r\n--r--\r\n",
	}
	raise := &Look{Font: "Arial, sans-serif", Size: "11pt"}
	for name, raw := range cases {
		for _, newline := range []string{"\r\n", "\n"} {
			for _, carried := range []bool{false, true} {
				for _, look := range []*Look{nil, raise} {
					for _, where := range []Where{UnderNewest, AtEnd, AtTop, AtSide} {
						t.Run(fmt.Sprintf("%s %q carried %v raised %v %s", name, newline, carried, look != nil, where), func(t *testing.T) {
							source := []byte(strings.ReplaceAll(raw, "\r\n", newline))
							p := piece(carried)
							p.Raise, p.Where = look, where
							m, result := stamped(t, source, p)
							if !result.Stamped {
								t.Fatal("it was not stamped")
							}
							intact(t, source, m)
						})
					}
				}
			}
		}
	}
}

// intact checks that header fields keep their order and bytes, but for those that describe the text, and that parts that hold no
// text of the message keep theirs.
func intact(t *testing.T, source []byte, m *Message) {
	t.Helper()
	old := Read(source)
	at := 0
	for _, f := range old.Root.Header.Fields {
		if strings.HasPrefix(strings.ToLower(f.Name), "content-") {
			continue
		}
		line := source[f.Start:f.End]
		i := bytes.Index(m.Raw[at:m.Root.Body], line)
		if i < 0 {
			t.Errorf("the field %q changed:\n%s", line, m.Raw)
			continue
		}
		at += i + len(line)
	}
	for _, p := range old.Leaves() {
		if !strings.HasPrefix(p.Media, "text/") && !bytes.Contains(m.Raw, source[p.Start:p.End]) {
			t.Errorf("the part %s changed:\n%s", p.Number, m.Raw)
		}
	}
	if len(m.Faults) > len(old.Faults) {
		t.Errorf("new faults: %v\n%s", m.Faults, m.Raw)
	}
}

// isLatin reports whether a text can be written in every character set of the test.
func isLatin(text string) bool {
	return strings.IndexFunc(text, func(r rune) bool { return r > 0xff && r != '…' && r != '’' }) < 0
}

// TestEmptyTextWithoutBlankLine stamps texts that are empty, and whose header ends where the boundary begins.
func TestEmptyTextWithoutBlankLine(t *testing.T) {
	for name, rest := range map[string]string{
		"beside a page": "multipart/alternative; boundary=a\r\n\r\n--a\r\nContent-Type: " +
			"text/plain\r\n\r\n--a\r\nContent-Type: text/html\r\n\r\n" +
			"<p>x</p>\r\n--a--\r\n",
		"alone": "multipart/mixed; boundary=a\r\n\r\n--a\r\nContent-Type: text/plain\r\n\r\n--a\r\nContent-Type: image/png\r\n\r\nx\r\n--a--\r\n",
		"quoted": "multipart/mixed; boundary=a\r\n\r\n--a\r\nContent-Type: text/plain\r\nContent-Transfer-Encoding: quoted-printable\r\n\r\n" +
			"--a\r\nContent-Type: image/png\r\n\r\nx\r\n--a--\r\n",
		"with LF": "multipart/mixed; boundary=a\n\n--a\nContent-Type: text/plain\n\n--a\nContent-Type: image/png\n\nx\n--a--\n",
	} {
		head := "From: maren.lind@brackwater.example\r\nMIME-Version: 1.0\r\nContent-Type: "
		if strings.Contains(name, "LF") {
			head = strings.ReplaceAll(head, "\r", "")
		}
		for _, raise := range []bool{false, true} {
			p := piece(false)
			if raise {
				p.Raise = &Look{Font: "Arial", Size: "11pt"}
			}
			result, err := Read([]byte(head+rest)).Stamp([]Piece{p}, "1; test")
			if err != nil || !result.Stamped {
				t.Errorf("%s, raised %v: %v %+v", name, raise, err, result.Changes)
				continue
			}
			for _, part := range Read(result.Raw).Leaves() {
				if part.Media == "text/plain" {
					c, err := Read(result.Raw).Content(part)
					if err != nil || !strings.Contains(c.Text, "Nell Sandoval") {
						t.Errorf("%s, raised %v: %v\n%s", name, raise, err, result.Raw)
					}
				}
			}
		}
	}
}
