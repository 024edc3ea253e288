// Package releases keeps releases: what they freeze, their checks, who approved them, their waves. Start with Releases.
package releases

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"image"
	"image/png"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"missivum/core/audience"
	"missivum/core/check"
	"missivum/core/client"
	"missivum/core/filename"
	"missivum/core/kit"
	"missivum/core/person"
	"missivum/core/problem"
	"missivum/core/release"
	"missivum/core/rule"
	"missivum/core/sheet"
	"missivum/core/template"
	"missivum/service/clients"
	"missivum/service/drawing"
	"missivum/service/files"
	"missivum/service/hosting"
	"missivum/service/jobs"
	"missivum/service/organisation"
	"missivum/service/people"
	"missivum/service/store"
	"missivum/service/templates"
)

// Kind is the kind of job that checks a release.
const Kind = "release"

// Releases keeps releases.
type Releases struct {
	Store     *store.Store
	Jobs      *jobs.Jobs
	Templates *templates.Templates
	People    *people.People
	Clients   *clients.Clients
	Folder    string // for contact sheets
	Now       func() time.Time
	Log       *slog.Logger
}

// Settings are what the organisation says about releases.
type Settings struct {
	OneMayDoBoth bool `json:"oneMayDoBoth"` // whoever made a release may approve it
}

const settingName = "releases"

// Settings returns what the organisation says.
func (r *Releases) Settings(ctx context.Context) (s Settings, err error) {
	err = r.Store.Read(ctx, func(tx *store.Tx) error { return tx.Setting(settingName, &s) })
	return s, err
}

// PutSettings stores what the organisation says.
func (r *Releases) PutSettings(ctx context.Context, s Settings) error {
	return r.Store.Write(ctx, func(tx *store.Tx) error { return tx.PutSetting(settingName, s) })
}

// Start readies the folder and says how releases are checked.
func (r *Releases) Start() error {
	if err := os.MkdirAll(r.Folder, 0o750); err != nil {
		return fmt.Errorf("the folder for releases: %w", err)
	}
	r.Jobs.Register(jobs.Work{Kind: Kind, AtOnce: 1, Resume: true, Run: r.check})
	return nil
}

// Draft is what a release is asked for with.
type Draft struct {
	Title        string `json:"title"`
	Note         string `json:"note"`
	Base         string `json:"base"`         // base name of the files on desks
	FrozenPeople bool   `json:"frozenPeople"` // people too are frozen
}

// Create freezes a release of everything as it is now, and begins to check it.
func (r *Releases) Create(ctx context.Context, d Draft) (record store.Release, err error) {
	d.Title, d.Base = strings.TrimSpace(d.Title), strings.TrimSpace(d.Base)
	if d.Title == "" || len(d.Title) > 200 {
		return record, problem.New(problem.Invalid, "A release needs a title of at most 200 characters.").In("title")
	}
	if d.Base == "" {
		d.Base = "signature"
	}
	if _, err := kit.New(kit.Input{Way: client.FileSet, Base: d.Base}); err != nil || !filename.IsSafe(d.Base) {
		return record, problem.New(problem.Invalid, "The base name %q cannot be the name of files on every system.", d.Base).In("base")
	}
	book, version, err := r.Clients.Book(ctx)
	if err != nil {
		return record, err
	}
	if _, err := book.Select(nil); err != nil {
		return record, err
	}
	err = r.Store.Write(ctx, func(tx *store.Tx) error {
		frozen, people, err := r.freeze(tx, d, version)
		if err != nil {
			return err
		}
		record = store.Release{Title: d.Title, Note: d.Note, Frozen: frozen}
		if record.Before, err = newestOut(tx); err != nil {
			return err
		}
		if record, err = tx.AddRelease(record, people); err != nil {
			return err
		}
		if err := r.checkRules(tx, record); err != nil {
			return err
		}
		_, err = r.Jobs.Add(tx, store.Job{ID: JobID(record.ID), Kind: Kind, Title: d.Title, Total: 2 * len(frozen.Templates), Unit: "steps"},
			record.ID)
		return err
	})
	return record, err
}

// JobID is the id of the job that checks a release.
func JobID(id int) string { return fmt.Sprintf("release-%d", id) }

