package drawing

import (
	"bytes"
	"image"
	"image/color"
	"image/jpeg"
	"math"
	"math/rand/v2"
)

// Portrait draws a made-up person before a harbour, with the light, blur and grain of a photograph, so that photos
// can be worked on without anybody's own. The same seed gives the same picture.
func Portrait(seed uint64, width, height int) *image.NRGBA {
	r := rand.New(rand.NewPCG(seed, 0x6d69737369767561))
	p := newSitter(r)
	img := image.NewNRGBA(image.Rect(0, 0, width, height))
	scale := 1 / float64(min(width, height))
	state := seed*0x9e3779b97f4a7c15 + 1
	for y := range height {
		for x := range width {
			c := p.at((float64(x)-float64(width)/2)*scale, float64(y)*scale)
			state ^= state << 13
			state ^= state >> 7
			state ^= state << 17
			grain := (float64(state>>40&0xff) + float64(state>>48&0xff) - 255) / 255 * p.grain
			img.SetNRGBA(x, y, color.NRGBA{level(c[0] + grain), level(c[1] + grain), level(c[2] + grain), 255})
		}
	}
	return img
}

// PortraitJPEG is Portrait as a camera saves it.
func PortraitJPEG(seed uint64, width, height int) ([]byte, error) {
	var b bytes.Buffer
	err := jpeg.Encode(&b, Portrait(seed, width, height), &jpeg.Options{Quality: 92})
	return b.Bytes(), err
}

func level(v float64) uint8 { return uint8(min(max(v, 0), 1)*255 + 0.5) }

type tone [3]float64

func (a tone) mix(b tone, share float64) tone {
	share = min(max(share, 0), 1)
	for i := range a {
		a[i] += (b[i] - a[i]) * share
	}
	return a
}

func (a tone) times(v float64) tone { return tone{a[0] * v, a[1] * v, a[2] * v} }

// sitter is one made-up person and the light on them. Lengths are shares of the shorter side, across from the
// middle and down from the top.
type sitter struct {
	skin, hair, coat, shirt, far, near tone
	x, y, head, long                   float64 // the head's middle, half its width, how long it is
	fringe, grain, side                float64
	lamps                              [7][3]float64
}

func newSitter(r *rand.Rand) sitter {
	skins := []tone{{0.96, 0.80, 0.69}, {0.87, 0.67, 0.53}, {0.72, 0.51, 0.37}, {0.52, 0.35, 0.25}, {0.36, 0.24, 0.18}}
	hairs := []tone{{0.10, 0.08, 0.07}, {0.30, 0.19, 0.11}, {0.62, 0.45, 0.24}, {0.72, 0.71, 0.69}, {0.45, 0.17, 0.09}}
	coats := []tone{{0.04, 0.24, 0.29}, {0.10, 0.12, 0.18}, {0.78, 0.33, 0.24}, {0.42, 0.44, 0.46}, {0.93, 0.92, 0.88}}
	backgrounds := [][2]tone{{{0.72, 0.80, 0.85}, {0.30, 0.45, 0.50}}, {{0.85, 0.80, 0.70}, {0.50, 0.42, 0.36}},
		{{0.35, 0.42, 0.48}, {0.12, 0.17, 0.21}}, {{0.88, 0.89, 0.90}, {0.66, 0.69, 0.71}}}
	background := backgrounds[r.IntN(len(backgrounds))]
	s := sitter{
		skin: skins[r.IntN(len(skins))], hair: hairs[r.IntN(len(hairs))], coat: coats[r.IntN(len(coats))], shirt: tone{0.95, 0.95, 0.96},
		far: background[0], near: background[1], x: r.Float64()*0.3 - 0.15, y: 0.36 + r.Float64()*0.12, head: 0.13 +
			r.Float64()*0.04, long: 1.25 + r.Float64()*0.15,
		fringe: 0.15 + r.Float64()*0.4, grain: 0.015 + r.Float64()*0.03, side: r.Float64()*2 - 1,
	}
	for i := range s.lamps {
		s.lamps[i] = [3]float64{r.Float64()*1.4 - 0.7, r.Float64() * 0.8, 0.02 + r.Float64()*0.06}
	}
	return s
}

