package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"mime/multipart"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"missivum/core/check"
	"missivum/core/source"
	"missivum/service/api"
	"missivum/service/people"
)

// peopleCommand is missivum people, which works against a service.
func (a *app) peopleCommand() *cobra.Command {
	return onlineGroup("people", "List, import and explain the people of a service", a.peopleList, a.peopleExplain,
		a.peopleFaults, a.peopleImport, a.peopleKeep,
		a.peopleRules, a.peopleColumns)
}

// peopleList lists people page by page, as the service searches them.
func (a *app) peopleList(server *string) *cobra.Command {
	var search string
	c := &cobra.Command{
		Use: "list", Short: "List people", Example: "  missivum people list --search saltmouth", Args: exactly(),
		RunE: online(server, func(ctx context.Context, r *remote, _ []string) error {
			var rows [][]string
			for offset := 0; ; {
				var page api.PeoplePage
				path := fmt.Sprintf("/api/v1/people?search=%s&offset=%d&limit=1000", url.QueryEscape(search), offset)
				if err := r.json(ctx, http.MethodGet, path, nil, &page); err != nil {
					return err
				}
				for _, p := range page.People {
					rows = append(rows, columnsOf(page.Fields, p, "mail", "cn", "title", "telephoneNumber", "mobile", "l"))
				}
				offset += len(page.People)
				if offset >= page.Total || len(page.People) == 0 {
					printTable(a.out, []string{"Mail", "Name", "Title", "Telephone", "Mobile", "Place"}, rows)
					fmt.Fprintf(a.err, "%s of %s\n", grouped(page.Total), plural(page.All, "person", "people"))
					return nil
				}
			}
		}),
	}
	c.Flags().StringVar(&search, "search", "", "only people in whose values this stands")
	return c
}

// columnsOf picks fields of a person; a blank one shows as a dash.
func columnsOf(fields []api.FieldInfo, p api.PersonSnapshot, names ...string) []string {
	row := make([]string, len(names))
	for i, name := range names {
		row[i] = "-"
		for c, f := range fields {
			if f.Name == name && c < len(p.Values) && p.Values[c] != "" {
				row[i] = p.Values[c]
			}
		}
	}
	return row
}

// peopleImport shows what a file would change, and imports it.
func (a *app) peopleImport(server *string) *cobra.Command {
	var dry, replace, confirm bool
	var columns columnFlags
	var name string
	c := &cobra.Command{
		Use: "import FILE", Short: "Import a CSV, LDIF or vCard file into the directory",
		Long: "Takes a file into the directory: new people are added, values changed. People who are not in the file stay, unless " +
			"--replace is given. --dry-run says what would change and changes nothing. A plan that removes or blanks more than the " +
			"directory's rules let through is held: look at it with missivum run show, and carry it out with missivum run apply --confirm. " +
			"Every import can be taken back with missivum run undo.",
		Example: "  missivum people import demo/people.csv --dry-run",
		Args:    exactly("FILE"),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			mapping, err := columns.read(args[0])
			if err != nil {
				return err
			}
			f, err := os.Open(args[0])
			if err != nil {
				return fmt.Errorf("the people cannot be read: %w", err)
			}
			defer f.Close()
			query := url.Values{"apply": {fmt.Sprint(!dry)}, "replace": {fmt.Sprint(replace)}, "confirm": {fmt.Sprint(confirm)}}
			if name != "" {
				query.Set("source", name)
			}
			form, kind, err := formOf(f, mapping)
			if err != nil {
				return err
			}
			answer, err := r.do(ctx, http.MethodPost, "/api/v1/people/import?"+query.Encode(), form, kind)
			if err != nil {
				return err
			}
			defer answer.Body.Close()
			var plan api.ImportPlan
			if err := json.NewDecoder(answer.Body).Decode(&plan); err != nil {
				return err
			}
			a.note(args[0], plan.Note)
			a.reportRows(args[0], plan.Run.Skips)
			a.printImport(plan, dry)
			if !dry && plan.Run.State == "held" {
				return exitError{ExitFindings, errors.New("nothing was imported")}
			}
			return nil
		}),
	}
	c.Flags().BoolVar(&dry, "dry-run", false, "only show what would change")
	columns.add(c)
	c.Flags().StringVar(&name, "source", "", "source that the file is of (default "+people.Imported+")")
	c.Flags().BoolVar(&replace, "replace", false, "people who are not in the file are gone")
	c.Flags().BoolVar(&confirm, "confirm", false, "carry the plan out even when it is held")
	return c
}

