package release

import (
	"fmt"
	"image"
	"image/color"
	"image/draw"
	"strings"
	"testing"
	"time"

	"missivum/core/audience"
	"missivum/core/person"
	"missivum/core/problem"
	"missivum/core/template"
)

func date(t *testing.T, text string) time.Time {
	t.Helper()
	d, err := time.Parse(time.DateOnly, text)
	if err != nil {
		t.Fatal(err)
	}
	return d
}

func made(t *testing.T, name, source, settings string, pictures map[string][]byte) *template.Template {
	t.Helper()
	tm, err := template.New(name, template.Parts{Source: source, Settings: settings, Pictures: pictures})
	if err != nil {
		t.Fatal(err)
	}
	return tm
}

func TestStates(t *testing.T) {
	all := []State{Draft, Checked, Approved, Out, Withdrawn}
	for i, from := range all {
		for j, to := range all {
			if err := from.Step(to); (err == nil) != (j == i+1) || err != nil && !problem.Is(err, problem.Conflict) {
				t.Errorf("%s to %s: %v", from, to, err)
			}
		}
		if from.Kept() != (i >= 3) {
			t.Errorf("%s is kept: %v", from, from.Kept())
		}
	}
}

func TestDigestIsOfEverything(t *testing.T) {
	base := func() Frozen {
		return Frozen{Base: "b", Assignments: []audience.Assignment{{Template: "a"}},
			Audiences: []audience.Audience{{Name: "x"}}, Situations: []string{"new"},
			Templates: []Template{{"a", 1, "c"}}, Clients: "1", Address: "https://a/", Day: "2026-11-27", People: ""}
	}
	seen := map[string]string{base().Digest(): "as it was"}
	for name, change := range map[string]func(*Frozen){
		"base": func(f *Frozen) { f.Base = "c" }, "assignment": func(f *Frozen) { f.Assignments[0].Template = "b" },
		"audience": func(f *Frozen) { f.Audiences[0].Title = "y" }, "situation": func(f *Frozen) { f.Situations = nil },
		"number": func(f *Frozen) { f.Templates[0].Number = 2 }, "content": func(f *Frozen) { f.Templates[0].Content = "d" },
		"clients": func(f *Frozen) { f.Clients = "2" }, "address": func(f *Frozen) { f.Address = "" }, "day": func(f *Frozen) { f.Day = "" },
		"people": func(f *Frozen) { f.People = "z" },
	} {
		f := base()
		change(&f)
		if other, there := seen[f.Digest()]; there {
			t.Errorf("%s gives the same digest as %s", name, other)
		}
		seen[f.Digest()] = name
	}
	if first, second := base().Digest(), base().Digest(); first != second {
		t.Error("the same gives two digests")
	}
}

func TestDifferences(t *testing.T) {
	pictures := func(text string) map[string][]byte {
		return map[string][]byte{"logo.svg": []byte(`<svg xmlns="http://www.w3.org/2000/svg" width="9" height="9"><title>` +
			text + `</title></svg>`)}
	}
	before := &Side{Frozen: Frozen{Base: "a", Assignments: []audience.Assignment{{Template: "quay"}}, Clients: "1"},
		Templates: map[string]*template.Template{"quay": made(t, "quay", "<p>one</p>", "language: en", pictures("a")),
			"gone": made(t, "gone", "<p>x</p>", "", nil)},
		Examined: []Examined{{Template: "quay", Sizes: []Size{{"quay", "box", "characters", 90, 100, "characters",
			"a@x.example"}}}}, People: map[string]int{"quay": 5, "gone": 1}}
	after := Side{Frozen: Frozen{Base: "b", Assignments: []audience.Assignment{{Situation: "reply"}, {Template: "quay"}},
		Audiences: []audience.Audience{{Name: "crew"}}, Clients: "2"},
		Templates: map[string]*template.Template{"quay": made(t, "quay", "<p>two</p>", "language: de", pictures("b")),
			"fresh": made(t, "fresh", "<p>y</p>", "", nil)},
		Examined: []Examined{{Template: "quay", Sizes: []Size{{"quay", "box", "characters", 120, 100, "characters",
			"b@x.example"}}}}, People: map[string]int{"quay": 4, "fresh": 2}}
	var got []string
	for _, d := range Differences(before, after) {
		got = append(got, d.Kind+" "+d.Name+": "+d.Says)
	}
	want := []string{
		"template fresh: It is new.", "template gone: It is no longer used.",
		fmt.Sprintf("picture quay: pictures/logo.svg: It is another picture, with %d bytes; it had %d.",
			len(pictures("b")["logo.svg"]), len(pictures("a")["logo.svg"])),
		"template quay: template.html: 1 line added, 1 removed.", "template quay: template.yaml: 1 line added, 1 removed.",
		"assignment : 1 line added, 0 removed.", "audience : 1 line added, 0 removed.",
		"people fresh: 2 people get it; it was 0.", "people gone: 0 people get it; it was 1.", "people quay: 4 people get it; it was 5.",
		"size quay, box: At most 120 of 100 characters, over the limit by 20; it was 90.", `setting base name: "b"; it was "a".`,
		"setting client profiles: They are not those of the release before.",
	}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	if same := Differences(before, *before); len(same) != 0 {
		t.Errorf("the same differs: %+v", same)
	}
	if first := Differences(nil, after); len(first) != 1 || !strings.Contains(first[0].Says, "first release") {
		t.Errorf("%+v", first)
	}
}

