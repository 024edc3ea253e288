package filename

import (
	"strings"
	"testing"
)

func TestSafe(t *testing.T) {
	for text, want := range map[string]string{
		"maren.lind@brackwater.example": "maren.lind@brackwater.example",
		`a/b\c:d*e?f"g<h>i|j`:           "a_b_c_d_e_f_g_h_i_j",
		"con":                           "_con", "CON.txt": "_CON.txt", "Com1 .x": "_Com1 .x", "com": "com", "lpt0": "_lpt0",
		"": "_", "..": "_", " a. ": "a", "a\x00b\x7fc\u0085d": "a_b_c_d", "a\u202eb": "a_b",
		"e\u0301t\u00e9": "\u00e9t\u00e9", "b\xffd": "b_d",
		strings.Repeat("\u00e9", 51): strings.Repeat("\u00e9", 50),
	} {
		if got := Safe(text); got != want || !IsSafe(got) {
			t.Errorf("Safe(%q) = %q, want %q", text, got, want)
		}
	}
}

func TestUniqueWhereCaseIsNotTold(t *testing.T) {
	var u Unique
	for i, want := range []string{"Maren", "maren_2", "MAREN_3", "bo"} {
		if got := u.Take([]string{"Maren", "maren", "MAREN", "bo"}[i]); got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
}

func FuzzSafe(f *testing.F) {
	f.Add("con. .")
	f.Add("..a")
	f.Fuzz(func(t *testing.T, text string) {
		name := Safe(text)
		if !IsSafe(name) || len(name) > Longest+1 || strings.ContainsAny(name, `/\:`) || strings.HasPrefix(name, ".") {
			t.Errorf("Safe(%q) = %q, and of that %q", text, name, Safe(name))
		}
	})
}
