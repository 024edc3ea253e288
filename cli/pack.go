package cli

import (
	"errors"
	"fmt"
	"io"
	"iter"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"missivum/core/compose"
	"missivum/core/pack"
	"missivum/core/person"
	"missivum/core/source"
	"missivum/service/packages"
)

// packCommand is missivum pack: everybody's files as one zip, streamed into a temporary file that gets its name at the end.
func (a *app) packCommand() *cobra.Command {
	var people peopleFlags
	var output, date string
	var variants, forms []string
	var kits kitFlags
	c := &cobra.Command{
		Use:   "pack TEMPLATE",
		Short: "Write everybody's files into one zip",
		Long: `Writes a zip with a folder for each person: every variant in every form, the pictures beside them, and
manifest.json with the checksum of every file. With --way or --client the folders hold kits: exactly the files that
this way of installing wants, under the names that the client takes, with an index page, the steps, a table of people
and files, and for each person a list that --sign-with signs. The file appears when it is whole.`,
		Example: "  missivum pack demo/templates/harbour --people demo/people.csv --client wordproc-desktop -o harbour.zip",
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
			for _, note := range t.Notes {
				a.note(args[0], note)
			}
			for _, v := range variants {
				if err := compose.CheckVariant(t, v); err != nil {
					return usage("%w", err)
				}
			}
			input := pack.Input{Template: t, Variants: variants, Day: day, Spool: packages.SpoolIn(spoolFolder(output))}
			if input.Forms, err = chosenForms(forms); err != nil {
				return err
			}
			people.known = t.Settings.Fields
			if kits.chosen() && (len(variants) > 0 || len(forms) > 0) {
				return usage("--variant and --form are for packages without --way: a kit holds what its way wants")
			}
			reader, file, err := people.open()
			if err != nil {
				return err
			}
			defer file.Close()
			a.note(people.file, reader.Note())
			bar := a.progress("people", 0)
			var result pack.Result
			var bad []source.RowError
			err = a.writeFile(output, func(w io.Writer) error {
				var err error
				input.Schema, input.People, input.Progress = reader.Schema(), rows(reader, &bad), bar.done
				if kits.chosen() {
					if input.Kits, err = a.kits(cmd.Context(), kits, t, reader.Schema(), day); err != nil {
						return mistakes(args[0], err)
					}
				}
				result, err = pack.Write(cmd.Context(), w, input)
				return err
			})
			bar.end()
			a.reportRows(people.file, bad)
			if err != nil {
				return err
			}
			if output != "-" {
				info, err := os.Stat(output)
				if err != nil {
					return err
				}
				notes, err := pack.Notes(t, reader.Schema(), day, variants)
				if err != nil {
					return err
				}
				if kits.chosen() {
					notes = append(result.Notes, pack.DatedNotes(t, day)...)
				}
				for _, note := range notes {
					fmt.Fprintln(a.err, note)
				}
				fmt.Fprintf(a.out, "%s: %s, %s, %s bytes\n", output, plural(result.People, "person", "people"),
					plural(result.Files, "file", "files"), grouped(int(info.Size())))
			}
			return nil
		},
	}
	people.add(c)
	c.Flags().StringVarP(&output, "output", "o", "", "zip file to write")
	kits.add(c)
	c.Flags().StringVar(&kits.folders, "folders", "",
		"field after which the people's folders are named, such as uid (default the mail address)")
	c.Flags().StringArrayVar(&variants, "variant", nil, "variant to pack; may be given several times (default all)")
	c.Flags().StringSliceVar(&forms, "form", nil, "forms to pack, such as html,text (default all)")
	a.dayFlag(c, &date)
	return c
}

// spoolFolder is where a package's temporary files lie: beside it.
func spoolFolder(output string) string {
	if output == "-" {
		return ""
	}
	return filepath.Dir(output)
}

// chosenForms reads the values of --form.
func chosenForms(names []string) ([]compose.Form, error) {
	var forms []compose.Form
	for _, name := range names {
		if !slices.Contains(compose.Forms(), compose.Form(name)) {
			return nil, usage("--form %q is not known; it is %s", name, strings.Join(formNames()[:len(compose.Forms())], ", "))
		}
		forms = append(forms, compose.Form(name))
	}
	return forms, nil
}

// rows reads people one by one; rows that are left out are added to bad.
func rows(r *source.Reader, bad *[]source.RowError) iter.Seq2[*person.Person, error] {
	return func(yield func(*person.Person, error) bool) {
		for {
			p, err := r.Next()
			var row source.RowError
			switch {
			case errors.Is(err, io.EOF):
				return
			case errors.As(err, &row):
				*bad = append(*bad, row)
				continue
			}
			if !yield(&p.Person, err) || err != nil {
				return
			}
		}
	}
}
