package check

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"missivum/core/client"
	"missivum/core/compose"
	"missivum/core/field"
	"missivum/core/markup"
	"missivum/core/person"
)

// Checks lists all checks in the order in which documents show them.
func Checks() []*Check { return checks }

// Find returns the check with an id, or nil.
func Find(id string) *Check {
	for _, c := range checks {
		if c.ID == id {
			return c
		}
	}
	return nil
}

var checks = slices.Concat(fieldChecks, layoutChecks, styleChecks, moreChecksOfPictures, linkChecks, writtenChecks, accessChecks)

// fieldChecks look at pictures, addresses and fields, and at how a template is built.
var fieldChecks = []*Check{
	{
		ID: "style-sheet", Title: "Style sheet dropped",
		Why:     "Rules that depend on the screen or on the reader's mouse, and sheets that are linked, cannot be written onto the elements; most clients drop them.",
		Remedy:  "Let the signature be right without the rule; put what matters into a style that has no condition.",
		Failing: `<style>@media (max-width: 400px) { .hide { display: none } }</style><p class="hide">Harbour office</p>`,
		Passing: `<style>.name { color: #123456 }</style><p class="name">Harbour office</p>`,
		Run:     bareStyleSheet,
	},
	{
		ID: "picture-size", Title: "Picture without width and height attributes",
		Why:     "One engine takes the size from the attributes only and draws the true pixels without them; the others cannot keep the room free while the picture is blocked.",
		Remedy:  "Write width and height as attributes, in pixels without a unit.",
		Failing: `<img src="https://pictures.brackwater.example/logo.png" alt="Brackwater" style="width: 120px">Brackwater`,
		Passing: `<img src="https://pictures.brackwater.example/logo.png" alt="Brackwater" width="120" height="40">Brackwater`,
		Fix:     sizeAttributes,
	},
	{
		ID: "picture-pixels", Title: "True pixels unlike the display size",
		Why:     "A picture with other pixels than it is shown with is blurred, heavy, or blown up where the size is not honoured.",
		Remedy:  "Make the file exactly the display size, or two or three times it; missivum fix does it where the proportions are the same.",
		Failing: `<img src="wide.png" alt="Ferry" width="120" height="40">Brackwater`,
		Passing: `<img src="fit.png" alt="Ferry" width="120" height="40">Brackwater`,
		Run:     picturePixels,
	},
	{
		ID: "picture-format", Title: "Picture in a format that a client does not draw",
		Why:     "Every client that shows pictures draws PNG, JPEG in screen colours and GIF; each other format is missing in some, and an animation may stand still at its first frame.",
		Remedy:  "Make it PNG or JPEG: missivum fix does it for the template's own pictures, missivum picture fit for others.",
		Failing: `<img src="pennant.svg" alt="Pennant" width="120" height="40">Brackwater`,
		Passing: `<img src="fit.png" alt="Ferry" width="120" height="40">Brackwater`,
		Run:     pictureFormat,
	},
	{
		ID: "picture-dark", Title: "Picture that vanishes on a dark background",
		Why:     "In dark mode the background behind a see-through picture is dark while the picture stays as it is: dark lines and letters on it are gone.",
		Remedy:  "Give it a light outline, as missivum fix does for the template's own pictures, or a plate with missivum picture dark.",
		Failing: `<img src="dark.png" alt="Ferry" width="120" height="40">Brackwater`,
		Passing: `<img src="fit.png" alt="Ferry" width="120" height="40">Brackwater`,
		Run:     pictureDark,
	},
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
		ID: "picture-data", Title: "Picture written into the source",
		Why:     "A data address takes the room of the whole picture in the signature's length, and several clients drop it.",
		Remedy:  "Host the picture, or carry it beside the signature with data-picture.",
		Failing: `<img src="data:image/gif;base64,R0lGODlhAQABAAAAACw=" alt="Brackwater" width="1" height="1">Brackwater`,
		Passing: `<img src="https://pictures.brackwater.example/dot.gif" alt="Brackwater" width="1" height="1">Brackwater`,
		Fix:     writtenOut,
	},
	{
		ID: "picture-alt", Title: "Missing alternative text",
		Why:     "While pictures are blocked, and for readers who hear the message, the alternative text is all there is.",
		Remedy:  `Write alt="..." with what the picture says; alt="" when it is only decoration and not a link.`,
		Failing: `<img src="https://pictures.brackwater.example/logo.png" width="120" height="40">Brackwater`,
		Passing: `<img src="https://pictures.brackwater.example/line.png" alt="" width="120" height="2">Brackwater`,
		Run:     pictureAlt,
	},
	{
		ID: "picture-only", Title: "The whole signature is pictures",
		Why:     "Nothing is left while pictures are blocked, nothing can be copied or dialled, and spam filters count it against the message.",
		Remedy:  "Type names, numbers and links as text; keep pictures for logo and banner.",
		Failing: `<img src="https://pictures.brackwater.example/card.png" alt="Card" width="400" height="160">`,
		Passing: `<p>{{ cn }}</p><img src="https://pictures.brackwater.example/logo.png" alt="Brackwater" width="120" height="40">`,
		Run:     pictureOnly,
	},
	{
		ID: "block-in-inline", Title: "Block inside an inline element",
		Why:     "Browsers and word processors close the inline element, or split it, when the block begins; fonts, colours and links end there.",
		Remedy:  "Put the inline element inside the block.",
		Failing: `<span style="color: #123456"><div>Harbour office</div></span>`,
		Passing: `<div><span style="color: #123456">Harbour office</span></div>`,
		Fix:     turnedInsideOut,
	},
	{
		ID: "document-tags", Title: "html, head or body in a fragment",
		Why:     "A signature stands inside a message that has these tags already; a second set is removed or breaks what is around it.",
		Remedy:  "Take the tags out and keep what is between them.",
		Failing: `<table><tr><td><html><body><p>Harbour office</p></body></html></td></tr></table>`,
		Passing: `<table><tr><td><p>Harbour office</p></td></tr></table>`,
		Run:     bareDocumentTags,
		Fix:     withoutDocumentTags,
	},
	{
		ID: "active-content", Title: "Script, form or event handler",
		Why:     "No client runs programs in a message; many remove them, and some refuse or mark the whole message.",
		Remedy:  "Take it out. A link is all that works.",
		Failing: `<p onclick="dial()">Harbour office</p>`,
		Passing: `<p><a href="tel:+441632960100">Harbour office</a></p>`,
		Run:     scriptAddresses,
		Fix:     withoutProgram,
	},
	{
		ID: "character-set", Title: "Characters that depend on the character set",
		Why:     "Where a client reads the file in another character set than it was written in, these characters turn into two or three wrong ones.",
		Remedy:  `Declare <meta charset="utf-8"> in a head, or write the character as a reference.`,
		Failing: `<p>Port office · Saltmouth</p>`,
		Passing: `<p>Port office &middot; Saltmouth</p>`,
		Run:     characterSet,
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
		ID: "telephone-number", Title: "Telephone number that cannot be understood",
		Why:     "What is no number cannot be written the common way, and a telephone does not dial it.",
		Remedy:  "Correct the number in the directory, or show the field without phone and dial.",
		Failing: `<p data-needs="telephoneNumber">{{ telephoneNumber | phone }}</p>`,
		Passing: `<p data-needs="telephoneNumber">{{ telephoneNumber }}</p>`,
		Run:     telephoneNumbers,
	},
	{
		ID: "date-value", Title: "Day that cannot be understood",
		Why:     "What is no day cannot be written in the person's language and is shown as the directory has it.",
		Remedy:  "Correct the day in the directory (2027-03-14 or 20270314093000Z), or show the field without date.",
		Failing: `<p data-needs="title">Since {{ title | date 'long' }}</p>`,
		Passing: `<p data-needs="hireDate">Since {{ hireDate | date 'long' }}</p>`,
		Run:     dateValues,
	},
	{
		ID: "often-blank", Title: "Field that nearly everybody lacks",
		Why:     "A field that is blank for nearly everybody is often one that was spelt or mapped wrongly, and the signature was judged by the few who have it.",
		Remedy:  "Look at how the directory's columns are mapped. If it is meant so, set oftenBlank in template.yaml to the share in percent that is expected.",
		Failing: `<p>Fax {{ facsimileTelephoneNumber | or '01632 960199' }}</p>`,
		Passing: `<p>{{ cn }}</p>`,
		Run:     oftenBlank,
	},
	{
		ID: "blank-field", Title: "Label or separator left beside a blank field",
		Why:     "A field that is blank for some people takes only itself away: the label, the separator, the line or the link around it stays.",
		Remedy:  "Put data-needs with the field's name on the element that holds field and label.",
		Failing: `<p>Mobile: {{ mobile | phone }}</p>`,
		Passing: `<p data-needs="mobile">Mobile: {{ mobile | phone }}</p>`,
		Run:     blankField,
	},
}

