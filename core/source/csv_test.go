package source

import (
	"bytes"
	"slices"
	"strings"
	"testing"

	"missivum/core/person"
)

func TestReadCSV(t *testing.T) {
	for _, c := range []struct {
		name, file string
		mapping    map[string]string
		fields     []string
		people     [][]string
		bad        []string
	}{
		{"plain", "cn,mail\nMaren,m@brackwater.example\n", nil, []string{"cn", "mail"}, [][]string{{"Maren", "m@brackwater.example"}}, nil},
		{"byte order mark, semicolons, line ends", "\xef\xbb\xbfcn;mail\r\nGrün;g@brackwater.example\r\n", nil,
			[]string{"cn", "mail"}, [][]string{{"Grün", "g@brackwater.example"}}, nil},
		{"tabs and long names", "commonName\tMAIL\tSurname\na\ta@b.example\tc\n", nil, []string{"cn", "mail", "sn"},
			[][]string{{"a", "a@b.example", "c"}}, nil},
		{"spreadsheet titles", "E-Mail;First name;Job title;Radio call sign\na@b.example;A;Cook;x 1\n", nil,
			[]string{"mail", "givenName", "title"}, [][]string{{"a@b.example", "A", "Cook"}}, nil},
		{"own fields are mapped", "mail;Radio call sign\na@b.example;x 1\n", map[string]string{"Radio call sign": "callSign"},
			[]string{"mail", "callSign"}, [][]string{{"a@b.example", "x 1"}}, nil},
		{"the name is composed", "mail;Vorname;Nachname\na@b.example;Ada;Lind\nb@b.example;;Tide\n", nil,
			[]string{"mail", "givenName", "sn", "cn"},
			[][]string{{"a@b.example", "Ada", "Lind", "Ada Lind"}, {"b@b.example", "", "Tide", "Tide"}}, nil},
		{"two columns of one field", "mail;E-Mail;Telefon;Tel.-Nr.\na@b.example;x;1;2\n", nil, []string{"mail", "telephoneNumber"},
			[][]string{{"a@b.example", "1"}}, nil},
		{"a mapped column comes first", "mail;Telefon;Zentrale\na@b.example;1;2\n", map[string]string{"Zentrale": "telephoneNumber"},
			[]string{"mail", "telephoneNumber"}, [][]string{{"a@b.example", "2"}}, nil},
		{"the name as displayed stands for the name", "mail;Anzeigename\na@b.example;Ada Lind\n", nil, []string{"mail", "displayName", "cn"},
			[][]string{{"a@b.example", "Ada Lind", "Ada Lind"}}, nil},
		{"a line that names the separator", "sep=;\r\nE-Mail;Name\r\na@b.example;Ada, B\r\nx;y\r\n", nil, []string{"mail", "cn"},
			[][]string{{"a@b.example", "Ada, B"}}, []string{"row 4: \"x\" is not a mail address"}},
		{"bars", "Name|E-Mail\nAda|a@b.example\n", nil, []string{"cn", "mail"}, [][]string{{"Ada", "a@b.example"}}, nil},
		{"commas in values, semicolons between them", "Name;E-Mail\nTide, Ada, B, C;a@b.example\nLind, Bo, X, Y;b@b.example\n", nil,
			[]string{"cn", "mail"}, [][]string{{"Tide, Ada, B, C", "a@b.example"}, {"Lind, Bo, X, Y", "b@b.example"}}, nil},
		{"rows above the header", "Staff of 1 January;;\n;;\nE-Mail;Vorname;Nachname\na@b.example;Ada;Tide\nb;B;B\n", nil,
			[]string{"mail", "givenName", "sn", "cn"}, [][]string{{"a@b.example", "Ada", "Tide", "Ada Tide"}}, []string{"row 5: \"b\""}},
		{"the header is found by its mapping", "a,b\nKennung,Post\n1,a@b.example\n", map[string]string{"Kennung": "uid", "Post": "mail"},
			[]string{"uid", "mail"}, [][]string{{"1", "a@b.example"}}, nil},
		{"known by its values", "Principal,First name,Last name\na@b.example,A,B\nb@b.example,C,D\n", nil,
			[]string{"mail", "givenName", "sn", "cn"},
			[][]string{{"a@b.example", "A", "B", "A B"}, {"b@b.example", "C", "D", "C D"}}, nil},
		{"separators behind the last value", "mail,cn\na@b.example,A,,\nb@b.example,B,,x\n", nil, []string{"mail", "cn"},
			[][]string{{"a@b.example", "A"}}, []string{"row 3: 4 of the 2 values"}},
		{"windows-1252", "mail;Name;Stra\xdfe\na@b.example;J\xf6rg Gro\xdf;Kai 1\n", nil, []string{"mail", "cn", "street"},
			[][]string{{"a@b.example", "Jörg Groß", "Kai 1"}}, nil},
		{"UTF-16", "\xff\xfem\x00a\x00i\x00l\x00,\x00c\x00n\x00\n\x00a\x00@\x00b\x00.\x00d\x00e\x00,\x00\xf6\x00\n\x00", nil,
			[]string{"mail", "cn"}, [][]string{{"a@b.de", "ö"}}, nil},
		{"mapping", "Adresse,Nom,Secret\na@b.example,A,s\n", map[string]string{"Adresse": "mail", "Nom": "sn", "Secret": ""},
			[]string{"mail", "sn"}, [][]string{{"a@b.example", "A"}}, nil},
		{"quotes and commas", "mail,title\na@b.example,\"Cook, \"\"chief\"\"\"\n", nil, []string{"mail", "title"},
			[][]string{{"a@b.example", `Cook, "chief"`}}, nil},
		{"bad rows are left out and named",
			"cn,mail\nA,a@b.example\nB\nC,not an address\nD,\nE,A@B.example\nF,f@b.example\n", nil, []string{"cn", "mail"},
			[][]string{{"A", "a@b.example"}, {"F", "f@b.example"}},
			[]string{"row 3: 1 of the 2 values", "row 4: \"not an address\"", "row 5: the mail address is blank",
				"row 6: repeats the address in row 2: A@B.example"}},
		{"broken quotes", "cn,mail\nA \"x\" y,a@b.example\nB,b@b.example\n", nil, []string{"cn", "mail"},
			[][]string{{"B", "b@b.example"}}, []string{"row 2: the quotes do not match"}},
		{"quotes that never close", "cn,mail\nA,a@b.example\n\"B,b@b.example\nC,c@b.example\n", nil, []string{"cn", "mail"},
			[][]string{{"A", "a@b.example"}},
			[]string{"row 3: the quotes do not match: extraneous or missing \" in quoted-field; all from line 3 to line"}},
		{"a value too long", "cn,mail\n" + strings.Repeat("x", maxValue+1) + ",a@b.example\n", nil, []string{"cn", "mail"},
			nil, []string{"row 2: cn is 16385 bytes long"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			d, bad, err := ReadCSV(strings.NewReader(c.file), Mapping{Columns: c.mapping})
			if err != nil {
				t.Fatal(err)
			}
			if got := d.Schema.Names(); !slices.Equal(got, c.fields) {
				t.Errorf("fields %q, want %q", got, c.fields)
			}
			if len(d.People) != len(c.people) {
				t.Fatalf("%d people, want %d", len(d.People), len(c.people))
			}
			for i := range c.people {
				if !slices.Equal(d.People[i].Values, c.people[i]) {
					t.Errorf("person %d: %q, want %q", i, d.People[i].Values, c.people[i])
				}
			}
			if len(bad) != len(c.bad) {
				t.Fatalf("%d bad rows, want %d: %v", len(bad), len(c.bad), bad)
			}
			for i := range bad {
				if !strings.HasPrefix(bad[i].Error(), c.bad[i]) {
					t.Errorf("got %q, want %q", bad[i], c.bad[i])
				}
			}
		})
	}
}

