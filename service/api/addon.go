package api

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"missivum/core/addon"
	"missivum/core/problem"
	"missivum/service/access"
	service "missivum/service/addon"
	"missivum/service/store"
)

// addOnRoutes adds the routes of the browser add-on, and of those who keep it.
func (a *API) addOnRoutes(v1 *gin.RouterGroup) {
	v1.GET("/add-on/current", a.currentOfAddOn)
	v1.POST("/add-on/state", a.limit(maxSignIn), a.stateOfAddOn)
	v1.GET("/add-on/add-on.zip", a.addOnPackage(service.Archive, "application/zip"))
	v1.GET("/add-on/add-on.crx", a.addOnPackage(service.Signed, "application/x-chrome-extension"))
	v1.GET("/add-on/add-on.xpi", a.addOnPackage(service.Gecko, "application/x-xpinstall"))

	v1.GET("/add-on", a.getAddOn)
	v1.PUT("/add-on/settings", a.limit(MaxJSON), a.putAddOnSettings)
	v1.GET("/add-on/policy", a.addOnPolicy)
	v1.GET("/add-on/keys", a.listAddOnKeys)
	v1.POST("/add-on/keys", a.limit(MaxJSON), a.addAddOnKeys)
	v1.DELETE("/add-on/keys/:id", a.revokeAddOnKey)
	v1.GET("/personal/add-on", a.getOwnAddOn)
	v1.POST("/personal/add-on", a.limit(maxSignIn), a.addOwnAddOnKey)
}

// byAddOn finds out whose add-on sends a request, by its key. The key is good for the add-on's own routes and nothing else.
func (a *API) byAddOn(c *gin.Context, ctx context.Context, secret string) {
	by, err := a.AddOn.Bearer(ctx, secret)
	if err != nil {
		a.fail(c, err)
		return
	}
	a.actAs(c, who{rights: access.Rights{AddOn: true}, bearer: by}, access.Principal{Kind: access.Person, Name: by.Person})
}

// currentOfAddOn answers GET /add-on/current with what the add-on of the key works with; with 304 where it has that already (RFC 9110,
// 13.1.2).
func (a *API) currentOfAddOn(c *gin.Context) {
	answer, tag, err := a.AddOn.Current(c.Request.Context(), from(c).bearer)
	if err != nil {
		a.fail(c, err)
		return
	}
	c.Header("ETag", `"`+tag+`"`)
	if c.GetHeader("If-None-Match") == `"`+tag+`"` {
		c.Status(http.StatusNotModified)
		return
	}
	reply(c, http.StatusOK, answer)
}

