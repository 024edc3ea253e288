package picture

import (
	"errors"
	"fmt"
	"html"
	"image"
	"image/color"
	"slices"
	"strings"

	"missivum/core/problem"
)

// maxPieces is how many pieces a design may be cut into.
const maxPieces = 100

// Line is a cut, in px of the design as it is shown.
type Line struct {
	// At is px from the left for one that goes down, from the top for one that goes across.
	At    int  `json:"at" yaml:"at"`
	Down  bool `json:"down,omitempty" yaml:"down,omitempty"`   // from top to bottom; otherwise from left to right
	From  int  `json:"from,omitempty" yaml:"from,omitempty"`   // px where it begins
	Until int  `json:"until,omitempty" yaml:"until,omitempty"` // px where it ends; 0 for the design's edge
}

// Label says of the piece that lies at a place what it leads to and what it says. It stays with its place when
// lines are moved.
type Label struct {
	X    int    `json:"x" yaml:"x"` // px
	Y    int    `json:"y" yaml:"y"` // px
	Link string `json:"link,omitempty" yaml:"link,omitempty"`
	Alt  string `json:"alt,omitempty" yaml:"alt,omitempty"`
}

// SliceMap is how a design is cut; it is kept beside the design and can be edited and cut anew.
type SliceMap struct {
	Width    int     `json:"width" yaml:"width"`                           // px at which the design is shown
	Multiple int     `json:"multiple,omitempty" yaml:"multiple,omitempty"` // pixels for each px; 0 for 2
	Columns  int     `json:"columns,omitempty" yaml:"columns,omitempty"`   // equal columns of a grid; 0 for none
	Rows     int     `json:"rows,omitempty" yaml:"rows,omitempty"`         // equal rows of a grid; 0 for none
	Lines    []Line  `json:"lines,omitempty" yaml:"lines,omitempty"`
	Pieces   []Label `json:"pieces,omitempty" yaml:"pieces,omitempty"`
}

// Piece is one piece of a design.
type Piece struct {
	Name       string `json:"name"` // of its picture; empty when it needs none
	X          int    `json:"x"`    // px
	Y          int    `json:"y"`
	Width      int    `json:"width"`
	Height     int    `json:"height"`
	Link       string `json:"link"`
	Alt        string `json:"alt"`
	Background string `json:"background"` // its mean colour, which shows while the picture is blocked
	Plain      string `json:"plain"`      // the colour when it is only that; it becomes the cell's background
	Letters    bool   `json:"letters"`    // it seems to hold text, which is better typed
	Bytes      int    `json:"bytes"`

	Rendition *Rendition `json:"-"`
}

// Sliced is a design that was cut.
type Sliced struct {
	Width  int      `json:"width"`  // px
	Height int      `json:"height"` // px
	Pieces []Piece  `json:"pieces"`
	Table  string   `json:"table"` // HTML; its pictures are named by data-picture
	Notes  []string `json:"notes"`
}

// Slice cuts a design into pieces and makes the table in which they join. name begins the pieces' names.
func Slice(data []byte, m SliceMap, name string) (_ *Sliced, err error) {
	defer func() { err = problem.As(problem.Invalid, err) }()
	p, err := Read(data)
	if err != nil {
		return nil, err
	}
	if m.Multiple == 0 {
		m.Multiple = 2
	}
	whole := Recipe{Width: m.Width, Multiple: m.Multiple}
	if err := whole.Check(); err != nil {
		return nil, err
	}
	width, height := whole.Display(p.Facts)
	pieces, err := m.cut(width, height)
	if err != nil {
		return nil, err
	}
	pixels, err := p.frame(p.Image(), whole, width*m.Multiple, height*m.Multiple, &Picture{})
	if err != nil {
		return nil, err
	}
	s := &Sliced{Width: width, Height: height, Notes: []string{}}
	tree, err := guillotine(pieces, image.Rect(0, 0, width, height))
	if err != nil {
		return nil, err
	}
	if s.Pieces, err = m.labelled(pieces, s); err != nil {
		return nil, err
	}
	for i := range s.Pieces {
		if err := s.Pieces[i].render(pixels, m.Multiple, fmt.Sprintf("%s-%d", name, i+1)); err != nil {
			return nil, err
		}
		s.remark(&s.Pieces[i])
	}
	byPlace := map[image.Point]*Piece{}
	for i := range s.Pieces {
		byPlace[image.Pt(s.Pieces[i].X, s.Pieces[i].Y)] = &s.Pieces[i]
	}
	var b strings.Builder
	writeTable(&b, tree, byPlace, "")
	s.Table = b.String()
	return s, nil
}

