package personal

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"unicode/utf8"

	"missivum/core/person"
	core "missivum/core/personal"
	"missivum/core/problem"
	"missivum/service/desks"
	"missivum/service/store"
)

// Detail is a field that people may change themselves.
type Detail struct {
	Field    string   `json:"field"`
	Label    string   `json:"label"`    // how the page calls it; blank for the field's name
	Choices  []string `json:"choices"`  // that the value is one of; none for any
	Longest  int      `json:"longest"`  // characters; 0 for the standard
	Avoid    []string `json:"avoid"`    // words that must not stand in it, letter case aside
	Approval bool     `json:"approval"` // an administrator accepts it first
}

// Settings are what the organisation says about the page.
type Settings struct {
	Details    []Detail `json:"details"`
	Clients    []string `json:"clients"`    // profiles that are offered; none for all
	Wrong      string   `json:"wrong"`      // who keeps the directory, as the page says it; blank: nothing can be reported
	LinkDays   int      `json:"linkDays"`   // how long a link lasts
	RemindDays int      `json:"remindDays"` // nobody is written to again before
	From       string   `json:"from"`       // sender of invitations
	Rate       int      `json:"rate"`       // messages a minute
	Note       string   `json:"note"`       // a sentence of the organisation's own in invitations; blank for none
}

// Limits of what is said.
const (
	mostDetails     = 30
	mostChoices     = 500
	standardLongest = 80
	longestDetail   = 400
	longestNote     = 1_000
	maxDays         = 400
	maxRate         = 600
)

const settingName = "personal"

func settingsIn(tx *store.Tx) (Settings, error) {
	s := Settings{Details: []Detail{}, Clients: []string{}, LinkDays: 30, RemindDays: 7, Rate: 60}
	return s, tx.Setting(settingName, &s)
}

// Settings gives what the organisation says about the page.
func (p *Personal) Settings(ctx context.Context) (s Settings, err error) {
	err = p.Store.Read(ctx, func(tx *store.Tx) error {
		s, err = settingsIn(tx)
		return err
	})
	return s, err
}

// PutSettings stores what the organisation says about the page.
func (p *Personal) PutSettings(ctx context.Context, s Settings) error {
	if err := s.check(); err != nil {
		return err
	}
	book, _, err := p.Clients.Book(ctx)
	if err != nil {
		return err
	}
	for _, id := range s.Clients {
		if book.Find(id) == nil {
			return problem.New(problem.Invalid, "There is no client profile %q.", id).In("clients")
		}
	}
	return p.Store.Write(ctx, func(tx *store.Tx) error { return tx.PutSetting(settingName, s) })
}

// check refuses settings that make no sense.
func (s Settings) check() error {
	for _, one := range []struct {
		name       string
		value, max int
	}{{"linkDays", s.LinkDays, maxDays}, {"remindDays", s.RemindDays, maxDays}, {"rate", s.Rate, maxRate}} {
		if one.value < 1 || one.value > one.max {
			return problem.New(problem.Invalid, "%s is a number from 1 to %d.", one.name, one.max).In(one.name)
		}
	}
	if len(s.Details) > mostDetails {
		return problem.New(problem.Invalid, "There can be %d details.", mostDetails).In("details")
	}
	if utf8.RuneCountInString(s.Note) > longestNote || utf8.RuneCountInString(s.Wrong) > longestNote {
		return problem.New(problem.Invalid, "A note has at most %d characters.", longestNote).In("note")
	}
	if s.From != "" {
		if _, err := address(s.From); err != nil {
			return problem.New(problem.Invalid, "%q is no sender; write it as Name <name@brackwater.example>.", s.From).In("from")
		}
	}
	seen := map[string]bool{}
	for _, d := range s.Details {
		name, _ := person.Canonical(d.Field)
		switch {
		case !person.ValidName(name) || strings.EqualFold(name, "mail"):
			return problem.New(problem.Invalid, "%q cannot be changed by people themselves; use a field other than mail.", d.Field).In("details")
		case seen[name]:
			return problem.New(problem.Invalid, "The detail %q is there twice.", d.Field).In("details")
		case len(d.Choices) > mostChoices || d.Longest < 0 || d.Longest > longestDetail:
			return problem.New(problem.Invalid, "A detail has at most %d choices and %d characters.", mostChoices, longestDetail).In("details")
		}
		seen[name] = true
	}
	return nil
}

