package api

import (
	"net/http"
	"slices"

	"github.com/gin-gonic/gin"

	"missivum/core/block"
)

// Dialect is how a mail host writes placeholders.
type Dialect struct {
	*block.Dialect
	Own bool `json:"own"` // the organisation's own
}

// listDialects answers GET /dialects: the organisation's own, and the examples.
func (a *API) listDialects(c *gin.Context) {
	all, own, err := a.Dialects.List(c.Request.Context())
	list := []Dialect{}
	for _, d := range all {
		list = append(list, Dialect{d, slices.Contains(own, d.ID)})
	}
	answer(a, c, list, err)
}

// getDialectDocument answers GET /dialects/{id}/document: a dialect as it can be edited, or one to begin with.
func (a *API) getDialectDocument(c *gin.Context) {
	text, own, err := a.Dialects.Document(c.Request.Context(), c.Param("id"))
	answer(a, c, ClientDocument{text, own}, err)
}

// putDialectDocument answers PUT /dialects/{id}/document: store a dialect of the organisation's own.
func (a *API) putDialectDocument(c *gin.Context) {
	in, ok := body[ClientDocument](a, c)
	if !ok {
		return
	}
	d, err := a.Dialects.Put(c.Request.Context(), c.Param("id"), in.Document)
	answer(a, c, Dialect{d, true}, err)
}

// removeDialectDocument answers DELETE /dialects/{id}/document.
func (a *API) removeDialectDocument(c *gin.Context) {
	if err := a.Dialects.Remove(c.Request.Context(), c.Param("id")); err != nil {
		a.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// exported is a block with what it was made of.
func (a *API) exported(c *gin.Context) (in blockRequest, s subject, sheet block.Sheet, ok bool) {
	var err error
	if s, err = a.readSubject(c, &in, &in.Draft); err != nil {
		a.fail(c, err)
		return in, s, sheet, false
	}
	dialect, err := a.Dialects.Find(c.Request.Context(), in.Dialect)
	if err == nil {
		in.Variant, err = s.variant(in.Variant)
	}
	if err == nil {
		sheet = block.Sheet{Title: s.template.Title(), Version: s.template.Version(), Dialect: dialect, Day: a.Now(),
			For: in.For, Except: in.Except}
		sheet.Block, err = block.ExportTemplate(s.template, s.people.Schema, in.Variant, a.Now(), dialect, s.people)
	}
	if err != nil {
		a.fail(c, err)
		return in, s, sheet, false
	}
	return in, s, sheet, true
}

// exportBlock answers POST /templates/{name}/block: the block for a mail host, and what is lost.
func (a *API) exportBlock(c *gin.Context) {
	if _, _, sheet, ok := a.exported(c); ok {
		reply(c, http.StatusOK, sheet.Block)
	}
}

// exportSheet answers POST /templates/{name}/rule-sheet: the steps at a mail host, to print and tick off, as a page.
func (a *API) exportSheet(c *gin.Context) {
	in, s, sheet, ok := a.exported(c)
	if !ok {
		return
	}
	profiles, err := a.profiles(c.Request.Context(), nil)
	if err == nil {
		sheet.Phrases, err = block.Phrases(s.template, s.people.Schema, in.Variant, a.Now(), s.people, profiles)
	}
	var page []byte
	if err == nil {
		page, err = sheet.HTML()
	}
	if err != nil {
		a.fail(c, err)
		return
	}
	c.Header("Content-Disposition", `attachment; filename="rule-sheet.html"`)
	c.Data(http.StatusOK, "text/html; charset=utf-8", page)
}
