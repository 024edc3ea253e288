package style

import (
	"image/color"
	"strings"
	"testing"
)

func TestUnitsOfValues(t *testing.T) {
	for _, c := range []struct {
		value string
		units string
		want  bool
	}{
		{"1.5rem", "rem", true},
		{"12px", "rem vw", false},
		{"calc(100% - 8px)", "calc", true},
		{"0", "number", true},
		{"8px 4", "number", true},
		{"#123456", "number", false},
		{"var(--ink)", "var", true},
		{"min(10px, 2vw)", "min", true},
		{"3VW", "vw", true},
		{"url(1rem.png)", "rem", false},
		{`"1rem"`, "rem", false},
	} {
		if got := HasUnit(c.value, strings.Fields(c.units)); got != c.want {
			t.Errorf("%q has %s: %v", c.value, c.units, got)
		}
	}
	for value, want := range map[string]string{"60": "60px", "60 8px 0": "60px 8px 0px", "calc(60 + 1)": "calc(60 + 1)",
		"auto": "auto", "1.5": "1.5px"} {
		if got := RewriteUnits(value, []string{"number"}, "*px"); got != want {
			t.Errorf("%q becomes %q, want %q", value, got, want)
		}
	}
}

func TestSerialized(t *testing.T) {
	for value, want := range map[string]string{
		"#123": "rgb(17, 34, 51)", "#ABCDEF": "rgb(171, 205, 239)", "#1238": "rgba(17, 34, 51, 0.533)",
		"#12345680": "rgba(18, 52, 86, 0.5)", "#123456ff": "rgb(18, 52, 86)",
		"hsl(120, 100%, 25%)": "rgb(0, 128, 0)", "hsla(0, 0%, 0%, 50%)": "rgba(0, 0, 0, 0.5)",
		"rgba(1, 2, 3, 1)": "rgb(1, 2, 3)", "rgb(1 2 3 / 20%)": "rgba(1, 2, 3, 0.2)",
		"1px solid #fff": "1px solid rgb(255, 255, 255)", "linear-gradient(#000, red)": "linear-gradient(rgb(0, 0, 0), red)",
		"red": "red", "#12": "#12", "rgb(x)": "rgb(x)", `url("#123")`: `url("#123")`,
	} {
		if got := Serialized(value); got != want {
			t.Errorf("%q: %q, want %q", value, got, want)
		}
	}
}

func TestColourForms(t *testing.T) {
	for value, want := range map[string]string{
		"#123":                          "hex3",
		"#12345678":                     "hex8",
		"1px solid #1234":               "hex4",
		"rgb(1, 2, 3)":                  "rgb",
		"rgba(1, 2, 3, 0.5)":            "rgba",
		"hsla(1deg 2% 3% / 0.5)":        "hsl",
		"currentColor":                  "current",
		"transparent":                   "transparent",
		"red":                           "",
		"oklch(0.5 0.1 20)":             "function",
		"linear-gradient(#fff, #000)":   "hex3 hex3",
		`url("#123456")`:                "",
		"#12":                           "",
		"color-mix(in srgb, red, blue)": "function",
	} {
		if got := strings.Join(colourForms(value), " "); got != want {
			t.Errorf("%q: %q, want %q", value, got, want)
		}
	}
}

func TestOpaque(t *testing.T) {
	white, blue, ink := color.RGBA{255, 255, 255, 255}, color.RGBA{0, 0, 255, 255}, color.RGBA{18, 52, 86, 255}
	for _, c := range []struct {
		value      string
		background color.RGBA
		want       string
		ok         bool
	}{
		{"hsl(120, 100%, 25%)", white, "#008000", true},
		{"hsl(-240deg 100% 25%)", white, "#008000", true},
		{"rgba(255, 0, 0, 0.5)", white, "#ff8080", true},
		{"rgba(255, 0, 0, 50%)", blue, "#800080", true},
		{"#ff000080", blue, "#80007f", true},
		{"#f008", white, "#ff7777", true},
		{"1px solid currentColor", white, "1px solid #123456", true},
		{"rgb(100%, 0%, 0%)", white, "#ff0000", true},
		{"#123456 url(a.png)", white, "#123456 url(a.png)", true},
		{"transparent", white, "", false},
		{"rgba(1, 2)", white, "", false},
		{"lab(50% 40 59.5)", white, "", false},
	} {
		got, ok := Opaque(c.value, c.background, ink)
		if got != c.want || ok != c.ok {
			t.Errorf("%q: %q, %v; want %q, %v", c.value, got, ok, c.want, c.ok)
		}
	}
}

