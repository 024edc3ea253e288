package e2e

import (
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"missivum/e2e/rig"
)

// wine finds the program that runs programs for Windows, and the compiler for the library that an old one lacks.
func wine(t *testing.T) (runs, compiles string) {
	t.Helper()
	for _, name := range []string{"wine64", "/usr/lib/wine/wine64"} {
		if path, err := exec.LookPath(name); err == nil {
			runs = path
		}
	}
	compiles, err := exec.LookPath("x86_64-w64-mingw32-gcc")
	if runs == "" || err != nil {
		t.Skip("Wine is not installed here: the Windows build was compiled and not run")
	}
	return runs, compiles
}

// TestTheWindowsBuildPlaces runs the Windows build of the desk program and of the stand-in clients under Wine: kits are placed in
// all of them, read-only where it has to be, read back by the clients, verified, and taken back byte for byte.
func TestTheWindowsBuildPlaces(t *testing.T) {
	t.Parallel()
	runs, compiles := wine(t)
	root, err := rig.Root()
	if err != nil {
		t.Fatal(err)
	}
	folder, key := t.TempDir(), signingKey(t)
	prefix := filepath.Join(folder, "prefix")
	system := filepath.Join(prefix, "drive_c", "windows", "system32")
	if err := os.MkdirAll(system, 0o755); err != nil {
		t.Fatal(err)
	}
	library := exec.Command(compiles, "-shared", "-o", filepath.Join(system, "bcryptprimitives.dll"),
		filepath.Join(root, "lab/windows/prng.c"), "-ladvapi32")
	if out, err := library.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	for name, of := range map[string]string{"missivum.exe": ".", "desks.exe": "./lab/desks"} {
		build := exec.Command("go", "build", "-o", filepath.Join(folder, name), of)
		build.Dir, build.Env = root, append(os.Environ(), "GOOS=windows", "GOARCH=amd64", "CGO_ENABLED=0")
		if out, err := build.CombinedOutput(); err != nil {
			t.Fatalf("%v\n%s", err, out)
		}
	}
	run := func(name string, args ...string) string {
		t.Helper()
		c := exec.Command(runs, append([]string{filepath.Join(folder, name)}, args...)...)
		c.Dir, c.Env = folder, append(os.Environ(), "WINEPREFIX="+prefix, "WINEDEBUG=-all")
		out, err := c.CombinedOutput()
		if err != nil {
			t.Fatalf("%s %q: %v\n%s", name, args, err, out)
		}
		return strings.ReplaceAll(string(out), "\r\n", "\n")
	}
	for _, client := range standIns {
		run("desks.exe", client, "setup")
	}
	homes, err := filepath.Glob(filepath.Join(prefix, "drive_c/users/*/.config"))
	if err != nil || len(homes) != 1 {
		t.Fatalf("%q, %v", homes, err)
	}
	d := &oneDesk{t: t, home: filepath.Dir(homes[0])}
	start := d.files()
	places := []string{"--places", "Z:" + filepath.Join(root, "demo/places")}
	placing := append([]string{"desk", "place", "--person", "maren.lind@brackwater.example", "--trust", key + ".pub"}, places...)
	placing = append(placing, packKits(t, key, "{{ cn", "{{ cn")...)
	if out := run("missivum.exe", placing...); strings.Count(out, ": placed;") != 4 ||
		!strings.Contains(out, `\signatures\harbour-new_files\logo.png  written`) {
		t.Errorf("placed: %s", out)
	}
	now := d.files()
	if part := now["paddle/signatures/5d8c1f.mime"]; !strings.HasPrefix(part, "-r--r--r--") {
		t.Errorf("the part is not read-only: %.40q", part)
	}
	if settings := now["rudder/settings.json"]; !strings.Contains(settings, `\\.config\\rudder\\signatures\\harbour.html`) {
		t.Errorf("the path is not one of this system: %s", settings)
	}
	for _, client := range standIns {
		if out := run("desks.exe", client); strings.Count(out, "Maren Lind") != 2 {
			t.Errorf("%s: %s", client, out)
		}
	}
	if out := run("missivum.exe", placing...); strings.Count(out, "everything is as it should be") != 4 {
		t.Errorf("placed twice: %s", out)
	}
	if out := run("missivum.exe", append([]string{"desk", "verify"}, places...)...); strings.Count(out, ": current") != 4 {
		t.Errorf("verified: %s", out)
	}
	run("missivum.exe", append([]string{"desk", "undo"}, places...)...)
	end := d.files()
	for _, own := range []string{"paddle/signatures/77a0e2.mime", "rudder/settings.json"} { // which their clients wrote meanwhile
		delete(end, own)
		delete(start, own)
	}
	if !maps.Equal(end, start) {
		t.Errorf("taken back:\n%q\nbefore:\n%q", end, start)
	}
}
