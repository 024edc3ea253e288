package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/pressly/goose/v3"

	"missivum/core/problem"
	"missivum/service/access"
)

var (
	now    = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	acting = access.With(context.Background(), access.Loopback())
)

// rig is a store with a clock that stands still until it is set.
type rig struct {
	*Store
	t  *testing.T
	mu sync.Mutex
	at time.Time
}

func open(t *testing.T) *rig {
	t.Helper()
	r := &rig{t: t, at: now}
	s, err := Open(context.Background(), filepath.Join(t.TempDir(), "x.db"), func() time.Time {
		r.mu.Lock()
		defer r.mu.Unlock()
		return r.at
	})
	if err != nil {
		t.Fatal(err)
	}
	r.Store = s
	t.Cleanup(func() {
		if err := s.Close(); err != nil {
			t.Error(err)
		}
	})
	return r
}

func (r *rig) clock(at time.Time) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.at = at
}

func (r *rig) write(work func(*Tx) error) {
	r.t.Helper()
	if err := r.Write(acting, work); err != nil {
		r.t.Fatal(err)
	}
}

func (r *rig) read(work func(*Tx) error) {
	r.t.Helper()
	if err := r.Read(context.Background(), work); err != nil {
		r.t.Fatal(err)
	}
}

func save(s *Store, v TemplateVersion, base int) (out TemplateVersion, err error) {
	err = s.Write(acting, func(tx *Tx) error {
		out, err = tx.SaveTemplate(v, base)
		return err
	})
	return out, err
}

func TestTemplateVersions(t *testing.T) {
	s := open(t)
	saved := func(source string, base int, pictures map[string][]byte) (int, error) {
		v, err := save(s.Store, TemplateVersion{Template: "crew", Source: source, Pictures: pictures}, base)
		return v.Number, err
	}
	if n, err := saved("one", 0, map[string][]byte{"a.png": {1}, "b.png": {2}}); n != 1 || err != nil {
		t.Fatalf("%d, %v", n, err)
	}
	if _, err := saved("again", 0, nil); !problem.Is(err, problem.Conflict) {
		t.Errorf("a second first version: %v", err)
	}
	if n, err := saved("two", 1, map[string][]byte{"a.png": {1}}); n != 2 || err != nil {
		t.Fatalf("%d, %v", n, err)
	}
	if _, err := saved("late", 1, nil); !problem.Is(err, problem.Conflict) {
		t.Errorf("a version made from an old one: %v", err)
	}
	if n, err := saved("forced", -1, nil); n != 3 || err != nil {
		t.Errorf("%d, %v", n, err)
	}
	s.read(func(tx *Tx) error {
		first, err := tx.Template("crew", 1)
		if err != nil || first.Source != "one" || len(first.Pictures) != 2 || !first.Created.Equal(now) || first.Author != "owner" {
			t.Errorf("%+v, %v", first, err)
		}
		latest, err := tx.Template("crew", 0)
		if err != nil || latest.Number != 3 || len(latest.Pictures) != 0 {
			t.Errorf("%+v, %v", latest, err)
		}
		if _, err := tx.Template("crew", 9); !problem.Is(err, problem.NotFound) {
			t.Errorf("%v", err)
		}
		if _, err := tx.TemplateVersions("none"); !problem.Is(err, problem.NotFound) {
			t.Errorf("%v", err)
		}
		if all, err := tx.LatestVersions(); err != nil || len(all) != 1 || all[0].Number != 3 {
			t.Errorf("%+v, %v", all, err)
		}
		var contents int
		if err := tx.row(`SELECT COUNT(*) FROM picture_contents`).Scan(&contents); err != nil || contents != 2 {
			t.Errorf("%d pictures are stored for two different ones, %v", contents, err)
		}
		return nil
	})
}

func TestOfTwoSaversOneIsRefused(t *testing.T) {
	s := open(t)
	if _, err := save(s.Store, TemplateVersion{Template: "x"}, 0); err != nil {
		t.Fatal(err)
	}
	var wait sync.WaitGroup
	results := make(chan error, 8)
	for i := range 8 {
		wait.Go(func() {
			_, err := save(s.Store, TemplateVersion{Template: "x", Source: fmt.Sprint(i)}, 1)
			results <- err
		})
	}
	wait.Wait()
	close(results)
	saved := 0
	for err := range results {
		if err == nil {
			saved++
		} else if !problem.Is(err, problem.Conflict) {
			t.Errorf("%v", err)
		}
	}
	if saved != 1 {
		t.Errorf("%d of 8 saved from one version", saved)
	}
}

