package check

import (
	"fmt"
	"slices"
	"strings"

	"missivum/core/client"
	"missivum/core/journey"
	"missivum/core/markup"
)

// causeKey distinguishes causes: the check that reports it, where it stands, and what it is.
type causeKey struct {
	check   string
	start   int
	subject journey.Subject
}

// cause is one thing in the source that profiles do something to, however many of them and to however many elements.
// Findings and the rows of the survival map are both made of causes.
type cause struct {
	causeKey
	first    journey.Event
	nodes    []*markup.Node // the elements, as written
	elements map[int]bool   // by their place in the source
	in       []effect       // for each profile that does something, in the order of the profiles
}

// effect is what one profile does to a cause.
type effect struct {
	profile int
	events  []journey.Event
}

// simulate sends the prepared document through every profile that shows markup, and groups what happens by cause, in
// the order in which the causes are met.
func (p *Pass) simulate() []*cause {
	var order []*cause
	known := map[causeKey]*cause{}
	for i, profile := range p.Profiles {
		if profile.Form != "html" || p.ctx.Err() != nil {
			continue
		}
		_, events := journey.Simulate(profile, p.Doc, client.Render)
		for _, e := range events {
			if e.Behaviour.Check == "" && e.Behaviour.Severity == "" {
				continue // nobody asks about it
			}
			key := causeKey{e.Behaviour.Check, e.Span.Start, e.Subject}
			c := known[key]
			if c == nil {
				c = &cause{causeKey: key, first: e, elements: map[int]bool{}}
				known[key] = c
				order = append(order, c)
			}
			c.add(p, i, e)
		}
	}
	return order
}

// add counts one more event as the effect of a cause, in a profile.
func (c *cause) add(p *Pass, profile int, e journey.Event) {
	if n := p.SourceNode(e.Node); n != nil && !c.elements[n.Open.Start] {
		c.nodes = append(c.nodes, n)
	}
	c.elements[e.Node.Open.Start] = true
	if n := len(c.in); n == 0 || c.in[n-1].profile != profile {
		c.in = append(c.in, effect{profile: profile})
	}
	last := &c.in[len(c.in)-1]
	last.events = append(last.events, e)
}

// behaviours reports the causes that a check is about, each with all profiles concerned.
func (p *Pass) behaviours() {
	for _, c := range p.causes {
		check := p.find(c.check)
		if check == nil || p.harmless(c) {
			continue
		}
		f := c.finding(p, check)
		target := Target{Subject: c.subject, Nodes: c.nodes, Span: c.first.Span, Behaviour: c.first.Behaviour}
		if check.Fix != nil && len(c.nodes) > 0 {
			f.Fix = check.Fix(p, target)
		}
		if check.Idle != nil && len(c.nodes) > 0 {
			if idle := check.Idle(p, target); idle != "" {
				f.Severity, f.Message = client.Note, c.message([]string{idle}, nil)
			}
		}
		p.add(f)
	}
}

// finding is the cause as a finding: the worst severity and the weakest basis count.
func (c *cause) finding(p *Pass, check *Check) Finding {
	f := Finding{Check: check.ID, Offset: c.first.Span.Start, End: c.first.Span.End, Why: check.Why, Remedy: check.Remedy}
	var says []string           // what readers see, each once
	by := map[string][]string{} // the profiles that say it
	for _, in := range c.in {
		id := p.Profiles[in.profile].ID
		f.Clients = append(f.Clients, id)
		for _, e := range in.events {
			b := e.Behaviour
			if weaker(b.Basis, f.Basis) {
				f.Basis = b.Basis
			}
			if b.Severity.Worse(f.Severity) {
				f.Severity = b.Severity
			}
			if len(by[b.Says]) == 0 {
				says = append(says, b.Says)
			}
			if !slices.Contains(by[b.Says], id) {
				by[b.Says] = append(by[b.Says], id)
			}
		}
	}
	f.Message = c.message(says, by)
	return f
}

// weaker reports whether a is a weaker basis than b; the empty one is the strongest.
func weaker(a, b client.Basis) bool {
	rank := []client.Basis{"", client.Measured, client.Published, client.Assumed}
	return slices.Index(rank, a) > slices.Index(rank, b)
}

// happens is what follows the name of the thing in a message.
var happens = map[client.Action]string{
	client.Ignored:   " does nothing here",
	client.Dropped:   " is dropped",
	client.Refused:   " is refused",
	client.Unwrapped: " does not belong here",
	client.Rewritten: " is changed",
}

// message says what happens and what readers see; where profiles differ, which of them.
func (c *cause) message(says []string, by map[string][]string) string {
	what := c.subject.String()
	does := c.first.Behaviour.Does
	if does != client.Ignored || c.first.Behaviour.Match.Structure == "" { // what is built so does something everywhere
		what += happens[does]
	}
	if len(c.elements) > 1 {
		what += fmt.Sprintf(" (on %d elements)", len(c.elements))
	}
	if !c.subject.Code() {
		what = strings.ToUpper(what[:1]) + what[1:]
	}
	if len(says) > 1 {
		for i, s := range says {
			says[i] += " (" + strings.Join(by[s], ", ") + ")"
		}
	}
	return what + ": " + strings.Join(says, "; ") + "."
}
