package picture

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"image"
	"image/color"
	"image/gif"
	"image/jpeg"
	"image/png"
	"math"
	"slices"
	"sort"
	"time"

	"missivum/core/problem"
)

// Weight says how light a file is to be made.
type Weight struct {
	Format    string  `json:"format,omitempty"`    // png, jpeg or gif; empty for the lighter of PNG and JPEG
	Threshold float64 `json:"threshold,omitempty"` // largest difference by Measure; 0 for what cannot be seen
	Limit     int     `json:"limit,omitempty"`     // bytes that it must not exceed; 0 for none
}

// check refuses what cannot be asked for.
func (w Weight) check() error {
	if w.Format != "" && !slices.Contains(Mailable, w.Format) {
		return fmt.Errorf("%q is not written; png, jpeg and gif are", w.Format)
	}
	if w.Threshold < 0 || w.Threshold > 1 || w.Limit < 0 {
		return fmt.Errorf("the threshold is from 0 to 1 and the limit is not below 0")
	}
	return nil
}

// Trial is one way in which the file was written to see what comes of it.
type Trial struct {
	Way        string  `json:"way"` // such as "jpeg, quality 82"
	Bytes      int     `json:"bytes"`
	Difference float64 `json:"difference"` // by Measure
	Chosen     bool    `json:"chosen"`
}

// Rendition is a picture made from another.
type Rendition struct {
	Data       []byte   `json:"-"`
	Facts      Facts    `json:"facts"`
	Difference float64  `json:"difference"` // by Measure, from the exact pixels before they were written
	Trials     []Trial  `json:"trials"`
	Notes      []string `json:"notes"`

	Exact *image.NRGBA `json:"-"` // the pixels before they were written
	Shown *image.NRGBA `json:"-"` // the pixels that the file holds
}

// Compress makes a file lighter without changing its size or its look: fewer colours, the other format, the lowest
// quality whose difference stays below the threshold. What comes out is never larger than data, unless data must
// be written anew because it holds more than the picture or is in a format that clients do not draw.
func Compress(data []byte, w Weight) (_ *Rendition, err error) {
	defer func() { err = problem.As(problem.Refused, err) }()
	p, err := Read(data)
	if err != nil {
		return nil, err
	}
	r, err := p.written(w, p.Resolution)
	if err != nil {
		return nil, err
	}
	clean := len(p.Holds) == 0 && p.Turned <= 1 && p.Profile == "" && p.Colours != "cmyk" && slices.Contains(Mailable, p.Format)
	if clean && len(r.Data) >= len(data) && (w.Format == "" || w.Format == p.Format) {
		r.Data, r.Facts, r.Difference, r.Shown = data, p.Facts, 0, p.Image()
		r.Notes = append(r.Notes, fmt.Sprintf("the file stays as it is: %d bytes, and nothing tried is lighter", len(data)))
		for i := range r.Trials {
			r.Trials[i].Chosen = false
		}
		if w.Limit > 0 && len(data) > w.Limit {
			r.Notes = append(r.Notes, overLimit(len(data), w.Limit))
		}
	}
	return r, nil
}

// overLimit says by how much a file is over its limit.
func overLimit(n, limit int) string {
	return fmt.Sprintf("%d bytes are more than the %d asked for; a smaller size or another format would be needed", n, limit)
}

// candidate is a file that was written.
type candidate struct {
	way        string
	format     string
	data       []byte
	shown      *image.NRGBA
	difference float64
}

