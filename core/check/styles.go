package check

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"missivum/core/client"
	"missivum/core/edit"
	"missivum/core/markup"
	"missivum/core/person"
	"missivum/core/picture"
	"missivum/core/style"
	"missivum/core/template"
)

// styleChecks look at declarations: values, units, colours and fonts.
var styleChecks = []*Check{
	{
		ID: "rounded-corners", Title: "Rounded corners that a client renders square",
		Why: "The word-processor engine knows no border-radius: a round photo is square there.",
		Remedy: "Cut the shape into the picture itself: missivum fix does it for the template's own PNG pictures, " +
			"missivum picture fit --shape for others. Or live with square corners.",
		Failing: `<img src="https://p.brackwater.example/a.png" alt="Maren Lind" width="60" height="60" ` +
			`style="border-radius: 50%"><span>Brackwater Ferries</span>`,
		Passing: `<img src="https://p.brackwater.example/round.png" alt="Maren Lind" width="60" height="60"><span>Brackwater Ferries</span>`,
		Fix:     cutCorners,
	},
	{
		ID: "effect-property", Title: "Effect that a client does not draw",
		Why:     "Shadows, opacity, filters, transforms and movement are known to browsers and not to every client.",
		Remedy:  "Take it away, or put it into a picture.",
		Failing: `<div style="box-shadow: 2px 2px 4px #999999">Harbour office</div>`,
		Passing: `<div style="border: 1px solid #999999">Harbour office</div>`,
		Fix: func(p *Pass, t Target) *Fix {
			h := p.Edit()
			h.Drop(t.Span)
			return costlyFix(h, "Take the effect away", "it is gone in the clients that render it too")
		},
	},
	{
		ID: "background-picture", Title: "Background picture or run of colours",
		Why:    "The word-processor engine renders no background picture, and others take it away: light text on it stands on a white page.",
		Remedy: "Give the cell a background colour on which its text can be read, and put the picture beside the text.",
		Failing: `<table role="presentation" cellpadding="0" cellspacing="0"><tr><td style="background-image: ` +
			`url(https://p.brackwater.example/sea.png)">Harbour office</td></tr></table>`,
		Passing: `<table role="presentation" cellpadding="0" cellspacing="0"><tr><td style="background-color: ` +
			`#e8eef0">Harbour office</td></tr></table>`,
	},
	{
		ID: "colour-form", Title: "Colour in a form that a client does not read",
		Why: "The word-processor engine reads names, three or six hexadecimal digits and rgb(); any other " +
			"colour is as if it were not written.",
		Remedy:  "Write the colour with six digits, such as #0b3c49.",
		Failing: `<p style="margin: 0; color: hsl(194, 74%, 16%)">Harbour office</p>`,
		Passing: `<p style="margin: 0; color: #0b3c49">Harbour office</p>`,
		Fix:     plainColour,
	},
	{
		ID: "value-unit", Title: "Unit or function that a client does not read",
		Why:     "The word-processor engine reads px, pt, em, cm and in, and neither rem, vw and ch nor calc().",
		Remedy:  "Write the value in px.",
		Failing: `<p style="margin: 0; font-size: 0.875rem">Harbour office</p>`,
		Passing: `<p style="margin: 0; font-size: 14px">Harbour office</p>`,
		Fix:     plainUnit,
	},
	{
		ID: "custom-property", Title: "Custom property",
		Why:     "Most clients do not read var(): the value is as if it were not written.",
		Remedy:  "Write the value itself.",
		Failing: `<p style="margin: 0; color: var(--ink, #0b3c49)">Harbour office</p>`,
		Passing: `<p style="margin: 0; color: #0b3c49">Harbour office</p>`,
		Fix:     plainVariable,
	},
	{
		ID: "line-height-rule", Title: "Line height without the word processor's exact rule",
		Why: "Without mso-line-height-rule: exactly the word-processor engine takes the line height as the " +
			"least: a larger letter or a picture makes the line higher.",
		Remedy:  "Write mso-line-height-rule: exactly beside line-height; the others leave it aside.",
		Failing: `<p style="margin: 0; line-height: 20px">Harbour office</p>`,
		Passing: `<p style="margin: 0; line-height: 20px; mso-line-height-rule: exactly">Harbour office</p>`,
		Idle: func(_ *Pass, t Target) string {
			if _, err := strconv.ParseFloat(strings.TrimSuffix(t.Value, "%"), 64); err != nil {
				return ""
			}
			return "a multiple of the letters grows with larger ones anyway"
		},
		Fix: func(p *Pass, t Target) *Fix {
			h := p.Edit()
			h.Beside(t.Span, "mso-line-height-rule: exactly")
			done := map[*markup.Node]bool{}
			for _, n := range t.Nodes {
				for _, img := range n.Elements("img") {
					letGrow(h, img, n, done)
				}
			}
			return fixOf(h, "Write the exact rule beside it")
		},
	},
	{
		ID: "picture-clipped", Title: "Picture in a line of exact height",
		Why:    "Where mso-line-height-rule: exactly reaches a picture, the word-processor engine cuts it off at the line's height.",
		Remedy: "Write mso-line-height-rule: at-least on the cell that holds the picture.",
		Failing: `<table role="presentation" cellpadding="0" cellspacing="0"><tr><td style="line-height: 18px; ` +
			`mso-line-height-rule: exactly"><img src="https://p.brackwater.example/a.png" alt="" width="60" ` +
			`height="40"> Harbour office</td></tr></table>`,
		Passing: `<table role="presentation" cellpadding="0" cellspacing="0" style="line-height: 18px; ` +
			`mso-line-height-rule: exactly"><tr><td style="mso-line-height-rule: at-least"><img ` +
			`src="https://p.brackwater.example/a.png" alt="" width="60" height="40"> Harbour office</td></tr></table>`,
		Fix: func(p *Pass, t Target) *Fix {
			h := p.Edit()
			letGrow(h, t.First(), nil, map[*markup.Node]bool{})
			return fixOf(h, "Let the line of the picture grow")
		},
	},
	{
		ID: "font-fallback", Title: "Font that falls back to the wrong one",
		Why:     "When the first font of the list is not there, the word-processor engine takes its own serif font and not the next of the list.",
		Remedy:  "Give that engine a font in a style sheet for it alone, or begin the list with a font that everybody has.",
		Failing: `<p style="margin: 0; font-family: 'Fira Sans', Verdana, sans-serif">Harbour office</p>`,
		Passing: `<p style="margin: 0; font-family: Verdana, sans-serif">Harbour office</p>`,
		Fix:     engineSheet,
	},
	{
		ID: "generic-font", Title: "Font list without a generic family",
		Why:     "Where none of the fonts is there, each client takes its own default, often a serif one.",
		Remedy:  "End the list with sans-serif, serif or monospace.",
		Failing: `<p style="margin: 0; font-family: Verdana">Harbour office</p>`,
		Passing: `<p style="margin: 0; font-family: Verdana, sans-serif">Harbour office</p>`,
		Run:     genericFonts,
	},
	{
		ID: "web-font", Title: "Font or sheet that is loaded",
		Why:     "Most clients load neither fonts nor sheets: the next font of the list is shown.",
		Remedy:  "Choose a next font that looks much the same.",
		Failing: `<style>@import url("https://www.brackwater.example/fonts.css");</style><p style="margin: 0">Harbour office</p>`,
		Passing: `<p style="margin: 0; font-family: Verdana, sans-serif">Harbour office</p>`,
	},
	{
		ID: "hidden-content", Title: "Hidden content that shows",
		Why:     "The word-processor engine shows what display: none hides, unless its own property says so.",
		Remedy:  "Take it out, or write mso-hide: all beside it.",
		Failing: `<div style="display: none">Fares from Monday on</div><div>Harbour office</div>`,
		Passing: `<div style="display: none; mso-hide: all">Fares from Monday on</div><div>Harbour office</div>`,
		Fix: func(p *Pass, t Target) *Fix {
			h := p.Edit()
			h.Beside(t.Span, "mso-hide: all")
			return fixOf(h, "Hide it from the word processor too")
		},
	},
	{
		ID: "bare-length", Title: "Length without a unit",
		Why:     "A number without a unit is no length: browsers drop the declaration, some clients take it as px.",
		Remedy:  "Write px behind the number.",
		Failing: `<p style="margin: 0; font-size: 14">Harbour office</p>`,
		Passing: `<p style="margin: 0; font-size: 14px">Harbour office</p>`,
		Run:     bareLengths,
	},
	{
		ID: "unknown-property", Title: "Property that does not exist",
		Why:     "A misspelt property does nothing anywhere, and nobody says so.",
		Remedy:  "Write the property's name as it is.",
		Failing: `<p style="margin: 0; text-aling: right">Harbour office</p>`,
		Passing: `<p style="margin: 0; text-align: right">Harbour office</p>`,
		Run:     unknownProperties,
	},
	{
		ID: "duplicate-declaration", Title: "Declaration written twice",
		Why:     "Only the last one counts; the first takes up space and misleads whoever reads it.",
		Remedy:  "Keep the last one.",
		Failing: `<p style="margin: 0; color: #0b3c49; color: #20343d">Harbour office</p>`,
		Passing: `<p style="margin: 0; color: #20343d">Harbour office</p>`,
		Run:     duplicateDeclarations,
	},
	{
		ID: "important-mark", Title: "!important in a style attribute",
		Why:     "A style attribute outranks every rule already; some clients drop a declaration with the mark.",
		Remedy:  "Take the mark away.",
		Failing: `<p style="margin: 0 !important">Harbour office</p>`,
		Passing: `<p style="margin: 0">Harbour office</p>`,
		Run:     importantMarks,
	},
	{
		ID: "small-text", Title: "Text smaller than 9 px",
		Why:     "It cannot be read on a telephone; some clients enlarge it, and the lines break elsewhere.",
		Remedy:  "Make it 9 px or more; 11 for what must be read.",
		Failing: `<p style="margin: 0; font-size: 7px">Registered in Saltmouth</p>`,
		Passing: `<p style="margin: 0; font-size: 10px">Registered in Saltmouth</p>`,
		Fix: func(p *Pass, t Target) *Fix {
			h := p.Edit()
			text := ""
			if h.IsDeclaration(t.Span) {
				text = p.Source.Source[t.Span.Start:t.Span.End]
			}
			if !strings.HasPrefix(text, "font-size") {
				return nil
			}
			h.SetValue(t.Span, "9px")
			return fixOf(h, "Make it 9 px")
		},
	},
}

