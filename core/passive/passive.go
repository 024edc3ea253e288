// Package passive makes markup passive: nothing in it runs, is sent, or is read by a browser otherwise than the tree
// says. All that goes out and all that is drawn passes through it. Start with Make and Active.
package passive

import (
	"regexp"
	"slices"
	"strings"

	"golang.org/x/net/html"

	"missivum/core/markup"
	"missivum/core/style"
)

// Dropped is what Make took out.
type Dropped struct {
	What string // an element's name between angle brackets, an attribute's name, or what an address or style does
	Span markup.Span
}

// without are elements that go with what they hold: programs, pages in the page, and what a browser reads as another
// language or as letters (HTML Living Standard, 13.2.6.5 and 13.2.5.5).
var without = []string{"script", "iframe", "object", "embed", "applet", "frame", "frameset", "portal", "fencedframe", "base", "template",
	"svg", "math", "xmp", "noembed", "noframes", "plaintext", "listing", "input", "select", "textarea", "keygen", "isindex",
	"param", "source", "track", "video", "audio", "canvas", "dialog", "slot", "image"}

// unwrapped are elements of which the content stays.
var unwrapped = []string{"form", "button", "noscript", "fieldset", "label", "output", "marquee", "bgsound", "blink"}

// schemes begin addresses that a browser runs or draws as a page.
var schemes = []string{"javascript", "vbscript", "livescript", "mocha", "file", "view-source", "data"}

// Make takes out of a document what is active, and says what. Fields stand in it like any other text.
func Make(doc *markup.Document) []Dropped {
	var list []Dropped
	for _, n := range doc.Root.Elements() {
		switch {
		case slices.Contains(without, n.Name) || n.Is("meta") && acts(n) || n.Is("link") && !stylesheet(n) || strange(n.Name):
			list = append(list, Dropped{"<" + n.Name + ">", n.Open})
			n.Remove()
			continue
		case n.Is("style") && runs(sheet(n)):
			list = append(list, Dropped{"a style that runs a program", n.Open})
			n.Remove()
			continue
		case slices.Contains(unwrapped, n.Name):
			list = append(list, Dropped{"<" + n.Name + ">", n.Open})
			n.Unwrap()
			continue
		}
		list = append(list, attributes(n)...)
	}
	for _, n := range doc.Root.Children {
		if n.Kind == markup.Stray && slices.Contains(without, n.Name) {
			n.Remove()
		}
	}
	return list
}

// attributes takes an element's active attributes away.
func attributes(n *markup.Node) []Dropped {
	var list []Dropped
	for _, a := range slices.Clone(n.Attrs) {
		what := ""
		switch {
		case strings.HasPrefix(a.Name, "on"), slices.Contains([]string{"srcdoc", "formaction", "action", "ping", "autofocus",
			"is", "nonce", "shadowrootmode"}, a.Name), strange(a.Name):
			what = a.Name
		case markup.AddressAttribute(a.Name) && activeAddress(n.Name, a.Name, a.Value):
			what = "the address " + scheme(a.Value) + ":"
		case a.Name == "style" && runs(a.Value):
			what = "a style that runs a program"
		default:
			continue
		}
		list = append(list, Dropped{what, a.Span})
		if a.Name == "style" {
			n.SetStyle(slices.DeleteFunc(style.ParseDeclarations(a.Value, 0), func(d markup.Declaration) bool { return runs(d.String()) }))
		} else {
			n.RemoveAttr(a.Name)
		}
	}
	return list
}

// activeAddress reports an address that runs. Pictures may stand in their address.
func activeAddress(element, attribute, value string) bool {
	s := scheme(value)
	if s == "data" {
		picture := element == "img" || attribute == "background"
		return !picture || !strings.HasPrefix(strings.ToLower(plain(value)), "data:image/")
	}
	return slices.Contains(schemes, s)
}

// scheme is an address's scheme as a browser reads it: white space and control characters in it do not count (URL
// Living Standard, 4.4).
func scheme(address string) string {
	address = plain(address)
	colon := strings.IndexByte(address, ':')
	if colon < 0 || strings.ContainsAny(address[:colon], "/?#{") {
		return ""
	}
	return strings.ToLower(address[:colon])
}

// plain is an address without the characters that a browser leaves out of it.
func plain(address string) string {
	return strings.Map(func(r rune) rune {
		if r <= ' ' || r == 0x7f || r == 0xfffd {
			return -1
		}
		return r
	}, address)
}

