package cli

import (
	"context"
	"fmt"
	"io"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/spf13/cobra"

	"missivum/core/check"
	"missivum/core/client"
	"missivum/core/person"
	"missivum/core/template"
)

// checkCommand is missivum check. It prints findings and budgets and gives exit status 1 when something breaks, so that
// a build can depend on it.
func (a *app) checkCommand() *cobra.Command {
	var flags templateFlags
	var format string
	var clients []string
	var survival bool
	c := &cobra.Command{
		Use:   "check TEMPLATE",
		Short: "Check a template for every mail client",
		Long: `Checks a template, a folder or a single HTML file, for mail clients: every finding with its line,
the clients concerned and the remedy or fix, and every limit of a client beside the figure of the worst person.
A comment in the source, <!-- accepted: check-id: reason -->, accepts the findings of its line and of the element
behind it; they are counted and listed.

Exit status: 0 nothing breaks, 1 something breaks or a limit is exceeded, 2 wrong usage, 3 could not run.`,
		Example: "  missivum check demo/templates/regatta --people demo/people.csv --client wordproc-desktop",
		Args:    exactly("TEMPLATE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if format != "text" && format != "json" && format != "sarif" {
				return usage("--format %q is not known; it is text, json or sarif", format)
			}
			if survival && format == "sarif" {
				return usage("--map is written as text or json")
			}
			l, in, err := a.loadForClients(args[0], flags, clients)
			if err != nil {
				return err
			}
			if survival {
				return a.survival(cmd.Context(), l, in, format)
			}
			count := 0
			if l.people != nil {
				count = len(l.people.People)
			}
			bar := a.progress("people", count)
			in.Progress = bar.done
			report, err := check.Run(cmd.Context(), in)
			bar.end()
			if err != nil {
				return err
			}
			switch format {
			case "json":
				err = writeJSON(a.out, report)
			case "sarif":
				err = writeSARIF(a.out, l, report)
			default:
				a.printReport(l, report)
			}
			if err == nil && report.Fails() {
				return exitError{code: ExitFindings}
			}
			return err
		},
	}
	a.templateFlags(c, &flags)
	c.Flags().StringArrayVar(&clients, "client", nil, "client profile to check for; may be given several times (default all)")
	c.Flags().StringVar(&format, "format", "text", "text, json or sarif (SARIF 2.1.0)")
	c.Flags().BoolVar(&survival, "map", false, "write the survival map: what becomes of each construct in each client")
	return c
}

// printReport writes the findings, worst first, those of one check together, each with its line of the source.
func (a *app) printReport(l loaded, r *check.Report) {
	counts := map[client.Severity]int{}
	fixes := 0
	for _, f := range r.Findings {
		counts[f.Severity]++
		if f.Fix != nil && f.Fix.Safe {
			fixes++
		}
	}
	lines := strings.Split(l.template.Source, "\n")
	for _, severity := range []client.Severity{client.Breaks, client.Degrades, client.Note} {
		for _, group := range grouping(r.Findings, severity) {
			title := "Mistake in the template language"
			if c := check.Find(group[0].Check); c != nil {
				title = c.Title
			}
			fmt.Fprintf(a.out, "%s  %s  %s\n", a.severity(severity), a.colour("1", group[0].Check), title)
			for _, f := range group {
				a.printFinding(l, lines, f, r.Verdict)
			}
			fmt.Fprintln(a.out)
		}
	}
	for _, f := range r.Accepted {
		fmt.Fprintf(a.out, "%s:%d:%d  accepted  %s: %s\n", l.source, f.Line, f.Column, f.Check, f.Accepted)
	}
	if len(r.Accepted) > 0 {
		fmt.Fprintln(a.out)
	}
	a.printBudgets(a.out, l.people, r.Budgets)
	a.printValues(r.Values)
	accepted := ""
	if len(r.Accepted) > 0 {
		accepted = fmt.Sprintf(" %d accepted.", len(r.Accepted))
	}
	fmt.Fprintf(a.out, "%s: %s: %d break, %d degrade, %d to note.%s %s.\n", l.template.Name, plural(len(r.Findings), "finding", "findings"),
		counts[client.Breaks], counts[client.Degrades], counts[client.Note], accepted, exceeded(r.Budgets))
	fmt.Fprintln(a.out, a.colour("1", r.Verdict.String()))
	fmt.Fprintln(a.out, check.SafeMeans)
	if fixes > 0 {
		fmt.Fprintf(a.out, "missivum fix --all fixes %d of them.\n", fixes)
	}
}

// printValues says where the constants and texts come from that a template names.
func (a *app) printValues(values []template.Value) {
	var rows [][]string
	for _, v := range values {
		if strings.Contains(v.Name, ".") { // language and country are the template's here
			rows = append(rows, []string{v.Name, cut(v.Value, 60), "from the " + string(v.From)})
		}
	}
	if len(rows) > 0 {
		printTable(a.out, nil, rows)
		fmt.Fprintln(a.out)
	}
}

// grouping puts the findings of a severity together by check, in the order in which the checks are met.
func grouping(findings []check.Finding, severity client.Severity) [][]check.Finding {
	var groups [][]check.Finding
	index := map[string]int{}
	for _, f := range findings {
		if f.Severity != severity {
			continue
		}
		i, ok := index[f.Check]
		if !ok {
			i = len(groups)
			index[f.Check] = i
			groups = append(groups, nil)
		}
		groups[i] = append(groups[i], f)
	}
	return groups
}

// widestLine is how many characters of a line of the source are shown.
const widestLine = 100