// bareStyleSheet: a file that may be pasted as it stands has not been through the inlining.
func bareStyleSheet(p *Pass) {
	if !p.Template.Bare || p.Prepared.Styles.Inlined == 0 {
		return
	}
	for _, n := range p.Source.Elements("style") {
		p.ReportWith(n.Open, client.Note,
			fmt.Sprintf("A paste of this file as it stands loses its style sheet; filled from here, %d rules stand on the elements.", p.Prepared.Styles.Inlined),
			"Give out what missivum fill writes, not this file.")
		return
	}
}

func bareDocumentTags(p *Pass) {
	tags := p.Source.Elements("html", "body")
	if !p.Template.Bare || len(tags) == 0 {
		return
	}
	for _, n := range client.MisplacedDocumentTags(p.Source) {
		if n == tags[0] {
			return // told as a fault of its own
		}
	}
	p.ReportWith(tags[0].Open, client.Note, "<"+tags[0].Name+"> goes with a paste of this file's source; the fragment form leaves it out.",
		"Give out the fragment: missivum fill --form fragment.")
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
			if a.Name != "href" && a.Name != "src" && a.Name != "background" || n.Is("link", "script") {
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
		strings.HasPrefix(low, "/users/") || strings.HasPrefix(low, "/home/") || strings.HasPrefix(low, "http://localhost") || strings.HasPrefix(low, "https://localhost") || strings.HasPrefix(low, "http://127.")
}

// placeholder recognises addresses that somebody meant to fill in later.
func placeholder(value string) bool {
	low := strings.ToLower(strings.TrimRight(value, "/"))
	switch low {
	case "", "#", "about:blank", "http:", "https:", "mailto:", "tel:", "todo", "tbd", "xxx", "url", "link", "https://#", "http://#":
		return true
	}
	return strings.HasPrefix(low, "#") || strings.Contains(low, "://example.com") || strings.Contains(low, "://www.example.com") || strings.Contains(low, "yourdomain") || strings.Contains(low, "your-company")
}

func addressRelative(p *Pass) {
	for _, a := range p.addresses() {
		if placeholder(a.value) || local(a.value) || schemeOf(a.value) != "" {
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
		p.ReportFix(a.attr.Span, client.Breaks, message, p.fullAddress(a))
		p.findings[len(p.findings)-1].Remedy = remedy
	}
}

func addressLocal(p *Pass) {
	for _, a := range p.addresses() {
		if local(a.value) {
			p.Report(a.attr.Span, client.Breaks, fmt.Sprintf("%s lies on a disk that the reader does not have.", quote(a.value)))
		}
	}
}

func scriptAddresses(p *Pass) {
	for _, a := range p.addresses() {
		if s := schemeOf(a.value); s == "javascript" || s == "vbscript" {
			p.Report(a.attr.Span, client.Breaks, "A "+s+": address is a program; no client runs it.")
		}
	}
}

func linkTarget(p *Pass) {
	for _, a := range p.addresses() {
		if a.attr.Name == "href" && a.node.Is("a", "area") && placeholder(a.value) {
			message := fmt.Sprintf("The link address %s is a placeholder.", quote(a.value))
			if a.value == "" {
				message = "The link has no address."
			}
			p.Report(a.attr.Span, client.Breaks, message)
		}
	}
	for _, a := range p.addresses() {
		if message := undialled(a.value); message != "" {
			p.ReportFix(a.attr.Span, client.Degrades, message, p.dialled(a))
			p.findings[len(p.findings)-1].Remedy = "Write tel: with a plus sign and digits only, or mailto: with a mail address."
		}
	}
	unsafeAddresses(p)
	for _, n := range p.Doc.Root.Elements("a") {
		if _, ok := n.Attr("href"); ok && strings.TrimSpace(n.TextContent()) == "" && len(n.Elements("img")) == 0 {
			p.Report(n.Open, client.Degrades, "The link has no text and no picture: nobody can see or press it.")
		}
	}
}

// undialled says what is wrong with a telephone or mail link that is written out.
func undialled(value string) string {
	rest, found := strings.CutPrefix(strings.ToLower(value), "tel:")
	switch {
	case found && rest != "" && !field.HasField(rest) && strings.Trim(rest, "+0123456789-.()") != "":
		return fmt.Sprintf("%s holds more than digits; some telephones dial only a part of it, or nothing.", quote(value))
	case strings.HasPrefix(strings.ToLower(value), "mailto:") && len(value) > len("mailto:") && !strings.Contains(value, "@") && !field.HasField(value):
		return fmt.Sprintf("%s names no mail address.", quote(value))
	}
	return ""
}

// quote puts a text of the source between quotes as it stands.
func quote(s string) string { return `"` + shorten(s) + `"` }

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
			p.ReportWith(href.Span, client.Breaks,
				fmt.Sprintf("%s is no web, mail or telephone address for %s; their link is left empty.", e.Field, p.named(who)),
				"Correct the value in the directory, or write the beginning of the address into the template.")
		}
	}
}

