package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	udiff "github.com/aymanbagabas/go-udiff"
	"github.com/spf13/cobra"

	"missivum/core/check"
	"missivum/core/fix"
	"missivum/core/template"
	"missivum/service/files"
)

// fixCommand is missivum fix. The difference goes to standard output, so that it can be read or applied elsewhere.
func (a *app) fixCommand() *cobra.Command {
	var flags templateFlags
	var all, dry bool
	var clients, except []string
	c := &cobra.Command{
		Use:   "fix TEMPLATE [CHECK ...]",
		Short: "Fix findings in the source",
		Long: `Fixes the source. Each fix is the smallest edit that does it and leaves every other byte alone; the result is
checked again, and a fix that would cause a new finding is not made. With --all, every fix that is safe in all clients
is made. Checks that are named are fixed even where the fix costs something; the cost is reported. The changes are
written as a unified diff; with --dry-run nothing else is written. Some fixes make picture files: fitted, cut or
outlined. The file from before is kept beside the new one, with the ending .before.`,
		Example: "  missivum fix demo/templates/regatta --all --dry-run --people demo/people.csv",
		Args:    cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			ids := args[1:]
			if all == (len(ids) > 0) {
				return usage("fix needs --all or the names of checks, and not both")
			}
			if len(except) > 0 && !all {
				return usage("--except goes with --all")
			}
			for _, id := range slices.Concat(ids, except) {
				if check.Find(id) == nil {
					return usage("there is no check %q; missivum check names those that found something", id)
				}
			}
			l, in, err := a.loadForClients(args[0], flags, clients)
			if err != nil {
				return err
			}
			return a.fix(cmd.Context(), l, in, fix.Options{Checks: ids, Except: except, At: -1}, dry)
		},
	}
	a.templateFlags(c, &flags)
	c.Flags().BoolVar(&all, "all", false, "make every fix that is safe in all clients")
	c.Flags().StringSliceVar(&except, "except", nil, "checks whose findings stay as they are, with commas between; with --all")
	c.Flags().BoolVar(&dry, "dry-run", false, "only write the difference")
	c.Flags().StringArrayVar(&clients, "client", nil, "client profile to fix for; may be given several times (default all)")
	return c
}

// fix makes the fixes and writes what they change, unless dry is set. Sources and pictures that are replaced are kept
// beside the new ones.
func (a *app) fix(ctx context.Context, l loaded, in check.Input, o fix.Options, dry bool) error {
	bar := a.progress("trying fixes, findings settled", 0)
	o.Progress = bar.done
	r, err := fix.Run(ctx, in, o)
	bar.end()
	if err != nil {
		return err
	}
	settings := filepath.Join(filepath.Dir(l.source), template.SettingsFile)
	difference := udiff.Unified(l.source, l.source+" (fixed)", l.template.Source, r.Source) +
		udiff.Unified(settings, settings+" (fixed)", l.template.SettingsText, r.Settings)
	if _, err := io.WriteString(a.out, difference); err != nil {
		return err
	}
	for _, d := range r.Done {
		costs := ""
		if d.Costs != "" {
			costs = " This costs something: " + d.Costs + "."
		}
		fmt.Fprintf(a.err, "%s:%d:%d  %s: %s.%s\n", l.source, d.Line, d.Column, d.Check, d.Title, costs)
	}
	for _, d := range r.Refused {
		fmt.Fprintf(a.err, "%s:%d:%d  %s: not done (%s): %s\n", l.source, d.Line, d.Column, d.Check, d.Title, d.Why)
	}
	left := 0
	for _, f := range r.Findings {
		if f.Fix == nil {
			left++
		}
	}
	said := plural(len(r.Done), "fix", "fixes") + " made"
	if dry {
		said = plural(len(r.Done), "fix", "fixes") + " can be made"
	}
	fmt.Fprintf(a.err, "%s: %s in %s; %s left, %d of them must be fixed by hand.\n", l.template.Name, said,
		plural(r.Rounds, "round", "rounds"), plural(len(r.Findings), "finding is", "findings are"), left)
	folder := filepath.Join(filepath.Dir(l.source), template.PictureFolder)
	for _, file := range slices.Sorted(maps.Keys(r.Pictures)) {
		made := "is made"
		if dry {
			made = "would be made"
		}
		fmt.Fprintf(a.err, "%s %s: %s bytes.%s\n", filepath.Join(folder, file), made, grouped(len(r.Pictures[file])), whereHosted(l.template))
	}
	if dry {
		return nil
	}
	if err := writePictures(folder, r.Pictures); err != nil {
		return err
	}
	if r.Settings != l.template.SettingsText {
		if err := keepAndWrite(settings, l.template.SettingsText, r.Settings); err != nil {
			return err
		}
	}
	if r.Source == l.template.Source {
		return nil
	}
	return keepAndWrite(l.source, l.template.Source, r.Source)
}

// whereHosted reminds of the copy of a picture that readers get.
func whereHosted(t *template.Template) string {
	if address, _ := t.Hosting(); address != "" {
		return " Upload it to " + address + " before the signature goes out."
	}
	return ""
}

// writePictures writes the pictures that fixes made; one that is replaced stays in a folder with the
// ending .before, which is none of the template's.
func writePictures(folder string, pictures map[string][]byte) error {
	if len(pictures) == 0 {
		return nil
	}
	if err := os.MkdirAll(folder, 0o755); err != nil { //nolint:gosec // a template's folder is for everybody to read
		return err
	}
	for _, file := range slices.Sorted(maps.Keys(pictures)) {
		path := filepath.Join(folder, filepath.FromSlash(file))
		if old, err := os.ReadFile(path); err == nil {
			kept := filepath.Join(folder+".before", filepath.FromSlash(file))
			if err := errors.Join(os.MkdirAll(filepath.Dir(kept), 0o755),
				files.WriteBytes(kept, old)); err != nil { //nolint:gosec // as the template's folder
				return fmt.Errorf("keeping %s as it was: %w", file, err)
			}
		}
		if err := files.WriteBytes(path, pictures[file]); err != nil {
			return fmt.Errorf("writing %s: %w", path, err)
		}
	}
	return nil
}

// keepAndWrite puts the old source beside the new one, so that one can go back.
func keepAndWrite(path, before, after string) error {
	if err := files.WriteBytes(path+".before", []byte(before)); err != nil {
		return fmt.Errorf("keeping %s as it was: %w", filepath.Base(path), err)
	}
	if data, err := os.ReadFile(path); err == nil && strings.HasPrefix(string(data), "\ufeff") {
		after = "\ufeff" + after
	}
	if err := files.WriteBytes(path, []byte(after)); err != nil {
		return fmt.Errorf("writing %s: %w", path, err)
	}
	return nil
}
