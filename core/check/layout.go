package check

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"missivum/core/client"
	"missivum/core/edit"
	"missivum/core/markup"
	"missivum/core/style"
)

// layoutChecks look at how the pieces are placed: most are driven by what the profiles say of properties.
var layoutChecks = []*Check{
	{
		ID: "layout-property", Title: "Layout property that a client does not honour",
		Why: "Each engine honours its own part of CSS. What is outside it is as if it were not written.",
		Remedy: "Build the layout with table cells: their widths, padding and background colours hold everywhere; " +
			"cut round shapes into the picture.",
		Failing: `<div style="float: left">Bridge</div><div>Engine</div>`,
		Passing: `<table role="presentation" cellpadding="0" cellspacing="0"><tr><td>Bridge</td><td>Engine</td></tr></table>`,
		Idle: func(_ *Pass, t Target) string {
			if t.Property != "display" || slices.ContainsFunc(t.Nodes, func(n *markup.Node) bool { return n.Is("a", "span") || !alone(n) }) {
				return ""
			}
			return "with nothing beside it, it is only as wide as what it stands in"
		},
	},
	{
		ID: "flex-layout", Title: "Flexbox or grid layout",
		Why:     "The word-processor engine knows neither: the pieces stand one below the other.",
		Remedy:  "Make the pieces the cells of one table row.",
		Failing: `<div style="display: flex; gap: 8px"><span>Bridge</span><span>Engine</span></div>`,
		Passing: `<table role="presentation" cellpadding="0" cellspacing="0"><tr><td style="padding: ` +
			`4px">Bridge</td><td>Engine</td></tr></table>`,
		Fix: flexToCells,
	},
	{
		ID: "block-padding", Title: "Padding on something other than a cell",
		Why:     "The word-processor engine honours padding on table cells only.",
		Remedy:  "Put the padding on the cell around the block, or make the block a table of one cell.",
		Failing: `<div style="padding: 8px">All crossings</div>`,
		Passing: `<table role="presentation" cellpadding="0" cellspacing="0"><tr><td style="padding: 8px">All crossings</td></tr></table>`,
		Fix:     paddingToCell,
	},
	{
		ID: "block-width", Title: "Width or height of something other than a table, cell or picture",
		Why:     "The word-processor engine honours widths and heights on tables, cells and pictures only.",
		Remedy:  "Make the block a table of one cell and give that the width.",
		Failing: `<div style="width: 240px">All crossings</div>`,
		Passing: `<table role="presentation" cellpadding="0" cellspacing="0" width="240"><tr><td>All crossings</td></tr></table>`,
		Fix:     widthToTable,
	},
	{
		ID: "size-bound", Title: "Largest or smallest size, or a fit, that a client does not honour",
		Why: "The word-processor engine knows no max-width, min-width or object-fit: the piece is rendered in " +
			"the size of its attributes, or its own.",
		Remedy:  "Give the size itself, as an attribute.",
		Failing: `<img src="https://pictures.brackwater.example/logo.png" alt="Brackwater" height="40" style="max-width: 120px">Brackwater`,
		Passing: `<img src="https://pictures.brackwater.example/logo.png" alt="Brackwater" width="120" height="40">Brackwater`,
		Fix:     boundToAttribute,
	},
	{
		ID: "position-property", Title: "Positioned piece",
		Why:     "Clients take position away, so that a message cannot cover their own controls: the piece stays where it is in the text.",
		Remedy:  "Place the piece with table cells and padding.",
		Failing: `<div style="position: relative; top: 4px">Ask at the ticket office</div>`,
		Passing: `<div style="padding-top: 4px">Ask at the ticket office</div>`,
		Fix:     dropPosition,
		Idle: func(p *Pass, t Target) string {
			if dropPosition(p, t) == nil {
				return ""
			}
			return "it moves nothing here, so nobody sees it"
		},
	},
	{
		ID: "negative-margin", Title: "Negative margin",
		Why:     "Several clients take negative margins away, so that a message cannot cover their own controls.",
		Remedy:  "Place the piece with table cells and padding.",
		Failing: `<p style="margin: 0; margin-left: -8px">Ask at the ticket office</p>`,
		Passing: `<p style="margin: 0; margin-left: 8px">Ask at the ticket office</p>`,
	},
	{
		ID: "table-gaps", Title: "Table without cellspacing and cellpadding",
		Why: "Clients and style resets differ in the gaps that they give a table that says nothing: between " +
			"sliced pictures they show as lines.",
		Remedy:  "Write cellspacing and cellpadding on every table; 0 for none, 2 and 1 for what browsers do by themselves.",
		Failing: `<table role="presentation"><tr><td>Bridge</td></tr></table>`,
		Passing: `<table role="presentation" cellpadding="0" cellspacing="0"><tr><td>Bridge</td></tr></table>`,
		Fix:     writeGaps,
	},
	{
		ID: "picture-gap", Title: "Gap below a picture in a cell",
		Why:    "A picture stands on a line of text; below it the room for descenders is left, and slices come apart.",
		Remedy: "Write display: block on each picture that fills a cell.",
		Failing: `<table role="presentation" cellpadding="0" cellspacing="0"><tr><td><img ` +
			`src="https://p.brackwater.example/a.png" alt="" width="60" height="40"></td><td style="line-height: 0; ` +
			`mso-line-height-rule: exactly"><img style="display: block" src="https://p.brackwater.example/b.png" ` +
			`alt="Ferry" width="60" height="40"></td></tr></table><p style="margin: 0">Brackwater Ferries</p>`,
		Passing: `<table role="presentation" cellpadding="0" cellspacing="0"><tr><td><img style="display: block" ` +
			`src="https://p.brackwater.example/a.png" alt="" width="60" height="40"></td><td><img style="display: ` +
			`block" src="https://p.brackwater.example/b.png" alt="Ferry" width="60" height="40"></td></tr></table>` +
			`<p style="margin: 0">Brackwater Ferries</p>`,
		Fix: func(p *Pass, t Target) *Fix {
			h := p.Edit()
			h.Declare(t.First(), "display: block")
			return fixOf(h, "Write display: block on the picture")
		},
	},
	{
		ID: "spacer-cell", Title: "Low cell that grows",
		Why:     "A cell is never lower than a line of its text, even with nothing in it but a space: a rule of 2 px becomes one of 18.",
		Remedy:  "Give the cell a font size of 1px and a line height of the cell's own height.",
		Failing: `<table role="presentation" cellpadding="0" cellspacing="0"><tr><td height="2" bgcolor="#c8553d">&nbsp;</td></tr></table>`,
		Passing: `<table role="presentation" cellpadding="0" cellspacing="0"><tr><td height="2" bgcolor="#c8553d" ` +
			`style="font-size: 1px; line-height: 2px; mso-line-height-rule: exactly">&nbsp;</td></tr></table>`,
		Run: spacerCells,
	},
	{
		ID: "uneven-rows", Title: "Rows of unequal length",
		Why:    "Rows that add up to different numbers of columns are completed by each engine in its own way.",
		Remedy: "Give the short row colspan on its last cell.",
		Failing: `<table role="presentation" cellpadding="0" cellspacing="0"><tr><td>Bridge</td><td>Engine</td></tr>` +
			`<tr><td>Deck</td></tr></table>`,
		Passing: `<table role="presentation" cellpadding="0" cellspacing="0"><tr><td>Bridge</td><td>Engine</td></tr>` +
			`<tr><td colspan="2">Deck</td></tr></table>`,
		Run: unevenRows,
	},
	{
		ID: "nested-tables", Title: "Tables nested very deep",
		Why:    "From some depth on the word-processor engine loses widths, and sanitisers give up.",
		Remedy: "Take tables of one cell out of each other.",
		Failing: strings.Repeat(`<table role="presentation" cellpadding="0" cellspacing="0"><tr><td>`, 9) + "Bridge" +
			strings.Repeat(`</td></tr></table>`, 9),
		Passing: strings.Repeat(`<table role="presentation" cellpadding="0" cellspacing="0"><tr><td>`, 3) + "Bridge" +
			strings.Repeat(`</td></tr></table>`, 3),
	},
	{
		ID: "wide-layout", Title: "Wider than 600 px",
		Why:     "A reading pane is often no wider than 600 px, and on a telephone everything is scaled down until it fits.",
		Remedy:  "Keep the signature within 600 px; better within 480.",
		Failing: `<table role="presentation" cellpadding="0" cellspacing="0" width="720"><tr><td>Bridge</td></tr></table>`,
		Passing: `<table role="presentation" cellpadding="0" cellspacing="0" width="480"><tr><td>Bridge</td></tr></table>`,
	},
	{
		ID: "tall-piece", Title: "Piece higher than a page",
		Why:     "The word-processor engine breaks pages, on the screen too: a piece higher than one is split.",
		Remedy:  "Cut it into pieces of less than 1,600 px.",
		Failing: `<img src="https://p.brackwater.example/a.png" alt="Ferry" width="60" height="1800"><span>Brackwater Ferries</span>`,
		Passing: `<img src="https://p.brackwater.example/a.png" alt="Ferry" width="60" height="180"><span>Brackwater Ferries</span>`,
	},
	{
		ID: "frozen-percent", Title: "Share of the width that a paste makes px",
		Why: "A browser copies lengths as it has worked them out: a table of 100 % becomes as wide, in px, as " +
			"the window in which somebody copied it.",
		Remedy:  "Write the width as an attribute, which is copied as it stands, or in px.",
		Failing: `<table role="presentation" cellpadding="0" cellspacing="0" style="width: 100%"><tr><td>Harbour office</td></tr></table>`,
		Passing: `<table role="presentation" cellpadding="0" cellspacing="0" width="100%"><tr><td>Harbour office</td></tr></table>`,
		Fix:     shareToAttribute,
	},
	{
		ID: "lone-block", Title: "One paragraph that is all of the signature",
		Why: "A browser pastes a lone paragraph into the line where the cursor stands: the paragraph is gone, " +
			"and its font is written onto every piece of text, which makes the signature much longer.",
		Remedy:  "Put it into a table of one cell.",
		Failing: `<p style="margin: 0; font-size: 12px">Harbour office, <b>Saltmouth</b></p>`,
		Passing: `<table role="presentation" cellpadding="0" cellspacing="0"><tr><td style="font-size: ` +
			`12px">Harbour office, <b>Saltmouth</b></td></tr></table>`,
		Fix: func(p *Pass, t Target) *Fix {
			h := p.Edit()
			table := layoutTable
			if p.looksByWidth(t.First()) {
				table += ` width="100%"` // as wide as the block is by itself
			}
			h.Wrap(t.First(), table+"><tr><td>", "</td></tr></table>")
			return fixOf(h, "Put it into a table of one cell")
		},
	},
	{
		ID: "default-margins", Title: "Block that leaves its margins to the client",
		Why:     "Clients give paragraphs, headings and lists margins of their own, and not the same ones.",
		Remedy:  "Write the margin: 0, or what it shall be.",
		Failing: `<p>Harbour office</p><div>Saltmouth</div>`,
		Passing: `<p style="margin: 0">Harbour office</p><div>Saltmouth</div>`,
		Fix:     writeMargins,
	},
}

