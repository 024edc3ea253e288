package e2e

import (
	"bytes"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/d--j/go-milter"
	"github.com/emersion/go-smtp"
	"golang.org/x/sync/errgroup"

	"missivum/core/message"
	"missivum/core/rule"
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
	g.args = []string{"gateway", "--rules", file, "--templates", filepath.Join(root, "demo/templates"), "--people",
		filepath.Join(root, "demo/people.csv"),
		"--audiences", filepath.Join(root, "demo/audiences.yaml"), "--assignments", filepath.Join(root, "demo/assignments.yaml"),
		"--milter", milter, "--smtp", relay, "--next", next, "--records", g.records, "--ledger",
		filepath.Join(folder, "ledger"), "--date", "2026-11-23", "--name", "gateway.brackwater.example"}
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

// doubted are the Message-IDs of messages that the records say may arrive twice.
func (g *oneGateway) doubted(t testing.TB) (list []string) {
	t.Helper()
	text, err := os.ReadFile(g.records)
	if err != nil {
		t.Fatal(err)
	}
	for line := range strings.Lines(string(text)) {
		var r rule.Record
		var wrong *json.SyntaxError
		err := json.Unmarshal([]byte(line), &r)
		if errors.As(err, &wrong) && wrong.Offset >= int64(len(strings.TrimSpace(line))) {
			continue // torn when the gateway was killed
		}
		if err != nil {
			t.Errorf("a record cannot be read: %v\n%s", err, line)
		}
		if strings.Contains(r.Says, "may arrive twice") {
			list = append(list, r.MessageID)
		}
	}
	return list
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
		return "X-First: 1\r\nFrom: Maren Lind <maren.lind@brackwater.example>\r\nTo: runa.holt@quay.example\r\nSubject: " +
			subject + "\r\nMessage-ID: <" +
			strings.ReplaceAll(subject, " ", "-") + "@brackwater.example>\r\nDate: Tue, 03 Nov 2026 15:20:00 +0000\r\nMIME-Version: 1.0\r\n" + more
	}
	body := "Content-Type: text/plain; charset=utf-8\r\nContent-Transfer-Encoding: 8bit\r\n\r\nGruß aus dem Hafen.\r\n"
	quoted := "\r\nOn Tue, 3 Nov 2026 at 14:05, Runa Holt <runa.holt@quay.example> wrote:\r\n> Two lorries?\r\n> -- \r\n> Runa Holt\r\n"
	var list []posted
	add := func(name string, raw string, stamped bool, holds string) {
		list = append(list, posted{name, []byte(raw), stamped, holds})
	}
	add("new", head("new", body), true, "Head of Timetables")
	add("reply", head("Re: reply", "In-Reply-To: <x@quay.example>\r\n"+body+quoted), true,
		"Head of Timetables | +44 1632 960544\r\n\r\nOn Tue")
	add("forward", head("Fwd: forward", body+
		"\r\n---------- Forwarded message ---------\r\nFrom: Runa Holt <runa.holt@quay.example>\r\nSubject: Berth\r\n"+
		"Date: Tue, 3 Nov 2026 14:05\r\n\r\nTwo lorries?\r\n"), true, "960544\r\n\r\n---------- Forwarded")
	add("html with a picture", head("html",
		"Content-Type: multipart/related; boundary=\"r=1\"\r\n\r\n--r=1\r\nContent-Type: text/html; charset=us-ascii\r\n\r\n"+
			"<p>See <img src=\"cid:a@b\"></p>\r\n--r=1\r\nContent-Type: image/png\r\nContent-ID: "+
			"<a@b>\r\nContent-Transfer-Encoding: base64\r\n\r\nAAEC\r\n--r=1--\r\n"),
		true, "missivum-signature")
	add("huge", head("huge", "Content-Type: multipart/mixed; boundary=h\r\n\r\n--h\r\n"+body+
		"--h\r\nContent-Type: application/octet-stream\r\n"+
		"Content-Transfer-Encoding: base64\r\n\r\n"+strings.Repeat(strings.Repeat("QUJD", 19)+"\r\n", 130_000)+"--h--\r\n"),
		true, "Head of Timetables")
	add("header in UTF-8", head("Grüße", body), true, "Head of Timetables")
	add("calendar", head("calendar", "Content-Type: text/calendar; method=REQUEST\r\n\r\nBEGIN:VCALENDAR\r\nEND:VCALENDAR\r\n"), false, "")
	add("list", head("list", "List-Id: <berths.lists.example>\r\n"+body), false, "")
	add("mixed recipients", head("mixed", body), true, "Head of Timetables")
	add("delivery report", head("Undelivered Mail", "Content-Type: multipart/report; report-type=delivery-status; boundary=d\r\n\r\n--d\r\n"+
		body+"--d\r\nContent-Type: message/delivery-status\r\n\r\nReporting-MTA: dns; mail.brackwater.example\r\n\r\n"+
		"Final-Recipient: rfc822; nobody@quay.example\r\nAction: failed\r\nStatus: 5.1.1\r\n\r\n--d--\r\n"), false, "")
	add("automatic", head("automatic", "Auto-Submitted: auto-replied\r\n"+body), false, "")
	add("broken", head("broken", "Content-Type: multipart/mixed\r\n\r\n--x\r\n\r\nx\r\n--x--\r\n"), false, "")
	add("odd bytes", head("odd",
		"Content-Type: text/plain; charset=utf-8\r\nContent-Transfer-Encoding: 8bit\r\nX-Odd:   two  "+
			"spaces\r\n\tand a fold \r\n\r\nx \xff\xfe y\r\n"),
		true, "X-Odd:   two  spaces\r\n\tand a fold \r\n")

	inner := "Content-Type: text/plain; charset=utf-8\r\n\r\nThe contract.\r\n"
	toolRun(t, folder, nil, "openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", "key.pem", "-out",
		"cert.pem", "-days", "2", "-subj",
		"/CN=Maren Lind/emailAddress=maren.lind@brackwater.example")
	lines := func(raw []byte) string {
		return strings.ReplaceAll(strings.ReplaceAll(string(raw), "\r\n", "\n"), "\n", "\r\n")
	}
	clear := toolRun(t, folder, []byte(inner), "openssl", "smime", "-sign", "-signer", "cert.pem", "-inkey", "key.pem", "-crlfeol")
	add("signed S/MIME", strings.Replace(lines(clear), "MIME-Version: 1.0\r\n", head("smime", ""), 1), false, "")
	opaque := toolRun(t, folder, []byte(inner), "openssl", "smime", "-sign", "-nodetach", "-signer", "cert.pem", "-inkey", "key.pem")
	add("signed S/MIME, opaque", strings.Replace(lines(opaque), "MIME-Version: 1.0\r\n", head("opaque", ""), 1), false, "")
	sealed := toolRun(t, folder, []byte(inner), "openssl", "smime", "-encrypt", "-aes256", "cert.pem")
	add("encrypted S/MIME", strings.Replace(lines(sealed), "MIME-Version: 1.0\r\n", head("sealed", ""), 1), false, "")

	toolRun(t, folder, nil, "gpg", "--batch", "--quiet", "--passphrase", "", "--quick-gen-key",
		"maren.lind@brackwater.example", "ed25519", "sign", "1d")
	signature := toolRun(t, folder, []byte(inner), "gpg", "--batch", "--armor", "--detach-sign")
	add("signed OpenPGP", head("pgp",
		"Content-Type: multipart/signed; protocol=\"application/pgp-signature\"; micalg=pgp-sha512; boundary=p\r\n\r\n--p\r\n"+
			inner+"\r\n--p\r\nContent-Type: application/pgp-signature\r\n\r\n"+lines(signature)+"\r\n--p--\r\n"), false, "")
	clearText := toolRun(t, folder, []byte("The contract.\n"), "gpg", "--batch", "--clearsign")
	add("signed OpenPGP in text", head("pgp text", "Content-Type: text/plain\r\n\r\n"+lines(clearText)), false, "")
	secret := toolRun(t, folder, []byte("The contract.\n"), "gpg", "--batch", "--armor", "--symmetric", "--passphrase", "x")
	add("encrypted OpenPGP in text", head("pgp secret", "Content-Type: text/plain\r\n\r\n"+lines(secret)), false, "")
	return list
}

