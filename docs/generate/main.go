// Command generate writes the reference pages that come from the program itself: docs/clients.md,
// docs/checks.md, and the list of modifiers in docs/template-reference.md.
package main

import (
	"fmt"
	"log"
	"os"
	"strings"

	"missivum/core/check"
	"missivum/core/client"
	"missivum/core/compose"
	"missivum/core/field"
	"missivum/core/person"
)

func main() {
	log.SetFlags(0)
	for name, text := range pages() {
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

// pages are the pages that are generated as a whole, by path.
func pages() map[string]string {
	return map[string]string{"docs/clients.md": clients(), "docs/checks.md": checks()}
}

func clients() string {
	var b strings.Builder
	b.WriteString(note + `# Client profiles

What each family of mail clients does to a signature, as the program's data has it
(core/client/profiles, by the schema core/client/profile.schema.json). The **basis** says how a statement is
known: *measured* against an engine or sanitiser that the tests run, *published* for long and widely, or
*assumed*. No entry is measured yet; that is said rather than hidden.

The hops are those of a signature's journey: **install** (pasted, placed as a file, appended by a host),
**send**, **receive**, **draw**.

Not simulated yet: what the copying browser adds to a rendered paste, dark mode, link recolouring and blocked
pictures. Figures for a paste are therefore those of the markup as Missivum writes it.
`)
	for _, p := range client.Shipped() {
		fmt.Fprintf(&b, "\n## %s\n\n**%s.** %s\n\n", p.ID, p.Title, p.About)
		fmt.Fprintf(&b, "Shows %s; installed by: %s.\n", p.Form, strings.ReplaceAll(p.Install.Way, "-", " "))
		if len(p.Limits) > 0 {
			b.WriteString("\n| limit | at most | when it is burst | severity | basis |\n|---|---|---|---|---|\n")
			for _, l := range p.Limits {
				fmt.Fprintf(&b, "| %s | %d %s | %s | %s | %s |\n", l.Measure, l.Max, l.Measure.Unit(), l.Says, l.Severity, l.Basis)
			}
		}
		if p.Pictures != nil {
			b.WriteString("\n| pictures | are | which means | basis |\n|---|---|---|---|\n")
			for _, w := range p.Pictures.Ways() {
				fmt.Fprintf(&b, "| %s | %s | %s | %s |\n", w.Way, w.As, w.Says, w.Basis)
			}
			fmt.Fprintf(&b, "| formats | drawn | %s; an animation: %s | %s |\n", strings.Join(p.Pictures.Formats.Drawn, ", "), p.Pictures.Formats.Animation, p.Pictures.Formats.Basis)
			unsized := map[string]string{"pixels": "the true pixels", "tag": "the true pixels, scaled by the resolution tag"}[p.Pictures.Unsized]
			fmt.Fprintf(&b, "| size | taken from | %s; without: %s; best %d pixels for each px | %s |\n", strings.Join(p.Pictures.SizedBy, ", "), unsized, p.Pictures.Best.Best, p.Pictures.Best.Basis)
		}
		if len(p.Behaviours) > 0 {
			b.WriteString("\n| hop | what | happens | seen as | severity | check | basis |\n|---|---|---|---|---|---|---|\n")
			for _, x := range p.Behaviours {
				fmt.Fprintf(&b, "| %s | %s | %s | %s | %s | %s | %s |\n", x.Hop, escape(x.Match.String()), x.Does, x.Says, x.Severity, x.Check, x.Basis)
			}
		}
	}
	return b.String()
}

// escape makes text fit for a table's cell.
func escape(s string) string {
	return strings.NewReplacer("<", "&lt;", ">", "&gt;", "|", "\\|", "*", "\\*").Replace(s)
}

func checks() string {
	var b strings.Builder
	b.WriteString(note + `# Checks

Each check with what it finds, why it matters, and an example that it finds something in beside one that it
does not. The examples are run by the tests.
`)
	for _, c := range check.Checks() {
		fmt.Fprintf(&b, "\n## %s\n\n**%s.** %s\n\nRemedy: %s\n\n", c.ID, c.Title, c.Why, c.Remedy)
		fmt.Fprintf(&b, "```html\n<!-- found -->\n%s\n\n<!-- passes -->\n%s\n```\n", c.Failing, c.Passing)
	}
	fmt.Fprintf(&b, "\n## %s\n\n**Mistake in the template language.** An unknown field, modifier, variant, slot or picture, or a field where none can stand. A template with a mistake is not filled.\n", check.LanguageID)
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
		fmt.Fprintf(&b, "| %s | %s | %s | `%s` | %s | `%s` |\n", name, k.Takes, escape(k.Doc), strings.ReplaceAll(k.Example, "|", "\\|"), input, k.Output)
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
