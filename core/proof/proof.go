// Package proof says whether a signature that a program shows is the one that its person should have: right, of a release
// before, altered, incomplete or somebody else's, and what of it is different. Programs rewrite what they are given; what is
// compared is what people see: words, links, pictures, and how they look. Start with Judge.
package proof

import (
	"cmp"
	"slices"
	"strings"

	"missivum/core/problem"
)

// State is the answer.
type State string

// The states.
const (
	Right      State = "right"
	Older      State = "older"      // of a release before
	Altered    State = "altered"    // something of it looks or leads different
	Incomplete State = "incomplete" // words or pictures are missing
	Another    State = "another"    // somebody else's
	None       State = "none"       // there is no signature in it that is known
	Unread     State = "unread"     // it is above the limits, or cannot be read
)

// Wanted is a signature that a person should have, or had.
type Wanted struct {
	Situation string
	Release   string
	HTML      string   // fragment, as it was prepared
	Text      string   // the text form
	Expected  []string // fragments as the person's client is known to keep and show it; none where that is not known
	Older     bool     // of a release before
}

// Owner is whose signature it should be.
type Owner struct {
	Mail string
	Name string
}

// Shown is what a program shows. One of them may be blank.
type Shown struct {
	HTML string
	Text string
}

// Input is what is judged.
type Input struct {
	Owner  Owner
	Wanted []Wanted // the present ones, and those of releases before
	Shown  Shown
	// Colleague reports whether a mail address is that of somebody else in the directory; nil for nobody's.
	Colleague func(mail string) bool
}

// Difference is one kind of thing that is not as it should be.
type Difference struct {
	Kind  Kind   `json:"kind"`
	Where string `json:"where"` // the words or the picture that it is at, as the signature should have them
	Want  string `json:"want"`  // how it should be; blank where the kind says it
	Found string `json:"found"` // how it is
	Count int    `json:"count"` // at how many words or pictures
	Usual bool   `json:"usual"` // the person's program does it to every signature: nothing to be done

	places map[string]bool // all that it is at
}

// Verdict is what was found.
type Verdict struct {
	State       State        `json:"state"`
	Situation   string       `json:"situation"` // of which situation it is; blank where that is not known
	Release     string       `json:"release"`   // of which release
	Share       float64      `json:"share"`     // of the signature's words and pictures that were found, 0 to 1
	Copies      int          `json:"copies"`    // how often it stands there
	Differences []Difference `json:"differences"`
}

// Kinds lists the kinds of the differences that something is to be done about, each once.
func (v Verdict) Kinds() []Kind {
	kinds := []Kind{}
	for _, d := range v.Differences {
		if !d.Usual && !d.Kind.Harmless() && !slices.Contains(kinds, d.Kind) {
			kinds = append(kinds, d.Kind)
		}
	}
	return kinds
}

// MaxShown is how large what is shown may be, in bytes, as markup and as text together.
const MaxShown = 2 << 20

// least is the share of a signature that must be found for it to be there at all.
const least = 0.34

// Judge compares.
func Judge(in Input) (Verdict, error) {
	if len(in.Shown.HTML)+len(in.Shown.Text) > MaxShown {
		err := problem.New(problem.TooLarge, "What was pasted is larger than %d kB; paste the signature alone.", MaxShown>>10)
		return Verdict{State: Unread}, err
	}
	s, err := readShown(in.Shown)
	if err != nil {
		return Verdict{State: Unread}, err
	}
	best, err := s.bestOf(in.Wanted)
	if err != nil {
		return Verdict{State: Unread}, err
	}
	if s.showsMarkup() {
		return Verdict{State: Altered, Differences: []Difference{{Kind: RawSource, Count: 1}}, Share: shareOf(best)}, nil
	}
	if best == nil || best.share() < least && !s.beginning(in, best) {
		return Verdict{State: s.without(in, best), Share: shareOf(best)}, nil
	}
	v := Verdict{Situation: best.wanted.Situation, Release: best.wanted.Release, Share: best.share(), Copies: best.whole()}
	if s.another(in, best) {
		v.State = Another
		return v, nil
	}
	if v.Differences, err = s.differences(best); err != nil {
		return Verdict{State: Unread}, err
	}
	v.State = stateOf(best.wanted.Older, v.Differences)
	return v, nil
}

// beginning reports whether nearly all that is shown is the beginning of a signature: a picture of its own, a word of its owner's name, or
// more.
func (s *shown) beginning(in Input, m *match) bool {
	pairs := m.best().pairs
	if len(pairs) == 0 || pairs[0][0] > 0 || len(pairs)*5 < len(s.pieces)*4 && !startsLike(m.want, s.pieces) {
		return false
	}
	w, g := m.want[0], s.pieces[pairs[0][1]]
	return len(pairs) > 1 || w.picture != nil && w.picture.address != "" && w.picture.name() == g.picture.name() ||
		slices.Contains(strings.Fields(strings.ToLower(in.Owner.Name)), w.key)
}