// newestOut is the number of the newest release that is out; 0 for none.
func newestOut(tx *store.Tx) (int, error) {
	all, err := tx.Releases()
	for _, one := range all {
		if one.State == release.Out {
			return one.ID, err
		}
	}
	return 0, err
}

// freeze gathers what a release freezes.
func (r *Releases) freeze(tx *store.Tx, d Draft, clientsVersion string) (f release.Frozen, frozenPeople []byte, err error) {
	w, err := r.People.WhoIn(tx)
	if err != nil {
		return f, nil, err
	}
	if w.Assignments == nil {
		return f, nil, problem.New(problem.Refused, "Nobody has been assigned a template yet: say first who gets which.")
	}
	if len(w.Directory.People) == 0 {
		return f, nil, problem.New(problem.Refused, "There are no people; import a directory first.")
	}
	settings, err := hosting.SettingsIn(tx)
	if err != nil {
		return f, nil, err
	}
	home, err := organisation.In(tx)
	if err != nil {
		return f, nil, err
	}
	f = release.Frozen{Base: d.Base, Assignments: w.Assignments.Lines(), Audiences: w.Audiences, Situations: w.Situations,
		Clients: clientsVersion, Organisation: home.Organisation, Domains: home.Domains,
		Address: settings.Address, Day: tx.At().Format(time.DateOnly), Templates: []release.Template{}}
	rules, err := tx.MailRules(0)
	if err != nil {
		return f, nil, err
	}
	names, err := ruleTemplates(rules)
	if err != nil {
		return f, nil, err
	}
	for _, line := range f.Assignments {
		names = append(names, line.Template)
	}
	f.Rules = rules.Number
	for _, name := range names {
		if name == "" || slices.ContainsFunc(f.Templates, func(t release.Template) bool { return t.Name == name }) {
			continue
		}
		t, err := r.Templates.GetIn(tx, name, 0)
		if err != nil {
			return f, nil, err
		}
		f.Templates = append(f.Templates, release.Template{Name: t.Name, Number: t.Number, Content: t.Version()})
	}
	slices.SortFunc(f.Templates, func(a, b release.Template) int { return strings.Compare(a.Name, b.Name) })
	if len(f.Templates) == 0 {
		return f, nil, problem.New(problem.Refused, "The assignments and the mail rules give nobody a signature; there is nothing to release.")
	}
	if d.FrozenPeople {
		if frozenPeople, err = writePeople(w.Directory); err != nil {
			return f, nil, err
		}
		f.People = kit.Digest(frozenPeople)
	}
	return f, frozenPeople, nil
}

// ruleTemplates are the templates that mail rules name themselves, beside those that are assigned.
func ruleTemplates(rules store.RulesVersion) ([]string, error) {
	if rules.Number == 0 {
		return nil, nil
	}
	file, err := rule.Parse([]byte(rules.Document))
	if err != nil {
		return nil, problem.New(problem.Refused, "Version %d of the mail rules: %s", rules.Number, err.Error())
	}
	var names []string
	for _, one := range file.Rules {
		names = append(names, one.Then.Template)
	}
	return names, nil
}

// storedPeople is how frozen people are stored.
type storedPeople struct {
	Fields []string       `json:"fields"`
	People []storedPerson `json:"people"`
}

type storedPerson struct {
	Values []string `json:"v"`
	Groups []string `json:"g,omitempty"`
}

// writePeople writes people to be frozen.
func writePeople(d *person.Directory) ([]byte, error) {
	s := storedPeople{Fields: d.Schema.Names(), People: make([]storedPerson, len(d.People))}
	for i := range d.People {
		s.People[i] = storedPerson{d.People[i].Values, d.People[i].Groups}
	}
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	err := errors.Join(json.NewEncoder(z).Encode(s), z.Close())
	return b.Bytes(), err
}

// readPeople reads people that were frozen.
func readPeople(data []byte) (*person.Directory, error) {
	z, err := gzip.NewReader(bytes.NewReader(data))
	if err != nil {
		return nil, err
	}
	text, err := io.ReadAll(z)
	if err != nil {
		return nil, err
	}
	var s storedPeople
	if err := json.Unmarshal(text, &s); err != nil {
		return nil, err
	}
	d := &person.Directory{Schema: person.NewSchema(s.Fields...), People: make([]person.Person, len(s.People))}
	for i, p := range s.People {
		d.People[i] = person.Person{Values: p.Values, Groups: p.Groups}
	}
	return d, nil
}

