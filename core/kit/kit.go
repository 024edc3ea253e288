// Package kit makes kits: the files that one person gets for one way of installing, with what each situation uses and a list
// of all files with their digests, which is signed. What a way wants on a desk is data (client.Desk). A Maker is made once;
// each goroutine takes a Worker from it. Start with New and Worker.Make.
package kit

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/text/encoding/unicode"

	"missivum/core/client"
	"missivum/core/compose"
	"missivum/core/field"
	"missivum/core/filename"
	"missivum/core/person"
	"missivum/core/problem"
	"missivum/core/template"
)

// format is the version of the list's layout.
const format = 1

// Input is what kits are made of.
type Input struct {
	Templates map[string]*template.Template // by name
	Schema    *person.Schema
	Day       time.Time
	Way       string       // the id of a client.Way
	Desk      *client.Desk // of ways that place files; nil for what is usual for the way
	Client    string       // the profile for which the kits are; blank for any client that takes the way
	Base      string       // base name of the files; blank for that of the person's first template
	Release   string       // the release from which they are; blank for none
}

// Choice is what a person gets in a situation.
type Choice struct {
	Situation string
	Template  string // blank for no signature
	Variant   string
}

// List says what a kit holds. It is the file that is signed: who trusts it trusts every file with its digest.
type List struct {
	Format   int               `json:"format"`
	Person   string            `json:"person"` // mail address
	Way      string            `json:"way"`
	Client   string            `json:"client,omitempty"`
	Release  string            `json:"release,omitempty"`
	Day      string            `json:"day"` // for which dated pieces were decided
	Use      map[string]string `json:"use"` // by situation: the base name of the files that it uses, blank for no signature
	ReadOnly bool              `json:"readOnly,omitempty"`
	Files    []Listed          `json:"files"`
}

// Listed is one of the kit's files.
type Listed struct {
	File   string `json:"file"` // path below the kit's folder, with slashes
	Form   string `json:"form"` // picture for pictures
	Bytes  int    `json:"bytes"`
	SHA256 string `json:"sha256"` // hexadecimal
}

// File is a file of a kit. Files that are the same for many people share their data.
type File struct {
	Listed
	Data []byte
}

// Kit is one person's kit.
type Kit struct {
	List
	Contents []File // in the order of the list
	Notes    []string

	inside []*written // pictures that are written into files
}

// pictureForm is the form of pictures in a list.
const pictureForm = "picture"

// Maker makes kits. Templates are compiled when somebody first needs them.
type Maker struct {
	in   Input
	way  client.Way
	desk *client.Desk

	mu       sync.Mutex
	compiled map[asked]*signature
	same     map[[2]asked]bool
}

// asked is under what a compiled template is found.
type asked struct{ template, variant, base string }

// signature is a template compiled in one variant for the forms of the way.
type signature struct {
	compiled *compose.Signature
	pictures []beside
	inside   []*written // pictures that may be written into a file
	version  string
}

// beside is a picture that lies beside a page.
type beside struct {
	address []byte // as the page writes it
	file    File
}

// formOf are the forms of the ways that place no files.
var formOf = map[string]compose.Form{
	client.PasteRender: compose.CopyPage, client.PasteSource: compose.Fragment, client.Draft: compose.Message,
}

// New readies a maker. The error is a problem: a way for which kits are not made for each person, or a wrong base name.
func New(in Input) (*Maker, error) {
	way, ok := client.FindWay(in.Way)
	if !ok {
		return nil, problem.New(problem.Invalid, "There is no way %q; there are %s.", in.Way, strings.Join(client.WayIDs(), ", ")).In("way")
	}
	m := &Maker{in: in, way: way, desk: in.Desk, compiled: map[asked]*signature{}, same: map[[2]asked]bool{}}
	if m.desk == nil {
		m.desk = way.Defaults
	}
	if _, single := formOf[way.ID]; !single && m.desk == nil {
		return nil, problem.New(problem.Invalid, "The way %s has no files for each person.", way.ID).In("way")
	}
	if in.Base != "" && (!filename.IsSafe(in.Base) || len(in.Base) > longestBase) {
		return nil, problem.New(problem.Invalid, "The base name %q cannot be the name of files on every system; try %q.", in.Base,
			filename.Safe(in.Base)).In("base")
	}
	return m, nil
}

// longestBase is how many bytes a base name has at most, so that endings and situations fit behind it.
const longestBase = 60

