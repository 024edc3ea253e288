// Package gateway stands beside a mail server and stamps what passes by mail rules: as a milter, so that the mail server keeps the
// message and its queue, or as an SMTP relay, which answers for a message only after the next server has taken it. It never keeps
// a message. Start with New and Gateway.Run.
package gateway

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"runtime/debug"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/d--j/go-milter"
	"github.com/emersion/go-smtp"
	"golang.org/x/sync/errgroup"

	"missivum/core/problem"
	"missivum/core/rule"
)

// Limits.
const (
	DefaultMaxSize = 50 << 20 // bytes of a message that is read; larger ones pass unchanged through the milter and are refused by the relay
	maxRecipients  = 5_000
	idle           = 10 * time.Minute // until a connection without traffic is ended; mail servers keep them open
)

// Config says where the gateway listens and what it may do.
type Config struct {
	Milter  string   // unix:/path or host:port; blank for no milter
	SMTP    string   // unix:/path or host:port; blank for no relay
	Next    string   // host:port of the server that the relay gives messages to
	Allow   []string // addresses or networks of clients that may connect; none: loopback and unix sockets
	MaxSize int      // bytes; 0 for the default
	Name    string   // how the relay calls itself; blank for the host's name
	TLS     TLS
	Keys    Keys // with which clients of the relay must sign in; none: their address is enough
	Log     *slog.Logger
	Now     func() time.Time
	Ledger  *Ledger           // of the relay; nil for one in memory
	Record  func(rule.Record) // takes what was done with a message; called from several goroutines
}

// Rules is the rules that are in force, and from which bundle they are.
type Rules struct {
	Engine *rule.Engine
	Bundle string
}

// Gateway is a running gateway.
type Gateway struct {
	config    Config
	rules     atomic.Pointer[Rules]
	allow     []netip.Prefix
	listeners map[string]net.Listener
	started   time.Time
	tally     tally
}

// New opens the gateway's sockets. The error is a problem for a wrong setting.
func New(config Config, rules Rules) (*Gateway, error) {
	if config.Milter == "" && config.SMTP == "" {
		return nil, problem.New(problem.Invalid, "The gateway listens nowhere; name an address for the milter, for SMTP, or for both.")
	}
	if config.SMTP != "" && config.Next == "" {
		return nil, problem.New(problem.Invalid, "The SMTP relay needs the next server to give messages to.").In("next")
	}
	if config.MaxSize == 0 {
		config.MaxSize = DefaultMaxSize
	}
	if config.Now == nil {
		config.Now = time.Now
	}
	if config.Log == nil {
		config.Log = slog.Default()
	}
	if config.Record == nil {
		config.Record = func(rule.Record) {}
	}
	if config.Ledger == nil {
		config.Ledger, _ = OpenLedger("", time.Time{})
	}
	if config.Name == "" {
		config.Name, _ = os.Hostname()
	}
	g := &Gateway{config: config, listeners: map[string]net.Listener{}, started: config.Now().UTC(), tally: newTally()}
	g.rules.Store(&rules)
	var err error
	if g.allow, err = prefixes(config.Allow); err != nil {
		return nil, err
	}
	for name, address := range map[string]string{"milter": config.Milter, "smtp": config.SMTP} {
		if address == "" {
			continue
		}
		l, err := listen(address)
		if err != nil {
			return nil, errors.Join(fmt.Errorf("the %s cannot listen at %s: %w", name, address, err), g.Close())
		}
		g.listeners[name] = allowed{l, g.allow, config.Log}
	}
	return g, nil
}

// prefixes reads addresses and networks.
func prefixes(list []string) ([]netip.Prefix, error) {
	if len(list) == 0 {
		list = []string{"127.0.0.0/8", "::1/128"}
	}
	var out []netip.Prefix
	for _, s := range list {
		if !strings.Contains(s, "/") {
			a, err := netip.ParseAddr(s)
			if err != nil {
				return nil, problem.New(problem.Invalid, "%q is no address and no network, such as 10.20.0.0/16.", s).In("allow")
			}
			out = append(out, netip.PrefixFrom(a, a.BitLen()))
			continue
		}
		p, err := netip.ParsePrefix(s)
		if err != nil {
			return nil, problem.New(problem.Invalid, "%q is no address and no network, such as 10.20.0.0/16.", s).In("allow")
		}
		out = append(out, p.Masked())
	}
	return out, nil
}