// formOf is a file with its mapping as a form (RFC 7578); without a mapping it is the file itself. The form is made while
// it is sent.
func formOf(f *os.File, mapping source.Mapping) (io.Reader, string, error) {
	if reflect.DeepEqual(mapping, source.Mapping{}) {
		return f, "text/csv", nil
	}
	text, err := mapping.Text()
	if err != nil {
		return nil, "", err
	}
	read, write := io.Pipe()
	form := multipart.NewWriter(write)
	go func() {
		err := form.WriteField("mapping", text)
		if err == nil {
			var part io.Writer
			if part, err = form.CreateFormFile("people", filepath.Base(f.Name())); err == nil {
				_, err = io.Copy(part, f)
			}
		}
		write.CloseWithError(errors.Join(err, form.Close()))
	}()
	return read, form.FormDataContentType(), nil
}

// peopleColumns shows which field each column of a file is taken for, and writes it as a mapping.
func (a *app) peopleColumns(*string) *cobra.Command {
	var columns columnFlags
	var output string
	c := &cobra.Command{
		Use: "columns FILE", Short: "Show which field each column of a CSV file is",
		Long: "Shows which field each column of a CSV file is taken for, and which are left out. With --output that is written as a " +
			"mapping, to be corrected by hand and given to other commands with --mapping. A mapping beside the file, with " +
			source.MappingSuffix + " in the place of .csv, is used without being named.",
		Example: "  missivum people columns demo/people.csv",
		Args:    exactly("FILE"),
		RunE: func(_ *cobra.Command, args []string) error {
			reader, file, err := (&peopleFlags{file: args[0], columnFlags: columns}).open()
			if err != nil {
				return err
			}
			defer file.Close()
			a.note(args[0], reader.Note())
			var rows [][]string
			for _, column := range reader.Columns() {
				field, how := column.Field, "by its name or as it was mapped"
				if column.Guessed {
					how = "guessed from its title"
				}
				heading := column.Heading
				switch {
				case field == "":
					field, how = "-", "left out"
				case heading == "":
					heading, how = "-", "made"
				}
				if column.Note != "" {
					how += ": " + column.Note
				}
				rows = append(rows, []string{heading, field, how})
			}
			printTable(a.out, []string{"Column", "Field", "How"}, rows)
			if output == "" {
				return nil
			}
			text, err := source.WriteMapping(reader.Columns(), reader.Mapping)
			if err != nil {
				return err
			}
			return a.writeFile(output, func(w io.Writer) error { _, err := w.Write(text); return err })
		},
	}
	columns.add(c)
	c.Flags().StringVarP(&output, "output", "o", "", "mapping to write")
	return c
}

// printImport says what an import changes: what the columns were taken for, who is new, changed or gone, and why it is held.
func (a *app) printImport(plan api.ImportPlan, dry bool) {
	for _, column := range plan.Columns {
		if column.Guessed {
			taken := "left out"
			if column.Field != "" {
				taken = "taken as " + column.Field
			}
			fmt.Fprintf(a.out, "column %q is %s\n", column.Heading, taken)
		}
	}
	if dry {
		a.printChanges(plan.Changes)
		if more := plan.Run.Changes() - len(plan.Changes); more > 0 {
			fmt.Fprintf(a.out, "and %s: missivum run show %d\n", plural(more, "more change", "more changes"), plan.Run.ID)
		}
	}
	a.printRun(plan.Run)
}

