package desk

import (
	"archive/zip"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"strings"

	"missivum/core/client"
	"missivum/core/desk"
	"missivum/core/kit"
	"missivum/core/problem"
)

// Kit is a kit that is trusted, with its files.
type Kit struct {
	kit.List
	Digest string // of the list
	Data   map[string][]byte
	Parts  map[string][]byte // pictures that are written into its files, by digest: kept, so that they are not fetched again
}

// mostKits is how many kits a package may hold that are looked through for somebody's.
const mostKits = 1_000_000

// OpenKit opens a kit: a folder with the list, or one of the folders of a package (a folder or a zip file) of which the list
// is for a person, by mail address, or which is named after them, by login name. The list's signature and every file's digest
// are checked before anything is given.
func OpenKit(name, who string, trusted kit.Trusted) (Kit, error) {
	info, err := os.Stat(name)
	if err != nil {
		return Kit{}, fmt.Errorf("the kit cannot be read: %w", err)
	}
	if info.IsDir() {
		return findKit(os.DirFS(name), name, who, trusted)
	}
	z, err := zip.OpenReader(name)
	if err != nil {
		return Kit{}, problem.New(problem.Refused, "%s is neither a folder nor a zip file with kits: %v.", name, err)
	}
	defer z.Close()
	return findKit(z, name, who, trusted)
}

// findKit finds a person's kit.
func findKit(files fs.FS, name, who string, trusted kit.Trusted) (Kit, error) {
	if _, err := fs.Stat(files, kit.ListFile); err == nil {
		k, err := openKit(files, trusted)
		if err == nil && who != "" && strings.Contains(who, "@") && !strings.EqualFold(k.Person, who) {
			return k, problem.New(problem.Refused, "The kit in %s is for %s and not for %s.", name, k.Person, who)
		}
		return k, inKit(name, err)
	}
	entries, err := fs.ReadDir(files, ".")
	if err != nil {
		return Kit{}, fmt.Errorf("the kits cannot be read: %w", err)
	}
	if len(entries) > mostKits {
		return Kit{}, problem.New(problem.TooLarge, "%s has more than %d folders.", name, mostKits)
	}
	if who == "" {
		return Kit{}, problem.New(problem.Invalid, "%s holds kits of several people; say whose with --person.", name)
	}
	for _, e := range entries { // a folder of that name first: it is the usual case, and costs one look
		if e.IsDir() && strings.EqualFold(e.Name(), who) {
			return openFolder(files, name, e.Name(), trusted)
		}
	}
	for _, e := range entries {
		if !e.IsDir() {
			continue
		}
		text, err := readLimited(files, path.Join(e.Name(), kit.ListFile), kit.MaxList)
		if err != nil || !strings.Contains(strings.ToLower(string(text)), strings.ToLower(who)) {
			continue
		}
		if k, err := openFolder(files, name, e.Name(), trusted); err != nil || strings.EqualFold(k.Person, who) {
			return k, err
		}
	}
	return Kit{}, problem.New(problem.NotFound, "There is no kit for %s in %s.", who, name)
}

// openFolder opens the kit in one of a package's folders.
func openFolder(files fs.FS, name, folder string, trusted kit.Trusted) (Kit, error) {
	sub, err := fs.Sub(files, folder)
	if err != nil {
		return Kit{}, err
	}
	k, err := openKit(sub, trusted)
	return k, inKit(name+"/"+folder, err)
}

// inKit names the kit in an error.
func inKit(name string, err error) error {
	if err == nil {
		return nil
	}
	return fmt.Errorf("%s: %w", name, err)
}

// openKit opens a kit's folder.
func openKit(files fs.FS, trusted kit.Trusted) (Kit, error) {
	list, err := readLimited(files, kit.ListFile, kit.MaxList)
	if err != nil {
		return Kit{}, problem.As(problem.Refused, err)
	}
	sign, err := readLimited(files, kit.SignFile, 1<<10)
	if errors.Is(err, fs.ErrNotExist) {
		return Kit{}, problem.New(problem.Refused, "The kit is not signed: it has no %s.", kit.SignFile)
	}
	if err != nil {
		return Kit{}, problem.As(problem.Refused, err)
	}
	return Trusted(list, sign, trusted, func(f kit.Listed) ([]byte, error) { return readLimited(files, f.File, f.Bytes) })
}

// Trusted opens a kit of which the files come from anywhere.
func Trusted(list, sign []byte, trusted kit.Trusted, file func(kit.Listed) ([]byte, error)) (Kit, error) {
	opened, err := trusted.Open(list, sign)
	if err != nil {
		return Kit{}, err
	}
	k := Kit{List: opened, Digest: kit.Digest(list), Data: map[string][]byte{}}
	for _, f := range opened.Files {
		data, err := file(f)
		if errors.Is(err, fs.ErrNotExist) {
			return Kit{}, problem.New(problem.Refused, "%s is in the kit's list, but not there.", f.File)
		}
		if err != nil {
			return Kit{}, err
		}
		if err := f.Check(data); err != nil {
			return Kit{}, err
		}
		k.Data[f.File] = data
	}
	return k, nil
}

// readLimited reads a file that must not be larger than a number of bytes.
func readLimited(files fs.FS, name string, most int) ([]byte, error) {
	f, err := files.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, int64(most)+1))
	if err == nil && len(data) > most {
		return nil, problem.New(problem.Refused, "%s is larger than its list says.", name)
	}
	return data, err
}

// Fits reports whether a kit is for a client's place.
func (k Kit) Fits(p *desk.Place) bool {
	if k.Client != "" {
		return k.Client == p.Client
	}
	known := client.Find(p.Client)
	return known != nil && known.Install.Way == k.Way
}
