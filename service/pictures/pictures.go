// Package pictures is the service's store of pictures: versions of originals, the renditions made of them, where
// they are used, the hosting of what templates show, the check of picture addresses, and photos in bulk. Start with
// Pictures.
package pictures

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net/netip"
	"slices"
	"sync"
	"time"

	"golang.org/x/text/language"

	"missivum/core/picture"
	"missivum/core/problem"
	"missivum/core/template"
	"missivum/service/files"
	"missivum/service/hosting"
	"missivum/service/jobs"
	"missivum/service/people"
	"missivum/service/store"
	"missivum/service/templates"
)

// Pictures keeps pictures.
type Pictures struct {
	Store     *store.Store
	Jobs      *jobs.Jobs
	Templates *templates.Templates
	People    *people.People
	Hosting   *hosting.Hosting
	Now       func() time.Time
	Log       *slog.Logger
	Folder    string         // for photos that are being fitted
	Allow     []netip.Prefix // private networks that the address check may ask

	fitting sync.Mutex // one set of photos is fitted at a time
}

// Start says how photos are fitted and removes what a service that was killed left half written. It is called before
// Jobs.Start.
func (p *Pictures) Start() error {
	p.Jobs.Register(jobs.Work{Kind: photosKind, AtOnce: 1, Resume: true, Run: p.fitPhotos, Ended: p.discardArchive})
	return files.Sweep(p.Folder, ".archive-*", files.Half+"*")
}

// Version is one version of a picture.
type Version struct {
	Number int           `json:"number"`
	SHA256 string        `json:"sha256"`
	Facts  picture.Facts `json:"facts"`
	File   string        `json:"file"` // name of the file as it came
	Note   string        `json:"note"`
	Author string        `json:"author"`
	Saved  time.Time     `json:"saved"`
}

// Use is where a picture is used.
type Use struct {
	Template string `json:"template"`
	Name     string `json:"name"`     // for data-picture
	Version  int    `json:"version"`  // of the picture
	Packages int    `json:"packages"` // made of the template's latest version
}

// Made is a rendition that is kept.
type Made struct {
	Key        string         `json:"key"`    // where it is hosted
	Number     int            `json:"number"` // of the version that it was made of
	Recipe     picture.Recipe `json:"recipe"`
	Facts      picture.Facts  `json:"facts"`
	Difference float64        `json:"difference"`
	Saved      time.Time      `json:"saved"`
}

// Record is a picture with all that is known of it.
type Record struct {
	Name       string            `json:"name"`
	Versions   []Version         `json:"versions"` // newest first
	Alts       map[string]string `json:"alts"`     // alternative texts by language
	Uses       []Use             `json:"uses"`
	Renditions []Made            `json:"renditions"`
	Slices     *picture.SliceMap `json:"slices"`
}

// Latest is the newest version.
func (r Record) Latest() Version { return r.Versions[0] }

// Put stores a new version of a picture. It is read whole first: a broken, hostile or mislabelled file is refused.
func (p *Pictures) Put(ctx context.Context, name string, data []byte, file, note string) (r Record, err error) {
	if err := validName(name); err != nil {
		return Record{}, err
	}
	read, err := picture.Read(data)
	if err != nil {
		return Record{}, err
	}
	facts, err := json.Marshal(read.Facts)
	if err != nil {
		return Record{}, err
	}
	err = p.Store.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.SavePicture(store.PictureVersion{Picture: name, Facts: string(facts), File: file, Note: note}, data); err != nil {
			return err
		}
		r, err = getIn(tx, name)
		return err
	})
	return r, err
}

// validName refuses names that could not stand in an address.
func validName(name string) error {
	if !template.ValidName(name) {
		return problem.New(problem.Invalid, "The name %q must be lower-case letters, digits and hyphens, at most 63.", name).In("name")
	}
	return nil
}

// versionOf is a stored version with its facts.
func versionOf(v store.PictureVersion) (Version, error) {
	out := Version{Number: v.Number, SHA256: v.SHA256, File: v.File, Note: v.Note, Author: v.Author, Saved: v.Created}
	return out, json.Unmarshal([]byte(v.Facts), &out.Facts)
}

// List returns all pictures with their versions, by name, without what was made of them.
func (p *Pictures) List(ctx context.Context) (records []Record, err error) {
	err = p.Store.Read(ctx, func(tx *store.Tx) error {
		versions, err := tx.PictureVersions("")
		if err != nil {
			return err
		}
		users, err := usersIn(tx)
		if err != nil {
			return err
		}
		for _, v := range versions {
			if n := len(records); n == 0 || records[n-1].Name != v.Picture {
				records = append(records, Record{Name: v.Picture})
			}
			made, err := versionOf(v)
			if err != nil {
				return err
			}
			last := &records[len(records)-1]
			last.Versions = append(last.Versions, made)
		}
		for i := range records {
			if records[i].Alts, err = tx.PictureAlts(records[i].Name); err != nil {
				return err
			}
			records[i].Uses = users.of(records[i].Name)
		}
		return nil
	})
	return records, err
}

