package compose

import (
	"slices"

	"missivum/core/field"
	"missivum/core/markup"
	"missivum/core/template"
)

// PictureWeight gives a counter of the bytes of the pictures that a person's signature shows, each
// picture once, and whether the figure is the same for everybody. Only pictures that the template
// holds can be weighed.
func (p *Prepared) PictureWeight(table *field.Table, variant string) (count func(*field.Filler) int, fixed bool) {
	source := p.FieldSource()
	b := field.NewBuilder(table)
	pictures := p.picturesUsed()
	var visit func(n *markup.Node)
	visit = func(n *markup.Node) {
		if n.Kind == markup.Element {
			leave, skip := source.Enter(b, n, variant, func(string) string { return "" })
			if skip {
				return
			}
			defer leave()
		}
		if i := slices.Index(pictures, p.pictureShown(n)); i >= 0 {
			b.Mark(field.Mark(i))
		}
		source.Children(b, n, visit)
	}
	visit(p.Doc.Root)
	program := b.Program()
	return func(f *field.Filler) int {
		w := weigher{pictures: pictures, seen: make([]bool, len(pictures))}
		program.Run(f, &w)
		return w.total
	}, !program.MarksDepend()
}

// pictureShown is the template's picture that a node shows, or nil.
func (p *Prepared) pictureShown(n *markup.Node) *template.Picture {
	if !n.Is("img") {
		return nil
	}
	return p.PictureOf(n)
}

// picturesUsed lists the pictures that the prepared document shows, each once, in the order of the
// document.
func (p *Prepared) picturesUsed() []*template.Picture {
	var used []*template.Picture
	for _, img := range p.Doc.Root.Elements("img") {
		if picture := p.PictureOf(img); picture != nil && !slices.Contains(used, picture) {
			used = append(used, picture)
		}
	}
	return used
}

// weigher adds up the pictures marked.
type weigher struct {
	pictures []*template.Picture
	seen     []bool
	total    int
}

func (w *weigher) Text(string) {}

func (w *weigher) Mark(m field.Mark) {
	if !w.seen[m] {
		w.seen[m] = true
		w.total += w.pictures[m].Bytes
	}
}
