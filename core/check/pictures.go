package check

import (
	"encoding/base64"
	"fmt"
	"math"
	"net/netip"
	"net/url"
	"path"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"missivum/core/client"
	"missivum/core/compose"
	"missivum/core/field"
	"missivum/core/journey"
	"missivum/core/markup"
	"missivum/core/person"
	"missivum/core/picture"
	"missivum/core/style"
	"missivum/core/template"
)

// pictureChecks look at pictures and at how they are written.
var pictureChecks = []*Check{
	{
		ID: "picture-address", Title: "Picture that nobody can reach",
		Why: "A pasted signature, a mail rule and a MIME part show a hosted picture by its address. Without one that everybody can reach " +
			"there is an empty frame.",
		Remedy: "Set pictures.address in template.yaml to where the pictures are hosted, or carry them in the source: " +
			"pictures.delivery: {fragment: data}.",
		Failing: `<p>Brackwater <img src="{{ l }}" alt="Photo" width="72" height="72"></p>`,
		Passing: `<p>Brackwater <img src="https://pictures.brackwater.example/{{ l }}" alt="Photo" width="72" height="72"></p>`,
		Run:     reachedPictures,
	},
	{
		ID: "picture-size", Title: "Picture without width and height attributes",
		Why: "One engine takes the size from the attributes only and draws the true pixels without them; the " +
			"others cannot keep the room free while the picture is blocked.",
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
		Why: "Every client that shows pictures draws PNG, JPEG in screen colours and GIF; each other format is " +
			"missing in some, and an animation may stand still at its first frame.",
		Remedy:  "Make it PNG or JPEG: missivum fix does it for the template's own pictures, missivum picture fit for others.",
		Failing: `<img src="pennant.svg" alt="Pennant" width="120" height="40">Brackwater`,
		Passing: `<img src="fit.png" alt="Ferry" width="120" height="40">Brackwater`,
		Run:     pictureFormat,
	},
	{
		ID: "picture-dark", Title: "Picture that vanishes on a dark background",
		Why: "In dark mode the background behind a see-through picture is dark while the picture stays as it " +
			"is: dark lines and letters on it are gone.",
		Remedy:  "Give it a light outline, as missivum fix does for the template's own pictures, or a plate with missivum picture dark.",
		Failing: `<img src="dark.png" alt="Ferry" width="120" height="40">Brackwater`,
		Passing: `<img src="fit.png" alt="Ferry" width="120" height="40">Brackwater`,
		Run:     pictureDark,
	},
	{
		ID: "picture-data", Title: "Picture written into the source",
		Why:     "A data address takes up the space of the whole picture in the signature's length, and several clients drop it.",
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
		ID: "picture-border", Title: "Linked picture without a border of 0",
		Why:    "Some clients render a frame in the colour of links around a linked picture that says nothing.",
		Remedy: `Write border="0" on the picture.`,
		Failing: `<a href="https://www.brackwater.example/"><img src="https://p.brackwater.example/a.png" ` +
			`alt="Brackwater" width="120" height="40"></a><span>Harbour office</span>`,
		Passing: `<a href="https://www.brackwater.example/"><img src="https://p.brackwater.example/a.png" ` +
			`alt="Brackwater" width="120" height="40" border="0"></a><span>Harbour office</span>`,
		Fix: func(p *Pass, t Target) *Fix {
			h := p.Edit()
			for _, n := range t.Nodes {
				h.SetAttribute(n, "border", "0")
			}
			return fixOf(h, `Write border="0"`)
		},
	},
	{
		ID: "picture-sent-along", Title: "Hosted picture that the client carries in what it sends",
		Why: "One family of desktop clients fetches pictures by address while it sends and puts them into each message; they " +
			"weigh in it, may be listed as attachments, and a new file at the address changes nothing in what is sent.",
		Remedy: `Write nosend="1" on the picture: that family then leaves it where it is hosted. Others pay no heed to it or drop it.`,
		Failing: `<img src="https://p.brackwater.example/a.png" alt="Brackwater" width="120" height="40" border="0">` +
			`<span>Harbour office</span>`,
		Passing: `<img src="https://p.brackwater.example/a.png" alt="Brackwater" width="120" height="40" border="0" nosend="1">` +
			`<span>Harbour office</span>`,
		Run: pictureSentAlong,
	},
	{
		ID: "size-with-unit", Title: "Size attribute with a unit",
		Why:     "Sizes in attributes are plain numbers of px; the word-processor engine does not read one with a unit.",
		Remedy:  "Write the number alone.",
		Failing: `<img src="https://p.brackwater.example/a.png" alt="Brackwater" width="120px" height="40"><span>Harbour office</span>`,
		Passing: `<img src="https://p.brackwater.example/a.png" alt="Brackwater" width="120" height="40"><span>Harbour office</span>`,
		Run: func(p *Pass) {
			for _, n := range p.Source.Elements("img", "table", "td", "th") {
				for _, name := range []string{"width", "height"} {
					v, _ := n.Attr(name)
					number, ok := strings.CutSuffix(strings.ToLower(strings.TrimSpace(v)), "px")
					if _, err := strconv.Atoi(number); !ok || err != nil {
						continue
					}
					h := p.Edit()
					h.SetAttribute(n, name, number)
					p.Report(Finding{
						Span:     n.Attribute(name).Span,
						Severity: client.Degrades,
						Message:  fmt.Sprintf("%s=%q carries a unit.", name, v),
						Fix:      fixOf(h, "Write the number alone"),
					})
				}
			}
		},
	},
	{
		ID: "picture-size-differs", Title: "Attribute and style give different sizes",
		Why:    "Browsers take the style, the word-processor engine the attribute: the picture is larger in one of them.",
		Remedy: "Write the same size in both.",
		Failing: `<img src="https://p.brackwater.example/a.png" alt="Brackwater" width="240" height="80" ` +
			`style="width: 120px; height: 40px"><span>Harbour office</span>`,
		Passing: `<img src="https://p.brackwater.example/a.png" alt="Brackwater" width="120" height="40" ` +
			`style="width: 120px; height: 40px"><span>Harbour office</span>`,
		Run: func(p *Pass) {
			for _, n := range p.Doc.Root.Elements("img") {
				h := p.Edit()
				written := p.SourceNode(n)
				said := ""
				for _, name := range []string{"width", "height"} {
					value, _ := n.Declared(name)
					px, ok := style.Length(value, 0)
					if have := n.Pixels(name); ok && !strings.HasSuffix(value, "%") && have > 0 && int(px+0.5) != have &&
						written != nil && written.Attribute(name) != nil {
						said += fmt.Sprintf(" The %s is %d px by the attribute and %s by the style.", name, have, value)
						h.SetAttribute(written, name, strconv.Itoa(int(px+0.5)))
					}
				}
				if said != "" {
					p.Report(Finding{
						Span:     n.Open,
						Severity: client.Degrades,
						Message:  strings.TrimSpace(said),
						Fix:      fixOf(h, "Write the size that browsers show as the attribute"),
					})
				}
			}
		},
	},
}

