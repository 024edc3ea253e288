// Package template reads a signature template: the HTML source, its settings and its pictures, from
// a folder or from a single HTML file. Start with Open.
package template

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"math"
	"net/url"
	"path"
	"regexp"
	"slices"
	"sort"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"gopkg.in/yaml.v3"

	"missivum/core/charset"
	"missivum/core/markup"
	"missivum/core/person"
	"missivum/core/picture"
	"missivum/core/problem"
	"missivum/core/style"
)

// The files of a template folder.
const (
	SourceFile    = "template.html"
	SettingsFile  = "template.yaml"
	PictureFolder = "pictures"
)

// Limits of a template.
const (
	maxPictures = 64 << 20 // bytes of all pictures together
	MaxPictures = 100
	maxSettings = 64 << 10 // bytes
	maxText     = 64 << 10 // bytes, of a text form written by hand
	MaxPicture  = 4 << 20  // bytes, of a picture
)

// Parts are what a template is made of, as they stand in its folder.
type Parts struct {
	Source   string            // template.html
	Settings string            // template.yaml
	Texts    map[string]string // text forms written by hand, by file: template.txt, template.reply.txt
	Pictures map[string][]byte // by their path below the picture folder
	Home     Organisation      `json:"Home,omitzero"` // what the organisation says, under the template's own settings
}

// TextFile reports whether a file of that name is a text form, and of which variant; an empty one is for all
// variants without a file of their own.
func TextFile(name string) (variant string, ok bool) {
	if name == "template.txt" {
		return "", true
	}
	variant, ok = strings.CutPrefix(name, "template.")
	if !ok {
		return "", false
	}
	variant, ok = strings.CutSuffix(variant, ".txt")
	return variant, ok && ValidName(variant)
}

// Settings are what template.yaml says.
type Settings struct {
	Title    string          `yaml:"title"`
	About    string          `yaml:"about"`
	Language string          `yaml:"language"` // BCP 47, of the template's own text
	Country  string          `yaml:"country"`  // two letters, for telephone numbers of people without one
	Variants []string        `yaml:"variants"`
	Sample   string          `yaml:"sample"`   // mail address of the person to show first
	Fields   []string        `yaml:"fields"`   // the directory's own fields that the template uses
	Required []string        `yaml:"required"` // fields that everybody who gets the template must have
	Longest  map[string]int  `yaml:"longest"`  // by field, how many characters its line holds
	Pictures PictureSettings `yaml:"pictures"`
	Slots    map[string]Slot `yaml:"slots"`
	// OftenBlank is from how many percent of the people on a field that is blank is reported; 0 for the
	// check's own figure.
	OftenBlank int `yaml:"oftenBlank"`
	// Compact makes what goes out shorter, with the same look.
	Compact bool `yaml:"compact"`

	Organisation map[string]string       `yaml:"organisation"` // constants, for {{ org.name }}
	Texts        map[string]person.Texts `yaml:"texts"`        // by language, for {{ text.name }}
}

// Languages are those whose texts stand in for a person's own: the template's, then the organisation's
// (its constant language).
func (s *Settings) Languages() []string {
	var list []string
	for _, language := range []string{s.Language, s.Organisation["language"]} {
		if language != "" {
			list = append(list, language)
		}
	}
	return list
}

// PictureSettings say where the pictures come from and how they are delivered.
type PictureSettings struct {
	Address  string                    `yaml:"address"`  // where the pictures will be hosted
	Naming   Naming                    `yaml:"naming"`   // of the hosted files
	Delivery map[string]Delivery       `yaml:"delivery"` // by form; what is left out is delivered as is usual for the form
	Files    map[string]PictureSetting `yaml:"files"`
}

// Naming says how hosted pictures are named below their address.
type Naming string

// The namings.
const (
	byFile    Naming = "file"    // by the file's own name: a new picture takes the place of the old one
	ByContent Naming = "content" // by the content (picture.KeyOf): an address always shows the same picture
)

// Delivery is the way in which pictures get to the reader.
type Delivery string

// The ways.
const (
	Hosted  Delivery = "hosted"  // by address
	Carried Delivery = "carried" // in the message
	Beside  Delivery = "beside"  // as files beside the page
	Data    Delivery = "data"    // written into the source
)

// Deliveries lists the ways that pictures of a form can go, the usual one first; none for a form without pictures by
// address.
func Deliveries(form string) []Delivery { return deliveries[form] }

