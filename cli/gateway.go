package cli

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/signal"
	"sync"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"missivum/core/rule"
	"missivum/service/gateway"
)

// gatewayFlags say where the gateway listens.
type gatewayFlags struct {
	config                                        gateway.Config
	bundle, trust, keep, records, ledger, metrics string
	report, key                                   string
	size                                          int
	tls                                           mailTLSFlags
}

// addMailFlags puts the flags of a gateway on a command that has others of these names, which is why some get a prefix.
func addMailFlags(c *cobra.Command, config *gateway.Config, size *int, prefix string) {
	c.Flags().StringVar(&config.Milter, "milter", "", "where the milter listens, such as unix:/run/missivum/milter.sock or 127.0.0.1:8894")
	c.Flags().StringVar(&config.SMTP, "smtp", "", "where the SMTP relay listens, such as 127.0.0.1:10025")
	c.Flags().StringVar(&config.Next, "next", "", "server that the relay gives messages to, such as 127.0.0.1:10026")
	c.Flags().StringArrayVar(&config.Allow, prefix+"allow", nil,
		"address or network of mail servers that may connect (default loopback and unix sockets)")
	c.Flags().IntVar(size, prefix+"max-size", gateway.DefaultMaxSize>>20,
		"MB of a message; larger ones pass the milter unchanged and are refused by the relay")
	c.Flags().StringVar(&config.Name, prefix+"name", "", "how the gateway calls itself (default the host's name)")
}

// mailTLSFlags say how the relay encrypts.
type mailTLSFlags struct {
	cert, key, nextCA, nextName, keys string
	startTLS                          bool
}

func (f *mailTLSFlags) add(c *cobra.Command, prefix string) {
	c.Flags().StringVar(&f.cert, prefix+"tls-cert", "", "certificate with which the relay offers STARTTLS")
	c.Flags().StringVar(&f.key, prefix+"tls-key", "", "its key")
	c.Flags().StringVar(&f.keys, prefix+"client-keys", "",
		"file with a line NAME:KEY for each client of the relay, which must then sign in (AUTH PLAIN, over TLS or on this machine)")
	c.Flags().BoolVar(&f.startTLS, "next-tls", false, "encrypt towards the next server with STARTTLS")
	c.Flags().StringVar(&f.nextCA, "next-ca", "", "certificates of authorities for --next-tls (default the system's)")
	c.Flags().StringVar(&f.nextName, "next-name", "", "name in the next server's certificate (default its host)")
}

// add puts the flags on a command.
func (f *gatewayFlags) add(c *cobra.Command) {
	c.Flags().StringVar(&f.bundle, "bundle", "",
		"file made by missivum rule bundle, or address of a service's bundle, instead of rules, templates and people; renewed when it changes")
	c.Flags().StringVar(&f.keep, "keep", "", "file in which the last good bundle of a service is kept, for when the service is away")
	c.Flags().StringVar(&f.trust, "trust", "", "public key of who signs the bundle")
	addMailFlags(c, &f.config, &f.size, "")
	f.tls.add(c, "")
	c.Flags().StringVar(&f.report, "report", "",
		"address of the service that keeps the records (default the one of --bundle; none for none)")
	c.Flags().StringVar(&f.key, "key-file", "",
		"file with the key of the scope gateway, for the service's bundle and reports (environment MISSIVUM_GATEWAY_KEY holds the key itself)")
	c.Flags().StringVar(&f.metrics, "metrics", "", "where figures are served as OpenMetrics, such as 127.0.0.1:9425")
	c.Flags().StringVar(&f.records, "records", "", "file to which a line of JSON is added for each message: outcome, rule, sizes, no content")
	c.Flags().StringVar(&f.ledger, "ledger", "",
		"file in which the relay remembers what the next server took and the client has not heard of, "+
			"so that less is sent twice after it was killed")
}

