package picture

import (
	"fmt"
	"image"
	"image/color"
	"slices"
	"strings"
	"testing"
	"time"
)

var asked = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// good is an answer with nothing wrong.
func good(t testing.TB) Answer {
	address := "https://pictures.brackwater.example/logo.png"
	return Answer{
		Address: address, Steps: []Step{{address, 200}}, Body: written(t, PNG, halves(240, 80)), Took: 40 * time.Millisecond,
		Until:  asked.AddDate(1, 0, 0),
		Header: map[string]string{"content-type": "image/png", "cache-control": "public, max-age=31536000"},
	}
}

// TestJudge: one thing is changed in a good answer, and exactly that is reported.
func TestJudge(t *testing.T) {
	at := func(address string) func(*Answer) {
		return func(a *Answer) { a.Address, a.Steps[0].Address = address, address }
	}
	status := func(code int) func(*Answer) { return func(a *Answer) { a.Steps[0].Status = code } }
	fails := func(f Failure) func(*Answer) {
		return func(a *Answer) { a.Failure, a.Detail, a.Steps = f, "in these words", nil }
	}
	leads := func(to string) func(*Answer) {
		return func(a *Answer) {
			a.Steps = []Step{{a.Address, 302}, {to, 200}}
		}
	}
	header := func(name, value string) func(*Answer) { return func(a *Answer) { a.Header[name] = value } }
	body := func(content string) func(*Answer) { return func(a *Answer) { a.Body = []byte(content) } }
	for name, c := range map[string]struct {
		change func(*Answer)
		breaks bool
		want   []string
		says   string
	}{
		"nothing": {func(*Answer) {}, false, nil, ""},
		"http": {at("http://pictures.brackwater.example/logo.png"), false, []string{"scheme"},
			"anybody on the way can change it"},
		"no scheme": {func(a *Answer) { at("pictures/logo.png")(a); fails(Unreachable)(a) }, true,
			[]string{"scheme", "unreachable"}, "no full address"},
		"ends in seconds": {at("https://p.brackwater.example/a.png?Expires=1796000000"), true,
			[]string{"expires"}, "ends on 2026-11-30 (Expires=1796000000)"},
		"ended": {at("https://p.brackwater.example/a.png?exp=1600000000"), true, []string{"expires"}, "ended on 2020-09-13"},
		"ends, with a prefix": {at("https://p.brackwater.example/a.png?x-host-expires=3600&x-host-signature=ab"),
			true, []string{"expires"}, "ends at a time"},
		"ends on a date": {at("https://p.brackwater.example/a.png?valid-until=2027-01-31"), true,
			[]string{"expires"}, "ends on 2027-01-31"},
		"a key":                      {at("https://p.brackwater.example/a.png?sig=abc"), false, []string{"expires"}, "carries a key (sig)"},
		"a query that means nothing": {at("https://p.brackwater.example/a.png?v=3&width=120"), false, nil, ""},
		"certificate":                {fails(Certificate), true, []string{"certificate"}, "not valid: in these words"},
		"private":                    {fails(Private), true, []string{"private"}, "was not asked"},
		"too slow":                   {fails(TooSlow), true, []string{"time"}, "in these words"},
		"circular":                   {fails(Circular), true, []string{"redirects"}, "without end"},
		"nobody":                     {fails(Unreachable), true, []string{"unreachable"}, "Nobody answers"},
		"sign in":                    {status(401), true, []string{"sign-in"}, "status 401"},
		"forbidden":                  {status(403), true, []string{"sign-in"}, "status 403"},
		"gone":                       {status(410), true, []string{"missing"}, "any more"},
		"host fails":                 {status(503), true, []string{"status"}, "The host fails"},
		"no content":                 {status(204), true, []string{"status"}, "in place of the picture"},
		"once elsewhere":             {leads("https://cdn.brackwater.example/logo.png"), false, []string{"redirects"}, "leads on once"},
		"to http":                    {leads("http://cdn.brackwater.example/logo.png"), true, []string{"redirects"}, "leads on to http"},
		"to a sign-in page":          {leads("https://sso.brackwater.example/start"), true, []string{"sign-in"}, "sign-in page"},
		"certificate ends soon":      {func(a *Answer) { a.Until = asked.AddDate(0, 0, 5) }, false, []string{"certificate"}, "in 5 days"},
		"a page":                     {body("<!DOCTYPE html><title>logo.png</title>"), true, []string{"page"}, "a web page in place"},
		"a form":                     {body(`<html><input type=password></html>`), true, []string{"sign-in"}, "a sign-in page in place"},
		"words":                      {body("gone"), true, []string{"content"}, "not a picture"},
		"another format": {func(a *Answer) {
			a.Body = []byte(`<svg viewBox="0 0 240 80"/>`)
			a.Header["content-type"] = "image/svg+xml"
		}, true, []string{"format"}, "SVG"},
		"called text": {header("content-type", "text/plain; charset=utf-8"), true, []string{"type"},
			"calls it text/plain, but it is PNG"},
		"called another picture": {header("content-type", "IMAGE/JPEG"), false, []string{"type"}, "image/jpeg"},
		"called nothing":         {func(a *Answer) { delete(a.Header, "content-type") }, true, []string{"type"}, "calls it nothing"},
		"more than is read":      {func(a *Answer) { a.Cut = true }, true, []string{"weight"}, "larger than"},
		"slow":                   {func(a *Answer) { a.Took = 3 * time.Second }, false, []string{"time"}, "took 3.0 s"},
		"other pixels": {func(a *Answer) { a.Body = written(t, PNG, halves(200, 80)) }, false, []string{"size"},
			"200 x 80 px but is shown at 120 x 40"},
		"three times the pixels": {func(a *Answer) { a.Body = written(t, PNG, halves(360, 120)) }, false, nil, ""},
		"not to be kept":         {header("cache-control", "no-store"), false, []string{"cache"}, "forbids keeping"},
		"kept for a minute":      {header("cache-control", "max-age=60"), false, []string{"cache"}, "60 s only"},
		"ends by its header": {func(a *Answer) {
			delete(a.Header, "cache-control")
			a.Header["expires"] = "Mon, 23 Nov 2026 12:10:00 GMT"
		}, false, []string{"cache"}, "ends on 2026-11-23 12:10"},
		"ends late by its header": {func(a *Answer) {
			delete(a.Header, "cache-control")
			a.Header["expires"] = "Tue, 23 Nov 2027 12:10:00 GMT"
		}, false, nil, ""},
		"a header that is no date": {func(a *Answer) { delete(a.Header, "cache-control"); a.Header["expires"] = "0" }, false, nil, ""},
		"a cookie":                 {header("set-cookie", "a=b"), false, []string{"cookie"}, "tracker"},
		"two things, the worse first": {func(a *Answer) { a.Header["set-cookie"] = "a=b"; a.Header["content-type"] = "text/html" },
			true, []string{"type", "cookie"}, ""},
	} {
		a := good(t)
		c.change(&a)
		_, faults := Judge(a, Display{120, 40}, asked)
		var got []string
		said := ""
		for _, f := range faults {
			got = append(got, f.ID)
			said += f.Message + "\n"
			if f.Remedy == "" || !strings.HasSuffix(f.Message, ".") {
				t.Errorf("%s: says too little: %+v", name, f)
			}
		}
		if !slices.Equal(got, c.want) || len(faults) > 0 && faults[0].Breaks != c.breaks || !strings.Contains(said, c.says) {
			t.Errorf("%s: %v, want %v\n%s", name, got, c.want, said)
		}
	}
}

