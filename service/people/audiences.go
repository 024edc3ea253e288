package people

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"

	"missivum/core/audience"
	"missivum/core/person"
	"missivum/core/problem"
	"missivum/service/store"
)

// situationsSetting is under which name the organisation's own situations are stored.
const situationsSetting = "situations"

// Who is everything that decides who gets what, of one moment.
type Who struct {
	Directory   *person.Directory
	Revision    int
	Set         *audience.Set
	Audiences   []audience.Audience
	Assignments *audience.Assignments // nil while there are none
	Situations  []string
}

// WhoIn reads and compiles what decides who gets what.
func (p *People) WhoIn(tx *store.Tx) (w Who, err error) {
	if w.Directory, w.Revision, err = p.DirectoryIn(tx); err != nil {
		return w, err
	}
	if w.Audiences, err = tx.Audiences(); err != nil {
		return w, err
	}
	if w.Set, err = audience.Compile(w.Audiences, w.known()); err != nil {
		return w, err
	}
	if w.Situations, err = situationsIn(tx); err != nil {
		return w, err
	}
	lines, err := tx.Assignments()
	if err != nil || len(lines) == 0 {
		return w, err
	}
	w.Assignments, err = audience.Assign(lines, w.Set, w.Situations)
	return w, err
}

// known is the directory's schema for conditions.
func (w Who) known() *person.Schema { return w.Directory.Schema }

// situationsIn lists the situations, with the organisation's own.
func situationsIn(tx *store.Tx) ([]string, error) {
	var own []string
	err := tx.Setting(situationsSetting, &own)
	return append(slices.Clone(audience.Situations), own...), err
}

// Who gives what decides who gets what.
func (p *People) Who(ctx context.Context) (w Who, err error) {
	err = p.Store.Read(ctx, func(tx *store.Tx) error {
		w, err = p.WhoIn(tx)
		return err
	})
	return w, err
}

// AudienceCount is an audience with how many people are in it, and what uses it.
type AudienceCount struct {
	audience.Audience
	People int      `json:"people"`
	UsedBy []string `json:"usedBy"` // other audiences, and lines of the assignments
}

// Audiences lists the audiences.
func (p *People) Audiences(ctx context.Context) ([]AudienceCount, error) {
	w, err := p.Who(ctx)
	if err != nil {
		return nil, err
	}
	list := []AudienceCount{}
	for _, a := range w.Audiences {
		one := AudienceCount{Audience: a, UsedBy: w.users(a.Name)}
		for i := range w.Directory.People {
			if w.Set.In(a.Name, &w.Directory.People[i]) {
				one.People++
			}
		}
		list = append(list, one)
	}
	return list, nil
}

// users lists what uses an audience.
func (w Who) users(name string) []string {
	list := []string{}
	for _, other := range w.Audiences {
		if slices.Contains(audience.Uses(other.Condition), name) {
			list = append(list, "the audience "+other.Name)
		}
	}
	if w.Assignments != nil {
		for i, line := range w.Assignments.Lines() {
			if line.Audience == name {
				list = append(list, fmt.Sprintf("line %d of the assignments", i+1))
			}
		}
	}
	return list
}

// PutAudience stores an audience, new or in the place of one of its name.
func (p *People) PutAudience(ctx context.Context, a audience.Audience) error {
	return p.Store.Write(ctx, func(tx *store.Tx) error {
		w, err := p.WhoIn(tx)
		if err != nil {
			return err
		}
		if _, err := audience.Compile(with(w.Audiences, a), w.known()); err != nil {
			return err
		}
		return tx.PutAudience(a)
	})
}

// with gives audiences with one of them replaced or added.
func with(list []audience.Audience, a audience.Audience) []audience.Audience {
	list = slices.DeleteFunc(slices.Clone(list), func(other audience.Audience) bool { return other.Name == a.Name })
	return append(list, a)
}

