package cli

import (
	"context"
	"fmt"
	"net/http"
	"net/url"

	"github.com/spf13/cobra"

	"missivum/service/api"
	"missivum/service/keys"
)

// keyCommand is missivum key, which works against a service.
func (a *app) keyCommand() *cobra.Command {
	return onlineGroup("key", "Make keys for identity systems and desks", a.keyList, a.keyAdd, a.keyRemove)
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
				rows = append(rows, []string{k.Name, k.Scope, k.Source, day(k.Created)})
			}
			printTable(a.out, []string{"Key", "Scope", "Source", "Made"}, rows)
			return nil
		}),
	}
}

// keyAdd makes a key.
func (a *app) keyAdd(server *string) *cobra.Command {
	var source, scope string
	c := &cobra.Command{
		Use: "add NAME", Short: "Make a key for an identity system (scope directory) or for desks (scope desk)",
		Long: "Makes a key and prints it, once: it is not kept. With one of the scope directory an identity system " +
			"pushes people in: it sends it as " +
			"a bearer token to the address /scim/v2 of the service. What it pushes is the source --source, which is made where it is not there. " +
			"With one of the scope desk, missivum desk watch asks for signatures and reports.",
		Example: "  missivum key add identity --source identity",
		Args:    exactly("NAME"),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			if source == "" && scope == keys.Directory {
				source = args[0]
			}
			var k api.Key
			request := map[string]string{"name": args[0], "scope": scope, "source": source}
			if err := r.json(ctx, http.MethodPost, "/api/v1/keys", request, &k); err != nil {
				return err
			}
			fmt.Fprintln(a.err, "This is the key; it is shown once:")
			fmt.Fprintln(a.out, k.Secret)
			return nil
		}),
	}
	c.Flags().StringVar(&scope, "scope", keys.Directory, "what the key is for: directory or desk")
	c.Flags().StringVar(&source, "source", "", "source that it pushes to (default the name of the key)")
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
