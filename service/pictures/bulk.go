package pictures

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"

	"missivum/core/picture"
	"missivum/service/files"
)

// Photo is a person's photo that is to be fitted.
type Photo struct {
	Mail string
	Read func() ([]byte, error)
}

// PhotoResult is what became of one photo.
type PhotoResult struct {
	Mail   string   `json:"mail"`
	File   string   `json:"file"`   // of the rendition, in the folder; empty when it was refused
	Key    string   `json:"key"`    // its name where it is hosted
	Source string   `json:"source"` // SHA-256 of the photo
	Recipe string   `json:"recipe"` // SHA-256 of the recipe
	Bytes  int      `json:"bytes"`
	Width  int      `json:"width"`
	Height int      `json:"height"`
	Error  string   `json:"error,omitempty"`
	Notes  []string `json:"notes,omitempty"`
}

// Ledger is the file in a folder of renditions that says which photo each was made of. A run that was ended goes
// on behind it.
const Ledger = "photos.jsonl"

// BulkResult counts what a run did.
type BulkResult struct {
	Fitted  int
	Kept    int // were there already, of the same photo and recipe
	Refused []PhotoResult
	Bytes   int64 // of all renditions
}

// Fit fits many photos into a folder, on all processors. Each rendition appears when it is whole; a run that is
// ended and begun anew goes on where it was, since the ledger says which photo and recipe each was made of. A
// photo that cannot be read is reported and left out. done is called after each.
func Fit(ctx context.Context, photos []Photo, r picture.Recipe, folder string, done func(n int)) (BulkResult, error) {
	if err := r.Check(); err != nil {
		return BulkResult{}, err
	}
	if err := os.MkdirAll(folder, 0o750); err != nil {
		return BulkResult{}, err
	}
	ledger, err := openLedger(filepath.Join(folder, Ledger))
	if err != nil {
		return BulkResult{}, err
	}
	encoded, err := json.Marshal(r)
	if err != nil {
		return BulkResult{}, err
	}
	b := &bulk{recipe: r, digest: picture.Digest(encoded), folder: folder, ledger: ledger, done: done}
	err = b.run(ctx, photos)
	return b.result, errors.Join(err, ledger.close())
}

// bulk is a run.
type bulk struct {
	recipe picture.Recipe
	digest string
	folder string
	ledger *ledger
	done   func(int)

	mu     sync.Mutex
	count  int
	result BulkResult
}

// run fits the photos on all processors and writes the results in order.
func (b *bulk) run(ctx context.Context, photos []Photo) error {
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	next := make(chan Photo)
	var workers sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		workers.Go(func() {
			for p := range next {
				if err := b.one(p); err != nil {
					stop(err)
					return
				}
			}
		})
	}
feed:
	for _, p := range photos {
		select {
		case next <- p:
		case <-ctx.Done():
			break feed
		}
	}
	close(next)
	workers.Wait()
	return context.Cause(ctx)
}

// one fits one photo. Only what keeps the others from being written is an error.
func (b *bulk) one(p Photo) error {
	result, fresh := b.make(p)
	b.mu.Lock()
	defer b.mu.Unlock()
	if fresh && result.Error == "" {
		if err := b.ledger.add(result); err != nil {
			return err
		}
	}
	switch {
	case result.Error != "":
		b.result.Refused = append(b.result.Refused, result)
	case fresh:
		b.result.Fitted++
	default:
		b.result.Kept++
	}
	b.result.Bytes += int64(result.Bytes)
	b.count++
	if b.done != nil {
		b.done(b.count)
	}
	return nil
}

// make gives the photo's rendition; fresh is false when it was there.
func (b *bulk) make(p Photo) (result PhotoResult, fresh bool) {
	result = PhotoResult{Mail: p.Mail, Recipe: b.digest}
	refuse := func(err error) (PhotoResult, bool) {
		result.Error = err.Error()
		return result, true
	}
	name, err := fileOf(p.Mail)
	if err != nil {
		return refuse(err)
	}
	data, err := p.Read()
	if err != nil {
		return refuse(err)
	}
	result.Source = picture.Digest(data)
	if old, ok := b.ledger.known[p.Mail]; ok && old.Source == result.Source && old.Recipe == result.Recipe {
		if have, err := os.ReadFile(filepath.Join(b.folder, old.File)); err == nil && picture.KeyOf(have) == old.Key &&
			b.host(old.Key, have) == nil {
			return old, false
		}
	}
	made, err := picture.Fit(data, b.recipe)
	if err != nil {
		return refuse(err)
	}
	result.Key, result.Bytes, result.Width, result.Height, result.Notes = picture.KeyOf(made.Data), len(made.Data),
		made.Facts.Width, made.Facts.Height, made.Notes
	result.File = name + picture.Ending(made.Facts.Format)
	if err := b.host(result.Key, made.Data); err != nil {
		return refuse(err)
	}
	if err := files.WriteBytes(filepath.Join(b.folder, result.File), made.Data); err != nil {
		return refuse(err)
	}
	return result, true
}

