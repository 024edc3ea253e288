package shrink

import (
	"context"
	"errors"
	"os"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"missivum/core/check"
	"missivum/core/client"
	"missivum/core/markup"
	"missivum/core/style"
	"missivum/core/template"
	"missivum/demo"
)

func input(t *testing.T, tmpl *template.Template) check.Input {
	t.Helper()
	people, err := demo.Directory()
	if err != nil {
		t.Fatal(err)
	}
	return check.Input{Template: tmpl, People: people, Profiles: client.Shipped(), Day: time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)}
}

func harbour(t *testing.T) *template.Template {
	t.Helper()
	tmpl, err := demo.Template("harbour")
	if err != nil {
		t.Fatal(err)
	}
	return tmpl
}

// measured is the worst figure as the checks measure it, with the setting that fit proposes.
func measured(t *testing.T, in check.Input, id string, compact bool) int {
	t.Helper()
	with := *in.Template
	with.Settings.Compact = compact
	in.Template = &with
	report, err := check.Run(context.Background(), in)
	if err != nil {
		t.Fatal(err)
	}
	for _, b := range report.Budgets {
		if b.Client == id && b.Measure == client.Characters {
			return b.Value
		}
	}
	t.Fatalf("%s has no limit of characters", id)
	return 0
}

func TestFitSaysWhatTheChecksMeasure(t *testing.T) {
	in := input(t, harbour(t))
	for _, id := range []string{"source-webmail", "capped-webmail", "crm-box"} {
		r, err := Run(context.Background(), in, id, 0)
		if err != nil {
			t.Fatal(err)
		}
		if before, after := measured(t, in, id, false), measured(t, in, id, true); r.Before != before || r.After != after {
			t.Errorf("%s: %d and %d, the checks measure %d and %d", id, r.Before, r.After, before, after)
		}
		left := r.Before
		for _, s := range r.Steps {
			if s.Saved < 0 || left-s.Saved != s.Left {
				t.Errorf("%s: %+v after %d", id, s, left)
			}
			left = s.Left
		}
		if left != r.After || r.Fits != (r.After <= r.Target) || r.Compact != (r.Before > r.Target) || r.Fits && len(r.Proposals) > 0 {
			t.Errorf("%s: %+v", id, r)
		}
	}
	if in.Template.Settings.Compact {
		t.Error("the template was changed")
	}
}

func TestProposalsComeOnlyWhenTheyAreNeededAndEndWhenItFits(t *testing.T) {
	in := input(t, harbour(t))
	r, err := Run(context.Background(), in, "source-webmail", 2300)
	if err != nil {
		t.Fatal(err)
	}
	if r.Fits || !r.Reached || len(r.Proposals) != 1 || r.Proposals[0].Costs == "" || r.Proposals[0].Left > 2300 ||
		r.Over != 79 || r.Still != 39 {
		t.Errorf("%+v", r)
	}
	if r, err = Run(context.Background(), in, "source-webmail", 300); err != nil || r.Reached || len(r.Proposals) < 4 {
		t.Errorf("%+v, %v", r, err)
	}
	for _, p := range r.Proposals {
		if p.Saved <= 0 {
			t.Errorf("a proposal that saves nothing: %+v", p)
		}
	}
	if r, err = Run(context.Background(), in, "source-webmail", 9000); err != nil || r.Compact || !r.Fits || r.Over != 0 {
		t.Errorf("%+v, %v", r, err)
	}
}

func TestFitNeedsALimit(t *testing.T) {
	in := input(t, harbour(t))
	if _, err := Run(context.Background(), in, "wordproc-desktop", 0); !errors.Is(err, ErrNoLimit) {
		t.Error(err)
	}
	if r, err := Run(context.Background(), in, "wordproc-desktop", 2000); err != nil || r.Target != 2000 {
		t.Errorf("%+v, %v", r, err)
	}
	if _, err := Run(context.Background(), in, "nonesuch", 0); err == nil {
		t.Error("no error")
	}
	stopped, cancel := context.WithCancel(context.Background())
	cancel()
	if _, err := Run(stopped, in, "crm-box", 0); err == nil {
		t.Error("it went on")
	}
}

// TestTheLongOneFits: 18,000 characters of repeated styles come below the limit without a change of the look.
func TestTheLongOneFits(t *testing.T) {
	data, err := os.ReadFile("../fix/testdata/faulty/long.html")
	if err != nil {
		t.Fatal(err)
	}
	tmpl, err := template.OpenBare(fstest.MapFS{"x.html": {Data: data}}, "x.html")
	if err != nil {
		t.Fatal(err)
	}
	r, err := Run(context.Background(), input(t, tmpl), "capped-webmail", 0)
	if err != nil || r.Before < 14_000 || !r.Fits {
		t.Errorf("%+v, %v", r, err)
	}
}

