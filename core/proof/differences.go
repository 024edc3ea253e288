package proof

import (
	"fmt"
	"image/color"
	"math"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"missivum/core/style"
)

// differences says what of the best copy is not as it should be. What the person's client is known to do to the signature is
// marked as usual.
func (s *shown) differences(m *match) ([]Difference, error) {
	var expected [][]piece
	asText := s.text && saysMore(m.want, s.pieces)
	for _, source := range m.wanted.Expected {
		pieces, err := readPage(source)
		if err != nil {
			return nil, err
		}
		expected = append(expected, pieces)
		asText = asText && saysMore(pieces, s.pieces)
	}
	want, best := m.want, m.best()
	if asText && m.wanted.Text != "" { // the text form says some things in its own way
		said := readText(m.wanted.Text)
		if copies := occurrences(said, s.pieces); len(copies) > 0 && copies[0].quality(said) > best.quality(want) {
			want, best = said, copies[0]
		}
	}
	n := m.whole()
	if n == 1 {
		best = s.withWordsBeside(want, best)
	}
	found := compare(want, s.pieces, best, asText)
	if asText && s.page { // one kind of thing that was lost is named itself
		if each := compare(want, s.pieces, best, false); lookKinds(each) == 1 {
			found = each
		}
	}
	if n > 1 {
		found = append([]Difference{{Kind: Doubled, Count: n, Found: fmt.Sprint(n, " times")}}, found...)
	}
	for _, pieces := range expected {
		copies := occurrences(m.want, pieces)
		if len(copies) == 0 {
			continue
		}
		for _, u := range append(compare(m.want, pieces, copies[0], false), unset(m.want, pieces, copies[0])...) {
			for i := range found {
				found[i].Usual = found[i].Usual || u.Kind == found[i].Kind && u.holds(found[i])
			}
		}
	}
	return found, nil
}

// withWordsBeside extends a copy to the words that stand in the signature's first and last cell, or on its first and last line: they
// were typed into it.
func (s *shown) withWordsBeside(want []piece, o occurrence) occurrence {
	if !s.page {
		return o
	}
	beside := func(w piece, here, there int) bool {
		a, b := &s.pieces[here], &s.pieces[there]
		return a.line == b.line && a.column == b.column || w.cell > 0 && a.cell > 0 && a.cell == b.cell
	}
	for o.from > 0 && beside(want[0], o.from, o.from-1) {
		o.from--
	}
	for o.to < len(s.pieces) && beside(want[len(want)-1], o.to-1, o.to) {
		o.to++
	}
	return o
}

// unset lists where a signature sets a look and what is known to be kept of it does not: what is around it decides there.
func unset(want, kept []piece, o occurrence) []Difference {
	c := &comparison{}
	for _, pair := range o.pairs {
		w, k := &want[pair[0]], &kept[pair[1]]
		if w.firm.font && !k.firm.font {
			c.add(Font, w.word, "", "")
		}
		if w.firm.size && !k.firm.size {
			c.add(Size, w.word, "", "")
		}
		if w.firm.colour && !k.firm.colour {
			c.add(Colour, w.word, "", "")
		}
	}
	return c.list
}

// lookKinds counts the kinds of looks, links and pictures among differences.
func lookKinds(list []Difference) (kinds int) {
	for _, d := range list {
		switch d.Kind {
		case Font, Size, Colour, LinkColour, Weight, Background, LinkLost, PictureLost, LayoutLost:
			kinds++
		}
	}
	return kinds
}

// quality is how well a copy is like the words of a signature, 0 to 1.
func (o occurrence) quality(want []piece) float64 {
	words := 0
	for _, p := range want {
		if p.picture == nil {
			words++
		}
	}
	return 2 * float64(len(o.pairs)) / float64(max(1, words+o.to-o.from))
}

// holds reports whether another difference of the kind is at no other place, and made the same of it.
func (d Difference) holds(other Difference) bool {
	if d.Found != other.Found && (d.Kind == WordsChanged || d.Kind == WordsAdded) {
		return false
	}
	for place := range other.places {
		if !d.places[place] {
			return false
		}
	}
	return d.places != nil || d.Count >= other.Count
}

// comparison collects differences, one of each kind.
type comparison struct {
	list []Difference
}

