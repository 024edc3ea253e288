package fault

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"golang.org/x/text/encoding/charmap"

	"missivum/core/person"
	"missivum/core/source"
)

// values are what personnel systems hold, with the fault that is expected; blank for what is right as it is. They were written
// down before the checks were run on any of them.
var values = []struct {
	field, value, kind, suggestion string
}{
	// telephone numbers in Germany
	{"telephoneNumber", "040 669690", "", ""},
	{"telephoneNumber", "040/66969-120", "", ""},
	{"telephoneNumber", "+49 40 66969-120", "", ""},
	{"telephoneNumber", "0049 40 66969120", "", ""},
	{"telephoneNumber", "+49 (0)40 66969120", "", ""},
	{"telephoneNumber", "040 66969 ext. 12", "", ""},
	{"telephoneNumber", "040/66969120 u. 040/66969121", "number", ""},
	{"telephoneNumber", "040 66969120, 040 66969121", "number", ""},
	{"telephoneNumber", "040 66969 0 Zentrale", "number", ""},
	{"telephoneNumber", "App. 017", "number", ""},
	{"telephoneNumber", "0171-3920001 mobil", "number", ""},
	{"mobile", "0171 3920001 (privat)", "number", ""},
	{"telephoneNumber", "66969120", "number", ""},
	{"telephoneNumber", "-120", "number", ""},
	{"telephoneNumber", "siehe Zentrale", "number", ""},
	{"telephoneNumber", "4066969120", "number", ""},
	{"telephoneNumber", "+49 40 66969120 +49 40 66969121", "number", ""},
	{"mobile", "kein", "placeholder", ""},
	{"mobile", "0000", "placeholder", ""},
	{"mobile", "+", "placeholder", ""},
	{"facsimileTelephoneNumber", "-", "placeholder", ""},
	{"telephoneNumber", "4.91403E+11", "number", ""},
	{"telephoneNumber", "4,9E11", "number", ""},
	{"telephoneNumber", "'040 66969120", "number", "040 66969120"},
	{"postalCode", "20457", "", ""},
	{"postalCode", "D-20457", "postcode", ""},
	{"postalCode", "DE-20457", "", ""},
	{"postalCode", "1067", "postcode", "01067"},
	{"postalCode", "20457 Hamburg", "postcode", ""},
	// countries
	{"c", "DE", "", ""},
	{"c", "de", "country", "DE"},
	{"c", "Deutschland", "country", "DE"},
	{"c", "Germany", "country", "DE"},
	{"c", "Allemagne", "country", "DE"},
	{"c", "D", "country", ""},
	{"c", "Hamburg", "country", ""},
	// names
	{"cn", "Maren Lind", "", ""},
	{"cn", "MAREN LIND", "capitals", "Maren Lind"},
	{"cn", "maren lind", "capitals", "Maren Lind"},
	{"cn", "JÖRG GROSS-MÜLLER", "capitals", "Jörg Gross-Müller"},
	{"sn", "LI", "", ""},
	{"sn", "van der Berg", "", ""},
	{"cn", "Ελένη Παπαδοπούλου", "", ""},
	{"cn", "سلمى البحري", "", ""},
	{"cn", "田中 花子", "", ""},
	{"cn", "Мaрина Линд", "letters", ""},
	{"cn", "Mаren Lind", "letters", "Maren Lind"},
	{"cn", "MÃ¼ller", "garbled", "Müller"},
	{"cn", "JosÃ© Garc\u00c3\u00ada", "garbled", "José García"},
	{"cn", "M\uFFFDller", "garbled", ""},
	{"cn", "Ângela Ávila", "", ""},
	{"cn", "Maren  Lind", "spaces", "Maren Lind"},
	{"cn", "Maren\u200b Lind", "spaces", "Maren Lind"},
	{"cn", "Jo\u0308rg Lind", "spaces", "Jörg Lind"},
	{"cn", "Test", "placeholder", ""},
	{"cn", "Smith &amp; Jones", "markup", "Smith & Jones"},
	{"cn", strings.Repeat("Maximiliane ", 5) + "Lind", "long", ""},
	// titles and units
	{"title", "Captain", "", ""},
	{"title", "CEO", "", ""},
	{"title", "HR", "", ""},
	{"title", "GESCHÄFTSFÜHRER", "capitals", "Geschäftsführer"},
	{"title", "n/a", "placeholder", ""},
	{"title", "N.A.", "placeholder", ""},
	{"title", "-", "placeholder", ""},
	{"title", "---", "placeholder", ""},
	{"title", "x", "placeholder", ""},
	{"title", "k. A.", "placeholder", ""},
	{"title", "tbd", "placeholder", ""},
	{"title", "#NV", "placeholder", ""},
	{"title", "<b>Captain</b>", "markup", "Captain"},
	{"title", "Head of A < B", "", ""},
	{"title", "Cook & Provisions <Night>", "", ""},
	{"title", "Chief<br/>Cook", "markup", "Chief Cook"},
	{"title", "Leiterin der Abteilung für internationale Hafenlogistik, Zoll und Verwaltung", "long", ""},
	{"ou", "Bridge", "", ""},
	{"ou", "Forschung & Entwicklung", "", ""},
	{"initials", "X", "", ""},
	{"roomNumber", "x", "", ""},
	// addresses
	{"labeledURI", "https://brackwater.example/ Brackwater", "", ""},
	{"labeledURI", "brackwater.example", "address", "https://brackwater.example"},
	{"labeledURI", "www.brackwater.example/crew Crew", "address", "https://www.brackwater.example/crew Crew"},
	{"labeledURI", "see intranet", "address", ""},
	{"preferredLanguage", "de", "", ""},
	{"preferredLanguage", "de-CH, en;q=0.5", "", ""},
	{"preferredLanguage", "Deutsch (Schweiz)", "language", ""},
}

