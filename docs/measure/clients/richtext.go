package main

import (
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"golang.org/x/net/html"

	"missivum/core/client"
	"missivum/core/compose"
)

// reader is a program that reads rich text, and turns files of it into pages beside them.
type reader struct {
	name    string
	version func() string
	file    string
	convert func(folder string, files []string) error
}

var readers = []reader{
	{"LibreOffice", func() string { return version("libreoffice-writer-nogui") }, "rich-text-desktop-render", libreOffice},
	{"pandoc", func() string { return version("pandoc") }, "rich-text-desktop-pandoc-render", func(folder string, files []string) error {
		for _, file := range files {
			if _, err := run("pandoc", nil, "-f", "rtf", "-t", "html", "--wrap=none", "-o", strings.TrimSuffix(file, ".rtf")+
				".html", file); err != nil {
				return err
			}
		}
		return nil
	}},
}

// libreOffice converts some at a time: of more than about two hundred it leaves out the rest.
func libreOffice(folder string, files []string) error {
	for some := range slices.Chunk(files, 100) {
		_, err := run("soffice", nil, append([]string{"-env:UserInstallation=file://" + folder + "/profile", "--headless", "--convert-to",
			"html", "--outdir", folder}, some...)...)
		if err != nil {
			return err
		}
	}
	return nil
}

// content is what a reader finds in a page.
type content struct {
	words    string // without white space
	links    []string
	pictures int
}

// direction are the signs that readers write around text of another direction.
var direction = regexp.MustCompile(`[\x{200e}\x{200f}\x{202a}-\x{202e}\x{2066}-\x{2069}]`)

// contentOf reads a page as a browser does, without what is not shown. A picture that is not held stands in the form with
// its text in the place of it.
func contentOf(page string, held func(src string) bool) (content, error) {
	var c content
	doc, err := html.Parse(strings.NewReader(page))
	if err != nil {
		return c, err
	}
	word := func(text string) {
		c.words += direction.ReplaceAllString(strings.Join(strings.Fields(text), ""), "")
	}
	var visit func(n *html.Node)
	visit = func(n *html.Node) {
		if n.Type == html.TextNode {
			word(n.Data)
		}
		switch n.Data {
		case "head", "style", "script", "title":
			return
		case "a":
			if href := strings.TrimSpace(attribute(n, "href")); href != "" {
				c.links = append(c.links, unescaped(href))
			}
		case "img":
			if held(attribute(n, "src")) {
				c.pictures++
			} else {
				word(attribute(n, "alt"))
			}
		}
		for child := range n.ChildNodes() {
			if !hiddenStyle.MatchString(attribute(child, "style")) {
				visit(child)
			}
		}
	}
	visit(doc)
	slices.Sort(c.links)
	c.links = slices.Compact(c.links)
	return c, nil
}

var hiddenStyle = regexp.MustCompile(`display:\s*none`)

func attribute(n *html.Node, name string) string {
	for _, a := range n.Attr {
		if a.Key == name {
			return a.Val
		}
	}
	return ""
}

// unescaped is an address without what readers escape in it (RFC 3986, 2.1).
func unescaped(address string) string {
	if plain, err := url.PathUnescape(address); err == nil {
		return plain
	}
	return address
}

// measure reads the rich text form of every signature and asks of each whether its words, its links and its pictures are
// those of its page: three probes.
func (e reader) measure(_ []Probe) (Result, error) {
	r := Result{Profile: "rich-text-desktop", Against: e.name, Version: e.version(), Stage: client.Render, Real: map[string]int{},
		Disagreements: []Disagreement{}}
	list, err := forms(compose.RTF)
	if err != nil {
		return r, err
	}
	folder, err := os.MkdirTemp("", "richtext")
	if err != nil {
		return r, err
	}
	defer os.RemoveAll(folder)
	var files []string
	for i, f := range list {
		file := filepath.Join(folder, fmt.Sprintf("%d.rtf", i))
		if err := os.WriteFile(file, []byte(f.form), 0o600); err != nil {
			return r, err
		}
		files = append(files, file)
	}
	if err := e.convert(folder, files); err != nil {
		return r, err
	}
	for i, f := range list {
		page, err := os.ReadFile(strings.TrimSuffix(files[i], ".rtf") + ".html")
		if err != nil {
			return r, err
		}
		real, err := contentOf(string(page), func(string) bool { return true })
		if err != nil {
			return r, err
		}
		ours, err := contentOf(f.page, func(src string) bool { return slices.Contains(f.pictures, src[strings.LastIndex(src, "/")+1:]) })
		if err != nil {
			return r, err
		}
		r.hold(f.name+", words", real.words, ours.words)
		r.hold(f.name+", links", strings.Join(real.links, " "), strings.Join(ours.links, " "))
		r.hold(f.name+", pictures", fmt.Sprint(real.pictures), fmt.Sprint(ours.pictures))
	}
	r.Exact = r.Same
	return r, nil
}

// hold counts one thing that is to be the same.
func (r *Result) hold(what, real, ours string) {
	r.Probes++
	if real == ours {
		r.Same++
		r.Real["as written"]++
		return
	}
	r.Real["other"]++
	r.Disagreements = append(r.Disagreements, Disagreement{what, what, real, ours})
}
