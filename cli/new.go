package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"missivum/core/clean"
	"missivum/core/create"
	"missivum/core/markup"
	"missivum/core/person"
	"missivum/core/recognise"
	"missivum/core/starter"
	"missivum/core/template"
)

// newFlags are the flags of new: what the template is made of, and whose signature it is.
type newFlags struct {
	people                         peopleFlags
	starter, page, signature, mail string
	output, date                   string
	answers                        []string
	clean                          bool
}

// newCommand is missivum new: a template's folder from a starter, a page or a signature. It never writes into a
// folder that exists.
func (a *app) newCommand() *cobra.Command {
	var flags newFlags
	c := &cobra.Command{
		Use:   "new",
		Short: "Make a new template from a starter, a page or a finished signature",
		Long: `Makes the folder of a new template in one of three ways.

  --starter NAME     copies one of the starters; without any of the three, the starters are listed
  --page FILE        takes a page or a fragment, also one that was saved with its pictures in one file (RFC 2557):
                     the character set is recognised, the head's styles are kept, and the pictures that come
                     along, in the file or written into the source, become files of the template
  --signature FILE   takes somebody's finished signature: the values of the person named with --person are found in
                     whatever spacing, letter case, telephone format or spelling, and fields take their place. The
                     template is then filled for that person, and differences from the original are reported.
                     Where a value could mean two fields, you are asked on a terminal or answer with --answer;
                     otherwise the likeliest is taken and reported.`,
		Example: "  missivum new --starter columns -o signature\n" +
			"  missivum new --page old-page.html --clean -o imported\n" +
			"  missivum new --signature mine.html --people demo/people.csv --person maren.lind@brackwater.example -o mine",
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error { return a.create(flags) },
	}
	c.Flags().StringVar(&flags.starter, "starter", "", "name of a starter")
	c.Flags().StringVar(&flags.page, "page", "", "page or fragment")
	c.Flags().StringVar(&flags.signature, "signature", "", "finished signature of the person named with --person")
	flags.people.add(c)
	a.dayFlag(c, &flags.date)
	c.Flags().StringVar(&flags.mail, "person", "", "mail address of the person whose signature it is")
	c.Flags().StringArrayVar(&flags.answers, "answer", nil, `what is meant at a place, such as "12:4=l"; "12:4=" leaves the text`)
	c.Flags().BoolVar(&flags.clean, "clean", false, "clean the source of a page or signature too")
	c.Flags().StringVarP(&flags.output, "output", "o", "",
		"folder to write the template into (default the source on standard output, a starter's name for a starter)")
	return c
}

// create makes the template that the flags ask for.
func (a *app) create(flags newFlags) error {
	in, err := a.createInput(flags)
	if err != nil {
		return err
	}
	file := flags.page + flags.signature
	if in.Starter == "" && file == "" {
		return a.listStarters()
	}
	r, err := create.From(in)
	if err == nil && r.Recognised != nil && a.asks() {
		in.Answers = a.ask(r.Recognised.Questions, in.Answers)
		r, err = create.From(in)
	}
	if errors.Is(err, create.ErrSource) {
		return usage("%w", err)
	}
	if err != nil {
		return fmt.Errorf("%s: %w", file, err)
	}
	if in.Starter != "" && flags.output == "" {
		flags.output = in.Starter
	}
	a.reportCreated(file, r)
	return a.writeParts(flags.output, r.Parts)
}

// createInput settles what the template is made of.
func (a *app) createInput(flags newFlags) (create.Input, error) {
	in := create.Input{Starter: flags.starter}
	var err error
	ways := 0
	for _, way := range []string{flags.starter, flags.page, flags.signature} {
		if way != "" {
			ways++
		}
	}
	switch {
	case ways > 1:
		return in, usage("give one of --starter, --page and --signature")
	case flags.signature != "" && (flags.people.file == "" || flags.mail == ""):
		return in, usage("--signature needs --people and --person")
	case flags.signature == "" && flags.mail != "":
		return in, usage("--person goes with --signature")
	case flags.clean && flags.page+flags.signature == "":
		return in, usage("--clean goes with --page or --signature")
	}
	if flags.starter != "" {
		return in, knownStarter(flags.starter)
	}
	if in.Answers, err = parseAnswers(flags.answers); err != nil {
		return in, err
	}
	if in.Day, err = a.day(flags.date); err != nil {
		return in, err
	}
	if file := flags.page + flags.signature; file != "" {
		if in.Page, err = os.ReadFile(file); err != nil {
			return in, fmt.Errorf("the page cannot be read: %w", err)
		}
		in.Files = os.DirFS(filepath.Dir(file))
	}
	if flags.clean {
		in.Clean = &clean.Options{}
	}
	if flags.signature == "" {
		return in, nil
	}
	if in.People, err = a.openPeople(flags.people); err != nil {
		return in, err
	}
	_, err = findPerson(in.People, flags.mail)
	in.Person = flags.mail
	return in, err
}

