package desk

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"github.com/gofrs/flock"

	"missivum/core/desk"
	"missivum/core/kit"
	"missivum/core/problem"
)

// The files of the state folder.
const (
	stateFile   = "placed.json"
	journalFile = "journal.json"
	trustFile   = "trusted.pub"
	lockFile    = "lock"
	keptFolder  = "kept" // contents by their digest: what was placed, and what was there before
)

// stateFormat is the version of the state's layout.
const stateFormat = 1

// mostHistory is how many placings of a place can be taken back one by one; older ones are taken back together.
const mostHistory = 5

// State is what the program placed on this desk.
type State struct {
	Format int                `json:"format"`
	Desk   string             `json:"desk"`   // the desk's own id, made at random
	Places map[string]*Placed `json:"places"` // by place and folder
}

// Placed is what stands in a place.
type Placed struct {
	Place   string       `json:"place"`
	Client  string       `json:"client"`
	Folder  string       `json:"folder"`
	Person  string       `json:"person"`
	Release string       `json:"release,omitempty"`
	Kit     string       `json:"kit"` // digest of its list
	At      time.Time    `json:"at"`
	Files   []PlacedFile `json:"files"`
	Parts   []string     `json:"parts,omitempty"`   // digests of pictures that are written into the files
	History []Step       `json:"history,omitempty"` // newest last
	Aside   []Aside      `json:"aside,omitempty"`   // what somebody had altered and was replaced, newest last
}

// Aside is what somebody wrote into a file that was placed, kept when it was replaced.
type Aside struct {
	At     time.Time `json:"at"`
	Path   string    `json:"path"`
	SHA256 string    `json:"sha256"`
}

// mostAside is how many contents are kept that somebody had altered.
const mostAside = 20

// PlacedFile is a file that was placed.
type PlacedFile struct {
	Path     string             `json:"path"`
	Form     string             `json:"form,omitempty"`
	SHA256   string             `json:"sha256"`
	ReadOnly bool               `json:"readOnly,omitempty"`
	Format   string             `json:"format,omitempty"`   // of a settings file
	Settings []desk.SettingEdit `json:"settings,omitempty"` // of a settings file: what was set
}

// Step is one placing, with what is needed to take it back.
type Step struct {
	At      time.Time `json:"at"`
	Was     *Placed   `json:"was"` // without its history; nil where nothing was placed before
	Files   []Before  `json:"files"`
	Folders []string  `json:"folders,omitempty"` // that were made
}

// Before is what was at a path.
type Before struct {
	Path     string             `json:"path"`
	SHA256   string             `json:"sha256"` // blank for nothing
	Mode     fs.FileMode        `json:"mode,omitempty"`
	Changed  time.Time          `json:"changed,omitzero"`
	After    string             `json:"after"` // digest of what was put there; blank where it was removed
	Format   string             `json:"format,omitempty"`
	Settings []desk.SettingEdit `json:"settings,omitempty"`
}

// read reads a JSON file; false where there is none.
func read(name string, into any) (bool, error) {
	data, err := os.ReadFile(name)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err == nil {
		err = json.Unmarshal(data, into)
	}
	if err != nil {
		return false, fmt.Errorf("%s cannot be read: %w", name, err)
	}
	return true, nil
}

// lock keeps other runs of the program from the same desk. The error is of the kind Busy when one goes on for longer than
// the context.
func (d *Desk) lock(ctx context.Context) (unlock func(), err error) {
	if err := os.MkdirAll(filepath.Join(d.State, keptFolder), 0o700); err != nil {
		return nil, fmt.Errorf("the folder for what is placed: %w", err)
	}
	l := flock.New(filepath.Join(d.State, lockFile))
	ctx, stop := context.WithTimeout(ctx, 10*time.Second)
	defer stop()
	if ok, err := l.TryLockContext(ctx, 20*time.Millisecond); !ok {
		return nil, problem.New(problem.Busy, "Another run of missivum desk is at work here (%v).", err)
	}
	return func() { l.Close() }, nil
}

// load reads the state, after finishing what a run that was killed had begun.
func (d *Desk) load() (*State, error) {
	if err := d.recover(); err != nil {
		return nil, err
	}
	s := &State{Format: stateFormat, Places: map[string]*Placed{}}
	there, err := read(filepath.Join(d.State, stateFile), s)
	if err != nil {
		return nil, err
	}
	if s.Format != stateFormat {
		return nil, problem.New(problem.Refused, "%s has the format %d; this program reads %d.", stateFile, s.Format, stateFormat)
	}
	if !there {
		s.Desk = d.NewID()
	}
	return s, nil
}

// keep keeps a content under its digest.
func (d *Desk) keep(data []byte) (string, error) {
	digest := kit.Digest(data)
	name := d.kept(digest)
	if info, err := os.Stat(name); err == nil && info.Size() == int64(len(data)) {
		return digest, nil
	}
	return digest, writeWhole(name, data, 0o600)
}

// kept is where a content is kept.
func (d *Desk) kept(digest string) string { return filepath.Join(d.State, keptFolder, digest) }

// content gives a content that is kept; nil where it is not, or was damaged.
func (d *Desk) content(digest string) []byte {
	data, err := os.ReadFile(d.kept(digest))
	if err != nil || kit.Digest(data) != digest {
		return nil
	}
	return data
}

// forget removes contents that nothing names any more.
func (d *Desk) forget(s *State) error {
	named := map[string]bool{}
	for _, p := range s.Places {
		for _, f := range p.Files {
			named[f.SHA256] = true
		}
		for _, digest := range p.Parts {
			named[digest] = true
		}
		for _, a := range p.Aside {
			named[a.SHA256] = true
		}
		for _, step := range p.History {
			for _, b := range step.Files {
				named[b.SHA256] = true
			}
			if step.Was != nil {
				for _, f := range step.Was.Files {
					named[f.SHA256] = true
				}
			}
		}
	}
	entries, err := os.ReadDir(filepath.Join(d.State, keptFolder))
	if err != nil {
		return err
	}
	for _, e := range entries {
		if !named[e.Name()] {
			err = errors.Join(err, os.Remove(d.kept(e.Name())))
		}
	}
	return err
}

// shorten takes the two oldest steps together where there are too many. What was there before the first is kept.
func (p *Placed) shorten() {
	for len(p.History) > mostHistory {
		first, second := p.History[0], p.History[1]
		for _, b := range second.Files {
			known := false
			for i, earlier := range first.Files {
				if earlier.Path == b.Path {
					first.Files[i].After, known = b.After, true
					first.Files[i].Settings = append(first.Files[i].Settings, b.Settings...)
				}
			}
			if !known {
				first.Files = append(first.Files, b)
			}
		}
		first.Folders = append(first.Folders, second.Folders...)
		first.At = second.At
		p.History = append([]Step{first}, p.History[2:]...)
	}
}
