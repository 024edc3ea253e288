package desk

import (
	"archive/zip"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"missivum/core/client"
	"missivum/core/desk"
	"missivum/core/kit"
	"missivum/core/person"
	"missivum/core/problem"
	"missivum/core/template"
)

var (
	ctx = context.Background()
	key = kit.NewKey([32]byte{7})
	who = "maren.lind@brackwater.example"
)

// made is a kit for a client, of a template whose words and picture are given.
func made(t testing.TB, id, text, picture string) Kit {
	t.Helper()
	tm, err := template.New("quay", template.Parts{
		Source: `<p style="color: #123456">{{ cn }} ` + text + `<img data-picture="logo"></p><p data-in="new">New</p>`,
		Settings: "variants: [new, reply]\nlanguage: en\npictures:\n  address: https://pictures.brackwater.example/q/\n" +
			"  files: {logo: {file: logo.svg, alt: Ferries}}",
		Pictures: map[string][]byte{"logo.svg": []byte(`<svg xmlns="http://www.w3.org/2000/svg" width="9" height="9"><title>` +
			picture + `</title></svg>`)},
	})
	if err != nil {
		t.Fatal(err)
	}
	m, err := kit.New(kit.Input{Templates: map[string]*template.Template{"quay": tm}, Schema: person.NewSchema("mail", "cn"),
		Day: time.Date(2026, 11, 27, 0, 0, 0, 0, time.UTC), Way: client.Find(id).Install.Way, Desk: client.Find(id).Install.OnDesk(), Client: id})
	if err != nil {
		t.Fatal(err)
	}
	k, err := m.Worker().Make(&person.Person{Values: []string{who, "Maren Lind"}},
		[]kit.Choice{{Situation: "new", Template: "quay", Variant: "new"},
			{Situation: "reply", Template: "quay", Variant: "reply"}})
	if err != nil {
		t.Fatal(err)
	}
	return opened(t, k.List, k.Contents)
}

// opened signs a list and opens it as a desk does.
func opened(t testing.TB, list kit.List, contents []kit.File) Kit {
	t.Helper()
	text := list.JSON()
	k, err := Trusted(text, key.Sign(text), key.Trusted(), func(l kit.Listed) ([]byte, error) {
		for _, f := range contents {
			if f.File == l.File {
				return f.Data, nil
			}
		}
		return nil, fs.ErrNotExist
	})
	if err != nil {
		t.Fatal(err)
	}
	return k
}

// kits are kits for every stand-in.
func kits(t testing.TB, text, picture string) []Kit {
	var list []Kit
	for _, id := range []string{"webkit-desktop", "wordproc-desktop", "gecko-desktop", "text-reader"} {
		list = append(list, made(t, id, text, picture))
	}
	return list
}

const part = "MIME-Version: 1.0\nX-Own: kept\nContent-Type: text/html; charset=utf-8\nContent-Transfer-Encoding: quoted-printable\n\n"

// home makes a home with all stand-ins as they are before anything was placed.
func home(t testing.TB) (*Desk, string) {
	t.Helper()
	folder := t.TempDir()
	for name, text := range map[string]string{
		"paddle/signatures/5d.mime": part + "<p>TYPE-HERE</p>\n", "paddle/signatures/77.mime": part + "<p>Private</p>\n",
		"tiller/signatures/mine.htm": "<p>Mine</p>", "rudder/settings.json": "{\n  \"signature\": {\"new\": \"\"},\n  \"starts\": 1\n}\n",
		"anchor/anchor.ini": "; mine\r\n[mail]\r\nsignature = \r\n",
	} {
		write(t, filepath.Join(folder, ".config", name), text)
	}
	files := map[string][]byte{}
	names, err := filepath.Glob("../demo/places/*.yaml")
	if err != nil || len(names) != 4 {
		t.Fatal(names, err)
	}
	for _, n := range names {
		if files[n], err = os.ReadFile(n); err != nil {
			t.Fatal(err)
		}
	}
	places, err := desk.With(files)
	if err != nil {
		t.Fatal(err)
	}
	return &Desk{State: filepath.Join(folder, "state"), System: desk.Linux, Places: places, Now: time.Now,
		Variable: func(name string) (string, bool) { return folder, name == "HOME" }}, folder
}

