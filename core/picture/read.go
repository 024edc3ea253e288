package picture

import (
	"bytes"
	"fmt"
	"image"
	"image/color"
	"image/draw"
	"image/gif"
	"strings"
	"time"
)

// Picture is a picture that was read: upright, in sRGB, 8 bits a channel, without anything but its pixels.
type Picture struct {
	Facts
	Frames []Frame  // one, or more of an animation
	Loops  int      // how often an animation is repeated; 0 for ever, -1 once
	Notes  []string // what was done in reading that can be seen or that was left out

	drawing []byte // an SVG drawing, to be drawn anew at any size
}

// Frame is one picture of an animation: whole, not the difference to the one before.
type Frame struct {
	Image *image.NRGBA
	Shown time.Duration // 0 when it does not move
}

// Image is the first frame: what clients show that do not play animations.
func (p *Picture) Image() *image.NRGBA { return p.Frames[0].Image }

// Read reads a picture for work on its pixels. Limits are held against the header before anything is decoded. An
// error wraps ErrUnreadable and says what is wrong.
func Read(data []byte) (*Picture, error) {
	h, err := readHeader(data)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrUnreadable, err)
	}
	p := &Picture{Facts: h.Facts}
	if err := p.decode(data, h); err != nil {
		return nil, fmt.Errorf("%w: a %s file that is broken: %w", ErrUnreadable, strings.ToUpper(h.Format), err)
	}
	p.convert(h)
	for i := range p.Frames {
		p.Frames[i].Image = turned(p.Frames[i].Image, h.Turned)
	}
	if h.Turned > 1 {
		p.note("turned upright: its orientation tag is %d", h.Turned)
	}
	if h.Depth > 8 {
		p.note("%d bits a channel became 8", h.Depth)
	}
	if h.Interlaced {
		p.note("written anew without interlacing")
	}
	if len(h.Holds) > 0 {
		p.note("left out what it holds besides the picture: %s", strings.Join(h.Holds, ", "))
	}
	p.Transparent = p.Transparent && seesThrough(p)
	return p, nil
}

// note remembers something that was done on reading.
func (p *Picture) note(format string, args ...any) {
	p.Notes = append(p.Notes, fmt.Sprintf(format, args...))
}

// decode reads the pixels.
func (p *Picture) decode(data []byte, h *header) error {
	switch h.Format {
	case SVG:
		img, err := drawSVG(data, h.Width, h.Height)
		p.drawing, p.Frames = data, []Frame{{Image: img}}
		return err
	case WebP:
		if h.Facts.Frames > 1 {
			return fmt.Errorf("it is an animation of %d frames; save it as GIF", h.Facts.Frames)
		}
	}
	if err := decodable(data, h); err != nil {
		return err
	}
	if h.Format == GIF {
		return p.decodeGIF(data)
	}
	img, _, err := image.Decode(bytes.NewReader(data))
	if err != nil {
		return err
	}
	p.Frames = []Frame{{Image: toNRGBA(img)}}
	if h.Facts.Frames > 1 {
		p.note("only the first of %d frames is read", h.Facts.Frames)
		p.Facts.Frames = 1
	}
	return nil
}

// decodeGIF draws every frame whole on the picture's canvas (GIF89a, 23: disposal).
func (p *Picture) decodeGIF(data []byte) error {
	g, err := gif.DecodeAll(bytes.NewReader(data))
	if err != nil {
		return err
	}
	p.Loops = g.LoopCount
	canvas := image.NewNRGBA(image.Rect(0, 0, g.Config.Width, g.Config.Height))
	var kept *image.NRGBA
	for i, frame := range g.Image {
		if g.Disposal[i] == gif.DisposalPrevious {
			kept = cloned(canvas)
		}
		draw.Draw(canvas, frame.Bounds(), frame, frame.Bounds().Min, draw.Over)
		p.Frames = append(p.Frames, Frame{Image: cloned(canvas), Shown: time.Duration(g.Delay[i]) * 10 * time.Millisecond})
		switch g.Disposal[i] {
		case gif.DisposalBackground:
			draw.Draw(canvas, frame.Bounds(), image.Transparent, image.Point{}, draw.Src)
		case gif.DisposalPrevious:
			canvas = kept
		}
	}
	p.Facts.Frames = len(p.Frames)
	if len(p.Frames) == 0 {
		return fmt.Errorf("it has no frame")
	}
	return nil
}

