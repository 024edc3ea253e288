package e2e

import (
	"bytes"
	"context"
	"encoding/base64"
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"regexp"
	"slices"
	"testing"
	"time"

	"missivum/core/check"
	"missivum/core/client"
	"missivum/core/fix"
	"missivum/core/markup"
	"missivum/core/style"
	"missivum/core/template"
	"missivum/demo"
)

// TestFixingKeepsTheLook draws every faulty template as written and with all safe fixes and the compacting steps, and
// compares the drawings.
func TestFixingKeepsTheLook(t *testing.T) {
	t.Parallel()
	people, err := demo.Directory()
	if err != nil {
		t.Fatal(err)
	}
	all := map[string]*template.Template{}
	for name, source := range pages(t, "../core/fix/testdata/faulty") {
		all[name] = bareTemplate(t, source)
		all[name].Bare = false
	}
	if all["regatta"], err = demo.Template("regatta"); err != nil {
		t.Fatal(err)
	}
	tab := browser(t)
	who := people.Find("maren.lind@brackwater.example")
	if who == nil {
		t.Fatal("the sample person is gone")
	}
	for name, tmpl := range all {
		for _, except := range [][]string{nil, meantToBeSeen[name]} {
			in := check.Input{Template: tmpl, People: people, Profiles: client.Shipped(), Day: time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)}
			r, err := fix.Run(context.Background(), in, fix.Options{At: -1, Except: except})
			if err != nil {
				t.Fatal(err)
			}
			before, _, err := bothWays(tmpl, people, who)
			if err != nil {
				t.Fatal(err)
			}
			_, after, err := bothWays(r.Template, people, who)
			if err != nil {
				t.Fatal(err)
			}
			off := inkThatDiffers(t, drawn(t, tab, there(t, before)), drawn(t, tab, there(t, after)))
			t.Logf("%s without the fixes of %v: %d fixes, %.1f %% of what is drawn differs", name, except, len(r.Done), 100*off)
			if seen := len(meantToBeSeen[name]) > 0 && except == nil; off > rounding && !seen {
				t.Errorf("%s looks different after the fixes: %.1f %%", name, 100*off)
			} else if off <= rounding && seen {
				t.Errorf("%s: the fixes of %v are said to be seen and are not", name, meantToBeSeen[name])
			}
		}
	}
}

// rounding is the share of what is drawn that may differ where a see-through colour was made a full one.
const rounding = 0.002

// meantToBeSeen are the checks whose fixes change the look of a faulty template in a good browser, since that is what
// they are for.
var meantToBeSeen = map[string][]string{

	"typing-mistakes": {"character-reference", "number-reversed",
		"joined-script"}, // signs are those that were meant, a number runs its right way
	"sliced":    {"picture-gap", "picture-clipped", "spacer-cell", "name-blank"}, // gaps close, a low cell becomes low, a name is shown
	"dark-mode": {"small-text"},                                                  // text of 7 px becomes 9 px
	"copied": {"foreign-placeholder",
		"bare-length"}, // a field is filled, and a size without a unit holds
	"regatta":       {"address-relative", "picture-dark", "picture-format", "rounded-corners"}, // a picture is found, others are drawn anew
	"wrong-nesting": {"block-in-inline"},                                                       // beside an element that never ends
}

// elsewhere are the addresses of pictures that cannot be loaded here.
var elsewhere = regexp.MustCompile(`src="(https?|file|pictures)[:/][^"]*"`)

// there puts a picture in the place of each that is elsewhere, and takes the fonts away: which of them are installed
// here says nothing of the look elsewhere.
func there(t *testing.T, body string) string {
	t.Helper()
	doc, err := markup.Parse(body)
	if err != nil {
		t.Fatal(err)
	}
	style.Inline(doc)
	for _, n := range doc.Root.Elements("marquee") {
		n.SetAttr("scrollamount", "0") // or each drawing shows it elsewhere
	}
	for _, n := range doc.Root.Elements() {
		n.RemoveAttr("face")
		n.SetStyle(slices.DeleteFunc(slices.Clone(n.Style), func(d markup.Declaration) bool { return d.Property == "font-family" }))
	}
	img := image.NewNRGBA(image.Rect(0, 0, 200, 60))
	draw.Draw(img, img.Rect, image.NewUniform(color.NRGBA{31, 92, 122, 255}), image.Point{}, draw.Src)
	var b bytes.Buffer
	_ = png.Encode(&b, img) // to memory
	return elsewhere.ReplaceAllString(doc.Render(), `src="data:image/png;base64,`+base64.StdEncoding.EncodeToString(b.Bytes())+`"`)
}

// inkThatDiffers is which share of what is drawn in either picture is drawn otherwise in the other.
func inkThatDiffers(t *testing.T, a, b []byte) float64 {
	t.Helper()
	var pictures [2]image.Image
	for i, data := range [][]byte{a, b} {
		var err error
		if pictures[i], err = png.Decode(bytes.NewReader(data)); err != nil {
			t.Fatal(err)
		}
	}
	box := pictures[0].Bounds().Union(pictures[1].Bounds())
	ink, off := 0, 0
	at := func(i, x, y int) [3]int {
		if !(image.Point{X: x, Y: y}).In(pictures[i].Bounds()) {
			return [3]int{255, 255, 255}
		}
		r, g, b, _ := pictures[i].At(x, y).RGBA()
		return [3]int{int(r >> 8), int(g >> 8), int(b >> 8)}
	}
	for y := box.Min.Y; y < box.Max.Y; y++ {
		for x := box.Min.X; x < box.Max.X; x++ {
			p, q := at(0, x, y), at(1, x, y)
			if p != [3]int{255, 255, 255} || q != [3]int{255, 255, 255} {
				ink++
			}
			if abs(p[0]-q[0])+abs(p[1]-q[1])+abs(p[2]-q[2]) > 12 {
				off++
			}
		}
	}
	if ink == 0 {
		return 0
	}
	return float64(off) / float64(ink)
}

func abs(n int) int { return max(n, -n) }
