package style

import (
	"slices"
	"strings"

	"missivum/core/markup"
)

// FoldSides leaves out of one to four values for the sides of a box those that follow from the others (CSS Box Model
// Module Level 3, 4.2).
func FoldSides(v []string) []string {
	if len(v) == 4 && v[3] == v[1] {
		v = v[:3]
	}
	if len(v) == 3 && v[2] == v[0] {
		v = v[:2]
	}
	if len(v) == 2 && v[1] == v[0] {
		v = v[:1]
	}
	return v
}

// JoinSides puts the four declarations of single sides of a property such as padding into one, in the place of the
// last, where all four are there and nothing stands against it: the property itself, a mark of importance, a field.
func JoinSides(list []markup.Declaration, family string) []markup.Declaration {
	names := []string{family + "-top", family + "-right", family + "-bottom", family + "-left"}
	sides := [4]string{}
	last := -1
	for i, d := range list {
		at := slices.Index(names, d.Property)
		switch {
		case d.Property == family || at >= 0 && (d.Important || strings.Contains(d.Value, "{{")):
			return list
		case at >= 0:
			sides[at], last = d.Value, i
		}
	}
	if last < 0 || slices.Contains(sides[:], "") {
		return list
	}
	var rest []markup.Declaration
	for i, d := range list {
		if i == last {
			d.Property, d.Value = family, strings.Join(sides[:], " ")
		} else if slices.Contains(names, d.Property) {
			continue
		}
		rest = append(rest, d)
	}
	return rest
}