// everybodysRule stamps all mail of people in the directory.
const everybodysRule = "inside: [brackwater.example]\nrules:\n  - {name: everybody}\n"

// besideMailServer starts a mail server and a gateway beside it in all ways.
func besideMailServer(t *testing.T) (*rig.MailServer, *oneGateway) {
	t.Helper()
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
	return server, startGateway(t, milter, relay, server.Next(), everybodysRule)
}

// TestBesideARealMailServer sends all kinds of mail through Postfix with the gateway beside it in three ways, and reads what Dovecot got.
func TestBesideARealMailServer(t *testing.T) {
	t.Parallel()
	server, _ := besideMailServer(t)
	messages := post(t)
	for _, way := range []string{rig.Milter, rig.Before, rig.After} {
		t.Run(way, func(t *testing.T) {
			for i, m := range messages {
				from, to := "maren.lind@brackwater.example", []string{mailboxOf(way, i, m)}
				switch m.name {
				case "delivery report":
					from = ""
				case "mixed recipients":
					to = append(to, fmt.Sprintf("inside-%s-%d@brackwater.example", way, i))
				}
				if err := send(server.Address(way), from, to, m.raw); err != nil {
					t.Fatalf("%s: %v\n%s", m.name, err, server.Log())
				}
			}
			for i, m := range messages {
				checkPosted(t, server, mailboxOf(way, i, m), m)
				if m.name == "mixed recipients" {
					checkPosted(t, server, fmt.Sprintf("inside-%s-%d@brackwater.example", way, i), m)
				}
			}
		})
	}
}

