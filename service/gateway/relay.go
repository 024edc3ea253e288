package gateway

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"time"

	"github.com/emersion/go-smtp"

	"missivum/core/message"
	"missivum/core/rule"
)

// TLS is how connections are encrypted.
type TLS struct {
	Server *tls.Config // of the relay; nil for none
	Next   *tls.Config // towards the next server; nil for none
}

// Timeouts towards the next server.
const (
	dialTimeout   = 30 * time.Second
	replyTimeout  = 5 * time.Minute  // RFC 5321, 4.5.3.2
	acceptTimeout = 10 * time.Minute // after the final dot
)

// runRelay serves SMTP (RFC 5321).
func (g *Gateway) runRelay(ctx context.Context, l net.Listener) error {
	open := &sessions{list: map[*relayed]*smtp.Conn{}}
	server := smtp.NewServer(smtp.BackendFunc(func(c *smtp.Conn) (smtp.Session, error) {
		r := &relayed{gateway: g, client: c.Hostname(), open: open, conn: c}
		open.add(r, c)
		return r, nil
	}))
	server.Domain = g.config.Name
	server.MaxMessageBytes = int64(g.config.MaxSize)
	server.MaxRecipients = maxRecipients
	server.MaxLineLength = 1 << 20
	server.EnableSMTPUTF8 = true
	server.EnableDSN = true
	server.ReadTimeout, server.WriteTimeout = idle, idle
	server.TLSConfig = g.config.TLS.Server
	server.ErrorLog = quiet{g}
	server.AllowInsecureAuth = secret(l)
	return until(ctx, func() error { return server.Serve(listening{l}) }, func(stop context.Context) error {
		l.Close()
		open.end(stop)
		return server.Close()
	})
}

// sessions are those that are open.
type sessions struct {
	mutex  sync.Mutex
	list   map[*relayed]*smtp.Conn
	ending bool
}

func (s *sessions) add(r *relayed, c *smtp.Conn) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	s.list[r] = c
}

func (s *sessions) remove(r *relayed) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	delete(s.list, r)
}

// begin notes that a message is on its way in a session; false where no more may begin.
func (s *sessions) begin(r *relayed) bool {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	r.busy = !s.ending
	return r.busy
}

// done notes that none is.
func (s *sessions) done(r *relayed) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	r.busy = false
}

// end lets no more messages begin, and closes each session as soon as its message was answered.
func (s *sessions) end(ctx context.Context) {
	for ctx.Err() == nil {
		var idle []*smtp.Conn
		s.mutex.Lock()
		s.ending = true
		busy := false
		for r, c := range s.list {
			if busy = busy || r.busy; !r.busy {
				idle = append(idle, c)
				delete(s.list, r)
			}
		}
		s.mutex.Unlock()
		if !busy && len(idle) == 0 {
			return
		}
		time.Sleep(50 * time.Millisecond) // until the last answer is written
		for _, c := range idle {
			c.Conn().Close() // the session ends itself
		}
	}
}

// quiet writes the SMTP library's messages to the log.
type quiet struct{ g *Gateway }

func (q quiet) Printf(format string, v ...any) { q.g.config.Log.Warn(fmt.Sprintf(format, v...)) }
func (q quiet) Println(v ...any)               { q.g.config.Log.Warn(fmt.Sprint(v...)) }

// relayed is a client's session: what it says is said to the next server at once, so that the client hears that one's answers.
type relayed struct {
	gateway    *Gateway
	client     string
	conn       *smtp.Conn
	signedIn   bool // with a key
	open       *sessions
	busy       bool // a message is on its way; of the sessions' mutex
	next       *smtp.Client
	nextConn   net.Conn // of next, where it is not encrypted
	sender     string
	options    smtp.MailOptions
	recipients []recipient
	answered   []string // keys of what the next server took, to be forgotten when the client goes on
}

type recipient struct {
	address string
	options smtp.RcptOptions
}

// heard forgets what the client has heard of.
func (r *relayed) heard() {
	if len(r.answered) > 0 {
		r.gateway.config.Ledger.Forget(r.answered, r.gateway.config.Now())
		r.answered = nil
	}
}

// Reset ends the message. The SMTP library also calls it behind a message, before the client has read the answer, so that it
// does not mean that the client has heard.
func (r *relayed) Reset() {
	defer r.open.done(r)
	r.sender, r.options, r.recipients = "", smtp.MailOptions{}, nil
	if r.next != nil && r.next.Reset() != nil {
		r.drop()
	}
}

// Logout ends the session; its last answer was given.
func (r *relayed) Logout() error {
	r.heard()
	r.open.remove(r)
	if r.next != nil {
		r.next.Quit()
	}
	r.drop()
	return nil
}

// drop closes the connection to the next server.
func (r *relayed) drop() {
	if r.next != nil {
		r.next.Close()
		r.next, r.nextConn = nil, nil
	}
}

