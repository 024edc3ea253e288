package api

import (
	"cmp"
	"net"
	"net/http"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"missivum/core/problem"
	"missivum/service/access"
	"missivum/service/addon"
	"missivum/service/personal"
	"missivum/service/store"
)

// needs is the one table of which permission each route needs; which roles and scopes have it is in access.Permissions. A
// route that is not in it is refused.
var needs = byRoute(map[access.Permission][]string{
	access.Open: {
		"GET /healthz", "GET /readyz", "GET /p/:key", "GET /api/v1/openapi.json",
		"GET /api/v1/sign-in", "POST /api/v1/sign-in", "GET /api/v1/sign-in/provider", "GET /api/v1/sign-in/provider/return",
		"POST /api/v1/first-start", "POST /api/v1/link", "POST /api/v1/link/password", "POST /api/v1/personal/open",
		"GET /api/v1/add-on/add-on.zip", "GET /api/v1/add-on/add-on.crx", "GET /api/v1/add-on/add-on.xpi",
	},
	access.Own: {
		"GET /api/v1/personal", "PUT /api/v1/personal/choice", "POST /api/v1/personal/signature", "POST /api/v1/personal/check",
		"GET /api/v1/personal/files", "GET /api/v1/personal/picture", "GET /api/v1/personal/details", "PUT /api/v1/personal/details",
		"POST /api/v1/personal/details/wrong", "DELETE /api/v1/personal/device",
		"GET /api/v1/personal/add-on", "POST /api/v1/personal/add-on",
	},
	access.Self: {
		"GET /api/v1/session", "DELETE /api/v1/session", "PUT /api/v1/account/password",
		"POST /api/v1/account/factor", "PUT /api/v1/account/factor", "DELETE /api/v1/account/factor",
		"GET /api/v1/account/keys", "POST /api/v1/account/keys", "DELETE /api/v1/account/keys/:name",
	},
	access.View: {
		"GET /api/v1/templates", "GET /api/v1/templates/:name", "GET /api/v1/templates/:name/versions",
		"GET /api/v1/templates/:name/versions/:number", "GET /api/v1/templates/:name/archive",
		"GET /api/v1/templates/:name/pictures/:file", "POST /api/v1/templates/:name/check", "POST /api/v1/templates/:name/fix",
		"POST /api/v1/templates/:name/map", "POST /api/v1/templates/:name/shrink", "POST /api/v1/templates/:name/space",
		"POST /api/v1/templates/:name/paste", "POST /api/v1/templates/:name/sheet", "POST /api/v1/templates/:name/look",
		"POST /api/v1/templates/:name/block", "POST /api/v1/templates/:name/rule-sheet", "POST /api/v1/templates/:name/fill",
		"GET /api/v1/templates/:name/delivery", "GET /api/v1/templates/:name/tree",
		"GET /api/v1/starters", "GET /api/v1/forms", "POST /api/v1/new", "POST /api/v1/clean",
		"GET /api/v1/people", "GET /api/v1/people/:mail", "GET /api/v1/people/hard-cases", "GET /api/v1/people/rules",
		"GET /api/v1/people/faults", "GET /api/v1/audiences", "POST /api/v1/audiences/try", "GET /api/v1/audiences/:name/people",
		"GET /api/v1/assignments", "GET /api/v1/sources", "GET /api/v1/sources/:name", "GET /api/v1/sources/:name/mappings",
		"GET /api/v1/runs", "GET /api/v1/runs/:id", "GET /api/v1/runs/:id/changes",
		"GET /api/v1/clients", "GET /api/v1/clients/:id", "GET /api/v1/clients/:id/document",
		"GET /api/v1/rules", "GET /api/v1/rules/versions", "POST /api/v1/rules/try", "POST /api/v1/rules/check",
		"POST /api/v1/rules/samples", "GET /api/v1/rules/pause", "GET /api/v1/messages", "GET /api/v1/messages/:id",
		"GET /api/v1/messages/counts", "POST /api/v1/messages/diagnose", "GET /api/v1/messages/settings", "GET /api/v1/gateways",
		"GET /api/v1/dialects", "GET /api/v1/dialects/:id/document", "GET /api/v1/fields", "GET /api/v1/ways",
		"GET /api/v1/packages", "GET /api/v1/packages/:id", "GET /api/v1/packages/:id/file",
		"GET /api/v1/releases", "GET /api/v1/releases/settings", "GET /api/v1/releases/endings", "GET /api/v1/releases/:id",
		"GET /api/v1/releases/:id/sheets/:template", "GET /api/v1/releases/:id/waves/:number/samples", "GET /api/v1/desks",
		"GET /api/v1/jobs", "GET /api/v1/jobs/:id",
		"GET /api/v1/pictures", "GET /api/v1/pictures/:name", "GET /api/v1/pictures/:name/view", "POST /api/v1/pictures/:name/probe",
		"GET /api/v1/pictures/:name/sliced", "POST /api/v1/code", "GET /api/v1/settings/pictures", "GET /api/v1/addresses",
		"GET /api/v1/photos", "GET /api/v1/organisation", "GET /api/v1/personal/settings", "GET /api/v1/pictures/:name/changes",
		"GET /api/v1/add-on", "GET /api/v1/add-on/policy",
	},
	access.Trust: {"GET /api/v1/desk/trust"},
	access.Templates: {
		"PUT /api/v1/templates/:name", "PUT /api/v1/templates/:name/archive", "PUT /api/v1/templates/:name/pictures/:file",
		"POST /api/v1/templates/:name/new", "PUT /api/v1/templates/:name/delivery", "POST /api/v1/templates/:name/addresses",
	},
	access.Pictures: {
		"PUT /api/v1/pictures/:name", "PUT /api/v1/pictures/:name/alts", "POST /api/v1/pictures/:name/fit",
		"POST /api/v1/pictures/:name/compress", "POST /api/v1/pictures/:name/slice", "POST /api/v1/pictures/:name/use",
		"POST /api/v1/pictures/:name/take", "POST /api/v1/addresses",
	},
	access.Clients: {
		"PUT /api/v1/clients/:id/document", "DELETE /api/v1/clients/:id/document",
		"PUT /api/v1/dialects/:id/document", "DELETE /api/v1/dialects/:id/document",
	},
	access.Packages: {"POST /api/v1/packages", "DELETE /api/v1/packages/:id", "POST /api/v1/jobs/:id/stop"},
	access.Releases: {"POST /api/v1/releases", "DELETE /api/v1/releases/:id"},
	access.Approve:  {"POST /api/v1/releases/:id/approve"},
	access.Send: {
		"POST /api/v1/releases/:id/send", "POST /api/v1/releases/:id/pause", "POST /api/v1/releases/:id/resume",
		"POST /api/v1/releases/:id/widen", "POST /api/v1/releases/:id/withdraw",
	},
	access.People: {
		"DELETE /api/v1/people/:mail/photo", "PATCH /api/v1/people/:mail", "PUT /api/v1/people/rules", "POST /api/v1/people/import",
		"PUT /api/v1/audiences/:name", "DELETE /api/v1/audiences/:name", "PUT /api/v1/assignments",
		"PUT /api/v1/sources/:name", "DELETE /api/v1/sources/:name", "POST /api/v1/sources/:name/sync",
		"POST /api/v1/sources/:name/pause", "POST /api/v1/sources/:name/resume", "POST /api/v1/sources/:name/preview",
		"POST /api/v1/runs/:id/apply", "POST /api/v1/runs/:id/drop", "POST /api/v1/runs/:id/undo",
		"POST /api/v1/photos", "DELETE /api/v1/photos",
		"GET /api/v1/personal/links", "POST /api/v1/personal/links", "DELETE /api/v1/personal/links/:id",
		"POST /api/v1/personal/invitations", "POST /api/v1/personal/invitations/drafts", "POST /api/v1/personal/invitations/who",
		"GET /api/v1/personal/requests", "POST /api/v1/personal/requests/:id/accept", "POST /api/v1/personal/requests/:id/refuse",
		"GET /api/v1/add-on/keys", "POST /api/v1/add-on/keys", "DELETE /api/v1/add-on/keys/:id",
	},
	access.MailRules: {"PUT /api/v1/rules", "POST /api/v1/rules/rehearse", "PUT /api/v1/rules/pause"},
	access.Desks:     {"DELETE /api/v1/desks/:id"},
	access.Settings: {"PUT /api/v1/settings/pictures", "PUT /api/v1/releases/settings", "PUT /api/v1/messages/settings",
		"PUT /api/v1/record/settings",
		"PUT /api/v1/organisation", "PUT /api/v1/personal/settings", "PUT /api/v1/add-on/settings"},
	access.Accounts: {
		"GET /api/v1/accounts", "POST /api/v1/accounts", "PATCH /api/v1/accounts/:name", "DELETE /api/v1/accounts/:name",
		"POST /api/v1/accounts/:name/link", "POST /api/v1/accounts/:name/sign-out",
	},
	access.Keys:      {"GET /api/v1/keys", "POST /api/v1/keys", "DELETE /api/v1/keys/:name"},
	access.Record:    {"GET /api/v1/record", "GET /api/v1/record/words", "GET /api/v1/record/check", "GET /api/v1/record/settings"},
	access.Figures:   {"GET /metrics"},
	access.AsGateway: {"GET /api/v1/rules/bundle", "POST /api/v1/gateways/report"},
	access.AsAddOn:   {"GET /api/v1/add-on/current", "POST /api/v1/add-on/state"},
	access.AsDesk: {
		"GET /api/v1/desk/kit", "GET /api/v1/desk/files/*file", "GET /api/v1/desk/pieces/*file", "GET /api/v1/desk/pictures/:digest",
		"POST /api/v1/desk/report",
	},
	access.AsDirectory: {
		"GET /scim/v2/ServiceProviderConfig", "GET /scim/v2/Schemas", "GET /scim/v2/Schemas/:id", "GET /scim/v2/ResourceTypes",
		"GET /scim/v2/ResourceTypes/:id",
		"GET /scim/v2/Users", "POST /scim/v2/Users", "POST /scim/v2/Users/.search", "GET /scim/v2/Users/:id", "PUT /scim/v2/Users/:id",
		"PATCH /scim/v2/Users/:id", "DELETE /scim/v2/Users/:id",
		"GET /scim/v2/Groups", "POST /scim/v2/Groups", "POST /scim/v2/Groups/.search", "GET /scim/v2/Groups/:id", "PUT /scim/v2/Groups/:id",
		"PATCH /scim/v2/Groups/:id", "DELETE /scim/v2/Groups/:id",
	},
})

