package api

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"missivum/core/filename"
	"missivum/core/problem"
	"missivum/core/proof"
	"missivum/service/access"
	"missivum/service/personal"
	"missivum/service/store"
)

// personalRoutes adds the routes of the page of one's own signature, and of those who keep it.
func (a *API) personalRoutes(v1 *gin.RouterGroup) {
	v1.POST("/personal/open", a.limit(maxSignIn), a.openPersonal)
	v1.DELETE("/personal/device", a.closePersonal)
	v1.GET("/personal", a.getPersonal)
	v1.PUT("/personal/choice", a.limit(maxSignIn), a.putPersonalChoice)
	v1.POST("/personal/signature", a.limit(maxSignIn), a.quick, a.prepareSignature)
	v1.POST("/personal/check", a.limit(maxChecked), a.quick, a.checkSignature)
	v1.GET("/personal/files", a.getPersonalFiles)
	v1.GET("/personal/picture", a.getPersonalPicture)
	v1.GET("/personal/details", a.getDetails)
	v1.PUT("/personal/details", a.limit(MaxJSON), a.putDetails)
	v1.POST("/personal/details/wrong", a.limit(maxSignIn), a.reportDetail)

	v1.POST("/messages/diagnose", a.limit(maxChecked), a.quick, a.diagnoseMessage)

	v1.GET("/personal/links", a.listPersonalLinks)
	v1.POST("/personal/links", a.limit(maxSignIn), a.addPersonalLink)
	v1.DELETE("/personal/links/:id", a.revokePersonalLink)
	v1.POST("/personal/invitations", a.limit(MaxJSON), a.sendInvitations)
	v1.POST("/personal/invitations/drafts", a.limit(MaxJSON), a.draftInvitations)
	v1.POST("/personal/invitations/who", a.limit(MaxJSON), a.whoIsInvited)
	v1.GET("/personal/requests", a.listDetailRequests)
	v1.POST("/personal/requests/:id/accept", a.decideDetailRequest(true))
	v1.POST("/personal/requests/:id/refuse", a.decideDetailRequest(false))
	v1.GET("/personal/settings", a.getPersonalSettings)
	v1.PUT("/personal/settings", a.limit(MaxJSON), a.putPersonalSettings)
}

// maxChecked is how large what is pasted, or a message, may be with its base64, in bytes.
const maxChecked = 28 << 20

// deviceCookie is the name of the cookie by which a device is known that opened a personal link. It goes nowhere but to the page's own
// routes.
const deviceCookie = "missivum-personal"

const personalPath = "/api/v1/personal"

// byLink finds out who comes by a personal link; visited is false for a request that has none, or that is not of the page.
func (a *API) byLink(c *gin.Context, ctx context.Context) (visited bool, err error) {
	if p, known := Needs(c.Request.Method, c.FullPath()); !known || p != access.Own {
		return false, nil
	}
	cookie, err := c.Request.Cookie(deviceCookie)
	if err != nil {
		return false, nil // no cookie
	}
	v, ok, err := a.Personal.Visitor(ctx, cookie.Value)
	if err != nil || !ok {
		return false, err
	}
	c.Request = c.Request.WithContext(ctx)
	a.actAs(c, who{rights: access.Rights{Link: true}, visitor: v}, access.Principal{Kind: access.Person, Name: v.Person})
	return true, nil
}

// visitor is whose page is asked for: of who came by a link, or of the account that signed in, whose name is the mail address.
func (a *API) visitor(c *gin.Context) (personal.Visitor, bool) {
	w := from(c)
	if w.visitor.Person != "" {
		return w.visitor, true
	}
	if w.account.Name != "" {
		known, err := a.Desks.Known(c.Request.Context(), w.account.Name)
		if err == nil && !known {
			err = problem.New(
				problem.NotFound,
				"The directory has nobody with the address %s, so there is no signature for this account.",
				w.account.Name,
			)
		}
		if err != nil {
			a.fail(c, err)
			return personal.Visitor{}, false
		}
		return personal.SignedIn(w.account.Name), true
	}
	a.fail(c, problem.New(problem.NotFound, "Open the personal link that you were sent: by it your page is known."))
	return personal.Visitor{}, false
}