// written writes the picture as light as asked for.
func (p *Picture) written(w Weight, resolution int) (*Rendition, error) {
	if err := w.check(); err != nil {
		return nil, err
	}
	colours := coloursOf([]Frame{{Image: p.Image()}}, graphic)
	bands := w.Threshold
	if w.Threshold == 0 {
		w.Threshold, bands = unseenInPhoto, unseenInBands
		if drawn(len(colours), p.Image().Rect) {
			w.Threshold, bands = unseenInDrawing, unseenInDrawing
		}
	}
	s := &search{bands: bands, colours: len(colours), picture: p, exact: p.Image(), reference: newReference(p.Image()),
		weight: w, resolution: resolution}
	if len(p.Frames) > 1 && (w.Format == "" || w.Format == GIF) {
		s.animation()
	} else {
		s.still()
	}
	if s.err != nil {
		return nil, s.err
	}
	best := s.best()
	facts, err := Probe(best.data)
	if err != nil {
		return nil, fmt.Errorf("what was written cannot be read back: %w", err)
	}
	r := &Rendition{Data: best.data, Facts: facts, Difference: best.difference, Notes: slices.Clone(p.Notes), Exact: s.exact,
		Shown: best.shown, Trials: s.trials(best)}
	if len(p.Frames) > 1 && facts.Frames == 1 {
		r.Notes = append(r.Notes, fmt.Sprintf("only the first of %d frames is kept: %s does not move", len(p.Frames), facts.Format))
	}
	if w.Limit > 0 && len(best.data) > w.Limit {
		r.Notes = append(r.Notes, overLimit(len(best.data), w.Limit))
	}
	if !s.unseen(best) {
		limit := w.Threshold
		if best.format != JPEG {
			limit = bands
		}
		r.Notes = append(r.Notes, fmt.Sprintf("the difference of %.3f can be seen: below %.3f is not", best.difference, limit))
	}
	return r, nil
}

// search tries ways to write a picture.
type search struct {
	picture    *Picture
	colours    int // different ones; 0 for very many
	exact      *image.NRGBA
	reference  *reference
	weight     Weight
	bands      float64 // the threshold for fewer colours
	resolution int
	tried      []candidate
	err        error
}

// allows reports whether a format may be tried.
func (s *search) allows(format string) bool {
	return s.weight.Format == "" || s.weight.Format == format
}

// best is the lightest below the threshold and within the limit; failing that, the closest within the limit, and
// failing that the lightest.
func (s *search) best() candidate {
	fits := func(c candidate) bool { return s.weight.Limit == 0 || len(c.data) <= s.weight.Limit }
	rank := func(c candidate) int {
		switch {
		case s.unseen(c) && fits(c):
			return 0
		case fits(c):
			return 1
		}
		return 2
	}
	return slices.MinFunc(s.tried, func(a, b candidate) int {
		if c := cmp.Compare(rank(a), rank(b)); c != 0 {
			return c
		}
		if rank(a) == 1 {
			return cmp.Compare(a.difference, b.difference)
		}
		return cmp.Or(cmp.Compare(len(a.data), len(b.data)), cmp.Compare(a.difference, b.difference))
	})
}

// unseen reports whether a candidate's difference is not seen.
func (s *search) unseen(c candidate) bool {
	if c.format == JPEG {
		return c.difference <= s.weight.Threshold
	}
	return c.difference <= s.bands
}

// trials are what was tried, with what was chosen.
func (s *search) trials(best candidate) []Trial {
	var list []Trial
	for _, c := range s.tried {
		list = append(list, Trial{c.way, len(c.data), c.difference, c.way == best.way})
	}
	slices.SortStableFunc(list, func(a, b Trial) int { return cmp.Compare(a.Bytes, b.Bytes) })
	return list
}

// add measures a candidate and keeps it.
func (s *search) add(c candidate, err error) candidate {
	if err != nil {
		s.err = fmt.Errorf("writing the picture as %s: %w", c.way, err)
		return c
	}
	s.tried = append(s.tried, c)
	return c
}

// graphic is up to how many colours a picture is taken for a drawing, where fewer colours may go unseen.
const graphic = 24_000

// drawn recognises a drawing: its colours come again and again, unlike those of a photograph.
func drawn(colours int, size image.Rectangle) bool {
	return colours > 0 && (colours <= 1024 || 24*colours < size.Dx()*size.Dy())
}

