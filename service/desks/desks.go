// Package desks answers desks: which kit somebody's client gets of which release, and its files; and keeps what desks report.
// What a desk asks again and again is answered from memory. Start with Desks.Kit and Desks.Report.
package desks

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"missivum/core/client"
	"missivum/core/kit"
	"missivum/core/problem"
	"missivum/core/release"
	"missivum/core/template"
	"missivum/service/clients"
	"missivum/service/files"
	"missivum/service/people"
	"missivum/service/releases"
	"missivum/service/store"
)

// Desks answers desks and keeps their reports.
type Desks struct {
	Store    *store.Store
	Releases *releases.Releases
	People   *people.People
	Clients  *clients.Clients
	KeyFile  string // private key that signs kits; it is made when it is missing
	Now      func() time.Time
	Log      *slog.Logger

	key     kit.Key
	current atomic.Pointer[view]
	looking sync.Mutex
}

// Start reads the key that signs kits, or makes it.
func (d *Desks) Start() error {
	text, err := os.ReadFile(d.KeyFile)
	if errors.Is(err, fs.ErrNotExist) {
		var seed [ed25519.SeedSize]byte
		rand.Read(seed[:]) // never fails (crypto/rand)
		d.key = kit.NewKey(seed)
		if err := os.MkdirAll(filepath.Dir(d.KeyFile), 0o700); err != nil {
			return err
		}
		if err := files.WriteBytes(d.KeyFile, d.key.PEM()); err != nil {
			return fmt.Errorf("the key that signs kits: %w", err)
		}
		return os.Chmod(d.KeyFile, 0o600)
	}
	if err == nil {
		d.key, err = kit.ReadKey(text)
	}
	if err != nil {
		return fmt.Errorf("the key that signs kits: %w", err)
	}
	return nil
}

// Key signs kits.
func (d *Desks) Key() kit.Key { return d.key }

// Trusted is the public key that desks trust.
func (d *Desks) Trusted() kit.Trusted { return d.key.Trusted() }

// fresh is for how long what was read is taken for true while others write.
const fresh = time.Second

// mostRemembered is how many digests of kits are kept in memory.
const mostRemembered = 300_000

// view is everything that decides which kit a desk gets, of one moment. Nothing in it changes, but for what is remembered.
type view struct {
	writes   int64
	releases atomic.Int64 // writes of releases: these count at once
	looked   atomic.Int64 // when it was last known to be true, in nanoseconds
	day      string
	revision string // of all that it was made from
	out      []*one // releases that are out, newest first
	gone     bool   // a release was withdrawn
	book     client.Book

	makers sync.Map // of makers, by release and client
	tags   sync.Map // digests of kits, by client and mail address
	tagged atomic.Int64
}

// one is a release that is out.
type one struct {
	releases.Whole
	name   string         // its number, as a text
	byMail map[string]int // people by folded mail address
	day    time.Time      // for which dated pieces are decided
}

// look gives the view as it is now: that of before, while nothing was written since, or a new one.
func (d *Desks) look(ctx context.Context) (*view, error) {
	now := d.Now()
	v := d.current.Load()
	if d.holds(v, now) {
		return v, nil
	}
	d.looking.Lock()
	defer d.looking.Unlock()
	if v = d.current.Load(); d.holds(v, now) { // another has looked meanwhile
		return v, nil
	}
	writes, changed := d.Store.Writes(), d.Store.ReleaseWrites()
	revision, err := d.revision(ctx, now)
	if err != nil {
		return nil, err
	}
	if v != nil && v.revision == revision {
		v.releases.Store(changed)
		v.looked.Store(now.UnixNano())
		return v, nil
	}
	next, err := d.read(ctx, now)
	if err != nil {
		return nil, err
	}
	next.writes, next.revision = writes, revision
	next.releases.Store(changed)
	next.looked.Store(now.UnixNano())
	d.current.Store(next)
	return next, nil
}

