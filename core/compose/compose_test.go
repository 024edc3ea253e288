package compose

import (
	"bytes"
	"fmt"
	"image"
	"image/png"
	"regexp"
	"strings"
	"testing"
	"time"

	"golang.org/x/net/html"

	"missivum/core/field"
	"missivum/core/person"
	"missivum/core/picture"
	"missivum/core/problem"
	"missivum/core/template"
	"missivum/demo"
)

var day = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func demoParts(t testing.TB, name string) (*template.Template, *person.Directory) {
	t.Helper()
	tmpl, err := demo.Template(name)
	if err != nil {
		t.Fatal(err)
	}
	d, err := demo.Directory()
	if err != nil {
		t.Fatal(err)
	}
	return tmpl, d
}

func compile(t testing.TB, tmpl *template.Template, schema *person.Schema, variant string) *Signature {
	t.Helper()
	s, err := Compile(Source{Template: tmpl, Schema: schema, Day: day, Variants: []string{variant}})
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func fromSource(t testing.TB, source, settings string) *template.Template {
	t.Helper()
	tmpl, err := template.New("x", template.Parts{Source: source, Settings: settings})
	if err != nil {
		t.Fatal(err)
	}
	return tmpl
}

func TestTextForm(t *testing.T) {
	schema := person.NewSchema("mail", "cn", "title", "mobile", "c")
	p := &person.Person{Values: []string{"m@brackwater.example", "Maren  Lind", "Cook & Deckhand", "07700 900142", "GB"}}
	for _, c := range []struct{ name, source, want string }{
		{"lines and paragraphs", "<p>a\n  b</p><p>c<br>d</p>", "a b\n\nc\nd\n"},
		{"tight paragraphs", `<p style="margin: 0">a</p><p style="margin:0 0 4px">b</p>`, "a\nb\n"},
		{"no runs of blank lines", "<p></p><p> </p><p>a</p><p></p><hr><p>b</p>", "a\n\nb\n"},
		{"values are text", "<b>{{ cn }}</b>, {{ title }}", "Maren Lind, Cook & Deckhand\n"},
		{"references", "<p>a &amp; b&nbsp;&middot; c &lt;d&gt;</p>", "a & b · c <d>\n"},
		{"link with another label", `<a href="https://brackwater.example/x">Timetable</a>`, "Timetable <https://brackwater.example/x>\n"},
		{"link that says its address",
			`<a href="https://www.brackwater.example/">www.brackwater.example</a> <a href="mailto:{{ mail }}">{{ mail }}</a>`,
			"www.brackwater.example m@brackwater.example\n"},
		{"telephone link", `<a href="tel:{{ mobile | dial }}">{{ mobile | phone }}</a>`, "+44 7700 900142\n"},
		{"address with a field", `<a href="https://brackwater.example/staff/{{ cn }}">Page</a>`,
			"Page <https://brackwater.example/staff/Maren%20Lind>\n"},
		{"pictures", `<img src="a" alt="Logo"><img src="b" alt=""><a href="https://brackwater.example/"><img src="c" alt="Winter"></a>`,
			"Logo Winter <https://brackwater.example/>\n"},
		{"row of label and value", `<table><tr><td>Desk</td><td>12</td></tr><tr><td>Room</td><td>3</td></tr></table>`, "Desk 12\nRoom 3\n"},
		{"columns under each other", `<table><tr><td><p style="margin:0">a</p></td><td>b<br>c</td></tr></table>`, "a\nb\nc\n"},
		{"list", "<ul><li>a<li>b</ul>", "- a\n- b\n"},
		{"left out", "<style>p{}</style><script>x</script><!-- c --><p>a</p>", "a\n"},
		{"join", `<p data-join=" &amp; "><b>{{ cn }}</b><b>{{ mobile }}</b></p>`, "Maren Lind & 07700 900142\n"},
		{"72 columns", "<p>" + strings.Repeat("ferry ", 24) + "</p>", strings.TrimSpace(strings.Repeat("ferry ", 12)) +
			"\n" + strings.TrimSpace(strings.Repeat("ferry ", 12)) + "\n"},
		{"wide letters count two", "<p>" + strings.Repeat("港湾 ", 20) + "</p>", strings.TrimSpace(strings.Repeat("港湾 ", 14)) +
			"\n" + strings.TrimSpace(strings.Repeat("港湾 ", 6)) + "\n"},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := compile(t, fromSource(t, c.source, "country: GB"), schema, "new")
			if got := string(s.Fill("new", Text, p)); got != SeparatorLine+"\n"+c.want {
				t.Errorf("got\n%s\nwant\n%s", got, SeparatorLine+"\n"+c.want)
			}
		})
	}
}

