package scim

import (
	"encoding/json"
	"fmt"
	"strings"

	parser "github.com/scim2/filter-parser/v2"
)

// Filter is a compiled filter (RFC 7644, 3.4.2.2).
type Filter struct {
	kind Kind
	expr parser.Expression
}

// Limits of filters.
const (
	maxFilter = 4 << 10 // bytes
	maxDepth  = 30
)

// ParseFilter reads a filter; a blank one lets everything through.
func (k Kind) ParseFilter(text string) (*Filter, error) {
	if strings.TrimSpace(text) == "" {
		return &Filter{kind: k}, nil
	}
	if len(text) > maxFilter || strings.Count(text, "(") > maxDepth {
		return nil, wrong("invalidFilter", "The filter is longer than %d bytes or deeper than %d.", maxFilter, maxDepth)
	}
	expr, err := parse(func() (parser.Expression, error) { return parser.ParseFilter([]byte(text)) })
	if err != nil {
		return nil, wrong("invalidFilter", "The filter cannot be read: %v", err)
	}
	f := &Filter{k, expr}
	return f, f.check(expr, nil)
}

// parse calls the parser, which may panic on what it does not understand.
func parse[T any](read func() (T, error)) (out T, err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("it is not understood")
		}
	}()
	return read()
}

// check refuses attributes that are not known. within are those of the attribute in whose brackets it stands.
func (f *Filter) check(expr parser.Expression, within []Attribute) error {
	switch e := expr.(type) {
	case *parser.LogicalExpression:
		if err := f.check(e.Left, within); err != nil {
			return err
		}
		return f.check(e.Right, within)
	case *parser.NotExpression:
		return f.check(e.Expression, within)
	case *parser.ValuePath:
		list, err := f.kind.attributes(e.AttributePath)
		if err != nil {
			return err
		}
		return f.check(e.ValueFilter, list[len(list)-1].SubAttributes)
	case *parser.AttributeExpression:
		if within != nil {
			if _, ok := find(within, e.AttributePath.AttributeName); !ok {
				return wrong("invalidFilter", "There is no attribute %s.", e.AttributePath)
			}
			return nil
		}
		_, err := f.kind.attributes(e.AttributePath)
		return err
	}
	return wrong("invalidFilter", "The filter is not understood.")
}

// attributes resolves a path: the attribute, and its part where one is named.
func (k Kind) attributes(p parser.AttributePath) ([]Attribute, error) {
	list := k.top()
	if urn := p.URI(); urn != "" && !strings.EqualFold(urn, k.Schema) {
		extension, ok := k.extension(urn)
		if !ok {
			return nil, wrong("invalidPath", "There is no schema %s.", urn)
		}
		list = known[extension]
	}
	a, ok := find(list, p.AttributeName)
	if !ok && strings.EqualFold(p.AttributeName, "schemas") {
		a, ok = Attribute{Name: "schemas", Type: "string", MultiValued: true}, true
	}
	if !ok {
		return nil, wrong("invalidPath", "There is no attribute %s.", p)
	}
	if p.SubAttributeName() == "" {
		return []Attribute{a}, nil
	}
	part, ok := find(a.SubAttributes, p.SubAttributeName())
	if !ok {
		return nil, wrong("invalidPath", "There is no attribute %s.", p)
	}
	return []Attribute{a, part}, nil
}

// Holds reports whether a resource passes the filter.
func (f *Filter) Holds(r Resource) bool { return f.expr == nil || f.holds(f.expr, r, nil) }

// holds evaluates an expression, on a resource or on one value in brackets.
func (f *Filter) holds(expr parser.Expression, r map[string]any, within []Attribute) bool {
	switch e := expr.(type) {
	case *parser.LogicalExpression:
		if e.Operator == parser.AND {
			return f.holds(e.Left, r, within) && f.holds(e.Right, r, within)
		}
		return f.holds(e.Left, r, within) || f.holds(e.Right, r, within)
	case *parser.NotExpression:
		return !f.holds(e.Expression, r, within)
	case *parser.ValuePath:
		list, err := f.kind.attributes(e.AttributePath)
		if err != nil {
			return false
		}
		for _, one := range asList(f.kind.value(r, e.AttributePath, list[0])) {
			if parts, ok := one.(map[string]any); ok && f.holds(e.ValueFilter, parts, list[0].SubAttributes) {
				return true
			}
		}
		return false
	case *parser.AttributeExpression:
		return f.compare(e, r, within)
	}
	return false
}

