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
