package main

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-message/mail"
	"github.com/emersion/go-smtp"
	"golang.org/x/net/html"

	"missivum/core/client"
	"missivum/e2e/rig"
)

const mailClient = "/usr/bin/thunderbird"

// withSignature are the settings beside those of every test: a signature from a file, and a message that is sent as a page.
const withSignature = `
user_pref("mail.identity.id1.attach_signature", true);
user_pref("mail.identity.id1.sig_file", "SIGNATURE");
user_pref("mail.identity.id1.compose_html", true);
user_pref("mail.warn_on_send_accel_key", false);
user_pref("mail.default_send_format", 2);
`

// Beginning and end of a probe's own element, in which it stands among the others.
const (
	probeStart = `<div title="probe %d">`
	probeEnd   = `</div>`
)

// together puts the probes into one signature, each in an element of its own, so that what becomes of each can be told
// apart. Probes that run into what follows them are left out: unclosed ones, and a link to data, after which the
// webmail's editor looks for the end of a picture's data.
func together(probes []Probe) (signature string, among []int) {
	var b strings.Builder
	for i, p := range probes {
		alone := fmt.Sprintf(probeStart, i) + p.HTML + probeEnd
		if strings.Contains(p.HTML, `href="data:`) {
			continue
		}
		if found := apart(alone + "<p>next</p>"); len(found) == 1 &&
			strings.Join(canonical(found[i]), "") == strings.Join(canonical(p.HTML), "") &&
			strings.HasSuffix(strings.Join(canonical(alone+"<p>next</p>"), ""), "</div><p>next</p>") {
			b.WriteString(alone + "\n")
			among = append(among, i)
		}
	}
	return b.String(), among
}

// apart finds the probes again, by number: the markup in each one's element.
func apart(page string) map[int]string {
	doc, err := html.Parse(strings.NewReader(page))
	if err != nil {
		return nil
	}
	found := map[int]string{}
	for n := range doc.Descendants() {
		for _, a := range n.Attr {
			var i int
			if _, err := fmt.Sscanf(a.Val, "probe %d", &i); a.Key != "title" || err != nil {
				continue
			}
			var b bytes.Buffer
			for c := n.FirstChild; c != nil; c = c.NextSibling {
				if err := html.Render(&b, c); err != nil {
					return nil
				}
			}
			found[i] = b.String()
		}
	}
	return found
}

// composed is a message with the probes as signature, as Debian's mail client saves it as a draft and sends it.
type composed struct{ draft, sent []byte }

// composeMessage starts the client with a signature, has it save the new message and send it, by key presses.
func composeMessage(signature string) (c composed, err error) {
	home, err := os.MkdirTemp("", "client")
	if err != nil {
		return c, err
	}
	defer os.RemoveAll(home)
	received := make(chan []byte, 1)
	server, address, err := sink(received)
	if err != nil {
		return c, err
	}
	defer server.Close()
	_, port, _ := strings.Cut(address, ":")
	profile := filepath.Join(home, "profile")
	file := filepath.Join(profile, "signature.html")
	settings := strings.NewReplacer("PORT", port, "SIGNATURE", file).Replace(rig.MailClientSettings + withSignature)
	if err := os.Mkdir(profile, 0o700); err != nil {
		return c, err
	}
	for path, text := range map[string]string{file: signature, filepath.Join(profile, "prefs.js"): settings} {
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			return c, err
		}
	}
	screen, err := rig.NewScreen(home, 1280, 800)
	if err != nil {
		return c, err
	}
	defer screen.Close()
	process := screen.Command(mailClient, "--profile", profile, "-compose", "to='bo@brackwater.example',subject='Probes'")
	if err := process.Start(); err != nil {
		return c, err
	}
	defer func() {
		process.Process.Kill() // fails when it has ended already
		process.Wait()         // it was killed
	}()
	window, err := screen.Window("Write:")
	if err != nil {
		return c, err
	}
	time.Sleep(4 * time.Second) // until the editor is ready
	if err := screen.Press(window, "ctrl+s"); err != nil {
		return c, err
	}
	if c.draft, err = saved(filepath.Join(profile, "Mail", "Local Folders", "Drafts")); err != nil {
		return c, err
	}
	if err := screen.Press(window, "ctrl+Return"); err != nil {
		return c, err
	}
	select {
	case c.sent = <-received:
		return c, nil
	case <-time.After(60 * time.Second):
		return c, errors.New("the client did not send the message")
	}
}

