// Package service is the long-running service: it opens the data folder, wires the capabilities
// together and serves them on a loopback address. Start with Open and Service.Serve.
package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sync/semaphore"

	"missivum/console"
	"missivum/service/api"
	"missivum/service/clients"
	"missivum/service/packages"
	"missivum/service/people"
	"missivum/service/pictures"
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

	config   Config
	store    *store.Store
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
	st, err := store.Open(ctx, filepath.Join(c.Data, "missivum.db"))
	if err != nil {
		return nil, err
	}
	s := &Service{config: c, store: st}
	s.People = &people.People{Store: st}
	s.Clients = &clients.Clients{Store: st, Now: c.Now}
	s.Templates = &templates.Templates{Store: st, People: s.People, Clients: s.Clients, Now: c.Now}
	s.Packages = &packages.Packages{
		Store: st, Templates: s.Templates, People: s.People, Folder: filepath.Join(c.Data, "packages"), Now: c.Now, Log: c.Log,
	}
	s.Pictures = &pictures.Pictures{
		Store: st, Templates: s.Templates, People: s.People, Folder: filepath.Join(c.Data, "photos"), Tree: c.PictureTree, Allow: c.PictureAllow, Now: c.Now, Log: c.Log,
	}
	if err := errors.Join(s.Pictures.Start(), s.Packages.Start(ctx)); err != nil {
		return nil, errors.Join(err, st.Close())
	}
	s.handler = api.New(&api.API{
		Store: st, Clients: s.Clients, Templates: s.Templates, People: s.People, Packages: s.Packages, Pictures: s.Pictures, Drawings: semaphore.NewWeighted(1), Console: console.Files(), Log: c.Log, Now: c.Now, Version: c.Version,
	})
	if s.listener, err = net.Listen("tcp", c.Listen); err != nil {
		return nil, errors.Join(fmt.Errorf("listening on %s: %w", c.Listen, err), st.Close())
	}
	if c.PictureListen != "" {
		if s.public, err = net.Listen("tcp", c.PictureListen); err != nil {
			return nil, errors.Join(fmt.Errorf("listening for pictures on %s: %w", c.PictureListen, err), s.listener.Close(), st.Close())
		}
	}
	return s, nil
}

// checkLoopback refuses addresses that other machines could reach.
func checkLoopback(listen string) error {
	host, _, err := net.SplitHostPort(listen)
	if err != nil {
		return fmt.Errorf("the listening address %q must be host:port, such as 127.0.0.1:8425: %w", listen, err)
	}
	ip := net.ParseIP(host)
	if host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return fmt.Errorf("%q is %w: the service has no accounts yet, so whoever reaches it could change everything; listen on 127.0.0.1 or [::1]", listen, ErrNotLoopback)
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

// Serve answers requests until the context ends, then lets open requests finish, stops the packages
// being made and closes the database.
func (s *Service) Serve(ctx context.Context) error {
	server := &http.Server{Handler: s.handler, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute}
	host := &http.Server{Handler: s.Pictures, ReadHeaderTimeout: 10 * time.Second, WriteTimeout: time.Minute, IdleTimeout: time.Minute, MaxHeaderBytes: 16 << 10}
	ended := make(chan error, 2)
	go func() { ended <- server.Serve(s.listener) }()
	if s.public != nil {
		go func() { ended <- host.Serve(s.public) }()
	}
	watching, stopWatching := context.WithCancel(ctx)
	watched := make(chan struct{})
	go func() { defer close(watched); s.Pictures.Watch(watching, time.Minute) }()
	var err error
	select {
	case err = <-ended:
	case <-ctx.Done():
		s.config.Log.Info("stopping")
		stop, cancel := context.WithTimeout(context.WithoutCancel(ctx), stopTime)
		defer cancel()
		err = errors.Join(server.Shutdown(stop), host.Shutdown(stop))
	}
	stopWatching()
	<-watched
	s.Pictures.StopPhotos()
	s.Packages.Stop()
	if errors.Is(err, http.ErrServerClosed) {
		err = nil
	}
	return errors.Join(err, s.store.Close())
}
