package check

import (
	"fmt"
	"net/netip"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/hbollon/go-edlib"
	"golang.org/x/net/html"

	"missivum/core/client"
	"missivum/core/field"
	"missivum/core/markup"
)

// mistakeChecks look for what is written wrongly and does nothing, or something else, in every client.
var mistakeChecks = []*Check{
	{
		ID: "misspelt-attribute", Title: "Attribute that no element has",
		Why:     "Clients leave out what they do not know: the size, the distance or the address that was meant is not there.",
		Remedy:  "Write the attribute's right name.",
		Failing: `<table role="presentation" celpadding="0" cellspacing="0"><tr><td>Bridge</td></tr></table>`,
		Passing: `<table role="presentation" cellpadding="0" cellspacing="0"><tr><td>Bridge</td></tr></table>`,
		Run:     misspeltAttributes,
	},
	{
		ID: "attribute-quotes", Title: "Attribute that its own quotes end",
		Why: "Quotes of the same kind inside an attribute end it: what stands behind them is no part of it, and " +
			"becomes attributes without sense.",
		Remedy:  "Write single quotes inside double ones.",
		Failing: `<p style="margin: 0; font-family: "Arial", sans-serif; color: #20343d">Harbour office</p>`,
		Passing: `<p style="margin: 0; font-family: 'Arial', sans-serif; color: #20343d">Harbour office</p>`,
		Run:     attributeQuotes,
	},
	{
		ID: "dropped-declaration", Title: "Declaration that every browser drops",
		Why:     "A declaration without a colon, a colour without its #, or two that no semicolon parts are left out, both of them.",
		Remedy:  "Write property: value, with a semicolon behind it.",
		Failing: `<p style="margin: 0; color: 20343d">Harbour office</p>`,
		Passing: `<p style="margin: 0; color: #20343d">Harbour office</p>`,
		Run:     droppedDeclarations,
	},
	{
		ID: "unclosed-comment", Title: "Comment that does not end",
		Why:     "Everything behind it is part of the comment: nobody sees it.",
		Remedy:  "End the comment with -->.",
		Failing: `<p style="margin: 0">Harbour office</p><!-- numbers -> <p style="margin: 0">Saltmouth</p>`,
		Passing: `<p style="margin: 0">Harbour office</p><!-- numbers --><p style="margin: 0">Saltmouth</p>`,
		Run:     unclosedComments,
	},
	{
		ID: "character-reference", Title: "Character reference that is written wrongly",
		Why: "Without its semicolon, written twice, or as a number that no character has, a reference shows as " +
			"text in some clients or as another sign.",
		Remedy:  "Write the reference with its semicolon, once, or the character itself.",
		Failing: `<p style="margin: 0">Harbour&nbsp office</p>`,
		Passing: `<p style="margin: 0">Harbour&nbsp;office</p>`,
		Run:     characterReferences,
	},
	{
		ID: "table-content", Title: "Content of a table outside its cells",
		Why:     "What stands in a table and in no cell is shown above the table by browsers, and lost or elsewhere in other clients.",
		Remedy:  "Put it into a cell.",
		Failing: `<table role="presentation" cellpadding="0" cellspacing="0">Harbour office<tr><td>Bridge</td></tr></table>`,
		Passing: `<table role="presentation" cellpadding="0" cellspacing="0"><tr><td>Harbour office</td></tr><tr><td>Bridge</td></tr></table>`,
		Run:     tableContents,
	},
	{
		ID: "address-misspelt", Title: "Address whose scheme is written wrongly",
		Why:     "No program knows htps: or a web address with one slash: the link leads nowhere, and the picture is missing.",
		Remedy:  "Write https:// and the host.",
		Failing: `<a href="htps://www.brackwater.example/">Timetable</a>`,
		Passing: `<a href="https://www.brackwater.example/">Timetable</a>`,
		Run:     misspeltAddresses,
	},
	{
		ID: "program-link", Title: "Link that needs a certain program",
		Why:     "Only readers who have that program can follow it; webmails take such links away.",
		Remedy:  "Write tel: with the number for a call, or the https: address of a page.",
		Failing: `<a href="callto:+441632960544">Bridge</a>`,
		Passing: `<a href="tel:+441632960544">Bridge</a>`,
		Run: func(p *Pass) {
			for _, a := range p.addresses() {
				scheme := schemeOf(a.value)
				if a.node.Is("img") || !withScheme.MatchString(a.value) || hostPort.MatchString(a.value) ||
					slices.Contains(linkSchemes, scheme) || local(a.value) ||
					placeholder(a.value) || nearly(scheme, "https", "http", "mailto") {
					continue
				}
				h := p.Edit()
				if digits := strings.Map(keepDigits, a.value); scheme == "callto" && strings.HasPrefix(digits, "+") && len(digits) > 7 {
					h.Replace(a.attr.Inner, "tel:"+digits)
				}
				p.Report(Finding{
					Span: a.attr.Span, Severity: client.Degrades,
					Message: fmt.Sprintf("%s: opens for those alone whose device has a program for it.", scheme),
					Fix:     fixOf(h, "Write tel:"),
				})
			}
		},
	},
	{
		ID: "telephone-country", Title: "Telephone link without the country",
		Why:     "The reader's telephone dials it within the reader's own country.",
		Remedy:  "Write tel: with a plus sign, the country and the number: tel:+441632960544.",
		Failing: `<a href="tel:01632960544">01632 960544</a>`,
		Passing: `<a href="tel:+441632960544">01632 960544</a>`,
		Run: func(p *Pass) {
			for _, a := range p.addresses() {
				rest, ok := strings.CutPrefix(strings.ToLower(a.value), "tel:")
				digits := strings.Map(keepDigits, rest)
				if !ok || field.HasField(a.value) || strings.HasPrefix(digits, "+") || len(digits) < 7 || strings.Contains(rest, "phone-context") {
					continue
				}
				h := p.Edit()
				if strings.HasPrefix(digits, "00") && len(digits) > 9 {
					h.Replace(a.attr.Inner, "tel:+"+digits[2:])
				}
				p.Report(Finding{
					Span: a.attr.Span, Severity: client.Degrades,
					Message: fmt.Sprintf("%s can be dialled in one country only.", quote(a.value)),
					Fix:     fixOf(h, "Write the plus sign for the zeros"),
				})
			}
		},
	},
	{
		ID: "link-differs", Title: "Link that leads elsewhere than its text says",
		Why:     "Clients and filters warn of a link whose text is another address than the one behind it, as in a fraud.",
		Remedy:  "Let the text and the address name the same host or the same mail address.",
		Failing: `<a href="https://www.brackwater.example/">www.harbour.example</a>`,
		Passing: `<a href="https://www.brackwater.example/">www.brackwater.example</a>`,
		Run:     differingLinks,
	},
	{
		ID: "address-private", Title: "Address that only the own network knows",
		Why:     "Readers outside the organisation's network cannot reach it.",
		Remedy:  "Use an address that everybody can reach.",
		Failing: `<a href="https://intranet/timetable">Timetable</a>`,
		Passing: `<a href="https://www.brackwater.example/timetable">Timetable</a>`,
		Run:     privateAddresses,
	},
	{
		ID: "image-map", Title: "Picture with a map of links",
		Why:     "Webmails take maps away, and on a telephone nobody hits the place: the picture has no links then.",
		Remedy:  "Cut the picture into pieces with a link each (missivum picture slice), or write the links as text.",
		Failing: `<img src="https://p.brackwater.example/a.png" alt="Ports" width="120" height="40" usemap="#ports"><span>Harbour office</span>`,
		Passing: `<a href="https://www.brackwater.example/"><img src="https://p.brackwater.example/a.png" alt="Ports" width="120" height="40" ` +
			`border="0"></a><span>Harbour office</span>`,
		Run: func(p *Pass) {
			for _, n := range p.Source.Elements("img", "object", "input") {
				for _, name := range []string{"usemap", "ismap"} {
					if a := n.Attribute(name); a != nil {
						p.Report(Finding{Span: a.Span, Severity: client.Degrades, Message: "The map's links are lost where a client takes it away."})
						break
					}
				}
			}
		},
	},
	{
		ID: "horizontal-rule", Title: "Horizontal rule",
		Why:     "Each engine gives <hr> its own height, colour and margins; the word-processor engine ignores its style.",
		Remedy:  "Write a table cell with a border, or with a background and a height.",
		Failing: `<p style="margin: 0">Harbour office</p><hr style="border: 0; border-top: 1px solid #20343d">`,
		Passing: `<table role="presentation" cellpadding="0" cellspacing="0"><tr><td style="border-top: 1px solid ` +
			`#20343d">Bridge</td></tr></table>`,
		Run: func(p *Pass) {
			for _, n := range p.Doc.Root.Elements("hr") {
				p.Report(Finding{Span: n.Open, Severity: client.Degrades, Message: "<hr> looks different in every engine."})
			}
		},
	},
	{
		ID: "joined-script", Title: "Letter-spacing in a joined script",
		Why:     "Arabic and other joined letters come apart, and cannot be read well.",
		Remedy:  "Take the letter-spacing out.",
		Failing: `<p dir="rtl" lang="ar" style="margin: 0; letter-spacing: 2px">ميناء</p>`,
		Passing: `<p dir="rtl" lang="ar" style="margin: 0">ميناء</p>`,
		Run:     joinedScripts,
	},
}

