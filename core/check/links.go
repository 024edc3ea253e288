package check

import (
	"fmt"
	"net/url"
	"regexp"
	"strings"

	"missivum/core/client"
	"missivum/core/field"
	"missivum/core/markup"
	"missivum/core/style"
)

// linkChecks look at links, addresses, and at text that clients turn into links.
var linkChecks = []*Check{
	{
		ID: "link-colour", Title: "Link that takes the client's own colour",
		Why:     "The word-processor engine takes its own blue unless the colour stands on the link and on a span inside it; a webmail takes its own for a link without one.",
		Remedy:  "Write the colour on the link and on a span around its text.",
		Failing: `<a href="https://www.brackwater.example/" style="color: #0b3c49; text-decoration: none">Timetable</a>`,
		Passing: `<a href="https://www.brackwater.example/" style="color: #0b3c49; text-decoration: none"><span style="color: #0b3c49">Timetable</span></a>`,
		Fix:     doubleColour,
	},
	{
		ID: "link-underline", Title: "Link that leaves its underline to the client",
		Why:     "Clients underline links that say nothing, and sanitisers differ in it.",
		Remedy:  "Write text-decoration: underline, or none, on the link.",
		Failing: `<a href="https://www.brackwater.example/" style="color: #0b3c49"><span style="color: #0b3c49">Timetable</span></a>`,
		Passing: `<a href="https://www.brackwater.example/" style="color: #0b3c49; text-decoration: none"><span style="color: #0b3c49">Timetable</span></a>`,
		Fix: func(p *Pass, t target) *Fix {
			h := p.hand()
			for _, n := range t.nodes {
				h.declare(n, "text-decoration: underline")
			}
			return h.fix("Write the underline that browsers render by themselves")
		},
	},
	{
		ID: "link-text", Title: "Link text that says nothing",
		Why:     "Who hears a list of the links hears the texts alone; \"here\" leads nowhere.",
		Remedy:  "Let the text say what is found behind it.",
		Failing: `<p style="margin: 0">For the timetable <a href="https://www.brackwater.example/" style="color: #0b3c49; text-decoration: none"><span style="color: #0b3c49">click here</span></a></p>`,
		Passing: `<p style="margin: 0"><a href="https://www.brackwater.example/" style="color: #0b3c49; text-decoration: none"><span style="color: #0b3c49">Timetable</span></a></p>`,
		Run:     linkTexts,
	},
	{
		ID: "nested-link", Title: "Link inside a link",
		Why:     "The second link ends the first; what is left of it cannot be pressed.",
		Remedy:  "Put the links one behind the other.",
		Failing: `<a href="https://www.brackwater.example/">Brackwater <span><a href="https://www.brackwater.example/fares">Fares</a></span></a>`,
		Passing: `<a href="https://www.brackwater.example/">Brackwater</a> <a href="https://www.brackwater.example/fares">Fares</a>`,
		Run: func(p *Pass) {
			for _, n := range p.Doc.Root.Elements("a") {
				if n.Inside("a") != nil {
					p.Report(n.Open, client.Breaks, "The link stands inside another one.")
				}
			}
		},
	},
	{
		ID: "plain-number", Title: "Telephone number outside a link",
		Why:     "Telephones and desktop clients turn it into a link of their own, blue and underlined.",
		Remedy:  "Make it a link with tel: and give that the colour.",
		Failing: `<p data-needs="mobile" style="margin: 0">{{ mobile | phone }}</p>`,
		Passing: `<p data-needs="mobile" style="margin: 0"><a href="tel:{{ mobile | dial }}" style="color: #20343d; text-decoration: none"><span style="color: #20343d">{{ mobile | phone }}</span></a></p>`,
		Fix: func(p *Pass, t target) *Fix {
			return p.linked(t, func(text string) (string, bool) {
				if strings.HasPrefix(text, "{{") {
					return "tel:" + dialling.ReplaceAllString(strings.TrimSuffix(text, "}}"), "") + "| dial }}", strings.Count(text, "{{") == 1
				}
				digits := strings.Map(keepDigits, text)
				return "tel:" + digits, strings.HasPrefix(digits, "+") && !strings.Contains(text, "(0)")
			})
		},
	},
	{
		ID: "plain-address", Title: "Mail or web address outside a link",
		Why:     "Clients turn it into a link of their own, blue and underlined.",
		Remedy:  "Make it a link and give that the colour.",
		Failing: `<p style="margin: 0">{{ mail }}</p>`,
		Passing: `<p style="margin: 0"><a href="mailto:{{ mail }}" style="color: #20343d; text-decoration: none"><span style="color: #20343d">{{ mail }}</span></a></p>`,
		Fix: func(p *Pass, t target) *Fix {
			return p.linked(t, func(text string) (string, bool) {
				name, lone := loneField(text)
				switch {
				case strings.HasPrefix(text, "{{"):
					return "mailto:{{ " + name + " }}", lone && name == "mail"
				case strings.Contains(text, "@"):
					return "mailto:" + text, true
				case strings.HasPrefix(text, "www."):
					return "https://" + text, true
				}
				return text, strings.HasPrefix(text, "https://")
			})
		},
	},
	{
		ID: "ampersand", Title: "Ampersand in an address that begins a reference",
		Why:     "&copy= in an address is read as the sign of copyright by some; the address then leads elsewhere.",
		Remedy:  "Write &amp; for each ampersand in an address.",
		Failing: `<a href="https://www.brackwater.example/?port=1&copy=2">Timetable</a>`,
		Passing: `<a href="https://www.brackwater.example/?port=1&amp;copy=2">Timetable</a>`,
		Run:     ampersands,
	},
	{
		ID: "address-spaces", Title: "Signs in an address that do not belong there",
		Why:     "Spaces, backslashes and letters outside ASCII are no part of an address; some clients cut it there.",
		Remedy:  "Write them in their encoded form, such as %20.",
		Failing: `<a href="https://www.brackwater.example/time table">Timetable</a>`,
		Passing: `<a href="https://www.brackwater.example/time%20table">Timetable</a>`,
		Run:     addressSpaces,
	},
	{
		ID: "address-http", Title: "Address without encryption",
		Why:     "Clients that render in a web view leave pictures with http: out or warn of them, and links are marked as unsafe.",
		Remedy:  "Write https: if the host answers to it.",
		Failing: `<a href="http://www.brackwater.example/">Timetable</a>`,
		Passing: `<a href="https://www.brackwater.example/">Timetable</a>`,
		Run: func(p *Pass) {
			for _, a := range p.addresses() {
				if rest, ok := strings.CutPrefix(a.value, "http://"); ok && !placeholder(a.value) && !local(a.value) {
					h := p.hand()
					if at := strings.Index(p.Source.Source[a.attr.Inner.Start:a.attr.Inner.End], "http://"); at >= 0 {
						h.insert(a.attr.Inner.Start+at+len("http"), "s")
					}
					p.ReportFix(a.attr.Span, client.Degrades, fmt.Sprintf("%s is not encrypted.", quote("http://"+rest)),
						h.costly("Write https:", "a host that does not answer to it is not reached any more"))
				}
			}
		},
	},
	{
		ID: "address-page", Title: "Picture address that is a page",
		Why:     "The address of a page that shows a picture is not that of the picture: nothing is rendered.",
		Remedy:  "Take the address of the picture itself; it ends with the file's name. missivum picture addresses looks at what answers.",
		Failing: `<img src="https://files.brackwater.example/shared/logo/view" alt="Brackwater" width="120" height="40">Brackwater Ferries`,
		Passing: `<img src="https://files.brackwater.example/logo.png" alt="Brackwater" width="120" height="40">Brackwater Ferries`,
		Run: func(p *Pass) {
			for _, a := range p.pictureAddresses() {
				path := strings.ToLower(a.Path)
				for _, end := range []string{"/view", "/preview", "/edit", ".html", ".htm", ".php", ".aspx", "/share", "/sharing", "/"} {
					if strings.HasSuffix(path, end) {
						p.Report(a.span, client.Breaks, fmt.Sprintf("%s looks like the address of a page and not of a picture.", quote(a.String())))
						break
					}
				}
			}
		},
	},
	{
		ID: "address-expiring", Title: "Picture address that expires",
		Why:     "An address with a token or an end date answers for some days; later the picture is missing in every mail that was sent.",
		Remedy:  "Host the picture at a lasting address without a token.",
		Failing: `<img src="https://files.brackwater.example/logo.png?expires=1793000000&amp;signature=ab12" alt="Brackwater" width="120" height="40">Brackwater Ferries`,
		Passing: `<img src="https://files.brackwater.example/logo.png" alt="Brackwater" width="120" height="40">Brackwater Ferries`,
		Run: func(p *Pass) {
			for _, a := range p.pictureAddresses() {
				for name := range a.Query() {
					if expiring.MatchString(name) {
						p.Report(a.span, client.Breaks, fmt.Sprintf("%s carries %q: such addresses answer for a while only.", quote(a.Host+a.Path), name))
						break
					}
				}
			}
		},
	},
	{
		ID: "base-address", Title: "Base address",
		Why:     "Clients take <base> away: every address that counts on it leads nowhere.",
		Remedy:  "Write full addresses and take it out.",
		Failing: `<base href="https://www.brackwater.example/"><p style="margin: 0">Harbour office</p>`,
		Passing: `<p style="margin: 0"><a href="https://www.brackwater.example/">Harbour office</a></p>`,
		Run: func(p *Pass) {
			for _, n := range p.Source.Elements("base") {
				p.Report(n.Open, client.Degrades, "A base address is not honoured in messages.")
			}
		},
	},
}