func TestFits(t *testing.T) {
	for _, c := range []struct {
		width, height, displayWidth, displayHeight int
		want                                       bool
	}{
		{120, 40, 120, 40, true}, {240, 80, 120, 40, true}, {360, 120, 120, 40, true}, {480, 160, 120, 40, false},
		{241, 80, 120, 40, true}, {242, 80, 120, 40, false},
		{60, 20, 120, 40, false}, {120, 60, 120, 40, false}, {239, 79, 120, 40, true},
	} {
		if got := Fits(c.width, c.height, c.displayWidth, c.displayHeight); got != c.want {
			t.Errorf("%+v: %v", c, got)
		}
	}
}

func FuzzJudge(f *testing.F) {
	f.Add("https://a.example/x.png?expires=1", "image/png", "max-age=x", "Mon, 23 Nov 2026 12:10:00 GMT", 200, []byte("\x89PNG"))
	f.Add("::", "", "", "", 0, []byte("<html>"))
	f.Fuzz(func(t *testing.T, address, media, control, expires string, status int, body []byte) {
		a := Answer{Address: address, Steps: []Step{{address, status}}, Body: body,
			Header: map[string]string{"content-type": media, "cache-control": control, "expires": expires}}
		_, faults := Judge(a, Display{10, 10}, asked)
		for i, fault := range faults {
			if fault.Message == "" || fault.Remedy == "" || i > 0 && fault.Breaks && !faults[i-1].Breaks {
				t.Fatalf("%+v", faults)
			}
		}
	})
}

