package check

import (
	"encoding/base64"
	"fmt"
	"math"
	"path"
	"slices"
	"strconv"
	"strings"

	"missivum/core/client"
	"missivum/core/field"
	"missivum/core/markup"
	"missivum/core/picture"
	"missivum/core/style"
	"missivum/core/template"
)

// Redraw is a picture file that a fix makes: from one of the template's pictures by a recipe, or from bytes that
// stood in the source. A file of that name is replaced.
type Redraw struct {
	File   string          `json:"file"`             // below the picture folder
	Name   string          `json:"name,omitempty"`   // for data-picture, where settings come to name another file or a new one
	Alt    string          `json:"alt,omitempty"`    // with Name
	From   string          `json:"from,omitempty"`   // the template's file that it is made from
	Recipe *picture.Recipe `json:"recipe,omitempty"` // nil: as it is
	Data   []byte          `json:"-"`                // without From
}

// redrawn gives the fix that makes a picture, with the edits of the hand that there may be.
func (h *hand) redrawn(title string, r Redraw) *Fix {
	m := h.fix(title)
	if m == nil {
		if h.fails || len(h.edits) > 0 {
			return nil
		}
		m = &Fix{Title: title, Edits: []Edit{}, Safe: true}
	}
	m.Pictures = []Redraw{r}
	return m
}

// sizeOfAll is the size in px at which all elements show a picture; false when they differ, when one has no size, or
// when the file is not the template's own to change.
func (p *Pass) sizeOfAll(shown *template.Picture) (width, height int, ok bool) {
	if p.Template.Bare || shown.From != "" {
		return 0, 0, false
	}
	for _, img := range p.Doc.Root.Elements("img") {
		if p.Prepared.PictureOf(img) != shown {
			continue
		}
		if p.hostedByContent(img) {
			return 0, 0, false
		}
		w, h := img.Pixels("width"), img.Pixels("height")
		if w == 0 || h == 0 || width > 0 && (w != width || h != height) {
			return 0, 0, false
		}
		width, height = w, h
	}
	return width, height, width > 0
}

// hostedByContent tells an element whose address says which bytes it shows: it would go on showing the old ones.
func (p *Pass) hostedByContent(img *markup.Node) bool {
	_, named := img.Attr(field.AttrPicture)
	_, naming := p.Template.Hosting()
	src, _ := img.Attr("src")
	return !named && naming == template.ByContent && client.SchemeOf(src) == "https"
}

// mostUneven is by how much the proportions of a file and of the place in which it is shown may differ, so that it can
// be fitted without a change that is seen.
const mostUneven = 0.02

// fitted is the recipe for a picture at a size; nil where its proportions are others.
func fitted(shown *template.Picture, width, height int) *picture.Recipe {
	even := shown.Format == picture.SVG || shown.Width == 1 && shown.Height == 1 // one colour
	if !even && math.Abs(float64(shown.Width*height)/float64(shown.Height*width)-1) > mostUneven {
		return nil
	}
	multiple := 1
	if shown.Format == picture.SVG || shown.Width >= 2*width {
		multiple = 2
	}
	recipe := &picture.Recipe{Width: width, Height: height, Multiple: multiple}
	if slices.Contains(picture.Mailable, shown.Format) {
		recipe.Format = shown.Format // as its name says
	}
	return recipe
}

// recipeFor is the recipe for a picture at the size in which all elements show it; nil where it is not to be drawn anew.
func (p *Pass) recipeFor(shown *template.Picture) *picture.Recipe {
	width, height, ok := p.sizeOfAll(shown)
	if !ok {
		return nil
	}
	return fitted(shown, width, height)
}

// fitPicture makes the file as large as it is shown, or twice that.
func (p *Pass) fitPicture(shown *template.Picture) *Fix {
	recipe := p.recipeFor(shown)
	if recipe == nil {
		return nil
	}
	return p.hand().redrawn(fmt.Sprintf("Fit %s to %d x %d px, with %s pixels", shown.File, recipe.Width, recipe.Height, times(recipe.Multiple)), Redraw{File: shown.File, From: shown.File, Recipe: recipe})
}

func times(multiple int) string {
	if multiple == 2 {
		return "twice as many"
	}
	return "as many"
}