// picturePixels finds what the check picture-pixels reports: true pixels unlike the display size.
func picturePixels(p *Pass) {
	for _, img := range p.Doc.Root.Elements("img") {
		shown := p.Prepared.PictureOf(img)
		if shown == nil || !journey.Sized(img) || shown.Format == picture.SVG {
			continue
		}
		width, height := img.Pixels("width"), img.Pixels("height")
		if width == 0 || height == 0 || picture.Fits(shown.Width, shown.Height, width, height) {
			continue
		}
		span := img.Open
		if a := img.Attribute("width"); a != nil && a.Span.Len() > 0 {
			span = a.Span
		}
		p.Report(Finding{
			Span:     span,
			Severity: client.Degrades,
			Message:  fmt.Sprintf("%s has %d x %d px but is shown at %d x %d px.", shown.File, shown.Width, shown.Height, width, height),
			Fix:      p.fitPicture(shown),
			Remedy: fmt.Sprintf("Make the file %d x %d px, or %d x %d px for sharp screens: missivum picture fit --width %d --height %d.",
				width, height, 2*width, 2*height, width, height),
		})
	}
}

// pictureFormat holds the template's pictures against the formats that each profile draws.
func pictureFormat(p *Pass) {
	hostedFormats(p)
	for _, img := range p.Doc.Root.Elements("img") {
		shown := p.Prepared.PictureOf(img)
		if shown == nil {
			continue
		}
		var missing, still []string
		for _, profile := range p.Profiles {
			switch pictures := profile.Pictures; {
			case pictures == nil:
			case !slices.Contains(pictures.Formats.Rendered, shown.Format):
				missing = append(missing, profile.ID)
			case shown.Frames > 1 && pictures.Formats.Animation == "first-frame":
				still = append(still, profile.ID)
			}
		}
		if len(missing) > 0 {
			p.Report(Finding{
				Clients:  missing,
				Span:     img.Open,
				Severity: client.Breaks,
				Message:  fmt.Sprintf("%s is %s and is not rendered.", shown.File, strings.ToUpper(shown.Format)),
				Fix:      p.convertPicture(shown),
			})
		}
		if len(still) > 0 {
			p.Report(Finding{
				Clients:  still,
				Span:     img.Open,
				Severity: client.Note,
				Message:  fmt.Sprintf("Of the %d frames of %s only the first is shown: it must say all that matters.", shown.Frames, shown.File),
			})
		}
		if shown.Colours == "cmyk" {
			p.Report(Finding{
				Span:     img.Open,
				Severity: client.Degrades,
				Message:  fmt.Sprintf("%s has printing colours (CMYK); clients render them wrongly or not at all.", shown.File),
				Fix:      p.fitPicture(shown),
			})
		}
	}
}

