package markup

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"golang.org/x/net/html"
)

// PlainText makes a document of a text that is no markup, for the places in it.
func PlainText(text string) *Document {
	d := &Document{Source: text, Root: &Node{Kind: Root}, lines: []int{0}}
	runes := 0
	for i := range len(text) {
		if i%markEvery == 0 {
			d.runes = append(d.runes, runes)
		}
		if utf8.RuneStart(text[i]) {
			runes++
		}
		if text[i] == '\n' {
			d.lines = append(d.lines, i+1)
		}
	}
	return d
}

// Parse reads HTML source, a whole page or a fragment. Like a browser it accepts anything that
// is within the limits; end tags that close nothing become Stray nodes. Elements whose end
// tag may be left out (HTML Living Standard, 13.1.2.4) are closed where a browser closes them.
func Parse(source string) (*Document, error) {
	if len(source) > MaxSource || len(source) > MaxBytes && WithoutData(source) > MaxBytes {
		return nil, ErrTooLarge
	}
	d := PlainText(source)
	p := parser{src: source, doc: d, top: d.Root, total: &totals{}}
	if err := p.parse(0, len(source)); err != nil {
		return nil, err
	}
	return d, nil
}

// ParseOutput is Parse for what the program itself wrote from a source within the limits, such as a page with its
// styles inlined: the limits are not asked for again.
func ParseOutput(source string) (*Document, error) {
	d := PlainText(source)
	p := parser{src: source, doc: d, top: d.Root}
	if err := p.parse(0, len(source)); err != nil {
		return nil, err
	}
	return d, nil
}

// parser builds the tree from tokens.
type parser struct {
	src   string
	doc   *Document
	total *totals // nil: without limits
	top   *Node   // innermost open element, a Conditional, or the Root
	floor *Node   // the Conditional being read; its content cannot close what is outside
	depth int
}

// parse reads source[start:end] into the open element.
func (p *parser) parse(start, end int) error {
	z := html.NewTokenizer(strings.NewReader(p.src[start:end]))
	for at := start; ; {
		kind := z.Next()
		next := min(at+len(z.Raw()), end)
		span := Span{at, next}
		at = next
		if kind == html.ErrorToken {
			if !errors.Is(z.Err(), io.EOF) {
				return fmt.Errorf("reading the source: %w", z.Err())
			}
			if span.End < end {
				span.End = end
			}
			p.doc.unended = p.doc.unended || p.floor == nil && span.Len() > 1 && p.src[span.Start] == '<'
			return p.text(span) // a tag that never ends is text
		}
		if err := p.token(kind, span); err != nil {
			return err
		}
	}
}

// token takes one token of the HTML tokenizer, with its bytes.
func (p *parser) token(kind html.TokenType, span Span) error {
	raw := p.src[span.Start:span.End]
	switch kind {
	case html.TextToken:
		return p.text(span)
	case html.DoctypeToken:
		return p.add(&Node{Kind: Doctype, Data: raw, Open: span})
	case html.CommentToken:
		return p.comment(span)
	case html.EndTagToken:
		return p.endTag(tagName(raw[2:]), span)
	case html.StartTagToken, html.SelfClosingTagToken:
		return p.startTag(span)
	}
	return nil
}

// text adds a text node.
func (p *parser) text(span Span) error {
	if span.Len() == 0 {
		return nil
	}
	raw := p.src[span.Start:span.End]
	data := raw
	if !p.top.Is("style", "script") {
		data = html.UnescapeString(raw)
	}
	return p.add(&Node{Kind: Text, Data: data, Open: span})
}

// comment adds a comment, or opens a condition.
func (p *parser) comment(span Span) error {
	raw := p.src[span.Start:span.End]
	n := &Node{Kind: Comment, Open: span, Data: commentBody(raw)}
	if cond, inner, ok := hiddenCondition(raw); ok && p.floor == nil {
		n.Kind, n.Condition = Conditional, cond
		n.Open = Span{span.Start, span.Start + inner.Start}
		n.Close = Span{span.Start + inner.End, span.End}
		if err := p.add(n); err != nil {
			return err
		}
		inside := parser{src: p.src, doc: p.doc, total: p.total, top: n, floor: n, depth: p.depth + 1}
		return inside.parse(n.Open.End, n.Close.Start)
	}
	n.Condition = revealedCondition(raw)
	return p.add(n)
}

