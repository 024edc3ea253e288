// Package client holds the profiles of mail clients as data: what a family of clients keeps, changes, drops and limits,
// each statement with its basis. Files go in, checked against a schema; profiles come out, those of an organisation over
// those that come with the program. core/journey interprets them. Start with Shipped, Book and Profile.
package client

import (
	"embed"
	"encoding/json"
	"fmt"
	"io/fs"
	"missivum/core/schema"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/santhosh-tekuri/jsonschema/v6"
)

// Severity says how bad something is.
type Severity string

// The severities, worst first.
const (
	Breaks   Severity = "breaks"   // layout or content is lost
	Degrades Severity = "degrades" // looks different, still right
	Note     Severity = "note"     // good to know
)

// Worse reports whether s is worse than other.
func (s Severity) Worse(other Severity) bool { return s.rank() > other.rank() }

func (s Severity) rank() int {
	switch s {
	case Breaks:
		return 3
	case Degrades:
		return 2
	case Note:
		return 1
	}
	return 0
}

// Basis says how a profile's statement is known.
type Basis string

// The bases.
const (
	Measured  Basis = "measured"  // against an engine or sanitiser that the tests run
	Published Basis = "published" // long and widely documented
	Assumed   Basis = "assumed"
)

// Stage is a stage of a signature's journey.
type Stage string

// The stages in their order.
const (
	Install Stage = "install"
	Send    Stage = "send"
	Receive Stage = "receive"
	Render  Stage = "render"
)

// Stages lists the stages in the order of the journey.
var Stages = []Stage{Install, Send, Receive, Render}

// Profile describes one family of mail clients.
type Profile struct {
	ID         string       `json:"id"`
	BasedOn    string       `json:"based-on,omitempty"` // the profile that this one overrides entries of
	Title      string       `json:"title"`
	About      string       `json:"about"`
	Off        bool         `json:"off,omitempty"`   // not asked about unless it is named
	Share      float64      `json:"share,omitempty"` // of the organisation's readers, percent; 0: not said
	Form       string       `json:"form"`            // "html" or "text"
	Width      int          `json:"width,omitempty"` // px
	Install    Installation `json:"install"`
	Pictures   *Pictures    `json:"pictures,omitempty"` // nil where markup is not shown
	Dark       *Dark        `json:"dark,omitempty"`     // nil: nothing is recoloured
	Limits     []Limit      `json:"limits,omitempty"`
	Behaviours []Behaviour  `json:"behaviours,omitempty"`
}

// Dark says what a client's dark mode does to the colours of a message.
type Dark struct {
	As       string `json:"as"`       // partial or full
	Declared bool   `json:"declared"` // a message that declares both schemes is left alone
	Says     string `json:"says"`
	Basis    Basis  `json:"basis"`
}

// The ways to recolour. Kept is that of a client that leaves a message's colours alone.
const (
	Partial = "partial" // light backgrounds and dark text are swapped, others stay
	Full    = "full"    // every colour of text and background is turned over
)

// Pasted reports whether a signature gets into the client by copying it from a browser and pasting it.
func (p *Profile) Pasted() bool { return p.Install.Way == PasteRender }

// Installation says how a signature gets into the client.
type Installation struct {
	Way     string `json:"way"`               // the id of a Way
	Dialect string `json:"dialect,omitempty"` // of the host's placeholders
	Desk    *Desk  `json:"desk,omitempty"`    // of ways that place files: what differs from what is usual for the way
}

// Pictures says what becomes of pictures in a client.
type Pictures struct {
	Hosted  Arrival        `json:"hosted"`
	Carried Arrival        `json:"carried"`
	Data    Arrival        `json:"data"`
	Formats PictureFormats `json:"formats"`
	SizedBy []string       `json:"sized-by"` // attributes, styles: what the display size is taken from
	Unsized string         `json:"unsized"`  // pixels or tag: what is rendered where no size is honoured
	Best    Multiple       `json:"multiple"`
}

// Arrival is how pictures that go in one way are met by the reader.
type Arrival struct {
	As    string `json:"as"` // shown, blocked (until allowed), attached or lost
	Says  string `json:"says"`
	Basis Basis  `json:"basis"`
}

// The arrivals.
const (
	Shown          = "shown"
	Blocked        = "blocked"
	Attached       = "attached"
	PictureDropped = "dropped"
)

// HostedPicture is the structure of a picture by address whose tag does not ask the client that sends it to leave it
// where it is hosted.
const HostedPicture = "hosted-picture"

// SendsAlong reports whether the client, when it sends, carries pictures that are hosted unless their tag says nosend,
// and on what basis that is said.
func (p *Profile) SendsAlong() (Basis, bool) {
	for _, b := range p.Behaviours {
		if b.Stage == Send && b.Match.Structure == HostedPicture {
			return b.Basis, true
		}
	}
	return "", false
}

