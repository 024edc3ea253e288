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
	"strings"
	"time"

	"github.com/spf13/cobra"

	"missivum/core/template"
	"missivum/service/api"
	"missivum/service/people"
	"missivum/service/templates"
)

// remote is a service that commands talk to.
type remote struct {
	base   string
	client *http.Client
}

// serverFlag adds --server, which the environment can set.
func serverFlag(c *cobra.Command, into *string) {
	standard := os.Getenv("MISSIVUM_SERVER")
	if standard == "" {
		standard = "http://" + defaultListen
	}
	c.PersistentFlags().StringVar(into, "server", standard, "address of the service (environment MISSIVUM_SERVER)")
}

func newRemote(server string) (*remote, error) {
	u, err := url.Parse(server)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return nil, usage("--server %q is not an address such as http://%s", server, defaultListen)
	}
	return &remote{base: strings.TrimRight(server, "/"), client: &http.Client{}}, nil
}

// refusal is a problem that the service answered with.
type refusal struct{ api.Problem }

func (r refusal) Error() string { return r.Detail }

// do sends a request and returns the answer's body, to be closed. An answer that is not a success is
// an error with the service's own words.
func (r *remote) do(ctx context.Context, method, path string, body io.Reader, contentType string) (*http.Response, error) {
	request, err := http.NewRequestWithContext(ctx, method, r.base+path, body)
	if err != nil {
		return nil, err
	}
	if contentType != "" {
		request.Header.Set("Content-Type", contentType)
	}
	answer, err := r.client.Do(request)
	if err != nil {
		return nil, fmt.Errorf("the service does not answer (missivum serve starts one): %w", err)
	}
	if answer.StatusCode < 300 {
		return answer, nil
	}
	defer answer.Body.Close()
	var p api.Problem
	if err := json.NewDecoder(io.LimitReader(answer.Body, 1<<20)).Decode(&p); err != nil || p.Detail == "" {
		return nil, fmt.Errorf("%s answers %s", r.base+path, answer.Status)
	}
	if answer.StatusCode < 500 {
		return nil, exitError{ExitFindings, refusal{p}}
	}
	return nil, refusal{p}
}

// json sends a value, if any, and reads the answer into another.
func (r *remote) json(ctx context.Context, method, path string, in, out any) error {
	var body io.Reader
	contentType := ""
	if in != nil {
		data, err := json.Marshal(in)
		if err != nil {
			return err
		}
		body, contentType = bytes.NewReader(data), "application/json"
	}
	answer, err := r.do(ctx, method, path, body, contentType)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	return json.NewDecoder(answer.Body).Decode(out)
}

func (a *app) templateCommand() *cobra.Command {
	var server string
	c := &cobra.Command{Use: "template", Short: "List, push and pull the templates of a service"}
	serverFlag(c, &server)
	c.AddCommand(a.templateList(&server), a.templatePush(&server), a.templatePull(&server))
	return c
}

func (a *app) templateList(server *string) *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the templates with what the checks find", Example: "  missivum template list", Args: exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			r, err := newRemote(*server)
			if err != nil {
				return err
			}
			var list []api.TemplateSummary
			if err := r.json(cmd.Context(), http.MethodGet, "/api/v1/templates", nil, &list); err != nil {
				return err
			}
			var rows [][]string
			for _, s := range list {
				rows = append(rows, []string{s.Name, grouped(s.Number), s.Saved.Local().Format("2006-01-02 15:04"), grouped(s.State.Breaks), grouped(s.State.Degrades), grouped(s.State.Burst), s.Title})
			}
			printTable(a.out, []string{"Name", "Version", "Saved", "Breaks", "Degrades", "Burst", "Title"}, rows)
			return nil
		},
	}
}

