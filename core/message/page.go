package message

import (
	"regexp"
	"slices"
	"strings"
	"unicode"

	"golang.org/x/net/html"
	"golang.org/x/net/html/atom"
)

// element is an element of a page. Offsets count bytes of the page.
type element struct {
	tag       atom.Atom
	name      string
	start     int // of its start tag
	inner     int // behind its start tag
	close     int // of its end tag, or where it ended without one
	end       int // behind its end tag
	parent    int // -1 for none
	quote     quote
	signature bool
	small     bool
	firstLine int
	lastLine  int // behind it
	// of the element and all around it
	depth     int
	contained bool
	indents   bool
	signed    bool
}

// quote is how far an element says that it holds a quotation.
type quote uint8

const (
	noQuote   quote = iota
	indented        // a block quote that may be an indentation
	quoting         // a block quote that says so, by its attributes or a line at its side
	container       // an element with the name of a quotation
)

// page is a page as lines and elements. It is read in one pass and never fails: what browsers would repair is read as it
// stands.
type page struct {
	source   string
	elements []element
	lines    []line
	body     int // element of the body; -1 for none
	headEnd  int // behind which text may stand: the end of the head, or 0
}

// maxElements is how many elements of a page are read.
const maxElements = 400_000

// blocks are elements that begin and end lines.
var blocks = map[atom.Atom]bool{}

func init() {
	for _, a := range []atom.Atom{atom.Address, atom.Article, atom.Aside, atom.Blockquote, atom.Body, atom.Center, atom.Dd, atom.Details,
		atom.Div, atom.Dl, atom.Dt, atom.Fieldset, atom.Figure, atom.Footer, atom.Form, atom.H1, atom.H2, atom.H3, atom.H4, atom.H5, atom.H6,
		atom.Header, atom.Hr, atom.Html, atom.Li, atom.Main, atom.Nav, atom.Ol, atom.P, atom.Pre, atom.Section, atom.Summary, atom.Table,
		atom.Tbody, atom.Tfoot, atom.Thead, atom.Tr, atom.Ul, atom.Caption, atom.Head, atom.Dir, atom.Menu} {
		blocks[a] = true
	}
}

// voids are elements without content (HTML Living Standard, 13.1.2).
var voids = map[atom.Atom]bool{atom.Area: true, atom.Base: true, atom.Br: true, atom.Col: true, atom.Embed: true, atom.Hr: true,
	atom.Img: true, atom.Input: true, atom.Link: true, atom.Meta: true, atom.Param: true, atom.Source: true, atom.Track: true, atom.Wbr: true,
	atom.Basefont: true, atom.Bgsound: true, atom.Frame: true, atom.Keygen: true}

// reader builds a page.
type reader struct {
	page
	stack     []int
	text      strings.Builder
	textStart int
	textEnd   int
	block     int
	small     int // how many open elements are in small letters
	rule      bool
	marker    bool
	bold      int
	beginBold bool
	skip      int // in how many elements whose text is not shown
	pre       int // in how many elements that keep line ends
	judged    map[string]uint8
	key       []byte
}

// readPage reads a page.
func readPage(source string) *page {
	r := &reader{page: page{source: source, body: -1}, block: -1, judged: map[string]uint8{}}
	z := html.NewTokenizer(strings.NewReader(source))
	z.SetMaxBuf(0)
	at := 0
	for {
		kind := z.Next()
		if kind == html.ErrorToken {
			break
		}
		start := at
		at += len(z.Raw())
		switch kind {
		case html.TextToken:
			r.write(source[start:at], start)
		case html.StartTagToken, html.SelfClosingTagToken:
			r.open(z, start, at)
		case html.EndTagToken:
			name, _ := z.TagName()
			r.shut(atom.Lookup(name), string(name), start, at)
		}
		if len(r.elements) > maxElements {
			break
		}
	}
	r.flush()
	for len(r.stack) > 0 {
		r.pop(len(source), len(source))
	}
	return &r.page
}

// write takes text in.
func (r *reader) write(raw string, at int) {
	if r.skip > 0 {
		return
	}
	if r.pre > 0 {
		for raw != "" {
			piece, rest, broken := strings.Cut(raw, "\n")
			r.piece(piece, at)
			if !broken {
				return
			}
			at += len(piece) + 1
			r.lineBreak(at - 1)
			raw = rest
		}
		return
	}
	r.piece(raw, at)
}

