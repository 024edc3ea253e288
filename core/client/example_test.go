package client_test

import (
	"fmt"

	"missivum/core/client"
)

// A profile is found by its id; a limit is in the unit of its measure.
func ExampleBook() {
	profile := client.Book(client.Shipped()).Find("capped-webmail")
	for _, l := range profile.Limits {
		fmt.Println(l.Max, l.Measure, l.Basis)
	}
	// Output:
	// 10000 characters published
	// 104448 bytes published
}
