package person

import (
	"fmt"
	"strings"
	"testing"
)

func TestHardCases(t *testing.T) {
	d := &Directory{Schema: NewSchema("mail", "cn", "title", "telephoneNumber", "c", "jpegPhoto")}
	for _, values := range [][]string{
		{"a@b.example", "Agnes", "Cook", "01632 960100", "GB", "photo"},
		{"b@b.example", "Bo", "", "", "GB", ""},
		{"c@b.example", "Cai", "Second Officer of the Night Ferry", "01632 960101", "GB", ""},
		{"d@b.example", "سلمى", "Cook", "01632 960102", "GB", ""},
		{"e@b.example", "湊 かもめ", "運航管理運航管理運航管理運航管理運航管理", "01632 960103", "GB", ""},
		{"f@b.example", "Fay", "Cook <night>", "ask inside", "GB", ""},
		{"a.rather.long.address@b.example", "Ελένη", "Cook", "01632 960104", "", ""},
		{"h@b.example", "Another Agnes of a long name", "", "+44 1632 960105", "GB", ""},
	} {
		d.People = append(d.People, Person{Values: values})
	}
	want := map[string][]string{
		"h@b.example": {"longest name, 28 columns", "longest telephone number, 15 columns",
			"widest name when drawn, about 176 px at 13 px"},
		"e@b.example": {"longest job title, 40 columns",
			"widest job title when drawn, about 260 px at 13 px", "Han letters", "Hiragana letters"},
		"a.rather.long.address@b.example": {"longest mail address, 31 columns", "Greek letters"},
		"b@b.example":                     {"largest by another measure, 7", "most blanks, 3 of 6 fields", "no photo"},
		"a@b.example":                     {"fewest blanks, 0 of 6 fields"},
		"d@b.example":                     {"Arabic letters, from right to left"},
		"f@b.example":                     {"signs of markup", "telephoneNumber that is not certainly one number"},
	}
	another := Measure{func(p *Person) int { return 9 - len(p.At(1)) },
		func(n int) string { return fmt.Sprintf("largest by another measure, %d", n) }}
	got := HardCases(d, "GB", another)
	if len(got) != len(want) {
		t.Errorf("%d hard cases, want %d", len(got), len(want))
	}
	for _, h := range got {
		mail := d.People[h.Index].Values[0]
		if strings.Join(h.Reasons, "; ") != strings.Join(want[mail], "; ") {
			t.Errorf("%s: %q, want %q", mail, h.Reasons, want[mail])
		}
	}
	if HardCases(&Directory{Schema: NewSchema("mail")}, "") != nil {
		t.Error("nobody is a hard case")
	}
}
