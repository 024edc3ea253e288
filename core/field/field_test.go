package field

import (
	"errors"
	"strings"
	"testing"

	"missivum/core/markup"
	"missivum/core/person"
)

var schema = person.NewSchema("cn", "givenName", "sn", "mail", "title", "ou", "telephoneNumber", "mobile", "c", "labeledURI",
	"preferredLanguage", "postalAddress", "hireDate").
	WithConstants(map[string]string{"switchboard": "01632 960100", "motto": "Ferries & more",
		"links": "https://a.example/ Tides\nhttps://b.example/"},
		map[string]person.Texts{"desk": {"en": "Desk", "sv": "Växel", "fr-CA": "Bureau"}, "gate": {"fi": "Portti"}}, "en", "fi")

// somebody makes a person of name and value pairs.
func somebody(pairs ...string) *person.Person {
	p := &person.Person{Values: make([]string, schema.Len())}
	for i := 0; i < len(pairs); i += 2 {
		column, _, _ := schema.Column(pairs[i])
		p.Values[column] = pairs[i+1]
	}
	return p
}

func source(t testing.TB, html string) *Source {
	t.Helper()
	d, err := markup.Parse(html)
	if err != nil {
		t.Fatal(err)
	}
	return &Source{Doc: d, Schema: schema, Variants: []string{"new", "reply"}}
}

func fill(t testing.TB, html, variant string, p *person.Person) string {
	t.Helper()
	table := NewTable(schema, "GB")
	program, err := CompileHTML(source(t, html), table, variant)
	if err != nil {
		t.Fatalf("compiling %q: %v", html, err)
	}
	f := NewFiller(table)
	f.Set(p)
	return string(program.Append(nil, f))
}

