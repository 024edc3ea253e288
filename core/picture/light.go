package picture

import (
	"image"
	"math"
)

// toLight takes a stored value of sRGB to light (IEC 61966-2-1), 0 to 1.
var toLight = func() (t [256]float32) {
	for i := range t {
		v := float64(i) / 255
		if v <= 0.04045 {
			t[i] = float32(v / 12.92)
		} else {
			t[i] = float32(math.Pow((v+0.055)/1.055, 2.4))
		}
	}
	return t
}()

// stored is the inverse of toLight in steps fine enough that every value comes back.
var stored = func() (t [1 << 14]uint8) {
	for i := range t {
		v := (float64(i) + 0.5) / float64(len(t))
		if v <= 0.0031308 {
			v *= 12.92
		} else {
			v = 1.055*math.Pow(v, 1/2.4) - 0.055
		}
		t[i] = uint8(math.Round(255 * v))
	}
	return t
}()

// fromLight is the sRGB value of an amount of light.
func fromLight(v float32) uint8 {
	return stored[int(min(max(v, 0), 0.99999)*float32(len(stored)))]
}

// light is a picture as amounts of light, each multiplied by its opacity: what may be added up and averaged.
type light struct {
	width, height int
	channels      int       // 3, or 4 with opacity
	values        []float32 // row by row
}

// newLight is a picture in light, all dark.
func newLight(width, height, channels int) *light {
	return &light{width, height, channels, make([]float32, width*height*channels)}
}

// lightOf turns sRGB into light, with opacity taken in, so that resampling neither darkens nor bleeds.
func lightOf(img *image.NRGBA) *light {
	b := img.Rect
	channels := 4
	if img.Opaque() {
		channels = 3
	}
	l := newLight(b.Dx(), b.Dy(), channels)
	to := l.values
	for y := range l.height {
		row := img.Pix[y*img.Stride : y*img.Stride+4*l.width]
		for ; len(row) > 0; row, to = row[4:], to[channels:] {
			if channels == 3 {
				to[0], to[1], to[2] = toLight[row[0]], toLight[row[1]], toLight[row[2]]
				continue
			}
			a := float32(row[3]) / 255
			to[0], to[1], to[2], to[3] = a*toLight[row[0]], a*toLight[row[1]], a*toLight[row[2]], a
		}
	}
	return l
}

// image turns light back into sRGB.
func (l *light) image() *image.NRGBA {
	img := image.NewNRGBA(image.Rect(0, 0, l.width, l.height))
	from := l.values
	for i := 0; i < len(img.Pix); i, from = i+4, from[l.channels:] {
		if l.channels == 3 {
			img.Pix[i], img.Pix[i+1], img.Pix[i+2], img.Pix[i+3] = fromLight(from[0]), fromLight(from[1]), fromLight(from[2]), 255
			continue
		}
		a := min(max(from[3], 0), 1)
		if opacity := uint8(a*255 + 0.5); opacity > 0 {
			img.Pix[i], img.Pix[i+1], img.Pix[i+2], img.Pix[i+3] = fromLight(from[0]/a), fromLight(from[1]/a), fromLight(from[2]/a), opacity
		}
	}
	return img
}

// shrunk averages blocks of n by n pixels; the last ones may be smaller.
func (l *light) shrunk(n int) *light {
	out := newLight((l.width+n-1)/n, (l.height+n-1)/n, l.channels)
	for y := range out.height {
		rows := min(n, l.height-y*n)
		for x := range out.width {
			columns := min(n, l.width-x*n)
			to := out.values[(y*out.width+x)*l.channels:][:l.channels]
			for dy := range rows {
				from := l.values[((y*n+dy)*l.width+x*n)*l.channels:][:columns*l.channels]
				for ; len(from) > 0; from = from[l.channels:] {
					for c := range to {
						to[c] += from[c]
					}
				}
			}
			for c := range to {
				to[c] /= float32(rows * columns)
			}
		}
	}
	return out
}

