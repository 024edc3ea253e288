// Package api is the HTTP interface of the service: routes under /api/v1 that translate between
// requests and the service's packages, the OpenAPI description, and the guards that keep web pages from
// driving a service on the same machine. Start with New.
package api

import (
	"embed"
	"errors"
	"io/fs"
	"log/slog"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"
	"golang.org/x/sync/semaphore"

	"missivum/core/field"
	"missivum/core/picture"
	"missivum/core/shrink"
	"missivum/service/clients"
	"missivum/service/drawing"
	"missivum/service/packages"
	"missivum/service/people"
	"missivum/service/pictures"
	"missivum/service/store"
	"missivum/service/templates"
)

// Limits of request bodies, in bytes.
const (
	MaxJSON    = 4 << 20
	MaxArchive = 64 << 20
	MaxCSV     = 256 << 20
)

// API serves the service's capabilities over HTTP.
type API struct {
	Store     *store.Store
	Clients   *clients.Clients
	Templates *templates.Templates
	People    *people.People
	Packages  *packages.Packages
	Pictures  *pictures.Pictures
	Drawings  *semaphore.Weighted // how many requests at once let a browser draw
	Console   fs.FS               // the built console; nil for none
	Log       *slog.Logger
	Now       func() time.Time
	Version   string
}

// New makes the handler of all routes.
func New(a *API) http.Handler {
	gin.SetMode(gin.ReleaseMode)
	r := gin.New()
	r.HandleMethodNotAllowed = true
	r.UseRawPath, r.UnescapePathValues = true, true
	r.Use(a.requestID, a.logged, a.recovered, headers, onlyLoopbackNames, noCrossSiteWrites)
	r.GET("/healthz", func(c *gin.Context) { c.JSON(http.StatusOK, Health{Status: "ok", Version: a.Version}) })
	r.GET("/readyz", a.ready)
	v1 := r.Group("/api/v1")
	v1.GET("/openapi.json", openAPI)

	v1.GET("/templates", a.listTemplates)
	v1.GET("/templates/:name", a.getTemplate)
	v1.PUT("/templates/:name", limit(MaxJSON), a.saveTemplate)
	v1.GET("/templates/:name/versions", a.listVersions)
	v1.GET("/templates/:name/versions/:number", a.getVersion)
	v1.GET("/templates/:name/archive", a.getArchive)
	v1.PUT("/templates/:name/archive", limit(MaxArchive), a.putArchive)
	v1.GET("/templates/:name/pictures/:file", a.getPicture)
	v1.PUT("/templates/:name/pictures/:file", limit(MaxJSON), a.putPicture)
	v1.POST("/templates/:name/check", limit(MaxJSON), a.checkTemplate)
	v1.POST("/templates/:name/fix", limit(MaxJSON), a.fixTemplate)
	v1.POST("/templates/:name/map", limit(MaxJSON), a.mapTemplate)
	v1.POST("/templates/:name/shrink", limit(MaxJSON), a.shrinkTemplate)
	v1.POST("/templates/:name/room", limit(MaxJSON), a.roomOfTemplate)
	v1.POST("/templates/:name/paste", limit(MaxJSON), a.pasteTemplate)
	v1.POST("/templates/:name/sheet", limit(MaxJSON), a.sheetOfTemplate)
	v1.POST("/templates/:name/look", limit(MaxJSON), a.lookAtTemplate)
	v1.POST("/templates/:name/block", limit(MaxJSON), a.exportBlock)
	v1.POST("/templates/:name/fill", limit(MaxJSON), a.fillTemplate)
	v1.POST("/templates/:name/new", limit(MaxArchive), a.newTemplate)
	v1.GET("/starters", a.listStarters)
	v1.GET("/forms", a.listForms)
	v1.POST("/new", limit(MaxArchive), a.previewNewTemplate)
	v1.POST("/clean", limit(MaxJSON), a.cleanSource)

	v1.GET("/people", a.listPeople)
	v1.GET("/people/hard-cases", a.listHardCases)
	v1.POST("/people/import", limit(MaxCSV), a.importPeople)

	v1.GET("/clients", a.listClients)
	v1.GET("/clients/:id", a.getClient)
	v1.GET("/clients/:id/document", a.getClientDocument)
	v1.PUT("/clients/:id/document", limit(clients.MaxDocument), a.putClientDocument)
	v1.DELETE("/clients/:id/document", a.removeClientDocument)
	v1.GET("/dialects", a.listDialects)
	v1.GET("/fields", a.listFields)

	v1.GET("/packages", a.listPackages)
	v1.POST("/packages", limit(MaxJSON), a.createPackage)
	v1.GET("/packages/:id", a.getPackage)
	v1.DELETE("/packages/:id", a.removePackage)
	v1.GET("/packages/:id/file", a.getPackageFile)

	a.pictureRoutes(v1)
	r.GET("/p/:key", gin.WrapH(http.StripPrefix("/p", a.Pictures)))

	r.NoRoute(a.console)
	r.NoMethod(func(c *gin.Context) {
		problem(c, http.StatusMethodNotAllowed, "This address does not take "+c.Request.Method+".", nil)
	})
	return r
}

