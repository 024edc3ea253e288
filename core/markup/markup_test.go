package markup

import (
	"errors"
	"fmt"
	"golang.org/x/net/html"
	"strings"
	"testing"
	"unicode/utf8"
)

func mustParse(t *testing.T, source string) *Document {
	t.Helper()
	d, err := Parse(source)
	if err != nil {
		t.Fatalf("Parse(%q): %v", source, err)
	}
	return d
}

// outline writes a tree as nested names, to compare shapes.
func outline(n *Node) string {
	var b strings.Builder
	switch n.Kind {
	case Text:
		if strings.TrimSpace(n.Data) == "" {
			return ""
		}
		return "'" + strings.TrimSpace(n.Data) + "'"
	case Comment:
		return "comment"
	case Doctype:
		return "doctype"
	case Stray:
		return "/" + n.Name
	case Conditional:
		b.WriteString("if[" + n.Condition + "]")
	default:
		b.WriteString(n.Name)
	}
	var parts []string
	for _, c := range n.Children {
		if s := outline(c); s != "" {
			parts = append(parts, s)
		}
	}
	return b.String() + "(" + strings.Join(parts, " ") + ")"
}

func TestParseShapes(t *testing.T) {
	for _, c := range []struct{ name, source, want string }{
		{"nested", `<div><b>a</b></div>`, "(div(b('a')))"},
		{"void", `<p>a<br>b<img src=x>c</p>`, "(p('a' br() 'b' img() 'c'))"},
		{"paragraphs end each other", `<p>a<p>b`, "(p('a') p('b'))"},
		{"a block ends a paragraph", `<p>a<div>b</div></p>`, "(p('a') div('b') /p)"},
		{"list items end each other", `<ul><li>a<li>b<ul><li>c</ul></ul>`, "(ul(li('a') li('b' ul(li('c')))))"},
		{"cells end each other", `<table><tr><td>a<td>b<tr><td>c</table>`, "(table(tr(td('a') td('b')) tr(td('c'))))"},
		{"a nested table keeps its cells", `<table><tr><td><table><tr><td>a</table><td>b</table>`, "(table(tr(td(table(tr(td('a')))) td('b'))))"},
		{"a stray end tag", `a</b>c`, "('a' /b 'c')"},
		{"an end tag does not leave its cell", `<div><table><tr><td>a</div>b</table></div>`, "(div(table(tr(td('a' /div 'b')))))"},
		{"style is text", `<style>a > b { color: red }</style>`, "(style('a > b { color: red }'))"},
		{"hidden condition", `<!--[if mso]><p>a</p><![endif]-->b`, "(if[mso](p('a')) 'b')"},
		{"hidden condition with half a table",
			`<!--[if mso]><table><tr><td><![endif]-->b<!--[if mso]></td></tr></table><![endif]-->`,
			"(if[mso](table(tr(td()))) 'b' if[mso](/td /tr /table))"},
		{"revealed condition", `<!--[if !mso]><!-->a<!--<![endif]-->`, "(comment 'a' comment)"},
		{"doctype and comment", `<!DOCTYPE html><!-- x --><p>a`, "(doctype comment p('a'))"},
		{"an unfinished tag is text", `a<b`, "('a' '<b')"},
		{"references are decoded", `a &amp; b &#x41;`, "('a & b A')"},
	} {
		t.Run(c.name, func(t *testing.T) {
			if got := outline(mustParse(t, c.source).Root); got != c.want {
				t.Errorf("got  %s\nwant %s", got, c.want)
			}
		})
	}
}

func TestRenderLeavesUnchangedBytesAlone(t *testing.T) {
	source := "<!doctype HTML>\r\n<DIV Class='a'  id = x data-x>A &amp; b&nbsp;<br/>\n<!-- c --><P>unclosed " +
		"<I>x</DIV>\n<a href=\"x\"title=y>z</a"
	d := mustParse(t, source)
	if got := d.Render(); got != source {
		t.Fatalf("got %q\nwant %q", got, source)
	}
	div := d.Root.Elements("div")[0]
	div.SetAttr("id", `q"<`)
	div.RemoveAttr("data-x")
	want := strings.Replace(source, `<DIV Class='a'  id = x data-x>`, `<div Class='a' id="q&quot;&lt;">`, 1)
	if got := d.Render(); got != want {
		t.Errorf("after a change\ngot  %q\nwant %q", got, want)
	}
}

