package picture

import (
	"bytes"
	"image"
	"image/color"
	"image/draw"
	"image/jpeg"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"missivum/demo/drawing"
)

func portrait(t testing.TB, seed uint64) []byte {
	t.Helper()
	data, err := drawing.PortraitJPEG(seed, 360, 480)
	if err != nil {
		t.Fatal(err)
	}
	return data
}

func TestDifferenceOrdersWhatIsSeen(t *testing.T) {
	img := drawing.Portrait(4, 160, 200)
	if d := Difference(img, cloned(img)); d != 0 {
		t.Errorf("the same differs by %v", d)
	}
	last := 0.0
	for _, quality := range []int{95, 80, 60, 30, 8} { // the lower the quality, the larger the difference
		back, err := jpeg.Decode(bytes.NewReader(asJPEG(t, img, quality)))
		if err != nil {
			t.Fatal(err)
		}
		d := Difference(img, toNRGBA(back))
		if d <= last {
			t.Errorf("quality %d: %v, before %v", quality, d, last)
		}
		last = d
	}
	other := drawing.Portrait(5, 160, 200)
	if d := Difference(img, other); d < last {
		t.Errorf("another picture differs by %v only", d)
	}
	// what shows on a dark background alone counts too
	clear := image.NewNRGBA(image.Rect(0, 0, 40, 40))
	white := cloned(clear)
	draw.Draw(white, image.Rect(10, 10, 30, 30), image.White, image.Point{}, draw.Src)
	if d := Difference(clear, white); d < 0.2 {
		t.Errorf("white on see-through: %v", d)
	}
}