var expiring = regexp.MustCompile(`(?i)^(expires?|expiry|exp|sig|signature|token|x-[a-z]+-(signature|expires)|se|sv)$`)

// plainLink is the colour of a link that nobody gave one (HTML, 15.3.4, Phrasing content).
const plainLink = "#0000ee"

// doubleColour writes the link's colour on a span around its text too.
func doubleColour(p *Pass, t target) *Fix {
	n := t.first()
	colour := ""
	if prepared := p.preparedNode(n); prepared != nil {
		colour, _ = prepared.Declared("color")
	}
	h := p.hand()
	if strings.ContainsAny(colour, `"{`) {
		return nil
	}
	if colour == "" {
		for _, c := range n.Children { // only what is text takes the blue
			if c.Kind == markup.Element && !c.Is("b", "strong", "i", "em", "u", "br") {
				return nil
			}
		}
		h.declare(n, "color: "+plainLink)
		h.wrapContent(n, `<span style="color: `+plainLink+`">`, "</span>")
		return h.costly("Write the blue that browsers give it", "it stays that blue where a client would take another one, on a dark background too")
	}
	for _, c := range n.Children {
		if c.Kind == markup.Element && markup.Block(c.Name) {
			return nil // a span around a block is a fault of its own
		}
	}
	h.wrapContent(n, `<span style="color: `+colour+`">`, "</span>")
	return h.fix("Write the colour on a span inside the link too")
}

