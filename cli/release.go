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
	"missivum/service/desks"
	"missivum/service/releases"
)

// releaseCommand is missivum release, which works against a service.
func (a *app) releaseCommand() *cobra.Command {
	server, as := new(string), new(string)
	c := &cobra.Command{Use: "release", Short: "Freeze what goes out, approve it, send it in waves, see where it is, take it back"}
	serverFlag(c, server)
	c.PersistentFlags().StringVar(as, "as", "", "name of who acts (default the service's owner); whoever approves is not whoever made it")
	for _, command := range []*cobra.Command{a.releaseMake(server, as), a.releaseList(server), a.releaseShow(server),
		a.releaseSheet(server), a.releaseApprove(server, as),
		a.releaseSend(server, as), a.releaseStep(server, as, "pause", "Let no further wave begin"),
		a.releaseStep(server, as, "resume", "Let waves begin again"),
		a.releaseStep(server, as, "widen", "Begin the next wave now"),
		a.releaseStep(server, as, "withdraw", "Take a release back: desks go to the release before, or back to what they had"),
		a.releaseDelete(server, as), a.releaseSettings(server, as), a.releaseDesks(server)} {
		c.AddCommand(command)
	}
	return c
}

// acting is online for somebody who is named.
func acting(server, as *string, run func(ctx context.Context, r *remote, args []string) error) func(*cobra.Command, []string) error {
	return online(server, func(ctx context.Context, r *remote, args []string) error {
		r.as = *as
		return run(ctx, r, args)
	})
}

// releaseMake freezes a release and waits until it is checked.
func (a *app) releaseMake(server, as *string) *cobra.Command {
	var in api.ReleaseRequest
	c := &cobra.Command{
		Use: "make TITLE", Short: "Freeze everything as it is now, and check it for everybody it concerns",
		Example: `  missivum release make "Winter timetable" --base brackwater --as Maren`,
		Long: `Freezes who gets which template, the templates with their pictures and texts, audiences and settings; checks every
template for all the people who get it, draws the contact sheets, and lists what is not as in the release before.
People stay live, so that a change in the directory reaches desks by itself; --frozen-people freezes them too.`,
		Args: exactly("TITLE"),
		RunE: acting(server, as, func(ctx context.Context, r *remote, args []string) error {
			in.Title = args[0]
			var release api.Release
			if err := r.json(ctx, http.MethodPost, "/api/v1/releases", in, &release); err != nil {
				return err
			}
			bar := a.progress("steps", release.Job.Total)
			for release.State == "draft" && (release.Job.State == "waiting" || release.Job.State == "running") {
				select {
				case <-ctx.Done():
					bar.end()
					return ctx.Err()
				case <-time.After(200 * time.Millisecond):
				}
				if err := r.json(ctx, http.MethodGet, fmt.Sprintf("/api/v1/releases/%d", release.ID), nil, &release); err != nil {
					bar.end()
					return err
				}
				bar.done(release.Job.Done)
			}
			bar.end()
			if release.State == "draft" {
				return fmt.Errorf("the checks %s: %s", release.Job.State, release.Job.Message)
			}
			a.printRelease(release)
			return nil
		}),
	}
	c.Flags().StringVar(&in.Base, "base", "", "base name of the files on desks; keep it from release to release (default signature)")
	c.Flags().StringVar(&in.Note, "note", "", "what this release is about")
	c.Flags().BoolVar(&in.FrozenPeople, "frozen-people", false, "freeze the people too")
	return c
}

// releaseList lists the releases.
func (a *app) releaseList(server *string) *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the releases, newest first", Example: "  missivum release list", Args: exactly(),
		RunE: online(server, func(ctx context.Context, r *remote, _ []string) error {
			var list []api.Release
			if err := r.json(ctx, http.MethodGet, "/api/v1/releases", nil, &list); err != nil {
				return err
			}
			var rows [][]string
			for _, one := range list {
				open := 0
				for _, w := range one.Waves {
					if !w.Opened.IsZero() {
						open++
					}
				}
				waves := "-"
				if len(one.Waves) > 0 {
					waves = fmt.Sprintf("%d of %d begun", open, len(one.Waves))
				}
				rows = append(rows, []string{strconv.Itoa(one.ID), one.Title, string(one.State), one.MadeBy, one.ApprovedBy, waves, day(one.Made)})
			}
			printTable(a.out, []string{"Release", "Title", "State", "Made by", "Approved by", "Waves", "Made"}, rows)
			var endings []releases.Ending
			if err := r.json(ctx, http.MethodGet, "/api/v1/releases/endings", nil, &endings); err != nil {
				return err
			}
			a.printEndings(endings)
			return nil
		}),
	}
}

