package charset_test

import (
	"fmt"
	"testing"
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"

	"missivum/core/charset"
)

// Texts as personnel exports and signatures have them, written in their language's set without saying so.
func TestGuess(t *testing.T) {
	for _, c := range []struct {
		text, name string
		set        encoding.Encoding
	}{
		{"Name;Straße;Ort\nJörg Weiß;Am Kai 3;Lübeck\nKäthe Groß;Größe;Köln", "windows-1252", charmap.Windows1252},
		{"Prénom,Téléphone,Société\nZoé,01 99 00 12 34,Bac à Quai – où l’on rêve", "windows-1252", charmap.Windows1252},
		{"Dirección\tTeléfono\nMuñoz\tCórdoba\nÁngel", "windows-1252", charmap.Windows1252},
		{"Østergård, Åse; Småland; København", "windows-1252", charmap.Windows1252},
		{"Perché no? Città, più, lunedì", "windows-1252", charmap.Windows1252},
		{"Imię;Nazwisko;Stanowisko\nŁukasz;Żółkiewski;Główny księgowy\nMałgorzata;Wiśniewska;Kierownik", "windows-1250", charmap.Windows1250},
		{"Jméno;Příjmení\nTomáš;Dvořák\nJiří;Němec\nŠtěpánka;Kučerová", "windows-1250", charmap.Windows1250},
		{"Фамилия;Имя;Должность\nКраснова;Ольга;Начальник порта", "windows-1251", charmap.Windows1251},
		{"Όνομα;Επώνυμο;Θέση\nΓιώργος;Παπάς;Διευθυντής λιμένα", "windows-1253", charmap.Windows1253},
		{"Adı;Soyadı;Görevi\nIşıl;Şahin;Müdür yardımcısı\nÇağrı;Yıldız", "windows-1254", charmap.Windows1254},
		{"Vārds;Uzvārds\nJānis;Bērziņš\nKārlis;Ozoliņš;Rīga", "windows-1257", charmap.Windows1257},
		{"Łukasz Żółkiewski\nMałgorzata Wiśniewska, główny księgowy, Łódź", "iso-8859-2", charmap.ISO8859_2},
		{"Краснова Ольга, начальник порта", "koi8-r", charmap.KOI8R},
	} {
		data, err := c.set.NewEncoder().String(c.text)
		if err != nil {
			t.Fatal(err)
		}
		got, err := charset.Read([]byte(data), "")
		if err != nil || got.Text != c.text || got.Charset != c.name || got.Basis != charset.Guessed || got.Note() == "" {
			t.Errorf("%v %s (%s), want %s: %q", err, got.Charset, got.Basis, c.name, got.Text)
		}
	}
}

func TestKnown(t *testing.T) {
	utf16 := func(order unicode.Endianness, mark unicode.BOMPolicy, s string) string {
		out, err := unicode.UTF16(order, mark).NewEncoder().String(s)
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	for _, c := range []struct{ data, declared, text, name, basis string }{
		{"Grüße", "", "Grüße", "utf-8", "shape"},
		{"Grüße", "windows-1252", "Grüße", "utf-8", "shape"}, // what it is counts, not what it says
		{"Gr\xfc\xdfe", "utf-8", "Grüße", "windows-1252", "guessed"},
		{"Gr\xfc\xdfe", "iso-8859-1", "Grüße", "windows-1252", "declared"},
		{"Gr\xfc\xdfe", "no such set", "Grüße", "windows-1252", "guessed"},
		{"\xa3\xf3d\xbc", "iso-8859-2", "Łódź", "iso-8859-2", "declared"},
		{"\xef\xbb\xbfGrüße", "", "Grüße", "utf-8", "mark"},
		{utf16(unicode.LittleEndian, unicode.UseBOM, "Grüße"), "", "Grüße", "utf-16le", "mark"},
		{utf16(unicode.BigEndian, unicode.UseBOM, "Grüße"), "", "Grüße", "utf-16be", "mark"},
		{utf16(unicode.LittleEndian, unicode.IgnoreBOM, "mail;name\na;Jörg"), "", "mail;name\na;Jörg", "utf-16le", "shape"},
		{utf16(unicode.BigEndian, unicode.IgnoreBOM, "mail;name\na;Jörg"), "", "mail;name\na;Jörg", "utf-16be", "shape"},
		{"", "", "", "utf-8", "shape"},
	} {
		got, err := charset.Read([]byte(c.data), c.declared)
		if err != nil || got.Text != c.text || got.Charset != c.name || string(got.Basis) != c.basis {
			t.Errorf("%q as %q: %+v %v, want %s %s %q", c.data, c.declared, got, err, c.name, c.basis, c.text)
		}
	}
}

func TestOfPage(t *testing.T) {
	for page, want := range map[string]string{
		`<meta charset="windows-1252">`:                                          "windows-1252",
		`<META http-equiv=Content-Type content="text/html; charset=iso-8859-2">`: "iso-8859-2",
		`<meta name="x">`:      "",
		`<p>charset=utf-8</p>`: "",
	} {
		if got := charset.OfPage([]byte(page)); got != want {
			t.Errorf("%s: %q, want %q", page, got, want)
		}
	}
}

func ExampleRead() {
	text, _ := charset.Read([]byte("Gr\xfc\xdfe aus L\xfcbeck"), "")
	fmt.Println(text.Text, text.Charset, text.Basis)
	// Output: Grüße aus Lübeck windows-1252 guessed
}

func FuzzRead(f *testing.F) {
	f.Add([]byte("Gr\xfc\xdfe"), "windows-1250")
	f.Add([]byte("\xff\xfea"), "")
	f.Fuzz(func(t *testing.T, data []byte, declared string) {
		text, err := charset.Read(data, declared)
		if err == nil && (!utf8.ValidString(text.Text) || text.Charset == "") {
			t.Errorf("%q is no text of %s", text.Text, text.Charset)
		}
	})
}
