package journey

import (
	"image/color"
	"strconv"
	"strings"

	"missivum/core/client"
	"missivum/core/markup"
	"missivum/core/style"
)

// View is how the reader looks at a message.
type View struct {
	Dark    bool // in dark mode
	Blocked bool // pictures from outside are not loaded
}

// Show changes a document, as Simulate gave it for the last stage, into what the view shows: colours as the profile's
// dark mode recolours them, and a box with the alternative text in the place of each blocked picture. Node.Style
// must be set.
func Show(p *client.Profile, doc *markup.Document, v View) {
	if v.Blocked && p.Pictures != nil {
		block(p, doc)
	}
	if v.Dark && p.Dark != nil && !(p.Dark.Declared && declaresSchemes(doc)) {
		recolour(doc, p.Dark.As)
	}
}

// Background is the colour behind the message in a view, and that of its text.
func Background(p *client.Profile, v View) (background, text color.RGBA) {
	white, black := color.RGBA{255, 255, 255, 255}, color.RGBA{A: 255}
	if !v.Dark {
		return white, black
	}
	if p.Dark == nil {
		return white, black
	}
	text, background = Recoloured(p.Dark.As, black, white)
	return background, text
}

// declaresSchemes reports whether the document says that it is made for light and dark.
func declaresSchemes(doc *markup.Document) bool {
	for _, n := range doc.Root.Elements("meta") {
		name, _ := n.Attr("name")
		content, _ := n.Attr("content")
		if (name == "color-scheme" || name == "supported-color-schemes") && strings.Contains(content, "dark") {
			return true
		}
	}
	for _, n := range doc.Root.Elements() {
		if scheme, ok := n.Declared("color-scheme"); ok && strings.Contains(scheme, "dark") {
			return true
		}
	}
	return false
}

// darkLink is a colour such as clients give links in dark mode that have none of their own.
const darkLink = "#8ab4ff"

// recolour writes other colours onto every element that has some of its own.
func recolour(doc *markup.Document, as string) {
	for _, n := range doc.Root.Elements() {
		if a, ok := n.Attr("bgcolor"); ok {
			if c, ok := style.Color(a); ok {
				n.SetAttr("bgcolor", style.Hex(recolouredBackground(as, c)))
			}
		}
		if a, ok := n.Attr("color"); ok && n.Is("font", "hr") {
			if c, ok := style.Color(a); ok {
				n.SetAttr("color", style.Hex(recolouredText(as, c)))
			}
		}
		if _, own := n.Declared("color"); !own && n.Is("a") && n.Attribute("href") != nil {
			n.SetStyle(append(append([]markup.Declaration(nil), n.Style...), markup.Declaration{Property: "color", Value: darkLink}))
		}
		changed := false
		list := append([]markup.Declaration(nil), n.Style...)
		for i, d := range list {
			if value, ok := recoloured(as, d); ok && d.Value != darkLink {
				list[i].Value, changed = value, true
			}
		}
		if changed {
			n.SetStyle(list)
		}
	}
}

// recoloured gives a declaration's value with every colour in it as dark mode has it.
func recoloured(as string, d markup.Declaration) (string, bool) {
	turn := recolouredText
	switch {
	case d.Property == "color" || strings.HasPrefix(d.Property, "border") ||
		strings.HasPrefix(d.Property, "text-decoration") || strings.HasPrefix(d.Property, "outline"):
	case d.Property == "background-color" || d.Property == "background":
		turn = recolouredBackground
	default:
		return "", false
	}
	words := components(d.Value)
	changed := false
	for i, w := range words {
		if c, ok := style.Color(w); ok {
			words[i], changed = style.Hex(turn(as, c)), true
		}
	}
	return strings.Join(words, " "), changed
}

// block puts a box in the place of each picture that the client does not load at first: of the picture's size where
// that is honoured, with the alternative text in it.
func block(p *client.Profile, doc *markup.Document) {
	for _, n := range doc.Root.Elements("img") {
		src, _ := n.Attr("src")
		arrival := p.Pictures.Hosted
		switch markup.SchemeOf(src) {
		case "data":
			arrival = p.Pictures.Data
		case "cid":
			arrival = p.Pictures.Carried
		case markup.EmptyAddress:
			arrival.As = client.PictureDropped
		}
		if arrival.As == client.Shown {
			continue
		}
		width, height := n.Pixels("width"), n.Pixels("height")
		box := markup.NewElement("span", n.Open)
		list := []markup.Declaration{
			{Property: "display", Value: "inline-block"}, {Property: "box-sizing", Value: "border-box"}, {Property: "overflow", Value: "hidden"},
			{Property: "border", Value: "1px solid #b3b3b3"}, {Property: "vertical-align", Value: "middle"},
			{Property: "font", Value: "12px Arial, sans-serif"}, {Property: "padding", Value: "1px 3px"},
		}
		for _, d := range n.Style { // what the author wrote for the alternative text
			if d.Property == "color" || strings.HasPrefix(d.Property, "font") || d.Property == "line-height" {
				list = append(list, d)
			}
		}
		if width > 0 {
			list = append(list, markup.Declaration{Property: "width", Value: strconv.Itoa(width) + "px"})
		}
		if height > 0 {
			list = append(list, markup.Declaration{Property: "height", Value: strconv.Itoa(height) + "px"})
		}
		box.SetStyle(list)
		if alt, ok := n.Attr("alt"); ok && alt != "" {
			box.Append(markup.NewText(alt, n.Open))
		}
		n.ReplaceWith(box)
	}
}
