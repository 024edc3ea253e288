package desk

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"sort"
	"strings"

	"missivum/core/client"
	"missivum/core/compose"
	"missivum/core/kit"
	"missivum/core/problem"
)

// Deed is what a change does.
type Deed string

// The deeds.
const (
	Folder   Deed = "folder"  // a folder is made
	Write    Deed = "write"   // a file is written, where none was
	Replace  Deed = "replace" // a file takes the place of another
	Remove   Deed = "remove"  // a file that was placed before is no longer wanted
	Set      Deed = "set"     // a settings file gets other values
	Unharmed Deed = "as it is"
)

// Change is one thing that is done to a path. What is there already is listed too, as it is.
type Change struct {
	Path     string        `json:"path"`
	Deed     Deed          `json:"deed"`
	Says     string        `json:"says"`
	ReadOnly bool          `json:"readOnly,omitempty"` // the file is read-only afterwards
	Settings []SettingEdit `json:"settings,omitempty"`
	Holds    []SettingEdit `json:"-"` // of a settings file: all values that are to stand in it
	Form     string        `json:"-"` // of one of the signature's files
	Format   string        `json:"-"` // of a settings file
	Data     []byte        `json:"-"` // of the file afterwards
	Before   []byte        `json:"-"` // of the file that is there; nil for none
	Mode     fs.FileMode   `json:"-"` // of the file that is there
	Info     fs.FileInfo   `json:"-"` // of the file that is there; nil for none
}

// SettingEdit is a value that is changed in a settings file.
type SettingEdit struct {
	Key    string `json:"key"`
	Before any    `json:"before"` // nil where the key was not there
	After  any    `json:"after"`
}

// Wanted is what is to be in a place.
type Wanted struct {
	List     kit.List
	Data     map[string][]byte // content of the kit's files, checked against the list
	System   string
	Known    Known
	Placed   []string // paths that were placed here before
	TakeOver bool     // also what somebody else wrote
	Marker   string   // text that was typed beforehand into the file that is meant
}

// Plan is what would be done in a place.
type Plan struct {
	Place   string   `json:"place"`
	Folder  string   `json:"folder"`
	Changes []Change `json:"changes"`
}

// Idle reports whether everything is already as it should be.
func (p Plan) Idle() bool {
	return !slices.ContainsFunc(p.Changes, func(c Change) bool { return c.Deed != Unharmed })
}

// Make plans what puts a kit in its place. Nothing is changed. The error is a problem that lists everything that stands in
// the way, a line each.
func Make(disk Disk, f Found, w Wanted) (Plan, error) {
	m := &planner{disk: disk, found: f, wanted: w, plan: Plan{Place: f.Place.ID, Folder: f.Folder, Changes: []Change{}}}
	if w.List.Client != "" && w.List.Client != f.Place.Client {
		return m.plan, problem.New(problem.Refused, "The kit is for the client %s; %s is a place of %s.", w.List.Client,
			f.Place.ID, f.Place.Client)
	}
	m.folders()
	if len(m.wrong) == 0 {
		if w.List.Way == client.WrappedFile {
			m.wrapped()
		} else {
			m.files()
		}
		m.choose()
	}
	if len(m.wrong) > 0 {
		return Plan{Place: f.Place.ID, Folder: f.Folder, Changes: []Change{}}, problem.New(problem.Refused, "%s", strings.Join(m.wrong, "\n"))
	}
	return m.plan, nil
}

// planner collects changes and what stands in their way.
type planner struct {
	disk   Disk
	found  Found
	wanted Wanted
	plan   Plan
	wrong  []string
}

// refuse notes something that stands in the way.
func (m *planner) refuse(form string, args ...any) {
	m.wrong = append(m.wrong, fmt.Sprintf(form, args...))
}

// folders looks at the client's folder and those below it that files go into: none may be a link, which could lead elsewhere.
func (m *planner) folders() {
	wanted := []string{m.found.Folder}
	at := m.found.Folder
	for _, name := range strings.Split(m.found.Place.Signatures, "/") {
		if name != "" {
			at = path.Join(at, name)
			wanted = append(wanted, at)
		}
	}
	if m.wanted.List.Way != client.WrappedFile {
		for _, f := range m.wanted.List.Files {
			if folder := path.Dir(f.File); folder != "." && !slices.Contains(wanted, path.Join(at, folder)) {
				wanted = append(wanted, path.Join(at, folder))
			}
		}
	}
	for _, folder := range wanted {
		info, err := m.disk.Lstat(folder)
		switch {
		case isMissing(err):
			m.add(Change{Path: folder, Deed: Folder, Says: "made"})
		case err != nil:
			m.refuse("%s cannot be looked at: %v.", folder, reason(err))
		case info.Mode()&fs.ModeSymlink != 0:
			m.refuse("%s is a link, which may lead elsewhere.", folder)
		case !info.IsDir():
			m.refuse("%s is no folder.", folder)
		}
		m.otherCase(folder)
	}
}