// An address with a scheme (RFC 3986, 3.1), and what looks like one and is a host with its port.
var (
	withScheme = regexp.MustCompile(`^(?i)[a-z][a-z0-9+-]*:`)
	hostPort   = regexp.MustCompile(`^[^:/]*:[0-9]{1,5}(/|$)`)
)

// linkSchemes are those that programs on every device answer to, and those that other checks answer for.
var linkSchemes = strings.Fields("http https ftp mailto tel sms geo webcal webcals cid mid data file javascript vbscript")

// attributesOf are the attributes of HTML elements that signatures have, those of ages past among them (HTML Living
// Standard, 15.2 and 16.2).
var attributesOf = strings.Fields(`abbr accesskey align alink alt axis background bgcolor border bordercolor
	cellpadding cellspacing char charoff charset
	class clear color cols colspan compact content coords datetime dir download face frame frameborder headers height href
	hreflang hspace http-equiv id ismap itemid itemprop itemref itemscope itemtype lang link longdesc loading decoding
	marginheight marginwidth media name nohref noshade nosend nowrap prefix profile property referrerpolicy rel resource rev
	role rows rowspan rules scope shape size sizes span src srcset start style summary tabindex target text title translate
	type typeof usemap valign value vlink vocab vspace width wrap xmlns xml:lang hidden draggable contenteditable spellcheck
	dropzone is slot part nonce inert popover crossorigin integrity defer async ping fetchpriority bordercolorlight
	bordercolordark unselectable moz-do-not-send background-color`)

