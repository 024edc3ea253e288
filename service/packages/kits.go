package packages

import (
	"context"
	"fmt"
	"iter"
	"strings"
	"time"

	"missivum/core/audience"
	"missivum/core/client"
	"missivum/core/kit"
	"missivum/core/pack"
	"missivum/core/person"
	"missivum/core/problem"
	"missivum/core/release"
	"missivum/core/template"
	"missivum/service/drawing"
	"missivum/service/jobs"
	"missivum/service/store"
)

// kitSource is everything that kits are made of.
type kitSource struct {
	maker   *kit.Maker
	make    func(context.Context) func(*person.Person) (kit.Kit, error) // of kits that are drawn; nil for others
	choices func(*person.Person) []kit.Choice
	people  *person.Directory
	in      func(*person.Person) bool // who gets a kit
	title   string
	version int
	content string
	way     string
	release string
	notes   []string
}

// CreateKits begins a package of kits: of a release that was checked, or of a template's latest version.
func (p *Packages) CreateKits(ctx context.Context, o Order) (record store.Package, notes []string, err error) {
	source, err := p.source(ctx, o, p.Now())
	if err != nil {
		return record, nil, err
	}
	total := 0
	for range source.each() {
		total++
	}
	if total == 0 {
		return record, nil, problem.New(problem.Refused, "Nobody would get a kit.")
	}
	err = p.Store.Write(ctx, func(tx *store.Tx) error {
		record = store.Package{ID: jobs.NewID(), Template: source.title, Version: source.version, Content: source.content,
			Release: o.Release, Way: source.way,
			Client: o.Client, Audience: o.Audience, Person: o.Person}
		if err := tx.AddPackage(record); err != nil {
			return err
		}
		record.Job, err = p.Jobs.Add(tx, store.Job{ID: record.ID, Kind: Kind, Title: source.title, Total: total,
			Unit: "people"}, order{Day: tx.At(), Kits: &o})
		return err
	})
	return record, source.notes, err
}

// each iterates over the people who get a kit.
func (s kitSource) each() iter.Seq2[*person.Person, error] {
	return func(yield func(*person.Person, error) bool) {
		for i := range s.people.People {
			if who := &s.people.People[i]; s.in(who) && !yield(who, nil) {
				return
			}
		}
	}
}

// source gathers what kits are made of.
func (p *Packages) source(ctx context.Context, o Order, day time.Time) (s kitSource, err error) {
	book, _, err := p.Clients.Book(ctx)
	if err != nil {
		return s, err
	}
	in := kit.Input{Way: o.Way, Client: o.Client, Base: o.Base, Day: day}
	if o.Client != "" {
		profile := book.Find(o.Client)
		if profile == nil {
			return s, problem.New(problem.Invalid, "There is no client profile %q.", o.Client).In("client")
		}
		if o.Way != "" && o.Way != profile.Install.Way {
			return s, problem.New(problem.Invalid, "The way of %s is %s and not %s.", o.Client, profile.Install.Way, o.Way).In("way")
		}
		in.Way, in.Desk = profile.Install.Way, profile.Install.OnDesk()
	}
	s.way = in.Way
	if o.Release > 0 {
		err = p.ofRelease(ctx, o, &s, &in)
	} else {
		err = p.ofTemplate(ctx, o, &s, &in)
	}
	if err != nil {
		return s, err
	}
	if err := pack.CheckFolders(s.people.Schema, o.Folders); err != nil {
		return s, err
	}
	if in.Way == client.PictureLink {
		s.make = func(ctx context.Context) func(*person.Person) (kit.Kit, error) {
			return func(who *person.Person) (kit.Kit, error) { return drawing.Kit(ctx, in, newOf(s.choices(who)), who) }
		}
	} else if s.maker, err = kit.New(in); err != nil {
		return s, err
	}
	if o.Person != "" {
		inside := s.in
		mail, _, _ := s.people.Schema.Column("mail")
		s.in = func(who *person.Person) bool { return strings.EqualFold(who.At(mail), o.Person) && inside(who) }
	}
	return s, nil
}

