// Package desk does on a desk what core/desk plans: it looks for mail clients, places signed kits, verifies and takes back.
// What it places is whole or not there: everything is made ready beside its place, a journal says what is moved, and a run that
// finds the journal of one that was killed finishes it. What was there before is kept. Start with Desk.
package desk

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"missivum/core/desk"
	"missivum/core/kit"
	"missivum/core/problem"
)

// Desk is the desk of the user who runs the program.
type Desk struct {
	State    string // folder in which the program remembers what it placed
	System   string // linux, macos or windows
	Variable func(string) (string, bool)
	Places   []*desk.Place
	Wait     time.Duration // for how long it is waited until a client is closed
	Now      func() time.Time
	Says     func(line string) // what happens on the way; nil for nowhere

	between func() // called between steps that change something, for tests that end the program there
}

// step lets a test end the program between two steps.
func (d *Desk) step() {
	if d.between != nil {
		d.between()
	}
}

// say says what happens on the way.
func (d *Desk) say(line string) {
	if d.Says != nil {
		d.Says(line)
	}
}

// NewID makes the desk's own id, by which a service keeps desks apart.
func (d *Desk) NewID() string {
	var b [9]byte
	rand.Read(b[:]) // never fails (crypto/rand)
	return hex.EncodeToString(b[:])
}

// Trust gives the public key that the desk trusts; text is that of a file, which is remembered, and none is the one that was
// remembered.
func (d *Desk) Trust(text []byte) (kit.Trusted, error) {
	name := filepath.Join(d.State, trustFile)
	if text == nil {
		kept, err := os.ReadFile(name)
		if errors.Is(err, fs.ErrNotExist) {
			return kit.Trusted{}, problem.New(problem.Invalid,
				"This desk trusts no key yet; name the public key of whoever makes the kits with --trust.")
		}
		if err != nil {
			return kit.Trusted{}, err
		}
		return kit.ReadTrusted(kept)
	}
	t, err := kit.ReadTrusted(text)
	if err != nil {
		return t, err
	}
	if err := os.MkdirAll(d.State, 0o700); err != nil {
		return t, err
	}
	return t, writeWhole(name, t.PEM(), 0o600)
}

// Find gives the places of clients that are on this desk.
func (d *Desk) Find() ([]desk.Found, error) { return desk.Find(disk{}, d.Places, d.System, d.Variable) }

// known says of files whether they were placed.
func (s *State) known(f desk.Found) desk.Known {
	return func(name string) (string, bool) {
		if p := s.Places[f.Key()]; p != nil {
			for _, file := range p.Files {
				if file.Path == name && file.Format == "" {
					return file.SHA256, true
				}
			}
		}
		return "", false
	}
}

// Looked is what is in a place, and what was placed there.
type Looked struct {
	desk.Looked
	Running string `json:"running"` // why the client is taken for running; blank when it is not
	Placed  *Shown `json:"placed"`  // nil for nothing
}

// Shown is what was placed, for people.
type Shown struct {
	Person  string    `json:"person"`
	Release string    `json:"release"`
	At      time.Time `json:"at"`
}

// Look says what is on the desk. mail picks the account where a client has several.
func (d *Desk) Look(ctx context.Context, mail string) ([]Looked, error) {
	s, found, unlock, err := d.begin(ctx)
	if err != nil {
		return nil, err
	}
	defer unlock()
	list := []Looked{}
	for _, f := range found {
		person := mail
		l := Looked{}
		if p := s.Places[f.Key()]; p != nil {
			l.Placed = &Shown{p.Person, p.Release, p.At}
			if person == "" {
				person = p.Person
			}
		}
		l.Looked = desk.Look(disk{}, f, s.known(f), person)
		if l.Running, err = Running(ctx, f); err != nil {
			l.Notes = append(l.Notes, err.Error())
		}
		list = append(list, l)
	}
	return list, nil
}

// open locks the desk and reads its state.
func (d *Desk) open(ctx context.Context) (*State, func(), error) {
	unlock, err := d.lock(ctx)
	if err != nil {
		return nil, nil, err
	}
	s, err := d.load()
	if err != nil {
		unlock()
		return nil, nil, err
	}
	return s, unlock, nil
}