// WayArrival is a way for pictures to go, and how they arrive by it.
type WayArrival struct {
	Way string
	Arrival
}

// Ways lists how pictures arrive, by the way that they go.
func (p *Pictures) Ways() []WayArrival {
	return []WayArrival{{"hosted", p.Hosted}, {"carried", p.Carried}, {"data", p.Data}}
}

// PictureFormats are those that a client renders.
type PictureFormats struct {
	Rendered  []string `json:"rendered"`
	Animation string   `json:"animation"` // plays or first-frame
	Basis     Basis    `json:"basis"`
}

// Multiple is how many pixels for each px of the display size look best.
type Multiple struct {
	Best  int    `json:"best"`
	Says  string `json:"says"`
	Basis Basis  `json:"basis"`
}

// Multiple is how many pixels for each px a picture should have here when its size is written as attributes, as
// styles or both: where the size is not taken from what is written, the true pixels are rendered, and only one is
// right unless the tag says otherwise. The second result says why.
func (p *Pictures) Multiple(written ...string) (int, string) {
	for _, w := range written {
		for _, by := range p.SizedBy {
			if w == by {
				return p.Best.Best, p.Best.Says
			}
		}
	}
	if p.Unsized == "tag" {
		return 1, "the size as written is not honoured; the true pixels are rendered, scaled by the resolution tag to 96 per inch"
	}
	return 1, "the size as written is not honoured and the true pixels are rendered"
}

// Measure is what a limit counts.
type Measure string

// The measures.
const (
	Characters   Measure = "characters"    // UTF-16 units of the stored markup
	Bytes        Measure = "bytes"         // UTF-8 bytes of the stored markup
	PictureBytes Measure = "picture-bytes" // bytes of the pictures shown
	Columns      Measure = "columns"       // of the longest line of the text form
)

// Units counts the UTF-16 units of UTF-8 text, as mail clients and hosts count characters: one for each
// letter, and two for those beyond the basic plane, whose first byte is F0 to F4.
func Units[T string | []byte](text T) int {
	n := 0
	for i := range len(text) {
		switch b := text[i]; {
		case b >= 0x80 && b < 0xc0: // goes with the byte before
		case b >= 0xf0 && b <= 0xf4:
			n += 2
		default:
			n++
		}
	}
	return n
}

// Unit is what the measure's figures are counted in, for people.
func (m Measure) Unit() string {
	switch m {
	case Characters:
		return "characters"
	case Columns:
		return "columns"
	}
	return "bytes"
}

// Limit is one limit of a client.
type Limit struct {
	Measure  Measure  `json:"measure"`
	Max      int      `json:"max"`
	Severity Severity `json:"severity"`
	Says     string   `json:"says"`
	Basis    Basis    `json:"basis"`
}

// Behaviour is one thing that a client does.
type Behaviour struct {
	ID       string   `json:"id"`
	Stage    Stage    `json:"stage"`
	Match    Match    `json:"match"`
	Does     Action   `json:"does"`
	Check    string   `json:"check,omitempty"` // the check that reports it
	Severity Severity `json:"severity,omitempty"`
	Says     string   `json:"says,omitempty"`
	While    string   `json:"while,omitempty"` // blocked: only until the reader allows pictures
	To       string   `json:"to,omitempty"`    // rewritten: the new name or value, * stands for the old one
	Adds     *Adds    `json:"adds,omitempty"`  // added, and rewritten with a structure: what
	Basis    Basis    `json:"basis"`
}

// Adds is an attribute or a declaration that a client adds where the element has none or, when it rewrites, puts in the place
// of what it has.
type Adds struct {
	Attribute string `json:"attribute,omitempty"`
	Property  string `json:"property,omitempty"`
	Value     string `json:"value"`
}

// Match says what a behaviour is about.
type Match struct {
	Elements   []string `json:"elements,omitempty"`
	Attributes []string `json:"attributes,omitempty"`
	Properties []string `json:"properties,omitempty"`
	Except     []string `json:"except,omitempty"` // names that are left out: with *, what is allowed
	Values     []string `json:"values,omitempty"`
	Part       string   `json:"part,omitempty"` // only this component of the value
	PartExcept []string `json:"part-except,omitempty"`
	Units      []string `json:"units,omitempty"`   // units and functions of values; number: a bare one
	Colours    []string `json:"colours,omitempty"` // forms of colours in values
	AtRules    []string `json:"at-rules,omitempty"`
	Selectors  []string `json:"selectors,omitempty"` // kinds of selectors that only a sheet can carry
	Fonts      []string `json:"fonts,omitempty"`     // with unknown-font: those that the client has
	Texts      []string `json:"texts,omitempty"`     // runs of characters in text
	Above      int      `json:"above,omitempty"`     // with structures of a size: from where on, px or levels
	Below      int      `json:"below,omitempty"`
	On         []string `json:"on,omitempty"`
	NotOn      []string `json:"not-on,omitempty"`
	Schemes    []string `json:"schemes,omitempty"`
	Structure  string   `json:"structure,omitempty"`
}

