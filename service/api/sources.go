package api

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"missivum/core/source"
	"missivum/service/sources"
	"missivum/service/store"
)

// Source is where people come from, and how it gets on.
type Source struct {
	Name      string           `json:"name"`
	Kind      string           `json:"kind"`
	Position  int              `json:"position"` // where several sources have a value, that of the least position counts
	Settings  sources.Settings `json:"settings"`
	Mapping   string           `json:"mapping"`
	People    int              `json:"people"` // whom it has
	Paused    bool             `json:"paused"`
	Tried     time.Time        `json:"tried,omitzero"`
	Succeeded time.Time        `json:"succeeded,omitzero"`
	Next      time.Time        `json:"next,omitzero"`
	Failure   string           `json:"failure"`  // of the last try; blank when it succeeded
	Failures  int              `json:"failures"` // in a row
	Note      string           `json:"note"`
}

// sourceOf is a source for the outside.
func sourceOf(s sources.Source) Source {
	out := Source{Name: s.Name, Kind: s.Kind, Position: s.Position, Settings: s.Settings, Mapping: s.Mapping, People: s.People,
		Paused: s.State.Paused, Tried: s.State.Tried, Succeeded: s.State.Succeeded, Failure: s.State.Failure, Failures: s.State.Failures,
		Note: s.State.Note}
	if s.Settings.Every != "" && !s.State.Paused {
		out.Next = s.State.Next
	}
	return out
}

// listSources answers GET /sources.
func (a *API) listSources(c *gin.Context) {
	all, err := a.Sources.List(c.Request.Context())
	list := []Source{}
	for _, s := range all {
		list = append(list, sourceOf(s))
	}
	answer(a, c, list, err)
}

// getSource answers GET /sources/{name}.
func (a *API) getSource(c *gin.Context) {
	s, err := a.Sources.Get(c.Request.Context(), c.Param("name"))
	answer(a, c, sourceOf(s), err)
}

// sourceRequest is a source as it is stored.
type sourceRequest struct {
	Kind     string           `json:"kind"`
	Position int              `json:"position"`
	Settings sources.Settings `json:"settings"`
	Mapping  string           `json:"mapping"`
}

// putSource answers PUT /sources/{name}.
func (a *API) putSource(c *gin.Context) {
	var in sourceRequest
	if err := readJSON(c, &in); err != nil {
		a.fail(c, err)
		return
	}
	if err := a.Sources.Put(c.Request.Context(), c.Param("name"), in.Kind, in.Position, in.Settings, in.Mapping); err != nil {
		a.fail(c, err)
		return
	}
	a.getSource(c)
}

// SourceMapping is a version of a source's mapping.
type SourceMapping struct {
	Number  int       `json:"number"`
	Mapping string    `json:"mapping"`
	Author  string    `json:"author"`
	Saved   time.Time `json:"saved"`
}

// listMappings answers GET /sources/{name}/mappings: the versions of its mapping, newest first.
func (a *API) listMappings(c *gin.Context) {
	all, err := a.Sources.Mappings(c.Request.Context(), c.Param("name"))
	list := []SourceMapping{}
	for _, m := range all {
		list = append(list, SourceMapping{m.Number, m.Mapping, m.Author, m.Created})
	}
	answer(a, c, list, err)
}