// begin locks the desk, reads its state and finds the clients.
func (d *Desk) begin(ctx context.Context) (*State, []desk.Found, func(), error) {
	s, unlock, err := d.open(ctx)
	if err != nil {
		return nil, nil, nil, err
	}
	found, err := d.Find()
	if err != nil {
		unlock()
		return nil, nil, nil, err
	}
	return s, found, unlock, nil
}

// Options say how kits are placed.
type Options struct {
	Place    string // only this place; blank for all that fit
	TakeOver bool   // also what somebody else wrote
	Marker   string // text that was typed beforehand into the file that is meant
	Only     bool   // plan only: nothing is changed
}

// Outcome is what was, or would be, done in a place.
type Outcome struct {
	desk.Plan
	Client string `json:"client"`
	Done   bool   `json:"done"` // the changes were made
	Err    error  `json:"-"`
}

// Place places kits: each where a client that it is for is found. What goes wrong in one place does not keep the others; it is
// in the place's outcome. An error says that nothing could be done at all.
func (d *Desk) Place(ctx context.Context, kits []Kit, o Options) ([]Outcome, error) {
	s, found, unlock, err := d.begin(ctx)
	if err != nil {
		return nil, err
	}
	defer unlock()
	outcomes := []Outcome{}
	for _, f := range found {
		if o.Place != "" && f.Place.ID != o.Place {
			continue
		}
		for _, k := range kits {
			if k.Fits(f.Place) {
				outcomes = append(outcomes, d.placeOne(ctx, s, f, k, o))
				break
			}
		}
	}
	if len(outcomes) == 0 {
		return nil, problem.New(problem.Refused, "%s", d.nowhere(found, kits))
	}
	return outcomes, nil
}

// nowhere says why there is no place for any of the kits.
func (d *Desk) nowhere(found []desk.Found, kits []Kit) string {
	var are, wanted []string
	for _, f := range found {
		are = append(are, f.Place.ID+" ("+f.Folder+")")
	}
	for _, k := range kits {
		if k.Client != "" {
			wanted = append(wanted, k.Client)
		} else {
			wanted = append(wanted, "any client with the way "+k.Way)
		}
	}
	if len(are) == 0 {
		return "No client's place was found on this desk; missivum desk look lists where it looks."
	}
	return "No place fits the kits, which are for " + strings.Join(wanted, ", ") + ". There are: " + strings.Join(are, ", ") + "."
}

// placeOne places a kit in one place.
func (d *Desk) placeOne(ctx context.Context, s *State, f desk.Found, k Kit, o Options) Outcome {
	out := Outcome{Client: f.Place.Client}
	wanted := desk.Wanted{List: k.List, Data: k.Data, System: d.System, Known: s.known(f), TakeOver: o.TakeOver, Marker: o.Marker}
	before := s.Places[f.Key()]
	if before != nil {
		for _, file := range before.Files {
			if file.Format == "" {
				wanted.Placed = append(wanted.Placed, file.Path)
			}
		}
	}
	if out.Plan, out.Err = desk.Make(disk{}, f, wanted); out.Err != nil || o.Only {
		return out
	}
	if !out.Idle() {
		if out.Err = d.waitUntilClosed(ctx, f); out.Err != nil {
			return out
		}
		if d.Wait > 0 { // the client may have written meanwhile
			if out.Plan, out.Err = desk.Make(disk{}, f, wanted); out.Err != nil {
				return out
			}
		}
	}
	out.Err = known(d.do(s, f, k, out.Plan))
	out.Done = out.Err == nil
	return out
}