// printEndings reminds of dated pieces that end soon.
func (a *app) printEndings(list []releases.Ending) {
	for _, e := range list {
		fmt.Fprintf(a.out, "\n%s: the dated piece %s ends on %s, in %s.\n  Go on showing it: %s.\n  Do not: %s.\n", e.Template, e.Slot, e.Until,
			plural(e.Days, "day", "days"), strings.Join(e.Stays, "; "), strings.Join(e.Goes, "; "))
	}
}

// releaseShow shows a release.
func (a *app) releaseShow(server *string) *cobra.Command {
	return &cobra.Command{
		Use: "show RELEASE", Short: "Show what a release freezes, what the checks found, what changed, and its waves",
		Example: "  missivum release show 1", Args: exactly("RELEASE"),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			var release api.Release
			if err := r.json(ctx, http.MethodGet, "/api/v1/releases/"+url.PathEscape(args[0]), nil, &release); err != nil {
				return err
			}
			a.printRelease(release)
			return nil
		}),
	}
}

// printRelease writes what an approver reads.
func (a *app) printRelease(r api.Release) {
	fmt.Fprintf(a.out, "release %d, %s: %s\n", r.ID, r.Title, r.State)
	if r.Note != "" {
		fmt.Fprintf(a.out, "  %s\n", r.Note)
	}
	fmt.Fprintf(a.out, "  made by %s on %s", r.MadeBy, r.Made.Local().Format("2006-01-02 15:04"))
	if r.ApprovedBy != "" {
		fmt.Fprintf(a.out, ", approved by %s", r.ApprovedBy)
		if r.Approval != "" {
			fmt.Fprintf(a.out, ": %s", r.Approval)
		}
	}
	fmt.Fprintf(a.out, "\n  digest %s\n", r.Digest)
	fmt.Fprintf(a.out, "  base name of the files: %s; people: %s\n", r.Base, map[bool]string{true: "frozen", false: "live"}[r.FrozenPeople])
	fmt.Fprintln(a.out, "Templates, with what the checks found:")
	for _, t := range r.Templates {
		fmt.Fprintf(a.out, "  %s version %d", t.Name, t.Number)
		checked := false
		for _, e := range r.Examined {
			if e.Template == t.Name {
				checked = true
				fmt.Fprintf(a.out, ": %s, %d break, %d degrade, %d over a limit. %s", plural(e.People, "person", "people"),
					e.Breaks, e.Degrades, e.OverLimit, e.Verdict)
			}
		}
		if !checked {
			fmt.Fprint(a.out, ": nobody gets it")
		}
		fmt.Fprintln(a.out)
	}
	if len(r.Differences) > 0 {
		fmt.Fprintln(a.out, "What is not as in the release before:")
	} else if r.State != "draft" {
		fmt.Fprintln(a.out, "Nothing is different from the release before.")
	}
	for _, d := range r.Differences {
		name := d.Name
		if name != "" {
			name = " " + name
		}
		fmt.Fprintf(a.out, "  %s%s: %s\n", d.Kind, name, d.Says)
	}
	if len(r.Waves) > 0 {
		fmt.Fprintln(a.out, "Waves:")
		var rows [][]string
		for _, w := range r.Waves {
			who, state := w.Audience, "waits"
			if who == "" {
				who = "everybody"
			}
			if !w.Opened.IsZero() {
				state = "begun " + w.Opened.Local().Format("2006-01-02 15:04")
			} else if !w.Start.IsZero() {
				state = "from " + w.Start.Local().Format("2006-01-02 15:04")
			}
			rows = append(rows, []string{strconv.Itoa(w.Number), who, state, grouped(w.People), grouped(w.Good),
				grouped(w.Wrong), grouped(w.Silent), fmt.Sprintf("%d %%", w.Share)})
		}
		printTable(a.out, []string{"Wave", "Audience", "State", "People", "Right", "Wrong", "Silent", "For the next"}, rows)
	}
	switch r.State {
	case "checked":
		fmt.Fprintf(a.out, "next: missivum release approve %d --as NAME, by somebody other than %s\n", r.ID, r.MadeBy)
	case "approved":
		fmt.Fprintf(a.out, "next: missivum release send %d --wave AUDIENCE:SHARE --wave everybody\n", r.ID)
	}
	if r.Paused {
		fmt.Fprintf(a.out, "paused: no further wave begins until missivum release resume %d\n", r.ID)
	}
}

