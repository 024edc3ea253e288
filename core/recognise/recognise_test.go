package recognise

import (
	"strings"
	"testing"
	"time"

	"missivum/core/compose"
	"missivum/core/person"
	"missivum/core/starter"
	"missivum/core/template"
	"missivum/demo"
)

var day = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

var schema = person.NewSchema("cn", "givenName", "sn", "mail", "title", "ou", "telephoneNumber", "mobile", "street",
	"postalCode", "l", "co", "c", "callSign", "hireDate", "preferredLanguage", "labeledURI")

func directory(rows ...[]string) *person.Directory {
	d := &person.Directory{Schema: schema}
	for _, pairs := range rows {
		p := person.Person{Values: make([]string, schema.Len())}
		for i := 0; i < len(pairs); i += 2 {
			column, _, _ := schema.Column(pairs[i])
			p.Values[column] = pairs[i+1]
		}
		d.People = append(d.People, p)
	}
	return d
}

var maren = []string{"cn", "Maren Lind", "givenName", "Maren", "sn", "Lind", "mail", "maren.lind@brackwater.example",
	"title", "Head of Timetables", "ou", "R&D",
	"telephoneNumber", "01632 960544", "mobile", "07700 900544", "street", "1 Tide Quay", "postalCode", "BW1 4TQ", "l",
	"Brackwater", "co", "United Kingdom", "c", "GB",
	"callSign", "brack 4", "hireDate", "2019-05-02", "preferredLanguage", "en", "labeledURI", "https://www.brackwater.example/~maren"}

func recognised(t *testing.T, source string, answers map[string]string, rows ...[]string) Result {
	t.Helper()
	d := directory(append([][]string{maren}, rows...)...)
	r, err := Run(Input{Parts: template.Parts{Source: source}, People: d, Person: &d.People[0], Day: day, Answers: answers})
	if err != nil {
		t.Fatal(err)
	}
	return r
}

func TestRecognise(t *testing.T) {
	for _, c := range []struct{ name, source, want string }{
		{"name", "<p>Maren Lind</p>", "<p>{{ cn }}</p>"},
		{"parts of the name", "<b>Maren</b> <i>LIND</i>", "<b>{{ givenName }}</b> <i>{{ sn | upper }}</i>"},
		{"white space and references", "<p>Maren\n   L&#105;nd, R&amp;D, Head&nbsp;of Timetables</p>", "<p>{{ cn }}, {{ ou }}, {{ title }}</p>"},
		{"initials and capitals", "<p>ML · HEAD OF TIMETABLES</p>", "<p>{{ cn | initials }} · {{ title | upper }}</p>"},
		{"numbers", `<p>+44 1632 960544, 07700 900544, +44.7700.900544</p>`,
			"<p>{{ telephoneNumber | phone }}, {{ mobile }}, {{ mobile | phone | separated '.' }}</p>"},
		{"a number written another way", `<p>+44 (0) 7700/900-544</p>`, `<p data-needs="mobile">{{ mobile | phone }}</p>`},
		{"links", `<a href="tel:+44%207700%20900544">x</a><a ` +
			`href="mailto:Maren.Lind@brackwater.example?subject=Maren%20Lind">x</a><a href="https://www.brackwater.example/~maren">x</a>`,
			`<a href="tel:{{ mobile | dial }}">x</a><a href="mailto:{{ mail }}?subject={{ cn }}">x</a><a href="{{ labeledURI }}">x</a>`},
		{"alternative text", `<img alt='Photo of Maren Lind' src="https://p.brackwater.example/x.png">`,
			`<img alt='Photo of {{ cn }}' src="https://p.brackwater.example/x.png">`},
		{"not within words", "<p>Marens Lindau, Marenlind</p>", "<p>Marens Lindau, Marenlind</p>"},
		{"day", "<p>Since 2 May 2019</p>", "<p>Since {{ hireDate | date 'long' }}</p>"},
		{"line without its field goes",
			"<table><tr><td>Mobile</td><td>07700 900544</td></tr><tr><td>Maren Lind</td></tr></table>",
			`<table><tr data-needs="mobile"><td>Mobile</td><td>{{ mobile }}</td></tr><tr><td>{{ cn }}</td></tr></table>`},
		{"not within addresses", "<p>www.lind.example, x@maren</p>", "<p>www.lind.example, x@maren</p>"},
		{"row of pieces", `<p><b>Head of Timetables</b> &nbsp;|&nbsp; <span>M 07700 900544</span> &nbsp;|&nbsp; <i>Maren Lind</i></p>`,
			`<p data-join=" &nbsp;|&nbsp; "><b data-needs="title">{{ title }}</b><span data-needs="mobile">M {{ ` +
				`mobile }}</span><i>{{ cn }}</i></p>`},
		{"braces of the original", "<p>{{ Maren Lind }}</p>", "<p>{{ '{{' }} {{ cn }} }}</p>"},
		{"styles and scripts stay", "<style>.Maren { }</style><p class=Maren>x</p>", "<style>.Maren { }</style><p class=Maren>x</p>"},
	} {
		t.Run(c.name, func(t *testing.T) {
			r := recognised(t, c.source, nil, []string{"cn", "Bo", "mail", "bo@brackwater.example", "telephoneNumber", "1",
				"title", "", "ou", "x", "hireDate", "x"})
			if r.Parts.Source != c.want {
				t.Errorf("got  %s\nwant %s", r.Parts.Source, c.want)
			}
		})
	}
}