// add notes a difference at a place.
func (c *comparison) add(kind Kind, where, want, found string) {
	for i := range c.list {
		if c.list[i].Kind == kind {
			d := &c.list[i]
			d.places[where] = true
			switch d.Count++; {
			case d.Count <= 4 && where != "" && !strings.Contains(d.Where, where):
				d.Where += " " + where
			case d.Count == 5 && where != "":
				d.Where += " …"
			}
			return
		}
	}
	c.list = append(c.list, Difference{Kind: kind, Where: where, Want: want, Found: found, Count: 1, places: map[string]bool{where: true}})
}

// compare compares a signature with a copy of it. asText says that the copy is plain text: its looks are not compared one by one.
func compare(want, seen []piece, o occurrence, asText bool) []Difference {
	c := &comparison{}
	if asText {
		c.add(TextOnly, "", "", "")
	}
	c.words(want, seen, o, asText)
	if asText {
		return c.list
	}
	c.lines(want, seen, o)
	for _, pair := range o.pairs {
		w, g := &want[pair[0]], &seen[pair[1]]
		if w.picture != nil {
			c.picture(w.picture, g.picture)
		} else {
			c.looks(w, g)
		}
		c.link(w, g)
	}
	return c.list
}

// words compares which pieces are there at all.
func (c *comparison) words(want, seen []piece, o occurrence, asText bool) {
	var lost, lostPictures []piece
	var places []int // of the lost pictures
	next := 0
	for i := range want {
		if next < len(o.pairs) && o.pairs[next][0] == i {
			next++
			continue
		}
		switch {
		case want[i].picture == nil:
			lost = append(lost, want[i])
		case !asText:
			lostPictures, places = append(lostPictures, want[i]), append(places, i)
		}
	}
	var added []piece
	between := map[int]bool{}
	for _, pair := range o.pairs {
		between[pair[1]] = true
	}
	for j := o.from; j < o.to; j++ {
		p := &seen[j]
		ofText := asText && (p.address() || strings.Trim(p.word, "<>()[]|·-–—:") == "") // as text forms write
		if !between[j] && p.picture == nil && p.word != "--" && !ofText {
			added = append(added, seen[j])
		}
	}
	if n := len(added); n == 1 && o.to == len(seen) && len(o.pairs) > 0 && added[0].word == seen[o.to-1].word {
		next := o.pairs[len(o.pairs)-1][0] + 1
		if next < len(want) && want[next].halfIs(&added[0]) {
			added = nil // half a word, where the signature was cut off
		}
	}
	if asText { // the text form says some things in another way: signs between columns, addresses behind labels
		lost = slices.DeleteFunc(lost, func(p piece) bool { return strings.IndexFunc(p.key, letter) < 0 })
	}
	if letters(lost) == letters(added) {
		lost, added = nil, nil // the same in other pieces
	}
	end := len(want) - 1
	for end >= 0 && want[end].picture != nil {
		end--
	}
	tail := isTail(want, o, lost, end) && (len(added) <= 2 || len(lost) > 3*len(added))
	for i, p := range lostPictures {
		if !tail || places[i] < o.pairs[len(o.pairs)-1][0] { // those behind what was cut off went with it
			c.add(PictureLost, p.picture.label(), "", "")
		}
	}
	switch {
	case len(lost) == 0 && len(added) == 0:
	case len(lost) == 0:
		c.list = append(c.list, Difference{Kind: WordsAdded, Found: spoken(added), Count: len(added)})
	case len(added) == 0 || len(lost) > 3*len(added) || tail:
		kind := PartMissing
		if isTail(want, o, lost, end) {
			kind = CutOff
		}
		c.list = append(c.list, Difference{Kind: kind, Where: spoken(lost), Count: len(lost)})
	default:
		c.list = append(c.list, Difference{Kind: WordsChanged, Where: spoken(lost), Want: spoken(lost), Found: spoken(added), Count: len(lost)})
	}
}

// letters are pieces without what is between them.
func letters(pieces []piece) string {
	var b strings.Builder
	for _, p := range pieces {
		b.WriteString(p.key)
	}
	return b.String()
}

func letter(r rune) bool { return r > 127 || r >= 'a' && r <= 'z' || r >= '0' && r <= '9' }