// misspeltAttributes finds what the check misspelt-attribute reports.
func misspeltAttributes(p *Pass) {
	for _, n := range p.Source.Elements() {
		if strings.Contains(n.Name, ":") || n.Inside("svg", "math") != nil || n.Is("svg", "math", "meta", "html", "script", "style", "o:p") {
			continue
		}
		for _, a := range n.Attrs {
			if slices.Contains(attributesOf, a.Name) || strings.ContainsAny(a.Name, ":_<>\"'`=;,{}.") || strings.HasPrefix(a.Name, "data-") ||
				strings.HasPrefix(a.Name, "aria-") || strings.HasPrefix(a.Name, "on") || strings.HasPrefix(a.Name, "x-") ||
				strings.HasPrefix(a.Name, "mso-") || a.Name == "/" {
				continue
			}
			meant := nearestAttribute(a.Name)
			h := p.Edit()
			message := fmt.Sprintf("%s is no attribute of any element.", quote(a.Name))
			if meant != "" {
				message += fmt.Sprintf(" Did you mean %s?", meant)
				if n.Attribute(meant) == nil {
					h.Replace(markup.Span{Start: a.Span.Start, End: a.Span.Start + len(a.Name)}, meant)
				}
			}
			severity := client.Note
			if meant != "" {
				severity = client.Degrades
				if meant == "src" || meant == "href" {
					severity = client.Breaks
				}
			}
			p.Report(Finding{
				Span: a.Span, Severity: severity, Message: message,
				Fix: costlyFix(h, "Write "+meant, "what was without effect has one then"),
			})
		}
	}
}

