package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"missivum/service/api"
	"missivum/service/hosting"
	"missivum/service/pictures"
)

// pictureStore is missivum picture store, which works against a service.
func (a *app) pictureStore() *cobra.Command {
	return onlineGroup("store", "The pictures of a service: versions, uses, settings",
		a.storeList, a.storeShow, a.storePush, a.storeAlt, a.storeUse, a.storeTake, a.storeSettings)
}

// storeList lists the pictures with their latest version.
func (a *app) storeList(server *string) *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the pictures", Example: "  missivum picture store list", Args: exactly(),
		RunE: online(server, func(ctx context.Context, r *remote, _ []string) error {
			var list []api.PictureSummary
			if err := r.json(ctx, http.MethodGet, "/api/v1/pictures", nil, &list); err != nil {
				return err
			}
			var rows [][]string
			for _, p := range list {
				uses := strings.Join(p.Uses, ", ")
				if len(p.Outdated) > 0 {
					uses += " (older version: " + strings.Join(p.Outdated, ", ") + ")"
				}
				rows = append(rows, []string{p.Name, fmt.Sprint(p.Number), strings.ToUpper(p.Facts.Format),
					fmt.Sprintf("%d x %d px", p.Facts.Width, p.Facts.Height), amount(p.Facts.Bytes, "bytes"), p.Alt, uses})
			}
			printTable(a.out, []string{"Name", "Version", "Format", "Size", "Weight", "Alternative text", "Used in"}, rows)
			return nil
		}),
	}
}

// storeShow shows one picture with its versions, uses and renditions.
func (a *app) storeShow(server *string) *cobra.Command {
	return &cobra.Command{
		Use: "show NAME", Short: "Show a picture: its versions, where it is used, what the latest version would change there, its renditions",
		Example: "  missivum picture store show ferry", Args: exactly("NAME"),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			var p pictures.Record
			if err := r.json(ctx, http.MethodGet, "/api/v1/pictures/"+url.PathEscape(args[0]), nil, &p); err != nil {
				return err
			}
			var rows [][]string
			for _, v := range p.Versions {
				rows = append(rows, []string{fmt.Sprint(v.Number), v.Saved.Format("2006-01-02 15:04"),
					strings.ToUpper(v.Facts.Format), fmt.Sprintf("%d x %d px", v.Facts.Width, v.Facts.Height),
					amount(v.Facts.Bytes, "bytes"), v.SHA256[:12], v.Note})
			}
			printTable(a.out, []string{"Version", "Saved", "Format", "Size", "Weight", "SHA-256", "Note"}, rows)
			for _, language := range slices.Sorted(maps.Keys(p.Alts)) {
				fmt.Fprintf(a.out, "%s: %s\n", language, p.Alts[language])
			}
			for _, u := range p.Uses {
				out := ""
				if u.Packages > 0 {
					out = ", out in " + plural(u.Packages, "package", "packages")
				}
				fmt.Fprintf(a.out, "Used in %s as %s, version %d%s.\n", u.Template, u.Name, u.Version, out)
				if err := a.printPictureChanges(ctx, r, p, u); err != nil {
					return err
				}
			}
			for _, m := range p.Renditions {
				recipe, err := json.Marshal(m.Recipe)
				if err != nil {
					return err
				}
				fmt.Fprintf(a.out, "Rendition %s of version %d: %d x %d px, %s bytes, by %s\n", m.Key, m.Number,
					m.Facts.Width, m.Facts.Height, grouped(m.Facts.Bytes), recipe)
			}
			return nil
		}),
	}
}

// printPictureChanges lists what the latest version would change where an older one is used.
func (a *app) printPictureChanges(ctx context.Context, r *remote, p pictures.Record, u pictures.Use) error {
	if u.Version == p.Latest().Number {
		return nil
	}
	var out api.PictureChanges
	query := url.Values{"template": {u.Template}, "as": {u.Name}}
	if err := r.json(ctx, http.MethodGet, "/api/v1/pictures/"+url.PathEscape(p.Name)+"/changes?"+query.Encode(), nil, &out); err != nil {
		return err
	}
	for _, change := range out.Changes {
		fmt.Fprintf(a.out, "    %s\n", change)
	}
	return nil
}

// storePush stores a file as a picture or as its next version.
func (a *app) storePush(server *string) *cobra.Command {
	var name, note string
	c := &cobra.Command{
		Use: "push FILE", Short: "Store a picture, or a new version of it",
		Example: "  missivum picture store push demo/pictures/ferry.svg --name ferry", Args: exactly("FILE"),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			data, err := readPicture(args[0])
			if err != nil {
				return err
			}
			if name == "" {
				name = strings.TrimSuffix(filepath.Base(args[0]), filepath.Ext(args[0]))
			}
			query := url.Values{"file": {filepath.Base(args[0])}, "note": {note}}
			answer, err := r.do(ctx, http.MethodPut, "/api/v1/pictures/"+url.PathEscape(name)+"?"+query.Encode(),
				bytes.NewReader(data), "application/octet-stream")
			if err != nil {
				return err
			}
			defer answer.Body.Close()
			var p pictures.Record
			if err := json.NewDecoder(answer.Body).Decode(&p); err != nil {
				return err
			}
			v := p.Latest()
			fmt.Fprintf(a.out, "%s: version %d, %s, %d x %d px, %s bytes\n", p.Name, v.Number,
				strings.ToUpper(v.Facts.Format), v.Facts.Width, v.Facts.Height, grouped(v.Facts.Bytes))
			for _, u := range p.Uses {
				if u.Version != v.Number {
					fmt.Fprintf(a.out, "%s uses version %d; taking this one changes:\n", u.Template, u.Version)
					if err := a.printPictureChanges(ctx, r, p, u); err != nil {
						return err
					}
				}
			}
			return nil
		}),
	}
	c.Flags().StringVar(&name, "name", "", "name of the picture (default that of the file)")
	c.Flags().StringVar(&note, "note", "", "what is new")
	return c
}

