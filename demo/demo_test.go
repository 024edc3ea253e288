package demo

import (
	"bytes"
	"strings"
	"testing"

	"missivum/core/client"
	"missivum/core/picture"
	"missivum/core/source"
	"missivum/demo/drawing"
	"missivum/demo/people"
)

// TestFilesAreWhatTheProgramsMake: go run ./demo/make writes them anew.
func TestFilesAreWhatTheProgramsMake(t *testing.T) {
	var b bytes.Buffer
	if err := source.WriteCSV(&b, people.Demo()); err != nil {
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
		if err := source.WriteCSV(&b, people.Generate(count, seed)); err != nil {
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
	if _, bad, err := source.ReadCSV(strings.NewReader(write(3000, 9)), source.Mapping{}); err != nil || len(bad) > 0 {
		t.Errorf("a generated directory cannot be read: %v %v", bad, err)
	}
}

// TestOriginalsAreWhatTheProgramsMake, and can be read as pictures of a size that one would be handed.
func TestOriginalsAreWhatTheProgramsMake(t *testing.T) {
	made, err := drawing.Originals()
	if err != nil {
		t.Fatal(err)
	}
	kept, err := Pictures()
	if err != nil {
		t.Fatal(err)
	}
	for name, data := range made {
		if !bytes.Equal(kept[name], data) {
			t.Errorf("%s is not what the generator makes", name)
		}
		if p, err := picture.Read(data); err != nil || p.Width < 150 {
			t.Errorf("%s: %+v, %v", name, p, err)
		}
	}
	if len(kept) != len(made)+1+len(shown) {
		t.Errorf("%d files, want the %d originals, the cuts of one and those that a template shows", len(kept), len(made))
	}
}

// TestPortraitsDiffer: one seed gives one person, another another, at any size.
func TestPortraitsDiffer(t *testing.T) {
	one, again, other := drawing.Portrait(1, 60, 80), drawing.Portrait(1, 60, 80), drawing.Portrait(2, 60, 80)
	if !bytes.Equal(one.Pix, again.Pix) {
		t.Error("one seed gave two pictures")
	}
	if d := picture.Difference(one, other); d < 0.3 {
		t.Errorf("two seeds gave nearly one picture: %v", d)
	}
	if d := picture.Difference(picture.Resized(drawing.Portrait(1, 240, 320), 60, 80), one); d > 0.35 {
		t.Errorf("the same person looks otherwise at another size: %v", d)
	}
}

// TestClients: the demo's own profiles stand over shipped ones, and their shares add up.
func TestClients(t *testing.T) {
	documents, err := Clients()
	if err != nil {
		t.Fatal(err)
	}
	book, err := client.Book(client.Shipped()).With(documents)
	if err != nil {
		t.Fatal(err)
	}
	sum, off := 0.0, 0
	for _, p := range book {
		if p.Off {
			off++
		} else {
			sum += p.Share
		}
		if documents[p.ID] != nil && p.BasedOn != p.ID {
			t.Errorf("%s is based on %q", p.ID, p.BasedOn)
		}
	}
	if len(book) != len(client.Shipped()) || sum != 100 || off != 1 {
		t.Errorf("%d profiles, shares of %v %%, %d switched off", len(book), sum, off)
	}
}
