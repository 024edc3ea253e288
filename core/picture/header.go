package picture

import (
	"bytes"
	"compress/zlib"
	"encoding/binary"
	"errors"
	"io"
	"math"
	"slices"
)

// errCut is what a file is that ends before its header does.
var errCut = errors.New("it ends before its header does")

// maxICC is how much of a colour profile is read, in bytes.
const maxICC = 4 << 20

// hold notes something that the file holds besides the picture.
func (h *header) hold(what string) { h.Holds = append(h.Holds, what) }

// png reads the chunks before the pixels (PNG, third edition, 5 and 11).
func (h *header) png(data []byte) error {
	if len(data) < 33 || string(data[12:16]) != "IHDR" {
		return errCut
	}
	big := binary.BigEndian
	h.Width, h.Height = int(big.Uint32(data[16:])), int(big.Uint32(data[20:]))
	h.Depth, h.Interlaced = int(data[24]), data[28] == 1
	switch data[25] {
	case 0, 4:
		h.Colours = "grey"
	case 3:
		h.Colours = "palette"
	}
	h.Transparent = data[25] == 4 || data[25] == 6
	for rest := data[8:]; len(rest) >= 12; {
		size := int(big.Uint32(rest))
		if size > len(rest)-12 {
			return nil // the pixels are cut; Read says so
		}
		body := rest[8 : 8+size]
		switch string(rest[4:8]) {
		case "tRNS":
			h.Transparent = true
		case "pHYs":
			if size == 9 && body[8] == 1 {
				h.Resolution = int(math.Round(float64(big.Uint32(body)) * 0.0254))
			}
		case "iCCP":
			h.icc = inflateProfile(body)
		case "acTL":
			if size == 8 {
				h.Frames = max(int(big.Uint32(body)), 1)
			}
		case "eXIf":
			h.exif(body)
		case "tEXt", "zTXt", "iTXt":
			h.hold("text")
		case "tIME":
			h.hold("time")
		case "IEND":
			return nil
		}
		rest = rest[12+size:]
	}
	return nil
}

// inflateProfile unpacks the profile of an iCCP chunk; nil when it cannot be.
func inflateProfile(body []byte) []byte {
	i := bytes.IndexByte(body, 0)
	if i < 0 || i+2 > len(body) {
		return nil
	}
	z, err := zlib.NewReader(bytes.NewReader(body[i+2:]))
	if err != nil {
		return nil
	}
	profile, err := io.ReadAll(io.LimitReader(z, maxICC))
	if err != nil {
		return nil
	}
	return profile
}

// jpeg reads the segments before the pixels (ITU-T T.81, annex B; JFIF 1.02).
func (h *header) jpeg(data []byte) error {
	big := binary.BigEndian
	var icc [][]byte
	found := false
	for rest := data[2:]; len(rest) >= 4; {
		if rest[0] != 0xff {
			return errors.New("what stands where a marker should is none")
		}
		marker := rest[1]
		if marker == 0xff { // fill
			rest = rest[1:]
			continue
		}
		if marker == 0xd9 || marker == 0xda {
			break
		}
		size := int(big.Uint16(rest[2:]))
		if size < 2 || size+2 > len(rest) {
			return errCut
		}
		body := rest[4 : 2+size]
		switch {
		case marker >= 0xc0 && marker <= 0xcf && marker != 0xc4 && marker != 0xc8 && marker != 0xcc:
			if len(body) < 6 {
				return errCut
			}
			found = true
			h.Depth, h.Height, h.Width = int(body[0]), int(big.Uint16(body[1:])), int(big.Uint16(body[3:]))
			h.Interlaced = marker == 0xc2
			h.Colours = map[byte]string{1: "grey", 4: "cmyk"}[body[5]]
			if h.Colours == "" {
				h.Colours = "rgb"
			}
		case marker == 0xe0 && bytes.HasPrefix(body, []byte("JFIF\x00")) && len(body) >= 12:
			h.density(body[7], float64(big.Uint16(body[8:])))
		case marker == 0xe1 && bytes.HasPrefix(body, []byte("Exif\x00\x00")):
			h.exif(body[6:])
		case marker == 0xe1, marker == 0xed: // XMP (ISO 16684-1), IPTC
			h.hold("text")
		case marker == 0xe2 && bytes.HasPrefix(body, []byte("ICC_PROFILE\x00")) && len(body) > 14 && len(icc) < 64:
			icc = append(icc, body[14:])
		case marker == 0xfe:
			h.hold("text")
		}
		rest = rest[2+size:]
	}
	if !found {
		return errCut
	}
	if icc != nil {
		h.icc = slices.Concat(icc...)
	}
	return nil
}

