// Package release is what a release freezes, what changed since the one before, through which states it goes, and who gets
// which release while its waves are open. It computes; the service keeps releases and waves. Start with Frozen, Differences
// and Resolver.
package release

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/aymanbagabas/go-udiff"

	"missivum/core/audience"
	"missivum/core/kit"
	"missivum/core/person"
	"missivum/core/problem"
	"missivum/core/template"
)

// State is how far a release is.
type State string

// The states, in their order.
const (
	Draft     State = "draft"     // it is being checked
	Checked   State = "checked"   // it waits for approval
	Approved  State = "approved"  // it may go out
	Out       State = "out"       // waves are open
	Withdrawn State = "withdrawn" // desks go back to the release before
)

// next are the states into which a release may go from another.
var next = map[State][]State{Draft: {Checked}, Checked: {Approved}, Approved: {Out}, Out: {Withdrawn}}

// Step refuses a step that a release cannot make. The error is a problem of the kind Conflict.
func (s State) Step(to State) error {
	if slices.Contains(next[s], to) {
		return nil
	}
	if s == to {
		return problem.New(problem.Conflict, "The release is %s already.", s)
	}
	return problem.New(problem.Conflict, "A release that is %s cannot become %s.", s, to)
}

// Kept reports whether a release can no longer be deleted.
func (s State) Kept() bool { return s == Out || s == Withdrawn }

// Frozen is what a release freezes. Templates are named by their version, which is never changed and holds source, settings,
// texts and pictures.
type Frozen struct {
	Base         string                `json:"base"` // base name of the files on desks
	Assignments  []audience.Assignment `json:"assignments"`
	Audiences    []audience.Audience   `json:"audiences"`
	Situations   []string              `json:"situations"`
	Templates    []Template            `json:"templates"`             // by name
	Clients      string                `json:"clients"`               // version of the client profiles
	Address      string                `json:"address"`               // public address of the pictures; blank for none
	Day          string                `json:"day"`                   // from when on dated pieces are decided
	Rules        int                   `json:"rules,omitempty"`       // version of the mail rules; 0 for none
	Organisation template.Organisation `json:"organisation,omitzero"` // what it says for all templates
	Domains      []string              `json:"domains,omitempty"`     // its own mail domains; none: those of its people's addresses
	People       string                `json:"people"`                // digest of the people where they are frozen; blank where they stay live
}

// Template is a version of a template.
type Template struct {
	Name    string `json:"name"`
	Number  int    `json:"number"`
	Content string `json:"content"` // template.Version
}

// Digest is the digest of everything that is frozen, in hexadecimal.
func (f Frozen) Digest() string {
	text, err := json.Marshal(f)
	if err != nil {
		panic(err) // texts, numbers and conditions are always written
	}
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:])
}

// Size is the largest figure of a client's limit in a template.
type Size struct {
	Template string `json:"template"`
	Client   string `json:"client"`
	Measure  string `json:"measure"`
	Value    int    `json:"value"`
	Limit    int    `json:"limit"`
	Unit     string `json:"unit"`
	Person   string `json:"person"` // who has it
}

// Examined is what the checks found in a template of the release, for those who get it.
type Examined struct {
	Template  string `json:"template"`
	People    int    `json:"people"`
	Breaks    int    `json:"breaks"`
	Degrades  int    `json:"degrades"`
	Notes     int    `json:"notes"`
	OverLimit int    `json:"overLimit"`
	Fails     bool   `json:"fails"`
	Verdict   string `json:"verdict"`
	Sizes     []Size `json:"sizes"`
}

// Difference is one thing that is not as in the release before.
type Difference struct {
	Kind   string `json:"kind"` // template, picture, text, assignment, audience, rule, people, size, setting, look
	Name   string `json:"name"`
	Says   string `json:"says"`
	Detail string `json:"detail"` // lines that were removed and added; blank for none
}

