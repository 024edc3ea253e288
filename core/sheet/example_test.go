package sheet_test

import (
	"context"
	"fmt"
	"log"
	"strings"
	"time"

	"missivum/core/check"
	"missivum/core/client"
	"missivum/core/sheet"
	"missivum/core/source"
	"missivum/core/template"
)

// One line for each client, one cell for each view.
func ExampleMake() {
	people, _, err := source.ReadCSV(strings.NewReader("mail,cn,title\nmaren.lind@brackwater.example,Maren Lind,Harbour master\n"),
		source.Mapping{})
	if err != nil {
		log.Fatal(err)
	}
	t, err := template.New("quay", template.Parts{Source: `<p>{{ cn }}</p>`})
	if err != nil {
		log.Fatal(err)
	}
	profiles, err := client.Book(client.Shipped()).Select([]string{"wordproc-desktop", "webkit-phone"})
	if err != nil {
		log.Fatal(err)
	}
	report, err := check.Run(context.Background(), check.Input{Template: t, People: people, Profiles: profiles})
	if err != nil {
		log.Fatal(err)
	}
	made, err := sheet.Make(context.Background(), sheet.Input{
		Template: t, People: people, Chosen: []int{0}, Profiles: profiles, Views: []sheet.View{"light", "dark"},
		Day: time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC),
	}, report)
	if err != nil {
		log.Fatal(err)
	}
	for _, sitter := range made.Sitters {
		fmt.Println(sitter.Name, len(sitter.Lines), "clients")
	}
	// Output:
	// Maren Lind 2 clients
}