// otherCase refuses a name of which another spelling is there: on some systems both are one.
func (m *planner) otherCase(name string) {
	entries, err := m.disk.ReadDir(path.Dir(name))
	if err != nil {
		return // what is wrong with the folder is said elsewhere
	}
	base := path.Base(name)
	for _, e := range entries {
		if e.Name() != base && strings.EqualFold(e.Name(), base) {
			m.refuse("%s is there, which differs from %s in letter case only.", path.Join(path.Dir(name), e.Name()), base)
		}
	}
}

func (m *planner) add(c Change) { m.plan.Changes = append(m.plan.Changes, c) }

// files plans a kit's own files: pictures first, so that no page is ever without them.
func (m *planner) files() {
	order := slices.Clone(m.wanted.List.Files)
	sort.SliceStable(order, func(i, j int) bool { return order[i].Form == "picture" && order[j].Form != "picture" })
	wanted := map[string]bool{}
	for _, f := range order {
		name := path.Join(m.found.signatures(), f.File)
		wanted[name] = true
		m.file(name, f.Form, m.wanted.Data[f.File])
	}
	m.removals(wanted)
}

// file plans one file.
func (m *planner) file(name, form string, data []byte) {
	readOnly := m.wanted.List.ReadOnly && form != "picture"
	c, ok := m.there(name)
	if !ok {
		return
	}
	m.otherCase(name)
	c.Data, c.ReadOnly, c.Form = data, readOnly, form
	digest, ours := m.wanted.Known(name)
	switch {
	case c.Info == nil:
		c.Deed, c.Says = Write, "written"
	case bytes.Equal(c.Before, data) && (!readOnly || c.Mode&0o222 == 0):
		c.Deed, c.Says, c.ReadOnly = Unharmed, "as it should be", c.Mode&0o222 == 0
		if !ours && !m.wanted.TakeOver {
			c.Says = "as it should be, though somebody else put it there"
		}
	case ours:
		c.Deed, c.Says = Replace, "replaced"
		if digestOf(c.Before) != digest {
			c.Says = "replaced; it was altered since it was placed"
		}
	case m.wanted.TakeOver:
		c.Deed, c.Says = Replace, "taken over; what was there is kept"
	default:
		m.refuse("%s is there and was not placed by this program; --take-over replaces it and keeps what was there.", name)
		return
	}
	if c.Deed == Replace && c.Mode&0o222 == 0 {
		c.ReadOnly = true // what was read-only stays so
	}
	if c.Deed == Write || c.Deed == Replace {
		if c.ReadOnly {
			c.Says += ", read-only"
		}
	}
	m.add(c)
}

// there reads what is at a path that a file goes to.
func (m *planner) there(name string) (Change, bool) {
	c := Change{Path: name}
	info, err := m.disk.Lstat(name)
	switch {
	case isMissing(err):
		return c, true
	case err != nil:
		m.refuse("%s cannot be looked at: %v.", name, reason(err))
	case info.Mode()&fs.ModeSymlink != 0:
		m.refuse("%s is a link, which may lead elsewhere.", name)
	case !info.Mode().IsRegular():
		m.refuse("%s is no file.", name)
	default:
		data, err := m.disk.ReadFile(name)
		if err != nil {
			m.refuse("%s cannot be read: %v.", name, reason(err))
			return c, false
		}
		c.Before, c.Mode, c.Info = data, info.Mode(), info
		return c, true
	}
	return c, false
}

// removals plans to take away what was placed here before and is not in the kit.
func (m *planner) removals(wanted map[string]bool) {
	for _, name := range m.wanted.Placed {
		if wanted[name] {
			continue
		}
		c, ok := m.there(name)
		if !ok || c.Info == nil {
			continue
		}
		c.Deed, c.Says = Remove, "removed; it is no longer in the kit"
		m.add(c)
	}
}

