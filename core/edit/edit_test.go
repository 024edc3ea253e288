package edit

import (
	"fmt"
	"testing"

	"missivum/core/markup"
)

func ExampleEditor() {
	doc, err := markup.Parse(`<p style="margin: 0">Harbour <b>office</b></p>`)
	if err != nil {
		panic(err)
	}
	h := New(doc)
	h.Rename(doc.Elements("b")[0], "strong")
	h.Declare(doc.Elements("p")[0], "color: #0b3c49")
	edits, ok := h.Edits()
	fixed, err := Apply(doc.Source, edits)
	fmt.Println(fixed, ok, err)
	// Output: <p style="margin: 0; color: #0b3c49">Harbour <strong>office</strong></p> true <nil>
}

func TestEditsThatDoNotFitAreRefused(t *testing.T) {
	for _, edits := range [][]Edit{{{0, 9, ""}}, {{2, 1, ""}}, {{0, 3, "x"}, {2, 4, ""}}, {{-1, 0, "x"}}} {
		if got, err := Apply("abcd", edits); err == nil || got != "abcd" {
			t.Errorf("%v: %q, %v", edits, got, err)
		}
	}
	if got, err := Apply("abcd", []Edit{{3, 4, "D"}, {0, 0, ">"}, {1, 1, "-"}, {1, 2, "B"}}); err != nil || got != ">a-BcD" {
		t.Errorf("%q, %v", got, err)
	}
}

// TestEditor: what each edit makes of a source; an edit that cannot be made makes all of them fail.
func TestEditor(t *testing.T) {
	for _, c := range []struct {
		name, source, want string // want is empty where it fails
		edit               func(h *Editor, n *markup.Node)
	}{
		{"a new attribute", `<b>x</b>`, `<b lang="sv">x</b>`, func(h *Editor, n *markup.Node) { h.SetAttribute(n, "lang", "sv") }},
		{"another value, escaped", `<b title=a>x</b>`, `<b title="&lt;&quot;">x</b>`,
			func(h *Editor, n *markup.Node) { h.SetAttribute(n, "title", `<"`) }},
		{"before the end of a closed tag", `<img src=a />`, `<img src=a alt="" />`,
			func(h *Editor, n *markup.Node) { h.SetAttribute(n, "alt", "") }},
		{"an attribute goes with its space", `<b  class=x  id=y>x</b>`, `<b  id=y>x</b>`,
			func(h *Editor, n *markup.Node) { h.RemoveAttribute(n, "class") }},
		{"a declaration more", `<b style="color: red; ">x</b>`, `<b style="color: red; margin: 0">x</b>`,
			func(h *Editor, n *markup.Node) { h.Declare(n, "margin: 0") }},
		{"no room between the quotes", `<b style=color:red>x</b>`, "", func(h *Editor, n *markup.Node) { h.Declare(n, "margin: 0") }},
		{"one declaration of three goes", `<b style="a: 1; b: 2; c: 3">x</b>`, `<b style="a: 1; c: 3">x</b>`,
			func(h *Editor, n *markup.Node) { h.Drop(Declarations(n)[1].Span) }},
		{"the last two go", `<b style="a: 1; b: 2; c: 3">x</b>`, `<b style="a: 1">x</b>`, func(h *Editor, n *markup.Node) {
			h.Drop(Declarations(n)[1].Span)
			h.Drop(Declarations(n)[2].Span)
		}},
		{"the only one goes with its attribute", `<b style="a: 1">x</b>`, `<b>x</b>`,
			func(h *Editor, n *markup.Node) { h.Drop(Declarations(n)[0].Span) }},
		{"a value with its importance", `<b style="a: 1 !important">x</b>`, `<b style="a: 2 !important">x</b>`,
			func(h *Editor, n *markup.Node) { h.SetValue(Declarations(n)[0].Span, "2") }},
		{"a value with the attribute's quotes", `<b style="a: 1">x</b>`, "",
			func(h *Editor, n *markup.Node) { h.SetValue(Declarations(n)[0].Span, `"x"`) }},
		{"a declaration beside another", `<b style="a: 1">x</b>`, `<b style="a: 1; c: 3">x</b>`,
			func(h *Editor, n *markup.Node) { h.Beside(Declarations(n)[0].Span, "c: 3") }},
		{"unwrapped", `<b>x</b>`, `x`, func(h *Editor, n *markup.Node) { h.Unwrap(n) }},
		{"wrapped, within and around", `<b>x</b>`, `<i><b><u>x</u></b></i>`, func(h *Editor, n *markup.Node) {
			h.Wrap(n, "<i>", "</i>")
			h.WrapContent(n, "<u>", "</u>")
		}},
		{"an element that never ends cannot be renamed", `<p>x`, "", func(h *Editor, n *markup.Node) { h.Rename(n, "div") }},
		{"edits over each other", `<b>x</b>`, "", func(h *Editor, n *markup.Node) {
			h.Replace(n.Open, "<i>")
			h.Replace(markup.Span{Start: 1, End: 2}, "u")
		}},
		{"one that fails", `<b>x</b>`, "", func(h *Editor, n *markup.Node) {
			h.Unwrap(n)
			h.Fail()
		}},
		{"nothing", `<b>x</b>`, "", func(*Editor, *markup.Node) {}},
	} {
		doc, err := markup.Parse(c.source)
		if err != nil {
			t.Fatal(err)
		}
		h := New(doc)
		c.edit(h, doc.Root.Elements()[0])
		edits, ok := h.Edits()
		if ok != (c.want != "") {
			t.Errorf("%s: %v, made %v", c.name, edits, ok)
			continue
		}
		if !ok {
			continue
		}
		if got, err := Apply(c.source, edits); err != nil || got != c.want {
			t.Errorf("%s: %s, want %s, %v", c.name, got, c.want, err)
		}
	}
}
