package rule

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"missivum/core/audience"
	"missivum/core/message"
	"missivum/core/person"
	"missivum/core/problem"
)

// Engine is mail rules compiled for people and templates. It may be used by several goroutines at once.
type Engine struct {
	file       File
	people     People
	set        *audience.Set
	assigned   *audience.Assignments
	signatures *Signatures
	inside     map[string]bool
	day        time.Time
	mark       string // of who stamps, for the header field

	release int      // whose rules they are; 0 for none
	open    []string // audiences of its open waves; nil reaches everybody
	before  *Engine  // of the release before, for those whom this one does not reach
	idle    string   // why it leaves every message as it is; blank for an engine with rules
}

// idle is an engine that leaves every message as it is.
func idle(why string) *Engine {
	return &Engine{idle: why, people: nobody{}, inside: map[string]bool{}}
}

// nobody is a directory without people.
type nobody struct{}

func (nobody) ByMail(string) *person.Person { return nil }
func (nobody) Domains() []string            { return nil }

// People finds people by their mail addresses.
type People interface {
	ByMail(address string) *person.Person // nil for nobody; letter case does not count
	Domains() []string                    // the domains of their addresses
}

// Parts is what an engine is made of.
type Parts struct {
	File       File
	People     People
	Schema     *person.Schema
	Signatures *Signatures
	Day        time.Time // for rules with dates
	Mark       string    // of the bundle or the program, for the header field
}

// Compile makes an engine. The error is a problem that names the rule: a template, variant, audience or group that is not there.
func Compile(parts Parts) (*Engine, error) {
	f := parts.File
	e := &Engine{file: f, people: parts.People, signatures: parts.Signatures, inside: map[string]bool{}, day: parts.Day, mark: parts.Mark}
	var err error
	if e.set, err = audience.Compile(f.Audiences, parts.Schema); err != nil {
		return nil, err
	}
	if len(f.Assignments) > 0 {
		if e.assigned, err = audience.Assign(f.Assignments, e.set, situationsOf(f.Assignments)); err != nil {
			return nil, err
		}
		for i, line := range f.Assignments {
			if line.Template != "" && !e.signatures.Has(line.Template, line.Variant) {
				return nil, problem.New(problem.Invalid, "Assignment %d names the template %q%s, which is not there; there is %s.", i+1, line.Template,
					variantSays(line.Variant), strings.Join(e.signatures.Names(), ", "))
			}
		}
	}
	domains := f.Inside
	if len(domains) == 0 {
		domains = e.people.Domains()
	}
	for _, d := range domains {
		e.inside[strings.ToLower(strings.TrimPrefix(d, "."))] = true
	}
	for i := range f.Rules {
		if err := e.checkRule(&f.Rules[i]); err != nil {
			return nil, fmt.Errorf("the rule %s: %w", f.Rules[i].Name, err)
		}
	}
	return e, nil
}

func variantSays(variant string) string {
	if variant == "" {
		return ""
	}
	return " in its variant " + variant
}

// situationsOf are the situations that lines name, with those that are always there.
func situationsOf(lines []audience.Assignment) []string {
	list := slices.Clone(audience.Situations)
	for _, l := range lines {
		if l.Situation != "" && !slices.Contains(list, l.Situation) {
			list = append(list, l.Situation)
		}
	}
	return list
}

// checkRule refuses a rule that names what is not there.
func (e *Engine) checkRule(r *Rule) error {
	t := &r.Then
	if !t.Nothing {
		names := e.signatures.Names()
		if t.Template == "" && e.assigned == nil {
			if len(names) != 1 {
				return problem.New(problem.Invalid, "there are no assignments, and it names no template; there is %s", strings.Join(names, ", "))
			}
			t.Template = names[0]
		}
		for _, v := range []string{t.Variant, t.Short} {
			if t.Template != "" && !e.signatures.Has(t.Template, v) {
				return problem.New(problem.Invalid, "there is no template %q%s; there is %s", t.Template, variantSays(v), strings.Join(names, ", "))
			}
		}
	}
	conditions := append([]Condition{}, r.Except...)
	if r.When != nil {
		conditions = append(conditions, *r.When)
	}
	wanted := []string{r.OnFor}
	for _, c := range conditions {
		if c.Sender != nil {
			wanted = append(wanted, c.Sender.Audience)
		}
		if c.Recipients != nil {
			wanted = append(wanted, c.Recipients.Audience)
		}
	}
	for _, a := range wanted {
		if !e.set.Has(a) {
			return problem.New(problem.Invalid, "there is no audience %q; there is %s", a, strings.Join(e.set.Names(), ", "))
		}
	}
	return nil
}