func TestSpaceAddsUp(t *testing.T) {
	in := input(t, harbour(t))
	who := in.People.Find("maren.lind@brackwater.example")
	space, err := SpaceOf(in, "source-webmail", "", who)
	if err != nil {
		t.Fatal(err)
	}
	sum, outer := 0, 0
	for _, units := range space.Kinds {
		sum += units
	}
	for _, e := range space.Elements {
		if e.Depth == 0 {
			outer += e.Units
		}
		within := 0
		for _, units := range e.Kinds {
			within += units
		}
		if within != e.Units {
			t.Errorf("the kinds in <%s> add up to %d of %d", e.Name, within, e.Units)
		}
		if e.Line == 0 || e.End <= e.Offset {
			t.Errorf("an element without a place: %+v", e)
		}
	}
	if sum != space.Units || outer > space.Units || outer == 0 {
		t.Errorf("%d units, kinds add up to %d, outer elements to %d", space.Units, sum, outer)
	}
	if l := space.Largest(3); len(l) != 3 || l[0].Own < l[1].Own || !strings.Contains("table img a td", l[0].Name) {
		t.Errorf("%+v", l)
	}
	alone := in
	alone.People = nil
	if space, err := SpaceOf(alone, "source-webmail", "", nil); err != nil || space.Units == 0 || space.Person != "" {
		t.Errorf("nobody: %+v, %v", space, err)
	}
	// the marks of places must not be counted
	in.People.People = in.People.People[:1]
	if worst := measured(t, in, "source-webmail", false); in.People.Get(&in.People.People[0],
		"mail") == "maren.lind@brackwater.example" && worst != space.Units {
		t.Errorf("%d units, the checks measure %d", space.Units, worst)
	}
}

// TestProposals: what each takes away, and that it leaves everything else.
func TestProposals(t *testing.T) {
	for _, c := range []struct {
		name, before, after string
		make                func(*markup.Document)
	}{
		{"the word processor's own",
			`<p style="line-height: 20px; mso-line-height-rule: exactly; color: red">x</p><b style="mso-hide: all">y</b>`,
			`<p style="line-height: 20px; color: red">x</p><b>y</b>`, withoutWordStyles},
		{"the second colour of links",
			`<a href="x" style="color: red"><span style="color: red">y</span></a><a href="x"><span style="color: ` +
				`red; font-weight: bold">z</span></a><span style="color: red">a</span>`,
			`<a href="x" style="color: red">y</a><a href="x"><span style="color: red; font-weight: bold">z</span>` +
				`</a><span style="color: red">a</span>`,
			withoutLinkSpans},
		{"long lists of fonts",
			`<p style="font-family: 'Fira Sans', Verdana, Geneva, sans-serif">x</p><p style="font-family: Verdana, ` +
				`sans-serif">y</p><p style="font-family: Verdana, Geneva, Tahoma">z</p>`,
			`<p style="font-family: 'Fira Sans', sans-serif">x</p><p style="font-family: Verdana, sans-serif">y</p>` +
				`<p style="font-family: Verdana, Tahoma">z</p>`,
			shortFonts},
	} {
		doc, err := markup.Parse(c.before)
		if err != nil {
			t.Fatal(err)
		}
		style.ReadAttributes(doc)
		c.make(doc)
		if got := doc.Render(); got != c.after {
			t.Errorf("%s:\n%s\nwant\n%s", c.name, got, c.after)
		}
	}
}

// TestWhatMayBeLeftOut: the largest rows and paragraphs, and never the person's name.
func TestWhatMayBeLeftOut(t *testing.T) {
	doc, err := markup.Parse(`<table><tr><td>{{ cn }}, the longest of all rows of this signature by a good ` +
		`measure</td></tr><tr><td>Registered in Saltmouth, number 0193, at 1 Tide Quay, and so on</td></tr>
<tr><td><img src="a.png" alt=""></td></tr><tr><td> </td></tr></table><p>Fares</p><p>{{ displayName | upper ` +
		`}}</p><p>Ports in five countries</p>`)
	if err != nil {
		t.Fatal(err)
	}
	list := leftOut(doc)
	if len(list) != mostLeftOut {
		t.Fatalf("%d proposals", len(list))
	}
	if !strings.HasPrefix(list[0].title, "Leave out <tr> in line 1: Registered in Saltmouth") ||
		!strings.HasSuffix(list[0].title, "...") || list[0].line != 1 || list[0].costs == "" {
		t.Errorf("%+v", list[0])
	}
	for _, c := range list {
		if strings.Contains(c.title, "cn") || strings.Contains(c.title, "displayName") {
			t.Errorf("the name may not go: %s", c.title)
		}
	}
	again := doc.Clone()
	list[0].make(again)
	if text := again.Render(); strings.Contains(text, "Registered") || !strings.Contains(text, "Fares") || !strings.Contains(text, "a.png") {
		t.Error(text)
	}
}
