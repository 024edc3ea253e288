package page

import (
	"bytes"
	"encoding/base64"
	"errors"
	"image"
	"image/png"
	"strings"
	"testing"
	"testing/fstest"

	"missivum/core/template"
)

func dot(t testing.TB) []byte {
	t.Helper()
	var b bytes.Buffer
	if err := png.Encode(&b, image.NewGray(image.Rect(0, 0, 4, 4))); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func TestCharacterSets(t *testing.T) {
	for name, c := range map[string]struct{ data, charset string }{
		"UTF-8":                 {"<p>Grüße</p>", "utf-8"},
		"UTF-8 with a mark":     {"\ufeff<p>Grüße</p>", "utf-8"},
		"said in a meta":        {"<meta charset=iso-8859-2><p>Gr\xfc\xdfe</p>", "iso-8859-2"},
		"said as http-equiv":    {"<meta http-equiv=Content-Type content=\"text/html; charset=windows-1252\"><p>Gr\xfc\xdfe</p>", "windows-1252"},
		"nothing said":          {"<p>Gr\xfc\xdfe</p>", "windows-1252"},
		"UTF-16":                {"\xff\xfe<\x00p\x00>\x00G\x00r\x00\xfc\x00\xdf\x00e\x00<\x00/\x00p\x00>\x00", "utf-16le"},
		"UTF-8 that says other": {"<meta charset=iso-8859-1><p>Grüße</p>", "utf-8"},
	} {
		a, err := Read([]byte(c.data), nil)
		if err != nil || !strings.Contains(a.Parts.Source, "<p>Grüße</p>") || a.Charset.Charset != c.charset {
			t.Errorf("%s: %q %q %v", name, a.Parts.Source, a.Charset, err)
		}
		if strings.Contains(a.Parts.Source, "charset") && !strings.Contains(a.Parts.Source, "utf-8") {
			t.Errorf("%s: still says %s", name, a.Parts.Source)
		}
	}
}

func TestPicturesComeAlong(t *testing.T) {
	data := "data:image/png;base64," + base64.StdEncoding.EncodeToString(dot(t))
	a, err := Read([]byte(`<html><head><style>p{color:red}</style><script>x</script></head><body><p>Crew</p><img alt="Our Mark!" src="`+
		data+`"><img src="`+data+
		`"><img src="https://p.brackwater.example/x.png"><img src="data:text/html,x"><img src="./side%20on.png">`+
		`<img src="../up.png"></body></html>`),
		fstest.MapFS{"side on.png": {Data: dot(t)}})
	if err != nil {
		t.Fatal(err)
	}
	if strings.Count(a.Parts.Source, `data-picture="our-mark-png"`) != 2 || strings.Contains(a.Parts.Source, "script") ||
		!strings.Contains(a.Parts.Source, "p{color:red}") {
		t.Errorf("%s", a.Parts.Source)
	}
	if len(a.Pictures) != 2 || a.Parts.Pictures["side-on.png"] == nil ||
		!bytes.Equal(a.Parts.Pictures["our-mark.png"], dot(t)) || len(a.Missing) != 3 || a.Missing[0] != "https://p.brackwater.example/x.png" {
		t.Errorf("%v %v", a.Pictures, a.Missing)
	}
	made, err := template.New("x", a.Parts)
	if err != nil || made.Picture("our-mark-png") == nil || made.Picture("our-mark-png").Alt != "Our Mark!" {
		t.Errorf("the parts make no template: %v", err)
	}
}

func TestPageSavedInOneFile(t *testing.T) {
	encoded := base64.StdEncoding.EncodeToString(dot(t))
	saved := "From: <Saved>\r\nMIME-Version: 1.0\r\nContent-Type: multipart/related; type=\"text/html\"; boundary=\"b\"\r\n\r\n" +
		"--b\r\nContent-Type: text/html; charset=utf-8\r\nContent-Transfer-Encoding: " +
		"quoted-printable\r\n\r\n<p>Gr=C3=BC=C3=9Fe</p><img src=3D\"https://p.brackwater.example/a/logo.png\"><img src=3D\"cid:two@x\">\r\n" +
		"--b\r\nContent-Type: image/png\r\nContent-Transfer-Encoding: base64\r\nContent-Location: " +
		"https://p.brackwater.example/a/logo.png\r\n\r\n" +
		encoded + "\r\n" +
		"--b\r\nContent-Type: image/png\r\nContent-Transfer-Encoding: base64\r\nContent-ID: <two@x>\r\n\r\n" + encoded + "\r\n--b--\r\n"
	a, err := Read([]byte(saved), nil)
	if err != nil || !strings.Contains(a.Parts.Source,
		`<p>Grüße</p><img data-picture="logo-png"><img data-picture="picture-png">`) || len(a.Pictures) != 2 || len(a.Missing) != 0 {
		t.Errorf("%+v %v", a, err)
	}
}

// The base element does not stay, so what it said is written into the addresses (RFC 3986, 5.4).
func TestRelativeAddressesOfABase(t *testing.T) {
	for base, want := range map[string]string{
		`<base href="https://www.brackwater.example/sig/x.html">`: `<a href="https://www.brackwater.example/sig/team">t</a>` +
			`<a href="https://www.brackwater.example/home">h</a><a href="https://brackwater.example/n">n</a><a href="#p">p</a>` +
			`<a href="mailto:a@brackwater.example">m</a><a href="https://www.brackwater.example/sig/q?a=1&amp;b=2">q</a>` +
			`<a href="{{ web }}">f</a><img src="https://www.brackwater.example/p.png">`,
		`<base target="_blank">`: `<a href="team">t</a><a href="/home">h</a><a href="//brackwater.example/n">n</a><a href="#p">p</a>` +
			`<a href="mailto:a@brackwater.example">m</a><a href="q?a=1&amp;b=2">q</a><a href="{{ web }}">f</a><img src="../p.png">`,
		`<base href="sig/">`: `<a href="team">t</a><a href="/home">h</a><a href="//brackwater.example/n">n</a><a href="#p">p</a>` +
			`<a href="mailto:a@brackwater.example">m</a><a href="q?a=1&amp;b=2">q</a><a href="{{ web }}">f</a><img src="../p.png">`,
	} {
		a, err := Read([]byte(`<html><head>`+base+`</head><body><a href="team">t</a><a href="/home">h</a><a href="//brackwater.example/n">n</a>`+
			`<a href="#p">p</a><a href="mailto:a@brackwater.example">m</a><a href="q?a=1&amp;b=2">q</a><a href="{{ web }}">f</a>`+
			`<img src="../p.png"></body></html>`), nil)
		if err != nil || !strings.Contains(a.Parts.Source, want) || strings.Contains(a.Parts.Source, "<base") {
			t.Errorf("%s: %v\n%s\nlacks\n%s", base, err, a.Parts.Source, want)
		}
		if len(a.Missing) != 1 || !strings.Contains(want, `src="`+a.Missing[0]+`"`) {
			t.Errorf("%s: missing %v", base, a.Missing)
		}
	}
}

func TestTooLargeAPageIsRefused(t *testing.T) {
	if _, err := Read(make([]byte, maxPage+1), nil); !errors.Is(err, errPage) {
		t.Errorf("%v", err)
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte("<p>Gr\xfc\xdfe</p><img src='data:image/png;base64,AA=='>"))
	f.Add([]byte("Content-Type: multipart/related; boundary=b\n\n--b\nContent-Type: text/html\n\n<p>\n--b--"))
	f.Fuzz(func(t *testing.T, data []byte) {
		a, err := Read(data, nil)
		if err != nil {
			return
		}
		if _, err := template.New("x", a.Parts); err != nil && !strings.Contains(err.Error(), "larger") {
			t.Fatalf("the parts make no template: %v", err)
		}
	})
}
