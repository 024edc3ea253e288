package message

import (
	"crypto/sha256"
	"encoding/hex"
	"regexp"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"
)

// MarkClass is the class of the element around a signature that was stamped; OwnerMark, beside it, says whose it is. Clients that
// put something before class names leave both to be found.
const MarkClass = "missivum-signature"

// OwnerMark is the class that says whose signature it is, without giving the address away.
func OwnerMark(mail string) string {
	sum := sha256.Sum256([]byte(strings.ToLower(strings.TrimSpace(mail))))
	return "missivum-" + hex.EncodeToString(sum[:5])
}

// Fingerprint is by what a signature is known again after clients rewrote it: its words, three by three.
type Fingerprint struct {
	Name     string // what it is, such as "harbour, reply, release 3"
	shingles map[uint64]bool
	personal map[uint64]bool // those with a part of its owner's name in them
	owner    []string        // words that only its owner's signatures have
	nameless bool            // none of them stands in it, as with a very short name and no address
}

// Owner is who a signature belongs to.
type Owner struct {
	Mail string
	Name string
	More []string // further values that tell the owner from others, such as telephone numbers
}

// shingle is how many words stand together.
const shingle = 3

// NewFingerprint takes the fingerprint of a signature: of a page where page is true, else of a text. It is nil for one with less
// than four words, which nothing could be told by.
func NewFingerprint(name string, page bool, signature string, owner Owner) *Fingerprint {
	lines := textLines(signature)
	if page {
		lines = readPage(signature).lines
	}
	var all []string
	for _, l := range lines {
		all = appendWords(all, l.text)
	}
	if len(all) < shingle+1 {
		return nil
	}
	f := &Fingerprint{Name: name, shingles: map[uint64]bool{}, personal: map[uint64]bool{}}
	names := appendWords(nil, owner.Name)
	for i := range len(all) - shingle + 1 {
		h := hashOf(all[i : i+shingle])
		f.shingles[h] = true
		if slices.ContainsFunc(all[i:i+shingle], func(w string) bool { return slices.Contains(names, w) }) {
			f.personal[h] = true
		}
	}
	f.owner = owner.words()
	f.nameless = !f.ownedBy(all)
	return f
}

// hashOf is the FNV-1a hash of words with a space behind each.
func hashOf(words []string) uint64 {
	h := uint64(14695981039346656037)
	for _, w := range words {
		for i := range len(w) {
			h = (h ^ uint64(w[i])) * 1099511628211
		}
		h = (h ^ ' ') * 1099511628211
	}
	return h
}

// appendWords appends a text's words: letters and digits in small letters, compatible forms as one (NFKC).
func appendWords(list []string, text string) []string {
	if !isASCII(text) {
		text = norm.NFKC.String(text)
	}
	start := -1
	for i, r := range text {
		if unicode.IsLetter(r) || unicode.IsDigit(r) || unicode.Is(unicode.M, r) {
			if start < 0 {
				start = i
			}
			if r > 0x2e80 && unicode.In(r, unicode.Han, unicode.Hiragana, unicode.Katakana, unicode.Thai) { // written without spaces
				if start < i {
					list = append(list, strings.ToLower(text[start:i]))
				}
				n := i + utf8.RuneLen(r)
				list = append(list, text[i:n])
				start = -1
			}
			continue
		}
		if start >= 0 {
			list = append(list, strings.ToLower(text[start:i]))
			start = -1
		}
	}
	if start >= 0 {
		list = append(list, strings.ToLower(text[start:]))
	}
	return list
}

// Earlier is a signature of the sender that stands in a message already.
type Earlier struct {
	Start, End int     // extent in the text
	Newest     bool    // it stands in the newest text; else in the conversation below
	By         string  // mark; words; or separator: the sender's name below a separator line or in an element named signature
	Share      float64 // how much of the known signature was found again, 0 to 1; 1 by a mark, 0 by a separator
	Name       string  // which signature it is; blank where that is not known
	Whole      bool    // nothing else stands in its extent, so that it can be replaced
}

