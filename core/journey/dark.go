package journey

import (
	"image/color"

	"missivum/core/client"
	"missivum/core/style"
)

// darkBackground is what stands in the place of white in dark modes.
var darkBackground = color.RGBA{30, 30, 30, 255}

// Recoloured gives the colours of text and of the background behind it as a dark mode shows them. In a full inversion
// the lightness of both is turned over; in a partial one a light background is made dark and dark text light, and each
// stays that is neither. Hue is kept.
func Recoloured(as string, text, background color.RGBA) (color.RGBA, color.RGBA) {
	switch as {
	case client.Full:
		return turned(text), turned(background)
	case client.Partial:
		return lightened(text), darkened(background)
	}
	return text, background
}

// recolouredText and RecolouredBackground are the two halves of Recoloured.
func recolouredText(as string, text color.RGBA) color.RGBA {
	c, _ := Recoloured(as, text, text)
	return c
}

// recolouredBackground is the colour of a background in dark mode.
func recolouredBackground(as string, background color.RGBA) color.RGBA {
	_, c := Recoloured(as, background, background)
	return c
}

// turned turns the lightness over and keeps white at the dark background's.
func turned(c color.RGBA) color.RGBA {
	h, s, l := style.HSL(c)
	_, _, least := style.HSL(darkBackground)
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

// darkened makes a background darker that is lighter than the middle.
func darkened(c color.RGBA) color.RGBA {
	h, s, l := style.HSL(c)
	if l <= 0.5 {
		return c
	}
	_, _, least := style.HSL(darkBackground)
	return style.FromHSL(h, s, max(1-l, least))
}