// density notes a resolution in pixels per inch (unit 1) or centimetre (unit 2).
func (h *header) density(unit byte, value float64) {
	switch unit {
	case 1:
		h.Resolution = int(math.Round(value))
	case 2:
		h.Resolution = int(math.Round(value * 2.54))
	}
}

// gif reads the blocks and counts the frames (GIF89a, 17 to 26).
func (h *header) gif(data []byte) error {
	if len(data) < 13 {
		return errCut
	}
	little := binary.LittleEndian
	h.Width, h.Height, h.Colours, h.Frames = int(little.Uint16(data[6:])), int(little.Uint16(data[8:])), "palette", 0
	rest := data[13:]
	skip := func(n int) { rest = rest[min(n, len(rest)):] }
	if data[10]&0x80 != 0 {
		skip(3 << (data[10]&7 + 1))
	}
	blocks := func() {
		for len(rest) > 0 && rest[0] != 0 {
			skip(int(rest[0]) + 1)
		}
		skip(1)
	}
	for len(rest) > 1 {
		switch rest[0] {
		case 0x21:
			if rest[1] == 0xf9 && len(rest) > 3 && rest[3]&1 != 0 {
				h.Transparent = true
			}
			if rest[1] == 0xfe {
				h.hold("text")
			}
			skip(2)
			blocks()
		case 0x2c:
			h.Frames++
			if len(rest) < 10 {
				return nil
			}
			if rest[9]&0x40 != 0 {
				h.Interlaced = true
			}
			if rest[9]&0x80 != 0 {
				skip(3 << (rest[9]&7 + 1))
			}
			skip(11)
			blocks()
		default:
			h.Frames = max(h.Frames, 1)
			return nil
		}
	}
	h.Frames = max(h.Frames, 1)
	return nil
}

// webp reads the chunks of a WebP file (RFC 9649, 2.3 to 2.7).
func (h *header) webp(data []byte) error {
	little := binary.LittleEndian
	frames := 0
	for rest := data[12:]; len(rest) >= 8; {
		size := int(little.Uint32(rest[4:]))
		body := rest[8:]
		if size < len(body) {
			body = body[:size]
		}
		switch string(rest[:4]) {
		case "VP8X":
			if len(body) < 10 {
				return errCut
			}
			h.Transparent = body[0]&0x10 != 0
			h.Width, h.Height = 1+(int(body[4])|int(body[5])<<8|int(body[6])<<16), 1+(int(body[7])|int(body[8])<<8|int(body[9])<<16)
		case "VP8 ":
			if h.Width == 0 && len(body) >= 10 {
				h.Width, h.Height = int(little.Uint16(body[6:]))&0x3fff, int(little.Uint16(body[8:]))&0x3fff
			}
		case "VP8L":
			if h.Width == 0 && len(body) >= 5 {
				bits := little.Uint32(body[1:])
				h.Width, h.Height, h.Transparent = 1+int(bits&0x3fff), 1+int(bits>>14&0x3fff), bits>>28&1 == 1
			}
		case "ANMF":
			frames++
		case "ICCP":
			h.icc = body
		case "EXIF":
			h.exif(body)
		case "XMP ":
			h.hold("text")
		}
		rest = rest[min(8+size+size&1, len(rest)):]
	}
	h.Frames = max(frames, 1)
	if h.Width == 0 {
		return errCut
	}
	return nil
}

// bmp reads the two headers of a BMP file.
func (h *header) bmp(data []byte) error {
	if len(data) < 54 {
		return errCut
	}
	little := binary.LittleEndian
	h.Width, h.Height = int(int32(little.Uint32(data[18:]))), int(int32(little.Uint32(data[22:])))
	if h.Height < 0 { // rows from the top
		h.Height = -h.Height
	}
	if bits := little.Uint16(data[28:]); bits <= 8 {
		h.Colours = "palette"
	}
	h.Resolution = int(math.Round(float64(int32(little.Uint32(data[38:]))) * 0.0254))
	return nil
}

// tiff reads the first directory of a TIFF file (TIFF 6.0, 2).
func (h *header) tiff(data []byte) error {
	t, next, err := readDirectory(data, 0)
	if err != nil {
		return err
	}
	h.Width, h.Height, h.Depth = t.int(tagWidth), t.int(tagHeight), max(t.int(tagBits), 1)
	switch t.int(tagPhotometric) {
	case 0, 1:
		h.Colours = "grey"
	case 3:
		h.Colours = "palette"
	case 5:
		h.Colours = "cmyk"
	}
	h.Transparent = len(t[tagExtra].numbers) > 0 && t.int(tagExtra) != 0
	h.icc = t[tagICC].bytes
	h.exif(data)
	for next != 0 && h.Frames <= maxFrames {
		h.Frames++
		if _, next, err = readDirectory(data, next); err != nil {
			return nil // pages behind the first are not read
		}
	}
	return nil
}
