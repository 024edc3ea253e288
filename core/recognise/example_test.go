package recognise_test

import (
	"fmt"
	"log"
	"strings"
	"time"

	"missivum/core/recognise"
	"missivum/core/source"
	"missivum/core/template"
)

// The values of a known person become fields.
func ExampleRun() {
	people, _, err := source.ReadCSV(strings.NewReader("mail,cn,title\nmaren.lind@brackwater.example,Maren Lind,Harbour master\n"),
		source.Mapping{})
	if err != nil {
		log.Fatal(err)
	}
	result, err := recognise.Run(recognise.Input{
		Parts:  template.Parts{Source: "<p>MAREN LIND, Harbour master</p>"},
		People: people, Person: &people.People[0], Day: time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC),
	})
	if err != nil {
		log.Fatal(err)
	}
	fmt.Println(result.Parts.Source)
	// Output:
	// <p>{{ cn | upper }}, {{ title }}</p>
}
