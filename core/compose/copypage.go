package compose

import (
	"crypto/sha256"
	_ "embed"
	"encoding/base64"
	"encoding/json"
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
	fragment          appender
	head, middle, end string
}

// newCopyPage cuts the page at the places where title and signature go. The signature stands there twice: to look at,
// and letter by letter for the clipboard.
func newCopyPage(title, language string, fragment appender) copyPage {
	head, rest, _ := strings.Cut(copyPageSource, "!signature!")
	middle, end, _ := strings.Cut(rest, "!letters!")
	script := end[strings.Index(end, "<script>")+len("<script>") : strings.LastIndex(end, "</script>")]
	hash := sha256.Sum256([]byte(script))
	known := strings.NewReplacer("!title!", html.EscapeString(title), "!script!", base64.StdEncoding.EncodeToString(hash[:]))
	if language == "" {
		language = "en"
	}
	middle = strings.ReplaceAll(middle, "!language!", html.EscapeString(language))
	return copyPage{fragment, known.Replace(strings.ReplaceAll(head, "!language!", html.EscapeString(language))), middle, end}
}

// Append writes the page with the person's signature in it.
func (c copyPage) Append(dst []byte, f *field.Filler) []byte {
	dst = append(dst, c.head...)
	from := len(dst)
	dst = c.fragment.Append(dst, f)
	letters, err := json.Marshal(string(dst[from:])) // with < and & as escapes: nothing ends the element around it
	if err != nil {
		panic(err) // a string is always written
	}
	return append(append(append(dst, c.middle...), letters...), c.end...)
}
