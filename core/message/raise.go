package message

import (
	"html"
	"strings"
)

// Look is the font of text that is raised to HTML.
type Look struct {
	Font string // such as "Arial, sans-serif"
	Size string // with its unit, such as "11pt"
}

// raise turns plain text into HTML that shows it in a font and a size: line breaks, spaces and quotations are kept; flowed lines
// are one paragraph (RFC 3676, 4). What stands in the text is text: nothing in it becomes markup.
func (c *Content) raise(text string, look Look) string {
	var b strings.Builder
	b.WriteString(`<div style="font-family:` + html.EscapeString(look.Font) + `;font-size:` + html.EscapeString(look.Size) + `">`)
	depth := 0
	open := false // a line without its end
	for len(text) > 0 {
		line, rest, _ := strings.Cut(text, "\n")
		text = rest
		line = strings.TrimSuffix(line, "\r")
		d, body := quoteSigns(line)
		if c.Flowed {
			d = 0
			for d < len(line) && line[d] == '>' {
				d++
			}
			body = strings.TrimPrefix(line[d:], " ")
		} else if d > 0 {
			body = strings.TrimPrefix(body, " ")
		}
		if d != depth && open {
			b.WriteString("<br>")
			open = false
		}
		for ; depth < d; depth++ {
			b.WriteString(`<blockquote type="cite" style="margin:0 0 0 0.8ex;border-left:2px solid #999999;padding-left:1ex">`)
		}
		for ; depth > d; depth-- {
			b.WriteString("</blockquote>")
		}
		if c.Flowed && strings.HasSuffix(body, " ") && body != "-- " {
			if c.DelSp {
				body = body[:len(body)-1]
			}
			b.WriteString(spaces(body))
			open = true
			continue
		}
		b.WriteString(spaces(body))
		b.WriteString("<br>\n")
		open = false
	}
	for ; depth > 0; depth-- {
		b.WriteString("</blockquote>")
	}
	b.WriteString("</div>")
	return b.String()
}

// spaces escapes a line so that its spaces and tabs are seen as they stand.
func spaces(line string) string {
	line = html.EscapeString(line)
	line = strings.ReplaceAll(line, "\t", "        ")
	if strings.HasPrefix(line, " ") {
		line = "&nbsp;" + line[1:]
	}
	for strings.Contains(line, "  ") {
		line = strings.ReplaceAll(line, "  ", "&nbsp; ")
	}
	return line
}
