// Package pictures is a stand-in for a picture host that does everything that goes wrong with hosted pictures, one
// fault at each path. Start with Handler; Faults lists the paths.
package pictures

import (
	"bytes"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"math/rand/v2"
	"net/http"
	"time"
)

// Fault is a path of the host and what the check of it must find.
type Fault struct {
	Path  string
	Finds string // id of the fault, empty for none
}

// Faults lists what the host shows. Now is the time by which addresses end.
func Faults(now time.Time) []Fault {
	return []Fault{
		{"/good.png", ""},
		{"/page.png", "page"},
		{"/sign-in.png", "sign-in"},
		{"/to-login.png", "sign-in"},
		{"/closed.png", "sign-in"},
		{"/form.png", "sign-in"},
		{"/gone.png", "missing"},
		{"/fails.png", "status"},
		{"/nothing.png", "status"},
		{"/called-text.png", "type"},
		{"/called-png.png", "type"},
		{"/modern.png", "format"},
		{"/words.png", "content"},
		{"/heavy.png", "weight"},
		{"/endless.png", "weight"},
		{"/slow.png", "time"},
		{"/moved.png", "redirects"},
		{"/loop.png", "redirects"},
		{"/forgotten.png", "cache"},
		{"/ended.png", "cache"},
		{"/cookie.png", "cookie"},
		{fmt.Sprintf("/good.png?expires=%d", now.Add(time.Hour).Unix()), "expires"},
		{"/good.png?token=0f3a", "expires"},
		{"/large.png", "size"},
	}
}

// Slow is how long /slow.png takes.
const Slow = 2100 * time.Millisecond

// Handler is the host. private is where /to-private.png leads.
func Handler(private string) http.Handler {
	mux := http.NewServeMux()
	good := pngOf(120, 40)
	lasting := func(w http.ResponseWriter) {
		w.Header().Set("Content-Type", "image/png")
		w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
	}
	serve := func(path string, data []byte, change func(http.Header)) {
		mux.HandleFunc(path, func(w http.ResponseWriter, _ *http.Request) {
			lasting(w)
			if change != nil {
				change(w.Header())
			}
			w.Write(data)
		})
	}
	lead := func(path, to string) {
		mux.HandleFunc(path, func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, to, http.StatusFound) })
	}
	status := func(path string, code int) {
		mux.HandleFunc(path, func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(code) })
	}
	html := func(h http.Header) { h.Set("Content-Type", "text/html; charset=utf-8") }
	page := []byte("<!doctype html><html><title>logo.png</title><img src=good.png></html>")
	form := []byte(`<!doctype html><html><form><input name=user><input type="password" name=word></form></html>`)

	serve("/good.png", good, nil)
	serve("/page.png", page, html)
	serve("/form.png", form, html)
	serve("/login", form, html)
	lead("/to-login.png", "/login?next=logo.png")
	lead("/moved.png", "/good.png")
	lead("/loop.png", "/loop.png")
	lead("/to-private.png", private)
	status("/sign-in.png", http.StatusUnauthorized)
	status("/closed.png", http.StatusForbidden)
	status("/gone.png", http.StatusNotFound)
	status("/fails.png", http.StatusInternalServerError)
	status("/nothing.png", http.StatusNoContent)
	serve("/called-text.png", good, func(h http.Header) { h.Set("Content-Type", "text/plain") })
	serve("/called-png.png", jpegOf(120, 40), nil)
	serve("/modern.png", []byte(`<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 120 40"><path d="M0 0h120v40z"/></svg>`),
		func(h http.Header) { h.Set("Content-Type", "image/svg+xml") })
	serve("/words.png", []byte("There was a picture here."), nil)
	serve("/heavy.png", grain(400), nil)
	serve("/endless.png", make([]byte, 9<<20), nil)
	serve("/large.png", pngOf(840, 280), nil)
	serve("/forgotten.png", good, func(h http.Header) { h.Set("Cache-Control", "no-store") })
	serve("/ended.png", good, func(h http.Header) { h.Del("Cache-Control"); h.Set("Expires", "Thu, 01 Jan 2026 00:00:00 GMT") })
	serve("/cookie.png", good, func(h http.Header) { h.Set("Set-Cookie", "seen=1") })
	mux.HandleFunc("/slow.png", func(w http.ResponseWriter, r *http.Request) {
		select {
		case <-time.After(Slow):
		case <-r.Context().Done():
		}
		lasting(w)
		w.Write(good)
	})
	return mux
}

func drawn(width, height int) image.Image {
	img := image.NewRGBA(image.Rect(0, 0, width, height))
	for i := range img.Pix {
		img.Pix[i] = [4]uint8{11, 60, 73, 255}[i%4]
	}
	return img
}

func pngOf(width, height int) []byte {
	var b bytes.Buffer
	png.Encode(&b, drawn(width, height)) // writing to memory does not fail
	return b.Bytes()
}

func jpegOf(width, height int) []byte {
	var b bytes.Buffer
	jpeg.Encode(&b, drawn(width, height), nil) // writing to memory does not fail
	return b.Bytes()
}

// grain is a picture that cannot be packed.
func grain(size int) []byte {
	img := image.NewRGBA(image.Rect(0, 0, size, size))
	r := rand.New(rand.NewPCG(1, 2))
	for y := range size {
		for x := range size {
			img.Set(x, y, color.RGBA{uint8(r.UintN(256)), uint8(r.UintN(256)), uint8(r.UintN(256)), 255})
		}
	}
	var b bytes.Buffer
	png.Encode(&b, img) // writing to memory does not fail
	return b.Bytes()
}
