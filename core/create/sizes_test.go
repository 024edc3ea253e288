package create_test

import (
	"bytes"
	"image"
	"image/png"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"missivum/core/check"
	"missivum/core/client"
	"missivum/core/compose"
	"missivum/core/create"
	"missivum/core/person"
	"missivum/core/template"
)

// A page's pictures keep the size that they had there, and a missing alternative text stays missing.
func TestImportedPicturesKeepSizeAndText(t *testing.T) {
	var logo bytes.Buffer
	if err := png.Encode(&logo, image.NewGray(image.Rect(0, 0, 640, 320))); err != nil {
		t.Fatal(err)
	}
	files := fstest.MapFS{"logo.png": {Data: logo.Bytes()}}
	for img, size := range map[string]string{
		`<img src="logo.png" style="width:160px">`:                           `width="160" height="80"`,
		`<img src="logo.png" style="height:40px;width:auto">`:                `width="80" height="40"`,
		`<img src="logo.png" style="max-width:200px">`:                       `width="200" height="100"`,
		`<img src="logo.png" style="width:100px;height:60px">`:               `width="100" height="60"`,
		`<img src="logo.png" width="64">`:                                    `height="32"`,
		`<style>.logo{width:120pt}</style><img src="logo.png" class="logo">`: `width="160" height="80"`,
		`<img src="logo.png">`:                                               `width="640" height="320"`,
	} {
		made, err := create.From(create.Input{Page: []byte("<p>Brackwater Ferries " + img + "</p>"), Files: files})
		if err != nil {
			t.Fatal(err)
		}
		tmpl, err := template.New("made", made.Parts)
		if err != nil {
			t.Fatal(err)
		}
		s, err := compose.Compile(compose.Source{Template: tmpl, Schema: person.NewSchema()}, compose.HTML)
		if err != nil {
			t.Fatal(err)
		}
		out := string(s.Fill("new", compose.HTML, &person.Person{}))
		if !strings.Contains(out, size) || strings.Contains(out, "alt=") {
			t.Errorf("%s is not %s, or has an alternative text now:\n%s", img, size, out)
		}
		report, err := check.Findings(t.Context(), check.Input{Template: tmpl, Profiles: client.Shipped(), Day: time.Now()})
		if err != nil {
			t.Fatal(err)
		}
		missing := false
		for _, f := range report.Findings {
			missing = missing || f.Check == "picture-alt"
		}
		if !missing {
			t.Errorf("%s: the missing alternative text is not reported", img)
		}
	}
}
