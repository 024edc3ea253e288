package desk

import (
	"bytes"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"golang.org/x/net/html"

	"missivum/core/compose"
)

// Proof is what is known of a file that was placed.
type Proof string

// The proofs.
const (
	Current Proof = "current" // it is there, and says what it should
	Older   Proof = "older"   // of a release before
	Altered Proof = "altered"
	Missing Proof = "missing"
	Unknown Proof = "unknown"
)

// Proofs lists the proofs, the worst last.
var Proofs = []Proof{Current, Older, Unknown, Altered, Missing}

// Worse reports whether a proof is worse than another.
func (p Proof) Worse(than Proof) bool { return slices.Index(Proofs, p) > slices.Index(Proofs, than) }

// Report is what a desk says of itself to a service.
type Report struct {
	Desk    string     `json:"desk"` // its own id, made at random
	Host    string     `json:"host"`
	System  string     `json:"system"`
	Version string     `json:"version"` // of the program there
	Places  []Reported `json:"places"`
}

// Reported is what a desk says of a place.
type Reported struct {
	Place   string    `json:"place"`
	Folder  string    `json:"folder"`
	Client  string    `json:"client"`
	Person  string    `json:"person"` // mail address
	Release string    `json:"release"`
	Kit     string    `json:"kit"` // digest of its list
	Proof   Proof     `json:"proof"`
	Detail  string    `json:"detail"` // what is not as placed
	At      time.Time `json:"at"`     // when it was placed
}

// Checked is a file that was held against what was placed.
type Checked struct {
	Path  string `json:"path"`
	Proof Proof  `json:"proof"`
	Says  string `json:"says"`
}

// PlacedFile is a file as it was placed.
type PlacedFile struct {
	Path     string
	Form     string
	Data     []byte // as it was placed; nil when that is not known any more
	SHA256   string
	ReadOnly bool
	Settings []SettingEdit // of a settings file: the values that were set
	Format   string        // of a settings file
}

// Verify holds a file on a disk against what was placed: bytes, and where the client rewrote it, meaning.
func Verify(disk Disk, f PlacedFile) Checked {
	c := Checked{Path: f.Path, Proof: Current, Says: "as it was placed"}
	info, err := disk.Lstat(f.Path)
	if isMissing(err) {
		return Checked{f.Path, Missing, "missing"}
	}
	var data []byte
	if err == nil && info.Mode().IsRegular() {
		data, err = disk.ReadFile(f.Path)
	}
	switch {
	case err != nil:
		return Checked{f.Path, Unknown, fmt.Sprintf("cannot be read: %v", reason(err))}
	case !info.Mode().IsRegular():
		return Checked{f.Path, Altered, "no longer a file"}
	case f.Format != "":
		return verifySettings(f, data)
	case digestOf(data) != f.SHA256:
		same, difference := SameMeaning(f.Form, f.Data, data)
		if !same {
			return Checked{f.Path, Altered, "altered: " + difference}
		}
		c.Says = "the client rewrote it; its words, links and pictures are the same"
	}
	if f.ReadOnly && info.Mode()&fs.FileMode(0o222) != 0 {
		return Checked{f.Path, Altered, c.Says + ", but no longer read-only: the client may write over it"}
	}
	return c
}

// verifySettings holds the values of a settings file against those that were set.
func verifySettings(f PlacedFile, data []byte) Checked {
	s, err := openSettings(f.Format, data)
	if err != nil {
		return Checked{f.Path, Unknown, err.Error()}
	}
	for _, e := range f.Settings {
		value, there, err := s.format.get(s.text, e.Key)
		switch {
		case err != nil:
			return Checked{f.Path, Unknown, err.Error()}
		case !there:
			return Checked{f.Path, Altered, fmt.Sprintf("altered: %s is not set; it was set to %v", e.Key, e.After)}
		case fmt.Sprint(value) != fmt.Sprint(e.After):
			return Checked{f.Path, Altered, fmt.Sprintf("altered: %s is %v; it was set to %v", e.Key, value, e.After)}
		}
	}
	return Checked{f.Path, Current, "the choice is as it was set"}
}

// Unset gives a settings file in which values are again what they were before they were set.
func Unset(format string, data []byte, edits []SettingEdit) ([]byte, error) {
	s, err := openSettings(format, data)
	if err != nil {
		return nil, err
	}
	for _, e := range slices.Backward(edits) {
		if err := s.set(e.Key, e.Before); err != nil {
			return nil, err
		}
	}
	return s.data()
}

// SameMeaning reports whether two states of a file say the same: words, links and pictures of pages, words of texts. What is
// different first is said.
func SameMeaning(form string, placed, there []byte) (same bool, difference string) {
	if placed == nil {
		return false, "its digest is another"
	}
	var a, b []string
	switch form {
	case "html":
		a, b = meaning(placed), meaning(there)
	case "mime":
		x, errX := compose.PartBody(placed)
		y, errY := compose.PartBody(there)
		if errX != nil || errY != nil {
			return false, "its header lines cannot be read"
		}
		a, b = meaning(x), meaning(y)
	case "text":
		a, b = words(placed), words(there)
	default:
		return false, "its bytes are others"
	}
	for i := range max(len(a), len(b)) {
		switch {
		case i >= len(a):
			return false, fmt.Sprintf("%q was added", b[i])
		case i >= len(b):
			return false, fmt.Sprintf("%q is gone", a[i])
		case a[i] != b[i]:
			return false, fmt.Sprintf("%q stands where %q stood", b[i], a[i])
		}
	}
	return true, ""
}

// words are the words of a text, without byte order mark and whatever its encoding's width.
func words(text []byte) []string {
	text = bytes.TrimPrefix(text, []byte("\xef\xbb\xbf"))
	if bytes.HasPrefix(text, []byte("\xff\xfe")) {
		if s, err := openSettings("ini", text); err == nil { // reads text of any width
			return strings.Fields(s.text)
		}
	}
	return strings.Fields(string(text))
}

// meaning is what a page says, in its order: words, links and pictures. Pictures count by name, since clients move them.
func meaning(page []byte) []string {
	var list []string
	z := html.NewTokenizer(bytes.NewReader(page))
	hidden := 0 // inside style, script, title or head
	for {
		kind := z.Next()
		if kind == html.ErrorToken {
			return list
		}
		token := z.Token()
		silent := token.Data == "style" || token.Data == "script" || token.Data == "title"
		switch {
		case kind == html.StartTagToken && silent:
			hidden++
		case kind == html.EndTagToken && silent:
			hidden = max(0, hidden-1)
		case kind == html.TextToken && hidden == 0:
			list = append(list, strings.Fields(strings.ReplaceAll(token.Data, "\u00a0", " "))...)
		case kind == html.StartTagToken || kind == html.SelfClosingTagToken:
			for _, a := range token.Attr {
				switch {
				case token.Data == "a" && a.Key == "href":
					list = append(list, "link "+a.Val)
				case token.Data == "img" && a.Key == "src" && strings.HasPrefix(a.Val, "data:"):
					list = append(list, "picture "+digestOf([]byte(a.Val))[:16])
				case token.Data == "img" && a.Key == "src":
					list = append(list, "picture "+path.Base(a.Val))
				}
			}
		}
	}
}
