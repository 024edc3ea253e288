package message

import (
	"flag"
	"fmt"
	"html"
	"maps"
	"os"
	"slices"
	"strings"
	"testing"

	"gopkg.in/yaml.v3"
)

// tongue is the words of one language of the corpus.
type tongue struct {
	Name      string   `yaml:"-"`
	Set       string   `yaml:"set"`
	New       []string `yaml:"new"`
	Hello     string   `yaml:"hello"`
	Bye       string   `yaml:"bye"`
	Old       []string `yaml:"old"`
	Intro     string   `yaml:"intro"`
	Intro2    string   `yaml:"intro2"`
	Labels    []string `yaml:"labels"`
	When      string   `yaml:"when"`
	Original  string   `yaml:"original"`
	Forwarded string   `yaml:"forwarded"`
	Begin     string   `yaml:"begin"`
	Phone     string   `yaml:"phone"`
}

// sample is a message of the corpus: a shape in a language.
type sample struct {
	shape, language string
	page            bool
	set             string
	text            string // without the mark
	place           int    // of the mark
}

const placeMark = "⟦⟧"

// corpus reads the made-up messages.
func corpus(t testing.TB) []sample {
	t.Helper()
	data, err := os.ReadFile("testdata/newest/languages.yaml")
	if err != nil {
		t.Fatal(err)
	}
	tongues := map[string]tongue{}
	if err := yaml.Unmarshal(data, &tongues); err != nil {
		t.Fatal(err)
	}
	var list []sample
	for _, set := range []string{"open", "first", "aside", "single"} {
		shapes, err := os.ReadFile("testdata/newest/" + set + ".txt")
		if err != nil {
			t.Fatal(err)
		}
		for _, shape := range strings.Split(string(shapes), "=== ")[1:] {
			title, body, _ := strings.Cut(shape, "\n")
			words := strings.Fields(title)
			for name, w := range tongues {
				s := sample{shape: words[0], language: name, page: words[1] == "html", set: set}
				if set == "single" && name != "en" {
					continue
				}
				if w.Set != "open" && set != "aside" {
					s.set = w.Set
				}
				s.text = w.fill(body, s.page)
				s.place = strings.Index(s.text, placeMark)
				if s.place < 0 {
					t.Fatalf("%s has no mark", s.shape)
				}
				s.text = strings.Replace(s.text, placeMark, "", 1)
				list = append(list, s)
			}
		}
	}
	slices.SortFunc(list, func(a, b sample) int { return strings.Compare(a.shape+a.language, b.shape+b.language) })
	return list
}

// fill puts a language's words into a shape.
func (w tongue) fill(body string, page bool) string {
	escape := func(s string) string {
		if page {
			return html.EscapeString(s)
		}
		return s
	}
	pairs := []string{"{wrappedintro}", escape(strings.Replace(w.Intro, "Holt ", "Holt\n", 1))}
	for name, value := range map[string]string{"hello": w.Hello, "new1": w.New[0], "new2": w.New[1], "bye": w.Bye, "old1": w.Old[0],
		"old2": w.Old[1], "intro": w.Intro, "intro2": w.Intro2, "L1": w.Labels[0], "L2": w.Labels[1], "L3": w.Labels[2], "L4": w.Labels[3],
		"when": w.When, "original": w.Original, "forwarded": w.Forwarded, "begin": w.Begin, "phone": w.Phone} {
		pairs = append(pairs, "{"+name+"}", escape(value))
	}
	return strings.NewReplacer(pairs...).Replace(body)
}

// found is what the finder said of a sample.
func (s sample) found() (Place, bool) {
	hints := Hints{Subject: "Re: Berth 4", People: []string{"runa holt", "runa.holt@quay.example"}}
	find := FindInText
	if s.page {
		find = FindInPage
	}
	p := find(s.text, hints)
	return p, Seen(s.page, s.text[:p.UnderNewest().At]) == Seen(s.page, s.text[:s.place])
}

// tally counts places that are right, wrong, and left to the rule's fallback place.
type tally struct{ right, wrong, unsure int }

func (c *tally) add(p Place, right bool) {
	switch {
	case !p.Sure:
		c.unsure++
	case right:
		c.right++
	default:
		c.wrong++
	}
}

