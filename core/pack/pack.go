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
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"missivum/core/compose"
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
	TemplateVersion string `json:"templateVersion"`
}

// manifest is what manifest.json holds.
type manifest struct {
	Format   int          `json:"format"`
	Template templateName `json:"template"`
	Day      string       `json:"day"` // for which dated slots were decided
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
	names     map[string]bool
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
	if len(in.Variants) == 0 {
		in.Variants = in.Template.Variants()
	}
	if len(in.Forms) == 0 {
		in.Forms = compose.Forms()
	}
	in.Variants, in.Forms = once(in.Variants), once(in.Forms)
	p := &packer{in: in, version: in.Template.Version(), names: map[string]bool{}}
	p.mail, _, _ = in.Schema.Column("mail")
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
	for range 2 {
		spool, err := in.Spool()
		if err != nil {
			return nil, errors.Join(err, p.close())
		}
		p.spools = append(p.spools, spool)
	}
	p.zip = newZipWriter(w, p.spools[0])
	if p.manifest, err = newManifestWriter(p.spools[1], in.Template, p.version, in.Day); err != nil {
		return nil, errors.Join(err, p.close())
	}
	return p, nil
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
	for _, name := range slices.Sorted(maps.Keys(t.Settings.Slots)) {
		if slot := t.Settings.Slots[name]; slot.InForce(day) && slot.Until != "" {
			notes = append(notes, fmt.Sprintf("The dated piece %s ends on %s. Files on desks and pasted copies go on showing it until they are "+
				"exchanged: give out a new package on the day after.", name, slot.Until))
		}
	}
	return notes, nil
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
		for j := range one.files {
			f := &one.files[j]
			e := zipEntry{f.name, methodDeflate, f.crc, int64(f.size), int64(len(f.data))}
			if err := p.file(one, e, f.data, hex.EncodeToString(f.hash[:])); err != nil {
				return err
			}
		}
		for _, picture := range p.pictures { // stored as they are: they are compressed already
			name := one.folder + "/" + template.PictureFolder + "/" + picture.File
			size := int64(len(picture.Data))
			if err := p.file(one, zipEntry{name, methodStore, picture.crc, size, size}, picture.Data, picture.hash); err != nil {
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
func (p *packer) file(one *packed, e zipEntry, data []byte, hash string) error {
	if err := p.zip.add(e, bytes.NewReader(data)); err != nil {
		return fmt.Errorf("writing %s: %w", e.name, err)
	}
	p.files++
	return p.manifest.add(entry{File: e.name, Bytes: int(e.size), SHA256: hash, Person: one.mail, TemplateVersion: p.version})
}

// finish writes the manifest and the zip's directory.
func (p *packer) finish() (Result, error) {
	if err := p.manifest.writeTo(p.zip, p.people); err != nil {
		return Result{}, fmt.Errorf("writing %s: %w", manifestFile, err)
	}
	if err := p.zip.finish(); err != nil {
		return Result{}, fmt.Errorf("closing the package: %w", err)
	}
	return Result{People: p.people, Files: p.files}, nil
}

// longestFolder is how many bytes a person's folder may have in its name: with the files in it, paths stay below the 260
// characters that some systems take.
const longestFolder = 100

// folder makes a folder name of a mail address that every file system takes, different for each person.
func (p *packer) folder(mail string) string {
	var b strings.Builder
	for _, r := range strings.ToLower(mail) {
		if r < ' ' || strings.ContainsRune(`<>:"/\|?*`, r) || r == 0x7f {
			r = '_'
		}
		b.WriteRune(r)
	}
	name := strings.Trim(shortened(b.String(), longestFolder), ". ")
	if stem, _, _ := strings.Cut(name, "."); name == "" || device(stem) {
		name = "_" + name
	}
	unique := name
	for i := 2; p.names[unique]; i++ {
		unique = fmt.Sprintf("%s_%d", name, i)
	}
	p.names[unique] = true
	return unique
}

// shortened cuts a text to a number of bytes, at the beginning of a letter.
func shortened(s string, most int) string {
	if len(s) <= most {
		return s
	}
	for !utf8.RuneStart(s[most]) {
		most--
	}
	return s[:most]
}

// device reports whether a name stands for a device on some systems, whatever follows behind a full stop.
func device(stem string) bool {
	switch stem {
	case "con", "prn", "aux", "nul":
		return true
	}
	return len(stem) == 4 && (strings.HasPrefix(stem, "com") || strings.HasPrefix(stem, "lpt")) && stem[3] >= '0' && stem[3] <= '9'
}

// manifestWriter spools the manifest compressed as it grows.
type manifestWriter struct {
	spool  Spool
	packed int64
	size   int64
	crc    hash.Hash32
	flate  *flate.Writer
	text   *bufio.Writer
	first  bool
}

// newManifestWriter begins the manifest, which grows in a temporary file.
func newManifestWriter(spool Spool, t *template.Template, version string, day time.Time) (*manifestWriter, error) {
	m := &manifestWriter{spool: spool, crc: crc32.NewIEEE(), first: true}
	var err error
	if m.flate, err = flate.NewWriter(counting{spool, &m.packed}, flate.BestSpeed); err != nil {
		return nil, err
	}
	m.text = bufio.NewWriterSize(counting{io.MultiWriter(m.flate, m.crc), &m.size}, 64<<10)
	about, err := json.Marshal(templateName{Name: t.Name, Title: t.Title(), Version: version})
	if err != nil {
		return nil, err
	}
	fmt.Fprintf(m.text, "{\"format\":%d,\"template\":%s,\"day\":%q,\"files\":[", format, about, day.Format(time.DateOnly))
	return m, nil
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

// add writes a file's line.
func (m *manifestWriter) add(e entry) error {
	line, err := json.Marshal(e)
	if err != nil {
		return err
	}
	separator := ",\n"
	if m.first {
		separator, m.first = "\n", false
	}
	m.text.WriteString(separator)
	_, err = m.text.Write(line)
	return err
}

// writeTo puts the manifest into the zip.
func (m *manifestWriter) writeTo(z *zipWriter, people int) error {
	fmt.Fprintf(m.text, "\n],\"people\":%d}\n", people)
	if err := errors.Join(m.text.Flush(), m.flate.Close()); err != nil {
		return err
	}
	if _, err := m.spool.Seek(0, io.SeekStart); err != nil {
		return err
	}
	return z.add(zipEntry{manifestFile, methodDeflate, m.crc.Sum32(), m.size, m.packed}, m.spool)
}
