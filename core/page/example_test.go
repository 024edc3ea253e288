package page_test

import (
	"fmt"
	"log"

	"missivum/core/page"
)

// The character set is recognised; what counts is text in UTF-8.
func ExampleRead() {
	imported, err := page.Read([]byte("<html><head><meta charset=iso-8859-1></head><body><p>S\xf8ren</p></body></html>"), nil)
	if err != nil {
		log.Fatal(err)
	}
	fmt.Println(imported.Charset.Charset)
	fmt.Println(imported.Parts.Source)
	// Output:
	// windows-1252
	// <html><head><meta charset="utf-8"></head><body><p>Søren</p></body></html>
}
