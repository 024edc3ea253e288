package check

import (
	"fmt"
	"slices"
	"strings"

	"missivum/core/client"
	"missivum/core/markup"
)

// causeKey tells causes apart: the check that reports it, where it stands, and what it is.
type causeKey struct {
	check string
	start int
	what  string
}

// cause is one thing in the source that profiles do something to, however many of them and to
// however many elements.
type cause struct {
	finding  Finding
	does     client.Action
	says     []string            // what readers see, each once
	by       map[string][]string // the profiles that say it
	elements map[int]bool        // by their place in the source
	nodes    []*markup.Node      // the elements, as written
	event    client.Event        // the first
	check    *Check
}

// behaviours reports what the profiles do to the document, one finding for each cause with all
// profiles concerned.
func (p *Pass) behaviours() {
	var order []*cause
	causes := map[causeKey]*cause{}
	for _, profile := range p.Profiles {
		if profile.Form != "html" {
			continue
		}
		_, events := client.Simulate(profile, p.Doc, client.Render)
		for _, e := range events {
			check := Find(e.Behaviour.Check)
			if check == nil {
				continue
			}
			key := causeKey{check.ID, e.Span.Start, e.What}
			if causes[key] == nil {
				causes[key] = newCause(check, e)
				order = append(order, causes[key])
			}
			causes[key].add(p, profile.ID, e)
		}
	}
	for _, c := range order {
		c.finding.Message = c.message()
		if c.check.Fix != nil && len(c.nodes) > 0 {
			c.finding.Fix = c.check.Fix(p, c.target())
		}
		p.add(c.finding)
	}
}

// target is what a fix for the cause has to deal with.
func (c *cause) target() target {
	t := target{nodes: c.nodes, span: c.event.Span, behaviour: c.event.Behaviour}
	if property, value, ok := strings.Cut(c.event.What, ": "); ok && !strings.ContainsAny(property, " <") {
		t.property, t.value = property, value
	}
	return t
}

func newCause(check *Check, e client.Event) *cause {
	return &cause{
		event: e, check: check,
		does: e.Behaviour.Does, by: map[string][]string{}, elements: map[int]bool{},
		finding: Finding{Check: check.ID, Offset: e.Span.Start, End: e.Span.End, Why: check.Why, Remedy: check.Remedy, Message: e.What},
	}
}

// add notes that a profile does something for this cause; the worst severity counts.
func (c *cause) add(p *Pass, profile string, e client.Event) {
	if n := p.sourceNode(e.Node); n != nil && !c.elements[n.Open.Start] {
		c.nodes = append(c.nodes, n)
	}
	c.elements[e.Node.Open.Start] = true
	if weaker(e.Behaviour.Basis, c.finding.Basis) {
		c.finding.Basis = e.Behaviour.Basis
	}
	if e.Behaviour.Severity.Worse(c.finding.Severity) {
		c.finding.Severity = e.Behaviour.Severity
	}
	if !slices.Contains(c.finding.Clients, profile) {
		c.finding.Clients = append(c.finding.Clients, profile)
	}
	says := e.Behaviour.Says
	if len(c.by[says]) == 0 {
		c.says = append(c.says, says)
	}
	if !slices.Contains(c.by[says], profile) {
		c.by[says] = append(c.by[says], profile)
	}
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
func (c *cause) message() string {
	what := c.finding.Message
	if c.does != client.Ignored || c.event.Behaviour.Match.Structure == "" { // what is built so does something everywhere
		what += happens[c.does]
	}
	if len(c.elements) > 1 {
		what += fmt.Sprintf(" (on %d elements)", len(c.elements))
	}
	seen := slices.Clone(c.says)
	if len(seen) > 1 {
		for i, says := range seen {
			seen[i] += " (" + strings.Join(c.by[says], ", ") + ")"
		}
	}
	if strings.HasPrefix(what, "a ") || strings.HasPrefix(what, "the ") {
		what = strings.ToUpper(what[:1]) + what[1:]
	}
	return what + ": " + strings.Join(seen, "; ") + "."
}