// gatewayCommand is missivum gateway.
func (a *app) gatewayCommand() *cobra.Command {
	var rules ruleFlags
	var f gatewayFlags
	c := &cobra.Command{
		Use:   "gateway",
		Short: "Stamp mail beside a mail server, as a milter or as an SMTP relay",
		Long: `Runs beside a mail server and stamps what passes by the mail rules. As a milter the mail server keeps the message and
its queue. As an SMTP relay it answers for a message only after the next server has taken it. It keeps no message.
SIGHUP reads rules, templates and people again; if they have faults, those that were good stay in force. With --bundle
it needs nothing else: as many gateways as are wanted stand behind a mail server's own balancing.`,
		Example: "  missivum gateway --rules demo/rules.yaml --templates demo/templates --people demo/people.csv --milter 127.0.0.1:8894",
		Args:    exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			log := slog.New(slog.NewTextHandler(a.err, nil))
			record, closeRecords, err := records(f.records, log)
			if err != nil {
				return err
			}
			defer closeRecords()
			f.config.Log, f.config.Now, f.config.MaxSize, f.config.Record = log, a.now, f.size<<20, record
			if f.config.TLS, err = f.tls.read(); err != nil {
				return err
			}
			if f.config.Keys, err = f.tls.clientKeys(); err != nil {
				return err
			}
			if f.config.Ledger, err = gateway.OpenLedger(f.ledger, a.now()); err != nil {
				return err
			}
			defer f.config.Ledger.Close()
			ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt, syscall.SIGTERM)
			defer stop()
			read := func(ctx context.Context, force bool) (gateway.Rules, bool, error) {
				if !force {
					return gateway.Rules{}, false, nil
				}
				engine, err := a.engine(ctx, rules)
				return gateway.Rules{Engine: engine, Bundle: "files"}, true, err
			}
			var first gateway.Rules
			if f.bundle == "" {
				first, _, err = read(ctx, true)
			} else {
				if rules.rules != "" || rules.templates != "" || rules.people.file != "" {
					return usage("--bundle holds rules, templates and people; leave the others out")
				}
				var source *bundleSource
				if source, err = f.newBundleSource(a, rules.date); err != nil {
					return err
				}
				read = source.read
				first, err = source.first(ctx)
			}
			if err != nil {
				return err
			}
			g, err := gateway.New(f.config, first)
			if err != nil {
				return err
			}
			a.printGateway(g.Address)
			fmt.Fprintf(a.out, "bundle %s\n", g.Bundle())
			send, err := f.reporter()
			if err != nil {
				return errors.Join(err, g.Close())
			}
			group, ctx := errgroup.WithContext(ctx)
			if send != nil {
				g.Reporting()
				group.Go(func() error { return g.Report(ctx, Version, send) })
			}
			if f.metrics != "" {
				group.Go(func() error { return a.serveFigures(ctx, f.metrics, g) })
			}
			group.Go(func() error { return a.serveGateway(ctx, g, read, log) })
			return group.Wait()
		},
	}
	rules.add(a, c)
	for _, hidden := range []string{"json", "trials"} {
		c.Flags().MarkHidden(hidden)
	}
	f.add(c)
	return c
}

// serveGateway runs the gateway until the context ends, and reads the rules again when they changed, at SIGHUP, and on a new day.
func (a *app) serveGateway(ctx context.Context, g *gateway.Gateway,
	again func(ctx context.Context, force bool) (gateway.Rules, bool, error), log *slog.Logger) error {
	hangUp := make(chan os.Signal, 1)
	signal.Notify(hangUp, syscall.SIGHUP)
	defer signal.Stop(hangUp)
	group, ctx := errgroup.WithContext(ctx)
	group.Go(func() error { return g.Run(ctx) })
	group.Go(func() error {
		look := time.NewTicker(renewal)
		defer look.Stop()
		day := a.now().Format(time.DateOnly)
		for {
			force := false
			select {
			case <-ctx.Done():
				return nil
			case <-look.C:
				today := a.now().Format(time.DateOnly)
				force = today != day // dated rules and dated pieces of templates are decided anew
				day = today
			case <-hangUp:
				force = true
			}
			rules, changed, err := again(ctx, force)
			if err != nil {
				log.Error("the rules were not read again; those before stay in force", "error", err)
				continue
			}
			if !changed {
				continue
			}
			g.Use(rules)
			log.Info("the rules were read again", "bundle", rules.Bundle)
		}
	})
	return group.Wait()
}

// printGateway says where a gateway listens.
func (a *app) printGateway(address func(way string) string) {
	for _, way := range gateway.Ways {
		if at := address(way); at != "" {
			fmt.Fprintf(a.out, "%s at %s\n", way, at)
		}
	}
}