// do carries a plan out.
func (d *Desk) do(s *State, f desk.Found, k Kit, plan desk.Plan) error {
	before := s.Places[f.Key()]
	after := &Placed{Place: f.Place.ID, Client: f.Place.Client, Folder: f.Folder, Person: k.Person, Release: k.Release,
		Kit: k.Digest, At: d.Now()}
	step := Step{At: d.Now()}
	if before != nil {
		was := *before
		was.History, was.Aside = nil, nil
		step.Was, after.History, after.Aside = &was, slices.Clone(before.History), slices.Clone(before.Aside)
	}
	for _, part := range k.Parts {
		digest, err := d.keep(part)
		if err != nil {
			return known(err)
		}
		after.Parts = append(after.Parts, digest)
	}
	slices.Sort(after.Parts)
	var folders []string
	var wishes []wish
	var touched []string
	for i := range plan.Changes {
		c := &plan.Changes[i]
		if c.Deed == desk.Folder {
			folders = append(folders, c.Path)
			continue
		}
		if c.Deed != desk.Remove {
			file := PlacedFile{Path: c.Path, Form: c.Form, SHA256: kit.Digest(c.Data), ReadOnly: c.ReadOnly &&
				c.Format == "", Format: c.Format, Settings: c.Holds}
			after.Files = append(after.Files, file)
		}
		if c.Deed != desk.Unharmed {
			touched = append(touched, c.Path)
			wishes = append(wishes, wished(c))
			b, err := d.before(c)
			if err != nil {
				return err
			}
			if placed := before.file(c.Path); placed != nil && b.SHA256 != "" && b.SHA256 != placed.SHA256 && d.content(placed.SHA256) != nil {
				after.Aside = append(after.Aside, Aside{d.Now(), c.Path, b.SHA256})
				after.Aside = after.Aside[max(0, len(after.Aside)-mostAside):]
				b.SHA256, b.Mode, b.Changed = placed.SHA256, placed.mode(b.Mode), time.Time{} // what is taken back to is what was placed
			}
			step.Files = append(step.Files, b)
		}
		if c.Format == "" && c.Deed != desk.Remove {
			if _, err := d.keep(c.Data); err != nil {
				return err
			}
		}
	}
	step.Folders = folders
	if plan.Idle() && before != nil && before.Kit == k.Digest {
		return nil
	}
	if name, by := heldOpen(touched); name != "" {
		return problem.New(problem.Busy, "%s is held open by %s; nothing was changed. Close it first.", name, by)
	}
	if before == nil || before.Kit != k.Digest && (len(wishes) > 0 || len(folders) > 0) { // putting right is no step of its own
		after.History = append(after.History, step)
		after.shorten()
	}
	return d.store(s, f.Key(), after, folders, wishes, step.Files)
}

// file is one of the signature's files as it was placed; nil for others.
func (p *Placed) file(name string) *PlacedFile {
	if p == nil {
		return nil
	}
	for i := range p.Files {
		if p.Files[i].Path == name && p.Files[i].Format == "" {
			return &p.Files[i]
		}
	}
	return nil
}

// mode gives permissions as they were placed, from those that are there.
func (f *PlacedFile) mode(now fs.FileMode) fs.FileMode {
	if f.ReadOnly {
		return now &^ 0o222
	}
	return now | 0o200
}

// wished is a change as it is to be on the disk.
func wished(c *desk.Change) wish {
	w := wish{path: c.Path, data: c.Data, mode: 0o644}
	if c.Deed == desk.Remove {
		w.data = nil
	} else if w.data == nil {
		w.data = []byte{}
	}
	if c.Info != nil {
		w.mode = c.Mode.Perm()
	}
	if c.ReadOnly {
		w.mode &^= 0o222
	}
	return w
}

// before keeps what is at a path that is changed.
func (d *Desk) before(c *desk.Change) (Before, error) {
	b := Before{Path: c.Path, Format: c.Format, Settings: c.Settings}
	if c.Deed != desk.Remove {
		b.After = kit.Digest(c.Data)
	}
	if c.Info == nil {
		return b, nil
	}
	b.Mode, b.Changed = c.Mode.Perm(), c.Info.ModTime()
	var err error
	b.SHA256, err = d.keep(c.Before)
	return b, err
}

// store makes the changes of a place together with the state that belongs to them; nil as the place's state removes it.
func (d *Desk) store(s *State, key string, after *Placed, folders []string, wishes []wish, before []Before) error {
	next := *s
	next.Places = map[string]*Placed{}
	for k, p := range s.Places {
		next.Places[k] = p
	}
	if after == nil {
		delete(next.Places, key)
	} else {
		next.Places[key] = after
	}
	for _, w := range wishes {
		sweep(filepath.ToSlash(filepath.Dir(filepath.FromSlash(w.path))))
	}
	if err := d.carry(folders, wishes, before, &next); err != nil {
		return known(err)
	}
	*s = next
	return d.forget(s)
}

