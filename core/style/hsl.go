package style

import (
	"image/color"

	"github.com/lucasb-eyer/go-colorful"
)

// HSL gives a colour's hue in degrees, and its saturation and lightness of 0 to 1 (CSS Color Module Level 4, 7.2).
// Its opacity does not count.
func HSL(c color.RGBA) (h, s, l float64) {
	return opaque(c).Hsl()
}

// FromHSL makes the colour of a hue in degrees and a saturation and lightness of 0 to 1; what is beyond is taken as
// the end (CSS Color Module Level 4, 7.1).
func FromHSL(h, s, l float64) color.RGBA {
	for h < 0 {
		h += 360
	}
	for h >= 360 {
		h -= 360
	}
	r, g, b := colorful.Hsl(h, min(max(s, 0), 1), min(max(l, 0), 1)).Clamped().RGB255()
	return color.RGBA{r, g, b, 255}
}

// Luminance is a colour's relative luminance, 0 to 1 (WCAG 2.2, relative luminance).
func Luminance(c color.RGBA) float64 {
	_, y, _ := colorful.LinearRgbToXyz(opaque(c).LinearRgb())
	return y
}

// opaque is a colour without its opacity.
func opaque(c color.RGBA) colorful.Color {
	return colorful.Color{R: float64(c.R) / 255, G: float64(c.G) / 255, B: float64(c.B) / 255}
}
