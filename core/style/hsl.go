package style

import (
	"image/color"
	"math"
)

// HSL gives a colour's hue in degrees, and its saturation and lightness of 0 to 1 (CSS Color Module Level 4, 7.2).
func HSL(c color.RGBA) (h, s, l float64) {
	r, g, b := float64(c.R)/255, float64(c.G)/255, float64(c.B)/255
	most, least := max(r, g, b), min(r, g, b)
	l = (most + least) / 2
	d := most - least
	if d == 0 {
		return 0, 0, l
	}
	s = d / (1 - math.Abs(2*l-1))
	switch most {
	case r:
		h = math.Mod((g-b)/d+6, 6)
	case g:
		h = (b-r)/d + 2
	default:
		h = (r-g)/d + 4
	}
	return 60 * h, s, l
}

// FromHSL makes the colour of a hue in degrees and a saturation and lightness of 0 to 1; what is beyond is taken as
// the end (CSS Color Module Level 4, 7.1).
func FromHSL(h, s, l float64) color.RGBA {
	s, l = min(max(s, 0), 1), min(max(l, 0), 1)
	channel := func(n float64) uint8 {
		k := math.Mod(n+h/30, 12)
		if k < 0 {
			k += 12
		}
		return uint8(math.Round(255 * (l - s*min(l, 1-l)*max(-1, min(k-3, 9-k, 1)))))
	}
	return color.RGBA{channel(0), channel(8), channel(4), 255}
}