// peopleExplain shows everything that is known of a person, and where it is from.
func (a *app) peopleExplain(server *string) *cobra.Command {
	return &cobra.Command{
		Use: "explain MAIL", Short: "Show what is known of a person, and where it is from",
		Example: "  missivum people explain maren.lind@brackwater.example", Args: exactly("MAIL"),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			var d api.PersonDetail
			if err := r.json(ctx, http.MethodGet, "/api/v1/people/"+url.PathEscape(args[0]), nil, &d); err != nil {
				return err
			}
			a.printPerson(d)
			return a.printGets(ctx, r, d)
		}),
	}
}

// peopleKeep keeps values that only the service knows.
func (a *app) peopleKeep(server *string) *cobra.Command {
	return &cobra.Command{
		Use: "keep MAIL FIELD=VALUE...", Short: "Keep values that no source knows, such as pronouns",
		Long: "Keeps values beside those of the sources: pronouns, languages spoken, a booking address. They survive every import and " +
			"synchronisation. FIELD= takes one away.",
		Example: "  missivum people keep maren.lind@brackwater.example pronouns=she",
		Args:    cobra.MinimumNArgs(2),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			values := map[string]string{}
			for _, pair := range args[1:] {
				field, value, ok := strings.Cut(pair, "=")
				if !ok || field == "" {
					return usage("%q must be a field, = and a value, such as pronouns=she", pair)
				}
				values[field] = value
			}
			return r.json(ctx, http.MethodPatch, "/api/v1/people/"+url.PathEscape(args[0]), map[string]any{"values": values}, nil)
		}),
	}
}

// peopleRules shows how the directory is kept, or changes it.
func (a *app) peopleRules(server *string) *cobra.Command {
	var match string
	var gone, blank, keep int
	var first []string
	c := &cobra.Command{
		Use: "rules", Short: "Show or change how the directory is kept",
		Long: "Shows how the directory is kept: by which field records of several sources are one person, which source comes first for a " +
			"field, how much a plan may do without being confirmed, and for how long who is gone is kept. Flags change it.",
		Example: "  missivum people rules --first telephoneNumber=phones,hr",
		Args:    exactly(),
	}
	c.RunE = online(server, func(ctx context.Context, r *remote, _ []string) error {
		var rules people.Rules
		if err := r.json(ctx, http.MethodGet, "/api/v1/people/rules", nil, &rules); err != nil {
			return err
		}
		changed := c.Flags().Changed
		for _, set := range []struct {
			flag string
			put  func()
		}{{"match", func() { rules.Match = match }}, {"gone", func() { rules.Guard.Gone = gone }},
			{"blank", func() { rules.Guard.Blank = blank }}, {"keep", func() { rules.Keep = keep }}} {
			if changed(set.flag) {
				set.put()
			}
		}
		for _, one := range first {
			field, sources, ok := strings.Cut(one, "=")
			if !ok {
				return usage("--first %q must be a field, = and sources, such as telephoneNumber=phones,hr", one)
			}
			if delete(rules.First, field); sources != "" {
				rules.First[field] = strings.Split(sources, ",")
			}
		}
		if changed("match") || changed("gone") || changed("blank") || changed("keep") || changed("first") {
			if err := r.json(ctx, http.MethodPut, "/api/v1/people/rules", rules, &rules); err != nil {
				return err
			}
		}
		fmt.Fprintf(a.out, "records of several sources are one person by: %s\n", rules.Match)
		for _, field := range slices.Sorted(maps.Keys(rules.First)) {
			fmt.Fprintf(a.out, "%s comes first from: %s\n", field, strings.Join(rules.First[field], ", "))
		}
		fmt.Fprintf(a.out, "a plan is held when more than %d per cent of a source's people are gone, or a field "+
			"turns blank for more than %d per cent\n",
			rules.Guard.Gone, rules.Guard.Blank)
		fmt.Fprintf(a.out, "who is gone is kept for %s\n", plural(rules.Keep, "day", "days"))
		return nil
	})
	c.Flags().StringVar(&match, "match", "", "field by which records of several sources are one person, such as mail or employeeNumber")
	c.Flags().StringArrayVar(&first, "first", nil, "sources that come first for a field, such as telephoneNumber=phones,hr; FIELD= for none")
	c.Flags().IntVar(&gone, "gone", 0, "per cent of a source's people who may be gone")
	c.Flags().IntVar(&blank, "blank", 0, "per cent of the people with a value in whom it may turn blank")
	c.Flags().IntVar(&keep, "keep", 0, "days for which who is gone is kept")
	return c
}

