package recognise

import (
	"bytes"
	"image"
	_ "image/jpeg" // to look at the proportions of photos
	"net/url"
	"regexp"
	"slices"
	"sort"
	"strings"
	"unicode"

	"golang.org/x/text/runes"
	"golang.org/x/text/transform"
	"golang.org/x/text/unicode/norm"

	"missivum/core/field"
	"missivum/core/markup"
	"missivum/core/person"
	"missivum/core/template"
)

// Remaining is something of the person, or that may be theirs, which stays in the template for everybody.
type Remaining struct {
	Text  string `json:"text"`
	What  string `json:"what"`  // what it may be, in words
	Where string `json:"where"` // text, comment, an attribute's name, picture, file or settings
	markup.Place
}

// shared is from which share of the people on a value is taken for the organisation's.
const shared = 0.5

// trace is a value of the person to look for.
type trace struct {
	what   string
	folded string         // in small letters, without marks
	shape  *regexp.Regexp // as whole words
}

// remaining looks through the finished template for what is left of the person: each value of the directory that is
// not most people's, the parts of the name, telephone numbers and mail addresses that no field took the place of, and
// pictures that may show the person.
func remaining(in Input, parts template.Parts) ([]Remaining, error) {
	doc, err := markup.ParseOutput(parts.Source)
	if err != nil {
		return nil, err
	}
	f := finder{in: in, doc: doc, seen: map[string]bool{}}
	f.collect()
	doc.Root.Walk(func(n *markup.Node) bool {
		switch n.Kind {
		case markup.Text:
			f.look(n.Data, "text", n.Open)
		case markup.Comment:
			f.look(n.Data, "comment", n.Open)
		case markup.Element:
			for _, a := range n.Attrs {
				value := a.Value
				if markup.AddressAttribute(a.Name) {
					if plain, err := url.PathUnescape(value); err == nil {
						value = plain
					}
				}
				f.look(value, a.Name, a.Span)
			}
			f.photo(n, parts)
		}
		return true
	})
	f.look(withoutSample(parts.Settings), "settings", markup.Span{})
	for _, file := range sortedKeys(parts.Pictures) {
		f.look(file, "file", markup.Span{})
	}
	return f.list, nil
}

// withoutSample is a template.yaml without the lines that name the person on purpose.
func withoutSample(settings string) string {
	var kept []string
	for _, line := range strings.Split(settings, "\n") {
		if !strings.HasPrefix(line, "sample:") && !strings.HasPrefix(line, "title: From the signature of") {
			kept = append(kept, line)
		}
	}
	return strings.Join(kept, "\n")
}

func sortedKeys(files map[string][]byte) []string {
	var names []string
	for name := range files {
		names = append(names, name)
	}
	sort.Strings(names)
	return names
}

// finder looks for traces.
type finder struct {
	in     Input
	doc    *markup.Document
	traces []trace
	names  []string // parts of the name, folded
	list   []Remaining
	seen   map[string]bool
}

// collect works out what to look for.
func (f *finder) collect() {
	add := func(what, text string) {
		folded := fold(text)
		if len([]rune(folded)) < 3 || slices.ContainsFunc(f.traces, func(t trace) bool { return t.folded == folded }) {
			return
		}
		f.traces = append(f.traces, trace{what, folded, regexp.MustCompile(regexp.QuoteMeta(folded))})
	}
	for i, name := range f.in.People.Schema.Names() {
		value := person.Clean(f.in.Person.At(i))
		if value == "" || f.common(i, value) {
			continue
		}
		if name == "c" {
			for _, country := range person.CountryNames(value) {
				add("the country of c", country)
			}
		}
		if slices.Contains(unread, name) {
			continue
		}
		if slices.Contains([]string{"cn", "displayName", "givenName", "sn"}, name) {
			for _, word := range strings.FieldsFunc(value, func(r rune) bool { return !unicode.IsLetter(r) }) {
				if part := fold(word); len([]rune(part)) >= 3 && !slices.Contains(f.names, part) {
					f.names = append(f.names, part)
					add("a part of the name", part)
				}
			}
		}
		if name == "mail" {
			local, _, _ := strings.Cut(value, "@")
			add("mail", value)
			add("the name in mail", local)
			continue
		}
		if !slices.Contains(telephones, name) {
			add(name, value)
		}
	}
	sort.SliceStable(f.traces, func(i, j int) bool { return len(f.traces[i].folded) > len(f.traces[j].folded) })
}

// common reports whether a value is that of most people, so that it says nothing of this one.
func (f *finder) common(column int, value string) bool {
	same := 0
	for i := range f.in.People.People {
		if person.Clean(f.in.People.People[i].At(column)) == value {
			same++
		}
	}
	return same > 1 && float64(same) > shared*float64(len(f.in.People.People))
}

var (
	fieldShape = regexp.MustCompile(`\{\{[^}]*\}\}`)
	mailShape  = regexp.MustCompile(`[\p{L}\d._%+-]{1,64}@[\p{L}\d.-]{1,200}\.\p{L}{2,20}`)
)

