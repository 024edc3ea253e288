package template

import "maps"

// Draft is what somebody changed of a template, such as in an editor. What is left out stays as it is.
type Draft struct {
	Source   *string           `json:"source"`
	Settings *string           `json:"settings"`
	Texts    map[string]string `json:"texts"`    // by file; all of them
	Pictures map[string][]byte `json:"pictures"` // files that are new or other than before, by name

	whole bool // nothing of what was there stays
}

// Whole is a draft that takes the place of a whole template, pictures and all.
func Whole(p Parts) Draft {
	d := Draft{Source: &p.Source, Settings: &p.Settings, Texts: p.Texts, Pictures: p.Pictures, whole: true}
	if d.Texts == nil {
		d.Texts = map[string]string{}
	}
	return d
}

// Empty reports whether nothing was changed.
func (d Draft) Empty() bool {
	return d.Source == nil && d.Settings == nil && d.Texts == nil && len(d.Pictures) == 0 && !d.whole
}

// Over is the parts of a template with the draft's changes.
func (d Draft) Over(p Parts) Parts {
	if d.Source != nil {
		p.Source = *d.Source
	}
	if d.Settings != nil {
		p.Settings = *d.Settings
	}
	if d.Texts != nil {
		p.Texts = d.Texts
	}
	pictures := map[string][]byte{}
	if !d.whole {
		maps.Copy(pictures, p.Pictures)
	}
	maps.Copy(pictures, d.Pictures)
	p.Pictures = pictures
	return p
}