func TestFilesThatCannotBeRead(t *testing.T) {
	for name, c := range map[string]struct{ file, want string }{
		"empty":       {"", "empty"},
		"no mail":     {"cn,sn\na,b\n", "no column holds the mail address"},
		"long row":    {"mail,cn\n" + strings.Repeat(",", 2<<20) + "\n", "longer than 256 kB"},
		"long header": {strings.Repeat(",", 2<<20) + "\n", "longer than 256 kB"},
		"too wide":    {strings.Repeat("a,", maxColumns) + "mail\n", "columns"},
		"open quotes": {"\"mail\n", "cannot be read"},
	} {
		if _, _, err := ReadCSV(strings.NewReader(c.file), Mapping{}); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %q", name, err, c.want)
		}
	}
}

func TestWriteCSVReadsBack(t *testing.T) {
	d := &person.Directory{Schema: person.NewSchema("mail", "title"),
		People: []person.Person{{Values: []string{"a@b.example", "Cook, \"chief\"; night\nshift"}}}}
	var b bytes.Buffer
	if err := WriteCSV(&b, d); err != nil {
		t.Fatal(err)
	}
	back, bad, err := ReadCSV(&b, Mapping{})
	if err != nil || len(bad) > 0 || !slices.Equal(back.People[0].Values, d.People[0].Values) {
		t.Errorf("read back %+v, %v, %v", back, bad, err)
	}
}

func FuzzReadCSV(f *testing.F) {
	f.Add([]byte("cn,mail\na,b@c.example\n"))
	f.Add([]byte("\xef\xbb\xbfmail;\"x\ny\"\n\"a@b.example\";\"\""))
	f.Fuzz(func(t *testing.T, file []byte) {
		d, bad, err := ReadCSV(bytes.NewReader(file), Mapping{})
		if err != nil {
			return
		}
		column, _, _ := d.Schema.Column("mail")
		for i := range d.People {
			if len(d.People[i].Values) != d.Schema.Len() || d.People[i].At(column) == "" {
				t.Fatalf("person %d of %q: %q", i, file, d.People[i].Values)
			}
		}
		for _, b := range bad {
			if b.Row < 2 || b.Message == "" {
				t.Fatalf("bad row %+v", b)
			}
		}
	})
}