// removeSource answers DELETE /sources/{name}.
func (a *API) removeSource(c *gin.Context) {
	if err := a.Sources.Remove(c.Request.Context(), c.Param("name")); err != nil {
		a.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// syncSource answers POST /sources/{name}/sync: a job that asks the source now.
func (a *API) syncSource(c *gin.Context) {
	job, err := a.Sources.Sync(c.Request.Context(), c.Param("name"))
	if err != nil {
		a.fail(c, err)
		return
	}
	reply(c, http.StatusAccepted, jobOf(job))
}

// pauseSource answers POST /sources/{name}/pause, and resumeSource the opposite.
func (a *API) pauseSource(c *gin.Context)  { a.pause(c, true) }
func (a *API) resumeSource(c *gin.Context) { a.pause(c, false) }

// pause stops asking a source, or begins again.
func (a *API) pause(c *gin.Context, paused bool) {
	if err := a.Sources.Pause(c.Request.Context(), c.Param("name"), paused); err != nil {
		a.fail(c, err)
		return
	}
	a.getSource(c)
}

// Preview is what a source gives with a mapping, for a few people.
type Preview struct {
	Columns []source.Column `json:"columns"`
	Note    string          `json:"note"`
	Fields  []string        `json:"fields"`
	People  []PreviewPerson `json:"people"`
	Read    int             `json:"read"` // people who were looked at
}

// PreviewPerson is one of them.
type PreviewPerson struct {
	Values  []string `json:"values"`
	Reasons []string `json:"reasons"` // why this one is shown
}

// previewSource answers POST /sources/{name}/preview: what a mapping would make of five people, hard cases first.
func (a *API) previewSource(c *gin.Context) {
	var in struct {
		Mapping string `json:"mapping"`
	}
	if err := readJSON(c, &in); err != nil {
		a.fail(c, err)
		return
	}
	p, err := a.Sources.Preview(c.Request.Context(), c.Param("name"), in.Mapping)
	out := Preview{Columns: p.Columns, Note: p.Note, Fields: p.Fields, Read: p.Read, People: []PreviewPerson{}}
	for _, one := range p.People {
		out.People = append(out.People, PreviewPerson{Values: one.Values, Reasons: one.Reasons})
	}
	answer(a, c, out, err)
}

// metrics answers GET /metrics: figures in the text format of OpenMetrics 1.0, for whatever
// watches services.
func (a *API) metrics(c *gin.Context) {
	text, err := a.figures(c.Request.Context())
	if err != nil {
		a.fail(c, err)
		return
	}
	c.Data(http.StatusOK, "application/openmetrics-text; version=1.0.0; charset=utf-8", []byte(text))
}

// figures are the figures of the service as OpenMetrics text.
func (a *API) figures(ctx context.Context) (string, error) {
	var b strings.Builder
	all, err := a.Sources.List(ctx)
	if err != nil {
		return "", err
	}
	var there, left, held int
	err = a.Store.Read(ctx, func(tx *store.Tx) error {
		if there, left, err = tx.CountPeople(); err != nil {
			return err
		}
		held, err = tx.CountRuns(store.Held)
		return err
	})
	if err != nil {
		return "", err
	}
	gauge := func(name, help string) {
		fmt.Fprintf(&b, "# TYPE missivum_%s gauge\n# HELP missivum_%s %s\n", name, name, help)
	}
	gauge("people", "People in the directory.")
	fmt.Fprintf(&b, "missivum_people %d\n", there)
	gauge("people_left", "People who left and are still kept.")
	fmt.Fprintf(&b, "missivum_people_left %d\n", left)
	gauge("runs_held", "Plans that wait for somebody to confirm them.")
	fmt.Fprintf(&b, "missivum_runs_held %d\n", held)
	each := func(name, help string, value func(sources.Source) int64) {
		gauge(name, help)
		for _, s := range all {
			fmt.Fprintf(&b, "missivum_%s{source=%q} %d\n", name, s.Name, value(s))
		}
	}
	each("source_people", "People whom a source has.", func(s sources.Source) int64 { return int64(s.People) })
	each("source_failures", "How often a source failed in a row.", func(s sources.Source) int64 { return int64(s.State.Failures) })
	each("source_succeeded_seconds", "When a source was read last, in seconds since 1970; 0 for never.", func(s sources.Source) int64 {
		if s.State.Succeeded.IsZero() {
			return 0
		}
		return s.State.Succeeded.Unix()
	})
	if err := a.Messages.Figures(ctx, &b); err != nil {
		return "", err
	}
	if err := a.moreFigures(ctx, &b); err != nil {
		return "", err
	}
	b.WriteString("# EOF\n")
	return b.String(), nil
}