// Each reports whether recipients of a message are judged one by one.
func (e *Engine) Each(mail Mail) bool { return e.reaching(mail).file.Recipients == "each" }

// reaching is the engine of the newest release that reaches the sender.
func (e *Engine) reaching(mail Mail) *Engine {
	sender := senderOf(mail)
	for ; e.before != nil; e = e.before {
		p := e.people.ByMail(sender)
		if slices.ContainsFunc(e.open, func(name string) bool { return name == "" || p != nil && e.set.In(name, p) }) {
			break
		}
	}
	return e
}

// senderOf is the address whose signature a message would get: that of its header, else of its envelope.
func senderOf(mail Mail) string {
	if from := mail.Message.Addresses("From"); len(from) > 0 && from[0].Address != "" {
		return strings.ToLower(from[0].Address)
	}
	return strings.ToLower(mail.Sender)
}

// Mail is a message with its envelope.
type Mail struct {
	Message     *message.Message
	Sender      string   // of the envelope (RFC 5321, 3.3); blank for reports
	Recipients  []string // of the envelope; none: those that the header names
	OffEnvelope bool     // there is no envelope: the message comes from a file
}

// Outcome is what becomes of a message.
type Outcome string

// The outcomes.
const (
	Stamped   Outcome = "stamped"
	Enclosed  Outcome = "enclosed" // in a message that carries the signature
	Unchanged Outcome = "unchanged"
	Refused   Outcome = "refused" // with a notice to the sender
	Held      Outcome = "held"    // the mail server is asked to try again later
)

// Trace says what the rules did with a message and why. It holds addresses and no content, except where Saw of a condition shows
// what was compared.
type Trace struct {
	MessageID  string           `json:"messageId"`
	Release    int              `json:"release"` // whose rules decided; 0 where none did
	Sender     string           `json:"sender"`  // of the header: whose signature it would be
	Person     bool             `json:"person"`  // the sender is in the directory
	Recipients []string         `json:"recipients"`
	Scope      string           `json:"scope"` // of the recipients: inside, outside or mixed
	Kind       message.Kind     `json:"kind"`
	Rules      []Step           `json:"rules"`
	Outcome    Outcome          `json:"outcome"`
	Failed     bool             `json:"failed"` // it should have been stamped and could not be
	Says       string           `json:"says"`
	Changes    []message.Change `json:"changes"`
	Unsure     bool             `json:"unsure"` // the place of the newest text was unsure
	Before     int              `json:"before"` // bytes
	After      int              `json:"after"`  // bytes
}

// Step is what one rule did.
type Step struct {
	Rule     string  `json:"rule"`
	State    State   `json:"state"` // as it was for this sender and day
	Applies  bool    `json:"applies"`
	Says     string  `json:"says"`
	Lacks    string  `json:"lacks"` // why it does not apply, without what was seen; blank for a rule that applies
	Checked  []Check `json:"checked"`
	Template string  `json:"template"` // what it puts in; blank for nothing
	Variant  string  `json:"variant"`
}

// Check is one condition with the value that it saw.
type Check struct {
	Asks      string `json:"asks"`
	Saw       string `json:"saw"`
	Holds     bool   `json:"holds"`
	Exception bool   `json:"exception"`
}

// Verdict is what becomes of a message, and the trace.
type Verdict struct {
	Raw   []byte // as it goes out
	Trace Trace
}

// facts is what rules ask of a message, found once.
type facts struct {
	mail       Mail
	kind       message.Kind
	sender     string
	person     *person.Person
	recipients []string
	in, out    int // how many recipients are inside and outside
	subject    string
	newest     string
	hasNewest  bool
}

