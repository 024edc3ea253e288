package picture

import (
	"image"
	"math"
)

// Measure is what the differences of this package are, in words.
const Measure = "1 - SSIM (Wang, Bovik, Sheikh, Simoncelli, IEEE TIP 13, 2004: 11 x 11 Gaussian window, K1 = 0.01, K2 = 0.03), " +
	"of luma, and of chroma at half the pixels each way, weighted 8:1:1 (Wang, Lu, Bovik, Signal Processing: Image Communication 19, 2004), " +
	"pooled as the root of the mean square so that a small spoilt place counts; over white and over dark where it " +
	"is transparent, the worse of both"

// The largest differences by Measure that Compress takes for not visible at the picture's own pixels: our own figures,
// found by looking. A photograph's grain may go; the edge of a drawing stands on flat background, where all can be seen;
// and the bands that few colours make of a photograph's sky are seen sooner than the measure says.
const (
	unseenInPhoto   = 0.04
	unseenInBands   = 0.012
	unseenInDrawing = 0.005
)

// Difference says how far apart two pictures of the same size look: 0 for the same, 1 for nothing in common. With
// other sizes the smaller is drawn at the size of the larger first.
func Difference(a, b *image.NRGBA) float64 {
	if a.Rect.Dx()*a.Rect.Dy() < b.Rect.Dx()*b.Rect.Dy() {
		a, b = b, a
	}
	if a.Rect.Size() != b.Rect.Size() {
		b = Resized(b, a.Rect.Dx(), a.Rect.Dy())
	}
	return newReference(a).difference(b)
}

// Resized draws a picture with another width and height in pixels, by light.
func Resized(img *image.NRGBA, width, height int) *image.NRGBA {
	l := lightOf(img)
	return l.resampled(window{0, 0, float64(l.width), float64(l.height)}, width, height).image()
}

// backgrounds are what a transparent picture is looked at over: white, and the grey of dark mode.
var backgrounds = [2]float32{255, 31}

// plane is one channel of a picture.
type plane []float32

// reference is a picture that others are held against, with what does not change worked out.
type reference struct {
	width, height int
	looks         []look // one, or one for each background
}

// look is what the difference is measured on: a picture over one background.
type look struct {
	background float32
	channels   [3]channel
}

// channel is luma, or chroma at half the pixels each way.
type channel struct {
	width, height          int
	values, mean, variance plane
}

// newReference works out what does not change from one candidate to the next.
func newReference(img *image.NRGBA) *reference {
	r := &reference{width: img.Rect.Dx(), height: img.Rect.Dy()}
	for _, background := range backgrounds {
		l := look{background: background}
		planes := planesOver(img, background)
		for i, values := range planes {
			c := &l.channels[i]
			c.values, c.width, c.height = values, r.width, r.height
			if i > 0 {
				c.values, c.width, c.height = halved(values, r.width, r.height)
			}
			c.mean = c.blurred(c.values)
			c.variance = c.blurred(product(c.values, c.values))
			for k, m := range c.mean {
				c.variance[k] -= m * m
			}
		}
		r.looks = append(r.looks, l)
		if img.Opaque() {
			break
		}
	}
	return r
}

// planesOver gives luma and chroma (ITU-R BT.601, full range) of a picture over a grey background.
func planesOver(img *image.NRGBA, background float32) [3]plane {
	n := img.Rect.Dx() * img.Rect.Dy()
	all := make(plane, 3*n)
	y, cb, cr := all[:n], all[n:2*n], all[2*n:]
	i := 0
	for row := range img.Rect.Dy() {
		p := img.Pix[row*img.Stride:][:4*img.Rect.Dx()]
		for ; len(p) > 0; p = p[4:] {
			r, g, b := float32(p[0]), float32(p[1]), float32(p[2])
			if p[3] != 255 {
				a := float32(p[3]) / 255
				r, g, b = a*r+(1-a)*background, a*g+(1-a)*background, a*b+(1-a)*background
			}
			luma := 0.299*r + 0.587*g + 0.114*b
			y[i], cb[i], cr[i] = luma, 0.564*(b-luma), 0.713*(r-luma)
			i++
		}
	}
	return [3]plane{y, cb, cr}
}