// listen opens a socket: unix:/path or host:port. A unix socket that a gateway left behind is taken over; its group may write, so
// that the mail server's user can be put into that group.
func listen(address string) (net.Listener, error) {
	path, unix := strings.CutPrefix(address, "unix:")
	if !unix {
		return net.Listen("tcp", strings.TrimPrefix(address, "tcp:"))
	}
	if info, err := os.Stat(path); err == nil && info.Mode()&os.ModeSocket != 0 {
		if c, err := net.Dial("unix", path); err == nil {
			c.Close()
			return nil, errors.New("another program listens there")
		}
		if err := os.Remove(path); err != nil {
			return nil, err
		}
	}
	l, err := net.Listen("unix", path)
	if err != nil {
		return nil, err
	}
	return l, os.Chmod(path, 0o660)
}

// allowed is a listener that takes connections from some addresses only.
type allowed struct {
	net.Listener
	from []netip.Prefix
	log  *slog.Logger
}

// Accept gives the next connection that may be taken; others are closed.
func (a allowed) Accept() (net.Conn, error) {
	for {
		c, err := a.Listener.Accept()
		if err != nil {
			return nil, err
		}
		tcp, ok := c.RemoteAddr().(*net.TCPAddr)
		if !ok {
			return c, nil
		}
		address := tcp.AddrPort().Addr().Unmap()
		if slices.ContainsFunc(a.from, func(p netip.Prefix) bool { return p.Contains(address) }) {
			return c, nil
		}
		a.log.Warn("a client that is not allowed was turned away", "address", address.String())
		c.Close()
	}
}

// Address is where the milter or the relay (smtp) listens; blank where it does not.
func (g *Gateway) Address(name string) string {
	if l := g.listeners[name]; l != nil {
		return l.Addr().String()
	}
	return ""
}

// Use puts other rules in force, from the next message on.
func (g *Gateway) Use(rules Rules) { g.rules.Store(&rules) }

// Bundle is the bundle whose rules are in force.
func (g *Gateway) Bundle() string { return g.rules.Load().Bundle }

// Close closes the sockets.
func (g *Gateway) Close() error {
	var errs []error
	for _, l := range g.listeners {
		errs = append(errs, l.Close())
	}
	return errors.Join(errs...)
}

// Run serves until the context ends; messages that are being worked on then are finished, for 30 seconds at most.
func (g *Gateway) Run(ctx context.Context) error {
	group, ctx := errgroup.WithContext(ctx)
	for name, l := range g.listeners {
		switch name {
		case "milter":
			group.Go(func() error { return g.runMilter(ctx, l) })
		case "smtp":
			group.Go(func() error { return g.runRelay(ctx, l) })
		}
	}
	return group.Wait()
}

// lastAnswers is how long messages that are on their way may take when the gateway is asked to end.
const lastAnswers = 30 * time.Second

// until serves until the context ends, and then ends in order. That sockets are closed by then is no error.
func until(ctx context.Context, serve func() error, end func(stop context.Context) error) error {
	done := make(chan error, 1)
	go func() { done <- serve() }()
	select {
	case err := <-done:
		return err
	case <-ctx.Done():
		stop, cancel := context.WithTimeout(context.Background(), lastAnswers)
		defer cancel()
		err := end(stop)
		if errors.Is(err, net.ErrClosed) || errors.Is(err, milter.ErrServerClosed) || errors.Is(err, smtp.ErrServerClosed) {
			return nil
		}
		return err
	}
}

// judged is what the rules said of a message.
type judged struct {
	rule.Verdict
	record rule.Record
}

// judge asks the rules. A panic, which would be a mistake of this program, leaves the message as it is.
func (g *Gateway) judge(way, queue string, mail rule.Mail) (j judged) {
	rules := g.rules.Load()
	began := time.Now()
	defer func() {
		if r := recover(); r != nil {
			g.config.Log.Error("judging a message failed", "panic", fmt.Sprint(r), "stack", string(debug.Stack()))
			j.Verdict = rule.Verdict{Raw: mail.Message.Raw, Trace: rule.Trace{Outcome: rule.Unchanged, Failed: true, Sender: mail.Sender,
				Recipients: mail.Recipients, Says: "The message could not be judged; it goes out unchanged.", Before: len(mail.Message.Raw),
				After: len(mail.Message.Raw)}}
		}
		j.record = rule.RecordOf(&j.Trace)
		j.record.Time, j.record.Way, j.record.Queue, j.record.Bundle = g.config.Now().UTC(), way, queue, rules.Bundle
		j.record.Took = float64(time.Since(began).Microseconds()) / 1000
	}()
	j.Verdict = rules.Engine.Judge(mail, false)
	return j
}

// crlf makes every line end CRLF, as mail has them on the way (RFC 5321, 2.3.8).
func crlf(raw []byte) []byte {
	if bytes.Count(raw, []byte("\n")) == bytes.Count(raw, []byte("\r\n")) {
		return raw
	}
	return bytes.ReplaceAll(bytes.ReplaceAll(raw, []byte("\r\n"), []byte("\n")), []byte("\n"), []byte("\r\n"))
}
