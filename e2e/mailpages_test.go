package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/emersion/go-smtp"

	"missivum/e2e/rig"
)

// takesAll is a server that takes every message.
type takesAll struct{ smtp.Session }

func (takesAll) Reset()                               {}
func (takesAll) Logout() error                        { return nil }
func (takesAll) Mail(string, *smtp.MailOptions) error { return nil }
func (takesAll) Rcpt(string, *smtp.RcptOptions) error { return nil }
func (takesAll) Data(r io.Reader) error {
	_, err := new(bytes.Buffer).ReadFrom(r)
	return err
}

// nextServer starts a server behind a relay.
func nextServer(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	server := smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) { return takesAll{}, nil }))
	server.Domain, server.EnableSMTPUTF8 = "next.example", true
	go server.Serve(l)
	t.Cleanup(func() { server.Close() })
	return l.Addr().String()
}

// pick chooses in a sentence; of several the list is closed afterwards.
func pick(t *testing.T, tab context.Context, label string, entries ...string) {
	t.Helper()
	do(t, tab, label, chromedp.SendKeys(chromedp.CSS(fmt.Sprintf(`[aria-label=%q]`, label)), " "))
	for _, entry := range entries {
		do(t, tab, label+": "+entry, chromedp.Click(fmt.Sprintf(`//li[@role="option" and text()=%q]`, entry)))
	}
	if len(entries) > 1 {
		do(t, tab, label+": closing", chromedp.KeyEvent(kb.Escape))
	}
	do(t, tab, label+": closed", chromedp.WaitNotPresent(chromedp.CSS(`[role="option"]`)))
}

