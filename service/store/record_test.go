package store

import (
	"context"
	"database/sql"
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"missivum/core/problem"
	"missivum/service/access"
)

// recorded is a store with ten entries, a day between each, and the file that it is in.
func recorded(t *testing.T) (*Store, string) {
	t.Helper()
	clock := now
	file := filepath.Join(t.TempDir(), "record.db")
	s, err := Open(context.Background(), file, func() time.Time { return clock })
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	for n := range 10 {
		clock = now.AddDate(0, 0, n)
		if err := s.Write(access.FromWhere(acting, "192.0.2.7"), func(tx *Tx) error { return tx.PutSetting("n", n) }); err != nil {
			t.Fatal(err)
		}
	}
	return s, file
}

func (s *Store) checkRecord(t *testing.T, number int64, link []byte) (Checked, error) {
	t.Helper()
	var c Checked
	var found error
	if err := s.Read(context.Background(), func(tx *Tx) error { c, found = tx.CheckRecord(number, link); return nil }); err != nil {
		t.Fatal(err)
	}
	return c, found
}

// TestWhatIsDonePastTheServiceIsNoticed changes the record as somebody does who can write to the file.
func TestWhatIsDonePastTheServiceIsNoticed(t *testing.T) {
	for statement, broken := range map[string]int64{
		`UPDATE record SET actor = 'bo' WHERE id = 4`:    4,
		`UPDATE record SET detail = '' WHERE id = 1`:     1,
		`UPDATE record SET at = '2026' WHERE id = 9`:     9,
		`UPDATE record SET after = before WHERE id = 10`: 10,
		`DELETE FROM record WHERE id = 5`:                6,
		`DELETE FROM record WHERE id < 3`:                3,
		`UPDATE record SET link = x'00' WHERE id = 7`:    7,
		`UPDATE record SET id = 11 WHERE id = 10`:        11,
		`INSERT INTO record SELECT id + 10, at, actor_kind, actor, origin, action, object, name, detail, before, ` +
			`after, link FROM record WHERE id = 10`: 20,
	} {
		s, file := recorded(t)
		if c, err := s.checkRecord(t, 0, nil); err != nil || c.Entries != 10 || c.Last != 10 {
			t.Fatalf("before: %+v, %v", c, err)
		}
		db, err := sql.Open("sqlite", dsn(file))
		if err != nil {
			t.Fatal(err)
		}
		for _, one := range []string{`DROP TRIGGER record_stays`, `DROP TRIGGER record_is_kept`, statement} {
			if _, err := db.Exec(one); err != nil {
				t.Fatal(one, err)
			}
		}
		db.Close()
		if c, err := s.checkRecord(t, 0, nil); !problem.Is(err, problem.Refused) || c.Broken != broken {
			t.Errorf("%s: entry %d is named, want %d: %v", statement, c.Broken, broken, err)
		}
	}
}

