package check

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode"

	"missivum/core/client"
	"missivum/core/edit"
	"missivum/core/field"
	"missivum/core/markup"
	"missivum/core/person"
	"missivum/core/style"
)

// writtenChecks look at how the markup is written: nesting, elements, leftovers, and signs in the text.
var writtenChecks = []*Check{
	{
		ID: "acceptance", Title: "Acceptance that does nothing",
		Why:     "A comment that accepts a finding without a reason, or one that is not there, hides what will come later.",
		Remedy:  "Write the check's id and the reason, <!-- accepted: check-id: reason -->, or take the comment out.",
		Failing: `<!-- accepted: small-text: the register asks for it --><p style="margin: 0">Registered in Saltmouth</p>`,
		Passing: `<!-- accepted: small-text: the register asks for it --><p style="margin: 0; font-size: 7px">Registered in Saltmouth</p>`,
	},
	{
		ID: "unknown-element", Title: "Element that a sanitiser does not know",
		Why:     "An allow-list takes the tags away and leaves what stands between them; what the element did is lost.",
		Remedy:  "Write div, span, p or a table cell.",
		Failing: `<section>Harbour office</section>`,
		Passing: `<div>Harbour office</div>`,
		Fix:     plainElement,
	},
	{
		ID: "inline-drawing", Title: "Drawing written into the markup",
		Why:     "Most clients take <svg> out; the word-processor engine renders none.",
		Remedy:  "Make it a PNG picture with missivum picture fit.",
		Failing: `<p style="margin: 0">Harbour <svg width="20" height="20"></svg></p>`,
		Passing: `<p style="margin: 0">Harbour <img src="https://p.brackwater.example/a.png" alt="" width="20" height="20"></p>`,
	},
	{
		ID: "obsolete-element", Title: "Obsolete element",
		Why:     "font, center and their like are rendered by most clients and taken away by some; styles on a span or a cell do the same.",
		Remedy:  "Write a span or div with the styles.",
		Failing: `<p style="margin: 0"><font face="Verdana, sans-serif" color="#0b3c49">Harbour office</font></p>`,
		Passing: `<p style="margin: 0"><span style="font-family: Verdana, sans-serif; color: #0b3c49">Harbour office</span></p>`,
		Run:     obsoleteElements,
	},
	{
		ID: "heading-element", Title: "Heading in a signature",
		Why: "Who hears the message hears the signature's heading among those of the message; clients give it " +
			"sizes and margins of their own.",
		Remedy:  "Write a div or p with the size and weight.",
		Failing: `<h3 style="margin: 0">Harbour office</h3><div>Saltmouth</div>`,
		Passing: `<p style="margin: 0; font-weight: bold">Harbour office</p>`,
		Run: func(p *Pass) {
			for _, n := range p.Doc.Root.Elements("h1", "h2", "h3", "h4", "h5", "h6") {
				p.Report(Finding{
					Span:     n.Open,
					Severity: client.Note,
					Message:  fmt.Sprintf("<%s> is a heading of the whole message for who hears it.", n.Name),
					Fix:      p.headingToParagraph(n),
				})
			}
		},
	},
	{
		ID: "list-element", Title: "List in a signature",
		Why:     "Indents and marks of lists differ in every client.",
		Remedy:  "Write the lines as table rows or with <br>.",
		Failing: `<ul style="margin: 0"><li>Harbour office</li></ul>`,
		Passing: `<div>Harbour office</div>`,
		Run: func(p *Pass) {
			for _, n := range p.Doc.Root.Elements("ul", "ol", "dl") {
				p.Report(Finding{
					Span:     n.Open,
					Severity: client.Note,
					Message:  fmt.Sprintf("<%s>: its indent and marks differ in every client.", n.Name),
				})
			}
		},
	},
	{
		ID: "word-leftovers", Title: "Leftovers of a word processor",
		Why:     "They take up space, mean nothing outside the program, and tools stumble over them.",
		Remedy:  "Take them out; missivum clean does it for the whole source.",
		Failing: `<p class="MsoNormal" style="margin: 0">Harbour office<o:p></o:p></p>`,
		Passing: `<p style="margin: 0">Harbour office</p>`,
		Run:     wordLeftovers,
	},
	{
		ID: "empty-element", Title: "Element with nothing in it",
		Why:     "It takes up space, and some clients render a line for it.",
		Remedy:  "Remove it.",
		Failing: `<p style="margin: 0">Harbour office<span></span></p>`,
		Passing: `<p style="margin: 0">Harbour office</p>`,
		Run: func(p *Pass) {
			for _, n := range p.Source.Elements("span", "b", "i", "strong", "em", "u", "font") {
				if len(n.Children) > 0 || n.Close.Len() == 0 || len(n.Attrs) > 0 && n.Attribute("style") == nil && n.Attribute("class") == nil {
					continue
				}
				if p.drawn(n) {
					continue // it takes up room, or draws something
				}
				h := p.Edit()
				h.Replace(markup.Span{Start: n.Open.Start, End: n.Close.End}, "")
				p.Report(Finding{
					Span:     n.Open,
					Severity: client.Note,
					Message:  fmt.Sprintf("<%s> has nothing in it.", n.Name),
					Fix:      fixOf(h, "Remove it"),
				})
			}
		},
	},
	{
		ID: "stray-end-tag", Title: "End tag that closes nothing",
		Why:     "Clients repair it in their own ways; a lone </td> or </div> can end what stands around the signature.",
		Remedy:  "Remove it.",
		Failing: `<p style="margin: 0">Harbour office</p></div>`,
		Passing: `<p style="margin: 0">Harbour office</p>`,
		Run: func(p *Pass) {
			p.Source.Root.Walk(func(n *markup.Node) bool {
				if n.Kind == markup.Stray && !slices.Contains([]string{"html", "head", "body", "p", "br"}, n.Name) {
					h := p.Edit()
					h.Replace(n.Open, "")
					p.Report(Finding{
						Span:     n.Open,
						Severity: client.Degrades,
						Message:  fmt.Sprintf("</%s> closes nothing.", n.Name),
						Fix:      fixOf(h, "Remove it"),
					})
				}
				return n.Kind != markup.Conditional
			})
		},
	},
	{
		ID: "missing-end-tag", Title: "Element that is not closed",
		Why:     "Its styles go on into the message below it, or the client closes it where it likes.",
		Remedy:  "Write the end tag.",
		Failing: `<div><b>Harbour office</div>`,
		Passing: `<div><b>Harbour office</b></div>`,
		Run:     missingEndTags,
	},
	{
		ID: "duplicate-attribute", Title: "Attribute written twice",
		Why:     "The first counts in browsers, in others the last.",
		Remedy:  "Keep one.",
		Failing: `<table role="presentation" cellpadding="0" cellspacing="0" cellpadding="4"><tr><td>Bridge</td></tr></table>`,
		Passing: `<table role="presentation" cellpadding="0" cellspacing="0"><tr><td>Bridge</td></tr></table>`,
		Run: func(p *Pass) {
			for _, n := range p.Source.Elements() {
				for _, span := range n.Repeated {
					h := p.Edit()
					h.Remove(span)
					p.Report(Finding{
						Span:     span,
						Severity: client.Degrades,
						Message:  fmt.Sprintf("%s stands on <%s> a second time.", quote(p.Source.Source[span.Start:span.End]), n.Name),
						Fix:      fixOf(h, "Keep the first, as browsers do"),
					})
				}
			}
		},
	},
	{
		ID: "duplicate-id", Title: "Id used twice",
		Why:     "An id is for one element; links and labels find the first only. Every reply brings the signature's ids a second time.",
		Remedy:  "Use a class, or none.",
		Failing: `<p id="office" style="margin: 0">Harbour</p><p id="office" style="margin: 0">Office</p>`,
		Passing: `<p style="margin: 0">Harbour</p><p style="margin: 0">Office</p>`,
		Run:     duplicateIDs,
	},
	{
		ID: "curly-quotes", Title: "Attribute in curly quotes",
		Why:     "Only straight quotes are quotes in markup: the value begins with the sign, and ends at the first space.",
		Remedy:  "Write straight quotes.",
		Failing: `<a href=“https://www.brackwater.example/”>Timetable</a>`,
		Passing: `<a href="https://www.brackwater.example/">Timetable</a>`,
		Run:     curlyQuotes,
	},
	{
		ID: "invisible-characters", Title: "Characters that nobody sees",
		Why: "Zero-width and control characters come along when text is copied; they count, break searches and " +
			"show as boxes in some clients.",
		Remedy:  "Take them out.",
		Failing: "<p style=\"margin: 0\">Harbour\u200b office</p>",
		Passing: `<p style="margin: 0">Harbour office</p>`,
		Run:     invisibleCharacters,
	},
	{
		ID: "long-word", Title: "Word that cannot be broken",
		Why:     "A run of letters wider than a telephone makes everything wider, and everything smaller.",
		Remedy:  "Shorten it, or put the address behind a word.",
		Failing: `<p style="margin: 0">Conditions-of-carriage-for-passengers-vehicles-and-freight.pdf</p>`,
		Passing: `<p style="margin: 0">Conditions of carriage</p>`,
		Run:     longWords,
	},
	{
		ID: "foreign-placeholder", Title: "Placeholder of another system",
		Why:     "Each system writes its placeholders in its own way; one of another is sent as it stands.",
		Remedy:  "Write the field between two braces, such as {{ title }}.",
		Failing: `<p style="margin: 0">%%cn%%</p>`,
		Passing: `<p style="margin: 0">{{ cn }}</p>`,
		Run:     foreignPlaceholders,
	},
}

