package kit

import (
	"bytes"
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"
	"time"

	"missivum/core/client"
	"missivum/core/person"
	"missivum/core/problem"
	"missivum/core/template"
	"missivum/demo"
)

var day = time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC)

var schema = person.NewSchema("mail", "cn")

var maren = &person.Person{Values: []string{"maren.lind@brackwater.example", "Maren Lind\u00ed"}}

// tmpl makes a template with two variants that differ only where the source says so.
func tmpl(t testing.TB, name, source string) *template.Template {
	t.Helper()
	made, err := template.New(name, template.Parts{Source: source, Settings: "variants: [new, reply]\nlanguage: en"})
	if err != nil {
		t.Fatal(err)
	}
	return made
}

// made is Maren's kit for a way, with new and reply of one template.
func made(t testing.TB, way string, desk *client.Desk, tm *template.Template) Kit {
	t.Helper()
	m, err := New(Input{Templates: map[string]*template.Template{tm.Name: tm}, Schema: schema, Day: day, Way: way, Desk: desk})
	if err != nil {
		t.Fatal(err)
	}
	k, err := m.Worker().Make(maren, []Choice{{"new", tm.Name, "new"}, {"reply", tm.Name, "reply"}, {"internal", tm.Name, "new"}})
	if err != nil {
		t.Fatal(err)
	}
	return k
}

func names(k Kit) string {
	var list []string
	for _, f := range k.Files {
		list = append(list, f.File)
	}
	return strings.Join(list, " ")
}

func TestWhatEachClientWants(t *testing.T) {
	different := tmpl(t, "quay", `<p>{{ cn }}<b data-in="new"> Kai</b></p>`)
	same := tmpl(t, "quay", `<p>{{ cn }}</p>`)
	desk := func(id string) *client.Desk { return client.Find(id).Install.OnDesk() }
	for _, c := range []struct {
		name, way string
		desk      *client.Desk
		tmpl      *template.Template
		files     string
		use       string
	}{
		{"three formats, two situations", client.FileSet, desk("wordproc-desktop"), different,
			"quay-new.htm quay-new.rtf quay-new.txt quay-reply.htm quay-reply.rtf quay-reply.txt", "map[new:quay-new reply:quay-reply]"},
		{"equal variants go out once", client.FileSet, desk("wordproc-desktop"), same, "quay.htm quay.rtf quay.txt", "map[new:quay reply:quay]"},
		{"one signature for all", client.PageFile, desk("gecko-desktop"), different, "quay.html", "map[new:quay]"},
		{"a text", client.PageFile, desk("text-reader"), different, "quay.txt", "map[new:quay]"},
		{"a wrapped file", client.WrappedFile, desk("webkit-desktop"), different, "quay.mime", "map[new:quay]"},
		{"to copy from", client.PasteRender, nil, different, "quay.copy-page.html", "map[new:quay]"},
		{"source", client.PasteSource, nil, different, "quay.fragment.html", "map[new:quay]"},
		{"a draft", client.Draft, nil, different, "quay.eml", "map[new:quay]"},
	} {
		t.Run(c.name, func(t *testing.T) {
			k := made(t, c.way, c.desk, c.tmpl)
			if names(k) != c.files || fmt.Sprint(k.Use) != c.use || k.Person != "maren.lind@brackwater.example" {
				t.Errorf("%s, %v", names(k), k.Use)
			}
			if k.ReadOnly != (c.way == client.WrappedFile) || (len(k.Notes) == 1) != (c.tmpl == same) {
				t.Errorf("read-only %v, notes %q", k.ReadOnly, k.Notes)
			}
			steps := k.Steps()
			if len(steps.Install) < 3 || len(steps.Proof) < 2 || !strings.Contains(strings.Join(steps.Install, " "), k.Files[0].File) {
				t.Errorf("steps %q", steps)
			}
			for _, f := range k.Contents {
				if err := f.Check(f.Data); err != nil {
					t.Error(err)
				}
			}
		})
	}
}

