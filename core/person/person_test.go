package person

import (
	"slices"
	"strings"
	"testing"
)

func TestClean(t *testing.T) {
	for in, want := range map[string]string{
		"Maren Lind":       "Maren Lind",
		"  a \t\r\n b  ":   "a b",
		"a\x00b\x1fc\x7f":  "a b c",
		"a\u202eb\u2066c":  "abc",
		"\ufeffa\u200bb":   "ab",
		"سلمى\u200cالبحري": "سلمى\u200cالبحري",
		"a\u00a0b":         "a\u00a0b",
		"bad\xffbyte":      "bad\ufffdbyte",
		" \u2028 ":         "",
	} {
		if got := Clean(in); got != want {
			t.Errorf("Clean(%q) = %q, want %q", in, got, want)
		}
		if IsBlank(in) != (want == "") {
			t.Errorf("IsBlank(%q) = %v", in, IsBlank(in))
		}
	}
}

func TestSchema(t *testing.T) {
	s := NewSchema("mail", "surname", "callSign", "sn")
	if !slices.Equal(s.Names(), []string{"mail", "sn", "callSign"}) {
		t.Errorf("names %q", s.Names())
	}
	for name, want := range map[string]struct {
		column int
		known  bool
	}{"SN": {1, true}, "surname": {1, true}, "mobile": {-1, true}, "callsign": {2, true}, "nonsense": {-1, false}} {
		if column, _, known := s.Column(name); column != want.column || known != want.known {
			t.Errorf("%s: %d, %v; want %d, %v", name, column, known, want.column, want.known)
		}
	}
	if column, _, known := s.Declaring("radio").Column("Radio"); column != -1 || !known {
		t.Error("a declared field is not known")
	}
	if _, _, known := s.Column("radio"); known {
		t.Error("declaring changed the schema itself")
	}
	if got := s.Nearest("telefoneNumber"); len(got) == 0 || got[0] != "telephoneNumber" {
		t.Errorf("nearest to telefoneNumber: %q", got)
	}
	if got := s.Nearest("zzzzzz"); len(got) != 0 {
		t.Errorf("nearest to zzzzzz: %q", got)
	}
}

func TestBlankCounts(t *testing.T) {
	d := &Directory{Schema: NewSchema("mail", "mobile"),
		People: []Person{{Values: []string{"a@b.example", ""}}, {Values: []string{"c@b.example", "1"}}, {Values: []string{"d@b.example", " "}}}}
	n, who := d.Blank(1, 1)
	if n != 2 || !slices.Equal(who, []string{"a@b.example"}) {
		t.Errorf("%d blank, %q", n, who)
	}
	if d.Find("C@b.Example") == nil || d.Find("x@b.example") != nil {
		t.Error("finding by mail address")
	}
}

func TestNamed(t *testing.T) {
	d := &Directory{Schema: NewSchema("mail"), People: []Person{{Values: []string{"anna@b.example"}}, {Values: []string{"bo@b.example"}}}}
	if i, err := d.Named("BO@b.example"); err != nil || i != 1 || d.Index("Anna@b.example") != 0 || d.Index("x@b.example") != -1 {
		t.Errorf("%d, %v", i, err)
	}
	if _, err := d.Named("ana@b.example"); err == nil || !strings.Contains(err.Error(), "among the 2 people; there is anna@b.example") {
		t.Error(err)
	}
	if _, err := d.Named("somebody.else@c.example"); err == nil || strings.Contains(err.Error(), "there is anna") {
		t.Error(err)
	}
}
