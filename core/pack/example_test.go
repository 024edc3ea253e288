package pack_test

import (
	"archive/zip"
	"bytes"
	"context"
	"fmt"
	"log"
	"os"
	"strings"
	"time"

	"missivum/core/compose"
	"missivum/core/pack"
	"missivum/core/source"
	"missivum/core/template"
)

// A folder for each person, and a manifest with the checksum of every file.
func ExampleWrite() {
	people, _, err := source.ReadCSV(strings.NewReader("mail,cn,title\nmaren.lind@brackwater.example,Maren Lind,Harbour master\n"),
		source.Mapping{})
	if err != nil {
		log.Fatal(err)
	}
	t, err := template.New("quay", template.Parts{Source: `<p>{{ cn }}</p>`})
	if err != nil {
		log.Fatal(err)
	}
	var b bytes.Buffer
	result, err := pack.Write(context.Background(), &b, pack.Input{
		Template: t, Schema: people.Schema, People: pack.Everybody(people), Forms: []compose.Form{compose.HTML, compose.Text},
		Day:   time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC),
		Spool: func() (pack.Spool, error) { return os.CreateTemp("", "pack-") },
	})
	if err != nil {
		log.Fatal(err)
	}
	fmt.Println(result.People, "person,", result.Files, "files")
	archive, err := zip.NewReader(bytes.NewReader(b.Bytes()), int64(b.Len()))
	if err != nil {
		log.Fatal(err)
	}
	for _, f := range archive.File {
		fmt.Println(f.Name)
	}
	// Output:
	// 1 person, 4 files
	// maren.lind@brackwater.example/quay-new.html
	// maren.lind@brackwater.example/quay-new.txt
	// maren.lind@brackwater.example/quay-reply.html
	// maren.lind@brackwater.example/quay-reply.txt
	// manifest.json
}