var deliveries = map[string][]Delivery{
	"html": {Beside, Hosted, Data}, "fragment": {Hosted, Data}, "mime": {Hosted, Data}, "message": {Carried, Hosted, Data},
}

// PictureSetting names a picture file for data-picture.
type PictureSetting struct {
	File string `yaml:"file"`
	Alt  string `yaml:"alt"`
	// From and Version are the picture in the store that the file is a rendition of.
	From    string `yaml:"from,omitempty"`
	Version int    `yaml:"version,omitempty"`
}

// Slot says when a dated piece is in force, both days included.
type Slot struct {
	From  Date `yaml:"from"`
	Until Date `yaml:"until"`
}

// InForce reports whether the slot shows on a day. A blank end is open.
func (s Slot) InForce(day time.Time) bool {
	d := Date(day.Format(time.DateOnly))
	return (s.From == "" || s.From <= d) && (s.Until == "" || d <= s.Until)
}

// Date is a day written 2006-01-02 (RFC 3339, full-date), or blank.
type Date string

// UnmarshalYAML checks the form.
func (d *Date) UnmarshalYAML(n *yaml.Node) error {
	if _, err := time.Parse(time.DateOnly, n.Value); err != nil && n.Value != "" {
		return fmt.Errorf("line %d: %q is not a date; write it as 2026-11-30", n.Line, n.Value)
	}
	*d = Date(n.Value)
	return nil
}

// Picture is one picture file of a template.
type Picture struct {
	Name    string // for data-picture; empty for a file that settings do not name
	File    string // path below the picture folder
	Alt     string
	From    string // picture in the store that it is a rendition of; empty for none
	Version int    // of that picture
	Data    []byte
	picture.Facts
}

// Template is one signature as source.
type Template struct {
	Name         string
	Source       string            // HTML
	SettingsText string            // YAML as written, empty when there is none
	Texts        map[string]string // text forms written by hand, by file
	Settings     Settings
	Pictures     []Picture // sorted by File
	// Public is where the service hosts pictures by their content; templates without an address of their own
	// use it.
	Public string
	Home   Organisation // what the organisation says
	own    Settings     // without what the organisation says
	// Notes say what a reader of the files should know: a file in another character set than UTF-8, and how that is known.
	Notes []string
	// Bare is set for a template read from a single HTML file. Such a file may be pasted as it
	// stands, so checks look at it that way too.
	Bare bool
}

var nameForm = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)

// ValidName reports whether a template can have that name: lower-case letters, digits and hyphens.
func ValidName(name string) bool { return nameForm.MatchString(name) }

// Variants lists the template's variants; without settings they are new and reply.
func (t *Template) Variants() []string {
	if len(t.Settings.Variants) == 0 {
		return []string{"new", "reply"}
	}
	return t.Settings.Variants
}

// Title is the template's title, or its name.
func (t *Template) Title() string {
	if t.Settings.Title != "" {
		return t.Settings.Title
	}
	return t.Name
}

// Picture returns the picture that settings give this name, or nil.
func (t *Template) Picture(name string) *Picture {
	for i := range t.Pictures {
		if name != "" && t.Pictures[i].Name == name {
			return &t.Pictures[i]
		}
	}
	return nil
}

// PictureNames lists the names for data-picture.
func (t *Template) PictureNames() []string {
	var names []string
	for _, p := range t.Pictures {
		if p.Name != "" {
			names = append(names, p.Name)
		}
	}
	return names
}

// Hosting is where the template's pictures are hosted and how they are named there; empty when that is not decided.
func (t *Template) Hosting() (address string, naming Naming) {
	if p := t.Settings.Pictures; p.Address != "" {
		if p.Naming == "" {
			return p.Address, byFile
		}
		return p.Address, p.Naming
	}
	return t.Public, ByContent
}

// HostedName is the name of a picture's file where it is hosted.
func (p *Picture) HostedName(naming Naming) string {
	if naming == ByContent {
		return picture.KeyOf(p.Data)
	}
	return p.File
}

// Proportioned gives the one of width and height, in px, that is 0 in the picture's own proportion; with neither, its
// true pixels.
func (p *Picture) Proportioned(width, height int) (int, int) {
	switch {
	case width == 0 && height == 0:
		return p.Width, p.Height
	case height == 0:
		return width, max(int(math.Round(float64(width)*float64(p.Height)/float64(p.Width))), 1)
	case width == 0:
		return max(int(math.Round(float64(height)*float64(p.Width)/float64(p.Height))), 1), height
	}
	return width, height
}

