package source

import (
	"reflect"
	"strings"
	"testing"
)

func TestMappingIsReadAsItIsWritten(t *testing.T) {
	reader, err := NewReader(strings.NewReader("E-Mail;Vorname;Name;Notizen: privat;Tel\n"),
		Mapping{Columns: map[string]string{"Tel": "mobile"}})
	if err != nil {
		t.Fatal(err)
	}
	text, err := WriteMapping(reader.Columns(), Mapping{})
	if err != nil {
		t.Fatal(err)
	}
	got, err := ReadMapping(text, nil)
	want := map[string]string{"E-Mail": "mail", "Vorname": "givenName", "Name": "sn", "Notizen: privat": "", "Tel": "mobile"}
	if err != nil || !reflect.DeepEqual(got.Columns, want) {
		t.Errorf("%v, %v\n%s", got, err, text)
	}
	again, err := NewReader(strings.NewReader("E-Mail;Vorname;Name;Notizen: privat;Tel\n"), got)
	if err != nil || again.Schema().Names()[3] != "mobile" {
		t.Errorf("%v", err)
	}
	for _, wrong := range []string{"", "columns:", "columns: {a: b c}", "fields: {}", "columns: [", strings.Repeat("#", maxMapping+1)} {
		if _, err := ReadMapping([]byte(wrong), nil); err == nil {
			t.Errorf("%.40q is accepted", wrong)
		}
	}
}

func FuzzReadMapping(f *testing.F) {
	f.Add("columns: {Adresse: street, x: \"\"}")
	f.Fuzz(func(t *testing.T, text string) {
		if m, err := ReadMapping([]byte(text), nil); err == nil && m.Columns == nil && m.Fields == nil && m.Lookups == nil && m.Key == "" {
			t.Error("neither a mapping nor an error")
		}
	})
}
