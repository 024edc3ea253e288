package audience

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"missivum/core/person"
	"missivum/core/problem"
)

// crew is a directory with groups.
func crew() *person.Directory {
	d := &person.Directory{Schema: person.NewSchema("mail", "cn", "l", "title", "preferredLanguage", "callSign")}
	add := func(groups string, values ...string) {
		p := person.Person{Values: values}
		if groups != "" {
			p.Groups = strings.Split(groups, "|")
		}
		d.People = append(d.People, p)
	}
	add("cn=Bridge,ou=groups,dc=b,dc=example|deck", "ada@b.example", "Ada", "Havsund", "Captain", "en-GB", "A1")
	add("deck", "bo@b.example", "Bo", " HAVSUND ", "Trainee cook", "de", "")
	add("", "cy@harbour.example", "Cy", "Saltmouth", "", "de-CH, en", "\u200b")
	return d
}

func TestConditions(t *testing.T) {
	d := crew()
	for _, c := range []struct{ condition, want, reason string }{
		{`{"field":"l","is":"havsund"}`, "Ada Bo", "l is havsund"},
		{`{"field":"l","oneOf":["saltmouth","x"]}`, "Cy", "l is Saltmouth"},
		{`{"field":"title","begins":"cap"}`, "Ada", "title begins with cap"},
		{`{"field":"title","contains":"COOK"}`, "Bo", "title contains COOK"},
		{`{"field":"callSign","blank":true}`, "Bo Cy", "callSign is blank"},
		{`{"field":"mobile","blank":true}`, "Ada Bo Cy", "mobile is blank"},
		{`{"group":"bridge"}`, "Ada", "is in the group bridge"},
		{`{"group":"CN=bridge, OU=groups,DC=b,DC=example"}`, "Ada", "is in the group bridge"},
		{`{"group":"deck"}`, "Ada Bo", "is in the group deck"},
		{`{"domain":"@harbour.example"}`, "Cy", "has a mail address of harbour.example"},
		{`{"domain":"b.example"}`, "Ada Bo", "has a mail address of b.example"},
		{`{"language":"de"}`, "Bo Cy", "has the language de"},
		{`{"language":"de-ch"}`, "Cy", "has the language de-CH, en"},
		{`{"people":["ADA@b.example","nobody@b.example"]}`, "Ada", "is named"},
		{`{"audience":"north"}`, "Ada Bo", "is in north (l is Havsund)"},
		{`{"all":[{"group":"deck"},{"field":"l","is":"Havsund"},{"none":[{"field":"title","contains":"trainee"}]}]}`, "Ada",
			"is in the group deck, and l is Havsund, and title does not contain trainee"},
		{`{"any":[{"people":["cy@harbour.example"]},{"group":"bridge"}]}`, "Ada Cy", "is in the group bridge"},
		{`{"none":[{"group":"deck"},{"domain":"b.example"}]}`, "Cy", "is not in the group deck, and has no mail address of b.example"},
	} {
		list := []Audience{{Name: "x", Title: "X"}, {Name: "north", Condition: Condition{Field: "l", Is: "Havsund"}}}
		if err := json.Unmarshal([]byte(c.condition), &list[0].Condition); err != nil {
			t.Fatal(err)
		}
		set, err := Compile(list, d.Schema)
		if err != nil {
			t.Errorf("%s: %v", c.condition, err)
			continue
		}
		var in []string
		reason := ""
		for i := range d.People {
			p := &d.People[i]
			if set.In("x", p) {
				in = append(in, d.Get(p, "cn"))
				if reason == "" {
					reason = set.Reason("x", p)
				}
			} else if set.Reason("x", p) != "" {
				t.Errorf("%s: a reason for who is not in it", c.condition)
			}
		}
		if strings.Join(in, " ") != c.want || reason != c.reason {
			t.Errorf("%s: %q because %q, want %q because %q", c.condition, in, reason, c.want, c.reason)
		}
	}
}