// Side is one of two releases that are compared.
type Side struct {
	Frozen    Frozen
	Templates map[string]*template.Template // by name
	Examined  []Examined
	Rules     string         // the mail rules as they are written; blank for none
	People    map[string]int // by template: how many people get it in any situation
}

// Differences says what is not as before, in the order of the kinds. Without a release before everything is new, which is one line.
func Differences(before *Side, after Side) []Difference {
	list := []Difference{}
	if before == nil {
		return append(list, Difference{Kind: "template", Name: "",
			Says: fmt.Sprintf("This is the first release, with %d templates.", len(after.Frozen.Templates))})
	}
	list = append(list, templateDifferences(before, after)...)
	list = append(list, lineDifferences("assignment", lines(before.Frozen.Assignments), lines(after.Frozen.Assignments))...)
	list = append(list, lineDifferences("audience", audienceLines(before.Frozen.Audiences), audienceLines(after.Frozen.Audiences))...)
	list = append(list, lineDifferences("rule", textLines(before.Rules), textLines(after.Rules))...)
	for _, name := range keys(before.People, after.People) {
		if a, b := before.People[name], after.People[name]; a != b {
			list = append(list, Difference{Kind: "people", Name: name, Says: fmt.Sprintf("%d people get it; it was %d.", b, a)})
		}
	}
	list = append(list, sizeDifferences(before, after)...)
	for _, s := range [][3]string{{"base name", before.Frozen.Base, after.Frozen.Base},
		{"public address of pictures", before.Frozen.Address, after.Frozen.Address},
		{"own mail domains", strings.Join(before.Frozen.Domains, ", "), strings.Join(after.Frozen.Domains, ", ")},
		{"situations", strings.Join(before.Frozen.Situations, ", "), strings.Join(after.Frozen.Situations, ", ")}} {
		if s[1] != s[2] {
			list = append(list, Difference{Kind: "setting", Name: s[0], Says: fmt.Sprintf("%q; it was %q.", s[2], s[1])})
		}
	}
	list = append(list, lineDifferences("setting", organisationLines(before.Frozen.Organisation),
		organisationLines(after.Frozen.Organisation))...)
	if before.Frozen.Clients != after.Frozen.Clients {
		list = append(list, Difference{Kind: "setting", Name: "client profiles", Says: "They are not those of the release before."})
	}
	return list
}

// organisationLines writes what an organisation says, a line for each value.
func organisationLines(o template.Organisation) []string {
	var out []string
	for name, value := range o.Constants {
		out = append(out, "org."+name+": "+value)
	}
	for name, texts := range o.Texts {
		for language, text := range texts {
			out = append(out, "text."+name+" ("+language+"): "+text)
		}
	}
	for name, value := range map[string]string{"language": o.Language, "country": o.Country} {
		if value != "" {
			out = append(out, name+": "+value)
		}
	}
	slices.Sort(out)
	return out
}

// keys are the keys of two maps, sorted.
func keys[V any](a, b map[string]V) []string {
	all := maps.Clone(a)
	if all == nil {
		all = map[string]V{}
	}
	maps.Copy(all, b)
	return slices.Sorted(maps.Keys(all))
}

// templateDifferences compares sources, settings, texts and pictures.
func templateDifferences(before *Side, after Side) []Difference {
	var list []Difference
	for _, name := range keys(before.Templates, after.Templates) {
		a, b := before.Templates[name], after.Templates[name]
		switch {
		case a == nil:
			list = append(list, Difference{Kind: "template", Name: name, Says: "It is new."})
			continue
		case b == nil:
			list = append(list, Difference{Kind: "template", Name: name, Says: "It is no longer used."})
			continue
		case a.Version() == b.Version():
			continue
		}
		x, y := a.Files(), b.Files()
		for _, file := range keys(x, y) {
			kind := "template"
			if strings.HasPrefix(file, template.PictureFolder+"/") {
				kind = "picture"
			} else if file != template.SourceFile && file != template.SettingsFile {
				kind = "text"
			}
			old, was := x[file]
			now, is := y[file]
			d := Difference{Kind: kind, Name: name + ": " + file}
			switch {
			case !was:
				d.Says = fmt.Sprintf("It is new, with %d bytes.", len(now))
			case !is:
				d.Says = "It is gone."
			case string(old) == string(now):
				continue
			case kind == "picture":
				d.Says = fmt.Sprintf("It is another picture, with %d bytes; it had %d.", len(now), len(old))
			default:
				d.Detail = udiff.Unified("before", "after", string(old), string(now))
				d.Says = changedLines(d.Detail)
			}
			list = append(list, d)
		}
	}
	return list
}

