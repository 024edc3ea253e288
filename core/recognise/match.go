package recognise

import (
	"net/url"
	"regexp"
	"slices"
	"sort"
	"strings"
	"unicode"
	"unicode/utf8"

	"missivum/core/compose"
	"missivum/core/field"
	"missivum/core/markup"
	"missivum/core/person"
	"missivum/core/template"
)

// candidate is a text that an expression gives for the person.
type candidate struct {
	expr  string
	field string
	text  string
	words []string       // of the text
	shape *regexp.Regexp // its words with any white space between, in any letter case
}

// unread fields are no text of a signature.
var unread = []string{"preferredLanguage", "jpegPhoto", "manager", "c"}

var telephones = []string{"telephoneNumber", "mobile", "facsimileTelephoneNumber", "homePhone"}

// places are fields whose values also stand in names of organisations and the like.
var places = []string{"l", "st", "co", "o", "businessCategory", "description"}

// shapes are the modifiers with which a field's value is looked for, the likeliest first.
func shapes(name string) []string {
	switch {
	case slices.Contains(telephones, name):
		list := []string{" | phone", "", " | national"}
		for _, kind := range []string{" | phone", " | national"} {
			for _, sign := range []string{".", "-", " ", "/", "", "\u00a0"} {
				list = append(list, kind+" | separated '"+sign+"'")
			}
		}
		return append(list, " | dial")
	case name == "cn" || name == "displayName":
		return []string{"", " | upper", " | lower", " | capital", " | initials"}
	case name == "postalAddress":
		return []string{" | lines ', '", " | lines ' | '", " | lines ' · '", " | lines ' '", ""}
	case strings.Contains(strings.ToLower(name), "date"):
		return []string{" | date 'long'", " | date 'medium'", " | date 'short'", " | date 'full'", " | date 'dd.MM.y'", " | date 'y'", ""}
	}
	return []string{"", " | upper", " | lower", " | capital"}
}

// candidates works out, for each field of the person, what its expressions give.
func candidates(in Input) ([]candidate, error) {
	blank, err := template.New("made", template.Parts{})
	if err != nil {
		return nil, err
	}
	blank.Settings.Country = person.Clean(in.People.Get(in.Person, "c"))
	prepared, err := compose.Prepare(blank, in.People.Schema, in.Day, compose.Beside)
	if err != nil {
		return nil, err
	}
	table := prepared.NewTable()
	var list []candidate
	var numbers []int
	for _, name := range in.People.Schema.Names() {
		if slices.Contains(unread, name) || person.IsBlank(in.People.Get(in.Person, name)) {
			continue
		}
		for _, shape := range shapes(name) {
			number, err := table.Add(name+shape, prepared.Schema)
			if err != nil {
				return nil, err
			}
			list, numbers = append(list, candidate{expr: name + shape, field: name}), append(numbers, number)
		}
	}
	filler := field.NewFiller(table)
	filler.Set(in.Person)
	var kept []candidate
	for i, c := range list {
		c.text = filler.Value(numbers[i])
		known := slices.ContainsFunc(kept, func(k candidate) bool { return k.field == c.field && k.text == c.text })
		if c.text != "" && !known && !(strings.HasSuffix(c.expr, "initials") && utf8.RuneCountInString(c.text) < 2) {
			c.words = strings.FieldsFunc(c.text, unicode.IsSpace)
			c.shape = regexp.MustCompile("(?i)" + quoted(c.words))
			kept = append(kept, c)
		}
	}
	return kept, nil
}

// quoted is the pattern for words with any white space between.
func quoted(words []string) string {
	list := make([]string, len(words))
	for i, w := range words {
		list[i] = regexp.QuoteMeta(w)
	}
	return strings.Join(list, `[\s\x{a0}]+`)
}

// match is a piece of a text that candidates give.
type match struct {
	from, to int
	exprs    []string // the likeliest first
	field    string
	exact    bool // as it stands, not only but for letter case
}

