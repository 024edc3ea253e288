package picture

import (
	"bytes"
	"encoding/binary"
	"errors"
	"math"
	"strings"

	"github.com/bep/imagemeta"
)

// Tags of TIFF 6.0 that say what its pixels are.
const (
	tagWidth       = 0x100
	tagHeight      = 0x101
	tagBits        = 0x102
	tagPhotometric = 0x106
	tagExtra       = 0x152
	tagICC         = 0x8773
)

// tagValue is the value of one entry of a directory, as far as it is of use here.
type tagValue struct {
	numbers []float64
	bytes   []byte
}

// directory is the entries of one image file directory by their tag.
type directory map[uint16]tagValue

// int is the first number of an entry; 0 where there is none.
func (d directory) int(tag uint16) int {
	if v := d[tag].numbers; len(v) > 0 && v[0] < math.MaxInt32 {
		return int(v[0])
	}
	return 0
}

// sizes are the bytes of the types of values (TIFF 6.0, 2).
var sizes = map[uint16]int{1: 1, 2: 1, 3: 2, 4: 4, 5: 8, 7: 1}

// readDirectory reads the directory at an offset of a TIFF structure, 0 for the first, and gives the offset of
// the next one. Values that lie outside the data are left out.
func readDirectory(data []byte, at uint32) (directory, uint32, error) {
	if len(data) < 8 {
		return nil, 0, errCut
	}
	var order binary.ByteOrder = binary.LittleEndian
	switch string(data[:4]) {
	case "II*\x00":
	case "MM\x00*":
		order = binary.BigEndian
	default:
		return nil, 0, errors.New("it is no TIFF structure")
	}
	if at == 0 {
		at = order.Uint32(data[4:])
	}
	if uint64(at)+2 > uint64(len(data)) {
		return nil, 0, errCut
	}
	entries := data[at+2:]
	count := int(order.Uint16(data[at:]))
	if len(entries) < 12*count {
		return nil, 0, errCut
	}
	d := directory{}
	for e := entries[:12*count]; len(e) > 0; e = e[12:] {
		kind, n := order.Uint16(e[2:]), uint64(order.Uint32(e[4:]))
		size := n * uint64(sizes[kind])
		value := e[8:12]
		if size > 4 {
			from := uint64(order.Uint32(e[8:]))
			if from+size > uint64(len(data)) {
				continue
			}
			value = data[from : from+size]
		}
		d[order.Uint16(e)] = readValue(order, kind, value[:min(size, uint64(len(value)))])
	}
	next := uint32(0)
	if rest := entries[12*count:]; len(rest) >= 4 {
		next = order.Uint32(rest)
	}
	return d, next, nil
}

// readValue reads at most four numbers of an entry.
func readValue(order binary.ByteOrder, kind uint16, value []byte) tagValue {
	v := tagValue{bytes: value}
	for rest := value; len(rest) > 0 && len(v.numbers) < 4; rest = rest[sizes[kind]:] {
		switch kind {
		case 3:
			v.numbers = append(v.numbers, float64(order.Uint16(rest)))
		case 4:
			v.numbers = append(v.numbers, float64(order.Uint32(rest)))
		case 5:
			if below := order.Uint32(rest[4:]); below != 0 {
				v.numbers = append(v.numbers, float64(order.Uint32(rest))/float64(below))
			}
		default:
			return v
		}
	}
	return v
}

// exif notes what an EXIF block says: orientation, resolution, and what it gives away about who took the picture, when
// and where. A broken block is as good as none. The block is a TIFF structure (EXIF 2.32, 4.5.2).
func (h *header) exif(data []byte) {
	said := map[string]bool{}
	resolution, unit := 0.0, 2 // inches, unless it says otherwise
	handle := func(tag imagemeta.TagInfo) error {
		inFirst := tag.Namespace == "IFD0"
		switch {
		case strings.HasSuffix(tag.Namespace, "GPSInfoIFD"):
			said["place"] = true
		case inFirst && (tag.Tag == "Make" || tag.Tag == "Model"), strings.HasSuffix(tag.Namespace, "ExifIFD") && h.Format != TIFF:
			said["camera"] = true
		case inFirst && (tag.Tag == "ModifyDate" || tag.Tag == "DateTime"):
			said["time"] = true
		case inFirst && tag.Tag == "Orientation":
			if turned := int(number(tag.Value)); turned > 1 && turned <= 8 {
				h.Turned = turned
			}
		case inFirst && tag.Tag == "XResolution":
			resolution = number(tag.Value)
		case inFirst && tag.Tag == "ResolutionUnit":
			unit = int(number(tag.Value))
		}
		return nil
	}
	// what was read before a broken entry counts: the error says only that there is one
	_, _ = imagemeta.Decode(imagemeta.Options{
		R: bytes.NewReader(data), ImageFormat: imagemeta.TIFF, Sources: imagemeta.EXIF,
		ShouldHandleTag: func(imagemeta.TagInfo) bool { return true }, HandleTag: handle,
		Warnf: func(string, ...any) {},
	})
	if h.Resolution == 0 && resolution > 0 && resolution < 100_000 {
		switch unit {
		case 2:
			h.density(1, resolution)
		case 3:
			h.density(2, resolution)
		}
	}
	for _, what := range []string{"camera", "time", "place"} {
		if said[what] {
			h.hold(what)
		}
	}
}

// number is a tag's first number; 0 where it is none.
func number(value any) float64 {
	switch v := value.(type) {
	case uint8:
		return float64(v)
	case uint16:
		return float64(v)
	case uint32:
		return float64(v)
	case interface{ Float64() float64 }:
		return v.Float64()
	case float64:
		return v
	}
	return 0
}
