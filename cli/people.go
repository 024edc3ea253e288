package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"missivum/service/api"
	"missivum/service/people"
)

// peopleCommand is missivum people, which works against a service.
func (a *app) peopleCommand() *cobra.Command {
	return onlineGroup("people", "List and import the people of a service", a.peopleList, a.peopleImport)
}

// peopleList lists people page by page, as the service searches them.
func (a *app) peopleList(server *string) *cobra.Command {
	var search string
	c := &cobra.Command{
		Use: "list", Short: "List people", Example: "  missivum people list --search saltmouth", Args: exactly(),
		RunE: online(server, func(ctx context.Context, r *remote, _ []string) error {
			var rows [][]string
			for offset := 0; ; {
				var page api.PeoplePage
				path := fmt.Sprintf("/api/v1/people?search=%s&offset=%d&limit=1000", url.QueryEscape(search), offset)
				if err := r.json(ctx, http.MethodGet, path, nil, &page); err != nil {
					return err
				}
				for _, p := range page.People {
					rows = append(rows, columnsOf(page.Fields, p, "mail", "cn", "title", "telephoneNumber", "mobile", "l"))
				}
				offset += len(page.People)
				if offset >= page.Total || len(page.People) == 0 {
					printTable(a.out, []string{"Mail", "Name", "Title", "Telephone", "Mobile", "Place"}, rows)
					fmt.Fprintf(a.err, "%s of %s\n", grouped(page.Total), plural(page.All, "person", "people"))
					return nil
				}
			}
		}),
	}
	c.Flags().StringVar(&search, "search", "", "only people in whose values this stands")
	return c
}

// columnsOf picks fields of a person; a blank one shows as a dash.
func columnsOf(fields []api.FieldInfo, p api.PersonSnapshot, names ...string) []string {
	row := make([]string, len(names))
	for i, name := range names {
		row[i] = "-"
		for c, f := range fields {
			if f.Name == name && c < len(p.Values) && p.Values[c] != "" {
				row[i] = p.Values[c]
			}
		}
	}
	return row
}

// peopleImport shows what a CSV file would change and imports it; the service refuses when the directory has changed
// between the two.
func (a *app) peopleImport(server *string) *cobra.Command {
	var dry, replace bool
	var mapped []string
	c := &cobra.Command{
		Use: "import FILE", Short: "Import a CSV file into the directory",
		Long: "Takes a CSV file into the directory: new people are added, values changed. People who are not in " +
			"the file stay, unless --replace is given. --dry-run says what would change and changes nothing.",
		Example: "  missivum people import demo/people.csv --dry-run",
		Args:    exactly("FILE"),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			f, err := os.Open(args[0])
			if err != nil {
				return fmt.Errorf("the people cannot be read: %w", err)
			}
			defer f.Close()
			mapping, err := parseMapping(mapped)
			if err != nil {
				return err
			}
			query := url.Values{"apply": {fmt.Sprint(!dry)}, "replace": {fmt.Sprint(replace)}}
			for heading, field := range mapping {
				query.Add("map", heading+"="+field)
			}
			path := "/api/v1/people/import?" + query.Encode()
			answer, err := r.do(ctx, http.MethodPost, path, f, "text/csv")
			if err != nil {
				return err
			}
			defer answer.Body.Close()
			var plan people.Plan
			if err := json.NewDecoder(answer.Body).Decode(&plan); err != nil {
				return err
			}
			a.reportRows(args[0], plan.Bad)
			a.printPlan(plan, dry)
			return nil
		}),
	}
	c.Flags().BoolVar(&dry, "dry-run", false, "only show what would change")
	mapFlag(c, &mapped)
	c.Flags().BoolVar(&replace, "replace", false, "remove people who are not in the file")
	return c
}

// printPlan says what an import changes: who is new, who is changed, who leaves, which rows are left out.
func (a *app) printPlan(plan people.Plan, dry bool) {
	for _, column := range plan.Columns {
		if column.Guessed {
			taken := "left out"
			if column.Field != "" {
				taken = "taken as " + column.Field
			}
			fmt.Fprintf(a.out, "column %q is %s\n", column.Heading, taken)
		}
	}
	if dry {
		for _, c := range plan.Changes {
			var parts []string
			for _, f := range c.Fields {
				parts = append(parts, fmt.Sprintf("%s %q -> %q", f.Field, f.Before, f.After))
			}
			fmt.Fprintf(a.out, "%s  %s  %s\n", c.Kind, c.Mail, strings.Join(parts, ", "))
		}
	}
	verb := ""
	if dry {
		verb = "would be "
	}
	fmt.Fprintf(a.out, "%s: %s%d added, %d changed, %d removed, %d unchanged, %d left out\n",
		plural(plan.Rows, "person", "people"), verb, plan.Added, plan.Changed, plan.Removed, plan.Unchanged, len(plan.Bad))
}
