package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"missivum/core/audience"
	"missivum/core/field"
	"missivum/core/message"
	"missivum/core/rule"
	"missivum/core/template"
)

// ruleCommand is missivum rule: mail rules on files, and in a service.
func (a *app) ruleCommand() *cobra.Command {
	server := new(string)
	c := &cobra.Command{Use: "rule", Short: "See what mail rules do with messages, and why; keep them in a service"}
	c.AddCommand(a.ruleCheck(), a.ruleBundle())
	for _, online := range []*cobra.Command{a.ruleTry(server), a.ruleRehearse(server), a.rulePush(server),
		a.rulePull(server), a.ruleList(server),
		a.rulePause(server, true), a.rulePause(server, false)} {
		serverFlag(online, server)
		c.AddCommand(online)
	}
	return c
}

// ruleFlags say from what mail rules are made.
type ruleFlags struct {
	rules, templates, audiences, assignments, earlier, date string
	people                                                  peopleFlags
	trials, json, inForce                                   bool
	server                                                  *string // whose rules, templates and people are taken where none are named
}

// addOnline puts the flags on a command that can take rules, templates and people from a service.
func (f *ruleFlags) addOnline(a *app, c *cobra.Command, server *string) {
	f.add(a, c)
	f.server = server
	c.Flags().BoolVar(&f.inForce, "in-force", false, "without --templates: take what the service's gateways use, not the latest rules")
}

// add puts the flags on a command.
func (f *ruleFlags) add(a *app, c *cobra.Command) {
	c.Flags().StringVar(&f.rules, "rules", "", "file of mail rules; left out: everybody gets what is assigned, under the newest text")
	c.Flags().StringVar(&f.templates, "templates", "", "folder of a template, or folder with folders of templates")
	c.Flags().StringVar(&f.earlier, "earlier", "", "folder with templates of earlier releases, whose signatures are known again")
	c.Flags().StringVar(&f.audiences, "audiences", "", "file of audiences (default audiences.yaml beside the rules, if it is there)")
	c.Flags().StringVar(&f.assignments, "assignments", "", "file of assignments (default assignments.yaml beside the rules, if it is there)")
	f.people.add(c)
	c.Flags().BoolVar(&f.trials, "trials", false, "take rules in trial as if they were on")
	c.Flags().BoolVar(&f.json, "json", false, "write JSON")
	a.dayFlag(c, &f.date)
}

// gathered reads all that rules need.
func (a *app) gathered(f ruleFlags) (b rule.Bundle, err error) {
	if f.templates == "" || f.people.file == "" {
		return b, usage("--templates and --people say with what messages are stamped")
	}
	b = rule.Single(a.now(), rule.File{}, nil)
	set := &b.Sets[0]
	if set.File, err = f.file(); err != nil {
		return b, err
	}
	if set.Templates, err = openTemplates(f.templates); err != nil {
		return b, err
	}
	if f.earlier != "" {
		if b.Earlier, err = openTemplates(f.earlier); err != nil {
			return b, err
		}
	}
	for _, t := range set.Templates {
		f.people.known = append(f.people.known, t.Settings.Fields...)
	}
	b.People, err = a.openPeople(f.people)
	return b, err
}

// engine compiles the rules.
func (a *app) engine(ctx context.Context, f ruleFlags) (*rule.Engine, error) {
	day, err := a.day(f.date)
	if err != nil {
		return nil, err
	}
	if f.server != nil && f.templates == "" && f.people.file == "" {
		return a.serviceEngine(ctx, f, day)
	}
	b, err := a.gathered(f)
	if err != nil {
		return nil, err
	}
	e, err := b.Engine(day, "files")
	return e, f.wrong(err)
}

// wrong says in which file a fault is: mistakes in a template, or what rules name and is not there.
func (f *ruleFlags) wrong(err error) error {
	var inTemplate field.Errors
	if errors.As(err, &inTemplate) {
		return mistakes(f.templates, err)
	}
	if err != nil && f.rules != "" {
		return fmt.Errorf("%s: %w", f.rules, err)
	}
	return err
}

