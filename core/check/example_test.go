package check_test

import (
	"context"
	"fmt"
	"log"
	"strings"

	"missivum/core/check"
	"missivum/core/client"
	"missivum/core/source"
	"missivum/core/template"
)

// One sentence says how a template fares; each finding says where and what to do.
func ExampleRun() {
	people, _, err := source.ReadCSV(strings.NewReader("mail,cn,title\nmaren.lind@brackwater.example,Maren Lind,Harbour master\n"),
		source.Mapping{})
	if err != nil {
		log.Fatal(err)
	}
	t, err := template.New("quay", template.Parts{Source: `<p style="margin: 0">{{ cn }}, <a href="#">call me</a></p>`})
	if err != nil {
		log.Fatal(err)
	}
	report, err := check.Run(context.Background(), check.Input{Template: t, People: people, Profiles: client.Shipped()})
	if err != nil {
		log.Fatal(err)
	}
	fmt.Println(report.Verdict)
	for _, f := range report.Findings {
		if f.Severity == client.Breaks {
			fmt.Printf("line %d, %s: %s\n", f.Line, f.Check, f.Message)
		}
	}
	// Output:
	// Safe in 2 of 13 clients; append-rule, capped-webmail, crm-box and 8 more need a decision.
	// line 1, link-target: The link address "#" is a placeholder.
}
