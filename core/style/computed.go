package style

import (
	"image/color"
	"slices"
	"strings"

	"missivum/core/markup"
)

// Text is how text in an element looks, for forms that know no style sheets. All of it is inherited.
type Text struct {
	Families  []string // the first is meant, the last may be a generic one
	Size      float64  // px
	Line      float64  // px; 0 is normal
	Color     color.RGBA
	Bold      bool
	Italic    bool
	Underline bool
	Align     string // left, right, center, justify; empty for the direction's own
	RTL       bool
}

// PlainText is how text looks when nothing is said about it.
var PlainText = Text{Families: []string{"Times New Roman", "serif"}, Size: 16, Color: color.RGBA{A: 255}}

// headingSizes are the sizes of h1 to h6 against the text around (HTML Living Standard, 15.3.6).
var headingSizes = map[string]float64{"h1": 2, "h2": 1.5, "h3": 1.17, "h4": 1, "h5": 0.83, "h6": 0.67}

// OwnSize is what an element's name makes of the size of letters around it, as a factor; 1 for most.
func OwnSize(name string) float64 {
	switch {
	case name == "small":
		return 1 / 1.2
	case name == "big":
		return 1.2
	case headingSizes[name] > 0:
		return headingSizes[name]
	}
	return 1
}

// fontSizes are those of the font element, 1 to 7, in px (HTML Living Standard, 15.3.4).
var fontSizes = map[string]float64{"1": 10, "2": 13, "3": 16, "4": 18, "5": 24, "6": 32, "7": 48}

// In is how text looks in an element that stands in text looking like t: its name, its presentational
// attributes and the declarations that Inline brought to it.
func (t Text) In(n *markup.Node) Text {
	around := t.Size
	t.byName(n)
	t.byAttribute(n)
	for _, d := range n.Style {
		if d.Property == "font-size" { // em and % are of the size around, whatever the element's name asks for
			if size, ok := Length(d.Value, around); ok && size > 0 {
				t.Size = size
			}
			continue
		}
		t.declare(d)
	}
	return t
}

// byName applies what an element's name means.
func (t *Text) byName(n *markup.Node) {
	switch {
	case n.Is("b", "strong", "th"):
		t.Bold = true
	case n.Is("i", "em", "cite", "address"):
		t.Italic = true
	case n.Is("u", "ins"):
		t.Underline = true
	case n.Is("a"):
		if _, ok := n.Attr("href"); ok {
			t.Underline, t.Color = true, color.RGBA{0, 0, 238, 255}
		}
	case n.Is("center"):
		t.Align = "center"
	case headingSizes[n.Name] > 0:
		t.Bold = true
	}
	t.Size *= OwnSize(n.Name)
	if n.Is("th") {
		t.Align = "center"
	}
}

// byAttribute applies what its attributes mean.
func (t *Text) byAttribute(n *markup.Node) {
	for _, a := range n.Attrs {
		value := strings.ToLower(strings.TrimSpace(a.Value))
		switch {
		case a.Name == "dir":
			t.RTL = value == "rtl"
		case a.Name == "align" && !n.Is("table", "img"):
			t.Align = value
		case a.Name == "face" && n.Is("font"):
			t.Families = Families(a.Value)
		case a.Name == "size" && n.Is("font") && fontSizes[value] > 0:
			t.Size = fontSizes[value]
		case a.Name == "color" && n.Is("font"):
			if c, ok := Color(value); ok {
				t.Color = c
			}
		}
	}
}

// declare applies one declaration.
func (t *Text) declare(d markup.Declaration) {
	value := strings.ToLower(strings.TrimSpace(d.Value))
	switch d.Property {
	case "font-family":
		t.Families = Families(d.Value)
	case "line-height":
		t.line(value)
	case "color":
		if c, ok := Color(value); ok {
			t.Color = c
		}
	case "font-weight":
		t.Bold = value == "bold" || value == "bolder" || len(value) == 3 && value >= "600"
	case "font-style":
		t.Italic = value == "italic" || value == "oblique"
	case "text-decoration", "text-decoration-line":
		t.Underline = slices.Contains(strings.Fields(value), "underline")
	case "text-align":
		t.Align = value
	case "direction":
		t.RTL = value == "rtl"
	case "font":
		t.shorthand(value, d.Value)
	}
}

