package picture

import (
	"fmt"
	"image"
	"image/color"
	"math"
	"strconv"
	"strings"
)

// Shape is what is cut into the pixels.
type Shape string

// The shapes.
const (
	square  Shape = ""        // as it is
	Round   Shape = "round"   // an ellipse that touches all sides
	Rounded Shape = "rounded" // corners with a radius
)

// check refuses a shape that is none.
func (s Shape) check() error {
	if s != square && s != Round && s != Rounded {
		return fmt.Errorf("the shape %q is not known; it is round or rounded", string(s))
	}
	return nil
}

// parseColour reads #rgb or #rrggbb; the sign may be left out, since shells take it for a comment.
func parseColour(s string) (color.NRGBA, error) {
	digits := strings.TrimPrefix(s, "#")
	if len(digits) == 3 {
		digits = string([]byte{digits[0], digits[0], digits[1], digits[1], digits[2], digits[2]})
	}
	if len(digits) != 6 {
		digits = ""
	}
	n, err := strconv.ParseUint(digits, 16, 32)
	if err != nil {
		return color.NRGBA{}, fmt.Errorf("%q is no colour; write it as #0b3c49", s)
	}
	return color.NRGBA{uint8(n >> 16), uint8(n >> 8), uint8(n), 255}, nil
}

// hexOf writes a colour as #rrggbb.
func hexOf(c color.NRGBA) string { return fmt.Sprintf("#%02x%02x%02x", c.R, c.G, c.B) }

// shaped cuts the shape, draws the ring and lays the background, in the pixels of a rendition with so many for each px.
func (r Recipe) shaped(img *image.NRGBA, scale float64) *image.NRGBA {
	ring, _ := parseColour(r.Colour) // was checked; black without one
	ring.A = 255
	background, err := parseColour(r.Background)
	covered := err == nil
	if r.Shape == square && r.Ring == 0 && !covered {
		return img
	}
	w, h := float64(img.Rect.Dx()), float64(img.Rect.Dy())
	for y := range img.Rect.Dy() {
		for x := range img.Rect.Dx() {
			i := img.PixOffset(x, y)
			c := color.NRGBA{img.Pix[i], img.Pix[i+1], img.Pix[i+2], img.Pix[i+3]}
			edge := r.inside(float64(x)+0.5, float64(y)+0.5, w, h, scale)
			if width := r.Ring * scale; width > 0 {
				c = blended(ring, c, coverage(width-edge))
			}
			c.A = uint8(float64(c.A)*coverage(edge) + 0.5)
			switch {
			case covered:
				c = blended(c, background, 1)
			case c.A == 0:
				c = color.NRGBA{}
			}
			img.Pix[i], img.Pix[i+1], img.Pix[i+2], img.Pix[i+3] = c.R, c.G, c.B, c.A
		}
	}
	return img
}

// coverage is the share of a pixel that lies inside an edge at a distance from its middle.
func coverage(distance float64) float64 { return min(max(distance+0.5, 0), 1) }

// inside is how far inside the shape a place is, in pixels; negative outside.
func (r Recipe) inside(x, y, w, h, scale float64) float64 {
	switch r.Shape {
	case Round:
		dx, dy := (x-w/2)/(w/2), (y-h/2)/(h/2)
		away := math.Hypot(dx, dy)
		if away == 0 {
			return min(w, h) / 2
		}
		// the distance along the ray, corrected by how steep the ellipse is there
		slope := math.Hypot(dx/(w/2), dy/(h/2)) / away
		return (1 - away) / slope
	case Rounded:
		radius := min(r.Radius*scale, w/2, h/2)
		qx, qy := math.Abs(x-w/2)-(w/2-radius), math.Abs(y-h/2)-(h/2-radius)
		return radius - math.Hypot(max(qx, 0), max(qy, 0)) - min(max(qx, qy), 0)
	}
	return min(x, y, w-x, h-y)
}

// blended lays a colour with a share of its opacity over another, by light.
func blended(over, under color.NRGBA, share float64) color.NRGBA {
	a := float32(float64(over.A) / 255 * share)
	b := float32(under.A) / 255 * (1 - a)
	if a+b == 0 {
		return color.NRGBA{}
	}
	mixed := func(x, y uint8) uint8 { return fromLight((toLight[x]*a + toLight[y]*b) / (a + b)) }
	return color.NRGBA{mixed(over.R, under.R), mixed(over.G, under.G), mixed(over.B, under.B), uint8((a+b)*255 + 0.5)}
}

// Detect finds what a picture is about, for portraits on a background: the upper part of what differs most from the
// picture's border. It is a guess to begin with, not a face finder.
func Detect(img *image.NRGBA) Point {
	const size = 48
	small := Resized(img, size, size)
	at := func(x, y int) [3]float64 {
		i := small.PixOffset(x, y)
		return [3]float64{float64(small.Pix[i]), float64(small.Pix[i+1]), float64(small.Pix[i+2])}
	}
	var border [][3]float64 // the sides and the top: the body of a portrait goes out at the bottom
	for i := range size {
		border = append(border, at(i, 0), at(i, 1))
		if i < 2*size/3 {
			border = append(border, at(0, i), at(size-1, i), at(1, i), at(size-2, i))
		}
	}
	var differs [size][size]float64
	total := 0.0
	for y := range size {
		for x := range size {
			least := math.Inf(1)
			c := at(x, y)
			for _, b := range border {
				least = min(least, math.Hypot(math.Hypot(c[0]-b[0], c[1]-b[1]), c[2]-b[2]))
			}
			differs[y][x] = least
			total += least
		}
	}
	if total < 2*size*size { // nothing stands out
		return Point{0.5, 0.5}
	}
	rowSum, top, bottom := 0.0, size/2, size-1
	for y := range size {
		for x := range size {
			rowSum += differs[y][x]
		}
		if rowSum < 0.04*total {
			top = y
		}
		if rowSum < 0.96*total {
			bottom = y
		}
	}
	head := min(top+(bottom-top)*4/10, size-1) // heads are the upper part of what stands out
	sum, weight := 0.0, 0.0
	for y := top; y <= head; y++ {
		for x := range size {
			sum += (float64(x) + 0.5) * differs[y][x]
			weight += differs[y][x]
		}
	}
	if weight == 0 {
		return Point{0.5, 0.5}
	}
	return Point{X: sum / weight / size, Y: (float64(top+head)/2 + 0.5) / size}
}
