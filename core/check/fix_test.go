package check

import (
	"strings"
	"testing"
	"unicode/utf8"

	"missivum/core/client"
	"missivum/core/edit"
	"missivum/core/template"
)

// fixed applies the fix of every finding of a check and gives the template as it is then.
func fixed(t *testing.T, tmpl *template.Template, r *Report, id string) (*template.Template, bool) {
	t.Helper()
	var edits []edit.Edit
	safe := true
	for _, f := range r.Findings {
		if f.Check == id && f.Fix != nil {
			edits = append(edits, f.Fix.Edits...)
			safe = safe && f.Fix.Safe
			if f.Fix.Title == "" || !f.Fix.Safe && f.Fix.Costs == "" {
				t.Errorf("a fix says too little: %+v", f.Fix)
			}
		}
	}
	if len(edits) == 0 {
		return nil, false
	}
	source, err := edit.Apply(tmpl.Source, edits)
	if err != nil {
		t.Fatal(err)
	}
	after := *tmpl
	after.Source = source
	return &after, safe
}

// TestFixesOfTheFailingExamples: each leaves no finding of its check, and brings none that was not there.
func TestFixesOfTheFailingExamples(t *testing.T) {
	automatic := 0
	for _, c := range Checks() {
		t.Run(c.ID, func(t *testing.T) {
			tmpl := bare(t, c.Failing)
			tmpl.Bare = false
			in := Input{Template: tmpl, People: directory(t)}
			before := run(t, in)
			after, _ := fixed(t, tmpl, before, c.ID)
			if after == nil {
				t.Skip("fixed by hand")
			}
			if strings.Contains(after.Source, "data-picture") && !strings.Contains(c.Failing, "data-picture") {
				t.Skip("makes a picture; core/fix makes it")
			}
			automatic++
			in.Template = after
			r := run(t, in)
			if n := count(r, c.ID); n > 0 {
				t.Errorf("%d findings are left\n%s\n%s", n, c.Failing, after.Source)
			}
			for _, f := range r.Findings {
				if count(r, f.Check) > count(before, f.Check) {
					t.Errorf("the fix brings %s: %s\n%s", f.Check, f.Message, after.Source)
				}
			}
		})
	}
	if automatic < 30 {
		t.Errorf("%d fixes", automatic)
	}
	t.Logf("%d of %d checks have a fix for their example", automatic, len(Checks()))
}

// TestWhatFixesCost: a fix says when something is lost by it, and what.
func TestWhatFixesCost(t *testing.T) {
	for _, c := range []struct {
		check, source string
		safe          bool
	}{
		{"block-padding", `<div style="padding: 4px 8px"><p>x</p></div><div>y</div>`, true}, // the padding keeps the margin in
		{"block-padding", `<div style="padding-left: 8px"><p>x</p></div><div>y</div>`, false},
		{"block-padding", `<div style="padding-left: 8px"><p style="margin: 0">x</p></div><div>y</div>`, true},
		{"block-padding", `<div style="padding-left: 8px; border: 1px solid #123456"><p>x</p></div><div>y</div>`, true},
		{"block-padding", `<div style="padding-left: 8px; border-top: 1px solid #123456"><p>x</p></div><div>y</div>`, false}, // below it is open
		{"block-padding", `<div style="padding-left: 8px">x<p>y</p>z</div>`, true},
		{"block-padding", `<div style="padding-left: 8px"><ul style="margin: 0 0 4px"><li>x</li></ul></div>`, false},
		{"missing-end-tag", `<div><b>x</div><p style="margin: 0">y</p>`, false},
		{"missing-end-tag", `<div><b>x</div><!-- y -->`, true},
		{"missing-end-tag", `<div><b>x</div><img src="https://p.brackwater.example/a.png" alt="" width="2" height="2">`, false},
		{"missing-end-tag", `<div><span style="color: red">x</div><p style="margin: 0">y</p>`, true},
		{"effect-property", `<div style="opacity: 0.5">x</div>`, false},
		{"link-colour", `<a href="https://www.brackwater.example/" style="text-decoration: none">x</a>`, false},
		{"link-colour", `<a href="https://www.brackwater.example/" style="color: #123456; text-decoration: none">x</a>`, true},
	} {
		tmpl := bare(t, c.source)
		tmpl.Bare = false
		r := run(t, Input{Template: tmpl, People: directory(t)})
		found := false
		for _, f := range r.Findings {
			if f.Check != c.check || f.Fix == nil {
				continue
			}
			found = true
			if f.Fix.Safe != c.safe || (f.Fix.Costs == "") != c.safe {
				t.Errorf("%s of %s: safe %v, costs %q", c.check, c.source, f.Fix.Safe, f.Fix.Costs)
			}
		}
		if !found {
			t.Errorf("%s of %s: no fix; %+v", c.check, c.source, r.Findings)
		}
	}
}

