package delivery

import (
	"strings"
	"time"

	"missivum/core/compose"
	"missivum/core/field"
	"missivum/core/person"
	"missivum/core/picture"
	"missivum/core/template"
)

// Addressed is a picture address in a template and the size at which it is shown there.
type Addressed struct {
	Address string          `json:"address"`
	Display picture.Display `json:"display"`
	Line    int             `json:"line"` // in the source
}

// Addresses lists the picture addresses that a template sends to readers, each once: those of its own pictures
// where they are hosted, and those that are written out. Addresses with fields in them are left out.
func Addresses(t *template.Template, schema *person.Schema, day time.Time) ([]Addressed, error) {
	prepared, err := compose.Prepare(t, schema, day, compose.Hosted(t))
	if err != nil {
		return nil, err
	}
	seen := map[string]bool{}
	var list []Addressed
	for _, img := range prepared.Doc.Root.Elements("img") {
		src, _ := img.Attr("src")
		if !askable(src) || seen[src] {
			continue
		}
		seen[src] = true
		place := prepared.Doc.Place(img.Open.Start)
		list = append(list, Addressed{Address: src,
			Display: picture.Display{Width: img.Pixels("width"), Height: img.Pixels("height")}, Line: place.Line})
	}
	return list, nil
}

// askable reports whether an address is one that can be asked as it stands.
func askable(address string) bool {
	return (strings.HasPrefix(address, "http://") || strings.HasPrefix(address, "https://")) && !field.HasField(address)
}
