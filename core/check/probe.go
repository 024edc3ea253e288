package check

import (
	"context"
	"fmt"
	"strings"
	"time"

	"missivum/core/client"
	"missivum/core/picture"
	"missivum/core/template"
)

// Picture finds what will go wrong with a picture file where it is shown at a width and height in px; 0 by 0 shows it at
// its true pixels. The findings are those of the checks that look at pictures; their places mean nothing.
func Picture(ctx context.Context, name string, data []byte, width, height int, profiles []*client.Profile,
	day time.Time) ([]Finding, error) {
	facts, err := picture.Probe(data)
	if err != nil {
		return nil, err
	}
	if width == 0 && height == 0 {
		width, height = facts.Width, facts.Height
	}
	width, height = picture.Recipe{Width: width, Height: height}.Display(facts)
	t, err := template.New("picture", template.Parts{
		Source:   fmt.Sprintf(`<p>A picture in a signature</p><img data-picture="picture" alt="Picture" width="%d" height="%d">`, width, height),
		Settings: fmt.Sprintf("pictures:\n  address: https://pictures.example/\n  files:\n    picture: {file: %q, alt: Picture}\n", name),
		Pictures: map[string][]byte{name: data},
	})
	if err != nil {
		return nil, err
	}
	report, err := Run(ctx, Input{Template: t, Profiles: profiles, Day: day})
	if err != nil {
		return nil, err
	}
	found := []Finding{}
	for _, f := range report.Findings {
		if strings.HasPrefix(f.Check, "picture-") {
			found = append(found, f)
		}
	}
	for _, b := range report.Budgets {
		if b.Measure == client.PictureBytes && b.Exceeded() {
			if n := len(found); n > 0 && found[n-1].Check == "picture-bytes" {
				found[n-1].Clients = append(found[n-1].Clients, b.Client)
				continue
			}
			found = append(found, Finding{
				Check: "picture-bytes", Severity: b.Severity, Clients: []string{b.Client},
				Message: fmt.Sprintf("The picture alone has %d bytes; the limit for all of them is %d: %s.", b.Value, b.Limit, b.Says),
				Why:     "Pictures that are carried weigh on every message.", Remedy: "Make it lighter with missivum picture fit or compress.",
			})
		}
	}
	return found, nil
}
