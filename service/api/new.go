package api

import (
	"encoding/base64"
	"errors"
	"fmt"
	"net/http"

	"github.com/gin-gonic/gin"

	"missivum/core/clean"
	"missivum/core/compose"
	"missivum/core/create"
	"missivum/core/markup"
	"missivum/core/page"
	"missivum/core/recognise"
	"missivum/core/starter"
	"missivum/service/templates"
)

// Starter is a template to start from.
type Starter struct {
	Name     string   `json:"name"`
	Title    string   `json:"title"`
	About    string   `json:"about"`
	Variants []string `json:"variants"`
}

// CleanRequest asks for a cleaned source.
type CleanRequest struct {
	Source   string `json:"source"`
	Tracking bool   `json:"tracking"`
	JoinText bool   `json:"joinText"`
	// IndentOnly changes nothing but white space and the spelling of tags.
	IndentOnly bool `json:"indentOnly"`
}

// NewRequest says what a new template is made of: a starter or a page. With a person the page is that person's
// signature.
type NewRequest struct {
	Starter  string            `json:"starter"` // or
	Text     string            `json:"text"`    // a page; or
	Data     string            `json:"data"`    // its bytes, base64: its character set is recognised
	Clean    bool              `json:"clean"`
	Tracking bool              `json:"tracking"`
	JoinText bool              `json:"joinText"`
	Person   string            `json:"person"`  // mail address; empty for a page that is nobody's signature
	Answers  map[string]string `json:"answers"` // to the questions about recognised values, by their id
	Author   string            `json:"author"`
}

// NewPreview is what a new template would be.
type NewPreview struct {
	Source     string        `json:"source"`
	Settings   string        `json:"settings"`
	Charset    string        `json:"charset"`
	Pictures   []string      `json:"pictures"`   // files that came along
	Missing    []string      `json:"missing"`    // addresses of pictures that did not
	Cleaned    *clean.Result `json:"cleaned"`    // nil when it was not asked for
	Recognised *Recognised   `json:"recognised"` // nil when no person was named
}

// Recognised says what became of the person's values.
type Recognised struct {
	Found       []recognise.Found      `json:"found"`
	Questions   []recognise.Question   `json:"questions"`
	Differences []recognise.Difference `json:"differences"` // between the original and the template filled for the person
	NotFound    []string               `json:"notFound"`    // fields of the person that stand nowhere
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

func (a *API) cleanSource(c *gin.Context) {
	var in CleanRequest
	if err := readJSON(c, &in); err != nil {
		a.fail(c, err)
		return
	}
	r, err := clean.Clean(in.Source, clean.Options{Tracking: in.Tracking, JoinText: in.JoinText, IndentOnly: in.IndentOnly})
	if err != nil {
		a.fail(c, unreadable(err))
		return
	}
	c.JSON(http.StatusOK, r)
}

// unreadable marks the errors of markup that is too large or too deep as the request's.
func unreadable(err error) error {
	if errors.Is(err, markup.ErrTooLarge) || errors.Is(err, markup.ErrTooDeep) || errors.Is(err, page.ErrPage) || errors.Is(err, create.ErrSource) {
		return bad(err)
	}
	return err
}

// previewNewTemplate says what a template would be; nothing is saved.
func (a *API) previewNewTemplate(c *gin.Context) {
	r, _, err := a.created(c)
	if err != nil {
		a.fail(c, err)
		return
	}
	out := NewPreview{
		Source: r.Parts.Source, Settings: r.Parts.Settings, Charset: r.Charset,
		Pictures: orEmpty(r.Pictures), Missing: orEmpty(r.Missing), Cleaned: r.Cleaned,
	}
	if found := r.Recognised; found != nil {
		out.Recognised = &Recognised{orEmpty(found.Found), orEmpty(found.Questions), orEmpty(found.Differences), orEmpty(found.NotFound)}
	}
	c.JSON(http.StatusOK, out)
}

// newTemplate saves a new template.
func (a *API) newTemplate(c *gin.Context) {
	r, author, err := a.created(c)
	if err != nil {
		a.fail(c, err)
		return
	}
	a.saved(c)(a.Templates.Save(c.Request.Context(), c.Param("name"), r.Parts, templates.Edit{Note: r.Note, Author: author}))
}

// created reads a request for a new template and makes it.
func (a *API) created(c *gin.Context) (create.Result, string, error) {
	var in NewRequest
	if err := readJSON(c, &in); err != nil {
		return create.Result{}, "", err
	}
	people, _, err := a.People.Directory(c.Request.Context())
	if err != nil {
		return create.Result{}, "", err
	}
	from := create.Input{Starter: in.Starter, Page: []byte(in.Text), People: people, Person: in.Person, Answers: in.Answers, Day: a.Now()}
	if in.Data != "" {
		if from.Page, err = base64.StdEncoding.DecodeString(in.Data); err != nil {
			return create.Result{}, "", fmt.Errorf("%w: data is not base64: %w", errBad, err)
		}
	}
	if in.Clean {
		from.Clean = &clean.Options{Tracking: in.Tracking, JoinText: in.JoinText}
	}
	r, err := create.From(from)
	return r, in.Author, unreadable(err)
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
