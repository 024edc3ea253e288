package pack

import (
	"bytes"
	"crypto/sha256"
	_ "embed"
	"encoding/csv"
	"fmt"
	"hash/crc32"
	"html/template"
	"io"
	"maps"
	"net/url"
	"slices"
	"strings"

	"missivum/core/client"
	"missivum/core/kit"
	"missivum/core/person"
	"missivum/core/problem"
	"missivum/core/wire"
)

// Kits says that a package holds kits.
type Kits struct {
	Maker   *kit.Maker
	Make    func(*person.Person) (kit.Kit, error) // makes a kit in the place of the maker, where each has to be drawn; nil for the maker
	Choices func(*person.Person) []kit.Choice     // what a person gets in each situation
	Key     *kit.Key                              // signs each kit's list; nil: not signed, and no desk program takes it
	Folders string                                // the field after which folders are named; blank for the mail address
	Way     string
	Client  string // blank for any client that takes the way
	Release string // blank for none
}

// The files of a package of kits that stand beside the folders.
const (
	indexFile = "index.html"
	tableFile = "people.csv"
)

// kitsName says of which kits a package is.
type kitsName struct {
	Way     string `json:"way"`
	Client  string `json:"client,omitempty"`
	Release string `json:"release,omitempty"`
	Signed  bool   `json:"signed"`
}

// kitTables is the index page and the table of people and files, which grow with the package.
type kitTables struct {
	csv     *spooled
	lines   *csv.Writer
	index   *spooled
	noted   map[string]int
	without int // people who get no signature
	example kit.List
}

//go:embed index.html
var indexSource string

// indexParts are the head of the index page, a person's row, and what stands behind the rows.
var indexParts = template.Must(template.New("index").Parse(indexSource))

// startKits begins a package of kits.
func (p *packer) startKits(w io.Writer) error {
	k := p.in.Kits
	if err := CheckFolders(p.in.Schema, k.Folders); err != nil {
		return err
	}
	if err := p.begin(w, "kits", kitsName{k.Way, k.Client, k.Release, k.Key != nil}); err != nil {
		return err
	}
	p.kits = &kitTables{noted: map[string]int{}}
	for _, file := range []struct {
		name string
		into **spooled
	}{{tableFile, &p.kits.csv}, {indexFile, &p.kits.index}} {
		spool, err := p.spool()
		if err != nil {
			return err
		}
		if *file.into, err = newSpooled(file.name, spool); err != nil {
			return err
		}
	}
	p.kits.lines = csv.NewWriter(p.kits.csv.text)
	if err := p.kits.lines.Write([]string{"mail", "folder", "file", "form", "bytes", "sha256", "for"}); err != nil {
		return err
	}
	way, _ := client.FindWay(k.Way)
	return indexParts.ExecuteTemplate(p.kits.index.text, "head",
		map[string]any{"Kits": k, "Way": way, "Day": p.in.Day.Format("2 January 2006")})
}

// CheckFolders refuses a field after which folders cannot be named, since the people do not have it; blank is the mail address.
func CheckFolders(schema *person.Schema, field string) error {
	if field == "" {
		return nil
	}
	if column, _, _ := schema.Column(field); column < 0 {
		return problem.New(problem.Invalid, "The people have no field %s after which folders could be named.", field).In("folders")
	}
	return nil
}

// folderName is after what a person's folder is named.
func (p *packer) folderName(who *person.Person) string {
	if k := p.in.Kits; k != nil && k.Folders != "" {
		column, _, _ := p.in.Schema.Column(k.Folders)
		if name := who.At(column); name != "" {
			return name
		}
	}
	return who.At(p.mail)
}

// makeKit makes a kit as the package's way asks for.
func (w *worker) makeKit(who *person.Person) (kit.Kit, error) {
	if k := w.p.in.Kits; k.Make != nil {
		return k.Make(who)
	}
	return w.kits.Make(who, w.p.in.Kits.Choices(who))
}

// fillKit makes a person's kit. Pictures are stored as they are: they are compressed already.
func (w *worker) fillKit(one *packed) {
	k, err := w.makeKit(one.who)
	if err != nil {
		one.err = err
		return
	}
	one.kit = &k
	for _, f := range k.Contents {
		entry := packedFile{name: one.folder + "/" + f.File, size: len(f.Data), data: f.Data,
			crc: crc32.ChecksumIEEE(f.Data), hash: sha256.Sum256(f.Data)}
		if f.Form != "picture" {
			entry = w.packedFile(entry.name, f.Data)
		}
		entry.form = f.Form
		one.files = append(one.files, entry)
	}
	list := k.JSON()
	one.files = append(one.files, w.packedFile(one.folder+"/"+kit.ListFile, list))
	if key := w.p.in.Kits.Key; key != nil {
		one.files = append(one.files, w.packedFile(one.folder+"/"+kit.SignFile, key.Sign(list)))
	}
}

// add writes a person's lines.
func (t *kitTables) add(one *packed) error {
	for _, note := range one.kit.Notes {
		t.noted[note]++
	}
	if len(one.kit.Files) == 0 {
		t.without++
	} else if t.example.Files == nil {
		t.example = one.kit.List
	}
	for _, f := range one.kit.Files {
		stem, _, _ := strings.Cut(f.File, ".")
		var uses []string
		for _, situation := range slices.Sorted(maps.Keys(one.kit.Use)) {
			if one.kit.Use[situation] == stem {
				uses = append(uses, situation)
			}
		}
		if err := t.lines.Write([]string{wire.Cell(one.mail), one.folder, f.File, f.Form, fmt.Sprint(f.Bytes), f.SHA256,
			strings.Join(uses, " ")}); err != nil {
			return err
		}
	}
	type link struct{ Name, Address string }
	var links []link
	for _, f := range one.kit.Files {
		if f.Form != "picture" {
			links = append(links, link{f.File, url.PathEscape(one.folder) + "/" + (&url.URL{Path: f.File}).EscapedPath()})
		}
	}
	return indexParts.ExecuteTemplate(t.index.text, "row",
		map[string]any{"Mail": one.mail, "Folder": one.folder, "Links": links, "Use": one.kit.Use})
}

// finish writes the table and the page, with the steps as they are for the first person who has a signature.
func (t *kitTables) finish(p *packer) error {
	t.lines.Flush()
	if err := t.lines.Error(); err != nil {
		return err
	}
	var end bytes.Buffer
	if err := indexParts.ExecuteTemplate(&end, "end", map[string]any{"People": p.people, "Without": t.without, "Notes": t.notes(),
		"Example": t.example, "Steps": t.example.Steps()}); err != nil {
		return err
	}
	if _, err := t.index.text.Write(end.Bytes()); err != nil {
		return err
	}
	for _, f := range []*spooled{t.csv, t.index} {
		if err := f.writeTo(p.zip); err != nil {
			return fmt.Errorf("writing %s: %w", f.name, err)
		}
	}
	return nil
}

// notes are what should be known of the kits, each with for how many people it holds.
func (t *kitTables) notes() []string {
	notes := []string{}
	for _, note := range slices.Sorted(maps.Keys(t.noted)) {
		notes = append(notes, fmt.Sprintf("%s This holds for %d of the people.", note, t.noted[note]))
	}
	if t.without > 0 {
		notes = append(notes, fmt.Sprintf("%d of the people get no signature; their folders hold the list alone.", t.without))
	}
	return notes
}