// ruleBundle is missivum rule bundle.
func (a *app) ruleBundle() *cobra.Command {
	var f ruleFlags
	var output, sign string
	c := &cobra.Command{
		Use:   "bundle",
		Short: "Write rules, templates, pictures and people into one signed file for gateways",
		Long: `Writes a bundle: one file with all that a gateway needs, signed by a key that missivum kit key makes. A gateway that
trusts the key takes it with --bundle, and renews it when the file changes. What is wrong in rules or templates is
refused here, so that no gateway meets it.`,
		Example: "  missivum rule bundle --rules demo/rules.yaml --templates demo/templates --people demo/people.csv " +
			"--sign-with brackwater.key -o rules.bundle",
		Args: exactly(),
		RunE: func(*cobra.Command, []string) error {
			if output == "" || sign == "" {
				return usage("rule bundle needs --output and --sign-with")
			}
			b, err := a.gathered(f)
			if err != nil {
				return err
			}
			if _, err := b.Engine(b.Made, "bundle"); err != nil {
				return f.wrong(err)
			}
			key, err := readKey(sign)
			if err != nil {
				return err
			}
			data, err := b.Write(*key)
			if err != nil {
				return err
			}
			_, name, err := rule.ReadBundle(data, key.Trusted())
			if err != nil {
				return err
			}
			if err := a.writeFile(output, func(w io.Writer) error { _, err := w.Write(data); return err }); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%s: bundle %s, %s, %s, %s, %s bytes\n", output, name, plural(len(b.Sets[0].File.Rules), "rule", "rules"),
				plural(len(b.Sets[0].Templates), "template", "templates"), plural(len(b.People.People), "person", "people"), grouped(len(data)))
			return nil
		},
	}
	f.add(a, c)
	for _, unused := range []string{"json", "trials", "date"} {
		c.Flags().MarkHidden(unused)
	}
	c.Flags().StringVarP(&output, "output", "o", "", "file to write")
	c.Flags().StringVar(&sign, "sign-with", "", "private key that signs the bundle (missivum kit key makes one)")
	return c
}

// file reads the rules, with the audiences and assignments beside them.
func (f *ruleFlags) file() (rule.File, error) {
	file := rule.Default()
	if f.rules != "" {
		data, err := os.ReadFile(f.rules)
		if err != nil {
			return file, fmt.Errorf("the mail rules cannot be read: %w", err)
		}
		if file, err = rule.Parse(data); err != nil {
			return file, fmt.Errorf("%s: %w", f.rules, err)
		}
	}
	if len(file.Audiences) == 0 {
		if _, err := beside(f.rules, f.audiences, "audiences.yaml", &file.Audiences); err != nil {
			return file, err
		}
	}
	if len(file.Assignments) == 0 {
		var lines struct {
			Lines []audience.Assignment `yaml:"lines"`
		}
		if _, err := beside(f.rules, f.assignments, "assignments.yaml", &lines); err != nil {
			return file, err
		}
		file.Assignments = lines.Lines
	}
	return file, nil
}

// beside reads a file that is named, or one of a usual name beside another; false where there is none.
func beside(other, named, usual string, into any) (bool, error) {
	if named == "" {
		if other == "" {
			return false, nil
		}
		named = filepath.Join(filepath.Dir(other), usual)
		if _, err := os.Stat(named); errors.Is(err, fs.ErrNotExist) {
			return false, nil
		}
	}
	return true, readYAML(named, into)
}

// openTemplates opens the template in a folder, or those in the folders below it.
func openTemplates(folder string) ([]*template.Template, error) {
	info, err := os.Stat(folder)
	if err != nil {
		return nil, fmt.Errorf("the templates cannot be read: %w", err)
	}
	if !info.IsDir() || exists(filepath.Join(folder, template.SourceFile)) {
		t, err := openTemplate(folder)
		return []*template.Template{t}, err
	}
	entries, err := os.ReadDir(folder)
	if err != nil {
		return nil, fmt.Errorf("the templates cannot be read: %w", err)
	}
	var list []*template.Template
	for _, e := range entries {
		if path := filepath.Join(folder, e.Name()); e.IsDir() && exists(filepath.Join(path, template.SourceFile)) {
			t, err := openTemplate(path)
			if err != nil {
				return nil, err
			}
			list = append(list, t)
		}
	}
	if len(list) == 0 {
		return nil, fmt.Errorf("there is no template in %s: neither it nor a folder in it holds %s", folder, template.SourceFile)
	}
	return list, nil
}

