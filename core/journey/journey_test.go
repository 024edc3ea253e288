package journey

import (
	"strings"
	"testing"

	"missivum/core/client"
	"missivum/core/markup"
	"missivum/core/style"
)

func simulate(t *testing.T, id, html string, last client.Stage) (string, []Event) {
	t.Helper()
	d, err := markup.Parse(html)
	if err != nil {
		t.Fatal(err)
	}
	style.Inline(d)
	before := d.Render()
	kept, log := Simulate(client.Find(id), d, last)
	if d.Render() != before {
		t.Error("the simulated document itself was changed")
	}
	return kept.Render(), log
}

func TestSimulate(t *testing.T) {
	for _, c := range []struct {
		name, id, html, want string
		last                 client.Stage
		events               int
	}{
		{"word processor ignores round corners when it renders", "wordproc-desktop",
			`<b style="border-radius: 4px; color: red">x</b>`, `<b style="color: red">x</b>`, client.Render, 1},
		{"and stores them", "wordproc-desktop", `<b style="border-radius: 4px">x</b>`, `<b style="border-radius: 4px">x</b>`, client.Install, 0},
		{"neutral values are nothing", "wordproc-desktop", `<b style="padding: 0; float: none; border-radius: 0">x</b>`,
			`<b style="padding: 0; float: none; border-radius: 0">x</b>`, client.Render, 0},
		{"padding stays on cells", "wordproc-desktop",
			`<table cellspacing=0 cellpadding=0><tr><td style="padding: 4px">x</table><p style="padding-left: 4px">y`,
			`<table cellspacing=0 cellpadding=0><tr><td style="padding: 4px">x</table><p>y`, client.Render, 1},
		{"only some displays", "wordproc-desktop", `<i style="display: block">x</i><i style="display: inline-flex">y</i>`,
			`<i style="display: block">x</i><i>y</i>`, client.Render, 1},
		{"a background's picture goes, its colour stays", "wordproc-desktop",
			`<td style="background: #123 url('a b.png') no-repeat">x</td>`, `<td style="background: #123 no-repeat">x</td>`, client.Render, 1},
		{"a background's colour alone is fine", "wordproc-desktop", `<td style="background: #123">x</td>`,
			`<td style="background: #123">x</td>`, client.Render, 0},
		{"conditions are honoured", "wordproc-desktop",
			`<!--[if mso]><b>w</b><![endif]--><!--[if !mso]><!--><i>o</i><!--<![endif]--><!-- c -->z`, `<b>w</b>z`, client.Render, 2},
		{"conditions are comments elsewhere", "capped-webmail",
			`<!--[if mso]><b>w</b><![endif]--><!--[if !mso]><!--><i>o</i><!--<![endif]--><!-- c -->z`, `<i>o</i>z`, client.Render, 1},
		{"a paste drops names and sheets", "capped-webmail",
			`<html><body><style>a:hover{color:red}</style><p class=x id=y>z</p></body></html>`, `<p>z</p>`, client.Install, 2},
		{"sheets of a head are reported before the head goes", "capped-webmail",
			`<html><head><link rel="stylesheet" href="s.css"><link rel="icon" href="i.png">` +
				`<style>a:hover{color:red} p{margin:0}</style></head><body><p>z</p></body></html>`,
			`<p style="margin: 0">z</p>`, client.Install, 3},
		{"linked sheets are for nobody", "wordproc-desktop", `<link rel="stylesheet" href="s.css"><p>z</p>`, `<p>z</p>`, client.Render, 1},
		{"scripts go with what is in them", "capped-webmail", `<p onclick="x()">a<script>b</script><form>c</form></p>`,
			`<p>a</p>`, client.Install, 3},
		{"data pictures are refused", "capped-webmail", `<img src="data:image/gif;base64,AA" width=1 height=1>`,
			`<img src="" width=1 height=1>`, client.Install, 1},
		{"an unsized picture stays and is noted", "wordproc-desktop", `<img src="x.png" width=10 style="width: 10px">`,
			`<img src="x.png" width=10>`, client.Render, 2},
		{"a link's colour that stands once is the engine's", "wordproc-desktop",
			`<a href="x" style="font-size: 9px; color: red; text-decoration: none">y</a>`,
			`<a href="x" style="font-size: 9px; text-decoration: none; color: #0563c1">y</a>`, client.Render, 1},
		{"one that stands twice is kept", "wordproc-desktop",
			`<a href="x" style="color: red; text-decoration: none"><span style="color: red">y</span></a>`,
			`<a href="x" style="color: red; text-decoration: none"><span style="color: red">y</span></a>`, client.Render, 0},
		{"a link without a colour", "wordproc-desktop", `<a href="x" style="text-decoration: none">y</a>`,
			`<a href="x" style="text-decoration: none; color: #0563c1">y</a>`, client.Render, 1},
		{"a share of the width is reported where it is pasted", "capped-webmail",
			`<table cellspacing=0 cellpadding=0 style="width: 50%"><tr><td>x</td></tr></table>`,
			`<table cellspacing=0 cellpadding=0 style="width: 50%"><tr><td>x</td></tr></table>`, client.Install, 1},
		{"a block in an inline element", "wordproc-desktop",
			`<span><div>x</div></span><a href=x><table cellspacing=0 cellpadding=0></table></a><div><p>y</p></div>`,
			`<span><div>x</div></span><a href=x><table cellspacing=0 cellpadding=0></table></a><div><p>y</p></div>`, client.Render, 2},
	} {
		t.Run(c.name, func(t *testing.T) {
			got, log := simulate(t, c.id, c.html, c.last)
			if got != c.want {
				t.Errorf("got  %s\nwant %s", got, c.want)
			}
			if len(log) != c.events {
				t.Errorf("%d events, want %d: %v", len(log), c.events, log)
			}
			for _, e := range log {
				if e.Subject.String() == "" || e.Span.End > len(c.html) || !strings.Contains(e.String(), string(e.Stage)) {
					t.Errorf("event %+v", e)
				}
			}
		})
	}
}