// plainElement writes an element that every client knows: a div for a block, a span for one with attributes, and
// nothing for one without.
func plainElement(p *Pass, t Target) *Fix {
	h := p.Edit()
	for _, n := range t.Nodes {
		switch {
		case n.Is("article", "aside", "footer", "header", "hgroup", "main", "nav", "section", "figure", "figcaption"):
			h.Rename(n, "div")
		case n.Is("time", "mark", "data", "kbd", "bdi", "output", "blink", "meter", "progress"):
			h.Rename(n, "span")
		case n.Is("details", "summary", "dialog", "template", "noscript", "menu"):
			return nil // browsers hide what is in it, or a part
		case len(n.Attrs) == 0 && !p.looksLikeSomething(n):
			h.Unwrap(n)
		default:
			return nil
		}
	}
	return fixOf(h, "Write an element that every client knows")
}

var fontSizeNames = map[string]string{"1": "10px", "2": "13px", "3": "16px", "4": "18px", "5": "24px", "6": "32px", "7": "48px"}

// obsoleteElements finds what the check obsolete-element reports: obsolete element.
func obsoleteElements(p *Pass) {
	for _, n := range p.Source.Elements("font", "center", "marquee", "blink", "big", "tt", "strike", "basefont") {
		h := p.Edit()
		var styles []string
		switch n.Name {
		case "font":
			for _, a := range n.Attrs {
				switch {
				case a.Name == "face":
					styles = append(styles, "font-family: "+strings.ReplaceAll(withGeneric(a.Value), `"`, "'"))
				case a.Name == "color":
					styles = append(styles, "color: "+a.Value)
				case a.Name == "size" && fontSizeNames[a.Value] != "":
					styles = append(styles, "font-size: "+fontSizeNames[a.Value])
				default:
					h.Fail()
				}
			}
			replaceTags(h, n, "span", styles)
		case "strike":
			replaceTags(h, n, "span", []string{"text-decoration: line-through"})
		case "tt":
			replaceTags(h, n, "span", []string{"font-family: monospace"})
		case "center":
			if len(n.Elements("table")) == 0 {
				replaceTags(h, n, "div", []string{"text-align: center"})
			}
		}
		p.Report(Finding{
			Span:     n.Open,
			Severity: client.Note,
			Message:  fmt.Sprintf("<%s> is obsolete.", n.Name),
			Fix:      fixOf(h, "Write styles in its place"),
		})
	}
}

