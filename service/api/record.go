package api

import (
	"encoding/csv"
	"encoding/hex"
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"missivum/core/problem"
	"missivum/service/access"
	"missivum/service/record"
	"missivum/service/store"
)

// Entry is one entry of the record.
type Entry struct {
	Number int64            `json:"number"`
	At     time.Time        `json:"at"`
	By     access.Principal `json:"by"`
	Where  string           `json:"where"` // address; blank for this machine
	Action string           `json:"action"`
	Object string           `json:"object"` // kind of thing
	Name   string           `json:"name"`
	Detail string           `json:"detail"`
	Before string           `json:"before"` // SHA-256 of what the thing held
	After  string           `json:"after"`
	Link   string           `json:"link"` // SHA-256 over this entry and the link before
}

func entryOf(e store.Entry) Entry {
	return Entry{e.ID, e.At, e.By, e.Where, e.Action, e.Object, e.Name, e.Detail, e.Before, e.After, hex.EncodeToString(e.Link)}
}

// recordFilter reads which entries are asked for.
func recordFilter(c *gin.Context) (f store.RecordFilter, before int64, err error) {
	f = store.RecordFilter{Who: c.Query("who"), Object: c.Query("object"), Name: c.Query("name"), Action: c.Query("action")}
	for name, into := range map[string]*time.Time{"since": &f.Since, "until": &f.Until} {
		if text := c.Query(name); text != "" {
			if *into, err = time.Parse(time.DateOnly, text); err != nil {
				return f, 0, problem.New(problem.Invalid, "%q is no day; write it as 2026-11-28.", text).In(name)
			}
		}
	}
	if !f.Until.IsZero() {
		f.Until = f.Until.AddDate(0, 0, 1) // with that day
	}
	number, err := number(c, "before", 0)
	return f, int64(number), err
}

// listRecord answers GET /record: the newest entries, 200 at a time; as CSV all of them.
func (a *API) listRecord(c *gin.Context) {
	f, before, err := recordFilter(c)
	if err != nil {
		a.fail(c, err)
		return
	}
	if c.Query("form") == "csv" {
		a.recordCSV(c, f)
		return
	}
	list := []Entry{}
	err = a.Record.Each(c.Request.Context(), f, before, mostListed, func(e store.Entry) error {
		list = append(list, entryOf(e))
		return nil
	})
	answer(a, c, list, err)
}

// recordCSV answers with all entries that a filter lets through as CSV (RFC 4180), newest first.
func (a *API) recordCSV(c *gin.Context, f store.RecordFilter) {
	c.Header("Content-Type", "text/csv; charset=utf-8")
	c.Header("Content-Disposition", `attachment; filename="record.csv"`)
	out := csv.NewWriter(c.Writer)
	err := out.Write([]string{"number", "time", "kind", "who", "from", "action", "object", "name", "detail", "before", "after", "link"})
	if err == nil {
		err = a.Record.Each(c.Request.Context(), f, 0, 0, func(e store.Entry) error {
			return out.Write([]string{strconv.FormatInt(e.ID, 10), e.At.UTC().Format(time.RFC3339Nano), string(e.By.Kind), e.By.Name, e.Where,
				e.Action, e.Object, e.Name, e.Detail, e.Before, e.After, hex.EncodeToString(e.Link)})
		})
	}
	out.Flush()
	if err != nil {
		a.Log.Error("writing the record", "error", err) // the answer has begun
		panic(http.ErrAbortHandler)                     // so that half a file is not taken for a whole one
	}
}

// listRecordWords answers GET /record/words: which kinds of things and actions the record has.
func (a *API) listRecordWords(c *gin.Context) {
	objects, actions, err := a.Record.Words(c.Request.Context())
	answer(a, c, gin.H{"objects": objects, "actions": actions}, err)
}

// RecordCheck says whether the record is whole.
type RecordCheck struct {
	Whole   bool   `json:"whole"`
	Says    string `json:"says"` // what is wrong
	Entries int64  `json:"entries"`
	Pruned  int64  `json:"pruned"` // number of the last entry that was pruned; 0 for none
	Last    int64  `json:"last"`
	Link    string `json:"link"`   // of the last
	Broken  int64  `json:"broken"` // number of the first entry that does not follow; 0 for none
}

// checkRecord answers GET /record/check; number and link are those of an entry that was kept elsewhere.
func (a *API) checkRecord(c *gin.Context) {
	at, err := number(c, "number", 0)
	var link []byte
	if err == nil {
		if link, err = hex.DecodeString(c.Query("link")); err != nil {
			err = problem.New(problem.Invalid, "The link must be the 64 hexadecimal digits that an earlier check printed.").In("link")
		}
	}
	if err != nil {
		a.fail(c, err)
		return
	}
	checked, err := a.Record.Check(c.Request.Context(), int64(at), link)
	out := RecordCheck{Whole: err == nil, Entries: checked.Entries, Pruned: checked.Pruned, Last: checked.Last,
		Link: hex.EncodeToString(checked.Link), Broken: checked.Broken}
	if known, ok := problem.Of(err); ok && known.Kind == problem.Refused {
		out.Says, err = known.Message, nil
	}
	answer(a, c, out, err)
}

// getRecordSettings answers GET /record/settings.
func (a *API) getRecordSettings(c *gin.Context) {
	settings, err := a.Record.Settings(c.Request.Context())
	answer(a, c, settings, err)
}

// putRecordSettings answers PUT /record/settings.
func (a *API) putRecordSettings(c *gin.Context) {
	in, ok := body[record.Settings](a, c)
	if ok {
		a.done(c, a.Record.PutSettings(c.Request.Context(), in))
	}
}
