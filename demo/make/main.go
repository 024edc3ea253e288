// Command make writes the demo's people and pictures into the folder demo.
package main

import (
	"bytes"
	"log"
	"os"
	"path/filepath"

	"missivum/core/person"
	"missivum/demo/drawing"
	"missivum/demo/people"
)

func main() {
	log.SetFlags(0)
	var b bytes.Buffer
	if err := person.WriteCSV(&b, people.Demo()); err != nil {
		log.Fatal(err)
	}
	write(filepath.Join("demo", "people.csv"), b.Bytes())
	drawings, err := drawing.All()
	if err != nil {
		log.Fatal(err)
	}
	for template, files := range drawings {
		for name, data := range files {
			write(filepath.Join("demo", "templates", template, "pictures", name), data)
		}
	}
}

func write(name string, data []byte) {
	if err := os.WriteFile(name, data, 0o644); err != nil {
		log.Fatal(err)
	}
	log.Printf("%s: %d bytes", name, len(data))
}
