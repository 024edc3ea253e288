package people

import (
	"context"
	"fmt"
	"io"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"missivum/core/problem"
	"missivum/service/access"
	"missivum/service/store"
)

func open(t *testing.T) *People {
	t.Helper()
	s, err := store.Open(context.Background(), filepath.Join(t.TempDir(), "x.db"), time.Now)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := s.Close(); err != nil {
			t.Error(err)
		}
	})
	return &People{Store: s}
}

func take(t *testing.T, p *People, csv string, replace bool) *Plan {
	t.Helper()
	plan, err := p.Plan(context.Background(), strings.NewReader(csv), nil, replace)
	if err != nil {
		t.Fatal(err)
	}
	if err := p.Apply(access.With(context.Background(), access.Loopback()), plan); err != nil {
		t.Fatal(err)
	}
	return plan
}

// written is the directory as lines of mail and values.
func written(t *testing.T, p *People) string {
	t.Helper()
	d, _, err := p.Directory(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	lines := []string{strings.Join(d.Schema.Names(), ",")}
	for i := range d.People {
		lines = append(lines, strings.Join(d.People[i].Values, ","))
	}
	return strings.Join(lines, "\n")
}

func TestImportsMerge(t *testing.T) {
	p := open(t)
	for _, step := range []struct {
		name, csv                          string
		replace                            bool
		added, changed, removed, unchanged int
		after                              string
	}{
		{"the first file", "mail,cn,title\na@b.example,A,Cook\nc@b.example,C,\n", false, 2, 0, 0, 0,
			"mail,cn,title\na@b.example,A,Cook\nc@b.example,C,"},
		{"the same again", "mail,cn,title\na@b.example,A,Cook\nc@b.example,C,\n", false, 0, 0, 0, 2,
			"mail,cn,title\na@b.example,A,Cook\nc@b.example,C,"},
		{"other order, other case, a new field", "roomNumber,MAIL\n2,C@B.example\n", false, 0, 1, 0, 1,
			"mail,cn,title,roomNumber\na@b.example,A,Cook,\nC@B.example,C,,2"},
		{"a value taken away", "mail,title\na@b.example,\n", false, 0, 1, 0, 1, "mail,cn,title,roomNumber\na@b.example,A,,\nC@B.example,C,,2"},
		{"replaced", "mail,cn\na@b.example,A\nnew@b.example,N\n", true, 1, 0, 1, 1,
			"mail,cn,title,roomNumber\na@b.example,A,,\nnew@b.example,N,,"},
	} {
		plan := take(t, p, step.csv, step.replace)
		if plan.Added != step.added || plan.Changed != step.changed || plan.Removed != step.removed || plan.Unchanged != step.unchanged {
			t.Errorf("%s: %d added, %d changed, %d removed, %d unchanged", step.name, plan.Added, plan.Changed, plan.Removed, plan.Unchanged)
		}
		if got := written(t, p); got != step.after {
			t.Errorf("%s: the directory is\n%s\nwant\n%s", step.name, got, step.after)
		}
	}
}

func TestAPlanChangesNothingAndAgesWithTheDirectory(t *testing.T) {
	p, ctx := open(t), access.With(context.Background(), access.Loopback())
	take(t, p, "mail,cn\na@b.example,A\n", false)
	before := written(t, p)
	plan, err := p.Plan(ctx, strings.NewReader("mail,cn\na@b.example,Changed\n"), nil, false)
	if err != nil || written(t, p) != before {
		t.Errorf("planning changed the directory: %v", err)
	}
	take(t, p, "mail,cn\nx@b.example,X\n", false)
	if err := p.Apply(ctx, plan); !problem.Is(err, problem.Conflict) || plan.Applied {
		t.Errorf("a plan of an older directory was applied: %v", err)
	}
	if _, err := p.Plan(ctx, strings.NewReader("cn\nx\n"), nil, false); !problem.Is(err, problem.Refused) {
		t.Errorf("a file without mail addresses: %v", err)
	}
}

func TestSearch(t *testing.T) {
	p := open(t)
	take(t, p, "mail,cn,l\na@b.example,Ελένη,Port-Lanvec\nc@b.example,Bo,Havsund\n", false)
	d, _, err := p.Directory(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	for text, want := range map[string]int{"": 2, "  ": 2, "havSUND": 1, "ελέν": 1, "b.example": 2, "nobody": 0} {
		if got := len(Search(d, text)); got != want {
			t.Errorf("%q finds %d people, want %d", text, got, want)
		}
	}
}

// A file that would remove people by mistake is refused; the states before the last imports are kept.
func TestRemovingIsConfirmedAndStatesAreKept(t *testing.T) {
	p := open(t)
	p.Folder = filepath.Join(t.TempDir(), "people")
	if err := p.Start(); err != nil {
		t.Fatal(err)
	}
	take(t, p, "mail,cn\na@b.example,A\nb@b.example,B\nc@b.example,C\n", false)
	ctx := access.With(context.Background(), access.Loopback())
	for _, c := range []struct {
		csv     string
		removed int
		kind    problem.Kind
	}{
		{"mail,cn\n", 3, problem.Refused},
		{"mail,cn\n\"a@b.example,A\nb@b.example,B\nc@b.example,C\n", 3, problem.Refused},
		{"mail,cn\na@b.example,A\nbroken\n", 2, problem.Refused},
		{"mail,cn\na@b.example,A\n", 0, problem.Conflict},
		{"mail,cn\na@b.example,A\n", 1, problem.Conflict},
		{"mail,cn\na@b.example,A\n", 2, ""},
		{"mail,cn\na@b.example,A\nb@b.example,B\nc@b.example,C\n", 0, ""},
	} {
		plan, err := p.Plan(ctx, strings.NewReader(c.csv), nil, true)
		if err != nil {
			t.Fatal(err)
		}
		err = plan.Confirm(c.removed)
		if (c.kind == "") != (err == nil) || c.kind != "" && !problem.Is(err, c.kind) {
			t.Errorf("%q, %d confirmed: %v", c.csv, c.removed, err)
		}
	}
	for i := range 5 {
		take(t, p, fmt.Sprintf("mail,cn\na@b.example,A%d\n", i), false)
	}
	states, err := p.States()
	if err != nil || len(states) != 3 || states[0].Revision <= states[2].Revision {
		t.Fatalf("%+v, %v", states, err)
	}
	f, err := p.OpenState(states[0].Revision)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	text, err := io.ReadAll(f)
	if err != nil || !strings.HasPrefix(string(text), "mail,cn\na@b.example,A3\nb@b.example,B\n") {
		t.Errorf("%s, %v", text, err)
	}
	if _, err := p.OpenState(1); !problem.Is(err, problem.NotFound) {
		t.Errorf("%v", err)
	}
}
