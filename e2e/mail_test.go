package e2e

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/emersion/go-smtp"

	"missivum/core/message"
	"missivum/e2e/rig"
)

// oneGateway is a running missivum gateway.
type oneGateway struct {
	command *exec.Cmd
	args    []string
	records string
	log     *bytes.Buffer
}

// startGateway starts the program as a gateway with the demo's people and templates.
func startGateway(t testing.TB, milter, relay, next, rules string) *oneGateway {
	t.Helper()
	root, err := rig.Root()
	if err != nil {
		t.Fatal(err)
	}
	folder := t.TempDir()
	file := filepath.Join(folder, "rules.yaml")
	if err := os.WriteFile(file, []byte(rules), 0o644); err != nil {
		t.Fatal(err)
	}
	g := &oneGateway{records: filepath.Join(folder, "records"), log: &bytes.Buffer{}}
	g.args = []string{"gateway", "--rules", file, "--templates", filepath.Join(root, "demo/templates"), "--people", filepath.Join(root, "demo/people.csv"),
		"--audiences", filepath.Join(root, "demo/audiences.yaml"), "--assignments", filepath.Join(root, "demo/assignments.yaml"),
		"--milter", milter, "--smtp", relay, "--next", next, "--records", g.records, "--date", "2026-11-23", "--name", "gateway.brackwater.example"}
	g.start(t)
	t.Cleanup(g.stop)
	return g
}

func (g *oneGateway) start(t testing.TB) {
	t.Helper()
	g.command = exec.Command(binary, g.args...)
	g.command.Stderr = g.log
	out, err := g.command.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := g.command.Start(); err != nil {
		t.Fatal(err)
	}
	line := make([]byte, 200)
	if n, err := out.Read(line); err != nil || !strings.Contains(string(line[:n]), " at ") {
		t.Fatalf("the gateway did not start: %v %q\n%s", err, line[:n], g.log)
	}
}

func (g *oneGateway) stop() {
	g.command.Process.Kill()
	g.command.Wait()
}

// send sends a message by SMTP.
func send(address, from string, to []string, raw []byte) error {
	c, err := smtp.Dial(address)
	if err != nil {
		return err
	}
	defer c.Close()
	c.CommandTimeout, c.SubmissionTimeout = 30*time.Second, 2*time.Minute
	options := &smtp.MailOptions{Body: smtp.Body8BitMIME}
	for _, b := range raw[:bytes.Index(append(raw[:len(raw):len(raw)], "\r\n\r\n"...), []byte("\r\n\r\n"))] {
		options.UTF8 = options.UTF8 || b >= 0x80
	}
	if err := c.Mail(from, options); err != nil {
		return err
	}
	for _, one := range to {
		if err := c.Rcpt(one, nil); err != nil {
			return err
		}
	}
	w, err := c.Data()
	if err != nil {
		return err
	}
	if _, err := w.Write(raw); err != nil {
		return err
	}
	if err := w.Close(); err != nil {
		return err
	}
	return c.Quit()
}

// posted is a message that is sent, and what is expected of it.
type posted struct {
	name    string
	raw     []byte
	stamped bool
	holds   string // what must stand in it
}

// toolRun runs a program in a folder and gives what it writes.
func toolRun(t testing.TB, folder string, in []byte, name string, args ...string) []byte {
	t.Helper()
	c := exec.Command(name, args...)
	c.Dir, c.Stdin = folder, bytes.NewReader(in)
	c.Env = append(os.Environ(), "GNUPGHOME="+folder)
	var errs bytes.Buffer
	c.Stderr = &errs
	out, err := c.Output()
	if err != nil {
		t.Fatalf("%s %q: %v\n%s", name, args, err, errs.String())
	}
	return out
}

