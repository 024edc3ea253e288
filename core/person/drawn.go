package person

import (
	"sync"

	"github.com/rivo/uniseg"
	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/font/opentype"
)

// drawnAt is the size in px at which drawn widths are reported.
const drawnAt = 13

// typeface is a common sans serif; nil if it cannot be read, which the tests rule out.
var typeface = sync.OnceValue(func() *opentype.Font {
	parsed, err := opentype.Parse(goregular.TTF)
	if err != nil {
		return nil
	}
	return parsed
})

// faces are of the typeface at drawnAt px. A face keeps the glyph that it drew last, so that two who measure at the same time
// need two.
var faces = sync.Pool{New: func() any {
	f, err := opentype.NewFace(typeface(), &opentype.FaceOptions{Size: drawnAt, DPI: 72})
	if err != nil {
		return nil
	}
	return f
}}

// drawnWidth is about how wide a text is when drawn in a sans serif of drawnAt px, in px. Letters that the font
// lacks count half their size for each column they take.
func drawnWidth(text string) int {
	f := faces.Get().(font.Face)
	defer faces.Put(f)
	width := 0
	for state := -1; text != ""; {
		var cluster string
		var columns int
		cluster, text, columns, state = uniseg.FirstGraphemeClusterInString(text, state)
		advance, ok := f.GlyphAdvance([]rune(cluster)[0])
		if _, _, has := f.GlyphBounds([]rune(cluster)[0]); ok && has && columns < 2 {
			width += int(advance)
		} else {
			width += columns * drawnAt * 32 // half an em in 1/64 px
		}
	}
	return (width + 32) / 64
}
