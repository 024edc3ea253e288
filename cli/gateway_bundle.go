package cli

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"
	"time"

	"missivum/core/kit"
	"missivum/core/rule"
	"missivum/service/files"
	"missivum/service/gateway"
)

// How often a bundle is looked at for changes: a file, and one at a service.
const (
	renewal = 2 * time.Second
	asking  = 10 * time.Second
)

// gatewayKey is what holds the gateway's key in the environment.
const gatewayKey = "MISSIVUM_GATEWAY_KEY"

// bundleSource is where a gateway takes its bundle from.
type bundleSource struct {
	from    string // file, or address of a service's bundle
	keep    string // file in which the last good one of a service is kept
	date    string
	app     *app
	trusted kit.Trusted
	tag     string // of the one that was fetched last
	stamp   string // of the file that was read last
	asked   time.Time
	last    []byte // the last good one
	key     string // with which the service is asked; blank for none
}

// newBundleSource reads the key that is trusted.
func (f *gatewayFlags) newBundleSource(a *app, date string) (*bundleSource, error) {
	if f.trust == "" {
		return nil, usage("--bundle needs --trust, the public key of who signs it")
	}
	text, err := os.ReadFile(f.trust)
	if err != nil {
		return nil, fmt.Errorf("the key cannot be read: %w", err)
	}
	trusted, err := kit.ReadTrusted(text)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", f.trust, err)
	}
	key, err := keyFrom(f.key, gatewayKey)
	return &bundleSource{from: f.bundle, keep: f.keep, date: date, app: a, trusted: trusted, key: key}, err
}

// remote reports whether the bundle is a service's.
func (s *bundleSource) remote() bool { return isAddress(s.from) }

// isAddress tells the address of a service from the name of a file.
func isAddress(from string) bool {
	return strings.HasPrefix(from, "http://") || strings.HasPrefix(from, "https://")
}

// first gives the rules to begin with: where the service is away those that were kept.
func (s *bundleSource) first(ctx context.Context) (gateway.Rules, error) {
	rules, _, err := s.read(ctx, true)
	if err == nil || !s.remote() || s.keep == "" {
		return rules, err
	}
	kept, failed := os.ReadFile(s.keep)
	if failed != nil {
		return rules, err
	}
	fmt.Fprintf(s.app.err, "%v; the bundle that was kept is used\n", err)
	return s.use(kept)
}

// read gives the rules if they changed, or anew where that is forced.
func (s *bundleSource) read(ctx context.Context, force bool) (rules gateway.Rules, changed bool, err error) {
	data, err := s.load(ctx, force)
	if err != nil || data == nil && !force {
		return rules, false, err
	}
	if data == nil {
		data = s.last
	}
	rules, err = s.use(data)
	return rules, err == nil, err
}

// use opens a bundle and compiles it for today.
func (s *bundleSource) use(data []byte) (gateway.Rules, error) {
	b, name, err := rule.ReadBundle(data, s.trusted)
	if err != nil {
		return gateway.Rules{}, fmt.Errorf("%s: %w", s.from, err)
	}
	day, err := s.app.day(s.date)
	if err != nil {
		return gateway.Rules{}, err
	}
	engine, err := b.Engine(day, name)
	if err != nil {
		return gateway.Rules{}, err
	}
	s.last = data
	if s.remote() && s.keep != "" {
		if err := files.WriteBytes(s.keep, data); err != nil {
			fmt.Fprintf(s.app.err, "the bundle was not kept: %v\n", err)
		}
	}
	return gateway.Rules{Engine: engine, Bundle: name}, nil
}

// load gives the bundle's bytes; none where they are those that it gave before, unless that is forced.
func (s *bundleSource) load(ctx context.Context, force bool) ([]byte, error) {
	if !s.remote() {
		info, err := os.Stat(s.from)
		if err != nil {
			return nil, fmt.Errorf("the bundle cannot be read: %w", err)
		}
		stamp := fmt.Sprint(info.ModTime(), info.Size())
		if stamp == s.stamp && !force {
			return nil, nil
		}
		s.stamp = stamp
		data, err := os.ReadFile(s.from)
		if err != nil {
			return nil, fmt.Errorf("the bundle cannot be read: %w", err)
		}
		return data, nil
	}
	if !force && time.Since(s.asked) < asking {
		return nil, nil
	}
	s.asked = time.Now()
	return s.fetch(ctx)
}

// fetch asks the service; it gives nothing where the service has no other one.
func (s *bundleSource) fetch(ctx context.Context) ([]byte, error) {
	ctx, stop := context.WithTimeout(ctx, time.Minute)
	defer stop()
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, s.from, nil)
	if err != nil {
		return nil, fmt.Errorf("the bundle cannot be fetched: %w", err)
	}
	if s.key != "" {
		request.Header.Set("Authorization", "Bearer "+s.key)
	}
	if s.tag != "" && s.last != nil {
		request.Header.Set("If-None-Match", s.tag)
	}
	answer, err := http.DefaultClient.Do(request)
	if err != nil {
		return nil, fmt.Errorf("the bundle cannot be fetched: %w", err)
	}
	defer answer.Body.Close()
	switch answer.StatusCode {
	case http.StatusNotModified:
		return nil, nil
	case http.StatusOK:
	case http.StatusUnauthorized, http.StatusForbidden:
		return nil, fmt.Errorf("the bundle cannot be fetched: %s wants a key of the scope gateway: --key-file, or %s in the environment",
			s.from, gatewayKey)
	default:
		return nil, fmt.Errorf("the bundle cannot be fetched: %s answers %s", s.from, answer.Status)
	}
	data, err := io.ReadAll(io.LimitReader(answer.Body, rule.MaxBundle+1))
	if err != nil {
		return nil, fmt.Errorf("the bundle cannot be fetched: %w", err)
	}
	s.tag = answer.Header.Get("ETag")
	return data, nil
}
