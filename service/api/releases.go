package api

import (
	"fmt"
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"missivum/core/problem"
	"missivum/core/release"
	"missivum/service/releases"
	"missivum/service/store"
)

// Release is a release and how far it is.
type Release struct {
	ID           int                  `json:"id"`
	Title        string               `json:"title"`
	Note         string               `json:"note"`
	State        release.State        `json:"state"`
	Digest       string               `json:"digest"` // of everything that is frozen
	Base         string               `json:"base"`
	FrozenPeople bool                 `json:"frozenPeople"`
	Before       int                  `json:"before"` // the release that was out when this one was made; 0 for none
	Templates    []release.Template   `json:"templates"`
	Assignments  int                  `json:"assignments"` // lines
	Rules        int                  `json:"rules"`       // version of the mail rules; 0 for none
	Examined     []release.Examined   `json:"examined"`
	Differences  []release.Difference `json:"differences"`
	Fails        bool                 `json:"fails"` // something breaks
	Paused       bool                 `json:"paused"`
	MadeBy       string               `json:"madeBy"`
	Made         time.Time            `json:"made"`
	ApprovedBy   string               `json:"approvedBy"`
	Approved     time.Time            `json:"approved,omitzero"`
	Approval     string               `json:"approval"` // what the approver says
	Out          time.Time            `json:"out,omitzero"`
	WithdrawnBy  string               `json:"withdrawnBy"`
	Withdrawn    time.Time            `json:"withdrawn,omitzero"`
	Waves        []Wave               `json:"waves"`
	Job          job                  `json:"job"` // that checks it
}

// Wave is a group of people who get a release together.
type Wave struct {
	Number   int       `json:"number"`
	Audience string    `json:"audience"` // blank for everybody
	Start    time.Time `json:"start,omitzero"`
	Share    int       `json:"share"` // percent of its people who must have reported well before the next begins
	Opened   time.Time `json:"opened,omitzero"`
	People   int       `json:"people"`
	Good     int       `json:"good"`
	Wrong    int       `json:"wrong"`
	Silent   int       `json:"silent"`
}

// ReleaseRequest asks for a release of everything as it is now.
type ReleaseRequest = releases.Draft

// SendRequest sends a release out.
type SendRequest struct {
	Waves []SendWave `json:"waves"` // none: everybody at once
}

// SendWave is a wave that is asked for.
type SendWave struct {
	Audience string    `json:"audience"`
	Start    time.Time `json:"start,omitzero"`
	Share    int       `json:"share"`
}

// releaseOf is a release for the outside.
func (a *API) releaseOf(c *gin.Context, r store.Release) (Release, error) {
	out := Release{ID: r.ID, Title: r.Title, Note: r.Note, State: r.State, Digest: r.Digest, Base: r.Frozen.Base,
		FrozenPeople: r.Frozen.People != "",
		Before:       r.Before, Templates: r.Frozen.Templates, Assignments: len(r.Frozen.Assignments), Rules: r.Frozen.Rules,
		Examined:    r.Examined,
		Differences: r.Differences,
		Paused:      r.Paused, MadeBy: r.MadeBy, Made: r.Made, ApprovedBy: r.ApprovedBy, Approved: r.Approved, Approval: r.Approval, Out: r.Out,
		WithdrawnBy: r.WithdrawnBy, Withdrawn: r.Withdrawn, Waves: []Wave{}}
	for _, e := range r.Examined {
		out.Fails = out.Fails || e.Fails
	}
	if r.State == release.Out {
		counts, err := a.Desks.Waves(c.Request.Context(), r.ID)
		if err != nil {
			return out, err
		}
		for _, w := range counts {
			out.Waves = append(out.Waves, Wave(w))
		}
	}
	if len(out.Waves) == 0 {
		for i, w := range r.Waves {
			out.Waves = append(out.Waves, Wave{Number: i + 1, Audience: w.Audience, Start: w.Start, Share: w.Share, Opened: w.Opened})
		}
	}
	j, err := a.Jobs.Get(c.Request.Context(), releases.JobID(r.ID))
	if err != nil && !problem.Is(err, problem.NotFound) {
		return out, err
	}
	out.Job = jobOf(j)
	return out, nil
}

// listReleases answers GET /releases: newest first.
func (a *API) listReleases(c *gin.Context) {
	all, err := a.Releases.List(c.Request.Context())
	if err != nil {
		a.fail(c, err)
		return
	}
	list := []Release{}
	for _, r := range all {
		one, err := a.releaseOf(c, r)
		if err != nil {
			a.fail(c, err)
			return
		}
		one.Differences = nil // long; they are in the release itself
		list = append(list, one)
	}
	reply(c, http.StatusOK, list)
}

// releaseID reads the number in the path, or answers with the problem.
func (a *API) releaseID(c *gin.Context) (int, bool) {
	id, err := strconv.Atoi(c.Param("id"))
	if err != nil {
		a.fail(c, problem.Missing("release", c.Param("id")))
		return 0, false
	}
	return id, true
}

// oneRelease answers with a release as it is now.
func (a *API) oneRelease(c *gin.Context, status, id int) {
	r, err := a.Releases.Get(c.Request.Context(), id)
	if err == nil {
		var out Release
		if out, err = a.releaseOf(c, r); err == nil {
			reply(c, status, out)
			return
		}
	}
	a.fail(c, err)
}

