package delivery

import (
	"strings"
	"testing"
	"time"

	"missivum/core/client"
	"missivum/core/person"
	"missivum/core/template"
	"missivum/demo"
)

var day = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func harbour(t *testing.T) *template.Template {
	t.Helper()
	tmpl, err := demo.Template("harbour")
	if err != nil {
		t.Fatal(err)
	}
	return tmpl
}

func TestWeigh(t *testing.T) {
	tmpl := harbour(t)
	list, err := Weigh(Input{Template: tmpl, Profiles: client.Shipped(), Day: day, Volume: 9000})
	if err != nil {
		t.Fatal(err)
	}
	bytes := 0
	for _, p := range tmpl.Pictures {
		bytes += len(p.Data)
	}
	found := map[string]Consequence{}
	for _, c := range list {
		found[c.Form+" "+string(c.Way)] = c
	}
	if c := found["fragment hosted"]; !c.Chosen || c.Message != 0 || c.Day != 0 || c.Characters == 0 ||
		!strings.Contains(c.Says, "hidden until allowed in append-rule, gecko-desktop") {
		t.Errorf("%+v", c)
	}
	if c := found["message carried"]; !c.Chosen || c.Message < bytes*4/3 || c.Message > bytes*3/2 || c.Day != int64(c.Message)*9000 {
		t.Errorf("%+v", c)
	}
	if c := found["fragment data"]; c.Chosen || c.Characters < bytes*4/3 || !strings.Contains(c.Says, "dropped by") {
		t.Errorf("%+v", c)
	}
	if _, ok := found["fragment carried"]; ok {
		t.Error("what is pasted cannot carry pictures")
	}
	unknown, err := Weigh(Input{Template: tmpl, Profiles: client.Shipped(), Day: day})
	if err != nil || unknown[0].Day != 0 {
		t.Fatalf("%+v, %v", unknown, err)
	}
	for _, c := range unknown {
		if strings.Contains(c.Says, "a day") {
			t.Errorf("a volume that nobody gave: %s", c.Says)
		}
	}
	tmpl.Settings.Pictures.Delivery = map[string]template.Delivery{"message": template.Hosted}
	chosen, err := Weigh(Input{Template: tmpl, Profiles: client.Shipped(), Day: day})
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range chosen {
		if c.Form == "message" && c.Chosen != (c.Way == template.Hosted) {
			t.Errorf("%+v", c)
		}
	}
}

// What the client that sends carries although it is hosted is said in the forms that are installed, with how many pictures
// ask to be left where they are.
func TestSentAlong(t *testing.T) {
	for source, want := range map[string]string{
		`<img data-picture="logo" width="88" height="88">`:                                                            "nosend: 0 of 1 do",
		`<img data-picture="logo" width="88" height="88" nosend="1">`:                                                 "nosend: 1 of 1 do",
		`<img data-picture="logo" width="88" height="88" nosend="1"><img data-picture="banner" width="9" height="9">`: "nosend: 1 of 2 do",
	} {
		parts := harbour(t).Parts()
		parts.Source = source
		edited, err := template.New("edited", parts)
		if err != nil {
			t.Fatal(err)
		}
		list, err := Weigh(Input{Template: edited, Profiles: client.Shipped(), Day: day})
		if err != nil {
			t.Fatal(err)
		}
		said := 0
		for _, c := range list {
			installed := c.Way == template.Hosted && (c.Form == "html" || c.Form == "fragment")
			if strings.Contains(c.Says, want) != installed {
				t.Errorf("%s: %s %s: %s", source, c.Form, c.Way, c.Says)
			}
			if installed {
				said++
			}
		}
		if said != 2 {
			t.Errorf("said for %d forms", said)
		}
	}
}

func TestMultiples(t *testing.T) {
	if n := Best(Multiples(client.Shipped(), "attributes")); n != 2 {
		t.Errorf("with attributes %d", n)
	}
	if n := Best(Multiples(client.Shipped(), "styles")); n != 1 {
		t.Errorf("with styles alone %d", n)
	}
	if n := Best(nil); n != 2 {
		t.Errorf("without clients %d", n)
	}
}

func TestAddresses(t *testing.T) {
	tmpl, err := template.New("x",
		template.Parts{Source: `<img src="https://a.example/x.png" width="10" height="5"><img ` +
			`src="https://a.example/x.png"><img src="{{ photoAddress }}"><img src="cid:1"><img src="data:,">`})
	if err != nil {
		t.Fatal(err)
	}
	list, err := Addresses(tmpl, person.NewSchema("photoAddress"), day)
	if err != nil || len(list) != 1 || list[0].Display.Width != 10 || list[0].Line != 1 {
		t.Errorf("%+v, %v", list, err)
	}
	list, err = Addresses(harbour(t), person.NewSchema("callSign"), day)
	if err != nil || len(list) != 2 || list[0].Address != "https://pictures.brackwater.example/harbour/logo.png" ||
		list[0].Display.Width != 88 {
		t.Errorf("%+v, %v", list, err)
	}
}