// Get returns a picture with all that is known of it.
func (p *Pictures) Get(ctx context.Context, name string) (r Record, err error) {
	err = p.Store.Read(ctx, func(tx *store.Tx) error {
		r, err = getIn(tx, name)
		return err
	})
	return r, err
}

// getIn is Get in a unit of work. No picture is decoded and no template read for it.
func getIn(tx *store.Tx, name string) (Record, error) {
	r := Record{Name: name, Renditions: []Made{}}
	versions, err := tx.PictureVersions(name)
	if err != nil {
		return r, err
	}
	for _, v := range versions {
		made, err := versionOf(v)
		if err != nil {
			return r, err
		}
		r.Versions = append(r.Versions, made)
	}
	if r.Alts, err = tx.PictureAlts(name); err != nil {
		return r, err
	}
	renditions, err := tx.Renditions(name)
	if err != nil {
		return r, err
	}
	for _, m := range renditions {
		made := Made{Key: m.Key, Number: m.Number, Difference: m.Difference, Saved: m.Created}
		if err := errors.Join(json.Unmarshal([]byte(m.Facts), &made.Facts), json.Unmarshal([]byte(m.Recipe), &made.Recipe)); err != nil {
			return r, err
		}
		r.Renditions = append(r.Renditions, made)
	}
	users, err := usersIn(tx)
	if err != nil {
		return r, err
	}
	r.Uses = users.of(name)
	cuts, err := tx.PictureSlices(name)
	if err == nil && cuts != "" {
		err = json.Unmarshal([]byte(cuts), &r.Slices)
	}
	return r, err
}

// Content returns the bytes of a version as they came; number 0 is the latest.
func (p *Pictures) Content(ctx context.Context, name string, number int) (data []byte, version Version, err error) {
	err = p.Store.Read(ctx, func(tx *store.Tx) error {
		data, version, err = contentIn(tx, name, number)
		return err
	})
	return data, version, err
}

// contentIn reads a version's file in a unit of work.
func contentIn(tx *store.Tx, name string, number int) ([]byte, Version, error) {
	versions, err := tx.PictureVersions(name)
	if err != nil {
		return nil, Version{}, err
	}
	for _, v := range versions {
		if number == 0 || v.Number == number {
			version, err := versionOf(v)
			if err != nil {
				return nil, version, err
			}
			data, err := tx.PictureContent(v.SHA256)
			return data, version, err
		}
	}
	return nil, Version{}, problem.New(problem.NotFound, "There is no version %d of a picture %q.", number, name)
}

// PutAlts replaces a picture's alternative texts by language (BCP 47).
func (p *Pictures) PutAlts(ctx context.Context, name string, alts map[string]string) error {
	for code, alt := range alts {
		if _, err := language.Parse(code); err != nil || len(alt) > 1000 {
			return problem.New(problem.Invalid, "%q must be a language such as sv, with a text of at most 1000 bytes.", code)
		}
	}
	return p.Store.Write(ctx, func(tx *store.Tx) error { return tx.PutPictureAlts(name, alts) })
}

// PutSlices stores how a picture is cut.
func (p *Pictures) PutSlices(ctx context.Context, name string, m picture.SliceMap) error {
	text, err := json.Marshal(m)
	if err != nil {
		return err
	}
	return p.Store.Write(ctx, func(tx *store.Tx) error { return tx.PutPictureSlices(name, string(text)) })
}

// Keep stores a rendition of a version and hosts it. recipe is what it was made by, so that it can be made anew.
func (p *Pictures) Keep(ctx context.Context, name string, number int, recipe picture.Recipe,
	made *picture.Rendition) (warnings []string, err error) {
	err = p.Store.Write(ctx, func(tx *store.Tx) error { return p.keepIn(tx, &warnings, name, number, recipe, made) })
	return warnings, err
}

// keepIn stores a rendition and hosts it in the same unit of work.
func (p *Pictures) keepIn(tx *store.Tx, warnings *[]string, name string, number int, recipe picture.Recipe, made *picture.Rendition) error {
	text, err := json.Marshal(recipe)
	if err != nil {
		return err
	}
	facts, err := json.Marshal(made.Facts)
	if err != nil {
		return err
	}
	err = tx.SaveRendition(store.Rendition{
		Picture: name, Number: number, Key: picture.KeyOf(made.Data), Recipe: string(text), Facts: string(facts), Difference: made.Difference,
	}, made.Data)
	if err != nil {
		return err
	}
	return p.Hosting.Put(tx, warnings, made.Data)
}

