package style

import (
	"fmt"
	"image/color"
	"math"
	"strconv"
	"strings"

	"github.com/tdewolff/parse/v2/css"
)

// Opaque writes every colour of a value that is not in one of the forms all engines read (a name, three or six
// digits, rgb()) with six digits. One that lets the background through is laid over it; currentColor is the ink. It is
// not ok when a colour cannot be read.
func Opaque(value string, background, ink color.RGBA) (string, bool) {
	var b strings.Builder
	tokens := tokenize(value, 0)
	for i := 0; i < len(tokens); i++ {
		text := tokens[i].text
		switch form := ColourForm(text); {
		case form == "current":
			b.WriteString(Hex(ink))
		case form == "hex4" || form == "hex8":
			c, alpha, ok := hexWithAlpha(text)
			if !ok {
				return "", false
			}
			b.WriteString(Hex(over(c, alpha, background)))
		case form == "rgb" || form == "rgba" || form == "hsl":
			end := closing(tokens, i)
			c, alpha, ok := functionColour(form, join(tokens[i+1:end]))
			if !ok {
				return "", false
			}
			b.WriteString(Hex(over(c, alpha, background)))
			if i = end; i+1 < len(tokens) && goesOn(tokens[i+1].text) { // digits would go on with what followed the bracket
				b.WriteByte(' ')
			}
		case form == "transparent" || form == "function":
			return "", false
		default:
			b.WriteString(text)
		}
	}
	return b.String(), true
}

// goesOn reports whether a text behind a name or a number would be taken for more of it.
func goesOn(text string) bool {
	c := text[0]
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '-' || c == '_' || c == '\\' || c >= 0x80
}

// Serialized writes every colour of a value that is no name as browsers write it back: rgb(), or rgba() where the background
// shines through (CSS Object Model, 6.7.2). What cannot be read stays.
func Serialized(value string) string {
	var b strings.Builder
	tokens := tokenize(value, 0)
	for i := 0; i < len(tokens); i++ {
		text := tokens[i].text
		c, alpha, ok := color.RGBA{}, 1.0, false
		end := i
		switch form := ColourForm(text); form {
		case "hex3", "hex6":
			c, ok = Color(text)
		case "hex4", "hex8":
			c, alpha, ok = hexWithAlpha(text)
		case "rgb", "rgba", "hsl":
			end = closing(tokens, i)
			c, alpha, ok = functionColour(form, join(tokens[i+1:end]))
		}
		switch {
		case !ok:
			b.WriteString(text)
			continue
		case alpha == 1:
			fmt.Fprintf(&b, "rgb(%d, %d, %d)", c.R, c.G, c.B)
		default:
			fmt.Fprintf(&b, "rgba(%d, %d, %d, %s)", c.R, c.G, c.B, alphaText(alpha))
		}
		i = end
	}
	return b.String()
}

// alphaText writes an alpha with two digits where they give the same of 255 steps, or else with three.
func alphaText(alpha float64) string {
	steps := math.Round(alpha * 255)
	short := math.Round(steps/255*100) / 100
	if math.Round(short*255) != steps {
		short = math.Round(steps/255*1000) / 1000
	}
	return strconv.FormatFloat(short, 'f', -1, 64)
}

// closing finds the bracket that closes one.
func closing(tokens []token, open int) int {
	depth := 0
	for i := open; i < len(tokens); i++ {
		switch tokens[i].kind {
		case css.FunctionToken, css.LeftParenthesisToken:
			depth++
		case css.RightParenthesisToken:
			if depth--; depth == 0 {
				return i
			}
		}
	}
	return len(tokens) // never closed: CSS closes it at the end
}

// over lays a colour with an alpha of 0 to 1 over an opaque background.
func over(c color.RGBA, alpha float64, background color.RGBA) color.RGBA {
	mix := func(a, b uint8) uint8 { return uint8(math.Round(alpha*float64(a) + (1-alpha)*float64(b))) }
	return color.RGBA{mix(c.R, background.R), mix(c.G, background.G), mix(c.B, background.B), 255}
}

// hexWithAlpha reads #rgba and #rrggbbaa.
func hexWithAlpha(text string) (color.RGBA, float64, bool) {
	digits := strings.TrimPrefix(text, "#")
	if len(digits) == 4 {
		digits = string([]byte{digits[0], digits[0], digits[1], digits[1], digits[2], digits[2], digits[3], digits[3]})
	}
	n, err := strconv.ParseUint(digits, 16, 32)
	return color.RGBA{uint8(n >> 24), uint8(n >> 16), uint8(n >> 8), 255}, float64(n&255) / 255, err == nil && len(digits) == 8
}

// functionColour reads the content of rgb(), rgba(), hsl() or hsla() (CSS Color Module Level 4, 5.1 and 7).
func functionColour(form, inner string) (c color.RGBA, alpha float64, ok bool) {
	parts := strings.FieldsFunc(inner, func(r rune) bool { return r == ',' || r == ' ' || r == '/' })
	if len(parts) != 3 && len(parts) != 4 {
		return c, 0, false
	}
	var v [4]float64
	v[3] = 1
	for i, part := range parts {
		number, percent := strings.CutSuffix(part, "%")
		number = strings.TrimSuffix(number, "deg")
		f, err := strconv.ParseFloat(number, 64)
		if err != nil {
			return c, 0, false
		}
		switch {
		case i == 3 && percent, form == "hsl" && i > 0 && i < 3:
			f /= 100
		case percent:
			f *= 2.55
		}
		v[i] = f
	}
	alpha = min(max(v[3], 0), 1)
	if form == "hsl" {
		return FromHSL(v[0], v[1], v[2]), alpha, true
	}
	channel := func(f float64) uint8 { return uint8(min(max(f+0.5, 0), 255)) }
	return color.RGBA{channel(v[0]), channel(v[1]), channel(v[2]), 255}, alpha, true
}

// InPixels writes each rem of a value as px, 16 for each, and each calc() that only adds and subtracts px and rem as
// its sum. It is not ok when another unit is left that not every engine reads.
func InPixels(value string) (string, bool) {
	var b strings.Builder
	tokens := tokenize(value, 0)
	for i := 0; i < len(tokens); i++ {
		t := tokens[i]
		switch unitOf(t) {
		case "rem":
			n, err := strconv.ParseFloat(strings.TrimSuffix(strings.ToLower(t.text), "rem"), 64)
			if err != nil {
				return "", false
			}
			b.WriteString(pixelText(n * 16))
		case "calc":
			end := closing(tokens, i)
			sum, ok := sumOf(join(tokens[i+1 : end]))
			if !ok {
				return "", false
			}
			b.WriteString(pixelText(sum))
			i = end
		case "vw", "vh", "vmin", "vmax", "ch", "ex", "min", "max", "clamp":
			return "", false
		default:
			b.WriteString(t.text)
		}
	}
	return b.String(), true
}

// pixelText writes a length in px.
func pixelText(px float64) string {
	return strconv.FormatFloat(math.Round(px*100)/100, 'f', -1, 64) + "px"
}

// sumOf adds up lengths in a calc() of px.
func sumOf(inner string) (float64, bool) {
	sum, sign := 0.0, 1.0
	for _, word := range strings.Fields(inner) {
		switch {
		case word == "+":
			sign = 1
		case word == "-":
			sign = -1
		case strings.HasSuffix(word, "px") || strings.HasSuffix(word, "rem"):
			px, ok := Length(word, 16)
			if !ok {
				return 0, false
			}
			sum += sign * px
		default:
			return 0, false
		}
	}
	return sum, true
}
