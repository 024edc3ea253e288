package cli

import (
	"errors"
	"fmt"
	"io"
	"iter"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"missivum/core/client"
	"missivum/core/compose"
	"missivum/core/pack"
	"missivum/core/person"
	"missivum/core/rule"
)

func (a *app) packCommand() *cobra.Command {
	var people peopleFlags
	var output, date string
	var variants []string
	c := &cobra.Command{
		Use:   "pack TEMPLATE",
		Short: "Write everybody's files into one zip",
		Long: `Writes a zip with a folder for each person: every variant as page, fragment and text, the pictures beside
them, and manifest.json with the checksum of every file. The file appears when it is whole.`,
		Example: "  missivum pack demo/templates/harbour --people demo/people.csv -o harbour.zip",
		Args:    exactly("TEMPLATE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if people.file == "" || output == "" {
				return usage("pack needs --people and --output")
			}
			day, err := a.day(date)
			if err != nil {
				return err
			}
			t, err := openTemplate(args[0])
			if err != nil {
				return err
			}
			for _, v := range variants {
				if err := compose.CheckVariant(t, v); err != nil {
					return usage("%w", err)
				}
			}
			reader, file, err := people.open()
			if err != nil {
				return err
			}
			defer file.Close()
			bar := a.progress("people", 0)
			var result pack.Result
			var bad []person.RowError
			err = a.writeFile(output, func(w io.Writer) error {
				var err error
				result, err = pack.Write(cmd.Context(), w, pack.Input{
					Template: t, Schema: reader.Schema(), People: rows(reader, &bad), Variants: variants, Day: day, Progress: bar.done,
				})
				return err
			})
			bar.end()
			a.tellRows(people.file, bad)
			if err != nil {
				return err
			}
			if output != "-" {
				info, err := os.Stat(output)
				if err != nil {
					return err
				}
				fmt.Fprintf(a.out, "%s: %s, %s, %s bytes\n", output, plural(result.People, "person", "people"), plural(result.Files, "file", "files"), grouped(int(info.Size())))
			}
			return nil
		},
	}
	people.add(c)
	c.Flags().StringVarP(&output, "output", "o", "", "zip file to write")
	c.Flags().StringArrayVar(&variants, "variant", nil, "variant to pack; may be given several times (default all)")
	a.dayFlag(c, &date)
	return c
}

// rows reads people one by one; rows that are left out are added to bad.
func rows(r *person.Reader, bad *[]person.RowError) iter.Seq2[*person.Person, error] {
	return func(yield func(*person.Person, error) bool) {
		for {
			p, err := r.Next()
			var row person.RowError
			switch {
			case errors.Is(err, io.EOF):
				return
			case errors.As(err, &row):
				*bad = append(*bad, row)
				continue
			}
			if !yield(&p, err) || err != nil {
				return
			}
		}
	}
}

func (a *app) ruleCommand() *cobra.Command {
	var people peopleFlags
	var id, variant, output, format, date string
	c := &cobra.Command{
		Use:   "rule TEMPLATE",
		Short: "Write the block for a mail host's rule",
		Long: `Writes the fragment with a host's own placeholders. What these placeholders cannot do (blank fields,
modifiers, stand-by texts, unknown names) is listed on the standard error output, with a directory also for
which people it would show.`,
		Example: "  missivum rule demo/templates/harbour --dialect percent --people demo/people.csv -o block.html",
		Args:    exactly("TEMPLATE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			dialect := rule.Find(id)
			if dialect == nil {
				var ids []string
				for _, d := range rule.Dialects() {
					ids = append(ids, d.ID)
				}
				return usage("there is no dialect %q; there are %s", id, strings.Join(ids, ", "))
			}
			if format != "text" && format != "json" {
				return usage("--format %q is not known; it is text or json", format)
			}
			day, err := a.day(date)
			if err != nil {
				return err
			}
			t, err := openTemplate(args[0])
			if err != nil {
				return err
			}
			if variant == "" {
				variant = t.Variants()[0]
			}
			if err := compose.CheckVariant(t, variant); err != nil {
				return usage("%w", err)
			}
			d, err := a.openPeople(people)
			if err != nil {
				return err
			}
			schema := person.NewSchema()
			if d != nil {
				schema = d.Schema
			}
			exported, err := rule.ExportTemplate(t, schema, variant, day, dialect, d)
			if err != nil {
				return mistakes(sourceName(args[0], t), err)
			}
			if format == "json" {
				return a.writeFile(output, func(w io.Writer) error { return writeJSON(w, exported) })
			}
			a.printLosses(sourceName(args[0], t), exported)
			err = a.writeFile(output, func(w io.Writer) error {
				_, err := io.WriteString(w, exported.Block+"\n")
				return err
			})
			if err == nil && exported.Limit > 0 && exported.Characters > exported.Limit {
				return exitError{ExitFindings, fmt.Errorf("the block has %d characters; the host takes %d", exported.Characters, exported.Limit)}
			}
			return err
		},
	}
	c.Flags().StringVar(&id, "dialect", "", "dialect of the host's placeholders: brace or percent")
	people.add(c)
	c.Flags().StringVar(&variant, "variant", "", "variant (default the template's first)")
	c.Flags().StringVarP(&output, "output", "o", "", "file to write (default standard output)")
	c.Flags().StringVar(&format, "format", "text", "text or json")
	a.dayFlag(c, &date)
	return c
}

func (a *app) printLosses(source string, x rule.Exported) {
	for _, l := range x.Losses {
		fmt.Fprintf(a.err, "%s:%d:%d  lost  %s\n", source, l.Line, l.Column, l.Message)
		if l.Counted {
			named := l.Who[:min(3, len(l.Who))]
			more := ""
			if l.People > len(named) {
				more = fmt.Sprintf(" and %s more", grouped(l.People-len(named)))
			}
			fmt.Fprintf(a.err, "    Shows for %s: %s%s\n", plural(l.People, "person", "people"), strings.Join(named, ", "), more)
		}
	}
	limit := ""
	if x.Limit > 0 {
		limit = fmt.Sprintf(" of %s", grouped(x.Limit))
	}
	fmt.Fprintf(a.err, "The block has %s%s characters; %s.\n", grouped(x.Characters), limit, plural(len(x.Losses), "loss", "losses"))
}

func (a *app) clientsCommand() *cobra.Command {
	var format string
	c := &cobra.Command{
		Use:     "clients",
		Short:   "List the client profiles",
		Example: "  missivum clients\n  missivum clients show wordproc-desktop",
		Args:    exactly(),
		RunE: func(*cobra.Command, []string) error {
			if format == "json" {
				return writeJSON(a.out, client.Shipped())
			}
			var rows [][]string
			for _, p := range client.Shipped() {
				rows = append(rows, []string{p.ID, p.Form, p.Install.Way, limits(p), p.Title})
			}
			printTable(a.out, []string{"Id", "Shows", "Installed", "Limits", "Title"}, rows)
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
			list, err := findClients(args)
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
	return c
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
	for _, b := range p.Behaviours {
		rows = append(rows, []string{string(b.Hop), b.Match.String(), string(b.Does), string(b.Severity), string(b.Basis)})
	}
	printTable(a.out, []string{"Hop", "What", "Happens", "Severity", "Basis"}, rows)
}