// letGrow lets the line of a picture be as high as the picture for the word processor, on the block nearest to it. It
// fails where that is the element that asks for the exact height.
func letGrow(h *edit.Editor, img, exact *markup.Node, done map[*markup.Node]bool) {
	block := img.Parent
	for block.Kind == markup.Element && !markup.Block(block.Name) {
		block = block.Parent
	}
	switch {
	case block.Kind != markup.Element || block == exact:
		h.Fail()
	case done[block] || block.Attribute("style") != nil && strings.Contains(block.Attribute("style").Value, "mso-line-height-rule: at-least"):
	default:
		done[block] = true
		for _, d := range edit.Declarations(block) {
			if d.Property == "mso-line-height-rule" {
				h.SetValue(d.Span, "at-least")
				return
			}
		}
		h.Declare(block, "mso-line-height-rule: at-least")
	}
}

// plainColour writes a colour with six digits. One that lets the background through is laid over the background that it
// stands on.
func plainColour(p *Pass, t Target) *Fix {
	l := p.lookOf(t.First())
	background, ink := l.background, l.text.Color
	if parent := t.First().Parent; t.Property == "color" && parent.Kind == markup.Element {
		ink = p.lookOf(parent).text.Color // currentColor is then that of the element around
	}
	if strings.Contains(strings.ToLower(t.Value), "currentcolor") && !p.coloured(t.First(), t.Property == "color") {
		return nil // the text's colour is the client's, and another in the dark
	}
	value, ok := style.Opaque(t.Value, background, ink)
	if !ok {
		return nil
	}
	h := p.Edit()
	h.SetValue(t.Span, value)
	return fixOf(h, "Write the colour with six digits")
}

