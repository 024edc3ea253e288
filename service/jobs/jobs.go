// Package jobs runs long work in the background: it queues, counts, stops and remembers it. A job is stored before it
// begins, so that after a crash it goes on or is ended cleanly. A capability registers how its kind of work is done
// (Register), adds a job in the unit of work that also stores what the job is about (Add), and reads how far it is
// (Get, List). Start with Jobs.
package jobs

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"missivum/core/problem"
	"missivum/service/access"
	"missivum/service/store"
)

// Work says how one kind of job is done.
type Work struct {
	Kind   string
	AtOnce int  // how many run at the same time
	Resume bool // begun again after the service ended in the middle of it; otherwise it counts as stopped
	// Run does the work. What it returns is kept as the job's result. It ends with the context's error when it is
	// stopped.
	Run func(ctx context.Context, job *Job) (result any, err error)
	// Ended is called when a job of the kind has ended, whichever way; nil for none.
	Ended func(store.Job)
}

// saveEvery is how often progress is stored while a job runs.
const saveEvery = time.Second

// Jobs runs jobs.
type Jobs struct {
	Store *store.Store
	Log   *slog.Logger
	Now   func() time.Time

	works map[string]Work

	mu      sync.Mutex
	open    map[string]*Job // waiting and running
	queue   []*Job
	running map[string]int // by kind
	ending  bool
	group   sync.WaitGroup
}

// Job is a job that has not ended.
type Job struct {
	jobs *Jobs
	work Work
	ctx  context.Context
	stop context.CancelFunc
	done chan struct{}

	record store.Job // guarded by jobs.mu
	saved  time.Time // when progress was stored last
}

// Register says how a kind of job is done. It is called before Start.
func (j *Jobs) Register(w Work) {
	if j.works == nil {
		j.works = map[string]Work{}
	}
	j.works[w.Kind] = w
}

// Start goes on with what a service that ended left: jobs that can be begun again wait again, the others are stopped.
func (j *Jobs) Start(ctx context.Context) error {
	j.open, j.running = map[string]*Job{}, map[string]int{}
	ctx = access.With(ctx, access.Itself("restart"))
	var left []store.Job
	err := j.Store.Write(ctx, func(tx *store.Tx) error {
		open, err := tx.OpenJobs()
		if err != nil {
			return err
		}
		for _, record := range open {
			if j.works[record.Kind].Resume {
				record.State, record.Done = store.Waiting, 0
				left = append(left, record)
			} else {
				record.State, record.Finished = store.Stopped, tx.At()
				record.Message = "The service ended before this was done."
				tx.After(func() { j.announce(record) })
			}
			if err := tx.PutJob(record); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return fmt.Errorf("going on with the jobs: %w", err)
	}
	for _, record := range left {
		j.enqueue(record)
	}
	return nil
}

// announce lets the kind of work know that one of its jobs has ended.
func (j *Jobs) announce(record store.Job) {
	if ended := j.works[record.Kind].Ended; ended != nil {
		ended(record)
	}
}

// NewID makes an id for a job.
func NewID() string {
	var b [9]byte
	rand.Read(b[:]) // never fails (crypto/rand)
	return hex.EncodeToString(b[:])
}

// Add stores a job, which begins when the unit of work is stored and its turn has come. Of the record kind, title,
// total and unit are used, and the id where there is one; input is what Job.Input gives back, also after a restart.
func (j *Jobs) Add(tx *store.Tx, record store.Job, input any) (store.Job, error) {
	if _, ok := j.works[record.Kind]; !ok {
		return record, fmt.Errorf("no work is registered for jobs of the kind %q", record.Kind)
	}
	text, err := json.Marshal(input)
	if err != nil {
		return record, err
	}
	record.Input = string(text)
	if record.ID == "" {
		record.ID = NewID()
	}
	if record, err = tx.AddJob(record); err != nil {
		return record, err
	}
	tx.After(func() { j.enqueue(record) })
	return record, nil
}

// enqueue puts a stored job at the end of the queue.
func (j *Jobs) enqueue(record store.Job) {
	ctx, stop := context.WithCancel(access.With(context.Background(), record.By))
	job := &Job{jobs: j, work: j.works[record.Kind], ctx: ctx, stop: stop, done: make(chan struct{}), record: record}
	j.mu.Lock()
	j.open[record.ID] = job
	j.queue = append(j.queue, job)
	j.mu.Unlock()
	j.next()
}

// next begins every waiting job whose turn has come.
func (j *Jobs) next() {
	j.mu.Lock()
	defer j.mu.Unlock()
	var waiting []*Job
	for _, job := range j.queue {
		kind := job.record.Kind
		switch {
		case job.ctx.Err() == nil && (j.ending || j.running[kind] >= max(job.work.AtOnce, 1)):
			waiting = append(waiting, job)
		default:
			j.running[kind]++
			j.group.Go(job.run)
		}
	}
	j.queue = waiting
}

// run does a job's work and stores how it ended.
func (job *Job) run() {
	defer close(job.done)
	defer job.stop()
	j := job.jobs
	job.update(func(r *store.Job) { r.State, r.Started = store.Running, j.Now() }, true)
	var result any
	err := job.ctx.Err()
	if err == nil {
		result, err = job.guarded()
	}
	j.finish(job, result, err)
	j.next()
}

// guarded runs the work; a panic in it ends the job and not the service.
func (job *Job) guarded() (result any, err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("the program failed: %v", r)
		}
	}()
	return job.work.Run(job.ctx, job)
}

