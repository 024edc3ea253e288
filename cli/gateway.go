package cli

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/signal"
	"sync"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"missivum/service/gateway"
)

// gatewayFlags say where the gateway listens.
type gatewayFlags struct {
	config                                       gateway.Config
	bundle, trust, keep                          string
	records, ledger, cert, key, nextCA, nextName string
	size                                         int
	startTLS                                     bool
}

// add puts the flags on a command.
func (f *gatewayFlags) add(c *cobra.Command) {
	c.Flags().StringVar(&f.bundle, "bundle", "",
		"file made by missivum rule bundle, or address of a service's bundle, instead of rules, templates and people; renewed when it changes")
	c.Flags().StringVar(&f.keep, "keep", "", "file in which the last good bundle of a service is kept, for when the service is away")
	c.Flags().StringVar(&f.trust, "trust", "", "public key of who signs the bundle")
	c.Flags().StringVar(&f.config.Milter, "milter", "", "where the milter listens, such as unix:/run/missivum/milter.sock or 127.0.0.1:8894")
	c.Flags().StringVar(&f.config.SMTP, "smtp", "", "where the SMTP relay listens, such as 127.0.0.1:10025")
	c.Flags().StringVar(&f.config.Next, "next", "", "server that the relay gives messages to, such as 127.0.0.1:10026")
	c.Flags().StringArrayVar(&f.config.Allow, "allow", nil,
		"address or network of clients that may connect (default loopback and unix sockets)")
	c.Flags().IntVar(&f.size, "max-size", gateway.DefaultMaxSize>>20,
		"MB of a message; larger ones pass the milter unchanged and are refused by the relay")
	c.Flags().StringVar(&f.records, "records", "", "file to which a line of JSON is added for each message: outcome, rule, sizes, no content")
	c.Flags().StringVar(&f.ledger, "ledger", "",
		"file in which the relay remembers what the next server took and the client has not heard of, "+
			"so that less is sent twice after it was killed")
	c.Flags().StringVar(&f.config.Name, "name", "", "how the relay calls itself (default the host's name)")
	c.Flags().StringVar(&f.cert, "tls-cert", "", "certificate with which the relay offers STARTTLS")
	c.Flags().StringVar(&f.key, "tls-key", "", "its key")
	c.Flags().BoolVar(&f.startTLS, "next-tls", false, "encrypt towards the next server with STARTTLS")
	c.Flags().StringVar(&f.nextCA, "next-ca", "", "certificates of authorities for --next-tls (default the system's)")
	c.Flags().StringVar(&f.nextName, "next-name", "", "name in the next server's certificate (default its host)")
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
			record, closeRecords, err := records(f.records)
			if err != nil {
				return err
			}
			defer closeRecords()
			f.config.Log, f.config.Now, f.config.MaxSize, f.config.Record = log, a.now, f.size<<20, record
			if err := f.tls(); err != nil {
				return err
			}
			if f.config.Ledger, err = gateway.OpenLedger(f.ledger, a.now()); err != nil {
				return err
			}
			defer f.config.Ledger.Close()
			ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt, syscall.SIGTERM)
			defer stop()
			read := func(_ context.Context, force bool) (gateway.Rules, bool, error) {
				if !force {
					return gateway.Rules{}, false, nil
				}
				engine, err := a.engine(rules)
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
			for _, way := range []string{"milter", "smtp"} {
				if address := g.Address(way); address != "" {
					fmt.Fprintf(a.out, "%s at %s\n", way, address)
				}
			}
			fmt.Fprintf(a.out, "bundle %s\n", g.Bundle())
			return a.serveGateway(ctx, g, read, log)
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

// records gives what adds records to a file.
func records(file string) (record func(gateway.Record), done func() error, err error) {
	if file == "" {
		return func(gateway.Record) {}, func() error { return nil }, nil
	}
	f, err := os.OpenFile(file, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o640)
	if err != nil {
		return nil, nil, fmt.Errorf("the records cannot be written: %w", err)
	}
	var mutex sync.Mutex
	return func(r gateway.Record) {
		line, err := json.Marshal(r)
		if err != nil {
			return
		}
		mutex.Lock()
		defer mutex.Unlock()
		io.WriteString(f, string(line)+"\n") // one write for a line, so that none is torn
	}, f.Close, nil
}

// tls reads certificates.
func (f *gatewayFlags) tls() error {
	if f.cert != "" || f.key != "" {
		pair, err := tls.LoadX509KeyPair(f.cert, f.key)
		if err != nil {
			return fmt.Errorf("the certificate cannot be read: %w", err)
		}
		f.config.TLS.Server = &tls.Config{Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS12}
	}
	if !f.startTLS {
		return nil
	}
	f.config.TLS.Next = &tls.Config{ServerName: f.nextName, MinVersion: tls.VersionTLS12}
	if f.nextCA != "" {
		pem, err := os.ReadFile(f.nextCA)
		if err != nil {
			return fmt.Errorf("the authorities cannot be read: %w", err)
		}
		pool := x509.NewCertPool()
		if !pool.AppendCertsFromPEM(pem) {
			return fmt.Errorf("%s holds no certificate", f.nextCA)
		}
		f.config.TLS.Next.RootCAs = pool
	}
	return nil
}
