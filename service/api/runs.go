package api

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"missivum/core/problem"
	"missivum/core/source"
	"missivum/service/people"
	"missivum/service/store"
)

// Run is a plan for what a source brings, and what became of it.
type Run struct {
	ID     int64          `json:"id"`
	Source string         `json:"source"`
	Kind   string         `json:"kind"` // import, sync, edit, undo
	State  store.RunState `json:"state"`
	store.Summary
	By      string    `json:"by"`
	Planned time.Time `json:"planned"`
	Applied time.Time `json:"applied,omitzero"`
	Ended   time.Time `json:"ended,omitzero"` // when it was undone or dropped
	Undoes  int64     `json:"undoes"`         // the run that it takes back; 0 for none
}

// runOf is a run for the outside.
func runOf(r store.Run) Run {
	return Run{ID: r.ID, Source: r.Source, Kind: r.Kind, State: r.State, Summary: r.Summary, By: r.By.Name,
		Planned: r.Planned, Applied: r.Applied,
		Ended: r.Ended, Undoes: r.Undoes}
}

// RunChange is what a run does to one person.
type RunChange struct {
	Mail   string               `json:"mail"`
	Kind   string               `json:"kind"` // new, joined, changed, gone, back
	Fields []source.FieldChange `json:"fields"`
}

// changeOf is a change for the outside.
func changeOf(c store.RunChange) (RunChange, error) {
	out := RunChange{Mail: c.Mail, Kind: c.Kind, Fields: []source.FieldChange{}}
	if c.Kind == "gone" {
		return out, nil
	}
	before, err := source.ReadRecord(c.Before)
	if err != nil {
		return out, err
	}
	after, err := source.ReadRecord(c.After)
	out.Fields = source.Changes(before, after)
	return out, err
}

// ImportPlan is what taking a file in would change, or changed.
type ImportPlan struct {
	Run     Run             `json:"run"`
	Columns []source.Column `json:"columns"`
	Note    string          `json:"note"`    // what should be known of the file's character set; may be empty
	Changes []RunChange     `json:"changes"` // the first 200
}

// changesShown is how many changes an import lists; the counts are of all.
const changesShown = 200

// importPeople answers POST /people/import: what a file would change in the directory, or the change itself.
func (a *API) importPeople(c *gin.Context) {
	file := people.File{Source: c.Query("source"), Replace: c.Query("replace") == "true", Columns: map[string]string{}}
	for _, m := range c.QueryArray("map") {
		heading, field, ok := strings.Cut(m, "=")
		if !ok {
			a.fail(c, problem.New(problem.Invalid, "Map=%s must be a heading, = and a field.", m))
			return
		}
		file.Columns[heading] = field
	}
	done, err := parts(c, &file)
	defer done()
	if err != nil {
		a.fail(c, err)
		return
	}
	plan, err := a.People.PlanFile(c.Request.Context(), file)
	if err != nil {
		a.fail(c, err)
		return
	}
	out := ImportPlan{Columns: plan.Columns, Note: plan.Note, Changes: []RunChange{}}
	if c.Query("apply") == "true" && (plan.Run.State == store.Planned || c.Query("confirm") == "true") {
		if plan.Run, err = a.People.Apply(c.Request.Context(), plan.Run.ID, true); err != nil {
			a.fail(c, err)
			return
		}
	}
	out.Run = runOf(plan.Run)
	out.Changes, _, err = a.changes(c, plan.Run.ID, store.ChangeFilter{}, 0, changesShown)
	answer(a, c, out, err)
}

// parts finds the file in a request: it is the body, or a part "people" beside a part "mapping" (RFC 7578). done is to
// be called when it was read.
func parts(c *gin.Context, file *people.File) (done func(), err error) {
	done = func() {}
	file.Body = c.Request.Body
	kind, parameters, err := mime.ParseMediaType(c.GetHeader("Content-Type"))
	if err != nil || kind != "multipart/form-data" {
		return done, nil
	}
	file.Body = nil
	form := multipart.NewReader(c.Request.Body, parameters["boundary"])
	for {
		part, err := form.NextPart()
		switch {
		case errors.Is(err, io.EOF) && file.Body == nil:
			return done, problem.New(problem.Invalid, "The form has no part \"people\" with the file.").In("people")
		case errors.Is(err, io.EOF):
			return done, nil
		case err != nil:
			return done, problem.New(problem.Invalid, "The form cannot be read: %v", err)
		}
		switch part.FormName() {
		case "mapping":
			text, err := io.ReadAll(part)
			if err != nil {
				return done, err
			}
			mapping, err := source.ReadMapping(text, nil)
			if err != nil {
				return done, err
			}
			file.Mapping = &mapping
		case "people":
			f, err := os.CreateTemp("", "missivum-people-")
			if err != nil {
				return done, err
			}
			done = func() { f.Close() }
			if err := os.Remove(f.Name()); err != nil { // it goes with the process, however that ends
				return done, err
			}
			if _, err := io.Copy(f, part); err != nil {
				return done, err
			}
			if _, err := f.Seek(0, io.SeekStart); err != nil {
				return done, err
			}
			file.Body = f
		}
	}
}