// coloured reports whether an element's text has a colour that the template gives it; around asks for what is around it.
func (p *Pass) coloured(n *markup.Node, around bool) bool {
	prepared := p.PreparedNode(n)
	if prepared != nil && around {
		prepared = prepared.Parent
	}
	for ; prepared != nil && prepared.Kind == markup.Element; prepared = prepared.Parent {
		if _, ok := prepared.Attr("color"); ok && prepared.Is("font") {
			return true
		}
		if colour, ok := prepared.Declared("color"); ok &&
			!slices.Contains([]string{"inherit", "currentcolor", "initial", "unset"}, strings.ToLower(colour)) {
			return true
		}
	}
	return false
}

// plainUnit writes rem as px, and sums of calc() that are all px.
func plainUnit(p *Pass, t Target) *Fix {
	value, ok := style.InPixels(t.Value)
	if !ok {
		return nil
	}
	h := p.Edit()
	h.SetValue(t.Span, value)
	return fixOf(h, "Write the value in px")
}

// plainVariable writes the value of a custom property: the one that an element around or the sheet's root declares,
// else the stand-by.
func plainVariable(p *Pass, t Target) *Fix {
	_, rest, found := strings.Cut(t.Value, "var(")
	inner, after, closed := strings.Cut(rest, ")")
	if !found || !closed || strings.Contains(inner, "(") {
		return nil
	}
	name, standBy, _ := strings.Cut(inner, ",")
	value := strings.TrimSpace(standBy)
	for n := t.First(); n != nil; n = n.Parent {
		for _, d := range edit.Declarations(n) {
			if d.Property == strings.TrimSpace(name) {
				value = d.Value
			}
		}
	}
	for _, sheet := range p.Source.Elements("style") {
		for _, text := range sheet.Children {
			for _, rule := range style.ParseSheet(text.Data, text.Open.Start).Rules {
				for _, d := range rule.Declarations {
					if d.Property == strings.TrimSpace(name) && slices.Contains(rule.Selectors, ":root") {
						value = d.Value
					}
				}
			}
		}
	}
	if value == "" {
		return nil
	}
	before, _, _ := strings.Cut(t.Value, "var(")
	h := p.Edit()
	h.SetValue(t.Span, before+value+after)
	return fixOf(h, "Write the value itself")
}