// newOf is what somebody gets in new messages.
func newOf(choices []kit.Choice) kit.Choice {
	for _, c := range choices {
		if c.Situation == "new" {
			return c
		}
	}
	return kit.Choice{}
}

// ofRelease takes everything from a release.
func (p *Packages) ofRelease(ctx context.Context, o Order, s *kitSource, in *kit.Input) error {
	w, err := p.Releases.Whole(ctx, o.Release)
	if err != nil {
		return err
	}
	if w.State == release.Draft {
		return problem.New(problem.Conflict, "The release %d is still being checked.", o.Release)
	}
	if o.Audience != "" && !w.Live.Set.Has(o.Audience) {
		return problem.New(problem.Invalid, "The release has no audience %q.", o.Audience).In("audience")
	}
	var list []*template.Template
	for _, t := range w.Templates {
		list = append(list, t)
	}
	in.Templates, in.Schema, in.Base, in.Day = w.Templates, w.Directory.Schema, w.Frozen.Base, release.Decided(list, in.Day)
	s.release = fmt.Sprint(w.ID)
	in.Release = s.release
	s.people, s.choices, s.title, s.version, s.content = w.Directory, w.Live.Choices, "release-"+s.release, w.ID, w.Digest[:12]
	s.in = func(who *person.Person) bool { return w.Live.Set.In(o.Audience, who) }
	if w.State != release.Approved && w.State != release.Out {
		s.notes = append(s.notes, fmt.Sprintf("The release is %s: nobody has said that it may go out.", w.State))
	}
	for _, t := range list {
		s.notes = append(s.notes, pack.DatedNotes(t, p.Now())...)
	}
	return nil
}

// ofTemplate takes a template's latest version, for those to whom it is assigned.
func (p *Packages) ofTemplate(ctx context.Context, o Order, s *kitSource, in *kit.Input) error {
	if o.Audience != "" {
		return problem.New(problem.Invalid,
			"An audience is chosen for kits of a release; those of a template are for whom it is assigned to.").In("audience")
	}
	t, err := p.Templates.Get(ctx, o.Template, 0)
	if err != nil {
		return err
	}
	d, _, _, err := p.People.Assigned(ctx, o.Template)
	if err != nil {
		return err
	}
	in.Templates, in.Schema = map[string]*template.Template{t.Name: t.Template}, d.Schema
	s.people, s.title, s.version, s.content = d, t.Name, t.Number, t.Version()
	var choices []kit.Choice
	for _, situation := range audience.Situations {
		choices = append(choices, kit.Choice{Situation: situation, Template: t.Name, Variant: audience.Variant("", situation, t.Variants())})
	}
	s.choices = func(*person.Person) []kit.Choice { return choices }
	s.in = func(*person.Person) bool { return true }
	s.notes = append(s.notes, pack.DatedNotes(t.Template, in.Day)...)
	return nil
}

// makeKits makes a package of kits.
func (p *Packages) makeKits(ctx context.Context, job *jobs.Job, o Order, day time.Time) (any, error) {
	s, err := p.source(ctx, o, day)
	if err != nil {
		return nil, err
	}
	key := p.Key()
	var draw func(*person.Person) (kit.Kit, error)
	if s.make != nil {
		draw = s.make(ctx)
	}
	return p.finish(ctx, job, pack.Input{Schema: s.people.Schema, People: s.each(), Day: day, Spool: SpoolIn(p.Folder), Progress: job.Progress,
		Kits: &pack.Kits{Maker: s.maker, Make: draw, Choices: s.choices, Key: &key, Folders: o.Folders, Way: s.way,
			Client: o.Client, Release: s.release}})
}

// Ways lists the ways for which kits of everybody can be made.
func Ways() []client.Way {
	var list []client.Way
	for _, w := range client.Ways() {
		if w.ID != client.AppendBlock {
			list = append(list, w)
		}
	}
	return list
}
