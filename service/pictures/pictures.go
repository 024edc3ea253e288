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
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/text/language"

	"missivum/core/picture"
	"missivum/core/template"
	"missivum/service/files"
	"missivum/service/people"
	"missivum/service/store"
	"missivum/service/templates"
)

// ErrRefused marks what cannot be done with a picture; the message says why.
var ErrRefused = errors.New("refused")

// Pictures keeps pictures.
type Pictures struct {
	Store     *store.Store
	Templates *templates.Templates
	People    *people.People
	Now       func() time.Time
	Log       *slog.Logger
	Folder    string         // for photos that are being fitted
	Allow     []netip.Prefix // private networks that the address check may ask
	Tree      string         // folder in which hosted pictures are kept for a static web server; empty for none

	mu     sync.Mutex
	photos *photoJob
}

// Start makes the templates tell of what is saved and take the public address, and removes what a service that was
// killed left half written.
func (p *Pictures) Start() error {
	p.Templates.Host = p.HostTemplate
	p.Templates.Public = func(ctx context.Context) (string, error) {
		s, err := p.Settings(ctx)
		return s.Address, err
	}
	return files.Sweep(p.Folder, ".archive-*", files.Half+"*")
}

// Settings are what the administrator says about pictures.
type Settings struct {
	Address string `json:"address"` // public address below which the service's pictures are reached; empty for none
	Volume  int    `json:"volume"`  // messages that go out in a day; 0 when it is not known
	Hours   int    `json:"hours"`   // between two checks of all picture addresses; 0 for none
}

// The settings' names in the store.
const settingPictures = "pictures"

// Settings returns what the administrator said.
func (p *Pictures) Settings(ctx context.Context) (Settings, error) {
	var s Settings
	text, err := p.Store.Setting(ctx, settingPictures)
	if err != nil || text == "" {
		return s, err
	}
	return s, json.Unmarshal([]byte(text), &s)
}