// Whole is a release with everything that it names.
type Whole struct {
	store.Release
	Templates map[string]*template.Template
	Directory *person.Directory // live people, or those that are frozen
	Revision  int               // of live people; 0 where they are frozen
	Rules     string            // the mail rules as they are written; blank for none
	Live      *release.Live
}

// WholeIn reads a release with everything that it names.
func (r *Releases) WholeIn(tx *store.Tx, record store.Release) (w Whole, err error) {
	w = Whole{Release: record, Templates: map[string]*template.Template{}}
	if record.Frozen.Rules > 0 {
		version, err := tx.MailRules(record.Frozen.Rules)
		if err != nil {
			return w, err
		}
		w.Rules = version.Document
	}
	variants := map[string][]string{}
	for _, t := range record.Frozen.Templates {
		s, err := r.Templates.Frozen(tx, t.Name, t.Number, record.Frozen.Organisation, record.Frozen.Address)
		if err != nil {
			return w, err
		}
		w.Templates[t.Name], variants[t.Name] = s.Template, s.Template.Variants()
	}
	if record.Frozen.People == "" {
		w.Directory, w.Revision, err = r.People.DirectoryIn(tx)
	} else {
		var data []byte
		if data, err = tx.FrozenPeople(record.ID); err == nil {
			w.Directory, err = readPeople(data)
		}
	}
	if err != nil {
		return w, err
	}
	set, err := audience.Compile(record.Frozen.Audiences, w.Directory.Schema)
	if err != nil {
		return w, fmt.Errorf("release %d: %w", record.ID, err)
	}
	assignments, err := audience.Assign(record.Frozen.Assignments, set, record.Frozen.Situations)
	if err != nil {
		return w, fmt.Errorf("release %d: %w", record.ID, err)
	}
	w.Live = &release.Live{ID: record.ID, Base: record.Frozen.Base, Assignments: assignments, Set: set, Lines: assignments.Lines(),
		Situations: record.Frozen.Situations, Variants: variants}
	for _, wave := range record.Waves {
		if !wave.Opened.IsZero() {
			w.Live.Open = append(w.Live.Open, wave.Audience)
		}
	}
	return w, nil
}

// RuleSet is the release's mail rules with what they need; false where it has none.
func (w Whole) RuleSet() (set rule.Set, ok bool, err error) {
	if w.Rules == "" {
		return set, false, nil
	}
	set = rule.Set{Release: w.ID, Open: w.Live.Open}
	if set.File, err = rule.Parse([]byte(w.Rules)); err != nil {
		return set, false, fmt.Errorf("release %d: %w", w.ID, err)
	}
	if len(set.File.Inside) == 0 {
		set.File.Inside = w.Frozen.Domains
	}
	set.File.Audiences, set.File.Assignments = w.Frozen.Audiences, w.Frozen.Assignments
	for _, t := range w.Frozen.Templates {
		set.Templates = append(set.Templates, w.Templates[t.Name])
	}
	if w.Frozen.People != "" {
		set.People = w.Directory
	}
	return set, true, nil
}

// checkRules refuses a release whose mail rules name what is not there.
func (r *Releases) checkRules(tx *store.Tx, record store.Release) error {
	if record.Frozen.Rules == 0 {
		return nil
	}
	w, err := r.WholeIn(tx, record)
	if err != nil {
		return err
	}
	set, _, err := w.RuleSet()
	if err != nil {
		return err
	}
	_, err = rule.Bundle{Sets: []rule.Set{set}, People: w.Directory}.Engine(r.Now(), "release")
	return problem.As(problem.Refused, err)
}

// Whole is WholeIn in a unit of work of its own.
func (r *Releases) Whole(ctx context.Context, id int) (w Whole, err error) {
	err = r.Store.Read(ctx, func(tx *store.Tx) error {
		record, err := tx.Release(id)
		if err == nil {
			w, err = r.WholeIn(tx, record)
		}
		return err
	})
	return w, err
}

