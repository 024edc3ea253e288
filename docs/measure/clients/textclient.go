package main

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-message/mail"

	"missivum/core/client"
	"missivum/core/compose"
)

const textClient = "/usr/bin/neomutt"

// The size in signs of the terminal that messages are read in: wide as usual, and high enough for all lines at once.
const (
	textWidth  = 80
	textHeight = 8000
)

// lastLine ends what is shown, so that it is known when all of it is.
const lastLine = "END OF PROBES"

// Terminal is a terminal with a text program in it.
type Terminal struct{ folder, socket string }

func (t Terminal) tmux(args ...string) (string, error) {
	c := exec.Command("tmux", append([]string{"-S", filepath.Join(t.folder, t.socket), "-f", "/dev/null"}, args...)...)
	c.Env = append(os.Environ(), "LANG=C.UTF-8", "TERM=xterm", "HOME="+t.folder)
	out, err := c.CombinedOutput()
	if err != nil {
		err = fmt.Errorf("%w: %s", err, out)
	}
	return string(out), err
}

// start runs the client in the terminal, with more settings in the form of its commands.
func (t Terminal) start(args string) error {
	_, err := t.tmux("new-session", "-d", "-x", fmt.Sprint(textWidth), "-y", fmt.Sprint(textHeight),
		textClient+" -F "+filepath.Join(t.folder, "settings")+" "+args)
	return err
}

// until asks again, pressing a key each time, until there is an answer.
func (t Terminal) until(what, key string, answer func() (bool, error)) error {
	for until := time.Now().Add(40 * time.Second); time.Now().Before(until); time.Sleep(300 * time.Millisecond) {
		if done, err := answer(); done || err != nil {
			return err
		}
		if key != "" {
			t.tmux("send-keys", key) // fails when the client has ended
		}
	}
	return errors.New("the text client did not " + what)
}

// composedText is what the text client makes of a signature: what it puts into a new message, what it sends, and what it
// shows of a message that holds the lines.
type composedText struct{ draft, sent, shown string }

// inTextClient installs a signature in Debian's text client, sends a message and reads it.
func inTextClient(signature string) (c composedText, err error) {
	folder, err := os.MkdirTemp("", "text")
	if err != nil {
		return c, err
	}
	defer os.RemoveAll(folder)
	at := func(name string) string { return filepath.Join(folder, name) }
	files := map[string]string{
		"signature.txt": signature,
		"edit": "#!/bin/sh\ncp \"$1\" " + at("draft") +
			"\nsleep 1.1 # a file of the same second counts as unchanged\ntouch \"$1\"\necho >>\"$1\"\n",
		"send": "#!/bin/sh\ncat >" + at("sending") + " && mv " + at("sending") + " " + at("sent") + "\n",
		"settings": `set from="maren.lind@brackwater.example" signature="` + at("signature.txt") + `" sendmail="` +
			at("send") + `" editor="` + at("edit") +
			`" folder="` + folder + `" spoolfile="` + at("mail") +
			"\"\nset copy=no charset=utf-8 send_charset=us-ascii:utf-8 autoedit=yes fast_reply=yes abort_unmodified=no " +
			"markers=no pager_index_lines=0 quit=yes\nset mbox_type=Maildir\n",
	}
	for name, text := range files {
		if err := os.WriteFile(at(name), []byte(text), 0o700); err != nil {
			return c, err
		}
	}
	message, err := c.write(folder)
	if err != nil {
		return c, err
	}
	return c, c.read(folder, message)
}

// write has the client write and send a message, and gives it.
func (c *composedText) write(folder string) ([]byte, error) {
	t := Terminal{folder, "writing"}
	defer t.tmux("kill-server") // fails when it has ended already
	if err := t.start("-s Probes bo@brackwater.example"); err != nil {
		return nil, err
	}
	sent := filepath.Join(folder, "sent")
	err := t.until("send the message", "y", func() (bool, error) {
		_, err := os.Stat(sent)
		return err == nil, nil
	})
	if err != nil {
		return nil, err
	}
	draft, err := os.ReadFile(filepath.Join(folder, "draft"))
	if err != nil {
		return nil, err
	}
	message, err := os.ReadFile(sent)
	if err != nil {
		return nil, err
	}
	c.draft = string(draft)
	c.sent, err = textOf(message)
	return message, err
}

