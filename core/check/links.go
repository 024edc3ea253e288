package check

import (
	"fmt"
	"net/url"
	"regexp"
	"strings"

	"golang.org/x/net/html"

	"missivum/core/client"
	"missivum/core/field"
	"missivum/core/markup"
	"missivum/core/person"
	"missivum/core/style"
)

// linkChecks look at links, addresses, and at text that clients turn into links.
var linkChecks = []*Check{
	{
		ID: "address-relative", Title: "Relative or scheme-less address",
		Why:     "A message has no place of its own: an address without https:// leads nowhere from there.",
		Remedy:  "Write the full address with https://.",
		Failing: `<a href="www.brackwater.example/timetable">Timetable</a>`,
		Passing: `<a href="https://www.brackwater.example/timetable">Timetable</a>`,
		Run:     addressRelative,
	},
	{
		ID: "address-local", Title: "Address on a local or shared disk",
		Why:     "Only the computer that wrote the message can open it.",
		Remedy:  "Host the file at an https address, or put the picture into the template.",
		Failing: `<img src="file:///C:/Users/mlind/Desktop/logo.png" alt="Brackwater" width="120" height="40">Brackwater`,
		Passing: `<img src="https://pictures.brackwater.example/logo.png" alt="Brackwater" width="120" height="40">Brackwater`,
		Run:     addressLocal,
	},
	{
		ID: "link-target", Title: "Placeholder or empty link",
		Why:     "The reader clicks and gets nowhere, or to somebody else's page.",
		Remedy:  "Write the address it is meant to lead to, or take the link off the text.",
		Failing: `<a href="#">Timetable</a>`,
		Passing: `<a href="https://www.brackwater.example/timetable">Timetable</a>`,
		Run:     linkTarget,
	},
	{
		ID: "link-colour", Title: "Link that takes the client's own colour",
		Why: "The word-processor engine takes its own blue unless the colour stands on the link and on a span " +
			"inside it; a webmail takes its own for a link without one.",
		Remedy:  "Write the colour on the link and on a span around its text.",
		Failing: `<a href="https://www.brackwater.example/" style="color: #0b3c49; text-decoration: none">Timetable</a>`,
		Passing: `<a href="https://www.brackwater.example/" style="color: #0b3c49; text-decoration: none"><span ` +
			`style="color: #0b3c49">Timetable</span></a>`,
		Fix: doubleColour,
	},
	{
		ID: "link-underline", Title: "Link that leaves its underline to the client",
		Why:     "Clients underline links that say nothing, and sanitisers differ in it.",
		Remedy:  "Write text-decoration: underline, or none, on the link.",
		Failing: `<a href="https://www.brackwater.example/" style="color: #0b3c49"><span style="color: #0b3c49">Timetable</span></a>`,
		Passing: `<a href="https://www.brackwater.example/" style="color: #0b3c49; text-decoration: none"><span ` +
			`style="color: #0b3c49">Timetable</span></a>`,
		Fix: func(p *Pass, t Target) *Fix {
			h := p.Edit()
			for _, n := range t.Nodes {
				if !leads(n) {
					return nil
				}
				h.Declare(n, "text-decoration: underline")
			}
			return fixOf(h, "Write the underline that browsers render by themselves")
		},
	},
	{
		ID: "link-text", Title: "Link text that says nothing",
		Why:    "Who hears a list of the links hears the texts alone; \"here\" leads nowhere.",
		Remedy: "Let the text say what is found behind it.",
		Failing: `<p style="margin: 0">For the timetable <a href="https://www.brackwater.example/" style="color: ` +
			`#0b3c49; text-decoration: none"><span style="color: #0b3c49">click here</span></a></p>`,
		Passing: `<p style="margin: 0"><a href="https://www.brackwater.example/" style="color: #0b3c49; ` +
			`text-decoration: none"><span style="color: #0b3c49">Timetable</span></a></p>`,
		Run: linkTexts,
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
					p.Report(Finding{Span: n.Open, Severity: client.Breaks, Message: "The link stands inside another one."})
				}
			}
		},
	},
	{
		ID: "plain-number", Title: "Telephone number outside a link",
		Why:     "Telephones and desktop clients turn it into a link of their own, blue and underlined.",
		Remedy:  "Make it a link with tel: and give that the colour.",
		Failing: `<p data-needs="mobile" style="margin: 0">{{ mobile | phone }}</p>`,
		Passing: `<p data-needs="mobile" style="margin: 0"><a href="tel:{{ mobile | dial }}" style="color: #20343d; ` +
			`text-decoration: none"><span style="color: #20343d">{{ mobile | phone }}</span></a></p>`,
		Fix: func(p *Pass, t Target) *Fix {
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
		Passing: `<p style="margin: 0"><a href="mailto:{{ mail }}" style="color: #20343d; text-decoration: none">` +
			`<span style="color: #20343d">{{ mail }}</span></a></p>`,
		Fix: func(p *Pass, t Target) *Fix {
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
		Why:     "&copy at the end of an address is read as the sign of copyright; the address then leads elsewhere.",
		Remedy:  "Write &amp; for each ampersand in an address.",
		Failing: `<a href="https://www.brackwater.example/?port=1&copy">Timetable</a>`,
		Passing: `<a href="https://www.brackwater.example/?port=1&amp;copy">Timetable</a>`,
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
					h := p.Edit()
					if at := strings.Index(p.Source.Source[a.attr.Inner.Start:a.attr.Inner.End], "http://"); at >= 0 {
						h.Insert(a.attr.Inner.Start+at+len("http"), "s")
					}
					p.Report(Finding{
						Span:     a.attr.Span,
						Severity: client.Degrades,
						Message:  fmt.Sprintf("%s is not encrypted.", quote("http://"+rest)),
						Fix:      costlyFix(h, "Write https:", "a host that does not answer to it is not reached any more"),
					})
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
						p.Report(Finding{
							Span:     a.span,
							Severity: client.Breaks,
							Message:  fmt.Sprintf("%s looks like the address of a page and not of a picture.", quote(a.String())),
						})
						break
					}
				}
			}
		},
	},
	{
		ID: "address-expiring", Title: "Picture address that expires",
		Why:    "An address with a token or an end date answers for some days; later the picture is missing in every mail that was sent.",
		Remedy: "Host the picture at a lasting address without a token.",
		Failing: `<img src="https://files.brackwater.example/logo.png?expires=1793000000&amp;signature=ab12" ` +
			`alt="Brackwater" width="120" height="40">Brackwater Ferries`,
		Passing: `<img src="https://files.brackwater.example/logo.png" alt="Brackwater" width="120" height="40">Brackwater Ferries`,
		Run: func(p *Pass) {
			for _, a := range p.pictureAddresses() {
				for name := range a.Query() {
					if expiring.MatchString(name) {
						p.Report(Finding{
							Span:     a.span,
							Severity: client.Breaks,
							Message:  fmt.Sprintf("%s carries %q: such addresses answer for a while only.", quote(a.Host+a.Path), name),
						})
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
				p.Report(Finding{
					Span:     n.Open,
					Severity: client.Degrades,
					Message:  "A base address is not honoured in messages.",
				})
			}
		},
	},
}

var expiring = regexp.MustCompile(`(?i)^(expires?|expiry|exp|sig|signature|token|x-[a-z]+-(signature|expires)|se|sv)$`)

// plainLink is the colour of a link that nobody gave one (HTML, 15.3.4, Phrasing content).
const plainLink = "#0000ee"

// doubleColour writes the link's colour on a span around its text too.
func doubleColour(p *Pass, t Target) *Fix {
	n := t.First()
	if !leads(n) {
		return nil
	}
	colour := ""
	if prepared := p.PreparedNode(n); prepared != nil {
		colour, _ = prepared.Declared("color")
	}
	h := p.Edit()
	if strings.ContainsAny(colour, `"{`) {
		return nil
	}
	if colour == "" {
		for _, c := range n.Children { // only what is text takes the blue
			if c.Kind == markup.Element && !c.Is("b", "strong", "i", "em", "u", "br") {
				return nil
			}
		}
		h.Declare(n, "color: "+plainLink)
		h.WrapContent(n, `<span style="color: `+plainLink+`">`, "</span>")
		return costlyFix(h, "Write the blue that browsers give it",
			"it stays that blue where a client would take another one, on a dark background too")
	}
	for _, c := range n.Children {
		if c.Kind == markup.Element && markup.Block(c.Name) {
			return nil // a span around a block is a fault of its own
		}
	}
	h.WrapContent(n, `<span style="color: `+colour+`">`, "</span>")
	return fixOf(h, "Write the colour on a span inside the link too")
}

// leads reports whether a link's address is one that clients keep. Of another they take it away, and what is left looks like
// text, which no fix may make look like a link: the address is put right first.
func leads(n *markup.Node) bool {
	href, ok := n.Attr("href")
	if !ok || placeholder(href) {
		return false
	}
	switch markup.SchemeOf(strings.TrimSpace(href)) {
	case "http", "https", "mailto", "tel", "sms":
		return true
	}
	return field.HasField(href)
}

// linked makes a text a link that looks like the text around it.
func (p *Pass) linked(t Target, address func(text string) (string, bool)) *Fix {
	text := ""
	if t.Span.End <= len(p.Source.Source) {
		text = p.Source.Source[t.Span.Start:t.Span.End]
	}
	href, ok := address(text)
	if !ok || strings.ContainsAny(text, "<>\"") || t.Span.Len() == 0 {
		return nil
	}
	colour := style.Hex(p.lookOf(t.First()).text.Color)
	h := p.Edit()
	h.Insert(t.Span.Start, `<a href="`+href+`" style="color: `+colour+`; text-decoration: none"><span style="color: `+colour+`">`)
	h.Insert(t.Span.End, "</span></a>")
	return fixOf(h, "Make it a link that looks like the text around it")
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

// keepDigits keeps what a telephone number is compared by.
func keepDigits(r rune) rune {
	if r == '+' || r >= '0' && r <= '9' {
		return r
	}
	return -1
}

// linkTexts finds what the check link-text reports: link text that says nothing.
func linkTexts(p *Pass) {
	for _, n := range p.Doc.Root.Elements("a") {
		switch text := strings.ToLower(strings.Trim(strings.TrimSpace(n.TextContent()), ".!:> \u00bb\u203a")); text {
		case "here", "click here", "click", "link", "this link", "more", "read more", "learn more", "hier", "ici", "aquí", "qui", "klik hier":
			p.Report(Finding{
				Span:     n.Open,
				Severity: client.Note,
				Message:  fmt.Sprintf("%q does not say where the link leads.", text),
			})
		}
	}
}

// ampersands finds what the check ampersand reports: ampersand in an address that begins a reference.
func ampersands(p *Pass) {
	for _, a := range p.addresses() {
		raw := p.Source.Source[a.attr.Inner.Start:a.attr.Inner.End]
		h := p.Edit()
		for _, at := range bareAmpersand.FindAllStringIndex(raw, -1) {
			if strings.HasPrefix(raw[at[0]:], "&amp;") ||
				html.UnescapeString(strings.TrimSuffix(raw[at[0]:at[1]], "&")) == strings.TrimSuffix(raw[at[0]:at[1]], "&") {
				continue
			}
			h.Insert(a.attr.Inner.Start+at[0]+1, "amp;")
		}
		if !h.Empty() {
			p.Report(Finding{
				Span:     a.attr.Span,
				Severity: client.Note,
				Message:  fmt.Sprintf("%s holds an ampersand that is not written as &amp;.", quote(raw)),
				Fix:      fixOf(h, "Write &amp;"),
			})
		}
	}
}

// bareAmpersand is an ampersand with a name behind it that ends there. Where a sign of equality or another letter follows, no browser
// takes it for a reference (HTML, 13.2.5.73).
var bareAmpersand = regexp.MustCompile(`&[a-zA-Z][a-zA-Z0-9]*(&|$)`)

// addressSpaces finds what the check address-spaces reports: signs in an address that do not belong there.
func addressSpaces(p *Pass) {
	for _, a := range p.addresses() {
		if field.HasField(a.value) || local(a.value) || placeholder(a.value) ||
			strings.HasPrefix(strings.ToLower(a.value), "data:") || strings.HasPrefix(strings.ToLower(a.value), "tel:") ||
			strings.HasPrefix(a.value, "javascript:") || strings.ContainsAny(a.value, "\u201c\u201d\u2018\u2019") ||
			swallowing.MatchString(a.value) {
			continue
		}
		encoded := encodeAddress(a.value)
		if encoded == a.value {
			continue
		}
		h := p.Edit()
		if raw := p.Source.Source[a.attr.Inner.Start:a.attr.Inner.End]; strings.TrimSpace(raw) == a.value || raw == a.attr.Value {
			h.Replace(a.attr.Inner, markup.EscapeAttr(encoded))
		}
		p.Report(Finding{
			Span:     a.attr.Span,
			Severity: client.Degrades,
			Message:  fmt.Sprintf("%s holds signs that do not belong into an address.", quote(a.value)),
			Fix:      fixOf(h, "Encode them"),
		})
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

// pictureAddress is an address in the source that shows a picture.
type pictureAddress struct {
	*url.URL
	span markup.Span
}

// pictureAddresses lists the full addresses of pictures that are written out.
func (p *Pass) pictureAddresses() []pictureAddress {
	var list []pictureAddress
	for _, a := range p.addresses() {
		if !a.node.Is("img") || a.attr.Name != "src" || !strings.HasPrefix(a.value, "http") || field.HasField(a.value) ||
			placeholder(a.value) || local(a.value) {
			continue
		}
		if u, err := url.Parse(a.value); err == nil && u.Host != "" && u.Path != "" {
			list = append(list, pictureAddress{u, a.attr.Span})
		}
	}
	return list
}

// address is one address written in the document.
type address struct {
	node  *markup.Node
	attr  markup.Attr
	value string // trimmed
}

// addresses lists the addresses of links and pictures that are written out; those that begin with
// a field, or that were resolved from a picture's name, are left out.
func (p *Pass) addresses() []address {
	var list []address
	for _, n := range p.Doc.Root.Elements() {
		for _, a := range n.Attrs {
			if a.Name != "href" && a.Name != "src" && a.Name != "background" || n.Is("link", "script") || strings.Contains(n.Name, ":") {
				continue
			}
			if _, named := n.Attr(field.AttrPicture); named && a.Name == "src" {
				continue
			}
			value := strings.TrimSpace(a.Value)
			if strings.HasPrefix(value, "{{") {
				continue
			}
			list = append(list, address{n, a, value})
		}
	}
	return list
}

// schemeOf gives the scheme of an address with fields in it.
func schemeOf(value string) string {
	i := strings.IndexByte(value, ':')
	if i <= 0 || strings.ContainsAny(value[:i], "/?#.") {
		return ""
	}
	return strings.ToLower(value[:i])
}

// local recognises paths of a disk or a shared folder.
func local(value string) bool {
	low := strings.ToLower(value)
	drive := len(low) > 2 && low[0] >= 'a' && low[0] <= 'z' && low[1] == ':' && (low[2] == '\\' || low[2] == '/')
	return strings.HasPrefix(low, "file:") || drive || strings.HasPrefix(value, `\\`) ||
		strings.HasPrefix(low, "/users/") || strings.HasPrefix(low, "/home/") ||
		strings.HasPrefix(low, "http://localhost") || strings.HasPrefix(low, "https://localhost") || strings.HasPrefix(low, "http://127.") ||
		strings.HasPrefix(low, "https://127.") || strings.HasPrefix(low, "http://[::1]")
}

// placeholder recognises addresses that somebody meant to fill in later.
func placeholder(value string) bool {
	low := strings.ToLower(strings.TrimRight(value, "/"))
	switch low {
	case "", "#", "about:blank", "http:", "https:", "mailto:", "tel:", "todo", "tbd", "xxx", "url", "link", "https://#", "http://#":
		return true
	}
	return strings.HasPrefix(low, "#") || strings.Contains(low, "://example.com") ||
		strings.Contains(low, "://www.example.com") || strings.Contains(low, "yourdomain") || strings.Contains(low, "your-company")
}

// addressRelative finds what the check address-relative reports: relative or scheme-less address.
func addressRelative(p *Pass) {
	for _, a := range p.addresses() {
		if placeholder(a.value) || local(a.value) || schemeOf(a.value) != "" || noColon.MatchString(a.value) {
			continue
		}
		message := fmt.Sprintf("%s is not a full address: it lacks https://.", quote(a.value))
		remedy := p.check.Remedy
		if a.node.Is("img") {
			message = fmt.Sprintf("The picture address %s is relative: it leads nowhere from a message.", quote(a.value))
			if picture := p.Prepared.PictureOf(a.node); picture != nil && picture.Name != "" {
				remedy = fmt.Sprintf("Write data-picture=%q in place of src; the address is then filled in.", picture.Name)
			}
		}
		p.Report(Finding{
			Span:     a.attr.Span,
			Severity: client.Breaks,
			Message:  message,
			Fix:      p.fullAddress(a),
			Remedy:   remedy,
		})
	}
}

// addressLocal finds what the check address-local reports: address on a local or shared disk.
func addressLocal(p *Pass) {
	for _, a := range p.addresses() {
		if local(a.value) {
			p.Report(Finding{
				Span:     a.attr.Span,
				Severity: client.Breaks,
				Message:  fmt.Sprintf("%s lies on a disk that the reader does not have.", quote(a.value)),
			})
		}
	}
}

// linkTarget finds what the check link-target reports: placeholder or empty link.
func linkTarget(p *Pass) {
	for _, a := range p.addresses() {
		if a.attr.Name == "href" && a.node.Is("a", "area") && placeholder(a.value) {
			message := fmt.Sprintf("The link address %s is a placeholder.", quote(a.value))
			if a.value == "" {
				message = "The link has no address."
			}
			p.Report(Finding{Span: a.attr.Span, Severity: client.Breaks, Message: message})
		}
	}
	for _, a := range p.addresses() {
		if message := undialled(a.value); message != "" {
			p.Report(Finding{
				Span:     a.attr.Span,
				Severity: client.Degrades,
				Message:  message,
				Fix:      p.dialled(a),
				Remedy:   "Write tel: with a plus sign and digits only, or mailto: with a mail address.",
			})
		}
	}
	unsafeAddresses(p)
	for _, n := range p.Doc.Root.Elements("a") {
		if _, ok := n.Attr("href"); ok && strings.TrimSpace(n.TextContent()) == "" && len(n.Elements("img")) == 0 {
			p.Report(Finding{
				Span:     n.Open,
				Severity: client.Degrades,
				Message:  "The link has no text and no picture: nobody can see or press it.",
			})
		}
	}
}

// undialled says what is wrong with a telephone or mail link that is written out.
func undialled(value string) string {
	rest, found := strings.CutPrefix(strings.ToLower(value), "tel:")
	switch {
	case found && strings.Contains(strings.ReplaceAll(rest, " ", ""), "(0)"):
		return fmt.Sprintf("%s dials the zero in brackets too, and so another number.", quote(value))
	case found && rest != "" && !field.HasField(rest) && strings.Trim(rest, "+0123456789-.()") != "":
		return fmt.Sprintf("%s holds more than digits; some telephones dial only a part of it, or nothing.", quote(value))
	case strings.HasPrefix(strings.ToLower(value), "mailto:") && len(value) > len("mailto:") &&
		!strings.Contains(value, "@") && !field.HasField(value):
		return fmt.Sprintf("%s names no mail address.", quote(value))
	}
	return ""
}

// unsafeAddresses finds people whose value cannot be an address where one begins with it.
func unsafeAddresses(p *Pass) {
	if p.People == nil {
		return
	}
	for _, n := range p.Doc.Root.Elements("a", "area") {
		href := n.Attribute("href")
		if href == nil || !strings.HasPrefix(strings.TrimSpace(href.Value), "{{") {
			continue
		}
		pieces, _ := p.Fields.AttrPieces(*href)
		if len(pieces) == 0 || pieces[0].Expr == nil {
			continue
		}
		e := pieces[0].Expr
		who := p.whose(func(someone *person.Person) bool { return !field.SafeAddress(person.Clean(e.Raw(someone))) })
		if len(who) > 0 {
			p.Report(Finding{
				Span:     href.Span,
				Severity: client.Breaks,
				People:   who,
				Message:  fmt.Sprintf("%s is no web, mail or telephone address for %s; their link is left empty.", e.Field, p.named(who)),
				Remedy:   "Correct the value in the directory, or write the beginning of the address into the template.",
			})
		}
	}
}

// fullAddress writes the missing https:// of an address that names a host, or the name of the template's picture.
func (p *Pass) fullAddress(a address) *Fix {
	h := p.Edit()
	if a.node.Is("img") {
		if picture := p.Prepared.PictureOf(a.node); picture != nil && picture.Name != "" {
			h.Replace(a.attr.Span, "data-picture=\""+picture.Name+"\"")
			return fixOf(h, "Name the template's picture; its address is then filled in")
		}
	}
	host, _, _ := strings.Cut(strings.ToLower(a.value), "/")
	switch at := strings.Index(p.Source.Source[a.attr.Inner.Start:a.attr.Inner.End], a.value); {
	case at < 0:
		return nil
	case strings.HasPrefix(a.value, "//"):
		h.Insert(a.attr.Inner.Start+at, "https:")
	case strings.HasPrefix(host, "www.") && !field.HasField(host):
		h.Insert(a.attr.Inner.Start+at, "https://")
	case strings.Contains(a.value, "@") && !strings.ContainsAny(a.value, "/ {"):
		h.Insert(a.attr.Inner.Start+at, "mailto:")
	}
	return fixOf(h, "Write the address in full")
}

// dialled writes a telephone link with its digits alone.
func (p *Pass) dialled(a address) *Fix {
	rest, ok := strings.CutPrefix(strings.ToLower(a.value), "tel:")
	digits := strings.Map(keepDigits, rest)
	if !ok || len(digits) < 7 || strings.Trim(rest, "+0123456789-.() /\u00a0") != "" || strings.Contains(rest, "(0)") {
		return nil
	}
	h := p.Edit()
	h.Replace(a.attr.Inner, "tel:"+digits)
	return fixOf(h, "Write the digits alone")
}
