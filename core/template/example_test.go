package template_test

import (
	"fmt"
	"log"

	"missivum/core/template"
)

// The settings name what the source cannot say.
func ExampleNew() {
	t, err := template.New("quay", template.Parts{Source: "<p>{{ cn }}</p>", Settings: "title: Quay\nvariants: [new, reply]\n"})
	if err != nil {
		log.Fatal(err)
	}
	fmt.Println(t.Title(), t.Variants())
	// Output:
	// Quay [new reply]
}