// printFinding writes a finding with the line of the source and a mark below the piece that it is about.
func (a *app) printFinding(l loaded, lines []string, f check.Finding, v check.Verdict) {
	who := strings.Join(f.Clients, ", ")
	if len(f.Clients) > 1 && len(f.Clients) == v.Markup {
		who = "every client that shows markup"
	}
	fmt.Fprintf(a.out, "  %s:%d:%d  %s\n", l.source, f.Line, f.Column, who)
	if f.Line <= len(lines) {
		text, under := excerpt(lines[f.Line-1], f.Column, utf8.RuneCountInString(f.Text))
		number := fmt.Sprintf("%6d", f.Line)
		fmt.Fprintf(a.out, "%s | %s\n%s | %s\n", number, text, strings.Repeat(" ", len(number)), a.colour("31", under))
	}
	fmt.Fprintf(a.out, "    %s\n", f.Message)
	if f.Fix == nil {
		fmt.Fprintf(a.out, "    Remedy: %s\n", f.Remedy)
		return
	}
	costs := ""
	if !f.Fix.Safe {
		costs = "; this costs something: " + f.Fix.Costs
	}
	fmt.Fprintf(a.out, "    Fix: %s%s.\n", f.Fix.Title, costs)
}

// excerpt shows a line around a column, with what stands below to point at length characters of it.
func excerpt(line string, column, length int) (text, under string) {
	runes := []rune(strings.ReplaceAll(strings.TrimRight(line, "\r"), "\t", " "))
	start := 0
	for start < len(runes) && runes[start] == ' ' && start < column-1 {
		start++
	}
	if column-1-start > widestLine-30 {
		start = column - 1 - 30
	}
	end := min(len(runes), start+widestLine)
	at := max(0, min(column-1-start, end-start))
	return string(runes[start:end]), strings.Repeat(" ", at) + strings.Repeat("^", max(1, min(length, end-start-at)))
}

// severity is a severity in its colour; without colours where the output is no terminal.
func (a *app) severity(s client.Severity) string {
	switch s {
	case client.Breaks:
		return a.colour("31", string(s))
	case client.Degrades:
		return a.colour("33", string(s))
	}
	return string(s)
}

// exceeded says in a sentence how many limits are exceeded.
func exceeded(budgets []check.Budget) string {
	n := 0
	for _, b := range budgets {
		if b.Exceeded() {
			n++
		}
	}
	if n == 0 {
		return "Within every limit"
	}
	return plural(n, "limit exceeded", "limits exceeded")
}

// printBudgets writes the limits as a table, the tightest first, as the core has sorted them.
func (a *app) printBudgets(w io.Writer, d *person.Directory, budgets []check.Budget) {
	if len(budgets) == 0 {
		return
	}
	var rows [][]string
	for _, b := range budgets {
		state := fmt.Sprintf("%d %%", percent(b.Value, b.Limit))
		if b.Exceeded() {
			state = "OVER"
			if d != nil && len(d.People) > 0 {
				state += " for " + grouped(b.Over)
			}
		}
		rows = append(rows, []string{b.Client, string(b.Measure), amount(b.Value, b.Unit), grouped(b.Sample),
			grouped(b.Median), amount(b.Limit, b.Unit), state, who(b, d), b.Variant})
	}
	printTable(w, []string{"Client", "Measure", "Worst", "Sample", "Median", "Limit", "", "Who", "Variant"}, rows)
	fmt.Fprintln(w)
}

// percent is a share in whole percent, rounded up: 99.2 % of a limit must not look like less than it is.
func percent(value, limit int) int { return (value*100 + limit - 1) / limit }

// amount is a number with its unit.
func amount(n int, unit string) string { return grouped(n) + " " + unit }

// who names the worst person of a budget; a limit of a host's block is the same for everybody.
func who(b check.Budget, d *person.Directory) string {
	switch {
	case b.Person != "":
		return b.Person
	case d == nil:
		return "(field names, no directory given)"
	}
	return "(the same for everybody)"
}

// survival writes the map: constructs down, clients across.
func (a *app) survival(ctx context.Context, l loaded, in check.Input, format string) error {
	m, err := check.Survival(ctx, in)
	if err != nil {
		return err
	}
	if format == "json" {
		return writeJSON(a.out, m)
	}
	heads := []string{"Line", "What"}
	for i := range m.Clients {
		heads = append(heads, string(rune('A'+i%26)))
	}
	var rows [][]string
	for _, row := range m.Rows {
		what := row.What
		if row.Count > 1 {
			what += fmt.Sprintf(" (%d times)", row.Count)
		}
		cells := []string{strconv.Itoa(row.Line), clip(what, 56)}
		for _, c := range row.Cells {
			cells = append(cells, c.State.Sign())
		}
		rows = append(rows, append(cells, fmt.Sprintf("%.0f", row.Harm)))
	}
	printTable(a.out, append(heads, "Harm"), rows)
	fmt.Fprintln(a.out)
	for i, id := range m.Clients {
		fmt.Fprintf(a.out, "  %c  %s\n", 'A'+i%26, id)
	}
	fmt.Fprintf(a.out, "\n  =  kept    ~  changed    x  dropped    !  refused    (blank: the client shows no markup)\n "+
		" Harm: 0 to 100; 100 is what breaks for all readers.\n\n%s: %s\n",
		l.template.Name, m.Verdict)
	return nil
}

// clip cuts a text to so many characters.
func clip(s string, most int) string {
	runes := []rune(s)
	if len(runes) <= most {
		return s
	}
	return string(runes[:most-3]) + "..."
}
