package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"missivum/service/api"
	"missivum/service/sources"
)

// sourceCommand is missivum source, which works against a service.
func (a *app) sourceCommand() *cobra.Command {
	return onlineGroup("source", "Say where people come from, and ask there", a.sourceList, a.sourcePut, a.sourcePreview,
		a.sourceMappings, a.sourceSync,
		a.sourcePause, a.sourceResume, a.sourceRemove)
}

// sourceList lists the sources, and how they get on.
func (a *app) sourceList(server *string) *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the sources, and how they get on", Example: "  missivum source list", Args: exactly(),
		RunE: online(server, func(ctx context.Context, r *remote, _ []string) error {
			var list []api.Source
			if err := r.json(ctx, http.MethodGet, "/api/v1/sources", nil, &list); err != nil {
				return err
			}
			var rows [][]string
			var notes []string
			for _, s := range list {
				state := "given by hand"
				switch {
				case s.Kind == "kept":
					state = "known here only"
				case s.Kind == sources.SCIMKind:
					state = "pushed in"
				case s.Paused:
					state = "paused"
				case s.Failures > 0:
					state = plural(s.Failures, "failure", "failures") + " in a row"
				case s.Kind == sources.FileKind:
				case s.Tried.IsZero():
					state = "not asked yet"
				default:
					state = "well"
				}
				rows = append(rows, []string{s.Name, s.Kind, fmt.Sprint(s.Position), grouped(s.People), state, moment(s.Succeeded), moment(s.Next)})
				for _, note := range []string{s.Failure, s.Note} {
					if note != "" {
						notes = append(notes, s.Name+": "+note)
					}
				}
			}
			printTable(a.out, []string{"Source", "Kind", "Position", "People", "State", "Read", "Next"}, rows)
			for _, note := range notes {
				fmt.Fprintln(a.out, note)
			}
			return nil
		}),
	}
}

// moment is a time, or a dash for none.
func moment(t time.Time) string {
	if t.IsZero() {
		return "-"
	}
	return day(t)
}

// sourceFile is a source as a file.
type sourceFile struct {
	Name             string `yaml:"name"`
	Kind             string `yaml:"kind"`
	Position         int    `yaml:"position"`
	sources.Settings `yaml:",inline"`
}

// sourcePut stores a source of a file.
func (a *app) sourcePut(server *string) *cobra.Command {
	var columns columnFlags
	c := &cobra.Command{
		Use: "put FILE", Short: "Store a source from a YAML file",
		Long: "Stores a source: name, kind (ldap, folder, web, file, scim), position, every, and how it is asked under the name of its kind. " +
			"Where several sources have a value, that of the least position counts. Passwords stand in files of the folder secrets of the " +
			"data folder, which the source names. --mapping says which columns or attributes are which fields.",
		Example: "  missivum source put staff.yaml --mapping staff.mapping.yaml",
		Args:    exactly("FILE"),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			f := sourceFile{Position: 10}
			if err := readYAML(args[0], &f); err != nil {
				return err
			}
			mapping := ""
			if columns.mapping != "" {
				m, err := columns.read("")
				if err != nil {
					return err
				}
				if mapping, err = m.Text(); err != nil {
					return err
				}
			}
			request := map[string]any{"kind": f.Kind, "position": f.Position, "settings": f.Settings, "mapping": mapping}
			var s api.Source
			if err := r.json(ctx, http.MethodPut, "/api/v1/sources/"+url.PathEscape(f.Name), request, &s); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%s is stored; look at it with: missivum source preview %s\n", s.Name, s.Name)
			return nil
		}),
	}
	c.Flags().StringVar(&columns.mapping, "mapping", "", "file that says which fields the columns or attributes are")
	return c
}

// sourcePreview shows what a mapping makes of five people.
func (a *app) sourcePreview(server *string) *cobra.Command {
	var columns columnFlags
	c := &cobra.Command{
		Use: "preview SOURCE", Short: "Show what a source gives of five people, hard cases first", Example: "  missivum source preview staff",
		Args: exactly("SOURCE"),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			mapping := ""
			if columns.mapping != "" {
				m, err := columns.read("")
				if err != nil {
					return err
				}
				if mapping, err = m.Text(); err != nil {
					return err
				}
			}
			var p api.Preview
			path := "/api/v1/sources/" + url.PathEscape(args[0]) + "/preview"
			if err := r.json(ctx, http.MethodPost, path, map[string]string{"mapping": mapping}, &p); err != nil {
				return err
			}
			a.note(args[0], p.Note)
			head := []string{"Field"}
			for i := range p.People {
				head = append(head, fmt.Sprint(i+1))
			}
			var rows [][]string
			for c, field := range p.Fields {
				row := []string{field}
				for _, one := range p.People {
					row = append(row, blankAs(one.Values[c]))
				}
				rows = append(rows, row)
			}
			printTable(a.out, head, rows)
			for i, one := range p.People {
				if len(one.Reasons) > 0 {
					fmt.Fprintf(a.out, "%d: %s\n", i+1, strings.Join(one.Reasons, "; "))
				}
			}
			var left []string
			for _, column := range p.Columns {
				if column.Field == "" {
					left = append(left, column.Heading)
				}
			}
			if len(left) > 0 {
				fmt.Fprintf(a.out, "left out: %s\n", strings.Join(left, ", "))
			}
			fmt.Fprintf(a.out, "%s looked at\n", plural(p.Read, "person", "people"))
			return nil
		}),
	}
	c.Flags().StringVar(&columns.mapping, "mapping", "", "mapping to try in the place of the stored one")
	return c
}

