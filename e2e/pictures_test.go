package e2e

import (
	"archive/zip"
	"bytes"
	"context"
	"errors"
	"fmt"
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"gopkg.in/yaml.v3"

	"missivum/core/check"
	"missivum/core/client"
	"missivum/core/compose"
	"missivum/core/person"
	"missivum/core/picture"
	"missivum/core/preview"
	"missivum/core/template"
	"missivum/demo"
	"missivum/demo/drawing"
	"missivum/e2e/rig"
	"missivum/service/pictures"
)

// design is a picture and how it is cut.
type design struct {
	data []byte
	cuts picture.SliceMap
}

func designs(t *testing.T) map[string]design {
	t.Helper()
	files, err := demo.Pictures()
	if err != nil {
		t.Fatal(err)
	}
	var cuts picture.SliceMap
	if err := yaml.Unmarshal(files["crossings.map.yaml"], &cuts); err != nil {
		t.Fatal(err)
	}
	// one colour cut at uneven places, some pieces within others: every gap shows
	flat := image.NewNRGBA(image.Rect(0, 0, 602, 302))
	draw.Draw(flat, flat.Rect, image.NewUniform(color.NRGBA{200, 85, 61, 255}), image.Point{}, draw.Src)
	var b bytes.Buffer
	if err := png.Encode(&b, flat); err != nil {
		t.Fatal(err)
	}
	uneven := picture.SliceMap{Width: 301, Lines: []picture.Line{
		{At: 47}, {At: 99}, {At: 83, Down: true, Until: 47}, {At: 31, Down: true, From: 47, Until: 99},
		{At: 173, Down: true, From: 47, Until: 99}, {At: 71, From: 173},
		{At: 213, Down: true, From: 47, Until: 71}, {At: 149, Down: true, From: 99},
	}}
	for x := 5; x < 301; x += 20 { // a label keeps a piece of one colour a picture
		for y := 5; y < 151; y += 20 {
			uneven.Pieces = append(uneven.Pieces, picture.Label{X: x, Y: y, Alt: "Piece"})
		}
	}
	return map[string]design{"crossings": {files["crossings.png"], cuts}, "uneven": {b.Bytes(), uneven}}
}

