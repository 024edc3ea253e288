package api

import (
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"missivum/core/problem"
	"missivum/service/access"
	"missivum/service/accounts"
	"missivum/service/store"
)

// accessRoutes adds the routes about who may do what, and who did what.
func (a *API) accessRoutes(v1 *gin.RouterGroup) {
	v1.GET("/sign-in", a.getSignIn)
	v1.POST("/sign-in", a.limit(maxSignIn), a.signIn)
	v1.GET("/sign-in/provider", a.leave)
	v1.GET("/sign-in/provider/return", a.returned)
	v1.POST("/first-start", a.limit(maxSignIn), a.firstStart)
	v1.POST("/link", a.limit(maxSignIn), a.openLink)
	v1.POST("/link/password", a.limit(maxSignIn), a.choosePassword)
	v1.GET("/session", a.getSession)
	v1.DELETE("/session", a.endSession)

	v1.PUT("/account/password", a.limit(maxSignIn), a.putOwnPassword)
	v1.POST("/account/factor", a.limit(maxSignIn), a.beginFactor)
	v1.PUT("/account/factor", a.limit(maxSignIn), a.confirmFactor)
	v1.DELETE("/account/factor", a.limit(maxSignIn), a.removeFactor)
	v1.GET("/account/keys", a.listOwnKeys)
	v1.POST("/account/keys", a.limit(MaxJSON), a.addOwnKey)
	v1.DELETE("/account/keys/:name", a.removeOwnKey)

	v1.GET("/accounts", a.listAccounts)
	v1.POST("/accounts", a.limit(MaxJSON), a.addAccount)
	v1.PATCH("/accounts/:name", a.limit(MaxJSON), a.changeAccount)
	v1.DELETE("/accounts/:name", a.removeAccount)
	v1.POST("/accounts/:name/link", a.linkAccount)
	v1.POST("/accounts/:name/sign-out", a.signOutAccount)

	v1.GET("/keys", a.listKeys)
	v1.POST("/keys", a.limit(MaxJSON), a.addKey)
	v1.DELETE("/keys/:name", a.removeKey)

	v1.GET("/organisation", a.getOrganisation)
	v1.PUT("/organisation", a.limit(MaxJSON), a.putOrganisation)

	v1.GET("/record", a.listRecord)
	v1.GET("/record/words", a.listRecordWords)
	v1.GET("/record/check", a.checkRecord)
	v1.GET("/record/settings", a.getRecordSettings)
	v1.PUT("/record/settings", a.limit(MaxJSON), a.putRecordSettings)
}

// maxSignIn is how large a request may be that nobody has signed in for, in bytes.
const maxSignIn = 16 << 10

// base is the address of the service as the sender of a request knows it.
func (a *API) base(c *gin.Context) string {
	if a.Address != "" {
		return a.Address
	}
	if c.Request.TLS != nil {
		return "https://" + c.Request.Host
	}
	return "http://" + c.Request.Host
}

// SignInWays says how somebody can sign in.
type SignInWays struct {
	FirstStart bool   `json:"firstStart"` // nobody has an account yet: the printed link makes the first
	Accounts   bool   `json:"accounts"`   // false: whoever uses this machine needs none
	SignedIn   bool   `json:"signedIn"`
	Provider   string `json:"provider"` // how the identity provider is called; blank for none
}

// getSignIn answers GET /sign-in.
func (a *API) getSignIn(c *gin.Context) {
	any, err := a.Accounts.Any(c.Request.Context())
	ways := SignInWays{FirstStart: !any && !a.Loopback, Accounts: any, SignedIn: signedIn(c)}
	if a.Accounts.Provider != nil && any {
		ways.Provider = a.Accounts.Provider.Title
	}
	answer(a, c, ways, err)
}

// backFrom is where the identity provider sends browsers back to.
func (a *API) backFrom(c *gin.Context) string { return a.base(c) + "/api/v1/sign-in/provider/return" }

