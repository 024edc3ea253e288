package templates

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"missivum/core/check"
	"missivum/core/client"
	"missivum/service/access"
	"missivum/service/store"
)

// State counts what the checks find in a template.
type State struct {
	Breaks    int    `json:"breaks"`
	Degrades  int    `json:"degrades"`
	Notes     int    `json:"notes"`
	OverLimit int    `json:"overLimit"` // budgets
	Fails     bool   `json:"fails"`
	Verdict   string `json:"verdict"` // one sentence
	Pending   bool   `json:"pending"` // it is being checked; ask again

	stopped bool // it took too long, which another time it may not
}

const (
	mostStates = 1000             // kept in memory
	longestRun = 20 * time.Second // that a check for a list may take; then it is stopped, and the list says so
	mostQueued = 200              // templates that wait to be checked; others are asked for again
)

// states are those that were worked out, by what they depend on, and the templates that wait for it. Templates are checked
// one after the other, beside the requests.
type states struct {
	once    sync.Once
	mu      sync.Mutex
	known   map[string]State
	queued  map[string]bool
	waiting []waiting
	working bool
	ended   func(template, key string, state State) // keeps a state that was worked out; nil for nothing
}

// waiting is a template that is to be checked.
type waiting struct {
	template, key string
	in            check.Input
}

// get finds a state that was worked out, or has it worked out. stored gives one that was worked out before the service
// started.
func (s *states) get(template, key string, in func() check.Input, stored func() (State, bool)) State {
	s.mu.Lock()
	defer s.mu.Unlock()
	if state, ok := s.known[key]; ok {
		return state
	}
	if state, ok := stored(); ok {
		s.keep(key, state)
		return state
	}
	if s.queued == nil {
		s.queued = map[string]bool{}
	}
	if !s.queued[key] && len(s.waiting) < mostQueued {
		s.queued[key] = true
		s.waiting = append(s.waiting, waiting{template, key, in()})
		if !s.working {
			s.working = true
			go s.work()
		}
	}
	return State{Pending: true}
}

// work checks what waits.
func (s *states) work() {
	for {
		s.mu.Lock()
		if len(s.waiting) == 0 {
			s.working = false
			s.mu.Unlock()
			return
		}
		next := s.waiting[0]
		s.waiting = s.waiting[1:]
		s.mu.Unlock()
		state := judged(next.in)
		if s.ended != nil && !state.stopped { // stored before anybody sees it
			s.ended(next.template, next.key, state)
		}
		s.mu.Lock()
		delete(s.queued, next.key)
		s.keep(next.key, state)
		s.mu.Unlock()
	}
}

// keep remembers a state.
func (s *states) keep(key string, state State) {
	if s.known == nil || len(s.known) >= mostStates {
		s.known = map[string]State{}
	}
	s.known[key] = state
}

// stored reads a state that was worked out before, by this program.
func (t *Templates) stored(ctx context.Context, template, key string) (state State, ok bool) {
	err := t.Store.Read(ctx, func(tx *store.Tx) error {
		text, err := tx.Verdict(template, key)
		if err != nil || text == "" {
			return err
		}
		ok = json.Unmarshal([]byte(text), &state) == nil
		return nil
	})
	return state, ok && err == nil
}

// store keeps a state that was worked out. One that cannot be kept, because the service ends, is worked out again.
func (t *Templates) store(template, key string, state State) {
	text, err := json.Marshal(state)
	if err != nil {
		return
	}
	ctx := access.With(context.Background(), access.Itself("checks"))
	_ = t.Store.Write(ctx, func(tx *store.Tx) error { return tx.PutVerdict(template, key, string(text)) })
}

// judged checks a template, for as long as that may take.
func judged(in check.Input) State {
	ctx, cancel := context.WithTimeout(context.Background(), longestRun)
	defer cancel()
	report, err := check.Run(ctx, in)
	switch {
	case errors.Is(err, context.DeadlineExceeded):
		return State{Fails: true, Verdict: fmt.Sprintf("Not known: checking was stopped after %v.", longestRun), stopped: true}
	case err != nil:
		return State{Fails: true, Verdict: "It cannot be checked: " + err.Error()}
	}
	return stateOf(report)
}

// State is what the checks find in a template for the profiles that are not switched off and the directory. It is worked
// out beside the request: until then it is pending. It is kept, also over a restart, until one of them or the program changes.
func (t *Templates) State(ctx context.Context, s Stored) (State, error) {
	d, people, _, err := t.People.Assigned(ctx, s.Name)
	if err != nil {
		return State{}, err
	}
	book, bookVersion, err := t.Clients.Book(ctx)
	if err != nil {
		return State{}, err
	}
	profiles, err := book.Select(nil)
	if err != nil {
		return State{}, err
	}
	day := t.Now()
	key := fmt.Sprintf("%s %s %s %s %s %s %s %s", t.Version, s.Name, s.Version(), s.Home.Digest(), s.Public, people,
		bookVersion, day.Format(time.DateOnly))
	t.states.once.Do(func() { t.states.ended = t.store })
	return t.states.get(s.Name, key, func() check.Input {
		return check.Input{Template: s.Template, People: d, Profiles: profiles, Day: day}
	}, func() (State, bool) { return t.stored(ctx, s.Name, key) }), nil
}

// stateOf counts a report.
func stateOf(report *check.Report) State {
	state := State{Fails: report.Fails(), Verdict: report.Verdict.String()}
	for _, f := range report.Findings {
		switch f.Severity {
		case client.Breaks:
			state.Breaks++
		case client.Degrades:
			state.Degrades++
		default:
			state.Notes++
		}
	}
	for _, b := range report.Budgets {
		if b.Exceeded() {
			state.OverLimit++
		}
	}
	return state
}
