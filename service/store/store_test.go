package store

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"missivum/core/person"
)

var now = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func open(t *testing.T) *Store {
	t.Helper()
	s, err := Open(context.Background(), filepath.Join(t.TempDir(), "x.db"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := s.Close(); err != nil {
			t.Error(err)
		}
	})
	return s
}

func TestTemplateVersions(t *testing.T) {
	s, ctx := open(t), context.Background()
	save := func(source string, base int, pictures map[string][]byte) (int, error) {
		return s.SaveTemplate(ctx, TemplateVersion{Template: "crew", Source: source, Created: now, Pictures: pictures}, base)
	}
	if n, err := save("one", 0, map[string][]byte{"a.png": {1}, "b.png": {2}}); n != 1 || err != nil {
		t.Fatalf("%d, %v", n, err)
	}
	if _, err := save("again", 0, nil); !errors.Is(err, ErrConflict) {
		t.Errorf("a second first version: %v", err)
	}
	if n, err := save("two", 1, map[string][]byte{"a.png": {1}}); n != 2 || err != nil {
		t.Fatalf("%d, %v", n, err)
	}
	if _, err := save("late", 1, nil); !errors.Is(err, ErrConflict) {
		t.Errorf("a version made from an old one: %v", err)
	}
	if n, err := save("forced", -1, nil); n != 3 || err != nil {
		t.Errorf("%d, %v", n, err)
	}
	first, err := s.Template(ctx, "crew", 1)
	if err != nil || first.Source != "one" || len(first.Pictures) != 2 || !first.Created.Equal(now) {
		t.Errorf("%+v, %v", first, err)
	}
	latest, err := s.Template(ctx, "crew", 0)
	if err != nil || latest.Number != 3 || len(latest.Pictures) != 0 {
		t.Errorf("%+v, %v", latest, err)
	}
	if _, err := s.Template(ctx, "crew", 9); !errors.Is(err, ErrNotFound) {
		t.Errorf("%v", err)
	}
	if _, err := s.TemplateVersions(ctx, "none"); !errors.Is(err, ErrNotFound) {
		t.Errorf("%v", err)
	}
	var contents int
	if err := s.db.QueryRow(`SELECT COUNT(*) FROM picture_contents`).Scan(&contents); err != nil || contents != 2 {
		t.Errorf("%d pictures are stored for two different ones, %v", contents, err)
	}
}

func TestOfTwoSaversOneIsTold(t *testing.T) {
	s, ctx := open(t), context.Background()
	if _, err := s.SaveTemplate(ctx, TemplateVersion{Template: "x", Created: now}, 0); err != nil {
		t.Fatal(err)
	}
	var wait sync.WaitGroup
	results := make(chan error, 8)
	for i := range 8 {
		wait.Go(func() {
			_, err := s.SaveTemplate(ctx, TemplateVersion{Template: "x", Source: fmt.Sprint(i), Created: now}, 1)
			results <- err
		})
	}
	wait.Wait()
	close(results)
	saved := 0
	for err := range results {
		if err == nil {
			saved++
		} else if !errors.Is(err, ErrConflict) {
			t.Errorf("%v", err)
		}
	}
	if saved != 1 {
		t.Errorf("%d of 8 saved from one version", saved)
	}
}

func TestDirectoryIsReplacedWholeOrNotAtAll(t *testing.T) {
	s, ctx := open(t), context.Background()
	d := &person.Directory{Schema: person.NewSchema("mail", "cn"), People: []person.Person{{Values: []string{"a@b.example", "A"}}, {Values: []string{"c@b.example", "C"}}}}
	if err := s.ReplaceDirectory(ctx, d, 0); err != nil {
		t.Fatal(err)
	}
	twice := &person.Directory{Schema: d.Schema, People: []person.Person{{Values: []string{"x@b.example", "X"}}, {Values: []string{"X@B.example", "Y"}}}}
	if err := s.ReplaceDirectory(ctx, twice, 1); err == nil {
		t.Error("one mail address stands twice")
	}
	if err := s.ReplaceDirectory(ctx, d, 7); !errors.Is(err, ErrConflict) {
		t.Errorf("%v", err)
	}
	back, revision, err := s.Directory(ctx)
	if err != nil || revision != 1 || len(back.People) != 2 || back.Get(&back.People[1], "cn") != "C" {
		t.Errorf("after two refusals: %+v, %d, %v", back, revision, err)
	}
}

func TestPackageRecords(t *testing.T) {
	s, ctx := open(t), context.Background()
	p := Package{ID: "a", Template: "x", State: "running", Created: now}
	if err := s.PutPackage(ctx, p); err != nil {
		t.Fatal(err)
	}
	p.State, p.Finished, p.Bytes = "ready", now.Add(time.Minute), 1<<40
	if err := s.PutPackage(ctx, p); err != nil {
		t.Fatal(err)
	}
	if got, err := s.Package(ctx, "a"); err != nil || got != p {
		t.Errorf("%+v, %v", got, err)
	}
	if err := s.PutPackage(ctx, Package{ID: "b", Created: now.Add(time.Hour)}); err != nil {
		t.Fatal(err)
	}
	if list, err := s.Packages(ctx); err != nil || len(list) != 2 || list[0].ID != "b" {
		t.Errorf("newest first: %+v, %v", list, err)
	}
	if err := s.DeletePackage(ctx, "none"); !errors.Is(err, ErrNotFound) {
		t.Errorf("%v", err)
	}
}
