// Package addon is what the browser add-on works with, and how it is packed. Sites, with the compose fields on them, are data that an
// organisation writes or records; an answer is what one person's add-on works with; a package is the add-on for one organisation, with
// no access but to the sites that it names. Start with Site and Pack.
package addon

import (
	"bytes"
	"fmt"
	"net/netip"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"github.com/andybalholm/cascadia"
	"gopkg.in/yaml.v3"

	"missivum/core/problem"
)

// Place is where a signature goes in a message that has a quotation.
type Place string

// The places.
const (
	Above Place = "above" // directly above the quotation
	Below Place = "below" // at the end of the message
)

// Site is a webmail of the organisation.
type Site struct {
	ID      string    `json:"id" yaml:"id"`                       // lower-case letters, digits and hyphens
	Title   string    `json:"title" yaml:"title"`                 // as the organisation calls it
	Matches []string  `json:"matches" yaml:"matches"`             // addresses of its pages, such as https://mail.brackwater.example/*
	Client  string    `json:"client" yaml:"client"`               // profile for which the signature is prepared
	Place   Place     `json:"place" yaml:"place"`                 // above or below a quotation
	Off     bool      `json:"off,omitempty" yaml:"off,omitempty"` // nothing is placed there for now
	Compose []Compose `json:"compose" yaml:"compose"`             // how its compose fields are recognised; none yet while one is recorded
}

// Compose is how one compose field, and what belongs to it, is recognised. Each member but AccountAttribute is a selector (Selectors
// Level 4) of elements.
type Compose struct {
	// Pane holds one message, where a page shows several; blank for the page.
	Pane string `json:"pane,omitempty" yaml:"pane,omitempty"`
	// When is there, in the pane, while this description holds; blank for always.
	When string `json:"when,omitempty" yaml:"when,omitempty"`
	// Frame holds the field, in the pane; blank for none.
	Frame string `json:"frame,omitempty" yaml:"frame,omitempty"`
	// Field is written in: an editable element or a text area.
	Field string `json:"field" yaml:"field"`
	// Account shows the sender's mail address, in the pane.
	Account string `json:"account" yaml:"account"`
	// AccountAttribute of it holds the address; blank for its value or text.
	AccountAttribute string `json:"accountAttribute,omitempty" yaml:"accountAttribute,omitempty"`
	// Quotation begins what is quoted, in the field.
	Quotation string `json:"quotation,omitempty" yaml:"quotation,omitempty"`
	// Signature is what the site puts its own signature in.
	Signature string `json:"signature,omitempty" yaml:"signature,omitempty"`
	// Draft is there when a draft is opened again.
	Draft string `json:"draft,omitempty" yaml:"draft,omitempty"`
	// Reply is there in replies and forwards; blank: whether there is a quotation.
	Reply string `json:"reply,omitempty" yaml:"reply,omitempty"`
}

// Limits of sites.
const (
	MostSites    = 50
	mostMatches  = 20
	mostCompose  = 20
	longestText  = 200   // characters of a title
	longestQuery = 1_000 // characters of a selector or an address
)

var identifier = regexp.MustCompile(`^[a-z0-9]+(-[a-z0-9]+)*$`)

// Check refuses sites that make no sense; the error is of the kind Invalid and names the member.
func Check(sites []Site) error {
	if len(sites) > MostSites {
		return problem.New(problem.Invalid, "There can be %d sites.", MostSites).In("sites")
	}
	seen := map[string]bool{}
	for i, s := range sites {
		at := fmt.Sprintf("sites[%d]", i)
		if err := s.check(at); err != nil {
			return err
		}
		if seen[s.ID] {
			return problem.New(problem.Invalid, "The site %s is there twice.", s.ID).In(at + ".id")
		}
		seen[s.ID] = true
	}
	return nil
}

