package template

import (
	"bytes"
	"image"
	"image/png"
	"missivum/core/picture"
	"strings"
	"testing"
	"testing/fstest"
	"time"
)

func dot(t *testing.T) []byte {
	t.Helper()
	var b bytes.Buffer
	if err := png.Encode(&b, image.NewGray(image.Rect(0, 0, 4, 2))); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func TestOpenFolder(t *testing.T) {
	fsys := fstest.MapFS{
		"template.html": {Data: []byte("<p>x</p>")},
		"template.yaml": {Data: []byte("title: Crew\nvariants: [new, night]\npictures:\n  address: " +
			"https://p.brackwater.example/\n  files:\n    dot: {file: dot 1.png, alt: A dot}\n")},
		"pictures/dot 1.png":  {Data: dot(t)},
		"pictures/.thumbnail": {Data: []byte("x")},
	}
	tmpl, err := Open(fsys, "crew")
	if err != nil {
		t.Fatal(err)
	}
	if tmpl.Title() != "Crew" || len(tmpl.Pictures) != 1 || strings.Join(tmpl.Variants(), " ") != "new night" {
		t.Errorf("%+v", tmpl)
	}
	p := tmpl.Picture("dot")
	if p == nil || p.Width != 4 || p.Height != 2 || p.Format != "png" || p.Alt != "A dot" {
		t.Fatalf("picture: %+v", p)
	}
	for address, found := range map[string]bool{
		"pictures/dot%201.png": true, "./pictures/dot 1.png": true, "https://p.brackwater.example/dot%201.png": true,
		"dot 1.png": false, "https://elsewhere.example/dot 1.png": false, "pictures/none.png": false, "%zz": false,
	} {
		if got := tmpl.AtAddress(address) != nil; got != found {
			t.Errorf("%s: %v", address, got)
		}
	}
}

func TestWrongFoldersAreRefused(t *testing.T) {
	for name, c := range map[string]struct {
		settings, want string
		files          map[string][]byte
	}{
		"unknown member":          {"titel: x", "line 1: field titel not found", nil},
		"not YAML":                {"title: [", "line 1", nil},
		"relative address":        {"pictures: {address: pictures/}", "full https address", nil},
		"no slash":                {"pictures: {address: https://p.brackwater.example}", "ends with a slash", nil},
		"date":                    {"slots: {banner: {from: 1 November}}", `line 1: "1 November" is not a date`, nil},
		"dates turned":            {"slots: {banner: {from: 2026-12-01, until: 2026-11-01}}", "before it begins", nil},
		"country":                 {"country: Sweden", "two letters", nil},
		"variant":                 {"variants: [New One]", "lower-case", nil},
		"text without a language": {"texts: {desk: {en: Desk}}", "need the template's language", nil},
		"text not in it":          {"language: sv\ntexts: {desk: {en: Desk}}", "no text in the template's language, sv", nil},
		"constant's name":         {"organisation: {a b: x}", "letters, digits", nil},
		"missing picture":         {"pictures: {files: {logo: {file: lgo.png}}}", "there is logo.png", map[string][]byte{"logo.png": dot(t)}},
		"not a picture":           {"", "web page", map[string][]byte{"logo.png": []byte("<html>")}},
		"too much":                {strings.Repeat("# x\n", maxSettings), "larger than", nil},
	} {
		if c.settings != "" && strings.HasPrefix(name, "too") {
			c.settings += "title: x"
		}
		if _, err := New("x", Parts{Source: "<p>", Settings: c.settings, Pictures: c.files}); err == nil ||
			!strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %q", name, err, c.want)
		}
	}
	if _, err := Open(fstest.MapFS{}, "x"); err == nil || !strings.Contains(err.Error(), "template.html") {
		t.Errorf("an empty folder: %v", err)
	}
}

func TestPicturesStayInTheirFolder(t *testing.T) {
	for _, file := range []string{"../logo.png", "/logo.png", `a\logo.png`, "c:logo.png", "", ".", "a//b.png"} {
		if _, err := New("x", Parts{Source: "<p>x</p>", Pictures: map[string][]byte{file: dot(t)}}); err == nil ||
			!strings.Contains(err.Error(), "name of a picture") {
			t.Errorf("%q: %v", file, err)
		}
	}
	if made, err := New("x", Parts{Source: "<p>x</p>", Pictures: map[string][]byte{"ports logo.png": dot(t)}}); err != nil ||
		len(made.Pictures) != 1 {
		t.Error(err)
	}
}

