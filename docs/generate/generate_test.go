package main

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"missivum/core/field"
	"missivum/core/markup"
	"missivum/core/person"
)

const root = "../.."

func read(t *testing.T, name string) string {
	t.Helper()
	data, err := os.ReadFile(filepath.Join(root, name))
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}

func TestPagesAreCurrent(t *testing.T) {
	for name, want := range pages(root) {
		if read(t, name) != want {
			t.Errorf("%s is not what the program says; run make docs", name)
		}
	}
	reference := read(t, referencePage)
	if filled, err := withLists(reference); err != nil || filled != reference {
		t.Errorf("%s is not what the program says; run make docs (%v)", referencePage, err)
	}
}

var example = regexp.MustCompile("(?s)```html\n(.*?)```\n\n(?:With ([^\n]*):\n\n)?```\n(.*?)```")

// TestReferenceExamples fills each example of the template reference and compares it with the output
// that stands beside it. The values come from the line "With field = value, ...:" between them.
func TestReferenceExamples(t *testing.T) {
	found := example.FindAllStringSubmatch(read(t, referencePage), -1)
	if len(found) < 7 {
		t.Fatalf("%d examples found", len(found))
	}
	schema := person.NewSchema("cn", "givenName", "sn", "mail", "title", "ou", "telephoneNumber", "mobile", "c", "l", "labeledURI")
	for _, m := range found {
		p := &person.Person{Values: make([]string, schema.Len())}
		last := -1
		for _, pair := range strings.Split(m[2], "; ") {
			name, value, ok := strings.Cut(strings.ReplaceAll(pair, "`", ""), " = ")
			if !ok && last >= 0 { // a semicolon of the value itself
				p.Values[last] += "; " + strings.ReplaceAll(pair, "`", "")
			}
			if !ok {
				continue
			}
			column, _, known := schema.Column(name)
			if !known || column < 0 {
				t.Fatalf("the example gives %q", pair)
			}
			p.Values[column], last = value, column
		}
		d, err := markup.Parse(strings.TrimSpace(m[1]))
		if err != nil {
			t.Fatal(err)
		}
		table := field.NewTable(schema, "GB")
		program, err := field.CompileHTML(&field.Source{Doc: d, Schema: schema, Variants: []string{"new", "reply"}}, table, "new")
		if err != nil {
			t.Errorf("%s\n%v", m[1], err)
			continue
		}
		filler := field.NewFiller(table)
		filler.Set(p)
		if got := strings.TrimSpace(string(program.Append(nil, filler))); got != strings.TrimSpace(m[3]) {
			t.Errorf("the example\n%s\ngives\n%s\nand not\n%s", m[1], got, m[3])
		}
	}
}

var link = regexp.MustCompile(`\]\(([^)#]+)(?:#[^)]*)?\)`)

// TestLinksLeadSomewhere: every relative link of the documents, and every screenshot is linked.
func TestLinksLeadSomewhere(t *testing.T) {
	linked := map[string]bool{}
	for _, page := range []string{"README.md", "docs/template-reference.md", "docs/clients.md", "docs/checks.md",
		"docs/decisions.md", "docs/performance.md"} {
		for _, m := range link.FindAllStringSubmatch(read(t, page), -1) {
			if strings.Contains(m[1], "://") {
				continue
			}
			target := filepath.Join(root, filepath.Dir(page), m[1])
			linked[filepath.Base(target)] = true
			if _, err := os.Stat(target); err != nil {
				t.Errorf("%s links to %s, which is not there", page, m[1])
			}
		}
	}
	shots, err := filepath.Glob(filepath.Join(root, "docs/screenshots/*.png"))
	if err != nil || len(shots) == 0 || len(shots) > 19 {
		t.Errorf("%d screenshots, %v", len(shots), err)
	}
	for _, shot := range shots {
		if !linked[filepath.Base(shot)] {
			t.Errorf("%s is linked from nowhere", shot)
		}
	}
}
