package compose

import (
	"strings"
	"testing"

	"missivum/core/person"
)

// A number that is not certain is shown as written and has no link, in every form; one that is certain is dialled,
// with its extension.
func TestLinksDialOnlyCertainNumbers(t *testing.T) {
	schema := person.NewSchema("mail", "cn", "telephoneNumber", "c", "labeledURI")
	sources := map[string]string{
		"dial":       `<p>Tel <a href="tel:{{ telephoneNumber | dial }}" style="color:#123456">{{ telephoneNumber | phone }}</a> end</p>`,
		"none":       `<p>Tel <a href="tel:{{ telephoneNumber }}">{{ telephoneNumber }}</a> end</p>`,
		"shown":      `<p>Tel <a href="tel:{{ telephoneNumber | phone }}">{{ telephoneNumber | national }}</a> end</p>`,
		"every":      `<p data-each="telephoneNumber">Tel <a href="tel:{{ entry | dial }}">{{ entry }}</a> end</p>`,
		"other text": `<p>Tel <a href="sms:{{ telephoneNumber | dial }}"><b>{{ telephoneNumber }}</b></a> end</p>`,
		"web":        `<p>Tel <a href="https://call.brackwater.example/{{ telephoneNumber | dial }}">{{ telephoneNumber }}</a> end</p>`,
	}
	uncertain := []string{"040 66969 0 Zentrale", "0171-3920001 mobil", "040/66969120 u. 040/66969121", "App. 017", "0171 3920001 (privat)"}
	for name, source := range sources {
		tmpl := fromSource(t, source, "country: DE")
		s, err := Compile(Source{Template: tmpl, Schema: schema, Day: day})
		if err != nil {
			t.Fatal(err)
		}
		for _, value := range uncertain {
			p := &person.Person{Values: []string{"a@brackwater.example", "Ada", value, "DE"}}
			for _, form := range []Form{Fragment, HTML, Text, RTF} {
				out := string(s.Fill("new", form, p))
				if strings.Contains(out, "href=\"tel") || strings.Contains(out, "tel:") || strings.Contains(out, "HYPERLINK") ||
					strings.Contains(out, "sms:") || strings.Contains(out, "call.") {
					t.Errorf("%s, %s: %q makes a link\n%s", name, form, value, out)
				}
				if !strings.Contains(out, value) || form == Fragment && strings.Contains(out, "</a>") {
					t.Errorf("%s, %s: %q is not shown as written\n%s", name, form, value, out)
				}
			}
		}
		p := &person.Person{Values: []string{"a@brackwater.example", "Ada", "01632 960142 ext. 12", "GB"}}
		fragment, text := string(s.Fill("new", Fragment, p)), string(s.Fill("new", Text, p))
		if !strings.Contains(fragment, "+441632960142") || !strings.Contains(fragment, "</a>") || !strings.Contains(text, "960142") {
			t.Errorf("%s: a certain number has no link\n%s\n%s", name, fragment, text)
		}
		if name != "web" && !strings.Contains(fragment, ":+441632960142;ext=12\"") {
			t.Errorf("%s: the extension is not dialled\n%s", name, fragment)
		}
	}
}

// A number that is put together from pieces is dialled only where all of them are digits.
func TestPiecesOfANumber(t *testing.T) {
	tmpl := fromSource(t, `<a href="tel:+441632{{ telephoneNumber }}">{{ telephoneNumber }}</a>`, "")
	schema := person.NewSchema("mail", "telephoneNumber")
	s := compile(t, tmpl, schema, "new")
	for value, want := range map[string]string{
		"960 142":     `<a href="tel:+441632960142">960 142</a>`,
		"960142 desk": `960142 desk`,
		"":            ``,
	} {
		if got := string(s.Fill("new", Fragment, &person.Person{Values: []string{"a@brackwater.example", value}})); got != want {
			t.Errorf("%q gives %s, want %s", value, got, want)
		}
	}
}
