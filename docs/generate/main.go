// Command generate writes the reference pages that come from the program itself: docs/clients.md,
// docs/checks.md and others, and the list of modifiers in docs/template-reference.md.
package main

import (
	"context"
	"encoding/json"
	"fmt"
	"log"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"missivum/core/check"
	"missivum/core/client"
	"missivum/core/compose"
	"missivum/core/desk"
	"missivum/core/field"
	"missivum/core/kit"
	"missivum/core/markup"
	"missivum/core/person"
	"missivum/core/picture"
	"missivum/core/source"
	"missivum/core/style"
	"missivum/core/template"
	"missivum/demo"
	"missivum/service/access"
	"missivum/service/api"
	"missivum/service/config"
)

func main() {
	log.SetFlags(0)
	for name, text := range pages(".") {
		if err := os.WriteFile(name, []byte(text), 0o644); err != nil {
			log.Fatal(err)
		}
	}
	reference, err := os.ReadFile(referencePage)
	if err != nil {
		log.Fatal(err)
	}
	filled, err := withLists(string(reference))
	if err != nil {
		log.Fatal(err)
	}
	if err := os.WriteFile(referencePage, []byte(filled), 0o644); err != nil {
		log.Fatal(err)
	}
}

const referencePage = "docs/template-reference.md"

const note = "<!-- Written by make docs from the program itself; change it there. -->\n\n"

// pages are the pages that are generated as a whole, by path. root is the project's folder, where what was measured lies.
func pages(root string) map[string]string {
	return map[string]string{"docs/clients.md": clients(root), "docs/checks.md": checks(), "docs/limits.md": limits(),
		"docs/places.md": places(), "docs/permissions.md": permissions(), "docs/settings.example.yaml": config.Example(),
		"docs/settings.schema.json": string(config.Schema()) + "\n"}
}

// permissions is the page of who may do what.
func permissions() string {
	var b strings.Builder
	b.WriteString("# Who may do what\n\n" + note +
		`An account has one or more roles, a key one or more scopes. A key of somebody's own may do what both its scope and the
account's roles allow. While there are no accounts, whoever uses the service's own machine may do everything but what is
for programs alone. How accounts and keys are made is in [operating.md](operating.md).

`)
	mark := map[bool]string{true: "✓", false: ""}
	fmt.Fprintf(&b, "| permission | for | %s | %s |\n|---|---|%s%s\n", joinedAs(access.Roles()), joinedAs(access.Scopes()),
		strings.Repeat("---|", len(access.Roles())), strings.Repeat("---|", len(access.Scopes())))
	for _, g := range access.Permissions() {
		if g.Permission == access.Open {
			continue
		}
		fmt.Fprintf(&b, "| %s | %s |", g.Permission, g.Allows)
		for _, r := range access.Roles() {
			fmt.Fprintf(&b, " %s |", mark[slices.Contains(g.Roles, r)])
		}
		for _, s := range access.Scopes() {
			says := mark[slices.Contains(g.Scopes, s)]
			if says != "" && g.People {
				says = "own key"
			}
			fmt.Fprintf(&b, " %s |", says)
		}
		b.WriteString("\n")
	}
	b.WriteString("\n\"own key\": a key with the account of a person behind it, not one of a program.\n\n## Routes\n")
	last := access.Permission("")
	for _, n := range api.NeedsTable() {
		if n.Permission != last {
			fmt.Fprintf(&b, "\n### %s\n\n", n.Permission)
			if n.Permission == access.Open {
				b.WriteString("Without signing in: " + access.GrantOf(n.Permission).Allows + ".\n\n")
			}
			last = n.Permission
		}
		fmt.Fprintf(&b, "- `%s %s`\n", n.Method, n.Path)
	}
	return b.String()
}

// joinedAs writes words as the heads of a table.
func joinedAs[T ~string](list []T) string {
	var words []string
	for _, one := range list {
		words = append(words, string(one))
	}
	return strings.Join(words, " | ")
}

