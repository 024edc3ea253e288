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
	"strings"

	"github.com/spf13/cobra"

	"missivum/service/api"
)

// remote is a service that commands talk to.
type remote struct {
	base   string
	client *http.Client
	as     string // who acts; blank for the service's owner
	key    string // with which the service is asked; blank for none
}

// serverFlag adds --server, which the environment can set.
func serverFlag(c *cobra.Command, into *string) {
	c.PersistentFlags().StringVar(into, "server", "",
		"address of the service (default: environment MISSIVUM_SERVER, else the one that was signed in to last, else http://"+defaultListen+")")
}

// newRemote is a client of a service's HTTP interface.
func newRemote(server string) (*remote, error) {
	if server == "" {
		server = os.Getenv("MISSIVUM_SERVER")
	}
	if server == "" {
		kept, err := readSigned()
		if err != nil {
			return nil, err
		}
		server = kept.Last
	}
	if server == "" {
		server = "http://" + defaultListen
	}
	u, err := url.Parse(server)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return nil, usage("--server %q is not an address such as http://%s", server, defaultListen)
	}
	r := &remote{base: strings.TrimRight(server, "/"), client: &http.Client{}}
	r.key, err = keyFor(r.base)
	return r, err
}

// onlineGroup is a command that holds commands against a service, with --server for all of them.
func onlineGroup(use, short string, commands ...func(server *string) *cobra.Command) *cobra.Command {
	server := new(string)
	c := &cobra.Command{Use: use, Short: short}
	serverFlag(c, server)
	for _, command := range commands {
		c.AddCommand(command(server))
	}
	return c
}

// online makes the run of a command against the service.
func online(server *string, run func(ctx context.Context, r *remote, args []string) error) func(*cobra.Command, []string) error {
	return func(cmd *cobra.Command, args []string) error {
		r, err := newRemote(*server)
		if err != nil {
			return err
		}
		return run(cmd.Context(), r, args)
	}
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
	return r.send(request)
}

// get asks for something of a media type.
func (r *remote) get(ctx context.Context, path, accept string) (*http.Response, error) {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, r.base+path, nil)
	if err != nil {
		return nil, err
	}
	request.Header.Set("Accept", accept)
	return r.send(request)
}

// send is do for a request that was made.
func (r *remote) send(request *http.Request) (*http.Response, error) {
	if r.as != "" {
		request.Header.Set(api.ActingAs, url.QueryEscape(r.as))
	}
	if r.key != "" {
		request.Header.Set("Authorization", "Bearer "+r.key)
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
		return nil, fmt.Errorf("%s answers %s", request.URL, answer.Status)
	}
	if answer.StatusCode == http.StatusUnauthorized && r.key == "" && request.URL.Path != "/api/v1/sign-in" {
		p.Detail = "the service wants to know who asks: missivum sign-in --server " + r.base
	}
	if answer.StatusCode < 500 {
		return nil, exitError{ExitFindings, refusal{p}}
	}
	return nil, refusal{p}
}

// json sends a value, if any, and reads the answer into another, unless that is nil.
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
	if answer.StatusCode == http.StatusNoContent || out == nil {
		return nil
	}
	return json.NewDecoder(answer.Body).Decode(out)
}

// bytes reads what stands at a path, up to a limit.
func (r *remote) bytes(ctx context.Context, path string, limit int64) ([]byte, error) {
	answer, err := r.get(ctx, path, "*/*")
	if err != nil {
		return nil, err
	}
	defer answer.Body.Close()
	return io.ReadAll(io.LimitReader(answer.Body, limit+1))
}