func write(t testing.TB, name, text string) {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(name, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

// seen is every file below a home's clients, with content and permissions.
func seen(t testing.TB, folder string) map[string]string {
	t.Helper()
	all := map[string]string{}
	err := filepath.WalkDir(filepath.Join(folder, ".config"), func(name string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(folder, name)
		if err != nil {
			return err
		}
		info, err := e.Info()
		if err != nil {
			return err
		}
		if e.IsDir() {
			all[rel+"/"] = info.Mode().String()
			return nil
		}
		if info.Mode()&fs.ModeSymlink != 0 {
			all[rel], err = os.Readlink(name)
			return err
		}
		data, err := os.ReadFile(name)
		all[rel] = info.Mode().String() + " " + string(data)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return all
}

// placed places kits and fails on any error.
func placed(t testing.TB, d *Desk, list []Kit, o Options) []Outcome {
	t.Helper()
	outcomes, err := d.Place(ctx, list, o)
	if err != nil {
		t.Fatal(err)
	}
	for _, o := range outcomes {
		if o.Err != nil {
			t.Fatalf("%s: %v", o.Plan.Place, o.Err)
		}
	}
	return outcomes
}

func TestPlacedVerifiedTakenBack(t *testing.T) {
	d, folder := home(t)
	start := seen(t, folder)
	first := kits(t, "one", "a")
	if outcomes := placed(t, d, first, Options{Only: true}); len(outcomes) != 4 || !maps.Equal(seen(t, folder), start) {
		t.Fatalf("a plan of %d places changed something", len(outcomes))
	}
	placed(t, d, first, Options{})
	one := seen(t, folder)
	for name, want := range map[string]string{
		".config/paddle/signatures/5d.mime":      "-r--r--r-- " + part,
		".config/paddle/signatures/77.mime":      "-rw-r--r-- " + part + "<p>Private</p>\n",
		".config/tiller/signatures/mine.htm":     "-rw-r--r-- <p>Mine</p>",
		".config/tiller/signatures/quay-new.txt": "-rw-r--r-- \xff\xfe",
		".config/rudder/signatures/quay.html":    "-rw-r--r-- <!DOCTYPE html>",
		".config/rudder/settings.json": "-rw-r--r-- {\n  \"signature\": {\"new\": \"" + folder +
			"/.config/rudder/signatures/quay.html\",\"reply\":",
		".config/anchor/anchor.ini":                 "-rw-r--r-- ; mine\r\n[mail]\r\nsignature = " + folder + "/.config/anchor/quay.txt\r\n",
		".config/tiller/signatures/quay-new_files/": "drwxr-xr-x",
	} {
		if !strings.HasPrefix(one[name], want) {
			t.Errorf("%s: %q", name, one[name])
		}
	}
	for _, o := range placed(t, d, first, Options{}) {
		if !o.Idle() {
			t.Errorf("%s: the second time something is done: %+v", o.Plan.Place, o.Changes)
		}
	}
	placed(t, d, kits(t, "two", "b"), Options{})
	if two := seen(t, folder); maps.Equal(one, two) || !strings.HasPrefix(two[".config/paddle/signatures/5d.mime"], "-r--r--r--") {
		t.Error("the second release is not there, or what was read-only became writable")
	}
	list, id, err := d.Verify(ctx)
	if err != nil || len(list) != 4 || len(id) != 18 {
		t.Fatalf("%v, %q, %v", list, id, err)
	}
	for _, v := range list {
		if v.Proof != desk.Current || v.Person != who {
			t.Errorf("%+v", v)
		}
	}
	undone(t, d, false)
	if !maps.Equal(seen(t, folder), one) {
		t.Error("the first release did not come back byte for byte")
	}
	undone(t, d, false)
	if end := seen(t, folder); !maps.Equal(end, start) {
		for name := range end {
			if end[name] != start[name] {
				t.Errorf("%s: %q, was %q", name, end[name], start[name])
			}
		}
		t.Error("what was there before did not come back byte for byte")
	}
	if entries, err := os.ReadDir(filepath.Join(d.State, keptFolder)); err != nil || len(entries) != 0 {
		t.Errorf("%d contents are kept for nothing, %v", len(entries), err)
	}
}

func undone(t testing.TB, d *Desk, all bool) {
	t.Helper()
	list, err := d.Undo(ctx, "", all, false)
	if err != nil {
		t.Fatal(err)
	}
	for _, u := range list {
		if u.Err != nil {
			t.Fatalf("%s: %v", u.Place, u.Err)
		}
	}
}

// Many releases later everything can still be taken back, though only some one by one.
func TestEverythingBackAfterManyReleases(t *testing.T) {
	d, folder := home(t)
	start := seen(t, folder)
	for i := range mostHistory + 4 {
		placed(t, d, kits(t, fmt.Sprint("text ", i), fmt.Sprint(i/2)), Options{})
	}
	undone(t, d, true)
	if !maps.Equal(seen(t, folder), start) {
		t.Error("what was there before did not come back byte for byte")
	}
}

// The program is ended between any two steps: the next run finds the old set or makes the new one whole, never touches
// another's file, and what was read-only was never writable.
func TestEndedBetweenAnyTwoSteps(t *testing.T) {
	for _, what := range []string{"place", "undo"} {
		t.Run(what, func(t *testing.T) {
			t.Parallel()
			at := 1
			for endedAt(t, what, at) {
				at++
			}
			if at <= 20 {
				t.Errorf("it has only %d steps to be ended at", at-1)
			}
		})
	}
}

// endedAt ends the program before a step; false where it has ended by itself before.
func endedAt(t *testing.T, what string, at int) bool {
	type ended struct{}
	d, folder := home(t)
	placed(t, d, kits(t, "one", "a"), Options{})
	do := func() { placed(t, d, kits(t, "two", "b"), Options{}) }
	if what == "undo" {
		do()
		do = func() { undone(t, d, false) }
	}
	old := seen(t, folder)
	n := 0
	d.between = func() {
		if n++; n == at {
			panic(ended{})
		}
	}
	finished := false
	func() {
		defer func() {
			if r := recover(); r != nil && r != any(ended{}) {
				panic(r)
			}
		}()
		do()
		finished = true
	}()
	if finished {
		return false
	}
	if strings.HasPrefix(seen(t, folder)[".config/paddle/signatures/5d.mime"], "-rw") {
		t.Fatalf("step %d: what was read-only is writable", at)
	}
	again := &Desk{State: d.State, System: d.System, Places: d.Places, Now: time.Now, Variable: d.Variable}
	if _, _, err := again.Verify(ctx); err != nil {
		t.Fatalf("step %d: %v", at, err)
	}
	now := seen(t, folder)
	for _, place := range []string{"paddle", "tiller", "rudder", "anchor"} {
		if !whole(now, old, place) && !allNew(now, old, place, what) {
			t.Errorf("step %d: %s is half: %q", at, place, names(now, place))
		}
	}
	if now[".config/paddle/signatures/77.mime"] != old[".config/paddle/signatures/77.mime"] {
		t.Errorf("step %d: another's file was touched", at)
	}
	if at%4 == 0 {
		placed(t, again, kits(t, "three", "c"), Options{})
		for name := range seen(t, folder) {
			if strings.Contains(name, desk.Half) {
				t.Errorf("step %d: %s is left", at, name)
			}
		}
	}
	return true
}

// of are the files of a place, without halves that a run leaves.
func of(all map[string]string, place string) map[string]string {
	list := map[string]string{}
	for name, content := range all {
		if strings.HasPrefix(name, ".config/"+place+"/") && !strings.Contains(name, desk.Half) {
			list[name] = content
		}
	}
	return list
}

func names(all map[string]string, place string) []string {
	return slices.Sorted(maps.Keys(of(all, place)))
}

func whole(now, old map[string]string, place string) bool {
	return maps.Equal(of(now, place), of(old, place))
}

// allNew reports whether no file that differs between the two releases is still that of the old one.
func allNew(now, old map[string]string, place, what string) bool {
	word := map[string]string{"place": " two", "undo": " one"}[what]
	for name, content := range of(now, place) {
		text := strings.ReplaceAll(strings.ReplaceAll(content, "\x00", ""), "=\r\n", "")
		signature := strings.Contains(text, "Maren")
		if signature && !strings.Contains(text, word) {
			return false
		}
		if content == old[name] && strings.HasSuffix(name, "logo.svg") {
			return false
		}
	}
	return true
}

func TestWhatIsInTheWayIsRefusedAndNothingChanged(t *testing.T) {
	k := func(id string) []Kit { return []Kit{made(t, id, "one", "a")} }
	for _, c := range []struct {
		name  string
		ready func(t *testing.T, d *Desk, folder string)
		kits  []Kit
		o     Options
		says  string
		kind  problem.Kind
	}{
		{"another's file", func(t *testing.T, _ *Desk, f string) { write(t, f+"/.config/tiller/signatures/quay-new.htm", "x") },
			k("wordproc-desktop"), Options{}, "was not placed by this program; --take-over", problem.Refused},
		{"a link in the place of a file", func(t *testing.T, _ *Desk, f string) {
			link(t, "/etc/hostname", f+"/.config/tiller/signatures/quay-new.htm")
		}, k("wordproc-desktop"), Options{TakeOver: true}, "is a link", problem.Refused},
		{"a link in the place of the folder", func(t *testing.T, _ *Desk, f string) {
			link(t, t.TempDir(), f+"/.config/rudder/signatures")
		}, k("gecko-desktop"), Options{}, "is a link", problem.Refused},
		{"the client's folder is a link", func(t *testing.T, _ *Desk, f string) {
			if err := os.Rename(f+"/.config/rudder", f+"/.config/elsewhere"); err != nil {
				t.Fatal(err)
			}
			link(t, f+"/.config/elsewhere", f+"/.config/rudder")
		}, k("gecko-desktop"), Options{}, "rudder is a link", problem.Refused},
		{"a folder in the place of a file", func(t *testing.T, _ *Desk,
			f string) {
			write(t, f+"/.config/tiller/signatures/quay-new.rtf/x", "x")
		},
			k("wordproc-desktop"), Options{}, "is no file", problem.Refused},
		{"another letter case", func(t *testing.T, _ *Desk, f string) { write(t, f+"/.config/tiller/signatures/Quay-New.htm", "x") },
			k("wordproc-desktop"), Options{TakeOver: true}, "letter case only", problem.Refused},
		{"nobody typed the marker", func(t *testing.T, _ *Desk, f string) {
			write(t, f+"/.config/paddle/signatures/5d.mime", part+"<p>x</p>")
		}, k("webkit-desktop"), Options{}, "not clear which file is meant: 0 where the text TYPE-HERE stands in it", problem.Refused},
		{"two with the marker", func(t *testing.T, _ *Desk, f string) {
			write(t, f+"/.config/paddle/signatures/77.mime", part+"<p>TYPE-HERE</p>")
		}, k("webkit-desktop"), Options{}, "2 where the text", problem.Refused},
		{"header lines that cannot be kept", func(t *testing.T, _ *Desk, f string) {
			write(t, f+"/.config/paddle/signatures/5d.mime", "TYPE-HERE without header lines")
		}, k("webkit-desktop"), Options{}, "no header lines", problem.Refused},
		{"settings in another encoding", func(t *testing.T, _ *Desk, f string) {
			write(t, f+"/.config/anchor/anchor.ini", "[mail]\nname=Lind\xe9n\n")
		},
			k("text-reader"), Options{}, "encoding", problem.Refused},
		{"settings that are broken", func(t *testing.T, _ *Desk, f string) { write(t, f+"/.config/rudder/settings.json", "{") },
			k("gecko-desktop"), Options{}, "not valid JSON", problem.Refused},
		{"a lock file", func(t *testing.T, d *Desk, f string) {
			for _, p := range d.Places {
				if p.ID == "tiller" {
					p.Running.Lock = "running.lock"
					t.Cleanup(func() { p.Running.Lock = "" })
				}
			}
			write(t, f+"/.config/tiller/running.lock", "")
		}, k("wordproc-desktop"), Options{}, "lock file running.lock", problem.Busy},
	} {
		t.Run(c.name, func(t *testing.T) {
			d, folder := home(t)
			c.ready(t, d, folder)
			before := seen(t, folder)
			outcomes, err := d.Place(ctx, c.kits, c.o)
			if err != nil || len(outcomes) != 1 {
				t.Fatalf("%v, %v", outcomes, err)
			}
			if got := outcomes[0].Err; !problem.Is(got, c.kind) || !strings.Contains(got.Error(), c.says) || strings.Contains(got.Error(), "\n") {
				t.Errorf("%v", got)
			}
			if !maps.Equal(seen(t, folder), before) {
				t.Error("something was changed")
			}
		})
	}
}

func link(t *testing.T, to, name string) {
	t.Helper()
	if err := os.Symlink(to, name); err != nil {
		t.Fatal(err)
	}
}

func TestTakingOverKeepsWhatWasThere(t *testing.T) {
	d, folder := home(t)
	name := filepath.Join(folder, ".config/tiller/signatures/quay-new.htm")
	write(t, name, "somebody's own")
	if err := os.Chmod(name, 0o440); err != nil {
		t.Fatal(err)
	}
	start := seen(t, folder)
	placed(t, d, []Kit{made(t, "wordproc-desktop", "one", "a")}, Options{TakeOver: true})
	if info, err := os.Stat(name); err != nil || info.Mode().Perm() != 0o440 {
		t.Errorf("what was read-only is %v, %v", info.Mode(), err)
	}
	undone(t, d, false)
	if !maps.Equal(seen(t, folder), start) {
		t.Error("what was there before did not come back")
	}
}

func TestVerifySaysWhatBecameOfIt(t *testing.T) {
	page := ".config/rudder/signatures/quay.html"
	for _, c := range []struct {
		name  string
		wreck func(t *testing.T, folder string)
		proof desk.Proof
		says  string
	}{
		{"rewritten, same meaning", func(t *testing.T,
			f string) {
			change(t, f+"/"+page, `<p style="color: #123456">`, "<div>\n")
		}, desk.Current, "rewrote it"},
		{"another word", func(t *testing.T, f string) { change(t, f+"/"+page, " one", " uno") }, desk.Altered, `"uno" stands where "one" stood`},
		{"gone", func(t *testing.T, f string) {
			if err := os.Remove(f + "/" + page); err != nil {
				t.Fatal(err)
			}
		}, desk.Missing, "missing"},
		{"another choice", func(t *testing.T, f string) {
			change(t, f+"/.config/rudder/settings.json", "quay.html",
				"mine.html")
		}, desk.Altered, "signature/new is"},
		{"other settings", func(t *testing.T, f string) {
			change(t, f+"/.config/rudder/settings.json", `"starts": 1`, `"starts": 2`)
		}, desk.Current, "as it was set"},
		{"no longer read-only", func(t *testing.T, f string) {
			if err := os.Chmod(f+"/.config/paddle/signatures/5d.mime", 0o644); err != nil {
				t.Fatal(err)
			}
		}, desk.Altered, "no longer read-only"},
		{"the client's own part", func(t *testing.T, f string) {
			change(t, f+"/.config/paddle/signatures/5d.mime", "X-Own: kept", "X-Own: new")
		},
			desk.Current, "rewrote it"},
		{"another text", func(t *testing.T, f string) { change(t, f+"/.config/anchor/quay.txt", "Maren", "Marie") },
			desk.Altered, `"Marie" stands`},
		{"text with other spaces", func(t *testing.T,
			f string) {
			change(t, f+"/.config/anchor/quay.txt", "Maren Lind", "Maren  Lind")
		}, desk.Current, "rewrote"},
	} {
		t.Run(c.name, func(t *testing.T) {
			d, folder := home(t)
			list := kits(t, "one", "a")
			placed(t, d, list, Options{})
			c.wreck(t, folder)
			verified, _, err := d.Verify(ctx)
			if err != nil {
				t.Fatal(err)
			}
			worstOf, said := desk.Current, ""
			for _, v := range verified {
				for _, f := range v.Files {
					said += f.Says + "\n"
				}
				if v.Proof.Worse(worstOf) {
					worstOf = v.Proof
				}
			}
			if worstOf != c.proof || !strings.Contains(said, c.says) {
				t.Errorf("%s: %s", worstOf, said)
			}
			placed(t, d, list, Options{}) // placing again puts it right
			if verified, _, err := d.Verify(ctx); err != nil ||
				slices.ContainsFunc(verified, func(v Verified) bool { return v.Proof != desk.Current }) {
				t.Errorf("after placing again: %+v, %v", verified, err)
			}
		})
	}
}

func change(t *testing.T, name, from, to string) {
	t.Helper()
	data, err := os.ReadFile(name)
	if err != nil || !strings.Contains(string(data), from) {
		t.Fatalf("%s has no %q: %q, %v", name, from, data, err)
	}
	info, err := os.Stat(name)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(name, 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(name, []byte(strings.Replace(string(data), from, to, 1)), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(name, info.Mode()); err != nil {
		t.Fatal(err)
	}
}

// What was altered since it was placed is not taken back unseen; settings that the client changed since stay.
func TestUndoOfWhatWasAltered(t *testing.T) {
	d, folder := home(t)
	placed(t, d, kits(t, "one", "a"), Options{})
	change(t, folder+"/.config/rudder/settings.json", `"starts": 1`, `"starts": 2`)
	change(t, folder+"/.config/anchor/quay.txt", "Maren", "Marie")
	list, err := d.Undo(ctx, "", false, false)
	if err != nil {
		t.Fatal(err)
	}
	for _, u := range list {
		if refused := problem.Is(u.Err, problem.Refused); refused != (u.Place == "anchor") {
			t.Errorf("%s: %v", u.Place, u.Err)
		}
	}
	now := seen(t, folder)
	if got := now[".config/rudder/settings.json"]; got != "-rw-r--r-- {\n  \"signature\": {\"new\": \"\"},\n  \"starts\": 2\n}\n" {
		t.Errorf("settings: %q", got)
	}
	if !strings.Contains(now[".config/anchor/quay.txt"], "Marie") {
		t.Error("what was altered is gone")
	}
	if list, err = d.Undo(ctx, "anchor", false, true); err != nil || len(list) != 1 || list[0].Err != nil {
		t.Errorf("%v, %v", list, err)
	}
}

func TestKitsThatAreNotTrusted(t *testing.T) {
	folder := t.TempDir()
	k := made(t, "gecko-desktop", "one", "a")
	text := k.JSON()
	fill := func(name string, sign []byte) string {
		at := filepath.Join(folder, name)
		write(t, filepath.Join(at, kit.ListFile), string(text))
		if sign != nil {
			write(t, filepath.Join(at, kit.SignFile), string(sign))
		}
		for file, data := range k.Data {
			write(t, filepath.Join(at, file), string(data))
		}
		return at
	}
	good := fill("good/"+who, key.Sign(text))
	damaged := fill("damaged", key.Sign(text))
	write(t, filepath.Join(damaged, "quay.html"), "x")
	short := fill("short", key.Sign(text))
	if err := os.Remove(filepath.Join(short, "quay.html")); err != nil {
		t.Fatal(err)
	}
	packed := filepath.Join(folder, "good.zip")
	f, err := os.Create(packed)
	if err != nil {
		t.Fatal(err)
	}
	z := zip.NewWriter(f)
	if err := z.AddFS(os.DirFS(filepath.Join(folder, "good"))); err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(z.Close(), f.Close()); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		name, kit, who string
		says           string // blank for a kit that opens
	}{
		{"a folder", good, "", ""}, {"a package", filepath.Join(folder, "good"), strings.ToUpper(who), ""}, {"a zip", packed, who, ""},
		{"somebody else's", good, "bo@brackwater.example", "is for maren.lind"}, {"nobody named", packed, "", "say whose with --person"},
		{"nobody of that name", packed, "bo", "There is no kit for bo"},
		{"another signature", fill("foreign", kit.NewKey([32]byte{8}).Sign(text)), "", "not signed by the key"},
		{"no signature", fill("bare", nil), "", "not signed: it has no kit.sig"},
		{"a changed file", damaged, "", "quay.html is not what the kit lists"},
		{"a missing file", short, "", "but not there"}, {"no kit at all", filepath.Join(folder, "none"), "", "cannot be read"},
		{"no zip", filepath.Join(good, "quay.html"), "", "neither a folder nor a zip"},
	} {
		got, err := OpenKit(c.kit, c.who, key.Trusted())
		if c.says == "" && (err != nil || got.Digest != k.Digest || len(got.Data) != len(k.Data)) || c.says != "" &&
			(err == nil || !strings.Contains(err.Error(), c.says)) {
			t.Errorf("%s: %+v, %v", c.name, got.List, err)
		}
	}
}

func TestTrustIsRemembered(t *testing.T) {
	d, _ := home(t)
	if _, err := d.Trust(nil); !problem.Is(err, problem.Invalid) {
		t.Errorf("before any: %v", err)
	}
	if _, err := d.Trust(key.Trusted().PEM()); err != nil {
		t.Fatal(err)
	}
	again, err := d.Trust(nil)
	if err != nil || string(again.PEM()) != string(key.Trusted().PEM()) {
		t.Errorf("%v", err)
	}
}
