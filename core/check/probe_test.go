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

// TestFindingsFollowTheWayOfPictures: written into the source, they are reported as such, and count.
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
	written, findings := characters("  delivery: {fragment: data}\n")
	if findings != 1 || written == hosted {
		t.Errorf("written in: %d findings, %d characters and %d hosted", findings, written, hosted)
	}
}

func TestAnimationsAndPrintingColoursAreTold(t *testing.T) {
	tmpl, err := template.New("x", template.Parts{Source: `<p>x</p>`, Pictures: map[string][]byte{}})
	if err != nil {
		t.Fatal(err)
	}
	tmpl.Source = `<p>Harbour office</p><img data-picture="moving" alt="x" width="10" height="10"><img ` +
		`data-picture="print" alt="x" width="10" height="10">`
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
	if len(said) != 2 || !strings.Contains(said[0],
		"3 frames of moving.gif only the first is shown: it must say all that matters. wordproc-desktop") || !strings.Contains(said[1], "CMYK") {
		t.Errorf("%q", said)
	}
}

// TestWhatIsStoredAlikeIsMeasuredAlike: limits of one program, in characters and in bytes, and of profiles that store the
// same, have the figures that each has alone.
func TestWhatIsStoredAlikeIsMeasuredAlike(t *testing.T) {
	tmpl := bare(t, `<div style="color: #123456">{{ cn }} <b>Häfen</b></div><div>x</div>`)
	twin := *client.Find("source-webmail")
	twin.ID = "twin"
	together := []*client.Profile{client.Find("source-webmail"), &twin, client.Find("capped-webmail"), client.Find("gecko-desktop")}
	figures := map[string]Budget{}
	for _, b := range run(t, Input{Template: tmpl, People: directory(t), Profiles: together}).Budgets {
		figures[b.Client+" "+string(b.Measure)] = b
	}
	if a, b := figures["source-webmail characters"], figures["twin characters"]; a.Value == 0 || a.Value != b.Value ||
		a.Median != b.Median || a.Person != b.Person {
		t.Errorf("%+v and %+v", a, b)
	}
	if units, bytes := figures["capped-webmail characters"], figures["capped-webmail bytes"]; bytes.Value <= units.Value {
		t.Errorf("%d characters are %d bytes", units.Value, bytes.Value)
	}
	for _, p := range together {
		for _, b := range run(t, Input{Template: tmpl, People: directory(t), Profiles: []*client.Profile{p}}).Budgets {
			if with := figures[b.Client+" "+string(b.Measure)]; with != b {
				t.Errorf("alone %+v, with others %+v", b, with)
			}
		}
	}
}

// TestTheSamplePersonHasAFigure: that of the settings' sample, between the least and the worst; of the first person where
// the settings name none; and where everybody has the same, just that.
func TestTheSamplePersonHasAFigure(t *testing.T) {
	people := directory(t)
	tmpl := bare(t, `<p style="margin: 0">{{ cn }}</p><div>{{ mail }}</div>`)
	length := func(i int) int {
		return len(people.Get(&people.People[i], "cn")) + len(people.Get(&people.People[i], "mail"))
	}
	at := people.Index("bo@brackwater.example")
	var figures [2]int
	for i, mail := range []string{"", "bo@brackwater.example"} {
		tmpl.Settings.Sample = mail
		for _, b := range run(t, Input{Template: tmpl, People: people,
			Profiles: []*client.Profile{client.Find("source-webmail"), client.Find("append-rule")}}).Budgets {
			switch {
			case b.Measure != client.Characters:
			case b.Client == "append-rule" && b.Sample != b.Value:
				t.Errorf("the same for everybody: %+v", b)
			case b.Client == "source-webmail":
				figures[i] = b.Sample
				if b.Sample < b.Least || b.Sample > b.Value {
					t.Errorf("%+v", b)
				}
			}
		}
	}
	if figures[0]-figures[1] != length(0)-length(at) {
		t.Errorf("%d for the first, %d for the sample", figures[0], figures[1])
	}
}

// TestRowsOfTheMapLeadToAnElement: a rule's row leads to the rule and to the first element that it reaches.
func TestRowsOfTheMapLeadToAnElement(t *testing.T) {
	source := `<style>.a { border-radius: 4px }</style><p style="margin: 0">x</p><div class="a">y</div><div class="a">z</div>`
	tmpl := bare(t, source)
	tmpl.Bare = false
	m, err := Survival(t.Context(), Input{Template: tmpl, People: directory(t), Profiles: client.Shipped(), Day: day})
	if err != nil {
		t.Fatal(err)
	}
	for _, row := range m.Rows {
		if strings.HasPrefix(row.What, "border-radius") {
			if row.Offset != strings.Index(source, "border-radius") || row.Element != strings.Index(source, `<div class="a">y`) || row.Count != 2 {
				t.Errorf("%+v", row)
			}
			return
		}
	}
	t.Errorf("no row for the corners: %+v", m.Rows)
}
