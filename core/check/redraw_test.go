package check

import (
	"testing"

	"missivum/core/picture"
	"missivum/core/template"
)

// TestFitted: what can be fitted without a change that is seen, and with how many pixels.
func TestFitted(t *testing.T) {
	for _, c := range []struct {
		name          string
		format        string
		of            [2]int // pixels of the file
		at            [2]int // px at which it is shown
		multiple      int    // 0: it cannot be fitted
		format2, says string
	}{
		{"twice as many", picture.PNG, [2]int{300, 150}, [2]int{100, 50}, 2, picture.PNG, "twice as many"},
		{"just twice", picture.JPEG, [2]int{200, 100}, [2]int{100, 50}, 2, picture.JPEG, "twice as many"},
		{"not enough for two", picture.PNG, [2]int{199, 100}, [2]int{100, 50}, 1, picture.PNG, "as many"},
		{"rounded by a pixel", picture.GIF, [2]int{301, 150}, [2]int{100, 50}, 2, picture.GIF, "twice as many"},
		{"stretched", picture.PNG, [2]int{300, 150}, [2]int{100, 60}, 0, "", ""},
		{"a drawing has no pixels", picture.SVG, [2]int{12, 4}, [2]int{100, 60}, 2, "", "twice as many"},
		{"one colour fills every place", picture.GIF, [2]int{1, 1}, [2]int{88, 2}, 1, picture.GIF, "as many"},
		{"a format that is not written", picture.WebP, [2]int{200, 100}, [2]int{100, 50}, 2, "", "twice as many"},
	} {
		shown := &template.Picture{Facts: picture.Facts{Format: c.format, Width: c.of[0], Height: c.of[1]}}
		r := fitted(shown, c.at[0], c.at[1])
		if r == nil {
			if c.multiple != 0 {
				t.Errorf("%s: it is not fitted", c.name)
			}
			continue
		}
		if r.Multiple != c.multiple || r.Width != c.at[0] || r.Height != c.at[1] || r.Format != c.format2 || times(r.Multiple) != c.says {
			t.Errorf("%s: %+v", c.name, r)
		}
		if err := r.Check(); err != nil {
			t.Errorf("%s: %v", c.name, err)
		}
	}
}

// TestShaped: which values of border-radius can be cut.
func TestShaped(t *testing.T) {
	for value, want := range map[string]picture.Recipe{
		"50%":     {Shape: picture.Round},
		"100%":    {Shape: picture.Round},
		"6px":     {Shape: picture.Rounded, Radius: 6},
		"20%":     {},
		"0":       {},
		"6px 2px": {},
		"-3px":    {},
		"x%":      {},
		"99999px": {},
	} {
		var r picture.Recipe
		if ok := shaped(&r, value); ok != (want.Shape != "") || r.Shape != want.Shape || ok && r.Radius != want.Radius {
			t.Errorf("%s: %v, %+v", value, ok, r)
		}
	}
}
