package main

import (
	"encoding/json"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"

	"gopkg.in/yaml.v3"

	"missivum/core/client"
	"missivum/service/drawing"
)

func probeList(t *testing.T) []Probe {
	t.Helper()
	var probes []Probe
	if err := yaml.Unmarshal(probeFile, &probes); err != nil {
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
	for _, stage := range []client.Stage{client.Install, client.Receive} {
		r, err := wash(probeList(t), stage)
		if err != nil {
			t.Fatal(err)
		}
		if share := float64(r.Same) / float64(r.Probes); share < 0.98 {
			t.Errorf("%s: %.1f %% end alike; %+v", stage, 100*share, r.Disagreements)
		}
		checkKept(t, r, "washing-webmail-"+string(stage))
	}
}

func TestTheProfileDrawsAsGeckoDoes(t *testing.T) {
	if _, err := exec.LookPath("chromium"); err != nil || geckoBrowser() == "" {
		t.Skip("Chromium or a Gecko browser is not installed; make setup installs them")
	}
	r, err := draw(probeList(t))
	if err != nil {
		t.Fatal(err)
	}
	if share := float64(r.Same) / float64(r.Probes); share < 0.95 {
		t.Errorf("%.1f %% draw alike; %+v", 100*share, r.Disagreements)
	}
	checkKept(t, r, "gecko-desktop-render")
}

// TestThePasteIsAsPredicted copies and pastes every fourth probe in Chromium; where it disagrees, the kept results of all
// of them must say so.
func TestThePasteIsAsPredicted(t *testing.T) {
	var some []Probe
	for i, p := range probeList(t) {
		if i%4 == 0 {
			some = append(some, p)
		}
	}
	r, err := paste(some)
	if errors.Is(err, drawing.ErrNoBrowser) {
		t.Skip(err)
	}
	if err != nil {
		t.Fatal(err)
	}
	kept := keptResult(t, "paste-rendered-install")
	if share := float64(kept.Same) / float64(kept.Probes); kept.Probes < len(some) || share < 0.97 {
		t.Errorf("%.1f %% are pasted as predicted", 100*share)
	}
	for _, d := range r.Disagreements {
		if kept.Version == r.Version && !slices.Contains(kept.Disagreements, d) {
			t.Errorf("not among the kept results: %+v; run go run ./docs/measure/clients", d)
		}
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

func TestOutcomes(t *testing.T) {
	before := canonical(`<p class="a" style="color:red">x<b>y</b></p>`)
	for after, want := range map[string]string{
		`<P style='color: red;' class=a>x<b>y</b></P>`:   "kept",
		`<p class="a" style="color:red">xy</p>`:          "changed", // the two texts run together
		`<p class="a" style="color:red"><b>y</b></p>`:    "dropped",
		`<p class="v1a" style="color:red">x<b>y</b></p>`: "changed",
	} {
		if got := outcome(before, canonical(after)); got != want {
			t.Errorf("%s: %s, want %s", after, got, want)
		}
	}
}