// isTail reports whether what is lost is the end of the signature.
func isTail(want []piece, o occurrence, lost []piece, end int) bool {
	if len(o.pairs) == 0 {
		return false
	}
	lastFound := o.pairs[len(o.pairs)-1][0]
	behind := 0
	for i := lastFound + 1; i <= end; i++ {
		if want[i].picture == nil {
			behind++
		}
	}
	return behind > 0 && behind*5 >= len(lost)*4
}

// spoken writes pieces as a short text.
func spoken(pieces []piece) string {
	var words []string
	for _, p := range pieces {
		if len(words) == 8 {
			return strings.Join(words, " ") + " …"
		}
		words = append(words, short(p.word))
	}
	return strings.Join(words, " ")
}

// short cuts a long word.
func short(word string) string {
	if runes := []rune(word); len(runes) > 60 {
		return string(runes[:60]) + "…"
	}
	return word
}

// address reports whether a word is an address, as text forms write behind a label.
func (p *piece) address() bool {
	word := strings.Trim(p.word, "<>()[]")
	return strings.Contains(word, "://") || strings.HasPrefix(word, "mailto:") || strings.HasPrefix(word, "tel:")
}

// lines compares how the pieces stand to each other.
func (c *comparison) lines(want, seen []piece, o occurrence) {
	breaks, joined, columns, kept := 0, 0, 0, 0
	for n := 1; n < len(o.pairs); n++ {
		a, b := o.pairs[n-1], o.pairs[n]
		if want[b[0]].line > want[a[0]].line {
			if breaks++; seen[b[1]].line == seen[a[1]].line && seen[b[1]].column == seen[a[1]].column {
				joined++
			}
		}
		if want[b[0]].column > 0 && want[b[0]].column != want[a[0]].column {
			if columns++; seen[b[1]].column > 0 || seen[b[1]].line == seen[a[1]].line {
				kept++
			}
		}
	}
	if breaks > 0 && joined*2 >= breaks && joined > 0 {
		c.list = append(c.list, Difference{Kind: LinesJoined, Count: joined})
	}
	if columns > 0 && kept*2 < columns {
		c.list = append(c.list, Difference{Kind: LayoutLost, Count: columns - kept})
	}
}

// looks compares how a word looks, in what the signature sets itself.
func (c *comparison) looks(w, g *piece) {
	isLink := w.link != "" || g.link != ""
	if w.firm.font && w.looks.font != g.looks.font && !alike(w.looks.font, g.looks.font) {
		c.add(Font, w.word, w.looks.font, g.looks.font)
	}
	if d := math.Abs(w.looks.size - g.looks.size); w.firm.size && d > 0.8 && d > 0.06*w.looks.size {
		c.add(Size, w.word, pixelsText(w.looks.size), pixelsText(g.looks.size))
	}
	if w.looks.bold != g.looks.bold || w.looks.italic != g.looks.italic {
		c.add(Weight, w.word, weightText(w.looks), weightText(g.looks))
	}
	if w.firm.colour && far(w.looks.colour, g.looks.colour) && (w.link == "") == (g.link == "") {
		kind := Colour
		if isLink {
			kind = LinkColour
		}
		c.add(kind, w.word, style.Hex(w.looks.colour), style.Hex(g.looks.colour))
	}
	if g.looks.underline && !w.looks.underline && w.link != "" {
		c.add(LinkUnderline, w.word, "", "")
	}
	if w.looks.rtl != g.looks.rtl && strings.IndexFunc(w.word, func(r rune) bool { return r > 127 }) >= 0 {
		c.add(Direction, w.word, "", "")
	}
	if w.looks.background.A > 0 && far(w.looks.background, g.looks.background) && !(w.looks.background == white && g.looks.background.A == 0) {
		found := "none"
		if g.looks.background.A > 0 {
			found = style.Hex(g.looks.background)
		}
		c.add(Background, w.word, style.Hex(w.looks.background), found)
	}
}

var white = color.RGBA{255, 255, 255, 255}

// alike reports whether two names of fonts mean the same one.
func alike(a, b string) bool {
	plain := func(s string) string {
		return strings.NewReplacer(" ", "", "-", "").Replace(strings.TrimSuffix(s, " mt"))
	}
	return plain(a) == plain(b)
}