// startTag adds an element and closes those that its start ends (HTML, 13.2.6).
func (p *parser) startTag(span Span) error {
	raw := p.src[span.Start:span.End]
	n := &Node{Kind: Element, Name: tagName(raw[1:]), Open: span, Close: Span{span.End, span.End}}
	n.Attrs, n.Repeated = scanAttrs(raw, span.Start)
	p.closeImplied(n)
	if err := p.add(n); err != nil {
		return err
	}
	if Void(n.Name) {
		return nil
	}
	p.depth++
	if p.total != nil && p.depth > MaxDepth {
		return p.doc.Beyond(span, "elements in elements", MaxDepth)
	}
	p.top = n
	return nil
}

// add puts a node where the parser stands, within the limits.
func (p *parser) add(n *Node) error {
	p.top.Append(n)
	return p.count(n)
}

// pop closes the innermost element at the given offset.
func (p *parser) pop(at int) {
	p.top.Close = Span{at, at}
	p.top = p.top.Parent
	p.depth--
}

// endTag closes the nearest open element of that name, never one outside the table cell or the
// conditional comment in which the end tag stands.
func (p *parser) endTag(name string, span Span) error {
	open := p.top
	for open != p.floor && open.Kind == Element && open.Name != name {
		if scopeEdge(open.Name) && !tablePart(name) {
			open = nil
			break
		}
		open = open.Parent
	}
	if open == nil || open == p.floor || open.Kind != Element {
		return p.add(&Node{Kind: Stray, Name: name, Open: span})
	}
	for p.top != open {
		p.pop(span.Start)
	}
	p.pop(span.Start)
	open.Close = span
	return nil
}

// closeImplied closes elements that the start tag of n ends without an end tag.
func (p *parser) closeImplied(n *Node) {
	for _, rule := range impliedEnds {
		if !slices.Contains(rule.starts, n.Name) {
			continue
		}
		for open := p.top; open != p.floor && open.Kind == Element; open = open.Parent {
			if slices.Contains(rule.ends, open.Name) {
				for p.top != open {
					p.pop(n.Open.Start)
				}
				open.ClosedAt = n.Open.Start
				p.pop(n.Open.Start)
				break
			}
			if slices.Contains(rule.until, open.Name) || scopeEdge(open.Name) && !tablePart(n.Name) {
				break
			}
		}
	}
}

// impliedEnds: a start tag in starts closes an open element in ends, unless one in until stands between.
var impliedEnds = []struct{ starts, ends, until []string }{
	{[]string{"li"}, []string{"li"}, []string{"ul", "ol", "menu"}},
	{[]string{"dt", "dd"}, []string{"dt", "dd"}, []string{"dl"}},
	{[]string{"option"}, []string{"option"}, []string{"select"}},
	{[]string{"td", "th"}, []string{"td", "th"}, []string{"tr", "table"}},
	{[]string{"tr"}, []string{"tr"}, []string{"table"}},
	{[]string{"tbody", "thead", "tfoot"}, []string{"tbody", "thead", "tfoot", "colgroup", "caption"}, []string{"table"}},
	{[]string{"tr"}, []string{"colgroup", "caption"}, []string{"table"}},
	{[]string{"address", "article", "aside", "blockquote", "center", "div", "dl", "fieldset", "footer", "form",
		"h1", "h2", "h3", "h4", "h5", "h6", "header", "hr", "main", "nav", "ol", "p", "pre", "section", "table", "ul"},
		[]string{"p"}, []string{"button", "object"}},
}

// scopeEdge reports elements that an end tag does not reach beyond.
func scopeEdge(name string) bool {
	return name == "td" || name == "th" || name == "table" || name == "caption"
}

// tablePart reports the elements that hold a table together, and those around everything.
func tablePart(name string) bool {
	switch name {
	case "table", "thead", "tbody", "tfoot", "tr", "td", "th", "caption", "body", "html":
		return true
	}
	return false
}

// tagName reads a tag's name from what follows its opening signs.
func tagName(s string) string {
	end := strings.IndexAny(s, " \t\n\r\f/>")
	if end < 0 {
		end = len(s)
	}
	return lower(s[:end])
}

// lower makes small letters of ASCII capitals, and of no others, as HTML reads names.
func lower(s string) string {
	return strings.Map(func(r rune) rune {
		if r >= 'A' && r <= 'Z' {
			return r + 'a' - 'A'
		}
		return r
	}, s)
}