// Delivery is the way in which the pictures of a form go.
func (t *Template) Delivery(form string) Delivery {
	if way := t.Settings.Pictures.Delivery[form]; way != "" {
		return way
	}
	if list := deliveries[form]; len(list) > 0 {
		return list[0]
	}
	return Hosted
}

// AtAddress returns the template's picture that an address in the source leads to, or nil: a
// relative path beside the source, or an address below the hosting address.
func (t *Template) AtAddress(address string) *Picture {
	hosting, naming := t.Hosting()
	file, ok := strings.CutPrefix(address, hosting)
	hosted := ok && hosting != ""
	if !hosted {
		file = strings.TrimPrefix(address, "./")
		if !t.Bare {
			if file, ok = strings.CutPrefix(file, PictureFolder+"/"); !ok {
				return nil
			}
		}
	}
	if unescaped, err := url.PathUnescape(file); err == nil {
		file = unescaped
	}
	for i := range t.Pictures {
		if t.Pictures[i].File == file || hosted && t.Pictures[i].HostedName(naming) == file {
			return &t.Pictures[i]
		}
	}
	return nil
}

// Version identifies the template's content: the first 12 hexadecimal digits of a SHA-256 over
// source, settings and pictures.
func (t *Template) Version() string {
	h := sha256.New()
	for _, part := range []string{t.Source, t.SettingsText} {
		fmt.Fprintf(h, "%d\n%s", len(part), part)
	}
	for _, file := range slices.Sorted(maps.Keys(t.Texts)) {
		fmt.Fprintf(h, "%s\n%d\n%s", file, len(t.Texts[file]), t.Texts[file])
	}
	for _, p := range t.Pictures {
		fmt.Fprintf(h, "%s\n%d\n", p.File, len(p.Data))
		h.Write(p.Data)
	}
	return hex.EncodeToString(h.Sum(nil))[:12]
}

// Parts are the template's, to be changed and made into a template anew.
func (t *Template) Parts() Parts {
	p := Parts{Source: t.Source, Settings: t.SettingsText, Texts: maps.Clone(t.Texts), Pictures: map[string][]byte{}, Home: t.Home}
	for _, picture := range t.Pictures {
		p.Pictures[picture.File] = picture.Data
	}
	return p
}

// Files are the files of the template's folder, by their path.
func (t *Template) Files() map[string][]byte {
	files := map[string][]byte{SourceFile: []byte(t.Source)}
	if t.SettingsText != "" {
		files[SettingsFile] = []byte(t.SettingsText)
	}
	for file, text := range t.Texts {
		files[file] = []byte(text)
	}
	for _, p := range t.Pictures {
		files[PictureFolder+"/"+p.File] = p.Data
	}
	return files
}

// Text gives the text form that was written by hand for a variant, with the file it stands in.
func (t *Template) Text(variant string) (file, text string, ok bool) {
	for _, file := range []string{"template." + variant + ".txt", "template.txt"} {
		if text, ok := t.Texts[file]; ok {
			return file, text, true
		}
	}
	return "", "", false
}

// New makes a template of its parts. Errors are problems: they name the file and, where there is one, the line.
func New(name string, parts Parts) (*Template, error) {
	t, err := read(name, parts)
	return t, problem.As(problem.Refused, err)
}

