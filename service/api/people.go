package api

import (
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"missivum/core/block"
	"missivum/core/client"
	"missivum/core/compose"
	"missivum/core/field"
	"missivum/core/person"
	"missivum/core/problem"
	"missivum/service/people"
)

// PeoplePage is a part of the directory.
type PeoplePage struct {
	Fields   []FieldInfo      `json:"fields"`
	Total    int              `json:"total"` // people found
	All      int              `json:"all"`   // people in the directory
	Revision int              `json:"revision"`
	People   []PersonSnapshot `json:"people"`
}

// FieldInfo is a field of the directory.
type FieldInfo struct {
	Name   string `json:"name"`
	Title  string `json:"title"`
	Source string `json:"source"` // where it is defined; empty for the directory's own
	Blank  int    `json:"blank"`  // for how many people
}

// PersonSnapshot is one person's values in the order of the fields.
type PersonSnapshot struct {
	Mail   string   `json:"mail"`
	Values []string `json:"values"`
}

// maxPage is how many people one page holds at most.
const maxPage = 1000

// listPeople answers GET /people: a part of the directory.
func (a *API) listPeople(c *gin.Context) {
	d, revision, err := a.People.Directory(c.Request.Context())
	if err != nil {
		a.fail(c, err)
		return
	}
	offset, err := number(c, "offset", 0)
	if err != nil {
		a.fail(c, err)
		return
	}
	size, err := number(c, "limit", 100)
	if err != nil {
		a.fail(c, err)
		return
	}
	found := people.Search(d, c.Query("search"))
	page := PeoplePage{Fields: fields(d), Total: len(found), All: len(d.People), Revision: revision, People: []PersonSnapshot{}}
	from := min(offset, len(found))
	for _, p := range found[from:min(from+min(size, maxPage), len(found))] {
		page.People = append(page.People, PersonSnapshot{Mail: d.Get(p, "mail"), Values: p.Values})
	}
	reply(c, http.StatusOK, page)
}

// personDetail is one person.
type personDetail struct {
	Mail   string            `json:"mail"`
	Name   string            `json:"name"`
	Values map[string]string `json:"values"` // by field; blank ones are left out
}

// getPerson answers GET /people/{mail}: one person by mail address.
func (a *API) getPerson(c *gin.Context) {
	d, _, err := a.People.Directory(c.Request.Context())
	if err != nil {
		a.fail(c, err)
		return
	}
	who := d.Find(c.Param("mail"))
	if who == nil {
		a.fail(c, problem.New(problem.NotFound, "There is nobody with the mail address %q.", c.Param("mail")))
		return
	}
	out := personDetail{Mail: d.Get(who, "mail"), Name: d.Get(who, "cn"), Values: map[string]string{}}
	for column, name := range d.Schema.Names() {
		if value := who.At(column); value != "" {
			out.Values[name] = value
		}
	}
	reply(c, http.StatusOK, out)
}

