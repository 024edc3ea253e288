package pictures

import (
	"bytes"
	"fmt"
	"strings"

	"gopkg.in/yaml.v3"

	"missivum/core/picture"
	"missivum/core/template"
)

// SlicedFiles are the files of a template made of a cut design: the table, the settings that name the pieces, their
// pictures, and the map to cut anew.
func SlicedFiles(cut *picture.Sliced, m picture.SliceMap, name string) (map[string][]byte, error) {
	var b bytes.Buffer
	e := yaml.NewEncoder(&b)
	e.SetIndent(2)
	if err := e.Encode(m); err != nil {
		return nil, err
	}
	files := map[string][]byte{
		template.SourceFile: []byte(cut.Table), name + ".map.yaml": b.Bytes(),
	}
	var settings strings.Builder
	fmt.Fprintf(&settings, "title: %s\nlanguage: en\npictures:\n  files:\n", name)
	for _, p := range cut.Pieces {
		if p.Rendition == nil {
			continue
		}
		file := p.Name + picture.Ending(p.Rendition.Facts.Format)
		fmt.Fprintf(&settings, "    %s: {file: %s, alt: %q}\n", p.Name, file, p.Alt)
		files[template.PictureFolder+"/"+file] = p.Rendition.Data
	}
	files[template.SettingsFile] = []byte(settings.String())
	return files, nil
}
