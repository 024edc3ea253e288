package api

import (
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"missivum/core/problem"
	"missivum/core/rule"
	"missivum/service/messages"
	"missivum/service/store"
)

// messageFilter reads which records are wanted from the query, or answers with the problem.
func (a *API) messageFilter(c *gin.Context) (f store.MessageFilter, ok bool) {
	f = store.MessageFilter{Find: c.Query("find"), Outcome: c.Query("outcome"), Rule: c.Query("rule"), Gateway: c.Query("gateway")}
	for name, into := range map[string]*time.Time{"since": &f.Since, "until": &f.Until} {
		text := c.Query(name)
		if text == "" {
			continue
		}
		t, err := time.Parse(time.RFC3339, text)
		if err != nil {
			a.fail(c, problem.New(problem.Invalid, "%q is no time, such as 2026-11-23T09:00:00Z (RFC 3339).", text).In(name))
			return f, false
		}
		*into = t
	}
	if len(f.Find) > 1000 {
		a.fail(c, problem.New(problem.Invalid, "What is looked for has 1000 characters at most.").In("find"))
		return f, false
	}
	return f, true
}

// listMessages answers GET /messages: what gateways did with messages, the latest first.
func (a *API) listMessages(c *gin.Context) {
	f, ok := a.messageFilter(c)
	if !ok {
		return
	}
	limit, err := strconv.Atoi(c.DefaultQuery("limit", "50"))
	if err != nil || limit < 1 || limit > messages.MaxList {
		a.fail(c, problem.New(problem.Invalid, "The limit is a number from 1 to %d.", messages.MaxList).In("limit"))
		return
	}
	if text := c.Query("before"); text != "" {
		if f.Before, err = strconv.ParseInt(text, 10, 64); err != nil || f.Before < 1 {
			a.fail(c, problem.New(problem.Invalid, "%q is no record.", text).In("before"))
			return
		}
	}
	found, err := a.Messages.Find(c.Request.Context(), f, limit)
	answer(a, c, found, err)
}

// getMessage answers GET /messages/{id}: what a gateway did with a message.
func (a *API) getMessage(c *gin.Context) {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil {
		a.fail(c, problem.Missing("record", c.Param("id")))
		return
	}
	m, err := a.Messages.Get(c.Request.Context(), id)
	answer(a, c, m, err)
}

// countMessages answers GET /messages/counts: how many records there are by outcome.
func (a *API) countMessages(c *gin.Context) {
	f, ok := a.messageFilter(c)
	if !ok {
		return
	}
	counts, err := a.Messages.Count(c.Request.Context(), f)
	answer(a, c, counts, err)
}

// getMessageSettings answers GET /messages/settings: for how long records are kept.
func (a *API) getMessageSettings(c *gin.Context) {
	s, err := a.Messages.Settings(c.Request.Context())
	answer(a, c, s, err)
}

// putMessageSettings answers PUT /messages/settings.
func (a *API) putMessageSettings(c *gin.Context) {
	in, ok := body[messages.Settings](a, c)
	if !ok {
		return
	}
	answer(a, c, in, a.Messages.PutSettings(c.Request.Context(), in))
}

// listGateways answers GET /gateways: the gateways that reported, with the bundle that each has.
func (a *API) listGateways(c *gin.Context) {
	list, err := a.Messages.Gateways(c.Request.Context())
	answer(a, c, list, err)
}

// postGatewayReport answers POST /gateways/report: a gateway tells what it did.
func (a *API) postGatewayReport(c *gin.Context) {
	in, ok := body[rule.GatewayReport](a, c)
	if !ok {
		return
	}
	if err := a.Messages.Take(c.Request.Context(), in); err != nil {
		a.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}
