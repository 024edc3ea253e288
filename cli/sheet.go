package cli

import (
	"encoding/base64"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"missivum/core/check"
	"missivum/core/client"
	"missivum/core/compose"
	"missivum/core/person"
	"missivum/core/sheet"
	"missivum/service/drawing"
	"missivum/service/files"
)

// hardOnSheet is how many hard cases stand on a sheet when nobody is named.
const hardOnSheet = 1

func (a *app) sheetCommand() *cobra.Command {
	var flags templateFlags
	var mails, clients, views []string
	var output string
	var writer bool
	c := &cobra.Command{
		Use:   "sheet TEMPLATE",
		Short: "Draw the contact sheet: the signature as every client shows it",
		Long: `Writes the signature as every chosen client shows it, for the template's sample person and the hardest case of the
directory or for those named, in light, dark mode and, with --view blocked, with pictures blocked. What breaks is
ringed, and the survival map stands below. A file with the ending .html is a page to print and to hand round; .png is
drawn with the installed Chromium.`,
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
			chosen, err := sitters(l, mails)
			if err != nil {
				return err
			}
			report, err := check.Run(cmd.Context(), in)
			if err != nil {
				return err
			}
			s, err := sheet.Make(sheet.Input{Template: l.template, People: l.people, Chosen: chosen, Profiles: in.Profiles, Views: shown, Variant: l.variant, Day: l.day}, report)
			if err != nil {
				return mistakes(l.source, err)
			}
			if writer {
				if err := a.secondOpinion(cmd, l, s, in.Profiles, chosen[0]); err != nil {
					return err
				}
			}
			page, err := s.HTML()
			if err != nil {
				return err
			}
			data := []byte(page)
			if ending == ".png" {
				if data, err = drawing.Page(cmd.Context(), page, 240+540*len(shown)); err != nil {
					return err
				}
			}
			if err := files.WriteBytes(output, data); err != nil {
				return err
			}
			fmt.Fprintf(a.err, "%s: %s, %s, %s. %s\n", output, plural(len(chosen), "person", "people"), plural(len(in.Profiles), "client", "clients"), plural(len(shown), "view", "views"), s.Verdict)
			return nil
		},
	}
	a.templateFlags(c, &flags)
	c.Flags().StringVar(&flags.variant, "variant", "", "variant (default the template's first)")
	c.Flags().StringArrayVar(&mails, "person", nil, "mail address of a person to show; may be given several times (default the sample and the hardest case)")
	c.Flags().StringArrayVar(&clients, "client", nil, "client profile to show; may be given several times (default all)")
	c.Flags().StringSliceVar(&views, "view", []string{"light", "dark"}, "light, dark or blocked, with commas between")
	c.Flags().BoolVar(&writer, "second-opinion", false, "add LibreOffice Writer's drawing beside wordproc-desktop")
	c.Flags().StringVarP(&output, "output", "o", "", "file to write, .png or .html")
	return c
}

func viewsOf(names []string) ([]sheet.View, error) {
	var list []sheet.View
	for _, name := range names {
		if !slices.Contains(sheet.Views, sheet.View(name)) {
			return nil, usage("--view %q is not known; it is light, dark or blocked", name)
		}
		list = append(list, sheet.View(name))
	}
	return list, nil
}

// sitters are the people who stand on the sheet, by their place in the directory.
func sitters(l loaded, mails []string) ([]int, error) {
	if len(l.people.People) == 0 {
		return nil, fmt.Errorf("there is nobody in the directory")
	}
	if len(mails) == 0 {
		chosen := []int{0}
		for i := range l.people.People {
			if strings.EqualFold(l.people.Get(&l.people.People[i], "mail"), l.template.Settings.Sample) {
				chosen[0] = i
			}
		}
		for _, h := range person.HardCases(l.people, l.template.Settings.Country) {
			if len(chosen) <= hardOnSheet && h.Index != chosen[0] {
				chosen = append(chosen, h.Index)
			}
		}
		return chosen, nil
	}
	var chosen []int
	for _, mail := range mails {
		who, err := findPerson(l.people, mail)
		if err != nil {
			return nil, err
		}
		for i := range l.people.People {
			if &l.people.People[i] == who {
				chosen = append(chosen, i)
			}
		}
	}
	return chosen, nil
}

// secondOpinion lets LibreOffice draw what the word-processor client receives.
func (a *app) secondOpinion(cmd *cobra.Command, l loaded, s *sheet.Sheet, profiles []*client.Profile, who int) error {
	for _, p := range profiles {
		if p.ID != "wordproc-desktop" {
			continue
		}
		prepared, err := compose.Prepare(l.template, l.schema, l.day, compose.Data)
		if err != nil {
			return mistakes(l.source, err)
		}
		kept, err := prepared.Kept(p, client.Receive, l.variant, &l.people.People[who])
		if err != nil {
			return err
		}
		picture, err := drawing.Writer(cmd.Context(), `<!doctype html><html><head><meta charset="utf-8"></head><body>`+kept.Body+`</body></html>`)
		if err != nil {
			return err
		}
		s.SecondOpinion(p.ID, "LibreOffice Writer", "data:image/png;base64,"+base64.StdEncoding.EncodeToString(picture))
		return nil
	}
	return usage("--second-opinion stands beside wordproc-desktop, which is not among the clients")
}