// PutSettings stores what the administrator says.
func (p *Pictures) PutSettings(ctx context.Context, s Settings) error {
	if s.Address != "" {
		u, err := url.Parse(s.Address)
		if err != nil || u.Scheme != "https" && u.Scheme != "http" || u.Host == "" || !strings.HasSuffix(s.Address, "/") {
			return fmt.Errorf("%w: the address %q must be a full https address that ends with a slash", ErrRefused, s.Address)
		}
	}
	if s.Volume < 0 || s.Hours < 0 || s.Hours > 24*365 {
		return fmt.Errorf("%w: volume and hours must not be below 0", ErrRefused)
	}
	text, err := json.Marshal(s)
	if err != nil {
		return err
	}
	return p.Store.PutSetting(ctx, settingPictures, string(text))
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
	Template string   `json:"template"`
	Name     string   `json:"name"`     // for data-picture
	Version  int      `json:"version"`  // of the picture
	Packages int      `json:"packages"` // made of the template's latest version
	Changes  []string `json:"changes"`  // what the latest version would change; empty when it is used already

	picture *template.Picture // in the template
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
func (p *Pictures) Put(ctx context.Context, name string, data []byte, file, note, author string) (Record, error) {
	if !template.ValidName(name) {
		return Record{}, fmt.Errorf("%w: the name %q must be lower-case letters, digits and hyphens, at most 63", ErrRefused, name)
	}
	read, err := picture.Read(data)
	if err != nil {
		return Record{}, fmt.Errorf("%w: %w", ErrRefused, err)
	}
	facts, err := json.Marshal(read.Facts)
	if err != nil {
		return Record{}, err
	}
	_, err = p.Store.SavePicture(ctx, store.PictureVersion{Picture: name, Facts: string(facts), File: file, Note: note, Author: author, Created: p.Now()}, data)
	if err != nil {
		return Record{}, err
	}
	return p.Get(ctx, name)
}

func versionOf(v store.PictureVersion) (Version, error) {
	out := Version{Number: v.Number, SHA256: v.SHA256, File: v.File, Note: v.Note, Author: v.Author, Saved: v.Created}
	return out, json.Unmarshal([]byte(v.Facts), &out.Facts)
}

// List returns all pictures with their versions, by name, without what was made of them.
func (p *Pictures) List(ctx context.Context) ([]Record, error) {
	versions, err := p.Store.PictureVersions(ctx, "")
	if err != nil {
		return nil, err
	}
	users, err := p.users(ctx)
	if err != nil {
		return nil, err
	}
	var list []Record
	for _, v := range versions {
		if n := len(list); n == 0 || list[n-1].Name != v.Picture {
			list = append(list, Record{Name: v.Picture})
		}
		made, err := versionOf(v)
		if err != nil {
			return nil, err
		}
		last := &list[len(list)-1]
		last.Versions = append(last.Versions, made)
	}
	for i := range list {
		if list[i].Alts, err = p.Store.PictureAlts(ctx, list[i].Name); err != nil {
			return nil, err
		}
		list[i].Uses = users.of(list[i].Name)
	}
	return list, nil
}

// Get returns a picture with all that is known of it.
func (p *Pictures) Get(ctx context.Context, name string) (Record, error) {
	r := Record{Name: name, Renditions: []Made{}}
	versions, err := p.Store.PictureVersions(ctx, name)
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
	if r.Alts, err = p.Store.PictureAlts(ctx, name); err != nil {
		return r, err
	}
	renditions, err := p.Store.Renditions(ctx, name)
	if err != nil {
		return r, err
	}
	for _, m := range renditions {
		made := Made{Number: m.Number, Difference: m.Difference, Saved: m.Created}
		if err := errors.Join(json.Unmarshal([]byte(m.Facts), &made.Facts), json.Unmarshal([]byte(m.Recipe), &made.Recipe)); err != nil {
			return r, err
		}
		data, err := p.Store.PictureContent(ctx, m.SHA256)
		if err != nil {
			return r, err
		}
		made.Key = picture.KeyOf(data)
		r.Renditions = append(r.Renditions, made)
	}
	users, err := p.users(ctx)
	if err != nil {
		return r, err
	}
	r.Uses = users.of(name)
	for i := range r.Uses {
		if u := &r.Uses[i]; u.Version != r.Latest().Number {
			if u.Changes, err = p.changes(ctx, r, u.picture); err != nil {
				return r, err
			}
		}
	}
	slices, err := p.Store.PictureSlices(ctx, name)
	if err == nil && slices != "" {
		err = json.Unmarshal([]byte(slices), &r.Slices)
	}
	return r, err
}

// Content returns the bytes of a version as they came; number 0 is the latest.
func (p *Pictures) Content(ctx context.Context, name string, number int) ([]byte, Version, error) {
	versions, err := p.Store.PictureVersions(ctx, name)
	if err != nil {
		return nil, Version{}, err
	}
	for _, v := range versions {
		if number == 0 || v.Number == number {
			version, err := versionOf(v)
			if err != nil {
				return nil, version, err
			}
			data, err := p.Store.PictureContent(ctx, v.SHA256)
			return data, version, err
		}
	}
	return nil, Version{}, store.ErrNotFound
}

// PutAlts replaces a picture's alternative texts by language (BCP 47).
func (p *Pictures) PutAlts(ctx context.Context, name string, alts map[string]string) error {
	for code, alt := range alts {
		if _, err := language.Parse(code); err != nil || len(alt) > 1000 {
			return fmt.Errorf("%w: %q must be a language such as sv, with a text of at most 1000 bytes", ErrRefused, code)
		}
	}
	return p.Store.PutPictureAlts(ctx, name, alts)
}

// PutSlices stores how a picture is cut.
func (p *Pictures) PutSlices(ctx context.Context, name string, m picture.SliceMap) error {
	text, err := json.Marshal(m)
	if err != nil {
		return err
	}
	return p.Store.PutPictureSlices(ctx, name, string(text))
}

// Keep stores a rendition of a version and hosts it. recipe is what it was made by, so that it can be made anew.
func (p *Pictures) Keep(ctx context.Context, name string, number int, recipe picture.Recipe, made *picture.Rendition) error {
	text, err := json.Marshal(recipe)
	if err != nil {
		return err
	}
	facts, err := json.Marshal(made.Facts)
	if err != nil {
		return err
	}
	r := store.Rendition{Picture: name, Number: number, Recipe: string(text), Facts: string(facts), Difference: made.Difference, Created: p.Now()}
	if err := p.Store.SaveRendition(ctx, r, made.Data); err != nil {
		return err
	}
	return p.host(ctx, map[string][]byte{picture.KeyOf(made.Data): made.Data})
}

// host makes contents reachable for good, in the store and in the tree.
func (p *Pictures) host(ctx context.Context, contents map[string][]byte) error {
	if err := p.Store.HostPictures(ctx, contents, p.Now()); err != nil || p.Tree == "" {
		return err
	}
	return plantAll(p.Tree, contents)
}

// HostTemplate hosts all pictures of a template.
func (p *Pictures) HostTemplate(ctx context.Context, t *template.Template) error {
	contents := map[string][]byte{}
	for i := range t.Pictures {
		if slices.Contains(picture.Mailable, t.Pictures[i].Format) {
			contents[picture.KeyOf(t.Pictures[i].Data)] = t.Pictures[i].Data
		}
	}
	return p.host(ctx, contents)
}

// Hosted returns a hosted file and since when it is hosted.
func (p *Pictures) Hosted(ctx context.Context, key string) ([]byte, time.Time, error) {
	if ContentType(key) == "" {
		return nil, time.Time{}, store.ErrNotFound
	}
	return p.Store.HostedPicture(ctx, key)
}

// users are the templates that may use pictures, and how many packages were made of each.
type users struct {
	templates []templates.Stored
	packages  map[string]int // of a template's latest version
}

func (p *Pictures) users(ctx context.Context) (users, error) {
	u := users{packages: map[string]int{}}
	var err error
	if u.templates, err = p.Templates.List(ctx); err != nil {
		return u, err
	}
	packages, err := p.Store.Packages(ctx)
	for _, made := range packages {
		if slices.ContainsFunc(u.templates, func(t templates.Stored) bool { return t.Name == made.Template && t.Number == made.Version }) {
			u.packages[made.Template]++
		}
	}
	return u, err
}

// of lists the uses of a picture, without what its latest version would change there.
func (u users) of(name string) []Use {
	list := []Use{}
	for _, t := range u.templates {
		for i := range t.Pictures {
			if used := &t.Pictures[i]; used.From == name {
				list = append(list, Use{Template: t.Name, Name: used.Name, Version: used.Version, Packages: u.packages[t.Name], Changes: []string{}, picture: used})
			}
		}
	}
	return list
}

// changes says what the latest version would change in a template.
func (p *Pictures) changes(ctx context.Context, r Record, used *template.Picture) ([]string, error) {
	made, recipe, err := p.anew(ctx, r, used)
	if err != nil {
		return []string{fmt.Sprintf("the latest version cannot take its place: %v", err)}, nil
	}
	list := []string{fmt.Sprintf("version %d in place of %d", r.Latest().Number, used.Version)}
	i := slices.IndexFunc(r.Versions, func(v Version) bool { return v.Number == used.Version })
	if i >= 0 {
		before, after := r.Versions[i].Facts, r.Latest().Facts
		if before.Width*after.Height != after.Width*before.Height {
			list = append(list, fmt.Sprintf("the original's shape: %d x %d px became %d x %d px; more may be cut off", before.Width, before.Height, after.Width, after.Height))
		}
	}
	if made.Facts.Width != used.Width || made.Facts.Height != used.Height {
		width, height := recipe.Display(r.Latest().Facts)
		list = append(list, fmt.Sprintf("size: %d x %d px becomes %d x %d px, to be shown at %d x %d px", used.Width, used.Height, made.Facts.Width, made.Facts.Height, width, height))
	}
	list = append(list, fmt.Sprintf("weight: %d bytes becomes %d", len(used.Data), len(made.Data)))
	if old, err := picture.Read(used.Data); err == nil && made.Facts.Width == used.Width && made.Facts.Height == used.Height {
		list = append(list, fmt.Sprintf("look: a difference of %.2f, 0 being the same and 1 nothing in common", picture.Difference(old.Image(), made.Shown)))
	}
	return list, nil
}

// anew makes the rendition that a template uses from the latest version, by the recipe that it was made by.
func (p *Pictures) anew(ctx context.Context, r Record, used *template.Picture) (*picture.Rendition, picture.Recipe, error) {
	recipe := picture.Recipe{Width: max(used.Width/2, 1), Multiple: 2}
	for _, m := range r.Renditions {
		if m.Key == picture.KeyOf(used.Data) {
			recipe = m.Recipe
		}
	}
	data, _, err := p.Content(ctx, r.Name, 0)
	if err != nil {
		return nil, recipe, err
	}
	made, err := picture.Fit(data, recipe)
	return made, recipe, err
}

// UseRequest asks for a picture in a template.
type UseRequest struct {
	Template string         `json:"template"`
	Name     string         `json:"name"` // for data-picture; empty for the picture's own
	Recipe   picture.Recipe `json:"recipe"`
	Author   string         `json:"author"`
}

// Use makes a rendition of the latest version and puts it into a template, as a new version of that.
func (p *Pictures) Use(ctx context.Context, name string, in UseRequest) (templates.Stored, error) {
	data, version, err := p.Content(ctx, name, 0)
	if err != nil {
		return templates.Stored{}, err
	}
	made, err := picture.Fit(data, in.Recipe)
	if err != nil {
		return templates.Stored{}, fmt.Errorf("%w: %w", ErrRefused, err)
	}
	if in.Name == "" {
		in.Name = name
	}
	if !template.ValidName(in.Name) {
		return templates.Stored{}, fmt.Errorf("%w: the name %q must be lower-case letters, digits and hyphens", ErrRefused, in.Name)
	}
	return p.put(ctx, name, version.Number, in, made, fmt.Sprintf("Picture %s, version %d of %s", in.Name, version.Number, name))
}

// Take puts the latest version of a picture into a template that uses an older one.
func (p *Pictures) Take(ctx context.Context, name string, in UseRequest) (templates.Stored, error) {
	r, err := p.Get(ctx, name)
	if err != nil {
		return templates.Stored{}, err
	}
	t, err := p.Templates.Get(ctx, in.Template, 0)
	if err != nil {
		return t, err
	}
	for i := range t.Pictures {
		if used := &t.Pictures[i]; used.From == name && (in.Name == "" || in.Name == used.Name) {
			made, recipe, err := p.anew(ctx, r, used)
			if err != nil {
				return t, fmt.Errorf("%w: %w", ErrRefused, err)
			}
			in.Name, in.Recipe = used.Name, recipe
			return p.put(ctx, name, r.Latest().Number, in, made, fmt.Sprintf("Version %d of the picture %s", r.Latest().Number, name))
		}
	}
	return t, fmt.Errorf("%w: the template %s does not use the picture %s", ErrRefused, in.Template, name)
}

// put saves a template with a rendition in it.
func (p *Pictures) put(ctx context.Context, name string, number int, in UseRequest, made *picture.Rendition, note string) (templates.Stored, error) {
	if err := p.Keep(ctx, name, number, in.Recipe, made); err != nil {
		return templates.Stored{}, err
	}
	t, err := p.Templates.Get(ctx, in.Template, 0)
	if err != nil {
		return t, err
	}
	alts, err := p.Store.PictureAlts(ctx, name)
	if err != nil {
		return t, err
	}
	parts := t.Parts()
	setting := template.PictureSetting{File: in.Name + picture.Ending(made.Facts.Format), From: name, Version: number}
	if old := t.Picture(in.Name); old != nil {
		setting.Alt = old.Alt
		delete(parts.Pictures, old.File)
	}
	for _, code := range append(t.Settings.Languages(), "en") {
		if alts[code] != "" {
			setting.Alt = alts[code]
			break
		}
	}
	parts.Pictures[setting.File] = made.Data
	if parts.Settings, err = template.WithSetting(parts.Settings, setting, "pictures", "files", in.Name); err != nil {
		return t, err
	}
	saved, err := p.Templates.Save(ctx, in.Template, parts, templates.Edit{Note: note, Author: in.Author, Base: t.Number})
	if err != nil {
		return saved, err
	}
	return saved, p.HostTemplate(ctx, saved.Template)
}

// Choose sets the way in which the pictures of a template's form travel.
func (p *Pictures) Choose(ctx context.Context, name, form string, way template.Delivery, author string) (templates.Stored, error) {
	t, err := p.Templates.Get(ctx, name, 0)
	if err != nil {
		return t, err
	}
	if !slices.Contains(template.Deliveries(form), way) {
		return t, fmt.Errorf("%w: pictures of the form %q cannot go as %q", ErrRefused, form, way)
	}
	parts := t.Parts()
	if parts.Settings, err = template.WithSetting(parts.Settings, string(way), "pictures", "delivery", form); err != nil {
		return t, err
	}
	return p.Templates.Save(ctx, name, parts, templates.Edit{Note: fmt.Sprintf("Pictures of %s: %s", form, way), Author: author, Base: t.Number})
}
