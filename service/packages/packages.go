// Package packages makes packages in the background and keeps their files. Start with Packages.
package packages

import (
	"bufio"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"missivum/core/compose"
	"missivum/core/kit"
	"missivum/core/pack"
	"missivum/core/person"
	"missivum/core/problem"
	"missivum/service/clients"
	"missivum/service/files"
	"missivum/service/jobs"
	"missivum/service/people"
	"missivum/service/releases"
	"missivum/service/store"
	"missivum/service/templates"
)

// Kind is the kind of job that makes a package.
const Kind = "package"

// Packages makes and keeps packages.
type Packages struct {
	Store     *store.Store
	Jobs      *jobs.Jobs
	Templates *templates.Templates
	People    *people.People
	Releases  *releases.Releases
	Clients   *clients.Clients
	Key       func() kit.Key // signs kits
	Folder    string
	Now       func() time.Time
}

// Order is what a package is asked for with: of a template or of a release, its forms or kits.
type Order struct {
	Template string   `json:"template"` // blank for a release
	Variants []string `json:"variants"` // of forms; empty: all
	Release  int      `json:"release"`  // 0 for a template
	Way      string   `json:"way"`      // of kits; blank for forms, or for the client's
	Client   string   `json:"client"`   // profile for which kits are
	Audience string   `json:"audience"` // of a release's kits; blank for everybody
	Person   string   `json:"person"`   // mail address; blank for more than one
	Base     string   `json:"base"`     // base name of a template's kits; a release has its own
	Folders  string   `json:"folders"`  // field after which folders are named; blank for the mail address
}

// kits reports whether kits are asked for.
func (o Order) kits() bool { return o.Way != "" || o.Client != "" || o.Release > 0 }

// order is what a package's job begins with: the template's version, for the day on which it was asked for.
type order struct {
	Template string    `json:"template"`
	Number   int       `json:"number"`
	Variants []string  `json:"variants"`
	Day      time.Time `json:"day"`
	Kits     *Order    `json:"kits,omitempty"` // of kits
}

// Start readies the folder and says how packages are made. It is called before Jobs.Start.
func (p *Packages) Start() error {
	if err := os.MkdirAll(p.Folder, 0o750); err != nil {
		return fmt.Errorf("the folder for packages: %w", err)
	}
	p.Jobs.Register(jobs.Work{Kind: Kind, AtOnce: 1, Run: p.make})
	return files.Sweep(p.Folder, files.Half+"*", ".spool-*")
}

// Make begins the package that is asked for. notes say what should be known before it is given out.
func (p *Packages) Make(ctx context.Context, o Order) (record store.Package, notes []string, err error) {
	if o.kits() {
		return p.CreateKits(ctx, o)
	}
	return p.Create(ctx, o.Template, o.Variants)
}

// Create begins a package of a template's latest version for the people to whom it is assigned, for everybody while it is
// assigned to nobody. A template that cannot be
// filled is refused. notes say what should be known before the package is given out.
func (p *Packages) Create(ctx context.Context, name string, variants []string) (record store.Package, notes []string, err error) {
	err = p.Store.Write(ctx, func(tx *store.Tx) error {
		t, err := p.Templates.GetIn(tx, name, 0)
		if err != nil {
			return err
		}
		d, _, some, err := p.People.AssignedIn(tx, name)
		if err != nil {
			return err
		}
		if len(d.People) == 0 {
			return problem.New(problem.Refused, "There are no people; import a directory first.")
		}
		if len(variants) == 0 {
			variants = t.Variants()
		}
		if _, err := compose.Compile(compose.Source{Template: t.Template, Schema: d.Schema, Day: tx.At(), Variants: variants}); err != nil {
			return problem.As(problem.Refused, err)
		}
		if notes, err = pack.Notes(t.Template, d.Schema, tx.At(), variants); err != nil {
			return err
		}
		if all, _, err := p.People.DirectoryIn(tx); err != nil {
			return err
		} else if some && len(d.People) < len(all.People) {
			notes = append(notes, fmt.Sprintf("It is for the %d of %d people to whom %s is assigned.", len(d.People), len(all.People), name))
		}
		record = store.Package{ID: jobs.NewID(), Template: name, Version: t.Number, Content: t.Version()}
		if err := tx.AddPackage(record); err != nil {
			return err
		}
		record.Job, err = p.Jobs.Add(tx, store.Job{ID: record.ID, Kind: Kind, Title: name, Total: len(d.People), Unit: "people"},
			order{Template: name, Number: t.Number, Variants: variants, Day: tx.At()})
		return err
	})
	return record, notes, err
}

