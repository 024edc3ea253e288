package store

import (
	"encoding/json"
	"strconv"
	"strings"
	"time"

	"missivum/core/source"
	"missivum/service/access"
)

// RunState is how far a run is.
type RunState string

// The states of a run.
const (
	Planned RunState = "planned" // nothing is changed yet
	Held    RunState = "held"    // it changes so much that a person must confirm it
	Applied RunState = "applied"
	Undone  RunState = "undone"
	Dropped RunState = "dropped" // it was not wanted, or the next plan took its place
)

// Summary is what a run does, in numbers.
type Summary struct {
	Read      int               `json:"read"` // people whom the source gave
	New       int               `json:"new"`
	Joined    int               `json:"joined"` // whom another source has already
	Changed   int               `json:"changed"`
	Gone      int               `json:"gone"`
	Back      int               `json:"back"` // who were gone and are there again
	Unchanged int               `json:"unchanged"`
	Skipped   int               `json:"skipped"`
	Skips     []source.RowError `json:"skips"` // the first 1,000 of those that were skipped, and why
	Holds     []string          `json:"holds"` // why it is held
	Notes     []string          `json:"notes"`
	Fields    []string          `json:"fields"` // that the source gives, in its order
}

// Changes is how many changes a run makes.
func (s Summary) Changes() int { return s.New + s.Joined + s.Changed + s.Gone + s.Back }

// Run is a plan for what a source brings, and what became of it.
type Run struct {
	ID       int64
	SourceID int64
	Source   string
	Kind     string // import, sync, edit, undo
	State    RunState
	Summary  Summary
	By       access.Principal
	Planned  time.Time
	Applied  time.Time
	Ended    time.Time // when it was undone or dropped
	Revision int       // of the directory that it made
	Undoes   int64     // the run that it takes back; 0 for none
}

// RunChange is what a run does to one record.
type RunChange struct {
	Number int
	Key    string
	Person int64 // 0 for a person who is new
	Mail   string
	Kind   string // new, joined, changed, gone, back
	Before string // JSON of source.Record; blank for none
	After  string
}

const runColumns = `r.id, r.source_id, s.name, r.kind, r.state, r.summary, r.actor_kind, r.actor, r.planned_at, ` +
	`r.applied_at, r.ended_at, r.revision,
	r.undoes`

// scanRun reads a row of runs.
func scanRun(row scanner) (Run, error) {
	var r Run
	var summary, planned, applied, ended string
	err := row.Scan(&r.ID, &r.SourceID, &r.Source, &r.Kind, &r.State, &summary, &r.By.Kind, &r.By.Name, &planned, &applied,
		&ended, &r.Revision,
		&r.Undoes)
	if err != nil {
		return r, err
	}
	r.Planned, r.Applied, r.Ended = parseStamp(planned), parseStamp(applied), parseStamp(ended)
	return r, json.Unmarshal([]byte(summary), &r.Summary)
}

// AddRun stores a plan with its changes.
func (tx *Tx) AddRun(r Run, changes []RunChange) (Run, error) {
	summary, err := json.Marshal(r.Summary)
	if err != nil {
		return r, err
	}
	r.By, r.Planned = tx.by, tx.at
	result, err := tx.exec(`INSERT INTO runs (source_id, kind, state, summary, actor_kind, actor, planned_at, `+
		`applied_at, ended_at, revision, undoes)
		VALUES (?, ?, ?, ?, ?, ?, ?, '', '', 0, ?)`, r.SourceID, r.Kind, r.State, summary, r.By.Kind, r.By.Name, stamp(r.Planned), r.Undoes)
	if err != nil {
		return r, err
	}
	if r.ID, err = result.LastInsertId(); err != nil {
		return r, err
	}
	return r, tx.AddRunChanges(r.ID, 0, changes)
}

// AddRunChanges stores changes of a run behind those that it has.
func (tx *Tx) AddRunChanges(run int64, last int, changes []RunChange) error {
	for i, c := range changes {
		_, err := tx.prepared(`INSERT INTO run_changes (run_id, number, key, person_id, mail, kind, before, after) `+
			`VALUES (?, ?, ?, ?, ?, ?, ?, ?)`,
			run, last+i+1, c.Key, c.Person, c.Mail, c.Kind, c.Before, c.After)
		if err != nil {
			return err
		}
	}
	return nil
}

// LastRunChange is the number of a run's last change; 0 for none.
func (tx *Tx) LastRunChange(run int64) (n int, err error) {
	err = tx.row(`SELECT COALESCE(MAX(number), 0) FROM run_changes WHERE run_id = ?`, run).Scan(&n)
	return n, err
}

// PutRun stores what became of a run.
func (tx *Tx) PutRun(r Run) error {
	summary, err := json.Marshal(r.Summary)
	if err != nil {
		return err
	}
	return tx.execOne("run", strconv.FormatInt(r.ID, 10),
		`UPDATE runs SET state = ?, summary = ?, applied_at = ?, ended_at = ?, revision = ? WHERE id = ?`,
		r.State, summary, stamp(r.Applied), stamp(r.Ended), r.Revision, r.ID)
}

// SetRunPerson notes which person a new record became.
func (tx *Tx) SetRunPerson(run int64, number int, person int64) error {
	_, err := tx.prepared(`UPDATE run_changes SET person_id = ? WHERE run_id = ? AND number = ?`, person, run, number)
	return err
}