// finish stores how a job ended. A job that was stopped is not failed.
func (j *Jobs) finish(job *Job, result any, err error) {
	j.mu.Lock()
	record := job.record
	interrupted := j.ending && job.work.Resume && errors.Is(err, context.Canceled)
	j.mu.Unlock()
	text, problemWithResult := json.Marshal(result)
	if result != nil && problemWithResult == nil {
		record.Result = string(text)
	}
	record.Finished = j.Now()
	switch {
	case interrupted: // the next start goes on with it
		record.State, record.Finished = store.Waiting, time.Time{}
	case err == nil:
		record.State, record.Done = store.Ready, record.Total
	case errors.Is(err, context.Canceled):
		record.State, record.Message = store.Stopped, fmt.Sprintf("Stopped after %d of %d %s.", record.Done, record.Total, record.Unit)
	default:
		record.State, record.Message = store.Failed, err.Error()
		j.Log.Error("a job failed", "job", record.ID, "kind", record.Kind, "error", err)
	}
	ctx := access.With(context.Background(), record.By)
	if err := j.Store.Write(ctx, func(tx *store.Tx) error { return tx.PutJob(record) }); err != nil {
		j.Log.Error("storing a job's end", "job", record.ID, "error", err)
	}
	if record.State.Ended() {
		j.announce(record)
	}
	j.mu.Lock() // only now it is not open: whoever sees the end finds it stored
	delete(j.open, record.ID)
	j.running[record.Kind]--
	j.mu.Unlock()
}

// ID is the job's id.
func (job *Job) ID() string { return job.record.ID }

// Input reads what the job was added with.
func (job *Job) Input(into any) error { return json.Unmarshal([]byte(job.record.Input), into) }

// Progress says how many of the total are done.
func (job *Job) Progress(done int) { job.update(func(r *store.Job) { r.Done = done }, false) }

// Total says how many there are to do, once that is known.
func (job *Job) Total(total int) { job.update(func(r *store.Job) { r.Total = total }, true) }

// update changes the record in memory and stores it now and then, or at once.
func (job *Job) update(change func(*store.Job), atOnce bool) {
	j := job.jobs
	now := j.Now()
	j.mu.Lock()
	change(&job.record)
	due := atOnce || now.Sub(job.saved) >= saveEvery
	if due {
		job.saved = now
	}
	record := job.record
	j.mu.Unlock()
	if !due {
		return
	}
	ctx := access.With(context.Background(), record.By)
	if err := j.Store.Write(ctx, func(tx *store.Tx) error { return tx.PutJob(record) }); err != nil {
		j.Log.Error("storing a job's progress", "job", record.ID, "error", err)
	}
}

// Get returns a job as it is now.
func (j *Jobs) Get(ctx context.Context, id string) (record store.Job, err error) {
	err = j.Store.Read(ctx, func(tx *store.Tx) error {
		record, err = tx.Job(id)
		return err
	})
	return j.Current(record), err
}

// Current gives a stored record as it is in memory, where its progress is newer.
func (j *Jobs) Current(record store.Job) store.Job {
	j.mu.Lock()
	defer j.mu.Unlock()
	if job := j.open[record.ID]; job != nil && !record.State.Ended() {
		return job.record
	}
	return record
}

// List returns the newest jobs of a kind, newest first; of all kinds for an empty one.
func (j *Jobs) List(ctx context.Context, kind string, limit int) (records []store.Job, err error) {
	err = j.Store.Read(ctx, func(tx *store.Tx) error {
		records, err = tx.Jobs(kind, limit)
		return err
	})
	for i := range records {
		records[i] = j.Current(records[i])
	}
	return records, err
}

// Stop ends a job that waits or runs; one that has ended stays as it is, which is a conflict.
func (j *Jobs) Stop(ctx context.Context, id string) error {
	j.mu.Lock()
	job := j.open[id]
	j.mu.Unlock()
	if job == nil {
		record, err := j.Get(ctx, id)
		if err != nil {
			return err
		}
		return problem.New(problem.Conflict, "The job %s has ended: it is %s.", id, record.State)
	}
	job.stop()
	j.next()
	return nil
}

// Open reports whether a job waits or runs.
func (j *Jobs) Open(id string) bool {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.open[id] != nil
}

// Wait waits until a job has ended, or for the context.
func (j *Jobs) Wait(ctx context.Context, id string) error {
	j.mu.Lock()
	job := j.open[id]
	j.mu.Unlock()
	if job == nil {
		return nil
	}
	select {
	case <-job.done:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// End stops all jobs and waits for them. Those that can be begun again wait for the next start.
func (j *Jobs) End() {
	j.mu.Lock()
	j.ending = true
	for _, job := range j.open {
		if !job.work.Resume || job.record.State == store.Running {
			job.stop()
		}
	}
	j.mu.Unlock()
	j.next()
	j.group.Wait()
}
