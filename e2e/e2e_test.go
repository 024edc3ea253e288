// Package e2e drives the built program as its users do: by command line, by HTTP and, in Chromium,
// by its console.
package e2e

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"missivum/core/source"
	"missivum/demo/people"
	"missivum/e2e/rig"
)

// binary is the program, built once.
var binary string

func TestMain(m *testing.M) {
	folder, err := os.MkdirTemp("", "e2e-")
	if err != nil {
		panic(err)
	}
	if binary, err = rig.Build(folder); err != nil {
		panic(err)
	}
	code := m.Run()
	stopChromium()
	os.RemoveAll(folder)
	os.Exit(code)
}

// command runs the program in the repository's root.
func command(t *testing.T, args ...string) (code int, out, errs string) {
	t.Helper()
	root, err := rig.Root()
	if err != nil {
		t.Fatal(err)
	}
	c := exec.Command(binary, args...)
	c.Dir = root
	var o, e bytes.Buffer
	c.Stdout, c.Stderr = &o, &e
	if err := c.Run(); err != nil && c.ProcessState == nil {
		t.Fatal(err)
	}
	return c.ProcessState.ExitCode(), o.String(), e.String()
}

func start(t *testing.T, args ...string) *rig.Server {
	t.Helper()
	s, err := rig.Start(binary, args...)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := s.Stop(); err != nil {
			t.Errorf("stopping the service: %v", err)
		}
	})
	return s
}

func demoService(t *testing.T, settings ...string) *rig.Server {
	return start(t, append([]string{"demo", "--listen", "127.0.0.1:0", "--log", "json"}, settings...)...)
}

// chromium is the one browser of all tests, started for the first that needs it.
var chromium = sync.OnceValues(func() (context.Context, error) {
	first, stop := rig.Browser(context.Background(), 1280, 800)
	stopChromium = stop
	return first, chromedp.Do(first, chromedp.EmulateViewport(1280, 800))
})

var stopChromium = func() {}

// browser opens a tab of the shared browser, with a profile of its own and a time limit for all that is done in it.
func browser(t *testing.T) context.Context {
	t.Helper()
	first, err := chromium()
	if err != nil {
		t.Fatalf("starting Chromium (make setup installs it): %v", err)
	}
	tab, stop := chromedp.NewContext(first, chromedp.WithNewBrowserContext())
	t.Cleanup(stop)
	if err := chromedp.Do(tab, chromedp.EmulateViewport(1280, 800)); err != nil {
		t.Fatalf("opening a tab: %v", err)
	}
	limited, cancel := context.WithTimeout(tab, 8*time.Minute)
	t.Cleanup(cancel)
	return limited
}

func evaluate[T any](t *testing.T, tab context.Context, expression string) T {
	t.Helper()
	v, err := chromedp.Run(tab, chromedp.Evaluate[T](expression))
	if err != nil {
		t.Fatalf("%s: %v", expression, err)
	}
	return v
}

// getJSON reads what an address answers.
func getJSON(t *testing.T, address string, into any) {
	t.Helper()
	answer, err := http.Get(address)
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	if err := json.NewDecoder(answer.Body).Decode(into); err != nil {
		t.Fatalf("%s: %v", address, err)
	}
}

// patience is how long a page may take for one step; a busy machine is slow, and a test that fails waits
// this long once.
const patience = time.Minute

// waitFor waits until an expression is true in the page.
func waitFor(t *testing.T, tab context.Context, what, expression string) {
	t.Helper()
	for end := time.Now().Add(patience); time.Now().Before(end); time.Sleep(30 * time.Millisecond) {
		if evaluate[bool](t, tab, "Boolean("+expression+")") {
			return
		}
	}
	t.Fatalf("never came true: %s (%s)\nThe page says: %s", what, expression,
		evaluate[string](t, tab, "document.body.innerText.slice(0, 3000)"))
}