// telephoneNumbers finds people whose telephone number cannot be understood where it is shown or dialled
// as one.
func telephoneNumbers(p *Pass) {
	if p.People == nil {
		return
	}
	country, _, _ := p.People.Schema.Column("c")
	p.misread((*field.Expr).Telephone, func(e *field.Expr, someone *person.Person) bool {
		return !p.Numbers.Dialable(e.Raw(someone), someone.At(country), p.Template.Settings.Country)
	}, "cannot be understood as a telephone number for %s; it is shown as it stands and cannot be dialled.")
}

func dateValues(p *Pass) {
	if p.People == nil {
		return
	}
	p.misread((*field.Expr).Day, func(e *field.Expr, someone *person.Person) bool {
		value := person.Clean(e.Raw(someone))
		_, ok := field.ParseDay(value)
		return value != "" && !ok
	}, "cannot be understood as a day for %s; it is shown as it stands.")
}

// misread reports each field that is meant to be of a kind and is not for some people.
func (p *Pass) misread(kind func(*field.Expr) bool, wrong func(*field.Expr, *person.Person) bool, message string) {
	reported := map[string]bool{}
	for _, e := range p.Fields.Exprs(p.Doc.Root) {
		if reported[e.Field] || !kind(e) {
			continue
		}
		reported[e.Field] = true
		if who := p.whose(func(someone *person.Person) bool { return wrong(e, someone) }); len(who) > 0 {
			p.Report(e.Span, client.Degrades, e.Field+" "+fmt.Sprintf(message, p.named(who)))
		}
	}
}

