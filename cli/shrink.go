package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"missivum/core/check"
	"missivum/core/client"
	"missivum/core/shrink"
	"missivum/core/template"
)

// shrinkCommand is missivum shrink. Only template.yaml is written, and only when the steps are needed.
func (a *app) shrinkCommand() *cobra.Command {
	var flags templateFlags
	var id, format string
	var target int
	var dry bool
	c := &cobra.Command{
		Use:   "shrink TEMPLATE",
		Short: "Bring a signature below a client's limit",
		Long: `Brings the signature of the worst person below a client's limit of characters, or below --target: first with steps
that keep the look, each with what it saves; where these are not enough, it proposes changes with what they cost.
When the steps are needed, compact: true is written into template.yaml: every form that is pasted is then shorter,
and the source stays as it is.

Exit status: 0 it fits, 1 it does not, 2 wrong usage, 3 could not run.`,
		Example: "  missivum shrink demo/templates/harbour --client capped-webmail --target 2000 --people demo/people.csv --dry-run",
		Args:    exactly("TEMPLATE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if id == "" {
				return usage("shrink needs --client; there are %s", strings.Join(client.IDs(client.Shipped()), ", "))
			}
			if target < 0 {
				return usage("--target must be a number of characters")
			}
			if format != "text" && format != "json" {
				return usage("--format %q is not known; it is text or json", format)
			}
			l, in, err := a.loadForClients(args[0], flags, []string{id})
			if err != nil {
				return err
			}
			r, err := shrink.Run(cmd.Context(), in, id, target)
			if errors.Is(err, shrink.ErrNoLimit) {
				return usage("%w with --target", err)
			}
			if err != nil {
				return mistakes(l.source, err)
			}
			if format == "json" {
				if err := writeJSON(a.out, r); err != nil {
					return err
				}
			} else if err := a.printShrink(l, in, r); err != nil {
				return err
			}
			if r.Compact && !l.template.Settings.Compact && !dry {
				if err := a.writeCompact(l); err != nil {
					return err
				}
			}
			if !r.Fits {
				return exitError{code: ExitFindings}
			}
			return nil
		},
	}
	a.templateFlags(c, &flags)
	c.Flags().StringVar(&id, "client", "", "client profile whose limit counts")
	c.Flags().IntVar(&target, "target", 0, "characters to get below (default the client's limit)")
	c.Flags().BoolVar(&dry, "dry-run", false, "leave template.yaml as it is")
	c.Flags().StringVar(&format, "format", "text", "text or json")
	return c
}

// printShrink writes the steps and proposals as tables, and what takes up the space now.
func (a *app) printShrink(l loaded, in check.Input, r *shrink.Result) error {
	fmt.Fprintf(a.out, "%s in %s: %s characters for the worst person, %s; the target is %s. %s above it.\n\n", l.template.Name, r.Client,
		grouped(r.Before), whose(r.Person), grouped(r.Target), plural(r.Over, "person is", "people are"))
	var rows [][]string
	for _, s := range r.Steps {
		rows = append(rows, []string{s.Title, grouped(s.Saved), grouped(s.Left)})
	}
	printTable(a.out, []string{"Step that keeps the look", "Saves", "Left"}, rows)
	if len(r.Proposals) > 0 {
		rows = nil
		for _, p := range r.Proposals {
			rows = append(rows, []string{p.Title, grouped(p.Saved), grouped(p.Left), p.Costs})
		}
		fmt.Fprintln(a.out)
		printTable(a.out, []string{"Proposal", "Saves", "Left", "Costs"}, rows)
	}
	if l.people != nil && len(l.people.People) > 0 && r.Person != "" {
		who, err := findPerson(l.people, r.Person)
		if err != nil {
			return err
		}
		space, err := shrink.SpaceOf(in, r.Client, r.Variant, who)
		if err != nil {
			return err
		}
		fmt.Fprintf(a.out, "\nWhat takes up the space now: text %d %%, styles %d %%, addresses %d %%, structure %d %%. Largest tags:\n",
			part(space, shrink.Texts), part(space, shrink.Styles), part(space, shrink.Addresses), part(space, shrink.Structure))
		for _, e := range space.Largest(3) {
			fmt.Fprintf(a.out, "  line %d  <%s>  %s characters\n", e.Line, e.Name, grouped(e.Own))
		}
	}
	switch {
	case !r.Compact:
		fmt.Fprintln(a.out, "\nIt fits as it is.")
	case r.Fits:
		fmt.Fprintf(a.out, "\nIt fits with the steps: %s of %s characters.\n", grouped(r.After), grouped(r.Target))
	case r.Reached:
		fmt.Fprintln(a.out, "\nIt fits only with the proposals; decide on them and change the source.")
	default:
		fmt.Fprintln(a.out, "\nIt does not fit, with the proposals neither: a shorter variant is needed.")
	}
	return nil
}

// part is the share of a kind of characters, in percent.
func part(s *shrink.Space, kind string) int {
	if s.Units == 0 {
		return 0
	}
	return (100*s.Kinds[kind] + s.Units/2) / s.Units
}

// whose names a person, or everybody.
func whose(person string) string {
	if person == "" {
		return "the same for everybody"
	}
	return person
}

// writeCompact sets compact: true in the template's settings.
func (a *app) writeCompact(l loaded) error {
	if l.template.Bare {
		fmt.Fprintln(a.err, "A single file has no settings: to take the steps, put it into a template's folder with "+
			"compact: true in template.yaml.")
		return nil
	}
	settings, err := template.WithSetting(l.template.SettingsText, true, "compact")
	if err != nil {
		return err
	}
	file := filepath.Join(filepath.Dir(l.source), template.SettingsFile)
	if err := keepAndWrite(file, l.template.SettingsText, settings); err != nil {
		return err
	}
	if _, err := os.Stat(file); err != nil {
		return err
	}
	fmt.Fprintf(a.err, "%s now says compact: true.\n", file)
	return nil
}