// Judge decides what becomes of a message. trials says that rules in trial are taken as on, to see what they would do.
func (e *Engine) Judge(mail Mail, trials bool) Verdict {
	e = e.reaching(mail)
	f := e.factsOf(mail)
	t := Trace{MessageID: f.mail.Message.Root.Header.Value("Message-ID"), Release: e.release, Sender: f.sender, Person: f.person != nil,
		Recipients: f.recipients,
		Kind:       f.kind, Scope: f.scope(), Before: len(mail.Message.Raw), After: len(mail.Message.Raw), Outcome: Unchanged, Rules: []Step{},
		Changes: []message.Change{}}
	v := Verdict{Raw: mail.Message.Raw, Trace: t}
	switch {
	case e.idle != "":
		v.Trace.Says = e.idle
		return v
	case f.kind.Stamped:
		v.Trace.Says = "It was stamped already."
		return v
	}
	var pieces []message.Piece
	var used []*Rule
	decided := false
	for i := range e.file.Rules {
		r := &e.file.Rules[i]
		step := e.ask(r, f)
		if step.State == Trial && trials {
			step.State = On
		}
		if step.Applies && decided {
			step.Says, step.Lacks = "It would apply, but a rule before it decided.", "a rule before it decided"
			step.Applies = false
		}
		if step.Applies && !r.Then.Nothing {
			piece, template, variant, why := e.piece(r, f)
			step.Template, step.Variant, step.Says = template, variant, why
			if template != "" && step.State == On {
				pieces, used = append(pieces, piece), append(used, r)
			}
		}
		if step.Applies && step.State == On && !r.GoOn {
			decided = true
		}
		v.Trace.Rules = append(v.Trace.Rules, step)
	}
	e.settle(&v, f, pieces, used)
	v.Trace.After = len(v.Raw)
	return v
}

// settle makes the changes and says what became of the message.
func (e *Engine) settle(v *Verdict, f *facts, pieces []message.Piece, used []*Rule) {
	t := &v.Trace
	if len(pieces) == 0 {
		t.Says = e.whyNothing(t)
		return
	}
	m := f.mail.Message
	order := make([]int, len(pieces)) // signatures first: what looks for one must not find what another rule puts in
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int {
		return cmp.Compare(isAdded(pieces[a]), isAdded(pieces[b]))
	})
	pieces, used = inOrder(pieces, order), inOrder(used, order)
	note := "1; rules=" + ruleNames(used) + "; by=" + e.mark
	then := used[0].Then
	if f.kind.Closed != "" {
		switch then.Closed {
		case "refuse":
			t.Outcome, t.Says = Refused, then.Notice
			if t.Says == "" {
				t.Says = "This message is " + f.kind.Closed + ", and the rule " + used[0].Name + " lets no closed messages through."
			}
		case "enclose":
			v.Raw = m.Enclose(pieces[0].Signature, note)
			t.Outcome, t.Says = Enclosed, "The message is "+f.kind.Closed+"; it is enclosed in one that carries "+pieces[0].Signature.Name+"."
		default:
			t.Says = "The message is " + f.kind.Closed + "; it goes out unchanged, as the rule " + used[0].Name + " says."
		}
		return
	}
	result, err := m.Stamp(pieces, note)
	if err != nil {
		t.Failed, t.Says = true, err.Error()
		if then.Failure == "hold" {
			t.Outcome = Held
		}
		return
	}
	t.Changes, t.Unsure = result.Changes, result.Unsure
	if !result.Stamped {
		t.Says = result.Changes[0].Says
		return
	}
	v.Raw, t.Outcome = result.Raw, Stamped
	t.Says = "By the rule " + ruleNames(used) + ": " + strings.TrimSuffix(pieces[0].Signature.Name, ".")
	if c := result.Changes[0]; c.Where != "" {
		t.Says += " " + places[c.Where]
	}
	t.Says += "."
	if result.Unsure {
		t.Says += " The place of the newest text was unsure: " + result.Changes[0].Why
	}
}

