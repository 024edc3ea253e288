// Package pack writes packages: a zip file with a folder for each person that holds the signature in
// every form with its pictures, and a manifest. It streams, and the same input gives the same bytes.
// Start with Write.
package pack

import (
	"archive/zip"
	"bufio"
	"bytes"
	"compress/flate"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"iter"
	"strings"
	"sync"
	"time"

	"missivum/core/compose"
	"missivum/core/person"
	"missivum/core/template"
)

// ManifestFile is the name of the manifest, the last file of a package.
const ManifestFile = "manifest.json"

// Format is the version of the package's layout.
const Format = 1

// Entry is one file in the manifest.
type Entry struct {
	File            string `json:"file"`
	Bytes           int    `json:"bytes"`
	SHA256          string `json:"sha256"` // hexadecimal
	Person          string `json:"person"` // mail address
	TemplateVersion string `json:"templateVersion"`
}

// Manifest is what manifest.json holds.
type Manifest struct {
	Format   int          `json:"format"`
	Template TemplateName `json:"template"`
	Day      string       `json:"day"` // for which dated slots were decided
	Files    []Entry      `json:"files"`
	People   int          `json:"people"`
}

// TemplateName names the template of a package.
type TemplateName struct {
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
	Day      time.Time
	// Progress is told after each person how many are done; nil for none.
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
func Write(ctx context.Context, w io.Writer, in Input) (Result, error) {
	p, err := newPacker(w, in)
	if err != nil {
		return Result{}, err
	}
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

// stamp is the time of every file in a package: none is meant, and the same input must give the
// same bytes.
var stamp = time.Date(1980, 1, 1, 0, 0, 0, 0, time.UTC)

type packer struct {
	in        Input
	zip       *zip.Writer
	version   string
	mail      int
	signature *compose.Signature
	pictures  []*storedPicture
	names     map[string]bool
	manifest  *manifestWriter
	people    int
	files     int
}

// storedPicture is a picture with its checksum, worked out once.
type storedPicture struct {
	*template.Picture
	hash string
}

func newPacker(w io.Writer, in Input) (*packer, error) {
	if len(in.Variants) == 0 {
		in.Variants = in.Template.Variants()
	}
	p := &packer{in: in, zip: zip.NewWriter(w), version: in.Template.Version(), names: map[string]bool{}}
	p.mail, _, _ = in.Schema.Column("mail")
	var err error
	if p.signature, err = compose.Compile(in.Template, in.Schema, in.Day, in.Variants...); err != nil {
		return nil, err
	}
	for _, picture := range p.signature.Pictures() {
		sum := sha256.Sum256(picture.Data)
		p.pictures = append(p.pictures, &storedPicture{picture, hex.EncodeToString(sum[:])})
	}
	p.manifest, err = newManifestWriter(in.Template, p.version, in.Day)
	return p, err
}

// batch writes the files of some people.
func (p *packer) batch(ctx context.Context, b *batch) error {
	for i := range b.people {
		if ctx.Err() != nil {
			return fmt.Errorf("stopped after %d people: %w", p.people, ctx.Err())
		}
		one := &b.people[i]
		for j := range one.files {
			if err := p.file(one, &one.files[j]); err != nil {
				return err
			}
		}
		for _, picture := range p.pictures {
			if err := p.picture(one, picture); err != nil {
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

// file writes a file that a worker has compressed.
func (p *packer) file(one *packed, f *packedFile) error {
	header := &zip.FileHeader{
		Name: f.name, Method: zip.Deflate, CRC32: f.crc, CompressedSize64: uint64(len(f.data)), UncompressedSize64: uint64(f.size),
	}
	//lint:ignore SA1019 a raw entry takes its time from the fields that only this sets
	header.SetModTime(stamp)
	w, err := p.zip.CreateRaw(header)
	if err != nil {
		return fmt.Errorf("writing %s: %w", f.name, err)
	}
	if _, err := w.Write(f.data); err != nil {
		return fmt.Errorf("writing %s: %w", f.name, err)
	}
	return p.list(f.name, one.mail, f.size, hex.EncodeToString(f.hash[:]))
}

// picture stores a picture as it is: it is compressed already.
func (p *packer) picture(one *packed, picture *storedPicture) error {
	name := one.folder + "/" + template.PictureFolder + "/" + picture.File
	w, err := p.zip.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Store, Modified: stamp})
	if err != nil {
		return fmt.Errorf("writing %s: %w", name, err)
	}
	if _, err := w.Write(picture.Data); err != nil {
		return fmt.Errorf("writing %s: %w", name, err)
	}
	return p.list(name, one.mail, len(picture.Data), picture.hash)
}

func (p *packer) list(name, mail string, size int, hash string) error {
	p.files++
	return p.manifest.add(Entry{File: name, Bytes: size, SHA256: hash, Person: mail, TemplateVersion: p.version})
}

func (p *packer) finish() (Result, error) {
	if err := p.manifest.writeTo(p.zip, p.people); err != nil {
		return Result{}, fmt.Errorf("writing %s: %w", ManifestFile, err)
	}
	if err := p.zip.Close(); err != nil {
		return Result{}, fmt.Errorf("closing the package: %w", err)
	}
	return Result{People: p.people, Files: p.files}, nil
}

// folder makes a folder name of a mail address that every file system takes, different for each person.
func (p *packer) folder(mail string) string {
	var b strings.Builder
	for _, r := range strings.ToLower(mail) {
		if r < ' ' || strings.ContainsRune(`<>:"/\|?*`, r) || r == 0x7f {
			r = '_'
		}
		b.WriteRune(r)
	}
	name := strings.Trim(b.String(), ". ")
	if name == "" {
		name = "_"
	}
	unique := name
	for i := 2; p.names[unique]; i++ {
		unique = fmt.Sprintf("%s_%d", name, i)
	}
	p.names[unique] = true
	return unique
}

// manifestWriter keeps the manifest compressed as it grows: a large package's would not fit otherwise.
type manifestWriter struct {
	out   bytes.Buffer
	flate *flate.Writer
	text  *bufio.Writer
	first bool
}

func newManifestWriter(t *template.Template, version string, day time.Time) (*manifestWriter, error) {
	m := &manifestWriter{first: true}
	f, err := flate.NewWriter(&m.out, flate.BestSpeed)
	if err != nil {
		return nil, err
	}
	m.flate = f
	m.text = bufio.NewWriterSize(f, 64<<10)
	about, err := json.Marshal(TemplateName{Name: t.Name, Title: t.Title(), Version: version})
	if err != nil {
		return nil, err
	}
	fmt.Fprintf(m.text, "{\"format\":%d,\"template\":%s,\"day\":%q,\"files\":[", Format, about, day.Format(time.DateOnly))
	return m, nil
}

func (m *manifestWriter) add(e Entry) error {
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

func (m *manifestWriter) writeTo(z *zip.Writer, people int) error {
	fmt.Fprintf(m.text, "\n],\"people\":%d}\n", people)
	if err := m.text.Flush(); err != nil {
		return err
	}
	if err := m.flate.Close(); err != nil {
		return err
	}
	w, err := z.CreateHeader(&zip.FileHeader{Name: ManifestFile, Method: zip.Deflate, Modified: stamp})
	if err != nil {
		return err
	}
	_, err = io.Copy(w, flate.NewReader(&m.out))
	return err
}