// product multiplies two planes pixel by pixel.
func product(a, b plane) plane {
	out := make(plane, len(a))
	for i := range a {
		out[i] = a[i] * b[i]
	}
	return out
}

// gauss is half of the 11-tap window with a deviation of 1.5 px; the middle first.
var gauss = func() (g [6]float32) {
	total := 0.0
	for i := -5; i <= 5; i++ {
		total += math.Exp(-float64(i*i) / 4.5)
	}
	for i := range g {
		g[i] = float32(math.Exp(-float64(i*i)/4.5) / total)
	}
	return g
}()

// blurred averages a plane with the window; at the border its nearest pixels stand for those outside.
func (c *channel) blurred(p plane) plane {
	across := make(plane, len(p))
	padded := make(plane, c.width+10)
	for y := range c.height {
		row := p[y*c.width:][:c.width]
		copy(padded[5:], row)
		for i := range 5 {
			padded[i], padded[len(padded)-1-i] = row[0], row[len(row)-1]
		}
		to := across[y*c.width:][:c.width]
		for x := range to {
			w := padded[x : x+11]
			to[x] = gauss[0]*w[5] + gauss[1]*(w[4]+w[6]) + gauss[2]*(w[3]+w[7]) + gauss[3]*(w[2]+w[8]) + gauss[4]*(w[1]+w[9]) + gauss[5]*(w[0]+w[10])
		}
	}
	out := make(plane, len(p))
	at := func(y int) plane { return across[min(max(y, 0), c.height-1)*c.width:][:c.width] }
	for y := range c.height {
		to := out[y*c.width:][:c.width]
		a, b, d, e, f, g := at(y), at(y-1), at(y+1), at(y-2), at(y+2), at(y-3)
		h, i, j, k, l := at(y+3), at(y-4), at(y+4), at(y-5), at(y+5)
		for x := range to {
			to[x] = gauss[0]*a[x] + gauss[1]*(b[x]+d[x]) + gauss[2]*(e[x]+f[x]) + gauss[3]*(g[x]+h[x]) + gauss[4]*(i[x]+j[x]) + gauss[5]*(k[x]+l[x])
		}
	}
	return out
}

// channelWeights are those of luma and chroma.
var channelWeights = [3]float32{0.8, 0.1, 0.1}

// difference holds a picture of the same size against the reference.
func (r *reference) difference(img *image.NRGBA) float64 {
	worst := 0.0
	for _, l := range r.looks {
		d := make(plane, r.width*r.height)
		for i, values := range planesOver(img, l.background) {
			if i > 0 {
				values, _, _ = halved(values, r.width, r.height)
			}
			c := &l.channels[i]
			similar := c.dissimilar(values)
			for y := range r.height {
				row, from := d[y*r.width:][:r.width], similar[y*c.height/r.height*c.width:]
				for x := range row {
					at := x
					if i > 0 {
						at = x / 2
					}
					row[x] += channelWeights[i] * from[at]
				}
			}
		}
		total := 0.0
		for _, v := range d {
			total += float64(v) * float64(v)
		}
		worst = max(worst, math.Sqrt(total/float64(len(d))))
	}
	return worst
}

// dissimilar is 1 - SSIM of every window of a channel.
func (c *channel) dissimilar(values plane) plane {
	const c1, c2 = (0.01 * 255) * (0.01 * 255), (0.03 * 255) * (0.03 * 255)
	mean, square, both := c.blurred(values), c.blurred(product(values, values)), c.blurred(product(values, c.values))
	for i, m := range mean {
		n := c.mean[i]
		similar := (2*m*n + c1) * (2*(both[i]-m*n) + c2) / ((m*m + n*n + c1) * (square[i] - m*m + c.variance[i] + c2))
		both[i] = 1 - similar
	}
	return both
}
