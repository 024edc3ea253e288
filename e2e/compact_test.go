package e2e

import (
	"bytes"
	"context"
	"image/png"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/chromedp/chromedp"

	"missivum/core/compact"
	"missivum/core/compose"
	"missivum/core/person"
	"missivum/core/preview"
	"missivum/core/starter"
	"missivum/core/template"
	"missivum/demo"
	"missivum/e2e/rig"
)

func demosAndStarters(t *testing.T) []*template.Template {
	t.Helper()
	demos, err := demo.Templates()
	if err != nil {
		t.Fatal(err)
	}
	starters, err := starter.All()
	if err != nil {
		t.Fatal(err)
	}
	return append(demos, starters...)
}

// pages are the sources of a folder's pages, by their name without the ending.
func pages(t *testing.T, folder string) map[string]string {
	t.Helper()
	files, err := filepath.Glob(folder + "/*.html")
	if err != nil || len(files) < 12 {
		t.Fatalf("%s: %d files, %v", folder, len(files), err)
	}
	list := map[string]string{}
	for _, file := range files {
		data, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		list[strings.TrimSuffix(filepath.Base(file), ".html")] = string(data)
	}
	return list
}

func bareTemplate(t *testing.T, source string) *template.Template {
	t.Helper()
	tmpl, err := template.OpenBare(fstest.MapFS{"x.html": {Data: []byte(source)}}, "x.html")
	if err != nil {
		t.Fatal(err)
	}
	return tmpl
}

// templatesOfAllKinds are templates of all kinds: the demo's, the starters, the messy pages and the faulty ones.
func templatesOfAllKinds(t *testing.T) map[string]*template.Template {
	t.Helper()
	all := map[string]*template.Template{}
	for _, tmpl := range demosAndStarters(t) {
		all[tmpl.Name] = tmpl
	}
	for _, folder := range []string{"../core/clean/testdata/messy", "../core/fix/testdata/faulty"} {
		for name, text := range pages(t, folder) {
			// what looks like the template language, and is none, is not what is compared here
			text = strings.NewReplacer("marquee", "i", "data-block", "block", "data-text", "text", `data-picture="logo"`,
				`src="x.png"`, "data-gen", "gen", "data-cke", "cke", "data-mce", "mce").Replace(text)
			all[filepath.Base(folder)+" "+name] = bareTemplate(t, text)
		}
	}
	return all
}

// drawn is a signature as Chromium draws it on white, as PNG.
func drawn(t *testing.T, tab context.Context, body string) []byte {
	t.Helper()
	file := filepath.Join(t.TempDir(), "x.html")
	page := `<!doctype html><meta charset="utf-8"><meta http-equiv="Content-Security-Policy" content="script-src ` +
		`'none'"><body style="margin: 12px">` + body
	if err := os.WriteFile(file, []byte(page), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := chromedp.Do(tab, chromedp.EmulateViewport(900, 700), chromedp.Navigate("file://"+file)); err != nil {
		t.Fatal(err)
	}
	picture, err := chromedp.Run(tab, chromedp.FullScreenshot(100))
	if err != nil {
		t.Fatal(err)
	}
	return picture
}

// TestCompactingKeepsTheLook draws every template as it is and made shorter, and compares the drawings pixel by pixel.
func TestCompactingKeepsTheLook(t *testing.T) {
	t.Parallel()
	people, err := demo.Directory()
	if err != nil {
		t.Fatal(err)
	}
	tab := browser(t)
	before, after := 0, 0
	for name, tmpl := range templatesOfAllKinds(t) {
		for _, mail := range []string{"maren.lind@brackwater.example", "salma.albahri@brackwater.example"}[:rig.Soak(1, 2)] {
			plain, short, err := bothWays(tmpl, people, people.Find(mail))
			if err != nil {
				t.Errorf("%s: %v", name, err)
				continue
			}
			before, after = before+len(plain), after+len(short)
			if len(short) > len(plain) {
				t.Errorf("%s: %d bytes became %d", name, len(plain), len(short))
			}
			if plain == short {
				continue
			}
			if difference := pixelsThatDiffer(t, drawn(t, tab, plain), drawn(t, tab, short)); difference > 0 {
				t.Errorf("%s for %s: %d pixels differ", name, mail, difference)
			}
		}
	}
	t.Logf("%d bytes became %d", before, after)
}

func bothWays(tmpl *template.Template, people *person.Directory, who *person.Person) (plain, short string, err error) {
	prepared, err := compose.Prepare(tmpl, people.Schema, time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC), compose.Data)
	if err != nil {
		return "", "", err
	}
	variant := tmpl.Variants()[0]
	if plain, err = preview.Of(prepared).Shown(variant, who); err != nil {
		return "", "", err
	}
	prepared.Compacting = compact.All()
	short, err = preview.Of(prepared).Shown(variant, who)
	return plain, short, err
}

func pixelsThatDiffer(t *testing.T, a, b []byte) int {
	t.Helper()
	first, err := png.Decode(bytes.NewReader(a))
	if err != nil {
		t.Fatal(err)
	}
	second, err := png.Decode(bytes.NewReader(b))
	if err != nil {
		t.Fatal(err)
	}
	if first.Bounds() != second.Bounds() {
		return max(first.Bounds().Dx()*first.Bounds().Dy(), 1)
	}
	count := 0
	for y := range first.Bounds().Dy() {
		for x := range first.Bounds().Dx() {
			if first.At(x, y) != second.At(x, y) {
				count++
			}
		}
	}
	return count
}
