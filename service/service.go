// Package service is the long-running service: it opens the data folder, wires the capabilities
// together and serves them: on a loopback address, or by TLS to others. Start with Open and Service.Serve.
package service

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/semaphore"

	files "missivum/addon"
	"missivum/console"
	"missivum/service/access"
	"missivum/service/accounts"
	"missivum/service/addon"
	"missivum/service/api"
	"missivum/service/backup"
	"missivum/service/clients"
	"missivum/service/desks"
	"missivum/service/dialects"
	"missivum/service/gateway"
	"missivum/service/hosting"
	"missivum/service/jobs"
	"missivum/service/keys"
	"missivum/service/messages"
	"missivum/service/organisation"
	"missivum/service/packages"
	"missivum/service/people"
	"missivum/service/personal"
	"missivum/service/pictures"
	"missivum/service/record"
	"missivum/service/releases"
	"missivum/service/rules"
	"missivum/service/scim"
	"missivum/service/sources"
	"missivum/service/store"
	"missivum/service/templates"
)

// Config says where the service keeps its data and how it runs.
type Config struct {
	Data    string // folder; made when it does not exist
	Listen  string // host:port; an address that others can reach needs TLS or Proxies
	Log     *slog.Logger
	Now     func() time.Time
	Version string

	Address string         // under which people reach the service; blank for the one that they use
	Names   []string       // hosts that it answers to beside the one of Address and loopback
	TLS     TLS            // how it encrypts
	Proxies []netip.Prefix // proxies before it, whose forwarded headers are believed

	SessionIdle, SessionLifetime time.Duration      // 0 for the standard
	Provider                     *accounts.Provider // at which people can sign in; nil for none
	MetricsListen                string             // host:port at which health and figures are answered without a key; empty for none

	BackupFolder string        // into which it makes backups; blank for none
	BackupEvery  time.Duration // how often

	PictureListen string         // host:port at which nothing but pictures is served, for the public; empty for none
	PictureTree   string         // folder in which hosted pictures are kept for a static web server; empty for none
	PictureAllow  []netip.Prefix // private networks that the check of picture addresses may ask

	Invitations personal.Mail // the server that takes them

	Gateway gateway.Config // beside a mail server; without an address for the milter or the relay there is none
}

// Service is an opened service.
type Service struct {
	Clients   *clients.Clients
	Templates *templates.Templates
	People    *people.People
	Packages  *packages.Packages
	Pictures  *pictures.Pictures
	Hosting   *hosting.Hosting
	Jobs      *jobs.Jobs
	Sources   *sources.Sources
	Releases  *releases.Releases
	Desks     *desks.Desks
	Rules     *rules.Rules
	Messages  *messages.Messages
	Personal  *personal.Personal
	AddOn     *addon.AddOn
	Accounts  *accounts.Accounts
	Keys      *keys.Keys
	Record    *record.Record
	Store     *store.Store

	config   Config
	marks    *access.Marks
	lock     io.Closer // of the data folder
	listener net.Listener
	handler  http.Handler
	figures  http.Handler                    // health and figures
	public   net.Listener                    // of pictures; nil for none
	plain    net.Listener                    // that redirects to HTTPS; nil for none
	metrics  net.Listener                    // of health and figures; nil for none
	tls      *tls.Config                     // nil for none
	answers  func(http.Handler) http.Handler // what an authority asks over HTTP; nil for none
	gateway  *gateway.Gateway                // beside a mail server; nil for none
	ledger   *gateway.Ledger
}