func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

// eachMessage gives the messages of a file, a folder with those below it, or a mailbox file, one after another.
func eachMessage(path string, each func(name string, raw []byte) error) error {
	info, err := os.Stat(path)
	if err != nil {
		return fmt.Errorf("the messages cannot be read: %w", err)
	}
	if !info.IsDir() {
		return messageFile(path, filepath.Base(path), each)
	}
	return filepath.WalkDir(path, func(file string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if strings.HasPrefix(d.Name(), ".") && file != path {
			if d.IsDir() {
				return fs.SkipDir
			}
			return nil
		}
		if !d.Type().IsRegular() {
			return nil
		}
		name, _ := filepath.Rel(path, file)
		return messageFile(file, name, each)
	})
}

// messageFile gives the messages of a file: its own, or those of a mailbox file or an archive.
func messageFile(path, name string, each func(name string, raw []byte) error) error {
	file, err := os.Open(path)
	if err != nil {
		return fmt.Errorf("the message cannot be read: %w", err)
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return fmt.Errorf("the message cannot be read: %w", err)
	}
	return message.Stored(name, file, info.Size(), each)
}

// tried is one message that the rules were tried on.
type tried struct {
	File  string     `json:"file"`
	Trace rule.Trace `json:"trace"`
}

// ruleTry is missivum rule try.
func (a *app) ruleTry(server *string) *cobra.Command {
	var f ruleFlags
	var output, sender string
	var to []string
	c := &cobra.Command{
		Use:   "try MESSAGE|FOLDER",
		Short: "Say what the rules do with a message and why, and write it as it would go out",
		Long: `Asks the mail rules about a message, or about each message of a folder or of a mailbox file, and prints the trace:
every rule, every condition with the value that it saw, the place that was found, and what was changed. With -o the
messages are written as they would go out: into a file for one, into a folder under the same names for a folder.
Messages that nothing is put into are written as they are; refused and held ones are not written. Without --templates
and --people a service's are taken, with its latest rules or those in --rules; the messages stay here.`,
		Example: "  missivum rule try demo/messages/reply.eml --rules demo/rules.yaml --templates demo/templates --people demo/people.csv",
		Args:    exactly("MESSAGE|FOLDER"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := a.engine(cmd.Context(), f)
			if err != nil {
				return err
			}
			info, err := os.Stat(args[0])
			if err != nil {
				return fmt.Errorf("the messages cannot be read: %w", err)
			}
			many := info.IsDir()
			list := []tried{}
			err = eachMessage(args[0], func(name string, raw []byte) error {
				if err := cmd.Context().Err(); err != nil {
					return err
				}
				v := e.Judge(rule.Mail{Message: message.Read(raw), Sender: sender, Recipients: to, OffEnvelope: true}, f.trials)
				list = append(list, tried{name, v.Trace})
				many = many || strings.Contains(name, "#")
				return a.writeTried(output, name, many, v)
			})
			if err != nil {
				return err
			}
			switch {
			case f.json && !many && len(list) == 1:
				return writeJSON(a.out, list[0])
			case f.json:
				return writeJSON(a.out, list)
			case many:
				a.printTried(list)
			default:
				for _, one := range list {
					a.printTrace(one)
				}
			}
			return nil
		},
	}
	f.addOnline(a, c, server)
	c.Flags().StringVarP(&output, "output", "o", "",
		"file, or for several messages folder, for the messages as they would go out; - is standard output")
	c.Flags().StringVar(&sender, "sender", "", "sender of the envelope")
	c.Flags().StringSliceVar(&to, "to", nil, "recipients of the envelope (default those that the message names)")
	return c
}

// writeTried writes a message as it would go out.
func (a *app) writeTried(output, name string, many bool, v rule.Verdict) error {
	if output == "" || v.Trace.Outcome == rule.Refused || v.Trace.Outcome == rule.Held {
		return nil
	}
	if many && output != "-" {
		output = filepath.Join(output, filepath.FromSlash(strings.ReplaceAll(name, "#", "-")))
		if err := os.MkdirAll(filepath.Dir(output), 0o755); err != nil {
			return fmt.Errorf("the folder cannot be made: %w", err)
		}
	}
	return a.writeFile(output, func(w io.Writer) error {
		_, err := io.Copy(w, bytes.NewReader(v.Raw))
		return err
	})
}

