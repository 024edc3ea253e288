package desk

import (
	"bytes"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"sort"
	"strings"
	"time"

	"missivum/core/kit"
	"missivum/core/problem"
)

// Disk is what is looked at. Paths have slashes on every system.
type Disk interface {
	// Lstat says what is at a path, without following a link there. The error is fs.ErrNotExist for nothing.
	Lstat(name string) (fs.FileInfo, error)
	ReadDir(name string) ([]fs.FileInfo, error)
	ReadFile(name string) ([]byte, error)
	// Match gives the paths that a pattern (path.Match, name by name) leads to.
	Match(pattern string) ([]string, error)
}

// Found is a folder of a client that is there.
type Found struct {
	Place  *Place
	Folder string
}

// signatures is the folder in which the client's signatures are.
func (f Found) signatures() string { return path.Join(f.Folder, f.Place.Signatures) }

// Key names what was found: the place and the folder.
func (f Found) Key() string { return f.Place.ID + " " + f.Folder }

// Find gives the folders of clients that are on a disk, by place and path. A folder without the settings file that the client
// keeps its choice in is none of the client's.
func Find(disk Disk, places []*Place, system string, variable func(string) (string, bool)) ([]Found, error) {
	var list []Found
	for _, p := range places {
		for _, pattern := range p.Patterns(system, variable) {
			folders, err := disk.Match(pattern)
			if err != nil {
				return nil, err
			}
			sort.Strings(folders)
			for _, folder := range folders {
				if f := (Found{p, folder}); f.there(disk) && !slices.Contains(list, f) {
					list = append(list, f)
				}
			}
		}
	}
	return list, nil
}

// there reports whether a folder is the client's.
func (f Found) there(disk Disk) bool {
	info, err := disk.Lstat(f.Folder)
	if err != nil || !info.IsDir() && info.Mode()&fs.ModeSymlink == 0 {
		return false
	}
	if c := f.Place.Choice; c != nil && !c.Make {
		_, err = disk.Lstat(path.Join(f.Folder, c.File))
	}
	return err == nil
}

// Signature is a signature file that is there.
type Signature struct {
	File     string    `json:"file"` // below the folder of signatures
	Changed  time.Time `json:"changed"`
	Bytes    int64     `json:"bytes"`
	ReadOnly bool      `json:"readOnly"`
	Ours     bool      `json:"ours"`            // placed by this program
	Meant    string    `json:"meant,omitempty"` // why it is the one that is meant; blank for others
}

// Used is what a settings file says of a situation.
type Used struct {
	Situation string `json:"situation"`
	Key       string `json:"key"`
	Value     string `json:"value"` // blank where nothing is set
}

// Looked is what is in a place.
type Looked struct {
	Place      string      `json:"place"`
	Client     string      `json:"client"`
	Folder     string      `json:"folder"`
	Signatures []Signature `json:"signatures"`
	Uses       []Used      `json:"uses"`
	Notes      []string    `json:"notes"` // what cannot be read, and why
}

// Known says whether a file was placed by this program, and with which digest.
type Known func(name string) (digest string, ours bool)

// Look says what is in a place. mail picks the account where the client has several.
func Look(disk Disk, f Found, known Known, mail string) Looked {
	l := Looked{Place: f.Place.ID, Client: f.Place.Client, Folder: f.Folder, Signatures: []Signature{}, Uses: []Used{}, Notes: []string{}}
	files, err := f.files(disk)
	if err != nil {
		l.Notes = append(l.Notes, err.Error())
	}
	meant, why, err := f.meant(disk, files, known, "")
	if err != nil && len(f.Place.Meant) > 0 {
		l.Notes = append(l.Notes, err.Error())
	}
	for _, info := range files {
		name := path.Join(f.signatures(), info.Name())
		_, ours := known(name)
		s := Signature{File: info.Name(), Changed: info.ModTime(), Bytes: info.Size(), ReadOnly: info.Mode()&0o200 == 0, Ours: ours}
		if name == meant {
			s.Meant = why
		}
		l.Signatures = append(l.Signatures, s)
	}
	if f.Place.Choice != nil {
		uses, err := f.uses(disk, mail)
		l.Uses = append(l.Uses, uses...)
		if err != nil {
			l.Notes = append(l.Notes, err.Error())
		}
	}
	return l
}

// files are the signature files of a place, by name.
func (f Found) files(disk Disk) ([]fs.FileInfo, error) {
	all, err := disk.ReadDir(f.signatures())
	if isMissing(err) {
		return nil, nil
	}
	var list []fs.FileInfo
	for _, info := range all {
		matches := len(f.Place.Files) == 0 || slices.ContainsFunc(f.Place.Files, func(p string) bool { return fits(p, info.Name()) })
		if info.Mode().IsRegular() && matches && !strings.HasPrefix(info.Name(), Half) {
			list = append(list, info)
		}
	}
	return list, err
}

