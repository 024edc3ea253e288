package client

import (
	"image/color"
	"math"
)

// darkGround is what stands in the place of white in dark modes.
var darkGround = color.RGBA{30, 30, 30, 255}

// Recoloured gives the colours of text and of the ground behind it as a dark mode shows them. In a full inversion
// the lightness of both is turned over; in a partial one a light ground is made dark and dark text light, and each
// stays that is neither. Hue is kept.
func Recoloured(as string, text, ground color.RGBA) (color.RGBA, color.RGBA) {
	switch as {
	case Full:
		return turned(text), turned(ground)
	case Partial:
		return lightened(text), darkened(ground)
	}
	return text, ground
}

// RecolouredText and RecolouredGround are the two halves of Recoloured.
func RecolouredText(as string, text color.RGBA) color.RGBA {
	c, _ := Recoloured(as, text, text)
	return c
}

// RecolouredGround is the colour of a ground in dark mode.
func RecolouredGround(as string, ground color.RGBA) color.RGBA {
	_, c := Recoloured(as, ground, ground)
	return c
}

// turned turns the lightness over and keeps white at the dark ground's.
func turned(c color.RGBA) color.RGBA {
	h, s, l := toHSL(c)
	_, _, least := toHSL(darkGround)
	return fromHSL(h, s, 1-l*(1-least))
}

// lightened makes text lighter that is darker than the middle.
func lightened(c color.RGBA) color.RGBA {
	h, s, l := toHSL(c)
	if l >= 0.5 {
		return c
	}
	return fromHSL(h, s, 1-l)
}

// darkened makes a ground darker that is lighter than the middle.
func darkened(c color.RGBA) color.RGBA {
	h, s, l := toHSL(c)
	if l <= 0.5 {
		return c
	}
	_, _, least := toHSL(darkGround)
	return fromHSL(h, s, max(1-l, least))
}

// toHSL gives hue in degrees, saturation and lightness of 0 to 1 (CSS Color Module Level 4, 7.2).
func toHSL(c color.RGBA) (h, s, l float64) {
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

func fromHSL(h, s, l float64) color.RGBA {
	a := s * min(l, 1-l)
	channel := func(n float64) uint8 {
		k := math.Mod(n+h/30, 12)
		return uint8(math.Round(255 * (l - a*max(-1, min(k-3, 9-k, 1)))))
	}
	return color.RGBA{channel(0), channel(8), channel(4), 255}
}
