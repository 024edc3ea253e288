package personal

import (
	"strings"
	"testing"
	"time"

	"missivum/core/client"
	"missivum/core/journey"
	"missivum/core/proof"
	"missivum/demo"
)

var day = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// inputs are the demo's signatures of a person in every variant for a client.
func inputs(t *testing.T, id string) (list []Input) {
	t.Helper()
	people, err := demo.Directory()
	if err != nil {
		t.Fatal(err)
	}
	templates, err := demo.Templates()
	if err != nil {
		t.Fatal(err)
	}
	for _, tm := range templates {
		for _, variant := range tm.Variants() {
			list = append(list, Input{Template: tm, Schema: people.Schema, Day: day, Variant: variant,
				Person: people.Find("maren.lind@brackwater.example"), Client: client.Find(id)})
		}
	}
	return list
}

// What is prepared for a client is judged right when it comes back as the client keeps it.
func TestPreparedForEveryClient(t *testing.T) {
	for _, p := range client.Shipped() {
		for _, in := range inputs(t, p.ID) {
			s, err := Prepare(in)
			if err != nil {
				t.Fatalf("%s, %s: %v", p.ID, in.Template.Name, err)
			}
			if s.Whole.HTML == "" || s.Text == "" || s.Light == "" || s.Dark == "" || strings.HasPrefix(s.Text, "-- ") {
				t.Errorf("%s, %s: something is blank", p.ID, in.Template.Name)
			}
			if client.Units(s.Shorter.HTML) > client.Units(s.Whole.HTML) {
				t.Errorf("%s, %s: the shorter form has %d characters, the whole one %d", p.ID, in.Template.Name,
					client.Units(s.Shorter.HTML), client.Units(s.Whole.HTML))
			}
			if want := map[bool]int{true: 2}[p.Pasted()]; len(s.Whole.Pastes) != want {
				t.Errorf("%s: %d pastes", p.ID, len(s.Whole.Pastes))
			}
			for _, paste := range s.Whole.Pastes {
				if paste.Characters < client.Units(s.Text) || paste.Basis != client.Measured {
					t.Errorf("%s, %s: %+v", p.ID, in.Template.Name, paste)
				}
			}
			if p.Form != "html" {
				if s.AsText != (p.Form == "text") {
					t.Errorf("%s shows text: %v", p.ID, s.AsText)
				}
				continue
			}
			w, err := in.Wanted("new", "1", false)
			if err != nil {
				t.Fatal(err)
			}
			for _, shown := range append(w.Expected, w.HTML, s.Whole.HTML, s.Shorter.HTML) {
				v, err := proof.Judge(proof.Input{Wanted: []proof.Wanted{w}, Shown: proof.Shown{HTML: shown}})
				if err != nil || v.State != proof.Right {
					t.Errorf("%s, %s, %s: %s, %v, %+v", p.ID, in.Template.Name, in.Variant, v.State, err, v.Differences)
				}
			}
		}
	}
}

// A browser is said to spoil a copy where another does not.
func TestWhatABrowserSpoils(t *testing.T) {
	in := inputs(t, "capped-webmail")[0]
	html := `<style>.x { color: #c8553d; font-size: 22px }</style><table><tr><td class="x">Maren Lind of Brackwater</td></tr></table>`
	without := `<table><tr><td>Maren Lind of Brackwater</td></tr></table>`
	stored := map[journey.Engine]string{journey.Chromium: without, journey.Gecko: html}
	spoils, err := spoilt(html, journey.Chromium, stored)
	if err != nil || len(spoils) == 0 {
		t.Errorf("%+v, %v", spoils, err)
	}
	stored[journey.Gecko] = without
	if spoils, err = spoilt(html, journey.Chromium, stored); err != nil || len(spoils) != 0 {
		t.Errorf("where every engine does it: %+v, %v", spoils, err)
	}
	if light, dark := Backgrounds(in.Client); light != "#ffffff" || dark == "#ffffff" {
		t.Errorf("backgrounds %s and %s", light, dark)
	}
}