// value gives the value of an attribute at the top of a resource or in an extension.
func (k Kind) value(r map[string]any, p parser.AttributePath, a Attribute) any {
	if urn, ok := k.extension(p.URI()); ok {
		inner, _ := r[urn].(map[string]any)
		return inner[a.Name]
	}
	return r[a.Name]
}

// asList is a value as a list.
func asList(value any) []any {
	if list, ok := value.([]any); ok {
		return list
	}
	if value == nil {
		return nil
	}
	return []any{value}
}

// compare evaluates a comparison; of several values one that fits is enough.
func (f *Filter) compare(e *parser.AttributeExpression, r map[string]any, within []Attribute) bool {
	var values []any
	var last Attribute
	if within != nil {
		a, _ := find(within, e.AttributePath.AttributeName)
		values, last = asList(r[a.Name]), a
	} else {
		list, err := f.kind.attributes(e.AttributePath)
		if err != nil {
			return false
		}
		values, last = asList(f.kind.value(r, e.AttributePath, list[0])), list[len(list)-1]
		part := "value" // what a complex attribute of several values is compared by (RFC 7644, 3.4.2.2)
		if len(list) == 2 {
			part = list[1].Name
		}
		if len(list) == 2 || list[0].Type == "complex" {
			var inner []any
			for _, value := range values {
				if parts, ok := value.(map[string]any); ok && parts[part] != nil {
					inner = append(inner, parts[part])
				} else if ok && e.Operator == parser.PR && len(list) == 1 {
					inner = append(inner, parts)
				}
			}
			values = inner
		}
	}
	if e.Operator == parser.PR {
		for _, value := range values {
			if value != "" {
				return true
			}
		}
		return false
	}
	if e.Operator == parser.NE && len(values) == 0 {
		return e.CompareValue != nil
	}
	if e.CompareValue == nil && e.Operator == parser.EQ {
		return len(values) == 0
	}
	for _, value := range values {
		if fits(value, string(e.Operator), e.CompareValue, last.CaseExact) {
			return true
		}
	}
	return false
}

// fits compares a value with that of a filter.
func fits(value any, operator string, with any, exact bool) bool {
	if b, ok := value.(bool); ok {
		want, ok := with.(bool)
		return ok && (operator == "eq") == (b == want) && (operator == "eq" || operator == "ne")
	}
	a := fmt.Sprint(value)
	b := fmt.Sprint(with)
	if n, ok := with.(json.Number); ok {
		b = n.String()
	}
	if !exact {
		a, b = strings.ToLower(a), strings.ToLower(b)
	}
	switch operator {
	case "eq":
		return a == b
	case "ne":
		return a != b
	case "co":
		return strings.Contains(a, b)
	case "sw":
		return strings.HasPrefix(a, b)
	case "ew":
		return strings.HasSuffix(a, b)
	case "gt":
		return a > b
	case "ge":
		return a >= b
	case "lt":
		return a < b
	case "le":
		return a <= b
	}
	return false
}

// Name is the folded name that a filter asks for by userName eq or displayName eq and nothing else; blank for all other
// filters. It is what resources can be found by quickly.
func (f *Filter) Name() string {
	e, ok := f.expr.(*parser.AttributeExpression)
	if !ok || e.Operator != parser.EQ || e.AttributePath.SubAttribute != nil {
		return ""
	}
	name := "displayName"
	if f.kind.Name == Users.Name {
		name = "userName"
	}
	value, _ := e.CompareValue.(string)
	if !strings.EqualFold(e.AttributePath.AttributeName, name) {
		return ""
	}
	return strings.ToLower(value)
}