// press presses a button that is gone when its work is done. A page that is drawn anew between the two halves of a click has not seen
// it: then it is pressed again, as a person would.
func press(t *testing.T, tab context.Context, what, label string) {
	t.Helper()
	button := fmt.Sprintf(`[...document.querySelectorAll('button')].find(b => b.textContent.trim() === %q)`, label)
	for n := range int(patience / (200 * time.Millisecond)) {
		if evaluate[bool](t, tab, "!"+button) {
			return
		}
		if n%25 == 0 {
			do(t, tab, what, chromedp.Evaluate[chromedp.Void](fmt.Sprintf("void (b => b && !b.disabled && b.click())(%s)", button)))
		}
		time.Sleep(200 * time.Millisecond)
	}
	t.Fatalf("%s: the button stays. The page says: %s", what, evaluate[string](t, tab, "document.body.innerText.slice(0, 3000)"))
}

func do(t *testing.T, tab context.Context, what string, steps ...chromedp.Action[chromedp.Void]) {
	t.Helper()
	limited, cancel := context.WithTimeout(tab, patience)
	defer cancel()
	if err := chromedp.Do(limited, steps...); err != nil {
		t.Fatalf("%s: %v", what, err)
	}
}

func TestTheCommandsAgainstAService(t *testing.T) {
	s := demoService(t)
	folder := t.TempDir()
	server := "--server=" + s.Address
	for _, c := range []struct {
		args string
		code int
		want string
	}{
		{"template list", 0, "regatta  1"},
		{"clients push demo/clients/gecko-desktop.yaml", 0, "gecko-desktop: Desktop client with the Gecko engine"},
		{"clients push demo/people.csv", 3, ""},
		{"clients remove gecko-desktop", 0, "gecko-desktop is as it came."},
		{"clients remove gecko-desktop", 1, ""},
		{"people list --search havsund", 0, "運航管理"},
		{"people import demo/people.csv --dry-run", 0, "80 people: would be 0 new, 0 joined, 0 changed, 0 gone, 0 back, 80 unchanged, 0 skipped"},
		{"people explain maren.lind@brackwater.example", 0, "voyage, variant internal, as text:\n-- \nMaren LIND"},
		{"people explain nobody@brackwater.example", 1, ""},
		{"people keep maren.lind@brackwater.example pronouns=she", 0, ""},
		{"people keep maren.lind@brackwater.example title=Boss", 1, ""},
		{"people rules --gone 5", 0, "more than 5 per cent"},
		{"people faults --kind number --format csv", 0, "pelle.kranvik@brackwater.example,Pelle Kranvik,telephoneNumber"},
		{"audience list", 0, "northern-crew  Crew of the northern ports  8"},
		{"audience put demo/audiences.yaml --try", 0, "german: 9 people"},
		{"audience remove crew", 1, ""},
		{"assign put demo/assignments.yaml --try", 0, "northern-crew  internal   voyage"},
		{"rule list", 0, "From the demo"},
		{"rule push demo/rules.yaml --note first", 0,
			"Version 2 is stored; gateways use it when a release that holds it is out.\n1. leave-orders (on): Mail " +
				"to orders@depot.example stays as it is."},
		{"rule push demo/rules.yaml --base 7", 1, ""},
		{"rule list", 0, "3. internal-short (trial): Mail that is internal"},
		{"rule pull", 0, "  - name: leave-orders"},
		{"run list", 0, "applied"},
		{"run show 1 --search maren.lind", 0, "new  maren.lind@brackwater.example"},
		{"run apply 1", 1, ""},
		{"source list", 0, "given by hand"},
		{"source sync import", 1, ""},
		{"source pause import", 0, ""},
		{"source resume import", 0, ""},
		{"key add identity --scope directory", 0, "missivum-"},
		{"key list", 0, "identity"},
		{"template pull harbour -o " + folder + "/pulled", 0, "2 pictures"},
		{"template pull harbour -o " + folder + "/pulled", 3, ""},
		{"template push " + folder + "/pulled --name harbour --note again", 0, "harbour: saved as version 2"},
		{"template push " + folder + "/pulled --name Not-Good", 2, ""},
		{"template pull none -o " + folder + "/none", 1, ""},
		{"package create none", 1, ""},
		{"package download none -o " + folder + "/none.zip", 1, ""},
	} {
		code, out, errs := command(t, append(strings.Fields(c.args), server)...)
		if code != c.code || !strings.Contains(out, c.want) || c.code != 0 && errs == "" {
			t.Errorf("%s: exit %d, want %d\n%s%s", c.args, code, c.code, out, errs)
		}
	}
	code, out, errs := command(t, "package", "create", "harbour", server)
	if code != 0 {
		t.Fatalf("package create: %s", errs)
	}
	online := filepath.Join(folder, "online.zip")
	if code, _, errs := command(t, "package", "download", strings.Fields(out)[0], "-o", online, server); code != 0 {
		t.Fatalf("package download: %s", errs)
	}
	offline := filepath.Join(folder, "offline.zip")
	if code, _, errs := command(t, "pack", filepath.Join(folder, "pulled"), "--people", "demo/people.csv", "-o", offline); code != 0 {
		t.Fatalf("pack: %s", errs)
	}
	names := func(file string) string {
		z, err := zip.OpenReader(file)
		if err != nil {
			t.Fatal(err)
		}
		defer z.Close()
		var b strings.Builder
		for _, f := range z.File {
			if strings.HasSuffix(f.Name, "new.fragment.html") {
				fmt.Fprintf(&b, "%s %d %x\n", filepath.Dir(f.Name), f.UncompressedSize64, f.CRC32)
			}
		}
		return b.String()
	}
	if a, b := names(online), names(offline); a == "" || a != b {
		t.Error("the service's package and the command's differ in their fragments")
	}
}