// scanAttrs reads the attributes of a start tag (HTML Living Standard, 13.2.5.32 to 39). Of two
// attributes with one name the first counts; the second is left out, as in a browser, and reported as repeated.
func scanAttrs(tag string, base int) (attrs []Attr, repeated []Span) {
	i, end := len(tag), len(tag)
	if at := strings.IndexAny(tag[1:], " \t\n\r\f/>"); at >= 0 {
		i = 1 + at
	}
	if strings.HasSuffix(tag, ">") {
		end--
	}
	for {
		for i < end && (space(tag[i]) || tag[i] == '/') {
			i++
		}
		if i >= end {
			return attrs, repeated
		}
		a := Attr{Span: Span{i, i}}
		for i++; i < end && !space(tag[i]) && tag[i] != '/' && tag[i] != '='; i++ {
		}
		a.Name, a.Span.End = lower(tag[a.Span.Start:i]), i
		a.Inner = Span{i, i}
		j := i
		for j < end && space(tag[j]) {
			j++
		}
		if j < end && tag[j] == '=' {
			a.Inner, i = scanValue(tag, j+1, end)
			a.Span.End = i
			a.Value = UnescapeAttribute(tag[a.Inner.Start:a.Inner.End])
		}
		a.Span = Span{a.Span.Start + base, a.Span.End + base}
		a.Inner = Span{a.Inner.Start + base, a.Inner.End + base}
		if len(attrs)+len(repeated) > MaxAttributes {
			return attrs, repeated // refused by who asked
		}
		if hasAttr(attrs, a.Name) {
			repeated = append(repeated, a.Span)
		} else {
			attrs = append(attrs, a)
		}
	}
}

// scanValue finds an attribute's value in the bytes of a tag.
func scanValue(tag string, i, end int) (inner Span, next int) {
	for i < end && space(tag[i]) {
		i++
	}
	if i < end && (tag[i] == '"' || tag[i] == '\'') {
		quote := tag[i]
		start := i + 1
		for i = start; i < end && tag[i] != quote; i++ {
		}
		return Span{start, i}, min(i+1, end)
	}
	start := i
	for i < end && !space(tag[i]) {
		i++
	}
	return Span{start, i}, i
}

// hasAttr reports whether a name is there already.
func hasAttr(attrs []Attr, name string) bool {
	for _, a := range attrs {
		if a.Name == name {
			return true
		}
	}
	return false
}

// space is the white space of HTML.
func space(c byte) bool { return c == ' ' || c == '\t' || c == '\n' || c == '\r' || c == '\f' }

// commentBody is a comment without its signs.
func commentBody(raw string) string {
	body := strings.TrimPrefix(raw, "<!--")
	return strings.TrimSuffix(body, "-->")
}

// hiddenCondition recognises <!--[if X]> ... <![endif]--> and says where its content lies.
func hiddenCondition(raw string) (condition string, inner Span, ok bool) {
	if !strings.HasPrefix(raw, "<!--[if") {
		return "", Span{}, false
	}
	open := strings.Index(raw, "]>")
	shut := strings.LastIndex(raw, "<![endif]")
	if open < 0 || shut < open+2 {
		return "", Span{}, false
	}
	return strings.TrimSpace(raw[len("<!--[if"):open]), Span{open + 2, shut}, true
}

// revealedCondition recognises the opening half <!--[if X]><!--> or <![if X]> of a condition whose
// content every browser shows.
func revealedCondition(raw string) string {
	for _, prefix := range []string{"<!--[if", "<![if"} {
		if rest, ok := strings.CutPrefix(raw, prefix); ok {
			if cond, _, ok := strings.Cut(rest, "]"); ok {
				return strings.TrimSpace(cond)
			}
		}
	}
	return ""
}

// UnescapeAttribute decodes the references of an attribute's value. One without its semicolon is none where a letter, a digit or a sign
// of equality follows, so that addresses such as ?a=1&region=2 stay what they are (HTML, 13.2.5.73).
func UnescapeAttribute(s string) string {
	if !strings.Contains(s, "&") {
		return s
	}
	var b strings.Builder
	for {
		i := strings.IndexByte(s, '&')
		if i < 0 {
			b.WriteString(s)
			return b.String()
		}
		b.WriteString(s[:i])
		s = s[i:]
		end := 1
		for end < len(s) && (s[end] == '#' && end == 1 || s[end] >= '0' && s[end] <= '9' || s[end]|0x20 >= 'a' && s[end]|0x20 <= 'z') {
			end++
		}
		piece := s[:end]
		switch {
		case end < len(s) && s[end] == ';':
			end++
			if decoded := html.UnescapeString(s[:end]); strings.HasPrefix(piece, "&#") || !strings.HasSuffix(decoded, ";") {
				b.WriteString(decoded)
			} else {
				b.WriteString(s[:end]) // no name of a reference, whatever it begins with
			}
		case strings.HasPrefix(piece, "&#"):
			b.WriteString(html.UnescapeString(piece))
		case end < len(s) && s[end] == '=':
			b.WriteString(piece)
		default: // a name that is whole by itself, or none
			if decoded := html.UnescapeString(piece); utf8.RuneCountInString(decoded) == 1 {
				piece = decoded
			}
			b.WriteString(piece)
		}
		s = s[end:]
	}
}