// known gives errors of the system that users meet a kind and plain words.
func known(err error) error {
	switch {
	case full(err):
		return problem.New(problem.Full, "The disk is full; nothing was changed (%v).", err)
	case notPermitted(err):
		return problem.New(problem.Refused, "It is not permitted; nothing was changed (%v).", err)
	}
	return err
}

// Verified is how things stand in a place.
type Verified struct {
	Place   string         `json:"place"`
	Client  string         `json:"client"`
	Folder  string         `json:"folder"`
	Person  string         `json:"person"`
	Release string         `json:"release"`
	Kit     string         `json:"kit"`
	At      time.Time      `json:"at"`    // when it was placed
	Proof   desk.Proof     `json:"proof"` // the worst of its files
	Files   []desk.Checked `json:"files"`
}

// Verify holds everything that was placed against what is there.
func (d *Desk) Verify(ctx context.Context) (list []Verified, id string, err error) {
	s, unlock, err := d.open(ctx)
	if err != nil {
		return nil, "", err
	}
	defer unlock()
	list = []Verified{}
	for _, key := range sortedKeys(s.Places) {
		list = append(list, d.verify(s.Places[key]))
	}
	return list, s.Desk, nil
}

// verify holds a place against what was placed in it.
func (d *Desk) verify(p *Placed) Verified {
	v := Verified{Place: p.Place, Client: p.Client, Folder: p.Folder, Person: p.Person, Release: p.Release, Kit: p.Kit, At: p.At,
		Proof: desk.Current, Files: []desk.Checked{}}
	for _, f := range p.Files {
		c := desk.Verify(disk{}, desk.PlacedFile{Path: f.Path, Form: f.Form, Data: d.content(f.SHA256), SHA256: f.SHA256, ReadOnly: f.ReadOnly,
			Settings: f.Settings, Format: f.Format})
		v.Files = append(v.Files, c)
		if c.Proof.Worse(v.Proof) {
			v.Proof = c.Proof
		}
	}
	return v
}

func sortedKeys(m map[string]*Placed) []string {
	var keys []string
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}

// Undone is what was taken back in a place.
type Undone struct {
	Place  string   `json:"place"`
	Folder string   `json:"folder"`
	Lines  []string `json:"lines"` // one for each file
	Left   int      `json:"left"`  // placings that can still be taken back
	Err    error    `json:"-"`
}

// Undo takes the last placing back, in one place or in all; all takes everything back that the program ever did there. A file
// that was altered since it was placed is not touched, and nothing in its place is, without takeOver.
func (d *Desk) Undo(ctx context.Context, place string, all, takeOver bool) ([]Undone, error) {
	s, unlock, err := d.open(ctx)
	if err != nil {
		return nil, err
	}
	defer unlock()
	list := []Undone{}
	for _, key := range sortedKeys(s.Places) {
		p := s.Places[key]
		if place != "" && p.Place != place {
			continue
		}
		u := Undone{Place: p.Place, Folder: p.Folder, Lines: []string{}}
		for again := true; again; again = all && u.Err == nil && s.Places[key] != nil {
			var lines []string
			lines, u.Err = d.undoOne(ctx, s, key, takeOver)
			u.Err = known(u.Err)
			u.Lines = append(u.Lines, lines...)
		}
		if left := s.Places[key]; left != nil {
			u.Left = len(left.History)
		}
		list = append(list, u)
	}
	return list, nil
}

