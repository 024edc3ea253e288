package clean_test

import (
	"fmt"
	"log"

	"missivum/core/clean"
)

// What was removed is listed with its count.
func ExampleClean() {
	result, err := clean.Clean(`<p class="MsoNormal"><span><o:p></o:p>Maren Lind</span></p>`, clean.Options{})
	if err != nil {
		log.Fatal(err)
	}
	fmt.Print(result.Source)
	for _, c := range result.Changes {
		fmt.Println(c.What, c.Count)
	}
	// Output:
	// <p>Maren Lind</p>
	// namespaced tags 1
	// classes without a rule 1
	// elements around nothing special 1
}
