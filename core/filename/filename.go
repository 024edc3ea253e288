// Package filename makes names of files and folders that every file system takes. Start with Safe and Unique.
package filename

import (
	"fmt"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"
)

// Longest is how many bytes a name has at most: with the files below it, paths stay below the 260 characters that some
// systems take.
const Longest = 100

// Safe makes a name of a text: in composed letters (Unicode NFC), without the signs that some system does not take, no
// name of a device, no full stop or space at an end, at most Longest bytes.
func Safe(text string) string {
	var b strings.Builder
	for _, r := range norm.NFC.String(text) {
		if r < ' ' || strings.ContainsRune(`<>:"/\|?*`, r) || r >= 0x7f && r < 0xa0 || r == utf8.RuneError || invisible(r) {
			r = '_'
		}
		b.WriteRune(r)
	}
	name := strings.Trim(shortened(b.String(), Longest), ". ")
	if stem, _, _ := strings.Cut(name, "."); name == "" || device(strings.TrimRight(stem, " ")) {
		name = "_" + name
	}
	return name
}

// IsSafe reports whether a name is one that Safe leaves alone.
func IsSafe(name string) bool { return name != "" && Safe(name) == name }

// invisible reports whether a letter only steers the direction or the joining of others: two names would look alike.
func invisible(r rune) bool {
	return r >= 0x200b && r <= 0x200f || r >= 0x2028 && r <= 0x202e || r >= 0x2060 && r <= 0x206f || r == 0xfeff
}

// shortened cuts a text to a number of bytes, at the beginning of a letter.
func shortened(s string, most int) string {
	if len(s) <= most {
		return s
	}
	for !utf8.RuneStart(s[most]) {
		most--
	}
	return s[:most]
}

// device reports whether a name stands for a device on some systems, whatever follows behind a full stop.
func device(stem string) bool {
	stem = strings.ToLower(stem)
	switch stem {
	case "con", "prn", "aux", "nul":
		return true
	}
	return len(stem) == 4 && (strings.HasPrefix(stem, "com") || strings.HasPrefix(stem, "lpt")) && stem[3] >= '0' && stem[3] <= '9'
}

// Unique keeps names apart, also where a system does not tell letter case. The zero value is ready.
type Unique struct{ taken map[string]bool }

// Take gives the name, or the first of name_2, name_3, ... that nobody took.
func (u *Unique) Take(name string) string {
	if u.taken == nil {
		u.taken = map[string]bool{}
	}
	unique := name
	for i := 2; u.taken[strings.ToLower(unique)]; i++ {
		unique = fmt.Sprintf("%s_%d", name, i)
	}
	u.taken[strings.ToLower(unique)] = true
	return unique
}