// person1 is a person with a mail address and one more value.
func person1(mail, value string, revision int) Person {
	return Person{Mail: mail, Values: []string{mail, value}, Matched: mail, Revision: revision, Came: now}
}

// TestPeopleAreFound: in the order in which they came, by mail address, by what stands in their values, by blanks.
func TestPeopleAreFound(t *testing.T) {
	s := open(t)
	s.write(func(tx *Tx) error {
		fields := []string{"mail", "cn"}
		for i, p := range []Person{person1("a@b.example", "Ελένη", 1), person1("C@b.example", "", 1), person1("d@b.example", "Bo", 1)} {
			if i == 2 {
				p.Left = now
			}
			if _, err := tx.PutPerson(p, fields); err != nil {
				return err
			}
		}
		return tx.PutFields(fields, 1)
	})
	s.read(func(tx *Tx) error {
		for _, c := range []struct {
			filter PeopleFilter
			want   string
		}{
			{PeopleFilter{}, "a@b.example C@b.example"}, {PeopleFilter{Search: " ελέν "}, "a@b.example"},
			{PeopleFilter{Search: "c@B"}, "C@b.example"},
			{PeopleFilter{Blank: "cn"}, "C@b.example"}, {PeopleFilter{Blank: "mail"}, ""}, {PeopleFilter{Left: true}, "d@b.example"},
			{PeopleFilter{Search: "nobody"}, ""}, {PeopleFilter{Source: "import"}, ""}, {PeopleFilter{IDs: []int64{2, 9}}, "C@b.example"},
		} {
			list, total, err := tx.People(c.filter, 0, 10)
			var mails []string
			for _, p := range list {
				mails = append(mails, p.Mail)
			}
			if strings.Join(mails, " ") != c.want || total != len(list) || err != nil {
				t.Errorf("%+v: %v of %d, %v", c.filter, mails, total, err)
			}
		}
		if list, total, err := tx.People(PeopleFilter{}, 1, 1); err != nil || total != 2 || len(list) != 1 || list[0].Mail != "C@b.example" {
			t.Errorf("%+v of %d, %v", list, total, err)
		}
		if p, err := tx.PersonByMail("c@B.example"); err != nil || p.ID != 2 || !p.Came.Equal(now) {
			t.Errorf("%+v, %v", p, err)
		}
		if _, err := tx.PersonByMail("x@b.example"); !problem.Is(err, problem.NotFound) {
			t.Error(err)
		}
		return nil
	})
}

// TestAReadSeesOneMoment: what is written while a read goes on is not seen by it, neither fields nor people.
func TestAReadSeesOneMoment(t *testing.T) {
	s := open(t)
	put := func(id int64, revision int, fields ...string) func(*Tx) error {
		return func(tx *Tx) error {
			p := Person{ID: id, Mail: "a@b.example", Values: make([]string, len(fields)), Revision: revision}
			if _, err := tx.PutPerson(p, fields); err != nil {
				return err
			}
			return tx.PutFields(fields, revision)
		}
	}
	s.write(put(0, 1, "mail"))
	s.read(func(tx *Tx) error {
		if revision, err := tx.Revision(); err != nil || revision != 1 {
			t.Errorf("%d, %v", revision, err)
		}
		s.write(put(1, 2, "mail", "cn", "title"))
		fields, revision, err := tx.Fields()
		var people []Person
		each := tx.EachPerson(func(p Person) { people = append(people, p) })
		if err != nil || each != nil || revision != 1 || len(fields) != 1 || len(people[0].Values) != 1 {
			t.Errorf("revision %d with fields %v and a person of %d values, %v, %v", revision, fields, len(people[0].Values), err, each)
		}
		return nil
	})
	s.read(func(tx *Tx) error {
		changed := 0
		if err := tx.EachChanged(1, func(p Person) { changed += len(p.Values) }); err != nil || changed != 3 {
			t.Errorf("%d, %v", changed, err)
		}
		return nil
	})
}