func TestEncodings(t *testing.T) {
	tm := tmpl(t, "quay", "<p>{{ cn }}</p>")
	desk := &client.Desk{Files: []client.DeskFile{{Form: "text", Ending: ".a", Charset: "utf-16le", Mark: true, Lines: "crlf"},
		{Form: "text", Ending: ".b", Charset: "utf-16le"}, {Form: "text", Ending: ".c", Mark: true},
		{Form: "html", Ending: ".d", Charset: "ascii"},
		{Form: "text", Ending: ".e", Lines: "crlf"}, {Form: "text", Ending: ".f", Bare: true}}}
	k := made(t, client.FileSet, desk, tm)
	data := map[string][]byte{}
	for _, f := range k.Contents {
		data[f.File] = f.Data
	}
	for name, start := range map[string]string{"quay.a": "\xff\xfe-\x00-\x00 \x00\r\x00\n\x00M\x00", "quay.b": "-\x00-\x00 \x00",
		"quay.c": "\xef\xbb\xbf-- \nMar", "quay.f": "Maren"} {
		if !strings.HasPrefix(string(data[name]), start) {
			t.Errorf("%s begins with %q", name, data[name][:8])
		}
	}
	if !bytes.Contains(data["quay.d"], []byte("Lind&#237;")) || slices.ContainsFunc(data["quay.d"], func(b byte) bool { return b > 126 }) {
		t.Errorf("%s", data["quay.d"])
	}
	if !bytes.HasSuffix(data["quay.a"], []byte("\r\x00\n\x00")) || !bytes.HasSuffix(data["quay.e"], []byte("\r\n")) {
		t.Errorf("line ends: %q, %q", data["quay.a"], data["quay.e"])
	}
	m, err := New(Input{Templates: map[string]*template.Template{"quay": tm}, Schema: schema, Day: day, Way: client.PageFile,
		Desk: &client.Desk{Files: []client.DeskFile{{Form: "text", Ending: ".x", Charset: "ascii"}}}})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := m.Worker().Make(maren, []Choice{{"new", "quay", "new"}}); !problem.Is(err, problem.Invalid) {
		t.Errorf("a text in ASCII: %v", err)
	}
}

func TestPicturesAsTheClientWantsThem(t *testing.T) {
	harbour, err := demo.Template("harbour")
	if err != nil {
		t.Fatal(err)
	}
	beside := made(t, client.FileSet, client.Find("wordproc-desktop").Install.OnDesk(), harbour)
	if !strings.Contains(names(beside), "harbour-new_files/banner.png") || strings.Contains(names(beside), "harbour-reply_files") ||
		!bytes.Contains(beside.Contents[0].Data, []byte(`src="harbour-new_files/logo.png"`)) {
		t.Errorf("%s", names(beside))
	}
	data := made(t, client.PageFile, client.Find("gecko-desktop").Install.OnDesk(), harbour)
	if names(data) != "harbour.html" || !bytes.Contains(data.Contents[0].Data, []byte(`src="data:image/png;base64,`)) {
		t.Errorf("%s", names(data))
	}
	hosted := made(t, client.PageFile, nil, harbour)
	if !bytes.Contains(hosted.Contents[0].Data, []byte(`src="https://pictures.brackwater.example/harbour/logo.png"`)) {
		t.Errorf("%s", hosted.Contents[0].Data)
	}
	homeless := *harbour
	homeless.Settings.Pictures.Address, homeless.Public = "", ""
	m, err := New(Input{Templates: map[string]*template.Template{"harbour": &homeless}, Schema: schema, Day: day, Way: client.WrappedFile})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := m.Worker().Make(maren, []Choice{{"new", "harbour", "new"}}); !problem.Is(err, problem.Refused) {
		t.Errorf("without an address: %v", err)
	}
}

