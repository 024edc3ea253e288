package style_test

import (
	"fmt"
	"log"

	"missivum/core/markup"
	"missivum/core/style"
)

// What only a sheet can carry stays in a sheet.
func ExampleInline() {
	doc, err := markup.Parse("<style>.name { color: #0b3c49 } @media print { .name { color: black } }</style><b class=name>Maren</b>")
	if err != nil {
		log.Fatal(err)
	}
	report := style.Inline(doc)
	fmt.Println(report.Inlined, "rule inlined,", len(report.Left), "left in a sheet")
	fmt.Println(doc.Render())
	// Output:
	// 1 rule inlined, 1 left in a sheet
	// <style>
	// @media print { .name { color: black } }</style><b class=name style="color: #0b3c49">Maren</b>
}
