package check

import (
	"fmt"
	"image/color"
	"math"
	"path"
	"strings"

	"missivum/core/client"
	"missivum/core/field"
	"missivum/core/journey"
	"missivum/core/markup"
	"missivum/core/style"
)

// accessChecks look at what readers need who hear the message, see little, or read another script (WCAG 2.2).
var accessChecks = []*Check{
	{
		ID: "layout-table-role", Title: "Layout table that is not marked as one",
		Why:     "Who hears the message hears rows and columns counted out.",
		Remedy:  `Write role="presentation" on every table that only places things.`,
		Failing: `<table cellpadding="0" cellspacing="0"><tr><td>Bridge</td></tr></table>`,
		Passing: `<table role="presentation" cellpadding="0" cellspacing="0"><tr><td>Bridge</td></tr></table>`,
		Run: func(p *Pass) {
			for _, n := range p.Source.Elements("table") {
				if n.Attribute("role") != nil || len(n.Elements("th", "caption")) > 0 {
					continue
				}
				h := p.Edit()
				h.SetAttribute(n, "role", "presentation")
				p.Report(Finding{
					Span:     n.Open,
					Severity: client.Note,
					Message:  "The table is not marked as one that only places things.",
					Fix:      fixOf(h, `Write role="presentation"`),
				})
			}
		},
	},
	{
		ID: "layout-table-header", Title: "Layout table with the parts of a data table",
		Why:     "Headers, captions and summaries say that the table holds data; role=\"presentation\" says that it does not.",
		Remedy:  "Write td in the place of th, and take caption and summary out.",
		Failing: `<table role="presentation" cellpadding="0" cellspacing="0"><tr><th>Bridge</th></tr></table>`,
		Passing: `<table role="presentation" cellpadding="0" cellspacing="0"><tr><td style="font-weight: bold; ` +
			`text-align: center">Bridge</td></tr></table>`,
		Run: func(p *Pass) {
			for _, n := range p.Source.Elements("th", "caption") {
				table := n.Inside("table")
				if role, _ := tableRole(table); role != "presentation" {
					continue
				}
				h := p.Edit()
				if n.Is("th") {
					h.Rename(n, "td")
					if n.Attribute("style") == nil {
						h.SetAttribute(n, "style", "font-weight: bold; text-align: center")
					} else {
						h.Fail()
					}
				}
				p.Report(Finding{
					Span:     n.Open,
					Severity: client.Note,
					Message:  fmt.Sprintf("<%s> in a table that is marked as layout.", n.Name),
					Fix:      fixOf(h, "Write a plain cell that looks the same"),
				})
			}
		},
	},
	{
		ID: "alt-quality", Title: "Alternative text that says nothing",
		Why:    "A file's name or the word \"image\" is read out in the place of the picture.",
		Remedy: "Write what the picture says: the company's name for a logo, the message of a banner.",
		Failing: `<img src="https://p.brackwater.example/logo_final2.png" alt="logo_final2.png" width="120" ` +
			`height="40"><span>Brackwater Ferries</span>`,
		Passing: `<img src="https://p.brackwater.example/logo_final2.png" alt="Brackwater Ferries" width="120" ` +
			`height="40"><span>Harbour office</span>`,
		Run: altQuality,
	},
	{
		ID: "language", Title: "Language that is not declared",
		Why:    "Who hears the signature hears it in the voice of another language, and hyphenation and quotes follow it.",
		Remedy: `Write lang="..." on the outermost element.`,
		Failing: `<table role="presentation" cellpadding="0" cellspacing="0"><tr><td>Überfahrten täglich nach ` +
			`Saltmouth und zurück</td></tr></table>`,
		Passing: `<table role="presentation" cellpadding="0" cellspacing="0" lang="de"><tr><td>Überfahrten täglich ` +
			`nach Saltmouth und zurück</td></tr></table>`,
		Run: languageDeclared,
	},
	{
		ID: "direction", Title: "Script from right to left without a direction",
		Why:     "Without dir=\"rtl\" full stops, brackets and numbers land on the wrong side.",
		Remedy:  `Write dir="rtl" on the element that holds the text.`,
		Failing: `<p style="margin: 0" lang="ar">&#1605;&#1585;&#1601;&#1571; (8)</p>`,
		Passing: `<p style="margin: 0" lang="ar" dir="rtl">&#1605;&#1585;&#1601;&#1571; (8)</p>`,
		Run:     directions,
	},
	{
		ID: "contrast", Title: "Text with too little contrast",
		Why:     "Text needs a contrast of 4.5 to 1 against its background, large text 3 to 1 (WCAG 2.2, 1.4.3).",
		Remedy:  "Make the text darker, or the background lighter.",
		Failing: `<p style="margin: 0; color: #aab4b8">Registered in Saltmouth</p>`,
		Passing: `<p style="margin: 0; color: #5a666b">Registered in Saltmouth</p>`,
		Run:     contrasts,
	},
	{
		ID: "contrast-dark", Title: "Text with too little contrast in dark mode",
		Why:    "Dark mode turns some colours over and leaves others: text and background can meet in the middle.",
		Remedy: "Give the text a background of its own, or choose colours that are far apart.",
		Failing: `<table role="presentation" cellpadding="0" cellspacing="0"><tr><td style="background-color: ` +
			`#ffcc00; color: #14181a">Fares</td></tr></table>`,
		Passing: `<table role="presentation" cellpadding="0" cellspacing="0"><tr><td style="background-color: ` +
			`#7d2a18; color: #ffffff">Fares</td></tr></table>`,
		Run: darkContrasts,
	},
}

