package journey

import (
	"image/color"
	"strings"
	"testing"
	"unicode/utf8"

	"missivum/core/client"
	"missivum/core/markup"
	"missivum/core/style"
)

func shown(t *testing.T, id, html string, v View) string {
	t.Helper()
	doc, err := markup.Parse(html)
	if err != nil {
		t.Fatal(err)
	}
	style.Inline(doc)
	p := client.Find(id)
	kept, _ := SimulateIn(v, p, doc, client.Render)
	Show(p, kept, v)
	return kept.Render()
}

func TestRecoloured(t *testing.T) {
	white, black, orange := color.RGBA{255, 255, 255, 255}, color.RGBA{A: 255}, color.RGBA{200, 85, 61, 255}
	for _, way := range []string{client.Full, client.Partial} {
		text, background := Recoloured(way, black, white)
		if text != white || background != darkBackground {
			t.Errorf("%s: black on white becomes %v on %v", way, text, background)
		}
	}
	if text, background := Recoloured(client.Full, white, black); text != darkBackground || background != white {
		t.Errorf("white on black becomes %v on %v", text, background)
	}
	if text, background := Recoloured(client.Partial, white, black); text != white || background != black {
		t.Errorf("a partial inversion leaves white on black alone: %v on %v", text, background)
	}
	if text := recolouredText(client.Partial, orange); text != orange {
		t.Errorf("a bright text stays: %v", text)
	}
	h1, _, _ := style.HSL(orange)
	if h2, _, _ := style.HSL(recolouredBackground(client.Full, orange)); h1-h2 > 3 || h2-h1 > 3 {
		t.Errorf("the hue went from %.0f to %.0f", h1, h2)
	}
	if text, background := Recoloured("", black, white); text != black || background != white {
		t.Error("recoloured without a way")
	}
}

func TestShow(t *testing.T) {
	dark, blocked := View{Dark: true}, View{Blocked: true}
	for _, c := range []struct {
		name, id, html string
		v              View
		want           string
	}{
		{"colours of text, background and border", "inverting-phone",
			`<div style="color: #000000; background: #ffffff; border-top: 2px solid #000000">x</div><i>y</i>`, dark,
			`<div style="color: #ffffff; background: #1e1e1e; border-top: 2px solid #ffffff">x</div><i>y</i>`},
		{"attributes", "inverting-phone",
			`<table cellpadding=0 cellspacing=0><tr><td bgcolor="#ffffff"><font color="#000000">x</font></td></tr></table>`,
			dark, `bgcolor="#1e1e1e"><font color="#ffffff">`},
		{"a link without a colour", "inverting-phone", `<a href="https://x.example/">x</a>`, dark, `style="color: #8ab4ff"`},
		{"pictures are left alone", "inverting-phone", `<b>x</b><img src="https://x.example/a.png" width="9" height="9">`,
			dark, `<img src="https://x.example/a.png" width="9" height="9">`},
		{"colours stay where nothing is recoloured", "gecko-desktop", `<b style="color: #000000">x</b>`, dark, `<b style="color: #000000">x</b>`},
		{"a mail that declares both is left alone", "webkit-desktop",
			`<div style="color-scheme: light dark; color: #000000">x</div><i>y</i>`, dark, `color: #000000`},
		{"a blocked picture keeps its room and says what it is", "gecko-desktop",
			`<img src="https://x.example/a.png" width="88" height="44" alt="Ferry">`, blocked, `width: 88px; height: 44px">Ferry</span>`},
		{"one that is shown at once stays", "capped-webmail",
			`<b>x</b><img src="https://x.example/a.png" width="88" height="44" alt="Ferry">`, blocked, `<img src="https://x.example/a.png"`},
		{"the sanitiser's placeholder is shown as a box", "washing-webmail",
			`<img src="https://x.example/a.png" width="88" height="44" alt="Ferry">`, blocked, `>Ferry</span>`},
		{"and without blocking the picture is there", "washing-webmail",
			`<img src="https://x.example/a.png" width="88" height="44" alt="Ferry">`, View{}, `src="https://x.example/a.png"`},
	} {
		if got := shown(t, c.id, c.html, c.v); !strings.Contains(got, c.want) {
			t.Errorf("%s:\n%s\nlacks\n%s", c.name, got, c.want)
		}
	}
}