// withGeneric ends a list of fonts with a generic family.
func withGeneric(list string) string {
	families := style.Families(list)
	if len(families) == 0 || slices.Contains(style.GenericFamilies, strings.ToLower(families[len(families)-1])) {
		return list
	}
	return list + ", " + style.Generic(families[0])
}

// replaceTags writes another element with a style attribute in the place of one that has no other attributes to
// keep.
func replaceTags(h *edit.Editor, n *markup.Node, name string, styles []string) {
	if n.Close.Len() == 0 || n.Name != "font" && len(n.Attrs) > 0 {
		h.Fail()
		return
	}
	tag := "<" + name
	if len(styles) > 0 {
		tag += ` style="` + markup.EscapeAttr(strings.Join(styles, "; ")) + `"`
	}
	h.Replace(n.Open, tag+">")
	h.Replace(n.Close, "</"+name+">")
}

// usefulWordStyles are properties of the word processor that a signature is better with.
var usefulWordStyles = []string{"mso-line-height-rule", "mso-table-lspace", "mso-table-rspace", "mso-hide", "mso-font-alt",
	"mso-padding-alt", "mso-text-raise", "mso-height-rule"}

// wordLeftovers finds what the check word-leftovers reports: leftovers of a word processor.
func wordLeftovers(p *Pass) {
	h := p.Edit()
	var first markup.Span
	count := 0
	found := func(span markup.Span) {
		if count == 0 || span.Start < first.Start {
			first = span
		}
		count++
	}
	p.Source.Root.Walk(func(n *markup.Node) bool {
		if n.Kind == markup.Conditional {
			return false
		}
		if n.Kind != markup.Element {
			return true
		}
		if strings.HasPrefix(n.Name, "o:") || strings.HasPrefix(n.Name, "st1:") || strings.HasPrefix(n.Name, "?xml") {
			found(n.Open)
			if p.looksLikeSomething(n) {
				h.Rename(n, "span") // it has a look, or hides what is in it
			} else {
				h.Unwrap(n)
			}
			return true
		}
		if class, ok := n.Attr("class"); ok && strings.HasPrefix(class, "Mso") && len(strings.Fields(class)) == 1 && !p.styled(class) {
			found(n.Attribute("class").Span)
			h.RemoveAttribute(n, "class")
		}
		return true
	})
	p.declarations(func(_ *markup.Node, d markup.Declaration) {
		if strings.HasPrefix(d.Property, "mso-") && !slices.Contains(usefulWordStyles, d.Property) {
			found(d.Span)
			h.Drop(d.Span)
		}
	})
	if count > 0 {
		p.Report(Finding{
			Span:     first,
			Severity: client.Note,
			Message:  fmt.Sprintf("%d leftovers of a word processor; this is the first.", count),
			Fix:      fixOf(h, "Take them out"),
		})
	}
}