// places is the reference page of places: every member of the schema, and the places that come with the program.
func places() string {
	var b strings.Builder
	b.WriteString("# Places\n\n" + note +
		`A place says where a mail client keeps its signatures on a desk. It is a small YAML or JSON file; how to write one is in
[desks.md](desks.md). Members that are not here are refused, with their line.

| member | what it is |
|---|---|
`)
	var schema struct {
		Properties map[string]schemaMember `json:"properties"`
		Required   []string                `json:"required"`
		Defs       map[string]schemaMember `json:"$defs"`
	}
	if err := json.Unmarshal([]byte(desk.SchemaJSON()), &schema); err != nil {
		log.Fatal(err)
	}
	var write func(prefix string, members map[string]schemaMember, required []string)
	write = func(prefix string, members map[string]schemaMember, required []string) {
		for _, name := range slices.Sorted(maps.Keys(members)) {
			m := members[name]
			if ref := strings.TrimPrefix(m.Ref, "#/$defs/"); ref == "switch" {
				m.Description = strings.TrimSpace(m.Description + " " + schema.Defs[ref].Description)
				m.Properties, m.Required = schema.Defs[ref].Properties, schema.Defs[ref].Required
			}
			says := m.Description
			if len(m.Enum) > 0 {
				says = strings.TrimSpace(says + " One of " + strings.Join(m.Enum, ", ") + ".")
			}
			if slices.Contains(required, name) {
				says = strings.TrimSpace(says + " Needed.")
			}
			fmt.Fprintf(&b, "| `%s%s` | %s |\n", prefix, name, says)
			write(prefix+name+".", m.Properties, m.Required)
			if m.Items != nil {
				write(prefix+name+"[].", m.Items.Properties, m.Items.Required)
			}
		}
	}
	write("", schema.Properties, schema.Required)
	b.WriteString("\n## Places that come with the program\n")
	for _, p := range desk.Shipped() {
		fmt.Fprintf(&b, "\n### %s\n\n%s, for kits of %s. %s\n\n| system | folder |\n|---|---|\n", p.ID, p.Title, p.Client, p.About)
		for _, system := range slices.Sorted(maps.Keys(p.Folders)) {
			fmt.Fprintf(&b, "| %s | `%s` |\n", system, strings.Join(p.Folders[system], ", "))
		}
	}
	return b.String()
}

// schemaMember is what the reference says of a member.
type schemaMember struct {
	Description string                  `json:"description"`
	Ref         string                  `json:"$ref"`
	Enum        []string                `json:"enum"`
	Properties  map[string]schemaMember `json:"properties"`
	Required    []string                `json:"required"`
	Items       *schemaMember           `json:"items"`
}

// limits is the page of the limits of inputs.
func limits() string {
	var b strings.Builder
	b.WriteString("# Limits\n\n" + note +
		`What is larger is refused with its line and the limit, while it is read. No honest signature comes near these figures.
Within them every command and request is worked on in two seconds or less on one processor, and stops when nobody waits
for it any more; the figures are in [performance.md](performance.md).

| of | limit | is |
|---|---|---:|
`)
	for _, part := range []struct {
		of   string
		list map[string]int
	}{
		{"a template's source", markup.Limits()}, {"its styles", style.Limits()}, {"its fields", field.Limits()},
		{"a template", template.Limits()}, {"people of a source", source.Limits()}, {"a picture", picture.Limits()},
		{"a kit", kit.Limits()}, {"a desk", desk.Limits()},
	} {
		for _, name := range slices.Sorted(maps.Keys(part.list)) {
			fmt.Fprintf(&b, "| %s | %s | %s |\n", part.of, name, grouped(part.list[name]))
		}
	}
	b.WriteString(`
A request's body: JSON 4 MB, an archive or a page 64 MB, CSV 64 MB, a picture 32 MB, photos in bulk 1 GB. A body that pauses for
20 seconds is given up. Heavy work (checking, fixing, filling, pictures) waits in line: as much at once as there are
processors but one, pictures one after the other; after 20 seconds, or behind 64 others, the answer is 503 with Retry-After. A
drawing ends after 20 seconds. With all of this the service stays below 1 GB.
`)
	return b.String()
}

// grouped writes a number with a space between groups of three digits.
func grouped(n int) string {
	s := strconv.Itoa(n)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + " " + s[i:]
	}
	return s
}

// agreement is a file that docs/measure/clients wrote.
type agreement struct {
	Profile, Against, Version, Stage string
	Probes, Same, Exact              int
	Disagreements                    []struct{ Probe, HTML, Real, Simulated string }
}