// convert takes the colours to sRGB.
func (p *Picture) convert(h *header) {
	switch {
	case h.icc == nil && h.Colours == "cmyk":
		p.note("printing colours (CMYK) converted to sRGB without a profile: they may look different")
	case h.icc == nil:
	default:
		profile, err := parseProfile(h.icc)
		switch {
		case err != nil:
			p.note("the colour profile %q cannot be applied (%s); the colours may look different", h.Profile, err)
		case !profile.plain():
			for _, f := range p.Frames {
				profile.toSRGB(f.Image)
			}
			p.note("colours converted from the profile %q to sRGB", h.Profile)
		}
	}
}

// cloned is a copy.
func cloned(img *image.NRGBA) *image.NRGBA {
	out := *img
	out.Pix = append([]uint8(nil), img.Pix...)
	return &out
}

// toNRGBA takes any picture to 8 bits of red, green, blue and opacity, from the origin.
func toNRGBA(img image.Image) *image.NRGBA {
	b := img.Bounds()
	if same, ok := img.(*image.NRGBA); ok && b.Min == (image.Point{}) && same.Stride == 4*b.Dx() && len(same.Pix) == 4*b.Dx()*b.Dy() {
		return same
	}
	out := image.NewNRGBA(image.Rect(0, 0, b.Dx(), b.Dy()))
	switch img := img.(type) {
	case *image.YCbCr:
		across := 0 // how many times a chroma value is halved across
		if b.Dx() > 1 && img.COffset(b.Min.X, b.Min.Y) == img.COffset(b.Min.X+1, b.Min.Y) {
			across = 1
		}
		simple := b.Min.X == 0 && img.SubsampleRatio != image.YCbCrSubsampleRatio410 && img.SubsampleRatio != image.YCbCrSubsampleRatio411
		for y := range b.Dy() {
			row, luma := out.Pix[y*out.Stride:], img.Y[img.YOffset(b.Min.X, b.Min.Y+y):]
			chroma := img.COffset(b.Min.X, b.Min.Y+y)
			for x := range b.Dx() {
				c := chroma + x>>across
				if !simple {
					c = img.COffset(b.Min.X+x, b.Min.Y+y)
				}
				p := row[4*x : 4*x+4]
				p[0], p[1], p[2] = color.YCbCrToRGB(luma[x], img.Cb[c], img.Cr[c])
				p[3] = 255
			}
		}
	case *image.Paletted:
		palette := make([]color.NRGBA, 256)
		for i, c := range img.Palette {
			palette[i] = color.NRGBAModel.Convert(c).(color.NRGBA)
		}
		for y := range b.Dy() {
			for x := range b.Dx() {
				out.SetNRGBA(x, y, palette[img.Pix[y*img.Stride+x]])
			}
		}
	case *image.Gray:
		for y := range b.Dy() {
			for x := range b.Dx() {
				v := img.Pix[y*img.Stride+x]
				out.SetNRGBA(x, y, color.NRGBA{v, v, v, 255})
			}
		}
	default:
		for y := range b.Dy() {
			for x := range b.Dx() {
				out.SetNRGBA(x, y, color.NRGBAModel.Convert(img.At(b.Min.X+x, b.Min.Y+y)).(color.NRGBA))
			}
		}
	}
	return out
}

// turned applies an orientation tag (EXIF 2.32, 4.6.4).
func turned(img *image.NRGBA, orientation int) *image.NRGBA {
	if orientation < 2 || orientation > 8 {
		return img
	}
	w, h := img.Rect.Dx(), img.Rect.Dy()
	width, height := w, h
	if orientation >= 5 {
		width, height = h, w
	}
	out := image.NewNRGBA(image.Rect(0, 0, width, height))
	for y := range height {
		for x := range width {
			fx, fy := x, y
			switch orientation {
			case 2:
				fx = w - 1 - x
			case 3:
				fx, fy = w-1-x, h-1-y
			case 4:
				fy = h - 1 - y
			case 5:
				fx, fy = y, x
			case 6:
				fx, fy = y, h-1-x
			case 7:
				fx, fy = w-1-y, h-1-x
			case 8:
				fx, fy = w-1-y, x
			}
			copy(out.Pix[out.PixOffset(x, y):][:4], img.Pix[img.PixOffset(fx, fy):])
		}
	}
	return out
}

// seesThrough reports whether a pixel of any frame is not opaque.
func seesThrough(p *Picture) bool {
	for _, f := range p.Frames {
		if !f.Image.Opaque() {
			return true
		}
	}
	return false
}
