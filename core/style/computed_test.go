package style

import (
	"fmt"
	"testing"

	"missivum/core/markup"
)

func TestColors(t *testing.T) {
	for value, want := range map[string]string{
		"#c85": "cc8855", "#C8553D": "c8553d", "rgb(200, 85, 61)": "c8553d", "rgb(100%,0%,0%)": "ff0000",
		"rgba(1,2,3,.5)": "010203", "navy": "000080",
		"rgba(1,2,3,0)": "", "#12345": "", "transparent": "", "currentcolor": "", "rgb(1,2)": "", "": "",
	} {
		got := ""
		if c, ok := Color(value); ok {
			got = fmt.Sprintf("%02x%02x%02x", c.R, c.G, c.B)
		}
		if got != want {
			t.Errorf("%q is %q, want %q", value, got, want)
		}
	}
}

func TestTextOfAnElement(t *testing.T) {
	for _, c := range []struct{ name, html, want string }{
		{"sizes multiply", `<p style="font-size: 20px"><span style="font-size: 80%"><b>x</b></span></p>`, "16 bold 000000 Times New Roman"},
		{"points", `<p style="font-size: 12pt; line-height: 1.5"><b>x</b></p>`, "16 bold 000000 Times New Roman line 24"},
		{"shorthand", `<p style="font: italic bold 13px/18px Verdana, sans-serif"><i>x</i></p>`, "13 bold italic 000000 Verdana line 18"},
		{"font element", `<font face="Georgia" size="2" color="#123456"><i>x</i></font>`, "13 italic 123456 Georgia"},
		{"link", `<a href="x"><i>x</i></a>`, "16 italic underline 0000ee Times New Roman"},
		{"link without a line", `<style>a { text-decoration: none; color: #0b5d6e }</style><a href="x"><i>x</i></a>`,
			"16 italic 0b5d6e Times New Roman"},
		{"weight taken back", `<b><span style="font-weight: normal"><i>x</i></span></b>`, "16 italic 000000 Times New Roman"},
		{"direction", `<div dir="rtl" align="right"><i>x</i></div>`, "16 italic 000000 Times New Roman right rtl"},
	} {
		t.Run(c.name, func(t *testing.T) {
			d, err := markup.Parse(c.html)
			if err != nil {
				t.Fatal(err)
			}
			Inline(d)
			all := d.Root.Elements()
			var chain []*markup.Node
			for n := all[len(all)-1]; n.Kind == markup.Element; n = n.Parent {
				chain = append([]*markup.Node{n}, chain...)
			}
			text := PlainText
			for _, n := range chain {
				text = text.In(n)
			}
			got := fmt.Sprint(text.Size)
			if text.Bold {
				got += " bold"
			}
			if text.Italic {
				got += " italic"
			}
			if text.Underline {
				got += " underline"
			}
			got += fmt.Sprintf(" %02x%02x%02x %s", text.Color.R, text.Color.G, text.Color.B, text.Families[0])
			if text.Line > 0 {
				got += fmt.Sprint(" line ", text.Line)
			}
			if text.Align != "" {
				got += " " + text.Align
			}
			if text.RTL {
				got += " rtl"
			}
			if got != c.want {
				t.Errorf("got %q, want %q", got, c.want)
			}
		})
	}
}

func TestBoxes(t *testing.T) {
	d, err := markup.Parse(`<td style="padding: 2px 16px 0 1em; padding-bottom: 3pt; border-top: 2px solid #c8553d; ` +
		`background: #eee url(x)" bgcolor="red">`)
	if err != nil {
		t.Fatal(err)
	}
	Inline(d)
	td := d.Root.Elements("td")[0]
	if s, ok := Box(td, "padding", 10); !ok || s != (Sides{2, 16, 4, 10}) {
		t.Errorf("padding %+v", s)
	}
	if _, ok := Box(td, "margin", 10); ok {
		t.Error("a margin that nobody gave")
	}
	if l, ok := Border(td, "top"); !ok || l.Width != 2 || l.Color.R != 0xc8 {
		t.Errorf("border %+v %v", l, ok)
	}
	if _, ok := Border(td, "left"); ok {
		t.Error("a border on the left")
	}
	if c, ok := Background(td); !ok || c.R != 0xee {
		t.Errorf("background %v", c)
	}
}

func FuzzValues(f *testing.F) {
	f.Add("#c8553d", "bold 13px/1.5 'A B', serif")
	f.Add("rgb(1%,2,3/4)", "1e9px 2px auto 3em")
	f.Fuzz(func(t *testing.T, colour, value string) {
		if c, ok := Color(colour); ok && c.A != 255 {
			t.Fatalf("%q is a colour that can be looked through", colour)
		}
		if len(value) > 200 {
			return
		}
		boxSides(value, 16)
		Families(value)
		text := PlainText
		for _, property := range []string{"font", "font-size", "line-height", "font-weight", "text-decoration"} {
			text.declare(markup.Declaration{Property: property, Value: value})
		}
		if text.Size <= 0 {
			t.Fatalf("%q makes the size %v", value, text.Size)
		}
	})
}
