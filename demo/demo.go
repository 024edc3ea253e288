// Package demo is the demo organisation, Brackwater Ferries: its people, templates and pictures, all
// made up, and a generator for directories of any size.
package demo

import (
	"bytes"
	"embed"
	"fmt"
	"io/fs"
	"strings"

	"missivum/core/addon"
	"missivum/core/audience"
	"missivum/core/person"
	"missivum/core/source"
	"missivum/core/template"

	"github.com/goccy/go-yaml"
)

//go:embed rules.yaml people.csv people.mapping.yaml audiences.yaml assignments.yaml sites.yaml templates pictures clients
var files embed.FS

// PeopleCSV is the demo directory as a file.
func PeopleCSV() ([]byte, error) { return files.ReadFile("people.csv") }

// Mapping says which fields the columns of the demo directory are.
func Mapping() (source.Mapping, error) {
	data, err := files.ReadFile("people.mapping.yaml")
	if err != nil {
		return source.Mapping{}, err
	}
	return source.ReadMapping(data, nil)
}

// Directory reads the demo directory.
func Directory() (*person.Directory, error) {
	data, err := PeopleCSV()
	if err != nil {
		return nil, err
	}
	mapping, err := Mapping()
	if err != nil {
		return nil, err
	}
	d, bad, err := source.ReadCSV(bytes.NewReader(data), mapping)
	if err == nil && len(bad) > 0 {
		err = bad[0]
	}
	return d, err
}

// Audiences are the demo's groups of people.
func Audiences() (list []audience.Audience, err error) {
	err = read("audiences.yaml", &list)
	return list, err
}

// Assignments say who gets which template in which situation.
func Assignments() ([]audience.Assignment, error) {
	var f struct {
		Lines []audience.Assignment `yaml:"lines"`
	}
	err := read("assignments.yaml", &f)
	return f.Lines, err
}

// Sites are the webmails in which the browser add-on places signatures.
func Sites() ([]addon.Site, error) {
	data, err := files.ReadFile("sites.yaml")
	if err != nil {
		return nil, err
	}
	return addon.ReadSites(data)
}

// read reads a YAML file.
func read(name string, into any) error {
	data, err := files.ReadFile(name)
	if err != nil {
		return err
	}
	return yaml.Unmarshal(data, into)
}

// Clients are the demo's own client profiles: the documents by id.
func Clients() (map[string][]byte, error) {
	entries, err := files.ReadDir("clients")
	if err != nil {
		return nil, err
	}
	list := map[string][]byte{}
	for _, e := range entries {
		if list[strings.TrimSuffix(e.Name(), ".yaml")], err = files.ReadFile("clients/" + e.Name()); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// Pictures are the demo's originals by file name.
func Pictures() (map[string][]byte, error) {
	entries, err := files.ReadDir("pictures")
	if err != nil {
		return nil, err
	}
	list := map[string][]byte{}
	for _, e := range entries {
		if list[e.Name()], err = files.ReadFile("pictures/" + e.Name()); err != nil {
			return nil, err
		}
	}
	for name, file := range shown {
		if list[name], err = files.ReadFile("templates/harbour/pictures/" + file); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// shown are the originals that templates show as they are, by the file that they have there.
var shown = map[string]string{"logo.png": "logo.png", "winter-banner.png": "banner.png"}

// Templates reads the demo templates, sorted by name.
func Templates() ([]*template.Template, error) {
	folder, err := fs.Sub(files, "templates")
	if err != nil {
		return nil, err
	}
	return template.OpenAll(folder)
}

// Template reads one demo template.
func Template(name string) (*template.Template, error) {
	sub, err := fs.Sub(files, "templates/"+name)
	if err != nil {
		return nil, err
	}
	t, err := template.Open(sub, name)
	if err != nil {
		return nil, fmt.Errorf("demo template %s: %w", name, err)
	}
	return t, nil
}

// Rules is the demo's mail rules as they are written.
func Rules() string {
	text, err := files.ReadFile("rules.yaml")
	if err != nil {
		panic(err) // it is embedded
	}
	return string(text)
}
