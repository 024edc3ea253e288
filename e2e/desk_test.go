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

	"github.com/chromedp/chromedp"
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
		if code, out, errs := d.run(filepath.Join(clients, "desks"), name, "setup"); code != 0 { // no process of the client's name
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
		pack := exec.Command(binary, "pack", tmpl, "--people", filepath.Join(root, "demo/people.csv"), "--client", client,
			"--sign-with", key+".key", "-o", file)
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
	if said := <-waited; !strings.HasPrefix(said, "0") || !strings.Contains(said, "waiting until the client is closed") ||
		!strings.Contains(said, "tiller: placed") {
		t.Errorf("waiting: %s", said)
	}
	d.must("everything is as it should be", placing...)
	for _, name := range standIns {
		code, out, errs := d.run(filepath.Join(clients, name))
		if code != 0 || strings.Count(out, "Maren Lind") != 2 {
			t.Errorf("%s: %d, %s%s", name, code, out, errs)
		}
	}
	if now := d.files(); !strings.Contains(now["paddle/signatures/5d8c1f.mime"], "style=3D") ||
		strings.Contains(now["paddle/signatures/77a0e2.mime"], "=3D\"") {
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
	if code, out, errs := d.desk("undo", "--place", "anchor"); code != 3 ||
		!strings.Contains(errs, "harbour.txt is held open by anchor; nothing was changed") {
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
	kills, half, before, after := rig.Soak(25, 1000), 0, 0, 0
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
	t.Logf("%d kills within %v: of the places %d had the old set, %d the new one, %d were between two moves until the next run",
		kills, took, before, after, half)
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

// TestTheWholeWay goes from a changed template to desks and back: 20 desks with all stand-ins, two waves, one desk altered and
// found, the second release withdrawn, and then the first, after which everything is byte for byte as it was.
func TestTheWholeWay(t *testing.T) {
	t.Parallel()
	clients := standInFolder(t)
	s := demoService(t)
	server := "--server=" + s.Address
	must := func(want string, args ...string) string {
		t.Helper()
		code, out, errs := command(t, append(args, server)...)
		if code != 0 || !strings.Contains(out+errs, want) {
			t.Fatalf("%q: %d\n%s%s\nwant %q", args, code, out, errs, want)
		}
		return out
	}
	secret := filepath.Join(t.TempDir(), "desk.key")
	if err := os.WriteFile(secret, []byte(must("missivum-", "key", "add", "desks", "--scope", "desk")), 0o600); err != nil {
		t.Fatal(err)
	}
	people := func(audience string) []string {
		var list []string
		for _, line := range strings.Split(must("@", "audience", "people", audience), "\n")[1:] {
			if mail, _, ok := strings.Cut(line, " "); ok && strings.Contains(mail, "@") {
				list = append(list, mail)
			}
		}
		return list
	}
	crew := people("crew")
	ashore := []string{"bo@brackwater.example", "eleni.thalassinou@brackwater.example", "oleksandra.berehova@brackwater.example",
		"salma.albahri@brackwater.example", "noam.gali@brackwater.example", "kamome.minato@brackwater.example"}
	var desks []*oneDesk
	var start []map[string]string
	for _, mail := range append(crew[:14:14], ashore...) {
		d := newDesk(t, clients, mail)
		desks, start = append(desks, d), append(start, d.files())
	}
	watch := func(d *oneDesk) string {
		t.Helper()
		code, out, errs := d.desk("watch", "--once", "--person", d.person, "--key-file", secret, server)
		if code != 0 {
			t.Fatalf("%s: %d\n%s%s", d.person, code, out, errs)
		}
		return out
	}
	round := func(want string, from, to int) {
		t.Helper()
		for _, d := range desks[from:to] {
			if out := watch(d); !strings.Contains(out, want) {
				t.Fatalf("%s: %s\nwant %q", d.person, out, want)
			}
		}
	}
	release := func(id, title string) {
		t.Helper()
		must("checked", "release", "make", title, "--base", "brackwater", "--as", "Maren")
		if code, _, errs := command(t, "release", "approve", id, "--as", "Maren", server); code != 1 ||
			!strings.Contains(errs, "somebody else has to approve") {
			t.Fatalf("whoever made it approves: %d %s", code, errs)
		}
		must("approved by Bo", "release", "approve", id, "--as", "Bo", "--says", "seen")
	}

	release("1", "Autumn")
	must("everybody", "release", "send", "1")
	round("4 places new", 0, 20)
	var autumn []map[string]string
	for _, d := range desks {
		autumn = append(autumn, d.files())
	}
	round("0 places new, 4 places as it should be; fetched 0 files, 0 bytes", 0, 20)

	folder := filepath.Join(t.TempDir(), "harbour")
	must("harbour", "template", "pull", "harbour", "-o", folder)
	source, err := os.ReadFile(filepath.Join(folder, "template.html"))
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(folder, "template.html"),
		bytes.Replace(source, []byte("{{ cn"), []byte("Winter greetings from {{ cn"), 1), 0o600); err != nil {
		t.Fatal(err)
	}
	must("version 2", "template", "push", folder, "--note", "winter")
	release("2", "Winter")
	if shown := must("harbour: template.html", "release", "show", "2"); !strings.Contains(shown, "1 line added, 1 removed") {
		t.Errorf("the differences: %s", shown)
	}
	must("begun", "release", "send", "2", "--wave", "crew:90", "--wave", "everybody") // 14 of 20 are not 90 %
	round("4 places new", 0, 14)
	round("0 places new", 14, 20)

	page := filepath.Join(desks[3].home, ".config/tiller/signatures/brackwater-new.htm")
	text, err := os.ReadFile(page)
	if err != nil || !bytes.Contains(text, []byte("Winter greetings")) {
		t.Fatalf("%s: %v", page, err)
	}
	if err := os.WriteFile(page, bytes.Replace(text, []byte("Winter"), []byte("Summer"), 1), 0o600); err != nil {
		t.Fatal(err)
	}
	if code, out, _ := desks[3].desk("verify"); code != 1 || !strings.Contains(out, `altered: "Summer" stands where "Winter" stood`) {
		t.Errorf("verify: %d %s", code, out)
	}
	if code, out, errs := desks[3].desk("report", "--key-file", secret, server); code != 0 {
		t.Fatalf("report: %s%s", out, errs)
	}
	found := must("1 altered", "release", "desks", "--wave", "1")
	if !strings.Contains(found, desks[3].person) {
		t.Errorf("the altered desk is not found: %s", found)
	}

	tab := browser(t)
	do(t, tab, "the desks", chromedp.Navigate(s.Address+"/desks?wave=1"),
		chromedp.WaitVisible(`//td[contains(., "was placed") or contains(., "stood")]`),
		chromedp.Click(`//button[contains(., "altered")]`), chromedp.WaitVisible(`//p[. = "1 person"]`))
	if got := evaluate[string](t, tab, `document.querySelector('table').innerText`); !strings.Contains(got,
		desks[3].person) || !strings.Contains(got, "Summer") {
		t.Errorf("the Desks page shows %q", got)
	}
	do(t, tab, "the release", chromedp.Navigate(s.Address+"/releases/2"), chromedp.WaitVisible(`//button[. = "Begin the next wave now"]`))
	press(t, tab, "the next wave", "Begin the next wave now")

	round("4 places new", 14, 20)
	if out := watch(desks[3]); !strings.Contains(out, "it was altered since it was placed") ||
		!strings.Contains(out, "tiller: current, release 2") {
		t.Errorf("the altered desk is not put right: %s", out)
	}
	must("20 current", "release", "desks")

	do(t, tab, "withdrawing", chromedp.Navigate(s.Address+"/releases/2"), chromedp.Click(`//button[. = "Withdraw"]`),
		chromedp.Click(`//button[. = "Withdraw it"]`),
		chromedp.WaitVisible(`//span[contains(., "withdrawn")]`))
	round("4 places new", 0, 20)
	for i, d := range desks {
		if !maps.Equal(d.files(), autumn[i]) {
			t.Errorf("%s: the release before did not come back byte for byte", d.person)
		}
	}
	must("withdrawn", "release", "withdraw", "1")
	round("the release was withdrawn; taken back", 0, 20)
	for i, d := range desks {
		if now := d.files(); !maps.Equal(now, start[i]) {
			t.Errorf("%s: what was there before did not come back byte for byte", d.person)
			for name := range now {
				if now[name] != start[i][name] {
					t.Logf("%s: %.200q, was %.200q", name, now[name], start[i][name])
				}
			}
		}
	}
}

// TestWhatAnotherBannerCosts: a release in which the banner is another. Desks fetch the picture once, though page, rich text and
// another client's page hold it too; clients that show it from its address fetch nothing.
func TestWhatAnotherBannerCosts(t *testing.T) {
	t.Parallel()
	clients := standInFolder(t)
	s := demoService(t)
	server := "--server=" + s.Address
	must := func(args ...string) string {
		t.Helper()
		code, out, errs := command(t, append(args, server)...)
		if code != 0 {
			t.Fatalf("%q: %d\n%s%s", args, code, out, errs)
		}
		return out
	}
	secret := filepath.Join(t.TempDir(), "desk.key")
	if err := os.WriteFile(secret, []byte(must("key", "add", "desks", "--scope", "desk")), 0o600); err != nil {
		t.Fatal(err)
	}
	released := func(id string) {
		must("release", "make", "Release "+id, "--base", "brackwater", "--as", "Maren")
		must("release", "approve", id, "--as", "Bo", "--says", "seen")
		must("release", "send", id)
	}
	released("1")
	var desks []*oneDesk
	for range 2 {
		desks = append(desks, newDesk(t, clients, "maren.lind@brackwater.example"))
	}
	hosted := desks[1] // only the client whose pictures are hosted
	for _, name := range []string{"tiller", "rudder", "anchor"} {
		if err := os.RemoveAll(filepath.Join(hosted.home, ".config", name)); err != nil {
			t.Fatal(err)
		}
	}
	fetched := func(d *oneDesk) (files, n int) {
		t.Helper()
		code, out, errs := d.desk("watch", "--once", "--person", d.person, "--key-file", secret, server)
		_, counts, ok := strings.Cut(strings.ReplaceAll(out, "file,", "files,"), "fetched ")
		counts = strings.ReplaceAll(strings.ReplaceAll(counts, "\u00a0", ""), "\u202f", "")
		var tail string
		if code != 0 || !ok {
			t.Fatalf("%d\n%s%s", code, out, errs)
		}
		line, _, _ := strings.Cut(counts, "\n")
		left, right, _ := strings.Cut(line, " files, ")
		if _, err := fmt.Sscan(left, &files); err != nil {
			t.Fatal(line, err)
		}
		if _, err := fmt.Sscan(strings.ReplaceAll(strings.TrimSuffix(right, " bytes"), " ", ""), &n); err != nil {
			t.Fatal(line, err, tail)
		}
		return files, n
	}
	_, all := fetched(desks[0])
	if _, n := fetched(hosted); n == 0 {
		t.Fatal("nothing was fetched")
	}
	folder := filepath.Join(t.TempDir(), "harbour")
	must("template", "pull", "harbour", "-o", folder)
	root, err := rig.Root()
	if err != nil {
		t.Fatal(err)
	}
	banner, err := os.ReadFile(filepath.Join(root, "demo/templates/regatta/pictures/banner.png"))
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(folder, "pictures", "banner.png"), banner, 0o600); err != nil {
		t.Fatal(err)
	}
	must("template", "push", folder, "--note", "another banner")
	released("2")
	full := 0
	for name, text := range desks[0].files() {
		if strings.Contains(name, "brackwater") {
			full += len(text) - len("-rw-r--r-- ")
		}
	}
	files, n := fetched(desks[0])
	none, zero := fetched(hosted)
	t.Logf("the first kits: %d bytes fetched for %d bytes of files; another banner of %d bytes: %d files and %d "+
		"bytes, %.0f %% of all; hosted: %d files, %d bytes",
		all, full, len(banner), files, n, 100*float64(n)/float64(full), none, zero)
	if n < len(banner) || n > len(banner)+12_000 {
		t.Errorf("another banner costs %d bytes; the picture has %d", n, len(banner))
	}
	if none != 0 || zero != 0 {
		t.Errorf("where it is hosted, another banner costs %d files and %d bytes", none, zero)
	}
	desks[0].must(": current", "verify")
	if out := must("release", "desks"); !strings.Contains(out, "maren.lind@brackwater.example") || strings.Contains(out, "older") {
		t.Errorf("the desks: %s", out)
	}
}