// isAdded is 1 for what is put in whatever stands in the message.
func isAdded(p message.Piece) int {
	if p.Already == message.Add {
		return 1
	}
	return 0
}

func inOrder[T any](list []T, order []int) []T {
	out := make([]T, len(list))
	for i, at := range order {
		out[i] = list[at]
	}
	return out
}

func ruleNames(rules []*Rule) string {
	names := make([]string, len(rules))
	for i, r := range rules {
		names[i] = r.Name
	}
	return strings.Join(names, ",")
}

// whyNothing says why a message stays as it is.
func (e *Engine) whyNothing(t *Trace) string {
	for _, s := range t.Rules {
		if s.Applies {
			if s.State == Trial {
				return "The rule " + s.Rule + " is in trial: " + s.Says
			}
			return "The rule " + s.Rule + " applies. " + s.Says
		}
	}
	if len(t.Rules) == 0 {
		return "There are no rules."
	}
	if len(t.Rules) == 1 {
		if lacks := t.Rules[0].Lacks; lacks != "" { // without what was seen, which is content
			return "The rule " + t.Rules[0].Rule + " does not apply: " + lacks + "."
		}
		return "The rule " + t.Rules[0].Rule + " does not apply. " + t.Rules[0].Says
	}
	if kind := unnamedKind(&t.Kind); kind != "" {
		return fmt.Sprintf("None of %d rules applies; this is %s, which a rule must name.", len(t.Rules), kind)
	}
	return fmt.Sprintf("None of %d rules applies.", len(t.Rules))
}

// unnamedKind is the kind for which rules do not hold unless they name it; blank for none.
func unnamedKind(k *message.Kind) string {
	switch {
	case k.Bounce:
		return "a delivery report"
	case k.Receipt:
		return "a read receipt"
	case k.Automatic:
		return "an automatic answer"
	case k.List:
		return "list or bulk mail"
	case k.Calendar:
		return "an invitation"
	}
	return ""
}

// factsOf finds what rules may ask.
func (e *Engine) factsOf(mail Mail) *facts {
	m := mail.Message
	f := &facts{mail: mail, kind: m.Kind(), recipients: mail.Recipients}
	if f.sender = senderOf(mail); f.sender != "" {
		f.person = e.people.ByMail(f.sender)
	}
	if mail.Sender == "" && !mail.OffEnvelope && !f.kind.Receipt && !f.kind.Automatic {
		f.kind.Bounce = true // the null reverse-path (RFC 5321, 4.5.5)
	}
	if len(f.recipients) == 0 {
		for _, field := range []string{"To", "Cc", "Bcc"} {
			for _, a := range m.Addresses(field) {
				f.recipients = append(f.recipients, a.Address)
			}
		}
	}
	for _, r := range f.recipients {
		if e.isInside(r) {
			f.in++
		} else {
			f.out++
		}
	}
	f.subject = m.Root.Header.Text("Subject")
	return f
}

// isInside reports whether an address is inside.
func (e *Engine) isInside(address string) bool {
	_, domain, _ := strings.Cut(strings.ToLower(address), "@")
	for domain != "" {
		if e.inside[domain] {
			return true
		}
		_, domain, _ = strings.Cut(domain, ".")
	}
	return false
}

func (f *facts) scope() string {
	switch {
	case f.in > 0 && f.out > 0:
		return "mixed"
	case f.out > 0:
		return "outside"
	case f.in > 0:
		return "inside"
	}
	return ""
}

// situations are those that a message is in, for assignments and variants.
func (f *facts) situations() []string {
	list := []string{"external"}
	if f.out == 0 && f.in > 0 {
		list = []string{"internal"}
	}
	if f.kind.Conversation == message.New {
		return append(list, "new")
	}
	return append(list, "reply", string(f.kind.Conversation))
}