// removePhoto takes a person's hosted photo back.
func (a *API) removePhoto(c *gin.Context) {
	if err := a.Pictures.RemovePhoto(c.Request.Context(), c.Param("mail")); err != nil {
		a.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// hardCase is a person who strains templates, and why.
type hardCase struct {
	Mail    string   `json:"mail"`
	Name    string   `json:"name"`
	Reasons []string `json:"reasons"`
}

// listHardCases answers GET /people/hard-cases: the people who strain templates most, and why.
func (a *API) listHardCases(c *gin.Context) {
	d, revision, err := a.People.Directory(c.Request.Context())
	if err != nil {
		a.fail(c, err)
		return
	}
	list := []hardCase{}
	sizes, err := a.sizes(c, d, revision)
	if err != nil {
		a.fail(c, err)
		return
	}
	for _, h := range person.HardCases(d, "", sizes...) {
		p := &d.People[h.Index]
		list = append(list, hardCase{Mail: d.Get(p, "mail"), Name: d.Get(p, "cn"), Reasons: h.Reasons})
	}
	reply(c, http.StatusOK, list)
}

// fields are the fields that a template can use with a directory: standard ones, its own, texts and constants.
func fields(d *person.Directory) []FieldInfo {
	list := []FieldInfo{}
	for column, name := range d.Schema.Names() {
		blank, _ := d.Blank(column, 0)
		info := FieldInfo{Name: name, Title: name, Blank: blank}
		for _, a := range person.Attributes {
			if a.Name == name {
				info.Title, info.Source = a.Title, a.Source
			}
		}
		list = append(list, info)
	}
	return list
}

// number reads a number of the query; standard where it is left out.
func number(c *gin.Context, name string, standard int) (int, error) {
	text := c.Query(name)
	if text == "" {
		return standard, nil
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 0 {
		return 0, problem.New(problem.Invalid, "%s=%s is not a number from 0.", name, text).In(name)
	}
	return n, nil
}

// importPeople answers POST /people/import: what a CSV file would change in the directory, or the change itself.
func (a *API) importPeople(c *gin.Context) {
	ctx := c.Request.Context()
	mapping := map[string]string{}
	for _, m := range c.QueryArray("map") {
		heading, field, ok := strings.Cut(m, "=")
		if !ok {
			a.fail(c, problem.New(problem.Invalid, "Map=%s must be a heading, = and a field.", m))
			return
		}
		mapping[heading] = field
	}
	plan, err := a.People.Plan(ctx, c.Request.Body, mapping, c.Query("replace") == "true")
	if err != nil {
		a.fail(c, err)
		return
	}
	if expected := c.Query("revision"); expected != "" && expected != strconv.Itoa(plan.Revision) {
		a.fail(c, problem.New(problem.Conflict, "The directory was changed since this was looked at. Look again; nothing was imported."))
		return
	}
	if c.Query("apply") == "true" {
		removed, err := number(c, "remove", 0)
		if err == nil {
			err = plan.Confirm(removed)
		}
		if err != nil {
			a.fail(c, err)
			return
		}
		if err := a.People.Apply(ctx, plan); err != nil {
			a.fail(c, err)
			return
		}
	}
	reply(c, http.StatusOK, plan)
}

// listStates answers GET /people/states: the directory as it was before the last imports.
func (a *API) listStates(c *gin.Context) {
	list, err := a.People.States()
	answer(a, c, list, err)
}

// getState answers GET /people/states/{revision}: one of them as CSV.
func (a *API) getState(c *gin.Context) {
	revision, err := strconv.Atoi(c.Param("revision"))
	if err != nil {
		a.fail(c, problem.New(problem.Invalid, "%q is no revision.", c.Param("revision")).In("revision"))
		return
	}
	f, err := a.People.OpenState(revision)
	if err != nil {
		a.fail(c, err)
		return
	}
	defer f.Close()
	c.Header("Content-Type", "text/csv; charset=utf-8")
	c.Header("Content-Disposition", fmt.Sprintf(`attachment; filename="people-%d.csv"`, revision))
	http.ServeContent(c.Writer, c.Request, "", time.Time{}, f)
}

// listDialects answers GET /dialects: the dialects of mail hosts.
func (a *API) listDialects(c *gin.Context) { reply(c, http.StatusOK, block.Dialects()) }

// fieldReference is what a template can use.
type fieldReference struct {
	Fields     []FieldInfo          `json:"fields"`
	Modifiers  []field.ModifierKind `json:"modifiers"`
	Attributes []field.Attribute    `json:"attributes"`
	Entries    []string             `json:"entries"` // names that an element with data-each knows
}

// listFields answers GET /fields: the fields and modifiers a template can use.
func (a *API) listFields(c *gin.Context) {
	d, _, err := a.People.Directory(c.Request.Context())
	if err != nil {
		a.fail(c, err)
		return
	}
	reply(c, http.StatusOK, fieldReference{Fields: fields(d), Modifiers: field.ModifierKinds(), Attributes: field.Attributes(),
		Entries: field.EntryNames()})
}

// sizes measures how large the named template becomes for each person; without a name there is no such measure.
func (a *API) sizes(c *gin.Context, d *person.Directory, revision int) ([]person.Measure, error) {
	name := c.Query("template")
	if name == "" {
		return nil, nil
	}
	s, err := a.Templates.Get(c.Request.Context(), name, 0)
	if err != nil {
		return nil, err
	}
	variant := s.Variants()[0]
	signature, err := a.Templates.Compiled(s.Template, d.Schema, revision, a.Now(), variant, compose.Fragment)
	if err != nil {
		return nil, nil // a template with mistakes has no size yet
	}
	f := signature.NewFiller()
	var buffer []byte
	return []person.Measure{{
		Of: func(p *person.Person) int {
			f.Set(p)
			buffer = signature.Append(buffer[:0], variant, compose.Fragment, f)
			return client.Units(buffer)
		},
		Says: func(n int) string { return fmt.Sprintf("largest signature, %d characters", n) },
	}}, nil
}
