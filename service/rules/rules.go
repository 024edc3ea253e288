// Package rules keeps the mail rules with their versions, and asks them about messages with the service's own people, audiences,
// assignments and templates. Start with Rules.
package rules

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"sync"
	"time"

	"missivum/core/kit"
	"missivum/core/message"
	"missivum/core/problem"
	"missivum/core/rule"
	"missivum/service/people"
	"missivum/service/store"
	"missivum/service/templates"
)

// Rules keeps mail rules.
type Rules struct {
	Store     *store.Store
	Templates *templates.Templates
	People    *people.People
	Now       func() time.Time
	Key       func() kit.Key // signs bundles

	mutex  sync.Mutex
	bundle []byte // the one that was made last
	of     string // what it was made of
}

// State is a version of the rules, and what is to be said of it.
type State struct {
	store.RulesVersion
	Rules    []Line         `json:"rules"`
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
	s.Rules, s.Warnings = []Line{}, file.Warnings()
	for _, one := range file.Rules {
		s.Rules = append(s.Rules, Line{one.Name, one.Title, one.State, one.Sentence()})
	}
	return s, nil
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
	s.Document = document
	if s, err = describe(s); err != nil {
		return s, err
	}
	if _, err := r.Engine(ctx, document); err != nil {
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

// Engine compiles a document for what the service has; a blank document is the latest version. Its audiences and assignments are
// the service's. The error is a problem.
func (r *Rules) Engine(ctx context.Context, document string) (*rule.Engine, error) {
	b, version, err := r.gathered(ctx, document)
	if err != nil {
		return nil, err
	}
	engine, err := b.Engine(r.Now(), fmt.Sprintf("version %d", version.number))
	return engine, problem.As(problem.Refused, err)
}

// made is what a bundle is made of: everything whose change makes another one.
type made struct {
	number, people int
	templates      []string
	rules          rule.File
}

// gathered reads all that rules need, in one unit of work.
func (r *Rules) gathered(ctx context.Context, document string) (b rule.Bundle, of made, err error) {
	err = r.Store.Read(ctx, func(tx *store.Tx) error {
		if document == "" {
			v, err := tx.MailRules(0)
			if err != nil {
				return err
			}
			if document, of.number = v.Document, v.Number; v.Number == 0 {
				return problem.New(problem.NotFound, "There are no mail rules yet.")
			}
		}
		if b.File, err = rule.Parse([]byte(document)); err != nil {
			return problem.New(problem.Refused, "The mail rules are refused: %s", err.Error())
		}
		if len(b.File.Audiences) > 0 || len(b.File.Assignments) > 0 {
			return problem.New(problem.Refused, "The service has audiences and assignments of its own; take them out of the mail rules.")
		}
		who, err := r.People.WhoIn(tx)
		if err != nil {
			return err
		}
		b.File.Audiences = who.Audiences
		if who.Assignments != nil {
			b.File.Assignments = who.Assignments.Lines()
		}
		b.People, of.people, of.rules = who.Directory, who.Revision, b.File
		for _, name := range named(b.File) {
			t, err := r.Templates.GetIn(tx, name, 0)
			if err != nil {
				return err
			}
			b.Templates = append(b.Templates, t.Template)
			of.templates = append(of.templates, t.Version()+" "+t.Public)
		}
		return nil
	})
	return b, of, err
}

// Bundle gives the bundle that gateways take: the latest rules with everything that they need, signed by the service's key. While
// nothing changes it is the same, byte for byte. The error is a problem.
func (r *Rules) Bundle(ctx context.Context) ([]byte, error) {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	b, of, err := r.gathered(ctx, "")
	if err != nil {
		return nil, err
	}
	text, err := json.Marshal(struct {
		Number, People int
		Templates      []string
		Rules          rule.File
	}{of.number, of.people, of.templates, of.rules})
	if err != nil {
		return nil, err
	}
	if r.bundle != nil && r.of == string(text) {
		return r.bundle, nil
	}
	if _, err := b.Engine(r.Now(), "bundle"); err != nil { // no gateway should meet it
		return nil, problem.As(problem.Refused, err)
	}
	b.Made = r.Now()
	data, err := b.Write(r.Key())
	if err != nil {
		return nil, err
	}
	r.bundle, r.of = data, string(text)
	return data, nil
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
	Before string     `json:"before"` // source, as far as it is text
	After  string     `json:"after"`
}

// Try asks the rules about a message. A blank document is the latest version; trials are taken as on where that is wished.
func (r *Rules) Try(ctx context.Context, document string, raw []byte, recipients []string, trials bool) (Tried, error) {
	engine, err := r.Engine(ctx, document)
	if err != nil {
		return Tried{}, err
	}
	v := engine.Judge(rule.Mail{Message: message.Read(raw), Recipients: recipients, OffEnvelope: true}, trials)
	return Tried{Trace: v.Trace, Before: strings.ToValidUTF8(string(raw), "�"), After: strings.ToValidUTF8(string(v.Raw), "�")}, nil
}
