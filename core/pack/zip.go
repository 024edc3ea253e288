package pack

import (
	"bufio"
	"encoding/binary"
	"fmt"
	"io"
	"math"
)

// Spool keeps what grows with a package until its end: it is written once, then read from the beginning,
// then closed, which leaves nothing behind.
type Spool interface {
	io.ReadWriteCloser
	io.Seeker
}

// The signatures of the ZIP file format (APPNOTE 6.3.10, 4.3).
const (
	zipLocal        = 0x04034b50
	zipCentral      = 0x02014b50
	zipEnd64        = 0x06064b50
	zipEnd64Locator = 0x07064b50
	zipEnd          = 0x06054b50
)

// The methods of compression (APPNOTE 6.3.10, 4.4.5).
const (
	methodStore   = 0
	methodDeflate = 8
)

// zipNames are UTF-8 (APPNOTE 6.3.10, 4.4.4, bit 11).
const zipNames = 1 << 11

// zipDay is 1980-01-01, the day of every file: none is meant, and the same input must give the same bytes.
const zipDay = 1<<5 | 1

// zipEntry is a file of which everything is known before it is written.
type zipEntry struct {
	name   string
	method uint16
	crc    uint32
	size   int64 // unpacked
	packed int64
}

// zipWriter writes a zip file. Its directory, which stands at the end, is spooled: archive/zip keeps half a
// kilobyte a file in memory, and packages have millions of files.
type zipWriter struct {
	out     *bufio.Writer
	spool   Spool
	central *bufio.Writer
	at      int64 // bytes written
	files   int64
	record  []byte
}

// newZipWriter begins a zip whose directory grows in a temporary file.
func newZipWriter(w io.Writer, spool Spool) *zipWriter {
	return &zipWriter{out: bufio.NewWriterSize(w, 64<<10), spool: spool, central: bufio.NewWriterSize(spool, 64<<10)}
}

// add writes a file; content must be as long as the entry says.
func (z *zipWriter) add(e zipEntry, content io.Reader) error {
	start := z.at
	b := binary.LittleEndian.AppendUint32(z.record[:0], zipLocal)
	b = e.common(b, 20)
	b = binary.LittleEndian.AppendUint32(b, uint32(e.packed))
	b = binary.LittleEndian.AppendUint32(b, uint32(e.size))
	b = binary.LittleEndian.AppendUint16(b, uint16(len(e.name)))
	b = binary.LittleEndian.AppendUint16(b, 0) // no extra field: no file of a package has 4 GB
	b = append(b, e.name...)
	z.record = b
	if e.size > math.MaxUint32 || e.packed > math.MaxUint32 || len(e.name) > math.MaxUint16 {
		return fmt.Errorf("%s is too large for a package", e.name)
	}
	if _, err := z.out.Write(b); err != nil {
		return err
	}
	n, err := io.Copy(z.out, content)
	if err == nil && n != e.packed {
		err = fmt.Errorf("%s has %d bytes, %d were announced", e.name, n, e.packed)
	}
	if err != nil {
		return err
	}
	z.at += int64(len(b)) + n
	z.files++
	return z.enter(e, start)
}

// common is what a file's header has in both places (APPNOTE 6.3.10, 4.3.7).
func (e *zipEntry) common(b []byte, version uint16) []byte {
	b = binary.LittleEndian.AppendUint16(b, version)
	b = binary.LittleEndian.AppendUint16(b, zipNames)
	b = binary.LittleEndian.AppendUint16(b, e.method)
	b = binary.LittleEndian.AppendUint16(b, 0) // midnight
	b = binary.LittleEndian.AppendUint16(b, zipDay)
	return binary.LittleEndian.AppendUint32(b, e.crc)
}

// enter spools a file's record of the directory (APPNOTE 6.3.10, 4.3.12).
func (z *zipWriter) enter(e zipEntry, start int64) error {
	version, offset := uint16(20), uint32(start)
	var extra []byte
	if start >= math.MaxUint32 { // ZIP64 (4.5.3)
		version, offset = 45, math.MaxUint32
		extra = binary.LittleEndian.AppendUint16(extra, 1)
		extra = binary.LittleEndian.AppendUint16(extra, 8)
		extra = binary.LittleEndian.AppendUint64(extra, uint64(start))
	}
	b := binary.LittleEndian.AppendUint32(z.record[:0], zipCentral)
	b = binary.LittleEndian.AppendUint16(b, version)
	b = e.common(b, version)
	b = binary.LittleEndian.AppendUint32(b, uint32(e.packed))
	b = binary.LittleEndian.AppendUint32(b, uint32(e.size))
	b = binary.LittleEndian.AppendUint16(b, uint16(len(e.name)))
	b = binary.LittleEndian.AppendUint16(b, uint16(len(extra)))
	b = append(b, make([]byte, 2+2+2+4)...) // no comment, first disk, no attributes
	b = binary.LittleEndian.AppendUint32(b, offset)
	b = append(append(b, e.name...), extra...)
	z.record = b
	_, err := z.central.Write(b)
	return err
}

// finish writes the directory and closes the spool.
func (z *zipWriter) finish() error {
	if err := z.central.Flush(); err != nil {
		return err
	}
	if _, err := z.spool.Seek(0, io.SeekStart); err != nil {
		return err
	}
	start := uint64(z.at)
	n, err := io.Copy(z.out, z.spool)
	if err != nil {
		return err
	}
	length, files := uint64(n), uint64(z.files)
	var b []byte
	if files >= math.MaxUint16 || length >= math.MaxUint32 || start >= math.MaxUint32 {
		b = binary.LittleEndian.AppendUint32(b, zipEnd64)
		b = binary.LittleEndian.AppendUint64(b, 44)
		b = binary.LittleEndian.AppendUint16(b, 45)
		b = binary.LittleEndian.AppendUint16(b, 45)
		b = append(b, make([]byte, 8)...) // this disk and the directory's
		for _, v := range []uint64{files, files, length, start} {
			b = binary.LittleEndian.AppendUint64(b, v)
		}
		b = binary.LittleEndian.AppendUint32(b, zipEnd64Locator)
		b = append(b, make([]byte, 4)...)
		b = binary.LittleEndian.AppendUint64(b, start+length)
		b = binary.LittleEndian.AppendUint32(b, 1)
	}
	b = binary.LittleEndian.AppendUint32(b, zipEnd)
	b = append(b, make([]byte, 4)...)
	for range 2 {
		b = binary.LittleEndian.AppendUint16(b, uint16(min(files, math.MaxUint16)))
	}
	b = binary.LittleEndian.AppendUint32(b, uint32(min(length, math.MaxUint32)))
	b = binary.LittleEndian.AppendUint32(b, uint32(min(start, math.MaxUint32)))
	b = binary.LittleEndian.AppendUint16(b, 0)
	if _, err := z.out.Write(b); err != nil {
		return err
	}
	return z.out.Flush()
}