func TestMisplacedDocumentTags(t *testing.T) {
	for html, want := range map[string]int{
		`<!DOCTYPE html><html><head></head><body><p>x</p></body></html>`: 0,
		`<body><p>x</p></body>`:  0,
		`<p>x</p></body></html>`: 2,
		`<table><tr><td><html><body>x</body></html></td></tr></table>`: 1,
	} {
		d, err := markup.Parse(html)
		if err != nil {
			t.Fatal(err)
		}
		if got := len(MisplacedDocumentTags(d)); got != want {
			t.Errorf("%s: %d, want %d", html, got, want)
		}
	}
}

func FuzzSimulate(f *testing.F) {
	f.Add(`<span><div style="float:left;padding:3px">x</div></span><!--[if mso]><td><![endif]-->`)
	f.Add(`<html><style>a:hover{}</style><img src=data:x><form><body>`)
	f.Fuzz(func(t *testing.T, html string) {
		d, err := markup.Parse(html)
		if err != nil {
			return
		}
		style.Inline(d)
		for _, p := range client.Shipped() {
			kept, log := Simulate(p, d, client.Render)
			if _, err := markup.Parse(kept.Render()); err != nil && len(html) < 1000 {
				t.Fatalf("%s: what is kept cannot be read: %v", p.ID, err)
			}
			for _, e := range log {
				if e.Span.Start < 0 || e.Span.End > len(html) {
					t.Fatalf("%s: an event outside the source: %+v", p.ID, e)
				}
			}
		}
	})
}

// TestAttributesBecomeDeclarations: a client that rewrites old markup puts what an attribute said into the style.
func TestAttributesBecomeDeclarations(t *testing.T) {
	doc, err := markup.Parse(`<p><font color="#123456" size="2" face="Verdana">a</font><strike>b</strike></p>`)
	if err != nil {
		t.Fatal(err)
	}
	style.ReadAttributes(doc)
	kept, _ := Simulate(client.Find("washing-webmail"), doc, client.Install)
	want := `<p><span style="font-family: Verdana; color: #123456; font-size: small">a</span><span ` +
		`style="text-decoration: line-through">b</span></p>`
	if got := kept.Render(); got != want {
		t.Errorf("%s\nwant\n%s", got, want)
	}
}
