package cli

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"missivum/core/clean"
)

func write(t *testing.T, name, content string) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), name)
	if err := os.WriteFile(file, []byte(content), 0o600); err != nil {
		t.Fatal(err)
	}
	return file
}

func TestNewFromAStarter(t *testing.T) {
	code, out, errs := run(t, "new")
	if code != ExitFine || strings.Count(out, "\n") < 9 || !strings.Contains(out, "right-to-left") {
		t.Errorf("exit %d: %s%s", code, out, errs)
	}
	folder := filepath.Join(t.TempDir(), "crew")
	if code, out, errs = run(t, "new", "--starter", "text-first", "-o", folder); code != ExitFine || !strings.Contains(out, "3 files") {
		t.Errorf("exit %d: %s%s", code, out, errs)
	}
	if code, _, errs = run(t, "new", "--starter", "text-first", "-o", folder); code != ExitFailed ||
		!strings.Contains(errs, "exists already") {
		t.Errorf("a second time: exit %d: %s", code, errs)
	}
	if code, _, errs = run(t, "new", "--starter", "colums"); code != ExitUsage || !strings.Contains(errs, "there is columns") {
		t.Errorf("misspelt: exit %d: %s", code, errs)
	}
	if code, out, errs = run(t, "check", folder, "--people", peopleFile); code != ExitFine {
		t.Errorf("what was made has faults: exit %d: %s%s", code, out, errs)
	}
}

func TestCleanCommand(t *testing.T) {
	file := write(t, "old.html", "<div class=x><p>Gr\xfc\xdfe<o:p></o:p></div><form></form>")
	code, out, errs := run(t, "clean", file)
	if code != ExitFine || out != "<p>Grüße</p>\n<form></form>\n" || !strings.Contains(errs, "namespaced tags: 1") ||
		!strings.Contains(errs, ":1:39  left: <form>") {
		t.Errorf("exit %d\n%s\n%s", code, out, errs)
	}
	code, out, _ = run(t, "clean", file, "--format", "json")
	var r clean.Result
	if err := json.Unmarshal([]byte(out), &r); code != ExitFine || err != nil || len(r.Changes) != 3 || len(r.Left) != 1 {
		t.Errorf("exit %d, %v: %s", code, err, out)
	}
	if code, _, errs = run(t, "clean", file, "--format", "xml"); code != ExitUsage {
		t.Errorf("exit %d: %s", code, errs)
	}
	if code, _, errs = run(t, "clean", filepath.Join(t.TempDir(), "none.html")); code != ExitFailed ||
		!strings.Contains(errs, "cannot be read") {
		t.Errorf("exit %d: %s", code, errs)
	}
}

func TestNewFromAPage(t *testing.T) {
	folder := t.TempDir()
	logo, err := os.ReadFile(filepath.Join(root, "demo", "templates", "harbour", "pictures", "logo.png"))
	if err != nil {
		t.Fatal(err)
	}
	for name, data := range map[string][]byte{"my logo.png": logo,
		"page.html": []byte(`<title>Crew</title><p class=x>Crew</p><img src="my%20logo.png" alt="Mark"><img src="gone.png">`)} {
		if err := os.WriteFile(filepath.Join(folder, name), data, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	target := filepath.Join(folder, "imported")
	code, out, errs := run(t, "new", "--page", filepath.Join(folder, "page.html"), "--clean", "-o", target)
	if code != ExitFine || !strings.Contains(out, "3 files") ||
		!strings.Contains(errs, "with the pictures my-logo.png") || !strings.Contains(errs, "gone.png did not come along") {
		t.Errorf("exit %d\n%s\n%s", code, out, errs)
	}
	settings, err := os.ReadFile(filepath.Join(target, "template.yaml"))
	if err != nil || !strings.Contains(string(settings), "title: Crew") || !strings.Contains(string(settings), "file: my-logo.png") {
		t.Errorf("%s %v", settings, err)
	}
	source, err := os.ReadFile(filepath.Join(target, "template.html"))
	if err != nil || !strings.Contains(string(source), `data-picture="my-logo-png"`) || strings.Contains(string(source), "class") {
		t.Errorf("%s %v", source, err)
	}
}

func TestNewFromASignature(t *testing.T) {
	file := write(t, "maren.html", "<p>Maren Lind, Brackwater Ferries</p><p>mAREN lIND</p>")
	made := []string{"new", "--signature", file, "--people", peopleFile, "--person", "maren.lind@brackwater.example"}
	code, out, errs := run(t, made...)
	if code != ExitFine || out != "<p>{{ cn }}, Brackwater Ferries</p><p>{{ cn }}</p>\n" {
		t.Errorf("exit %d: %s", code, out)
	}
	for _, want := range []string{`"Maren Lind" is {{ cn }}`, `otherwise give --answer "1:16=l"`,
		`the text "mAREN lIND" becomes "Maren Lind"`, "1 difference from the original", "Not found in the signature: "} {
		if !strings.Contains(errs, want) {
			t.Errorf("%q is not reported:\n%s", want, errs)
		}
	}
	if code, out, _ = run(t, append(made, "--answer", "1:16=l")...); code != ExitFine || !strings.Contains(out, "{{ l }} Ferries") {
		t.Errorf("answered: exit %d: %s", code, out)
	}
	if code, _, errs = run(t, append(made, "--answer", "l")...); code != ExitUsage || !strings.Contains(errs, "12:4=l") {
		t.Errorf("an answer to nothing: exit %d: %s", code, errs)
	}
	if code, _, errs = run(t, made[:5]...); code != ExitUsage || !strings.Contains(errs, "--person") {
		t.Errorf("nobody's: exit %d: %s", code, errs)
	}
	folder := filepath.Join(t.TempDir(), "mine")
	if code, _, errs = run(t, append(made, "-o", folder)...); code != ExitFine {
		t.Errorf("exit %d: %s", code, errs)
	}
	if code, out, errs = run(t, "fill", folder, "--people", peopleFile, "--person", "bo@brackwater.example", "--form",
		"text"); code != ExitFine || !strings.HasPrefix(out, "-- \nBo, Brackwater Ferries\n") {
		t.Errorf("filled for another: exit %d: %q %s", code, out, errs)
	}
}