// printGets writes what a person gets as text, once for each template and variant, with what the checks find for them.
func (a *app) printGets(ctx context.Context, r *remote, d api.PersonDetail) error {
	shown, checked := map[string]bool{}, map[string]bool{}
	for _, g := range d.Gets {
		if g.Template == "" || shown[g.Template+" "+g.Shown] {
			continue
		}
		shown[g.Template+" "+g.Shown] = true
		path := "/api/v1/templates/" + url.PathEscape(g.Template)
		var look api.Look
		request := map[string]string{"person": d.Mail, "variant": g.Shown, "form": "text"}
		if err := r.json(ctx, http.MethodPost, path+"/look", request, &look); err != nil {
			return err
		}
		fmt.Fprintf(a.out, "\n%s, variant %s, as text:\n%s\n", g.Template, g.Shown, strings.TrimRight(look.Body, "\n"))
		if checked[g.Template] {
			continue
		}
		checked[g.Template] = true
		var report check.Report
		if err := r.json(ctx, http.MethodPost, path+"/check", map[string]string{"person": d.Mail}, &report); err != nil {
			return err
		}
		if len(report.Findings) == 0 {
			fmt.Fprintf(a.out, "%s: no findings for this person\n", g.Template)
		}
		for _, f := range report.Findings {
			fmt.Fprintf(a.out, "%s: %s  %s  %s\n", g.Template, f.Severity, f.Check, f.Message)
		}
	}
	return nil
}

// printPerson writes what is known of a person.
func (a *app) printPerson(d api.PersonDetail) {
	state := "came " + day(d.Came)
	if !d.Left.IsZero() {
		state += ", left " + day(d.Left)
	}
	fmt.Fprintf(a.out, "%s <%s>, %s\n", d.Name, d.Mail, state)
	if len(d.Groups) > 0 {
		fmt.Fprintf(a.out, "groups: %s\n", strings.Join(d.Groups, ", "))
	}
	for _, in := range d.Audiences {
		fmt.Fprintf(a.out, "in %s: %s\n", in.Audience, in.Reason)
	}
	var rows [][]string
	for _, g := range d.Gets {
		template := "no signature"
		if g.Template != "" {
			template = g.Template + ", variant " + g.Shown
		}
		rows = append(rows, []string{g.Situation, template, fmt.Sprint(g.Line), g.Reason})
	}
	if len(rows) > 0 {
		printTable(a.out, []string{"Situation", "Gets", "Line", "Because"}, rows)
	}
	rows = nil
	for _, value := range d.Origins {
		rows = append(rows, []string{value.Field, value.Value, value.Source, ""})
	}
	for _, value := range d.Others {
		rows = append(rows, []string{value.Field, value.Value, value.Source, "does not count"})
	}
	printTable(a.out, []string{"Field", "Value", "Source", ""}, rows)
	rows = nil
	for _, h := range d.History {
		if h.Kind == "new" || h.Kind == "joined" && len(h.Fields) > 5 {
			h.Fields = []source.FieldChange{{Field: plural(len(h.Fields), "field", "fields")}}
		}
		for _, f := range h.Fields {
			note := ""
			if h.Undone {
				note = "undone"
			}
			rows = append(rows, []string{day(h.At), fmt.Sprint(h.Run), h.Source, h.Kind, f.Field, blankAs(f.Before), blankAs(f.After), note})
		}
	}
	if len(rows) > 0 {
		printTable(a.out, []string{"Day", "Run", "Source", "What", "Field", "Before", "After", ""}, rows)
	}
}

// blankAs shows a blank value.
func blankAs(value string) string {
	if value == "" {
		return "-"
	}
	return value
}

// day is a time as people here read it.
func day(t time.Time) string { return t.Local().Format("2006-01-02 15:04") }
