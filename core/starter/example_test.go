package starter_test

import (
	"fmt"
	"log"

	"missivum/core/starter"
)

// Each starter is a template of its own.
func ExampleNames() {
	names, err := starter.Names()
	if err != nil {
		log.Fatal(err)
	}
	fmt.Println(names)
	// Output:
	// [banner bilingual columns disclaimer one-line photo right-to-left text-first variants]
}
