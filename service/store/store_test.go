package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"missivum/core/person"

	"github.com/pressly/goose/v3"
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

// TestADatabaseOfTheFirstSchemaIsTakenOver: versions from before texts and authors are still there.
func TestADatabaseOfTheFirstSchemaIsTakenOver(t *testing.T) {
	ctx := context.Background()
	file := filepath.Join(t.TempDir(), "old.db")
	db, err := sql.Open("sqlite", "file:"+file)
	if err != nil {
		t.Fatal(err)
	}
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		t.Fatal(err)
	}
	p, err := goose.NewProvider(goose.DialectSQLite3, db, sub)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := p.UpTo(ctx, 1); err != nil {
		t.Fatal(err)
	}
	for _, statement := range []string{
		`INSERT INTO templates (id, name, created_at) VALUES (1, 'crew', '2026-01-01T00:00:00Z')`,
		`INSERT INTO template_versions (template_id, number, content, source, settings, note, created_at) VALUES (1, 1, 'x', '<p>', 'title: Crew', 'first', '2026-01-01T00:00:00Z')`,
	} {
		if _, err := db.ExecContext(ctx, statement); err != nil {
			t.Fatal(err)
		}
	}
	if err := db.Close(); err != nil {
		t.Fatal(err)
	}
	s, err := Open(ctx, file)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	v, err := s.Template(ctx, "crew", 0)
	if err != nil || v.Number != 1 || v.Source != "<p>" || v.Author != "" || len(v.Texts) != 0 {
		t.Errorf("%+v, %v", v, err)
	}
	v.Texts, v.Author = map[string]string{"template.txt": "x"}, "Imogen"
	if n, err := s.SaveTemplate(ctx, v, 1); err != nil || n != 2 {
		t.Errorf("version %d, %v", n, err)
	}
	if v, err = s.Template(ctx, "crew", 2); err != nil || v.Texts["template.txt"] != "x" || v.Author != "Imogen" {
		t.Errorf("%+v, %v", v, err)
	}
}