// look finds what is left in one text, which is where it is.
func (f *finder) look(text, where string, span markup.Span) {
	if strings.TrimSpace(text) == "" || where == "style" || where == "class" || strings.HasPrefix(where, "data-") &&
		where != field.AttrPicture {
		return
	}
	text = fieldShape.ReplaceAllString(text, "\x00")
	folded := fold(text)
	for _, t := range f.traces {
		for _, at := range t.shape.FindAllStringIndex(folded, 8) {
			part := t.what == "a part of the name" || t.what == "the name in mail"
			if free(folded, at[0], at[1]) || part && where != "text" && len(t.folded) > 4 || part && standsAlone(folded, at[0], at[1]) {
				f.add(t.folded, t.what, where, span)
			}
		}
	}
	for _, mail := range mailShape.FindAllString(text, 8) {
		if !f.office(mail) {
			f.add(mail, "a mail address that no field gives", where, span)
		}
	}
	if numbered(where) {
		for _, number := range numberShape.FindAllString(text, 8) {
			if digits := onlyDigits(number); len(digits) >= 7 && !f.organisations(digits) {
				f.add(strings.TrimSpace(number), "a telephone number that no field gives", where, span)
			}
		}
	}
}

// numbered reports places in which numbers are telephone numbers.
func numbered(where string) bool {
	return where == "text" || where == "comment" || where == "href" || where == "title" || where == "alt" || where == "aria-label"
}

// standsAlone reports whether only signs stand beside a piece of a text, as between the words of an address.
func standsAlone(text string, from, to int) bool {
	before, behind := strings.ToValidUTF8(text[:from], ""), text[to:]
	last, first := []rune(before), []rune(behind)
	return (len(last) == 0 || !unicode.IsLetter(last[len(last)-1])) && (len(first) == 0 || !unicode.IsLetter(first[0]))
}

// office reports mail addresses that several people have, or that are named like an office.
func (f *finder) office(mail string) bool {
	local, _, _ := strings.Cut(strings.ToLower(mail), "@")
	for _, word := range []string{"info", "office", "contact", "kontakt", "service", "sales", "press", "support", "mail", "hello"} {
		if local == word {
			return true
		}
	}
	return false
}

// organisations reports a number that most people have in some field, or that the directory has nowhere while
// it is not written in a link that is dialled: the exchange.
func (f *finder) organisations(digits string) bool {
	for _, name := range telephones {
		column, _, known := f.in.People.Schema.Column(name)
		if !known || column < 0 {
			continue
		}
		same := 0
		for i := range f.in.People.People {
			if d := onlyDigits(f.in.People.People[i].At(column)); len(d) >= 7 && tail(d) == tail(digits) {
				same++
			}
		}
		if same > 1 && float64(same) > shared*float64(len(f.in.People.People)) {
			return true
		}
	}
	return false
}

// tail is what numbers with and without their country code share.
func tail(digits string) string { return digits[max(len(digits)-7, 0):] }

func onlyDigits(s string) string {
	return strings.Map(func(r rune) rune {
		if r >= '0' && r <= '9' {
			return r
		}
		return -1
	}, s)
}

var photoWords = regexp.MustCompile(`(?i)\b(photo|portrait|headshot|foto|porträt|retrato|ritratto|zdjęcie|avatar|` +
	`me)\b|pasfoto|passbild|profil`)

// photo lists a picture that may show the person: one that says so, or a photo that is about as wide as high.
func (f *finder) photo(n *markup.Node, parts template.Parts) {
	if !n.Is("img") {
		return
	}
	alt, _ := n.Attr("alt")
	src, _ := n.Attr("src")
	name, _ := n.Attr(field.AttrPicture)
	says := photoWords.MatchString(strings.NewReplacer("_", " ", "-", " ", ".", " ", "/", " ").Replace(alt + " " + src + " " + name))
	if !says && !f.portrait(parts, name) || field.HasField(src) {
		return
	}
	f.add(first(name, src), "a picture that may show the person", "picture", n.Open)
}

// portrait reports a JPEG of the proportions of a portrait.
func (f *finder) portrait(parts template.Parts, name string) bool {
	for file, data := range parts.Pictures {
		if strings.ReplaceAll(file, ".", "-") != name {
			continue
		}
		config, format, err := image.DecodeConfig(bytes.NewReader(data))
		return err == nil && format == "jpeg" && config.Width >= 40 && config.Width*10 <= config.Height*13 && config.Height*10 <= config.Width*16
	}
	return false
}

func first(names ...string) string {
	for _, n := range names {
		if n != "" {
			return n
		}
	}
	return ""
}

// add lists something once for a place.
func (f *finder) add(text, what, where string, span markup.Span) {
	if len(text) > 120 {
		text = strings.ToValidUTF8(text[:120], "") + "..."
	}
	r := Remaining{Text: text, What: what, Where: where}
	if span.Len() > 0 {
		r.Place = f.doc.Place(span.Start)
	}
	key := text + "\n" + where + "\n" + string(rune(span.Start))
	for _, have := range f.list { // a part of what is listed for this place already
		if have.Where == where && have.Offset == r.Offset && have.Line == r.Line && strings.Contains(fold(have.Text), fold(text)) {
			return
		}
	}
	if !f.seen[key] && len(f.list) < mostRemaining {
		f.seen[key] = true
		f.list = append(f.list, r)
	}
}

// mostRemaining is how many places are listed.
const mostRemaining = 500

// fold makes small letters without marks of a text, so that mueller and Müller differ but MÜLLER and muller do not.
func fold(s string) string {
	out, _, err := transform.String(transform.Chain(norm.NFD, runes.Remove(runes.In(unicode.Mn)), norm.NFC), strings.ToLower(s))
	if err != nil {
		return strings.ToLower(s)
	}
	return strings.NewReplacer("ß", "ss", "ø", "o", "ł", "l", "æ", "ae", "œ", "oe", "đ", "d").Replace(out)
}
