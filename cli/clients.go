package cli

import (
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"missivum/core/client"
)

func (a *app) clientsCommand() *cobra.Command {
	var format string
	c := &cobra.Command{
		Use:     "clients",
		Short:   "List the client profiles",
		Example: "  missivum clients\n  missivum clients show wordproc-desktop",
		Args:    exactly(),
		RunE: func(*cobra.Command, []string) error {
			book, err := a.book()
			if err != nil {
				return err
			}
			if format == "json" {
				return writeJSON(a.out, book)
			}
			var rows [][]string
			for _, p := range book {
				rows = append(rows, []string{p.ID, p.Form, p.Install.Way, limits(p), share(p), p.Title})
			}
			printTable(a.out, []string{"Id", "Shows", "Installed", "Limits", "Readers", "Title"}, rows)
			return nil
		},
	}
	c.PersistentFlags().StringVar(&format, "format", "text", "text or json")
	c.AddCommand(&cobra.Command{
		Use:     "show ID",
		Short:   "Show one profile: what it keeps, changes, drops and limits",
		Example: "  missivum clients show wordproc-desktop",
		Args:    exactly("ID"),
		RunE: func(_ *cobra.Command, args []string) error {
			list, err := a.findClients(args)
			if err != nil {
				return err
			}
			if format == "json" {
				return writeJSON(a.out, list[0])
			}
			a.printProfile(list[0])
			return nil
		},
	})
	c.AddCommand(&cobra.Command{
		Use:     "schema",
		Short:   "Write the JSON Schema of profiles",
		Example: "  missivum clients schema",
		Args:    exactly(),
		RunE: func(*cobra.Command, []string) error {
			_, err := io.WriteString(a.out, client.SchemaJSON())
			return err
		},
	})
	return c
}

// share is the organisation's readers who use the client, as far as it is said.
func share(p *client.Profile) string {
	switch {
	case p.Off:
		return "off"
	case p.Share > 0:
		return fmt.Sprintf("%g %%", p.Share)
	}
	return ""
}

func limits(p *client.Profile) string {
	var list []string
	for _, l := range p.Limits {
		list = append(list, grouped(l.Max)+" "+string(l.Measure))
	}
	return strings.Join(list, ", ")
}

func (a *app) printProfile(p *client.Profile) {
	fmt.Fprintf(a.out, "%s: %s\n%s\n\n", a.colour("1", p.ID), p.Title, p.About)
	var rows [][]string
	for _, l := range p.Limits {
		rows = append(rows, []string{"limit", string(l.Measure), "at most " + amount(l.Max, l.Measure.Unit()), string(l.Severity), string(l.Basis)})
	}
	if p.Pictures != nil {
		for _, w := range p.Pictures.Ways() {
			rows = append(rows, []string{"pictures", w.Way + ": " + w.Says, w.As, "", string(w.Basis)})
		}
	}
	if d := p.Dark; d != nil {
		rows = append(rows, []string{"dark mode", d.Says, d.As, "", string(d.Basis)})
	}
	for _, b := range p.Behaviours {
		rows = append(rows, []string{string(b.Hop), b.Match.String(), string(b.Does), string(b.Severity), string(b.Basis)})
	}
	printTable(a.out, []string{"Hop", "What", "Happens", "Severity", "Basis"}, rows)
}
