package clean

import (
	"bytes"
	"fmt"
	"strings"

	"golang.org/x/net/html"

	"missivum/core/markup"
)

// regularised gives the source as it is when the document's tree is the one that browsers make of it (HTML
// Living Standard, 13.2.6), and written out from their tree otherwise.
func regularised(source string, doc *markup.Document) (string, error) {
	root, err := html.Parse(strings.NewReader(source))
	if err != nil {
		return "", fmt.Errorf("reading the source: %w", err)
	}
	var theirs []string
	outline(root, &theirs)
	var ours []string
	for _, n := range doc.Elements() {
		if !implied(n.Name) {
			ours = append(ours, fmt.Sprint(n.Name, " ", depthOf(n)))
		}
	}
	stray := false
	doc.Root.Walk(func(n *markup.Node) bool {
		stray = stray || n.Kind == markup.Stray && n.Name != "p"
		return n.Kind != markup.Conditional
	})
	if !stray && strings.Join(ours, ",") == strings.Join(theirs, ",") {
		return source, nil
	}
	return written(root, doc)
}

// implied elements are there for a browser even when they are not written.
func implied(name string) bool {
	return name == "html" || name == "head" || name == "body" || name == "tbody" || name == "colgroup"
}

// depthOf is how deep a node is nested.
func depthOf(n *markup.Node) int {
	depth := 0
	for p := n.Parent; p != nil; p = p.Parent {
		if p.Kind == markup.Element && !implied(p.Name) {
			depth++
		}
	}
	return depth
}

// outline lists the elements of a browser's tree with their depth.
func outline(n *html.Node, list *[]string) {
	var visit func(n *html.Node, depth int)
	visit = func(n *html.Node, depth int) {
		inside := depth
		if n.Type == html.ElementNode && !implied(n.Data) {
			*list = append(*list, fmt.Sprint(n.Data, " ", depth))
			inside++
		}
		for c := n.FirstChild; c != nil; c = c.NextSibling {
			visit(c, inside)
		}
	}
	visit(n, 0)
}

// written writes a browser's tree: the whole page, or of a fragment what is in head and body.
func written(root *html.Node, doc *markup.Document) (string, error) {
	var b bytes.Buffer
	if len(doc.Root.Elements("html", "body", "head")) > 0 {
		err := html.Render(&b, root)
		return b.String(), err
	}
	var visit func(n *html.Node) error
	visit = func(n *html.Node) error {
		for c := n.FirstChild; c != nil; c = c.NextSibling {
			var err error
			if c.Type == html.ElementNode && (c.Data == "html" || c.Data == "head" || c.Data == "body") {
				err = visit(c)
			} else {
				err = html.Render(&b, c)
			}
			if err != nil {
				return err
			}
		}
		return nil
	}
	err := visit(root)
	return b.String(), err
}