func TestAudiencesThatCannotBeUsed(t *testing.T) {
	for _, c := range []struct{ list, says string }{
		{`[{"name":"X","condition":{"group":"a"}}]`, "cannot be the name"},
		{`[{"name":"x","condition":{"group":"a"}},{"name":"x","condition":{"group":"a"}}]`, "two audiences"},
		{`[{"name":"x","condition":{}}]`, "asks for nothing"},
		{`[{"name":"x","condition":{"group":"a","domain":"b"}}]`, "asks for group and domain"},
		{`[{"name":"x","condition":{"field":"l"}}]`, "here it is nothing"},
		{`[{"name":"x","condition":{"field":"l","is":"a","begins":"b"}}]`, "here it is is and begins"},
		{`[{"name":"x","condition":{"group":"l","is":"a"}}]`, "is needs a field"},
		{`[{"name":"x","condition":{"field":"callSing","blank":true}}]`, `no field "callSing"; there is callSign`},
		{`[{"name":"x","condition":{"audience":"nroth"}},{"name":"north","condition":{"group":"a"}}]`, "there is north"},
		{`[{"name":"x","condition":{"audience":"y"}},{"name":"y","condition":{"any":[{"audience":"x"}]}}]`, "x uses y uses x"},
		{`[{"name":"x","condition":{"all":[]}}]`, "all needs conditions"},
		{`[{"name":"x","condition":` + strings.Repeat(`{"all":[`, 25) + `{"group":"a"}` + strings.Repeat(`]}`, 25) + `}]`, "at most"},
	} {
		var list []Audience
		if err := json.Unmarshal([]byte(c.list), &list); err != nil {
			t.Fatal(err)
		}
		if _, err := Compile(list, crew().Schema); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%.80s: %v, want %q", c.list, err, c.says)
		}
	}
	chain := []Audience{{Name: "a0", Condition: Condition{Group: "x"}}} // each uses the one before ten times
	for i := range 5 {
		var any []Condition
		for range 10 {
			any = append(any, Condition{Audience: fmt.Sprintf("a%d", i)})
		}
		chain = append(chain, Audience{Name: fmt.Sprintf("a%d", i+1), Condition: Condition{Any: any}})
	}
	if _, err := Compile(chain[:3], crew().Schema); err != nil {
		t.Error(err)
	}
	if _, err := Compile(chain, crew().Schema); !problem.Is(err, problem.TooLarge) {
		t.Errorf("conditions that multiply: %v", err)
	}
	if uses := Uses(Condition{Any: []Condition{{Audience: "b"}, {None: []Condition{{Audience: "a"}}}}}); !slices.Equal(uses,
		[]string{"a", "b"}) {
		t.Error(uses)
	}
}

func TestTheFirstLineThatFitsDecides(t *testing.T) {
	d := crew()
	set, err := Compile([]Audience{{Name: "north", Title: "North", Condition: Condition{Field: "l", Is: "Havsund"}},
		{Name: "bridge", Condition: Condition{Group: "bridge"}}}, d.Schema)
	if err != nil {
		t.Fatal(err)
	}
	lines := []Assignment{{Audience: "bridge", Situation: "reply", Template: "short"}, {Audience: "north", Template: "harbour"},
		{Audience: "bridge", Template: "never"}, {Audience: "north", Situation: "reply", Template: "covered"}, {Template: ""}}
	a, err := Assign(lines, set, Situations)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		person, line int
		situation    string
	}{{0, 0, "reply"}, {0, 1, "new"}, {1, 1, "reply"}, {2, 4, "reply"}} {
		if got := a.Decide(&d.People[c.person], c.situation); got != c.line {
			t.Errorf("%+v: line %d", c, got)
		}
	}
	for line, want := range []int{-1, -1, -1, 1, -1} {
		if got := a.Covered(line); got != want {
			t.Errorf("line %d is covered by %d, want %d", line, got, want)
		}
	}
	if counts := a.Tally(d.People, []string{"new", "reply"}); fmt.Sprint(counts) != "[[0 1] [2 1] [0 0] [0 0] [1 1]]" {
		t.Errorf("%v", counts)
	}
	if of := set.Of(&d.People[0]); len(of) != 2 || of[0] != (Membership{"north", "North", "l is Havsund"}) {
		t.Errorf("%+v", of)
	}
	for _, wrong := range [][]Assignment{nil, {{Audience: "north"}}, {{Situation: "new"}}, {{Audience: "nroth"}, {}},
		{{Situation: "noon"}, {}}} {
		if _, err := Assign(wrong, set, Situations); !problem.Is(err, problem.Invalid) {
			t.Errorf("%+v: %v", wrong, err)
		}
	}
}

// random makes a condition that is not too deep.
func random(r *rand.Rand, depth int) Condition {
	kind := r.IntN(8)
	if depth > 3 {
		kind = r.IntN(5)
	}
	some := func() (list []Condition) {
		for range 1 + r.IntN(3) {
			list = append(list, random(r, depth+1))
		}
		return list
	}
	switch kind {
	case 0:
		return Condition{Field: "l", Is: fmt.Sprint(r.IntN(4))}
	case 1:
		return Condition{Field: "title", Blank: true}
	case 2:
		return Condition{Group: fmt.Sprint(r.IntN(3))}
	case 3:
		return Condition{Domain: fmt.Sprintf("d%d.example", r.IntN(3))}
	case 4:
		return Condition{Field: "cn", Contains: fmt.Sprint(r.IntN(10))}
	case 5:
		return Condition{All: some()}
	case 6:
		return Condition{Any: some()}
	}
	return Condition{None: some()}
}