// Open opens the data folder and the listening address.
func Open(ctx context.Context, c Config) (*Service, error) {
	if err := c.Check(); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(c.Data, 0o750); err != nil {
		return nil, fmt.Errorf("the data folder: %w", err)
	}
	s := &Service{config: c}
	var err error
	if s.lock, err = lockFolder(c.Data); err != nil {
		return nil, err
	}
	if s.tls, s.answers, err = s.encrypt(); err != nil {
		return nil, errors.Join(err, s.lock.Close())
	}
	if err := s.listen(); err != nil { // before anything of the folder is touched
		return nil, errors.Join(err, s.release())
	}
	if s.Store, err = store.Open(ctx, filepath.Join(c.Data, "missivum.db"), c.Now); err != nil {
		return nil, errors.Join(err, s.release())
	}
	s.wire()
	err = s.start(ctx)
	if err == nil {
		err = s.openGateway(ctx)
	}
	if err != nil {
		return nil, errors.Join(err, s.Store.Close(), s.release())
	}
	return s, nil
}

// release gives listening addresses and the folder back.
func (s *Service) release() error {
	var err error
	for _, l := range []net.Listener{s.listener, s.public, s.plain, s.metrics} {
		if l == nil {
			continue
		}
		if e := l.Close(); e != nil && !errors.Is(e, net.ErrClosed) {
			err = errors.Join(err, e)
		}
	}
	return errors.Join(err, s.lock.Close())
}

// wire makes the capabilities known to each other.
func (s *Service) wire() {
	c, st := s.config, s.Store
	s.Jobs = &jobs.Jobs{Store: st, Log: c.Log, Now: c.Now}
	s.People = &people.People{Store: st, Now: c.Now, Log: c.Log}
	s.Clients = &clients.Clients{Store: st, Log: c.Log}
	s.Hosting = &hosting.Hosting{Store: st, Log: c.Log, Tree: c.PictureTree}
	s.Templates = &templates.Templates{Store: st, People: s.People, Clients: s.Clients, Hosting: s.Hosting, Now: c.Now, Version: c.Version}
	s.Packages = &packages.Packages{
		Store: st, Jobs: s.Jobs, Templates: s.Templates, People: s.People, Folder: filepath.Join(c.Data, "packages"), Now: c.Now,
	}
	s.Pictures = &pictures.Pictures{
		Store: st, Jobs: s.Jobs, Templates: s.Templates, People: s.People, Hosting: s.Hosting,
		Folder: filepath.Join(c.Data, "photos"), Allow: c.PictureAllow, Now: c.Now, Log: c.Log,
	}
	s.Sources = &sources.Sources{
		Store: st, Jobs: s.Jobs, People: s.People, Pictures: s.Pictures, Folder: filepath.Join(c.Data, "secrets"), Now: c.Now, Log: c.Log,
	}
	s.Releases = &releases.Releases{
		Store: st, Jobs: s.Jobs, Templates: s.Templates, People: s.People, Clients: s.Clients,
		Folder: filepath.Join(c.Data, "releases"), Now: c.Now, Log: c.Log,
	}
	s.Desks = &desks.Desks{
		Store: st, Releases: s.Releases, People: s.People, Clients: s.Clients,
		KeyFile: filepath.Join(c.Data, "secrets", "kits.key"), Now: c.Now, Log: c.Log,
	}
	s.Rules = &rules.Rules{
		Store: st, Templates: s.Templates, People: s.People, Releases: s.Releases, Hosting: s.Hosting, Jobs: s.Jobs,
		Folder: filepath.Join(c.Data, "rehearsals"), Now: c.Now, Log: c.Log, Key: s.Desks.Key,
	}
	s.marks = &access.Marks{File: filepath.Join(c.Data, "secrets", "links.key")}
	s.Personal = &personal.Personal{
		Store: st, Desks: s.Desks, People: s.People, Clients: s.Clients, Jobs: s.Jobs, Hosting: s.Hosting,
		Mail: c.Invitations, Address: s.Address,
		Marks: s.marks, Now: c.Now, Log: c.Log,
	}
	s.AddOn = &addon.AddOn{
		Store: st, Desks: s.Desks, Clients: s.Clients, Marks: s.marks, Address: s.Address, Files: files.Files(),
		KeyFile: filepath.Join(c.Data, "secrets", "add-on.key"), Now: c.Now,
	}
	s.Messages = &messages.Messages{Store: st, Now: c.Now, Log: c.Log}
	s.Packages.Releases, s.Packages.Clients, s.Packages.Key = s.Releases, s.Clients, s.Desks.Key
	s.Accounts = &accounts.Accounts{
		Store: st, Now: c.Now, Log: c.Log, Idle: c.SessionIdle, Lifetime: c.SessionLifetime, Secure: c.secure(), Provider: c.Provider,
	}
	s.Keys, s.Record = &keys.Keys{Store: st, Now: c.Now, Log: c.Log}, &record.Record{Store: st, Now: c.Now, Log: c.Log}
	s.Accounts.Start()
	a := &api.API{
		Store: st, Clients: s.Clients, Templates: s.Templates, People: s.People, Packages: s.Packages, Pictures: s.Pictures,
		Hosting: s.Hosting, Jobs: s.Jobs, Sources: s.Sources, Keys: s.Keys, SCIM: &scim.SCIM{Store: st, People: s.People},
		Releases: s.Releases, Desks: s.Desks, Dialects: &dialects.Dialects{Store: st},
		Rules: s.Rules, Messages: s.Messages, Personal: s.Personal, AddOn: s.AddOn, Accounts: s.Accounts, Record: s.Record,
		Organisation: &organisation.Organisation{Store: st}, Data: c.Data, Backups: c.BackupFolder,
		Loopback: c.loopback(), Address: strings.TrimRight(c.Address, "/"),
		Names: c.names(), Secure: c.secure(),
		Drawings: semaphore.NewWeighted(2), Console: console.Files(), Log: c.Log, Now: c.Now, Version: c.Version,
	}
	s.handler, s.figures = behindProxies(c.Proxies, api.New(a)), a.Watching()
}

