package api

import (
	"encoding/base64"
	"errors"
	"fmt"
	"net/http"

	"github.com/gin-gonic/gin"

	"missivum/core/adopt"
	"missivum/core/compose"
	"missivum/core/lift"
	"missivum/core/markup"
	"missivum/core/starter"
	"missivum/core/template"
	"missivum/core/tidy"
	"missivum/service/templates"
)

// Starter is a template to start from.
type Starter struct {
	Name     string   `json:"name"`
	Title    string   `json:"title"`
	About    string   `json:"about"`
	Variants []string `json:"variants"`
}

// StartRequest makes a template of a starter.
type StartRequest struct {
	Starter string `json:"starter"`
	Author  string `json:"author"`
}

// TidyRequest asks for a tidied source.
type TidyRequest struct {
	Source   string `json:"source"`
	Tracking bool   `json:"tracking"`
	JoinText bool   `json:"joinText"`
	// IndentOnly changes nothing but white space and the spelling of tags.
	IndentOnly bool `json:"indentOnly"`
}

// AdoptRequest brings a page, and says what is to be done with it.
type AdoptRequest struct {
	Text     string            `json:"text"` // the page; or
	Data     string            `json:"data"` // its bytes, base64: its character set is found out
	Tidy     bool              `json:"tidy"`
	Tracking bool              `json:"tracking"`
	JoinText bool              `json:"joinText"`
	Person   string            `json:"person"`  // mail address of whose signature it is; empty for a page with no values to lift
	Answers  map[string]string `json:"answers"` // to the lift's questions, by their id
	Author   string            `json:"author"`
}

// Adopted is what a page became.
type Adopted struct {
	Source   string       `json:"source"`
	Settings string       `json:"settings"`
	Charset  string       `json:"charset"`
	Pictures []string     `json:"pictures"` // files that came along
	Missing  []string     `json:"missing"`  // addresses of pictures that did not
	Tidied   *tidy.Result `json:"tidied"`   // nil when it was not asked for
	Lifted   *Lifted      `json:"lifted"`   // nil when no person was named
}

// Lifted says what became of the person's values.
type Lifted struct {
	Found       []lift.Found      `json:"found"`
	Questions   []lift.Question   `json:"questions"`
	Differences []lift.Difference `json:"differences"` // between the original and the template filled for the person
	NotFound    []string          `json:"notFound"`    // fields of the person that stand nowhere
}

// FillRequest asks for one form of a signature as a file.
type FillRequest struct {
	Draft
	Person  string       `json:"person"`  // mail address
	Variant string       `json:"variant"` // empty: the template's first
	Form    compose.Form `json:"form"`
}

func (a *API) listForms(c *gin.Context) { c.JSON(http.StatusOK, compose.FormInfos()) }

func (a *API) listStarters(c *gin.Context) {
	all, err := starter.All()
	if err != nil {
		a.fail(c, err)
		return
	}
	list := []Starter{}
	for _, t := range all {
		list = append(list, Starter{Name: t.Name, Title: t.Title(), About: t.Settings.About, Variants: t.Variants()})
	}
	c.JSON(http.StatusOK, list)
}

func (a *API) startTemplate(c *gin.Context) {
	var in StartRequest
	if err := readJSON(c, &in); err != nil {
		a.fail(c, err)
		return
	}
	t, err := starter.Find(in.Starter)
	if err != nil {
		a.fail(c, fmt.Errorf("%w: there is no starter %q", errBad, in.Starter))
		return
	}
	a.saved(c)(a.Templates.Save(c.Request.Context(), c.Param("name"), t.Parts(), templates.Edit{Note: "From the starter " + t.Title(), Author: in.Author}))
}

func (a *API) tidySource(c *gin.Context) {
	var in TidyRequest
	if err := readJSON(c, &in); err != nil {
		a.fail(c, err)
		return
	}
	r, err := tidy.Tidy(in.Source, tidy.Options{Tracking: in.Tracking, JoinText: in.JoinText, IndentOnly: in.IndentOnly})
	if err != nil {
		a.fail(c, unreadable(err))
		return
	}
	c.JSON(http.StatusOK, r)
}