// leave answers GET /sign-in/provider: sends the browser to the identity provider.
func (a *API) leave(c *gin.Context) {
	if a.Accounts.Provider == nil {
		a.fail(c, problem.New(problem.NotFound, "There is no identity provider; the settings provider.issuer and provider.client name one."))
		return
	}
	sender, _, _ := net.SplitHostPort(c.Request.RemoteAddr)
	address, err := a.Accounts.Leave(c.Request.Context(), c.Writer, sender, a.backFrom(c), c.Query("to"))
	switch {
	case problem.Is(err, problem.TooOften):
		a.fail(c, err)
		return
	case err != nil:
		a.notIn(c, err)
		return
	}
	c.Redirect(http.StatusSeeOther, address)
}

// notIn sends somebody who does not get in back to the sign-in page, which says why.
func (a *API) notIn(c *gin.Context, err error) {
	a.Log.Warn("signing in at the identity provider", "request", c.GetString(requestKey), "error", err)
	c.Redirect(http.StatusSeeOther, "/"+signInPage+"?why="+url.QueryEscape(string(accounts.WhyOf(err))))
}

// returned answers GET /sign-in/provider/return: begins the session of who comes back.
func (a *API) returned(c *gin.Context) {
	if a.Accounts.Provider == nil {
		a.fail(c, problem.New(problem.NotFound, "There is no identity provider."))
		return
	}
	account, to, err := a.Accounts.Returned(c.Request.Context(), a.backFrom(c), c.Query("state"), c.Query("code"))
	if err == nil {
		err = a.Accounts.Begin(c.Request.Context(), c.Writer, account)
	}
	if err != nil {
		a.notIn(c, err)
		return
	}
	if !strings.HasPrefix(to, "/") || strings.HasPrefix(to, "//") || strings.Contains(to, "\\") {
		to = "/" // only to pages of this console
	}
	c.Redirect(http.StatusSeeOther, to)
}

// signIn answers POST /sign-in: begins a session.
func (a *API) signIn(c *gin.Context) {
	in, ok := body[struct {
		Name     string `json:"name"`
		Password string `json:"password"`
		Code     string `json:"code"`
	}](a, c)
	if !ok {
		return
	}
	address, _, _ := net.SplitHostPort(c.Request.RemoteAddr) // blank for a connection without one
	account, err := a.Accounts.SignIn(c.Request.Context(), accounts.Attempt{
		Name: in.Name, Password: in.Password, Code: in.Code, Address: address,
	})
	a.begin(c, account, err)
}

// begin begins a session of an account and answers with it.
func (a *API) begin(c *gin.Context, account store.Account, err error) {
	if err == nil {
		err = a.Accounts.Begin(c.Request.Context(), c.Writer, account)
	}
	if err != nil {
		a.fail(c, err)
		return
	}
	w := who{account: account, rights: access.Rights{Person: true, Roles: account.Roles}}
	s, err := a.sessionOf(c, w)
	answer(a, c, s, err)
}

// firstStart answers POST /first-start: makes the first administrator.
func (a *API) firstStart(c *gin.Context) {
	in, ok := body[struct {
		Secret   string `json:"secret"`
		Name     string `json:"name"`
		Title    string `json:"title"`
		Password string `json:"password"`
	}](a, c)
	if !ok {
		return
	}
	account, err := a.Accounts.FirstStart(c.Request.Context(), in.Secret, in.Name, in.Title, in.Password)
	a.begin(c, account, err)
}

// openLink answers POST /link: whose password is chosen with a link.
func (a *API) openLink(c *gin.Context) {
	in, ok := body[struct {
		Secret string `json:"secret"`
	}](a, c)
	if !ok {
		return
	}
	account, err := a.Accounts.OfLink(c.Request.Context(), in.Secret)
	answer(a, c, gin.H{"name": account.Name, "title": account.Title}, err)
}

// choosePassword answers POST /link/password: sets the password of a link's account, who then signs in with it.
func (a *API) choosePassword(c *gin.Context) {
	in, ok := body[struct {
		Secret   string `json:"secret"`
		Password string `json:"password"`
	}](a, c)
	if !ok {
		return
	}
	account, err := a.Accounts.Choose(c.Request.Context(), in.Secret, in.Password)
	answer(a, c, gin.H{"name": account.Name, "title": account.Title}, err)
}

