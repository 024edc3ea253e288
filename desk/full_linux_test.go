package desk

import (
	"maps"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"missivum/core/problem"
)

// small mounts a file system of some kilobytes.
func small(t *testing.T, folder, size string) {
	t.Helper()
	if err := os.MkdirAll(folder, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := syscall.Mount("tmpfs", folder, "tmpfs", 0, "size="+size); err != nil {
		t.Skipf("a small file system cannot be mounted here: %v", err)
	}
	t.Cleanup(func() {
		if err := syscall.Unmount(folder, 0); err != nil {
			t.Error(err)
		}
	})
}

// TestAFullDisk: where the disk of the client, or that of the program's own memory, has no room left, it is said in one line, and
// nothing was changed.
func TestAFullDisk(t *testing.T) {
	for _, full := range []string{".config/rudder", "state"} {
		t.Run(full, func(t *testing.T) {
			d, folder := home(t)
			kits := []Kit{made(t, "gecko-desktop", "one "+strings.Repeat("and more words ", 4000), "a")}
			if full == "state" {
				small(t, filepath.Join(folder, full), "40k")
			} else {
				saved, err := os.ReadFile(filepath.Join(folder, full, "settings.json"))
				if err != nil {
					t.Fatal(err)
				}
				small(t, filepath.Join(folder, full), "40k")
				write(t, filepath.Join(folder, full, "settings.json"), string(saved))
			}
			before := seen(t, folder)
			outcomes, err := d.Place(ctx, kits, Options{})
			if err != nil || len(outcomes) != 1 {
				t.Fatalf("%v, %v", outcomes, err)
			}
			if got := outcomes[0].Err; !problem.Is(got, problem.Full) || !strings.Contains(got.Error(), "nothing was changed") {
				t.Errorf("%v", got)
			}
			if now := seen(t, folder); !maps.Equal(now, before) {
				t.Errorf("something was changed:\n%.300q\nbefore:\n%.300q", now, before)
			}
		})
	}
}

// TestAFolderThatMayNotBeWritten is refused in one line, and nothing was changed.
func TestAFolderThatMayNotBeWritten(t *testing.T) {
	d, folder := home(t)
	signatures := filepath.Join(folder, ".config/tiller/signatures")
	small(t, signatures, "100k")
	write(t, filepath.Join(signatures, "mine.htm"), "mine")
	if err := syscall.Mount("tmpfs", signatures, "tmpfs", syscall.MS_REMOUNT|syscall.MS_RDONLY, ""); err != nil {
		t.Fatal(err)
	}
	before := seen(t, folder)
	outcomes, err := d.Place(ctx, []Kit{made(t, "wordproc-desktop", "one", "a")}, Options{})
	if err != nil || len(outcomes) != 1 || !problem.Is(outcomes[0].Err, problem.Refused) ||
		!strings.Contains(outcomes[0].Err.Error(), "not permitted") {
		t.Errorf("%v, %v", outcomes, err)
	}
	if !maps.Equal(seen(t, folder), before) {
		t.Error("something was changed")
	}
}
