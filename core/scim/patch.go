package scim

import (
	"encoding/json"
	"maps"
	"reflect"
	"slices"
	"strings"

	parser "github.com/scim2/filter-parser/v2"
)

// Operation is a change of a part of a resource (RFC 7644, 3.5.2).
type Operation struct {
	Op    string `json:"op"`
	Path  string `json:"path"`
	Value any    `json:"value"`
}

// maxOperations is how many changes one request has at most.
const maxOperations = 1_000

// Patch carries changes out, one after the other, all of them or none. The resource itself stays as it is.
func (k Kind) Patch(r Resource, list []Operation) (Resource, error) {
	if len(list) == 0 || len(list) > maxOperations {
		return nil, wrong("invalidSyntax", "There must be from one to %d operations.", maxOperations)
	}
	out := r.copy()
	for _, op := range list {
		if err := k.apply(out, op); err != nil {
			return nil, err
		}
	}
	return k.Clean(out)
}

// copy is a resource of its own.
func (r Resource) copy() Resource {
	text, err := json.Marshal(r)
	if err != nil {
		return maps.Clone(r)
	}
	out := Resource{}
	if err := json.Unmarshal(text, &out); err != nil {
		return maps.Clone(r)
	}
	return out
}

// apply carries one change out.
func (k Kind) apply(r Resource, op Operation) error {
	kind := strings.ToLower(op.Op)
	if kind != "add" && kind != "replace" && kind != "remove" {
		return wrong("invalidSyntax", "The operation %q is not add, replace or remove.", op.Op)
	}
	if op.Path == "" {
		if kind == "remove" {
			return wrong("noTarget", "An operation that removes names what by its path.")
		}
		values, ok := op.Value.(map[string]any)
		if !ok {
			return wrong("invalidValue", "Without a path the value is an object.")
		}
		for _, name := range slices.Sorted(maps.Keys(values)) {
			if err := k.applyNamed(r, kind, name, values[name]); err != nil {
				return err
			}
		}
		return nil
	}
	if urn, ok := k.extension(op.Path); ok {
		return k.applyExtension(r, kind, urn, op.Value)
	}
	if len(op.Path) > maxFilter {
		return wrong("invalidPath", "The path is longer than %d bytes.", maxFilter)
	}
	path, err := parse(func() (parser.Path, error) { return parser.ParsePath([]byte(op.Path)) })
	if err != nil {
		return wrong("invalidPath", "The path %q cannot be read.", op.Path)
	}
	return k.applyAt(r, kind, path, op.Value)
}

// applyNamed carries out a change whose name stands in the value: of an attribute, an extension, or a path as some clients
// write it there.
func (k Kind) applyNamed(r Resource, kind, name string, value any) error {
	if urn, ok := k.extension(name); ok {
		return k.applyExtension(r, kind, urn, value)
	}
	if _, ok := find(k.top(), name); !ok {
		path, err := parse(func() (parser.Path, error) { return parser.ParsePath([]byte(name)) })
		if err != nil || path.AttributePath.URI() == "" && path.AttributePath.SubAttribute == nil && path.ValueExpression == nil {
			return nil // nobody knows it (RFC 7643, 2.1)
		}
		return k.applyAt(r, kind, path, value)
	}
	return k.applyAt(r, kind, parser.Path{AttributePath: parser.AttributePath{AttributeName: name}}, value)
}

// applyExtension changes the attributes of an extension.
func (k Kind) applyExtension(r Resource, kind, urn string, value any) error {
	if kind == "remove" {
		delete(r, urn)
		return nil
	}
	values, ok := value.(map[string]any)
	if !ok {
		return wrong("invalidValue", "%s is no object.", urn)
	}
	for name, one := range values {
		if a, ok := find(known[urn], name); ok {
			path := parser.AttributePath{URIPrefix: &urn, AttributeName: a.Name}
			if err := k.applyAt(r, kind, parser.Path{AttributePath: path}, one); err != nil {
				return err
			}
		}
	}
	return nil
}

// applyAt carries out a change at a path.
func (k Kind) applyAt(r Resource, kind string, path parser.Path, value any) error {
	list, err := k.attributes(path.AttributePath)
	if err != nil {
		return err
	}
	a := list[0]
	if a.Mutability == "readOnly" {
		return wrong("mutability", "%s cannot be written.", a.Name)
	}
	at := map[string]any(r)
	if urn, ok := k.extension(path.AttributePath.URI()); ok {
		inner, ok := r[urn].(map[string]any)
		if !ok {
			inner = map[string]any{}
			r[urn] = inner
		}
		at = inner
	}
	part := path.AttributePath.SubAttributeName()
	if path.SubAttributeName() != "" {
		part = path.SubAttributeName()
	}
	if part != "" {
		p, ok := find(a.SubAttributes, part)
		if !ok {
			return wrong("invalidPath", "There is no attribute %s.", path)
		}
		part = p.Name
	}
	if path.ValueExpression != nil {
		return k.applyWhere(at, kind, a, path, part, value)
	}
	if part != "" {
		return applyPart(at, kind, a, part, value)
	}
	return applyWhole(at, kind, a, value)
}

