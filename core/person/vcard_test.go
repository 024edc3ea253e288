package person

import (
	"strings"
	"testing"

	"github.com/emersion/go-vcard"
)

func TestVCard(t *testing.T) {
	s := NewSchema("mail", "cn", "givenName", "sn", "title", "ou", "telephoneNumber", "mobile", "street", "l", "postalCode", "co")
	text, err := VCard(s, &Person{Values: []string{"siobhan@brackwater.example", "Siobhán Ní Fhloinn, MBA", "Siobhán",
		"Ní Fhloinn", "Head; of ports", "Fleet", "01632 960100", "", "1 Tide Quay", "Brackwater", "BW1 4TQ",
		"United Kingdom"}}, "Brackwater; Ferries")
	if err != nil {
		t.Fatal(err)
	}
	card, err := vcard.NewDecoder(strings.NewReader(text)).Decode()
	if err != nil {
		t.Fatal(err)
	}
	for field, want := range map[string]string{
		vcard.FieldVersion: "4.0", vcard.FieldFormattedName: "Siobhán Ní Fhloinn, MBA", vcard.FieldTitle: "Head; of ports",
		vcard.FieldTelephone: "01632 960100", vcard.FieldEmail: "siobhan@brackwater.example",
		vcard.FieldOrganization: "Brackwater, Ferries;Fleet",
	} {
		if got := card.Value(field); got != want {
			t.Errorf("%s: %q, want %q\n%s", field, got, want, text)
		}
	}
	if name := card.Name(); name == nil || name.FamilyName != "Ní Fhloinn" || card.Address().Locality != "Brackwater" {
		t.Errorf("%s", text)
	}
	if len(card[vcard.FieldTelephone]) != 1 {
		t.Errorf("a blank number is on the card: %s", text)
	}
	if _, err := VCard(s, &Person{Values: make([]string, 12)}, ""); err == nil || !strings.Contains(err.Error(), "no name") {
		t.Errorf("nobody: %v", err)
	}
}

// A card holds only what can be dialled.
func TestNumbersOnACard(t *testing.T) {
	for _, c := range []struct{ value, country, want string }{
		{"01632 960100", "GB", "+44 1632 960100"}, {"01632 960100", "", "01632 960100"}, {"0171-3920001 mobil", "DE", ""},
		{"040/66969120 u. 040/66969121", "DE", ""}, {"App. 017", "DE", ""}, {"4711", "", ""}, {"66969120", "DE", ""}, {"", "", ""},
	} {
		if got := onCard(c.value, c.country); got != c.want {
			t.Errorf("%q in %q is %q on a card, want %q", c.value, c.country, got, c.want)
		}
	}
}