// tableRole gives a table's role, as its attribute says.
func tableRole(table *markup.Node) (string, bool) {
	if table == nil {
		return "", false
	}
	return table.Attr("role")
}

// altQuality finds what the check alt-quality reports: alternative text that says nothing.
func altQuality(p *Pass) {
	for _, img := range p.Source.Elements("img") {
		alt, ok := img.Attr("alt")
		low := strings.ToLower(strings.TrimSpace(alt))
		if !ok || low == "" {
			continue
		}
		said := ""
		switch low {
		case "image", "picture", "photo", "img", "logo", "banner", "icon", "graphic", "bild", "foto", "untitled", "spacer":
			said = "is no more than what kind of thing it is"
		}
		switch path.Ext(low) {
		case ".png", ".jpg", ".jpeg", ".gif", ".svg", ".webp":
			said = "is a file's name"
		}
		if len([]rune(alt)) > 150 {
			said = fmt.Sprintf("has %d characters: too long to be heard", len([]rune(alt)))
		}
		if said != "" {
			p.Report(Finding{
				Span:     img.Attribute("alt").Span,
				Severity: client.Note,
				Message:  fmt.Sprintf("The alternative text %s %s.", quote(alt), said),
			})
		}
	}
}

// languageDeclared asks for a language where there is text of the template's own that is not plain ASCII, or where
// the settings name one.
func languageDeclared(p *Pass) {
	declared, letters, foreign := false, 0, false
	var first *markup.Node
	p.Source.Root.Walk(func(n *markup.Node) bool {
		if n.Is("style", "script", "head") || n.Kind == markup.Conditional {
			return false
		}
		if n.Kind == markup.Element {
			declared = declared || n.Attribute("lang") != nil
			if first == nil && n.Parent.Kind == markup.Root && !n.Is("meta", "link", "title") {
				first = n
			}
		}
		if n.Kind == markup.Text && !field.HasField(n.Data) {
			for _, r := range n.Data {
				if r > ' ' {
					letters++
				}
				foreign = foreign || r >= 0xc0 && r != '×' && r < 0x2000
			}
		}
		return true
	})
	if declared || first == nil || letters < 8 || !foreign && p.Template.Settings.Language == "" {
		return
	}
	h := p.Edit()
	roots := 0
	for _, n := range p.Source.Root.Children {
		if n.Kind == markup.Element && !n.Is("style", "link", "meta") {
			roots++
		}
	}
	if p.Template.Settings.Language != "" && roots == 1 {
		h.SetAttribute(first, "lang", p.Template.Settings.Language)
	}
	p.Report(Finding{
		Span:     first.Open,
		Severity: client.Note,
		Message:  "The template's own text has no declared language.",
		Fix:      fixOf(h, "Write the template's language on the outermost element"),
	})
}

// directions finds what the check direction reports: script from right to left without a direction.
func directions(p *Pass) {
	reported := map[*markup.Node]bool{}
	p.Doc.Root.Walk(func(n *markup.Node) bool {
		if n.Is("style", "script", "head") || n.Kind == markup.Conditional {
			return false
		}
		if n.Kind != markup.Text || !strings.ContainsFunc(n.Data, rightToLeft) {
			return true
		}
		for e := n.Parent; e != nil && e.Kind == markup.Element; e = e.Parent {
			direction, _ := e.Declared("direction")
			if e.Attribute("dir") != nil || direction != "" {
				return true
			}
		}
		if reported[n.Parent] || n.Parent.Kind != markup.Element {
			return true
		}
		reported[n.Parent] = true
		h := p.Edit()
		if written := p.SourceNode(n.Parent); written != nil {
			h.SetAttribute(written, "dir", "rtl")
		}
		p.Report(Finding{
			Span:     n.Parent.Open,
			Severity: client.Degrades,
			Message:  "Text from right to left stands in an element without a direction.",
			Fix:      fixOf(h, `Write dir="rtl"`),
		})
		return true
	})
}