func TestPaste(t *testing.T) {
	for _, c := range []struct{ name, before, after string }{
		{"the object model's spelling",
			`<td style="padding:0 8px 0 8px;color:#123;mso-hide:all;font-family:'Fira Sans',Arial;line-height:1.5">x</td>`,
			`<td style="padding: 0px 8px; color: rgb(17, 34, 51); font-family: &quot;Fira Sans&quot;, Arial; line-height: 1.5;">x</td>`},
		{"a row group in every table", `<table><tr><td>x</td></tr><tr><td>y</td></tr></table>`,
			`<table><tbody><tr><td>x</td></tr><tr><td>y</td></tr></tbody></table>`},
		{"quotes, capitals and missing end tags", `<P ALIGN=center>x<BR>&middot;&amp;`, `<p align="center">x<BR>·&amp;</p>`},
		{"spans that say nothing new", `<b style="color: red"><span style="color: red">x</span><span>y</span></b>`,
			`<b style="color: red;">xy</b>`},
		{"a span that says something new", `<b style="color: red"><span style="color: blue">x</span></b>`,
			`<b style="color: red;"><span style="color: blue;">x</span></b>`},
		{"sheets, comments and handlers", `<style>a:hover{color:red}</style><!-- c --><i onclick="x()">x</i>`, `<i>x</i>`},
		{"what is not shown", `<p hidden>a</p><i style="display: none">b</i><b style="visibility: hidden">c</b>` +
			`<dialog>d</dialog><details><summary>e</summary>f</details><p draggable="true">g</p><datalist><option>h</option></datalist>`,
			`<b style="visibility: hidden;"></b><details><summary>e</summary></details>`},
		{"what may be moved is copied all the same", `<a href="x" draggable="true">a</a>`, `<a href="x" draggable="true">a</a>`},
		{"elements that are no more than their content",
			`<object>a</object><font>b</font><font color="red">c</font><canvas>d</canvas><textarea>e</textarea>`,
			`ab<font color="red">c</font><canvas></canvas><textarea></textarea>`},
		{"addresses that run", `<a href="javascript:x()">a</a><img src="javascript:x" alt="">`, `<a>a</a><img alt="">`},
		{"colours of every form",
			`<b style="color: hsl(210, 65%, 20%)">a</b><b style="color: #12345680">b</b><b style="background-image: ` +
				`linear-gradient(#fff, rgba(0, 0, 0, .25))">c</b>`,
			`<b style="color: rgb(18, 51, 84);">a</b><b style="color: rgba(18, 52, 86, 0.5);">b</b><b ` +
				`style="background-image: linear-gradient(rgb(255, 255, 255), rgba(0, 0, 0, 0.25));">c</b>`},
		{"declarations that say nothing",
			`<div style="display: block; width: 60; height: 60px; color: var(--ink); behavior: url(x.htc); --ink: #123">a</div>`,
			`<div style="height: 60px; --ink: #123;">a</div>`},
		{"a block that is none by itself",
			`<img style="display: block"><span style="display: block">a</span><td style="display: block">b</td>`,
			`<img style="display: block;"><span style="display: block;">a</span><td style="display: block;">b</td>`},
		{"names and shorthands", `<div style="word-wrap: break-word; flex: 2; font: bold 20px/1.4 Verdana, serif">a</div>`,
			`<div style="overflow-wrap: break-word; flex: 2 1 0%; font: bold 20px / 1.4 Verdana, serif;">a</div>`},
		{"pictures by address", `<td style="background: url(a.png) #fff">x</td>`,
			`<td style="background: url(&quot;a.png&quot;) rgb(255, 255, 255);">x</td>`},
	} {
		doc, err := markup.Parse(c.before)
		if err != nil {
			t.Fatal(err)
		}
		style.Inline(doc)
		Paste(doc)
		if got := doc.Render(); !strings.EqualFold(got, c.after) {
			t.Errorf("%s:\n%s\nwant\n%s", c.name, got, c.after)
		}
	}
}

// FuzzPaste: whatever is pasted can be read again, keeps its text, and is not changed by another paste.
func FuzzPaste(f *testing.F) {
	f.Add(`<table><tr><td style="padding:0 1px;color:#123">a <span>b</span></table>`)
	f.Add(`<p style="font-family:'A',B;background:url(x)"><b style=color:red><span style=color:red>x`)
	f.Add(`<div hidden><a href="javascript:x()">c</a></div><b style="visibility:hidden">d`)
	f.Add(`<font><font color=red>e</font></font><object><p>f</object><table><tr><td onclick=x()>a<details>b</table>`)
	f.Add(`<script>g</script><style>p{color:hsl(1,2%,3%)}</style><!--[if mso]>h<![endif]-->`)
	f.Fuzz(func(t *testing.T, html string) {
		doc, err := markup.Parse(html)
		if err != nil || strings.Contains(html, "{{") || !utf8.ValidString(html) { // a template is UTF-8
			return
		}
		style.Inline(doc)
		Paste(doc)
		once := doc.Render()
		again, err := markup.Parse(once)
		if err != nil {
			if len(html) < 1000 {
				t.Fatalf("%q becomes %q, which cannot be read: %v", html, once, err)
			}
			return
		}
		letters := func(s string) string { return strings.Join(strings.Fields(s), "") }
		if a, b := letters(doc.Root.TextContent()), letters(again.Root.TextContent()); a != b {
			t.Fatalf("%q becomes %q: the text %q is read back as %q", html, once, a, b)
		}
		for _, n := range doc.Root.Elements() {
			if n.Is("script", "style", "template", "embed") {
				t.Fatalf("<%s> is left of %q: %q", n.Name, html, once)
			}
			for _, a := range n.Attrs {
				if strings.HasPrefix(a.Name, "on") || a.Name == "href" && markup.SchemeOf(a.Value) == "javascript" {
					t.Fatalf("%s is left of %q: %q", a.Name, html, once)
				}
			}
		}
	})
}
