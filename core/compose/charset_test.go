package compose

import (
	"bytes"
	"io"
	"mime"
	"mime/quotedprintable"
	"net/mail"
	"strings"
	"testing"
	"testing/fstest"
	"unicode/utf8"

	"missivum/core/charset"
	"missivum/core/person"
	"missivum/core/template"
)

// Whatever the source declares, every page that goes out is UTF-8, says so once and first, and shows the same letters.
func TestFormsDeclareWhatTheyAre(t *testing.T) {
	heads := []string{
		`<meta charset="windows-1252">`,
		`<meta http-equiv="Content-Type" content="text/html; charset=windows-1252">`,
		`<title>x</title><style>p{color:red}</style><META HTTP-EQUIV="content-type" CONTENT="text/html;charset=ISO-8859-1">`,
		`<meta charset="utf-8"><meta http-equiv="Content-Type" content="text/html; charset=iso-8859-2">`,
		`<meta charset="utf-8">`,
		``,
	}
	schema := person.NewSchema("mail", "cn")
	who := &person.Person{Values: []string{"a@brackwater.example", "Jürgen Größe"}}
	for _, head := range heads {
		tmpl := fromSource(t, "<html><head>"+head+"</head><body><p>Grüße, {{ cn }} €</p></body></html>", "")
		s, err := Compile(Source{Template: tmpl, Schema: schema, Day: day})
		if err != nil {
			t.Fatal(err)
		}
		forms := map[string]string{"html": string(s.Fill("new", HTML, who)), "copy-page": string(s.Fill("new", CopyPage, who))}
		m, err := mail.ReadMessage(bytes.NewReader(s.Fill("new", MIME, who)))
		if err != nil {
			t.Fatal(err)
		}
		body, err := io.ReadAll(quotedprintable.NewReader(m.Body))
		if err != nil {
			t.Fatal(err)
		}
		if _, params, _ := mime.ParseMediaType(m.Header.Get("Content-Type")); params["charset"] != "utf-8" {
			t.Errorf("%s: the part declares %s", head, m.Header.Get("Content-Type"))
		}
		forms["mime"] = string(body)
		for form, page := range forms {
			if !utf8.ValidString(page) || !strings.Contains(page, "Grüße, Jürgen Größe €") {
				t.Errorf("%s, %s: other letters\n%s", head, form, page)
			}
			if n := strings.Count(strings.ToLower(page), "charset="); n != 1 {
				t.Errorf("%s, %s: %d declarations\n%s", head, form, n, page)
			}
			if declared := charset.OfPage([]byte(page)); !strings.EqualFold(declared, "utf-8") || strings.Index(page, "charset") > 1024 {
				t.Errorf("%s, %s: declares %q\n%s", head, form, declared, page)
			}
		}
	}
}

// Template files in other character sets are read by their declaration, or by a guess that is reported.
func TestTemplatesInOtherCharacterSets(t *testing.T) {
	for _, c := range []struct{ source, says string }{
		{"<meta charset=windows-1252><p>Gr\xfc\xdfe</p>", "template.html: It was read as windows-1252, as it declares."},
		{"<meta charset=iso-8859-1><p>Gr\xfc\xdfe</p>", "template.html: It was read as windows-1252, as it declares."},
		{"<p>Gr\xfc\xdfe</p>", "template.html: It says nothing of its character set; by its letters it was read as windows-1252."},
		{"<meta charset=windows-1252><p>Grüße</p>", ""},
		{"\xff\xfe<\x00p\x00>\x00G\x00r\x00\xfc\x00\xdf\x00e\x00<\x00/\x00p\x00>\x00", "template.html: It was read as utf-16le."},
	} {
		tmpl, err := template.Open(fstest.MapFS{"template.html": &fstest.MapFile{Data: []byte(c.source)}}, "x")
		if err != nil {
			t.Errorf("%q: %v", c.source, err)
			continue
		}
		if !strings.Contains(tmpl.Source, "<p>Grüße</p>") || !strings.HasPrefix(strings.Join(tmpl.Notes, "\n"), c.says) ||
			c.says == "" && len(tmpl.Notes) > 0 {
			t.Errorf("%q: %q %q", c.source, tmpl.Source, tmpl.Notes)
		}
		bare, err := template.OpenBare(fstest.MapFS{"template.html": &fstest.MapFile{Data: []byte(c.source)}}, "template.html")
		if err != nil || bare.Source != tmpl.Source || len(bare.Notes) != len(tmpl.Notes) {
			t.Errorf("%q: %v", c.source, err)
		}
	}
}