// nearestAttribute is the attribute that a misspelt one most probably is; blank for none.
func nearestAttribute(name string) string {
	best, least := "", 3
	if len(name) < 5 {
		least = 2
	}
	for _, known := range attributesOf {
		if d := edlib.OSADamerauLevenshteinDistance(name, known); d < least && len(known) > 2 {
			best, least = known, d
		}
	}
	return best
}

// attributeQuotes finds what the check attribute-quotes reports: behind such an attribute stand names that no attribute has.
func attributeQuotes(p *Pass) {
	p.Source.Root.Walk(func(n *markup.Node) bool {
		if n.Kind != markup.Text || n.Parent.Is("style", "script") {
			return true
		}
		if at := openTag.FindStringIndex(p.Source.Source[n.Open.Start:n.Open.End]); at != nil {
			p.Report(Finding{
				Span: markup.Span{Start: n.Open.Start + at[0], End: min(n.Open.Start+at[0]+40, n.Open.End)}, Severity: client.Breaks,
				Message: "The attribute's quotes are not closed: the tag and all behind it are lost.",
			})
		}
		return true
	})
	for _, n := range p.Source.Elements() {
		for _, a := range n.Attrs {
			if swallowing.MatchString(a.Value) && a.Name != "srcdoc" && a.Name != "title" && a.Name != "alt" {
				p.Report(Finding{
					Span: a.Span, Severity: client.Breaks,
					Message: fmt.Sprintf("The quotes of %s are not closed where they should be: it takes in the markup behind it.", a.Name),
				})
			}
		}
		for i := 1; i < len(n.Attrs); i++ {
			a, before := n.Attrs[i], n.Attrs[i-1]
			if a.Span.Start != before.Span.End || slices.Contains(attributesOf, a.Name) || strings.Contains(a.Name, "{{") {
				continue
			}
			p.Report(Finding{
				Span: before.Span, Severity: client.Breaks,
				Message: fmt.Sprintf("The attribute %s ends at the quotes inside it; %s and what follows is no part of it.",
					before.Name, quote(a.Name)),
			})
			break
		}
	}
}

var (
	openTag    = regexp.MustCompile(`<[a-zA-Z][a-zA-Z0-9]*\s[^<>"']*=\s*("[^"]*|'[^']*)$`)
	swallowing = regexp.MustCompile(`>[^"']*</?[a-zA-Z]|>\s*$`)
)

// declarationParts splits the content of a style attribute at its semicolons; those in quotes and brackets part nothing.
func declarationParts(raw string) (parts []string, starts []int) {
	depth, begin := 0, 0
	var inQuote byte
	for i := 0; i <= len(raw); i++ {
		if i == len(raw) || raw[i] == ';' && depth == 0 && inQuote == 0 && !endsReference(raw, i) {
			parts, starts = append(parts, raw[begin:i]), append(starts, begin)
			begin = i + 1
			continue
		}
		switch c := raw[i]; {
		case inQuote != 0:
			if c == inQuote {
				inQuote = 0
			}
		case c == '"' || c == '\'':
			inQuote = c
		case c == '(':
			depth++
		case c == ')':
			depth = max(depth-1, 0)
		}
	}
	return parts, starts
}

var reference = regexp.MustCompile(`&#?[0-9A-Za-z]+$`)

// endsReference reports whether a semicolon ends a character reference.
func endsReference(raw string, at int) bool { return reference.MatchString(raw[max(0, at-12):at]) }

var (
	wrongHash  = regexp.MustCompile(`#[0-9a-z]+`)
	bareHex    = regexp.MustCompile(`^[0-9a-fA-F]{6}$|^[0-9a-fA-F]{3}$`)
	twoInOne   = regexp.MustCompile(`^[^:]+:\s*([^:;]*?)\s+([a-z-]{3,}):\s*\S`)
	colourless = strings.Fields("color background-color border-color border-top-color border-right-color " +
		"border-bottom-color border-left-color " +
		"background")
)

