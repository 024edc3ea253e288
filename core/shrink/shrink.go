// Package shrink brings a signature below a client's limit for the worst person of the directory: first by steps that
// keep the look, each with what it saves, then by proposals that cost something. Start with Run; SpaceOf says what
// takes the space.
package shrink

import (
	"context"
	"fmt"
	"slices"
	"sort"
	"strings"

	"missivum/core/check"
	"missivum/core/client"
	"missivum/core/compact"
	"missivum/core/field"
	"missivum/core/markup"
	"missivum/core/problem"
	"missivum/core/style"
)

// ErrNoLimit is returned for a client without a limit of characters when no target is given.
var ErrNoLimit error = problem.New(problem.Invalid, "this client has no limit of characters; give a target")

// errNoClient is returned for a client that is not among the profiles.
var errNoClient error = problem.New(problem.Invalid, "there is no client profile")

// Step is one thing that was done, and what it saved for the worst person.
type Step struct {
	Title string `json:"title"`
	Saved int    `json:"saved"` // characters
	Left  int    `json:"left"`  // characters of the worst person after it
}

// Proposal is one thing that can be done, and what it costs.
type Proposal struct {
	Step
	Costs string `json:"costs"`
	Line  int    `json:"line,omitempty"` // where it is about one place
}

// Result says how far a signature fits.
type Result struct {
	Client    string     `json:"client"`
	Target    int        `json:"target"` // characters
	Before    int        `json:"before"` // of the worst person
	After     int        `json:"after"`  // with all steps that keep the look
	Person    string     `json:"person"` // the worst one
	Variant   string     `json:"variant"`
	Over      int        `json:"over"`    // people above the target before
	Still     int        `json:"still"`   // people above it after the steps
	Compact   bool       `json:"compact"` // the steps are needed: without them it does not fit
	Steps     []Step     `json:"steps"`
	Proposals []Proposal `json:"proposals"` // none when the steps are enough
	Fits      bool       `json:"fits"`      // with the steps alone
	Reached   bool       `json:"reached"`   // with the proposals too
}

// Run works out how a template gets below a target in characters for a client; 0 takes the client's own limit. The
// template is not changed: template.yaml with compact: true takes the steps that keep the look.
func Run(ctx context.Context, in check.Input, id string, target int) (*Result, error) {
	profile, err := limited(in.Profiles, id, target)
	if err != nil {
		return nil, err
	}
	in.Profiles = []*client.Profile{profile}
	if in.Numbers == nil {
		in.Numbers = &field.Numbers{} // for all trials
	}
	plain := *in.Template
	plain.Settings.Compact = false
	in.Template = &plain
	r := &Result{Client: id, Target: profile.Limits[0].Max, Steps: []Step{}, Proposals: []Proposal{}}
	first, err := worst(ctx, in, 0, nil)
	if err != nil {
		return nil, err
	}
	r.Before, r.Person, r.Variant, r.Over = first.Value, first.Person, first.Variant, first.Over
	left, last := first.Value, first
	for i, step := range compact.Steps() {
		b, err := worst(ctx, in, i+1, nil)
		if err != nil {
			return nil, err
		}
		r.Steps = append(r.Steps, Step{step.Title, left - b.Value, b.Value})
		left, last = b.Value, b
	}
	r.After, r.Still = left, last.Over
	r.Compact = r.Before > r.Target
	r.Fits = left <= r.Target
	r.Reached = r.Fits
	if !r.Fits {
		if err := r.propose(ctx, in, left); err != nil {
			return nil, err
		}
	}
	return r, nil
}

// limited is the profile with the one limit that counts.
func limited(profiles []*client.Profile, id string, target int) (*client.Profile, error) {
	p := client.Book(profiles).Find(id)
	if p == nil {
		return nil, fmt.Errorf("%w %q", errNoClient, id)
	}
	limit := client.Limit{Measure: client.Characters, Severity: client.Breaks, Says: "the target", Basis: client.Assumed}
	if at := slices.IndexFunc(p.Limits, func(l client.Limit) bool { return l.Measure == client.Characters }); at >= 0 {
		limit = p.Limits[at]
	}
	if target > 0 {
		limit.Max = target
	}
	if limit.Max == 0 {
		return nil, ErrNoLimit
	}
	only := *p
	only.Limits = []client.Limit{limit}
	return &only, nil
}

// worst measures everybody with some steps of compact and a change, and gives the largest.
func worst(ctx context.Context, in check.Input, compacting int, change func(*markup.Document)) (check.Budget, error) {
	list, err := check.Budgets(ctx, in, compacting, change)
	if err != nil {
		return check.Budget{}, err
	}
	return list[0], nil
}

