package cli

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"missivum/service/api"
)

// recordCommand is missivum record, which works against a service.
func (a *app) recordCommand() *cobra.Command {
	return onlineGroup("record", "Read and check the record of who did what", a.recordList, a.recordVerify, a.recordKeep)
}

// recordList lists entries.
func (a *app) recordList(server *string) *cobra.Command {
	var who, object, name, action, since, until, output string
	var asCSV bool
	c := &cobra.Command{
		Use: "list", Short: "List who did what, newest first; the newest 200, or all of it as CSV",
		Example: "  missivum record list --object release --since 2026-11-01\n  missivum record list --csv -o record.csv", Args: exactly(),
	}
	c.RunE = online(server, func(ctx context.Context, r *remote, _ []string) error {
		query := url.Values{}
		for key, value := range map[string]string{"who": who, "object": object, "name": name, "action": action, "since": since, "until": until} {
			if value != "" {
				query.Set(key, value)
			}
		}
		if asCSV {
			query.Set("form", "csv")
			answer, err := r.get(ctx, "/api/v1/record?"+query.Encode(), "text/csv")
			if err != nil {
				return err
			}
			defer answer.Body.Close()
			return a.writeFile(output, func(w io.Writer) error {
				_, err := io.Copy(w, answer.Body)
				return err
			})
		}
		var list []api.Entry
		if err := r.json(ctx, http.MethodGet, "/api/v1/record?"+query.Encode(), nil, &list); err != nil {
			return err
		}
		var rows [][]string
		for _, e := range list {
			by := e.By.Name
			if e.Where != "" {
				by += " from " + e.Where
			}
			rows = append(rows, []string{strconv.FormatInt(e.Number, 10), e.At.Local().Format(time.DateTime), by, e.Action,
				e.Object, e.Name, cut(e.Detail, 60)})
		}
		printTable(a.out, []string{"Number", "Time", "Who", "Action", "Object", "Name", "Detail"}, rows)
		return nil
	})
	c.Flags().StringVar(&who, "who", "", "part of the name of who acted")
	c.Flags().StringVar(&object, "object", "", "kind of thing, such as template, release or account")
	c.Flags().StringVar(&name, "name", "", "part of the thing's name")
	c.Flags().StringVar(&action, "action", "", "what was done, such as saved, removed or approved")
	c.Flags().StringVar(&since, "since", "", "day, such as 2026-11-01")
	c.Flags().StringVar(&until, "until", "", "last day, such as 2026-11-30")
	c.Flags().BoolVar(&asCSV, "csv", false, "all of it as CSV, with digests and links")
	c.Flags().StringVarP(&output, "output", "o", "", "file to write the CSV to (default standard output)")
	return c
}

// cut is the beginning of a text.
func cut(text string, most int) string {
	text = strings.Join(strings.Fields(text), " ")
	if r := []rune(text); len(r) > most {
		return string(r[:most-1]) + "…"
	}
	return text
}

// recordVerify checks the chain.
func (a *app) recordVerify(server *string) *cobra.Command {
	var known string
	c := &cobra.Command{
		Use: "verify", Short: "Check that no entry was changed or taken out",
		Long: `Checks that each entry follows from the one before it. Whoever can write to the database could write the whole record anew,
or take its end off; so keep what this prints somewhere else, and give it the next time with --known.`,
		Example: "  missivum record verify", Args: exactly(),
	}
	c.RunE = online(server, func(ctx context.Context, r *remote, _ []string) error {
		query := url.Values{}
		if known != "" {
			number, link, ok := strings.Cut(known, ":")
			if !ok {
				return usage("--known %q must be a number, a colon and a link, as an earlier check printed them", known)
			}
			query.Set("number", number)
			query.Set("link", link)
		}
		var c api.RecordCheck
		if err := r.json(ctx, http.MethodGet, "/api/v1/record/check?"+query.Encode(), nil, &c); err != nil {
			return err
		}
		if !c.Whole {
			return exitError{ExitFindings, fmt.Errorf("%s", c.Says)}
		}
		pruned := ""
		if c.Pruned > 0 {
			pruned = fmt.Sprintf(" (those up to %d were pruned)", c.Pruned)
		}
		fmt.Fprintf(a.out, "The record is whole: %s entries%s.\nKeep this for the next check: --known %d:%s\n",
			grouped(int(c.Entries)), pruned, c.Last, c.Link)
		return nil
	})
	c.Flags().StringVar(&known, "known", "", "number and link that an earlier check printed")
	return c
}

// recordKeep says for how long entries are kept.
func (a *app) recordKeep(server *string) *cobra.Command {
	return &cobra.Command{
		Use: "keep DAYS", Short: "Set for how many days entries are kept; 0 for ever",
		Example: "  missivum record keep 730", Args: exactly("DAYS"),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			days, err := strconv.Atoi(args[0])
			if err != nil || days < 0 {
				return usage("%q is no number of days", args[0])
			}
			return r.json(ctx, http.MethodPut, "/api/v1/record/settings", map[string]int{"days": days}, nil)
		}),
	}
}
