package cli

import (
	"io"
	"strings"

	"github.com/spf13/cobra"

	"missivum/core/client"
	"missivum/core/compose"
	"missivum/core/person"

	"fmt"
)

func (a *app) fillCommand() *cobra.Command {
	var people peopleFlags
	var mail, form, variant, output, date string
	c := &cobra.Command{
		Use:     "fill TEMPLATE",
		Short:   "Fill a template for one person",
		Long:    "Writes the signature of one person: the whole page (pictures beside it), the fragment to paste (pictures hosted), or the text form.",
		Example: "  missivum fill demo/templates/harbour --people demo/people.csv --person maren.lind@brackwater.example --form text",
		Args:    exactly("TEMPLATE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if !known(form) {
				return usage("--form %q is not known; it is html, fragment or text", form)
			}
			if people.file == "" || mail == "" {
				return usage("fill needs --people and --person")
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
			p, err := findPerson(d, mail)
			if err != nil {
				return err
			}
			s, err := compose.Compile(t, d.Schema, day, variant)
			if err != nil {
				return mistakes(sourceName(args[0], t), err)
			}
			return a.writeFile(output, func(w io.Writer) error {
				_, err := w.Write(withNewline(s.Fill(variant, compose.Form(form), p)))
				return err
			})
		},
	}
	people.add(c)
	c.Flags().StringVar(&mail, "person", "", "mail address of the person")
	c.Flags().StringVar(&form, "form", "html", "html, fragment or text")
	c.Flags().StringVar(&variant, "variant", "", "variant, such as new or reply (default the template's first)")
	c.Flags().StringVarP(&output, "output", "o", "", "file to write (default standard output)")
	a.dayFlag(c, &date)
	return c
}

func known(form string) bool {
	for _, f := range compose.Forms {
		if string(f) == form {
			return true
		}
	}
	return false
}

// mistakes puts the file's name before the mistakes of a template, which is refused.
func mistakes(source string, err error) error {
	lines := strings.Split(err.Error(), "\n")
	return exitError{ExitFindings, fmt.Errorf("%s is not filled:\n  %s", source, strings.Join(lines, "\n  "))}
}

func withNewline(b []byte) []byte {
	if len(b) > 0 && b[len(b)-1] != '\n' {
		return append(b, '\n')
	}
	return b
}

func (a *app) simulateCommand() *cobra.Command {
	var people peopleFlags
	var mail, id, hop, variant, output, date string
	c := &cobra.Command{
		Use:   "simulate TEMPLATE",
		Short: "Show the markup as a client keeps it",
		Long: `Writes the markup as a client has it after a hop of its journey (install, send, receive, draw) and, on the
standard error output, what happened to it with line and column. Without a person the fields stay as written.`,
		Example: "  missivum simulate demo/templates/regatta --client wordproc-desktop --people demo/people.csv --person maren.lind@brackwater.example",
		Args:    exactly("TEMPLATE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if id == "" {
				return usage("simulate needs --client; there are %s", strings.Join(client.IDs(client.Shipped()), ", "))
			}
			profiles, err := findClients([]string{id})
			if err != nil {
				return err
			}
			if !knownHop(hop) {
				return usage("--hop %q is not known; it is install, send, receive or draw", hop)
			}
			if mail != "" && people.file == "" {
				return usage("--person needs --people")
			}
			day, err := a.day(date)
			if err != nil {
				return err
			}
			t, err := openTemplate(args[0])
			if err != nil {
				return err
			}
			if variant == "" && mail != "" {
				variant = t.Variants()[0]
			}
			if variant != "" {
				if err := compose.CheckVariant(t, variant); err != nil {
					return usage("%w", err)
				}
			}
			d, err := a.openPeople(people)
			if err != nil {
				return err
			}
			schema := person.NewSchema()
			var who *person.Person
			if d != nil {
				schema = d.Schema
			}
			if mail != "" {
				if who, err = findPerson(d, mail); err != nil {
					return err
				}
			}
			prepared, err := compose.Prepare(t, schema, day, compose.Hosted(t))
			if err != nil {
				return mistakes(sourceName(args[0], t), err)
			}
			kept, err := prepared.Kept(profiles[0], client.Hop(hop), variant, who)
			if err != nil {
				return err
			}
			for _, e := range kept.Log {
				place := prepared.Doc.Place(e.Span.Start)
				fmt.Fprintf(a.err, "%s:%d:%d  %s\n", sourceName(args[0], t), place.Line, place.Column, e)
			}
			return a.writeFile(output, func(w io.Writer) error {
				_, err := w.Write(withNewline([]byte(kept.Body)))
				return err
			})
		},
	}
	c.Flags().StringVar(&id, "client", "", "client profile")
	people.add(c)
	c.Flags().StringVar(&mail, "person", "", "mail address of the person to fill for")
	c.Flags().StringVar(&variant, "variant", "", "variant (default the template's first, or all without a person)")
	c.Flags().StringVar(&hop, "hop", "draw", "how far the journey goes: install, send, receive or draw")
	c.Flags().StringVarP(&output, "output", "o", "", "file to write (default standard output)")
	a.dayFlag(c, &date)
	return c
}

func knownHop(hop string) bool {
	for _, h := range client.Hops {
		if string(h) == hop {
			return true
		}
	}
	return false
}
