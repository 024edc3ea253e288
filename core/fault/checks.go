package fault

import (
	"fmt"
	"html"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/cases"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/language"
	"golang.org/x/text/unicode/norm"

	"missivum/core/person"
	"missivum/core/source"
)

// numbers are the fields that hold telephone numbers; others are known by what they are called.
var numbers = []string{"telephoneNumber", "mobile", "facsimileTelephoneNumber", "homePhone"}

// isNumber reports whether a field holds telephone numbers.
func isNumber(field string) bool {
	low := strings.ToLower(field)
	return slices.Contains(numbers, field) || strings.HasSuffix(low, "phone") || strings.HasSuffix(low, "telephonenumber") ||
		strings.HasPrefix(low, "switchboard")
}

// named are the fields that hold names of people, places and things, as people write them.
var named = []string{"cn", "givenName", "sn", "displayName", "title", "ou", "o", "l", "street", "physicalDeliveryOfficeName", "st"}

// checksOf lists what is asked of a field's values, the gravest first.
func checksOf(field string) []func(*finder, string, string) {
	list := []func(*finder, string, string){placeholder, garbled, markup}
	switch {
	case isNumber(field):
		list = append(list, number)
	case field == "mail":
		list = append(list, mailAddress)
	case field == "labeledURI" || strings.HasSuffix(field, "Address") && field != "postalAddress":
		list = append(list, webAddress)
	case field == "c":
		list = append(list, country)
	case field == "postalCode":
		list = append(list, postcode)
	case field == "preferredLanguage":
		list = append(list, languageCode)
	}
	if alone[field] > 0 {
		list = append(list, twiceFault)
	}
	if !isNumber(field) {
		list = append(list, mixed)
	}
	if slices.Contains(named, field) {
		list = append(list, capitals)
	}
	return append(list, spaces, long)
}

// placeholders are what stands in a field that nobody has filled, in small letters without the signs around it.
var placeholders = func() map[string]bool {
	words := map[string]bool{}
	for _, w := range strings.Split("n/a|na|n.a|none|null|nil|nan|tbd|tba|tbc|todo|unknown|undefined|not set|not "+
		"available|not applicable|empty|blank|"+
		"test|dummy|xxx|xx|x|k.a|ka|keine|keine angabe|kein|nicht vorhanden|unbekannt|leer|entfällt|folgt|"+
		"néant|aucun|aucune|inconnu|sans|vide|ninguno|ninguna|desconocido|nessuno|nessuna|sconosciuto|geen|onbekend|nvt|n.v.t|"+
		"saknas|ingen|okänd|okand|brak|nieznany|nie dotyczy|nd|n.d|#n/a|#nv|#ref!|#value!|#name?", "|") {
		words[w] = true
	}
	return words
}()

// placeholder reports what stands for nothing.
func placeholder(f *finder, field, value string) {
	low := strings.ToLower(strings.TrimSpace(person.Clean(value)))
	bare := strings.Trim(low, "-–—_.?*()[]<> ")
	number := strings.Trim(bare, "0 +-/") == "" && bare != ""
	initial := utf8.RuneCountInString(bare) == 1 && (field == "initials" || field == "roomNumber" || field == "generationQualifier")
	if bare == "" || placeholders[strings.ReplaceAll(bare, " ", "")] && !initial || placeholders[bare] && !initial ||
		number && isNumber(field) {
		f.add("placeholder", field, value, "stands for nothing", "", "")
	}
}

// garbled reports text that was UTF-8 and was read as windows-1252, and letters that were lost.
func garbled(f *finder, field, value string) {
	if strings.ContainsRune(value, utf8.RuneError) {
		f.add("garbled", field, value, "a letter was lost", "", "")
		return
	}
	if !strings.ContainsAny(value, "ÃÂâÅÄÐÑ") {
		return
	}
	bytes, err := charmap.Windows1252.NewEncoder().String(value)
	if err != nil || !utf8.ValidString(bytes) || utf8.RuneCountInString(bytes) >= utf8.RuneCountInString(value) {
		return
	}
	f.add("garbled", field, value, "was read in the wrong character set", bytes, "")
}

var tag = regexp.MustCompile(`(?i)</?(?:a|abbr|b|big|br|center|div|em|font|h[1-6]|hr|i|img|li|ol|p|s|small|span|` +
	`strong|sub|sup|table|td|tr|u|ul)(?:\s[^>]*)?/?>|&(?:[A-Za-z]{2,8}|#[0-9]{2,6}|#x[0-9A-Fa-f]{2,6});`)

