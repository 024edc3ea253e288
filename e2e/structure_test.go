package e2e

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"os/exec"
	"slices"
	"strings"
	"testing"
)

// goPackage is what go list says of a package.
type goPackage struct {
	ImportPath   string
	Imports      []string
	Deps         []string
	TestImports  []string
	XTestImports []string
}

func packages(t *testing.T) []goPackage {
	t.Helper()
	list := exec.Command("go", "list", "-json=ImportPath,Imports,Deps,TestImports,XTestImports", "missivum/...")
	var errs bytes.Buffer
	list.Stderr = &errs
	out, err := list.Output()
	if err != nil {
		t.Fatalf("go list: %v\n%s", err, &errs)
	}
	var all []goPackage
	for d := json.NewDecoder(bytes.NewReader(out)); ; {
		var p goPackage
		if err := d.Decode(&p); errors.Is(err, io.EOF) {
			return all
		} else if err != nil {
			t.Fatal(err)
		}
		all = append(all, p)
	}
}

// part is the first folder of a package's path: core, service, cli, ...
func part(path string) string {
	path = strings.TrimPrefix(strings.TrimPrefix(path, "missivum"), "/")
	first, _, _ := strings.Cut(path, "/")
	return first
}

// TestImportDirection keeps the architecture: core imports only core, the service imports core, the
// commands import both, nothing imports the commands.
func TestImportDirection(t *testing.T) {
	allowed := map[string]string{
		"core": "core", "service": "core service console addon", "console": "", "addon": "", "desk": "core desk",
		"cli": "core service desk demo", "demo": "core demo",
		"e2e": "core service desk cli demo e2e", "docs": "core service demo e2e", "lab": "", "packaging": "", "": "cli",
	}
	seen := map[string]bool{}
	for _, p := range packages(t) {
		from := part(p.ImportPath)
		seen[from] = true
		may, known := allowed[from]
		if !known {
			t.Errorf("%s stands in a folder that the architecture does not know", p.ImportPath)
		}
		for _, imported := range p.Imports {
			if strings.HasPrefix(imported, "missivum/") && !strings.Contains(" "+may+" ", " "+part(imported)+" ") {
				t.Errorf("%s imports %s", p.ImportPath, imported)
			}
		}
	}
	if !seen["core"] || !seen["service"] || !seen["cli"] {
		t.Errorf("not all parts were looked at: %v", seen)
	}
}

// TestCoreTouchesNoNetworkDatabaseOrInterface: nor does it read a clock by importing a server.
func TestCoreTouchesNoNetworkDatabaseOrInterface(t *testing.T) {
	for _, p := range packages(t) {
		if part(p.ImportPath) != "core" {
			continue
		}
		for _, imported := range p.Imports {
			for _, bad := range []string{"net/http", "net", "database/sql", "os", "os/exec", "log", "log/slog",
				"github.com/spf13/cobra", "github.com/gin-gonic/gin"} {
				if imported == bad {
					t.Errorf("%s imports %s", p.ImportPath, imported)
				}
			}
		}
	}
}

// TestComposingKnowsNoClients: what goes out does not depend on who reads it; profiles are data that know no engine.
func TestComposingKnowsNoClients(t *testing.T) {
	never := map[string][]string{
		"missivum/core/compose":  {"missivum/core/client", "missivum/core/journey", "missivum/core/preview", "missivum/core/check"},
		"missivum/core/richtext": {"missivum/core/client", "missivum/core/compose"},
		"missivum/core/client":   {"missivum/core/journey", "missivum/core/markup", "missivum/core/compose"},
		"missivum/core/journey":  {"missivum/core/compose", "missivum/core/check"},
	}
	seen := 0
	for _, p := range packages(t) {
		for _, bad := range never[p.ImportPath] {
			seen++
			if slices.Contains(p.Deps, bad) {
				t.Errorf("%s depends on %s", p.ImportPath, bad)
			}
		}
	}
	if seen != 11 {
		t.Errorf("%d of 11 were looked at", seen)
	}
}

// TestOnlyTheStoreSpeaksSQL and tests use the testing package alone.
func TestOnlyTheStoreSpeaksSQL(t *testing.T) {
	for _, p := range packages(t) {
		for _, imported := range p.Imports {
			if (imported == "database/sql" || strings.Contains(imported, "sqlite")) && p.ImportPath != "missivum/service/store" {
				t.Errorf("%s imports %s", p.ImportPath, imported)
			}
		}
		for _, imported := range append(p.TestImports, p.XTestImports...) {
			for _, bad := range []string{"testify", "gomock", "ginkgo", "gomega", "go-cmp", "quicktest", "goconvey"} {
				if strings.Contains(imported, bad) {
					t.Errorf("the tests of %s import %s", p.ImportPath, imported)
				}
			}
		}
	}
}