// undoOne takes the last placing of a place back.
func (d *Desk) undoOne(ctx context.Context, s *State, key string, takeOver bool) ([]string, error) {
	p := s.Places[key]
	if len(p.History) == 0 {
		return nil, problem.New(problem.Refused, "%s: there is nothing to take back.", p.Place)
	}
	for _, place := range d.Places {
		if place.ID == p.Place {
			if err := d.waitUntilClosed(ctx, desk.Found{Place: place, Folder: p.Folder}); err != nil {
				return nil, err
			}
		}
	}
	step := p.History[len(p.History)-1]
	var wishes []wish
	var now []Before
	var lines []string
	for _, b := range slices.Backward(step.Files) {
		w, there, line, err := d.undoFile(p, b, takeOver)
		if err != nil {
			return nil, err
		}
		lines = append(lines, filepath.FromSlash(b.Path)+"  "+line)
		if w != nil {
			wishes, now = append(wishes, *w), append(now, there)
		}
	}
	var after *Placed
	if step.Was != nil {
		was := *step.Was
		after = &was
		after.History, after.Aside = p.History[:len(p.History)-1], p.Aside
	}
	if name, by := heldOpen(paths(wishes)); name != "" {
		return nil, problem.New(problem.Busy, "%s is held open by %s; nothing was changed. Close it first.", name, by)
	}
	if err := d.store(s, key, after, nil, wishes, now); err != nil {
		return nil, err
	}
	for _, folder := range slices.Backward(step.Folders) {
		if os.Remove(filepath.FromSlash(folder)) == nil { // one that is not empty stays
			lines = append(lines, filepath.FromSlash(folder)+"  removed; it was made for the signature")
		}
	}
	return lines, nil
}

func paths(wishes []wish) []string {
	var list []string
	for _, w := range wishes {
		list = append(list, w.path)
	}
	return list
}

// undoFile gives what puts back what was at a path; nil where that is already so. there is what is there now.
func (d *Desk) undoFile(p *Placed, b Before, takeOver bool) (w *wish, there Before, line string, err error) {
	there = Before{Path: b.Path, After: b.SHA256}
	info, err := disk{}.Lstat(b.Path)
	var data []byte
	switch {
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		return nil, there, "", err
	case !info.Mode().IsRegular():
		return nil, there, "", problem.New(problem.Refused, "%s is no longer a file; nothing was changed.", b.Path)
	default:
		if data, err = (disk{}).ReadFile(b.Path); err != nil {
			return nil, there, "", err
		}
		there.Mode, there.Changed = info.Mode().Perm(), info.ModTime()
		if there.SHA256, err = d.keep(data); err != nil {
			return nil, there, "", err
		}
	}
	if there.SHA256 == b.SHA256 && (info == nil || info.Mode().Perm() == b.Mode) {
		return nil, there, "as it was before", nil
	}
	if there.SHA256 != b.After {
		if b.Format != "" && info != nil { // the client wrote other settings since: only ours are taken back
			data, err := desk.Unset(b.Format, data, b.Settings)
			if err != nil {
				return nil, there, "", fmt.Errorf("%s: %w", b.Path, err)
			}
			return &wish{b.Path, data, info.Mode().Perm(), time.Time{}}, there, "the choice is as it was before; other settings stay", nil
		}
		form := ""
		for _, f := range p.Files {
			if f.Path == b.Path {
				form = f.Form
			}
		}
		if same, difference := desk.SameMeaning(form, d.content(b.After), data); !same && !takeOver {
			return nil, there, "", problem.New(problem.Refused,
				"%s was altered since it was placed (%s); nothing was changed. --take-over takes it back all the same.",
				b.Path, difference)
		}
	}
	if b.SHA256 == "" {
		if info == nil {
			return nil, there, "as it was before", nil
		}
		return &wish{path: b.Path}, there, "removed; nothing was there before", nil
	}
	was := d.content(b.SHA256)
	if was == nil {
		return nil, there, "", problem.New(problem.Refused, "What was at %s before is no longer kept whole; nothing was changed.", b.Path)
	}
	return &wish{b.Path, append([]byte{}, was...), b.Mode, b.Changed}, there, "as it was before", nil
}

// Try says what a place finds in a folder that is taken for the client's.
func Try(ctx context.Context, p *desk.Place, folder, mail string) (Looked, error) {
	info, err := os.Stat(filepath.FromSlash(folder))
	if err == nil && !info.IsDir() {
		err = problem.New(problem.Invalid, "%s is no folder.", folder)
	}
	if err != nil {
		return Looked{}, err
	}
	f := desk.Found{Place: p, Folder: folder}
	l := Looked{Looked: desk.Look(disk{}, f, func(string) (string, bool) { return "", false }, mail)}
	l.Running, err = Running(ctx, f)
	return l, err
}