// printTried prints a line for each message, and how many there are of each outcome.
func (a *app) printTried(list []tried) {
	var rows [][]string
	outcomes := map[rule.Outcome]int{}
	for _, one := range list {
		t := one.Trace
		outcomes[t.Outcome]++
		grew := "-"
		if t.After != t.Before {
			grew = grouped(t.After-t.Before) + " bytes"
		}
		rows = append(rows, []string{one.File, string(t.Outcome), grew, t.Says})
	}
	printTable(a.out, []string{"Message", "Outcome", "Grew by", "Why"}, rows)
	var said []string
	for _, o := range []rule.Outcome{rule.Stamped, rule.Enclosed, rule.Unchanged, rule.Refused, rule.Held} {
		if outcomes[o] > 0 {
			said = append(said, fmt.Sprintf("%d %s", outcomes[o], o))
		}
	}
	fmt.Fprintf(a.out, "\n%s: %s\n", plural(len(list), "message", "messages"), strings.Join(said, ", "))
}

// printTrace prints the trace of one message.
func (a *app) printTrace(one tried) {
	t := one.Trace
	fmt.Fprintf(a.out, "%s: %s. %s\n\n", one.File, t.Outcome, t.Says)
	directory := "not in the directory"
	if t.Person {
		directory = "in the directory"
	}
	rows := [][]string{{"Sender", or(t.Sender, "none") + " (" + directory + ")"},
		{"Recipients", fmt.Sprintf("%s (%s)", or(strings.Join(shortList(t.Recipients, 5), ", "), "none"), or(t.Scope, "no scope"))},
		{"Kind", kindSays(t.Kind)},
		{"Size", fmt.Sprintf("%s bytes before, %s after", grouped(t.Before), grouped(t.After))}}
	for _, fault := range t.Kind.Faults {
		rows = append(rows, []string{"Fault", faultSays(fault)})
	}
	printTable(a.out, nil, rows)
	for _, s := range t.Rules {
		applies := "does not apply"
		if s.Applies {
			applies = "applies"
		}
		fmt.Fprintf(a.out, "\nRule %s (%s) %s. %s\n", s.Rule, s.State, applies, s.Says)
		for _, c := range s.Checked {
			holds, exception := "no ", ""
			if c.Holds {
				holds = "yes"
			}
			if c.Exception {
				exception = "unless "
			}
			fmt.Fprintf(a.out, "  %s  %s%s: %s\n", holds, exception, c.Asks, c.Saw)
		}
	}
	if len(t.Changes) > 0 {
		fmt.Fprintln(a.out)
	}
	for _, c := range t.Changes {
		where := "In the message"
		if c.Part != "" {
			where = "In part " + c.Part
		}
		if c.Line > 0 {
			where += fmt.Sprintf(", line %d", c.Line)
		}
		fmt.Fprintf(a.out, "%s: %s %s\n", where, c.Says, c.Why)
	}
}

func or(text, other string) string {
	if text == "" {
		return other
	}
	return text
}

// shortList is the beginning of a list, with how many more there are.
func shortList(list []string, most int) []string {
	if len(list) <= most {
		return list
	}
	return append(slices.Clone(list[:most]), fmt.Sprintf("%d more", len(list)-most))
}

// kindSays says what kind of message one is.
func kindSays(k message.Kind) string {
	list := []string{string(k.Conversation), map[message.Form]string{message.PlainText: "plain text", message.HTML: "HTML",
		message.Both:          "text and HTML",
		message.HostContainer: "rich text in a host's container", message.NoText: "no text"}[k.Form]}
	for _, one := range []struct {
		is   bool
		says string
	}{{k.Automatic, "automatic"}, {k.Bounce, "delivery report"}, {k.List, "mailing list or bulk"}, {k.Receipt, "read receipt"},
		{k.Calendar, "invitation"}, {k.Closed != "", k.Closed}, {k.DKIM, "DKIM signature"}, {k.ARC, "ARC seals"}, {k.Stamped, "stamped"},
		{k.Attachments > 0, plural(k.Attachments, "attachment", "attachments")}} {
		if one.is {
			list = append(list, one.says)
		}
	}
	return strings.Join(list, ", ")
}