// secure reports whether the service is reached by HTTPS.
func (c Config) secure() bool { return c.TLS.on() || strings.HasPrefix(c.Address, "https:") }

// start readies the capabilities, and then goes on with the jobs that were left.
func (s *Service) start(ctx context.Context) error {
	if err := errors.Join(s.Hosting.Start(ctx), s.Pictures.Start(), s.Packages.Start(), s.Sources.Start(),
		s.Releases.Start(), s.Desks.Start(), s.Rules.Start(), s.marks.Start()); err != nil {
		return err
	}
	s.Personal.Start()
	s.AddOn.Start()
	return s.Jobs.Start(ctx)
}

// listen opens the listening addresses.
func (s *Service) listen() error {
	var err error
	if s.listener, err = net.Listen("tcp", s.config.Listen); err != nil {
		return fmt.Errorf("listening on %s: %w", s.config.Listen, err)
	}
	for _, one := range []struct {
		address, what string
		into          *net.Listener
	}{
		{s.config.PictureListen, "for pictures", &s.public}, {s.config.TLS.Redirect, "for HTTP", &s.plain},
		{s.config.MetricsListen, "for metrics", &s.metrics},
	} {
		if one.address == "" {
			continue
		}
		l, err := net.Listen("tcp", one.address)
		if err != nil {
			return fmt.Errorf("listening %s on %s: %w", one.what, one.address, err)
		}
		*one.into = l
	}
	return nil
}

// Address is where the service answers, such as http://127.0.0.1:8425.
func (s *Service) Address() string {
	switch {
	case s.config.Address != "":
		return strings.TrimRight(s.config.Address, "/")
	case s.tls == nil:
		return "http://" + s.listener.Addr().String()
	case len(s.config.names()) == 0:
		return "https://" + s.listener.Addr().String()
	}
	host := s.config.names()[0]
	if _, port, err := net.SplitHostPort(s.listener.Addr().String()); err == nil && port != "443" {
		host = net.JoinHostPort(host, port)
	}
	return "https://" + host
}

// MetricsAddress is where health and figures are answered, empty when they are not.
func (s *Service) MetricsAddress() string { return addressOf(s.metrics) }

// RedirectAddress is where HTTP is redirected to HTTPS, empty when it is not.
func (s *Service) RedirectAddress() string { return addressOf(s.plain) }