// TestSlicesJoinWithoutGaps draws the tables of cut designs as every client shows them, at three zooms, on a background
// that no design has: nothing of it may be seen within the table. The tables pass all checks.
func TestSlicesJoinWithoutGaps(t *testing.T) {
	t.Parallel()
	files := map[string][]byte{}
	page := ""
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if data, ok := files[strings.TrimPrefix(r.URL.Path, "/p/")]; ok {
			w.Write(data)
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		io.WriteString(w, page)
	}))
	defer server.Close()
	tab := browser(t)
	day := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	for name, d := range designs(t) {
		cut, err := picture.Slice(d.data, d.cuts, name)
		if err != nil {
			t.Fatal(err)
		}
		made, err := pictures.SlicedFiles(cut, d.cuts, name)
		if err != nil {
			t.Fatal(err)
		}
		parts := template.Parts{Source: "<p style=\"margin: 0\">{{ cn }}, Brackwater Ferries</p>\n" + cut.Table,
			Settings: string(made[template.SettingsFile]), Pictures: map[string][]byte{}}
		for file, data := range made {
			if base, ok := strings.CutPrefix(file, template.PictureFolder+"/"); ok {
				parts.Pictures[base], files[base] = data, data
			}
		}
		tmpl, err := template.New(name, parts)
		if err != nil {
			t.Fatal(err)
		}
		tmpl.Public = "https://pictures.brackwater.example/"
		report, err := check.Run(context.Background(), check.Input{Template: tmpl, Profiles: client.Shipped(), Day: day})
		if err != nil || len(report.Findings) > 0 {
			t.Errorf("%s does not pass the checks: %+v, %v", name, report.Findings, err)
		}
		prepared, err := compose.Prepare(tmpl, person.NewSchema(), day, compose.Below(server.URL+"/p/"))
		if err != nil {
			t.Fatal(err)
		}
		drawn := map[string]bool{}
		for _, profile := range client.Shipped() {
			if profile.Form != "html" {
				continue
			}
			kept, err := preview.Of(prepared).Kept(profile, client.Render, "new", nil)
			if err != nil {
				t.Fatal(err)
			}
			if drawn[kept.Body] { // another client shows the same
				continue
			}
			drawn[kept.Body] = true
			page = `<!doctype html><meta charset="utf-8"><body style="margin: 7px; background: #00ff00">` +
				strings.NewReplacer("bgcolor=", "data-was=", "padding: 0", "padding: 0 1px 0 0").Replace(kept.Body)
			if gaps, _ := gapsIn(t, tab, server.URL, 1, nil); gaps == 0 {
				t.Fatalf("gaps are not seen where there are some: %s", page)
			}
			for _, background := range []bool{true, false} { // with the pieces' backgrounds behind them, and without that help
				body := kept.Body
				if !background {
					body = strings.ReplaceAll(body, "bgcolor=", "data-was=")
				}
				for _, zoom := range []float64{1, 1.25, 1.5} {
					page = `<!doctype html><meta charset="utf-8"><body style="margin: 7px; background: #00ff00">` + body
					var plain []picture.Piece
					if !background {
						plain = cut.Pieces
					}
					gaps, size := gapsIn(t, tab, server.URL, zoom, plain)
					if gaps > 0 || size != image.Pt(cut.Width, cut.Height) {
						t.Errorf("%s in %s at %.0f %%, backgrounds %v: the table has %v px, and %d pixels show the page behind",
							name, profile.ID, 100*zoom, background, size, gaps)
					}
				}
			}
		}
	}
}

// gapsIn draws the page, counts the pixels of the page's background within the table and gives the table's size in px.
// Pieces of plain colour among those given do not count: they are nothing but a background.
func gapsIn(t *testing.T, tab context.Context, address string, zoom float64, pieces []picture.Piece) (gaps int, size image.Point) {
	t.Helper()
	if err := chromedp.Do(tab, chromedp.EmulateViewport(900, 500, chromedp.EmulateScale(zoom)), chromedp.Navigate(address)); err != nil {
		t.Fatal(err)
	}
	waitFor(t, tab, "the pieces are loaded", `[...document.images].every(i => i.complete && i.naturalWidth > 0)`)
	box := evaluate[[]float64](t, tab, `(r => [r.left, r.top, r.width, r.height])(document.querySelector('table').getBoundingClientRect())`)
	shot, err := chromedp.Run(tab, chromedp.CaptureScreenshot())
	if err != nil {
		t.Fatal(err)
	}
	img, err := png.Decode(bytes.NewReader(shot))
	if err != nil {
		t.Fatal(err)
	}
	plain := func(x, y float64) bool {
		return slices.ContainsFunc(pieces, func(p picture.Piece) bool {
			return p.Plain != "" && x >= float64(p.X)-1 && x <= float64(p.X+p.Width)+1 && y >= float64(p.Y)-1 && y <= float64(p.Y+p.Height)+1
		})
	}
	for y := int(box[1]*zoom) + 1; y < int((box[1]+box[3])*zoom)-1; y++ {
		for x := int(box[0]*zoom) + 1; x < int((box[0]+box[2])*zoom)-1; x++ {
			r, g, b, _ := img.At(x, y).RGBA()
			if g > 0xc000 && r < 0x8000 && b < 0x8000 && !plain(float64(x)/zoom-box[0], float64(y)/zoom-box[1]) {
				gaps++
			}
		}
	}
	return gaps, image.Pt(int(box[2]), int(box[3]))
}

