package source_test

import (
	"fmt"
	"log"
	"strings"

	"missivum/core/source"
)

// Rows that cannot be used are left out, each with the reason.
func ExampleReadCSV() {
	people, bad, err := source.ReadCSV(strings.NewReader("E-Mail,Name\nmaren.lind@brackwater.example,Maren Lind\nnobody,Bo\n"),
		source.Mapping{Columns: map[string]string{"E-Mail": "mail", "Name": "cn"}})
	if err != nil {
		log.Fatal(err)
	}
	maren := people.Find("MAREN.LIND@brackwater.example")
	fmt.Println(people.Get(maren, "cn"))
	for _, row := range bad {
		fmt.Println(row)
	}
	// Output:
	// Maren Lind
	// row 3: "nobody" is not a mail address
}