// mailboxOf is where a message goes. Dovecot takes none with a header in UTF-8 (RFC 6532); Postfix's own delivery does.
func mailboxOf(way string, i int, m posted) string {
	if m.name == "header in UTF-8" {
		return fmt.Sprintf("%s-%d@sink.example", way, i)
	}
	return fmt.Sprintf("%s-%d@quay.example", way, i)
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

// TestKilledGatewayLosesNothing sends many messages through each way while the gateway is killed again and again. No message may be
// lost or half stamped, and those that must stay as they are must. Through the milter, and through a relay that is asked to end,
// every one arrives exactly once; a relay that is killed while the next server takes a message cannot know (RFC 1047), sends it
// again and says so in its records.
func TestKilledGatewayLosesNothing(t *testing.T) {
	t.Parallel()
	server, g := besideMailServer(t)
	amount, kills := rig.Soak(240, 10_000), rig.Soak(6, 100)
	for _, c := range []struct {
		way  string
		kill bool
	}{{rig.Milter, true}, {rig.Before, true}, {rig.After, true}, {rig.Before, false}, {rig.After, false}} {
		way := c.way
		if !c.kill {
			way += "-asked"
		}
		ends := 0
		sendMany(t, server, c.way, way, amount, shortMessage, func(stop <-chan struct{}) {
			random := rand.New(rand.NewPCG(7, uint64(amount)))
			for range kills {
				select {
				case <-stop:
					return
				case <-time.After(time.Duration(20+random.IntN(rig.Soak(400, 1_200))) * time.Millisecond):
				}
				if c.kill {
					g.stop()
				} else {
					g.command.Process.Signal(syscall.SIGTERM)
					late := time.AfterFunc(15*time.Second, func() {
						t.Error("the gateway did not end within 15 s")
						g.command.Process.Signal(syscall.SIGQUIT)
					})
					if err := g.command.Wait(); err != nil {
						t.Errorf("the gateway that was asked to end: %v\n%s", err, g.log)
					}
					late.Stop()
				}
				g.start(t)
				ends++
			}
		})
		arrived := waitForAll(t, server, way)
		missing, twice, named, changed := 0, 0, 0, 0
		doubted := g.doubted(t)
		for i := range amount {
			got := arrived[fmt.Sprintf("%s-%d", way, i)]
			if len(got) == 0 {
				missing++
			}
			if len(got) > 1 && !(c.kill && way != rig.Milter && slices.Contains(doubted, fmt.Sprintf("<%s-%d@brackwater.example>", way, i))) {
				twice++
			}
			if len(got) > 1 {
				named++
			}
			for _, raw := range got {
				isStamped := message.Read(raw).Root.Header.Has(message.StampField)
				whole := bytes.Contains(raw, []byte("Head of Timetables")) && bytes.Contains(raw, []byte("Gruß aus dem Hafen."))
				if i%3 == 2 {
					isStamped = !isStamped // an automatic one
					whole = !bytes.Contains(raw, []byte("Head of Timetables"))
				}
				if !isStamped || !whole {
					changed++
				}
			}
		}
		t.Logf("%s: %d messages, the gateway ended %d times, %d missing, %d twice (%d of them not named in the "+
			"records), %d not as they should be",
			way, amount, ends, missing, named, twice, changed)
		if missing+twice+changed > 0 {
			t.Errorf("%s: %d missing, %d twice and not named, %d not as they should be", way, missing, twice, changed)
		}
	}
}

// shortMessage is a short text; every third is an automatic answer.
func shortMessage(way string, i int) []byte {
	more := ""
	if i%3 == 2 {
		more = "Auto-Submitted: auto-replied\r\n"
	}
	return numbered(way, i, more+"Content-Type: text/plain; charset=utf-8\r\nContent-Transfer-Encoding: 8bit\r\n\r\nGruß aus dem Hafen.\r\n")
}

// mixedMessage is, by turns, a short text, a reply as text and HTML of 20 kB, a new page with a picture of 80 kB and an attachment of
// 300 kB, and an automatic answer.
func mixedMessage(way string, i int) []byte {
	switch i % 4 {
	case 0:
		return shortMessage(way, 0)
	case 3:
		return shortMessage(way, 2)
	case 1:
		quoted := strings.Repeat("<p>Yes, the berth is free on Thursday, and two lorries more are fine.</p>\r\n", 250)
		return numbered(way, i, "In-Reply-To: <question@quay.example>\r\nContent-Type: multipart/alternative; boundary=a\r\n\r\n"+
			"--a\r\nContent-Type: text/plain\r\n\r\nNine is fine.\r\n\r\nOn Sun, 22 Nov 2026, Runa Holt wrote:\r\n"+
			strings.Repeat("> Yes, the berth is free.\r\n", 250)+"--a\r\nContent-Type: text/html; charset=utf-8\r\n\r\n"+
			"<html><body><p>Nine is fine.</p><div>On Sun, 22 Nov 2026, Runa Holt wrote:</div><blockquote type=\"cite\">"+quoted+
			"</blockquote></body></html>\r\n--a--\r\n")
	}
	line := strings.Repeat("QmVydGg", 10) + "QmVydA\r\n"
	return numbered(way, i, "Content-Type: multipart/mixed; boundary=m\r\n\r\n--m\r\nContent-Type: multipart/related; boundary=r\r\n\r\n"+
		"--r\r\nContent-Type: text/html; charset=utf-8\r\n\r\n<html><body><p>The plan:</p><img src=\"cid:plan@quay.example\"></body></html>\r\n"+
		"--r\r\nContent-Type: image/png\r\nContent-ID: <plan@quay.example>\r\nContent-Transfer-Encoding: base64\r\n\r\n"+
		strings.Repeat(line, 80_000/78)+"--r--\r\n--m\r\nContent-Type: application/pdf\r\nContent-Disposition: attachment\r\n"+
		"Content-Transfer-Encoding: base64\r\n\r\n"+strings.Repeat(line, 300_000/78)+"--m--\r\n")
}

// numbered is a message whose Message-ID has a name and a number.
func numbered(way string, i int, rest string) []byte {
	return fmt.Appendf(nil, "X-First: 1\r\nFrom: maren.lind@brackwater.example\r\nTo: runa.holt@quay.example\r\nSubject: %d\r\n"+
		"Message-ID: <%s-%d@brackwater.example>\r\nMIME-Version: 1.0\r\n%s", i, way, i, rest)
}

// sendMany sends messages to one mailbox each way, several at once, and tries again until each is taken; beside runs meanwhile.
func sendMany(t *testing.T, server *rig.MailServer, service, way string, amount int, one func(way string, i int) []byte,
	beside func(stop <-chan struct{})) {
	t.Helper()
	stop := make(chan struct{})
	var other sync.WaitGroup
	other.Go(func() { beside(stop) })
	var group errgroup.Group
	group.SetLimit(8)
	for i := range amount {
		group.Go(func() error {
			raw := one(way, i)
			var err error
			for range 400 {
				if err = send(server.Address(service), "maren.lind@brackwater.example", []string{way + "@quay.example"}, raw); err == nil {
					return nil
				}
				time.Sleep(25 * time.Millisecond)
			}
			return fmt.Errorf("message %d was not taken: %w", i, err)
		})
	}
	err := group.Wait()
	close(stop)
	other.Wait()
	if err != nil {
		t.Fatalf("%v\n%s", err, server.Log())
	}
}

// waitForAll waits until the queue is empty and no more messages arrive, and gives them by the name in their Message-ID.
func waitForAll(t *testing.T, server *rig.MailServer, way string) map[string][][]byte {
	t.Helper()
	byName := map[string][][]byte{}
	began := time.Now()
	for still := 0; still < 8; {
		if time.Since(began) > 3*time.Minute {
			t.Fatalf("the queue does not become empty\n%s", server.Log())
		}
		time.Sleep(250 * time.Millisecond)
		waiting, err := server.Queue()
		if err != nil {
			t.Fatal(err)
		}
		if waiting == 0 {
			still++
			continue
		}
		still = 0
		if time.Since(began) > 3*time.Second {
			if err := server.Flush(); err != nil {
				t.Fatal(err)
			}
		}
	}
	list, err := server.Mailbox(way+"@quay.example", "X-First")
	if err != nil {
		t.Fatal(err)
	}
	for _, raw := range list {
		id := message.Read(raw).Root.Header.Value("Message-ID")
		name, _, _ := strings.Cut(strings.Trim(id, "<>"), "@")
		byName[name] = append(byName[name], raw)
	}
	return byName
}

// TestGatewayTakesABundle runs a gateway with nothing but a bundle; another one is taken, and a broken one is not.
func TestGatewayTakesABundle(t *testing.T) {
	t.Parallel()
	root, err := rig.Root()
	if err != nil {
		t.Fatal(err)
	}
	folder := t.TempDir()
	file, key := filepath.Join(folder, "rules.bundle"), filepath.Join(folder, "key")
	toolRun(t, folder, nil, binary, "kit", "key", "-o", key)
	bundle := func(template string) string {
		rules := filepath.Join(folder, "rules.yaml")
		if err := os.WriteFile(rules, []byte("rules: [{name: one, then: {template: "+template+"}}]"), 0o644); err != nil {
			t.Fatal(err)
		}
		out := toolRun(t, folder, nil, binary, "rule", "bundle", "--rules", rules, "--templates",
			filepath.Join(root, "demo/templates"), "--people",
			filepath.Join(root, "demo/people.csv"), "--sign-with", key+".key", "-o", file)
		_, name, _ := strings.Cut(string(out), "bundle ")
		name, _, _ = strings.Cut(name, ",")
		return name
	}
	first := bundle("harbour")
	g := &oneGateway{records: filepath.Join(folder, "records"), log: &bytes.Buffer{}}
	g.args = []string{"gateway", "--bundle", file, "--trust", key + ".pub", "--milter", freeAddress(t), "--records", g.records}
	g.start(t)
	second := bundle("voyage")
	time.Sleep(3 * time.Second)
	if err := os.WriteFile(file, []byte("broken"), 0o644); err != nil {
		t.Fatal(err)
	}
	time.Sleep(3 * time.Second)
	g.command.Process.Signal(syscall.SIGTERM)
	if err := g.command.Wait(); err != nil {
		t.Errorf("it ended with %v", err)
	}
	if log := g.log.String(); first == second || !strings.Contains(log, "bundle="+second) || !strings.Contains(log, "This is no bundle") {
		t.Errorf("bundles %s and %s; the log:\n%s", first, second, log)
	}
	if c := exec.Command(binary, "gateway", "--bundle", file, "--trust", key+".pub", "--milter", freeAddress(t)); c.Run() == nil {
		t.Error("a gateway began with a broken bundle")
	}
}

// TestGatewayTakesTheServicesBundle runs a gateway with the bundle of a service, changes the rules, and goes on while the service is
// away.
func TestGatewayTakesTheServicesBundle(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	service, err := rig.Start(binary, "demo", "--listen", "127.0.0.1:0", "--data", filepath.Join(folder, "data"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { service.Stop() })
	push := func(template string) {
		releaseRules(t, service.Address, "rules: [{name: one, then: {template: "+template+"}}]")
	}
	push("harbour")
	answer, err := http.Get(service.Address + "/api/v1/desk/trust")
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	key, err := io.ReadAll(answer.Body)
	if err != nil || answer.StatusCode != 200 {
		t.Fatalf("%d %v", answer.StatusCode, err)
	}
	if err := os.WriteFile(filepath.Join(folder, "pub"), key, 0o644); err != nil {
		t.Fatal(err)
	}
	g := &oneGateway{log: &bytes.Buffer{}}
	g.args = []string{"gateway", "--bundle", service.Address + "/api/v1/rules/bundle", "--trust", filepath.Join(folder, "pub"), "--keep",
		filepath.Join(folder, "kept"), "--milter", freeAddress(t)}
	g.start(t)
	push("voyage")
	time.Sleep(13 * time.Second)
	g.stop()
	if !strings.Contains(g.log.String(), "the rules were read again") {
		t.Errorf("the changed rules were not taken:\n%s", g.log)
	}
	service.Stop()
	g.start(t)
	g.stop()
	if !strings.Contains(g.log.String(), "the bundle that was kept is used") {
		t.Errorf("without the service:\n%s", g.log)
	}
}

// releaseRules stores mail rules in a service and sends a release that holds them out to everybody.
func releaseRules(t testing.TB, server, rules string) {
	t.Helper()
	folder := t.TempDir()
	file := filepath.Join(folder, "rules.yaml")
	if err := os.WriteFile(file, []byte(rules), 0o644); err != nil {
		t.Fatal(err)
	}
	run := func(args ...string) string {
		return string(toolRun(t, folder, nil, binary, append(args, "--server", server)...))
	}
	run("rule", "push", file)
	run("release", "settings", "--one-may-do-both")
	made := run("release", "make", "Winter", "--base", "brackwater")
	number, _, _ := strings.Cut(strings.TrimPrefix(strings.ToLower(made), "release "), ",")
	run("release", "approve", number, "--says", "known")
	run("release", "send", number)
}

// TestServiceBesideAMailServer runs the gateway inside the service beside Postfix: messages are stamped by the rules of the release
// that is out, found by the command, left alone while rules are paused; and while the database is locked mail goes on, stamped, and
// its records follow.
func TestServiceBesideAMailServer(t *testing.T) {
	t.Parallel()
	folder, milter := t.TempDir(), freeAddress(t)
	mail, err := rig.StartMailServer(milter, "")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := mail.Stop(); err != nil {
			t.Error(err)
		}
	})
	service, err := rig.Start(binary, "demo", "--listen", "127.0.0.1:0", "--data", filepath.Join(folder, "data"), "--mail-milter", milter)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { service.Stop() })
	number := 0
	post := func(want bool) (id string) {
		t.Helper()
		number++
		id = fmt.Sprintf("one-%d@brackwater.example", number)
		raw := []byte("From: Maren Lind <maren.lind@brackwater.example>\r\nTo: robin@quay.example\r\nSubject: Berth\r\nMessage-ID: <" + id +
			">\r\nContent-Type: text/html\r\n\r\n<p>Nine is fine.</p>\r\n")
		if err := send(mail.Address(rig.Milter), "maren.lind@brackwater.example",
			[]string{fmt.Sprintf("robin-%d@quay.example", number)}, raw); err != nil {
			t.Fatal(err)
		}
		box := fmt.Sprintf("robin-%d@quay.example", number)
		var got [][]byte
		for until := time.Now().Add(30 * time.Second); len(got) == 0 && time.Now().Before(until); time.Sleep(100 * time.Millisecond) {
			if got, err = mail.Mailbox(box, "From"); err != nil {
				t.Fatal(err)
			}
		}
		if len(got) != 1 {
			t.Fatalf("%s: %d messages\n%s", id, len(got), mail.Log())
		}
		if stamped := bytes.Contains(got[0], []byte("Head of Timetables")); stamped != want {
			t.Errorf("%s: stamped %v, wanted %v", id, stamped, want)
		}
		return id
	}
	find := func(id, want string) {
		t.Helper()
		text := ""
		for until := time.Now().Add(40 * time.Second); time.Now().Before(until); time.Sleep(300 * time.Millisecond) {
			text = string(toolRun(t, folder, nil, binary, "message", "find", id, "--server", service.Address))
			if strings.Contains(text, want) {
				return
			}
		}
		t.Errorf("%s: no record with %q:\n%s", id, want, text)
	}
	find(post(false), "No release with mail rules is out")
	releaseRules(t, service.Address, "rules: [{name: everybody, then: {template: harbour}}]")
	time.Sleep(3 * time.Second)
	find(post(true), "By the rule everybody")

	database, err := sql.Open("sqlite", filepath.Join(folder, "data", "missivum.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer database.Close()
	locked, err := database.Conn(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if _, err := locked.ExecContext(t.Context(), "BEGIN EXCLUSIVE"); err != nil {
		t.Fatal(err)
	}
	var ids []string
	for range 20 {
		ids = append(ids, post(true))
	}
	time.Sleep(12 * time.Second) // longer than the service waits for the database
	ids = append(ids, post(true))
	if _, err := locked.ExecContext(t.Context(), "ROLLBACK"); err != nil {
		t.Fatal(err)
	}
	for _, id := range []string{ids[0], ids[len(ids)-1]} {
		find(id, "By the rule everybody")
	}
	toolRun(t, folder, nil, binary, "rule", "pause", "--says", "pictures do not load", "--server", service.Address)
	time.Sleep(3 * time.Second)
	find(post(false), "pictures do not load")
	toolRun(t, folder, nil, binary, "rule", "resume", "--server", service.Address)
	time.Sleep(3 * time.Second)
	post(true)
	gateways := string(toolRun(t, folder, nil, binary, "message", "gateways", "--server", service.Address))
	if !strings.Contains(gateways, milter) {
		t.Errorf("the gateway is not listed:\n%s", gateways)
	}
}

// TestThroughputBesideAnEmptyFilter sends messages through Postfix with a gateway that has no rules and with one that stamps two of
// three, by turns, and prints how the rates compare. It measures and asserts nothing.
func TestThroughputBesideAnEmptyFilter(t *testing.T) {
	if rig.Soak(0, 1) == 0 {
		t.Skip("a measurement, for make soak")
	}
	milter := freeAddress(t)
	server, err := rig.StartMailServer(milter, "")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := server.Stop(); err != nil {
			t.Error(err)
		}
	})
	const amount = 1_200
	for kind, one := range map[string]func(string, int) []byte{"short": shortMessage, "mixed": mixedMessage} {
		took := map[string]time.Duration{}
		for round := range 3 {
			for name, rules := range map[string]string{"empty": "rules: []", "stamping": everybodysRule} {
				g := startGateway(t, milter, freeAddress(t), "127.0.0.1:1", rules)
				way := fmt.Sprintf("%s-%s-%d", kind, name, round)
				began := time.Now()
				sendMany(t, server, rig.Milter, way, amount, one, func(<-chan struct{}) {})
				took[name] += time.Since(began)
				g.stop()
				waitForAll(t, server, way)
			}
		}
		t.Logf("3 times %d %s messages: %v with an empty filter, %v with one that stamps; rate %.2f of the empty one", amount, kind,
			took["empty"], took["stamping"], took["empty"].Seconds()/took["stamping"].Seconds())
	}
}

