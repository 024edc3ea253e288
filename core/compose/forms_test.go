package compose

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"errors"
	"html"
	"io"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net/mail"
	"strconv"
	"strings"
	"testing"

	"missivum/core/passive"
	"missivum/core/person"
	"missivum/core/template"
)

func TestTextByHand(t *testing.T) {
	tmpl, err := template.New("x", template.Parts{
		Source: "<p>{{ cn }}</p>",
		Texts: map[string]string{
			"template.txt": "-- \n{{ cn | upper }}   \nMobile   {{ mobile | phone }}\n\n\n{{ title }}{{ ou " +
				"}}\n{{ ou | or 'Crew' }}\nBrackwater <Ferries> & Harbours\n",
			"template.reply.txt": "{{ cn }}",
		},
		Settings: "country: GB",
	})
	if err != nil {
		t.Fatal(err)
	}
	schema := person.NewSchema("mail", "cn", "mobile")
	full := &person.Person{Values: []string{"m@brackwater.example", "Maren Lind", "07700 900142"}}
	blank := &person.Person{Values: []string{"m@brackwater.example", "Bo", ""}}
	s, err := Compile(Source{Template: tmpl, Schema: schema, Day: day, Variants: []string{"new", "reply"}})
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		variant string
		who     *person.Person
		want    string
	}{
		{"new", full, "-- \nMAREN LIND\nMobile   +44 7700 900142\n\nCrew\nBrackwater <Ferries> & Harbours\n"},
		{"new", blank, "-- \nBO\n\nCrew\nBrackwater <Ferries> & Harbours\n"},
		{"reply", full, "-- \nMaren Lind\n"},
	} {
		if got := string(s.Fill(c.variant, Text, c.who)); got != c.want {
			t.Errorf("%s\ngot\n%s\nwant\n%s", c.variant, got, c.want)
		}
	}
	tmpl.Texts["template.txt"] = "a\n {{ mobil }}"
	if _, err := Compile(Source{Template: tmpl, Schema: schema, Day: day, Variants: []string{"new"}}); err == nil ||
		!strings.Contains(err.Error(), `template.txt, line 2, column 5: There is no field "mobil"`) {
		t.Errorf("a mistake in the text: %v", err)
	}
}

func TestPart(t *testing.T) {
	tmpl, d := demoParts(t, "harbour")
	p := d.Find("eleni.thalassinou@brackwater.example")
	part := compile(t, tmpl, d.Schema, "new").Fill("new", MIME, p)
	m, err := mail.ReadMessage(bytes.NewReader(part))
	if err != nil {
		t.Fatal(err)
	}
	if m.Header.Get("Content-Type") != "text/html; charset=utf-8" || m.Header.Get("Content-Transfer-Encoding") != "quoted-printable" {
		t.Errorf("header %v", m.Header)
	}
	page, err := io.ReadAll(quotedprintable.NewReader(m.Body))
	if err != nil || !bytes.Contains(page, []byte("Ελένη Θαλασσινού")) ||
		!bytes.Contains(page, []byte(`src="https://pictures.brackwater.example/harbour/logo.png"`)) {
		t.Errorf("%v\n%s", err, page)
	}
	for _, line := range bytes.Split(part, []byte("\r\n")) {
		if len(line) > 76 {
			t.Errorf("a line of %d characters", len(line))
		}
	}
}