// saved waits for the one message of a mailbox in mbox format.
func saved(mailbox string) ([]byte, error) {
	for until := time.Now().Add(60 * time.Second); time.Now().Before(until); time.Sleep(300 * time.Millisecond) {
		data, err := os.ReadFile(mailbox)
		if err != nil {
			continue
		}
		_, message, _ := bytes.Cut(data, []byte("\n")) // the line of the mbox format
		if page, err := pageOf(message); err == nil && strings.Contains(page, "</html>") {
			return message, nil
		}
	}
	return nil, errors.New("no draft was saved")
}

// pageOf is the HTML part of a message.
func pageOf(message []byte) (string, error) {
	m, err := mail.CreateReader(bytes.NewReader(message))
	if err != nil {
		return "", err
	}
	for {
		part, err := m.NextPart()
		if err != nil {
			return "", err
		}
		if media, _, _ := strings.Cut(part.Header.Get("Content-Type"), ";"); media != "text/html" {
			continue
		}
		data, err := io.ReadAll(part.Body)
		return string(data), err
	}
}

// sink is an SMTP server that hands on what it receives.
func sink(received chan<- []byte) (*smtp.Server, string, error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, "", err
	}
	server := smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) { return receiver{received}, nil }))
	server.ErrorLog = log.New(io.Discard, "", 0) // that a killed client hung up
	go server.Serve(listener)                    // until it is closed
	return server, listener.Addr().String(), nil
}

type receiver struct{ received chan<- []byte }

func (receiver) Mail(string, *smtp.MailOptions) error { return nil }
func (receiver) Rcpt(string, *smtp.RcptOptions) error { return nil }
func (receiver) Reset()                               {}
func (receiver) Logout() error                        { return nil }
func (r receiver) Data(body io.Reader) error {
	data, err := io.ReadAll(body)
	r.received <- data
	return err
}

// partNames are the identifiers that the client gives to the parts which it makes of data addresses, others each time.
var partNames = regexp.MustCompile(`cid:part[\w.]+@`)

// composedOnce is what the client makes of the probes: one message serves both stages.
var composedOnce = sync.OnceValues(func() (composed, error) {
	probes, err := readProbes()
	if err != nil {
		return composed{}, err
	}
	signature, _ := together(probes)
	return composeMessage(signature)
})

// composing compares what the client saves and sends with what the profile gecko-desktop says of the installed signature
// and of sending.
func composing(probes []Probe, stage client.Stage) (Result, error) {
	r := Result{Profile: "gecko-desktop", Against: "Debian's mail client", Version: version("thunderbird"), Stage: stage,
		Real: map[string]int{}, Disagreements: []Disagreement{}}
	c, err := composedOnce()
	if err != nil {
		return r, err
	}
	message := c.draft
	if stage == client.Send {
		message = c.sent
	}
	page, err := pageOf(message)
	if err != nil {
		return r, err
	}
	found := apart(partNames.ReplaceAllString(page, "cid:part@"))
	return r, r.compareEach(probes, found, stage)
}

// compareEach compares what was found of the probes, by number, with what the result's profile makes of them.
func (r *Result) compareEach(probes []Probe, found map[int]string, stage client.Stage) error {
	profile := client.Find(r.Profile)
	_, among := together(probes)
	for _, i := range among {
		if probes[i].HTML == "" {
			continue // an earlier stage took it away
		}
		ours, err := simulate(profile, stage, probes[i].HTML)
		if err != nil {
			return err
		}
		r.Probes++
		r.compare(probes[i], probes[i].HTML, found[i], ours)
	}
	return nil
}
