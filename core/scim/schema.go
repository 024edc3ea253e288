// Package scim understands the resources of SCIM 2.0 (RFC 7643, RFC 7644): which attributes they have here, filters, and
// changes of parts. It knows nothing of HTTP and of where resources are kept. Start with Clean, ParseFilter and Patch.
package scim

import (
	"fmt"
	"slices"
	"strings"
)

// The schemas that are known.
const (
	UserSchema       = "urn:ietf:params:scim:schemas:core:2.0:User"
	GroupSchema      = "urn:ietf:params:scim:schemas:core:2.0:Group"
	EnterpriseSchema = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"
)

// Attribute is an attribute of a schema (RFC 7643, 7).
type Attribute struct {
	Name          string      `json:"name"`
	Type          string      `json:"type"`
	MultiValued   bool        `json:"multiValued"`
	Description   string      `json:"description"`
	Required      bool        `json:"required"`
	CanonicalVals []string    `json:"canonicalValues,omitempty"`
	CaseExact     bool        `json:"caseExact"`
	Mutability    string      `json:"mutability"`
	Returned      string      `json:"returned"`
	Uniqueness    string      `json:"uniqueness"`
	SubAttributes []Attribute `json:"subAttributes,omitempty"`
}

// Schema is a schema (RFC 7643, 7).
type Schema struct {
	ID          string      `json:"id"`
	Name        string      `json:"name"`
	Description string      `json:"description"`
	Attributes  []Attribute `json:"attributes"`
}

// text makes an attribute of text.
func text(name, description string) Attribute {
	return Attribute{Name: name, Type: "string", Description: description, Mutability: "readWrite", Returned: "default", Uniqueness: "none"}
}

// complexOf makes an attribute of several parts.
func complexOf(name, description string, many bool, parts ...Attribute) Attribute {
	return Attribute{Name: name, Type: "complex", MultiValued: many, Description: description, Mutability: "readWrite", Returned: "default",
		Uniqueness: "none", SubAttributes: parts}
}

// many makes an attribute of several values, each with a type, one of which may be the primary one.
func many(name, description string, types ...string) Attribute {
	kind := text("type", "What it is for.")
	kind.CanonicalVals = types
	return complexOf(name, description, true, text("value", "The value."), kind, primary())
}

// primary marks one of several values.
func primary() Attribute {
	a := text("primary", "Whether it comes before the others.")
	a.Type = "boolean"
	return a
}

// with changes an attribute.
func (a Attribute) with(change func(*Attribute)) Attribute {
	change(&a)
	return a
}

// Schemas lists the schemas, with those attributes that are kept here and no others.
func Schemas() []Schema {
	readOnly := func(a *Attribute) { a.Mutability = "readOnly" }
	street := complexOf("addresses", "Postal addresses.", true, text("formatted", "The whole."), text("streetAddress", "Street and number."),
		text("locality", "Place."), text("region", "State or province."), text("postalCode", "Post code."),
		text("country", "Two letters (ISO 3166)."),
		text("type", "What it is for.").with(func(a *Attribute) { a.CanonicalVals = []string{"work", "home", "other"} }), primary())
	return []Schema{
		{ID: UserSchema, Name: "User", Description: "A person of the directory.", Attributes: []Attribute{
			text("userName", "Account name.").with(func(a *Attribute) { a.Required, a.Uniqueness = true, "server" }),
			complexOf("name", "The parts of the name.", false, text("formatted", "The whole name."), text("familyName", "Family name."),
				text("givenName", "Given name."), text("middleName", "Middle name."), text("honorificPrefix", "Form of address."),
				text("honorificSuffix", "Part of a name such as Jr.")),
			text("displayName", "The name as displayed."), text("title", "Job title."),
			text("preferredLanguage", "Language (BCP 47)."), text("locale", "Where the person is (BCP 47)."),
			text("active", "Whether the person is there.").with(func(a *Attribute) { a.Type = "boolean" }),
			many("emails", "Mail addresses.", "work", "home", "other"),
			many("phoneNumbers", "Telephone numbers.", "work", "mobile", "fax", "home", "pager", "other"),
			street,
			complexOf("groups", "The groups that the person is in.", true, text("value", "Id.").with(readOnly),
				text("display", "Name.").with(readOnly)).with(readOnly),
		}},
		{ID: GroupSchema, Name: "Group", Description: "A group of people.", Attributes: []Attribute{
			text("displayName", "Name.").with(func(a *Attribute) { a.Required = true }),
			complexOf("members", "Who is in the group.", true,
				text("value", "Id of a person or a group.").with(func(a *Attribute) { a.CaseExact = true }),
				text("display", "Name."), text("type", "User or Group.")),
		}},
		{ID: EnterpriseSchema, Name: "EnterpriseUser", Description: "What organisations know of a person.", Attributes: []Attribute{
			text("employeeNumber", "Staff number."), text("department", "Department."), text("organization", "Organisation."),
			text("division", "Division."), text("costCenter", "Cost centre."),
			complexOf("manager", "Manager.", false, text("value", "Id."), text("displayName", "Name.").with(readOnly)),
		}},
	}
}

// common are the attributes that every resource has (RFC 7643, 3.1).
var common = []Attribute{
	text("externalId", "What the client calls it.").with(func(a *Attribute) { a.CaseExact = true }),
	text("id", "What it is called here.").with(func(a *Attribute) { a.Mutability, a.CaseExact = "readOnly", true }),
	complexOf("meta", "", false, text("resourceType", ""), text("created", ""), text("lastModified", ""), text("location", ""),
		text("version", "")).with(func(a *Attribute) { a.Mutability = "readOnly" }),
}

// Error is a problem of a request (RFC 7644, 3.12).
type Error struct {
	Type   string // scimType; blank for none
	Detail string
}