// changedLines counts the lines of a difference.
func changedLines(diff string) string {
	added, removed := 0, 0
	for i, line := range strings.Split(diff, "\n") {
		switch {
		case i < 2:
		case strings.HasPrefix(line, "+"):
			added++
		case strings.HasPrefix(line, "-"):
			removed++
		}
	}
	unit := "lines"
	if added == 1 {
		unit = "line"
	}
	return fmt.Sprintf("%d %s added, %d removed.", added, unit, removed)
}

// lines writes assignments, one to a line.
func lines(list []audience.Assignment) []string {
	var out []string
	for _, a := range list {
		who, when, what := a.Audience, a.Situation, a.Template
		if who == "" {
			who = "everybody"
		}
		if when == "" {
			when = "every situation"
		}
		if what == "" {
			what = "no signature"
		}
		if a.Variant != "" {
			what += " " + a.Variant
		}
		out = append(out, who+", "+when+": "+what)
	}
	return out
}

// audienceLines writes audiences, one to a line.
func audienceLines(list []audience.Audience) []string {
	var out []string
	for _, a := range list {
		condition, err := json.Marshal(a.Condition)
		if err != nil {
			panic(err) // conditions are texts and lists of them
		}
		out = append(out, a.Name+": "+string(condition))
	}
	return out
}

// textLines are the lines of a text; none of a blank one.
func textLines(text string) []string {
	if text == "" {
		return nil
	}
	return strings.Split(strings.TrimSuffix(text, "\n"), "\n")
}

// lineDifferences compares lists line by line.
func lineDifferences(kind string, before, after []string) []Difference {
	if slices.Equal(before, after) {
		return nil
	}
	text := func(list []string) string {
		if len(list) == 0 {
			return ""
		}
		return strings.Join(list, "\n") + "\n"
	}
	diff := udiff.Unified("before", "after", text(before), text(after))
	return []Difference{{Kind: kind, Name: "", Says: changedLines(diff), Detail: diff}}
}

// sizeDifferences compares the largest figures.
func sizeDifferences(before *Side, after Side) []Difference {
	was := map[string]Size{}
	for _, e := range before.Examined {
		for _, s := range e.Sizes {
			was[s.Template+" "+s.Client+" "+s.Measure] = s
		}
	}
	var list []Difference
	for _, e := range after.Examined {
		for _, s := range e.Sizes {
			old, known := was[s.Template+" "+s.Client+" "+s.Measure]
			if !known || old.Value == s.Value {
				continue
			}
			over := ""
			if s.Value > s.Limit {
				over = fmt.Sprintf(", over the limit by %d", s.Value-s.Limit)
			}
			list = append(list, Difference{Kind: "size", Name: s.Template + ", " + s.Client,
				Says: fmt.Sprintf("At most %d of %d %s%s; it was %d.", s.Value, s.Limit, s.Unit, over, old.Value)})
		}
	}
	return list
}

// Wave is a group of people who get a release together.
type Wave struct {
	Audience string    `json:"audience"` // blank for everybody
	Start    time.Time `json:"start"`    // zero: as soon as the wave before allows it
	Share    int       `json:"share"`    // percent of the wave's people who must have reported well before the next one begins
	Opened   time.Time `json:"opened"`   // zero while it is not
}

