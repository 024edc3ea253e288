package api

import (
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"missivum/service/store"
)

// Key is a key that a program names itself with.
type Key struct {
	Name    string    `json:"name"`
	Scope   string    `json:"scope"`
	Source  string    `json:"source"` // that it pushes to
	Created time.Time `json:"created"`
	Secret  string    `json:"secret,omitempty"` // only in the answer that made it
}

// listKeys answers GET /keys.
func (a *API) listKeys(c *gin.Context) {
	all, err := a.Keys.List(c.Request.Context())
	list := []Key{}
	for _, k := range all {
		list = append(list, Key{Name: k.Name, Scope: k.Scope, Source: k.Source, Created: k.Created})
	}
	answer(a, c, list, err)
}

// addKey answers POST /keys: makes a key, which is shown only here.
func (a *API) addKey(c *gin.Context) {
	var in struct {
		Name   string `json:"name"`
		Scope  string `json:"scope"`
		Source string `json:"source"`
	}
	if err := readJSON(c, &in); err != nil {
		a.fail(c, err)
		return
	}
	secret, err := a.Keys.Add(c.Request.Context(), store.Key{Name: in.Name, Scope: in.Scope, Source: in.Source})
	if err != nil {
		a.fail(c, err)
		return
	}
	reply(c, http.StatusCreated, Key{Name: in.Name, Scope: in.Scope, Source: in.Source, Created: a.Now(), Secret: secret})
}

// removeKey answers DELETE /keys/{name}.
func (a *API) removeKey(c *gin.Context) {
	if err := a.Keys.Remove(c.Request.Context(), c.Param("name")); err != nil {
		a.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}