// looksByWidth reports whether a block looks otherwise where it is only as wide as its content: what it shows stands at its
// right side or in its middle, it has a ground or a border, or something in it takes its place or size from it.
func (p *Pass) looksByWidth(block *markup.Node) bool {
	if prepared := p.PreparedNode(block); prepared != nil {
		block = prepared // with what a style sheet says
	}
	if width, ok := block.Declared("width"); ok && !strings.HasSuffix(width, "%") && width != "auto" {
		return false
	}
	for _, name := range []string{"dir", "align"} {
		if v, ok := block.Attr(name); ok && !strings.EqualFold(v, "ltr") && !strings.EqualFold(v, "left") {
			return true
		}
	}
	for _, d := range block.Style {
		switch {
		case d.Property == "text-align" && d.Value != "left" && d.Value != "start", d.Property == "direction" && d.Value != "ltr",
			strings.HasPrefix(d.Property, "background"), strings.HasPrefix(d.Property, "border") && d.Property != "border-collapse",
			d.Property == "box-shadow", d.Property == "outline":
			return true
		}
	}
	return slices.ContainsFunc(block.Elements(), func(n *markup.Node) bool {
		return slices.ContainsFunc(n.Style, func(d markup.Declaration) bool {
			return d.Property == "float" && d.Value != "none" || d.Property == "position" && d.Value == "absolute" ||
				d.Property == "width" && strings.HasSuffix(d.Value, "%")
		})
	})
}

