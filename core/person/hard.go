package person

import (
	"fmt"
	"slices"
	"strings"
	"unicode"

	"github.com/rivo/uniseg"
	"golang.org/x/text/unicode/bidi"
)

// HardCase is a person who strains a template, and why.
type HardCase struct {
	Index   int // in Directory.People
	Reasons []string
}

// measured are the fields of which the longest value strains a layout, with what to call them.
var measured = []struct{ field, title string }{
	{"cn", "name"}, {"title", "job title"}, {"ou", "department"}, {"mail", "mail address"}, {"street", "street"},
	{"telephoneNumber", "telephone number"},
}

// Measure is a figure that makes a person a hard case: the one with the largest.
type Measure struct {
	Of   func(*Person) int
	Says func(n int) string
}

// HardCases picks from a directory the people who strain a template most: the longest of each field by
// its width in columns, most and fewest blanks, writing from right to left, each script beside Latin,
// signs of markup, numbers that cannot be read as telephone numbers, no photo where others have one,
// and the largest by further measures, such as how large a template becomes. A person who is hard in
// several ways stands once. country (two letters) is for people whose own is blank.
func HardCases(d *Directory, country string, further ...Measure) []HardCase {
	h := hardCases{d: d, at: map[int]int{}}
	if len(d.People) == 0 {
		return nil
	}
	for _, m := range measured {
		column, _, _ := d.Schema.Column(m.field)
		h.most(func(p *Person) int { return uniseg.StringWidth(Clean(p.At(column))) }, func(n int) string {
			return fmt.Sprintf("longest %s, %d columns", m.title, n)
		})
	}
	for _, m := range measured[:2] {
		column, _, _ := d.Schema.Column(m.field)
		h.most(func(p *Person) int { return drawnWidth(Clean(p.At(column))) }, func(n int) string {
			return fmt.Sprintf("widest %s when drawn, about %d px at %d px", m.title, n, drawnAt)
		})
	}
	for _, m := range further {
		h.most(m.Of, m.Says)
	}
	fields := d.Schema.Len()
	h.most(func(p *Person) int { return blanks(p) }, func(n int) string { return fmt.Sprintf("most blanks, %d of %d fields", n, fields) })
	h.most(func(p *Person) int { return fields - blanks(p) },
		func(n int) string { return fmt.Sprintf("fewest blanks, %d of %d fields", fields-n, fields) })
	h.names()
	h.numbers(country)
	h.photo()
	return h.list
}

// hardCases collects people with the reasons why they are hard.
type hardCases struct {
	d    *Directory
	list []HardCase
	at   map[int]int // place in list by index of the person
}

// add gives a person one more reason.
func (h *hardCases) add(index int, reason string) {
	if at, ok := h.at[index]; ok {
		h.list[at].Reasons = append(h.list[at].Reasons, reason)
		return
	}
	h.at[index] = len(h.list)
	h.list = append(h.list, HardCase{index, []string{reason}})
}

// most adds the first person with the largest measure above zero.
func (h *hardCases) most(measure func(*Person) int, reason func(int) string) {
	best, index := 0, -1
	for i := range h.d.People {
		if n := measure(&h.d.People[i]); n > best {
			best, index = n, i
		}
	}
	if index >= 0 {
		h.add(index, reason(best))
	}
}

// blanks is how many fields a person lacks.
func blanks(p *Person) int {
	n := 0
	for _, v := range p.Values {
		if IsBlank(v) {
			n++
		}
	}
	return n
}

// names adds the first person whose name is written in each script beside Latin, from right to left, and
// with signs of markup in any value.
func (h *hardCases) names() {
	column, _, _ := h.d.Schema.Column("cn")
	seen := map[string]bool{}
	for i := range h.d.People {
		p := &h.d.People[i]
		for _, script := range scripts(p.At(column)) {
			if !seen[script] {
				seen[script] = true
				reason := script + " letters"
				if rightToLeft(p.At(column)) {
					reason += ", from right to left"
				}
				h.add(i, reason)
			}
		}
		if !seen["&"] && strings.ContainsAny(strings.Join(p.Values, ""), `<>"`) {
			seen["&"] = true
			h.add(i, "signs of markup")
		}
	}
}

// photo adds the first person without a photo, where somebody has one.
func (h *hardCases) photo() {
	column, _, _ := h.d.Schema.Column("jpegPhoto")
	without, has := -1, false
	for i := range h.d.People {
		blank := IsBlank(h.d.People[i].At(column))
		has = has || !blank
		if blank && without < 0 {
			without = i
		}
	}
	if has && without >= 0 {
		h.add(without, "no photo")
	}
}

// numbers adds the first person whose telephone number cannot be understood.
func (h *hardCases) numbers(standard string) {
	country, _, _ := h.d.Schema.Column("c")
	for _, field := range []string{"telephoneNumber", "mobile"} {
		column, _, _ := h.d.Schema.Column(field)
		for i := range h.d.People {
			p := &h.d.People[i]
			region := strings.ToUpper(Clean(p.At(country)))
			if region == "" {
				region = standard
			}
			value := Clean(p.At(column))
			if value == "" {
				continue
			}
			if _, ok := ReadTelephone(value, region); !ok {
				h.add(i, field+" that is not certainly one number")
				break
			}
		}
	}
}

// scripts names the scripts of a text's letters but for Latin (Unicode Standard Annex 24), in the order
// of the text.
func scripts(s string) []string {
	var found []string
	for _, r := range s {
		if r < 0x250 || !unicode.IsLetter(r) || unicode.Is(unicode.Latin, r) || unicode.Is(unicode.Common, r) {
			continue
		}
		for _, name := range scriptNames {
			if unicode.Is(unicode.Scripts[name], r) && !slices.Contains(found, name) {
				found = append(found, name)
			}
		}
	}
	return found
}

var scriptNames = []string{
	"Greek", "Cyrillic", "Armenian", "Georgian", "Hebrew", "Arabic", "Syriac", "Thaana", "Devanagari", "Bengali", "Gurmukhi",
	"Gujarati", "Oriya",
	"Tamil", "Telugu", "Kannada", "Malayalam", "Sinhala", "Thai", "Lao", "Khmer", "Myanmar", "Tibetan", "Mongolian", "Ethiopic", "Cherokee",
	"Hangul", "Hiragana", "Katakana", "Han",
}

// rightToLeft reports whether a text has letters that run from right to left.
func rightToLeft(s string) bool {
	for _, r := range s {
		p, _ := bidi.LookupRune(r)
		if c := p.Class(); c == bidi.R || c == bidi.AL {
			return true
		}
	}
	return false
}
