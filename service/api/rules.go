package api

import (
	"net/http"
	"strconv"

	"github.com/gin-gonic/gin"

	"missivum/core/filename"
	"missivum/core/kit"
	"missivum/core/problem"
	"missivum/core/rule"
	"missivum/service/rules"
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
	InForce    bool     `json:"inForce"`  // those that gateways use instead
	Message    []byte   `json:"message"`
	Recipients []string `json:"recipients"`
	Trials     bool     `json:"trials"`
}

// rulesCheck is mail rules to be looked at.
type rulesCheck struct {
	Document string     `json:"document"`
	File     *rule.File `json:"file"` // a changed form of the document; nil for none
}

// rulesSamples asks what rules do with made-up messages.
type rulesSamples struct {
	Document string `json:"document"` // blank for the stored rules
	Sender   string `json:"sender"`   // mail address; blank for the first person
}

// Samples is what rules do with made-up messages.
type Samples struct {
	Sender  string         `json:"sender"`
	Samples []rule.Sampled `json:"samples"`
}

// rulesPause pauses the mail rules, or lets them work again.
type rulesPause struct {
	Paused bool   `json:"paused"`
	Says   string `json:"says"` // why
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
	tried, err := a.Rules.Try(c.Request.Context(), rules.Question{Document: in.Document, InForce: in.InForce, Message: in.Message,
		Recipients: in.Recipients, Trials: in.Trials})
	answer(a, c, tried, err)
}

// checkMailRules answers POST /rules/check: what rules say and what is wrong with them; nothing is stored.
func (a *API) checkMailRules(c *gin.Context) {
	in, ok := body[rulesCheck](a, c)
	if !ok {
		return
	}
	state, err := a.Rules.Check(c.Request.Context(), in.Document, in.File)
	answer(a, c, state, err)
}

// sampleMailRules answers POST /rules/samples: what rules do with made-up messages of a sender.
func (a *API) sampleMailRules(c *gin.Context) {
	in, ok := body[rulesSamples](a, c)
	if !ok {
		return
	}
	list, sender, err := a.Rules.Samples(c.Request.Context(), in.Document, in.Sender)
	answer(a, c, Samples{sender, list}, err)
}

// rehearseMailRules answers POST /rules/rehearse: run the stored rules over stored mail, in the background.
func (a *API) rehearseMailRules(c *gin.Context) {
	name := filename.Safe(c.DefaultQuery("name", "mail"))
	trials := c.Query("trials") == "true"
	record, err := a.Rules.Rehearse(c.Request.Context(), name, c.Request.Body, "", trials)
	if err != nil {
		a.fail(c, err)
		return
	}
	reply(c, http.StatusAccepted, jobOf(record))
}

// getMailRulesPause answers GET /rules/pause: whether gateways leave every message as it is.
func (a *API) getMailRulesPause(c *gin.Context) {
	p, err := a.Rules.GetPause(c.Request.Context())
	answer(a, c, p, err)
}

// putMailRulesPause answers PUT /rules/pause: gateways leave every message as it is, or stamp again.
func (a *API) putMailRulesPause(c *gin.Context) {
	in, ok := body[rulesPause](a, c)
	if !ok {
		return
	}
	p, err := a.Rules.PutPause(c.Request.Context(), in.Paused, in.Says)
	answer(a, c, p, err)
}

// getRulesBundle answers GET /rules/bundle: the signed file that gateways take, or one of the latest rules, to try them
// elsewhere. A gateway that has it already gets 304.
func (a *API) getRulesBundle(c *gin.Context) {
	make := a.Rules.Bundle
	if c.Query("latest") == "true" {
		make = a.Rules.Latest
	}
	data, err := make(c.Request.Context())
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