// contrasts finds what the check contrast reports: text with too little contrast.
func contrasts(p *Pass) {
	p.eachText(func(n *markup.Node, l look) {
		ratio := contrast(l.text.Color, l.background)
		if ratio >= enough(l.text) || ratio < 1.05 && !l.own {
			return // the second: white text whose background is a picture beside or behind it
		}
		span, m := p.darkened(n, l)
		p.Report(Finding{
			Span:     span,
			Severity: client.Degrades,
			Message: fmt.Sprintf("%s on %s has a contrast of %.1f to 1; it needs %.1f.", style.Hex(l.text.Color),
				style.Hex(l.background), math.Floor(10*ratio)/10, enough(l.text)), // rounded down: 4.48 is not enough
			Fix: m,
		})
	})
}

// eachText visits each pair of colours in which text is shown, where it is seen first.
func (p *Pass) eachText(visit func(n *markup.Node, l look)) {
	type pair struct{ text, background color.RGBA }
	seen := map[pair]bool{}
	looks := p.looks()
	p.Doc.Root.Walk(func(n *markup.Node) bool {
		if n.Is("head", "style", "script") || n.Kind == markup.Conditional {
			return false
		}
		if display, _ := n.Declared("display"); display == "none" {
			return false
		}
		l, ok := looks[n]
		if n.Kind == markup.Element && ok && strings.Trim(visibleText(n), "\u00a0|·-–— ") != "" && l.text.Size > 1 {
			if k := (pair{l.text.Color, l.background}); !seen[k] {
				seen[k] = true
				visit(n, l)
			}
		}
		return true
	})
}

// darkened moves a text's colour away from its background until it stands out.
func (p *Pass) darkened(n *markup.Node, l look) (markup.Span, *Fix) {
	for e := n; e != nil && e.Kind == markup.Element; e = e.Parent {
		for _, d := range e.Style {
			if d.Property != "color" {
				continue
			}
			c := l.text.Color
			target := color.RGBA{A: 255}
			if style.Luminance(l.background) < 0.18 {
				target = color.RGBA{255, 255, 255, 255}
			}
			for step := 1; step <= 40 && contrast(c, l.background) < enough(l.text); step++ {
				c = style.Mixed(l.text.Color, target, float64(step)/40)
			}
			h := p.Edit()
			h.SetValue(d.Span, style.Hex(c))
			return d.Span, costlyFix(h, "Make it "+style.Hex(c), "the colour is not the one that was chosen")
		}
	}
	return n.Open, nil
}

// browserBlue is the colour of links that have none of their own (HTML Living Standard, 15.3.4).
var browserBlue = color.RGBA{0, 0, 238, 255}

// leastInDark is the contrast below which text is reported in dark mode: that of large text, since nobody chose these
// colours.
const leastInDark = 3

// darkContrasts finds what the check contrast-dark reports: text with too little contrast in dark mode.
func darkContrasts(p *Pass) {
	ways := map[string][]string{}
	for _, profile := range p.Profiles {
		if profile.Dark != nil && profile.Form == "html" {
			ways[profile.Dark.As] = append(ways[profile.Dark.As], profile.ID)
		}
	}
	p.eachText(func(n *markup.Node, l look) {
		if contrast(l.text.Color, l.background) < enough(l.text) {
			return // is a fault in light mode already
		}
		if l.text.Color == browserBlue {
			return // a link's own colour is the client's, and so is the one in dark mode
		}
		var clients, said []string
		for _, way := range []string{client.Full, client.Partial} {
			text, background := journey.Recoloured(way, l.text.Color, l.background)
			if ratio := contrast(text, background); len(ways[way]) > 0 && ratio < leastInDark {
				clients = append(clients, ways[way]...)
				said = append(said, fmt.Sprintf("%s on %s in a %s inversion, a contrast of %.1f to 1", style.Hex(text),
					style.Hex(background), way, ratio))
			}
		}
		if len(clients) > 0 {
			p.Report(Finding{
				Clients:  clients,
				Span:     n.Open,
				Severity: client.Degrades,
				Message:  fmt.Sprintf("%s on %s becomes %s.", style.Hex(l.text.Color), style.Hex(l.background), strings.Join(said, "; ")),
			})
		}
	})
}