// Session is who acts and what they may do.
type Session struct {
	Name        string              `json:"name"`
	Title       string              `json:"title"` // how it is shown
	Kind        access.Kind         `json:"kind"`
	Roles       []access.Role       `json:"roles"`
	Scopes      []access.Scope      `json:"scopes"`      // of a key
	Permissions []access.Permission `json:"permissions"` // that are held
	Grants      []access.Grant      `json:"grants"`      // who has which permission
	Factor      bool                `json:"factor"`      // there is a second factor
	Recovery    int                 `json:"recovery"`    // recovery codes that are left
	Password    bool                `json:"password"`    // the account has a password
}

// sessionOf describes who acts.
func (a *API) sessionOf(c *gin.Context, w who) (Session, error) {
	s := Session{Roles: w.account.Roles, Scopes: w.key.Scopes, Permissions: w.rights.Held(), Grants: access.Permissions(),
		Factor: w.account.Factor != "", Password: w.account.Password != ""}
	switch p, _ := access.From(c.Request.Context()); {
	case w.account.ID != 0:
		s.Kind, s.Name, s.Title = access.Account, w.account.Name, w.account.Title
	default:
		s.Kind, s.Name = p.Kind, p.Name
	}
	var err error
	if s.Factor {
		s.Recovery, err = a.Accounts.RecoveryCodesLeft(c.Request.Context(), w.account)
	}
	return s, err
}

// getSession answers GET /session.
func (a *API) getSession(c *gin.Context) {
	s, err := a.sessionOf(c, from(c))
	answer(a, c, s, err)
}

// endSession answers DELETE /session: signs out here, or everywhere.
func (a *API) endSession(c *gin.Context) {
	account, err := ownAccount(c)
	if err == nil && c.Query("everywhere") == "true" {
		err = a.Accounts.SignOutEverywhere(c.Request.Context(), account.Name)
	}
	if err == nil && !from(c).rights.Key {
		err = a.Accounts.End(c.Request.Context(), c.Writer)
	}
	a.done(c, err)
}

