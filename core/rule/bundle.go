package rule

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"errors"
	"io"
	"time"

	"missivum/core/kit"
	"missivum/core/person"
	"missivum/core/problem"
	"missivum/core/template"
)

// Bundle is all that a gateway needs, as one signed file: rules, people, and templates with their pictures. It is a line that says
// what it is, a line with the signature of what follows (Ed25519, RFC 8032, in base64), and JSON compressed by gzip (RFC 1952).
type Bundle struct {
	Made      time.Time
	File      File
	People    *person.Directory
	Templates []*template.Template
	Earlier   []*template.Template // of earlier releases, whose signatures are known again
}

// bundleLine is the first line of a bundle.
const bundleLine = "missivum-bundle 1\n"

// Limits of a bundle, in bytes.
const (
	MaxBundle   = 256 << 20 // of the file
	maxUnpacked = 1 << 30   // of what is in it
)

// packed is a bundle as it is written.
type packed struct {
	Made      time.Time        `json:"made"`
	Rules     File             `json:"rules"`
	Fields    []string         `json:"fields"`
	People    []packedPerson   `json:"people"`
	Templates []packedTemplate `json:"templates"`
	Earlier   []packedTemplate `json:"earlier"`
}

type packedPerson struct {
	Values []string `json:"v"`
	Groups []string `json:"g,omitempty"`
}

type packedTemplate struct {
	Name   string         `json:"name"`
	Parts  template.Parts `json:"parts"`
	Public string         `json:"public,omitempty"` // where the service hosts its pictures
}

// Write gives the bundle as a file, signed with a key.
func (b Bundle) Write(key kit.Key) ([]byte, error) {
	p := packed{Made: b.Made.UTC(), Rules: b.File, Fields: b.People.Schema.Names(), People: make([]packedPerson, len(b.People.People))}
	for i := range b.People.People {
		p.People[i] = packedPerson{b.People.People[i].Values, b.People.People[i].Groups}
	}
	p.Templates, p.Earlier = packedTemplates(b.Templates), packedTemplates(b.Earlier)
	var content bytes.Buffer
	z := gzip.NewWriter(&content)
	if err := errors.Join(json.NewEncoder(z).Encode(p), z.Close()); err != nil {
		return nil, err
	}
	return append(append([]byte(bundleLine), key.Sign(content.Bytes())...), content.Bytes()...), nil
}

func packedTemplates(list []*template.Template) []packedTemplate {
	out := []packedTemplate{}
	for _, t := range list {
		out = append(out, packedTemplate{t.Name, t.Parts(), t.Public})
	}
	return out
}

// ReadBundle reads a bundle that is signed by a trusted key, and gives the name by which it is shown and recorded: the beginning of
// its digest. The error is a problem of the kind Refused or TooLarge.
func ReadBundle(data []byte, trusted kit.Trusted) (b Bundle, name string, err error) {
	defer func() { err = problem.As(problem.Refused, err) }()
	if len(data) > MaxBundle {
		return b, "", problem.New(problem.TooLarge, "The bundle is larger than %d MB.", MaxBundle>>20)
	}
	rest, ok := bytes.CutPrefix(data, []byte(bundleLine))
	signature, content, found := bytes.Cut(rest, []byte("\n"))
	if !ok || !found {
		return b, "", problem.New(problem.Refused, "This is no bundle.")
	}
	if !trusted.Signed(content, signature) {
		return b, "", problem.New(problem.Refused, "The bundle is not signed by the key that is trusted, or it was changed.")
	}
	z, err := gzip.NewReader(bytes.NewReader(content))
	if err != nil {
		return b, "", err
	}
	text, err := io.ReadAll(io.LimitReader(z, maxUnpacked+1))
	if err != nil {
		return b, "", err
	}
	if len(text) > maxUnpacked {
		return b, "", problem.New(problem.TooLarge, "The bundle holds more than %d MB.", maxUnpacked>>20)
	}
	var p packed
	if err := json.Unmarshal(text, &p); err != nil {
		return b, "", err
	}
	b = Bundle{Made: p.Made, File: p.Rules, People: &person.Directory{Schema: person.NewSchema(p.Fields...),
		People: make([]person.Person, len(p.People))}}
	for i, one := range p.People {
		b.People.People[i] = person.Person{Values: one.Values, Groups: one.Groups}
	}
	if b.Templates, err = unpacked(p.Templates); err != nil {
		return b, "", err
	}
	b.Earlier, err = unpacked(p.Earlier)
	return b, kit.Digest(content)[:12], err
}

func unpacked(list []packedTemplate) (out []*template.Template, err error) {
	for _, p := range list {
		t, err := template.New(p.Name, p.Parts)
		if err != nil {
			return nil, err
		}
		t.Public = p.Public
		out = append(out, t)
	}
	return out, nil
}

// Engine compiles the bundle's rules; mark is what the header field of stamped messages says of who stamped them.
func (b Bundle) Engine(day time.Time, mark string) (*Engine, error) {
	signatures, err := CompileSignatures(b.Templates, b.Earlier, b.People.Schema, day)
	if err != nil {
		return nil, err
	}
	return Compile(Parts{File: b.File, People: NewIndex(b.People), Schema: b.People.Schema, Signatures: signatures, Day: day, Mark: mark})
}
