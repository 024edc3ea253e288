// Package pack writes packages: a zip file with a folder for each person that holds the signature in
// every form with its pictures, and a manifest. It streams, and the same input gives the same bytes.
// Start with Write.
package pack

import (
	"bufio"
	"bytes"
	"compress/flate"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"hash/crc32"
	"io"
	"iter"
	"maps"
	"slices"
	"sync"
	"time"

	"missivum/core/compose"
	"missivum/core/filename"
	"missivum/core/person"
	"missivum/core/template"
)

// manifestFile is the name of the manifest, the last file of a package.
const manifestFile = "manifest.json"

// format is the version of the package's layout.
const format = 1

// entry is one file in the manifest.
type entry struct {
	File            string `json:"file"`
	Bytes           int    `json:"bytes"`
	SHA256          string `json:"sha256"` // hexadecimal
	Person          string `json:"person"` // mail address
	TemplateVersion string `json:"templateVersion,omitempty"`
	Form            string `json:"form,omitempty"` // of a kit's file
}

// manifest is what manifest.json holds.
type manifest struct {
	Format   int          `json:"format"`
	Template templateName `json:"template"` // of a package of forms
	Kits     kitsName     `json:"kits"`     // of a package of kits
	Day      string       `json:"day"`      // for which dated slots were decided
	Files    []entry      `json:"files"`
	People   int          `json:"people"`
}

// templateName names the template of a package.
type templateName struct {
	Name    string `json:"name"`
	Title   string `json:"title"`
	Version string `json:"version"`
}

// Input is what a package is made of.
type Input struct {
	Template *template.Template
	Schema   *person.Schema
	People   iter.Seq2[*person.Person, error] // an error ends the package
	Variants []string                         // empty: all of the template's
	Forms    []compose.Form                   // empty: all
	Kits     *Kits                            // kits of a way of installing, in the place of template, variants and forms
	Day      time.Time
	// Spool keeps what grows with the package and stands at its end.
	Spool func() (Spool, error)
	// Progress is called after each person with how many are done; nil for none.
	Progress func(done int)
}

// Result says what was written.
type Result struct {
	People int
	Files  int
	Notes  []string // to know before the package is given out
}

// Everybody iterates over a directory.
func Everybody(d *person.Directory) iter.Seq2[*person.Person, error] {
	return func(yield func(*person.Person, error) bool) {
		for i := range d.People {
			if !yield(&d.People[i], nil) {
				return
			}
		}
	}
}

// Write writes a package. Filling and compressing is shared among the processors; the files stand in the
// order of the people all the same. When the context ends, or on an error, what was written is not a whole
// zip file and cannot be taken for one: its directory stands at the end.
func Write(ctx context.Context, w io.Writer, in Input) (result Result, err error) {
	p, err := newPacker(w, in)
	if err != nil {
		return Result{}, err
	}
	defer func() { err = errors.Join(err, p.close()) }()
	working, stop := context.WithCancel(ctx)
	var workers sync.WaitGroup
	defer workers.Wait()
	defer stop()
	for b := range p.batches(working, &workers) {
		<-b.done
		if err := p.batch(ctx, b); err != nil {
			return Result{}, err
		}
		if b.err != nil {
			return Result{}, fmt.Errorf("after %d people: %w", p.people, b.err)
		}
	}
	if ctx.Err() != nil {
		return Result{}, fmt.Errorf("stopped after %d people: %w", p.people, ctx.Err())
	}
	return p.finish()
}

// packer fills with workers and writes in order.
type packer struct {
	in        Input
	zip       *zipWriter
	version   string
	mail      int
	signature *compose.Signature
	pictures  []storedPicture
	kits      *kitTables
	names     filename.Unique
	manifest  *manifestWriter
	spools    []Spool
	people    int
	files     int
}

// storedPicture is a picture with its checksums, worked out once.
type storedPicture struct {
	*template.Picture
	hash string
	crc  uint32
}

