package cli

import (
	"bytes"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/netip"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"gopkg.in/yaml.v3"

	"missivum/core/picture"
	"missivum/core/problem"
	"missivum/core/source"
	"missivum/core/template"
	"missivum/demo"
	made "missivum/demo/people"
	"missivum/service"
	"missivum/service/access"
	"missivum/service/accounts"
	"missivum/service/config"
	"missivum/service/gateway"
	"missivum/service/hosting"
	"missivum/service/people"
	"missivum/service/personal"
	"missivum/service/store"
	"missivum/service/templates"
)

// defaultListen is where the service listens unless a setting says otherwise.
const defaultListen = "127.0.0.1:8425"

// serveFlags are what serve and demo share: a flag for each setting, and the file of settings.
type serveFlags struct {
	file  string
	texts map[string]*string
	given *pflag.FlagSet
}

// add puts a flag for each setting on a command. defaults stand in the place of those that are built in.
func (f *serveFlags) add(c *cobra.Command, defaults map[string]string) {
	f.texts, f.given = map[string]*string{}, c.Flags()
	c.Flags().StringVar(&f.file, "config", "", "file of settings (environment MISSIVUM_CONFIG)")
	for _, one := range config.Settings() {
		value := new(string)
		standard, own := defaults[one.Name]
		if !own {
			standard = one.Written(one.Default)
		}
		f.texts[one.Name] = value
		c.Flags().StringVar(value, one.Flag(), standard, one.Doc)
		if one.Kind == config.Switch {
			c.Flags().Lookup(one.Flag()).NoOptDefVal = "true"
		}
	}
}

// load reads the settings: of the file, the environment and the flags.
func (f *serveFlags) load(defaults map[string]any) (*config.Values, error) {
	flags := map[string]string{}
	for _, one := range config.Settings() {
		if f.given.Changed(one.Flag()) {
			flags[one.Name] = *f.texts[one.Name]
		}
	}
	return f.read(flags, defaults)
}

// read is load with flags that were given.
func (f *serveFlags) read(flags map[string]string, defaults map[string]any) (*config.Values, error) {
	s := config.Sources{File: f.file, Environ: os.Environ(), Flags: flags, Defaults: defaults}
	if s.File == "" {
		s.File = os.Getenv("MISSIVUM_CONFIG")
	}
	v, err := config.Load(s)
	if err != nil {
		return nil, exitError{ExitUsage, err}
	}
	return v, nil
}

// open opens the service with its store, and the log that it writes.
func (a *app) open(ctx context.Context, v *config.Values) (*service.Service, *slog.Logger, error) {
	var handler slog.Handler = slog.NewTextHandler(a.err, nil)
	if v.Text("log") == "json" {
		handler = slog.NewJSONHandler(a.err, nil)
	}
	log := slog.New(handler)
	for _, note := range v.Notes {
		log.Warn(note)
	}
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(memory) // a service beside others gives back what it needs no more
	}
	c, err := serviceConfig(v)
	if err != nil {
		return nil, nil, exitError{ExitUsage, err}
	}
	c.Log, c.Now, c.Version = log, a.now, Version
	s, err := service.Open(ctx, c)
	if errors.Is(err, service.ErrNotLoopback) {
		err = exitError{ExitUsage, err}
	}
	return s, log, err
}