// reporter gives what sends reports to the service; nil for none.
func (f *gatewayFlags) reporter() (func(context.Context, rule.GatewayReport) error, error) {
	server := f.report
	if server == "" && isAddress(f.bundle) {
		u, err := url.Parse(f.bundle)
		if err != nil {
			return nil, usage("--bundle %q is no address", f.bundle)
		}
		server = u.Scheme + "://" + u.Host
	}
	if server == "" || server == "none" {
		return nil, nil
	}
	r, err := newRemote(server)
	if err != nil {
		return nil, err
	}
	key, err := keyFrom(f.key, gatewayKey)
	if err != nil {
		return nil, err
	}
	if key != "" {
		r.key = key
	}
	return func(ctx context.Context, report rule.GatewayReport) error {
		return r.json(ctx, http.MethodPost, "/api/v1/gateways/report", report, nil)
	}, nil
}

// serveFigures answers GET /metrics with the gateway's figures until the context ends.
func (a *app) serveFigures(ctx context.Context, address string, g *gateway.Gateway) error {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return fmt.Errorf("the figures cannot be served at %s: %w", address, err)
	}
	fmt.Fprintf(a.out, "figures at http://%s/metrics\n", l.Addr())
	mux := http.NewServeMux()
	mux.HandleFunc("GET /metrics", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/openmetrics-text; version=1.0.0; charset=utf-8")
		g.Figures(w)
		io.WriteString(w, "# EOF\n")
	})
	server := &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second}
	defer context.AfterFunc(ctx, func() { server.Close() })()
	if err := server.Serve(l); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

// records gives what adds records to a file. A line that was torn when a gateway was killed stays a line of its own.
func records(file string, log *slog.Logger) (record func(rule.Record), done func() error, err error) {
	if file == "" {
		return func(rule.Record) {}, func() error { return nil }, nil
	}
	f, err := os.OpenFile(file, os.O_APPEND|os.O_CREATE|os.O_RDWR, 0o640)
	if err != nil {
		return nil, nil, fmt.Errorf("the records cannot be written: %w", err)
	}
	if err := endLine(f); err != nil {
		return nil, nil, errors.Join(fmt.Errorf("the records cannot be written: %w", err), f.Close())
	}
	var mutex sync.Mutex
	return func(r rule.Record) {
		line, err := json.Marshal(r)
		if err == nil {
			mutex.Lock()
			defer mutex.Unlock()
			_, err = f.Write(append(line, '\n')) // one write, so that a kill seldom tears it
		}
		if err != nil {
			log.Error("a record was not written", "file", file, "message", r.MessageID, "error", err)
		}
	}, f.Close, nil
}

// endLine ends the last line of a file that is appended to.
func endLine(f *os.File) error {
	info, err := f.Stat()
	if err != nil || info.Size() == 0 {
		return err
	}
	last := make([]byte, 1)
	if _, err := f.ReadAt(last, info.Size()-1); err != nil || last[0] == '\n' {
		return err
	}
	_, err = f.Write([]byte{'\n'})
	return err
}

// clientKeys reads the keys of clients.
func (f *mailTLSFlags) clientKeys() (gateway.Keys, error) {
	if f.keys == "" {
		return nil, nil
	}
	text, err := os.ReadFile(f.keys)
	if err != nil {
		return nil, fmt.Errorf("the keys of clients cannot be read: %w", err)
	}
	keys, err := gateway.ReadKeys(string(text))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", f.keys, err)
	}
	return keys, nil
}

// read reads the certificates.
func (f *mailTLSFlags) read() (t gateway.TLS, err error) {
	if f.cert != "" || f.key != "" {
		pair, err := tls.LoadX509KeyPair(f.cert, f.key)
		if err != nil {
			return t, fmt.Errorf("the certificate cannot be read: %w", err)
		}
		t.Server = &tls.Config{Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS12}
	}
	if !f.startTLS {
		return t, nil
	}
	if t.Next, err = authorities(f.nextCA); err != nil {
		return t, err
	}
	if t.Next == nil {
		t.Next = &tls.Config{MinVersion: tls.VersionTLS12}
	}
	t.Next.ServerName = f.nextName
	return t, nil
}

// authorities reads the certificates of authorities that a server's certificate must be from; nil for those of the system.
func authorities(file string) (*tls.Config, error) {
	if file == "" {
		return nil, nil
	}
	pem, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("the authorities cannot be read: %w", err)
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM(pem) {
		return nil, fmt.Errorf("%s holds no certificate", file)
	}
	return &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}, nil
}