// still tries the formats of a picture that does not move.
func (s *search) still() {
	opaque := s.exact.Opaque()
	if s.allows(JPEG) && (opaque || s.weight.Format == JPEG) {
		s.jpegs()
	}
	for _, format := range []string{PNG, GIF} {
		if !s.allows(format) || format == GIF && s.weight.Format != GIF {
			continue
		}
		if drawn(s.colours, s.exact.Rect) || !opaque || format == GIF || s.weight.Format == format {
			s.palettes(format)
		}
		if format == PNG && (s.colours == 0 || s.colours > 256) {
			s.truePNG()
		}
	}
}

// truePNG writes every colour as it is, where nothing lighter is close enough.
func (s *search) truePNG() {
	if len(s.tried) > 0 && s.unseen(s.best()) {
		return
	}
	data, err := s.encodePNG(s.exact)
	s.add(candidate{way: "png, all colours", format: PNG, data: data, shown: s.exact}, err)
}

// paletteSizes are the numbers of colours that are tried.
var paletteSizes = []int{4, 8, 16, 24, 32, 48, 64, 96, 128, 192, 256}

// palettes looks for the fewest colours whose difference is not seen.
func (s *search) palettes(format string) {
	frames := []Frame{{Image: s.exact}}
	if s.colours > 0 && s.colours <= 256 {
		s.addPaletted(format, exactPalette(frames), false, fmt.Sprintf("%s, its %d colours", format, s.colours))
		if s.err != nil {
			return
		}
	}
	shades := histogram(frames)
	try := func(i int, dithered bool) bool {
		if s.err != nil || s.colours > 0 && paletteSizes[i] >= s.colours {
			return true
		}
		p := paletteOf(shades, paletteSizes[i])
		way := fmt.Sprintf("%s, %d colours", format, len(p))
		if dithered {
			way += ", dithered"
		}
		return s.unseen(s.addPaletted(format, p, dithered, way))
	}
	enough := sort.Search(len(paletteSizes), func(i int) bool { return try(i, false) })
	for i := enough - 1; i >= max(enough-2, 0) && try(i, true); i-- { // dithering may do with fewer
	}
	if s.weight.Limit > 0 { // the closest within the limit is wanted
		for i := enough - 1; i >= 0; i-- {
			try(i, false)
		}
	}
}

// exactPalette is the colours of a picture that has at most 256.
func exactPalette(frames []Frame) color.Palette {
	var centres [][4]float32
	for c := range coloursOf(frames, 256) {
		centres = append(centres, shadeOf(c))
	}
	return paletteFrom(centres)
}

// addPaletted tries a palette in a format.
func (s *search) addPaletted(format string, p color.Palette, dithered bool, way string) candidate {
	if format == GIF {
		p = oneSeeThrough(p)
	}
	img := paletted(s.exact, p, dithered)
	var b bytes.Buffer
	var err error
	if format == GIF {
		err = gif.Encode(&b, img, &gif.Options{NumColors: len(p)})
	} else {
		var data []byte
		data, err = s.encodePNG(img)
		b.Write(data)
	}
	shown := toNRGBA(img)
	return s.add(candidate{way: way, format: format, data: b.Bytes(), shown: shown, difference: s.reference.difference(shown)}, err)
}

// oneSeeThrough makes every colour of a palette opaque or wholly see-through, as GIF has it.
func oneSeeThrough(p color.Palette) color.Palette {
	var out color.Palette
	for _, c := range p {
		n := color.NRGBAModel.Convert(c).(color.NRGBA)
		if n.A < 128 {
			n = color.NRGBA{}
		} else {
			n.A = 255
		}
		if !slices.Contains(out, color.Color(n)) {
			out = append(out, n)
		}
	}
	return out
}

// encodePNG writes PNG with the strongest compression.
func (s *search) encodePNG(img image.Image) ([]byte, error) {
	var b bytes.Buffer
	if err := (&png.Encoder{CompressionLevel: png.BestCompression}).Encode(&b, img); err != nil {
		return nil, err
	}
	return withResolution(b.Bytes(), s.resolution), nil
}

