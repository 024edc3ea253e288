package check

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"missivum/core/client"
	"missivum/core/field"
	"missivum/core/markup"
	"missivum/core/person"
	"missivum/core/picture"
	"missivum/core/style"
)

// leftoverChecks look for what pictures, distances and one person's values leave behind.
var leftoverChecks = []*Check{
	{
		ID: "picture-source", Title: "Picture without an address that a message has",
		Why:     "A part of another message (cid:), a page's memory (blob:), or nothing: whoever gets the message sees an empty frame.",
		Remedy:  "Write the address of a hosted picture, or put the file into the template and name it with data-picture.",
		Failing: `<img src="cid:image001.png@01DA" alt="Brackwater" width="120" height="40"><span>Harbour office</span>`,
		Passing: `<img src="https://p.brackwater.example/a.png" alt="Brackwater" width="120" height="40"><span>Harbour office</span>`,
		Run:     pictureSources,
	},
	{
		ID: "margin-lost", Title: "Margin where an engine takes none",
		Why:    "The word-processor engine takes no margin on pictures, and hardly any on tables.",
		Remedy: "Make the distance by the padding of a table cell.",
		Failing: `<img src="https://p.brackwater.example/a.png" alt="Brackwater" width="120" height="40" ` +
			`style="margin: 0 12px 0 0"><span>Bridge</span>`,
		Passing: `<table role="presentation" cellpadding="0" cellspacing="0"><tr><td style="padding: 0 12px 0 0">Bridge</td></tr></table>`,
	},
	{
		ID: "border-spacing", Title: "Distance of cells by a style",
		Why:    "The word-processor engine does not take border-spacing; it takes the attribute cellspacing.",
		Remedy: "Write cellspacing on the table.",
		Failing: `<table role="presentation" cellpadding="0" cellspacing="0" style="border-collapse: separate; ` +
			`border-spacing: 8px"><tr><td>Bridge</td></tr></table>`,
		Passing: `<table role="presentation" cellpadding="0" cellspacing="8"><tr><td>Bridge</td></tr></table>`,
	},
	{
		ID: "columns", Title: "Text in columns",
		Why:     "No engine of a mail client but a web engine sets columns: the text stands in one.",
		Remedy:  "Make the columns the cells of a table.",
		Failing: `<div style="columns: 2">Harbour office, Saltmouth</div>`,
		Passing: `<table role="presentation" cellpadding="0" cellspacing="0"><tr><td>Harbour office</td><td>Saltmouth</td></tr></table>`,
		Run: func(p *Pass) {
			p.declarations(func(n *markup.Node, d markup.Declaration) {
				if slices.Contains([]string{"columns", "column-count", "column-width"}, d.Property) && d.Value != "auto" && d.Value != "1" {
					p.Report(Finding{Span: d.Span, Severity: client.Degrades, Message: fmt.Sprintf("%s: %s is lost.", d.Property, d.Value)})
				}
			})
		},
	},
	{
		ID: "slice-gap", Title: "Line break between pieces of a picture",
		Why:    "A line has room for letters below and above: a gap shows between the pieces, of another height in each client.",
		Remedy: "Put the pieces into the cells of a table without distances; missivum picture slice does it.",
		Failing: `<img src="https://p.brackwater.example/1.png" alt="Ferry" width="120" height="40"><br><img ` +
			`src="https://p.brackwater.example/2.png" alt="" width="120" height="40"><span>Bridge</span>`,
		Passing: `<img src="https://p.brackwater.example/1.png" alt="Ferry" width="120" height="40"><span>Bridge</span>`,
		Run:     sliceGaps,
	},
	{
		ID: "label-left", Title: "Label outside the element that goes with its field",
		Why:     "Where the field is blank its element is left out, and the label stays, with nothing behind it.",
		Remedy:  "Put the label into the element with data-needs.",
		Failing: `<p style="margin: 0">Mobile: <span data-needs="mobile">{{ mobile | phone }}</span></p>`,
		Passing: `<p style="margin: 0" data-needs="mobile">Mobile: {{ mobile | phone }}</p>`,
		Run:     labelsLeft,
	},
	{
		ID: "value-left", Title: "One person's value in everybody's signature",
		Why: "The template was made from somebody's signature, and a name, number, mail address or photo of " +
			"theirs is still in it: everybody gets it.",
		Remedy:  "Write the field in its place.",
		Failing: `<p style="margin: 0">{{ cn }}</p><p style="margin: 0"><a href="mailto:maren.lind@brackwater.example">Mail</a></p>`,
		Passing: `<p style="margin: 0">{{ cn }}</p><p style="margin: 0"><a href="mailto:{{ mail }}">Mail</a></p>`,
		Run:     valuesLeft,
	},
	{
		ID: "number-reversed", Title: "Number that is turned around in text from right to left",
		Why:     "In such text the plus sign and the groups of a number change sides: +44 1632 960544 reads 960544 1632 44+.",
		Remedy:  `Put the number into a span with dir="ltr".`,
		Failing: `<p dir="rtl" style="margin: 0">הגשר {{ telephoneNumber | phone }}</p>`,
		Passing: `<p dir="rtl" style="margin: 0">הגשר <span dir="ltr">{{ telephoneNumber | phone }}</span></p>`,
		Run:     reversedNumbers,
	},
}

