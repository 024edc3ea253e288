// Package personal answers the page on which people find their own signature: the links by which they reach it, what they copy into
// which program, whether it stuck, their details, and the messages that invite them. Start with Personal.
package personal

import (
	"context"
	"log/slog"
	"slices"
	"strings"
	"time"

	"missivum/core/client"
	core "missivum/core/personal"
	"missivum/core/problem"
	"missivum/service/access"
	"missivum/service/clients"
	"missivum/service/desks"
	"missivum/service/hosting"
	"missivum/service/jobs"
	"missivum/service/people"
	"missivum/service/store"
)

// Personal answers the page.
type Personal struct {
	Store   *store.Store
	Desks   *desks.Desks
	People  *people.People
	Clients *clients.Clients
	Jobs    *jobs.Jobs
	Hosting *hosting.Hosting
	Marks   *access.Marks // of the links
	Address func() string // under which people reach the service
	Mail    Mail          // the server that takes invitations
	Now     func() time.Time
	Log     *slog.Logger

	tries *access.Limit
}

// How many tokens that open nothing an address may try at once, and how long each one after them takes.
const (
	triesAtOnce = 20
	triesPause  = 5 * time.Second
)

// Start readies the page, and the sending of invitations.
func (p *Personal) Start() {
	p.tries = access.NewLimit(triesAtOnce, triesPause)
	p.Jobs.Register(p.sending())
}

// fold makes mail addresses comparable.
func fold(mail string) string { return strings.ToLower(strings.TrimSpace(mail)) }

// Languages are the languages of the page, the standard one first.
func Languages() []string { return []string{"en", "de", "sv", "el", "ar"} }

// Program is a mail program that somebody can choose.
type Program struct {
	ID    string `json:"id"`
	Title string `json:"title"`
	About string `json:"about"`
	Way   string `json:"way"`
	Share int    `json:"share"` // colleagues who chose it, in percent; 0 where few have chosen
}

// Overview is what the page begins with.
type Overview struct {
	Person   string    `json:"person"` // mail address
	Name     string    `json:"name"`
	Changes  bool      `json:"changes"` // things can be changed from this device
	Language string    `json:"language"`
	Client   string    `json:"client"` // chosen before; blank for none
	Programs []Program `json:"programs"`
	Release  string    `json:"release"`
	Title    string    `json:"title"` // of the release
	Uses     []Use     `json:"uses"`
	Proofs   []Proof   `json:"proofs"`
	Details  bool      `json:"details"` // there are details that can be changed, or reported
	Ends     time.Time `json:"ends,omitzero"`
}

// Use is a situation and whether there is a signature for it.
type Use struct {
	Situation string `json:"situation"`
	Signature bool   `json:"signature"`
	SameAs    string `json:"sameAs"` // an earlier situation with the same signature; blank for none
}

// leastChosen is how many must have chosen a program before shares are shown.
const leastChosen = 5

// offered are the ways for which the page has steps.
var offered = []string{client.PasteRender, client.PasteSource, client.PictureLink, client.FileSet, client.WrappedFile, client.PageFile}

// Overview gives what the page begins with.
func (p *Personal) Overview(ctx context.Context, v Visitor) (o Overview, err error) {
	own, err := p.Desks.Own(ctx, v.Person)
	if err != nil {
		return o, notReached(err)
	}
	book, _, err := p.Clients.Book(ctx)
	if err != nil {
		return o, err
	}
	o = Overview{Person: v.Person, Name: own.Get("cn"), Changes: !v.Guest, Release: own.Release, Title: own.Title,
		Programs: []Program{}, Uses: []Use{}}
	var counts map[string]int
	var settings Settings
	var proofs []store.Proof
	err = p.Store.Read(ctx, func(tx *store.Tx) error {
		choice, err := tx.PersonalChoice(v.Person)
		if err != nil {
			return err
		}
		o.Client, o.Language = choice.Client, choice.Language
		if counts, err = tx.PersonalClients(); err != nil {
			return err
		}
		if settings, err = settingsIn(tx); err != nil {
			return err
		}
		if v.Link > 0 {
			link, err := tx.PersonalLink(v.Link)
			if err != nil {
				return err
			}
			o.Ends = link.Ends
		}
		proofs, err = tx.ProofsOf(v.Person)
		return err
	})
	if err != nil {
		return o, err
	}
	if o.Proofs, err = p.proofsOf(ctx, proofs); err != nil {
		return o, err
	}
	o.Details = len(settings.Details) > 0 || settings.Wrong != ""
	all := 0
	for _, n := range counts {
		all += n
	}
	for _, profile := range book {
		if !slices.Contains(offered, profile.Install.Way) || len(settings.Clients) > 0 && !slices.Contains(settings.Clients, profile.ID) {
			continue
		}
		one := Program{ID: profile.ID, Title: profile.Title, About: profile.About, Way: profile.Install.Way}
		if all >= leastChosen {
			one.Share = (100*counts[profile.ID] + all/2) / all
		}
		o.Programs = append(o.Programs, one)
	}
	slices.SortStableFunc(o.Programs, func(a, b Program) int { return b.Share - a.Share })
	for i, c := range own.Choices {
		use := Use{Situation: c.Situation, Signature: c.Template != ""}
		for _, before := range own.Choices[:i] {
			if use.Signature && before.Template == c.Template && before.Variant == c.Variant {
				use.SameAs = before.Situation
				break
			}
		}
		o.Uses = append(o.Uses, use)
	}
	return o, nil
}