func (s Site) check(at string) error {
	switch {
	case !identifier.MatchString(s.ID) || len(s.ID) > 64:
		return problem.New(problem.Invalid, "%q cannot name a site; use lower-case letters, digits and hyphens, such as crew-webmail.", s.ID).
			In(at + ".id")
	case strings.TrimSpace(s.Title) == "" || len(s.Title) > longestText:
		return problem.New(problem.Invalid, "The site %s needs a title of at most %d characters.", s.ID, longestText).In(at + ".title")
	case s.Client == "":
		return problem.New(problem.Invalid, "Say which client profile stands for the site %s.", s.ID).In(at + ".client")
	case s.Place != Above && s.Place != Below:
		return problem.New(problem.Invalid, "The place of the site %s is above or below.", s.ID).In(at + ".place")
	case len(s.Matches) == 0 || len(s.Matches) > mostMatches:
		return problem.New(problem.Invalid, "The site %s needs 1 to %d addresses, such as https://mail.brackwater.example/*.", s.ID, mostMatches).
			In(at + ".matches")
	case len(s.Compose) > mostCompose:
		return problem.New(problem.Invalid, "The site %s can have %d compose fields.", s.ID, mostCompose).In(at + ".compose")
	}
	for i, m := range s.Matches {
		if _, err := ReadPattern(m); err != nil {
			return problem.New(problem.Invalid, "The site %s: %v.", s.ID, err).In(fmt.Sprintf("%s.matches[%d]", at, i))
		}
	}
	for i, c := range s.Compose {
		if err := c.check(fmt.Sprintf("%s.compose[%d]", at, i)); err != nil {
			return err
		}
	}
	return nil
}

// ours are pseudo-classes that the selector library knows and browsers do not.
var ours = regexp.MustCompile(`(?i):(contains|containsown|matches|matchesown|haschild|input)\b`)

func (c Compose) check(at string) error {
	if c.Field == "" {
		return problem.New(problem.Invalid, "Say by which selector the compose field is found.").In(at + ".field")
	}
	if c.Account == "" {
		return problem.New(problem.Invalid,
			"Say by which selector the sender's address is found: a signature must not leave from another account.").In(at + ".account")
	}
	for name, selector := range map[string]string{"pane": c.Pane, "when": c.When, "frame": c.Frame, "field": c.Field, "account": c.Account,
		"quotation": c.Quotation, "signature": c.Signature, "draft": c.Draft, "reply": c.Reply} {
		if selector == "" {
			continue
		}
		if _, err := cascadia.ParseGroup(selector); err != nil || len(selector) > longestQuery || ours.MatchString(selector) {
			return problem.New(problem.Invalid, "%q is no selector that every browser reads.", selector).In(at + "." + name)
		}
	}
	if c.AccountAttribute != "" && !regexp.MustCompile(`^[A-Za-z][\w-]{0,60}$`).MatchString(c.AccountAttribute) {
		return problem.New(problem.Invalid, "%q is no name of an attribute.", c.AccountAttribute).In(at + ".accountAttribute")
	}
	return nil
}

// Pattern is a set of addresses: all pages of a host below a path.
type Pattern struct {
	Scheme string // http or https
	Host   string // such as mail.brackwater.example, *.brackwater.example or 127.0.0.1
	Port   string // blank for every one
	Path   string // begins with /; * stands for anything
}

// named is a domain below which hosts are named: with a dot, and letters at its end.
var named = regexp.MustCompile(`\.[a-z][a-z0-9-]*$`)

// ReadPattern reads a pattern. The error says in words what is wrong with it. Pages are reached by HTTPS; HTTP alone on the machine
// itself. A host is named, or everything below a domain: a pattern for every host is refused.
func ReadPattern(text string) (p Pattern, err error) {
	scheme, rest, ok := strings.Cut(text, "://")
	host, path, slash := strings.Cut(rest, "/")
	if !ok || !slash || len(text) > longestQuery || strings.ContainsAny(text, " \t\r\n\\?#@") {
		return p, fmt.Errorf("%q is no address of pages; write it as https://mail.brackwater.example/*", text)
	}
	p = Pattern{Scheme: scheme, Host: strings.ToLower(host), Path: "/" + path}
	if at := strings.LastIndexByte(p.Host, ':'); at > strings.LastIndexByte(p.Host, ']') {
		p.Host, p.Port = p.Host[:at], p.Host[at+1:]
	}
	if _, err := url.Parse(scheme + "://" + strings.Replace(host, "*", "x", 1) + "/"); err != nil {
		return p, fmt.Errorf("%q is no address of pages: its host cannot be read", text)
	}
	domain, wild := strings.CutPrefix(p.Host, "*.")
	if domain == "" || strings.Contains(domain, "*") || wild && !named.MatchString(domain) {
		return p, fmt.Errorf("%q would be too many sites: name the host, or everything below a domain of your own", text)
	}
	if p.Scheme != "https" && (p.Scheme != "http" || !p.local()) {
		return p, fmt.Errorf("%q is not reached by HTTPS", text)
	}
	return p, nil
}

