package field

import (
	"strings"

	"github.com/nyaruka/phonenumbers"
	"github.com/rivo/uniseg"
	"golang.org/x/text/cases"
	"golang.org/x/text/language"
)

// ModifierKind describes one modifier.
type ModifierKind struct {
	Name     string `json:"name"`
	Argument string `json:"argument,omitempty"` // what its quoted text means; empty when it takes none
	Doc      string `json:"doc"`
	Example  string `json:"example"` // an expression
	Input    string `json:"input"`   // the field's value in the example
	Output   string `json:"output"`

	apply func(env *Env, value, argument string) string
}

// Env is what modifiers may know of the person beside the value.
type Env struct {
	Country  string // two letters (ISO 3166), for numbers without a country code
	Language string // BCP 47

	upper   map[string]cases.Caser
	numbers map[string]*phonenumbers.PhoneNumber // of one person; nil for what is not a number
}

// number reads a telephone number once per person, however often it is shown.
func (env *Env) number(value string) *phonenumbers.PhoneNumber {
	if n, ok := env.numbers[value]; ok {
		return n
	}
	n, err := phonenumbers.Parse(value, env.Country)
	if err != nil {
		n = nil
	}
	if env.numbers == nil {
		env.numbers = map[string]*phonenumbers.PhoneNumber{}
	}
	env.numbers[value] = n
	return n
}

// ModifierKinds lists the modifiers in the order of the reference.
func ModifierKinds() []ModifierKind { return modifierKinds }

// ModifierNames lists their names.
func ModifierNames() []string {
	var names []string
	for _, k := range modifierKinds {
		names = append(names, k.Name)
	}
	return names
}

func modifierKind(name string) *ModifierKind {
	for i := range modifierKinds {
		if modifierKinds[i].Name == name {
			return &modifierKinds[i]
		}
	}
	return nil
}

var modifierKinds = []ModifierKind{
	{
		Name: "phone", Doc: "The number as people read it, with its country code (ITU-T E.123). A number without a country code is taken to be of the person's country (field c). What is not a number stays as it is.",
		Example: "{{ mobile | phone }}", Input: "07700900142", Output: "+44 7700 900142",
		apply: func(env *Env, value, _ string) string {
			number := env.number(value)
			if number == nil {
				return value
			}
			return phonenumbers.Format(number, phonenumbers.INTERNATIONAL)
		},
	},
	{
		Name: "dial", Doc: "The number as a telephone dials it (E.164), for tel: addresses. What is not a number keeps its digits and a leading plus sign only.",
		Example: "{{ mobile | dial }}", Input: "07700 900142", Output: "+447700900142",
		apply: func(env *Env, value, _ string) string {
			number := env.number(value)
			if number == nil {
				return digits(value)
			}
			return phonenumbers.Format(number, phonenumbers.E164)
		},
	},
	{
		Name: "upper", Doc: "Capital letters, by the rules of the person's language (field preferredLanguage).",
		Example: "{{ sn | upper }}", Input: "Grauß", Output: "GRAUSS",
		apply: func(env *Env, value, _ string) string {
			if env.upper == nil {
				env.upper = map[string]cases.Caser{}
			}
			caser, ok := env.upper[env.Language]
			if !ok {
				caser = cases.Upper(language.Make(env.Language))
				env.upper[env.Language] = caser
			}
			return caser.String(value)
		},
	},
	{
		Name: "initials", Doc: "The first letter of each word, as capitals.",
		Example: "{{ cn | initials }}", Input: "Maren Øvergaard Lind", Output: "MØL",
		apply: func(env *Env, value, _ string) string {
			var b strings.Builder
			for _, word := range strings.Fields(value) {
				first, _, _, _ := uniseg.FirstGraphemeClusterInString(word, -1)
				b.WriteString(strings.ToUpper(first))
			}
			return b.String()
		},
	},
	{
		Name: "or", Argument: "the text to show when the field is blank",
		Doc:     "A stand-by text for a blank field.",
		Example: "{{ title | or 'Crew' }}", Input: "", Output: "Crew",
		apply: func(_ *Env, value, argument string) string {
			if value == "" {
				return argument
			}
			return value
		},
	},
}

func digits(s string) string {
	var b strings.Builder
	for _, r := range s {
		if r >= '0' && r <= '9' || r == '+' && b.Len() == 0 {
			b.WriteRune(r)
		}
	}
	return b.String()
}
