package picture

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"image"
	"image/color"
	"image/gif"
	"image/jpeg"
	"image/png"
	"math"
	"os"
	"slices"
	"strings"
	"testing"

	"golang.org/x/image/bmp"
	"golang.org/x/image/tiff"
)

var (
	teal  = color.NRGBA{11, 60, 73, 255}
	coral = color.NRGBA{200, 85, 61, 255}
)

// halves is coral on the left and teal on the right, so that turning shows.
func halves(width, height int) *image.NRGBA {
	img := image.NewNRGBA(image.Rect(0, 0, width, height))
	for y := range height {
		for x := range width {
			c := teal
			if x < width/2 {
				c = coral
			}
			img.SetNRGBA(x, y, c)
		}
	}
	return img
}

func written(t testing.TB, format string, img image.Image) []byte {
	t.Helper()
	var b bytes.Buffer
	var err error
	switch format {
	case PNG:
		err = png.Encode(&b, img)
	case JPEG:
		err = jpeg.Encode(&b, img, &jpeg.Options{Quality: 95})
	case GIF:
		err = gif.Encode(&b, img, nil)
	case BMP:
		err = bmp.Encode(&b, img)
	case TIFF:
		err = tiff.Encode(&b, img, nil)
	}
	if err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// inserted puts a segment behind the start of a JPEG file.
func inserted(data []byte, marker byte, body []byte) []byte {
	segment := binary.BigEndian.AppendUint16([]byte{0xff, marker}, uint16(len(body)+2))
	return slices.Concat(data[:2], segment, body, data[2:])
}

// exifBlock is an EXIF block with an orientation, a camera and a place.
func exifBlock(orientation uint16) []byte {
	little := binary.LittleEndian
	b := []byte("Exif\x00\x00II*\x00\x08\x00\x00\x00")
	entry := func(tag, kind uint16, count, value uint32) {
		b = little.AppendUint16(b, tag)
		b = little.AppendUint16(b, kind)
		b = little.AppendUint32(b, count)
		b = little.AppendUint32(b, value)
	}
	b = little.AppendUint16(b, 3)
	entry(tagMake, 2, 4, 0x00616b4f)
	entry(tagOrientation, 3, 1, uint32(orientation))
	entry(tagPlace, 4, 1, 50)
	b = little.AppendUint32(b, 0)
	b = little.AppendUint16(b, 1)
	entry(1, 2, 2, 'N')
	return little.AppendUint32(b, 0)
}

// chunk puts a chunk behind the header of a PNG file.
func chunk(data []byte, kind string, body []byte) []byte {
	c := append([]byte(kind), body...)
	sum := crc32.ChecksumIEEE(c)
	c = append(binary.BigEndian.AppendUint32(nil, uint32(len(body))), c...)
	return slices.Concat(data[:33], binary.BigEndian.AppendUint32(c, sum), data[33:])
}

// claim makes a PNG header claim a size.
func claim(t testing.TB, width, height uint32) []byte {
	data := written(t, PNG, halves(1, 1))
	binary.BigEndian.PutUint32(data[16:], width)
	binary.BigEndian.PutUint32(data[20:], height)
	binary.BigEndian.PutUint32(data[29:], crc32.ChecksumIEEE(data[12:29]))
	return data
}

func file(t testing.TB, name string) []byte {
	t.Helper()
	data, err := os.ReadFile("testdata/" + name)
	if err != nil {
		t.Fatal(err)
	}
	return data
}

// moving is an animation whose second frame changes a corner only.
func moving(t testing.TB) []byte {
	t.Helper()
	p := color.Palette{teal, coral, color.NRGBA{}}
	first := image.NewPaletted(image.Rect(0, 0, 60, 40), p)
	second := image.NewPaletted(image.Rect(40, 20, 60, 40), p)
	for i := range second.Pix {
		second.Pix[i] = 1
	}
	var b bytes.Buffer
	err := gif.EncodeAll(&b, &gif.GIF{Image: []*image.Paletted{first, second}, Delay: []int{50, 70},
		Disposal: []byte{gif.DisposalNone, gif.DisposalNone}})
	if err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// wideProfile is a colour profile whose red, green and blue lie beyond those of sRGB, with a gamma of 2.2.
func wideProfile() []byte {
	big := binary.BigEndian
	xyz := func(x, y, z float64) []byte {
		b := append([]byte("XYZ "), 0, 0, 0, 0)
		for _, v := range []float64{x, y, z} {
			b = big.AppendUint32(b, uint32(int32(math.Round(v*65536))))
		}
		return b
	}
	curve := append([]byte("curv"), 0, 0, 0, 0, 0, 0, 0, 1, 0x02, 0x33, 0, 0)
	name := slices.Concat([]byte("desc"), []byte{0, 0, 0, 0, 0, 0, 0, 9}, []byte("Wide lab\x00"))
	tags := []struct {
		name string
		data []byte
	}{{"desc", name}, {"rXYZ", xyz(0.515, 0.241, -0.001)}, {"gXYZ", xyz(0.292, 0.692, 0.042)},
		{"bXYZ", xyz(0.157, 0.067, 0.784)}, {"rTRC", curve}, {"gTRC", curve}, {"bTRC", curve}}
	out := make([]byte, 128)
	copy(out[16:], "RGB XYZ ")
	out = big.AppendUint32(out, uint32(len(tags)))
	at := 132 + 12*len(tags)
	var body []byte
	for _, tag := range tags {
		out = append(out, tag.name...)
		out = big.AppendUint32(out, uint32(at+len(body)))
		out = big.AppendUint32(out, uint32(len(tag.data)))
		body = append(body, tag.data...)
	}
	return append(out, body...)
}

// framed repeats the one frame of a GIF file without optional blocks.
func framed(data []byte, times int) []byte {
	at := bytes.IndexByte(data[13+3*2:], 0x2c) + 13 + 3*2
	return slices.Concat(data[:at], bytes.Repeat(data[at:len(data)-1], times), data[len(data)-1:])
}

// TestFaultyPictures: each of the pictures that signatures fail on gives the right rendition, with what was done,
// or is refused with the reason.
func TestFaultyPictures(t *testing.T) {
	tagged := chunk(written(t, PNG, halves(120, 80)), "pHYs",
		append(binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(nil, 11811), 11811), 1))
	deep := image.NewNRGBA64(image.Rect(0, 0, 60, 40))
	for i := range deep.Pix {
		deep.Pix[i] = 0xff
	}
	seeThrough := image.NewPaletted(image.Rect(0, 0, 60, 40), color.Palette{color.NRGBA{}, coral})
	for i := range seeThrough.Pix {
		seeThrough.Pix[i] = uint8(i / 60 / 20)
	}
	photo := written(t, JPEG, halves(120, 80))
	svg := func(body string) []byte {
		return []byte(`<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 60 40">` + body + `</svg>`)
	}
	for _, c := range []struct {
		name   string
		data   []byte
		facts  func(Facts) bool
		note   string // among what was done
		refuse string // why it is not read
	}{
		{"tiny", written(t, PNG, halves(1, 1)), func(f Facts) bool { return f.Width == 1 && f.Height == 1 }, "enlarged 60.0 times", ""},
		{"huge", written(t, PNG, image.NewPaletted(image.Rect(0, 0, 6000, 4000), color.Palette{teal, coral})),
			func(f Facts) bool { return f.Width == 6000 }, "", ""},
		{"tagged 300 per inch", tagged, func(f Facts) bool { return f.Resolution == 300 }, "", ""},
		{"printing colours", file(t, "cmyk.jpg"), func(f Facts) bool { return f.Colours == "cmyk" }, "CMYK", ""},
		{"turned", inserted(photo, 0xe1, exifBlock(6)), func(f Facts) bool {
			return f.Turned == 6 && f.Width == 80 && f.Height == 120 && slices.Equal(f.Holds, []string{"camera", "place"})
		}, "turned upright: its orientation tag is 6", ""},
		{"interlaced", file(t, "interlaced.png"), func(f Facts) bool { return f.Interlaced }, "without interlacing", ""},
		{"progressive", file(t, "progressive.jpg"), func(f Facts) bool { return f.Interlaced && f.Format == JPEG }, "without interlacing", ""},
		{"animated", moving(t), func(f Facts) bool { return f.Frames == 2 }, "", ""},
		{"16 bits", written(t, PNG, deep), func(f Facts) bool { return f.Depth == 16 }, "16 bits a channel became 8", ""},
		{"palette with transparency", written(t, PNG, seeThrough), func(f Facts) bool { return f.Transparent && f.Colours == "palette" }, "", ""},
		{"webp", file(t, "gradient.webp"), func(f Facts) bool { return f.Format == WebP && f.Width == 64 }, "", ""},
		{"webp without loss", file(t, "alpha.webp"), func(f Facts) bool { return f.Transparent && f.Width == 16 }, "", ""},
		{"bmp", written(t, BMP, halves(60, 40)), func(f Facts) bool { return f.Format == BMP && f.Height == 40 }, "", ""},
		{"tiff", written(t, TIFF, halves(60, 40)), func(f Facts) bool { return f.Format == TIFF && f.Width == 60 }, "", ""},
		{"svg", svg(`<path d="M0 0h30v40H0z" fill="#c8553d"/>`), func(f Facts) bool { return f.Format == SVG && f.Width == 60 }, "", ""},
		{"another profile", inserted(photo, 0xe2, append([]byte("ICC_PROFILE\x00\x01\x01"), wideProfile()...)),
			func(f Facts) bool { return f.Profile == "Wide lab" }, `colours converted from the profile "Wide lab"`, ""},

		{"empty", nil, nil, "", "the file is empty"},
		{"a page", []byte("<!DOCTYPE html><p>Not here"), nil, "", "a web page, not a picture"},
		{"a page that calls itself a picture", []byte("\n <HTML><img src=logo.png>"), nil, "", "a web page"},
		{"a document", []byte("%PDF-1.7"), nil, "", "a PDF document"},
		{"a telephone's format", []byte("\x00\x00\x00\x20ftypheic....."), nil, "", "HEIC"},
		{"something else", []byte("GIF86a and more"), nil, "", "not a PNG, JPEG, GIF, WebP, BMP, TIFF or SVG"},
		{"cut in its header", written(t, PNG, halves(9, 9))[:20], nil, "", "ends before its header"},
		{"cut in its pixels", photo[:len(photo)/2], nil, "", "broken"},
		{"bomb by claim", claim(t, 19000, 19000), nil, "", "at most 24 million"},
		{"one side too long", claim(t, 1<<30, 1), nil, "", "at most 20000"},
		{"bomb by frames", framed(written(t, GIF, image.NewPaletted(image.Rect(0, 0, 5000, 4000), color.Palette{teal})), 5),
			nil, "", "its 5 frames claim 100 million pixels"},
		{"too heavy", make([]byte, MaxBytes+1), nil, "", "at most 32768 kB"},
		{"svg with script", svg(`<script>alert(1)</script>`), nil, "", "holds a script"},
		{"svg with handler", svg(`<path onload="x()" d="M0 0h9"/>`), nil, "", "holds a script"},
		{"svg that leads away", svg(`<use href="https://brackwater.example/a.svg#x"/>`), nil, "", "leads to another file"},
		{"svg with letters", svg(`<text>Ferry</text>`), nil, "", "turn them into paths"},
		{"svg that calls itself", svg(`<defs><g id="a"><use href="#a"/></g></defs><use href="#a"/>`), nil, "", "use one another"},
		{"svg with entities", []byte(`<?xml version="1.0"?><!DOCTYPE svg [<!ENTITY a "b">]><svg viewBox="0 0 1 1">&a;</svg>`),
			nil, "", "entities"},
		{"svg without size", []byte(`<svg xmlns="http://www.w3.org/2000/svg"><path d="M0 0h9"/></svg>`), nil, "",
			"neither width and height nor viewBox"},
	} {
		t.Run(c.name, func(t *testing.T) {
			if c.facts == nil {
				if _, err := Read(c.data); err == nil || !strings.Contains(err.Error(), c.refuse) {
					t.Fatalf("%v, want %q", err, c.refuse)
				}
				return
			}
			facts, err := Probe(c.data)
			if err != nil || !c.facts(facts) {
				t.Fatalf("%+v, %v", facts, err)
			}
			r, err := Fit(c.data, Recipe{Width: 30})
			if err != nil {
				t.Fatal(err)
			}
			if r.Facts.Width != 60 || r.Facts.Resolution != 192 && r.Facts.Format != GIF ||
				!slices.Contains(Mailable, r.Facts.Format) || len(r.Facts.Holds) > 0 || r.Facts.Turned != 0 {
				t.Errorf("rendition %+v", r.Facts)
			}
			if c.note != "" && !slices.ContainsFunc(r.Notes, func(n string) bool { return strings.Contains(n, c.note) }) {
				t.Errorf("notes %q, want %q", r.Notes, c.note)
			}
			if _, _, err := image.Decode(bytes.NewReader(r.Data)); err != nil {
				t.Errorf("the rendition cannot be read: %v", err)
			}
		})
	}
}

func TestTurnedPicturesStandUpright(t *testing.T) {
	for orientation, want := range map[uint16][2]color.NRGBA{ // upper left and lower right
		1: {coral, teal}, 2: {teal, coral}, 3: {teal, coral}, 4: {coral, teal}, 5: {coral, teal}, 6: {coral, teal},
		7: {teal, coral}, 8: {teal, coral},
	} {
		p, err := Read(inserted(written(t, JPEG, halves(64, 32)), 0xe1, exifBlock(orientation)))
		if err != nil {
			t.Fatal(err)
		}
		img := p.Image()
		for i, at := range []image.Point{{2, 2}, {img.Rect.Dx() - 3, img.Rect.Dy() - 3}} {
			if got := img.NRGBAAt(at.X, at.Y); !near(got, want[i], 6) {
				t.Errorf("orientation %d: %v is %v, want %v", orientation, at, got, want[i])
			}
		}
	}
}

func near(a, b color.NRGBA, by int) bool {
	for _, d := range []int{int(a.R) - int(b.R), int(a.G) - int(b.G), int(a.B) - int(b.B), int(a.A) - int(b.A)} {
		if d > by || d < -by {
			return false
		}
	}
	return true
}

func TestColourProfiles(t *testing.T) {
	p, err := parseProfile(wideProfile())
	if err != nil || p.plain() {
		t.Fatal(err, p.plain())
	}
	// full red of the wider space lies outside sRGB; grey stays grey
	if got := p.convert([3]uint8{255, 0, 0}); got[0] != 255 || got[1] != 0 {
		t.Errorf("red becomes %v", got)
	}
	if got := p.convert([3]uint8{128, 128, 128}); max(got[0], got[1], got[2])-min(got[0], got[1], got[2]) > 3 {
		t.Errorf("grey becomes %v", got)
	}
	for _, cut := range []int{0, 100, 131, 140, 230} {
		if _, err := parseProfile(wideProfile()[:cut]); err == nil {
			t.Errorf("a profile cut at %d is read", cut)
		}
	}
	if _, err := parseProfile(append(make([]byte, 16), []byte("CMYKLab "+strings.Repeat("\x00", 200))...)); err == nil {
		t.Error("a printer's profile is read as one of screens")
	}
}

func TestFitIsExact(t *testing.T) {
	source := written(t, PNG, halves(400, 200))
	for name, c := range map[string]struct {
		recipe        Recipe
		width, height int
		left, right   color.NRGBA // in the middle row, a tenth from each side
	}{
		"by width":        {Recipe{Width: 100}, 200, 100, coral, teal},
		"by height":       {Recipe{Height: 30, Multiple: 3}, 180, 90, coral, teal},
		"both":            {Recipe{Width: 50, Height: 50, Multiple: 1}, 50, 50, coral, teal},
		"focus":           {Recipe{Width: 50, Height: 50, Focus: &Point{0, 0.5}}, 100, 100, coral, coral},
		"crop":            {Recipe{Width: 50, Crop: &Area{0.5, 0, 0.5, 1}}, 100, 100, teal, teal},
		"zoom":            {Recipe{Width: 40, Height: 20, Zoom: 2, Focus: &Point{1, 1}}, 80, 40, teal, teal},
		"padded":          {Recipe{Width: 50, Height: 50, Pad: true, Multiple: 1}, 50, 50, coral, teal},
		"round":           {Recipe{Width: 60, Height: 60, Shape: Round, Multiple: 1}, 60, 60, coral, teal},
		"enlarged":        {Recipe{Width: 1000, Multiple: 1}, 1000, 500, coral, teal},
		"with background": {Recipe{Width: 50, Height: 100, Pad: true, Background: "#fff", Multiple: 1}, 50, 100, coral, teal},
	} {
		r, err := Fit(source, c.recipe)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if r.Facts.Width != c.width || r.Facts.Height != c.height {
			t.Errorf("%s: %d x %d px", name, r.Facts.Width, r.Facts.Height)
		}
		for x, want := range map[int]color.NRGBA{c.width / 10: c.left, c.width * 9 / 10: c.right} {
			if got := r.Shown.NRGBAAt(x, c.height/2); !near(got, want, 4) {
				t.Errorf("%s: at %d %v, want %v", name, x, got, want)
			}
		}
	}
}

func TestShapesAreCutIntoThePixels(t *testing.T) {
	source := written(t, PNG, halves(200, 200))
	at := func(r Recipe, x, y int) color.NRGBA {
		t.Helper()
		r.Width, r.Height, r.Multiple = 100, 100, 1
		made, err := Fit(source, r)
		if err != nil {
			t.Fatal(err)
		}
		return made.Exact.NRGBAAt(x, y)
	}
	for name, c := range map[string]struct {
		got, want color.NRGBA
	}{
		"outside a circle":           {at(Recipe{Shape: Round}, 5, 5), color.NRGBA{}},
		"inside a circle":            {at(Recipe{Shape: Round}, 20, 50), coral},
		"background beside a circle": {at(Recipe{Shape: Round, Background: "#f2f6f5"}, 5, 5), color.NRGBA{0xf2, 0xf6, 0xf5, 255}},
		"ring":                       {at(Recipe{Shape: Round, Ring: 4, Colour: "#ffffff"}, 2, 50), color.NRGBA{255, 255, 255, 255}},
		"inside the ring":            {at(Recipe{Shape: Round, Ring: 4, Colour: "#ffffff"}, 7, 50), coral},
		"rounded corner":             {at(Recipe{Shape: Rounded, Radius: 12}, 1, 1), color.NRGBA{}},
		"rounded side":               {at(Recipe{Shape: Rounded, Radius: 12}, 0, 50), coral},
		"ring without a shape":       {at(Recipe{Ring: 2, Colour: "#000"}, 99, 50), color.NRGBA{0, 0, 0, 255}},
	} {
		if !near(c.got, c.want, 2) {
			t.Errorf("%s: %v, want %v", name, c.got, c.want)
		}
	}
	edge := at(Recipe{Shape: Round}, 14, 15) // on the rim
	if edge.A == 0 || edge.A == 255 {
		t.Errorf("the rim is not smooth: %v", edge)
	}
}

func TestWrongRecipesAreRefused(t *testing.T) {
	for name, c := range map[string]struct {
		recipe Recipe
		want   string
	}{
		"no size":        {Recipe{}, "a width or a height"},
		"too large":      {Recipe{Width: 9000}, "1 to 2000"},
		"multiple":       {Recipe{Width: 1, Multiple: 4}, "1 to 3"},
		"format":         {Recipe{Width: 1, Weight: Weight{Format: "webp"}}, `"webp" is not written`},
		"shape":          {Recipe{Width: 1, Shape: "star"}, "round or rounded"},
		"focus":          {Recipe{Width: 1, Focus: &Point{2, 0}}, "0,0"},
		"focus no value": {Recipe{Width: 1, Focus: &Point{math.NaN(), 0}}, "0,0"},
		"crop":           {Recipe{Width: 1, Crop: &Area{0.5, 0.5, 0.6, 0.1}}, "within the picture"},
		"colour":         {Recipe{Width: 1, Background: "white"}, "#0b3c49"},
		"zoom":           {Recipe{Width: 1, Zoom: 0.5}, "1 to 20"},
	} {
		if _, err := Fit(written(t, PNG, halves(9, 9)), c.recipe); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %q", name, err, c.want)
		}
	}
}

