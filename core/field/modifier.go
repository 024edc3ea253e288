package field

import (
	"slices"
	"strings"

	"github.com/rivo/uniseg"
	"golang.org/x/text/cases"
	"golang.org/x/text/language"

	"missivum/core/person"
)

// ModifierKind describes one modifier.
type ModifierKind struct {
	Name     string `json:"name"`
	Argument string `json:"argument,omitempty"` // what its quoted text means; empty when it takes none
	Doc      string `json:"doc"`
	Example  string `json:"example"` // an expression
	Input    string `json:"input"`   // the field's value in the example
	Output   string `json:"output"`
	Takes    Type   `json:"takes"`
	Gives    Type   `json:"gives"`

	raw     bool                        // as the first modifier it gets the value with its line ends
	accepts func(argument string) error // nil: any argument will do
	apply   func(env *env, value, argument string) string
}

// Type is what kind of value a modifier takes or gives.
type Type string

// The types.
const (
	typeText   Type = "text"   // any text
	typeField  Type = "field"  // the field's own value, not yet changed to something else
	typeNumber Type = "number" // a telephone number as people read it
	typeSame   Type = "same"   // as it was taken
)

// env is what modifiers may know of the person beside the value.
type env struct {
	Country  string // two letters (ISO 3166), for numbers without a country code
	Language string // BCP 47; the person's, or the first of those that stand in for it

	home    string                 // country of what is not a person's
	casers  map[string]cases.Caser // by way and language
	numbers *Numbers
}

// cased changes the letters of a value by the rules of the person's language.
func (env *env) cased(name, value string) string {
	key := name + " " + env.Language
	caser, ok := env.casers[key]
	if !ok {
		tag := language.Make(env.Language)
		switch name {
		case "upper":
			caser = cases.Upper(tag)
		case "lower":
			caser = cases.Lower(tag)
		default:
			caser = cases.Title(tag)
		}
		if env.casers == nil {
			env.casers = map[string]cases.Caser{}
		}
		env.casers[key] = caser
	}
	return caser.String(value)
}

// ModifierKinds lists the modifiers in the order of the reference.
func ModifierKinds() []ModifierKind { return modifierKinds }

// modifierNames lists their names.
func modifierNames() []string {
	var names []string
	for _, k := range modifierKinds {
		names = append(names, k.Name)
	}
	return names
}