// post is all kinds of mail, with a field X-First above the others.
func post(t testing.TB) []posted {
	t.Helper()
	folder, err := os.MkdirTemp("/tmp", "keys")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(folder) })
	head := func(subject, more string) string {
		return "X-First: 1\r\nFrom: Maren Lind <maren.lind@brackwater.example>\r\nTo: runa.holt@quay.example\r\nSubject: " + subject + "\r\nMessage-ID: <" +
			strings.ReplaceAll(subject, " ", "-") + "@brackwater.example>\r\nDate: Tue, 03 Nov 2026 15:20:00 +0000\r\nMIME-Version: 1.0\r\n" + more
	}
	body := "Content-Type: text/plain; charset=utf-8\r\nContent-Transfer-Encoding: 8bit\r\n\r\nGruß aus dem Hafen.\r\n"
	quoted := "\r\nOn Tue, 3 Nov 2026 at 14:05, Runa Holt <runa.holt@quay.example> wrote:\r\n> Two lorries?\r\n> -- \r\n> Runa Holt\r\n"
	var list []posted
	add := func(name string, raw string, stamped bool, holds string) {
		list = append(list, posted{name, []byte(raw), stamped, holds})
	}
	add("new", head("new", body), true, "Head of Timetables")
	add("reply", head("Re: reply", "In-Reply-To: <x@quay.example>\r\n"+body+quoted), true, "Head of Timetables | +44 1632 960544\r\n\r\nOn Tue")
	add("forward", head("Fwd: forward", body+"\r\n---------- Forwarded message ---------\r\nFrom: Runa Holt <runa.holt@quay.example>\r\nSubject: Berth\r\n"+
		"Date: Tue, 3 Nov 2026 14:05\r\n\r\nTwo lorries?\r\n"), true, "960544\r\n\r\n---------- Forwarded")
	add("html with a picture", head("html", "Content-Type: multipart/related; boundary=\"r=1\"\r\n\r\n--r=1\r\nContent-Type: text/html; charset=us-ascii\r\n\r\n"+
		"<p>See <img src=\"cid:a@b\"></p>\r\n--r=1\r\nContent-Type: image/png\r\nContent-ID: <a@b>\r\nContent-Transfer-Encoding: base64\r\n\r\nAAEC\r\n--r=1--\r\n"),
		true, "missivum-signature")
	add("huge", head("huge", "Content-Type: multipart/mixed; boundary=h\r\n\r\n--h\r\n"+body+"--h\r\nContent-Type: application/octet-stream\r\n"+
		"Content-Transfer-Encoding: base64\r\n\r\n"+strings.Repeat(strings.Repeat("QUJD", 19)+"\r\n", 130_000)+"--h--\r\n"), true, "Head of Timetables")
	add("header in UTF-8", head("Grüße", body), true, "Head of Timetables")
	add("calendar", head("calendar", "Content-Type: text/calendar; method=REQUEST\r\n\r\nBEGIN:VCALENDAR\r\nEND:VCALENDAR\r\n"), false, "")
	add("list", head("list", "List-Id: <berths.lists.example>\r\n"+body), false, "")
	add("automatic", head("automatic", "Auto-Submitted: auto-replied\r\n"+body), false, "")
	add("broken", head("broken", "Content-Type: multipart/mixed\r\n\r\n--x\r\n\r\nx\r\n--x--\r\n"), false, "")
	add("odd bytes", head("odd", "Content-Type: text/plain; charset=utf-8\r\nContent-Transfer-Encoding: 8bit\r\nX-Odd:   two  spaces\r\n\tand a fold \r\n\r\nx \xff\xfe y\r\n"),
		true, "X-Odd:   two  spaces\r\n\tand a fold \r\n")

	inner := "Content-Type: text/plain; charset=utf-8\r\n\r\nThe contract.\r\n"
	toolRun(t, folder, nil, "openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", "key.pem", "-out", "cert.pem", "-days", "2", "-subj",
		"/CN=Maren Lind/emailAddress=maren.lind@brackwater.example")
	lines := func(raw []byte) string { return strings.ReplaceAll(strings.ReplaceAll(string(raw), "\r\n", "\n"), "\n", "\r\n") }
	clear := toolRun(t, folder, []byte(inner), "openssl", "smime", "-sign", "-signer", "cert.pem", "-inkey", "key.pem", "-crlfeol")
	add("signed S/MIME", strings.Replace(lines(clear), "MIME-Version: 1.0\r\n", head("smime", ""), 1), false, "")
	opaque := toolRun(t, folder, []byte(inner), "openssl", "smime", "-sign", "-nodetach", "-signer", "cert.pem", "-inkey", "key.pem")
	add("signed S/MIME, opaque", strings.Replace(lines(opaque), "MIME-Version: 1.0\r\n", head("opaque", ""), 1), false, "")
	sealed := toolRun(t, folder, []byte(inner), "openssl", "smime", "-encrypt", "-aes256", "cert.pem")
	add("encrypted S/MIME", strings.Replace(lines(sealed), "MIME-Version: 1.0\r\n", head("sealed", ""), 1), false, "")

	toolRun(t, folder, nil, "gpg", "--batch", "--quiet", "--passphrase", "", "--quick-gen-key", "maren.lind@brackwater.example", "ed25519", "sign", "1d")
	signature := toolRun(t, folder, []byte(inner), "gpg", "--batch", "--armor", "--detach-sign")
	add("signed OpenPGP", head("pgp", "Content-Type: multipart/signed; protocol=\"application/pgp-signature\"; micalg=pgp-sha512; boundary=p\r\n\r\n--p\r\n"+
		inner+"\r\n--p\r\nContent-Type: application/pgp-signature\r\n\r\n"+lines(signature)+"\r\n--p--\r\n"), false, "")
	clearText := toolRun(t, folder, []byte("The contract.\n"), "gpg", "--batch", "--clearsign")
	add("signed OpenPGP in text", head("pgp text", "Content-Type: text/plain\r\n\r\n"+lines(clearText)), false, "")
	secret := toolRun(t, folder, []byte("The contract.\n"), "gpg", "--batch", "--armor", "--symmetric", "--passphrase", "x")
	add("encrypted OpenPGP in text", head("pgp secret", "Content-Type: text/plain\r\n\r\n"+lines(secret)), false, "")
	return list
}

