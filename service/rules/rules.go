// Package rules keeps the mail rules with their versions, and asks them about messages with the service's own people, audiences,
// assignments and templates. Start with Rules.
package rules

import (
	"context"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"time"

	"missivum/core/kit"
	"missivum/core/message"
	"missivum/core/problem"
	"missivum/core/rule"
	"missivum/service/hosting"
	"missivum/service/jobs"
	"missivum/service/organisation"
	"missivum/service/people"
	"missivum/service/releases"
	"missivum/service/store"
	"missivum/service/templates"
)

// Rules keeps mail rules.
type Rules struct {
	Store     *store.Store
	Templates *templates.Templates
	People    *people.People
	Now       func() time.Time
	Releases  *releases.Releases
	Hosting   *hosting.Hosting
	Jobs      *jobs.Jobs
	Folder    string // for stored mail while it is rehearsed
	Log       *slog.Logger
	Key       func() kit.Key // signs bundles

	mutex   sync.Mutex
	current current
}

// State is a version of the rules, and what is to be said of it.
type State struct {
	store.RulesVersion
	Rules    []Line         `json:"rules"`
	File     rule.File      `json:"file"` // the document's meaning, with what it leaves out filled in
	Warnings []rule.Warning `json:"warnings"`
}

// Line is a rule as a sentence.
type Line struct {
	Name     string     `json:"name"`
	Title    string     `json:"title"`
	State    rule.State `json:"state"`
	Sentence string     `json:"sentence"`
}

// beginning is a document to begin with.
const beginning = `# Which messages are stamped with what, beside a mail server. The first rule that applies decides.
rules:
  - name: everybody-outside
    title: Mail that leaves gets what is assigned, under the newest text
    state: trial
    when:
      direction: outgoing
`

// Get gives a version; number 0 is the latest, or where there is none a document to begin with, whose number is 0.
func (r *Rules) Get(ctx context.Context, number int) (s State, err error) {
	err = r.Store.Read(ctx, func(tx *store.Tx) error {
		s.RulesVersion, err = tx.MailRules(number)
		return err
	})
	if err != nil {
		return s, err
	}
	if s.Number == 0 {
		s.Document = beginning
	}
	return describe(s)
}

// describe says what a document's rules are.
func describe(s State) (State, error) {
	file, err := rule.Parse([]byte(s.Document))
	if err != nil {
		return s, problem.New(problem.Refused, "The mail rules are refused: %s", err.Error())
	}
	s.Rules, s.File, s.Warnings = []Line{}, file, file.Warnings()
	for _, one := range file.Rules {
		s.Rules = append(s.Rules, Line{one.Name, one.Title, one.State, one.Sentence()})
	}
	return s, nil
}

// Check says what rules are and what is wrong with them, and stores nothing. Where a changed form of the document is given, the
// document is written anew from it: what is as it was keeps its words and comments.
func (r *Rules) Check(ctx context.Context, document string, changed *rule.File) (s State, err error) {
	s.Document = document
	if changed != nil {
		if s.Document, err = rule.Rewrite(document, *changed); err != nil {
			return s, problem.As(problem.Refused, err)
		}
	}
	if s, err = describe(s); err != nil {
		return s, err
	}
	_, err = r.Engine(ctx, s.Document)
	return s, err
}

// Versions lists the versions, the latest first.
func (r *Rules) Versions(ctx context.Context) (list []store.RulesVersion, err error) {
	err = r.Store.Read(ctx, func(tx *store.Tx) error {
		list, err = tx.MailRulesVersions()
		return err
	})
	return list, err
}

// Put stores a version. base is the number that it was made from; another latest one meanwhile is a conflict, and a negative base
// stores whatever the latest is. Rules that name what is not there are refused.
func (r *Rules) Put(ctx context.Context, document, note string, base int) (s State, err error) {
	if s, err = r.Check(ctx, document, nil); err != nil {
		return s, err
	}
	err = r.Store.Write(ctx, func(tx *store.Tx) error {
		latest, err := tx.MailRules(0)
		if err != nil {
			return err
		}
		if base >= 0 && latest.Number != base {
			return problem.New(problem.Conflict, "The mail rules were changed meanwhile: version %d is the latest, and yours was made from %d.",
				latest.Number, base)
		}
		s.RulesVersion, err = tx.SaveMailRules(document, note)
		return err
	})
	return s, err
}