// droppedDeclarations finds what the check dropped-declaration reports.
func droppedDeclarations(p *Pass) {
	for _, n := range p.Source.Elements() {
		a := n.Attribute("style")
		if a == nil {
			continue
		}
		raw := p.Source.Source[a.Inner.Start:a.Inner.End]
		if strings.Contains(raw, "{{") || strings.Contains(raw, "/*") {
			continue // what a person's value makes of it is not known here
		}
		parts, starts := declarationParts(raw)
		for i, part := range parts {
			trimmed := strings.TrimSpace(part)
			if trimmed == "" {
				continue
			}
			from := a.Inner.Start + starts[i] + strings.Index(part, trimmed)
			span := markup.Span{Start: from, End: from + len(trimmed)}
			message, fixed := wrongDeclaration(trimmed)
			if message == "" {
				continue
			}
			h := p.Edit()
			if fixed != "" {
				h.Replace(span, fixed)
			}
			p.Report(Finding{
				Span: span, Severity: client.Degrades, Message: message,
				Fix: costlyFix(h, "Write "+quote(fixed), "what was without effect has one then"),
			})
		}
	}
}

// wrongDeclaration says why browsers drop a declaration, and how it was probably meant; blank for one that they keep.
func wrongDeclaration(text string) (message, fixed string) {
	property, value, ok := strings.Cut(text, ":")
	property, value = strings.ToLower(strings.TrimSpace(property)), strings.TrimSpace(value)
	switch {
	case !ok && strings.Contains(text, "="):
		return fmt.Sprintf("%s has a sign of equality in place of its colon and is dropped.", quote(text)), strings.Replace(text, "=", ": ", 1)
	case !ok:
		return fmt.Sprintf("%s has no colon and is dropped.", quote(text)), ""
	case slices.Contains(colourless, property) && bareHex.MatchString(value) && value != "red" && value != "tan":
		return fmt.Sprintf("The colour %s lacks its # and is dropped.", quote(value)), text[:strings.LastIndex(text, value)] + "#" + value
	}
	if hash := wrongHash.FindString(strings.ToLower(value)); hash != "" && !strings.Contains(value, "url(") {
		if digits := len(hash) - 1; strings.Trim(hash[1:], "0123456789abcdef") != "" || digits != 3 && digits != 4 && digits != 6 && digits != 8 {
			return fmt.Sprintf("%s is no colour: after # stand 3, 4, 6 or 8 hexadecimal digits. The declaration is dropped.", quote(hash)), ""
		}
	}
	if words := strings.Fields(value); len(words) > 1 && (strings.HasPrefix(property, "border") || property == "outline") {
		last := words[len(words)-1]
		if bareHex.MatchString(last) && strings.ContainsAny(strings.ToLower(last), "abcdef") {
			return fmt.Sprintf("The colour %s lacks its #; the declaration is dropped.", quote(last)),
				text[:strings.LastIndex(text, last)] + "#" + last
		}
	}
	if m := twoInOne.FindStringSubmatch(text); m != nil && !strings.ContainsAny(value, `"'(`) {
		next := strings.LastIndex(text, m[2]+":")
		return fmt.Sprintf("No semicolon parts %s from %s; both are dropped.", quote(property), quote(m[2])),
			strings.TrimSpace(text[:next]) + "; " + text[next:]
	}
	return "", ""
}

// unclosedComments finds what the check unclosed-comment reports.
func unclosedComments(p *Pass) {
	p.Source.Root.Walk(func(n *markup.Node) bool {
		if p.unclosed(n) {
			raw := p.Source.Source[n.Open.Start:n.Open.End]
			end := min(n.Open.Start+4, n.Open.End)
			p.Report(Finding{
				Span: markup.Span{Start: n.Open.Start, End: end}, Severity: client.Breaks,
				Message: fmt.Sprintf("The comment does not end; %d characters behind it are lost.", len([]rune(raw))-4),
			})
		}
		return true
	})
}

// unclosed reports a comment that does not end.
func (p *Pass) unclosed(n *markup.Node) bool {
	if n.Kind != markup.Comment {
		return false
	}
	raw := p.Source.Source[n.Open.Start:n.Open.End]
	return strings.HasPrefix(raw, "<!--") && !strings.HasSuffix(raw, "-->") && !strings.HasSuffix(raw, "--!>")
}