// TestTheEndIsKnownElsewhere: an end that was taken off, and a record that was written anew, are noticed by who kept a link.
func TestTheEndIsKnownElsewhere(t *testing.T) {
	s, file := recorded(t)
	kept, err := s.checkRecord(t, 0, nil)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.checkRecord(t, kept.Last, kept.Link); err != nil {
		t.Errorf("unchanged: %v", err)
	}
	if err := s.Write(acting, func(tx *Tx) error { return tx.PutSetting("more", 1) }); err != nil {
		t.Fatal(err)
	}
	if _, err := s.checkRecord(t, kept.Last, kept.Link); err != nil {
		t.Errorf("with another entry: %v", err)
	}
	other, _ := recorded(t)
	if err := other.Write(acting, func(tx *Tx) error { return tx.PutSetting("other", 1) }); err != nil {
		t.Fatal(err)
	}
	head, err := other.checkRecord(t, 0, nil)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.checkRecord(t, head.Last, head.Link); err == nil || !strings.Contains(err.Error(), "written anew") {
		t.Errorf("another record: %v", err)
	}
	db, err := sql.Open("sqlite", dsn(file))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	for _, one := range []string{`DROP TRIGGER record_is_kept`, `DELETE FROM record WHERE id > 8`} {
		if _, err := db.Exec(one); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := s.checkRecord(t, 0, nil); err != nil {
		t.Errorf("alone, what is left is whole: %v", err)
	}
	if _, err := s.checkRecord(t, kept.Last, kept.Link); err == nil || !strings.Contains(err.Error(), "entry 10 was taken out") {
		t.Errorf("the end taken off: %v", err)
	}
}

// TestPruningKeepsTheChain: what stays goes on from what was pruned; more than is old is not removed, by no statement.
func TestPruningKeepsTheChain(t *testing.T) {
	s, _ := recorded(t)
	for days, want := range []int64{0, 1, 1, 3} {
		var pruned int64
		older := now.AddDate(0, 0, days)
		if days == 3 {
			older = now.AddDate(0, 0, 5)
		}
		err := s.Write(acting, func(tx *Tx) (err error) { pruned, err = tx.PruneRecord(older); return err })
		if err != nil || pruned != want {
			t.Errorf("older than day %d: %d were pruned, want %d, %v", days, pruned, want, err)
		}
		if _, err := s.checkRecord(t, 0, nil); err != nil {
			t.Errorf("after that: %v", err)
		}
	}
	if err := s.Write(acting, func(tx *Tx) error { _, err := tx.exec(`DELETE FROM record WHERE id = 8`); return err }); err == nil {
		t.Error("an entry that was not pruned is deleted")
	}
	if _, err := s.checkRecord(t, 2, []byte("x")); err == nil || !strings.Contains(err.Error(), "was pruned") {
		t.Errorf("the link of a pruned entry: %v", err)
	}
	if err := s.Write(acting, func(tx *Tx) error { _, err := tx.PruneRecord(now.AddDate(1, 0, 0)); return err }); err != nil {
		t.Fatal(err)
	}
	if c, err := s.checkRecord(t, 0, nil); err != nil || c.Entries < 1 {
		t.Errorf("all are old: %+v, %v", c, err)
	}
}

// TestDigestsFollowTheContent: each entry says what the thing held before and after, and a removal ends that.
func TestDigestsFollowTheContent(t *testing.T) {
	s := open(t)
	for _, document := range []string{"id: a", "id: b", "id: b", "id: a"} {
		s.write(func(tx *Tx) error { return tx.PutClientProfile("c", document) })
	}
	s.write(func(tx *Tx) error { return tx.RemoveClientProfile("c") })
	s.write(func(tx *Tx) error { return tx.PutClientProfile("c", "id: a") })
	var said []string
	s.read(func(tx *Tx) error {
		list, err := tx.Entries(RecordFilter{Object: "client profile"}, 0, 10)
		names := map[string]string{"": "-"}
		for i := len(list) - 1; i >= 0; i-- {
			for _, d := range []string{list[i].Before, list[i].After} {
				if names[d] == "" {
					names[d] = fmt.Sprint(len(names))
				}
			}
			said = append(said, names[list[i].Before]+names[list[i].After])
		}
		return err
	})
	if got := strings.Join(said, " "); got != "-1 12 22 21 1- -1" {
		t.Errorf("before and after: %s", got)
	}
}

// TestAFailedWriteLeavesTheChain: what was taken back has no entry, and the next follows from the one before.
func TestAFailedWriteLeavesTheChain(t *testing.T) {
	s, _ := recorded(t)
	for n := range 20 {
		s.Write(acting, func(tx *Tx) error {
			if err := tx.PutSetting("n", n); err != nil {
				return err
			}
			if n%3 > 0 {
				return context.Canceled
			}
			return nil
		})
	}
	if c, err := s.checkRecord(t, 0, nil); err != nil || c.Last != 17 || c.Entries != 17 {
		t.Errorf("%+v, %v", c, err)
	}
}

// BenchmarkWrite is a write with its entry in the chain, and one with an entry as it was before there was a chain.
func BenchmarkWrite(b *testing.B) {
	s, err := Open(context.Background(), filepath.Join(b.TempDir(), "x.db"), func() time.Time { return now })
	if err != nil {
		b.Fatal(err)
	}
	defer s.Close()
	if err := s.Write(acting, func(tx *Tx) error {
		_, err := tx.exec(`CREATE TABLE changes (id INTEGER PRIMARY KEY AUTOINCREMENT, at TEXT, actor_kind TEXT, ` +
			`actor TEXT, action TEXT, object TEXT, name TEXT, detail TEXT)`)
		return err
	}); err != nil {
		b.Fatal(err)
	}
	put := func(tx *Tx, n int) error {
		_, err := tx.exec(`INSERT OR REPLACE INTO settings (name, value) VALUES ('n', ?)`, fmt.Sprint(n))
		return err
	}
	b.Run("before", func(b *testing.B) {
		for n := 0; b.Loop(); n++ {
			if err := s.Write(acting, func(tx *Tx) error {
				if err := put(tx, n); err != nil {
					return err
				}
				_, err := tx.exec(`INSERT INTO changes (at, actor_kind, actor, action, object, name, detail) VALUES (?, ?, ?, ?, ?, ?, ?)`,
					stamp(tx.at), tx.by.Kind, tx.by.Name, "saved", "settings", "n", fmt.Sprint(n))
				return err
			}); err != nil {
				b.Fatal(err)
			}
		}
	})
	b.Run("chained", func(b *testing.B) {
		for n := 0; b.Loop(); n++ {
			if err := s.Write(acting, func(tx *Tx) error {
				if err := put(tx, n); err != nil {
					return err
				}
				return tx.changedTo(fmt.Sprint(n), "saved", "settings", "n", fmt.Sprint(n))
			}); err != nil {
				b.Fatal(err)
			}
		}
	})
}