// Titles of personnel exports in eight languages, and what they are.
func TestTitlesInEightLanguages(t *testing.T) {
	for language, c := range map[string]struct{ header, fields string }{
		"English": {"First Name,Last Name,E-mail address,Job Title,Department,Phone (office),Mobile phone,City,Postal code,Country",
			"givenName sn mail title ou telephoneNumber mobile l postalCode co"},
		"German": {"Vorname,Name,E-Mail,Funktion,Abteilung,Telefon,Mobil,Straße,PLZ,Ort,Land,Personal-Nr.",
			"givenName sn mail title ou telephoneNumber mobile street postalCode l co employeeNumber"},
		"German 2": {"Nachname,Vorname,E-Mail-Adresse,Stellenbezeichnung,Firma,Telefon geschäftlich,Handy,Büro",
			"sn givenName mail title o telephoneNumber mobile physicalDeliveryOfficeName"},
		"French": {"Prénom,Nom,Courriel,Fonction,Service,Téléphone,Portable,Ville,Code postal,Pays,Société",
			"givenName sn mail title ou telephoneNumber mobile l postalCode co o"},
		"Spanish": {"Nombre,Apellidos,Correo electrónico,Cargo,Departamento,Teléfono,Móvil,Dirección,Código postal,Ciudad,País",
			"givenName sn mail title ou telephoneNumber mobile street postalCode l co"},
		"Italian": {"Nome,Cognome,Posta elettronica,Qualifica,Reparto,Telefono,Cellulare,Indirizzo,CAP,Città",
			"givenName sn mail title ou telephoneNumber mobile street postalCode l"},
		"Dutch": {"Voornaam,Achternaam,E-mailadres,Functie,Afdeling,Telefoonnummer,Mobiel,Straat,Postcode,Plaats",
			"givenName sn mail title ou telephoneNumber mobile street postalCode l"},
		"Swedish": {"Förnamn,Efternamn,E-post,Befattning,Avdelning,Telefon,Mobil,Gatuadress,Postnummer,Ort",
			"givenName sn mail title ou telephoneNumber mobile street postalCode l"},
		"Polish": {"Imię,Nazwisko,Adres e-mail,Stanowisko,Dział,Telefon,Telefon komórkowy,Ulica,Kod pocztowy,Miasto",
			"givenName sn mail title ou telephoneNumber mobile street postalCode l"},
		"one name": {"Name,Mail", "cn mail"},
	} {
		reader, err := NewReader(strings.NewReader(c.header+"\n"), Mapping{})
		if err != nil {
			t.Errorf("%s: %v", language, err)
			continue
		}
		var got []string
		for _, column := range reader.Columns() {
			if column.Heading != "" {
				got = append(got, column.Field)
			}
		}
		if strings.Join(got, " ") != c.fields {
			t.Errorf("%s: %s, want %s", language, strings.Join(got, " "), c.fields)
		}
	}
}

// Titles that say more than the name of a field, in several languages; what is private or says several things is left out.
func TestLooseTitles(t *testing.T) {
	for title, want := range map[string]string{
		"E-Mail-Adresse (dienstlich)": "mail", "Telefon dienstl.": "telephoneNumber", "Handynr.": "mobile", "Mobile Phone Number": "mobile",
		"Telefon (mobil)": "mobile", "Telefon (Fax)": "facsimileTelephoneNumber", "Straße/Nr.": "street", "Firma/Organisation": "o", "Abt.": "ou",
		"ZIP or postal code": "postalCode", "Country or region": "co", "Office Location": "physicalDeliveryOfficeName", "Work Email": "mail",
		"Téléphone professionnel": "telephoneNumber", "Correo electrónico (trabajo)": "mail", "Telefono aziendale": "telephoneNumber",
		"Employee Job Title": "title", "Business Phone 1": "", "Telefon (privat)": "", "Private E-Mail": "",
		"Personal email address": "", "PLZ Ort": "",
		"Telefon/Fax": "", "Notizen": "", "Gehalt (brutto)": "", "Nummer": "", "Emergency phone": "", "Privat Handy": "",
	} {
		got, ok := Heading(title)
		if got != want && (ok || want != "") {
			t.Errorf("%s is %q, want %q", title, got, want)
		}
	}
	fields := headingsOfFile([]string{"Titel", "Funktion", "E-Mail"})
	if fields[0] != "personalTitle" || fields[1] != "title" {
		t.Errorf("%q", fields)
	}
	if fields := headingsOfFile([]string{"Titel", "E-Mail"}); fields[0] != "title" {
		t.Errorf("%q", fields)
	}
}

// A column that is named and not there is an error, with the one that is probably meant.
func TestUnknownColumnIsAnError(t *testing.T) {
	_, err := NewReader(strings.NewReader("mail,Adresse\n"), Mapping{Columns: map[string]string{"Adrese": "street"}})
	if err == nil || err.Error() != `there is no column "Adrese"; there is "Adresse"` {
		t.Error(err)
	}
}