var (
	noSemicolon = regexp.MustCompile(`&(nbsp|amp|copy|reg|lt|gt|quot|[aeiouAEIOU](?:uml|acute|grave|circ)|szlig|ntilde|` +
		`ccedil|middot|laquo|raquo|bull|` +
		`ndash|mdash|trade|euro)([^a-zA-Z0-9;=]|$)`)
	doubled = regexp.MustCompile(`&amp;(?:([a-zA-Z]{2,8})|#([0-9]{2,5}));`)
	c1      = regexp.MustCompile(`&#(?:x[89][0-9a-fA-F]|1[2-5][0-9]);`)
)

// windows1252 are the characters that the numbers 128 to 159 are meant as (WHATWG HTML, 13.2.5.80).
var windows1252 = []rune("€\u0081‚ƒ„…†‡ˆ‰Š‹Œ\u008dŽ\u008f\u0090‘’“”•–—˜™š›œ\u009džŸ")

// characterReferences finds what the check character-reference reports.
func characterReferences(p *Pass) {
	p.Source.Root.Walk(func(n *markup.Node) bool {
		if n.Is("style", "script") || n.Kind == markup.Comment {
			return false
		}
		if n.Kind != markup.Text {
			return true
		}
		raw := p.Source.Source[n.Open.Start:n.Open.End]
		for _, m := range noSemicolon.FindAllStringSubmatchIndex(raw, -1) {
			p.referenced(n.Open.Start+m[0], n.Open.Start+m[3], "has no semicolon", raw[m[0]:m[3]]+";")
		}
		for _, m := range doubled.FindAllStringSubmatchIndex(raw, -1) {
			once := "&" + raw[m[0]+len("&amp;"):m[1]]
			if html.UnescapeString(once) != once {
				p.referenced(n.Open.Start+m[0], n.Open.Start+m[1], "is written twice and shows as "+once, once)
			}
		}
		for _, m := range c1.FindAllStringIndex(raw, -1) {
			number, err := strconv.ParseInt(strings.Trim(strings.Replace(raw[m[0]:m[1]], "x", "0x", 1), "&#;"), 0, 32)
			if err != nil || number < 128 || number > 159 {
				continue
			}
			p.referenced(n.Open.Start+m[0], n.Open.Start+m[1], "is the number of a control character",
				fmt.Sprintf("&#%d;", windows1252[number-128]))
		}
		return true
	})
}

// referenced reports a reference that is written wrongly.
func (p *Pass) referenced(start, end int, wrong, right string) {
	h := p.Edit()
	span := markup.Span{Start: start, End: end}
	h.Replace(span, right)
	p.Report(Finding{
		Span: span, Severity: client.Degrades,
		Message: fmt.Sprintf("%s %s.", quote(p.Source.Source[start:end]), wrong),
		Fix:     fixOf(h, "Write "+right),
	})
}

// tableContents finds what the check table-content reports (HTML, 13.2.6.4.9, foster parenting).
func tableContents(p *Pass) {
	for _, n := range p.Source.Elements("table", "tbody", "thead", "tfoot", "tr") {
		for _, c := range n.Children {
			outside := c.Kind == markup.Text && strings.Trim(strings.TrimSpace(c.Data), "\u00a0") != "" ||
				c.Kind == markup.Element && !c.Is("table", "tbody", "thead", "tfoot", "tr", "td", "th", "caption", "colgroup", "col", "style", "script",
					"template", "form", "input") && !strings.Contains(c.Name, ":")
			if c.Is("table") || outside {
				message := fmt.Sprintf("%s stands in <%s> and in no cell.", quote(p.Source.Source[c.Open.Start:c.Open.End]), n.Name)
				span := c.Open
				if c.Kind == markup.Text {
					raw := p.Source.Source[span.Start:span.End]
					span.Start += len(raw) - len(strings.TrimLeft(raw, " \t\r\n"))
					span.End = span.Start + len(strings.TrimSpace(raw))
				}
				p.Report(Finding{Span: span, Severity: client.Breaks, Message: message})
			}
		}
	}
}