// RemoveAudience removes an audience that nothing uses.
func (p *People) RemoveAudience(ctx context.Context, name string) error {
	return p.Store.Write(ctx, func(tx *store.Tx) error {
		w, err := p.WhoIn(tx)
		if err != nil {
			return err
		}
		if users := w.users(name); len(users) > 0 {
			return problem.New(problem.Conflict, "The audience %s is used by %s.", name, strings.Join(users, ", "))
		}
		return tx.RemoveAudience(name)
	})
}

// Member is somebody in an audience, and why.
type Member struct {
	Mail   string `json:"mail"`
	Name   string `json:"name"`
	Reason string `json:"reason"`
}

// Members lists a part of the people of an audience as it is drafted, and counts all of them. search stands in the mail
// address or the name.
func (p *People) Members(ctx context.Context, a audience.Audience, search string, offset, limit int) (list []Member, total int, err error) {
	w, err := p.Who(ctx)
	if err != nil {
		return nil, 0, err
	}
	if a.Name == "" {
		a.Name = "draft"
	}
	set, err := audience.Compile(with(w.Audiences, a), w.known())
	if err != nil {
		return nil, 0, err
	}
	list, search = []Member{}, strings.ToLower(strings.TrimSpace(search))
	d := w.Directory
	for i := range d.People {
		if i%1000 == 0 && ctx.Err() != nil {
			return nil, 0, ctx.Err()
		}
		who := &d.People[i]
		if !set.In(a.Name, who) {
			continue
		}
		mail, name := d.Get(who, "mail"), d.Get(who, "cn")
		if search != "" && !strings.Contains(strings.ToLower(mail+"\n"+name), search) {
			continue
		}
		if total++; total > offset && len(list) < limit {
			list = append(list, Member{mail, name, set.Reason(a.Name, who)})
		}
	}
	return list, total, nil
}

// Line is an assignment with what becomes of it.
type Line struct {
	audience.Assignment
	People  []int `json:"people"`  // for how many it decides, by situation
	Covered int   `json:"covered"` // the earlier line because of which it can never decide, counted from 1; 0 for none
}

// AssignmentList is who gets what.
type AssignmentList struct {
	Situations []string `json:"situations"`
	Lines      []Line   `json:"lines"`
	Nothing    []int    `json:"nothing"` // by situation, how many people get no signature
	People     int      `json:"people"`
}

// Assignments lists who gets what.
func (p *People) Assignments(ctx context.Context) (AssignmentList, error) {
	w, err := p.Who(ctx)
	if err != nil {
		return AssignmentList{}, err
	}
	return w.list(), nil
}

// list counts for whom each line decides.
func (w Who) list() AssignmentList {
	out := AssignmentList{Situations: w.Situations, Lines: []Line{}, Nothing: make([]int, len(w.Situations)), People: len(w.Directory.People)}
	if w.Assignments == nil {
		return out
	}
	counts := w.Assignments.Tally(w.Directory.People, w.Situations)
	for i, line := range w.Assignments.Lines() {
		out.Lines = append(out.Lines, Line{Assignment: line, People: counts[i], Covered: w.Assignments.Covered(i) + 1})
		if line.Template == "" {
			for s, n := range counts[i] {
				out.Nothing[s] += n
			}
		}
	}
	return out
}

// drafted compiles assignments that are not stored.
func (p *People) drafted(tx *store.Tx, lines []audience.Assignment, own []string) (Who, error) {
	w, err := p.WhoIn(tx)
	if err != nil {
		return w, err
	}
	w.Situations = slices.Clone(audience.Situations)
	for _, name := range own {
		if err := audience.CheckName(name); err != nil {
			return w, err
		}
		if slices.Contains(w.Situations, name) {
			return w, problem.New(problem.Conflict, "There are two situations %q.", name).In("situations")
		}
		w.Situations = append(w.Situations, name)
	}
	for i, line := range lines {
		if line.Template == "" {
			continue
		}
		if _, err := tx.Template(line.Template, 0); err != nil {
			return w, fmt.Errorf("line %d: %w", i+1, err)
		}
	}
	w.Assignments, err = audience.Assign(lines, w.Set, w.Situations)
	return w, err
}

