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
		{"quotes, capitals and missing end tags", `<P ALIGN=center>x<BR>&middot;&amp;<P>z`, `<p align="center">x<BR>·&amp;</p><p>z</p>`},
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
			`<div style="display: block; width: 60; height: 60px; color: var(--ink); behavior: url(x.htc); --ink: #123">a</div><p>z</p>`,
			`<div style="height: 60px; --ink: #123;">a</div><p>z</p>`},
		{"a block that is none by itself",
			`<img style="display: block"><span style="display: block">a</span><td style="display: block">b</td>`,
			`<img style="display: block;"><span style="display: block;">a</span><td style="display: block;">b</td>`},
		{"names and shorthands", `<div style="word-wrap: break-word; flex: 2; font: bold 20px/1.4 Verdana, serif">a</div><p>z</p>`,
			`<div style="overflow-wrap: break-word; flex: 2 1 0%; font: bold 20px / 1.4 Verdana, serif;">a</div><p>z</p>`},
		{"a lone block", `<div style="color: #123456; font-size: 12px; padding: 4px">a <b>b</b><br>c</div>`,
			`<span style="color: rgb(18, 52, 86); font-size: 12px;">a </span><b style="color: rgb(18, 52, 86); font-size: 12px;">b</b>` +
				`<br style="color: rgb(18, 52, 86); font-size: 12px;"><span style="color: rgb(18, 52, 86); font-size: 12px;">c</span>`},
		{"a lone block around others",
			`<div style="width: 300px; color: #123456"><p style="width: 50%">a</p><p style="color: #00ff00">b</p></div>`,
			`<p style="color: rgb(18, 52, 86); width: 150px;">a</p><p style="color: rgb(0, 255, 0);">b</p>`},
		{"a background without a colour", `<p style="background: url(a.png) center/cover no-repeat">a</p><p>b</p>`,
			`<p style="background-image: url(&quot;a.png&quot;); background-position: center center; background-size: cover; background-repeat: ` +
				`no-repeat; background-attachment: initial; background-origin: initial; background-clip: initial;">a</p><p>b</p>`},
		{"a border with a side", `<p style="border: 0; border-left: 2px solid #c00">a</p><p>b</p>`,
			`<p style="border-width: 0px 0px 0px 2px; border-style: none none none solid; border-color: currentcolor currentcolor currentcolor ` +
				`rgb(204, 0, 0); border-image: none;">a</p><p>b</p>`},
		{"what holds anyway", `<p style="margin: 0 0 0 0; margin-bottom: 4px; font-weight: normal"><a href="https://x.example" ` +
			`style="text-decoration: underline">a</a></p><p>b</p>`,
			`<p style="margin: 0px 0px 4px;"><a href="https://x.example/">a</a></p><p>b</p>`},
		{"what is given already", `<div style="font: 13px Arial; color: #123456"><table style="color: #123456"><tr><td style="color: #123456; ` +
			`line-height: 20px">a <a href="https://x.example/" style="color: #123456">b</a></td></tr></table></div><p>z</p>`,
			`<div style="font-style: normal; font-variant: normal; ` + fontReset + `; font-size: 13px; line-height: normal; font-family: Arial; ` +
				`color: rgb(18, 52, 86);"><table><tbody><tr><td style="line-height: 20px;">a <a href="https://x.example/" ` +
				`style="color: rgb(18, 52, 86);">b</a></td></tr></tbody></table></div><p>z</p>`},
		{"what the page gives",
			`<p style="color: #000; text-align: left; font-size: medium">a</p><div style="color: #123"><p style="color: #000">b</p></div>`,
			`<p>a</p><div style="color: rgb(17, 34, 51);"><p style="color: rgb(0, 0, 0);">b</p></div>`},
		{"shares of letters", `<div style="font-size: 10px"><p style="font-size: 120%; line-height: 150%">a</p></div><p>b</p>`,
			`<div style="font-size: 10px;"><p style="font-size: 12px; line-height: 18px;">a</p></div><p>b</p>`},
		{"a bold heading", `<h2 style="font-weight: 600">a</h2><h2 style="font-weight: 500">b</h2>`,
			`<h2>a</h2><h2 style="font-weight: 500;">b</h2>`},
		{"spaces that do not break", `<p>a&nbsp;b<b>c</b>&nbsp;|&nbsp; d&nbsp;</p><p>&nbsp;e</p>`,
			`<p>a b<b>c</b> |&nbsp; d&nbsp;</p><p>&nbsp;e</p>`},
		{"sides", `<center><table><tr><td style="text-align: left">a</td></tr></table><p style="text-align: left">b</p></center>` +
			`<p dir="rtl" style="text-align: right">c</p>`,
			`<center><table><tbody><tr><td>a</td></tr></tbody></table><p style="text-align: left;">b</p></center><p dir="rtl">c</p>`},
		{"no border", `<p style="border-left: none">a</p><p style="border: none">b</p><p style="border: 0">c</p>`,
			`<p style="border-left-width: medium; border-left-style: none; border-left-color: currentcolor;">a</p><p style="border-width: medium; ` +
				`border-style: none; border-color: currentcolor; border-image: none;">b</p><p style="border: 0px;">c</p>`},
		{"a map and a line at the end", `<p>a</p><map name="m"><area href="https://x.example/"></map>`, `a`},
		{"a block that takes room at the end", `<div style="color: #123"><p>a</p><div style="height: 1px"></div></div>`,
			`<p style="color: rgb(17, 34, 51);">a</p><div><br></div>`},
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