// linked makes a text a link that looks like the text around it.
func (p *Pass) linked(t target, address func(text string) (string, bool)) *Fix {
	text := ""
	if t.span.End <= len(p.Source.Source) {
		text = p.Source.Source[t.span.Start:t.span.End]
	}
	href, ok := address(text)
	if !ok || strings.ContainsAny(text, "<>\"") || t.span.Len() == 0 {
		return nil
	}
	colour := style.Hex(p.lookOf(t.first()).text.Color)
	h := p.hand()
	h.insert(t.span.Start, `<a href="`+href+`" style="color: `+colour+`; text-decoration: none"><span style="color: `+colour+`">`)
	h.insert(t.span.End, "</span></a>")
	return h.fix("Make it a link that looks like the text around it")
}

// dialling is the modifier that is left out where a number is dialled.
var dialling = regexp.MustCompile(`\|\s*(phone|national)\s*`)

// loneField is the field of a placeholder that shows one field and has no stand-by.
func loneField(text string) (string, bool) {
	inner := strings.TrimSpace(strings.TrimSuffix(strings.TrimPrefix(text, "{{"), "}}"))
	name, modifiers, _ := strings.Cut(inner, "|")
	name = strings.TrimSpace(name)
	return name, !strings.Contains(name, " ") && !strings.Contains(modifiers, "or ") && strings.Count(text, "{{") == 1
}