// drawnNowhere are the endings of pictures that hosts serve and that some client does not draw.
var drawnNowhere = map[string]string{".svg": picture.SVG, ".svgz": picture.SVG, ".webp": "webp", ".avif": "avif",
	".heic": "heic", ".heif": "heic",
	".bmp": "bmp", ".tif": "tiff", ".tiff": "tiff", ".jxl": "jxl", ".ico": "ico", ".pdf": "pdf", ".eps": "eps", ".emf": "emf", ".wmf": "wmf"}

// hostedFormats finds pictures by address in formats that clients do not draw, for the check picture-format.
func hostedFormats(p *Pass) {
	for _, a := range p.pictureAddresses() {
		format := drawnNowhere[strings.ToLower(path.Ext(a.Path))]
		if q := a.Query(); format == "" && slices.Contains([]string{"webp", "avif", "svg"}, strings.ToLower(q.Get("format")+q.Get("fm"))) {
			format = strings.ToLower(q.Get("format") + q.Get("fm"))
		}
		if format == "" {
			continue
		}
		var missing []string
		for _, profile := range p.Profiles {
			if profile.Pictures != nil && profile.Form == "html" && !slices.Contains(profile.Pictures.Formats.Rendered, format) {
				missing = append(missing, profile.ID)
			}
		}
		if len(missing) > 0 {
			p.Report(Finding{
				Clients: missing, Span: a.span, Severity: client.Breaks,
				Message: fmt.Sprintf("The picture at %s is %s by its address and is not rendered.", quote(a.Host+a.Path), strings.ToUpper(format)),
				Remedy:  "Host it as PNG or JPEG.",
			})
		}
	}
}

// pictureSources finds what the check picture-source reports.
func pictureSources(p *Pass) {
	for _, n := range p.Source.Elements("img") {
		if n.Attribute(field.AttrPicture) != nil {
			continue
		}
		src := n.Attribute("src")
		if src == nil {
			message := "The picture has no src."
			for _, a := range n.Attrs {
				if a.Name == "srcset" || a.Name == "data-src" || a.Name == "data-original" || a.Name == "data-lazy-src" {
					message = fmt.Sprintf("The picture has no src; %s is not read in a message.", a.Name)
				}
			}
			p.Report(Finding{Span: n.Open, Severity: client.Breaks, Message: message})
			continue
		}
		value := strings.TrimSpace(src.Value)
		says := ""
		switch scheme := schemeOf(value); {
		case value == "" || value == "#" || value == "about:blank":
			says = "The picture's address is empty."
		case scheme == "cid":
			says = "cid: is a part of the message from which the signature was taken; in others there is none."
		case scheme != "" && !slices.Contains(pictureSchemes, scheme) && !local(value) && !nearly(scheme, "https", "http"):
			says = fmt.Sprintf("%s: is known to one program on one device.", scheme)
		}
		if says != "" {
			p.Report(Finding{Span: src.Span, Severity: client.Breaks, Message: says})
		}
	}
}