// newPacker compiles the forms that are asked for.
func newPacker(w io.Writer, in Input) (*packer, error) {
	p := &packer{in: in}
	p.mail, _, _ = in.Schema.Column("mail")
	if in.Kits != nil {
		if err := p.startKits(w); err != nil {
			return nil, errors.Join(err, p.close())
		}
		return p, nil
	}
	if len(in.Variants) == 0 {
		in.Variants = in.Template.Variants()
	}
	if len(in.Forms) == 0 {
		in.Forms = compose.Forms()
	}
	in.Variants, in.Forms = once(in.Variants), once(in.Forms)
	p.in = in
	p.version = in.Template.Version()
	var err error
	if p.signature, err = compose.Compile(compose.Source{Template: in.Template, Schema: in.Schema, Day: in.Day,
		Variants: in.Variants}, in.Forms...); err != nil {
		return nil, err
	}
	if slices.Contains(in.Forms, compose.HTML) {
		for _, picture := range p.signature.Pictures() {
			sum := sha256.Sum256(picture.Data)
			p.pictures = append(p.pictures, storedPicture{picture, hex.EncodeToString(sum[:]), crc32.ChecksumIEEE(picture.Data)})
		}
	}
	if err := p.begin(w, "template", templateName{Name: in.Template.Name, Title: in.Template.Title(), Version: p.version}); err != nil {
		return nil, errors.Join(err, p.close())
	}
	return p, nil
}

// begin begins the zip and its manifest, which says first what the package is of.
func (p *packer) begin(w io.Writer, of string, about any) error {
	spool, err := p.spool()
	if err != nil {
		return err
	}
	p.zip = newZipWriter(w, spool)
	if spool, err = p.spool(); err != nil {
		return err
	}
	p.manifest, err = newManifestWriter(spool, of, about, p.in.Day)
	return err
}

// spool gives a spool that is given back with the others.
func (p *packer) spool() (Spool, error) {
	spool, err := p.in.Spool()
	if err == nil {
		p.spools = append(p.spools, spool)
	}
	return spool, err
}

// once leaves each entry of a list where it stands first.
func once[T comparable](list []T) []T {
	var out []T
	for _, e := range list {
		if !slices.Contains(out, e) {
			out = append(out, e)
		}
	}
	return out
}

// Notes say what should be known before a package is given out: variants that are the same as an earlier one, and dated
// pieces that go on showing where the package was installed or pasted after their last day. variants may be empty: all.
func Notes(t *template.Template, schema *person.Schema, day time.Time, variants []string) ([]string, error) {
	if len(variants) == 0 {
		variants = t.Variants()
	}
	variants = once(variants)
	notes := []string{}
	s, err := compose.Compile(compose.Source{Template: t, Schema: schema, Day: day, Variants: variants}, compose.HTML, compose.Text)
	if err != nil {
		return nil, err
	}
	for i, variant := range variants {
		for _, earlier := range variants[:i] {
			if s.Same(earlier, variant) {
				notes = append(notes, fmt.Sprintf("The variant %s is the same as %s; its files are there twice. Leave it out with --variant %s.",
					variant, earlier, earlier))
				break
			}
		}
	}
	return append(notes, DatedNotes(t, day)...), nil
}

// DatedNotes say which dated pieces go on showing on desks after their last day.
func DatedNotes(t *template.Template, day time.Time) []string {
	notes := []string{}
	for _, name := range slices.Sorted(maps.Keys(t.Settings.Slots)) {
		if slot := t.Settings.Slots[name]; slot.InForce(day) && slot.Until != "" {
			notes = append(notes, fmt.Sprintf("The dated piece %s ends on %s. Files on desks and pasted copies go on showing it until they are "+
				"exchanged: give out a new package on the day after.", name, slot.Until))
		}
	}
	return notes
}

// close gives the spools back.
func (p *packer) close() error {
	var err error
	for _, s := range p.spools {
		err = errors.Join(err, s.Close())
	}
	return err
}

// batch writes the files of some people.
func (p *packer) batch(ctx context.Context, b *batch) error {
	for i := range b.people {
		if ctx.Err() != nil {
			return fmt.Errorf("stopped after %d people: %w", p.people, ctx.Err())
		}
		one := &b.people[i]
		if one.err != nil {
			return fmt.Errorf("%s: %w", one.mail, one.err)
		}
		if p.kits != nil {
			if err := p.kits.add(one); err != nil {
				return err
			}
		}
		for j := range one.files {
			f := &one.files[j]
			e := zipEntry{f.name, f.method, f.crc, int64(f.size), int64(len(f.data))}
			if err := p.file(one, e, f.data, hex.EncodeToString(f.hash[:]), f.form); err != nil {
				return err
			}
		}
		for _, picture := range p.pictures { // stored as they are: they are compressed already
			name := one.folder + "/" + template.PictureFolder + "/" + picture.File
			size := int64(len(picture.Data))
			if err := p.file(one, zipEntry{name, methodStore, picture.crc, size, size}, picture.Data, picture.hash, ""); err != nil {
				return err
			}
		}
		p.people++
		if p.in.Progress != nil {
			p.in.Progress(p.people)
		}
	}
	return nil
}