// dial connects to the next server.
func (r *relayed) dial() error {
	if r.next != nil {
		if r.next.Noop() == nil {
			return nil
		}
		r.drop()
	}
	conn, err := (&net.Dialer{Timeout: dialTimeout}).Dial("tcp", r.gateway.config.Next)
	if err != nil {
		return unavailable(err)
	}
	var c *smtp.Client
	if t := r.gateway.config.TLS.Next; t != nil {
		c, err = smtp.NewClientStartTLS(conn, t)
		if err != nil {
			conn.Close()
			return unavailable(err)
		}
	} else {
		c = smtp.NewClient(conn)
	}
	c.CommandTimeout, c.SubmissionTimeout = replyTimeout, acceptTimeout
	if err := c.Hello(r.gateway.config.Name); err != nil {
		c.Close()
		return answerOf(err)
	}
	if r.next = c; r.gateway.config.TLS.Next == nil {
		r.nextConn = conn
	}
	return nil
}

// unavailable is the answer while the next server cannot be reached.
func unavailable(err error) error {
	return &smtp.SMTPError{Code: 451, EnhancedCode: smtp.EnhancedCode{4, 4, 1},
		Message: oneLine("The next server cannot be reached: " + err.Error())}
}

// answerOf is the next server's answer; a broken connection is a temporary one.
func answerOf(err error) error {
	var answer *smtp.SMTPError
	if errors.As(err, &answer) {
		return answer
	}
	return unavailable(err)
}

// Mail begins a message.
func (r *relayed) Mail(from string, options *smtp.MailOptions) error {
	r.heard()
	if len(r.gateway.config.Keys) > 0 && !r.signedIn {
		return &smtp.SMTPError{Code: 530, EnhancedCode: smtp.EnhancedCode{5, 7, 0}, Message: "Authentication required"}
	}
	if !r.open.begin(r) {
		return &smtp.SMTPError{Code: 421, EnhancedCode: smtp.EnhancedCode{4, 3, 2}, Message: "The gateway is about to end"}
	}
	if err := r.dial(); err != nil {
		r.open.done(r)
		return err
	}
	r.sender, r.recipients, r.options = from, nil, smtp.MailOptions{}
	if options != nil {
		r.options = *options
	}
	r.options.Size, r.options.Auth = 0, nil // what is stamped has another size
	if err := r.can(); err != nil {
		return err
	}
	if err := r.forward(); err != nil {
		return r.failed(err)
	}
	if err := r.next.Mail(from, &r.options); err != nil {
		return r.failed(err)
	}
	return nil
}

// can refuses what the next server cannot take, and leaves out what may be left out.
func (r *relayed) can() error {
	if ok, _ := r.next.Extension("SMTPUTF8"); r.options.UTF8 && !ok {
		return &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 6, 7},
			Message: "The next server does not take addresses beyond ASCII"}
	}
	if ok, _ := r.next.Extension("8BITMIME"); !ok {
		r.options.Body = ""
	}
	if ok, _ := r.next.Extension("DSN"); !ok {
		r.options.Return, r.options.EnvelopeID = "", ""
	}
	return nil
}

// failed is the next server's answer; after a broken connection a new one is made for the next message.
func (r *relayed) failed(err error) error {
	var answer *smtp.SMTPError
	if !errors.As(err, &answer) {
		r.drop()
	}
	return answerOf(err)
}

// Rcpt takes a recipient, if the next server takes it.
func (r *relayed) Rcpt(to string, options *smtp.RcptOptions) error {
	if r.next == nil {
		return unavailable(errors.New("the connection was lost"))
	}
	one := recipient{address: to}
	if options != nil {
		one.options = *options
	}
	if ok, _ := r.next.Extension("DSN"); !ok {
		one.options = smtp.RcptOptions{}
	}
	if err := r.next.Rcpt(to, &one.options); err != nil {
		return r.failed(err)
	}
	r.recipients = append(r.recipients, one)
	return nil
}

// Data takes the message, asks the rules and gives it on. It is answered for only after the next server has taken it.
func (r *relayed) Data(body io.Reader) error {
	raw, err := io.ReadAll(body)
	if err != nil {
		return err
	}
	if r.next == nil {
		return unavailable(errors.New("the connection was lost"))
	}
	if received(raw) > maxReceived {
		r.next.Reset()
		return &smtp.SMTPError{Code: 554, EnhancedCode: smtp.EnhancedCode{5, 4, 6}, Message: "The message goes round in a circle"}
	}
	m := message.Read(raw)
	groups := r.groups(m)
	if len(groups) == 1 {
		return r.one(m, groups[0])
	}
	return r.split(m, groups)
}

// group is recipients with one outcome.
type group struct {
	judged
	recipients []recipient
}

