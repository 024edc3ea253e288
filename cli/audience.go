package cli

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"slices"

	"github.com/spf13/cobra"
	"gopkg.in/yaml.v3"

	"missivum/core/audience"
	"missivum/service/api"
	"missivum/service/people"
)

// audienceCommand is missivum audience, which works against a service.
func (a *app) audienceCommand() *cobra.Command {
	return onlineGroup("audience", "Name groups of people by conditions", a.audienceList, a.audiencePut, a.audiencePeople, a.audienceRemove)
}

// audienceList lists the audiences.
func (a *app) audienceList(server *string) *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the audiences", Example: "  missivum audience list", Args: exactly(),
		RunE: online(server, func(ctx context.Context, r *remote, _ []string) error {
			var list []people.AudienceCount
			if err := r.json(ctx, http.MethodGet, "/api/v1/audiences", nil, &list); err != nil {
				return err
			}
			var rows [][]string
			for _, one := range list {
				used := "-"
				if len(one.UsedBy) > 0 {
					used = plural(len(one.UsedBy), "place", "places")
				}
				rows = append(rows, []string{one.Name, one.Title, grouped(one.People), used})
			}
			printTable(a.out, []string{"Audience", "Title", "People", "Used in"}, rows)
			return nil
		}),
	}
}

// audiencePut stores the audiences of a file.
func (a *app) audiencePut(server *string) *cobra.Command {
	var try bool
	c := &cobra.Command{
		Use: "put FILE", Short: "Store the audiences of a YAML file",
		Long: "Stores audiences: a list of name, title and condition. A condition asks for a field (is, oneOf, begins, contains, blank), a " +
			"group, a domain, a language, people or another audience, or joins others by all, any, none. Those that use others stand " +
			"behind them. --try says who would be in them and stores nothing.",
		Example: "  missivum audience put demo/audiences.yaml --try",
		Args:    exactly("FILE"),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			var list []audience.Audience
			if err := readYAML(args[0], &list); err != nil {
				return err
			}
			for _, one := range list {
				request := map[string]any{"title": one.Title, "condition": one.Condition}
				method, path := http.MethodPut, "/api/v1/audiences/"+url.PathEscape(one.Name)
				if try {
					method, path = http.MethodPost, "/api/v1/audiences/try"
				}
				var members api.Members
				if err := r.json(ctx, method, path+"?limit=3", request, &members); err != nil {
					return fmt.Errorf("%s: %w", one.Name, err)
				}
				fmt.Fprintf(a.out, "%s: %s\n", one.Name, plural(members.Total, "person", "people"))
				for _, m := range members.People {
					fmt.Fprintf(a.out, "  %s  %s\n", m.Mail, m.Reason)
				}
			}
			return nil
		}),
	}
	c.Flags().BoolVar(&try, "try", false, "only say who would be in them")
	return c
}

// readYAML reads a file whose members are all known.
func readYAML(file string, into any) error {
	data, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	d := yaml.NewDecoder(bytes.NewReader(data))
	d.KnownFields(true)
	if err := d.Decode(into); err != nil {
		return fmt.Errorf("%s cannot be read: %w", file, err)
	}
	return nil
}

// audiencePeople lists who is in an audience, and why.
func (a *app) audiencePeople(server *string) *cobra.Command {
	return &cobra.Command{
		Use: "people AUDIENCE", Short: "List who is in an audience, and why", Example: "  missivum audience people bridge",
		Args: exactly("AUDIENCE"),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			var rows [][]string
			for offset := 0; ; {
				var part api.Members
				path := fmt.Sprintf("/api/v1/audiences/%s/people?offset=%d&limit=1000", url.PathEscape(args[0]), offset)
				if err := r.json(ctx, http.MethodGet, path, nil, &part); err != nil {
					return err
				}
				for _, m := range part.People {
					rows = append(rows, []string{m.Mail, blankAs(m.Name), m.Reason})
				}
				if offset += len(part.People); offset >= part.Total || len(part.People) == 0 {
					printTable(a.out, []string{"Mail", "Name", "Because"}, rows)
					return nil
				}
			}
		}),
	}
}