// stateOfAddOn answers POST /add-on/state: what an add-on says of itself.
func (a *API) stateOfAddOn(c *gin.Context) {
	in, ok := body[addon.State](a, c)
	if !ok {
		return
	}
	if err := a.AddOn.State(c.Request.Context(), from(c).bearer, in); err != nil {
		a.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// addOnPackage answers GET /add-on/add-on.zip, .crx and .xpi. Browsers fetch them without signing in; they hold the addresses of the
// service and of the sites, and nothing else of the organisation.
func (a *API) addOnPackage(form service.Form, kind string) gin.HandlerFunc {
	return func(c *gin.Context) {
		data, version, err := a.AddOn.Package(c.Request.Context(), form)
		if err != nil {
			a.fail(c, err)
			return
		}
		c.Header("Content-Disposition", fmt.Sprintf(`attachment; filename="add-on-%s.%s"`, version, form))
		c.Data(http.StatusOK, kind, data)
	}
}

// getAddOn answers GET /add-on: settings, version, and how many people use it.
func (a *API) getAddOn(c *gin.Context) {
	o, err := a.AddOn.Overview(c.Request.Context())
	answer(a, c, o, err)
}

// putAddOnSettings answers PUT /add-on/settings, with how things stand then.
func (a *API) putAddOnSettings(c *gin.Context) {
	in, ok := body[service.Settings](a, c)
	if !ok {
		return
	}
	if err := a.AddOn.PutSettings(c.Request.Context(), in); err != nil {
		a.fail(c, err)
		return
	}
	a.getAddOn(c)
}

// addOnPolicy answers GET /add-on/policy: the policy that an administrator gives to browsers.
func (a *API) addOnPolicy(c *gin.Context) {
	p, err := a.AddOn.Policy(c.Request.Context(), addon.Engine(c.Query("engine")), c.Query("key"))
	answer(a, c, json.RawMessage(p), err)
}

// AddOnKey is a key as those see it who keep them.
type AddOnKey struct {
	ID      int64     `json:"id"`
	Person  string    `json:"person"`
	Created time.Time `json:"created"`
	Ends    time.Time `json:"ends"`
	Used    time.Time `json:"used,omitzero"`
	Version string    `json:"version"`
	Revoked time.Time `json:"revoked,omitzero"`
}

// listAddOnKeys answers GET /add-on/keys: the newest keys.
func (a *API) listAddOnKeys(c *gin.Context) {
	keys, err := a.AddOn.Keys(c.Request.Context(), c.Query("search"))
	list := []AddOnKey{}
	for _, k := range keys {
		list = append(list, addOnKeyOf(k))
	}
	answer(a, c, list, err)
}

func addOnKeyOf(k store.AddOnKey) AddOnKey {
	return AddOnKey{k.ID, k.Person, k.Created, k.Ends, k.Used, k.Version, k.Revoked}
}

// NewAddOnKeys says for whom keys are made.
type NewAddOnKeys struct {
	People []string `json:"people"`
}

// mostNewKeys is how many keys are made at once.
const mostNewKeys = 10_000

// addAddOnKeys answers POST /add-on/keys: makes a key for each person, all of which are shown this once.
func (a *API) addAddOnKeys(c *gin.Context) {
	in, ok := body[NewAddOnKeys](a, c)
	if !ok {
		return
	}
	if len(in.People) == 0 || len(in.People) > mostNewKeys {
		a.fail(c, problem.New(problem.Invalid, "Name 1 to %d people.", mostNewKeys).In("people"))
		return
	}
	keys, err := a.AddOn.NewKeys(c.Request.Context(), in.People)
	if err != nil {
		a.fail(c, err)
		return
	}
	reply(c, http.StatusCreated, keys)
}

// revokeAddOnKey answers DELETE /add-on/keys/{id}.
func (a *API) revokeAddOnKey(c *gin.Context) {
	id, ok := a.id(c, "add-on key")
	if !ok {
		return
	}
	if err := a.AddOn.Revoke(c.Request.Context(), id); err != nil {
		a.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// OwnAddOn is what a person's page says of the add-on.
type OwnAddOn struct {
	Sites   []string `json:"sites"` // titles of the webmails in which it works; none: there is no add-on
	Version string   `json:"version"`
}

// getOwnAddOn answers GET /personal/add-on.
func (a *API) getOwnAddOn(c *gin.Context) {
	if _, ok := a.visitor(c); !ok {
		return
	}
	o, err := a.AddOn.Overview(c.Request.Context())
	out := OwnAddOn{Sites: []string{}, Version: o.Version}
	for _, s := range o.Sites {
		if !s.Off {
			out.Sites = append(out.Sites, s.Title)
		}
	}
	answer(a, c, out, err)
}

// addOwnAddOnKey answers POST /personal/add-on: makes a key for one's own browser, which is shown this once.
func (a *API) addOwnAddOnKey(c *gin.Context) {
	v, ok := a.visitor(c)
	if !ok {
		return
	}
	err := v.MayChange()
	var keys []service.Key
	if err == nil {
		keys, err = a.AddOn.NewKeys(c.Request.Context(), []string{v.Person})
	}
	if err != nil {
		a.fail(c, err)
		return
	}
	reply(c, http.StatusCreated, keys[0])
}