// read has the client show a message that arrived.
func (c *composedText) read(folder string, message []byte) error {
	box := filepath.Join(folder, "mail")
	for _, name := range []string{"new", "cur", "tmp"} {
		if err := os.MkdirAll(filepath.Join(box, name), 0o700); err != nil {
			return err
		}
	}
	if err := os.WriteFile(filepath.Join(box, "new", "1.probes.host"), message, 0o600); err != nil {
		return err
	}
	t := Terminal{folder, "reading"}
	defer t.tmux("kill-server") // fails when it has ended already
	if err := t.start(`-f ` + box + ` -e 'push "<display-message>"'`); err != nil {
		return err
	}
	return t.until("show the message", "", func() (bool, error) {
		shown, err := t.tmux("capture-pane", "-p")
		c.shown = shown
		return strings.Contains(shown, lastLine), err
	})
}

// textOf is the text of a message.
func textOf(message []byte) (string, error) {
	m, err := mail.CreateReader(bytes.NewReader(message))
	if err != nil {
		return "", err
	}
	part, err := m.NextPart()
	if err != nil {
		return "", err
	}
	data, err := io.ReadAll(part.Body)
	return strings.ReplaceAll(string(data), "\r\n", "\n"), err
}

// textLines are the lines of all text forms, each once, and lines of every width around the limit in several scripts.
func textLines() ([]string, error) {
	list, err := forms(compose.Text)
	if err != nil {
		return nil, err
	}
	var lines []string
	seen := map[string]bool{"": true}
	add := func(line string) {
		if line = strings.TrimRight(line, " \r"); !seen[line] {
			seen[line] = true
			lines = append(lines, line)
		}
	}
	for _, f := range list {
		for line := range strings.SplitSeq(f.form, "\n") {
			add(line)
		}
	}
	for width := 60; width <= 100; width++ {
		add(strings.Repeat("x", width))
		add(strings.Repeat("港", width/2))
		add(strings.Repeat("é", width))
		add(strings.Repeat("e\u0301", width)) // the accent as a sign of its own
		add(strings.Repeat("ب", width))
		add(strings.Repeat("Ω", width))
	}
	return lines, nil
}

var inTextClientOnce = sync.OnceValues(func() (c composedText, err error) {
	lines, err := textLines()
	if err != nil {
		return c, err
	}
	return inTextClient(strings.Join(lines, "\n") + "\n" + lastLine + "\n")
})

// reading compares what the text client puts into a new message, sends and shows with what the profile text-reader says:
// the lines stay as they are, and those that are wider than the window are wrapped where they are shown, by the width in
// columns that the profile's limit counts.
func reading(_ []Probe, stage client.Stage) (Result, error) {
	r := Result{Profile: "text-reader", Against: "neomutt", Version: version("neomutt"), Stage: stage, Real: map[string]int{},
		Disagreements: []Disagreement{}}
	lines, err := textLines()
	if err != nil {
		return r, err
	}
	c, err := inTextClientOnce()
	if err != nil {
		return r, err
	}
	page := map[client.Stage]string{client.Install: c.draft, client.Send: c.sent, client.Render: c.shown}[stage]
	if !strings.Contains(page, "\n-- \n") && !strings.Contains(page, "\n--\n") { // the terminal shows no space at the end
		return r, errors.New("the line above the signature is missing (RFC 3676, 4.3)")
	}
	rows := map[string]bool{}
	for row := range strings.SplitSeq(page, "\n") {
		rows[strings.TrimRight(row, " ")] = true
	}
	words := map[bool]string{true: "in one line", false: "in several lines"}
	for _, line := range lines {
		ours := stage != client.Render || compose.LongestLine([]byte(line)) <= textWidth
		r.Probes++
		r.Real[words[rows[line]]]++
		if rows[line] == ours {
			r.Same++
			continue
		}
		r.Disagreements = append(r.Disagreements, Disagreement{fmt.Sprintf("%d columns", compose.LongestLine([]byte(line))), line,
			words[rows[line]], words[ours]})
	}
	r.Exact = r.Same
	return r, nil
}
