// Package templates is the service's store of templates: every save is a version, and the state of
// the latest is known without asking twice.
package templates

import (
	"archive/zip"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"missivum/core/check"
	"missivum/core/client"
	"missivum/core/template"
	"missivum/service/clients"
	"missivum/service/people"
	"missivum/service/store"
)

// ErrRefused marks content that cannot be a template; the message says why.
var ErrRefused = errors.New("refused")

// Templates keeps templates.
type Templates struct {
	Store   *store.Store
	People  *people.People
	Clients *clients.Clients
	Now     func() time.Time
	// Host is told of every template that was saved, so that its pictures are reached for good; nil for nobody.
	Host func(context.Context, *template.Template) error
	// Public gives the address at which the service hosts pictures, empty for none; nil for none.
	Public func(context.Context) (string, error)

	mu     sync.Mutex
	states map[string]State
}

// Stored is a version of a template as it is stored.
type Stored struct {
	*template.Template
	Number  int
	Note    string
	Author  string
	Created time.Time
}

// Edit says of a save what was changed, by whom, and from which version: 0 for a new template. With
// another latest version meanwhile, nothing is saved; a negative base saves without asking.
type Edit struct {
	Note   string
	Author string
	Base   int
}

// State counts what the checks find in a template.
type State struct {
	Breaks    int    `json:"breaks"`
	Degrades  int    `json:"degrades"`
	Notes     int    `json:"notes"`
	OverLimit int    `json:"overLimit"` // budgets
	Fails     bool   `json:"fails"`
	Verdict   string `json:"verdict"` // one sentence
}

// Get returns a version; number 0 is the latest.
func (t *Templates) Get(ctx context.Context, name string, number int) (Stored, error) {
	v, err := t.Store.Template(ctx, name, number)
	if err != nil {
		return Stored{}, err
	}
	parsed, err := template.New(v.Template, template.Parts{Source: v.Source, Settings: v.Settings, Texts: v.Texts, Pictures: v.Pictures})
	if err != nil {
		return Stored{}, fmt.Errorf("the stored template %s cannot be read: %w", name, err)
	}
	if t.Public != nil {
		if parsed.Public, err = t.Public(ctx); err != nil {
			return Stored{}, err
		}
	}
	return Stored{Template: parsed, Number: v.Number, Note: v.Note, Author: v.Author, Created: v.Created}, nil
}

// List returns the latest version of every template.
func (t *Templates) List(ctx context.Context) ([]Stored, error) {
	names, err := t.Store.TemplateNames(ctx)
	if err != nil {
		return nil, err
	}
	var list []Stored
	for _, name := range names {
		s, err := t.Get(ctx, name, 0)
		if err != nil {
			return nil, err
		}
		list = append(list, s)
	}
	return list, nil
}

// Versions lists a template's versions, newest first, without their content.
func (t *Templates) Versions(ctx context.Context, name string) ([]store.TemplateVersion, error) {
	return t.Store.TemplateVersions(ctx, name)
}

// Save stores a new version. store.ErrConflict says that somebody saved meanwhile. A template with
// mistakes in its fields is stored, since it is being worked on; it cannot be filled.
func (t *Templates) Save(ctx context.Context, name string, parts template.Parts, edit Edit) (Stored, error) {
	if !template.ValidName(name) {
		return Stored{}, fmt.Errorf("%w: the name %q must be lower-case letters, digits and hyphens, at most 63", ErrRefused, name)
	}
	parsed, err := template.New(name, parts)
	if err != nil {
		return Stored{}, fmt.Errorf("%w: %w", ErrRefused, err)
	}
	s := Stored{Template: parsed, Note: edit.Note, Author: edit.Author, Created: t.Now()}
	s.Number, err = t.Store.SaveTemplate(ctx, store.TemplateVersion{
		Template: name, Content: parsed.Version(), Source: parts.Source, Settings: parts.Settings, Texts: parts.Texts,
		Note: edit.Note, Author: edit.Author, Created: s.Created, Pictures: parts.Pictures,
	}, edit.Base)
	if err == nil && t.Host != nil {
		err = t.Host(ctx, parsed)
	}
	return s, err
}

// State checks a template against the profiles that are not switched off and the directory; the answer is kept until
// one of them changes.
func (t *Templates) State(ctx context.Context, s Stored) (State, error) {
	d, revision, err := t.People.Directory(ctx)
	if err != nil {
		return State{}, err
	}
	book, bookVersion, err := t.Clients.Book(ctx)
	if err != nil {
		return State{}, err
	}
	profiles, err := book.Select(nil)
	if err != nil {
		return State{}, err
	}
	day := t.Now()
	key := fmt.Sprintf("%s %s %s %d %s %s", s.Name, s.Version(), s.Template.Public, revision, bookVersion, day.Format(time.DateOnly))
	t.mu.Lock()
	state, ok := t.states[key]
	t.mu.Unlock()
	if ok {
		return state, nil
	}
	report, err := check.Run(ctx, check.Input{Template: s.Template, People: d, Profiles: profiles, Day: day})
	if err != nil {
		return State{}, err
	}
	for _, f := range report.Findings {
		switch f.Severity {
		case client.Breaks:
			state.Breaks++
		case client.Degrades:
			state.Degrades++
		default:
			state.Notes++
		}
	}
	for _, b := range report.Budgets {
		if b.Exceeded() {
			state.OverLimit++
		}
	}
	state.Fails, state.Verdict = report.Fails(), report.Verdict.String()
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.states == nil || len(t.states) > 1000 {
		t.states = map[string]State{}
	}
	t.states[key] = state
	return state, nil
}

// maxArchive is the largest unpacked archive, in bytes.
const maxArchive = 64 << 20

// WriteArchive writes a template as a zip of its folder.
func WriteArchive(w io.Writer, t *template.Template) error { return WriteFiles(w, t.Files()) }

// WriteFiles writes files as a zip, sorted by name.
func WriteFiles(w io.Writer, files map[string][]byte) error {
	z := zip.NewWriter(w)
	for _, name := range slices.Sorted(maps.Keys(files)) {
		w, err := z.Create(name)
		if err != nil {
			return err
		}
		if _, err := w.Write(files[name]); err != nil {
			return err
		}
	}
	return z.Close()
}

// ReadArchive reads a zip of a template folder. Files that do not belong to a template are refused,
// and so is an archive that unpacks to more than 64 MB.
func ReadArchive(name string, data []byte) (*template.Template, error) {
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return nil, fmt.Errorf("%w: this is not a zip archive: %w", ErrRefused, err)
	}
	var total uint64
	for _, f := range z.File {
		total += f.UncompressedSize64
		_, text := template.TextFile(f.Name)
		known := text || f.Name == template.SourceFile || f.Name == template.SettingsFile || f.Name == template.PictureFolder+"/" ||
			path.Dir(f.Name) == template.PictureFolder && !strings.HasPrefix(path.Base(f.Name), ".")
		if !known || !fs.ValidPath(strings.TrimSuffix(f.Name, "/")) {
			return nil, fmt.Errorf("%w: the archive holds %q, which is no part of a template", ErrRefused, f.Name)
		}
	}
	if total > maxArchive {
		return nil, fmt.Errorf("%w: the archive unpacks to more than %d MB", ErrRefused, maxArchive>>20)
	}
	t, err := template.Open(z, name)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrRefused, err)
	}
	return t, nil
}