// serviceConfig turns settings into what the service takes.
func serviceConfig(v *config.Values) (service.Config, error) {
	c := service.Config{
		Data: v.Text("data"), Listen: v.Text("listen"), Address: v.Text("address"), Names: v.List("names"),
		TLS: service.TLS{Certificate: v.Text("tls.certificate"), Key: v.Text("tls.key"), ACME: v.Switch("tls.acme"),
			Directory: v.Text("tls.acme-directory"), Redirect: v.Text("tls.redirect")},
		SessionIdle: v.Duration("sessions.idle"), SessionLifetime: v.Duration("sessions.lifetime"),
		MetricsListen: v.Text("metrics.listen"), PictureListen: v.Text("pictures.listen"), PictureTree: v.Text("pictures.tree"),
		Gateway: gateway.Config{Milter: v.Text("mail.milter"), SMTP: v.Text("mail.smtp"), Next: v.Text("mail.next"), Allow: v.List("mail.allow"),
			Name: v.Text("mail.name"), MaxSize: v.Number("mail.max-size") << 20},
	}
	var err error
	if v.Text("provider.issuer") != "" {
		p := &accounts.Provider{Issuer: v.Text("provider.issuer"), Client: v.Text("provider.client"), Secret: v.Text("provider.secret"),
			Title: v.Text("provider.title"), Scopes: v.List("provider.scopes"), NameClaim: v.Text("provider.name-claim"),
			RolesClaim: v.Text("provider.roles-claim"), Everybody: access.Role(v.Text("provider.everybody"))}
		if p.Roles, err = accounts.ReadRoles(v.List("provider.roles")); err != nil {
			return c, err
		}
		c.Provider = p
	}
	if c.Proxies, err = networks("proxies", v.List("proxies")); err != nil {
		return c, err
	}
	if c.PictureAllow, err = networks("pictures.allow", v.List("pictures.allow")); err != nil {
		return c, err
	}
	encryption := mailTLSFlags{cert: v.Text("mail.tls-certificate"), key: v.Text("mail.tls-key"), nextCA: v.Text("mail.next-ca"),
		nextName: v.Text("mail.next-name"), keys: v.Text("mail.client-keys"), startTLS: v.Switch("mail.next-tls")}
	if c.Gateway.TLS, err = encryption.read(); err != nil {
		return c, err
	}
	c.Invitations = personal.Mail{Server: v.Text("invitations.server"), Encrypt: v.Text("invitations.encrypt"),
		User: v.Text("invitations.user"), Password: v.Text("invitations.password")}
	if c.Invitations.TLS, err = authorities(v.Text("invitations.ca")); err != nil {
		return c, err
	}
	c.BackupFolder, c.BackupEvery = v.Text("backup.folder"), v.Duration("backup.every")
	c.Gateway.Keys, err = encryption.clientKeys()
	return c, err
}

// memory is from how many bytes on the service frees what it can, unless GOMEMLIMIT says otherwise. What it needs at once
// is bounded by the limits of requests and stays below.
const memory = 700 << 20

// networks reads the networks of a setting; an address alone is a network of one.
func networks(name string, list []string) ([]netip.Prefix, error) {
	var out []netip.Prefix
	for _, s := range list {
		if ip, err := netip.ParseAddr(s); err == nil {
			out = append(out, netip.PrefixFrom(ip, ip.BitLen()))
			continue
		}
		p, err := netip.ParsePrefix(s)
		if err != nil {
			return nil, fmt.Errorf("%s: %q is no address and no network; write it as 10.20.0.5 or 10.20.0.0/16", name, s)
		}
		out = append(out, p)
	}
	return out, nil
}

// serveCommand is missivum serve. It ends by itself on an interrupt, after what it has begun.
func (a *app) serveCommand() *cobra.Command {
	f := serveFlags{}
	c := &cobra.Command{
		Use:   "serve",
		Short: "Run the service and its console",
		Long: `Runs the service with its console until it is interrupted. On a loopback address whoever uses the machine needs no account,
until there is one. An address that others can reach needs TLS, or a proxy that encrypts; there the service first prints a
link that makes the first administrator, and serves nothing else until it was used. Every flag is also a setting of the file
--config and a name in the environment: --tls-certificate is tls.certificate and MISSIVUM_TLS_CERTIFICATE. Flags win over the
environment, the environment over the file.`,
		Example: "  missivum serve --data /var/lib/missivum --listen 127.0.0.1:8425\n  missivum serve --config /etc/missivum/settings.yaml",
		Args:    exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			v, err := f.load(nil)
			if err != nil {
				return err
			}
			s, _, err := a.open(cmd.Context(), v)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Missivum is at %s\n", s.Address())
			if err := a.printDoors(cmd.Context(), s); err != nil {
				return err
			}
			return s.Serve(cmd.Context())
		},
	}
	f.add(c, nil)
	return c
}

// printDoors says where else the service answers, and how the first administrator is made.
func (a *app) printDoors(ctx context.Context, s *service.Service) error {
	for _, one := range []struct{ says, at string }{
		{"Pictures are served to the public from", s.PictureAddress()}, {"HTTP is redirected to HTTPS at", s.RedirectAddress()},
		{"Health and figures are at", s.MetricsAddress()},
	} {
		if one.at != "" {
			fmt.Fprintf(a.out, "%s %s\n", one.says, one.at)
		}
	}
	a.printGateway(s.GatewayAddress)
	first, err := s.FirstStart(ctx)
	if err != nil || first == "" {
		return err
	}
	fmt.Fprintf(a.out, "There is no account yet. This link makes the first administrator, once; nothing else is "+
		"served until then:\n%s\n", first)
	return nil
}