func TestFill(t *testing.T) {
	maren := somebody("cn", "Maren Lind", "sn", "Lind", "mail", "maren.lind@brackwater.example", "mobile", "07700 900142",
		"c", "GB", "title", "Cook & Deckhand", "preferredLanguage", "en")
	ipek := somebody("cn", "İpek Işıklı", "sn", "ışıklı", "preferredLanguage", "tr", "c", "DE", "telephoneNumber", "040 66969 012")
	for _, c := range []struct {
		name, html, want string
		who              *person.Person
	}{
		{"text", `<p>{{ cn }}</p>`, `<p>Maren Lind</p>`, maren},
		{"alias and letter case", `{{ SURNAME }} {{ commonname }}`, `Lind Maren Lind`, maren},
		{"escaped in text", `{{ title }}`, `Cook &amp; Deckhand`, maren},
		{"stand-by", `{{ ou | or 'Crew' }} {{title | or "x"}}`, `Crew Cook &amp; Deckhand`, maren},
		{"phone and dial", `<a href="tel:{{ mobile | dial }}">{{ mobile | phone }}</a>`,
			`<a href="tel:+447700900142">+44 7700 900142</a>`, maren},
		{"phone of the person's country", `{{ telephoneNumber | phone }}`, `+49 40 66969012`, ipek},
		{"not a number", `{{ telephoneNumber | phone }}`, `ask inside`, somebody("telephoneNumber", "ask inside")},
		{"upper by language", `{{ sn | upper }}`, `IŞIKLI`, ipek},
		{"initials", `{{ cn | initials }}`, `ML`, maren},
		{"chained", `{{ ou | or 'deck crew' | upper }}`, `DECK CREW`, maren},
		{"mail address", `<a href="mailto:{{ mail }}">x</a>`, `<a href="mailto:maren.lind@brackwater.example">x</a>`, maren},
		{"part of an address", `<a href="https://brackwater.example/staff/{{ cn }}?x={{ title }}">x</a>`,
			`<a href="https://brackwater.example/staff/Maren%20Lind?x=Cook%20%26%20Deckhand">x</a>`, maren},
		{"single quotes in the source", `<i title='a "{{ cn }}" b'>x</i>`, `<i title="a &quot;Maren Lind&quot; b">x</i>`, maren},
		{"style", `<i style="color: {{ title }}">x</i>`, `<i style="color: Cook  Deckhand">x</i>`, maren},
		{"first of several fields", `{{ ou or title or cn | upper }} {{ telephoneNumber or mobile | phone }}`,
			`COOK &amp; DECKHAND +44 7700 900142`, maren},
		{"none of several fields", `{{ ou or telephoneNumber | or 'x' }}`, `x`, maren},
		{"constant", `{{ org.motto }} <a href="tel:{{ org.switchboard | dial }}">{{ org.switchboard | phone }}</a>`,
			`Ferries &amp; more <a href="tel:+441632960100">+44 1632 960100</a>`, maren},
		{"text in the person's language", `{{ text.desk }}`, `Växel`, somebody("preferredLanguage", "sv-FI")},
		{"text in the template's language", `{{ text.desk | upper }}`, `DESK`, ipek},
		{"national and separators", `{{ telephoneNumber | national }} {{ telephoneNumber | phone | separated '.' }}`,
			`040 66969012 +49.40.66969012`, ipek},
		{"address lines", `{{ postalAddress | lines ' | ' }}`, `1 Tide Quay | Brackwater | a$b`,
			somebody("postalAddress", "1 Tide  Quay$ $Brackwater\na\\24b")},
		{"title case by language", `{{ sn | capital }}`, `Işıklı`, ipek},
		{"literal braces", `{{ '{{' }} {{ "}}" }}`, `{{ }}`, maren},
		{"stand-by with references in an attribute", `<i title="{{ ou | or &quot;a &amp; b&quot; }}">x</i>`, `<i title="a &amp; b">x</i>`, maren},
		{"needs", `<p data-needs="mobile">M {{ mobile }}</p><p data-needs="ou">O {{ ou }}</p>`, `<p>M 07700 900142</p>`, maren},
		{"needs all", `<p data-needs="mobile ou">x</p><p data-needs="mobile, title">y</p>`, `<p>y</p>`, maren},
		{"needs any", `<p data-needs="mobile or ou">x</p><p data-needs="ou or telephoneNumber">y</p>`, `<p>x</p>`, maren},
		{"unless", `<p data-unless="ou">x</p><p data-unless="ou mobile">y</p>`, `<p>x</p>`, maren},
		{"both", `<p data-needs="mobile" data-unless="ou">x</p>`, `<p>x</p>`, maren},
		{"nested", `<div data-needs="mobile"><p data-needs="ou">x</p>y</div>z`, `<div>y</div>z`, maren},
		{"join", `<p data-join=" | "> <b data-needs="ou">{{ ou }}</b> <b data-needs="title">{{ title }}</b> <b>{{ ` +
			`mail }}</b> <b>{{ telephoneNumber }}</b> </p>`,
			`<p><b>Cook &amp; Deckhand</b> | <b>maren.lind@brackwater.example</b></p>`, maren},
		{"join within join", `<p data-join=" / "><i data-join="-"><b>{{ cn }}</b><b>{{ title }}</b></i><i>{{ mail }}</i></p>`,
			`<p><i><b>Maren Lind</b>-<b>Cook &amp; Deckhand</b></i> / <i>maren.lind@brackwater.example</i></p>`, maren},
		{"plain comments go, conditions stay", `a<!-- note --><!--[if x]>{{ cn }}<![endif]-->`, `a<!--[if x]>Maren Lind<![endif]-->`, maren},
		{"variant", `<p data-in="new">n</p><p data-in="reply, new">b</p><p data-in="reply">r</p>`, `<p>n</p><p>b</p>`, maren},
		{"day in the person's language", `{{ hireDate | date 'long' }}, {{ hireDate | date 'dd.MM.yy' }}`,
			`14 mars 2027, 14.03.27`, somebody("hireDate", "20270314093000Z", "preferredLanguage", "sv-FI")},
		{"day of somebody without a language", `{{ hireDate | date "EEEE d MMM y" }}`, `Sunday 14 Mar 2027`, somebody("hireDate", "2027-03-14")},
		{"what is no day", `{{ hireDate | date 'long' }}`, `last spring`, somebody("hireDate", "last spring")},
		{"text in the organisation's language", `{{ text.gate }}`, `Portti`, maren},
		{"list field", `<p><a data-each="labeledURI" href="{{ entry.address }}">{{ entry.label | upper }}</a>.</p>`,
			`<p><a href="https://a.example/x;y">CREW &amp; KIT</a><a href="https://b.example/">HTTPS://B.EXAMPLE/</a>.</p>`,
			somebody("labeledURI", "https://a.example/x;y Crew & kit;  https://b.example/\n ;")},
		{"list without entries", `<p>a<a data-each="labeledURI" href="{{ entry.address }}">{{ entry }}</a>b</p>`,
			`<p>ab</p>`, somebody("labeledURI", " ; ")},
		{"list of constants, joined",
			`<p data-join=" | "><b>{{ cn }}</b><i data-each="org.links">{{ entry.label }}</i><b>{{ ou }}</b></p>`,
			`<p><b>Maren Lind</b> | <i>Tides</i> | <i>https://b.example/</i></p>`, maren},
		{"list in a list", `<p data-each="ou">{{ entry }}<i data-each="title">{{ entry }}</i>{{ entry }}</p>`,
			`<p>a<i>x</i><i>y</i>a</p><p>b<i>x</i><i>y</i>b</p>`, somebody("ou", "a\nb", "title", "x; y")},
		{"list of unsafe addresses", `<a data-each="labeledURI" href="{{ entry.address }}">x</a>`, `<a href="">x</a>`,
			somebody("labeledURI", "javascript:alert(1)")},
		{"number of the organisation", `{{ org.switchboard | phone }}, {{ '01632 960100' | dial }}`, `+44 1632 960100, +441632960100`, ipek},
		{"initials by the rules of the language", `{{ sn | initials }}`, `I`, ipek},
		{"initials of a word with a combining mark", `{{ cn | initials }}`, "A\u030aO", somebody("cn", "a\u030ake olle")},
		{"percent in an address and in a text", `<a href="https://a.example/?q={{ cn | percent }}">{{ cn | percent }}</a>`,
			`<a href="https://a.example/?q=Maren%20Lind">Maren%20Lind</a>`, maren},
		{"white space is a blank", `<p data-needs="ou">x</p>y`, `y`, somebody("ou", " \t\u200b ")},
	} {
		t.Run(c.name, func(t *testing.T) {
			if got := fill(t, c.html, "new", c.who); got != c.want {
				t.Errorf("got  %s\nwant %s", got, c.want)
			}
		})
	}
}

