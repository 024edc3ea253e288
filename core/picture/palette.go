package picture

import (
	"cmp"
	"image"
	"image/color"
	"image/draw"
	"slices"
)

// shade is one colour of a picture, multiplied by its opacity, and how many pixels have it.
type shade struct {
	at    [4]float32
	count float32
}

// shadeWeights are how much red, green, blue and opacity count in a distance of colours.
var shadeWeights = [4]float32{0.6, 1.2, 0.4, 1.6}

// shadeOf is where a colour lies when distances are measured.
func shadeOf(c color.NRGBA) (at [4]float32) {
	a := float32(c.A) / 255
	return [4]float32{a * float32(c.R), a * float32(c.G), a * float32(c.B), float32(c.A)}
}

// coloursOf counts the pixels of each colour; nil when there are more than most.
func coloursOf(frames []Frame, most int) map[color.NRGBA]int {
	counts := map[color.NRGBA]int{}
	for _, f := range frames {
		for p := f.Image.Pix; len(p) >= 4; p = p[4:] {
			c := color.NRGBA{p[0], p[1], p[2], p[3]}
			if c.A == 0 {
				c = color.NRGBA{}
			}
			counts[c]++
			if len(counts) > most {
				return nil
			}
		}
	}
	return counts
}

// histogram groups the colours into at most some ten thousands.
func histogram(frames []Frame) []shade {
	counts := map[uint32]*shade{}
	for _, f := range frames {
		for p := f.Image.Pix; len(p) >= 4; p = p[4:] {
			key := uint32(p[0]>>2)<<18 | uint32(p[1]>>2)<<12 | uint32(p[2]>>2)<<6 | uint32(p[3]>>2)
			if p[3] == 0 {
				key = 0
			}
			s := counts[key]
			if s == nil {
				s = &shade{}
				counts[key] = s
			}
			at := shadeOf(color.NRGBA{p[0], p[1], p[2], p[3]})
			for i := range at {
				s.at[i] += at[i]
			}
			s.count++
		}
	}
	keys := make([]uint32, 0, len(counts))
	for k := range counts {
		keys = append(keys, k)
	}
	slices.Sort(keys) // the same picture gives the same palette
	list := make([]shade, len(keys))
	for i, k := range keys {
		s := counts[k]
		for c := range s.at {
			s.at[c] /= s.count
		}
		list[i] = *s
	}
	return list
}

// paletteOf chooses at most n colours: the shades are split where they differ most, and the colours then moved to
// the middle of those nearest to them (Lloyd, Least squares quantization in PCM, IEEE TIT 28, 1982).
func paletteOf(shades []shade, n int) color.Palette {
	boxes := [][]shade{slices.Clone(shades)}
	for len(boxes) < n {
		worst, axis, most := -1, 0, float32(0)
		for i, b := range boxes {
			if a, spread := widest(b); spread > most {
				worst, axis, most = i, a, spread
			}
		}
		if worst < 0 {
			break
		}
		left, right := split(boxes[worst], axis)
		boxes[worst] = left
		boxes = append(boxes, right)
	}
	centres := make([][4]float32, len(boxes))
	for i, b := range boxes {
		centres[i] = mean(b)
	}
	for range 6 {
		centres = moved(centres, shades)
	}
	return paletteFrom(centres)
}

// mean is the middle of shades, by how often each comes.
func mean(b []shade) (m [4]float32) {
	var total float32
	for _, s := range b {
		for i, v := range s.at {
			m[i] += v * s.count
		}
		total += s.count
	}
	for i := range m {
		m[i] /= total
	}
	return m
}

// widest is the direction in which the shades of a box differ most, and by how much all together.
func widest(b []shade) (axis int, spread float32) {
	if len(b) < 2 {
		return 0, 0
	}
	m := mean(b)
	for i := range m {
		var v float32
		for _, s := range b {
			d := (s.at[i] - m[i]) * shadeWeights[i]
			v += d * d * s.count
		}
		if v > spread {
			axis, spread = i, v
		}
	}
	return axis, spread
}

// split parts a box at its mean.
func split(b []shade, axis int) (left, right []shade) {
	slices.SortStableFunc(b, func(x, y shade) int { return cmp.Compare(x.at[axis], y.at[axis]) })
	middle := mean(b)[axis]
	i, _ := slices.BinarySearchFunc(b, middle, func(s shade, m float32) int { return cmp.Compare(s.at[axis], m) })
	i = min(max(i, 1), len(b)-1)
	return b[:i], b[i:]
}

// nearest is the centre next to a shade.
func nearest(centres [][4]float32, at [4]float32) int {
	best, least := 0, float32(1e30)
	for i := range centres {
		var d float32
		for k := range at {
			v := (centres[i][k] - at[k]) * shadeWeights[k]
			d += v * v
		}
		if d < least {
			best, least = i, d
		}
	}
	return best
}

// moved are the centres after each went to the middle of its shades.
func moved(centres [][4]float32, shades []shade) [][4]float32 {
	sums := make([]shade, len(centres))
	for _, s := range shades {
		to := &sums[nearest(centres, s.at)]
		for i, v := range s.at {
			to.at[i] += v * s.count
		}
		to.count += s.count
	}
	out := slices.Clone(centres)
	for i, s := range sums {
		if s.count > 0 {
			for k := range s.at {
				out[i][k] = s.at[k] / s.count
			}
		}
	}
	return out
}

// paletteFrom makes colours of the centres, the see-through ones first: PNG writes the opacity of those only.
func paletteFrom(centres [][4]float32) color.Palette {
	slices.SortFunc(centres, func(a, b [4]float32) int {
		return cmp.Or(cmp.Compare(a[3], b[3]), cmp.Compare(a[0]+2*a[1]+a[2], b[0]+2*b[1]+b[2]))
	})
	var p color.Palette
	for _, c := range centres {
		a := c[3] / 255
		n := color.NRGBA{A: uint8(c[3] + 0.5)}
		if n.A > 0 {
			n.R, n.G, n.B = uint8(min(c[0]/a, 255)+0.5), uint8(min(c[1]/a, 255)+0.5), uint8(min(c[2]/a, 255)+0.5)
		}
		if !slices.Contains(p, color.Color(n)) {
			p = append(p, n)
		}
	}
	return p
}

// paletted gives every pixel its nearest colour; dithered spreads the difference to the pixels around (Floyd and
// Steinberg, Proc. SID 17, 1976).
func paletted(img *image.NRGBA, p color.Palette, dithered bool) *image.Paletted {
	out := image.NewPaletted(img.Rect, p)
	if dithered {
		draw.FloydSteinberg.Draw(out, out.Rect, img, image.Point{})
		return out
	}
	centres := make([][4]float32, len(p))
	for i, c := range p {
		centres[i] = shadeOf(color.NRGBAModel.Convert(c).(color.NRGBA))
	}
	known := map[color.NRGBA]uint8{}
	for i := range out.Pix {
		c := color.NRGBA{img.Pix[4*i], img.Pix[4*i+1], img.Pix[4*i+2], img.Pix[4*i+3]}
		index, ok := known[c]
		if !ok {
			index = uint8(nearest(centres, shadeOf(c)))
			known[c] = index
		}
		out.Pix[i] = index
	}
	return out
}
