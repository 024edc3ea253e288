package markup

import "slices"

// maxSpan is the largest colspan and rowspan that is taken at its word (HTML Living Standard, 4.9.11).
const maxSpan = 1000

// Table is how the cells of a table element make up its rows and columns (HTML Living Standard, 4.9.12.1).
type Table struct {
	Rows    []*Node // tr elements, without those of tables inside
	Cells   []Cell  // in the order of the document
	Covered [][]int // for each row, the cells that cover it, from left to right
	Columns int
}

// Cell is a td or th and where it stands.
type Cell struct {
	Node        *Node
	Row, Column int
	Cols, Rows  int // a rowspan beyond the table's end goes to its end
}

// TableOf lays a table element's cells out.
func TableOf(table *Node) Table {
	t := Table{Rows: rowsOf(table)}
	above := map[int]int{} // column: the cell from an earlier row
	left := map[int]int{}  // column: how many rows it still covers
	for row, tr := range t.Rows {
		var covered []int
		column := 0
		fromAbove := func() {
			for ; left[column] > 0; column++ {
				if !slices.Contains(covered, above[column]) {
					covered = append(covered, above[column])
				}
				left[column]--
			}
		}
		for _, td := range tr.Children {
			if !td.Is("td", "th") {
				continue
			}
			fromAbove()
			c := Cell{
				Node: td, Row: row, Column: column, Cols: min(max(td.Pixels("colspan"), 1), maxSpan),
				Rows: min(max(td.Pixels("rowspan"), 1), len(t.Rows)-row),
			}
			covered = append(covered, len(t.Cells))
			for range c.Cols {
				above[column], left[column] = len(t.Cells), c.Rows-1
				column++
			}
			t.Cells = append(t.Cells, c)
		}
		fromAbove()
		t.Columns = max(t.Columns, column)
		t.Covered = append(t.Covered, covered)
	}
	return t
}

// rowsOf are the rows of a table, not those of tables in it.
func rowsOf(table *Node) []*Node {
	var rows []*Node
	for _, n := range table.Children {
		switch {
		case n.Is("tr"):
			rows = append(rows, n)
		case n.Is("tbody", "thead", "tfoot"):
			rows = append(rows, rowsOf(n)...)
		}
	}
	return rows
}