func TestPageAndFragment(t *testing.T) {
	schema := person.NewSchema("mail", "cn")
	p := &person.Person{Values: []string{"m@brackwater.example", "Maren"}}
	for _, c := range []struct{ name, source, page, fragment string }{
		{"fragment becomes a page", `<p class="x">{{ cn }}</p>`,
			"<!DOCTYPE html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><title>T</title></head><body><p class=\"x\">Maren</p></body></html>",
			`<p class="x">Maren</p>`},
		{"page stays a page", "<!doctype html>\n<html lang=de><head><title>S</title><meta charset=utf-8></head>" +
			"<body bgcolor=white><p>{{ cn }}</p></body></html>",
			"<!doctype html>\n<html lang=de><head><title>S</title><meta charset=utf-8></head><body bgcolor=white><p>Maren</p></body></html>",
			`<p>Maren</p>`},
		{"styles are inlined; what cannot be stays in the page", "<style>p { margin: 0 } p:hover { color: red }</style><p>{{ cn }}</p>",
			"<!DOCTYPE html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><title>T</title></head><body>" +
				"<style>\np:hover { color: red }</style><p style=\"margin: 0\">Maren</p></body></html>",
			"<style>\np:hover { color: red }</style><p style=\"margin: 0\">Maren</p>"},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := compile(t, fromSource(t, c.source, "title: T\nlanguage: en"), schema, "new")
			if got := string(s.Fill("new", HTML, p)); got != c.page {
				t.Errorf("page\ngot  %s\nwant %s", got, c.page)
			}
			if got := string(s.Fill("new", Fragment, p)); got != c.fragment {
				t.Errorf("fragment\ngot  %s\nwant %s", got, c.fragment)
			}
		})
	}
}

func TestPicturesAndSlots(t *testing.T) {
	tmpl, d := demoParts(t, "harbour")
	maren := d.Find("maren.lind@brackwater.example")
	s := compile(t, tmpl, d.Schema, "new")
	if got := string(s.Fill("new", Fragment, maren)); !strings.Contains(got,
		`width="480" height="84" border="0" style="display: block" `+
			`src="https://pictures.brackwater.example/harbour/banner.png" alt="Winter timetable: every crossing, every day"`) {
		t.Errorf("the fragment's banner: %s", got)
	}
	if got := string(s.Fill("new", HTML, maren)); !strings.Contains(got, `src="pictures/logo.png"`) {
		t.Errorf("the page's logo: %s", got)
	}
	summer, err := Compile(Source{Template: tmpl, Schema: d.Schema, Day: time.Date(2027, 7, 1, 0, 0, 0, 0, time.UTC),
		Variants: []string{"new"}})
	if err != nil {
		t.Fatal(err)
	}
	if got := string(summer.Fill("new", Fragment, maren)); strings.Contains(got, "banner") {
		t.Error("the banner shows outside its dates")
	}
	if got := string(compile(t, tmpl, d.Schema, "reply").Fill("reply", Fragment, maren)); strings.Contains(got, "<img") ||
		!strings.Contains(got, "Brackwater Ferries</span>") {
		t.Errorf("the reply: %s", got)
	}
}

func TestMistakesAreToldTogether(t *testing.T) {
	_, err := Compile(Source{Template: fromSource(t, `<p data-slot="baner">{{ nmae }}</p><img data-picture="logo">`,
		"slots: {banner: {}}"), Schema: person.NewSchema("mail"), Day: day, Variants: []string{"new"}})
	for _, want := range []string{`There is no slot "baner"`, "Did you mean banner?", `no field "nmae"`, `no picture "logo"`} {
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q is missing in: %v", want, err)
		}
	}
	if _, err := Compile(Source{Template: fromSource(t, "x", ""), Schema: person.NewSchema("mail"), Day: day,
		Variants: []string{"evening"}}); err == nil || !strings.Contains(err.Error(), "new, reply") {
		t.Errorf("an unknown variant: %v", err)
	}
}

// shape is a parsed page without its texts and addresses.
func shape(t *testing.T, markup string) string {
	t.Helper()
	root, err := html.Parse(strings.NewReader(markup))
	if err != nil {
		t.Fatal(err)
	}
	var b strings.Builder
	var visit func(*html.Node)
	visit = func(n *html.Node) {
		if n.Type == html.CommentNode {
			b.WriteString("<!--")
		}
		if n.Type == html.ElementNode {
			b.WriteString("<" + n.Data)
			for _, a := range n.Attr {
				value := a.Val
				if a.Key == "href" || a.Key == "src" || a.Key == "title" || a.Key == "alt" || a.Key == "style" && strings.Contains(value, "--") {
					value = ""
				}
				fmt.Fprintf(&b, " %s=%q", a.Key, value)
			}
			b.WriteString(">")
		}
		for c := n.FirstChild; c != nil; c = c.NextSibling {
			visit(c)
		}
		b.WriteString("/")
	}
	visit(root)
	return b.String()
}