// remark points out what may be wrong with a piece.
func (s *Sliced) remark(p *Piece) {
	place := fmt.Sprintf("the piece at %d,%d (%d x %d px)", p.X, p.Y, p.Width, p.Height)
	switch {
	case p.Letters:
		s.Notes = append(s.Notes, place+" seems to hold text: typed, it can be read while pictures are blocked, copied and enlarged")
	case p.Name != "" && p.Alt == "" && p.Link != "":
		s.Notes = append(s.Notes, place+" is a link without alternative text: blocked, it cannot be seen")
	}
}

// all lists the map's lines with those of its grid and ends filled in.
func (m SliceMap) all(width, height int) ([]Line, error) {
	if m.Columns < 0 || m.Rows < 0 || m.Columns > maxPieces || m.Rows > maxPieces || len(m.Lines) > maxPieces {
		return nil, fmt.Errorf("at most %d columns, rows and lines are cut", maxPieces)
	}
	lines := slices.Clone(m.Lines)
	for i := 1; i < m.Columns; i++ {
		lines = append(lines, Line{At: i * width / m.Columns, Down: true})
	}
	for i := 1; i < m.Rows; i++ {
		lines = append(lines, Line{At: i * height / m.Rows})
	}
	for i := range lines {
		l := &lines[i]
		side, length := height, width
		if l.Down {
			side, length = width, height
		}
		if l.Until == 0 {
			l.Until = length
		}
		if l.At <= 0 || l.At >= side || l.From < 0 || l.Until > length || l.From >= l.Until {
			return nil, fmt.Errorf("the line at %d from %d until %d does not lie in the design of %d x %d px", l.At, l.From, l.Until, width, height)
		}
	}
	return lines, nil
}

// cut finds the pieces that the lines leave, from the upper left on.
func (m SliceMap) cut(width, height int) ([]image.Rectangle, error) {
	lines, err := m.all(width, height)
	if err != nil {
		return nil, err
	}
	xs, ys := []int{0, width}, []int{0, height}
	for _, l := range lines {
		if l.Down {
			xs, ys = append(xs, l.At), append(ys, l.From, l.Until)
		} else {
			ys, xs = append(ys, l.At), append(xs, l.From, l.Until)
		}
	}
	slices.Sort(xs)
	slices.Sort(ys)
	xs, ys = slices.Compact(xs), slices.Compact(ys)
	parted := func(down bool, at, from, until int) bool {
		return slices.ContainsFunc(lines, func(l Line) bool {
			return l.Down == down && l.At == at && l.From <= from && l.Until >= until
		})
	}
	taken := map[image.Point]bool{}
	var pieces []image.Rectangle
	for j := range len(ys) - 1 {
		for i := range len(xs) - 1 {
			if taken[image.Pt(i, j)] {
				continue
			}
			right, low := i+1, j+1
			for right < len(xs)-1 && !taken[image.Pt(right, j)] && !parted(true, xs[right], ys[j], ys[j+1]) {
				right++
			}
			joined := func() bool { // all of the next row belongs to the piece
				for k := i; k < right; k++ {
					if parted(false, ys[low], xs[k], xs[k+1]) || taken[image.Pt(k, low)] || k > i && parted(true, xs[k], ys[low], ys[low+1]) {
						return false
					}
				}
				return (i == 0 || taken[image.Pt(i-1, low)] || parted(true, xs[i], ys[low], ys[low+1])) &&
					(right == len(xs)-1 || parted(true, xs[right], ys[low], ys[low+1]))
			}
			for low < len(ys)-1 && joined() {
				low++
			}
			for y := j; y < low; y++ {
				for x := i; x < right; x++ {
					taken[image.Pt(x, y)] = true
				}
			}
			pieces = append(pieces, image.Rect(xs[i], ys[j], xs[right], ys[low]))
		}
	}
	if len(pieces) > maxPieces {
		return nil, fmt.Errorf("the lines make %d pieces; at most %d are cut", len(pieces), maxPieces)
	}
	return pieces, nil
}

