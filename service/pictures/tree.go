package pictures

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"missivum/core/problem"
	"missivum/core/template"
	"missivum/service/files"
)

// Planted is one file of a picture tree.
type Planted struct {
	File    string `json:"file"`    // below the tree
	Address string `json:"address"` // that templates use
	Bytes   int    `json:"bytes"`
	Written bool   `json:"written"` // false when it was there
}

// Tree lists the files that a template's addresses lead to, below the folder that is served at its hosting
// address.
func Tree(t *template.Template) ([]Planted, map[string][]byte, error) {
	address, naming := t.Hosting()
	if address == "" {
		return nil, nil, problem.New(problem.Refused,
			"The template %s has no pictures.address, so it is not known where its pictures will be hosted", t.Name)
	}
	contents := map[string][]byte{}
	var list []Planted
	for i := range t.Pictures {
		p := &t.Pictures[i]
		name := p.HostedName(naming)
		if _, ok := contents[name]; ok {
			continue
		}
		contents[name] = p.Data
		list = append(list, Planted{File: name, Address: address + name, Bytes: len(p.Data)})
	}
	return list, contents, nil
}

// Plant writes a template's picture tree into a folder for any static web server. Files that are there with the
// same content stay; those of older versions are never removed. A file with other content is only replaced when
// replace is set: messages already sent show it.
func Plant(t *template.Template, folder string, replace bool) ([]Planted, error) {
	list, contents, err := Tree(t)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return nil, err
	}
	for i := range list {
		name := filepath.Join(folder, filepath.FromSlash(list[i].File))
		have, err := os.ReadFile(name)
		switch {
		case err == nil && slices.Equal(have, contents[list[i].File]):
			continue
		case err == nil && !replace:
			return list, fmt.Errorf("%s is there with another content, and messages already sent show it; name the "+
				"pictures by their content (pictures.naming: content), or replace it knowingly", name)
		case err != nil && !errors.Is(err, os.ErrNotExist):
			return list, err
		}
		if err := files.WriteBytes(name, contents[list[i].File]); err != nil {
			return list, err
		}
		list[i].Written = true
	}
	return list, nil
}

// Restore writes the one file of a tree that an address leads to; false when the address is none of the template's.
func Restore(t *template.Template, address, folder string) (bool, error) {
	list, contents, err := Tree(t)
	if err != nil {
		return false, err
	}
	for _, p := range list {
		if p.Address == address {
			if err := os.MkdirAll(folder, 0o755); err != nil {
				return false, err
			}
			return true, files.WriteBytes(filepath.Join(folder, filepath.FromSlash(p.File)), contents[p.File])
		}
	}
	return false, nil
}
