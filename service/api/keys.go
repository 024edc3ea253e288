package api

import (
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"missivum/core/problem"
	"missivum/service/access"
	"missivum/service/store"
)

// Key is a key that a program names itself with.
type Key struct {
	Name    string         `json:"name"`
	Scopes  []access.Scope `json:"scopes"`
	Source  string         `json:"source"`  // that it pushes to
	Account string         `json:"account"` // whose it is; blank for a program's
	Created time.Time      `json:"created"`
	Ends    *time.Time     `json:"ends"`             // null for never
	Used    *time.Time     `json:"used"`             // within a minute or two; null for never
	Secret  string         `json:"secret,omitempty"` // only in the answer that made it
}

func keyOf(k store.Key) Key {
	out := Key{Name: k.Name, Scopes: k.Scopes, Source: k.Source, Account: k.Account, Created: k.Created}
	if !k.Ends.IsZero() {
		out.Ends = &k.Ends
	}
	if !k.Used.IsZero() {
		out.Used = &k.Used
	}
	return out
}

// keyRequest asks for a key.
type keyRequest struct {
	Name   string         `json:"name"`
	Scopes []access.Scope `json:"scopes"`
	Source string         `json:"source"`
	Ends   string         `json:"ends"` // day from which on it opens nothing, such as 2027-06-30; blank for never
}

// key is the key that is asked for.
func (r keyRequest) key() (store.Key, error) {
	k := store.Key{Name: r.Name, Scopes: r.Scopes, Source: r.Source}
	if r.Ends == "" {
		return k, nil
	}
	var err error
	if k.Ends, err = time.Parse(time.DateOnly, r.Ends); err != nil {
		return k, problem.New(problem.Invalid, "%q is no day; write it as 2027-06-30.", r.Ends).In("ends")
	}
	return k, nil
}

// listKeys answers GET /keys.
func (a *API) listKeys(c *gin.Context) { a.answerKeys(c, func(store.Key) bool { return true }) }

// answerKeys answers with the keys that are wanted.
func (a *API) answerKeys(c *gin.Context, wanted func(store.Key) bool) {
	all, err := a.Keys.List(c.Request.Context())
	list := []Key{}
	for _, k := range all {
		if wanted(k) {
			list = append(list, keyOf(k))
		}
	}
	answer(a, c, list, err)
}

// addKey answers POST /keys: makes a key of a program, which is shown only here.
func (a *API) addKey(c *gin.Context) { a.answerNewKey(c, "") }

// answerNewKey makes a key and shows it.
func (a *API) answerNewKey(c *gin.Context, account string) {
	in, ok := body[keyRequest](a, c)
	if !ok {
		return
	}
	key, err := in.key()
	if err != nil {
		a.fail(c, err)
		return
	}
	key.Account = account
	secret, err := a.Keys.Add(c.Request.Context(), key)
	if err != nil {
		a.fail(c, err)
		return
	}
	key.Created = a.Now()
	out := keyOf(key)
	out.Secret = secret
	reply(c, http.StatusCreated, out)
}

// removeKey answers DELETE /keys/{name}.
func (a *API) removeKey(c *gin.Context) {
	a.done(c, a.Keys.Remove(c.Request.Context(), c.Param("name"), ""))
}

// listOwnKeys answers GET /account/keys.
func (a *API) listOwnKeys(c *gin.Context) {
	account, err := ownAccount(c)
	if err != nil {
		a.fail(c, err)
		return
	}
	a.answerKeys(c, func(k store.Key) bool { return k.Account == account.Name })
}

// addOwnKey answers POST /account/keys: a key with which a program acts for who has signed in.
func (a *API) addOwnKey(c *gin.Context) {
	account, err := signedInAccount(c)
	if err != nil {
		a.fail(c, err)
		return
	}
	a.answerNewKey(c, account.Name)
}

// removeOwnKey answers DELETE /account/keys/{name}; a key can remove itself.
func (a *API) removeOwnKey(c *gin.Context) {
	account, err := ownAccount(c)
	if err == nil {
		err = a.Keys.Remove(c.Request.Context(), c.Param("name"), account.Name)
	}
	a.done(c, err)
}
