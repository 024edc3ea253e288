package block

import (
	"bytes"
	_ "embed"
	"html/template"
	"slices"
	"sort"
	"strings"
	"time"

	"golang.org/x/net/html"

	"missivum/core/client"
	"missivum/core/compose"
	"missivum/core/journey"
	"missivum/core/person"
	"missivum/core/preview"
	tmpl "missivum/core/template"
)

// Phrase is a text by which a host can tell that a message carries the signature already, so that it does not pile up in a
// conversation.
type Phrase struct {
	Text   string   `json:"text"`
	People int      `json:"people"` // whose signature has it
	Of     int      `json:"of"`     // of so many
	Lost   []string `json:"lost"`   // clients that a message with it does not survive
}

// Good reports whether a phrase stands in everybody's signature and survives every client.
func (p Phrase) Good() bool { return p.People == p.Of && len(p.Lost) == 0 }

// What makes a phrase: long enough to be nobody else's, short enough not to be wrapped or shortened.
const (
	shortest = 12
	longest  = 60
	wanted   = 32
	proposed = 5
)

// Phrases proposes phrases for a template, the best first: texts that are the same for everybody, checked against the
// signatures of all people and against what every client keeps of a message. people may be nil.
func Phrases(t *tmpl.Template, schema *person.Schema, variant string, day time.Time, people *person.Directory,
	profiles []*client.Profile) ([]Phrase, error) {
	prepared, err := compose.Prepare(t, schema, day, compose.Reached(t))
	if err != nil {
		return nil, err
	}
	look := preview.Of(prepared)
	who := compose.FieldNames(schema)
	if people != nil && len(people.People) > 0 {
		who = &people.People[0]
	}
	shown, err := look.Shown(variant, who)
	if err != nil {
		return nil, err
	}
	candidates := runs(shown)
	all, err := everybody(t, schema, variant, day, people)
	if err != nil {
		return nil, err
	}
	kept := map[string]string{}
	for _, p := range profiles {
		k, err := look.Seen(p, client.Receive, journey.View{}, variant, who)
		if err != nil {
			return nil, err
		}
		if kept[p.ID] = folded(k.Body); k.Form == compose.HTML {
			kept[p.ID] = strings.Join(runs(k.Body), "\n")
		}
	}
	list := []Phrase{}
	for _, text := range candidates {
		p := Phrase{Text: text, Of: len(all), Lost: []string{}}
		for _, signature := range all {
			if strings.Contains(signature, text) {
				p.People++
			}
		}
		for _, profile := range profiles {
			if !strings.Contains(kept[profile.ID], text) {
				p.Lost = append(p.Lost, profile.ID)
			}
		}
		list = append(list, p)
	}
	sort.SliceStable(list, func(i, j int) bool { return better(list[i], list[j]) })
	return list[:min(len(list), proposed)], nil
}

// better orders phrases: in everybody's signature, in every client, and near the length that is wanted.
func better(a, b Phrase) bool {
	switch {
	case a.People != b.People:
		return a.People > b.People
	case len(a.Lost) != len(b.Lost):
		return len(a.Lost) < len(b.Lost)
	}
	return abs(len(a.Text)-wanted) < abs(len(b.Text)-wanted)
}

func abs(n int) int { return max(n, -n) }

// everybody gives the text of every person's signature.
func everybody(t *tmpl.Template, schema *person.Schema, variant string, day time.Time, people *person.Directory) ([]string, error) {
	if people == nil {
		return nil, nil
	}
	s, err := compose.Compile(compose.Source{Template: t, Schema: schema, Day: day, Variants: []string{variant}}, compose.Fragment)
	if err != nil {
		return nil, err
	}
	filler := s.NewFiller()
	list := make([]string, len(people.People))
	var text []byte
	for i := range people.People {
		filler.Set(&people.People[i])
		text = s.Append(text[:0], variant, compose.Fragment, filler)
		list[i] = strings.Join(runs(string(text)), "\n")
	}
	return list, nil
}

// runs gives the runs of text in markup that could be phrases: in one element, of two words or more, in ASCII, without figures
// and signs that clients turn into links.
func runs(markup string) []string {
	var list []string
	z := html.NewTokenizer(strings.NewReader(markup))
	hidden := 0
	for {
		switch kind := z.Next(); kind {
		case html.ErrorToken:
			return list
		case html.StartTagToken, html.EndTagToken:
			name, _ := z.TagName()
			if tag := string(name); tag == "style" || tag == "title" || tag == "script" {
				if kind == html.StartTagToken {
					hidden++
				} else {
					hidden = max(0, hidden-1)
				}
			}
		case html.TextToken:
			text := folded(html.UnescapeString(string(z.Raw())))
			if hidden == 0 && phrase(text) && !slices.Contains(list, text) {
				list = append(list, text)
			}
		}
	}
}

// folded is a text with single spaces.
func folded(text string) string { return strings.Join(strings.Fields(text), " ") }

// phrase reports whether a text could be one.
func phrase(text string) bool {
	if len(text) < shortest || len(text) > longest || !strings.Contains(text, " ") {
		return false
	}
	return !strings.ContainsFunc(text, func(r rune) bool {
		return r > 126 || r < ' ' || r >= '0' && r <= '9' || strings.ContainsRune(`@/<>{}%"&`, r)
	})
}

// Sheet is what an administrator follows to set a rule up at a mail host.
type Sheet struct {
	Title   string // of the template
	Version string // of the template
	Dialect *Dialect
	Day     time.Time
	For     string // whose messages get the block; blank for everybody's
	Except  string // whose or which do not; blank for none
	Block   Exported
	File    string // in which the block is
	Phrases []Phrase
}

//go:embed sheet.html
var sheetSource string

var sheetPage = template.Must(template.New("sheet").Parse(sheetSource))

// Phrase is the phrase that is proposed; nil where there is no good one.
func (s Sheet) Phrase() *Phrase {
	if len(s.Phrases) == 0 || !s.Phrases[0].Good() {
		return nil
	}
	return &s.Phrases[0]
}

// Shows counts the losses that show for somebody.
func (s Sheet) Shows() []Loss {
	return slices.DeleteFunc(slices.Clone(s.Block.Losses), func(l Loss) bool { return l.Counted && l.People == 0 })
}

// Person is somebody for whom most losses show; blank where nobody is known.
func (s Sheet) Person() string {
	times := map[string]int{}
	best := ""
	for _, l := range s.Block.Losses {
		for _, who := range l.Who {
			if times[who]++; times[who] > times[best] {
				best = who
			}
		}
	}
	return best
}

// Over is by how many characters the block is over the host's limit; 0 where it is not.
func (s Sheet) Over() int {
	if s.Block.Limit == 0 {
		return 0
	}
	return max(0, s.Block.Characters-s.Block.Limit)
}

// HTML writes the sheet as a page to print and tick off.
func (s Sheet) HTML() ([]byte, error) {
	var b bytes.Buffer
	err := sheetPage.Execute(&b, s)
	return b.Bytes(), err
}
