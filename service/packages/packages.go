// Package packages makes packages in the background, one after the other, with progress, and keeps
// their files.
package packages

import (
	"bufio"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"time"

	"missivum/core/compose"
	"missivum/core/pack"
	"missivum/service/files"
	"missivum/service/people"
	"missivum/service/store"
	"missivum/service/templates"
)

// The states of a package.
const (
	Waiting = "waiting"
	Running = "running"
	Ready   = "ready"
	Stopped = "stopped"
	Failed  = "failed"
)

// ErrNotReady is returned for the file of a package that is not whole.
var ErrNotReady = errors.New("the package is not ready")

// ErrRefused is returned when a package cannot be made of a template; the message says why.
var ErrRefused = errors.New("refused")

// Packages makes and keeps packages.
type Packages struct {
	Store     *store.Store
	Templates *templates.Templates
	People    *people.People
	Folder    string
	Now       func() time.Time
	Log       *slog.Logger

	mu      sync.Mutex
	running map[string]*job
	turn    chan struct{}
	jobs    sync.WaitGroup
}

// job is a package being made.
type job struct {
	record store.Package
	stop   context.CancelFunc
}

// Start readies the folder and marks packages that were being made when the service ended.
func (p *Packages) Start(ctx context.Context) error {
	p.running = map[string]*job{}
	p.turn = make(chan struct{}, 1)
	if err := os.MkdirAll(p.Folder, 0o750); err != nil {
		return fmt.Errorf("the folder for packages: %w", err)
	}
	list, err := p.Store.Packages(ctx)
	if err != nil {
		return err
	}
	for _, record := range list {
		if record.State == Waiting || record.State == Running {
			record.State, record.Message, record.Finished = Stopped, "The service ended before the package was whole.", p.Now()
			if err := p.Store.PutPackage(ctx, record); err != nil {
				return err
			}
		}
	}
	return files.Sweep(p.Folder, "*.part", ".spool-*")
}

// Stop ends the packages being made and waits for them.
func (p *Packages) Stop() {
	p.mu.Lock()
	for _, j := range p.running {
		j.stop()
	}
	p.mu.Unlock()
	p.jobs.Wait()
}

// Create begins a package of a template's latest version for everybody. A template that cannot be
// filled is refused.
func (p *Packages) Create(ctx context.Context, name string, variants []string) (store.Package, error) {
	t, err := p.Templates.Get(ctx, name, 0)
	if err != nil {
		return store.Package{}, err
	}
	d, _, err := p.People.Directory(ctx)
	if err != nil {
		return store.Package{}, err
	}
	if len(d.People) == 0 {
		return store.Package{}, fmt.Errorf("%w: there are no people; import a directory first", ErrRefused)
	}
	if len(variants) == 0 {
		variants = t.Variants()
	}
	day := p.Now()
	if _, err := compose.Compile(t.Template, d.Schema, day, variants...); err != nil {
		return store.Package{}, fmt.Errorf("%w: %w", ErrRefused, err)
	}
	record := store.Package{
		ID: newID(), Template: name, Version: t.Number, Content: t.Version(), State: Waiting, Total: len(d.People), Created: day,
	}
	if err := p.Store.PutPackage(ctx, record); err != nil {
		return store.Package{}, err
	}
	running, stop := context.WithCancel(context.WithoutCancel(ctx))
	j := &job{record: record, stop: stop}
	p.mu.Lock()
	p.running[record.ID] = j
	p.mu.Unlock()
	p.jobs.Add(1)
	go func() {
		defer p.jobs.Done()
		defer stop()
		p.run(running, j, pack.Input{
			Template: t.Template, Schema: d.Schema, People: pack.Everybody(d), Variants: variants, Day: day, Spool: SpoolIn(p.Folder),
			Progress: func(done int) { p.update(j, func(r *store.Package) { r.Done = done }) },
		})
	}()
	return record, nil
}

func newID() string {
	var b [9]byte
	rand.Read(b[:]) // never fails (crypto/rand)
	return hex.EncodeToString(b[:])
}

