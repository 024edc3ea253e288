package picture

import (
	"encoding/binary"
	"math"
	"slices"
	"strings"
	"testing"
	"unicode/utf16"
)

// jfif changes the density of a JPEG file that the standard library wrote without one.
// Tags of EXIF 2.32 that the blocks of these tests have.
const (
	tagMake        = 0x10f
	tagOrientation = 0x112
	tagXResolution = 0x11a
	tagUnit        = 0x128
	tagTime        = 0x132
	tagPlace       = 0x8825
)

func jfif(data []byte, unit byte, density uint16) []byte {
	body := []byte{'J', 'F', 'I', 'F', 0, 1, 2, unit, 0, 0, 0, 0, 0, 0}
	binary.BigEndian.PutUint16(body[8:], density)
	binary.BigEndian.PutUint16(body[10:], density)
	return inserted(data, 0xe0, body)
}

// directoryOf is a TIFF structure with one directory of short numbers.
func directoryOf(order binary.AppendByteOrder, mark string, entries map[uint16]uint16, resolution uint32) []byte {
	b := append([]byte(mark), order.AppendUint32(nil, 8)...)
	var tags []uint16
	for tag := range entries {
		tags = append(tags, tag)
	}
	slices.Sort(tags)
	b = order.AppendUint16(b, uint16(len(tags)+1))
	for _, tag := range tags {
		b = order.AppendUint16(b, tag)
		b = order.AppendUint16(b, 3)
		b = order.AppendUint32(b, 1)
		b = order.AppendUint16(b, entries[tag])
		b = order.AppendUint16(b, 0)
	}
	b = order.AppendUint16(b, tagXResolution)
	b = order.AppendUint16(b, 5)
	b = order.AppendUint32(b, 1)
	b = order.AppendUint32(b, uint32(len(b)+8))
	b = order.AppendUint32(b, 0)
	b = order.AppendUint32(b, resolution)
	return order.AppendUint32(b, 1)
}

// TestResolutionTags: pixels per inch, however a format writes them.
func TestResolutionTags(t *testing.T) {
	photo := written(t, JPEG, halves(16, 8))
	exif := func(block []byte) []byte { return inserted(photo, 0xe1, append([]byte("Exif\x00\x00"), block...)) }
	physical := func(perMetre uint32, unit byte) []byte {
		body := binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(nil, perMetre), perMetre)
		return chunk(written(t, PNG, halves(4, 4)), "pHYs", append(body, unit))
	}
	bitmap := written(t, BMP, halves(4, 4))
	binary.LittleEndian.PutUint32(bitmap[38:], 3780)
	for name, c := range map[string]struct {
		data []byte
		want int
	}{
		"none":                      {photo, 0},
		"per inch":                  {jfif(photo, 1, 300), 300},
		"per centimetre":            {jfif(photo, 2, 118), 300},
		"a proportion only":         {jfif(photo, 0, 1), 0},
		"EXIF":                      {exif(directoryOf(binary.LittleEndian, "II*\x00", map[uint16]uint16{tagUnit: 2}, 240)), 240},
		"EXIF, the other order":     {exif(directoryOf(binary.BigEndian, "MM\x00*", map[uint16]uint16{tagUnit: 3}, 100)), 254},
		"EXIF, a proportion":        {exif(directoryOf(binary.BigEndian, "MM\x00*", map[uint16]uint16{tagUnit: 1}, 100)), 0},
		"EXIF that is broken":       {exif([]byte("II*\x00\xff\xff\xff\xff")), 0},
		"PNG per metre":             {physical(2835, 1), 72},
		"PNG, a proportion":         {physical(2835, 0), 0},
		"a bitmap":                  {bitmap, 96},
		"what the program writes":   {encodeJPEG(halves(8, 8), jpegOptions{quality: 80, resolution: 192}), 192},
		"what it writes, at double": {withResolution(written(t, PNG, halves(4, 4)), 288), 288},
	} {
		if f, err := Probe(c.data); err != nil || f.Resolution != c.want {
			t.Errorf("%s: %d, want %d, %v", name, f.Resolution, c.want, err)
		}
	}
}

func TestTIFFDirectories(t *testing.T) {
	data := directoryOf(binary.LittleEndian, "II*\x00",
		map[uint16]uint16{tagWidth: 40, tagHeight: 30, tagBits: 8, tagPhotometric: 5, tagOrientation: 6, tagExtra: 1}, 300)
	f, err := Probe(data)
	if err != nil || f.Width != 30 || f.Height != 40 || f.Colours != "cmyk" || f.Turned != 6 || !f.Transparent {
		t.Errorf("%+v, %v", f, err)
	}
	if _, err := Read(data); err == nil {
		t.Error("a directory without pixels is read")
	}
	for cut := range len(data) - 12 { // behind that only the value of the resolution is missing
		if _, err := Probe(data[:cut]); err == nil {
			t.Errorf("cut at %d it is read", cut)
		}
	}
}