// read checks the parts against their limits and reads what they say.
func read(name string, parts Parts) (*Template, error) {
	t := &Template{Name: name, Source: parts.Source, SettingsText: parts.Settings, Texts: parts.Texts, Home: parts.Home}
	if len(t.Source) > markup.MaxSource {
		return nil, fmt.Errorf("%s: %w", SourceFile, markup.ErrTooLarge)
	}
	if _, err := style.Parse(t.Source); err != nil {
		return nil, fmt.Errorf("%s: %w", SourceFile, err)
	}
	if !utf8.ValidString(t.Source) || !utf8.ValidString(t.SettingsText) {
		return nil, fmt.Errorf("%s or %s is not UTF-8; save it as UTF-8 text", SourceFile, SettingsFile)
	}
	if err := t.readSettings(); err != nil {
		return nil, fmt.Errorf("%s: %w", SettingsFile, err)
	}
	if err := t.checkTexts(); err != nil {
		return nil, err
	}
	if len(parts.Pictures) > MaxPictures {
		return nil, fmt.Errorf("the template has %d pictures; at most %d are accepted", len(parts.Pictures), MaxPictures)
	}
	for file, data := range parts.Pictures {
		if !ValidPictureFile(file) {
			return nil, fmt.Errorf("%q cannot be the name of a picture in the folder %s: no slashes, no full stop first or last, no control "+
				"signs and none of < > : \" | ? * \\, at most %d bytes", file, PictureFolder, longestFile)
		}
		if len(data) > MaxPicture {
			return nil, fmt.Errorf("%s/%s has %d kB; at most %d kB are taken into a template, and a signature's pictures should have some ten",
				PictureFolder, file, len(data)>>10, MaxPicture>>10)
		}
		facts, err := picture.Probe(data)
		if err != nil {
			return nil, fmt.Errorf("%s/%s: %w", PictureFolder, file, err)
		}
		t.Pictures = append(t.Pictures, Picture{File: file, Data: data, Facts: facts})
	}
	sort.Slice(t.Pictures, func(i, j int) bool { return t.Pictures[i].File < t.Pictures[j].File })
	return t, t.namePictures()
}

// longestFile is how long the name of a picture's file may be, in bytes.
const longestFile = 120

// ValidPictureFile reports whether a picture's file can have that name on every system, and come back from an archive as
// it went in: signs that are not seen or turn the direction of writing are refused too.
func ValidPictureFile(name string) bool {
	if name == "" || len(name) > longestFile || !utf8.ValidString(name) || strings.HasPrefix(name, ".") || strings.Trim(name, " .") != name {
		return false
	}
	for _, r := range name {
		if unicode.IsControl(r) || unicode.Is(unicode.Cf, r) || strings.ContainsRune(`/\<>:"|?*`, r) {
			return false
		}
	}
	return true
}

// checkTexts refuses text forms for variants that there are not, and those that cannot be read.
func (t *Template) checkTexts() error {
	for file, text := range t.Texts {
		variant, ok := TextFile(file)
		switch {
		case !ok:
			return fmt.Errorf("%s is no text form; they are called template.txt, or template.reply.txt for the variant reply", file)
		case variant != "" && !slices.Contains(t.Variants(), variant):
			return fmt.Errorf("%s is for the variant %q; the template has %s", file, variant, strings.Join(t.Variants(), ", "))
		case len(text) > maxText:
			return fmt.Errorf("%s is larger than %d kB", file, maxText>>10)
		case !utf8.ValidString(text):
			return fmt.Errorf("%s is not UTF-8; save it as UTF-8 text", file)
		}
	}
	return nil
}

// ReadSettings reads a template.yaml by itself.
func ReadSettings(text string) (Settings, error) {
	t := &Template{SettingsText: text}
	err := t.readSettings()
	return t.Settings, problem.As(problem.Refused, err)
}