var hostile = map[string]string{
	"markup":        `<script>alert(1)</script><b onclick=x>`,
	"closing tags":  `</td></tr></table></body>--><!--`,
	"quotes":        `" onmouseover="x" '><img src=x onerror=y>`,
	"script":        `javascript:alert(document.cookie)`,
	"script, odd":   "JaVa\tScRiPt:alert(1)",
	"right to left": "\u202egnihsihp\u202c \u2067abc",
	"controls":      "a\x00b\x08c\x1bd\u0085e\u2028f",
	"references":    "&lt;b&gt; &#x3c;i&#x3e; &amp;amp;",
	"braces":        "{{ mail }} }} {{",
	"style":         `red; background: url(javascript:x)} </style>`,
	"long":          strings.Repeat(`A"<ж`, 1000),
	"broken UTF-8":  "a\xff\xfe<b>",
}

// TestHostileValuesChangeNoStructure: for every field and every hostile value the filled tree is
// that of a harmless person but for text and addresses. The judge is a parser of its own.
func TestHostileValuesChangeNoStructure(t *testing.T) {
	harbour, d := demoParts(t, "harbour")
	regatta, _ := demoParts(t, "regatta")
	wild := fromSource(t, `<p title="{{ cn }}" style="color: {{ title }}; --x: 1"><a href="{{ mail }}">{{ cn }}</a><a `+
		`href='https://brackwater.example/{{ uid }}?q={{ ou }}'>x</a>
		<!--[if mso]><b>{{ sn }}</b><![endif]--><img alt="{{ cn | or 'x' }}" src="https://p.brackwater.example/{{ uid `+
		`}}.png"><textarea>{{ cn }}</textarea></p>`, "")
	harmless := make([]string, d.Schema.Len())
	for i := range harmless {
		harmless[i] = "x"
	}
	for _, tmpl := range []*template.Template{harbour, regatta, wild} {
		for _, variant := range []string{"new", "reply"} {
			s := compile(t, tmpl, d.Schema, variant)
			for _, form := range []Form{HTML, Fragment} {
				want := shape(t, string(s.Fill(variant, form, &person.Person{Values: harmless})))
				for column, name := range d.Schema.Names() {
					for kind, value := range hostile {
						values := append([]string(nil), harmless...)
						values[column] = value
						filled := string(s.Fill(variant, form, &person.Person{Values: values}))
						if got := shape(t, filled); got != want {
							t.Fatalf("%s, %s, %s: the value %q (%s) of %s changes the structure:\n%s\n%s", tmpl.Name,
								variant, form, value, kind, name, want, got)
						}
						if strings.Contains(strings.ToLower(filled), `href="javascript:`) {
							t.Fatalf("%s: %s became an address", tmpl.Name, value)
						}
						if strings.ContainsAny(filled, "\x00\x08\x1b\u202e\u2067") {
							t.Fatalf("%s: control signs of %q went out", tmpl.Name, kind)
						}
					}
				}
			}
			for kind, value := range hostile { // the text form keeps its lines
				values := append([]string(nil), harmless...)
				for i := range values {
					values[i] = value
				}
				if text := string(s.Fill(variant, Text, &person.Person{Values: values})); !strings.HasPrefix(text,
					SeparatorLine+"\n") || strings.ContainsAny(text, "\x00\x1b\r\u202e") {
					t.Errorf("%s: the text form with %s: %q", tmpl.Name, kind, text)
				}
			}
		}
	}
}

var emptyLink = regexp.MustCompile(`<a[^>]*>\s*</a>`)

// TestNothingIsLeftForAnybody: no field mark, no attribute of the language, no empty element and no
// dangling separator in any form of any demo person.
func TestNothingIsLeftForAnybody(t *testing.T) {
	tmpl, d := demoParts(t, "harbour")
	for _, variant := range tmpl.Variants() {
		s := compile(t, tmpl, d.Schema, variant)
		for i := range d.People {
			for _, form := range Forms() {
				out := string(s.Fill(variant, form, &d.People[i]))
				who := d.Get(&d.People[i], "mail") + " " + variant + " " + string(form)
				if form == RTF && (strings.Contains(out, "undefined") || strings.Contains(out, "{{ ")) {
					t.Errorf("%s: a field is left", who)
				}
				for _, bad := range []string{"{{", "}}", "data-needs", "data-join", "data-slot", "data-picture", "data-in",
					`href=""`, `href="tel:"`, "<span></span>", "<td></td>", "<tr></tr>"} {
					if form != RTF && strings.Contains(out, bad) {
						t.Errorf("%s: %q is left", who, bad)
					}
				}
				if emptyLink.MatchString(out) {
					t.Errorf("%s: an empty link is left", who)
				}
				if form == Text {
					for _, line := range strings.Split(out, "\n")[1:] {
						if strings.HasSuffix(line, "|") || strings.HasSuffix(line, ",") || strings.HasPrefix(line, "|") ||
							strings.HasPrefix(line, ",") || strings.HasSuffix(line, "Desk") {
							t.Errorf("%s: the line %q dangles", who, line)
						}
					}
				}
			}
		}
	}
}