// changes lists a part of a run's changes.
func (a *API) changes(c *gin.Context, run int64, f store.ChangeFilter, offset, limit int) (list []RunChange, total int, err error) {
	list = []RunChange{}
	err = a.Store.Read(c.Request.Context(), func(tx *store.Tx) error {
		var some []store.RunChange
		if some, total, err = tx.RunChanges(run, f, offset, limit); err != nil {
			return err
		}
		for _, one := range some {
			change, err := changeOf(one)
			if err != nil {
				return err
			}
			list = append(list, change)
		}
		return nil
	})
	return list, total, err
}

// listRuns answers GET /runs: the newest runs.
func (a *API) listRuns(c *gin.Context) {
	before, err := number(c, "before", 0)
	if err != nil {
		a.fail(c, err)
		return
	}
	list := []Run{}
	err = a.Store.Read(c.Request.Context(), func(tx *store.Tx) error {
		runs, err := tx.Runs(c.Query("source"), int64(before), 100)
		for _, r := range runs {
			r.Summary.Skips = nil
			list = append(list, runOf(r))
		}
		return err
	})
	answer(a, c, list, err)
}

// runID reads the run of a path.
func runID(c *gin.Context) (int64, error) {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil || id < 1 {
		return 0, problem.New(problem.Invalid, "%q is no run.", c.Param("id")).In("id")
	}
	return id, nil
}

// run answers with a run that something was done with.
func (a *API) run(c *gin.Context, do func(id int64) (store.Run, error)) {
	id, err := runID(c)
	if err != nil {
		a.fail(c, err)
		return
	}
	r, err := do(id)
	answer(a, c, runOf(r), err)
}

// getRun answers GET /runs/{id}.
func (a *API) getRun(c *gin.Context) {
	a.run(c, func(id int64) (r store.Run, err error) {
		err = a.Store.Read(c.Request.Context(), func(tx *store.Tx) error {
			r, err = tx.Run(id)
			return err
		})
		return r, err
	})
}

// applyRun answers POST /runs/{id}/apply: carries a plan out.
func (a *API) applyRun(c *gin.Context) {
	a.run(c, func(id int64) (store.Run, error) {
		return a.People.Apply(c.Request.Context(), id, c.Query("confirm") == "true")
	})
}

// dropRun answers POST /runs/{id}/drop: ends a plan that is not wanted.
func (a *API) dropRun(c *gin.Context) {
	a.run(c, func(id int64) (store.Run, error) { return a.People.Drop(c.Request.Context(), id) })
}

// undoRun answers POST /runs/{id}/undo: takes a run back.
func (a *API) undoRun(c *gin.Context) {
	a.run(c, func(id int64) (store.Run, error) { return a.People.Undo(c.Request.Context(), id) })
}

// RunChanges is a part of what a run does.
type RunChanges struct {
	Total   int         `json:"total"`
	Changes []RunChange `json:"changes"`
}

// listRunChanges answers GET /runs/{id}/changes: what a run does, person by person.
func (a *API) listRunChanges(c *gin.Context) {
	id, err := runID(c)
	if err != nil {
		a.fail(c, err)
		return
	}
	offset, size, err := part(c, 100)
	if err != nil {
		a.fail(c, err)
		return
	}
	filter := store.ChangeFilter{Search: c.Query("search"), Kind: c.Query("kind")}
	if asCSV(c) {
		a.exportChanges(c, id, filter)
		return
	}
	list, total, err := a.changes(c, id, filter, offset, size)
	answer(a, c, RunChanges{Total: total, Changes: list}, err)
}

// asCSV reports whether a request asks for CSV: by format=csv, as links do, or by its Accept header.
func asCSV(c *gin.Context) bool {
	return c.Query("format") == "csv" || c.NegotiateFormat("application/json", "text/csv") == "text/csv"
}

// exportChanges writes the changes of a run as CSV, one row for each value.
func (a *API) exportChanges(c *gin.Context, id int64, filter store.ChangeFilter) {
	c.Header("Content-Type", "text/csv; charset=utf-8")
	c.Header("Content-Disposition", fmt.Sprintf(`attachment; filename="run-%d.csv"`, id))
	out := csv.NewWriter(c.Writer)
	if err := out.Write([]string{"mail", "kind", "field", "before", "after"}); err != nil {
		return // the caller went away
	}
	for offset := 0; ; offset += maxPage {
		list, total, err := a.changes(c, id, filter, offset, maxPage)
		if err != nil {
			a.Log.Error("exporting changes", "error", err)
			return
		}
		for _, change := range list {
			rows := change.Fields
			if len(rows) == 0 {
				rows = []source.FieldChange{{}}
			}
			for _, f := range rows {
				if err := out.Write([]string{change.Mail, change.Kind, f.Field, f.Before, f.After}); err != nil {
					return
				}
			}
		}
		if offset+maxPage >= total {
			out.Flush()
			return
		}
	}
}

// getRules answers GET /people/rules: how the directory is kept.
func (a *API) getRules(c *gin.Context) {
	rules, err := a.People.Rules(c.Request.Context())
	answer(a, c, rules, err)
}

// putRules answers PUT /people/rules.
func (a *API) putRules(c *gin.Context) {
	var in people.Rules
	if err := readJSON(c, &in); err != nil {
		a.fail(c, err)
		return
	}
	if err := a.People.PutRules(c.Request.Context(), in); err != nil {
		a.fail(c, err)
		return
	}
	a.getRules(c)
}
