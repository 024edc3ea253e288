package compose

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"missivum/core/person"
	"missivum/demo"
)

var update = flag.Bool("update", false, "write the golden files anew")

// TestTextOfTheHardCases holds the text form of every demo template and variant for the hard cases of the demo
// directory against files that were read.
func TestTextOfTheHardCases(t *testing.T) {
	d, err := demo.Directory()
	if err != nil {
		t.Fatal(err)
	}
	templates, err := demo.Templates()
	if err != nil {
		t.Fatal(err)
	}
	cases := person.HardCases(d, "GB")
	if len(cases) < 10 {
		t.Fatalf("%d hard cases", len(cases))
	}
	for _, tmpl := range templates {
		s, err := Compile(Source{Template: tmpl, Schema: d.Schema, Day: day, Variants: tmpl.Variants()})
		if err != nil {
			t.Fatal(err)
		}
		var b strings.Builder
		for _, c := range cases {
			p := &d.People[c.Index]
			for _, variant := range tmpl.Variants() {
				text := s.Fill(variant, Text, p)
				fmt.Fprintf(&b, "=== %s, %s (%s)\n%s\n", d.Get(p, "mail"), variant, strings.Join(c.Reasons, "; "), text)
				if widest := LongestLine(text); widest > 78 {
					t.Errorf("%s, %s, %s: a line of %d columns", tmpl.Name, d.Get(p, "mail"), variant, widest)
				}
			}
		}
		file := filepath.Join("testdata", "text", tmpl.Name+".txt")
		if *update {
			if err := os.WriteFile(file, []byte(b.String()), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		golden, err := os.ReadFile(file)
		if err != nil {
			t.Fatalf("%v; go test -update writes it", err)
		}
		if string(golden) != b.String() {
			t.Errorf("%s is not what is filled now:\n%s", file, firstDifference(string(golden), b.String()))
		}
	}
}

// firstDifference shows the first line that two texts do not share.
func firstDifference(a, b string) string {
	left, right := strings.Split(a, "\n"), strings.Split(b, "\n")
	for i := range min(len(left), len(right)) {
		if left[i] != right[i] {
			return fmt.Sprintf("line %d\n- %s\n+ %s", i+1, left[i], right[i])
		}
	}
	return fmt.Sprintf("%d and %d lines", len(left), len(right))
}