// measured is the table of what was held against the real thing, and the list of disagreements.
func measured(root string) string {
	var b, list strings.Builder
	b.WriteString("| profile | stage | against | version | probes | end alike | to the sign |\n|---|---|---|---|---:|---:|---:|\n")
	for _, name := range []string{"washing-webmail-whole-install", "washing-webmail-whole-send", "washing-webmail-whole-receive",
		"washing-webmail-receive", "gecko-desktop-install", "gecko-desktop-send", "gecko-desktop-render", "webkit-desktop-render",
		"webkit-phone-render", "text-reader-install", "text-reader-send", "text-reader-render", "rich-text-desktop-render",
		"rich-text-desktop-pandoc-render", "paste-rendered-install", "paste-rendered-gecko-install"} {
		var a agreement
		readResult(root, name, &a)
		fmt.Fprintf(&b, "| %s | %s | %s | %s | %d | %.1f %% | %.1f %% |\n", a.Profile, a.Stage, a.Against, a.Version, a.Probes,
			100*float64(a.Same)/float64(a.Probes), 100*float64(a.Exact)/float64(a.Probes))
		for _, d := range a.Disagreements {
			fmt.Fprintf(&list, "- %s, %s, %s: `%s` gives `%s`, simulated `%s`\n", a.Profile, a.Stage, a.Against, d.HTML, d.Real, d.Simulated)
		}
	}
	return b.String() + `
A probe is one small construct (docs/measure/clients/probes.yaml). "End alike" says that the real thing and the
simulation both keep, change or drop it; "to the sign", that the markup is the same. Each stage is measured by itself: what
goes in is what came out of the stage before. By kind:

- **washing-webmail** is the webmail of a Debian package, driven in Chromium: the signature goes into the source box of its
  editor, is saved, sent by Postfix and read again. The fourth row is its sanitiser alone, which mail of others meets too.
- **gecko-desktop** is Debian's mail client, by key presses: what it saves as a draft and what it sends.
- Where an engine draws, the question is whether declarations are rendered, against Chromium's drawing of what the profile
  keeps. For webkit-phone the probes are 390 px wide; what a phone adds of its own (enlarged text, scaled tables) is not in
  the engine and not measured.
- **text-reader** is Debian's text client in a terminal of 80 columns. Its probes are the lines of the text forms of all
  demo, starter and corpus signatures, and lines of 60 to 100 signs in six scripts: whether they stay one line.
- **rich-text-desktop**: the words, the links and the pictures of the same signatures' rich text, as two programs read them,
  beside those of the page. pandoc reads no tables in tables. A third reader, AbiWord, was tried by hand: the same words and
  pictures, but its pages put a slash before addresses that are not of the web.
- **paste-rendered** is the paste, which all profiles share that are pasted into (` + pastedInto() + `): copied and pasted by
  key presses, in Chromium, as browser and as web view of many, and in Gecko.

So ` + fmt.Sprint(measuredProfiles()) + ` of the ` + fmt.Sprint(len(client.Shipped())) +
		` profiles are measured in one stage or more. go run ./docs/measure/clients measures anew, all or what
is named; the tests do so too. The disagreements:

` + list.String()
}

// readResult reads what a measurement found.
func readResult(root, name string, into any) {
	data, err := os.ReadFile(filepath.Join(root, "docs/measure/clients/results", name+".json"))
	if err == nil {
		err = json.Unmarshal(data, into)
	}
	if err != nil {
		log.Fatal(err)
	}
}

// pastedInto names the profiles that signatures are pasted into.
func pastedInto() string {
	var list []string
	for _, p := range client.Shipped() {
		if p.Pasted() {
			list = append(list, p.ID)
		}
	}
	return strings.Join(list, ", ")
}

// measuredProfiles counts those that are pasted into and those with a row of their own.
func measuredProfiles() int {
	own := map[string]bool{"washing-webmail": true, "gecko-desktop": true, "webkit-desktop": true, "webkit-phone": true, "text-reader": true,
		"rich-text-desktop": true}
	for _, p := range client.Shipped() {
		if p.Pasted() {
			own[p.ID] = true
		}
	}
	return len(own)
}

// corpusPaste says how well the paste of the corpus was predicted, for each engine.
func corpusPaste(root string) string {
	var list []string
	for _, name := range []string{"corpus-chromium", "corpus-gecko"} {
		var l struct {
			Against                             string
			Signatures, Within, Elements, Alike int
		}
		readResult(root, name, &l)
		list = append(list, fmt.Sprintf("in %s %d of %d lengths are within 2 %% and %d of %d elements alike (%.1f %%)", l.Against, l.Within,
			l.Signatures, l.Alike, l.Elements, 100*float64(l.Alike)/float64(l.Elements)))
	}
	return strings.Join(list, ", ")
}

