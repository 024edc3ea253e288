package pack

import (
	"bytes"
	"compress/flate"
	"context"
	"crypto/sha256"
	"hash/crc32"
	"io"
	"runtime"
	"strings"
	"sync"

	"missivum/core/field"
	"missivum/core/filename"
	"missivum/core/kit"
	"missivum/core/person"
)

// batchSize is how many people a worker fills at once: enough to keep the workers from waiting for each
// other, and few enough that the batches under way stay small.
const batchSize = 32

// batch is some people on their way through a worker.
type batch struct {
	people []packed
	err    error         // ends the package behind these people
	done   chan struct{} // closed when the files are there
}

// packed is one person's files.
type packed struct {
	who    *person.Person
	mail   string
	folder string
	files  []packedFile
	kit    *kit.Kit // of a package of kits
	err    error    // ends the package
}

// packedFile is a file as the package takes it.
type packedFile struct {
	name   string
	form   string // of a kit's file
	method uint16
	data   []byte // compressed by the method
	size   int    // bytes before
	crc    uint32
	hash   [sha256.Size]byte
}

// batches reads the people and gives them to as many workers as there are processors. The batches come
// in the order of the people, each before it is done.
func (p *packer) batches(ctx context.Context, running *sync.WaitGroup) <-chan *batch {
	workers := runtime.GOMAXPROCS(0)
	ordered := make(chan *batch, 2*workers)
	work := make(chan *batch)
	for range workers {
		running.Go(func() {
			w := newWorker(p)
			for b := range work {
				w.fill(b.people)
				close(b.done)
			}
		})
	}
	running.Go(func() {
		defer close(ordered)
		defer close(work)
		next := &batch{done: make(chan struct{})}
		send := func() bool {
			select {
			case <-ctx.Done():
				return false
			case ordered <- next:
			}
			work <- next
			next = &batch{done: make(chan struct{})}
			return true
		}
		for who, err := range p.in.People {
			if err != nil {
				next.err = err
				break
			}
			mail := who.At(p.mail)
			next.people = append(next.people, packed{who: who, mail: mail, folder: p.names.Take(filename.Safe(strings.ToLower(p.folderName(who))))})
			if len(next.people) == batchSize && !send() {
				return
			}
		}
		if len(next.people) > 0 || next.err != nil {
			send()
		}
	})
	return ordered
}

// worker fills and compresses; each has its own buffers.
type worker struct {
	p          *packer
	filler     *field.Filler
	kits       *kit.Worker
	text       []byte
	compressed bytes.Buffer
	compressor *flate.Writer
}

// newWorker has buffers and a filler of its own, so that nothing is shared.
func newWorker(p *packer) *worker {
	compressor, err := flate.NewWriter(io.Discard, flate.BestSpeed)
	if err != nil {
		panic(err) // the level is a constant that exists
	}
	w := &worker{p: p, compressor: compressor}
	if p.in.Kits != nil {
		if p.in.Kits.Make == nil {
			w.kits = p.in.Kits.Maker.Worker()
		}
	} else {
		w.filler = p.signature.NewFiller()
	}
	return w
}

// fill fills and compresses the files of some people.
func (w *worker) fill(people []packed) {
	for i := range people {
		one := &people[i]
		if w.p.in.Kits != nil {
			w.fillKit(one)
			continue
		}
		w.filler.Set(one.who)
		base := one.folder + "/" + w.p.in.Template.Name
		for _, variant := range w.p.in.Variants {
			for _, form := range w.p.in.Forms {
				w.text = w.p.signature.Append(w.text[:0], variant, form, w.filler)
				one.files = append(one.files, w.packedFile(base+"-"+variant+form.Info().Suffix, w.text))
			}
		}
	}
}

// packedFile compresses a file.
func (w *worker) packedFile(name string, text []byte) packedFile {
	return packedFile{name: name, method: methodDeflate, data: w.deflate(text), size: len(text), crc: crc32.ChecksumIEEE(text),
		hash: sha256.Sum256(text)}
}

// deflate compresses; a buffer in memory takes everything, so there is no error to report.
func (w *worker) deflate(text []byte) []byte {
	w.compressed.Reset()
	w.compressor.Reset(&w.compressed)
	w.compressor.Write(text)
	w.compressor.Close()
	return bytes.Clone(w.compressed.Bytes())
}
