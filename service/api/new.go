package api

import (
	"encoding/base64"
	"fmt"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"missivum/core/clean"
	"missivum/core/compose"
	"missivum/core/create"
	"missivum/core/problem"
	"missivum/core/recognise"
	"missivum/core/starter"
	"missivum/core/template"
	"missivum/service/templates"
)

// Starter is a template to start from.
type Starter struct {
	Name     string   `json:"name"`
	Title    string   `json:"title"`
	About    string   `json:"about"`
	Variants []string `json:"variants"`
}

// cleanRequest asks for a cleaned source.
type cleanRequest struct {
	Source   string `json:"source"`
	Tracking bool   `json:"tracking"`
	JoinText bool   `json:"joinText"`
	// IndentOnly changes nothing but white space and the spelling of tags.
	IndentOnly bool `json:"indentOnly"`
}

// newRequest says what a new template is made of: a starter or a page. With a person the page is that person's
// signature.
type newRequest struct {
	Starter  string            `json:"starter"` // or
	Text     string            `json:"text"`    // a page; or
	Data     string            `json:"data"`    // its bytes, base64: its character set is recognised
	Clean    bool              `json:"clean"`
	Tracking bool              `json:"tracking"`
	JoinText bool              `json:"joinText"`
	Person   string            `json:"person"`  // mail address; empty for a page that is nobody's signature
	Answers  map[string]string `json:"answers"` // to the questions about recognised values, by their id
}

// NewPreview is what a new template would be.
type NewPreview struct {
	Source     string        `json:"source"`
	Settings   string        `json:"settings"`
	Charset    string        `json:"charset"`
	Note       string        `json:"note"`       // what should be known of the character set; may be empty
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
	Remaining   []recognise.Remaining  `json:"remaining"`   // what stays of the person for everybody, or may be theirs
	NotFound    []string               `json:"notFound"`    // fields of the person that stand nowhere
}

// fillRequest asks for one form of a signature as a file, or for the set of three as an archive.
type fillRequest struct {
	template.Draft
	Person  string       `json:"person"`  // mail address
	Variant string       `json:"variant"` // empty: the template's first
	Form    compose.Form `json:"form"`    // one of the forms, or set
	Day     string       `json:"day"`     // for which dated pieces are decided, such as 2026-12-24; empty: today
	Base    string       `json:"base"`    // of a set's files; empty: the template's name and the variant
	Header  []byte       `json:"header"`  // with the form mime: the file whose header lines are kept
}

// setForm is what stands for the set of three formats.
const setForm = "set"

// listForms answers GET /forms: the forms of a signature.
func (a *API) listForms(c *gin.Context) { reply(c, http.StatusOK, compose.FormInfos()) }

// listStarters answers GET /starters: the templates to start from.
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
	reply(c, http.StatusOK, list)
}

// cleanSource answers POST /clean: a source without leftovers, indented; nothing is saved.
func (a *API) cleanSource(c *gin.Context) {
	var in cleanRequest
	if err := readJSON(c, &in); err != nil {
		a.fail(c, err)
		return
	}
	r, err := clean.Clean(in.Source, clean.Options{Tracking: in.Tracking, JoinText: in.JoinText, IndentOnly: in.IndentOnly})
	if err != nil {
		a.fail(c, err)
		return
	}
	reply(c, http.StatusOK, r)
}

// previewNewTemplate says what a template would be; nothing is saved.
func (a *API) previewNewTemplate(c *gin.Context) {
	r, err := a.created(c)
	if err != nil {
		a.fail(c, err)
		return
	}
	out := NewPreview{
		Source: r.Parts.Source, Settings: r.Parts.Settings, Charset: r.Charset.Charset, Note: r.Charset.Note(),
		Pictures: orEmpty(r.Pictures), Missing: orEmpty(r.Missing), Cleaned: r.Cleaned,
	}
	if found := r.Recognised; found != nil {
		out.Recognised = &Recognised{orEmpty(found.Found), orEmpty(found.Questions), orEmpty(found.Differences),
			orEmpty(found.Remaining), orEmpty(found.NotFound)}
	}
	reply(c, http.StatusOK, out)
}

// newTemplate saves a new template.
func (a *API) newTemplate(c *gin.Context) {
	r, err := a.created(c)
	if err != nil {
		a.fail(c, err)
		return
	}
	a.saved(c)(a.Templates.Save(c.Request.Context(), c.Param("name"), template.Whole(r.Parts), templates.Edit{Note: r.Note}))
}

// created reads a request for a new template and makes it.
func (a *API) created(c *gin.Context) (create.Result, error) {
	var in newRequest
	if err := readJSON(c, &in); err != nil {
		return create.Result{}, err
	}
	people, _, err := a.People.Directory(c.Request.Context())
	if err != nil {
		return create.Result{}, err
	}
	from := create.Input{Starter: in.Starter, Page: []byte(in.Text), People: people, Person: in.Person, Answers: in.Answers, Day: a.Now()}
	if in.Data != "" {
		if from.Page, err = base64.StdEncoding.DecodeString(in.Data); err != nil {
			return create.Result{}, problem.New(problem.Invalid, "Data is not base64: %w", err)
		}
	}
	if in.Clean {
		from.Clean = &clean.Options{Tracking: in.Tracking, JoinText: in.JoinText}
	}
	return create.From(from)
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
	var in fillRequest
	s, err := a.readSubject(c, &in, &in.Draft)
	if err != nil {
		a.fail(c, err)
		return
	}
	day, err := a.day(in.Day)
	if err != nil {
		a.fail(c, err)
		return
	}
	variant, err := s.variant(in.Variant)
	if err != nil {
		a.fail(c, err)
		return
	}
	who, err := s.person(in.Person)
	if err != nil {
		a.fail(c, err)
		return
	}
	if in.Form == setForm {
		files, err := compose.SetFiles(s.template, s.people.Schema, day, variant, in.Base, who)
		a.sendZip(c, s.template.Name+"-"+variant+"-set.zip", files, err)
		return
	}
	info := in.Form.Info()
	if info.Suffix == "" {
		a.fail(c, problem.New(problem.Invalid, "There is no form %q.", in.Form).In("form"))
		return
	}
	signature, err := a.Templates.Compiled(s.template, s.people.Schema, s.revision, day, variant, in.Form)
	if err != nil {
		a.fail(c, err)
		return
	}
	data := signature.Fill(variant, in.Form, who)
	if in.Form == compose.MIME && len(in.Header) > 0 {
		if data, err = compose.ReplaceBody(in.Header, signature.HostedPage(variant, who)); err != nil {
			a.fail(c, problem.As(problem.Refused, err))
			return
		}
	}
	c.Header("Content-Disposition", fmt.Sprintf("attachment; filename=%q", s.template.Name+"-"+variant+info.Suffix))
	c.Data(http.StatusOK, info.Media, data)
}

// day is the day that a request names, or today.
func (a *API) day(text string) (time.Time, error) {
	if text == "" {
		return a.Now(), nil
	}
	day, err := time.Parse(time.DateOnly, text)
	if err != nil {
		return day, problem.New(problem.Invalid, "%q is not a date; write it as 2026-12-24.", text).In("day")
	}
	return day, nil
}