// getting gives, by template, the people who get it in any situation.
func (w Whole) getting() map[string]*person.Directory {
	by := map[string]*person.Directory{}
	for i := range w.Directory.People {
		p := &w.Directory.People[i]
		seen := map[string]bool{"": true}
		for _, c := range w.Live.Choices(p) {
			if seen[c.Template] {
				continue
			}
			seen[c.Template] = true
			if by[c.Template] == nil {
				by[c.Template] = &person.Directory{Schema: w.Directory.Schema}
			}
			by[c.Template].People = append(by[c.Template].People, *p)
		}
	}
	return by
}

// side is the release as one of two that are compared.
func (w Whole) side() release.Side {
	s := release.Side{Frozen: w.Frozen, Templates: w.Templates, Examined: w.Examined, Rules: w.Rules, People: map[string]int{}}
	for name, d := range w.getting() {
		s.People[name] = len(d.People)
	}
	return s
}

// check is the job: all checks for all the people concerned, the contact sheets, and the differences.
func (r *Releases) check(ctx context.Context, job *jobs.Job) (any, error) {
	var id int
	if err := job.Input(&id); err != nil {
		return nil, err
	}
	w, err := r.Whole(ctx, id)
	if err != nil {
		return nil, err
	}
	if w.State != release.Draft { // it was checked before the service ended
		return nil, nil
	}
	book, _, err := r.Clients.Book(ctx)
	if err != nil {
		return nil, err
	}
	profiles, err := book.Select(nil)
	if err != nil {
		return nil, err
	}
	getting, done := w.getting(), 0
	examined := []release.Examined{}
	for _, t := range w.Frozen.Templates {
		d := getting[t.Name]
		if d == nil {
			done += 2
			continue
		}
		in := check.Input{Template: w.Templates[t.Name], People: d, Profiles: profiles, Day: r.Now()}
		report, err := check.Run(ctx, in)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", t.Name, err)
		}
		examined = append(examined, examine(t.Name, report))
		done++
		job.Progress(done)
		if err := r.draw(ctx, id, in, report); err != nil {
			return nil, fmt.Errorf("the contact sheet of %s: %w", t.Name, err)
		}
		done++
		job.Progress(done)
	}
	w.Examined = examined
	differences, err := r.differences(ctx, w)
	if err != nil {
		return nil, err
	}
	if w.Before > 0 {
		for _, e := range examined {
			if d, ok := r.lookDifference(w.Before, id, e.Template); ok {
				differences = append(differences, d)
			}
		}
	}
	return nil, r.Store.Write(ctx, func(tx *store.Tx) error { return tx.CheckedRelease(id, examined, differences) })
}

// examine counts a report.
func examine(name string, report *check.Report) release.Examined {
	e := release.Examined{Template: name, People: report.People, Fails: report.Fails(), Verdict: report.Verdict.String(),
		Sizes: []release.Size{}}
	for _, f := range report.Findings {
		switch f.Severity {
		case client.Breaks:
			e.Breaks++
		case client.Degrades:
			e.Degrades++
		default:
			e.Notes++
		}
	}
	for _, b := range report.Budgets {
		if b.Exceeded() {
			e.OverLimit++
		}
		e.Sizes = append(e.Sizes, release.Size{Template: name, Client: b.Client, Measure: string(b.Measure), Value: b.Value,
			Limit: b.Limit, Unit: b.Unit,
			Person: b.Person})
	}
	return e
}

// differences compares a release with the one that was out when it was made.
func (r *Releases) differences(ctx context.Context, w Whole) ([]release.Difference, error) {
	if w.Before == 0 {
		return release.Differences(nil, w.side()), nil
	}
	before, err := r.Whole(ctx, w.Before)
	if err != nil {
		return nil, err
	}
	b := before.side()
	return release.Differences(&b, w.side()), nil
}