func TestPlaces(t *testing.T) {
	d := mustParse(t, "<p>\n  <b>Grüße</b> <img src=\"a.png\" alt='x'></p>")
	img := d.Root.Elements("img")[0]
	if p := d.Place(img.Open.Start); p.Line != 2 || p.Column != 16 {
		t.Errorf("img at %d:%d, want 2:16: columns count characters, not bytes", p.Line, p.Column)
	}
	alt := img.Attribute("alt")
	if got := d.Source[alt.Span.Start:alt.Span.End]; got != "alt='x'" {
		t.Errorf("alt spans %q", got)
	}
	if got := d.Source[alt.Inner.Start:alt.Inner.End]; got != "x" {
		t.Errorf("alt's value spans %q", got)
	}
	if p := d.Place(10_000); p.Line != 2 || p.Offset != len(d.Source) {
		t.Errorf("beyond the end: %+v", p)
	}
}

func TestAttributes(t *testing.T) {
	n := mustParse(t, `<td WIDTH=10 width=20 nowrap title="a &amp; b" data-x='"'/>`).Root.Children[0]
	for name, want := range map[string]string{"width": "10", "nowrap": "", "title": "a & b", "data-x": `"`} {
		if got, ok := n.Attr(name); !ok || got != want {
			t.Errorf("%s = %q, %v; want %q", name, got, ok, want)
		}
	}
	if len(n.Attrs) != 4 {
		t.Errorf("%d attributes, want 4: the second of two counts nothing", len(n.Attrs))
	}
}

func TestFragment(t *testing.T) {
	for _, c := range []struct{ name, source, want string }{
		{"page", "<!DOCTYPE html>\n<html><head><title>x</title></head>\n<body>\n<p>a</p>\n</body></html>\n", "<p>a</p>"},
		{"fragment stays", "<p>a</p> b", "<p>a</p> b"},
		{"without head", "<body><p>a</p></body>", "<p>a</p>"},
		{"lone end tags", "<p>a</p></body></html>", "<p>a</p>"},
		{"meta before the content", `<meta charset="utf-8"><p>a</p>`, "<p>a</p>"},
	} {
		t.Run(c.name, func(t *testing.T) {
			d := mustParse(t, c.source)
			d.Fragment()
			if got := d.Render(); got != c.want {
				t.Errorf("got %q, want %q", got, c.want)
			}
		})
	}
}

func TestEdits(t *testing.T) {
	d := mustParse(t, `<div><span>a</span><b>c</b></div>`)
	d.Root.Elements("span")[0].Unwrap()
	d.Root.Elements("b")[0].ReplaceWith(NewText("x < y\u00a0z", Span{}), NewElement("br", Span{}))
	if got, want := d.Render(), `<div>ax &lt; y&nbsp;z<br></div>`; got != want {
		t.Errorf("got %q, want %q", got, want)
	}
	copied := d.Clone()
	copied.Root.Elements("br")[0].Remove()
	if d.Render() == copied.Render() {
		t.Error("a change of the copy reached the original")
	}
}

