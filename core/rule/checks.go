package rule

import (
	"fmt"
	"slices"
	"strings"

	"missivum/core/audience"
	"missivum/core/message"
	"missivum/core/person"
)

// checks asks all of a condition and says what each part saw.
func (e *Engine) checks(c *Condition, f *facts) []Check {
	var list []Check
	add := func(holds bool, saw, format string, args ...any) {
		list = append(list, Check{Asks: fmt.Sprintf(format, args...), Saw: saw, Holds: holds})
	}
	if c.Sender != nil {
		list = append(list, e.sender(c.Sender, f)...)
	}
	if r := c.Recipients; r != nil {
		list = append(list, e.recipients(r, f)...)
	}
	if c.Direction != "" {
		direction := f.direction(e)
		add(direction == c.Direction, direction, "mail that is %s", c.Direction)
	}
	if len(c.Kind) > 0 {
		kinds := f.kinds()
		holds := slices.ContainsFunc(c.Kind, func(k string) bool { return slices.Contains(kinds, k) })
		add(holds, strings.Join(kinds, ", "), "the kind %s", either(c.Kind))
	}
	if len(c.Form) > 0 {
		add(slices.Contains(c.Form, string(f.kind.Form)), string(f.kind.Form), "the form %s", either(c.Form))
	}
	size := len(f.mail.Message.Raw)
	if c.Larger > 0 {
		add(size > c.Larger, fmt.Sprintf("%d bytes", size), "more than %d bytes", c.Larger)
	}
	if c.Smaller > 0 {
		add(size < c.Smaller, fmt.Sprintf("%d bytes", size), "less than %d bytes", c.Smaller)
	}
	if h := c.Header; h != nil {
		values := f.mail.Message.Root.Header.Values(h.Name)
		saw := "no such field"
		if len(values) > 0 {
			saw = shortened(strings.Join(values, "; "))
		}
		holds := slices.ContainsFunc(values, func(v string) bool { return contains(v, h.Contains) })
		asks := "the header field " + h.Name
		if h.Contains != "" {
			asks += fmt.Sprintf(" with %q", h.Contains)
		}
		add(holds, saw, "%s", asks)
	}
	if len(c.Subject) > 0 {
		add(anyIn(c.Subject, f.subject), "the subject "+fmt.Sprintf("%q", shortened(f.subject)), "a subject with %s", quotedList(c.Subject))
	}
	if len(c.Text) > 0 {
		text := f.newestText()
		found := slices.IndexFunc(c.Text, func(w string) bool { return contains(text, w) })
		saw := fmt.Sprintf("none of them in %d characters", len([]rune(text)))
		if found >= 0 {
			saw = fmt.Sprintf("%q", c.Text[found])
		}
		add(found >= 0, saw, "newest text with %s", quotedList(c.Text))
	}
	return list
}

func shortened(s string) string {
	if r := []rune(s); len(r) > 80 {
		return string(r[:80]) + "…"
	}
	return s
}

func contains(text, part string) bool {
	return strings.Contains(strings.ToLower(text), strings.ToLower(part))
}

func anyIn(words []string, text string) bool {
	return slices.ContainsFunc(words, func(w string) bool { return contains(text, w) })
}

// sender asks who sent the message.
func (e *Engine) sender(w *Who, f *facts) []Check {
	var list []Check
	add := func(holds bool, saw, asks string) { list = append(list, Check{Asks: asks, Saw: saw, Holds: holds}) }
	who := or(f.sender, "no sender")
	if w.Audience != "" {
		saw := who + " is nobody in the directory"
		holds := false
		if f.person != nil {
			if holds = e.set.In(w.Audience, f.person); holds {
				saw = who + ": " + e.set.Reason(w.Audience, f.person)
			} else {
				saw = who + " is not in it"
			}
		}
		add(holds, saw, "a sender of the audience "+w.Audience)
	}
	if w.Group != "" {
		add(f.person != nil && audience.InGroup(f.person, w.Group), who+" "+groupsOf(f.person), "a sender of the group "+w.Group)
	}
	if len(w.Addresses) > 0 {
		add(slices.ContainsFunc(w.Addresses, func(a string) bool { return strings.EqualFold(a, f.sender) }), who,
			"the sender "+w.sentenceOf(w.Addresses))
	}
	if len(w.Domains) > 0 {
		add(inDomain(f.sender, w.Domains), who, "a sender of the domain "+either(w.Domains))
	}
	return list
}