func clients(root string) string {
	var b strings.Builder
	b.WriteString(note + `# Client profiles

What each family of mail clients does to a signature, as the program's data has it
(core/client/profiles, by the schema core/client/profile.schema.json). The **basis** says how a statement is
known: *measured* against an engine or sanitiser that the tests run, *published* for long and widely, or
*assumed*.

The stages are those of a signature's journey: **install** (pasted, placed as a file, appended by a host),
**send**, **receive**, **draw**. One engine interprets all profiles; none has code of its own.

## Profiles of your own

An organisation overrides entries of a shipped profile, or adds profiles, in YAML files: with --profiles on the
command line, with missivum clients push in a service, or on the page Clients of the console. Starting from a shipped
one is the usual way:

    id: wordproc-desktop        # the same id stands over the shipped profile, another adds one
    based-on: wordproc-desktop
    title: Our desktops in the ports
    share: 44                   # percent of the readers: weighs the survival map
    off: false                  # true: not asked about unless it is named
    without: [effects]          # behaviours that do not hold here
    limits:                     # replaced by what they measure
      - {measure: picture-bytes, max: 30000, severity: degrades, says: our own rule, basis: assumed}

A profile that is wrong is refused with line and reason.

## Measured

` + measured(root) + `
Pasting is predicted in the program: what a browser hands over when rendered markup is copied, and what stands in an
editable element after it was pasted. Chromium writes computed styles out in its own spelling and takes a lone block
apart. Gecko hands over the markup as it was written, loses what a style sheet did, and takes away elements and
attributes that its list does not name, nosend and loading among them. Of the corpus of signatures ([findings](findings.md)), filled
for one person, ` + corpusPaste(root) + `; before the lone block, shorthands, shares of the width and what holds anyway were
modelled, 48 of 89 lengths in Chromium were. The corpus helped to build the model, so others will differ more. Signatures that
nobody had looked at, pasted once before anything was changed for them: of the 22 that came to the corpus last 18
lengths were within 2 % in Chromium and 22 in Gecko; of nine in the manner of generators and old mail 4 were
in Chromium, the worst 10 % off. What these showed is modelled since:
what is given already is not written again, percentages of letters, sides in text from right to left, spaces that do not break, borders
of none, maps and empty blocks at the end. A test holds
every demo and starter signature within 2 % in Chromium. What relative addresses become is not foreseen, nor pieces that
are placed by their corners.

Assumed, and not measured: what dark modes do exactly. The two ways that profiles name are our own: *full* turns the
lightness of every colour over and keeps its hue; *partial* does so for light backgrounds and dark text only.
`)
	for _, p := range client.Shipped() {
		fmt.Fprintf(&b, "\n## %s\n\n**%s.** %s\n\n", p.ID, p.Title, p.About)
		fmt.Fprintf(&b, "Shows %s; installed by: %s.\n", p.Form, strings.ReplaceAll(p.Install.Way, "-", " "))
		if len(p.Limits) > 0 {
			b.WriteString("\n| limit | at most | when it is exceeded | severity | basis |\n|---|---|---|---|---|\n")
			for _, l := range p.Limits {
				fmt.Fprintf(&b, "| %s | %d %s | %s | %s | %s |\n", l.Measure, l.Max, l.Measure.Unit(), l.Says, l.Severity, l.Basis)
			}
		}
		if p.Pictures != nil {
			b.WriteString("\n| pictures | are | which means | basis |\n|---|---|---|---|\n")
			for _, w := range p.Pictures.Ways() {
				fmt.Fprintf(&b, "| %s | %s | %s | %s |\n", w.Way, w.As, w.Says, w.Basis)
			}
			fmt.Fprintf(&b, "| formats | rendered | %s; an animation: %s | %s |\n",
				strings.Join(p.Pictures.Formats.Rendered, ", "), p.Pictures.Formats.Animation, p.Pictures.Formats.Basis)
			unsized := map[string]string{"pixels": "the true pixels", "tag": "the true pixels, scaled by the resolution tag"}[p.Pictures.Unsized]
			fmt.Fprintf(&b, "| size | taken from | %s; without: %s; best %d pixels for each px | %s |\n",
				strings.Join(p.Pictures.SizedBy, ", "), unsized, p.Pictures.Best.Best, p.Pictures.Best.Basis)
		}
		if d := p.Dark; d != nil {
			declared := ""
			if d.Declared {
				declared = "; a message that declares both schemes is left alone"
			}
			fmt.Fprintf(&b, "\nDark mode: %s inversion; %s%s (%s).\n", d.As, d.Says, declared, d.Basis)
		}
		if len(p.Behaviours) > 0 {
			b.WriteString("\n| stage | what | happens | seen as | severity | check | basis |\n|---|---|---|---|---|---|---|\n")
			for _, x := range p.Behaviours {
				fmt.Fprintf(&b, "| %s | %s | %s | %s | %s | %s | %s |\n", x.Stage, escape(clipped(x.Match.String())), x.Does,
					x.Says, x.Severity, x.Check, x.Basis)
			}
		}
	}
	return b.String()
}