// figures are the share of places found that are right, and the share of all that were found right, in percent.
func (c tally) figures() (precision, recall float64) {
	return 100 * float64(c.right) / float64(max(1, c.right+c.wrong)), 100 * float64(c.right) / float64(max(1, c.right+c.wrong+c.unsure))
}

func TestPlaceOfTheNewestText(t *testing.T) {
	sets := map[string]*tally{"open": {}, "first": {}, "aside": {}, "single": {}}
	seen := map[string]int{}
	for _, s := range corpus(t) {
		p, right := s.found()
		sets[s.set].add(p, right)
		if (!right || !p.Sure) && s.set != "aside" && seen[s.shape] < 2 {
			seen[s.shape]++
			in := p.UnderNewest().At
			t.Logf("%s in %s: sure %v, %s\n  at …%q | %q", s.shape, s.language, p.Sure, p.Why, tail(s.text[:in]), head(s.text[in:]))
		}
	}
	for _, name := range []string{"open", "first", "aside", "single"} {
		precision, recall := sets[name].figures()
		t.Logf("%s: %d messages, %d right, %d wrong, %d unsure; precision %.1f %%, recall %.1f %%", name,
			sets[name].right+sets[name].wrong+sets[name].unsure, sets[name].right, sets[name].wrong, sets[name].unsure, precision, recall)
		wanted := 97.0
		if name == "single" {
			wanted = 96 // a stamp of columns, as one old groupware writes it, is not known
		}
		if recall < wanted {
			t.Errorf("%s: %.1f %% right, wanted %.0f", name, recall, wanted)
		}
	}
}

func tail(s string) string { return s[max(0, len(s)-60):] }
func head(s string) string { return s[:min(60, len(s))] }

var update = flag.Bool("update", false, "write docs/newest-text.md")

// TestFiguresInTheDocs compares docs/newest-text.md with what the corpus gives now.
func TestFiguresInTheDocs(t *testing.T) {
	sets, shapes, languages := map[string]*tally{}, map[string]*tally{}, map[string]*tally{}
	count := func(of map[string]*tally, key string, p Place, right bool) {
		if of[key] == nil {
			of[key] = &tally{}
		}
		of[key].add(p, right)
	}
	for _, s := range corpus(t) {
		p, right := s.found()
		count(sets, s.set, p, right)
		count(shapes, s.shape, p, right)
		count(languages, s.language, p, right)
	}
	var b strings.Builder
	b.WriteString("# Where the newest text ends: figures\n\nWritten by `go test ./core/message -run Figures " +
		"-update` from the made-up messages in " +
		"core/message/testdata/newest:\nshapes of quotation, each in every language. A place is right if the same " +
		"text stands before it as before the mark. " +
		"Where the\nprogram says that it is unsure, a rule's fallback place is used. *open* was looked at while the " +
		"code was written; *first* was set\n" +
		"aside until the first measurement (86 % right then) and is looked at since; *aside* was not looked at (91 " +
		"% right at\nits first measurement, before what " +
		"*first* taught): languages of which the code has no words, and shapes that were written down\nbefore they " +
		"were measured. *single* is messages in odd shapes, written down\nbefore they were measured (92 % right then). A line of the tables " +
		"below holds all sets together.\n")
	table := func(title string, of map[string]*tally) {
		b.WriteString("\n| " + title +
			" | messages | right | wrong | unsure | right of those that are sure | right of all |\n|---|---|---|---|---|---|---|\n")
		for _, key := range slices.Sorted(maps.Keys(of)) {
			c := of[key]
			precision, recall := c.figures()
			fmt.Fprintf(&b, "| %s | %d | %d | %d | %d | %.1f %% | %.1f %% |\n", key, c.right+c.wrong+c.unsure, c.right,
				c.wrong, c.unsure, precision, recall)
		}
	}
	table("set", sets)
	table("shape", shapes)
	table("language", languages)
	const file = "../../docs/newest-text.md"
	if *update {
		if err := os.WriteFile(file, []byte(b.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if written, err := os.ReadFile(file); err != nil || string(written) != b.String() {
		t.Errorf("%s is not what the corpus gives (%v); go test ./core/message -run Figures -update writes it", file, err)
	}
}
