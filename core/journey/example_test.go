package journey_test

import (
	"fmt"
	"log"

	"missivum/core/client"
	"missivum/core/journey"
	"missivum/core/markup"
	"missivum/core/style"
)

// The document as the client shows it, and the events on the way.
func ExampleSimulate() {
	doc, err := markup.Parse(`<p onclick="go()" style="border-radius: 4px">Maren Lind</p>`)
	if err != nil {
		log.Fatal(err)
	}
	style.Inline(doc)
	profile := client.Book(client.Shipped()).Find("wordproc-desktop")
	seen, events := journey.Simulate(profile, doc, client.Render)
	fmt.Println(seen.Render())
	for _, e := range events {
		fmt.Println(e)
	}
	// Output:
	// <p>Maren Lind</p>
	// receive: onclick is dropped: nothing runs
	// render: border-radius: 4px is ignored: corners are rendered square
}
