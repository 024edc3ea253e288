package delivery_test

import (
	"fmt"
	"log"

	"missivum/core/client"
	"missivum/core/delivery"
	"missivum/core/template"
)

// What each way costs follows from the volume that the administrator gives.
func ExampleWeigh() {
	gif := []byte("GIF89a\x01\x00\x01\x00\x80\x00\x00\xff\xff\xff\x00\x00\x00,\x00\x00\x00\x00\x01\x00\x01\x00\x00\x02\x02D\x01\x00;")
	t, err := template.New("quay", template.Parts{Pictures: map[string][]byte{"logo.gif": gif},
		Settings: "pictures:\n  address: https://pictures.brackwater.example/\n  files:\n    logo: {file: logo.gif, alt: Brackwater Ferries}\n",
		Source:   `<p><img data-picture="logo"></p>`})
	if err != nil {
		log.Fatal(err)
	}
	list, err := delivery.Weigh(delivery.Input{Template: t, Profiles: client.Shipped(), Volume: 1000})
	if err != nil {
		log.Fatal(err)
	}
	for _, c := range list {
		if c.Form == "message" {
			fmt.Println(c.Way, c.Message, "bytes a message,", c.Day, "bytes a day")
		}
	}
	// Output:
	// carried 50 bytes a message, 50000 bytes a day
	// hosted 0 bytes a message, 0 bytes a day
	// data 70 bytes a message, 70000 bytes a day
}
