// Package hostile makes inputs that are meant to keep a program busy: as large as asked for, each of another kind. The
// tests send them through every command and route. Start with Sources.
package hostile

import (
	"fmt"
	"strings"
)

// Source is a kind of template source.
type Source struct {
	Name string
	Make func(n int) string // about n bytes
}

// times repeats a piece until it has n bytes.
func times(piece string, n int) string { return strings.Repeat(piece, max(n/len(piece), 1)) }

// numbered repeats a piece with a number in it until it has n bytes.
func numbered(format string, n int) string {
	var b strings.Builder
	for i := 0; b.Len() < n; i++ {
		fmt.Fprintf(&b, format, i)
	}
	return b.String()
}

// styled is a source with a style sheet of half the bytes over elements of the other half.
func styled(sheet, elements string) string {
	return "<style>" + sheet + "</style>" + elements
}

// Sources lists the kinds.
func Sources() []Source {
	list := []Source{
		{"attributes", func(n int) string { return "<p" + numbered(" a%d=x", n) + ">x</p>" }},
		{"the same attribute", func(n int) string { return "<p" + times(" a=x", n) + ">x</p>" }},
		{"long attribute", func(n int) string { return `<p title="` + times("x ", n) + `">x</p>` }},
		{"attribute without end", func(n int) string { return `<p title="` + times("x <b>", n) }},
		{"tag without end", func(n int) string { return "<p " + times("x ", n) }},
		{"open signs", func(n int) string { return times("<", n) }},
		{"half tags", func(n int) string { return times("<p ", n) }},
		{"elements", func(n int) string { return times("<b>x</b>", n) }},
		{"void elements", func(n int) string { return times("<br>", n) }},
		{"nested elements", func(n int) string { return times("<div>", n) }},
		{"nested to the limit", func(n int) string { return times(strings.Repeat("<div>", 98)+"x"+strings.Repeat("</div>", 98), n) }},
		{"nested inline", func(n int) string { return times("<b><i><u><a>", n) }},
		{"open paragraphs", func(n int) string { return times("<p>x", n) }},
		{"open cells", func(n int) string { return "<table>" + times("<td>x", n) }},
		{"open rows", func(n int) string { return "<table>" + times("<tr><td>x", n) }},
		{"open lists", func(n int) string { return times("<ul><li>x", n) }},
		{"stray ends", func(n int) string { return times("</b>", n) }},
		{"ends of what is outside", func(n int) string { return "<p><table><tr><td>" + times("</p></b>", n) }},
		{"misnested", func(n int) string { return times("<b><i>x</b></i>", n) }},
		{"rows", func(n int) string { return "<table>" + times("<tr><td>x</td></tr>", n) + "</table>" }},
		{"row of cells", func(n int) string { return "<table><tr>" + times("<td>x</td>", n) + "</tr></table>" }},
		{"colspans", func(n int) string { return "<table>" + times("<tr><td colspan=9999>x</td></tr>", n) + "</table>" }},
		{"rowspans", func(n int) string { return "<table>" + times("<tr><td rowspan=9999>x</td></tr>", n) + "</table>" }},
		{"both spans", func(n int) string {
			return "<table>" + times("<tr><td rowspan=99 colspan=99>x</td></tr>", n) + "</table>"
		}},
		{"tables in tables", func(n int) string { return times("<table><tr><td>", n) }},
		{"tables", func(n int) string { return times("<table><tr><td>x</td></tr></table>", n) }},
		{"conditional rows", func(n int) string {
			return "<table>" + times(`<tr data-needs="title"><td data-needs=mobile>x</td><td>y</td></tr>`, n) + "</table>"
		}},
		{"text", func(n int) string { return times("Brackwater ", n) }},
		{"one word", func(n int) string { return times("x", n) }},
		{"letters of four bytes", func(n int) string { return times("𝕬", n) }},
		{"marks on a letter", func(n int) string { return "a" + times("\u0301", n) }},
		{"lines", func(n int) string { return times("x\n", n) }},
		{"white space", func(n int) string { return "<p>" + times(" ", n) + "</p>" }},
		{"references", func(n int) string { return times("&amp;", n) }},
		{"half references", func(n int) string { return times("&", n) }},
		{"long reference", func(n int) string { return "&#" + times("9", n) + ";" }},
		{"comments", func(n int) string { return times("<!-- x -->", n) }},
		{"comment without end", func(n int) string { return "<!--" + times("-", n) }},
		{"conditions", func(n int) string { return times("<!--[if mso]>x<![endif]-->", n) }},
		{"conditions in conditions", func(n int) string { return times("<!--[if mso]>", n) + times("<![endif]-->", n/10) }},
		{"revealed conditions", func(n int) string { return times("<![if mso]>x<![endif]>", n) }},
		{"rules", func(n int) string { return styled(numbered(".c%d{color:red}", n/2), times("<b class=c1>x</b>", n/2)) }},
		{"rules for all", func(n int) string { return styled(times("*{color:red}", n/2), times("<b>x</b>", n/2)) }},
		{"selectors", func(n int) string { return styled(times("b,", n/2)+"b{color:red}", times("<b>x</b>", n/2)) }},
		{"long selector", func(n int) string { return styled(times("b ", n/2)+"{color:red}", times("<b>", n/2)) }},
		{"selectors with steps", func(n int) string {
			return styled(times("* * * * * * b{color:red}", n/2), times("<b><i>x</i></b>", n/2))
		}},
		{"siblings", func(n int) string { return styled(times("b~b~b~b{color:red}", n/2), times("<b>x</b>", n/2)) }},
		{":has", func(n int) string { return styled(times("b:has(i){color:red}", n/2), times("<b><i>x</i></b>", n/2)) }},
		{":has in :has", func(n int) string {
			return styled(strings.Repeat("div:has(", min(n/16, 300))+"b"+strings.Repeat(")", min(n/16, 300))+"{color:red}",
				times("<div><b>x</b></div>", n/2))
		}},
		{"small nested :has", func(n int) string {
			return styled(strings.Repeat("div:has(", 30)+"i"+strings.Repeat(")", 30)+"{color:red}", strings.Repeat("<div>", 60)+"<b>x</b>")
		}},
		{":not in :not", func(n int) string {
			return styled(strings.Repeat("b:not(", 30)+"i"+strings.Repeat(")", 30)+"{color:red}", times("<b>x</b>", n))
		}},
		{":nth-child", func(n int) string { return styled(times("b:nth-child(2n+1){color:red}", n/2), times("<b>x</b>", n/2)) }},
		{":nth-last-child few", func(n int) string {
			return styled(strings.Repeat("b:nth-last-child(2n+1){color:red}", 20), times("<b>x</b>", n))
		}},
		{"attribute selectors", func(n int) string {
			return styled(times(`[title*="xxxxxxxxy"]{color:red}`, n/2), `<b title="`+times("x", n/4)+`">x</b>`+times("<b title=xxxx>x</b>", n/4))
		}},
		{"style attributes", func(n int) string { return times(`<b style="color:red">x</b>`, n) }},
		{"declarations", func(n int) string { return `<b style="` + times("color:red;", n) + `">x</b>` }},
		{"other declarations", func(n int) string { return `<b style="` + numbered("a%d:b;", n) + `">x</b>` }},
		{"long value", func(n int) string { return `<b style="font-family:` + times("x,", n) + `y">x</b>` }},
		{"backgrounds", func(n int) string { return `<b style="background:` + times("url(x) ", n) + `">x</b>` }},
		{"open functions", func(n int) string { return `<b style="color:` + times("rgb(", n) + `">x</b>` }},
		{"open functions in a sheet", func(n int) string { return styled("b{color:"+times("rgb(", n), "<b>x</b>") }},
		{"calculations", func(n int) string { return `<b style="width:calc(` + times("1px + ", n) + `1px)">x</b>` }},
		{"open braces", func(n int) string { return styled(times("b{", n), "<b>x</b>") }},
		{"at rules", func(n int) string { return styled(times("@media screen{b{color:red}}", n), "<b>x</b>") }},
		{"nested at rules", func(n int) string { return styled(times("@media a{", n), "<b>x</b>") }},
		{"escapes", func(n int) string { return styled(times(`\62 `, n)+"{color:red}", "<b>x</b>") }},
		{"escapes in a value", func(n int) string { return `<b style="color:` + times(`\72`, n) + `">x</b>` }},
		{"comments in a sheet", func(n int) string { return styled(times("/**/", n)+"b{color:red}", "<b>x</b>") }},
		{"inheritance", func(n int) string {
			return styled("*{color:inherit;font-size:1.01em;line-height:1.2}", times(strings.Repeat("<b>", 95)+"x"+strings.Repeat("</b>", 95), n))
		}},
		{"fields", func(n int) string { return times("{{ cn }} ", n) }},
		{"unknown fields", func(n int) string { return numbered("{{ nothing%d }} ", n) }},
		{"modifiers", func(n int) string { return "{{ cn" + times(" | upper", n) + " }}" }},
		{"alternatives", func(n int) string { return "{{ cn" + times(" or sn", n) + " }}" }},
		{"open fields", func(n int) string { return times("{{ ", n) }},
		{"quotes in fields", func(n int) string { return times("{{ ' }}", n) }},
		{"long field", func(n int) string { return "{{ cn | or '" + times("x", n) + "' }}" }},
		{"conditions of fields", func(n int) string { return times(`<b data-needs="title">x</b>`, n) }},
		{"long condition", func(n int) string { return `<b data-needs="` + times("title or ", n) + `cn">x</b>` }},
		{"joins", func(n int) string { return `<p data-join=", ">` + times(`<b>{{ cn }}</b>`, n) + "</p>" }},
		{"joins in joins", func(n int) string { return times(`<p data-join=", "><b>{{ cn }}`, n) }},
		{"lists", func(n int) string { return times(`<b data-each="postalAddress">{{ entry }}</b>`, n) }},
		{"lists in lists", func(n int) string { return times(`<div data-each="postalAddress">{{ entry }}`, n) }},
		{"foreign attributes", func(n int) string { return times("<b data-id=1 data-gen=2>x</b>", n) }},
		{"links", func(n int) string { return times(`<a href="https://www.brackwater.example/">x</a>`, n) }},
		{"links in links", func(n int) string { return times(`<a href="https://www.brackwater.example/">x`, n) }},
		{"telephone links", func(n int) string { return times(`<a href="tel:{{ mobile | dial }}">{{ mobile | phone }}</a>`, n) }},
		{"long address", func(n int) string { return `<a href="https://www.brackwater.example/` + times("a/", n) + `">x</a>` }},
		{"plain addresses", func(n int) string { return times("www.brackwater.example a@b.example +44 1632 960142 ", n) }},
		{"dots", func(n int) string { return times("a.b", n) }},
		{"at signs", func(n int) string { return times("a@", n) }},
		{"pictures", func(n int) string { return times(`<img src="x.png" width=9 height=9>`, n) }},
		{"pictures in their addresses", func(n int) string {
			return times(`<img src="data:image/gif;base64,R0lGODlhAQABAIAAAP///wAAACwAAAAAAQABAAACAkQBADs=" alt=x>`, n)
		}},
		{"picture names", func(n int) string { return times(`<img data-picture="nothing">`, n) }},
		{"font tags", func(n int) string { return times(`<font face=Georgia size=2 color=red>x</font>`, n) }},
		{"word processor", func(n int) string {
			return times(`<p class=MsoNormal style='margin:0cm;mso-x:y'><o:p>&nbsp;</o:p><span lang=DE>x</span></p>`, n)
		}},
		{"named tags", func(n int) string { return numbered("<x%d:y>x</x>", n) }},
		{"drawings", func(n int) string { return times("<svg><style><b></svg>", n) }},
		{"scripts", func(n int) string { return times("<script>x</script>", n) }},
		{"titles", func(n int) string { return times("<title>x", n) }},
		{"text areas", func(n int) string { return "<textarea>" + times("</", n) }},
		{"zero bytes", func(n int) string { return times("\x00<b\x00>", n) }},
		{"from right to left", func(n int) string { return times("<p dir=rtl>שלום <b dir=ltr>x</b></p>", n) }},
		{"sections of data", func(n int) string { return times("<![CDATA[x]]>", n) }},
		{"doctypes", func(n int) string { return times("<!doctype html>", n) }},
		{"pages in pages", func(n int) string { return times("<html><head><body>", n) }},
	}
	return list
}
