package template

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"maps"
	"slices"
	"strings"

	"golang.org/x/text/language"

	"missivum/core/person"
	"missivum/core/problem"
)

// Organisation is what an organisation says for all of its templates. What a template says itself wins.
type Organisation struct {
	Constants map[string]string       `json:"constants,omitempty" yaml:"constants,omitempty"` // for {{ org.name }}
	Texts     map[string]person.Texts `json:"texts,omitempty" yaml:"texts,omitempty"`         // by language, for {{ text.name }}
	Language  string                  `json:"language,omitempty" yaml:"language,omitempty"`   // BCP 47
	Country   string                  `json:"country,omitempty" yaml:"country,omitempty"`     // two letters
}

// Limits of what an organisation says.
const (
	mostConstants   = 200
	longestConstant = 10_000 // characters
)

// Check refuses what templates could not use.
func (o Organisation) Check() error {
	if len(o.Constants) > mostConstants || len(o.Texts) > mostConstants {
		return problem.New(problem.Invalid, "There can be %d constants and %d texts.", mostConstants, mostConstants).In("constants")
	}
	for name, value := range o.Constants {
		if !person.ValidName(name) {
			return problem.New(problem.Invalid,
				"constants: %q cannot be a name; use letters, digits and hyphens, a letter first.", name).In("constants")
		}
		if len([]rune(value)) > longestConstant {
			return problem.New(problem.Invalid, "constants: %s is longer than %d characters.", name, longestConstant).In("constants")
		}
	}
	if o.Language != "" {
		if _, err := language.Parse(o.Language); err != nil {
			return problem.New(problem.Invalid, "%q is no language; write it as en or pt-BR (BCP 47).", o.Language).In("language")
		}
	}
	if o.Country != "" && (len(o.Country) != 2 || strings.ToUpper(o.Country) != o.Country) {
		return problem.New(problem.Invalid, "The country %q must be two capital letters, such as GB.", o.Country).In("country")
	}
	for name, texts := range o.Texts {
		if !person.ValidName(name) {
			return problem.New(problem.Invalid, "texts: %q cannot be a name; use letters, digits and hyphens, a letter first.", name).In("texts")
		}
		if o.Language == "" {
			return problem.New(problem.Invalid, "Texts need the organisation's language, for people whose own has no text.").In("language")
		}
		if texts.In(o.Language) == "" {
			return problem.New(problem.Invalid, "texts: %s has no text in the organisation's language, %s.", name, o.Language).In("texts")
		}
		for tag, text := range texts {
			if _, err := language.Parse(tag); err != nil || len([]rune(text)) > longestConstant {
				return problem.New(problem.Invalid, "texts: %s: %q is no language, or its text is longer than %d characters.", name, tag,
					longestConstant).In("texts")
			}
		}
	}
	return nil
}

// Digest tells one state of what an organisation says from another; blank where it says nothing.
func (o Organisation) Digest() string {
	text, err := json.Marshal(o)
	if err != nil {
		panic(err) // texts can always be written
	}
	if string(text) == "{}" {
		return ""
	}
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:])[:12]
}

// within puts what the organisation says under the template's own settings.
func (s *Settings) within(o Organisation) {
	if len(o.Constants) > 0 {
		own := s.Organisation
		s.Organisation = maps.Clone(o.Constants)
		maps.Copy(s.Organisation, own)
	}
	if len(o.Texts) > 0 {
		own := s.Texts
		s.Texts = maps.Clone(o.Texts)
		maps.Copy(s.Texts, own)
	}
	if s.Language == "" {
		s.Language = o.Language
	}
	if s.Country == "" {
		s.Country = o.Country
	}
}

// From is where a value of a template comes from.
type From string

// The places.
const (
	FromTemplate     From = "template"     // its own settings
	FromOrganisation From = "organisation" // the organisation's
)

// Value is a value that a template uses and does not take from the directory.
type Value struct {
	Name  string `json:"name"` // org.company, text.disclaimer, language, country
	Value string `json:"value"`
	From  From   `json:"from"`
}

// Values lists the constants and texts that a template names, with its language and country, and where each comes from.
func (t *Template) Values() []Value {
	list := []Value{}
	names := func(name string) bool {
		if strings.Contains(t.Source, name) {
			return true
		}
		for _, text := range t.Texts {
			if strings.Contains(text, name) {
				return true
			}
		}
		return false
	}
	add := func(name, value string, own bool) {
		from := FromOrganisation
		if own {
			from = FromTemplate
		}
		list = append(list, Value{name, value, from})
	}
	for _, name := range slices.Sorted(maps.Keys(t.Settings.Organisation)) {
		if names("org." + name) {
			_, own := t.own.Organisation[name]
			add("org."+name, t.Settings.Organisation[name], own)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(t.Settings.Texts)) {
		if names("text." + name) {
			_, own := t.own.Texts[name]
			add("text."+name, t.Settings.Texts[name].In(t.Settings.Languages()...), own)
		}
	}
	if s := t.Settings; s.Language != "" {
		add("language", s.Language, t.own.Language != "")
	}
	if s := t.Settings; s.Country != "" {
		add("country", s.Country, t.own.Country != "")
	}
	return list
}
