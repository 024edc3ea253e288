package main

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	files "missivum/addon"
	"missivum/core/addon"
	"missivum/lab/webmail"
)

const (
	geckoUUID = "7f1f5c34-4a52-4b6e-9d0e-0d6f6f0a2b11" // of the add-on's pages, as a preference sets it
	crewMail  = "maren.lind@brackwater.example"
)

// TestTheAddOnInGecko: the package for Gecko is installed, gets a key by its settings, and places signatures in the stand-in webmail; for
// another account it takes them out.
func TestTheAddOnInGecko(t *testing.T) {
	box := httptest.NewServer(webmail.New(crewMail))
	t.Cleanup(box.Close)
	site := addon.Site{ID: "crew-webmail", Title: "Crew webmail", Matches: []string{box.URL + "/*"}, Client: "capped-webmail",
		Place: addon.Above,
		Compose: []addon.Compose{{Pane: "section[data-pane]", Field: "div[data-part=body]", Account: "select[name=from]",
			Quotation: "[data-part=quotation]", Draft: "[data-draft]"}}}
	var mu sync.Mutex
	var reports []string
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "Bearer the-key" {
			http.Error(w, "no", http.StatusUnauthorized)
			return
		}
		if r.Method == http.MethodPost {
			body, err := io.ReadAll(r.Body)
			if err != nil {
				t.Error(err)
			}
			mu.Lock()
			reports = append(reports, string(body))
			mu.Unlock()
			w.WriteHeader(http.StatusNoContent)
			return
		}
		answer := addon.Answer{Person: crewMail, Release: "1", Ends: "2028-01-01", Sites: []addon.Site{site}}
		for _, situation := range []string{"new", "reply"} {
			answer.Signatures = append(answer.Signatures, addon.Signature{Site: site.ID, Situation: situation,
				HTML: "<table><tr><td><b>Maren Lind</b><br>Head of Timetables, " + situation + "</td></tr></table>",
				Text: "Maren Lind\nHead of Timetables"})
		}
		json.NewEncoder(w).Encode(answer) // the other end may have gone
	}))
	t.Cleanup(service.Close)
	data, err := addon.Pack(addon.Input{Files: files.Files(), Organisation: "Brackwater", Service: service.URL, Sites: []addon.Site{site},
		Version: "1.0.1", Engine: addon.Gecko})
	if err != nil {
		t.Fatal(err)
	}
	archive := filepath.Join(t.TempDir(), "add-on.xpi")
	if err := os.WriteFile(archive, data, 0o600); err != nil {
		t.Fatal(err)
	}
	ctx := t.Context()
	g, err := startGecko(ctx, fmt.Sprintf(`user_pref("extensions.webextensions.uuids", '{"%s":"%s"}');`, addon.GeckoID, geckoUUID))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { g.Close() }) // it may have ended
	if err := g.call(ctx, "webExtension.install", map[string]any{"extensionData": map[string]any{"type": "archivePath", "path": archive}},
		nil); err != nil {
		t.Fatal(err)
	}
	is := func(what, expression string) {
		t.Helper()
		for until := time.Now().Add(30 * time.Second); ; time.Sleep(100 * time.Millisecond) {
			got, err := g.evaluate(ctx, "String(Boolean("+expression+"))")
			if err == nil && got == "true" {
				return
			}
			if time.Now().After(until) {
				page, _ := g.evaluate(ctx, "document.documentElement.outerHTML")
				t.Fatalf("%s: %s is %s, %v\n%.3000s", what, expression, got, err, page)
			}
		}
	}
	run := func(script string) {
		t.Helper()
		if _, err := g.evaluate(ctx, script+"; ''"); err != nil {
			t.Fatalf("%s: %v", script, err)
		}
	}
	if err := g.show(ctx, "moz-extension://"+geckoUUID+"/settings.html"); err != nil {
		t.Fatal(err)
	}
	is("the settings", `document.querySelector('#key')`)
	run(`document.querySelector('#key').value = 'the-key'; document.querySelector('form').requestSubmit()`)
	is("the key works", `/It works: signatures for `+crewMail+`/.test(document.body.innerText)`)
	count := `[...document.querySelectorAll('[data-placed-signature]')].filter(e => !e.closest('blockquote')).length`
	for _, kind := range []string{"new", "reply", "forward"} {
		if err := g.show(ctx, box.URL+"/compose?kind="+kind); err != nil {
			t.Fatal(err)
		}
		is(kind, count+` === 1 && document.querySelector('.field').innerText.includes('Head of Timetables')`)
		run(`{ const s = document.querySelector('select[name=from]'); s.selectedIndex = 1
			s.dispatchEvent(new Event('change', { bubbles: true })) }`)
		is(kind+", another account", count+" === 0")
	}
	mu.Lock()
	defer mu.Unlock()
	if len(reports) == 0 || !strings.Contains(reports[0], `"outcome":"placed"`) {
		t.Errorf("it said %v", reports)
	}
}
