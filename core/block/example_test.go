package block_test

import (
	"fmt"
	"log"
	"strings"
	"time"

	"missivum/core/block"
	"missivum/core/source"
	"missivum/core/template"
)

// The host fills the block; what its placeholders cannot do is listed.
func ExampleExportTemplate() {
	people, _, err := source.ReadCSV(strings.NewReader("mail,cn,title\nmaren.lind@brackwater.example,Maren Lind,Harbour master\n"),
		source.Mapping{})
	if err != nil {
		log.Fatal(err)
	}
	t, err := template.New("quay", template.Parts{Source: `<p>{{ cn | upper }}</p>`})
	if err != nil {
		log.Fatal(err)
	}
	made, err := block.ExportTemplate(t, people.Schema, "new", time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC), block.Dialects()[0], people)
	if err != nil {
		log.Fatal(err)
	}
	fmt.Println(made.Block)
	for _, l := range made.Losses {
		fmt.Println(l.Message)
	}
	// Output:
	// <p>{cn}</p>
	// The modifier upper of cn is lost; the directory's own spelling is shown.
}
