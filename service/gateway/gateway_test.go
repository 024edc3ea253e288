package gateway

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/textproto"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/d--j/go-milter"
	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"

	"missivum/core/message"
	"missivum/core/rule"
	"missivum/demo"
)

var day = time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)

// rulesOf compiles rules for the demo organisation.
func rulesOf(t testing.TB, text string) Rules {
	t.Helper()
	file, err := rule.Parse([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	b := rule.Single(day, file, nil)
	set := &b.Sets[0]
	if b.People, err = demo.Directory(); err != nil {
		t.Fatal(err)
	}
	if set.Templates, err = demo.Templates(); err != nil {
		t.Fatal(err)
	}
	if set.File.Audiences, err = demo.Audiences(); err != nil {
		t.Fatal(err)
	}
	if set.File.Assignments, err = demo.Assignments(); err != nil {
		t.Fatal(err)
	}
	e, err := b.Engine(day, "test")
	if err != nil {
		t.Fatal(err)
	}
	return Rules{Engine: e, Bundle: "test"}
}

// taken is what a server behind the relay took.
type taken struct {
	to  []string
	raw string
}

// sink is a server behind the relay.
type sink struct {
	mutex  sync.Mutex
	list   []taken
	refuse map[string]bool // recipients
	broken int             // how many messages are answered with a temporary fault
	served []string        // whom the relay says it serves (XFORWARD)
}

type sunk struct {
	*sink
	conn *smtp.Conn
	to   []string
}

func (s *sunk) Mail(string, *smtp.MailOptions) error {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	s.to = nil
	s.served = append(s.served, s.conn.Conn().(*talk).takeForwards()...)
	return nil
}

func (s *sunk) Reset()        {}
func (s *sunk) Logout() error { return nil }
func (s *sunk) Rcpt(to string, _ *smtp.RcptOptions) error {
	if s.refuse[to] {
		return &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 1, 1}, Message: "nobody of that name"}
	}
	s.to = append(s.to, to)
	return nil
}

func (s *sunk) Data(r io.Reader) error {
	raw, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	s.mutex.Lock()
	defer s.mutex.Unlock()
	if s.broken > 0 {
		s.broken--
		return &smtp.SMTPError{Code: 452, EnhancedCode: smtp.EnhancedCode{4, 3, 1}, Message: "no room"}
	}
	s.list = append(s.list, taken{s.to, string(raw)})
	return nil
}

// all is what was taken so far.
func (s *sink) all() []taken {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	return slices.Clone(s.list)
}

// stand is a gateway between a client and a sink.
type stand struct {
	*Gateway
	sink    *sink
	mutex   sync.Mutex
	records []rule.Record
}

// newStand starts one.
func newStand(t *testing.T, rules string, change func(*Config)) *stand {
	t.Helper()
	s := &stand{sink: &sink{refuse: map[string]bool{}}}
	server := smtp.NewServer(smtp.BackendFunc(func(c *smtp.Conn) (smtp.Session, error) { return &sunk{sink: s.sink, conn: c}, nil }))
	server.Domain, server.EnableSMTPUTF8 = "sink.example", true
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	go server.Serve(listening{l})
	config := Config{Milter: "127.0.0.1:0", SMTP: "127.0.0.1:0", Next: l.Addr().String(), Name: "gateway.example",
		Now: func() time.Time { return day },
		Log: slog.New(slog.NewTextHandler(io.Discard, nil)), Record: func(r rule.Record) {
			s.mutex.Lock()
			defer s.mutex.Unlock()
			s.records = append(s.records, r)
		}}
	if change != nil {
		change(&config)
	}
	if s.Gateway, err = New(config, rulesOf(t, rules)); err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- s.Run(ctx) }()
	t.Cleanup(func() {
		stop()
		if err := <-done; err != nil {
			t.Error(err)
		}
		server.Close()
	})
	return s
}

const maren = "From: maren.lind@brackwater.example\r\nMessage-ID: <1@brackwater.example>\r\nSubject: Berth 4\r\n"