// visiting reads whose page is asked for and the request's JSON, or answers with the problem.
func visiting[T any](a *API, c *gin.Context) (v personal.Visitor, in T, ok bool) {
	if v, ok = a.visitor(c); ok {
		in, ok = body[T](a, c)
	}
	return v, in, ok
}

// PersonalToken is what a personal link ends with.
type PersonalToken struct {
	Token string `json:"token"`
}

// PersonalOpened says what the device may do.
type PersonalOpened struct {
	Changes bool      `json:"changes"` // things can be changed from this device
	Ends    time.Time `json:"ends"`
}

// openPersonal answers POST /personal/open: takes the end of a link, and lets the device keep a cookie instead.
func (a *API) openPersonal(c *gin.Context) {
	in, ok := body[PersonalToken](a, c)
	if !ok {
		return
	}
	kept := ""
	if cookie, err := c.Request.Cookie(deviceCookie); err == nil {
		kept = cookie.Value
	}
	keep, ends, v, err := a.Personal.Open(c.Request.Context(), in.Token, kept)
	if err != nil {
		a.fail(c, err)
		return
	}
	http.SetCookie(c.Writer, &http.Cookie{Name: deviceCookie, Value: keep, Path: personalPath, Expires: ends, HttpOnly: true, Secure: a.Secure,
		SameSite: http.SameSiteStrictMode})
	reply(c, http.StatusOK, PersonalOpened{!v.Guest, ends})
}

// closePersonal answers DELETE /personal/device: this device forgets whose page it opened.
func (a *API) closePersonal(c *gin.Context) {
	http.SetCookie(c.Writer, &http.Cookie{Name: deviceCookie, Path: personalPath, MaxAge: -1, HttpOnly: true, Secure: a.Secure,
		SameSite: http.SameSiteStrictMode})
	c.Status(http.StatusNoContent)
}

// getPersonal answers GET /personal: what the page begins with.
func (a *API) getPersonal(c *gin.Context) {
	if v, ok := a.visitor(c); ok {
		o, err := a.Personal.Overview(c.Request.Context(), v)
		answer(a, c, o, err)
	}
}

// PersonalChoice is the program and the language that somebody uses.
type PersonalChoice struct {
	Client   string `json:"client"`
	Language string `json:"language"`
}

// putPersonalChoice answers PUT /personal/choice.
func (a *API) putPersonalChoice(c *gin.Context) {
	v, in, ok := visiting[PersonalChoice](a, c)
	if !ok {
		return
	}
	err := a.Personal.Choose(c.Request.Context(), v, store.PersonalChoice{Client: in.Client, Language: in.Language})
	answer(a, c, in, err)
}

// prepareSignature answers POST /personal/signature: what is copied into a program, and how it will be there.
func (a *API) prepareSignature(c *gin.Context) {
	v, in, ok := visiting[personal.Asked](a, c)
	if !ok {
		return
	}
	out, err := a.Personal.Signature(c.Request.Context(), v, in)
	answer(a, c, out, err)
}

// SignatureCheck is what somebody pasted, or a message.
type SignatureCheck struct {
	Client    string `json:"client"`
	Situation string `json:"situation"`
	HTML      string `json:"html"`
	Text      string `json:"text"`
	Message   []byte `json:"message"` // RFC 5322; in JSON as base64
}

// SignatureAnswer says whether it is right.
type SignatureAnswer struct {
	proof.Verdict
	Sorts []proof.Sort `json:"sorts"` // what the kinds of its differences mean
}

// checkSignature answers POST /personal/check.
func (a *API) checkSignature(c *gin.Context) {
	v, in, ok := visiting[SignatureCheck](a, c)
	if !ok {
		return
	}
	verdict, err := a.Personal.Check(c.Request.Context(), v, personal.Pasted{Client: in.Client, Situation: in.Situation, HTML: in.HTML,
		Text: in.Text, Message: in.Message})
	out := SignatureAnswer{Verdict: verdict}
	for _, k := range verdict.Kinds() {
		out.Sorts = append(out.Sorts, k.About())
	}
	answer(a, c, out, err)
}

