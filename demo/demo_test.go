package demo

import (
	"bytes"
	"strings"
	"testing"

	"missivum/core/person"
	"missivum/demo/drawing"
	"missivum/demo/people"
)

// TestFilesAreWhatTheProgramsMake: go run ./demo/make writes them anew.
func TestFilesAreWhatTheProgramsMake(t *testing.T) {
	var b bytes.Buffer
	if err := person.WriteCSV(&b, people.Demo()); err != nil {
		t.Fatal(err)
	}
	if csv, err := PeopleCSV(); err != nil || !bytes.Equal(csv, b.Bytes()) {
		t.Errorf("people.csv is not what the generator makes (%v)", err)
	}
	drawings, err := drawing.All()
	if err != nil {
		t.Fatal(err)
	}
	templates, err := Templates()
	if err != nil {
		t.Fatal(err)
	}
	for _, tmpl := range templates {
		if len(tmpl.Pictures) != len(drawings[tmpl.Name]) {
			t.Errorf("%s has %d pictures, %d are drawn", tmpl.Name, len(tmpl.Pictures), len(drawings[tmpl.Name]))
		}
		for _, p := range tmpl.Pictures {
			if !bytes.Equal(p.Data, drawings[tmpl.Name][p.File]) {
				t.Errorf("%s of %s is not what is drawn", p.File, tmpl.Name)
			}
			if p.Bytes > 10<<10 {
				t.Errorf("%s of %s weighs %d bytes", p.File, tmpl.Name, p.Bytes)
			}
		}
	}
}

func TestDirectoryIsLikeARealOne(t *testing.T) {
	d, err := Directory()
	if err != nil {
		t.Fatal(err)
	}
	if len(d.People) != 80 {
		t.Fatalf("%d people", len(d.People))
	}
	places, countries := map[string]bool{}, map[string]bool{}
	for i := range d.People {
		p := &d.People[i]
		places[d.Get(p, "l")], countries[d.Get(p, "c")] = true, true
		if !strings.HasSuffix(d.Get(p, "mail"), "@brackwater.example") {
			t.Errorf("mail address %q", d.Get(p, "mail"))
		}
	}
	if len(places) != 5 || len(countries) != 4 {
		t.Errorf("%d ports in %d countries", len(places), len(countries))
	}
	for _, field := range []string{"mobile", "title", "ou", "callSign", "telephoneNumber"} {
		column, _, _ := d.Schema.Column(field)
		if n, _ := d.Blank(column, 0); n == 0 || n == 80 {
			t.Errorf("%s is blank for %d people", field, n)
		}
	}
}

func TestGeneratorRepeatsItselfForASeed(t *testing.T) {
	write := func(count int, seed uint64) string {
		var b bytes.Buffer
		if err := person.WriteCSV(&b, people.Generate(count, seed)); err != nil {
			t.Fatal(err)
		}
		return b.String()
	}
	if first, second := write(300, 5), write(300, 5); first != second {
		t.Error("one seed gave two directories")
	}
	if write(300, 5) == write(300, 6) {
		t.Error("two seeds gave one directory")
	}
	if _, bad, err := person.ReadCSV(strings.NewReader(write(3000, 9)), nil); err != nil || len(bad) > 0 {
		t.Errorf("a generated directory cannot be read: %v %v", bad, err)
	}
}
