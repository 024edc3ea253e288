package check

import (
	"regexp"
	"slices"
	"strconv"
	"strings"

	"missivum/core/markup"
	"missivum/core/style"
)

// harmless reports a cause that changes nothing that anybody sees: what a client does not honour says there what holds anyway, or
// somebody has answered it for that client.
func (p *Pass) harmless(c *cause) bool {
	if len(c.nodes) == 0 {
		return false
	}
	every := func(holds func(n *markup.Node) bool) bool {
		return !slices.ContainsFunc(c.nodes, func(n *markup.Node) bool { return !holds(n) })
	}
	property, value := c.subject.Property, strings.TrimSpace(strings.ToLower(c.subject.Value))
	switch c.check {
	case "picture-size":
		return every(oneSide)
	case "layout-property":
		return property == "display" && every(func(n *markup.Node) bool { return p.boxless(n) || n.Is("table") && alone(n) })
	case "block-width":
		return every(func(n *markup.Node) bool {
			return strings.Contains(n.Name, ":") || value == "auto" || property == "width" && value == "100%" && n.Is("div", "p") ||
				p.inlineOnly(n)
		})
	case "value-unit":
		return strings.HasPrefix(property, "--")
	case "margin-lost", "border-spacing":
		return !slices.ContainsFunc(strings.Fields(value), func(part string) bool {
			px, ok := style.Length(part, 16)
			return ok && px > 0
		})
	case "effect-property":
		return every(func(n *markup.Node) bool {
			prepared := p.PreparedNode(n)
			if prepared == nil {
				return false
			}
			display, _ := prepared.Declared("display")
			return display == "none"
		})
	case "style-sheet":
		end := min(c.first.Span.End, len(p.Doc.Source))
		return forPrint.MatchString(p.Doc.Source[min(c.first.Span.Start, end):end])
	case "size-bound":
		return every(func(n *markup.Node) bool { return p.boundAnyway(n, property, value) })
	}
	return false
}

// forPrint are rules of a sheet that change nothing on a screen.
var forPrint = regexp.MustCompile(`^\s*@(page|charset|namespace|media\s+print)\b`)

// oneSide reports a picture of which exactly one side is given as an attribute: engines keep its proportions.
func oneSide(n *markup.Node) bool {
	_, wide := n.Attr("width")
	_, high := n.Attr("height")
	return n.Is("img") && wide != high && !strings.HasSuffix(attribute(n, "width")+attribute(n, "height"), "%") &&
		n.Pixels("width")+n.Pixels("height") > 0
}

// boxless reports a word or a link that is made a box and has nothing of a box: no size, no distance. What is behind it is
// there in a line too.
func (p *Pass) boxless(n *markup.Node) bool {
	prepared := p.PreparedNode(n)
	if prepared == nil || !n.Is("a", "span") || slices.ContainsFunc(prepared.Elements(), func(e *markup.Node) bool {
		return e != prepared && (markup.Block(e.Name) || e.Is("table"))
	}) {
		return false
	}
	for _, d := range prepared.Style {
		for _, box := range []string{"width", "height", "min-", "max-", "padding", "margin", "border", "vertical-align",
			"text-align", "overflow", "text-indent", "float", "position", "transform"} {
			if strings.HasPrefix(d.Property, box) && strings.Trim(d.Value, "0px ") != "" && d.Value != "none" {
				return false
			}
		}
	}
	return true
}

// inlineOnly reports an element in the line, on which no engine honours a width or a height.
func (p *Pass) inlineOnly(n *markup.Node) bool {
	prepared := p.PreparedNode(n)
	if prepared == nil || !n.Is("span", "a", "b", "strong", "i", "em", "u", "font", "small", "abbr", "label") {
		return false
	}
	display, given := prepared.Declared("display")
	float, floats := prepared.Declared("float")
	position, _ := prepared.Declared("position")
	return (!given || display == "inline") && (!floats || float == "none") && position != "absolute" && position != "fixed"
}

// boundAnyway reports a largest or smallest size that the piece has anyway: by its attribute, or by a table around it that only the
// engine sees which knows no such bounds.
func (p *Pass) boundAnyway(n *markup.Node, property, value string) bool {
	if property != "max-width" && property != "min-width" {
		return false
	}
	bound, ok := style.Length(value, 16)
	if !ok || strings.HasSuffix(value, "%") {
		return value == "100%" && n.Pixels("width") > 0
	}
	if have := n.Pixels("width"); have > 0 {
		return property == "max-width" && float64(have) <= bound || property == "min-width" && float64(have) >= bound
	}
	for e := n; e != nil && e.Parent != nil; e = e.Parent {
		at := slices.Index(e.Parent.Children, e)
		for i := at - 1; i >= 0; i-- {
			before := e.Parent.Children[i]
			if before.Kind == markup.Text && strings.TrimSpace(before.Data) == "" {
				continue
			}
			if before.Kind == markup.Conditional && strings.Contains(before.Condition, "mso") && !strings.Contains(before.Condition, "!mso") {
				for _, table := range before.Elements("table", "td") {
					if w, err := strconv.Atoi(strings.TrimSuffix(attribute(table, "width"), "px")); err == nil && float64(w) <= bound+1 {
						return true
					}
				}
			}
			break
		}
	}
	return false
}

// attribute is an attribute's value; blank where there is none.
func attribute(n *markup.Node, name string) string {
	v, _ := n.Attr(name)
	return strings.TrimSpace(v)
}
