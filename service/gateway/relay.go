package gateway

import (
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
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
	server := smtp.NewServer(smtp.BackendFunc(func(c *smtp.Conn) (smtp.Session, error) { return &relayed{gateway: g, client: c.Hostname()}, nil }))
	server.Domain = g.config.Name
	server.MaxMessageBytes = int64(g.config.MaxSize)
	server.MaxRecipients = maxRecipients
	server.MaxLineLength = 1 << 20
	server.EnableSMTPUTF8 = true
	server.EnableDSN = true
	server.ReadTimeout, server.WriteTimeout = idle, idle
	server.TLSConfig = g.config.TLS.Server
	server.ErrorLog = quiet{g}
	done := make(chan error, 1)
	go func() { done <- server.Serve(l) }()
	select {
	case err := <-done:
		return err
	case <-ctx.Done():
		stop, cancel := context.WithTimeout(context.Background(), 30*time.Second)
		defer cancel()
		err := server.Shutdown(stop)
		if errors.Is(err, context.DeadlineExceeded) {
			err = server.Close()
		}
		return err
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
	next       *smtp.Client
	sender     string
	options    smtp.MailOptions
	recipients []recipient
}

type recipient struct {
	address string
	options smtp.RcptOptions
}

// Reset ends the message.
func (r *relayed) Reset() {
	r.sender, r.options, r.recipients = "", smtp.MailOptions{}, nil
	if r.next != nil && r.next.Reset() != nil {
		r.drop()
	}
}

// Logout ends the session.
func (r *relayed) Logout() error {
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
		r.next = nil
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
	r.next = c
	return nil
}

// unavailable is the answer while the next server cannot be reached.
func unavailable(err error) error {
	return &smtp.SMTPError{Code: 451, EnhancedCode: smtp.EnhancedCode{4, 4, 1}, Message: oneLine("The next server cannot be reached: " + err.Error())}
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
	if err := r.dial(); err != nil {
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
	if err := r.next.Mail(from, &r.options); err != nil {
		return r.failed(err)
	}
	return nil
}

// can refuses what the next server cannot take, and leaves out what may be left out.
func (r *relayed) can() error {
	if ok, _ := r.next.Extension("SMTPUTF8"); r.options.UTF8 && !ok {
		return &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 6, 7}, Message: "The next server does not take addresses beyond ASCII"}
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
	if hops(raw) > maxHops {
		r.next.Reset()
		return &smtp.SMTPError{Code: 554, EnhancedCode: smtp.EnhancedCode{5, 4, 6}, Message: "Too many hops: the message goes round in a circle"}
	}
	groups := r.groups(raw)
	if len(groups) == 1 {
		return r.one(groups[0])
	}
	return r.split(raw, groups)
}

// group is recipients with one outcome.
type group struct {
	judged
	recipients []recipient
}

// groups judges the message: once for all recipients, or for each, whose outcomes are then put together where they are alike.
func (r *relayed) groups(raw []byte) []group {
	m := message.Read(raw)
	judge := func(list []recipient) group {
		mail := rule.Mail{Message: m, Sender: r.sender}
		for _, one := range list {
			mail.Recipients = append(mail.Recipients, one.address)
		}
		return group{r.gateway.judge("smtp", "", mail), list}
	}
	if !r.gateway.rules.Load().Engine.Each() || len(r.recipients) == 1 {
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
func (r *relayed) one(g group) error {
	if answer := refusal(&g.Trace); answer != nil {
		r.next.Reset()
		r.gateway.config.Record(g.record)
		return answer
	}
	if err := r.send(g.Raw); err != nil {
		return err
	}
	r.gateway.config.Record(g.record)
	return nil
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

// send sends the data of the transaction that is open.
func (r *relayed) send(raw []byte) error {
	w, err := r.next.Data()
	if err != nil {
		return r.failed(err)
	}
	if _, err := w.Write(append(r.received(), raw...)); err != nil {
		r.drop() // without the final dot the next server forgets it
		return unavailable(err)
	}
	if err := w.Close(); err != nil {
		return r.failed(err)
	}
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
func (r *relayed) split(raw []byte, groups []group) error {
	if err := r.next.Reset(); err != nil {
		return r.failed(err)
	}
	for _, g := range groups {
		if answer := refusal(&g.Trace); answer != nil {
			r.gateway.config.Record(g.record)
			return answer
		}
	}
	digest := sha256.Sum256(raw)
	for _, g := range groups {
		key := fmt.Sprintf("%x %s %v", digest, r.sender, addresses(g.recipients))
		if r.gateway.delivered.has(key, r.gateway.config.Now()) {
			continue
		}
		if err := r.next.Mail(r.sender, &r.options); err != nil {
			return r.failed(err)
		}
		for _, one := range g.recipients {
			if err := r.next.Rcpt(one.address, &one.options); err != nil {
				return r.failed(err)
			}
		}
		if err := r.send(g.Raw); err != nil {
			return err
		}
		r.gateway.delivered.add(key, r.gateway.config.Now())
		r.gateway.config.Record(g.record)
	}
	return nil
}

func addresses(list []recipient) string {
	var b strings.Builder
	for _, one := range list {
		b.WriteString(one.address + ",")
	}
	return b.String()
}

// maxHops is after how many Received fields a message goes round in a circle (RFC 5321, 6.3).
const maxHops = 100

// hops counts the Received fields.
func hops(raw []byte) int { return len(message.Read(raw).Root.Header.Values("Received")) }

// delivered remembers for an hour which parts of split messages went on.
type delivered struct {
	mutex sync.Mutex
	at    map[string]time.Time
}

func (d *delivered) has(key string, now time.Time) bool {
	d.mutex.Lock()
	defer d.mutex.Unlock()
	t, ok := d.at[key]
	return ok && now.Sub(t) < time.Hour
}

func (d *delivered) add(key string, now time.Time) {
	d.mutex.Lock()
	defer d.mutex.Unlock()
	if d.at == nil {
		d.at = map[string]time.Time{}
	}
	for k, t := range d.at {
		if now.Sub(t) > time.Hour {
			delete(d.at, k)
		}
	}
	d.at[key] = now
}
