package templates

import (
	"context"
	"fmt"
	"sync"
	"time"

	"missivum/core/check"
	"missivum/core/client"
)

// State counts what the checks find in a template.
type State struct {
	Breaks    int    `json:"breaks"`
	Degrades  int    `json:"degrades"`
	Notes     int    `json:"notes"`
	OverLimit int    `json:"overLimit"` // budgets
	Fails     bool   `json:"fails"`
	Verdict   string `json:"verdict"` // one sentence
}

// mostStates is how many states are kept in memory.
const mostStates = 1000

// states are those that were worked out, by what they depend on.
type states struct {
	mu    sync.Mutex
	known map[string]State
}

// get finds a state that was worked out.
func (s *states) get(key string) (State, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	state, ok := s.known[key]
	return state, ok
}

// put keeps a state; when there are too many, all are worked out anew.
func (s *states) put(key string, state State) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.known == nil || len(s.known) >= mostStates {
		s.known = map[string]State{}
	}
	s.known[key] = state
}

// State checks a template against the profiles that are not switched off and the directory; the answer is kept until
// one of them changes.
func (t *Templates) State(ctx context.Context, s Stored) (State, error) {
	d, revision, err := t.People.Directory(ctx)
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
	key := fmt.Sprintf("%s %s %s %d %s %s", s.Name, s.Version(), s.Public, revision, bookVersion, day.Format(time.DateOnly))
	if state, ok := t.states.get(key); ok {
		return state, nil
	}
	report, err := check.Run(ctx, check.Input{Template: s.Template, People: d, Profiles: profiles, Day: day})
	if err != nil {
		return State{}, err
	}
	state := stateOf(report)
	t.states.put(key, state)
	return state, nil
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