// labelled gives the pieces their links and alternative texts.
func (m SliceMap) labelled(cut []image.Rectangle, s *Sliced) ([]Piece, error) {
	pieces := make([]Piece, len(cut))
	for i, r := range cut {
		pieces[i] = Piece{X: r.Min.X, Y: r.Min.Y, Width: r.Dx(), Height: r.Dy()}
	}
	for _, l := range m.Pieces {
		i := slices.IndexFunc(cut, func(r image.Rectangle) bool { return image.Pt(l.X, l.Y).In(r) })
		switch {
		case i < 0:
			return nil, fmt.Errorf("there is no piece at %d,%d; the design has %d x %d px", l.X, l.Y, s.Width, s.Height)
		case pieces[i].Link != "" && l.Link != "" && pieces[i].Link != l.Link, pieces[i].Alt != "" && l.Alt != "" && pieces[i].Alt != l.Alt:
			s.Notes = append(s.Notes, fmt.Sprintf("two labels lie in the piece at %d,%d; the first counts", pieces[i].X, pieces[i].Y))
			continue
		}
		pieces[i].Link, pieces[i].Alt = l.Link, l.Alt
	}
	return pieces, nil
}

// render makes a piece's picture out of the design's pixels, or finds that it needs none.
func (p *Piece) render(pixels *image.NRGBA, multiple int, name string) error {
	at := image.Rect(p.X, p.Y, p.X+p.Width, p.Y+p.Height)
	part := cloned(toNRGBA(pixels.SubImage(image.Rectangle{at.Min.Mul(multiple), at.Max.Mul(multiple)})))
	p.Background = hexOf(meanColour(part))
	if c, plain := onlyColour(part); plain && p.Link == "" && p.Alt == "" {
		p.Plain = hexOf(c)
		if c.A == 0 {
			p.Plain = "transparent"
		}
		return nil
	}
	written, err := Write(part, Weight{}, 96*multiple)
	if err != nil {
		return err
	}
	p.Name, p.Rendition, p.Bytes = name, written, len(written.Data)
	p.Letters = holdsLetters(part)
	return nil
}

// meanColour averages the light of a picture's pixels over white.
func meanColour(img *image.NRGBA) color.NRGBA {
	return Resized(over(img, color.NRGBA{255, 255, 255, 255}), 1, 1).NRGBAAt(0, 0)
}

// readableOn is the colour of text that contrasts more with a background.
func readableOn(background string) string {
	if c, err := parseColour(background); err == nil && lightnessOf(c) < 55 {
		return "#ffffff"
	}
	return "#1c1c1c"
}

// onlyColour reports whether all pixels are nearly of one colour.
func onlyColour(img *image.NRGBA) (color.NRGBA, bool) {
	first := img.NRGBAAt(0, 0)
	for i := 0; i+3 < len(img.Pix); i += 4 {
		for k, v := range [4]uint8{first.R, first.G, first.B, first.A} {
			if d := int(img.Pix[i+k]) - int(v); (d > 3 || d < -3) && !(first.A == 0 && img.Pix[i+3] == 0) {
				return first, false
			}
		}
	}
	return first, true
}

