// Package block writes the block that a mail host appends, with the host's own placeholders, and says what is lost on
// the way and for whom it shows. A dialect is data: how a host writes placeholders. Start with Dialects and
// ExportTemplate.
package block

import (
	"embed"
	"encoding/json"
	"fmt"
	"io/fs"
	"maps"
	"slices"
	"sort"
	"strings"
	"sync"

	"missivum/core/problem"
	"missivum/core/schema"

	"github.com/santhosh-tekuri/jsonschema/v6"
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
		d, err := Parse(data)
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

//go:embed dialect.schema.json
var schemaText string

// SchemaJSON is the JSON Schema (2020-12) of a dialect.
func SchemaJSON() string { return schemaText }

var compiledSchema = sync.OnceValue(func() *jsonschema.Schema { return schema.MustCompile("dialect.json", schemaText) })

// MaxDialect is how large the file of a dialect may be, in bytes.
const MaxDialect = 256 << 10

// Parse reads a dialect from YAML or JSON and holds it against the schema. An error names the line and what is wrong there.
func Parse(data []byte) (_ *Dialect, err error) {
	defer func() { err = problem.As(problem.Refused, err) }()
	if len(data) > MaxDialect {
		return nil, problem.New(problem.TooLarge, "The dialect has more than %d kB.", MaxDialect>>10)
	}
	form, _, err := schema.Read(data, compiledSchema(), "the dialect")
	if err != nil {
		return nil, err
	}
	text, err := json.Marshal(form)
	if err != nil {
		return nil, err
	}
	d := &Dialect{}
	if err := json.Unmarshal(text, d); err != nil {
		return nil, err
	}
	seen := map[string]string{}
	for _, field := range slices.Sorted(maps.Keys(d.Names)) {
		name := d.Names[field]
		if strings.Contains(name, d.Close) {
			return nil, fmt.Errorf("the name %q of %s holds %q, which ends a placeholder", name, field, d.Close)
		}
		if other := seen[name]; other != "" {
			return nil, fmt.Errorf("%s and %s have the same name %q", other, field, name)
		}
		seen[name] = field
	}
	return d, nil
}
