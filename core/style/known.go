package style

import (
	_ "embed"
	"slices"
	"strings"
)

//go:embed properties.txt
var propertyList string

var properties = strings.Fields(propertyList)

// Properties lists the names of CSS properties that engines know.
func Properties() []string { return properties }

// KnownProperty reports whether a name is that of a CSS property, of an engine's own (beginning with a hyphen or
// with mso-) or of the author's (beginning with two hyphens).
func KnownProperty(name string) bool {
	return strings.HasPrefix(name, "-") || strings.HasPrefix(name, "mso-") || slices.Contains(properties, name)
}

// TakesLength reports whether a property's bare number other than 0 is no value (CSS Values and Units Module
// Level 4, 6).
func TakesLength(property string) bool {
	switch property {
	case "width", "height", "max-width", "max-height", "min-width", "min-height", "font-size", "letter-spacing", "word-spacing",
		"text-indent", "border-radius", "border-width", "border-spacing", "top", "left", "right", "bottom", "gap":
		return true
	}
	return strings.HasPrefix(property, "padding") || strings.HasPrefix(property, "margin")
}

// GenericFamilies are the families that every engine has (CSS Fonts Module Level 4, 2.1.3).
var GenericFamilies = []string{"serif", "sans-serif", "monospace", "cursive", "fantasy", "system-ui"}

// Generic is the generic family that stands in for a font: serif, monospace or sans-serif.
func Generic(family string) string {
	family = strings.ToLower(family)
	for _, serif := range []string{"times", "georgia", "garamond", "cambria", "palatino", "antiqua", "bookman",
		"baskerville", "constantia", "serif"} {
		if strings.Contains(family, serif) && !strings.Contains(family, "sans") {
			return "serif"
		}
	}
	for _, mono := range []string{"courier", "consolas", "mono", "lucida console"} {
		if strings.Contains(family, mono) {
			return "monospace"
		}
	}
	return "sans-serif"
}
