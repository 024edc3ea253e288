package cli

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"time"

	"github.com/spf13/cobra"

	"missivum/service/api"
)

// packageCommand is missivum package, which works against a service.
func (a *app) packageCommand() *cobra.Command {
	return onlineGroup("package", "Make and download packages of a service", a.packageCreate, a.packageDownload)
}

// packageCreate asks the service for a package and shows how far it is until it is ready or has failed.
func (a *app) packageCreate(server *string) *cobra.Command {
	var variants []string
	c := &cobra.Command{
		Use: "create TEMPLATE", Short: "Make a package for those who get the template, and wait until it is ready", Example: "  missivum package create harbour",
		Args: exactly("TEMPLATE"),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			var p api.PackageInfo
			if err := r.json(ctx, http.MethodPost, "/api/v1/packages", api.PackageRequest{Template: args[0], Variants: variants}, &p); err != nil {
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
	c.Flags().StringArrayVar(&variants, "variant", nil, "variant to pack; may be given several times (default all)")
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
