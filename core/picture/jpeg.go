package picture

import (
	"encoding/binary"
	"image"
	"math"
)

// jpegOptions say how a JPEG file is written.
type jpegOptions struct {
	quality    int  // 1 to 100
	fullColour bool // chroma at every pixel, else at every second each way
	resolution int  // pixels per inch to tag
}

// quantities is the quantisation table of which the qualities are multiples, in rows: N. Robidoux's, made for
// photographs and the same for luma and chroma.
var quantities = [64]float64{
	16, 16, 16, 18, 25, 37, 56, 85,
	16, 17, 20, 27, 34, 40, 53, 75,
	16, 20, 24, 31, 43, 62, 91, 135,
	18, 27, 31, 40, 53, 74, 106, 156,
	25, 34, 43, 53, 69, 94, 131, 189,
	37, 40, 62, 74, 94, 124, 169, 238,
	56, 53, 91, 106, 131, 169, 226, 311,
	85, 75, 135, 156, 189, 238, 311, 418,
}

// zigzag is the order in which coefficients are written (ITU-T T.81, figure 5).
var zigzag = [64]int{
	0, 1, 8, 16, 9, 2, 3, 10, 17, 24, 32, 25, 18, 11, 4, 5, 12, 19, 26, 33, 40, 48, 41, 34, 27, 20, 13, 6, 7, 14, 21, 28,
	35, 42, 49, 56, 57, 50, 43, 36, 29, 22, 15, 23, 30, 37, 44, 51, 58, 59, 52, 45, 38, 31, 39, 46, 53, 60, 61, 54, 47, 55, 62, 63,
}

// cosines is the matrix of the discrete cosine transform (ITU-T T.81, A.3.3).
var cosines = func() (m [8][8]float32) {
	for u := range m {
		scale := 0.5
		if u == 0 {
			scale = math.Sqrt(0.125)
		}
		for x := range m[u] {
			m[u][x] = float32(scale * math.Cos(float64(2*x+1)*float64(u)*math.Pi/16))
		}
	}
	return m
}()

// encodeJPEG writes an opaque picture as baseline JPEG (ITU-T T.81) with Huffman tables made for it.
func encodeJPEG(img *image.NRGBA, o jpegOptions) []byte {
	e := jpegEncoder{width: img.Rect.Dx(), height: img.Rect.Dy(), resolution: o.resolution, step: 1}
	planes := planesOver(img, 255)
	grey := flat(planes[1]) && flat(planes[2])
	if !o.fullColour && !grey {
		e.step = 2
	}
	e.quantise(o.quality)
	e.add(planes[0], e.width, e.height, e.step, 128)
	if !grey {
		for _, p := range planes[1:] {
			width, height := e.width, e.height
			if e.step == 2 {
				p, width, height = halved(p, width, height)
			}
			e.add(p, width, height, 1, 0)
		}
	}
	return e.write()
}

// flat reports whether a chroma plane says nothing.
func flat(p plane) bool {
	for _, v := range p {
		if v > 0.8 || v < -0.8 {
			return false
		}
	}
	return true
}

// halved averages two by two values.
func halved(p plane, width, height int) (plane, int, int) {
	w, h := (width+1)/2, (height+1)/2
	out := make(plane, w*h)
	for y := range h {
		upper, lower := p[2*y*width:], p[min(2*y+1, height-1)*width:]
		for x := range w {
			right := min(2*x+1, width-1)
			out[y*w+x] = (upper[2*x] + upper[right] + lower[2*x] + lower[right]) / 4
		}
	}
	return out, w, h
}

// jpegEncoder writes a baseline JPEG file (ITU-T T.81).
type jpegEncoder struct {
	width, height int
	resolution    int
	step          int // luma blocks of a unit each way
	quantum       [64]float32
	components    []component
	exact         [][][64]float32 // of each component's blocks, the coefficients in quanta before they were rounded
}

// component is a channel in blocks of coefficients, in the order of zigzag.
type component struct {
	across int // blocks in a row
	step   int
	blocks [][64]int16
}

// quantise sets the tables of a quality.
func (e *jpegEncoder) quantise(quality int) {
	scale := 50 / float64(quality)
	if quality >= 50 {
		scale = 2 - float64(quality)/50
	}
	for i, q := range quantities {
		e.quantum[i] = float32(min(max(math.Round(q*scale), 1), 255))
	}
}

// add cuts a plane into blocks that fill whole units, transforms and quantises them.
func (e *jpegEncoder) add(p plane, width, height, step int, middle float32) {
	unit := 8 * e.step
	across, down := (e.width+unit-1)/unit*step, (e.height+unit-1)/unit*step
	c := component{across: across, step: step, blocks: make([][64]int16, across*down)}
	exact := make([][64]float32, across*down)
	var block [64]float32
	for i := range c.blocks {
		x0, y0 := i%across*8, i/across*8
		for y := range 8 {
			row := p[min(y0+y, height-1)*width:][:width]
			for x := range 8 {
				block[8*y+x] = row[min(x0+x, width-1)] - middle
			}
		}
		transform(&block)
		for k, at := range zigzag {
			v := block[at] / e.quantum[at]
			exact[i][k], c.blocks[i][k] = v, int16(math.RoundToEven(float64(v)))
		}
	}
	e.components, e.exact = append(e.components, c), append(e.exact, exact)
}

