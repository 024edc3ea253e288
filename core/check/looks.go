package check

import (
	"fmt"
	"image/color"
	"strings"

	"missivum/core/markup"
	"missivum/core/style"
)

// look is how text in an element looks and what stands behind it.
type look struct {
	text       style.Text
	background color.RGBA // white where nothing is said
	own        bool       // an element around gives the background
}

// looks works out the look in every element of the prepared document, once for a run.
func (p *Pass) looks() map[*markup.Node]look {
	if p.look != nil {
		return p.look
	}
	p.look = map[*markup.Node]look{}
	var visit func(*markup.Node, look)
	visit = func(n *markup.Node, l look) {
		if n.Kind == markup.Element {
			l.text = l.text.In(n)
			if c, ok := style.Background(n); ok {
				l.background, l.own = c, true
			}
			p.look[n] = l
		}
		for _, c := range n.Children {
			if c.Kind != markup.Conditional && !c.Is("head", "style", "script") {
				visit(c, l)
			}
		}
	}
	visit(p.Doc.Root, look{text: style.PlainText, background: color.RGBA{255, 255, 255, 255}})
	return p.look
}

// lookOf is the look in an element of the source as written.
func (p *Pass) lookOf(written *markup.Node) look {
	if n := p.PreparedNode(written); n != nil {
		if l, ok := p.looks()[n]; ok {
			return l
		}
	}
	return look{text: style.PlainText, background: color.RGBA{255, 255, 255, 255}}
}

// pixels writes a length in px without needless digits.
func pixels(px float64) string {
	return strings.TrimSuffix(strings.TrimRight(fmt.Sprintf("%.2f", px), "0"), ".") + "px"
}

// visibleText is an element's own text, without that of the elements in it.
func visibleText(n *markup.Node) string {
	var b strings.Builder
	for _, c := range n.Children {
		if c.Kind == markup.Text {
			b.WriteString(c.Data)
		}
	}
	return strings.TrimSpace(b.String())
}

// contrast is the contrast ratio of two colours, 1 to 21 (WCAG 2.2, relative luminance and contrast ratio).
func contrast(a, b color.RGBA) float64 {
	la, lb := style.Luminance(a), style.Luminance(b)
	if la < lb {
		la, lb = lb, la
	}
	return (la + 0.05) / (lb + 0.05)
}

// enough is the contrast that a text needs: 4.5, or 3 from 24 px on and for bold text from 18.66 px on (WCAG 2.2,
// success criterion 1.4.3).
func enough(t style.Text) float64 {
	if t.Size >= 24 || t.Bold && t.Size >= 18.66 {
		return 3
	}
	return 4.5
}
