package fix

import (
	"fmt"
	"slices"
	"strings"

	"golang.org/x/net/html"

	"missivum/core/check"
	"missivum/core/compose"
	"missivum/core/person"
	"missivum/core/template"
)

// What a check's fixes may change beside the look: other fixes must leave texts, links and pictures as they are, for everybody.
var (
	changesText = strings.Fields(`character-reference invisible-characters blank-field often-blank name-blank label-left foreign-placeholder
		telephone-number date-value curly-quotes attribute-quotes table-content unclosed-comment hidden-content active-content stray-end-tag
		nested-link template-language link-text`)
	changesLinks = strings.Fields(`address-misspelt address-relative address-spaces address-http address-page link-target program-link
		telephone-country telephone-number plain-number plain-address ampersand curly-quotes attribute-quotes nested-link base-address
		misspelt-attribute duplicate-attribute active-content blank-field often-blank name-blank label-left unclosed-comment template-language`)
	changesPictures = strings.Fields(`picture-format picture-pixels picture-dark picture-data picture-address picture-source picture-bytes
		address-misspelt address-relative address-spaces address-http misspelt-attribute duplicate-attribute curly-quotes attribute-quotes
		hidden-content unclosed-comment base-address active-content blank-field often-blank`)
)

// mostShown is for how many people what a signature shows is compared.
const mostShown = 24

// shown is what one person's signature shows in one variant.
type shown struct {
	text            string // without white space
	links, pictures []string
}

// harm says what a batch of fixes would take from somebody, or change beyond what it is for; blank for nothing.
func (w *work) harm(after *template.Template, batch []check.Finding) string {
	may := func(list []string) bool {
		return slices.ContainsFunc(batch, func(f check.Finding) bool { return slices.Contains(list, f.Check) })
	}
	text, links, pictures := may(changesText), may(changesLinks), may(changesPictures)
	if text && links && pictures {
		return ""
	}
	had, err := w.shows(w.in.Template)
	if err != nil {
		return "" // a template with mistakes shows nothing yet
	}
	has, err := w.shows(after)
	if err != nil {
		return "the result cannot be filled: " + err.Error()
	}
	for i := range had {
		if i >= len(has) {
			return "the result has other variants"
		}
		switch {
		case !text && had[i].text != has[i].text:
			return "it would change the text: " + difference(had[i].text, has[i].text)
		case !links && !slices.Equal(had[i].links, has[i].links):
			return "it would change links: " + difference(strings.Join(had[i].links, " "), strings.Join(has[i].links, " "))
		case !pictures && !slices.Equal(had[i].pictures, has[i].pictures):
			return "it would change pictures: " + difference(strings.Join(had[i].pictures, " "), strings.Join(has[i].pictures, " "))
		}
	}
	return ""
}

// difference shows where two texts part.
func difference(before, after string) string {
	i := 0
	for i < len(before) && i < len(after) && before[i] == after[i] {
		i++
	}
	from := max(0, i-12)
	for from > 0 && before[from]&0xc0 == 0x80 {
		from--
	}
	cut := func(s string) string { return strings.ToValidUTF8(s[min(from, len(s)):min(i+24, len(s))], "") }
	return fmt.Sprintf("%q becomes %q", cut(before), cut(after))
}

// shows fills a template for some people in each variant.
func (w *work) shows(t *template.Template) ([]shown, error) {
	schema := person.NewSchema()
	people := []person.Person{{}}
	if w.in.People != nil {
		schema, people = w.in.People.Schema, nil
		for _, hard := range person.HardCases(w.in.People, t.Settings.Country) {
			people = append(people, w.in.People.People[hard.Index])
		}
		people = append(people, w.in.People.People[:min(mostShown, len(w.in.People.People))]...)
		people = people[:min(len(people), mostShown)]
	}
	signature, err := compose.Compile(compose.Source{Template: t, Schema: schema.Declaring(t.Settings.Fields...),
		Day: w.in.Day}, compose.Fragment)
	if err != nil {
		return nil, err
	}
	filler := signature.NewFiller()
	var list []shown
	for _, variant := range t.Variants() {
		for i := range people {
			filler.Set(&people[i])
			s, err := read(string(signature.Append(nil, variant, compose.Fragment, filler)))
			if err != nil {
				return nil, err
			}
			list = append(list, s)
		}
	}
	return list, nil
}

// read reads what a fragment shows.
func read(fragment string) (s shown, err error) {
	doc, err := html.Parse(strings.NewReader(fragment))
	if err != nil {
		return s, err
	}
	var b strings.Builder
	for n := range doc.Descendants() {
		switch {
		case n.Type == html.TextNode && n.Parent.Data != "style" && n.Parent.Data != "script":
			b.WriteString(strings.Join(strings.Fields(strings.ReplaceAll(n.Data, "\u00a0", " ")), ""))
		case n.Type == html.ElementNode && n.Data == "a":
			s.links = append(s.links, valueOf(n, "href"))
		case n.Type == html.ElementNode && n.Data == "img":
			s.pictures = append(s.pictures, valueOf(n, "src"))
		}
	}
	s.text = b.String()
	return s, nil
}

func valueOf(n *html.Node, name string) string {
	for _, a := range n.Attr {
		if a.Key == name {
			return a.Val
		}
	}
	return ""
}