// sliceGaps finds what the check slice-gap reports.
func sliceGaps(p *Pass) {
	pictureOf := func(n *markup.Node) *markup.Node {
		for n != nil && n.Is("a", "span") && len(n.Children) == 1 {
			n = n.Children[0]
		}
		if n != nil && n.Is("img") {
			return n
		}
		return nil
	}
	p.Doc.Root.Walk(func(n *markup.Node) bool {
		var seen []*markup.Node // without the white space
		for _, c := range n.Children {
			if c.Kind == markup.Element || c.Kind == markup.Text && strings.TrimSpace(c.Data) != "" {
				seen = append(seen, c)
			}
		}
		for i := 2; i < len(seen); i++ {
			a, b := pictureOf(seen[i-2]), pictureOf(seen[i])
			if a != nil && b != nil && seen[i-1].Is("br") && a.Pixels("width") == b.Pixels("width") && a.Pixels("width") >= 100 {
				p.Report(Finding{Span: seen[i-1].Open, Severity: client.Degrades, Message: "A gap shows between the two pieces."})
			}
		}
		for _, run := range rowsOfPictures(n.Children) {
			if p.slices(run, n) {
				p.Report(Finding{Span: run[0].Open, Severity: client.Degrades, Message: fmt.Sprintf(
					"The white space between these %d pieces shows as gaps, and the last one may slip below.", len(run))})
			}
		}
		return n.Kind != markup.Conditional
	})
}

// rowsOfPictures are the pictures that stand beside each other with nothing but white space between them, of one height each.
func rowsOfPictures(children []*markup.Node) [][]*markup.Node {
	var rows [][]*markup.Node
	var row []*markup.Node
	spaced := false // since the last picture of the row
	end := func() {
		if len(row) > 1 {
			rows = append(rows, row)
		}
		row, spaced = nil, false
	}
	for _, c := range children {
		switch {
		case c.Kind == markup.Text && strings.TrimSpace(c.Data) == "":
			spaced = true
		case c.Is("img") && (len(row) == 0 || spaced && c.Pixels("height") == row[0].Pixels("height")):
			row, spaced = append(row, c), false
		default:
			end()
			if c.Is("img") {
				row = []*markup.Node{c}
			}
		}
	}
	end()
	return rows
}

// slices reports whether pictures beside each other are pieces of one: together they are as wide as what they stand in, or as
// another picture there.
func (p *Pass) slices(row []*markup.Node, in *markup.Node) bool {
	sum := 0
	for _, img := range row {
		width := img.Pixels("width")
		if width <= 0 || img.Pixels("height") <= 0 {
			return false
		}
		sum += width
	}
	if sum < 100 {
		return false // icons
	}
	for n := in; n != nil && n.Kind == markup.Element; n = n.Parent {
		width := n.Pixels("width")
		if declared, ok := n.Declared("width"); ok && width <= 0 {
			px, _ := style.Length(declared, 16)
			width = int(px)
		}
		if width > 0 {
			return width == sum
		}
	}
	return slices.ContainsFunc(in.Elements("img"), func(other *markup.Node) bool {
		return !slices.Contains(row, other) && other.Pixels("width") == sum
	})
}

// pictureSchemes are those of addresses that other checks answer for.
var pictureSchemes = []string{"http", "https", "ftp", "data", "file", "javascript", "vbscript"}

// labelsLeft finds what the check label-left reports.
func labelsLeft(p *Pass) {
	for _, n := range p.Source.Elements() {
		needs := n.Attribute(field.AttrNeeds)
		if needs == nil || n.Is("td", "th", "tr", "table") || n.Parent == nil {
			continue
		}
		at := slices.Index(n.Parent.Children, n)
		if at < 1 {
			continue
		}
		before := n.Parent.Children[at-1]
		if before.Kind == markup.Text && strings.TrimSpace(before.Data) == "" && at >= 2 {
			before = n.Parent.Children[at-2]
		}
		text := strings.TrimRight(before.Data, " \u00a0\r\n\t")
		if before.Kind == markup.Element && before.Is("b", "strong", "span", "em", "i", "font") && before.Attribute(field.AttrNeeds) == nil &&
			!p.showsField(before) {
			text = strings.TrimSpace(before.TextContent())
		} else if before.Kind != markup.Text {
			continue
		}
		if !strings.HasSuffix(text, ":") || len(p.Fields.Exprs(n)) == 0 {
			continue
		}
		if i := strings.LastIndexAny(text[:len(text)-1], "|\n,;"); i >= 0 {
			text = text[i+1:]
		}
		names := strings.Fields(strings.ReplaceAll(needs.Value, ",", " "))
		if p.Fields == nil || p.People == nil || len(names) == 0 {
			continue
		}
		who := p.whose(func(someone *person.Person) bool { return p.People.Get(someone, names[0]) == "" })
		if len(who) == 0 || strings.Contains(needs.Value, " or ") {
			continue
		}
		p.Report(Finding{
			Span: before.Open, Severity: client.Degrades, People: who,
			Message: fmt.Sprintf("%s stays for %s, whose %s is blank.", quote(strings.TrimSpace(text)), p.named(who), names[0]),
		})
	}
}

