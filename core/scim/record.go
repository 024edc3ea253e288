package scim

import (
	"slices"
	"strings"

	"missivum/core/person"
	"missivum/core/source"
)

// Active reports whether a person is there: one who is not is gone, softly.
func (r Resource) Active() bool {
	active, said := r["active"].(bool)
	return active || !said
}

// text is a text of a resource; blank for none.
func (r Resource) text(name string) string {
	s, _ := r[name].(string)
	return s
}

// parts are the parts of an attribute.
func parts(value any) map[string]any {
	m, _ := value.(map[string]any)
	return m
}

// best is of several values the one of a type, or else the primary one, or else the first that has none of the types of
// others.
func best(value any, kind string, others ...string) map[string]any {
	list := asList(value)
	for _, fits := range []func(map[string]any) bool{
		func(m map[string]any) bool { return strings.EqualFold(str(m["type"]), kind) },
		func(m map[string]any) bool {
			return m["primary"] == true && !slices.Contains(others, strings.ToLower(str(m["type"])))
		},
		func(m map[string]any) bool { return !slices.Contains(others, strings.ToLower(str(m["type"]))) },
	} {
		for _, one := range list {
			if m := parts(one); m != nil && fits(m) {
				return m
			}
		}
	}
	return nil
}

// str is a value as text; blank for all else.
func str(value any) string {
	s, _ := value.(string)
	return s
}

// Record is what a person says as the fields of LDAP (RFC 4519, RFC 2798). groups are the names of the groups that the
// person is in.
func (r Resource) Record(groups []string) source.Record {
	out := source.Record{Values: map[string]string{}, Groups: groups}
	set := func(field, value string) {
		if value = strings.TrimSpace(value); value != "" {
			out.Values[field] = value
		}
	}
	name, extra := parts(r["name"]), parts(r[EnterpriseSchema])
	set("uid", r.text("userName"))
	set("displayName", r.text("displayName"))
	set("cn", str(name["formatted"]))
	if out.Values["cn"] == "" {
		set("cn", r.text("displayName"))
	}
	if out.Values["cn"] == "" {
		set("cn", str(name["givenName"])+" "+str(name["familyName"]))
	}
	set("givenName", str(name["givenName"]))
	set("sn", str(name["familyName"]))
	set("personalTitle", str(name["honorificPrefix"]))
	set("generationQualifier", str(name["honorificSuffix"]))
	set("title", r.text("title"))
	set("preferredLanguage", r.text("preferredLanguage"))
	set("mail", str(mailOf(r["emails"])["value"]))
	if out.Values["mail"] == "" && source.Address(r.text("userName")) {
		set("mail", r.text("userName"))
	}
	set("telephoneNumber", telephone(best(r["phoneNumbers"], "work", "mobile", "fax", "home", "pager")))
	for kind, field := range map[string]string{"mobile": "mobile", "fax": "facsimileTelephoneNumber"} {
		if m := best(r["phoneNumbers"], kind, "work", "mobile", "fax", "home", "pager", "other", ""); m != nil {
			set(field, telephone(m))
		}
	}
	if a := best(r["addresses"], "work", "home"); a != nil {
		for part, field := range map[string]string{"streetAddress": "street", "locality": "l", "region": "st", "postalCode": "postalCode"} {
			set(field, strings.ReplaceAll(str(a[part]), "\n", ", "))
		}
		set("c", person.CountryCode(str(a["country"])))
		if out.Values["c"] == "" {
			set("co", str(a["country"]))
		}
	}
	for part, field := range map[string]string{"employeeNumber": "employeeNumber", "department": "ou", "organization": "o",
		"costCenter": "departmentNumber"} {
		set(field, str(extra[part]))
	}
	return out
}

// mailOf is the mail address that counts: the primary one, or else that for work, or else the first.
func mailOf(value any) map[string]any {
	for _, one := range asList(value) {
		if m := parts(one); m["primary"] == true {
			return m
		}
	}
	return best(value, "work", "home")
}

// telephone is a number as directories write it.
func telephone(m map[string]any) string {
	return source.Telephone(str(m["value"]))
}
