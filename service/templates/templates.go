// Package templates is the service's store of templates: every save is a version, and what the checks say of the
// latest is known without asking twice. Start with Templates.
package templates

import (
	"context"
	"fmt"
	"time"

	"missivum/core/problem"
	"missivum/core/template"
	"missivum/service/clients"
	"missivum/service/hosting"
	"missivum/service/organisation"
	"missivum/service/people"
	"missivum/service/store"
)

// Templates keeps templates.
type Templates struct {
	Store   *store.Store
	People  *people.People
	Clients *clients.Clients
	Hosting *hosting.Hosting // saved templates' pictures are hosted in the same unit of work
	Now     func() time.Time

	Version  string // of the program: what it found is not what another would find
	states   states
	compiled compiled
}

// Stored is a version of a template as it is stored.
type Stored struct {
	*template.Template
	Number   int
	Note     string
	Author   string
	Created  time.Time
	Warnings []string // what did not work beside the save; nothing of it is lost

	warned *[]string
}

// Entry is a template in a list. One that cannot be read, since its content is older than a limit of today, hides no
// other.
type Entry struct {
	Name   string
	Number int // of the latest version
	Saved  time.Time
	Stored Stored // without a template when it cannot be read
	Err    error  // why it cannot be read
}

// Edit says of a save what was changed, and from which version: 0 for a new template. With another latest version
// meanwhile it is a conflict and nothing is saved; a negative base saves whatever the latest is.
type Edit struct {
	Note string
	Base int
}

// Get returns a version; number 0 is the latest.
func (t *Templates) Get(ctx context.Context, name string, number int) (s Stored, err error) {
	err = t.Store.Read(ctx, func(tx *store.Tx) error {
		s, err = t.GetIn(tx, name, number)
		return err
	})
	return s, err
}

// GetIn is Get in a unit of work.
func (t *Templates) GetIn(tx *store.Tx, name string, number int) (Stored, error) {
	v, err := tx.Template(name, number)
	if err != nil {
		return Stored{}, err
	}
	return opened(tx, v)
}

// Frozen is GetIn with what an organisation said and the public address of pictures as a release froze them.
func (t *Templates) Frozen(tx *store.Tx, name string, number int, home template.Organisation, address string) (Stored, error) {
	v, err := tx.Template(name, number)
	if err != nil {
		return Stored{}, err
	}
	s, err := openedIn(tx, v, home)
	if err == nil {
		s.Public = address
	}
	return s, err
}

// opened makes a stored version a template, with the address at which the service hosts pictures.
func opened(tx *store.Tx, v store.TemplateVersion) (Stored, error) {
	home, err := organisation.In(tx)
	if err != nil {
		return Stored{}, err
	}
	return openedIn(tx, v, home.Organisation)
}

// openedIn is opened with what an organisation says.
func openedIn(tx *store.Tx, v store.TemplateVersion, home template.Organisation) (Stored, error) {
	parsed, err := template.New(v.Template, template.Parts{Source: v.Source, Settings: v.Settings, Texts: v.Texts,
		Pictures: v.Pictures, Home: home})
	if err != nil {
		return Stored{}, fmt.Errorf("the stored template %s cannot be read: %w", v.Template, err)
	}
	settings, err := hosting.SettingsIn(tx)
	parsed.Public = settings.Address
	return Stored{Template: parsed, Number: v.Number, Note: v.Note, Author: v.Author, Created: v.Created}, err
}

// List returns the latest version of every template, by name.
func (t *Templates) List(ctx context.Context) ([]Entry, error) {
	var entries []Entry
	err := t.Store.Read(ctx, func(tx *store.Tx) error {
		names, err := tx.TemplateNames()
		if err != nil {
			return err
		}
		for _, name := range names {
			v, err := tx.Template(name, 0)
			if err != nil {
				return err
			}
			e := Entry{Name: name, Number: v.Number, Saved: v.Created}
			e.Stored, e.Err = opened(tx, v)
			entries = append(entries, e)
		}
		return nil
	})
	return entries, err
}

// Versions lists a template's versions, newest first, without their content.
func (t *Templates) Versions(ctx context.Context, name string) (versions []store.TemplateVersion, err error) {
	err = t.Store.Read(ctx, func(tx *store.Tx) error {
		versions, err = tx.TemplateVersions(name)
		return err
	})
	return versions, err
}

// Save stores a new version: what the draft changes of the version that edit names as its base. Its pictures are
// hosted in the same unit of work. A template with mistakes in its fields is stored, since it is being worked on; it
// cannot be filled.
func (t *Templates) Save(ctx context.Context, name string, draft template.Draft, edit Edit) (s Stored, err error) {
	err = t.Store.Write(ctx, func(tx *store.Tx) error {
		s, err = t.SaveIn(tx, name, draft, edit)
		return err
	})
	if err != nil {
		return Stored{}, err
	}
	return s.settled(), nil
}

// SaveIn is Save in a unit of work. The warnings come once that is stored.
func (t *Templates) SaveIn(tx *store.Tx, name string, draft template.Draft, edit Edit) (Stored, error) {
	if !template.ValidName(name) {
		return Stored{}, problem.New(problem.Invalid, "The name %q must be lower-case letters, digits and hyphens, at most 63.", name).In("name")
	}
	var parts template.Parts
	if edit.Base > 0 {
		base, err := tx.Template(name, edit.Base)
		if err != nil {
			return Stored{}, err
		}
		parts = template.Parts{Source: base.Source, Settings: base.Settings, Texts: base.Texts, Pictures: base.Pictures}
	}
	parts = draft.Over(parts)
	home, err := organisation.In(tx)
	if err != nil {
		return Stored{}, err
	}
	parts.Home = home.Organisation
	parsed, err := template.New(name, parts)
	if err != nil {
		return Stored{}, err
	}
	v, err := tx.SaveTemplate(store.TemplateVersion{
		Template: name, Content: parsed.Version(), Source: parts.Source, Settings: parts.Settings, Texts: parts.Texts,
		Note: edit.Note, Pictures: parts.Pictures,
	}, edit.Base)
	if err != nil {
		return Stored{}, err
	}
	s, err := opened(tx, v)
	if err != nil || t.Hosting == nil {
		return s, err
	}
	s.warned = &[]string{}
	return s, t.Hosting.PutTemplate(tx, s.warned, parsed)
}

// settled is a saved version with the warnings that came when it was stored.
func (s Stored) settled() Stored {
	if s.warned != nil {
		s.Warnings = *s.warned
	}
	return s
}

// Subject is what a request about a template is about: a version with a draft over it.
func (t *Templates) Subject(ctx context.Context, name string, draft template.Draft) (*template.Template, error) {
	s, err := t.Get(ctx, name, 0)
	if err != nil || draft.Empty() {
		return s.Template, err
	}
	drafted, err := template.New(name, draft.Over(s.Parts()))
	if err != nil {
		return nil, err
	}
	drafted.Public = s.Public
	return drafted, nil
}
