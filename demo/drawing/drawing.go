// Package drawing draws the pictures of the demo templates.
package drawing

import (
	"bytes"
	"fmt"
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"math"

	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/math/fixed"
	"golang.org/x/image/vector"
)

// The company's colours.
var (
	deep  = color.RGBA{0x0b, 0x3c, 0x49, 0xff}
	sea   = color.RGBA{0x2a, 0x7f, 0x8e, 0xff}
	foam  = color.RGBA{0xf2, 0xf6, 0xf5, 0xff}
	buoy  = color.RGBA{0xc8, 0x55, 0x3d, 0xff}
	white = color.RGBA{0xff, 0xff, 0xff, 0xff}
)

// All are the demo's pictures: for each template its files by name.
func All() (map[string]map[string][]byte, error) {
	logo, err := encode(drawLogo(176))
	if err != nil {
		return nil, err
	}
	small, err := encode(drawLogo(88))
	if err != nil {
		return nil, err
	}
	winter, err := banner(960, 168, "Winter timetable", "Every crossing, every day, from 1 October", false)
	if err != nil {
		return nil, err
	}
	regatta, err := banner(960, 168, "Harbour day and regatta", "Last Sunday in June, all ports", true)
	if err != nil {
		return nil, err
	}
	strip, err := banner(840, 120, "Tickets", "at every pier", true)
	if err != nil {
		return nil, err
	}
	anchor, err := encodeSeeThrough(drawAnchor(88))
	if err != nil {
		return nil, err
	}
	return map[string]map[string][]byte{
		"voyage":  {"logo.png": small},
		"harbour": {"logo.png": logo, "banner.png": winter},
		"regatta": {"logo.png": logo, "banner.png": regatta, "strip.png": strip, "anchor.png": anchor, "pennant.svg": []byte(pennant)},
	}, nil
}

// Originals are the pictures as designers and photographers hand them in.
func Originals() (map[string][]byte, error) {
	crossings, err := drawCrossings()
	if err != nil {
		return nil, err
	}
	design, err := encodeSeeThrough(crossings)
	if err != nil {
		return nil, err
	}
	anchor, err := encodeSeeThrough(drawAnchor(512))
	if err != nil {
		return nil, err
	}
	portrait, err := PortraitJPEG(6, 720, 960)
	return map[string][]byte{"ferry.svg": []byte(Ferry), "crossings.png": design, "anchor.png": anchor, "portrait.jpg": portrait}, err
}

// Starters are the pictures of the starter templates: plain ones to be replaced.
func Starters() (map[string][]byte, error) {
	mark := image.NewRGBA(image.Rect(0, 0, 128, 128))
	draw.Draw(mark, mark.Bounds(), image.NewUniform(white), image.Point{}, draw.Src)
	fill(mark, sea, 128, shape{{0.04, 0.04}, {0.96, 0.04}, {0.96, 0.96}, {0.04, 0.96}})
	fill(mark, foam, 128, circle(0.5, 0.5, 0.3))
	logo, err := encode(mark)
	if err != nil {
		return nil, err
	}
	wide := image.NewRGBA(image.Rect(0, 0, 960, 168))
	draw.Draw(wide, wide.Bounds(), image.NewUniform(deep), image.Point{}, draw.Src)
	if err := text(wide, gobold.TTF, 44, 40, 80, "What is new"); err != nil {
		return nil, err
	}
	if err := text(wide, goregular.TTF, 28, 40, 124, "Replace this picture: 960 by 168 pixels, shown at half of that"); err != nil {
		return nil, err
	}
	banner, err := encode(wide)
	return map[string][]byte{"logo.png": logo, "banner.png": banner}, err
}

// shape is a closed path in a square of side 1.
type shape [][2]float32

