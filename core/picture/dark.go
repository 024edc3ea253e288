package picture

import (
	"fmt"
	"image"
	"image/color"
	"math"
	"slices"

	"missivum/core/problem"
)

// Backgrounds on which a signature is looked at: the page, that of partial dark modes, and that of full inversion.
var darkBackgrounds = []struct {
	name   string
	colour color.NRGBA
}{
	{"light", color.NRGBA{255, 255, 255, 255}},
	{"dark", color.NRGBA{31, 31, 31, 255}},
	{"inverted", color.NRGBA{0, 0, 0, 255}},
}

// Sight is how much of a picture can be reported from a background.
type Sight struct {
	Background string  `json:"background"` // light, dark or inverted
	Colour     string  `json:"colour"`
	Seen       float64 `json:"seen"` // share of the picture's edges that can be seen, 0 to 1
	// Vanishes is set when too few are seen.
	Vanishes bool `json:"vanishes"`
}

// enoughSeen is the share of edges below which a picture counts as vanishing.
const enoughSeen = 0.5

// edgeStep is how many steps of lightness (CIE L*, 0 to 100) make an edge that is seen.
const edgeStep = 12

// Sights measures on which backgrounds a picture vanishes: how many edges can be seen there, those inside and those
// against the background, as a share of those on white; or of those on the background that shows most, where white shows
// hardly any. A picture without see-through parts is the same everywhere.
func Sights(img *image.NRGBA) []Sight {
	counts := make([]int, len(darkBackgrounds))
	for i, g := range darkBackgrounds {
		counts[i] = edges(img, g.colour)
	}
	all := counts[0]
	if most := slices.Max(counts); all < most/4 { // made for dark background
		all = most
	}
	var list []Sight
	for i, g := range darkBackgrounds {
		s := Sight{Background: g.name, Colour: hexOf(g.colour), Seen: 1}
		if all > 0 {
			s.Seen = min(float64(counts[i])/float64(all), 1)
		}
		s.Vanishes = s.Seen < enoughSeen
		list = append(list, s)
	}
	return list
}

// Vanishes lists the backgrounds on which too little is seen.
func Vanishes(sights []Sight) []string {
	var names []string
	for _, s := range sights {
		if s.Vanishes {
			names = append(names, s.Background)
		}
	}
	return names
}

// edges counts the pixels whose lightness over a background differs from that of the pixel to the right or below.
func edges(img *image.NRGBA, background color.NRGBA) int {
	w, h := img.Rect.Dx(), img.Rect.Dy()
	lightness := make([]float64, (w+2)*(h+2)) // with a border of background
	for i := range lightness {
		lightness[i] = lightnessOf(background)
	}
	for y := range h {
		for x := range w {
			i := img.PixOffset(x, y)
			lightness[(y+1)*(w+2)+x+1] = lightnessOf(blended(color.NRGBA{img.Pix[i], img.Pix[i+1], img.Pix[i+2], img.Pix[i+3]}, background, 1))
		}
	}
	found := 0
	for y := range h + 1 {
		for x := range w + 1 {
			i := y*(w+2) + x
			if math.Abs(lightness[i]-lightness[i+1]) >= edgeStep || math.Abs(lightness[i]-lightness[i+w+2]) >= edgeStep {
				found++
			}
		}
	}
	return found
}

// lightnessOf is L* of an opaque colour (CIE 15).
func lightnessOf(c color.NRGBA) float64 {
	y := 0.2126*float64(toLight[c.R]) + 0.7152*float64(toLight[c.G]) + 0.0722*float64(toLight[c.B])
	if y <= 216.0/24389 {
		return y * 24389 / 27
	}
	return 116*math.Cbrt(y) - 16
}

// The ways to make a picture safe on a dark background.
const (
	Outline = "outline" // a thin line around what is seen
	plate   = "plate"   // a background of its own, with round corners
)

// DarkSafe says how a picture is made safe on a dark background.
type DarkSafe struct {
	Way    string  `json:"way"`
	Colour string  `json:"colour,omitempty"` // #rrggbb; empty for white
	Width  float64 `json:"width,omitempty"`  // pixels, in a recipe px: of the line, or of the plate around the picture; 0 for 2 and 8 pixels
}

