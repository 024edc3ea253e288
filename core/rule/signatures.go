package rule

import (
	"slices"
	"strings"
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"

	"missivum/core/compose"
	"missivum/core/field"
	"missivum/core/message"
	"missivum/core/person"
	"missivum/core/picture"
	"missivum/core/problem"
	"missivum/core/template"
)

// Signatures are templates compiled for what mail rules need of them.
type Signatures struct {
	schema    *person.Schema
	templates map[string]*compiled
	names     []string
	known     *lru.Cache[string, []*message.Fingerprint]
	mail      int // columns of the fields that tell people
	name      []int
	numbers   []int
}

// compiled is a template with its fillers, which are used one after another.
type compiled struct {
	template  *template.Template
	signature *compose.Signature
	fillers   sync.Pool
	hosted    bool // it has an address for its pictures
	earlier   bool // of an earlier release: known again, not put in
}

// maxKnown is for how many people the fingerprints are kept.
const maxKnown = 5_000

// Compile compiles templates; earlier ones are those of earlier releases, whose signatures are known again. The error is
// field.Errors for mistakes in a template.
func CompileSignatures(templates, earlier []*template.Template, schema *person.Schema, day time.Time) (*Signatures, error) {
	s := &Signatures{schema: schema, templates: map[string]*compiled{}}
	s.known, _ = lru.New[string, []*message.Fingerprint](maxKnown)
	for _, t := range templates {
		c, err := compileOne(t, schema, day)
		if err != nil {
			return nil, err
		}
		s.templates[t.Name] = c
		s.names = append(s.names, t.Name)
	}
	slices.Sort(s.names)
	for i, t := range earlier {
		c, err := compileOne(t, schema, day)
		if err != nil {
			continue // what was sent then cannot be known by it
		}
		c.earlier = true
		s.templates["\x00"+string(rune('a'+i%26))+t.Name+t.Version()] = c
	}
	column := func(name string) int { i, _, _ := schema.Column(name); return i }
	s.mail = column("mail")
	s.name = []int{column("displayName"), column("cn")}
	s.numbers = []int{column("telephoneNumber"), column("mobile")}
	return s, nil
}

func compileOne(t *template.Template, schema *person.Schema, day time.Time) (*compiled, error) {
	known := schema.Declaring(t.Settings.Fields...)
	signature, err := compose.Compile(compose.Source{Template: t, Schema: known, Day: day}, compose.StampHosted,
		compose.StampCarried, compose.Text)
	if err != nil {
		return nil, problem.As(problem.Refused, err)
	}
	address, _ := t.Hosting()
	c := &compiled{template: t, signature: signature, hosted: address != ""}
	c.fillers.New = func() any { return signature.NewFiller() }
	return c, nil
}

// Has reports whether there is a template, and whether it has a variant; a blank variant is always there.
func (s *Signatures) Has(name, variant string) bool {
	c := s.templates[name]
	return c != nil && !c.earlier && (variant == "" || slices.Contains(c.template.Variants(), variant))
}

// Names lists the templates.
func (s *Signatures) Names() []string { return s.names }

// Variants lists a template's variants.
func (s *Signatures) Variants(name string) []string {
	if c := s.templates[name]; c != nil {
		return c.template.Variants()
	}
	return nil
}

// fill gives a person's signature.
func (c *compiled) fill(p *person.Person, variant string, carried bool) message.Signature {
	f := c.fillers.Get().(*field.Filler)
	defer c.fillers.Put(f)
	f.Set(p)
	form := compose.StampHosted
	if carried {
		form = compose.StampCarried
	}
	html, pictures := c.signature.Stamped(c.template, variant, form, f)
	s := message.Signature{Name: c.template.Name + ", " + variant, HTML: html, Text: c.signature.FillText(variant, f)}
	for _, p := range pictures {
		s.Pictures = append(s.Pictures, message.Picture{ID: p.ID, Media: picture.Media(p.Picture.Format),
			File: p.Picture.File, Data: p.Picture.Data})
	}
	return s
}

// Signature gives the signature of a template for a person. pictures is hosted, carried or blank for what the template says. The
// error is a problem: there is no such template or variant.
func (s *Signatures) Signature(name, variant, pictures string, p *person.Person) (message.Signature, error) {
	c := s.templates[name]
	if c == nil || c.earlier {
		return message.Signature{}, problem.New(problem.NotFound, "There is no template %q; there is %s.", name, strings.Join(s.names, ", "))
	}
	if !slices.Contains(c.template.Variants(), variant) {
		return message.Signature{}, problem.New(problem.NotFound, "The template %s has no variant %q.", name, variant)
	}
	return c.fill(p, variant, pictures == "carried" || pictures == "" && !c.hosted), nil
}

// Known are the fingerprints by which a person's signatures are known again: every template in every variant, as page and as text.
func (s *Signatures) Known(p *person.Person) []*message.Fingerprint {
	owner := s.Owner(p)
	if list, ok := s.known.Get(owner.Mail); ok && owner.Mail != "" {
		return list
	}
	var list []*message.Fingerprint
	for _, c := range s.templates {
		for _, variant := range c.template.Variants() {
			one := c.fill(p, variant, false)
			for _, f := range []*message.Fingerprint{message.NewFingerprint(one.Name, true, one.HTML, owner),
				message.NewFingerprint(one.Name, false, one.Text, owner)} {
				if f != nil {
					list = append(list, f)
				}
			}
		}
	}
	s.known.Add(owner.Mail, list)
	return list
}

// Owner is what tells a person.
func (s *Signatures) Owner(p *person.Person) message.Owner {
	o := message.Owner{Mail: p.At(s.mail)}
	for _, c := range s.name {
		if o.Name = p.At(c); o.Name != "" {
			break
		}
	}
	for _, c := range s.numbers {
		if v := p.At(c); v != "" {
			o.More = append(o.More, v)
		}
	}
	return o
}
