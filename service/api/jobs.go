package api

import (
	"encoding/json"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"missivum/service/access"
	"missivum/service/store"
)

// job is long work and how far it is.
type job struct {
	ID       string           `json:"id"`
	Kind     string           `json:"kind"` // package, photos
	Title    string           `json:"title"`
	State    string           `json:"state"` // waiting, running, ready, stopped, failed
	Total    int              `json:"total"`
	Done     int              `json:"done"`
	Unit     string           `json:"unit"` // what is counted: people, photos
	Message  string           `json:"message"`
	Result   json.RawMessage  `json:"result"`
	By       access.Principal `json:"by"`
	Created  time.Time        `json:"created"`
	Started  *time.Time       `json:"started"`
	Finished *time.Time       `json:"finished"`
}

// mostListed is how many jobs or entries one answer holds at most.
const mostListed = 200

// jobOf is a stored job as the interface shows it.
func jobOf(j store.Job) job {
	out := job{
		ID: j.ID, Kind: j.Kind, Title: j.Title, State: string(j.State), Total: j.Total, Done: j.Done, Unit: j.Unit, Message: j.Message,
		Result: json.RawMessage(j.Result), By: j.By, Created: j.Created,
	}
	if !j.Started.IsZero() {
		out.Started = &j.Started
	}
	if !j.Finished.IsZero() {
		out.Finished = &j.Finished
	}
	return out
}

// listJobs answers GET /jobs: the newest long work, newest first.
func (a *API) listJobs(c *gin.Context) {
	records, err := a.Jobs.List(c.Request.Context(), c.Query("kind"), mostListed)
	list := []job{}
	for _, j := range records {
		list = append(list, jobOf(j))
	}
	answer(a, c, list, err)
}

// getJob answers GET /jobs/{id}: how far long work is.
func (a *API) getJob(c *gin.Context) {
	record, err := a.Jobs.Get(c.Request.Context(), c.Param("id"))
	answer(a, c, jobOf(record), err)
}

// stopJob answers POST /jobs/{id}/stop: stop long work that waits or runs.
func (a *API) stopJob(c *gin.Context) {
	if err := a.Jobs.Stop(c.Request.Context(), c.Param("id")); err != nil {
		a.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}
