package cli

import (
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"missivum/core/block"
)

// blockCommand is missivum block: the block that a mail host appends. What the host cannot do goes to standard error, so
// that the block itself can be redirected into a file.
func (a *app) blockCommand() *cobra.Command {
	var flags templateFlags
	var id, output, format string
	c := &cobra.Command{
		Use:   "block TEMPLATE",
		Short: "Write the block that a mail host appends",
		Long: `Writes the fragment as a block for a mail host that appends it, with the host's own placeholders. What these
placeholders cannot do (blank fields, modifiers, fallback texts) is reported on standard error; with a directory also
for which people it would show. A field that the host has no name for is refused. The dialects here are examples: they
show what a block looks like and are no real host's.`,
		Example: "  missivum block demo/templates/harbour --dialect percent --people demo/people.csv -o block.html",
		Args:    exactly("TEMPLATE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			dialect := block.Find(id)
			if dialect == nil {
				var ids []string
				for _, d := range block.Dialects() {
					ids = append(ids, d.ID)
				}
				return usage("there is no dialect %q; there are %s", id, strings.Join(ids, ", "))
			}
			if format != "text" && format != "json" {
				return usage("--format %q is not known; it is text or json", format)
			}
			l, err := a.load(args[0], flags)
			if err != nil {
				return err
			}
			exported, err := block.ExportTemplate(l.template, l.schema, l.variant, l.day, dialect, l.people)
			if err != nil {
				return mistakes(l.source, err)
			}
			if format == "json" {
				return a.writeFile(output, func(w io.Writer) error { return writeJSON(w, exported) })
			}
			a.printLosses(l.source, exported)
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
	c.Flags().StringVar(&id, "dialect", "", "dialect of the host's placeholders: the examples brace or percent")
	a.templateFlags(c, &flags)
	c.Flags().StringVar(&flags.variant, "variant", "", "variant (default the template's first)")
	c.Flags().StringVarP(&output, "output", "o", "", "file to write (default standard output)")
	c.Flags().StringVar(&format, "format", "text", "text or json")
	return c
}

// printLosses lists what the host's placeholders cannot do, each at its place in the source, with the people for whom it
// would show.
func (a *app) printLosses(source string, x block.Exported) {
	if d := block.Find(x.Dialect); d != nil && d.Example {
		fmt.Fprintf(a.err, "%s is an example of a dialect, not a real host's.\n", d.ID)
	}
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
