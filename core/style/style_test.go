package style

import (
	"strings"
	"testing"

	"missivum/core/markup"
)

func inline(t *testing.T, source string) (string, Report) {
	t.Helper()
	d, err := markup.Parse(source)
	if err != nil {
		t.Fatal(err)
	}
	r := Inline(d)
	return d.Render(), r
}

func TestInlineByTheCascade(t *testing.T) {
	for _, c := range []struct{ name, source, want string }{
		{"one rule", `<style>p{color:red}</style><p>a</p>`, `<p style="color: red">a</p>`},
		{"specificity", `<style>#a{color:red}.b{color:blue}p{color:green}</style><p id=a class=b>a</p>`, `<p id=a style="color: red">a</p>`},
		{"order", `<style>p{color:red}p{color:blue}</style><p>a</p>`, `<p style="color: blue">a</p>`},
		{"the attribute outranks", `<style>#a{color:red}</style><p id=a style="color:blue">a</p>`, `<p id=a style="color: blue">a</p>`},
		{"important outranks the attribute", `<style>p{color:red!important}</style><p style="color:blue">a</p>`, `<p style="color: red">a</p>`},
		{"shorthand after longhand", `<style>p{padding-left:4px}.b{padding:0}</style><p class=b>a</p>`,
			`<p style="padding-left: 4px; padding: 0">a</p>`},
		{"longhand after shorthand", `<style>.b{padding:0}#a{padding-left:4px}</style><p class=b id=a>a</p>`,
			`<p id=a style="padding: 0; padding-left: 4px">a</p>`},
		{"two sheets", `<style>p{color:red}</style><style>p{margin:0}</style><p>a</p>`, `<p style="color: red; margin: 0">a</p>`},
		{"descendants and lists", `<style>td a, th > b{color:red}</style><table><tr><td><i><a>x</a></i><th><b>y</b></table>`,
			`<table><tr><td><i><a style="color: red">x</a></i><th><b style="color: red">y</b></table>`},
		{"the row group of a browser", `<style>table > tr{color:red} tbody > tr{color:blue}</style><table><tr><td>x</table>`,
			`<table><tr style="color: blue"><td>x</table>`},
		{"structural pseudo-class", `<style>td:first-child{color:red}</style><table><tr><td>x<td>y</table>`,
			`<table><tr><td style="color: red">x<td>y</table>`},
		{"quotes in values", `<style>p{font-family:"Harbour Sans",serif}</style><p>a</p>`, `<p style="font-family: 'Harbour Sans',serif">a</p>`},
		{"comments and junk", `<style><!-- /* x */ p{color:red;;bad;/*y*/margin:0} } q{ --></style><p>a</p>`,
			`<p style="color: red; margin: 0">a</p>`},
		{"an untouched attribute keeps its bytes", `<style>q{color:red}</style><p style='Color : RED ;'>a</p>`, `<p style='Color : RED ;'>a</p>`},
		{"nothing on what is not drawn",
			`<html><head><style>*{margin:0}</style><meta charset=utf-8></head><body><p>a</body></html>`,
			`<html><head><meta charset=utf-8></head><body style="margin: 0"><p style="margin: 0">a</body></html>`},
		{"fields in values", `<style>p{margin:0}</style><p style="color: {{ callSign | or 'red; x' }}">a</p>`,
			`<p style="margin: 0; color: {{ callSign | or 'red; x' }}">a</p>`},
	} {
		t.Run(c.name, func(t *testing.T) {
			if got, _ := inline(t, c.source); got != c.want {
				t.Errorf("got  %s\nwant %s", got, c.want)
			}
		})
	}
}

func TestWhatOnlyASheetCanDoStaysAndIsReported(t *testing.T) {
	source := "<style>\n a:hover { color: red }\n @media (max-width: 400px) { p { color: blue } }\n p { margin: 0 " +
		"}\n .b::before { content: 'x' }\n</style><a class=b>x</a><p class=c>y</p>"
	got, r := inline(t, source)
	if r.Inlined != 3 || len(r.Left) != 3 {
		t.Errorf("inlined %d, left %d; want 3 and 3: %+v", r.Inlined, len(r.Left), r.Left)
	}
	for _, left := range r.Left {
		if left.Why == "" || !strings.HasPrefix(source[left.Span.Start:], strings.Fields(left.Text)[0]) {
			t.Errorf("%q is said to stand at %q", left.What, source[left.Span.Start:min(left.Span.End, len(source))])
		}
	}
	for _, want := range []string{"a:hover { color: red }", "@media (max-width: 400px) { p { color: blue } }",
		`<p style="margin: 0">`, "class=b"} {
		if !strings.Contains(got, want) {
			t.Errorf("%q is missing in\n%s", want, got)
		}
	}
	if strings.Contains(got, "class=c") {
		t.Error("a class that no rule needs stayed")
	}
}

func TestDeclarationsKnowTheirPlace(t *testing.T) {
	source := "<style>\n .b { color: red; border-radius: 50% }\n</style><p class=b style=\"margin: 0\">x</p>"
	d, err := markup.Parse(source)
	if err != nil {
		t.Fatal(err)
	}
	Inline(d)
	p := d.Root.Elements("p")[0]
	for _, declaration := range p.Style {
		text := source[declaration.Span.Start:declaration.Span.End]
		if !strings.HasPrefix(text, declaration.Property) {
			t.Errorf("%s is said to stand at %q", declaration, text)
		}
	}
	if v, ok := p.Declared("border-radius"); !ok || v != "50%" {
		t.Errorf("border-radius = %q, %v", v, ok)
	}
}

func FuzzParseSheet(f *testing.F) {
	for _, s := range []string{"p{color:red}", "@media x{p{}}", "a:hover,b>c{x:y!important;;}", "{{{", "}}",
		"p{background:url(x;y)}", "/*", "@", "p{a:'"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, source string) {
		sheet := ParseSheet(source, 0)
		for _, r := range sheet.Rules {
			if r.Span.Start < 0 || r.Span.End > len(source) {
				t.Fatalf("a rule outside its sheet: %+v", r)
			}
			for _, d := range r.Declarations {
				if d.Span.Start < r.Span.Start || d.Span.End > r.Span.End {
					t.Fatalf("a declaration outside its rule: %+v in %+v", d, r)
				}
			}
		}
		if len(source) < 2000 {
			if d, err := markup.Parse("<style>" + source + "</style><p class=a id=b>x</p>"); err == nil {
				Inline(d)
				if _, err := markup.Parse(d.Render()); err != nil {
					t.Fatalf("what was inlined cannot be read: %v", err)
				}
			}
		}
	})
}