const dated = "slots:\n  a: {from: 2026-10-01, until: 2026-12-24}\n  b: {until: 2026-11-30}\n  c: {from: 2027-01-01}\n"

func TestDecided(t *testing.T) {
	list := []*template.Template{made(t, "a", "<p>x</p>", dated, nil)}
	for today, want := range map[string]string{"2026-09-30": "0001-01-01", "2026-10-01": "2026-10-01",
		"2026-11-30": "2026-10-01", "2026-12-01": "2026-12-01",
		"2026-12-24": "2026-12-01", "2026-12-25": "2026-12-25", "2027-06-01": "2027-01-01"} {
		if got := Decided(list, date(t, today)).Format(time.DateOnly); got != want {
			t.Errorf("%s: %s, want %s", today, got, want)
		}
	}
	if got := Decided([]*template.Template{made(t, "b", "<p>x</p>", "", nil)}, date(t, "2026-11-27")); !got.IsZero() {
		t.Errorf("nothing is dated: %s", got)
	}
}

func TestEndings(t *testing.T) {
	list := []*template.Template{made(t, "a", "<p>x</p>", dated, nil)}
	got := Endings(list, date(t, "2026-11-27").Add(18*time.Hour), 28)
	if len(got) != 2 || got[0] != (Ending{"a", "b", "2026-11-30", 4}) || got[1] != (Ending{"a", "a", "2026-12-24", 28}) {
		t.Errorf("%+v", got)
	}
	if got := Endings(list, date(t, "2026-12-25"), 28); len(got) != 0 {
		t.Errorf("after the end: %+v", got)
	}
}

func TestWhoGetsWhich(t *testing.T) {
	schema := person.NewSchema("mail", "callSign")
	set, err := audience.Compile([]audience.Audience{{Name: "ashore", Condition: audience.Condition{Field: "callSign", Blank: true}}}, schema)
	if err != nil {
		t.Fatal(err)
	}
	live := func(id int, open ...string) *Live {
		lines := []audience.Assignment{{Audience: "ashore", Situation: "reply"},
			{Situation: "reply", Template: "quay", Variant: "short"}, {Template: "quay"}}
		a, err := audience.Assign(lines, set, []string{"new", "reply"})
		if err != nil {
			t.Fatal(err)
		}
		return &Live{ID: id, Assignments: a, Set: set, Open: open, Lines: a.Lines(), Situations: []string{"new", "reply"},
			Variants: map[string][]string{"quay": {"new", "short"}}}
	}
	crew, ashore := &person.Person{Values: []string{"a@x.example", "Q"}}, &person.Person{Values: []string{"b@x.example", ""}}
	releases := []*Live{live(3), live(2, "ashore"), live(1, "")}
	if got := For(releases, ashore); got == nil || got.ID != 2 {
		t.Errorf("ashore: %+v", got)
	}
	if got := For(releases, crew); got == nil || got.ID != 1 {
		t.Errorf("crew: %+v", got)
	}
	if got := For(releases[:2], crew); got != nil {
		t.Errorf("nobody reaches the crew, and yet %+v", got)
	}
	if got := fmt.Sprint(releases[2].Choices(crew),
		releases[2].Choices(ashore)); got != "[{new quay new} {reply quay short}] [{new quay new} {reply  }]" {
		t.Error(got)
	}
	for name, waves := range map[string][]Wave{"none": {}, "unknown": {{Audience: "x"}}, "share": {{Share: 101}},
		"below": {{Share: -1}}, "many": make([]Wave, 51)} {
		if err := CheckWaves(waves, set); !problem.Is(err, problem.Invalid) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if err := CheckWaves([]Wave{{Audience: "ashore", Share: 100}, {}}, set); err != nil {
		t.Error(err)
	}
}

func TestLook(t *testing.T) {
	fill := func(w, h int, c color.Color) *image.RGBA {
		img := image.NewRGBA(image.Rect(3, 5, 3+w, 5+h))
		draw.Draw(img, img.Bounds(), image.NewUniform(c), image.Point{}, draw.Src)
		return img
	}
	spot := fill(10, 10, color.White)
	spot.Set(4, 6, color.Black)
	near := fill(10, 10, color.RGBA{253, 253, 253, 255})
	for _, c := range []struct {
		name string
		a, b image.Image
		want float64
	}{
		{"the same", fill(10, 10, color.White), fill(10, 10, color.White), 0}, {"one pixel", fill(10, 10, color.White), spot, 0.01},
		{"another colour", fill(10, 10, color.White), fill(10, 10, color.Black), 1},
		{"twice as high", fill(10, 10, color.White), fill(10, 20, color.White), 0.5},
		{"nearly the same", fill(10, 10, color.White), near, 0},
		{"nothing", image.NewRGBA(image.Rectangle{}), image.NewRGBA(image.Rectangle{}), 0},
	} {
		if got := Look(c.a, c.b); got != c.want {
			t.Errorf("%s: %v, want %v", c.name, got, c.want)
		}
	}
}
