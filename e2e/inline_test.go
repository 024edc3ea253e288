package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"missivum/core/markup"
	"missivum/core/style"
	"missivum/demo"
)

// sheets are pages whose styles only the cascade decides.
var sheets = map[string]string{
	"specificity": `<style>#a b{color:red}.x.y{color:blue}p b{color:green}b{color:black!important}</style><p id=a>` +
		`<b class="x y">1</b><b>2</b></p><p><b class=x>3</b></p>`,
	"shorthands": `<style>p{margin:4px;padding-left:9px;border:1px solid ` +
		`red}.t{margin-top:0;padding:2px;border-width:3px}#i{border:0;border-left:2px dotted blue}</style><p>1</p>` +
		`<p class=t>2</p><p class=t id=i>3</p><p id=i style="margin-left:7px">4</p>`,
	"importance": `<style>p{color:red!important;margin:1px}p.a{color:blue;margin:2px!important}</style><p ` +
		`style="color:green;margin:3px">1</p><p class=a style="margin:4px!important">2</p>`,
	"tables": `<style>table td{padding:3px}table > tbody > tr > td + td{color:red}tr:first-child ` +
		`td{font-weight:bold}td[width]{background:#eee}td:not([width]){letter-spacing:1px}tr:nth-child(2) ` +
		`td{font-style:italic}</style><table><tr><td>1<td width=20>2<tr><td>3<td>4</table>`,
	"inheritance": `<style>div{font:italic 14px/20px ` +
		`serif;color:#123}span{font-size:11px}a{color:inherit;text-decoration:none}</style><div>a <span>b <a href=x>c</a></span></div>`,
	"fonts": `<style>p{font-family:"Harbour Sans",'Tide Serif',serif}q{quotes:"«" "»"}</style><p>a <q>b</q></p>`,
	"lists": `<style>h1,h2 , .x{margin:0;color:navy}h1 ~ p{color:teal}* + em{color:gray}</style><h1>a</h1><p ` +
		`class=x>b <em>c</em> <i></i><em>d</em></p><h2>e</h2>`,
	"broken rules": `<style>p{color:red;;:x;colour:y;margin:}p{padding:5px} b{color:blue</style><p>1 <b>2</b></p>`,
	"two sheets":   `<style>p{color:red}</style><p>1</p><style>p{margin:0} .late{color:blue}</style><p class=late>2</p>`,
	"universal": `<html><head><style>*{margin:0;padding:0}body *{box-sizing:border-box}</style></head><body>` +
		`<p>1<div><ul><li>2</ul></div></body></html>`,
}

// TestInlinedPagesLookTheSameToChromium: for every element below the body and every property, the style
// that Chromium computes for the page with sheets is the one that it computes for the inlined page.
func TestInlinedPagesLookTheSameToChromium(t *testing.T) {
	t.Parallel()
	pages := map[string]string{}
	for name, source := range sheets {
		pages[name] = source
	}
	for _, name := range []string{"harbour", "regatta"} {
		tmpl, err := demo.Template(name)
		if err != nil {
			t.Fatal(err)
		}
		pages[name] = tmpl.Source
	}
	inlined := map[string]string{}
	for name, source := range pages {
		d, err := markup.Parse("<!DOCTYPE html>" + strings.TrimPrefix(source, "<!DOCTYPE html>"))
		if err != nil {
			t.Fatal(err)
		}
		pages[name] = d.Source
		style.Inline(d)
		inlined[name] = d.Render()
		if strings.Contains(inlined[name], "<style>") && !strings.Contains(inlined[name], "@media") {
			t.Errorf("%s: a sheet is left:\n%s", name, inlined[name])
		}
	}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		name := strings.TrimPrefix(r.URL.Path, "/")
		if r.URL.RawQuery == "inlined" {
			fmt.Fprint(w, inlined[name])
			return
		}
		fmt.Fprint(w, pages[name])
	}))
	defer server.Close()
	tab := browser(t)
	computed := func(name, query string) (elements []map[string]string) {
		do(t, tab, name, chromedp.Navigate(server.URL+"/"+name+"?"+query))
		text := evaluate[string](t, tab, `JSON.stringify([...document.querySelectorAll('body *')].filter(e => e.tagName !== 'STYLE').map(e => {
			const style = getComputedStyle(e), all = { '': e.tagName + ' ' + e.textContent.trim().slice(0, 20) }
			for (const p of style) if (!p.startsWith('--')) all[p] = style.getPropertyValue(p)
			return all
		}))`)
		if err := json.Unmarshal([]byte(text), &elements); err != nil {
			t.Fatal(err)
		}
		return elements
	}
	for name := range pages {
		want, got := computed(name, "written"), computed(name, "inlined")
		if len(want) == 0 || len(want) != len(got) {
			t.Errorf("%s: %d elements, inlined %d", name, len(want), len(got))
			continue
		}
		for i := range want {
			for property, value := range want[i] {
				if got[i][property] != value {
					t.Errorf("%s, element %s: %s is %q, inlined %q", name, want[i][""], property, value, got[i][property])
				}
			}
		}
	}
}