func TestInPixels(t *testing.T) {
	for _, c := range []struct {
		value, want string
		ok          bool
	}{
		{"1rem", "16px", true},
		{"0.875rem 4px", "14px 4px", true},
		{"calc(1rem + 2px)", "18px", true},
		{"calc(40px - 0.5rem)", "32px", true},
		{"calc(100% - 8px)", "", false},
		{"50vw", "", false},
		{"clamp(1px, 2px, 3px)", "", false},
		{"12px", "12px", true},
	} {
		got, ok := InPixels(c.value)
		if got != c.want || ok != c.ok {
			t.Errorf("%q: %q, %v; want %q, %v", c.value, got, ok, c.want, c.ok)
		}
	}
}

func TestWhatIsKnownOfPropertiesAndFonts(t *testing.T) {
	for name, want := range map[string]bool{"color": true, "text-aling": false, "mso-hide": true,
		"-webkit-text-size-adjust": true, "--ink": true, "colour": false, "border-top-left-radius": true} {
		if KnownProperty(name) != want {
			t.Errorf("%s is known: %v", name, !want)
		}
	}
	if len(Properties()) < 200 {
		t.Errorf("%d properties", len(Properties()))
	}
	for name, want := range map[string]bool{"font-size": true, "padding-left": true, "line-height": false, "z-index": false,
		"margin": true, "opacity": false} {
		if TakesLength(name) != want {
			t.Errorf("%s takes a length: %v", name, !want)
		}
	}
	for family, want := range map[string]string{"Georgia": "serif", "Times New Roman": "serif", "Courier New": "monospace",
		"Verdana": "sans-serif", "PT Sans": "sans-serif", "Noto Serif": "serif", "DejaVu Sans Mono": "monospace"} {
		if got := Generic(family); got != want {
			t.Errorf("%s: %s, want %s", family, got, want)
		}
	}
	if c := Mixed(color.RGBA{0, 0, 0, 255}, color.RGBA{200, 100, 50, 255}, 0.5); c != (color.RGBA{100, 50, 25, 255}) {
		t.Errorf("%v", c)
	}
}

// FuzzOpaque: whatever the value, what comes out can be read as one and has no colour left that not every engine reads.
func FuzzOpaque(f *testing.F) {
	for _, s := range []string{"rgba(1,2,3,.5)", "#12345678 hsl(1,2%,3%)", "calc(1rem + (2px))", "currentcolor", "rgb("} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, value string) {
		if got, ok := Opaque(value, color.RGBA{255, 255, 255, 255}, color.RGBA{A: 255}); ok &&
			HasColour(got, []string{"hex8", "hex4", "hsl", "rgba", "function"}) {
			t.Fatalf("%q became %q", value, got)
		}
		InPixels(value)
	})
}

// FuzzSerialized: a value that is written back as browsers do stays so when it is written back again.
func FuzzSerialized(f *testing.F) {
	for _, seed := range []string{"#12345680", "1px solid hsl(210, 65%, 20%)", "linear-gradient(#fff, rgba(0 0 0 / 25%))",
		"rgb(", "url(#a)", "rgb(1, 2, 3) #12"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, value string) {
		once := Serialized(value)
		if again := Serialized(once); again != once {
			t.Errorf("%q: %q, then %q", value, once, again)
		}
	})
}