// TestPicturesInTheConsole adds, fits, crops by key and by hand, cuts, and puts a picture into a template.
func TestPicturesInTheConsole(t *testing.T) {
	s := demoService(t)
	tab := browser(t)
	do(t, tab, "opening pictures", chromedp.Navigate(s.Address+"/pictures"))
	waitFor(t, tab, "the demo's originals are listed",
		`/anchor[\s\S]*crossings[\s\S]*ferry[\s\S]*portrait/.test(document.querySelector('table[aria-label="Pictures"]')?.innerText ?? '')`)

	// the cropper
	do(t, tab, "opening the portrait", chromedp.Click(`//a[text()="portrait"]`),
		chromedp.Click(`//button[@role="tab" and text()="Fit and crop"]`))
	waitFor(t, tab, "a rendition is there", `/240 × 320 px/.test(document.querySelector('[aria-label="What came of it"]')?.innerText ?? '')`)
	field := func(label string) string {
		return fmt.Sprintf(`//label[text()=%q]/following-sibling::div//input`, label)
	}
	do(t, tab, "another size", chromedp.SendKeys(field("Width, px"), "\b\b\b72"),
		chromedp.SendKeys(field("Height, px"), "72"), rig.Choose("Shape", "round"))
	waitFor(t, tab, "it is made",
		`/PNG, 144 × 144 px[\s\S]*shown at 72 × 72 px/.test(document.querySelector('[aria-label="What came of it"]')?.innerText ?? '')`)
	frame := `document.querySelector('[aria-label^="Crop frame"]')`
	where := func() string { return evaluate[string](t, tab, frame+`.getAttribute('aria-label')`) }
	before := where()
	do(t, tab, "finding the focus", chromedp.Click(`//button[text()="Find the focus"]`))
	waitFor(t, tab, "the frame moves to it", fmt.Sprintf(`%s.getAttribute('aria-label') !== %q`, frame, before))
	before = where()
	do(t, tab, "moving the frame by key", chromedp.Focus(chromedp.CSS(`[aria-label^="Crop frame"]`)), chromedp.KeyEvent("+"),
		chromedp.KeyEvent("+"), chromedp.KeyEvent(kb.ArrowUp), chromedp.KeyEvent(kb.ArrowRight))
	if after := where(); after == before {
		t.Errorf("the keys do not move the frame: %s", after)
	}
	before = where()
	evaluate[bool](t, tab, `(() => { const f = `+frame+
		`, r = f.getBoundingClientRect(); const at = (type, dx, dy) => f.dispatchEvent(new PointerEvent(type, { bubbles: `+
		`true, pointerId: 1, clientX: r.left + r.width / 2 + dx, clientY: r.top + r.height / 2 + dy }));
		f.parentElement.setPointerCapture = () => {}; at('pointerdown', 0, 0); at('pointermove', -30, 25); at('pointerup', `+
		`-30, 25); return true })()`)
	waitFor(t, tab, "dragging moves it", fmt.Sprintf(`%s.getAttribute('aria-label') !== %q`, frame, before))
	do(t, tab, "keeping it", chromedp.Click(`//button[text()="Keep the rendition"]`))
	waitFor(t, tab, "it has a lasting key", `/Kept as [a-z2-7]{24}\.png/.test(document.body.innerText)`)
	do(t, tab, "into harbour", rig.Choose("Template", "Harbour"), chromedp.SendKeys(field("Name there"), "photo"),
		chromedp.Click(`//button[text()="Put it in"]`))
	waitFor(t, tab, "harbour has a new version", `/Saved as version 2 of Harbour/.test(document.body.innerText)`)

	// a new version, and what it changes
	file := filepath.Join(t.TempDir(), "new.jpg")
	data, err := drawing.PortraitJPEG(2, 900, 900)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, data, 0o600); err != nil {
		t.Fatal(err)
	}
	do(t, tab, "a new version", chromedp.Click(`//button[text()="New version"]`),
		chromedp.SetUploadFiles(chromedp.CSS(`[role="dialog"] input[type="file"]`), []string{file}),
		chromedp.Click(`//button[text()="Save the version"]`), chromedp.WaitNotPresent(chromedp.CSS(`[role="dialog"]`)))
	do(t, tab, "versions and uses", chromedp.Click(`//button[@role="tab" and text()="Versions and uses"]`))
	waitFor(t, tab, "it says what the new version changes",
		`/version 2 in place of 1[\s\S]*shape: 720 x 960 px became 900 x 900[\s\S]*weight:[\s\S]*look: a `+
			`difference/.test(document.querySelector('ul[aria-label="What it changes in harbour"]')?.innerText ?? '')`)
	do(t, tab, "taking it", chromedp.Click(`//button[text()="Take the latest"]`))
	waitFor(t, tab, "harbour has it",
		`/harbour as photo, version 2[\s\S]*the latest/.test(document.querySelector('ul[aria-label="Uses"]')?.innerText ?? '')`)

	// the slicer
	do(t, tab, "opening the slicer", chromedp.Navigate(s.Address+"/pictures/crossings?part=slice"))
	waitFor(t, tab, "the stored cuts are there", `document.querySelectorAll('ol[aria-label="Pieces"] > li').length === 6`)
	waitFor(t, tab, "text is pointed out", `/better typed/.test(document.querySelector('ol[aria-label="Pieces"]').innerText)`)
	evaluate[bool](t, tab, `(() => { const d = document.querySelector('[aria-label="Design"]'), r = `+
		`d.getBoundingClientRect(); d.dispatchEvent(new PointerEvent('pointerdown', { bubbles: true, pointerId: 1, `+
		`clientX: r.left + r.width * 0.7, clientY: r.top + r.height * 0.3 })); return true })()`)
	waitFor(t, tab, "pressing draws a line up to its neighbours",
		`/Line 6, across at 60 `+
			`px/.test([...document.querySelectorAll('[role="separator"]')].at(-1).getAttribute('aria-label')) && `+
			`document.querySelectorAll('ol[aria-label="Pieces"] > li').length === 7`)
	do(t, tab, "moving it by key", chromedp.Focus(chromedp.CSS(`[aria-label^="Line 6"]`)), chromedp.KeyEvent(kb.ArrowDown),
		chromedp.KeyEvent(kb.ArrowDown))
	waitFor(t, tab, "it moved", `document.querySelector('[aria-label="Line 6, across at 62 px"]')`)
	waitFor(t, tab, "pieces are joined in the table",
		`document.querySelector('iframe[title="The pieces in their table"]').srcdoc.includes('data:image/') && `+
			`document.querySelector('pre[aria-label="Table"]').innerText.includes('data-picture="crossings-6"')`)
	do(t, tab, "a link", chromedp.SendKeys(field("Link of piece 7"), "https://www.brackwater.example/news"))
	do(t, tab, "keeping the cuts", chromedp.Click(`//button[text()="Keep the cuts"]`))
	waitFor(t, tab, "they are kept", `/The cuts are kept/.test(document.body.innerText)`)
	do(t, tab, "removing the line", chromedp.Focus(chromedp.CSS(`[aria-label^="Line 6"]`)), chromedp.KeyEvent(kb.Delete))
	waitFor(t, tab, "it is gone", `document.querySelectorAll('[role="separator"]').length === 5`)
	var record pictures.Record
	getJSON(t, s.Address+"/api/v1/pictures/crossings", &record)
	if len(record.Slices.Lines) != 6 {
		t.Errorf("stored cuts: %+v", record.Slices)
	}

	// dark background
	do(t, tab, "dark background", chromedp.Navigate(s.Address+"/pictures/anchor?part=dark"))
	waitFor(t, tab, "it is measured and fixed",
		`/It vanishes on a dark background/.test(document.body.innerText) && `+
			`[...document.querySelectorAll('p')].filter(p => /seen on dark: 100 %/.test(p.innerText)).length === 1`)

	do(t, tab, "into harbour, fixed", rig.Choose("Template", "Harbour"), chromedp.Click(`//button[text()="Put it in"]`))
	waitFor(t, tab, "harbour has the fixed one", `/Saved as version \d of Harbour/.test(document.body.innerText)`)

	// delivery
	do(t, tab, "delivery", chromedp.Navigate(s.Address+"/pictures?part=delivery"))
	waitFor(t, tab, "consequences in figures",
		`/hosted[\s\S]*0 kB[\s\S]*hidden until allowed[\s\S]*not at all[\s\S]*carried[\s\S]*\d `+
			`MB/.test(document.querySelector('table[aria-label="Ways"]')?.innerText ?? '')`)
	do(t, tab, "choosing", chromedp.Click(`//button[@aria-label="Choose hosted for message"]`))
	waitFor(t, tab, "it is chosen",
		`!document.querySelector('button[aria-label="Choose hosted for message"]') && `+
			`document.querySelector('button[aria-label="Choose carried for message"]')`)

	// codes
	do(t, tab, "codes", chromedp.Click(`//button[@role="tab" and text()="Codes"]`),
		chromedp.SendKeys(field("Link or text"), "https://www.brackwater.example/"))
	waitFor(t, tab, "a link's code is drawn",
		`/modules each way of \d+ pixels/.test(document.body.innerText) && `+
			`document.querySelector('pre[aria-label="What it says"]').innerText === 'https://www.brackwater.example/'`)

	// addresses
	do(t, tab, "asking an address", chromedp.Click(`//button[@role="tab" and text()="Addresses"]`),
		chromedp.SendKeys(field("Address of a picture"), s.Address+"/p/x.png"), chromedp.Click(`//button[text()="Ask it"]`))
	waitFor(t, tab, "the private network is not asked",
		`/not shown[\s\S]*lies inside a private network/.test(document.querySelector('ul[aria-label="Addresses"]')?.innerText ?? '')`)
}

