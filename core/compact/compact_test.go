package compact

import (
	"testing"

	"missivum/core/markup"
	"missivum/core/style"
)

func shortened(t *testing.T, source string) string {
	t.Helper()
	doc, err := markup.Parse(source)
	if err != nil {
		t.Fatal(err)
	}
	style.Inline(doc)
	Apply(doc, All())
	return doc.Render()
}

func TestApply(t *testing.T) {
	for _, c := range []struct{ name, before, after string }{
		{"between the parts of a table", "<table>\n  <tr>\n    <td>\n      a  b\n    </td>\n  </tr>\n</table>\n",
			"<table><tr><td>a b</td></tr></table>"},
		{"between inline pieces one sign stays", "<p><b>a</b>\n   <i>b</i></p>", "<p><b>a</b>\n<i>b</i></p>"},
		{"around a break", "<p>a <br>\n b</p>", "<p>a<br>b</p>"},
		{"no-break spaces stay", "<p>\u00a0 &nbsp; a</p>", "<p>\u00a0 &nbsp; a</p>"},
		{"references stay as they are written", "<p>  a &middot;  b</p>", "<p>a &middot; b</p>"},
		{"where white space counts", "<pre> a  b </pre><p style=\"white-space: pre-wrap\"> a  b </p>",
			"<pre> a  b </pre><p style=\"white-space:pre-wrap\"> a  b </p>"},
		{"inside fields", "<p>{{ cn |  or 'a  b' }}</p>", "<p>{{ cn |  or 'a  b' }}</p>"},
		{"beside inline blocks", `<div style="display: inline-block">a</div> <div style="display: inline-block">b</div>`,
			`<div style="display:inline-block">a</div> <div style="display:inline-block">b</div>`},
		{"four sides", `<td style="padding-top: 0px; padding-right: 8px; padding-bottom: 0px; padding-left: 8px">a</td>`,
			`<td style="padding:0 8px">a</td>`},
		{"three sides are not four", `<td style="padding-top: 1px; padding-right: 8px; padding-bottom: 1px">a</td>`,
			`<td style="padding-top:1px;padding-right:8px;padding-bottom:1px">a</td>`},
		{"one side undoes another", `<div style="padding: 4px; padding-left: 0">a</div>`, `<div style="padding:4px;padding-left:0">a</div>`},
		{"defaults", `<td style="margin: 0; text-align: left; border-top: 0px none #fff; color: #aabbcc">a</td>`,
			`<td style="color:#abc">a</td>`},
		{"aligned around", `<td align="center"><p style="text-align: left">a</p></td>`,
			`<td align="center"><p style="text-align:left">a</p></td>`},
		{"given already", `<td><div style="color: #123456; font-size: 12px"><span style="color: #123456; font-size: 14px">a</span></div></td>`,
			`<td><div style="color:#123456;font-size:12px"><span style="font-size:14px">a</span></div></td>`},
		{"not across a cell", `<table style="color: #123456"><tr><td><span style="color: #123456">a</span></td></tr></table>`,
			`<table style="color:#123456"><tr><td><span style="color:#123456">a</span></td></tr></table>`},
		{"not in a link", `<div style="color: #123456"><a href="x"><span style="color: #123456">a</span></a></div>`,
			`<div style="color:#123456"><a href="x"><span style="color:#123456">a</span></a></div>`},
		{"sizes taken of what is around", `<div style="font-size: 2em"><span style="font-size: 2em">a</span></div>`,
			`<div style="font-size:2em"><span style="font-size:2em">a</span></div>`},
		{"an attribute says it", `<td valign="top" style="vertical-align: top" class="">a</td>`, `<td valign="top">a</td>`},
		{"quotes and fields", `<p style="font-family: 'A, B', serif; width: {{ x }}px">a</p>`,
			`<p style="font-family:'A,B',serif;width:{{ x }}px">a</p>`},
		{"important", `<p style="margin: 0px !important">a</p>`, `<p style="margin:0">a</p>`},
	} {
		if got := shortened(t, c.before); got != c.after {
			t.Errorf("%s:\n%s\nwant\n%s", c.name, got, c.after)
		}
		if again := shortened(t, c.after); again != c.after {
			t.Errorf("%s is not done at once:\n%s", c.name, again)
		}
	}
}

func FuzzApply(f *testing.F) {
	f.Add("<table> <tr><td style='padding-top:1px; color: #ffffff'> a {{ b }} </td></tr></table>")
	f.Add("<p>  {{ a  ' }} <br> </p><style>p{margin:0 0 0 0}</style>")
	f.Add("&#0")
	f.Add("&#x0;&#xd800;&#128;x")
	f.Fuzz(func(t *testing.T, source string) {
		doc, err := markup.Parse(source)
		if err != nil {
			return
		}
		style.Inline(doc)
		text := doc.Root.TextContent()
		Apply(doc, All())
		if letters(doc.Root.TextContent()) != letters(text) {
			t.Fatalf("the text of %q became that of %q", source, doc.Render())
		}
	})
}

// letters are the signs of a text without white space.
func letters(s string) string {
	var out []byte
	for i := range len(s) {
		if !space(s[i]) {
			out = append(out, s[i])
		}
	}
	return string(out)
}