// maxEarlier is how many signatures are looked for in one text.
const maxEarlier = 20

// minShare is how much of a signature's words must be found.
const minShare = 0.5

// Earlier finds the signatures of an owner in the text that a place was found in: by their mark, and else by fingerprints.
func (p *Place) Earlier(owner Owner, known []*Fingerprint) []Earlier {
	var list []Earlier
	if p.page != nil {
		list = p.marked(OwnerMark(owner.Mail))
	}
	for from := 0; from < len(p.lines) && len(list) < maxEarlier; {
		e, next := p.fingerprinted(from, known, list)
		if e == nil {
			break
		}
		list = append(list, *e)
		from = next
	}
	if inNewest(list) == nil {
		if e := p.separated(owner); e != nil {
			list = append(list, *e)
		}
	}
	return list
}

// separated finds a signature of other words that the sender's client or host put at the end of the newest text: below a separator
// line, or in an element named signature, with the sender's name, address or number in it; nil for none.
func (p *Place) separated(owner Owner) *Earlier {
	if p.first < 0 {
		return nil
	}
	from := p.last + 1
	for i := p.last; i >= p.first && p.lines[i].depth == 0; i-- {
		if p.lines[i].own || p.lines[i].blank() && from == i+1 && i > p.first {
			from = i
			continue
		}
		if p.lines[i].text == "--" && p.last-i <= 25 {
			from = i
		}
		if p.last-i > 25 {
			break
		}
	}
	for from <= p.last && p.lines[from].blank() {
		from++
	}
	if from > p.last {
		return nil
	}
	var all []string
	for i := from; i <= p.last; i++ {
		all = appendWords(all, p.lines[i].text)
	}
	f := Fingerprint{owner: owner.words()}
	if len(f.owner) == 0 || !f.ownedBy(all) {
		return nil
	}
	e := &Earlier{By: "separator"}
	p.extent(e, from, p.last)
	return e
}

// words are what tells an owner, each as one word.
func (o Owner) words() []string {
	var list []string
	for _, value := range append([]string{o.Mail, o.Name}, o.More...) {
		if joined := strings.Join(appendWords(nil, value), ""); len(joined) >= 5 {
			list = append(list, joined)
		}
	}
	return list
}

// marked finds elements with an owner's mark.
func (p *Place) marked(owner string) []Earlier {
	var list []Earlier
	classes := regexp.MustCompile(`(?is)class\s*=\s*["'][^"']*` + MarkClass + `[^"']*` + owner)
	end := 0
	for i := range p.page.elements {
		e := &p.page.elements[i]
		if !e.signature || e.start < end || !classes.MatchString(p.page.source[e.start:e.inner]) {
			continue
		}
		end = e.end
		list = append(list, Earlier{Start: e.start, End: e.end, Newest: p.newest(e.firstLine), By: "mark", Share: 1, Whole: true})
	}
	return list
}

// newest reports whether a line belongs to the newest text.
func (p *Place) newest(line int) bool {
	return p.first >= 0 && line >= p.first && line <= p.last && line < len(p.lines) && p.lines[line].depth == 0
}

