package style

import (
	"fmt"
	"image/color"
	"strconv"
	"strings"

	"golang.org/x/image/colornames"
)

// Color reads a colour: #rgb, #rrggbb, rgb() with numbers or percentages, or a name (CSS Color Module
// Level 4, 5 and 6.1). Transparent ones and those of other forms are not ok.
func Color(value string) (c color.RGBA, ok bool) {
	value = strings.ToLower(strings.TrimSpace(value))
	if c, ok := colornames.Map[value]; ok {
		return c, true
	}
	if hex, ok := strings.CutPrefix(value, "#"); ok {
		return hexColor(hex)
	}
	inner, ok := strings.CutPrefix(strings.Replace(value, "rgba(", "rgb(", 1), "rgb(")
	if !ok || !strings.HasSuffix(inner, ")") {
		return c, false
	}
	parts := strings.FieldsFunc(strings.TrimSuffix(inner, ")"), func(r rune) bool { return r == ',' || r == ' ' || r == '/' })
	if len(parts) != 3 && (len(parts) != 4 || parts[3] == "0") {
		return c, false
	}
	var channels [3]uint8
	for i := range channels {
		number, percent := strings.CutSuffix(parts[i], "%")
		f, err := strconv.ParseFloat(number, 64)
		if err != nil {
			return c, false
		}
		if percent {
			f *= 2.55
		}
		channels[i] = uint8(min(max(f+0.5, 0), 255))
	}
	return color.RGBA{channels[0], channels[1], channels[2], 255}, true
}

// Hex writes a colour with six digits.
func Hex(c color.RGBA) string { return fmt.Sprintf("#%02x%02x%02x", c.R, c.G, c.B) }

// hexColor reads #rgb and #rrggbb.
func hexColor(hex string) (color.RGBA, bool) {
	if len(hex) == 3 {
		hex = string([]byte{hex[0], hex[0], hex[1], hex[1], hex[2], hex[2]})
	}
	n, err := strconv.ParseUint(hex, 16, 32)
	return color.RGBA{uint8(n >> 16), uint8(n >> 8), uint8(n), 255}, err == nil && len(hex) == 6
}

// perUnit is how many px a unit has (CSS Values and Units Module Level 4, 6.2).
var perUnit = map[string]float64{"px": 1, "pt": 96.0 / 72, "pc": 16, "in": 96, "cm": 96 / 2.54, "mm": 9.6 / 2.54, "": 1}

// Length reads a length in px. em and % are taken of the given font size; a bare number counts as px.
func Length(value string, fontSize float64) (float64, bool) {
	value = strings.ToLower(strings.TrimSpace(value))
	end := len(value)
	for end > 0 && (value[end-1] < '0' || value[end-1] > '9') && value[end-1] != '.' {
		end--
	}
	n, err := strconv.ParseFloat(value[:end], 64)
	if err != nil {
		return 0, false
	}
	switch unit := value[end:]; unit {
	case "em", "rem":
		return n * fontSize, true
	case "%":
		return n * fontSize / 100, true
	default:
		factor, ok := perUnit[unit]
		return n * factor, ok
	}
}

// Sides are the four sides of a box, in px.
type Sides struct{ Top, Right, Bottom, Left float64 }

// boxSides reads the value of a property such as margin or padding: one to four lengths.
func boxSides(value string, fontSize float64) (Sides, bool) {
	var lengths []float64
	for _, word := range strings.Fields(value) {
		n, ok := Length(word, fontSize)
		if word == "auto" {
			n, ok = 0, true
		}
		if !ok {
			return Sides{}, false
		}
		lengths = append(lengths, n)
	}
	switch len(lengths) {
	case 1:
		return Sides{lengths[0], lengths[0], lengths[0], lengths[0]}, true
	case 2:
		return Sides{lengths[0], lengths[1], lengths[0], lengths[1]}, true
	case 3:
		return Sides{lengths[0], lengths[1], lengths[2], lengths[1]}, true
	case 4:
		return Sides{lengths[0], lengths[1], lengths[2], lengths[3]}, true
	}
	return Sides{}, false
}

// Families reads a font-family value: the names in their order, without quotes.
func Families(value string) []string {
	var names []string
	for _, name := range strings.Split(value, ",") {
		if name = strings.Trim(strings.TrimSpace(name), `"'`); name != "" {
			names = append(names, name)
		}
	}
	return names
}

// Mixed is a colour on the way from a to b, 0 to 1.
func Mixed(a, b color.RGBA, share float64) color.RGBA {
	return over(b, share, a)
}
