// Command measure compares the renditions that Missivum makes of the demo's pictures and of portraits with a plain
// library resize saved at default settings, and prints the table of docs/performance.md.
package main

import (
	"bytes"
	"cmp"
	"fmt"
	"image"
	"image/jpeg"
	"image/png"
	"log"
	"slices"

	"golang.org/x/image/draw"

	"missivum/core/picture"
	"missivum/demo"
	"missivum/demo/drawing"
)

// subject is one picture and the width in px at which it is shown, at two pixels for each px.
type subject struct {
	name  string
	data  []byte
	width int
	photo bool
}

func main() {
	log.SetFlags(0)
	list, err := subjects()
	if err != nil {
		log.Fatal(err)
	}
	fmt.Println("| picture | pixels | plain, bytes | difference | rendition, bytes | difference | share | as close, bytes | share |")
	fmt.Println("|---|---|---:|---:|---:|---:|---:|---:|---:|")
	var all, drawings, photos []float64
	for _, s := range list {
		share, err := compare(s)
		if err != nil {
			log.Fatalf("%s: %v", s.name, err)
		}
		all = append(all, share)
		if s.photo {
			photos = append(photos, share)
		} else {
			drawings = append(drawings, share)
		}
	}
	fmt.Printf("\nMedian share when at least as close: %.0f %% (drawings %.0f %%, photographs %.0f %%).\n", 100*median(all),
		100*median(drawings), 100*median(photos))
}

func subjects() ([]subject, error) {
	var list []subject
	templates, err := demo.Templates()
	if err != nil {
		return nil, err
	}
	for _, t := range templates {
		for _, p := range t.Pictures {
			if p.Format == picture.PNG {
				list = append(list, subject{t.Name + "/" + p.File, p.Data, p.Width / 4, false})
			}
		}
	}
	originals, err := demo.Pictures()
	if err != nil {
		return nil, err
	}
	list = append(list, subject{"crossings.png", originals["crossings.png"], 240, false},
		subject{"anchor.png", originals["anchor.png"], 44, false})
	for seed := range uint64(9) {
		data, err := drawing.PortraitJPEG(seed, 900, 1200)
		if err != nil {
			return nil, err
		}
		list = append(list, subject{fmt.Sprintf("portrait %d", seed), data, []int{72, 96, 120}[seed%3], true})
	}
	return list, nil
}

// compare prints a line and gives the share of bytes at which the rendition is at least as close as the plain one.
func compare(s subject) (float64, error) {
	read, err := picture.Read(s.data)
	if err != nil {
		return 0, err
	}
	recipe := picture.Recipe{Width: s.width, Multiple: 2}
	w, h := recipe.Display(read.Facts)
	// what is compared with: the original's light averaged over each pixel
	reference := picture.Resized(read.Image(), 2*w, 2*h)
	plain, weight, err := plainResize(s, 2*w, 2*h)
	if err != nil {
		return 0, err
	}
	plainDifference := picture.Difference(reference, plain)
	made, err := read.Fit(recipe)
	if err != nil {
		return 0, err
	}
	closer := made
	for threshold := plainDifference; picture.Difference(reference, closer.Shown) > plainDifference || closer == made; threshold *= 0.95 {
		recipe.Threshold = max(threshold, 1e-6)
		if closer, err = read.Fit(recipe); err != nil {
			return 0, err
		}
		if threshold < 1e-5 {
			break
		}
	}
	share := func(n int) float64 { return float64(n) / float64(weight) }
	fmt.Printf("| %s | %d x %d | %d | %.4f | %d | %.4f | %.0f %% | %d | %.0f %% |\n", s.name, 2*w, 2*h, weight, plainDifference,
		len(made.Data), picture.Difference(reference, made.Shown), 100*share(len(made.Data)), len(closer.Data), 100*share(len(closer.Data)))
	return share(len(closer.Data)), nil
}

// plainResize is what a program does that thinks no further: a good library's kernel, and the encoder's defaults.
func plainResize(s subject, width, height int) (*image.NRGBA, int, error) {
	source, _, err := image.Decode(bytes.NewReader(s.data))
	if err != nil {
		return nil, 0, err
	}
	made := image.NewNRGBA(image.Rect(0, 0, width, height))
	draw.CatmullRom.Scale(made, made.Rect, source, source.Bounds(), draw.Src, nil)
	var b bytes.Buffer
	if s.photo {
		err = jpeg.Encode(&b, made, nil)
	} else {
		err = png.Encode(&b, made)
	}
	if err != nil {
		return nil, 0, err
	}
	back, err := picture.Read(b.Bytes())
	if err != nil {
		return nil, 0, err
	}
	return back.Image(), b.Len(), nil
}

func median(list []float64) float64 {
	slices.SortFunc(list, cmp.Compare)
	if n := len(list); n%2 == 0 {
		return (list[n/2-1] + list[n/2]) / 2
	}
	return list[len(list)/2]
}