// TestCompressAltsAndPhotosInTheConsole: the other tools of the page, as they are used.
func TestCompressAltsAndPhotosInTheConsole(t *testing.T) {
	s := demoService(t)
	tab := browser(t)
	field := func(label string) string {
		return fmt.Sprintf(`//label[text()=%q]/following-sibling::div//input`, label)
	}
	do(t, tab, "compressing the anchor", chromedp.Navigate(s.Address+"/pictures/anchor?part=compress"))
	waitFor(t, tab, "what was tried is listed", `/chosen/.test(document.querySelector('table[aria-label="Tried"]')?.innerText ?? '')`)
	if n := evaluate[int](t, tab,
		`[...document.querySelectorAll('figure img')].filter(i => i.complete && i.naturalWidth === 512).length`); n != 3 {
		t.Errorf("%d of before, after and difference are shown", n)
	}
	do(t, tab, "with a limit", chromedp.SendKeys(field("At most, bytes"), "900"))
	waitFor(t, tab, "what the limit costs is reported",
		`/the difference of 0\.\d+ can be seen|more than the 900 asked `+
			`for/.test(document.querySelector('[aria-label="What was done"]')?.innerText ?? '')`)
	do(t, tab, "keeping it", chromedp.Click(`//button[text()="Keep the lighter file"]`))
	waitFor(t, tab, "it is kept", `/Kept as [a-z2-7]{24}/.test(document.body.innerText)`)

	do(t, tab, "alternative texts", chromedp.Click(`//button[@role="tab" and text()="Versions and uses"]`),
		chromedp.WaitVisible(chromedp.CSS(`form[aria-label="Alternative texts"]`)))
	waitFor(t, tab, "the rendition is listed and shown",
		`document.querySelectorAll('table[aria-label="Renditions"] img').length === 1 && `+
			`[...document.images].every(i => i.complete && i.naturalWidth > 0)`)
	do(t, tab, "writing one", chromedp.SendKeys(field("Language"), "sv"), chromedp.SendKeys(field("Text"), "Ankare"),
		chromedp.Click(`//button[text()="Save the texts"]`))
	waitFor(t, tab, "it is saved", `document.querySelector('form[aria-label="Alternative texts"] button').disabled`)
	do(t, tab, "the list", chromedp.Click(`//nav//a[text()="Pictures"]`))
	waitFor(t, tab, "the list says it", `/Ankare/.test(document.querySelector('table[aria-label="Pictures"]')?.innerText ?? '')`)

	file := filepath.Join(t.TempDir(), "photos.zip")
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for i, mail := range []string{"maren.lind@brackwater.example", "bo@brackwater.example", "broken@brackwater.example"} {
		w, err := z.Create(mail + ".jpg")
		if err != nil {
			t.Fatal(err)
		}
		data := []byte("no picture")
		if i < 2 {
			if data, err = drawing.PortraitJPEG(uint64(i), 120, 160); err != nil {
				t.Fatal(err)
			}
		}
		if _, err := w.Write(data); err != nil {
			t.Fatal(err)
		}
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, b.Bytes(), 0o600); err != nil {
		t.Fatal(err)
	}
	do(t, tab, "photos", chromedp.Click(`//button[@role="tab" and text()="Photos of people"]`),
		chromedp.SetUploadFiles(chromedp.CSS(`input[type="file"]`), []string{file}))
	waitFor(t, tab, "they are fitted, and the broken one is named",
		`/2 photos fitted[\s\S]*broken@brackwater\.example/.test(document.body.innerText)`)
	do(t, tab, "the people", chromedp.Click(`//nav//a[text()="People"]`),
		chromedp.SendKeys(chromedp.CSS(`input[type="search"]`), "maren.lind"))
	answer, err := http.Get(s.Address + "/api/v1/people?search=maren.lind")
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	said, err := io.ReadAll(answer.Body)
	if err != nil || !strings.Contains(string(said), "photoAddress") ||
		!strings.Contains(string(said), "https://pictures.brackwater.example/") {
		t.Errorf("the person has no address of the photo: %s, %v", said, err)
	}
}

