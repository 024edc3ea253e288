// Package block writes the block that a mail host appends, with the host's own placeholders, and says what is lost on
// the way and for whom it shows. A dialect is data: how a host writes placeholders. Start with Dialects and
// ExportTemplate.
package block

import (
	"bytes"
	"embed"
	"fmt"
	"io/fs"
	"sort"
	"sync"

	"gopkg.in/yaml.v3"

	"missivum/core/problem"
)

// Dialect is a host's way to write placeholders, as data.
type Dialect struct {
	ID    string `yaml:"id" json:"id"`
	Title string `yaml:"title" json:"title"`
	About string `yaml:"about" json:"about"`
	// Example marks a dialect that no host has: it shows what a block looks like.
	Example bool              `yaml:"example" json:"example"`
	Open    string            `yaml:"open" json:"open"`
	Close   string            `yaml:"close" json:"close"`
	Limit   int               `yaml:"limit" json:"limit"` // UTF-16 units of a block; 0 is none
	Names   map[string]string `yaml:"names" json:"names"` // the host's name for each field
}

//go:embed dialects/*.yaml
var shipped embed.FS

// Dialects lists the dialects that come with the program, sorted by id.
var Dialects = sync.OnceValue(func() []*Dialect {
	var list []*Dialect
	names, _ := fs.Glob(shipped, "dialects/*.yaml")
	for _, name := range names {
		data, err := shipped.ReadFile(name)
		if err != nil {
			panic(err)
		}
		d, err := parseDialect(data)
		if err != nil {
			panic(name + ": " + err.Error()) // a test reads them all
		}
		list = append(list, d)
	}
	sort.Slice(list, func(i, j int) bool { return list[i].ID < list[j].ID })
	return list
})

// Find returns the dialect with an id, or nil.
func Find(id string) *Dialect {
	for _, d := range Dialects() {
		if d.ID == id {
			return d
		}
	}
	return nil
}

// parseDialect reads a dialect from YAML.
func parseDialect(data []byte) (_ *Dialect, err error) {
	defer func() { err = problem.As(problem.Refused, err) }()
	d := &Dialect{}
	decoder := yaml.NewDecoder(bytes.NewReader(data))
	decoder.KnownFields(true)
	if err := decoder.Decode(d); err != nil {
		return nil, err
	}
	if d.ID == "" || d.Title == "" || d.Open == "" || d.Close == "" || len(d.Names) == 0 {
		return nil, fmt.Errorf("a dialect needs id, title, open, close and names")
	}
	return d, nil
}
