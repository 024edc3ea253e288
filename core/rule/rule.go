// Package rule is mail rules: whose messages, to whom, of which kind, get which signature, where in the message, unless what; and
// the trace, which says of every rule and every condition what it saw and why a message got what it got. It reads and writes
// nothing but what it is given. Start with Parse, Compile and Judge.
package rule

import (
	_ "embed"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"missivum/core/audience"
	"missivum/core/message"
	"missivum/core/problem"
	"missivum/core/schema"
)

// File is a set of mail rules as it is written and stored.
type File struct {
	Inside      []string              `json:"inside,omitempty"`
	Recipients  string                `json:"recipients,omitempty"` // together or each
	Audiences   []audience.Audience   `json:"audiences,omitempty"`
	Assignments []audience.Assignment `json:"assignments,omitempty"`
	Rules       []Rule                `json:"rules"`
}

// Rule is one mail rule.
type Rule struct {
	Name   string      `json:"name"`
	Title  string      `json:"title,omitempty"`
	State  State       `json:"state,omitempty"`
	OnFor  string      `json:"onFor,omitempty"` // in trial: the audience for which it is on
	From   string      `json:"from,omitempty"`  // first day, such as 2026-12-01
	Until  string      `json:"until,omitempty"` // last day
	When   *Condition  `json:"when,omitempty"`
	Except []Condition `json:"except,omitempty"`
	Then   Then        `json:"then"`
	GoOn   bool        `json:"goOn,omitempty"`
}

// State is whether a rule is in force.
type State string

// The states.
const (
	On    State = "on"
	Off   State = "off"
	Trial State = "trial"
)

// Condition is what must hold; all that is named must.
type Condition struct {
	Sender     *Who        `json:"sender,omitempty"`
	Recipients *Recipients `json:"recipients,omitempty"`
	Direction  string      `json:"direction,omitempty"`
	Kind       []string    `json:"kind,omitempty"`
	Form       []string    `json:"form,omitempty"`
	Larger     int         `json:"larger,omitempty"`  // bytes
	Smaller    int         `json:"smaller,omitempty"` // bytes
	Header     *HeaderTest `json:"header,omitempty"`
	Subject    []string    `json:"subject,omitempty"`
	Text       []string    `json:"text,omitempty"`
}

// Who is people; all that is named must hold.
type Who struct {
	Audience  string   `json:"audience,omitempty"`
	Group     string   `json:"group,omitempty"`
	Addresses []string `json:"addresses,omitempty"`
	Domains   []string `json:"domains,omitempty"`
}

// Recipients is what is asked of a message's recipients.
type Recipients struct {
	Scope string `json:"scope,omitempty"`
	Who
}

// HeaderTest asks for a header field, and what stands in it.
type HeaderTest struct {
	Name     string `json:"name"`
	Contains string `json:"contains,omitempty"`
}

// Then is what a rule does.
type Then struct {
	Nothing   bool            `json:"nothing,omitempty"`
	Template  string          `json:"template,omitempty"`
	Variant   string          `json:"variant,omitempty"`
	Place     message.Where   `json:"place,omitempty"`
	Unsure    message.Where   `json:"unsure,omitempty"`
	Already   message.Already `json:"already,omitempty"`
	Short     string          `json:"short,omitempty"`
	Closed    string          `json:"closed,omitempty"` // send, enclose or refuse
	Notice    string          `json:"notice,omitempty"`
	Text      string          `json:"text,omitempty"` // text or raise
	Font      string          `json:"font,omitempty"`
	Size      string          `json:"size,omitempty"`
	Pictures  string          `json:"pictures,omitempty"` // hosted or carried
	Separator *bool           `json:"separator,omitempty"`
	Failure   string          `json:"failure,omitempty"` // send or hold
}

//go:embed rules.schema.json
var schemaText string

// SchemaJSON is the JSON Schema (2020-12) of a file of mail rules.
func SchemaJSON() string { return schemaText }

var compiledSchema = sync.OnceValue(func() *jsonschema.Schema { return schema.MustCompile("rules.json", schemaText) })

// MaxFile is how large a file of mail rules may be, in bytes.
const MaxFile = 2 << 20

// Parse reads mail rules from YAML or JSON and holds them against the schema. What is left out is filled in. An error names the
// line and what is wrong there.
func Parse(data []byte) (_ File, err error) {
	defer func() { err = problem.As(problem.Refused, err) }()
	if len(data) > MaxFile {
		return File{}, problem.New(problem.TooLarge, "The mail rules have more than %d MB.", MaxFile>>20)
	}
	form, _, err := schema.Read(data, compiledSchema(), "the mail rules")
	if err != nil {
		return File{}, err
	}
	text, err := json.Marshal(form)
	if err != nil {
		return File{}, err
	}
	var f File
	if err := json.Unmarshal(text, &f); err != nil {
		return File{}, err
	}
	f.complete()
	seen := map[string]bool{}
	for _, r := range f.Rules {
		if seen[r.Name] {
			return File{}, fmt.Errorf("there are two rules %q", r.Name)
		}
		seen[r.Name] = true
		if err := r.check(); err != nil {
			return File{}, fmt.Errorf("the rule %s: %w", r.Name, err)
		}
	}
	return f, nil
}

