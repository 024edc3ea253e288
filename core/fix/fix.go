// Package fix makes the fixes that findings bring, round after round until none is left, and holds every result against
// the checks: a fix that brings a new finding is not made and reported as refused. A template goes in, its fixed source
// and pictures come out. Start with Run.
package fix

import (
	"context"
	"fmt"
	"slices"

	"missivum/core/check"
	"missivum/core/edit"
	"missivum/core/field"
	"missivum/core/person"
	"missivum/core/template"
)

// Options say which findings are put right.
type Options struct {
	// Checks are the ids of checks whose findings are fixed, the costly fixes with them. With none, the safe fixes
	// of all checks are made.
	Checks []string
	// Except are the ids of checks whose findings are left as they are.
	Except []string
	// At is the byte offset of the one finding that is fixed; -1 for all. It needs one check.
	At int
	// Progress is called when fixes were tried, with how many of the findings were settled by then; nil for none.
	Progress func(settled int)
}

// Done is a fix that was made.
type Done struct {
	Check   string `json:"check"`
	Line    int    `json:"line"`   // in the source as it was in that round
	Column  int    `json:"column"` // from 1, in characters
	Message string `json:"message"`
	Title   string `json:"title"` // what was done
	Costs   string `json:"costs,omitempty"`
}

// Refused is a fix that was not made.
type Refused struct {
	Done
	Why string `json:"why"`
}

// Result is the fixed source and what was done to get it.
type Result struct {
	Source   string            `json:"source"`
	Settings string            `json:"settings"` // template.yaml, which names new pictures
	Pictures map[string][]byte `json:"pictures"` // the files that were made, by their path below the picture folder
	Done     []Done            `json:"done"`
	Refused  []Refused         `json:"refused"`
	Rounds   int               `json:"rounds"`
	Findings []check.Finding   `json:"findings"` // what is left

	Template *template.Template `json:"-"` // with all of it
}

// moreRounds is how often the source is looked at again beyond once for each finding that can be fixed; fixes that call
// for each other end there.
const moreRounds = 30

// Run fixes a template's source. The template itself is not changed. Every fix that is asked for is made or refused with
// its reason. The error is that of the checks, or the context's.
func Run(ctx context.Context, in check.Input, o Options) (Result, error) {
	if in.Numbers == nil {
		in.Numbers = &field.Numbers{} // for all rounds
	}
	w := work{in: in, options: o, result: Result{Done: []Done{}, Refused: []Refused{}}}
	report, err := check.Findings(ctx, in)
	if err != nil {
		return Result{}, err
	}
	w.report = report
	if w.sizes, err = w.measured(ctx, in); err != nil {
		w.sizes = nil // a template with mistakes is measured when they are put right
	}
	most := moreRounds + len(report.Findings)
	for w.result.Rounds < most {
		batch := w.chosen()
		if len(batch) == 0 {
			break
		}
		if err := w.make(ctx, batch); err != nil {
			return Result{}, fmt.Errorf("fixing stopped after %d rounds: %w", w.result.Rounds, err)
		}
		w.result.Rounds++
	}
	for _, f := range w.chosen() {
		w.refuse(f, fmt.Sprintf("after %d rounds fixes still call for each other", most))
	}
	w.result.Source, w.result.Settings = w.in.Template.Source, w.in.Template.SettingsText
	w.result.Template = w.in.Template
	w.result.Pictures = changedPictures(in.Template, w.in.Template)
	w.result.Findings = w.report.Findings
	return w.result, nil
}

type work struct {
	in      check.Input
	options Options
	report  *check.Report  // of the source as it is now
	sizes   []check.Budget // of it, for a few people
	result  Result
	refused []refusal
	made    [][]edit.Edit // the edits of each batch that was made, in the order in which they were
}

// refusal is a fix that was tried at a place and not made. The place moves with the edits before it, so that an equal
// finding elsewhere is not taken for it.
type refusal struct {
	check, title string
	offset       int
}

