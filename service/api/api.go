// Package api is the HTTP interface of the service: routes under /api/v1 that translate between
// requests and the service's packages, the OpenAPI description, and the guards that keep web pages from
// driving a service on the same machine. Start with New.
package api

import (
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net/http"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/gin-contrib/gzip"
	"github.com/gin-gonic/gin"
	"golang.org/x/sync/semaphore"

	"missivum/core/problem"
	"missivum/core/wire"
	"missivum/service/accounts"
	"missivum/service/addon"
	"missivum/service/clients"
	"missivum/service/desks"
	"missivum/service/dialects"
	"missivum/service/hosting"
	"missivum/service/jobs"
	"missivum/service/keys"
	"missivum/service/messages"
	"missivum/service/organisation"
	"missivum/service/packages"
	"missivum/service/people"
	"missivum/service/personal"
	"missivum/service/pictures"
	"missivum/service/record"
	"missivum/service/releases"
	"missivum/service/rules"
	"missivum/service/scim"
	"missivum/service/sources"
	"missivum/service/store"
	"missivum/service/templates"
)

// Limits of request bodies, in bytes.
const (
	MaxJSON    = 4 << 20
	MaxArchive = 64 << 20
	maxCSV     = 64 << 20
)

// API serves the service's capabilities over HTTP.
type API struct {
	Store              *store.Store
	Clients            *clients.Clients
	Templates          *templates.Templates
	People             *people.People
	Packages           *packages.Packages
	Pictures           *pictures.Pictures
	Hosting            *hosting.Hosting
	Jobs               *jobs.Jobs
	Sources            *sources.Sources
	Keys               *keys.Keys
	Accounts           *accounts.Accounts
	Loopback           bool   // it is reached by loopback only: without accounts its owner needs none
	Address            string // under which people reach it, such as https://signatures.brackwater.example; blank where that is not known
	Record             *record.Record
	Organisation       *organisation.Organisation
	Secure             bool     // it is reached by HTTPS
	Names              []string // hosts that it answers to; empty for every host, where it is not loopback
	SCIM               *scim.SCIM
	Releases           *releases.Releases
	Desks              *desks.Desks
	Dialects           *dialects.Dialects
	Rules              *rules.Rules
	Messages           *messages.Messages
	Personal           *personal.Personal
	AddOn              *addon.AddOn
	BodyPause          time.Duration // how long a request's body may pause; 0 for the standard
	Data, Backups      string        // folders, for the figures
	counted            *counted
	lines, pictureLine *line
	Drawings           *semaphore.Weighted // how many requests at once let a browser draw
	Console            fs.FS               // the built console; nil for none
	Log                *slog.Logger
	Now                func() time.Time
	Version            string
}

