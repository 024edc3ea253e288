// Package backup writes the data folder into one file while the service runs, reads it back into a folder, and thins out old
// files. A backup is a zip: the database as it was at one moment, the files that it names, the secrets, and a list with the
// digest of each. Start with Make and Restore.
package backup

import (
	"archive/zip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"missivum/core/problem"
	"missivum/service/files"
	"missivum/service/store"
)

// Names in a data folder and in a backup.
const (
	Database = "missivum.db"
	listName = "backup.json"
	lockName = "lock"
)

// form is the version of the form that backups have.
const form = 1

// Member is a file of a backup.
type Member struct {
	Name   string `json:"name"` // path with slashes
	Size   int64  `json:"size"`
	SHA256 string `json:"sha256"`
	Mode   uint32 `json:"mode"`
}

// List is what a backup says of itself.
type List struct {
	Form    int       `json:"form"`
	Made    time.Time `json:"made"`
	Program string    `json:"program"` // its version
	Schema  int64     `json:"schema"`
	Record  string    `json:"record"` // number and link of the last entry of the record
	People  int64     `json:"people"`
	Files   []Member  `json:"files"`
}

// Bytes is how much the files take together.
func (l List) Bytes() (n int64) {
	for _, f := range l.Files {
		n += f.Size
	}
	return n
}

// Progress hears how many of how many files were written.
type Progress func(done, all int)

// leftOut reports whether a path of a data folder is no part of a backup: what SQLite keeps beside the database (the copy is
// whole without it), the lock, and what was being written.
func leftOut(path string) bool {
	base := filepath.Base(path)
	if _, err := time.Parse(namePrefix+nameTime+nameSuffix, base); err == nil {
		return true // a backup
	}
	return path == Database || strings.HasPrefix(path, Database+"-") || path == lockName || strings.HasPrefix(base, ".")
}

// Make writes a backup of a data folder to a file, looks through it, and only then gives it its name: a file of that name is
// whole. The service may run meanwhile. The copy of the database is made first: every file that it names is there already.
func Make(ctx context.Context, folder, to, program string, now time.Time, progress Progress) (List, error) {
	list := List{Form: form, Made: now.UTC(), Program: program}
	if _, err := os.Stat(filepath.Join(folder, Database)); err != nil {
		return list, problem.New(problem.NotFound, "%s holds no database %s: is it the service's data folder?", folder, Database)
	}
	if _, err := os.Stat(to); err == nil {
		return list, problem.New(problem.Conflict, "There is a file %s already.", to)
	}
	work, err := os.MkdirTemp(filepath.Dir(to), ".backup-")
	if err != nil {
		return list, err
	}
	defer os.RemoveAll(work)
	copied := filepath.Join(work, Database)
	if err := store.Copy(ctx, filepath.Join(folder, Database), copied); err != nil {
		return list, fmt.Errorf("copying the database: %w", err)
	}
	facts, err := store.Examine(ctx, copied)
	if err != nil {
		return list, err
	}
	if len(facts.Faults) > 0 {
		return list, problem.New(problem.Refused,
			"The database is not sound, so that a backup of it would not be either: %s. missivum doctor says more.",
			strings.Join(facts.Faults, "; "))
	}
	list.Schema, list.Record, list.People = facts.Schema, facts.Record.Head(), facts.People
	names, err := membersOf(folder)
	if err != nil {
		return list, err
	}
	made := filepath.Join(work, "made.zip")
	err = files.Write(made, func(w io.Writer) error {
		out := zip.NewWriter(w)
		if err := list.add(out, Database, copied); err != nil {
			return err
		}
		for i, name := range names {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			err := list.add(out, filepath.ToSlash(name), filepath.Join(folder, name))
			if err != nil && !errors.Is(err, fs.ErrNotExist) { // removed meanwhile: a package, a rehearsal
				return err
			}
			if progress != nil {
				progress(i+1, len(names))
			}
		}
		text, err := json.MarshalIndent(list, "", "  ")
		if err != nil {
			return err
		}
		entry, err := out.Create(listName)
		if err == nil {
			_, err = entry.Write(text)
		}
		return errors.Join(err, out.Close())
	})
	if err != nil {
		return list, fmt.Errorf("writing the backup: %w", store.Known(err))
	}
	if _, err := Check(ctx, made); err != nil {
		return list, fmt.Errorf("the backup was written and cannot be read back: %w", err)
	}
	return list, errors.Join(os.Chmod(made, 0o600), os.Rename(made, to))
}

