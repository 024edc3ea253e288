package picture

import (
	"errors"
	"fmt"
	"image"
	"math"

	"missivum/core/problem"
)

// Limits of a rendition.
const (
	MaxMade     = 2_000_000 // pixels of a rendition, width times height, of all frames together
	MaxDisplay  = 2000      // px, width or height at which it is shown
	maxMultiple = 3         // pixels for each px
)

// Point is a place in a picture, in shares of its width and height from the upper left, 0 to 1.
type Point struct {
	X float64 `json:"x"`
	Y float64 `json:"y"`
}

// Area is a part of a picture, in shares of its width and height, 0 to 1.
type Area struct {
	X      float64 `json:"x"`
	Y      float64 `json:"y"`
	Width  float64 `json:"width"`
	Height float64 `json:"height"`
}

// Recipe says how a rendition is made. The same picture and recipe always give the same bytes.
type Recipe struct {
	Width      int     `json:"width,omitempty"`    // px at which it is shown; 0: follows from the height
	Height     int     `json:"height,omitempty"`   // px; 0: follows from the width
	Multiple   int     `json:"multiple,omitempty"` // pixels for each px, 1 to 3; 0 for 2
	Crop       *Area   `json:"crop,omitempty"`     // the part that is shown; nil for as much as the shape allows
	Focus      *Point  `json:"focus,omitempty"`    // what must stay in view when something is cut off; nil for the middle
	Detect     bool    `json:"detect,omitempty"`   // look for the focus
	Zoom       float64 `json:"zoom,omitempty"`     // how much closer than needed, from 1; 0 for 1
	Pad        bool    `json:"pad,omitempty"`      // keep all of the picture and fill up with background
	Shape      Shape   `json:"shape,omitempty"`
	Radius     float64 `json:"radius,omitempty"`     // px, of rounded corners
	Ring       float64 `json:"ring,omitempty"`       // px, of a line around the shape
	Colour     string  `json:"colour,omitempty"`     // of the ring, #rrggbb
	Background string  `json:"background,omitempty"` // what shows where the picture does not, #rrggbb; empty for transparent
	// Dark makes the picture safe on a dark background, within its size; nil leaves it.
	Dark *DarkSafe `json:"dark,omitempty"`
	Weight
}

// multiple is the recipe's, or the usual one.
func (r Recipe) multiple() int {
	if r.Multiple == 0 {
		return 2
	}
	return r.Multiple
}

// Check says what is wrong with a recipe.
func (r Recipe) Check() (err error) {
	defer func() { err = problem.As(problem.Invalid, err) }()
	switch {
	case r.Width < 0 || r.Height < 0 || r.Width > MaxDisplay || r.Height > MaxDisplay:
		return fmt.Errorf("width and height are from 1 to %d px", MaxDisplay)
	case r.Width == 0 && r.Height == 0:
		return errors.New("a width or a height in px is needed: that at which the picture is shown")
	case r.Multiple < 0 || r.Multiple > maxMultiple:
		return fmt.Errorf("the multiple is from 1 to %d", maxMultiple)
	case r.Zoom != 0 && (r.Zoom < 1 || r.Zoom > 20):
		return errors.New("the zoom is from 1 to 20")
	case r.Focus != nil && !within(r.Focus.X, r.Focus.Y):
		return errors.New("the focus is from 0,0 (upper left) to 1,1 (lower right)")
	case r.Crop != nil && (!within(r.Crop.X, r.Crop.Y) || r.Crop.Width <= 0 || r.Crop.Height <= 0 ||
		!within(r.Crop.X+r.Crop.Width-1e-9, r.Crop.Y+r.Crop.Height-1e-9)):
		return errors.New("the crop must lie within the picture, in shares from 0 to 1")
	case r.Radius < 0 || r.Ring < 0 || r.Radius > MaxDisplay || r.Ring > MaxDisplay:
		return fmt.Errorf("radius and ring are from 0 to %d px", MaxDisplay)
	}
	for _, c := range []string{r.Colour, r.Background} {
		if _, err := parseColour(c); c != "" && err != nil {
			return err
		}
	}
	if err := r.Shape.check(); err != nil {
		return err
	}
	if r.Dark != nil {
		if err := r.Dark.check(); err != nil {
			return err
		}
	}
	return r.Weight.check()
}

// within reports whether all values are shares, 0 to 1.
func within(values ...float64) bool {
	for _, v := range values {
		if !(v >= 0 && v <= 1) {
			return false
		}
	}
	return true
}

// size gives the display size in px of a picture with the given proportion.
func (r Recipe) size(width, height float64) (int, int) {
	switch {
	case r.Height == 0:
		return r.Width, min(max(int(math.Round(float64(r.Width)*height/width)), 1), MaxDisplay)
	case r.Width == 0:
		return min(max(int(math.Round(float64(r.Height)*width/height)), 1), MaxDisplay), r.Height
	}
	return r.Width, r.Height
}

// Display is the size in px at which a rendition of the picture is shown.
func (r Recipe) Display(f Facts) (width, height int) {
	w, h := float64(f.Width), float64(f.Height)
	if r.Crop != nil {
		w, h = w*r.Crop.Width, h*r.Crop.Height
	}
	return r.size(w, h)
}

