package person

import (
	"bytes"
	"fmt"
	"strings"

	"github.com/emersion/go-vcard"

	"missivum/core/problem"
)

// VCard writes a person as a vCard 4.0 (RFC 6350) with what a card needs: name, organisation, title, numbers,
// address and links. Fields that the schema lacks or that are blank are left out. organisation is used where the
// person has none; it may be empty.
func VCard(s *Schema, p *Person, organisation string) (_ string, err error) {
	defer func() { err = problem.As(problem.Refused, err) }()
	get := func(name string) string {
		column, _, ok := s.Column(name)
		if !ok {
			return ""
		}
		return Clean(p.At(column))
	}
	card := vcard.Card{}
	name := get("cn")
	if name == "" {
		name = get("displayName")
	}
	if name == "" {
		name = strings.TrimSpace(get("givenName") + " " + get("sn"))
	}
	if name == "" {
		return "", fmt.Errorf("%s has no name, which a vCard must have (RFC 6350, 6.2.1)", get("mail"))
	}
	set := func(field, value string, types ...string) {
		if value == "" {
			return
		}
		f := &vcard.Field{Value: value, Params: vcard.Params{}}
		for _, t := range types {
			f.Params.Add(vcard.ParamType, t)
		}
		card.Add(field, f)
	}
	set(vcard.FieldFormattedName, name)
	if family, given := get("sn"), get("givenName"); family != "" || given != "" {
		card.AddName(&vcard.Name{FamilyName: family, GivenName: given})
	}
	if own := get("o"); own != "" {
		organisation = own
	}
	if unit := get("ou"); organisation != "" || unit != "" {
		set(vcard.FieldOrganization, strings.TrimSuffix(escaped(organisation)+";"+escaped(unit), ";"))
	}
	set(vcard.FieldTitle, get("title"))
	set(vcard.FieldEmail, get("mail"), "work")
	set(vcard.FieldTelephone, onCard(get("telephoneNumber"), get("c")), "work", "voice")
	set(vcard.FieldTelephone, onCard(get("mobile"), get("c")), "cell")
	if a := (vcard.Address{StreetAddress: get("street"), Locality: get("l"), Region: get("st"),
		PostalCode: get("postalCode"), Country: get("co")}); a.StreetAddress != "" || a.Locality != "" {
		card.AddAddress(&a)
	}
	for _, uri := range strings.Split(get("labeledURI"), ";") { // an address and its label (RFC 2079)
		if address, _, _ := strings.Cut(strings.TrimSpace(uri), " "); address != "" {
			set(vcard.FieldURL, address)
		}
	}
	vcard.ToV4(card)
	var b bytes.Buffer
	if err := vcard.NewEncoder(&b).Encode(card); err != nil {
		return "", err
	}
	return b.String(), nil
}

// onCard is a number for a card, which telephones dial as it stands: with its country code where that is certain, as
// written where it is one number of no known country, and blank for all else, such as two numbers or a number with words.
func onCard(value, country string) string {
	if number, ok := ReadTelephone(value, country); ok {
		return number.International()
	}
	text, ok := plainDigits(value)
	if ok && oneNumber(text) && count(text) >= fewestOnCard && trunkPrefix(strings.ToUpper(country)) == "" {
		return value
	}
	return ""
}

// fewestOnCard is how many digits a number has at least that is written on a card.
const fewestOnCard = 6

// escaped protects the semicolon that parts an organisation from its unit (RFC 6350, 3.4).
func escaped(s string) string { return strings.ReplaceAll(s, ";", ",") }
