package starter

import (
	"context"
	"testing"
	"time"

	"missivum/core/check"
	"missivum/core/client"
	"missivum/core/person"
	"missivum/demo"
)

func TestStartersBreakNowhere(t *testing.T) {
	all, err := All()
	if err != nil {
		t.Fatal(err)
	}
	if len(all) < 8 {
		t.Errorf("%d starters", len(all))
	}
	d, err := demo.Directory()
	if err != nil {
		t.Fatal(err)
	}
	for _, tmpl := range all {
		if tmpl.Settings.Title == "" || tmpl.Settings.About == "" {
			t.Errorf("%s says nothing about itself", tmpl.Name)
		}
		for name, people := range map[string]*person.Directory{"without people": nil, "with the demo's": d} {
			r, err := check.Run(context.Background(),
				check.Input{Template: tmpl, People: people, Profiles: client.Shipped(), Day: time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)})
			if err != nil {
				t.Fatal(err)
			}
			for _, f := range r.Findings {
				if f.Severity == client.Breaks {
					t.Errorf("%s %s: line %d breaks: %s", tmpl.Name, name, f.Line, f.Message)
				} else if f.Check != "telephone-number" {
					t.Logf("%s %s: line %d %s %s: %s", tmpl.Name, name, f.Line, f.Severity, f.Check, f.Message)
				}
			}
			for _, b := range r.Budgets {
				if b.Exceeded() && b.Client != "crm-box" { // whose box holds a name and a number
					t.Errorf("%s %s: %s of %s is %d of %d", tmpl.Name, name, b.Measure, b.Client, b.Value, b.Limit)
				}
			}
		}
	}
}

func TestUnknownStarters(t *testing.T) {
	for _, name := range []string{"none", "../starters", ""} {
		if _, err := Find(name); err == nil {
			t.Errorf("%q is there", name)
		}
	}
}
