// Package check finds what will go wrong with a template: one small unit for each fault, the findings
// with their places in the source, and the budgets of the clients with the measured figures for the
// worst person. Start with Run; the checks themselves stand in the list that Checks returns.
package check

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"missivum/core/client"
	"missivum/core/compose"
	"missivum/core/field"
	"missivum/core/markup"
	"missivum/core/person"
	"missivum/core/template"
)

// Finding is one thing that will go wrong.
type Finding struct {
	Check    string          `json:"check"`
	Severity client.Severity `json:"severity"`
	Clients  []string        `json:"clients"`
	Line     int             `json:"line"`   // from 1
	Column   int             `json:"column"` // from 1, in characters
	Offset   int             `json:"offset"` // byte offset of the place in the source
	End      int             `json:"end"`    // byte offset behind it
	Text     string          `json:"text"`   // the source there
	Message  string          `json:"message"`
	Why      string          `json:"why"`
	Remedy   string          `json:"remedy"`
	Basis    client.Basis    `json:"basis,omitempty"`    // of the profiles' statements, the weakest; empty where it is plain
	Fix      *Fix            `json:"fix,omitempty"`      // nil: by hand only
	Accepted string          `json:"accepted,omitempty"` // the reason for which the source accepts it
	People   []string        `json:"people,omitempty"`   // mail addresses of everybody concerned, where it is about some people

	Span markup.Span `json:"-"` // given to Pass.Report: the place, which becomes Offset and End
}

// Budget is one limit of a client with the measured figure for the worst person.
type Budget struct {
	Client   string          `json:"client"`
	Measure  client.Measure  `json:"measure"`
	Limit    int             `json:"limit"`
	Value    int             `json:"value"`
	Unit     string          `json:"unit"`
	Person   string          `json:"person"`  // mail address; empty when it is the same for everybody
	Variant  string          `json:"variant"` // in which the figure is largest
	Sample   int             `json:"sample"`  // of the template's sample person, in that variant; of the first one where there is none
	Least    int             `json:"least"`   // of all people, in that variant
	Median   int             `json:"median"`
	Over     int             `json:"over"` // how many people are over the limit
	Severity client.Severity `json:"severity"`
	Basis    client.Basis    `json:"basis"`
	Says     string          `json:"says"`
}

// Share is the figure as a share of the limit: 1 is all of it.
func (b Budget) Share() float64 { return float64(b.Value) / float64(max(b.Limit, 1)) }

// Exceeded reports whether the figure is above the limit.
func (b Budget) Exceeded() bool { return b.Value > b.Limit }

// Report is what Run finds.
type Report struct {
	Findings []Finding        `json:"findings"`
	Accepted []Finding        `json:"accepted"` // those that the source accepts, with the reason
	Budgets  []Budget         `json:"budgets"`
	Verdict  Verdict          `json:"verdict"`
	Summary  string           `json:"summary"` // how many findings of which severity and limits exceeded, in words
	Values   []template.Value `json:"values"`  // that the template does not take from the directory, and where they come from
	People   int              `json:"people"`  // how many were measured; 0: the field names stood in their place
}

// summary is the report in a line.
func (r *Report) summary() string {
	breaks, over := 0, 0
	for _, f := range r.Findings {
		if f.Severity == client.Breaks {
			breaks++
		}
	}
	for _, b := range r.Budgets {
		if b.Exceeded() {
			over++
		}
	}
	said := fmt.Sprintf("%d findings, %d break", len(r.Findings), breaks)
	if len(r.Findings) == 1 {
		said = fmt.Sprintf("1 finding, %d break", breaks)
	}
	if breaks == 1 {
		said += "s"
	}
	switch over {
	case 0:
		return said
	case 1:
		return said + ", 1 limit exceeded"
	}
	return said + fmt.Sprintf(", %d limits exceeded", over)
}

// Fails reports whether something breaks or a limit is exceeded.
func (r *Report) Fails() bool {
	for _, f := range r.Findings {
		if f.Severity == client.Breaks {
			return true
		}
	}
	for _, b := range r.Budgets {
		if b.Exceeded() {
			return true
		}
	}
	return false
}

// Check is one check.
type Check struct {
	ID      string
	Title   string
	Why     string
	Remedy  string
	Failing string // an example that it finds something in
	Passing string // one that it does not
	// Run looks at the template by itself. A check without it reports the behaviours of client
	// profiles that name it.
	Run func(*Pass)
	// Fix puts one of its findings right. nil: each finding brings its own, or there is none.
	Fix func(*Pass, Target) *Fix
	// Idle says why nobody sees what a client does here, which is then a note; blank for what is seen. nil: always seen.
	Idle func(*Pass, Target) string
}

