package markup

import (
	"strings"

	"missivum/core/problem"
)

// The limits of a source. No honest signature comes near them, and what is within them is read, checked and filled in a
// time that grows with its size. All that is read as markup is held against them while it is read.
const (
	MaxSource     = 2 << 20   // bytes, with pictures that are written into it
	MaxBytes      = 256 << 10 // bytes without data: addresses (RFC 2397)
	MaxElements   = 5_000
	MaxDepth      = 100    // elements in elements
	MaxChildren   = 1_000  // elements directly in one element
	MaxAttributes = 100    // of one element
	MaxPictures   = 100    // img elements
	MaxCells      = 10_000 // of all tables, a cell counted for each column and row that it spans
	MaxComments   = 1_000  // comments, conditions, doctypes and end tags that close nothing
)

// Limits are those limits in words, for the reference.
func Limits() map[string]int {
	return map[string]int{
		"bytes": MaxSource, "bytes without data addresses": MaxBytes, "elements": MaxElements,
		"elements in elements": MaxDepth, "elements directly in one": MaxChildren,
		"attributes of one element": MaxAttributes, "pictures": MaxPictures, "table cells with their spans": MaxCells,
		"comments and stray end tags": MaxComments,
	}
}

// ErrTooLarge is returned for a source above MaxSource or MaxBytes.
var ErrTooLarge error = problem.New(problem.TooLarge, "the source is larger than %d kB; a signature has some ten", MaxBytes>>10)

// WithoutData is the length of a source in bytes without what stands in its data: addresses.
func WithoutData(source string) int {
	n := len(source)
	for at := 0; ; {
		i := indexFold(source[at:], "data:")
		if i < 0 {
			return n
		}
		at += i
		end := strings.IndexAny(source[at:], "\"' \t\r\n)>")
		if end < 0 {
			end = len(source) - at
		}
		n -= end
		at += end
	}
}

// indexFold finds an ASCII word in small letters, whatever its case in the text.
func indexFold(s, word string) int {
	for at := 0; ; {
		i := strings.IndexAny(s[at:], word[:1]+strings.ToUpper(word[:1]))
		if i < 0 || at+i+len(word) > len(s) {
			return -1
		}
		if at += i; strings.EqualFold(s[at:at+len(word)], word) {
			return at
		}
		at++
	}
}

// Beyond is the refusal of what passes a limit at a place of the source.
func (d *Document) Beyond(span Span, what string, most int) error {
	place := d.Place(span.Start)
	message := "more than " + grouped(most) + " " + what + "; a signature has a few"
	return problem.New(problem.Refused, "line %d, column %d: %s", place.Line, place.Column, message).
		At(problem.Place{Line: place.Line, Column: place.Column, Offset: span.Start, End: span.End, Message: message})
}

// count counts a node, and refuses what is one too many.
func (p *parser) count(n *Node) error {
	if p.total == nil {
		return nil
	}
	switch n.Kind {
	case Text:
		return nil // no more than tags and comments part
	case Element:
	default:
		if p.total.comments++; p.total.comments > MaxComments {
			return p.doc.Beyond(n.Open, "comments and end tags that close nothing", MaxComments)
		}
		return nil
	}
	p.total.elements++
	switch {
	case p.total.elements > MaxElements:
		return p.doc.Beyond(n.Open, "elements", MaxElements)
	case p.children(n.Parent) > MaxChildren:
		return p.doc.Beyond(n.Open, "elements directly in one", MaxChildren)
	case len(n.Attrs)+len(n.Repeated) > MaxAttributes:
		return p.doc.Beyond(n.Open, "attributes of one element", MaxAttributes)
	}
	if n.Is("img") {
		if p.total.pictures++; p.total.pictures > MaxPictures {
			return p.doc.Beyond(n.Open, "pictures", MaxPictures)
		}
	}
	if n.Is("td", "th") {
		p.total.cells += min(max(n.Pixels("colspan"), 1), maxSpan) * min(max(n.Pixels("rowspan"), 1), maxSpan)
		if p.total.cells > MaxCells {
			return p.doc.Beyond(n.Open, "table cells with their spans", MaxCells)
		}
	}
	return nil
}

// children counts an element that was added to its parent.
func (p *parser) children(parent *Node) int {
	if p.total.in == nil {
		p.total.in = map[*Node]int{}
	}
	p.total.in[parent]++
	return p.total.in[parent]
}

// totals are what is counted while a source is read.
type totals struct {
	comments, elements, pictures, cells int
	in                                  map[*Node]int // elements by the element that they are in
}

// grouped writes a number with a space between groups of three digits.
func grouped(n int) string {
	text := ""
	for ; n >= 1000; n /= 1000 {
		digits := n % 1000
		text = " " + string([]byte{byte('0' + digits/100), byte('0' + digits/10%10), byte('0' + digits%10)}) + text
	}
	digits := ""
	for ; n > 0 || digits == "" && text == ""; n /= 10 {
		digits = string(rune('0'+n%10)) + digits
	}
	return digits + text
}