// New makes the handler of all routes.
func New(a *API) http.Handler {
	gin.SetMode(gin.ReleaseMode)
	a.counted = newCounted()
	a.lines, a.pictureLine = newLine(heavySlots()), newLine(1)
	if heavySlots() == 1 {
		a.pictureLine = a.lines
	}
	r := gin.New()
	r.HandleMethodNotAllowed = true
	r.UseRawPath, r.UnescapePathValues = true, true
	r.Use(a.requestID, a.logged, a.recovered, a.headers, a.named, noCrossSiteWrites, a.identify, a.permit)
	a.watchRoutes(r)
	v1 := r.Group("/api/v1")
	v1.GET("/openapi.json", openAPI)

	v1.GET("/templates", a.listTemplates)
	v1.GET("/templates/:name", a.getTemplate)
	v1.PUT("/templates/:name", a.limit(MaxJSON), a.saveTemplate)
	v1.GET("/templates/:name/versions", a.listVersions)
	v1.GET("/templates/:name/versions/:number", a.getVersion)
	v1.GET("/templates/:name/archive", a.getArchive)
	v1.PUT("/templates/:name/archive", a.limit(MaxArchive), a.spooled, a.putArchive)
	v1.GET("/templates/:name/pictures/:file", a.getPicture)
	v1.PUT("/templates/:name/pictures/:file", a.limit(MaxJSON), a.putPicture)
	v1.POST("/templates/:name/check", a.limit(MaxJSON), a.heavy, a.checkTemplate)
	v1.POST("/templates/:name/fix", a.limit(MaxJSON), a.heavy, a.fixTemplate)
	v1.POST("/templates/:name/map", a.limit(MaxJSON), a.heavy, a.mapTemplate)
	v1.POST("/templates/:name/shrink", a.limit(MaxJSON), a.heavy, a.shrinkTemplate)
	v1.POST("/templates/:name/space", a.limit(MaxJSON), a.heavy, a.spaceOfTemplate)
	v1.POST("/templates/:name/paste", a.limit(MaxJSON), a.pasteTemplate)
	v1.POST("/templates/:name/sheet", a.limit(MaxJSON), a.sheetOfTemplate)
	v1.POST("/templates/:name/look", a.limit(MaxJSON), a.quick, a.lookAtTemplate)
	v1.POST("/templates/:name/block", a.limit(MaxJSON), a.heavy, a.exportBlock)
	v1.POST("/templates/:name/rule-sheet", a.limit(MaxJSON), a.heavy, a.exportSheet)
	v1.POST("/templates/:name/fill", a.limit(MaxJSON), a.heavy, a.fillTemplate)
	v1.POST("/templates/:name/new", a.limit(MaxArchive), a.spooled, a.newTemplate)
	v1.GET("/starters", a.listStarters)
	v1.GET("/forms", a.listForms)
	v1.POST("/new", a.limit(MaxArchive), a.spooled, a.previewNewTemplate)
	v1.POST("/clean", a.limit(MaxJSON), a.heavy, a.cleanSource)

	v1.GET("/people", a.listPeople)
	v1.GET("/people/:mail", a.getPerson)
	v1.DELETE("/people/:mail/photo", a.removePhoto)
	v1.GET("/people/hard-cases", a.listHardCases)
	v1.PATCH("/people/:mail", a.limit(MaxJSON), a.editPerson)
	v1.GET("/people/rules", a.getRules)
	v1.PUT("/people/rules", a.limit(MaxJSON), a.putRules)
	v1.POST("/people/import", a.limit(maxCSV), a.spooled, a.importPeople)

	v1.GET("/people/faults", a.heavy, a.listFaults)

	v1.GET("/audiences", a.heavy, a.listAudiences)
	v1.POST("/audiences/try", a.limit(MaxJSON), a.heavy, a.tryAudience)
	v1.PUT("/audiences/:name", a.limit(MaxJSON), a.heavy, a.putAudience)
	v1.DELETE("/audiences/:name", a.removeAudience)
	v1.GET("/audiences/:name/people", a.listMembers)
	v1.GET("/assignments", a.heavy, a.listAssignments)
	v1.PUT("/assignments", a.limit(MaxJSON), a.heavy, a.putAssignments)

	v1.GET("/sources", a.listSources)
	v1.GET("/sources/:name", a.getSource)
	v1.PUT("/sources/:name", a.limit(MaxJSON), a.putSource)
	v1.DELETE("/sources/:name", a.removeSource)
	v1.GET("/sources/:name/mappings", a.listMappings)
	v1.POST("/sources/:name/sync", a.syncSource)
	v1.POST("/sources/:name/pause", a.pauseSource)
	v1.POST("/sources/:name/resume", a.resumeSource)
	v1.POST("/sources/:name/preview", a.limit(MaxJSON), a.heavy, a.previewSource)

	v1.GET("/runs", a.listRuns)
	v1.GET("/runs/:id", a.getRun)
	v1.GET("/runs/:id/changes", a.listRunChanges)
	v1.POST("/runs/:id/apply", a.heavy, a.applyRun)
	v1.POST("/runs/:id/drop", a.dropRun)
	v1.POST("/runs/:id/undo", a.heavy, a.undoRun)

	v1.GET("/clients", a.listClients)
	v1.GET("/clients/:id", a.getClient)
	v1.GET("/clients/:id/document", a.getClientDocument)
	v1.PUT("/clients/:id/document", a.limit(clients.MaxDocument), a.putClientDocument)
	v1.DELETE("/clients/:id/document", a.removeClientDocument)
	v1.GET("/rules", a.getMailRules)
	v1.GET("/rules/versions", a.listMailRulesVersions)
	v1.GET("/rules/bundle", a.heavy, a.getRulesBundle)
	v1.PUT("/rules", a.limit(MaxJSON), a.putMailRules)
	v1.POST("/rules/try", a.limit(maxTried), a.heavy, a.tryMailRules)
	v1.POST("/rules/check", a.limit(MaxJSON), a.heavy, a.checkMailRules)
	v1.POST("/rules/samples", a.limit(MaxJSON), a.heavy, a.sampleMailRules)
	v1.POST("/rules/rehearse", a.limit(rules.MaxRehearsed), a.rehearseMailRules)
	v1.GET("/rules/pause", a.getMailRulesPause)
	v1.PUT("/rules/pause", a.limit(MaxJSON), a.putMailRulesPause)
	v1.GET("/messages", a.listMessages)
	v1.GET("/messages/:id", a.getMessage)
	v1.GET("/messages/counts", a.countMessages)
	v1.GET("/messages/settings", a.getMessageSettings)
	v1.PUT("/messages/settings", a.limit(MaxJSON), a.putMessageSettings)
	v1.GET("/gateways", a.listGateways)
	v1.POST("/gateways/report", a.limit(MaxJSON), a.postGatewayReport)
	v1.GET("/dialects", a.listDialects)
	v1.GET("/dialects/:id/document", a.getDialectDocument)
	v1.PUT("/dialects/:id/document", a.limit(MaxJSON), a.putDialectDocument)
	v1.DELETE("/dialects/:id/document", a.removeDialectDocument)
	v1.GET("/fields", a.listFields)

	v1.GET("/ways", a.listWays)
	v1.GET("/packages", a.listPackages)
	v1.POST("/packages", a.limit(MaxJSON), a.createPackage)
	v1.GET("/packages/:id", a.getPackage)
	v1.DELETE("/packages/:id", a.removePackage)
	v1.GET("/packages/:id/file", a.getPackageFile)

	v1.GET("/releases", a.listReleases)
	v1.POST("/releases", a.limit(MaxJSON), a.createRelease)
	v1.GET("/releases/settings", a.getReleaseSettings)
	v1.PUT("/releases/settings", a.limit(MaxJSON), a.putReleaseSettings)
	v1.GET("/releases/endings", a.listEndings)
	v1.GET("/releases/:id", a.getRelease)
	v1.DELETE("/releases/:id", a.removeRelease)
	v1.GET("/releases/:id/sheets/:template", a.getReleaseSheet)
	v1.POST("/releases/:id/approve", a.limit(MaxJSON), a.stepRelease(a.approveRelease))
	v1.POST("/releases/:id/send", a.limit(MaxJSON), a.stepRelease(a.sendRelease))
	v1.POST("/releases/:id/pause", a.stepRelease(a.pauseRelease))
	v1.POST("/releases/:id/resume", a.stepRelease(a.resumeRelease))
	v1.POST("/releases/:id/widen", a.stepRelease(a.widenRelease))
	v1.POST("/releases/:id/withdraw", a.stepRelease(a.withdrawRelease))
	v1.GET("/releases/:id/waves/:number/samples", a.listSamples)

	v1.GET("/desks", a.heavy, a.listDesks)
	v1.DELETE("/desks/:id", a.removeDesk)
	v1.GET("/desk/trust", a.getDeskTrust)
	small := gzip.Gzip(gzip.DefaultCompression)
	v1.GET("/desk/kit", a.deskHasIt, small, a.getDeskKit)
	v1.GET("/desk/files/*file", a.getDeskFile)
	v1.GET("/desk/pieces/*file", small, a.getDeskPieces)
	v1.GET("/desk/pictures/:digest", a.getDeskPicture)
	v1.POST("/desk/report", a.limit(maxReport), a.postDeskReport)

	v1.GET("/jobs", a.listJobs)
	v1.GET("/jobs/:id", a.getJob)
	v1.POST("/jobs/:id/stop", a.stopJob)

	a.accessRoutes(v1)
	a.personalRoutes(v1)
	a.addOnRoutes(v1)

	a.pictureRoutes(v1)
	a.scimRoutes(r)
	r.GET("/p/:key", gin.WrapH(http.StripPrefix("/p", a.Hosting)))

	r.NoRoute(a.console)
	r.NoMethod(func(c *gin.Context) {
		if c.Request.Method == http.MethodHead { // GET without the body, which the server leaves out (RFC 9110, 9.3.2)
			asked := c.Request.Clone(c.Request.Context())
			asked.Method = http.MethodGet
			c.Writer.Header().Del("Allow")
			c.Request = asked
			r.HandleContext(c)
			return
		}
		refuse(c, http.StatusMethodNotAllowed, "This address does not accept "+c.Request.Method+".")
	})
	return r
}