// wrapped plans the body of the client's own file.
func (m *planner) wrapped() {
	var parts []kit.Listed
	for _, f := range m.wanted.List.Files {
		if f.Form == string(compose.MIME) {
			parts = append(parts, f)
		}
	}
	if len(parts) == 0 { // no signature: what was placed stays until the client's choice changes
		m.removals(map[string]bool{})
		return
	}
	if len(parts) > 1 {
		m.refuse("The kit has %d wrapped files; the client has one.", len(parts))
		return
	}
	files, err := m.found.files(m.disk)
	if err != nil {
		m.refuse("%s cannot be read: %v.", m.found.signatures(), reason(err))
		return
	}
	name, why, err := m.found.meant(m.disk, files, m.wanted.Known, m.wanted.Marker)
	if err != nil {
		m.refuse("%s", err.Error())
		return
	}
	_, ours := m.wanted.Known(name)
	if !ours && !m.wanted.TakeOver && !strings.Contains(why, "the text ") {
		m.refuse("%s is meant (%s) and was not placed by this program; --take-over replaces its body and keeps what was there.", name, why)
		return
	}
	c, ok := m.there(name)
	if !ok {
		return
	}
	page, err := compose.Body(m.wanted.Data[parts[0].File])
	if err == nil {
		c.Data, err = compose.ReplaceBody(c.Before, page)
	}
	if err != nil {
		m.refuse("%s: %v.", name, err)
		return
	}
	c.Form, c.ReadOnly = parts[0].Form, m.wanted.List.ReadOnly || c.Mode&0o222 == 0
	if bytes.Equal(c.Data, c.Before) && c.ReadOnly == (c.Mode&0o222 == 0) {
		c.Deed, c.Says = Unharmed, "as it should be"
	} else {
		c.Deed, c.Says = Replace, "body replaced below its header lines, read-only ("+why+")"
	}
	m.add(c)
	m.removals(map[string]bool{name: true})
}

// choose plans the settings that hold which signature is used.
func (m *planner) choose() {
	c := m.found.Place.Choice
	if c == nil {
		return
	}
	name := path.Join(m.found.Folder, c.File)
	change, ok := m.there(name)
	if !ok {
		return
	}
	change.Format = c.Format
	s, _, err := m.found.choice(m.disk)
	if err != nil {
		m.refuse("%s", err.Error())
		return
	}
	star, err := accountOf(s, c, m.wanted.List.Person)
	if err != nil {
		m.refuse("%s: %s", name, err.Error())
		return
	}
	for _, situation := range []string{"new", "reply"} {
		for _, setting := range m.switched(c, situation) {
			key := strings.ReplaceAll(setting.Key, "*", star)
			before, there, err := s.format.get(s.text, key)
			change.Holds = append(change.Holds, SettingEdit{key, nil, setting.Value})
			if err == nil && there && fmt.Sprint(before) == fmt.Sprint(setting.Value) {
				continue
			}
			if err == nil {
				err = s.set(key, setting.Value)
			}
			if err != nil {
				m.refuse("%s: %s", name, err.Error())
				return
			}
			change.Settings = append(change.Settings, SettingEdit{key, before, setting.Value})
		}
	}
	if change.Data, err = s.data(); err != nil {
		m.refuse("%s: %v.", name, err)
		return
	}
	switch {
	case len(change.Settings) == 0:
		change.Deed, change.Says = Unharmed, "the choice is as it should be"
	case change.Info == nil:
		change.Deed, change.Says = Write, "written, to be imported"
	default:
		change.Deed = Set
		var says []string
		for _, e := range change.Settings {
			says = append(says, fmt.Sprintf("%s = %v", e.Key, e.After))
		}
		change.Says = "set " + strings.Join(says, ", ")
	}
	change.ReadOnly = change.Info != nil && change.Mode&0o222 == 0
	m.add(change)
}

// switched gives what is set for a situation, with the names of the kit's files in it.
func (m *planner) switched(c *Choice, situation string) []Setting {
	sw := c.New
	if situation == "reply" {
		sw = c.Reply
	}
	if sw == nil {
		return nil
	}
	base, said := m.wanted.List.Use[situation]
	if !said {
		base = m.wanted.List.Use["new"] // the client's kits have one signature for all
	}
	if base == "" {
		return sw.Off
	}
	file := base
	for _, f := range m.wanted.List.Files {
		if f.Form != "picture" && strings.TrimSuffix(f.File, path.Ext(f.File)) == base {
			file = f.File
			break
		}
	}
	full := path.Join(m.found.signatures(), file)
	if m.wanted.System == Windows {
		full = strings.ReplaceAll(full, "/", `\`)
	}
	names := strings.NewReplacer("{base}", base, "{file}", file, "{path}", full, "{mail}", m.wanted.List.Person)
	var list []Setting
	for _, s := range sw.On {
		if text, is := s.Value.(string); is {
			s.Value = names.Replace(text)
		}
		list = append(list, s)
	}
	return list
}

// isMissing reports whether an error says that nothing is there.
func isMissing(err error) bool { return errors.Is(err, fs.ErrNotExist) }

// reason is an error without the path, which stands before it already.
func reason(err error) error {
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err
	}
	return err
}
