package api

import (
	"context"
	"fmt"
	"net/http"

	"github.com/gin-gonic/gin"

	"missivum/core/check"
	"missivum/core/client"
	"missivum/core/compose"
	"missivum/core/person"
	"missivum/core/preview"
	"missivum/core/problem"
	"missivum/core/sheet"
	"missivum/core/shrink"
	"missivum/core/template"
	"missivum/service/drawing"
)

// shrinkRequest asks how a template gets below a client's limit.
type shrinkRequest struct {
	template.Draft
	Client string `json:"client"`
	Target int    `json:"target"` // characters; 0: the client's own limit
}

// Shrunk says how far a template fits, and with which settings.
type Shrunk struct {
	*shrink.Result
	Settings string `json:"settings"` // template.yaml with the steps that keep the look
}

// spaceRequest asks what takes up the space in one person's signature.
type spaceRequest struct {
	template.Draft
	Client  string `json:"client"`
	Variant string `json:"variant"` // empty: the template's first
	Person  string `json:"person"`  // mail address; empty: the template's own marks
}

// pasteRequest asks for a real copy and paste in the installed Chromium.
type pasteRequest struct {
	template.Draft
	Variant string `json:"variant"` // empty: the template's first
	Person  string `json:"person"`  // mail address; empty shows the field names
}

// Pasted compares a predicted paste with a real one, both before a client changes anything.
type Pasted struct {
	Predicted int `json:"predicted"` // characters, UTF-16 units
	Measured  int `json:"measured"`
	InGecko   int `json:"inGecko"` // predicted for a browser with the Gecko engine
}

// sheetRequest asks for a contact sheet.
type sheetRequest struct {
	template.Draft
	Clients       []string     `json:"clients"`       // empty: all
	People        []string     `json:"people"`        // mail addresses; empty: the sample and the hardest case
	Views         []sheet.View `json:"views"`         // empty: light and dark
	Variant       string       `json:"variant"`       // empty: the template's first
	Form          string       `json:"form"`          // png or html
	SecondOpinion bool         `json:"secondOpinion"` // LibreOffice Writer's drawing beside the word-processor client
}

// shrinkTemplate answers POST /templates/{name}/shrink: how a template gets below a client's limit. Nothing is
// stored.
func (a *API) shrinkTemplate(c *gin.Context) {
	var in shrinkRequest
	input, ok := a.readChecked(c, &in, &in.Draft, nil)
	if !ok {
		return
	}
	if in.Target < 0 {
		a.fail(c, problem.New(problem.Invalid, "The target must be a number of characters."))
		return
	}
	r, err := shrink.Run(c.Request.Context(), input, in.Client, in.Target)
	if err != nil {
		a.fail(c, err)
		return
	}
	settings, err := template.WithSetting(input.Template.SettingsText, true, "compact")
	answer(a, c, Shrunk{r, settings}, err)
}

// spaceOfTemplate answers POST /templates/{name}/space: what takes up the space in one person's signature.
func (a *API) spaceOfTemplate(c *gin.Context) {
	var in spaceRequest
	input, ok := a.readChecked(c, &in, &in.Draft, nil)
	if !ok {
		return
	}
	variant, who, err := sitterOf(input, in.Variant, in.Person)
	if err != nil {
		a.fail(c, err)
		return
	}
	space, err := shrink.SpaceOf(input, in.Client, variant, who)
	answer(a, c, space, err)
}

// sitterOf settles whose signature in which variant a request means; nobody is nil.
func sitterOf(in check.Input, variant, mail string) (string, *person.Person, error) {
	variant, err := subject{template: in.Template}.variant(variant)
	if err != nil || mail == "" {
		return variant, nil, err
	}
	if in.People == nil {
		return "", nil, problem.New(problem.Invalid, "There is nobody in the directory.")
	}
	i, err := in.People.Named(mail)
	if err != nil {
		return "", nil, problem.As(problem.Invalid, err)
	}
	return variant, &in.People.People[i], nil
}