func TestSlotsAreInForceOnBothEndDays(t *testing.T) {
	s := Slot{From: "2026-11-01", Until: "2026-11-30"}
	for day, want := range map[string]bool{"2026-10-31": false, "2026-11-01": true, "2026-11-30": true, "2026-12-01": false} {
		d, err := time.Parse(time.DateOnly, day)
		if err != nil {
			t.Fatal(err)
		}
		if s.InForce(d) != want {
			t.Errorf("%s: %v", day, !want)
		}
	}
	if !(Slot{}).InForce(time.Time{}) {
		t.Error("a slot without days is always in force")
	}
}

func TestVersionFollowsTheContent(t *testing.T) {
	versions := map[string]string{}
	for name, make := range map[string]func() (*Template, error){
		"first":    func() (*Template, error) { return New("x", Parts{Source: "<p>", Settings: "title: a"}) },
		"source":   func() (*Template, error) { return New("x", Parts{Source: "<p>b", Settings: "title: a"}) },
		"settings": func() (*Template, error) { return New("x", Parts{Source: "<p>", Settings: "title: b"}) },
		"picture": func() (*Template, error) {
			return New("x", Parts{Source: "<p>", Settings: "title: a", Pictures: map[string][]byte{"d.png": dot(t)}})
		},
	} {
		tmpl, err := make()
		if err != nil {
			t.Fatal(err)
		}
		if other, ok := versions[tmpl.Version()]; ok {
			t.Errorf("%s and %s have one version", name, other)
		}
		versions[tmpl.Version()] = name
	}
}

func TestBareFile(t *testing.T) {
	fsys := fstest.MapFS{"a/sig.html": {Data: []byte(`<img src="../x.png"><img src="./dot.png"><img src="/etc/passwd"><img src="gone.png">`)},
		"a/dot.png": {Data: dot(t)}, "x.png": {Data: dot(t)}}
	sub, err := fsys.Sub("a")
	if err != nil {
		t.Fatal(err)
	}
	tmpl, err := OpenBare(sub, "sig.html")
	if err != nil {
		t.Fatal(err)
	}
	if !tmpl.Bare || tmpl.Name != "sig" || len(tmpl.Pictures) != 1 || tmpl.AtAddress("dot.png") == nil {
		t.Errorf("%+v", tmpl)
	}
}

func TestCharacterSets(t *testing.T) {
	marked := fstest.MapFS{"template.html": {Data: []byte("\ufeff<p>Grün</p>")}, "template.yaml": {Data: []byte("\ufefftitle: x\n")}}
	if tmpl, err := Open(marked, "x"); err != nil || tmpl.Source != "<p>Grün</p>" || tmpl.Title() != "x" {
		t.Errorf("with a byte order mark: %+v, %v", tmpl, err)
	}
	if tmpl, err := OpenBare(marked, "template.html"); err != nil || tmpl.Source != "<p>Grün</p>" {
		t.Errorf("a bare file with a byte order mark: %+v, %v", tmpl, err)
	}
	latin := fstest.MapFS{"template.html": {Data: []byte("<p>Gr\xfcn</p>")}}
	if tmpl, err := Open(latin, "x"); err != nil || tmpl.Source != "<p>Grün</p>" || len(tmpl.Notes) != 1 {
		t.Errorf("another character set: %+v, %v", tmpl, err)
	}
}

func FuzzSettings(f *testing.F) {
	f.Add("title: x\nslots: {a: {from: 2026-01-01}}\npictures: {address: https://a.example/, files: {b: {file: c}}}")
	f.Add("a: &a [*a]")
	f.Fuzz(func(t *testing.T, settings string) {
		tmpl, err := New("x", Parts{Source: "<p>", Settings: settings})
		if err == nil && len(tmpl.Variants()) == 0 {
			t.Fatal("accepted without a variant")
		}
	})
}