// Routes lists method and path of every route that is described by openapi.yaml, for the test that holds the description
// against them. What stands under /scim/v2 is described by its own standard (RFC 7644).
func Routes(h http.Handler) [][2]string {
	return slices.DeleteFunc(AllRoutes(h), func(r [2]string) bool { return strings.HasPrefix(r[1], scimPath) })
}

// AllRoutes is Routes with those under /scim/v2.
func AllRoutes(h http.Handler) [][2]string {
	var list [][2]string
	if engine, ok := h.(*gin.Engine); ok {
		for _, r := range engine.Routes() {
			list = append(list, [2]string{r.Method, r.Path})
		}
	}
	return list
}

// Watching answers health, readiness and figures, for an address of their own.
func (a *API) Watching() http.Handler {
	r := gin.New()
	r.Use(a.requestID, a.logged, a.recovered)
	a.watchRoutes(r)
	r.NoRoute(func(c *gin.Context) { refuse(c, http.StatusNotFound, "There is nothing at "+c.Request.URL.Path+".") })
	return r
}

// watchRoutes adds the routes for whatever watches services.
func (a *API) watchRoutes(r *gin.Engine) {
	r.GET("/healthz", func(c *gin.Context) { reply(c, http.StatusOK, health{Status: "ok", Version: a.Version}) })
	r.GET("/readyz", a.ready)
	r.GET("/metrics", a.metrics)
}