// DiagnoseRequest is a message.
type DiagnoseRequest struct {
	Message []byte `json:"message"` // RFC 5322; in JSON as base64
}

// diagnoseMessage answers POST /messages/diagnose: why the signature, or its pictures, are missing or wrong in a message.
func (a *API) diagnoseMessage(c *gin.Context) {
	in, ok := body[DiagnoseRequest](a, c)
	if !ok {
		return
	}
	r, err := a.Personal.Diagnose(c.Request.Context(), in.Message)
	answer(a, c, r, err)
}

// getPersonalFiles answers GET /personal/files: the files for a program, as an archive.
func (a *API) getPersonalFiles(c *gin.Context) {
	v, ok := a.visitor(c)
	if !ok {
		return
	}
	var b bytes.Buffer
	signed, name := c.Query("signed") == "true", "signature-"+c.Query("client")
	if signed {
		name = "kit-" + c.Query("client")
	}
	if err := a.Personal.Files(c.Request.Context(), v, c.Query("client"), signed, &b); err != nil {
		a.fail(c, err)
		return
	}
	c.Header("Content-Disposition", fmt.Sprintf(`attachment; filename="%s.zip"`, filename.Safe(name)))
	c.Data(http.StatusOK, "application/zip", b.Bytes())
}

// getPersonalPicture answers GET /personal/picture: the signature as one hosted picture, for boxes that take nothing else.
func (a *API) getPersonalPicture(c *gin.Context) {
	v, ok := a.visitor(c)
	if !ok {
		return
	}
	if !a.Drawings.TryAcquire(1) {
		a.fail(c, problem.New(problem.Busy, "Other pictures are being drawn; try again in a moment."))
		return
	}
	defer a.Drawings.Release(1)
	p, err := a.Personal.Picture(c.Request.Context(), v, c.Query("situation"))
	answer(a, c, p, err)
}

// getDetails answers GET /personal/details.
func (a *API) getDetails(c *gin.Context) {
	if v, ok := a.visitor(c); ok {
		d, err := a.Personal.Details(c.Request.Context(), v)
		answer(a, c, d, err)
	}
}

// DetailValues are details by field.
type DetailValues struct {
	Values map[string]string `json:"values"`
}

// putDetails answers PUT /personal/details, with the details as they are then.
func (a *API) putDetails(c *gin.Context) {
	v, in, ok := visiting[DetailValues](a, c)
	if !ok {
		return
	}
	if err := a.Personal.Change(c.Request.Context(), v, in.Values); err != nil {
		a.fail(c, err)
		return
	}
	d, err := a.Personal.Details(c.Request.Context(), v)
	answer(a, c, d, err)
}

// WrongDetail says that a value of the directory is wrong.
type WrongDetail struct {
	Field string `json:"field"`
	Note  string `json:"note"`
}

