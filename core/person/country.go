package person

import (
	"slices"
	"strings"
	"sync"
	"unicode"

	"golang.org/x/text/language"
	"golang.org/x/text/language/display"
	"golang.org/x/text/runes"
	"golang.org/x/text/transform"
	"golang.org/x/text/unicode/norm"
)

// languages are those in which names of countries are known.
var languages = []language.Tag{language.English, language.German, language.French, language.Spanish, language.Italian, language.Dutch,
	language.Swedish, language.Polish}

// countries are the codes (ISO 3166, two letters) by the names that countries have in eight languages and their own, folded.
var countries = sync.OnceValue(func() map[string]string {
	byName := map[string]string{}
	for a := 'A'; a <= 'Z'; a++ {
		for b := 'A'; b <= 'Z'; b++ {
			region, err := language.ParseRegion(string([]rune{a, b}))
			if err != nil || !region.IsCountry() || region.Canonicalize() != region {
				continue
			}
			for _, name := range CountryNames(region.String()) {
				if name = FoldTitle(name); name != "" {
					byName[name] = region.String()
				}
			}
		}
	}
	for name, code := range map[string]string{"uk": "GB", "greatbritain": "GB", "england": "GB", "scotland": "GB",
		"usa": "US", "holland": "NL",
		"schweizsuisse": "CH", "brd": "DE"} {
		byName[name] = code
	}
	return byName
})

// CountryCode is the two letters (ISO 3166) of a country's name in one of eight languages; empty for one that is not
// known.
func CountryCode(name string) string {
	name = Clean(name)
	if len(name) == 2 {
		if region, err := language.ParseRegion(strings.ToUpper(name)); err == nil && region.IsCountry() {
			return region.Canonicalize().String()
		}
	}
	return countries()[FoldTitle(name)]
}

// CountryNames are the names in eight languages of the country with a code (ISO 3166, two letters); none for another code.
func CountryNames(code string) []string {
	region, err := language.ParseRegion(strings.ToUpper(code))
	if err != nil || !region.IsCountry() {
		return nil
	}
	var names []string
	for _, tag := range languages {
		if name := display.Regions(tag).Name(region); name != "" && !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	return names
}

// FoldTitle is a title in small letters and digits without marks.
func FoldTitle(title string) string {
	plain, _, err := transform.String(transform.Chain(norm.NFD, runes.Remove(runes.In(unicode.Mn)), norm.NFC), strings.ToLower(title))
	if err != nil {
		plain = strings.ToLower(title)
	}
	plain = strings.NewReplacer("ß", "ss", "ł", "l", "ø", "o", "æ", "ae", "đ", "d").Replace(plain)
	var folded strings.Builder
	for _, r := range plain {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
			folded.WriteRune(r)
		}
	}
	return folded.String()
}