// Engine compiles a document with the service's people, audiences, assignments and templates as they are now; a blank document is
// the latest version. The error is a problem.
func (r *Rules) Engine(ctx context.Context, document string) (*rule.Engine, error) {
	b, number, err := r.gathered(ctx, document)
	if err != nil {
		return nil, err
	}
	engine, err := b.Engine(r.Now(), fmt.Sprintf("version %d", number))
	return engine, problem.As(problem.Refused, err)
}

// gathered reads all that a document needs, in one unit of work.
func (r *Rules) gathered(ctx context.Context, document string) (b rule.Bundle, number int, err error) {
	err = r.Store.Read(ctx, func(tx *store.Tx) error {
		if document == "" {
			v, err := tx.MailRules(0)
			if err != nil {
				return err
			}
			if document, number = v.Document, v.Number; number == 0 {
				return problem.New(problem.NotFound, "There are no mail rules yet.")
			}
		}
		file, err := rule.Parse([]byte(document))
		if err != nil {
			return problem.New(problem.Refused, "The mail rules are refused: %s", err.Error())
		}
		if len(file.Audiences) > 0 || len(file.Assignments) > 0 {
			return problem.New(problem.Refused, "The service has audiences and assignments of its own; take them out of the mail rules.")
		}
		who, err := r.People.WhoIn(tx)
		if err != nil {
			return err
		}
		home, err := organisation.In(tx)
		if err != nil {
			return err
		}
		if len(file.Inside) == 0 {
			file.Inside = home.Domains
		}
		file.Audiences = who.Audiences
		if who.Assignments != nil {
			file.Assignments = who.Assignments.Lines()
		}
		b = rule.Single(r.Now(), file, who.Directory)
		for _, name := range named(file) {
			t, err := r.Templates.GetIn(tx, name, 0)
			if err != nil {
				return err
			}
			b.Sets[0].Templates = append(b.Sets[0].Templates, t.Template)
		}
		return nil
	})
	return b, number, err
}

// named lists the templates that rules and assignments name, each once.
func named(f rule.File) (list []string) {
	seen := map[string]bool{"": true}
	add := func(name string) {
		if !seen[name] {
			seen[name] = true
			list = append(list, name)
		}
	}
	for _, one := range f.Rules {
		add(one.Then.Template)
	}
	for _, line := range f.Assignments {
		add(line.Template)
	}
	return list
}

// Tried is what the rules do with a message.
type Tried struct {
	Trace  rule.Trace `json:"trace"`
	Before Side       `json:"before"`
	After  Side       `json:"after"`
	Raw    []byte     `json:"raw"` // the message as it would go out
}

// Side is a message before or after.
type Side struct {
	Source string `json:"source"` // as far as it is text
	Page   string `json:"page"`   // what a reader sees, as a page that may hold what is active; blank where there is no text
}

// sideOf is a message with its pictures that this service hosts at their address here.
func (r *Rules) sideOf(ctx context.Context, m *message.Message) (Side, error) {
	settings, err := r.Hosting.Settings(ctx)
	if err != nil {
		return Side{}, err
	}
	page := m.Look()
	if settings.Address != "" {
		page = strings.ReplaceAll(page, settings.Address, "/p/")
	}
	return Side{Source: strings.ToValidUTF8(string(m.Raw), "\ufffd"), Page: page}, nil
}

// Question is a message that the rules are asked about.
type Question struct {
	Document   string // rules; blank for the latest version
	InForce    bool   // asks those that gateways use instead
	Message    []byte
	Recipients []string // of the envelope; none: those that the header names
	Trials     bool     // rules in trial are taken as on
}

// Try asks the rules about a message.
func (r *Rules) Try(ctx context.Context, q Question) (Tried, error) {
	ask := func() (*rule.Engine, error) { return r.Engine(ctx, q.Document) }
	if q.InForce {
		ask = func() (*rule.Engine, error) { return r.engineInForce(ctx) }
	}
	engine, err := ask()
	if err != nil {
		return Tried{}, err
	}
	m := message.Read(q.Message)
	v := engine.Judge(rule.Mail{Message: m, Recipients: q.Recipients, OffEnvelope: true}, q.Trials)
	t := Tried{Trace: v.Trace, Raw: v.Raw}
	if t.Before, err = r.sideOf(ctx, m); err != nil {
		return t, err
	}
	t.After, err = r.sideOf(ctx, message.Read(v.Raw))
	return t, err
}
