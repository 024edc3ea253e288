package check

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"unicode/utf8"

	"missivum/core/client"
	"missivum/core/field"
	"missivum/core/markup"
	"missivum/core/style"
)

// sizeAttributes writes the size that the styles give, or that of the template's picture.
func sizeAttributes(p *Pass, t target) *Fix {
	n := t.first()
	width, height := n.Pixels("width"), n.Pixels("height")
	prepared := p.preparedNode(n)
	if prepared == nil {
		return nil
	}
	for _, d := range prepared.Style {
		px, ok := style.Length(d.Value, 0)
		if !ok || strings.HasSuffix(d.Value, "%") || px <= 0 {
			continue
		}
		switch {
		case d.Property == "width" && width == 0:
			width = int(px + 0.5)
		case d.Property == "height" && height == 0:
			height = int(px + 0.5)
		}
	}
	if shown := p.Prepared.PictureOf(n); shown != nil && shown.Width > 0 && shown.Height > 0 {
		switch {
		case width == 0 && height == 0:
			return nil // its true pixels are seldom what is meant
		case height == 0:
			height = max(1, int(math.Round(float64(width)*float64(shown.Height)/float64(shown.Width))))
		case width == 0:
			width = max(1, int(math.Round(float64(height)*float64(shown.Width)/float64(shown.Height))))
		}
	}
	if width == 0 || height == 0 {
		return nil
	}
	h := p.hand()
	if n.Pixels("width") != width {
		h.setAttribute(n, "width", strconv.Itoa(width))
	}
	if n.Pixels("height") != height {
		h.setAttribute(n, "height", strconv.Itoa(height))
	}
	return h.fix(fmt.Sprintf("Write width=\"%d\" and height=\"%d\"", width, height))
}

// withoutDocumentTags takes the tags of html and body out and keeps what is between them.
func withoutDocumentTags(p *Pass, t target) *Fix {
	h := p.hand()
	for _, n := range t.nodes {
		if n.Is("head") || n.Close.Len() == 0 && !n.Is("html", "body") {
			return nil
		}
		h.unwrap(n)
		for _, inner := range n.Elements("body") {
			if inner != n {
				h.unwrap(inner)
			}
		}
		if len(n.Elements("head")) > 0 {
			return nil
		}
	}
	return h.fix("Take the tags out and keep what is between them")
}

// headingMargins are the margins above and below a heading, in em of its own size (HTML, 15.3.7).
var headingMargins = map[string]float64{"h1": 0.67, "h2": 0.83, "h3": 1, "h4": 1.33, "h5": 1.67, "h6": 2.33}

// headingToParagraph makes a heading a paragraph that looks the same.
func (p *Pass) headingToParagraph(n *markup.Node) *Fix {
	written := p.sourceNode(n)
	if written == nil || written.Inside("section") != nil || written.Inside("article") != nil || written.Inside("aside") != nil || written.Inside("nav") != nil {
		return nil // its size is another one there
	}
	for _, sheet := range p.Source.Root.Elements("style") {
		for _, text := range sheet.Children {
			if strings.Contains(strings.ToLower(text.Data), n.Name) {
				return nil // a rule is for it
			}
		}
	}
	size := p.lookOf(written).text.Size
	h := p.hand()
	var add []string
	if _, ok := n.Declared("font-size"); !ok {
		add = append(add, "font-size: "+pixels(size))
	}
	if _, ok := n.Declared("font-weight"); !ok {
		add = append(add, "font-weight: bold")
	}
	if _, said := style.Box(n, "margin", size); !said {
		add = append(add, "margin: "+pixels(size*headingMargins[n.Name])+" 0")
	}
	h.rename(written, "p")
	if len(add) > 0 {
		h.declare(written, strings.Join(add, "; "))
	}
	return h.fix("Make it a paragraph that looks the same")
}

// withoutID takes an id away that nothing in the source leads to.
func (p *Pass) withoutID(n *markup.Node) *Fix {
	id, _ := n.Attr("id")
	if strings.Contains(p.Source.Source, "#"+id) || strings.Contains(p.Source.Source, `for="`+id) || strings.Contains(p.Source.Source, `headers="`+id) {
		return nil
	}
	h := p.hand()
	h.removeAttribute(n, "id")
	return h.fix("Take the second id away; nothing leads to it")
}

// thinnest is how high or wide, in px, a picture may be that can only be a line.
const thinnest = 4

// silentLine writes the empty alternative text on a picture that is a line.
func (p *Pass) silentLine(img *markup.Node) *Fix {
	n := p.sourceNode(img)
	thin := func(side string) bool { px := img.Pixels(side); return px > 0 && px <= thinnest }
	if n == nil || img.Inside("a") != nil || !thin("width") && !thin("height") {
		return nil
	}
	h := p.hand()
	h.setAttribute(n, "alt", "")
	return h.fix("Write alt=\"\", since it is a line")
}

