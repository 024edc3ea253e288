// Package page takes a whole page apart that somebody brings: its character set is recognised, its head
// styles are kept, its body is taken, and the pictures that came along become files of a template. Start
// with Read.
package page

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"io"
	"io/fs"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net/mail"
	"net/url"
	"path"
	"strings"

	"gopkg.in/yaml.v3"

	"missivum/core/charset"
	"missivum/core/field"
	"missivum/core/markup"
	"missivum/core/person"
	"missivum/core/picture"
	"missivum/core/problem"
	"missivum/core/style"
	"missivum/core/template"
)

// maxPage is the largest file that is taken apart, in bytes.
const maxPage = 16 << 20

// errPage marks a file that cannot be taken apart; the message says why.
var errPage error = problem.New(problem.Refused, "the page cannot be taken apart")

// Imported is a page as parts of a template.
type Imported struct {
	Parts    template.Parts
	Charset  charset.Text // what the page was written in, and how that is known; without the text
	Pictures []string     // files of the pictures that came along
	Missing  []string     // addresses of pictures that did not

	settings settings
}

// Read takes a file apart: an HTML page or fragment, or a page saved with its pictures in one file (MHTML,
// RFC 2557). Pictures with a relative address are read from beside the page; nil for a page that stands alone.
func Read(data []byte, beside fs.FS) (Imported, error) {
	if len(data) > maxPage {
		return Imported{}, fmt.Errorf("%w: it is larger than %d MB", errPage, maxPage>>20)
	}
	carried := map[string][]byte{}
	if page, found, ok := archive(data); ok {
		data, carried = page, found
	}
	text, err := charset.ReadPage(data)
	if err != nil {
		return Imported{}, fmt.Errorf("%w: %w", errPage, err)
	}
	source := text.Text
	doc, err := style.Parse(source)
	if err != nil {
		return Imported{}, fmt.Errorf("%w: %w", errPage, err)
	}
	a := Imported{Charset: text, Parts: template.Parts{Pictures: map[string][]byte{}}}
	a.Charset.Text = ""
	a.settings.Pictures.Files = map[string]template.PictureSetting{}
	for _, title := range doc.Root.Elements("title") {
		for _, text := range title.Children {
			a.settings.Title = person.Clean(text.Data)
		}
	}
	base := baseOf(doc)
	a.take(doc, base, func(address string) []byte {
		for _, location := range []string{address, resolved(base, address)} {
			if found, ok := carried[location]; ok {
				return found
			}
		}
		if found, ok := dataAddress(address); ok {
			return found
		}
		return readBeside(beside, address)
	})
	resolve(doc, base)
	trimPage(doc)
	a.Parts.Source = strings.TrimSpace(doc.Render()) + "\n"
	if a.settings.Title != "" || len(a.Pictures) > 0 {
		text, err := yaml.Marshal(a.settings)
		if err != nil {
			return Imported{}, err
		}
		a.Parts.Settings = string(text)
	}
	return a, nil
}

// archive reads a page saved in one file with its pictures, and gives the pictures by their address.
func archive(data []byte) (page []byte, carried map[string][]byte, ok bool) {
	m, err := mail.ReadMessage(bytes.NewReader(data))
	if err != nil {
		return nil, nil, false
	}
	media, params, err := mime.ParseMediaType(m.Header.Get("Content-Type"))
	if err != nil || !strings.HasPrefix(media, "multipart/") || params["boundary"] == "" {
		return nil, nil, false
	}
	carried = map[string][]byte{}
	readParts(multipart.NewReader(m.Body, params["boundary"]), 0, func(p *multipart.Part, content []byte) {
		media, _, _ := mime.ParseMediaType(p.Header.Get("Content-Type"))
		switch {
		case media == "text/html" && page == nil:
			page = content
		case strings.HasPrefix(media, "image/"):
			if id := strings.Trim(p.Header.Get("Content-ID"), "<> "); id != "" {
				carried["cid:"+id] = content
			}
			if location := p.Header.Get("Content-Location"); location != "" {
				carried[location] = content
			}
		}
	})
	return page, carried, page != nil
}

// maxParts is how deep and how wide a saved page may be nested.
const maxParts = 200

func readParts(r *multipart.Reader, depth int, visit func(*multipart.Part, []byte)) {
	for range maxParts {
		p, err := r.NextRawPart()
		if err != nil {
			return // what cannot be read is left out
		}
		if media, params, err := mime.ParseMediaType(p.Header.Get("Content-Type")); err == nil &&
			strings.HasPrefix(media, "multipart/") && params["boundary"] != "" && depth < 4 {
			readParts(multipart.NewReader(p, params["boundary"]), depth+1, visit)
			continue
		}
		var content io.Reader = p
		switch strings.ToLower(strings.TrimSpace(p.Header.Get("Content-Transfer-Encoding"))) {
		case "base64":
			content = base64.NewDecoder(base64.StdEncoding, p)
		case "quoted-printable":
			content = quotedprintable.NewReader(p)
		}
		if data, err := io.ReadAll(io.LimitReader(content, maxPage)); err == nil {
			visit(p, data)
		}
	}
}

// take makes the pictures that came along files, and their elements show those.
func (a *Imported) take(doc *markup.Document, base *url.URL, read func(address string) []byte) {
	names := map[string]string{} // file by address
	for _, img := range doc.Root.Elements("img") {
		src, ok := img.Attr("src")
		if !ok || src == "" {
			continue
		}
		if file, done := names[src]; done {
			show(img, file)
			continue
		}
		data := read(src)
		facts, err := picture.Probe(data)
		if err != nil || len(names) >= template.MaxPictures {
			a.Missing = append(a.Missing, shortened(resolved(base, src)))
			continue
		}
		file := a.fileName(src, img, facts.Format)
		names[src] = file
		a.Parts.Pictures[file] = data
		a.Pictures = append(a.Pictures, file)
		show(img, file)
		alt, _ := img.Attr("alt")
		a.settings.Pictures.Files[pictureName(file)] = template.PictureSetting{File: file, Alt: alt}
	}
}

