package hostile_test

import (
	"context"
	"errors"
	"os"
	"runtime/debug"
	"strings"
	"testing"
	"time"

	"missivum/core/check"
	"missivum/core/clean"
	"missivum/core/client"
	"missivum/core/compose"
	"missivum/core/create"
	"missivum/core/fix"
	"missivum/core/person"
	"missivum/core/preview"
	"missivum/core/shrink"
	"missivum/core/template"
	"missivum/demo"
	"missivum/lab/hostile"
)

var day = time.Date(2026, 11, 27, 0, 0, 0, 0, time.UTC)

// people are a few of the demo organisation, so that the time is the source's and not the directory's.
func people(t *testing.T) *person.Directory {
	t.Helper()
	d, err := demo.Directory()
	if err != nil {
		t.Fatal(err)
	}
	few := *d
	few.People = d.People[:3]
	return &few
}

// largest finds the largest source of a kind that is accepted.
func largest(s hostile.Source) (string, error) {
	least, most := 0, 1<<20
	var refused error
	for least+least/16+8 < most {
		n := (least + most) / 2
		if _, err := template.New("x", template.Parts{Source: s.Make(n)}); err != nil {
			most, refused = n, err
		} else {
			least = n
		}
	}
	return s.Make(least), refused
}

// works are what is done with a source.
func works(d *person.Directory, tmpl *template.Template) map[string]func(context.Context) error {
	in := check.Input{Template: tmpl, People: d, Profiles: client.Shipped(), Day: day}
	return map[string]func(context.Context) error{
		"check": func(ctx context.Context) error { _, err := check.Run(ctx, in); return err },
		"fix":   func(ctx context.Context) error { _, err := fix.Run(ctx, in, fix.Options{At: -1}); return err },
		"fill": func(ctx context.Context) error {
			s, err := compose.Compile(compose.Source{Template: tmpl, Schema: d.Schema, Day: day})
			if err != nil {
				return err
			}
			for _, form := range compose.Forms() {
				s.Fill("new", form, &d.People[0])
			}
			return nil
		},
		"clean":  func(context.Context) error { _, err := clean.Clean(tmpl.Source, clean.Options{}); return err },
		"shrink": func(ctx context.Context) error { _, err := shrink.Run(ctx, in, "source-webmail", 1000); return err },
		"space": func(context.Context) error {
			_, err := shrink.SpaceOf(in, "source-webmail", "new", &d.People[0])
			return err
		},
		"new": func(context.Context) error {
			_, err := create.From(create.Input{Page: []byte(tmpl.Source), Clean: &clean.Options{}, People: d, Person: d.Get(&d.People[0], "mail"), Day: day})
			return err
		},
		"paste": func(context.Context) error {
			_, _, err := preview.Paste(tmpl, d.Schema, day, "new", &d.People[0])
			return err
		},
	}
}

// longest is how long one work may take on a source at the limits.
const longest = 2 * time.Second

// TestEverySourceAtTheLimits: whatever the kind of source, the largest that is accepted is worked on within two seconds.
func TestEverySourceAtTheLimits(t *testing.T) {
	debug.SetMemoryLimit(1 << 30)
	d := people(t)
	only, begun := os.Getenv("HOSTILE"), false
	for _, s := range hostile.Sources() {
		if only != "" && !strings.Contains(s.Name, only) {
			continue
		}
		if from := os.Getenv("FROM"); from != "" && !begun && s.Name != from {
			continue
		}
		begun = true
		t.Run(s.Name, func(t *testing.T) {
			begun := time.Now()
			source, refused := largest(s)
			if took := time.Since(begun); took > 6*time.Second {
				t.Errorf("reading takes %v", took)
			}
			tmpl, err := template.New("x", template.Parts{Source: source})
			if err != nil {
				t.Fatal(err)
			}
			for name, work := range works(d, tmpl) {
				if wanted := os.Getenv("WORK"); wanted != "" && wanted != name {
					continue
				}
				ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
				begun := time.Now()
				err := work(ctx)
				took := time.Since(begun)
				cancel()
				if took > 300*time.Millisecond {
					t.Logf("SLOW %s %s %v", s.Name, name, took)
				}
				if took > longest {
					t.Errorf("%s takes %v on %d bytes (%v)", name, took.Round(time.Millisecond), len(source), refused)
				}
				if err != nil && errors.Is(err, context.DeadlineExceeded) {
					t.Errorf("%s: %v", name, err)
				}
			}
		})
	}
}