// piece takes text in that holds no line end that counts.
func (r *reader) piece(raw string, at int) {
	seen := strings.TrimLeft(raw, " \t\r\n\f")
	if seen == "" {
		if r.text.Len() > 0 {
			r.text.WriteByte(' ')
		}
		return
	}
	text := raw
	if strings.IndexByte(raw, '&') >= 0 {
		text = html.UnescapeString(raw)
	}
	if r.blankSoFar() {
		if collapse(text) == "" {
			if r.text.Len() == 0 {
				r.textStart = at + len(raw) - len(seen)
				r.block = r.top()
			}
			r.text.WriteString(text)
			r.textEnd = at + len(raw)
			return
		}
		r.text.Reset()
		r.textStart = at + len(raw) - len(seen)
		r.block = r.top()
		r.beginBold = r.bold > 0
	}
	r.text.WriteString(text)
	r.textEnd = at + len(strings.TrimRight(raw, " \t\r\n\f"))
}

// blankSoFar reports whether the line that is being read shows nothing yet.
func (r *reader) blankSoFar() bool {
	return r.text.Len() == 0 || r.text.Len() < 40 && collapse(r.text.String()) == ""
}

func (r *reader) top() int {
	if len(r.stack) == 0 {
		return -1
	}
	return r.stack[len(r.stack)-1]
}

// flush ends a line, if it shows something.
func (r *reader) flush() {
	if r.text.Len() == 0 {
		return
	}
	text := collapse(r.text.String())
	l := line{text: text, start: r.textStart, end: r.textEnd, block: r.block, rule: r.rule, marker: r.marker,
		bold: r.beginBold, small: r.small > 0}
	if text != "" {
		r.rule, r.marker = false, false
		var rest string
		if depth, rest0 := quoteSigns(text); depth > 0 {
			l.depth, rest, l.prefixed = depth, rest0, true
			l.text = collapse(rest)
		}
		if strings.TrimRight(l.text, " ") == "--" {
			l.text = "--"
		}
	} else {
		l.rule, l.marker = false, false
	}
	if l.block >= 0 {
		e := &r.elements[l.block]
		l.depth += e.depth
		l.quoteClass, l.indent, l.own = e.contained, e.indents, e.signed
	}
	r.lines = append(r.lines, l)
	r.text.Reset()
	r.beginBold = false
}

// lineBreak ends a line; one that shows nothing is a blank line.
func (r *reader) lineBreak(at int) {
	if r.text.Len() == 0 {
		r.textStart, r.textEnd, r.block = at, at, r.top()
		r.text.WriteByte(' ')
	}
	r.flush()
}

// open takes a start tag in.
func (r *reader) open(z *html.Tokenizer, start, end int) {
	name, more := z.TagName()
	tag := atom.Lookup(name)
	e := element{tag: tag, start: start, inner: end, close: end, end: end}
	if tag == 0 {
		e.name = string(name)
	}
	a := r.attributes(z, more)
	switch {
	case tag == atom.Br:
		r.lineBreak(start)
		return
	case tag == atom.Img:
		if r.text.Len() == 0 {
			r.textStart, r.block = start, r.top()
		}
		if r.blankSoFar() {
			r.text.Reset()
			r.textStart, r.block = start, r.top()
			if a.tiny {
				return
			}
		}
		r.text.WriteString(" ▣ ") // a picture is something to see
		r.textEnd = end
		return
	case tag == atom.Td || tag == atom.Th:
		r.closeImplied(tag, start)
		if r.text.Len() > 0 {
			r.text.WriteByte(' ')
		}
	case blocks[tag]:
		r.flush()
		r.closeImplied(tag, start)
	}
	if tag == atom.Hr {
		r.rule = true
	}
	if voids[tag] {
		return
	}
	e.parent = r.top()
	e.quote, e.signature = a.quote(tag)
	if tag == atom.Body || tag == atom.Html {
		e.quote, e.signature = noQuote, false
	}
	r.marker = r.marker || a.marker
	if a.topLine && e.quote == noQuote && tag != atom.Td && tag != atom.Th {
		r.rule = true
	}
	e.firstLine = len(r.lines)
	if e.parent >= 0 {
		around := &r.elements[e.parent]
		e.depth, e.contained, e.indents, e.signed = around.depth, around.contained, around.indents, around.signed
	}
	switch e.quote {
	case quoting:
		e.depth++
	case container:
		e.contained = true
	case indented:
		e.indents = true
	}
	e.signed = e.signed || e.signature
	r.elements = append(r.elements, e)
	i := len(r.elements) - 1
	if tag == atom.Body && r.body < 0 {
		r.body = i
	}
	r.stack = append(r.stack, i)
	r.enter(tag, a, 1)
	r.elements[i].small = a.small
}