// draw writes a template's contact sheet: a picture, or a page where no browser is installed.
func (r *Releases) draw(ctx context.Context, id int, in check.Input, report *check.Report) error {
	chosen, err := sheet.Choose(in.Template, in.People, nil)
	if err != nil {
		return err
	}
	_, missing := drawing.Chromium()
	ending := ".png"
	if missing != nil {
		ending = ".html"
	}
	drawn, err := drawing.Sheet(ctx, sheet.Input{Template: in.Template, People: in.People, Chosen: chosen, Profiles: in.Profiles,
		Views: []sheet.View{sheet.Light, sheet.Dark}, Variant: in.Template.Variants()[0], Day: in.Day}, report,
		drawing.SheetOptions{Picture: missing == nil})
	if err != nil {
		return err
	}
	if err := os.MkdirAll(r.folder(id), 0o750); err != nil {
		return err
	}
	return files.WriteBytes(filepath.Join(r.folder(id), in.Template.Name+ending), drawn)
}

// lookDifference compares a template's contact sheets in two releases; false where they are the same, or one is not there.
func (r *Releases) lookDifference(before, id int, name string) (release.Difference, bool) {
	var sheets [2]image.Image
	for i, of := range []int{before, id} {
		f, err := os.Open(filepath.Join(r.folder(of), name+".png"))
		if err != nil {
			return release.Difference{}, false
		}
		sheets[i], err = png.Decode(f)
		if errors.Join(err, f.Close()) != nil {
			return release.Difference{}, false
		}
	}
	share := release.Look(sheets[0], sheets[1])
	if share == 0 {
		return release.Difference{}, false
	}
	return release.Difference{Kind: "look", Name: name,
		Says: fmt.Sprintf("%.1f %% of its contact sheet looks different; look at that of release %d beside it.",
			max(100*share, 0.1), before)}, true
}

// folder is where a release's contact sheets lie.
func (r *Releases) folder(id int) string { return filepath.Join(r.Folder, fmt.Sprint(id)) }

// Sheet opens a template's contact sheet; media is its media type.
func (r *Releases) Sheet(ctx context.Context, id int, name string) (f *os.File, media string, err error) {
	record, err := r.Get(ctx, id)
	if err != nil {
		return nil, "", err
	}
	if !slices.ContainsFunc(record.Frozen.Templates, func(t release.Template) bool { return t.Name == name }) {
		return nil, "", problem.Missing("template", name)
	}
	for ending, media := range map[string]string{".png": "image/png", ".html": "text/html; charset=utf-8"} {
		if f, err := os.Open(filepath.Join(r.folder(id), name+ending)); err == nil {
			return f, media, nil
		}
	}
	return nil, "", problem.Missing("contact sheet", name)
}

// Get returns a release.
func (r *Releases) Get(ctx context.Context, id int) (record store.Release, err error) {
	err = r.Store.Read(ctx, func(tx *store.Tx) error {
		record, err = tx.Release(id)
		return err
	})
	return record, err
}

// List returns all releases, newest first.
func (r *Releases) List(ctx context.Context) (list []store.Release, err error) {
	err = r.Store.Read(ctx, func(tx *store.Tx) error {
		list, err = tx.Releases()
		return err
	})
	return list, err
}

// Approve says that a release may go out. Whoever made it cannot, unless the organisation says so; one in which something
// breaks needs a reason.
func (r *Releases) Approve(ctx context.Context, id int, says string) error {
	return r.Store.Write(ctx, func(tx *store.Tx) error {
		record, err := tx.Release(id)
		if err != nil {
			return err
		}
		var s Settings
		if err := tx.Setting(settingName, &s); err != nil {
			return err
		}
		if record.State == release.Checked && record.MadeBy == tx.By().Name && !s.OneMayDoBoth {
			return problem.New(problem.Refused,
				"%s made this release; somebody else has to approve it, unless the organisation lets one person do both.",
				record.MadeBy)
		}
		fails := slices.ContainsFunc(record.Examined, func(e release.Examined) bool { return e.Fails })
		if fails && record.State == release.Checked && strings.TrimSpace(says) == "" {
			return problem.New(problem.Refused, "The checks found that something breaks; say why it may go out all the same.").In("says")
		}
		return tx.ApproveRelease(id, strings.TrimSpace(says))
	})
}