func TestReplaceBodyKeepsTheHeader(t *testing.T) {
	page := []byte("<p>Grüße, Ελένη\n=</p>\n")
	for _, c := range []struct{ name, header, body string }{
		{"quoted-printable", "Content-Type: text/html;\r\n charset=\"utf-8\"\r\nX-Own: kept as it " +
			"is\r\nContent-Transfer-Encoding: quoted-printable\r\n\r\n",
			"<p>Gr=C3=BC=C3=9Fe, =CE=95=CE=BB=CE=AD=CE=BD=CE=B7\r\n=3D</p>\r\n"},
		{"base64 and bare line ends", "content-transfer-encoding: BASE64\ncontent-type: text/html; charset=UTF-8\n\n",
			base64.StdEncoding.EncodeToString(page) + "\n"},
		{"another character set", "Content-Type: text/html; charset=iso-8859-1\nContent-Transfer-Encoding: 8bit\n\n",
			"<p>Gr&#252;&#223;e, &#917;&#955;&#941;&#957;&#951;\n=</p>\n"},
		{"no encoding is 7bit", "Content-Type: text/html; charset=utf-8\n\n", "<p>Gr&#252;&#223;e, &#917;&#955;&#941;&#957;&#951;\n=</p>\n"},
		{"8bit", "Content-Type: text/html; charset=utf-8\r\nContent-Transfer-Encoding: 8bit\r\n\r\n", "<p>Grüße, Ελένη\r\n=</p>\r\n"},
	} {
		t.Run(c.name, func(t *testing.T) {
			got, err := ReplaceBody([]byte(c.header+"<p>old</p>"), page)
			if err != nil || string(got) != c.header+c.body {
				t.Errorf("%v\ngot  %q\nwant %q", err, got, c.header+c.body)
			}
		})
	}
	for name, file := range map[string]string{
		"no header": "<html>\n<p>", "markup first": "<p>a: b</p>\n\nx", "plain text": "Content-Type: text/plain\n\nx",
		"nothing said":     "X: y\n\nx",
		"unknown encoding": "Content-Type: text/html\nContent-Transfer-Encoding: uuencode\n\nx",
		"UTF-16":           "Content-Type: text/html; charset=utf-16\n\nx",
	} {
		if got, err := ReplaceBody([]byte(file), page); !errors.Is(err, errPart) {
			t.Errorf("%s: %q, %v", name, got, err)
		}
	}
}

// parts reads the parts of a multipart body.
func parts(t *testing.T, contentType string, body io.Reader) []*multipart.Part {
	t.Helper()
	_, params, err := mime.ParseMediaType(contentType)
	if err != nil {
		t.Fatal(err)
	}
	var list []*multipart.Part
	r := multipart.NewReader(body, params["boundary"])
	for {
		p, err := r.NextRawPart()
		if errors.Is(err, io.EOF) {
			return list
		}
		if err != nil {
			t.Fatal(err)
		}
		var content bytes.Buffer
		if _, err := io.Copy(&content, p); err != nil {
			t.Fatal(err)
		}
		list = append(list, p)
		bodies[p] = content.Bytes()
	}
}

var bodies = map[*multipart.Part][]byte{}

func TestMessageDraft(t *testing.T) {
	tmpl, d := demoParts(t, "harbour")
	s, err := Compile(Source{Template: tmpl, Schema: d.Schema, Day: day, Variants: []string{"new", "reply"}})
	if err != nil {
		t.Fatal(err)
	}
	draft := func(variant string) (mail.Header, []*multipart.Part, []*multipart.Part) {
		m, err := mail.ReadMessage(bytes.NewReader(s.Fill(variant, Message, d.Find("eleni.thalassinou@brackwater.example"))))
		if err != nil {
			t.Fatal(err)
		}
		alternatives := parts(t, m.Header.Get("Content-Type"), m.Body)
		if len(alternatives) != 2 {
			t.Fatalf("%d alternatives", len(alternatives))
		}
		return m.Header, alternatives, parts(t, alternatives[1].Header.Get("Content-Type"), bytes.NewReader(bodies[alternatives[1]]))
	}
	header, alternatives, related := draft("new")
	if from, err := header.AddressList("From"); err != nil || from[0].Name != "Ελένη Θαλασσινού" ||
		from[0].Address != "eleni.thalassinou@brackwater.example" {
		t.Errorf("From: %v, %v", from, err)
	}
	if date, err := header.Date(); err != nil || date.Format("2006-01-02") != "2026-11-23" {
		t.Errorf("Date: %v, %v", date, err)
	}
	text, err := io.ReadAll(quotedprintable.NewReader(bytes.NewReader(bodies[alternatives[0]])))
	if err != nil || !strings.Contains(string(text), "\r\n-- \r\n") || !strings.Contains(string(text), "Ελένη") {
		t.Errorf("text: %q, %v", text, err)
	}
	if len(related) != 3 {
		t.Fatalf("%d related parts, want the page and two pictures", len(related))
	}
	page, err := io.ReadAll(quotedprintable.NewReader(bytes.NewReader(bodies[related[0]])))
	if err != nil {
		t.Fatal(err)
	}
	for i, p := range related[1:] {
		id := strings.Trim(p.Header.Get("Content-ID"), "<>")
		data, err := base64.StdEncoding.DecodeString(strings.ReplaceAll(string(bodies[p]), "\r\n", ""))
		if err != nil || !bytes.Equal(data, tmpl.Pictures[map[int]int{0: 1, 1: 0}[i]].Data) {
			t.Errorf("picture %d is not the template's (%v)", i, err)
		}
		if !strings.HasSuffix(id, "@pictures.brackwater.example") || strings.Count(string(page), `src="cid:`+id+`"`) != 1 {
			t.Errorf("Content-ID %q is not what the page shows", id)
		}
	}
	if _, _, related := draft("reply"); len(related) != 1 {
		t.Errorf("the reply carries %d parts beside its page", len(related)-1)
	}
}