// releaseSheet downloads a contact sheet.
func (a *app) releaseSheet(server *string) *cobra.Command {
	var output string
	c := &cobra.Command{
		Use: "sheet RELEASE TEMPLATE", Short: "Download the contact sheet of a release's template",
		Example: "  missivum release sheet 1 harbour -o /tmp/harbour.png", Args: exactly("RELEASE", "TEMPLATE"),
		RunE: online(server, func(ctx context.Context, r *remote, args []string) error {
			if output == "" {
				return usage("sheet needs --output")
			}
			answer, err := r.do(ctx, http.MethodGet, "/api/v1/releases/"+url.PathEscape(args[0])+"/sheets/"+url.PathEscape(args[1]), nil, "")
			if err != nil {
				return err
			}
			defer answer.Body.Close()
			return a.writeFile(output, func(w io.Writer) error { _, err := io.Copy(w, answer.Body); return err })
		}),
	}
	c.Flags().StringVarP(&output, "output", "o", "", "file to write")
	return c
}

// releaseApprove approves a release.
func (a *app) releaseApprove(server, as *string) *cobra.Command {
	var says string
	c := &cobra.Command{
		Use: "approve RELEASE", Short: "Say that a release may go out", Example: `  missivum release approve 1 --as Bo`, Args: exactly("RELEASE"),
		Long: `Says that a release may go out. Whoever approves is not whoever made it, unless missivum release settings says so. Where the
checks found that something breaks, --says gives the reason why it may go out all the same.`,
		RunE: acting(server, as, func(ctx context.Context, r *remote, args []string) error {
			return a.stepOf(ctx, r, args[0], "approve", map[string]string{"says": says})
		}),
	}
	c.Flags().StringVar(&says, "says", "", "what the approver says")
	return c
}

// stepOf does something with a release and shows it.
func (a *app) stepOf(ctx context.Context, r *remote, id, step string, in any) error {
	var release api.Release
	if err := r.json(ctx, http.MethodPost, "/api/v1/releases/"+url.PathEscape(id)+"/"+step, in, &release); err != nil {
		return err
	}
	a.printRelease(release)
	return nil
}

// releaseSend sends a release out.
func (a *app) releaseSend(server, as *string) *cobra.Command {
	var waves []string
	c := &cobra.Command{
		Use: "send RELEASE", Short: "Send an approved release out, in waves",
		Example: "  missivum release send 1 --wave crew:90 --wave north:80@2026-12-07T08:00 --wave everybody", Args: exactly("RELEASE"),
		Long: `Sends an approved release out. Each --wave is an audience (or everybody), behind a colon the share in percent of its people
whose desks must have reported well before the next wave begins, and behind @ the time before which it does not begin.
Without --wave everybody gets it at once.`,
		RunE: acting(server, as, func(ctx context.Context, r *remote, args []string) error {
			in := api.SendRequest{Waves: []api.SendWave{}}
			for _, w := range waves {
				one, err := readWave(w)
				if err != nil {
					return err
				}
				in.Waves = append(in.Waves, one)
			}
			return a.stepOf(ctx, r, args[0], "send", in)
		}),
	}
	c.Flags().StringArrayVar(&waves, "wave", nil, "AUDIENCE[:SHARE][@START]; may be given several times, in their order")
	return c
}

// readWave reads a wave as a flag writes it.
func readWave(text string) (w api.SendWave, err error) {
	rest, start, timed := strings.Cut(text, "@")
	if timed {
		if w.Start, err = time.ParseInLocation("2006-01-02T15:04", start, time.Local); err != nil {
			return w, usage("--wave %q: the start must be written as 2026-12-07T08:00", text)
		}
	}
	name, share, shared := strings.Cut(rest, ":")
	if shared {
		if w.Share, err = strconv.Atoi(strings.TrimSuffix(share, "%")); err != nil || w.Share < 0 || w.Share > 100 {
			return w, usage("--wave %q: the share must be a number from 0 to 100", text)
		}
	}
	if name != "everybody" {
		w.Audience = name
	}
	return w, nil
}