// TestBesideARealMailServer sends all kinds of mail through Postfix with the gateway beside it in three ways, and reads what Dovecot got.
func TestBesideARealMailServer(t *testing.T) {
	t.Parallel()
	milter, relay := freeAddress(t), freeAddress(t)
	server, err := rig.StartMailServer(milter, relay)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := server.Stop(); err != nil {
			t.Error(err)
		}
	})
	startGateway(t, milter, relay, server.Next(), "inside: [brackwater.example]\nrules:\n  - {name: everybody}\n")
	messages := post(t)
	for _, way := range []string{rig.Milter, rig.Before, rig.After} {
		t.Run(way, func(t *testing.T) {
			for i, m := range messages {
				to := fmt.Sprintf("%s-%d@quay.example", way, i)
				if m.name == "header in UTF-8" {
					to = fmt.Sprintf("%s-%d@sink.example", way, i)
				}
				if err := send(server.Address(way), "maren.lind@brackwater.example", []string{to}, m.raw); err != nil {
					t.Fatalf("%s: %v\n%s", m.name, err, server.Log())
				}
			}
			for i, m := range messages {
				if m.name == "header in UTF-8" {
					continue // the mailbox server takes none; that it was sent on without an answer of refusal is what is seen
				}
				checkPosted(t, server, fmt.Sprintf("%s-%d@quay.example", way, i), m)
			}
		})
	}
}

// checkPosted waits for one message and compares it with what was sent.
func checkPosted(t *testing.T, server *rig.MailServer, address string, m posted) {
	t.Helper()
	var got [][]byte
	for range 200 {
		var err error
		if got, err = server.Mailbox(address, "X-First"); err != nil {
			t.Fatal(err)
		}
		if len(got) > 0 {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	if len(got) != 1 {
		t.Errorf("%s: %d messages arrived\n%s", m.name, len(got), server.Log())
		return
	}
	raw := bytes.Replace(got[0], []byte("X-First: 1\r\n"), nil, 1)
	sent := bytes.Replace(m.raw, []byte("X-First: 1\r\n"), nil, 1)
	if !m.stamped {
		if !bytes.Equal(bytes.TrimRight(raw, "\r\n"), bytes.TrimRight(sent, "\r\n")) {
			t.Errorf("%s was changed:\n%s\nwas\n%s", m.name, beginning(raw), beginning(sent))
		}
		return
	}
	after := message.Read(raw)
	if !after.Root.Header.Has(message.StampField) || !bytes.Contains(raw, []byte(m.holds)) {
		t.Errorf("%s: %q is missing:\n%s", m.name, m.holds, beginning(raw))
	}
	before := message.Read(sent)
	for _, p := range before.Leaves() {
		if !strings.HasPrefix(p.Media, "text/") && !bytes.Contains(raw, bytes.TrimRight(sent[p.Start:p.End], "\r\n")) {
			t.Errorf("%s: part %s changed", m.name, p.Number)
		}
	}
	for _, f := range before.Root.Header.Fields {
		if !strings.HasPrefix(strings.ToLower(f.Name), "content-") && !bytes.Contains(raw, sent[f.Start:f.End]) {
			t.Errorf("%s: the field %q changed", m.name, sent[f.Start:f.End])
		}
	}
}

// beginning is the beginning of a message for people.
func beginning(raw []byte) []byte { return raw[:min(len(raw), 1500)] }
