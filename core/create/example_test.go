package create_test

import (
	"fmt"
	"log"

	"missivum/core/create"
)

// A page that somebody has becomes the parts of a template.
func ExampleFrom() {
	made, err := create.From(create.Input{Page: []byte("<html><body><p>Brackwater Ferries</p></body></html>")})
	if err != nil {
		log.Fatal(err)
	}
	fmt.Println(made.Charset.Charset)
	fmt.Println(made.Parts.Source)
	// Output:
	// utf-8
	// <html><body><p>Brackwater Ferries</p></body></html>
}
