package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"strconv"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/schollz/progressbar/v3"

	"missivum/core/wire"
	"missivum/service/files"
)

// writeFile writes a file as a whole or not at all: beside it first, then renamed. An empty path or
// "-" is the standard output.
func (a *app) writeFile(path string, write func(io.Writer) error) error {
	if path == "" || path == "-" {
		return write(a.out)
	}
	if err := files.Write(path, write); err != nil {
		return fmt.Errorf("writing %s: %w", path, err)
	}
	return nil
}

// writeJSON writes a value as indented JSON.
func writeJSON(w io.Writer, v any) error {
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(wire.Whole(v))
}

// grouped writes a number with spaces between groups of three digits: 10 000.
func grouped(n int) string {
	s := strconv.Itoa(n)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "\u00a0" + s[i:]
	}
	return s
}

// plural writes a number with its noun.
func plural(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return grouped(n) + " " + many
}

// progress shows a bar on a terminal once the work has taken a second. total 0 is unknown.
type progress struct {
	w     io.Writer
	shown bool // on a terminal only
	said  bool // that it goes on, elsewhere
	total int
	what  string
	began time.Time
	bar   *progressbar.ProgressBar
}

// saidAfter is after how long work that nobody sees a bar of says in a line what it does.
const saidAfter = 3 * time.Second

// progress shows how far long work is, as a bar on a terminal only: a log file wants none.
func (a *app) progress(what string, total int) *progress {
	return &progress{w: a.err, shown: terminal(a.err), total: total, what: what, began: time.Now()}
}

// done says how many are done.
func (p *progress) done(n int) {
	if p.bar == nil {
		if !p.shown && !p.said && time.Since(p.began) > saidAfter {
			p.said = true
			fmt.Fprintf(p.w, "%s ...\n", p.what) // no terminal: one line, so that nobody wonders
		}
		if !p.shown || time.Since(p.began) < time.Second {
			return
		}
		total := int64(p.total)
		if total == 0 {
			total = -1
		}
		p.bar = progressbar.NewOptions64(total, progressbar.OptionSetWriter(p.w), progressbar.OptionSetDescription(p.what),
			progressbar.OptionShowCount(), progressbar.OptionClearOnFinish(), progressbar.OptionThrottle(100*time.Millisecond))
	}
	p.bar.Set(n)
}

// end takes the bar away.
func (p *progress) end() {
	if p.bar != nil {
		p.bar.Finish()
	}
}

// printTable writes rows below a heading in columns as wide as their widest cell; wide letters count
// two columns.
func printTable(w io.Writer, heading []string, rows [][]string) {
	t := table.NewWriter()
	t.SetOutputMirror(w)
	t.Style().Options = table.OptionsNoBordersAndSeparators
	t.Style().Box.PaddingLeft, t.Style().Box.PaddingRight = "", "  "
	t.Style().Format.Header = text.FormatUpper
	t.SuppressTrailingSpaces()
	if len(heading) > 0 {
		t.AppendHeader(cells(heading))
	}
	for _, row := range rows {
		t.AppendRow(cells(row))
	}
	t.Render()
}

// cells makes a row of a table.
func cells(row []string) table.Row {
	out := make(table.Row, len(row))
	for i, c := range row {
		out[i] = c
	}
	return out
}