// demoCommand is missivum demo: the service with Brackwater Ferries in it.
func (a *app) demoCommand() *cobra.Command {
	f := serveFlags{}
	var withAccounts bool
	c := &cobra.Command{
		Use:   "demo",
		Short: "Run the service with the demo organisation",
		Long: `Runs the service with Brackwater Ferries, a made-up ferry company: 80 people in five ports and three templates.
Without --data everything is in a temporary folder and is gone afterwards.`,
		Example: "  missivum demo --listen 127.0.0.1:0\n  missivum demo --accounts",
		Args:    exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			defaults := map[string]any{"data": ""}
			v, err := f.load(defaults)
			if err != nil {
				return err
			}
			if v.Text("data") == "" {
				folder, err := os.MkdirTemp("", "missivum-demo-")
				if err != nil {
					return err
				}
				defer os.RemoveAll(folder)
				defaults["data"] = folder
				if v, err = f.load(defaults); err != nil {
					return err
				}
			}
			s, _, err := a.open(cmd.Context(), v)
			if err != nil {
				return err
			}
			if err := loadDemo(cmd.Context(), s); err != nil {
				return fmt.Errorf("loading the demo organisation: %w", err)
			}
			fmt.Fprintf(a.out, "Brackwater Ferries is at %s\nInterrupt (Ctrl+C) to end.\n", s.Address())
			if withAccounts {
				if err := a.addDemoAccounts(cmd.Context(), s); err != nil {
					return err
				}
			}
			if err := a.printDoors(cmd.Context(), s); err != nil {
				return err
			}
			return s.Serve(cmd.Context())
		},
	}
	f.add(c, map[string]string{"data": ""})
	c.Flags().Lookup("data").Usage = "folder to keep the demo in (default a temporary one)"
	c.Flags().BoolVar(&withAccounts, "accounts", false, "begin with one account for each role, so that each can be tried")
	c.AddCommand(a.demoPeopleCommand())
	return c
}

// demoPeopleCommand is missivum demo people: made-up people, for trying what 100,000 do.
func (a *app) demoPeopleCommand() *cobra.Command {
	var count int
	var seed uint64
	var output string
	c := &cobra.Command{
		Use:   "people",
		Short: "Write a made-up directory of any size as CSV",
		Long: `Writes people spread as in a real directory: blanks, long names, scripts, countries. The same count and seed
give the same people; telephone numbers come from ranges kept for fiction.`,
		Example: "  missivum demo people --count 20000 --seed 7 -o people.csv",
		Args:    exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			if count < 1 || count > source.MaxRows {
				return usage("--count %d must be from 1 to %s", count, grouped(source.MaxRows))
			}
			return a.writeFile(output, func(w io.Writer) error {
				out := csv.NewWriter(w)
				if err := out.Write(made.Fields); err != nil {
					return err
				}
				for p := range made.Stream(count, seed) {
					if cmd.Context().Err() != nil {
						return cmd.Context().Err()
					}
					if err := out.Write(p.Values); err != nil {
						return err
					}
				}
				out.Flush()
				return out.Error()
			})
		},
	}
	c.Flags().IntVar(&count, "count", 80, "how many people")
	c.Flags().Uint64Var(&seed, "seed", 1, "another seed gives other people")
	c.Flags().StringVarP(&output, "output", "o", "", "file to write (default standard output)")
	return c
}

// loadDemo fills a service with the demo organisation. What is there already stays as it is.
func loadDemo(ctx context.Context, s *service.Service) error {
	ctx = access.With(ctx, access.Itself("demo"))
	d, _, err := s.People.Directory(ctx)
	if err != nil {
		return err
	}
	if len(d.People) == 0 {
		csv, err := demo.PeopleCSV()
		if err != nil {
			return err
		}
		mapping, err := demo.Mapping()
		if err != nil {
			return err
		}
		plan, err := s.People.PlanFile(ctx, people.File{Body: bytes.NewReader(csv), Mapping: &mapping})
		if err != nil {
			return err
		}
		if _, err := s.People.Apply(ctx, plan.Run.ID, false); err != nil {
			return err
		}
	}
	if err := loadDemoPictures(ctx, s); err != nil {
		return err
	}
	if err := loadDemoClients(ctx, s); err != nil {
		return err
	}
	list, err := demo.Templates()
	if err != nil {
		return err
	}
	for _, t := range list {
		_, err := s.Templates.Save(ctx, t.Name, template.Whole(t.Parts()), templates.Edit{Note: "From the demo"})
		if err != nil && !problem.Is(err, problem.Conflict) {
			return err
		}
	}
	if err := loadDemoAssignments(ctx, s); err != nil {
		return err
	}
	if err := loadDemoRules(ctx, s); err != nil {
		return err
	}
	return loadDemoSites(ctx, s)
}

// DemoPassword is the password of the demo's accounts, which is printed when they are made.
const DemoPassword = "quay lantern tide bell"