// lookAt finds the faults of one value of a person in Germany.
func lookAt(t testing.TB, field, value string) []Fault {
	t.Helper()
	d := &person.Directory{Schema: person.NewSchema("mail", "c", field)}
	column, _, _ := d.Schema.Column(field)
	p := person.Person{Values: make([]string, d.Schema.Len())}
	p.Values[0], p.Values[1] = "a@b.example", "DE"
	p.Values[column] = value
	d.People = []person.Person{p}
	faults, err := Find(context.Background(), d, Options{})
	if err != nil {
		t.Fatal(err)
	}
	return faults
}

func TestValues(t *testing.T) {
	for _, c := range values {
		faults := lookAt(t, c.field, c.value)
		switch {
		case c.kind == "" && len(faults) == 0:
		case len(faults) != 1 || faults[0].Kind != c.kind || faults[0].Suggestion != c.suggestion:
			t.Errorf("%s %q: %+v, want %q, %q", c.field, c.value, faults, c.kind, c.suggestion)
		case faults[0].Says == "" || faults[0].Mail != "a@b.example" || faults[0].Value != c.value:
			t.Errorf("%+v", faults[0])
		}
	}
}

// A directory of 300 in a windows set with German titles: each value comes out right or is reported, and none that is
// right is reported.
func TestADirectoryValueByValue(t *testing.T) {
	titles := map[string]string{"cn": "Vollständiger Name", "sn": "Nachname", "telephoneNumber": "Telefon", "mobile": "Handy",
		"facsimileTelephoneNumber": "Faxnummer", "c": "Ländercode", "title": "Stellenbezeichnung", "ou": "Abteilung", "initials": "Kürzel",
		"roomNumber": "Zimmernummer", "postalCode": "PLZ", "labeledURI": "Webseite", "preferredLanguage": "Sprache"}
	fields := []string{"mail", "cn", "sn", "telephoneNumber", "mobile", "facsimileTelephoneNumber", "c", "title", "ou",
		"initials", "roomNumber",
		"labeledURI", "preferredLanguage", "postalCode"}
	header := []string{"E-Mail"}
	for _, field := range fields[1:] {
		header = append(header, titles[field])
	}
	type expected struct{ field, value, kind string }
	wants := map[string]expected{}
	rows := []string{strings.Join(header, ";")}
	for i := range 300 {
		c := values[i%len(values)]
		mail := fmt.Sprintf("p%d@brackwater.example", i)
		row := make([]string, len(fields))
		row[0], row[6] = mail, "DE"
		at := slices.Index(fields, c.field)
		row[at] = c.value
		if isNumber(c.field) && c.kind == "" { // nobody has the number of somebody else
			row[at] = strings.Replace(c.value, "669", fmt.Sprint(300+i), 1)
		}
		encoded, err := charmap.Windows1252.NewEncoder().String(row[at])
		if err != nil { // a letter that the set has not stays out of this file
			continue
		}
		row[at] = encoded
		kind := c.kind
		if c.kind == "garbled" {
			kind = "garbled"
		}
		decoded, err := charmap.Windows1252.NewDecoder().String(encoded)
		if err != nil {
			t.Fatal(err)
		}
		wants[mail] = expected{c.field, decoded, kind}
		for c := range row {
			row[c] = `"` + strings.ReplaceAll(row[c], `"`, `""`) + `"`
		}
		rows = append(rows, strings.Join(row, ";"))
	}
	head, err := charmap.Windows1252.NewEncoder().String(rows[0])
	if err != nil {
		t.Fatal(err)
	}
	rows[0] = head
	d, bad, err := source.ReadCSV(strings.NewReader(strings.Join(rows, "\r\n")+"\r\n"), source.Mapping{})
	if err != nil || len(bad) > 0 {
		t.Fatal(bad, err)
	}
	if len(d.People) < 240 || d.Schema.Len() != len(fields) {
		t.Fatalf("%d people with %v", len(d.People), d.Schema.Names())
	}
	faults, err := Find(context.Background(), d, Options{Country: "DE"})
	if err != nil {
		t.Fatal(err)
	}
	found := map[string][]Fault{}
	for _, f := range faults {
		if f.Kind != "twice" {
			found[f.Mail] = append(found[f.Mail], f)
		}
	}
	right, reported := 0, 0
	for i := range d.People {
		mail := d.Get(&d.People[i], "mail")
		want := wants[mail]
		if got := d.Get(&d.People[i], want.field); got != strings.TrimSpace(want.value) {
			t.Errorf("%s: %s is %q, want %q", mail, want.field, got, want.value)
		}
		switch list := found[mail]; {
		case want.kind == "" && len(list) == 0:
			right++
		case len(list) == 1 && list[0].Kind == want.kind && list[0].Field == want.field:
			reported++
		default:
			t.Errorf("%s %q: %+v, want %q", want.field, want.value, list, want.kind)
		}
	}
	t.Logf("%d values right, %d reported", right, reported)
}

