package picture

import (
	"encoding/binary"
	"errors"
	"image"
	"math"
	"strings"
	"unicode/utf16"
)

// profile is a colour profile with curves and a matrix, or one curve for grey (ICC.1:2022, 8.3 and 8.4). Profiles
// made of tables, as printers have them, are not read.
type profile struct {
	curves [3][256]float64 // from a stored value to light
	matrix [9]float64      // from the profile's light to that of sRGB
}

// iccTag gives the data of a tag of a profile, or nil (ICC.1:2022, 7.3).
func iccTag(icc []byte, name string) []byte {
	if len(icc) < 132 {
		return nil
	}
	big := binary.BigEndian
	table := icc[132:]
	for range min(big.Uint32(icc[128:]), 100) {
		if len(table) < 12 {
			return nil
		}
		from, size := uint64(big.Uint32(table[4:])), uint64(big.Uint32(table[8:]))
		if string(table[:4]) == name && from+size <= uint64(len(icc)) && size >= 8 {
			return icc[from : from+size]
		}
		table = table[12:]
	}
	return nil
}

// profileName is a profile's description in plain letters; "unnamed" when it has none.
func profileName(icc []byte) string {
	tag := iccTag(icc, "desc")
	big := binary.BigEndian
	name := ""
	switch {
	case len(tag) > 12 && string(tag[:4]) == "desc": // version 2
		n := uint64(big.Uint32(tag[8:]))
		name = string(tag[12:min(12+n, uint64(len(tag)))])
	case len(tag) > 28 && string(tag[:4]) == "mluc": // version 4
		size, from := uint64(big.Uint32(tag[20:])), uint64(big.Uint32(tag[24:]))
		if from+size <= uint64(len(tag)) {
			var units []uint16
			for b := tag[from : from+size]; len(b) >= 2; b = b[2:] {
				units = append(units, big.Uint16(b))
			}
			name = string(utf16.Decode(units))
		}
	}
	name = strings.Map(func(r rune) rune {
		if r < ' ' || r == 0xfffd {
			return -1
		}
		return r
	}, strings.ToValidUTF8(name, ""))
	if len(name) > 80 {
		name = strings.ToValidUTF8(name[:80], "")
	}
	if name == "" {
		return "unnamed"
	}
	return name
}

// d50ToSRGB takes XYZ of the profile connection space to linear sRGB (IEC 61966-2-1, adapted to D50 as in the
// sRGB v4 profile).
var d50ToSRGB = [9]float64{
	3.1338561, -1.6168667, -0.4906146,
	-0.9787684, 1.9161415, 0.0334540,
	0.0719453, -0.2289914, 1.4052427,
}

var errTableProfile = errors.New("the profile is made of tables")

// parseProfile reads a profile for grey, or for RGB with curves and a matrix (ICC.1:2022). Those that need tables are
// reported and not applied.
func parseProfile(icc []byte) (*profile, error) {
	if len(icc) < 132 {
		return nil, errors.New("the profile is cut")
	}
	p := &profile{}
	switch string(icc[16:20]) {
	case "GRAY":
		if !p.curve(0, iccTag(icc, "kTRC")) {
			return nil, errTableProfile
		}
		p.curves[1], p.curves[2] = p.curves[0], p.curves[0]
		p.matrix = [9]float64{1, 0, 0, 0, 1, 0, 0, 0, 1}
		return p, nil
	case "RGB ":
	default:
		return nil, errTableProfile
	}
	var columns [9]float64
	for i, name := range []string{"r", "g", "b"} {
		xyz := iccTag(icc, name+"XYZ")
		if len(xyz) < 20 || !p.curve(i, iccTag(icc, name+"TRC")) {
			return nil, errTableProfile
		}
		for row := range 3 {
			columns[3*row+i] = fixed16(xyz[8+4*row:])
		}
	}
	for row := range 3 {
		for column := range 3 {
			for k := range 3 {
				p.matrix[3*row+column] += d50ToSRGB[3*row+k] * columns[3*k+column]
			}
		}
	}
	return p, nil
}

