package service

import (
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/acme"
	"golang.org/x/crypto/acme/autocert"
)

// ErrNotLoopback is returned for a listening address that other machines could reach without TLS.
var ErrNotLoopback = errors.New("not a loopback address")

// TLS says how the service encrypts.
type TLS struct {
	Certificate, Key string // PEM files, read anew when they change; blank for none
	ACME             bool   // certificates come from an authority (RFC 8555)
	Directory        string // of that authority; blank for the one that the library has built in
	Redirect         string // host:port where HTTP is redirected to HTTPS; blank for nowhere
}

// on reports whether there is TLS.
func (t TLS) on() bool { return t.Certificate != "" || t.ACME }

// check refuses what cannot be meant.
func (t TLS) check(c Config) error {
	switch {
	case (t.Certificate == "") != (t.Key == ""):
		return errors.New("tls.certificate and tls.key belong together; one of them is missing")
	case t.Certificate != "" && t.ACME:
		return errors.New("tls.certificate and tls.acme are both given; leave one out")
	case t.ACME && len(c.names()) == 0:
		return errors.New("tls.acme needs the host that the certificate is for, in names or address")
	case t.Redirect != "" && !t.on():
		return errors.New("tls.redirect needs tls.certificate or tls.acme: there is no HTTPS to redirect to")
	case !t.on() && strings.HasPrefix(c.Address, "https:") && len(c.Proxies) == 0:
		return errors.New("address begins with https, but there is no tls.certificate, no tls.acme, and no proxy named in proxies")
	}
	return nil
}

// names are the hosts that the service answers to.
func (c Config) names() []string {
	var names []string
	if u, err := url.Parse(c.Address); err == nil && u.Hostname() != "" {
		names = append(names, strings.ToLower(u.Hostname()))
	}
	for _, n := range c.Names {
		if n = strings.ToLower(n); !slices.Contains(names, n) {
			names = append(names, n)
		}
	}
	return names
}

// loopback reports whether only this machine reaches the service, so that its owner needs no account while there is none.
func (c Config) loopback() bool { return isLoopback(c.Listen) && len(c.Proxies) == 0 }

func isLoopback(listen string) bool {
	host, _, err := net.SplitHostPort(listen)
	ip := net.ParseIP(host)
	return err == nil && (host == "localhost" || ip != nil && ip.IsLoopback())
}

// Check refuses settings that cannot be meant, such as an address that others could reach without TLS.
func (c Config) Check() error {
	if _, _, err := net.SplitHostPort(c.Listen); err != nil {
		return fmt.Errorf("the listening address %q must be host:port, such as 127.0.0.1:8425: %w", c.Listen, err)
	}
	if c.Address != "" {
		u, err := url.Parse(c.Address)
		if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || strings.Trim(u.Path, "/") != "" || u.RawQuery != "" {
			return fmt.Errorf("the address %q must be such as https://signatures.brackwater.example", c.Address)
		}
	}
	if err := c.TLS.check(c); err != nil {
		return err
	}
	if c.Provider != nil {
		if err := c.Provider.Check(); err != nil {
			return err
		}
	}
	if !isLoopback(c.Listen) && !c.TLS.on() && len(c.Proxies) == 0 {
		return fmt.Errorf("%q is %w: passwords would cross the network as they are; give tls.certificate and tls.key, or tls.acme, "+
			"or name the proxies that encrypt", c.Listen, ErrNotLoopback)
	}
	return nil
}

// certificate is a certificate that is read anew when its files change.
type certificate struct {
	files [2]string
	log   *slog.Logger
	now   func() time.Time

	mu      sync.Mutex
	pair    *tls.Certificate
	read    [2]time.Time // when the files were changed that were read
	checked time.Time
}

// certificateAge is after what time the files are looked at again.
const certificateAge = 5 * time.Second

func openCertificate(t TLS, log *slog.Logger, now func() time.Time) (*certificate, error) {
	c := &certificate{files: [2]string{t.Certificate, t.Key}, log: log, now: now}
	if err := c.renew(); err != nil {
		return nil, fmt.Errorf("the certificate cannot be read: %w", err)
	}
	return c, nil
}

