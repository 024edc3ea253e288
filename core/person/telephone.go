package person

import (
	"fmt"
	"regexp"
	"strings"
	"unicode"

	"github.com/nyaruka/phonenumbers"
)

// Telephone is a telephone number that was read with certainty.
type Telephone struct {
	number    *phonenumbers.PhoneNumber
	extension string // digits; empty for none
}

// International is the number as people read it, with its country code (ITU-T E.123) and its extension.
func (t Telephone) International() string {
	return t.extended(phonenumbers.Format(t.number, phonenumbers.INTERNATIONAL))
}

// extended puts the extension behind a number, the same in every country (ITU-T E.123, 5).
func (t Telephone) extended(number string) string {
	if t.extension == "" {
		return number
	}
	return number + " ext. " + t.extension
}

// National is the number as people of its own country read it, with its extension.
func (t Telephone) National() string {
	return t.extended(phonenumbers.Format(t.number, phonenumbers.NATIONAL))
}

// Dial is what stands behind tel: (RFC 3966): the number as E.164 has it, and its extension as ;ext=.
func (t Telephone) Dial() string {
	dial := phonenumbers.Format(t.number, phonenumbers.E164)
	if t.extension != "" {
		dial += ";ext=" + t.extension
	}
	return dial
}

// Limits of telephone numbers.
const (
	longestTelephone  = 64 // bytes of a value that is read at all
	longestNumber     = 15 // digits with the country code (ITU-T E.164, 6.1)
	longestAreaCode   = 6  // digits before a slash, or before a dash between spaces, without the country code
	longestWithDash   = 11 // digits of a number with a dash between spaces; more may be two numbers
	longestExtension  = 7  // digits
	fewestBehindSlash = 3  // digits
)

// extensionMarks stand before an extension, in small letters, longest first.
var extensionMarks = []string{";ext=", "extension", "extn.", "extn", "ext.:", "ext:", "ext.", "ext", "#", "x"}

// ReadTelephone reads one telephone number. Without a country code it is taken to be of the country (two letters). It
// answers false for all that is not certainly one number: with letters other than a mark of an extension (RFC 3966,
// 3, and ITU-T E.123, 5), with signs that part several numbers, of a length that the country does not have, or
// without the leading zero where numbers of the country have one.
// What is shown of a number must be read as the same again.
func ReadTelephone(value, country string) (Telephone, bool) {
	number, ok := readTelephone(value, country)
	if !ok {
		return Telephone{}, false
	}
	if number.International() == value {
		return number, true
	}
	again, ok := readTelephone(number.International(), country)
	if !ok || again.Dial() != number.Dial() {
		return Telephone{}, false
	}
	return number, true
}

// readTelephone is ReadTelephone without reading what is shown.
func readTelephone(value, country string) (Telephone, bool) {
	none := Telephone{}
	value = Clean(value)
	if len(value) > longestTelephone {
		return none, false
	}
	if rest, ok := strings.CutPrefix(strings.ToLower(value), "tel:+"); ok {
		value = "+" + rest
	}
	text, ok := plainDigits(value)
	if !ok {
		return none, false
	}
	text, extension, ok := cutExtension(text)
	text = international(text)
	if !ok || !oneNumber(text) {
		return none, false
	}
	country = strings.ToUpper(country)
	number, err := phonenumbers.Parse(text, country)
	if err != nil || number.GetExtension() != "" || phonenumbers.IsPossibleNumberWithReason(number) != phonenumbers.IS_POSSIBLE {
		return none, false
	}
	region := phonenumbers.GetRegionCodeForCountryCode(int(number.GetCountryCode()))
	if trunkPrefix(region) == "0" && strings.HasPrefix(phonenumbers.GetNationalSignificantNumber(number), "0") {
		return none, false // too short or too long without it
	}
	if len(phonenumbers.Format(number, phonenumbers.E164)) > 1+longestNumber {
		return none, false
	}
	if !strings.HasPrefix(text, "+") && !wholeNational(text, number, country) {
		return none, false
	}
	return Telephone{number, extension}, true
}

var (
	bracketed = regexp.MustCompile(`^\((\+\d{1,3})\) ?`) // (+49) 40
	slashed   = regexp.MustCompile(`^(\+\d{1,3}) ?/ ?`)  // +43/1/
)

// international takes the signs away that some write around or behind a country code.
func international(text string) string {
	return slashed.ReplaceAllString(bracketed.ReplaceAllString(text, "$1 "), "$1 ")
}

// plainDigits writes digits of other scripts, spaces and dashes as ASCII has them.
func plainDigits(value string) (string, bool) {
	var b strings.Builder
	for _, r := range value {
		switch {
		case r >= '０' && r <= '９': // full width
			r -= '０' - '0'
		case r >= '٠' && r <= '٩': // Arabic
			r -= '٠' - '0'
		case r >= '۰' && r <= '۹': // Persian, Urdu
			r -= '۰' - '0'
		case r == '\u00a0', r == '\u2007', r == '\u2009', r == '\u202f', r == '\u3000':
			r = ' '
		case r >= '\u2010' && r <= '\u2015', r == '\u2212':
			r = '-'
		case r == '\u200e', r == '\u200f', r == '\u202a', r == '\u202c', r == '\ufeff': // signs of direction around a number
			continue
		case r == '＋':
			r = '+'
		case r == '⁄', r == '∕':
			r = '/'
		case r >= 0x80:
			return "", false
		}
		b.WriteRune(r)
	}
	return strings.TrimSpace(b.String()), true
}