// TestAUnitOfWorkHappensWholeOrNotAtAll: an error at its end takes back what was done before it, the entry in the
// record too, and what was to be done afterwards is not.
func TestAUnitOfWorkHappensWholeOrNotAtAll(t *testing.T) {
	s := open(t)
	after := false
	wrong := errors.New("wrong")
	err := s.Write(acting, func(tx *Tx) error {
		tx.After(func() { after = true })
		if err := tx.PutSetting("a", 1); err != nil {
			return err
		}
		if err := tx.HostPicture("k.png", []byte("x")); err != nil {
			return err
		}
		return wrong
	})
	if !errors.Is(err, wrong) || after {
		t.Errorf("%v, afterwards %v", err, after)
	}
	s.read(func(tx *Tx) error {
		keys, err := tx.HostedKeys()
		changes, err2 := tx.Entries(RecordFilter{}, 0, 10)
		if err := errors.Join(err, err2); err != nil || len(keys) != 0 || len(changes) != 0 {
			t.Errorf("%v, %+v, %v", keys, changes, err)
		}
		return nil
	})
	if err := s.Read(context.Background(), func(tx *Tx) error { return tx.PutSetting("a", 1) }); err == nil {
		t.Error("a read writes")
	}
}

// TestEveryChangeNamesWhoMadeIt: nobody's change is refused, each is an entry that stays, and entries cannot be altered.
func TestEveryChangeNamesWhoMadeIt(t *testing.T) {
	s := open(t)
	set := func(tx *Tx) error { return tx.PutSetting("a", 1) }
	if err := s.Write(context.Background(), set); err == nil {
		t.Error("nobody made a change")
	}
	if err := s.Write(access.With(context.Background(), access.Principal{Kind: access.Owner}), set); err == nil {
		t.Error("somebody without a name made a change")
	}
	maren := access.Principal{Kind: access.Command, Name: "maren"}
	for name, change := range map[string]func(*Tx) error{
		"settings": set,
		"template": func(tx *Tx) error { _, err := tx.SaveTemplate(TemplateVersion{Template: "x"}, 0); return err },
		"picture": func(tx *Tx) error {
			_, err := tx.SavePicture(PictureVersion{Picture: "p", Facts: "{}"}, []byte("p"))
			return err
		},
		"client profile": func(tx *Tx) error { return tx.PutClientProfile("c", "id: c") },
		"directory": func(tx *Tx) error {
			return tx.Changed("imported", "directory", "1", "")
		},
		"source": func(tx *Tx) error {
			_, err := tx.PutSource(Source{Name: "hr", Kind: "file", Settings: "{}"})
			return err
		},
		"picture file": func(tx *Tx) error { return tx.HostPicture("k", []byte("k")) },
		"package job":  func(tx *Tx) error { _, err := tx.AddJob(Job{ID: "j", Kind: "package", Input: "{}"}); return err },
	} {
		if err := s.Write(access.With(context.Background(), maren), change); err != nil {
			t.Fatal(name, err)
		}
		s.read(func(tx *Tx) error {
			last, err := tx.Entries(RecordFilter{}, 0, 1)
			if err != nil || len(last) != 1 || last[0].Object != name || last[0].By != maren || !last[0].At.Equal(now) || last[0].Action == "" {
				t.Errorf("%s: %+v, %v", name, last, err)
			}
			return nil
		})
	}
	for _, statement := range []string{`UPDATE record SET actor = 'x'`, `DELETE FROM record`} {
		if err := s.Write(acting, func(tx *Tx) error { _, err := tx.exec(statement); return err }); err == nil {
			t.Errorf("%s is done", statement)
		}
	}
}

