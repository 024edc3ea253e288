package fix_test

import (
	"context"
	"fmt"
	"log"
	"strings"

	"missivum/core/check"
	"missivum/core/client"
	"missivum/core/fix"
	"missivum/core/source"
	"missivum/core/template"
)

// Safe fixes are made and checked; what stays is reported.
func ExampleRun() {
	people, _, err := source.ReadCSV(strings.NewReader("mail,cn,title\nmaren.lind@brackwater.example,Maren Lind,Harbour master\n"),
		source.Mapping{})
	if err != nil {
		log.Fatal(err)
	}
	t, err := template.New("quay", template.Parts{Source: `<table><tr><td>{{ cn }}</td></tr></table>`})
	if err != nil {
		log.Fatal(err)
	}
	result, err := fix.Run(context.Background(), check.Input{Template: t, People: people, Profiles: client.Shipped()}, fix.Options{At: -1})
	if err != nil {
		log.Fatal(err)
	}
	fmt.Println(result.Source)
	for _, d := range result.Done {
		fmt.Println(d.Check)
	}
	// Output:
	// <table role="presentation" cellspacing="2" cellpadding="1"><tr><td>{{ cn }}</td></tr></table>
	// layout-table-role
	// table-gaps
}
