package cli

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"missivum/service/api"
)

// runCommand is missivum run, which works against a service.
func (a *app) runCommand() *cobra.Command {
	return onlineGroup("run", "Look at what imports and synchronisations change, carry plans out, take them back",
		a.runList, a.runShow, a.runApply, a.runDrop, a.runUndo)
}

// runList lists the newest runs.
func (a *app) runList(server *string) *cobra.Command {
	var name string
	c := &cobra.Command{
		Use: "list", Short: "List the newest runs", Example: "  missivum run list", Args: exactly(),
		RunE: online(server, func(ctx context.Context, r *remote, _ []string) error {
			var list []api.Run
			if err := r.json(ctx, http.MethodGet, "/api/v1/runs?source="+url.QueryEscape(name), nil, &list); err != nil {
				return err
			}
			var rows [][]string
			for _, run := range list {
				rows = append(rows, []string{fmt.Sprint(run.ID), day(run.Planned), run.Source, run.Kind, string(run.State),
					fmt.Sprint(run.New), fmt.Sprint(run.Joined),
					fmt.Sprint(run.Changed), fmt.Sprint(run.Gone), fmt.Sprint(run.Back), fmt.Sprint(run.Skipped), run.By})
			}
			printTable(a.out, []string{"Run", "Planned", "Source", "Kind", "State", "New", "Joined", "Changed", "Gone",
				"Back", "Skipped", "By"}, rows)
			return nil
		}),
	}
	c.Flags().StringVar(&name, "source", "", "only runs of this source")
	return c
}

// runShow shows what a run changes, or writes it as CSV.
func (a *app) runShow(server *string) *cobra.Command {
	var search, kind, output string
	c := &cobra.Command{
		Use: "show RUN", Short: "Show what a run changes, person by person", Example: "  missivum run show 1 --search lind", Args: exactly("RUN"),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			path := "/api/v1/runs/" + url.PathEscape(args[0])
			query := "search=" + url.QueryEscape(search) + "&kind=" + url.QueryEscape(kind)
			if output != "" {
				answer, err := r.get(ctx, path+"/changes?"+query, "text/csv")
				if err != nil {
					return err
				}
				defer answer.Body.Close()
				return a.writeFile(output, func(w io.Writer) error { _, err := io.Copy(w, answer.Body); return err })
			}
			var run api.Run
			if err := r.json(ctx, http.MethodGet, path, nil, &run); err != nil {
				return err
			}
			for offset := 0; ; {
				var part api.RunChanges
				if err := r.json(ctx, http.MethodGet, fmt.Sprintf("%s/changes?%s&offset=%d&limit=1000", path, query, offset), nil, &part); err != nil {
					return err
				}
				a.printChanges(part.Changes)
				if offset += len(part.Changes); offset >= part.Total || len(part.Changes) == 0 {
					break
				}
			}
			for _, skip := range run.Skips {
				fmt.Fprintf(a.out, "skipped  %v\n", skip)
			}
			a.printRun(run)
			return nil
		}),
	}
	c.Flags().StringVar(&search, "search", "", "only people in whose values this stands")
	c.Flags().StringVar(&kind, "kind", "", "only changes of this kind: new, joined, changed, gone, back")
	c.Flags().StringVarP(&output, "output", "o", "", "write all of it as CSV to this file")
	return c
}

// runApply carries a plan out.
func (a *app) runApply(server *string) *cobra.Command {
	var confirm bool
	c := a.runStep(server, "apply RUN", "Carry a plan out", func() string { return fmt.Sprintf("apply?confirm=%t", confirm) })
	c.Flags().BoolVar(&confirm, "confirm", false, "also when it is held")
	return c
}

// runDrop ends a plan that is not wanted.
func (a *app) runDrop(server *string) *cobra.Command {
	return a.runStep(server, "drop RUN", "End a plan that is not wanted", func() string { return "drop" })
}

// runUndo takes a run back.
func (a *app) runUndo(server *string) *cobra.Command {
	return a.runStep(server, "undo RUN", "Take a run back: everything that it changed is again as it was before",
		func() string { return "undo" })
}

// runStep is a command that does something with a run.
func (a *app) runStep(server *string, use, short string, step func() string) *cobra.Command {
	name, _, _ := strings.Cut(use, " ")
	return &cobra.Command{
		Use: use, Short: short, Example: "  missivum run " + name + " 3", Args: exactly("RUN"),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			var run api.Run
			if err := r.json(ctx, http.MethodPost, "/api/v1/runs/"+url.PathEscape(args[0])+"/"+step(), nil, &run); err != nil {
				return err
			}
			a.printRun(run)
			return nil
		}),
	}
}

// printChanges lists changes, one person on a line.
func (a *app) printChanges(changes []api.RunChange) {
	for _, c := range changes {
		var parts []string
		for _, f := range c.Fields {
			if f.Before == "" {
				parts = append(parts, fmt.Sprintf("%s %q", f.Field, f.After))
			} else {
				parts = append(parts, fmt.Sprintf("%s %q -> %q", f.Field, f.Before, f.After))
			}
		}
		fmt.Fprintf(a.out, "%s  %s  %s\n", c.Kind, c.Mail, strings.Join(parts, ", "))
	}
}

// printRun says in a line what a run does, and what it waits for.
func (a *app) printRun(run api.Run) {
	for _, note := range run.Notes {
		fmt.Fprintln(a.out, note)
	}
	verb := ""
	if run.State == "planned" || run.State == "held" {
		verb = "would be "
	}
	fmt.Fprintf(a.out, "%s: %s%d new, %d joined, %d changed, %d gone, %d back, %d unchanged, %d skipped\n",
		plural(run.Read, "person", "people"), verb, run.New, run.Joined, run.Changed, run.Gone, run.Back, run.Unchanged, run.Skipped)
	switch run.State {
	case "planned":
		if run.Changes() == 0 {
			fmt.Fprintln(a.out, "nothing changes")
			return
		}
		fmt.Fprintf(a.out, "run %d is planned; carry it out with: missivum run apply %d\n", run.ID, run.ID)
	case "held":
		for _, why := range run.Holds {
			fmt.Fprintf(a.out, "held: %s\n", why)
		}
		fmt.Fprintf(a.out, "run %d is held; carry it out with: missivum run apply %d --confirm\n", run.ID, run.ID)
	case "applied":
		if run.Undoes > 0 {
			fmt.Fprintf(a.out, "run %d takes run %d back\n", run.ID, run.Undoes)
			return
		}
		fmt.Fprintf(a.out, "run %d is applied; take it back with: missivum run undo %d\n", run.ID, run.ID)
	default:
		fmt.Fprintf(a.out, "run %d is %s\n", run.ID, run.State)
	}
}
