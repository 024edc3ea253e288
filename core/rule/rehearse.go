package rule

import (
	"cmp"
	"maps"
	"slices"
	"strings"

	"missivum/core/message"
)

// Rehearsal is what rules would do to stored mail. It holds counts and where messages lie, and nothing of what they say.
type Rehearsal struct {
	Messages   int             `json:"messages"`
	Outcomes   map[Outcome]int `json:"outcomes"`
	Signatures []Count         `json:"signatures"` // how often each was put in
	Rules      []Count         `json:"rules"`      // how often each applied
	Left       []Count         `json:"left"`       // why messages stayed as they are
	Shapes     []Count         `json:"shapes"`     // of the quotations
	Unsure     int             `json:"unsure"`     // stamped at the fallback place
	Failed     int             `json:"failed"`
	Before     int             `json:"before"` // bytes of the stamped messages before
	After      int             `json:"after"`  // bytes of the stamped messages after
	Most       int             `json:"most"`   // bytes that one message grew by at most
	Look       []Look          `json:"look"`   // messages that deserve a look
	More       int             `json:"more"`   // how many more of them there are
}

// Count is how often something was so.
type Count struct {
	What  string `json:"what"`
	Count int    `json:"count"`
}

// Look is a message that deserves a look, and why.
type Look struct {
	Where string `json:"where"` // file, or the number in a mailbox file
	Why   string `json:"why"`
}

// maxLooks is how many messages that deserve a look are listed.
const maxLooks = 200

// Rehearser counts.
type Rehearser struct {
	engine                          *Engine
	r                               Rehearsal
	signatures, rules, left, shapes map[string]int
}

// Rehearse begins a rehearsal. Rules in trial are taken as on where trials says so.
func (e *Engine) Rehearse() *Rehearser {
	return &Rehearser{engine: e, r: Rehearsal{Outcomes: map[Outcome]int{}, Look: []Look{}}, signatures: map[string]int{},
		rules: map[string]int{},
		left:  map[string]int{}, shapes: map[string]int{}}
}

// Message judges one message of a file; where says which.
func (h *Rehearser) Message(where string, raw []byte, trials bool) {
	m := message.Read(raw)
	v := h.engine.Judge(Mail{Message: m, OffEnvelope: true}, trials)
	t := &v.Trace
	h.r.Messages++
	h.r.Outcomes[t.Outcome]++
	for _, s := range t.Rules {
		if s.Applies {
			h.rules[s.Rule]++
		}
		if s.Applies && s.Template != "" && t.Outcome == Stamped {
			h.signatures[s.Template+", "+s.Variant]++
		}
	}
	if t.Outcome == Stamped {
		h.r.Before += t.Before
		h.r.After += t.After
		h.r.Most = max(h.r.Most, t.After-t.Before)
		h.shapes[t.Changes[0].Shape]++
		if t.Unsure {
			h.r.Unsure++
			h.look(where, "The place of the newest text is unsure: "+t.Changes[0].Why)
		} else if t.After-t.Before > 100<<10 {
			h.look(where, "It grows by more than 100 kB.")
		}
	} else {
		h.left[reason(t)]++
	}
	if t.Failed {
		h.r.Failed++
		h.look(where, t.Says)
	}
}

// reason is why a message stays as it is, without what is its own.
func reason(t *Trace) string {
	switch {
	case t.Kind.Stamped:
		return "stamped already"
	case t.Failed:
		return "cannot be changed"
	case t.Kind.Closed != "":
		return t.Kind.Closed
	case t.Kind.Bounce:
		return "delivery report"
	case t.Kind.Receipt:
		return "read receipt"
	case t.Kind.Automatic:
		return "automatic"
	case t.Kind.Calendar:
		return "invitation"
	case t.Kind.List:
		return "mailing list or bulk"
	case len(t.Changes) > 0:
		return strings.TrimSuffix(strings.ToLower(t.Changes[0].Says[:1])+t.Changes[0].Says[1:], ".")
	case !t.Person:
		return "sender not in the directory"
	}
	return "no rule applies"
}

func (h *Rehearser) look(where, why string) {
	if len(h.r.Look) >= maxLooks {
		h.r.More++
		return
	}
	h.r.Look = append(h.r.Look, Look{where, why})
}

// Result is what was counted, the most first.
func (h *Rehearser) Result() Rehearsal {
	h.r.Signatures, h.r.Rules, h.r.Left, h.r.Shapes = counts(h.signatures), counts(h.rules), counts(h.left), counts(h.shapes)
	return h.r
}

func counts(of map[string]int) []Count {
	list := []Count{}
	for _, what := range slices.Sorted(maps.Keys(of)) {
		list = append(list, Count{what, of[what]})
	}
	slices.SortStableFunc(list, func(a, b Count) int { return cmp.Compare(b.Count, a.Count) })
	return list
}
