package source

import (
	"bytes"
	"errors"
	"io"
	"slices"
	"strings"
	"testing"

	"missivum/core/person"
)

// read reads a file whole.
func read(t testing.TB, text string, how Reading) (*person.Directory, []RowError, *Reader) {
	t.Helper()
	r, err := Open(strings.NewReader(text), how)
	if err != nil {
		t.Fatal(err)
	}
	d, bad, err := r.All()
	if err != nil {
		t.Fatal(err)
	}
	return d, bad, r
}

const ferry = `version: 1
# the crew
dn: ou=people,dc=brackwater,dc=example
objectClass: organizationalUnit
ou: people

dn: uid=maren,ou=people,dc=brackwater,dc=example
objectClass: inetOrgPerson
uid: maren
entryUUID: 6f1c
cn: Maren
  Lind
givenName: Maren
sn: Lind
mail: maren.lind@brackwater.example
mail: second@brackwater.example
title;lang-de: Kapitän
title: Captain
commonName: Other
l:: SGF2c3VuZCDDuA==
labeledURI: https://a.example/ One
labeledURI: https://b.example/ Two
telephoneNumber: +44 20 7946 0000
userPassword: secret
shoeSize: 38
memberOf: cn=bridge,ou=groups,dc=brackwater,dc=example
jpegPhoto:: /9j/4AAQ

dn: uid=bo,ou=people,dc=brackwater,dc=example
objectClass: inetOrgPerson
uid: bo
cn: Bo
sn: Bo
co: Norway

dn: uid=broken,ou=people,dc=brackwater,dc=example
objectClass: inetOrgPerson
cn:: not base64!
mail: broken@brackwater.example

dn: uid=far,ou=people,dc=brackwater,dc=example
objectClass: inetOrgPerson
cn:< file:///etc/passwd
mail: far@brackwater.example

dn: uid=gone,ou=people,dc=brackwater,dc=example
changetype: delete

dn: uid=ida,ou=people,dc=brackwater,dc=example
objectClass: inetOrgPerson
uid: ida
cn: Ida
sn: Ida
mail: ida@brackwater.example

dn: cn=deck,ou=groups,dc=brackwater,dc=example
objectClass: groupOfNames
cn: deck
member: uid=ida, ou=people,dc=brackwater,dc=example
member: cn=watch,ou=groups,dc=brackwater,dc=example

dn: cn=watch,ou=groups,dc=brackwater,dc=example
objectClass: posixGroup
cn: watch
memberUid: maren
`

// Entries of a directory: values that are folded, coded, several or of other languages; groups by all three ways; what is no
// person; what cannot be read.
func TestLDIF(t *testing.T) {
	d, bad, r := read(t, ferry, Reading{})
	if len(d.People) != 2 {
		t.Fatalf("%d people: %+v", len(d.People), d.People)
	}
	maren := &d.People[0]
	for field, want := range map[string]string{"cn": "Maren Lind", "mail": "maren.lind@brackwater.example", "title": "Captain",
		"l": "Havsund ø", "labeledURI": "https://a.example/ One\nhttps://b.example/ Two", "userPassword": "", "shoeSize": ""} {
		if got := d.Get(maren, field); got != want {
			t.Errorf("%s is %q, want %q", field, got, want)
		}
	}
	var groups []string
	for _, g := range maren.Groups {
		groups = append(groups, GroupName(g))
	}
	if !slices.Equal(groups, []string{"bridge", "deck", "watch"}) {
		t.Errorf("groups of Maren: %q", maren.Groups)
	}
	if ida := &d.People[1]; len(ida.Groups) != 1 || GroupName(ida.Groups[0]) != "deck" {
		t.Errorf("groups of Ida: %q", ida.Groups)
	}
	wants := []string{"the mail address is blank", "cn is not base64", "cn is to be read from an address", "a change record (delete)"}
	if len(bad) != len(wants) {
		t.Fatalf("%v", bad)
	}
	for i, want := range wants {
		if !strings.Contains(bad[i].Message, want) {
			t.Errorf("%v, want %q", bad[i], want)
		}
	}
	left := map[string]bool{}
	for _, c := range r.Columns() {
		if c.Field == "" {
			left[c.Heading] = true
		}
	}
	if !left["shoesize"] || left["userpassword"] || left["objectclass"] {
		t.Errorf("left out: %v", left)
	}
	if fields := r.Fields(); slices.Contains(fields, "mobile") || !slices.Contains(fields, "title") {
		t.Errorf("fields: %q", fields)
	}
}