// enter counts what an element changes for the text in it.
func (r *reader) enter(tag atom.Atom, a attrs, by int) {
	switch tag {
	case atom.B, atom.Strong, atom.Th:
		r.bold += by
	case atom.Pre:
		r.pre += by
	case atom.Script, atom.Style, atom.Title, atom.Head, atom.Noscript, atom.Template, atom.Xmp, atom.Object:
		r.skip += by
	}
	if a.small {
		r.small += by
	}
}

// implied are elements that end when one of their like begins (HTML Living Standard, 13.1.2.4).
var implied = map[atom.Atom][]atom.Atom{
	atom.Li: {atom.Li}, atom.Td: {atom.Td, atom.Th}, atom.Th: {atom.Td, atom.Th}, atom.Tr: {atom.Tr, atom.Td, atom.Th},
	atom.Dd: {atom.Dd, atom.Dt}, atom.Dt: {atom.Dd, atom.Dt}, atom.Option: {atom.Option}, atom.Body: {atom.Head},
	atom.Tbody: {atom.Tbody, atom.Thead, atom.Tr, atom.Td, atom.Th}, atom.Tfoot: {atom.Tbody, atom.Thead, atom.Tr, atom.Td, atom.Th},
}

// closeImplied ends elements whose end tag may be left out.
func (r *reader) closeImplied(tag atom.Atom, at int) {
	for len(r.stack) > 0 {
		top := r.elements[r.top()].tag
		switch {
		case top == atom.P && blocks[tag]:
		case slices.Contains(implied[tag], top):
		default:
			return
		}
		r.pop(at, at)
	}
}

// shut takes an end tag in. One that ends nothing is passed over.
func (r *reader) shut(tag atom.Atom, name string, start, end int) {
	if tag == atom.P || blocks[tag] {
		r.flush()
	} else if tag == atom.Td || tag == atom.Th {
		if r.text.Len() > 0 {
			r.text.WriteByte(' ')
		}
	}
	for i := len(r.stack) - 1; i >= 0 && i >= len(r.stack)-500; i-- {
		e := &r.elements[r.stack[i]]
		if e.tag != tag || tag == 0 && e.name != name {
			if e.tag == atom.Table && tag != atom.Body && tag != atom.Html && !inTable(tag) && !blocks[tag] {
				return // a stray end tag in a table ends nothing around it
			}
			continue
		}
		for len(r.stack) > i+1 {
			r.pop(start, start)
		}
		r.pop(start, end)
		return
	}
}

func inTable(tag atom.Atom) bool {
	return tag == atom.Table || tag == atom.Tr || tag == atom.Td || tag == atom.Th || tag == atom.Tbody ||
		tag == atom.Thead || tag == atom.Tfoot
}

// pop ends the element that was opened last.
func (r *reader) pop(start, end int) {
	i := r.top()
	e := &r.elements[i]
	r.stack = r.stack[:len(r.stack)-1]
	e.close, e.end = start, end
	if blocks[e.tag] {
		r.flush()
	}
	e.lastLine = len(r.lines)
	if e.tag == atom.Head {
		r.headEnd = end
	}
	r.enter(e.tag, attrs{small: e.small}, -1)
}

// attrs is what the attributes of an element say of quotations and signatures.
type attrs struct {
	cite      bool // type="cite" or cite="…"
	names     bool // named as a quotation
	marker    bool // named as where an answer or a forwarded message begins
	signature bool
	side      bool // a line at its side
	topLine   bool // a line above it
	small     bool
	tiny      bool // a picture that shows nothing
}

