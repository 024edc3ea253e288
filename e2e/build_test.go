package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	load "golang.org/x/tools/go/packages"

	"missivum/e2e/rig"
)

// TestFitsAllSystems: desks run Linux, macOS and Windows. All other tests run the program for Linux, one that for Windows; for macOS
// the types of all that it is made of are checked, and make soak builds it.
func TestFitsAllSystems(t *testing.T) {
	t.Parallel()
	root, err := rig.Root()
	if err != nil {
		t.Fatal(err)
	}
	environment := append(os.Environ(), "GOOS=darwin", "CGO_ENABLED=0")
	if rig.Soak(0, 1) == 1 {
		build := exec.Command("go", "build", "-o", filepath.Join(t.TempDir(), "program"), ".")
		build.Dir, build.Env = root, environment
		if out, err := build.CombinedOutput(); err != nil {
			t.Errorf("%v\n%s", err, out)
		}
		return
	}
	list, err := load.Load(&load.Config{Context: t.Context(), Dir: root, Env: environment, Mode: load.NeedName | load.NeedFiles |
		load.NeedImports | load.NeedDeps | load.NeedTypes | load.NeedSyntax}, ".")
	if err != nil {
		t.Fatal(err)
	}
	count := 0
	load.Visit(list, nil, func(p *load.Package) {
		count++
		for _, e := range p.Errors {
			t.Error(e)
		}
	})
	if t.Logf("%d packages", count); count < 300 {
		t.Errorf("only %d packages were looked at", count)
	}
}
