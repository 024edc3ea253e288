package pack

import (
	"bytes"
	"context"
	"encoding/csv"
	"strings"
	"testing"

	"missivum/core/client"
	"missivum/core/kit"
	"missivum/core/person"
	"missivum/core/problem"
	"missivum/core/template"
)

// kitInput is a package of kits for two people who get a signature and one who does not.
func kitInput(t *testing.T, folders string, key *kit.Key) Input {
	t.Helper()
	tmpl, err := template.New("quay", template.Parts{Source: `<p>{{ cn }}</p>`, Settings: "variants: [new, reply]"})
	if err != nil {
		t.Fatal(err)
	}
	d := &person.Directory{Schema: person.NewSchema("mail", "cn", "uid"), People: []person.Person{
		{Values: []string{"a@x.example", "Ann <b>", "ann"}}, {Values: []string{"=b@x.example", "Bo", ""}},
		{Values: []string{"c@x.example", "Cai", "ANN"}}}}
	m, err := kit.New(kit.Input{Templates: map[string]*template.Template{"quay": tmpl}, Schema: d.Schema, Day: day, Way: client.FileSet})
	if err != nil {
		t.Fatal(err)
	}
	return Input{Schema: d.Schema, People: Everybody(d), Day: day, Spool: spool,
		Kits: &Kits{Maker: m, Way: client.FileSet, Folders: folders, Key: key,
			Choices: func(p *person.Person) []kit.Choice {
				if p.Values[1] == "Cai" {
					return nil
				}
				return []kit.Choice{{Situation: "new", Template: "quay", Variant: "new"}, {Situation: "reply", Template: "quay", Variant: "reply"}}
			}}}
}

func TestPackageOfKits(t *testing.T) {
	key := kit.NewKey([32]byte{3})
	in := kitInput(t, "uid", &key)
	var b bytes.Buffer
	result, err := Write(context.Background(), &b, in)
	if err != nil {
		t.Fatal(err)
	}
	files, m := open(t, b.Bytes())
	if m.Kits.Way != "file-set" || !m.Kits.Signed || m.People != 3 || result.People != 3 || len(m.Files) != 2*5+2 {
		t.Errorf("%+v, %d files", m.Kits, len(m.Files))
	}
	for _, folder := range []string{"ann", "=b@x.example", "ann_2"} { // by login name, else by mail address; never one for two
		list, err := key.Trusted().Open(files[folder+"/kit.json"], files[folder+"/kit.sig"])
		if err != nil {
			t.Fatalf("%s: %v", folder, err)
		}
		for _, f := range list.Files {
			if err := f.Check(files[folder+"/"+f.File]); err != nil {
				t.Error(err)
			}
		}
		if none := list.Person == "c@x.example"; none != (len(list.Files) == 0) || none != (list.Use["new"] == "") {
			t.Errorf("%+v", list)
		}
	}
	rows, err := csv.NewReader(bytes.NewReader(files["people.csv"])).ReadAll()
	if err != nil || len(rows) != 1+2*3 || strings.Join(rows[4], " ")[:21] != "'=b@x.example =b@x.ex" || rows[1][6] != "new reply" {
		t.Errorf("%q, %v", rows, err)
	}
	page := string(files["index.html"])
	for _, want := range []string{"File set", `href="ann/quay.html"`, "no signature", "3 people, of whom 1 get no signature",
		"Close the mail client", "1 of the people get no signature"} {
		if !strings.Contains(page, want) {
			t.Errorf("the index page does not say %q", want)
		}
	}
	if len(result.Notes) != 2 || !strings.Contains(result.Notes[0], "it is there once. This holds for 2 of the people") {
		t.Errorf("%q", result.Notes)
	}
	if again := written(t, kitInput(t, "uid", &key)); !bytes.Equal(again, b.Bytes()) {
		t.Error("the same input gives other bytes")
	}
}

func TestKitsThatAreNotSigned(t *testing.T) {
	files, m := open(t, written(t, kitInput(t, "", nil)))
	if _, signed := files["a@x.example/kit.sig"]; signed || m.Kits.Signed || files["a@x.example/kit.json"] == nil {
		t.Errorf("%+v", m.Kits)
	}
	var b bytes.Buffer
	for _, field := range []string{"title", "nonsense"} {
		if _, err := Write(context.Background(), &b, kitInput(t, field, nil)); !problem.Is(err, problem.Invalid) || b.Len() > 0 {
			t.Errorf("folders by %s: %v", field, err)
		}
	}
}
