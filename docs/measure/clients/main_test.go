package main

import (
	"encoding/json"
	"errors"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"

	"missivum/core/client"
	"missivum/core/journey"
	"missivum/e2e/rig"
	"missivum/service/drawing"
)

func probeList(t *testing.T) []Probe {
	t.Helper()
	probes, err := readProbes()
	if err != nil {
		t.Fatal(err)
	}
	seen := map[string]bool{}
	for _, p := range probes {
		if p.HTML == "" || seen[p.Group+p.Name] {
			t.Errorf("the probe %s %s is empty or there twice", p.Group, p.Name)
		}
		seen[p.Group+p.Name] = true
	}
	if len(probes) < 200 {
		t.Errorf("%d probes", len(probes))
	}
	return probes
}

// TestTheProfileWashesAsTheSanitiserDoes runs the real sanitiser. The results in the folder must be those of now.
func TestTheProfileWashesAsTheSanitiserDoes(t *testing.T) {
	if _, err := os.Stat("/usr/share/roundcube/program/lib/Roundcube/rcube_washtml.php"); err != nil {
		t.Skip("roundcube-core is not installed; make setup installs it")
	}
	r, err := wash(probeList(t))
	if err != nil {
		t.Fatal(err)
	}
	if share := float64(r.Same) / float64(r.Probes); share < 0.98 {
		t.Errorf("%.1f %% end alike; %+v", 100*share, r.Disagreements)
	}
	checkKept(t, r, "washing-webmail-receive")
}

// TestTheProfileIsAsTheWholeWebmail drives the webmail itself, with its editor, its sending and its reading.
func TestTheProfileIsAsTheWholeWebmail(t *testing.T) {
	if _, err := os.Stat(rig.WebmailPages); err != nil {
		t.Skip("roundcube-core is not installed; make setup installs it")
	}
	for _, stage := range []client.Stage{client.Install, client.Send, client.Receive} {
		r, err := webmailing(probeList(t), stage)
		if err != nil {
			t.Fatal(err)
		}
		if share := float64(r.Same) / float64(r.Probes); share < 0.98 || r.Probes < 300 {
			t.Errorf("%s: %.1f %% of %d end alike; %+v", stage, 100*share, r.Probes, r.Disagreements)
		}
		checkKept(t, r, "washing-webmail-whole-"+string(stage))
	}
}

func TestTheProfilesDrawAsTheEnginesDo(t *testing.T) {
	if _, err := exec.LookPath("chromium"); err != nil || geckoBrowser() == "" || webkitWindow() == "" {
		t.Skip("Chromium, a Gecko browser or WebKit's window is not installed; make setup installs them")
	}
	for _, e := range renderers {
		r, err := e.measure(someProbes(t, 4))
		if err != nil {
			t.Fatal(err)
		}
		checkSomeKept(t, r, e.profile+"-render")
	}
}

func TestTheProfileComposesAsTheMailClientDoes(t *testing.T) {
	if _, err := os.Stat(mailClient); err != nil {
		t.Skip("the mail client is not installed; make setup installs it")
	}
	for _, stage := range []client.Stage{client.Install, client.Send} {
		r, err := composing(probeList(t), stage)
		if err != nil {
			t.Fatal(err)
		}
		if share := float64(r.Same) / float64(r.Probes); share < 0.98 || r.Probes < 300 {
			t.Errorf("%s: %.1f %% of %d end alike; %+v", stage, 100*share, r.Probes, r.Disagreements)
		}
		checkKept(t, r, "gecko-desktop-"+string(stage))
	}
}

func TestThePasteIsAsPredicted(t *testing.T) {
	some := someProbes(t, 6)
	for _, e := range []engine{inChromium, inGecko} {
		r, err := paste(e, some)
		if errors.Is(err, drawing.ErrNoBrowser) {
			t.Skip(err)
		}
		if err != nil {
			t.Fatal(err)
		}
		checkSomeKept(t, r, e.file)
	}
}

// TestTheCorpusIsPastedAsPredicted: lengths within 2 % for 95 % of the corpus, and 98 % of the elements alike; on every
// fourth signature, and on all of them in a soak.
func TestTheCorpusIsPastedAsPredicted(t *testing.T) {
	alike := 0.98
	if rig.Soak(0, 1) == 0 {
		alike = 0.96 // of a few signatures one with many elements weighs more
	}
	for _, e := range []engine{inChromium, inGecko} {
		l, err := pasteCorpus(e, rig.Soak(4, 1))
		if errors.Is(err, drawing.ErrNoBrowser) {
			t.Skip(err)
		}
		if err != nil {
			t.Fatal(err)
		}
		if float64(l.Within) < 0.95*float64(l.Signatures) || float64(l.Alike) < alike*float64(l.Elements) || l.Signatures < 25 {
			t.Errorf("%s: %s%v", e.name, l.say(), l.Others)
		}
	}
}

