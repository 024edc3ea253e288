package person

import "strings"

// Attribute is one directory attribute that every directory may hold.
type Attribute struct {
	Name   string // the short name of the RFC
	Alias  string // the RFC's long name, or empty
	Title  string // for people
	Source string // where it is defined
}

// Attributes are the person attributes of RFC 4519, RFC 4524 and RFC 2798 that a signature can use, in the
// order in which forms show them.
var Attributes = []Attribute{
	{"cn", "commonName", "Full name", "RFC 4519, 2.3"},
	{"givenName", "", "Given name", "RFC 4519, 2.12"},
	{"sn", "surname", "Family name", "RFC 4519, 2.32"},
	{"displayName", "", "Name as displayed", "RFC 2798, 2.3"},
	{"initials", "", "Initials", "RFC 4519, 2.14"},
	{"personalTitle", "", "Form of address", "RFC 4524, 2.21"},
	{"generationQualifier", "", "Part of a name such as Jr.", "RFC 4519, 2.11"},
	{"uid", "userid", "Account name", "RFC 4519, 2.39"},
	{"mail", "rfc822Mailbox", "Mail address", "RFC 4524, 2.16"},
	{"title", "", "Job title", "RFC 4519, 2.38"},
	{"ou", "organizationalUnitName", "Department", "RFC 4519, 2.20"},
	{"departmentNumber", "", "Department number", "RFC 2798, 2.2"},
	{"o", "organizationName", "Organisation", "RFC 4519, 2.19"},
	{"businessCategory", "", "Line of business", "RFC 4519, 2.1"},
	{"employeeNumber", "", "Staff number", "RFC 2798, 2.4"},
	{"employeeType", "", "Kind of employment", "RFC 2798, 2.5"},
	{"telephoneNumber", "", "Telephone", "RFC 4519, 2.35"},
	{"mobile", "mobileTelephoneNumber", "Mobile", "RFC 4524, 2.18"},
	{"facsimileTelephoneNumber", "", "Fax", "RFC 4519, 2.10"},
	{"homePhone", "homeTelephoneNumber", "Private telephone", "RFC 4524, 2.12"},
	{"street", "streetAddress", "Street", "RFC 4519, 2.34"},
	{"postalCode", "", "Post code", "RFC 4519, 2.24"},
	{"l", "localityName", "Place", "RFC 4519, 2.16"},
	{"st", "stateOrProvinceName", "State or province", "RFC 4519, 2.33"},
	{"c", "countryName", "Country, two letters", "RFC 4519, 2.2"},
	{"co", "friendlyCountryName", "Country", "RFC 4524, 2.4"},
	{"postalAddress", "", "Postal address", "RFC 4519, 2.23"},
	{"postOfficeBox", "", "Post box", "RFC 4519, 2.25"},
	{"physicalDeliveryOfficeName", "", "Office", "RFC 4519, 2.22"},
	{"roomNumber", "", "Room", "RFC 4524, 2.22"},
	{"preferredLanguage", "", "Language", "RFC 2798, 2.7"},
	{"labeledURI", "", "Web address", "RFC 2079"},
	{"manager", "", "Manager", "RFC 4524, 2.17"},
	{"description", "", "Description", "RFC 4519, 2.5"},
	{"jpegPhoto", "", "Photo", "RFC 2798, 2.6"},
}

// Canonical returns the attribute's short name for a name or alias in any letter case, as LDAP
// compares them (RFC 4512, 2.5), and whether it is a standard one.
func Canonical(name string) (string, bool) {
	for _, a := range Attributes {
		if strings.EqualFold(a.Name, name) || a.Alias != "" && strings.EqualFold(a.Alias, name) {
			return a.Name, true
		}
	}
	return name, false
}

// ValidName reports whether a name can be a field: letters, digits, hyphens and dots, a letter first
// (RFC 4512, 1.4, and a dot for the organisation's constants).
func ValidName(name string) bool {
	for i, r := range name {
		letter := r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z'
		other := r >= '0' && r <= '9' || r == '-' || r == '.' || r == '_'
		if !letter && (i == 0 || !other) {
			return false
		}
	}
	return name != "" && len(name) <= 64
}
