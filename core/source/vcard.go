package source

import (
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/emersion/go-vcard"

	"missivum/core/person"
)

// maxCard is how large one vCard is at most, in bytes; a photo takes the most.
const maxCard = 8 << 20

// cards are vCards as rows.
type cards struct {
	decoder *vcard.Decoder
	limit   *rowLimit
	index   map[string]int
	number  int
}

// newVCards reads vCards (RFC 6350, and version 3.0, RFC 2426).
func newVCards(r io.Reader, how Reading) (*Reader, error) {
	text, note, err := decoded(r)
	if err != nil {
		return nil, err
	}
	var header, guesses []string
	index := map[string]int{}
	for _, a := range person.Attributes {
		index[a.Name] = len(header)
		header, guesses = append(header, a.Name), append(guesses, unasked(a.Name))
	}
	limit := &rowLimit{Reader: text, left: maxCard, is: fmt.Errorf("a vCard is longer than %d kB", maxCard>>10)}
	reader := &Reader{Reading: how, note: note, format: &cards{decoder: vcard.NewDecoder(limit), limit: limit, index: index}}
	if err := reader.begin(header, guesses, true); err != nil {
		return nil, err
	}
	return reader, nil
}

// next reads a card.
func (c *cards) next(into *raw) error {
	c.limit.left = maxCard
	card, err := c.decoder.Decode()
	if errors.Is(err, io.EOF) {
		return io.EOF
	}
	c.number++
	into.row = c.number
	if err != nil {
		return fmt.Errorf("vCard %d cannot be read: %w", c.number, err)
	}
	if card.Value(vcard.FieldVersion) == "2.1" {
		return RowError{c.number, "a vCard of version 2.1 is not read; save it as 3.0 or 4.0"}
	}
	clear(into.values)
	set := func(field, value string) {
		if at := c.index[field]; into.values[at] == "" {
			into.values[at] = value
		}
	}
	set("cn", card.PreferredValue(vcard.FieldFormattedName))
	if n := card.Name(); n != nil {
		set("sn", n.FamilyName)
		set("givenName", n.GivenName)
		set("personalTitle", n.HonorificPrefix)
		set("generationQualifier", n.HonorificSuffix)
	}
	set("mail", strings.TrimPrefix(card.PreferredValue(vcard.FieldEmail), "mailto:"))
	set("title", card.PreferredValue(vcard.FieldTitle))
	organisation, unit, _ := strings.Cut(card.PreferredValue(vcard.FieldOrganization), ";")
	set("o", organisation)
	set("ou", strings.Trim(unit, ";"))
	set("labeledURI", card.PreferredValue(vcard.FieldURL))
	set("preferredLanguage", card.PreferredValue(vcard.FieldLanguage))
	for _, f := range card[vcard.FieldTelephone] {
		set(telephoneField(f.Params), Telephone(f.Value))
	}
	if a := card.Address(); a != nil {
		for field, value := range map[string]string{"street": a.StreetAddress, "l": a.Locality, "st": a.Region,
			"postalCode": a.PostalCode, "co": a.Country, "postOfficeBox": a.PostOfficeBox} {
			set(field, value)
		}
	}
	into.key = strings.TrimPrefix(card.Value(vcard.FieldUID), "urn:uuid:")
	into.groups = card.Categories()
	into.photo = photoOf(card.Get(vcard.FieldPhoto))
	return nil
}

// telephoneField is the field for a number of a type (RFC 6350, 6.4.1).
func telephoneField(p vcard.Params) string {
	for _, t := range [][2]string{{"fax", "facsimileTelephoneNumber"}, {"cell", "mobile"}} {
		if p.HasType(t[0]) {
			return t[1]
		}
	}
	if p.HasType("home") && !p.HasType("work") {
		return "homePhone"
	}
	return "telephoneNumber"
}

// Telephone is a number as directories write it, from a telephone address (RFC 3966) or text.
func Telephone(value string) string {
	number, ok := strings.CutPrefix(value, "tel:")
	if !ok {
		return value
	}
	number, rest, _ := strings.Cut(number, ";")
	for parameter := range strings.SplitSeq(rest, ";") {
		if extension, ok := strings.CutPrefix(parameter, "ext="); ok {
			number += " ext. " + extension
		}
	}
	return number
}

// photoOf is a photo that stands in its card (RFC 6350, 6.2.4; RFC 2426, 3.1.4); one at an address is not read.
func photoOf(f *vcard.Field) []byte {
	if f == nil {
		return nil
	}
	text := f.Value
	if head, data, ok := strings.Cut(text, ","); ok && strings.HasPrefix(head, "data:") && strings.HasSuffix(head, ";base64") {
		text = data
	} else if encoding := strings.ToLower(f.Params.Get("ENCODING")); encoding != "b" && encoding != "base64" {
		return nil
	}
	data, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(text), ""))
	if err != nil || len(bytes.TrimSpace(data)) == 0 {
		return nil
	}
	return data
}
