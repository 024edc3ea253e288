package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/user"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	coredesk "missivum/core/desk"
	"missivum/core/problem"
	"missivum/desk"
)

// deskFlags are what the commands of desk share.
type deskFlags struct {
	places, state, trust, person, place, marker, format string
	wait                                                time.Duration
	takeOver                                            bool
}

// deskCommand is missivum desk: the program on a desk.
func (a *app) deskCommand() *cobra.Command {
	var f deskFlags
	c := &cobra.Command{
		Use:   "desk",
		Short: "Place signatures on this desk, verify them and take them back",
		Long: `Finds the mail clients of this desk, puts signed kits in their places, holds what is there against what was placed,
and takes it back. Nothing that somebody else wrote is touched without --take-over, nothing is changed while the client
runs, and what was there before is kept. Where clients keep their signatures is data: --places adds your own.`,
	}
	flags := c.PersistentFlags()
	flags.StringVar(&f.places, "places", "", "file, or folder of .yaml files, with places of your own")
	flags.StringVar(&f.state, "state", "", "folder in which the program remembers what it placed (default the user's own)")
	flags.StringVar(&f.format, "format", "text", "text or json")
	c.AddCommand(a.deskLook(&f), a.deskPlan(&f), a.deskPlace(&f), a.deskVerify(&f), a.deskUndo(&f), a.deskTry(&f),
		a.deskWatch(&f), a.deskReport(&f))
	return c
}

// desk readies the program's view of this desk.
func (a *app) desk(f *deskFlags) (*desk.Desk, error) {
	if f.format != "text" && f.format != "json" {
		return nil, usage("--format %q is not known; it is text or json", f.format)
	}
	own, err := readPlaces(f.places)
	if err != nil {
		return nil, err
	}
	places, err := coredesk.With(own)
	if err != nil {
		return nil, err
	}
	if f.place != "" {
		known := false
		var ids []string
		for _, p := range places {
			known = known || p.ID == f.place
			ids = append(ids, p.ID)
		}
		if !known {
			return nil, usage("there is no place %q; there are %s", f.place, strings.Join(ids, ", "))
		}
	}
	state := f.state
	if state == "" {
		if state, err = desk.StateFolder(); err != nil {
			return nil, err
		}
	}
	if state, err = filepath.Abs(state); err != nil {
		return nil, err
	}
	return &desk.Desk{State: state, System: desk.System(), Variable: desk.Variables, Places: places, Wait: f.wait, Now: a.now,
		Says: func(line string) { fmt.Fprintln(a.err, line) }}, nil
}

// readPlaces reads the files of --places.
func readPlaces(name string) (map[string][]byte, error) {
	files := map[string][]byte{}
	if name == "" {
		return files, nil
	}
	info, err := os.Stat(name)
	if err != nil {
		return nil, fmt.Errorf("the places cannot be read: %w", err)
	}
	names := []string{name}
	if info.IsDir() {
		if names, err = filepath.Glob(filepath.Join(name, "*.yaml")); err != nil {
			return nil, err
		}
	}
	for _, n := range names {
		if files[n], err = os.ReadFile(n); err != nil {
			return nil, fmt.Errorf("the place cannot be read: %w", err)
		}
	}
	return files, nil
}

// printed writes a value as JSON where that was asked for; false otherwise.
func (a *app) printed(f *deskFlags, value any) (bool, error) {
	if f.format != "json" {
		return false, nil
	}
	return true, writeJSON(a.out, value)
}

// deskLook is missivum desk look.
func (a *app) deskLook(f *deskFlags) *cobra.Command {
	c := &cobra.Command{
		Use: "look", Short: "List the clients of this desk, their signatures, and what they use",
		Example: "  missivum desk look --places demo/places",
		Long: `Lists which clients' places exist, which signature files are there, which one is meant and why, whether the client
runs, and what new messages and replies are set to where that can be read.`,
		Args: exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			d, err := a.desk(f)
			if err != nil {
				return err
			}
			list, err := d.Look(cmd.Context(), f.person)
			if err != nil {
				return err
			}
			if done, err := a.printed(f, list); done {
				return err
			}
			if len(list) == 0 {
				fmt.Fprintln(a.out, "No client's place was found on this desk. Looked for:")
				for _, p := range d.Places {
					fmt.Fprintf(a.out, "  %s: %s\n", p.ID, strings.Join(p.Patterns(d.System, d.Variable), ", "))
				}
			}
			for _, l := range list {
				a.printLooked(l)
			}
			return nil
		},
	}
	c.Flags().StringVar(&f.person, "person", "", "mail address whose account is meant, where a client has several")
	return c
}

