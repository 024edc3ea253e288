package style

import (
	"fmt"
	"strings"
	"testing"
)

// Each limit of styles is kept by what is just within, and refused with its line beyond.
func TestStyleLimits(t *testing.T) {
	sheet := func(css string) string { return "<p>x</p>\n<style>" + css + "</style>" }
	for name, c := range map[string]struct {
		source func(n int) string
		most   int
	}{
		"rules":     {func(n int) string { return sheet(strings.Repeat("b{}", n)) }, MaxSelectors},
		"selectors": {func(n int) string { return sheet(strings.Repeat("b,", n-1) + "b{}") }, MaxSelectors},
		"declarations of one rule": {func(n int) string {
			return sheet("b{" + strings.Repeat("color:red;", n-1) + "color:red}")
		}, MaxInOne},
		"declarations of one element": {func(n int) string {
			return "\n" + `<p style="` + strings.Repeat("color:red;", n-1) + `color:red">x</p>`
		}, MaxInOne},
		"brackets in a sheet":      {func(n int) string { return sheet("b{color:" + strings.Repeat("f(", n)) }, MaxBrackets},
		"brackets in an attribute": {func(n int) string { return "\n" + `<p style="color:` + strings.Repeat("f(", n) + `">x</p>` }, MaxBrackets},
		"value":                    {func(n int) string { return "\n" + `<p style="` + strings.Repeat("x", n) + `">x</p>` }, MaxValue},
	} {
		if _, err := Parse(c.source(c.most)); err != nil {
			t.Errorf("%s: %d are refused: %v", name, c.most, err)
		}
		if _, err := Parse(c.source(c.most + 1)); err == nil || !strings.HasPrefix(err.Error(), "line 2, column ") {
			t.Errorf("%s: %d: %v", name, c.most+1, err)
		}
	}
}

// What style sheets may count, and bring to elements, is bounded; a page with more is read all the same.
func TestSelectorsThatCount(t *testing.T) {
	doc, err := Parse("<style>" + strings.Repeat("b:first-child{color:red}", MaxPositional+5) +
		"div:has(b){color:blue}</style><div><b>x</b></div>")
	if err != nil {
		t.Fatal(err)
	}
	report := Inline(doc)
	if report.Inlined != MaxPositional+6 || len(report.Left) != 6 || report.Beyond {
		t.Errorf("%d inlined, %d left", report.Inlined, len(report.Left))
	}
	var sheet strings.Builder
	for i := range 150 {
		fmt.Fprintf(&sheet, "*{a%d:b}", i)
	}
	large, err := Parse("<style>" + sheet.String() + "</style>" + strings.Repeat("<div>"+strings.Repeat("<b>x</b>", 800)+"</div>", 5))
	if err != nil {
		t.Fatal(err)
	}
	if report := Inline(large); !report.Beyond {
		t.Error("more than is allowed was brought to elements")
	}
}