// membersOf lists the files of a data folder that belong to a backup beside the database.
func membersOf(folder string) (names []string, err error) {
	err = filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return nil // removed meanwhile
		}
		if err != nil {
			return err
		}
		name, err := filepath.Rel(folder, path)
		if err != nil || name == "." {
			return err
		}
		if leftOut(name) {
			if d.IsDir() {
				return filepath.SkipDir
			}
			return nil
		}
		if d.Type().IsRegular() {
			names = append(names, name)
		}
		return nil
	})
	slices.Sort(names)
	return names, err
}

// add writes a file into a backup and its line into the list.
func (l *List) add(out *zip.Writer, name, file string) error {
	in, err := os.Open(file)
	if err != nil {
		return err
	}
	defer in.Close()
	info, err := in.Stat()
	if err != nil {
		return err
	}
	header := &zip.FileHeader{Name: name, Method: zip.Deflate, Modified: info.ModTime()}
	if slices.Contains([]string{".zip", ".png", ".jpg", ".jpeg", ".gz"}, filepath.Ext(name)) {
		header.Method = zip.Store // it would not get smaller
	}
	header.SetMode(info.Mode().Perm())
	entry, err := out.CreateHeader(header)
	if err != nil {
		return err
	}
	sum := sha256.New()
	n, err := io.Copy(io.MultiWriter(entry, sum), in)
	if err != nil {
		return err
	}
	l.Files = append(l.Files, Member{name, n, hex.EncodeToString(sum.Sum(nil)), uint32(info.Mode().Perm())})
	return nil
}

// errNone says that a file is no backup.
var errNone = problem.New(problem.Refused, "This is no backup of Missivum.")

// open opens a backup and reads its list.
func open(file string) (*zip.ReadCloser, List, error) {
	var list List
	in, err := zip.OpenReader(file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, list, problem.New(problem.NotFound, "There is no file %s.", file)
	}
	if err != nil {
		return nil, list, fmt.Errorf("%w (%w)", errNone, err)
	}
	text, err := in.Open(listName)
	if err == nil {
		err = errors.Join(json.NewDecoder(io.LimitReader(text, mostList)).Decode(&list), text.Close())
	}
	switch {
	case err != nil:
		err = fmt.Errorf("%w (%w)", errNone, err)
	case list.Form != form:
		err = problem.New(problem.Refused, "The backup has the form %d, this program reads %d: take the program that made it, version %s.",
			list.Form, form, list.Program)
	}
	if err != nil {
		return nil, list, errors.Join(err, in.Close())
	}
	return in, list, nil
}

// mostList is how large the list of a backup may be, in bytes.
const mostList = 256 << 20

// Check reads a whole backup and holds every file against its digest, and looks through the database in it.
func Check(ctx context.Context, file string) (List, error) {
	work, err := os.MkdirTemp(filepath.Dir(file), ".check-")
	if err != nil {
		return List{}, err
	}
	defer os.RemoveAll(work)
	list, err := unpack(ctx, file, func(name string) string {
		if name == Database {
			return filepath.Join(work, Database)
		}
		return "" // it is read, and not kept
	})
	if err != nil {
		return list, err
	}
	facts, err := store.Examine(ctx, filepath.Join(work, Database))
	if err != nil {
		return list, err
	}
	if len(facts.Faults) > 0 {
		return list, problem.New(problem.Refused, "The database in the backup is not sound: %s.", strings.Join(facts.Faults, "; "))
	}
	return list, nil
}

