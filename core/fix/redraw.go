package fix

import (
	"bytes"
	"fmt"
	"slices"

	"missivum/core/check"
	"missivum/core/picture"
	"missivum/core/template"
)

// with is the template with another source and with the pictures that fixes make. An error says which picture cannot be
// made, or what is wrong with the settings then.
func with(t *template.Template, source string, redraws []check.Redraw) (*template.Template, error) {
	if len(redraws) == 0 {
		return withSource(t, source), nil
	}
	parts := t.Parts()
	parts.Source = source
	for _, r := range redraws {
		data, err := drawn(t, r)
		if err != nil {
			return nil, fmt.Errorf("%s cannot be made: %w", r.File, err)
		}
		parts.Pictures[r.File] = data
		if r.Name == "" {
			continue
		}
		setting := template.PictureSetting{File: r.File, Alt: r.Alt}
		if parts.Settings, err = template.WithSetting(parts.Settings, setting, "pictures", "files", r.Name); err != nil {
			return nil, err
		}
	}
	made, err := template.New(t.Name, parts)
	if err != nil {
		return nil, err
	}
	made.Public, made.Bare = t.Public, t.Bare
	return made, nil
}

// drawn are the bytes of a picture that a fix makes.
func drawn(t *template.Template, r check.Redraw) ([]byte, error) {
	data := r.Data
	if r.From != "" {
		i := slices.IndexFunc(t.Pictures, func(p template.Picture) bool { return p.File == r.From })
		if i < 0 {
			return nil, fmt.Errorf("there is no picture %s", r.From)
		}
		data = t.Pictures[i].Data
	}
	if r.Recipe == nil {
		return data, nil
	}
	rendition, err := picture.Fit(data, *r.Recipe)
	if err != nil {
		return nil, err
	}
	return rendition.Data, nil
}

// changedPictures are the files of a template that another has not, or has with other bytes.
func changedPictures(before, after *template.Template) map[string][]byte {
	old := before.Parts().Pictures
	changed := map[string][]byte{}
	for _, p := range after.Pictures {
		if !bytes.Equal(old[p.File], p.Data) {
			changed[p.File] = p.Data
		}
	}
	return changed
}
