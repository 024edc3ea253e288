package cli

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"missivum/core/adopt"
	"missivum/core/lift"
	"missivum/core/template"
)

func (a *app) liftCommand() *cobra.Command {
	var flags templateFlags
	var mail, output string
	var answers []string
	c := &cobra.Command{
		Use:   "lift FILE",
		Short: "Make a template of a finished signature",
		Long: `Finds the values of a known person in a finished signature, in whatever spacing, letter case, telephone
format or spelling, and puts fields in their place. Then fills the template for that person and tells where
it differs from the original. What could be meant otherwise is asked about on a terminal, or answered with
--answer; else the likeliest is taken and told.`,
		Example: "  missivum lift signature.html --people demo/people.csv --person maren.lind@brackwater.example -o lifted",
		Args:    exactly("FILE"),
		RunE: func(_ *cobra.Command, args []string) error {
			if flags.people.file == "" || mail == "" {
				return usage("lift needs --people and --person")
			}
			in, adopted, err := a.liftInput(args[0], flags, mail)
			if err != nil {
				return err
			}
			if in.Answers, err = parseAnswers(answers); err != nil {
				return err
			}
			r, err := lift.Lift(in)
			if err == nil && a.asks() {
				in.Answers = a.ask(r.Questions, in.Answers)
				r, err = lift.Lift(in)
			}
			if err != nil {
				return fmt.Errorf("%s: %w", args[0], err)
			}
			a.tellLifted(args[0], adopted, r)
			return a.writeParts(output, r.Parts)
		},
	}
	a.templateFlags(c, &flags)
	c.Flags().StringVar(&mail, "person", "", "mail address of the person whose signature it is")
	c.Flags().StringArrayVar(&answers, "answer", nil, `what is meant at a place, such as "12:4=l"; "12:4=" leaves the text`)
	c.Flags().StringVarP(&output, "output", "o", "", "folder to write the template into (default its source on standard output)")
	return c
}

// liftInput reads the signature and the directory.
func (a *app) liftInput(file string, flags templateFlags, mail string) (lift.Input, adopt.Adopted, error) {
	data, err := os.ReadFile(file)
	if err != nil {
		return lift.Input{}, adopt.Adopted{}, fmt.Errorf("the signature cannot be read: %w", err)
	}
	adopted, err := adopt.Page(data, os.DirFS(filepath.Dir(file)))
	if err != nil {
		return lift.Input{}, adopted, fmt.Errorf("%s: %w", file, err)
	}
	in := lift.Input{Parts: adopted.Parts}
	if in.Day, err = a.day(flags.date); err != nil {
		return in, adopted, err
	}
	if in.People, err = a.openPeople(flags.people); err != nil {
		return in, adopted, err
	}
	in.Person, err = findPerson(in.People, mail)
	return in, adopted, err
}

func parseAnswers(answers []string) (map[string]string, error) {
	read := map[string]string{}
	for _, answer := range answers {
		place, expr, ok := strings.Cut(answer, "=")
		if !ok || !strings.Contains(place, ":") {
			return nil, usage("--answer %q must be line, colon, column, = and the field, such as \"12:4=l\"", answer)
		}
		read[place] = expr
	}
	return read, nil
}

// asks reports whether somebody is there to be asked.
func (a *app) asks() bool {
	f, ok := a.in.(*os.File)
	return ok && term.IsTerminal(int(f.Fd())) && terminal(a.err)
}

// ask asks about every question that has no answer yet.
func (a *app) ask(questions []lift.Question, answers map[string]string) map[string]string {
	for _, q := range questions {
		if _, ok := answers[q.ID]; ok {
			continue
		}
		fmt.Fprintf(a.err, "Line %d: %q in \"%s\" is\n", q.Line, q.Text, q.Context)
		for i, choice := range q.Choices {
			fmt.Fprintf(a.err, "  %d  %s\n", i+1, choiceName(choice))
		}
		fmt.Fprintf(a.err, "Number (1): ")
		n := 1
		fmt.Fscanln(a.in, &n) // what is no number takes the first
		answers[q.ID] = q.Choices[min(max(n, 1), len(q.Choices))-1]
	}
	return answers
}

func choiceName(expr string) string {
	if expr == "" {
		return "text, the same for everybody"
	}
	return "{{ " + expr + " }}"
}

func (a *app) tellLifted(file string, adopted adopt.Adopted, r lift.Result) {
	for _, f := range r.Found {
		fmt.Fprintf(a.err, "%s:%d:%d  %q is {{ %s }}\n", file, f.Line, f.Column, f.Text, f.Expression)
	}
	for _, q := range r.Questions {
		var others []string
		for _, c := range q.Choices {
			if c != q.Chosen {
				others = append(others, fmt.Sprintf("--answer %q", q.ID+"="+c))
			}
		}
		fmt.Fprintf(a.err, "%s:%d:%d  %q in \"%s\" is taken as %s; otherwise give %s\n", file, q.Line, q.Column, q.Text, q.Context, choiceName(q.Chosen), strings.Join(others, " or "))
	}
	if len(r.NotFound) > 0 {
		fmt.Fprintf(a.err, "Not found in the signature: %s\n", strings.Join(r.NotFound, ", "))
	}
	for _, missing := range adopted.Missing {
		fmt.Fprintf(a.err, "The picture %s did not come along\n", missing)
	}
	for _, d := range r.Differences {
		fmt.Fprintf(a.err, "Differs: the %s %q becomes %q\n", d.What, d.Original, d.Filled)
	}
	same := "the same text and links as the original"
	if n := len(r.Differences); n > 0 {
		same = plural(n, "difference", "differences") + " from the original"
	}
	fmt.Fprintf(a.err, "%s found; filled for the same person: %s\n", plural(len(r.Found), "value", "values"), same)
}

// writeParts writes a template's folder, or without one its source on standard output.
func (a *app) writeParts(folder string, parts template.Parts) error {
	if folder == "" {
		_, err := io.WriteString(a.out, parts.Source)
		return err
	}
	t, err := template.New("template", parts)
	if err != nil {
		return err
	}
	if err := newFolder(folder, t); err != nil {
		return err
	}
	fmt.Fprintf(a.out, "%s: %s, %s, %s\n", folder, template.SourceFile, template.SettingsFile, plural(len(t.Pictures), "picture", "pictures"))
	return nil
}

// newFolder writes a template's folder where there is none yet.
func newFolder(folder string, t *template.Template) error {
	if _, err := os.Stat(folder); err == nil {
		return fmt.Errorf("%s exists already; name another folder with -o", folder)
	}
	return writeFolder(folder, t)
}