func faultSays(f message.Fault) string {
	s := f.Says
	if f.Part != "" {
		s = "part " + f.Part + ": " + s
	}
	if f.Grave {
		s += " (too broken to change)"
	}
	return s
}

// ruleRehearse is missivum rule rehearse.
func (a *app) ruleRehearse(server *string) *cobra.Command {
	var f ruleFlags
	c := &cobra.Command{
		Use:   "rehearse FOLDER|MBOX",
		Short: "Count what the rules would do to stored mail",
		Long: `Runs the mail rules over stored mail without effect: how many messages would be stamped with what, where the place
was unsure, what was left alone and why, how much larger mail gets, and which messages deserve a look. It prints
counts and where messages lie, and nothing of what they say. Without --templates and --people a service's are taken,
with its latest rules or those in --rules; the mail stays here.`,
		Example: "  missivum rule rehearse demo/messages --rules demo/rules.yaml --templates demo/templates --people demo/people.csv",
		Args:    exactly("FOLDER|MBOX"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := a.engine(cmd.Context(), f)
			if err != nil {
				return err
			}
			return a.rehearse(cmd.Context(), e, f, args[0])
		},
	}
	f.addOnline(a, c, server)
	return c
}

func (a *app) rehearse(ctx context.Context, e *rule.Engine, f ruleFlags, path string) error {
	h := e.Rehearse()
	bar := a.progress("messages", 0)
	n := 0
	began := time.Now()
	err := eachMessage(path, func(name string, raw []byte) error {
		h.Message(name, raw, f.trials)
		n++
		bar.done(n)
		return ctx.Err()
	})
	bar.end()
	if err != nil {
		return err
	}
	r := h.Result()
	if f.json {
		return writeJSON(a.out, r)
	}
	fmt.Fprintf(a.out, "%s in %s\n\n", plural(r.Messages, "message", "messages"), time.Since(began).Round(time.Millisecond))
	table := func(title string, list []rule.Count) {
		if len(list) == 0 {
			return
		}
		var rows [][]string
		for _, c := range list {
			rows = append(rows, []string{grouped(c.Count), c.What})
		}
		printTable(a.out, []string{"Messages", title}, rows)
		fmt.Fprintln(a.out)
	}
	var outcomes []rule.Count
	for _, o := range []rule.Outcome{rule.Stamped, rule.Enclosed, rule.Unchanged, rule.Refused, rule.Held} {
		if r.Outcomes[o] > 0 {
			outcomes = append(outcomes, rule.Count{What: string(o), Count: r.Outcomes[o]})
		}
	}
	table("Outcome", outcomes)
	table("Stamped with", r.Signatures)
	table("Rule that applied", r.Rules)
	table("Left alone because", r.Left)
	table("Quotation", r.Shapes)
	if r.Outcomes[rule.Stamped] > 0 {
		fmt.Fprintf(a.out, "Stamped messages grow from %s to %s bytes in all, one by %s bytes at most.\n", grouped(r.Before),
			grouped(r.After), grouped(r.Most))
	}
	if len(r.Look) > 0 {
		fmt.Fprintf(a.out, "\nDeserve a look:\n")
	}
	for _, l := range r.Look {
		fmt.Fprintf(a.out, "  %s  %s\n", l.Where, l.Why)
	}
	if r.More > 0 {
		fmt.Fprintf(a.out, "  and %d more\n", r.More)
	}
	return nil
}

// ruleCheck is missivum rule check.
func (a *app) ruleCheck() *cobra.Command {
	var f ruleFlags
	c := &cobra.Command{
		Use:     "check FILE",
		Short:   "Say each rule as a sentence, and warn of those that can never apply",
		Example: "  missivum rule check demo/rules.yaml",
		Args:    exactly("FILE"),
		RunE: func(_ *cobra.Command, args []string) error {
			f.rules = args[0]
			file, err := f.file()
			if err != nil {
				return err
			}
			for i, r := range file.Rules {
				fmt.Fprintf(a.out, "%d. %s (%s): %s\n", i+1, r.Name, r.State, r.Sentence())
			}
			warnings := file.Warnings()
			a.warnings(warnings)
			if len(warnings) > 0 {
				return exitError{ExitFindings, fmt.Errorf("%s", plural(len(warnings), "warning", "warnings"))}
			}
			return nil
		},
	}
	return c
}