func TestTheServiceRefusesOtherAddressesAndSaysWhy(t *testing.T) {
	code, _, errs := command(t, "serve", "--data", t.TempDir(), "--listen", "0.0.0.0:0")
	if code != 2 || !strings.Contains(errs, "passwords would cross the network as they are") {
		t.Errorf("exit %d: %s", code, errs)
	}
}

func TestTheDemoKeepsItsFolder(t *testing.T) {
	folder := t.TempDir()
	for range 2 { // the second start finds everything there
		s, err := rig.Start(binary, "demo", "--listen", "127.0.0.1:0", "--data", folder)
		if err != nil {
			t.Fatal(err)
		}
		answer, err := http.Get(s.Address + "/api/v1/templates")
		if err != nil {
			t.Fatal(err)
		}
		var list []struct{ Number int }
		if err := json.NewDecoder(answer.Body).Decode(&list); err != nil || len(list) != 3 || list[0].Number != 1 {
			t.Errorf("%+v, %v", list, err)
		}
		answer.Body.Close()
		if err := s.Stop(); err != nil {
			t.Errorf("the service did not end well: %v", err)
		}
	}
}

// TestPackedPagesInTheBrowser opens every page and fragment of a package: nothing of the template
// language is left, no link or line is empty, and the pictures are there.
func TestPackedPagesInTheBrowser(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	file := filepath.Join(folder, "harbour.zip")
	if code, _, errs := command(t, "pack", "demo/templates/harbour", "--people", "demo/people.csv", "--form",
		"html,fragment", "-o", file, "--date", "2026-11-23"); code != 0 {
		t.Fatal(errs)
	}
	pages := unpack(t, file, folder)
	if len(pages) != 80*4 { // page and fragment of each variant
		t.Fatalf("%d pages", len(pages))
	}
	tab := browser(t)
	const look = `(() => {
		const wrong = []
		const html = document.documentElement.outerHTML
		if (html.includes('{{') || html.includes('}}')) wrong.push('a field mark')
		for (const e of document.querySelectorAll('*'))
			for (const a of e.attributes) if (a.name.startsWith('data-')) wrong.push('the attribute ' + a.name)
		for (const a of document.querySelectorAll('a')) {
			if (!a.textContent.trim() && !a.querySelector('img')) wrong.push('an empty link')
			if (!/^(https:\/\/|mailto:.+@|tel:\+?[0-9]+)/.test(a.getAttribute('href') ?? '')) wrong.push('the address ' + a.getAttribute('href'))
		}
		for (const cell of document.querySelectorAll('td')) if (!cell.textContent && !cell.querySelector('img')) wrong.push('an empty cell')
		for (const line of document.body.innerText.split('\n'))
			if (/^\s*[|,:]|[|,:]\s*$|^(Desk|Mobile|Marine radio)\s*$/.test(line)) wrong.push('the line "' + line + '"')
		if (location.pathname.endsWith('.html') && !location.pathname.endsWith('.fragment.html'))
			for (const i of document.images) if (!i.naturalWidth || i.naturalWidth !== 2 * i.width) wrong.push('the picture ' ` +
		`+ i.src + ' with ' + i.naturalWidth + ' px')
		return wrong.join('; ')
	})()`
	for i, page := range pages {
		if i/4%rig.Soak(3, 1) != 0 { // all of a person's four, of every third one
			continue
		}
		do(t, tab, page, chromedp.Navigate("file://"+page))
		if wrong := evaluate[string](t, tab, look); wrong != "" {
			t.Errorf("%s: %s", strings.TrimPrefix(page, folder), wrong)
		}
	}
}

