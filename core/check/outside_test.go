package check_test

import (
	"context"
	"strings"
	"testing"
	"time"

	"missivum/core/check"
	"missivum/core/client"
	"missivum/core/markup"
	"missivum/core/person"
	"missivum/core/template"
)

func report(t *testing.T, in check.Input, source string) *check.Report {
	t.Helper()
	var err error
	if in.Template, err = template.New("x", template.Parts{Source: source}); err != nil {
		t.Fatal(err)
	}
	in.Day = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	r, err := check.Run(context.Background(), in)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// TestACheckOfSomebodyElse: a check is a value that anybody can write, with a fix.
func TestACheckOfSomebodyElse(t *testing.T) {
	tides := &check.Check{
		ID: "tides", Title: "Tides in capitals", Why: "They are shouted.", Remedy: "Write them small.",
		Run: func(p *check.Pass) {
			for _, n := range p.Source.Elements("b") {
				if !strings.Contains(n.TextContent(), "TIDE") {
					continue
				}
				h := p.Edit()
				h.Rename(n, "span")
				edits, _ := h.Edits()
				p.Report(check.Finding{Span: n.Open, Severity: client.Degrades, Message: "A tide is shouted.",
					Fix: &check.Fix{Title: "Make it plain", Edits: edits, Safe: true}})
			}
		},
	}
	in := check.Input{Profiles: client.Shipped(), Checks: []*check.Check{tides}}
	r := report(t, in, "<p>x</p>\n<b>HIGH TIDE</b><b>low</b>")
	if len(r.Findings) != 1 || r.Findings[0].Check != "tides" || r.Findings[0].Line != 2 ||
		r.Findings[0].Why != "They are shouted." || r.Findings[0].Fix == nil || len(r.Findings[0].Clients) < 5 {
		t.Errorf("%+v", r.Findings)
	}
}

// TestPlacesAreWithinTheSource: whatever place a check names, the finding begins and ends in the source and at letters.
func TestPlacesAreWithinTheSource(t *testing.T) {
	source := "<p>Färja</p>"
	for _, c := range []struct {
		span markup.Span
		text string
	}{
		{markup.Span{Start: 5, End: 6}, "ä"},      // in the middle of a letter
		{markup.Span{Start: 3, End: 5}, "Fä"},     // up to there
		{markup.Span{Start: 9, End: 999}, "</p>"}, // beyond the end
		{markup.Span{Start: -4, End: 3}, "<p>"},
		{markup.Span{Start: 999, End: 1000}, ""},
		{markup.Span{Start: 6, End: 2}, ""},
	} {
		odd := &check.Check{ID: "odd", Title: "Odd", Run: func(p *check.Pass) {
			p.Report(check.Finding{Span: c.span, Severity: client.Note, Message: "Odd."})
		}}
		r := report(t, check.Input{Profiles: client.Shipped(), Checks: []*check.Check{odd}}, source)
		if len(r.Findings) != 1 {
			t.Fatalf("%+v: %+v", c.span, r.Findings)
		}
		f := r.Findings[0]
		if f.Offset < 0 || f.End < f.Offset || f.End > len(source) || source[f.Offset:f.End] != f.Text || c.text != "" && f.Text != c.text {
			t.Errorf("%+v: %d to %d, %q, want %q", c.span, f.Offset, f.End, f.Text, c.text)
		}
	}
}

// TestFindingsNameEverybodyConcerned: the message names two, the finding all of them.
func TestFindingsNameEverybodyConcerned(t *testing.T) {
	people := &person.Directory{Schema: person.NewSchema("mail", "mobile")}
	for _, who := range []string{"a", "b", "c", "d"} {
		mobile := ""
		if who == "d" {
			mobile = "07700 900142"
		}
		people.People = append(people.People, person.Person{Values: []string{who + "@brackwater.example", mobile}})
	}
	r := report(t, check.Input{Profiles: client.Shipped(), People: people}, `<p lang="en">Mobile: {{ mobile }}</p><p>Brackwater Ferries</p>`)
	for _, f := range r.Findings {
		if f.Check == "blank-field" {
			if strings.Join(f.People, " ") != "a@brackwater.example b@brackwater.example c@brackwater.example" ||
				!strings.Contains(f.Message, "1 more") {
				t.Errorf("%+v", f)
			}
			return
		}
	}
	t.Errorf("%+v", r.Findings)
}