// pictureDark measures see-through pictures on the backgrounds of dark modes.
func pictureDark(p *Pass) {
	reported := map[string]bool{}
	for _, img := range p.Doc.Root.Elements("img") {
		shown := p.Prepared.PictureOf(img)
		if shown == nil || !shown.Transparent || reported[shown.File] {
			continue
		}
		read, err := picture.Read(shown.Data)
		if err != nil || !read.Transparent {
			continue
		}
		sights := picture.Sights(read.Image())
		if backgrounds := picture.Vanishes(sights); len(backgrounds) > 0 {
			reported[shown.File] = true
			var figures []string
			for _, s := range sights {
				figures = append(figures, fmt.Sprintf("%.0f %% on %s (%s)", 100*s.Seen, s.Background, s.Colour))
			}
			p.Report(Finding{
				Span:     img.Open,
				Severity: client.Degrades,
				Message: fmt.Sprintf("%s vanishes on a %s background: of its edges one sees %s.", shown.File,
					strings.Join(backgrounds, " and "), strings.Join(figures, ", ")),
				Fix: p.outlinePicture(shown, backgrounds),
			})
		}
	}
}

// pictureAlt finds what the check picture-alt reports: missing alternative text.
func pictureAlt(p *Pass) {
	for _, img := range p.Doc.Root.Elements("img") {
		alt, ok := img.Attr("alt")
		link := img.Inside("a")
		switch {
		case !ok:
			p.Report(Finding{
				Span:     img.Open,
				Severity: client.Degrades,
				Message:  "The picture has no alternative text.",
				Fix:      p.silentLine(img),
			})
		case strings.TrimSpace(alt) == "" && link != nil && strings.TrimSpace(link.TextContent()) == "":
			p.Report(Finding{
				Span:     img.Open,
				Severity: client.Degrades,
				Message:  "The picture is all of a link and its alternative text is empty: blocked, the link is gone.",
			})
		}
	}
}

// enoughText is how many letters and digits make a signature more than pictures; a sign that is a syllable or a word counts for
// several.
const enoughText = 12

// pictureOnly finds what the check picture-only reports: the whole signature is pictures.
func pictureOnly(p *Pass) {
	reported := map[int]bool{}
	for _, variant := range p.Template.Variants() {
		var first *markup.Node
		letters := 0
		p.Doc.Root.Walk(func(n *markup.Node) bool {
			if n.Kind == markup.Conditional || n.Is("head", "style", "script") || n.Kind == markup.Element && !p.Fields.In(n, variant) {
				return false
			}
			if n.Is("img") && first == nil {
				first = n
			}
			if n.Kind == markup.Text {
				if field.HasField(n.Data) {
					letters += enoughText
				}
				for _, r := range markup.Unescape(n.Data) {
					switch {
					case unicode.In(r, unicode.Han, unicode.Hiragana, unicode.Katakana, unicode.Hangul):
						letters += enoughText / 3
					case unicode.IsLetter(r), unicode.IsDigit(r):
						letters++
					}
				}
			}
			return true
		})
		if first != nil && letters < enoughText && !reported[first.Open.Start] {
			reported[first.Open.Start] = true
			f := Finding{
				Span:     first.Open,
				Severity: client.Breaks,
				Message:  fmt.Sprintf("In the variant %q the signature is pictures only: no text is left when they are blocked.", variant),
			}
			if letters > 0 {
				f.Severity = client.Degrades
				f.Message = fmt.Sprintf("In the variant %q hardly any text is left when pictures are blocked.", variant)
			}
			p.Report(f)
		}
	}
}

