package compose

import (
	"fmt"
	"os"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"

	"missivum/core/field"
	"missivum/core/markup"
	"missivum/core/person"
	"missivum/core/template"
	"missivum/demo/people"
)

// TestEveryPartForEverybody fills the template that uses every part of the language for all demo people and
// 100,000 generated ones, each variant, and looks at each signature: nothing of the language is left, nothing
// is empty, nothing dangles, and tables add up.
func TestEveryPartForEverybody(t *testing.T) {
	tmpl, d := demoParts(t, "voyage")
	usesEveryPart(t, tmpl)
	t.Run("demo", func(t *testing.T) { lookAtAll(t, tmpl, d) })
	many := 10_000
	if os.Getenv("MISSIVUM_SOAK") != "" { // make soak
		many = 100_000
	}
	t.Run("generated", func(t *testing.T) { lookAtAll(t, tmpl, people.Generate(many, 11)) })
}

// usesEveryPart makes sure that no modifier and no attribute is forgotten.
func usesEveryPart(t *testing.T, tmpl *template.Template) {
	t.Helper()
	for _, m := range field.ModifierKinds() {
		if !regexp.MustCompile(`\| *` + m.Name + `\b`).MatchString(tmpl.Source) {
			t.Errorf("the template does not use the modifier %s", m.Name)
		}
	}
	for _, a := range field.Attributes() {
		if !strings.Contains(tmpl.Source, a.Name+"=") {
			t.Errorf("the template does not use the attribute %s", a.Name)
		}
	}
	for _, part := range append(field.EntryNames()[1:], " or mobile", "org.", "text.", `rowspan="`) {
		if !strings.Contains(tmpl.Source+tmpl.Texts["template.reply.txt"], part) {
			t.Errorf("the template does not use %q", part)
		}
	}
}

func lookAtAll(t *testing.T, tmpl *template.Template, d *person.Directory) {
	s, err := Compile(Source{Template: tmpl, Schema: d.Schema, Day: day, Variants: tmpl.Variants()})
	if err != nil {
		t.Fatal(err)
	}
	var workers sync.WaitGroup
	faults := make(chan string, 100)
	count := runtime.GOMAXPROCS(0)
	for worker := range count {
		workers.Go(func() {
			f := s.NewFiller()
			var page, text []byte
			for i := worker; i < len(d.People); i += count {
				f.Set(&d.People[i])
				for _, variant := range tmpl.Variants() {
					page = s.Append(page[:0], variant, Fragment, f)
					text = s.Append(text[:0], variant, Text, f)
					fault := wrongIn(string(page))
					if fault == "" {
						fault = danglingIn(string(text))
					}
					if fault != "" {
						select {
						case faults <- fmt.Sprintf("%s %s: %s\n%s\n%s", d.Get(&d.People[i], "mail"), variant, fault, page, text):
						default: // enough is reported
						}
					}
				}
			}
		})
	}
	workers.Wait()
	close(faults)
	reported := 0
	for fault := range faults {
		if reported++; reported <= 3 {
			t.Error(fault)
		}
	}
	if reported > 3 {
		t.Errorf("and %d more", reported-3)
	}
}

// wrongIn finds what must not be left in a fragment.
func wrongIn(fragment string) string {
	for _, bad := range []string{"{{", "}}", "data-", `href=""`, `href="tel:"`} {
		if strings.Contains(fragment, bad) {
			return bad + " is left"
		}
	}
	doc, err := markup.Parse(fragment)
	if err != nil {
		return err.Error()
	}
	for _, n := range doc.Root.Elements("span", "td", "tr", "a", "p") {
		if len(n.Children) == 0 {
			return n.Name + " is empty"
		}
	}
	for _, table := range doc.Root.Elements("table") {
		if fault := unevenness(markup.TableOf(table)); fault != "" {
			return fault
		}
	}
	return ""
}

// unevenness says which row of a table has another number of columns than the first, or no cell.
func unevenness(t markup.Table) string {
	if len(t.Rows) == 0 {
		return "a table without rows"
	}
	for i, covered := range t.Covered {
		columns, own := 0, 0
		for _, c := range covered {
			columns += t.Cells[c].Cols
			if t.Cells[c].Row == i {
				own++
			}
		}
		if columns != t.Columns || own == 0 {
			return fmt.Sprintf("row %d has %d of %d columns and %d cells", i+1, columns, t.Columns, own)
		}
	}
	for _, c := range t.Cells {
		if n, _ := c.Node.Attr("rowspan"); n != "" && c.Row+c.Node.Pixels("rowspan") > len(t.Rows) {
			return "a cell goes beyond the table"
		}
	}
	return ""
}

// labels stand before a value in the demo template.
var labels = []string{"Desk", "Växel", "Bureau", "Durchwahl", "Mobile", "Mobil", "Portable", "With us since",
	"Hos oss sedan", "Chez nous depuis le", "Bei uns seit", "Mail", "Tel"}

// danglingIn finds what must not be left in a text.
func danglingIn(text string) string {
	lines := strings.Split(strings.TrimSuffix(text, "\n"), "\n")
	if lines[0] != SeparatorLine {
		return "no separator line"
	}
	for i, line := range lines[1:] {
		if line == "" && (i == 0 || lines[i] == "" || i == len(lines)-2) {
			return "a blank line too many"
		}
		trimmed := strings.Trim(line, " ,/·|")
		if trimmed == "" && line != "" || strings.HasPrefix(line, ", ") || strings.HasSuffix(line, ",") || strings.HasSuffix(line, "·") {
			return fmt.Sprintf("the line %q dangles", line)
		}
		if slices.Contains(labels, line) {
			return fmt.Sprintf("the label %q stands alone", line)
		}
	}
	return ""
}
