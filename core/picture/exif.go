package picture

import (
	"encoding/binary"
	"errors"
	"math"
)

// Tags of TIFF 6.0 and EXIF 2.32 that are read.
const (
	tagWidth       = 0x100
	tagHeight      = 0x101
	tagBits        = 0x102
	tagPhotometric = 0x106
	tagMake        = 0x10f
	tagModel       = 0x110
	tagOrientation = 0x112
	tagXResolution = 0x11a
	tagUnit        = 0x128
	tagTime        = 0x132
	tagExtra       = 0x152
	tagICC         = 0x8773
	tagExif        = 0x8769
	tagPlace       = 0x8825
)

// tagValue is the value of one entry of a directory, as far as it is of use here.
type tagValue struct {
	numbers []float64
	bytes   []byte
}

// directory is the entries of one image file directory by their tag.
type directory map[uint16]tagValue

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

// exif notes what an EXIF block says. A broken one is as good as none.
func (h *header) exif(data []byte) {
	if d, _, err := readDirectory(data, 0); err == nil {
		h.described(d, data)
	}
}

// described notes orientation, resolution and what else a directory tells.
func (h *header) described(d directory, data []byte) {
	if turned := d.int(tagOrientation); turned > 1 && turned <= 8 {
		h.Turned = turned
	}
	if v := d[tagXResolution].numbers; h.Resolution == 0 && len(v) > 0 && v[0] > 0 && v[0] < 100_000 {
		unit := byte(1)
		if d.int(tagUnit) == 3 {
			unit = 2
		}
		if d.int(tagUnit) != 1 {
			h.density(unit, v[0])
		}
	}
	if len(d[tagMake].bytes) > 0 || len(d[tagModel].bytes) > 0 || d.int(tagExif) > 0 && h.Format != TIFF {
		h.hold("camera")
	}
	if len(d[tagTime].bytes) > 0 {
		h.hold("time")
	}
	if at := d.int(tagPlace); at > 0 {
		if place, _, err := readDirectory(data, uint32(at)); err == nil && len(place) > 0 {
			h.hold("place")
		}
	}
}