// createRelease answers POST /releases: freeze everything as it is now, and begin to check it.
func (a *API) createRelease(c *gin.Context) {
	in, ok := body[ReleaseRequest](a, c)
	if !ok {
		return
	}
	r, err := a.Releases.Create(c.Request.Context(), in)
	if err != nil {
		a.fail(c, err)
		return
	}
	c.Header("Location", fmt.Sprintf("/api/v1/releases/%d", r.ID))
	a.oneRelease(c, http.StatusAccepted, r.ID)
}

// getRelease answers GET /releases/{id}.
func (a *API) getRelease(c *gin.Context) {
	if id, ok := a.releaseID(c); ok {
		a.oneRelease(c, http.StatusOK, id)
	}
}

// removeRelease answers DELETE /releases/{id}: of one that was never out.
func (a *API) removeRelease(c *gin.Context) {
	id, ok := a.releaseID(c)
	if !ok {
		return
	}
	if err := a.Releases.Remove(c.Request.Context(), id); err != nil {
		a.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// stepRelease makes a handler that does something with a release and answers with it.
func (a *API) stepRelease(step func(c *gin.Context, id int) error) gin.HandlerFunc {
	return func(c *gin.Context) {
		id, ok := a.releaseID(c)
		if !ok {
			return
		}
		if err := step(c, id); err != nil {
			a.fail(c, err)
			return
		}
		a.oneRelease(c, http.StatusOK, id)
	}
}

// approveRelease answers POST /releases/{id}/approve.
func (a *API) approveRelease(c *gin.Context, id int) error {
	var in struct {
		Says string `json:"says"`
	}
	if err := readJSON(c, &in); err != nil {
		return err
	}
	return a.Releases.Approve(c.Request.Context(), id, in.Says)
}

// sendRelease answers POST /releases/{id}/send.
func (a *API) sendRelease(c *gin.Context, id int) error {
	var in SendRequest
	if err := readJSON(c, &in); err != nil {
		return err
	}
	var waves []release.Wave
	for _, w := range in.Waves {
		waves = append(waves, release.Wave{Audience: w.Audience, Start: w.Start, Share: w.Share})
	}
	return a.Releases.Send(c.Request.Context(), id, waves)
}

// pauseRelease answers POST /releases/{id}/pause.
func (a *API) pauseRelease(c *gin.Context, id int) error {
	return a.Releases.Pause(c.Request.Context(), id, true)
}

// resumeRelease answers POST /releases/{id}/resume.
func (a *API) resumeRelease(c *gin.Context, id int) error {
	return a.Releases.Pause(c.Request.Context(), id, false)
}

// widenRelease answers POST /releases/{id}/widen: begin the next wave now.
func (a *API) widenRelease(c *gin.Context, id int) error {
	_, err := a.Releases.Widen(c.Request.Context(), id)
	return err
}

// withdrawRelease answers POST /releases/{id}/withdraw.
func (a *API) withdrawRelease(c *gin.Context, id int) error {
	return a.Releases.Withdraw(c.Request.Context(), id)
}

// getReleaseSheet answers GET /releases/{id}/sheets/{template}.
func (a *API) getReleaseSheet(c *gin.Context) {
	id, ok := a.releaseID(c)
	if !ok {
		return
	}
	f, media, err := a.Releases.Sheet(c.Request.Context(), id, c.Param("template"))
	if err != nil {
		a.fail(c, err)
		return
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		a.fail(c, err)
		return
	}
	c.Header("Content-Type", media)
	c.Header("Content-Security-Policy", "sandbox; default-src 'none'; style-src 'unsafe-inline'; img-src data:")
	http.ServeContent(c.Writer, c.Request, "", info.ModTime(), f)
}

// getReleaseSettings answers GET /releases/settings.
func (a *API) getReleaseSettings(c *gin.Context) {
	s, err := a.Releases.Settings(c.Request.Context())
	answer(a, c, s, err)
}

// putReleaseSettings answers PUT /releases/settings.
func (a *API) putReleaseSettings(c *gin.Context) {
	in, ok := body[releases.Settings](a, c)
	if !ok {
		return
	}
	err := a.Releases.PutSettings(c.Request.Context(), in)
	answer(a, c, in, err)
}

// listEndings answers GET /releases/endings: dated pieces that end soon.
func (a *API) listEndings(c *gin.Context) {
	list, err := a.Releases.Endings(c.Request.Context())
	answer(a, c, list, err)
}

// Sample is how a wave stood at a moment.
type Sample struct {
	At     time.Time `json:"at"`
	Good   int       `json:"good"`
	Wrong  int       `json:"wrong"`
	Silent int       `json:"silent"`
}

// listSamples answers GET /releases/{id}/waves/{number}/samples: how a wave stood over time.
func (a *API) listSamples(c *gin.Context) {
	id, ok := a.releaseID(c)
	if !ok {
		return
	}
	n, err := strconv.Atoi(c.Param("number"))
	if err != nil {
		a.fail(c, problem.Missing("wave", c.Param("number")))
		return
	}
	all, err := a.Desks.Samples(c.Request.Context(), id, n)
	list := []Sample{}
	for _, s := range all {
		list = append(list, Sample(s))
	}
	answer(a, c, list, err)
}