// reportDetail answers POST /personal/details/wrong.
func (a *API) reportDetail(c *gin.Context) {
	v, in, ok := visiting[WrongDetail](a, c)
	if !ok {
		return
	}
	if err := a.Personal.Report(c.Request.Context(), v, in.Field, in.Note); err != nil {
		a.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// PersonalLink is a link as those see it who make links.
type PersonalLink struct {
	ID      int64     `json:"id"`
	Person  string    `json:"person"`
	Created time.Time `json:"created"`
	Ends    time.Time `json:"ends"`
	Opened  time.Time `json:"opened,omitzero"`
	Revoked time.Time `json:"revoked,omitzero"`
	Address string    `json:"address,omitempty"` // shown once, when it is made
}

func personalLinkOf(l store.PersonalLink, address string) PersonalLink {
	return PersonalLink{l.ID, l.Person, l.Created, l.Ends, l.Opened, l.Revoked, address}
}

// listPersonalLinks answers GET /personal/links: the newest links.
func (a *API) listPersonalLinks(c *gin.Context) {
	links, err := a.Personal.Links(c.Request.Context(), c.Query("search"))
	list := []PersonalLink{}
	for _, l := range links {
		list = append(list, personalLinkOf(l, ""))
	}
	answer(a, c, list, err)
}

// NewPersonalLink says for whom a link is made.
type NewPersonalLink struct {
	Person string `json:"person"`
}

// addPersonalLink answers POST /personal/links: makes a link, which is shown this once; links of the person before end.
func (a *API) addPersonalLink(c *gin.Context) {
	in, ok := body[NewPersonalLink](a, c)
	if !ok {
		return
	}
	address, link, err := a.Personal.Link(c.Request.Context(), in.Person)
	if err != nil {
		a.fail(c, err)
		return
	}
	reply(c, http.StatusCreated, personalLinkOf(link, address))
}

// id reads the number in a path, or answers with the problem.
func (a *API) id(c *gin.Context, what string) (int64, bool) {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil {
		a.fail(c, problem.Missing(what, c.Param("id")))
	}
	return id, err == nil
}

// revokePersonalLink answers DELETE /personal/links/{id}.
func (a *API) revokePersonalLink(c *gin.Context) {
	id, ok := a.id(c, "personal link")
	if !ok {
		return
	}
	if err := a.Personal.Revoke(c.Request.Context(), id); err != nil {
		a.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// Sending is a sending that has begun.
type Sending struct {
	Job     job              `json:"job"`
	Invited personal.Invited `json:"invited"`
}

// sendInvitations answers POST /personal/invitations: begins to send messages.
func (a *API) sendInvitations(c *gin.Context) {
	in, ok := body[personal.Invite](a, c)
	if !ok {
		return
	}
	record, out, err := a.Personal.Send(c.Request.Context(), in)
	if err != nil {
		a.fail(c, err)
		return
	}
	reply(c, http.StatusAccepted, Sending{jobOf(record), out})
}

// draftInvitations answers POST /personal/invitations/drafts: messages as drafts, in an archive.
func (a *API) draftInvitations(c *gin.Context) {
	in, ok := body[personal.Invite](a, c)
	if !ok {
		return
	}
	var b bytes.Buffer
	if _, err := a.Personal.Drafts(c.Request.Context(), in, &b); err != nil {
		a.fail(c, err)
		return
	}
	c.Header("Content-Disposition", `attachment; filename="invitations.zip"`)
	c.Data(http.StatusOK, "application/zip", b.Bytes())
}

// whoIsInvited answers POST /personal/invitations/who: who would be written to, and how many are left out and why.
func (a *API) whoIsInvited(c *gin.Context) {
	in, ok := body[personal.Invite](a, c)
	if !ok {
		return
	}
	out, err := a.Personal.Who(c.Request.Context(), in)
	answer(a, c, out, err)
}

// listDetailRequests answers GET /personal/requests.
func (a *API) listDetailRequests(c *gin.Context) {
	list, err := a.Personal.Requests(c.Request.Context(), c.DefaultQuery("state", "open"))
	answer(a, c, list, err)
}

// decideDetailRequest answers POST /personal/requests/{id}/accept and refuse.
func (a *API) decideDetailRequest(accept bool) gin.HandlerFunc {
	return func(c *gin.Context) {
		id, ok := a.id(c, "request")
		if !ok {
			return
		}
		if err := a.Personal.Decide(c.Request.Context(), id, accept); err != nil {
			a.fail(c, err)
			return
		}
		c.Status(http.StatusNoContent)
	}
}

// PersonalSettings are what the organisation says about the page, and whether messages can be sent.
type PersonalSettings struct {
	personal.Settings
	Server bool `json:"server"` // a mail server is set
}

// getPersonalSettings answers GET /personal/settings.
func (a *API) getPersonalSettings(c *gin.Context) {
	s, err := a.Personal.Settings(c.Request.Context())
	answer(a, c, PersonalSettings{s, a.Personal.Mail.Server != ""}, err)
}

// putPersonalSettings answers PUT /personal/settings.
func (a *API) putPersonalSettings(c *gin.Context) {
	in, ok := body[PersonalSettings](a, c)
	if !ok {
		return
	}
	err := a.Personal.PutSettings(c.Request.Context(), in.Settings)
	in.Server = a.Personal.Mail.Server != ""
	answer(a, c, in, err)
}
