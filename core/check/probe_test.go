package check

import (
	"context"
	"errors"
	"slices"
	"strings"
	"testing"

	"missivum/core/client"
	"missivum/core/picture"
	"missivum/core/template"
	"missivum/demo"
	"missivum/demo/drawing"
)

// TestPicturesAreProbedByTheChecks: what is found for a file at a display size.
func TestPicturesAreProbedByTheChecks(t *testing.T) {
	originals, err := demo.Pictures()
	if err != nil {
		t.Fatal(err)
	}
	heavy, err := drawing.PortraitJPEG(1, 900, 900)
	if err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		data          []byte
		width, height int
		want          []string
	}{
		"right":                  {pngOf(t, 240, 80), 120, 40, nil},
		"at its true pixels":     {pngOf(t, 240, 80), 0, 0, nil},
		"another size":           {pngOf(t, 240, 80), 100, 0, []string{"picture-pixels"}},
		"a drawing":              {originals["ferry.svg"], 44, 0, []string{"picture-format"}},
		"dark":                   {originals["anchor.png"], 256, 0, []string{"picture-dark"}},
		"heavy, and too large":   {heavy, 96, 96, []string{"picture-pixels", "picture-bytes"}},
		"dark and another size":  {originals["anchor.png"], 44, 0, []string{"picture-pixels", "picture-dark"}},
		"a height alone is both": {pngOf(t, 240, 80), 0, 40, nil},
	} {
		found, err := Picture(context.Background(), "some picture.png", c.data, c.width, c.height, client.Shipped(), day)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		var got []string
		for _, f := range found {
			got = append(got, f.Check)
			if f.Message == "" || f.Remedy == "" || len(f.Clients) == 0 {
				t.Errorf("%s: %+v", name, f)
			}
		}
		slices.Sort(got)
		slices.Sort(c.want)
		if !slices.Equal(got, c.want) {
			t.Errorf("%s: %v, want %v", name, got, c.want)
		}
	}
	if _, err := Picture(context.Background(), "x", []byte("<html>"), 0, 0, client.Shipped(), day); !errors.Is(err, picture.ErrUnreadable) {
		t.Errorf("a page: %v", err)
	}
}

// TestFindingsFollowTheWayOfPictures: written into the source, they are told as such, and count.
func TestFindingsFollowTheWayOfPictures(t *testing.T) {
	parts := template.Parts{
		Source: `<p>{{ cn }}</p><img data-picture="logo" width="120" height="40">`, Pictures: map[string][]byte{"logo.png": pngOf(t, 240, 80)},
		Settings: "pictures:\n  address: https://pictures.brackwater.example/\n  files: {logo: {file: logo.png, alt: Ferry}}\n",
	}
	characters := func(settings string) (int, int) {
		t.Helper()
		parts := parts
		parts.Settings += settings
		tmpl, err := template.New("x", parts)
		if err != nil {
			t.Fatal(err)
		}
		r := run(t, Input{Template: tmpl, People: directory(t)})
		for _, b := range r.Budgets {
			if b.Client == "append-rule" && b.Measure == client.Characters {
				return b.Value, count(r, "picture-data")
			}
		}
		t.Fatal("no figure")
		return 0, 0
	}
	hosted, findings := characters("")
	if findings != 0 {
		t.Errorf("hosted: %d findings", findings)
	}
	written, findings := characters("  travel: {fragment: data}\n")
	if findings != 1 || written == hosted {
		t.Errorf("written in: %d findings, %d characters and %d hosted", findings, written, hosted)
	}
}

func TestAnimationsAndPrintingColoursAreTold(t *testing.T) {
	tmpl, err := template.New("x", template.Parts{Source: `<p>x</p>`, Pictures: map[string][]byte{}})
	if err != nil {
		t.Fatal(err)
	}
	tmpl.Source = `<p>Harbour office</p><img data-picture="moving" alt="x" width="10" height="10"><img data-picture="print" alt="x" width="10" height="10">`
	tmpl.Pictures = []template.Picture{
		{Name: "moving", File: "moving.gif", Facts: picture.Facts{Format: picture.GIF, Width: 10, Height: 10, Frames: 3}},
		{Name: "print", File: "print.jpg", Facts: picture.Facts{Format: picture.JPEG, Width: 10, Height: 10, Frames: 1, Colours: "cmyk"}},
	}
	r := run(t, Input{Template: tmpl})
	var said []string
	for _, f := range r.Findings {
		if f.Check == "picture-format" {
			said = append(said, f.Message+" "+strings.Join(f.Clients, ","))
		}
	}
	if len(said) != 2 || !strings.Contains(said[0], "3 frames of moving.gif only the first is shown: it must say all that matters. wordproc-desktop") || !strings.Contains(said[1], "CMYK") {
		t.Errorf("%q", said)
	}
}
