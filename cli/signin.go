package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"regexp"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"missivum/service/access"
	"missivum/service/api"
)

// keyTime is for how long the key holds that signing in makes.
const keyTime = 90 * 24 * time.Hour

// signInCommand is missivum sign-in.
func (a *app) signInCommand() *cobra.Command {
	var server, name string
	var withKey bool
	c := &cobra.Command{
		Use: "sign-in", Short: "Sign in to a service, so that commands act for you",
		Long: `Asks for name, password and, where there is one, the code of the second factor, has the service make a key that acts for
you for 90 days, and keeps it in a file that only you can read. With --with-key it reads a key that you made on the page
"Your account": for those who sign in at an identity provider. In pipelines the environment's MISSIVUM_KEY does the same.`,
		Example: "  missivum sign-in --server https://signatures.brackwater.example",
		Args:    exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			r, err := newRemote(server)
			if err != nil {
				return err
			}
			ask := prompt{a: a, in: bufio.NewReader(a.in)}
			var kept signedKey
			if withKey {
				kept, err = givenKey(cmd.Context(), r, ask)
			} else {
				kept, err = makeKey(cmd.Context(), r, ask, name, a.now())
			}
			if err != nil {
				return err
			}
			s, err := readSigned()
			if err != nil {
				return err
			}
			s.Last, s.Services[r.base] = r.base, kept
			if err := s.write(); err != nil {
				return fmt.Errorf("the key cannot be kept: %w", err)
			}
			until := ""
			if kept.Ends != "" {
				until = " until " + kept.Ends
			}
			fmt.Fprintf(a.out, "Commands act for %s at %s%s.\n", kept.Account, r.base, until)
			return nil
		},
	}
	serverFlag(c, &server)
	c.Flags().StringVar(&name, "name", "", "name of the account (default it is asked for)")
	c.Flags().BoolVar(&withKey, "with-key", false, "read a key instead of name and password")
	return c
}

// prompt asks for what is typed in.
type prompt struct {
	a  *app
	in *bufio.Reader
}

// line asks for a line; hidden ones are not shown where they are typed into a terminal.
func (q prompt) line(what string, hidden bool) (string, error) {
	fmt.Fprint(q.a.err, what+": ")
	if f, ok := q.a.in.(*os.File); ok && hidden && term.IsTerminal(int(f.Fd())) {
		text, err := term.ReadPassword(int(f.Fd()))
		fmt.Fprintln(q.a.err)
		return string(text), err
	}
	text, err := q.in.ReadString('\n')
	if errors.Is(err, io.EOF) && text != "" {
		err = nil
	}
	if err != nil {
		return "", fmt.Errorf("%s is not given: %w", strings.ToLower(what), err)
	}
	return strings.TrimRight(text, "\r\n"), nil
}

// givenKey reads a key and finds out whose it is.
func givenKey(ctx context.Context, r *remote, ask prompt) (signedKey, error) {
	key, err := ask.line("Key", true)
	if err != nil {
		return signedKey{}, err
	}
	r.key = key
	var s api.Session
	if err := r.json(ctx, http.MethodGet, "/api/v1/session", nil, &s); err != nil {
		return signedKey{}, err
	}
	return signedKey{Account: s.Name, Key: key}, nil
}

// notInName is what cannot stand in the name of a key.
var notInName = regexp.MustCompile(`[^a-z0-9]+`)

// makeKey signs in, has a key made, and signs out: the key is enough then.
func makeKey(ctx context.Context, r *remote, ask prompt, name string, now time.Time) (kept signedKey, err error) {
	if name == "" {
		if name, err = ask.line("Name", false); err != nil {
			return kept, err
		}
	}
	password, err := ask.line("Password", true)
	if err != nil {
		return kept, err
	}
	if r.client.Jar, err = cookiejar.New(nil); err != nil {
		return kept, err
	}
	r.key = ""
	in := map[string]string{"name": name, "password": password}
	var s api.Session
	err = r.json(ctx, http.MethodPost, "/api/v1/sign-in", in, &s)
	var refused refusal
	if errors.As(err, &refused) && refused.Field == "code" {
		if in["code"], err = ask.line("Code of your second factor", false); err != nil {
			return kept, err
		}
		err = r.json(ctx, http.MethodPost, "/api/v1/sign-in", in, &s)
	}
	if err != nil {
		return kept, err
	}
	host, err := os.Hostname()
	if err != nil {
		host = "command"
	}
	label := "command-" + strings.Trim(notInName.ReplaceAllString(strings.ToLower(s.Name+"-"+host), "-"), "-")
	request := map[string]any{
		"name": label[:min(len(label), 40)] + now.Format("-20060102-150405"), "scopes": []access.Scope{access.APIWrite},
		"ends": now.Add(keyTime).Format(time.DateOnly),
	}
	var key api.Key
	if err := r.json(ctx, http.MethodPost, "/api/v1/account/keys", request, &key); err != nil {
		return kept, err
	}
	kept = signedKey{Account: s.Name, Name: key.Name, Key: key.Secret, Ends: key.Ends.Format(time.DateOnly)}
	return kept, r.json(ctx, http.MethodDelete, "/api/v1/session", nil, nil)
}

// signOutCommand is missivum sign-out.
func (a *app) signOutCommand() *cobra.Command {
	var server string
	c := &cobra.Command{
		Use: "sign-out", Short: "Remove the key that sign-in made, here and at the service",
		Example: "  missivum sign-out", Args: exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			r, err := newRemote(server)
			if err != nil {
				return err
			}
			s, err := readSigned()
			if err != nil {
				return err
			}
			kept, ok := s.Services[r.base]
			if !ok {
				return usage("nobody is signed in to %s here", r.base)
			}
			if r.key = kept.Key; kept.Name != "" {
				err = r.json(cmd.Context(), http.MethodDelete, "/api/v1/account/keys/"+url.PathEscape(kept.Name), nil, nil)
			}
			delete(s.Services, r.base)
			if s.Last == r.base {
				s.Last = ""
			}
			if failed := s.write(); failed != nil {
				return errors.Join(err, failed)
			}
			if err != nil {
				return fmt.Errorf("the key is removed here; the service says: %w", err)
			}
			fmt.Fprintf(a.out, "Signed out of %s.\n", r.base)
			return nil
		},
	}
	serverFlag(c, &server)
	return c
}
