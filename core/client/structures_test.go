package client

import (
	"strings"
	"testing"

	"missivum/core/markup"
	"missivum/core/style"
)

// TestStructures: for each finder what it finds, each by a part of what it says, and what it must leave alone.
func TestStructures(t *testing.T) {
	known := Match{Fonts: []string{"Arial", "Verdana", "sans-serif"}}
	for _, c := range []struct {
		name string
		find func(*markup.Document, Match) []Spot
		m    Match
		html string
		want []string
	}{
		{"tables in tables", NestedTables, Match{Above: 1}, `<table><tr><td><table><tr><td></td></tr></table></td></tr></table>`, []string{"inside 1"}},
		{"tables beside tables", NestedTables, Match{Above: 1}, `<table></table><table></table>`, nil},
		{"an unknown font at the head", UnknownFonts, known, `<b style="font-family: 'Fira Sans', Arial">x</b><b style="font: 12px/1.4 Inter, Arial">y</b><font face="Lato">z</font>`, []string{"Fira Sans", "Inter", "Lato"}},
		{"an unknown font behind a known one", UnknownFonts, known, `<b style="font-family: arial, 'Fira Sans'">x</b>`, nil},
		{"the engine is told another", UnknownFonts, known, `<!--[if mso]><style>td { font-family: Arial }</style><![endif]--><b style="font-family: Inter">x</b>`, nil},
		{"told beside it", UnknownFonts, known, `<b style="font-family: Inter; mso-font-alt: Arial">x</b>`, nil},
		{"line heights", LineHeightsAlone, Match{}, `<b style="line-height: 20px">x</b><b style="line-height: 1.4">y</b><b style="line-height: normal">z</b><b style="line-height: 0">z</b><img style="line-height: 9px">`, []string{"20px", "1.4"}},
		{"line heights with the rule", LineHeightsAlone, Match{}, `<b style="line-height: 20px; mso-line-height-rule: exactly">x</b>`, nil},
		{"a picture in an exact line", PicturesInExactLines, Match{}, `<p style="line-height: 20px; mso-line-height-rule: exactly"><img height="40"><img height="16"></p>`, []string{"exact height"}},
		{"a picture whose cell may grow", PicturesInExactLines, Match{}, `<table style="line-height: 20px; mso-line-height-rule: exactly"><tr><td style="mso-line-height-rule: at-least"><img height="40"></td></tr></table>`, nil},
		{"tables that say nothing of gaps", TablesWithoutGaps, Match{}, `<table></table><table cellspacing=0></table><table cellpadding=0 style="border-collapse: collapse"></table><table cellspacing=0 cellpadding=0></table>`, []string{"a table", "a table"}},
		{"links without a colour", LinksWithoutColour, Match{}, `<a href="x">x</a><a href="x"><font color="red">y</font></a><a href="x" style="color: red">z</a><a name="x">no link</a><a href="x"><img></a>`, []string{"without a colour"}},
		{"links coloured once", LinksColouredOnce, Match{}, `<a href="x" style="color: red">x</a><a href="x" style="color: red"><span style="color: red">y</span></a><a href="x" style="color: red"><span style="color: red">z</span> rest</a>`, []string{"a link", "a link"}},
		{"links without a line", LinksWithoutLine, Match{}, `<a href="x">x</a><a href="x" style="text-decoration: none">y</a>`, []string{"text-decoration"}},
		{"numbers outside links", PlainNumbers, Match{}, `<p>+44 1632 960100, {{ mobile | phone }} and <a href="tel:1">01632 960101</a>, 2026-11-23, room 12</p>`, []string{"+44 1632 960100", "{{ mobile | phone }}", "2026-11-23"}},
		{"addresses outside links", PlainAddresses, Match{}, `<p>office@brackwater.example, www.brackwater.example/x, {{ mail }}, {{ cn }} <a href="x">www.brackwater.example</a></p>`, []string{"office@", "www.brackwater.example/x", "{{ mail }}"}},
		{"small text", SmallTexts, Match{Below: 9}, `<p style="font-size: 8px">a <b>b</b></p><p style="font-size: 1px">&nbsp;</p><p style="font-size: 12px">c <small style="font-size: 50%">d</small></p>`, []string{"8 px", "6 px"}},
		{"wide pieces", WidePieces, Match{Above: 600}, `<table width="640"></table><img width="600"><div style="width: 50em">x</div><div style="width: 900px">x</div><td width="100%">`, []string{"<table> 640", "<div> 900"}},
		{"tall pieces", TallPieces, Match{Above: 100}, `<img height="120"><td style="height: 40px">`, []string{"<img> 120"}},
		{"hidden contents", HiddenContents, Match{}, `<b style="display: none">x</b><b style="visibility: hidden">y</b><b style="display: none; mso-hide: all">z</b><b style="display: none"></b>`, []string{"display: none", "visibility: hidden"}},
		{"slices on lines of text", PictureGaps, Match{}, `<table><tr><td><img></td><td><a href="x"><img></a></td><td><img style="display: block"></td></tr></table><table><tr><td><img></td><td>text</td></tr></table>`, []string{"fills its cell", "fills its cell"}},
		{"linked pictures with a border", PicturesWithBorder, Match{}, `<a href="x"><img></a><a href="x"><img border="0"></a><a href="x"><img style="border: 0"></a><img>`, []string{"border of 0"}},
		{"blocks without margins", BlocksWithoutMargin, Match{}, `<p>x</p><p style="margin: 0">y</p><h2 style="margin-top: 1px">z</h2><ul></ul><div>no</div>`, []string{"<p>", "<ul>"}},
		{"one paragraph that is all", LoneBlocks, Match{}, `<html><head><style>b{}</style></head><body> <p style="margin: 0">x <b>y</b></p> </body></html>`, []string{"<p>"}},
		{"one that holds a picture or has company", LoneBlocks, Match{}, `<p style="margin: 0">x</p><p style="margin: 0">y</p>`, nil},
	} {
		doc, err := markup.Parse(c.html)
		if err != nil {
			t.Fatal(err)
		}
		style.Inline(doc)
		found := c.find(doc, c.m)
		var said []string
		for _, s := range found {
			said = append(said, s.What)
			if s.Node == nil || s.Span.End > len(c.html) || s.Span.Start > s.Span.End {
				t.Errorf("%s: %+v", c.name, s)
			}
		}
		if len(said) != len(c.want) {
			t.Errorf("%s: %q, want %q", c.name, said, c.want)
			continue
		}
		for i, want := range c.want {
			if !strings.Contains(said[i], want) {
				t.Errorf("%s: %q, want %q", c.name, said, c.want)
			}
		}
	}
}