// leastDigits is how many digits a written number has at least to be held against those of the directory.
const leastDigits = 7

// ownValues are what the directory has of one person each, in small letters, with the person's mail address.
type ownValues struct{ names, mails, numbers map[string]string }

// ownValuesOf collects names, mail addresses, and those numbers that one person alone has.
func ownValuesOf(people *person.Directory) ownValues {
	own := ownValues{map[string]string{}, map[string]string{}, map[string]string{}}
	shared := map[string]int{}
	for i := range people.People {
		someone := &people.People[i]
		mail := strings.ToLower(people.Get(someone, "mail"))
		if mail != "" {
			own.mails[mail] = mail
		}
		for _, f := range []string{"displayName", "cn"} {
			if name := strings.ToLower(strings.Join(strings.Fields(people.Get(someone, f)), " ")); strings.Contains(name, " ") {
				own.names[name] = mail
			}
		}
		for _, f := range []string{"mobile", "telephoneNumber"} {
			if d := lastDigits(people.Get(someone, f)); len(d) >= leastDigits {
				own.numbers[d] = mail
				shared[d]++
			}
		}
	}
	for d, count := range shared {
		if count > 1 {
			delete(own.numbers, d)
		}
	}
	return own
}

// ofAttribute says whose value an attribute has; blank for nobody's.
func (own ownValues) ofAttribute(a *markup.Attr) (mail string, number bool) {
	value := strings.ToLower(strings.TrimSpace(a.Value))
	if field.HasField(value) {
		return "", false
	}
	switch scheme := schemeOf(value); {
	case a.Name != "href" && a.Name != "src" && a.Name != "alt" && a.Name != "title":
	case scheme == "mailto":
		address, _, _ := strings.Cut(value[len("mailto:"):], "?")
		return own.mails[strings.TrimSpace(address)], false
	case scheme == "tel" || scheme == "sms" || scheme == "callto":
		return own.numbers[lastDigits(value)], true
	case a.Name == "src":
		file := strings.TrimSuffix(path.Base(value), path.Ext(value))
		most := 0
		for candidate := range own.mails {
			local, _, _ := strings.Cut(candidate, "@")
			longer := len(local) > most || len(local) == most && candidate < mail
			if longer && strings.Contains(local, ".") && strings.HasPrefix(file, local) {
				mail, most = candidate, len(local)
			}
		}
		return mail, false
	case a.Name == "alt" || a.Name == "title":
		return own.names[strings.Join(strings.Fields(value), " ")], false
	}
	return "", false
}

// ofText says whose value a text is; blank for nobody's.
func (own ownValues) ofText(text string) (mail string, number bool) {
	if field.HasField(text) {
		return "", false
	}
	text = strings.ToLower(strings.Join(strings.Fields(text), " "))
	if mail := own.names[strings.Trim(text, ".,;:|-– ")]; mail != "" {
		return mail, false
	}
	if mail := own.mails[strings.Trim(text, ".,;:|<>() ")]; mail != "" {
		return mail, false
	}
	if strings.Count(text, " ") < 8 {
		return own.numbers[lastDigits(text)], true
	}
	return "", false
}

