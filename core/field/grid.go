package field

import (
	"slices"
	"strconv"

	"missivum/core/markup"
)

// Grid is a table of which rows or cells can go, so that what stays must be fitted: cells take the room of
// missing neighbours, a cell over several rows covers only those that are there, and a row without a cell
// goes (HTML Living Standard, 4.9.12.1, on how cells make up a table).
type Grid struct {
	rows  []gridRow
	cells []gridCell
}

// gridRow is a row of a table that can lose cells.
type gridRow struct {
	needs   []int // conditions in the table of values, all of which must hold
	list    int   // repeated for each entry of this list; -1 for once
	never   bool
	cells   []int // its own
	entries []int // all that cover it, from left to right
}

// gridCell is a cell with how many columns and rows it spans.
type gridCell struct {
	needs      []int
	never      bool
	row        int
	cols, rows int // as written
}

// conditional reports whether some people may lack the cell.
func (c *gridCell) conditional() bool { return c.never || len(c.needs) > 0 }

// settledGrid is a grid for one person.
type settledGrid struct {
	count []int // how often each row is there
	cols  []int // over how many columns each cell goes; 0 when it is missing
	rows  []int
	// missing are the cells that are not there, before any takes their room
	missing []bool
}

// collapses reports whether the row goes when its cells do: all of them can.
func (g *Grid) collapses(row int) bool {
	r := &g.rows[row]
	return len(r.cells) > 0 && !slices.ContainsFunc(r.cells, func(c int) bool { return !g.cells[c].conditional() })
}

// settle works the grid out for the person set in the filler.
func (g *Grid) settle(f *Filler, s *settledGrid) {
	s.count, s.cols, s.rows, s.missing = s.count[:0], s.cols[:0], s.rows[:0], s.missing[:0]
	holds := func(needs []int) bool {
		for _, n := range needs {
			if !f.holds[n] {
				return false
			}
		}
		return true
	}
	for i := range g.cells {
		cols := 0
		if !g.cells[i].never && holds(g.cells[i].needs) {
			cols = g.cells[i].cols
		}
		s.cols = append(s.cols, cols)
	}
	for i := range g.rows {
		r := &g.rows[i]
		count := 1
		if r.list >= 0 {
			count = len(f.lists[r.list])
		}
		if r.never || !holds(r.needs) || len(r.cells) > 0 && !slices.ContainsFunc(r.cells, func(c int) bool { return s.cols[c] > 0 }) {
			count = 0
		}
		s.count = append(s.count, count)
	}
	for i := range g.cells {
		c := &g.cells[i]
		rows := 1
		for r := c.row + 1; r < c.row+c.rows; r++ {
			rows += s.count[r]
		}
		s.rows = append(s.rows, rows)
		if s.count[c.row] == 0 {
			s.cols[i] = 0
		}
		s.missing = append(s.missing, s.cols[i] == 0)
	}
	for i := range g.rows {
		if s.count[i] > 0 {
			g.close(i, s)
		}
	}
}

// close gives the room of a row's missing cells to the nearest cell before them, or else behind, that is in
// this row alone: one over several rows would be too wide for the others.
func (g *Grid) close(row int, s *settledGrid) {
	absorber, due := -1, 0
	for _, e := range g.rows[row].entries {
		c := &g.cells[e]
		switch {
		case s.missing[e] && absorber >= 0:
			s.cols[absorber] += c.cols
		case s.missing[e]:
			due += c.cols
		case c.row == row && s.rows[e] == 1:
			s.cols[e] += due
			absorber, due = e, 0
		}
	}
}

// gone reports whether a table has lost all its rows.
func (s *settledGrid) gone() bool {
	return !slices.ContainsFunc(s.count, func(n int) bool { return n > 0 })
}

// span is the attribute text for a cell over n columns or rows; one is not written.
func span(name string, n int) string {
	if n < 2 {
		return ""
	}
	return " " + name + `="` + strconv.Itoa(n) + `"`
}

// gridPlace finds a row or cell of the grids under way.
type gridPlace struct{ grid, index int }

// grids finds the tables of a document whose cells must be fitted, and numbers their rows and cells.
type grids struct {
	table map[*markup.Node]int
	row   map[*markup.Node]gridPlace
	cell  map[*markup.Node]gridPlace
}

// grid reads the table element for a variant and adds its grid to the program when parts of it can go. The
// conditions stand in the builder's table of values.
func (s *Source) grid(b *Builder, table *markup.Node, variant string, into *grids) {
	layout := markup.TableOf(table)
	g := Grid{}
	cellsVary, rowsVary, tall := false, 0, false
	for i, tr := range layout.Rows {
		r := gridRow{list: -1, entries: layout.Covered[i]}
		for n := tr; n != table; n = n.Parent {
			needs, never := s.needs(b, n, variant)
			r.needs, r.never = append(r.needs, needs...), r.never || never
		}
		if l, ok := s.list(tr); ok {
			r.list = b.addList(l)
		}
		if len(r.needs) > 0 || r.never || r.list >= 0 {
			rowsVary++
		}
		g.rows = append(g.rows, r)
	}
	for i, cell := range layout.Cells {
		c := gridCell{row: cell.Row, cols: cell.Cols, rows: cell.Rows}
		c.needs, c.never = s.needs(b, cell.Node, variant)
		cellsVary, tall = cellsVary || c.conditional(), tall || c.rows > 1
		g.cells = append(g.cells, c)
		g.rows[c.row].cells = append(g.rows[c.row].cells, i)
	}
	if !cellsVary && !(tall && rowsVary > 0) && rowsVary < max(len(g.rows), 1) {
		return // rows that go take nothing along, and one stays
	}
	at := len(b.program.Grids)
	into.table[table] = at
	for i, tr := range layout.Rows {
		into.row[tr] = gridPlace{at, i}
	}
	for i, cell := range layout.Cells {
		if len(g.rows) > 1 { // one row adds up by itself
			into.cell[cell.Node] = gridPlace{at, i}
		}
	}
	b.program.Grids = append(b.program.Grids, g)
}

// needs are the conditions under which an element is there, and whether it never is in the variant.
func (s *Source) needs(b *Builder, n *markup.Node, variant string) (needs []int, never bool) {
	conditions, _ := s.Conditions(n)
	for _, c := range conditions {
		needs = append(needs, b.program.Table.addCondition(c))
	}
	return needs, !s.In(n, variant)
}
