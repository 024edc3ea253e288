package markup

import (
	"bytes"
	"fmt"
	"strings"

	"golang.org/x/net/html"
)

// Regular gives the source of a document as browsers read it (HTML Living Standard, 13.2.6): the source as it is where their tree is
// that of the document, and written out from their tree otherwise. The document is one that was read and not changed since. An error
// says that browsers' rules cannot be followed, as for elements more than 512 deep.
func (d *Document) Regular() (string, error) {
	root, err := html.Parse(strings.NewReader(d.Source))
	if err != nil {
		return "", fmt.Errorf("reading the source: %w", err)
	}
	var theirs []string
	elementsOf(root, &theirs)
	var ours []string
	for _, n := range d.Elements() {
		if !implied(n.Name) {
			ours = append(ours, fmt.Sprint(n.Name, " ", depthOf(n)))
		}
	}
	stray := d.unended
	d.Root.Walk(func(n *Node) bool {
		inTable := n.Kind == Text && n.Parent.Is("table", "thead", "tbody", "tfoot", "tr") && strings.TrimSpace(n.Data) != ""
		stray = stray || n.Kind == Stray && n.Name != "p" || inTable
		return n.Kind != Conditional
	})
	if !stray && strings.Join(ours, ",") == strings.Join(theirs, ",") {
		return d.Source, nil
	}
	return written(root, d)
}

// AsBrowsers gives a document as browsers read it: itself where Regular changes nothing or cannot say, and read anew otherwise. An
// error says that what they make of it is above the limits.
func (d *Document) AsBrowsers() (*Document, error) {
	regular, err := d.Regular()
	if err != nil || regular == d.Source {
		return d, nil
	}
	return Parse(regular)
}

// implied elements are there for a browser even when they are not written.
func implied(name string) bool {
	return name == "html" || name == "head" || name == "body" || name == "tbody" || name == "colgroup"
}

// depthOf is how deep a node is nested.
func depthOf(n *Node) int {
	depth := 0
	for p := n.Parent; p != nil; p = p.Parent {
		if p.Kind == Element && !implied(p.Name) {
			depth++
		}
	}
	return depth
}

// elementsOf lists the elements of a browser's tree with their depth.
func elementsOf(n *html.Node, list *[]string) {
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
func written(root *html.Node, doc *Document) (string, error) {
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