// engineSheet puts a style sheet for the word-processor engine in front, with the first font of the list that it
// has.
func engineSheet(p *Pass, t Target) *Fix {
	if !p.oneFont() {
		return nil // the sheet would make all of it one font
	}
	families := style.FamiliesOf(markup.Declaration{Property: "font-family", Value: p.fontsAt(t)})
	for _, name := range families[min(1, len(families)):] {
		if !slices.ContainsFunc(t.Behaviour.Match.Fonts, func(f string) bool { return strings.EqualFold(f, name) }) {
			continue
		}
		generic := style.Generic(name)
		list := name
		if !strings.EqualFold(name, generic) {
			list += ", " + generic
		}
		h := p.Edit()
		for _, n := range p.Source.Elements() {
			prepared := p.PreparedNode(n)
			if prepared == nil || n.Is("style", "body", "html") || !slices.ContainsFunc(prepared.Style, func(d markup.Declaration) bool {
				return len(style.FamiliesOf(d)) > 0
			}) {
				continue
			}
			h.SetAttribute(n, "class", strings.TrimSpace(attribute(n, "class")+" "+engineClass))
		}
		h.Insert(p.start(), "<!--[if mso]><style>."+engineClass+" { font-family: "+list+" !important }</style><![endif]-->\n")
		return fixOf(h, "Give that engine a font in a style sheet for it alone")
	}
	return nil
}

// engineClass is the class of the pieces that get another font in the word-processor engine: a rule for all elements would reach the
// message around the signature.
const engineClass = "signature-font"