func fill(dst draw.Image, c color.Color, scale float32, shapes ...shape) {
	b := dst.Bounds()
	r := vector.NewRasterizer(b.Dx(), b.Dy())
	for _, s := range shapes {
		for i, p := range s {
			if i == 0 {
				r.MoveTo(p[0]*scale, p[1]*scale)
			} else {
				r.LineTo(p[0]*scale, p[1]*scale)
			}
		}
		r.ClosePath()
	}
	r.Draw(dst, b, image.NewUniform(c), image.Point{})
}

func circle(x, y, radius float32) shape {
	var s shape
	for i := 0; i < 64; i++ {
		a := 2 * math.Pi * float64(i) / 64
		s = append(s, [2]float32{x + radius*float32(math.Cos(a)), y + radius*float32(math.Sin(a))})
	}
	return s
}

// wave is a band with a rolling upper edge.
func wave(y, height, length, phase, left, right float32) shape {
	var s shape
	for i := float32(0); i <= 96; i++ {
		x := left + (right-left)*i/96
		s = append(s, [2]float32{x, y + 0.014*float32(math.Sin(float64((x+phase)/length)*2*math.Pi))})
	}
	return append(s, [2]float32{right, y + height}, [2]float32{left, y + height})
}

// drawLogo draws the company's mark: a ferry between two waves on a round background.
func drawLogo(size int) image.Image {
	img := image.NewRGBA(image.Rect(0, 0, size, size))
	draw.Draw(img, img.Bounds(), image.NewUniform(white), image.Point{}, draw.Src)
	scale := float32(size)
	fill(img, deep, scale, circle(0.5, 0.5, 0.49))
	drawFerry(img, scale, 0, 0)
	fill(img, sea, scale, wave(0.70, 0.05, 0.25, 0, 0.12, 0.88))
	fill(img, foam, scale, wave(0.77, 0.025, 0.25, 0.12, 0.18, 0.82))
	return img
}

// pennant is the regatta's flag as a drawing of lines.
const pennant = `<svg xmlns="http://www.w3.org/2000/svg" width="48" height="32" viewBox="0 0 48 32">
  <path d="M4 2v28" stroke="#0b3c49" stroke-width="2"/>
  <path d="M5 4l38 9-38 9z" fill="#c8553d"/>
  <circle cx="15" cy="13" r="4" fill="#f2f6f5"/>
</svg>
`

// drawAnchor draws a dark anchor on see-through background.
func drawAnchor(size int) image.Image {
	img := image.NewNRGBA(image.Rect(0, 0, size, size))
	scale := float32(size)
	ring := func(x, y, outer, inner float32, from, until float64) shape {
		var s shape
		for i := 0; i <= 48; i++ {
			a := from + (until-from)*float64(i)/48
			s = append(s, [2]float32{x + outer*float32(math.Cos(a)), y + outer*float32(math.Sin(a))})
		}
		for i := 48; i >= 0; i-- {
			a := from + (until-from)*float64(i)/48
			s = append(s, [2]float32{x + inner*float32(math.Cos(a)), y + inner*float32(math.Sin(a))})
		}
		return s
	}
	for _, s := range []shape{
		ring(0.5, 0.18, 0.11, 0.05, 0, 2*math.Pi),
		{{0.46, 0.28}, {0.54, 0.28}, {0.54, 0.92}, {0.46, 0.92}},
		{{0.30, 0.36}, {0.70, 0.36}, {0.70, 0.43}, {0.30, 0.43}},
		ring(0.5, 0.56, 0.36, 0.28, 0.15, math.Pi-0.15),
		{{0.78, 0.62}, {0.86, 0.46}, {0.95, 0.66}}, {{0.05, 0.66}, {0.14, 0.46}, {0.22, 0.62}},
	} {
		fill(img, deep, scale, s)
	}
	return img
}

func encodeSeeThrough(img image.Image) ([]byte, error) {
	var b bytes.Buffer
	err := (&png.Encoder{CompressionLevel: png.BestCompression}).Encode(&b, img)
	return b.Bytes(), err
}