// TestManyPhotos fits photos in bulk, is killed on the way, and goes on: nothing is half written, nothing
// made twice.
func TestManyPhotos(t *testing.T) {
	t.Parallel()
	const faces = 12
	people := rig.Soak(400, 2000)
	folder := t.TempDir()
	photos, fitted := filepath.Join(folder, "photos"), filepath.Join(folder, "fitted")
	if err := os.MkdirAll(photos, 0o750); err != nil {
		t.Fatal(err)
	}
	for face := range faces {
		data, err := drawing.PortraitJPEG(uint64(face), 240, 320)
		if err != nil {
			t.Fatal(err)
		}
		for n := face; n < people; n += faces {
			if err := os.WriteFile(filepath.Join(photos, fmt.Sprintf("crew.%04d@brackwater.example.jpg", n)), data, 0o600); err != nil {
				t.Fatal(err)
			}
		}
	}
	if err := os.WriteFile(filepath.Join(photos, "broken@brackwater.example.jpg"), []byte("\xff\xd8\xff\xe0 broken"), 0o600); err != nil {
		t.Fatal(err)
	}
	command := func() *exec.Cmd {
		return exec.Command(binary, "picture", "photos", photos, "--width", "48", "--height", "48", "--focus", "find",
			"--shape", "round", "--background", "ffffff", "--multiple", "1", "-o", fitted, "--address", "https://pictures.brackwater.example/")
	}
	first := command()
	if err := first.Start(); err != nil {
		t.Fatal(err)
	}
	for end := time.Now().Add(3 * patience); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		if made, err := filepath.Glob(filepath.Join(fitted, "crew.*")); err == nil && len(made) > 150 {
			break
		}
	}
	if err := first.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	if err := first.Wait(); err == nil {
		t.Fatal("all photos were fitted before the run was ended")
	}
	wholePhotos(t, fitted, 150)
	out, err := command().CombinedOutput()
	if exit := (&exec.ExitError{}); err == nil || !errors.As(err, &exit) || exit.ExitCode() != 1 {
		t.Errorf("a run with a broken photo: %v\n%s", err, out)
	}
	var made, kept int
	line := string(out[strings.LastIndex(strings.TrimSpace(string(out)), "\n")+1:])
	if _, err := fmt.Sscanf(strings.ReplaceAll(strings.TrimPrefix(line, fitted+": "), "\u00a0", ""),
		"%d photos fitted, %d there already, 1 left out", &made, &kept); err != nil || made+kept != people || kept < 150 {
		t.Errorf("%d made, %d kept, %v: %s", made, kept, err, line)
	}
	if !strings.Contains(string(out), "broken@brackwater.example: ") {
		t.Errorf("the broken photo is not reported: %s", out)
	}
	wholePhotos(t, fitted, people)
	table, err := os.ReadFile(filepath.Join(fitted, "photos.csv"))
	if err != nil || bytes.Count(table, []byte("\n")) != people+1 ||
		!bytes.Contains(table, []byte("crew.0000@brackwater.example,https://pictures.brackwater.example/")) {
		t.Errorf("%d lines, %v", bytes.Count(table, []byte("\n")), err)
	}
	for _, line := range strings.Split(strings.TrimSpace(string(table)), "\n")[1:] { // what is named is there
		values := strings.Split(line, ",")
		if _, err := os.Stat(filepath.Join(fitted, values[2])); err != nil ||
			!strings.HasSuffix(values[1], strings.TrimPrefix(values[2], "hosted")) {
			t.Fatalf("%s: %v", line, err)
		}
	}
}

