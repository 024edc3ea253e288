package api

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"missivum/core/check"
	"missivum/core/client"
	"missivum/core/compose"
	"missivum/core/journey"
	"missivum/core/person"
	"missivum/core/picture"
	"missivum/core/preview"
	"missivum/core/problem"
	"missivum/core/style"
	"missivum/core/template"
	"missivum/service/templates"
)

// TemplateSummary is a template in a list.
type TemplateSummary struct {
	Name     string          `json:"name"`
	Title    string          `json:"title"`
	About    string          `json:"about"`
	Number   int             `json:"number"`  // of the latest version
	Version  string          `json:"version"` // of its content
	Saved    time.Time       `json:"saved"`
	Variants []string        `json:"variants"`
	Pictures int             `json:"pictures"`
	State    templates.State `json:"state"`
	Problem  string          `json:"problem"` // why it cannot be read or checked; empty when it can
}

// TemplateDetail is a version of a template.
type TemplateDetail struct {
	Name     string            `json:"name"`
	Title    string            `json:"title"`
	Number   int               `json:"number"`
	Version  string            `json:"version"`
	Note     string            `json:"note"`
	Author   string            `json:"author"`
	Saved    time.Time         `json:"saved"`
	Source   string            `json:"source"`
	Settings string            `json:"settings"`
	Texts    map[string]string `json:"texts"` // text forms written by hand, by file
	Variants []string          `json:"variants"`
	Sample   string            `json:"sample"` // mail address of the person to show first
	Pictures []PictureInfo     `json:"pictures"`
	Warnings []string          `json:"warnings"` // what did not work beside a save; nothing of it is lost
}

// PictureInfo is a picture of a template.
type PictureInfo struct {
	Name string `json:"name"` // for data-picture
	File string `json:"file"`
	Alt  string `json:"alt"`
	picture.Facts
}

// saveRequest is a new version of a template: what is left out is that of the version it was made from.
type saveRequest struct {
	template.Draft
	Note string `json:"note"`
	Base int    `json:"base"` // the version it was made from; 0 for a new template
}

// VersionInfo is one version in a template's history.
type VersionInfo struct {
	Number  int       `json:"number"`
	Version string    `json:"version"`
	Note    string    `json:"note"`
	Author  string    `json:"author"`
	Saved   time.Time `json:"saved"`
}

// checkRequest asks for findings and budgets.
type checkRequest struct {
	template.Draft
	Clients []string `json:"clients"` // empty: all
	Person  string   `json:"person"`  // mail address; empty: everybody who gets the template
}

// lookRequest asks for a signature to look at.
type lookRequest struct {
	template.Draft
	Person  string `json:"person"`  // mail address; empty shows the field names
	Variant string `json:"variant"` // empty: the template's first
	Client  string `json:"client"`  // empty: as written
	Form    string `json:"form"`    // html or text; for the look as written
	Dark    bool   `json:"dark"`    // in the client's dark mode
	Blocked bool   `json:"blocked"` // with the pictures that it does not load at first as boxes
}

// Look is a signature to look at.
type Look struct {
	Form       string     `json:"form"` // html or text
	Body       string     `json:"body"`
	Width      int        `json:"width"`      // px at which the client shows it; 0 as written
	Background string     `json:"background"` // colour behind the message
	Text       string     `json:"text"`       // colour of text that has none of its own
	Log        []LogEntry `json:"log"`
	Duration   float64    `json:"milliseconds"`
}

