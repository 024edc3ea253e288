package rules

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"missivum/core/problem"
	"missivum/core/release"
	"missivum/core/rule"
	"missivum/core/template"
	"missivum/service/store"
)

// current is the bundle that was made last.
type current struct {
	data   []byte
	name   string
	of     string // what it was made of
	engine *rule.Engine
	day    string // for which the engine was compiled
}

// Pause is whether gateways leave every message as it is.
type Pause struct {
	Paused bool      `json:"paused"`
	Says   string    `json:"says"` // why
	By     string    `json:"by"`
	Since  time.Time `json:"since,omitzero"`
}

const pauseSetting = "mail rules paused"

// GetPause says whether the rules are paused.
func (r *Rules) GetPause(ctx context.Context) (p Pause, err error) {
	err = r.Store.Read(ctx, func(tx *store.Tx) error { return tx.Setting(pauseSetting, &p) })
	return p, err
}

// PutPause pauses the rules, or lets them work again. Gateways that ask this service take it up within seconds.
func (r *Rules) PutPause(ctx context.Context, paused bool, says string) (p Pause, err error) {
	says = strings.TrimSpace(says)
	if len(says) > 500 {
		return p, problem.New(problem.Invalid, "The reason may have 500 characters.").In("says")
	}
	err = r.Store.Write(ctx, func(tx *store.Tx) error {
		if paused {
			p = Pause{true, says, tx.By().Name, tx.At()}
		}
		if err := tx.PutSetting(pauseSetting, p); err != nil {
			return err
		}
		action := "resumed"
		if paused {
			action = "paused"
		}
		return tx.Changed(action, "mail rules", "", says)
	})
	return p, err
}

// why is the sentence that every message's record gets while the rules are paused.
func (p Pause) why() string {
	if !p.Paused {
		return ""
	}
	text := fmt.Sprintf("by %s since %s", p.By, p.Since.UTC().Format("2006-01-02 15:04 UTC"))
	if p.Says != "" {
		text += ", because: " + strings.TrimSuffix(p.Says, ".")
	}
	return text + "."
}

// inForce gathers what gateways use: the rules of the releases that are out, and the templates of those that were. of changes
// when anything of it does.
func (r *Rules) inForce(ctx context.Context) (b rule.Bundle, of string, err error) {
	var parts []any
	err = r.Store.Read(ctx, func(tx *store.Tx) error {
		var pause Pause
		if err := tx.Setting(pauseSetting, &pause); err != nil {
			return err
		}
		b.Paused = pause.why()
		directory, revision, err := r.People.DirectoryIn(tx)
		if err != nil {
			return err
		}
		b.People = directory
		parts = append(parts, b.Paused, revision)
		all, err := tx.Releases()
		if err != nil {
			return err
		}
		seen := map[string]bool{}
		for _, record := range all { // the newest first
			switch record.State {
			case release.Out:
				w, err := r.Releases.WholeIn(tx, record)
				if err != nil {
					return err
				}
				set, ok, err := w.RuleSet()
				if err != nil {
					return err
				}
				if ok && len(set.Open) > 0 {
					b.Sets = append(b.Sets, set)
					parts = append(parts, record.ID, set.Open)
					continue
				}
			case release.Withdrawn:
			default:
				continue
			}
			if err := r.earlier(tx, record, &b.Earlier, seen); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return b, "", err
	}
	for _, t := range b.Earlier {
		parts = append(parts, t.Name, t.Version())
	}
	text, err := json.Marshal(parts)
	return b, string(text), err
}

// maxEarlier is of how many versions of templates signatures are known again, beside those of releases that are out.
const maxEarlier = 20

// earlier adds a release's templates to those whose signatures are known again.
func (r *Rules) earlier(tx *store.Tx, record store.Release, list *[]*template.Template, seen map[string]bool) error {
	for _, t := range record.Frozen.Templates {
		if key := t.Name + " " + t.Content; seen[key] || len(*list) >= maxEarlier {
			continue
		} else {
			seen[key] = true
		}
		s, err := r.Templates.Frozen(tx, t.Name, t.Number, record.Frozen.Organisation, record.Frozen.Address)
		if err != nil {
			return err
		}
		*list = append(*list, s.Template)
	}
	return nil
}

// renew makes the bundle in force if it is not there yet. While nothing changes it is the same, byte for byte.
func (r *Rules) renew(ctx context.Context) (current, error) {
	b, of, err := r.inForce(ctx)
	if err != nil {
		return current{}, err
	}
	r.mutex.Lock()
	defer r.mutex.Unlock()
	day := r.Now().Format(time.DateOnly)
	if c := r.current; c.data != nil && c.of == of && c.day == day {
		return c, nil
	}
	c := current{of: of, day: day, data: r.current.data}
	if r.current.of != of {
		b.Made = r.Now()
		if c.data, err = b.Write(r.Key()); err != nil {
			return current{}, err
		}
	}
	c.name = rule.BundleName(c.data)
	if c.engine, err = b.Engine(r.Now(), c.name); err != nil { // no gateway should meet it
		return current{}, problem.As(problem.Refused, err)
	}
	r.current = c
	return c, nil
}

// Bundle gives the bundle that gateways take: the rules of the releases that are out with everything that they need, signed by the
// service's key. The error is a problem.
func (r *Rules) Bundle(ctx context.Context) ([]byte, error) {
	c, err := r.renew(ctx)
	return c.data, err
}

// Latest gives a bundle of the latest version of the rules, or of those to begin with, and of all templates as they are now. It is for
// trying rules elsewhere; gateways take Bundle. The error is a problem.
func (r *Rules) Latest(ctx context.Context) ([]byte, error) {
	state, err := r.Get(ctx, 0)
	if err != nil {
		return nil, err
	}
	b, _, err := r.gathered(ctx, state.Document)
	if err != nil {
		return nil, err
	}
	have := map[string]bool{}
	for _, t := range b.Sets[0].Templates {
		have[t.Name] = true
	}
	list, err := r.Templates.List(ctx)
	if err != nil {
		return nil, err
	}
	for _, one := range list {
		if have[one.Name] {
			continue
		}
		t, err := r.Templates.Get(ctx, one.Name, 0)
		if err != nil {
			return nil, err
		}
		b.Sets[0].Templates = append(b.Sets[0].Templates, t.Template)
	}
	return b.Write(r.Key())
}

// InForce gives the rules that gateways use, compiled for today, with the bundle's name.
func (r *Rules) InForce(ctx context.Context) (engine *rule.Engine, name string, err error) {
	c, err := r.renew(ctx)
	return c.engine, c.name, err
}

func (r *Rules) engineInForce(ctx context.Context) (*rule.Engine, error) {
	engine, _, err := r.InForce(ctx)
	return engine, err
}