// holds reports whether a view is still true.
func (d *Desks) holds(v *view, now time.Time) bool {
	if v == nil || v.day != now.Format(time.DateOnly) || v.releases.Load() != d.Store.ReleaseWrites() {
		return false
	}
	return v.writes == d.Store.Writes() || now.Sub(time.Unix(0, v.looked.Load())) < fresh
}

// revision is what a view depends on.
func (d *Desks) revision(ctx context.Context, now time.Time) (revision string, err error) {
	_, book, err := d.Clients.Book(ctx)
	if err != nil {
		return "", err
	}
	err = d.Store.Read(ctx, func(tx *store.Tx) error {
		n, err := tx.ReleaseRevision()
		if err != nil {
			return err
		}
		_, people, err := tx.Fields()
		revision = fmt.Sprintf("%d %d %s %s", n, people, book, now.Format(time.DateOnly))
		return err
	})
	return revision, err
}

// read makes a view.
func (d *Desks) read(ctx context.Context, now time.Time) (*view, error) {
	v := &view{day: now.Format(time.DateOnly)}
	var err error
	if v.book, _, err = d.Clients.Book(ctx); err != nil {
		return nil, err
	}
	err = d.Store.Read(ctx, func(tx *store.Tx) error {
		all, err := tx.Releases()
		if err != nil {
			return err
		}
		for _, record := range all {
			v.gone = v.gone || record.State == release.Withdrawn
			if record.State != release.Out {
				continue
			}
			w, err := d.Releases.WholeIn(tx, record)
			if err != nil {
				return err
			}
			v.out = append(v.out, newOne(w, now))
		}
		return nil
	})
	return v, err
}

// newOne readies a release that is out.
func newOne(w releases.Whole, now time.Time) *one {
	o := &one{Whole: w, name: fmt.Sprint(w.ID), byMail: make(map[string]int, len(w.Directory.People))}
	column, _, _ := w.Directory.Schema.Column("mail")
	for i := range w.Directory.People {
		o.byMail[fold(w.Directory.People[i].At(column))] = i
	}
	var list []*template.Template
	for _, t := range w.Templates {
		list = append(list, t)
	}
	o.day = release.Decided(list, now)
	return o
}

// fold makes mail addresses comparable.
func fold(mail string) string { return strings.ToLower(strings.TrimSpace(mail)) }

// reaching gives the newest release that reaches a person, with the person's place in its directory; nil for none.
func (v *view) reaching(mail string) (*one, int) {
	for _, o := range v.out {
		if i, there := o.byMail[fold(mail)]; there && o.Live.Reaches(&o.Directory.People[i]) {
			return o, i
		}
	}
	return nil, 0
}

// Asked is a desk's question: whose kit, for which client.
type Asked struct {
	Person string // mail address
	Client string // profile
}

// Kit is the answer: a list with its signature.
type Kit struct {
	List      string `json:"list"` // JSON, exactly as it was signed
	Signature string `json:"signature"`
	Release   string `json:"release"`
	Title     string `json:"title"`
}

// Tag gives the digest of the kit that a desk gets and the release that it is of, as quickly as it can: from memory where it was
// asked before. Releases in which nothing differs for a client give it the same kit. The error is of the kind NotFound where
// no release reaches the person, and Gone where one did that was withdrawn.
func (d *Desks) Tag(ctx context.Context, a Asked) (tag, release string, err error) {
	v, err := d.look(ctx)
	if err != nil {
		return "", "", err
	}
	t, err := d.tagOf(v, a)
	return t.digest, t.release, err
}

// tagged is what is remembered of a kit: the digest of its list, that of the same list in a package, which names the release, and
// the release.
type tagged struct{ digest, packed, release string }

