// Package starter holds the templates to start from: small ones for different needs, each without anything that
// breaks in a shipped client profile. Start with All.
package starter

import (
	"embed"
	"fmt"
	"io/fs"

	"missivum/core/template"
)

//go:embed starters
var files embed.FS

// All reads the starters, sorted by name.
func All() ([]*template.Template, error) {
	folder, err := fs.Sub(files, "starters")
	if err != nil {
		return nil, err
	}
	return template.OpenAll(folder)
}

// Find reads the starter of a name.
func Find(name string) (*template.Template, error) {
	if !template.ValidName(name) {
		return nil, fmt.Errorf("there is no starter %q", name)
	}
	folder, err := fs.Sub(files, "starters/"+name)
	if err != nil {
		return nil, err
	}
	t, err := template.Open(folder, name)
	if err != nil {
		return nil, fmt.Errorf("the starter %s: %w", name, err)
	}
	return t, nil
}

// Names lists the starters' names.
func Names() ([]string, error) {
	all, err := All()
	if err != nil {
		return nil, err
	}
	var names []string
	for _, t := range all {
		names = append(names, t.Name)
	}
	return names, nil
}