var (
	oneSlash  = regexp.MustCompile(`^(?i)https?:(/[^/]|[^/])`)
	noColon   = regexp.MustCompile(`^(?i)https?(//|;//|\.//)`)
	manySlash = regexp.MustCompile(`^(?i)https?:///+`)
	twice     = regexp.MustCompile(`^(?i)https?:/*https?:`)
)

// misspeltAddresses finds what the check address-misspelt reports.
func misspeltAddresses(p *Pass) {
	for _, a := range p.addresses() {
		v := a.value
		scheme := schemeOf(v)
		right := ""
		switch {
		case placeholder(v) || local(v):
			continue
		case twice.MatchString(v):
			right = v[strings.LastIndex(strings.ToLower(v), "http"):]
		case manySlash.MatchString(v), oneSlash.MatchString(v), noColon.MatchString(v):
			cut := strings.TrimLeft(v[4:], "sS")
			right = strings.ToLower(v[:len(v)-len(cut)]) + "://" + strings.TrimLeft(cut, ":;./")
		case scheme != "" && scheme != "http" && scheme != "https" && nearly(scheme, "https", "http"):
			right = "https://" + strings.TrimLeft(v[len(scheme):], ":/")
		case scheme != "" && scheme != "mailto" && nearly(scheme, "mailto"):
			right = "mailto:" + v[len(scheme)+1:]
		case scheme == "mailto" && strings.HasPrefix(v[len("mailto:"):], "//"):
			right = "mailto:" + strings.TrimLeft(v[len("mailto:"):], "/")
		case scheme == "tel" && strings.HasPrefix(v[len("tel:"):], "//"):
			right = "tel:" + strings.TrimLeft(v[len("tel:"):], "/")
		default:
			continue
		}
		h := p.Edit()
		if raw := p.Source.Source[a.attr.Inner.Start:a.attr.Inner.End]; strings.TrimSpace(raw) == v {
			h.Replace(a.attr.Inner, right)
		}
		p.Report(Finding{
			Span: a.attr.Span, Severity: client.Breaks,
			Message: fmt.Sprintf("%s is no address that a program knows.", quote(v)),
			Fix:     fixOf(h, "Write "+quote(right)),
		})
	}
}

// nearly reports whether a scheme is a misspelling of one of some.
func nearly(scheme string, of ...string) bool {
	for _, known := range of {
		if d := edlib.OSADamerauLevenshteinDistance(scheme, known); d > 0 && d <= 2 && len(scheme) >= 3 && scheme[0] == known[0] &&
			!slices.Contains([]string{"ftp", "sftp", "data", "tel", "sms", "cid", "hcp"}, scheme) {
			return true
		}
	}
	return false
}

var (
	hostInText = regexp.MustCompile(`(?i)^(?:https?://)?((?:[a-z0-9-]+\.)+[a-z]{2,24})(?:[/?#:][^\s]*)?$`)
	wwwInText  = regexp.MustCompile(`(?i)\b(?:https?://|(?:https?://)?www\.)((?:[a-z0-9-]+\.)+[a-z]{2,24})`)
	mailInText = regexp.MustCompile(`(?i)^[a-z0-9._%+-]+@((?:[a-z0-9-]+\.)+[a-z]{2,24})$`)
)