func (w *Who) sentenceOf(addresses []string) string {
	if len(addresses) > 3 {
		return fmt.Sprintf("one of %d addresses", len(addresses))
	}
	return either(addresses)
}

// groupsOf says which groups a person is in.
func groupsOf(p *person.Person) string {
	switch {
	case p == nil:
		return "is nobody in the directory"
	case len(p.Groups) == 0:
		return "is in no group"
	case len(p.Groups) > 4:
		return fmt.Sprintf("is in %d others", len(p.Groups))
	}
	return "is in " + strings.Join(p.Groups, ", ")
}

// inDomain reports whether an address is of one of the domains, or of one below them.
func inDomain(address string, domains []string) bool {
	_, domain, _ := strings.Cut(strings.ToLower(address), "@")
	return slices.ContainsFunc(domains, func(d string) bool {
		d = strings.ToLower(strings.TrimPrefix(d, "."))
		return domain == d || strings.HasSuffix(domain, "."+d)
	})
}

// recipients asks to whom the message goes.
func (e *Engine) recipients(r *Recipients, f *facts) []Check {
	var list []Check
	add := func(holds bool, saw, asks string) { list = append(list, Check{Asks: asks, Saw: saw, Holds: holds}) }
	count := fmt.Sprintf("%d inside, %d outside", f.in, f.out)
	switch r.Scope {
	case "inside":
		add(f.in > 0 && f.out == 0, count, "recipients inside only")
	case "outside":
		add(f.out > 0, count, "at least one recipient outside")
	case "allOutside":
		add(f.out > 0 && f.in == 0, count, "recipients outside only")
	case "mixed":
		add(f.in > 0 && f.out > 0, count, "recipients inside and outside")
	}
	one := func(holds func(address string) bool, asks string) {
		for _, a := range f.recipients {
			if holds(a) {
				add(true, a, asks)
				return
			}
		}
		add(false, fmt.Sprintf("none of %d", len(f.recipients)), asks)
	}
	if r.Audience != "" {
		one(func(a string) bool { p := e.people.ByMail(a); return p != nil && e.set.In(r.Audience, p) },
			"a recipient of the audience "+r.Audience)
	}
	if r.Group != "" {
		one(func(a string) bool { p := e.people.ByMail(a); return p != nil && audience.InGroup(p, r.Group) }, "a recipient of the group "+r.Group)
	}
	if len(r.Addresses) > 0 {
		one(func(a string) bool {
			return slices.ContainsFunc(r.Addresses, func(w string) bool { return strings.EqualFold(a, w) })
		}, "the recipient "+r.sentenceOf(r.Addresses))
	}
	if len(r.Domains) > 0 {
		one(func(a string) bool { return inDomain(a, r.Domains) }, "a recipient of the domain "+either(r.Domains))
	}
	return list
}

// direction says which way the message goes.
func (f *facts) direction(e *Engine) string {
	switch {
	case f.person == nil && !e.isInside(f.sender):
		return "incoming"
	case f.out > 0:
		return "outgoing"
	}
	return "internal"
}

// kinds are the names of the message's kinds.
func (f *facts) kinds() []string {
	list := []string{string(f.kind.Conversation)}
	for _, k := range []struct {
		name string
		is   bool
	}{{"automatic", f.kind.Automatic}, {"bounce", f.kind.Bounce}, {"list", f.kind.List}, {"receipt", f.kind.Receipt},
		{"calendar", f.kind.Calendar}, {"closed", f.kind.Closed != ""}} {
		if k.is {
			list = append(list, k.name)
		}
	}
	return list
}

// newestText is the newest text of the message, as far as it can be read.
func (f *facts) newestText() string {
	if f.hasNewest {
		return f.newest
	}
	f.hasNewest = true
	b := f.mail.Message.Bodies()
	for _, p := range []*message.Part{b.Plain, b.HTML} {
		if p == nil {
			continue
		}
		content, err := f.mail.Message.Content(p)
		if err != nil {
			continue
		}
		place := content.Find(f.mail.Message.HintsOf())
		if f.newest = place.Newest(); f.newest != "" {
			break
		}
	}
	return f.newest
}