// audienceRemove removes an audience.
func (a *app) audienceRemove(server *string) *cobra.Command {
	return &cobra.Command{
		Use: "remove AUDIENCE", Short: "Remove an audience that nothing uses", Example: "  missivum audience remove bridge",
		Args: exactly("AUDIENCE"),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			return r.json(ctx, http.MethodDelete, "/api/v1/audiences/"+url.PathEscape(args[0]), nil, nil)
		}),
	}
}

// assignCommand is missivum assign, which works against a service.
func (a *app) assignCommand() *cobra.Command {
	return onlineGroup("assign", "Say who gets which template in which situation", a.assignList, a.assignPut)
}

// assignmentsFile is who gets what, as a file.
type assignmentsFile struct {
	Situations []string              `yaml:"situations"`
	Lines      []audience.Assignment `yaml:"lines"`
}

// assignList shows who gets what.
func (a *app) assignList(server *string) *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "Show who gets what, and how many", Example: "  missivum assign list", Args: exactly(),
		RunE: online(server, func(ctx context.Context, r *remote, _ []string) error {
			var list people.AssignmentList
			if err := r.json(ctx, http.MethodGet, "/api/v1/assignments", nil, &list); err != nil {
				return err
			}
			a.printAssignments(list)
			return nil
		}),
	}
}

// assignPut stores who gets what.
func (a *app) assignPut(server *string) *cobra.Command {
	var try bool
	c := &cobra.Command{
		Use: "put FILE", Short: "Store who gets what, from a YAML file",
		Long: "Stores the assignments: lines with audience, situation, template, variant. The first line that fits decides; the last must " +
			"be for everybody in every situation. A line without a template gives no signature. situations are your own beside new, reply, " +
			"internal, external. --try says how many would get what and stores nothing.",
		Example: "  missivum assign put demo/assignments.yaml --try",
		Args:    exactly("FILE"),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			var f assignmentsFile
			if err := readYAML(args[0], &f); err != nil {
				return err
			}
			if f.Situations == nil {
				f.Situations = []string{}
			}
			var list people.AssignmentList
			path := fmt.Sprintf("/api/v1/assignments?try=%t", try)
			if err := r.json(ctx, http.MethodPut, path, map[string]any{"lines": f.Lines, "situations": f.Situations}, &list); err != nil {
				return err
			}
			a.printAssignments(list)
			return nil
		}),
	}
	c.Flags().BoolVar(&try, "try", false, "only say how many would get what")
	return c
}

// printAssignments writes who gets what, with the number of people for each situation.
func (a *app) printAssignments(list people.AssignmentList) {
	if len(list.Lines) == 0 {
		fmt.Fprintln(a.out, "There are no assignments: templates are checked for everybody.")
		return
	}
	head := append([]string{"Line", "Audience", "Situation", "Template", "Variant"}, list.Situations...)
	var rows [][]string
	for i, line := range list.Lines {
		name, situation, template := line.Audience, line.Situation, line.Template
		if name == "" {
			name = "everybody"
		}
		if situation == "" {
			situation = "every one"
		}
		if template == "" {
			template = "no signature"
		}
		row := []string{fmt.Sprint(i + 1), name, situation, template, blankAs(line.Variant)}
		for s, n := range line.People {
			cell := grouped(n)
			if line.Situation != "" && line.Situation != list.Situations[s] {
				cell = "."
			}
			row = append(row, cell)
		}
		rows = append(rows, row)
	}
	printTable(a.out, head, rows)
	for i, line := range list.Lines {
		switch {
		case line.Covered > 0:
			fmt.Fprintf(a.out, "line %d can never decide: line %d comes before it and is for the same people or more\n", i+1, line.Covered)
		case !slices.ContainsFunc(line.People, func(n int) bool { return n > 0 }) && list.People > 0:
			fmt.Fprintf(a.out, "line %d decides for nobody at present\n", i+1)
		}
	}
	for s, n := range list.Nothing {
		if n > 0 {
			fmt.Fprintf(a.out, "%s of %s get no signature in the situation %s\n", grouped(n),
				plural(list.People, "person", "people"), list.Situations[s])
		}
	}
}