// releaseStep is a command that does something with a release.
func (a *app) releaseStep(server, as *string, name, short string) *cobra.Command {
	return &cobra.Command{
		Use: name + " RELEASE", Short: short, Example: "  missivum release " + name + " 1", Args: exactly("RELEASE"),
		RunE: acting(server, as, func(ctx context.Context, r *remote, args []string) error { return a.stepOf(ctx, r, args[0], name, nil) }),
	}
}

// releaseDelete deletes a release that was never out.
func (a *app) releaseDelete(server, as *string) *cobra.Command {
	return &cobra.Command{
		Use: "delete RELEASE", Short: "Delete a release that was never out", Example: "  missivum release delete 1", Args: exactly("RELEASE"),
		RunE: acting(server, as, func(ctx context.Context, r *remote, args []string) error {
			return r.json(ctx, http.MethodDelete, "/api/v1/releases/"+url.PathEscape(args[0]), nil, nil)
		}),
	}
}

// releaseSettings says who may approve.
func (a *app) releaseSettings(server, as *string) *cobra.Command {
	var both bool
	c := &cobra.Command{
		Use: "settings", Short: "Show or set who may approve", Example: "  missivum release settings --one-may-do-both", Args: exactly(),
	}
	c.Flags().BoolVar(&both, "one-may-do-both", false, "whoever made a release may approve it")
	c.RunE = acting(server, as, func(ctx context.Context, r *remote, _ []string) error {
		s := releases.Settings{OneMayDoBoth: both}
		method, in := http.MethodGet, any(nil)
		if c.Flags().Changed("one-may-do-both") {
			method, in = http.MethodPut, s
		}
		if err := r.json(ctx, method, "/api/v1/releases/settings", in, &s); err != nil {
			return err
		}
		fmt.Fprintf(a.out, "one person may make and approve a release: %s\n", map[bool]string{true: "yes", false: "no"}[s.OneMayDoBoth])
		return nil
	})
	return c
}

// releaseDesks lists how things stand on desks.
func (a *app) releaseDesks(server *string) *cobra.Command {
	var search, standing, client, audience, output string
	var wave int
	c := &cobra.Command{
		Use: "desks", Short: "List whose desks have the release, an older one, an altered one or none",
		Example: "  missivum release desks --standing altered", Args: exactly(),
		RunE: online(server, func(ctx context.Context, r *remote, _ []string) error {
			query := url.Values{"search": {search}, "standing": {standing}, "client": {client}, "audience": {audience},
				"wave": {strconv.Itoa(wave)}, "limit": {"100"}}
			if output != "" {
				answer, err := r.get(ctx, "/api/v1/desks?"+query.Encode(), "text/csv")
				if err != nil {
					return err
				}
				defer answer.Body.Close()
				return a.writeFile(output, func(w io.Writer) error { _, err := io.Copy(w, answer.Body); return err })
			}
			var m desks.Matrix
			if err := r.json(ctx, http.MethodGet, "/api/v1/desks?"+query.Encode(), nil, &m); err != nil {
				return err
			}
			rows := [][]string{}
			for _, one := range m.Rows {
				line := []string{one.Mail, string(one.Standing)}
				for _, id := range m.Clients {
					cell := "-"
					for _, c := range one.Cells {
						if c.Client == id {
							cell = string(c.Standing)
						}
					}
					line = append(line, cell)
				}
				rows = append(rows, append(line, one.Next))
			}
			printTable(a.out, append(append([]string{"Person", "Standing"}, m.Clients...), "Next"), rows)
			var counts []string
			for _, s := range []string{"current", "stale", "older", "altered", "missing", "unknown", "silent", "none"} {
				if n := m.Counts[s]; n > 0 {
					counts = append(counts, fmt.Sprintf("%s %s", grouped(n), s))
				}
			}
			fmt.Fprintf(a.out, "%s; %s reported\n", strings.Join(counts, ", "), plural(m.Desks, "desk has", "desks have"))
			return nil
		}),
	}
	c.Flags().StringVar(&search, "search", "", "only people in whose mail address or name this stands")
	c.Flags().StringVar(&standing, "standing", "", "only current, stale, older, altered, missing, unknown, silent or none")
	c.Flags().StringVar(&client, "client", "", "only people of whom a desk reported this client")
	c.Flags().StringVar(&audience, "audience", "", "only people in this audience")
	c.Flags().IntVar(&wave, "wave", 0, "only people of this wave of the newest release")
	c.Flags().StringVarP(&output, "output", "o", "", "write all of it as CSV to this file")
	return c
}