// valuesLeft finds what the check value-left reports.
func valuesLeft(p *Pass) {
	if p.People == nil || len(p.People.People) < 2 {
		return
	}
	type leftover struct {
		span       markup.Span
		what, mail string
		number     bool
	}
	var list []leftover
	add := func(span markup.Span, what, mail string, number bool) {
		if mail != "" {
			list = append(list, leftover{span, strings.TrimSpace(what), mail, number})
		}
	}
	own := ownValuesOf(p.People)
	p.Source.Root.Walk(func(n *markup.Node) bool {
		switch {
		case n.Is("style", "script", "head"):
			return false
		case n.Kind == markup.Text:
			mail, number := own.ofText(n.Data)
			add(n.Open, n.Data, mail, number)
		}
		for i := range n.Attrs {
			mail, number := own.ofAttribute(&n.Attrs[i])
			add(n.Attrs[i].Span, n.Attrs[i].Value, mail, number)
		}
		return true
	})
	for _, l := range list {
		f := Finding{Span: l.span, Severity: client.Degrades, Message: fmt.Sprintf("%s is %s's own; everybody gets it.", quote(l.what), l.mail)}
		if l.number && !slices.ContainsFunc(list, func(o leftover) bool { return o.mail == l.mail && !o.number }) {
			f.Severity = client.Note // it may be the office's, which stands with one person in the directory
			f.Message = fmt.Sprintf("%s is %s's number in the directory, and nobody else's; everybody gets it.", quote(l.what), l.mail)
		}
		p.Report(f)
	}
}

// lastDigits are the last nine digits of a number, which are the same with and without its country.
func lastDigits(text string) string {
	d := strings.TrimPrefix(strings.Map(keepDigits, text), "+")
	return d[max(0, len(d)-9):]
}

// reversedNumbers finds what the check number-reversed reports.
func reversedNumbers(p *Pass) {
	for _, n := range p.Doc.Root.Elements() {
		for _, c := range n.Children {
			if c.Kind != markup.Text || !turned(n, c.Data) {
				continue
			}
			for _, span := range p.numbersIn(c) {
				h := p.Edit()
				h.Insert(span.Start, `<span dir="ltr">`)
				h.Insert(span.End, "</span>")
				p.Report(Finding{
					Span: span, Severity: client.Degrades, Message: "The number's plus sign and groups change sides here.",
					Fix: fixOf(h, `Put it into a span with dir="ltr"`),
				})
			}
		}
	}
}

// numbersIn are the places of telephone numbers in a text, written out or by a field.
func (p *Pass) numbersIn(text *markup.Node) []markup.Span {
	var list []markup.Span
	raw := p.Source.Source[text.Open.Start:min(text.Open.End, len(p.Source.Source))]
	for _, at := range writtenNumber.FindAllStringIndex(raw, -1) {
		if number := strings.TrimRight(raw[at[0]:at[1]], " -/.("); len(strings.Map(keepDigits, number)) > leastDigits {
			list = append(list, markup.Span{Start: text.Open.Start + at[0], End: text.Open.Start + at[0] + len(number)})
		}
	}
	pieces, _ := p.Fields.TextPieces(text)
	for _, piece := range pieces {
		if piece.Expr != nil && slices.ContainsFunc(strings.Split(piece.Expr.Field, " or "), telephoneField) {
			list = append(list, piece.Expr.Span)
		}
	}
	return list
}

// writtenNumber is a telephone number as it is written out.
var writtenNumber = regexp.MustCompile(`\+\(?[0-9][0-9\-/.() \x{a0}]{6,}`)

// telephoneField reports whether a field is of telephone numbers.
func telephoneField(name string) bool {
	return slices.Contains([]string{"telephonenumber", "mobile", "facsimiletelephonenumber", "homephone", "pager",
		"ipphone"}, strings.ToLower(name))
}

// turned reports whether text in an element runs from right to left: by its direction, or by its letters where nothing is said.
func turned(n *markup.Node, text string) bool {
	for e := n; e != nil && e.Kind == markup.Element; e = e.Parent {
		if e.Is("bdi", "bdo") {
			return false
		}
		if bidi, _ := e.Declared("unicode-bidi"); strings.Contains(bidi, "isolate") || strings.Contains(bidi, "plaintext") {
			return false
		}
		if dir, ok := e.Attr("dir"); ok {
			return strings.EqualFold(strings.TrimSpace(dir), "rtl")
		}
		if direction, ok := e.Declared("direction"); ok {
			return direction == "rtl"
		}
	}
	return strings.ContainsFunc(text, rightToLeft)
}