// groups judges the message: once for all recipients, or for each, whose outcomes are then put together where they are alike.
func (r *relayed) groups(m *message.Message) []group {
	judge := func(list []recipient) group {
		mail := rule.Mail{Message: m, Sender: r.sender}
		for _, one := range list {
			mail.Recipients = append(mail.Recipients, one.address)
		}
		return group{r.gateway.judge("smtp", "", mail), list}
	}
	mail := rule.Mail{Message: m, Sender: r.sender}
	if len(r.recipients) == 1 || !r.gateway.rules.Load().Engine.Each(mail) {
		return []group{judge(r.recipients)}
	}
	var list []group
	for _, one := range r.recipients {
		g := judge([]recipient{one})
		alike := false
		for i := range list {
			if list[i].Trace.Outcome == g.Trace.Outcome && bytes.Equal(list[i].Raw, g.Raw) {
				list[i].recipients = append(list[i].recipients, one)
				list[i].record.Recipients = append(list[i].record.Recipients, one.address)
				alike = true
				break
			}
		}
		if !alike {
			list = append(list, g)
		}
	}
	return list
}

// one gives on a message with one outcome, in the transaction that is open.
func (r *relayed) one(m *message.Message, g group) error {
	key := keyOf(m, r.sender, g.recipients)
	if r.gateway.config.Ledger.Taken(key) {
		r.next.Reset()
		r.answered = append(r.answered, key)
		return nil // the next server took it before the connection was lost
	}
	r.mayBeTwice(&g, key)
	if answer := refusal(&g.Trace); answer != nil {
		r.next.Reset()
		r.gateway.record(g.record)
		return answer
	}
	if err := r.send(g.Raw, key); err != nil {
		return err
	}
	r.gateway.record(g.record)
	return nil
}

// mayBeTwice says so in the record of a message whose first sending ended in doubt.
func (r *relayed) mayBeTwice(g *group, key string) {
	if r.gateway.config.Ledger.InDoubt(key) {
		g.record.Says += " It may arrive twice: the gateway was ended before it heard whether the next server had taken it."
	}
}

// refusal is the answer to a message that does not go on; nil for one that does.
func refusal(t *rule.Trace) error {
	switch t.Outcome {
	case rule.Refused:
		return &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 7, 1}, Message: oneLine(t.Says)}
	case rule.Held:
		return &smtp.SMTPError{Code: 451, EnhancedCode: smtp.EnhancedCode{4, 3, 0}, Message: oneLine(t.Says)}
	}
	return nil
}

// send sends the data of the transaction that is open, and notes that the next server took it.
func (r *relayed) send(raw []byte, key string) error {
	w, err := r.next.Data()
	if err != nil {
		return r.failed(err)
	}
	if _, err := w.Write(append(r.received(), raw...)); err != nil {
		r.drop() // without the final dot the next server forgets it
		return unavailable(err)
	}
	r.gateway.config.Ledger.Doubt(key, r.gateway.config.Now())
	if err := w.Close(); err != nil {
		var answer *smtp.SMTPError
		if errors.As(err, &answer) { // it was heard: the next server did not take it
			r.gateway.config.Ledger.Forget([]string{key}, r.gateway.config.Now())
		}
		return r.failed(err)
	}
	r.gateway.config.Ledger.Take(key, r.gateway.config.Now())
	r.answered = append(r.answered, key)
	return nil
}

// received is the field that says the message passed here (RFC 5321, 4.4).
func (r *relayed) received() []byte {
	with := "ESMTP"
	if r.options.UTF8 {
		with = "UTF8SMTP" // RFC 6531, 4.3
	}
	return []byte("Received: from " + oneLine(r.client) + " by " + r.gateway.config.Name + " with " + with + ";\r\n\t" +
		r.gateway.config.Now().Format(time.RFC1123Z) + "\r\n")
}

// split gives a message on in several transactions, one for each outcome. Those that the next server has taken are remembered, so
// that a client that has to try again does not send them twice. If an outcome refuses, the whole is refused before anything goes on.
func (r *relayed) split(m *message.Message, groups []group) error {
	if err := r.next.Reset(); err != nil {
		return r.failed(err)
	}
	for _, g := range groups {
		if answer := refusal(&g.Trace); answer != nil {
			r.gateway.record(g.record)
			return answer
		}
	}
	done := r.answered
	r.answered = nil // as long as the client hears of a fault, nothing is forgotten
	for _, g := range groups {
		key := keyOf(m, r.sender, g.recipients)
		if r.gateway.config.Ledger.Taken(key) {
			done = append(done, key)
			continue
		}
		r.mayBeTwice(&g, key)
		if err := r.next.Mail(r.sender, &r.options); err != nil {
			return r.failed(err)
		}
		for _, one := range g.recipients {
			if err := r.next.Rcpt(one.address, &one.options); err != nil {
				return r.failed(err)
			}
		}
		if err := r.send(g.Raw, key); err != nil {
			r.answered = nil
			return err
		}
		done = append(done, key)
		r.answered = nil
		r.gateway.record(g.record)
	}
	r.answered = done
	return nil
}

// maxReceived is after how many Received fields a message goes round in a circle (RFC 5321, 6.3).
const maxReceived = 100

// received counts the Received fields.
func received(raw []byte) int { return len(message.Read(raw).Root.Header.Values("Received")) }
