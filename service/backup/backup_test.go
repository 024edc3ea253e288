package backup

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"missivum/core/problem"
	"missivum/service/access"
	"missivum/service/store"
)

var (
	acting = access.With(context.Background(), access.Principal{Kind: access.Command, Name: "maren"})
	now    = time.Date(2026, 11, 28, 9, 0, 0, 0, time.UTC)
)

// dataFolder is a data folder with a database and files.
func dataFolder(t *testing.T) (string, *store.Store) {
	t.Helper()
	folder := filepath.Join(t.TempDir(), "data")
	for name, text := range map[string]string{"secrets/kits.key": "secret", "photos/ab.png": "picture", "lock": "",
		"packages/.half": "x", "a.txt": "a"} {
		file := filepath.Join(folder, name)
		if err := os.MkdirAll(filepath.Dir(file), 0o750); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	s, err := store.Open(acting, filepath.Join(folder, Database), func() time.Time { return now })
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return folder, s
}

// write makes one change.
func write(t *testing.T, s *store.Store, n int) {
	t.Helper()
	if err := s.Write(acting, func(tx *store.Tx) error { return tx.PutSetting("n", n) }); err != nil {
		t.Fatal(err)
	}
}

// contents are the files of a folder by name, but for the database.
func contents(t *testing.T, folder string) map[string]string {
	t.Helper()
	out := map[string]string{}
	names, err := membersOf(folder)
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range names {
		data, err := os.ReadFile(filepath.Join(folder, name))
		if err != nil {
			t.Fatal(err)
		}
		out[name] = string(data)
	}
	return out
}

// TestABackupIsTheFolderOfOneMoment writes all the time while backups are made; each that is restored is sound, holds the
// files, and a state that was.
func TestABackupIsTheFolderOfOneMoment(t *testing.T) {
	folder, s := dataFolder(t)
	write(t, s, 1)
	var stop atomic.Bool
	done := make(chan struct{})
	go func() {
		defer close(done)
		for n := 2; !stop.Load(); n++ {
			s.Write(acting, func(tx *store.Tx) error { return tx.PutSetting("n", n) }) // one that fails changes nothing
		}
	}()
	before := contents(t, folder)
	for i := range 5 {
		to := filepath.Join(t.TempDir(), "b.zip")
		list, err := Make(acting, folder, to, "test", now, nil)
		if err != nil {
			t.Fatal(err)
		}
		other := filepath.Join(t.TempDir(), fmt.Sprint("restored", i))
		if _, kept, err := Restore(acting, to, other, false, now); err != nil || kept != "" {
			t.Fatal(kept, err)
		}
		if after := contents(t, other); !maps.Equal(before, after) {
			t.Errorf("files: %v, were %v", after, before)
		}
		facts, err := store.Examine(acting, filepath.Join(other, Database))
		if err != nil || len(facts.Faults) > 0 || facts.Record.Head() != list.Record {
			t.Errorf("%v %+v, want the record to end with %s", err, facts, list.Record)
		}
		var n int
		restored, err := store.Open(acting, filepath.Join(other, Database), func() time.Time { return now })
		if err != nil {
			t.Fatal(err)
		}
		if err := restored.Read(acting, func(tx *store.Tx) error { return tx.Setting("n", &n) }); err != nil || int64(n) != facts.Record.Last {
			t.Errorf("the setting is %d, and the record has %d entries: %v", n, facts.Record.Last, err)
		}
		restored.Close()
		if info, err := os.Stat(filepath.Join(other, "secrets/kits.key")); err != nil || info.Mode().Perm() != 0o600 {
			t.Errorf("the secret: %v, %v", info, err)
		}
	}
	stop.Store(true)
	<-done
}

// TestRestoringKeepsWhatIsThere: a folder that is not empty is refused, or kept; a backup that is damaged touches nothing.
func TestRestoringKeepsWhatIsThere(t *testing.T) {
	folder, s := dataFolder(t)
	write(t, s, 1)
	file := filepath.Join(t.TempDir(), "b.zip")
	if _, err := Make(acting, folder, file, "test", now, nil); err != nil {
		t.Fatal(err)
	}
	if _, err := Make(acting, folder, file, "test", now, nil); !problem.Is(err, problem.Conflict) {
		t.Errorf("a file was written over: %v", err)
	}
	whole, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	target := filepath.Join(t.TempDir(), "target")
	if err := os.MkdirAll(target, 0o750); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(target, "mine"), []byte("mine"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, _, err := Restore(acting, file, target, false, now); !problem.Is(err, problem.Conflict) {
		t.Errorf("a folder that is not empty: %v", err)
	}
	damaged := filepath.Join(t.TempDir(), "damaged.zip")
	for at := 100; at < len(whole); at += len(whole) / 12 {
		spoilt := slices.Clone(whole)
		spoilt[at] ^= 0xff
		if err := os.WriteFile(damaged, spoilt, 0o600); err != nil {
			t.Fatal(err)
		}
		if _, err := Check(acting, damaged); err == nil && !sameMembers(t, damaged, file) {
			t.Errorf("damage at byte %d is not noticed", at)
		}
	}
	for _, length := range []int{0, 10, len(whole) / 2, len(whole) - 1} {
		if err := os.WriteFile(damaged, whole[:length], 0o600); err != nil {
			t.Fatal(err)
		}
		if _, _, err := Restore(acting, damaged, target, true, now); err == nil {
			t.Errorf("%d bytes of %d are taken for a backup", length, len(whole))
		}
	}
	if held := contents(t, target); len(held) != 1 || held["mine"] != "mine" {
		t.Errorf("a damaged backup touched the folder: %v", held)
	}
	_, kept, err := Restore(acting, file, target, true, now)
	if err != nil || contents(t, kept)["mine"] != "mine" || contents(t, target)["a.txt"] != "a" {
		t.Errorf("%q, %v", kept, err)
	}
}

// sameMembers reports whether two backups list the same files.
func sameMembers(t *testing.T, a, b string) bool {
	t.Helper()
	one, err := Check(acting, a)
	two, err2 := Check(acting, b)
	return err == nil && err2 == nil && slices.Equal(one.Files, two.Files)
}

// TestNamesCannotLeadOut: a backup that somebody made by hand writes nowhere else.
func TestNamesCannotLeadOut(t *testing.T) {
	folder, _ := dataFolder(t)
	for _, name := range []string{"../out", "/etc/out", `..\out`, "a/../../out", "C:out"} {
		var b bytes.Buffer
		out := zip.NewWriter(&b)
		list := List{Form: form, Files: []Member{{Name: name, Size: 1, SHA256: "x"}}}
		for file, text := range map[string]string{name: "x", Database: "x"} {
			w, err := out.Create(file)
			if err != nil {
				t.Fatal(err)
			}
			io.WriteString(w, text)
		}
		w, err := out.Create(listName)
		if err != nil {
			t.Fatal(err)
		}
		json.NewEncoder(w).Encode(list)
		out.Close()
		file := filepath.Join(t.TempDir(), "b.zip")
		if err := os.WriteFile(file, b.Bytes(), 0o600); err != nil {
			t.Fatal(err)
		}
		if _, _, err := Restore(acting, file, filepath.Join(t.TempDir(), "x"), false, now); !problem.Is(err, problem.Refused) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, _, err := Restore(acting, filepath.Join(folder, "none.zip"), filepath.Join(t.TempDir(), "x"), false,
		now); !problem.Is(err, problem.NotFound) {
		t.Errorf("no file: %v", err)
	}
}

// TestAnUnsoundDatabaseIsNotBackedUp: neither a broken page nor a record that was changed.
func TestAnUnsoundDatabaseIsNotBackedUp(t *testing.T) {
	folder, s := dataFolder(t)
	for n := range 400 {
		write(t, s, n)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(folder, Database)
	data, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	spoilt := bytes.ReplaceAll(data, []byte("maren"), []byte("merem")) // in the record
	if err := os.WriteFile(file, spoilt, 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Make(acting, folder, filepath.Join(t.TempDir(), "b.zip"), "test", now, nil); err == nil ||
		!strings.Contains(err.Error(), "entry 1 ") {
		t.Errorf("a record that was changed: %v", err)
	}
	spoilt = slices.Clone(data)
	for i := 20 * 4096; i < 24*4096 && i < len(spoilt); i++ {
		spoilt[i] = 0x55
	}
	if err := os.WriteFile(file, spoilt, 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Make(acting, folder, filepath.Join(t.TempDir(), "b.zip"), "test", now, nil); err == nil {
		t.Error("a broken page is backed up")
	}
}

// TestOldBackupsAreThinnedOut makes one every six hours for three years, thinning out as the service does.
func TestOldBackupsAreThinnedOut(t *testing.T) {
	var list []Kept
	at := now.AddDate(-3, 0, 0)
	for ; !at.After(now); at = at.Add(6 * time.Hour) {
		list = append([]Kept{{File: Name(at), At: at}}, list...)
		for _, k := range Thinned(list, at) {
			list = slices.DeleteFunc(list, func(one Kept) bool { return one.File == k.File })
		}
	}
	count := func(from, to time.Duration) (n int) {
		for _, k := range list {
			if age := now.Sub(k.At); age >= from && age < to {
				n++
			}
		}
		return n
	}
	day := 24 * time.Hour
	for _, c := range []struct {
		from, to    time.Duration
		least, most int
	}{{0, 2 * day, 8, 8}, {2*day + 1, 14 * day, 11, 13}, {14*day + 1, 62 * day, 6, 8}, {62*day + 1, 731 * day, 21, 23},
		{732 * day, 2000 * day, 0, 0}} {
		if n := count(c.from, c.to); n < c.least || n > c.most {
			t.Errorf("between %v and %v: %d are kept, want %d to %d", c.from, c.to, n, c.least, c.most)
		}
	}
}

// TestTheSchedule makes one when it is time, and leaves other files alone.
func TestTheSchedule(t *testing.T) {
	folder, s := dataFolder(t)
	write(t, s, 1)
	clock := now
	to := filepath.Join(t.TempDir(), "kept")
	schedule := Schedule{Data: folder, Folder: to, Every: 24 * time.Hour, Now: func() time.Time { return clock },
		Log: slog.New(slog.DiscardHandler)}
	for hours, want := range []int{1, 1, 1} {
		clock = now.Add(time.Duration(hours) * time.Hour)
		if err := schedule.Due(acting); err != nil {
			t.Fatal(err)
		}
		if list, err := In(to); err != nil || len(list) != want {
			t.Errorf("after %d hours: %v, %v", hours, list, err)
		}
	}
	if err := os.WriteFile(filepath.Join(to, "mine.zip"), nil, 0o600); err != nil {
		t.Fatal(err)
	}
	clock = now.Add(24 * time.Hour)
	if err := schedule.Due(acting); err != nil {
		t.Fatal(err)
	}
	if list, err := In(to); err != nil || len(list) != 2 || !list[0].At.Equal(clock) {
		t.Errorf("a day later: %v, %v", list, err)
	}
}
