package store

import (
	"time"

	"missivum/service/access"
)

// JobState is how far a job is.
type JobState string

// The states.
const (
	Waiting JobState = "waiting"
	Running JobState = "running"
	Ready   JobState = "ready"
	Stopped JobState = "stopped"
	Failed  JobState = "failed"
)

// Ended reports whether nothing more happens to the job.
func (s JobState) Ended() bool { return s != Waiting && s != Running }

// Job is the record of long work.
type Job struct {
	ID       string
	Kind     string // package, photos, ...
	Title    string // what it works on
	State    JobState
	Total    int    // of Unit
	Done     int    // of Unit
	Unit     string // people, photos, ...
	Message  string // why it failed or stopped
	Input    string // JSON; what a job that goes on after a crash begins with
	Result   string // JSON
	By       access.Principal
	Created  time.Time
	Started  time.Time // zero while it waits
	Finished time.Time // zero while it has not ended
}

const jobColumns = `j.id, j.kind, j.title, j.state, j.total, j.done, j.unit, j.message, j.input, j.result, ` +
	`j.actor_kind, j.actor, j.created_at, j.started_at, j.finished_at`

// scanJob reads a row of jobs.
func scanJob(row scanner) (Job, error) {
	var j Job
	var created, started, finished string
	err := row.Scan(&j.ID, &j.Kind, &j.Title, &j.State, &j.Total, &j.Done, &j.Unit, &j.Message, &j.Input, &j.Result,
		&j.By.Kind, &j.By.Name, &created, &started, &finished)
	j.Created, j.Started, j.Finished = parseStamp(created), parseStamp(started), parseStamp(finished)
	return j, err
}

// AddJob stores a new job, which waits.
func (tx *Tx) AddJob(j Job) (Job, error) {
	j.State, j.By, j.Created = Waiting, tx.by, tx.at
	if j.Result == "" {
		j.Result = "{}"
	}
	_, err := tx.exec(`INSERT INTO jobs (id, kind, title, state, total, done, unit, message, input, result, actor_kind, `+
		`actor, created_at, started_at, finished_at)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, '', '')`,
		j.ID, j.Kind, j.Title, j.State, j.Total, j.Done, j.Unit, j.Message, j.Input, j.Result, j.By.Kind, j.By.Name, stamp(j.Created))
	if err != nil {
		return j, err
	}
	return j, tx.changed("started", j.Kind+" job", j.ID, j.Title)
}

// PutJob stores how far a job is. Its end is a line in the table of changes, its progress is not.
func (tx *Tx) PutJob(j Job) error {
	err := tx.execOne("job", j.ID,
		`UPDATE jobs SET state = ?, total = ?, done = ?, message = ?, result = ?, started_at = ?, finished_at = ? WHERE id = ?`,
		j.State, j.Total, j.Done, j.Message, j.Result, stamp(j.Started), stamp(j.Finished), j.ID)
	if err != nil || !j.State.Ended() {
		return err
	}
	return tx.changed("ended", j.Kind+" job", j.ID, string(j.State))
}

// Job returns one job.
func (tx *Tx) Job(id string) (Job, error) {
	j, err := scanJob(tx.row(`SELECT `+jobColumns+` FROM jobs j WHERE j.id = ?`, id))
	return j, missing("job", id, err)
}

// Jobs lists the newest jobs of a kind, newest first; of all kinds for an empty one.
func (tx *Tx) Jobs(kind string, limit int) ([]Job, error) {
	return list(tx, scanJob, `SELECT `+jobColumns+
		` FROM jobs j WHERE ? IN ('', j.kind) ORDER BY j.created_at DESC, j.rowid DESC LIMIT ?`, kind, limit)
}

// OpenJobs lists the jobs that have not ended, oldest first.
func (tx *Tx) OpenJobs() ([]Job, error) {
	return list(tx, scanJob, `SELECT `+jobColumns+` FROM jobs j WHERE j.state IN ('waiting', 'running') ORDER BY j.created_at, j.rowid`)
}

// removeJob removes a job that has ended from the history.
func (tx *Tx) removeJob(id string) error {
	if err := tx.execOne("job", id, `DELETE FROM jobs WHERE id = ?`, id); err != nil {
		return err
	}
	return tx.removed("job", id, "")
}
