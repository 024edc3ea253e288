// Package sources asks the sources of people that are asked by themselves: directories by LDAP, folders and https addresses to
// which files are exported. Each is asked on its schedule or on demand, as a job; what it brings is a run (package people).
// A source that fails leaves the directory as it was, says why, and is tried again with growing pauses. Start with Sources.
package sources

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"missivum/core/audience"
	"missivum/core/picture"
	"missivum/core/problem"
	"missivum/core/source"
	"missivum/service/jobs"
	"missivum/service/people"
	"missivum/service/pictures"
	"missivum/service/store"
)

// The kinds of sources.
const (
	FileKind   = "file"   // files that are imported by hand
	LDAPKind   = "ldap"   // a directory
	FolderKind = "folder" // the newest file of a folder
	WebKind    = "web"    // a file at an https address
	SCIMKind   = "scim"   // people are pushed in
)

// Job is the kind of job that asks a source.
const Job = "sync"

// Limits of schedules.
const (
	leastEvery  = time.Minute
	firstPause  = time.Minute // behind the first failure; each further one doubles it
	longestWait = 6 * time.Hour
)

// Settings say how a source is asked. One of LDAP, Folder and Web is set, as its kind asks for.
type Settings struct {
	LDAP   *LDAP   `json:"ldap,omitempty" yaml:"ldap,omitempty"`
	Folder *Folder `json:"folder,omitempty" yaml:"folder,omitempty"`
	Web    *Web    `json:"web,omitempty" yaml:"web,omitempty"`
	Every  string  `json:"every" yaml:"every,omitempty"` // such as 15m or 24h; blank for on demand only
	// Partly: people whom it does not name stay, and fields that it lacks keep their values.
	Partly bool            `json:"partly" yaml:"partly,omitempty"`
	Photos *picture.Recipe `json:"photos,omitempty" yaml:"photos,omitempty"` // how photos are fitted and hosted; missing for none
	Look   bool            `json:"look" yaml:"look,omitempty"`               // every plan waits until somebody applies it
}

// Sources asks sources.
type Sources struct {
	Store    *store.Store
	People   *people.People
	Jobs     *jobs.Jobs
	Pictures *pictures.Pictures
	Folder   string // of secrets: one file for each
	Now      func() time.Time
	Log      *slog.Logger
}

// Start readies the folder of secrets and registers the jobs.
func (s *Sources) Start() error {
	if err := os.MkdirAll(s.Folder, 0o700); err != nil {
		return fmt.Errorf("the folder of secrets: %w", err)
	}
	s.Jobs.Register(jobs.Work{Kind: Job, AtOnce: 1, Run: s.work})
	return nil
}

// checkSecret refuses names of secrets that are no file of their folder.
func checkSecret(name string) error {
	if name != "" && (name != filepath.Base(name) || strings.HasPrefix(name, ".")) {
		return problem.New(problem.Invalid, "The secret %q must be the name of a file in the folder secrets.", name).In("secret")
	}
	return nil
}

// secret reads a secret from its file; the line end behind it does not count.
func (s *Sources) secret(name string) (string, error) {
	if name == "" {
		return "", nil
	}
	data, err := os.ReadFile(filepath.Join(s.Folder, filepath.Base(name)))
	if err != nil {
		return "", problem.New(problem.Unavailable, "The secret %s cannot be read; put it into the file %s.", name, filepath.Join(s.Folder, name))
	}
	return strings.TrimRight(string(data), "\r\n"), nil
}

// check refuses what a kind of source cannot be asked with.
func (st Settings) check(kind string) error {
	given := 0
	for _, set := range []bool{st.LDAP != nil, st.Folder != nil, st.Web != nil} {
		if set {
			given++
		}
	}
	wants := map[string]bool{LDAPKind: st.LDAP != nil, FolderKind: st.Folder != nil, WebKind: st.Web != nil, FileKind: true, SCIMKind: true}
	ok, known := wants[kind]
	asked := kind == LDAPKind || kind == FolderKind || kind == WebKind
	switch {
	case !known:
		return problem.New(problem.Invalid, "The kind %q is not known; it is file, ldap, folder, web or scim.", kind).In("kind")
	case !ok, asked && given != 1, !asked && given > 0:
		return problem.New(problem.Invalid, "A source of the kind %s needs settings under %q and no others.", kind, kind).In("settings")
	case !asked && st.Every != "":
		return problem.New(problem.Invalid, "A source of the kind %s is not asked on a schedule.", kind).In("every")
	}
	if _, err := st.every(); err != nil {
		return err
	}
	if st.Photos != nil {
		if err := st.Photos.Check(); err != nil {
			return problem.As(problem.Invalid, err)
		}
	}
	switch {
	case st.LDAP != nil:
		return st.LDAP.check()
	case st.Folder != nil:
		return st.Folder.check()
	case st.Web != nil:
		return st.Web.check()
	}
	return nil
}

