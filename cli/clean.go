package cli

import (
	"fmt"
	"io"
	"os"

	"github.com/spf13/cobra"

	"missivum/core/charset"
	"missivum/core/clean"
)

// cleanCommand is missivum clean. The cleaned source goes to standard output, the report to standard error.
func (a *app) cleanCommand() *cobra.Command {
	var options clean.Options
	var output, format string
	c := &cobra.Command{
		Use:   "clean FILE",
		Short: "Clean the markup of word processors and generators, and keep its look",
		Long: `Writes the page or fragment indented and without what word processors and generators leave behind: unused classes,
empty and needless tags, namespaced tags, conditional comments that only carry settings, repeated declarations.
What was removed, and what was kept and why, is reported on standard error.`,
		Example: "  missivum clean old-signature.html -o signature.html",
		Args:    exactly("FILE"),
		RunE: func(_ *cobra.Command, args []string) error {
			if format != "text" && format != "json" {
				return usage("--format %q is not known; it is text or json", format)
			}
			data, err := os.ReadFile(args[0])
			if err != nil {
				return fmt.Errorf("the page cannot be read: %w", err)
			}
			text, err := charset.ReadPage(data)
			if err != nil {
				return fmt.Errorf("%s: %w", args[0], err)
			}
			a.note(args[0], text.Note())
			r, err := clean.Clean(text.Text, options)
			if err != nil {
				return fmt.Errorf("%s: %w", args[0], err)
			}
			if format == "json" {
				return a.writeFile(output, func(w io.Writer) error { return writeJSON(w, r) })
			}
			if err := a.writeFile(output, func(w io.Writer) error { _, err := io.WriteString(w, r.Source); return err }); err != nil {
				return err
			}
			a.reportCleaned(args[0], r)
			return nil
		},
	}
	c.Flags().BoolVar(&options.Tracking, "tracking", false, "drop parameters of links that only count readers")
	c.Flags().BoolVar(&options.JoinText, "join-text", false,
		"take needless tags from between letters too; letters may move by a part of a pixel")
	c.Flags().StringVarP(&output, "output", "o", "", "file to write (default standard output)")
	c.Flags().StringVar(&format, "format", "text", "text, or json with what was done and what was left")
	return c
}

// reportCleaned says what was removed, how often, and what was kept for which reason.
func (a *app) reportCleaned(file string, r clean.Result) {
	fmt.Fprintf(a.err, "%s: %s bytes before, %s after\n", file, grouped(r.Before), grouped(r.After))
	for _, change := range r.Changes {
		fmt.Fprintf(a.err, "  %s: %s\n", change.What, grouped(change.Count))
	}
	for _, left := range r.Left {
		fmt.Fprintf(a.err, "%s:%d:%d  left: %s. %s\n", file, left.Line, left.Column, left.What, left.Why)
	}
}