// tagOf is Tag in a view.
func (d *Desks) tagOf(v *view, a Asked) (tagged, error) {
	if tag, ok := v.tags.Load(a); ok {
		return tag.(tagged), nil
	}
	made, o, err := d.make(v, a)
	if err != nil {
		return tagged{}, err
	}
	packed := made.List
	packed.Release = o.name
	tag := tagged{kit.Digest(made.JSON()), kit.Digest(packed.JSON()), o.name}
	if v.tagged.Add(1) <= mostRemembered {
		v.tags.Store(a, tag)
	}
	return tag, nil
}

// Withdrawn says that a desk should take back what was placed: the release was withdrawn, and none before it reaches the person.
var Withdrawn = problem.New(problem.Gone, "The release was withdrawn, and there is none before it: take back what was placed.")

// make makes a kit.
func (d *Desks) make(v *view, a Asked) (kit.Kit, *one, error) {
	o, at := v.reaching(a.Person)
	if o == nil {
		if v.gone {
			return kit.Kit{}, nil, Withdrawn
		}
		return kit.Kit{}, nil, problem.New(problem.NotFound, "No release reaches %s.", a.Person)
	}
	maker, err := v.maker(o, a.Client)
	if err != nil {
		return kit.Kit{}, nil, err
	}
	p := &o.Directory.People[at]
	k, err := maker.Worker().Make(p, o.Live.Choices(p))
	return k, o, err
}

// maker gives the maker of a release's kits for a client, made when it is not there yet.
func (v *view) maker(o *one, id string) (*kit.Maker, error) {
	key := fmt.Sprint(o.ID, " ", id)
	if m, ok := v.makers.Load(key); ok {
		return m.(*kit.Maker), nil
	}
	profile := v.book.Find(id)
	if profile == nil {
		return nil, problem.New(problem.NotFound, "There is no client profile %q.", id)
	}
	m, err := kit.New(kit.Input{Templates: o.Templates, Schema: o.Directory.Schema, Day: o.day, Way: profile.Install.Way,
		Desk:   profile.Install.OnDesk(),
		Client: id, Base: o.Frozen.Base})
	if err != nil {
		return nil, err
	}
	stored, _ := v.makers.LoadOrStore(key, m)
	return stored.(*kit.Maker), nil
}

// Kit gives the kit that a desk gets.
func (d *Desks) Kit(ctx context.Context, a Asked) (Kit, string, error) {
	v, err := d.look(ctx)
	if err != nil {
		return Kit{}, "", err
	}
	made, o, err := d.make(v, a)
	if err != nil {
		return Kit{}, "", err
	}
	list := made.JSON()
	return Kit{List: string(list), Signature: string(d.key.Sign(list)), Release: o.name, Title: o.Title}, kit.Digest(list), nil
}

// Pieces takes one of the files of the kit that a desk gets apart, so that pictures in it that the desk has are not sent again;
// nil for a file without pictures in it.
func (d *Desks) Pieces(ctx context.Context, a Asked, name string) ([]kit.Piece, error) {
	v, err := d.look(ctx)
	if err != nil {
		return nil, err
	}
	made, _, err := d.make(v, a)
	return made.Pieces(name), err
}

// Picture gives a picture that is written into one of the files of the kit that a desk gets.
func (d *Desks) Picture(ctx context.Context, a Asked, digest string) ([]byte, error) {
	v, err := d.look(ctx)
	if err != nil {
		return nil, err
	}
	made, _, err := d.make(v, a)
	if err != nil {
		return nil, err
	}
	if data := made.Picture(digest); data != nil {
		return data, nil
	}
	return nil, problem.Missing("picture", digest)
}

// File gives one of the files of the kit that a desk gets, and its digest.
func (d *Desks) File(ctx context.Context, a Asked, name string) ([]byte, string, error) {
	v, err := d.look(ctx)
	if err != nil {
		return nil, "", err
	}
	made, _, err := d.make(v, a)
	if err != nil {
		return nil, "", err
	}
	for _, f := range made.Contents {
		if f.File == name {
			return f.Data, f.SHA256, nil
		}
	}
	return nil, "", problem.Missing("file", name)
}
