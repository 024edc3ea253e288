package api

import (
	"net/http"
	"strconv"

	"github.com/gin-gonic/gin"

	"missivum/core/kit"
	"missivum/core/problem"
)

// maxTried is how large a message may be that the rules are tried on, in bytes.
const maxTried = 20 << 20

// rulesRequest is mail rules to be stored.
type rulesRequest struct {
	Document string `json:"document"`
	Note     string `json:"note"`
	Base     int    `json:"base"` // the version that they were made from; negative for any
}

// tryRequest is a message that the rules are tried on.
type tryRequest struct {
	Document   string   `json:"document"` // blank for the stored rules
	Message    []byte   `json:"message"`
	Recipients []string `json:"recipients"`
	Trials     bool     `json:"trials"`
}

// getMailRules answers GET /rules: the mail rules, the latest version or another.
func (a *API) getMailRules(c *gin.Context) {
	number := 0
	if text := c.Query("version"); text != "" {
		var err error
		if number, err = strconv.Atoi(text); err != nil || number < 1 {
			a.fail(c, problem.New(problem.Invalid, "%q is no version.", text).In("version"))
			return
		}
	}
	state, err := a.Rules.Get(c.Request.Context(), number)
	answer(a, c, state, err)
}

// listMailRulesVersions answers GET /rules/versions: the versions, the latest first.
func (a *API) listMailRulesVersions(c *gin.Context) {
	list, err := a.Rules.Versions(c.Request.Context())
	answer(a, c, list, err)
}

// putMailRules answers PUT /rules: store the mail rules as a new version.
func (a *API) putMailRules(c *gin.Context) {
	in, ok := body[rulesRequest](a, c)
	if !ok {
		return
	}
	state, err := a.Rules.Put(c.Request.Context(), in.Document, in.Note, in.Base)
	answer(a, c, state, err)
}

// tryMailRules answers POST /rules/try: what the rules do with a message, and why.
func (a *API) tryMailRules(c *gin.Context) {
	in, ok := body[tryRequest](a, c)
	if !ok {
		return
	}
	tried, err := a.Rules.Try(c.Request.Context(), in.Document, in.Message, in.Recipients, in.Trials)
	if err != nil {
		a.fail(c, err)
		return
	}
	reply(c, http.StatusOK, tried)
}

// getRulesBundle answers GET /rules/bundle: the signed file that gateways take. A gateway that has it already gets 304.
func (a *API) getRulesBundle(c *gin.Context) {
	data, err := a.Rules.Bundle(c.Request.Context())
	if err != nil {
		a.fail(c, err)
		return
	}
	tag := `"` + kit.Digest(data) + `"`
	c.Header("ETag", tag)
	if c.GetHeader("If-None-Match") == tag {
		c.Status(http.StatusNotModified)
		return
	}
	c.Data(http.StatusOK, "application/octet-stream", data)
}
