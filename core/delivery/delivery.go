// Package delivery says what follows from the way in which a template's pictures get to the reader: hosted at an
// address, carried in the message, beside a page, or written into the source. The figures come from the template,
// the client profiles, the directory, and the volume that the administrator gives. Start with Weigh.
package delivery

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"missivum/core/client"
	"missivum/core/compose"
	"missivum/core/journey"
	"missivum/core/person"
	"missivum/core/template"
)

// Input is what is weighed.
type Input struct {
	Template *template.Template
	People   *person.Directory // nil: no figure for characters
	Profiles []*client.Profile
	Day      time.Time
	Volume   int // messages a day; 0 when nobody gave it
}

// Consequence is what follows from one way for one form.
type Consequence struct {
	Form       string            `json:"form"`
	Way        template.Delivery `json:"way"`
	Chosen     bool              `json:"chosen"`     // the template's way now
	Message    int               `json:"message"`    // bytes that the pictures add to a message, encoded (RFC 2045, 6.8)
	Day        int64             `json:"day"`        // bytes a day; 0 when the volume is not known
	Characters int               `json:"characters"` // UTF-16 units that the addresses take in the signature's markup
	Arrivals   []Arrivals        `json:"arrivals"`
	SentAlong  string            `json:"sent-along"` // which clients carry the hosted pictures when they send, in words; may be empty
	Says       string            `json:"says"`       // all of it in a sentence
}

// Arrivals are the clients in which the pictures arrive alike.
type Arrivals struct {
	As      string   `json:"as"` // shown, blocked, attached or lost
	Clients []string `json:"clients"`
}

// Weigh lists what follows for every form and way, the template's own way of a form first.
func Weigh(in Input) ([]Consequence, error) {
	schema := person.NewSchema()
	if in.People != nil {
		schema = in.People.Schema
	}
	list := []Consequence{}
	for _, form := range []compose.Form{compose.Fragment, compose.HTML, compose.MIME, compose.Message} {
		for _, way := range ordered(in.Template, form) {
			c := Consequence{Form: string(form), Way: way, Chosen: way == in.Template.Delivery(string(form)), Arrivals: []Arrivals{}}
			pictures, without, err := c.measure(in, schema, form)
			if err != nil {
				return nil, err
			}
			address, _ := in.Template.Hosting()
			c.arrive(in.Profiles, way == template.Hosted && address == "")
			if address != "" && way == template.Hosted && pictures > 0 && (form == compose.HTML || form == compose.Fragment) {
				c.SentAlong = along(in.Profiles, without, pictures)
			}
			c.Says = c.sentence(in, pictures)
			list = append(list, c)
		}
	}
	return list, nil
}

// ordered lists the ways of a form, the template's own first.
func ordered(t *template.Template, form compose.Form) []template.Delivery {
	own := t.Delivery(string(form))
	list := []template.Delivery{own}
	for _, way := range template.Deliveries(string(form)) {
		if way != own {
			list = append(list, way)
		}
	}
	return list
}

// measure prepares the template with this way and adds up bytes and characters. It returns how many pictures there are, and
// how many of them are hosted and do not say nosend.
func (c *Consequence) measure(in Input, schema *person.Schema, form compose.Form) (pictures, without int, err error) {
	t := *in.Template
	t.Settings.Pictures.Delivery = map[string]template.Delivery{string(form): c.Way}
	prepared, err := compose.Prepare(&t, schema, in.Day, compose.Delivered(&t, form, compose.Beside))
	if err != nil {
		return 0, 0, err
	}
	seen, along := map[*template.Picture]bool{}, map[*template.Picture]bool{}
	for _, img := range prepared.Doc.Root.Elements("img") {
		p := prepared.PictureOf(img)
		if p == nil {
			continue
		}
		src, _ := img.Attr("src")
		c.Characters += client.Units(src)
		if journey.SentAlong(img) {
			along[p] = true
		}
		switch {
		case c.Way == template.Data:
			c.Message += len(src)
		case (c.Way == template.Carried || c.Way == template.Beside) && !seen[p]:
			c.Message += encoded(len(p.Data))
		}
		seen[p] = true
	}
	c.Day = int64(c.Message) * int64(in.Volume)
	return len(seen), len(along), nil
}