// unreadable marks the errors of markup that is too large or too deep as the request's.
func unreadable(err error) error {
	if errors.Is(err, markup.ErrTooLarge) || errors.Is(err, markup.ErrTooDeep) || errors.Is(err, adopt.ErrPage) {
		return bad(err)
	}
	return err
}

// adoptPage says what a page would become; nothing is saved.
func (a *API) adoptPage(c *gin.Context) {
	_, adopted, _, err := a.adopted(c)
	if err != nil {
		a.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, adopted)
}

// adoptTemplate saves what a page becomes as a new template.
func (a *API) adoptTemplate(c *gin.Context) {
	in, adopted, parts, err := a.adopted(c)
	if err != nil {
		a.fail(c, err)
		return
	}
	note := "Adopted from a page"
	if adopted.Lifted != nil {
		note = "Lifted from the signature of " + in.Person
	}
	a.saved(c)(a.Templates.Save(c.Request.Context(), c.Param("name"), parts, templates.Edit{Note: note, Author: in.Author}))
}

func (a *API) adopted(c *gin.Context) (AdoptRequest, Adopted, template.Parts, error) {
	var in AdoptRequest
	fail := func(err error) (AdoptRequest, Adopted, template.Parts, error) {
		return in, Adopted{}, template.Parts{}, unreadable(err)
	}
	if err := readJSON(c, &in); err != nil {
		return fail(err)
	}
	data := []byte(in.Text)
	if in.Data != "" {
		var err error
		if data, err = base64.StdEncoding.DecodeString(in.Data); err != nil {
			return fail(fmt.Errorf("%w: data is not base64: %w", errBad, err))
		}
	}
	page, err := adopt.Page(data, nil)
	if err != nil {
		return fail(err)
	}
	out := Adopted{Charset: page.Charset, Pictures: orEmpty(page.Pictures), Missing: orEmpty(page.Missing)}
	parts := page.Parts
	if in.Tidy {
		r, err := tidy.Tidy(parts.Source, tidy.Options{Tracking: in.Tracking, JoinText: in.JoinText})
		if err != nil {
			return fail(err)
		}
		parts.Source, out.Tidied = r.Source, &r
	}
	if in.Person != "" {
		if out.Lifted, err = a.lift(c, in, &parts); err != nil {
			return fail(err)
		}
	}
	out.Source, out.Settings = parts.Source, parts.Settings
	return in, out, parts, nil
}

// lift puts fields in the place of a person's values.
func (a *API) lift(c *gin.Context, in AdoptRequest, parts *template.Parts) (*Lifted, error) {
	people, _, err := a.People.Directory(c.Request.Context())
	if err != nil {
		return nil, err
	}
	who := people.Find(in.Person)
	if who == nil {
		return nil, fmt.Errorf("%w: there is nobody with the mail address %q", errBad, in.Person)
	}
	r, err := lift.Lift(lift.Input{Parts: *parts, People: people, Person: who, Day: a.Now(), Answers: in.Answers})
	if err != nil {
		return nil, err
	}
	*parts = r.Parts
	return &Lifted{Found: orEmpty(r.Found), Questions: orEmpty(r.Questions), Differences: r.Differences, NotFound: orEmpty(r.NotFound)}, nil
}

// orEmpty makes a nil list an empty one, as JSON readers expect it.
func orEmpty[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

// fillTemplate answers with a signature as a file.
func (a *API) fillTemplate(c *gin.Context) {
	var in FillRequest
	s, err := a.readSubject(c, &in, &in.Draft)
	if err != nil {
		a.fail(c, err)
		return
	}
	info := in.Form.Info()
	if info.Suffix == "" {
		a.fail(c, fmt.Errorf("%w: there is no form %q", errBad, in.Form))
		return
	}
	variant, err := s.variant(in.Variant)
	if err != nil {
		a.fail(c, err)
		return
	}
	who := s.people.Find(in.Person)
	if who == nil {
		a.fail(c, fmt.Errorf("%w: there is nobody with the mail address %q", errBad, in.Person))
		return
	}
	signature, err := compose.Compile(s.template, s.people.Schema, a.Now(), variant)
	if err != nil {
		a.fail(c, err)
		return
	}
	c.Header("Content-Disposition", fmt.Sprintf("attachment; filename=%q", s.template.Name+"-"+variant+info.Suffix))
	c.Data(http.StatusOK, info.Media, signature.Fill(variant, in.Form, who))
}