// differingLinks finds what the check link-differs reports.
func differingLinks(p *Pass) {
	for _, n := range p.Doc.Root.Elements("a") {
		href := n.Attribute("href")
		if href == nil || field.HasField(href.Value) || p.showsField(n) {
			continue
		}
		text, value := strings.TrimSpace(n.TextContent()), strings.TrimSpace(href.Value)
		said, leads := "", ""
		switch scheme := schemeOf(value); {
		case scheme == "mailto" && mailInText.MatchString(text):
			address, _, _ := strings.Cut(value[len("mailto:"):], "?")
			if address, err := url.PathUnescape(address); err == nil && address != "" && !strings.EqualFold(strings.TrimSpace(address), text) {
				said, leads = text, address
			}
		case (scheme == "http" || scheme == "https") && mailInText.MatchString(text):
			said, leads = text, value
		case scheme == "tel":
			a, b := lastDigits(text), lastDigits(value)
			if strings.Trim(text, "+0123456789-.()/ \u00a0") == "" && len(a) >= leastDigits && len(b) >= leastDigits && a != b {
				said, leads = text, value
			}
		case scheme == "http" || scheme == "https":
			m := hostInText.FindStringSubmatch(text)
			if one := wwwInText.FindAllStringSubmatch(text, -1); m == nil && len(one) == 1 {
				m = one[0]
			}
			u, err := url.Parse(value)
			if m == nil || err != nil || u.Host == "" {
				continue
			}
			if !sameHost(m[1], u.Hostname()) {
				said, leads = m[1], u.Hostname()
			}
		case scheme == "mailto" && hostInText.MatchString(text) && !strings.Contains(text, "@"):
			said, leads = text, value
		}
		if said != "" {
			p.Report(Finding{
				Span: href.Span, Severity: client.Degrades,
				Message: fmt.Sprintf("The text says %s; the link leads to %s.", quote(said), quote(leads)),
			})
		}
	}
}

// sameHost reports whether one host is the other, or lies below it.
func sameHost(a, b string) bool {
	a, b = strings.TrimPrefix(strings.ToLower(a), "www."), strings.TrimPrefix(strings.ToLower(b), "www.")
	return a == b || strings.HasSuffix(a, "."+b) || strings.HasSuffix(b, "."+a)
}

// privateAddresses finds what the check address-private reports (RFC 1918, RFC 6762, RFC 9476).
func privateAddresses(p *Pass) {
	for _, a := range p.addresses() {
		if field.HasField(a.value) || placeholder(a.value) || local(a.value) {
			continue
		}
		u, err := url.Parse(a.value)
		if err != nil || u.Scheme != "http" && u.Scheme != "https" && u.Scheme != "ftp" || u.Hostname() == "" {
			continue
		}
		host := strings.ToLower(u.Hostname())
		ip, err := netip.ParseAddr(host)
		top := host[strings.LastIndexByte(host, '.')+1:]
		private := err == nil && (ip.IsPrivate() || ip.IsLinkLocalUnicast()) || err != nil && (!strings.Contains(host, ".") ||
			slices.Contains([]string{"local", "lan", "internal", "intern", "intranet", "corp", "home", "localdomain", "private", "alt"}, top))
		if private {
			p.Report(Finding{
				Span: a.attr.Span, Severity: client.Breaks,
				Message: fmt.Sprintf("%s is known within one network only.", quote(host)),
			})
		}
	}
}

// joined reports letters of scripts whose letters are joined.
func joined(r rune) bool {
	return r >= 0x0620 && r <= 0x074f || r >= 0x0750 && r <= 0x077f || r >= 0x08a0 && r <= 0x08ff || r >= 0x0900 && r <= 0x097f ||
		r >= 0x0980 && r <= 0x09ff || r >= 0x1800 && r <= 0x18af || r >= 0xfb50 && r <= 0xfdff || r >= 0xfe70 && r <= 0xfefc
}

// joinedScripts finds what the check joined-script reports.
func joinedScripts(p *Pass) {
	seen := map[int]bool{}
	p.Doc.Root.Walk(func(n *markup.Node) bool {
		if n.Is("style", "script", "head") || n.Kind == markup.Conditional {
			return false
		}
		if n.Kind != markup.Text || !strings.ContainsFunc(n.Data, joined) {
			return true
		}
		for e := n.Parent; e != nil && e.Kind == markup.Element; e = e.Parent {
			for _, d := range e.Style {
				value := strings.TrimSpace(d.Value)
				if d.Property != "letter-spacing" {
					continue
				}
				if value == "normal" || strings.Trim(value, "0pxemt.%") == "" || seen[d.Span.Start] {
					return true
				}
				seen[d.Span.Start] = true
				h := p.Edit()
				h.Drop(d.Span)
				p.Report(Finding{
					Span: d.Span, Severity: client.Degrades,
					Message: fmt.Sprintf("letter-spacing: %s pulls joined letters apart.", value),
					Fix:     fixOf(h, "Take it out"),
				})
				return true
			}
		}
		return true
	})
}
