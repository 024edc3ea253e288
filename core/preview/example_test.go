package preview_test

import (
	"fmt"
	"log"
	"strings"
	"time"

	"missivum/core/client"
	"missivum/core/compose"
	"missivum/core/preview"
	"missivum/core/source"
	"missivum/core/template"
)

// A client that reads text only gets the text form.
func ExampleOf() {
	people, _, err := source.ReadCSV(strings.NewReader("mail,cn,title\nmaren.lind@brackwater.example,Maren Lind,Harbour master\n"),
		source.Mapping{})
	if err != nil {
		log.Fatal(err)
	}
	t, err := template.New("quay", template.Parts{Source: `<p style="border-radius: 4px">{{ cn }}</p>`})
	if err != nil {
		log.Fatal(err)
	}
	prepared, err := compose.Prepare(t, people.Schema, time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC), compose.Beside)
	if err != nil {
		log.Fatal(err)
	}
	shown := preview.Of(prepared)
	text, err := shown.Kept(client.Book(client.Shipped()).Find("text-reader"), client.Render, "new", &people.People[0])
	if err != nil {
		log.Fatal(err)
	}
	fmt.Printf("%q\n", text.Body)
	// Output:
	// "-- \nMaren Lind\n"
}
