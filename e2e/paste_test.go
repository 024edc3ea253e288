package e2e

import (
	"context"
	"math"
	"strings"
	"testing"
	"time"

	"missivum/core/client"
	"missivum/core/person"
	"missivum/core/preview"
	"missivum/core/template"
	"missivum/demo"
	"missivum/service/drawing"
)

// TestThePredictedPasteIsTheRealOne copies every demo and starter signature in Chromium, pastes it into an editable
// element of another page, and compares the length of what stands there with the predicted one.
func TestThePredictedPasteIsTheRealOne(t *testing.T) {
	people, err := demo.Directory()
	if err != nil {
		t.Fatal(err)
	}
	tab := browser(t)
	folder := t.TempDir()
	worst := 0.0
	for _, tmpl := range demosAndStarters(t) {
		for _, mail := range []string{tmpl.Settings.Sample, "salma.albahri@brackwater.example"} {
			who := people.Find(mail)
			if who == nil {
				who = &people.People[0]
			}
			for _, variant := range tmpl.Variants() {
				shown, predicted := pasteOf(t, tmpl, people, who, variant)
				real := copiedAndPasted(t, tab, folder, shown)
				off := math.Abs(float64(client.Units(predicted)-client.Units(real))) / float64(client.Units(real))
				worst = max(worst, off)
				if off > 0.02 {
					t.Errorf("%s, %s: predicted %d characters, real %d (%.1f %%)\n%s\n%s", tmpl.Name, variant,
						client.Units(predicted), client.Units(real), 100*off, predicted, real)
				}
			}
		}
	}
	// a lone paragraph is taken apart, as the check lone-block says
	if real := copiedAndPasted(t, tab, folder,
		`<p style="margin: 0; font-size: 12px">Harbour <b>office</b></p>`); strings.Contains(real, "<p") ||
		!strings.Contains(real, "font-size: 12px") {
		t.Errorf("a lone paragraph becomes %s", real)
	}
	t.Logf("at most %.2f %% off", 100*worst)
}

// pasteOf is what is copied, and what is predicted to be pasted.
func pasteOf(t *testing.T, tmpl *template.Template, people *person.Directory, who *person.Person, variant string) (shown,
	predicted string) {
	t.Helper()
	c, err := preview.Paste(tmpl, people.Schema, time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC), variant, who)
	if err != nil {
		t.Fatal(err)
	}
	return c.Shown, c.Pasted
}

func copiedAndPasted(t *testing.T, tab context.Context, folder, body string) string {
	t.Helper()
	pasted, err := drawing.PastedIn(tab, folder, body)
	if err != nil {
		t.Fatal(err)
	}
	return pasted
}
