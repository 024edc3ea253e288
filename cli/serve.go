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
	"gopkg.in/yaml.v3"

	"missivum/core/picture"
	"missivum/core/problem"
	"missivum/core/source"
	"missivum/core/template"
	"missivum/demo"
	made "missivum/demo/people"
	"missivum/service"
	"missivum/service/access"
	"missivum/service/hosting"
	"missivum/service/people"
	"missivum/service/templates"
)

const defaultListen = "127.0.0.1:8425"

// serveFlags are what serve and demo share.
type serveFlags struct {
	data, listen, log string
	pictures, tree    string
	allow             []string
}

func (f *serveFlags) add(c *cobra.Command) {
	c.Flags().StringVar(&f.listen, "listen", defaultListen, "loopback address to listen on; port 0 takes a free one")
	c.Flags().StringVar(&f.pictures, "pictures-listen", "",
		"address at which nothing but hosted pictures is served, for the public, such as 0.0.0.0:8426")
	c.Flags().StringVar(&f.tree, "pictures-tree", "", "folder in which hosted pictures are kept for a static web server")
	c.Flags().StringArrayVar(&f.allow, "allow", nil, "private network that the check of picture addresses may ask, such as 10.20.0.0/16")
	c.Flags().StringVar(&f.log, "log", "text", "form of the log on standard error: text or json")
}

// open opens the service with its store, and the log that it writes.
func (a *app) open(ctx context.Context, f serveFlags) (*service.Service, *slog.Logger, error) {
	var handler slog.Handler
	switch f.log {
	case "text":
		handler = slog.NewTextHandler(a.err, nil)
	case "json":
		handler = slog.NewJSONHandler(a.err, nil)
	default:
		return nil, nil, usage("--log %q is not known; it is text or json", f.log)
	}
	log := slog.New(handler)
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(memory) // a service beside others gives back what it needs no more
	}
	allow, err := networks(f.allow)
	if err != nil {
		return nil, nil, err
	}
	s, err := service.Open(ctx, service.Config{
		Data: f.data, Listen: f.listen, Log: log, Now: a.now, Version: Version, PictureListen: f.pictures,
		PictureTree: f.tree, PictureAllow: allow,
	})
	if errors.Is(err, service.ErrNotLoopback) {
		err = exitError{ExitUsage, err}
	}
	return s, log, err
}

// memory is from how many bytes on the service frees what it can, unless GOMEMLIMIT says otherwise. What it needs at once
// is bounded by the limits of requests and stays below.
const memory = 700 << 20

// networks reads the values of --allow.
func networks(list []string) ([]netip.Prefix, error) {
	var out []netip.Prefix
	for _, s := range list {
		p, err := netip.ParsePrefix(s)
		if err != nil {
			return nil, usage("--allow %q is no network; write it as 10.20.0.0/16", s)
		}
		out = append(out, p)
	}
	return out, nil
}

// serveCommand is missivum serve. It ends by itself on an interrupt, after what it has begun.
func (a *app) serveCommand() *cobra.Command {
	f := serveFlags{}
	c := &cobra.Command{
		Use:     "serve",
		Short:   "Run the service and its console",
		Long:    "Runs the service with its console until it is interrupted. Until it has accounts it listens on loopback addresses only.",
		Example: "  missivum serve --data /var/lib/missivum --listen 127.0.0.1:8425",
		Args:    exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, _, err := a.open(cmd.Context(), f)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Missivum is at %s\n", s.Address())
			if at := s.PictureAddress(); at != "" {
				fmt.Fprintf(a.out, "Pictures are served to the public from %s\n", at)
			}
			return s.Serve(cmd.Context())
		},
	}
	c.Flags().StringVar(&f.data, "data", "missivum-data", "folder for the database and the packages")
	f.add(c)
	return c
}

// demoCommand is missivum demo: the service with Brackwater Ferries in it.
func (a *app) demoCommand() *cobra.Command {
	f := serveFlags{}
	c := &cobra.Command{
		Use:   "demo",
		Short: "Run the service with the demo organisation",
		Long: `Runs the service with Brackwater Ferries, a made-up ferry company: 80 people in five ports and three templates.
Without --data everything is in a temporary folder and is gone afterwards.`,
		Example: "  missivum demo --listen 127.0.0.1:0",
		Args:    exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			if f.data == "" {
				folder, err := os.MkdirTemp("", "missivum-demo-")
				if err != nil {
					return err
				}
				defer os.RemoveAll(folder)
				f.data = folder
			}
			s, _, err := a.open(cmd.Context(), f)
			if err != nil {
				return err
			}
			if err := loadDemo(cmd.Context(), s); err != nil {
				return fmt.Errorf("loading the demo organisation: %w", err)
			}
			fmt.Fprintf(a.out, "Brackwater Ferries is at %s\nInterrupt (Ctrl+C) to end.\n", s.Address())
			return s.Serve(cmd.Context())
		},
	}
	c.Flags().StringVar(&f.data, "data", "", "folder to keep the demo in (default a temporary one)")
	f.add(c)
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
	return loadDemoAssignments(ctx, s)
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