// convertPicture makes a PNG or a JPEG of a file in a format that is not drawn everywhere.
func (p *Pass) convertPicture(shown *template.Picture) *Fix {
	recipe := p.recipeFor(shown)
	if recipe == nil || shown.Name == "" || shown.Frames > 1 {
		return nil
	}
	for _, img := range p.Doc.Root.Elements("img") {
		if _, named := img.Attr(field.AttrPicture); p.Prepared.PictureOf(img) == shown && !named {
			return nil // the file's name stands in an address
		}
	}
	recipe.Format = "png"
	if !shown.Transparent && shown.Format != picture.SVG {
		recipe.Format = "jpeg"
	}
	file := strings.TrimSuffix(shown.File, path.Ext(shown.File)) + picture.Ending(recipe.Format)
	if file != shown.File && slices.ContainsFunc(p.Template.Pictures, func(t template.Picture) bool { return t.File == file }) {
		return nil
	}
	return p.hand().redrawn(fmt.Sprintf("Make %s of %s, and show that", file, shown.File), Redraw{File: file, Name: shown.Name, Alt: shown.Alt, From: shown.File, Recipe: recipe})
}

// outlinePicture draws a thin white line around what is seen of a see-through picture, unless it vanishes on light
// background too.
func (p *Pass) outlinePicture(shown *template.Picture, backgrounds []string) *Fix {
	recipe := p.recipeFor(shown)
	if recipe == nil || slices.Contains(backgrounds, "light") || shown.Format != picture.PNG { // a GIF has no half-seen edges
		return nil
	}
	recipe.Dark = &picture.DarkSafe{Way: picture.Outline}
	return p.hand().redrawn("Draw a thin white line around what is seen of "+shown.File, Redraw{File: shown.File, From: shown.File, Recipe: recipe})
}

// cutCorners cuts round corners into the picture itself and takes the property away.
func cutCorners(p *Pass, t target) *Fix {
	var shown *template.Picture
	for _, n := range t.nodes {
		prepared := p.preparedNode(n)
		if prepared == nil || !n.Is("img") {
			return nil
		}
		of := p.Prepared.PictureOf(prepared)
		if of == nil || shown != nil && of != shown {
			return nil
		}
		shown = of
	}
	if shown == nil || t.property != "border-radius" || shown.Format != picture.PNG {
		return nil
	}
	recipe := p.recipeFor(shown)
	if recipe == nil || !shaped(recipe, t.value) {
		return nil
	}
	h := p.hand()
	h.drop(t.span)
	return h.redrawn("Cut the shape into "+shown.File+" itself", Redraw{File: shown.File, From: shown.File, Recipe: recipe})
}

// shaped writes a border-radius into a recipe; false for one of several lengths.
func shaped(r *picture.Recipe, value string) bool {
	if percent, found := strings.CutSuffix(value, "%"); found {
		share, err := strconv.ParseFloat(percent, 64)
		if err != nil || share < 50 { // less has corners that are no circles in a picture that is no square
			return false
		}
		r.Shape = picture.Round
		return true
	}
	px, ok := style.Length(value, 0)
	if !ok || px <= 0 || px > picture.MaxDisplay {
		return false
	}
	r.Shape, r.Radius = picture.Rounded, px
	return true
}

// writtenOut puts a picture that is written into the source into a file of its own.
func writtenOut(p *Pass, t target) *Fix {
	n := t.first()
	src := n.Attribute("src")
	if p.Template.Bare || !n.Is("img") || src == nil {
		return nil
	}
	value, _ := n.Attr("src")
	_, encoded, found := strings.Cut(value, ";base64,")
	if !found {
		return nil
	}
	data, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(encoded), ""))
	if err != nil {
		return nil
	}
	facts, err := picture.Probe(data)
	if err != nil || !slices.Contains(picture.Mailable, facts.Format) || len(data) > template.MaxPicture || len(p.Template.Pictures) >= template.MaxPictures {
		return nil
	}
	name := ""
	for i := 1; name == "" || p.Template.Picture(name) != nil; i++ {
		name = fmt.Sprintf("picture-%d", i)
	}
	file := name + picture.Ending(facts.Format)
	if slices.ContainsFunc(p.Template.Pictures, func(t template.Picture) bool { return t.File == file }) {
		return nil
	}
	alt, _ := n.Attr("alt")
	var recipe *picture.Recipe
	if width, height := n.Pixels("width"), n.Pixels("height"); width > 0 && height > 0 && !picture.Fits(facts.Width, facts.Height, width, height) {
		recipe = fitted(&template.Picture{Facts: facts}, width, height)
	}
	h := p.hand()
	h.replace(src.Span, field.AttrPicture+`="`+name+`"`)
	return h.redrawn("Keep it in the file "+file+" and show that", Redraw{File: file, Name: name, Alt: alt, Data: data, Recipe: recipe})
}
