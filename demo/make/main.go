// Command make writes the demo's people and pictures into the folder demo.
package main

import (
	"bytes"
	"log"
	"os"
	"path/filepath"

	"missivum/core/source"
	"missivum/demo/drawing"
	"missivum/demo/people"
)

func main() {
	log.SetFlags(0)
	var b bytes.Buffer
	if err := source.WriteCSV(&b, people.Demo()); err != nil {
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
	originals, err := drawing.Originals()
	if err != nil {
		log.Fatal(err)
	}
	for name, data := range originals {
		write(filepath.Join("demo", "pictures", name), data)
	}
	starters, err := drawing.Starters()
	if err != nil {
		log.Fatal(err)
	}
	for template, files := range map[string][]string{"columns": {"logo.png"}, "banner": {"logo.png", "banner.png"},
		"bilingual": {"logo.png"}, "right-to-left": {"logo.png"}, "variants": {"logo.png"}} {
		for _, name := range files {
			write(filepath.Join("core", "starter", "starters", template, "pictures", name), starters[name])
		}
	}
}

func write(name string, data []byte) {
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		log.Fatal(err)
	}
	if err := os.WriteFile(name, data, 0o644); err != nil {
		log.Fatal(err)
	}
	log.Printf("%s: %d bytes", name, len(data))
}