func addressOf(l net.Listener) string {
	if l == nil {
		return ""
	}
	return "http://" + l.Addr().String()
}

// FirstStart gives the address of the page that makes the first administrator; blank where there is an account, or where whoever
// uses this machine needs none.
func (s *Service) FirstStart(ctx context.Context) (string, error) {
	any, err := s.Accounts.Any(ctx)
	if err != nil || any || s.config.loopback() {
		return "", err
	}
	return s.Address() + "/sign-in#first=" + s.Accounts.OpenFirstStart(), nil
}

// PictureAddress is where pictures are served to the public, empty when they are not.
func (s *Service) PictureAddress() string { return addressOf(s.public) }

// backups makes backups on a schedule.
func (s *Service) backups() *backup.Schedule {
	c := s.config
	return &backup.Schedule{Data: c.Data, Folder: c.BackupFolder, Every: c.BackupEvery, Program: c.Version, Now: c.Now, Log: c.Log}
}

// quietly writes what the server says of broken connections into the log, as debugging.
func (s *Service) quietly() *log.Logger {
	return slog.NewLogLogger(s.config.Log.Handler(), slog.LevelDebug)
}

// stopTime is how long open requests have when the service ends.
const stopTime = 10 * time.Second

// Serve answers requests until the context ends or one of the listeners fails, then lets open requests finish on all
// of them, stops the jobs and closes the database: nothing goes on with a store that is closed.
func (s *Service) Serve(ctx context.Context) error {
	running, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	servers := map[*http.Server]net.Listener{
		{Handler: s.handler, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute, TLSConfig: s.tls,
			ErrorLog: s.quietly()}: s.listener,
	}
	aside := map[net.Listener]http.Handler{s.public: s.Hosting, s.metrics: s.figures}
	if s.plain != nil {
		aside[s.plain] = s.redirect()
		if s.answers != nil {
			aside[s.plain] = s.answers(s.redirect())
		}
	}
	for l, handler := range aside {
		if l != nil {
			servers[&http.Server{
				Handler: handler, ReadHeaderTimeout: 10 * time.Second, WriteTimeout: time.Minute, IdleTimeout: time.Minute, MaxHeaderBytes: 16 << 10,
			}] = l
		}
	}
	var group sync.WaitGroup
	for server, listener := range servers {
		group.Go(func() {
			serve := server.Serve
			if server.TLSConfig != nil {
				serve = func(l net.Listener) error { return server.ServeTLS(l, "", "") }
			}
			if err := serve(listener); !errors.Is(err, http.ErrServerClosed) {
				stop(err)
			}
		})
	}
	group.Go(func() { s.Desks.Watch(running, 20*time.Second) })
	group.Go(func() { s.Pictures.Watch(running, time.Minute) })
	group.Go(func() { s.Sources.Watch(running, 5*time.Second) })
	group.Go(func() { s.People.Watch(running, time.Hour) })
	group.Go(func() { s.Messages.Watch(running, time.Hour) })
	group.Go(func() { s.Accounts.Watch(running, time.Hour) })
	group.Go(func() { s.Keys.Watch(running, time.Minute) })
	group.Go(func() { s.Record.Watch(running, time.Hour) })
	group.Go(func() { s.backups().Watch(running) })
	if s.gateway != nil {
		group.Go(func() {
			if err := s.runGateway(running); err != nil {
				stop(err)
			}
		})
	}
	go s.People.Warm(running)
	<-running.Done()
	s.config.Log.Info("stopping")
	ending, cancel := context.WithTimeout(context.WithoutCancel(ctx), stopTime)
	defer cancel()
	var err error
	for server := range servers {
		err = errors.Join(err, server.Shutdown(ending))
	}
	s.Jobs.End()
	group.Wait()
	if cause := context.Cause(running); !errors.Is(cause, context.Canceled) {
		err = errors.Join(cause, err)
	}
	return errors.Join(err, s.Store.Close(), s.release())
}