// fixed16 reads a fixed-point number (ICC.1:2022, 4.6).
func fixed16(b []byte) float64 { return float64(int32(binary.BigEndian.Uint32(b))) / 65536 }

// parameters is how many numbers each kind of parametric curve has (ICC.1:2022, 10.18).
var parameters = []int{1, 3, 4, 5, 7}

// curve reads a curve of either type into a table of 256 steps.
func (p *profile) curve(channel int, tag []byte) bool {
	if len(tag) < 12 {
		return false
	}
	big := binary.BigEndian
	to := &p.curves[channel]
	switch string(tag[:4]) {
	case "curv":
		n := int(big.Uint32(tag[8:]))
		if n > 1<<16 || len(tag) < 12+2*n {
			return false
		}
		at := func(i int) float64 { return float64(big.Uint16(tag[12+2*i:])) / 65535 }
		for i := range to {
			x := float64(i) / 255
			switch n {
			case 0:
				to[i] = x
			case 1:
				to[i] = math.Pow(x, float64(big.Uint16(tag[12:]))/256)
			default:
				whole, part := math.Modf(x * float64(n-1))
				to[i] = at(int(whole))*(1-part) + at(min(int(whole)+1, n-1))*part
			}
		}
		return true
	case "para":
		kind := int(big.Uint16(tag[8:]))
		if kind >= len(parameters) || len(tag) < 12+4*parameters[kind] {
			return false
		}
		var v [7]float64 // g a b c d e f
		for i := range parameters[kind] {
			v[i] = fixed16(tag[12+4*i:])
		}
		for i := range to {
			to[i] = parametric(kind, v, float64(i)/255)
		}
		return true
	}
	return false
}

// parametric works out a parametric curve (ICC.1:2022, table 68).
func parametric(kind int, v [7]float64, x float64) float64 {
	g, a, b, c, d, e, f := v[0], v[1], v[2], v[3], v[4], v[5], v[6]
	var y float64
	switch {
	case kind == 0:
		y = math.Pow(x, g)
	case kind <= 2 && a*x+b >= 0:
		y = math.Pow(a*x+b, g)
		if kind == 2 {
			y += c
		}
	case kind == 2:
		y = c
	case kind >= 3 && x >= d:
		y = math.Pow(max(a*x+b, 0), g) + e
	case kind >= 3:
		y = c*x + f
	}
	if math.IsNaN(y) {
		return 0
	}
	return min(max(y, 0), 1)
}

// plain reports whether the profile's colours are those of sRGB, to less than a step of 8 bits.
func (p *profile) plain() bool {
	for _, colour := range [][3]uint8{{255, 0, 0}, {0, 255, 0}, {0, 0, 255}, {128, 128, 128}, {255, 255, 255}, {40, 90, 160}} {
		for i, v := range p.convert(colour) {
			if d := int(v) - int(colour[i]); d > 2 || d < -2 {
				return false
			}
		}
	}
	return true
}

// convert brings a colour of the profile to sRGB.
func (p *profile) convert(c [3]uint8) [3]uint8 {
	r, g, b := p.curves[0][c[0]], p.curves[1][c[1]], p.curves[2][c[2]]
	m := &p.matrix
	return [3]uint8{
		fromLight(float32(m[0]*r + m[1]*g + m[2]*b)), fromLight(float32(m[3]*r + m[4]*g + m[5]*b)), fromLight(float32(m[6]*r + m[7]*g + m[8]*b)),
	}
}

// toSRGB converts all pixels in place.
func (p *profile) toSRGB(img *image.NRGBA) {
	last, made := [3]uint8{}, p.convert([3]uint8{})
	for i := 0; i+3 < len(img.Pix); i += 4 {
		c := [3]uint8(img.Pix[i : i+3])
		if c != last {
			last, made = c, p.convert(c)
		}
		copy(img.Pix[i:], made[:])
	}
}
