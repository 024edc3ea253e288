package cli

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"

	"github.com/spf13/cobra"

	"missivum/service/access"
	"missivum/service/api"
)

// keyCommand is missivum key, which works against a service.
func (a *app) keyCommand() *cobra.Command {
	return onlineGroup("key", "Make keys for programs: pipelines, identity systems, desks, gateways", a.keyList, a.keyAdd, a.keyRemove)
}

// keyList lists the keys.
func (a *app) keyList(server *string) *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the keys", Example: "  missivum key list", Args: exactly(),
		RunE: online(server, func(ctx context.Context, r *remote, _ []string) error {
			var list []api.Key
			if err := r.json(ctx, http.MethodGet, "/api/v1/keys", nil, &list); err != nil {
				return err
			}
			var rows [][]string
			for _, k := range list {
				rows = append(rows, []string{k.Name, words(k.Scopes), or(k.Source, "-"), or(k.Account, "a program"), day(k.Created),
					dayOr(k.Ends, "never"), dayOr(k.Used, "never")})
			}
			printTable(a.out, []string{"Key", "Scopes", "Source", "Acts for", "Made", "Ends", "Used"}, rows)
			return nil
		}),
	}
}

// keyAdd makes a key.
func (a *app) keyAdd(server *string) *cobra.Command {
	var source, ends string
	var scopes []string
	c := &cobra.Command{
		Use: "add NAME", Short: "Make a key for a program",
		Long: `Makes a key and prints it, once: it is not kept. A program sends it as a bearer token, or has it in MISSIVUM_KEY. Scopes:
api:read looks at everything but accounts, keys and the record; api:write changes too, but approves nothing; with directory an
identity system pushes people to the address /scim/v2 into the source --source, which is made where it is not there; with desk,
missivum desk watch asks for signatures and reports; with gateway, missivum gateway fetches rules and reports; metrics reads the
figures.`,
		Example: "  missivum key add identity --scope directory --source identity\n  missivum key add pipeline " +
			"--scope api:write --ends 2027-06-30",
		Args: exactly("NAME"),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			if source == "" && slices.Contains(scopes, string(access.Directory)) {
				source = args[0]
			}
			var k api.Key
			request := map[string]any{"name": args[0], "scopes": scopes, "source": source, "ends": ends}
			if err := r.json(ctx, http.MethodPost, "/api/v1/keys", request, &k); err != nil {
				return err
			}
			fmt.Fprintln(a.err, "This is the key; it is shown once:")
			fmt.Fprintln(a.out, k.Secret)
			return nil
		}),
	}
	c.Flags().StringSliceVar(&scopes, "scope", nil, "what the key is for: "+words(access.Scopes()))
	c.Flags().StringVar(&source, "source", "", "source that it pushes to (default the name of the key)")
	c.Flags().StringVar(&ends, "ends", "", "day from which on it opens nothing, such as 2027-06-30 (default never)")
	return c
}

// keyRemove removes a key.
func (a *app) keyRemove(server *string) *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Remove a key, which from then on opens nothing",
		Example: "  missivum key remove identity", Args: exactly("NAME"),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			return r.json(ctx, http.MethodDelete, "/api/v1/keys/"+url.PathEscape(args[0]), nil, nil)
		}),
	}
}
