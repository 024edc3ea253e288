package pictures

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"time"

	"missivum/core/delivery"
	"missivum/core/picture"
	"missivum/service/files"
	"missivum/service/store"
)

// PhotoState is how far the fitting of photos is.
type PhotoState struct {
	State   string        `json:"state"` // none, running, ready, stopped or failed
	Total   int           `json:"total"` // photos
	Done    int           `json:"done"`
	Fitted  int           `json:"fitted"`
	Kept    int           `json:"kept"` // were there already, of the same photo and recipe
	Refused []PhotoResult `json:"refused"`
	Bytes   int64         `json:"bytes"` // of all renditions
	Message string        `json:"message"`
}

// photoJob is a fitting of photos.
type photoJob struct {
	state PhotoState
	stop  context.CancelFunc
	ended chan struct{}
}

// maxPhotos is how many photos an archive may hold.
const maxPhotos = 100_000

// PhotosInArchive lists the photos of a zip whose files are named by mail address, in any folder.
func PhotosInArchive(z *zip.Reader) ([]Photo, error) {
	var list []Photo
	for _, f := range z.File {
		mail, ok := MailOf(path.Base(f.Name))
		if !ok || f.FileInfo().IsDir() {
			continue
		}
		if len(list) == maxPhotos {
			return nil, fmt.Errorf("%w: the archive holds more than %d photos", ErrRefused, maxPhotos)
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
		return nil, fmt.Errorf("%w: the archive holds no photo; name them by mail address, such as maren.lind@brackwater.example.jpg", ErrRefused)
	}
	return list, nil
}

// StartPhotos fits the photos of a zip in the background, hosts them and gives everybody the address of theirs in
// the field photoAddress. One runs at a time.
func (p *Pictures) StartPhotos(ctx context.Context, archive io.Reader, r picture.Recipe) (PhotoState, error) {
	if err := r.Check(); err != nil {
		return PhotoState{}, fmt.Errorf("%w: %w", ErrRefused, err)
	}
	file, err := p.spool(archive)
	if err != nil {
		return PhotoState{}, err
	}
	state, err := p.startPhotos(ctx, file, r)
	if err != nil {
		err = errors.Join(err, discard(file))
	}
	return state, err
}

// spool writes an archive to a file: it may be larger than should be held in memory.
func (p *Pictures) spool(archive io.Reader) (*os.File, error) {
	if err := os.MkdirAll(p.Folder, 0o750); err != nil {
		return nil, err
	}
	file, err := os.CreateTemp(p.Folder, ".archive-*")
	if err != nil {
		return nil, err
	}
	if _, err := io.Copy(file, archive); err != nil {
		return nil, errors.Join(err, discard(file))
	}
	return file, nil
}

func discard(file *os.File) error { return errors.Join(file.Close(), os.Remove(file.Name())) }

func (p *Pictures) startPhotos(ctx context.Context, file *os.File, r picture.Recipe) (PhotoState, error) {
	info, err := file.Stat()
	if err != nil {
		return PhotoState{}, err
	}
	z, err := zip.NewReader(file, info.Size())
	if err != nil {
		return PhotoState{}, fmt.Errorf("%w: this is not a zip archive: %w", ErrRefused, err)
	}
	photos, err := PhotosInArchive(z)
	if err != nil {
		return PhotoState{}, err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.photos != nil && p.photos.state.State == "running" {
		return PhotoState{}, fmt.Errorf("%w: photos are being fitted already", ErrRefused)
	}
	running, stop := context.WithCancel(context.WithoutCancel(ctx))
	j := &photoJob{state: PhotoState{State: "running", Total: len(photos), Refused: []PhotoResult{}}, stop: stop, ended: make(chan struct{})}
	p.photos = j
	go func() {
		defer close(j.ended)
		p.runPhotos(running, j, photos, r)
		if err := discard(file); err != nil {
			p.Log.Error("removing an archive of photos", "error", err)
		}
	}()
	return j.state, nil
}

func (p *Pictures) runPhotos(ctx context.Context, j *photoJob, photos []Photo, r picture.Recipe) {
	defer j.stop()
	result, err := Fit(ctx, photos, r, p.Folder, func(n int) {
		p.mu.Lock()
		defer p.mu.Unlock()
		j.state.Done = n
	})
	if err == nil {
		err = p.takePhotos(ctx, photos)
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	s := &j.state
	s.State, s.Fitted, s.Kept, s.Bytes = "ready", result.Fitted, result.Kept, result.Bytes
	s.Refused = append(s.Refused, result.Refused...)
	switch {
	case errors.Is(err, context.Canceled):
		s.State, s.Message = "stopped", fmt.Sprintf("Stopped after %d of %d photos; fitting the same archive again goes on.", s.Done, s.Total)
	case err != nil:
		s.State, s.Message = "failed", err.Error()
		p.Log.Error("fitting photos", "error", err)
	}
}

// takePhotos hosts the fitted photos and writes their addresses into the directory.
func (p *Pictures) takePhotos(ctx context.Context, photos []Photo) error {
	settings, err := p.Settings(ctx)
	if err != nil {
		return err
	}
	made, err := Fitted(p.Folder)
	if err != nil {
		return err
	}
	d, _, err := p.People.Directory(ctx)
	if err != nil {
		return err
	}
	contents := map[string][]byte{}
	var b bytes.Buffer
	rows := csv.NewWriter(&b)
	table := [][]string{{"mail", "photoAddress"}}
	for _, photo := range photos {
		r, ok := made[photo.Mail]
		if !ok {
			continue
		}
		if contents[r.Key], err = os.ReadFile(filepath.Join(p.Folder, r.File)); err != nil {
			return err
		}
		if d.Find(photo.Mail) != nil { // nobody is made of a photo alone
			table = append(table, []string{photo.Mail, settings.Address + r.Key})
		}
	}
	if err := p.host(ctx, contents); err != nil || settings.Address == "" || len(table) == 1 {
		return err
	}
	if err := rows.WriteAll(table); err != nil {
		return err
	}
	plan, err := p.People.Plan(ctx, &b, nil, false)
	if err != nil {
		return err
	}
	return p.People.Apply(ctx, plan)
}

// Photos tells how far the fitting is.
func (p *Pictures) Photos() PhotoState {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.photos == nil {
		return PhotoState{State: "none", Refused: []PhotoResult{}}
	}
	return p.photos.state
}

// StopPhotos ends the fitting and waits for it.
func (p *Pictures) StopPhotos() {
	p.mu.Lock()
	j := p.photos
	p.mu.Unlock()
	if j != nil {
		j.stop()
		<-j.ended
	}
}

// asker asks addresses for the service.
func (p *Pictures) asker() *Asker { return &Asker{Allow: p.Allow, Now: p.Now} }

// CheckAddresses asks addresses and keeps what came back.
func (p *Pictures) CheckAddresses(ctx context.Context, addresses []string) ([]Checked, error) {
	list := []Checked{}
	for _, address := range addresses {
		c, err := p.check(ctx, address, "", picture.Display{})
		if err != nil {
			return list, err
		}
		list = append(list, c)
	}
	return list, nil
}

// Checked is what asking an address brought, and the template that it stands in.
type Checked struct {
	Report
	Template string `json:"template"` // empty for an address that was asked by itself
	Restored bool   `json:"restored"` // it was missing and was written again into the tree
}

func (p *Pictures) check(ctx context.Context, address, template string, d picture.Display) (Checked, error) {
	c := Checked{Report: p.asker().Check(ctx, address, d), Template: template}
	if err := ctx.Err(); err != nil {
		return c, err
	}
	missing := slices.ContainsFunc(c.Faults, func(f picture.Fault) bool { return f.ID == "missing" })
	if key := path.Base(address); missing && p.Tree != "" && ContentType(key) != "" {
		if data, _, err := p.Hosted(ctx, key); err == nil {
			if err := os.MkdirAll(p.Tree, 0o755); err != nil {
				return c, err
			}
			if err := files.WriteBytes(filepath.Join(p.Tree, key), data); err != nil {
				return c, err
			}
			c.Restored = true
		}
	}
	text, err := json.Marshal(c)
	if err != nil {
		return c, err
	}
	return c, p.Store.PutAddressCheck(ctx, store.AddressCheck{Address: address, Template: template, Report: string(text), Asked: c.Asked})
}

// CheckTemplate asks all picture addresses of a template's version; number 0 is the latest.
func (p *Pictures) CheckTemplate(ctx context.Context, name string, number int) ([]Checked, error) {
	t, err := p.Templates.Get(ctx, name, number)
	if err != nil {
		return nil, err
	}
	d, _, err := p.People.Directory(ctx)
	if err != nil {
		return nil, err
	}
	addresses, err := delivery.Addresses(t.Template, d.Schema, p.Now())
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrRefused, err)
	}
	list := []Checked{}
	for _, a := range addresses {
		c, err := p.check(ctx, a.Address, name, a.Display)
		if err != nil {
			return list, err
		}
		list = append(list, c)
	}
	return list, nil
}

// Checks lists what asking brought last, the newest first.
func (p *Pictures) Checks(ctx context.Context) ([]Checked, error) {
	records, err := p.Store.AddressChecks(ctx)
	if err != nil {
		return nil, err
	}
	list := []Checked{}
	for _, r := range records {
		var c Checked
		if err := json.Unmarshal([]byte(r.Report), &c); err != nil {
			return nil, err
		}
		list = append(list, c)
	}
	return list, nil
}

// Watch checks all picture addresses of all templates as often as the settings say, until the context ends.
func (p *Pictures) Watch(ctx context.Context, every time.Duration) {
	tick := time.NewTicker(every)
	defer tick.Stop()
	var last time.Time
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		s, err := p.Settings(ctx)
		if err == nil && (s.Hours == 0 || p.Now().Sub(last) < time.Duration(s.Hours)*time.Hour) {
			continue
		}
		last = p.Now()
		if err == nil {
			err = p.checkAll(ctx)
		}
		if err != nil && ctx.Err() == nil {
			p.Log.Error("checking picture addresses", "error", err)
		}
	}
}

// sentVersion is a version of a template that goes out, or went out in a package.
type sentVersion struct {
	template string
	number   int // 0 for the latest
}

// checkAll asks the addresses of every template, and of the versions that packages were made of.
func (p *Pictures) checkAll(ctx context.Context) error {
	names, err := p.Store.TemplateNames(ctx)
	if err != nil {
		return err
	}
	packages, err := p.Store.Packages(ctx)
	if err != nil {
		return err
	}
	seen := map[sentVersion]bool{}
	var list []sentVersion
	add := func(v sentVersion) {
		if !seen[v] {
			seen[v] = true
			list = append(list, v)
		}
	}
	for _, name := range names {
		add(sentVersion{name, 0})
	}
	for _, made := range packages {
		add(sentVersion{made.Template, made.Version})
	}
	for _, v := range list {
		checked, err := p.CheckTemplate(ctx, v.template, v.number)
		if errors.Is(err, ErrRefused) {
			continue // a template with mistakes sends nothing
		}
		if err != nil {
			return err
		}
		for _, c := range checked {
			if c.Broken() {
				p.Log.Warn("a picture is not shown", "template", v.template, "address", c.Address, "fault", c.Faults[0].ID)
			}
		}
	}
	return nil
}