// line reads a line-height; a bare number is times the size.
func (t *Text) line(value string) {
	height, ok := Length(value, t.Size)
	if ok && strings.Trim(value, "0123456789.") == "" {
		height *= t.Size
	}
	if ok || value == "normal" {
		t.Line = height
	}
}

// shorthand reads the font property: style and weight, size with or without line height, families (CSS
// Fonts Module Level 4, 2.7).
func (t *Text) shorthand(value, raw string) {
	words := strings.Fields(value)
	t.Bold, t.Italic, t.Line = false, false, 0
	for i, word := range words {
		size, line, hasLine := strings.Cut(word, "/")
		px, ok := Length(size, t.Size)
		switch {
		case word == "bold" || len(word) == 3 && ok && strings.Trim(word, "0123456789") == "" && word >= "600":
			t.Bold = true
		case word == "italic" || word == "oblique":
			t.Italic = true
		case ok && strings.Trim(size, "0123456789") != "":
			if px > 0 {
				t.Size = px
			}
			if hasLine {
				t.line(line)
			}
			if i+1 < len(words) {
				at := strings.Index(value, words[i+1])
				t.Families = Families(raw[min(at, len(raw)):])
			}
			return
		}
	}
}

// Box reads margin, padding or another property of four sides from an element's declarations, the single
// sides too; ok is false when nothing is said.
func Box(n *markup.Node, property string, fontSize float64) (s Sides, ok bool) {
	for _, d := range n.Style {
		side, found := strings.CutPrefix(d.Property, property)
		if !found {
			continue
		}
		if side == "" {
			if all, fits := boxSides(d.Value, fontSize); fits {
				s, ok = all, true
			}
			continue
		}
		px, fits := Length(d.Value, fontSize)
		if !fits {
			continue
		}
		switch side {
		case "-top":
			s.Top, ok = px, true
		case "-right":
			s.Right, ok = px, true
		case "-bottom":
			s.Bottom, ok = px, true
		case "-left":
			s.Left, ok = px, true
		}
	}
	return s, ok
}

// Background is the colour behind an element's content, where it has one of its own.
func Background(n *markup.Node) (c color.RGBA, ok bool) {
	if value, has := n.Attr("bgcolor"); has {
		c, ok = Color(value)
	}
	for _, d := range n.Style {
		switch d.Property {
		case "background-color":
			c, ok = Color(d.Value)
		case "background":
			for _, word := range strings.Fields(d.Value) {
				if found, fits := Color(word); fits {
					c, ok = found, true
				}
			}
		}
	}
	return c, ok
}

// Line is a border's line on one side.
type Line struct {
	Width float64 // px
	Color color.RGBA
}

// Border reads the line of a side (top, right, bottom or left) from an element's declarations.
func Border(n *markup.Node, side string) (Line, bool) {
	l, shown := Line{Width: 3, Color: color.RGBA{A: 255}}, false
	for _, d := range n.Style {
		rest, found := strings.CutPrefix(d.Property, "border")
		if !found {
			continue
		}
		rest = strings.TrimPrefix(rest, "-"+side)
		if rest != "" && rest != "-width" && rest != "-style" && rest != "-color" {
			continue
		}
		for _, word := range strings.Fields(d.Value) {
			switch px, isLength := Length(word, 16); {
			case slices.Contains([]string{"solid", "dashed", "dotted", "double", "groove", "ridge", "inset", "outset"}, word):
				shown = true
			case word == "none" || word == "hidden":
				shown = false
			case isLength:
				l.Width = px
			default:
				if c, ok := Color(word); ok {
					l.Color = c
				}
			}
		}
	}
	return l, shown && l.Width > 0
}