// anybody makes people at random.
func anybody(r *rand.Rand, n int) *person.Directory {
	d := &person.Directory{Schema: person.NewSchema("mail", "cn", "l", "title")}
	for i := range n {
		p := person.Person{Values: []string{fmt.Sprintf("p%d@d%d.example", i, r.IntN(3)), fmt.Sprint(r.IntN(1000)), fmt.Sprint(r.IntN(4)), ""}}
		if r.IntN(2) == 0 {
			p.Values[3] = "Cook"
		}
		if g := r.IntN(4); g < 3 {
			p.Groups = []string{fmt.Sprint(g)}
		}
		d.People = append(d.People, p)
	}
	return d
}

// Each person and situation has exactly one answer, which is the first line that fits; the counts agree; a line that is said
// never to decide does not.
func TestExactlyOneAnswer(t *testing.T) {
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 3))
		d := anybody(r, 60)
		var list []Audience
		for i := range 1 + r.IntN(5) {
			a := Audience{Name: fmt.Sprintf("a%d", i), Condition: random(r, 0)}
			if i > 0 && r.IntN(3) == 0 {
				a.Condition = Condition{Any: []Condition{{Audience: "a0"}, a.Condition}}
			}
			list = append(list, a)
		}
		set, err := Compile(list, d.Schema)
		if err != nil {
			t.Fatal(err)
		}
		var lines []Assignment
		for range r.IntN(8) {
			line := Assignment{Audience: list[r.IntN(len(list))].Name, Template: fmt.Sprint(r.IntN(3))}
			if r.IntN(5) == 0 {
				line.Audience = Everybody
			}
			if r.IntN(2) == 0 {
				line.Situation = Situations[r.IntN(4)]
			}
			lines = append(lines, line)
		}
		lines = append(lines, Assignment{Template: "last"})
		a, err := Assign(lines, set, Situations)
		if err != nil {
			t.Fatal(err)
		}
		counts := make([][]int, len(lines))
		for i := range counts {
			counts[i] = make([]int, len(Situations))
		}
		for i := range d.People {
			for s, situation := range Situations {
				fits := slices.IndexFunc(lines, func(l Assignment) bool {
					return (l.Situation == "" || l.Situation == situation) && set.In(l.Audience, &d.People[i])
				})
				got := a.Decide(&d.People[i], situation)
				if got != fits || a.Covered(got) >= 0 {
					t.Fatalf("seed %d, person %d, %s: line %d, want %d; covered by %d", seed, i, situation, got, fits, a.Covered(got))
				}
				counts[got][s]++
			}
		}
		if got := a.Tally(d.People, Situations); fmt.Sprint(got) != fmt.Sprint(counts) {
			t.Fatalf("seed %d: counts %v, want %v", seed, got, counts)
		}
	}
}

func FuzzCompile(f *testing.F) {
	f.Add(`[{"name":"x","condition":{"all":[{"field":"l","is":"a"},{"none":[{"group":"b"}]}]}}]`)
	d := crew()
	f.Fuzz(func(t *testing.T, text string) {
		var list []Audience
		if json.Unmarshal([]byte(text), &list) != nil {
			return
		}
		set, err := Compile(list, d.Schema)
		if err != nil {
			return
		}
		for _, name := range set.Names() {
			for i := range d.People {
				if in := set.In(name, &d.People[i]); in != (set.Reason(name, &d.People[i]) != "") {
					t.Fatalf("%s: %v, %q", name, in, set.Reason(name, &d.People[i]))
				}
			}
		}
	})
}

// BenchmarkTally assigns 100,000 people in three situations by 20 lines.
func BenchmarkTally(b *testing.B) {
	r := rand.New(rand.NewPCG(1, 1))
	d := anybody(r, 100_000)
	var list []Audience
	var lines []Assignment
	for i := range 20 {
		name := fmt.Sprintf("a%d", i)
		list = append(list, Audience{Name: name, Condition: Condition{All: []Condition{{Field: "l", Is: fmt.Sprint(i % 4)},
			{Field: "cn", Contains: fmt.Sprint(i * 37)}}}})
		lines = append(lines, Assignment{Audience: name, Template: name})
	}
	set, err := Compile(list, d.Schema)
	if err != nil {
		b.Fatal(err)
	}
	a, err := Assign(append(lines, Assignment{}), set, Situations)
	if err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		a.Tally(d.People, Situations[:3])
	}
	b.ReportMetric(float64(b.Elapsed().Milliseconds())/float64(b.N), "ms/100000-people")
}