func asJPEG(t *testing.T, img image.Image, quality int) []byte {
	t.Helper()
	var b bytes.Buffer
	if err := jpeg.Encode(&b, img, &jpeg.Options{Quality: quality}); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// TestOurJPEG: what is written is read back by the standard library as the same picture, at all sizes of rest
// blocks, and is lighter than what that library writes at the same difference.
func TestOurJPEG(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for _, size := range []image.Point{{1, 1}, {7, 9}, {8, 8}, {16, 16}, {17, 31}, {64, 5}, {130, 90}} {
		img := image.NewNRGBA(image.Rectangle{Max: size})
		for i := range img.Pix {
			img.Pix[i] = uint8(r.UintN(256)) | uint8(255*(i%4/3))
		}
		for _, full := range []bool{false, true} {
			data := encodeJPEG(img, jpegOptions{quality: 100, fullColour: full, resolution: 192})
			back, err := jpeg.Decode(bytes.NewReader(data))
			if err != nil || back.Bounds().Size() != size {
				t.Fatalf("%v, all chroma %v: %v", size, full, err)
			}
			if facts, err := Probe(data); err != nil || facts.Resolution != 192 {
				t.Errorf("%+v, %v", facts, err)
			}
			if d := Difference(img, toNRGBA(back)); full && d > 0.05 {
				t.Errorf("%v: difference %v", size, d)
			}
		}
	}
	grey := image.NewNRGBA(image.Rect(0, 0, 33, 20))
	draw.Draw(grey, grey.Rect, image.NewUniform(color.NRGBA{120, 120, 120, 255}), image.Point{}, draw.Src)
	if facts, err := Probe(encodeJPEG(grey, jpegOptions{quality: 80})); err != nil || facts.Colours != "grey" {
		t.Errorf("%+v, %v", facts, err)
	}
	img := drawing.Portrait(7, 192, 192)
	theirs := asJPEG(t, img, 75)
	back, err := jpeg.Decode(bytes.NewReader(theirs))
	if err != nil {
		t.Fatal(err)
	}
	ours, err := Write(img, Weight{Format: JPEG, Threshold: Difference(img, toNRGBA(back))}, 0)
	if err != nil || 100*len(ours.Data) > 85*len(theirs) {
		t.Errorf("%d bytes, theirs %d, %v", len(ours.Data), len(theirs), err)
	}
}

func TestCompress(t *testing.T) {
	flat := halves(300, 200)
	draw.Draw(flat, image.Rect(50, 50, 90, 90), image.NewUniform(color.NRGBA{0, 0, 0, 128}), image.Point{}, draw.Src)
	for name, c := range map[string]struct {
		data   []byte
		weight Weight
		format string
		most   int // percent of what came in
	}{
		"a drawing becomes a palette":   {written(t, PNG, flat), Weight{}, PNG, 60},
		"a photograph becomes lighter":  {portrait(t, 1), Weight{}, JPEG, 97},
		"a bitmap becomes PNG":          {written(t, BMP, halves(100, 100)), Weight{}, PNG, 5},
		"a photograph as PNG if wanted": {portrait(t, 1), Weight{Format: PNG, Threshold: 0.2}, PNG, 1000},
		"a GIF if wanted":               {written(t, PNG, flat), Weight{Format: GIF, Threshold: 0.5}, GIF, 400},
	} {
		r, err := Compress(c.data, c.weight)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if r.Facts.Format != c.format || 100*len(r.Data) > c.most*len(c.data) || len(r.Trials) == 0 {
			t.Errorf("%s: %s, %d of %d bytes", name, r.Facts.Format, len(r.Data), len(c.data))
		}
		back, err := Read(r.Data)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if d := Difference(r.Exact, back.Image()); d > max(c.weight.Threshold, unseenInPhoto) {
			t.Errorf("%s: difference %v", name, d)
		}
	}
	// what is light already stays as it is, byte for byte
	light, err := Compress(written(t, PNG, flat), Weight{})
	if err != nil {
		t.Fatal(err)
	}
	again, err := Compress(light.Data, Weight{})
	if err != nil || len(again.Data) > len(light.Data) {
		t.Errorf("%d bytes become %d, %v", len(light.Data), len(again.Data), err)
	}
	limited, err := Compress(portrait(t, 2), Weight{Limit: 3000})
	if err != nil || len(limited.Data) > 3000 || !strings.Contains(strings.Join(limited.Notes, "\n"), "can be seen") {
		t.Errorf("%d bytes, %v, %v", len(limited.Data), limited.Notes, err)
	}
	impossible, err := Compress(portrait(t, 2), Weight{Limit: 50})
	if err != nil || !strings.Contains(strings.Join(impossible.Notes, "\n"), "more than the 50 asked for") {
		t.Errorf("%v, %v", impossible.Notes, err)
	}
	tells := inserted(portrait(t, 3), 0xe1, exifBlock(1))
	if r, err := Compress(tells, Weight{}); err != nil || len(r.Facts.Holds) > 0 {
		t.Errorf("what a file holds besides the picture stays: %+v, %v", r.Facts, err)
	}
}

func TestRenditionsAreAlwaysTheSame(t *testing.T) {
	for _, r := range []Recipe{{Width: 60}, {Width: 40, Height: 40, Detect: true, Shape: Round}} {
		one, err := Fit(portrait(t, 8), r)
		if err != nil {
			t.Fatal(err)
		}
		two, err := Fit(portrait(t, 8), r)
		if err != nil || !bytes.Equal(one.Data, two.Data) || KeyOf(one.Data) != KeyOf(two.Data) {
			t.Errorf("%+v: %v", r, err)
		}
	}
	if key := KeyOf(portrait(t, 8)); len(key) != 28 || !strings.HasSuffix(key, ".jpg") || strings.ToLower(key) != key {
		t.Errorf("key %q", key)
	}
}

func TestTheFocusIsWhereThePersonIs(t *testing.T) {
	for seed := range uint64(12) {
		img := drawing.Portrait(seed, 300, 400)
		f := Detect(img)
		if f.Y < 0.15 || f.Y > 0.6 || f.X < 0.15 || f.X > 0.85 {
			t.Errorf("portrait %d: %+v", seed, f)
		}
	}
	moved := image.NewNRGBA(image.Rect(0, 0, 200, 100))
	draw.Draw(moved, moved.Rect, image.White, image.Point{}, draw.Src)
	draw.Draw(moved, image.Rect(150, 20, 180, 100), image.NewUniform(teal), image.Point{}, draw.Src)
	if f := Detect(moved); f.X < 0.7 || f.X > 0.95 {
		t.Errorf("the focus is at %+v", f)
	}
	if f := Detect(halves(1, 1)); f != (Point{0.5, 0.5}) {
		t.Errorf("one colour: %+v", f)
	}
}

// bar is a bar of one colour on a see-through background.
func bar(c color.NRGBA) *image.NRGBA {
	img := image.NewNRGBA(image.Rect(0, 0, 120, 60))
	draw.Draw(img, image.Rect(20, 20, 100, 40), image.NewUniform(c), image.Point{}, draw.Src)
	return img
}

func TestPicturesThatVanishAreFoundAndFixed(t *testing.T) {
	for name, c := range map[string]struct {
		img  *image.NRGBA
		want []string
	}{
		"dark":         {bar(color.NRGBA{20, 30, 35, 255}), []string{"dark", "inverted"}},
		"middle":       {bar(coral), nil},
		"white":        {bar(color.NRGBA{255, 255, 255, 255}), []string{"light"}},
		"opaque":       {halves(40, 40), nil},
		"nothing":      {image.NewNRGBA(image.Rect(0, 0, 9, 9)), nil},
		"hardly there": {bar(color.NRGBA{20, 30, 35, 10}), nil},
	} {
		if got := Vanishes(Sights(c.img)); !slices.Equal(got, c.want) {
			t.Errorf("%s vanishes on %v, want %v", name, got, c.want)
		}
	}
	for _, d := range []DarkSafe{{Way: Outline}, {Way: Outline, Width: 3, Colour: "#f2f6f5"}, {Way: plate},
		{Way: plate, Colour: "#c8553d", Width: 12}} {
		made, err := MakeDarkSafe(bar(teal), d)
		if err != nil {
			t.Fatal(err)
		}
		if backgrounds := Vanishes(Sights(made)); len(backgrounds) > 0 || made.Rect.Dx() <= 120 {
			t.Errorf("%+v vanishes on %v", d, backgrounds)
		}
	}
	for _, d := range []DarkSafe{{Way: Outline}, {Way: plate, Width: 3}} { // in a recipe: within the size that is asked for
		for multiple := 1; multiple <= 3; multiple++ {
			made, err := Fit(written(t, PNG, bar(teal)), Recipe{Width: 60, Height: 30, Multiple: multiple, Dark: &d})
			if err != nil {
				t.Fatal(err)
			}
			if made.Facts.Width != 60*multiple || made.Facts.Height != 30*multiple || len(Vanishes(Sights(made.Shown))) > 0 {
				t.Errorf("%+v at %d: %+v, vanishes on %v", d, multiple, made.Facts, Vanishes(Sights(made.Shown)))
			}
		}
	}
	if _, err := Fit(written(t, PNG, bar(teal)), Recipe{Width: 3, Height: 2, Multiple: 1,
		Dark: &DarkSafe{Way: plate}}); err == nil || !strings.Contains(err.Error(), "no room") {
		t.Errorf("a plate in 3 x 2 px: %v", err)
	}
	for _, d := range []DarkSafe{{Way: "glow"}, {Way: Outline, Colour: "white"}, {Way: plate, Width: 999}} {
		if _, err := MakeDarkSafe(bar(teal), d); err == nil {
			t.Errorf("%+v is taken", d)
		}
	}
}

func TestCodes(t *testing.T) {
	c, err := Code("https://www.brackwater.example/timetable", CodeRecipe{Width: 100})
	if err != nil || c.Width > 100 || c.Next <= 100 || c.Module%2 != 0 || c.Facts.Width != c.Modules*c.Module || c.Facts.Width != 2*c.Width {
		t.Fatalf("%+v, %v", c, err)
	}
	for y := range c.Facts.Height { // every module is whole
		for x := range c.Facts.Width {
			if c.Shown.NRGBAAt(x, y) != c.Shown.NRGBAAt(x/c.Module*c.Module, y/c.Module*c.Module) {
				t.Fatalf("the module at %d,%d is not of one colour", x, y)
			}
			if edge := quiet * c.Module; (x < edge || y < edge) && c.Shown.NRGBAAt(x, y) != (color.NRGBA{255, 255, 255, 255}) {
				t.Fatalf("the margin is not clear at %d,%d", x, y)
			}
		}
	}
	for name, r := range map[string]struct {
		text string
		CodeRecipe
		want string
	}{
		"too small": {strings.Repeat("x", 200), CodeRecipe{Width: 40}, "needs at least"},
		"too long":  {strings.Repeat("x", 3000), CodeRecipe{Width: 2000}, "do not go into a code"},
		"too light": {"x", CodeRecipe{Width: 100, Dark: "#c0c0c0"}, "too light"},
		"level":     {"x", CodeRecipe{Width: 100, Recovers: "50"}, "7, 15, 25 or 30"},
		"nothing":   {"", CodeRecipe{Width: 100}, "nothing to put"},
	} {
		if _, err := Code(r.text, r.CodeRecipe); err == nil || !strings.Contains(err.Error(), r.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func TestSlice(t *testing.T) {
	data := written(t, PNG, halves(400, 200)) // shown at 200 x 100
	boxes := func(s *Sliced) (list []image.Rectangle) {
		for _, p := range s.Pieces {
			list = append(list, image.Rect(p.X, p.Y, p.X+p.Width, p.Y+p.Height))
		}
		return list
	}
	for name, c := range map[string]struct {
		cuts SliceMap
		want []image.Rectangle
		err  string
	}{
		"whole": {SliceMap{}, []image.Rectangle{image.Rect(0, 0, 200, 100)}, ""},
		"grid": {SliceMap{Columns: 2, Rows: 2},
			[]image.Rectangle{image.Rect(0, 0, 100, 50), image.Rect(100, 0, 200, 50), image.Rect(0, 50, 100, 100),
				image.Rect(100, 50, 200, 100)}, ""},
		"within": {SliceMap{Lines: []Line{{At: 40}, {At: 120, Down: true, From: 40}}},
			[]image.Rectangle{image.Rect(0, 0, 200, 40), image.Rect(0, 40, 120, 100), image.Rect(120, 40, 200, 100)}, ""},
		"tall": {SliceMap{Lines: []Line{{At: 50, Down: true}, {At: 30, From: 50}}},
			[]image.Rectangle{image.Rect(0, 0, 50, 100), image.Rect(50, 0, 200, 30), image.Rect(50, 30, 200, 100)}, ""},
		"windmill": {SliceMap{Lines: []Line{{At: 30, Until: 120}, {At: 120, Down: true, Until: 70}, {At: 70, From: 60},
			{At: 60, Down: true, From: 30}}}, nil, "windmill"},
		"outside":      {SliceMap{Lines: []Line{{At: 100}}}, nil, "does not lie in the design of 200 x 100 px"},
		"backwards":    {SliceMap{Lines: []Line{{At: 10, From: 50, Until: 40}}}, nil, "does not lie"},
		"label beside": {SliceMap{Pieces: []Label{{X: 300, Y: 1, Alt: "x"}}}, nil, "no piece at 300,1"},
		"too many":     {SliceMap{Columns: 90, Rows: 90}, nil, "at most 100 are cut"},
	} {
		c.cuts.Width = 200
		s, err := Slice(data, c.cuts, "x")
		if c.err != "" {
			if err == nil || !strings.Contains(err.Error(), c.err) {
				t.Errorf("%s: %v, want %q", name, err, c.err)
			}
			continue
		}
		if err != nil || !slices.Equal(boxes(s), c.want) {
			t.Errorf("%s: %v, %v", name, boxes(s), err)
		}
	}
	s, err := Slice(data, SliceMap{Width: 200, Columns: 2,
		Pieces: []Label{{X: 150, Y: 50, Link: "https://www.brackwater.example/?a=1&b=2", Alt: `The "ferry"`}}}, "x")
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{`bgcolor="#c8553d"`, `href="https://www.brackwater.example/?a=1&amp;b=2"`,
		`alt="The &#34;ferry&#34;"`, `data-picture="x-2"`, "&nbsp;"} {
		if !strings.Contains(s.Table, want) {
			t.Errorf("the table lacks %s: %s", want, s.Table)
		}
	}
	if s.Pieces[0].Plain != "#c8553d" || s.Pieces[0].Rendition != nil || s.Pieces[1].Rendition.Facts.Width != 200 {
		t.Errorf("%+v", s.Pieces)
	}
}

func TestSideBySide(t *testing.T) {
	if got := SideBySide(halves(10, 10), halves(20, 30)).Rect.Size(); got != image.Pt(66, 54) {
		t.Errorf("opaque: %v", got)
	}
	if got := SideBySide(bar(teal)).Rect.Size(); got != image.Pt(144, 168) {
		t.Errorf("on two backgrounds: %v", got)
	}
	d := DifferenceImage(halves(10, 10), halves(10, 10))
	if d.NRGBAAt(3, 3) != (color.NRGBA{0, 0, 0, 255}) {
		t.Errorf("the same differs: %v", d.NRGBAAt(3, 3))
	}
}

func FuzzSlice(f *testing.F) {
	data := written(f, PNG, halves(80, 40))
	f.Add(20, 0, 0, 30, 5, 40, true)
	f.Add(10, 2, 38, 20, 0, 0, false)
	f.Fuzz(func(t *testing.T, at, from, until, at2, from2, until2 int, down bool) {
		s, err := Slice(data, SliceMap{Width: 80, Multiple: 1,
			Lines: []Line{{At: at, From: from, Until: until, Down: down}, {At: at2, From: from2, Until: until2}}}, "x")
		if err != nil {
			return
		}
		area := 0
		for i, p := range s.Pieces {
			area += p.Width * p.Height
			for _, q := range s.Pieces[:i] {
				if image.Rect(p.X, p.Y, p.X+p.Width, p.Y+p.Height).Overlaps(image.Rect(q.X, q.Y, q.X+q.Width, q.Y+q.Height)) {
					t.Fatalf("pieces lie over one another: %+v", s.Pieces)
				}
			}
		}
		if area != 80*40 {
			t.Fatalf("the pieces cover %d of %d px", area, 80*40)
		}
	})
}
