package rules

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"missivum/core/message"
	"missivum/core/problem"
	"missivum/core/rule"
	"missivum/service/jobs"
	"missivum/service/store"
)

// RehearsalKind is the kind of job that runs rules over stored mail.
const RehearsalKind = "rehearsal"

// MaxRehearsed is how large a file of stored mail may be, in bytes. The command takes larger ones.
const MaxRehearsed = 512 << 20

// rehearsal is what a job needs.
type rehearsal struct {
	File     string `json:"file"` // its name at whoever gave it
	Document string `json:"document"`
	Trials   bool   `json:"trials"`
}

// Start readies the folder for stored mail, which is there only while a rehearsal runs, and says how rules are rehearsed.
func (r *Rules) Start() error {
	if err := os.RemoveAll(r.Folder); err != nil { // left by a service that was killed
		return fmt.Errorf("the folder for rehearsals: %w", err)
	}
	if err := os.MkdirAll(r.Folder, 0o700); err != nil {
		return fmt.Errorf("the folder for rehearsals: %w", err)
	}
	r.Jobs.Register(jobs.Work{Kind: RehearsalKind, AtOnce: 1, Run: r.rehearse, Ended: func(job store.Job) {
		if err := os.Remove(r.spool(job.ID)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			r.Log.Error("stored mail was not removed after its rehearsal", "error", err)
		}
	}})
	return nil
}

func (r *Rules) spool(id string) string { return filepath.Join(r.Folder, id) }

// Rehearse runs rules over stored mail in the background: a message, a mailbox file, or a zip archive of them. A blank document is
// the latest version. The mail is kept only until the job ends, and its result holds counts and where messages lie.
func (r *Rules) Rehearse(ctx context.Context, name string, mail io.Reader, document string, trials bool) (record store.Job, err error) {
	if _, err := r.Engine(ctx, document); err != nil {
		return record, err
	}
	id := jobs.NewID()
	defer func() {
		if err != nil {
			err = errors.Join(err, os.RemoveAll(r.spool(id)))
		}
	}()
	count, err := r.keep(id, name, mail)
	if err != nil {
		return record, err
	}
	if count == 0 {
		return record, problem.New(problem.Refused, "%s holds no message.", name)
	}
	err = r.Store.Write(ctx, func(tx *store.Tx) error {
		record, err = r.Jobs.Add(tx, store.Job{ID: id, Kind: RehearsalKind, Title: name, Total: count, Unit: "messages"},
			rehearsal{File: name, Document: document, Trials: trials})
		return err
	})
	return record, err
}

// keep writes stored mail to a file and counts its messages.
func (r *Rules) keep(id, name string, mail io.Reader) (count int, err error) {
	file, err := os.OpenFile(r.spool(id), os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return 0, err
	}
	defer file.Close()
	size, err := io.Copy(file, mail)
	if err != nil || size == 0 {
		return 0, err
	}
	err = message.Stored(name, file, size, func(string, []byte) error { count++; return nil })
	return count, problem.As(problem.Refused, err)
}

// rehearse is the job.
func (r *Rules) rehearse(ctx context.Context, job *jobs.Job) (any, error) {
	var in rehearsal
	if err := job.Input(&in); err != nil {
		return nil, err
	}
	engine, err := r.Engine(ctx, in.Document)
	if err != nil {
		return nil, err
	}
	file, err := os.Open(r.spool(job.ID()))
	if err != nil {
		return nil, err
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return nil, err
	}
	h, n := engine.Rehearse(), 0
	err = message.Stored(in.File, file, info.Size(), func(name string, raw []byte) error {
		h.Message(name, raw, in.Trials)
		n++
		job.Progress(n)
		return ctx.Err()
	})
	if err != nil {
		return nil, err
	}
	return h.Result(), nil
}

// Samples judges made-up messages of a sender; a blank address is the first person. A blank document is the latest version.
func (r *Rules) Samples(ctx context.Context, document, sender string) (list []rule.Sampled, from string, err error) {
	engine, err := r.Engine(ctx, document)
	if err != nil {
		return nil, "", err
	}
	directory, _, err := r.People.Directory(ctx)
	if err != nil {
		return nil, "", err
	}
	name, mail, colleague := "", "", ""
	for i := range directory.People {
		p := &directory.People[i]
		switch address := directory.Get(p, "mail"); {
		case address == "":
		case mail == "" && (sender == "" || address == sender):
			mail, name = address, directory.Get(p, "displayName")
		case colleague == "":
			colleague = address
		}
	}
	if mail == "" {
		return nil, "", problem.Missing("person", sender)
	}
	if colleague == "" {
		colleague = mail
	}
	return engine.Sampled(rule.Samples(name, mail, colleague)), mail, nil
}