func TestHostileNamesCannotAddHeaderLines(t *testing.T) {
	tmpl := fromSource(t, "<p>{{ cn }}</p>", "")
	schema := person.NewSchema("mail", "cn")
	for _, mailAddress := range []string{"a@b.example\r\nBcc: x@y.example", "a@b.example, c@d.example", `"><script>`, ""} {
		p := &person.Person{Values: []string{mailAddress, "Bo\r\nSubject: other\r\n\r\n<script>"}}
		m, err := mail.ReadMessage(bytes.NewReader(compile(t, tmpl, schema, "new").Fill("new", Message, p)))
		if err != nil {
			t.Fatal(err)
		}
		from, err := m.Header.AddressList("From")
		if err != nil || len(from) != 1 || from[0].Address != "nobody@invalid" || len(m.Header["Subject"]) != 1 || m.Header.Get("Bcc") != "" {
			t.Errorf("%q: %v %v", mailAddress, m.Header, err)
		}
	}
}

func TestCopyPage(t *testing.T) {
	tmpl, d := demoParts(t, "harbour")
	s := compile(t, tmpl, d.Schema, "new")
	p := d.Find("siobhan.nifhloinn@brackwater.example")
	page, fragment := string(s.Fill("new", CopyPage, p)), string(s.Fill("new", Fragment, p))
	if !strings.Contains(page, `lang="en">`+fragment+`</div>`) {
		t.Error("the page does not show the fragment")
	}
	_, rest, _ := strings.Cut(page, `<script type="application/json" id="letters">`)
	letters, _, _ := strings.Cut(rest, "</script>")
	var held string
	if err := json.Unmarshal([]byte(letters), &held); err != nil || held != fragment {
		t.Errorf("the page does not hold the fragment letter by letter: %v", err)
	}
	for _, marker := range []string{"!title!", "!signature!", "!letters!", "!script!", "!language!"} {
		if strings.Contains(page, marker) {
			t.Errorf("%s is left", marker)
		}
	}
}

// A title or a value that looks like the page's own markers, or ends its elements, changes nothing.
func TestCopyPageWithMarkersInIt(t *testing.T) {
	for _, hostile := range []string{"!signature!", "!letters!", "!title!", "!script!", "</script><script>x()</script>",
		"</title><b>", "<!--"} {
		tmpl := fromSource(t, "<p>{{ cn }}</p>", "title: "+strconv.Quote(hostile))
		s := compile(t, tmpl, person.NewSchema("mail", "cn"), "new")
		page := string(s.Fill("new", CopyPage, &person.Person{Values: []string{"a@brackwater.example", "Ada " + hostile}}))
		if strings.Count(page, "<script") != 2 || strings.Count(page, "<p>Ada ") != 1 || !strings.HasSuffix(page, "</html>\n") ||
			!strings.Contains(page, "<title>Copy your signature: "+html.EscapeString(hostile)+"</title>") {
			t.Errorf("%q breaks the page:\n%s", hostile, page)
		}
	}
}

