package desk

import (
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strconv"
	"strings"

	"github.com/tidwall/gjson"
	"github.com/tidwall/sjson"

	"missivum/core/problem"
)

// jsonFormat is JSON (RFC 8259); keys are the names of members from the outside in, with slashes between.
type jsonFormat struct{}

// jsonPath is a key as the library writes it.
func jsonPath(key string) string {
	parts := strings.Split(key, "/")
	for i, part := range parts {
		parts[i] = gjson.Escape(part)
		if _, err := strconv.Atoi(part); err == nil {
			parts[i] = ":" + part // a name, and no place in a list
		}
	}
	return strings.Join(parts, ".")
}

var errJSON = problem.New(problem.Refused, "The settings file is not valid JSON.")

func (jsonFormat) keys(text string) ([]string, error) {
	if !gjson.Valid(text) {
		return nil, errJSON
	}
	var keys []string
	var visit func(prefix string, v gjson.Result, depth int)
	visit = func(prefix string, v gjson.Result, depth int) {
		v.ForEach(func(name, value gjson.Result) bool {
			key := prefix + name.String()
			switch {
			case value.IsObject() && depth < 20:
				visit(key+"/", value, depth+1)
			case !value.IsArray() && !value.IsObject():
				keys = append(keys, key)
			}
			return true
		})
	}
	if v := gjson.Parse(text); v.IsObject() {
		visit("", v, 0)
	}
	return keys, nil
}

func (jsonFormat) get(text, key string) (any, bool, error) {
	if !gjson.Valid(text) {
		return nil, false, errJSON
	}
	v := gjson.Get(text, strings.ReplaceAll(jsonPath(key), ":", ""))
	if !v.Exists() {
		return nil, false, nil
	}
	if n, is := v.Value().(float64); is && n == float64(int(n)) {
		return int(n), true, nil
	}
	return v.Value(), true, nil
}

func (jsonFormat) set(text, key string, value any) (string, error) {
	if !gjson.Valid(text) || !gjson.Parse(text).IsObject() {
		return "", errJSON
	}
	var err error
	if value == nil {
		text, err = sjson.Delete(text, jsonPath(key))
	} else {
		text, err = sjson.Set(text, jsonPath(key), value)
	}
	if err != nil {
		return "", problem.New(problem.Refused, "%s cannot be set in the settings file: %v.", key, err)
	}
	return text, nil
}

func (jsonFormat) empty() string { return "{}\n" }

// element is an element of an XML document with the places of its tags in the text.
type element struct {
	name                       string
	start, startEnd, end, stop int // of the start tag, and of the end tag: begin and behind it
	text                       string
	attrs                      []xml.Attr
	children                   []*element
}

// maxDepth is how deep elements of a settings file may be nested.
const maxDepth = 100

// parseXML reads a document.
func parseXML(text string) (*element, error) {
	d := xml.NewDecoder(strings.NewReader(text))
	d.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil } // it is UTF-8 here, whatever it declares
	root := &element{startEnd: 0}
	open := []*element{root}
	for {
		before := int(d.InputOffset())
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			root.end, root.stop = len(text), len(text)
			return root, nil
		}
		if err != nil {
			return nil, problem.New(problem.Refused, "The settings file is not valid XML: %v.", err)
		}
		top := open[len(open)-1]
		switch token := token.(type) {
		case xml.StartElement:
			e := &element{name: token.Name.Local, start: before, startEnd: int(d.InputOffset()), attrs: token.Attr}
			top.children = append(top.children, e)
			if open = append(open, e); len(open) > maxDepth {
				return nil, problem.New(problem.Refused, "The settings file is nested more than %d elements deep.", maxDepth)
			}
		case xml.EndElement:
			top.end, top.stop = before, int(d.InputOffset())
			open = open[:len(open)-1]
		case xml.CharData:
			top.text += string(token)
		}
	}
}

// child finds a child by its name.
func (e *element) child(name string) *element {
	for _, c := range e.children {
		if c.name == name {
			return c
		}
	}
	return nil
}

// escaped is a text as XML writes it.
func escaped(text string) string {
	var b strings.Builder
	xml.EscapeText(&b, []byte(text)) // a buffer in memory takes everything
	return b.String()
}

// replaced is a text with a part of it replaced.
func replaced(text string, from, to int, by string) string { return text[:from] + by + text[to:] }

// selfClosed reports whether an element has one tag for start and end.
func (e *element) selfClosed() bool { return e.end == e.stop }

