package compact_test

import (
	"fmt"
	"log"

	"missivum/core/compact"
	"missivum/core/markup"
	"missivum/core/style"
)

// The look stays: a declaration that holds anyway goes.
func ExampleApply() {
	doc, err := markup.Parse("<p style=\"color: #ffffff; margin: 0px 0px 0px 0px\">\n  Maren   Lind\n</p>")
	if err != nil {
		log.Fatal(err)
	}
	style.Inline(doc)
	compact.Apply(doc, compact.All())
	fmt.Println(doc.Render())
	// Output:
	// <p style="color:#fff;margin:0">Maren Lind</p>
}
