package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"missivum/e2e/rig"
)

// TestBuildsForThreeSystems: desks run Linux, macOS and Windows, and the program on them is the same.
func TestBuildsForThreeSystems(t *testing.T) {
	t.Parallel()
	root, err := rig.Root()
	if err != nil {
		t.Fatal(err)
	}
	for _, system := range []string{"windows", "darwin"} { // the one for Linux is what all other tests run
		build := exec.Command("go", "build", "-o", filepath.Join(t.TempDir(), system), ".")
		build.Dir = root
		build.Env = append(os.Environ(), "GOOS="+system, "CGO_ENABLED=0")
		if out, err := build.CombinedOutput(); err != nil {
			t.Errorf("for %s: %v\n%s", system, err, out)
		}
	}
}
