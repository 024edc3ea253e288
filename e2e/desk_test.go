package e2e

import (
	"bytes"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"missivum/e2e/rig"
)

// oneDesk is a made-up desk with stand-in clients.
type oneDesk struct {
	t      testing.TB
	home   string
	person string
	extra  []string // arguments behind those that every command of the desk has
}

// standIns are the stand-in clients.
var standIns = []string{"paddle", "tiller", "rudder", "anchor"}

// standInFolder builds the stand-in clients into a folder, each under its name.
func standInFolder(t testing.TB) string {
	t.Helper()
	folder := t.TempDir()
	build := exec.Command("go", "build", "-o", filepath.Join(folder, "desks"), "missivum/lab/desks")
	if out, err := build.CombinedOutput(); err != nil {
		t.Fatalf("building the stand-ins: %v\n%s", err, out)
	}
	for _, name := range standIns {
		if err := os.Link(filepath.Join(folder, "desks"), filepath.Join(folder, name)); err != nil {
			t.Fatal(err)
		}
	}
	return folder
}

// run runs a program at home on the desk.
func (d *oneDesk) run(name string, args ...string) (code int, out, errs string) {
	d.t.Helper()
	c := exec.Command(name, args...)
	c.Env = append(os.Environ(), "HOME="+d.home, "XDG_STATE_HOME="+d.home+"/state", "XDG_CONFIG_HOME="+d.home+"/.config")
	var o, e bytes.Buffer
	c.Stdout, c.Stderr = &o, &e
	err := c.Run()
	if _, ended := err.(*exec.ExitError); err != nil && !ended {
		d.t.Fatal(err)
	}
	return c.ProcessState.ExitCode(), o.String(), e.String()
}

// desk runs a command of missivum desk.
func (d *oneDesk) desk(args ...string) (code int, out, errs string) {
	d.t.Helper()
	return d.run(binary, append(append([]string{"desk"}, args...), d.extra...)...)
}

// must runs a command that has to end well and say something.
func (d *oneDesk) must(want string, args ...string) {
	d.t.Helper()
	if code, out, errs := d.desk(args...); code != 0 || !strings.Contains(out, want) {
		d.t.Fatalf("desk %q: %d\n%s%s\nwant %q", args, code, out, errs, want)
	}
}

// newDesk is a desk on which every stand-in ran once.
func newDesk(t testing.TB, clients, person string) *oneDesk {
	t.Helper()
	root, err := rig.Root()
	if err != nil {
		t.Fatal(err)
	}
	d := &oneDesk{t: t, home: t.TempDir(), person: person, extra: []string{"--places", filepath.Join(root, "demo/places")}}
	for _, name := range standIns {
		if code, out, errs := d.run(filepath.Join(clients, name), "setup"); code != 0 {
			t.Fatal(name, out, errs)
		}
	}
	return d
}

// files are all files of the clients, with content and permissions.
func (d *oneDesk) files() map[string]string {
	d.t.Helper()
	all := map[string]string{}
	err := filepath.WalkDir(filepath.Join(d.home, ".config"), func(name string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		info, err := e.Info()
		if err != nil {
			return err
		}
		data, err := os.ReadFile(name)
		all[strings.TrimPrefix(name, d.home+"/.config/")] = info.Mode().String() + " " + string(data)
		return err
	})
	if err != nil {
		d.t.Fatal(err)
	}
	return all
}

// deskClients are the client profiles of the stand-ins.
var deskClients = []string{"webkit-desktop", "wordproc-desktop", "gecko-desktop", "text-reader"}

