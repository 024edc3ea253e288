package compose

import (
	"strings"
	"time"

	"missivum/core/person"
	"missivum/core/problem"
	"missivum/core/template"
)

// SetFiles are the files of the three formats that some clients read side by side, for one person, by their name: one
// base name with the formats' endings, and the pictures that the page shows in a folder beside them. An empty base is
// the template's name and the variant. The pictures' folder and the page fit each other, whatever the base is.
func SetFiles(t *template.Template, schema *person.Schema, day time.Time, variant, base string,
	who *person.Person) (map[string][]byte, error) {
	if base == "" {
		base = t.Name + "-" + variant
	}
	if strings.ContainsAny(base, `/\`) || strings.HasPrefix(base, ".") {
		return nil, problem.New(problem.Invalid, "The base name %q cannot be the name of files.", base).In("base")
	}
	folder := base + "-" + template.PictureFolder + "/"
	at := Below(folder)
	s, err := Compile(Source{Template: t, Schema: schema, Day: day, Variants: []string{variant}, Beside: at}, set...)
	if err != nil {
		return nil, err
	}
	files := map[string][]byte{}
	for _, form := range set {
		files[base+form.Info().Suffix] = s.Fill(variant, form, who)
	}
	page := string(files[base+HTML.Info().Suffix])
	for _, p := range s.Pictures() {
		if strings.Contains(page, at(p)) {
			files[folder+p.File] = p.Data
		}
	}
	return files, nil
}
