// Package picture reads what matters about a picture file: its true pixels, format and weight.
package picture

import (
	"bytes"
	"fmt"
	"image"

	_ "image/gif"  // formats that Probe knows
	_ "image/jpeg" // formats that Probe knows
	_ "image/png"  // formats that Probe knows
)

// MaxBytes is the largest picture file that is read, in bytes.
const MaxBytes = 4 << 20

// MaxPixels is the largest width or height that is accepted, in pixels.
const MaxPixels = 10_000

// Facts are what Probe finds.
type Facts struct {
	Format string `json:"format"` // png, jpeg or gif
	Width  int    `json:"width"`  // true pixels
	Height int    `json:"height"` // true pixels
	Bytes  int    `json:"bytes"`
}

// Probe reads a picture's header; the pixels are not decoded. The format is told from the content,
// not from the file's name. PNG, JPEG and GIF are known.
func Probe(data []byte) (Facts, error) {
	if len(data) > MaxBytes {
		return Facts{}, fmt.Errorf("the picture is %d kB; at most %d kB are read", len(data)>>10, MaxBytes>>10)
	}
	config, format, err := image.DecodeConfig(bytes.NewReader(data))
	if err != nil {
		return Facts{}, fmt.Errorf("this is not a PNG, JPEG or GIF picture: %w", err)
	}
	if config.Width > MaxPixels || config.Height > MaxPixels {
		return Facts{}, fmt.Errorf("the picture has %d x %d px; at most %d are accepted each way", config.Width, config.Height, MaxPixels)
	}
	return Facts{Format: format, Width: config.Width, Height: config.Height, Bytes: len(data)}, nil
}
