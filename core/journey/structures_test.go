package journey

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"

	"missivum/core/client"
	"missivum/core/markup"
	"missivum/core/style"
)

// TestStructures: for each finder what it finds, each by a part of what it says, and what it must leave alone.
func TestStructures(t *testing.T) {
	known := client.Match{Fonts: []string{"Arial", "Verdana", "sans-serif"}}
	for _, c := range []struct {
		name string
		find string
		m    client.Match
		html string
		want []string
	}{
		{"tables in tables", "nested-tables", client.Match{Above: 1},
			`<table><tr><td><table><tr><td></td></tr></table></td></tr></table>`, []string{"inside 1"}},
		{"tables beside tables", "nested-tables", client.Match{Above: 1}, `<table></table><table></table>`, nil},
		{"an unknown font at the head", "unknown-font", known,
			`<b style="font-family: 'Fira Sans', Arial">x</b><b style="font: 12px/1.4 Inter, Arial">y</b><font face="Lato">z</font>`,
			[]string{"Fira Sans", "Inter", "Lato"}},
		{"an unknown font behind a known one", "unknown-font", known, `<b style="font-family: arial, 'Fira Sans'">x</b>`, nil},
		{"the engine is given another", "unknown-font", known,
			`<!--[if mso]><style>td { font-family: Arial }</style><![endif]--><b style="font-family: Inter">x</b>`, nil},
		{"given beside it", "unknown-font", known, `<b style="font-family: Inter; mso-font-alt: Arial">x</b>`, nil},
		{"line heights", "line-height-alone", client.Match{},
			`<b style="line-height: 20px">x</b><b style="line-height: 1.4">y</b><b style="line-height: normal">z</b>` +
				`<b style="line-height: 0">z</b><img style="line-height: 9px">`,
			[]string{"20px", "1.4"}},
		{"line heights with the rule", "line-height-alone", client.Match{},
			`<b style="line-height: 20px; mso-line-height-rule: exactly">x</b>`, nil},
		{"a picture in an exact line", "exact-line-picture", client.Match{},
			`<p style="line-height: 20px; mso-line-height-rule: exactly"><img height="40"><img height="16"></p>`, []string{"exact height"}},
		{"a picture whose cell may grow", "exact-line-picture", client.Match{},
			`<table style="line-height: 20px; mso-line-height-rule: exactly"><tr><td style="mso-line-height-rule: ` +
				`at-least"><img height="40"></td></tr></table>`, nil},
		{"tables that say nothing of gaps", "table-without-gaps", client.Match{},
			`<table></table><table cellspacing=0></table><table cellpadding=0 style="border-collapse: collapse">` +
				`</table><table cellspacing=0 cellpadding=0></table>`,
			[]string{"a table", "a table"}},
		{"links without a colour", "link-colour-none", client.Match{},
			`<a href="x">x</a><a href="x"><font color="red">y</font></a><a href="x" style="color: red">z</a><a ` +
				`name="x">no link</a><a href="x"><img></a>`,
			[]string{"without a colour"}},
		{"links coloured once", "link-colour-once", client.Match{},
			`<a href="x" style="color: red">x</a><a href="x" style="color: red"><span style="color: red">y</span>` +
				`</a><a href="x" style="color: red"><span style="color: red">z</span> rest</a>`,
			[]string{"a link", "a link"}},
		{"links without a line", "link-without-line", client.Match{},
			`<a href="x">x</a><a href="x" style="text-decoration: none">y</a>`, []string{"text-decoration"}},
		{"numbers outside links", "plain-number", client.Match{},
			`<p>+44 1632 960100, {{ mobile | phone }} and <a href="tel:1">01632 960101</a>, 2026-11-23, room 12</p>`,
			[]string{"+44 1632 960100", "{{ mobile | phone }}", "2026-11-23"}},
		{"addresses outside links", "plain-address", client.Match{},
			`<p>office@brackwater.example, www.brackwater.example/x, {{ mail }}, {{ cn }} <a href="x">www.brackwater.example</a></p>`,
			[]string{"office@", "www.brackwater.example/x", "{{ mail }}"}},
		{"small text", "small-text", client.Match{Below: 9},
			`<p style="font-size: 8px">a <b>b</b></p><p style="font-size: 1px">&nbsp;</p><p style="font-size: ` +
				`12px">c <small style="font-size: 50%">d</small></p>`,
			[]string{"8 px", "6 px"}},
		{"wide pieces", "wide", client.Match{Above: 600},
			`<table width="640"></table><img width="600"><div style="width: 50em">x</div><div style="width: 900px">x</div><td width="100%">`,
			[]string{"<table> 640", "<div> 900"}},
		{"tall pieces", "tall", client.Match{Above: 100}, `<img height="120"><td style="height: 40px">`, []string{"<img> 120"}},
		{"hidden contents", "hidden-content", client.Match{},
			`<b style="display: none">x</b><b style="visibility: hidden">y</b><b style="display: none; mso-hide: ` +
				`all">z</b><b style="display: none"></b>`,
			[]string{"display: none", "visibility: hidden"}},
		{"slices on lines of text", "picture-gap", client.Match{},
			`<table><tr><td><img></td><td><a href="x"><img></a></td><td><img style="display: block"></td></tr>` +
				`</table><table><tr><td><img></td><td>text</td></tr></table>`,
			[]string{"fills its cell", "fills its cell"}},
		{"linked pictures with a border", "picture-border", client.Match{},
			`<a href="x"><img></a><a href="x"><img border="0"></a><a href="x"><img style="border: 0"></a><img>`, []string{"border of 0"}},
		{"pictures by address without nosend", client.HostedPicture, client.Match{}, `<img src="HTTPS://a.example/a.png">` +
			`<img src="https://a.example/a.png" nosend="1"><img src="a.png"><img src="cid:a"><img src="{{ photo }}"><img>`,
			[]string{"without nosend", "without nosend"}},
		{"blocks without margins", "block-margins", client.Match{},
			`<p>x</p><p style="margin: 0">y</p><h2 style="margin-top: 1px">z</h2><ul></ul><div>no</div>`, []string{"<p>", "<ul>"}},
		{"one paragraph that is all", "lone-block", client.Match{},
			`<html><head><style>b{}</style></head><body> <p style="margin: 0">x <b>y</b></p> </body></html>`, []string{"<p>"}},
		{"one that holds a picture or has company", "lone-block", client.Match{}, `<p style="margin: 0">x</p><p style="margin: 0">y</p>`, nil},
	} {
		doc, err := markup.Parse(c.html)
		if err != nil {
			t.Fatal(err)
		}
		style.Inline(doc)
		st := structureOf(c.find)
		found := st.find(doc, c.m)
		var said []string
		for _, s := range found {
			if s.about.Kind == "" {
				s.about.Kind, s.about.Name = Structure, st.name
			}
			said = append(said, s.about.String())
			if s.node == nil || s.span.End > len(c.html) || s.span.Start > s.span.End {
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

// TestTheEngine: kinds of matches and actions that no shipped profile shows by itself.
func TestTheEngine(t *testing.T) {
	for _, c := range []struct{ name, behaviour, html, want string }{
		{"an allow-list of elements", `match: {elements: ["*"], except: [b]}, does: unwrapped`, `<i>a<b>c</b></i>`, `a<b>c</b>`},
		{"an allow-list of attributes, never the template's own",
			`match: {attributes: ["*"], except: [href]}, does: dropped`, `<a href="x" class="y" data-needs="mail">a</a>`,
			`<a href="x" data-needs="mail">a</a>`},
		{"another name", `match: {elements: [form]}, does: rewritten, to: div`, `<form a="1">x</form>`, `<div a="1">x</div>`},
		{"each name of a list", `match: {attributes: [class]}, does: rewritten, to: "x_*"`, `<b class="one two">x</b>`,
			`<b class="x_one x_two">x</b>`},
		{"an attribute is added once", `match: {elements: [a]}, does: added, adds: {attribute: rel, value: y}`,
			`<a>x</a><a rel="z">x</a>`, `<a rel="y">x</a><a rel="z">x</a>`},
		{"a declaration is added once", `match: {elements: [a]}, does: added, adds: {property: color, value: red}`,
			`<a>x</a><a style="color: blue">x</a>`, `<a style="color: red">x</a><a style="color: blue">x</a>`},
		{"units", `match: {units: [rem]}, does: ignored`, `<b style="font-size: 1rem; color: red">x</b>`, `<b style="color: red">x</b>`},
		{"bare numbers of some properties", `match: {properties: [width], units: [number]}, does: rewritten, to: "*px"`,
			`<b style="width: 60; line-height: 2">x</b>`, `<b style="width: 60px; line-height: 2">x</b>`},
		{"colours", `match: {colours: [hsl]}, does: ignored`, `<b style="color: hsl(1, 2%, 3%)">x</b>`, `<b>x</b>`},
		{"a part of a value, but for some",
			`match: {properties: [background], part: "url(*)", part-except: ["url(data:*"]}, does: dropped`,
			`<b style="background: red url(a.png)">x</b><b style="background: url(data:x)">y</b>`,
			`<b style="background: red">x</b><b style="background: url(data:x)">y</b>`},
		{"addresses in attributes",
			`match: {schemes: [relative, word], attributes: [href]}, does: rewritten, to: "https://x.example/*"`,
			`<a href="a/b">x</a><a href="https://y.example/">y</a>`, `<a href="https://x.example/a/b">x</a><a href="https://y.example/">y</a>`},
		{"an address that begins with a field is nobody's", `match: {schemes: ["*"], attributes: [href]}, does: dropped`,
			`<a href="{{ labeledURI }}">x</a>`, `<a href="{{ labeledURI }}">x</a>`},
		{"signs in text", `match: {texts: ["…"]}, does: rewritten, to: "..."`, `<b title="…">a…</b>`, `<b title="…">a...</b>`},
		{"at-rules of a sheet", `match: {at-rules: [import]}, does: dropped`, `<style>@import "x";a:hover{color:red}</style><a>x</a>`, `:hover`},
		{"states in a sheet", `match: {selectors: [state]}, does: dropped`,
			`<style>@media print{b{color:red}}a:hover{color:red}</style><a>x</a>`, `@media`},
		{"values of attributes", `match: {attributes: [align], values: ["cent*"]}, does: dropped`,
			`<p align="center">x</p><p align="left">y</p>`, `<p>x</p><p align="left">y</p>`},
	} {
		p, err := client.Parse([]byte("id: x\ntitle: X\nabout: x\nform: html\ninstall: {way: page-file}\nbehaviours:\n  " +
			"- {id: a, stage: render, basis: assumed, " +
			c.behaviour + "}\n"))
		if err != nil {
			t.Fatalf("%s: %v", c.name, err)
		}
		doc, err := markup.Parse(c.html)
		if err != nil {
			t.Fatal(err)
		}
		style.Inline(doc)
		kept, log := Simulate(p, doc, client.Render)
		got := kept.Render()
		if got != c.want && !(strings.HasPrefix(c.html, "<style>") && strings.Contains(got, c.want) && strings.Count(got, "color:red") <= 1) {
			t.Errorf("%s:\n%s\nwant\n%s", c.name, got, c.want)
		}
		if changed := got != doc.Render(); changed != (len(log) > 0) {
			t.Errorf("%s: changed %v, %d events", c.name, changed, len(log))
		}
	}
}

// TestTheSchemaListsTheStructures: every kind of structure can be asked for, and no other; each says what it is.
func TestTheSchemaListsTheStructures(t *testing.T) {
	var schema struct {
		Defs struct {
			Behaviour struct {
				Properties struct {
					Match struct {
						Properties struct {
							Structure struct{ Enum []string }
						}
					}
				}
			}
		} `json:"$defs"`
	}
	if err := json.Unmarshal([]byte(client.SchemaJSON()), &schema); err != nil {
		t.Fatal(err)
	}
	listed := schema.Defs.Behaviour.Properties.Match.Properties.Structure.Enum
	var names []string
	for _, st := range structures {
		names = append(names, st.name)
		if st.doc == "" || (st.find == nil) == (st.apply == nil) || st.find != nil && st.words == nil &&
			st.name != "line-height-alone" && st.name != "hidden-content" {
			t.Errorf("%+v", st)
		}
	}
	slices.Sort(names)
	slices.Sort(listed)
	if !slices.Equal(names, listed) {
		t.Errorf("the schema lists %q, there are %q", listed, names)
	}
}