// addDemoAccounts makes one account for each role, where there are none, and prints how to sign in.
func (a *app) addDemoAccounts(ctx context.Context, s *service.Service) error {
	made := "made for the demo"
	have, err := s.Accounts.List(ctx)
	if err != nil {
		return err
	}
	if len(have) > 0 {
		made = "from an earlier demo in this folder"
	}
	ctx = access.With(ctx, access.Itself("demo"))
	fmt.Fprintf(a.out, "Accounts %s, all with the password %q:\n", made, DemoPassword)
	for _, one := range demo.Accounts() {
		fmt.Fprintf(a.out, "  %-16s %s\n", one.Role, one.Name)
		if len(have) > 0 {
			continue
		}
		secret, _, err := s.Accounts.Add(ctx, store.Account{Name: one.Name, Title: one.Title, Roles: []access.Role{access.Role(one.Role)}})
		if err != nil {
			return err
		}
		if _, err := s.Accounts.Choose(ctx, secret, DemoPassword); err != nil {
			return err
		}
	}
	return nil
}

// loadDemoRules stores the demo's mail rules where there are none yet.
func loadDemoRules(ctx context.Context, s *service.Service) error {
	have, err := s.Rules.Get(ctx, 0)
	if err != nil || have.Number > 0 {
		return err
	}
	_, err = s.Rules.Put(ctx, demo.Rules(), "From the demo", 0)
	return err
}

// loadDemoAssignments says who gets what in the demo, where nobody has said so yet.
func loadDemoAssignments(ctx context.Context, s *service.Service) error {
	have, err := s.People.Assignments(ctx)
	if err != nil || len(have.Lines) > 0 {
		return err
	}
	audiences, err := demo.Audiences()
	if err != nil {
		return err
	}
	for _, one := range audiences {
		if err := s.People.PutAudience(ctx, one); err != nil {
			return err
		}
	}
	lines, err := demo.Assignments()
	if err != nil {
		return err
	}
	return s.People.PutAssignments(ctx, lines, nil)
}

// loadDemoSites names the demo's webmails for the add-on, where nobody has named any.
func loadDemoSites(ctx context.Context, s *service.Service) error {
	have, err := s.AddOn.Settings(ctx)
	if err != nil || len(have.Sites) > 0 {
		return err
	}
	if have.Sites, err = demo.Sites(); err != nil {
		return err
	}
	have.Name = "Brackwater Ferries"
	return s.AddOn.PutSettings(ctx, have)
}

// loadDemoClients stores the demo's own client profiles, those that are not there yet.
func loadDemoClients(ctx context.Context, s *service.Service) error {
	list, err := demo.Clients()
	if err != nil {
		return err
	}
	for id, document := range list {
		if _, own, err := s.Clients.Document(ctx, id); err == nil && own {
			continue
		}
		if _, err := s.Clients.Put(ctx, id, string(document)); err != nil {
			return err
		}
	}
	return nil
}

// loadDemoPictures stores the demo's originals, with what is known of them, where they are not there yet.
func loadDemoPictures(ctx context.Context, s *service.Service) error {
	list, err := demo.Pictures()
	if err != nil {
		return err
	}
	for file, data := range list {
		name := strings.TrimSuffix(file, filepath.Ext(file))
		if strings.HasSuffix(file, ".yaml") {
			continue
		}
		if _, err := s.Pictures.Get(ctx, name); !problem.Is(err, problem.NotFound) {
			if err != nil {
				return err
			}
			continue
		}
		if _, err := s.Pictures.Put(ctx, name, data, file, "From the demo"); err != nil {
			return err
		}
		if err := describeDemoPicture(ctx, s, name, list["crossings.map.yaml"]); err != nil {
			return err
		}
	}
	settings, err := s.Hosting.Settings(ctx)
	if err != nil || settings != (hosting.Settings{}) {
		return err
	}
	return s.Hosting.PutSettings(ctx, hosting.Settings{Address: "https://pictures.brackwater.example/", Volume: 9000})
}

// describeDemoPicture stores what is known of one of the demo's pictures.
func describeDemoPicture(ctx context.Context, s *service.Service, name string, cuts []byte) error {
	switch name {
	case "crossings":
		var m picture.SliceMap
		if err := yaml.Unmarshal(cuts, &m); err != nil {
			return err
		}
		return s.Pictures.PutSlices(ctx, name, m)
	case "ferry":
		return s.Pictures.PutAlts(ctx, name, map[string]string{"en": "Brackwater Ferries", "sv": "Brackwaters färjor"})
	}
	return nil
}
