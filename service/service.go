// Package service is the long-running service: it opens the data folder, wires the capabilities
// together and serves them on a loopback address. Start with Open and Service.Serve.
package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"sync"
	"time"

	"golang.org/x/sync/semaphore"

	"missivum/console"
	"missivum/service/api"
	"missivum/service/clients"
	"missivum/service/desks"
	"missivum/service/dialects"
	"missivum/service/hosting"
	"missivum/service/jobs"
	"missivum/service/keys"
	"missivum/service/packages"
	"missivum/service/people"
	"missivum/service/pictures"
	"missivum/service/releases"
	"missivum/service/rules"
	"missivum/service/scim"
	"missivum/service/sources"
	"missivum/service/store"
	"missivum/service/templates"
)

// ErrNotLoopback is returned for a listening address that other machines could reach.
var ErrNotLoopback = errors.New("not a loopback address")

// Config says where the service keeps its data and how it runs.
type Config struct {
	Data    string // folder; made when it does not exist
	Listen  string // host:port; the host must be a loopback address
	Log     *slog.Logger
	Now     func() time.Time
	Version string

	PictureListen string         // host:port at which nothing but pictures is served, for the public; empty for none
	PictureTree   string         // folder in which hosted pictures are kept for a static web server; empty for none
	PictureAllow  []netip.Prefix // private networks that the check of picture addresses may ask
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
	Store     *store.Store

	config   Config
	lock     io.Closer // of the data folder
	listener net.Listener
	handler  http.Handler
	public   net.Listener // of pictures; nil for none
}

// Open opens the data folder and the listening address.
func Open(ctx context.Context, c Config) (*Service, error) {
	if err := checkLoopback(c.Listen); err != nil {
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
	if err := s.listen(); err != nil { // before anything of the folder is touched
		return nil, errors.Join(err, s.release())
	}
	if s.Store, err = store.Open(ctx, filepath.Join(c.Data, "missivum.db"), c.Now); err != nil {
		return nil, errors.Join(err, s.release())
	}
	s.wire()
	if err := s.start(ctx); err != nil {
		return nil, errors.Join(err, s.Store.Close(), s.release())
	}
	return s, nil
}

// release gives listening addresses and the folder back.
func (s *Service) release() error {
	var err error
	for _, l := range []net.Listener{s.listener, s.public} {
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
	s.Packages.Releases, s.Packages.Clients, s.Packages.Key = s.Releases, s.Clients, s.Desks.Key
	s.handler = api.New(&api.API{
		Store: st, Clients: s.Clients, Templates: s.Templates, People: s.People, Packages: s.Packages, Pictures: s.Pictures,
		Hosting: s.Hosting, Jobs: s.Jobs, Sources: s.Sources, Keys: &keys.Keys{Store: st}, SCIM: &scim.SCIM{Store: st, People: s.People},
		Releases: s.Releases, Desks: s.Desks, Dialects: &dialects.Dialects{Store: st},
		Rules:    &rules.Rules{Store: st, Templates: s.Templates, People: s.People, Now: c.Now, Key: s.Desks.Key},
		Drawings: semaphore.NewWeighted(2), Console: console.Files(), Log: c.Log, Now: c.Now, Version: c.Version,
	})
}

// start readies the capabilities, and then goes on with the jobs that were left.
func (s *Service) start(ctx context.Context) error {
	if err := errors.Join(s.Hosting.Start(ctx), s.Pictures.Start(), s.Packages.Start(), s.Sources.Start(),
		s.Releases.Start(), s.Desks.Start()); err != nil {
		return err
	}
	return s.Jobs.Start(ctx)
}

// listen opens the listening addresses.
func (s *Service) listen() error {
	var err error
	if s.listener, err = net.Listen("tcp", s.config.Listen); err != nil {
		return fmt.Errorf("listening on %s: %w", s.config.Listen, err)
	}
	if s.config.PictureListen != "" {
		if s.public, err = net.Listen("tcp", s.config.PictureListen); err != nil {
			return errors.Join(fmt.Errorf("listening for pictures on %s: %w", s.config.PictureListen, err), s.listener.Close())
		}
	}
	return nil
}

// checkLoopback refuses addresses that other machines could reach.
func checkLoopback(listen string) error {
	host, _, err := net.SplitHostPort(listen)
	if err != nil {
		return fmt.Errorf("the listening address %q must be host:port, such as 127.0.0.1:8425: %w", listen, err)
	}
	ip := net.ParseIP(host)
	if host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return fmt.Errorf("%q is %w: the service has no accounts yet, so whoever reaches it could change "+
			"everything; listen on 127.0.0.1 or [::1]",
			listen, ErrNotLoopback)
	}
	return nil
}

// Address is where the service answers, such as http://127.0.0.1:8425.
func (s *Service) Address() string { return "http://" + s.listener.Addr().String() }

// PictureAddress is where pictures are served to the public, empty when they are not.
func (s *Service) PictureAddress() string {
	if s.public == nil {
		return ""
	}
	return "http://" + s.public.Addr().String()
}

// stopTime is how long open requests have when the service ends.
const stopTime = 10 * time.Second

// Serve answers requests until the context ends or one of the listeners fails, then lets open requests finish on all
// of them, stops the jobs and closes the database: nothing goes on with a store that is closed.
func (s *Service) Serve(ctx context.Context) error {
	running, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	servers := map[*http.Server]net.Listener{
		{Handler: s.handler, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute}: s.listener,
	}
	if s.public != nil {
		servers[&http.Server{
			Handler: s.Hosting, ReadHeaderTimeout: 10 * time.Second, WriteTimeout: time.Minute, IdleTimeout: time.Minute, MaxHeaderBytes: 16 << 10,
		}] = s.public
	}
	var group sync.WaitGroup
	for server, listener := range servers {
		group.Go(func() {
			if err := server.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
				stop(err)
			}
			group.Go(func() { s.Desks.Watch(running, 20*time.Second) })
		})
	}
	group.Go(func() { s.Pictures.Watch(running, time.Minute) })
	group.Go(func() { s.Sources.Watch(running, 5*time.Second) })
	group.Go(func() { s.People.Watch(running, time.Hour) })
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