// bitWorth is how much of a quantum's square one bit of the file is worth in thrift.
const bitWorth = 0.12

// thrift lowers coefficients by a quantum where that saves more bits than it shows: from the finest detail on, with
// the codes' lengths of the tables made for all as they are.
func (e *jpegEncoder) thrift() {
	tables := tablesFor(e.tokens(), len(e.components))
	for i, c := range e.components {
		lengths := &tables[2*min(i, 1)+1].length
		for b := range c.blocks {
			thriftyBlock(&c.blocks[b], &e.exact[i][b], lengths)
		}
	}
}

// thriftyBlock drops coefficients that cost more bits than they are seen.
func thriftyBlock(block *[64]int16, exact *[64]float32, lengths *[256]byte) {
	cost := func(zeros int, v int16) int { // bits of a value behind so many zeros
		t := value(0, byte(zeros&15), v)
		n := int(lengths[t.symbol])
		if n == 0 {
			n = 16
		}
		return n + int(t.count) + zeros/16*max(int(lengths[0xf0]), 8)
	}
	next := 64 // place of the next value that is not zero
	for k := 63; k > 0; k-- {
		v := block[k]
		if v == 0 {
			continue
		}
		before := k - 1
		for before > 0 && block[before] == 0 {
			before--
		}
		lower := v - 1
		if v < 0 {
			lower = v + 1
		}
		saved := cost(k-before-1, v)
		switch {
		case lower != 0:
			saved -= cost(k-before-1, lower)
		case next < 64:
			saved += cost(next-k-1, block[next]) - cost(next-before-1, block[next])
		case k == 63:
			saved -= int(lengths[0]) // the block's end has to be said
		}
		to, from := float32(lower)-exact[k], float32(v)-exact[k]
		if to*to-from*from < bitWorth*float32(saved) {
			block[k] = lower
		}
		if block[k] != 0 {
			next = k
		}
	}
}

// transform is the discrete cosine transform of a block.
func transform(b *[64]float32) {
	var rows [64]float32
	for y := range 8 {
		s := b[8*y : 8*y+8]
		for u := range 8 {
			c := &cosines[u]
			rows[8*y+u] = c[0]*s[0] + c[1]*s[1] + c[2]*s[2] + c[3]*s[3] + c[4]*s[4] + c[5]*s[5] + c[6]*s[6] + c[7]*s[7]
		}
	}
	for u := range 8 {
		for v := range 8 {
			c := &cosines[v]
			b[8*v+u] = c[0]*rows[u] + c[1]*rows[8+u] + c[2]*rows[16+u] + c[3]*rows[24+u] + c[4]*rows[32+u] +
				c[5]*rows[40+u] + c[6]*rows[48+u] + c[7]*rows[56+u]
		}
	}
}

// token is a symbol of a Huffman table with the bits that follow it.
type token struct {
	table, symbol byte
	bits          uint16
	count         byte
}

// tokens are the symbols of all blocks in the order of the scan (ITU-T T.81, F.1.2). Tables 0 and 1 are those of
// luma, 2 and 3 those of chroma; the even ones of the first coefficients.
func (e *jpegEncoder) tokens() []token {
	var list []token
	before := make([]int16, len(e.components))
	units := len(e.components[0].blocks) / (e.components[0].step * e.components[0].step)
	across := e.components[0].across / e.components[0].step
	for u := range units {
		for i, c := range e.components {
			table := byte(0)
			if i > 0 {
				table = 2
			}
			for k := range c.step * c.step {
				block := &c.blocks[(u/across*c.step+k/c.step)*c.across+u%across*c.step+k%c.step]
				list = append(list, value(table, 0, block[0]-before[i]))
				before[i] = block[0]
				list = appendBlock(list, table+1, block)
			}
		}
	}
	return list
}

// appendBlock turns a block into tokens to be coded.
func appendBlock(list []token, table byte, block *[64]int16) []token {
	zeros := byte(0)
	for _, v := range block[1:] {
		if v == 0 {
			zeros++
			continue
		}
		for ; zeros > 15; zeros -= 16 {
			list = append(list, token{table: table, symbol: 0xf0})
		}
		list = append(list, value(table, zeros, v))
		zeros = 0
	}
	if zeros > 0 {
		list = append(list, token{table: table})
	}
	return list
}

// value is a number as its size and its bits.
func value(table, zeros byte, v int16) token {
	size := byte(0)
	for m := max(v, -v); m > 0; m >>= 1 {
		size++
	}
	if v < 0 {
		v--
	}
	return token{table, zeros<<4 | size, uint16(v) & (1<<size - 1), size}
}

// huffman is a table made for the symbols that are used.
type huffman struct {
	counts  [17]int // codes of each length
	symbols []byte
	code    [256]uint16
	length  [256]byte
}