// change is one proposal before it is measured.
type change struct {
	title, costs string
	line         int
	make         func(*markup.Document)
}

// propose tries the proposals one on top of the other, the cheapest first, until the target is met.
func (r *Result) propose(ctx context.Context, in check.Input, left int) error {
	changes, err := changesOf(in)
	if err != nil {
		return err
	}
	var made []change
	for _, c := range changes {
		made = append(made, c)
		b, err := worst(ctx, in, compact.All(), func(doc *markup.Document) {
			for _, m := range made {
				m.make(doc)
			}
		})
		if err != nil {
			return err
		}
		if b.Value >= left {
			made = made[:len(made)-1]
			continue
		}
		r.Proposals = append(r.Proposals, Proposal{Step{c.title, left - b.Value, b.Value}, c.costs, c.line})
		left = b.Value
		if left <= r.Target {
			r.Reached = true
			return nil
		}
	}
	return nil
}

// changesOf are the changes that can be proposed, each with what it costs.
func changesOf(in check.Input) ([]change, error) {
	list := []change{
		{title: "Remove the word processor's own properties",
			costs: "its line heights, and what is hidden from it, differ", make: withoutWordStyles},
		{title: "Take the second colour off links", costs: "the word-processor engine shows links in its own blue", make: withoutLinkSpans},
		{title: "Shorten lists of fonts to the first and the generic one",
			costs: "where the first is not there, the client chooses", make: shortFonts},
	}
	doc, err := style.Parse(in.Template.Source)
	if err != nil {
		return nil, err
	}
	return append(list, leftOut(doc)...), nil
}

// withoutWordStyles drops what only the word processor reads.
func withoutWordStyles(doc *markup.Document) {
	for _, n := range doc.Root.Elements() {
		rest := slices.DeleteFunc(slices.Clone(n.Style), func(d markup.Declaration) bool { return strings.HasPrefix(d.Property, "mso-") })
		if len(rest) != len(n.Style) {
			n.SetStyle(rest)
		}
	}
}

// withoutLinkSpans takes elements out of links that repeat the link's look.
func withoutLinkSpans(doc *markup.Document) {
	for _, n := range doc.Root.Elements("span") {
		if n.Parent.Is("a") && len(n.Style) == 1 && n.Style[0].Property == "color" && len(n.Attrs) == 1 {
			n.Unwrap()
		}
	}
}

// shortFonts leaves the first font of each list and the generic one.
func shortFonts(doc *markup.Document) {
	for _, n := range doc.Root.Elements() {
		list := slices.Clone(n.Style)
		for i, d := range list {
			if families := style.Families(d.Value); d.Property == "font-family" && len(families) > 2 {
				first := families[0]
				if strings.Contains(first, " ") {
					first = "'" + first + "'"
				}
				list[i].Value = first + ", " + families[len(families)-1]
			}
		}
		if !slices.Equal(list, n.Style) {
			n.SetStyle(list)
		}
	}
}

// mostLeftOut is how many pieces are proposed to be left out.
const mostLeftOut = 3

// leftOut proposes to leave out the rows and paragraphs without the person's name that take the most source.
func leftOut(doc *markup.Document) []change {
	var pieces []*markup.Node
	for _, n := range doc.Root.Elements("tr", "p") {
		text := n.TextContent()
		if len(n.Elements("table")) > 0 || strings.Contains(text, "cn }}") || strings.Contains(text, "displayName") ||
			strings.TrimSpace(text) == "" && len(n.Elements("img")) == 0 {
			continue
		}
		pieces = append(pieces, n)
	}
	sort.SliceStable(pieces, func(i, j int) bool { return size(pieces[i]) > size(pieces[j]) })
	var list []change
	for _, n := range pieces[:min(mostLeftOut, len(pieces))] {
		text := strings.Join(strings.Fields(n.TextContent()), " ")
		if text == "" {
			text = "a picture"
		}
		if len([]rune(text)) > 50 {
			text = string([]rune(text)[:47]) + "..."
		}
		start := n.Open.Start
		list = append(list, change{
			title: fmt.Sprintf("Leave out <%s> in line %d: %s", n.Name, doc.Place(start).Line, text),
			costs: "its content is gone", line: doc.Place(start).Line,
			make: func(prepared *markup.Document) {
				for _, e := range prepared.Root.Elements(n.Name) {
					if e.Open.Start == start {
						e.Remove()
					}
				}
			},
		})
	}
	return list
}

// size is how many bytes of source an element takes.
func size(n *markup.Node) int { return max(n.Close.End, n.Open.End) - n.Open.Start }