// health is the answer of /healthz and /readyz.
type health struct {
	Status  string `json:"status"`
	Version string `json:"version"`
}

func (a *API) ready(c *gin.Context) {
	if err := a.Store.Ready(c.Request.Context()); err != nil {
		says := "The database does not answer."
		if known, ok := problem.Of(err); ok {
			says = known.Message
		}
		refuse(c, http.StatusServiceUnavailable, says)
		return
	}
	reply(c, http.StatusOK, health{Status: "ready", Version: a.Version})
}

// Problem is an error as application/problem+json (RFC 9457).
type Problem struct {
	Title   string          `json:"title"`
	Status  int             `json:"status"`
	Detail  string          `json:"detail"`
	Kind    problem.Kind    `json:"kind,omitempty"`
	Field   string          `json:"field,omitempty"`  // the member of the request that is wrong
	Request string          `json:"request"`          // the request's id, as in the log
	Errors  []problem.Place `json:"errors,omitempty"` // mistakes in a template, with their places
}

// statuses are the HTTP statuses of the kinds of problems.
var statuses = map[problem.Kind]int{
	problem.NotFound: http.StatusNotFound, problem.Gone: http.StatusGone, problem.Conflict: http.StatusConflict,
	problem.Invalid: http.StatusUnprocessableEntity,
	problem.Refused: http.StatusUnprocessableEntity, problem.TooLarge: http.StatusRequestEntityTooLarge,
	problem.Busy: http.StatusServiceUnavailable, problem.Unavailable: http.StatusNotImplemented,
	problem.Full: http.StatusInsufficientStorage, problem.Unknown: http.StatusUnauthorized, problem.Forbidden: http.StatusForbidden,
	problem.TooOften: http.StatusTooManyRequests,
}

// reply answers with a value as JSON, in which every list is one.
func reply(c *gin.Context, status int, value any) { c.JSON(status, wire.Whole(value)) }

// refuse answers with a problem of the request itself.
func refuse(c *gin.Context, status int, detail string) {
	send(c, Problem{Status: status, Detail: detail})
}

// send writes a problem as RFC 9457 says.
func send(c *gin.Context, p Problem) {
	p.Title, p.Request = http.StatusText(p.Status), c.GetString(requestKey)
	c.Header("Content-Type", "application/problem+json")
	c.AbortWithStatusJSON(p.Status, p)
}

// fail answers with the problem that an error is. An error without a kind is the program's own: it is logged, and the
// answer names the line of the log.
func (a *API) fail(c *gin.Context, err error) {
	if strings.HasPrefix(c.Request.URL.Path, scimPath) {
		a.scimFail(c, err)
		return
	}
	var large *http.MaxBytesError
	err = store.Known(err)
	known, ok := problem.Of(err)
	switch {
	case errors.Is(err, os.ErrDeadlineExceeded):
		refuse(c, http.StatusRequestTimeout, "The rest of the request did not come.")
	case c.Request.Context().Err() != nil:
		c.Abort() // the caller went away
	case errors.As(err, &large):
		send(c, Problem{Status: http.StatusRequestEntityTooLarge, Kind: problem.TooLarge,
			Detail: fmt.Sprintf("The request is larger than the %d kB that are accepted here.", large.Limit>>10)})
	case !ok:
		a.Log.Error("request failed", "request", c.GetString(requestKey), "path", c.Request.URL.Path, "error", err)
		refuse(c, http.StatusInternalServerError, "The service could not do this; its log says why under the request's id.")
	default:
		if known.Kind == problem.Busy {
			c.Header("Retry-After", "5")
		}
		if known.Kind == problem.Unknown {
			c.Header("WWW-Authenticate", `Bearer realm="missivum"`)
		}
		detail := known.Message
		if known.Error() != err.Error() && len(known.Places) == 0 {
			detail = err.Error()
		}
		send(c, Problem{Status: statuses[known.Kind], Kind: known.Kind, Detail: detail, Field: known.Field, Errors: known.Places})
	}
}

//go:embed openapi.yaml
var description embed.FS