// users are the templates that may use pictures: the settings of their latest versions, and how many packages were
// made of each.
type users struct {
	templates []user
	packages  map[string]int // of a template's latest version
}

// user is a template with the pictures that its settings name.
type user struct {
	name     string
	pictures map[string]template.PictureSetting
}

// usersIn reads the templates' settings. One whose settings cannot be read uses nothing.
func usersIn(tx *store.Tx) (users, error) {
	u := users{packages: map[string]int{}}
	versions, err := tx.LatestVersions()
	if err != nil {
		return u, err
	}
	latest := map[string]int{}
	for _, v := range versions {
		latest[v.Template] = v.Number
		if settings, err := template.ReadSettings(v.Settings); err == nil {
			u.templates = append(u.templates, user{v.Template, settings.Pictures.Files})
		}
	}
	packages, err := tx.Packages()
	for _, made := range packages {
		if latest[made.Template] == made.Version {
			u.packages[made.Template]++
		}
	}
	return u, err
}

// of lists the uses of a picture.
func (u users) of(name string) []Use {
	uses := []Use{}
	for _, t := range u.templates {
		for _, as := range slices.Sorted(maps.Keys(t.pictures)) {
			if setting := t.pictures[as]; setting.From == name {
				uses = append(uses, Use{Template: t.name, Name: as, Version: setting.Version, Packages: u.packages[t.name]})
			}
		}
	}
	return uses
}

// Changes says what the latest version of a picture would change in a template that uses an older one; nothing when it
// is used already.
func (p *Pictures) Changes(ctx context.Context, name, templateName, as string) ([]string, error) {
	var r Record
	var used *template.Picture
	var data []byte
	err := p.Store.Read(ctx, func(tx *store.Tx) (err error) {
		if r, err = getIn(tx, name); err != nil {
			return err
		}
		if used, _, err = p.usedIn(tx, name, templateName, as); err != nil {
			return err
		}
		data, _, err = contentIn(tx, name, 0)
		return err
	})
	if err != nil {
		return nil, err
	}
	if used.Version == r.Latest().Number {
		return []string{}, nil
	}
	return changes(r, used, data), nil
}

// usedIn finds the picture of a template that is a rendition of a picture in the store.
func (p *Pictures) usedIn(tx *store.Tx, name, templateName, as string) (*template.Picture, templates.Stored, error) {
	t, err := p.Templates.GetIn(tx, templateName, 0)
	if err != nil {
		return nil, t, err
	}
	for i := range t.Pictures {
		if used := &t.Pictures[i]; used.From == name && (as == "" || as == used.Name) {
			return used, t, nil
		}
	}
	return nil, t, problem.New(problem.Refused, "The template %s does not use the picture %s.", templateName, name)
}

// changes says what the latest version, given as data, would change in a template.
func changes(r Record, used *template.Picture, data []byte) []string {
	recipe := recipeOf(r, used)
	made, err := picture.Fit(data, recipe)
	if err != nil {
		return []string{fmt.Sprintf("the latest version cannot take its place: %v", err)}
	}
	list := []string{fmt.Sprintf("version %d in place of %d", r.Latest().Number, used.Version)}
	i := slices.IndexFunc(r.Versions, func(v Version) bool { return v.Number == used.Version })
	if i >= 0 {
		before, after := r.Versions[i].Facts, r.Latest().Facts
		if before.Width*after.Height != after.Width*before.Height {
			list = append(list, fmt.Sprintf("the original's shape: %d x %d px became %d x %d px; more may be cut off",
				before.Width, before.Height, after.Width, after.Height))
		}
	}
	if made.Facts.Width != used.Width || made.Facts.Height != used.Height {
		width, height := recipe.Display(r.Latest().Facts)
		list = append(list, fmt.Sprintf("size: %d x %d px becomes %d x %d px, to be shown at %d x %d px", used.Width,
			used.Height, made.Facts.Width, made.Facts.Height, width, height))
	}
	list = append(list, fmt.Sprintf("weight: %d bytes becomes %d", len(used.Data), len(made.Data)))
	if old, err := picture.Read(used.Data); err == nil && made.Facts.Width == used.Width && made.Facts.Height == used.Height {
		list = append(list, fmt.Sprintf("look: a difference of %.2f, 0 being the same and 1 nothing in common",
			picture.Difference(old.Image(), made.Shown)))
	}
	return list
}

// recipeOf is the recipe by which the rendition in a template was made.
func recipeOf(r Record, used *template.Picture) picture.Recipe {
	for _, m := range r.Renditions {
		if m.Key == picture.KeyOf(used.Data) {
			return m.Recipe
		}
	}
	return picture.Recipe{Width: max(used.Width/2, 1), Multiple: 2}
}

