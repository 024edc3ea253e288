package proof

import (
	"image/color"
	"path"
	"slices"
	"strings"
	"unicode"

	"golang.org/x/text/unicode/norm"

	"missivum/core/markup"
	"missivum/core/style"
)

// piece is a word or a picture of a signature, with how it looks.
type piece struct {
	word    string   // as people see it; blank for a picture
	key     string   // by which pieces of two signatures are the same
	picture *picture // nil for a word
	looks   look     // as it is drawn
	firm    looked   // what of it the signature says itself, and does not take from what is around it
	link    string   // address that it leads to; blank for none
	line    int      // the line that it stands on, counted from 0
	column  int      // the cell of its row, counted from 0; -1 outside tables
	cell    int      // the innermost cell that it stands in, counted from 1; 0 outside tables
}

// look is how a piece looks.
type look struct {
	font       string  // first family, in small letters
	size       float64 // px
	colour     color.RGBA
	bold       bool
	italic     bool
	underline  bool
	rtl        bool
	background color.RGBA // behind it; transparent for none
}

// looked says of each part of a look whether the signature sets it.
type looked struct{ font, size, colour bool }

// picture is a picture of a signature.
type picture struct {
	address       string
	width, height int // px, as it is displayed; 0 for what the file has
	alt           string
}

// name is the file's name at the end of an address, by which a picture is known again.
func (p *picture) name() string {
	address, _, _ := strings.Cut(p.address, "?")
	return strings.ToLower(path.Base(address))
}

// pictureKey is the key of all pictures: which is which is looked at when they stand beside each other.
const pictureKey = "\x00picture"

// two surroundings in which a signature is looked at: what looks different in them is not set by it.
var (
	plain    = style.PlainText
	elsewise = style.Text{Families: []string{"elsewise"}, Size: 29, Color: color.RGBA{R: 1, G: 254, B: 3, A: 255}}
)

// reader collects the pieces of a page.
type reader struct {
	pieces []piece
	open   strings.Builder // the word that is being read
	start  piece           // how it looks at its first letter
	line   int
	ends   bool // the line ends before the next piece
	blank  bool // something stands on the line
	cells  int  // that were met
}

// around is what holds where a node stands.
type around struct {
	text, other style.Text
	link        string
	background  color.RGBA
	column      int
	cell        int
	underline   bool // drawn by an element around it, which those inside cannot take away
	kept        bool // white space counts
}

// readPage reads the pieces of a page or a fragment. The error is one of core/markup: it is above its limits.
func readPage(source string) ([]piece, error) {
	doc, err := markup.Parse(source)
	if err != nil {
		return nil, err
	}
	if doc, err = doc.AsBrowsers(); err != nil {
		return nil, err
	}
	style.Inline(doc)
	r := &reader{}
	r.children(doc.Root, around{text: plain, other: elsewise, column: -1})
	r.flush()
	return r.pieces, nil
}

// readText reads the pieces of a text.
func readText(text string) []piece {
	r := &reader{}
	for _, line := range strings.Split(strings.ReplaceAll(text, "\r\n", "\n"), "\n") {
		if strings.TrimRight(line, " ") != "--" {
			r.text(line, around{text: plain, other: elsewise, column: -1})
		}
		r.newLine()
	}
	r.flush()
	return r.pieces
}

func (r *reader) children(n *markup.Node, a around) {
	column := -1
	boxes := displayed(n, "flex", "grid", "inline-flex", "inline-grid") // whose parts are boxes of their own
	for _, c := range n.Children {
		if boxes {
			r.flush()
		}
		switch c.Kind {
		case markup.Text:
			r.text(c.Data, a)
		case markup.Element:
			if c.Is("td", "th") {
				column++
			}
			r.element(c, a, column)
		}
	}
}

// displayed reports whether an element is displayed in one of some ways.
func displayed(n *markup.Node, ways ...string) bool {
	display, _ := n.Declared("display")
	return slices.Contains(ways, strings.ToLower(strings.TrimSpace(display)))
}

// silent are elements of which nothing is seen.
var silent = []string{"style", "script", "title", "head", "meta", "link", "noscript", "template", "object", "iframe", "select", "textarea"}

func (r *reader) element(n *markup.Node, a around, column int) {
	if slices.Contains(silent, n.Name) && n.Name != "head" || hidden(n) {
		return
	}
	switch n.Name {
	case "br":
		r.newLine()
		return
	case "img":
		r.image(n, a)
		return
	case "hr":
		r.newLine()
		return
	}
	a = a.in(n)
	block := markup.Block(n.Name) || n.Is("tr", "li", "dd", "dt") || displayed(n, "block", "flex", "grid", "table", "list-item")
	cell := n.Is("td", "th")
	if cell {
		a.column = max(a.column, 0)*7 + column // a column of a table in a column is one of its own
		r.cells++
		a.cell = r.cells
	}
	if block && !cell {
		r.newLine()
	} else if cell {
		r.flush()
	}
	r.children(n, a)
	if block && !cell {
		r.newLine()
	} else if cell {
		r.flush()
	}
}

