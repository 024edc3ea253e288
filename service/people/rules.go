package people

import (
	"context"
	"errors"
	"fmt"
	"time"

	"missivum/core/person"
	"missivum/core/problem"
	"missivum/core/source"
	"missivum/service/jobs"
	"missivum/service/store"
)

// Rules say how the directory is kept.
type Rules struct {
	Match string              `json:"match"` // field by which records of several sources are one person; mail when blank
	First map[string][]string `json:"first"` // by field, the sources that come before all others for it
	Guard source.Guard        `json:"guard"`
	Keep  int                 `json:"keep"` // days for which who is gone is kept
}

// rulesSetting is under which name the rules are stored.
const rulesSetting = "directory"

// defaultRules are the rules where none were set.
func defaultRules() Rules {
	return Rules{Match: "mail", First: map[string][]string{}, Guard: source.DefaultGuard, Keep: 30}
}

// match is the field by which records are matched.
func (r Rules) match() string {
	if r.Match == "" {
		return "mail"
	}
	return r.Match
}

// rulesIn reads the rules.
func rulesIn(tx *store.Tx) (Rules, error) {
	rules := defaultRules()
	return rules, tx.Setting(rulesSetting, &rules)
}

// Rules gives how the directory is kept.
func (p *People) Rules(ctx context.Context) (rules Rules, err error) {
	err = p.Store.Read(ctx, func(tx *store.Tx) error {
		rules, err = rulesIn(tx)
		return err
	})
	return rules, err
}

// PutRules stores how the directory is kept, and works everybody out again by it.
func (p *People) PutRules(ctx context.Context, rules Rules) error {
	if rules.First == nil {
		rules.First = map[string][]string{}
	}
	if err := rules.check(); err != nil {
		return err
	}
	return p.Store.Write(ctx, func(tx *store.Tx) error {
		list, err := tx.Sources()
		if err != nil {
			return err
		}
		known := map[string]bool{}
		for _, s := range list {
			known[s.Name] = true
		}
		for field, names := range rules.First {
			for _, name := range names {
				if !known[name] {
					return problem.Missing("source", name).In("first." + field)
				}
			}
		}
		if err := tx.PutSetting(rulesSetting, rules); err != nil {
			return err
		}
		return p.again(tx)
	})
}

// check refuses rules that cannot be kept.
func (r Rules) check() error {
	switch {
	case r.Match != "" && !person.ValidName(r.Match):
		return problem.New(problem.Invalid, "%q is no field.", r.Match).In("match")
	case r.Guard.Gone < 0 || r.Guard.Gone > 100, r.Guard.Blank < 0 || r.Guard.Blank > 100:
		return problem.New(problem.Invalid, "The guard is per cent, from 0 to 100.").In("guard")
	case r.Keep < 0 || r.Keep > 3650:
		return problem.New(problem.Invalid, "Who is gone is kept for 0 to 3650 days.").In("keep")
	}
	return nil
}

// again works everybody out again: after a change of what counts.
func (p *People) again(tx *store.Tx) error {
	a, err := newApplier(tx, 0)
	if err != nil {
		return err
	}
	ids, err := tx.PersonIDs()
	if err != nil {
		return err
	}
	for _, id := range ids {
		a.touched[id] = true
	}
	return a.finish()
}

// Forget removes who has been gone for longer than they are kept, and the changes of runs of before that.
func (p *People) Forget(ctx context.Context) error {
	return p.Store.Write(ctx, func(tx *store.Tx) error {
		rules, err := rulesIn(tx)
		if err != nil {
			return err
		}
		until := tx.At().AddDate(0, 0, -rules.Keep)
		ids, err := tx.LeftBefore(until)
		if err != nil {
			return err
		}
		for _, id := range ids {
			if err := tx.RemovePerson(id); err != nil {
				return err
			}
		}
		if len(ids) > 0 {
			if err := tx.Changed("forgotten", "directory", "", fmt.Sprintf("%d people who had left", len(ids))); err != nil {
				return err
			}
		}
		return tx.DropChanges(tx.At().AddDate(0, 0, -max(rules.Keep, changesKept)))
	})
}

// changesKept is for how many days the changes of runs are kept at least.
const changesKept = 90

// Settle ends plans that were not applied within a day.
func (p *People) Settle(ctx context.Context) error {
	return p.Store.Write(ctx, func(tx *store.Tx) error {
		runs, err := tx.Runs("", 0, 200)
		if err != nil {
			return err
		}
		for _, r := range runs {
			if r.State == store.Planned && tx.At().Sub(r.Planned).Hours() > 24 {
				r.State, r.Ended = store.Dropped, tx.At()
				if err := tx.PutRun(r); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// Watch forgets who left long ago, and ends plans that nobody applied, until the context ends.
func (p *People) Watch(ctx context.Context, every time.Duration) {
	jobs.Every(ctx, every, p.Log, "schedule", func(ctx context.Context) error { return errors.Join(p.Forget(ctx), p.Settle(ctx)) })
}
