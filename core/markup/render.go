package markup

import "strings"

// Render writes the whole document.
func (d *Document) Render() string {
	var b strings.Builder
	b.Grow(len(d.Source))
	d.write(&b, d.Root)
	return b.String()
}

// write writes a node: its bytes where nothing was changed, anew where something was.
func (d *Document) write(b *strings.Builder, n *Node) {
	b.WriteString(d.OpenTag(n))
	for _, c := range n.Children {
		d.write(b, c)
	}
	b.WriteString(d.CloseTag(n))
}

// OpenTag is what stands before the node's children: a start tag, or all of a text or comment.
func (d *Document) OpenTag(n *Node) string {
	switch n.Kind {
	case Root:
		return ""
	case Text:
		if n.written {
			if n.Parent.Is("style", "script") {
				return n.Data
			}
			return EscapeText(n.Data)
		}
	case Comment:
		if n.written {
			return "<!--" + n.Data + "-->"
		}
	case Doctype:
		if n.written {
			return "<!DOCTYPE html>\n"
		}
	case Element:
		if n.silent {
			return ""
		}
		if n.changed {
			return d.startTag(n)
		}
	}
	return d.Raw(n)
}

// CloseTag is what stands behind the node's children.
func (d *Document) CloseTag(n *Node) string {
	if n.silent {
		return ""
	}
	if n.renamed && !Void(n.Name) {
		return "</" + n.Name + ">"
	}
	if n.Close.Len() > 0 {
		return d.Source[n.Close.Start:n.Close.End]
	}
	if n.Kind == Element && n.changed && n.Open.Len() == 0 && !Void(n.Name) {
		return "</" + n.Name + ">"
	}
	return ""
}

// startTag writes a start tag that was changed.
func (d *Document) startTag(n *Node) string {
	var b strings.Builder
	b.WriteString("<" + n.Name)
	for _, a := range n.Attrs {
		b.WriteByte(' ')
		if a.set {
			b.WriteString(a.Name + `="` + EscapeAttr(a.Value) + `"`)
		} else {
			b.WriteString(d.Source[a.Span.Start:a.Span.End])
		}
	}
	b.WriteByte('>')
	return b.String()
}

// Fragment takes away what a page has and a pasted fragment must not: doctype, html, head with
// all in it, body. Style sheets of the head go with it; inline them before. The document is changed
// in place.
func (d *Document) Fragment() {
	d.Root.Walk(func(n *Node) bool {
		switch {
		case n.Kind == Doctype:
			n.Remove()
		case n.Is("head"):
			n.Remove()
			return false
		case n.Is("title", "meta", "base") && n.Inside("body") == nil:
			n.Remove()
			return false
		case n.Kind == Stray && documentTag(n.Name):
			n.Remove()
		}
		return true
	})
	for _, n := range d.Root.Elements("html", "body") {
		n.Unwrap()
	}
	trimEdges(d.Root)
}

// documentTag reports html, head and body.
func documentTag(name string) bool { return name == "html" || name == "head" || name == "body" }

// trimEdges takes white space away from before the first and behind the last piece of a fragment.
func trimEdges(root *Node) {
	blank := func(n *Node) bool { return n.Kind == Text && strings.TrimSpace(n.Data) == "" }
	for len(root.Children) > 0 && blank(root.Children[0]) {
		root.Children[0].Remove()
	}
	for len(root.Children) > 0 && blank(root.Children[len(root.Children)-1]) {
		root.Children[len(root.Children)-1].Remove()
	}
}
