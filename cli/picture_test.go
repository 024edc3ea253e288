package cli

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"missivum/core/picture"
	"missivum/demo/drawing"
)

func TestPictureCommands(t *testing.T) {
	folder := t.TempDir()
	out := func(name string) string { return filepath.Join(folder, name) }
	for _, c := range []struct {
		args []string
		code int
		want string
	}{
		{[]string{"probe", "demo/templates/regatta/pictures/strip.png", "--width", "300"}, 0,
			"strip.png has 840 x 120 px but is shown at 300 x 43 px"},
		{[]string{"probe", "demo/pictures/ferry.svg"}, 1, "ferry.svg is SVG and is not rendered"},
		{[]string{"probe", "demo/people.csv"}, 1, "refused"},
		{[]string{"fit", "demo/pictures/portrait.jpg", "--width", "96", "--height", "96", "--focus", "find", "--shape",
			"round", "-o", out("round.png"), "--compare", out("compare.png")}, 0, `Write width="96" height="96" as attributes`},
		{[]string{"fit", "demo/pictures/portrait.jpg", "--width", "96", "--focus", "0.5", "-o", out("x.png")}, 2, ""},
		{[]string{"fit", "demo/pictures/portrait.jpg", "-o", out("x.png")}, 2, ""},
		{[]string{"fit", "demo/people.csv", "--width", "10", "-o", out("x.png")}, 1, ""},
		{[]string{"compress", "demo/pictures/anchor.png", "-o", out("light.png"), "--trials"}, 0, "chosen"},
		{[]string{"dark", "demo/pictures/anchor.png"}, 1, "vanishes on a dark background"},
		{[]string{"dark", "demo/pictures/anchor.png", "--way", "plate", "-o", out("plate.png"), "--compare",
			out("backgrounds.png")}, 0, "can be seen on every background"},
		{[]string{"dark", "demo/pictures/anchor.png", "--way", "glow", "-o", out("x.png")}, 2, ""},
		{[]string{"slice", "demo/pictures/crossings.png", "--map", "demo/pictures/crossings.map.yaml", "-o", out("cut")}, 0,
			"a template of 6 pieces"},
		{[]string{"slice", "demo/pictures/crossings.png", "--width", "480", "--columns", "3", "-o", out("grid")}, 0, "a template of 3 pieces"},
		{[]string{"slice", "demo/pictures/crossings.png", "--map", "demo/people.csv", "-o", out("x")}, 2, ""},
		{[]string{"code", "https://www.brackwater.example/", "--width", "100", "-o", out("code.png")}, 0, "the next larger takes"},
		{[]string{"code", "--people", "demo/people.csv", "--person", "maren.lind@brackwater.example", "--width", "300", "-o",
			out("maren.png")}, 0, "modules of"},
		{[]string{"code", "--people", "demo/people.csv", "--width", "20", "--person", "bo@brackwater.example", "-o", out("x.png")}, 1, ""},
		{[]string{"code", "-o", out("x.png")}, 2, ""},
		{[]string{"delivery", "demo/templates/harbour", "--people", "demo/people.csv", "--volume", "9000"}, 0, "about 9000 messages a day"},
		{[]string{"export", "demo/templates/harbour", "-o", out("tree")}, 0, "https://pictures.brackwater.example/harbour/logo.png"},
		{[]string{"check", "http://127.0.0.1:9/x.png"}, 1, "lies inside a private network"},
		{[]string{"check", "--allow", "everything", "http://127.0.0.1:9/x.png"}, 2, ""},
		{[]string{"check"}, 2, ""},
		{[]string{"photos", "-o", out("x")}, 2, ""},
	} {
		code, text, errs := run(t, append([]string{"picture"}, c.args...)...)
		if code != c.code || !strings.Contains(text, c.want) || code > 1 && errs == "" {
			t.Errorf("picture %s: exit %d, want %d\n%s%s", strings.Join(c.args, " "), code, c.code, text, errs)
		}
	}
	for name, width := range map[string]int{"round.png": 192, "plate.png": 528, "cut/pictures/crossings-1.png": 400, "tree/logo.png": 176} {
		data, err := os.ReadFile(out(name))
		if err != nil {
			t.Fatal(err)
		}
		if f, err := picture.Probe(data); err != nil || f.Width != width {
			t.Errorf("%s: %+v, %v", name, f, err)
		}
	}
	if code, text, errs := run(t, "check", out("cut")); code != ExitFindings || !strings.Contains(text, "2 findings") ||
		!strings.Contains(text, "picture-only") || !strings.Contains(text, "picture-address") {
		t.Errorf("the cut template, which has no text yet: exit %d\n%s%s", code, text, errs)
	}
	if err := os.WriteFile(out("tree/logo.png"), []byte("older"), 0o600); err != nil {
		t.Fatal(err)
	}
	if code, _, errs := run(t, "picture", "export", "demo/templates/harbour", "-o", out("tree")); code != ExitFindings ||
		!strings.Contains(errs, "messages already sent show it") {
		t.Errorf("a file that was sent is overwritten: exit %d: %s", code, errs)
	}
	code, text, _ := run(t, "picture", "probe", "demo/pictures/anchor.png", "--format", "json")
	var probes []probed
	if err := json.Unmarshal([]byte(text), &probes); code != 0 || err != nil || len(probes) != 1 ||
		len(probes[0].Sights) != 3 || probes[0].Findings[0].Check != "picture-dark" {
		t.Errorf("exit %d, %v: %s", code, err, text)
	}
}

func TestEverybodysCodesAndPhotos(t *testing.T) {
	folder := t.TempDir()
	people := write(t, "crew.csv", "mail,cn,telephoneNumber\nann@brackwater.example,Ann Tide,01632 960001\nnobody@brackwater.example,,\n")
	codes := filepath.Join(folder, "codes")
	code, out, errs := run(t, "picture", "code", "--people", people, "--width", "200", "--organisation",
		"Brackwater Ferries", "-o", codes, "--address", "https://p.brackwater.example/")
	if code != ExitFine || !strings.Contains(out, "1 code, 1 left out") || !strings.Contains(errs, "nobody@brackwater.example has no name") {
		t.Errorf("exit %d: %s%s", code, out, errs)
	}
	table, err := os.ReadFile(filepath.Join(codes, "codes.csv"))
	if err != nil || !strings.HasPrefix(string(table), "mail,codeAddress,file\nann@brackwater.example,https://p.brackwater.example/") {
		t.Errorf("%s, %v", table, err)
	}
	photos := filepath.Join(folder, "photos")
	if err := os.MkdirAll(photos, 0o750); err != nil {
		t.Fatal(err)
	}
	for i, name := range []string{"ann@brackwater.example.jpg", "bo@brackwater.example.jpg"} {
		data, err := drawing.PortraitJPEG(uint64(i), 90, 120)
		if err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(photos, name), data, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	fitted := filepath.Join(folder, "fitted")
	for _, want := range []string{"2 photos fitted, 0 there already", "0 photos fitted, 2 there already"} {
		if code, out, errs := run(t, "picture", "photos", photos, "--width", "24", "--height", "24", "-o",
			fitted); code != ExitFine || !strings.Contains(out, want) {
			t.Errorf("exit %d: %s%s", code, out, errs)
		}
	}
	if code, out, _ := run(t, "picture", "photos", photos, "--width", "30", "--height", "30", "-o",
		fitted); code != ExitFine || !strings.Contains(out, "2 photos fitted") {
		t.Errorf("another size is not made anew: exit %d: %s", code, out)
	}
}