// LogEntry is one thing that happens on a signature's way.
type LogEntry struct {
	Stage  string `json:"stage"`
	What   string `json:"what"`
	Does   string `json:"does"`
	Says   string `json:"says"`
	Basis  string `json:"basis"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
}

// blockRequest asks for a host's block.
type blockRequest struct {
	template.Draft
	Dialect string `json:"dialect"`
	Variant string `json:"variant"`
	For     string `json:"for"`    // of a rule sheet: whose messages get the block; blank for everybody's
	Except  string `json:"except"` // of a rule sheet: when not
}

// detail is a version of a template as the interface shows it.
func detail(s templates.Stored) TemplateDetail {
	d := TemplateDetail{
		Name: s.Name, Title: s.Title(), Number: s.Number, Version: s.Version(), Note: s.Note, Author: s.Author, Saved: s.Created,
		Source: s.Source, Settings: s.SettingsText, Texts: s.Texts, Variants: s.Variants(), Sample: s.Settings.Sample,
		Pictures: []PictureInfo{}, Warnings: orEmpty(s.Warnings),
	}
	if d.Texts == nil {
		d.Texts = map[string]string{}
	}
	for _, p := range s.Pictures {
		d.Pictures = append(d.Pictures, PictureInfo{Name: p.Name, File: p.File, Alt: p.Alt, Facts: p.Facts})
	}
	return d
}

// listTemplates lists the templates. One that cannot be read stands in the list with the reason, and hides no other.
func (a *API) listTemplates(c *gin.Context) {
	ctx := c.Request.Context()
	entries, err := a.Templates.List(ctx)
	if err != nil {
		a.fail(c, err)
		return
	}
	list := []TemplateSummary{}
	for _, e := range entries {
		list = append(list, a.summary(ctx, e))
	}
	reply(c, http.StatusOK, list)
}

// summary is a template in the list. One that cannot be read is listed with the reason, and hides no other.
func (a *API) summary(ctx context.Context, e templates.Entry) TemplateSummary {
	out := TemplateSummary{Name: e.Name, Title: e.Name, Number: e.Number, Saved: e.Saved, Variants: []string{}}
	if e.Err != nil {
		out.Problem = e.Err.Error()
		return out
	}
	s := e.Stored
	out.Title, out.About, out.Version, out.Variants, out.Pictures = s.Title(), s.Settings.About, s.Version(), s.Variants(), len(s.Pictures)
	var err error
	if out.State, err = a.Templates.State(ctx, s); err != nil {
		out.Problem = err.Error()
	}
	return out
}

// getTemplate answers GET /templates/{name}: the latest version.
func (a *API) getTemplate(c *gin.Context) {
	s, err := a.Templates.Get(c.Request.Context(), c.Param("name"), 0)
	if err != nil {
		a.fail(c, err)
		return
	}
	reply(c, http.StatusOK, detail(s))
}

// getVersion answers GET /templates/{name}/versions/{number}: one version.
func (a *API) getVersion(c *gin.Context) {
	number, err := strconv.Atoi(c.Param("number"))
	if err != nil || number < 1 {
		a.fail(c, problem.New(problem.NotFound, "There is nothing at %s.", c.Request.URL.Path))
		return
	}
	s, err := a.Templates.Get(c.Request.Context(), c.Param("name"), number)
	if err != nil {
		a.fail(c, err)
		return
	}
	reply(c, http.StatusOK, detail(s))
}

// listVersions answers GET /templates/{name}/versions: all versions, newest first.
func (a *API) listVersions(c *gin.Context) {
	versions, err := a.Templates.Versions(c.Request.Context(), c.Param("name"))
	if err != nil {
		a.fail(c, err)
		return
	}
	list := []VersionInfo{}
	for _, v := range versions {
		list = append(list, VersionInfo{Number: v.Number, Version: v.Content, Note: v.Note, Author: v.Author, Saved: v.Created})
	}
	reply(c, http.StatusOK, list)
}

// readJSON reads a request body; unknown members are refused, so that a misspelt one is not lost.
func readJSON(c *gin.Context, into any) error { return decode(c.Request.Body, into) }

// decode reads one JSON value and refuses members that nobody knows: a misspelt one must not be passed over.
func decode(r io.Reader, into any) error {
	d := json.NewDecoder(r)
	d.DisallowUnknownFields()
	if err := d.Decode(into); err != nil {
		return problem.New(problem.Invalid, "The request's JSON cannot be read: %w", err)
	}
	return nil
}

// saveTemplate answers PUT /templates/{name}: save a new version of source and settings.
func (a *API) saveTemplate(c *gin.Context) {
	var in saveRequest
	if err := readJSON(c, &in); err != nil {
		a.fail(c, err)
		return
	}
	a.saved(c)(a.Templates.Save(c.Request.Context(), c.Param("name"), in.Draft, templates.Edit{Note: in.Note, Base: in.Base}))
}

// saved answers with the version that was saved.
func (a *API) saved(c *gin.Context) func(templates.Stored, error) {
	return func(s templates.Stored, err error) {
		if err != nil {
			a.fail(c, err)
			return
		}
		status := http.StatusOK
		if s.Number == 1 {
			status = http.StatusCreated
		}
		reply(c, status, detail(s))
	}
}

// getArchive answers GET /templates/{name}/archive: the template's folder as a zip.
func (a *API) getArchive(c *gin.Context) {
	s, err := a.Templates.Get(c.Request.Context(), c.Param("name"), 0)
	if err != nil {
		a.fail(c, err)
		return
	}
	c.Header("Content-Type", "application/zip")
	c.Header("Content-Disposition", fmt.Sprintf("attachment; filename=%q", s.Name+".zip"))
	if err := templates.WriteArchive(c.Writer, s.Template); err != nil {
		a.Log.Error("sending an archive", "template", s.Name, "error", err)
	}
}

// putArchive answers PUT /templates/{name}/archive: save a template's folder, given as a zip, as a new version.
func (a *API) putArchive(c *gin.Context) {
	body, err := io.ReadAll(c.Request.Body)
	if err != nil {
		a.fail(c, err)
		return
	}
	name := c.Param("name")
	t, err := templates.ReadArchive(name, body)
	if err != nil {
		a.fail(c, err)
		return
	}
	a.saved(c)(a.Templates.Save(c.Request.Context(), name, template.Whole(t.Parts()), templates.Edit{Note: c.Query("note"), Base: -1}))
}

// getPicture answers GET /templates/{name}/pictures/{file}: a picture of the latest version.
func (a *API) getPicture(c *gin.Context) {
	s, err := a.Templates.Get(c.Request.Context(), c.Param("name"), 0)
	if err != nil {
		a.fail(c, err)
		return
	}
	for _, p := range s.Pictures {
		if p.File == c.Param("file") {
			c.Header("Content-Security-Policy", "default-src 'none'; sandbox")
			c.Header("Cross-Origin-Resource-Policy", "cross-origin") // sandboxed previews have an origin of their own
			c.Data(http.StatusOK, picture.Media(p.Format), p.Data)
			return
		}
	}
	a.fail(c, problem.New(problem.NotFound, "There is nothing at %s.", c.Request.URL.Path))
}

// putPicture answers PUT /templates/{name}/pictures/{file}: save a picture; a new version of the template.
func (a *API) putPicture(c *gin.Context) {
	body, err := io.ReadAll(c.Request.Body)
	if err != nil {
		a.fail(c, err)
		return
	}
	s, err := a.Templates.Get(c.Request.Context(), c.Param("name"), 0)
	if err != nil {
		a.fail(c, err)
		return
	}
	file := c.Param("file")
	draft := template.Draft{Pictures: map[string][]byte{file: body}}
	a.saved(c)(a.Templates.Save(c.Request.Context(), s.Name, draft, templates.Edit{Note: "Picture " + file, Base: s.Number}))
}

// subject is what a request about a template is about: the draft and the directory.
type subject struct {
	template *template.Template
	people   *person.Directory
	revision int // of the directory

	concerned *person.Directory // those to whom the template is assigned; everybody while it is assigned to nobody
}

// readSubject reads a request, whose draft stands in it, and gives the saved template with what the
// draft changes.
func (a *API) readSubject(c *gin.Context, request any, d *template.Draft) (subject, error) {
	if err := readJSON(c, request); err != nil {
		return subject{}, err
	}
	people, revision, err := a.People.Directory(c.Request.Context())
	if err != nil {
		return subject{}, err
	}
	concerned, _, _, err := a.People.Assigned(c.Request.Context(), c.Param("name"))
	if err != nil {
		return subject{}, err
	}
	t, err := a.Templates.Subject(c.Request.Context(), c.Param("name"), *d)
	return subject{t, people, revision, concerned}, err
}

// person is the person of the directory with a mail address.
func (s subject) person(mail string) (*person.Person, error) {
	if who := s.people.Find(mail); who != nil {
		return who, nil
	}
	return nil, problem.New(problem.Invalid, "There is nobody with the mail address %q.", mail).In("person")
}

// variant settles which variant a request means: the template's first when it names none.
func (s subject) variant(named string) (string, error) {
	if named == "" {
		return s.template.Variants()[0], nil
	}
	if err := compose.CheckVariant(s.template, named); err != nil {
		return "", problem.As(problem.Invalid, err)
	}
	return named, nil
}

// checkTemplate answers POST /templates/{name}/check: findings and budgets, of the saved template or of a draft.
func (a *API) checkTemplate(c *gin.Context) {
	var in checkRequest
	input, ok := a.readChecked(c, &in, &in.Draft, &in.Clients)
	if !ok {
		return
	}
	if in.Person != "" {
		d, _, err := a.People.Directory(c.Request.Context())
		if err != nil {
			a.fail(c, err)
			return
		}
		who, err := (subject{people: d}).person(in.Person)
		if err != nil {
			a.fail(c, err)
			return
		}
		input.People = &person.Directory{Schema: d.Schema, People: []person.Person{*who}}
	}
	report, err := check.Run(c.Request.Context(), input)
	if in.Person != "" && err == nil { // how often a field is blank says nothing of one person
		report.Findings = slices.DeleteFunc(report.Findings, func(f check.Finding) bool { return f.Check == "often-blank" })
	}
	answer(a, c, report, err)
}

// lookAtTemplate answers POST /templates/{name}/look: the signature of a person as written or as a client shows it.
func (a *API) lookAtTemplate(c *gin.Context) {
	began := time.Now()
	var in lookRequest
	s, err := a.readSubject(c, &in, &in.Draft)
	if err != nil {
		a.fail(c, err)
		return
	}
	look, err := a.look(c.Request.Context(), s, in)
	if err != nil {
		a.fail(c, err)
		return
	}
	look.Duration = float64(time.Since(began).Microseconds()) / 1000
	reply(c, http.StatusOK, look)
}

// shownAt is where a look has its pictures: those of a draft stand in it, since nothing serves them yet.
func shownAt(name string, drafted map[string][]byte) func(*template.Picture) string {
	saved := compose.Below("/api/v1/templates/" + name + "/pictures/")
	return func(p *template.Picture) string {
		if drafted[p.File] != nil {
			return compose.Data(p)
		}
		return saved(p)
	}
}

// look fills a template for somebody and shows it as written or as a client does.
func (a *API) look(ctx context.Context, s subject, in lookRequest) (Look, error) {
	variant, err := s.variant(in.Variant)
	if err != nil {
		return Look{}, err
	}
	t, d := s.template, s.people
	who := compose.FieldNames(d.Schema)
	if in.Person != "" {
		if who, err = s.person(in.Person); err != nil {
			return Look{}, err
		}
	}
	prepared, err := compose.Prepare(t, d.Schema, a.Now(), compose.Reached(t))
	if err != nil {
		return Look{}, err
	}
	shown := preview.Preview{Prepared: prepared, ShowAt: shownAt(t.Name, in.Pictures), MarkSource: true}
	if in.Client == "" {
		if in.Form == "text" {
			in.Client = "text-reader"
		} else {
			body, err := shown.Shown(variant, who)
			return Look{Form: "html", Body: body, Log: []LogEntry{}, Background: "#ffffff", Text: "#000000"}, err
		}
	}
	chosen, err := a.profiles(ctx, []string{in.Client})
	if err != nil {
		return Look{}, err
	}
	profile := chosen[0]
	view := journey.View{Dark: in.Dark, Blocked: in.Blocked}
	kept, err := shown.Seen(profile, client.Render, view, variant, who)
	background, text := journey.Background(profile, view)
	look := Look{Form: string(kept.Form), Body: kept.Body, Width: profile.Width, Log: []LogEntry{},
		Background: style.Hex(background), Text: style.Hex(text)}
	for _, e := range kept.Log {
		place := prepared.Doc.Place(e.Span.Start)
		look.Log = append(look.Log, LogEntry{
			Stage: string(e.Stage), What: e.Subject.String(), Does: string(e.Behaviour.Does), Says: e.Behaviour.Says,
			Basis: string(e.Behaviour.Basis),
			Line:  place.Line, Column: place.Column,
		})
	}
	return look, err
}