// modifierKind finds a modifier by name.
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
		Name: "phone", Takes: typeField, Gives: typeNumber,
		Doc: "The number as people read it, with its country code (ITU-T E.123). A number without a country " +
			"code is taken to be of the person's country (field c). What is not certainly one number stays as it is.",
		Example: "{{ mobile | phone }}", Input: "07700900142", Output: "+44 7700 900142",
		apply: func(env *env, value, _ string) string { return env.formatted(value, person.Telephone.International) },
	},
	{
		Name: "dial", Takes: typeField, Gives: typeText,
		Doc: "The number as a telephone dials it (E.164, with ;ext= before an extension), for tel: addresses. What is " +
			"not certainly one number makes no link: the text of the link stays, the link around it goes.",
		Example: "{{ mobile | dial }}", Input: "07700 900142", Output: "+447700900142",
		apply: func(env *env, value, _ string) string { return env.formatted(value, person.Telephone.Dial) },
	},
	{
		Name: "national", Takes: typeField, Gives: typeNumber,
		Doc:     "The number as people of its own country read it. What is not certainly one number stays as it is.",
		Example: "{{ mobile | national }}", Input: "+44 7700 900142", Output: "07700 900142",
		apply: func(env *env, value, _ string) string { return env.formatted(value, person.Telephone.National) },
	},
	{
		Name: "separated", Takes: typeNumber, Gives: typeSame, Argument: "what stands between the groups of a number",
		Doc:     "Another sign between the groups of a number, for use behind phone or national.",
		Example: "{{ mobile | phone | separated '.' }}", Input: "07700 900142", Output: "+44.7700.900142",
		apply: func(env *env, value, separator string) string {
			if _, ok := env.number(value); !ok {
				return value
			}
			groups := strings.FieldsFunc(value, func(r rune) bool { return strings.ContainsRune(" -./\u00a0", r) })
			return strings.Join(groups, separator)
		},
	},
	{
		Name: "upper", Takes: typeText, Gives: typeSame, Doc: "Capital letters, by the rules of the person's language (field preferredLanguage).",
		Example: "{{ sn | upper }}", Input: "Grauß", Output: "GRAUSS",
		apply: func(env *env, value, _ string) string { return env.cased("upper", value) },
	},
	{
		Name: "lower", Takes: typeText, Gives: typeSame, Doc: "Small letters, by the rules of the person's language.",
		Example: "{{ mail | lower }}", Input: "Maren.Lind@Brackwater.Example", Output: "maren.lind@brackwater.example",
		apply: func(env *env, value, _ string) string { return env.cased("lower", value) },
	},
	{
		Name: "capital", Takes: typeText, Gives: typeSame,
		Doc:     "A capital letter at the beginning of each word and small ones behind it, by the rules of the person's language.",
		Example: "{{ title | capital }}", Input: "HEAD OF TIMETABLES", Output: "Head Of Timetables",
		apply: func(env *env, value, _ string) string { return env.cased("capital", value) },
	},
	{
		Name: "initials", Takes: typeText, Gives: typeText,
		Doc:     "The first letter of each word, as capitals by the rules of the person's language.",
		Example: "{{ cn | initials }}", Input: "Maren Øvergaard Lind", Output: "MØL",
		apply: func(env *env, value, _ string) string {
			var b strings.Builder
			for _, word := range strings.Fields(value) {
				first, _, _, _ := uniseg.FirstGraphemeClusterInString(word, -1)
				b.WriteString(first)
			}
			return env.cased("upper", b.String())
		},
	},
	{
		Name: "lines", Takes: typeField, Gives: typeText, Argument: "what stands between the lines",
		Doc: "A postal address on one line: its lines are parted by dollar signs (RFC 4517, 3.3.28) or line " +
			"ends, and blank ones are left out.",
		Example: "{{ postalAddress | lines ', ' }}", Input: "1 Tide Quay$$Brackwater$BW1 4TQ", Output: "1 Tide Quay, Brackwater, BW1 4TQ",
		raw: true,
		apply: func(_ *env, value, separator string) string {
			var lines []string
			for _, line := range strings.FieldsFunc(value, func(r rune) bool { return r == '$' || r == '\n' }) {
				line = strings.NewReplacer(`\24`, "$", `\5C`, `\`, `\5c`, `\`).Replace(line)
				if line = person.Clean(line); line != "" {
					lines = append(lines, line)
				}
			}
			return strings.Join(lines, separator)
		},
	},
	{
		Name: "date", Takes: typeField, Gives: typeText, Argument: "short, medium, long, full or a pattern of Unicode TR 35",
		Doc: "A day in the person's language. It is read from 2027-03-14 (RFC 3339) or 20270314093000Z (RFC " +
			"4517, 3.3.13); what is no day stays as it is. A pattern has y, yy, M, MM, MMM, MMMM, d, dd, EEE and " +
			"EEEE; other signs stand for themselves.",
		Example: "{{ hireDate | date 'long' }}", Input: "2027-03-14", Output: "14 March 2027",
		accepts: acceptDatePattern, apply: formatDate,
	},
	{
		Name: "percent", Takes: typeText, Gives: typeText,
		Doc:     "Percent-encoding (RFC 3986, 2.1) of all but unreserved letters and signs, for a text that shows an address.",
		Example: "{{ cn | percent }}", Input: "Maren Lind", Output: "Maren%20Lind",
		apply: func(_ *env, value, _ string) string { return string(appendPercent(nil, value, partSafe)) },
	},
	{
		Name: "or", Takes: typeText, Gives: typeSame, Argument: "the text to show when the field is blank",
		Doc:     "A fallback text for a blank field.",
		Example: "{{ title | or 'Crew' }}", Input: "", Output: "Crew",
		apply: func(_ *env, value, argument string) string {
			if value == "" {
				return argument
			}
			return value
		},
	},
}

// Telephone reports whether the expression is shown or dialled as a telephone number.
func (e *Expr) Telephone() bool { return e.has("phone", "dial", "national") }

// Day reports whether the expression is shown as a day.
func (e *Expr) Day() bool { return e.has("date") }

// encoded reports whether the value comes percent-encoded.
func (e *Expr) encoded() bool {
	n := len(e.Modifiers)
	return n > 0 && e.Modifiers[n-1].Name == "percent"
}

// has reports whether a field goes through one of the modifiers.
func (e *Expr) has(names ...string) bool {
	return len(e.Fields) > 0 && slices.ContainsFunc(e.Modifiers, func(m Modifier) bool { return slices.Contains(names, m.Name) })
}

// countryCode is the person's country where it is one.
func countryCode(country, standard string) string {
	if country = strings.ToUpper(person.Clean(country)); len(country) == 2 {
		return country
	}
	return standard
}
