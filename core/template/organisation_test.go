package template

import (
	"strings"
	"testing"

	"missivum/core/person"
	"missivum/core/problem"
)

// TestWhatTheOrganisationSaysStandsUnderTheTemplate: its constants, texts, language and country are there, the template's own
// win, and each value says where it is from.
func TestWhatTheOrganisationSaysStandsUnderTheTemplate(t *testing.T) {
	home := Organisation{
		Constants: map[string]string{"company": "Brackwater Ferries", "web": "www.brackwater.example", "unused": "x"},
		Texts:     map[string]person.Texts{"greeting": {"en": "Kind regards", "de": "Mit freundlichen Grüßen"}, "legal": {"en": "Legal"}},
		Language:  "en", Country: "GB",
	}
	if err := home.Check(); err != nil {
		t.Fatal(err)
	}
	made, err := New("x", Parts{Home: home, Source: "<p>{{ org.company }} {{ org.web }} {{ text.greeting }} {{ text.legal }}</p>",
		Settings: "country: DE\norganisation: {web: own.brackwater.example}\ntexts: {legal: {en: Own}}\n"})
	if err != nil {
		t.Fatal(err)
	}
	var said []string
	for _, v := range made.Values() {
		said = append(said, v.Name+"="+v.Value+"/"+string(v.From))
	}
	want := "org.company=Brackwater Ferries/organisation org.web=own.brackwater.example/template text.greeting=Kind regards/organisation " +
		"text.legal=Own/template language=en/organisation country=DE/template"
	if got := strings.Join(said, " "); got != want {
		t.Errorf("got  %s\nwant %s", got, want)
	}
	if made.Settings.Texts["greeting"]["de"] == "" || home.Constants["web"] != "www.brackwater.example" {
		t.Error("a text is missing, or the organisation's settings were changed")
	}
	again, err := New("x", made.Parts())
	if err != nil || again.Settings.Organisation["company"] != "Brackwater Ferries" || again.Version() != made.Version() {
		t.Errorf("made anew: %v, %+v", err, again.Settings)
	}
	if made.SettingsText != "country: DE\norganisation: {web: own.brackwater.example}\ntexts: {legal: {en: Own}}\n" {
		t.Errorf("the template's own settings were changed: %s", made.SettingsText)
	}
	plain, err := New("x", Parts{Source: "<p>a</p>"})
	if err != nil || len(plain.Values()) != 0 || plain.Home.Digest() != "" || home.Digest() == "" {
		t.Errorf("without an organisation: %v %v", err, plain.Values())
	}
}

func TestWhatAnOrganisationCannotSay(t *testing.T) {
	for name, o := range map[string]Organisation{
		"a name":          {Constants: map[string]string{"a b": "x"}},
		"a long value":    {Constants: map[string]string{"a": strings.Repeat("x", longestConstant+1)}},
		"a language":      {Language: "english!"},
		"a country":       {Country: "gb"},
		"no language":     {Texts: map[string]person.Texts{"a": {"en": "x"}}},
		"another's text":  {Language: "en", Texts: map[string]person.Texts{"a": {"de": "x"}}},
		"a text's tag":    {Language: "en", Texts: map[string]person.Texts{"a": {"en": "x", "?": "y"}}},
		"a name of texts": {Language: "en", Texts: map[string]person.Texts{"": {"en": "x"}}},
	} {
		if err := o.Check(); !problem.Is(err, problem.Invalid) {
			t.Errorf("%s: %v", name, err)
		}
	}
}