func keepDigits(r rune) rune {
	if r == '+' || r >= '0' && r <= '9' {
		return r
	}
	return -1
}

func linkTexts(p *Pass) {
	for _, n := range p.Doc.Root.Elements("a") {
		switch text := strings.ToLower(strings.Trim(strings.TrimSpace(n.TextContent()), ".!:> \u00bb\u203a")); text {
		case "here", "click here", "click", "link", "this link", "more", "read more", "learn more", "hier", "ici", "aquí", "qui", "klik hier":
			p.Report(n.Open, client.Note, fmt.Sprintf("%q does not say where the link leads.", text))
		}
	}
}

func ampersands(p *Pass) {
	for _, a := range p.addresses() {
		raw := p.Source.Source[a.attr.Inner.Start:a.attr.Inner.End]
		h := p.hand()
		for _, at := range bareAmpersand.FindAllStringIndex(raw, -1) {
			if strings.HasPrefix(raw[at[0]:], "&amp;") {
				continue
			}
			h.insert(a.attr.Inner.Start+at[0]+1, "amp;")
		}
		if len(h.edits) > 0 {
			p.ReportFix(a.attr.Span, client.Note, fmt.Sprintf("%s holds an ampersand that is not written as &amp;.", quote(raw)), h.fix("Write &amp;"))
		}
	}
}

var bareAmpersand = regexp.MustCompile(`&[a-zA-Z][a-zA-Z0-9]*(=|&|$)`)

func addressSpaces(p *Pass) {
	for _, a := range p.addresses() {
		if field.HasField(a.value) || local(a.value) || placeholder(a.value) || strings.HasPrefix(strings.ToLower(a.value), "data:") || strings.HasPrefix(strings.ToLower(a.value), "tel:") || strings.HasPrefix(a.value, "javascript:") {
			continue
		}
		encoded := encodeAddress(a.value)
		if encoded == a.value {
			continue
		}
		h := p.hand()
		if raw := p.Source.Source[a.attr.Inner.Start:a.attr.Inner.End]; strings.TrimSpace(raw) == a.value || raw == a.attr.Value {
			h.replace(a.attr.Inner, markup.EscapeAttr(encoded))
		}
		p.ReportFix(a.attr.Span, client.Degrades, fmt.Sprintf("%s holds signs that do not belong into an address.", quote(a.value)), h.fix("Encode them"))
	}
}

// encodeAddress writes the signs that no address may hold in percent form (RFC 3986, 2.1); a backslash becomes a
// slash, as browsers take it.
func encodeAddress(address string) string {
	var b strings.Builder
	for i := range len(address) {
		switch c := address[i]; {
		case c == '\\':
			b.WriteByte('/')
		case c <= ' ' || c >= 0x7f || strings.IndexByte(`"<>^`+"`{|}", c) >= 0:
			fmt.Fprintf(&b, "%%%02X", c)
		default:
			b.WriteByte(c)
		}
	}
	return b.String()
}

type pictureAddress struct {
	*url.URL
	span markup.Span
}

// pictureAddresses lists the full addresses of pictures that are written out.
func (p *Pass) pictureAddresses() []pictureAddress {
	var list []pictureAddress
	for _, a := range p.addresses() {
		if !a.node.Is("img") || a.attr.Name != "src" || !strings.HasPrefix(a.value, "http") || field.HasField(a.value) || placeholder(a.value) || local(a.value) {
			continue
		}
		if u, err := url.Parse(a.value); err == nil && u.Host != "" && u.Path != "" {
			list = append(list, pictureAddress{u, a.attr.Span})
		}
	}
	return list
}