// Situations are those for which kits of the maker hold signatures: those that the client keeps apart, or new alone.
func (m *Maker) Situations() []string {
	if m.desk != nil && len(m.desk.Situations) > 0 {
		return m.desk.Situations
	}
	return []string{"new"}
}

// files are what each signature is written as.
func (m *Maker) files() []client.DeskFile {
	if m.desk != nil {
		return m.desk.Files
	}
	form := formOf[m.way.ID]
	return []client.DeskFile{{Form: string(form), Ending: form.Info().Suffix}}
}

// compile gives a template in a variant, made when it is not there yet.
func (m *Maker) compile(a asked) (*signature, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if s := m.compiled[a]; s != nil {
		return s, nil
	}
	t := m.in.Templates[a.template]
	if t == nil {
		return nil, problem.Missing("template", a.template)
	}
	delivered, err := m.delivered(t)
	if err != nil {
		return nil, err
	}
	folder := m.folder(a.base)
	var forms []compose.Form
	for _, f := range m.files() {
		forms = append(forms, compose.Form(f.Form))
	}
	compiled, err := compose.Compile(compose.Source{Template: delivered, Schema: m.in.Schema, Day: m.in.Day, Variants: []string{a.variant},
		Beside: compose.Below(folder + "/")}, forms...)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", a.template, err)
	}
	s := &signature{compiled: compiled, version: t.Version()}
	if delivered.Delivery(string(compose.HTML)) == template.Beside {
		for _, p := range compiled.Pictures() {
			s.pictures = append(s.pictures, beside{[]byte(compose.Below(folder + "/")(p)), file(folder+"/"+p.File, pictureForm, p.Data)})
		}
	}
	for _, p := range compiled.Pictures() {
		s.inside = append(s.inside, newWritten(p.Data))
	}
	m.compiled[a] = s
	return s, nil
}

// folder is where the pictures lie that are beside a page of a base name.
func (m *Maker) folder(base string) string {
	if m.desk == nil {
		return template.PictureFolder
	}
	return strings.ReplaceAll(m.desk.Folder, "*", base)
}

// delivered is a template whose page delivers its pictures as the client wants it, where the template itself does not say
// how. A page with hosted pictures needs an address where they are.
func (m *Maker) delivered(t *template.Template) (*template.Template, error) {
	copied := *t
	if m.desk != nil && t.Settings.Pictures.Delivery[string(compose.HTML)] == "" && m.desk.Pictures != "" {
		delivery := maps.Clone(t.Settings.Pictures.Delivery)
		if delivery == nil {
			delivery = map[string]template.Delivery{}
		}
		delivery[string(compose.HTML)] = template.Delivery(m.desk.Pictures)
		copied.Settings.Pictures.Delivery = delivery
	}
	address, _ := t.Hosting()
	for _, f := range m.files() {
		if address == "" && len(t.Pictures) > 0 && copied.Delivery(f.Form) == template.Hosted && f.Form != string(compose.Text) {
			return nil, problem.New(problem.Refused, "The way %s needs hosted pictures, and %s has no address at which its pictures are; say "+
				"pictures.address in %s, or the public address in the service's settings.", m.way.ID, t.Name, template.SettingsFile)
		}
	}
	return &copied, nil
}

// Worker makes kits one after the other; each goroutine has its own.
type Worker struct {
	m       *Maker
	fillers map[*signature]*field.Filler
}

// Worker gives a worker.
func (m *Maker) Worker() *Worker { return &Worker{m: m, fillers: map[*signature]*field.Filler{}} }

// Make makes a person's kit. choices may name more situations than the way keeps apart; those are left out. Situations that
// use the same template in the same variant, or variants that are the same, share their files.
func (w *Worker) Make(p *person.Person, choices []Choice) (Kit, error) {
	m := w.m
	mail, _, _ := m.in.Schema.Column("mail")
	k := Kit{List: List{Format: format, Person: p.At(mail), Way: m.way.ID, Client: m.in.Client, Release: m.in.Release,
		Day: m.in.Day.Format(time.DateOnly), Use: map[string]string{}, ReadOnly: m.desk != nil && m.desk.ReadOnly, Files: []Listed{}}}
	var made []Choice // what has files of its own
	situations := m.Situations()
	chosen := make([]Choice, len(situations))
	shares := make([]int, len(situations)) // which of made each uses; -1 for no signature
	for i, situation := range situations {
		at := slices.IndexFunc(choices, func(c Choice) bool { return c.Situation == situation })
		if shares[i] = -1; at < 0 || choices[at].Template == "" {
			continue
		}
		chosen[i] = choices[at]
		shares[i] = slices.IndexFunc(made, func(c Choice) bool { return m.equal(c, chosen[i]) })
		if shares[i] < 0 {
			made = append(made, chosen[i])
			shares[i] = len(made) - 1
		} else {
			k.Notes = append(k.Notes, fmt.Sprintf("What %s gets is the same as for %s; it is there once.", situation, made[shares[i]].Situation))
		}
	}
	names := make([]string, len(made))
	for i, c := range made {
		names[i] = m.base(c, len(made) > 1)
		if err := w.write(&k, p, c, names[i]); err != nil {
			return Kit{}, err
		}
	}
	for i, situation := range situations {
		k.Use[situation] = ""
		if shares[i] >= 0 {
			k.Use[situation] = names[shares[i]]
		}
	}
	for _, f := range k.Contents {
		k.Files = append(k.Files, f.Listed)
	}
	return k, nil
}