// make makes a package beside its place and moves it there when it is whole.
func (p *Packages) make(ctx context.Context, job *jobs.Job) (any, error) {
	var o order
	if err := job.Input(&o); err != nil {
		return nil, err
	}
	if o.Kits != nil {
		return p.makeKits(ctx, job, *o.Kits, o.Day)
	}
	var t templates.Stored
	var d *person.Directory
	err := p.Store.Read(ctx, func(tx *store.Tx) (err error) {
		if t, err = p.Templates.GetIn(tx, o.Template, o.Number); err != nil {
			return err
		}
		d, _, _, err = p.People.AssignedIn(tx, o.Template)
		return err
	})
	if err != nil {
		return nil, err
	}
	job.Total(len(d.People))
	in := pack.Input{
		Template: t.Template, Schema: d.Schema, People: pack.Everybody(d), Variants: o.Variants, Day: o.Day,
		Spool: SpoolIn(p.Folder), Progress: job.Progress,
	}
	return p.finish(ctx, job, in)
}

// finish writes a package and stores what it holds.
func (p *Packages) finish(ctx context.Context, job *jobs.Job, in pack.Input) (any, error) {
	made, err := p.write(ctx, job.ID(), in)
	if err != nil {
		return nil, err
	}
	return made, p.Store.Write(ctx, func(tx *store.Tx) error {
		return tx.FinishPackage(job.ID(), made.Files, made.Bytes, made.SHA256)
	})
}

// Made is what a package holds.
type Made struct {
	Files  int    `json:"files"`
	Bytes  int64  `json:"bytes"`
	SHA256 string `json:"sha256"`
}

// write makes the zip; the file gets its name when it is whole.
func (p *Packages) write(ctx context.Context, id string, in pack.Input) (made Made, err error) {
	err = files.Write(p.path(id), func(w io.Writer) error {
		hash, size := sha256.New(), &counter{}
		b := bufio.NewWriterSize(io.MultiWriter(w, hash, size), 256<<10)
		result, err := pack.Write(ctx, b, in)
		if err := errors.Join(err, b.Flush()); err != nil {
			return err
		}
		made = Made{result.Files, size.n, hex.EncodeToString(hash.Sum(nil))}
		return nil
	})
	return made, err
}

// counter counts the bytes that pass.
type counter struct{ n int64 }

func (c *counter) Write(b []byte) (int, error) {
	c.n += int64(len(b))
	return len(b), nil
}

// path is where a package's file lies.
func (p *Packages) path(id string) string { return filepath.Join(p.Folder, id+".zip") }

// Get returns a package's record as it is now.
func (p *Packages) Get(ctx context.Context, id string) (record store.Package, err error) {
	err = p.Store.Read(ctx, func(tx *store.Tx) error {
		record, err = tx.Package(id)
		return err
	})
	record.Job = p.Jobs.Current(record.Job)
	return record, err
}

// List returns all records, newest first.
func (p *Packages) List(ctx context.Context) (records []store.Package, err error) {
	err = p.Store.Read(ctx, func(tx *store.Tx) error {
		records, err = tx.Packages()
		return err
	})
	for i := range records {
		records[i].Job = p.Jobs.Current(records[i].Job)
	}
	return records, err
}

// Open opens the file of a package that is ready; it is a conflict while it is not.
func (p *Packages) Open(ctx context.Context, id string) (*os.File, store.Package, error) {
	record, err := p.Get(ctx, id)
	if err != nil {
		return nil, record, err
	}
	if record.Job.State != store.Ready {
		return nil, record, problem.New(problem.Conflict, "The package is not ready: it is %s.", record.Job.State)
	}
	f, err := os.Open(p.path(id))
	return f, record, err
}

// Remove stops a package that is being made; one that has ended is deleted with its file.
func (p *Packages) Remove(ctx context.Context, id string) error {
	if p.Jobs.Open(id) {
		return p.Jobs.Stop(ctx, id)
	}
	if err := p.Store.Write(ctx, func(tx *store.Tx) error { return tx.RemovePackage(id) }); err != nil {
		return err
	}
	if err := os.Remove(p.path(id)); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return nil
}