// complete fills in what is left out.
func (f *File) complete() {
	if f.Recipients == "" {
		f.Recipients = "together"
	}
	for i := range f.Rules {
		r := &f.Rules[i]
		def(&r.State, On)
		t := &r.Then
		def(&t.Place, message.UnderNewest)
		def(&t.Unsure, message.AtEnd)
		def(&t.Already, message.Leave)
		def(&t.Closed, "send")
		def(&t.Text, "text")
		def(&t.Font, "Arial, sans-serif")
		def(&t.Size, "11pt")
		def(&t.Failure, "send")
		if t.Separator == nil {
			yes := true
			t.Separator = &yes
		}
	}
}

func def[T ~string](value *T, fallback T) {
	if *value == "" {
		*value = fallback
	}
}

// check refuses what the schema cannot.
func (r *Rule) check() error {
	for _, day := range []string{r.From, r.Until} {
		if _, err := time.Parse(time.DateOnly, day); day != "" && err != nil {
			return fmt.Errorf("%q is no day", day)
		}
	}
	if r.From != "" && r.Until != "" && r.Until < r.From {
		return fmt.Errorf("it ends on %s, before it begins on %s", r.Until, r.From)
	}
	if r.OnFor != "" && r.State != Trial {
		return fmt.Errorf("onFor is for rules in trial; this one is %s", r.State)
	}
	if t := r.Then; t.Already == message.Short && t.Short == "" {
		return fmt.Errorf("already: short needs the variant that is the short form, such as short: reply")
	}
	return nil
}

// Default is the rules that hold where none are given: everybody's mail gets what is assigned, under the newest text.
func Default() File {
	f := File{Rules: []Rule{{Name: "everybody", Title: "What is assigned, under the newest text"}}}
	f.complete()
	return f
}

// Sentence says a rule as a sentence.
func (r *Rule) Sentence() string {
	var b strings.Builder
	b.WriteString("Mail")
	if r.When != nil {
		b.WriteString(" " + r.When.Sentence())
	}
	for i, e := range r.Except {
		if i == 0 {
			b.WriteString(", unless it is mail ")
		} else {
			b.WriteString(" or ")
		}
		b.WriteString(e.Sentence())
	}
	if len(r.Except) > 0 {
		b.WriteString(",")
	}
	b.WriteString(" " + r.Then.Sentence() + ".")
	return b.String()
}

// Sentence says a condition as a part of a sentence.
func (c *Condition) Sentence() string {
	var parts []string
	add := func(format string, args ...any) { parts = append(parts, fmt.Sprintf(format, args...)) }
	if len(c.Kind) > 0 {
		add("of the kind %s", either(c.Kind))
	}
	if c.Sender != nil {
		add("from %s", c.Sender.sentence())
	}
	if r := c.Recipients; r != nil {
		if r.Scope != "" {
			add("%s", map[string]string{"inside": "to recipients inside only", "outside": "to at least one recipient outside",
				"allOutside": "to recipients outside only", "mixed": "to recipients inside and outside"}[r.Scope])
		}
		if who := r.Who.sentence(); who != "" {
			add("to %s", who)
		}
	}
	if c.Direction != "" {
		add("that is %s", c.Direction)
	}
	if len(c.Form) > 0 {
		add("in the form %s", either(c.Form))
	}
	if c.Larger > 0 {
		add("larger than %d bytes", c.Larger)
	}
	if c.Smaller > 0 {
		add("smaller than %d bytes", c.Smaller)
	}
	if h := c.Header; h != nil {
		if h.Contains == "" {
			add("with the header field %s", h.Name)
		} else {
			add("whose header field %s contains %q", h.Name, h.Contains)
		}
	}
	if len(c.Subject) > 0 {
		add("whose subject contains %s", quotedList(c.Subject))
	}
	if len(c.Text) > 0 {
		add("whose newest text contains %s", quotedList(c.Text))
	}
	return strings.Join(parts, " ")
}

func (w *Who) sentence() string {
	var parts []string
	if w.Audience != "" {
		parts = append(parts, "the audience "+w.Audience)
	}
	if w.Group != "" {
		parts = append(parts, "the group "+w.Group)
	}
	if len(w.Domains) > 0 {
		parts = append(parts, "the domain "+either(w.Domains))
	}
	if n := len(w.Addresses); n > 3 {
		parts = append(parts, fmt.Sprintf("one of %d addresses", n))
	} else if n > 0 {
		parts = append(parts, either(w.Addresses))
	}
	return strings.Join(parts, " and ")
}

func either(list []string) string {
	if len(list) == 1 {
		return list[0]
	}
	return strings.Join(list[:len(list)-1], ", ") + " or " + list[len(list)-1]
}