// What identifies an entry, its photo, and fields of its own when they are mapped.
func TestEntriesHaveKeysAndPhotos(t *testing.T) {
	r, err := Open(strings.NewReader(ferry), Reading{Mapping: Mapping{Columns: map[string]string{"shoeSize": "shoe",
		"title": ""}}, NoMail: true})
	if err != nil {
		t.Fatal(err)
	}
	var keys []string
	for {
		e, err := r.Next()
		var row RowError
		if errors.Is(err, io.EOF) {
			break
		}
		if errors.As(err, &row) {
			continue
		}
		if err != nil {
			t.Fatal(err)
		}
		keys = append(keys, e.Key)
		shoe, _, _ := r.Schema().Column("shoe")
		title, _, _ := r.Schema().Column("title")
		if len(keys) == 1 && (!bytes.Equal(e.Photo, []byte("\xff\xd8\xff\xe0\x00\x10")) || e.At(shoe) != "38" || e.At(title) != "") {
			t.Errorf("%+v", e)
		}
		if c, _, _ := r.Schema().Column("c"); len(keys) == 2 && e.At(c) != "NO" {
			t.Errorf("the country of %+v", e)
		}
	}
	if !slices.Equal(keys, []string{"6f1c", "uid=bo,ou=people,dc=brackwater,dc=example", "uid=ida,ou=people,dc=brackwater,dc=example"}) {
		t.Errorf("%q", keys)
	}
}

// An attribute that is mapped and that nobody has is an error, with the one that is probably meant.
func TestAnAttributeThatNobodyHas(t *testing.T) {
	r, err := Open(strings.NewReader(ferry), Reading{Mapping: Mapping{Columns: map[string]string{"shoeSise": "shoe"}}})
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := r.All(); err == nil || err.Error() != `there is no column "shoeSise"; there is "shoesize"` {
		t.Error(err)
	}
}

func TestGroupsInACircle(t *testing.T) {
	g := Groups{}
	for _, pair := range [][2]string{{"cn=a", "cn=b"}, {"cn=b", "cn=a"}, {"cn=a", "uid=x"}} {
		if err := g.Add(pair[0], []string{pair[1]}, nil); err != nil {
			t.Fatal(err)
		}
	}
	if got := g.Of("uid=X", "", []string{"CN=a"}); !slices.Equal(got, []string{"CN=a", "cn=b"}) {
		t.Errorf("%q", got)
	}
}

