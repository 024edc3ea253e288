package richtext_test

import (
	"strings"
	"testing"
	"time"

	"missivum/core/compose"
	"missivum/core/person"
	"missivum/core/template"
	"missivum/demo"
)

// TestAlternativeTextsAreFilled: fields in the alternative text of an embedded picture are filled and escaped like
// everywhere.
func TestAlternativeTextsAreFilled(t *testing.T) {
	harbour, err := demo.Template("harbour")
	if err != nil {
		t.Fatal(err)
	}
	logo := harbour.Picture("logo").Data
	for alt, want := range map[string]string{
		`Portrait of {{ cn }}`: `{\*\picprop{\sp{\sn wzDescription}{\sv Portrait of Ann \{B\} \u214\'3f}}}\pngblip`,
		`Ferry`:                `{\*\picprop{\sp{\sn wzDescription}{\sv Ferry}}}\pngblip`,
		``:                     `{\pict\pngblip`,
	} {
		tmpl, err := template.New("x", template.Parts{
			Source:   `<p>{{ cn }}<img data-picture="logo" width="40" height="40" alt="` + alt + `"> sails</p>`,
			Settings: "pictures: {files: {logo: {file: logo.png, alt: x}}}",
			Pictures: map[string][]byte{"logo.png": logo},
		})
		if err != nil {
			t.Fatal(err)
		}
		schema := person.NewSchema("mail", "cn")
		s, err := compose.Compile(compose.Source{Template: tmpl, Schema: schema,
			Day: time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC), Variants: []string{"new"}}, compose.RTF)
		if err != nil {
			t.Fatal(err)
		}
		out := string(s.Fill("new", compose.RTF, &person.Person{Values: []string{"a@brackwater.example", "Ann {B} Ö"}}))
		if !strings.Contains(out, want) || strings.Contains(out, "{{") ||
			strings.Count(out, "{")-strings.Count(out, `\{`) != strings.Count(out, "}")-strings.Count(out, `\}`) {
			t.Errorf("%q:\n%.400s\nlacks %s", alt, out, want)
		}
	}
}

// Links in links and text beside the cells of a table lose nothing, and the result can be read.
func TestOddMarkupLosesNothing(t *testing.T) {
	schema := person.NewSchema("mail", "cn", "title")
	for source, want := range map[string][]string{
		`<p><a href="https://a.example">one <a href="https://b.example">two</a> three</a></p>`:               {"one", "two", "three"},
		`<p><a href="https://a.example"><span>one <b><a href="https://b.example">two</a></b></span></a></p>`: {"one", "two"},
		`<table>stray<tr><td>in</td></tr></table>`:                                                           {"stray", "in"},
		`<table><tr>stray<td>in</td></tr>behind<p>block</p></table>`: {"stray",
			"behind", "block", "in"},
		`<table><caption>title</caption><tbody>stray<tr data-needs="title">needs<td>in</td></tr></tbody></table>`: {"title", "stray"},
		`<table><tr><td><table>{{ cn }}<tr><td>deep</td></tr></table></td></tr></table>`:                          {"Ann", "deep"},
	} {
		tmpl, err := template.New("x", template.Parts{Source: source})
		if err != nil {
			t.Fatal(err)
		}
		s, err := compose.Compile(compose.Source{Template: tmpl, Schema: schema, Variants: []string{"new"}}, compose.RTF)
		if err != nil {
			t.Fatal(err)
		}
		out := string(s.Fill("new", compose.RTF, &person.Person{Values: []string{"a@brackwater.example", "Ann", ""}}))
		for _, word := range want {
			if !strings.Contains(out, word) {
				t.Errorf("%s loses %q:\n%s", source, word, out)
			}
		}
		if strings.Contains(out, "needs") || strings.Count(out, "fldinst") > 1 || strings.Count(out, "{") != strings.Count(out, "}") {
			t.Errorf("%s:\n%s", source, out)
		}
	}
}

// TestAddressesAreThoseOfThePage: what looks like a reference in an address and is none stays as it is, in text and in rich
// text as on the page (HTML, 13.2.5.73).
func TestAddressesAreThoseOfThePage(t *testing.T) {
	tmpl, err := template.New("x", template.Parts{
		Source: `<p><a href="https://www.brackwater.example/?a=1&region=2&amp;b=3&copy=4">Fares</a></p>`})
	if err != nil {
		t.Fatal(err)
	}
	s, err := compose.Compile(compose.Source{Template: tmpl, Schema: person.NewSchema("mail"),
		Day: time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC), Variants: []string{"new"}})
	if err != nil {
		t.Fatal(err)
	}
	const address = `https://www.brackwater.example/?a=1&region=2&b=3&copy=4`
	for _, form := range []compose.Form{compose.Text, compose.RTF} {
		if out := string(s.Fill("new", form, &person.Person{Values: []string{"a@brackwater.example"}})); !strings.Contains(out, address) {
			t.Errorf("%s\nlacks %s", out, address)
		}
	}
}