// CheckWaves refuses waves that could not be carried out.
func CheckWaves(waves []Wave, set *audience.Set) error {
	if len(waves) == 0 || len(waves) > 50 {
		return problem.New(problem.Invalid, "A release goes out in one to 50 waves.").In("waves")
	}
	for i, w := range waves {
		if !set.Has(w.Audience) {
			return problem.New(problem.Invalid, "Wave %d: there is no audience %q.", i+1, w.Audience).In("waves")
		}
		if w.Share < 0 || w.Share > 100 {
			return problem.New(problem.Invalid, "Wave %d: the share must be from 0 to 100 percent.", i+1).In("waves")
		}
	}
	return nil
}

// Live is a release that is out, ready to decide for people.
type Live struct {
	ID          int
	Base        string
	Assignments *audience.Assignments
	Set         *audience.Set
	Open        []string // audiences of the open waves
	Lines       []audience.Assignment
	Situations  []string
	Variants    map[string][]string // by template
}

// Reaches reports whether a person is in one of the open waves.
func (l *Live) Reaches(p *person.Person) bool {
	return slices.ContainsFunc(l.Open, func(name string) bool { return l.Set.In(name, p) })
}

// For gives the newest of the releases that reaches a person; nil for none. releases stand newest first.
func For(releases []*Live, p *person.Person) *Live {
	for _, l := range releases {
		if l.Reaches(p) {
			return l
		}
	}
	return nil
}

// Choices is what a person gets in each situation.
func (l *Live) Choices(p *person.Person) []kit.Choice {
	var list []kit.Choice
	for _, situation := range l.Situations {
		a := l.Lines[l.Assignments.Decide(p, situation)]
		c := kit.Choice{Situation: situation, Template: a.Template}
		if a.Template != "" {
			c.Variant = audience.Variant(a.Variant, situation, l.Variants[a.Template])
		}
		list = append(list, c)
	}
	return list
}

// Decided is from which day on the dated pieces of templates are as they are today: the last day, not after today, on which
// one of them began or had ended. Kits of the days between are the same. It is the zero time where nothing is dated.
func Decided(templates []*template.Template, today time.Time) time.Time {
	last, now := "", today.Format(time.DateOnly)
	for _, t := range templates {
		for _, slot := range t.Settings.Slots {
			days := []string{string(slot.From)}
			if end, err := time.Parse(time.DateOnly, string(slot.Until)); err == nil {
				days = append(days, end.AddDate(0, 0, 1).Format(time.DateOnly))
			}
			for _, d := range days {
				if d > last && d <= now {
					last = d
				}
			}
		}
	}
	day, err := time.Parse(time.DateOnly, last)
	if err != nil {
		return time.Time{}
	}
	return day
}

// Ending is a dated piece that ends soon.
type Ending struct {
	Template string `json:"template"`
	Slot     string `json:"slot"`
	Until    string `json:"until"`
	Days     int    `json:"days"` // left, with the last one
}

// Endings lists the dated pieces that show today and end within a number of days, soonest first.
func Endings(templates []*template.Template, today time.Time, within int) []Ending {
	list := []Ending{}
	for _, t := range templates {
		for _, name := range slices.Sorted(maps.Keys(t.Settings.Slots)) {
			slot := t.Settings.Slots[name]
			end, err := time.Parse(time.DateOnly, string(slot.Until))
			if err != nil || !slot.InForce(today) {
				continue
			}
			day, err := time.Parse(time.DateOnly, today.Format(time.DateOnly))
			if err != nil {
				continue
			}
			if left := int(end.Sub(day).Hours()/24) + 1; left <= within {
				list = append(list, Ending{t.Name, name, string(slot.Until), left})
			}
		}
	}
	slices.SortStableFunc(list, func(a, b Ending) int { return a.Days - b.Days })
	return list
}