func pixelsText(px float64) string {
	return strconv.FormatFloat(math.Round(px*10)/10, 'f', -1, 64) + " px"
}

func weightText(l look) string {
	switch {
	case l.bold && l.italic:
		return "bold and italic"
	case l.bold:
		return "bold"
	case l.italic:
		return "italic"
	}
	return "ordinary"
}

// far reports whether people see the difference of two colours.
func far(a, b color.RGBA) bool {
	d := func(x, y uint8) int { return int(math.Abs(float64(x) - float64(y))) }
	return d(a.R, b.R)+d(a.G, b.G)+d(a.B, b.B)+d(a.A, b.A) > 24
}

// link compares where a piece leads.
func (c *comparison) link(w, g *piece) {
	label := w.word
	if w.picture != nil {
		label = w.picture.label()
	}
	switch {
	case w.link == "" && g.link == "":
	case w.link == "":
		c.add(LinkAdded, label, "", short(g.link))
	case g.link == "":
		c.add(LinkLost, label, short(w.link), "")
	case !sameAddress(w.link, g.link) && !wrapped(w.link, g.link):
		c.add(LinkChanged, label, short(w.link), short(g.link))
	}
}

// sameAddress reports whether two addresses lead to the same place.
func sameAddress(a, b string) bool { return a == b || bareAddress(a) == bareAddress(b) }

// bareAddress is an address without what writes the same in another way.
func bareAddress(address string) string {
	address = strings.TrimSpace(address)
	if strings.HasPrefix(strings.ToLower(address), "tel:") {
		return "tel:" + digits(address)
	}
	u, err := url.Parse(address)
	if err != nil {
		return strings.ToLower(address)
	}
	if u.Scheme == "mailto" {
		at, _ := url.PathUnescape(u.Opaque)
		return "mailto:" + strings.ToLower(at) + "?" + u.RawQuery
	}
	query, _ := url.QueryUnescape(u.RawQuery)
	host := strings.ToLower(u.Host)
	return strings.ToLower(u.Scheme) + "://" + host + strings.TrimSuffix(u.Path, "/") + "?" + query + "#" + u.Fragment
}

// digits are the digits of a number, with its plus.
func digits(text string) string {
	return strings.Map(func(r rune) rune {
		if r >= '0' && r <= '9' || r == '+' {
			return r
		}
		return -1
	}, strings.Replace(text, "%2B", "+", 1))
}

// wrapped reports whether an address is inside another, as gateways that look at links write them.
func wrapped(inner, outer string) bool {
	u, err := url.Parse(outer)
	if err != nil || u.Host == "" {
		return false
	}
	whole := outer
	for range 2 {
		if strings.Contains(whole, strings.TrimSuffix(inner, "/")) && len(inner) >= 8 {
			return true
		}
		if next, err := url.QueryUnescape(whole); err == nil {
			whole = next
		}
	}
	return false
}

// label is by what people know a picture.
func (p *picture) label() string {
	if p.alt != "" {
		return short(p.alt)
	}
	return short(p.name())
}

// picture compares two pictures.
func (c *comparison) picture(w, g *picture) {
	scheme, _, _ := strings.Cut(strings.ToLower(g.address), ":")
	switch {
	case g.address == "" && w.address == "":
	case g.address == "":
		c.add(PictureLost, w.label(), "", "")
		return
	case scheme == "file" || scheme == "blob":
		c.add(PictureLocal, w.label(), "", short(g.address))
		return
	case scheme == "cid" || scheme == "data" || strings.Contains(unescaped(g.address), w.name()):
	case (scheme == "http" || scheme == "https") && strings.HasPrefix(w.address, "http") && g.name() != w.name() &&
		(g.alt == "" || g.alt != w.alt):
		c.add(PictureOther, w.label(), short(w.name()), short(g.name()))
		return
	}
	if size := (func(p *picture) string { return fmt.Sprintf("%d × %d px", p.width, p.height) }); w.width > 0 && sizeDiffers(w, g) {
		found := size(g)
		if g.width == 0 && g.height == 0 {
			found = "that of the file"
		}
		c.add(PictureSize, w.label(), size(w), found)
	}
}

