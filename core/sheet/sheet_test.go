package sheet

import (
	"context"
	"strings"
	"testing"
	"time"

	"missivum/core/check"
	"missivum/core/client"
	"missivum/core/person"
	"missivum/core/template"
	"missivum/demo"
)

func loaded(t *testing.T, name string) (*template.Template, *person.Directory) {
	t.Helper()
	tmpl, err := demo.Template(name)
	if err != nil {
		t.Fatal(err)
	}
	people, err := demo.Directory()
	if err != nil {
		t.Fatal(err)
	}
	return tmpl, people
}

func made(t *testing.T, name string, views ...View) (*Sheet, string) {
	t.Helper()
	tmpl, people := loaded(t, name)
	day := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	in := check.Input{Template: tmpl, People: people, Profiles: client.Shipped(), Day: day}
	report, err := check.Run(context.Background(), in)
	if err != nil {
		t.Fatal(err)
	}
	s, err := Make(t.Context(), Input{Template: tmpl, People: people, Chosen: []int{0, 3}, Profiles: client.Shipped(),
		Views: views, Day: day}, report)
	if err != nil {
		t.Fatal(err)
	}
	page, err := s.HTML()
	if err != nil {
		t.Fatal(err)
	}
	return s, page
}

func TestEveryClientHasALineForEachPerson(t *testing.T) {
	s, page := made(t, "regatta", Light, Dark, blocked)
	if len(s.Sitters) != 2 || len(s.Sitters[0].Lines) != 13 || len(s.Sitters[1].Lines[4].Cells) != 3 {
		t.Fatalf("%d people", len(s.Sitters))
	}
	for _, line := range s.Sitters[0].Lines {
		if (len(line.Breaks) > 0) != strings.Contains("append-rule capped-webmail crm-box gecko-desktop "+
			"inverting-phone source-webmail washing-webmail webkit-desktop webkit-phone webview-desktop wordproc-desktop", line.ID) {
			t.Errorf("%s: %q", line.ID, line.Breaks)
		}
		for _, c := range line.Cells {
			if c.Body == "" && c.Text == "" && c.Same == "" {
				t.Errorf("%s %s shows nothing and does not say why", line.ID, c.View)
			}
		}
	}
	for _, want := range []string{"<title>Regatta: contact sheet</title>", "Safe in 2 of 13 clients", "default-src 'none'",
		"outline:3px dashed", "Survival map", "data:image/png;base64,", "Text only."} {
		if !strings.Contains(page, want) {
			t.Errorf("the page lacks %q", want)
		}
	}
	if strings.Contains(page, "<script") || strings.Contains(page, "https://pictures.brackwater.example/regatta/strip.png") {
		t.Error("the page runs or loads something")
	}
}

func TestValuesCannotLeaveTheirPlace(t *testing.T) {
	s, _ := made(t, "harbour", Light)
	s.Sitters[0].Name, s.Title = `<img src=x onerror=1>`, `"><script>1</script>`
	page, err := s.HTML()
	if err != nil {
		t.Fatal(err)
	}
	if strings.Contains(page, "<img src=x") || strings.Contains(page, "<script>1") {
		t.Error("a name became markup")
	}
}

func TestASecondOpinionStandsBesideItsClient(t *testing.T) {
	s, _ := made(t, "harbour", Light, Dark)
	s.SecondOpinion("wordproc-desktop", "LibreOffice Writer", "data:image/png;base64,AAAA")
	page, err := s.HTML()
	if err != nil {
		t.Fatal(err)
	}
	if len(s.Sitters[0].Lines) != 14 || len(s.Sitters[1].Lines) != 13 || s.Sitters[0].Lines[13].ID != "wordproc-desktop" ||
		!strings.Contains(page, `src="data:image/png;base64,AAAA"`) || !strings.Contains(page, "not this client") {
		t.Errorf("%d lines", len(s.Sitters[0].Lines))
	}
}

func TestChoose(t *testing.T) {
	tmpl, people := loaded(t, "harbour")
	usual, err := Choose(tmpl, people, nil)
	if err != nil || len(usual) != 2 || people.Get(&people.People[usual[0]], "mail") != tmpl.Settings.Sample || usual[0] == usual[1] {
		t.Errorf("%v, %v", usual, err)
	}
	named, err := Choose(tmpl, people, []string{"bo@brackwater.example", tmpl.Settings.Sample})
	if err != nil || len(named) != 2 || people.Get(&people.People[named[0]], "mail") != "bo@brackwater.example" {
		t.Errorf("%v, %v", named, err)
	}
	if _, err := Choose(tmpl, people, []string{"bo@brackwater.exampel"}); err == nil ||
		!strings.Contains(err.Error(), "there is bo@brackwater.example") {
		t.Error(err)
	}
	alone := &person.Directory{Schema: people.Schema, People: people.People[3:4]}
	if list, err := Choose(tmpl, alone, nil); err != nil || len(list) != 1 || list[0] != 0 {
		t.Errorf("one person without the sample: %v, %v", list, err)
	}
	if _, err := Choose(tmpl, &person.Directory{Schema: people.Schema}, nil); err == nil {
		t.Error("nobody is chosen")
	}
}

func TestCheckViews(t *testing.T) {
	if err := CheckViews([]View{blocked, Light}); err != nil {
		t.Error(err)
	}
	if err := CheckViews([]View{Light, "dusk"}); err == nil || !strings.Contains(err.Error(), `"dusk"`) {
		t.Error(err)
	}
}