// in is what holds inside an element.
func (a around) in(n *markup.Node) around {
	a.text, a.other = a.text.In(n), a.other.In(n)
	if n.Is("a") {
		if href, ok := n.Attr("href"); ok {
			a.link = strings.TrimSpace(href)
		}
	}
	if line, ok := n.Declared("text-decoration"); ok && strings.Contains(line, "underline") ||
		n.Is("u", "ins") && !strings.Contains(line, "none") {
		a.underline = true
	} else if n.Is("a") && a.link != "" {
		line2, _ := n.Declared("text-decoration-line")
		a.underline = !ok || !strings.Contains(line, "none")
		if strings.Contains(line2, "none") {
			a.underline = false
		}
	}
	if c, ok := style.Background(n); ok {
		a.background = c
	}
	if space, ok := n.Declared("white-space"); ok {
		a.kept = strings.HasPrefix(space, "pre")
	} else if n.Is("pre") {
		a.kept = true
	}
	return a
}

// hidden reports whether an element is not shown.
func hidden(n *markup.Node) bool {
	if _, ok := n.Attr("hidden"); ok {
		return true
	}
	for property, value := range map[string]string{"display": "none", "visibility": "hidden"} {
		if said, ok := n.Declared(property); ok && strings.EqualFold(strings.TrimSpace(said), value) {
			return true
		}
	}
	return false
}

// text reads text: words end at white space.
func (r *reader) text(data string, a around) {
	for _, c := range data {
		switch {
		case c == '\n' && a.kept:
			r.newLine()
		case unicode.IsSpace(c) || c == '\u00a0' || c == '\u202f':
			r.flush()
		case invisible(c):
		default:
			if r.open.Len() == 0 {
				r.begin()
				r.start = a.piece(r.line)
			}
			r.open.WriteRune(c)
		}
	}
}

// invisible are characters that nothing is seen of: soft hyphens, spaces without width, marks of direction.
func invisible(c rune) bool {
	return c == '\u00ad' || c >= '\u200b' && c <= '\u200f' || c >= '\u202a' && c <= '\u202e' || c >= '\u2060' && c <= '\u2069' || c == '\ufeff'
}

// piece is a word here, before its letters are known.
func (a around) piece(line int) piece {
	same := func(x, y style.Text) looked {
		return looked{font: first(x.Families) == first(y.Families), size: x.Size == y.Size, colour: x.Color == y.Color}
	}
	return piece{looks: look{font: first(a.text.Families), size: a.text.Size, colour: a.text.Color, bold: a.text.Bold, italic: a.text.Italic,
		underline: a.underline, rtl: a.text.RTL, background: a.background},
		firm: same(a.text, a.other), link: a.link, line: line, column: a.column, cell: a.cell}
}

func first(families []string) string {
	if len(families) == 0 {
		return ""
	}
	return strings.ToLower(strings.Trim(families[0], `"' `))
}

// begin begins a piece: a line that ended is counted.
func (r *reader) begin() {
	if r.ends && r.blank {
		r.line++
		r.blank = false
	}
	r.ends, r.blank = false, true
}

func (r *reader) newLine() {
	r.flush()
	r.ends = true
}

// flush ends the word that is being read.
func (r *reader) flush() {
	if r.open.Len() == 0 {
		return
	}
	p := r.start
	p.word = norm.NFC.String(r.open.String())
	p.key = strings.ToLower(norm.NFKC.String(p.word))
	r.pieces = append(r.pieces, p)
	r.open.Reset()
}

func (r *reader) image(n *markup.Node, a around) {
	r.flush()
	src, _ := n.Attr("src")
	alt, _ := n.Attr("alt")
	p := &picture{address: strings.TrimSpace(src), alt: alt, width: pixels(n, "width"), height: pixels(n, "height")}
	if p.width == 1 || p.height == 1 { // spacers and counters
		return
	}
	r.begin()
	one := a.piece(r.line)
	one.picture, one.key = p, pictureKey
	r.pieces = append(r.pieces, one)
}

// pixels is a side of a picture as it is displayed; 0 where nothing is said.
func pixels(n *markup.Node, side string) int {
	if value, ok := n.Declared(side); ok {
		if px, fits := style.Length(value, 16); fits {
			return int(px + 0.5)
		}
	}
	return n.Pixels(side)
}