// byRoute turns the table round.
func byRoute(table map[access.Permission][]string) map[string]access.Permission {
	routes := map[string]access.Permission{}
	for p, list := range table {
		for _, route := range list {
			if _, twice := routes[route]; twice {
				panic("two permissions for " + route)
			}
			routes[route] = p
		}
	}
	return routes
}

// Needs gives the permission that a route needs, by its method and its path as Routes writes it; false for a route that is in
// no table.
func Needs(method, path string) (access.Permission, bool) {
	p, ok := needs[method+" "+path]
	return p, ok
}

// Need says which permission a route needs.
type Need struct {
	Method, Path string // the path as the router writes it: /api/v1/templates/:name
	Permission   access.Permission
}

// NeedsTable lists what every route needs, in the order of permissions and paths.
func NeedsTable() []Need {
	var list []Need
	for route, p := range needs {
		method, path, _ := strings.Cut(route, " ")
		list = append(list, Need{method, path, p})
	}
	order := map[access.Permission]int{}
	for i, g := range access.Permissions() {
		order[g.Permission] = i
	}
	slices.SortFunc(list, func(a, b Need) int {
		return cmp.Or(order[a.Permission]-order[b.Permission], strings.Compare(a.Path, b.Path), strings.Compare(a.Method, b.Method))
	})
	return list
}