// window is a part of a picture in its pixels, not necessarily whole ones.
type window struct{ x, y, width, height float64 }

// resampled draws a window of the picture with a width and height in pixels.
func (l *light) resampled(from window, width, height int) *light {
	if n := int(min(from.width/float64(width), from.height/float64(height)) / 3); n >= 2 {
		// what would be averaged anyway is averaged cheaply first; three steps and more are left to the kernel
		return l.shrunk(n).resampled(window{from.x / float64(n), from.y / float64(n), from.width / float64(n),
			from.height / float64(n)}, width, height)
	}
	first, last := int(max(math.Floor(from.y)-8*max(from.height/float64(height), 1), 0)),
		int(min(math.Ceil(from.y+from.height)+8*max(from.height/float64(height), 1), float64(l.height)))
	rows := newLight(width, last-first, l.channels)
	across := weights(from.x, from.width, l.width, width)
	for y := range rows.height {
		source := l.values[(first+y)*l.width*l.channels:]
		target := rows.values[y*width*l.channels:]
		for x, w := range across {
			sum(target[x*l.channels:][:l.channels], source[w.first*l.channels:], w.of, l.channels)
		}
	}
	out := newLight(width, height, l.channels)
	stride := width * l.channels
	for y, w := range weights(from.y-float64(first), from.height, rows.height, height) {
		target := out.values[y*stride:][:stride]
		for i, weight := range w.of {
			source := rows.values[(w.first+i)*stride:][:stride]
			for x, v := range source {
				target[x] += weight * v
			}
		}
	}
	return out
}

// sum adds up weighted pixels.
func sum(to, from, weights []float32, channels int) {
	if channels == 3 {
		var r, g, b float32
		for _, w := range weights {
			r, g, b = r+w*from[0], g+w*from[1], b+w*from[2]
			from = from[3:]
		}
		to[0], to[1], to[2] = r, g, b
		return
	}
	var r, g, b, a float32
	for _, w := range weights {
		r, g, b, a = r+w*from[0], g+w*from[1], b+w*from[2], a+w*from[3]
		from = from[4:]
	}
	to[0], to[1], to[2], to[3] = r, g, b, a
}

// taps are the source pixels that one target pixel is made of, and their weights.
type taps struct {
	first int
	of    []float32
}

// weights works out for each of count target pixels the taps in a row of size source pixels: making smaller, each
// counts by how much of it the target pixel covers, so that light is neither lost nor rings around edges; making
// larger, by cubic.
func weights(from, length float64, size, count int) []taps {
	scale := length / float64(count)
	reach := max(scale, 1)
	list := make([]taps, count)
	for i := range list {
		centre := from + (float64(i)+0.5)*scale
		first := min(max(int(math.Floor(centre-2*reach)), 0), size-1)
		last := max(min(int(math.Ceil(centre+2*reach)), size-1), first)
		if scale >= 1 {
			first = min(max(int(math.Floor(centre-scale/2)), 0), size-1)
			last = max(min(int(math.Ceil(centre+scale/2))-1, size-1), first)
		}
		t := taps{first: first, of: make([]float32, last-first+1)}
		total := 0.0
		for k := range t.of {
			at := float64(first + k)
			w := cubic((at + 0.5 - centre) / reach)
			if scale >= 1 {
				w = max(min(at+1, centre+scale/2)-max(at, centre-scale/2), 0)
			}
			t.of[k] = float32(w)
			total += w
		}
		if total == 0 {
			t.of[0], total = 1, 1
		}
		for k := range t.of {
			t.of[k] /= float32(total)
		}
		list[i] = t
	}
	return list
}

// cubic is the cubic convolution kernel with a = -0.5 (Keys, Cubic convolution interpolation for digital image
// processing, IEEE TASSP 29, 1981).
func cubic(x float64) float64 {
	x = math.Abs(x)
	switch {
	case x < 1:
		return (1.5*x-2.5)*x*x + 1
	case x < 2:
		return ((-0.5*x+2.5)*x-4)*x + 2
	}
	return 0
}