// done answers with nothing.
func (a *API) done(c *gin.Context, err error) {
	if err != nil {
		a.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// ownAccount is the account of who acts; an error of the kind Conflict without one.
func ownAccount(c *gin.Context) (store.Account, error) {
	w := from(c)
	if w.account.ID == 0 {
		return w.account, problem.New(problem.Conflict, "This is for those who have an account.")
	}
	return w.account, nil
}

// signedInAccount is ownAccount for what is done by a person at the console: a key, which may lie about, is not enough.
func signedInAccount(c *gin.Context) (store.Account, error) {
	if from(c).rights.Key {
		return store.Account{}, problem.New(problem.Forbidden, "A key is not enough for this; sign in to the console.")
	}
	return ownAccount(c)
}

// putOwnPassword answers PUT /account/password; all other sessions end.
func (a *API) putOwnPassword(c *gin.Context) {
	in, ok := body[struct {
		Current  string `json:"current"`
		Password string `json:"password"`
	}](a, c)
	if !ok {
		return
	}
	account, err := signedInAccount(c)
	if err == nil {
		account, err = a.Accounts.SetPassword(c.Request.Context(), account.Name, in.Current, in.Password)
	}
	if err == nil {
		err = a.Accounts.Begin(c.Request.Context(), c.Writer, account)
	}
	a.done(c, err)
}

// passwordAgain is what is sent where the password is wanted once more.
type passwordAgain struct {
	Current string `json:"current"`
}

// beginFactor answers POST /account/factor: the secret of a new second factor.
func (a *API) beginFactor(c *gin.Context) {
	in, ok := body[passwordAgain](a, c)
	if !ok {
		return
	}
	account, err := signedInAccount(c)
	var f accounts.NewFactor
	if err == nil {
		f, err = a.Accounts.BeginFactor(c.Request.Context(), account.Name, in.Current)
	}
	answer(a, c, gin.H{"secret": f.Secret, "address": f.Address}, err)
}

// confirmFactor answers PUT /account/factor: sets the second factor and gives the recovery codes.
func (a *API) confirmFactor(c *gin.Context) {
	in, ok := body[struct {
		Code string `json:"code"`
	}](a, c)
	if !ok {
		return
	}
	account, err := signedInAccount(c)
	var codes []string
	if err == nil {
		codes, err = a.Accounts.ConfirmFactor(c.Request.Context(), account.Name, in.Code)
	}
	answer(a, c, gin.H{"recovery": codes}, err)
}

// removeFactor answers DELETE /account/factor.
func (a *API) removeFactor(c *gin.Context) {
	in, ok := body[passwordAgain](a, c)
	if !ok {
		return
	}
	account, err := signedInAccount(c)
	if err == nil {
		err = a.Accounts.RemoveFactor(c.Request.Context(), account.Name, in.Current)
	}
	a.done(c, err)
}

// Account is an account as the interface shows it.
type Account struct {
	Name     string        `json:"name"`
	Title    string        `json:"title"`
	Roles    []access.Role `json:"roles"`
	Password bool          `json:"password"` // it has one
	Factor   bool          `json:"factor"`   // it has a second factor
	Provider bool          `json:"provider"` // it signs in at the identity provider
	Created  time.Time     `json:"created"`
	SignedIn *time.Time    `json:"signedIn"` // last
}

func accountOf(s store.Account) Account {
	out := Account{Name: s.Name, Title: s.Title, Roles: s.Roles, Password: s.Password != "", Factor: s.Factor != "",
		Provider: s.Subject != "", Created: s.Created}
	if !s.SignedIn.IsZero() {
		out.SignedIn = &s.SignedIn
	}
	return out
}

// listAccounts answers GET /accounts.
func (a *API) listAccounts(c *gin.Context) {
	all, err := a.Accounts.List(c.Request.Context())
	list := []Account{}
	for _, one := range all {
		list = append(list, accountOf(one))
	}
	answer(a, c, list, err)
}

// AccountLink is a link with which a password is chosen.
type AccountLink struct {
	Name string    `json:"name"`
	Link string    `json:"link"`
	Ends time.Time `json:"ends"`
}

// linkOf is the address of a link's secret. The secret stands behind #, which browsers send to nobody.
func (a *API) linkOf(c *gin.Context, secret string) string {
	return a.base(c) + "/sign-in#link=" + secret
}

// addAccount answers POST /accounts: makes an account, with the link with which its password is chosen.
func (a *API) addAccount(c *gin.Context) {
	in, ok := body[struct {
		Name  string        `json:"name"`
		Title string        `json:"title"`
		Roles []access.Role `json:"roles"`
	}](a, c)
	if !ok {
		return
	}
	secret, ends, err := a.Accounts.Add(c.Request.Context(), store.Account{Name: in.Name, Title: in.Title, Roles: in.Roles})
	if err != nil {
		a.fail(c, err)
		return
	}
	reply(c, http.StatusCreated, AccountLink{in.Name, a.linkOf(c, secret), ends})
}

// linkAccount answers POST /accounts/{name}/link: a new link with which the password is chosen.
func (a *API) linkAccount(c *gin.Context) {
	secret, ends, err := a.Accounts.Link(c.Request.Context(), c.Param("name"))
	answer(a, c, AccountLink{c.Param("name"), a.linkOf(c, secret), ends}, err)
}

// changeAccount answers PATCH /accounts/{name}.
func (a *API) changeAccount(c *gin.Context) {
	in, ok := body[struct {
		Title  *string       `json:"title"`
		Roles  []access.Role `json:"roles"`
		Factor *bool         `json:"factor"` // false removes the second factor
	}](a, c)
	if !ok {
		return
	}
	if in.Factor != nil && *in.Factor {
		a.fail(c, problem.New(problem.Invalid, "A second factor is set up by the account itself; here it can be removed only.").In("factor"))
		return
	}
	err := a.Accounts.Put(c.Request.Context(), c.Param("name"), accounts.Change{Title: in.Title, Roles: in.Roles, Factor: in.Factor != nil})
	var changed store.Account
	if err == nil {
		changed, err = a.Accounts.Get(c.Request.Context(), c.Param("name"))
	}
	answer(a, c, accountOf(changed), err)
}

// removeAccount answers DELETE /accounts/{name}.
func (a *API) removeAccount(c *gin.Context) {
	a.done(c, a.Accounts.Remove(c.Request.Context(), c.Param("name")))
}

// signOutAccount answers POST /accounts/{name}/sign-out: ends all its sessions.
func (a *API) signOutAccount(c *gin.Context) {
	a.done(c, a.Accounts.SignOutEverywhere(c.Request.Context(), c.Param("name")))
}