func TestVCards(t *testing.T) {
	cards := "BEGIN:VCARD\r\nVERSION:4.0\r\nUID:urn:uuid:17\r\nFN:Maren Lind\r\nN:Lind;Maren;;Dr.;\r\nORG:Brackwater Ferries;Bridge\r\n" +
		"TITLE:Captain\r\nEMAIL;PREF=2:other@brackwater.example\r\nEMAIL;PREF=1:maren.lind@brackwater.example\r\n" +
		"TEL;VALUE=uri;TYPE=\"work,voice\":tel:+44-20-7946-0000;ext=12\r\nTEL;TYPE=cell:+44 7700 900142\r\nTEL;TYPE=home:1\r\n" +
		"ADR;TYPE=work:;;Quay " +
		"1;Havsund;;1234;Norway\r\nCATEGORIES:bridge,deck\r\nPHOTO:data:image/jpeg;base64,/9j/4AAQ\r\nNOTE:secret\r\nEND:VCARD\r\n" +
		"BEGIN:VCARD\r\nVERSION:3.0\r\nFN:Bo\r\nN:Bo;;;;\r\nitem1.EMAIL;TYPE=INTERNET:bo@brackwater.example\r\n" +
		"PHOTO;ENCODING=b;TYPE=JPEG:/9j/\r\n 4AAQ\r\nEND:VCARD\r\n" +
		"BEGIN:VCARD\r\nVERSION:4.0\r\nFN:Nobody\r\nEND:VCARD\r\n"
	d, bad, r := read(t, cards, Reading{})
	if len(d.People) != 2 || len(bad) != 1 || bad[0].Row != 3 {
		t.Fatalf("%+v, %v", d.People, bad)
	}
	for field, want := range map[string]string{"cn": "Maren Lind", "sn": "Lind", "personalTitle": "Dr.",
		"o": "Brackwater Ferries", "ou": "Bridge",
		"mail": "maren.lind@brackwater.example", "telephoneNumber": "+44-20-7946-0000 ext. 12", "mobile": "+44 7700 900142", "homePhone": "",
		"street": "Quay 1", "l": "Havsund", "postalCode": "1234", "co": "Norway", "c": "NO"} {
		if got := d.Get(&d.People[0], field); got != want {
			t.Errorf("%s is %q, want %q", field, got, want)
		}
	}
	if !slices.Equal(d.People[0].Groups, []string{"bridge", "deck"}) || slices.Contains(r.Fields(), "mobile") == false {
		t.Errorf("%q, %q", d.People[0].Groups, r.Fields())
	}
	r, err := Open(strings.NewReader(cards), Reading{})
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"17", "bo@brackwater.example"} {
		if e, err := r.Next(); err != nil || e.Key != want || len(e.Photo) != 6 {
			t.Errorf("%q with %d bytes of photo, %v", e.Key, len(e.Photo), err)
		}
	}
	if _, err := Open(strings.NewReader("BEGIN:VCARD\r\nFN:"+strings.Repeat("x", maxCard+70_000)), Reading{}); err != nil {
		t.Fatal(err)
	}
}

func TestFormatsAreTold(t *testing.T) {
	for head, want := range map[string]string{"mail,cn\n": CSV, "version: 1\n": LDIF, "# x\n\ndn: cn=x\n": LDIF,
		"\xef\xbb\xbfdn:: eA==\n": LDIF,
		"begin:vcard\r\n":         VCards, "": CSV, "description,mail\ndn: x\n": CSV} {
		if got := FormatOf([]byte(head)); got != want {
			t.Errorf("%q is %s, want %s", head, got, want)
		}
	}
}

// Lookups give fields for a code, and rules make fields; both of what a source has, in any format.
func TestMappingsMakeFields(t *testing.T) {
	text := `key: employeeNumber
columns: {Nr: employeeNumber, Standort: site, Durchwahl: extension, Gehalt: ""}
lookups:
  - by: site
    table:
      hav: {street: Quay 1, l: Havsund, c: "NO", switchboard: +47 22 00 00}
      LAN: {street: Kai 2, l: Port-Lanvec, c: FR, switchboard: +33 1 23 45 00}
fields:
  cn: "{{ givenName }} {{ sn }}"
  telephoneNumber: "{{ switchboard }} {{ extension }}"
  greeting: "{{ cn }}, {{ l }}"
`
	m, err := ReadMapping([]byte(text), nil)
	if err != nil {
		t.Fatal(err)
	}
	again, err := m.Text()
	if err != nil {
		t.Fatal(err)
	}
	if m, err = ReadMapping([]byte(again), nil); err != nil {
		t.Fatalf("%v:\n%s", err, again)
	}
	d, bad, _ := read(t, "Nr;E-Mail;Vorname;Nachname;Standort;Durchwahl;Gehalt\n"+
		"1;a@b.example;Ada;Tide; HAV ;12;9\n2;b@b.example;Bo;;lan;;9\n3;c@b.example;;;XXX;7;9\n;d@b.example;;;;;9\n1;e@b.example;;;;;9\n",
		Reading{Mapping: m})
	if len(d.People) != 3 || len(bad) != 2 || !strings.Contains(bad[0].Message, "employeeNumber is blank") ||
		!strings.Contains(bad[1].Message, "has the key of row 2") {
		t.Fatalf("%d people, %v", len(d.People), bad)
	}
	for i, want := range []map[string]string{
		{"cn": "Ada Tide", "l": "Havsund", "c": "NO", "telephoneNumber": "+47 22 00 00 12", "greeting": "Ada Tide, Havsund", "site": "HAV"},
		{"cn": "Bo", "street": "Kai 2", "telephoneNumber": "+33 1 23 45 00", "greeting": "Bo, Port-Lanvec"},
		{"cn": "", "l": "", "telephoneNumber": "7", "greeting": ""},
	} {
		for field, value := range want {
			if got := d.Get(&d.People[i], field); got != value {
				t.Errorf("person %d: %s is %q, want %q", i, field, got, value)
			}
		}
	}
	if codes := m.Unknown()(func(string) string { return "xxx" }); codes["site"] != "xxx" {
		t.Errorf("%v", codes)
	}
	if codes := m.Unknown()(func(string) string { return " lan" }); len(codes) != 0 {
		t.Errorf("%v", codes)
	}
}

