package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"missivum/core/adopt"
	"missivum/core/tidy"
)

func (a *app) adoptCommand() *cobra.Command {
	var output string
	var tidied bool
	c := &cobra.Command{
		Use:   "adopt PAGE",
		Short: "Make a template of a page that exists",
		Long: `Takes a whole page or a fragment apart, also one that was saved with its pictures in one file (RFC 2557):
the character set is recognised, the head's styles are kept, and the pictures that came along, in the file or
written into the source, become files of the template.`,
		Example: "  missivum adopt old-page.html --tidy -o adopted",
		Args:    exactly("PAGE"),
		RunE: func(_ *cobra.Command, args []string) error {
			data, err := os.ReadFile(args[0])
			if err != nil {
				return fmt.Errorf("the page cannot be read: %w", err)
			}
			adopted, err := adopt.Page(data, os.DirFS(filepath.Dir(args[0])))
			if err != nil {
				return fmt.Errorf("%s: %w", args[0], err)
			}
			if tidied {
				r, err := tidy.Tidy(adopted.Parts.Source, tidy.Options{})
				if err != nil {
					return fmt.Errorf("%s: %w", args[0], err)
				}
				adopted.Parts.Source = r.Source
				a.tellTidied(args[0], r)
			}
			fmt.Fprintf(a.err, "%s: written in %s", args[0], adopted.Charset)
			if len(adopted.Pictures) > 0 {
				fmt.Fprintf(a.err, "; pictures that came along: %s", strings.Join(adopted.Pictures, ", "))
			}
			fmt.Fprintln(a.err)
			for _, missing := range adopted.Missing {
				fmt.Fprintf(a.err, "The picture %s did not come along\n", missing)
			}
			return a.writeParts(output, adopted.Parts)
		},
	}
	c.Flags().BoolVar(&tidied, "tidy", false, "tidy the source too")
	c.Flags().StringVarP(&output, "output", "o", "", "folder to write the template into (default its source on standard output)")
	return c
}