// local reports whether the pages are on the machine itself.
func (p Pattern) local() bool {
	ip, err := netip.ParseAddr(strings.Trim(p.Host, "[]"))
	return p.Host == "localhost" || err == nil && ip.IsLoopback()
}

// String writes a pattern as browsers read it (match patterns). Ports are left out for engines that refuse them.
func (p Pattern) String(ports bool) string {
	host := p.Host
	if ports && p.Port != "" {
		host += ":" + p.Port
	}
	return p.Scheme + "://" + host + p.Path
}

// patterns are those of all sites, each once, as an engine reads them.
func patterns(sites []Site, ports bool) []string {
	list := []string{}
	for _, s := range sites {
		for _, m := range s.Matches {
			p, err := ReadPattern(m)
			if err == nil && !slices.Contains(list, p.String(ports)) {
				list = append(list, p.String(ports))
			}
		}
	}
	return list
}

// MaxDocument is how large a document of sites may be, in bytes.
const MaxDocument = 256 << 10

// ReadSites reads a document of sites: YAML with the member sites. Members that are not known are refused, with their line.
func ReadSites(document []byte) ([]Site, error) {
	if len(document) > MaxDocument {
		return nil, problem.New(problem.TooLarge, "The document is larger than %d kB.", MaxDocument>>10)
	}
	var d struct {
		Sites []Site `yaml:"sites"`
	}
	decoder := yaml.NewDecoder(bytes.NewReader(document))
	decoder.KnownFields(true)
	if err := decoder.Decode(&d); err != nil {
		return nil, problem.New(problem.Invalid, "The sites cannot be read: %v.", err)
	}
	return d.Sites, Check(d.Sites)
}

// WriteSites writes a document of sites.
func WriteSites(sites []Site) ([]byte, error) {
	return yaml.Marshal(map[string][]Site{"sites": sites})
}

// Answer is what one person's add-on works with. It has nothing of anybody else.
type Answer struct {
	Person     string      `json:"person"` // mail address; the one account for which signatures are placed
	Release    string      `json:"release"`
	Ends       string      `json:"ends"` // day on which the key ends, YYYY-MM-DD
	Sites      []Site      `json:"sites"`
	Signatures []Signature `json:"signatures"`
}

// Signature is what is placed on a site in a situation.
type Signature struct {
	Site      string `json:"site"`
	Situation string `json:"situation"` // new or reply
	HTML      string `json:"html"`
	Text      string `json:"text"`
}

// Outcome is what the add-on did with a message, or why it did nothing.
type Outcome string

// The outcomes.
const (
	Placed  Outcome = "placed"
	There   Outcome = "there"            // it stood there already
	OwnBox  Outcome = "site-signature"   // another signature stands in the site's own settings
	Another Outcome = "other-add-on"     // something else put one there first
	Unknown Outcome = "field-unknown"    // the compose field is not recognised
	Changed Outcome = "returned-by-site" // the page took it out again
)

// Outcomes are those that are reported.
var Outcomes = []Outcome{Placed, There, OwnBox, Another, Unknown, Changed}

// State is what an add-on says of itself: nothing of messages.
type State struct {
	Version string   `json:"version"`
	Reports []Report `json:"reports"`
}

// Report is how it went on a site in a situation.
type Report struct {
	Site      string  `json:"site"`
	Situation string  `json:"situation"`
	Outcome   Outcome `json:"outcome"`
	Release   string  `json:"release"`
}