// appended is the text with something added at the end of an element, on a line of its own where the others are.
func (e *element) appended(text, added string) string {
	if e.selfClosed() {
		tag := text[e.start:e.startEnd]
		open := strings.TrimRight(strings.TrimSuffix(tag, "/>"), " \t\r\n") + ">"
		return replaced(text, e.start, e.stop, open+added+"</"+tagName(tag)+">")
	}
	end := e.end
	indent := ""
	if len(e.children) > 0 {
		first := e.children[0].start
		if line := strings.LastIndexByte(text[:first], '\n'); line >= 0 && strings.TrimSpace(text[line+1:first]) == "" {
			indent = text[line+1 : first]
			last := e.children[len(e.children)-1].stop
			return replaced(text, last, last, lineEnd(text)+indent+strings.ReplaceAll(added, "\n", lineEnd(text)+indent))
		}
	}
	return replaced(text, end, end, strings.ReplaceAll(added, "\n", ""))
}

// tagName is the name in a start tag, with its prefix.
func tagName(tag string) string {
	name := strings.TrimPrefix(tag, "<")
	if i := strings.IndexAny(name, " \t\r\n/>"); i >= 0 {
		name = name[:i]
	}
	return name
}

// xmlFormat is XML; keys are the names of elements from the outside in, with slashes between, and @ before an attribute's.
type xmlFormat struct{}

func (xmlFormat) keys(text string) ([]string, error) {
	root, err := parseXML(text)
	if err != nil {
		return nil, err
	}
	var keys []string
	var visit func(prefix string, e *element)
	visit = func(prefix string, e *element) {
		for _, c := range e.children {
			key := prefix + c.name
			for _, a := range c.attrs {
				keys = append(keys, key+"/@"+a.Name.Local)
			}
			if len(c.children) == 0 {
				keys = append(keys, key)
			}
			visit(key+"/", c)
		}
	}
	visit("", root)
	return keys, nil
}

// find follows a key; rest are the names that are not there.
func (e *element) find(key string) (deepest *element, rest []string) {
	rest = strings.Split(key, "/")
	deepest = e
	for len(rest) > 0 && !strings.HasPrefix(rest[0], "@") {
		c := deepest.child(rest[0])
		if c == nil {
			break
		}
		deepest, rest = c, rest[1:]
	}
	return deepest, rest
}

func (xmlFormat) get(text, key string) (any, bool, error) {
	root, err := parseXML(text)
	if err != nil {
		return nil, false, err
	}
	e, rest := root.find(key)
	if len(rest) == 1 && strings.HasPrefix(rest[0], "@") {
		for _, a := range e.attrs {
			if a.Name.Local == rest[0][1:] {
				return a.Value, true, nil
			}
		}
	}
	if len(rest) > 0 {
		return nil, false, nil
	}
	return strings.TrimSpace(e.text), true, nil
}

func (xmlFormat) set(text, key string, value any) (string, error) {
	root, err := parseXML(text)
	if err != nil {
		return "", err
	}
	e, rest := root.find(key)
	if len(rest) == 1 && strings.HasPrefix(rest[0], "@") {
		return e.setAttribute(text, rest[0][1:], value), nil
	}
	switch {
	case value == nil && len(rest) > 0:
		return text, nil
	case value == nil:
		return replaced(text, e.start, e.stop, ""), nil
	case len(rest) > 0 && e == root:
		return "", problem.New(problem.Refused, "The settings file has no element %s.", rest[0])
	case len(rest) > 0:
		added := escaped(fmt.Sprint(value))
		for i := len(rest) - 1; i >= 0; i-- {
			if strings.HasPrefix(rest[i], "@") {
				return "", problem.New(problem.Refused, "The settings file has no element %s.", strings.Join(rest[:i], "/"))
			}
			added = "<" + rest[i] + ">" + added + "</" + rest[i] + ">"
		}
		return e.appended(text, added), nil
	case len(e.children) > 0:
		return "", problem.New(problem.Refused, "%s holds other elements in the settings file, and no value.", key)
	case e.selfClosed():
		return e.appended(text, escaped(fmt.Sprint(value))), nil
	}
	return replaced(text, e.startEnd, e.end, escaped(fmt.Sprint(value))), nil
}

