// Package cli holds the commands. Each one translates between the command line and the core or the
// service and decides nothing by itself. Start with Run; one file for each command.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"missivum/core/check"
	"missivum/core/client"
	"missivum/core/compose"
	"missivum/core/person"
	"missivum/core/problem"
	"missivum/core/source"
	"missivum/core/template"
)

// Version is set by the build.
var Version = "development"

// Exit codes.
const (
	ExitFine     = 0
	ExitFindings = 1 // something breaks, or was refused
	ExitUsage    = 2
	ExitFailed   = 3 // could not run
)

// exitError carries an exit code; a nil err prints nothing.
type exitError struct {
	code int
	err  error
}

func (e exitError) Error() string {
	if e.err == nil {
		return ""
	}
	return e.err.Error()
}

func (e exitError) Unwrap() error { return e.err }

// usage marks an error as wrong usage.
func usage(format string, args ...any) error {
	return exitError{ExitUsage, fmt.Errorf(format, args...)}
}

// app is what the commands share: where they read and write, and the day.
type app struct {
	in       io.Reader
	out, err io.Writer
	now      func() time.Time
	profiles string // file or folder of the organisation's own client profiles
}

// Run runs one command line and returns its exit code.
func Run(ctx context.Context, args []string, in io.Reader, out, errs io.Writer) int {
	a := &app{in: in, out: out, err: errs, now: time.Now}
	root := a.root()
	root.SetArgs(args)
	err := root.ExecuteContext(ctx)
	if err == nil {
		return ExitFine
	}
	exit := exitOf(err)
	if exit.err != nil {
		fmt.Fprintln(errs, "missivum: "+exit.Error())
	}
	return exit.code
}

// statuses are the exit statuses of the kinds of problems: what is named wrongly is wrong usage, what is not accepted a
// finding, and what cannot be done here or now is a failure.
var statuses = map[problem.Kind]int{
	problem.Invalid: ExitUsage, problem.NotFound: ExitUsage, problem.Refused: ExitFindings, problem.Conflict: ExitFindings,
	problem.TooLarge: ExitFindings, problem.Gone: ExitFindings,
	problem.Busy: ExitFailed, problem.Unavailable: ExitFailed, problem.Full: ExitFailed,
}

// exitOf settles with which status an error ends the program.
func exitOf(err error) exitError {
	var exit exitError
	if errors.As(err, &exit) {
		return exit
	}
	if known, ok := problem.Of(err); ok {
		return exitError{statuses[known.Kind], err}
	}
	if unknown(err) {
		return exitError{ExitUsage, err}
	}
	return exitError{ExitFailed, err}
}

// unknown recognises the errors that cobra itself reports before a command runs.
func unknown(err error) bool {
	for _, start := range []string{"unknown command", "unknown flag", "unknown shorthand", "required flag", "accepts ", "requires at least"} {
		if strings.HasPrefix(err.Error(), start) {
			return true
		}
	}
	return false
}

// root is missivum itself, with the commands in groups: on files, for new templates, the service, against a service.
func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "missivum",
		Short: "HTML email signatures that survive every mail client",
		Long: `Missivum fills signature templates from a staff directory, finds what will go wrong in which mail client
and at which line, measures each client's limits for the person with the largest signature, and writes the
files for every desk and the blocks for mail hosts.`,
		Version:       Version,
		SilenceUsage:  true,
		SilenceErrors: true,
	}
	root.SetIn(a.in)
	root.SetOut(a.out)
	root.SetErr(a.err)
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return exitError{ExitUsage, err} })
	root.CompletionOptions.HiddenDefaultCmd = true
	root.PersistentFlags().StringVar(&a.profiles, "profiles", "", "file, or folder of .yaml files, with client profiles of your own")
	root.AddGroup(&cobra.Group{ID: "offline", Title: "On files:"}, &cobra.Group{ID: "new", Title: "A new template:"},
		&cobra.Group{ID: "desk", Title: "On a desk:"}, &cobra.Group{ID: "service", Title: "The service:"},
		&cobra.Group{ID: "online", Title: "Against a service:"})
	a.add(root, "offline", a.checkCommand(), a.fixCommand(), a.sheetCommand(), a.shrinkCommand(), a.fillCommand(),
		a.simulateCommand(), a.packCommand(), a.kitCommand(), a.blockCommand(), a.ruleCommand(), a.diagnoseCommand(), a.pictureCommand(),
		a.clientsCommand())
	a.add(root, "new", a.newCommand(), a.cleanCommand())
	a.add(root, "desk", a.deskCommand())
	a.add(root, "service", a.serveCommand(), a.demoCommand(), a.configCommand(), a.backupCommand(), a.restoreCommand(),
		a.doctorCommand(), a.gatewayCommand(), a.messageCommand())
	a.add(root, "online", a.signInCommand(), a.signOutCommand(), a.accountCommand(), a.organisationCommand(),
		a.recordCommand(), a.templateCommand(),
		a.peopleCommand(), a.sourceCommand(), a.keyCommand(), a.runCommand(),
		a.audienceCommand(), a.assignCommand(),
		a.packageCommand(), a.releaseCommand(), a.personalCommand(), a.addOnCommand())
	return root
}