// TryAssignments says what assignments would do, without storing them. own are the organisation's own situations.
func (p *People) TryAssignments(ctx context.Context, lines []audience.Assignment, own []string) (list AssignmentList, err error) {
	err = p.Store.Read(ctx, func(tx *store.Tx) error {
		w, err := p.drafted(tx, lines, own)
		if err == nil {
			list = w.list()
		}
		return err
	})
	return list, err
}

// PutAssignments stores who gets what, with the organisation's own situations.
func (p *People) PutAssignments(ctx context.Context, lines []audience.Assignment, own []string) error {
	return p.Store.Write(ctx, func(tx *store.Tx) error {
		if _, err := p.drafted(tx, lines, own); err != nil {
			return err
		}
		if own == nil {
			own = []string{}
		}
		if err := tx.PutSetting(situationsSetting, own); err != nil {
			return err
		}
		return tx.PutAssignments(lines)
	})
}

// Gets is what a person gets in a situation, and which line decides.
type Gets struct {
	Situation string `json:"situation"`
	Line      int    `json:"line"` // counted from 1
	Audience  string `json:"audience"`
	Reason    string `json:"reason"`
	Template  string `json:"template"` // blank for no signature
	Variant   string `json:"variant"`  // blank for the template's own choice
	Note      string `json:"note"`
}

// Explain says in which audiences a person is, and what they get in every situation. While there are no assignments they
// get nothing by them.
func (w Who) Explain(who *person.Person) ([]audience.Membership, []Gets) {
	gets := []Gets{}
	if w.Assignments == nil {
		return w.Set.Of(who), gets
	}
	lines := w.Assignments.Lines()
	for _, situation := range w.Situations {
		i := w.Assignments.Decide(who, situation)
		gets = append(gets, Gets{Situation: situation, Line: i + 1, Audience: lines[i].Audience, Reason: w.Set.Reason(lines[i].Audience, who),
			Template: lines[i].Template, Variant: lines[i].Variant, Note: lines[i].Note})
	}
	return w.Set.Of(who), gets
}

// concerned keeps, by template, the people to whom it is assigned.
type concerned struct {
	mu  sync.Mutex
	key string
	by  map[string]*person.Directory
}

// Assigned gives the directory with those people to whom a template is assigned in any situation: they are who its checks
// and budgets are about. While it is assigned to nobody it is the whole directory; some is then false.
func (p *People) Assigned(ctx context.Context, template string) (d *person.Directory, key string, some bool, err error) {
	err = p.Store.Read(ctx, func(tx *store.Tx) error {
		d, key, some, err = p.AssignedIn(tx, template)
		return err
	})
	return d, key, some, err
}

// AssignedIn is Assigned in a unit of work.
func (p *People) AssignedIn(tx *store.Tx, template string) (d *person.Directory, key string, some bool, err error) {
	w, err := p.WhoIn(tx)
	if err != nil {
		return nil, "", false, err
	}
	if w.Assignments == nil {
		return w.Directory, fmt.Sprint(w.Revision), false, nil
	}
	key = fmt.Sprintf("%d %x", w.Revision, fmt.Sprint(w.Assignments.Lines(), w.Audiences))
	p.concerned.mu.Lock()
	defer p.concerned.mu.Unlock()
	if p.concerned.key != key {
		p.concerned.key, p.concerned.by = key, map[string]*person.Directory{}
	}
	d, there := p.concerned.by[template]
	if !there {
		d = w.assigned(template)
		p.concerned.by[template] = d
	}
	if len(d.People) == 0 {
		return w.Directory, key, false, nil
	}
	return d, key, true, nil
}

// assigned picks the people to whom a template is assigned in any situation.
func (w Who) assigned(template string) *person.Directory {
	d := &person.Directory{Schema: w.Directory.Schema}
	lines := w.Assignments.Lines()
	if !slices.ContainsFunc(lines, func(l audience.Assignment) bool { return l.Template == template }) {
		return d
	}
	for i := range w.Directory.People {
		for _, situation := range w.Situations {
			if lines[w.Assignments.Decide(&w.Directory.People[i], situation)].Template == template {
				d.People = append(d.People, w.Directory.People[i])
				break
			}
		}
	}
	return d
}