const layoutTable = `<table role="presentation" cellpadding="0" cellspacing="0" border="0"`

// flexToCells makes the pieces of a flex or grid row the cells of a table row. Columns, wrapping, and text between
// the pieces must be fixed by hand.
func flexToCells(p *Pass, t Target) *Fix {
	h := p.Edit()
	for _, n := range t.Nodes {
		if !n.Is("div", "section", "p", "span", "nav", "header", "footer") || n.Close.Len() == 0 || !edit.Within(n, t.Span) {
			return nil
		}
		gap, valign := "", "top"
		var dropped []markup.Span
		for _, d := range style.ParseDeclarations(n.Attribute("style").Value, n.Attribute("style").Inner.Start) {
			switch {
			case d.Property == "display":
				dropped = append(dropped, d.Span)
			case strings.HasPrefix(d.Property, "grid") || strings.HasPrefix(d.Property, "flex") &&
				strings.Contains(d.Value, "column") || strings.HasPrefix(d.Property, "flex") && strings.Contains(d.Value, "wrap"):
				return nil
			case d.Property == "gap" || d.Property == "column-gap":
				if px, ok := style.Length(strings.Fields(d.Value)[0], 16); ok {
					gap = pixels(px)
				}
				dropped = append(dropped, d.Span)
			case d.Property == "align-items":
				if as := alignments[d.Value]; as != "" {
					valign = as
				}
				dropped = append(dropped, d.Span)
			case strings.HasPrefix(d.Property, "flex"), d.Property == "justify-content", d.Property == "row-gap":
				dropped = append(dropped, d.Span)
			case strings.HasPrefix(d.Property, "padding"), strings.HasPrefix(d.Property, "margin") && d.Value != "0",
				d.Property == "width", d.Property == "height":
				return nil
			}
		}
		flexRow(h, n, gap, valign, dropped)
	}
	return fixOf(h, "Make the pieces the cells of a table row")
}

