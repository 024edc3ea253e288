// Package wire readies values for JSON: every list in them is a list, an empty one too, and never null. Start with Whole.
package wire

import (
	"encoding"
	"encoding/json"
	"reflect"
	"strings"
)

// Whole gives a value in which each list that is nil is empty. What is changed is a copy: the value given stays as it
// was, so that it may be shared.
func Whole(v any) any {
	if v == nil {
		return nil
	}
	whole, _ := filled(reflect.ValueOf(v), 0)
	return whole.Interface()
}

// deepest is how deep values are looked into; deeper ones would be cycles, which JSON cannot write.
const deepest = 64

var (
	marshaler     = reflect.TypeFor[json.Marshaler]()
	textMarshaler = reflect.TypeFor[encoding.TextMarshaler]()
)

// filled gives a value with its nil lists made empty, and whether it is another than the one given.
func filled(v reflect.Value, depth int) (reflect.Value, bool) {
	if depth > deepest || !v.IsValid() || v.Type().Implements(marshaler) || v.Type().Implements(textMarshaler) {
		return v, false
	}
	switch v.Kind() {
	case reflect.Slice:
		if v.IsNil() && v.Type().Elem().Kind() != reflect.Uint8 {
			return reflect.MakeSlice(v.Type(), 0, 0), true
		}
		return elements(v, depth)
	case reflect.Array:
		return elements(v, depth)
	case reflect.Struct:
		return fields(v, depth)
	case reflect.Pointer, reflect.Interface:
		if v.IsNil() {
			return v, false
		}
		inner, changed := filled(v.Elem(), depth+1)
		if !changed {
			return v, false
		}
		if v.Kind() == reflect.Interface {
			return inner, true
		}
		p := reflect.New(v.Type().Elem())
		p.Elem().Set(inner)
		return p, true
	case reflect.Map:
		return entries(v, depth)
	}
	return v, false
}

// elements fills the elements of a list.
func elements(v reflect.Value, depth int) (reflect.Value, bool) {
	if plain(v.Type().Elem().Kind()) {
		return v, false
	}
	out, changed := v, false
	for i := range v.Len() {
		e, other := filled(v.Index(i), depth+1)
		if !other {
			continue
		}
		if !changed {
			changed = true
			if v.Kind() == reflect.Slice {
				out = reflect.MakeSlice(v.Type(), v.Len(), v.Len())
			} else {
				out = reflect.New(v.Type()).Elem()
			}
			reflect.Copy(out, v)
		}
		out.Index(i).Set(e)
	}
	return out, changed
}

// fields fills the exported fields of a struct.
func fields(v reflect.Value, depth int) (reflect.Value, bool) {
	out, changed := v, false
	for i := range v.NumField() {
		if !v.Type().Field(i).IsExported() || plain(v.Field(i).Kind()) {
			continue
		}
		f, other := filled(v.Field(i), depth+1)
		if !other {
			continue
		}
		if !changed {
			changed = true
			out = reflect.New(v.Type()).Elem()
			out.Set(v)
		}
		out.Field(i).Set(f)
	}
	return out, changed
}

// entries fills the values of a map.
func entries(v reflect.Value, depth int) (reflect.Value, bool) {
	out, changed := v, false
	for _, key := range v.MapKeys() {
		e, other := filled(v.MapIndex(key), depth+1)
		if !other {
			continue
		}
		if !changed {
			changed = true
			out = reflect.MakeMapWithSize(v.Type(), v.Len())
			for _, k := range v.MapKeys() {
				out.SetMapIndex(k, v.MapIndex(k))
			}
		}
		out.SetMapIndex(key, e)
	}
	return out, changed
}

// plain reports kinds that hold no lists.
func plain(k reflect.Kind) bool { return k <= reflect.Complex128 || k == reflect.String }

// Cell keeps a value in a table (RFC 4180) from being read as a formula where the table is opened: one that begins like a
// formula gets an apostrophe in front.
func Cell(value string) string {
	if value != "" && strings.ContainsRune("=+-@\t\r", rune(value[0])) {
		return "'" + value
	}
	return value
}