var errPinwheel = errors.New("the pieces go around one another like a windmill and no table joins them safely; let " +
	"one of the lines go through to an edge")

// part is a region of the design: one piece, or regions beside or below one another.
type part struct {
	at    image.Rectangle
	down  bool // the regions stand below one another
	parts []part
}

// guillotine finds the tables in which the pieces stand: rows that go all through, then columns, and so on.
func guillotine(pieces []image.Rectangle, at image.Rectangle) (part, error) {
	if len(pieces) == 1 {
		return part{at: at}, nil
	}
	for _, down := range []bool{true, false} {
		bounds := cuts(pieces, at, down)
		if len(bounds) <= 2 {
			continue
		}
		p := part{at: at, down: down}
		for i := range len(bounds) - 1 {
			region := image.Rect(bounds[i], at.Min.Y, bounds[i+1], at.Max.Y)
			if down {
				region = image.Rect(at.Min.X, bounds[i], at.Max.X, bounds[i+1])
			}
			var inside []image.Rectangle
			for _, r := range pieces {
				if r.In(region) {
					inside = append(inside, r)
				}
			}
			sub, err := guillotine(inside, region)
			if err != nil {
				return p, err
			}
			p.parts = append(p.parts, sub)
		}
		return p, nil
	}
	return part{}, errPinwheel
}

// cuts are the places at which no piece is cut through, with both ends.
func cuts(pieces []image.Rectangle, at image.Rectangle, down bool) []int {
	span := func(r image.Rectangle) (int, int) {
		if down {
			return r.Min.Y, r.Max.Y
		}
		return r.Min.X, r.Max.X
	}
	var bounds []int
	for _, r := range pieces {
		from, to := span(r)
		bounds = append(bounds, from, to)
	}
	slices.Sort(bounds)
	bounds = slices.Compact(bounds)
	return slices.DeleteFunc(bounds, func(b int) bool {
		return slices.ContainsFunc(pieces, func(r image.Rectangle) bool { from, to := span(r); return from < b && b < to })
	})
}

// writeTable writes a region as a table. Pieces touch because cells have neither padding nor spacing, pictures
// are blocks, and no white space or line of text stands beside them.
func writeTable(b *strings.Builder, p part, pieces map[image.Point]*Piece, indent string) {
	rows := [][]part{{p}}
	switch {
	case p.parts != nil && p.down:
		rows = nil
		shared := sameColumns(p)
		for _, r := range p.parts {
			if shared {
				rows = append(rows, r.parts)
			} else {
				rows = append(rows, []part{r})
			}
		}
	case p.parts != nil:
		rows = [][]part{p.parts}
	}
	fmt.Fprintf(b, "%s<table role=\"presentation\" width=\"%d\" cellpadding=\"0\" cellspacing=\"0\" border=\"0\" "+
		"style=\"border-collapse: collapse; width: %dpx\">\n",
		indent, p.at.Dx(), p.at.Dx())
	for _, row := range rows {
		b.WriteString(indent + "  <tr>\n")
		for _, cell := range row {
			writeCell(b, cell, pieces, indent+"    ")
		}
		b.WriteString(indent + "  </tr>\n")
	}
	b.WriteString(indent + "</table>\n")
}

// TableWith puts addresses into a table in place of its pictures' names, to be looked at.
func TableWith(table string, addresses map[string]string) string {
	var pairs []string
	for name, address := range addresses {
		pairs = append(pairs, fmt.Sprintf("data-picture=%q", name), fmt.Sprintf("src=%q", address))
	}
	return strings.NewReplacer(pairs...).Replace(table)
}

// sameColumns reports whether all of a region's rows are parted at the same places.
func sameColumns(p part) bool {
	var first []int
	for i, r := range p.parts {
		var at []int
		for _, c := range r.parts {
			at = append(at, c.at.Min.X)
		}
		if i == 0 {
			first = at
		}
		if r.parts == nil || r.down || !slices.Equal(at, first) {
			return false
		}
	}
	return true
}

