package e2e

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/emersion/go-message/mail"
	"golang.org/x/net/html"

	"missivum/core/desk"
	"missivum/e2e/rig"
)

// newScreen starts a display for the length of a test.
func newScreen(t *testing.T, home string) *rig.Screen {
	t.Helper()
	s, err := rig.NewScreen(home, 1280, 800)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return s
}

// pressIn waits for a window whose title holds a text, and until what is in it is ready, and presses a key there.
func pressIn(t *testing.T, s *rig.Screen, title, key string) {
	t.Helper()
	window, err := s.Window(title)
	if err == nil {
		time.Sleep(3 * time.Second)
		err = s.Press(window, key)
	}
	if err != nil {
		t.Fatal(err)
	}
}

// draftOf waits until a drafts folder holds a message with a subject, and reads it.
func draftOf(t *testing.T, mailbox, subject string) (raw []byte, page string, pictures map[string]string) {
	t.Helper()
	for until := time.Now().Add(60 * time.Second); time.Now().Before(until); time.Sleep(300 * time.Millisecond) {
		data, err := os.ReadFile(mailbox)
		if err != nil {
			continue
		}
		for _, text := range bytes.Split(append([]byte("\n"), data...), []byte("\nFrom - ")) {
			_, message, _ := bytes.Cut(text, []byte("\n"))
			if page, pictures := readDraft(message, subject); page != "" && strings.Contains(page, "</html>") {
				return message, page, pictures
			}
		}
	}
	t.Fatalf("no draft %q was saved", subject)
	return nil, "", nil
}

// readDraft reads a message's page and the pictures in it, by Content-ID; nothing where the subject is another.
func readDraft(message []byte, subject string) (page string, pictures map[string]string) {
	m, err := mail.CreateReader(bytes.NewReader(message))
	if err != nil {
		return "", nil
	}
	if got, err := m.Header.Subject(); err != nil || got != subject {
		return "", nil
	}
	pictures = map[string]string{}
	for {
		part, err := m.NextPart()
		if err != nil {
			return page, pictures
		}
		data, err := io.ReadAll(part.Body)
		if err != nil {
			return "", nil
		}
		media, _, _ := strings.Cut(part.Header.Get("Content-Type"), ";")
		if media == "text/html" {
			page = string(data)
		} else if id := strings.Trim(part.Header.Get("Content-Id"), "<>"); id != "" {
			pictures[id] = "data:" + media + ";base64," + base64.StdEncoding.EncodeToString(data)
		}
	}
}

// signatureIn gives the markup of the signature in a draft, with the pictures that it carries written into it.
func signatureIn(t *testing.T, page string, pictures map[string]string) string {
	t.Helper()
	for id, data := range pictures {
		page = strings.ReplaceAll(page, "cid:"+id, data)
	}
	doc, err := html.Parse(strings.NewReader(page))
	if err != nil {
		t.Fatal(err)
	}
	for n := range doc.Descendants() {
		for _, a := range n.Attr {
			if a.Key == "class" && a.Val == "moz-signature" {
				var b bytes.Buffer
				for c := n.FirstChild; c != nil; c = c.NextSibling {
					if err := html.Render(&b, c); err != nil {
						t.Fatal(err)
					}
				}
				return strings.TrimPrefix(strings.TrimSpace(b.String()), "--")
			}
		}
	}
	t.Fatalf("there is no signature in %s", page)
	return ""
}