// HostedFolder is the folder, in that of the renditions, with the files as the addresses name them: what is to be hosted.
const HostedFolder = "hosted"

// host writes a rendition under the name that its address has, where it is not there yet.
func (b *bulk) host(key string, data []byte) error {
	folder := filepath.Join(b.folder, HostedFolder)
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	name := filepath.Join(folder, key)
	if _, err := os.Stat(name); err == nil {
		return nil // named by its content
	}
	return files.WriteBytes(name, data)
}

// fileOf is the name of a person's file without its ending.
func fileOf(mail string) (string, error) {
	name := strings.ToLower(strings.TrimSpace(mail))
	if !strings.Contains(name, "@") || len(name) > 200 || strings.HasPrefix(name, ".") ||
		strings.ContainsFunc(name, func(r rune) bool { return r < ' ' || strings.ContainsRune(`/\:*?"<>|`, r) }) {
		return "", fmt.Errorf("%q is no mail address that a file can be named by", mail)
	}
	return name, nil
}

// ledger is the list of what was made, one line of JSON each.
type ledger struct {
	file  *os.File
	known map[string]PhotoResult
}

// openLedger reads what is there; a last line that was not finished is cut off.
func openLedger(name string) (*ledger, error) {
	f, err := os.OpenFile(name, os.O_RDWR|os.O_CREATE, 0o640)
	if err != nil {
		return nil, err
	}
	l := &ledger{file: f, known: map[string]PhotoResult{}}
	end := int64(0)
	lines := bufio.NewReader(f)
	for {
		line, err := lines.ReadBytes('\n')
		var r PhotoResult
		if err != nil || json.Unmarshal(line, &r) != nil {
			break
		}
		l.known[r.Mail] = r
		end += int64(len(line))
	}
	if err := f.Truncate(end); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	_, err = f.Seek(end, 0)
	return l, err
}

// add writes a result at once, so that a killed run knows it.
func (l *ledger) add(r PhotoResult) error {
	line, err := json.Marshal(r)
	if err != nil {
		return err
	}
	_, err = l.file.Write(append(line, '\n'))
	return err
}

func (l *ledger) close() error { return l.file.Close() }

// Fitted reads a folder's ledger: the renditions by mail address.
func Fitted(folder string) (map[string]PhotoResult, error) {
	l, err := openLedger(filepath.Join(folder, Ledger))
	if err != nil {
		return nil, err
	}
	return l.known, l.close()
}

// PhotosIn lists the photos of a folder whose files are named by mail address, such as
// maren.lind@brackwater.example.jpg.
func PhotosIn(folder string) ([]Photo, error) {
	entries, err := os.ReadDir(folder)
	if err != nil {
		return nil, err
	}
	var list []Photo
	for _, e := range entries {
		mail, ok := mailOf(e.Name())
		if e.IsDir() || !ok {
			continue
		}
		name := filepath.Join(folder, e.Name())
		list = append(list, Photo{Mail: mail, Read: func() ([]byte, error) { return readLimited(name) }})
	}
	return list, nil
}

// mailOf is the mail address that a photo's file is named by.
func mailOf(file string) (string, bool) {
	ending := filepath.Ext(file)
	switch strings.ToLower(ending) {
	case ".jpg", ".jpeg", ".png", ".gif", ".webp", ".bmp", ".tif", ".tiff":
	default:
		return "", false
	}
	mail := strings.TrimSuffix(file, ending)
	_, err := fileOf(mail)
	return mail, err == nil
}

// readLimited reads a file up to the largest picture that is accepted.
func readLimited(name string) ([]byte, error) {
	info, err := os.Stat(name)
	if err != nil {
		return nil, err
	}
	if info.Size() > picture.MaxBytes {
		return nil, fmt.Errorf("the file has %d kB; at most %d kB are read", info.Size()>>10, picture.MaxBytes>>10)
	}
	return os.ReadFile(name)
}