// soft is 1 inside an edge and 0 outside, with a short way between.
func soft(distance, width float64) float64 { return min(max(0.5-distance/width, 0), 1) }

func (s *sitter) at(x, y float64) tone {
	c := s.far.mix(s.near, 0.25+0.7*y+0.08*math.Sin(5*x+2*s.side))
	for _, l := range s.lamps {
		c = c.mix(s.far.times(1.12), 0.5*soft(math.Hypot(x-l[0], y-l[1])-l[2], 0.012))
	}
	if y > 0.78 && y < 0.80 { // a rail
		c = c.mix(s.near.times(0.5), 0.7)
	}
	dx, dy := (x-s.x)/s.head, (y-s.y)/(s.head*s.long)
	// shoulders
	reach := s.head * (2.1 + 0.5*math.Sqrt(max(y-s.y-1.3*s.head, 0)/s.head))
	shoulder := s.y + 1.75*s.head + 0.55*s.head*math.Pow(math.Abs(x-s.x)/(2.1*s.head), 2)
	if body := soft(max(shoulder-y, math.Abs(x-s.x)-reach), 0.006); body > 0 {
		weave := 0.04 * math.Sin(x*820) * math.Sin(y*780)
		cloth := s.coat.times(0.85 + 0.25*s.side*dx/2.2 + weave)
		if open := (y-shoulder)*0.55 - math.Abs(x-s.x) + 0.35*s.head; open > 0 {
			cloth = s.shirt.times(0.92 - 0.3*math.Abs(dx))
		}
		c = c.mix(cloth, body)
	}
	light := 0.82 + 0.28*s.side*dx - 0.10*dy
	if neck := soft(max(math.Abs(x-s.x)-0.48*s.head, max(s.y-y, y-s.y-2.05*s.head)), 0.006); neck > 0 {
		c = c.mix(s.skin.times(light*0.80), neck)
	}
	away := math.Hypot(dx, dy)
	if hair := soft((math.Hypot(dx, dy+0.12)-1.13)*s.head, 0.008); hair > 0 && dy < 0.5 {
		c = c.mix(s.hair.times(0.75+0.5*math.Abs(math.Sin(40*dx+6*dy))*0.4+0.2*light), hair)
	}
	if face := soft((away-1)*s.head, 0.006) * soft(-(dy+1-s.fringe)*s.head, 0.01); face > 0 {
		c = c.mix(s.face(dx, dy, light), face)
	}
	return c
}

// face is the skin with eyes, nose and mouth; places are in half widths of the head from its middle.
func (s *sitter) face(dx, dy, light float64) tone {
	c := s.skin.times(light * (1 - 0.16*dx*dx))
	c = c.mix(tone{0.85, 0.40, 0.35}, 0.16*soft(math.Hypot(math.Abs(dx)-0.5, dy-0.3)-0.15, 0.3))
	ex, ey := math.Abs(dx)-0.38, dy+0.05
	c = c.mix(s.hair.times(0.9), 0.8*soft(max(math.Abs(ex)-0.2, math.Abs(ey+0.2-0.15*ex*ex)-0.035), 0.04))
	c = c.mix(tone{0.95, 0.95, 0.94}, soft(math.Hypot(ex/1.7, ey)-0.085, 0.02))
	c = c.mix(tone{0.15, 0.12, 0.10}, soft(math.Hypot(ex, ey)-0.07, 0.02))
	c = c.mix(tone{1, 1, 1}, soft(math.Hypot(ex-0.02, ey+0.03)-0.02, 0.01))
	c = c.mix(s.skin.times(light*0.75), 0.6*soft(math.Abs(dx-0.08*s.side)-0.05, 0.1)*soft(math.Abs(dy-0.12)-0.2, 0.1))
	return c.mix(tone{0.66, 0.28, 0.27}, 0.85*soft(math.Hypot(dx/0.36, (dy-0.52+0.16*dx*dx)/0.07)-1, 0.3))
}