// base is the base name of a signature's files.
func (m *Maker) base(c Choice, several bool) string {
	base := m.in.Base
	if base == "" {
		base = c.Template
	}
	if several {
		base += "-" + filename.Safe(c.Situation)
	}
	return base
}

// equal reports whether two choices give everybody the same.
func (m *Maker) equal(a, b Choice) bool {
	if a.Template != b.Template {
		return false
	}
	if a.Variant == b.Variant {
		return true
	}
	key := [2]asked{{a.Template, a.Variant, ""}, {b.Template, b.Variant, ""}}
	m.mu.Lock()
	defer m.mu.Unlock()
	if same, known := m.same[key]; known {
		return same
	}
	s, err := compose.Compile(compose.Source{Template: m.in.Templates[a.Template], Schema: m.in.Schema, Day: m.in.Day,
		Variants: []string{a.Variant, b.Variant}}, compose.HTML, compose.Text)
	m.same[key] = err == nil && s.Same(a.Variant, b.Variant) // an error comes again when it is compiled to be filled
	return m.same[key]
}

// write adds a signature's files to a kit.
func (w *Worker) write(k *Kit, p *person.Person, c Choice, base string) error {
	s, err := w.m.compile(asked{c.Template, c.Variant, base})
	if err != nil {
		return err
	}
	filler := w.fillers[s]
	if filler == nil {
		filler = s.compiled.NewFiller()
		w.fillers[s] = filler
	}
	filler.Set(p)
	var page []byte
	for _, f := range w.m.files() {
		text := s.compiled.Append(nil, c.Variant, compose.Form(f.Form), filler)
		if f.Form == string(compose.HTML) {
			page = text
		}
		written, err := encoded(text, f)
		if err != nil {
			return fmt.Errorf("%s: %w", base+f.Ending, err)
		}
		k.Contents = append(k.Contents, file(base+f.Ending, f.Form, written))
	}
	k.inside = append(k.inside, s.inside...)
	for _, picture := range s.pictures {
		there := slices.ContainsFunc(k.Contents, func(f File) bool { return f.File == picture.file.File })
		if !there && bytes.Contains(page, picture.address) {
			k.Contents = append(k.Contents, picture.file)
		}
	}
	return nil
}

// file is a file with its digest.
func file(name, form string, data []byte) File {
	sum := sha256.Sum256(data)
	return File{Listed{File: name, Form: form, Bytes: len(data), SHA256: hex.EncodeToString(sum[:])}, data}
}

// encoded writes a form as a client wants its file.
func encoded(text []byte, f client.DeskFile) ([]byte, error) {
	if f.Bare {
		text = bytes.TrimPrefix(text, []byte("-- \n"))
	}
	if f.Lines != "" {
		text = bytes.ReplaceAll(text, []byte("\r\n"), []byte("\n"))
		if f.Lines == "crlf" {
			text = bytes.ReplaceAll(text, []byte("\n"), []byte("\r\n"))
		}
	}
	switch f.Charset {
	case "utf-16le":
		policy := unicode.IgnoreBOM
		if f.Mark {
			policy = unicode.UseBOM
		}
		return unicode.UTF16(unicode.LittleEndian, policy).NewEncoder().Bytes(text)
	case "ascii":
		if f.Form != string(compose.HTML) {
			return nil, problem.New(problem.Invalid, "Only a page can be written in ASCII: a %s has no way to write other letters.", f.Form)
		}
		return compose.ASCII(text), nil
	}
	if f.Mark {
		text = append([]byte("\xef\xbb\xbf"), text...)
	}
	return text, nil
}