// styled reports whether a style sheet of the source has a rule for the class.
func (p *Pass) styled(class string) bool {
	for _, n := range p.Source.Elements("style") {
		for _, c := range n.Children {
			if strings.Contains(c.Data, "."+class) {
				return true
			}
		}
	}
	return false
}

// drawn reports whether an element without content takes up room or draws something.
func (p *Pass) drawn(n *markup.Node) bool {
	prepared := p.PreparedNode(n)
	if prepared == nil {
		return true
	}
	for _, d := range prepared.Style {
		name, _, _ := strings.Cut(d.Property, "-")
		switch {
		case slices.Contains([]string{"width", "height", "padding", "margin", "border", "background", "float", "clear",
			"outline", "min", "box"}, name),
			d.Property == "display" && d.Value != "inline" && d.Value != "none", d.Property == "position":
			return true
		}
	}
	return false
}

// looksLikeSomething reports whether styles say anything about an element.
func (p *Pass) looksLikeSomething(n *markup.Node) bool {
	prepared := p.PreparedNode(n)
	return prepared == nil || len(prepared.Style) > 0 || n.Attribute("style") != nil || n.Attribute("hidden") != nil
}

// manyUnclosed is from how many elements of a name that are open at one place on they are taken to be mistyped end tags.
const manyUnclosed = 3