// alignments are the values of valign that place the cells of a row as a flex row with that alignment (CSS Flexible Box
// Layout 1, 8.3).
var alignments = map[string]string{"center": "middle", "end": "bottom", "flex-end": "bottom", "baseline": "baseline"}

// flexRow makes the pieces of a flexbox the cells of a table row.
func flexRow(h *edit.Editor, n *markup.Node, gap, valign string, dropped []markup.Span) {
	var pieces []*markup.Node
	for _, c := range n.Children {
		switch {
		case c.Kind == markup.Element && !c.Is("td", "tr"):
			pieces = append(pieces, c)
		case c.Kind == markup.Text && strings.TrimSpace(c.Data) != "", c.Kind == markup.Conditional:
			h.Fail()
		}
	}
	if len(pieces) == 0 {
		h.Fail()
		return
	}
	h.Replace(markup.Span{Start: n.Open.Start, End: n.Open.Start + 1 + len(n.Name)}, layoutTable)
	h.Insert(n.Open.End, "<tr>")
	for _, span := range dropped {
		h.Drop(span)
	}
	for i, c := range pieces {
		cell := `<td valign="` + valign + `">`
		if gap != "" && i+1 < len(pieces) {
			cell = `<td valign="` + valign + `" style="padding-right: ` + gap + `">`
		}
		h.Wrap(c, cell, "</td>")
		if c.Is("img") && !declares(c, "display") {
			h.Declare(c, "display: block") // as a piece of a flex row is
		}
	}
	h.Replace(n.Close, "</tr></table>")
}