// newHuffman works out the shortest codes of at most 16 bits (ITU-T T.81, K.2).
func newHuffman(used [256]int) *huffman {
	var frequency, size [257]int
	var other [257]int
	for i, n := range used {
		frequency[i] = n
		other[i] = -1
	}
	frequency[256], other[256] = 1, -1 // so that no code is all ones
	for {
		least, next := -1, -1
		for i, f := range frequency {
			switch {
			case f == 0:
			case least < 0 || f <= frequency[least]:
				least, next = i, least
			case next < 0 || f <= frequency[next]:
				next = i
			}
		}
		if next < 0 {
			break
		}
		frequency[least] += frequency[next]
		frequency[next] = 0
		for ; ; least = other[least] {
			size[least]++
			if other[least] < 0 {
				break
			}
		}
		for other[least] = next; next >= 0; next = other[next] {
			size[next]++
		}
	}
	return assigned(size)
}

// assigned shortens the lengths to 16 bits and gives out the codes (ITU-T T.81, K.3 and C.2).
func assigned(size [257]int) *huffman {
	var counts [64]int
	for _, s := range size {
		counts[min(s, 63)]++
	}
	counts[0] = 0
	for i := 63; i > 16; i-- {
		for counts[i] > 0 {
			j := i - 2
			for counts[j] == 0 {
				j--
			}
			counts[i] -= 2
			counts[i-1]++
			counts[j+1] += 2
			counts[j]--
		}
	}
	longest := 16
	for longest > 0 && counts[longest] == 0 {
		longest--
	}
	counts[longest]-- // the code that is not used
	h := &huffman{}
	copy(h.counts[:], counts[:17])
	for s := 1; s < 64; s++ {
		for i := range 256 {
			if size[i] == s {
				h.symbols = append(h.symbols, byte(i))
			}
		}
	}
	code, k := uint16(0), 0
	for length := 1; length <= 16; length++ {
		for range h.counts[length] {
			h.code[h.symbols[k]], h.length[h.symbols[k]] = code, byte(length)
			code++
			k++
		}
		code <<= 1
	}
	return h
}

// tablesFor makes the tables for a scan's symbols.
func tablesFor(list []token, components int) []*huffman {
	var used [4][256]int
	for _, t := range list {
		used[t.table][t.symbol]++
	}
	var tables []*huffman
	for i := range 2 * min(components, 2) {
		tables = append(tables, newHuffman(used[i]))
	}
	return tables
}

// write puts the file together (ITU-T T.81, B.2; JFIF 1.02).
func (e *jpegEncoder) write() []byte {
	e.thrift()
	list := e.tokens()
	out := []byte{0xff, 0xd8}
	segment := func(marker byte, body ...byte) {
		out = append(out, 0xff, marker)
		out = binary.BigEndian.AppendUint16(out, uint16(len(body)+2))
		out = append(out, body...)
	}
	dpi := max(e.resolution, 1)
	unit := byte(1)
	if e.resolution == 0 {
		unit = 0
	}
	segment(0xe0, 'J', 'F', 'I', 'F', 0, 1, 2, unit, byte(dpi>>8), byte(dpi), byte(dpi>>8), byte(dpi), 0, 0)
	quantum := []byte{0}
	for _, at := range zigzag {
		quantum = append(quantum, byte(e.quantum[at]))
	}
	segment(0xdb, quantum...)
	frame := []byte{8, byte(e.height >> 8), byte(e.height), byte(e.width >> 8), byte(e.width), byte(len(e.components))}
	scan := []byte{byte(len(e.components))}
	for i, c := range e.components {
		tables := byte(0)
		if i > 0 {
			tables = 0x11
		}
		frame = append(frame, byte(i+1), byte(c.step<<4|c.step), 0)
		scan = append(scan, byte(i+1), tables)
	}
	segment(0xc0, frame...)
	tables := tablesFor(list, len(e.components))
	for i, h := range tables {
		body := []byte{byte(i&1<<4 | i>>1)}
		for _, n := range h.counts[1:] {
			body = append(body, byte(n))
		}
		segment(0xc4, append(body, h.symbols...)...)
	}
	segment(0xda, append(scan, 0, 63, 0)...)
	return append(packed(out, list, tables), 0xff, 0xd9)
}

// packed writes the symbols' codes and bits; a byte of all ones is followed by a nought (ITU-T T.81, F.1.2.3).
func packed(out []byte, list []token, tables []*huffman) []byte {
	var held uint64
	var count byte
	put := func(bits uint16, n byte) {
		held = held<<n | uint64(bits)
		for count += n; count >= 8; count -= 8 {
			b := byte(held >> (count - 8))
			out = append(out, b)
			if b == 0xff {
				out = append(out, 0)
			}
		}
	}
	for _, t := range list {
		h := tables[t.table]
		put(h.code[t.symbol], h.length[t.symbol])
		put(t.bits, t.count)
	}
	if count > 0 {
		put(1<<(8-count)-1, 8-count)
	}
	return out
}