// oneFont reports whether the template has the same fonts everywhere.
func (p *Pass) oneFont() bool {
	var first []string
	for _, n := range p.Doc.Root.Elements() {
		if face, ok := n.Attr("face"); ok && n.Is("font") && !slices.Equal(style.Families(face), first) {
			return false
		}
		for _, d := range n.Style {
			families := style.FamiliesOf(d)
			if len(families) == 0 {
				continue
			}
			if first == nil {
				first = families
			}
			if !slices.EqualFunc(first, families, strings.EqualFold) {
				return false
			}
		}
	}
	return true
}

// fontsAt is the list of fonts that a cause is about.
func (p *Pass) fontsAt(t Target) string {
	for _, n := range p.Doc.Root.Elements() {
		for _, d := range n.Style {
			if d.Span == t.Span {
				return strings.Join(style.FamiliesOf(d), ", ")
			}
		}
	}
	return ""
}

// start is where the content of the template begins: behind the body's start tag where there is one.
func (p *Pass) start() int {
	for _, n := range p.Source.Elements("body") {
		return n.Open.End
	}
	for _, n := range p.Source.Root.Children {
		if n.Kind == markup.Element && !n.Is("style", "link", "meta") {
			return n.Open.Start
		}
	}
	return 0
}

// declarations visits every declaration of the source once: those of style attributes, with their element, and
// those of style sheets.
func (p *Pass) declarations(visit func(n *markup.Node, d markup.Declaration)) {
	for _, n := range p.Source.Elements() {
		if a := n.Attribute("style"); a != nil && p.Source.Source[a.Inner.Start:a.Inner.End] == a.Value {
			for _, d := range style.ParseDeclarations(a.Value, a.Inner.Start) {
				visit(n, d)
			}
		}
		if n.Name == "style" {
			for _, text := range n.Children {
				for _, rule := range style.ParseSheet(text.Data, text.Open.Start).Rules {
					for _, d := range rule.Declarations {
						visit(nil, d)
					}
				}
			}
		}
	}
}

// genericFonts finds what the check generic-font reports: font list without a generic family.
func genericFonts(p *Pass) {
	p.declarations(func(n *markup.Node, d markup.Declaration) {
		families := style.FamiliesOf(d)
		if len(families) == 0 || d.Property != "font-family" || strings.Contains(d.Value, "{{") {
			return
		}
		last := strings.ToLower(families[len(families)-1])
		if slices.Contains(style.GenericFamilies, last) || last == "inherit" || last == "initial" {
			return
		}
		h := p.Edit()
		h.SetValue(d.Span, d.Value+", "+style.Generic(families[0]))
		p.Report(Finding{
			Span:     d.Span,
			Severity: client.Note,
			Message: fmt.Sprintf("The list ends with %s; where that is not there either, each client takes its own default.",
				families[len(families)-1]),
			Fix: fixOf(h, "End the list with "+style.Generic(families[0])),
		})
	})
}

// bareLengths finds what the check bare-length reports: length without a unit.
func bareLengths(p *Pass) {
	p.declarations(func(_ *markup.Node, d markup.Declaration) {
		if !style.TakesLength(d.Property) || !style.HasUnit(d.Value, []string{"number"}) {
			return
		}
		words := strings.Fields(d.Value)
		wrong := false
		for i, w := range words {
			if f, err := strconv.ParseFloat(w, 64); err == nil && f != 0 {
				words[i], wrong = w+"px", true
			}
		}
		if !wrong {
			return
		}
		h := p.Edit()
		h.SetValue(d.Span, strings.Join(words, " "))
		p.Report(Finding{
			Span:     d.Span,
			Severity: client.Degrades,
			Message:  fmt.Sprintf("%s has no unit.", quote(d.Property+": "+d.Value)),
			Fix:      fixOf(h, "Write px behind it"),
		})
	})
}