// missingEndTags finds what the check missing-end-tag reports: element that is not closed.
func missingEndTags(p *Pass) {
	type place struct {
		name string
		at   int
	}
	open, swallowed := map[place]int{}, false
	p.Source.Root.Walk(func(n *markup.Node) bool {
		swallowed = swallowed || p.unclosed(n)
		return true
	})
	for _, n := range p.Source.Elements() {
		if n.Close.Len() == 0 {
			open[place{n.Name, endOf(n)}]++
		}
	}
	for _, n := range p.Source.Elements() {
		if n.Close.Len() > 0 || markup.Void(n.Name) || n.ClosedAt > 0 ||
			n.Is("p", "li", "td", "th", "tr", "tbody", "thead", "tfoot", "option", "dt", "dd", "html", "head", "body",
				"colgroup") || strings.Contains(n.Name, ":") {
			continue
		}
		if raw := p.Source.Raw(n); strings.HasSuffix(raw, "/>") && !n.Is("div", "span", "a", "b", "table") {
			continue
		}
		h := p.Edit()
		h.Insert(endOf(n), "</"+n.Name+">")
		m := fixOf(h, "Close it where browsers do")
		if slices.Contains(formatting, n.Name) && p.showsBehind(endOf(n)) {
			m = costlyFix(h, "Close it at the end of what it stands in",
				"what stands behind it no longer has its look, which browsers give to all of that")
		}
		message := fmt.Sprintf("<%s> is not closed.", n.Name)
		if swallowed {
			m = nil // its end tag stands in the comment, which is what is to be closed
			message += " Its end is inside the comment that does not end."
		} else if many := open[place{n.Name, endOf(n)}]; many >= manyUnclosed {
			m = nil
			message += fmt.Sprintf(" %d of them are open in each other: probably end tags were written without the slash.", many)
		}
		p.Report(Finding{
			Span:     n.Open,
			Severity: client.Degrades,
			Message:  message,
			Fix:      m,
		})
	}
}

// formatting are the elements that browsers open again behind the end of what they stand in (HTML, 13.2.4.3).
var formatting = []string{"a", "b", "big", "code", "em", "font", "i", "nobr", "s", "small", "strike", "strong", "tt", "u"}

// showsBehind reports whether something is shown behind a place of the source.
func (p *Pass) showsBehind(at int) bool {
	found := false
	p.Source.Root.Walk(func(n *markup.Node) bool {
		found = found || n.Open.Start >= at && (n.Is("img", "hr") || n.Kind == markup.Text && strings.TrimSpace(n.Data) != "")
		return !n.Is("style", "script", "title")
	})
	return found
}

// duplicateIDs finds what the check duplicate-id reports: id used twice.
func duplicateIDs(p *Pass) {
	seen := map[string]bool{}
	for _, n := range p.Source.Elements() {
		a := n.Attribute("id")
		if a == nil || a.Value == "" {
			continue
		}
		if seen[a.Value] {
			p.Report(Finding{
				Span:     a.Span,
				Severity: client.Note,
				Message:  fmt.Sprintf("The id %q is on an element before this one too.", a.Value),
				Fix:      p.withoutID(n),
			})
		}
		seen[a.Value] = true
	}
}