// TestGeckoHandsOverWhatAPageGave: the clipboard holds what a page put there, letter by letter, and its length after the paste is
// predicted within 2 % for 95 %.
func TestGeckoHandsOverWhatAPageGave(t *testing.T) {
	list, err := givenSignatures(rig.Soak(6, 1))
	if err != nil {
		t.Fatal(err)
	}
	handed, stored, err := pastedAsGiven(t.Context(), list)
	if err != nil {
		t.Fatal(err)
	}
	within := 0
	for i, one := range list {
		if handed[i] != one.html {
			t.Errorf("%s: given %.200q, handed over %.200q", one.name, one.html, handed[i])
		}
		real := float64(client.Units(stored[i]))
		if math.Abs(float64(one.predicted)-real) <= 0.02*real {
			within++
		} else {
			t.Logf("%s: %d characters predicted, %.0f real", one.name, one.predicted, real)
		}
	}
	t.Logf("%d handed over; the length of %d of %d is predicted within 2 %%", len(list), within, len(list))
	if within*100 < 95*len(list) || len(list) < 20 {
		t.Errorf("the length of %d of %d is predicted", within, len(list))
	}
}

// TestGeckoPastesLetterByLetter is for Gecko what e2e's TestPastesLetterByLetter is for Chromium.
func TestGeckoPastesLetterByLetter(t *testing.T) {
	var list []given
	var predicted []string
	for _, source := range rig.Pastes() {
		pasted, err := journey.PasteGiven(journey.Gecko, source)
		if err != nil {
			t.Fatal(err)
		}
		list, predicted = append(list, given{name: source, html: source}), append(predicted, pasted)
	}
	_, stored, err := pastedAsGiven(t.Context(), list)
	if err != nil {
		t.Fatal(err)
	}
	for i, real := range stored {
		if real != predicted[i] {
			t.Errorf("given\n%s\npasted\n%s\npredicted\n%s", list[i].html, real, predicted[i])
		}
	}
	t.Logf("%d pastes", len(list))
}

func TestTheProfileReadsAsTheTextClientDoes(t *testing.T) {
	if _, err := os.Stat(textClient); err != nil {
		t.Skip("the text client is not installed; make setup installs it")
	}
	for _, stage := range []client.Stage{client.Install, client.Send, client.Render} {
		r, err := reading(nil, stage)
		if err != nil {
			t.Fatal(err)
		}
		if share := float64(r.Same) / float64(r.Probes); share < 0.98 || r.Probes < 400 {
			t.Errorf("%s: %.1f %% of %d lines end alike; %+v", stage, 100*share, r.Probes, r.Disagreements)
		}
		checkKept(t, r, "text-reader-"+string(stage))
	}
}

// TestTheRichTextIsReadAsWritten: the words, links and pictures of the rich text form are those of the page.
func TestTheRichTextIsReadAsWritten(t *testing.T) {
	for _, e := range readers {
		r, err := e.measure(nil)
		if errors.Is(err, exec.ErrNotFound) {
			t.Skip(err)
		}
		if err != nil {
			t.Fatal(err)
		}
		if share := float64(r.Same) / float64(r.Probes); share < 0.975 || r.Probes < 1000 { // pandoc reads no tables in tables
			t.Errorf("%s: %.1f %% of %d end alike; %+v", e.name, 100*share, r.Probes, r.Disagreements)
		}
		checkKept(t, r, e.file)
	}
}

// checkKept holds what was measured now against the kept results; another version may differ.
func checkKept(t *testing.T, now Result, name string) {
	t.Helper()
	kept := keptResult(t, name)
	if kept.Version == now.Version && (kept.Same != now.Same || kept.Probes != now.Probes) {
		t.Errorf("%s says %d of %d, measured now %d of %d: run go run ./docs/measure/clients", name, kept.Same, kept.Probes, now.Same, now.Probes)
	}
}

// someProbes are every nth probe, and all of them in a soak.
func someProbes(t *testing.T, nth int) (some []Probe) {
	t.Helper()
	nth = rig.Soak(nth, 1)
	for i, p := range probeList(t) {
		if i%nth == 0 {
			some = append(some, p)
		}
	}
	return some
}

// checkSomeKept holds what was measured of some probes now against the kept results of all: 98 % of those are alike, and
// what disagrees now is among them, unless the version is another.
func checkSomeKept(t *testing.T, now Result, name string) {
	t.Helper()
	kept := keptResult(t, name)
	if share := float64(kept.Same) / float64(kept.Probes); kept.Probes < now.Probes || now.Probes < 10 || share < 0.98 {
		t.Errorf("%s: %.1f %% of %d are alike, measured now %d", name, 100*share, kept.Probes, now.Probes)
	}
	for _, d := range now.Disagreements {
		if kept.Version == now.Version && !slices.Contains(kept.Disagreements, d) {
			t.Errorf("%s: not among the kept results: %+v; run go run ./docs/measure/clients", name, d)
		}
	}
}

func keptResult(t *testing.T, name string) Result {
	t.Helper()
	data, err := os.ReadFile(filepath.Join("results", name+".json"))
	if err != nil {
		t.Fatal(err)
	}
	var kept Result
	if err := json.Unmarshal(data, &kept); err != nil {
		t.Fatal(err)
	}
	return kept
}

func TestEnds(t *testing.T) {
	before := canonical(`<p class="a" style="color:red">x<b>y</b></p>`)
	for after, want := range map[string]string{
		`<P style='color: red;' class=a>x<b>y</b></P>`:   "kept",
		`<p class="a" style="color:red">xy</p>`:          "changed", // the two texts run together
		`<p class="a" style="color:red"><b>y</b></p>`:    "dropped",
		`<p class="v1a" style="color:red">x<b>y</b></p>`: "changed",
	} {
		if got := endOf(before, canonical(after)); got != want {
			t.Errorf("%s: %s, want %s", after, got, want)
		}
	}
}
