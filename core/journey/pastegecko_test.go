package journey

import (
	"testing"

	"missivum/core/markup"
	"missivum/core/style"
)

func TestPasteInGecko(t *testing.T) {
	for _, c := range []struct{ name, before, after string }{
		{"declarations as they are written", `<td style="padding:0 8px;color:#123">x</td>`, `<td style="padding:0 8px;color:#123">x</td>`},
		{"a lone block stays", `<div style="font:12px Arial"><p>a</p></div>`, `<div style="font:12px Arial"><p>a</p></div>`},
		{"white space stays", "<p>a\n  b</p>\n<p>c</p>", "<p>a\n  b</p>\n<p>c</p>"},
		{"a row group in every table", `<TABLE><tr><td>x</td></tr></TABLE>`, `<table><tbody><tr><td>x</td></tr></tbody></table>`},
		{"what a sheet did is lost, its classes stay", `<style>.x{color:red}</style><p class=x>a</p>`, `<p class="x">a</p>`},
		{"what is not shown", `<p hidden>a</p><i style="display: none">b</i><b style="visibility: hidden">c</b><!-- d --><p>e</p>`,
			`<b style="visibility: hidden"></b><p>e</p>`},
		{"attributes that its list does not name",
			`<img src="https://p.example/a.png" nosend srcset="b.png 2x" loading="lazy" alt="x" data-id="1">`,
			`<img src="https://p.example/a.png" alt="x" data-id="1">`},
		{"elements that its list does not name", `<o:p>a</o:p><x-card>b</x-card><marquee>c</marquee><object>d</object>`, `abcd`},
		{"what cannot be selected", `<button>a</button><select><option>b</option></select><iframe src="x"></iframe>c`, `c`},
		{"a line in what is empty", `<table><tr><td height="30"></td><td><div></div></td></tr></table>`,
			`<table><tbody><tr><td height="30"><br></td><td><div><br></div></td></tr></tbody></table>`},
		{"addresses that run", `<a href="javascript:x()" onclick="x()">a</a><a href="data:text/html,x">b</a><a href="tel:+441632960998">c</a>`,
			`<a>a</a><a>b</a><a href="tel:+441632960998">c</a>`},
	} {
		doc, err := markup.Parse(c.before)
		if err != nil {
			t.Fatal(err)
		}
		style.ReadAttributes(doc)
		PasteInGecko(doc)
		if got := doc.Render(); got != c.after {
			t.Errorf("%s:\n%s\nwant\n%s", c.name, got, c.after)
		}
	}
}

// FuzzPasteInGecko: whatever is pasted is not changed by another paste.
func FuzzPasteInGecko(f *testing.F) {
	f.Add(`<table><tr><td style="padding:0 1px" onclick=x()>a <span>b</span></table><o:p>c</o:p><style>p{}</style>`)
	f.Add(`<video>a</video><svg><path d="m"/></svg><details>b</details><a href=javascript:x>c</a>`)
	f.Fuzz(func(t *testing.T, html string) {
		once := inGecko(t, html)
		if again := inGecko(t, once); again != inGecko(t, again) {
			t.Errorf("%q becomes %q, then %q", html, once, again)
		}
	})
}

func inGecko(t *testing.T, html string) string {
	doc, err := markup.Parse(html)
	if err != nil {
		t.Skip(err)
	}
	style.ReadAttributes(doc)
	PasteInGecko(doc)
	return doc.Render()
}
