package fix

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"missivum/core/check"
	"missivum/core/client"
	"missivum/core/edit"
	"missivum/core/template"
	"missivum/demo"
)

var day = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func input(t *testing.T, tmpl *template.Template) check.Input {
	t.Helper()
	people, err := demo.Directory()
	if err != nil {
		t.Fatal(err)
	}
	return check.Input{Template: tmpl, People: people, Profiles: client.Shipped(), Day: day}
}

func bare(t *testing.T, source string) *template.Template {
	t.Helper()
	tmpl, err := template.OpenBare(fstest.MapFS{"x.html": {Data: []byte(source)}}, "x.html")
	if err != nil {
		t.Fatal(err)
	}
	tmpl.Bare = false
	return tmpl
}

// faulty are the templates made for this, and the demo's.
func faulty(t *testing.T) map[string]*template.Template {
	t.Helper()
	list := map[string]*template.Template{}
	files, err := filepath.Glob("testdata/faulty/*.html")
	if err != nil || len(files) < 12 {
		t.Fatalf("%d faulty templates, %v", len(files), err)
	}
	for _, file := range files {
		data, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		list[strings.TrimSuffix(filepath.Base(file), ".html")] = bare(t, string(data))
	}
	if list["regatta"], err = demo.Template("regatta"); err != nil {
		t.Fatal(err)
	}
	return list
}

// TestFaultyTemplatesAreLeftWithoutASafeFix: after all fixes nothing is left that one is known for, nothing is worse
// than before, and what is not part of an edit is as it was.
func TestFaultyTemplatesAreLeftWithoutASafeFix(t *testing.T) {
	shown := map[string]bool{}
	for name, tmpl := range faulty(t) {
		t.Run(name, func(t *testing.T) {
			in := input(t, tmpl)
			before, err := check.Findings(t.Context(), in)
			if err != nil {
				t.Fatal(err)
			}
			for _, f := range before.Findings {
				shown[f.Check] = true
			}
			r, err := Run(context.Background(), in, Options{At: -1})
			if err != nil {
				t.Fatal(err)
			}
			if len(r.Done) == 0 && name != "deep" {
				t.Error("nothing was fixed")
			}
			for _, f := range r.Findings {
				refused := slices.ContainsFunc(r.Refused, func(d Refused) bool { return d.Check == f.Check })
				if f.Fix != nil && f.Fix.Safe && !refused {
					t.Errorf("left with a safe fix: %d:%d %s %s", f.Line, f.Column, f.Check, f.Message)
				}
			}
			for _, d := range r.Refused {
				t.Logf("refused: %d:%d %s: %s: %s", d.Line, d.Column, d.Check, d.Title, d.Why)
			}
			t.Logf("%d findings before, %d fixes, %d findings left", len(before.Findings), len(r.Done), len(r.Findings))
			noneLeft(t, in, r)
			for _, b := range before.Findings {
				if b.Check == check.LanguageID {
					t.Errorf("the template has a mistake: %s", b.Message)
				}
			}
		})
	}
	for _, c := range check.Checks() {
		if !shown[c.ID] {
			t.Errorf("no faulty template shows %s", c.ID)
		}
	}
}

// noneLeft makes the fixes that cost something too, and wants nothing left that a fix is known for.
func noneLeft(t *testing.T, in check.Input, r Result) {
	t.Helper()
	var costly []string
	for _, f := range r.Findings {
		if f.Fix != nil {
			costly = append(costly, f.Check)
		}
	}
	if len(costly) == 0 {
		return
	}
	in.Template = r.Template
	r, err := Run(context.Background(), in, Options{Checks: costly, At: -1})
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range r.Findings {
		refused := slices.ContainsFunc(r.Refused, func(d Refused) bool { return d.Check == f.Check })
		if f.Fix != nil && !refused && slices.Contains(costly, f.Check) {
			t.Errorf("left with a fix: %d:%d %s %s", f.Line, f.Column, f.Check, f.Message)
		}
	}
	for _, d := range r.Refused {
		t.Logf("refused: %d:%d %s: %s: %s", d.Line, d.Column, d.Check, d.Title, d.Why)
	}
}