// withoutProgram takes a handler, a script or a form's tags out.
func withoutProgram(p *Pass, t target) *Fix {
	h := p.hand()
	for _, n := range t.nodes {
		switch {
		case n.Is("script"):
			h.replace(markup.Span{Start: n.Open.Start, End: max(n.Close.End, n.Open.End)}, "")
		case n.Is("form"):
			h.unwrap(n)
		case n.Is("iframe", "object", "embed", "applet", "video", "audio", "input", "button", "select", "textarea"):
			return nil
		default:
			for _, a := range n.Attrs {
				if strings.HasPrefix(a.Name, "on") && a.Span == t.span {
					h.removeAttribute(n, a.Name)
				}
			}
		}
	}
	return h.fix("Take it out")
}

// turnedInsideOut puts the inline element inside the block that is all it holds.
func turnedInsideOut(p *Pass, t target) *Fix {
	block := t.first()
	inline := block.Parent
	if inline.Kind != markup.Element || !block.Is("div", "p") || !alone(block) || inline.Close.Len() == 0 || block.Close.Len() == 0 ||
		!inline.Is("span", "b", "i", "strong", "em", "font", "u", "a") {
		return nil
	}
	for _, c := range block.Elements() {
		if c != block && markup.Block(c.Name) {
			return nil
		}
	}
	for _, a := range inline.Attrs {
		if strings.HasPrefix(a.Name, "data-") {
			return nil // what shall go with the field would no longer be all of it
		}
	}
	h := p.hand()
	h.replace(inline.Open, "")
	h.replace(inline.Close, "")
	h.insert(block.Open.End, p.Source.Raw(inline))
	h.insert(block.Close.Start, "</"+inline.Name+">")
	return h.fix("Put the inline element inside the block")
}

// references writes characters outside ASCII as references. Those inside fields, style sheets and comments cannot
// be.
func references(p *Pass) *Fix {
	h := p.hand()
	p.Source.Root.Walk(func(n *markup.Node) bool {
		span := n.Open
		if n.Kind == markup.Root || n.Kind == markup.Stray {
			return true
		}
		text := p.Source.Source[span.Start:span.End]
		inField := 0
		for i, r := range text {
			switch {
			case strings.HasPrefix(text[i:], "{{"):
				inField++
			case strings.HasPrefix(text[i:], "}}"):
				inField = max(inField-1, 0)
			}
			if r < utf8.RuneSelf {
				continue
			}
			if inField > 0 || n.Kind == markup.Comment || n.Parent.Is("style", "script") || r == '\ufeff' || r == utf8.RuneError {
				if n.Kind == markup.Comment {
					continue
				}
				h.fails = true
				return false
			}
			h.replace(markup.Span{Start: span.Start + i, End: span.Start + i + utf8.RuneLen(r)}, fmt.Sprintf("&#%d;", r))
		}
		return true
	})
	for _, r := range h.commentsLeft() {
		if r >= utf8.RuneSelf {
			return nil // a comment keeps its letters: the source still depends on the character set
		}
	}
	return h.fix("Write the characters as references")
}

// commentsLeft is the text of all comments.
func (h *hand) commentsLeft() string {
	var b strings.Builder
	h.doc.Root.Walk(func(n *markup.Node) bool {
		if n.Kind == markup.Comment {
			b.WriteString(n.Data)
		}
		return true
	})
	return b.String()
}

// fullAddress writes the missing https:// of an address that names a host, or the name of the template's picture.
func (p *Pass) fullAddress(a address) *Fix {
	h := p.hand()
	if a.node.Is("img") {
		if picture := p.Prepared.PictureOf(a.node); picture != nil && picture.Name != "" {
			h.replace(a.attr.Span, "data-picture=\""+picture.Name+"\"")
			return h.fix("Name the template's picture; its address is then filled in")
		}
	}
	host, _, _ := strings.Cut(strings.ToLower(a.value), "/")
	switch at := strings.Index(p.Source.Source[a.attr.Inner.Start:a.attr.Inner.End], a.value); {
	case at < 0:
		return nil
	case strings.HasPrefix(a.value, "//"):
		h.insert(a.attr.Inner.Start+at, "https:")
	case strings.HasPrefix(host, "www.") && !field.HasField(host):
		h.insert(a.attr.Inner.Start+at, "https://")
	case strings.Contains(a.value, "@") && !strings.ContainsAny(a.value, "/ {"):
		h.insert(a.attr.Inner.Start+at, "mailto:")
	}
	return h.fix("Write the address in full")
}