func TestNoSignatureAndSeveralTemplates(t *testing.T) {
	templates := map[string]*template.Template{"a": tmpl(t, "a", "<p>A</p>"), "b": tmpl(t, "b", "<p>B</p>")}
	m, err := New(Input{Templates: templates, Schema: schema, Day: day, Way: client.FileSet, Base: "Brackwater Ferries"})
	if err != nil {
		t.Fatal(err)
	}
	w := m.Worker()
	for _, c := range []struct {
		choices    []Choice
		files, use string
	}{
		{[]Choice{{"new", "a", "new"}}, "Brackwater Ferries.html Brackwater Ferries.rtf Brackwater Ferries.txt",
			"map[new:Brackwater Ferries reply:]"},
		{[]Choice{{"new", "", ""}, {"reply", "", ""}}, "", "map[new: reply:]"},
		{[]Choice{{"new", "a", "new"}, {"reply", "b", "new"}},
			"Brackwater Ferries-new.html Brackwater Ferries-new.rtf Brackwater Ferries-new.txt " +
				"Brackwater Ferries-reply.html Brackwater Ferries-reply.rtf Brackwater Ferries-reply.txt",
			"map[new:Brackwater Ferries-new reply:Brackwater Ferries-reply]"},
	} {
		k, err := w.Make(maren, c.choices)
		if err != nil || names(k) != c.files || fmt.Sprint(k.Use) != c.use {
			t.Errorf("%v: %s, %v, %v", c.choices, names(k), k.Use, err)
		}
	}
	if _, err := w.Make(maren, []Choice{{"new", "c", "new"}}); !problem.Is(err, problem.NotFound) {
		t.Errorf("an unknown template: %v", err)
	}
	for _, base := range []string{"a/b", "..", "con", strings.Repeat("x", 61), "a:b"} {
		if _, err := New(Input{Way: client.FileSet, Base: base}); !problem.Is(err, problem.Invalid) {
			t.Errorf("the base name %q: %v", base, err)
		}
	}
	for _, way := range []string{"", "fly", client.AppendBlock, client.PictureLink} {
		if _, err := New(Input{Way: way}); !problem.Is(err, problem.Invalid) {
			t.Errorf("the way %q: %v", way, err)
		}
	}
}