func TestOneOrSeveral(t *testing.T) {
	tmpl := bare(t, `<p style="margin: 0; line-height: 20px">a</p><p style="margin: 0; line-height: 30px; box-shadow: 0 0 2px #000">b</p>`)
	in := input(t, tmpl)
	r, err := Run(context.Background(), in, Options{Checks: []string{"line-height-rule"}, At: -1})
	if err != nil || len(r.Done) != 2 || strings.Contains(r.Source, "box-shadow") == false {
		t.Errorf("%+v, %v", r, err)
	}
	r, err = Run(context.Background(), in, Options{Checks: []string{"line-height-rule"}, At: strings.Index(tmpl.Source, "line-height: 30px")})
	if err != nil || len(r.Done) != 1 || strings.Count(r.Source, "exactly") != 1 || !strings.Contains(r.Source, "30px; mso-line-height-rule") {
		t.Errorf("%+v, %v", r, err)
	}
	r, err = Run(context.Background(), in, Options{Checks: []string{"effect-property"}, At: -1})
	if err != nil || len(r.Done) != 1 || r.Done[0].Costs == "" || strings.Contains(r.Source, "box-shadow") {
		t.Errorf("%+v, %v", r, err)
	}
	if r, err = Run(context.Background(), in, Options{At: -1}); err != nil || !strings.Contains(r.Source, "box-shadow") {
		t.Errorf("a costly fix was made unasked: %+v, %v", r, err)
	}
	if r, err := Run(context.Background(), in, Options{At: -1, Except: []string{"line-height-rule"}}); err != nil ||
		strings.Contains(r.Source, "exactly") || len(r.Done) > 0 {
		t.Errorf("%+v, %v", r, err)
	}
	if tmpl.Source == r.Source {
		t.Error("the template itself was changed")
	}
}

// TestAFixThatBringsAFindingIsNotMade: the field is blank for some, and its link would lead nowhere.
func TestAFixThatBringsAFindingIsNotMade(t *testing.T) {
	tmpl := bare(t, `<div>{{ mobile | phone }}, {{ telephoneNumber | or '01632 960100' }} <b>x</b></div>`)
	r, err := Run(context.Background(), input(t, tmpl), Options{Checks: []string{"plain-number"}, At: -1})
	if err != nil {
		t.Fatal(err)
	}
	after, err := check.Findings(t.Context(), check.Input{Template: withSource(tmpl, r.Source), People: input(t, tmpl).People,
		Profiles: client.Shipped(), Day: day})
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range after.Findings {
		if f.Severity == client.Breaks {
			t.Errorf("fixed into %s\n%s", f.Message, r.Source)
		}
	}
}

func TestFixingStops(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if _, err := Run(ctx, input(t, bare(t, `<p>x</p>`)), Options{At: -1}); err == nil || !strings.Contains(err.Error(), "stopped") {
		t.Error(err)
	}
}

// TestWithoutPeople: a template is fixed without a directory too.
func TestWithoutPeople(t *testing.T) {
	in := check.Input{Template: bare(t, `<table><tr><td>{{ cn }}</td></tr></table>`), Profiles: client.Shipped(), Day: day}
	r, err := Run(context.Background(), in, Options{At: -1})
	if err != nil || !strings.Contains(r.Source, `role="presentation"`) || !strings.Contains(r.Source, `cellspacing="2"`) {
		t.Errorf("%+v, %v", r, err)
	}
}