// unpack reads every file of a backup, writes it to where place says, blank for nowhere, and holds it against its digest.
func unpack(ctx context.Context, file string, place func(name string) string) (List, error) {
	in, list, err := open(file)
	if err != nil {
		return list, err
	}
	defer in.Close()
	entries := map[string]*zip.File{}
	for _, f := range in.File {
		entries[f.Name] = f
	}
	for _, member := range list.Files {
		entry := entries[member.Name]
		if entry == nil || !fs.ValidPath(member.Name) || strings.ContainsAny(member.Name, `\:`) {
			return list, problem.New(problem.Refused, "The backup is not whole: %q is missing, or no name for a file.", member.Name)
		}
		if ctx.Err() != nil {
			return list, ctx.Err()
		}
		if err := unpackOne(entry, member, place(member.Name)); err != nil {
			return list, err
		}
	}
	if !slices.ContainsFunc(list.Files, func(m Member) bool { return m.Name == Database }) {
		return list, errNone
	}
	return list, nil
}

func unpackOne(entry *zip.File, member Member, to string) error {
	in, err := entry.Open()
	if err != nil {
		return err
	}
	defer in.Close()
	sum := sha256.New()
	copied := func(w io.Writer) error { return copyMember(in, w, sum, member) }
	if to == "" {
		return copied(io.Discard)
	}
	if err := os.MkdirAll(filepath.Dir(to), 0o750); err != nil {
		return err
	}
	if err := files.Write(to, copied); err != nil {
		return store.Known(err)
	}
	return os.Chmod(to, fs.FileMode(member.Mode)&0o700|fs.FileMode(member.Mode)&0o070)
}

func copyMember(in io.Reader, w io.Writer, sum hash.Hash, member Member) error {
	n, err := io.Copy(io.MultiWriter(w, sum), io.LimitReader(in, member.Size+1))
	if err != nil || n != member.Size || hex.EncodeToString(sum.Sum(nil)) != member.SHA256 {
		return problem.New(problem.Refused, "The backup is damaged: %s is not as it was written.", member.Name)
	}
	return nil
}

// Restore reads a backup into a folder, which must be empty or not there. With replace a folder that is not empty is kept
// beside it under another name, which is given. Until all was read and found sound, nothing of the folder is touched.
func Restore(ctx context.Context, file, folder string, replace bool, now time.Time) (list List, kept string, err error) {
	folder = filepath.Clean(folder)
	held, err := os.ReadDir(folder)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return list, "", err
	}
	there := err == nil
	if len(held) > 0 && !replace {
		return list, "", problem.New(problem.Conflict,
			"The folder %s is not empty. Give another, or --replace, which keeps what is there beside it.", folder)
	}
	work, err := os.MkdirTemp(filepath.Dir(folder), ".restore-")
	if err != nil {
		return list, "", err
	}
	defer os.RemoveAll(work)
	whole := filepath.Join(work, "data")
	if list, err = unpack(ctx, file, func(name string) string { return filepath.Join(whole, filepath.FromSlash(name)) }); err != nil {
		return list, "", err
	}
	facts, err := store.Examine(ctx, filepath.Join(whole, Database))
	switch {
	case err != nil:
		return list, "", err
	case len(facts.Faults) > 0:
		return list, "", problem.New(problem.Refused, "The database in the backup is not sound: %s.", strings.Join(facts.Faults, "; "))
	case facts.Schema > facts.Known:
		return list, "", problem.New(problem.Refused,
			"The backup was made by version %s, which is newer than this program. Take that or a later one.", list.Program)
	}
	if there && len(held) == 0 {
		if err := os.Remove(folder); err != nil {
			return list, "", err
		}
	} else if there {
		kept = folder + ".before-" + now.Format("20060102-150405")
		if err := os.Rename(folder, kept); err != nil {
			return list, "", err
		}
	}
	if err := os.Rename(whole, folder); err != nil {
		if kept != "" {
			err = errors.Join(err, os.Rename(kept, folder))
		}
		return list, "", err
	}
	return list, kept, os.Chmod(folder, 0o750)
}