// writeCell writes the cell of a piece.
func writeCell(b *strings.Builder, p part, pieces map[image.Point]*Piece, indent string) {
	piece := pieces[p.at.Min]
	background := ""
	if p.parts == nil && piece.Background != "" && piece.Plain != "transparent" {
		background = fmt.Sprintf(" bgcolor=%q", piece.Background)
	}
	fmt.Fprintf(b, "%s<td width=\"%d\" height=\"%d\"%s style=\"padding: 0; font-size: 0; line-height: 0\">", indent,
		p.at.Dx(), p.at.Dy(), background)
	switch {
	case p.parts != nil:
		b.WriteString("\n")
		writeTable(b, p, pieces, indent+"  ")
		b.WriteString(indent)
	case piece.Plain != "":
		b.WriteString("&nbsp;")
	default:
		img := fmt.Sprintf(`<img data-picture=%q width="%d" height="%d" alt="%s" style="display: block; border: 0; `+
			`font-family: Arial, sans-serif; font-size: 12px; line-height: 16px; color: %s">`,
			piece.Name, piece.Width, piece.Height, html.EscapeString(piece.Alt), readableOn(piece.Background))
		if piece.Link != "" {
			img = fmt.Sprintf(`<a href="%s" style="text-decoration: none">%s</a>`, html.EscapeString(piece.Link), img)
		}
		b.WriteString(img)
	}
	b.WriteString("</td>\n")
}

// holdsLetters guesses whether a piece holds text: several marks of nearly one height that stand side by side and
// differ from the background around them.
func holdsLetters(img *image.NRGBA) bool {
	w, h := img.Rect.Dx(), img.Rect.Dy()
	around := Resized(Resized(img, max(w/48, 1), max(h/48, 1)), w, h) // the background, with all detail gone
	light, dark := make([]bool, w*h), make([]bool, w*h)
	for i := range light {
		d := lightnessOf(color.NRGBA{img.Pix[4*i], img.Pix[4*i+1], img.Pix[4*i+2],
			255}) - lightnessOf(color.NRGBA{around.Pix[4*i], around.Pix[4*i+1], around.Pix[4*i+2], 255})
		light[i], dark[i] = d > 14, d < -14
	}
	return lettersIn(light, w) || lettersIn(dark, w)
}

// lettersIn reports whether marks look like letters.
func lettersIn(mark []bool, w int) bool {
	var boxes []image.Rectangle
	for i := range mark {
		if mark[i] {
			if box := fill(mark, i, w); box.Dy() >= 7 && box.Dy() <= 90 && box.Dx() <= 2*box.Dy() {
				boxes = append(boxes, box)
			}
		}
	}
	for _, a := range boxes {
		beside := 0
		for _, b := range boxes {
			level := b.Max.Y - a.Max.Y
			if 3*b.Dy() > a.Dy() && b.Dy() < 3*a.Dy() && 4*max(level, -level) <= a.Dy() {
				beside++
			}
		}
		if beside >= 5 {
			return true
		}
	}
	return false
}

// fill takes away the marks that hang together with one, and gives their box.
func fill(mark []bool, at, w int) image.Rectangle {
	box := image.Rectangle{}
	mark[at] = false
	for todo := []int{at}; len(todo) > 0; {
		i := todo[len(todo)-1]
		todo = todo[:len(todo)-1]
		x, y := i%w, i/w
		box = box.Union(image.Rect(x, y, x+1, y+1))
		for _, n := range [4]int{i - 1, i + 1, i - w, i + w} {
			if n >= 0 && n < len(mark) && mark[n] && (n/w == y || n%w == x) {
				mark[n] = false
				todo = append(todo, n)
			}
		}
	}
	return box
}
