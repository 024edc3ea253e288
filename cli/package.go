package cli

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"missivum/core/client"
	"missivum/service/api"
)

// packageCommand is missivum package, which works against a service.
func (a *app) packageCommand() *cobra.Command {
	return onlineGroup("package", "Make and download packages of a service", a.packageCreate, a.packageDownload)
}

// packageCreate asks the service for a package and shows how far it is until it is ready or has failed.
func (a *app) packageCreate(server *string) *cobra.Command {
	var in api.PackageRequest
	c := &cobra.Command{
		Use: "create [TEMPLATE]", Short: "Make a package for those who get a template or a release, and wait until it is ready",
		Long: `Makes a package of all forms of a template; with --way or --client of kits for that way of installing; and with --release
of kits of a release, for everybody, an audience or one person. Kits are signed by the service.`,
		Example: "  missivum package create harbour",
		Args:    cobra.MaximumNArgs(1),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			if len(args) == 1 {
				in.Template = args[0]
			}
			if (in.Template == "") == (in.Release == 0) {
				return usage("create needs a TEMPLATE or --release, and not both")
			}
			var p api.PackageInfo
			if err := r.json(ctx, http.MethodPost, "/api/v1/packages", in, &p); err != nil {
				return err
			}
			for _, note := range p.Notes {
				fmt.Fprintln(a.err, note)
			}
			bar := a.progress("people", p.Total)
			defer bar.end()
			for p.State == "waiting" || p.State == "running" {
				select {
				case <-ctx.Done():
					return ctx.Err()
				case <-time.After(100 * time.Millisecond):
				}
				if err := r.json(ctx, http.MethodGet, "/api/v1/packages/"+p.ID, nil, &p); err != nil {
					return err
				}
				bar.done(p.Done)
			}
			if p.State != "ready" {
				return fmt.Errorf("the package %s: %s", p.State, p.Message)
			}
			fmt.Fprintf(a.out, "%s  %s, %s, %s bytes\n", p.ID, plural(p.Total, "person", "people"),
				plural(p.Files, "file", "files"), grouped(int(p.Bytes)))
			return nil
		}),
	}
	c.Flags().StringArrayVar(&in.Variants, "variant", nil, "variant to pack; may be given several times (default all)")
	c.Flags().StringVar(&in.Way, "way", "", "way of installing for which kits are made: "+strings.Join(client.WayIDs(), ", "))
	c.Flags().StringVar(&in.Client, "client", "", "client profile for which kits are made")
	c.Flags().IntVar(&in.Release, "release", 0, "release of which kits are made")
	c.Flags().StringVar(&in.Audience, "audience", "", "only people of this audience of the release")
	c.Flags().StringVar(&in.Person, "person", "", "only the person with this mail address")
	c.Flags().StringVar(&in.Base, "base", "", "base name of the files of a template's kits (default the template's name)")
	c.Flags().StringVar(&in.Folders, "folders", "", "field after which the people's folders are named, such as uid (default the mail address)")
	return c
}

// packageDownload writes a package into a file, which appears when it is whole.
func (a *app) packageDownload(server *string) *cobra.Command {
	var output string
	c := &cobra.Command{
		Use: "download ID", Short: "Download a package that is ready", Example: "  missivum package download 4f1c9a02b7d3e85a60 -o harbour.zip",
		Args: exactly("ID"),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			if output == "" {
				output = args[0] + ".zip"
			}
			answer, err := r.do(ctx, http.MethodGet, "/api/v1/packages/"+url.PathEscape(args[0])+"/file", nil, "")
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
		}),
	}
	c.Flags().StringVarP(&output, "output", "o", "", "file to write (default the id with .zip)")
	return c
}