func TestWhatNeedsOthers(t *testing.T) {
	d, _, err := source.ReadCSV(strings.NewReader("mail,cn,mobile,telephoneNumber,site\n"+
		"a@b.example,Ada,07700 900111,01632 960000,HAV\nb@b.example,Bo,+44 7700 900112,01632 960000,Q7\n"+
		"c@b.example,,07700 900111,01632 960000,\n"), source.Mapping{Columns: map[string]string{"site": "site"}})
	if err != nil {
		t.Fatal(err)
	}
	var done int
	faults, err := Find(context.Background(), d, Options{Country: "GB",
		Needs: []Need{{Field: "title", Who: "the template crew", Of: func(p *person.Person) bool { return d.Get(p, "cn") == "Bo" }},
			{Field: "cn", Who: "everybody"}},
		Longest: []Line{{Field: "mobile", Most: 12, Who: "the template crew", Of: func(p *person.Person) bool { return d.Get(p, "cn") == "Bo" }}},
		Unknown: func(p *person.Person) map[string]string {
			if d.Get(p, "site") == "Q7" {
				return map[string]string{"site": "Q7"}
			}
			return nil
		}, Progress: func(n int) { done = n + 1 }})
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, f := range faults {
		got = append(got, strings.Join([]string{f.Mail, f.Kind, f.Field, f.Says}, " "))
	}
	want := []string{
		"a@b.example twice mobile 2 people have it", "a@b.example twice telephoneNumber 3 people have it",
		"b@b.example blank title the template crew needs it",
		"b@b.example long mobile has 15 characters; a line of the template crew holds 12", "b@b.example twice telephoneNumber 3 people have it",
		"b@b.example code site is in no lookup",
		"c@b.example blank cn everybody needs it", "c@b.example twice mobile 2 people have it",
		"c@b.example twice telephoneNumber 3 people have it",
	}
	if !slices.Equal(got, want) || done == 0 {
		t.Errorf("%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	if counts := Count(faults); len(counts) != 4 || counts[0].ID != "blank" || counts[0].Count != 2 || counts[2].Count != 5 {
		t.Errorf("%+v", counts)
	}
	if only := Only(faults, "twice", "mobile", "ADA"); len(only) != 1 || only[0].Mail != "a@b.example" {
		t.Errorf("%+v", only)
	}
	ended, stop := context.WithCancel(context.Background())
	stop()
	if _, err := Find(ended, d, Options{}); !errors.Is(err, context.Canceled) {
		t.Error(err)
	}
}

func FuzzFind(f *testing.F) {
	for _, c := range values {
		f.Add(c.field, c.value)
	}
	f.Fuzz(func(t *testing.T, field, value string) {
		if !person.ValidName(field) || field == "mail" || field == "c" {
			return
		}
		for _, fault := range lookAt(t, field, value) {
			if fault.Says == "" || fault.Suggestion == value && value != "" {
				t.Fatalf("%+v", fault)
			}
			if fault.Kind == "number" {
				if _, ok := person.ReadTelephone(value, "DE"); ok {
					t.Fatalf("%q is a number", value)
				}
			}
		}
	})
}

func BenchmarkFind(b *testing.B) {
	d := &person.Directory{Schema: person.NewSchema("mail", "cn", "title", "telephoneNumber", "mobile", "l", "c")}
	for i := range 10_000 {
		d.People = append(d.People, person.Person{Values: []string{fmt.Sprintf("p%d@b.example", i), "Maren Lind", "Captain",
			fmt.Sprintf("+44 1632 96%04d", i), fmt.Sprintf("07700 90%04d", i), "Saltmouth", "GB"}})
	}
	for b.Loop() {
		if _, err := Find(context.Background(), d, Options{}); err != nil {
			b.Fatal(err)
		}
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/10_000, "ns/person")
}
