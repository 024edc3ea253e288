package fix

import (
	"bytes"
	"context"
	"encoding/base64"
	"image"
	"image/color"
	"image/draw"
	"image/gif"
	"image/jpeg"
	"image/png"
	"strings"
	"testing"

	"missivum/core/check"
	"missivum/core/picture"
	"missivum/core/template"
)

var ink = color.NRGBA{16, 32, 40, 255}

// drawing is a picture with a bar of ink in the middle, on a background.
func drawing(width, height int, background color.NRGBA) *image.NRGBA {
	img := image.NewNRGBA(image.Rect(0, 0, width, height))
	for y := range height {
		for x := range width {
			c := background
			if y > height/3 && y < 2*height/3 && x > width/8 && x < 7*width/8 {
				c = ink
			}
			img.SetNRGBA(x, y, c)
		}
	}
	return img
}

func asPNG(t *testing.T, img image.Image) []byte {
	t.Helper()
	var b bytes.Buffer
	if err := png.Encode(&b, img); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func asGIF(t *testing.T, img *image.NRGBA) []byte {
	t.Helper()
	drawn := image.NewPaletted(img.Rect, color.Palette{color.NRGBA{}, ink})
	draw.Draw(drawn, img.Rect, img, image.Point{}, draw.Src)
	var b bytes.Buffer
	if err := gif.Encode(&b, drawn, nil); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func asJPEG(t *testing.T, img image.Image) []byte {
	t.Helper()
	var b bytes.Buffer
	if err := jpeg.Encode(&b, img, nil); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

const head = "# ours\npictures:\n  address: https://pictures.brackwater.example/fix/\n  files:\n"

var clear, sand = color.NRGBA{}, color.NRGBA{244, 238, 220, 255}

// TestPicturesAreMade: the fixes that change pictures make what they say, for every element that shows the picture, and
// what cannot be made safely is left to a hand.
func TestPicturesAreMade(t *testing.T) {
	dot := base64.StdEncoding.EncodeToString(asPNG(t, drawing(1, 1, sand)))
	for name, c := range map[string]struct {
		check, source, file string
		picture             []byte
		settings            string
		made                string // the file; empty: none
		see                 func(t *testing.T, source, settings string, made *picture.Picture)
	}{
		"fitted": {check: "picture-pixels", source: `<img data-picture="a" width="60" height="30">`, file: "a.png",
			picture: asPNG(t, drawing(300, 150, sand)), made: "a.png",
			see: func(t *testing.T, _, _ string, made *picture.Picture) {
				if made.Width != 120 || made.Height != 60 {
					t.Errorf("%d x %d", made.Width, made.Height)
				}
			}},
		"small": {check: "picture-pixels", source: `<img data-picture="a" width="200" height="100">`, file: "a.jpg",
			picture: asJPEG(t, drawing(300, 150, sand)), made: "a.jpg",
			see: func(t *testing.T, _, _ string, made *picture.Picture) {
				if made.Width != 200 || made.Format != picture.JPEG {
					t.Errorf("%d px, %s", made.Width, made.Format)
				}
			}},
		"stretched": {check: "picture-pixels", source: `<img data-picture="a" width="60" height="60">`, file: "a.png",
			picture: asPNG(t, drawing(300, 150, sand))},
		"at two sizes": {check: "picture-pixels",
			source: `<img data-picture="a" width="60" height="30"><img data-picture="a" width="70" height="35">`,
			file:   "a.png", picture: asPNG(t, drawing(300, 150, sand))},
		"from the store": {check: "picture-pixels", source: `<img data-picture="a" width="60" height="30">`, file: "a.png",
			settings: "from: ferry, version: 1, ", picture: asPNG(t, drawing(300, 150, sand))},
		"a drawing": {check: "picture-format", source: `<img data-picture="a" width="48" height="16">`, file: "a.svg",
			picture: []byte(`<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 12 4"><path d="M0 0 12 2 0 4z" fill="#c8553d"/></svg>`),
			made:    "a.png",
			see: func(t *testing.T, source, settings string, made *picture.Picture) {
				if made.Width != 96 || made.Format != picture.PNG ||
					!strings.Contains(settings, "a: {file: a.png, alt: Ferry}") || !strings.Contains(settings, "# ours") {
					t.Errorf("%d px, %s\n%s", made.Width, made.Format, settings)
				}
			}},
		"a drawing by its address": {check: "picture-format",
			source: `<img src="https://pictures.brackwater.example/fix/a.svg" alt="" width="48" height="16">`, file: "a.svg",
			picture: []byte(`<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 12 4"><path d="M0 0 12 2 0 4z"/></svg>`)},
		"dark": {check: "picture-dark", source: `<img data-picture="a" width="60" height="30">`, file: "a.png",
			picture: asPNG(t, drawing(120, 60, clear)), made: "a.png",
			see: func(t *testing.T, _, _ string, made *picture.Picture) {
				if made.Width != 120 || len(picture.Vanishes(picture.Sights(made.Image()))) > 0 {
					t.Errorf("%d px, vanishes on %v", made.Width, picture.Vanishes(picture.Sights(made.Image())))
				}
			}},
		"a dark GIF, whose edges would be hard": {check: "picture-dark",
			source: `<img data-picture="a" width="60" height="30">`, file: "a.gif", picture: asGIF(t, drawing(120, 60, clear))},
		"round": {check: "rounded-corners",
			source: `<style>.p { border-radius: 50%; }</style><img class="p" data-picture="a" width="60" ` +
				`height="60"><img class="p" data-picture="a" width="60" height="60">`,
			file: "a.png", picture: asPNG(t, drawing(120, 120, sand)), made: "a.png",
			see: func(t *testing.T, source, _ string, made *picture.Picture) {
				if _, _, _, corner := made.Image().At(1, 1).RGBA(); corner != 0 ||
					strings.Contains(source, "border-radius") || made.Image().NRGBAAt(60, 20).A != 255 {
					t.Errorf("the corner has %d\n%s", corner, source)
				}
			}},
		"corners": {check: "rounded-corners",
			source: `<img data-picture="a" width="60" height="30" style="border-radius: 6px; color: #123456">`,
			file:   "a.png", picture: asPNG(t, drawing(120, 60, sand)), made: "a.png",
			see: func(t *testing.T, source, _ string, made *picture.Picture) {
				if made.Image().NRGBAAt(0, 0).A != 0 || made.Image().NRGBAAt(20, 0).A != 255 || !strings.Contains(source, `style="color: #123456"`) {
					t.Errorf("%v\n%s", made.Image().NRGBAAt(20, 0), source)
				}
			}},
		"several corners": {check: "rounded-corners",
			source: `<img data-picture="a" width="60" height="30" style="border-radius: 6px 0">`, file: "a.png",
			picture: asPNG(t, drawing(120, 60, sand))},
		"a round cell": {check: "rounded-corners",
			source: `<table role="presentation"><tr><td style="border-radius: 6px">x</td></tr></table>`, file: "a.png",
			picture: asPNG(t, drawing(120, 60, sand))},
		"written in": {check: "picture-data", source: `<img src="data:image/png;base64,` + dot +
			`" alt="A &quot;line&quot;" width="2" height="2"><img src="data:image/png;base64,` + dot +
			`" alt="" width="3" height="3">`, file: "a.png", picture: asPNG(t, drawing(10, 10, sand)), made: "picture-2.png",
			see: func(t *testing.T, source, settings string, made *picture.Picture) {
				if strings.Contains(source, "base64") || !strings.Contains(source, `data-picture="picture-1"`) ||
					!strings.Contains(source, `data-picture="picture-2"`) || !strings.Contains(settings, `A "line"`) {
					t.Errorf("%s\n%s", source, settings)
				}
			}},
		"written in and broken": {check: "picture-data",
			source: `<img src="data:image/png;base64,AAAA" alt="" width="2" height="2">`, file: "a.png", picture: asPNG(t, drawing(10, 10, sand))},
	} {
		t.Run(name, func(t *testing.T) {
			settings := head + "    a: {" + c.settings + "file: " + c.file + ", alt: Ferry}\n"
			tmpl, err := template.New("x",
				template.Parts{Source: "<p lang=\"en\" style=\"margin: 0\">Brackwater Ferries, {{ cn }}</p>" + c.source,
					Settings: settings, Pictures: map[string][]byte{c.file: c.picture}})
			if err != nil {
				t.Fatal(err)
			}
			in := input(t, tmpl)
			before, err := check.Findings(t.Context(), in)
			if err != nil || !strings.Contains(checksOf(before), c.check) {
				t.Fatalf("%s, %v", checksOf(before), err)
			}
			r, err := Run(context.Background(), in, Options{Checks: []string{c.check}, At: -1})
			if err != nil || len(r.Refused) > 0 {
				t.Fatalf("%+v, %v", r.Refused, err)
			}
			if c.made == "" {
				if len(r.Pictures) > 0 || r.Source != tmpl.Source || r.Settings != tmpl.SettingsText {
					t.Errorf("made %v", r.Pictures)
				}
				return
			}
			made, err := picture.Read(r.Pictures[c.made])
			if err != nil {
				t.Fatalf("%v of %d pictures", err, len(r.Pictures))
			}
			c.see(t, r.Source, r.Settings, made)
			for _, f := range r.Findings {
				if f.Check == c.check {
					t.Errorf("left: %s", f.Message)
				}
			}
		})
	}
}

func checksOf(r *check.Report) string {
	var ids []string
	for _, f := range r.Findings {
		ids = append(ids, f.Check)
	}
	return strings.Join(ids, " ")
}

// TestAPictureThatDoesNotHelpIsRefused: a fix whose picture leaves the finding is refused and not made over and over.
func TestAPictureThatDoesNotHelpIsRefused(t *testing.T) {
	tmpl, err := template.New("x",
		template.Parts{Source: `<p lang="en">Brackwater Ferries</p><img data-picture="a" width="60" height="30">`,
			Settings: head + "    a: {file: a.png, alt: Ferry}\n",
			Pictures: map[string][]byte{"a.png": asPNG(t, drawing(120, 60, clear))}})
	if err != nil {
		t.Fatal(err)
	}
	in := input(t, tmpl)
	report, err := check.Findings(t.Context(), in)
	if err != nil {
		t.Fatal(err)
	}
	w := work{in: in, options: Options{At: -1}, report: report}
	batch := w.chosen()
	for i := range batch {
		if batch[i].Check == "picture-dark" {
			batch[i].Fix.Pictures[0].Recipe.Dark = nil // it changes nothing
		}
	}
	if why := w.try(t.Context(), batch); !strings.Contains(why, "does not put it right") || w.report != report || w.in.Template != tmpl ||
		len(w.result.Done) > 0 {
		t.Errorf("%q", why)
	}
}

func TestPicturesThatCannotBeMade(t *testing.T) {
	tmpl := bare(t, `<p>x</p>`)
	for says, r := range map[string]check.Redraw{
		"there is no picture": {File: "b.png", From: "none.png", Recipe: &picture.Recipe{Width: 3}},
		"b.png":               {File: "b.png", Data: []byte("no picture")},
		"width or a height":   {File: "b.png", Data: asPNG(t, drawing(3, 3, sand)), Recipe: &picture.Recipe{}},
		"name of a picture":   {File: "../b.png", Data: asPNG(t, drawing(3, 3, sand))},
	} {
		if _, err := with(tmpl, tmpl.Source, []check.Redraw{r}); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", says, err)
		}
	}
}