// setAttribute changes an attribute in an element's start tag.
func (e *element) setAttribute(text, name string, value any) string {
	tag := text[e.start:e.startEnd]
	pattern := regexp.MustCompile(`(\s)((?:[\w.-]+:)?` + regexp.QuoteMeta(name) + `\s*=\s*)("[^"]*"|'[^']*')`)
	at := pattern.FindStringSubmatchIndex(tag)
	written := `"` + escaped(fmt.Sprint(value)) + `"`
	switch {
	case value == nil && at == nil:
		return text
	case value == nil:
		return replaced(text, e.start+at[0], e.start+at[1], "")
	case at != nil:
		return replaced(text, e.start+at[6], e.start+at[7], written)
	}
	end := e.start + len(strings.TrimRight(strings.TrimSuffix(strings.TrimSuffix(tag, ">"), "/"), " \t\r\n"))
	return replaced(text, end, end, " "+name+"="+written)
}

func (xmlFormat) empty() string { return "" }

// plistFormat is property lists in XML; keys are the keys of dictionaries from the outside in, with slashes between.
type plistFormat struct{}

// entry finds a key in a dictionary: the key's element and its value's.
func (e *element) entry(name string) (key, value *element) {
	for i := 0; i+1 < len(e.children); i += 2 {
		if e.children[i].name == "key" && e.children[i].text == name {
			return e.children[i], e.children[i+1]
		}
	}
	return nil, nil
}

// dictionary is the outermost dictionary of a property list.
func dictionary(text string) (*element, error) {
	root, err := parseXML(text)
	if err != nil {
		return nil, err
	}
	if list := root.child("plist"); list != nil {
		if d := list.child("dict"); d != nil {
			return d, nil
		}
	}
	return nil, problem.New(problem.Refused, "The settings file is no property list with a dictionary.")
}

// plistValue reads a value.
func plistValue(e *element) any {
	switch e.name {
	case "true", "false":
		return e.name == "true"
	case "integer":
		if n, err := strconv.Atoi(strings.TrimSpace(e.text)); err == nil {
			return n
		}
	}
	return e.text
}

func (plistFormat) keys(text string) ([]string, error) {
	d, err := dictionary(text)
	if err != nil {
		return nil, err
	}
	var keys []string
	var visit func(prefix string, d *element)
	visit = func(prefix string, d *element) {
		for i := 0; i+1 < len(d.children); i += 2 {
			key := prefix + d.children[i].text
			if d.children[i+1].name == "dict" {
				visit(key+"/", d.children[i+1])
			} else {
				keys = append(keys, key)
			}
		}
	}
	visit("", d)
	return keys, nil
}

// find follows a key through dictionaries: the deepest one that is there, and the names below it.
func (plistFormat) find(text, key string) (in *element, rest []string, err error) {
	in, err = dictionary(text)
	if err != nil {
		return nil, nil, err
	}
	rest = strings.Split(key, "/")
	for len(rest) > 1 {
		_, value := in.entry(rest[0])
		if value == nil || value.name != "dict" {
			break
		}
		in, rest = value, rest[1:]
	}
	return in, rest, nil
}

func (f plistFormat) get(text, key string) (any, bool, error) {
	in, rest, err := f.find(text, key)
	if err != nil || len(rest) > 1 {
		return nil, false, err
	}
	if _, value := in.entry(rest[0]); value != nil {
		return plistValue(value), true, nil
	}
	return nil, false, nil
}

func (f plistFormat) set(text, key string, value any) (string, error) {
	in, rest, err := f.find(text, key)
	if err != nil {
		return "", err
	}
	written := ""
	switch v := value.(type) {
	case nil:
	case bool:
		written = fmt.Sprintf("<%t/>", v)
	case string:
		written = "<string>" + escaped(v) + "</string>"
	default:
		written = fmt.Sprintf("<integer>%v</integer>", v)
	}
	k, old := in.entry(rest[0])
	switch {
	case value == nil && (old == nil || len(rest) > 1):
		return text, nil
	case value == nil:
		return replaced(text, k.start, old.stop, ""), nil
	case old != nil && len(rest) > 1:
		return "", problem.New(problem.Refused, "%s is no dictionary in the settings file.", rest[0])
	case old != nil:
		return replaced(text, old.start, old.stop, written), nil
	}
	for i := len(rest) - 1; i > 0; i-- {
		written = "<dict>\n<key>" + escaped(rest[i]) + "</key>\n" + written + "\n</dict>"
	}
	return in.appended(text, "<key>"+escaped(rest[0])+"</key>\n"+written), nil
}

func (plistFormat) empty() string { return "" }