// wholePhotos reads every rendition of a folder.
func wholePhotos(t *testing.T, folder string, least int) {
	t.Helper()
	files, err := filepath.Glob(filepath.Join(folder, "crew.*"))
	if err != nil || len(files) < least {
		t.Fatalf("%d renditions, %v", len(files), err)
	}
	for _, file := range files {
		data, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		if p, err := picture.Read(data); err != nil || p.Width != 48 {
			t.Fatalf("%s: %v", file, err)
		}
	}
}

// TestCodesAreRead has the codes of all demo people read by another program: what comes back is their vCard.
func TestCodesAreRead(t *testing.T) {
	folder := t.TempDir()
	if code, out, errs := command(t, "picture", "code", "--people", "demo/people.csv", "--organisation",
		"Brackwater Ferries", "--width", "240", "-o", folder); code != 0 || !strings.Contains(out, "80 codes, 0 left out") {
		t.Fatalf("exit %d: %s%s", code, out, errs)
	}
	d, err := demo.Directory()
	if err != nil {
		t.Fatal(err)
	}
	table, err := os.ReadFile(filepath.Join(folder, "codes.csv"))
	if err != nil {
		t.Fatal(err)
	}
	for i, line := range strings.Split(strings.TrimSpace(string(table)), "\n")[1:] {
		if i%8 != 0 {
			continue
		}
		mail, rest, _ := strings.Cut(line, ",")
		_, file, _ := strings.Cut(rest, ",")
		out, err := exec.Command("zbarimg", "--quiet", "--raw", filepath.Join(folder, file)).Output()
		if err != nil {
			t.Fatalf("reading the code of %s: %v", mail, err)
		}
		want, err := person.VCard(d.Schema, d.Find(mail), "Brackwater Ferries")
		if err != nil {
			t.Fatal(err)
		}
		if got := strings.TrimSpace(string(out)); got != strings.TrimSpace(want) {
			t.Errorf("%s reads\n%s\nwant\n%s", mail, got, want)
		}
	}
}