func (e Error) Error() string { return e.Detail }

// wrong makes an Error.
func wrong(kind, format string, args ...any) error { return Error{kind, fmt.Sprintf(format, args...)} }

// Kind is a kind of resource.
type Kind struct {
	Name       string // User, Group
	Schema     string
	Extensions []string
}

// The kinds of resources.
var (
	Users  = Kind{"User", UserSchema, []string{EnterpriseSchema}}
	Groups = Kind{"Group", GroupSchema, nil}
)

// known are the attributes by schema.
var known = func() map[string][]Attribute {
	by := map[string][]Attribute{}
	for _, s := range Schemas() {
		by[s.ID] = s.Attributes
	}
	return by
}()

// find finds an attribute by its name, letter case aside.
func find(list []Attribute, name string) (Attribute, bool) {
	i := slices.IndexFunc(list, func(a Attribute) bool { return strings.EqualFold(a.Name, name) })
	if i < 0 {
		return Attribute{}, false
	}
	return list[i], true
}

// top are the attributes at the top of a resource of a kind.
func (k Kind) top() []Attribute { return slices.Concat(common, known[k.Schema]) }

// extension gives the URN of an extension as it is written in its schema.
func (k Kind) extension(urn string) (string, bool) {
	i := slices.IndexFunc(k.Extensions, func(e string) bool { return strings.EqualFold(e, urn) })
	if i < 0 {
		return "", false
	}
	return k.Extensions[i], true
}

// Resource is a resource: attributes by their names as the schemas write them.
type Resource map[string]any

// Clean gives a resource with those attributes that its schemas have and that clients may write, by the names of the
// schemas. Attributes that nobody knows are left out (RFC 7643, 2.1); of the wrong type they are an Error.
func (k Kind) Clean(in map[string]any) (Resource, error) {
	out := Resource{}
	for name, value := range in {
		if urn, ok := k.extension(name); ok {
			inner, ok := value.(map[string]any)
			if !ok {
				return nil, wrong("invalidValue", "%s is no object.", name)
			}
			cleaned, err := cleanParts(known[urn], inner)
			if err != nil {
				return nil, err
			}
			if len(cleaned) > 0 {
				out[urn] = cleaned
			}
			continue
		}
		a, ok := find(k.top(), name)
		if !ok || a.Mutability == "readOnly" {
			continue
		}
		cleaned, err := cleanValue(a, value)
		if err != nil {
			return nil, err
		}
		if cleaned != nil {
			out[a.Name] = cleaned
		}
	}
	if _, said := out["active"]; !said && k.Name == Users.Name {
		out["active"] = true
	}
	for _, a := range known[k.Schema] {
		if value, there := out[a.Name]; a.Required && (!there || value == "") {
			return nil, wrong("invalidValue", "%s is required.", a.Name)
		}
	}
	return out, nil
}

// maxValues is how many values an attribute has at most.
const maxValues = 100_000

// cleanValue cleans a value of an attribute; nil for one that is not there.
func cleanValue(a Attribute, value any) (any, error) {
	if value == nil {
		return nil, nil
	}
	if !a.MultiValued {
		return cleanOne(a, value)
	}
	list, ok := value.([]any)
	if !ok {
		list = []any{value}
	}
	if len(list) > maxValues {
		return nil, wrong("tooMany", "%s has more than %d values.", a.Name, maxValues)
	}
	out := []any{}
	primaries := 0
	for _, one := range list {
		cleaned, err := cleanOne(a, one)
		if err != nil {
			return nil, err
		}
		if cleaned == nil {
			continue
		}
		if parts, ok := cleaned.(map[string]any); ok && parts["primary"] == true {
			if primaries++; primaries > 1 {
				delete(parts, "primary") // one only (RFC 7643, 2.4)
			}
		}
		out = append(out, cleaned)
	}
	if len(out) == 0 {
		return nil, nil
	}
	return out, nil
}

// cleanOne cleans a single value.
func cleanOne(a Attribute, value any) (any, error) {
	switch a.Type {
	case "complex":
		parts, ok := value.(map[string]any)
		if s, single := value.(string); single && !ok {
			parts, ok = map[string]any{"value": s}, hasPart(a, "value")
		}
		if !ok {
			return nil, wrong("invalidValue", "%s is no object.", a.Name)
		}
		cleaned, err := cleanParts(a.SubAttributes, parts)
		if len(cleaned) == 0 {
			return nil, err
		}
		return cleaned, err
	case "boolean":
		switch v := value.(type) {
		case bool:
			return v, nil
		case string: // some clients write it so
			if strings.EqualFold(v, "true") || strings.EqualFold(v, "false") {
				return strings.EqualFold(v, "true"), nil
			}
		}
		return nil, wrong("invalidValue", "%s must be true or false.", a.Name)
	}
	s, ok := value.(string)
	if !ok {
		return nil, wrong("invalidValue", "%s must be text.", a.Name)
	}
	if len(s) > maxText {
		return nil, wrong("invalidValue", "%s is longer than %d bytes.", a.Name, maxText)
	}
	return s, nil
}

// maxText is how long a text is at most, in bytes.
const maxText = 16 << 10

// hasPart reports whether an attribute has a part.
func hasPart(a Attribute, name string) bool {
	_, ok := find(a.SubAttributes, name)
	return ok
}

// cleanParts cleans the parts of a value.
func cleanParts(list []Attribute, in map[string]any) (map[string]any, error) {
	out := map[string]any{}
	for name, value := range in {
		a, ok := find(list, name)
		if !ok || a.Mutability == "readOnly" {
			continue
		}
		cleaned, err := cleanValue(a, value)
		if err != nil {
			return nil, err
		}
		if cleaned != nil {
			out[a.Name] = cleaned
		}
	}
	return out, nil
}