func quotedList(list []string) string {
	quoted := make([]string, len(list))
	for i, s := range list {
		quoted[i] = fmt.Sprintf("%q", s)
	}
	return either(quoted)
}

// places are the places as they stand in sentences.
var places = map[message.Where]string{message.UnderNewest: "under the newest text", message.AtEnd: "at the very end",
	message.AtTop: "above everything", message.AtSide: "beside the newest text", message.Nowhere: "nowhere"}

// Sentence says what a rule does.
func (t *Then) Sentence() string {
	if t.Nothing {
		return "stays as it is"
	}
	what := "what is assigned to its sender"
	if t.Template != "" {
		what = "the template " + t.Template
	}
	if t.Variant != "" {
		what += " in its variant " + t.Variant
	}
	s := "gets " + what + " " + places[t.Place]
	switch t.Already {
	case message.Leave:
		s += ", but not if the sender's signature stands there already"
	case message.Replace:
		s += "; a signature of the sender in the newest text is replaced"
	case message.Short:
		s += "; the variant " + t.Short + " if the conversation has a signature of the sender"
	}
	if t.Text == "raise" {
		s += "; plain text is raised to HTML"
	}
	switch t.Closed {
	case "enclose":
		s += "; closed messages are enclosed"
	case "refuse":
		s += "; closed messages are refused"
	}
	return s
}

// Warning is what is wrong with a rule though it can be used.
type Warning struct {
	Rule string `json:"rule"`
	Says string `json:"says"`
}

// Warnings finds rules that can never apply, and those that contradict others.
func (f File) Warnings() []Warning {
	list := []Warning{}
	warn := func(r Rule, format string, args ...any) {
		list = append(list, Warning{r.Name, fmt.Sprintf(format, args...)})
	}
	for i, r := range f.Rules {
		if r.State == Off {
			continue
		}
		for _, e := range f.Rules[:i] {
			if e.State == On && !e.GoOn && e.From == "" && e.Until == "" && len(e.Except) == 0 && covers(e.When, r.When) {
				warn(r, "It can never apply: the rule %s before it applies to all of this mail and does not go on.", e.Name)
				break
			}
		}
		if c := r.When; c != nil {
			if c.Larger > 0 && c.Smaller > 0 && c.Larger >= c.Smaller-1 {
				warn(r, "It can never apply: no message is larger than %d and smaller than %d bytes.", c.Larger, c.Smaller)
			}
			if c.Recipients != nil && (c.Direction == "internal" &&
				slices.Contains([]string{"outside", "allOutside", "mixed"}, c.Recipients.Scope) ||
				c.Direction == "outgoing" && c.Recipients.Scope == "inside") {
				warn(r, "It can never apply: mail that is %s has no recipients %s.", c.Direction, c.Recipients.Scope)
			}
			if c.Direction == "incoming" && !r.Then.Nothing && r.Then.Template == "" {
				warn(r, "Mail from outside has no sender with an assigned template; name a template.")
			}
			if slices.Contains(c.Kind, "closed") && len(c.Kind) == 1 && r.Then.Closed == "send" && !r.Then.Nothing {
				warn(r, "It applies to closed messages only and sends them unchanged, so it changes nothing.")
			}
			for _, e := range r.Except {
				if covers(&e, c) {
					warn(r, "It can never apply: an exception excepts all of its mail.")
				}
			}
		}
		if f.Recipients == "each" && r.When != nil && r.When.Recipients != nil && r.When.Recipients.Scope == "mixed" {
			warn(r, "It can never apply: each recipient is judged alone, and one recipient is never inside and outside.")
		}
		if t := r.Then; !t.Nothing && t.Place == message.AtTop && t.Already != message.Add {
			warn(r, "What stands above everything is looked for as a signature; with already: add it is put in whatever stands there.")
		}
	}
	return list
}

// covers reports whether every message that fulfils b fulfils a, as far as that can be told without messages.
func covers(a, b *Condition) bool {
	if a == nil {
		return true
	}
	if b == nil {
		b = &Condition{}
	}
	same := func(x, y any) bool {
		p, _ := json.Marshal(x)
		q, _ := json.Marshal(y)
		return string(p) == string(q)
	}
	return (a.Sender == nil || same(a.Sender, b.Sender)) && (a.Recipients == nil || same(a.Recipients, b.Recipients)) &&
		(a.Direction == "" || a.Direction == b.Direction) && subset(b.Kind, a.Kind) && subset(b.Form, a.Form) &&
		a.Larger <= b.Larger && (a.Smaller == 0 || b.Smaller != 0 && b.Smaller <= a.Smaller) &&
		(a.Header == nil || same(a.Header, b.Header)) && (a.Subject == nil || same(a.Subject, b.Subject)) &&
		(a.Text == nil || same(a.Text, b.Text))
}

// subset reports whether a list asks for nothing beyond another; an empty one asks for all.
func subset(small, large []string) bool {
	if len(large) == 0 {
		return true
	}
	if len(small) == 0 {
		return false
	}
	for _, s := range small {
		if !slices.Contains(large, s) {
			return false
		}
	}
	return true
}