// TestOneBadFixKeepsNoOtherFromBeingMade: of many safe fixes in one round those that would bring a finding are refused
// with the reason, each at its own place, and all others are made.
func TestOneBadFixKeepsNoOtherFromBeingMade(t *testing.T) {
	var source strings.Builder
	source.WriteString(`<p lang="en" style="margin: 0">Brackwater Ferries</p>`)
	for i := range 40 {
		fmt.Fprintf(&source, "\n<!-- %d --><i>x</i>", i)
	}
	tmpl := bare(t, source.String())
	good := &check.Check{ID: "good", Title: "Good", Run: func(p *check.Pass) {
		for i, n := range p.Source.Elements("i") {
			fix := &check.Fix{Title: "Make it bold", Safe: true, Edits: []edit.Edit{{Start: n.Open.Start, End: n.Close.End, Text: "<b>x</b>"}}}
			if i%7 == 3 { // these bring a finding
				fix.Edits[0].Text = "<u>x</u>"
			}
			p.Report(check.Finding{Span: n.Open, Severity: client.Note, Message: "Not bold.", Fix: fix})
		}
	}}
	bad := &check.Check{ID: "bad", Title: "Bad", Run: func(p *check.Pass) {
		for _, n := range p.Source.Elements("u") {
			p.Report(check.Finding{Span: n.Open, Severity: client.Degrades, Message: "Underlined."})
		}
	}}
	in := input(t, tmpl)
	in.Checks = []*check.Check{good, bad}
	r, err := Run(context.Background(), in, Options{At: -1})
	if err != nil {
		t.Fatal(err)
	}
	if strings.Contains(r.Source, "<u>") || len(r.Done)+len(r.Refused) != 40 ||
		strings.Count(r.Source, "<b>") != len(r.Done) || strings.Count(r.Source, "<i>") != len(r.Refused) || len(r.Done) < 34 {
		t.Errorf("%d done, %d refused, %d left\n%s", len(r.Done), len(r.Refused), len(r.Findings), r.Source)
	}
	for _, refused := range r.Refused {
		if !strings.Contains(refused.Why, "Underlined") {
			t.Errorf("%+v", refused)
		}
	}
	ctx, stop := context.WithCancel(context.Background())
	stop()
	if _, err := Run(ctx, in, Options{At: -1}); !errors.Is(err, context.Canceled) {
		t.Errorf("it went on: %v", err)
	}
}

// A fix that would push the signature over a client's limit is refused and says so; below the limit it is made.
func TestFixesStayBelowLimits(t *testing.T) {
	source := func(padding int) string {
		return `<p>{{ cn }} ` + strings.Repeat("x", padding) + `</p><p style="margin: 0">Brackwater</p>`
	}
	tight := *client.Find("capped-webmail")
	tight.Limits = []client.Limit{{Measure: client.Characters, Max: 600, Severity: client.Breaks}}
	run := func(padding int) Result {
		t.Helper()
		in := input(t, bare(t, source(padding)))
		in.Profiles = []*client.Profile{&tight}
		r, err := Run(t.Context(), in, Options{Checks: []string{"default-margins"}, At: -1})
		if err != nil {
			t.Fatal(err)
		}
		return r
	}
	in := input(t, bare(t, source(0)))
	in.Profiles = []*client.Profile{&tight}
	sizes, err := check.Budgets(t.Context(), in, 0, nil)
	if err != nil || len(sizes) != 1 {
		t.Fatalf("%+v, %v", sizes, err)
	}
	if r := run(0); len(r.Done) == 0 {
		t.Fatalf("with room to spare nothing is fixed: %+v", r.Refused)
	}
	r := run(600 - sizes[0].Value - 1)
	refused := slices.ContainsFunc(r.Refused, func(d Refused) bool { return strings.Contains(d.Why, "exceed a limit of capped-webmail") })
	if !refused || len(r.Done) > 0 && r.Template == nil {
		t.Errorf("done %+v, refused %+v", r.Done, r.Refused)
	}
	in.Template = r.Template
	after, err := check.Budgets(t.Context(), in, 0, nil)
	if err != nil || after[0].Exceeded() {
		t.Errorf("%+v, %v", after, err)
	}
}