// matches finds the candidates in a text: those as they stand first, then the longest, none over another.
func (l *recogniser) matches(text string) []match {
	var all []match
	lower := strings.ToLower(text)
	for _, c := range l.candidates {
		if strings.Contains(lower, strings.ToLower(c.words[0])) {
			all = append(all, occurrences(text, c)...)
		}
	}
	all = append(all, l.numbers.in(text)...)
	sort.SliceStable(all, func(i, j int) bool {
		a, b := all[i], all[j]
		if a.exact != b.exact { // what is there as it stands, before what is there in another letter case or format
			return a.exact
		}
		return a.to-a.from > b.to-b.from
	})
	var chosen []match
	for _, m := range all {
		at := slices.IndexFunc(chosen, func(c match) bool { return c.from < m.to && m.from < c.to })
		switch {
		case at < 0:
			chosen = append(chosen, m)
		case chosen[at].from == m.from && chosen[at].to == m.to && chosen[at].exact == m.exact && chosen[at].field != m.field:
			chosen[at].exprs = append(chosen[at].exprs, m.exprs...)
		}
	}
	sort.Slice(chosen, func(i, j int) bool { return chosen[i].from < chosen[j].from })
	return chosen
}

// occurrences finds a candidate in a text, whatever white space stands between its words, where no letter or
// digit goes on at its ends. Another letter case counts for fields as they stand in the directory.
func occurrences(text string, c candidate) []match {
	var list []match
	for _, at := range c.shape.FindAllStringIndex(text, -1) {
		exact := slices.Equal(strings.FieldsFunc(text[at[0]:at[1]], unicode.IsSpace), c.words)
		if !exact && (len(c.text) <= 3 || c.expr != c.field) || !free(text, at[0], at[1]) {
			continue
		}
		list = append(list, match{from: at[0], to: at[1], exprs: []string{c.expr}, field: c.field, exact: exact})
	}
	return list
}

// free reports whether a piece of a text ends where words end.
func free(text string, from, to int) bool {
	before, _ := utf8.DecodeLastRuneInString(text[:from])
	first, _ := utf8.DecodeRuneInString(text[from:to])
	last, _ := utf8.DecodeLastRuneInString(text[from:to])
	behind, _ := utf8.DecodeRuneInString(text[to:])
	if wordSign(before) && wordSign(first) || wordSign(last) && wordSign(behind) {
		return false
	}
	beyond, _ := utf8.DecodeLastRuneInString(strings.TrimSuffix(text[:from], string(before)))
	further, _ := utf8.DecodeRuneInString(strings.TrimPrefix(text[to:], string(behind)))
	return !(binds(before) && wordSign(beyond)) && !(binds(behind) && wordSign(further))
}

// binds reports whether a sign between two words makes them one, as in addresses.
func binds(r rune) bool { return r != utf8.RuneError && strings.ContainsRune(".@_", r) }

// wordSign reports whether a sign belongs to a word of a script that parts words.
func wordSign(r rune) bool {
	if r == utf8.RuneError || unicode.In(r, unicode.Han, unicode.Hiragana, unicode.Katakana, unicode.Thai) {
		return false
	}
	return unicode.IsLetter(r) || unicode.IsDigit(r)
}

// choices lists the expressions that a match can mean. There is more than one when several fields have that
// value, or when it stands in running text, where it may be part of something else.
func (l *recogniser) choices(text string, matches []match, i int) []string {
	m := matches[i]
	choices := slices.Clone(m.exprs)
	if slices.Contains(telephones, m.field) || m.field == "mail" {
		return choices
	}
	left, right := "", ""
	if i == 0 || strings.TrimSpace(text[matches[i-1].to:m.from]) != "" {
		left = text[:m.from]
	}
	if i+1 == len(matches) || strings.TrimSpace(text[m.to:matches[i+1].from]) != "" {
		right = text[m.to:]
	}
	place := slices.Contains(places, m.field)
	if !goesOn(right, true) && !(place && goesOn(left, false)) {
		return choices
	}
	if place || !strings.ContainsAny(text[m.from:m.to], " \u00a0") {
		return append([]string{""}, choices...)
	}
	return append(choices, "")
}

// goesOn reports whether a word stands next to a match in running text.
func goesOn(beside string, forward bool) bool {
	trimmed := strings.TrimLeftFunc(beside, unicode.IsSpace)
	r, _ := utf8.DecodeRuneInString(trimmed)
	if !forward {
		trimmed = strings.TrimRightFunc(beside, unicode.IsSpace)
		r, _ = utf8.DecodeLastRuneInString(trimmed)
	}
	return trimmed != "" && (unicode.IsLetter(r) || unicode.IsDigit(r))
}

// numbers finds the person's telephone numbers however they are written.
type numbers struct {
	region string
	exprs  map[string]string // by E.164
}