// TestThePagesAboutMail goes the way of an administrator: a rule is made as a sentence, warned of, tried on a message and on stored
// mail, released, used by the relay in the service, and what happened to a message is found.
func TestThePagesAboutMail(t *testing.T) {
	relay := freeAddress(t)
	s := start(t, "demo", "--listen", "127.0.0.1:0", "--mail-smtp", relay, "--mail-next", nextServer(t), "--mail-name",
		"mx1.brackwater.example")
	tab := browser(t)
	root, err := rig.Root()
	if err != nil {
		t.Fatal(err)
	}

	do(t, tab, "opening the rules", chromedp.Navigate(s.Address+"/mail"),
		chromedp.WaitVisible(chromedp.CSS(`table[aria-label="Sample messages"] td`)))
	waitFor(t, tab, "nothing is in force yet", `/Gateways stamp nothing yet/.test(document.body.innerText)`)
	row := func(title string) string {
		return fmt.Sprintf(`[...document.querySelectorAll('[aria-label="Sample messages"] tr')].find(r => `+
			`r.innerText.startsWith(%q)).innerText`, title)
	}
	waitFor(t, tab, "what happens to samples", `/stamped\s+everybody-outside/.test(`+row("Reply with a quotation")+`)`)
	do(t, tab, "editing a rule", chromedp.Click(chromedp.CSS(`[aria-label="Edit rule 2"]`)))
	pick(t, tab, "Add to everybody-outside, exception 1", "Its kind")
	pick(t, tab, "everybody-outside, exception 1: Its kind", "reply", "new")
	do(t, tab, "without the words",
		chromedp.Click(chromedp.CSS(`[aria-label="Remove Words in the subject of everybody-outside, exception 1"]`)))
	waitFor(t, tab, "the samples follow", `/unchanged/.test(`+row("Reply with a quotation")+`) && /stamped/.test(`+
		row("New, to somebody outside")+`)`)
	do(t, tab, "taking the exception out", chromedp.Click(chromedp.CSS(`[aria-label="Remove Its kind of everybody-outside, exception 1"]`)),
		chromedp.Click(chromedp.CSS(`[aria-label="Close rule 2"]`)), chromedp.Click(`//button[text()="Add a rule"]`))
	do(t, tab, "moving it up", chromedp.Click(chromedp.CSS(`[aria-label="Rule 4 up"]`)),
		chromedp.Click(chromedp.CSS(`[aria-label="Rule 3 up"]`)),
		chromedp.Click(chromedp.CSS(`[aria-label="Rule 2 up"]`)), chromedp.Click(chromedp.CSS(`[aria-label="Edit rule 1"]`)),
		chromedp.WaitVisible(chromedp.CSS(`[aria-label="State of new-rule"]`)))
	pick(t, tab, "State of new-rule", "on")
	do(t, tab, "for all mail", chromedp.Click(chromedp.CSS(`[aria-label="Remove Its direction of new-rule, when"]`)))
	waitFor(t, tab, "those behind it can never apply",
		`/It can never apply: the rule new-rule before it applies to all/.test(document.body.innerText)`)
	do(t, tab, "as a file", chromedp.Click(`//button[text()="As a file"]`))
	waitFor(t, tab, "the comments are still there", `document.querySelector('textarea').value.includes('# Which messages are stamped')`)
	do(t, tab, "as sentences, without the rule", chromedp.Click(`//button[text()="As sentences"]`),
		chromedp.Click(chromedp.CSS(`[aria-label="Remove rule 1"]`)))
	waitFor(t, tab, "no warning", `!/It can never apply/.test(document.body.innerText)`)
	do(t, tab, "storing it", chromedp.SendKeys(`//label[text()="What was changed"]/following-sibling::*//input`, "one exception less"),
		chromedp.Click(`//button[text()="Save" and not(@disabled)]`))
	waitFor(t, tab, "it is stored", `!document.body.innerText.includes('Not saved')`)
	var rules struct{ Number, Note any }
	if getJSON(t, s.Address+"/api/v1/rules", &rules); fmt.Sprint(rules.Number) != "2" || rules.Note != "one exception less" {
		t.Errorf("stored: %v", rules)
	}

	message := filepath.Join(root, "demo/messages/reply.eml")
	do(t, tab, "trying a message", chromedp.Click(`//nav//a[text()="Try a message"]`),
		chromedp.WaitVisible(chromedp.CSS(`[role="group"][aria-label="Choose a message"]`)),
		chromedp.SetUploadFiles(chromedp.CSS(`input[type="file"]`), []string{message}))
	waitFor(t, tab, "the trace", `/reply.eml: stamped. By the rule everybody-outside/.test(document.body.innerText) && `+
		`/no\s+unless the header field X-Brackwater-Plain\s+no such field/.test(document.body.innerText) && `+
		`/Part 2, line 1/.test(document.body.innerText)`)
	waitFor(t, tab, "before and after",
		`[...document.querySelectorAll('iframe')].map(f => f.srcdoc.includes('Head of Timetables')).join() === 'false,true' && `+
			`[...document.querySelectorAll('iframe')].every(f => f.getAttribute('sandbox') === '')`)
	do(t, tab, "as source", chromedp.Click(`//button[text()="As source"]`), chromedp.WaitVisible(chromedp.CSS(`.cm-mergeView`)))
	do(t, tab, "what gateways use", rig.Choose("Rules", "Those that gateways use"))
	waitFor(t, tab, "nothing is out", `/reply.eml: unchanged. No release with mail rules is out/.test(document.body.innerText)`)

	mailbox := filepath.Join(t.TempDir(), "last-week.mbox")
	var stored bytes.Buffer
	for _, name := range []string{"reply.eml", "new.eml", "automatic.eml", "encrypted.eml"} {
		raw, err := os.ReadFile(filepath.Join(root, "demo/messages", name))
		if err != nil {
			t.Fatal(err)
		}
		fmt.Fprintf(&stored, "From x Mon Nov 23 09:00:00 2026\n%s\n\n", bytes.ReplaceAll(raw, []byte("\r\n"), []byte("\n")))
	}
	if err := os.WriteFile(mailbox, stored.Bytes(), 0o644); err != nil {
		t.Fatal(err)
	}
	do(t, tab, "rehearsing", chromedp.Click(`//nav//a[text()="Rehearsal"]`),
		chromedp.WaitVisible(chromedp.CSS(`[role="group"][aria-label="Choose stored mail"]`)),
		chromedp.SetUploadFiles(chromedp.CSS(`input[type="file"]`), []string{mailbox}))
	waitFor(t, tab, "the counts",
		`/4 messages: 2 stamped, 2 unchanged/.test(document.body.innerText) && /1\s+automatic/.test(document.body.innerText)`)

	for _, args := range [][]string{{"make", "Winter", "--as", "Maren"}, {"approve", "1", "--as", "Bo", "--says", "seen"}, {"send", "1"}} {
		if code, out, errs := command(t, append(append([]string{"release"}, args...), "--server="+s.Address)...); code != 0 {
			t.Fatalf("release %q: %s%s", args, out, errs)
		}
	}
	do(t, tab, "what is in force", chromedp.Navigate(s.Address+"/mail/rules"))
	waitFor(t, tab, "the release's rules", `/Gateways use version 2, by release 1, the latest/.test(document.body.innerText)`)
	do(t, tab, "the release", chromedp.Click(`//a[text()="release 1"]`))
	waitFor(t, tab, "it says so", `/It holds version 2 of the mail rules/.test(document.body.innerText)`)
	raw, err := os.ReadFile(message)
	if err != nil {
		t.Fatal(err)
	}
	for stamped, end := false, time.Now().Add(30*time.Second); !stamped; time.Sleep(500 * time.Millisecond) {
		if err := send(relay, "maren.lind@brackwater.example", []string{"runa.holt@quay.example"}, raw); err != nil || time.Now().After(end) {
			t.Fatalf("the relay does not stamp: %v", err)
		}
		_, out, _ := command(t, "message", "find", "maren.lind", "--outcome", "stamped", "--server="+s.Address)
		stamped = strings.Contains(out, "everybody-outside")
	}
	do(t, tab, "what happened", chromedp.Navigate(s.Address+"/mail/messages"),
		chromedp.SendKeys(`//label[contains(text(), "Message-ID")]/following-sibling::*//input`, "reply@"), rig.Choose("Outcome", "stamped"))
	waitFor(t, tab, "the message is found",
		`/stamped\s+By the rule everybody-outside/.test(document.querySelector('[aria-label="Messages"]')?.innerText ?? '')`)
	do(t, tab, "its details", chromedp.Click(`(//button[text()="Details"])[1]`))
	waitFor(t, tab, "rule by rule",
		`/leave-orders \(on\) does not apply: it asks for the recipient orders@depot.example/.test(document.body.innerText) && `+
			`/mx1.brackwater.example 127.0.0.1:\d+, SMTP relay/.test(document.body.innerText)`)
	do(t, tab, "pausing", chromedp.Click(`//nav//a[text()="Rules"]`), chromedp.Click(`//button[text()="Pause"]`),
		chromedp.SendKeys(`//label[text()="Why"]/following-sibling::*//input`, "pictures do not load"),
		chromedp.Click(`//button[text()="Pause all gateways"]`))
	waitFor(t, tab, "it is paused", `/Mail rules are paused by .* pictures do not load/.test(document.body.innerText)`)
	do(t, tab, "going on", chromedp.Click(`//button[text()="Let them work again"]`))
	waitFor(t, tab, "they work", `/Gateways use version 2/.test(document.body.innerText)`)
	_, out, _ := command(t, "message", "find", "reply@", "--outcome", "stamped", "--limit", "1", "--json", "--server="+s.Address)
	var found struct{ Messages []struct{ ID int } }
	if err := json.Unmarshal([]byte(out), &found); err != nil || len(found.Messages) != 1 {
		t.Fatalf("%v: %s", err, out)
	}
	if _, out, _ = command(t, "message", "show", fmt.Sprint(found.Messages[0].ID), "--server="+s.Address); !strings.Contains(out,
		"Rule leave-orders (on) does not apply: it asks for the recipient orders@depot.example.") {
		t.Errorf("the record: %s", out)
	}
	for _, args := range [][]string{{"7"}, {}} {
		if _, out, _ = command(t, append([]string{"message", "keep", "--server=" + s.Address},
			args...)...); !strings.Contains(out, "kept for 7 days") {
			t.Errorf("keeping: %s", out)
		}
	}
	if code, out, errs := command(t, "rule", "try", message, "--in-force", "--server="+s.Address); code != 0 ||
		!strings.Contains(out, "stamped. By the rule everybody-outside") {
		t.Errorf("what is in force: %s%s", out, errs)
	}
}