func TestAmbiguousValuesAreAskedAbout(t *testing.T) {
	source := "<p>Brackwater Ferries, Brackwater</p>"
	r := recognised(t, source, nil)
	if r.Parts.Source != "<p>Brackwater Ferries, {{ l }}</p>" || len(r.Questions) != 1 {
		t.Fatalf("%s %+v", r.Parts.Source, r.Questions)
	}
	q := r.Questions[0]
	if q.ID != "1:4" || q.Text != "Brackwater" || strings.Join(q.Choices, ";") != ";l" || q.Chosen != "" ||
		!strings.Contains(q.Context, "Ferries") {
		t.Errorf("%+v", q)
	}
	if r = recognised(t, source, map[string]string{"1:4": "l"}); r.Parts.Source != "<p>{{ l }} Ferries, {{ l }}</p>" ||
		r.Questions[0].Chosen != "l" {
		t.Errorf("answered: %s", r.Parts.Source)
	}
	if r = recognised(t, source, map[string]string{"1:4": "mail"}); r.Parts.Source != "<p>Brackwater Ferries, {{ l }}</p>" {
		t.Errorf("an answer that is no choice: %s", r.Parts.Source)
	}
	d := directory([]string{"cn", "Bo", "givenName", "Bo", "mail", "bo@brackwater.example"})
	r, err := Run(Input{Parts: template.Parts{Source: "<p>Bo</p>"}, People: d, Person: &d.People[0], Day: day})
	if err != nil || r.Parts.Source != "<p>{{ cn }}</p>" || len(r.Questions) != 1 ||
		strings.Join(r.Questions[0].Choices, ";") != "cn;givenName" {
		t.Errorf("%s %+v %v", r.Parts.Source, r.Questions, err)
	}
}

func TestDifferencesAndWhatWasNotFound(t *testing.T) {
	r := recognised(t, `<p>mAREN lIND</p><a href="tel:07700900544">07700-900 544</a>`, nil)
	if len(r.Differences) != 2 || r.Differences[0] != (Difference{"text", "mAREN lIND 07700-900 544",
		"Maren Lind +44 7700 900544"}) || r.Differences[1] != (Difference{"link", "tel:07700900544", "tel:+447700900544"}) {
		t.Errorf("%+v", r.Differences)
	}
	if !strings.Contains(strings.Join(r.NotFound, " "), "title ou") || strings.Contains(strings.Join(r.NotFound, " "), "mobile") {
		t.Errorf("not found: %v", r.NotFound)
	}
	if !strings.Contains(r.Parts.Settings, "sample: maren.lind@brackwater.example") || !strings.Contains(r.Parts.Settings, "country: GB") {
		t.Errorf("settings: %s", r.Parts.Settings)
	}
	if r = recognised(t, "<p>BRACK 4</p>", nil); !strings.Contains(r.Parts.Settings, "fields: [callSign]") || len(r.Differences) != 0 {
		t.Errorf("a field of their own: %s %v", r.Parts.Settings, r.Differences)
	}
}

// roundTrip fills a template for people of the demo directory, recognises each signature, and wants a template that
// gives the same text and links for that person.
func roundTrip(t *testing.T, tmpl *template.Template, d *person.Directory, count int) {
	t.Helper()
	for _, variant := range tmpl.Variants() {
		s, err := compose.Compile(compose.Source{Template: tmpl, Schema: d.Schema, Day: day, Variants: []string{variant}})
		if err != nil {
			t.Fatal(err)
		}
		for i := range count {
			p := &d.People[i]
			parts := tmpl.Parts()
			parts.Source = string(s.Fill(variant, compose.HTML, p))
			r, err := Run(Input{Parts: parts, People: d, Person: p, Day: day})
			if err != nil {
				t.Fatalf("%s: %v", d.Get(p, "mail"), err)
			}
			if len(r.Differences) > 0 {
				t.Errorf("%s %s %s: %+v", tmpl.Name, variant, d.Get(p, "mail"), r.Differences)
			}
			for _, field := range []string{"cn", "mail"} {
				if value := d.Get(p, field); len(value) > 3 && strings.Contains(r.Parts.Source, ">"+value+"<") {
					t.Errorf("%s %s: %q was not found", tmpl.Name, variant, value)
				}
			}
		}
	}
}

func TestRoundTrip(t *testing.T) {
	d, err := demo.Directory()
	if err != nil {
		t.Fatal(err)
	}
	own, err := demo.Templates()
	if err != nil {
		t.Fatal(err)
	}
	starters, err := starter.All()
	if err != nil {
		t.Fatal(err)
	}
	for _, tmpl := range append(own, starters...) {
		roundTrip(t, tmpl, d, 20)
	}
}

func FuzzRun(f *testing.F) {
	f.Add(`<p title="Maren">Maren &amp; Lind {{ x }}<a href="tel:07700 900544">BRACK 4</a></p>`)
	f.Add(`<p>&#x4d;aren&nbsp;Lind &Brackwater;</p><a href="https://x/%4d/Maren%20Lind?Lind">`)
	f.Fuzz(func(t *testing.T, source string) {
		if len(source) > 2000 {
			return
		}
		d := directory(maren)
		r, err := Run(Input{Parts: template.Parts{Source: source}, People: d, Person: &d.People[0], Day: day})
		if err == nil && len(r.Found) == 0 && len(r.Differences) > 0 {
			t.Fatalf("nothing was found, and yet %+v differ", r.Differences)
		}
	})
}
