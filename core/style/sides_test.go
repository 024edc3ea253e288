package style

import (
	"image/color"
	"strings"
	"testing"

	"missivum/core/markup"
)

func TestFoldSides(t *testing.T) {
	for given, want := range map[string]string{"1 1 1 1": "1", "1 2 1 2": "1 2", "1 2 3 2": "1 2 3", "1 2 3 4": "1 2 3 4",
		"1 1 1": "1", "1 2 1": "1 2", "1 1": "1", "1": "1", "": ""} {
		if got := strings.Join(FoldSides(strings.Fields(given)), " "); got != want {
			t.Errorf("%q: %q, want %q", given, got, want)
		}
	}
}

func TestJoinSides(t *testing.T) {
	for _, c := range []struct{ given, want string }{
		{"padding-top: 1px; color: red; padding-right: 2px; padding-bottom: 3px; padding-left: 4px; x: y",
			"color: red; padding: 1px 2px 3px 4px; x: y"},
		{"padding-left: 4px; padding-top: 1px; padding-right: 2px; padding-bottom: 3px", "padding: 1px 2px 3px 4px"},
		{"padding-top: 1px; padding-right: 2px; padding-bottom: 3px",
			"padding-top: 1px; padding-right: 2px; padding-bottom: 3px"},
		{"padding: 0; padding-top: 1px; padding-right: 2px; padding-bottom: 3px; padding-left: 4px",
			"padding: 0; padding-top: 1px; padding-right: 2px; padding-bottom: 3px; padding-left: 4px"},
		{"padding-top: 1px !important; padding-right: 2px; padding-bottom: 3px; padding-left: 4px",
			"padding-top: 1px !important; padding-right: 2px; padding-bottom: 3px; padding-left: 4px"},
		{"padding-top: {{ x }}px; padding-right: 2px; padding-bottom: 3px; padding-left: 4px",
			"padding-top: {{ x }}px; padding-right: 2px; padding-bottom: 3px; padding-left: 4px"},
		{"margin-top: 1px; margin-right: 2px; margin-bottom: 3px; margin-left: 4px",
			"margin-top: 1px; margin-right: 2px; margin-bottom: 3px; margin-left: 4px"},
	} {
		given, want := c.given, c.want
		var parts []string
		for _, d := range JoinSides(ParseDeclarations(given, 0), "padding") {
			parts = append(parts, d.String())
		}
		if got := strings.Join(parts, "; "); got != want {
			t.Errorf("%s\n%s\nwant\n%s", given, got, want)
		}
	}
}

func TestHSL(t *testing.T) {
	for _, c := range []struct {
		rgb     color.RGBA
		h, s, l float64
	}{
		{color.RGBA{255, 0, 0, 255}, 0, 1, 0.5},
		{color.RGBA{0, 255, 0, 255}, 120, 1, 0.5},
		{color.RGBA{0, 0, 255, 255}, 240, 1, 0.5},
		{color.RGBA{255, 255, 255, 255}, 0, 0, 1},
		{color.RGBA{0, 0, 0, 255}, 0, 0, 0},
		{color.RGBA{255, 0, 255, 255}, 300, 1, 0.5},
	} {
		if h, s, l := HSL(c.rgb); h != c.h || s != c.s || l != c.l {
			t.Errorf("%v: %v %v %v", c.rgb, h, s, l)
		}
		if got := FromHSL(c.h, c.s, c.l); got != c.rgb {
			t.Errorf("%v %v %v: %v", c.h, c.s, c.l, got)
		}
	}
	if FromHSL(-240, 1, 0.5) != FromHSL(120, 1, 0.5) || FromHSL(480, 2, 0.5) != FromHSL(120, 1, 0.5) ||
		FromHSL(0, -1, 2) != (color.RGBA{255, 255, 255, 255}) {
		t.Error("what is beyond is not taken as the end")
	}
	for r := 0; r < 256; r += 15 { // there and back
		for g := 0; g < 256; g += 15 {
			for b := 0; b < 256; b += 15 {
				c := color.RGBA{uint8(r), uint8(g), uint8(b), 255}
				if back := FromHSL(HSL(c)); back != c {
					t.Fatalf("%v comes back as %v", c, back)
				}
			}
		}
	}
}

// TestReadAttributes: sheets are left alone.
func TestReadAttributes(t *testing.T) {
	doc, err := markup.Parse(`<style>b { color: red }</style><b style="margin: 0">x</b><i>y</i>`)
	if err != nil {
		t.Fatal(err)
	}
	before := doc.Render()
	ReadAttributes(doc)
	b, i := doc.Root.Elements("b")[0], doc.Root.Elements("i")[0]
	if len(b.Style) != 1 || b.Style[0].Property != "margin" || len(i.Style) != 0 || doc.Render() != before {
		t.Errorf("%+v %+v", b.Style, i.Style)
	}
}
