package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"missivum/core/template"
	"missivum/service/api"
	"missivum/service/templates"
)

// templateCommand is missivum template, which works against a service.
func (a *app) templateCommand() *cobra.Command {
	return onlineGroup("template", "List, push and pull the templates of a service", a.templateList, a.templatePush, a.templatePull)
}

// templateList lists the templates with what the checks find. One that cannot be read is listed with the reason.
func (a *app) templateList(server *string) *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the templates with what the checks find", Example: "  missivum template list", Args: exactly(),
		RunE: online(server, func(ctx context.Context, r *remote, _ []string) error {
			list, err := checkedTemplates(ctx, r)
			if err != nil {
				return err
			}
			var rows [][]string
			for _, s := range list {
				if s.Problem != "" {
					fmt.Fprintf(a.err, "%s: %s\n", s.Name, s.Problem)
				}
				rows = append(rows, []string{s.Name, grouped(s.Number), s.Saved.Local().Format("2006-01-02 15:04"),
					grouped(s.State.Breaks), grouped(s.State.Degrades), grouped(s.State.OverLimit), s.Title})
			}
			printTable(a.out, []string{"Name", "Version", "Saved", "Breaks", "Degrades", "Over limit", "Title"}, rows)
			return nil
		}),
	}
}

// checkedTemplates lists the templates when all of them have been checked, for as long as that may take.
func checkedTemplates(ctx context.Context, r *remote) ([]api.TemplateSummary, error) {
	for {
		var list []api.TemplateSummary
		if err := r.json(ctx, http.MethodGet, "/api/v1/templates", nil, &list); err != nil {
			return nil, err
		}
		if !slices.ContainsFunc(list, func(s api.TemplateSummary) bool { return s.State.Pending }) {
			return list, nil
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(200 * time.Millisecond):
		}
	}
}

// templatePush saves a folder as the new version, whatever the latest is. Nothing is lost by it: every version stays.
func (a *app) templatePush(server *string) *cobra.Command {
	var name, note string
	c := &cobra.Command{
		Use: "push FOLDER", Short: "Save a template folder as a new version",
		Example: "  missivum template push demo/templates/harbour --note 'New banner'",
		Args:    exactly("FOLDER"),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			t, err := openTemplate(args[0])
			if err != nil {
				return err
			}
			if name == "" {
				name = t.Name
			}
			if !template.ValidName(name) {
				return usage("the name %q must be lower-case letters, digits and hyphens; give another with --name", name)
			}
			var b bytes.Buffer
			if err := templates.WriteArchive(&b, t); err != nil {
				return err
			}
			answer, err := r.do(ctx, http.MethodPut, "/api/v1/templates/"+name+"/archive?"+
				url.Values{"note": {note}}.Encode(), &b, "application/zip")
			if err != nil {
				return err
			}
			defer answer.Body.Close()
			var saved api.TemplateDetail
			if err := json.NewDecoder(answer.Body).Decode(&saved); err != nil {
				return err
			}
			a.warn(saved.Warnings)
			fmt.Fprintf(a.out, "%s: saved as version %d (%s), %s\n", saved.Name, saved.Number, saved.Version,
				plural(len(saved.Pictures), "picture", "pictures"))
			return nil
		}),
	}
	c.Flags().StringVar(&name, "name", "", "name in the service (default the folder's)")
	c.Flags().StringVar(&note, "note", "", "what changed")
	return c
}

// warn says on standard error what did not work beside a save.
func (a *app) warn(warnings []string) {
	for _, w := range warnings {
		fmt.Fprintln(a.err, "Warning: "+w)
	}
}

// templatePull writes the latest version into a folder.
func (a *app) templatePull(server *string) *cobra.Command {
	var output string
	c := &cobra.Command{
		Use: "pull NAME", Short: "Write a template's latest version into a folder", Example: "  missivum template pull harbour -o harbour",
		Args: exactly("NAME"),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			if output == "" {
				output = args[0]
			}
			answer, err := r.do(ctx, http.MethodGet, "/api/v1/templates/"+url.PathEscape(args[0])+"/archive", nil, "")
			if err != nil {
				return err
			}
			defer answer.Body.Close()
			data, err := io.ReadAll(io.LimitReader(answer.Body, api.MaxArchive))
			if err != nil {
				return err
			}
			t, err := templates.ReadArchive(args[0], data)
			if err != nil {
				return err
			}
			if err := newFolder(output, t); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%s: %s, %s\n", output, template.SourceFile, plural(len(t.Pictures), "picture", "pictures"))
			return nil
		}),
	}
	c.Flags().StringVarP(&output, "output", "o", "", "folder to write (default the template's name)")
	return c
}

// writeFolder writes a template's folder, whole or not at all.
func writeFolder(folder string, t *template.Template) error {
	part, err := os.MkdirTemp(filepath.Dir(filepath.Clean(folder)), ".pull-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(part) // nothing is left of it after the rename
	for name, data := range t.Files() {
		path := filepath.Join(part, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(path, data, 0o644); err != nil {
			return err
		}
	}
	if err := os.Chmod(part, 0o755); err != nil {
		return err
	}
	return os.Rename(part, folder)
}