// paddingToCell moves the padding of a block to the cell that holds nothing else, or makes the block a table of one
// cell.
func paddingToCell(p *Pass, t Target) *Fix {
	h := p.Edit()
	n := t.First()
	if len(t.Nodes) > 1 || !edit.Within(n, t.Span) || n.Close.Len() == 0 {
		return nil
	}
	if cell := n.Parent; cell.Is("td", "th") && alone(n) && !declares(cell, "padding") && n.Is("div", "p") {
		if n.Is("p") && !declares(n, "margin") {
			return nil
		}
		for _, d := range paddings(n) {
			h.Declare(cell, d.String())
			h.Drop(d.Span)
		}
		if len(paddings(n)) != 1 {
			return nil
		}
		return fixOf(h, "Put the padding on the cell around it")
	}
	if !n.Is("div") {
		return nil
	}
	width := ""
	for _, d := range edit.Declarations(n) {
		if d.Property == "width" {
			if width = p.outerWidth(n, d.Value); width == "" {
				return nil
			}
			h.Drop(d.Span)
		}
	}
	toTable(h, n, width)
	if p.marginsPassThrough(n) {
		return costlyFix(h, "Make the block a table of one cell with the padding",
			"the margins of what stands first and last in it no longer reach out of it")
	}
	return fixOf(h, "Make the block a table of one cell with the padding")
}

// outerWidth is the width of a table that takes as much room as a block with a width, its padding and its border; empty
// where that is not known.
func (p *Pass) outerWidth(n *markup.Node, width string) string {
	prepared := p.PreparedNode(n)
	px, ok := style.Length(width, 16)
	if prepared == nil || !ok || strings.HasSuffix(width, "%") || given(prepared, "border") || given(prepared, "box-sizing") {
		return ""
	}
	padding, _ := style.Box(prepared, "padding", p.lookOf(n).text.Size)
	return strconv.Itoa(int(px + padding.Left + padding.Right + 0.5))
}

// marginsPassThrough reports whether the margin of the first or the last block in an element reaches out of it, as
// nothing is between them; a cell keeps it inside (CSS 2.2, 8.3.1).
func (p *Pass) marginsPassThrough(n *markup.Node) bool {
	prepared := p.PreparedNode(n)
	if prepared == nil {
		return false
	}
	padding, _ := style.Box(prepared, "padding", 16)
	var shown []*markup.Node
	for _, c := range n.Children {
		if c.Kind == markup.Element || c.Kind == markup.Text && strings.TrimSpace(c.Data) != "" {
			shown = append(shown, c)
		}
	}
	if len(shown) == 0 {
		return false
	}
	open := func(padding float64, side string) bool {
		return padding == 0 && !slices.ContainsFunc(prepared.Style, func(d markup.Declaration) bool {
			return d.Property == "border" || d.Property == "border-"+side || d.Property == "border-width"
		})
	}
	return open(padding.Top, "top") && p.hasMargin(shown[0], "top") || open(padding.Bottom, "bottom") &&
		p.hasMargin(shown[len(shown)-1], "bottom")
}

// hasMargin reports whether a block has a margin on a side, said or by itself.
func (p *Pass) hasMargin(n *markup.Node, side string) bool {
	prepared := p.PreparedNode(n)
	if n.Kind != markup.Element || prepared == nil || !markup.Block(n.Name) {
		return false
	}
	margin, said := style.Box(prepared, "margin", p.lookOf(n).text.Size)
	if !said {
		return n.Is("p", "ul", "ol", "dl", "h1", "h2", "h3", "h4", "h5", "h6", "blockquote", "pre", "hr", "figure")
	}
	return side == "top" && margin.Top != 0 || side == "bottom" && margin.Bottom != 0
}

