package journey

import (
	"fmt"

	"missivum/core/client"
	"missivum/core/markup"
)

// Kind is what an event is about.
type Kind string

// The kinds.
const (
	Element     Kind = "element"     // Name
	Attribute   Kind = "attribute"   // Name and Value
	Declaration Kind = "declaration" // Property and Value
	Address     Kind = "address"     // Value is its scheme, or the kind of address without one (markup.SchemeOf)
	Rule        Kind = "rule"        // Name is its at-keyword, or Selector its selectors
	Text        Kind = "text"        // Value is the run of characters
	Condition   Kind = "condition"   // Value is the condition of a comment
	Structure   Kind = "structure"   // Name is the structure's; Element, Value and Size what was found of it
)

// Subject is what something happens to. Two subjects with the same fields are the same.
type Subject struct {
	Kind     Kind
	Name     string
	Property string
	Selector string
	Value    string
	Element  string  // of structures that are about one
	Size     float64 // of structures of a size: px or levels
}

// declared is a declaration as a subject.
func declared(d markup.Declaration) Subject {
	return Subject{Kind: Declaration, Property: d.Property, Value: d.Value}
}

// Code reports whether the subject in words is a piece of source rather than a phrase.
func (s Subject) Code() bool {
	return s.Kind == Element && s.Name != "link" || s.Kind == Attribute || s.Kind == Declaration || s.Kind == Text
}

// String is the subject in words, such as "border-radius: 50%", "<script>" or "a table inside 3 others".
func (s Subject) String() string {
	switch s.Kind {
	case Element:
		if s.Name == "link" {
			return "the linked style sheet"
		}
		return "<" + s.Name + ">"
	case Attribute:
		return s.Name
	case Declaration:
		return s.Property + ": " + s.Value
	case Address:
		return addressWords(s.Value)
	case Rule:
		if s.Name != "" {
			return "the rule @" + s.Name
		}
		return "the rule " + s.Selector
	case Condition:
		return "the content for [if " + s.Value + "]"
	case Structure:
		return structureOf(s.Name).says(s)
	}
	return s.Value
}

// addressWords names a kind of address.
func addressWords(scheme string) string {
	switch scheme {
	case markup.RelativeAddress, markup.WordAddress:
		return "an address without a scheme"
	case markup.NetworkAddress:
		return "an address that begins with //"
	case markup.FragmentAddress:
		return "an address within the page"
	case markup.EmptyAddress:
		return "an empty address"
	}
	return scheme + ": address"
}

// Event is one thing that happens on a signature's way.
type Event struct {
	Subject
	Stage     client.Stage
	Behaviour *client.Behaviour
	Node      *markup.Node // of the document that was simulated, not of the result
	Span      markup.Span  // in the source
}

// String is the event as one line.
func (e Event) String() string {
	s := fmt.Sprintf("%s: %s is %s", e.Stage, e.Subject, e.Behaviour.Does)
	if e.Behaviour.Says != "" {
		s += ": " + e.Behaviour.Says
	}
	return s
}