// sizeAttributes writes the size that the styles give, or that of the template's picture.
func sizeAttributes(p *Pass, t Target) *Fix {
	n := t.First()
	width, height := n.Pixels("width"), n.Pixels("height")
	prepared := p.PreparedNode(n)
	if prepared == nil {
		return nil
	}
	for _, d := range prepared.Style {
		px, ok := style.Length(d.Value, 0)
		if !ok || strings.HasSuffix(d.Value, "%") || px <= 0 {
			continue
		}
		switch {
		case d.Property == "width" && width == 0:
			width = int(px + 0.5)
		case d.Property == "height" && height == 0:
			height = int(px + 0.5)
		}
	}
	if shown := p.Prepared.PictureOf(n); shown != nil && shown.Width > 0 && shown.Height > 0 {
		switch {
		case width == 0 && height == 0:
			return nil // its true pixels are seldom what is meant
		case height == 0:
			height = max(1, int(math.Round(float64(width)*float64(shown.Height)/float64(shown.Width))))
		case width == 0:
			width = max(1, int(math.Round(float64(height)*float64(shown.Width)/float64(shown.Height))))
		}
	}
	if width == 0 || height == 0 {
		return nil
	}
	h := p.Edit()
	if n.Pixels("width") != width {
		h.SetAttribute(n, "width", strconv.Itoa(width))
	}
	if n.Pixels("height") != height {
		h.SetAttribute(n, "height", strconv.Itoa(height))
	}
	return fixOf(h, fmt.Sprintf("Write width=\"%d\" and height=\"%d\"", width, height))
}

// thinnest is how high or wide, in px, a picture may be that can only be a line.
const thinnest = 4

// silentLine writes the empty alternative text on a picture that is a line.
func (p *Pass) silentLine(img *markup.Node) *Fix {
	n := p.SourceNode(img)
	thin := func(side string) bool { px := img.Pixels(side); return px > 0 && px <= thinnest }
	if n == nil || img.Inside("a") != nil || !thin("width") && !thin("height") {
		return nil
	}
	h := p.Edit()
	h.SetAttribute(n, "alt", "")
	return fixOf(h, "Write alt=\"\", since it is a line")
}

// sizeOfAll is the size in px at which all elements show a picture; false when they differ, when one has no size, or
// when the file is not the template's own to change.
func (p *Pass) sizeOfAll(shown *template.Picture) (width, height int, ok bool) {
	if p.Template.Bare || shown.From != "" {
		return 0, 0, false
	}
	for _, img := range p.Doc.Root.Elements("img") {
		if p.Prepared.PictureOf(img) != shown {
			continue
		}
		if p.hostedByContent(img) {
			return 0, 0, false
		}
		w, h := img.Pixels("width"), img.Pixels("height")
		if w == 0 || h == 0 || width > 0 && (w != width || h != height) {
			return 0, 0, false
		}
		width, height = w, h
	}
	return width, height, width > 0
}

// hostedByContent recognises an element whose address says which bytes it shows: it would go on showing the old ones.
func (p *Pass) hostedByContent(img *markup.Node) bool {
	_, named := img.Attr(field.AttrPicture)
	_, naming := p.Template.Hosting()
	src, _ := img.Attr("src")
	return !named && naming == template.ByContent && markup.SchemeOf(src) == "https"
}

// mostUneven is by how much the proportions of a file and of the place in which it is shown may differ, so that it can
// be fitted without a change that is seen.
const mostUneven = 0.02

// fitted is the recipe for a picture at a size; nil where its proportions are others.
func fitted(shown *template.Picture, width, height int) *picture.Recipe {
	even := shown.Format == picture.SVG || shown.Width == 1 && shown.Height == 1 // one colour
	if !even && math.Abs(float64(shown.Width*height)/float64(shown.Height*width)-1) > mostUneven {
		return nil
	}
	multiple := 1
	if shown.Format == picture.SVG || shown.Width >= 2*width {
		multiple = 2
	}
	recipe := &picture.Recipe{Width: width, Height: height, Multiple: multiple}
	if slices.Contains(picture.Mailable, shown.Format) {
		recipe.Format = shown.Format // as its name says
	}
	return recipe
}

// recipeFor is the recipe for a picture at the size in which all elements show it; nil where it is not to be drawn anew.
func (p *Pass) recipeFor(shown *template.Picture) *picture.Recipe {
	width, height, ok := p.sizeOfAll(shown)
	if !ok {
		return nil
	}
	return fitted(shown, width, height)
}