// pasteTemplate answers POST /templates/{name}/paste: a real copy and paste in the installed Chromium beside the
// predicted one.
func (a *API) pasteTemplate(c *gin.Context) {
	var in pasteRequest
	s, err := a.readSubject(c, &in, &in.Draft)
	if err != nil {
		a.fail(c, err)
		return
	}
	variant, who, err := sitterOf(check.Input{Template: s.template, People: s.people}, in.Variant, in.Person)
	if err != nil {
		a.fail(c, err)
		return
	}
	if who == nil {
		who = compose.FieldNames(s.people.Schema)
	}
	copied, err := preview.Paste(s.template, s.people.Schema, a.Now(), variant, who)
	if err != nil {
		a.fail(c, err)
		return
	}
	measured, err := oneAtATime(a, c, func(ctx context.Context) (string, error) { return drawing.Pasted(ctx, copied.Shown) })
	answer(a, c, Pasted{client.Units(copied.Pasted), client.Units(measured), client.Units(copied.InGecko)}, err)
}

// oneAtATime lets a browser draw when no other request does; the error is that of drawing, or the caller's going away.
func oneAtATime[T any](a *API, c *gin.Context, draw func(context.Context) (T, error)) (T, error) {
	ctx := c.Request.Context()
	if err := a.Drawings.Acquire(ctx, 1); err != nil {
		var none T
		return none, err
	}
	defer a.Drawings.Release(1)
	return draw(ctx)
}

// sheetOfTemplate answers POST /templates/{name}/sheet: the contact sheet as a picture or a page.
func (a *API) sheetOfTemplate(c *gin.Context) {
	var in sheetRequest
	input, ok := a.readChecked(c, &in, &in.Draft, &in.Clients)
	if !ok {
		return
	}
	chosen, err := a.chosenFor(&in, input)
	if err != nil {
		a.fail(c, err)
		return
	}
	report, err := check.Run(c.Request.Context(), input)
	if err != nil {
		a.fail(c, err)
		return
	}
	page := sheet.Input{Template: input.Template, People: input.People, Chosen: chosen, Profiles: input.Profiles,
		Views: in.Views, Variant: in.Variant, Day: input.Day}
	data, err := oneAtATime(a, c, func(ctx context.Context) ([]byte, error) {
		return drawing.Sheet(ctx, page, report, drawing.SheetOptions{Picture: in.Form == "png", SecondOpinion: in.SecondOpinion})
	})
	if err != nil {
		a.fail(c, err)
		return
	}
	media := map[string]string{"png": "image/png", "html": "text/html; charset=utf-8"}[in.Form]
	c.Header("Content-Disposition", fmt.Sprintf("attachment; filename=%q", input.Template.Name+"-sheet."+in.Form))
	c.Header("Content-Security-Policy", "default-src 'none'; sandbox")
	c.Data(http.StatusOK, media, data)
}

// chosenFor settles what a request for a sheet leaves open, and gives the people who stand on it.
func (a *API) chosenFor(in *sheetRequest, input check.Input) ([]int, error) {
	if in.Form != "png" && in.Form != "html" {
		return nil, problem.New(problem.Invalid, "The form %q is not known; it is png or html.", in.Form)
	}
	if len(in.Views) == 0 {
		in.Views = []sheet.View{sheet.Light, sheet.Dark}
	}
	if err := sheet.CheckViews(in.Views); err != nil {
		return nil, problem.As(problem.Invalid, err)
	}
	if input.People == nil {
		return nil, problem.New(problem.Invalid, "There is nobody in the directory.")
	}
	if _, err := (subject{template: input.Template}).variant(in.Variant); err != nil {
		return nil, err
	}
	chosen, err := sheet.Choose(input.Template, input.People, in.People)
	if err != nil {
		return nil, problem.As(problem.Invalid, err)
	}
	return chosen, nil
}

// named are the people whom a request names.
func (r spaceRequest) named() []string { return []string{r.Person} }

// named are the people whom a request names.
func (r sheetRequest) named() []string { return r.People }