// add puts commands into a group of the help text.
func (a *app) add(root *cobra.Command, group string, commands ...*cobra.Command) {
	for _, c := range commands {
		c.GroupID = group
		root.AddCommand(c)
	}
}

// exactly wants n arguments and says which.
func exactly(names ...string) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		if len(args) != len(names) {
			return usage("%s needs %s; %d given. Example:\n%s", c.CommandPath(), strings.Join(names, " and "), len(args), c.Example)
		}
		return nil
	}
}

// dayFlag adds --date, the day for which dated slots are decided.
func (a *app) dayFlag(c *cobra.Command, into *string) {
	c.Flags().StringVar(into, "date", "", "day for which dated pieces are decided, such as 2026-12-24 (default today)")
}

// day is the day that a flag names, or today. It decides which dated pieces of a template are in force.
func (a *app) day(flag string) (time.Time, error) {
	if flag == "" {
		return a.now(), nil
	}
	day, err := time.Parse(time.DateOnly, flag)
	if err != nil {
		return time.Time{}, usage("--date %q is not a date; write it as 2026-12-24", flag)
	}
	return day, nil
}

// templateFlags are the flags of commands that work on a template with people.
type templateFlags struct {
	people        peopleFlags
	variant, date string
}

// templateFlags adds the flags with which most commands find template, people, person, variant and day.
func (a *app) templateFlags(c *cobra.Command, f *templateFlags) {
	f.people.add(c)
	a.dayFlag(c, &f.date)
}

// loaded is what the arguments of such a command lead to.
type loaded struct {
	template *template.Template
	source   string            // path of the HTML, as an editor would open it
	people   *person.Directory // nil when none was given
	schema   *person.Schema
	variant  string
	day      time.Time
}

// load reads the template and the people, and settles variant and day.
func (a *app) load(path string, f templateFlags) (loaded, error) {
	var l loaded
	var err error
	if l.day, err = a.day(f.date); err != nil {
		return l, err
	}
	if l.template, err = openTemplate(path); err != nil {
		return l, err
	}
	l.source = path
	if !l.template.Bare {
		l.source = filepath.Join(path, template.SourceFile)
	}
	for _, note := range l.template.Notes {
		a.note(path, note)
	}
	l.variant = f.variant
	if l.variant == "" {
		l.variant = l.template.Variants()[0]
	}
	if err := compose.CheckVariant(l.template, l.variant); err != nil {
		return l, usage("%w", err)
	}
	f.people.known = l.template.Settings.Fields
	if l.people, err = a.openPeople(f.people); err != nil {
		return l, err
	}
	l.schema = person.NewSchema()
	if l.people != nil {
		l.schema = l.people.Schema
	}
	return l, nil
}

// note says on standard error what should be known of a file; nothing where there is nothing to say.
func (a *app) note(file, note string) {
	if note != "" {
		fmt.Fprintf(a.err, "%s: %s\n", file, note)
	}
}

// loadForClients is load with the profiles of the ids, and what the checks look at.
func (a *app) loadForClients(path string, f templateFlags, ids []string) (loaded, check.Input, error) {
	profiles, err := a.findClients(ids)
	if err != nil {
		return loaded{}, check.Input{}, err
	}
	l, err := a.load(path, f)
	return l, check.Input{Template: l.template, People: l.people, Profiles: profiles, Day: l.day}, err
}

// openTemplate reads a template folder or a single HTML file.
func openTemplate(path string) (*template.Template, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, fmt.Errorf("the template cannot be read: %w", err)
	}
	dir, file := filepath.Split(filepath.Clean(path))
	if info.IsDir() {
		if file == "." || file == ".." || file == "" {
			file = "template"
		}
		t, err := template.Open(os.DirFS(path), file)
		if err != nil {
			return nil, fmt.Errorf("the template %s cannot be read: %w", path, err)
		}
		return t, nil
	}
	if dir == "" {
		dir = "."
	}
	t, err := template.OpenBare(os.DirFS(dir), file)
	if err != nil {
		return nil, fmt.Errorf("the template %s cannot be read: %w", path, err)
	}
	return t, nil
}

// peopleFlags are --people, --mapping and --column, which say where the directory is and how to read it.
type peopleFlags struct {
	file string
	columnFlags
	known []string // fields beside the standard ones that a heading may name
}

// add puts the flags on a command.
func (f *peopleFlags) add(c *cobra.Command) {
	c.Flags().StringVar(&f.file, "people", "", "directory: CSV, LDIF or vCards")
	f.columnFlags.add(c)
}

// columnFlags say which fields the columns of a CSV file are.
type columnFlags struct {
	mapping string
	mapped  []string
}