// make makes the fixes of a batch together. When they bring a new finding, each half of the batch is tried by itself,
// down to single fixes: those that bring it are refused, all others made.
func (w *work) make(ctx context.Context, batch []check.Finding) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	why := w.try(ctx, batch)
	if w.options.Progress != nil {
		w.options.Progress(len(w.result.Done) + len(w.result.Refused))
	}
	switch {
	case why == "":
		return nil
	case ctx.Err() != nil:
		return ctx.Err()
	case len(batch) == 1:
		w.refuse(batch[0], why)
		return nil
	}
	half := len(batch) / 2
	first, second := batch[:half], batch[half:]
	before := len(w.made)
	if err := w.make(ctx, first); err != nil {
		return err
	}
	second = moved(second, w.made[before:])
	if len(second) == 0 {
		return nil
	}
	return w.make(ctx, second)
}

func (w *work) refuse(f check.Finding, why string) {
	w.refused = append(w.refused, refusal{f.Check, f.Fix.Title, f.Offset})
	w.result.Refused = append(w.result.Refused, Refused{done(f), why})
}

// moved are findings with their edits at the places where they are after other edits were made, one list after the
// other. Edits that were made already are left out, and findings for which nothing is left to do.
func moved(findings []check.Finding, made [][]edit.Edit) []check.Finding {
	var out []check.Finding
	for _, f := range findings {
		fix := *f.Fix
		fix.Edits = slices.Clone(fix.Edits)
		for _, edits := range made {
			fix.Edits = slices.DeleteFunc(fix.Edits, func(e edit.Edit) bool { return slices.Contains(edits, e) })
			for i := range fix.Edits {
				by := shift(edits, fix.Edits[i].Start)
				fix.Edits[i].Start += by
				fix.Edits[i].End += by
			}
			by := shift(edits, f.Offset)
			f.Offset += by
			f.End += by
		}
		if len(fix.Edits) > 0 || len(fix.Pictures) > 0 {
			f.Fix = &fix
			out = append(out, f)
		}
	}
	return out
}

// shift is by how many bytes a place moves when edits are made.
func shift(edits []edit.Edit, at int) int {
	by := 0
	for _, e := range edits {
		if e.Start < at {
			by += len(e.Text) - (min(e.End, at) - e.Start)
		}
	}
	return by
}

// chosen are the findings to fix in this round: none whose edits lie over those of another.
func (w *work) chosen() []check.Finding {
	var batch []check.Finding
	var edits []edit.Edit
	files := map[string]bool{} // that are made
	for _, f := range w.report.Findings {
		if f.Fix == nil || !w.asked(f) || w.options.At >= 0 && len(w.result.Done) > 0 {
			continue
		}
		if slices.Contains(w.refused, refusal{f.Check, f.Fix.Title, f.Offset}) {
			continue
		}
		if len(w.options.Checks) == 0 && !f.Fix.Safe || !fits(edits, f.Fix.Edits) {
			continue
		}
		if slices.ContainsFunc(f.Fix.Pictures, func(r check.Redraw) bool { return files[r.File] || files[r.From] }) {
			continue // made from a file that is made in this round
		}
		for _, r := range f.Fix.Pictures {
			files[r.File] = true
		}
		edits = union(edits, f.Fix.Edits)
		batch = append(batch, f)
	}
	return batch
}

// union is a list of edits with others behind them, each once.
func union(edits, more []edit.Edit) []edit.Edit {
	for _, e := range more {
		if !slices.Contains(edits, e) {
			edits = append(edits, e)
		}
	}
	return edits
}

func (w *work) asked(f check.Finding) bool {
	if slices.Contains(w.options.Except, f.Check) {
		return false
	}
	if len(w.options.Checks) == 0 {
		return true
	}
	return slices.Contains(w.options.Checks, f.Check) && (w.options.At < 0 || f.Offset == w.options.At)
}

// fits reports whether edits touch none of those already chosen, or are the very same.
func fits(have, more []edit.Edit) bool {
	for _, e := range more {
		for _, h := range have {
			if e != h && e.Start <= h.End && h.Start <= e.End {
				return false
			}
		}
	}
	return true
}

