package cli

import (
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"missivum/core/check"
	"missivum/core/client"
	"missivum/core/person"
)

func (a *app) checkCommand() *cobra.Command {
	var flags templateFlags
	var format string
	var clients []string
	c := &cobra.Command{
		Use:   "check TEMPLATE",
		Short: "Find what will go wrong, where, and in which client",
		Long: `Checks a template, a folder or a single HTML file, for mail clients: every finding with its line,
the clients concerned and the remedy, and every limit of a client beside the figure of the worst person.

Exit status: 0 nothing breaks, 1 something breaks or a budget is burst, 2 wrong usage, 3 could not run.`,
		Example: "  missivum check demo/templates/regatta --people demo/people.csv --client wordproc-desktop",
		Args:    exactly("TEMPLATE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if format != "text" && format != "json" {
				return usage("--format %q is not known; it is text or json", format)
			}
			profiles, err := findClients(clients)
			if err != nil {
				return err
			}
			l, err := a.load(args[0], flags)
			if err != nil {
				return err
			}
			count := 0
			if l.people != nil {
				count = len(l.people.People)
			}
			bar := a.progress("people", count)
			report, err := check.Run(cmd.Context(), check.Input{Template: l.template, People: l.people, Profiles: profiles, Day: l.day, Progress: bar.done})
			bar.end()
			if err != nil {
				return err
			}
			if format == "json" {
				err = writeJSON(a.out, report)
			} else {
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
	c.Flags().StringVar(&format, "format", "text", "text or json")
	return c
}

func (a *app) printReport(l loaded, r *check.Report) {
	counts := map[client.Severity]int{}
	for _, f := range r.Findings {
		counts[f.Severity]++
	}
	for _, f := range r.Findings {
		fmt.Fprintf(a.out, "%s:%d:%d  %s  %s\n", l.source, f.Line, f.Column, a.severity(f.Severity), a.colour("1", f.Check))
		fmt.Fprintf(a.out, "    %s\n", f.Message)
		fmt.Fprintf(a.out, "    Clients: %s\n", strings.Join(f.Clients, ", "))
		fmt.Fprintf(a.out, "    Remedy:  %s\n\n", f.Remedy)
	}
	a.printBudgets(a.out, l.people, r.Budgets)
	fmt.Fprintf(a.out, "%s: %s: %d break, %d degrade, %d to note. %s.\n", l.template.Name, plural(len(r.Findings), "finding", "findings"),
		counts[client.Breaks], counts[client.Degrades], counts[client.Note], burst(r.Budgets))
}

func (a *app) severity(s client.Severity) string {
	switch s {
	case client.Breaks:
		return a.colour("31", string(s))
	case client.Degrades:
		return a.colour("33", string(s))
	}
	return string(s)
}

func burst(budgets []check.Budget) string {
	n := 0
	for _, b := range budgets {
		if b.Burst() {
			n++
		}
	}
	if n == 0 {
		return "Every budget is met"
	}
	return plural(n, "budget is burst", "budgets are burst")
}

func (a *app) printBudgets(w io.Writer, d *person.Directory, budgets []check.Budget) {
	if len(budgets) == 0 {
		return
	}
	var rows [][]string
	for _, b := range budgets {
		state := fmt.Sprintf("%d %%", percent(b.Value, b.Limit))
		if b.Burst() {
			state = "BURST"
		}
		rows = append(rows, []string{b.Client, string(b.Measure), amount(b.Value, b.Unit), amount(b.Limit, b.Unit), state, who(b, d), b.Variant})
	}
	printTable(w, []string{"Client", "Measure", "Worst", "Limit", "", "Who", "Variant"}, rows)
	fmt.Fprintln(w)
}

func percent(value, limit int) int { return (value*100 + limit - 1) / limit }

func amount(n int, unit string) string { return grouped(n) + " " + unit }

func who(b check.Budget, d *person.Directory) string {
	switch {
	case b.Person != "":
		return b.Person
	case d == nil:
		return "(field names, no directory given)"
	}
	return "(the same for everybody)"
}
