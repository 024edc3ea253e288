package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"missivum/core/person"
	"missivum/service/api"
	"missivum/service/people"
)

// peopleCommand is missivum people, which works against a service.
func (a *app) peopleCommand() *cobra.Command {
	return onlineGroup("people", "List and import the people of a service", a.peopleList, a.peopleImport, a.peopleColumns, a.peopleStates)
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
	var columns columnFlags
	var remove int
	c := &cobra.Command{
		Use: "import FILE", Short: "Import a CSV file into the directory",
		Long: "Takes a CSV file into the directory: new people are added, values changed. People who are not in " +
			"the file stay, unless --replace is given; how many are then removed is confirmed with --remove. --dry-run says what " +
			"would change and changes nothing. The service keeps the last three states: missivum people states.",
		Example: "  missivum people import demo/people.csv --dry-run",
		Args:    exactly("FILE"),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			f, err := os.Open(args[0])
			if err != nil {
				return fmt.Errorf("the people cannot be read: %w", err)
			}
			defer f.Close()
			mapping, err := columns.read(args[0])
			if err != nil {
				return err
			}
			query := url.Values{"apply": {fmt.Sprint(!dry)}, "replace": {fmt.Sprint(replace)}, "remove": {fmt.Sprint(remove)}}
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
			a.note(args[0], plan.Note)
			a.reportRows(args[0], plan.Bad)
			a.printPlan(plan, dry)
			return nil
		}),
	}
	c.Flags().BoolVar(&dry, "dry-run", false, "only show what would change")
	columns.add(c)
	c.Flags().BoolVar(&replace, "replace", false, "remove people who are not in the file")
	c.Flags().IntVar(&remove, "remove", 0, "with --replace: how many people are removed, as --dry-run counted them")
	return c
}

// peopleColumns shows which field each column of a file is taken for, and writes it as a mapping.
func (a *app) peopleColumns(*string) *cobra.Command {
	var columns columnFlags
	var output string
	c := &cobra.Command{
		Use: "columns FILE", Short: "Show which field each column of a CSV file is",
		Long: "Shows which field each column of a CSV file is taken for, and which are left out. With --output that is written as a " +
			"mapping, to be corrected by hand and given to other commands with --mapping. A mapping beside the file, with " +
			person.MappingSuffix + " in the place of .csv, is used without being named.",
		Example: "  missivum people columns demo/people.csv",
		Args:    exactly("FILE"),
		RunE: func(_ *cobra.Command, args []string) error {
			reader, file, err := (&peopleFlags{file: args[0], columnFlags: columns}).open()
			if err != nil {
				return err
			}
			defer file.Close()
			a.note(args[0], reader.Note())
			var rows [][]string
			for _, column := range reader.Columns() {
				field, how := column.Field, "by its name or as it was mapped"
				if column.Guessed {
					how = "guessed from its title"
				}
				heading := column.Heading
				switch {
				case field == "":
					field, how = "-", "left out"
				case heading == "":
					heading, how = "-", "made"
				}
				if column.Note != "" {
					how += ": " + column.Note
				}
				rows = append(rows, []string{heading, field, how})
			}
			printTable(a.out, []string{"Column", "Field", "How"}, rows)
			if output == "" {
				return nil
			}
			text, err := person.WriteMapping(reader.Columns())
			if err != nil {
				return err
			}
			return a.writeFile(output, func(w io.Writer) error { _, err := w.Write(text); return err })
		},
	}
	columns.add(c)
	c.Flags().StringVarP(&output, "output", "o", "", "mapping to write")
	return c
}

// peopleStates lists the directory's states before the last imports, or writes one as CSV.
func (a *app) peopleStates(server *string) *cobra.Command {
	var revision int
	var output string
	c := &cobra.Command{
		Use: "states", Short: "Show the people as they were before the last imports", Example: "  missivum people states", Args: exactly(),
		Long: "Lists the last three states of the directory that an import replaced. With --revision one is written as CSV; people " +
			"import --replace brings it back.",
		RunE: online(server, func(ctx context.Context, r *remote, _ []string) error {
			if revision > 0 {
				answer, err := r.do(ctx, http.MethodGet, fmt.Sprintf("/api/v1/people/states/%d", revision), nil, "")
				if err != nil {
					return err
				}
				defer answer.Body.Close()
				return a.writeFile(output, func(w io.Writer) error { _, err := io.Copy(w, answer.Body); return err })
			}
			var list []people.State
			if err := r.json(ctx, http.MethodGet, "/api/v1/people/states", nil, &list); err != nil {
				return err
			}
			var rows [][]string
			for _, s := range list {
				rows = append(rows, []string{fmt.Sprint(s.Revision), s.Until.Local().Format("2006-01-02 15:04"), grouped(int(s.Bytes)) + " bytes"})
			}
			printTable(a.out, []string{"Revision", "Until", "Size"}, rows)
			return nil
		}),
	}
	c.Flags().IntVar(&revision, "revision", 0, "state to write as CSV")
	c.Flags().StringVarP(&output, "output", "o", "", "file to write (default standard output)")
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