// encoded is how many bytes of base64, in lines of 76 letters, a file becomes (RFC 2045, 6.8).
func encoded(n int) int {
	letters := (n + 2) / 3 * 4
	return letters + (letters+75)/76*2
}

// arrive groups the profiles by what their readers meet. Files beside a page are carried by the client that sends
// it; hosted pictures without an address arrive nowhere.
func (c *Consequence) arrive(profiles []*client.Profile, nowhere bool) {
	for _, as := range []string{client.Shown, client.Blocked, client.Attached, client.PictureDropped} {
		a := Arrivals{As: as}
		for _, p := range profiles {
			if p.Pictures == nil {
				continue
			}
			if met := arrival(p.Pictures, c.Way).As; !nowhere && met == as || nowhere && as == client.PictureDropped {
				a.Clients = append(a.Clients, p.ID)
			}
		}
		if len(a.Clients) > 0 {
			c.Arrivals = append(c.Arrivals, a)
		}
	}
}

func arrival(p *client.Pictures, way template.Delivery) client.Arrival {
	switch way {
	case template.Hosted:
		return p.Hosted
	case template.Data:
		return p.Data
	}
	return p.Carried
}

// words say how pictures are met.
var words = map[string]string{
	client.Shown: "shown at once in", client.Blocked: "hidden until allowed in", client.Attached: "shown as attachments in",
	client.PictureDropped: "dropped by",
}

func (c *Consequence) sentence(in Input, pictures int) string {
	if pictures == 0 {
		return "the template shows no pictures of its own"
	}
	var parts []string
	switch {
	case c.Message == 0:
		parts = append(parts, "0 kB in each message")
	case in.Volume > 0:
		parts = append(parts, fmt.Sprintf("%s kB in each of about %d messages a day, %s MB a day", tenths(c.Message, 1024),
			in.Volume, tenths(int(c.Day/1024), 1024)))
	default:
		parts = append(parts, fmt.Sprintf("%s kB in each message", tenths(c.Message, 1024)))
	}
	if c.Way == template.Data {
		parts = append(parts, fmt.Sprintf("%d characters of the signature's length", c.Characters))
	}
	for _, a := range c.Arrivals {
		parts = append(parts, fmt.Sprintf("%s %s", words[a.As], strings.Join(a.Clients, ", ")))
	}
	if c.SentAlong != "" {
		parts = append(parts, c.SentAlong)
	}
	if address, _ := in.Template.Hosting(); c.Way == template.Hosted && address == "" {
		parts = []string{"the pictures have no address, so nobody sees them; set pictures.address in template.yaml"}
	}
	return string(c.Way) + ": " + strings.Join(parts, "; ")
}

// along says which clients carry hosted pictures in what they send, and how many of them ask for it not to be done.
func along(profiles []*client.Profile, without, pictures int) string {
	var names []string
	for _, p := range profiles {
		if basis, ok := p.SendsAlong(); ok {
			names = append(names, fmt.Sprintf("%s (%s)", p.ID, basis))
		}
	}
	if len(names) == 0 {
		return ""
	}
	return fmt.Sprintf("carried all the same when sent from %s, unless the tag says nosend: %d of %d do", strings.Join(names, ", "),
		pictures-without, pictures)
}

// tenths writes n in a larger unit with one digit behind the point, rounded up to what is not nothing.
func tenths(n, unit int) string {
	t := (n*10 + unit - 1) / unit
	return fmt.Sprintf("%d.%d", t/10, t%10)
}

// Multiples says for each profile how many pixels for each px a picture should have, given where its size is
// written: attributes, styles or both.
func Multiples(profiles []*client.Profile, written ...string) []Advice {
	list := []Advice{}
	for _, p := range profiles {
		if p.Pictures != nil {
			n, why := p.Pictures.Multiple(written...)
			list = append(list, Advice{p.ID, n, why})
		}
	}
	return list
}

// Advice is which multiple is right for a client, and why.
type Advice struct {
	Client   string `json:"client"`
	Multiple int    `json:"multiple"`
	Says     string `json:"says"`
}

// Best is the multiple that is right for all of them: the least.
func Best(list []Advice) int {
	if len(list) == 0 {
		return 2
	}
	return slices.MinFunc(list, func(a, b Advice) int { return a.Multiple - b.Multiple }).Multiple
}