// fingerprinted finds the next signature from a line on by its words; nil for none. Lines of those in found are passed over.
func (p *Place) fingerprinted(from int, known []*Fingerprint, found []Earlier) (*Earlier, int) {
	if len(known) == 0 {
		return nil, 0
	}
	var all []string
	var lineOf []int
	for i := from; i < len(p.lines); i++ {
		l := &p.lines[i]
		taken := false
		for _, e := range found {
			taken = taken || l.start >= e.Start && l.start < e.End
		}
		if taken {
			continue
		}
		n := len(all)
		all = appendWords(all, l.text)
		for range len(all) - n {
			lineOf = append(lineOf, i)
		}
	}
	if len(all) < shingle {
		return nil, 0
	}
	hashes := make([]uint64, len(all)-shingle+1)
	for i := range hashes {
		hashes[i] = hashOf(all[i : i+shingle])
	}
	var best *Earlier
	next := 0
	for _, f := range known {
		if f == nil {
			continue
		}
		first, last, share := f.match(hashes)
		if share < minShare || best != nil && (first > best.Start || first == best.Start && share <= best.Share) {
			continue
		}
		last += shingle - 1
		if !f.ownedBy(all[first:last+1]) && !(f.nameless &&
			slices.ContainsFunc(hashes[first:last-shingle+2], func(h uint64) bool { return f.personal[h] })) {
			continue
		}
		best = &Earlier{Start: first, End: last, By: "words", Share: share, Name: f.Name}
	}
	if best == nil {
		return nil, 0
	}
	fromLine, toLine := lineOf[best.Start], lineOf[best.End]
	next = toLine + 1
	p.extent(best, fromLine, toLine)
	return best, next
}

// match finds the first stretch of words in which enough of the fingerprint stands: first and last shingle, and the share.
func (f *Fingerprint) match(hashes []uint64) (first, last int, share float64) {
	window := 2*len(f.shingles) + 10
	for start := 0; start < len(hashes); start++ {
		if !f.shingles[hashes[start]] {
			continue
		}
		seen := map[uint64]bool{}
		end, gap := start, 0
		for i := start; i < len(hashes) && i < start+window && gap <= 24; i++ {
			if f.shingles[hashes[i]] && !seen[hashes[i]] {
				seen[hashes[i]] = true
				end, gap = i, 0
				continue
			}
			gap++
		}
		if s := float64(len(seen)) / float64(len(f.shingles)); s >= minShare {
			return start, end, s
		}
		start = end
	}
	return 0, 0, 0
}

// ownedBy reports whether words name the owner.
func (f *Fingerprint) ownedBy(words []string) bool {
	joined := strings.Join(words, "")
	for _, o := range f.owner {
		if strings.Contains(joined, o) {
			return true
		}
	}
	return len(f.owner) == 0
}

// extent turns lines into an extent of the text: in a page whole elements, if nothing else stands in them.
func (p *Place) extent(e *Earlier, from, to int) {
	if from > 0 && p.lines[from-1].text == "--" {
		from--
	}
	e.Newest = p.newest(from)
	if p.page == nil {
		e.Start, e.End, e.Whole = p.lines[from].start, p.lines[to].end, true
		return
	}
	e.Start, e.End = p.lines[from].start, p.lines[to].end
	a, b := p.page.elementAt(p.lines[from].start), p.page.elementAt(p.lines[to].end-1)
	within := p.page.common(a, b)
	for within >= 0 && p.only(within, from, to) && p.page.elements[within].tag.String() != "body" {
		within = p.page.elements[within].parent
	}
	start, end := p.page.childOf(a, within), p.page.childOf(b, within)
	if start >= 0 {
		e.Start = p.page.elements[start].start
	}
	if end >= 0 {
		e.End = p.page.elements[end].end
	}
	e.Whole = within < 0 || !strict[p.page.elements[within].tag]
	for i := range p.lines {
		if l := &p.lines[i]; (i < from || i > to) && !l.blank() && l.start >= e.Start && l.start < e.End {
			e.Whole = false
		}
	}
}

// only reports whether an element shows nothing but the lines from..to.
func (p *Place) only(element, from, to int) bool {
	e := &p.page.elements[element]
	for i := e.firstLine; i < min(e.lastLine, len(p.lines)); i++ {
		if (i < from || i > to) && !p.lines[i].blank() && p.lines[i].start >= e.start && p.lines[i].start < e.end {
			return false
		}
	}
	return true
}

// childOf is the child of within that holds an element; -1 where the element is within itself.
func (p *page) childOf(e, within int) int {
	child := -1
	for ; e >= 0 && e != within; e = p.elements[e].parent {
		child = e
	}
	return child
}
