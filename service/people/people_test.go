package people

import (
	"context"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"missivum/core/problem"
	"missivum/core/source"
	"missivum/service/access"
	"missivum/service/store"
)

var acting = access.With(context.Background(), access.Loopback())

func open(t testing.TB) *People {
	t.Helper()
	s, err := store.Open(context.Background(), filepath.Join(t.TempDir(), "x.db"), time.Now)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := s.Close(); err != nil {
			t.Error(err)
		}
	})
	return &People{Store: s, Now: time.Now}
}

// plan plans a file of a source.
func plan(t testing.TB, p *People, f File) store.Run {
	t.Helper()
	made, err := p.PlanFile(acting, f)
	if err != nil {
		t.Fatal(err)
	}
	return made.Run
}

// take imports a table, whatever it changes.
func take(t testing.TB, p *People, csv string, replace bool) store.Run {
	t.Helper()
	run, err := p.Apply(acting, plan(t, p, File{Body: strings.NewReader(csv), Replace: replace}).ID, true)
	if err != nil {
		t.Fatal(err)
	}
	return run
}

// addSource adds a source that is imported by hand.
func addSource(t testing.TB, p *People, name string, position int) {
	t.Helper()
	err := p.Store.Write(acting, func(tx *store.Tx) error {
		_, err := tx.PutSource(store.Source{Name: name, Kind: "file", Position: position, Settings: "{}"})
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
}

// written is the directory as lines of values and groups.
func written(t testing.TB, p *People) string {
	t.Helper()
	d, _, err := p.Directory(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	lines := []string{strings.Join(d.Schema.Names(), ",")}
	for i := range d.People {
		var values []string
		for c := range d.Schema.Len() {
			values = append(values, d.People[i].At(c))
		}
		lines = append(lines, strings.Join(append(values, d.People[i].Groups...), ","))
	}
	return strings.Join(lines, "\n")
}

func TestImportsMerge(t *testing.T) {
	p := open(t)
	for _, step := range []struct {
		name, csv                  string
		replace                    bool
		added, changed, gone, same int
		after                      string
	}{
		{"the first file", "mail,cn,title\na@b.example,A,Cook\nc@b.example,C,\n", false, 2, 0, 0, 0,
			"mail,cn,title\na@b.example,A,Cook\nc@b.example,C,"},
		{"the same again", "mail,cn,title\na@b.example,A,Cook\nc@b.example,C,\n", true, 0, 0, 0, 2,
			"mail,cn,title\na@b.example,A,Cook\nc@b.example,C,"},
		{"other order, other case, a new field", "roomNumber,MAIL\n2,C@B.example\n", false, 0, 1, 0, 0,
			"mail,cn,title,roomNumber\na@b.example,A,Cook,\nC@B.example,C,,2"},
		{"a value taken away", "mail,title\na@b.example,\n", false, 0, 1, 0, 0,
			"mail,cn,title,roomNumber\na@b.example,A,,\nC@B.example,C,,2"},
		{"replaced", "mail,cn\na@b.example,A\nnew@b.example,N\n", true, 1, 0, 1, 1,
			"mail,cn,title,roomNumber\na@b.example,A,,\nnew@b.example,N,,"},
		{"back", "mail\nc@b.example\n", false, 0, 0, 0, 0,
			"mail,cn,title,roomNumber\na@b.example,A,,\nc@b.example,C,,2\nnew@b.example,N,,"},
	} {
		run := take(t, p, step.csv, step.replace)
		if s := run.Summary; s.New != step.added || s.Changed != step.changed || s.Gone != step.gone || s.Unchanged != step.same {
			t.Errorf("%s: %+v", step.name, s)
		}
		if got := written(t, p); got != step.after {
			t.Errorf("%s: the directory is\n%s\nwant\n%s", step.name, got, step.after)
		}
	}
}

func TestAPlanChangesNothingAndAgesWithWhatItIsAbout(t *testing.T) {
	p := open(t)
	addSource(t, p, "other", 200)
	take(t, p, "mail,cn\na@b.example,A\nb@b.example,B\n", false)
	before := written(t, p)
	first := plan(t, p, File{Body: strings.NewReader("mail,cn\na@b.example,Changed\n")})
	if written(t, p) != before {
		t.Error("planning changed the directory")
	}
	if _, err := p.Apply(acting, plan(t, p, File{Source: "other",
		Body: strings.NewReader("mail,title\na@b.example,Cook\n")}).ID, false); err != nil {
		t.Fatal(err)
	}
	if _, err := p.Apply(acting, first.ID, false); err != nil {
		t.Errorf("another source changed, and the plan is refused: %v", err)
	}
	second := plan(t, p, File{Body: strings.NewReader("mail,cn\na@b.example,Again\n")})
	third := plan(t, p, File{Body: strings.NewReader("mail,cn\nx@b.example,X\n")})
	if _, err := p.Apply(acting, second.ID, false); !problem.Is(err, problem.Conflict) {
		t.Errorf("a plan whose place was taken: %v", err)
	}
	if _, err := p.Drop(acting, third.ID); err != nil {
		t.Error(err)
	}
	if _, err := p.Apply(acting, third.ID, false); !problem.Is(err, problem.Conflict) {
		t.Errorf("a plan that was dropped: %v", err)
	}
	for _, wrong := range []string{"cn\nx\n", ""} {
		if _, err := p.PlanFile(acting, File{Body: strings.NewReader(wrong)}); !problem.Is(err, problem.Refused) {
			t.Errorf("%q: %v", wrong, err)
		}
	}
	if _, err := p.PlanFile(acting, File{Source: "nowhere", Body: strings.NewReader("mail\n")}); !problem.Is(err, problem.NotFound) {
		t.Errorf("%v", err)
	}
}

// A file that would remove people by mistake, or blank a field, is held until somebody confirms it.
func TestTheGuardHolds(t *testing.T) {
	p := open(t)
	rows := func(from, to int, title string) string {
		text := "mail,cn,title\n"
		for i := from; i < to; i++ {
			text += fmt.Sprintf("p%d@b.example,P%d,%s\n", i, i, title)
		}
		return text
	}
	take(t, p, rows(0, 40, "Cook"), false)
	for _, c := range []struct {
		name, csv string
		held      bool
	}{
		{"nobody", "mail,cn\n", true},
		{"4 of 40 gone", rows(4, 40, "Cook"), false},
		{"5 of 40 gone", rows(5, 40, "Cook"), true},
		{"a quote eats the rest", "mail,cn,title\n\"" + rows(0, 40, "Cook")[len("mail,cn,title\n"):], true},
		{"a row that cannot be read, and one gone", rows(1, 40, "Cook") + "broken\n", true},
		{"a title blank for all", rows(0, 40, ""), true},
		{"a title blank for few", rows(0, 8, "") + rows(8, 40, "Cook")[len("mail,cn,title\n"):], false},
	} {
		run := plan(t, p, File{Body: strings.NewReader(c.csv), Replace: true})
		if (run.State == store.Held) != c.held {
			t.Errorf("%s: %s, %v", c.name, run.State, run.Summary.Holds)
		}
		if !c.held {
			continue
		}
		before := written(t, p)
		if _, err := p.Apply(acting, run.ID, false); !problem.Is(err, problem.Conflict) || written(t, p) != before {
			t.Errorf("%s: a held plan was applied: %v", c.name, err)
		}
	}
}

// Who changes the mail address stays the same person where the source has a key.
func TestAKeyOutlivesTheMailAddress(t *testing.T) {
	p := open(t)
	m := source.Mapping{Key: "employeeNumber"}
	take := func(csv string) store.Run {
		run, err := p.Apply(acting, plan(t, p, File{Body: strings.NewReader(csv), Mapping: &m, Replace: true}).ID, true)
		if err != nil {
			t.Fatal(err)
		}
		return run
	}
	take("employeeNumber,mail,cn\n1,ada.tide@b.example,Ada Tide\n2,bo@b.example,Bo\n")
	if _, err := p.Edit(acting, map[string]map[string]string{"ada.tide@b.example": {"pronouns": "she"}}); err != nil {
		t.Fatal(err)
	}
	if s := take("employeeNumber,mail,cn\n1,ada.lind@b.example,Ada Lind\n2,bo@b.example,Bo\n").Summary; s.Changed != 1 || s.Gone != 0 {
		t.Errorf("%+v", s)
	}
	if got := written(t, p); got != "employeeNumber,mail,cn,pronouns\n1,ada.lind@b.example,Ada Lind,she\n2,bo@b.example,Bo," {
		t.Error(got)
	}
	take("employeeNumber,mail,cn\n1,bo@b.example,Ada\n2,ada.lind@b.example,Bo\n") // two swap their addresses
	if got := written(t, p); !strings.Contains(got, "1,bo@b.example,Ada,she") {
		t.Error(got)
	}
	run := plan(t, p, File{Body: strings.NewReader("employeeNumber,mail,cn\n1,x@b.example,Ada\n2,y@b.example,Bo\n3,z@b.example,Cy\n"),
		Mapping: &m})
	addSource(t, p, "other", 5)
	other := plan(t, p, File{Source: "other", Body: strings.NewReader("mail,cn\nz@b.example,Other\n")})
	if _, err := p.Apply(acting, other.ID, false); err != nil {
		t.Fatal(err)
	}
	if _, err := p.Apply(acting, run.ID, false); !problem.Is(err, problem.Conflict) || !strings.Contains(err.Error(), "z@b.example") {
		t.Errorf("two people with one address: %v", err)
	}
}

// Values come from the source that is first for them; what is kept here survives every run.
func TestSeveralSources(t *testing.T) {
	p := open(t)
	addSource(t, p, "hr", 1)
	addSource(t, p, "phones", 2)
	apply := func(name, csv string, replace bool) {
		t.Helper()
		if _, err := p.Apply(acting, plan(t, p, File{Source: name, Body: strings.NewReader(csv), Replace: replace}).ID, true); err != nil {
			t.Fatal(err)
		}
	}
	apply("hr", "mail,cn,title,telephoneNumber\na@b.example,Ada,Cook,1\nb@b.example,Bo,,2\n", true)
	apply("phones", "mail,telephoneNumber,roomNumber\nA@b.example,11,7\nb@b.example,,8\n", true)
	if _, err := p.Edit(acting, map[string]map[string]string{"b@b.example": {"booking": "https://b.example/bo"}}); err != nil {
		t.Fatal(err)
	}
	want := "mail,cn,title,telephoneNumber,roomNumber,booking\na@b.example,Ada,Cook,1,7,\nb@b.example,Bo,,2,8,https://b.example/bo"
	if got := written(t, p); got != want {
		t.Errorf("%s\nwant\n%s", got, want)
	}
	rules, err := p.Rules(acting)
	if err != nil {
		t.Fatal(err)
	}
	rules.First = map[string][]string{"telephoneNumber": {"phones"}}
	if err := p.PutRules(acting, rules); err != nil {
		t.Fatal(err)
	}
	if got := written(t, p); got != strings.Replace(want, "Cook,1,", "Cook,11,", 1) {
		t.Errorf("by field: %s", got)
	}
	detail, err := p.Detail(acting, "a@b.example")
	if err != nil {
		t.Fatal(err)
	}
	if i := slices.IndexFunc(detail.Values, func(v source.Value) bool { return v.Field == "telephoneNumber" }); i < 0 ||
		detail.Values[i].Source != "phones" || !slices.Contains(detail.Others, source.Value{Field: "telephoneNumber", Value: "1", Source: "hr"}) {
		t.Errorf("%+v, others %+v", detail.Values, detail.Others)
	}
	apply("hr", "mail,cn\na@b.example,Ada\n", true) // Bo is still in the other source
	if d, _, err := p.Directory(acting); err != nil || len(d.People) != 2 {
		t.Errorf("%v", err)
	}
	apply("phones", "mail,telephoneNumber\na@b.example,11\n", true) // and now in none
	if d, _, err := p.Directory(acting); err != nil || len(d.People) != 1 {
		t.Errorf("%v", err)
	}
	if left, err := p.Detail(acting, "b@b.example"); err != nil || left.Person.Left.IsZero() {
		t.Errorf("%+v, %v", left.Person, err)
	}
	apply("hr", "mail,cn\na@b.example,Ada\nb@b.example,Bo\n", true)
	if d, _, err := p.Directory(acting); err != nil || d.Get(d.Find("b@b.example"), "booking") != "https://b.example/bo" {
		t.Errorf("who comes back has lost what was kept: %v", err)
	}
	for _, wrong := range []Rules{{Match: "a b"}, {Guard: source.Guard{Gone: 101}}, {Keep: -1}} {
		if err := p.PutRules(acting, wrong); !problem.Is(err, problem.Invalid) {
			t.Errorf("%+v: %v", wrong, err)
		}
	}
	if err := p.PutRules(acting, Rules{First: map[string][]string{"title": {"nowhere"}}}); !problem.Is(err, problem.NotFound) {
		t.Errorf("%v", err)
	}
}

// What a run did is undone value by value, whatever it did; and the directory in memory is what is stored.
func TestUndoGivesTheStateBefore(t *testing.T) {
	for seed := range uint64(12) {
		random := rand.New(rand.NewPCG(seed, 7))
		p := open(t)
		addSource(t, p, "other", 50)
		type step struct {
			run    int64
			before string
		}
		var steps []step
		for range 12 {
			before := written(t, p)
			f := File{Replace: random.IntN(2) == 0, Source: []string{"import", "other"}[random.IntN(2)]}
			fields := []string{"mail"}
			for _, name := range []string{"cn", "title", "mobile", "callSign"} {
				if random.IntN(2) == 0 {
					fields = append(fields, name)
				}
			}
			csv := strings.Join(fields, ",") + "\n"
			for i := range 8 {
				if random.IntN(3) > 0 {
					csv += fmt.Sprintf("p%d@b.example", i)
					for range fields[1:] {
						csv += "," + []string{"", "x", "y", fmt.Sprint(random.IntN(3))}[random.IntN(4)]
					}
					csv += "\n"
				}
			}
			f.Body, f.Columns = strings.NewReader(csv), map[string]string{}
			for _, name := range fields {
				f.Columns[name] = name
			}
			run, err := p.Apply(acting, plan(t, p, f).ID, true)
			if err != nil {
				t.Fatalf("seed %d: %v", seed, err)
			}
			steps = append(steps, step{run.ID, before})
			fresh := &People{Store: p.Store, Now: time.Now}
			if a, b := written(t, p), written(t, fresh); a != b {
				t.Fatalf("seed %d: in memory\n%s\nstored\n%s", seed, a, b)
			}
		}
		for _, s := range slices.Backward(steps) {
			if _, err := p.Undo(acting, s.run); err != nil {
				t.Fatalf("seed %d, run %d: %v", seed, s.run, err)
			}
			got := written(t, p)
			if withoutBlankFields(got) != withoutBlankFields(s.before) {
				t.Fatalf("seed %d, run %d undone:\n%s\nwant\n%s", seed, s.run, got, s.before)
			}
		}
		if _, err := p.Undo(acting, steps[0].run); !problem.Is(err, problem.Conflict) {
			t.Errorf("undone twice: %v", err)
		}
	}
}

// A run is not undone while a later one rests on it.
func TestUndoOfAnEarlierRunIsAConflict(t *testing.T) {
	p := open(t)
	first := take(t, p, "mail,cn\na@b.example,A\nb@b.example,B\n", false)
	second := take(t, p, "mail,cn\na@b.example,AA\n", false)
	third := take(t, p, "mail,cn\nc@b.example,C\n", false)
	before := written(t, p)
	if _, err := p.Undo(acting, first.ID); !problem.Is(err, problem.Conflict) || written(t, p) != before {
		t.Errorf("%v", err)
	}
	for _, run := range []int64{second.ID, first.ID} { // the third is about somebody else
		if _, err := p.Undo(acting, run); err != nil {
			t.Error(err)
		}
	}
	if got := written(t, p); got != "mail,cn\nc@b.example,C" {
		t.Error(got)
	}
	if _, err := p.Undo(acting, third.ID); err != nil || written(t, p) != "mail,cn" {
		t.Errorf("%v", err)
	}
}

// withoutBlankFields leaves out fields that nobody has: a field that the directory has had once stays known.
func withoutBlankFields(text string) string {
	lines := strings.Split(text, "\n")
	var rows [][]string
	for _, line := range lines {
		rows = append(rows, strings.Split(line, ","))
	}
	var out []string
	keep := make([]bool, len(rows[0]))
	for _, row := range rows[1:] {
		for c := range row {
			keep[c] = keep[c] || row[c] != ""
		}
	}
	for _, row := range rows {
		var kept []string
		for c := range row {
			if keep[c] {
				kept = append(kept, row[c])
			}
		}
		out = append(out, strings.Join(kept, ","))
	}
	return strings.Join(out, "\n")
}

// Who is gone is kept for the days that the rules say, and then forgotten.
func TestWhoIsGoneIsForgotten(t *testing.T) {
	now := time.Date(2027, 3, 1, 8, 0, 0, 0, time.UTC)
	s, err := store.Open(acting, filepath.Join(t.TempDir(), "x.db"), func() time.Time { return now })
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	p := &People{Store: s}
	take(t, p, "mail,cn\na@b.example,A\nb@b.example,B\n", false)
	take(t, p, "mail,cn\na@b.example,A\n", true)
	for _, day := range []struct {
		later int
		kept  bool
	}{{29, true}, {2, false}} {
		now = now.AddDate(0, 0, day.later)
		if err := p.Forget(acting); err != nil {
			t.Fatal(err)
		}
		if _, err := p.Detail(acting, "b@b.example"); (err == nil) != day.kept {
			t.Errorf("%d days later: %v", day.later, err)
		}
	}
	if d, _, err := p.Directory(acting); err != nil || len(d.People) != 1 {
		t.Errorf("%v", err)
	}
	waiting := plan(t, p, File{Body: strings.NewReader("mail,cn\nz@b.example,Z\n")})
	now = now.AddDate(0, 0, 2)
	if err := p.Settle(acting); err != nil {
		t.Fatal(err)
	}
	if _, err := p.Apply(acting, waiting.ID, false); !problem.Is(err, problem.Conflict) {
		t.Errorf("a plan of the day before yesterday: %v", err)
	}
}
