//go:build linux

package backup

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"missivum/core/problem"
	"missivum/service/store"
)

// small is a file system of its own with little room.
func small(t *testing.T, size string) string {
	t.Helper()
	folder := t.TempDir()
	if err := syscall.Mount("none", folder, "tmpfs", 0, "size="+size); err != nil {
		t.Skipf("a file system of its own needs an administrator: %v", err)
	}
	t.Cleanup(func() { syscall.Unmount(folder, syscall.MNT_DETACH) })
	return folder
}

// TestAFullFileSystem: a backup that finds no room says so and leaves nothing; a service that finds none says so, keeps what was
// acknowledged, and goes on once there is room.
func TestAFullFileSystem(t *testing.T) {
	folder, s := dataFolder(t)
	write(t, s, 1)
	for i := range 100 {
		if err := s.Write(acting, func(tx *store.Tx) error {
			return tx.PutSetting("long", strings.Repeat(string(rune('a'+i%26)), 20_000))
		}); err != nil {
			t.Fatal(err)
		}
	}
	to := small(t, "64k")
	if _, err := Make(acting, folder, filepath.Join(to, "b.zip"), "test", now, nil); err == nil {
		t.Error("a backup found room")
	}
	if left, err := os.ReadDir(to); err != nil || len(left) != 0 {
		t.Errorf("it left %v, %v", left, err)
	}

	disk := small(t, "4m")
	st, err := store.Open(acting, filepath.Join(disk, Database), func() time.Time { return now })
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	write(t, st, 1)
	filler := filepath.Join(disk, "filler")
	var full error
	acknowledged := 1
	for n := 2; n < 200 && full == nil; n++ {
		if full = store.Known(st.Write(acting, func(tx *store.Tx) error {
			if err := tx.PutSetting("n", n); err != nil {
				return err
			}
			return tx.PutSetting("long", strings.Repeat("x", 60_000+n))
		})); full == nil {
			acknowledged = n
		}
		data, _ := os.ReadFile(filler)
		os.WriteFile(filler, append(data, make([]byte, 50_000)...), 0o600) // until there is no room
	}
	if !problem.Is(full, problem.Full) {
		t.Fatalf("the full disk says: %v", full)
	}
	read := func() (n int) {
		if err := st.Read(acting, func(tx *store.Tx) error { return tx.Setting("n", &n) }); err != nil {
			t.Fatal(err)
		}
		return n
	}
	if n := read(); n != acknowledged {
		t.Errorf("%d is kept, %d was acknowledged", n, acknowledged)
	}
	if err := os.Remove(filler); err != nil {
		t.Fatal(err)
	}
	write(t, st, 1000)
	if n := read(); n != 1000 {
		t.Errorf("with room again: %d", n)
	}
	if f, err := store.Examine(acting, filepath.Join(disk, Database)); err != nil || len(f.Faults) > 0 {
		t.Errorf("%+v, %v", f, err)
	}
}