// sourceMappings lists the versions of a source's mapping, or writes one.
func (a *app) sourceMappings(server *string) *cobra.Command {
	var number int
	var output string
	c := &cobra.Command{
		Use: "mappings SOURCE", Short: "List the versions of a source's mapping, or write one", Example: "  missivum source mappings staff",
		Args: exactly("SOURCE"),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			var list []api.SourceMapping
			if err := r.json(ctx, http.MethodGet, "/api/v1/sources/"+url.PathEscape(args[0])+"/mappings", nil, &list); err != nil {
				return err
			}
			var rows [][]string
			for _, m := range list {
				if m.Number == number {
					return a.writeFile(output, func(w io.Writer) error { _, err := io.WriteString(w, m.Mapping); return err })
				}
				rows = append(rows, []string{fmt.Sprint(m.Number), day(m.Saved), blankAs(m.Author), fmt.Sprint(strings.Count(m.Mapping, "\n"))})
			}
			if number > 0 {
				return exitError{ExitFindings, fmt.Errorf("%s has no mapping %d", args[0], number)}
			}
			printTable(a.out, []string{"Version", "Saved", "By", "Lines"}, rows)
			return nil
		}),
	}
	c.Flags().IntVar(&number, "number", 0, "version to write")
	c.Flags().StringVarP(&output, "output", "o", "", "file to write (default standard output)")
	return c
}

// sourceSync asks a source and waits for what it brings.
func (a *app) sourceSync(server *string) *cobra.Command {
	return &cobra.Command{
		Use: "sync SOURCE", Short: "Ask a source now, and wait for what it brings", Example: "  missivum source sync staff",
		Args: exactly("SOURCE"),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			var job struct {
				ID, State, Message string
				Done               int
				Result             json.RawMessage
			}
			if err := r.json(ctx, http.MethodPost, "/api/v1/sources/"+url.PathEscape(args[0])+"/sync", nil, &job); err != nil {
				return err
			}
			bar := a.progress("people", 0)
			for job.State == "waiting" || job.State == "running" {
				select {
				case <-ctx.Done():
					return ctx.Err()
				case <-time.After(200 * time.Millisecond):
				}
				if err := r.json(ctx, http.MethodGet, "/api/v1/jobs/"+url.PathEscape(job.ID), nil, &job); err != nil {
					return err
				}
				bar.done(job.Done)
			}
			bar.end()
			if job.State != "ready" {
				return exitError{ExitFindings, fmt.Errorf("%s: %s", args[0], job.Message)}
			}
			var result sources.Result
			if err := json.Unmarshal(job.Result, &result); err != nil {
				return err
			}
			if result.Run == 0 {
				fmt.Fprintf(a.out, "%s: nothing changed\n", args[0])
				return nil
			}
			var run api.Run
			if err := r.json(ctx, http.MethodGet, fmt.Sprintf("/api/v1/runs/%d", result.Run), nil, &run); err != nil {
				return err
			}
			a.printRun(run)
			if result.Photos > 0 {
				fmt.Fprintf(a.out, "%s hosted\n", plural(result.Photos, "photo", "photos"))
			}
			return nil
		}),
	}
}

// sourcePause stops asking a source.
func (a *app) sourcePause(server *string) *cobra.Command {
	return a.sourceStep(server, "pause", "Ask a source no more until it is resumed", http.MethodPost, "/pause")
}

// sourceResume asks a source again.
func (a *app) sourceResume(server *string) *cobra.Command {
	return a.sourceStep(server, "resume", "Ask a source again", http.MethodPost, "/resume")
}

// sourceRemove removes a source.
func (a *app) sourceRemove(server *string) *cobra.Command {
	return a.sourceStep(server, "remove", "Remove a source that has nobody any more", http.MethodDelete, "")
}

// sourceStep is a command that does something with a source.
func (a *app) sourceStep(server *string, name, short, method, step string) *cobra.Command {
	return &cobra.Command{
		Use: name + " SOURCE", Short: short, Example: "  missivum source " + name + " staff", Args: exactly("SOURCE"),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			return r.json(ctx, method, "/api/v1/sources/"+url.PathEscape(args[0])+step, nil, nil)
		}),
	}
}
