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
	Made    time.Time
	Paused  string // why every message is left as it is; blank for a bundle that works
	Sets    []Set  // the newest release first
	People  *person.Directory
	Earlier []*template.Template // of earlier releases, whose signatures are known again
}

// Set is the rules of one release with their templates. A message goes by the first set that reaches its sender.
type Set struct {
	Release   int      // its number; 0 where there are no releases, as for rules from a file
	Open      []string // audiences of its open waves; a blank one is everybody
	File      File
	Templates []*template.Template
	People    *person.Directory // where the release froze them; nil for the bundle's
}

// Single is the bundle of rules from a file, which reach everybody.
func Single(made time.Time, file File, people *person.Directory, templates ...*template.Template) Bundle {
	return Bundle{Made: made, People: people, Sets: []Set{{Open: []string{""}, File: file, Templates: templates}}}
}

// bundleLine is the first line of a bundle.
const bundleLine = "missivum-bundle 2\n"

// Limits of a bundle, in bytes.
const (
	MaxBundle   = 256 << 20 // of the file
	maxUnpacked = 1 << 30   // of what is in it
)

// packed is a bundle as it is written.
type packed struct {
	Made    time.Time        `json:"made"`
	Paused  string           `json:"paused"`
	Sets    []packedSet      `json:"sets"`
	People  packedPeople     `json:"people"`
	Earlier []packedTemplate `json:"earlier"`
}

type packedSet struct {
	Release   int              `json:"release"`
	Open      []string         `json:"open"`
	Rules     File             `json:"rules"`
	Templates []packedTemplate `json:"templates"`
	People    *packedPeople    `json:"people,omitempty"`
}

type packedPeople struct {
	Fields []string       `json:"fields"`
	People []packedPerson `json:"people"`
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
	p := packed{Made: b.Made.UTC(), Paused: b.Paused, People: packPeople(b.People), Earlier: packTemplates(b.Earlier), Sets: []packedSet{}}
	for _, s := range b.Sets {
		one := packedSet{Release: s.Release, Open: s.Open, Rules: s.File, Templates: packTemplates(s.Templates)}
		if s.People != nil {
			people := packPeople(s.People)
			one.People = &people
		}
		p.Sets = append(p.Sets, one)
	}
	var content bytes.Buffer
	z := gzip.NewWriter(&content)
	if err := errors.Join(json.NewEncoder(z).Encode(p), z.Close()); err != nil {
		return nil, err
	}
	return append(append([]byte(bundleLine), key.Sign(content.Bytes())...), content.Bytes()...), nil
}

func packPeople(d *person.Directory) packedPeople {
	p := packedPeople{Fields: d.Schema.Names(), People: make([]packedPerson, len(d.People))}
	for i := range d.People {
		p.People[i] = packedPerson{d.People[i].Values, d.People[i].Groups}
	}
	return p
}

// unpack gives the directory.
func (p packedPeople) unpack() *person.Directory {
	d := &person.Directory{Schema: person.NewSchema(p.Fields...), People: make([]person.Person, len(p.People))}
	for i, one := range p.People {
		d.People[i] = person.Person{Values: one.Values, Groups: one.Groups}
	}
	return d
}

func packTemplates(list []*template.Template) []packedTemplate {
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
		return b, "", problem.New(problem.Refused, "This is no bundle, or one of another version of Missivum.")
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
	b = Bundle{Made: p.Made, Paused: p.Paused, People: p.People.unpack()}
	if b.Earlier, err = unpackTemplates(p.Earlier); err != nil {
		return b, "", err
	}
	for _, one := range p.Sets {
		s := Set{Release: one.Release, Open: one.Open, File: one.Rules}
		if s.Templates, err = unpackTemplates(one.Templates); err != nil {
			return b, "", err
		}
		if one.People != nil {
			s.People = one.People.unpack()
		}
		b.Sets = append(b.Sets, s)
	}
	return b, BundleName(data), nil
}

// BundleName is the name by which a bundle is shown and recorded: the beginning of its content's digest.
func BundleName(data []byte) string {
	_, rest, _ := bytes.Cut(data, []byte("\n"))
	_, content, _ := bytes.Cut(rest, []byte("\n"))
	return kit.Digest(content)[:12]
}

func unpackTemplates(list []packedTemplate) (out []*template.Template, err error) {
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
	if b.Paused != "" {
		return idle("Mail rules are paused: " + b.Paused), nil
	}
	if len(b.Sets) == 0 {
		return idle("No release with mail rules is out."), nil
	}
	last := idle("No release with mail rules reaches the sender.")
	indexes := map[*person.Directory]*Index{}
	for i := len(b.Sets) - 1; i >= 0; i-- { // the oldest first: each stands before the one that it falls back to
		s := b.Sets[i]
		people := s.People
		if people == nil {
			people = b.People
		}
		if indexes[people] == nil {
			indexes[people] = NewIndex(people)
		}
		signatures, err := CompileSignatures(s.Templates, b.earlierThan(s), people.Schema, day)
		if err != nil {
			return nil, err
		}
		e, err := Compile(Parts{File: s.File, People: indexes[people], Schema: people.Schema, Signatures: signatures, Day: day, Mark: mark})
		if err != nil {
			return nil, err
		}
		for _, name := range s.Open {
			if !e.set.Has(name) {
				return nil, problem.New(problem.Invalid, "The release %d has a wave for the audience %q, which is not there.", s.Release, name)
			}
		}
		e.release, e.open, e.before = s.Release, s.Open, last
		last = e
	}
	return last, nil
}

// earlierThan are the templates whose signatures a set knows again: those of the other sets, and of earlier releases.
func (b Bundle) earlierThan(s Set) []*template.Template {
	seen := map[string]bool{}
	for _, t := range s.Templates {
		seen[t.Name+t.Version()] = true
	}
	var list []*template.Template
	add := func(more []*template.Template) {
		for _, t := range more {
			if key := t.Name + t.Version(); !seen[key] {
				seen[key] = true
				list = append(list, t)
			}
		}
	}
	for _, other := range b.Sets {
		add(other.Templates)
	}
	add(b.Earlier)
	return list
}