// post sends a message through the relay.
func (s *stand) post(raw string, to ...string) error {
	c, err := smtp.Dial(s.Address("smtp"))
	if err != nil {
		return err
	}
	defer c.Close()
	return errors.Join(c.SendMail("maren.lind@brackwater.example", to, strings.NewReader(raw)), c.Quit())
}

// wants checks an answer's code.
func wants(t *testing.T, err error, code int) {
	t.Helper()
	var answer *smtp.SMTPError
	if !errors.As(err, &answer) || answer.Code != code {
		t.Errorf("%v, wanted %d", err, code)
	}
}

func TestRelay(t *testing.T) {
	s := newStand(t, "rules: [{name: one, when: {direction: outgoing}, then: {closed: refuse, notice: Send it open.}}]", nil)
	if err := s.post(maren+"\r\nHello\r\n.. two dots\r\n", "a@quay.example", "b@quay.example"); err != nil {
		t.Fatal(err)
	}
	got := s.sink.all()
	if len(got) != 1 || len(got[0].to) != 2 || !strings.Contains(got[0].raw, "Head of Timetables") ||
		!strings.Contains(got[0].raw, "\r\n.. two dots\r\n") {
		t.Fatalf("%+v", got)
	}
	if !strings.HasPrefix(got[0].raw, "Received: from ") || !strings.Contains(got[0].raw, "by gateway.example with ESMTP;") {
		t.Errorf("it does not say that it passed: %s", got[0].raw[:100])
	}
	signed := "Content-Type: multipart/signed; protocol=\"application/pgp-signature\"; " +
		"boundary=b\r\n\r\n--b\r\n\r\nx\r\n--b\r\n\r\ny\r\n--b--\r\n"
	err := s.post(maren+signed, "a@quay.example")
	if wants(t, err, 550); !strings.Contains(err.Error(), "Send it open.") {
		t.Errorf("the notice is missing: %v", err)
	}
	s.sink.refuse["x@quay.example"] = true
	wants(t, s.post(maren+"\r\nHello\r\n", "x@quay.example"), 550)
	s.sink.broken = 1
	wants(t, s.post(maren+"\r\nHello\r\n", "a@quay.example"), 452)
	if err := s.post(maren+"\r\nHello\r\n", "a@quay.example"); err != nil {
		t.Errorf("after a temporary fault: %v", err)
	}
	wants(t, s.post(strings.Repeat("Received: x\r\n", 101)+maren+"\r\nx\r\n", "a@quay.example"), 554)
	if n := len(s.sink.all()); n != 2 {
		t.Errorf("%d messages went on, wanted 2", n)
	}
	if len(s.records) != 3 || s.records[0].Outcome != rule.Stamped || s.records[1].Outcome != rule.Refused || s.records[0].Bundle != "test" {
		t.Errorf("records: %+v", s.records)
	}
}

func TestRelayHoldsAndFails(t *testing.T) {
	s := newStand(t, "rules: [{name: one, then: {failure: hold}}]", nil)
	wants(t, s.post(maren+"Content-Type: multipart/mixed\r\n\r\nx\r\n", "a@quay.example"), 451)
	away := newStand(t, "rules: []", func(c *Config) { c.Next = "127.0.0.1:1" })
	wants(t, away.post(maren+"\r\nx\r\n", "a@quay.example"), 451)
	small := newStand(t, "rules: []", func(c *Config) { c.MaxSize = 100 })
	wants(t, small.post(maren+"\r\n"+strings.Repeat("x\r\n", 100), "a@quay.example"), 552)
}

