package shrink_test

import (
	"context"
	"fmt"
	"log"
	"strings"

	"missivum/core/check"
	"missivum/core/client"
	"missivum/core/shrink"
	"missivum/core/source"
	"missivum/core/template"
)

// The steps keep the look; the source stays as it is.
func ExampleRun() {
	people, _, err := source.ReadCSV(strings.NewReader("mail,cn,title\nmaren.lind@brackwater.example,Maren Lind,Harbour master\n"),
		source.Mapping{})
	if err != nil {
		log.Fatal(err)
	}
	t, err := template.New("quay", template.Parts{Source: `<p style="color: #336699; margin: 0px 0px 0px 0px">{{ cn }}</p>`})
	if err != nil {
		log.Fatal(err)
	}
	result, err := shrink.Run(context.Background(), check.Input{Template: t, People: people, Profiles: client.Shipped()}, "source-webmail", 60)
	if err != nil {
		log.Fatal(err)
	}
	fmt.Println(result.Before, "characters, with the steps", result.After, "of", result.Target)
	// Output:
	// 65 characters, with the steps 45 of 60
}
