package cli

import (
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"missivum/core/compose"
)

func (a *app) fillCommand() *cobra.Command {
	var flags templateFlags
	var mail, form, output string
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
			if flags.people.file == "" || mail == "" {
				return usage("fill needs --people and --person")
			}
			l, err := a.load(args[0], flags)
			if err != nil {
				return err
			}
			p, err := findPerson(l.people, mail)
			if err != nil {
				return err
			}
			s, err := compose.Compile(l.template, l.schema, l.day, l.variant)
			if err != nil {
				return mistakes(l.source, err)
			}
			return a.writeFile(output, func(w io.Writer) error {
				_, err := w.Write(withNewline(s.Fill(l.variant, compose.Form(form), p)))
				return err
			})
		},
	}
	a.templateFlags(c, &flags)
	c.Flags().StringVar(&mail, "person", "", "mail address of the person")
	c.Flags().StringVar(&form, "form", "html", "html, fragment or text")
	c.Flags().StringVar(&flags.variant, "variant", "", "variant, such as new or reply (default the template's first)")
	c.Flags().StringVarP(&output, "output", "o", "", "file to write (default standard output)")
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