// markup reports tags and character references.
func markup(f *finder, field, value string) {
	if !strings.ContainsAny(value, "<&") || !tag.MatchString(value) {
		return
	}
	plain := html.UnescapeString(regexp.MustCompile(`<[^>]*>`).ReplaceAllString(value, " "))
	f.add("markup", field, value, "holds markup", person.Clean(plain), "")
}

// number reports what is not certainly one telephone number.
func number(f *finder, field, value string) {
	switch bare := strings.TrimLeft(value, "'"); {
	case power.MatchString(value):
		f.add("number", field, value, "was written as a power of ten by a spreadsheet; its last digits are lost", "",
			person.Clean(value)+", without a link")
		return
	case bare != value && person.NoTelephone(bare, f.country()) == "":
		f.add("number", field, value, "begins with the sign by which spreadsheets mark text", bare, person.Clean(value)+", without a link")
		return
	}
	if why := person.NoTelephone(value, f.country()); why != "" {
		f.add("number", field, value, why, "", person.Clean(value)+", without a link")
	}
}

// power is a number as a spreadsheet shows a long one.
var power = regexp.MustCompile(`^\d+[.,]?\d*[eE]\+?\d{1,2}$`)

// postcodes are how many digits post codes have that are digits alone, by country.
var postcodes = map[string]int{"DE": 5, "FR": 5, "IT": 5, "ES": 5, "FI": 5, "EE": 5, "HR": 5, "LT": 5, "AT": 4, "CH": 4,
	"BE": 4, "DK": 4, "NO": 4,
	"HU": 4, "BG": 4, "SI": 4, "LU": 4, "AU": 4, "NZ": 4}

// postcode reports post codes of the wrong length; one digit too few is a zero that was dropped.
func postcode(f *finder, field, value string) {
	country := f.country()
	want, known := postcodes[strings.ToUpper(country)]
	bare := strings.TrimPrefix(strings.ToUpper(strings.TrimSpace(value)), strings.ToUpper(country)+"-")
	if !known || len(bare) == want && strings.Trim(bare, "0123456789") == "" {
		return
	}
	suggestion := ""
	if strings.Trim(bare, "0123456789") == "" && len(bare) == want-1 {
		suggestion = "0" + bare
	}
	f.add("postcode", field, value, fmt.Sprintf("is no post code of %s, which has %d digits", strings.ToUpper(country), want), suggestion, "")
}

// mailAddress reports what is no mail address.
func mailAddress(f *finder, field, value string) {
	if source.Address(value) {
		return
	}
	bare := strings.TrimPrefix(strings.Trim(strings.TrimSpace(value), "<>"), "mailto:")
	if !source.Address(bare) {
		bare = ""
	}
	f.add("address", field, value, "is no mail address", bare, "")
}

// webAddress reports what is no full address.
func webAddress(f *finder, field, value string) {
	for line := range strings.SplitSeq(value, "\n") {
		address, label, _ := strings.Cut(strings.TrimSpace(line), " ")
		u, err := url.Parse(address)
		if err == nil && (u.Scheme == "https" || u.Scheme == "http") && strings.Contains(u.Host, ".") {
			continue
		}
		suggestion := ""
		if host, _, _ := strings.Cut(address, "/"); err == nil && u.Scheme == "" && strings.Contains(strings.Trim(host, "."), ".") {
			suggestion = strings.TrimSpace("https://" + address + " " + label)
		}
		f.add("address", field, value, "is no full address", suggestion, "")
		return
	}
}

// country reports what is no code of a country.
func country(f *finder, field, value string) {
	code := person.CountryCode(value)
	switch {
	case code == value:
	case len(value) == 2 && code != "":
		f.add("country", field, value, "the code is written otherwise", code, "")
	case code != "":
		f.add("country", field, value, "is a name and not a code of two letters", code, "")
	default:
		f.add("country", field, value, "is no code of a country", "", "")
	}
}

// languageCode reports what is no code of a language (BCP 47).
func languageCode(f *finder, field, value string) {
	first, _, _ := strings.Cut(value, ",") // a list by preference (RFC 2798, 2.7)
	first, _, _ = strings.Cut(first, ";")
	if tag, err := language.Parse(strings.TrimSpace(first)); err != nil || tag == language.Und {
		f.add("language", field, value, "is no code of a language, such as en or de-CH", "", "")
	}
}

// scripts are those whose letters look alike.
var scripts = map[string]*unicode.RangeTable{"Latin": unicode.Latin, "Cyrillic": unicode.Cyrillic, "Greek": unicode.Greek}

