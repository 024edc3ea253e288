package main

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/chromedp/chromedp"

	"missivum/core/client"
	"missivum/e2e/rig"
)

// Webmail is the webmail with what is measured of it.
type Webmail struct{ *rig.Webmail }

// install writes the signature into the source box of the identity's editor and saves it.
func (w *Webmail) install(tab context.Context, signature string) (stored string, err error) {
	err = chromedp.Do(tab, w.Open("_task=settings&_action=edit-identity&_iid=1"),
		chromedp.WaitVisible(chromedp.CSS("#rcmfd_signature")),
		chromedp.Evaluate[chromedp.Void]("void document.getElementById('rcmfd_html_signature').click()"),
		chromedp.WaitVisible(chromedp.CSS("button[title='Source code']")), chromedp.Click(chromedp.CSS("button[title='Source code']")),
		chromedp.WaitVisible(chromedp.CSS(".tox-dialog textarea")),
		chromedp.SetValue(chromedp.CSS(".tox-dialog textarea"), signature),
		chromedp.Click(chromedp.CSS(".tox-dialog__footer button[title=Save]")), chromedp.WaitNotPresent(chromedp.CSS(".tox-dialog")),
		chromedp.Click(chromedp.CSS("button.submit")))
	if err != nil {
		return "", err
	}
	for until := time.Now().Add(20 * time.Second); stored == "" && time.Now().Before(until); time.Sleep(200 * time.Millisecond) {
		stored, err = w.stored(tab) // an error when the page is just going on to another
	}
	if stored == "" {
		return "", errors.Join(errors.New("the webmail did not store the signature"), err)
	}
	return stored, nil
}

// stored reads the signature from a new answer of the identity's page, before any script of the page touches it.
func (w *Webmail) stored(tab context.Context) (signature string, err error) {
	return chromedp.Run(tab, chromedp.Evaluate[string](`fetch('?_task=settings&_action=edit-identity&_iid=1&_framed=1').then(
		r => r.text()).then(page => new DOMParser().parseFromString(page, 'text/html').getElementById('rcmfd_signature')?.value ?? '')`,
		chromedp.EvalAwaitPromise))
}

// send writes a message to oneself and sends it.
func (w *Webmail) send(tab context.Context) (page string, err error) {
	err = chromedp.Do(tab, w.Open("_task=mail&_action=compose&_to="+rig.WebmailUser),
		chromedp.WaitVisible(chromedp.CSS(".tox-edit-area iframe")), chromedp.SendKeys(chromedp.CSS("#compose-subject"), "Probes"),
		chromedp.Sleep(time.Second), // until the editor has put the signature in
		chromedp.Click(chromedp.CSS("#compose-content .formbuttons .send")))
	if err != nil {
		return "", err
	}
	for until := time.Now().Add(20 * time.Second); time.Now().Before(until); time.Sleep(200 * time.Millisecond) {
		messages, err := w.Server.Mailbox(rig.WebmailUser, "MIME-Version")
		if err != nil {
			return "", err
		}
		if len(messages) > 0 { // the page asks whether to leave it until it has heard that, too
			if err := chromedp.Do(tab, chromedp.WaitNotPresent(chromedp.CSS("#compose-content"))); err != nil {
				return "", fmt.Errorf("the page does not hear that the message is sent: %w", err)
			}
			return pageOf(messages[0])
		}
	}
	return "", fmt.Errorf("the message did not arrive\n%s", w.Server.Log())
}

// read opens the message that arrived.
func (w *Webmail) read(tab context.Context) (string, error) {
	err := chromedp.Do(tab, w.Open("_task=mail&_action=show&_mbox=INBOX&_uid=1"), chromedp.WaitVisible(chromedp.CSS("#messagebody")))
	if err != nil {
		return "", err
	}
	return chromedp.Run(tab, chromedp.Evaluate[string](`document.getElementById('messagebody').innerHTML`))
}

// inWebmail is a signature as the webmail stores, sends and shows it.
type inWebmail struct{ stored, sent, shown string }

// throughWebmail installs a signature, sends a message with it and reads that.
func throughWebmail(signature string) (seen inWebmail, err error) {
	started, err := rig.StartWebmail()
	if err != nil {
		return seen, err
	}
	w := &Webmail{started}
	defer func() { err = errors.Join(err, w.Close()) }()
	tab, stop := rig.Browser(context.Background(), 1280, 900)
	defer stop()
	within, cancel := context.WithTimeout(tab, 4*time.Minute)
	defer cancel()
	if err := w.SignIn(within); err != nil {
		return seen, fmt.Errorf("signing in: %w", err)
	}
	if seen.stored, err = w.install(within, signature); err != nil {
		return seen, fmt.Errorf("installing: %w", w.seen(tab, err))
	}
	if seen.sent, err = w.send(within); err != nil {
		return seen, fmt.Errorf("sending: %w", w.seen(tab, err))
	}
	if seen.shown, err = w.read(within); err != nil {
		return seen, fmt.Errorf("reading: %w", w.seen(tab, err))
	}
	return seen, nil
}

// seen adds to an error what the page says.
func (w *Webmail) seen(tab context.Context, err error) error {
	text, again := chromedp.Run(tab, chromedp.Evaluate[string](`document.body.innerText.slice(0, 2000)`))
	if again != nil {
		text = again.Error()
	}
	return fmt.Errorf("%w\n%s", err, strings.TrimSpace(text))
}

var throughWebmailOnce = sync.OnceValues(func() (inWebmail, error) {
	probes, err := readProbes()
	if err != nil {
		return inWebmail{}, err
	}
	signature, _ := together(probes)
	return throughWebmail(signature)
})

// sessionOf is what an address of the webmail says of who is signed in.
var sessionOf = regexp.MustCompile(`&amp;_token=\w+`)

// webmailing compares what the whole webmail does in one stage, with what came out of the stage before, with what the
// profile washing-webmail says of it.
func webmailing(probes []Probe, stage client.Stage) (Result, error) {
	r := Result{Profile: "washing-webmail", Against: "roundcube-core, whole", Version: version("roundcube-core"), Stage: stage,
		Real: map[string]int{}, Disagreements: []Disagreement{}}
	seen, err := throughWebmailOnce()
	if err != nil {
		return r, err
	}
	if stage == client.Install {
		return r, r.compareEach(probes, apart(seen.stored), stage)
	}
	before, after := apart(seen.stored), apart(seen.sent)
	if stage == client.Receive {
		before, after = after, apart(sessionOf.ReplaceAllString(seen.shown, ""))
	}
	came := slices.Clone(probes)
	for i := range came {
		came[i].HTML = before[i]
	}
	return r, r.compareEach(came, after, stage)
}
