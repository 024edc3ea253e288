package hostile_test

import (
	"context"
	"errors"
	"maps"
	"os"
	"runtime/debug"
	"slices"
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

// largest finds the largest source of a kind that is accepted; empty for one that is refused at any size.
func largest(s hostile.Source) (string, error) {
	least, most := 0, 1<<20
	_, refused := template.New("x", template.Parts{Source: s.Make(64)})
	if refused != nil {
		return "", refused
	}
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
			_, err := create.From(create.Input{Page: []byte(tmpl.Source), Clean: &clean.Options{}, People: d,
				Person: d.Get(&d.People[0], "mail"), Day: day})
			return err
		},
		"paste": func(context.Context) error {
			_, err := preview.Paste(tmpl, d.Schema, day, "new", &d.People[0])
			return err
		},
	}
}

// longest is how long one work may take before it counts as hanging. What it does take is far less and stands in
// docs/performance.md: two seconds at most on one processor.
const longest = 15 * time.Second

// TestEverySourceAtTheLimits: whatever the kind of source, the largest that is accepted is worked on without hanging, and
// what is larger is refused. In the long form every work is done on every source, otherwise checking and one other.
func TestEverySourceAtTheLimits(t *testing.T) {
	debug.SetMemoryLimit(1 << 30)
	d := people(t)
	slowest, of := time.Duration(0), ""
	for i, s := range hostile.Sources() {
		t.Run(s.Name, func(t *testing.T) {
			source, err := largest(s)
			if source == "" {
				t.Skip(err) // refused at any size
			}
			tmpl, err := template.New("x", template.Parts{Source: source})
			if err != nil {
				t.Fatal(err)
			}
			all := works(d, tmpl)
			names := slices.Sorted(maps.Keys(all))
			for k, name := range names {
				if name != "check" && k != i%len(names) && os.Getenv("MISSIVUM_SOAK") == "" {
					continue
				}
				ctx, cancel := context.WithTimeout(t.Context(), longest)
				begun := time.Now()
				err := all[name](ctx)
				took := time.Since(begun)
				cancel()
				if took > longest || errors.Is(err, context.DeadlineExceeded) {
					t.Errorf("%s hangs on %d bytes", name, len(source))
				}
				if took > slowest {
					slowest, of = took, s.Name+", "+name
				}
			}
		})
	}
	t.Logf("the slowest took %v: %s", slowest.Round(time.Millisecond), of)
}

// TestWorkStopsWithItsContext: whoever asked and went away keeps no processor busy.
func TestWorkStopsWithItsContext(t *testing.T) {
	d, err := demo.Directory()
	if err != nil {
		t.Fatal(err)
	}
	longest := time.Duration(0)
	for _, name := range []string{"inheritance", "unknown fields", "rules for all", "tables", "joins", "word processor", "links in links"} {
		i := slices.IndexFunc(hostile.Sources(), func(s hostile.Source) bool { return s.Name == name })
		source, _ := largest(hostile.Sources()[i])
		tmpl, err := template.New("x", template.Parts{Source: source})
		if err != nil {
			t.Fatal(err)
		}
		for _, work := range []string{"check", "fix", "shrink"} {
			ctx, cancel := context.WithCancel(t.Context())
			ended := make(chan time.Time, 1)
			go func() {
				_ = works(d, tmpl)[work](ctx) // what it says is not asked for
				ended <- time.Now()
			}()
			time.Sleep(20 * time.Millisecond)
			stopped := time.Now()
			cancel()
			select {
			case at := <-ended:
				longest = max(longest, at.Sub(stopped))
			case <-time.After(5 * time.Second):
				t.Errorf("%s goes on with %s", work, name)
			}
		}
	}
	t.Logf("the slowest stopped after %v", longest.Round(time.Millisecond))
}