// Changed puts a change of the directory on record.
func (tx *Tx) Changed(action, object, name, detail string) error {
	return tx.changed(action, object, name, detail)
}

// Run reads a run.
func (tx *Tx) Run(id int64) (Run, error) {
	r, err := scanRun(tx.row(`SELECT `+runColumns+` FROM runs r JOIN sources s ON s.id = r.source_id WHERE r.id = ?`, id))
	return r, missing("run", strconv.FormatInt(id, 10), err)
}

// Runs lists the newest runs of a source, of all for a blank name, newest first. before is the id of the run that the
// list goes on behind; 0 begins with the newest.
func (tx *Tx) Runs(sourceName string, before int64, limit int) ([]Run, error) {
	return list(tx, scanRun, `SELECT `+runColumns+` FROM runs r JOIN sources s ON s.id = r.source_id
		WHERE (? = '' OR s.name = ?) AND (? = 0 OR r.id < ?) ORDER BY r.id DESC LIMIT ?`, sourceName, sourceName, before, before, limit)
}

// OpenRuns lists the plans of a source that wait for somebody.
func (tx *Tx) OpenRuns(sourceID int64) ([]Run, error) {
	return list(tx, scanRun, `SELECT `+runColumns+` FROM runs r JOIN sources s ON s.id = r.source_id
		WHERE r.source_id = ? AND r.state IN (?, ?) ORDER BY r.id`, sourceID, Planned, Held)
}

// ChangeFilter says which changes of a run are listed.
type ChangeFilter struct {
	Search string // in the mail address or the values, letter case of Latin letters aside
	Kind   string
}

// scanRunChange reads a row of changes.
func scanRunChange(row scanner) (RunChange, error) {
	var c RunChange
	return c, row.Scan(&c.Number, &c.Key, &c.Person, &c.Mail, &c.Kind, &c.Before, &c.After)
}

const changeColumns = `number, key, person_id, mail, kind, before, after`

// RunChanges lists a part of a run's changes, and counts those that the filter lets through.
func (tx *Tx) RunChanges(run int64, f ChangeFilter, offset, limit int) (changes []RunChange, total int, err error) {
	where, args := `run_id = ?`, []any{run}
	if f.Kind != "" {
		where, args = where+` AND kind = ?`, append(args, f.Kind)
	}
	if text := strings.ToLower(strings.TrimSpace(f.Search)); text != "" {
		where += ` AND (instr(lower(mail), ?) > 0 OR instr(lower(before), ?) > 0 OR instr(lower(after), ?) > 0)`
		args = append(args, text, text, text)
	}
	if err := tx.row(`SELECT COUNT(*) FROM run_changes WHERE `+where, args...).Scan(&total); err != nil {
		return nil, 0, err
	}
	changes, err = list(tx, scanRunChange, `SELECT `+changeColumns+` FROM run_changes WHERE `+where+` ORDER BY number LIMIT ? OFFSET ?`,
		append(args, limit, offset)...)
	return changes, total, err
}

// EachRunChange reads all changes of a run in their order. They are read in parts, so that others can be written
// meanwhile.
func (tx *Tx) EachRunChange(run int64, each func(RunChange) error) error {
	for last := 0; ; {
		some, err := list(tx, scanRunChange, `SELECT `+changeColumns+
			` FROM run_changes WHERE run_id = ? AND number > ? ORDER BY number LIMIT 500`,
			run, last)
		if err != nil || len(some) == 0 {
			return err
		}
		for _, c := range some {
			if err := each(c); err != nil {
				return err
			}
			last = c.Number
		}
	}
}

// ChangesOf lists the newest changes that runs made to a person, newest first, each with its run.
func (tx *Tx) ChangesOf(person int64, limit int) (runs []Run, changes []RunChange, err error) {
	type both struct {
		run    Run
		change RunChange
	}
	all, err := list(tx, func(row scanner) (b both, err error) {
		var summary, planned, applied, ended string
		r, c := &b.run, &b.change
		err = row.Scan(&r.ID, &r.SourceID, &r.Source, &r.Kind, &r.State, &summary, &r.By.Kind, &r.By.Name, &planned,
			&applied, &ended, &r.Revision,
			&r.Undoes, &c.Number, &c.Key, &c.Person, &c.Mail, &c.Kind, &c.Before, &c.After)
		r.Planned, r.Applied, r.Ended = parseStamp(planned), parseStamp(applied), parseStamp(ended)
		return b, err
	}, `SELECT `+runColumns+`, c.number, c.key, c.person_id, c.mail, c.kind, c.before, c.after
		FROM run_changes c JOIN runs r ON r.id = c.run_id JOIN sources s ON s.id = r.source_id
		WHERE c.person_id = ? AND r.applied_at <> '' ORDER BY r.id DESC, c.number LIMIT ?`, person, limit)
	for _, b := range all {
		runs, changes = append(runs, b.run), append(changes, b.change)
	}
	return runs, changes, err
}

// DropChanges forgets the changes of runs that ended or were applied before a time; the runs themselves stay.
func (tx *Tx) DropChanges(t time.Time) error {
	_, err := tx.exec(`DELETE FROM run_changes WHERE run_id IN (SELECT id FROM runs WHERE planned_at < ?)`, stamp(t))
	return err
}

// CountRuns counts the runs that are in a state.
func (tx *Tx) CountRuns(state RunState) (n int, err error) {
	err = tx.row(`SELECT COUNT(*) FROM runs WHERE state = ?`, state).Scan(&n)
	return n, err
}
