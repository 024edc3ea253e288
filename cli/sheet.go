package cli

import (
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"missivum/core/check"
	"missivum/core/sheet"
	"missivum/service/drawing"
	"missivum/service/files"
)

// sheetCommand is missivum sheet. The ending of the file decides: a page to print, or a PNG that Chromium renders.
func (a *app) sheetCommand() *cobra.Command {
	var flags templateFlags
	var mails, clients, views []string
	var output string
	var writer bool
	c := &cobra.Command{
		Use:   "sheet TEMPLATE",
		Short: "Draw the contact sheet: the signature as every client shows it",
		Long: `Writes the signature as every chosen client shows it: for the template's sample person and the hardest case of the
directory, or for the people named; in light mode, in dark mode and, with --view blocked, with pictures blocked. What
breaks has a ring around it, and the survival map stands below. With the ending .html it is a page to print and pass
on; with .png the installed Chromium renders it.`,
		Example: "  missivum sheet demo/templates/regatta --people demo/people.csv -o /tmp/regatta.png",
		Args:    exactly("TEMPLATE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			ending := strings.ToLower(filepath.Ext(output))
			if ending != ".png" && ending != ".html" {
				return usage("sheet needs --output with a file that ends in .png or .html")
			}
			if flags.people.file == "" {
				return usage("sheet needs --people")
			}
			shown, err := viewsOf(views)
			if err != nil {
				return err
			}
			l, in, err := a.loadForClients(args[0], flags, clients)
			if err != nil {
				return err
			}
			chosen, err := sheet.Choose(l.template, l.people, mails)
			if err != nil {
				return err
			}
			report, err := check.Run(cmd.Context(), in)
			if err != nil {
				return err
			}
			drawn, err := drawing.Sheet(cmd.Context(),
				sheet.Input{Template: l.template, People: l.people, Chosen: chosen, Profiles: in.Profiles, Views: shown,
					Variant: l.variant, Day: l.day}, report,
				drawing.SheetOptions{Picture: ending == ".png", SecondOpinion: writer})
			if errors.Is(err, drawing.ErrNoWordProcessor) {
				return usage("--second-opinion stands beside wordproc-desktop, which is not among the clients")
			}
			if err != nil {
				return mistakes(l.source, err)
			}
			if err := files.WriteBytes(output, drawn); err != nil {
				return err
			}
			fmt.Fprintf(a.err, "%s: %s, %s, %s. %s\n", output, plural(len(chosen), "person", "people"),
				plural(len(in.Profiles), "client", "clients"), plural(len(shown), "view", "views"), report.Verdict)
			return nil
		},
	}
	a.templateFlags(c, &flags)
	c.Flags().StringVar(&flags.variant, "variant", "", "variant (default the template's first)")
	c.Flags().StringArrayVar(&mails, "person", nil,
		"mail address of a person to show; may be given several times (default the sample and the hardest case)")
	c.Flags().StringArrayVar(&clients, "client", nil, "client profile to show; may be given several times (default all)")
	c.Flags().StringSliceVar(&views, "view", []string{"light", "dark"}, "light, dark or blocked, with commas between")
	c.Flags().BoolVar(&writer, "second-opinion", false, "add LibreOffice Writer's drawing beside wordproc-desktop")
	c.Flags().StringVarP(&output, "output", "o", "", "file to write, .png or .html")
	return c
}

// viewsOf reads the views that --view names.
func viewsOf(names []string) ([]sheet.View, error) {
	var list []sheet.View
	for _, name := range names {
		list = append(list, sheet.View(name))
	}
	if err := sheet.CheckViews(list); err != nil {
		return nil, usage("--view: %w", err)
	}
	return list, nil
}