// paddings are the declarations of padding that reach an element.
func paddings(n *markup.Node) []markup.Declaration {
	return slices.DeleteFunc(edit.Declarations(n), func(d markup.Declaration) bool { return !strings.HasPrefix(d.Property, "padding") })
}

// declares reports whether a declaration of a property reaches an element.
func declares(n *markup.Node, property string) bool {
	return slices.ContainsFunc(edit.Declarations(n), func(d markup.Declaration) bool { return strings.HasPrefix(d.Property, property) })
}

// given is declares for an element of the prepared document, which has what sheets give it too.
func given(prepared *markup.Node, property string) bool {
	return slices.ContainsFunc(prepared.Style, func(d markup.Declaration) bool { return strings.HasPrefix(d.Property, property) })
}

// alone reports whether an element is all that its parent holds.
func alone(n *markup.Node) bool {
	for _, c := range n.Parent.Children {
		if c != n && c.Kind != markup.Comment && (c.Kind != markup.Text || strings.TrimSpace(c.Data) != "") {
			return false
		}
	}
	return true
}

// toTable makes a block a table of one cell that keeps all of its attributes. A width goes to the table.
func toTable(h *edit.Editor, n *markup.Node, width string) {
	for _, d := range edit.Declarations(n) {
		if strings.HasPrefix(d.Property, "margin") && strings.Trim(d.Value, "0px ") != "" ||
			slices.Contains([]string{"display", "float", "max-width", "min-width"}, d.Property) {
			h.Fail()
		}
	}
	if width == "" {
		width = "100%"
	}
	h.Replace(markup.Span{Start: n.Open.Start, End: n.Open.Start + 1 + len(n.Name)}, layoutTable+` width="`+width+`"><tr><td`)
	h.Replace(n.Close, "</td></tr></table>")
}

// widthToTable is the fix of a width that an engine ignores: a table of one cell has it.
func widthToTable(p *Pass, t Target) *Fix {
	n := t.First()
	if len(t.Nodes) > 1 || !n.Is("div") || !edit.Within(n, t.Span) || n.Close.Len() == 0 || t.Property != "width" {
		return nil
	}
	width := ""
	if px, ok := style.Length(t.Value, 16); ok && !strings.HasSuffix(t.Value, "%") && p.outerWidth(n, t.Value) == strconv.Itoa(int(px+0.5)) {
		width = strconv.Itoa(int(px + 0.5))
	} else if strings.HasSuffix(t.Value, "%") {
		width = t.Value
	}
	if width == "" {
		return nil
	}
	h := p.Edit()
	toTable(h, n, width)
	h.Drop(t.Span)
	return fixOf(h, "Make the block a table of one cell with the width")
}

// boundToAttribute is the fix of a largest width: the attribute has it too.
func boundToAttribute(p *Pass, t Target) *Fix {
	side := strings.TrimPrefix(t.Property, "max-")
	px, ok := style.Length(t.Value, 16)
	if !ok || strings.HasSuffix(t.Value, "%") || side != "width" && side != "height" {
		return nil
	}
	h := p.Edit()
	for _, n := range t.Nodes {
		if !n.Is("img", "table", "td") || n.Attribute(side) != nil || n.Attribute("data-picture") != nil || p.otherSide(n, side) {
			return nil
		}
		h.SetAttribute(n, side, strconv.Itoa(int(px+0.5)))
	}
	h.Drop(t.Span)
	return fixOf(h, fmt.Sprintf("Write the %s as an attribute", side))
}

// otherSide reports whether a picture has a size on its other side, which a new one on this side would pull out of shape.
func (p *Pass) otherSide(n *markup.Node, side string) bool {
	other := map[string]string{"width": "height", "height": "width"}[side]
	prepared := p.PreparedNode(n)
	if !n.Is("img") {
		return false
	}
	if n.Attribute(other) != nil {
		return true
	}
	value, declared := "", false
	if prepared != nil {
		value, declared = prepared.Declared(other)
	}
	return declared && value != "auto"
}

