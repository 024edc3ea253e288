package cli

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"missivum/service/access"
	"missivum/service/api"
)

// accountCommand is missivum account, which works against a service.
func (a *app) accountCommand() *cobra.Command {
	return onlineGroup("account", "Say who may sign in and do what", a.accountList, a.accountAdd, a.accountChange,
		a.accountLink, a.accountRemove)
}

// words writes values with commas.
func words[T ~string](list []T) string {
	var out []string
	for _, one := range list {
		out = append(out, string(one))
	}
	return strings.Join(out, ", ")
}

// dayOr writes a day, or what stands for none.
func dayOr(t *time.Time, none string) string {
	if t == nil {
		return none
	}
	return day(*t)
}

// accountList lists the accounts.
func (a *app) accountList(server *string) *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the accounts with their roles", Example: "  missivum account list", Args: exactly(),
		RunE: online(server, func(ctx context.Context, r *remote, _ []string) error {
			var list []api.Account
			if err := r.json(ctx, http.MethodGet, "/api/v1/accounts", nil, &list); err != nil {
				return err
			}
			if len(list) == 0 {
				fmt.Fprintln(a.err, "There are no accounts: whoever uses the service's machine may do everything.")
				return nil
			}
			var rows [][]string
			for _, one := range list {
				way := "link not used yet"
				switch {
				case one.Password && one.Factor:
					way = "password, second factor"
				case one.Password:
					way = "password"
				case one.Provider:
					way = "identity provider"
				}
				rows = append(rows, []string{one.Name, one.Title, words(one.Roles), way, dayOr(one.SignedIn, "never")})
			}
			printTable(a.out, []string{"Account", "Shown as", "Roles", "Signs in by", "Signed in"}, rows)
			return nil
		}),
	}
}

// printLink says what to do with a link.
func (a *app) printLink(l api.AccountLink) {
	fmt.Fprintf(a.err, "Give this link to %s. It is shown once, and holds until %s; a password is chosen with it:\n", l.Name, day(l.Ends))
	fmt.Fprintln(a.out, l.Link)
}

// accountAdd makes an account.
func (a *app) accountAdd(server *string) *cobra.Command {
	var title string
	var roles []string
	c := &cobra.Command{
		Use: "add NAME", Short: "Make an account, and print the link with which its password is chosen",
		Long: `Makes an account. Everybody who has one may look at everything but accounts, keys and the record. The role author saves
templates and pictures, the approver approves releases, the administrator looks after people, rules, accounts and settings.
The first account must be an administrator: from then on everybody signs in, on the service's own machine too.`,
		Example: `  missivum account add maren.lind@brackwater.example --role author --title "Maren Lind"`,
		Args:    exactly("NAME"),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			var link api.AccountLink
			in := map[string]any{"name": args[0], "title": title, "roles": roles}
			if err := r.json(ctx, http.MethodPost, "/api/v1/accounts", in, &link); err != nil {
				return err
			}
			a.printLink(link)
			return nil
		}),
	}
	c.Flags().StringSliceVar(&roles, "role", []string{string(access.Viewer)}, "roles: "+words(access.Roles()))
	c.Flags().StringVar(&title, "title", "", "how the account is shown (default its name)")
	return c
}

// accountChange changes an account.
func (a *app) accountChange(server *string) *cobra.Command {
	var title string
	var roles []string
	var without bool
	c := &cobra.Command{
		Use: "change NAME", Short: "Change roles or the shown name, or remove a lost second factor; it takes effect at once",
		Example: "  missivum account change maren.lind@brackwater.example --role author,approver", Args: exactly("NAME"),
	}
	c.RunE = online(server, func(ctx context.Context, r *remote, args []string) error {
		in := map[string]any{}
		if c.Flags().Changed("role") {
			in["roles"] = roles
		}
		if c.Flags().Changed("title") {
			in["title"] = title
		}
		if without {
			in["factor"] = false
		}
		if len(in) == 0 {
			return usage("nothing is to be changed: give --role, --title or --without-factor")
		}
		var changed api.Account
		if err := r.json(ctx, http.MethodPatch, "/api/v1/accounts/"+url.PathEscape(args[0]), in, &changed); err != nil {
			return err
		}
		fmt.Fprintf(a.out, "%s: %s\n", changed.Name, words(changed.Roles))
		return nil
	})
	c.Flags().StringSliceVar(&roles, "role", nil, "roles, instead of those that it has: "+words(access.Roles()))
	c.Flags().StringVar(&title, "title", "", "how the account is shown")
	c.Flags().BoolVar(&without, "without-factor", false, "remove the second factor, when the telephone is lost")
	return c
}

// accountLink makes a new link.
func (a *app) accountLink(server *string) *cobra.Command {
	return &cobra.Command{
		Use: "link NAME", Short: "Print a new link with which a password is chosen, when it was forgotten",
		Example: "  missivum account link maren.lind@brackwater.example", Args: exactly("NAME"),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			var link api.AccountLink
			if err := r.json(ctx, http.MethodPost, "/api/v1/accounts/"+url.PathEscape(args[0])+"/link", nil, &link); err != nil {
				return err
			}
			a.printLink(link)
			return nil
		}),
	}
}

// accountRemove removes an account.
func (a *app) accountRemove(server *string) *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Remove an account with its sessions and keys; what it did stays in the record",
		Example: "  missivum account remove maren.lind@brackwater.example", Args: exactly("NAME"),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			return r.json(ctx, http.MethodDelete, "/api/v1/accounts/"+url.PathEscape(args[0]), nil, nil)
		}),
	}
}
