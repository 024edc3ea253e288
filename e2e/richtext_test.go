package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"missivum/core/compose"
	"missivum/core/markup"
	"missivum/core/person"
)

var today = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// pasteKey presses the key that pastes.
func pasteKey() chromedp.Action[chromedp.Void] {
	return chromedp.KeyEvent("v", chromedp.KeyModifiers(2))
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
