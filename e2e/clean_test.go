package e2e

import (
	"bytes"
	"fmt"
	"image"
	"image/png"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"missivum/core/clean"
)

// TestCleanedPagesLookTheSame draws every messy page before and after in Chromium and compares the drawings
// pixel by pixel. Where tags are taken from between letters, which has to be asked for, some letters move.
func TestCleanedPagesLookTheSame(t *testing.T) {
	t.Parallel()
	files, err := filepath.Glob("../core/clean/testdata/messy/*.html")
	if err != nil || len(files) < 25 {
		t.Fatalf("%d messy pages, %v", len(files), err)
	}
	pages := map[string]string{}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		fmt.Fprint(w, pages[strings.TrimPrefix(r.URL.Path, "/")])
	}))
	defer server.Close()
	tab := browser(t)
	draw := func(name string) image.Image {
		if err := chromedp.Do(tab, chromedp.Navigate(server.URL+"/"+name)); err != nil {
			t.Fatal(err)
		}
		shot, err := chromedp.Run(tab, chromedp.CaptureScreenshot())
		if err != nil {
			t.Fatal(err)
		}
		drawn, err := png.Decode(bytes.NewReader(shot))
		if err != nil {
			t.Fatal(err)
		}
		return drawn
	}
	for _, file := range files {
		name := filepath.Base(file)
		t.Run(name, func(t *testing.T) {
			source, err := os.ReadFile(file)
			if err != nil {
				t.Fatal(err)
			}
			cleaned, err := clean.Clean(string(source), clean.Options{Tracking: true})
			if err != nil {
				t.Fatal(err)
			}
			pages["before"], pages["after"] = string(source), cleaned.Source
			before, after := draw("before"), draw("after")
			if blank(before) {
				t.Fatal("the page draws nothing")
			}
			if n := differing(before, after); n > 0 {
				t.Errorf("%d pixels look otherwise:\n%s", n, cleaned.Source)
			}
			joined, err := clean.Clean(string(source), clean.Options{Tracking: true, JoinText: true})
			if err != nil {
				t.Fatal(err)
			}
			pages["after"] = joined.Source
			if n := differing(before, draw("after")); n > maxMoved {
				t.Errorf("with joined text %d pixels look otherwise:\n%s", n, joined.Source)
			}
		})
	}
}

// maxMoved is how many pixels of a page may change when letters move by a part of a pixel.
const maxMoved = 300

// differing counts the pixels that are not alike.
func differing(a, b image.Image) int {
	n := 0
	for y := a.Bounds().Min.Y; y < a.Bounds().Max.Y; y++ {
		for x := a.Bounds().Min.X; x < a.Bounds().Max.X; x++ {
			if a.At(x, y) != b.At(x, y) {
				n++
			}
		}
	}
	return n
}

// blank reports whether all pixels are alike.
func blank(a image.Image) bool {
	first := a.At(0, 0)
	for y := a.Bounds().Min.Y; y < a.Bounds().Max.Y; y++ {
		for x := a.Bounds().Min.X; x < a.Bounds().Max.X; x++ {
			if a.At(x, y) != first {
				return false
			}
		}
	}
	return true
}
