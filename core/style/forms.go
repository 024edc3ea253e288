package style

import (
	"slices"
	"strings"

	"github.com/tdewolff/parse/v2/css"
)

// HasUnit reports whether a value has a number with one of the units, or one of the functions (such as calc).
// The unit "number" is a bare one.
func HasUnit(value string, units []string) bool {
	for _, t := range tokenize(value, 0) {
		if slices.Contains(units, unitOf(t)) {
			return true
		}
	}
	return false
}

// unitOf is the unit of a number, or the name of a function; empty for anything else.
func unitOf(t token) string {
	switch t.kind {
	case css.DimensionToken:
		return strings.ToLower(strings.TrimLeft(t.text, "+-.0123456789"))
	case css.NumberToken:
		return "number"
	case css.FunctionToken:
		return strings.ToLower(strings.TrimSuffix(t.text, "("))
	}
	return ""
}

// RewriteUnits puts to in the place of each number that has one of the units; * in it stands for the number as
// it was.
func RewriteUnits(value string, units []string, to string) string {
	var b strings.Builder
	depth := 0
	for _, t := range tokenize(value, 0) {
		switch t.kind {
		case css.FunctionToken, css.LeftParenthesisToken:
			depth++
		case css.RightParenthesisToken:
			depth--
		}
		if depth == 0 && t.kind != css.FunctionToken && slices.Contains(units, unitOf(t)) {
			b.WriteString(strings.ReplaceAll(to, "*", t.text))
		} else {
			b.WriteString(t.text)
		}
	}
	return b.String()
}

// HasColour reports whether a value has a colour in one of the forms that ColourForm names.
func HasColour(value string, forms []string) bool {
	for _, form := range colourForms(value) {
		if slices.Contains(forms, form) {
			return true
		}
	}
	return false
}

// colourForms names the forms of the colours in a value: hex3, hex4, hex6, hex8, rgb, rgba, hsl (with hsla),
// function for any newer one, current, transparent (CSS Color Module Level 4, 4 to 11). Names are left out: every
// engine knows them.
func colourForms(value string) []string {
	if !strings.ContainsAny(value, "#(") && !strings.ContainsAny(value, "rR") {
		return nil
	}
	var forms []string
	for _, t := range tokenize(value, 0) {
		if form := ColourForm(t.text); form != "" && t.kind != css.StringToken && t.kind != css.URLToken {
			forms = append(forms, form)
		}
	}
	return forms
}

// ColourForm names the form of a colour from its beginning: a hash and digits, a function's name, or a word.
func ColourForm(text string) string {
	text = strings.ToLower(text)
	if digits, ok := strings.CutPrefix(text, "#"); ok && strings.Trim(digits, "0123456789abcdef") == "" {
		switch len(digits) {
		case 3, 4, 6, 8:
			return "hex" + string(rune('0'+len(digits)))
		}
	}
	name, function := strings.CutSuffix(text, "(")
	switch {
	case name == "currentcolor":
		return "current"
	case name == "transparent":
		return "transparent"
	case !function:
		return ""
	}
	switch name {
	case "rgb", "rgba":
		return name
	case "hsl", "hsla":
		return "hsl"
	case "hwb", "lab", "lch", "oklab", "oklch", "color", "color-mix", "light-dark":
		return "function"
	}
	return ""
}