// fits reports whether a name fits a pattern, whatever the letter case of its ending.
func fits(pattern, name string) bool {
	ok, _ := path.Match(strings.ToLower(pattern), strings.ToLower(name)) // Parse saw to it that the pattern can be read
	return ok
}

// Half begins the names of files that are being placed.
const Half = ".missivum-"

// meant finds the file that is meant among a client's own: one that was placed before, or by the rules of the place, of which
// the first that leads to exactly one file counts. marker is a text that was typed beforehand; blank for that of the place.
func (f Found) meant(disk Disk, files []fs.FileInfo, known Known, marker string) (name, why string, err error) {
	var ours []string
	for _, info := range files {
		at := path.Join(f.signatures(), info.Name())
		if _, is := known(at); is {
			ours = append(ours, at)
		}
	}
	if len(ours) == 1 {
		return ours[0], "it was placed before", nil
	}
	rules := f.Place.Meant
	if marker != "" {
		rules = append([]Meant{{Marker: marker}}, rules...)
	}
	var tried []string
	for _, rule := range rules {
		found, says := f.byRule(disk, files, rule)
		if len(found) == 1 {
			return found[0], says, nil
		}
		tried = append(tried, fmt.Sprintf("%d where %s", len(found), says))
	}
	if len(tried) == 0 {
		return "", "", problem.New(problem.Refused, "%s: it is not said how the file that is meant is recognised.", f.Place.ID)
	}
	return "", "", problem.New(problem.Refused, "%s: it is not clear which file is meant: %s.", f.signatures(), strings.Join(tried, ", "))
}

// byRule gives the files that a rule leads to.
func (f Found) byRule(disk Disk, files []fs.FileInfo, rule Meant) (found []string, says string) {
	switch {
	case rule.Name != "":
		says = "the name is " + rule.Name
		for _, info := range files {
			if fits(rule.Name, info.Name()) {
				found = append(found, path.Join(f.signatures(), info.Name()))
			}
		}
	case rule.Marker != "":
		says = "the text " + rule.Marker + " stands in it"
		for _, info := range files {
			at := path.Join(f.signatures(), info.Name())
			if data, err := disk.ReadFile(at); err == nil && bytes.Contains(data, []byte(rule.Marker)) {
				found = append(found, at)
			}
		}
	default:
		says = "it was changed last"
		var newest time.Time
		for _, info := range files {
			at := path.Join(f.signatures(), info.Name())
			if info.ModTime().After(newest) {
				found, newest = []string{at}, info.ModTime()
			} else if info.ModTime().Equal(newest) {
				found = append(found, at)
			}
		}
	}
	return found, says
}

// uses reads what the client uses.
func (f Found) uses(disk Disk, mail string) ([]Used, error) {
	c := f.Place.Choice
	s, _, err := f.choice(disk)
	if err != nil {
		return nil, err
	}
	star, err := accountOf(s, c, mail)
	if err != nil {
		return nil, err
	}
	var list []Used
	for _, one := range []struct {
		situation string
		sw        *Switch
	}{{"new", c.New}, {"reply", c.Reply}} {
		if one.sw == nil {
			continue
		}
		for _, setting := range one.sw.On {
			key := strings.ReplaceAll(setting.Key, "*", star)
			value, there, err := s.format.get(s.text, key)
			if err != nil {
				return list, err
			}
			u := Used{Situation: one.situation, Key: key}
			if there {
				u.Value = fmt.Sprint(value)
			}
			list = append(list, u)
		}
	}
	return list, nil
}

// choice opens the settings file that holds the choice; data is nil for one that is to be made.
func (f Found) choice(disk Disk) (s *settings, data []byte, err error) {
	c := f.Place.Choice
	name := path.Join(f.Folder, c.File)
	data, err = disk.ReadFile(name)
	if isMissing(err) && c.Make {
		return newSettings(c.Format), nil, nil
	}
	if err != nil {
		return nil, nil, problem.New(problem.Refused, "%s cannot be read: %v.", name, reason(err))
	}
	if s, err = openSettings(c.Format, data); err != nil {
		return nil, nil, fmt.Errorf("%s: %w", name, err)
	}
	return s, data, nil
}

// accountOf gives what * in keys stands for; blank where keys have none.
func accountOf(s *settings, c *Choice, mail string) (string, error) {
	if c.Where == nil {
		return "", nil
	}
	where := *c.Where
	where.Value = strings.ReplaceAll(where.Value, "{mail}", mail)
	return s.account(where)
}

// digestOf is the digest of a file's content; blank where there is none to read.
func digestOf(data []byte) string { return kit.Digest(data) }
