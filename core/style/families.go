package style

import (
	"strings"

	"missivum/core/markup"
)

// FamiliesOf lists the fonts that a declaration of font-family or font asks for.
func FamiliesOf(d markup.Declaration) []string {
	switch d.Property {
	case "font-family":
		return Families(d.Value)
	case "font":
		if at := strings.LastIndexAny(strings.SplitN(d.Value, ",", 2)[0], "0123456789%"); at >= 0 {
			if _, list, ok := strings.Cut(d.Value[at:], " "); ok {
				return Families(list)
			}
		}
	}
	return nil
}