// every is how often a source is asked; 0 for on demand only.
func (st Settings) every() (time.Duration, error) {
	if st.Every == "" {
		return 0, nil
	}
	d, err := time.ParseDuration(st.Every)
	if err != nil || d < leastEvery {
		return 0, problem.New(problem.Invalid, "The schedule %q must be a time such as 15m or 24h, at least %v.", st.Every,
			leastEvery).In("every")
	}
	return d, nil
}

// Source is a source with its settings.
type Source struct {
	store.Source
	Settings Settings
	People   int // whom it has
}

// opened reads the settings of a source.
func opened(s store.Source) (Source, error) {
	out := Source{Source: s}
	err := json.Unmarshal([]byte(s.Settings), &out.Settings)
	return out, err
}

// List lists the sources in the order in which their values count.
func (s *Sources) List(ctx context.Context) (list []Source, err error) {
	err = s.Store.Read(ctx, func(tx *store.Tx) error {
		all, err := tx.Sources()
		if err != nil {
			return err
		}
		for _, one := range all {
			out, err := opened(one)
			if err != nil {
				return err
			}
			if out.People, err = tx.CountRecords(one.ID); err != nil {
				return err
			}
			list = append(list, out)
		}
		return nil
	})
	return list, err
}

// Get reads a source.
func (s *Sources) Get(ctx context.Context, name string) (out Source, err error) {
	list, err := s.List(ctx)
	if err != nil {
		return out, err
	}
	i := slices.IndexFunc(list, func(one Source) bool { return one.Name == name })
	if i < 0 {
		return out, problem.Missing("source", name)
	}
	return list[i], nil
}

// Put stores a source, new or in the place of one of its name, whose kind stays. Its next try begins anew.
func (s *Sources) Put(ctx context.Context, name, kind string, position int, settings Settings, mapping string) error {
	if err := audience.CheckName(name); err != nil {
		return err
	}
	if err := settings.check(kind); err != nil {
		return err
	}
	if mapping != "" {
		if _, err := source.ReadMapping([]byte(mapping), nil); err != nil {
			return err
		}
	}
	if position < 1 || position > 1_000_000 {
		return problem.New(problem.Invalid, "The position is a number from 1.").In("position")
	}
	text, err := json.Marshal(settings)
	if err != nil {
		return err
	}
	return s.Store.Write(ctx, func(tx *store.Tx) error {
		have, err := tx.Source(name)
		switch {
		case problem.Is(err, problem.NotFound):
			have = store.Source{Name: name, Kind: kind}
		case err != nil:
			return err
		case name == store.Kept:
			return problem.New(problem.Conflict, "%s is what is known here only; it is no source to be asked.", name).In("name")
		case have.Kind != kind:
			return problem.New(problem.Conflict, "The source %s is of the kind %s, which stays.", name, have.Kind).In("kind")
		}
		have.Position, have.Settings, have.Mapping = position, string(text), mapping
		if have, err = tx.PutSource(have); err != nil {
			return err
		}
		have.State.Cookie, have.State.Groups, have.State.Tag, have.State.Next = "", "", "", tx.At()
		return tx.PutSourceState(have, "")
	})
}

// Mappings lists the versions of a source's mapping, newest first.
func (s *Sources) Mappings(ctx context.Context, name string) (list []store.SourceMapping, err error) {
	err = s.Store.Read(ctx, func(tx *store.Tx) error {
		src, err := tx.Source(name)
		if err != nil {
			return err
		}
		list, err = tx.SourceMappings(src.ID)
		return err
	})
	return list, err
}

// Remove removes a source that has nobody any more.
func (s *Sources) Remove(ctx context.Context, name string) error {
	return s.Store.Write(ctx, func(tx *store.Tx) error {
		have, err := tx.Source(name)
		if err != nil {
			return err
		}
		count, err := tx.CountRecords(have.ID)
		switch {
		case err != nil:
			return err
		case name == store.Kept || name == imported:
			return problem.New(problem.Conflict, "The source %s is always there.", name)
		case count > 0:
			return problem.New(problem.Conflict,
				"The source %s has %d people. Import an empty file with replace for it, or let it run empty, first.",
				name, count)
		}
		return tx.RemoveSource(have)
	})
}

// imported is the source of imports by hand, which stays.
const imported = people.Imported

// Pause stops asking a source, or begins again.
func (s *Sources) Pause(ctx context.Context, name string, paused bool) error {
	return s.Store.Write(ctx, func(tx *store.Tx) error {
		have, err := tx.Source(name)
		if err != nil {
			return err
		}
		have.State.Paused, have.State.Note, have.State.Next = paused, "", tx.At()
		action := "resumed"
		if paused {
			action = "paused"
		}
		return tx.PutSourceState(have, action)
	})
}