// notReached says in the page's words that there is no signature yet.
func notReached(err error) error {
	if problem.Is(err, problem.NotFound) || problem.Is(err, problem.Gone) {
		return problem.New(problem.NotFound, "There is no signature for you yet. You will hear when there is one.")
	}
	return err
}

// profile is one of the organisation's client profiles.
func (p *Personal) profile(ctx context.Context, id string) (*client.Profile, error) {
	book, _, err := p.Clients.Book(ctx)
	if err != nil {
		return nil, err
	}
	if profile := book.Find(id); profile != nil {
		return profile, nil
	}
	return nil, problem.Missing("client profile", id)
}

// Choose stores which program and language somebody uses.
func (p *Personal) Choose(ctx context.Context, v Visitor, c store.PersonalChoice) error {
	if err := v.MayChange(); err != nil {
		return err
	}
	if c.Client != "" {
		if _, err := p.profile(ctx, c.Client); err != nil {
			return err
		}
	}
	if c.Language != "" && !slices.Contains(Languages(), c.Language) {
		return problem.New(problem.Invalid, "The page is in %s.", strings.Join(Languages(), ", ")).In("language")
	}
	return p.Store.Write(ctx, func(tx *store.Tx) error { return tx.PutPersonalChoice(v.Person, c) })
}

// MayChange refuses changes from another device than the one that opened the link first.
func (v Visitor) MayChange() error {
	if !v.Guest {
		return nil
	}
	return problem.New(
		problem.Forbidden,
		"This link was first opened on another device, and changes are made there. Ask for a new link if that was not you.",
	)
}

// Asked is which signature somebody wants for which program, with values that are not stored yet to look at.
type Asked struct {
	Client    string            `json:"client"`
	Situation string            `json:"situation"`
	Draft     map[string]string `json:"draft"` // details by field
}

// Prepared is a signature as the page shows it.
type Prepared struct {
	core.Signature
	Situation       string `json:"situation"`
	Release         string `json:"release"`
	LightBackground string `json:"lightBackground"` // #rrggbb
	DarkBackground  string `json:"darkBackground"`
}

// Signature prepares what somebody copies.
func (p *Personal) Signature(ctx context.Context, v Visitor, a Asked) (out Prepared, err error) {
	if len(a.Draft) > 0 {
		if err := v.MayChange(); err != nil {
			return out, err
		}
	}
	in, own, err := p.input(ctx, v.Person, a)
	if err != nil {
		return out, err
	}
	out = Prepared{Situation: a.Situation, Release: own.Release}
	out.LightBackground, out.DarkBackground = core.Backgrounds(in.Client)
	out.Signature, err = core.Prepare(in)
	return out, err
}

// input is what a signature is prepared from.
func (p *Personal) input(ctx context.Context, mail string, a Asked) (in core.Input, own desks.Own, err error) {
	if own, err = p.Desks.Own(ctx, mail); err != nil {
		return in, own, notReached(err)
	}
	profile, err := p.profile(ctx, a.Client)
	if err != nil {
		return in, own, err
	}
	c, err := own.Choice(a.Situation)
	if err != nil {
		return in, own, err
	}
	who, err := p.drafted(ctx, own, a.Draft)
	if err != nil {
		return in, own, err
	}
	return core.Input{Template: own.Templates[c.Template], Schema: own.Schema, Day: own.Day, Variant: c.Variant, Person: who,
		Client: profile}, own, nil
}