// packKits packs kits of a template for all stand-ins; the template's source has one word replaced.
func packKits(t testing.TB, key, from, to string) []string {
	t.Helper()
	root, err := rig.Root()
	if err != nil {
		t.Fatal(err)
	}
	folder := t.TempDir()
	tmpl := filepath.Join(folder, "harbour")
	if err := os.CopyFS(tmpl, os.DirFS(filepath.Join(root, "demo/templates/harbour"))); err != nil {
		t.Fatal(err)
	}
	source, err := os.ReadFile(filepath.Join(tmpl, "template.html"))
	if err != nil || !bytes.Contains(source, []byte(from)) {
		t.Fatalf("the template has no %q: %v", from, err)
	}
	if err := os.WriteFile(filepath.Join(tmpl, "template.html"), bytes.Replace(source, []byte(from), []byte(to), 1), 0o600); err != nil {
		t.Fatal(err)
	}
	var list []string
	for _, client := range deskClients {
		file := filepath.Join(folder, client+".zip")
		pack := exec.Command(binary, "pack", tmpl, "--people", filepath.Join(root, "demo/people.csv"), "--client", client, "--sign-with", key+".key", "-o", file)
		if out, err := pack.CombinedOutput(); err != nil {
			t.Fatalf("packing: %v\n%s", err, out)
		}
		list = append(list, file)
	}
	return list
}

// signingKey makes a key pair and gives its name without ending.
func signingKey(t testing.TB) string {
	t.Helper()
	key := filepath.Join(t.TempDir(), "brackwater")
	if out, err := exec.Command(binary, "kit", "key", "-o", key).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	return key
}

// TestTheHabitsOfClients: what each stand-in does to signatures, and that what is placed lives through it.
func TestTheHabitsOfClients(t *testing.T) {
	clients, key := standInFolder(t), signingKey(t)
	kits := packKits(t, key, "{{ cn", "{{ cn")
	d := newDesk(t, clients, "maren.lind@brackwater.example")
	placing := append([]string{"place", "--trust", key + ".pub", "--person", d.person}, kits...)
	start := d.files()

	stay := exec.Command(filepath.Join(clients, "tiller"), "stay")
	stay.Env = append(os.Environ(), "HOME="+d.home)
	hold, err := stay.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := stay.Start(); err != nil {
		t.Fatal(err)
	}
	code, out, errs := d.desk(placing...)
	if code != 3 || !strings.Contains(errs, "tiller: the process tiller runs. Close the client") || !strings.Contains(out, "paddle: placed") {
		t.Errorf("while a client runs: %d\n%s%s", code, out, errs)
	}
	waited := make(chan string, 1)
	go func() {
		code, out, errs := d.desk(append(placing, "--wait", "1m", "--place", "tiller")...)
		waited <- fmt.Sprint(code, out, errs)
	}()
	time.Sleep(500 * time.Millisecond)
	hold.Close()
	if err := stay.Wait(); err != nil {
		t.Error(err)
	}
	if said := <-waited; !strings.HasPrefix(said, "0") || !strings.Contains(said, "waiting until the client is closed") || !strings.Contains(said, "tiller: placed") {
		t.Errorf("waiting: %s", said)
	}
	d.must("everything is as it should be", placing...)
	for _, name := range standIns {
		code, out, errs := d.run(filepath.Join(clients, name))
		if code != 0 || strings.Count(out, "Maren Lind") != 2 {
			t.Errorf("%s: %d, %s%s", name, code, out, errs)
		}
	}
	if now := d.files(); !strings.Contains(now["paddle/signatures/5d8c1f.mime"], "style=3D") || strings.Contains(now["paddle/signatures/77a0e2.mime"], "=3D\"") {
		t.Error("the client wrote over the read-only file")
	}
	d.must("current, for maren.lind@brackwater.example", "verify")

	stay = exec.Command(filepath.Join(clients, "anchor"), "stay")
	stay.Env = append(os.Environ(), "HOME="+d.home)
	if hold, err = stay.StdinPipe(); err != nil {
		t.Fatal(err)
	}
	said, err := stay.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := stay.Start(); err != nil {
		t.Fatal(err)
	}
	if _, err := said.Read(make([]byte, 10)); err != nil && err != io.EOF {
		t.Error(err)
	}
	if code, out, errs := d.desk("undo", "--place", "anchor"); code != 3 || !strings.Contains(errs, "harbour.txt is held open by anchor; nothing was changed") {
		t.Errorf("while it is held open: %d\n%s%s", code, out, errs)
	}
	hold.Close()
	if err := stay.Wait(); err != nil {
		t.Error(err)
	}
	d.must("removed; nothing was there before", "undo", "--all")
	end := d.files()
	for name := range end { // those that their own client wrote meanwhile are its own
		if name != "paddle/signatures/77a0e2.mime" && name != "rudder/settings.json" && end[name] != start[name] {
			t.Errorf("%s: %q, was %q", name, end[name], start[name])
		}
	}
	if len(end) != len(start) || strings.Contains(end["rudder/settings.json"], "harbour") {
		t.Errorf("%d files, were %d; %s", len(end), len(start), end["rudder/settings.json"])
	}
}