// dialled writes a telephone link with its digits alone.
func (p *Pass) dialled(a address) *Fix {
	rest, ok := strings.CutPrefix(strings.ToLower(a.value), "tel:")
	digits := strings.Map(keepDigits, rest)
	if !ok || len(digits) < 7 || strings.Trim(rest, "+0123456789-.() /\u00a0") != "" || strings.Contains(rest, "(0)") {
		return nil
	}
	h := p.hand()
	h.replace(a.attr.Inner, "tel:"+digits)
	return h.fix("Write the digits alone")
}

// needing puts data-needs on the element whose only line holds the field.
func (p *Pass) needing(node *markup.Node, name string, lines int) *Fix {
	n := p.sourceNode(node)
	if n == nil || lines > 1 || !n.Is("p", "div", "li", "tr", "span") || n.Attribute("data-needs") != nil || n.Attribute("data-unless") != nil || strings.Contains(name, " ") {
		return nil
	}
	for _, e := range n.Elements() {
		if e != n && markup.Block(e.Name) {
			return nil
		}
	}
	h := p.hand()
	h.setAttribute(n, "data-needs", name)
	return h.fix("Let the whole line go with the field")
}

// moreChecksOfPictures are about how pictures are written.
var moreChecksOfPictures = []*Check{
	{
		ID: "picture-border", Title: "Linked picture without a border of 0",
		Why:     "Some clients render a frame in the colour of links around a linked picture that says nothing.",
		Remedy:  `Write border="0" on the picture.`,
		Failing: `<a href="https://www.brackwater.example/"><img src="https://p.brackwater.example/a.png" alt="Brackwater" width="120" height="40"></a><span>Harbour office</span>`,
		Passing: `<a href="https://www.brackwater.example/"><img src="https://p.brackwater.example/a.png" alt="Brackwater" width="120" height="40" border="0"></a><span>Harbour office</span>`,
		Fix: func(p *Pass, t target) *Fix {
			h := p.hand()
			for _, n := range t.nodes {
				h.setAttribute(n, "border", "0")
			}
			return h.fix(`Write border="0"`)
		},
	},
	{
		ID: "size-with-unit", Title: "Size attribute with a unit",
		Why:     "Sizes in attributes are plain numbers of px; the word-processor engine does not read one with a unit.",
		Remedy:  "Write the number alone.",
		Failing: `<img src="https://p.brackwater.example/a.png" alt="Brackwater" width="120px" height="40"><span>Harbour office</span>`,
		Passing: `<img src="https://p.brackwater.example/a.png" alt="Brackwater" width="120" height="40"><span>Harbour office</span>`,
		Run: func(p *Pass) {
			for _, n := range p.Source.Elements("img", "table", "td", "th") {
				for _, name := range []string{"width", "height"} {
					v, _ := n.Attr(name)
					number, ok := strings.CutSuffix(strings.ToLower(strings.TrimSpace(v)), "px")
					if _, err := strconv.Atoi(number); !ok || err != nil {
						continue
					}
					h := p.hand()
					h.setAttribute(n, name, number)
					p.ReportFix(n.Attribute(name).Span, client.Degrades, fmt.Sprintf("%s=%q carries a unit.", name, v), h.fix("Write the number alone"))
				}
			}
		},
	},
	{
		ID: "picture-size-differs", Title: "Attribute and style give different sizes",
		Why:     "Browsers take the style, the word-processor engine the attribute: the picture is larger in one of them.",
		Remedy:  "Write the same size in both.",
		Failing: `<img src="https://p.brackwater.example/a.png" alt="Brackwater" width="240" height="80" style="width: 120px; height: 40px"><span>Harbour office</span>`,
		Passing: `<img src="https://p.brackwater.example/a.png" alt="Brackwater" width="120" height="40" style="width: 120px; height: 40px"><span>Harbour office</span>`,
		Run: func(p *Pass) {
			for _, n := range p.Doc.Root.Elements("img") {
				h := p.hand()
				written := p.sourceNode(n)
				said := ""
				for _, name := range []string{"width", "height"} {
					value, _ := n.Declared(name)
					px, ok := style.Length(value, 0)
					if have := n.Pixels(name); ok && !strings.HasSuffix(value, "%") && have > 0 && int(px+0.5) != have && written != nil && written.Attribute(name) != nil {
						said += fmt.Sprintf(" The %s is %d px by the attribute and %s by the style.", name, have, value)
						h.setAttribute(written, name, strconv.Itoa(int(px+0.5)))
					}
				}
				if said != "" {
					p.ReportFix(n.Open, client.Degrades, strings.TrimSpace(said), h.fix("Write the size that browsers show as the attribute"))
				}
			}
		},
	},
}