// Send sends an approved release out in waves; without any, to everybody at once. The first wave begins now unless it has a
// start.
func (r *Releases) Send(ctx context.Context, id int, waves []release.Wave) error {
	if len(waves) == 0 {
		waves = []release.Wave{{}}
	}
	return r.Store.Write(ctx, func(tx *store.Tx) error {
		record, err := tx.Release(id)
		if err != nil {
			return err
		}
		w, err := r.WholeIn(tx, record)
		if err != nil {
			return err
		}
		if err := release.CheckWaves(waves, w.Live.Set); err != nil {
			return err
		}
		if err := tx.SendRelease(id, waves); err != nil {
			return err
		}
		if waves[0].Start.After(tx.At()) {
			return nil
		}
		return tx.OpenWave(id, 1)
	})
}

// Pause lets no further wave begin; with paused false they go on.
func (r *Releases) Pause(ctx context.Context, id int, paused bool) error {
	return r.Store.Write(ctx, func(tx *store.Tx) error { return tx.PauseRelease(id, paused) })
}

// Widen begins the next wave now, whatever its start and the share of the one before.
func (r *Releases) Widen(ctx context.Context, id int) (wave int, err error) {
	err = r.Store.Write(ctx, func(tx *store.Tx) error {
		record, err := tx.Release(id)
		if err != nil {
			return err
		}
		if record.State != release.Out {
			return problem.New(problem.Conflict, "The release %d is %s; only one that is out can be widened.", id, record.State)
		}
		if wave = nextWave(record.Waves); wave == 0 {
			return problem.New(problem.Conflict, "All waves of the release %d have begun.", id)
		}
		return tx.OpenWave(id, wave)
	})
	return wave, err
}

// nextWave is the number of the first wave that has not begun, counted from 1; 0 for none.
func nextWave(waves []release.Wave) int {
	return slices.IndexFunc(waves, func(w release.Wave) bool { return w.Opened.IsZero() }) + 1
}

// Withdraw takes a release back: desks go to the release before.
func (r *Releases) Withdraw(ctx context.Context, id int) error {
	return r.Store.Write(ctx, func(tx *store.Tx) error { return tx.WithdrawRelease(id) })
}

// Remove deletes a release that was never out, with its contact sheets.
func (r *Releases) Remove(ctx context.Context, id int) error {
	if r.Jobs.Open(JobID(id)) {
		record, err := r.Get(ctx, id)
		if err != nil {
			return err
		}
		if record.State == release.Draft {
			return problem.New(problem.Conflict, "The release %d is being checked; stop the job first.", id)
		}
		if err := r.Jobs.Wait(ctx, JobID(id)); err != nil { // it is checked, and its job is about to end
			return err
		}
	}
	if err := r.Store.Write(ctx, func(tx *store.Tx) error { return tx.RemoveRelease(id) }); err != nil {
		return err
	}
	return os.RemoveAll(r.folder(id))
}

// Ending is a dated piece that ends soon, with the ways that will go on showing it.
type Ending struct {
	release.Ending
	Release int      `json:"release"`
	Stays   []string `json:"stays"` // ways that go on showing it until somebody acts
	Goes    []string `json:"goes"`  // ways by which it is gone by itself
}

// soon is how many days before its end a dated piece is reminded of.
const soon = 21

// Endings lists the dated pieces of releases that are out which end soon.
func (r *Releases) Endings(ctx context.Context) ([]Ending, error) {
	list := []Ending{}
	err := r.Store.Read(ctx, func(tx *store.Tx) error {
		all, err := tx.Releases()
		if err != nil {
			return err
		}
		for _, record := range all {
			if record.State != release.Out {
				continue
			}
			var out []*template.Template
			for _, t := range record.Frozen.Templates {
				s, err := r.Templates.Frozen(tx, t.Name, t.Number, record.Frozen.Organisation, record.Frozen.Address)
				if err != nil {
					return err
				}
				out = append(out, s.Template)
			}
			for _, e := range release.Endings(out, tx.At(), soon) {
				list = append(list, Ending{e, record.ID, staying, going})
			}
		}
		return nil
	})
	return list, err
}

// What becomes of a dated piece after its last day, by way.
var (
	staying = []string{"copies that people pasted (rendered, source, from a draft)",
		"files on desks that were placed from a package by hand or by software distribution",
		"blocks at a mail host"}
	going = []string{"desks that ask this service (missivum desk watch): they fetch it without the piece on the day after"}
)