// applyWhole changes an attribute.
func applyWhole(at map[string]any, kind string, a Attribute, value any) error {
	if kind == "remove" {
		if a.MultiValued && value != nil { // some clients name what is removed by value
			at[a.Name] = slices.DeleteFunc(asList(at[a.Name]), func(have any) bool {
				return slices.ContainsFunc(asList(value), func(gone any) bool { return sameValue(have, gone) })
			})
			return nil
		}
		delete(at, a.Name)
		return nil
	}
	if value == nil {
		delete(at, a.Name)
		return nil
	}
	cleaned, err := cleanValue(a, value)
	if err != nil {
		return err
	}
	have, isObject := at[a.Name].(map[string]any)
	more, alsoObject := cleaned.(map[string]any)
	switch {
	case kind == "add" && a.MultiValued:
		all := asList(at[a.Name])
		for _, one := range asList(cleaned) {
			if slices.ContainsFunc(all, func(other any) bool {
				return reflect.DeepEqual(other, one) || a.Name == "members" && sameValue(other, one)
			}) {
				continue
			}
			if parts, ok := one.(map[string]any); ok && parts["primary"] == true {
				notPrimary(all)
			}
			all = append(all, one)
		}
		at[a.Name] = all
	case isObject && alsoObject: // the parts that are named (RFC 7644, 3.5.2.1, 3.5.2.3)
		maps.Copy(have, more)
	default:
		at[a.Name] = cleaned
	}
	return nil
}

// notPrimary takes the mark of the primary value from values.
func notPrimary(list []any) {
	for _, one := range list {
		if parts, ok := one.(map[string]any); ok {
			delete(parts, "primary")
		}
	}
}

// sameValue reports whether two values are the same by what identifies them.
func sameValue(a, b any) bool {
	value := func(v any) any {
		if parts, ok := v.(map[string]any); ok {
			for name, one := range parts {
				if strings.EqualFold(name, "value") {
					return one
				}
			}
		}
		return v
	}
	return reflect.DeepEqual(value(a), value(b))
}

// applyPart changes a part of an attribute, of all its values where it has several.
func applyPart(at map[string]any, kind string, a Attribute, part string, value any) error {
	p, _ := find(a.SubAttributes, part)
	if p.Mutability == "readOnly" {
		return wrong("mutability", "%s cannot be written.", part)
	}
	var cleaned any
	if kind != "remove" {
		var err error
		if cleaned, err = cleanValue(p, value); err != nil {
			return err
		}
	}
	if at[a.Name] == nil && kind != "remove" {
		if a.MultiValued {
			at[a.Name] = []any{map[string]any{part: cleaned}}
			return nil
		}
		at[a.Name] = map[string]any{}
	}
	for _, one := range asList(at[a.Name]) {
		if parts, ok := one.(map[string]any); ok {
			if delete(parts, part); cleaned != nil {
				parts[part] = cleaned
			}
		}
	}
	return nil
}

// applyWhere changes those of several values that a filter lets through.
func (k Kind) applyWhere(at map[string]any, kind string, a Attribute, path parser.Path, part string, value any) error {
	f := &Filter{kind: k}
	if err := f.check(path.ValueExpression, a.SubAttributes); err != nil {
		return err
	}
	list := asList(at[a.Name])
	var chosen []map[string]any
	for _, one := range list {
		if parts, ok := one.(map[string]any); ok && f.holds(path.ValueExpression, parts, a.SubAttributes) {
			chosen = append(chosen, parts)
		}
	}
	if kind == "remove" && part == "" {
		at[a.Name] = slices.DeleteFunc(list, func(one any) bool {
			parts, ok := one.(map[string]any)
			return ok && f.holds(path.ValueExpression, parts, a.SubAttributes)
		})
		return nil
	}
	if len(chosen) == 0 {
		made, ok := madeBy(path.ValueExpression, a)
		if kind == "replace" || !ok {
			if kind == "remove" {
				return nil
			}
			if !ok {
				return wrong("noTarget", "No value of %s fits %s.", a.Name, path)
			}
		}
		chosen = []map[string]any{made} // a value that is not there yet is made, as clients expect
		at[a.Name] = append(list, made)
	}
	for _, parts := range chosen {
		if part == "" {
			more, ok := value.(map[string]any)
			if !ok {
				return wrong("invalidValue", "The value for %s is no object.", path)
			}
			if kind == "replace" {
				clear(parts)
			}
			maps.Copy(parts, more)
			continue
		}
		if err := applyPart(map[string]any{a.Name: parts}, kind, Attribute{Name: a.Name, SubAttributes: a.SubAttributes},
			part, value); err != nil {
			return err
		}
	}
	return nil
}

// madeBy is the value that a filter of the kind type eq "work" describes.
func madeBy(expr parser.Expression, a Attribute) (map[string]any, bool) {
	e, ok := expr.(*parser.AttributeExpression)
	if !ok || e.Operator != parser.EQ {
		return nil, false
	}
	p, ok := find(a.SubAttributes, e.AttributePath.AttributeName)
	if !ok || p.Name == "value" {
		return nil, false
	}
	return map[string]any{p.Name: e.CompareValue}, true
}