// Value is one of somebody's details.
type Value struct {
	Detail
	Value   string `json:"value"`
	Waiting string `json:"waiting"` // value that was asked for and is not accepted yet
}

// Details are a person's details as the page shows them.
type Details struct {
	Values    []Value               `json:"values"`    // that can be changed
	Directory []Entry               `json:"directory"` // what else stands in their signatures
	Wrong     string                `json:"wrong"`     // who hears when something of it is wrong; blank for nobody
	Requests  []store.DetailRequest `json:"requests"`
}

// Entry is a value of the directory.
type Entry struct {
	Field string `json:"field"`
	Value string `json:"value"`
}

// Details gives a person's details.
func (p *Personal) Details(ctx context.Context, v Visitor) (d Details, err error) {
	if err := v.MayChange(); err != nil {
		return d, err
	}
	directory, _, err := p.People.Directory(ctx)
	if err != nil {
		return d, err
	}
	who := directory.Find(v.Person)
	if who == nil {
		return d, problem.Missing("person", v.Person)
	}
	own, err := p.Desks.Own(ctx, v.Person)
	if err != nil && !problem.Is(err, problem.NotFound) && !problem.Is(err, problem.Gone) {
		return d, err
	}
	err = p.Store.Read(ctx, func(tx *store.Tx) error {
		settings, err := settingsIn(tx)
		if err != nil {
			return err
		}
		d.Wrong = settings.Wrong
		if d.Requests, err = tx.DetailRequestsOf(v.Person); err != nil {
			return err
		}
		for _, detail := range settings.Details {
			one := Value{Detail: detail, Value: directory.Get(who, detail.Field)}
			for _, r := range d.Requests {
				if r.State == "open" && r.Kind == "change" && r.Field == detail.Field {
					one.Waiting = r.Value
				}
			}
			d.Values = append(d.Values, one)
		}
		for _, field := range used(own) {
			known := slices.ContainsFunc(settings.Details, func(d Detail) bool { return d.Field == field })
			if value := directory.Get(who, field); value != "" && !known {
				d.Directory = append(d.Directory, Entry{field, value})
			}
		}
		return nil
	})
	return d, err
}

// used are the fields that a person's signatures use, in the order of the directory.
func used(own desks.Own) []string {
	fields := map[string]bool{}
	for _, c := range own.Choices {
		t := own.Templates[c.Template]
		if t == nil {
			continue
		}
		names, err := core.Fields(t, own.Schema, own.Day)
		if err != nil {
			continue // a template that cannot be filled shows nothing
		}
		for _, name := range names {
			fields[name] = true
		}
	}
	var list []string
	if own.Schema == nil {
		return nil
	}
	for _, name := range own.Schema.Names() {
		if fields[name] {
			list = append(list, name)
		}
	}
	return list
}

// allowed finds a detail that may be changed, and refuses a value that may not stand there.
func (s Settings) allowed(field, value string) (Detail, error) {
	i := slices.IndexFunc(s.Details, func(d Detail) bool { return d.Field == field })
	if i < 0 {
		return Detail{}, problem.New(problem.Forbidden, "%s is kept by your organisation.", field).In(field)
	}
	d := s.Details[i]
	longest := d.Longest
	if longest == 0 {
		longest = standardLongest
	}
	switch {
	case strings.ContainsFunc(value, func(r rune) bool { return r < ' ' }) || !utf8.ValidString(value):
		return d, problem.New(problem.Invalid, "This is one line of text.").In(field)
	case utf8.RuneCountInString(value) > longest:
		return d, problem.New(problem.Invalid, "This has %d characters; %d are possible.", utf8.RuneCountInString(value), longest).In(field)
	case value != "" && len(d.Choices) > 0 && !slices.Contains(d.Choices, value):
		return d, problem.New(problem.Invalid, "This is one of: %s.", strings.Join(d.Choices, ", ")).In(field)
	}
	for _, word := range d.Avoid {
		if word != "" && strings.Contains(strings.ToLower(value), strings.ToLower(word)) {
			return d, problem.New(problem.Invalid, "%q must not stand here.", word).In(field)
		}
	}
	return d, nil
}

