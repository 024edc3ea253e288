package field

import (
	"fmt"
	"strings"

	"missivum/core/markup"
)

// The limits of the template language, beside those of packages markup and style. No honest signature comes near them.
const (
	MaxFields     = 1_000 // fields in a source
	MaxExpression = 1_000 // bytes between double braces
	MaxModifiers  = 20    // of one field
	MaxConditions = 1_000 // attributes of the language
	MaxNames      = 50    // names in one condition, or fields joined by or
	mostMistakes  = 50    // that are listed
)

// Limits are those limits in words, for the reference.
func Limits() map[string]int {
	return map[string]int{
		"fields": MaxFields, "bytes of one field": MaxExpression, "modifiers of one field": MaxModifiers,
		"attributes of the template language": MaxConditions, "names in one condition": MaxNames,
	}
}

// beyond is the first limit that the source passes, or nil.
func (s *Source) beyond() *Error {
	var found *Error
	fields, conditions := 0, 0
	refuse := func(at markup.Span, what string, most int) {
		if found == nil {
			e := s.problem(at.Start, at.Len(), fmt.Sprintf("more than %d %s; a signature has a few", most, what))
			found = &e
		}
	}
	expressions := func(raw string, at markup.Span) {
		if !HasField(raw) {
			return
		}
		for _, seg := range scan(raw) {
			if !seg.field {
				continue
			}
			switch fields++; {
			case fields > MaxFields:
				refuse(at, "fields", MaxFields)
			case len(seg.text) > MaxExpression:
				refuse(at, "bytes in one field", MaxExpression)
			case strings.Count(seg.text, "|") > MaxModifiers:
				refuse(at, "modifiers of one field", MaxModifiers)
			case strings.Count(seg.text, " or ") > MaxNames:
				refuse(at, "fields joined by or", MaxNames)
			}
			if found != nil {
				return
			}
		}
	}
	s.Doc.Root.Walk(func(n *markup.Node) bool {
		if n.Kind == markup.Text {
			expressions(n.Data, n.Open)
		}
		for _, a := range n.Attrs {
			if found != nil {
				return false
			}
			if !Own(a.Name) {
				expressions(a.Value, a.Span)
				continue
			}
			if conditions++; conditions > MaxConditions {
				refuse(a.Span, "attributes of the template language", MaxConditions)
			}
			if len(strings.Fields(a.Value)) > MaxNames && a.Name != AttrJoin {
				refuse(a.Span, "names in one condition", MaxNames)
			}
		}
		return found == nil
	})
	return found
}
