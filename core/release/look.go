package release

import "image"

// Look is the share of the pixels in which two pictures differ, from 0 to 1; what one has and the other has not differs.
func Look(a, b image.Image) float64 {
	width, height := max(a.Bounds().Dx(), b.Bounds().Dx()), max(a.Bounds().Dy(), b.Bounds().Dy())
	if width == 0 || height == 0 {
		return 0
	}
	different := 0
	for y := range height {
		for x := range width {
			p, q := a.Bounds().Min.Add(image.Pt(x, y)), b.Bounds().Min.Add(image.Pt(x, y))
			if p.In(a.Bounds()) != q.In(b.Bounds()) {
				different++
				continue
			}
			r1, g1, b1, a1 := a.At(p.X, p.Y).RGBA()
			r2, g2, b2, a2 := b.At(q.X, q.Y).RGBA()
			if far(r1, r2) || far(g1, g2) || far(b1, b2) || far(a1, a2) {
				different++
			}
		}
	}
	return float64(different) / float64(width*height)
}

// far reports whether two values of a colour differ by more than drawing again makes of them.
func far(a, b uint32) bool { return max(a, b)-min(a, b) > 0x0500 }
