package picture

import (
	"image"
	"image/color"
	"image/draw"
)

// DifferenceImage shows where two pictures of one size differ: black where they are the same, brighter the more
// they do, eight times as strong as it is.
func DifferenceImage(a, b *image.NRGBA) *image.NRGBA {
	if a.Rect.Size() != b.Rect.Size() {
		b = Resized(b, a.Rect.Dx(), a.Rect.Dy())
	}
	out := image.NewNRGBA(image.Rect(0, 0, a.Rect.Dx(), a.Rect.Dy()))
	white := color.NRGBA{255, 255, 255, 255}
	x, y := over(a, white), over(b, white)
	for i := 0; i+3 < len(out.Pix); i += 4 {
		for c := range 3 {
			d := int(x.Pix[i+c]) - int(y.Pix[i+c])
			out.Pix[i+c] = uint8(min(8*max(d, -d), 255))
		}
		out.Pix[i+3] = 255
	}
	return out
}

// gap is the room between pictures that stand side by side, in pixels.
const gap = 12

// SideBySide draws pictures beside one another at the same scale, on white and below it again on dark where one of
// them can be seen through.
func SideBySide(pictures ...*image.NRGBA) *image.NRGBA {
	width, height, clear := gap, 0, false
	for _, p := range pictures {
		width += p.Rect.Dx() + gap
		height = max(height, p.Rect.Dy())
		clear = clear || !p.Opaque()
	}
	rows := []color.NRGBA{darkBackgrounds[0].colour}
	if clear {
		rows = append(rows, darkBackgrounds[1].colour)
	}
	out := image.NewNRGBA(image.Rect(0, 0, width, len(rows)*(height+2*gap)))
	for i, background := range rows {
		top := i * (height + 2*gap)
		draw.Draw(out, image.Rect(0, top, width, top+height+2*gap), image.NewUniform(background), image.Point{}, draw.Src)
		x := gap
		for _, p := range pictures {
			draw.Draw(out, image.Rect(x, top+gap, x+p.Rect.Dx(), top+gap+p.Rect.Dy()), p, image.Point{}, draw.Over)
			x += p.Rect.Dx() + gap
		}
	}
	return out
}
