package compose_test

import (
	"fmt"
	"log"
	"strings"
	"time"

	"missivum/core/compose"
	"missivum/core/source"
	"missivum/core/template"
)

// A template is compiled once for a directory, in the forms that are needed, and filled for each person.
func ExampleCompile() {
	people, _, err := source.ReadCSV(strings.NewReader("mail,cn,title\nmaren.lind@brackwater.example,Maren Lind,Harbour master\n"),
		source.Mapping{})
	if err != nil {
		log.Fatal(err)
	}
	t, err := template.New("quay", template.Parts{Source: `<p>{{ cn }}<br>{{ title }}</p>`})
	if err != nil {
		log.Fatal(err)
	}
	signature, err := compose.Compile(compose.Source{Template: t, Schema: people.Schema,
		Day: time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)}, compose.Fragment, compose.Text)
	if err != nil {
		log.Fatal(err)
	}
	for i := range people.People {
		fmt.Printf("%s\n", signature.Fill("new", compose.Fragment, &people.People[i]))
		fmt.Printf("%q\n", signature.Fill("new", compose.Text, &people.People[i]))
	}
	// Output:
	// <p>Maren Lind<br>Harbour master</p>
	// "-- \nMaren Lind\nHarbour master\n"
}