// who is who sent a request: under which key of the context it is kept, and what.
const whoKey = "who"

type who struct {
	rights  access.Rights
	account store.Account    // zero without one
	key     store.Key        // zero without one
	visitor personal.Visitor // zero without a personal link
	bearer  addon.Bearer     // zero without an add-on
}

// from is who sent a request; with the zero rights nobody who is known.
func from(c *gin.Context) who {
	w, _ := c.Get(whoKey)
	known, _ := w.(who)
	return known
}

// identify finds out who sends a request: a program or person by a key, a person by a session, or, while there are no accounts,
// whoever uses this machine.
func (a *API) identify(c *gin.Context) {
	ctx := c.Request.Context()
	if address, _, err := net.SplitHostPort(c.Request.RemoteAddr); err == nil {
		if ip := net.ParseIP(address); ip != nil && !ip.IsLoopback() {
			ctx = access.FromWhere(ctx, address)
		}
	}
	if secret, ok := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer "); ok {
		c.Request = c.Request.WithContext(ctx)
		if addon.IsKey(secret) {
			a.byAddOn(c, ctx, secret)
			return
		}
		a.byKey(c, secret)
		return
	}
	if visited, err := a.byLink(c, ctx); visited || err != nil {
		if err != nil {
			a.fail(c, err)
		}
		return
	}
	token := ""
	if cookie, err := c.Request.Cookie(a.Accounts.CookieName()); err == nil {
		token = cookie.Value
	}
	ctx, account, found, err := a.Accounts.Session(ctx, token) // without a token one can begin
	if err != nil {
		a.fail(c, err)
		return
	}
	c.Request = c.Request.WithContext(ctx)
	if found {
		a.asAccount(c, who{account: account})
		return
	}
	if owner, err := a.ownerMode(c); err != nil {
		a.fail(c, err)
	} else if owner {
		asOwner(c)
	}
}

