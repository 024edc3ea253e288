package compose

import (
	_ "embed"
	"html"
	"strings"

	"missivum/core/field"
)

// copyPageSource is the page around the signature. What stands between exclamation marks is filled in once.
//
//go:embed copypage.html
var copyPageSource string

// copyPage is a page for the person, from which the signature is copied.
type copyPage struct {
	fragment   appender
	head, tail string
}

// newCopyPage cuts the page at the places where title and signature go.
func newCopyPage(title string, fragment appender) copyPage {
	page := strings.ReplaceAll(copyPageSource, "!title!", html.EscapeString(title))
	head, tail, _ := strings.Cut(page, "!signature!")
	return copyPage{fragment, head, tail}
}

// Append writes the page with the person's signature in it.
func (c copyPage) Append(dst []byte, f *field.Filler) []byte {
	return append(c.fragment.Append(append(dst, c.head...), f), c.tail...)
}
