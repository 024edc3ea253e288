package drawing

import (
	"bytes"
	"context"
	"errors"
	"image"
	"image/color"
	"image/png"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"missivum/core/check"
	"missivum/core/client"
	"missivum/core/problem"
	"missivum/core/sheet"
	"missivum/core/template"
	"missivum/demo"
)

func encoded(t *testing.T, img image.Image) []byte {
	t.Helper()
	var b bytes.Buffer
	if err := png.Encode(&b, img); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func decoded(t *testing.T, data []byte) image.Image {
	t.Helper()
	img, err := png.Decode(bytes.NewReader(data))
	if err != nil {
		t.Fatal(err)
	}
	return img
}

func TestTrimmed(t *testing.T) {
	page := image.NewNRGBA(image.Rect(0, 0, 200, 300))
	for y := range 300 {
		for x := range 200 {
			page.Set(x, y, color.White)
		}
	}
	empty := encoded(t, page)
	if out, err := trimmed(empty); err != nil || !bytes.Equal(out, empty) {
		t.Errorf("an empty page: %v", err)
	}
	for _, at := range []image.Point{{50, 60}, {89, 99}} {
		page.Set(at.X, at.Y, color.Black)
	}
	out, err := trimmed(encoded(t, page))
	if err != nil {
		t.Fatal(err)
	}
	if got := decoded(t, out).Bounds(); got.Dx() != 40+16 || got.Dy() != 40+16 {
		t.Errorf("%v", got)
	}
	page.Set(0, 0, color.Black) // the room around it ends at the page's edge
	if out, err = trimmed(encoded(t, page)); err != nil || decoded(t, out).Bounds().Dx() != 90+8 {
		t.Errorf("%v", err)
	}
	if _, err := trimmed([]byte("no picture")); err == nil {
		t.Error("no error")
	}
}

func TestPageIsDrawnWhole(t *testing.T) {
	if _, err := Chromium(); err != nil {
		t.Skip(err)
	}
	data, err := Page(context.Background(),
		`<!doctype html><body style="margin: 0"><div style="height: 1700px; background: #ffffff"></div><div `+
			`style="height: 20px; background: #0b3c49"></div>`, 320)
	if err != nil {
		t.Fatal(err)
	}
	img := decoded(t, data)
	if b := img.Bounds(); b.Dx() != 320 || b.Dy() != 1720 {
		t.Fatalf("%v", b)
	}
	if r, g, b, _ := img.At(100, 1710).RGBA(); r>>8 != 0x0b || g>>8 != 0x3c || b>>8 != 0x49 {
		t.Errorf("the end of the page is %x %x %x", r>>8, g>>8, b>>8)
	}
	stopped, cancel := context.WithCancel(context.Background())
	cancel()
	if _, err := Page(stopped, "x", 320); err == nil {
		t.Error("it went on")
	}
}

func TestWriterDraws(t *testing.T) {
	data, err := writer(context.Background(),
		`<!doctype html><html><head><meta charset="utf-8"></head><body><p style="font-size: 24px">Häfen</p></body></html>`)
	if errors.Is(err, errNoOffice) {
		t.Skip(err)
	}
	if err != nil {
		t.Fatal(err)
	}
	if b := decoded(t, data).Bounds(); b.Dx() < 40 || b.Dx() > 400 || b.Dy() > 200 {
		t.Errorf("%v: the paper was not cut off", b)
	}
}

func TestPastesOneAfterTheOther(t *testing.T) {
	if _, err := Chromium(); err != nil {
		t.Skip(err)
	}
	list, err := PastedEach(context.Background(), []string{`<div>a</div><div style="color:#123456">b</div>`,
		`<div>c</div><table><tr><td>d</td></tr></table>`})
	if err != nil {
		t.Fatal(err)
	}
	for i, want := range []string{`<div>a</div><div style="color: rgb(18, 52, 86);">b</div>`,
		`<div>c</div><table><tbody><tr><td>d</td></tr></tbody></table>`} {
		if list[i] != want {
			t.Errorf("%s, want %s", list[i], want)
		}
	}
	stopped, cancel := context.WithCancel(context.Background())
	cancel()
	if _, err := Pasted(stopped, "x"); err == nil {
		t.Error("it went on")
	}
}

func TestSheetAsPageAndAsPicture(t *testing.T) {
	tmpl, err := demo.Template("harbour")
	if err != nil {
		t.Fatal(err)
	}
	people, err := demo.Directory()
	if err != nil {
		t.Fatal(err)
	}
	day := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	profiles := []*client.Profile{client.Find("gecko-desktop"), client.Find("wordproc-desktop")}
	report, err := check.Run(context.Background(), check.Input{Template: tmpl, People: people, Profiles: profiles, Day: day})
	if err != nil {
		t.Fatal(err)
	}
	in := sheet.Input{Template: tmpl, People: people, Chosen: []int{0}, Profiles: profiles, Views: []sheet.View{sheet.Light}, Day: day}
	page, err := Sheet(context.Background(), in, report, SheetOptions{})
	if err != nil || !strings.Contains(string(page), "Harbour: contact sheet") || strings.Contains(string(page), "LibreOffice") {
		t.Errorf("%v\n%.200s", err, page)
	}
	alone := in
	alone.Profiles = profiles[:1]
	if _, err := Sheet(context.Background(), alone, report, SheetOptions{SecondOpinion: true}); !errors.Is(err, ErrNoWordProcessor) {
		t.Errorf("a second opinion on nothing: %v", err)
	}
	page, err = Sheet(context.Background(), in, report, SheetOptions{SecondOpinion: true})
	if errors.Is(err, errNoOffice) {
		t.Skip(err)
	}
	if err != nil || !strings.Contains(string(page), "Rendered by LibreOffice Writer") {
		t.Errorf("%v\n%.200s", err, page)
	}
	if _, err := Chromium(); err != nil {
		t.Skip(err)
	}
	picture, err := Sheet(context.Background(), in, report, SheetOptions{Picture: true})
	if err != nil {
		t.Fatal(err)
	}
	if b := decoded(t, picture).Bounds(); b.Dx() != namesWidth+viewWidth || b.Dy() < 300 {
		t.Errorf("%v", b)
	}
}

// What a template names is not loaded, whatever the browser or the word processor reads in it: neither from the
// loopback address nor from the disk.
func TestDrawingsLoadNothing(t *testing.T) {
	if _, err := Chromium(); err != nil {
		t.Skip(err)
	}
	asked := make(chan string, 100)
	server := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		select {
		case asked <- r.URL.Path:
		default:
		}
	}))
	defer server.Close()
	var source strings.Builder
	for i, way := range []string{
		`<img src="ADDRESS" width="9" height="9" alt="x">`, `<table background="ADDRESS"><tr><td>x</td></tr></table>`,
		`<p style="background: url(ADDRESS)">x</p>`, `<style>p{background:url(ADDRESS)} @import "ADDRESS";</style>`,
		`<svg><style><img src="ADDRESS"></style></svg>`, `<math><mi><img src="ADDRESS"></mi></math>`, `<xmp></xmp><img src="ADDRESS">`,
		`<noembed></noembed><img src="ADDRESS">`, `</template></div><img src="ADDRESS">`, `<link rel=stylesheet href="ADDRESS">`,
		`<iframe src="ADDRESS"></iframe>`, `<object data="ADDRESS"></object>`, `<video poster="ADDRESS"></video>`,
		`<meta http-equiv=refresh content="0;url=ADDRESS">`, `<base href="ADDRESS">`, `<img srcset="ADDRESS 2x">`,
		`<p style="list-style:image-set('ADDRESS' 1x)">x</p>`, `<body background="ADDRESS">`, `<input type=image src="ADDRESS">`,
	} {
		source.WriteString(strings.ReplaceAll(way, "ADDRESS", server.URL+"/"+strconv.Itoa(i)))
	}
	tmpl, err := template.New("x", template.Parts{Source: "<p>Brackwater</p>" + source.String()})
	if err != nil {
		t.Fatal(err)
	}
	people, err := demo.Directory()
	if err != nil {
		t.Fatal(err)
	}
	in := check.Input{Template: tmpl, People: people, Profiles: client.Shipped(), Day: time.Now()}
	report, err := check.Run(t.Context(), in)
	if err != nil {
		t.Fatal(err)
	}
	views := []sheet.View{sheet.Light}
	page := sheet.Input{Template: tmpl, People: people, Chosen: []int{0}, Profiles: in.Profiles, Views: views, Variant: "new", Day: in.Day}
	for _, o := range []SheetOptions{{Picture: true}, {SecondOpinion: true}} {
		if _, err := Sheet(t.Context(), page, report, o); err != nil && !errors.Is(err, errNoOffice) {
			t.Errorf("%+v: %v", o, err)
		}
	}
	if _, err := Page(t.Context(), `<img src="`+server.URL+`/network">`, 400); err != nil {
		t.Error(err)
	}
	for _, active := range []string{`<meta http-equiv=refresh content="0;url=file:///etc/hostname">`} {
		if _, err := Pasted(t.Context(), active); !problem.Is(err, problem.Refused) {
			t.Errorf("%s is drawn: %v", active, err)
		}
	}
	server.Close()
	close(asked)
	for path := range asked {
		t.Errorf("%s was asked for", path)
	}
}