// ownerMode reports whether whoever reaches the service acts as its owner: it is reached by loopback only, and there are no
// accounts.
func (a *API) ownerMode(c *gin.Context) (bool, error) {
	if !a.Loopback {
		return false, nil
	}
	any, err := a.Accounts.Any(c.Request.Context())
	return !any, err
}

// byKey finds out who sends a request by its key.
func (a *API) byKey(c *gin.Context, secret string) {
	key, err := a.Keys.Find(c.Request.Context(), secret)
	if err != nil {
		a.fail(c, err)
		return
	}
	w := who{key: key, rights: access.Rights{Key: true, Scopes: key.Scopes}}
	if key.Account == "" {
		a.actAs(c, w, access.Principal{Kind: access.Key, Name: key.Name})
		return
	}
	if w.account, err = a.Accounts.Get(c.Request.Context(), key.Account); err != nil {
		a.fail(c, err)
		return
	}
	a.asAccount(c, w)
}

func (a *API) asAccount(c *gin.Context, w who) {
	w.rights.Person, w.rights.Roles = true, w.account.Roles
	a.actAs(c, w, access.Principal{Kind: access.Account, Name: w.account.Name})
}

func (a *API) actAs(c *gin.Context, w who, p access.Principal) {
	c.Set(whoKey, w)
	c.Request = c.Request.WithContext(access.With(c.Request.Context(), p))
}

