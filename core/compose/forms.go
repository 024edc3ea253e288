package compose

import (
	"slices"

	"missivum/core/field"
)

// Form is a form of the signature.
type Form string

// The forms.
const (
	HTML     Form = "html"      // a whole page; pictures lie beside it
	Fragment Form = "fragment"  // what is pasted: no html, head or body; pictures are hosted
	Text     Form = "text"      // RFC 3676, below its separator line
	RTF      Form = "rtf"       // rich text, pictures embedded
	MIME     Form = "mime"      // a MIME part (RFC 2045): header and body; pictures are hosted
	Message  Form = "message"   // a message draft (RFC 5322) with text, page and carried pictures
	CopyPage Form = "copy-page" // a page to copy the signature from; pictures are hosted
)

// FormInfo describes a form.
type FormInfo struct {
	Form   Form   `json:"form"`
	Suffix string `json:"suffix"` // ending of its file
	Media  string `json:"media"`  // media type (RFC 6838)
	About  string `json:"about"`
}

// FormInfos lists the forms in the order of packages and of the reference.
func FormInfos() []FormInfo { return formInfos }

var formInfos = []FormInfo{
	{HTML, ".html", "text/html", "a whole page with doctype, language and character set; pictures lie beside it"},
	{Fragment, ".fragment.html", "text/html", "what is pasted: without html, head and body; pictures are hosted"},
	{Text, ".txt", "text/plain",
		"below a line of two hyphens and a space (RFC 3676, 4.3), at most 72 columns; links as label <address>, " +
			"pictures by their alternative text"},
	{RTF, ".rtf", "text/rtf", "rich text: paragraphs, tables, fonts, colours, links; the template's pictures embedded"},
	{MIME, ".mime", "application/octet-stream", "a MIME part (RFC 2045): header lines and the page as body, with hosted pictures"},
	{Message, ".eml", "message/rfc822",
		"a message draft: text and page as alternatives (RFC 2046, 5.1.4), the pictures carried in it (RFC 2387, RFC 2392)"},
	{CopyPage, ".copy-page.html", "text/html", "a page for the person, with a button that copies the signature"},
}

// set are the forms that clients with three formats read side by side: one base name, one picture folder.
var set = []Form{HTML, RTF, Text}

// Forms lists the forms.
func Forms() []Form {
	var list []Form
	for _, info := range formInfos {
		list = append(list, info.Form)
	}
	return list
}

// Info describes one of the forms.
func (f Form) Info() FormInfo {
	i := slices.IndexFunc(formInfos, func(info FormInfo) bool { return info.Form == f })
	if i < 0 {
		return FormInfo{Form: f}
	}
	return formInfos[i]
}

// appender is a compiled form.
type appender interface {
	Append(dst []byte, f *field.Filler) []byte
}