// shareToAttribute writes a share of the width as an attribute, or takes it from a block that is as wide anyway.
func shareToAttribute(p *Pass, t Target) *Fix {
	if t.Property != "width" {
		return nil
	}
	h := p.Edit()
	h.Drop(t.Span)
	title := ""
	for _, n := range t.Nodes {
		switch {
		case n.Is("table", "td", "th", "img"):
			h.SetAttribute(n, "width", t.Value)
			title = "Write the width as an attribute"
		case p.asWideAnyway(n) && t.Value == "100%" && title == "":
			title = "Take it away; a block is as wide anyway"
		default:
			return nil
		}
	}
	return fixOf(h, title)
}

// asWideAnyway recognises a block that takes all of the width by itself, with nothing that is added to a width of its own.
func (p *Pass) asWideAnyway(n *markup.Node) bool {
	prepared := p.PreparedNode(n)
	return prepared != nil && n.Is("div", "p") && !slices.ContainsFunc([]string{"display", "float", "padding", "border",
		"position"}, func(property string) bool { return given(prepared, property) })
}

// anchors reports whether something in an element is placed by its corners.
func (p *Pass) anchors(n *markup.Node) bool {
	prepared := p.PreparedNode(n)
	if prepared == nil {
		return true
	}
	return slices.ContainsFunc(prepared.Elements(), func(e *markup.Node) bool {
		position, _ := e.Declared("position")
		return e != prepared && (position == "absolute" || position == "fixed" || position == "sticky")
	})
}

// dropPosition takes away a position that moves nothing.
func dropPosition(p *Pass, t Target) *Fix {
	if t.Property != "position" {
		return nil
	}
	h := p.Edit()
	moved := false
	var offsets []markup.Declaration
	for _, n := range t.Nodes {
		if p.anchors(n) {
			return nil // what is positioned in it would stand elsewhere
		}
		if prepared := p.PreparedNode(n); prepared != nil { // those of the sheet count too
			for _, d := range prepared.Style {
				if slices.Contains([]string{"top", "left", "right", "bottom"}, d.Property) && strings.Trim(d.Value, "0px") != "" && d.Value != "auto" {
					return nil
				}
			}
		}
		for _, d := range edit.Declarations(n) {
			if slices.Contains([]string{"top", "left", "right", "bottom", "z-index"}, d.Property) {
				moved = moved || d.Property != "z-index" && strings.Trim(d.Value, "0px") != ""
				offsets = append(offsets, d)
			}
		}
	}
	if t.Value != "relative" || moved {
		return nil // what it moves is to be placed otherwise, by hand
	}
	h.Drop(t.Span)
	for _, d := range offsets {
		h.Drop(d.Span)
	}
	return fixOf(h, "Remove the position; it moves nothing")
}

// writeGaps writes what browsers do by themselves, so that nothing moves.
func writeGaps(p *Pass, t Target) *Fix {
	h := p.Edit()
	n := t.First()
	spacing := "2"
	if collapsed(n) {
		spacing = "0"
	}
	if a := n.Attribute("cellspacing"); a == nil {
		h.SetAttribute(n, "cellspacing", spacing)
	}
	if n.Attribute("cellpadding") == nil {
		h.SetAttribute(n, "cellpadding", "1")
	}
	return fixOf(h, "Write the gaps that browsers leave by themselves")
}

// collapsed reports whether a table has no space between its cells.
func collapsed(table *markup.Node) bool {
	for _, d := range edit.Declarations(table) {
		if d.Property == "border-collapse" && d.Value == "collapse" || d.Property == "border-spacing" && strings.Trim(d.Value, "0px ") == "" {
			return true
		}
	}
	return false
}

