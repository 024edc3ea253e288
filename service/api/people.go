package api

import (
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"missivum/core/audience"
	"missivum/core/client"
	"missivum/core/compose"
	"missivum/core/field"
	"missivum/core/person"
	"missivum/core/problem"
	"missivum/core/source"
	"missivum/service/store"
)

// PeoplePage is a part of the directory.
type PeoplePage struct {
	Fields   []FieldInfo      `json:"fields"`
	Total    int              `json:"total"` // people found
	All      int              `json:"all"`   // people in the directory
	Left     int              `json:"left"`  // people who left and are still kept
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
	ID     int64     `json:"id"`
	Mail   string    `json:"mail"`
	Values []string  `json:"values"`
	Left   time.Time `json:"left,omitzero"`
}

// maxPage is how many people one page holds at most.
const maxPage = 1000

// listPeople answers GET /people: a part of the directory, or of those who left.
func (a *API) listPeople(c *gin.Context) {
	d, blank, err := a.People.Blank(c.Request.Context())
	if err != nil {
		a.fail(c, err)
		return
	}
	offset, size, err := part(c, 100)
	if err != nil {
		a.fail(c, err)
		return
	}
	filter := store.PeopleFilter{Search: c.Query("search"), Blank: c.Query("blank"), Left: c.Query("left") == "true",
		Source: c.Query("source")}
	page := PeoplePage{Fields: fields(d, blank), All: len(d.People), People: []PersonSnapshot{}}
	err = a.Store.Read(c.Request.Context(), func(tx *store.Tx) error {
		if page.Revision, err = tx.Revision(); err != nil {
			return err
		}
		if _, page.Left, err = tx.CountPeople(); err != nil {
			return err
		}
		list, total, err := tx.People(filter, offset, size)
		page.Total = total
		for _, p := range list {
			values := make([]string, len(page.Fields))
			copy(values, p.Values)
			page.People = append(page.People, PersonSnapshot{ID: p.ID, Mail: p.Mail, Values: values, Left: p.Left})
		}
		return err
	})
	answer(a, c, page, err)
}

// PersonDetail is everything that is known of a person.
type PersonDetail struct {
	Mail    string            `json:"mail"`
	Name    string            `json:"name"`
	Values  map[string]string `json:"values"`  // by field; blank ones are left out
	Origins []source.Value    `json:"origins"` // the same values with the sources that they are from
	Others  []source.Value    `json:"others"`  // values of other sources that do not count
	Groups  []string          `json:"groups"`

	Audiences []audience.Membership `json:"audiences"` // in which the person is, and why
	Gets      []Gets                `json:"gets"`      // in every situation

	Came    time.Time      `json:"came"`
	Left    time.Time      `json:"left,omitzero"`
	History []PersonChange `json:"history"` // the newest first
}

// PersonChange is what a run changed of a person.
type PersonChange struct {
	Run    int64                `json:"run"`
	Source string               `json:"source"`
	Kind   string               `json:"kind"`
	At     time.Time            `json:"at"`
	By     string               `json:"by"`
	Undone bool                 `json:"undone"`
	Fields []source.FieldChange `json:"fields"`
}

// getPerson answers GET /people/{mail}: everything that is known of a person.
func (a *API) getPerson(c *gin.Context) {
	detail, err := a.People.Detail(c.Request.Context(), c.Param("mail"))
	if err != nil {
		a.fail(c, err)
		return
	}
	out := PersonDetail{Mail: detail.Person.Mail, Values: map[string]string{}, Origins: detail.Values, Others: detail.Others,
		Came: detail.Person.Came, Left: detail.Person.Left}
	for _, value := range detail.Values {
		out.Values[value.Field] = value.Value
	}
	out.Name = out.Values["cn"]
	for _, group := range detail.Person.Groups {
		out.Groups = append(out.Groups, source.GroupName(group))
	}
	w, err := a.People.Who(c.Request.Context())
	if err != nil {
		a.fail(c, err)
		return
	}
	if who := w.Directory.Find(detail.Person.Mail); who != nil && detail.Person.Left.IsZero() {
		if out.Audiences, out.Gets, err = a.gets(c.Request.Context(), w, who); err != nil {
			a.fail(c, err)
			return
		}
	}
	for i, run := range detail.Runs {
		change, err := changeOf(detail.Ways[i])
		if err != nil {
			a.fail(c, err)
			return
		}
		out.History = append(out.History, PersonChange{Run: run.ID, Source: run.Source, Kind: change.Kind, At: run.Applied, By: run.By.Name,
			Undone: run.State == store.Undone, Fields: change.Fields})
	}
	reply(c, http.StatusOK, out)
}

// editPerson answers PATCH /people/{mail}: values that only this directory knows.
func (a *API) editPerson(c *gin.Context) {
	var in struct {
		Values map[string]string `json:"values"`
	}
	if err := readJSON(c, &in); err != nil {
		a.fail(c, err)
		return
	}
	detail, err := a.People.Detail(c.Request.Context(), c.Param("mail"))
	if err != nil {
		a.fail(c, err)
		return
	}
	for _, value := range slices.Concat(detail.Values, detail.Others) {
		if _, edited := in.Values[value.Field]; edited && value.Source != store.Kept {
			a.fail(c, problem.New(problem.Conflict, "%s comes from the source %s; correct it there.", value.Field, value.Source).In(value.Field))
			return
		}
	}
	if _, err := a.People.Edit(c.Request.Context(), map[string]map[string]string{c.Param("mail"): in.Values}); err != nil {
		a.fail(c, err)
		return
	}
	a.getPerson(c)
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

// fields are the fields that a template can use with a directory, and for how many people each is blank.
func fields(d *person.Directory, blank []int) []FieldInfo {
	list := []FieldInfo{}
	for column, name := range d.Schema.Names() {
		info := FieldInfo{Name: name, Title: name, Blank: blank[column]}
		for _, a := range person.Attributes {
			if a.Name == name {
				info.Title, info.Source = a.Title, a.Source
			}
		}
		list = append(list, info)
	}
	return list
}

// part reads which part of a list is asked for: from where, and how many, at most maxPage.
func part(c *gin.Context, standard int) (offset, size int, err error) {
	if offset, err = number(c, "offset", 0); err != nil {
		return 0, 0, err
	}
	size, err = number(c, "limit", standard)
	return offset, min(size, maxPage), err
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

// fieldReference is what a template can use.
type fieldReference struct {
	Fields     []FieldInfo          `json:"fields"`
	Modifiers  []field.ModifierKind `json:"modifiers"`
	Attributes []field.Attribute    `json:"attributes"`
	Entries    []string             `json:"entries"` // names that an element with data-each knows
}

// listFields answers GET /fields: the fields and modifiers a template can use.
func (a *API) listFields(c *gin.Context) {
	d, blank, err := a.People.Blank(c.Request.Context())
	if err != nil {
		a.fail(c, err)
		return
	}
	reply(c, http.StatusOK, fieldReference{Fields: fields(d, blank), Modifiers: field.ModifierKinds(), Attributes: field.Attributes(),
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