// TestKilledWhilePlacing kills the program at random points: every place has the old set or the new one, another's file is
// never touched, and what was read-only stays so.
func TestKilledWhilePlacing(t *testing.T) {
	clients, key := standInFolder(t), signingKey(t)
	releases := [][]string{packKits(t, key, "{{ cn", "{{ cn"), packKits(t, key, "{{ cn", "Captain {{ cn")}
	d := newDesk(t, clients, "maren.lind@brackwater.example")
	placing := func(release int) []string {
		return append([]string{"place", "--trust", key + ".pub", "--person", d.person}, releases[release]...)
	}
	var sets [2]map[string]string
	for i := range releases {
		d.must("placed", placing(i)...)
		sets[i] = d.files()
	}
	began := time.Now()
	d.must("placed", placing(0)...)
	took := time.Since(began)
	kills, half, before, after := rig.Soak(40, 1000), 0, 0, 0
	for i := range kills {
		wanted := 1 - i%2
		c := exec.Command(binary, append(append([]string{"desk"}, placing(wanted)...), d.extra...)...)
		c.Env = append(os.Environ(), "HOME="+d.home, "XDG_STATE_HOME="+d.home+"/state")
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(rand.Int64N(int64(took * 11 / 10))))
		if err := c.Process.Kill(); err != nil && err != os.ErrProcessDone {
			t.Fatal(err)
		}
		c.Wait() // it was killed, or had ended
		killed := d.files()
		if killed["paddle/signatures/77a0e2.mime"] != sets[0]["paddle/signatures/77a0e2.mime"] {
			t.Fatalf("kill %d: another's file was touched", i)
		}
		if !strings.HasPrefix(killed["paddle/signatures/5d8c1f.mime"], "-r--r--r--") {
			t.Fatalf("kill %d: what was read-only is not: %.40q", i, killed["paddle/signatures/5d8c1f.mime"])
		}
		pending := exists(filepath.Join(d.home, "state/missivum/desk/journal.json"))
		for _, place := range standIns {
			old, new := sameSet(killed, sets[1-wanted], place), sameSet(killed, sets[wanted], place)
			switch {
			case !old && !new && !pending:
				t.Fatalf("kill %d: %s is half, and nothing says that it will be finished", i, place)
			case !old && !new:
				half++
			case old:
				before++
			default:
				after++
			}
		}
		d.must(": current", "verify") // any run finishes what was begun
		for _, place := range standIns {
			if now := d.files(); !sameSet(now, sets[0], place) && !sameSet(now, sets[1], place) {
				t.Fatalf("kill %d: %s is half", i, place)
			}
		}
		d.must(":", placing(wanted)...)
		if now := d.files(); !maps.Equal(now, sets[wanted]) {
			t.Fatalf("kill %d: placing again does not give the new set", i)
		}
	}
	t.Logf("%d kills within %v: of the places %d had the old set, %d the new one, %d were between two moves until the next run", kills, took, before, after, half)
	if before == 0 || after == 0 {
		t.Errorf("the kills did not fall into the work: %d before, %d after", before, after)
	}
}

// sameSet reports whether a place's files are those of a set, but for halves that lie beside.
func sameSet(now, set map[string]string, place string) bool {
	of := func(all map[string]string) map[string]string {
		list := map[string]string{}
		for name, content := range all {
			if strings.HasPrefix(name, place+"/") && !strings.Contains(name, ".missivum-") {
				list[name] = content
			}
		}
		return list
	}
	return maps.Equal(of(now), of(set))
}

func exists(name string) bool {
	_, err := os.Lstat(name)
	return err == nil
}
