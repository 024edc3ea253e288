package cli

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"missivum/service/messages"
	"missivum/service/store"
)

// messageCommand is missivum message: what gateways did with messages.
func (a *app) messageCommand() *cobra.Command {
	return onlineGroup("message", "Find out what happened to a message at a gateway", a.messageFind, a.messageShow, a.messageKeep,
		a.messageGateways)
}

// messageFind is missivum message find.
func (a *app) messageFind(server *string) *cobra.Command {
	var outcome, ruleName, since, until, from string
	var limit int
	var asJSON bool
	c := &cobra.Command{
		Use: "find [TEXT]", Short: "List what gateways did with messages, the latest first",
		Long: `Finds messages by the beginning of their Message-ID, of the mail server's queue name, or of the address of a sender or
recipient. Records hold no content, and are kept as long as missivum message keep says.`,
		Example: "  missivum message find maren.lind@brackwater.example --since 24h",
		Args:    cobra.MaximumNArgs(1),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			query := url.Values{"limit": {strconv.Itoa(limit)}, "outcome": {outcome}, "rule": {ruleName}, "gateway": {from}}
			if len(args) > 0 {
				query.Set("find", args[0])
			}
			for name, text := range map[string]string{"since": since, "until": until} {
				if text == "" {
					continue
				}
				t, err := a.ago(text)
				if err != nil {
					return usage("--%s %q is neither a time such as 2026-11-23T09:00:00Z nor one ago such as 24h", name, text)
				}
				query.Set(name, t.UTC().Format(time.RFC3339))
			}
			var found messages.Found
			if err := r.json(ctx, http.MethodGet, "/api/v1/messages?"+query.Encode(), nil, &found); err != nil {
				return err
			}
			if asJSON {
				return writeJSON(a.out, found)
			}
			if len(found.Messages) == 0 {
				fmt.Fprintln(a.out, "No record was found.")
				return nil
			}
			var rows [][]string
			for _, m := range found.Messages {
				rows = append(rows, []string{strconv.FormatInt(m.ID, 10), m.Time.Local().Format("2006-01-02 15:04:05"), m.Sender,
					strings.Join(shortList(m.Recipients, 1), ", "), string(m.Outcome), m.Says})
			}
			printTable(a.out, []string{"Record", "Time", "From", "To", "Outcome", "Why"}, rows)
			if found.More {
				fmt.Fprintf(a.out, "\nThere are more; --limit and --until narrow or widen the list.\n")
			}
			return nil
		}),
	}
	c.Flags().StringVar(&outcome, "outcome", "", "stamped, enclosed, unchanged, refused, held, failed or unsure")
	c.Flags().StringVar(&ruleName, "rule", "", "a rule that applied")
	c.Flags().StringVar(&from, "gateway", "", "name of a gateway")
	c.Flags().StringVar(&since, "since", "", "not before: a time (RFC 3339), or how long ago, such as 24h")
	c.Flags().StringVar(&until, "until", "", "before: a time (RFC 3339), or how long ago")
	c.Flags().IntVar(&limit, "limit", 50, "how many, 200 at most")
	c.Flags().BoolVar(&asJSON, "json", false, "write JSON")
	return c
}

// ago reads a time, or how long ago it was.
func (a *app) ago(text string) (time.Time, error) {
	if d, err := time.ParseDuration(text); err == nil {
		return a.now().Add(-d), nil
	}
	return time.Parse(time.RFC3339, text)
}

// messageShow is missivum message show.
func (a *app) messageShow(server *string) *cobra.Command {
	return &cobra.Command{
		Use: "show RECORD", Short: "Say what each rule did with a message", Example: "  missivum message show 4711",
		Args: exactly("RECORD"),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil || id < 1 {
				return usage("%q is no record; missivum message find lists them", args[0])
			}
			var m store.MessageRecord
			if err := r.json(ctx, http.MethodGet, "/api/v1/messages/"+strconv.FormatInt(id, 10), nil, &m); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%s. %s\n\n", m.Outcome, m.Says)
			rows := [][]string{{"Message-ID", m.MessageID}, {"Queue", or(m.Queue, "-")}, {"Time", m.Time.Local().Format("2006-01-02 15:04:05")},
				{"From", m.Sender}, {"To", strings.Join(shortList(m.Recipients, 20), ", ")},
				{"Gateway", m.Gateway + " (" + m.Way + ")"}, {"Bundle", m.Bundle}, {"Release", strconv.Itoa(m.Release)},
				{"Size", fmt.Sprintf("%s bytes before, %s after", grouped(m.Before), grouped(m.After))},
				{"Took", fmt.Sprintf("%.1f ms", m.Took)}}
			printTable(a.out, nil, rows)
			for _, s := range m.Steps {
				if s.Lacks == "" {
					fmt.Fprintf(a.out, "\nRule %s (%s) applies. %s", s.Rule, s.State, s.Says)
				} else {
					fmt.Fprintf(a.out, "\nRule %s (%s) does not apply: %s.", s.Rule, s.State, s.Lacks)
				}
			}
			fmt.Fprintln(a.out)
			return nil
		}),
	}
}

// messageKeep is missivum message keep.
func (a *app) messageKeep(server *string) *cobra.Command {
	return &cobra.Command{
		Use: "keep [DAYS]", Short: "Say or set for how many days records of messages are kept", Example: "  missivum message keep 30",
		Args: cobra.MaximumNArgs(1),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			var s messages.Settings
			if len(args) == 0 {
				if err := r.json(ctx, http.MethodGet, "/api/v1/messages/settings", nil, &s); err != nil {
					return err
				}
			} else {
				days, err := strconv.Atoi(args[0])
				if err != nil {
					return usage("%q is no number of days", args[0])
				}
				if err := r.json(ctx, http.MethodPut, "/api/v1/messages/settings", messages.Settings{Days: days}, &s); err != nil {
					return err
				}
			}
			fmt.Fprintf(a.out, "Records of messages are kept for %s.\n", plural(s.Days, "day", "days"))
			return nil
		}),
	}
}

// messageGateways is missivum message gateways.
func (a *app) messageGateways(server *string) *cobra.Command {
	return &cobra.Command{
		Use: "gateways", Short: "List the gateways that reported, and which bundle each has", Example: "  missivum message gateways",
		Args: exactly(),
		RunE: online(server, func(ctx context.Context, r *remote, _ []string) error {
			var list []store.Gateway
			if err := r.json(ctx, http.MethodGet, "/api/v1/gateways", nil, &list); err != nil {
				return err
			}
			if len(list) == 0 {
				fmt.Fprintln(a.out, "No gateway has reported yet.")
				return nil
			}
			var rows [][]string
			for _, g := range list {
				total := 0
				for _, n := range g.Counts.Outcomes {
					total += n
				}
				rows = append(rows, []string{g.Gateway, or(g.Bundle, "-"), g.Version, moment(g.Seen), grouped(total), grouped(g.Counts.Failed),
					grouped(g.Waiting), grouped(g.Dropped)})
			}
			printTable(a.out, []string{"Gateway", "Bundle", "Version", "Reported", "Messages", "Failed", "Waiting", "Dropped"}, rows)
			return nil
		}),
	}
}
