package passive_test

import (
	"fmt"
	"strings"
	"testing"

	"missivum/core/markup"
	"missivum/core/passive"
)

func made(t testing.TB, source string) string {
	t.Helper()
	doc, err := markup.Parse(source)
	if err != nil {
		t.Skip(err)
	}
	passive.Make(doc)
	return doc.Render()
}

func TestMake(t *testing.T) {
	const stays = `<p style="color:red" class=b title="on it">a <a href="https://a.example/on">b</a></p>`
	const fields = `<a href="{{ labeledURI }}">a</a><a href="tel:{{ mobile }}">b</a>`
	for source, want := range map[string]string{
		`<p>a<script>x()</script>b</p>`:                                             `<p>ab</p>`,
		`<p onclick="x()" ONLOAD=y>a</p>`:                                           `<p>a</p>`,
		`<a href="javascript:x()">a</a>`:                                            `<a>a</a>`,
		"<a href=\" java\nscript&#58;x()\">a</a>":                                   `<a>a</a>`,
		`<a href="data:text/html,x">a</a>`:                                          `<a>a</a>`,
		`<img src="data:image/png;base64,AA">`:                                      `<img src="data:image/png;base64,AA">`,
		`<img src="data:text/html,x">`:                                              `<img>`,
		`<img src="file:///etc/passwd">`:                                            `<img>`,
		`<form action=x><input name=a>Ask <button>now</button></form>`:              `Ask now`,
		`<svg><style><img src=x onerror=y></style></svg><p>a</p>`:                   `<p>a</p>`,
		`<noembed><img src=x></noembed>a<xmp><b></xmp>`:                             `a`,
		`<noscript><p>a</p></noscript>`:                                             `<p>a</p>`,
		`<base href="//x"><meta http-equiv=refresh content="0;url=x"><meta name=a>`: `<meta name=a>`,
		`<p style="color:red;width:expression(x())">a</p>`:                          `<p style="color: red">a</p>`,
		`<p style="wi/**/dth:expr\65ssion(x())">a</p>`:                              `<p>a</p>`,
		`<style>p{behavior:url(x)}</style>a`:                                        `a`,
		`<style>p{color:red}</style>a`:                                              `<style>p{color:red}</style>a`,
		`<!--[if a]><script>x()</script><p>a</p><![endif]-->`:                       `<!--[if a]><p>a</p><![endif]-->`,
		stays:  stays,
		fields: fields,
	} {
		got := strings.ReplaceAll(made(t, source), ` style=""`, "")
		if got != want {
			t.Errorf("%s\ngives %s\nwant  %s", source, got, want)
		}
		if found := passive.Active(got); found != "" {
			t.Errorf("%s: %s is left", source, found)
		}
	}
}

func TestActive(t *testing.T) {
	for _, source := range []string{`<p onclick=x>`, `<svg/>`, `<a href=javascript:x>`, `<iframe>`, `<img src=x onerror=y>`,
		`<meta http-equiv=refresh content=0>`, `<math><mtext></mtext></math>`, `<object data=x>`} {
		if passive.Active(source) == "" {
			t.Errorf("%s is taken as passive", source)
		}
	}
}

func ExampleMake() {
	doc, _ := markup.Parse(`<p onclick="dial()">Harbour office<script>x()</script></p>`)
	for _, d := range passive.Make(doc) {
		fmt.Println(d.What)
	}
	fmt.Println(doc.Render())
	// Output:
	// onclick
	// <script>
	// <p>Harbour office</p>
}

// FuzzMake: whatever the source, a browser's parser finds nothing active in what is left.
func FuzzMake(f *testing.F) {
	for _, seed := range []string{`<p onclick=x>`, `<svg><style><img src=x onerror=y>`, `<math><mi><p><style><!--</style><img onerror=x>`,
		`<!--[if a]><script><![endif]-->`, `<a href="java&#10;script:x">`, `<table><a href=x><svg>`, `<title><img src=x onerror=x></title>`,
		`<style></style ><img src=x onerror=x>`, `<img src="a"onerror="x">`, `<select><noembed><img onerror=x>`, `</p/onclick=x><p/ onclick=x>`} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, source string) {
		out := made(t, source)
		if found := passive.Active(out); found != "" {
			t.Errorf("%q leaves %s in %q", source, found, out)
		}
	})
}