// Change stores details of a person: at once, or as requests where the organisation wants to accept them first.
func (p *Personal) Change(ctx context.Context, v Visitor, values map[string]string) error {
	if err := v.MayChange(); err != nil {
		return err
	}
	if len(values) > mostDetails {
		return problem.New(problem.Invalid, "There are at most %d details.", mostDetails)
	}
	return p.Store.Write(ctx, func(tx *store.Tx) error {
		settings, err := settingsIn(tx)
		if err != nil {
			return err
		}
		now := map[string]string{}
		for _, field := range slices.Sorted(maps.Keys(values)) {
			value := strings.TrimSpace(values[field])
			detail, err := settings.allowed(field, value)
			if err != nil {
				return err
			}
			if !detail.Approval {
				now[field] = value
				continue
			}
			if err := tx.AddDetailRequest(store.DetailRequest{Person: v.Person, Field: field, Kind: "change", Value: value}); err != nil {
				return err
			}
		}
		if len(now) == 0 {
			return nil
		}
		_, err = p.People.EditIn(tx, map[string]map[string]string{v.Person: now})
		return err
	})
}

// Report says that a value of the directory is wrong.
func (p *Personal) Report(ctx context.Context, v Visitor, field, note string) error {
	if err := v.MayChange(); err != nil {
		return err
	}
	if utf8.RuneCountInString(note) > longestNote || !person.ValidName(field) {
		return problem.New(problem.Invalid, "Say what is wrong in at most %d characters.", longestNote).In("note")
	}
	return p.Store.Write(ctx, func(tx *store.Tx) error {
		settings, err := settingsIn(tx)
		if err != nil {
			return err
		}
		if settings.Wrong == "" {
			return problem.New(problem.Forbidden, "Your organisation takes no reports here.")
		}
		return tx.AddDetailRequest(store.DetailRequest{Person: v.Person, Field: field, Kind: "wrong", Note: strings.TrimSpace(note)})
	})
}

// mostRequests is how many requests are listed.
const mostRequests = 500

// Requests lists what people ask and nobody has decided yet, or what was decided.
func (p *Personal) Requests(ctx context.Context, state string) (list []store.DetailRequest, err error) {
	if !slices.Contains([]string{"open", "accepted", "refused"}, state) {
		return nil, problem.New(problem.Invalid, "A request is open, accepted or refused.").In("state")
	}
	err = p.Store.Read(ctx, func(tx *store.Tx) error {
		list, err = tx.DetailRequests(state, mostRequests)
		return err
	})
	return list, err
}

// Decide accepts or refuses a request. What was asked for is stored with its acceptance; a report of something wrong is only closed.
func (p *Personal) Decide(ctx context.Context, id int64, accept bool) error {
	state := map[bool]string{true: "accepted", false: "refused"}[accept]
	return p.Store.Write(ctx, func(tx *store.Tx) error {
		r, err := tx.DecideDetailRequest(id, state)
		if err != nil || !accept || r.Kind != "change" {
			return err
		}
		if _, err = p.People.EditIn(tx, map[string]map[string]string{r.Person: {r.Field: r.Value}}); err != nil {
			return fmt.Errorf("%s of %s: %w", r.Field, r.Person, err)
		}
		return nil
	})
}

// drafted is a person of a release with values that are only looked at.
func (p *Personal) drafted(ctx context.Context, own desks.Own, draft map[string]string) (*person.Person, error) {
	if len(draft) == 0 {
		return own.Person, nil
	}
	settings, err := p.Settings(ctx)
	if err != nil {
		return nil, err
	}
	who := *own.Person
	who.Values = slices.Clone(own.Person.Values)
	for field, value := range draft {
		value = strings.TrimSpace(value)
		if _, err := settings.allowed(field, value); err != nil {
			return nil, err
		}
		column, _, known := own.Schema.Column(field)
		if !known {
			continue // no signature of the release can use it
		}
		for len(who.Values) <= column {
			who.Values = append(who.Values, "")
		}
		who.Values[column] = value
	}
	return &who, nil
}