// Action is what happens to what matches.
type Action string

// The actions.
const (
	Dropped   Action = "dropped"   // removed with all in it
	Unwrapped Action = "unwrapped" // the tags removed, the content kept
	Ignored   Action = "ignored"   // kept, but not honoured when rendered
	Refused   Action = "refused"   // not accepted
	Honoured  Action = "honoured"  // done as it asks (conditional comments)
	Rewritten Action = "rewritten" // turned into something else
	Added     Action = "added"     // something stands there that was not written
	Kept      Action = "kept"      // stays, with a consequence worth saying
)

//go:embed profiles/*.yaml
var shipped embed.FS

//go:embed profile.schema.json
var schemaText string

// SchemaJSON is the JSON Schema (2020-12) of a profile.
func SchemaJSON() string { return schemaText }

var compiledSchema = sync.OnceValue(func() *jsonschema.Schema { return schema.MustCompile("profile.json", schemaText) })

// Shipped lists the profiles that come with the program, sorted by id.
var Shipped = sync.OnceValue(func() []*Profile {
	files := map[string][]byte{}
	names, _ := fs.Glob(shipped, "profiles/*.yaml")
	for _, name := range names {
		data, err := shipped.ReadFile(name)
		if err != nil {
			panic(err)
		}
		files[name] = data
	}
	book, err := Book{}.With(files)
	if err != nil {
		panic(err) // a test reads them all
	}
	return book
})

// Find returns the shipped profile with an id, or nil.
func Find(id string) *Profile { return Book(Shipped()).Find(id) }

// Select returns the shipped profiles with the ids, all of them for no id.
func Select(ids []string) ([]*Profile, error) { return Book(Shipped()).Select(ids) }

// IDs lists the ids of profiles.
func IDs(profiles []*Profile) []string {
	ids := make([]string, len(profiles))
	for i, p := range profiles {
		ids[i] = p.ID
	}
	return ids
}

// Parse reads a profile from YAML or JSON and holds it against the schema. An error names the line
// and what is wrong there; all faults are reported at once. A profile based on another overrides entries of one in
// the book.
func (b Book) Parse(data []byte) (*Profile, error) {
	form, node, err := schema.Read(data, compiledSchema(), "the profile")
	if err != nil {
		return nil, err
	}
	members, ok := form.(map[string]any)
	if based, is := members["based-on"].(string); ok && is {
		base := b.Find(based)
		if base == nil {
			return nil, fmt.Errorf("line %d: there is no client profile %q to base this on; there are %s",
				schema.LineOf(node, []string{"based-on"}), based, strings.Join(IDs(b), ", "))
		}
		var err error
		if form, err = overridden(base, members); err != nil {
			return nil, err
		}
	}
	p := &Profile{}
	return p, p.from(form)
}

// from fills the profile from the decoded form of a file.
func (p *Profile) from(form any) error {
	encoded, err := json.Marshal(form)
	if err != nil {
		return err
	}
	return json.Unmarshal(encoded, p)
}

// String is the match as one line for people.
func (m Match) String() string {
	var parts []string
	add := func(what string, names []string) {
		if len(names) > 0 {
			parts = append(parts, what+strings.Join(names, ", "))
		}
	}
	if m.Structure != "" {
		parts = append(parts, strings.ReplaceAll(m.Structure, "-", " "))
	}
	for _, e := range m.Elements {
		parts = append(parts, "<"+e+">")
	}
	add("attributes ", m.Attributes)
	add("", m.Properties)
	add("except ", m.Except)
	if slices.Contains(m.Values, "") {
		parts = append(parts, "without a value")
	}
	add("with ", slices.DeleteFunc(slices.Clone(m.Values), func(v string) bool { return v == "" }))
	add("units ", m.Units)
	add("colours ", m.Colours)
	add("@", m.AtRules)
	add("selectors ", m.Selectors)
	add("fonts other than ", m.Fonts)
	add("the signs ", m.Texts)
	if m.Above > 0 {
		parts = append(parts, "above "+strconv.Itoa(m.Above))
	}
	if m.Below > 0 {
		parts = append(parts, "below "+strconv.Itoa(m.Below))
	}
	if m.Part != "" {
		parts = append(parts, "with "+m.Part)
	}
	add("but not ", m.PartExcept)
	add("on ", m.On)
	add("not on ", m.NotOn)
	add("addresses ", m.Schemes)
	return strings.Join(parts, " ")
}