func TestPackageRecords(t *testing.T) {
	s := open(t)
	add := func(id string) {
		s.write(func(tx *Tx) error {
			if _, err := tx.AddJob(Job{ID: id, Kind: "package", Title: "x", Total: 3, Unit: "people", Input: "{}"}); err != nil {
				return err
			}
			return tx.AddPackage(Package{ID: id, Template: "x", Version: 1, Content: "c"})
		})
	}
	add("a")
	add("b")
	s.write(func(tx *Tx) error {
		p, err := tx.Package("a")
		if err != nil {
			return err
		}
		p.Job.State, p.Job.Finished, p.Job.Done = Ready, now.Add(time.Minute), 3
		return errors.Join(tx.PutJob(p.Job), tx.FinishPackage("a", 7, 1<<40, "sum"))
	})
	s.read(func(tx *Tx) error {
		p, err := tx.Package("a")
		if err != nil || p.Bytes != 1<<40 || p.Files != 7 || p.Job.State != Ready || p.Job.Done != 3 ||
			!p.Job.Finished.Equal(now.Add(time.Minute)) || p.Job.By != access.Loopback() {
			t.Errorf("%+v, %v", p, err)
		}
		if list, err := tx.Packages(); err != nil || len(list) != 2 || list[0].ID != "b" {
			t.Errorf("newest first: %+v, %v", list, err)
		}
		if left, err := tx.OpenJobs(); err != nil || len(left) != 1 || left[0].ID != "b" {
			t.Errorf("%+v, %v", left, err)
		}
		return nil
	})
	s.write(func(tx *Tx) error { return tx.RemovePackage("a") })
	if err := s.Write(acting, func(tx *Tx) error { return tx.RemovePackage("a") }); !problem.Is(err, problem.NotFound) {
		t.Errorf("%v", err)
	}
}

