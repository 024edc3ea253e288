// Package charset reads text files whatever character set they were written in, and says how it knows. Start with Read.
package charset

import (
	"bytes"
	"fmt"
	"regexp"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/htmlindex"
	uni "golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"

	"missivum/core/problem"
)

// Basis is how a character set is known.
type Basis string

// The bases.
const (
	Mark     Basis = "mark"     // a byte order mark
	Shape    Basis = "shape"    // the bytes can be nothing else: UTF-8, or UTF-16 of mostly ASCII letters
	Declared Basis = "declared" // the file says so
	Guessed  Basis = "guessed"  // from its letters; may be wrong
)

// Text is a file's text and what it was written in.
type Text struct {
	Text    string
	Charset string // a name of the WHATWG Encoding Standard, in small letters
	Basis   Basis
}

// Note says what a reader of the file should know about its character set; empty where there is nothing to say.
func (t Text) Note() string {
	switch {
	case t.Charset == "utf-8":
		return ""
	case t.Basis == Guessed:
		return fmt.Sprintf("It says nothing of its character set; by its letters it was read as %s. Check the letters beyond a to z, "+
			"or save it as UTF-8.", t.Charset)
	case t.Basis == Declared:
		return fmt.Sprintf("It was read as %s, as it declares.", t.Charset)
	}
	return fmt.Sprintf("It was read as %s.", t.Charset)
}

// Read gives a file's text. Its character set is what a byte order mark says; or else UTF-8 where it is that (a file
// that is UTF-8 and declares something else is UTF-8); or else what is declared; or else a guess among the windows
// and ISO 8859 sets. declared may be empty. A file in no text that is known is a problem.Error.
func Read(data []byte, declared string) (Text, error) {
	switch {
	case bytes.HasPrefix(data, []byte("\xef\xbb\xbf")) && utf8.Valid(data):
		return Text{string(data[3:]), "utf-8", Mark}, nil
	case bytes.HasPrefix(data, []byte("\xff\xfe")):
		return decode(data[2:], uni.UTF16(uni.LittleEndian, uni.IgnoreBOM), "utf-16le", Mark)
	case bytes.HasPrefix(data, []byte("\xfe\xff")):
		return decode(data[2:], uni.UTF16(uni.BigEndian, uni.IgnoreBOM), "utf-16be", Mark)
	}
	if little, ok := wide(data); ok {
		if little {
			return decode(data, uni.UTF16(uni.LittleEndian, uni.IgnoreBOM), "utf-16le", Shape)
		}
		return decode(data, uni.UTF16(uni.BigEndian, uni.IgnoreBOM), "utf-16be", Shape)
	}
	set, name := byName(declared)
	if utf8.Valid(data) && !sevenBit(name) {
		return Text{string(data), "utf-8", Shape}, nil
	}
	if set != nil && name != "utf-8" && !strings.HasPrefix(name, "utf-16") {
		return decode(data, set, name, Declared)
	}
	set, name = guess(data)
	return decode(data, set, name, Guessed)
}

// sevenBit reports character sets that write all letters in ASCII bytes, so that they look like UTF-8.
func sevenBit(name string) bool { return strings.HasPrefix(name, "iso-2022") }

// byName finds a character set by one of its names; nil for none.
func byName(label string) (encoding.Encoding, string) {
	set, err := htmlindex.Get(strings.TrimSpace(label))
	if err != nil {
		return nil, ""
	}
	name, _ := htmlindex.Name(set)
	return set, name
}

func decode(data []byte, set encoding.Encoding, name string, basis Basis) (Text, error) {
	text, err := set.NewDecoder().Bytes(data)
	if err != nil {
		return Text{}, problem.New(problem.Refused, "it is not written in %s: %v", name, err)
	}
	return Text{strings.TrimPrefix(string(text), "\ufeff"), name, basis}, nil
}

// wide recognises UTF-16 without a mark: every other byte of nearly all pairs is zero.
func wide(data []byte) (little, ok bool) {
	head := data[:min(len(data), 4<<10)&^1]
	if len(head) < 4 {
		return false, false
	}
	even, odd := 0, 0
	for i := 0; i < len(head); i += 2 {
		if head[i] == 0 {
			even++
		}
		if head[i+1] == 0 {
			odd++
		}
	}
	pairs := len(head) / 2
	switch {
	case odd*10 > pairs*7 && even*10 < pairs:
		return true, true
	case even*10 > pairs*7 && odd*10 < pairs:
		return false, true
	}
	return false, false
}

var declaration = regexp.MustCompile(`(?i)<meta[^>]{1,200}charset\s*=\s*["']?\s*([a-z0-9_.:-]{1,40})`)