var (
	quoteNames  = regexp.MustCompile(`(?i)quot(?:e|ed|ation)|\bcit(?:e|ed|ation)\b|_cite`)
	markerNames = regexp.MustCompile(`(?i)rply|reply|fwd|forward|appendonsend|original-?message|history|divider|__headers__`)
	signNames   = regexp.MustCompile(`(?i)signature`)
	sideLine    = regexp.MustCompile(`(?i)border-(?:left|right)(?:-width|-style|-color)?\s*:\s*(?:[^;]*[1-9.]\d*\s*(?:px|pt|em|ex)|solid)`)
	upperLine   = regexp.MustCompile(`(?i)border-top\s*:\s*[^;]*(?:solid|[1-9.]\d*\s*(?:px|pt))`)
	tinyLetters = regexp.MustCompile(`(?i)font-size\s*:\s*(?:(?:[1-9]|1[01])(?:\.\d+)?px|[1-8](?:\.\d+)?pt|x-small|xx-small|0?\.[1-7]\d*r?em)`)
	paleLetters = regexp.MustCompile(`(?i)(?:^|[;\s"])color\s*:\s*(?:#?(?:7[0-9a-f]){3}|#?(?:[89a-c][0-9a-f]){3}|` +
		`#(?:[7-c])([7-c])([7-c])\b|gr[ae]y|silver|darkgr[ae]y)`)
)

// bits of what an attribute's value says; pages repeat the same few values very often.
const (
	bitNames = 1 << iota
	bitMarker
	bitSignature
	bitSide
	bitTopLine
	bitSmall
)

// maxJudged is how many values are remembered.
const maxJudged = 2_000

// judge says what the value of a naming attribute, or of a style, says.
func (r *reader) judge(style bool, value []byte) uint8 {
	key := byte('n')
	if style {
		key = 's'
	}
	r.key = append(append(r.key[:0], key), value...)
	if bits, ok := r.judged[string(r.key)]; ok {
		return bits
	}
	var bits uint8
	for _, one := range []struct {
		style bool
		test  *regexp.Regexp
		bit   uint8
	}{{false, quoteNames, bitNames}, {false, markerNames, bitMarker}, {false, signNames, bitSignature}, {true, sideLine, bitSide},
		{true, upperLine, bitTopLine}, {true, tinyLetters, bitSmall}, {true, paleLetters, bitSmall}} {
		if one.style == style && one.test.Match(value) {
			bits |= one.bit
		}
	}
	if len(r.judged) < maxJudged {
		r.judged[string(r.key)] = bits
	}
	return bits
}

// attributes reads the attributes that count.
func (r *reader) attributes(z *html.Tokenizer, more bool) attrs {
	var a attrs
	one := 0
	for more {
		var key, value []byte
		key, value, more = z.TagAttr()
		if len(value) > 2_000 {
			continue
		}
		var bits uint8
		switch string(key) {
		case "type":
			a.cite = a.cite || strings.EqualFold(string(value), "cite")
		case "cite":
			a.cite = true
		case "class", "id", "data-marker", "name":
			bits = r.judge(false, value)
		case "style":
			if len(value) > 10 {
				bits = r.judge(true, value)
			}
		case "width", "height":
			if v := string(value); v == "1" || v == "0" {
				one++
			}
		}
		a.names = a.names || bits&bitNames != 0
		a.marker = a.marker || bits&bitMarker != 0
		a.signature = a.signature || bits&bitSignature != 0
		a.side = a.side || bits&bitSide != 0
		a.topLine = a.topLine || bits&bitTopLine != 0
		a.small = a.small || bits&bitSmall != 0
	}
	a.tiny = one > 1
	return a
}

// quote says what the element is by its tag and attributes.
func (a attrs) quote(tag atom.Atom) (quote, bool) {
	switch {
	case tag == atom.Blockquote && (a.cite || a.names || a.side):
		return quoting, a.signature
	case tag == atom.Blockquote:
		return indented, a.signature
	case a.names && (tag == atom.Div || tag == atom.Span || tag == atom.Section || tag == atom.Table || tag == atom.Td ||
		tag == atom.P || tag == atom.Details):
		return container, a.signature
	case a.side && tag == atom.Div:
		return indented, a.signature
	}
	return noQuote, a.signature
}

// splits reports whether an element must be ended before a block may stand, and begun anew behind it.
func (e *element) splits() bool {
	switch e.tag {
	case atom.P, atom.Pre, atom.H1, atom.H2, atom.H3, atom.H4, atom.H5, atom.H6, atom.B, atom.I, atom.U, atom.S, atom.Em, atom.Strong,
		atom.Font, atom.Span, atom.A, atom.Small, atom.Big, atom.Tt, atom.Code, atom.Sub, atom.Sup, atom.Strike, atom.Del, atom.Ins, atom.Label:
		return true
	}
	return false
}

// letters reports whether a text shows letters or digits.
func letters(s string) bool {
	return strings.IndexFunc(s, func(r rune) bool { return unicode.IsLetter(r) || unicode.IsDigit(r) }) >= 0
}
