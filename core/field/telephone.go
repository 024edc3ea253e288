package field

import (
	"slices"
	"strings"

	"missivum/core/markup"
	"missivum/core/person"
)

// Numbers are the telephone numbers that were read already, since reading one takes longer than all else of a person.
// It is not for use by several goroutines at once. The zero value is ready.
type Numbers struct {
	read map[numberKey]readNumber
}

// mostNumbers is how many numbers are kept; then they are forgotten.
const mostNumbers = 10_000

// numberKey is a number as it stands and the country it is read in.
type numberKey struct{ value, country string }

// readNumber is what was read, if it is certainly a number.
type readNumber struct {
	number person.Telephone
	ok     bool
}

// parse reads a telephone number, however often it is shown, once.
func (n *Numbers) parse(value, country string) (person.Telephone, bool) {
	key := numberKey{value, country}
	if read, ok := n.read[key]; ok {
		return read.number, read.ok
	}
	var read readNumber
	read.number, read.ok = person.ReadTelephone(value, country)
	if n.read == nil || len(n.read) >= mostNumbers {
		n.read = map[numberKey]readNumber{}
	}
	n.read[key] = read
	return read.number, read.ok
}

// Dialable reports whether a value is blank or certainly one telephone number, which without a country code is taken
// to be of the person's country, or else of the standard one (two letters each).
func (n *Numbers) Dialable(value, country, standard string) bool {
	value = person.Clean(value)
	if value == "" {
		return true
	}
	_, ok := n.parse(value, countryCode(country, standard))
	return ok
}

// number reads a telephone number of the person's country.
func (env *env) number(value string) (person.Telephone, bool) {
	if env.numbers == nil {
		env.numbers = &Numbers{}
	}
	return env.numbers.parse(value, env.Country)
}

// formatted writes a telephone number one way; what is not certainly a number stays as it is.
func (env *env) formatted(value string, format func(person.Telephone) string) string {
	if number, ok := env.number(value); ok {
		return format(number)
	}
	return value
}

// dialled is the number for an address: blank for what is not certainly one.
var dialled = ModifierKind{Name: "dial", apply: func(env *env, value, _ string) string {
	if number, ok := env.number(value); ok {
		return number.Dial()
	}
	return ""
}}

// digitsAlone is for a number that is put together from several pieces: blank for what holds more than digits and
// the signs between them.
var digitsAlone = ModifierKind{Name: "digits", apply: func(_ *env, value, _ string) string {
	var b strings.Builder
	for _, r := range value {
		switch {
		case r >= '0' && r <= '9' || r == '+' && b.Len() == 0:
			b.WriteRune(r)
		case !strings.ContainsRune(" \u00a0-./()", r):
			return ""
		}
	}
	return b.String()
}}

// telephoneSchemes begin addresses that a telephone dials.
var telephoneSchemes = []string{"tel:", "sms:", "callto:"}

// AddressPieces cuts an address at its fields. Those that are dialled, in a telephone address or by the modifier dial,
// give the number that is dialled and nothing else: they are blank for whom it is not certain, and the link is then
// to be left out, see EnterLink.
func (s *Source) AddressPieces(a markup.Attr) ([]Piece, Errors) {
	pieces, errs := s.AttrPieces(a)
	before := ""
	for i := range pieces {
		if e := pieces[i].Expr; e == nil {
			before += strings.ToLower(strings.TrimSpace(pieces[i].Text))
		} else {
			pieces[i].Expr = e.inAddress(before)
			before += "{}"
		}
	}
	return pieces, errs
}

// inAddress is the expression as it stands in an address behind a text.
func (e *Expr) inAddress(before string) *Expr {
	telephone := slices.ContainsFunc(telephoneSchemes, func(scheme string) bool { return strings.HasPrefix(before, scheme) })
	own := len(e.Fields) > 0 || e.Part != entryNone
	at := slices.IndexFunc(e.Modifiers, func(m Modifier) bool { return m.Name == "dial" })
	changed := *e
	changed.Modifiers = slices.Clone(e.Modifiers)
	switch {
	case at >= 0:
		changed.Modifiers[at].kind = &dialled
	case telephone && own && slices.Contains(telephoneSchemes, before):
		changed.Modifiers = append(changed.Modifiers, Modifier{Name: "dial", kind: &dialled})
	case telephone && own:
		changed.Modifiers = append(changed.Modifiers, Modifier{Name: "digits", kind: &digitsAlone})
	default:
		return e
	}
	changed.Dialled = true
	return &changed
}

// EnterLink begins a link's start tag, or its end tag: it is there only for whom each number in the address is
// certain. leave ends the tag.
func (s *Source) EnterLink(b *Builder, n *markup.Node) (leave func()) {
	href := n.Attribute("href")
	if href == nil || !n.Is("a", "area") {
		return func() {}
	}
	pieces, _ := s.AddressPieces(*href)
	var ends []int
	for _, p := range pieces {
		if p.Expr != nil && p.Expr.Dialled {
			ends = append(ends, b.filled(*p.Expr))
		}
	}
	return func() {
		for i := len(ends) - 1; i >= 0; i-- {
			b.End(ends[i])
		}
	}
}

// filled begins what stays only while an expression gives something; the answer is to be given to End.
func (b *Builder) filled(e Expr) int {
	index := b.program.Table.addExpr(e)
	if e.Part != entryNone {
		b.step(Step{Kind: stepFilled, Index: index, Level: b.loop - 1})
		return len(b.program.Steps) - 1
	}
	return b.Needs(Condition{filled: index + 1})
}