// Routes lists method and path of every route under /api/v1, for the test that holds the description
// against them.
func Routes(h http.Handler) [][2]string {
	var list [][2]string
	if engine, ok := h.(*gin.Engine); ok {
		for _, r := range engine.Routes() {
			list = append(list, [2]string{r.Method, r.Path})
		}
	}
	return list
}

// Health is the answer of /healthz and /readyz.
type Health struct {
	Status  string `json:"status"`
	Version string `json:"version"`
}

func (a *API) ready(c *gin.Context) {
	if err := a.Store.Ready(c.Request.Context()); err != nil {
		problem(c, http.StatusServiceUnavailable, "The database does not answer.", nil)
		return
	}
	c.JSON(http.StatusOK, Health{Status: "ready", Version: a.Version})
}

// Problem is an error as application/problem+json (RFC 9457).
type Problem struct {
	Title   string        `json:"title"`
	Status  int           `json:"status"`
	Detail  string        `json:"detail"`
	Request string        `json:"request"`          // the request's id, as in the log
	Errors  []field.Error `json:"errors,omitempty"` // mistakes in a template, with their places
}

func problem(c *gin.Context, status int, detail string, mistakes []field.Error) {
	c.Header("Content-Type", "application/problem+json")
	c.AbortWithStatusJSON(status, Problem{
		Title: http.StatusText(status), Status: status, Detail: detail, Request: c.GetString(requestKey), Errors: mistakes,
	})
}

// fail answers with the problem that an error stands for.
func (a *API) fail(c *gin.Context, err error) {
	var mistakes field.Errors
	var invalid people.InvalidFile
	var large *http.MaxBytesError
	switch {
	case errors.Is(err, store.ErrNotFound), errors.Is(err, fs.ErrNotExist):
		problem(c, http.StatusNotFound, "There is nothing at "+c.Request.URL.Path+".", nil)
	case errors.Is(err, store.ErrConflict):
		problem(c, http.StatusConflict, "It was changed by somebody else meanwhile. Load it anew; nothing was saved.", nil)
	case errors.Is(err, packages.ErrNotReady):
		problem(c, http.StatusConflict, err.Error(), nil)
	case errors.Is(err, drawing.ErrNoBrowser), errors.Is(err, drawing.ErrNoOffice):
		problem(c, http.StatusNotImplemented, "This cannot be drawn on the service's machine: "+err.Error()+".", nil)
	case errors.As(err, &mistakes):
		problem(c, http.StatusUnprocessableEntity, "The template has mistakes and cannot be filled:\n"+mistakes.Error(), mistakes)
	case errors.As(err, &large):
		problem(c, http.StatusRequestEntityTooLarge, "The request is larger than is taken here.", nil)
	case errors.As(err, &invalid), errors.Is(err, templates.ErrRefused), errors.Is(err, pictures.ErrRefused), errors.Is(err, clients.ErrRefused), errors.Is(err, shrink.ErrNoLimit), errors.Is(err, shrink.ErrNoClient), errors.Is(err, drawing.ErrNoWordProcessor), errors.Is(err, picture.ErrUnreadable), errors.Is(err, packages.ErrRefused), errors.Is(err, errBad):
		problem(c, http.StatusUnprocessableEntity, err.Error(), nil)
	case c.Request.Context().Err() != nil:
		c.Abort() // the caller went away
	default:
		a.Log.Error("request failed", "request", c.GetString(requestKey), "path", c.Request.URL.Path, "error", err)
		problem(c, http.StatusInternalServerError, "The service could not do this; its log says why under the request's id.", nil)
	}
}

// errBad marks a request that makes no sense; the message says why.
var errBad = errors.New("not possible")

//go:embed openapi.yaml
var description embed.FS
