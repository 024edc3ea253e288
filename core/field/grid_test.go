package field

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"missivum/core/markup"
)

func TestTablesAddUp(t *testing.T) {
	for _, c := range []struct{ name, html, with, without string }{
		{"cell before takes the room", `<table><tr><td>a<td data-needs=cn>b<td>c</tr><tr><td colspan=3>d</table>`,
			`<table><tr><td>a<td>b<td>c</tr><tr><td colspan="3">d</table>`, `<table><tr><td colspan="2">a<td>c</tr><tr><td colspan="3">d</table>`},
		{"cell behind takes the room",
			`<table><tr><td data-needs=cn>a</td><td data-needs=cn>b</td><td>c</td></tr><tr><td colspan="3">d</td></tr></table>`,
			`<table><tr><td>a</td><td>b</td><td>c</td></tr><tr><td colspan="3">d</td></tr></table>`,
			`<table><tr><td colspan="3">c</td></tr><tr><td colspan="3">d</td></tr></table>`},
		{"row without cells goes", `<table><tr><td>a</td></tr><tr><td data-needs=cn>b</td></tr></table>`,
			`<table><tr><td>a</td></tr><tr><td>b</td></tr></table>`, `<table><tr><td>a</td></tr></table>`},
		{"table without rows goes", `<p>x</p><table><tr data-needs=cn><td>a</td></tr></table>`,
			`<p>x</p><table><tr><td>a</td></tr></table>`, `<p>x</p>`},
		{"cell over rows that go", `<table><tr><td rowspan=3>p</td><td>a</td></tr><tr data-needs=cn><td>b</td></tr><tr><td>c</td></tr></table>`,
			`<table><tr><td rowspan="3">p</td><td>a</td></tr><tr><td>b</td></tr><tr><td>c</td></tr></table>`,
			`<table><tr><td rowspan="2">p</td><td>a</td></tr><tr><td>c</td></tr></table>`},
		{"photo over all rows goes", `<table><tr><td data-needs=cn rowspan=2>p</td><td>a</td></tr><tr><td>c</td></tr></table>`,
			`<table><tr><td rowspan="2">p</td><td>a</td></tr><tr><td>c</td></tr></table>`,
			`<table><tr><td colspan="2">a</td></tr><tr><td colspan="2">c</td></tr></table>`},
		{"other variant", `<table><tr><td data-in=reply>p</td><td>a</td></tr><tr><td colspan=2>c</td></tr></table>`,
			`<table><tr><td colspan="2">a</td></tr><tr><td colspan="2">c</td></tr></table>`,
			`<table><tr><td colspan="2">a</td></tr><tr><td colspan="2">c</td></tr></table>`},
		{"one row adds up by itself", `<table><tr><td data-needs=cn>p</td><td>a</td></tr></table>`,
			`<table><tr><td>p</td><td>a</td></tr></table>`, `<table><tr><td>a</td></tr></table>`},
		{"repeated rows beside a cell", `<table><tr><td rowspan=2>p</td><td>a</td></tr><tr data-each=cn><td>{{ entry }}</td></tr></table>`,
			`<table><tr><td rowspan="3">p</td><td>a</td></tr><tr><td>x</td></tr><tr><td>y</td></tr></table>`,
			`<table><tr><td>p</td><td>a</td></tr></table>`},
		{"table in a table", `<table><tr><td>a</td><td data-needs=cn>b</td></tr><tr><td colspan=2><table><tr><td ` +
			`data-needs=cn>c</td></tr></table></td></tr></table>`,
			`<table><tr><td>a</td><td>b</td></tr><tr><td colspan="2"><table><tr><td>c</td></tr></table></td></tr></table>`,
			`<table><tr><td colspan="2">a</td></tr><tr><td colspan="2"></td></tr></table>`},
	} {
		t.Run(c.name, func(t *testing.T) {
			if got := fill(t, c.html, "new", somebody("cn", "x\ny")); got != c.with {
				t.Errorf("with a name\ngot  %s\nwant %s", got, c.with)
			}
			if got := fill(t, c.html, "new", somebody()); got != c.without {
				t.Errorf("without\ngot  %s\nwant %s", got, c.without)
			}
		})
	}
}

// faultsOf lists what does not add up in the tables of filled markup.
func faultsOf(t *testing.T, html string) []string {
	t.Helper()
	d, err := markup.Parse(html)
	if err != nil {
		t.Fatal(err)
	}
	var faults []string
	for _, table := range d.Root.Elements("table") {
		rows := markup.TableOf(table).Rows
		if len(rows) == 0 {
			faults = append(faults, "a table without rows")
		}
		filled := make([]map[int]bool, len(rows))
		for r := range rows {
			filled[r] = map[int]bool{}
		}
		for r, tr := range rows {
			own, column := 0, 0
			for _, td := range tr.Children {
				if !td.Is("td", "th") {
					continue
				}
				own++
				for filled[r][column] {
					column++
				}
				for y := r; y < r+max(td.Pixels("rowspan"), 1); y++ {
					if y >= len(rows) {
						faults = append(faults, fmt.Sprintf("row %d: a cell goes beyond the table", r))
						break
					}
					for x := column; x < column+max(td.Pixels("colspan"), 1); x++ {
						if filled[y][x] {
							faults = append(faults, fmt.Sprintf("row %d: two cells at column %d", y, x))
						}
						filled[y][x] = true
					}
				}
			}
			if own == 0 {
				faults = append(faults, fmt.Sprintf("row %d has no cell", r))
			}
		}
		for r := range rows {
			if len(filled[r]) != len(filled[0]) {
				faults = append(faults, fmt.Sprintf("row %d has %d columns, the first %d", r, len(filled[r]), len(filled[0])))
			}
		}
	}
	return faults
}

func TestAnyTableAddsUpForAnybody(t *testing.T) {
	fields := []string{"cn", "sn", "ou", "title"}
	r := rand.New(rand.NewPCG(1, 2))
	condition := func(share int) string {
		if r.IntN(100) >= share {
			return ""
		}
		return fmt.Sprintf(` data-%s="%s"`, []string{"needs", "unless"}[r.IntN(2)], fields[r.IntN(len(fields))])
	}
	for range 400 {
		var b strings.Builder
		width, height := 2+r.IntN(4), 2+r.IntN(4)
		tall := r.IntN(2) == 0 // a first cell over all rows, as a photo has it
		b.WriteString("<table>")
		for y := range height {
			b.WriteString("<tr" + condition(30*min(y, 1)) + ">")
			if tall && y == 0 {
				fmt.Fprintf(&b, "<td rowspan=%d%s>p</td>", height, condition(50))
			}
			for x := 0; x < width; {
				cols := 1 + r.IntN(width-x)
				share := 40
				if x+cols == width {
					share = 0 // one cell of a row stays, or what is missing cannot be given to any
				}
				fmt.Fprintf(&b, "<td colspan=%d%s>c</td>", cols, condition(share))
				x += cols
			}
			b.WriteString("</tr>")
		}
		b.WriteString("</table>")
		for mask := range 1 << len(fields) {
			p := somebody()
			for i, f := range fields {
				if mask>>i&1 == 1 {
					column, _, _ := schema.Column(f)
					p.Values[column] = "x"
				}
			}
			out := fill(t, b.String(), "new", p)
			if faults := faultsOf(t, out); len(faults) > 0 {
				t.Fatalf("%v\nin    %s\nfrom  %s", faults, out, b.String())
			}
		}
	}
}
