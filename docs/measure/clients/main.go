// Command clients holds the simulation of client profiles against the real thing. What came out, with every disagreement,
// is written to the folder results, from which docs/clients.md is made. Arguments name what is measured; without any, it
// is everything. Beside the probes of probes.yaml, small constructs each:
//
//   - washing-webmail-whole-*: the webmail of Debian's package roundcube-core, driven in Chromium: its editor's source box,
//     its sending, its reading; washing-webmail-receive: its sanitiser alone.
//   - gecko-desktop-install, -send: Debian's mail client, by key presses.
//   - *-render: what Gecko and WebKit draw, beside Chromium's drawing of what the profile keeps.
//   - paste-rendered-*: each probe copied and pasted in Chromium and in Gecko; corpus-*: the corpus of signatures.
//   - text-reader-*: Debian's text client, with the lines of all text forms; rich-text-desktop-*: two readers of rich text.
//
// scripts/setup.sh installs what it needs.
package main

import (
	"bytes"
	_ "embed"
	"encoding/json"
	"fmt"
	"log"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"sort"
	"strings"

	"golang.org/x/net/html"
	"golang.org/x/net/html/atom"
	"gopkg.in/yaml.v3"

	"missivum/core/client"
	"missivum/core/journey"
	"missivum/core/markup"
	"missivum/core/style"
)

//go:embed probes.yaml
var probeFile []byte

//go:embed washer.php
var washer []byte

// Probe is one small construct.
type Probe struct {
	Group string `yaml:"group"`
	Name  string `yaml:"name"`
	HTML  string `yaml:"html"`
	Draw  bool   `yaml:"draw"`
}

func readProbes() (probes []Probe, err error) { return probes, yaml.Unmarshal(probeFile, &probes) }

// Disagreement is a probe that the simulation and the real thing treat differently.
type Disagreement struct {
	Probe     string `json:"probe"` // group and name
	HTML      string `json:"html"`
	Real      string `json:"real"`      // what the real thing makes of it
	Simulated string `json:"simulated"` // what the profile makes of it
}

// Result is the outcome of one comparison.
type Result struct {
	Profile       string         `json:"profile"`
	Against       string         `json:"against"`
	Version       string         `json:"version"`
	Stage         client.Stage   `json:"stage"`
	Probes        int            `json:"probes"`
	Same          int            `json:"same"`  // the same outcome: kept, changed or dropped
	Exact         int            `json:"exact"` // the same markup, white space, order of attributes and spelling aside
	Real          map[string]int `json:"real"`  // how many the real thing kept, changed, dropped
	Disagreements []Disagreement `json:"disagreements"`
}

const folder = "docs/measure/clients/results"

// outcome is what a measurement found, as data.
type outcome interface{ say() string }

// measurements are what can be measured, by the names of their files.
func measurements() map[string]func([]Probe) (outcome, error) {
	list := map[string]func([]Probe) (outcome, error){}
	add := func(name string, measure func([]Probe) (Result, error)) {
		list[name] = func(probes []Probe) (outcome, error) { return measure(probes) }
	}
	add("washing-webmail-receive", wash)
	for _, stage := range []client.Stage{client.Install, client.Send} {
		add("gecko-desktop-"+string(stage), func(probes []Probe) (Result, error) { return composing(probes, stage) })
	}
	for _, stage := range []client.Stage{client.Install, client.Send, client.Receive} {
		add("washing-webmail-whole-"+string(stage), func(probes []Probe) (Result, error) { return webmailing(probes, stage) })
	}
	for _, stage := range []client.Stage{client.Install, client.Send, client.Render} {
		add("text-reader-"+string(stage), func(probes []Probe) (Result, error) { return reading(probes, stage) })
	}
	for _, e := range readers {
		add(e.file, e.measure)
	}
	for _, e := range renderers {
		add(e.profile+"-render", e.measure)
	}
	for _, e := range []engine{inChromium, inGecko} {
		add(e.file, func(probes []Probe) (Result, error) { return paste(e, probes) })
		list["corpus-"+strings.ToLower(e.name)] = func([]Probe) (outcome, error) { return pasteCorpus(e, 1) }
	}
	return list
}

// main measures what is named, or everything.
func main() {
	log.SetFlags(0)
	probes, err := readProbes()
	if err != nil {
		log.Fatal(err)
	}
	all := measurements()
	names := os.Args[1:]
	if len(names) == 0 {
		names = slices.Sorted(maps.Keys(all))
	}
	for _, name := range names {
		measure := all[name]
		if measure == nil {
			log.Fatalf("%s is none of %s", name, strings.Join(slices.Sorted(maps.Keys(all)), ", "))
		}
		found, err := measure(probes)
		if err != nil {
			log.Fatalf("%s: %v", name, err)
		}
		fmt.Print(found.say())
		data, err := json.MarshalIndent(found, "", "  ")
		if err == nil {
			err = os.WriteFile(filepath.Join(folder, name+".json"), append(data, '\n'), 0o644)
		}
		if err != nil {
			log.Fatal(err)
		}
	}
}

func (r Result) say() string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s, %s, against %s: %d of %d probes end alike (%.1f %%), %d to the sign\n", r.Profile, r.Stage, r.Against, r.Same,
		r.Probes, 100*float64(r.Same)/float64(r.Probes), r.Exact)
	for _, d := range r.Disagreements {
		fmt.Fprintf(&b, "  %s\n    real      %s\n    simulated %s\n", d.Probe, d.Real, d.Simulated)
	}
	return b.String()
}

