package journey

import (
	"testing"

	"missivum/core/markup"
)

// White space at the end of a paste goes, in the last element too; a space behind words there does not break any more.
func TestTheEndOfAPaste(t *testing.T) {
	for source, want := range map[string]string{
		"<p>Maren Lind </p>":                      "<p>Maren Lind&nbsp;</p>",
		"<p>Maren Lind </p>\n":                    "<p>Maren Lind </p>",
		"<p>Maren Lind</p> \n\t":                  "<p>Maren Lind</p>",
		"<div><p>Maren Lind</p>\n</div>\n":        "<div><p>Maren Lind</p>\n</div>",
		"<div><p>Maren Lind</p>\n</div>":          "<div><p>Maren Lind</p></div>",
		"Maren Lind ":                             "Maren Lind&nbsp;",
		"Maren Lind\n":                            "Maren Lind&nbsp;",
		"Maren Lind  ":                            "Maren Lind&nbsp;&nbsp;",
		"Maren Lind   ":                           "Maren Lind&nbsp; &nbsp;",
		"Maren Lind    ":                          "Maren Lind&nbsp; &nbsp;&nbsp;",
		"<p>Maren Lind </p><p>Harbour office</p>": "<p>Maren Lind </p><p>Harbour office</p>",
		"<table><tbody><tr><td>Maren Lind </td></tr></tbody></table>":   "<table><tbody><tr><td>Maren Lind&nbsp;</td></tr></tbody></table>",
		"<table><tbody><tr><td>Maren Lind </td></tr></tbody></table>\n": "<table><tbody><tr><td>Maren Lind </td></tr></tbody></table>",
		" \n": "",
	} {
		doc, err := markup.Parse(source)
		if err != nil {
			t.Fatal(err)
		}
		if asGiven(doc); doc.Render() != want {
			t.Errorf("%q: %q, want %q", source, doc.Render(), want)
		}
	}
}

// What Chromium was seen to make of markup that a page gave; many more are held against the browser itself by e2e.
func TestPasteGivenInChromium(t *testing.T) {
	for source, want := range map[string]string{
		`<p style="margin: 0">Maren</p><p>Lind</p>`:                         `<p style="margin: 0">Maren</p><p>Lind</p>`,
		`<p style="margin: 0; text-decoration: none">Maren</p>`:             `<p style="margin: 0px;">Maren</p>`,
		`<p style="mso-foo: 3pt">Maren</p>`:                                 `<p>Maren</p>`,
		`<p style="mso-foo: 3pt; color: red">Maren</p>`:                     `<p style="mso-foo: 3pt; color: red">Maren</p>`,
		`<p style="color: #FF0000">A <span style="color: red">B</span></p>`: `<p style="color: #FF0000">A B</p>`,
		`<p>A <span style="color: inherit">B</span></p>`:                    `<p>A <span style="color: inherit">B</span></p>`,
		`<p>A <a href="/b" style="color: inherit">B</a></p>`:                `<p>A <a href="/b">B</a></p>`,
		`<p>A <b style="font-weight: 400">B</b></p>`:                        `<p>A B</p>`,
		`<p>A <i class="x" style="font-style: normal">B</i></p>`:            `<p>A <span class="x">B</span></p>`,
		`<p>A <em><i>B</i></em> <b><strong>C</strong></b></p>`:              `<p>A <em>B</em> <b><strong>C</strong></b></p>`,
		`<div><div>Maren</div></div>`:                                       `<div>Maren</div>`,
		`<table><tr><td><div><div>Maren</div></div></td></tr></table>`:      `<table><tbody><tr><td>Maren</td></tr></tbody></table>`,
		`<div dir="rtl"><p style="text-align: right">A</p><p>B</p></div>`:   `<div dir="rtl"><p>A</p><p>B</p></div>`,
		`<center><table><tr><td style="text-align: left">A</td></tr></table>B</center>`: `<center><table><tbody><tr><td>A</td></tr>` +
			`</tbody></table>B</center>`,
		`<p>A&nbsp;B</p>`: `<p>A B</p>`,
		`<div style="display: none">A</div><p>B</p>`: `<div style="display: none">A</div><p>B</p>`,
		`<!--[if mso]><td><![endif]--><p>A</p>`:      `<!--[if mso]><td><![endif]--><p>A</p>`,
		`<![if !mso]><p>A</p><![endif]>`:             `<!--[if !mso]--><p>A</p><!--[endif]-->`,
	} {
		if got, err := PasteGiven(Chromium, source); err != nil || got != want {
			t.Errorf("%s\nis  %s\nnot %s, %v", source, got, want, err)
		}
	}
}
