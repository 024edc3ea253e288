package cli

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"missivum/core/addon"
	service "missivum/service/addon"
	"missivum/service/api"
)

// addOnCommand is missivum add-on: the browser add-on.
func (a *app) addOnCommand() *cobra.Command {
	return onlineGroup("add-on", "Pack the browser add-on, name its sites, make keys for it", a.addOnShow, a.addOnSites, a.addOnPackage,
		a.addOnPolicy, a.addOnKeys, a.addOnRevoke)
}

// addOnShow says how things stand.
func (a *app) addOnShow(server *string) *cobra.Command {
	return &cobra.Command{
		Use: "show", Short: "Show the version of the add-on, its sites, and who uses it", Example: "  missivum add-on show", Args: exactly(),
		RunE: online(server, func(ctx context.Context, r *remote, _ []string) error {
			var o service.Overview
			if err := r.json(ctx, http.MethodGet, "/api/v1/add-on", nil, &o); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Version %s, in Chromium %s, in Gecko %s\n%s a key; %d used it within seven days\n", o.Version, o.ID, o.GeckoID,
				plural(o.People, "person has", "people have"), o.Used)
			var rows [][]string
			for _, s := range o.Sites {
				state := plural(len(s.Compose), "compose field", "compose fields")
				switch {
				case s.Off:
					state = "switched off"
				case len(s.Compose) == 0:
					state = "no compose field described"
				}
				rows = append(rows, []string{s.ID, s.Title, strings.Join(s.Matches, " "), s.Client, string(s.Place), state})
			}
			if len(rows) == 0 {
				fmt.Fprintln(a.out, "No site is named: missivum add-on sites --help.")
				return nil
			}
			printTable(a.out, []string{"Site", "Title", "Addresses", "Client", "In replies", "State"}, rows)
			return nil
		}),
	}
}

// addOnSites reads or saves the sites.
func (a *app) addOnSites(server *string) *cobra.Command {
	var file string
	c := &cobra.Command{
		Use: "sites", Short: "Print the sites of the add-on, or save those of a file",
		Long: `Prints the webmails in which the add-on places signatures, with how their compose fields are recognised, as YAML; with --put saves
those of a file in their place. The document is described in docs/add-on.md.`,
		Example: "  missivum add-on sites > sites.yaml\n  missivum add-on sites --put sites.yaml", Args: exactly(),
		RunE: online(server, func(ctx context.Context, r *remote, _ []string) error {
			var o service.Overview
			if err := r.json(ctx, http.MethodGet, "/api/v1/add-on", nil, &o); err != nil {
				return err
			}
			if file == "" {
				document, err := addon.WriteSites(o.Sites)
				if err != nil {
					return err
				}
				_, err = a.out.Write(document)
				return err
			}
			document, err := os.ReadFile(file)
			if err != nil {
				return err
			}
			if o.Sites, err = addon.ReadSites(document); err != nil {
				return fmt.Errorf("%s: %w", file, err)
			}
			before := o.Version
			if err := r.json(ctx, http.MethodPut, "/api/v1/add-on/settings", o.Settings, &o); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Saved: %s.", plural(len(o.Sites), "site", "sites"))
			if o.Version != before {
				fmt.Fprintf(a.out, " The package has changed: version %s goes to browsers.", o.Version)
			}
			fmt.Fprintln(a.out)
			return nil
		}),
	}
	c.Flags().StringVar(&file, "put", "", "file of sites (YAML) to save")
	return c
}

// addOnPackage fetches a package.
func (a *app) addOnPackage(server *string) *cobra.Command {
	var output string
	c := &cobra.Command{
		Use: "package", Short: "Get the add-on as a package",
		Long: `Gets the add-on for this organisation, packed by the service: as .crx for Chromium, signed by the service; as .zip for Chromium, to
unpack or to sign elsewhere; as .xpi for browsers of the Gecko engine. docs/add-on.md says how each gets onto desks.`,
		Example: "  missivum add-on package --output add-on.crx", Args: exactly(),
		RunE: online(server, func(ctx context.Context, r *remote, _ []string) error {
			form := strings.TrimPrefix(filepath.Ext(output), ".")
			switch service.Form(form) {
			case service.Archive, service.Signed, service.Gecko:
			default:
				return usage("--output names a file with the ending .crx, .zip or .xpi")
			}
			var o service.Overview
			if err := r.json(ctx, http.MethodGet, "/api/v1/add-on", nil, &o); err != nil {
				return err
			}
			data, err := r.bytes(ctx, "/api/v1/add-on/add-on."+form, 16<<20)
			if err != nil {
				return err
			}
			if err := a.writeFile(output, func(w io.Writer) error { _, err := w.Write(data); return err }); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Written: %s, version %s.\n", output, o.Version)
			return nil
		}),
	}
	c.Flags().StringVarP(&output, "output", "o", "add-on.crx", "file: its ending says for which browsers")
	return c
}