func TestRelaySplitsByRecipient(t *testing.T) {
	s := newStand(t, "recipients: each\nrules: [{name: out, when: {recipients: {scope: outside}}}]", nil)
	if err := s.post(maren+"\r\nHello\r\n", "a@quay.example", "pelle.kranvik@brackwater.example", "b@quay.example"); err != nil {
		t.Fatal(err)
	}
	got := s.sink.all()
	if len(got) != 2 {
		t.Fatalf("%d messages, wanted 2: %+v", len(got), got)
	}
	for _, m := range got {
		inside := slices.Contains(m.to, "pelle.kranvik@brackwater.example")
		if inside == strings.Contains(m.raw, "Head of Timetables") || inside != (len(m.to) == 1) {
			t.Errorf("to %v:\n%s", m.to, m.raw)
		}
	}
	s.sink.broken = 1
	text := strings.Replace(maren, "<1@", "<2@", 1) + "\r\nHello\r\n"
	wants(t, s.post(text, "a@quay.example", "pelle.kranvik@brackwater.example"), 452)
	if err := s.post(text, "a@quay.example", "pelle.kranvik@brackwater.example"); err != nil {
		t.Fatal(err)
	}
	if n := len(s.sink.all()); n != 4 {
		t.Errorf("%d messages went on, wanted 4: none twice", n)
	}
}

func TestLedgerOutlivesTheProgram(t *testing.T) {
	file := filepath.Join(t.TempDir(), "ledger")
	l, err := OpenLedger(file, day)
	if err != nil {
		t.Fatal(err)
	}
	key := func(c string) string { return strings.Repeat(c, 64) }
	l.Doubt(key("a"), day)
	l.Take(key("a"), day)
	l.Take(key("b"), day)
	l.Forget([]string{key("b")}, day)
	l.Doubt(key("c"), day)
	l.Take(key("d"), day.Add(-kept-time.Hour))
	if err := l.Close(); err != nil {
		t.Fatal(err)
	}
	again, err := OpenLedger(file, day)
	if err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string][2]bool{"a": {true, false}, "b": {false, false}, "c": {false, true}, "d": {false, false}} {
		if got := [2]bool{again.Taken(key(name)), again.InDoubt(key(name))}; got != want {
			t.Errorf("%s: taken and in doubt %v, wanted %v", name, got, want)
		}
	}
}

func TestOnlyAllowedClients(t *testing.T) {
	s := newStand(t, "rules: []", func(c *Config) { c.Allow = []string{"192.0.2.0/24"} })
	if err := s.post(maren+"\r\nx\r\n", "a@quay.example"); err == nil {
		t.Error("a client that is not allowed was served")
	}
	for _, wrong := range []Config{{}, {SMTP: "127.0.0.1:0"}, {Milter: "127.0.0.1:0", Allow: []string{"somewhere"}}} {
		if _, err := New(wrong, Rules{}); err == nil {
			t.Errorf("%+v was taken", wrong)
		}
	}
}