func TestModifierExamplesOfTheReference(t *testing.T) {
	for _, k := range ModifierKinds() {
		pieces := strings.Fields(strings.Trim(k.Example, "{} "))
		p := somebody(pieces[0], k.Input, "c", "GB", "preferredLanguage", "en")
		if got := fill(t, k.Example, "new", p); got != k.Output {
			t.Errorf("%s of %q is %q, the reference says %q", k.Example, k.Input, got, k.Output)
		}
	}
}

// Attributes that generators and scripts leave behind are dropped; they refuse nothing.
func TestForeignAttributesAreDropped(t *testing.T) {
	src := source(t, `<p data-gen="x" data-id=4 data-role data-needs="cn" data-source="{{ nonsense }}" id="a">{{ cn }}</p>`)
	if errs := src.Validate(); len(errs) > 0 {
		t.Fatal(errs)
	}
	program, err := CompileHTML(src, NewTable(src.Schema, ""), "")
	if err != nil {
		t.Fatal(err)
	}
	f := NewFiller(program.Table)
	f.Set(somebody("cn", "Ada"))
	if got := string(program.Append(nil, f)); got != `<p id="a">Ada</p>` {
		t.Error(got)
	}
	for name, meant := range map[string]string{"data-need": "data-needs", "data-nees": "data-needs", "data-id": "", "data-gen": "",
		"data-role": "", "data-pictures": "data-picture", "data-join-x": ""} {
		if got := Meant(name); got != meant {
			t.Errorf("%s is taken for %q, want %q", name, got, meant)
		}
	}
}