// settings are what a page says for template.yaml.
type settings struct {
	Title    string `yaml:"title,omitempty"`
	Pictures struct {
		Files map[string]template.PictureSetting `yaml:"files,omitempty"`
	} `yaml:"pictures,omitempty"`
}

// show makes an element show a picture of the template.
func show(img *markup.Node, file string) {
	img.RemoveAttr("src")
	img.SetAttr(field.AttrPicture, pictureName(file))
}

func pictureName(file string) string { return strings.ReplaceAll(file, ".", "-") }

// readBeside reads a file by its relative address; nil for what cannot be read.
func readBeside(beside fs.FS, address string) []byte {
	name, err := url.PathUnescape(strings.TrimPrefix(address, "./"))
	if beside == nil || err != nil || !fs.ValidPath(name) || strings.Contains(name, ":") {
		return nil
	}
	f, err := beside.Open(name)
	if err != nil {
		return nil
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, template.MaxPicture+1))
	if err != nil {
		return nil
	}
	return data
}

func shortened(address string) string {
	if len(address) > 200 {
		return strings.ToValidUTF8(address[:200], "") + "..."
	}
	return address
}

// dataAddress reads a data: address (RFC 2397).
func dataAddress(src string) ([]byte, bool) {
	rest, ok := strings.CutPrefix(src, "data:")
	if !ok {
		return nil, false
	}
	head, body, ok := strings.Cut(rest, ",")
	if !ok {
		return nil, false
	}
	if strings.HasSuffix(strings.TrimSpace(head), ";base64") {
		if unescaped, err := url.PathUnescape(body); err == nil {
			body = unescaped
		}
		data, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(body), ""))
		return data, err == nil
	}
	unescaped, err := url.PathUnescape(body)
	return []byte(unescaped), err == nil
}

// fileName makes a file name of a picture's address or alternative text that no other picture has.
func (a *Imported) fileName(src string, img *markup.Node, format string) string {
	name := ""
	if u, err := url.Parse(src); err == nil && u.Scheme != "data" && u.Scheme != "cid" {
		name = strings.TrimSuffix(path.Base(u.Path), path.Ext(u.Path))
	}
	if alt, _ := img.Attr("alt"); name == "" || name == "." || name == "/" {
		name = alt
	}
	var b strings.Builder
	for _, r := range strings.ToLower(name) {
		switch {
		case r >= 'a' && r <= 'z' || r >= '0' && r <= '9':
			b.WriteRune(r)
		case b.Len() > 0 && !strings.HasSuffix(b.String(), "-") && b.Len() < 40:
			b.WriteByte('-')
		}
	}
	base := strings.Trim(b.String(), "-")
	if base == "" {
		base = "picture"
	}
	extension := map[string]string{"jpeg": "jpg"}[format]
	if extension == "" {
		extension = format
	}
	file := base + "." + extension
	for i := 2; a.Parts.Pictures[file] != nil; i++ {
		file = fmt.Sprintf("%s-%d.%s", base, i, extension)
	}
	return file
}

// baseOf is the address to which a page says that its relative addresses belong, by its first base element with one (HTML
// Living Standard, 2.4.3); nil for none that is whole.
func baseOf(doc *markup.Document) *url.URL {
	for _, n := range doc.Root.Elements("base") {
		if href, ok := n.Attr("href"); ok {
			if u, err := url.Parse(strings.TrimSpace(href)); err == nil && (u.Scheme == "https" || u.Scheme == "http") && u.Host != "" {
				return u
			}
			return nil
		}
	}
	return nil
}

// resolved is an address as the base makes it whole (RFC 3986, 5.2). What is whole, empty or a place in the page stays, and so
// does what cannot be read.
func resolved(base *url.URL, address string) string {
	address = strings.TrimSpace(address)
	if base == nil || address == "" || strings.HasPrefix(address, "#") || strings.Contains(address, "{{") {
		return address
	}
	u, err := url.Parse(address)
	if err != nil || u.Scheme != "" {
		return address
	}
	return base.ResolveReference(u).String()
}

// resolve makes the relative addresses of links and pictures whole, since the base element does not stay. Pictures that came
// along show files by now and have no address.
func resolve(doc *markup.Document, base *url.URL) {
	for _, n := range doc.Root.Elements() {
		if n.Is("base") {
			continue
		}
		for _, name := range []string{"href", "src", "background"} {
			value, _ := n.Attr(name)
			if whole := resolved(base, value); whole != strings.TrimSpace(value) {
				n.SetAttr(name, whole)
			}
		}
	}
}

// trimPage makes a page the source of a template: the character set that is written is UTF-8 from now on, and
// scripts, links to sheets elsewhere and what else a page loads are gone.
func trimPage(doc *markup.Document) {
	for _, n := range doc.Root.Elements("meta") {
		equiv, _ := n.Attr("http-equiv")
		_, has := n.Attr("charset")
		switch {
		case has:
			n.SetAttr("charset", "utf-8")
		case strings.EqualFold(equiv, "content-type"):
			n.SetAttr("content", "text/html; charset=utf-8")
		}
	}
	for _, n := range doc.Root.Elements("script", "noscript", "iframe", "base") {
		n.Remove()
	}
}