// readSettings reads template.yaml and refuses what nobody knows.
func (t *Template) readSettings() error {
	if len(t.SettingsText) > maxSettings {
		return fmt.Errorf("the settings are larger than %d kB", maxSettings>>10)
	}
	if strings.TrimSpace(t.SettingsText) != "" {
		d := yaml.NewDecoder(strings.NewReader(t.SettingsText))
		d.KnownFields(true)
		if err := d.Decode(&t.Settings); err != nil && !errors.Is(err, io.EOF) {
			return errors.New(strings.TrimPrefix(strings.TrimPrefix(err.Error(), "yaml: "), "unmarshal errors:\n  "))
		}
	}
	t.own = t.Settings
	t.Settings.within(t.Home)
	s := t.Settings
	if a := s.Pictures.Address; a != "" {
		u, err := url.Parse(a)
		if err != nil || u.Scheme != "https" || u.Host == "" || !strings.HasSuffix(a, "/") {
			return fmt.Errorf("pictures.address %q must be a full https address that ends with a slash", a)
		}
	}
	if err := s.Pictures.check(); err != nil {
		return err
	}
	if s.Country != "" && len(s.Country) != 2 {
		return fmt.Errorf("country %q must be two letters, such as GB", s.Country)
	}
	if s.OftenBlank < 0 || s.OftenBlank > 100 {
		return fmt.Errorf("oftenBlank %d must be a share in percent, from 1 to 100", s.OftenBlank)
	}
	for name, slot := range s.Slots {
		if slot.From != "" && slot.Until != "" && slot.Until < slot.From {
			return fmt.Errorf("slot %s ends on %s, before it begins on %s", name, slot.Until, slot.From)
		}
	}
	for name := range s.Organisation {
		if !person.ValidName(name) {
			return fmt.Errorf("organisation.%s: use letters, digits and hyphens, a letter first", name)
		}
	}
	for name, texts := range s.Texts {
		if !person.ValidName(name) {
			return fmt.Errorf("texts.%s: use letters, digits and hyphens, a letter first", name)
		}
		languages := s.Languages()
		if len(languages) == 0 {
			return errors.New("texts need the template's language, for people whose own has no text")
		}
		if texts.In(languages...) == "" {
			return fmt.Errorf("texts.%s has no text in the template's language, %s", name, strings.Join(languages, ", or the organisation's, "))
		}
	}
	for _, f := range s.Fields {
		if !person.ValidName(f) {
			return fmt.Errorf("field %q: use letters, digits and hyphens, a letter first", f)
		}
	}
	for i, v := range s.Variants {
		if !ValidName(v) {
			return fmt.Errorf("variant %q: use lower-case letters, digits and hyphens", v)
		}
		if slices.Contains(s.Variants[:i], v) {
			return fmt.Errorf("the variant %s is named twice", v)
		}
	}
	return nil
}

// check refuses a naming, a form or a way that nobody knows.
func (p *PictureSettings) check() error {
	if p.Naming != "" && p.Naming != byFile && p.Naming != ByContent {
		return fmt.Errorf("pictures.naming %q must be %s or %s", p.Naming, byFile, ByContent)
	}
	for _, form := range slices.Sorted(maps.Keys(p.Delivery)) {
		list := deliveries[form]
		if len(list) == 0 {
			return fmt.Errorf("pictures.delivery.%s: there is no such form with pictures by address; there are %s", form,
				strings.Join(slices.Sorted(maps.Keys(deliveries)), ", "))
		}
		if way := p.Delivery[form]; !slices.Contains(list, way) {
			return fmt.Errorf("pictures.delivery.%s: %q must be one of %s", form, way, joined(list))
		}
	}
	return nil
}

// joined lists deliveries in a sentence.
func joined(list []Delivery) string {
	var names []string
	for _, way := range list {
		names = append(names, string(way))
	}
	return strings.Join(names, ", ")
}

// namePictures gives the files of the folder their names and alternative texts.
func (t *Template) namePictures() error {
	for name, setting := range t.Settings.Pictures.Files {
		found := false
		for i := range t.Pictures {
			if t.Pictures[i].File == setting.File {
				p := &t.Pictures[i]
				p.Name, p.Alt, p.From, p.Version = name, setting.Alt, setting.From, setting.Version
				found = true
			}
		}
		if !found {
			err := fmt.Errorf("%s: picture %q names the file %q, which is not in the folder %s", SettingsFile, name, setting.File, PictureFolder)
			if near := person.Nearest(setting.File, t.fileNames()); len(near) > 0 {
				err = fmt.Errorf("%w; there is %s", err, strings.Join(near, ", "))
			}
			return err
		}
	}
	return nil
}

// fileNames are the files of the pictures.
func (t *Template) fileNames() []string {
	var names []string
	for _, p := range t.Pictures {
		names = append(names, p.File)
	}
	return names
}

// Open reads a template folder.
func Open(fsys fs.FS, name string) (*Template, error) {
	source, err := readFile(fsys, SourceFile, markup.MaxSource)
	if err != nil {
		return nil, err
	}
	settings, err := readFile(fsys, SettingsFile, maxSettings)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	r := textReader{}
	parts := Parts{
		Source: r.text(SourceFile, source, charset.OfPage(source)), Settings: r.text(SettingsFile, settings, ""),
		Pictures: map[string][]byte{},
	}
	if parts.Texts, err = r.texts(fsys); err != nil {
		return nil, err
	}
	entries, err := fs.ReadDir(fsys, PictureFolder)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	entries = slices.DeleteFunc(entries, func(e fs.DirEntry) bool { return e.IsDir() || strings.HasPrefix(e.Name(), ".") })
	if len(entries) > MaxPictures { // before one is read
		return nil, problem.New(problem.TooLarge, "the template has %d pictures; at most %d are accepted", len(entries), MaxPictures)
	}
	total := 0
	for _, e := range entries {
		data, err := readFile(fsys, path.Join(PictureFolder, e.Name()), MaxPicture)
		if err != nil {
			return nil, err
		}
		if total += len(data); total > maxPictures {
			return nil, problem.New(problem.TooLarge, "the template's pictures have more than %d MB together", maxPictures>>20)
		}
		parts.Pictures[e.Name()] = data
	}
	if r.err != nil {
		return nil, r.err
	}
	t, err := New(name, parts)
	if t != nil {
		t.Notes = r.notes
	}
	return t, err
}

