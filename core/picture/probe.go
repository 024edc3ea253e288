// Package picture is the heart of what is done to pictures: it reads them safely whatever they are (Probe, Read),
// makes the exact rendition for a display size (Fit), cuts shapes into the pixels, slices a design into linked
// pieces (Cut), makes files lighter without a visible loss (Compress), finds and fixes pictures that vanish on dark
// background (Dark), draws code pictures (Code), and judges what an address answers (Judge). Pictures go in and come
// out as plain bytes; everything between is Picture.
package picture

import (
	"bytes"
	"errors"
	"fmt"
	"image"
	"slices"
	"strings"

	_ "image/gif"  // formats that are read
	_ "image/jpeg" // formats that are read
	_ "image/png"  // formats that are read

	_ "golang.org/x/image/bmp"  // formats that are read
	_ "golang.org/x/image/tiff" // formats that are read
	_ "golang.org/x/image/webp" // formats that are read

	"missivum/core/problem"
)

// Limits of a picture that is read. They are held against the header, before anything is decoded.
const (
	MaxBytes  = 32 << 20   // bytes of the file
	maxSide   = 20_000     // pixels, width or height
	maxArea   = 24_000_000 // pixels, width times height, of all frames together
	maxFrames = 300        // frames of an animation
)

// The formats, as the content shows them.
const (
	PNG  = "png"
	JPEG = "jpeg"
	GIF  = "gif"
	WebP = "webp"
	BMP  = "bmp"
	TIFF = "tiff"
	SVG  = "svg"
)

// Mailable are the formats that every client that shows pictures draws; only these are written.
var Mailable = []string{PNG, JPEG, GIF}

// ErrUnreadable is returned, wrapped with the reason, for what cannot be read as a picture.
var ErrUnreadable error = problem.New(problem.Refused, "not a picture that can be read")

// Facts are what Probe finds.
type Facts struct {
	Format      string   `json:"format"`
	Width       int      `json:"width"`       // true pixels, upright
	Height      int      `json:"height"`      // true pixels, upright
	Bytes       int      `json:"bytes"`       // of the file
	Resolution  int      `json:"resolution"`  // tagged pixels per inch; 0 for none
	Depth       int      `json:"depth"`       // bits of a channel
	Colours     string   `json:"colours"`     // rgb, grey, palette or cmyk
	Profile     string   `json:"profile"`     // name of the colour profile; empty for none
	Transparent bool     `json:"transparent"` // some of it may be seen through
	Frames      int      `json:"frames"`      // 1 when it does not move
	Interlaced  bool     `json:"interlaced"`  // or progressive
	Turned      int      `json:"turned"`      // orientation tag (EXIF 2.32, 4.6.4), 1 to 8; 0 for none
	Holds       []string `json:"holds"`       // what it holds besides the picture: camera, place, text
}

// Ending is the usual ending of the format's file names, with its dot.
func Ending(format string) string {
	if format == JPEG {
		return ".jpg"
	}
	return "." + format
}

// Media is the format's media type (RFC 2046, RFC 9649, W3C SVG).
func Media(format string) string {
	if format == SVG {
		return "image/svg+xml"
	}
	return "image/" + format
}

// Probe reads a picture's header; the pixels are not decoded. The format follows from the content, not from a
// name. An error wraps ErrUnreadable and says what is wrong.
func Probe(data []byte) (Facts, error) {
	h, err := readHeader(data)
	if err != nil {
		return Facts{}, fmt.Errorf("%w: %w", ErrUnreadable, err)
	}
	return h.Facts, nil
}

// header is what stands in a file before its pixels.
type header struct {
	Facts
	icc []byte // colour profile
}

// format is how a format begins and what reads its header.
type format struct {
	name  string
	magic []string
	read  func(*header, []byte) error
}

// formats are recognised by how they begin; a question mark stands for any byte.
var formats = []format{
	{PNG, []string{"\x89PNG\r\n\x1a\n"}, (*header).png},
	{JPEG, []string{"\xff\xd8\xff"}, (*header).jpeg},
	{GIF, []string{"GIF87a", "GIF89a"}, (*header).gif},
	{WebP, []string{"RIFF????WEBP"}, (*header).webp},
	{BMP, []string{"BM????\x00\x00\x00\x00"}, (*header).bmp},
	{TIFF, []string{"II*\x00", "MM\x00*"}, (*header).tiff},
}