// curlyQuotes finds what the check curly-quotes reports: attribute in curly quotes.
func curlyQuotes(p *Pass) {
	for _, n := range p.Source.Elements() {
		for _, a := range n.Attrs {
			value := strings.TrimRight(a.Value, "”“″\"")
			trimmed := strings.TrimLeft(value, "“”″")
			if trimmed == value || a.Inner.Start > 0 && strings.Contains(`"'`, p.Source.Source[a.Inner.Start-1:a.Inner.Start]) {
				continue
			}
			h := p.Edit()
			if strings.Trim(a.Value, "“”″") == trimmed && a.Value != value {
				h.Replace(a.Inner, `"`+markup.EscapeAttr(trimmed)+`"`)
			}
			p.Report(Finding{
				Span:     a.Span,
				Severity: client.Breaks,
				Message:  fmt.Sprintf("The value of %s stands in curly quotes.", a.Name),
				Fix:      fixOf(h, "Write straight quotes"),
			})
		}
	}
}

// invisible are signs without a width that do nothing for the text. Joiners and direction marks are left out: they
// belong to some scripts.
func invisible(r rune) bool {
	return r == '\u200b' || r == '\ufeff' || r == '\u2060' || r == '\u00ad' || unicode.IsControl(r) && r != '\n' && r != '\r' && r != '\t'
}

// invisibleCharacters finds what the check invisible-characters reports: characters that nobody sees.
func invisibleCharacters(p *Pass) {
	h := p.Edit()
	first, count := -1, 0
	for i, r := range p.Template.Source {
		if invisible(r) {
			if first < 0 {
				first = i
			}
			count++
			h.Replace(markup.Span{Start: i, End: i + len(string(r))}, "")
		}
	}
	if count > 0 {
		p.Report(Finding{
			Span:     markup.Span{Start: first, End: first + 3},
			Severity: client.Note,
			Message:  fmt.Sprintf("%d characters that nobody sees; this is the first.", count),
			Fix:      fixOf(h, "Take them out"),
		})
	}
}

// longest is how many letters a word may have without a place to break.
const longest = 45

// longWords finds what the check long-word reports: word that cannot be broken.
func longWords(p *Pass) {
	p.Doc.Root.Walk(func(n *markup.Node) bool {
		if n.Is("style", "script", "head") || n.Kind == markup.Conditional {
			return false
		}
		if n.Kind == markup.Text && !field.HasField(n.Data) {
			for _, word := range strings.Fields(n.Data) {
				if len([]rune(word)) > longest && !strings.ContainsRune(word, '\u00a0') {
					p.Report(Finding{
						Span:     n.Open,
						Severity: client.Note,
						Message:  fmt.Sprintf("%s has %d letters and cannot be broken.", quote(word), len([]rune(word))),
					})
				}
			}
		}
		return true
	})
}

// foreign are the ways in which other systems mark a place for a value: the name is in one of the groups.
var foreign = regexp.MustCompile(`%%([A-Za-z][\w .-]*?)%%|%([A-Z][\w]*[A-Z_]\w*)%|\[\[([A-Za-z][\w ` +
	`.-]*?)\]\]|\{([A-Za-z][\w.-]*)\}|\$\{([A-Za-z][\w.-]*)\}|##([A-Za-z][\w .-]*?)##|<<([A-Za-z][\w .-]*?)>>`)

