package cli

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"missivum/core/kit"
	"missivum/core/rule"
	"missivum/service/rules"
	"missivum/service/store"
)

// rulePush is missivum rule push.
func (a *app) rulePush(server *string) *cobra.Command {
	var note string
	base := -1
	c := &cobra.Command{
		Use: "push FILE", Short: "Store the mail rules of a file as a new version",
		Long: "Stores mail rules in a service. Audiences and assignments are the service's own, and templates that rules name must be there. " +
			"With --base the file is refused if the latest version is another one, so that nobody's work is written over.",
		Example: "  missivum rule push demo/rules.yaml --note \"Winter timetable\"",
		Args:    exactly("FILE"),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			document, err := os.ReadFile(args[0])
			if err != nil {
				return fmt.Errorf("the mail rules cannot be read: %w", err)
			}
			var s rules.State
			request := map[string]any{"document": string(document), "note": note, "base": base}
			if err := r.json(ctx, http.MethodPut, "/api/v1/rules", request, &s); err != nil {
				return fmt.Errorf("%s: %w", args[0], err)
			}
			fmt.Fprintf(a.out, "Version %d is stored; gateways use it when a release that holds it is out.\n", s.Number)
			for i, line := range s.Rules {
				fmt.Fprintf(a.out, "%d. %s (%s): %s\n", i+1, line.Name, line.State, line.Sentence)
			}
			a.warnings(s.Warnings)
			return nil
		}),
	}
	c.Flags().StringVar(&note, "note", "", "what was changed, for the list of versions")
	c.Flags().IntVar(&base, "base", -1, "version that the file was made from")
	return c
}

// warnings prints what is wrong with rules though they can be used.
func (a *app) warnings(list []rule.Warning) {
	for _, w := range list {
		fmt.Fprintf(a.out, "Warning: the rule %s. %s\n", w.Rule, w.Says)
	}
}

// rulePull is missivum rule pull.
func (a *app) rulePull(server *string) *cobra.Command {
	var output string
	var version int
	c := &cobra.Command{
		Use: "pull", Short: "Write the mail rules of a service into a file",
		Example: "  missivum rule pull -o rules.yaml",
		Args:    exactly(),
		RunE: online(server, func(ctx context.Context, r *remote, _ []string) error {
			path := "/api/v1/rules"
			if version > 0 {
				path += "?version=" + strconv.Itoa(version)
			}
			var s rules.State
			if err := r.json(ctx, http.MethodGet, path, nil, &s); err != nil {
				return err
			}
			if s.Number == 0 {
				fmt.Fprintln(a.err, "There are no mail rules yet; this is a file to begin with.")
			}
			return a.writeFile(output, func(w io.Writer) error {
				_, err := io.WriteString(w, s.Document)
				return err
			})
		}),
	}
	c.Flags().StringVarP(&output, "output", "o", "", "file to write (default standard output)")
	c.Flags().IntVar(&version, "version", 0, "version (default the latest)")
	return c
}

// ruleList is missivum rule list.
func (a *app) ruleList(server *string) *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the mail rules of a service as sentences, and their versions",
		Example: "  missivum rule list",
		Args:    exactly(),
		RunE: online(server, func(ctx context.Context, r *remote, _ []string) error {
			var versions []store.RulesVersion
			if err := r.json(ctx, http.MethodGet, "/api/v1/rules/versions", nil, &versions); err != nil {
				return err
			}
			if len(versions) == 0 {
				fmt.Fprintln(a.out, "There are no mail rules yet; missivum rule push stores some.")
				return nil
			}
			var s rules.State
			if err := r.json(ctx, http.MethodGet, "/api/v1/rules", nil, &s); err != nil {
				return err
			}
			for i, line := range s.Rules {
				fmt.Fprintf(a.out, "%d. %s (%s): %s\n", i+1, line.Name, line.State, line.Sentence)
			}
			a.warnings(s.Warnings)
			var rows [][]string
			for _, v := range versions {
				rows = append(rows, []string{strconv.Itoa(v.Number), v.Created.Local().Format("2006-01-02 15:04"), or(v.Author, "-"), or(v.Note, "-")})
			}
			fmt.Fprintln(a.out)
			printTable(a.out, []string{"Version", "Saved", "By", "Note"}, rows)
			return nil
		}),
	}
}

// rulePause is missivum rule pause, and missivum rule resume.
func (a *app) rulePause(server *string, paused bool) *cobra.Command {
	var because string
	c := &cobra.Command{
		Use: "resume", Short: "Let gateways stamp again", Example: "  missivum rule resume", Args: exactly(),
	}
	if paused {
		c.Use, c.Short, c.Example = "pause", "Have every gateway of a service leave all mail as it is, at once",
			"  missivum rule pause --says \"Pictures do not load\""
		c.Long = "Gateways that ask the service leave every message as it is within about ten seconds, and say so " +
			"in their records. Nothing else " +
			"changes; missivum rule resume ends it."
		c.Flags().StringVar(&because, "says", "", "why, for the records")
	}
	c.RunE = online(server, func(ctx context.Context, r *remote, _ []string) error {
		var p rules.Pause
		if err := r.json(ctx, http.MethodPut, "/api/v1/rules/pause", map[string]any{"paused": paused, "says": because}, &p); err != nil {
			return err
		}
		if paused {
			fmt.Fprintln(a.out, "Mail rules are paused: every message is left as it is. missivum rule resume ends it.")
		} else {
			fmt.Fprintln(a.out, "Mail rules work again.")
		}
		return nil
	})
	return c
}

// serviceEngine compiles the rules of a service, or those of a file for its templates and people.
func (a *app) serviceEngine(ctx context.Context, f ruleFlags, day time.Time) (*rule.Engine, error) {
	r, err := newRemote(*f.server)
	if err != nil {
		return nil, err
	}
	path := "/api/v1/rules/bundle?latest=true"
	if f.inForce {
		if f.rules != "" {
			return nil, usage("--in-force takes the service's rules; leave --rules out")
		}
		path = "/api/v1/rules/bundle"
	}
	data, err := r.bytes(ctx, path, rule.MaxBundle)
	if err != nil {
		return nil, fmt.Errorf("%w; or name --templates and --people", err)
	}
	key, err := r.bytes(ctx, "/api/v1/desk/trust", 1<<16)
	if err != nil {
		return nil, err
	}
	trusted, err := kit.ReadTrusted(key)
	if err != nil {
		return nil, err
	}
	b, name, err := rule.ReadBundle(data, trusted)
	if err != nil {
		return nil, err
	}
	if f.rules != "" {
		file, err := f.file()
		if err != nil {
			return nil, err
		}
		set := &b.Sets[0]
		file.Audiences, file.Assignments = set.File.Audiences, set.File.Assignments
		set.File = file
	}
	e, err := b.Engine(day, name)
	return e, f.wrong(err)
}