// TestTheRealClientShowsWhatWasPlaced: the open-source mail client that Debian packages, with a prepared profile, shows the
// placed signature in a new message and in a reply, saved as drafts by key presses: the same words, links and pictures.
func TestTheRealClientShowsWhatWasPlaced(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("thunderbird"); err != nil {
		t.Fatal("the mail client is not there; scripts/setup.sh installs it")
	}
	root, err := rig.Root()
	if err != nil {
		t.Fatal(err)
	}
	home, key := t.TempDir(), signingKey(t)
	profile := filepath.Join(home, ".thunderbird", "desk.default")
	if err := os.MkdirAll(profile, 0o700); err != nil {
		t.Fatal(err)
	}
	prefs := []byte(strings.ReplaceAll(rig.MailClientSettings, "PORT", "1")) // nobody listens there
	if err := os.WriteFile(filepath.Join(profile, "prefs.js"), prefs, 0o600); err != nil {
		t.Fatal(err)
	}
	s := newScreen(t, home)
	folder := filepath.Join(t.TempDir(), "kit")
	made := s.Command(binary, "kit", filepath.Join(root, "demo/templates/harbour"), "--people",
		filepath.Join(root, "demo/people.csv"), "--person",
		"maren.lind@brackwater.example", "--client", "gecko-desktop", "--sign-with", key+".key", "-o", folder)
	if out, err := made.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	if out, err := s.Command(binary, "desk", "place", folder, "--trust", key+".pub").CombinedOutput(); err != nil ||
		!bytes.Contains(out, []byte("gecko-desktop: placed")) {
		t.Fatalf("%v\n%s", err, out)
	}
	placed, err := os.ReadFile(filepath.Join(profile, "signatures", "harbour.html"))
	if err != nil {
		t.Fatal(err)
	}
	received := filepath.Join(home, "received.eml")
	if err := os.WriteFile(received, []byte("From: Bo <bo@brackwater.example>\r\nTo: maren.lind@brackwater.example\r\nSubject: Timetable\r\n"+
		"Date: Fri, 27 Nov 2026 10:00:00 +0000\r\nMessage-ID: <1@brackwater.example>\r\n\r\nIs the timetable ready?\r\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		name, subject string
		args          []string
		reply         bool
	}{
		{"a new message", "New one", []string{"-compose", "to='bo@brackwater.example',subject='New one'"}, false},
		{"a reply", "Re: Timetable", []string{received}, true},
	} {
		client := s.Command("thunderbird", append([]string{"--profile", profile}, c.args...)...)
		if err := client.Start(); err != nil {
			t.Fatal(err)
		}
		if c.reply {
			pressIn(t, s, "Timetable", "ctrl+r")
		}
		if out, err := s.Command(binary, "desk", "undo").CombinedOutput(); err == nil || !bytes.Contains(out, []byte("runs. Close the client")) {
			t.Errorf("while the client runs: %v\n%s", err, out)
		}
		pressIn(t, s, "Write:", "ctrl+s")
		raw, page, pictures := draftOf(t, filepath.Join(profile, "Mail", "Local Folders", "Drafts"), c.subject)
		if err := client.Process.Kill(); err != nil {
			t.Error(err)
		}
		client.Wait() // it was killed
		signature := signatureIn(t, page, pictures)
		if same, difference := desk.SameMeaning("html", placed, []byte(signature)); !same || len(pictures) != 2 {
			t.Errorf("%s: %d pictures, %s\n%s", c.name, len(pictures), difference, signature)
		}
		if c.reply && strings.Index(page, "moz-signature") > strings.Index(page, "moz-cite-prefix") {
			t.Error("in a reply the signature stands below the quoted text")
		}
		file := filepath.Join(home, "draft.eml")
		if err := os.WriteFile(file, raw, 0o600); err != nil {
			t.Fatal(err)
		}
		tried, err := s.Command(binary, "rule", "try", file, "--templates", filepath.Join(root, "demo/templates"), "--people",
			filepath.Join(root, "demo/people.csv"), "--assignments", filepath.Join(root, "demo/assignments.yaml"), "--audiences",
			filepath.Join(root, "demo/audiences.yaml")).CombinedOutput()
		if err != nil || !bytes.Contains(tried, []byte("unchanged. The sender's signature stands in the newest text already")) {
			t.Errorf("%s: mail rules do not find the signature that stands there: %v\n%s", c.name, err, tried)
		}
		// what the client made of the signature is no alteration
		read, err := s.Command(binary, "diagnose", file, "--template", filepath.Join(root, "demo/templates/harbour"), "--people",
			filepath.Join(root, "demo/people.csv")).CombinedOutput()
		if err != nil || bytes.Contains(read, []byte("altered")) {
			t.Errorf("%s: read back: %v\n%s", c.name, err, read)
		}
		t.Logf("%s: %s", c.name, read)
		if n := strings.Count(page, "moz-signature"); n != 1 {
			t.Errorf("%s: the signature stands there %d times", c.name, n)
		}
	}
	if out, err := s.Command(binary, "desk", "verify").CombinedOutput(); err != nil {
		t.Errorf("after the client ran: %v\n%s", err, out)
	}
	if out, err := s.Command(binary, "desk", "undo").CombinedOutput(); err != nil || !bytes.Contains(out, []byte("other settings stay")) {
		t.Errorf("taken back: %v\n%s", err, out)
	}
	after, err := os.ReadFile(filepath.Join(profile, "prefs.js"))
	if err != nil || bytes.Contains(after, []byte("sig_file")) || exists(filepath.Join(profile, "signatures")) {
		t.Errorf("the choice is not as before: %v\n%s", err, grepLines(after, "identity"))
	}
}

// grepLines are the lines in which a text stands.
func grepLines(data []byte, text string) string {
	var list []string
	for _, line := range strings.Split(string(data), "\n") {
		if strings.Contains(line, text) {
			list = append(list, line)
		}
	}
	return fmt.Sprint(strings.Join(list, "\n"))
}
