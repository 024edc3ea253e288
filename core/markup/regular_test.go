package markup

import (
	"fmt"
	"testing"
)

// What is nested wrongly is written as browsers read it; what is nested well stays as it was written.
func TestRegular(t *testing.T) {
	const whole = "<table><tbody><tr><td>Maren Lind</td></tr></tbody></table>"
	const broken = "<table>%s<tr><td>Maren Lind</td></tr>%s</table>"
	for source, want := range map[string]string{
		"<table><tr><td>Maren Lind</td></tr></table>":                        "",
		"<table>\n<tr><td>Maren<p>Lind</td></tr>\n</table>":                  "",
		"<p>Maren Lind</p><td style=\"col":                                   "<p>Maren Lind</p>",
		"<p>Maren Lind</p> 3 < 4":                                            "",
		"<p>Maren Lind<br>Harbour office":                                    "",
		"<style>p { color: red }</style><p STYLE='color:red'>Maren Lind</p>": "",
		fmt.Sprintf(broken, "Kind regards", ""):                              "Kind regards" + whole,
		fmt.Sprintf(broken, "", "Kind regards"):                              "Kind regards" + whole,
		fmt.Sprintf(broken, "", "<div>Harbour</div>"):                        "<div>Harbour</div>" + whole,
		`<a href="/a">Maren <a href="/b">Lind</a></a>`:                       `<a href="/a">Maren </a><a href="/b">Lind</a>`,
		"<b>Maren <i>Lind</b> Harbour</i>":                                   "<b>Maren <i>Lind</i></b><i> Harbour</i>",
		"<html><body><table><div>Harbour</div></table></body></html>": "<html><head></head><body><div>Harbour</div>" +
			"<table></table></body></html>",
		"<!--[if mso]><table><tr><td><![endif]--><p>Maren Lind</p><!--[if mso]></td></tr></table><![endif]-->": "",
	} {
		doc := mustParse(t, source)
		if want == "" {
			want = source
		}
		got, err := doc.Regular()
		if err != nil {
			t.Fatal(err)
		}
		if got != want {
			t.Errorf("%s\nis  %s\nnot %s", source, got, want)
		}
		again, err := mustParse(t, got).Regular()
		if err != nil || again != got {
			t.Errorf("%s is written anew once more: %s, %v", got, again, err)
		}
	}
}
