package passive

import (
	"missivum/core/markup"
	"regexp"
	"slices"
	"strings"

	"golang.org/x/net/html"
	"golang.org/x/net/html/atom"
)

// Sealed gives a fragment to another program: it is read by a standard parser (HTML Living Standard, 13.2) and written
// from that tree, so that no other program reads it otherwise, with nothing active in it and no address but those of
// pictures that stand in it (RFC 2397). Links lead nowhere.
func Sealed(fragment string) (string, error) {
	nodes, err := html.ParseFragment(strings.NewReader(fragment), &html.Node{Type: html.ElementNode, Data: "body", DataAtom: atom.Body})
	if err != nil {
		return "", err
	}
	var b strings.Builder
	for _, n := range nodes {
		if !seal(n) {
			continue
		}
		if err := html.Render(&b, n); err != nil {
			return "", err
		}
	}
	return b.String(), nil
}

// dropped are elements that a sealed fragment has not.
var dropped = slices.Concat(without, []string{"link", "meta", "base", "title", "head", "html", "body"})

// seal cleans a node and what is in it; false for one that goes.
func seal(n *html.Node) bool {
	switch n.Type {
	case html.CommentNode, html.DoctypeNode:
		return false
	case html.TextNode:
		if n.Parent != nil && n.Parent.Data == "style" {
			n.Data = sealedStyle(n.Data)
		}
		return true
	}
	if n.Namespace != "" || slices.Contains(dropped, n.Data) {
		return false
	}
	n.Attr = slices.DeleteFunc(n.Attr, func(a html.Attribute) bool { return !sealedAttribute(n.Data, &a) })
	for i := range n.Attr {
		switch n.Attr[i].Key {
		case "style":
			n.Attr[i].Val = sealedStyle(n.Attr[i].Val)
		case "href":
			n.Attr[i].Val = "#"
		}
	}
	for c := n.FirstChild; c != nil; {
		next := c.NextSibling
		if !seal(c) {
			n.RemoveChild(c)
		}
		c = next
	}
	return true
}

// sealedAttribute reports whether an attribute stays.
func sealedAttribute(element string, a *html.Attribute) bool {
	key := strings.ToLower(a.Key)
	switch {
	case strings.HasPrefix(key, "on") || a.Namespace != "" || strange(key) || key == "srcdoc" || key == "ping":
		return false
	case key == "href":
		return element == "a" || element == "area"
	case key == "src" && element == "img", key == "background":
		return inlinePicture(a.Val)
	case markup.AddressAttribute(key) || key == "action" || key == "formaction":
		return false
	}
	return true
}

// inlinePicture reports a data address of a picture that is no drawing: those can hold addresses of their own.
func inlinePicture(address string) bool {
	low := strings.ToLower(plain(address[:min(len(address), 40)]))
	for _, kind := range []string{"png", "jpeg", "jpg", "gif", "webp", "bmp"} {
		if strings.HasPrefix(low, "data:image/"+kind+";") {
			return true
		}
	}
	return false
}

var (
	loading = regexp.MustCompile(`(?is)(url|src|image|image-set|-webkit-image-set|cross-fade|-webkit-cross-fade|element|` +
		`paint)\s*\(\s*("[^"]*"|'[^']*'|[^)]*)\s*\)?`)
	imports = regexp.MustCompile(`(?is)@(import|namespace|charset|font-face)[^;{]*(;|\{[^}]*\}?)?`)
)

// sealedStyle takes out of CSS what loads anything but pictures that stand in it.
func sealedStyle(css string) string {
	css = strings.ReplaceAll(css, `\`, "") // an escape could hide a name
	css = imports.ReplaceAllString(css, "")
	css = loading.ReplaceAllStringFunc(css, func(call string) string {
		_, argument, _ := strings.Cut(call, "(")
		if strings.HasPrefix(strings.ToLower(call), "url") && inlinePicture(strings.Trim(strings.TrimSpace(argument), `"'`)) {
			return call
		}
		return "none"
	})
	if runs(css) {
		return ""
	}
	return strings.ReplaceAll(css, "<", "")
}