func TestMistakesAreAllFoundWithTheirPlaces(t *testing.T) {
	html := "<p>{{ mobil }}\n<i data-needs=\"titel\" data-in=\"replay\">{{ cn | phon }}</i>\n<b data-need=\"cn\" " +
		"onclick=\"{{ cn }}\">{{ cn uper }}</b>{{ }}\n<style>p { color: {{ cn }} }</style><u {{ cn }}>\n{{ sn | or " +
		"}}{{ mail | upper 'x' }}{{ 'x }}\n{{ entry }}<i data-each=\"titel\">{{ mobile | upper | initials | dial " +
		"}}{{ sn | separated '.' }}{{ sn | date 'YYYY' }}</i>"
	want := []struct {
		line, column int
		text, near   string
	}{
		{1, 7, `no field "mobil"`, "mobile"},
		{2, 16, `no field "titel"`, "title"},
		{2, 32, `no variant "replay"`, "reply"},
		{2, 48, `no modifier "phon"`, "phone"},
		{3, 19, `would run as a program`, ""},
		{3, 44, `A bar (|) must stand before "uper"`, ""},
		{3, 57, `no field between`, ""},
		{4, 21, `cannot stand in a <style>`, ""},
		{4, 40, `cannot stand among the attributes`, ""},
		{5, 12, `needs a text in quotes`, ""},
		{5, 30, `takes no text`, ""},
		{5, 39, `not closed`, ""},
		{6, 1, `only in an element with data-each`, ""},
		{6, 26, `no list "titel"`, "title"},
		{6, 63, `put it before initials`, ""},
		{6, 78, `stands behind one that shows a telephone number`, ""},
		{6, 108, `"YYYY" is no part of a date`, ""},
	}
	var got []Error
	for _, e := range source(t, html).Validate() {
		if !strings.Contains(e.Message, "cannot stand among the attributes") || len(got) == 0 ||
			got[len(got)-1].Line != e.Line || !strings.Contains(got[len(got)-1].Message, "among") {
			got = append(got, e)
		}
	}
	if len(got) != len(want) {
		t.Fatalf("%d mistakes, want %d:\n%v", len(got), len(want), Errors(got))
	}
	for i, w := range want {
		e := got[i]
		if e.Line != w.line || e.Column != w.column || !strings.Contains(e.Message, w.text) || w.near != "" &&
			(len(e.Nearest) == 0 || e.Nearest[0] != w.near) {
			t.Errorf("mistake %d: %v (nearest %v)\nwant %d:%d %s (%s)", i, e, e.Nearest, w.line, w.column, w.text, w.near)
		}
	}
	_, err := CompileHTML(source(t, html), NewTable(schema, ""), "new")
	var errs Errors
	if !errors.As(err, &errs) {
		t.Errorf("compiling gave %v, want all mistakes", err)
	}
}

func TestUnsafeAddressesAreNotWritten(t *testing.T) {
	for value, want := range map[string]string{
		"https://brackwater.example/a?b=c&d": `<a href="https://brackwater.example/a?b=c&amp;d">x</a>`,
		"javascript:alert(1)":                `<a href="">x</a>`,
		"JavaScript\t:alert(1)":              `<a href="">x</a>`,
		"data:text/html,x":                   `<a href="">x</a>`,
		"/a:b":                               `<a href="/a:b">x</a>`,
		`https://x/"onclick="y`:              `<a href="https://x/%22onclick=%22y">x</a>`,
	} {
		if got := fill(t, `<a href="{{ labeledURI }}">x</a>`, "new", somebody("labeledURI", value)); got != want {
			t.Errorf("%q: got %s, want %s", value, got, want)
		}
	}
}

// FuzzCompile: whatever the template and the value, the value never becomes markup.
func FuzzCompile(f *testing.F) {
	f.Add(`<p data-needs="cn">{{ cn | upper }} <a href="{{ cn }}" style="color:{{ cn }}">x</a></p>`, "<b>")
	f.Add(`<i title='{{ cn | or "x" }}' data-join="|"><b>{{ cn }}</b></i>`, `"'><script>`)
	f.Add(`<table><tr data-each="cn"><td rowspan=2>{{ entry.label }}<td data-needs="cn" colspan=3><tr><td data-unless=cn></table>`, "a b")
	f.Add(`{{ '{{' }}{{ cn | initials | phone | dial }}`, "javascript:x")
	f.Fuzz(func(t *testing.T, html, value string) {
		d, err := markup.Parse(html)
		if err != nil || len(html) > 4000 {
			return
		}
		s := &Source{Doc: d, Schema: schema, Variants: []string{"new"}}
		table := NewTable(schema, "GB")
		program, err := CompileHTML(s, table, "new")
		if err != nil {
			return
		}
		shape := func(p *person.Person) string {
			filler := NewFiller(table)
			filler.Set(p)
			out, err := markup.Parse(string(program.Append(nil, filler)))
			if err != nil {
				return err.Error()
			}
			var b strings.Builder
			out.Root.Walk(func(n *markup.Node) bool {
				if n.Kind != markup.Text {
					b.WriteString(n.Name + " ")
					for _, a := range n.Attrs {
						b.WriteString(a.Name + " ")
					}
				}
				return true
			})
			return b.String()
		}
		if person.IsBlank(value) || len(entries(value)) != 1 { // each entry of a list may have an element of its own
			return
		}
		if harmless, hostile := shape(somebody("cn", "x")), shape(somebody("cn", value)); harmless != hostile {
			t.Fatalf("the value %q changes the structure of %q:\n%s\n%s", value, html, harmless, hostile)
		}
	})
}