func (p *Packages) update(j *job, change func(*store.Package)) {
	p.mu.Lock()
	defer p.mu.Unlock()
	change(&j.record)
}

// run waits for its turn, makes the package and records how it ended.
func (p *Packages) run(ctx context.Context, j *job, in pack.Input) {
	var err error
	select {
	case p.turn <- struct{}{}:
		p.update(j, func(r *store.Package) { r.State = Running })
		err = p.make(ctx, j, in)
		<-p.turn
	case <-ctx.Done():
		err = ctx.Err()
	}
	p.mu.Lock()
	record := j.record
	p.mu.Unlock()
	record.Finished = p.Now()
	switch {
	case err == nil:
		record.State = Ready
	case errors.Is(err, context.Canceled):
		record.State, record.Message = Stopped, fmt.Sprintf("Stopped after %d of %d people.", record.Done, record.Total)
	default:
		record.State, record.Message = Failed, err.Error()
	}
	if err := p.Store.PutPackage(context.WithoutCancel(ctx), record); err != nil {
		p.Log.Error("recording a package", "package", record.ID, "error", err)
	}
	p.mu.Lock() // only now it is not running: whoever sees the end finds it recorded
	delete(p.running, record.ID)
	p.mu.Unlock()
}

// make writes the file beside its place and moves it there when it is whole.
func (p *Packages) make(ctx context.Context, j *job, in pack.Input) (err error) {
	part := p.path(j.record.ID) + ".part"
	f, err := os.Create(part)
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, os.Remove(part))
		}
	}()
	hash := sha256.New()
	b := bufio.NewWriterSize(f, 256<<10)
	size := &counter{}
	result, err := pack.Write(ctx, io.MultiWriter(b, hash, size), in)
	if err == nil {
		err = b.Flush()
	}
	if err == nil {
		err = f.Sync()
	}
	if err := errors.Join(err, f.Close()); err != nil {
		return err
	}
	p.update(j, func(r *store.Package) {
		r.Files, r.Bytes, r.SHA256 = result.Files, size.n, hex.EncodeToString(hash.Sum(nil))
	})
	return os.Rename(part, p.path(j.record.ID))
}

type counter struct{ n int64 }

func (c *counter) Write(b []byte) (int, error) {
	c.n += int64(len(b))
	return len(b), nil
}

func (p *Packages) path(id string) string { return filepath.Join(p.Folder, id+".zip") }

// Get returns a package's record as it is now.
func (p *Packages) Get(ctx context.Context, id string) (store.Package, error) {
	p.mu.Lock()
	j := p.running[id]
	if j != nil {
		defer p.mu.Unlock()
		return j.record, nil
	}
	p.mu.Unlock()
	return p.Store.Package(ctx, id)
}

// List returns all records, newest first.
func (p *Packages) List(ctx context.Context) ([]store.Package, error) {
	list, err := p.Store.Packages(ctx)
	if err != nil {
		return nil, err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	for i := range list {
		if j := p.running[list[i].ID]; j != nil {
			list[i] = j.record
		}
	}
	return list, nil
}

// Open opens the file of a package that is ready.
func (p *Packages) Open(ctx context.Context, id string) (*os.File, store.Package, error) {
	record, err := p.Get(ctx, id)
	if err != nil {
		return nil, record, err
	}
	if record.State != Ready {
		return nil, record, fmt.Errorf("%w: it is %s", ErrNotReady, record.State)
	}
	f, err := os.Open(p.path(id))
	return f, record, err
}

// Remove stops a package that is being made; one that has ended is deleted with its file.
func (p *Packages) Remove(ctx context.Context, id string) error {
	p.mu.Lock()
	j := p.running[id]
	p.mu.Unlock()
	if j != nil {
		j.stop()
		return nil
	}
	if err := p.Store.DeletePackage(ctx, id); err != nil {
		return err
	}
	if err := os.Remove(p.path(id)); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return nil
}
