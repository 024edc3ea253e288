package rule

import (
	"os"
	"testing"
)

// FuzzParse reads any file of rules; those that are taken can be said as sentences and asked about a message.
func FuzzParse(f *testing.F) {
	demo, err := os.ReadFile("../../demo/rules.yaml")
	if err != nil {
		f.Fatal(err)
	}
	f.Add(demo)
	f.Add([]byte("rules: [{name: one, when: {kind: [new], header: {name: X}}, then: {already: replace}}]"))
	e := engine(f, "")
	m := mail("Subject: x\r\n", "x")
	f.Fuzz(func(t *testing.T, data []byte) {
		file, err := Parse(data)
		if err != nil {
			return
		}
		file.Warnings()
		for i := range file.Rules {
			if file.Rules[i].Sentence() == "" {
				t.Error("a rule without a sentence")
			}
			e.ask(&file.Rules[i], e.factsOf(Mail{Message: m.Message, Sender: m.Sender}))
		}
	})
}