// knownStarter refuses a name that no starter has and says which come near.
func knownStarter(name string) error {
	names, err := starter.Names()
	if err != nil {
		return err
	}
	for _, n := range names {
		if n == name {
			return nil
		}
	}
	if near := person.Nearest(name, names); len(near) > 0 {
		return usage("there is no starter %q; there is %s", name, strings.Join(near, ", "))
	}
	return usage("there is no starter %q; there are %s", name, strings.Join(names, ", "))
}

// listStarters says which starters there are, for who calls missivum new without saying from what.
func (a *app) listStarters() error {
	all, err := starter.All()
	if err != nil {
		return err
	}
	var rows [][]string
	for _, t := range all {
		rows = append(rows, []string{t.Name, t.Settings.About})
	}
	printTable(a.out, []string{"Starter", "About"}, rows)
	fmt.Fprintln(a.err, "Give one with --starter, or --page or --signature with a file.")
	return nil
}

// parseAnswers reads answers such as 12:4=l: what is meant at line 12, column 4.
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
func (a *app) ask(questions []recognise.Question, answers map[string]string) map[string]string {
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

// choiceName is how a choice is shown to who is asked.
func choiceName(expr string) string {
	if expr == "" {
		return "text, the same for everybody"
	}
	return "{{ " + expr + " }}"
}

// reportCreated says on standard error how the template came about.
func (a *app) reportCreated(file string, r create.Result) {
	if r.Cleaned != nil {
		a.reportCleaned(file, *r.Cleaned)
	}
	a.note(file, r.Charset.Note())
	if len(r.Pictures) > 0 {
		fmt.Fprintf(a.err, "%s: with the pictures %s\n", file, strings.Join(r.Pictures, ", "))
	}
	for _, missing := range r.Missing {
		fmt.Fprintf(a.err, "The picture %s did not come along; its address stays as it is\n", missing)
	}
	if r.Recognised != nil {
		a.reportRecognised(file, *r.Recognised)
	}
}

// reportRecognised says which values became fields, what was decided and not asked, and where the filled template differs
// from the original.
func (a *app) reportRecognised(file string, r recognise.Result) {
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
		fmt.Fprintf(a.err, "%s:%d:%d  %q in \"%s\" is taken as %s; otherwise give %s\n",
			file, q.Line, q.Column, q.Text, q.Context, choiceName(q.Chosen), strings.Join(others, " or "))
	}
	for _, left := range r.Remaining {
		fmt.Fprintf(a.err, "%s  stays for everybody: %q (%s), in %s\n", placeOf(template.SourceFile, left.Place), left.Text,
			left.What, left.Where)
	}
	if len(r.NotFound) > 0 {
		fmt.Fprintf(a.err, "Not found in the signature: %s\n", strings.Join(r.NotFound, ", "))
	}
	for _, d := range r.Differences {
		fmt.Fprintf(a.err, "Differs: the %s %q becomes %q\n", d.What, d.Original, d.Filled)
	}
	if n := len(r.Remaining); n > 0 {
		fmt.Fprintf(a.err, "Before it goes to anybody else: look at the %s above and put fields in their place, or take them out\n",
			plural(n, "thing", "things"))
	}
	same := "the same text and links as the original"
	if n := len(r.Differences); n > 0 {
		same = plural(n, "difference", "differences") + " from the original"
	}
	fmt.Fprintf(a.err, "%s found; filled for the same person: %s\n", plural(len(r.Found), "value", "values"), same)
}

// placeOf is a place in a file; the file alone where it is not in the source.
func placeOf(file string, p markup.Place) string {
	if p.Line == 0 {
		return file
	}
	return fmt.Sprintf("%s:%d:%d", file, p.Line, p.Column)
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
	fmt.Fprintf(a.out, "%s: %s\n", folder, plural(len(t.Files()), "file", "files"))
	return nil
}

// newFolder writes a template's folder where there is none yet.
func newFolder(folder string, t *template.Template) error {
	if _, err := os.Stat(folder); err == nil {
		return fmt.Errorf("%s exists already; name another folder with -o", folder)
	}
	return writeFolder(folder, t)
}