func newNumbers(in Input, list []candidate) numbers {
	n := numbers{region: strings.ToUpper(person.Clean(in.People.Get(in.Person, "c"))), exprs: map[string]string{}}
	for _, c := range list {
		if !slices.Contains(telephones, c.field) {
			continue
		}
		keys := []string{onlyDigits(c.text)}
		if number, ok := person.ReadTelephone(c.text, n.region); ok {
			keys = append(keys, number.Dial())
		}
		for _, key := range keys {
			if _, ok := n.exprs[key]; !ok && len(key) >= fewestDigits {
				n.exprs[key] = c.field + " | phone"
			}
		}
	}
	return n
}

// fewestDigits is how many digits a number has at least that is found by its digits alone.
const fewestDigits = 6

var numberShape = regexp.MustCompile(`[+(]?\d[\d\s\x{a0}().\-/]{4,}\d`)

// in finds numbers in a text.
func (n *numbers) in(text string) []match {
	var list []match
	for _, at := range numberShape.FindAllStringIndex(text, -1) {
		if expr := n.expr(text[at[0]:at[1]]); expr != "" {
			name, _, _ := strings.Cut(expr, " ")
			list = append(list, match{from: at[0], to: at[1], exprs: []string{expr}, field: name})
		}
	}
	return list
}

// expr is the expression for a text that is one of the person's numbers.
func (n *numbers) expr(text string) string {
	if number, ok := person.ReadTelephone(text, n.region); ok {
		if expr := n.exprs[number.Dial()]; expr != "" {
			return expr
		}
	}
	return n.exprs[onlyDigits(text)]
}

// address finds values in an address.
func (l *recogniser) address(n *markup.Node, a markup.Attr) {
	raw := l.doc.Source[a.Inner.Start:a.Inner.End]
	value := strings.TrimSpace(a.Value)
	scheme, rest, _ := strings.Cut(value, ":")
	switch strings.ToLower(scheme) {
	case "tel":
		unescaped, err := url.PathUnescape(rest)
		if expr := l.numbers.expr(unescaped); err == nil && expr != "" {
			name, _, _ := strings.Cut(expr, " ")
			l.replace(n, "tel:{{ "+name+" | dial }}", name+" | dial", value, a.Inner)
			return
		}
	case "http", "https", "mailto", "":
		if l.whole(n, a, value) {
			return
		}
	}
	d := decode(raw)
	for _, m := range l.parts(d.text) {
		span := markup.Span{Start: a.Inner.Start + d.at[m.from], End: a.Inner.Start + d.at[m.to]}
		l.put(n, m.exprs[0], d.text[m.from:m.to], span)
	}
	l.literalBraces(raw, a.Inner.Start)
}

// whole makes a field of an address that a field gives as it stands.
func (l *recogniser) whole(n *markup.Node, a markup.Attr, value string) bool {
	for _, c := range l.candidates {
		if c.expr == c.field && c.text == value && field.SafeAddress(value) {
			l.put(n, c.expr, value, a.Inner)
			return true
		}
	}
	return false
}

// parts finds percent-encoded values that are a part of an address between its delimiters (RFC 3986, 2.2).
func (l *recogniser) parts(address string) []match {
	var list []match
	for i := 0; i < len(address); {
		end := strings.IndexAny(address[i:], "/?#&=:;,")
		if end < 0 {
			end = len(address) - i
		}
		part := address[i : i+end]
		if plain, err := url.PathUnescape(part); err == nil && utf8.RuneCountInString(plain) > 2 {
			for _, c := range l.candidates {
				if strings.EqualFold(c.text, plain) && (c.text == plain || c.field == "mail") &&
					string(field.AppendEscaped(nil, plain, field.EscapePart)) == part {
					list = append(list, match{from: i, to: i + end, exprs: []string{c.expr}, field: c.field})
					break
				}
			}
		}
		i += end + 1
	}
	return list
}

// decoded is a raw text with its character references decoded, and for each of its bytes where it stands in
// the raw one.
type decoded struct {
	text string
	at   []int // one more than bytes
}

func decode(raw string) decoded {
	var b strings.Builder
	var at []int
	for i := 0; i < len(raw); {
		piece, next := raw[i:i+1], i+1
		if raw[i] == '&' {
			end := strings.IndexByte(raw[i:], ';')
			if end > 0 && end < 32 {
				if plain := markup.Unescape(raw[i : i+end+1]); plain != raw[i:i+end+1] && !strings.HasSuffix(plain, ";") {
					piece, next = plain, i+end+1
				}
			}
		}
		for range len(piece) {
			at = append(at, i)
		}
		b.WriteString(piece)
		i = next
	}
	return decoded{b.String(), append(at, len(raw))}
}
