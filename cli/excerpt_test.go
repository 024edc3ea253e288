package cli

import (
	"strings"
	"testing"

	"missivum/core/check"
	"missivum/core/client"
	"missivum/core/sheet"
)

func TestExcerpt(t *testing.T) {
	for _, c := range []struct {
		name, line     string
		column, length int
		text, under    string
	}{
		{"the beginning of a line", "<p>x</p>", 1, 3, "<p>x</p>", "^^^"},
		{"indented", "    <p>x</p>", 5, 3, "<p>x</p>", "^^^"},
		{"in the middle", "<p>one two</p>", 8, 3, "<p>one two</p>", "       ^^^"},
		{"letters of more bytes", "<p>Häfen 港</p>", 10, 1, "<p>Häfen 港</p>", "         ^"},
		{"tabs are one sign", "\t\t<p>", 3, 3, "<p>", "^^^"},
		{"longer than the line", "<p>", 1, 400, "<p>", "^^^"},
		{"behind the end", "<p>", 9, 2, "<p>", "   ^"},
		{"nothing", "", 1, 0, "", "^"},
	} {
		text, under := excerpt(c.line, c.column, c.length)
		if text != c.text || under != c.under {
			t.Errorf("%s:\n%q\n%q\nwant\n%q\n%q", c.name, text, under, c.text, c.under)
		}
	}
	long := strings.Repeat("a", 300) + "HERE" + strings.Repeat("b", 300)
	text, under := excerpt(long, 301, 4)
	if len(text) > widestLine || text[strings.Index(under, "^"):strings.Index(under, "^")+4] != "HERE" {
		t.Errorf("%q\n%q", text, under)
	}
}

func TestGrouping(t *testing.T) {
	findings := []check.Finding{
		{Check: "a", Severity: client.Breaks, Line: 1}, {Check: "b", Severity: client.Breaks, Line: 2},
		{Check: "a", Severity: client.Note, Line: 3}, {Check: "a", Severity: client.Breaks, Line: 4},
	}
	groups := grouping(findings, client.Breaks)
	if len(groups) != 2 || len(groups[0]) != 2 || groups[0][1].Line != 4 || groups[1][0].Check != "b" {
		t.Errorf("%+v", groups)
	}
	if groups = grouping(findings, client.Degrades); len(groups) != 0 {
		t.Errorf("%+v", groups)
	}
}

func TestPlacesInSARIF(t *testing.T) {
	source := "a\nHäfen\n港x"
	for offset, want := range map[int][2]int{0: {1, 1}, 1: {1, 2}, 2: {2, 1}, 5: {2, 3}, 9: {3, 1}, 12: {3, 2}, 99: {3, 3}, -4: {1, 1}} {
		if line, column := lineAndColumn(source, offset); line != want[0] || column != want[1] {
			t.Errorf("byte %d: %d:%d, want %d:%d", offset, line, column, want[0], want[1])
		}
	}
	if r := region(source, 5, 2); *r.EndLine != 2 || *r.EndColumn != *r.StartColumn {
		t.Errorf("an end before the start: %+v", r)
	}
	for severity, want := range map[client.Severity]string{client.Breaks: "error", client.Degrades: "warning", client.Note: "note"} {
		if got := sarifLevel(severity); got != want {
			t.Errorf("%s: %s", severity, got)
		}
	}
}

func TestViewsOf(t *testing.T) {
	if list, err := viewsOf([]string{"dark", "light"}); err != nil || len(list) != 2 || list[0] != sheet.Dark {
		t.Errorf("%v, %v", list, err)
	}
	if _, err := viewsOf([]string{"light", "dusk"}); err == nil || !strings.Contains(err.Error(), "light, dark or blocked") {
		t.Error(err)
	}
	if got := clip("a survival map", 8); got != "a sur..." || clip("short", 8) != "short" {
		t.Error(got)
	}
}
