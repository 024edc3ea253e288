package e2e

import (
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"missivum/e2e/rig"
)

// TestAnIndependentImplementationAgrees: the service is driven by SCIM with a library that somebody else wrote; schemas, resources,
// filters and changes of parts are the same on both sides.
func TestAnIndependentImplementationAgrees(t *testing.T) {
	s := demoService(t)
	code, key, errs := command(t, "key", "add", "identity", "--scope", "directory", "--server="+s.Address)
	if code != 0 {
		t.Fatal(errs)
	}
	root, err := rig.Root()
	if err != nil {
		t.Fatal(err)
	}
	out, err := exec.Command("node", filepath.Join(root, "lab", "scim", "compare.mjs"), s.Address, strings.TrimSpace(key)).CombinedOutput()
	if err != nil || !regexp.MustCompile(`\A[5-9]\d comparisons\n\z`).Match(out) {
		t.Errorf("%v\n%s", err, out)
	}
}