// described16 is a profile's description as version 4 writes it.
func described16(name string) []byte {
	units := utf16.Encode([]rune(name))
	b := append([]byte("mluc"), 0, 0, 0, 0, 0, 0, 0, 1, 0, 0, 0, 12)
	b = append(b, "enUS"...)
	b = binary.BigEndian.AppendUint32(b, uint32(2*len(units)))
	b = binary.BigEndian.AppendUint32(b, 28)
	for _, u := range units {
		b = binary.BigEndian.AppendUint16(b, u)
	}
	return b
}

func TestProfileNames(t *testing.T) {
	with := func(tag []byte) []byte {
		icc := make([]byte, 128)
		icc = binary.BigEndian.AppendUint32(icc, 1)
		icc = append(icc, "desc"...)
		icc = binary.BigEndian.AppendUint32(icc, 144)
		icc = binary.BigEndian.AppendUint32(icc, uint32(len(tag)))
		return append(icc, tag...)
	}
	for want, icc := range map[string][]byte{
		"Wide lab": wideProfile(), "Färgrymd P": with(described16("Färgrymd P")),
		"unnamed":               with([]byte("desc\x00\x00\x00\x00\xff\xff\xff\xff\x00")),
		strings.Repeat("x", 80): with(described16(strings.Repeat("x", 200))), "a b": with(described16("a\x07 b\n")),
	} {
		if got := profileName(icc); got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
	if got := profileName(nil); got != "unnamed" {
		t.Errorf("%q", got)
	}
}

// TestCurves: the kinds of curves give light as they say.
func TestCurves(t *testing.T) {
	big := binary.BigEndian
	para := func(kind uint16, values ...float64) []byte {
		b := append([]byte("para"), 0, 0, 0, 0)
		b = big.AppendUint16(b, kind)
		b = append(b, 0, 0)
		for _, v := range values {
			b = big.AppendUint32(b, uint32(int32(math.Round(v*65536))))
		}
		return b
	}
	table := func(values ...uint16) []byte {
		b := append([]byte("curv"), 0, 0, 0, 0)
		b = big.AppendUint32(b, uint32(len(values)))
		for _, v := range values {
			b = big.AppendUint16(b, v)
		}
		return b
	}
	for name, c := range map[string]struct {
		tag  []byte
		at   int
		want float64
	}{
		"straight":               {table(), 128, 128.0 / 255},
		"a power":                {table(0x0200), 128, math.Pow(128.0/255, 2)},
		"a table":                {table(0, 0xffff), 51, 0.2},
		"a bent table":           {table(0, 0, 0xffff), 255, 1},
		"kind 0":                 {para(0, 2), 128, math.Pow(128.0/255, 2)},
		"kind 1 below its start": {para(1, 2, 1, -0.5), 51, 0},
		"kind 2":                 {para(2, 2, 1, 0, 0.1), 128, math.Pow(128.0/255, 2) + 0.1},
		"kind 3, as sRGB":        {para(3, 2.4, 1/1.055, 0.055/1.055, 1/12.92, 0.04045), 128, float64(toLight[128])},
		"kind 3 near black":      {para(3, 2.4, 1/1.055, 0.055/1.055, 1/12.92, 0.04045), 5, float64(toLight[5])},
		"kind 4":                 {para(4, 1, 1, 0, 0, 0, 0.25, 0), 128, 128.0/255 + 0.25},
		"too much is cut":        {para(4, 1, 1, 0, 0, 0, 0.9, 0), 255, 1},
	} {
		var p profile
		if !p.curve(0, c.tag) {
			t.Errorf("%s is not read", name)
			continue
		}
		if got := p.curves[0][c.at]; math.Abs(got-c.want) > 0.001 {
			t.Errorf("%s: %v, want %v", name, got, c.want)
		}
	}
	for name, tag := range map[string][]byte{"no tag": nil, "another": []byte("sf32\x00\x00\x00\x00\x00\x00\x00\x00"),
		"a table that is cut": table(1, 2, 3)[:14], "a kind that is not": para(9, 1), "too few values": para(3, 1)} {
		var p profile
		if p.curve(0, tag) {
			t.Errorf("%s is read", name)
		}
	}
}

func TestSVGLengths(t *testing.T) {
	for text, want := range map[string]float64{"10": 10, "10px": 10, " 12.5 ": 12.5, "72pt": 96, "1in": 96, "2.54cm": 96,
		"25.4mm": 96, "6pc": 96, "50%": 0, "x": 0, "-4": 0, "NaN": 0, "Inf": 0, "1em": 0} {
		if got := svgLength(text); math.Abs(got-want) > 1e-9 {
			t.Errorf("%q: %v, want %v", text, got, want)
		}
	}
	for svg, want := range map[string][2]int{
		`<svg width="20" height="10"/>`: {20, 10}, `<svg width="20" viewBox="0 0 40 80"/>`: {20, 40},
		`<svg height="20" viewBox="0,0,40,80"/>`: {10, 20}, `<svg width="100%" viewBox="0 0 40 80"/>`: {40, 80},
	} {
		if f, err := Probe([]byte(svg)); err != nil || f.Width != want[0] || f.Height != want[1] {
			t.Errorf("%s: %d x %d, %v", svg, f.Width, f.Height, err)
		}
	}
}
