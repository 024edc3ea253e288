package markup

import (
	"fmt"
	"strings"
	"testing"
)

func TestTableOf(t *testing.T) {
	for _, c := range []struct{ name, html, cells, covered string }{
		{"plain", "<table><tr><td>a<td>b<tr><td>c<td>d</table>", "0,0+1x1 0,1+1x1 1,0+1x1 1,1+1x1", "[0 1] [2 3]"},
		{"spans", "<table><tr><td colspan=2>a<td rowspan=2>b<tr><td>c<td>d</table>", "0,0+2x1 0,2+1x2 1,0+1x1 1,1+1x1", "[0 1] [2 3 1]"},
		{"cell from above first", "<table><tr><td rowspan=3>a<td>b<tr><td>c<tr><td>d</table>",
			"0,0+1x3 0,1+1x1 1,1+1x1 2,1+1x1", "[0 1] [0 2] [0 3]"},
		{"beyond the end", "<table><tr><td rowspan=9>a</table>", "0,0+1x1", "[0]"},
		{"parts of a table", "<table><thead><tr><th>a</thead><tbody><tr><td>b</tbody><tfoot><tr><td>c</tfoot></table>",
			"0,0+1x1 1,0+1x1 2,0+1x1", "[0] [1] [2]"},
		{"tables inside do not count", "<table><tr><td><table><tr><td>x<td>y</table><td>b</table>", "0,0+1x1 0,1+1x1", "[0 1]"},
		{"too large a span", "<table><tr><td colspan=99999>a</table>", "0,0+1000x1", "[0]"},
		{"no rows", "<table></table>", "", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			d, err := Parse(c.html)
			if err != nil {
				t.Fatal(err)
			}
			table := TableOf(d.Root.Elements("table")[0])
			var cells, covered []string
			for _, cell := range table.Cells {
				cells = append(cells, fmt.Sprintf("%d,%d+%dx%d", cell.Row, cell.Column, cell.Cols, cell.Rows))
			}
			for _, row := range table.Covered {
				covered = append(covered, fmt.Sprint(row))
			}
			if strings.Join(cells, " ") != c.cells || strings.Join(covered, " ") != c.covered {
				t.Errorf("cells %v, covered %v", cells, covered)
			}
		})
	}
}

func TestPlainTextKnowsItsPlaces(t *testing.T) {
	d := PlainText("a\nbü<c>\n")
	if p := d.Place(5); p.Line != 2 || p.Column != 3 {
		t.Errorf("%+v", p)
	}
}
