package pictures

import (
	"archive/zip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"missivum/core/person"
	"missivum/core/picture"
	"missivum/core/problem"
	"missivum/service/jobs"
	"missivum/service/store"
)

// photosKind is the kind of job that fits people's photos.
const photosKind = "photos"

// maxPhotos is how many photos an archive may hold.
const maxPhotos = 100_000

// PhotoResults is what a job that fits photos did.
type PhotoResults struct {
	Fitted   int           `json:"fitted"`
	Kept     int           `json:"kept"`     // were there already, of the same photo and recipe
	Refused  []PhotoResult `json:"refused"`  // photos that cannot be fitted
	Unknown  []string      `json:"unknown"`  // mail addresses that nobody in the directory has; their photos are not hosted
	Hosted   int           `json:"hosted"`   // people whose photo is hosted now
	Bytes    int64         `json:"bytes"`    // of all renditions
	Warnings []string      `json:"warnings"` // what did not work beside
}

// photosInArchive lists the photos of a zip whose files are named by mail address, in any folder.
func photosInArchive(z *zip.Reader) ([]Photo, error) {
	var list []Photo
	for _, f := range z.File {
		mail, ok := mailOf(path.Base(f.Name))
		if !ok || f.FileInfo().IsDir() {
			continue
		}
		if len(list) == maxPhotos {
			return nil, problem.New(problem.TooLarge, "The archive holds more than %d photos.", maxPhotos)
		}
		list = append(list, Photo{Mail: mail, Read: func() ([]byte, error) {
			r, err := f.Open()
			if err != nil {
				return nil, err
			}
			defer r.Close()
			return io.ReadAll(io.LimitReader(r, picture.MaxBytes+1))
		}})
	}
	if len(list) == 0 {
		return nil, problem.New(problem.Refused,
			"The archive holds no photo; name them by mail address, such as maren.lind@brackwater.example.jpg.")
	}
	return list, nil
}

// StartPhotos fits the photos of a zip in the background, hosts those of people who are in the directory, and gives
// each of them the address of theirs in the field photoAddress. A service that ends in the middle goes on when it
// starts again. One archive is fitted at a time; others wait.
func (p *Pictures) StartPhotos(ctx context.Context, archive io.Reader, r picture.Recipe) (record store.Job, err error) {
	if err := r.Check(); err != nil {
		return record, problem.As(problem.Invalid, err)
	}
	id := jobs.NewID()
	count, err := p.keepArchive(id, archive)
	if err == nil {
		err = p.Store.Write(ctx, func(tx *store.Tx) error {
			record, err = p.Jobs.Add(tx, store.Job{ID: id, Kind: photosKind, Title: "Photos of people", Total: count, Unit: "photos"}, r)
			return err
		})
	}
	if err != nil {
		p.discardArchive(store.Job{ID: id})
	}
	return record, err
}

// archive is where an uploaded zip waits for its job.
func (p *Pictures) archive(id string) string { return filepath.Join(p.Folder, "waiting-"+id+".zip") }

// keepArchive writes an archive to a file, where a job finds it after a restart too, and counts its photos.
func (p *Pictures) keepArchive(id string, archive io.Reader) (int, error) {
	if err := os.MkdirAll(p.Folder, 0o750); err != nil {
		return 0, err
	}
	file, err := os.OpenFile(p.archive(id), os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o640)
	if err != nil {
		return 0, err
	}
	defer file.Close()
	if _, err := io.Copy(file, archive); err != nil {
		return 0, err
	}
	if err := file.Sync(); err != nil {
		return 0, err
	}
	_, photos, err := openArchive(p.archive(id))
	return len(photos), err
}

// openArchive lists the photos in a file; it must be closed when they were read.
func openArchive(name string) (io.Closer, []Photo, error) {
	z, err := zip.OpenReader(name)
	if err != nil {
		return nil, nil, problem.New(problem.Refused, "This is not a zip archive: %w", err)
	}
	photos, err := photosInArchive(&z.Reader)
	if err != nil {
		return nil, nil, errors.Join(err, z.Close())
	}
	return z, photos, nil
}

// discardArchive removes the archive of a job that has ended.
func (p *Pictures) discardArchive(record store.Job) {
	if err := os.Remove(p.archive(record.ID)); err != nil && !errors.Is(err, os.ErrNotExist) {
		p.Log.Error("removing an archive of photos", "error", err)
	}
}

// fitPhotos is the work of a job.
func (p *Pictures) fitPhotos(ctx context.Context, job *jobs.Job) (any, error) {
	var r picture.Recipe
	if err := job.Input(&r); err != nil {
		return nil, err
	}
	archive, photos, err := openArchive(p.archive(job.ID()))
	if err != nil {
		return nil, err
	}
	defer archive.Close()
	job.Total(len(photos))
	return p.HostPhotos(ctx, photos, r, job.Progress)
}

// HostPhotos fits photos, hosts those of people who are in the directory, and gives each of them the address of theirs in
// the field photoAddress. One call goes on at a time.
func (p *Pictures) HostPhotos(ctx context.Context, photos []Photo, r picture.Recipe, progress func(int)) (PhotoResults, error) {
	p.fitting.Lock()
	defer p.fitting.Unlock()
	fitted, err := Fit(ctx, photos, r, p.Folder, progress)
	out := PhotoResults{Fitted: fitted.Fitted, Kept: fitted.Kept, Refused: append([]PhotoResult{}, fitted.Refused...),
		Bytes: fitted.Bytes, Unknown: []string{}, Warnings: []string{}}
	if err != nil {
		return out, err
	}
	return out, p.hostPhotos(ctx, photos, &out)
}

