package cli

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"missivum/core/block"
	"missivum/service/files"
)

// blockCommand is missivum block: the block that a mail host appends. What the host cannot do goes to standard error, so
// that the block itself can be redirected into a file.
func (a *app) blockCommand() *cobra.Command {
	var flags templateFlags
	var id, output, format, sheet, forWhom, except string
	c := &cobra.Command{
		Use:   "block TEMPLATE",
		Short: "Write the block that a mail host appends",
		Long: `Writes the fragment as a block for a mail host that appends it, with the host's own placeholders. What these
placeholders cannot do (blank fields, modifiers, fallback texts) is reported on standard error; with a directory also
for which people it would show. A field that the host has no name for is refused. The dialects here are examples: they
show what a block looks like and are no real host's; your host's own is a small file (docs/desks.md). --sheet also
writes the rule sheet: the steps at the host to tick off, for whom and except when, and the phrase that keeps the block
from piling up in a conversation.`,
		Example: "  missivum block demo/templates/harbour --dialect demo/dialects/quay-host.yaml --people " +
			"demo/people.csv -o block.html --sheet rule.html",
		Args: exactly("TEMPLATE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			dialect, err := findDialect(id)
			if err != nil {
				return err
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
			if sheet != "" {
				made := block.Sheet{Title: l.template.Title(), Version: l.template.Version(), Dialect: dialect, Day: l.day,
					For: forWhom, Except: except,
					Block: exported}
				if output != "-" {
					made.File = filepath.Base(output)
				}
				if err := a.writeSheet(sheet, l, made); err != nil {
					return err
				}
			}
			if format == "json" {
				return a.writeFile(output, func(w io.Writer) error { return writeJSON(w, exported) })
			}
			a.printLosses(l.source, dialect, exported)
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
	c.Flags().StringVar(&id, "dialect", "", "dialect of the host's placeholders: a file, or the examples brace or percent")
	c.Flags().StringVar(&sheet, "sheet", "", "file to write the rule sheet to, .html")
	c.Flags().StringVar(&forWhom, "for", "", "for the rule sheet: the group at the host whose messages get the block (default everybody's)")
	c.Flags().StringVar(&except, "except", "", "for the rule sheet: when not, such as \"the recipient is inside the organisation\"")
	a.templateFlags(c, &flags)
	c.Flags().StringVar(&flags.variant, "variant", "", "variant (default the template's first)")
	c.Flags().StringVarP(&output, "output", "o", "", "file to write (default standard output)")
	c.Flags().StringVar(&format, "format", "text", "text or json")
	return c
}

// findDialect gives a dialect by its id, or from a file of the organisation's own.
func findDialect(id string) (*block.Dialect, error) {
	if strings.HasSuffix(id, ".yaml") || strings.HasSuffix(id, ".yml") || strings.HasSuffix(id, ".json") {
		data, err := os.ReadFile(id)
		if err != nil {
			return nil, fmt.Errorf("the dialect cannot be read: %w", err)
		}
		d, err := block.Parse(data)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", id, err)
		}
		return d, nil
	}
	if d := block.Find(id); d != nil {
		return d, nil
	}
	var ids []string
	for _, d := range block.Dialects() {
		ids = append(ids, d.ID)
	}
	return nil, usage("there is no dialect %q; there are %s, and files that end in .yaml", id, strings.Join(ids, ", "))
}

// writeSheet writes the rule sheet, with the phrase that is proposed for the people.
func (a *app) writeSheet(name string, l loaded, sheet block.Sheet) error {
	profiles, err := a.findClients(nil)
	if err != nil {
		return err
	}
	if sheet.Phrases, err = block.Phrases(l.template, l.schema, l.variant, l.day, l.people, profiles); err != nil {
		return err
	}
	page, err := sheet.HTML()
	if err != nil {
		return err
	}
	if err := files.WriteBytes(name, page); err != nil {
		return err
	}
	if p := sheet.Phrase(); p != nil {
		fmt.Fprintf(a.err, "%s: the phrase that keeps the block from piling up is %q\n", name, p.Text)
		return nil
	}
	fmt.Fprintf(a.err, "%s: no phrase keeps the block from piling up: no text stands in everybody's signature and "+
		"survives every client\n", name)
	for _, p := range sheet.Phrases {
		fmt.Fprintf(a.err, "    %q stands in %d of %d signatures; lost in: %s\n", p.Text, p.People, p.Of, strings.Join(p.Lost, ", "))
	}
	return nil
}

// printLosses lists what the host's placeholders cannot do, each at its place in the source, with the people for whom it
// would show.
func (a *app) printLosses(source string, d *block.Dialect, x block.Exported) {
	if d.Example {
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