// permit lets a request pass when who sends it has the permission that its route needs.
func (a *API) permit(c *gin.Context) {
	if c.FullPath() == "" {
		return // no route: a page of the console, or nothing
	}
	p, known := Needs(c.Request.Method, c.FullPath())
	if !known {
		a.fail(c, problem.New(problem.Forbidden, "Nobody may use this route: no permission is given for it."))
		return
	}
	w := from(c)
	if !slices.Contains(early, c.FullPath()) {
		if err := a.started(c); err != nil {
			a.fail(c, err)
			return
		}
	}
	if w.rights.May(p) {
		return
	}
	programs := len(access.GrantOf(p).Roles) == 0
	if !w.rights.Key && !w.rights.AddOn && (programs || !w.rights.All && !w.rights.Person) {
		a.fail(c, problem.New(problem.Unknown, "%s", signInFirst(p)))
		return
	}
	a.fail(c, problem.New(problem.Forbidden, "%s", lacking(w, p)))
}

const needsAddOn = "This is for the browser add-on, with a key that people get on the page of their own signature."

// signInFirst says what somebody who is not known needs for a permission.
func signInFirst(p access.Permission) string {
	g := access.GrantOf(p)
	if p == access.AsAddOn {
		return needsAddOn
	}
	if len(g.Roles) == 0 {
		return "A key of the scope " + joined(g.Scopes) + " is needed: missivum key add NAME --scope " + string(g.Scopes[0]) + "."
	}
	return "Sign in first, or send a key."
}

// lacking says which role or scope would be needed.
func lacking(w who, p access.Permission) string {
	g := access.GrantOf(p)
	switch {
	case w.rights.AddOn:
		return "The key of an add-on fetches the signatures of its person, and nothing else."
	case p == access.AsAddOn:
		return needsAddOn
	case w.rights.Key && !slices.ContainsFunc(w.rights.Scopes, func(s access.Scope) bool { return slices.Contains(g.Scopes, s) }):
		return "This key is of the scope " + joined(w.rights.Scopes) + "; this needs " + joined(g.Scopes) + "."
	case w.rights.Key && !w.rights.Person && g.People:
		return "A program's key may not do this; sign in, or use a key of your own."
	case len(g.Roles) == 0:
		return "This is for programs with a key of the scope " + joined(g.Scopes) + "."
	}
	return "This needs the role " + joined(g.Roles) + "; you are " + joined(w.rights.Roles) + "."
}

// joined writes words with "or" before the last.
func joined[T ~string](list []T) string {
	var b strings.Builder
	for i, one := range list {
		switch {
		case i > 0 && i == len(list)-1:
			b.WriteString(" or ")
		case i > 0:
			b.WriteString(", ")
		}
		b.WriteString(string(one))
	}
	return b.String()
}

// early are the routes that are answered before the first administrator was made.
var early = []string{"/healthz", "/readyz", "/api/v1/sign-in", "/api/v1/first-start"}

// started refuses everything until the first administrator was made, on an address that others can reach.
func (a *API) started(c *gin.Context) error {
	if a.Loopback {
		return nil
	}
	any, err := a.Accounts.Any(c.Request.Context())
	if err != nil || any {
		return err
	}
	return problem.New(problem.Busy,
		"There is no account yet. Open the link that the service printed when it started; it makes the first administrator.")
}

// signedIn reports whether who sends a request may see the console.
func signedIn(c *gin.Context) bool {
	w := from(c)
	return w.rights.All || w.rights.Person
}

// named refuses requests for other names than the service's own, so that a page whose name was pointed at this machine cannot
// reach the service. By loopback addresses it is always reached.
func (a *API) named(c *gin.Context) {
	if loopbackHost(c.Request.Host) || slices.Contains(a.Names, hostOf(c.Request.Host)) {
		return
	}
	if len(a.Names) == 0 && !a.Loopback {
		return
	}
	known := "localhost and loopback addresses"
	if len(a.Names) > 0 {
		known = strings.Join(a.Names, ", ") + " and loopback addresses"
	}
	refuse(c, http.StatusMisdirectedRequest, "This service answers to "+known+" only. The settings address and names say to which.")
}