// filter sends a message through the milter as a mail server does, and gives what it should change.
func (s *stand) filter(t *testing.T, protocol milter.OptProtocol, header [][2]string,
	body string) (actions []milter.ModifyAction, last *milter.Action) {
	t.Helper()
	c := milter.NewClient("tcp", s.Address("milter"), milter.WithActions(milter.AllClientSupportedActionMasks),
		milter.WithProtocols(protocol))
	session, err := c.Session(milter.NewMacroBag())
	if err != nil {
		t.Fatal(err)
	}
	defer session.Close()
	steps := []func() (*milter.Action, error){
		func() (*milter.Action, error) { return session.Conn("client", milter.FamilyInet, 25, "127.0.0.1") },
		func() (*milter.Action, error) { return session.Helo("client") },
		func() (*milter.Action, error) { return session.Mail("maren.lind@brackwater.example", "") },
		func() (*milter.Action, error) { return session.Rcpt("runa.holt@quay.example", "") },
		session.DataStart,
	}
	for _, h := range header {
		steps = append(steps, func() (*milter.Action, error) { return session.HeaderField(h[0], h[1], nil) })
	}
	steps = append(steps, session.HeaderEnd)
	for _, step := range steps {
		if _, err := step(); err != nil {
			t.Fatal(err)
		}
	}
	actions, last, err = session.BodyReadFrom(strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	return actions, last
}

func TestMilter(t *testing.T) {
	s := newStand(t, "rules: [{name: one, then: {closed: refuse, pictures: carried}}]", nil)
	header := [][2]string{{"From", " maren.lind@brackwater.example"}, {"X-Odd", "  two  spaces"},
		{"Content-Type", " text/html; charset=utf-8"}, {"MIME-Version", " 1.0"}}
	for _, protocol := range []milter.OptProtocol{modern, old} {
		filtered(t, s, protocol, header)
	}
	signed := [][2]string{header[0], {"Content-Type", ` multipart/signed; protocol="application/pgp-signature"; boundary=b`}}
	actions, last := s.filter(t, modern, signed, "--b\r\n\r\nx\r\n--b\r\n\r\ny\r\n--b--\r\n")
	if last.Type != milter.ActionRejectWithCode || last.SMTPCode != 550 || len(actions) != 0 {
		t.Errorf("a closed message: %+v, %d changes", last, len(actions))
	}
}

// What mail servers offer: Postfix, and one of long ago.
const (
	modern = milter.OptHeaderLeadingSpace | milter.OptSkip | milter.OptNoReplies
	old    = milter.OptNoConnect | milter.OptNoHelo
)

// filtered sends a page and checks what the mail server should change.
func filtered(t *testing.T, s *stand, protocol milter.OptProtocol, header [][2]string) {
	t.Helper()
	if protocol == old {
		header = slices.Clone(header)
		for i := range header {
			header[i][1] = strings.TrimPrefix(header[i][1], " ")
		}
	}
	actions, last := s.filter(t, protocol, header, "<p>Hello</p>\r\n")
	if last.Type != milter.ActionAccept {
		t.Errorf("the answer is %v", last.Type)
	}
	var body bytes.Buffer
	var said []string
	for _, a := range actions {
		switch a.Type {
		case milter.ActionReplaceBody:
			body.Write(a.Body)
		default:
			said = append(said, a.HeaderName)
			if strings.HasPrefix(a.HeaderValue, " ") != (protocol == modern) && a.HeaderValue != "" {
				t.Errorf("the value %q of %s", a.HeaderValue, a.HeaderName)
			}
		}
	}
	if !slices.Contains(said, "Content-Type") || !slices.Contains(said, message.StampField) ||
		slices.Contains(said, "X-Odd") || slices.Contains(said, "From") {
		t.Errorf("fields that change: %v", said)
	}
	if !bytes.Contains(body.Bytes(), []byte("Content-ID: <")) || !bytes.Contains(body.Bytes(), []byte("<p>Hello</p>")) {
		t.Errorf("the body is\n%s", body.Bytes())
	}
}

func TestMilterLetsLargeMessagesPass(t *testing.T) {
	s := newStand(t, "rules: [{name: one}]", func(c *Config) { c.MaxSize = 1000 })
	actions, last := s.filter(t, modern, [][2]string{{"From", " maren.lind@brackwater.example"}}, strings.Repeat("0123456789\r\n", 20_000))
	if last.Type != milter.ActionAccept || len(actions) != 0 || len(s.records) != 1 || !s.records[0].Failed {
		t.Errorf("%+v, %d changes, records %+v", last, len(actions), s.records)
	}
}

// TestXforward talks to the relay as Postfix does: whom it serves is said on to the next server, once for each message, also in a
// pipeline; what looks like the command in a message stays there.
func TestXforward(t *testing.T) {
	s := newStand(t, "rules: []", nil)
	c, err := net.Dial("tcp", s.Address("smtp"))
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	c.SetDeadline(time.Now().Add(20 * time.Second))
	r := textproto.NewReader(bufio.NewReader(c))
	say := func(text string, codes ...int) (last string) {
		t.Helper()
		if _, err := io.WriteString(c, text); err != nil {
			t.Fatal(err)
		}
		for _, code := range codes {
			if _, last, err = r.ReadResponse(code); err != nil {
				t.Fatalf("%q: %v", text, err)
			}
		}
		return last
	}
	say("", 220)
	if said := say("EHLO mx.example\r\n", 250); !strings.Contains(said, "\nXFORWARD NAME ADDR") {
		t.Errorf("offered: %s", said)
	}
	say("XFORWARD NAME=desk.example ADDR=192.0.2.7\r\nXFORWARD PROTO=ESMTP HELO=desk\r\nMAIL FROM:<a@brackwater.example>\r\n"+
		"RCPT TO:<b@quay.example>\r\nDATA\r\n", 250, 250, 250, 250, 354)
	body := "Subject: x\r\n\r\nXFORWARD NAME=no\r\nDATA\r\n..\r\nend\r\n"
	say(body+".\r\n", 250)
	say("XFORWARD WRONG=1\r\n", 501)
	say("XFORWARD ADDR=192.0.2.8\r\nMAIL FROM:<a@brackwater.example>\r\nRCPT TO:<b@quay.example>\r\n", 250, 250, 250)
	second := "Subject: y\r\n\r\nXFORWARD NAME=no\r\n"
	say(fmt.Sprintf("BDAT %d LAST\r\n%sXFORWARD ADDR=192.0.2.9\r\nMAIL FROM:<a@brackwater.example>\r\n", len(second), second), 250, 250, 250)
	say("QUIT\r\n", 221)
	s.sink.mutex.Lock()
	defer s.sink.mutex.Unlock()
	if got := strings.Join(s.sink.served, "|"); got != "NAME=desk.example ADDR=192.0.2.7|PROTO=ESMTP HELO=desk|ADDR=192.0.2.8|ADDR=192.0.2.9" {
		t.Errorf("said on: %s", got)
	}
	if len(s.sink.list) != 2 || !strings.HasSuffix(s.sink.list[0].raw, strings.Replace(body, "..", ".", 1)) ||
		!strings.HasSuffix(s.sink.list[1].raw, second) {
		t.Errorf("taken: %q", s.sink.list)
	}
}

// TestClientKeys: where keys are set, only a client that signs in sends.
func TestClientKeys(t *testing.T) {
	keys, err := ReadKeys("# ours\n\nmx1:a long enough key\n")
	if err != nil {
		t.Fatal(err)
	}
	s := newStand(t, "rules: []", func(c *Config) { c.Keys = keys })
	wants(t, s.post(maren+"\r\nHello\r\n", "a@quay.example"), 530)
	for key, code := range map[string]int{"another key, as long": 535, "a long enough key": 0} {
		c, err := smtp.Dial(s.Address("smtp"))
		if err != nil {
			t.Fatal(err)
		}
		err = c.Auth(sasl.NewPlainClient("", "mx1", key))
		if code > 0 {
			wants(t, err, code)
		} else if err := errors.Join(err, c.SendMail("maren.lind@brackwater.example", []string{"a@quay.example"},
			strings.NewReader(maren+"\r\nHello\r\n"))); err != nil {
			t.Errorf("the right key: %v", err)
		}
		c.Close()
	}
	if n := len(s.sink.all()); n != 1 {
		t.Errorf("%d messages were taken", n)
	}
	for _, wrong := range []string{"", "# none", "mx1", "mx1:short", ":a long enough key"} {
		if _, err := ReadKeys(wrong); err == nil {
			t.Errorf("%q was read", wrong)
		}
	}
}

// FuzzTalk says anything to a connection, in pieces of any size: what the library gets is what was said, but for XFORWARD outside of
// messages, and nothing ends the program.
func FuzzTalk(f *testing.F) {
	f.Add([]byte("EHLO a\r\nXFORWARD NAME=x\r\nDATA\r\nXFORWARD\r\n.\r\n"), uint8(7))
	f.Add([]byte("BDAT 5\r\nXFORWSTARTTLS\r\nxx"), uint8(1))
	f.Fuzz(func(t *testing.T, said []byte, size uint8) {
		c := &talk{Conn: mute{}, in: bufio.NewReaderSize(bytes.NewReader(said), maxCommand)}
		var got []byte
		piece := make([]byte, int(size)+1)
		for {
			n, err := c.Read(piece)
			got = append(got, piece[:n]...)
			if c.last == "DATA" && n > 0 {
				c.Write([]byte("354 go on\r\n"))
			}
			if err != nil {
				break
			}
		}
		if !bytes.Contains(bytes.ToUpper(said), []byte("XFORWARD")) && !bytes.Equal(got, said) {
			t.Errorf("said %q, got %q", said, got)
		}
	})
}

// mute is a connection that takes all and says nothing.
type mute struct{ net.Conn }

func (mute) Write(p []byte) (int, error) { return len(p), nil }
