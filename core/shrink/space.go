package shrink

import (
	"fmt"
	"maps"
	"regexp"
	"sort"
	"strconv"
	"strings"

	"missivum/core/check"
	"missivum/core/client"
	"missivum/core/field"
	"missivum/core/markup"
	"missivum/core/person"
	"missivum/core/preview"
)

// The kinds of content that take space.
const (
	Texts     = "text"
	Styles    = "styles"
	Structure = "structure" // tags, and attributes that are none of the others
	Addresses = "addresses"
)

// Share is how much space an element takes, in UTF-16 units.
type Share struct {
	Name   string `json:"name"`
	Line   int    `json:"line"`
	Offset int    `json:"offset"` // in the source
	End    int    `json:"end"`
	Depth  int    `json:"depth"` // 0 for the outermost
	Units  int    `json:"units"` // with all in it
	Own    int    `json:"own"`   // its tags alone
	Text   string `json:"text"`  // the beginning of what it says
	// Kinds are the units of each kind of content in it, with all in it.
	Kinds map[string]int `json:"kinds"`
}

// Space is what takes up the space in a signature as a client stores it.
type Space struct {
	Client   string         `json:"client"`
	Variant  string         `json:"variant"`
	Person   string         `json:"person"`
	Units    int            `json:"units"`
	Kinds    map[string]int `json:"kinds"`
	Elements []Share        `json:"elements"` // in the order of the document
}

var mark = regexp.MustCompile(` ` + field.AttrSource + `="(\d+):(\d+)"`)

// SpaceOf measures what takes up the space for a client and a person, in a variant; empty is the template's first. Nobody
// leaves the template's own marks in it.
func SpaceOf(in check.Input, id, variant string, who *person.Person) (*Space, error) {
	profile := client.Book(in.Profiles).Find(id)
	if profile == nil {
		return nil, fmt.Errorf("%w %q", errNoClient, id)
	}
	if variant == "" {
		variant = in.Template.Variants()[0]
	}
	mail := ""
	if who != nil {
		mail = in.People.Get(who, "mail")
	}
	prepared, err := in.Prepare()
	if err != nil {
		return nil, err
	}
	shown := preview.Preview{Prepared: prepared, MarkSource: true}
	kept, err := shown.Kept(profile, client.Install, variant, who)
	if err != nil {
		return nil, err
	}
	doc, err := markup.ParseOutput(kept.Body)
	if err != nil {
		return nil, err
	}
	r := &spaces{source: prepared.Source, space: &Space{Client: id, Variant: variant, Person: mail,
		Kinds: map[string]int{Texts: 0, Styles: 0, Structure: 0, Addresses: 0}, Elements: []Share{}}}
	for _, n := range doc.Root.Children {
		r.space.Units += r.measure(doc, n, 0)
	}
	return r.space, nil
}

// spaces adds up what takes up the space.
type spaces struct {
	source *markup.Document
	space  *Space
}

// measure counts a node with all in it.
func (r *spaces) measure(doc *markup.Document, n *markup.Node, depth int) int {
	if n.Kind != markup.Element {
		units := client.Units(doc.Raw(n))
		r.space.Kinds[Texts] += units
		return units
	}
	tag := doc.Raw(n)
	own := client.Units(mark.ReplaceAllString(tag, "")) + client.Units(doc.CloseTag(n))
	rest, before := own, maps.Clone(r.space.Kinds)
	for _, a := range n.Attrs {
		units := client.Units(doc.Source[a.Span.Start:a.Span.End]) + 1
		switch a.Name {
		case "style":
			r.space.Kinds[Styles] += units
		case "href", "src", "background":
			r.space.Kinds[Addresses] += units
		default:
			continue
		}
		rest -= units
	}
	r.space.Kinds[Structure] += rest
	at := len(r.space.Elements)
	share := Share{Name: n.Name, Depth: depth, Own: own, Text: beginning(n)}
	if m := mark.FindStringSubmatch(tag); m != nil {
		share.Offset, _ = strconv.Atoi(m[1])
		share.End, _ = strconv.Atoi(m[2])
		share.Line = r.source.Place(share.Offset).Line
	}
	r.space.Elements = append(r.space.Elements, share)
	units := own
	for _, c := range n.Children {
		units += r.measure(doc, c, depth+1)
	}
	within := map[string]int{}
	for kind, sum := range r.space.Kinds {
		within[kind] = sum - before[kind]
	}
	r.space.Elements[at].Units, r.space.Elements[at].Kinds = units, within
	return units
}

// beginning is the first text of an element, to know it by.
func beginning(n *markup.Node) string {
	text := []rune(strings.Join(strings.Fields(n.TextContent()), " "))
	return string(text[:min(len(text), 40)])
}

// Largest lists the elements with the largest tags of their own, without what is in them.
func (s *Space) Largest(count int) []Share {
	list := append([]Share(nil), s.Elements...)
	sort.SliceStable(list, func(i, j int) bool { return list[i].Own > list[j].Own })
	return list[:min(count, len(list))]
}