// cutExtension takes an extension off the end of a number; it is false where letters or signs stand that are not one.
func cutExtension(text string) (number, extension string, ok bool) {
	at := strings.IndexFunc(text, func(r rune) bool {
		return r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r == ';' || r == '#' || r == ','
	})
	if at < 0 {
		return text, "", true
	}
	number, rest := strings.TrimRight(text[:at], " "), strings.ToLower(text[at:])
	if strings.HasPrefix(rest, ",") { // 'number, ext. 12'
		rest = strings.TrimLeft(rest[1:], " ")
	}
	for _, mark := range extensionMarks {
		digits, found := strings.CutPrefix(rest, mark)
		if !found {
			continue
		}
		digits = strings.Trim(digits, " ")
		if digits == "" || len(digits) > longestExtension || strings.Trim(digits, "0123456789") != "" {
			break
		}
		return number, digits, true
	}
	return "", "", false
}

// oneNumber reports whether digits and the signs between them can be one number, and are not two.
func oneNumber(text string) bool {
	if strings.Trim(text, "+0123456789 -./()") != "" || strings.LastIndexByte(text, '+') > 0 {
		return false
	}
	if !oneBracket(text) || strings.ContainsAny(text[len(text)-min(1, len(text)):], "+-/(") {
		return false
	}
	parts := strings.Split(text, "/")
	if len(parts) > 2 {
		return false
	}
	if len(parts) == 2 && (areaDigits(parts[0]) > longestAreaCode || count(parts[1]) < fewestBehindSlash) {
		return false
	}
	before, _, dash := strings.Cut(text, " - ")
	return !dash || areaDigits(before) <= longestAreaCode || count(text) <= longestWithDash
}

// oneBracket reports whether a text has no brackets, or one pair around digits.
func oneBracket(text string) bool {
	opens, closes := strings.IndexByte(text, '('), strings.IndexByte(text, ')')
	if opens < 0 && closes < 0 {
		return true
	}
	return opens >= 0 && closes > opens+1 && opens == strings.LastIndexByte(text, '(') && closes == strings.LastIndexByte(text, ')') &&
		count(text[opens:closes]) > 0
}

// count is the number of ASCII digits in a text.
func count(text string) int {
	n := 0
	for i := range len(text) {
		if text[i] >= '0' && text[i] <= '9' {
			n++
		}
	}
	return n
}

// areaDigits counts the digits of an area code; a country code before it does not count.
func areaDigits(text string) int {
	n := count(text)
	if strings.HasPrefix(text, "+") {
		n -= 2
	} else if strings.HasPrefix(text, "00") {
		n -= 4
	}
	return n
}

// wholeNational reports whether a number without a country code is whole: where a country's numbers begin with a zero
// that is not part of them (its trunk prefix), one without it is a local number without its area code, or a
// spreadsheet dropped the zero; only a mobile number is then certain.
func wholeNational(text string, number *phonenumbers.PhoneNumber, country string) bool {
	digits := strings.Map(func(r rune) rune {
		if r >= '0' && r <= '9' {
			return r
		}
		return -1
	}, text)
	if trunkPrefix(country) != "0" || strings.HasPrefix(digits, "0") {
		return true
	}
	switch phonenumbers.GetNumberType(number) {
	case phonenumbers.MOBILE, phonenumbers.FIXED_LINE_OR_MOBILE:
		return true
	}
	return false
}

// trunkPrefix is what stands before a number that is dialled within a country and is not part of it.
func trunkPrefix(region string) string { return phonenumbers.GetNddPrefixForRegion(region, true) }

// NoTelephone says why a value is not certainly one telephone number, as the end of a sentence whose subject is the value;
// blank for one that is (ReadTelephone).
func NoTelephone(value, country string) string {
	if _, ok := ReadTelephone(value, country); ok {
		return ""
	}
	text, plain := plainDigits(Clean(value))
	digits := count(text)
	switch {
	case !plain && digits == 0 || digits == 0:
		return "holds no number"
	case len(numbersIn(text)) > 1:
		return "holds two numbers"
	case !plain || strings.ContainsFunc(text, unicode.IsLetter):
		return "holds words beside the number"
	case digits > longestNumber:
		return fmt.Sprintf("has %d digits; no number has more than %d", digits, longestNumber)
	case digits < fewestOnCard:
		return "has too few digits"
	case strings.HasPrefix(text, "+") || strings.HasPrefix(text, "00"):
		return "is no number of its country"
	case country == "":
		return "has no country code, and the person has no country"
	case trunkPrefix(strings.ToUpper(country)) == "0" && !strings.HasPrefix(strings.TrimLeft(text, "("), "0"):
		return "begins without 0: its area code is missing, or a spreadsheet dropped the zero"
	}
	return "is no number of " + strings.ToUpper(country)
}

// fewestOfNumber is how many digits a part of a value has at least that may be a number of its own.
const fewestOfNumber = 6

// numbersIn cuts a value at what parts several numbers: words, commas, semicolons, slashes, line ends and signs of a country code.
func numbersIn(text string) (numbers []string) {
	parts := strings.FieldsFunc(strings.ReplaceAll(text, "+", "/+"), func(r rune) bool {
		return r == '/' || r == ',' || r == ';' || r == '|' || r == '&' || r == '\n' || unicode.IsLetter(r)
	})
	for _, part := range parts {
		if count(part) >= fewestOfNumber {
			numbers = append(numbers, part)
		}
	}
	return numbers
}
