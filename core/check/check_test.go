package check

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"regexp"
	"slices"
	"sort"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"golang.org/x/net/html"

	"missivum/core/client"
	"missivum/core/edit"
	"missivum/core/person"
	"missivum/core/source"
	"missivum/core/template"
	"missivum/demo"
)

var day = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func run(t *testing.T, in Input) *Report {
	t.Helper()
	if in.Profiles == nil {
		in.Profiles = client.Shipped()
	}
	in.Day = day
	r, err := Run(context.Background(), in)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

func pngOf(t *testing.T, width, height int) []byte {
	t.Helper()
	var b bytes.Buffer
	if err := png.Encode(&b, image.NewGray(image.Rect(0, 0, width, height))); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// darkLogo is a dark bar on see-through background.
func darkLogo(t *testing.T) []byte {
	t.Helper()
	img := image.NewNRGBA(image.Rect(0, 0, 240, 80))
	draw.Draw(img, image.Rect(40, 30, 200, 50), image.NewUniform(color.NRGBA{11, 30, 36, 255}), image.Point{}, draw.Src)
	var b bytes.Buffer
	if err := png.Encode(&b, img); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// bare makes a template of one file with pictures beside it.
func bare(t *testing.T, html string) *template.Template {
	t.Helper()
	fsys := fstest.MapFS{
		"x.html":   {Data: []byte(html)},
		"wide.png": {Data: pngOf(t, 840, 280)},
		"fit.png":  {Data: pngOf(t, 240, 80)},
		"dark.png": {Data: darkLogo(t)},
		"pennant.svg": {Data: []byte(`<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 12 4"><path d="M0 0 12 2 ` +
			`0 4z" fill="#c8553d"/></svg>`)},
	}
	tmpl, err := template.OpenBare(fsys, "x.html")
	if err != nil {
		t.Fatal(err)
	}
	return tmpl
}

func directory(t *testing.T) *person.Directory {
	t.Helper()
	d, err := demo.Directory()
	if err != nil {
		t.Fatal(err)
	}
	return d
}

func count(r *Report, check string) int {
	n := 0
	for _, f := range r.Findings {
		if f.Check == check {
			n++
		}
	}
	return n
}

func TestEveryCheckFindsItsFailingExampleAndPassesTheOther(t *testing.T) {
	if len(Checks()) < 15 {
		t.Fatalf("%d checks, want at least 15", len(Checks()))
	}
	for _, c := range Checks() {
		t.Run(c.ID, func(t *testing.T) {
			if c.Title == "" || c.Why == "" || c.Remedy == "" {
				t.Error("title, reason or remedy is missing")
			}
			// a folder's template, since a bare file is also judged as it stands
			for _, bareFile := range []bool{false, true} {
				passing, failing := bare(t, c.Passing), bare(t, c.Failing)
				if !bareFile && !slices.Contains([]string{"picture-pixels", "picture-format", "picture-dark"}, c.ID) {
					passing.Bare, failing.Bare = false, false
				}
				r := run(t, Input{Template: failing, People: directory(t)})
				if n := count(r, c.ID); n != 1 {
					t.Errorf("the failing example has %d findings, want 1: %+v", n, r.Findings)
				}
				for _, f := range r.Findings {
					if f.Check == c.ID && (f.Message == "" || f.Why == "" || f.Remedy == "" || len(f.Clients) == 0 || f.Line != 1 || f.Text == "") {
						t.Errorf("a finding lacks something: %+v", f)
					}
				}
				r = run(t, Input{Template: passing, People: directory(t)})
				for _, f := range r.Findings {
					if f.Check == c.ID && f.Severity != client.Note {
						t.Errorf("the passing example has a finding: %+v", f)
					}
				}
			}
		})
	}
}

// TestVariations: what each check must also see, and what it must leave alone.
func TestVariations(t *testing.T) {
	for _, c := range []struct {
		name, html string
		want       []string // check ids, sorted
	}{
		{"nothing wrong", `<p>Harbour office</p>`, nil},
		{"mail and telephone links", `<a href="mailto:office@brackwater.example">x</a> <a href="tel:+441632960100">y</a>`, nil},
		{"an address that begins with a field", `<p data-needs="labeledURI"><a href="{{ labeledURI }}">x</a></p>`, nil},
		{"three times the pixels", `<img src="fit.png" alt="x" width="80" height="27">Brackwater Ferries`, []string{"address-relative"}},
		{"percent is no size",
			`<img src="https://p.brackwater.example/a.png" alt="x" width="100%" height="20">Brackwater Ferries`, []string{"picture-size"}},
		{"network folder", `<img src="\\saltmouth\share\logo.png" alt="x" width="1" height="1">Brackwater Ferries`, []string{"address-local"}},
		{"drive letter", `<a href="C:\logo.png">Logo of the ferries</a>`, []string{"address-local"}},
		{"address of the own machine", `<a href="http://localhost:8080/x">Timetable</a>`, []string{"address-local"}},
		{"protocol left to the page", `<a href="//brackwater.example/x">Timetable</a>`, []string{"address-relative"}},
		{"a scheme alone", `<a href="https://">Timetable</a>`, []string{"link-target"}},
		{"spaces in a telephone link", `<a href="tel: +44 1632 960100">Call the office</a>`, []string{"link-target"}},
		{"mail link without an address", `<a href="mailto:office">Write to the office</a>`, []string{"link-target"}},
		{"sheets in a head", `<html><head><meta charset="utf-8"><link rel="stylesheet" href="x.css">` +
			`<style>a:hover{color:red}</style></head><body>Brackwater Ferries</body></html>`,
			[]string{"style-sheet", "style-sheet"}},
		{"the address of a form goes with the form", `<form action="x">Brackwater Ferries</form>`, []string{"active-content"}},
		{"script address", `<a href="javascript:void(0)">Timetable</a>`, []string{"active-content"}},
		{"link without content", `<a href="https://brackwater.example/"></a>Brackwater`, []string{"link-target"}},
		{"linked picture with empty text",
			`<a href="https://brackwater.example/"><img src="https://p.brackwater.example/a.png" alt="" width="9" height="9"></a>Brackwater Ferries`,
			[]string{"picture-alt"}},
		{"linked style sheet", `<link rel="stylesheet" href="https://brackwater.example/s.css"><p>Brackwater</p>`, []string{"style-sheet"}},
		{"form and script", `<form><input></form><script>x()</script><p>Brackwater</p>`, []string{"active-content", "active-content"}},
		{"paragraph in paragraph's block", `<p>a<div>b</div></p>`, []string{"block-in-inline"}},
		{"separator beside a blank", `<p>{{ cn }} | {{ mobile }}</p>`, []string{"blank-field"}},
		{"line of one blank field", `<p>{{ mobile }}</p>`, []string{"blank-field"}},
		{"two fields and a space", `<p>{{ title }} {{ ou }}</p>`, nil},
		{"stand-by", `<p>Role: {{ title | or 'Crew' }}</p>`, nil},
		{"joined pieces are safe", `<p data-join=" | "><b>{{ cn }}</b><b>M {{ mobile }}</b></p>`, nil},
		{"needed by an element around", `<div data-needs="mobile"><p>M: <a href="tel:{{ mobile | dial }}">{{ mobile }}</a></p></div>`, nil},
		{"any of two is not enough", `<p data-needs="mobile or title">M: {{ mobile }}</p>`, []string{"blank-field"}},
		{"line breaks part the lines", `<p>{{ cn }}<br>M: {{ mobile }}<br>{{ mail }}</p>`, []string{"blank-field"}},
		{"one label, two uses of the field", `<p>M: <a href="tel:{{ mobile | dial }}">{{ mobile | phone }}</a></p>`, []string{"blank-field"}},
		{"one of two fields is enough", `<p data-needs="mobile or telephoneNumber">Call {{ mobile or telephoneNumber }}</p>`, nil},
		{"neither of two fields", `<p>Call {{ mobile or telephoneNumber }}</p>`, []string{"blank-field"}},
		{"needed by its first field", `<p data-needs="mobile">Call {{ mobile or telephoneNumber }}</p>`, nil},
		{"shown and dialled, reported once",
			`<p data-needs="telephoneNumber"><a href="tel:{{ telephoneNumber | dial }}">{{ telephoneNumber | phone }}</a></p>`,
			[]string{"telephone-number"}},
		{"a part of an address", `<a href="https://brackwater.example/crew?id={{ uid }}">My page</a>`, []string{"blank-field"}},
		{"unknown field", `<p>{{ mobil }}</p>`, []string{LanguageID}},
		{"references are safe", `<p>Caf&eacute; &middot; &#8211;</p>`, nil},
		{"one finding for all letters", `<p>Café · Häfen</p>`, []string{"character-set"}},
		{"declared character set",
			`<html><head><meta http-equiv="Content-Type" content="text/html; charset=utf-8"></head><body>Café</body></html>`, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			tmpl := bare(t, c.html)
			r := run(t, Input{Template: tmpl, People: directory(t)})
			var got []string
			for _, f := range r.Findings {
				if f.Severity != client.Note {
					got = append(got, f.Check)
				}
			}
			sort.Strings(got)
			if strings.Join(got, " ") != strings.Join(c.want, " ") {
				t.Errorf("got %q, want %q\n%+v", got, c.want, r.Findings)
			}
		})
	}
}

var fault = regexp.MustCompile(`fault: ([a-z-]+)`)

// findingsOf are the findings of some checks.
func findingsOf(r *Report, ids ...string) []Finding {
	var list []Finding
	for _, f := range r.Findings {
		if slices.Contains(ids, f.Check) {
			list = append(list, f)
		}
	}
	return list
}

func TestRegattaEveryPlantedFaultAtItsLineAndNoneTwice(t *testing.T) {
	regatta, err := demo.Template("regatta")
	if err != nil {
		t.Fatal(err)
	}
	var want []string
	for i, line := range strings.Split(regatta.Source, "\n") {
		for _, m := range fault.FindAllStringSubmatch(line, -1) {
			want = append(want, fmt.Sprintf("%d %s", i+1, m[1]))
		}
	}
	r := run(t, Input{Template: regatta, People: directory(t)})
	var got []string
	for _, f := range r.Findings {
		got = append(got, fmt.Sprintf("%d %s", f.Line, f.Check))
	}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("found:\n%s\nplanted:\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	if !r.Fails() {
		t.Error("regatta does not fail")
	}
}

// TestHarbourHasOnlyWhatItsDirectoryLacks: one person's telephone number is none.
func TestHarbourHasOnlyWhatItsDirectoryLacks(t *testing.T) {
	harbour, err := demo.Template("harbour")
	if err != nil {
		t.Fatal(err)
	}
	r := run(t, Input{Template: harbour, People: directory(t)})
	if len(r.Findings) != 1 || r.Findings[0].Check != "telephone-number" || !strings.Contains(r.Findings[0].Message, "pelle.kranvik") {
		t.Errorf("findings: %+v", r.Findings)
	}
	if v := r.Verdict.String(); v != "Safe in 12 of 13 clients; crm-box needs a decision." { // its box is far too small
		t.Error(v)
	}
	if r.People != 80 {
		t.Errorf("%d people measured", r.People)
	}
}

func TestBudgetsAreOfTheWorstPerson(t *testing.T) {
	schema := person.NewSchema("mail", "cn", "mobile")
	people := &person.Directory{Schema: schema, People: []person.Person{
		{Values: []string{"short@brackwater.example", "A", ""}},
		{Values: []string{"ferry@brackwater.example", "⛴𝕬", ""}}, // three UTF-16 units
		{Values: []string{"long@brackwater.example", "Abc", "07700 900142"}},
	}}
	tmpl, err := template.New("x", template.Parts{
		Source:   `<b>{{ cn }}</b><i data-needs="mobile"><img data-picture="dot" alt="" width="10" height="10"></i>`,
		Settings: "country: GB\npictures:\n  address: https://p.brackwater.example/\n  files:\n    dot: {file: dot.png}\n",
		Pictures: map[string][]byte{"dot.png": pngOf(t, 10, 10)},
	})
	if err != nil {
		t.Fatal(err)
	}
	r := run(t, Input{Template: tmpl, People: people})
	picture := `<i><img alt="" width="10" height="10" src="https://p.brackwater.example/dot.png"></i>`
	want := map[string]Budget{
		"capped-webmail characters":      {Value: len("<b>Abc</b>") + len(picture), Person: "long@brackwater.example"},
		"wordproc-desktop picture-bytes": {Value: len(pngOf(t, 10, 10)), Person: "long@brackwater.example"},
		"append-rule characters":         {Value: len("<b>{cn}</b>") + len(picture), Person: ""},
		"text-reader columns":            {Value: 3, Person: "short@brackwater.example"}, // the separator line is the widest
	}
	for _, b := range r.Budgets {
		w, ok := want[b.Client+" "+string(b.Measure)]
		if !ok {
			continue
		}
		delete(want, b.Client+" "+string(b.Measure))
		if b.Client == "text-reader" {
			w = Budget{Value: 3, Person: b.Person}
		}
		if b.Value != w.Value || b.Person != w.Person {
			t.Errorf("%s %s: %d for %q, want %d for %q", b.Client, b.Measure, b.Value, b.Person, w.Value, w.Person)
		}
	}
	if len(want) > 0 {
		t.Errorf("not measured: %v", want)
	}
	// without the picture, the letters beyond the basic plane count two units
	people.People = people.People[:2]
	r = run(t, Input{Template: tmpl, People: people})
	for _, b := range r.Budgets {
		if b.Client == "capped-webmail" && b.Measure == client.Characters &&
			(b.Value != len("<b></b>")+3 || b.Person != "ferry@brackwater.example") {
			t.Errorf("%d units for %q, want 10 for ferry", b.Value, b.Person)
		}
	}
}

func TestWhatABlankFieldLeaves(t *testing.T) {
	for html, want := range map[string]string{
		`<div>Mobile: <a href="tel:{{ mobile | dial }}">{{ mobile }}</a></div>`:      `Then "Mobile:" stays and the link leads nowhere.`,
		`<div>Mobile: {{ mobile }}</div>`:                                            `Then "Mobile:" stays.`,
		`<div>Crew <a href="https://brackwater.example/?n={{ mobile }}">x</a></div>`: `Then the link's address lacks it.`,
		`<div>Crew <a href="{{ mobile }}">page</a></div>`:                            `Then the link leads nowhere.`,
		`<div>Crew</div><div>{{ mobile }}</div>`:                                     `Then an empty line stays.`,
	} {
		r := run(t, Input{Template: bare(t, html), People: directory(t)})
		if len(findingsOf(r, "blank-field", "link-target")) != 1 ||
			!strings.HasPrefix(findingsOf(r, "blank-field", "link-target")[0].Message,
				"mobile is blank for 41 of 80 people") || !strings.HasSuffix(findingsOf(r, "blank-field", "link-target")[0].Message, want) {
			t.Errorf("%s: %+v", html, r.Findings)
		}
	}
}

func TestValuesThatAreNoAddressAreTold(t *testing.T) {
	people := &person.Directory{Schema: person.NewSchema("mail", "labeledURI"), People: []person.Person{
		{Values: []string{"a@brackwater.example", "https://brackwater.example/a"}},
		{Values: []string{"b@brackwater.example", "javascript:alert(1)"}},
	}}
	r := run(t, Input{Template: bare(t, `<div data-needs="labeledURI"><a href="{{ labeledURI }}">My page</a></div>`), People: people})
	if len(findingsOf(r, "blank-field", "link-target")) != 1 ||
		findingsOf(r, "blank-field", "link-target")[0].Check != "link-target" ||
		!strings.Contains(findingsOf(r, "blank-field", "link-target")[0].Message, "1 of 2 people (b@brackwater.example)") {
		t.Errorf("%+v", r.Findings)
	}
}

// TestMessagesFitWhicheverClientIsAskedFirst: what one client ignores and another keeps is worded for both.
func TestMessagesFitWhicheverClientIsAskedFirst(t *testing.T) {
	tmpl := bare(t, `<img src="https://p.brackwater.example/a.png" alt="Ferry">Brackwater Ferries`)
	for _, ids := range [][]string{{"wordproc-desktop", "capped-webmail"}, {"capped-webmail", "wordproc-desktop"}} {
		profiles, err := client.Select(ids)
		if err != nil {
			t.Fatal(err)
		}
		got := findingsOf(run(t, Input{Template: tmpl, Profiles: profiles}), "picture-size")
		if len(got) != 1 || !strings.HasPrefix(got[0].Message, "A picture without width and height attributes: ") {
			t.Errorf("%v: %+v", ids, got)
		}
	}
}

func TestABudgetOverItsLimitFails(t *testing.T) {
	tmpl := bare(t, "<p>"+strings.Repeat("Ferry and harbour company. ", 400)+"</p><p>x</p>")
	r := run(t, Input{Template: tmpl, Profiles: []*client.Profile{client.Find("capped-webmail")}})
	if !r.Fails() || !r.Budgets[0].Exceeded() || r.Budgets[0].Value != 400*27-1+7+8 {
		t.Errorf("%+v", r.Budgets)
	}
}

func TestBareFilesAreAlsoJudgedAsTheyStand(t *testing.T) {
	r := run(t, Input{Template: bare(t, `<html><head><style>p { margin: 0 }</style></head><body><p>Harbour office</p></body></html>`)})
	if count(r, "style-sheet") != 1 || count(r, "document-tags") != 1 || r.Fails() {
		t.Errorf("%+v", r.Findings)
	}
}

func TestOnlyTheChosenClientsCount(t *testing.T) {
	tmpl := bare(t, `<div style="display: flex"><b>Harbour</b></div><i>x</i>`)
	if r := run(t, Input{Template: tmpl, Profiles: []*client.Profile{client.Find("capped-webmail")}}); len(r.Findings) > 0 {
		t.Errorf("capped-webmail: %+v", r.Findings)
	}
	if r := run(t, Input{Template: tmpl, Profiles: []*client.Profile{client.Find("text-reader")}}); len(r.Findings) > 0 {
		t.Errorf("text-reader: %+v", r.Findings)
	}
}

func TestMeasuringStops(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err := Run(ctx, Input{Template: bare(t, `<p>{{ cn }}</p>`), People: directory(t), Profiles: client.Shipped(), Day: day})
	if err == nil || !strings.Contains(err.Error(), "stopped") {
		t.Errorf("%v", err)
	}
}

// BenchmarkRun is what the workbench does at every pause in typing, for 200 people and all profiles. Beside it stands
// how often the same bytes could merely be tokenised in that time.
func BenchmarkRun(b *testing.B) {
	harbour, err := demo.Template("harbour")
	if err != nil {
		b.Fatal(err)
	}
	d, err := demo.Directory()
	if err != nil {
		b.Fatal(err)
	}
	people := &person.Directory{Schema: d.Schema}
	for i := range 200 { // everybody has numbers of their own
		who := person.Person{Values: slices.Clone(d.People[i%len(d.People)].Values)}
		for k, field := range []string{"telephoneNumber", "mobile"} {
			if column, _, _ := d.Schema.Column(field); who.At(column) != "" {
				who.Values[column] = fmt.Sprintf("+44 1632 960%03d", 400*k+i)
			}
		}
		people.People = append(people.People, who)
	}
	began := time.Now()
	rounds := 0
	for ; rounds < 200; rounds++ {
		z := html.NewTokenizer(strings.NewReader(harbour.Source))
		for z.Next() != html.ErrorToken {
		}
	}
	tokenising := time.Since(began) / time.Duration(rounds)
	for b.Loop() {
		if _, err := Run(context.Background(), Input{Template: harbour, People: people, Profiles: client.Shipped(), Day: day}); err != nil {
			b.Fatal(err)
		}
	}
	b.ReportMetric(float64(b.Elapsed())/float64(b.N)/float64(tokenising), "times-tokenising")
}

// A name that is blank for more than half of the people breaks; the fix shows one that is there.
func TestNamelessSignaturesBreak(t *testing.T) {
	directory := func(header string, rows ...string) *person.Directory {
		d, _, err := source.ReadCSV(strings.NewReader(header+"\n"+strings.Join(rows, "\n")+"\n"), source.Mapping{})
		if err != nil {
			t.Fatal(err)
		}
		return d
	}
	whole := directory("mail,givenName,sn,cn", "a@b.example,Ada,Lind,", "b@b.example,Bo,Tide,", "c@b.example,Cai,Quay,")
	displayed := directory("mail,cn,displayName", "a@b.example,,Ada Lind", "b@b.example,,Bo Tide", "c@b.example,Cai Quay,")
	for _, c := range []struct {
		source   string
		people   *person.Directory
		severity client.Severity
		fixed    string
	}{
		{`<p>{{ cn | upper }}, {{ mail }}</p>`, whole, client.Breaks, `<p>{{ givenName | upper }} {{ sn | upper }}, {{ mail }}</p>`},
		{`<p>{{ cn }}, {{ mail }}</p>`, displayed, client.Breaks, `<p>{{ cn or displayName }}, {{ mail }}</p>`},
		{`<p>{{ displayName }}, {{ mail }}</p>`, displayed, client.Degrades, `<p>{{ displayName or cn }}, {{ mail }}</p>`},
		{`<p>{{ givenName }} {{ sn }}</p>`, whole, "", ""},
		{`<p>{{ mail }}</p>`, whole, "", ""},
	} {
		tmpl, err := template.New("x", template.Parts{Source: c.source})
		if err != nil {
			t.Fatal(err)
		}
		r, err := Findings(t.Context(), Input{Template: tmpl, People: c.people, Profiles: client.Shipped(), Day: day})
		if err != nil {
			t.Fatal(err)
		}
		var severity client.Severity
		fixed := ""
		for _, f := range r.Findings {
			if f.Check == "name-blank" {
				severity = f.Severity
				if f.Fix != nil {
					fixed, _ = edit.Apply(tmpl.Source, f.Fix.Edits)
				}
			}
		}
		if severity != c.severity || fixed != c.fixed {
			t.Errorf("%s: %q, fixed %s, want %q, %s", c.source, severity, fixed, c.severity, c.fixed)
		}
	}
}