// ask asks a rule.
func (e *Engine) ask(r *Rule, f *facts) Step {
	s := Step{Rule: r.Name, State: r.State, Checked: []Check{}}
	if r.State == Off {
		s.Says, s.Lacks = "It is off.", "it is off"
		return s
	}
	day := e.day.Format(time.DateOnly)
	if r.From != "" && day < r.From || r.Until != "" && day > r.Until {
		s.Lacks = "it holds from " + or(r.From, "the beginning") + " until " + or(r.Until, "further notice")
		s.Says = "It holds from " + or(r.From, "the beginning") + " until " + or(r.Until, "further notice") + "; today is " + day + "."
		return s
	}
	if r.State == Trial && r.OnFor != "" && f.person != nil && e.set.In(r.OnFor, f.person) {
		s.State = On
	}
	when := r.When
	if when == nil {
		when = &Condition{}
	}
	s.Applies = true
	for _, c := range append(e.unnamed(when, f), e.checks(when, f)...) {
		s.Checked = append(s.Checked, c)
		if s.Applies && !c.Holds {
			s.Applies, s.Says, s.Lacks = false, "It asks for "+c.Asks+"; here: "+c.Saw+".", "it asks for "+c.Asks
		}
	}
	for i := range r.Except {
		checks := e.checks(&r.Except[i], f)
		holds := true
		for _, c := range checks {
			holds = holds && c.Holds
			c.Exception = true
			s.Checked = append(s.Checked, c)
		}
		if holds && s.Applies {
			s.Lacks = "an exception holds: mail " + r.Except[i].Sentence()
			s.Applies, s.Says = false, "An exception holds: mail "+r.Except[i].Sentence()+"."
		}
	}
	if s.Applies && r.Then.Nothing {
		s.Says = "It leaves the message as it is."
	}
	return s
}

func or(text, other string) string {
	if text == "" {
		return other
	}
	return text
}

// unnamed are the kinds that a rule must name to apply to them.
func (e *Engine) unnamed(c *Condition, f *facts) []Check {
	var list []Check
	for _, k := range []struct {
		name string
		is   bool
	}{{"bounce", f.kind.Bounce}, {"receipt", f.kind.Receipt}, {"automatic", f.kind.Automatic}, {"list", f.kind.List},
		{"calendar", f.kind.Calendar}} {
		if k.is && !slices.Contains(c.Kind, k.name) {
			list = append(list, Check{Asks: "mail of a usual kind", Saw: "the kind " + k.name})
		}
	}
	return list
}

// piece is what a rule puts into a message; template is blank where it puts in nothing, and why says why.
func (e *Engine) piece(r *Rule, f *facts) (p message.Piece, template, variant, why string) {
	t := &r.Then
	if f.person == nil {
		return p, "", "", "The sender is nobody in the directory, so there is nothing to fill in."
	}
	template, variant = t.Template, t.Variant
	situation := string(f.kind.Conversation)
	if situation == string(message.Forward) {
		situation = "reply"
	}
	if template == "" {
		line, by := e.assigned.DecideAny(f.person, f.situations())
		a := e.assigned.Lines()[line]
		if a.Template == "" {
			return p, "", "", fmt.Sprintf("Assignment %d gives the sender no signature.", line+1)
		}
		template = a.Template
		if by != "" {
			situation = by
		}
		variant = or(variant, a.Variant)
	}
	variants := e.signatures.Variants(template)
	if variant == "" && !slices.Contains(variants, situation) && f.out == 0 && f.in > 0 && slices.Contains(variants, "internal") {
		situation = "internal"
	}
	variant = audience.Variant(variant, situation, variants)
	signature, err := e.signatures.Signature(template, variant, t.Pictures, f.person)
	if err != nil {
		return p, "", "", err.Error()
	}
	p = message.Piece{Signature: signature, Owner: e.signatures.Owner(f.person), Where: t.Place, Fallback: t.Unsure, Already: t.Already,
		Separator: t.Separator == nil || *t.Separator}
	if t.Already != message.Add {
		p.Known = e.signatures.Known(f.person)
	}
	if t.Already == message.Short {
		if short, err := e.signatures.Signature(template, t.Short, t.Pictures, f.person); err == nil {
			p.Short = &short
		}
	}
	if t.Text == "raise" {
		p.Raise = &message.Look{Font: t.Font, Size: t.Size}
	}
	return p, template, variant, "It puts in " + template + ", " + variant + ", " + places[t.Place] + "."
}
