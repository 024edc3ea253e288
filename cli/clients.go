package cli

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"gopkg.in/yaml.v3"

	"missivum/core/client"
	"missivum/service/api"
)

// clientsCommand is missivum clients: the profiles that come with the program and those of the organisation.
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
	c.AddCommand(a.clientsPush(), a.clientsRemove())
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

// limits are a profile's limits in one cell of the table.
func limits(p *client.Profile) string {
	var list []string
	for _, l := range p.Limits {
		list = append(list, grouped(l.Max)+" "+string(l.Measure))
	}
	return strings.Join(list, ", ")
}

// widestMatch is how many characters are shown of what a behaviour matches; --format json has all of it.
const widestMatch = 72

// printProfile shows everything that a profile states, each statement with its basis.
func (a *app) printProfile(p *client.Profile) {
	fmt.Fprintf(a.out, "%s: %s\n%s\n\n", a.colour("1", p.ID), p.Title, p.About)
	var rows [][]string
	for _, l := range p.Limits {
		rows = append(rows, []string{"limit", string(l.Measure), "at most " + amount(l.Max, l.Measure.Unit()),
			string(l.Severity), string(l.Basis)})
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
		rows = append(rows, []string{string(b.Stage), clip(b.Match.String(), widestMatch), string(b.Does), string(b.Severity), string(b.Basis)})
	}
	printTable(a.out, []string{"Stage", "What", "Happens", "Severity", "Basis"}, rows)
}

// clientsPush stores profiles of the organisation in a service; a faulty one is refused with its line.
func (a *app) clientsPush() *cobra.Command {
	server := new(string)
	c := &cobra.Command{
		Use: "push FILE ...", Short: "Store client profiles of your own in a service",
		Long: `Stores profiles of your own in a service, each from a YAML or JSON file. One with the id of a shipped profile stands
over it: with based-on it overrides single entries, such as title, share (percent of your readers) and off.`,
		Example: "  missivum clients push demo/clients/wordproc-desktop.yaml",
		Args:    cobra.MinimumNArgs(1),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			for _, file := range args {
				data, err := os.ReadFile(file)
				if err != nil {
					return fmt.Errorf("the profile cannot be read: %w", err)
				}
				var head struct {
					ID string `yaml:"id"`
				}
				if err := yaml.Unmarshal(data, &head); err != nil || head.ID == "" {
					return fmt.Errorf("%s names no id", file)
				}
				var p client.Profile
				if err := r.json(ctx, http.MethodPut, "/api/v1/clients/"+url.PathEscape(head.ID)+"/document",
					api.ClientDocument{Document: string(data)}, &p); err != nil {
					return fmt.Errorf("%s: %w", file, err)
				}
				fmt.Fprintf(a.out, "%s: %s\n", p.ID, p.Title)
			}
			return nil
		}),
	}
	serverFlag(c, server)
	return c
}

// clientsRemove removes a profile of the organisation; one that others are based on is refused by the service.
func (a *app) clientsRemove() *cobra.Command {
	server := new(string)
	c := &cobra.Command{
		Use: "remove ID", Short: "Remove a client profile of your own from a service",
		Long:    "Removes a profile of your own from a service. A shipped profile that it stood over is then as it came.",
		Example: "  missivum clients remove crm-box",
		Args:    exactly("ID"),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			if err := r.json(ctx, http.MethodDelete, "/api/v1/clients/"+url.PathEscape(args[0])+"/document", nil, nil); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%s is as it came.\n", args[0])
			return nil
		}),
	}
	serverFlag(c, server)
	return c
}