// foreignPlaceholders finds what the check foreign-placeholder reports: placeholder of another system.
func foreignPlaceholders(p *Pass) {
	p.Source.Root.Walk(func(n *markup.Node) bool {
		if n.Is("style", "script") || n.Kind == markup.Conditional {
			return false
		}
		if n.Kind != markup.Text {
			return true
		}
		raw := p.Source.Source[n.Open.Start:n.Open.End]
		for _, at := range foreign.FindAllStringSubmatchIndex(raw, -1) {
			if at[0] > 0 && raw[at[0]-1] == '{' || at[1] < len(raw) && raw[at[1]] == '}' {
				continue // a field of this template
			}
			name := ""
			for g := 2; g < len(at); g += 2 {
				if at[g] >= 0 {
					name = raw[at[g]:at[g+1]]
				}
			}
			span := markup.Span{Start: n.Open.Start + at[0], End: n.Open.Start + at[1]}
			h := p.Edit()
			remedy := "Write the field between two braces, such as {{ title }}."
			known := fieldNamed(p, name)
			if known != "" {
				h.Replace(span, "{{ "+known+" }}")
			} else if nearest := person.Nearest(name, p.Fields.Schema.Names()); len(nearest) > 0 {
				remedy = "Probably the field " + strings.Join(nearest, ", ") + "."
			}
			p.Report(Finding{
				Span:     span,
				Severity: client.Breaks,
				Message:  fmt.Sprintf("%s is a placeholder of another system and is sent as it stands.", quote(raw[at[0]:at[1]])),
				Fix:      fixOf(h, "Write the field "+known),
				Remedy:   remedy,
			})
		}
		return true
	})
}

// fieldNamed is the directory's field with a name, letters and signs between words aside.
func fieldNamed(p *Pass, name string) string {
	plain := func(s string) string {
		return strings.ToLower(strings.NewReplacer(" ", "", "_", "", "-", "", ".", "").Replace(s))
	}
	for _, known := range p.Fields.Schema.Names() {
		if plain(known) == plain(name) {
			return known
		}
	}
	return ""
}

// rightToLeft reports whether a sign is of a script that is written from right to left.
func rightToLeft(r rune) bool {
	return unicode.In(r, unicode.Hebrew, unicode.Arabic, unicode.Syriac, unicode.Thaana, unicode.Nko)
}

// headingMargins are the margins above and below a heading, in em of its own size (HTML, 15.3.7).
var headingMargins = map[string]float64{"h1": 0.67, "h2": 0.83, "h3": 1, "h4": 1.33, "h5": 1.67, "h6": 2.33}

// headingToParagraph makes a heading a paragraph that looks the same.
func (p *Pass) headingToParagraph(n *markup.Node) *Fix {
	written := p.SourceNode(n)
	if written == nil || written.Inside("section") != nil || written.Inside("article") != nil ||
		written.Inside("aside") != nil || written.Inside("nav") != nil {
		return nil // its size is another one there
	}
	for _, sheet := range p.Source.Root.Elements("style") {
		for _, text := range sheet.Children {
			if strings.Contains(strings.ToLower(text.Data), n.Name) {
				return nil // a rule is for it
			}
		}
	}
	size := p.lookOf(written).text.Size
	h := p.Edit()
	var add []string
	if _, ok := n.Declared("font-size"); !ok {
		add = append(add, "font-size: "+pixels(size))
	}
	if _, ok := n.Declared("font-weight"); !ok {
		add = append(add, "font-weight: bold")
	}
	if _, said := style.Box(n, "margin", size); !said {
		add = append(add, "margin: "+pixels(size*headingMargins[n.Name])+" 0")
	}
	h.Rename(written, "p")
	if len(add) > 0 {
		h.Declare(written, strings.Join(add, "; "))
	}
	return fixOf(h, "Make it a paragraph that looks the same")
}

// withoutID takes an id away that nothing in the source leads to.
func (p *Pass) withoutID(n *markup.Node) *Fix {
	id, _ := n.Attr("id")
	if strings.Contains(p.Source.Source, "#"+id) || strings.Contains(p.Source.Source, `for="`+id) ||
		strings.Contains(p.Source.Source, `headers="`+id) {
		return nil
	}
	h := p.Edit()
	h.RemoveAttribute(n, "id")
	return fixOf(h, "Take the second id away; nothing leads to it")
}