// wash puts the probes through the sanitiser, as it is when a message is read, and through the profile.
func wash(probes []Probe) (Result, error) {
	const stage = client.Receive
	r := Result{Profile: "washing-webmail", Against: "roundcube-core", Version: version("roundcube-core"), Stage: stage,
		Probes: len(probes), Real: map[string]int{}, Disagreements: []Disagreement{}}
	var sources, washed []string
	for _, p := range probes {
		sources = append(sources, p.HTML)
	}
	input, err := json.Marshal(sources)
	if err != nil {
		return r, err
	}
	output, err := run("php", input, writeTemp("washer.php", washer))
	if err != nil {
		return r, err
	}
	if err := json.Unmarshal(output, &washed); err != nil {
		return r, fmt.Errorf("reading what the sanitiser wrote: %w", err)
	}
	profile := client.Find("washing-webmail")
	for i, p := range probes {
		simulated, err := simulate(profile, stage, p.HTML)
		if err != nil {
			return r, err
		}
		r.compare(p, p.HTML, washed[i], simulated)
	}
	return r, nil
}

// compare counts what became of a probe in the real thing and in the simulation.
func (r *Result) compare(p Probe, source, really, simulated string) {
	before, real, ours := canonical(source), canonical(really), canonical(simulated)
	end := endOf(before, real)
	r.Real[end]++
	if end == endOf(before, ours) {
		r.Same++
	}
	if slices.Equal(real, ours) {
		r.Exact++
		return
	}
	r.Disagreements = append(r.Disagreements, Disagreement{p.Group + " " + p.Name, p.HTML, end + ": " +
		strings.Join(real, ""), endOf(before, ours) + ": " + strings.Join(ours, "")})
}

// simulate gives a probe as the profile has it after one stage alone.
func simulate(p *client.Profile, stage client.Stage, source string) (string, error) {
	doc, err := markup.Parse(source)
	if err != nil {
		return "", err
	}
	style.ReadAttributes(doc)
	alone := *p
	alone.Behaviours = slices.DeleteFunc(slices.Clone(p.Behaviours), func(b client.Behaviour) bool { return b.Stage != stage })
	kept, _ := journey.SimulateIn(journey.View{Blocked: true}, &alone, doc, client.Render)
	return kept.Render(), nil
}

// endOf says what became of a probe: kept as it was, changed, or dropped when something is missing and nothing
// came.
func endOf(before, after []string) string {
	if slices.Equal(before, after) {
		return "kept"
	}
	for _, piece := range after {
		if !slices.Contains(before, piece) {
			return "changed"
		}
	}
	return "dropped"
}

// canonical lists the pieces of markup as a browser reads it: tags, attributes, declarations and texts, with
// comments, white space between tags and the order of attributes and declarations left out.
func canonical(source string) []string {
	body := &html.Node{Type: html.ElementNode, Data: "body", DataAtom: atom.Body}
	nodes, err := html.ParseFragment(strings.NewReader(source), body)
	if err != nil {
		return []string{"unreadable"}
	}
	var pieces []string
	var visit func(*html.Node)
	visit = func(n *html.Node) {
		switch n.Type {
		case html.TextNode:
			if text := strings.Join(strings.Fields(n.Data), " "); text != "" {
				pieces = append(pieces, text)
			}
		case html.ElementNode:
			pieces = append(pieces, "<"+n.Data+">")
			pieces = append(pieces, attributes(n)...)
			for c := n.FirstChild; c != nil; c = c.NextSibling {
				visit(c)
			}
			pieces = append(pieces, "</"+n.Data+">")
		}
	}
	for _, n := range nodes {
		visit(n)
	}
	return pieces
}

// quotedAddress is an address in a declaration, with or without quotes.
var quotedAddress = regexp.MustCompile(`url\('([^']*)'\)`)

func attributes(n *html.Node) []string {
	var list []string
	for _, a := range n.Attr {
		if a.Key != "style" {
			list = append(list, fmt.Sprintf("[%s=%s]", a.Key, strings.TrimSpace(a.Val)))
			continue
		}
		list = append(list, "[style]")
		for _, d := range style.ParseDeclarations(a.Val, 0) {
			list = append(list, fmt.Sprintf("{%s}", quotedAddress.ReplaceAllString(strings.ReplaceAll(d.String(), `"`, "'"), "url($1)")))
		}
	}
	sort.Strings(list)
	return list
}

func run(name string, input []byte, args ...string) ([]byte, error) {
	c := exec.Command(name, args...)
	c.Stdin = bytes.NewReader(input)
	var problems bytes.Buffer
	c.Stderr = &problems
	out, err := c.Output()
	if err != nil {
		return nil, fmt.Errorf("%s: %w\n%s", name, err, problems.String())
	}
	return out, nil
}

func writeTemp(name string, data []byte) string {
	path := filepath.Join(os.TempDir(), name)
	if err := os.WriteFile(path, data, 0o600); err != nil {
		log.Fatal(err)
	}
	return path
}

// version is that of an installed Debian package.
func version(name string) string {
	out, err := exec.Command("dpkg-query", "-W", "-f", "${Version}", name).Output()
	if err != nil {
		return "unknown"
	}
	return string(out)
}
