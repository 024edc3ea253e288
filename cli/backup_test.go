package cli

import (
	"context"
	"log/slog"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"missivum/service"
)

// TestTheWayOfABackup: made, checked, restored into another folder and over one, refused where it could do harm; the doctor says
// what is wrong, and with which status.
func TestTheWayOfABackup(t *testing.T) {
	folder := t.TempDir()
	in := func(name string) string { return filepath.Join(folder, name) }
	c := service.Config{Data: in("data"), Listen: "127.0.0.1:0", Log: slog.New(slog.DiscardHandler), Now: time.Now}
	s, err := service.Open(context.Background(), c)
	if err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan error)
	go func() { ended <- s.Serve(ctx) }()
	for _, step := range []struct {
		args string
		code int
		says string
	}{
		{"backup --data DIR/data -o DIR/b.zip", ExitFine, "b.zip is whole: 0 people"},
		{"backup --data DIR/data -o DIR/b.zip", ExitFindings, "There is a file"},
		{"backup --data DIR/none -o DIR/c.zip", ExitUsage, "holds no database"},
		{"backup --check DIR/b.zip", ExitFine, "b.zip is whole"},
		{"backup --check DIR/none.zip", ExitUsage, "There is no file"},
		{"restore DIR/b.zip --data DIR/data --replace", ExitFindings, "another service works on the data folder"},
		{"restore DIR/b.zip --data DIR/other", ExitFine, "holds what was backed up"},
		{"restore DIR/b.zip --data DIR/other", ExitFindings, "is not empty"},
		{"restore DIR/b.zip --data DIR/other --replace", ExitFine, "What was there before is in"},
		{"doctor --data DIR/data", ExitFine, "✓ database"},
		{"doctor --data DIR/none", ExitFindings, "cannot be read"},
		{"config check --data DIR/data --listen 0.0.0.0:1", ExitUsage, "is not a loopback address"},
		{"config check --log xml", ExitUsage, "--log:"},
		{"config example --schema", ExitFine, `"$schema"`},
	} {
		code, out, errs := run(t, strings.Fields(strings.ReplaceAll(step.args, "DIR", folder))...)
		if code != step.code || !strings.Contains(out+errs, step.says) {
			t.Errorf("%s: exit %d, want %d with %q:\n%s%s", step.args, code, step.code, step.says, out, errs)
		}
	}
	stop()
	if err := <-ended; err != nil {
		t.Error(err)
	}
	if err := os.Chmod(in("data"), 0o755); err != nil {
		t.Fatal(err)
	}
	secret := filepath.Join(in("data"), "secrets", "x")
	if err := os.WriteFile(secret, nil, 0o644); err != nil {
		t.Fatal(err)
	}
	code, out, _ := run(t, "doctor", "--data", in("data"))
	for _, want := range []string{`(?m)^△ data folder +.*\n +chmod o-rwx`, `(?m)^✕ secrets +others on this machine can read .*\n +chmod 600`} {
		if code != ExitFindings || !regexp.MustCompile(want).MatchString(out) {
			t.Errorf("exit %d, want %s:\n%s", code, want, out)
		}
	}
}
