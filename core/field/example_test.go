package field_test

import (
	"fmt"
	"log"
	"strings"

	"missivum/core/field"
	"missivum/core/markup"
	"missivum/core/person"
	"missivum/core/source"
)

// An element that needs a field goes with it, and values cannot become markup.
func ExampleCompileHTML() {
	schema, people, err := directory("cn,mail,title\nBo <Tide>,bo@brackwater.example,\n")
	if err != nil {
		log.Fatal(err)
	}
	doc, err := markup.Parse(`<b>{{ cn | upper }}</b><i data-needs="title">{{ title }}</i>`)
	if err != nil {
		log.Fatal(err)
	}
	table := field.NewTable(schema, "")
	program, err := field.CompileHTML(&field.Source{Doc: doc, Schema: schema, Variants: []string{"new"}}, table, "new")
	if err != nil {
		log.Fatal(err)
	}
	filler := field.NewFiller(table)
	filler.Set(&people[0])
	fmt.Printf("%s\n", program.Append(nil, filler))
	// Output:
	// <b>BO &lt;TIDE&gt;</b>
}

// directory reads people from CSV.
func directory(csv string) (*person.Schema, []person.Person, error) {
	people, _, err := source.ReadCSV(strings.NewReader(csv), source.Mapping{})
	if err != nil {
		return nil, nil, err
	}
	return people.Schema, people.People, nil
}