// runs reports styles that old browsers ran as programs.
func runs(css string) bool {
	if !strings.ContainsAny(css, `(:\`) {
		return false
	}
	css = ";" + strings.ToLower(uncommented(css))
	return running.MatchString(css)
}

// running is what runs, in CSS without white space.
var running = regexp.MustCompile(`expression\(|[;{}]behaviou?r:|-moz-binding|javascript:|vbscript:`)

// sheet is the text of a style element.
func sheet(n *markup.Node) string {
	var b strings.Builder
	for _, c := range n.Children {
		b.WriteString(c.Data)
	}
	return b.String()
}

// uncommented is CSS without comments, escapes and white space, which may stand inside a word to hide it.
func uncommented(css string) string {
	var b strings.Builder
	for i := 0; i < len(css); i++ {
		switch c := css[i]; {
		case strings.HasPrefix(css[i:], "/*"):
			end := strings.Index(css[i+2:], "*/")
			if end < 0 {
				return b.String()
			}
			i += end + 3
		case c == '\\':
			value, digits := 0, 0
			for digits < 6 && i+1 < len(css) && strings.IndexByte("0123456789abcdefABCDEF", css[i+1]) >= 0 {
				value = value*16 + strings.IndexByte("0123456789abcdef", css[i+1]|0x20)
				i, digits = i+1, digits+1
			}
			if digits > 0 {
				b.WriteRune(rune(value))
				if i+1 < len(css) && css[i+1] == ' ' {
					i++
				}
			}
		case c > ' ':
			b.WriteByte(c)
		}
	}
	return b.String()
}

// acts reports a meta element that does something to the page.
func acts(n *markup.Node) bool {
	equiv, ok := n.Attr("http-equiv")
	equiv = strings.ToLower(strings.TrimSpace(equiv))
	return ok && equiv != "content-type" && equiv != "x-ua-compatible" && equiv != "content-language"
}

// stylesheet reports a link that only brings styles.
func stylesheet(n *markup.Node) bool {
	rel, _ := n.Attr("rel")
	return strings.EqualFold(strings.TrimSpace(rel), "stylesheet")
}

// strange reports names that parsers read differently.
func strange(name string) bool { return strings.ContainsAny(name, "<>\"'`=\x00{}") }

// Active finds in finished markup, by a parser of its own (HTML Living Standard, 13.2), the first thing that is
// active; empty for passive markup. It is the last look at what goes out, should the tree that Make saw not be what a
// browser reads.
func Active(finished string) string {
	root, err := html.Parse(strings.NewReader(finished))
	if err != nil {
		return "markup that cannot be read"
	}
	found := ""
	var visit func(n *html.Node)
	visit = func(n *html.Node) {
		if n.Type == html.ElementNode && found == "" {
			found = active(n)
		}
		for c := n.FirstChild; c != nil && found == ""; c = c.NextSibling {
			visit(c)
		}
	}
	visit(root)
	return found
}

// Leads reports whether a browser that shows the markup goes elsewhere by itself.
func Leads(finished string) bool {
	root, err := html.Parse(strings.NewReader(finished))
	if err != nil {
		return true
	}
	found := false
	var visit func(n *html.Node)
	visit = func(n *html.Node) {
		found = found || n.Type == html.ElementNode && n.Data == "meta" && active(n) == "<meta http-equiv=refresh>"
		for c := n.FirstChild; c != nil && !found; c = c.NextSibling {
			visit(c)
		}
	}
	visit(root)
	return found
}

// active says what is active of one element.
func active(n *html.Node) string {
	name := strings.ToLower(n.Data)
	if n.Namespace != "" || slices.Contains(without, name) {
		return "<" + name + ">"
	}
	for _, a := range n.Attr {
		key := strings.ToLower(a.Key)
		switch {
		case strings.HasPrefix(key, "on") || key == "srcdoc" || key == "formaction":
			return "the attribute " + key
		case markup.AddressAttribute(key) && activeAddress(name, key, a.Val):
			return "an address with " + scheme(a.Val) + ":"
		case name == "meta" && key == "http-equiv" && strings.EqualFold(strings.TrimSpace(a.Val), "refresh"):
			return "<meta http-equiv=refresh>"
		}
	}
	return ""
}