func unescaped(address string) string {
	if plain, err := url.QueryUnescape(address); err == nil {
		return strings.ToLower(plain)
	}
	return strings.ToLower(address)
}

// sizeDiffers reports whether people see a picture in another size. One side that is not said follows from the other.
func sizeDiffers(w, g *picture) bool {
	differs := func(a, b int) bool { return a > 0 && b > 0 && math.Abs(float64(a-b)) > math.Max(1, 0.03*float64(a)) }
	return g.width == 0 && g.height == 0 || differs(w.width, g.width) || differs(w.height, g.height)
}

// markupSigns is what shows when markup was pasted as text.
var markupSigns = regexp.MustCompile(`(?i)<(?:table|td|tr|img|a|span|p|div|pre|font|h[1-6]|ul|li|b|strong)\b[^<>]{0,400}` +
	`(?:style|href|src|width|height|cellpadding|face|color|size|align|class)\s*=|` +
	`</(?:table|td|tr|a|span|p|div|pre|font|h[1-6]|ul|li|b|strong|section|article)>`)

// showsMarkup reports whether markup itself shows.
func (s *shown) showsMarkup() bool {
	var b strings.Builder
	for _, p := range s.pieces {
		if b.Len() > 64<<10 {
			break
		}
		b.WriteString(p.word)
		b.WriteByte(' ')
	}
	signs := len(markupSigns.FindAllStringIndex(b.String(), 3))
	return signs == 3 || signs > 0 && s.text // what is left of a tag where a signature was cut off is one sign among what it cut
}

// mailAddress finds mail addresses in words and links.
var mailAddress = regexp.MustCompile(`[\p{L}\p{N}._%+'-]+@[\p{L}\p{N}.-]+\.[\p{L}]{2,}`)

// without is the state where no signature of the person was found.
func (s *shown) without(in Input, best *match) State {
	var want []piece
	if best != nil {
		want = best.want
	}
	if s.colleague(in, want, 0, len(s.pieces)) {
		return Another
	}
	return None
}

// colleague reports whether an address of somebody else stands in a part that is not in the signature, and none of the owner's.
func (s *shown) colleague(in Input, want []piece, from, to int) bool {
	if in.Colleague == nil {
		return false
	}
	other, own := false, map[string]bool{}
	for _, p := range want {
		for _, address := range mailAddress.FindAllString(p.word+" "+p.link, 4) {
			own[strings.ToLower(address)] = true
		}
	}
	for _, p := range s.pieces[from:to] {
		for _, address := range mailAddress.FindAllString(p.word+" "+p.link, 4) {
			if strings.EqualFold(address, in.Owner.Mail) {
				return false
			}
			other = other || !own[strings.ToLower(address)] && in.Colleague(strings.ToLower(address))
		}
	}
	return other
}

// another reports whether a copy is somebody else's: the owner's name is not in it, and another's address is or the name was
// replaced by other words.
func (s *shown) another(in Input, m *match) bool {
	best := m.best()
	from, to := max(0, best.from-6), min(len(s.pieces), best.to+6)
	if s.colleague(in, m.want, from, to) {
		return true
	}
	names := strings.Fields(strings.ToLower(in.Owner.Name))
	if len(names) == 0 || !hasAny(m.want, names) || hasAny(s.pieces[from:to], names) || startsLike(m.want, s.pieces) {
		return false
	}
	return len(best.pairs) < len(m.want) && best.to-best.from >= len(best.pairs) &&
		!strings.Contains(joined(s.pieces[from:to]), in.Owner.Mail) &&
		!cutAtFront(m.want, best, names)
}

// cutAtFront reports whether the names are missing because the copy begins behind them.
func cutAtFront(want []piece, o occurrence, names []string) bool {
	for i := range want {
		if slices.Contains(names, want[i].key) && i >= o.pairs[0][0] {
			return false
		}
	}
	return o.pairs[0][0] > 0 && o.from == 0
}

func hasAny(pieces []piece, names []string) bool {
	return slices.ContainsFunc(pieces, func(p piece) bool {
		return slices.Contains(names, strings.Trim(p.key, ",;:.()"))
	})
}

func joined(pieces []piece) string {
	var b strings.Builder
	for _, p := range pieces {
		b.WriteString(p.word)
		b.WriteByte(' ')
	}
	return b.String()
}