func drawFerry(img draw.Image, scale, dx, dy float32) {
	move := func(s shape) shape {
		out := make(shape, len(s))
		for i, p := range s {
			out[i] = [2]float32{p[0] + dx, p[1] + dy}
		}
		return out
	}
	fill(img, foam, scale, move(shape{{0.16, 0.56}, {0.84, 0.56}, {0.78, 0.70}, {0.24, 0.70}}))
	fill(img, foam, scale, move(shape{{0.28, 0.43}, {0.70, 0.43}, {0.74, 0.53}, {0.28, 0.53}}))
	fill(img, buoy, scale, move(shape{{0.40, 0.28}, {0.52, 0.28}, {0.52, 0.41}, {0.40, 0.41}}))
	for i := float32(0); i < 4; i++ {
		x := 0.33 + i*0.09
		fill(img, deep, scale, move(shape{{x, 0.46}, {x + 0.05, 0.46}, {x + 0.05, 0.50}, {x, 0.50}}))
	}
}

// banner draws a wide picture with two lines of text.
func banner(width, height int, title, line string, warm bool) ([]byte, error) {
	img := image.NewRGBA(image.Rect(0, 0, width, height))
	background, band := deep, sea
	if warm {
		background, band = buoy, deep
	}
	draw.Draw(img, img.Bounds(), image.NewUniform(background), image.Point{}, draw.Src)
	w := float32(width)
	h := float32(height) / w
	fill(img, band, w, wave(h*0.80, h, 0.11, 0.03, 0, 1))
	drawFerry(img, float32(height)*1.05, w/(float32(height)*1.05)-1.05, 0.08)
	fill(img, foam, w, wave(h*0.90, h, 0.11, 0.08, 0, 1))
	if err := text(img, gobold.TTF, float64(height)*0.27, width/24, height*43/100, title); err != nil {
		return nil, err
	}
	if err := text(img, goregular.TTF, float64(height)*0.16, width/24, height*67/100, line); err != nil {
		return nil, err
	}
	return encode(img)
}

func text(dst draw.Image, ttf []byte, size float64, x, y int, s string) error {
	parsed, err := opentype.Parse(ttf)
	if err != nil {
		return fmt.Errorf("reading the font: %w", err)
	}
	face, err := opentype.NewFace(parsed, &opentype.FaceOptions{Size: size, DPI: 72, Hinting: font.HintingNone})
	if err != nil {
		return fmt.Errorf("reading the font: %w", err)
	}
	d := font.Drawer{Dst: dst, Src: image.NewUniform(white), Face: face, Dot: fixed.P(x, y)}
	d.DrawString(s)
	return nil
}

// encode writes a PNG with the palette of the colours used, at most 64: flat drawings lose nothing
// that can be seen.
func encode(img image.Image) ([]byte, error) {
	var palette color.Palette
	for _, c := range []color.RGBA{deep, sea, foam, buoy, white} {
		for _, over := range []color.RGBA{white, deep, sea, buoy, foam} {
			for step := 0; step <= 4; step++ {
				palette = appendNew(palette, mix(c, over, float64(step)/4))
			}
		}
	}
	flat := image.NewPaletted(img.Bounds(), palette[:min(len(palette), 64)])
	draw.Draw(flat, flat.Bounds(), img, image.Point{}, draw.Src)
	var b bytes.Buffer
	err := (&png.Encoder{CompressionLevel: png.BestCompression}).Encode(&b, flat)
	return b.Bytes(), err
}

func appendNew(p color.Palette, c color.RGBA) color.Palette {
	for _, have := range p {
		if have == c {
			return p
		}
	}
	return append(p, c)
}

func mix(a, b color.RGBA, part float64) color.RGBA {
	blend := func(x, y uint8) uint8 { return uint8(math.Round(float64(x)*(1-part) + float64(y)*part)) }
	return color.RGBA{blend(a.R, b.R), blend(a.G, b.G), blend(a.B, b.B), 0xff}
}