// addOnPolicy prints a policy.
func (a *app) addOnPolicy(server *string) *cobra.Command {
	var key string
	c := &cobra.Command{
		Use: "policy ENGINE", Short: "Print the policy that an administrator gives to browsers of chromium or gecko",
		Example: "  missivum add-on policy chromium --key missivum-add-on-... > /etc/chromium/policies/managed/signatures.json",
		Args:    exactly("ENGINE"),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			query := url.Values{"engine": args}
			if key != "" {
				query.Set("key", key)
			}
			data, err := r.bytes(ctx, "/api/v1/add-on/policy?"+query.Encode(), 1<<20)
			if err != nil {
				return err
			}
			var b bytes.Buffer
			if err := json.Indent(&b, data, "", "  "); err != nil {
				return err
			}
			b.WriteByte('\n')
			_, err = b.WriteTo(a.out)
			return err
		}),
	}
	c.Flags().StringVar(&key, "key", "", "key of the person who uses the browser; without one people paste their own")
	return c
}

// addOnKeys lists keys, or makes some.
func (a *app) addOnKeys(server *string) *cobra.Command {
	var output, search string
	c := &cobra.Command{
		Use: "keys [MAIL...]", Short: "List the keys of people's add-ons, or make a key for each of some people",
		Long: `Without addresses lists the newest keys. With addresses makes a key for each person, and writes them as CSV: they are shown this
once. A key fetches the signatures of its person and nothing else; it ends by itself, with the person's leaving, or by missivum add-on
revoke.`,
		Example: "  missivum add-on keys --search lind\n  missivum add-on keys maren.lind@brackwater.example --output keys.csv",
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			if len(args) == 0 {
				return a.listAddOnKeys(ctx, r, search)
			}
			var keys []service.Key
			if err := r.json(ctx, http.MethodPost, "/api/v1/add-on/keys", api.NewAddOnKeys{People: args}, &keys); err != nil {
				return err
			}
			return a.writeFile(output, func(w io.Writer) error {
				table := csv.NewWriter(w)
				rows := [][]string{{"mail", "key", "ends"}}
				for _, k := range keys {
					rows = append(rows, []string{k.Person, k.Key, k.Ends.Format("2006-01-02")})
				}
				return table.WriteAll(rows)
			})
		}),
	}
	c.Flags().StringVarP(&output, "output", "o", "", "file for the keys (CSV); standard output without one")
	c.Flags().StringVar(&search, "search", "", "list keys of addresses that hold a text")
	return c
}

func (a *app) listAddOnKeys(ctx context.Context, r *remote, search string) error {
	var list []api.AddOnKey
	if err := r.json(ctx, http.MethodGet, "/api/v1/add-on/keys?search="+url.QueryEscape(search), nil, &list); err != nil {
		return err
	}
	var rows [][]string
	for _, k := range list {
		used, ends := "never", day(k.Ends)
		if !k.Used.IsZero() {
			used = day(k.Used)
		}
		if !k.Revoked.IsZero() {
			ends = "ended " + day(k.Revoked)
		}
		rows = append(rows, []string{fmt.Sprint(k.ID), k.Person, day(k.Created), ends, used, k.Version})
	}
	printTable(a.out, []string{"Number", "Person", "Made", "Ends", "Used", "Version"}, rows)
	return nil
}

// addOnRevoke ends a key.
func (a *app) addOnRevoke(server *string) *cobra.Command {
	return &cobra.Command{
		Use: "revoke NUMBER", Short: "End the key of an add-on", Example: "  missivum add-on revoke 7", Args: exactly("NUMBER"),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			if err := r.json(ctx, http.MethodDelete, "/api/v1/add-on/keys/"+url.PathEscape(args[0]), nil, nil); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Key %s has ended.\n", args[0])
			return nil
		}),
	}
}