// TestADatabaseOfTheFirstSchemaIsTakenOver: what an older program stored is still there, in the words and times of
// today.
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
	settings := "title: Crew\npictures:\n  travel:\n    message: hosted\n"
	for _, statement := range []string{
		`INSERT INTO templates (id, name, created_at) VALUES (1, 'crew', '2026-01-01T00:00:00Z')`,
		`INSERT INTO template_versions (template_id, number, content, source, settings, note, created_at) VALUES (1, 1, 'x', '<p>', '` +
			settings + `', 'first', '2026-01-01T00:00:00.25Z')`,
		`INSERT INTO directory VALUES (1, '["mail","cn"]', 4)`,
		`INSERT INTO people VALUES (0, 'a@b.example', '["a@b.example","A"]')`,
		`INSERT INTO packages VALUES ('old', 'crew', 1, 'x', 'ready', 5, 5, 9, 100, 'sum', '', '2026-01-02T00:00:00Z', '2026-01-02T00:00:09.5Z')`,
		`INSERT INTO packages VALUES ('newer', 'crew', 1, 'x', 'stopped', 5, 1, 0, 0, '', 'stopped', ` +
			`'2026-01-02T00:00:00.5Z', '2026-01-02T00:00:01Z')`,
	} {
		if _, err := db.ExecContext(ctx, statement); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := p.UpTo(ctx, 4); err != nil {
		t.Fatal(err)
	}
	for _, statement := range []string{
		`INSERT INTO client_profiles VALUES ('pilots', 'behaviours:' || char(10) || '  - hop: draw', '2026-01-03T00:00:00Z')`,
		`INSERT INTO pictures (id, name, created_at) VALUES (1, 'logo', '2026-01-03T00:00:00Z')`,
		`INSERT INTO picture_contents VALUES ('abc', 'bytes')`,
		`INSERT INTO picture_versions VALUES (1, 1, 'abc', '{}', 'logo.png', '', 'Imogen', '2026-01-03T00:00:00Z')`,
		`INSERT INTO renditions VALUES (1, 1, 'abc', '{"width":4,"ground":"#ffffff"}', '{}', 0.5, '2026-01-03T00:00:00Z')`,
		`INSERT INTO hosted_pictures VALUES ('key.png', 'abc', '2026-01-03T00:00:00Z')`,
	} {
		if _, err := db.ExecContext(ctx, statement); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := p.UpTo(ctx, 16); err != nil {
		t.Fatal(err)
	}
	for _, statement := range []string{
		`INSERT INTO changes (id, at, actor_kind, actor, action, object, name, detail) VALUES (7, ` +
			`'2026-01-04T00:00:00.000000000Z', 'owner', 'owner', 'saved', 'template', 'crew', '')`,
		`INSERT INTO changes (id, at, actor_kind, actor, action, object, name, detail) VALUES (9, ` +
			`'2026-01-05T00:00:00.000000000Z', 'owner', 'bo', 'saved', 'picture', 'logo', '')`,
		`INSERT INTO keys VALUES ('desks', 'desk', '', x'01', '2026-01-05T00:00:00.000000000Z')`,
	} {
		if _, err := db.ExecContext(ctx, statement); err != nil {
			t.Fatal(err)
		}
	}
	if err := db.Close(); err != nil {
		t.Fatal(err)
	}
	s, err := Open(ctx, file, func() time.Time { return now })
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if c, err := s.checkRecord(t, 0, nil); err != nil || c.Entries != 2 || c.Last != 2 {
		t.Errorf("the record: %+v, %v", c, err)
	}
	err = s.Read(ctx, func(tx *Tx) error {
		if keys, err := tx.Keys(); err != nil || len(keys) != 1 || !keys[0].Has(access.Desk) || !keys[0].Ends.IsZero() {
			t.Errorf("%+v, %v", keys, err)
		}
		if entries, err := tx.Entries(RecordFilter{Who: "bo"}, 0, 9); err != nil || len(entries) != 1 || entries[0].Name != "logo" {
			t.Errorf("%+v, %v", entries, err)
		}
		v, err := tx.Template("crew", 0)
		if err != nil || v.Number != 1 || v.Source != "<p>" || v.Settings != "title: Crew\npictures:\n  delivery:\n    message: hosted\n" ||
			!v.Created.Equal(time.Date(2026, 1, 1, 0, 0, 0, 250_000_000, time.UTC)) {
			t.Errorf("%+v, %v", v, err)
		}
		if fields, revision, err := tx.Fields(); err != nil || revision != 4 || !slices.Contains(fields, "cn") {
			t.Errorf("%v, %d, %v", fields, revision, err)
		}
		p, err := tx.PersonByID(1)
		record, there, err2 := tx.Record(2, p.Matched)
		if err := errors.Join(err, err2); err != nil || !there || !slices.Contains(p.Values, "A") ||
			!strings.Contains(record.Record, `"cn":"A"`) ||
			record.Person != 1 {
			t.Errorf("%+v, %+v, %v", p, record, err)
		}
		list, err := tx.Packages()
		if err != nil || len(list) != 2 || list[0].ID != "newer" || list[1].Job.State != Ready || list[1].Job.Total != 5 || list[1].Files != 9 ||
			!list[1].Job.Finished.Equal(time.Date(2026, 1, 2, 0, 0, 9, 500_000_000, time.UTC)) {
			t.Errorf("%+v, %v", list, err)
		}
		if profiles, err := tx.ClientProfiles(); err != nil || string(profiles["pilots"]) != "behaviours:\n  - stage: render" {
			t.Errorf("%q, %v", profiles["pilots"], err)
		}
		if made, err := tx.Renditions("logo"); err != nil || len(made) != 1 ||
			made[0].Recipe != `{"width":4,"background":"#ffffff"}` || made[0].Key != "key.png" {
			t.Errorf("%+v, %v", made, err)
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if v, err := save(s, TemplateVersion{Template: "crew", Texts: map[string]string{"template.txt": "x"}}, 1); err != nil ||
		v.Number != 2 || v.Author != "owner" {
		t.Errorf("%+v, %v", v, err)
	}
}

// TestWhatIsAcknowledgedIsOnTheDisk: commits wait for it, and a reader never waits for a writer.
func TestWhatIsAcknowledgedIsOnTheDisk(t *testing.T) {
	s := open(t)
	s.write(func(tx *Tx) error {
		var full int
		var mode string
		if err := errors.Join(tx.row(`PRAGMA synchronous`).Scan(&full), tx.row(`PRAGMA journal_mode`).Scan(&mode)); err != nil {
			return err
		}
		if full != 2 || mode != "wal" { // FULL
			t.Errorf("synchronous %d, journal %s", full, mode)
		}
		done := make(chan error, 1)
		go func() {
			done <- s.Read(context.Background(), func(tx *Tx) error { _, err := tx.HostedKeys(); return err })
		}()
		select {
		case err := <-done:
			return err
		case <-time.After(5 * time.Second):
			return errors.New("a read waits for a write")
		}
	})
}