// textReader reads files in whatever character set, and collects what is to be said of them and the first error.
type textReader struct {
	notes []string
	err   error
}

// text is a file's text.
func (r *textReader) text(file string, data []byte, declared string) string {
	text, err := charset.Read(data, declared)
	if err != nil && r.err == nil {
		r.err = fmt.Errorf("%s: %w", file, err)
	}
	if note := text.Note(); note != "" {
		r.notes = append(r.notes, file+": "+note)
	}
	return text.Text
}

// OpenAll reads every template folder of a folder, sorted by name.
func OpenAll(fsys fs.FS) ([]*Template, error) {
	entries, err := fs.ReadDir(fsys, ".")
	if err != nil {
		return nil, err
	}
	var list []*Template
	for _, e := range entries {
		folder, err := fs.Sub(fsys, e.Name())
		if err != nil {
			return nil, err
		}
		t, err := Open(folder, e.Name())
		if err != nil {
			return nil, fmt.Errorf("template %s: %w", e.Name(), err)
		}
		list = append(list, t)
	}
	return list, nil
}

// texts reads the text forms written by hand.
func (r *textReader) texts(fsys fs.FS) (map[string]string, error) {
	entries, err := fs.ReadDir(fsys, ".")
	if err != nil {
		return nil, err
	}
	texts := map[string]string{}
	for _, e := range entries {
		if _, ok := TextFile(e.Name()); !ok || e.IsDir() {
			continue
		}
		text, err := readFile(fsys, e.Name(), maxText)
		if err != nil {
			return nil, err
		}
		texts[e.Name()] = strings.ReplaceAll(r.text(e.Name(), text, ""), "\r\n", "\n")
	}
	return texts, nil
}

// OpenBare makes a template of a single HTML file. Pictures that the source refers to by a relative
// path are read from beside it; those that are missing or unreadable are left to the checks.
func OpenBare(fsys fs.FS, file string) (*Template, error) {
	source, err := readFile(fsys, file, markup.MaxSource)
	if err != nil {
		return nil, err
	}
	r := textReader{}
	text := r.text(file, source, charset.OfPage(source))
	if r.err != nil {
		return nil, r.err
	}
	t := &Template{Name: strings.TrimSuffix(path.Base(file), path.Ext(file)), Source: text, Bare: true, Notes: r.notes}
	doc, err := style.Parse(t.Source)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	for _, img := range doc.Root.Elements("img") {
		src, _ := img.Attr("src")
		src = strings.TrimPrefix(src, "./")
		if unescaped, err := url.PathUnescape(src); err == nil {
			src = unescaped
		}
		if !fs.ValidPath(src) || strings.Contains(src, ":") || t.AtAddress(src) != nil || len(t.Pictures) >= MaxPictures {
			continue
		}
		data, err := readFile(fsys, src, MaxPicture)
		if err != nil {
			continue
		}
		if facts, err := picture.Probe(data); err == nil {
			t.Pictures = append(t.Pictures, Picture{File: src, Data: data, Facts: facts})
		}
	}
	sort.Slice(t.Pictures, func(i, j int) bool { return t.Pictures[i].File < t.Pictures[j].File })
	return t, nil
}

// readFile reads a file up to a limit.
func readFile(fsys fs.FS, name string, limit int64) ([]byte, error) {
	f, err := fsys.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	var b bytes.Buffer
	if _, err := io.Copy(&b, io.LimitReader(f, limit+1)); err != nil {
		return nil, fmt.Errorf("reading %s: %w", name, err)
	}
	if int64(b.Len()) > limit {
		return nil, fmt.Errorf("%s is larger than %d kB", name, limit>>10)
	}
	return b.Bytes(), nil
}
