package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"missivum/e2e/rig"
)

// TestTheReadmeShowsRealOutput runs the commands of the README's tour: every line that it shows below
// a command is a line of what the command says, in that order.
func TestTheReadmeShowsRealOutput(t *testing.T) {
	root, err := rig.Root()
	if err != nil {
		t.Fatal(err)
	}
	readme, err := os.ReadFile(filepath.Join(root, "README.md"))
	if err != nil {
		t.Fatal(err)
	}
	var line string
	var shown []string
	commands := 0
	verify := func() {
		if line == "" {
			return
		}
		commands++
		args := strings.Fields(line)
		for i := 1; i < len(args); i++ { // files go elsewhere than into the repository
			if args[i-1] == "-o" || args[i-1] == "--sheet" {
				args[i] = filepath.Join(t.TempDir(), args[i])
			}
		}
		if args[0] != "clean" && args[0] != "people" && !strings.HasPrefix(line, "picture fit") { // on no day in particular
			args = append(args, "--date", "2026-11-23")
		}
		_, out, errs := command(t, args...)
		said := strings.Split(errs+out, "\n")
		for _, want := range shown {
			found := false
			for i, l := range said {
				if same(l, want) {
					said, found = said[i+1:], true
					break
				}
			}
			if !found {
				t.Errorf("missivum %s\ndoes not say (in this order)\n%s", line, want)
			}
		}
	}
	for _, l := range strings.Split(string(readme), "\n") {
		text, indented := strings.CutPrefix(l, "    ")
		switch {
		case !indented:
			verify()
			line, shown = "", nil
		case strings.HasPrefix(text, "$ missivum "):
			verify()
			line, shown = strings.TrimPrefix(text, "$ missivum "), nil
		case line != "" && text != "...":
			shown = append(shown, text)
		}
	}
	if commands < 6 {
		t.Errorf("%d commands found in the README", commands)
	}
}

// same compares a line of output with one of the README, where spaces are plain and a file's folder
// is another.
func same(said, shown string) bool {
	plain := strings.Join(strings.Fields(strings.ReplaceAll(said, "\u00a0", " ")), " ")
	want := strings.Join(strings.Fields(strings.ReplaceAll(shown, "\u00a0", " ")), " ")
	return plain == want || strings.HasSuffix(plain, "/"+want)
}
