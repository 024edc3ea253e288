package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"

	"github.com/spf13/cobra"

	"missivum/core/fault"
	"missivum/core/person"
	"missivum/service/api"
)

// peopleFaults reports what is wrong in the directory of a service, or in a file.
func (a *app) peopleFaults(server *string) *cobra.Command {
	var kind, field, search, format, output, country string
	var columns columnFlags
	c := &cobra.Command{
		Use: "faults [FILE]", Short: "Report what is wrong in the directory, value by value",
		Long: "Reports every value of the directory that should not go out in a signature: numbers that are none or two, countries that " +
			"are not codes, names in capitals, placeholders, letters of several scripts, and others; each with what it probably should be. " +
			"--format csv is ready to be sent to whoever maintains the directory. With FILE a file is looked at, without a service.",
		Example: "  missivum people faults demo/people.csv --kind number",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if format != "text" && format != "csv" && format != "json" {
				return usage("--format %q is not known; it is text, csv or json", format)
			}
			var list []fault.Fault
			var everybody int
			if len(args) == 1 {
				d, err := a.openPeople(peopleFlags{file: args[0], columnFlags: columns})
				if err != nil {
					return err
				}
				if list, err = fault.Find(cmd.Context(), d,
					fault.Options{Country: country, Needs: []fault.Need{{Field: "cn", Who: "every signature"}}}); err != nil {
					return err
				}
				list, everybody = fault.Only(list, kind, field, search), len(d.People)
			} else {
				r, err := newRemote(*server)
				if err != nil {
					return err
				}
				if list, everybody, err = r.faults(cmd.Context(), kind, field, search); err != nil {
					return err
				}
			}
			return a.writeFaults(output, format, list, everybody)
		},
	}
	columns.add(c)
	c.Flags().StringVar(&kind, "kind", "", "only this kind, such as number")
	c.Flags().StringVar(&field, "field", "", "only this field")
	c.Flags().StringVar(&search, "search", "", "only where this stands in the mail address, the name or the value")
	c.Flags().StringVar(&country, "country", "", "with FILE: two letters, for numbers of people without a country")
	c.Flags().StringVar(&format, "format", "text", "text, csv or json")
	c.Flags().StringVarP(&output, "output", "o", "", "file to write (default standard output)")
	return c
}

// faults asks a service for all faults.
func (r *remote) faults(ctx context.Context, kind, field, search string) (list []fault.Fault, everybody int, err error) {
	query := url.Values{"kind": {kind}, "field": {field}, "search": {search}, "limit": {"1000"}}
	for {
		query.Set("offset", fmt.Sprint(len(list)))
		var part api.Faults
		if err := r.json(ctx, http.MethodGet, "/api/v1/people/faults?"+query.Encode(), nil, &part); err != nil {
			return nil, 0, err
		}
		list, everybody = append(list, part.Faults...), part.People
		if len(list) >= part.Total || len(part.Faults) == 0 {
			return list, everybody, nil
		}
	}
}

// writeFaults writes faults in a format.
func (a *app) writeFaults(output, format string, list []fault.Fault, everybody int) error {
	return a.writeFile(output, func(w io.Writer) error {
		switch format {
		case "csv":
			return fault.WriteCSV(w, list)
		case "json":
			e := json.NewEncoder(w)
			e.SetIndent("", "  ")
			return e.Encode(list)
		}
		who := map[string]bool{}
		for _, f := range list {
			who[f.Mail] = true
		}
		for _, kind := range fault.Count(list) {
			fmt.Fprintf(w, "%s (%s): %s. %s\n", kind.Title, kind.ID, plural(kind.Count, "value", "values"), kind.Why)
			for _, f := range list {
				if f.Kind != kind.ID {
					continue
				}
				fmt.Fprintf(w, "  %s  %s %q %s", f.Mail, f.Field, person.Clean(f.Value), f.Says)
				if f.Suggestion != "" {
					fmt.Fprintf(w, "; probably %q", f.Suggestion)
				}
				if f.Shown != "" {
					fmt.Fprintf(w, "; shown as %s", f.Shown)
				}
				fmt.Fprintln(w)
			}
		}
		_, err := fmt.Fprintf(w, "%s of %s in the directory of %s\n", plural(len(list), "fault", "faults"),
			plural(len(who), "person", "people"), plural(everybody, "person", "people"))
		return err
	})
}