// try makes the fixes of a batch and checks the result. When that has a finding that was not there before, nothing is
// changed and the answer says which.
func (w *work) try(ctx context.Context, batch []check.Finding) (why string) {
	var edits []edit.Edit
	var redraws []check.Redraw
	for _, f := range batch {
		redraws = append(redraws, f.Fix.Pictures...)
		edits = union(edits, f.Fix.Edits)
	}
	source, err := edit.Apply(w.in.Template.Source, edits)
	if err != nil {
		return err.Error()
	}
	in := w.in
	if in.Template, err = with(in.Template, source, redraws); err != nil {
		return err.Error()
	}
	after, err := check.Findings(ctx, in)
	if err != nil {
		return "the result cannot be read: " + err.Error()
	}
	if brought := newFinding(w.report, after); brought != "" {
		return brought
	}
	if harm := w.harm(in.Template, batch); harm != "" {
		return harm
	}
	sizes, err := w.measured(ctx, in)
	if err != nil && w.sizes != nil {
		return "the result cannot be measured: " + err.Error()
	}
	if over := newlyOver(w.sizes, sizes); over != "" {
		return over
	}
	for _, f := range batch {
		if len(f.Fix.Pictures) > 0 && slices.ContainsFunc(after.Findings, func(a check.Finding) bool { return a.Fix != nil && same(a, f) }) {
			return "the picture that it makes does not put it right"
		}
	}
	w.in, w.report, w.sizes = in, after, sizes
	w.made = append(w.made, edits)
	for i := range w.refused {
		w.refused[i].offset += shift(edits, w.refused[i].offset)
	}
	for _, f := range batch {
		w.result.Done = append(w.result.Done, done(f))
	}
	return ""
}

// mostMeasured is for how many people a source is measured after each step.
const mostMeasured = 6

// measured are the limits of the source for the people who strain it most.
func (w *work) measured(ctx context.Context, in check.Input) ([]check.Budget, error) {
	if in.People != nil && len(in.People.People) > mostMeasured {
		few := &person.Directory{Schema: in.People.Schema}
		for _, hard := range person.HardCases(in.People, in.Template.Settings.Country) {
			if len(few.People) < mostMeasured {
				few.People = append(few.People, in.People.People[hard.Index])
			}
		}
		in.People = few
	}
	in.Progress = nil
	return check.Budgets(ctx, in, 0, nil)
}

// newlyOver names a limit that is exceeded now and was not before.
func newlyOver(before, after []check.Budget) string {
	for _, a := range after {
		i := slices.IndexFunc(before, func(b check.Budget) bool { return b.Client == a.Client && b.Measure == a.Measure })
		if i >= 0 && a.Exceeded() && !before[i].Exceeded() {
			return fmt.Sprintf("it would exceed a limit of %s: %d of %d %s", a.Client, a.Value, a.Limit, a.Measure)
		}
	}
	return ""
}

// same reports whether two findings ask for the same in the same text.
func same(a, b check.Finding) bool {
	return a.Check == b.Check && a.Text == b.Text && a.Fix.Title == b.Fix.Title
}

// newFinding names a finding of a check that has more of them than before, or of a worse severity.
func newFinding(before, after *check.Report) string {
	type kind struct {
		check string
		worse bool
	}
	count := map[kind]int{}
	for _, f := range before.Findings {
		count[kind{f.Check, f.Severity == "breaks"}]++
		count[kind{f.Check, false}]++
	}
	for _, f := range after.Findings {
		for _, k := range []kind{{f.Check, f.Severity == "breaks"}, {f.Check, false}} {
			if count[k]--; count[k] < 0 {
				return "it would bring " + f.Check + ": " + f.Message
			}
			if !k.worse {
				break
			}
		}
	}
	return ""
}

func done(f check.Finding) Done {
	return Done{Check: f.Check, Line: f.Line, Column: f.Column, Message: f.Message, Title: f.Fix.Title, Costs: f.Fix.Costs}
}

// withSource is the template with another source.
func withSource(t *template.Template, source string) *template.Template {
	with := *t
	with.Source = source
	return &with
}
