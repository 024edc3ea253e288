package api

import (
	"context"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"missivum/core/audience"
	"missivum/core/fault"
	"missivum/core/person"
	"missivum/core/problem"
	"missivum/service/people"
)

// listAudiences answers GET /audiences.
func (a *API) listAudiences(c *gin.Context) {
	list, err := a.People.Audiences(c.Request.Context())
	answer(a, c, list, err)
}

// audienceRequest is an audience as it is stored or tried.
type audienceRequest struct {
	Title     string             `json:"title"`
	Condition audience.Condition `json:"condition"`
}

// putAudience answers PUT /audiences/{name}.
func (a *API) putAudience(c *gin.Context) {
	var in audienceRequest
	if err := readJSON(c, &in); err != nil {
		a.fail(c, err)
		return
	}
	one := audience.Audience{Name: c.Param("name"), Title: in.Title, Condition: in.Condition}
	if err := a.People.PutAudience(c.Request.Context(), one); err != nil {
		a.fail(c, err)
		return
	}
	a.members(c, one)
}

// removeAudience answers DELETE /audiences/{name}.
func (a *API) removeAudience(c *gin.Context) {
	if err := a.People.RemoveAudience(c.Request.Context(), c.Param("name")); err != nil {
		a.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// Members is a part of the people of an audience.
type Members struct {
	Total  int             `json:"total"`
	People []people.Member `json:"people"`
}

// listMembers answers GET /audiences/{name}/people: who is in an audience, and why.
func (a *API) listMembers(c *gin.Context) {
	list, err := a.People.Audiences(c.Request.Context())
	if err != nil {
		a.fail(c, err)
		return
	}
	i := slices.IndexFunc(list, func(one people.AudienceCount) bool { return one.Name == c.Param("name") })
	if i < 0 {
		a.fail(c, problem.Missing("audience", c.Param("name")))
		return
	}
	a.members(c, list[i].Audience)
}

// tryAudience answers POST /audiences/try: who would be in an audience.
func (a *API) tryAudience(c *gin.Context) {
	var in audienceRequest
	if err := readJSON(c, &in); err != nil {
		a.fail(c, err)
		return
	}
	a.members(c, audience.Audience{Title: in.Title, Condition: in.Condition})
}

// members answers with the people of an audience.
func (a *API) members(c *gin.Context, one audience.Audience) {
	offset, size, err := part(c, 50)
	if err != nil {
		a.fail(c, err)
		return
	}
	list, total, err := a.People.Members(c.Request.Context(), one, c.Query("search"), offset, size)
	answer(a, c, Members{Total: total, People: list}, err)
}

// listAssignments answers GET /assignments: who gets what.
func (a *API) listAssignments(c *gin.Context) {
	list, err := a.People.Assignments(c.Request.Context())
	answer(a, c, list, err)
}

// assignmentsRequest is who is to get what.
type assignmentsRequest struct {
	Lines      []audience.Assignment `json:"lines"`
	Situations []string              `json:"situations"` // the organisation's own, beside those that everybody has
}

// putAssignments answers PUT /assignments; with try=true nothing is stored.
func (a *API) putAssignments(c *gin.Context) {
	var in assignmentsRequest
	if err := readJSON(c, &in); err != nil {
		a.fail(c, err)
		return
	}
	ctx := c.Request.Context()
	for i, line := range in.Lines {
		if err := a.checkLine(ctx, i, line); err != nil {
			a.fail(c, err)
			return
		}
	}
	if c.Query("try") == "true" {
		list, err := a.People.TryAssignments(ctx, in.Lines, in.Situations)
		answer(a, c, list, err)
		return
	}
	if err := a.People.PutAssignments(ctx, in.Lines, in.Situations); err != nil {
		a.fail(c, err)
		return
	}
	a.listAssignments(c)
}

// checkLine refuses a line whose template has not the variant that it names.
func (a *API) checkLine(ctx context.Context, i int, line audience.Assignment) error {
	if line.Template == "" || line.Variant == "" {
		return nil
	}
	t, err := a.Templates.Get(ctx, line.Template, 0)
	if err != nil {
		return err
	}
	if !slices.Contains(t.Variants(), line.Variant) {
		return problem.New(problem.Invalid, "Line %d: the template %s has no variant %q; it has %s.", i+1, line.Template, line.Variant,
			strings.Join(t.Variants(), ", ")).In("variant")
	}
	return nil
}

// Gets is what a person gets in a situation.
type Gets struct {
	people.Gets
	Shown string `json:"shown"` // the variant that goes out
}

// gets says what a person gets in every situation, with the variants that go out.
func (a *API) gets(ctx context.Context, w people.Who, who *person.Person) ([]audience.Membership, []Gets, error) {
	audiences, list := w.Explain(who)
	out := []Gets{}
	for _, one := range list {
		g := Gets{Gets: one}
		if one.Template != "" {
			t, err := a.Templates.Get(ctx, one.Template, 0)
			if err != nil {
				return nil, nil, err
			}
			g.Shown = audience.Variant(one.Variant, one.Situation, t.Variants())
		}
		out = append(out, g)
	}
	return audiences, out, nil
}

// Faults is a part of the directory's faults.
type Faults struct {
	Total    int           `json:"total"` // faults found
	All      int           `json:"all"`
	People   int           `json:"people"` // in the directory
	Revision int           `json:"revision"`
	Kinds    []fault.Kind  `json:"kinds"` // with the counts of all
	Faults   []fault.Fault `json:"faults"`
}

// listFaults answers GET /people/faults: what is wrong in the directory, as JSON or CSV.
func (a *API) listFaults(c *gin.Context) {
	offset, size, err := part(c, 100)
	if err != nil {
		a.fail(c, err)
		return
	}
	needs, lengths, named, err := a.needs(c.Request.Context())
	if err != nil {
		a.fail(c, err)
		return
	}
	all, err := a.People.Faults(c.Request.Context(), needs, lengths, named)
	if err != nil {
		a.fail(c, err)
		return
	}
	found := fault.Only(all.List, c.Query("kind"), c.Query("field"), c.Query("search"))
	if asCSV(c) {
		c.Header("Content-Type", "text/csv; charset=utf-8")
		c.Header("Content-Disposition", fmt.Sprintf(`attachment; filename="faults-%d.csv"`, all.Revision))
		if err := fault.WriteCSV(c.Writer, found); err != nil {
			a.Log.Debug("writing faults", "error", err)
		}
		return
	}
	from := min(offset, len(found))
	reply(c, http.StatusOK, Faults{Total: len(found), All: len(all.List), People: all.People, Revision: all.Revision,
		Kinds: fault.Count(all.List), Faults: found[from:min(from+size, len(found))]})
}

// needs are the fields that people must have, everybody a name, and those to whom a template is assigned what it requires; and how
// long values may be for them. named tells one such list from another.
func (a *API) needs(ctx context.Context) (needs []fault.Need, lengths []fault.Line, named string, err error) {
	needs = []fault.Need{{Field: "cn", Who: "every signature"}}
	w, err := a.People.Who(ctx)
	if err != nil || w.Assignments == nil {
		return needs, nil, "", err
	}
	lines := w.Assignments.Lines()
	seen := map[string]bool{"": true}
	named = fmt.Sprint(lines, w.Audiences)
	for _, line := range lines {
		if seen[line.Template] {
			continue
		}
		seen[line.Template] = true
		t, err := a.Templates.Get(ctx, line.Template, 0)
		if err != nil {
			return nil, nil, "", err
		}
		named += fmt.Sprint(line.Template, t.Settings.Required, t.Settings.Longest)
		gets := func(p *person.Person) bool {
			return slices.ContainsFunc(w.Situations, func(situation string) bool {
				return lines[w.Assignments.Decide(p, situation)].Template == line.Template
			})
		}
		who := "the template " + line.Template
		for _, field := range t.Settings.Required {
			needs = append(needs, fault.Need{Field: field, Who: who, Of: gets})
		}
		for _, field := range slices.Sorted(maps.Keys(t.Settings.Longest)) {
			lengths = append(lengths, fault.Line{Field: field, Most: t.Settings.Longest[field], Who: who, Of: gets})
		}
	}
	return needs, lengths, named, nil
}