// printLooked writes what is in a place.
func (a *app) printLooked(l desk.Looked) {
	fmt.Fprintf(a.out, "%s (%s)  %s\n", l.Place, l.Client, filepath.FromSlash(l.Folder))
	if l.Running != "" {
		fmt.Fprintf(a.out, "  the client runs: %s\n", l.Running)
	}
	if l.Placed != nil {
		release := ""
		if l.Placed.Release != "" {
			release = ", release " + l.Placed.Release
		}
		fmt.Fprintf(a.out, "  placed for %s on %s%s\n", l.Placed.Person, l.Placed.At.Format("2006-01-02 15:04"), release)
	}
	if len(l.Signatures) == 0 {
		fmt.Fprintln(a.out, "  no signature files")
	}
	for _, s := range l.Signatures {
		var marks []string
		if s.Ours {
			marks = append(marks, "placed by missivum")
		}
		if s.ReadOnly {
			marks = append(marks, "read-only")
		}
		if s.Meant != "" {
			marks = append(marks, "meant: "+s.Meant)
		}
		fmt.Fprintf(a.out, "  %s  %s bytes, %s  %s\n", s.File, grouped(int(s.Bytes)), s.Changed.Format("2006-01-02 15:04"),
			strings.Join(marks, ", "))
	}
	for _, u := range l.Uses {
		value := u.Value
		if value == "" {
			value = "(not set)"
		}
		fmt.Fprintf(a.out, "  %s: %s = %s\n", u.Situation, u.Key, value)
	}
	for _, note := range l.Notes {
		fmt.Fprintf(a.out, "  %s\n", note)
	}
}

// placing puts the flags on a command that places kits.
func (a *app) placing(c *cobra.Command, f *deskFlags) {
	c.Flags().StringVar(&f.trust, "trust", "", "public key of whoever makes the kits; remembered for the next time")
	c.Flags().StringVar(&f.person, "person", "",
		"mail address or folder of the person, where the kits are of several (default the user's login name)")
	c.Flags().StringVar(&f.place, "place", "", "only this place (default every client that is found)")
	c.Flags().BoolVar(&f.takeOver, "take-over", false, "also replace signatures that somebody else wrote; they are kept")
	c.Flags().StringVar(&f.marker, "marker", "", "text that was typed into the client's signature beforehand, by which its file is found")
}