// fitPicture makes the file as large as it is shown, or twice that.
func (p *Pass) fitPicture(shown *template.Picture) *Fix {
	recipe := p.recipeFor(shown)
	if recipe == nil {
		return nil
	}
	return redrawn(p.Edit(), fmt.Sprintf("Fit %s to %d x %d px, with %s pixels", shown.File, recipe.Width, recipe.Height,
		times(recipe.Multiple)), Redraw{File: shown.File, From: shown.File, Recipe: recipe})
}

// times says in words how many pixels are needed for each px.
func times(multiple int) string {
	if multiple == 2 {
		return "twice as many"
	}
	return "as many"
}

// convertPicture makes a PNG or a JPEG of a file in a format that is not drawn everywhere.
func (p *Pass) convertPicture(shown *template.Picture) *Fix {
	recipe := p.recipeFor(shown)
	if recipe == nil || shown.Name == "" || shown.Frames > 1 {
		return nil
	}
	for _, img := range p.Doc.Root.Elements("img") {
		if _, named := img.Attr(field.AttrPicture); p.Prepared.PictureOf(img) == shown && !named {
			return nil // the file's name stands in an address
		}
	}
	recipe.Format = "png"
	if !shown.Transparent && shown.Format != picture.SVG {
		recipe.Format = "jpeg"
	}
	file := strings.TrimSuffix(shown.File, path.Ext(shown.File)) + picture.Ending(recipe.Format)
	if file != shown.File && slices.ContainsFunc(p.Template.Pictures, func(t template.Picture) bool { return t.File == file }) {
		return nil
	}
	return redrawn(p.Edit(), fmt.Sprintf("Make %s from %s and show that file", file, shown.File),
		Redraw{File: file, Name: shown.Name, Alt: shown.Alt, From: shown.File, Recipe: recipe})
}

// outlinePicture draws a thin white line around what is seen of a see-through picture, unless it vanishes on light
// background too.
func (p *Pass) outlinePicture(shown *template.Picture, backgrounds []string) *Fix {
	recipe := p.recipeFor(shown)
	if recipe == nil || slices.Contains(backgrounds, "light") || shown.Format != picture.PNG { // a GIF has no half-seen edges
		return nil
	}
	recipe.Dark = &picture.DarkSafe{Way: picture.Outline}
	return redrawn(p.Edit(), "Draw a thin white line around what is seen of "+shown.File,
		Redraw{File: shown.File, From: shown.File, Recipe: recipe})
}

// writtenOut puts a picture that is written into the source into a file of its own.
func writtenOut(p *Pass, t Target) *Fix {
	n := t.First()
	src := n.Attribute("src")
	if p.Template.Bare || !n.Is("img") || src == nil {
		return nil
	}
	value, _ := n.Attr("src")
	_, encoded, found := strings.Cut(value, ";base64,")
	if !found {
		return nil
	}
	data, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(encoded), ""))
	if err != nil {
		return nil
	}
	facts, err := picture.Probe(data)
	if err != nil || !slices.Contains(picture.Mailable, facts.Format) || len(data) > template.MaxPicture ||
		len(p.Template.Pictures) >= template.MaxPictures {
		return nil
	}
	name := ""
	for i := 1; name == "" || p.Template.Picture(name) != nil; i++ {
		name = fmt.Sprintf("picture-%d", i)
	}
	file := name + picture.Ending(facts.Format)
	if slices.ContainsFunc(p.Template.Pictures, func(t template.Picture) bool { return t.File == file }) {
		return nil
	}
	alt, _ := n.Attr("alt")
	var recipe *picture.Recipe
	if width, height := n.Pixels("width"), n.Pixels("height"); width > 0 && height > 0 &&
		!picture.Fits(facts.Width, facts.Height, width, height) {
		recipe = fitted(&template.Picture{Facts: facts}, width, height)
	}
	h := p.Edit()
	h.Replace(src.Span, field.AttrPicture+`="`+name+`"`)
	return redrawn(h, "Save it as "+file+" and show that file", Redraw{File: file, Name: name, Alt: alt, Data: data, Recipe: recipe})
}