// storeAlt sets the alternative texts, all of them at once: one that is left out is gone.
func (a *app) storeAlt(server *string) *cobra.Command {
	return &cobra.Command{
		Use: "alt NAME LANGUAGE=TEXT...", Short: "Set a picture's alternative texts, all of them",
		Example: "  missivum picture store alt ferry en=Ferry sv=Färja", Args: cobra.MinimumNArgs(1),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			alts := map[string]string{}
			for _, arg := range args[1:] {
				language, text, ok := strings.Cut(arg, "=")
				if !ok {
					return usage("%q must be a language, = and the text, such as sv=Färja", arg)
				}
				alts[language] = text
			}
			var p pictures.Record
			if err := r.json(ctx, http.MethodPut, "/api/v1/pictures/"+url.PathEscape(args[0])+"/alts", alts, &p); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%s: %s\n", p.Name, plural(len(p.Alts), "alternative text", "alternative texts"))
			return nil
		}),
	}
}

// storeUse fits a picture and puts it into a template, as a new version of the template.
func (a *app) storeUse(server *string) *cobra.Command {
	f := recipeFlags{all: true}
	var in pictures.UseRequest
	c := &cobra.Command{
		Use: "use NAME", Short: "Fit a picture and put it into a template",
		Example: "  missivum picture store use ferry --template harbour --as-name mark --width 44", Args: exactly("NAME"),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			var err error
			if in.Recipe, err = f.read(); err != nil {
				return err
			}
			return a.intoTemplate(ctx, r, args[0], "use", in)
		}),
	}
	f.add(c)
	c.Flags().StringVar(&in.Template, "template", "", "template that gets it")
	c.Flags().StringVar(&in.Name, "as-name", "", "its name there, for data-picture (default the picture's)")
	return c
}

// storeTake updates a template to a picture's latest version.
func (a *app) storeTake(server *string) *cobra.Command {
	var in pictures.UseRequest
	c := &cobra.Command{
		Use: "take NAME", Short: "Update a template to a picture's latest version",
		Example: "  missivum picture store take ferry --template harbour", Args: exactly("NAME"),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			return a.intoTemplate(ctx, r, args[0], "take", in)
		}),
	}
	c.Flags().StringVar(&in.Template, "template", "", "template that uses it")
	return c
}

// intoTemplate asks the service to put a picture into a template, and says which version that made.
func (a *app) intoTemplate(ctx context.Context, r *remote, name, way string, in pictures.UseRequest) error {
	if in.Template == "" {
		return usage("--template says which template")
	}
	var t api.TemplateDetail
	if err := r.json(ctx, http.MethodPost, "/api/v1/pictures/"+url.PathEscape(name)+"/"+way, in, &t); err != nil {
		return err
	}
	fmt.Fprintf(a.out, "%s: saved as version %d: %s\n", t.Name, t.Number, t.Note)
	return nil
}

// storeSettings shows or sets where pictures are hosted. Only what is named is changed.
func (a *app) storeSettings(server *string) *cobra.Command {
	var address string
	var volume, hours int
	c := &cobra.Command{
		Use: "settings", Short: "Show or set where pictures are hosted, the messages a day, and how often addresses are checked",
		Example: "  missivum picture store settings --address https://pictures.brackwater.example/ --volume 9000 --hours 24", Args: exactly(),
	}
	c.RunE = online(server, func(ctx context.Context, r *remote, _ []string) error {
		var s hosting.Settings
		if err := r.json(ctx, http.MethodGet, "/api/v1/settings/pictures", nil, &s); err != nil {
			return err
		}
		flags := c.Flags()
		if flags.Changed("address") || flags.Changed("volume") || flags.Changed("hours") {
			if flags.Changed("address") {
				s.Address = address
			}
			if flags.Changed("volume") {
				s.Volume = volume
			}
			if flags.Changed("hours") {
				s.Hours = hours
			}
			if err := r.json(ctx, http.MethodPut, "/api/v1/settings/pictures", s, &s); err != nil {
				return err
			}
		}
		words := func(value, none string) string {
			if value == "" || value == "0" {
				return none
			}
			return value
		}
		fmt.Fprintf(a.out, "public address   %s\nmessages a day   %s\naddress check    %s\n",
			words(s.Address, "none: templates need pictures.address of their own"),
			words(fmt.Sprint(s.Volume), "not known"), words(fmt.Sprint(s.Hours), "by hand only"))
		return nil
	})
	c.Flags().StringVar(&address, "address", "", "public address below which the service's pictures are reached")
	c.Flags().IntVar(&volume, "volume", 0, "messages that go out in a day")
	c.Flags().IntVar(&hours, "hours", 0, "hours between two checks of all picture addresses; 0 for none")
	return c
}