func (a *app) templatePush(server *string) *cobra.Command {
	var name, note string
	c := &cobra.Command{
		Use: "push FOLDER", Short: "Save a template folder as a new version", Example: "  missivum template push demo/templates/harbour --note 'New banner'",
		Args: exactly("FOLDER"),
		RunE: func(cmd *cobra.Command, args []string) error {
			r, err := newRemote(*server)
			if err != nil {
				return err
			}
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
			answer, err := r.do(cmd.Context(), http.MethodPut, "/api/v1/templates/"+name+"/archive?note="+url.QueryEscape(note), &b, "application/zip")
			if err != nil {
				return err
			}
			defer answer.Body.Close()
			var saved api.TemplateDetail
			if err := json.NewDecoder(answer.Body).Decode(&saved); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%s: saved as version %d (%s), %s\n", saved.Name, saved.Number, saved.Version, plural(len(saved.Pictures), "picture", "pictures"))
			return nil
		},
	}
	c.Flags().StringVar(&name, "name", "", "name in the service (default the folder's)")
	c.Flags().StringVar(&note, "note", "", "what changed")
	return c
}

func (a *app) templatePull(server *string) *cobra.Command {
	var output string
	c := &cobra.Command{
		Use: "pull NAME", Short: "Write a template's latest version into a folder", Example: "  missivum template pull harbour -o harbour",
		Args: exactly("NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			r, err := newRemote(*server)
			if err != nil {
				return err
			}
			if output == "" {
				output = args[0]
			}
			if _, err := os.Stat(output); err == nil {
				return fmt.Errorf("%s exists already; name another folder with -o", output)
			}
			answer, err := r.do(cmd.Context(), http.MethodGet, "/api/v1/templates/"+url.PathEscape(args[0])+"/archive", nil, "")
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
			if err := writeFolder(output, t); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%s: %s, %s\n", output, template.SourceFile, plural(len(t.Pictures), "picture", "pictures"))
			return nil
		},
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
	files := map[string][]byte{template.SourceFile: []byte(t.Source)}
	if t.SettingsText != "" {
		files[template.SettingsFile] = []byte(t.SettingsText)
	}
	for _, p := range t.Pictures {
		files[filepath.Join(template.PictureFolder, p.File)] = p.Data
	}
	if len(t.Pictures) > 0 {
		if err := os.Mkdir(filepath.Join(part, template.PictureFolder), 0o755); err != nil {
			return err
		}
	}
	for name, data := range files {
		if err := os.WriteFile(filepath.Join(part, name), data, 0o644); err != nil {
			return err
		}
	}
	if err := os.Chmod(part, 0o755); err != nil {
		return err
	}
	return os.Rename(part, folder)
}

func (a *app) peopleCommand() *cobra.Command {
	var server string
	c := &cobra.Command{Use: "people", Short: "List and import the people of a service"}
	serverFlag(c, &server)
	c.AddCommand(a.peopleList(&server), a.peopleImport(&server))
	return c
}

func (a *app) peopleList(server *string) *cobra.Command {
	var search string
	c := &cobra.Command{
		Use: "list", Short: "List people", Example: "  missivum people list --search saltmouth", Args: exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			r, err := newRemote(*server)
			if err != nil {
				return err
			}
			var rows [][]string
			for offset := 0; ; {
				var page api.PeoplePage
				path := fmt.Sprintf("/api/v1/people?search=%s&offset=%d&limit=1000", url.QueryEscape(search), offset)
				if err := r.json(cmd.Context(), http.MethodGet, path, nil, &page); err != nil {
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
		},
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

func (a *app) peopleImport(server *string) *cobra.Command {
	var dry, replace bool
	var mapped []string
	c := &cobra.Command{
		Use: "import FILE", Short: "Take a CSV file into the directory",
		Long:    "Takes a CSV file into the directory: new people are added, values changed. People who are not in the file stay, unless --replace is given. --dry-run tells what would change and changes nothing.",
		Example: "  missivum people import demo/people.csv --dry-run",
		Args:    exactly("FILE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			r, err := newRemote(*server)
			if err != nil {
				return err
			}
			f, err := os.Open(args[0])
			if err != nil {
				return fmt.Errorf("the people cannot be read: %w", err)
			}
			defer f.Close()
			mapping, err := parseMapping(mapped)
			if err != nil {
				return err
			}
			query := url.Values{"apply": {fmt.Sprint(!dry)}, "replace": {fmt.Sprint(replace)}}
			for heading, field := range mapping {
				query.Add("map", heading+"="+field)
			}
			path := "/api/v1/people/import?" + query.Encode()
			answer, err := r.do(cmd.Context(), http.MethodPost, path, f, "text/csv")
			if err != nil {
				return err
			}
			defer answer.Body.Close()
			var plan people.Plan
			if err := json.NewDecoder(answer.Body).Decode(&plan); err != nil {
				return err
			}
			a.tellRows(args[0], plan.Bad)
			a.printPlan(plan, dry)
			return nil
		},
	}
	c.Flags().BoolVar(&dry, "dry-run", false, "only tell what would change")
	mapFlag(c, &mapped)
	c.Flags().BoolVar(&replace, "replace", false, "remove people who are not in the file")
	return c
}

func (a *app) printPlan(plan people.Plan, dry bool) {
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
		for _, c := range plan.Changes {
			var parts []string
			for _, f := range c.Fields {
				parts = append(parts, fmt.Sprintf("%s %q -> %q", f.Field, f.Before, f.After))
			}
			fmt.Fprintf(a.out, "%s  %s  %s\n", c.Kind, c.Mail, strings.Join(parts, ", "))
		}
	}
	verb := ""
	if dry {
		verb = "would be "
	}
	fmt.Fprintf(a.out, "%s: %s%d added, %d changed, %d removed, %d unchanged, %d left out\n",
		plural(plan.Rows, "person", "people"), verb, plan.Added, plan.Changed, plan.Removed, plan.Unchanged, len(plan.Bad))
}

func (a *app) packageCommand() *cobra.Command {
	var server string
	c := &cobra.Command{Use: "package", Short: "Make and download packages of a service"}
	serverFlag(c, &server)
	c.AddCommand(a.packageCreate(&server), a.packageDownload(&server))
	return c
}

func (a *app) packageCreate(server *string) *cobra.Command {
	var variants []string
	c := &cobra.Command{
		Use: "create TEMPLATE", Short: "Make a package for everybody and wait until it is ready", Example: "  missivum package create harbour",
		Args: exactly("TEMPLATE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			r, err := newRemote(*server)
			if err != nil {
				return err
			}
			var p api.PackageInfo
			if err := r.json(cmd.Context(), http.MethodPost, "/api/v1/packages", api.PackageRequest{Template: args[0], Variants: variants}, &p); err != nil {
				return err
			}
			bar := a.progress("people", p.Total)
			defer bar.end()
			for p.State == "waiting" || p.State == "running" {
				select {
				case <-cmd.Context().Done():
					return cmd.Context().Err()
				case <-time.After(100 * time.Millisecond):
				}
				if err := r.json(cmd.Context(), http.MethodGet, "/api/v1/packages/"+p.ID, nil, &p); err != nil {
					return err
				}
				bar.done(p.Done &^ 63)
			}
			if p.State != "ready" {
				return fmt.Errorf("the package %s: %s", p.State, p.Message)
			}
			fmt.Fprintf(a.out, "%s  %s, %s, %s bytes\n", p.ID, plural(p.Total, "person", "people"), plural(p.Files, "file", "files"), grouped(int(p.Bytes)))
			return nil
		},
	}
	c.Flags().StringArrayVar(&variants, "variant", nil, "variant to pack; may be given several times (default all)")
	return c
}

func (a *app) packageDownload(server *string) *cobra.Command {
	var output string
	c := &cobra.Command{
		Use: "download ID", Short: "Download a package that is ready", Example: "  missivum package download 4f1c9a02b7d3e85a60 -o harbour.zip",
		Args: exactly("ID"),
		RunE: func(cmd *cobra.Command, args []string) error {
			r, err := newRemote(*server)
			if err != nil {
				return err
			}
			if output == "" {
				output = args[0] + ".zip"
			}
			answer, err := r.do(cmd.Context(), http.MethodGet, "/api/v1/packages/"+url.PathEscape(args[0])+"/file", nil, "")
			if err != nil {
				return err
			}
			defer answer.Body.Close()
			var n int64
			err = a.writeFile(output, func(w io.Writer) error {
				n, err = io.Copy(w, answer.Body)
				if err == nil && answer.ContentLength >= 0 && n != answer.ContentLength {
					err = io.ErrUnexpectedEOF
				}
				return err
			})
			if err == nil && output != "-" {
				fmt.Fprintf(a.out, "%s: %s bytes\n", output, grouped(int(n)))
			}
			return err
		},
	}
	c.Flags().StringVarP(&output, "output", "o", "", "file to write (default the id with .zip)")
	return c
}