// spacerCells finds what the check spacer-cell reports: low cell that grows.
func spacerCells(p *Pass) {
	for _, n := range p.Doc.Root.Elements("td", "th") {
		height := n.Pixels("height")
		if px, ok := n.Declared("height"); ok && height == 0 {
			if length, fits := style.Length(px, 0); fits && !strings.HasSuffix(px, "%") {
				height = int(length + 0.5)
			}
		}
		_, line := n.Declared("line-height")
		if height == 0 || height >= 14 || line || strings.TrimSpace(strings.ReplaceAll(n.TextContent(), "\u00a0",
			"")) != "" || len(n.Elements("img")) > 0 {
			continue
		}
		var m *Fix
		if written := p.SourceNode(n); written != nil {
			h := p.Edit()
			h.Declare(written, fmt.Sprintf("font-size: 1px; line-height: %dpx; mso-line-height-rule: exactly", height))
			m = fixOf(h, "Give the cell a line as low as itself")
		}
		p.Report(Finding{
			Span:     n.Open,
			Severity: client.Degrades,
			Message:  fmt.Sprintf("The cell shall be %d px high, but a line of its text is higher.", height),
			Fix:      m,
		})
	}
}

// unevenRows finds what the check uneven-rows reports: rows of unequal length.
func unevenRows(p *Pass) {
	for _, table := range p.Doc.Root.Elements("table") {
		first, spans := 0, false
		var going []int // for each column that a cell above takes, how many rows it still does
		for _, row := range table.Elements("tr") {
			if row.Inside("table") != table {
				continue
			}
			columns, down := columnsOf(row)
			spans = spans || down
			var left []int
			for _, rows := range going {
				if columns++; rows > 1 {
					left = append(left, rows-1)
				}
			}
			for _, c := range row.Children {
				for range min(max(1, c.Pixels("colspan")), mostColumns) {
					if rows := c.Pixels("rowspan"); c.Is("td", "th") && rows > 1 && len(left) < mostColumns {
						left = append(left, rows-1)
					}
				}
			}
			going = left
			if first == 0 {
				first = columns
			}
			if columns != first && columns > 0 && row.Attribute("data-each") == nil && row.Attribute("data-in") == nil {
				fix := p.completed(table)
				if spans {
					fix = nil
				}
				p.Report(Finding{
					Span:     row.Open,
					Severity: client.Note,
					Message:  fmt.Sprintf("The row has %d columns and the first one of the table %d.", columns, first),
					Fix:      fix,
				})
				break
			}
		}
	}
}

// mostColumns is how many columns of a table are counted.
const mostColumns = 1_000

// columnsOf counts the columns of a row's cells, and reports whether one of them goes on in the rows below.
func columnsOf(row *markup.Node) (columns int, down bool) {
	for _, c := range row.Children {
		if c.Is("td", "th") {
			columns += max(1, c.Pixels("colspan"))
			down = down || c.Pixels("rowspan") > 1
		}
	}
	return columns, down
}

// completed writes the empty cells that browsers put behind short rows.
func (p *Pass) completed(table *markup.Node) *Fix {
	lengths, most := map[*markup.Node]int{}, 0
	h := p.Edit()
	for _, row := range table.Elements("tr") {
		if row.Inside("table") != table {
			continue
		}
		lengths[row], _ = columnsOf(row)
		if most = max(most, lengths[row]); row.Attribute("data-each") != nil || row.Attribute("data-in") != nil {
			return nil
		}
	}
	for row, columns := range lengths {
		if columns == most {
			continue
		}
		written := p.SourceNode(row)
		if written == nil || written.Close.Len() == 0 {
			return nil
		}
		h.Insert(written.Close.Start, strings.Repeat("<td></td>", most-columns))
	}
	return fixOf(h, "Complete the short rows with the empty cells that browsers put there")
}

// writeMargins writes the margins that browsers give a paragraph by themselves.
func writeMargins(p *Pass, t Target) *Fix {
	n := t.First()
	if !n.Is("p", "ul", "ol") || n.Inside("ul") != nil || n.Inside("ol") != nil {
		return nil
	}
	h := p.Edit()
	h.Declare(n, "margin: "+pixels(p.lookOf(n).text.Size)+" 0")
	return fixOf(h, "Write the margins that browsers give it by themselves")
}