func TestAnimationsStayAnimations(t *testing.T) {
	r, err := Fit(moving(t), Recipe{Width: 30, Multiple: 1})
	if err != nil {
		t.Fatal(err)
	}
	p, err := Read(r.Data)
	if err != nil || len(p.Frames) != 2 {
		t.Fatalf("%d frames, %v", len(p.Frames), err)
	}
	if p.Frames[1].Shown.Milliseconds() != 700 || !near(p.Frames[1].Image.NRGBAAt(28, 18), coral, 3) ||
		!near(p.Frames[1].Image.NRGBAAt(2, 2), teal, 3) {
		t.Errorf("the second frame: %v, %v", p.Frames[1].Shown, p.Frames[1].Image.NRGBAAt(28, 18))
	}
	still, err := Fit(moving(t), Recipe{Width: 30, Weight: Weight{Format: PNG}})
	if err != nil || still.Facts.Frames != 1 || !strings.Contains(strings.Join(still.Notes, "\n"), "only the first of 2 frames") {
		t.Errorf("%+v, %v", still, err)
	}
}

func FuzzRead(f *testing.F) {
	for _, format := range []string{PNG, JPEG, GIF, BMP, TIFF} {
		f.Add(written(f, format, halves(6, 4)))
	}
	f.Add(moving(f))
	f.Add(inserted(written(f, JPEG, halves(8, 8)), 0xe1, exifBlock(5)))
	f.Add(inserted(written(f, JPEG, halves(8, 8)), 0xe2, append([]byte("ICC_PROFILE\x00\x01\x01"), wideProfile()...)))
	f.Add([]byte(`<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 6 4"><path d="M0 0h3v4H0z" fill="url(#a)"/>` +
		`<linearGradient id="a"><stop offset="0"/></linearGradient></svg>`))
	for _, name := range []string{"cmyk.jpg", "interlaced.png", "progressive.jpg", "gradient.webp", "alpha.webp"} {
		f.Add(file(f, name))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		facts, err := Probe(data)
		if err != nil {
			return
		}
		if facts.Width < 1 || facts.Height < 1 || facts.Width > maxSide || facts.Width*facts.Height*facts.Frames > maxArea ||
			facts.Bytes != len(data) {
			t.Fatalf("%+v", facts)
		}
		if facts.Width*facts.Height > 1<<18 { // larger ones take long, and nothing else is done to them
			return
		}
		p, err := Read(data)
		if err != nil {
			return
		}
		if size := p.Image().Rect.Size(); size != image.Pt(p.Width, p.Height) {
			t.Fatalf("%+v has %v", p.Facts, size)
		}
	})
}