// A program that does not end is ended at its deadline, with what it started.
func TestSlowProgramsAreEnded(t *testing.T) {
	folder := t.TempDir()
	for _, name := range []string{"soffice", "pdftoppm"} {
		if err := os.WriteFile(filepath.Join(folder, name), []byte("#!/bin/sh\nsleep 60 &\nsleep 60\n"), 0o700); err != nil {
			t.Fatal(err)
		}
	}
	t.Setenv("PATH", folder+":"+os.Getenv("PATH"))
	ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer cancel()
	begun := time.Now()
	if _, err := writer(ctx, "<p>x</p>"); err == nil {
		t.Error("it drew something")
	}
	if took := time.Since(begun); took > 10*time.Second {
		t.Errorf("it was ended after %v", took)
	}
}

// Programs that read strangers' markup run as an account without rights when the service runs as root.
func TestProgramsHaveNoRights(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("the service is not root here, and so are its programs")
	}
	folder, err := newFolder()
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(folder)
	out, err := ending(t.Context(), folder, "sh", "-c", "id -u; echo $HOME; cat /etc/shadow 2>&1; touch $HOME/x && echo can").Output()
	if err != nil {
		t.Fatal(err)
	}
	lines := strings.Split(strings.TrimSpace(string(out)), "\n")
	if len(lines) != 4 || lines[0] == "0" || lines[1] != folder || !strings.Contains(lines[2], "denied") || lines[3] != "can" {
		t.Errorf("%q", lines)
	}
}