// Nothing active goes out, in any form, whatever the template holds.
func TestNoFormIsActive(t *testing.T) {
	tmpl := fromSource(t, `<body onload="x()"><p onclick="x()">{{ cn }}<script>alert(1)</script><a href="javascript:x()">a</a>`+
		`<a href="{{ labeledURI }}">b</a><svg onload=x()></svg><iframe src=x></iframe><form><input name=q></form></p></body>`, "")
	s, err := Compile(Source{Template: tmpl, Schema: person.NewSchema("mail", "cn", "labeledURI"), Day: day})
	if err != nil {
		t.Fatal(err)
	}
	who := &person.Person{Values: []string{"a@brackwater.example", "Ada<script>", "javascript:x()"}}
	for _, form := range []Form{HTML, Fragment} {
		if out := string(s.Fill("new", form, who)); passive.Active(out) != "" || !strings.Contains(out, "Ada&lt;script&gt;") {
			t.Errorf("%s: %s is active in\n%s", form, passive.Active(out), out)
		}
	}
	for _, form := range []Form{MIME, Message, CopyPage, RTF, Text} {
		out := strings.ReplaceAll(string(s.Fill("new", form, who)), "=\r\n", "")
		for _, sign := range []string{"alert(1)", "onclick", "javascript", "<svg", "<iframe", "onload"} {
			if strings.Contains(out, sign) {
				t.Errorf("%s holds %s\n%s", form, sign, out)
			}
		}
	}
}

func TestRTF(t *testing.T) {
	schema := person.NewSchema("mail", "cn", "title", "mobile", "labeledURI")
	p := &person.Person{Values: []string{"m@brackwater.example", `Søren {Ω} \par 𝕬`, "", "", "https://a.example/ Tides; https://b.example/"}}
	for _, c := range []struct{ name, source, want string }{
		{"letters by their code", "<p>{{ cn }}</p>", `S\u248\'3fren \{\u937\'3f\} \\par \u-10187\'3f\u-8852\'3f`},
		{"blank paragraphs leave nothing",
			`<div>a</div><div data-needs="title">{{ title }}</div><div><b>{{ title }}</b></div><div>b</div>`, "a}\\par\n"},
		{"link", `<a href="https://a.example/{{ cn }}">x</a>`,
			`{\field{\*\fldinst{HYPERLINK "https://a.example/S%C3%B8ren%20%7B%CE%A9%7D%20%5Cpar%20%F0%9D%95%AC"}}{\fldrslt{`},
		{"list", `<p data-join=" | "><a data-each="labeledURI" href="{{ entry.address }}">{{ entry.label }}</a></p>`,
			`HYPERLINK "https://b.example/"`},
		{"shaded cell", `<table width="200"><tr><td bgcolor="#eeeeee" width="150" style="border-bottom: 1px solid ` +
			`red">a</td><td>b</td></tr></table>`,
			`\clbrdrb\brdrs\brdrw15\brdrcf2\clcbpat3\cellx2250`},
		{"cell that goes leaves its room",
			`<table><tr><td width="100" data-needs="title">{{ title }}</td><td width="100">b</td></tr></table>`,
			"\\trautofit0\\clvertalc\\cellx3000\n"},
		{"row that goes", `<table><tr><td data-needs="title">{{ title }}</td></tr></table>x`, "\n\\pard\\plain {"},
		{"number in a line from right to left", `<p dir="rtl"><span dir="ltr">+44 7700</span></p>`,
			"\\rtlpar\\qr\\sa240 {\\rtlch\\af0\\afs24\\ltrch\\f0\\fs24\\cf1 \\u8234\\'3f+44 7700\\u8236\\'3f}"},
		{"cell over rows", `<table><tr><td rowspan="2" width="50">p</td><td width="50">a</td></tr><tr><td>b</td></tr></table>`,
			`\clvmrg\clvertalc\cellx750`},
	} {
		t.Run(c.name, func(t *testing.T) {
			got := string(compile(t, fromSource(t, c.source, ""), schema, "new").Fill("new", RTF, p))
			if !strings.Contains(got, c.want) {
				t.Errorf("%s\nis not in\n%s", c.want, got)
			}
			balanced(t, got)
		})
	}
}

// balanced checks that every group is closed and none is closed twice.
func balanced(t *testing.T, rtf string) {
	t.Helper()
	depth := 0
	for i := 0; i < len(rtf); i++ {
		switch rtf[i] {
		case '\\':
			i++
		case '{':
			depth++
		case '}':
			depth--
		}
		if depth < 0 || depth == 0 && strings.TrimSpace(rtf[i+1:]) != "" {
			t.Fatalf("the groups do not fit at byte %d", i)
		}
	}
	if depth != 0 {
		t.Errorf("%d groups are not closed", depth)
	}
}
