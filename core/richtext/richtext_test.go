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