// withResolution puts the resolution tag behind a PNG's header (PNG, 11.3.4.3).
func withResolution(data []byte, dpi int) []byte {
	if dpi == 0 {
		return data
	}
	perMetre := uint32(math.Round(float64(dpi) / 0.0254))
	chunk := binary.BigEndian.AppendUint32([]byte("pHYs"), perMetre)
	chunk = append(binary.BigEndian.AppendUint32(chunk, perMetre), 1)
	sum := crc32.ChecksumIEEE(chunk)
	chunk = slices.Concat([]byte{0, 0, 0, 9}, chunk, binary.BigEndian.AppendUint32(nil, sum))
	return slices.Insert(slices.Clone(data), 33, chunk...)
}

// jpegs looks for the lowest quality whose difference is not seen, with chroma at half the pixels, and with all of
// it where that is not enough.
func (s *search) jpegs() {
	if half := s.quality(false); s.err == nil && !s.unseen(half) {
		s.quality(true)
	}
}

// quality halves the range of qualities until the lowest good one is found.
func (s *search) quality(fullColour bool) candidate {
	low, high := 24, 97
	if s.weight.Limit > 0 { // however it looks
		low = 4
	}
	best := candidate{difference: 1}
	for low < high && s.err == nil {
		middle := (low + high) / 2
		c := s.jpeg(fullColour, middle)
		good := s.unseen(c)
		if s.weight.Limit > 0 && len(c.data) > s.weight.Limit {
			good = true // go on to lower ones
		}
		if good {
			best, high = c, middle
		} else {
			low = middle + 1
		}
	}
	if best.data == nil && s.err == nil {
		best = s.jpeg(fullColour, high)
	}
	return best
}

// jpeg tries a quality of JPEG.
func (s *search) jpeg(fullColour bool, quality int) candidate {
	way := fmt.Sprintf("jpeg, quality %d", quality)
	if fullColour {
		way += ", all chroma"
	}
	c := candidate{way: way, format: JPEG, data: encodeJPEG(s.exact, jpegOptions{quality, fullColour, s.resolution})}
	img, err := jpeg.Decode(bytes.NewReader(c.data))
	if err == nil {
		c.shown = toNRGBA(img)
		c.difference = s.reference.difference(c.shown)
	}
	return s.add(c, err)
}

// animation writes all frames with one palette; of each frame only the part that changed.
func (s *search) animation() {
	frames := s.picture.Frames
	shades := histogram(frames)
	for _, n := range []int{16, 32, 64, 128, 255} {
		p := paletteOf(shades, n)
		if colours := coloursOf(frames, n); colours != nil {
			p = exactPalette(frames)
		}
		p = oneSeeThrough(p)
		g := gif.GIF{LoopCount: s.picture.Loops}
		var before *image.Paletted
		var shown *image.NRGBA
		for i, f := range frames {
			img := paletted(f.Image, p, false)
			if i == 0 {
				shown = toNRGBA(img)
			}
			changed := changedPart(before, img)
			g.Image = append(g.Image, img.SubImage(changed).(*image.Paletted))
			g.Delay = append(g.Delay, int(f.Shown/(10*time.Millisecond)))
			disposal := byte(gif.DisposalNone)
			before = img
			if s.picture.Transparent {
				disposal, before = gif.DisposalBackground, nil
			}
			g.Disposal = append(g.Disposal, disposal)
		}
		var b bytes.Buffer
		err := gif.EncodeAll(&b, &g)
		c := s.add(candidate{way: fmt.Sprintf("gif, %d frames, %d colours", len(frames), len(p)), format: GIF,
			data: b.Bytes(), shown: shown, difference: s.reference.difference(shown)}, err)
		if s.err != nil || s.unseen(c) {
			return
		}
	}
}

// changedPart is the smallest part in which two frames differ, at least a pixel; all of it without one before.
func changedPart(before, now *image.Paletted) image.Rectangle {
	if before == nil {
		return now.Rect
	}
	part := image.Rectangle{}
	for y := range now.Rect.Dy() {
		for x := range now.Rect.Dx() {
			if i := y*now.Stride + x; now.Pix[i] != before.Pix[i] {
				part = part.Union(image.Rect(x, y, x+1, y+1))
			}
		}
	}
	if part.Empty() {
		return image.Rect(0, 0, 1, 1)
	}
	return part
}