// TestManyMessages sends messages to a gateway that stamps, by eight clients, as a milter and as a relay, and holds that its memory does
// not grow with their number. It prints how long each took at the client: the middle and the slowest of a hundred.
func TestManyMessages(t *testing.T) {
	t.Parallel()
	amount := rig.Soak(1_000, 100_000)
	address, relay := freeAddress(t), freeAddress(t)
	g := startGateway(t, address, relay, nextServer(t), everybodysRule)
	for way, client := range map[string]func() (func(i int) error, error){
		"milter": func() (func(int) error, error) { return milterClient(address) },
		"relay":  func() (func(int) error, error) { return relayClient(relay) },
	} {
		var mutex sync.Mutex
		var took []float64 // milliseconds
		var memory []int   // kB
		var group errgroup.Group
		next := make(chan int)
		for range 8 {
			group.Go(func() error {
				one, err := client()
				for i := range next {
					if err != nil {
						continue
					}
					began := time.Now()
					err = one(i)
					mutex.Lock()
					took = append(took, time.Since(began).Seconds()*1000)
					mutex.Unlock()
				}
				return err
			})
		}
		began := time.Now()
		for i := range amount {
			next <- i
			if i%(amount/10) == amount/10-1 {
				memory = append(memory, memoryOf(t, g.command.Process.Pid))
			}
		}
		close(next)
		if err := group.Wait(); err != nil {
			t.Fatalf("%s: %v\n%s", way, err, g.log)
		}
		slices.Sort(took)
		t.Logf("%s: %d messages, %.0f a second; half within %.1f ms, 99 of 100 within %.1f ms; memory in tenths: %v kB", way, amount,
			float64(amount)/time.Since(began).Seconds(), took[len(took)/2], took[len(took)*99/100], memory)
		if first, last := slices.Max(memory[:5]), slices.Max(memory[5:]); last > first*5/4+20_000 {
			t.Errorf("%s: the memory grows with the messages: %d kB at most in the first half, %d in the second", way, first, last)
		}
	}
}