// openKits opens the kits that the arguments name.
func (a *app) openKits(d *desk.Desk, f *deskFlags, names []string) ([]desk.Kit, error) {
	var text []byte
	if f.trust != "" {
		var err error
		if text, err = os.ReadFile(f.trust); err != nil {
			return nil, fmt.Errorf("the key cannot be read: %w", err)
		}
	}
	trusted, err := d.Trust(text)
	if err != nil {
		return nil, err
	}
	who := f.person
	if who == "" {
		if u, err := user.Current(); err == nil {
			_, login, found := strings.Cut(u.Username, `\`)
			if who = login; !found {
				who = u.Username
			}
		}
	}
	var kits []desk.Kit
	for _, name := range names {
		k, err := desk.OpenKit(name, who, trusted)
		if err != nil {
			return nil, err
		}
		kits = append(kits, k)
	}
	return kits, nil
}

// deskPlan is missivum desk plan.
func (a *app) deskPlan(f *deskFlags) *cobra.Command {
	c := &cobra.Command{
		Use: "plan KIT...", Short: "Say what placing kits would do, and change nothing",
		Example: "  missivum desk plan /srv/kits.zip --person maren.lind@brackwater.example --trust brackwater.pub",
		Args:    cobra.MinimumNArgs(1),
		RunE:    func(cmd *cobra.Command, args []string) error { return a.place(cmd.Context(), f, args, true) },
	}
	a.placing(c, f)
	return c
}

// deskPlace is missivum desk place.
func (a *app) deskPlace(f *deskFlags) *cobra.Command {
	c := &cobra.Command{
		Use: "place KIT...", Short: "Put kits in their places",
		Example: "  missivum desk place /srv/kits.zip --person maren.lind@brackwater.example --trust brackwater.pub",
		Long: `Puts each kit where the client that it is for keeps its signatures. A KIT is a folder that missivum kit wrote, or a
package of kits as a folder or a zip. Its signature and every digest are checked first. Doing it twice is the same as
once. Exit status: 0 done, or nothing to do; 1 refused, nothing was changed there; 2 wrong usage; 3 not now, such as
while the client runs.`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error { return a.place(cmd.Context(), f, args, false) },
	}
	a.placing(c, f)
	c.Flags().DurationVar(&f.wait, "wait", 0, "for how long to wait until a client is closed, such as 30m")
	return c
}

// place plans or places kits.
func (a *app) place(ctx context.Context, f *deskFlags, names []string, only bool) error {
	d, err := a.desk(f)
	if err != nil {
		return err
	}
	kits, err := a.openKits(d, f, names)
	if err != nil {
		return err
	}
	outcomes, err := d.Place(ctx, kits, desk.Options{Place: f.place, TakeOver: f.takeOver, Marker: f.marker, Only: only})
	if err != nil {
		return err
	}
	return a.printOutcomes(f, outcomes, only)
}

// printOutcomes writes a line for each file, and ends with the worst of what went wrong.
func (a *app) printOutcomes(f *deskFlags, outcomes []desk.Outcome, only bool) error {
	if f.format == "json" {
		type outcome struct {
			desk.Outcome
			Error string `json:"error"`
		}
		list := []outcome{}
		for _, o := range outcomes {
			said := ""
			if o.Err != nil {
				said = o.Err.Error()
			}
			list = append(list, outcome{o, said})
		}
		if err := writeJSON(a.out, list); err != nil {
			return err
		}
	}
	var errs []error
	for _, o := range outcomes {
		if o.Err != nil {
			errs = append(errs, o.Err)
			continue
		}
		if f.format == "json" {
			continue
		}
		would := ""
		if only && !o.Idle() {
			would = "planned: "
		}
		for _, c := range o.Changes {
			says := c.Says
			if c.Deed != coredesk.Unharmed {
				says = would + says
			}
			fmt.Fprintf(a.out, "%s  %s\n", filepath.FromSlash(c.Path), says)
		}
		switch {
		case o.Idle():
			fmt.Fprintf(a.out, "%s: everything is as it should be\n", o.Plan.Place)
		case only:
			fmt.Fprintf(a.out, "%s: nothing was changed; missivum desk place does it\n", o.Plan.Place)
		default:
			fmt.Fprintf(a.out, "%s: placed; take it back with: missivum desk undo --place %s\n", o.Plan.Place, o.Plan.Place)
		}
	}
	return worst(errs)
}

// worst joins errors so that the most telling exit status counts: refused before not now.
func worst(errs []error) error {
	for i, err := range errs {
		if problem.Is(err, problem.Refused) {
			errs[0], errs[i] = errs[i], errs[0]
			break
		}
	}
	return errors.Join(errs...)
}

// deskVerify is missivum desk verify.
func (a *app) deskVerify(f *deskFlags) *cobra.Command {
	return &cobra.Command{
		Use: "verify", Short: "Hold what is there against what was placed", Example: "  missivum desk verify",
		Long: `Compares every file that was placed with what is there: its bytes and, where the client rewrote it, its words, links
and pictures. Exit status 1 when something is altered or missing.`,
		Args: exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			d, err := a.desk(f)
			if err != nil {
				return err
			}
			list, _, err := d.Verify(cmd.Context())
			if err != nil {
				return err
			}
			done, err := a.printed(f, list)
			if err != nil {
				return err
			}
			wrong := 0
			for _, v := range list {
				for _, c := range v.Files {
					if c.Proof != coredesk.Current {
						wrong++
					}
					if !done {
						fmt.Fprintf(a.out, "%s  %s\n", filepath.FromSlash(c.Path), c.Says)
					}
				}
				if !done {
					fmt.Fprintf(a.out, "%s: %s, for %s\n", v.Place, v.Proof, v.Person)
				}
			}
			if len(list) == 0 && !done {
				fmt.Fprintln(a.out, "Nothing was placed on this desk.")
			}
			if wrong > 0 {
				return exitError{ExitFindings, fmt.Errorf("%s not as placed; missivum desk place puts the signature back",
					plural(wrong, "file is", "files are"))}
			}
			return nil
		},
	}
}

// deskUndo is missivum desk undo.
func (a *app) deskUndo(f *deskFlags) *cobra.Command {
	var all bool
	c := &cobra.Command{
		Use: "undo", Short: "Take the last placing back", Example: "  missivum desk undo",
		Long: `Puts back what was there before the last placing, byte for byte; of settings files that the client changed since, only
the values that were set. With --all everything is taken back that was ever placed.`,
		Args: exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			d, err := a.desk(f)
			if err != nil {
				return err
			}
			list, err := d.Undo(cmd.Context(), f.place, all, f.takeOver)
			if err != nil {
				return err
			}
			var errs []error
			for _, u := range list {
				errs = append(errs, u.Err)
			}
			if done, err := a.printed(f, list); done {
				return errors.Join(err, errors.Join(errs...))
			}
			for _, u := range list {
				for _, line := range lastOfEach(u.Lines) {
					fmt.Fprintln(a.out, line)
				}
				if u.Err == nil {
					fmt.Fprintf(a.out, "%s: taken back; %s left that can be\n", u.Place, plural(u.Left, "placing", "placings"))
				}
			}
			if len(list) == 0 {
				fmt.Fprintln(a.out, "Nothing was placed on this desk.")
			}
			return errors.Join(errs...)
		},
	}
	c.Flags().StringVar(&f.place, "place", "", "only this place (default all)")
	c.Flags().BoolVar(&all, "all", false, "everything that was ever placed, until it is as it was before the first time")
	c.Flags().BoolVar(&f.takeOver, "take-over", false, "also what was altered since it was placed")
	c.Flags().DurationVar(&f.wait, "wait", 0, "for how long to wait until a client is closed, such as 30m")
	return c
}

// lastOfEach leaves of lines about files the last one about each: where several placings are taken back, it says how it ended.
func lastOfEach(lines []string) []string {
	last := map[string]int{}
	for i, line := range lines {
		path, _, _ := strings.Cut(line, "  ")
		last[path] = i
	}
	var list []string
	for i, line := range lines {
		if path, _, _ := strings.Cut(line, "  "); last[path] == i {
			list = append(list, line)
		}
	}
	return list
}

// deskTry is missivum desk try.
func (a *app) deskTry(f *deskFlags) *cobra.Command {
	c := &cobra.Command{
		Use: "try PLACE FOLDER", Short: "Say what a place would find in a client's folder",
		Example: "  missivum desk try demo/places/rudder.yaml ~/.config/rudder",
		Long: `Reads a place of your own, says at which line it is wrong, and what it finds in a folder that is taken for the client's:
signature files, the one that is meant, and what the settings file says. Nothing is changed.`,
		Args: exactly("PLACE", "FOLDER"),
		RunE: func(cmd *cobra.Command, args []string) error {
			data, err := os.ReadFile(args[0])
			if err != nil {
				return fmt.Errorf("the place cannot be read: %w", err)
			}
			p, err := coredesk.Parse(data)
			if err != nil {
				return exitError{ExitFindings, fmt.Errorf("%s: %w", args[0], err)}
			}
			folder, err := filepath.Abs(args[1])
			if err != nil {
				return err
			}
			l, err := desk.Try(cmd.Context(), p, filepath.ToSlash(folder), f.person)
			if err != nil {
				return err
			}
			if done, err := a.printed(f, l); done {
				return err
			}
			for system := range p.Folders {
				if system == desk.System() {
					fmt.Fprintf(a.out, "on this system it is looked for at: %s\n", strings.Join(p.Patterns(system, desk.Variables), ", "))
				}
			}
			a.printLooked(l)
			return nil
		},
	}
	c.Flags().StringVar(&f.person, "person", "", "mail address whose account is meant, where a client has several")
	return c
}

// deskService are the flags of commands that ask a service.
type deskService struct{ server, key string }

// add puts the flags on a command.
func (f *deskService) add(c *cobra.Command) {
	serverFlag(c, &f.server)
	c.Flags().StringVar(&f.key, "key-file", "", "file with the key of the scope desk (environment MISSIVUM_DESK_KEY holds the key itself)")
}

// service is the service that a desk asks.
func (f *deskService) service() (desk.Service, error) {
	r, err := newRemote(f.server)
	if err != nil {
		return desk.Service{}, err
	}
	key, err := keyFrom(f.key, "MISSIVUM_DESK_KEY")
	if err != nil {
		return desk.Service{}, err
	}
	if key == "" {
		return desk.Service{}, usage("a key of the scope desk is needed: --key-file, or MISSIVUM_DESK_KEY in the environment")
	}
	return desk.Service{Address: r.base, Key: key, Client: &http.Client{Timeout: time.Minute}}, nil
}

// deskWatch is missivum desk watch.
func (a *app) deskWatch(f *deskFlags) *cobra.Command {
	var s deskService
	var every time.Duration
	var once bool
	c := &cobra.Command{
		Use: "watch", Short: "Ask the service for what is new, place it, and report; again and again",
		Long: `Asks the service for each client of this desk whether there is something new, fetches only the files that changed,
places them as soon as the client is closed, takes back what was withdrawn, and reports how things stand. For a user
service, or with --once for a log-on script. Between two rounds it waits --every, up to a tenth more or less, so that
not all desks ask at once.`,
		Example: "  missivum desk watch --once --person maren.lind@brackwater.example --key-file /etc/missivum/desk.key",
		Args:    exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			d, err := a.desk(f)
			if err != nil {
				return err
			}
			service, err := s.service()
			if err != nil {
				return err
			}
			if every < time.Minute {
				return usage("--every must be a minute or more")
			}
			if f.trust != "" {
				text, err := os.ReadFile(f.trust)
				if err != nil {
					return fmt.Errorf("the key cannot be read: %w", err)
				}
				if _, err := d.Trust(text); err != nil {
					return err
				}
			}
			for {
				round, err := d.Round(cmd.Context(), service, f.person, Version, desk.Options{TakeOver: f.takeOver, Marker: f.marker})
				if said := a.printRound(f, round); said != nil {
					return said
				}
				if once || cmd.Context().Err() != nil {
					return err
				}
				pause := desk.Pause(every)
				if err != nil {
					fmt.Fprintln(a.err, "missivum:", err)
					if problem.Is(err, problem.Busy) {
						pause = min(pause, desk.Pause(5*time.Minute)) // a client that is closed meanwhile gets it soon
					}
				}
				select {
				case <-cmd.Context().Done():
					return nil
				case <-time.After(pause):
				}
			}
		},
	}
	s.add(c)
	c.Flags().StringVar(&f.trust, "trust", "",
		"public key of whoever makes the kits (default the service's own, remembered when it is first met)")
	c.Flags().StringVar(&f.person, "person", "", "mail address of the person; remembered for the next time")
	c.Flags().StringVar(&f.marker, "marker", "", "text that was typed into the client's signature beforehand, by which its file is found")
	c.Flags().BoolVar(&f.takeOver, "take-over", false, "also replace signatures that somebody else wrote; they are kept")
	c.Flags().DurationVar(&f.wait, "wait", 0, "for how long to wait until a client is closed, such as 30m")
	c.Flags().DurationVar(&every, "every", time.Hour, "time between two rounds")
	c.Flags().BoolVar(&once, "once", false, "one round")
	return c
}

// printRound writes what a round did.
func (a *app) printRound(f *deskFlags, r desk.Round) error {
	if f.format == "json" {
		return writeJSON(a.out, r.Report)
	}
	for _, note := range r.Notes {
		fmt.Fprintln(a.out, note)
	}
	for _, o := range r.Outcomes {
		if o.Err != nil {
			continue
		}
		for _, c := range o.Changes {
			if c.Deed != coredesk.Unharmed {
				fmt.Fprintf(a.out, "%s  %s\n", filepath.FromSlash(c.Path), c.Says)
			}
		}
	}
	for _, u := range r.Undone {
		for _, line := range lastOfEach(u.Lines) {
			fmt.Fprintln(a.out, line)
		}
		fmt.Fprintf(a.out, "%s: the release was withdrawn; taken back\n", u.Place)
	}
	fmt.Fprintf(a.out, "%s new, %s as it should be; fetched %s, %s bytes\n", plural(len(r.Kits), "place", "places"),
		plural(r.Same, "place", "places"),
		plural(r.Fetched.Fetched, "file", "files"), grouped(int(r.Bytes)))
	for _, p := range r.Report.Places {
		line := fmt.Sprintf("%s: %s", p.Place, p.Proof)
		if p.Release != "" {
			line += ", release " + p.Release
		}
		if p.Detail != "" {
			line += "; " + p.Detail
		}
		fmt.Fprintln(a.out, line)
	}
	return nil
}

// deskReport is missivum desk report.
func (a *app) deskReport(f *deskFlags) *cobra.Command {
	var s deskService
	var output string
	c := &cobra.Command{
		Use: "report", Short: "Say how things stand on this desk", Example: "  missivum desk report --output /srv/reports/harbour-12.json",
		Long: `Sends the service what is on this desk: which release each client has, and what was altered or is missing. With --output
it goes into a file instead, for desks that reach no service.`,
		Args: exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			d, err := a.desk(f)
			if err != nil {
				return err
			}
			report, err := d.Reporting(cmd.Context(), Version)
			if err != nil {
				return err
			}
			if output != "" {
				return a.writeFile(output, func(w io.Writer) error { return writeJSON(w, report) })
			}
			service, err := s.service()
			if err != nil {
				return err
			}
			if err := service.Send(cmd.Context(), report); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%s reported\n", plural(len(report.Places), "place", "places"))
			return nil
		},
	}
	s.add(c)
	c.Flags().StringVarP(&output, "output", "o", "", "write the report into this file and send nothing")
	return c
}
