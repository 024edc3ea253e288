package block

import (
	"strings"
	"testing"

	"missivum/core/client"
	"missivum/core/problem"
	"missivum/core/template"
	"missivum/demo"
)

func TestPhrases(t *testing.T) {
	long := strings.Repeat("long words ", 8)
	for _, c := range []struct{ name, source, want string }{
		{"what all have", `<p>{{ cn }}</p><p>Brackwater Ferries, by sea</p>`, "Brackwater Ferries, by sea"},
		{"not what some lack", `<p data-needs="title">Always on the quay</p><p>{{ cn }}</p>`, ""},
		{"not a number that becomes a link", `<p>Ring us on 01632 960100</p>`, ""},
		{"not an address", `<p>Write to quay@brackwater.example</p>`, ""},
		{"not one word", `<p>Brackwater-Ferries</p>`, ""},
		{"not letters that another character set loses", `<p>Fähren über das Wasser</p>`, ""},
		{"not what is too long", `<p>` + long + `</p>`, ""},
		{"the one near the right length", `<p>Ferries of the bay</p><p>Brackwater Ferries, the harbour company</p>`,
			"Brackwater Ferries, the harbour company"},
		{"not what a client does not show", `<p>{{ cn }}</p><style>p { color: red } /* never seen here */</style>`, ""},
	} {
		tm, err := template.New("x", template.Parts{Source: c.source})
		if err != nil {
			t.Fatal(err)
		}
		list, err := Phrases(tm, few.Schema, "new", day, few, client.Shipped())
		if err != nil {
			t.Fatal(err)
		}
		got := ""
		if p := (Sheet{Phrases: list}).Phrase(); p != nil {
			got = p.Text
		}
		if got != c.want {
			t.Errorf("%s: %q, want %q of %+v", c.name, got, c.want, list)
		}
	}
}

// The sheet of the demo says all that an administrator decides, and nothing in it is markup that came from outside.
func TestRuleSheet(t *testing.T) {
	harbour, err := demo.Template("harbour")
	if err != nil {
		t.Fatal(err)
	}
	d, err := demo.Directory()
	if err != nil {
		t.Fatal(err)
	}
	own, err := Parse([]byte("id: own\ntitle: Our <host>\nopen: '[['\nclose: ']]'\nlimit: 100\nnames: {cn: Name, " +
		"title: Job, ou: Unit, telephoneNumber: Phone, " +
		"mobile: Mobile, mail: Email, street: Street, postalCode: Code, l: City, co: Country, callSign: Custom}\n"))
	if err != nil {
		t.Fatal(err)
	}
	s := Sheet{Title: "Harbour", Version: "1", Dialect: own, Day: day, For: "All staff", Except: "inside", File: "block.html"}
	if s.Block, err = ExportTemplate(harbour, d.Schema, "new", day, own, d); err != nil {
		t.Fatal(err)
	}
	if s.Phrases, err = Phrases(harbour, d.Schema, "new", day, d, client.Shipped()); err != nil {
		t.Fatal(err)
	}
	page, err := s.HTML()
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"Our &lt;host&gt;", "in <b>All staff</b>", "<li>inside</li>",
		"Brackwater Ferries, the harbour company.", "all 80 people",
		"block.html", "[[…]]", "over the host’s limit", "bo@brackwater.example", "1 person<"} {
		if !strings.Contains(string(page), want) {
			t.Errorf("the sheet does not say %q", want)
		}
	}
	if n := strings.Count(string(page), `type="checkbox"`); n != 13 {
		t.Errorf("%d steps", n)
	}
	s.Phrases, s.For = nil, ""
	if page, err = s.HTML(); err != nil || !strings.Contains(string(page), "No phrase keeps it from piling up") ||
		!strings.Contains(string(page), "anybody in the organisation") {
		t.Errorf("without a phrase: %v", err)
	}
}

func TestDialectsOfOnesOwn(t *testing.T) {
	good := "id: own\ntitle: Own\nopen: '['\nclose: ']'\nnames:\n  cn: Name\n"
	if _, err := Parse([]byte(good)); err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct{ text, says string }{
		"no names": {"id: own\ntitle: Own\nopen: a\nclose: b\nnames: {}\n", "line 5"}, "unknown member": {good + "colour: red\n", "colour"},
		"a name twice": {good + "  displayName: Name\n", "same name"}, "a name with the end in it": {good + "  l: Ci]ty\n", "ends a placeholder"},
		"limit below 0": {good + "limit: -1\n", "line 7"}, "no marks": {"id: own\ntitle: Own\nnames: {cn: x}\n", "line 1"},
	} {
		if _, err := Parse([]byte(c.text)); !problem.Is(err, problem.Refused) || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func FuzzParseDialect(f *testing.F) {
	f.Add([]byte("id: own\ntitle: Own\nopen: '['\nclose: ']'\nnames:\n  cn: Name\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if d, err := Parse(data); err == nil && (d.Open == "" || d.Close == "" || len(d.Names) == 0) {
			t.Errorf("%q is accepted", data)
		}
	})
}
