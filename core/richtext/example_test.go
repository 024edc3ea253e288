package richtext_test

import (
	"fmt"
	"log"
	"strings"
	"time"

	"missivum/core/compose"
	"missivum/core/field"
	"missivum/core/richtext"
	"missivum/core/source"
	"missivum/core/template"
)

// The form is filled for each person by appending.
func ExampleCompile() {
	people, _, err := source.ReadCSV(strings.NewReader("mail,cn,title\nmaren.lind@brackwater.example,Maren Lind,Harbour master\n"),
		source.Mapping{})
	if err != nil {
		log.Fatal(err)
	}
	t, err := template.New("quay", template.Parts{Source: `<p>{{ cn }}</p>`})
	if err != nil {
		log.Fatal(err)
	}
	prepared, err := compose.Prepare(t, people.Schema, time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC), compose.Beside)
	if err != nil {
		log.Fatal(err)
	}
	table := prepared.NewTable()
	program, err := richtext.Compile(richtext.Source{
		Fields: prepared.FieldSource(), Table: table, Variant: "new", PictureOf: prepared.PictureOf,
	})
	if err != nil {
		log.Fatal(err)
	}
	filler := field.NewFiller(table)
	filler.Set(&people.People[0])
	form := string(program.Append(nil, filler))
	fmt.Println(strings.HasPrefix(form, `{\rtf1`), strings.Contains(form, "Maren Lind"))
	// Output:
	// true true
}