// hostPhotos hosts the fitted photos of people who are in the directory, and once all are reachable writes their
// addresses there.
func (p *Pictures) hostPhotos(ctx context.Context, photos []Photo, out *PhotoResults) error {
	made, err := Fitted(p.Folder)
	if err != nil {
		return err
	}
	settings, err := p.Hosting.Settings(ctx)
	if err != nil {
		return err
	}
	d, _, err := p.People.Directory(ctx)
	if err != nil {
		return err
	}
	known := mailsOf(d)
	addresses := map[string]map[string]string{}
	var hosted []PhotoResult
	for _, photo := range photos {
		r, ok := made[photo.Mail]
		if !ok {
			continue
		}
		if _, ok := known[strings.ToLower(photo.Mail)]; !ok { // nobody is made of a photo alone, and nothing of strangers becomes public
			out.Unknown = append(out.Unknown, photo.Mail)
			continue
		}
		hosted = append(hosted, r)
		addresses[photo.Mail] = map[string]string{"photoAddress": settings.Address + r.Key}
	}
	for some := range slices.Chunk(hosted, hostedAtOnce) {
		if err := p.hostFiles(ctx, some, out); err != nil {
			return err
		}
	}
	out.Hosted = len(hosted)
	if settings.Address == "" || len(addresses) == 0 {
		return nil
	}
	_, err = p.People.Edit(ctx, addresses)
	return err
}

// hostedAtOnce is how many photos are in memory, and in one unit of work, while they are hosted.
const hostedAtOnce = 64

// hostFiles hosts renditions of people of the directory, and of nobody else.
func (p *Pictures) hostFiles(ctx context.Context, some []PhotoResult, out *PhotoResults) error {
	var contents [][]byte
	for _, r := range some {
		data, err := os.ReadFile(filepath.Join(p.Folder, r.File))
		if err != nil {
			return err
		}
		contents = append(contents, data)
	}
	return p.Store.Write(ctx, func(tx *store.Tx) error { return p.Hosting.Put(tx, &out.Warnings, contents...) })
}

// mailsOf gives the place of each person in the directory by mail address in lower case.
func mailsOf(d *person.Directory) map[string]int {
	column, _, _ := d.Schema.Column("mail")
	known := make(map[string]int, len(d.People))
	for i := range d.People {
		known[strings.ToLower(d.People[i].At(column))] = i
	}
	return known
}

// RemovePhoto takes a person's photo back: it is no longer hosted, and the person's photoAddress is blank. Messages
// already sent show a gap in its place.
func (p *Pictures) RemovePhoto(ctx context.Context, mail string) error {
	d, _, err := p.People.Directory(ctx)
	if err != nil {
		return err
	}
	who := d.Find(mail)
	if who == nil {
		return problem.Missing("person with the mail address", mail)
	}
	address := d.Get(who, "photoAddress")
	if address == "" {
		return problem.New(problem.NotFound, "%s has no photo.", mail)
	}
	key := path.Base(address)
	return p.Store.Write(ctx, func(tx *store.Tx) error {
		if _, err := p.People.EditIn(tx, map[string]map[string]string{mail: {"photoAddress": ""}}); err != nil {
			return err
		}
		if othersHave(d, who, address) {
			return nil
		}
		if err := p.Hosting.Withdraw(tx, key); err != nil && !problem.Is(err, problem.NotFound) {
			return err
		}
		return nil
	})
}

// othersHave reports whether somebody else has the same photo.
func othersHave(d *person.Directory, who *person.Person, address string) bool {
	for i := range d.People {
		if p := &d.People[i]; p != who && d.Get(p, "photoAddress") == address {
			return true
		}
	}
	return false
}

// PhotoState is how far the fitting of photos is.
type PhotoState struct {
	ID      string `json:"id"`    // of the job; empty when there was none
	State   string `json:"state"` // none, waiting, running, ready, stopped or failed
	Total   int    `json:"total"` // photos
	Done    int    `json:"done"`
	Message string `json:"message"`
	PhotoResults
}

// StateOf says how far a job is that fits photos.
func StateOf(record store.Job) (PhotoState, error) {
	s := PhotoState{ID: record.ID, State: string(record.State), Total: record.Total, Done: record.Done, Message: record.Message}
	if err := json.Unmarshal([]byte(record.Result), &s.PhotoResults); err != nil {
		return s, fmt.Errorf("the result of the job %s: %w", record.ID, err)
	}
	s.fill()
	return s, nil
}

// fill makes lists without entries empty ones, so that JSON has no null.
func (s *PhotoState) fill() {
	if s.Refused == nil {
		s.Refused = []PhotoResult{}
	}
	if s.Unknown == nil {
		s.Unknown = []string{}
	}
	if s.Warnings == nil {
		s.Warnings = []string{}
	}
}

// Photos says how far the newest fitting is.
func (p *Pictures) Photos(ctx context.Context) (PhotoState, error) {
	records, err := p.Jobs.List(ctx, photosKind, 1)
	if err != nil || len(records) == 0 {
		s := PhotoState{State: "none"}
		s.fill()
		return s, err
	}
	return StateOf(records[0])
}

// StopPhotos ends the newest fitting, if it has not ended, and waits for it.
func (p *Pictures) StopPhotos(ctx context.Context) error {
	records, err := p.Jobs.List(ctx, photosKind, 1)
	if err != nil || len(records) == 0 || records[0].State.Ended() {
		return err
	}
	if err := p.Jobs.Stop(ctx, records[0].ID); err != nil && !problem.Is(err, problem.Conflict) {
		return err
	}
	return p.Jobs.Wait(ctx, records[0].ID)
}