// stateOf is the state that differences make.
func stateOf(older bool, differences []Difference) State {
	state := Right
	if older {
		state = Older
	}
	for _, d := range differences {
		switch {
		case d.Usual || d.Kind.Harmless():
		case d.Kind == CutOff || d.Kind == PartMissing:
			return Incomplete
		case state == Right:
			state = Altered
		}
	}
	return state
}

func shareOf(m *match) float64 {
	if m == nil {
		return 0
	}
	return m.share()
}

// shown is what is shown, read.
type shown struct {
	pieces []piece
	text   bool // there is no markup in it, or none that says anything
	page   bool // it was shown as markup
}

// readShown reads what is shown.
func readShown(in Shown) (s *shown, err error) {
	s = &shown{}
	if strings.TrimSpace(in.HTML) == "" {
		s.pieces, s.text = readText(in.Text), true
		return s, nil
	}
	s.page = true
	if s.pieces, err = readPage(in.HTML); err != nil {
		return nil, err
	}
	s.text = saysNothing(s.pieces)
	return s, nil
}

// saysNothing reports whether pieces look as plain text does: without pictures, columns, colours, and links but those that are
// their own address.
func saysNothing(pieces []piece) bool {
	return !slices.ContainsFunc(pieces, func(p piece) bool {
		coloured := p.firm.colour && p.link == "" && far(p.looks.colour, plain.Color)
		return p.picture != nil || p.link != "" && !spelt(p) || coloured || p.column > 0 || p.looks.bold || p.looks.italic
	}) && !slices.ContainsFunc(pieces, func(p piece) bool { return p.firm.size && p.firm.font && p.looks.font != pieces[0].looks.font })
}

// saysMore reports whether the look of pieces is lost in others that look as plain text does.
func saysMore(pieces, others []piece) bool {
	formed := func(p piece) bool {
		return p.firm.font && p.looks.font != first(plain.Families) || p.firm.size && p.looks.size != plain.Size
	}
	return !saysNothing(pieces) || slices.ContainsFunc(pieces, formed) && !slices.ContainsFunc(others, formed)
}

// spelt reports whether a word is the address that it leads to, as programs that find addresses in texts make links.
func spelt(p piece) bool {
	return sameAddress(p.link, p.word) || sameAddress(strings.TrimPrefix(p.link, "mailto:"), p.word) ||
		digits(p.link) != "" && strings.HasPrefix(p.link, "tel:")
}

// match is how much of a wanted signature stands in what is shown.
type match struct {
	wanted Wanted
	want   []piece
	copies []occurrence
	said   float64 // how much of its text form, where text is shown
}

// occurrence is one copy of a signature in what is shown.
type occurrence struct {
	pairs    [][2]int // pieces of the wanted one and of the shown one that are the same, in their order
	from, to int      // extent among the shown pieces
}

// share is how much of the signature was found in its best copy.
func (m *match) share() float64 {
	if len(m.want) == 0 || len(m.copies) == 0 {
		return 0
	}
	return max(m.said, float64(len(m.best().pairs))/float64(len(m.want)))
}

// best is the copy in which most was found.
func (m *match) best() occurrence {
	return slices.MaxFunc(m.copies, func(a, b occurrence) int { return cmp.Compare(len(a.pairs), len(b.pairs)) })
}

// whole counts the copies that are nearly as much as the best.
func (m *match) whole() int {
	n, most := 0, len(m.best().pairs)
	for _, c := range m.copies {
		if len(c.pairs)*10 >= most*6 {
			n++
		}
	}
	return n
}

// bestOf gives the wanted signature that explains most of what is shown; nil where none is found at all.
func (s *shown) bestOf(wanted []Wanted) (best *match, err error) {
	var found []*match
	covered := map[int]bool{}
	for _, w := range wanted {
		m, err := s.match(w)
		if err != nil {
			return nil, err
		}
		if m == nil || len(m.copies) == 0 {
			continue
		}
		found = append(found, m)
		for i := m.best().from; i < m.best().to; i++ {
			covered[i] = true
		}
	}
	most := 0.0
	for _, m := range found {
		q := 2 * float64(len(m.best().pairs)) / float64(len(m.want)+len(covered))
		if best == nil || q > most+0.001 || q > most-0.001 && best.wanted.Older && !m.wanted.Older {
			best, most = m, q
		}
	}
	return best, nil
}

// match finds a wanted signature.
func (s *shown) match(w Wanted) (*match, error) {
	m := &match{wanted: w}
	var err error
	if w.HTML != "" {
		if m.want, err = readPage(w.HTML); err != nil {
			return nil, err
		}
	} else {
		m.want = readText(w.Text)
	}
	if len(m.want) == 0 {
		return nil, nil
	}
	if m.copies = occurrences(m.want, s.pieces); len(m.copies) == 0 && startsLike(m.want, s.pieces) {
		m.copies = []occurrence{startOf(len(s.pieces))}
	}
	if s.text && w.Text != "" {
		said := readText(w.Text)
		for _, o := range occurrences(said, s.pieces) {
			m.said = max(m.said, float64(len(o.pairs))/float64(len(said)))
		}
	}
	return m, nil
}
