package desk

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"missivum/core/desk"
	"missivum/core/kit"
)

// journal is what is done once everything is ready: from the moment that it is on the disk, the new set is what there will
// be, also when the program is killed.
type journal struct {
	Moves   []move          `json:"moves"`
	Removes []string        `json:"removes"`
	State   json.RawMessage `json:"state"` // afterwards
}

// move puts a file that is ready beside its place into it.
type move struct {
	From string `json:"from"`
	To   string `json:"to"`
}

// writeWhole writes a file beside its place and moves it there when it is on the disk.
func writeWhole(name string, data []byte, mode fs.FileMode) error {
	half, err := writeHalf(filepath.Dir(name), data, mode, time.Time{})
	if err != nil {
		return err
	}
	if err := replace(half, name); err != nil {
		return errors.Join(err, os.Remove(half))
	}
	return syncFolder(filepath.Dir(name))
}

// writeHalf writes a file into a folder under a name of its own. What is left of it after an error is removed.
func writeHalf(folder string, data []byte, mode fs.FileMode, changed time.Time) (name string, err error) {
	for {
		name = filepath.Join(folder, desk.Half+strconv.FormatUint(rand.Uint64(), 36))
		f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
		if errors.Is(err, fs.ErrExist) {
			continue
		}
		if err != nil {
			return "", err
		}
		_, err = f.Write(data)
		err = errors.Join(err, f.Sync(), f.Close())
		if err == nil && !changed.IsZero() {
			err = os.Chtimes(name, changed, changed)
		}
		if err == nil {
			err = os.Chmod(name, mode)
		}
		if err != nil {
			return "", errors.Join(err, os.Remove(name))
		}
		return name, nil
	}
}

// wish is a file as it is to be; nil data for none.
type wish struct {
	path    string
	data    []byte
	mode    fs.FileMode
	changed time.Time
}

// carry makes wishes true, all of them or none, and stores the state that belongs to them. What goes wrong before everything
// is ready leaves all as it was; a program that is killed later is finished by the next one.
func (d *Desk) carry(folders []string, wishes []wish, before []Before, after *State) (err error) {
	j := journal{}
	var made []string
	undo := func(err error) error {
		for _, m := range j.Moves {
			err = errors.Join(err, os.Remove(m.From))
		}
		for i := len(made) - 1; i >= 0; i-- {
			err = errors.Join(err, os.Remove(made[i]))
		}
		return err
	}
	for _, folder := range folders {
		if err := os.Mkdir(filepath.FromSlash(folder), 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
			return undo(err)
		} else if err == nil {
			made = append(made, filepath.FromSlash(folder))
		}
	}
	for _, w := range wishes {
		d.step()
		name := filepath.FromSlash(w.path)
		if w.data == nil {
			j.Removes = append(j.Removes, name)
			continue
		}
		half, err := writeHalf(filepath.Dir(name), w.data, w.mode, w.changed)
		if err != nil {
			return undo(fmt.Errorf("%s cannot be written: %w", name, err))
		}
		j.Moves = append(j.Moves, move{half, name})
	}
	if j.State, err = json.Marshal(after); err != nil {
		return undo(err)
	}
	text, err := json.Marshal(j)
	if err != nil {
		return undo(err)
	}
	for _, folder := range j.folders() {
		if err := syncFolder(folder); err != nil {
			return undo(err)
		}
	}
	d.step()
	if err := writeWhole(filepath.Join(d.State, journalFile), text, 0o600); err != nil {
		return undo(err)
	}
	if err := d.finish(j); err != nil {
		return d.back(j, before, err)
	}
	return nil
}

// folders are the folders in which the journal changes files.
func (j journal) folders() []string {
	var list []string
	seen := map[string]bool{}
	for _, name := range j.paths() {
		if folder := filepath.Dir(name); !seen[folder] {
			seen[folder] = true
			list = append(list, folder)
		}
	}
	return list
}

// paths are the files that the journal changes.
func (j journal) paths() []string {
	var list []string
	for _, m := range j.Moves {
		list = append(list, m.To)
	}
	return append(list, j.Removes...)
}

// finish does what the journal says. What is done already is not done again.
func (d *Desk) finish(j journal) error {
	for _, m := range j.Moves {
		d.step()
		if _, err := os.Lstat(m.From); errors.Is(err, fs.ErrNotExist) {
			continue // moved already
		}
		if err := replace(m.From, m.To); err != nil {
			return err
		}
	}
	for _, name := range j.Removes {
		d.step()
		if err := remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	for _, folder := range j.folders() {
		if err := syncFolder(folder); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	d.step()
	if err := writeWhole(filepath.Join(d.State, stateFile), j.State, 0o600); err != nil {
		return err
	}
	d.step()
	return os.Remove(filepath.Join(d.State, journalFile))
}

// back takes back what was moved already when one of the files cannot be: a client holds it open, or the folder was closed.
func (d *Desk) back(j journal, before []Before, why error) error {
	for _, b := range before {
		if data, err := os.ReadFile(filepath.FromSlash(b.Path)); b.SHA256 != "" && err == nil && kit.Digest(data) == b.SHA256 {
			continue // not moved yet
		}
		err := error(nil)
		if b.SHA256 == "" {
			if err = remove(filepath.FromSlash(b.Path)); errors.Is(err, fs.ErrNotExist) {
				err = nil
			}
		} else if data := d.content(b.SHA256); data != nil {
			var half string
			if half, err = writeHalf(filepath.Dir(filepath.FromSlash(b.Path)), data, b.Mode.Perm(), b.Changed); err == nil {
				err = replace(half, filepath.FromSlash(b.Path))
			}
		}
		if err != nil {
			return errors.Join(why, fmt.Errorf("%s cannot be put back: %w; the next run goes on", b.Path, err))
		}
	}
	err := os.Remove(filepath.Join(d.State, journalFile))
	for _, m := range j.Moves {
		if e := os.Remove(m.From); !errors.Is(e, fs.ErrNotExist) {
			err = errors.Join(err, e)
		}
	}
	return errors.Join(why, err)
}

// recover finishes what a run that was killed had begun.
func (d *Desk) recover() error {
	j := journal{}
	there, err := read(filepath.Join(d.State, journalFile), &j)
	if err != nil || !there {
		return err
	}
	if err := d.finish(j); err != nil {
		return fmt.Errorf("finishing what an earlier run began: %w", err)
	}
	d.say("finished what an earlier run began")
	return nil
}

// sweep removes halves that a run which was killed early left in a folder.
func sweep(folder string) {
	entries, err := os.ReadDir(filepath.FromSlash(folder))
	if err != nil {
		return // there is nothing to sweep
	}
	for _, e := range entries {
		if strings.HasPrefix(e.Name(), desk.Half) && e.Type().IsRegular() {
			os.Remove(filepath.Join(filepath.FromSlash(folder), e.Name())) // what stays is swept the next time
		}
	}
}
