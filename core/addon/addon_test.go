package addon

import (
	"reflect"
	"strings"
	"testing"

	"missivum/core/problem"
)

// crew is a site that is right.
func crew() Site {
	return Site{ID: "crew-webmail", Title: "Crew webmail", Matches: []string{"https://mail.brackwater.example/*"}, Client: "capped-webmail",
		Place: Above, Compose: []Compose{{Field: "#body", Account: "#from"}}}
}

func TestSitesAreChecked(t *testing.T) {
	if err := Check([]Site{crew()}); err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		change func(*Site)
		in     string // member that the error names
	}{
		"a name with a blank":           {func(s *Site) { s.ID = "crew mail" }, "sites[0].id"},
		"no title":                      {func(s *Site) { s.Title = " " }, "sites[0].title"},
		"no client":                     {func(s *Site) { s.Client = "" }, "sites[0].client"},
		"no place":                      {func(s *Site) { s.Place = "" }, "sites[0].place"},
		"no address":                    {func(s *Site) { s.Matches = nil }, "sites[0].matches"},
		"an address without encryption": {func(s *Site) { s.Matches = []string{"http://mail.brackwater.example/*"} }, "sites[0].matches[0]"},
		"no field":                      {func(s *Site) { s.Compose[0].Field = "" }, "sites[0].compose[0].field"},
		"no account":                    {func(s *Site) { s.Compose[0].Account = "" }, "sites[0].compose[0].account"},
		"no selector":                   {func(s *Site) { s.Compose[0].Quotation = "div[" }, "sites[0].compose[0].quotation"},
		"one that browsers do not know": {func(s *Site) { s.Compose[0].Reply = "p:contains(wrote)" }, "sites[0].compose[0].reply"},
		"a longest one":                 {func(s *Site) { s.Compose[0].When = strings.Repeat("a ", 600) }, "sites[0].compose[0].when"},
		"no attribute":                  {func(s *Site) { s.Compose[0].AccountAttribute = "data mail" }, "sites[0].compose[0].accountAttribute"},
	} {
		s := crew()
		c.change(&s)
		err := Check([]Site{s})
		if p, ok := problem.Of(err); !ok || p.Kind != problem.Invalid || p.Field != c.in {
			t.Errorf("%s: %v, in %v", name, err, p)
		}
	}
	if err := Check([]Site{crew(), crew()}); !problem.Is(err, problem.Invalid) {
		t.Errorf("twice: %v", err)
	}
	if err := Check(make([]Site, MostSites+1)); !problem.Is(err, problem.Invalid) {
		t.Errorf("too many: %v", err)
	}
}

func TestPatterns(t *testing.T) {
	for text, want := range map[string]Pattern{
		"https://mail.brackwater.example/*":       {"https", "mail.brackwater.example", "", "/*"},
		"https://*.brackwater.example/mail/*":     {"https", "*.brackwater.example", "", "/mail/*"},
		"https://Mail.Brackwater.example:8443/":   {"https", "mail.brackwater.example", "8443", "/"},
		"http://127.0.0.1:4000/*":                 {"http", "127.0.0.1", "4000", "/*"},
		"http://localhost/*":                      {"http", "localhost", "", "/*"},
		"https://mail.brackwater.example/o/*/m.x": {"https", "mail.brackwater.example", "", "/o/*/m.x"},
	} {
		if p, err := ReadPattern(text); err != nil || p != want {
			t.Errorf("%s: %+v %v", text, p, err)
		}
	}
	for _, text := range []string{"", "*", "<all_urls>", "https://*/*", "*://mail.brackwater.example/*", "https://*.example/*",
		"https://*", "ftp://a.example/*",
		"http://mail.brackwater.example/*", "https://mail.*.example/*", "https://mail.brackwater.example",
		"https://user@mail.brackwater.example/*",
		"https://mail.brackwater.example/?a=*", "https://*.0.0.1/*", "file:///*", "https://a b/*", "https://[::1/*"} {
		if p, err := ReadPattern(text); err == nil {
			t.Errorf("%q is read as %+v", text, p)
		}
	}
	p, err := ReadPattern("https://mail.brackwater.example:8443/*")
	if err != nil || p.String(true) != "https://mail.brackwater.example:8443/*" || p.String(false) != "https://mail.brackwater.example/*" {
		t.Errorf("%+v %v", p, err)
	}
}

func TestDocumentsOfSites(t *testing.T) {
	text, err := WriteSites([]Site{crew()})
	if err != nil {
		t.Fatal(err)
	}
	again, err := ReadSites(text)
	if err != nil || !reflect.DeepEqual(again, []Site{crew()}) {
		t.Errorf("%+v %v\n%s", again, err, text)
	}
	for name, document := range map[string]string{
		"a member that is not known": "sites:\n  - id: a\n    colour: red\n",
		"no document":                "{",
		"something else":             "- a\n",
		"a site without addresses":   "sites:\n  - {id: a, title: A, client: x, place: above}\n",
		"too long":                   "# " + strings.Repeat("a", MaxDocument),
	} {
		if _, err := ReadSites([]byte(document)); err == nil {
			t.Errorf("%s is read", name)
		}
	}
}

func FuzzReadSites(f *testing.F) {
	text, err := WriteSites([]Site{crew()})
	if err != nil {
		f.Fatal(err)
	}
	f.Add(text)
	f.Add([]byte("sites: [{id: a, matches: ['https://*/']}]"))
	f.Fuzz(func(t *testing.T, document []byte) {
		sites, err := ReadSites(document)
		if err != nil {
			return
		}
		again, err := WriteSites(sites)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := ReadSites(again); err != nil {
			t.Errorf("%s is not read again: %v", again, err)
		}
		for _, p := range patterns(sites, true) {
			if strings.Contains(p, "://*/") || strings.HasPrefix(p, "*") {
				t.Errorf("a pattern for every host: %s", p)
			}
		}
	})
}
