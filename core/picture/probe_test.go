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
	"strings"
	"testing"
)

func encoded(t testing.TB, format string, width, height int) []byte {
	t.Helper()
	img := image.NewPaletted(image.Rect(0, 0, width, height), color.Palette{color.Black, color.White})
	var b bytes.Buffer
	var err error
	switch format {
	case "png":
		err = png.Encode(&b, img)
	case "jpeg":
		err = jpeg.Encode(&b, img, nil)
	case "gif":
		err = gif.Encode(&b, img, nil)
	}
	if err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func TestProbe(t *testing.T) {
	for _, format := range []string{"png", "jpeg", "gif"} {
		data := encoded(t, format, 30, 20)
		if got, err := Probe(data); err != nil || got.Format != format {
			t.Errorf("%s: %+v, %v", format, got, err)
		}
	}
}

// claim makes a PNG header that claims a size.
func claim(t *testing.T, width, height uint32) []byte {
	data := encoded(t, "png", 1, 1)
	binary.BigEndian.PutUint32(data[16:], width)
	binary.BigEndian.PutUint32(data[20:], height)
	binary.BigEndian.PutUint32(data[29:], crc32.ChecksumIEEE(data[12:29]))
	return data
}

func TestHostilePicturesAreRefused(t *testing.T) {
	for name, c := range map[string]struct {
		data []byte
		want string
	}{
		"a page":     {[]byte("<!DOCTYPE html>"), "not a PNG, JPEG or GIF"},
		"nothing":    {nil, "not a PNG, JPEG or GIF"},
		"cut":        {encoded(t, "png", 9, 9)[:20], "not a PNG, JPEG or GIF"},
		"huge sides": {claim(t, 60000, 60000), "at most 10000"},
		"heavy":      {make([]byte, MaxBytes+1), "at most 4096 kB"},
	} {
		if _, err := Probe(c.data); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %q", name, err, c.want)
		}
	}
}

func FuzzProbe(f *testing.F) {
	for _, format := range []string{"png", "jpeg", "gif"} {
		f.Add(encoded(f, format, 3, 2))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		if facts, err := Probe(data); err == nil && (facts.Width > MaxSide || facts.Height > MaxSide || facts.Bytes != len(data)) {
			t.Fatalf("%+v", facts)
		}
	})
}
