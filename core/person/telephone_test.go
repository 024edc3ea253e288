package person_test

import (
	"strings"
	"testing"

	"missivum/core/person"
)

// Numbers that are certain, and what a telephone dials.
func TestCertainTelephoneNumbers(t *testing.T) {
	for _, c := range []struct{ value, country, dial string }{
		{"01632 960142", "GB", "+441632960142"},
		{"+44 1632 960142", "DE", "+441632960142"},
		{"+44 (0)1632 960142", "", "+441632960142"},
		{"+44 (0) 1632 / 960142", "", "+441632960142"},
		{"0044 1632 960142", "GB", "+441632960142"},
		{"01632-960-142", "GB", "+441632960142"},
		{"01632.960.142", "GB", "+441632960142"},
		{"(01632) 960142", "GB", "+441632960142"},
		{"01632\u00a0960\u2011142", "GB", "+441632960142"},
		{"０１６３２９６０１４２", "GB", "+441632960142"},
		{"040 66969-120", "DE", "+494066969120"},
		{"040/66969120", "DE", "+494066969120"},
		{"040 / 66969 - 120", "DE", "+494066969120"},
		{"040 - 66969120", "DE", "+494066969120"},
		{"040 66969 - 0", "DE", "+4940669690"},
		{"0171-3920001", "DE", "+491713920001"},
		{"1713920001", "DE", "+491713920001"}, // a spreadsheet dropped the zero
		{"+39 06 1234 5678", "", "+390612345678"},
		{"06 12345678", "IT", "+390612345678"},
		{"+33 (0)1 99 00 12 34", "", "+33199001234"},
		{"01 99 00 12 34", "FR", "+33199001234"},
		{"(555) 555-0142", "US", "+15555550142"},
		{"1-555-555-0142", "US", "+15555550142"},
		{"tel:+44-1632-960142", "", "+441632960142"},
		{"(+49) 40 66969120", "", "+494066969120"},
		{"(+49) (0) 40 66969120", "DE", "+494066969120"},
		{"+43/1/26712345", "", "+43126712345"},
		{"0049 (0) 40 66969120", "DE", "+494066969120"},
		{"+49-(0)40-66969-120", "", "+494066969120"},
		{"12 34 56 78", "DK", "+4512345678"},
		{"91 123 45 67", "ES", "+34911234567"},
		{"8 (495) 123-45-67", "RU", "+74951234567"},
		{"+44 (0) 20 7946 0018 Ext: 12", "", "+442079460018;ext=12"},
		{"01632 960142 ext. 12", "GB", "+441632960142;ext=12"},
		{"01632 960142, ext 12", "GB", "+441632960142;ext=12"},
		{"01632 960142 x12", "GB", "+441632960142;ext=12"},
		{"01632 960142 #12", "GB", "+441632960142;ext=12"},
		{"tel:+44-1632-960142;ext=4711", "", "+441632960142;ext=4711"},
		{"01632 960142 Extension 4711", "GB", "+441632960142;ext=4711"},
	} {
		number, ok := person.ReadTelephone(c.value, c.country)
		if !ok {
			t.Errorf("%q in %s is not read", c.value, c.country)
		} else if got := number.Dial(); got != c.dial {
			t.Errorf("%q in %s is dialled as %s, want %s", c.value, c.country, got, c.dial)
		}
	}
}

// What is not certainly one number is none.
func TestUncertainTelephoneNumbers(t *testing.T) {
	for _, c := range []struct{ value, country string }{
		{"040 66969 0 Zentrale", "DE"},
		{"0171-3920001 mobil", "DE"},
		{"040/66969120 u. 040/66969121", "DE"},
		{"040/66969120 und 121", "DE"},
		{"040/66969120/121", "DE"},
		{"040 66969120 / 121", "DE"},
		{"040 66969120 - 121", "DE"},
		{"040 66969120, 121", "DE"},
		{"040 66969120; 040 66969121", "DE"},
		{"+49 40 66969120 +49 40 66969121", "DE"},
		{"01632 960142 01632 960143", "GB"},
		{"App. 017", "DE"},
		{"App. 017", "GB"},
		{"0171 3920001 (privat)", "DE"},
		{"1-555-FERRIES", "US"},
		{"01632 960142 ext", "GB"},
		{"01632 960142 ext. 12 or 13", "GB"},
		{"01632 960142 ext. 123456789", "GB"},
		{"040 66969 DW 12", "DE"},
		{"040 66969 Durchwahl 12", "DE"},
		{"66969120", "DE"}, // a local number
		{"4711", "DE"},
		{"4711", "GB"},
		{"020 7946 0018/19", "GB"},
		{"01632 960142", ""}, // of no known country
		{"n/a", "GB"},
		{"-", "GB"},
		{"tbc", "GB"},
		{"((01632) 960142", "GB"},
		{"01632) 960142", "GB"},
		{"() 01632 960142", "GB"},
		{"+", "GB"},
		{"01632 960142 -", "GB"},
		{"01632 96", "GB"},
		{"01632 960142 960143", "GB"},
		{"+44 1632 9601", "GB"},
		{"01632 960142?", "GB"},
		{"01632 960*42", "GB"},
		{"๐๑๖๓๒๙๖๐๑๔๒", "GB"},
		{strings.Repeat("1", 70), "US"},
	} {
		if number, ok := person.ReadTelephone(c.value, c.country); ok {
			t.Errorf("%q in %q is dialled as %s", c.value, c.country, number.Dial())
		}
	}
}

// Whatever is read is dialled with digits that stand in it, and no more than one number's.
func FuzzReadTelephone(f *testing.F) {
	for _, seed := range []string{"01632 960142", "+44 (0)1632/960142 ext. 12", "040/66969120 u. 040/66969121", "1-800-FERRIES"} {
		f.Add(seed, "GB")
		f.Add(seed, "DE")
		f.Add("+4(0)100000eXt0", "0")
		f.Add("+811000000000000000", "0")
		f.Add("00000000", "BY")
	}
	f.Fuzz(func(t *testing.T, value, country string) {
		number, ok := person.ReadTelephone(value, country)
		if !ok {
			return
		}
		dial, extension, _ := strings.Cut(number.Dial(), ";ext=")
		if !strings.HasPrefix(dial, "+") || len(dial) > 16 || len(extension) > 7 || strings.Trim(dial[1:], "0123456789") != "" {
			t.Errorf("%q in %q is dialled as %s", value, country, number.Dial())
		}
		if again, ok := person.ReadTelephone(number.International(), country); !ok || again.Dial() != number.Dial() {
			t.Errorf("%q in %q is shown as %s, which is dialled otherwise", value, country, number.International())
		}
	})
}