func TestSigned(t *testing.T) {
	key := NewKey([32]byte{1})
	list := made(t, client.FileSet, nil, tmpl(t, "quay", "<p>{{ cn }}</p>")).JSON()
	sig := key.Sign(list)
	trusted, err := ReadTrusted(key.Trusted().PEM())
	if err != nil {
		t.Fatal(err)
	}
	again, err := ReadKey(key.PEM())
	if err != nil || !bytes.Equal(again.Sign(list), sig) {
		t.Fatalf("the key does not come back: %v", err)
	}
	l, err := trusted.Open(list, sig)
	if err != nil || l.Person != "maren.lind@brackwater.example" || len(l.Files) != 3 || !bytes.Equal(l.JSON(), list) {
		t.Fatalf("%+v, %v", l, err)
	}
	changed := bytes.Replace(list, []byte("quay"), []byte("quaY"), 1)
	for name, try := range map[string]func() (List, error){
		"changed":        func() (List, error) { return trusted.Open(changed, sig) },
		"another's":      func() (List, error) { return NewKey([32]byte{2}).Trusted().Open(list, sig) },
		"no signature":   func() (List, error) { return trusted.Open(list, nil) },
		"half signature": func() (List, error) { return trusted.Open(list, sig[:20]) },
		"no key":         func() (List, error) { return Trusted{}.Open(list, sig) },
	} {
		if _, err := try(); !problem.Is(err, problem.Refused) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if err := l.Files[0].Check([]byte("x")); !problem.Is(err, problem.Refused) {
		t.Errorf("another content: %v", err)
	}
	for _, text := range []string{"", "x", string(key.PEM())} {
		if _, err := ReadTrusted([]byte(text)); !problem.Is(err, problem.Invalid) {
			t.Errorf("%q as a public key: %v", text, err)
		}
	}
}

// A list that is signed by who is trusted still names nothing outside its folder.
func TestWhatAListMayName(t *testing.T) {
	key := NewKey([32]byte{1})
	for name, ok := range map[string]bool{
		"a.html": true, "a_files/b.png": true, "Brackwater Ferries.htm": true, "ä.html": true,
		"../a": false, "/a": false, "a/../b": false, "a/b/c": false, `a\b`: false, "C:a": false, "": false, "a/": false, "con.txt": false,
		"a\x00": false, "./a": false, "a.html.": false, "a\u202e.html": false, "a//b": false, "file:x": false,
	} {
		list := List{Format: format, Use: map[string]string{}, Files: []Listed{{File: name}}}.JSON()
		if _, err := key.Trusted().Open(list, key.Sign(list)); (err == nil) != ok {
			t.Errorf("%q: %v", name, err)
		}
	}
	twice := List{Format: format, Files: []Listed{{File: "A.html"}, {File: "a.HTML"}}}.JSON()
	if _, err := key.Trusted().Open(twice, key.Sign(twice)); !problem.Is(err, problem.Refused) {
		t.Errorf("names that differ in letter case only: %v", err)
	}
	for _, wrong := range []List{{Format: 2}, {Format: format, Files: make([]Listed, maxListed+1)},
		{Format: format, Files: []Listed{{File: "a", Bytes: MaxFile + 1}}}} {
		if _, err := key.Trusted().Open(wrong.JSON(), key.Sign(wrong.JSON())); err == nil {
			t.Errorf("%d files of format %d are accepted", len(wrong.Files), wrong.Format)
		}
	}
}

func FuzzList(f *testing.F) {
	f.Add(List{Format: format, Files: []Listed{{File: "a.html"}}}.JSON())
	f.Add([]byte(`{"format":1,"files":[{"file":"..\\a"}]}`))
	f.Fuzz(func(t *testing.T, text []byte) {
		l, err := read(text)
		if err != nil {
			return
		}
		for _, file := range l.Files {
			if strings.Contains(file.File, "..") && strings.HasPrefix(file.File, "..") ||
				strings.ContainsAny(file.File, "\\:\x00") || strings.HasPrefix(file.File, "/") {
				t.Errorf("%q is accepted", file.File)
			}
		}
		if again, err := read(l.JSON()); err != nil || !maps.Equal(again.Use, l.Use) {
			t.Errorf("what was read cannot be read again: %v", err)
		}
	})
}

func TestPictureAndLink(t *testing.T) {
	tm, err := template.New("quay",
		template.Parts{Source: `<p>{{ cn }}</p><p><a href="https://www.brackwater.example/">Ferries</a></p><p>"Quay" &amp; <b>more</b></p>`,
			Settings: "pictures: {address: https://pictures.brackwater.example/q/}"})
	if err != nil {
		t.Fatal(err)
	}
	in := Input{Templates: map[string]*template.Template{"quay": tm}, Schema: schema, Day: day}
	shot, err := ShotOf(in, Choice{"new", "quay", "new"}, maren)
	if err != nil || shot.Link != "https://www.brackwater.example/" || shot.Alt != `Maren Lindí, Ferries, "Quay" & more` ||
		!strings.Contains(shot.Page, "<html") {
		t.Fatalf("%+v, %v", shot, err)
	}
	k, err := OfPicture(in, Choice{"new", "quay", "new"}, maren, shot, []byte("\x89PNG\r\n\x1a\n"), 300, 100)
	if err != nil || len(k.Files) != 3 || len(k.Steps().Install) != 3 {
		t.Fatalf("%+v, %v", k.List, err)
	}
	name := k.Files[0].File
	markup := string(k.Contents[1].Data)
	if !strings.Contains(markup,
		`<a href="https://www.brackwater.example/"><img src="https://pictures.brackwater.example/q/`+name+`" width="300" height="100"`) ||
		!strings.Contains(markup, `alt="Maren Lindí, Ferries, &#34;Quay&#34; &amp; more"`) {
		t.Errorf("%s", markup)
	}
	if none := Without(in, maren); none.Person != "maren.lind@brackwater.example" || none.Use["new"] != "" || len(none.Files) != 0 {
		t.Errorf("%+v", none.List)
	}
	tm.Settings.Pictures.Address = ""
	if _, err := OfPicture(in, Choice{"new", "quay", "new"}, maren, shot, nil, 1, 1); !problem.Is(err, problem.Refused) {
		t.Errorf("without an address: %v", err)
	}
}

// A file taken apart and put together again is the file, and its pictures are not in the pieces.
func TestPieces(t *testing.T) {
	harbour, err := demo.Template("harbour")
	if err != nil {
		t.Fatal(err)
	}
	for _, id := range []string{"wordproc-desktop", "gecko-desktop", "text-reader"} {
		k := made(t, client.Find(id).Install.Way, client.Find(id).Install.OnDesk(), harbour)
		apart, whole := 0, 0
		for _, f := range k.Contents {
			pieces := k.Pieces(f.File)
			if pieces == nil {
				continue
			}
			together, err := Together(pieces, func(digest string) ([]byte, error) { return k.Picture(digest), nil })
			if err != nil || !bytes.Equal(together, f.Data) {
				t.Errorf("%s: %s is another when it is put together: %v", id, f.File, err)
			}
			whole += len(f.Data)
			for _, p := range pieces {
				apart += len(p.Text)
			}
		}
		if id == "text-reader" && whole > 0 || id != "text-reader" && (whole == 0 || apart > whole/3) {
			t.Errorf("%s: %d of %d bytes are left", id, apart, whole)
		}
	}
	if _, err := Together([]Piece{{Picture: "a", As: "waves"}},
		func(string) ([]byte, error) { return nil, nil }); !problem.Is(err, problem.Refused) {
		t.Errorf("an unknown way to write a picture: %v", err)
	}
}