// sniff recognises a picture's format from how it begins; empty for what is none of them.
func sniff(data []byte) string {
	for _, f := range formats {
		if slices.ContainsFunc(f.magic, func(magic string) bool { return begins(data, magic) }) {
			return f.name
		}
	}
	if looksLikeSVG(data) {
		return SVG
	}
	return ""
}

// begins reports whether data begins with a mark.
func begins(data []byte, magic string) bool {
	if len(data) < len(magic) {
		return false
	}
	for i := range len(magic) {
		if magic[i] != '?' && magic[i] != data[i] {
			return false
		}
	}
	return true
}

// readHeader reads what stands before the pixels.
func readHeader(data []byte) (*header, error) {
	if len(data) > MaxBytes {
		return nil, fmt.Errorf("the file has %d kB; at most %d kB are read", len(data)>>10, MaxBytes>>10)
	}
	h := &header{Facts: Facts{Format: sniff(data), Bytes: len(data), Depth: 8, Colours: "rgb", Frames: 1, Holds: []string{}}}
	var err error
	switch h.Format {
	case "":
		return nil, unknownContent(data)
	case SVG:
		err = h.svg(data)
	default:
		i := slices.IndexFunc(formats, func(f format) bool { return f.name == h.Format })
		err = formats[i].read(h, data)
	}
	if err != nil {
		return nil, fmt.Errorf("a %s file that is broken: %w", strings.ToUpper(h.Format), err)
	}
	if h.Turned >= 5 {
		h.Width, h.Height = h.Height, h.Width
	}
	if h.icc != nil {
		h.Profile = profileName(h.icc)
	}
	slices.Sort(h.Holds)
	h.Holds = slices.Compact(h.Holds)
	return h, h.limits()
}

// limits refuses what would take up too much space once decoded.
func (h *header) limits() error {
	switch {
	case h.Width < 1 || h.Height < 1:
		return fmt.Errorf("it has %d x %d px", h.Width, h.Height)
	case h.Width > maxSide || h.Height > maxSide:
		return fmt.Errorf("it claims %d x %d px; at most %d are read each way", h.Width, h.Height, maxSide)
	case h.Width*h.Height > maxArea:
		return fmt.Errorf("it claims %d x %d px; at most %d million are read", h.Width, h.Height, maxArea/1_000_000)
	case h.Frames > maxFrames:
		return fmt.Errorf("it has more than %d frames", maxFrames)
	case h.Width*h.Height*h.Frames > maxArea:
		return fmt.Errorf("its %d frames claim %d million pixels together; at most %d are read", h.Frames,
			h.Width*h.Height*h.Frames/1_000_000, maxArea/1_000_000)
	}
	return nil
}

// unknownContent says what the content is instead of a picture, as far as it can be reported.
func unknownContent(data []byte) error {
	start := bytes.ToLower(bytes.TrimLeft(data[:min(len(data), 512)], " \t\r\n\ufeff"))
	is := func(prefixes ...string) bool {
		return slices.ContainsFunc(prefixes, func(p string) bool { return bytes.HasPrefix(start, []byte(p)) })
	}
	switch {
	case len(data) == 0:
		return errors.New("the file is empty")
	case is("<!doctype html", "<html", "<head", "<body"):
		return errors.New("it is a web page, not a picture")
	case is("%pdf"):
		return errors.New("it is a PDF document; save the picture from it as PNG")
	case len(data) > 12 && string(data[4:8]) == "ftyp":
		return errors.New("it is an AVIF, HEIC or video file, which mail clients do not draw; save it as PNG or JPEG")
	case is("8bps", "%!ps"):
		return errors.New("it is a drawing program's own file; save the picture from it as PNG")
	}
	return errors.New("it is not a PNG, JPEG, GIF, WebP, BMP, TIFF or SVG picture")
}

// decodable holds what a decoder says of the size against what the header said.
func decodable(data []byte, h *header) error {
	c, format, err := image.DecodeConfig(bytes.NewReader(data))
	if err != nil {
		return err
	}
	width, height := h.Width, h.Height
	if h.Turned >= 5 {
		width, height = height, width
	}
	if format != h.Format || c.Width != width || c.Height != height {
		return fmt.Errorf("its parts contradict each other: %s of %d x %d px and %s of %d x %d px", h.Format, width, height,
			format, c.Width, c.Height)
	}
	return nil
}