// add puts the flags on a command.
func (f *columnFlags) add(c *cobra.Command) {
	c.Flags().StringArrayVar(&f.mapped, "column", nil, `field for a column of the CSV, such as "Adresse=street"; "Notes=" leaves it out`)
	c.Flags().StringVar(&f.mapping, "mapping", "",
		"file that says which fields the columns are (default people"+source.MappingSuffix+" beside people.csv, if it is there)")
}

// read gives the mapping for a CSV file: that of a mapping file, with the values of --column over it.
func (f *columnFlags) read(csv string) (source.Mapping, error) {
	var mapping source.Mapping
	file := f.mapping
	if file == "" {
		file = strings.TrimSuffix(csv, filepath.Ext(csv)) + source.MappingSuffix
	}
	data, err := os.ReadFile(file)
	switch {
	case err == nil:
		beside := func(name string) ([]byte, error) {
			return os.ReadFile(filepath.Join(filepath.Dir(file), filepath.Base(name)))
		}
		if mapping, err = source.ReadMapping(data, beside); err != nil {
			return mapping, fmt.Errorf("%s: %w", file, err)
		}
	case f.mapping != "" || !errors.Is(err, fs.ErrNotExist):
		return mapping, fmt.Errorf("the mapping cannot be read: %w", err)
	}
	for _, m := range f.mapped {
		heading, field, ok := strings.Cut(m, "=")
		if !ok || heading == "" {
			return mapping, usage("--column %q must be the column's heading, = and the field, such as \"Adresse=street\"", m)
		}
		if mapping.Columns == nil {
			mapping.Columns = map[string]string{}
		}
		mapping.Columns[heading] = field
	}
	return mapping, nil
}

// open opens the directory file for reading row by row.
func (f *peopleFlags) open() (*source.Reader, io.Closer, error) {
	mapping, err := f.read(f.file)
	if err != nil {
		return nil, nil, err
	}
	file, err := os.Open(f.file)
	if err != nil {
		return nil, nil, fmt.Errorf("the people cannot be read: %w", err)
	}
	reader, err := source.Open(file, source.Reading{Mapping: mapping, Known: f.known})
	if err != nil {
		return nil, nil, errors.Join(fmt.Errorf("%s: %w", f.file, err), file.Close())
	}
	return reader, file, nil
}

// openPeople reads a directory file and reports on stderr which rows were left out. Without a file it
// gives nil.
func (a *app) openPeople(f peopleFlags) (*person.Directory, error) {
	if f.file == "" {
		return nil, nil
	}
	reader, file, err := f.open()
	if err != nil {
		return nil, err
	}
	defer file.Close()
	a.note(f.file, reader.Note())
	d, bad, err := reader.All()
	if err != nil {
		return nil, fmt.Errorf("%s: %w", f.file, err)
	}
	a.reportRows(f.file, bad)
	return d, nil
}

// rowsShown is how many bad rows are listed one by one.
const rowsShown = 10

// reportRows lists the rows of a CSV file that were left out; the first of them, when there are many.
func (a *app) reportRows(path string, bad []source.RowError) {
	for i, row := range bad {
		if i == rowsShown {
			fmt.Fprintf(a.err, "%s: %d more rows left out\n", path, len(bad)-rowsShown)
			return
		}
		fmt.Fprintf(a.err, "%s: %v; left out\n", path, row)
	}
}

// findPerson gives the person with a mail address.
func findPerson(d *person.Directory, mail string) (*person.Person, error) {
	i, err := d.Named(mail)
	if err != nil {
		return nil, err
	}
	return &d.People[i], nil
}

// book is the profiles that come with the program with those of --profiles over them.
func (a *app) book() (client.Book, error) {
	book := client.Book(client.Shipped())
	if a.profiles == "" {
		return book, nil
	}
	info, err := os.Stat(a.profiles)
	if err != nil {
		return nil, fmt.Errorf("the profiles cannot be read: %w", err)
	}
	names := []string{a.profiles}
	if info.IsDir() {
		if names, err = filepath.Glob(filepath.Join(a.profiles, "*.yaml")); err != nil {
			return nil, err
		}
	}
	files := map[string][]byte{}
	for _, name := range names {
		if files[name], err = os.ReadFile(name); err != nil {
			return nil, fmt.Errorf("the profile cannot be read: %w", err)
		}
	}
	return book.With(files)
}

// findClients returns the profiles with the ids, for none all that are not switched off; an unknown one is wrong
// usage.
func (a *app) findClients(ids []string) ([]*client.Profile, error) {
	book, err := a.book()
	if err != nil {
		return nil, err
	}
	list, err := book.Select(ids)
	if err != nil {
		return nil, exitError{ExitUsage, err}
	}
	return list, nil
}

// terminal reports whether a writer is a terminal, where colour and progress make sense.
func terminal(w io.Writer) bool {
	f, ok := w.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// colour wraps text in a terminal colour unless the output is no terminal or NO_COLOR is set.
func (a *app) colour(code, text string) string {
	if !terminal(a.out) || os.Getenv("NO_COLOR") != "" {
		return text
	}
	return "\x1b[" + code + "m" + text + "\x1b[0m"
}