// Input is what a run looks at.
type Input struct {
	Template *template.Template
	People   *person.Directory // nil: blank fields and budgets are judged without a directory
	Profiles []*client.Profile
	Checks   []*Check  // nil: Checks(); others may stand among them
	Day      time.Time // decides which dated slots are in force
	// Progress is called now and then with for how many people the budgets are measured; nil for none.
	Progress func(done int)
	// Numbers are the telephone numbers that were read already, for several runs one after the other; nil for none.
	Numbers *field.Numbers
}

// Prepare prepares the template as its fragment goes out, which is what the checks look at. The error is field.Errors for
// mistakes in the template language; what could be prepared comes with it.
func (in Input) Prepare() (*compose.Prepared, error) {
	schema := person.NewSchema()
	if in.People != nil {
		schema = in.People.Schema
	}
	return compose.Prepare(in.Template, schema, in.Day, compose.Delivered(in.Template, compose.Fragment, compose.Beside))
}

// withNumbers is the input with a place for telephone numbers.
func (in Input) withNumbers() Input {
	if in.Numbers == nil {
		in.Numbers = &field.Numbers{}
	}
	return in
}

// Run checks a template for the profiles. Mistakes in the template language are findings too. The
// context can stop the measuring of a large directory.
func Run(ctx context.Context, in Input) (*Report, error) {
	in = in.withNumbers()
	r, prepared, err := find(ctx, in)
	if err != nil {
		return nil, err
	}
	if prepared != nil {
		if r.Budgets, err = measure(ctx, prepared, in); err != nil {
			return nil, err
		}
	}
	r.Verdict, r.Summary = verdict(in.Profiles, r), r.summary()
	return r, nil
}

// Findings is Run without the budgets: nobody's signature is measured.
func Findings(ctx context.Context, in Input) (*Report, error) {
	r, _, err := find(ctx, in)
	return r, err
}

// find looks for findings. The prepared template is nil when it has mistakes and cannot be measured.
func find(ctx context.Context, in Input) (*Report, *compose.Prepared, error) {
	p, err := newPass(ctx, in)
	if err != nil {
		return nil, nil, err
	}
	r, err := p.run()
	if err != nil {
		return nil, nil, err
	}
	if len(p.mistakes) > 0 {
		return r, nil, nil
	}
	return r, p.Prepared, nil
}

// newPass prepares the template and sends it through every profile, once.
func newPass(ctx context.Context, in Input) (*Pass, error) {
	prepared, err := in.Prepare()
	var mistakes field.Errors
	if err != nil && !errors.As(err, &mistakes) {
		return nil, err
	}
	p := &Pass{
		Input: in.withNumbers(), Doc: prepared.Doc, Source: prepared.Source, Prepared: prepared, Fields: prepared.FieldSource().Quiet(),
		checks: in.Checks, mistakes: mistakes, ctx: ctx,
	}
	if p.checks == nil {
		p.checks = Checks()
	}
	p.causes = p.simulate()
	return p, p.stopped()
}

// stopped is the reason why nobody waits for the checks any more; nil while somebody does.
func (p *Pass) stopped() error {
	if err := p.ctx.Err(); err != nil {
		return fmt.Errorf("checking stopped: %w", err)
	}
	return nil
}

// run runs the checks.
func (p *Pass) run() (*Report, error) {
	p.language()
	for _, c := range p.checks {
		if err := p.stopped(); err != nil {
			return nil, err
		}
		if c.Run != nil && len(p.htmlClients()) > 0 {
			p.check = c
			c.Run(p)
		}
	}
	p.behaviours()
	r := &Report{Budgets: []Budget{}, Values: p.Template.Values()}
	r.Findings, r.Accepted = p.accept(p.merged())
	if p.People != nil {
		r.People = len(p.People.People)
	}
	return r, p.stopped()
}

// find returns the check of this run with an id, or nil.
func (p *Pass) find(id string) *Check {
	for _, c := range p.checks {
		if c.ID == id {
			return c
		}
	}
	return nil
}

// language turns mistakes of the template language into findings.
func (p *Pass) language() {
	for _, e := range p.mistakes {
		remedy := "Write a field that the directory has; the field list shows them."
		if len(e.Nearest) > 0 {
			remedy = "Probably meant: " + strings.Join(e.Nearest, ", ") + "."
		}
		message := e.Message
		if e.File != "" { // findings stand in the source; this one is reported at its beginning
			message = fmt.Sprintf("%s, line %d, column %d: %s", e.File, e.Line, e.Column, e.Message)
			e.Offset, e.End = 0, 0
		}
		p.add(Finding{
			Check: LanguageID, Severity: client.Breaks, Clients: client.IDs(p.Profiles), Offset: e.Offset, End: e.End,
			Message: message, Why: "A template with a mistake is not filled: it would go out as it stands.", Remedy: remedy,
		})
	}
}

// LanguageID is the check id of mistakes in the template language.
const LanguageID = "template-language"
