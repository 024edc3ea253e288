package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"missivum/core/compose"
	"missivum/core/markup"
	"missivum/core/person"
	"missivum/demo"
)

var today = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// TestRichTextIsReadBack opens the rich text form of the demo templates and of hard cases in two programs: the
// same text, the same links, the pictures there.
func TestRichTextIsReadBack(t *testing.T) {
	d, err := demo.Directory()
	if err != nil {
		t.Fatal(err)
	}
	templates, err := demo.Templates()
	if err != nil {
		t.Fatal(err)
	}
	folder := t.TempDir()
	cases := map[string]richText{}
	for _, tmpl := range templates {
		if tmpl.Name == "regatta" {
			continue // its faults are markup that is not nested as it should be
		}
		s, err := compose.Compile(compose.Source{Template: tmpl, Schema: d.Schema, Day: today, Variants: tmpl.Variants()})
		if err != nil {
			t.Fatal(err)
		}
		for _, who := range []string{"maren.lind", "salma.albahri", "kamome.minato", "siobhan.nifhloinn", "bo", "ilavenil.kadalarasan"} {
			p := d.Find(who + "@brackwater.example")
			for _, variant := range tmpl.Variants() {
				name := tmpl.Name + "-" + variant + "-" + strings.ReplaceAll(who, ".", "-")
				cases[name] = newRichText(t, folder, name, s, variant, p)
			}
		}
	}
	files, err := filepath.Glob(filepath.Join(folder, "*.rtf"))
	if err != nil || len(files) != len(cases) {
		t.Fatalf("%d files, %v", len(files), err)
	}
	office := exec.Command("soffice", append([]string{"-env:UserInstallation=file://" + folder + "/profile", "--headless",
		"--convert-to", "html", "--outdir", folder}, files...)...)
	if out, err := office.CombinedOutput(); err != nil {
		t.Fatalf("LibreOffice: %v\n%s", err, out)
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) { c.check(t, folder, name) })
	}
}

// richText is what a reader of a rich text form must find in it.
type richText struct {
	words    []string
	links    []string
	pictures int
}

// newRichText writes a signature as rich text and notes what its page says.
func newRichText(t *testing.T, folder, name string, s *compose.Signature, variant string, p *person.Person) richText {
	t.Helper()
	if err := os.WriteFile(filepath.Join(folder, name+".rtf"), s.Fill(variant, compose.RTF, p), 0o600); err != nil {
		t.Fatal(err)
	}
	doc, err := markup.Parse(string(s.Fill(variant, compose.HTML, p)))
	if err != nil {
		t.Fatal(err)
	}
	return readable(doc)
}

// readable lists the words, links and pictures of a page.
func readable(doc *markup.Document) richText {
	var r richText
	doc.Root.Walk(func(n *markup.Node) bool {
		switch {
		case n.Kind == markup.Text:
			r.words = append(r.words, strings.Fields(n.Data)...)
		case n.Is("a"):
			if href, ok := n.Attr("href"); ok {
				r.links = append(r.links, href)
			}
		case n.Is("img"):
			r.pictures++
		}
		return !n.Is("head", "style", "script", "title")
	})
	slices.Sort(r.links)
	r.links = slices.Compact(r.links)
	return r
}

// check reads the form back from LibreOffice's page, and from pandoc's.
func (want richText) check(t *testing.T, folder, name string) {
	office, err := os.ReadFile(filepath.Join(folder, name+".html"))
	if err != nil {
		t.Fatal(err)
	}
	pandoc, err := exec.Command("pandoc", "-f", "rtf", "-t", "html", "--wrap=none", filepath.Join(folder, name+".rtf")).Output()
	if err != nil {
		t.Fatalf("pandoc: %v", err)
	}
	for reader, page := range map[string]string{"LibreOffice": string(office), "pandoc": string(pandoc)} {
		doc, err := markup.Parse(page)
		if err != nil {
			t.Fatal(err)
		}
		got := readable(doc)
		if text, wanted := strings.Join(got.words, ""), strings.Join(want.words, ""); text != wanted {
			t.Errorf("%s reads another text:\n%s\n%s", reader, text, wanted)
		}
		if !slices.Equal(got.links, want.links) {
			t.Errorf("%s reads other links:\n%v\n%v", reader, got.links, want.links)
		}
		if got.pictures != want.pictures {
			t.Errorf("%s finds %d pictures of %d", reader, got.pictures, want.pictures)
		}
	}
}