// clipped cuts a long list of names; the data has all of it.
func clipped(s string) string {
	if len(s) <= 200 {
		return s
	}
	return s[:190] + " and so on"
}

// escape makes text fit for a table's cell.
func escape(s string) string {
	return strings.NewReplacer("<", "&lt;", ">", "&gt;", "|", "\\|", "*", "\\*").Replace(s)
}

// fixesOfExamples gives for each check what its fix does to the failing example.
func fixesOfExamples() map[string]string {
	list := map[string]string{}
	people, err := demo.Directory()
	if err != nil {
		log.Fatal(err)
	}
	for _, c := range check.Checks() {
		t, err := template.New("example", template.Parts{Source: c.Failing})
		if err != nil {
			log.Fatal(err)
		}
		r, err := check.Findings(context.Background(), check.Input{Template: t, People: people, Profiles: client.Shipped(),
			Day: time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)})
		if err != nil {
			log.Fatal(err)
		}
		for _, f := range r.Findings {
			if f.Check == c.ID && f.Fix != nil {
				list[c.ID] = strings.ToLower(f.Fix.Title[:1]) + f.Fix.Title[1:]
				if !f.Fix.Safe {
					list[c.ID] += "; this costs something: " + f.Fix.Costs
				}
			}
		}
	}
	return list
}

func checks() string {
	var b strings.Builder
	fixes := fixesOfExamples()
	b.WriteString(note + `# Checks

Each check with what it finds, why it matters, and an example that it finds something in beside one that it
does not. The examples are run by the tests.
`)
	b.WriteString("\nA finding is accepted in the source by a comment with the reason, `<!-- accepted: check-id: " +
		"reason -->`, for its line and\nfor the element behind it. Where it says **fix**, missivum fix can put the example right.\n")
	for _, c := range check.Checks() {
		fixed := ""
		if fixes[c.ID] != "" {
			fixed = "Fix: " + fixes[c.ID] + ".\n\n"
		}
		fmt.Fprintf(&b, "\n## %s\n\n**%s.** %s\n\nRemedy: %s\n\n%s", c.ID, c.Title, c.Why, c.Remedy, fixed)
		fmt.Fprintf(&b, "```html\n<!-- found -->\n%s\n\n<!-- passes -->\n%s\n```\n", c.Failing, c.Passing)
	}
	fmt.Fprintf(&b, "\n## %s\n\n**Mistake in the template language.** An unknown field, modifier, variant, slot or "+
		"picture, or a field where none can stand. A template with a mistake is not filled.\n",
		check.LanguageID)
	return b.String()
}

// withLists fills the lists of the template reference between their marks.
func withLists(page string) (string, error) {
	for name, text := range map[string]string{"modifiers": modifiers(), "fields": fields(), "forms": forms()} {
		open, shut := "<!-- "+name+" -->\n", "<!-- /"+name+" -->"
		head, rest, ok := strings.Cut(page, open)
		_, tail, closed := strings.Cut(rest, shut)
		if !ok || !closed {
			return "", fmt.Errorf("%s lacks the marks of %s", referencePage, name)
		}
		page = head + open + text + shut + tail
	}
	return page, nil
}

func forms() string {
	var b strings.Builder
	b.WriteString("| form | file | what it is |\n|---|---|---|\n")
	for _, f := range compose.FormInfos() {
		fmt.Fprintf(&b, "| `%s` | `%s` | %s |\n", f.Form, f.Suffix, strings.ReplaceAll(f.About, "label <address>", "`label <address>`"))
	}
	return b.String()
}

func modifiers() string {
	var b strings.Builder
	b.WriteString("| modifier | takes | what it does | example | value | result |\n|---|---|---|---|---|---|\n")
	for _, k := range field.ModifierKinds() {
		name := "`" + k.Name + "`"
		if k.Argument != "" {
			name = "`" + k.Name + " '...'`"
		}
		input := "`" + k.Input + "`"
		if k.Input == "" {
			input = "(blank)"
		}
		fmt.Fprintf(&b, "| %s | %s | %s | `%s` | %s | `%s` |\n", name, k.Takes, escape(k.Doc),
			strings.ReplaceAll(k.Example, "|", "\\|"), input, k.Output)
	}
	return b.String()
}

func fields() string {
	var b strings.Builder
	b.WriteString("| field | also | meaning | source |\n|---|---|---|---|\n")
	for _, a := range person.Attributes {
		also := ""
		if a.Alias != "" {
			also = "`" + a.Alias + "`"
		}
		fmt.Fprintf(&b, "| `%s` | %s | %s | %s |\n", a.Name, also, a.Title, a.Source)
	}
	return b.String()
}
