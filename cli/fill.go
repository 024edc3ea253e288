package cli

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"missivum/core/compose"
	"missivum/core/person"
	"missivum/core/problem"
)

// setForm is what --form takes beside the forms: the three formats that some clients read side by side.
const setForm = "set"

// fillFlags are the flags of fill beside those of every command on a template.
type fillFlags struct {
	templateFlags
	mail, form, output, base string
	keepHeader, newHeader    bool
	replace                  bool
}

// fillCommand is missivum fill: one person's signature in one form. Nothing that is there is replaced without --replace.
func (a *app) fillCommand() *cobra.Command {
	var flags fillFlags
	c := &cobra.Command{
		Use:   "fill TEMPLATE",
		Short: "Fill a template for one person",
		Long: "Writes the signature of one person in one of the forms:\n" + formList() + `
  set       html, rtf and text with one base name in a folder, the pictures in a folder beside them`,
		Example: "  missivum fill demo/templates/harbour --people demo/people.csv --person maren.lind@brackwater.example --form text",
		Args:    exactly("TEMPLATE"),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := flags.complete(); err != nil {
				return err
			}
			l, err := a.load(args[0], flags.templateFlags)
			if err != nil {
				return err
			}
			p, err := findPerson(l.people, flags.mail)
			if err != nil {
				return err
			}
			if flags.form == setForm {
				return a.fillSet(l, p, flags)
			}
			s, err := compose.Compile(compose.Source{Template: l.template, Schema: l.schema, Day: l.day,
				Variants: []string{l.variant}}, compose.Form(flags.form))
			if err != nil {
				return mistakes(l.source, err)
			}
			return a.fillOne(s, l, p, flags)
		},
	}
	a.templateFlags(c, &flags.templateFlags)
	c.Flags().StringVar(&flags.mail, "person", "", "mail address of the person")
	c.Flags().StringVar(&flags.form, "form", "html", strings.Join(formNames(), ", "))
	c.Flags().StringVar(&flags.variant, "variant", "", "variant, such as new or reply (default the template's first)")
	c.Flags().StringVarP(&flags.output, "output", "o", "", "file to write (default standard output); for a set the folder")
	c.Flags().StringVar(&flags.base, "base", "", "base name of a set's files (default the template's name and the variant)")
	c.Flags().BoolVar(&flags.keepHeader, "keep-header", false, "with the form mime: replace only the body of the file that is there")
	c.Flags().BoolVar(&flags.newHeader, "new-header", false,
		"with the form mime and --replace: write new header lines too; without it those of the file that is there stay")
	c.Flags().BoolVar(&flags.replace, "replace", false,
		"replace the file that is there, with the form set all of them; a read-only file stays read-only")
	return c
}

// formNames are the forms that --form takes, with set, which is several files.
func formNames() []string {
	var names []string
	for _, f := range compose.Forms() {
		names = append(names, string(f))
	}
	return append(names, setForm)
}

// formList describes the forms for a command's help.
func formList() string {
	var b strings.Builder
	for _, info := range compose.FormInfos() {
		fmt.Fprintf(&b, "\n  %-9s %s", info.Form, info.About)
	}
	return b.String()
}

// complete refuses flags that do not go together.
func (f *fillFlags) complete() error {
	switch {
	case !slices.Contains(formNames(), f.form):
		return usage("--form %q is not known; it is %s", f.form, strings.Join(formNames(), ", "))
	case f.people.file == "" || f.mail == "":
		return usage("fill needs --people and --person")
	case f.form == setForm && (f.output == "" || f.output == "-"):
		return usage("a set needs --output with the folder to write it into")
	case f.keepHeader && (f.form != string(compose.MIME) || f.output == "" || f.output == "-"):
		return usage("--keep-header goes with --form mime and an existing file in --output")
	case f.newHeader && (f.keepHeader || f.form != string(compose.MIME)):
		return usage("--new-header goes with --form mime, and not with --keep-header")
	}
	return nil
}

// fillOne writes one form to standard output or into a file. Where a MIME part is there already its header lines stay,
// unless new ones are asked for.
func (a *app) fillOne(s *compose.Signature, l loaded, p *person.Person, flags fillFlags) error {
	form := compose.Form(flags.form)
	out := s.Fill(l.variant, form, p)
	existing, err := os.ReadFile(flags.output)
	kept := flags.keepHeader || form == compose.MIME && flags.replace && !flags.newHeader && err == nil
	if kept {
		if err != nil {
			return fmt.Errorf("the file whose header is to be kept: %w", err)
		}
		if out, err = compose.ReplaceBody(existing, s.HostedPage(l.variant, p)); err != nil {
			return exitError{ExitFindings, fmt.Errorf("%s: %w; --new-header writes new header lines", flags.output, err)}
		}
	}
	if err := replaceable(flags.output, flags.replace || flags.keepHeader); err != nil {
		return err
	}
	return a.writeFile(flags.output, func(w io.Writer) error {
		_, err := w.Write(withNewline(out))
		return err
	})
}

// fillSet writes the three formats and their pictures. Nothing is written when one of the files is there
// already, unless it may be replaced.
func (a *app) fillSet(l loaded, p *person.Person, flags fillFlags) error {
	files, err := compose.SetFiles(l.template, l.schema, l.day, l.variant, flags.base, p)
	if problem.Is(err, problem.Invalid) {
		return err
	}
	if err != nil {
		return mistakes(l.source, err)
	}
	names := slices.Sorted(maps.Keys(files))
	for _, name := range names {
		if err := replaceable(filepath.Join(flags.output, filepath.FromSlash(name)), flags.replace); err != nil {
			return err
		}
	}
	for _, name := range names {
		path := filepath.Join(flags.output, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
		err := a.writeFile(path, func(w io.Writer) error {
			_, err := w.Write(files[name])
			return err
		})
		if err != nil {
			return err
		}
		fmt.Fprintf(a.out, "%s: %s bytes\n", path, grouped(len(files[name])))
	}
	return nil
}

// replaceable refuses to write over a file that is there, unless that is asked for.
func replaceable(path string, replace bool) error {
	if path == "" || path == "-" || replace {
		return nil
	}
	if _, err := os.Stat(path); !errors.Is(err, fs.ErrNotExist) {
		return problem.New(problem.Conflict, "%s is there already; give --replace to replace it", path)
	}
	return nil
}

// mistakes puts the file's name before the mistakes of a template, which is refused.
func mistakes(source string, err error) error {
	lines := strings.Split(err.Error(), "\n")
	return exitError{ExitFindings, fmt.Errorf("%s is not filled:\n  %s", source, strings.Join(lines, "\n  "))}
}

// withNewline ends a text with a line end, for a terminal.
func withNewline(b []byte) []byte {
	if len(b) > 0 && b[len(b)-1] != '\n' {
		return append(b, '\n')
	}
	return b
}