// renew reads the files when they were changed. What cannot be read leaves the certificate that was there.
func (c *certificate) renew() error {
	c.checked = c.now()
	var at [2]time.Time
	for i, file := range c.files {
		info, err := os.Stat(file)
		if err != nil {
			return err
		}
		at[i] = info.ModTime()
	}
	if c.pair != nil && at == c.read {
		return nil
	}
	pair, err := tls.LoadX509KeyPair(c.files[0], c.files[1])
	if err != nil {
		return err
	}
	if c.pair != nil {
		c.log.Info("the certificate was renewed", "file", c.files[0], "until", pair.Leaf.NotAfter)
	}
	c.pair, c.read = &pair, at
	return nil
}

// get gives the certificate for a connection.
func (c *certificate) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.now().Sub(c.checked) >= certificateAge {
		if err := c.renew(); err != nil {
			c.log.Error("the certificate cannot be read anew; the one before stays", "error", err)
		}
	}
	return c.pair, nil
}

// encrypt readies TLS; the handler answers what the authority asks over HTTP, nil for none.
func (s *Service) encrypt() (config *tls.Config, challenges func(http.Handler) http.Handler, err error) {
	c := s.config
	switch {
	case c.TLS.ACME:
		m := &autocert.Manager{Prompt: autocert.AcceptTOS, Cache: autocert.DirCache(filepath.Join(c.Data, "secrets", "acme")),
			HostPolicy: autocert.HostWhitelist(c.names()...)}
		if c.TLS.Directory != "" {
			m.Client = &acme.Client{DirectoryURL: c.TLS.Directory}
		}
		config = m.TLSConfig()
		config.MinVersion = tls.VersionTLS12
		return config, m.HTTPHandler, nil
	case c.TLS.Certificate != "":
		pair, err := openCertificate(c.TLS, c.Log, c.Now)
		if err != nil {
			return nil, nil, err
		}
		return &tls.Config{GetCertificate: pair.get, MinVersion: tls.VersionTLS12, NextProtos: []string{"h2", "http/1.1"}}, nil, nil
	}
	return nil, nil, nil
}

// redirect answers HTTP with the same address by HTTPS, and with nothing else.
func (s *Service) redirect() http.Handler {
	names := s.config.names()
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		host, _, err := net.SplitHostPort(r.Host)
		if err != nil {
			host = r.Host
		}
		host = strings.ToLower(host)
		switch {
		case len(names) > 0 && !slices.Contains(names, host):
			host = names[0]
		case host == "":
			http.Error(w, "The request names no host.", http.StatusBadRequest)
			return
		}
		if _, port, err := net.SplitHostPort(s.listener.Addr().String()); err == nil && port != "443" && s.config.Address == "" {
			host = net.JoinHostPort(host, port)
		} else if u, err := url.Parse(s.config.Address); err == nil && u.Port() != "" {
			host = net.JoinHostPort(host, u.Port())
		}
		w.Header().Set("Connection", "close")
		http.Redirect(w, r, "https://"+host+r.URL.RequestURI(), http.StatusPermanentRedirect)
	})
}

// behindProxies lets requests pass that come from the proxies, with the address and the protocol that they forward; without
// proxies it forwards nothing.
func behindProxies(proxies []netip.Prefix, next http.Handler) http.Handler {
	if len(proxies) == 0 {
		return next
	}
	trusted := func(text string) bool {
		ip, err := netip.ParseAddr(strings.Trim(text, "[]"))
		return err == nil && slices.ContainsFunc(proxies, func(p netip.Prefix) bool { return p.Contains(ip.Unmap()) })
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		host, _, err := net.SplitHostPort(r.RemoteAddr)
		if err != nil || !trusted(host) {
			http.Error(w, "The service answers to its proxies only.", http.StatusForbidden)
			return
		}
		sender := host
		if list := strings.Split(strings.Join(r.Header.Values("X-Forwarded-For"), ","), ","); list[0] != "" {
			for i := len(list) - 1; i >= 0; i-- { // the last that no proxy of ours has
				sender = strings.TrimSpace(list[i])
				if !trusted(sender) {
					break
				}
			}
		}
		if ip, err := netip.ParseAddr(sender); err == nil {
			r = r.Clone(r.Context())
			r.RemoteAddr = net.JoinHostPort(ip.String(), "0")
		}
		next.ServeHTTP(w, r)
	})
}