// alike are letters of other scripts by the Latin ones that they look like.
var alike = strings.NewReplacer("А", "A", "В", "B", "Е", "E", "К", "K", "М", "M", "Н", "H", "О", "O", "Р", "P", "С", "C",
	"Т", "T", "У", "Y", "Х", "X",
	"а", "a", "е", "e", "о", "o", "р", "p", "с", "c", "у", "y", "х", "x", "і", "i", "ј", "j", "ѕ", "s", "І", "I", "Ј", "J", "Ѕ", "S",
	"Α", "A", "Β", "B", "Ε", "E", "Ζ", "Z", "Η", "H", "Ι", "I", "Κ", "K", "Μ", "M", "Ν", "N", "Ο", "O", "Ρ", "P", "Τ", "T", "Υ", "Y", "Χ", "X",
	"ο", "o", "ν", "v")

// mixed reports words with letters of several scripts that look alike.
func mixed(f *finder, field, value string) {
	if plainASCII(value) {
		return
	}
	for word := range strings.FieldsSeq(value) {
		have := map[string]int{}
		for _, r := range word {
			for name, table := range scripts {
				if unicode.Is(table, r) {
					have[name]++
				}
			}
		}
		if len(have) < 2 {
			continue
		}
		suggestion := ""
		if latin := alike.Replace(value); have["Latin"] > 0 && !strings.ContainsFunc(latin, func(r rune) bool {
			return unicode.Is(unicode.Cyrillic, r) || unicode.Is(unicode.Greek, r)
		}) {
			suggestion = latin
		}
		var names []string
		for _, name := range []string{"Latin", "Greek", "Cyrillic"} {
			if have[name] > 0 {
				names = append(names, name)
			}
		}
		f.add("letters", field, value, fmt.Sprintf("%s has %s letters", word, strings.Join(names, " and ")), suggestion, "")
		return
	}
}

// plainASCII reports whether a value is ASCII alone.
func plainASCII(value string) bool {
	for i := range len(value) {
		if value[i] >= utf8.RuneSelf {
			return false
		}
	}
	return true
}

// fewestCapitals is how many letters a word has at least that is not an abbreviation.
const fewestCapitals = 5

// capitals reports names in capitals, and names of people in small letters.
func capitals(f *finder, field, value string) {
	big, small, longest := 0, 0, 0
	for word := range strings.FieldsSeq(value) {
		n := 0
		for _, r := range word {
			switch { // letters of scripts without case count for neither
			case unicode.IsUpper(r):
				big, n = big+1, n+1
			case unicode.IsLower(r) && unicode.ToUpper(r) != r:
				small, n = small+1, n+1
			}
		}
		longest = max(longest, n)
	}
	person := slices.Contains([]string{"cn", "givenName", "sn", "displayName"}, field)
	says := ""
	switch {
	case big > 0 && small == 0 && (longest >= fewestCapitals || person && longest > 2):
		says = "is written in capitals"
	case small > 0 && big == 0 && person && longest > 2:
		says = "is written in small letters"
	default:
		return
	}
	if suggestion := f.title(value); suggestion != value {
		f.add("capitals", field, value, says, suggestion, "")
	}
}

// title writes words with a capital letter in front, by the rules of the person's language.
func (f *finder) title(value string) string {
	tag, err := language.Parse(f.value("preferredLanguage"))
	if err != nil {
		tag = language.Und
	}
	return cases.Title(tag).String(value)
}

// spaces reports spaces that are no single spaces between words, and letters that are put together from parts.
func spaces(f *finder, field, value string) {
	if strings.Contains(value, "\n") { // a list
		return
	}
	clean := strings.Join(strings.Fields(person.Clean(value)), " ")
	if isNumber(field) {
		clean = strings.TrimSpace(person.Clean(value))
	}
	switch {
	case clean != value:
		f.add("spaces", field, value, "has stray spaces or signs that are not seen", clean, "")
	case norm.NFC.String(value) != value:
		f.add("spaces", field, value, "has letters that are put together from parts", norm.NFC.String(value), "")
	}
}

// long reports what does not fit on a line.
func long(f *finder, field, value string) {
	n, most, who := utf8.RuneCountInString(value), 0, ""
	for _, line := range f.Longest {
		if line.Field == field && line.Of(f.who) && (most == 0 || line.Most < most) {
			most, who = line.Most, " of "+line.Who
		}
	}
	about := ""
	if most == 0 {
		most, who, about = usualLongest[field], " of the signature", "about "
	}
	if most > 0 && n > most {
		f.add("long", field, value, fmt.Sprintf("has %d characters; a line%s holds %s%d", n, who, about, most), "", "")
	}
}