// TestWindows: which part of a picture of 400 x 200 px is drawn.
func TestWindows(t *testing.T) {
	for name, c := range map[string]struct {
		recipe Recipe
		want   window
	}{
		"all of it":                {Recipe{Width: 100}, window{0, 0, 400, 200}},
		"the middle":               {Recipe{Width: 50, Height: 50}, window{100, 0, 200, 200}},
		"the left":                 {Recipe{Width: 50, Height: 50, Focus: &Point{0, 0}}, window{0, 0, 200, 200}},
		"the right":                {Recipe{Width: 50, Height: 50, Focus: &Point{1, 1}}, window{200, 0, 200, 200}},
		"a focus within":           {Recipe{Width: 50, Height: 50, Focus: &Point{0.4, 0.5}}, window{60, 0, 200, 200}},
		"closer":                   {Recipe{Width: 50, Height: 50, Zoom: 2}, window{150, 50, 100, 100}},
		"tall":                     {Recipe{Width: 10, Height: 100}, window{190, 0, 20, 200}},
		"a crop":                   {Recipe{Width: 100, Crop: &Area{0.5, 0.5, 0.5, 0.5}}, window{200, 100, 200, 100}},
		"a crop of another shape":  {Recipe{Width: 50, Height: 50, Crop: &Area{0.5, 0, 0.5, 0.5}}, window{250, 0, 100, 100}},
		"padded above and below":   {Recipe{Width: 50, Height: 50, Pad: true}, window{0, -100, 400, 400}},
		"padded on both sides":     {Recipe{Width: 100, Height: 25, Pad: true}, window{-200, 0, 800, 200}},
		"a focus outside what can": {Recipe{Width: 50, Height: 50, Focus: &Point{0.99, 0}}, window{200, 0, 200, 200}},
	} {
		w, h := c.recipe.Display(Facts{Width: 400, Height: 200})
		got := c.recipe.window(400, 200, float64(2*w), float64(2*h))
		for _, d := range []float64{got.x - c.want.x, got.y - c.want.y, got.width - c.want.width, got.height - c.want.height} {
			if d > 0.01 || d < -0.01 {
				t.Errorf("%s: %+v, want %+v", name, got, c.want)
				break
			}
		}
	}
}

// TestAveragingKeepsTheLight: a picture made smaller sends out as much light as before, however it is cut.
func TestAveragingKeepsTheLight(t *testing.T) {
	img := halves(301, 97)
	sumOf := func(l *light) (total float64) {
		for _, v := range l.values {
			total += float64(v)
		}
		return total / float64(len(l.values))
	}
	l := lightOf(img)
	for _, size := range [][2]int{{301, 97}, {300, 90}, {100, 33}, {33, 50}, {7, 3}, {1, 1}} {
		small := l.resampled(window{0, 0, 301, 97}, size[0], size[1])
		if a, b := sumOf(l), sumOf(small); a-b > 0.002 || b-a > 0.002 {
			t.Errorf("%v: %v of light became %v", size, a, b)
		}
	}
	for v := range 256 { // every stored value comes back
		if got := fromLight(toLight[v]); int(got) != v {
			t.Errorf("%d comes back as %d", v, got)
		}
	}
}

func TestPalettes(t *testing.T) {
	img := halves(20, 20)
	for n, want := range map[int]int{1: 1, 2: 2, 16: 2} {
		p := paletteOf(histogram([]Frame{{Image: img}}), n)
		if len(p) != want {
			t.Errorf("%d colours asked, %v", n, p)
		}
	}
	p := exactPalette([]Frame{{Image: bar(teal)}})
	if len(p) != 2 || p[0] != oneSeeThrough(p)[0] || fmt.Sprint(paletted(bar(teal), p, false).At(50, 30)) != fmt.Sprint(teal) {
		t.Errorf("%v", p)
	}
	grey := paletteOf(histogram([]Frame{{Image: drawnRamp()}}), 8)
	if len(grey) != 8 {
		t.Errorf("a ramp has %d of 8 colours: %v", len(grey), grey)
	}
}

// drawnRamp goes from black to white.
func drawnRamp() *image.NRGBA {
	img := image.NewNRGBA(image.Rect(0, 0, 256, 4))
	for y := range 4 {
		for x := range 256 {
			img.SetNRGBA(x, y, color.NRGBA{uint8(x), uint8(x), uint8(x), 255})
		}
	}
	return img
}
