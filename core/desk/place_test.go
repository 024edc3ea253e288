package desk

import (
	"strings"
	"testing"

	"missivum/core/problem"
)

const good = "id: quay\ntitle: Quay\nclient: gecko-desktop\nfolders:\n  linux: [\"${HOME}/.quay\"]\n"

func TestShippedPlaces(t *testing.T) {
	for _, p := range Shipped() {
		if p.About == "" || len(p.Folders) != 3 {
			t.Errorf("%s: %+v", p.ID, p)
		}
	}
	if len(Shipped()) == 0 {
		t.Error("there are none")
	}
}

func TestWrongPlacesAreRefusedWithTheLine(t *testing.T) {
	if _, err := Parse([]byte(good)); err != nil {
		t.Fatalf("a right place is refused: %v", err)
	}
	for name, c := range map[string]struct{ text, says string }{
		"not YAML":          {"id: [", "line 1"},
		"unknown member":    {good + "colour: red\n", "colour"},
		"wrong system":      {strings.Replace(good, "linux", "beos", 1), "line 5"},
		"no client":         {strings.Replace(good, "client: gecko-desktop\n", "", 1), "line 1: the place: "},
		"leads outside":     {good + "running: {lock: ../lock}\n", "outside"},
		"signatures above":  {good + "signatures: a/../..\n", "outside"},
		"a broken pattern":  {good + "files: [\"[\"]\n", "pattern"},
		"nothing set":       {good + "choice: {file: a.ini, format: ini}\n", "sets nothing"},
		"unknown format":    {good + "choice: {file: a.ini, format: toml, new: {on: [{key: a, value: b}]}}\n", "line 6"},
		"two ways at once":  {good + "meant: [{name: a, newest: true}]\n", "line 6"},
		"a value of a list": {good + "choice: {file: a.ini, format: ini, new: {on: [{key: a, value: []}]}}\n", "line 6"},
	} {
		if _, err := Parse([]byte(c.text)); !problem.Is(err, problem.Invalid) || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v; want %q", name, err, c.says)
		}
	}
}

func TestVariablesInFolders(t *testing.T) {
	p := &Place{Folders: map[string][]string{Linux: {"${HOME}/.quay/*", "${MISSING}/x", "${HOME", "/opt/${A}/${HOME}",
		"${EMPTY}/y"}, Windows: {"${APPDATA}/Quay"}}}
	variable := func(name string) (string, bool) {
		v, ok := map[string]string{"HOME": "/home/ma[r]en*", "A": "a", "APPDATA": `C:\Users\m\AppData`, "EMPTY": ""}[name]
		return v, ok
	}
	if got := strings.Join(p.Patterns(Linux, variable), " "); got != `/home/ma\[r]en\*/.quay/* /opt/a//home/ma\[r]en\*` {
		t.Errorf("%s", got)
	}
	if got := strings.Join(p.Patterns(Windows, variable), " "); got != "C:/Users/m/AppData/Quay" {
		t.Errorf("%s", got)
	}
	if got := p.Patterns(MacOS, variable); len(got) != 0 {
		t.Errorf("%s", got)
	}
}

func TestOwnPlacesTakeThePlaceOfShippedOnes(t *testing.T) {
	list, err := With(map[string][]byte{"a.yaml": []byte(strings.Replace(good, "id: quay", "id: gecko-desktop", 1)), "b.yaml": []byte(good)})
	if err != nil || len(list) != len(Shipped())+1 || list[0].Title != "Quay" {
		t.Errorf("%v, %v", list, err)
	}
	if _, err := With(map[string][]byte{"a.yaml": []byte("id: x"), "b.yaml": []byte("id: y")}); err == nil ||
		!strings.Contains(err.Error(), "a.yaml: ") || !strings.Contains(err.Error(), "b.yaml: ") {
		t.Errorf("%v", err)
	}
}

func TestSameMeaning(t *testing.T) {
	for _, c := range []struct {
		name, form, a, b string
		same             bool
	}{
		{"styles", "html", `<p style="color:red">Maren <b>Lind</b></p>`, `<P>Maren&#32;Lind</P>`, true},
		{"no-break spaces", "html", "<p>a&nbsp;b</p>", "<p>a b</p>", true},
		{"a head that the client adds", "html", "<p>a</p>",
			"<html><head><title>x</title><style>p{}</style></head><body><p>a</p></body></html>", true},
		{"pictures moved", "html", `<img src="a/logo.png">`, `<img src="file:///x/logo.png">`, true},
		{"another picture", "html", `<img src="a/logo.png">`, `<img src="a/banner.png">`, false},
		{"another link", "html", `<a href="https://a.example/">x</a>`, `<a href="https://b.example/">x</a>`, false},
		{"a word more", "html", "<p>a</p>", "<p>a b</p>", false},
		{"a word less", "html", "<p>a b</p>", "<p>a</p>", false},
		{"line ends", "text", "a\r\nb", "a\nb\n", true},
		{"the text's width", "text", "a b", "\xff\xfea\x00 \x00b\x00", true},
		{"encodings of a part", "mime", "Content-Transfer-Encoding: quoted-printable\n\n<p>a=\n b</p>",
			"X: y\nContent-Transfer-Encoding: base64\n\nPHA+YSBiPC9wPg==\n", true},
		{"rich text", "rtf", "a", "b", false},
	} {
		if same, difference := SameMeaning(c.form, []byte(c.a), []byte(c.b)); same != c.same || same != (difference == "") {
			t.Errorf("%s: %v, %q", c.name, same, difference)
		}
	}
	if same, _ := SameMeaning("html", nil, []byte("x")); same {
		t.Error("what was placed is not known, and yet it is the same")
	}
}

func FuzzPlace(f *testing.F) {
	f.Add([]byte(good))
	f.Fuzz(func(t *testing.T, data []byte) {
		p, err := Parse(data)
		if err == nil && (p.ID == "" || len(p.Folders) == 0 || strings.Contains(p.Signatures, "..") && strings.HasPrefix(p.Signatures, "..")) {
			t.Errorf("%q is accepted: %+v", data, p)
		}
	})
}

func FuzzSameMeaning(f *testing.F) {
	f.Add("html", "<p>a</p>", "<p>b</p>")
	f.Add("mime", "A: b\n\nx", "A: b\n\ny")
	f.Fuzz(func(t *testing.T, form, a, b string) {
		SameMeaning(form, []byte(a), []byte(b))
		if same, difference := SameMeaning("html", []byte(a), []byte(a)); !same {
			t.Errorf("a page is not the same as itself: %s", difference)
		}
	})
}
