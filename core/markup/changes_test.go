package markup

import (
	"slices"
	"testing"
)

func parsed(t *testing.T, source string) *Document {
	t.Helper()
	doc, err := Parse(source)
	if err != nil {
		t.Fatal(err)
	}
	return doc
}

func TestRename(t *testing.T) {
	for source, want := range map[string]string{
		`<form a=1>x</form>`: `<div a=1>x</div>`,
		`<form>x`:            `<div>x</div>`,
		`<FORM>x</FORM >`:    `<div>x</div>`,
	} {
		doc := parsed(t, source)
		doc.Root.Children[0].Rename("div")
		if got := doc.Render(); got != want {
			t.Errorf("%s: %s, want %s", source, got, want)
		}
	}
}

func TestSilence(t *testing.T) {
	doc := parsed(t, `<p><span class="x">a<b>c</b></span>d</p>`)
	span := doc.Root.Elements("span")[0]
	span.Silence()
	if got := doc.Render(); got != `<p>a<b>c</b>d</p>` || !span.Silent() {
		t.Error(got)
	}
	if got := doc.Clone().Render(); got != `<p>a<b>c</b>d</p>` {
		t.Errorf("a copy speaks: %s", got)
	}
	if class, _ := span.Attr("class"); class != "x" {
		t.Error("its attributes are gone")
	}
}

func TestNormalise(t *testing.T) {
	doc := parsed(t, `<P ALIGN=center title='a "b" & c' nowrap>x<BR>y`)
	for _, n := range doc.Root.Elements() {
		n.Normalise()
	}
	if got, want := doc.Render(), `<p align="center" title="a &quot;b&quot; &amp; c" nowrap="">x<br>y</p>`; got != want {
		t.Errorf("%s\nwant\n%s", got, want)
	}
}

func TestRepeatedAttributes(t *testing.T) {
	source := `<td width=1 WIDTH="2" class='a' width>x</td>`
	td := parsed(t, source).Root.Children[0]
	var repeated []string
	for _, span := range td.Repeated {
		repeated = append(repeated, source[span.Start:span.End])
	}
	if width, _ := td.Attr("width"); width != "1" || !slices.Equal(repeated, []string{`WIDTH="2"`, "width"}) {
		t.Errorf("width %s, repeated %q", width, repeated)
	}
}

// TestElementsOfEverybody: what stands in a conditional comment is one engine's.
func TestElementsOfEverybody(t *testing.T) {
	doc := parsed(t, `<b>x</b><!--[if mso]><table><tr><td><i>y</i></td></tr></table><![endif]--><!--[if !mso]><!--><u>z</u><!--<![endif]-->`)
	var names []string
	for _, n := range doc.Elements() {
		names = append(names, n.Name)
	}
	if !slices.Equal(names, []string{"b", "u"}) || len(doc.Elements("table", "u")) != 1 || len(doc.Root.Elements("table")) != 1 {
		t.Errorf("%q", names)
	}
}