func TestTextFormsByHand(t *testing.T) {
	fsys := fstest.MapFS{
		"template.html":      {Data: []byte("<p>x</p>")},
		"template.yaml":      {Data: []byte("variants: [new, reply, night]")},
		"template.txt":       {Data: []byte("\ufeffall\r\nof them")},
		"template.reply.txt": {Data: []byte("reply")},
		"notes.txt":          {Data: []byte("not of the template")},
	}
	tmpl, err := Open(fsys, "x")
	if err != nil {
		t.Fatal(err)
	}
	for variant, want := range map[string]string{"new": "all\nof them", "reply": "reply", "night": "all\nof them"} {
		if _, text, ok := tmpl.Text(variant); !ok || text != want {
			t.Errorf("%s: %q %v", variant, text, ok)
		}
	}
	if files := tmpl.Files(); len(files) != 4 || string(files["template.reply.txt"]) != "reply" {
		t.Errorf("files: %v", files)
	}
	for file, want := range map[string]string{"template.day.txt": `the variant "day"`, "other.txt": "no text form",
		"template.Bad Name.txt": "no text form"} {
		if _, err := New("x", Parts{Source: "x", Texts: map[string]string{file: "x"}}); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", file, err)
		}
	}
	if _, err := New("x", Parts{Source: "x", Texts: map[string]string{"template.txt": strings.Repeat("x", maxText+
		1)}}); err == nil || !strings.Contains(err.Error(), "larger than 64 kB") {
		t.Errorf("too large a text: %v", err)
	}
	if _, err := New("x", Parts{Source: "x", Texts: map[string]string{"template.txt": "\xff"}}); err == nil ||
		!strings.Contains(err.Error(), "not UTF-8") {
		t.Errorf("another character set: %v", err)
	}
	parts := tmpl.Parts()
	parts.Texts["template.txt"] = "changed"
	if _, text, _ := tmpl.Text("new"); text != "all\nof them" {
		t.Error("changing the parts changes the template")
	}
	if other, err := New("x", parts); err != nil || other.Version() == tmpl.Version() {
		t.Errorf("another text has the same version (%v)", err)
	}
}

func TestHowPicturesAreNamedAndDelivered(t *testing.T) {
	open := func(settings string) (*Template, error) {
		return New("x", Parts{Source: "<p>x</p>", Settings: settings, Pictures: map[string][]byte{"logo.png": dot(t)}})
	}
	for settings, want := range map[string]string{
		"pictures: {naming: colour}":               `naming "colour" must be file or content`,
		"pictures: {delivery: {text: hosted}}":     "pictures.delivery.text: there is no such form",
		"pictures: {delivery: {fragment: beside}}": `"beside" must be one of hosted, data`,
	} {
		if _, err := open(settings); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", settings, err, want)
		}
	}
	const host = "https://pictures.brackwater.example/"
	for settings, want := range map[string]string{
		"pictures: {address: " + host + "}":                  host + "logo.png",
		"pictures: {address: " + host + ", naming: content}": host + picture.KeyOf(dot(t)),
		"": "https://public.example/" + picture.KeyOf(dot(t)),
	} {
		tmpl, err := open(settings)
		if err != nil {
			t.Fatal(err)
		}
		tmpl.Public = "https://public.example/"
		address, naming := tmpl.Hosting()
		if got := address + tmpl.Pictures[0].HostedName(naming); got != want {
			t.Errorf("%q: %s, want %s", settings, got, want)
		}
		if tmpl.AtAddress(want) != &tmpl.Pictures[0] {
			t.Errorf("%q: the picture is not found at its own address", settings)
		}
	}
	tmpl, err := open("pictures: {delivery: {message: hosted, html: data}, files: {logo: {file: logo.png, from: ferry, version: 3}}}")
	if err != nil {
		t.Fatal(err)
	}
	for form, want := range map[string]Delivery{"message": Hosted, "html": Data, "fragment": Hosted, "mime": Hosted, "text": Hosted} {
		if got := tmpl.Delivery(form); got != want {
			t.Errorf("%s goes %s, want %s", form, got, want)
		}
	}
	if p := tmpl.Picture("logo"); p.From != "ferry" || p.Version != 3 {
		t.Errorf("%+v", p)
	}
	big := make([]byte, MaxPicture+1)
	if _, err := New("x", Parts{Source: "x", Pictures: map[string][]byte{"a.png": big}}); err == nil ||
		!strings.Contains(err.Error(), "at most 4096 kB") {
		t.Errorf("a picture of %d bytes: %v", len(big), err)
	}
}

func TestPictureFileNames(t *testing.T) {
	for name, ok := range map[string]bool{
		"logo.png": true, "Logo 2.png": true, "Ö-logo.png": true, "a/b.png": false, `a\b.png`: false, ".logo.png": false, "logo.png.": false,
		"": false, "a\nb.png": false, "a\u202egnp.b": false, "a\u200bb.png": false, "a:b.png": false, "a?.png": false, " a.png": false,
		strings.Repeat("x", 121): false, "a\xff.png": false,
	} {
		if got := ValidPictureFile(name); got != ok {
			t.Errorf("%q: %v", name, got)
		}
	}
}