func TestMappingsThatCannotBeUsed(t *testing.T) {
	for _, c := range []struct{ mapping, says string }{
		{"fields: [a]", "write a field"},
		{"lookups: [{by: site}]", "a lookup needs"},
		{"lookups: [{by: site, file: sites.csv}]", "must stand in the mapping"},
		{"columns: {a: b c}", "not usable"},
		{"fields: {b c: x}", "not usable"},
		{"colums: {a: b}", "not found"},
	} {
		if _, err := ReadMapping([]byte(c.mapping), nil); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v, want %q", c.mapping, err, c.says)
		}
	}
	for _, c := range []struct{ mapping, says string }{
		{"fields: {cn: '{{ givenNaem }}'}", "givenName"},
		{"lookups: [{by: sit, table: {a: {l: x}}}]", "no column is that field; there is site"},
		{"key: employeeNumber", "no column holds employeeNumber"},
	} {
		m, err := ReadMapping([]byte(c.mapping), nil)
		if err != nil {
			t.Fatal(err)
		}
		m = m.With(map[string]string{"site": "site"})
		if _, err := Open(strings.NewReader("mail,site,givenName\n"), Reading{Mapping: m}); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v, want %q", c.mapping, err, c.says)
		}
	}
	files := map[string]string{"sites.csv": "Code;l;c\nHAV;Havsund;NO\n", "twice.csv": "a,l\nx,1\nx,2\n", "short.csv": "a\n"}
	open := func(name string) ([]byte, error) { return []byte(files[name]), nil }
	if m, err := ReadMapping([]byte("lookups: [{by: site, file: sites.csv}]"), open); err != nil ||
		m.Lookups[0].Table["HAV"]["l"] != "Havsund" {
		t.Errorf("%+v, %v", m, err)
	}
	for _, name := range []string{"twice.csv", "short.csv"} {
		if _, err := ReadMapping([]byte("lookups: [{by: site, file: "+name+"}]"), open); err == nil {
			t.Errorf("%s is accepted", name)
		}
	}
}

func FuzzOpen(f *testing.F) {
	f.Add(ferry)
	f.Add("BEGIN:VCARD\nVERSION:4.0\nFN:Bo\nEMAIL:bo@b.example\nEND:VCARD\n")
	f.Add("dn:: eA==\n mail\nmail: a@b.example\n\n\n")
	f.Fuzz(func(t *testing.T, text string) {
		r, err := Open(strings.NewReader(text), Reading{NoMail: true})
		if err != nil {
			return
		}
		keys := map[string]bool{}
		for range 10_000 {
			e, err := r.Next()
			var row RowError
			if errors.As(err, &row) {
				if row.Message == "" {
					t.Fatal("a row without a reason")
				}
				continue
			}
			if err != nil {
				return
			}
			if e.Key == "" || keys[e.Key] || len(e.Values) != r.Schema().Len() {
				t.Fatalf("%+v", e)
			}
			keys[e.Key] = true
		}
	})
}
