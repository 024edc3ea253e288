package cli

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"missivum/core/diagnosis"
)

// arrived writes a message with Maren's signature of the demo, changed.
func arrived(t *testing.T, change func(string) string) string {
	t.Helper()
	code, html, errs := run(t, "fill", "demo/templates/harbour", "--people", peopleFile, "--person", "maren.lind@brackwater.example", "--form",
		"fragment", "--date", "2026-11-23")
	if code != ExitFine {
		t.Fatal(errs)
	}
	file := filepath.Join(t.TempDir(), "arrived.eml")
	message := "From: Maren Lind <maren.lind@brackwater.example>\nTo: pilot@harbour.example\nSubject: Berth 4\nMIME-Version: 1.0\n" +
		"Content-Type: text/html; charset=utf-8\n\n<p>Good morning</p>" + change(html)
	if err := os.WriteFile(file, []byte(message), 0o600); err != nil {
		t.Fatal(err)
	}
	return file
}

func TestDiagnose(t *testing.T) {
	with := []string{"--template", "demo/templates/harbour", "--people", peopleFile, "--date", "2026-11-23"}
	right := arrived(t, func(s string) string { return s })
	code, out, errs := run(t, append([]string{"diagnose", right}, with...)...)
	if code != ExitFine || !strings.Contains(out, "is there, as it should be") || !strings.Contains(out, "note: 2 pictures are hosted") {
		t.Errorf("%d %s%s", code, out, errs)
	}
	twice := arrived(t, func(s string) string { return s + s })
	code, out, _ = run(t, append([]string{"diagnose", twice}, with...)...)
	if code != ExitFindings || !strings.Contains(out, "[two-mechanisms]") || !strings.Contains(out, "step: Switch one of them off") {
		t.Errorf("%d %s", code, out)
	}
	code, out, _ = run(t, append([]string{"diagnose", twice, "--json"}, with...)...)
	var r diagnosis.Result
	if err := json.Unmarshal([]byte(out), &r); err != nil || code != ExitFindings || r.Verdict.Copies != 2 || len(r.Causes) == 0 {
		t.Errorf("%d, %v, %+v", code, err, r)
	}
	for args, say := range map[string]string{
		"diagnose":                       "needs MESSAGE",
		"diagnose none.eml --template x": "none.eml",
		"diagnose demo/people.csv --template demo/templates/harbour --people demo/people.csv": "no message",
		"diagnose " + right + " --template demo/templates/harbour":                            "--people",
	} {
		code, out, errs := run(t, strings.Fields(args)...)
		if code == ExitFine || !strings.Contains(errs, say) {
			t.Errorf("%s: %d %s%s, want %q", args, code, out, errs, say)
		}
	}
	stranger := filepath.Join(t.TempDir(), "stranger.eml")
	if err := os.WriteFile(stranger, []byte("From: x@y.example\nSubject: x\n\nhello\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	code, out, errs = run(t, append([]string{"diagnose", stranger}, with...)...)
	if code != ExitFindings || !strings.Contains(errs, "not in the directory") || !strings.Contains(out, "composed-as-text") {
		t.Errorf("a stranger: %d %s%s", code, out, errs)
	}
}
