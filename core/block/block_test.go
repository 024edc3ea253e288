package block

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"missivum/core/person"
	"missivum/core/template"
	"missivum/demo"
)

var day = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

var few = &person.Directory{Schema: person.NewSchema("mail", "cn", "title", "mobile", "c", "callSign", "preferredLanguage"),
	People: []person.Person{
		{Values: []string{"a@brackwater.example", "Agnes", "Cook", "07700 900142", "GB", "brack 4", "en"}},
		{Values: []string{"b@brackwater.example", "Bo", "", "+44 7700 900143", "GB", "", ""}},
		{Values: []string{"c@brackwater.example", "Cai", "Cook", "", "GB", "", "sv"}},
	}}

func export(t *testing.T, source, dialect string, people *person.Directory) Exported {
	t.Helper()
	tmpl, err := template.New("x", template.Parts{Source: source,
		Settings: "country: GB\nlanguage: en\norganisation: {line: 01632 960100}\ntexts: {desk: {en: Desk, sv: Disk}}"})
	if err != nil {
		t.Fatal(err)
	}
	x, err := ExportTemplate(tmpl, few.Schema, "new", day, Find(dialect), people)
	if err != nil {
		t.Fatal(err)
	}
	return x
}

func TestExport(t *testing.T) {
	for _, c := range []struct {
		name, source, dialect, block string
		losses                       []string // kind and people, in the order of the source
	}{
		{"plain", `<p>{{ cn }}</p>`, "brace", `<p>{cn}</p>`, nil},
		{"the host's own names", `<p>{{ cn }} {{ title }}</p>`, "percent", `<p>%full name% %job title%</p>`, nil},
		{"what is needed stays", `<p data-needs="mobile">M: {{ mobile }}</p>`, "brace", `<p>M: {mobile}</p>`,
			[]string{"blank 1 c@brackwater.example"}},
		{"what must not be goes", `<p data-unless="title">New here</p><p>x</p>`, "brace", `<p>x</p>`, []string{"blank 1 b@brackwater.example"}},
		{"modifier", `{{ mobile | phone }}`, "brace", `{mobile}`, []string{"modifier 1 a@brackwater.example"}},
		{"stand-by", `{{ title | or 'Crew' }}`, "brace", `{title}`, []string{"stand-by 1 b@brackwater.example"}},
		{"a number to dial", `<a href="tel:{{ mobile | dial }}">x</a>`, "brace", `<a href="tel:{mobile}">x</a>`,
			[]string{"modifier 2 a@brackwater.example b@brackwater.example"}},
		{"joined pieces", `<p data-join=", "><b data-needs="cn">{{ cn }}</b><b data-needs="title">{{ title }}</b></p>`,
			"brace", `<p><b>{cn}</b>, <b>{title}</b></p>`, []string{"blank 1 b@brackwater.example"}},
		{"variants and attributes", `<p data-in="new" title="{{ cn }}">n</p><p data-in="reply">r</p>`, "brace", `<p title="{cn}">n</p>`, nil},
		{"first of several", `{{ mobile or title }}`, "brace", `{mobile}`, []string{"field 1 c@brackwater.example"}},
		{"constant", `{{ org.line | phone }}`, "brace", `+44 1632 960100`, nil},
		{"text by language", `{{ text.desk }}`, "brace", `Desk`, []string{"language 1 c@brackwater.example"}},
		{"literal braces", `{{ '{{' }}`, "brace", `{{`, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			x := export(t, c.source, c.dialect, few)
			if x.Block != c.block || x.Characters != len(c.block) {
				t.Errorf("block %q of %d characters, want %q", x.Block, x.Characters, c.block)
			}
			var got []string
			for _, l := range x.Losses {
				if l.Line != 1 || l.Column == 0 || l.Message == "" || !l.Counted {
					t.Errorf("loss %+v", l)
				}
				got = append(got, l.Kind+" "+string(rune('0'+l.People))+" "+strings.Join(l.Who, " "))
			}
			if strings.Join(got, "; ") != strings.Join(c.losses, "; ") {
				t.Errorf("losses %q, want %q", got, c.losses)
			}
		})
	}
}

// A field that the host has no name for is refused, at its place, and is never passed through.
func TestUnknownFieldIsAnError(t *testing.T) {
	tmpl, err := template.New("x", template.Parts{Source: "<p>{{ cn }}</p>\n<p>Room {{ roomNumber }}</p>"})
	if err != nil {
		t.Fatal(err)
	}
	x, err := ExportTemplate(tmpl, person.NewSchema("mail", "cn", "roomNumber"), "new", day, Find("percent"), nil)
	if err == nil || !strings.Contains(err.Error(),
		"line 2, column 9: The dialect percent has no name for the field roomNumber") || x.Block != "" {
		t.Errorf("%q, %v", x.Block, err)
	}
}

func TestWithoutADirectoryLossesAreListedUncounted(t *testing.T) {
	x := export(t, `<p data-needs="mobile">{{ mobile | phone }}</p>`, "brace", nil)
	if len(x.Losses) != 2 || x.Losses[0].Counted || x.Losses[0].People != 0 {
		t.Errorf("%+v", x.Losses)
	}
}

func TestListsAndTables(t *testing.T) {
	x := export(t, `<table><tr><td>{{ cn }}</td><td data-needs="mobile">M</td></tr><tr data-each="title"><td `+
		`colspan="2">{{ entry }}</td></tr><tr data-unless="mobile"><td colspan="2">x</td></tr></table>`,
		"brace", few)
	if x.Block != "<table><tr><td>{cn}</td><td>M</td></tr></table>" {
		t.Errorf("block %s", x.Block)
	}
	var reported []string
	for _, l := range x.Losses {
		reported = append(reported, fmt.Sprint(l.Kind, " ", l.Field, " ", l.People))
	}
	if got := strings.Join(reported, "; "); got != "blank mobile 1; list title 2; blank mobile 1" {
		t.Errorf("losses %s", got)
	}
}

func TestDialects(t *testing.T) {
	for _, d := range Dialects() {
		if Find(d.ID) != d || d.About == "" || !d.Example || !strings.HasPrefix(d.Title, "Example: ") {
			t.Errorf("%+v", d)
		}
		for field := range d.Names {
			if name, ok := person.Canonical(field); field != "callSign" && (!ok || name != field) {
				t.Errorf("%s maps %q, which is no standard field", d.ID, field)
			}
		}
	}
	for _, wrong := range []string{"id: x", "id: x\ntitle: y\nopen: a\nclose: b\nnames: {cn: x}\nextra: 1", "["} {
		if _, err := Parse([]byte(wrong)); err == nil {
			t.Errorf("%q is accepted", wrong)
		}
	}
}

func TestHarbourFitsBothHosts(t *testing.T) {
	harbour, err := demo.Template("harbour")
	if err != nil {
		t.Fatal(err)
	}
	d, err := demo.Directory()
	if err != nil {
		t.Fatal(err)
	}
	for _, dialect := range Dialects() {
		x, err := ExportTemplate(harbour, d.Schema, "new", day, dialect, d)
		if err != nil {
			t.Fatal(err)
		}
		if x.Characters > x.Limit || len(x.Losses) < 10 || strings.Contains(x.Block, "{{") || strings.Contains(x.Block, "data-") {
			t.Errorf("%s: %d of %d characters, %d losses", dialect.ID, x.Characters, x.Limit, len(x.Losses))
		}
	}
}
