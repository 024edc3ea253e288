package client

import (
	"image/color"

	"missivum/core/style"
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
	h, s, l := style.HSL(c)
	_, _, least := style.HSL(darkGround)
	return style.FromHSL(h, s, 1-l*(1-least))
}

// lightened makes text lighter that is darker than the middle.
func lightened(c color.RGBA) color.RGBA {
	h, s, l := style.HSL(c)
	if l >= 0.5 {
		return c
	}
	return style.FromHSL(h, s, 1-l)
}

// darkened makes a ground darker that is lighter than the middle.
func darkened(c color.RGBA) color.RGBA {
	h, s, l := style.HSL(c)
	if l <= 0.5 {
		return c
	}
	_, _, least := style.HSL(darkGround)
	return style.FromHSL(h, s, max(1-l, least))
}