func TestSchemeOf(t *testing.T) {
	for address, want := range map[string]string{
		"https://x.example/": "https", "MAILTO:a@x.example": "mailto", "//x.example/a": NetworkAddress, "#top": FragmentAddress, "": EmptyAddress,
		"www.x.example": WordAddress, "a/b.html": RelativeAddress, "?a=b:c": RelativeAddress, "cid:a": "cid", " tel:+44 ": "tel", "a b:c": RelativeAddress,
	} {
		if got := SchemeOf(address); got != want {
			t.Errorf("%q: %s, want %s", address, got, want)
		}
	}
}

func TestMatchesInWords(t *testing.T) {
	for want, m := range map[string]Match{
		"picture without size": {Structure: "picture-without-size"},
		"<form> <input>":       {Elements: []string{"form", "input"}},
		"attributes * except href, src without a value": {Attributes: []string{"*"}, Except: []string{"href", "src"}, Values: []string{""}},
		"attributes href with #":                        {Attributes: []string{"href"}, Values: []string{"#"}},
		"background with url(*) but not url(data:*)":    {Properties: []string{"background"}, Part: "url(*)", PartExcept: []string{"url(data:*)"}},
		"width units number on img not on td":           {Properties: []string{"width"}, Units: []string{"number"}, On: []string{"img"}, NotOn: []string{"td"}},
		"tall above 1600":                               {Structure: "tall", Above: 1600},
		"small text below 9":                            {Structure: "small-text", Below: 9},
		"colours hsl, rgba":                             {Colours: []string{"hsl", "rgba"}},
		"attributes href addresses data":                {Attributes: []string{"href"}, Schemes: []string{"data"}},
	} {
		if got := m.String(); got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
}

// TestTheEngine: kinds of matches and actions that no shipped profile shows by itself.
func TestTheEngine(t *testing.T) {
	for _, c := range []struct{ name, behaviour, html, want string }{
		{"an allow-list of elements", `match: {elements: ["*"], except: [b]}, does: unwrapped`, `<i>a<b>c</b></i>`, `a<b>c</b>`},
		{"an allow-list of attributes, never the template's own", `match: {attributes: ["*"], except: [href]}, does: dropped`, `<a href="x" class="y" data-needs="mail">a</a>`, `<a href="x" data-needs="mail">a</a>`},
		{"another name", `match: {elements: [form]}, does: rewritten, to: div`, `<form a="1">x</form>`, `<div a="1">x</div>`},
		{"each name of a list", `match: {attributes: [class]}, does: rewritten, to: "x_*"`, `<b class="one two">x</b>`, `<b class="x_one x_two">x</b>`},
		{"an attribute is added once", `match: {elements: [a]}, does: added, adds: {attribute: rel, value: y}`, `<a>x</a><a rel="z">x</a>`, `<a rel="y">x</a><a rel="z">x</a>`},
		{"a declaration is added once", `match: {elements: [a]}, does: added, adds: {property: color, value: red}`, `<a>x</a><a style="color: blue">x</a>`, `<a style="color: red">x</a><a style="color: blue">x</a>`},
		{"units", `match: {units: [rem]}, does: ignored`, `<b style="font-size: 1rem; color: red">x</b>`, `<b style="color: red">x</b>`},
		{"bare numbers of some properties", `match: {properties: [width], units: [number]}, does: rewritten, to: "*px"`, `<b style="width: 60; line-height: 2">x</b>`, `<b style="width: 60px; line-height: 2">x</b>`},
		{"colours", `match: {colours: [hsl]}, does: ignored`, `<b style="color: hsl(1, 2%, 3%)">x</b>`, `<b>x</b>`},
		{"a part of a value, but for some", `match: {properties: [background], part: "url(*)", part-except: ["url(data:*"]}, does: dropped`, `<b style="background: red url(a.png)">x</b><b style="background: url(data:x)">y</b>`, `<b style="background: red">x</b><b style="background: url(data:x)">y</b>`},
		{"addresses in attributes", `match: {schemes: [relative, word], attributes: [href]}, does: rewritten, to: "https://x.example/*"`, `<a href="a/b">x</a><a href="https://y.example/">y</a>`, `<a href="https://x.example/a/b">x</a><a href="https://y.example/">y</a>`},
		{"an address that begins with a field is nobody's", `match: {schemes: ["*"], attributes: [href]}, does: dropped`, `<a href="{{ labeledURI }}">x</a>`, `<a href="{{ labeledURI }}">x</a>`},
		{"signs in text", `match: {texts: ["…"]}, does: rewritten, to: "..."`, `<b title="…">a…</b>`, `<b title="…">a...</b>`},
		{"at-rules of a sheet", `match: {at-rules: [import]}, does: dropped`, `<style>@import "x";a:hover{color:red}</style><a>x</a>`, `:hover`},
		{"states in a sheet", `match: {selectors: [state]}, does: dropped`, `<style>@media print{b{color:red}}a:hover{color:red}</style><a>x</a>`, `@media`},
		{"values of attributes", `match: {attributes: [align], values: ["cent*"]}, does: dropped`, `<p align="center">x</p><p align="left">y</p>`, `<p>x</p><p align="left">y</p>`},
	} {
		p, err := Parse([]byte("id: x\ntitle: X\nabout: x\nform: html\ninstall: {way: file}\nbehaviours:\n  - {id: a, stage: render, basis: assumed, " + c.behaviour + "}\n"))
		if err != nil {
			t.Fatalf("%s: %v", c.name, err)
		}
		doc, err := markup.Parse(c.html)
		if err != nil {
			t.Fatal(err)
		}
		style.Inline(doc)
		kept, log := Simulate(p, doc, Render)
		got := kept.Render()
		if got != c.want && !(strings.HasPrefix(c.html, "<style>") && strings.Contains(got, c.want) && strings.Count(got, "color:red") <= 1) {
			t.Errorf("%s:\n%s\nwant\n%s", c.name, got, c.want)
		}
		if changed := got != doc.Render(); changed != (len(log) > 0) {
			t.Errorf("%s: changed %v, %d events", c.name, changed, len(log))
		}
	}
}
