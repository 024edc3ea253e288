package picture

import (
	"bytes"
	"image/jpeg"
	"testing"

	"missivum/demo/drawing"
)

// BenchmarkFit fits a portrait as a camera saves it; the ratio is to decoding it alone.
func BenchmarkFit(b *testing.B) {
	data, err := drawing.PortraitJPEG(3, 900, 1200)
	if err != nil {
		b.Fatal(err)
	}
	b.Run("decode", func(b *testing.B) {
		for b.Loop() {
			if _, err := jpeg.Decode(bytes.NewReader(data)); err != nil {
				b.Fatal(err)
			}
		}
	})
	for name, recipe := range map[string]Recipe{
		"96px":           {Width: 96, Height: 96},
		"96px round":     {Width: 96, Height: 96, Detect: true, Shape: Round, Background: "#ffffff"},
		"480px no limit": {Width: 480},
	} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				if _, err := Fit(data, recipe); err != nil {
					b.Fatal(err)
				}
			}
			b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "pictures/s")
		})
	}
}
