package markup_test

import (
	"fmt"
	"log"

	"missivum/core/markup"
)

// Every element knows its place, and what was not changed comes out as it went in.
func ExampleParse() {
	doc, err := markup.Parse("<P Align=left>\n<b>Maren</b> Lind")
	if err != nil {
		log.Fatal(err)
	}
	for _, n := range doc.Elements() {
		place := doc.Place(n.Open.Start)
		fmt.Println(n.Name, place.Line, place.Column)
	}
	fmt.Printf("%q\n", doc.Render())
	// Output:
	// p 1 1
	// b 2 1
	// "<P Align=left>\n<b>Maren</b> Lind"
}