// file writes one file and its line of the manifest.
func (p *packer) file(one *packed, e zipEntry, data []byte, hash, form string) error {
	if err := p.zip.add(e, bytes.NewReader(data)); err != nil {
		return fmt.Errorf("writing %s: %w", e.name, err)
	}
	p.files++
	return p.manifest.add(entry{File: e.name, Bytes: int(e.size), SHA256: hash, Person: one.mail, TemplateVersion: p.version,
		Form: form})
}

// finish writes the manifest and the zip's directory.
func (p *packer) finish() (Result, error) {
	if err := p.manifest.writeTo(p.zip, p.people); err != nil {
		return Result{}, fmt.Errorf("writing %s: %w", manifestFile, err)
	}
	result := Result{People: p.people}
	if p.kits != nil {
		if err := p.kits.finish(p); err != nil {
			return Result{}, err
		}
		result.Notes = p.kits.notes()
	}
	if err := p.zip.finish(); err != nil {
		return Result{}, fmt.Errorf("closing the package: %w", err)
	}
	result.Files = p.files
	return result, nil
}

// spooled is a file at the end of the package, which is spooled compressed as it grows.
type spooled struct {
	name   string
	spool  Spool
	packed int64
	size   int64
	crc    hash.Hash32
	flate  *flate.Writer
	text   *bufio.Writer
}

// newSpooled begins a file.
func newSpooled(name string, spool Spool) (*spooled, error) {
	f := &spooled{name: name, spool: spool, crc: crc32.NewIEEE()}
	var err error
	if f.flate, err = flate.NewWriter(counting{spool, &f.packed}, flate.BestSpeed); err != nil {
		return nil, err
	}
	f.text = bufio.NewWriterSize(counting{io.MultiWriter(f.flate, f.crc), &f.size}, 64<<10)
	return f, nil
}

// writeTo puts the file into the zip.
func (f *spooled) writeTo(z *zipWriter) error {
	if err := errors.Join(f.text.Flush(), f.flate.Close()); err != nil {
		return err
	}
	if _, err := f.spool.Seek(0, io.SeekStart); err != nil {
		return err
	}
	return z.add(zipEntry{f.name, methodDeflate, f.crc.Sum32(), f.size, f.packed}, f.spool)
}

// counting adds up what is written.
type counting struct {
	io.Writer
	n *int64
}

// Write counts what passes.
func (c counting) Write(b []byte) (int, error) {
	n, err := c.Writer.Write(b)
	*c.n += int64(n)
	return n, err
}

// manifestWriter writes the manifest, a line for each file.
type manifestWriter struct {
	*spooled
	separator string
}

// newManifestWriter begins the manifest with what the package is of.
func newManifestWriter(spool Spool, of string, about any, day time.Time) (*manifestWriter, error) {
	f, err := newSpooled(manifestFile, spool)
	if err != nil {
		return nil, err
	}
	text, err := json.Marshal(about)
	if err != nil {
		return nil, err
	}
	fmt.Fprintf(f.text, "{\"format\":%d,%q:%s,\"day\":%q,\"files\":[", format, of, text, day.Format(time.DateOnly))
	return &manifestWriter{f, "\n"}, nil
}

// add writes a file's line.
func (m *manifestWriter) add(e entry) error {
	line, err := json.Marshal(e)
	if err != nil {
		return err
	}
	m.text.WriteString(m.separator)
	m.separator = ",\n"
	_, err = m.text.Write(line)
	return err
}

// writeTo puts the manifest into the zip.
func (m *manifestWriter) writeTo(z *zipWriter, people int) error {
	fmt.Fprintf(m.text, "\n],\"people\":%d}\n", people)
	return m.spooled.writeTo(z)
}