// oftenBlankShare is from how many percent of the people on a blank field is told, unless the template
// says otherwise.
const oftenBlankShare = 95

func oftenBlank(p *Pass) {
	if p.People == nil || len(p.People.People) == 0 {
		return
	}
	share := oftenBlankShare
	if p.Template.Settings.OftenBlank > 0 {
		share = p.Template.Settings.OftenBlank
	}
	reported := map[string]bool{}
	for _, e := range p.Fields.Exprs(p.Doc.Root) {
		if len(e.Fields) == 0 || reported[e.Field] {
			continue
		}
		reported[e.Field] = true
		who := p.whose(func(someone *person.Person) bool { return e.Raw(someone) == "" })
		if 100*len(who) >= share*len(p.People.People) {
			p.Report(e.Span, client.Note, fmt.Sprintf("%s is blank for %s; %d %% or more is told.", e.Field, p.named(who), share))
		}
	}
}

func characterSet(p *Pass) {
	if _, ok := compose.Charset(p.Source); ok {
		return
	}
	count, firstAt := 0, -1
	for i, r := range p.Template.Source {
		if r < utf8.RuneSelf || r == '\ufeff' {
			continue
		}
		count++
		if firstAt < 0 {
			firstAt = i
		}
	}
	if count == 0 {
		return
	}
	r, size := utf8.DecodeRuneInString(p.Template.Source[firstAt:])
	message := fmt.Sprintf("%q is outside ASCII and the source declares no character set.", string(r))
	if count > 1 {
		message = fmt.Sprintf("%q and %d more characters are outside ASCII, and the source declares no character set.", string(r), count-1)
	}
	p.ReportFix(markup.Span{Start: firstAt, End: firstAt + size}, client.Degrades, message, references(p))
	p.findings[len(p.findings)-1].Remedy = fmt.Sprintf("Declare <meta charset=\"utf-8\"> in a head, or write the character as a reference: &#%d;.", r)
}
