package compose

import (
	"missivum/core/field"
	"missivum/core/markup"
)

// PictureWeight gives a counter of the bytes of the pictures that a person's signature shows, each
// picture once, and whether the figure is the same for everybody. Only pictures that the template
// holds can be weighed.
func (p *Prepared) PictureWeight(table *field.Table, variant string) (count func(*field.Filler) int, fixed bool, err error) {
	source := p.FieldSource()
	b := field.NewBuilder(table)
	conditional := false
	var weights []int
	index := map[string]int{}
	var visit func(n *markup.Node)
	visit = func(n *markup.Node) {
		if n.Kind == markup.Element {
			leave, skip := source.Enter(b, n, variant, func(s string) string { return "" })
			if skip {
				return
			}
			defer leave()
			if conditions, _ := source.Conditions(n); len(conditions) > 0 && len(n.Elements("img")) > 0 {
				conditional = true
			}
		}
		if picture := p.pictureShown(n); picture != "" {
			if _, ok := index[picture]; !ok {
				index[picture] = len(weights)
				weights = append(weights, p.bytesOf(picture))
			}
			b.Mark(field.Mark(index[picture]))
		}
		source.Children(b, n, visit)
	}
	visit(p.Doc.Root)
	program := b.Program()
	return func(f *field.Filler) int {
		w := weigher{weights: weights, seen: make([]bool, len(weights))}
		program.Run(f, &w)
		return w.total
	}, !conditional, nil
}

func (p *Prepared) pictureShown(n *markup.Node) string {
	if !n.Is("img") {
		return ""
	}
	if picture := p.PictureOf(n); picture != nil {
		return picture.File
	}
	return ""
}

func (p *Prepared) bytesOf(file string) int {
	for _, picture := range p.Template.Pictures {
		if picture.File == file {
			return picture.Bytes
		}
	}
	return 0
}

// weigher adds up the pictures marked.
type weigher struct {
	weights []int
	seen    []bool
	total   int
}

func (w *weigher) Text(string) {}

func (w *weigher) Mark(m field.Mark) {
	if !w.seen[m] {
		w.seen[m] = true
		w.total += w.weights[m]
	}
}

// PicturesUsed lists the files of the pictures that the prepared document shows, each once, in the
// order of the document.
func (p *Prepared) PicturesUsed() []string {
	var files []string
	seen := map[string]bool{}
	for _, img := range p.Doc.Root.Elements("img") {
		if file := p.pictureShown(img); file != "" && !seen[file] {
			seen[file] = true
			files = append(files, file)
		}
	}
	return files
}