// Fit makes the rendition that a recipe asks for: exactly the display size times the multiple, resampled in
// light, as light as it can be. Its resolution tag is 96 times the multiple, so that an engine that goes by the
// tag draws it at the display size too.
func Fit(data []byte, r Recipe) (_ *Rendition, err error) {
	defer func() { err = problem.As(problem.Refused, err) }()
	if err := r.Check(); err != nil {
		return nil, err
	}
	p, err := Read(data)
	if err != nil {
		return nil, err
	}
	return p.Fit(r)
}

// Fit is Fit for a picture that was read already.
func (p *Picture) Fit(r Recipe) (_ *Rendition, err error) {
	defer func() { err = problem.As(problem.Refused, err) }()
	if err := r.Check(); err != nil {
		return nil, err
	}
	out := &Picture{Facts: p.Facts, Loops: p.Loops, Notes: append([]string(nil), p.Notes...)}
	if r.Detect && r.Focus == nil {
		focus := Detect(p.Image())
		r.Focus = &focus
		out.note("focus found at %.2f,%.2f: what differs most from the border", focus.X, focus.Y)
	}
	displayWidth, displayHeight := r.Display(p.Facts)
	width, height := displayWidth*r.multiple(), displayHeight*r.multiple()
	if r.Dark != nil { // what is put around it takes its room from the picture
		around := 2 * int(math.Ceil(r.Dark.pixels(r.multiple())))
		if width, height = width-around, height-around; width < 1 || height < 1 {
			return nil, fmt.Errorf("at %d x %d px there is no room for a line or a plate of %d pixels around the picture",
				displayWidth, displayHeight, around/2)
		}
	}
	if made := width * height * max(len(p.Frames), 1); made > MaxMade {
		return nil, problem.New(problem.TooLarge, "%d x %d pixels in %d frames would be made; at most %d million are. Show it smaller, or "+
			"with a smaller multiple.", width, height, max(len(p.Frames), 1), MaxMade/1_000_000)
	}
	for _, f := range p.Frames {
		img, err := p.frame(f.Image, r, width, height, out)
		if err != nil {
			return nil, err
		}
		if r.Dark != nil {
			img = r.Dark.fixed(img, r.multiple())
		}
		out.Frames = append(out.Frames, Frame{img, f.Shown})
	}
	out.Transparent = seesThrough(out)
	return out.written(r.Weight, 96*r.multiple())
}

// frame makes one frame of a rendition.
func (p *Picture) frame(img *image.NRGBA, r Recipe, width, height int, notes *Picture) (*image.NRGBA, error) {
	from := r.window(float64(p.Width), float64(p.Height), float64(width), float64(height))
	if p.drawing != nil { // a drawing is drawn as large as it is needed
		scale := min(max(float64(width)/from.width, 1), float64(maxSide)/float64(max(p.Width, p.Height)),
			math.Sqrt(maxArea/float64(p.Width*p.Height)))
		var err error
		if img, err = drawSVG(p.drawing, int(math.Ceil(float64(p.Width)*scale)), int(math.Ceil(float64(p.Height)*scale))); err != nil {
			return nil, err
		}
		sx, sy := float64(img.Rect.Dx())/float64(p.Width), float64(img.Rect.Dy())/float64(p.Height)
		from = window{from.x * sx, from.y * sy, from.width * sx, from.height * sy}
	} else if scale := float64(width) / from.width; scale > 1.005 && len(notes.Frames) == 0 {
		notes.note("enlarged %.1f times: the original has %.0f px across for the %d needed, and looks soft; a larger one would be sharp",
			scale, from.width, width)
	}
	l := lightOf(img)
	if r.Pad {
		l = l.over(width, height, from)
	} else {
		l = l.resampled(from, width, height)
	}
	return r.shaped(l.image(), float64(r.multiple())), nil
}

// window is the part of a picture that is drawn, in its pixels.
func (r Recipe) window(w, h, width, height float64) window {
	x, y := 0.0, 0.0
	if r.Crop != nil {
		x, y, w, h = r.Crop.X*w, r.Crop.Y*h, r.Crop.Width*w, r.Crop.Height*h
	}
	scale := min(w/width, h/height) // pixels of the original for one of the rendition
	if r.Pad {
		scale = max(w/width, h/height)
		return window{x + (w-width*scale)/2, y + (h-height*scale)/2, width * scale, height * scale}
	}
	if r.Zoom > 1 {
		scale /= r.Zoom
	}
	focus := Point{0.5, 0.5}
	if r.Focus != nil {
		focus = *r.Focus
	}
	cut := window{width: width * scale, height: height * scale}
	cut.x = x + min(max(focus.X*w-cut.width/2, 0), w-cut.width)
	cut.y = y + min(max(focus.Y*h-cut.height/2, 0), h-cut.height)
	return cut
}

// over draws all of a picture into the middle of a larger one that is see-through around it.
func (l *light) over(width, height int, from window) *light {
	scale := float64(width) / from.width
	w, h := min(max(int(math.Round(float64(l.width)*scale)), 1), width), min(max(int(math.Round(float64(l.height)*scale)), 1), height)
	small := l.resampled(window{0, 0, float64(l.width), float64(l.height)}, w, h)
	out := newLight(width, height, 4)
	dx, dy := (width-w)/2, (height-h)/2
	for y := range h {
		for x := range w {
			to := out.values[((y+dy)*width+x+dx)*4:][:4]
			to[3] = 1
			copy(to, small.values[(y*w+x)*small.channels:][:small.channels])
		}
	}
	return out
}