// check says what is wrong with it.
func (d DarkSafe) check() error {
	if d.Way != Outline && d.Way != plate {
		return fmt.Errorf("%q is not known; it is outline or plate", d.Way)
	}
	if d.Width < 0 || d.Width > 200 {
		return fmt.Errorf("the width is from 0 to 200 pixels")
	}
	if _, err := parseColour(d.Colour); d.Colour != "" && err != nil {
		return err
	}
	return nil
}

// pixels is the width of the line or the plate around, in pixels of a picture with so many for each px.
func (d DarkSafe) pixels(multiple int) float64 {
	switch {
	case d.Width > 0:
		return d.Width * float64(multiple)
	case d.Way == plate:
		return 8
	}
	return 2
}

// MakeDarkSafe fixes a picture that vanishes on a dark background. The outline needs room: the picture grows by it on
// every side, and so does it by a plate.
func MakeDarkSafe(img *image.NRGBA, d DarkSafe) (_ *image.NRGBA, err error) {
	defer func() { err = problem.As(problem.Invalid, err) }()
	if err := d.check(); err != nil {
		return nil, err
	}
	return d.fixed(img, 1), nil
}

// fixed is MakeDarkSafe for a picture with so many pixels for each px.
func (d DarkSafe) fixed(img *image.NRGBA, multiple int) *image.NRGBA {
	c := color.NRGBA{255, 255, 255, 255}
	if d.Colour != "" {
		c, _ = parseColour(d.Colour) // was checked
	}
	width := d.pixels(multiple)
	img = grown(img, int(math.Ceil(width)))
	if d.Way == plate {
		return Recipe{Shape: Rounded, Radius: width}.shaped(over(img, c), 1)
	}
	return outlined(img, c, width)
}

// grown puts a see-through margin around a picture.
func grown(img *image.NRGBA, by int) *image.NRGBA {
	w, h := img.Rect.Dx(), img.Rect.Dy()
	out := image.NewNRGBA(image.Rect(0, 0, w+2*by, h+2*by))
	for y := range h {
		copy(out.Pix[out.PixOffset(by, y+by):], img.Pix[y*img.Stride:][:4*w])
	}
	return out
}

// outlined draws a line behind everything that is seen.
func outlined(img *image.NRGBA, line color.NRGBA, width float64) *image.NRGBA {
	w, h := img.Rect.Dx(), img.Rect.Dy()
	reach := int(math.Ceil(width))
	out := cloned(img)
	for y := range h {
		for x := range w {
			opacity := 0.0 // the most that a pixel within reach gives
			for dy := -reach; dy <= reach; dy++ {
				for dx := -reach; dx <= reach; dx++ {
					if px, py := x+dx, y+dy; px >= 0 && py >= 0 && px < w && py < h {
						a := float64(img.Pix[img.PixOffset(px, py)+3]) / 255
						opacity = max(opacity, a*coverage(width-math.Hypot(float64(dx), float64(dy))))
					}
				}
			}
			under := line
			under.A = uint8(255*opacity + 0.5)
			i := img.PixOffset(x, y)
			c := blended(color.NRGBA{img.Pix[i], img.Pix[i+1], img.Pix[i+2], img.Pix[i+3]}, under, 1)
			out.Pix[i], out.Pix[i+1], out.Pix[i+2], out.Pix[i+3] = c.R, c.G, c.B, c.A
		}
	}
	return out
}

// over draws a picture over a background, as it is seen there.
func over(img *image.NRGBA, background color.NRGBA) *image.NRGBA {
	out := image.NewNRGBA(image.Rect(0, 0, img.Rect.Dx(), img.Rect.Dy()))
	for i := 0; i+3 < len(img.Pix); i += 4 {
		c := blended(color.NRGBA{img.Pix[i], img.Pix[i+1], img.Pix[i+2], img.Pix[i+3]}, background, 1)
		out.Pix[i], out.Pix[i+1], out.Pix[i+2], out.Pix[i+3] = c.R, c.G, c.B, 255
	}
	return out
}

// Write writes pixels as light as asked for, with a resolution tag in pixels per inch; 0 for none.
func Write(img *image.NRGBA, w Weight, resolution int) (_ *Rendition, err error) {
	defer func() { err = problem.As(problem.Refused, err) }()
	p := &Picture{Facts: Facts{Width: img.Rect.Dx(), Height: img.Rect.Dy(), Transparent: !img.Opaque(), Frames: 1},
		Frames: []Frame{{Image: img}}}
	return p.written(w, resolution)
}