// UseRequest asks for a picture in a template.
type UseRequest struct {
	Template string         `json:"template"`
	Name     string         `json:"name"` // for data-picture; empty for the picture's own
	Recipe   picture.Recipe `json:"recipe"`
}

// Use makes a rendition of the latest version and puts it into a template, as a new version of that.
func (p *Pictures) Use(ctx context.Context, name string, in UseRequest) (templates.Stored, error) {
	if in.Name == "" {
		in.Name = name
	}
	if err := validName(in.Name); err != nil {
		return templates.Stored{}, err
	}
	data, version, err := p.Content(ctx, name, 0)
	if err != nil {
		return templates.Stored{}, err
	}
	made, err := picture.Fit(data, in.Recipe)
	if err != nil {
		return templates.Stored{}, err
	}
	return p.put(ctx, func(tx *store.Tx) (placed, error) {
		t, err := p.Templates.GetIn(tx, in.Template, 0)
		return placed{t, name, version.Number, in.Name, in.Recipe, made,
			fmt.Sprintf("Picture %s, version %d of %s", in.Name, version.Number, name)}, err
	})
}

// Take puts the latest version of a picture into a template that uses an older one.
func (p *Pictures) Take(ctx context.Context, name string, in UseRequest) (templates.Stored, error) {
	return p.put(ctx, func(tx *store.Tx) (placed, error) {
		r, err := getIn(tx, name)
		if err != nil {
			return placed{}, err
		}
		used, t, err := p.usedIn(tx, name, in.Template, in.Name)
		if err != nil {
			return placed{}, err
		}
		data, _, err := contentIn(tx, name, 0)
		if err != nil {
			return placed{}, err
		}
		recipe := recipeOf(r, used)
		made, err := picture.Fit(data, recipe)
		return placed{t, name, r.Latest().Number, used.Name, recipe, made,
			fmt.Sprintf("Version %d of the picture %s", r.Latest().Number, name)}, err
	})
}

// placed is a rendition on its way into a template.
type placed struct {
	template templates.Stored
	picture  string // in the store
	number   int    // its version
	name     string // for data-picture
	recipe   picture.Recipe
	made     *picture.Rendition
	note     string
}

// put keeps a rendition, hosts it and saves the template with it: all of that or nothing.
func (p *Pictures) put(ctx context.Context, find func(*store.Tx) (placed, error)) (saved templates.Stored, err error) {
	var warnings []string
	err = p.Store.Write(ctx, func(tx *store.Tx) error {
		in, err := find(tx)
		if err != nil {
			return err
		}
		if err := p.keepIn(tx, &warnings, in.picture, in.number, in.recipe, in.made); err != nil {
			return err
		}
		alts, err := tx.PictureAlts(in.picture)
		if err != nil {
			return err
		}
		parts, err := in.parts(alts)
		if err != nil {
			return err
		}
		saved, err = p.Templates.SaveIn(tx, in.template.Name, template.Whole(parts), templates.Edit{Note: in.note, Base: in.template.Number})
		return err
	})
	saved.Warnings = append(saved.Warnings, warnings...)
	return saved, err
}

// parts are the template's with the rendition in them.
func (in placed) parts(alts map[string]string) (template.Parts, error) {
	t := in.template
	parts := t.Parts()
	setting := template.PictureSetting{File: in.name + picture.Ending(in.made.Facts.Format), From: in.picture, Version: in.number}
	if old := t.Picture(in.name); old != nil {
		setting.Alt = old.Alt
		delete(parts.Pictures, old.File)
	}
	for _, code := range append(t.Settings.Languages(), "en") {
		if alts[code] != "" {
			setting.Alt = alts[code]
			break
		}
	}
	parts.Pictures[setting.File] = in.made.Data
	var err error
	parts.Settings, err = template.WithSetting(parts.Settings, setting, "pictures", "files", in.name)
	return parts, err
}

// Choose sets the way in which the pictures of a template's form are delivered.
func (p *Pictures) Choose(ctx context.Context, name, form string, way template.Delivery) (saved templates.Stored, err error) {
	if !slices.Contains(template.Deliveries(form), way) {
		return saved, problem.New(problem.Invalid, "Pictures of the form %q cannot be delivered as %q.", form, way).In("way")
	}
	err = p.Store.Write(ctx, func(tx *store.Tx) error {
		t, err := p.Templates.GetIn(tx, name, 0)
		if err != nil {
			return err
		}
		settings, err := template.WithSetting(t.SettingsText, string(way), "pictures", "delivery", form)
		if err != nil {
			return err
		}
		saved, err = p.Templates.SaveIn(tx, name, template.Draft{Settings: &settings},
			templates.Edit{Note: fmt.Sprintf("Pictures of %s: %s", form, way), Base: t.Number})
		return err
	})
	return saved, err
}
