// Package fix puts findings right by the edits that they bring, round after round until none is left that a fix is
// known for, and holds every result against the checks: a fix that brings a new finding is not made. Start with
// Run.
package fix

import (
	"context"
	"fmt"
	"slices"
	"sort"

	"missivum/core/check"
	"missivum/core/field"
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

// mostRounds is how often the source is looked at again; fixes that call for each other end there.
const mostRounds = 30

// Run fixes a template's source. The template itself is not changed. The error is that of the checks, or the
// context's.
func Run(ctx context.Context, in check.Input, o Options) (Result, error) {
	if in.Numbers == nil {
		in.Numbers = &field.Numbers{} // for all rounds
	}
	w := work{in: in, options: o, tried: map[string]bool{}, result: Result{Done: []Done{}, Refused: []Refused{}}}
	report, err := check.Findings(in)
	if err != nil {
		return Result{}, err
	}
	for w.result.Rounds < mostRounds {
		if err := ctx.Err(); err != nil {
			return Result{}, fmt.Errorf("fixing stopped after %d rounds: %w", w.result.Rounds, err)
		}
		next, err := w.round(report)
		if err != nil {
			return Result{}, err
		}
		if next == nil {
			break
		}
		report = next
		w.result.Rounds++
	}
	w.result.Source, w.result.Settings = w.in.Template.Source, w.in.Template.SettingsText
	w.result.Template = w.in.Template
	w.result.Pictures = changedPictures(in.Template, w.in.Template)
	w.result.Findings = report.Findings
	return w.result, nil
}

type work struct {
	in      check.Input
	options Options
	result  Result
	tried   map[string]bool // fixes that brought a new finding
}

// round makes all fixes that do not touch each other, or, when together they bring a new finding, each by itself. It
// gives nil when nothing was left to fix.
func (w *work) round(report *check.Report) (*check.Report, error) {
	batch := w.chosen(report)
	if len(batch) == 0 {
		return nil, nil
	}
	next, brought, err := w.try(report, batch)
	if err != nil {
		return nil, err
	}
	if brought == "" {
		return next, nil
	}
	if len(batch) > 1 {
		batch = batch[:1]
		if next, brought, err = w.try(report, batch); err != nil || brought == "" {
			return next, err
		}
	}
	w.tried[key(batch[0])] = true
	w.result.Refused = append(w.result.Refused, Refused{done(batch[0]), brought})
	return report, nil
}

// chosen are the findings to fix in this round: none whose edits lie over those of another.
func (w *work) chosen(report *check.Report) []check.Finding {
	var batch []check.Finding
	var edits []check.Edit
	files := map[string]bool{} // that are made
	for _, f := range report.Findings {
		if f.Fix == nil || w.tried[key(f)] || !w.asked(f) || w.options.At >= 0 && len(w.result.Done) > 0 {
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
		for _, e := range f.Fix.Edits {
			if !slices.Contains(edits, e) {
				edits = append(edits, e)
			}
		}
		batch = append(batch, f)
	}
	return batch
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
func fits(have, more []check.Edit) bool {
	for _, e := range more {
		for _, h := range have {
			if e != h && e.Start <= h.End && h.Start <= e.End {
				return false
			}
		}
	}
	return true
}

// try makes the fixes of a batch and checks the result. When that has a finding that was not there before, nothing
// is changed and the finding is told.
func (w *work) try(before *check.Report, batch []check.Finding) (*check.Report, string, error) {
	var edits []check.Edit
	var redraws []check.Redraw
	for _, f := range batch {
		redraws = append(redraws, f.Fix.Pictures...)
		for _, e := range f.Fix.Edits {
			if !slices.Contains(edits, e) {
				edits = append(edits, e)
			}
		}
	}
	sort.SliceStable(edits, func(i, j int) bool { return edits[i].Start < edits[j].Start })
	source, err := check.Apply(w.in.Template.Source, edits)
	if err != nil {
		return nil, err.Error(), nil
	}
	in := w.in
	if in.Template, err = with(in.Template, source, redraws); err != nil {
		return nil, err.Error(), nil
	}
	after, err := check.Findings(in)
	if err != nil {
		return nil, "the result cannot be read: " + err.Error(), nil
	}
	if brought := newFinding(before, after); brought != "" {
		return nil, brought, nil
	}
	for _, f := range batch {
		if len(f.Fix.Pictures) > 0 && slices.ContainsFunc(after.Findings, func(a check.Finding) bool { return a.Fix != nil && key(a) == key(f) }) {
			return nil, "the picture that it makes does not put it right", nil
		}
	}
	w.in = in
	for _, f := range batch {
		w.result.Done = append(w.result.Done, done(f))
	}
	return after, "", nil
}

// newFinding tells a finding of a check that has more of them than before, or of a worse severity.
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

func key(f check.Finding) string { return f.Check + "\n" + f.Text + "\n" + f.Fix.Title }

func done(f check.Finding) Done {
	return Done{Check: f.Check, Line: f.Line, Column: f.Column, Message: f.Message, Title: f.Fix.Title, Costs: f.Fix.Costs}
}

// WithSource is the template with another source.
func WithSource(t *template.Template, source string) *template.Template {
	with := *t
	with.Source = source
	return &with
}