// reachedPictures finds what the check picture-address reports: pictures that forms show by an address which is missing, or
// which only some computers reach.
func reachedPictures(p *Pass) {
	p.unhosted()
	if p.People == nil {
		return
	}
	for _, img := range p.Doc.Root.Elements("img") {
		src := img.Attribute("src")
		if src == nil || !field.BeginsWithField(strings.TrimSpace(src.Value)) {
			continue
		}
		pieces, _ := p.Fields.AttrPieces(*src)
		if len(pieces) == 0 || pieces[0].Expr == nil || len(pieces[0].Expr.Fields) == 0 {
			continue
		}
		e := pieces[0].Expr
		who := p.whose(func(someone *person.Person) bool {
			value := person.Clean(e.Raw(someone))
			return value != "" && unreachable(value) != ""
		})
		if len(who) > 0 {
			p.Report(Finding{
				Span:     src.Span,
				Severity: client.Breaks,
				People:   who,
				Message:  fmt.Sprintf("%s is no address that everybody can reach for %s; their picture stays empty.", e.Field, p.named(who)),
				Remedy:   "Write the full address with https:// into the directory, and put the files there.",
			})
		}
	}
}

// pictureSentAlong finds pictures that the message has by address and whose tag does not ask the client that sends it to
// leave them there; one finding for all of them. Pictures of the template that lie beside the page are carried anyway.
func pictureSentAlong(p *Pass) {
	var clients []string
	for _, profile := range p.Profiles {
		if _, along := profile.SendsAlong(); along {
			clients = append(clients, profile.ID)
		}
	}
	if len(clients) == 0 {
		return
	}
	h := p.Edit()
	count, first := 0, (*markup.Node)(nil)
	for _, img := range p.Source.Elements("img") {
		prepared := p.PreparedNode(img)
		if prepared == nil || !journey.SentAlong(prepared) ||
			p.Prepared.PictureOf(prepared) != nil && p.Template.Delivery(string(compose.HTML)) != template.Hosted {
			continue
		}
		if count++; first == nil {
			first = img
		}
		h.SetAttribute(img, "nosend", "1")
	}
	if first == nil {
		return
	}
	what := "this hosted picture is"
	if count > 1 {
		what = fmt.Sprintf("this hosted picture and %d more are", count-1)
	}
	p.Report(Finding{
		Span:     first.Open,
		Severity: client.Note,
		Clients:  clients,
		Message:  fmt.Sprintf("Without nosend %s carried in each message that %s sends.", what, strings.Join(clients, ", ")),
		Fix:      fixOf(h, `Write nosend="1"`),
	})
}

// unhosted finds the template's own pictures that forms show by an address which is missing or local.
func (p *Pass) unhosted() {
	var forms []string
	for _, form := range []compose.Form{compose.Fragment, compose.MIME, compose.Message, compose.HTML} {
		if p.Template.Delivery(string(form)) == template.Hosted {
			forms = append(forms, string(form))
		}
	}
	address, _ := p.Template.Hosting()
	wrong := unreachable(address)
	if p.Template.Bare || len(forms) == 0 || wrong == "" {
		return
	}
	count, first := 0, (*markup.Node)(nil)
	for _, img := range p.Doc.Root.Elements("img") {
		_, named := img.Attr(field.AttrPicture)
		if picture := p.Prepared.PictureOf(img); !named || picture == nil {
			continue
		}
		if count++; first == nil {
			first = img
		}
	}
	if first == nil {
		return
	}
	where := "have no address"
	if address != "" {
		where = fmt.Sprintf("have the address %s, %s", quote(address), wrong)
	}
	p.Report(Finding{
		Span:     first.Open,
		Severity: client.Breaks,
		Message:  fmt.Sprintf("The template's pictures (%d) %s; in the forms %s nobody sees them.", count, where, strings.Join(forms, ", ")),
	})
}

// unreachable says why readers cannot reach a picture's address; empty for one that they can.
func unreachable(address string) string {
	u, err := url.Parse(address)
	switch {
	case address == "":
		return "which is missing"
	case err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Hostname() == "":
		return "which is no web address"
	case localHost(u.Hostname()):
		return "which only the own network reaches"
	}
	return ""
}

// localHost reports hosts that are not in the public network (RFC 6761, RFC 1918, RFC 4193). Names for examples count as public.
func localHost(host string) bool {
	host = strings.ToLower(strings.TrimSuffix(host, "."))
	if ip, err := netip.ParseAddr(host); err == nil {
		return ip.IsLoopback() || ip.IsPrivate() || ip.IsLinkLocalUnicast() || ip.IsUnspecified()
	}
	ending := host[strings.LastIndexByte(host, '.')+1:]
	return ending == host || slices.Contains([]string{"localhost", "local", "lan", "internal", "home", "corp", "invalid"}, ending)
}