// unpack writes a package's files below a folder and lists its pages.
func unpack(t *testing.T, file, folder string) []string {
	t.Helper()
	z, err := zip.OpenReader(file)
	if err != nil {
		t.Fatal(err)
	}
	defer z.Close()
	var pages []string
	for _, f := range z.File {
		target := filepath.Join(folder, filepath.FromSlash(f.Name))
		if err := os.MkdirAll(filepath.Dir(target), 0o755); err != nil {
			t.Fatal(err)
		}
		r, err := f.Open()
		if err != nil {
			t.Fatal(err)
		}
		data, err := io.ReadAll(r)
		if err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(target, data, 0o644); err != nil {
			t.Fatal(err)
		}
		if strings.HasSuffix(target, ".html") {
			pages = append(pages, target)
		}
	}
	return pages
}

// TestPackingManyStreams: the program's peak memory stays below 200 MB.
func TestPackingManyStreams(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	file := filepath.Join(folder, "people.csv")
	f, err := os.Create(file)
	if err != nil {
		t.Fatal(err)
	}
	if err := source.WriteCSV(f, people.Generate(rig.Soak(5_000, 20_000), 11)); err != nil {
		t.Fatal(err)
	}
	if err := f.Close(); err != nil {
		t.Fatal(err)
	}
	root, err := rig.Root()
	if err != nil {
		t.Fatal(err)
	}
	pack := exec.Command(binary, "pack", "demo/templates/harbour", "--people", file, "-o", filepath.Join(folder, "all.zip"))
	pack.Dir = root
	var out bytes.Buffer
	pack.Stdout, pack.Stderr = &out, &out
	if err := pack.Start(); err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() { ended <- pack.Wait() }()
	most := 0
	for running := true; running; { // what the system reports at the end counts the test's own memory too (getrusage(2), fork)
		select {
		case err := <-ended:
			if err != nil {
				t.Fatalf("%v: %s", err, out.String())
			}
			running = false
		case <-time.After(20 * time.Millisecond):
			most = max(most, peakOf(pack.Process.Pid))
		}
	}
	t.Logf("%s; peak memory %d MB", strings.TrimSpace(out.String()), most)
	if most == 0 || most > 200 {
		t.Errorf("peak memory %d MB", most)
	}
}
