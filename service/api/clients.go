package api

import (
	"context"
	"net/http"
	"slices"

	"github.com/gin-gonic/gin"

	"missivum/core/check"
	"missivum/core/client"
	"missivum/core/fix"
	"missivum/core/person"
	"missivum/core/problem"
	"missivum/core/template"
)

// profiles are the client profiles with the ids; for none all that are not switched off.
func (a *API) profiles(ctx context.Context, ids []string) ([]*client.Profile, error) {
	book, _, err := a.Clients.Book(ctx)
	if err != nil {
		return nil, err
	}
	list, err := book.Select(ids)
	if err != nil {
		return nil, problem.As(problem.Invalid, err)
	}
	return list, nil
}

// listClients answers GET /clients: the client profiles.
func (a *API) listClients(c *gin.Context) {
	book, _, err := a.Clients.Book(c.Request.Context())
	answer(a, c, book, err)
}

// getClient answers GET /clients/{id}: one client profile.
func (a *API) getClient(c *gin.Context) {
	book, _, err := a.Clients.Book(c.Request.Context())
	if err != nil {
		a.fail(c, err)
		return
	}
	p := book.Find(c.Param("id"))
	if p == nil {
		a.fail(c, problem.Missing("client profile", c.Param("id")))
		return
	}
	reply(c, http.StatusOK, p)
}

// ClientDocument is a client profile as it can be edited.
type ClientDocument struct {
	Document string `json:"document"` // YAML
	Own      bool   `json:"own"`      // the organisation's own, not one that only shows how to begin
}

// getClientDocument answers GET /clients/{id}/document: a client profile as it can be edited, the organisation's own
// or the beginning of one.
func (a *API) getClientDocument(c *gin.Context) {
	text, own, err := a.Clients.Document(c.Request.Context(), c.Param("id"))
	answer(a, c, ClientDocument{text, own}, err)
}

// putClientDocument answers PUT /clients/{id}/document: store the organisation's own client profile. It stands over a
// shipped one of the same id.
func (a *API) putClientDocument(c *gin.Context) {
	in, ok := body[ClientDocument](a, c)
	if !ok {
		return
	}
	p, err := a.Clients.Put(c.Request.Context(), c.Param("id"), in.Document)
	answer(a, c, p, err)
}

// removeClientDocument answers DELETE /clients/{id}/document: remove the organisation's own client profile. A shipped
// one is then as it came.
func (a *API) removeClientDocument(c *gin.Context) {
	if err := a.Clients.Remove(c.Request.Context(), c.Param("id")); err != nil {
		a.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// fixRequest asks for fixes of a stored template or of a draft of it.
type fixRequest struct {
	template.Draft
	Clients []string `json:"clients"`
	Checks  []string `json:"checks"` // none: every fix that is safe
	Except  []string `json:"except"` // checks whose findings are left
	At      *int     `json:"at"`     // byte offset of the one finding to fix; it needs one check
}

// fixTemplate answers POST /templates/{name}/fix: put findings right in a template's source. Nothing is stored.
func (a *API) fixTemplate(c *gin.Context) {
	var in fixRequest
	input, ok := a.readChecked(c, &in, &in.Draft, &in.Clients)
	if !ok {
		return
	}
	options := fix.Options{Checks: in.Checks, Except: in.Except, At: -1}
	if in.At != nil {
		options.At = *in.At
	}
	r, err := fix.Run(c.Request.Context(), input, options)
	answer(a, c, r, err)
}

// mapTemplate answers POST /templates/{name}/map: the survival map of a template.
func (a *API) mapTemplate(c *gin.Context) {
	var in checkRequest
	input, ok := a.readChecked(c, &in, &in.Draft, &in.Clients)
	if !ok {
		return
	}
	m, err := check.Survival(c.Request.Context(), input)
	if err != nil {
		err = problem.As(problem.Invalid, err)
	}
	answer(a, c, m, err)
}

// readChecked reads a request about a template or a draft of it and gives what the checks look at, or answers with
// the problem. Which clients the request names stands in clients; nil for all.
func (a *API) readChecked(c *gin.Context, request any, draft *template.Draft, clients *[]string) (check.Input, bool) {
	s, err := a.readSubject(c, request, draft)
	if err != nil {
		a.fail(c, err)
		return check.Input{}, false
	}
	var ids []string
	if clients != nil {
		ids = *clients
	}
	profiles, err := a.profiles(c.Request.Context(), ids)
	if err != nil {
		a.fail(c, err)
		return check.Input{}, false
	}
	in := check.Input{Template: s.template, People: s.concerned, Profiles: profiles, Day: a.Now()}
	if r, ok := request.(interface{ named() []string }); ok && !allIn(s.concerned, r.named()) {
		in.People = s.people
	}
	if len(s.people.People) == 0 {
		in.People = nil
	}
	return in, true
}

// allIn reports whether people who are named by mail address are in a directory; a blank one is.
func allIn(d *person.Directory, mails []string) bool {
	return !slices.ContainsFunc(mails, func(mail string) bool { return mail != "" && d.Find(mail) == nil })
}