func TestFixesWriteWhatTheyShould(t *testing.T) {
	for _, c := range []struct{ check, before, after string }{
		{"flex-layout", `<div class="x" style="display: flex; gap: 8px; color: #123456"><b>a</b> <i>b</i></div>`,
			`<table role="presentation" cellpadding="0" cellspacing="0" border="0" class="x" style="color: #123456">` +
				`<tr><td valign="top" style="padding-right: 8px"><b>a</b></td> <td valign="top"><i>b</i></td></tr></table>`},
		{"heading-element", `<div style="font-size: 20px"><h2 style="color: #123456">Harbour</h2></div>`,
			`<div style="font-size: 20px"><p style="color: #123456; font-size: 30px; font-weight: bold; margin: 24.9px 0">Harbour</p></div>`},
		{"heading-element", `<h2 style="font-size: 18px; font-weight: normal; margin: 2px 0">Harbour</h2><div>x</div>`,
			`<p style="font-size: 18px; font-weight: normal; margin: 2px 0">Harbour</p><div>x</div>`},
		{"heading-element", `<style>h2 { color: red }</style><h2>Harbour</h2>`, ""},
		{"heading-element", `<style>.h { margin: 2px 0; font-size: 20px }</style><h2 class="h">x</h2><div>y</div>`,
			`<style>.h { margin: 2px 0; font-size: 20px }</style><p class="h" style="font-weight: bold">x</p><div>y</div>`},
		{"block-padding", `<style>.b { border: 1px solid #123456 }</style><div class="b" style="padding: 4px; width: 200px">x</div>`, ""},
		{"heading-element", `<section><h1>Harbour</h1></section>`, ""},
		{"duplicate-id", `<p id="a" style="margin: 0">x</p><p id="a" style="margin: 0">y</p>`,
			`<p id="a" style="margin: 0">x</p><p style="margin: 0">y</p>`},
		{"duplicate-id", `<style>#a { color: red }</style><p id="a">x</p><p id="a">y</p>`, ""},
		{"uneven-rows", `<table role="presentation" cellpadding="0" cellspacing="0"><tr><td>a</td></tr><tr>` +
			`<td>b</td><td>c</td><td>d</td></tr></table>`,
			`<table role="presentation" cellpadding="0" cellspacing="0"><tr><td>a</td><td></td><td></td></tr><tr>` +
				`<td>b</td><td>c</td><td>d</td></tr></table>`},
		{"uneven-rows", `<table role="presentation" cellpadding="0" cellspacing="0"><tr data-in="new"><td>a</td>` +
			`</tr><tr><td>b</td><td>c</td></tr></table>`, ""},
		{"picture-alt", `<img src="https://p.brackwater.example/line.png" width="400" height="2">x`,
			`<img src="https://p.brackwater.example/line.png" width="400" height="2" alt="">x`},
		{"picture-alt", `<a href="https://www.brackwater.example/"><img src="https://p.brackwater.example/line.png" ` +
			`width="400" height="2"></a>x`, ""},
		{"picture-alt", `<img src="https://p.brackwater.example/logo.png" width="40" height="20">x`, ""},
		{"default-margins", `<div style="font-size: 10px"><ul><li>x</li></ul></div>`,
			`<div style="font-size: 10px"><ul style="margin: 10px 0"><li>x</li></ul></div>`},
		{"link-colour", `<a href="https://www.brackwater.example/" style="text-decoration: none">x <b>y</b></a>`,
			`<a href="https://www.brackwater.example/" style="text-decoration: none; color: #0000ee"><span ` +
				`style="color: #0000ee">x <b>y</b></span></a>`},
		{"link-colour", `<a href="https://www.brackwater.example/" style="text-decoration: none"><img ` +
			`src="https://p.brackwater.example/l.png" alt="x" width="2" height="2"></a>`, ""},
		{"flex-layout", `<div style="display: flex; align-items: center"><b>a</b></div>`,
			`<table role="presentation" cellpadding="0" cellspacing="0" border="0"><tr><td valign="middle"><b>a</b></td></tr></table>`},
		{"flex-layout", `<div style="display: flex"><img src="https://p.brackwater.example/a.png" alt="x" width="2" height="2"></div>`,
			`<table role="presentation" cellpadding="0" cellspacing="0" border="0"><tr><td valign="top"><img ` +
				`src="https://p.brackwater.example/a.png" alt="x" width="2" height="2" style="display: block"></td></tr></table>`},
		{"block-padding", `<div style="padding: 4px 10px; width: 200px; color: #123456">x</div>`,
			`<table role="presentation" cellpadding="0" cellspacing="0" border="0" width="220"><tr><td ` +
				`style="padding: 4px 10px; color: #123456">x</td></tr></table>`},
		{"block-padding", `<div style="padding: 4px; width: 50%">x</div>`, ""},
		{"block-padding", `<div style="padding: 4px; max-width: 500px">x</div>`, ""},
		{"frozen-percent", `<table role="presentation" cellpadding="0" cellspacing="0" width="90%" style="width: ` +
			`50%; color: #123456"><tr><td>x</td></tr></table>`,
			`<table role="presentation" cellpadding="0" cellspacing="0" width="50%" style="color: #123456"><tr><td>x</td></tr></table>`},
		{"frozen-percent", `<div style="width: 100%; color: #123456">x</div>`, `<div style="color: #123456">x</div>`},
		{"frozen-percent", `<style>.b { padding: 2px }</style><div class="b" style="width: 100%">x</div>`, ""},
		{"frozen-percent", `<div style="width: 50%">x</div>`, ""},
		{"frozen-percent", `<div style="width: 100%; padding: 2px">x</div>`, ""},
		{"flex-layout", `<div style="display: flex">text <b>a</b></div>`, ""},
		{"flex-layout", `<div style="display: flex; flex-direction: column"><b>a</b><b>b</b></div>`, ""},
		{"block-padding", `<table role="presentation" cellpadding="0" cellspacing="0"><tr><td><div style="padding: ` +
			`8px; color: #123456">x</div></td></tr></table>`,
			`<table role="presentation" cellpadding="0" cellspacing="0"><tr><td style="padding: 8px"><div ` +
				`style="color: #123456">x</div></td></tr></table>`},
		{"block-padding", `<div style="padding: 8px">x</div>`,
			`<table role="presentation" cellpadding="0" cellspacing="0" border="0" width="100%"><tr><td style="padding: 8px">x</td></tr></table>`},
		{"block-padding", `<span style="padding: 8px">x</span>`, ""},
		{"block-width", `<div style="width: 240px; color: #123456">x</div>`,
			`<table role="presentation" cellpadding="0" cellspacing="0" border="0" width="240"><tr><td style="color: #123456">x</td></tr></table>`},
		{"colour-form", `<b style="color: rgba(0, 0, 0, 0.5)">x</b>`, `<b style="color: #808080">x</b>`},
		{"colour-form", `<b style='color: hsl(0, 100%, 50%); border: 1px solid #12345680'>x</b>`,
			`<b style='color: #ff0000; border: 1px solid #8899aa'>x</b>`},
		{"value-unit", `<b style="font-size: 1.25rem; letter-spacing: calc(1px + 0.5rem)">x</b>`,
			`<b style="font-size: 20px; letter-spacing: 9px">x</b>`},
		{"value-unit", `<b style="font-size: 3vw">x</b>`, ""},
		{"custom-property", `<style>:root { --ink: #123456 }</style><b style="color: var(--ink)">x</b>`,
			`<style>:root { --ink: #123456 }</style><b style="color: #123456">x</b>`},
		{"line-height-rule", `<style>.a { line-height: 20px }</style><b class="a">x</b><b class="a">y</b>`,
			`<style>.a { line-height: 20px; mso-line-height-rule: exactly }</style><b class="a">x</b><b class="a">y</b>`},
		{"link-colour", `<a href="https://www.brackwater.example/" style="color: #123456; text-decoration: none">x <b>y</b></a>`,
			`<a href="https://www.brackwater.example/" style="color: #123456; text-decoration: none"><span ` +
				`style="color: #123456">x <b>y</b></span></a>`},
		{"plain-number", `<p style="margin: 0; color: #123456" data-needs="mobile">M {{ mobile | phone }}</p>`,
			`<p style="margin: 0; color: #123456" data-needs="mobile">M <a href="tel:{{ mobile | dial }}" ` +
				`style="color: #123456; text-decoration: none"><span style="color: #123456">{{ mobile | phone }}</span></a></p>`},
		{"plain-number", `<p style="margin: 0">+44 1632 960100</p>`,
			`<p style="margin: 0"><a href="tel:+441632960100" style="color: #000000; text-decoration: none"><span ` +
				`style="color: #000000">+44 1632 960100</span></a></p>`},
		{"plain-number", `<p style="margin: 0">01632 960100</p>`, ""},
		{"picture-size", `<img src="https://p.brackwater.example/a.png" alt="x" style="width: 88px; height: 30px">Brackwater Ferries`,
			`<img src="https://p.brackwater.example/a.png" alt="x" style="width: 88px; height: 30px" width="88" height="30">Brackwater Ferries`},
		{"address-relative", `<a href='//www.brackwater.example/x'>x</a>`, `<a href='https://www.brackwater.example/x'>x</a>`},
		{"link-target", `<a href="tel: +44 (1632) 960-100">x</a>`, `<a href="tel:+441632960100">x</a>`},
		{"character-set", `<p style="margin: 0" title="ü">Häfen Å</p>`, `<p style="margin: 0" title="&uuml;">H&auml;fen &Aring;</p>`},
		{"character-set", `<p style="margin: 0">Häfen {{ cn | or 'ü' }}</p>`, ""},
		{"block-in-inline", `<b style="color: #123456"><div class="x">y</div></b>`, `<div class="x"><b style="color: #123456">y</b></div>`},
		{"active-content", `<p style="margin: 0" onclick="x()">a<script>x()</script>b</p>`, `<p style="margin: 0">ab</p>`},
		{"document-tags", `<table role="presentation" cellpadding="0" cellspacing="0"><tr><td><html><body>x</body></html></td></tr></table>`,
			`<table role="presentation" cellpadding="0" cellspacing="0"><tr><td>x</td></tr></table>`},
		{"blank-field", `<div>M {{ mobile }}</div>`, `<div data-needs="mobile">M {{ mobile }}</div>`},
		{"obsolete-element", `<font face="Verdana, 'Fira Sans'" color=#123456 size="2">x</font>`,
			`<span style="font-family: Verdana, 'Fira Sans', sans-serif; color: #123456; font-size: 13px">x</span>`},
		{"word-leftovers", `<p class=MsoNormal style='mso-margin-top-alt: auto; margin: 0; mso-line-height-rule: exactly'>x<o:p></o:p></p>`,
			`<p style='margin: 0; mso-line-height-rule: exactly'>x</p>`},
		{"foreign-placeholder", `<b>%%cn%% [[Title]] {nobody}</b>`, `<b>{{ cn }} {{ title }} {nobody}</b>`},
		{"duplicate-declaration", `<b style="color: #123456; color: #654321;">x</b>`, `<b style="color: #654321;">x</b>`},
		{"default-margins", `<p style="font-size: 13px">x</p>`, `<p style="font-size: 13px; margin: 13px 0">x</p>`},
		{"font-fallback", "<b style=\"font-family: 'Fira Sans', Georgia, serif\">x</b>",
			"<!--[if mso]><style>.signature-font { font-family: Georgia, serif !important }</style><![endif]-->\n" +
				"<b style=\"font-family: 'Fira Sans', Georgia, serif\" class=\"signature-font\">x</b>"},
		{"small-text", `<p style="margin: 0; font-size: 7px; color: #333333">x</p>`,
			`<p style="margin: 0; font-size: 9px; color: #333333">x</p>`},
		{"small-text", `<p style="margin: 0; font: 7px Verdana, sans-serif">x</p>`, ""},
		{"hidden-content", `<div style='display: none'>x</div><i>y</i>`, `<div style='display: none; mso-hide: all'>x</div><i>y</i>`},
		{"picture-clipped", `<table role="presentation" cellpadding="0" cellspacing="0"><tr><td style="line-height: ` +
			`18px; mso-line-height-rule: exactly"><img src="https://p.brackwater.example/a.png" alt="" width="60" height="40"> x</td></tr></table>`,
			`<table role="presentation" cellpadding="0" cellspacing="0"><tr><td style="line-height: 18px; ` +
				`mso-line-height-rule: at-least"><img src="https://p.brackwater.example/a.png" alt="" width="60" height="40"> x</td></tr></table>`},
		{"line-height-rule", `<table role="presentation" cellpadding="0" cellspacing="0" style="line-height: 18px">` +
			`<tr><td><img src="https://p.brackwater.example/a.png" alt="" width="60" height="40"></td><td>x</td></tr></table>`,
			`<table role="presentation" cellpadding="0" cellspacing="0" style="line-height: 18px; ` +
				`mso-line-height-rule: exactly"><tr><td style="mso-line-height-rule: at-least"><img ` +
				`src="https://p.brackwater.example/a.png" alt="" width="60" height="40"></td><td>x</td></tr></table>`},
		{"line-height-rule", `<p style="margin: 0; line-height: 18px"><img src="https://p.brackwater.example/a.png" ` +
			`alt="" width="60" height="40"> x</p>`, ""},
		{"spacer-cell", `<table role="presentation" cellpadding="0" cellspacing="0"><tr><td height=3 bgcolor="#c8553d"></td></tr></table>`,
			`<table role="presentation" cellpadding="0" cellspacing="0"><tr><td height=3 bgcolor="#c8553d" ` +
				`style="font-size: 1px; line-height: 3px; mso-line-height-rule: exactly"></td></tr></table>`},
		{"size-bound", `<img src="https://p.brackwater.example/a.png" alt="Ferry" height="40" style="max-width: 120px">Brackwater Ferries`, ""},
		{"size-bound", `<div style="max-width: 120px">x</div>`, ""},
		{"position-property", `<p style="margin: 0; position: relative; z-index: 2">x</p>`, `<p style="margin: 0">x</p>`},
		{"position-property", `<p style="margin: 0; position: absolute">x</p>`, ""},
		{"table-gaps", `<table role="presentation" style="border-collapse: collapse"><tr><td>x</td></tr></table>`,
			`<table role="presentation" style="border-collapse: collapse" cellspacing="0" cellpadding="1"><tr><td>x</td></tr></table>`},
		{"unknown-element", `<section class="x">a <time>b</time></section>`, `<div class="x">a <span>b</span></div>`},
		{"unknown-element", `<foo>a</foo>`, `a`},
		{"unknown-element", `<foo style="color: red">a</foo>`, ""},
		{"ampersand", `<a href="https://www.brackwater.example/?a=1&copy&amp;b=3&lt">x</a>`,
			`<a href="https://www.brackwater.example/?a=1&amp;copy&amp;b=3&amp;lt">x</a>`},
		{"address-http", `<a href=http://www.brackwater.example/>x</a>`, `<a href=https://www.brackwater.example/>x</a>`},
		{"address-spaces", `<a href="https://www.brackwater.example/a b\c?q=ä">x</a>`,
			`<a href="https://www.brackwater.example/a%20b/c?q=%C3%A4">x</a>`},
		{"address-relative", `<a href="office@brackwater.example">x</a>`, `<a href="mailto:office@brackwater.example">x</a>`},
		{"blank-field", `<p>Mobile: {{ mobile | phone }}</p>`, `<p data-needs="mobile">Mobile: {{ mobile | phone }}</p>`},
		{"blank-field", `<p>Brackwater Ferries, {{ mobile | phone }}</p>`, ""},
		{"blank-field", `<p>{{ mobile | phone }} call us at any time</p>`, ""},
		{"blank-field", `<p>M {{ mobile | phone }} <img src="https://a.example/x.png" alt="x" width="9" height="9"></p>`, ""},
		{"blank-field", `<p>M {{ mobile | phone }} <a href="https://www.brackwater.example/">web</a></p>`, ""},
		{"size-bound", `<img src="https://p.brackwater.example/a.png" alt="x" style="max-width: 120px; height: 40px">Brackwater`, ""},
		{"size-bound", `<img src=https://p.brackwater.example/a/ alt="x" style="max-width:90px;height:auto">Brackwater`,
			`<img src=https://p.brackwater.example/a/ alt="x" style="height:auto" width="90">Brackwater`},
		{"position-property", `<div style="position: relative"><span style="position: absolute; top: 0">x</span></div>`, ""},
		{"position-property", `<div style="position: relative; top: 4px">x</div>`, ""},
		{"position-property", `<div style="position: relative; top: 0">x</div>`, `<div>x</div>`},
		{"colour-form", `<td style="border-top: 1px solid currentColor">x</td>`, ""},
		{"empty-element", `<p>x<span style="display: inline-block; width: 20px"></span>y</p>`, ""},
		{"empty-element", `<p>x<span style="color: red"></span>y</p>`, `<p>xy</p>`},
		{"document-tags", `<table><tr><td><body bgcolor="#eeeeee"><p>x</p></body></td></tr></table>`, ""},
		{"address-relative", `<a href="timetable.html">x</a>`, ""},
		{"curly-quotes", `<a href=“https://www.brackwater.example/”>x</a>`, `<a href="https://www.brackwater.example/">x</a>`},
		{"invisible-characters", "<p style=\"margin: 0\">a\u200bb\u00adc</p>", `<p style="margin: 0">abc</p>`},
		{"duplicate-attribute", `<p align="left" align=right style="margin: 0">x</p>`, `<p align="left" style="margin: 0">x</p>`},
		{"stray-end-tag", `<div>x</div></span>`, `<div>x</div>`},
		{"missing-end-tag", `<div><b>x</div><i>y`, `<div><b>x</b></div><i>y</i>`},
		{"missing-end-tag", `<div><b>x</div><p style="margin: 0">y</p>`, `<div><b>x</b></div><p style="margin: 0">y</p>`},
		{"empty-element", `a<span style="color: red"></span>b<b></b>`, `ab`},
		{"size-with-unit", `<img src="https://p.brackwater.example/a.png" alt="Ferry" width='60px' height="40">Brackwater Ferries`,
			`<img src="https://p.brackwater.example/a.png" alt="Ferry" width="60" height="40">Brackwater Ferries`},
		{"picture-size-differs",
			`<img src="https://p.brackwater.example/a.png" alt="Ferry" width="120" height="80" style="width: 60px; height: 40px">Brackwater Ferries`,
			`<img src="https://p.brackwater.example/a.png" alt="Ferry" width="60" height="40" style="width: 60px; height: 40px">Brackwater Ferries`},
		{"layout-table-role", `<table cellpadding=0 cellspacing=0 ><tr><td>x</td></tr></table>`,
			`<table cellpadding=0 cellspacing=0 role="presentation" ><tr><td>x</td></tr></table>`},
		{"layout-table-header", `<table role="presentation" cellpadding="0" cellspacing="0"><tr><th>x</th></tr></table>`,
			`<table role="presentation" cellpadding="0" cellspacing="0"><tr><td style="font-weight: bold; text-align: center">x</td></tr></table>`},
		{"direction", `<p style="margin: 0">&#1605;</p>`, `<p style="margin: 0" dir="rtl">&#1605;</p>`},
		{"lone-block", "<p style=\"margin: 0\">x</p>\n",
			"<table role=\"presentation\" cellpadding=\"0\" cellspacing=\"0\" border=\"0\"><tr><td><p " +
				"style=\"margin: 0\">x</p></td></tr></table>\n"},
		{"lone-block", `<p dir="rtl" style="margin: 0">&#1605;</p>`,
			`<table role="presentation" cellpadding="0" cellspacing="0" border="0" width="100%"><tr><td><p dir="rtl" ` +
				`style="margin: 0">&#1605;</p></td></tr></table>`},
		{"generic-font", `<p style="margin: 0; font-family: 'Times New Roman'">x</p>`,
			`<p style="margin: 0; font-family: 'Times New Roman', serif">x</p>`},
		{"generic-font", `<p style='margin: 0; font-family: "Times New Roman"'>x</p>`,
			`<p style='margin: 0; font-family: "Times New Roman", serif'>x</p>`},
		{"important-mark", `<p style="margin: 0 !important; color: red!important">x</p>`, `<p style="margin: 0; color: red">x</p>`},
		{"bare-length", `<p style="margin: 4 8px; font-size: 14">x</p>`, `<p style="margin: 4px 8px; font-size: 14px">x</p>`},
		{"unknown-property", `<p style="margin: 0; font-wieght: bold">x</p>`, `<p style="margin: 0; font-weight: bold">x</p>`},
		{"unknown-property", `<p style="margin: 0; qqqqqqqq: bold">x</p>`, ""},
		{"plain-address", `<p style="margin: 0">office@brackwater.example</p><i>y</i>`,
			`<p style="margin: 0"><a href="mailto:office@brackwater.example" style="color: #000000; ` +
				`text-decoration: none"><span style="color: #000000">office@brackwater.example</span></a></p><i>y</i>`},
		{"plain-address", `<div style="color: #336699">www.brackwater.example</div><i>y</i>`,
			`<div style="color: #336699"><a href="https://www.brackwater.example" style="color: #336699; ` +
				`text-decoration: none"><span style="color: #336699">www.brackwater.example</span></a></div><i>y</i>`},
		{"plain-number", `<div data-needs="mobile">{{ mobile | phone | or 'none' }}</div>`,
			`<div data-needs="mobile"><a href="tel:{{ mobile | or 'none' | dial }}" style="color: #000000; ` +
				`text-decoration: none"><span style="color: #000000">{{ mobile | phone | or 'none' }}</span></a></div>`},
		{"link-underline", `<a href="https://www.brackwater.example/" style="color: #0b3c49">x</a>`,
			`<a href="https://www.brackwater.example/" style="color: #0b3c49; text-decoration: underline">x</a>`},
		{"picture-border", `<a href="https://www.brackwater.example/"><img src="https://p.brackwater.example/a.png" ` +
			`alt="Ferry" width="60" height="40"/></a>Brackwater Ferries`,
			`<a href="https://www.brackwater.example/"><img src="https://p.brackwater.example/a.png" alt="Ferry" ` +
				`width="60" height="40" border="0"/></a>Brackwater Ferries`},
		{"acceptance", "<!-- accepted: small-text: why -->\n<p style=\"margin: 0\">x</p>", "\n<p style=\"margin: 0\">x</p>"},
	} {
		tmpl := bare(t, c.before)
		tmpl.Bare = strings.Contains(c.before, "fit.png")
		after, _ := fixed(t, tmpl, run(t, Input{Template: tmpl, People: directory(t)}), c.check)
		got := ""
		if after != nil {
			got = after.Source
		}
		if got != c.after {
			t.Errorf("%s of\n%s\ngives\n%s\nwant\n%s", c.check, c.before, got, c.after)
		}
	}
}

// FuzzFixes: whatever the markup is, every fix's edits fit into it and leave markup that can be read.
func FuzzFixes(f *testing.F) {
	for _, c := range Checks() {
		f.Add(c.Failing)
	}
	f.Fuzz(func(t *testing.T, source string) {
		if len(source) > 2000 || strings.ContainsRune(source, 0) || !utf8.ValidString(source) {
			return
		}
		tmpl := bare(t, source)
		r := run(t, Input{Template: tmpl, Profiles: client.Shipped()})
		for _, finding := range r.Findings {
			if finding.Fix == nil {
				continue
			}
			if _, err := edit.Apply(source, finding.Fix.Edits); err != nil {
				t.Fatalf("%s: %v", finding.Check, err)
			}
		}
	})
}