func TestPictureAddressesAreEncoded(t *testing.T) {
	var b bytes.Buffer
	if err := png.Encode(&b, image.NewGray(image.Rect(0, 0, 4, 4))); err != nil {
		t.Fatal(err)
	}
	tmpl, err := template.New("x", template.Parts{
		Source:   `<p>Crew</p><img data-picture="dot" alt=""><img src="https://p.brackwater.example/a%20%23b.png" alt="">`,
		Settings: "pictures:\n  address: https://p.brackwater.example/\n  files:\n    dot: {file: 'a #b.png'}\n",
		Pictures: map[string][]byte{"a #b.png": b.Bytes()},
	})
	if err != nil {
		t.Fatal(err)
	}
	s := compile(t, tmpl, person.NewSchema("mail"), "new")
	if got := string(s.Fill("new", Fragment, &person.Person{})); strings.Count(got, `src="https://p.brackwater.example/a%20%23b.png"`) != 2 {
		t.Errorf("hosted: %s", got)
	}
	if got := string(s.Fill("new", HTML, &person.Person{})); strings.Count(got, `src="pictures/a%20%23b.png"`) != 2 {
		t.Errorf("beside: %s", got)
	}
	if list := s.Pictures(); len(list) != 1 || list[0].File != "a #b.png" {
		t.Errorf("pictures: %+v", list)
	}
}

// TestPictureWeightOfAJoinedPiece: a piece that is there for some people only makes the figure depend.
func TestPictureWeightOfAJoinedPiece(t *testing.T) {
	for name, c := range map[string]struct {
		html  string
		fixed bool
	}{
		"for everybody":      {`<p data-needs="cn">x</p><img src="pictures/dot.png">`, true},
		"needed":             {`<p data-needs="cn"><img src="pictures/dot.png"></p>`, false},
		"joined by presence": {`<p data-join=" "><b>{{ cn }}<img src="pictures/dot.png"></b></p>`, false},
	} {
		tmpl := fromSource(t, c.html, "")
		tmpl.Pictures = []template.Picture{{File: "dot.png", Facts: picture.Facts{Bytes: 7}}}
		p, err := Prepare(tmpl, person.NewSchema("mail", "cn"), day, Beside)
		if err != nil {
			t.Fatal(err)
		}
		table := p.NewTable()
		count, fixed := p.PictureWeight(table, "new")
		f := field.NewFiller(table)
		f.Set(&person.Person{Values: []string{"a@b.example", ""}})
		if without := count(f); fixed != c.fixed || (without == 7) != c.fixed {
			t.Errorf("%s: fixed %v, %d bytes without a name", name, fixed, without)
		}
	}
}

// TestOnlyWhatIsAskedForIsCompiled: a form by itself is the same as among all of them, and others are not there.
func TestOnlyWhatIsAskedForIsCompiled(t *testing.T) {
	for _, name := range []string{"harbour", "voyage"} {
		tmpl, d := demoParts(t, name)
		source := Source{Template: tmpl, Schema: d.Schema, Day: day}
		all, err := Compile(source)
		if err != nil {
			t.Fatal(err)
		}
		who := d.Find("maren.lind@brackwater.example")
		for _, form := range Forms() {
			one, err := Compile(source, form)
			if err != nil {
				t.Fatal(err)
			}
			for _, variant := range tmpl.Variants() {
				if got, want := one.Fill(variant, form, who), all.Fill(variant, form, who); !bytes.Equal(got, want) {
					t.Errorf("%s, %s, %s by itself is another:\n%.300s\n%.300s", name, variant, form, got, want)
				}
			}
			if form == Fragment && len(one.forms) != len(tmpl.Variants()) {
				t.Errorf("%d programs for the fragment of %d variants", len(one.forms), len(tmpl.Variants()))
			}
		}
		if _, err := Compile(source, "odt"); !problem.Is(err, problem.Invalid) {
			t.Errorf("%v", err)
		}
	}
}
