// Package desk decides what happens on a desk: where a client keeps its signatures (places, as data), what is there, which file
// is meant, and what would be changed to put a kit in its place. It looks at a disk that it is given and changes nothing; the
// package desk beside core does what is planned. Start with Place, Look and Make.
package desk

import (
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"sort"
	"strings"
	"sync"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"missivum/core/problem"
	"missivum/core/schema"
)

// Place says where a client keeps its signatures on a desk.
type Place struct {
	ID         string              `json:"id"`
	Title      string              `json:"title"`
	About      string              `json:"about,omitempty"`
	Client     string              `json:"client"`  // the client profile whose kits go here
	Folders    map[string][]string `json:"folders"` // patterns of the client's own folder, by system
	Signatures string              `json:"signatures,omitempty"`
	Files      []string            `json:"files,omitempty"` // patterns of signature files
	Meant      []Meant             `json:"meant,omitempty"`
	Running    Running             `json:"running,omitzero"`
	Choice     *Choice             `json:"choice,omitempty"`
}

// Meant is a way to recognise the file that is meant; one of the members is set.
type Meant struct {
	Name   string `json:"name,omitempty"`
	Marker string `json:"marker,omitempty"`
	Newest bool   `json:"newest,omitempty"`
}

// Running is how it is known that the client runs.
type Running struct {
	Processes []string `json:"processes,omitempty"`
	Lock      string   `json:"lock,omitempty"`
}

// Choice is the settings file in which a client keeps which signature it uses.
type Choice struct {
	File   string  `json:"file"`
	Make   bool    `json:"make,omitempty"`
	Format string  `json:"format"`
	Where  *Where  `json:"where,omitempty"`
	New    *Switch `json:"new,omitempty"`
	Reply  *Switch `json:"reply,omitempty"`
}

// Where picks the account whose settings count.
type Where struct {
	Key   string `json:"key"`
	Value string `json:"value"`
}

// Switch is what is written for a signature, and for none.
type Switch struct {
	On  []Setting `json:"on"`
	Off []Setting `json:"off,omitempty"`
}

// Setting is a key and its value: a text, a truth value or a whole number.
type Setting struct {
	Key   string `json:"key"`
	Value any    `json:"value"`
}

// The systems that places know.
const (
	Linux   = "linux"
	MacOS   = "macos"
	Windows = "windows"
)

//go:embed place.schema.json
var schemaText string

//go:embed places/*.yaml
var shipped embed.FS

// SchemaJSON is the JSON Schema (2020-12) of a place.
func SchemaJSON() string { return schemaText }

var compiledSchema = sync.OnceValue(func() *jsonschema.Schema { return schema.MustCompile("place.json", schemaText) })

// Parse reads a place from YAML or JSON and holds it against the schema. An error names the line and what is wrong there.
func Parse(data []byte) (_ *Place, err error) {
	defer func() { err = problem.As(problem.Invalid, err) }()
	form, _, err := schema.Read(data, compiledSchema(), "the place")
	if err != nil {
		return nil, err
	}
	encoded, err := json.Marshal(form)
	if err != nil {
		return nil, err
	}
	p := &Place{}
	if err := json.Unmarshal(encoded, p); err != nil {
		return nil, err
	}
	return p, p.check()
}

// check refuses what the schema cannot say.
func (p *Place) check() error {
	patterns := slices.Clone(p.Files)
	for _, list := range p.Folders {
		patterns = append(patterns, list...)
	}
	for _, m := range p.Meant {
		patterns = append(patterns, m.Name)
	}
	for _, pattern := range patterns {
		if _, err := path.Match(pattern, ""); err != nil {
			return fmt.Errorf("the pattern %q cannot be read", pattern)
		}
	}
	below := []string{p.Signatures, p.Running.Lock}
	if p.Choice != nil {
		below = append(below, p.Choice.File)
	}
	for _, name := range below {
		if name != "" && !fs.ValidPath(name) {
			return fmt.Errorf("%q leads outside the client's folder", name)
		}
	}
	if c := p.Choice; c != nil && c.New == nil && c.Reply == nil {
		return errors.New("the choice sets nothing: it needs new or reply")
	}
	return nil
}

// Shipped lists the places that come with the program, by id.
var Shipped = sync.OnceValue(func() []*Place {
	var list []*Place
	names, _ := fs.Glob(shipped, "places/*.yaml")
	for _, name := range names {
		data, err := shipped.ReadFile(name)
		if err != nil {
			panic(err)
		}
		p, err := Parse(data)
		if err != nil {
			panic(name + ": " + err.Error()) // a test reads them all
		}
		list = append(list, p)
	}
	return list
})

// With gives the shipped places with others over them, from files by name: one with the id of another takes its place.
func With(files map[string][]byte) ([]*Place, error) {
	list := slices.Clone(Shipped())
	var errs []error
	for _, name := range sortedNames(files) {
		p, err := Parse(files[name])
		if err != nil {
			errs = append(errs, fmt.Errorf("%s: %w", name, err))
			continue
		}
		list = append(slices.DeleteFunc(list, func(other *Place) bool { return other.ID == p.ID }), p)
	}
	sort.Slice(list, func(i, j int) bool { return list[i].ID < list[j].ID })
	return list, errors.Join(errs...)
}

func sortedNames(files map[string][]byte) []string {
	var names []string
	for name := range files {
		names = append(names, name)
	}
	sort.Strings(names)
	return names
}

// Patterns gives the patterns of the client's folder on a system, with variables replaced. A pattern with a variable that is
// not set is left out. The paths have slashes.
func (p *Place) Patterns(system string, variable func(string) (string, bool)) []string {
	var list []string
	for _, pattern := range p.Folders[system] {
		complete := true
		var b strings.Builder
		for rest := pattern; rest != ""; {
			before, after, found := strings.Cut(rest, "${")
			b.WriteString(before)
			if !found {
				break
			}
			name, behind, closed := strings.Cut(after, "}")
			value, set := variable(name)
			if !closed || !set || value == "" {
				complete = false
				break
			}
			b.WriteString(quoted(strings.ReplaceAll(value, `\`, "/")))
			rest = behind
		}
		if complete {
			list = append(list, b.String())
		}
	}
	return list
}

// quoted keeps the signs of patterns in a value of a variable from being read as such.
func quoted(value string) string {
	return strings.NewReplacer("*", `\*`, "?", `\?`, "[", `\[`).Replace(value)
}