// memoryOf is the resident memory of a process, in kB.
func memoryOf(t *testing.T, pid int) int {
	t.Helper()
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		t.Fatal(err)
	}
	_, after, _ := strings.Cut(string(text), "VmRSS:")
	n, err := strconv.Atoi(strings.Fields(after)[0])
	if err != nil {
		t.Fatal(err)
	}
	return n
}

// relayClient sends messages over one connection.
func relayClient(address string) (func(i int) error, error) {
	c, err := smtp.Dial(address)
	if err != nil {
		return nil, err
	}
	return func(i int) error {
		return errors.Join(c.SendMail("maren.lind@brackwater.example", []string{"runa.holt@quay.example"},
			bytes.NewReader(mixedMessage("many", i))))
	}, nil
}

// milterClient asks a milter as a mail server does, over one connection, and holds that what is to be stamped is.
func milterClient(address string) (func(i int) error, error) {
	s, err := milter.NewClient("tcp", address, milter.WithActions(milter.AllClientSupportedActionMasks)).Session(milter.NewMacroBag())
	if err != nil {
		return nil, err
	}
	if _, err := s.Conn("localhost", milter.FamilyInet, 25, "127.0.0.1"); err != nil {
		return nil, err
	}
	if _, err := s.Helo("localhost"); err != nil {
		return nil, err
	}
	return func(i int) error {
		head, body, _ := bytes.Cut(mixedMessage("many", i), []byte("\r\n\r\n"))
		_, err1 := s.Mail("maren.lind@brackwater.example", "")
		_, err2 := s.Rcpt("runa.holt@quay.example", "")
		_, err3 := s.DataStart()
		var err4 error
		for line := range strings.SplitSeq(string(head), "\r\n") {
			name, value, _ := strings.Cut(line, ":")
			_, err := s.HeaderField(name, strings.TrimPrefix(value, " "), nil)
			err4 = errors.Join(err4, err)
		}
		_, err5 := s.HeaderEnd()
		changes, _, err6 := s.BodyReadFrom(bytes.NewReader(body))
		if err := errors.Join(err1, err2, err3, err4, err5, err6); err != nil {
			return err
		}
		if stamped := len(changes) > 0; stamped != (i%4 != 3) {
			return fmt.Errorf("message %d: stamped %v", i, stamped)
		}
		return nil // behind the end of a message the next one begins
	}, nil
}