// unknownProperties finds what the check unknown-property reports: property that does not exist.
func unknownProperties(p *Pass) {
	p.declarations(func(_ *markup.Node, d markup.Declaration) {
		if style.KnownProperty(d.Property) || strings.Contains(d.Property, "{") {
			return
		}
		nearest := person.Nearest(d.Property, style.Properties())
		var m *Fix
		remedy := "Take it out, or write the property's name as it is."
		if len(nearest) > 0 {
			remedy = "Probably meant: " + strings.Join(nearest, ", ") + "."
			h := p.Edit()
			h.Replace(markup.Span{Start: d.Span.Start, End: d.Span.Start + len(d.Property)}, nearest[0])
			m = costlyFix(h, "Write "+nearest[0], "it does something from then on; look at it")
		}
		p.Report(Finding{
			Span:     d.Span,
			Severity: client.Degrades,
			Message:  fmt.Sprintf("There is no property %q.", d.Property),
			Fix:      m,
			Remedy:   remedy,
		})
	})
}

// duplicateDeclarations finds what the check duplicate-declaration reports: declaration written twice.
func duplicateDeclarations(p *Pass) {
	type key struct {
		n        *markup.Node
		property string
	}
	seen := map[key]markup.Declaration{}
	p.declarations(func(n *markup.Node, d markup.Declaration) {
		if n == nil {
			return
		}
		k := key{n, d.Property}
		before, twice := seen[k]
		seen[k] = d
		if !twice || before.Important || !plainValue(before.Value) || !plainValue(d.Value) {
			return // the first may be there for clients that do not read the second
		}
		h := p.Edit()
		h.Drop(before.Span)
		p.Report(Finding{
			Span:     before.Span,
			Severity: client.Note,
			Message:  fmt.Sprintf("%s is written again behind it: %s counts.", d.Property, quote(d.Value)),
			Fix:      fixOf(h, "Keep the last one"),
		})
	})
}

// plainValue recognises values that every client reads.
func plainValue(value string) bool {
	return !strings.ContainsAny(value, "({") && !style.HasUnit(value, []string{"rem", "vw", "vh", "ch"}) &&
		!style.HasColour(value, []string{"hex4", "hex8", "current"})
}

// importantMarks finds what the check important-mark reports: !important in a style attribute.
func importantMarks(p *Pass) {
	for _, l := range p.Prepared.Styles.Left {
		if strings.Contains(l.Text, "!important") || strings.HasPrefix(l.What, "@") {
			return // a rule that stays in a sheet may need to be outranked
		}
	}
	p.declarations(func(n *markup.Node, d markup.Declaration) {
		if n == nil || !d.Important {
			return
		}
		h := p.Edit()
		at := strings.LastIndexByte(p.Source.Source[d.Span.Start:d.Span.End], '!') + d.Span.Start
		h.Remove(markup.Span{Start: at, End: d.Span.End})
		p.Report(Finding{
			Span:     d.Span,
			Severity: client.Note,
			Message:  fmt.Sprintf("%s carries !important in a style attribute.", d.Property),
			Fix:      fixOf(h, "Take the mark away"),
		})
	})
}

// cutCorners cuts round corners into the picture itself and takes the property away.
func cutCorners(p *Pass, t Target) *Fix {
	var shown *template.Picture
	for _, n := range t.Nodes {
		prepared := p.PreparedNode(n)
		if prepared == nil || !n.Is("img") {
			return nil
		}
		of := p.Prepared.PictureOf(prepared)
		if of == nil || shown != nil && of != shown {
			return nil
		}
		shown = of
	}
	if shown == nil || t.Property != "border-radius" || shown.Format != picture.PNG {
		return nil
	}
	recipe := p.recipeFor(shown)
	if recipe == nil || !shaped(recipe, t.Value) {
		return nil
	}
	h := p.Edit()
	h.Drop(t.Span)
	return redrawn(h, "Cut the shape into "+shown.File+" itself", Redraw{File: shown.File, From: shown.File, Recipe: recipe})
}

// shaped writes a border-radius into a recipe; false for one of several lengths.
func shaped(r *picture.Recipe, value string) bool {
	if percent, found := strings.CutSuffix(value, "%"); found {
		share, err := strconv.ParseFloat(percent, 64)
		if err != nil || share < 50 { // less has corners that are no circles in a picture that is no square
			return false
		}
		r.Shape = picture.Round
		return true
	}
	px, ok := style.Length(value, 0)
	if !ok || px <= 0 || px > picture.MaxDisplay {
		return false
	}
	r.Shape, r.Radius = picture.Rounded, px
	return true
}