// Each limit is passed by one and refused with its line, and just kept.
func TestLimits(t *testing.T) {
	attributes := func(n int) string {
		var b strings.Builder
		for i := range n {
			fmt.Fprintf(&b, " a%d", i)
		}
		return b.String()
	}
	for name, c := range map[string]struct {
		source func(n int) string
		most   int
		says   string
	}{
		"bytes": {func(n int) string { return strings.Repeat("x", n) }, MaxBytes, "larger than 256 kB"},
		"elements": {func(n int) string {
			return "\n" + strings.Repeat("<b>"+strings.Repeat("<br>", 99)+"</b>", n/100) + strings.Repeat("<br>", n%100)
		}, MaxElements, "more than 5 000 elements"},
		"children":           {func(n int) string { return strings.Repeat("<br>", n) }, MaxChildren, "more than 1 000 elements directly in one"},
		"nesting":            {func(n int) string { return strings.Repeat("<b>", n) }, MaxDepth, "more than 100 elements in elements"},
		"attributes":         {func(n int) string { return "<p" + attributes(n) + ">" }, MaxAttributes, "more than 100 attributes"},
		"the same attribute": {func(n int) string { return "<p" + strings.Repeat(" a", n) + ">" }, MaxAttributes, "more than 100 attributes"},
		"cells": {func(n int) string {
			return "<table>" + strings.Repeat("<td colspan=1000>", n/1000) + strings.Repeat("<tr><td>", n%1000) + "</table>"
		}, MaxCells, "more than 10 000 table cells"},
		"rows": {func(n int) string {
			return "<table>" + strings.Repeat("<td rowspan=100 colspan=100>", n/10000) + strings.Repeat("<tr><td>", n%10000) + "</table>"
		}, MaxCells, "more than 10 000 table cells"},
		"comments": {func(n int) string { return strings.Repeat("<!>", n) }, MaxComments,
			"more than 1 000 comments and end tags that close nothing"},
	} {
		if _, err := Parse(c.source(c.most)); err != nil {
			t.Errorf("%s: %d are refused: %v", name, c.most, err)
		}
		if _, err := Parse(c.source(c.most + 1)); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %d: %v", name, c.most+1, err)
		}
	}
	picture := `<img src="data:image/png;base64,` + strings.Repeat("A", 1<<20) + `"><p style="background:url(data:image/png;base64,` +
		strings.Repeat("A", 500_000) + `)">x</p>`
	if _, err := Parse(picture); err != nil {
		t.Errorf("pictures in their addresses: %v", err)
	}
	if _, err := Parse(`<img src="data:image/png;base64,` + strings.Repeat("A", MaxSource) + `">`); !errors.Is(err, ErrTooLarge) {
		t.Errorf("large source: %v", err)
	}
}

// Places are right in lines of any length.
func TestPlaceInALongLine(t *testing.T) {
	source := strings.Repeat("äö€x𝕬", 3_000) + "\n" + strings.Repeat("ä", 700)
	d := PlainText(source)
	for at := range source {
		line := strings.Count(source[:at], "\n")
		want := Place{at, line + 1, utf8.RuneCountInString(source[strings.LastIndexByte(source[:at], '\n')+1:at]) + 1}
		if got := d.Place(at); at%97 == 0 && got != want {
			t.Fatalf("%+v, want %+v", got, want)
		}
	}
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{`<p>a<p>b`, `<!--[if mso]><table><tr><td><![endif]-->`, `<a href="{{ x | or 'y' }}">`,
		"<svg><![CDATA[x]]></svg>", "<b", "</", "<!", "<td a='", "\x00<p\x00>"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, source string) {
		d, err := Parse(source)
		if err != nil {
			return
		}
		if got := d.Render(); got != source {
			t.Fatalf("an unchanged document came out changed:\n%q\n%q", source, got)
		}
		d.Root.Walk(func(n *Node) bool {
			if n.Open.Start < 0 || n.Open.End > len(source) || n.Open.Start > n.Open.End || n.Close.End > len(source) {
				t.Fatalf("a node outside the source: %+v", n)
			}
			for _, a := range n.Attrs {
				if a.Span.Start < n.Open.Start || a.Span.End > n.Open.End || a.Inner.Start > a.Inner.End {
					t.Fatalf("attribute %q outside its tag in %q", a.Name, source)
				}
			}
			return true
		})
	})
}

// TestReferencesInAttributes holds the decoding against the standard parser.
func TestReferencesInAttributes(t *testing.T) {
	for _, value := range []string{"?a=1&region=2", "?a=1&reg=2", "?a=1&reg", "&copy;&amp;x&lt", "&#38;&#x26&#38", "&amp",
		"& &", "&notit;&not", "&ampx",
		"&nbsp;&unknown;", "&", "&#", "&#x"} {
		doc, err := Parse(`<a title="` + value + `">`)
		if err != nil {
			t.Fatal(err)
		}
		z := html.NewTokenizer(strings.NewReader(`<a title="` + value + `">`))
		z.Next()
		want := z.Token().Attr[0].Val
		if got, _ := doc.Root.Elements("a")[0].Attr("title"); got != want {
			t.Errorf("%q: %q, the standard parser %q", value, got, want)
		}
	}
}