// Sync begins a job that asks a source now.
func (s *Sources) Sync(ctx context.Context, name string) (job store.Job, err error) {
	err = s.Store.Write(ctx, func(tx *store.Tx) error {
		have, err := tx.Source(name)
		if err != nil {
			return err
		}
		if have.Kind == FileKind || have.Kind == SCIMKind || have.Kind == store.Kept {
			return problem.New(problem.Conflict, "A source of the kind %s is not asked; it is given.", have.Kind)
		}
		job, err = s.Jobs.Add(tx, store.Job{Kind: Job, Title: name, Unit: "people"}, name)
		return err
	})
	return job, err
}

// Watch asks sources on their schedules until the context ends.
func (s *Sources) Watch(ctx context.Context, every time.Duration) {
	jobs.Every(ctx, every, s.Log, "schedule", s.due)
}

// due begins jobs for the sources whose time has come.
func (s *Sources) due(ctx context.Context) error {
	list, err := s.List(ctx)
	if err != nil {
		return err
	}
	open := map[string]bool{}
	running, err := s.Jobs.List(ctx, Job, 50)
	if err != nil {
		return err
	}
	for _, job := range running {
		open[job.Title] = open[job.Title] || !job.State.Ended()
	}
	for _, one := range list {
		every, err := one.Settings.every()
		if err != nil || every == 0 || one.State.Paused || open[one.Name] || one.State.Next.After(s.Now()) {
			continue
		}
		if _, err := s.Sync(ctx, one.Name); err != nil {
			return err
		}
	}
	return nil
}

// reading is what is needed to ask a source.
type reading struct {
	how    source.Reading
	secret string
	photos bool
	memory memory
}

// memory is what the next try of a source begins with.
type memory struct{ Cookie, Groups, Tag string }

// Result is what asking a source gave.
type Result struct {
	Run     int64          `json:"run"` // 0 where nothing changed
	State   store.RunState `json:"state"`
	Summary store.Summary  `json:"summary"`
	Photos  int            `json:"photos"` // that were hosted
}

// work is the job that asks a source.
func (s *Sources) work(ctx context.Context, job *jobs.Job) (any, error) {
	var name string
	if err := job.Input(&name); err != nil {
		return nil, err
	}
	result, err := s.ask(ctx, name, job.Progress)
	if ctx.Err() != nil { // stopped by somebody: that is no failure of the source
		return nil, ctx.Err()
	}
	if err := s.note(context.WithoutCancel(ctx), name, result, err); err != nil {
		return nil, err
	}
	return result, err
}

// ask asks a source, and applies what it brings unless that is held.
func (s *Sources) ask(ctx context.Context, name string, progress func(int)) (result Result, err error) {
	src, err := s.Get(ctx, name)
	if err != nil {
		return result, err
	}
	how, err := s.People.ForReading(ctx, name)
	if err != nil {
		return result, err
	}
	asked := reading{how: how, photos: src.Settings.Photos != nil, memory: memory{src.State.Cookie, src.State.Groups, src.State.Tag}}
	photos, err := newSpool(asked.photos)
	if err != nil {
		return result, err
	}
	defer photos.remove()
	run, remember, err := s.plan(ctx, src, asked, photos, progress)
	if errors.Is(err, errStale) {
		asked.memory = memory{}
		run, remember, err = s.plan(ctx, src, asked, photos, progress)
	}
	if errors.Is(err, errSame) {
		return Result{State: store.Applied}, nil
	}
	if err != nil {
		return result, err
	}
	result = Result{Run: run.ID, State: run.State, Summary: run.Summary}
	if run.State == store.Planned && !src.Settings.Look {
		if run, err = s.People.Apply(ctx, run.ID, false); err != nil {
			return result, err
		}
		result.State = run.State
	}
	if run.State != store.Applied {
		return result, nil
	}
	// Only what was applied is remembered: a plan that waits is to be brought again.
	if err := s.remember(ctx, name, remember); err != nil {
		return result, err
	}
	if len(photos.list) > 0 {
		hosted, err := s.Pictures.HostPhotos(ctx, photos.list, *src.Settings.Photos, func(int) {})
		if err != nil {
			return result, fmt.Errorf("the photos: %w", err)
		}
		result.Photos = hosted.Hosted
		for _, refused := range hosted.Refused {
			result.Summary.Notes = append(result.Summary.Notes, fmt.Sprintf("The photo of %s: %s", refused.Mail, refused.Error))
		}
		result.Summary.Notes = append(result.Summary.Notes, hosted.Warnings...)
	}
	return result, nil
}

