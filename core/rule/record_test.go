package rule

import (
	"encoding/json"
	"strings"
	"testing"
)

// TestRecordsHoldNoContent: whatever rules ask of a message, its record says nothing of what stands in it.
func TestRecordsHoldNoContent(t *testing.T) {
	m := mail("Content-Type: text/plain\r\nX-Case: kraken-seven\r\n", "The password is walrus-nine.\r\n")
	for _, rules := range []string{
		`rules: [{name: one, when: {subject: [invoice]}}]`,
		`rules: [{name: one, when: {text: [invoice]}}]`,
		`rules: [{name: one, when: {header: {name: X-Case, contains: invoice}}}]`,
		`rules: [{name: one, except: [{header: {name: X-Case}}]}]`,
		`rules: [{name: one, when: {text: [walrus]}}]`,
		`rules: [{name: one, when: {subject: [a]}}, {name: two, when: {header: {name: X-Case}}, state: trial}]`,
	} {
		v := engine(t, rules).Judge(m, false)
		record, err := json.Marshal(RecordOf(&v.Trace))
		if err != nil {
			t.Fatal(err)
		}
		for _, content := range []string{"kraken-seven", "walrus-nine", "password", m.Message.Root.Header.Text("Subject")} {
			if content != "" && strings.Contains(string(record), content) {
				t.Errorf("%s: the record holds %q: %s", rules, content, record)
			}
		}
	}
}

// FuzzRewrite writes rules anew as they are: they say the same.
func FuzzRewrite(f *testing.F) {
	f.Add("# ours\nrules:\n  # one\n  - name: one # first\n    when: {direction: outgoing}\n")
	f.Add("inside: [a.example]\nrecipients: each\nrules: []\n")
	f.Add(`{"rules": [{"name": "one", "then": {"separator": false, "text": "raise"}}]}`)
	f.Fuzz(func(t *testing.T, document string) {
		before, err := Parse([]byte(document))
		if err != nil || len(before.Audiences)+len(before.Assignments) > 0 {
			return
		}
		written, err := Rewrite(document, before)
		if err != nil {
			t.Fatalf("%v\n%s", err, document)
		}
		after, err := Parse([]byte(written))
		if err != nil {
			t.Fatalf("%v\n%s", err, written)
		}
		x, _ := json.Marshal(before.Rules)
		y, _ := json.Marshal(after.Rules)
		if string(x) != string(y) {
			t.Errorf("%s\nbecomes\n%s", x, y)
		}
	})
}
