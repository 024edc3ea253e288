package recognise_test

import (
	"bytes"
	"image"
	"image/jpeg"
	"strings"
	"testing"
	"time"

	"missivum/core/recognise"
	"missivum/core/source"
	"missivum/core/template"
)

// What stays of the person for everybody is listed, wherever it stands; what is everybody's is not.
func TestWhatRemainsOfThePersonIsListed(t *testing.T) {
	rows := "mail,cn,givenName,sn,title,telephoneNumber,mobile,o,l,c\n" +
		"maren.lind@brackwater.example,Maren Lind,Maren,Lind,Head of Timetables,01632 960544,07700 900544,Brackwater Ferries,Brackwater,GB\n" +
		"bo.tide@brackwater.example,Bo Tide,Bo,Tide,Cook,01632 960545,,Brackwater Ferries,Brackwater,GB\n" +
		"cai.quay@brackwater.example,Cai Quay,Cai,Quay,Deckhand,01632 960546,,Brackwater Ferries,Saltmouth,SE\n" +
		"di.fjord@brackwater.example,Di Fjord,Di,Fjord,Deckhand,01632 960547,,Brackwater Ferries,Brackwater,SE\n"
	people, _, err := source.ReadCSV(strings.NewReader(rows), source.Mapping{})
	if err != nil {
		t.Fatal(err)
	}
	var photo bytes.Buffer
	if err := jpeg.Encode(&photo, image.NewGray(image.Rect(0, 0, 96, 96)), nil); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		name, source string
		pictures     map[string][]byte
		settings     string
		want         []string // text and where, in part
	}{
		{"all found", `<p>Maren Lind, Head of Timetables<br>Brackwater Ferries, Brackwater</p><p><a ` +
			`href="tel:+441632960544">01632 960544</a></p>` +
			`<p><a href="mailto:maren.lind@brackwater.example">maren.lind@brackwater.example</a></p>`, nil, "", nil},
		{"a name in an address", `<a href="https://www.brackwater.example/crew/maren-lind?x=1">My page</a>`, nil, "",
			[]string{"maren href", "lind href"}},
		{"a name run together", `<a href="https://social.example/marenlind">x</a>`, nil, "", []string{"maren href"}},
		{"percent-encoded", `<a href="https://a.example/%4Daren_Lind.vcf">x</a>`, nil, "", []string{"maren href", "lind href"}},
		{"another number", `<p>Home <a href="tel:016324711">01632 471142</a></p>`, nil, "", []string{"016324711 href", "01632 471142 text"}},
		{"a number with words", `<p>07700 9OO544</p><p>Mobile: 07700-900 544 (private) 01632-777777</p>`, nil, "", []string{"01632-777777 text"}},
		{"her first name", `<p>Ask Maren about timetables</p>`, nil, "", []string{"maren text"}},
		{"alternative text", `<img src="https://a.example/x.png" alt="Portrait of M. Lind">`, nil, "", []string{"x.png picture"}},
		{"a private address", `<p>maren@home.example or office@brackwater.example</p>`, nil, "", []string{"maren@home.example text"}},
		{"a comment", `<p>x</p><!-- made for Maren Lind -->`, nil, "", []string{"maren lind comment"}},
		{"a photo", `<img data-picture="img-2041-jpg" width="96" height="96">`, map[string][]byte{"img-2041.jpg": photo.Bytes()},
			"pictures: {files: {img-2041-jpg: {file: img-2041.jpg}}}", []string{"img-2041-jpg picture"}},
		{"a file's name", `<img data-picture="m-lind-jpg" width="9" height="9">`, map[string][]byte{"m-lind.jpg": photo.Bytes()},
			"pictures: {files: {m-lind-jpg: {file: m-lind.jpg, alt: Maren}}}",
			[]string{"lind data-picture", "maren settings", "m-lind-jpg picture"}},
		{"her country by name, which others do not live in", `<p>Brackwater, United Kingdom (Vereinigtes Königreich)</p>`, nil, "",
			[]string{"united kingdom text", "vereinigtes konigreich text"}},
		{"everybody's", `<p>Brackwater Ferries, Brackwater harbour, <a href="https://www.brackwater.example">www.brackwater.example</a></p>`,
			nil, "", nil},
	} {
		r, err := recognise.Run(recognise.Input{Parts: template.Parts{Source: c.source, Settings: c.settings,
			Pictures: c.pictures}, People: people,
			Person: &people.People[0], Day: time.Date(2026, 11, 27, 0, 0, 0, 0, time.UTC)})
		if err != nil {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		var got []string
		for _, left := range r.Remaining {
			got = append(got, strings.ToLower(left.Text)+" "+left.Where)
		}
		all := strings.Join(got, "\n")
		for _, want := range c.want {
			text, where, _ := strings.Cut(want, " ")
			if i := strings.LastIndexByte(want, ' '); i > 0 {
				text, where = want[:i], want[i+1:]
			}
			found := false
			for _, line := range got {
				found = found || strings.Contains(line, text) && strings.HasSuffix(line, " "+where)
			}
			if !found {
				t.Errorf("%s: %s in %s is not listed:\n%s\n%s", c.name, text, where, all, r.Parts.Source)
			}
		}
		if len(c.want) == 0 && len(got) > 0 {
			t.Errorf("%s: listed though nothing of the person is left:\n%s\n%s", c.name, all, r.Parts.Source)
		}
	}
}

// Two long texts are compared within bounds of memory.
func TestLongTextsAreCompared(t *testing.T) {
	people, _, err := source.ReadCSV(strings.NewReader("mail,cn\na@b.example,Ada Tide\n"), source.Mapping{})
	if err != nil {
		t.Fatal(err)
	}
	source := "<p>" + strings.Repeat("Ada Tide ate a. ", 3_000) + "</p>"
	result := testing.Benchmark(func(b *testing.B) {
		for b.Loop() {
			if _, err := recognise.Run(recognise.Input{Parts: template.Parts{Source: source}, People: people,
				Person: &people.People[0]}); err != nil {
				b.Fatal(err)
			}
			if b.N == 0 {
				return
			}
		}
	})
	if mb := result.AllocedBytesPerOp() >> 20; mb > 150 {
		t.Errorf("it took %d MB", mb)
	}
}