// spool keeps photos in a temporary folder until they are fitted.
type spool struct {
	folder string
	list   []pictures.Photo
	err    error
}

// newSpool makes the folder, where photos are wanted.
func newSpool(wanted bool) (*spool, error) {
	if !wanted {
		return &spool{}, nil
	}
	folder, err := os.MkdirTemp("", "missivum-photos-")
	return &spool{folder: folder}, err
}

// add keeps a photo.
func (s *spool) add(mail string, data []byte) {
	name := filepath.Join(s.folder, fmt.Sprint(len(s.list)))
	s.err = errors.Join(s.err, os.WriteFile(name, data, 0o600))
	s.list = append(s.list, pictures.Photo{Mail: mail, Read: func() ([]byte, error) { return os.ReadFile(name) }})
}

// remove removes the folder.
func (s *spool) remove() {
	if s.folder != "" {
		os.RemoveAll(s.folder)
	}
}

// errSame says that a source has what it had the last time.
var errSame = errors.New("nothing changed since the last time")

// plan reads a source and plans what it brings. remember is for when that was applied; the photos are those of people who
// are new or changed.
func (s *Sources) plan(ctx context.Context, src Source, asked reading, photos *spool, progress func(int)) (store.Run,
	func(*memory), error) {
	in, remember, err := s.open(ctx, src, asked)
	if in.Close != nil {
		defer in.Close()
	}
	if err != nil {
		return store.Run{}, nil, err
	}
	in.Source, in.Kind, in.Progress, in.Quiet = src.Name, Job, progress, true
	if asked.photos {
		photos.list = nil
		in.Photo = photos.add
	}
	run, err := s.People.Plan(ctx, in)
	return run, remember, errors.Join(err, photos.err)
}

// open opens a source for reading.
func (s *Sources) open(ctx context.Context, src Source, asked reading) (in people.Incoming, remember func(*memory), err error) {
	switch {
	case src.Settings.LDAP != nil:
		if asked.secret, err = s.secret(src.Settings.LDAP.Secret); err != nil {
			return in, nil, err
		}
		return src.Settings.LDAP.read(ctx, asked)
	case src.Settings.Folder != nil:
		return src.Settings.Folder.read(asked, src.Settings.Partly)
	case src.Settings.Web != nil:
		if asked.secret, err = s.secret(src.Settings.Web.Secret); err != nil {
			return in, nil, err
		}
		return src.Settings.Web.read(ctx, asked, src.Settings.Partly)
	}
	return in, nil, problem.New(problem.Conflict, "The source %s is not asked; it is given.", src.Name)
}

// remember stores with what the next try of a source begins.
func (s *Sources) remember(ctx context.Context, name string, change func(*memory)) error {
	return s.Store.Write(ctx, func(tx *store.Tx) error {
		have, err := tx.Source(name)
		if err != nil {
			return err
		}
		m := memory{have.State.Cookie, have.State.Groups, have.State.Tag}
		change(&m)
		have.State.Cookie, have.State.Groups, have.State.Tag = m.Cookie, m.Groups, m.Tag
		return tx.PutSourceState(have, "")
	})
}

// note stores how a try went, and when the next one is. When a source begins to fail and when it is well again is put on
// record.
func (s *Sources) note(ctx context.Context, name string, result Result, failure error) error {
	return s.Store.Write(ctx, func(tx *store.Tx) error {
		have, err := tx.Source(name)
		if err != nil {
			return err
		}
		src, err := opened(have)
		if err != nil {
			return err
		}
		every, err := src.Settings.every()
		if err != nil {
			return err
		}
		state, action := &have.State, ""
		state.Tried = tx.At()
		if failure != nil {
			state.Failure = failure.Error()
			if state.Failures++; state.Failures == 1 {
				action = "failed"
			}
			state.Next = tx.At().Add(pauseAfter(state.Failures))
			s.Log.Error("a source failed", "source", name, "failures", state.Failures, "error", failure)
		} else {
			if state.Failures > 0 {
				action = "recovered"
			}
			state.Failure, state.Failures, state.Succeeded, state.Next = "", 0, tx.At(), tx.At().Add(every)
			state.Note = ""
			if result.State == store.Held {
				state.Note = fmt.Sprintf("Run %d is held: %s.", result.Run, strings.Join(result.Summary.Holds, "; "))
			}
		}
		return tx.PutSourceState(have, action)
	})
}

// pauseAfter is how long a source is left alone behind several failures in a row.
func pauseAfter(failures int) time.Duration {
	pause := firstPause
	for range failures - 1 {
		if pause *= 2; pause >= longestWait {
			return longestWait
		}
	}
	return pause
}
