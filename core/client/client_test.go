package client

import (
	"strings"
	"testing"
)

func TestShippedProfiles(t *testing.T) {
	want := []string{"append-rule", "capped-webmail", "crm-box", "gecko-desktop", "inverting-phone", "rich-text-desktop", "source-webmail",
		"text-reader", "washing-webmail", "webkit-desktop", "webkit-phone", "webview-desktop", "wordproc-desktop"}
	if got := IDs(Shipped()); strings.Join(got, " ") != strings.Join(want, " ") {
		t.Fatalf("shipped: %q", got)
	}
	for _, p := range Shipped() {
		seen := map[string]bool{}
		for _, b := range p.Behaviours {
			if seen[b.ID] {
				t.Errorf("%s: two behaviours %q", p.ID, b.ID)
			}
			seen[b.ID] = true
		}
		if Find(p.ID) != p {
			t.Errorf("%s is not found", p.ID)
		}
	}
}

func TestWrongProfilesAreRefusedWithTheLine(t *testing.T) {
	good := "id: x\ntitle: X\nabout: x\nform: html\ninstall:\n  way: page-file\n"
	if _, err := Parse([]byte(good)); err != nil {
		t.Fatalf("a right profile is refused: %v", err)
	}
	for name, c := range map[string]struct{ text, line, about string }{
		"not YAML":       {"id: [", "line 1", ""},
		"unknown member": {good + "colour: red\n", "line 1", "colour"},
		"wrong form":     {strings.Replace(good, "html", "pdf", 1), "line 4", "form"},
		"missing":        {strings.Replace(good, "title: X\n", "", 1), "line 1", "title"},
		"no basis":       {good + "limits:\n  - {measure: characters, max: 10, severity: breaks, says: x}\n", "line 8", "basis"},
		"check, no words": {good +
			"behaviours:\n  - id: a\n    stage: render\n    match: {elements: [b]}\n    does: dropped\n    check: c\n    basis: assumed\n",
			"line 8", "severity"},
		"wrong stage": {good +
			"behaviours:\n  - id: a\n    stage: fly\n    match: {elements: [b]}\n    does: dropped\n    basis: assumed\n", "line 9", "stage"},
		"two faults at once": {strings.Replace(good, "html", "pdf", 1) + "width: 3\n", "line 7", "width"},
	} {
		_, err := Parse([]byte(c.text))
		if err == nil || !strings.Contains(err.Error(), c.line) || !strings.Contains(err.Error(), c.about) {
			t.Errorf("%s: %v; want %s and %q", name, err, c.line, c.about)
		}
	}
}

func FuzzParseProfile(f *testing.F) {
	f.Add([]byte("id: x\ntitle: X\nabout: x\nform: html\ninstall: {way: page-file}\n"))
	f.Add([]byte(`{"id":"x","behaviours":[{"match":{}}]}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		p, err := Parse(data)
		if err == nil && (p.ID == "" || p.Title == "") {
			t.Fatalf("accepted without id or title: %q", data)
		}
	})
}

func TestUnitsAreUTF16(t *testing.T) {
	for s, want := range map[string]int{"": 0, "aé港": 3, "𝕬⛴": 3, "\xff": 1} {
		if got := Units(s); got != want {
			t.Errorf("Units(%q) = %d, want %d", s, got, want)
		}
	}
}

func TestMatchesInWords(t *testing.T) {
	for want, m := range map[string]Match{
		"picture without size": {Structure: "picture-without-size"},
		"<form> <input>":       {Elements: []string{"form", "input"}},
		"attributes * except href, src without a value": {Attributes: []string{"*"}, Except: []string{"href", "src"}, Values: []string{""}},
		"attributes href with #":                        {Attributes: []string{"href"}, Values: []string{"#"}},
		"background with url(*) but not url(data:*)": {Properties: []string{"background"}, Part: "url(*)",
			PartExcept: []string{"url(data:*)"}},
		"width units number on img not on td": {Properties: []string{"width"}, Units: []string{"number"},
			On: []string{"img"}, NotOn: []string{"td"}},
		"tall above 1600":                {Structure: "tall", Above: 1600},
		"small text below 9":             {Structure: "small-text", Below: 9},
		"colours hsl, rgba":              {Colours: []string{"hsl", "rgba"}},
		"attributes href addresses data": {Attributes: []string{"href"}, Schemes: []string{"data"}},
	} {
		if got := m.String(); got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
}

func TestOverridingAProfile(t *testing.T) {
	book, err := Book(Shipped()).With(map[string][]byte{
		"b.yaml": []byte("id: yard\nbased-on: quay\ntitle: Yard\n"), // before the one that it is based on
		"a.yaml": []byte("id: quay\nbased-on: wordproc-desktop\nwithout: [effects]\ndark: {as: partial}\nlimits:\n  " +
			"- {measure: picture-bytes, max: 7, severity: note, says: x, basis: assumed}\n  - {measure: bytes, max: " +
			"9, severity: note, says: x, basis: assumed}\nbehaviours:\n  - {id: padding, stage: render, match: " +
			"{properties: [padding]}, does: kept, basis: assumed}\n"),
	})
	if err != nil {
		t.Fatal(err)
	}
	yard, base := book.Find("yard"), Find("wordproc-desktop")
	if yard.Title != "Yard" || len(yard.Limits) != 2 || yard.Limits[0].Max != 7 || yard.Dark.As != Partial ||
		yard.Dark.Says != base.Dark.Says || len(yard.Behaviours) != len(base.Behaviours)-1 {
		t.Errorf("%+v", yard)
	}
	if base.Limits[0].Max == 7 || len(Shipped()) != 13 {
		t.Error("the shipped profiles were changed")
	}
	if _, err := Book(Shipped()).With(map[string][]byte{"a.yaml": []byte("id: a\nbased-on: b\n"),
		"b.yaml": []byte("id: b\nbased-on: a\n")}); err == nil || !strings.Contains(err.Error(), "a.yaml: line 2") ||
		!strings.Contains(err.Error(), "b.yaml: line 2") {
		t.Errorf("a ring of profiles: %v", err)
	}
}