// Decoder is Read for a file that is read piece by piece, by its first bytes: what makes UTF-8 of it, the character
// set's name, and what should be said of it. The set utf-8 needs no decoding.
func Decoder(head []byte) (decoder transform.Transformer, name, note string) {
	text, err := Read(head, "")
	if err != nil {
		return transform.Nop, "utf-8", ""
	}
	set, _ := byName(text.Charset)
	switch text.Charset {
	case "utf-8":
		return transform.Nop, "utf-8", ""
	case "utf-16le":
		set = uni.UTF16(uni.LittleEndian, uni.UseBOM)
		if text.Basis == Shape {
			set = uni.UTF16(uni.LittleEndian, uni.IgnoreBOM)
		}
	case "utf-16be":
		set = uni.UTF16(uni.BigEndian, uni.UseBOM)
		if text.Basis == Shape {
			set = uni.UTF16(uni.BigEndian, uni.IgnoreBOM)
		}
	}
	return set.NewDecoder(), text.Charset, text.Note()
}

// OfPage is the character set that a page declares in a meta element (HTML Living Standard, 13.2.3.2), and beyond its
// first 1,024 bytes too; empty for none.
func OfPage(data []byte) string {
	m := declaration.FindSubmatch(data[:min(len(data), 16<<10)])
	if m == nil {
		return ""
	}
	return string(m[1])
}

// ReadPage is Read for a page with its own declaration.
func ReadPage(data []byte) (Text, error) { return Read(data, OfPage(data)) }

// candidates are the sets that a guess is made among, the likeliest first, with letters that are common in the
// languages written in them.
var candidates = []struct {
	set    *charmap.Charmap
	name   string
	common string
}{
	{charmap.Windows1252, "windows-1252", "äöüßÄÖÜéèêëàâçñáíóúìòùåæøÅÆØïîôûãõÉÀÇœÁÍÓÚÑÈÊÂÎ"},
	{charmap.Windows1250, "windows-1250", "ąćęłńóśźżĄĆĘŁŃŚŹŻáčďéěíňřšťúůýžÁČŘŠŽőűŐŰăâîșțşţđľĺôäöüß"},
	{charmap.Windows1251, "windows-1251", "абвгдежзийклмнопрстуфхцчшщъыьэюяієїґАБВГДЕЖЗИКЛМНОПРСТУФХЦЧШЭЮЯІЄЇ"},
	{charmap.Windows1253, "windows-1253", "αβγδεζηθικλμνξοπρσςτυφχψωάέήίόύώΑΒΓΔΕΖΗΘΙΚΛΜΝΞΟΠΡΣΤΥΦΧΨΩ"},
	{charmap.Windows1254, "windows-1254", "ğşıİĞŞçöüÇÖÜâî"},
	{charmap.Windows1257, "windows-1257", "āčēģīķļņšūžĀČĒĢĪĶĻŅŠŪŽąęėįųĄĘĖĮŲõäöü"},
	{charmap.ISO8859_2, "iso-8859-2", "ąćęłńóśźżĄĆĘŁŃŚŹŻáčďéěíňřšťúůýžÁČŘŠŽőűŐŰ"},
	{charmap.ISO8859_5, "iso-8859-5", "абвгдежзийклмнопрстуфхцчшщъыьэюяАБВГДЕЖЗИКЛМНОПРСТУФХЦЧШЭЮЯ"},
	{charmap.KOI8R, "koi8-r", "абвгдежзийклмнопрстуфхцчшщъыьэюя"},
}

// guessed is how many bytes a guess looks at.
const guessed = 64 << 10

// guess takes the set in which the letters beyond ASCII make the likeliest words. In doubt it is the first.
func guess(data []byte) (encoding.Encoding, string) {
	data = data[:min(len(data), guessed)]
	best, at := 0, -1
	for i, c := range candidates {
		if score := likelihood(data, c.set, c.common); at < 0 || score > best {
			best, at = score, i
		}
	}
	return candidates[at].set, candidates[at].name
}

// likelihood rates a set for a text: common letters count for it; signs in the middle of words, capitals behind small
// letters, scripts mixed in a word and bytes that stand for nothing count against it.
func likelihood(data []byte, set *charmap.Charmap, common string) int {
	score := 0
	var before rune
	for i, b := range data {
		r := set.DecodeByte(b)
		if b >= 0x80 {
			var behind rune
			if i+1 < len(data) {
				behind = set.DecodeByte(data[i+1])
			}
			score += plausible(before, r, behind, common)
		}
		before = r
	}
	return score
}

// plausible rates one letter between its neighbours.
func plausible(before, r, behind rune, common string) int {
	switch {
	case r == utf8.RuneError || unicode.IsControl(r):
		return -10
	case !unicode.IsLetter(r):
		if unicode.IsLetter(before) && unicode.IsLetter(behind) && !strings.ContainsRune("’‘'·-–—", r) {
			return -5
		}
		return 0
	}
	score := 0
	if strings.ContainsRune(common, r) {
		score += 2
	} else {
		score--
	}
	if unicode.IsUpper(r) && unicode.IsLower(before) {
		score -= 3
	}
	for _, beside := range []rune{before, behind} {
		if unicode.IsLetter(beside) && script(beside) != script(r) {
			score -= 3
		}
	}
	return score
}

// script tells the scripts apart that the candidates write.
func script(r rune) int {
	switch {
	case unicode.Is(unicode.Cyrillic, r):
		return 1
	case unicode.Is(unicode.Greek, r):
		return 2
	}
	return 0
}
