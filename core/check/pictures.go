package check

import (
	"fmt"
	"slices"
	"strings"
	"unicode"

	"missivum/core/client"
	"missivum/core/field"
	"missivum/core/markup"
	"missivum/core/picture"
)

func picturePixels(p *Pass) {
	for _, img := range p.Doc.Root.Elements("img") {
		shown := p.Prepared.PictureOf(img)
		if shown == nil || !client.Sized(img) || shown.Format == picture.SVG {
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
		p.ReportFix(span, client.Degrades,
			fmt.Sprintf("%s has %d x %d px but is shown at %d x %d px.", shown.File, shown.Width, shown.Height, width, height),
			p.fitPicture(shown))
		p.findings[len(p.findings)-1].Remedy = fmt.Sprintf("Make the file %d x %d px, or %d x %d px for sharp screens: missivum picture fit --width %d --height %d.", width, height, 2*width, 2*height, width, height)
	}
}

// pictureFormat holds the template's pictures against the formats that each profile draws.
func pictureFormat(p *Pass) {
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
			p.reportFor(missing, img.Open, client.Breaks, fmt.Sprintf("%s is %s and is not rendered.", shown.File, strings.ToUpper(shown.Format)), p.convertPicture(shown))
		}
		if len(still) > 0 {
			p.reportFor(still, img.Open, client.Note, fmt.Sprintf("Of the %d frames of %s only the first is shown: it must say all that matters.", shown.Frames, shown.File), nil)
		}
		if shown.Colours == "cmyk" {
			p.ReportFix(img.Open, client.Degrades, fmt.Sprintf("%s has printing colours (CMYK); clients render them wrongly or not at all.", shown.File), p.fitPicture(shown))
		}
	}
}

// pictureDark measures see-through pictures on the backgrounds of dark modes.
func pictureDark(p *Pass) {
	told := map[string]bool{}
	for _, img := range p.Doc.Root.Elements("img") {
		shown := p.Prepared.PictureOf(img)
		if shown == nil || !shown.Transparent || told[shown.File] {
			continue
		}
		read, err := picture.Read(shown.Data)
		if err != nil || !read.Transparent {
			continue
		}
		sights := picture.Sights(read.Image())
		if backgrounds := picture.Vanishes(sights); len(backgrounds) > 0 {
			told[shown.File] = true
			var figures []string
			for _, s := range sights {
				figures = append(figures, fmt.Sprintf("%.0f %% on %s (%s)", 100*s.Seen, s.Background, s.Colour))
			}
			p.ReportFix(img.Open, client.Degrades, fmt.Sprintf("%s vanishes on a %s background: of its edges are seen %s.", shown.File, strings.Join(backgrounds, " and "), strings.Join(figures, ", ")), p.outlinePicture(shown, backgrounds))
		}
	}
}

// reportFor is ReportFix for some of the clients.
func (p *Pass) reportFor(clients []string, span markup.Span, severity client.Severity, message string, m *Fix) {
	p.ReportFix(span, severity, message, m)
	p.findings[len(p.findings)-1].Clients = clients
}

func pictureAlt(p *Pass) {
	for _, img := range p.Doc.Root.Elements("img") {
		alt, ok := img.Attr("alt")
		link := img.Inside("a")
		switch {
		case !ok:
			p.ReportFix(img.Open, client.Degrades, "The picture has no alternative text.", p.silentLine(img))
		case strings.TrimSpace(alt) == "" && link != nil && strings.TrimSpace(link.TextContent()) == "":
			p.Report(img.Open, client.Degrades, "The picture is all of a link and its alternative text is empty: blocked, the link is gone.")
		}
	}
}

// enoughText is how many letters make a signature more than pictures.
const enoughText = 12

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
				for _, r := range n.Data {
					if unicode.IsLetter(r) {
						letters++
					}
				}
			}
			return true
		})
		if first != nil && letters < enoughText && !reported[first.Open.Start] {
			reported[first.Open.Start] = true
			p.Report(first.Open, client.Breaks, fmt.Sprintf("In the variant %q the signature is pictures only: no text is left when they are blocked.", variant))
		}
	}
}
