package personal

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/tls"
	_ "embed"
	"errors"
	"fmt"
	"io"
	"net"
	"net/mail"
	"strings"
	"text/template"
	"time"

	"github.com/emersion/go-message"
	gomail "github.com/emersion/go-message/mail"
	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
	"github.com/goccy/go-yaml"
	"golang.org/x/text/language"
	"golang.org/x/time/rate"

	"missivum/core/filename"
	"missivum/core/problem"
	"missivum/service/jobs"
	"missivum/service/organisation"
	"missivum/service/store"
)

// Mail is the server that takes invitations.
type Mail struct {
	Server   string // host:port; blank for none
	Encrypt  string // starttls, tls or none
	User     string // blank for none
	Password string
	TLS      *tls.Config // nil for the system's authorities
	Hello    string      // how the service calls itself; blank for the standard
}

//go:embed invitations.yaml
var invitationTexts []byte

// wording is a message in one language.
type wording struct {
	Invitation, Reminder, Hello, First, Again, Device, Ends string
}

// wordings reads the messages by language.
func wordings() (by map[string]wording, err error) {
	if err := yaml.Unmarshal(invitationTexts, &by); err != nil {
		return nil, fmt.Errorf("the texts of invitations: %w", err)
	}
	return by, nil
}

// The kinds of messages.
const (
	Invitation = "invitation"
	Reminder   = "reminder"
)

// Invite is who is invited.
type Invite struct {
	Kind     string   `json:"kind"`     // invitation or reminder
	People   []string `json:"people"`   // mail addresses; none for everybody of the audience
	Audience string   `json:"audience"` // blank for everybody
}

// Invited says what became of the people who were to be invited.
type Invited struct {
	People  []string `json:"people"`  // who are written to
	Proved  int      `json:"proved"`  // left out: their signature is right
	Recent  int      `json:"recent"`  // left out: written to a short time ago
	Without int      `json:"without"` // left out: no release reaches them
}

// Who says who would be written to: those whom a release reaches, without proof, and not written to for the stated time.
func (p *Personal) Who(ctx context.Context, in Invite) (out Invited, err error) {
	out.People = []string{}
	if in.Kind != Invitation && in.Kind != Reminder {
		return out, problem.New(problem.Invalid, "The kind is invitation or reminder.").In("kind")
	}
	w, err := p.People.Who(ctx)
	if err != nil {
		return out, err
	}
	if in.Audience != "" && !w.Set.Has(in.Audience) {
		return out, problem.Missing("audience", in.Audience)
	}
	directory, _, err := p.People.Directory(ctx)
	if err != nil {
		return out, err
	}
	settings, err := p.Settings(ctx)
	if err != nil {
		return out, err
	}
	proved, invited, err := p.known(ctx)
	if err != nil {
		return out, err
	}
	chosen := map[string]bool{}
	for _, mail := range in.People {
		if directory.Find(mail) == nil {
			return out, problem.Missing("person", mail)
		}
		chosen[fold(mail)] = true
	}
	since := p.Now().Add(-time.Duration(settings.RemindDays) * 24 * time.Hour)
	for i := range directory.People {
		who := &directory.People[i]
		mail := fold(directory.Get(who, "mail"))
		if len(chosen) > 0 && !chosen[mail] || in.Audience != "" && !w.Set.In(in.Audience, who) {
			continue
		}
		_, reached, err := p.Desks.Reaches(ctx, mail)
		switch {
		case err != nil:
			return out, err
		case !reached:
			out.Without++
		case proved[mail]:
			out.Proved++
		case invited[mail].After(since):
			out.Recent++
		default:
			out.People = append(out.People, mail)
		}
	}
	return out, nil
}

// known says who has proof that everything is right, and when each person was written to last; by mail address.
func (p *Personal) known(ctx context.Context) (proved map[string]bool, invited map[string]time.Time, err error) {
	err = p.Store.Read(ctx, func(tx *store.Tx) error {
		invited, err = tx.Invited()
		return err
	})
	if err != nil {
		return nil, nil, err
	}
	proved, err = p.Desks.Proved(ctx)
	return proved, invited, err
}

// invitation is a message to one person.
type invitation struct {
	to   string
	name string
	data []byte // RFC 5322, with CRLF
}

// write makes the message to a person, with a new link.
func (p *Personal) write(ctx context.Context, in Invite, to, way string) (one invitation, err error) {
	directory, _, err := p.People.Directory(ctx)
	if err != nil {
		return one, err
	}
	who := directory.Find(to)
	if who == nil {
		return one, problem.Missing("person", to)
	}
	texts, err := wordings()
	if err != nil {
		return one, err
	}
	one = invitation{to: to, name: directory.Get(who, "cn")}
	err = p.Store.Write(ctx, func(tx *store.Tx) error {
		settings, err := settingsIn(tx)
		if err != nil {
			return err
		}
		said, err := organisation.In(tx)
		if err != nil {
			return err
		}
		choice, err := tx.PersonalChoice(to)
		if err != nil {
			return err
		}
		link, stored, err := p.linkIn(tx, to, settings)
		if err != nil {
			return err
		}
		lang := languageOf(choice.Language, directory.Get(who, "preferredLanguage"), said.Language)
		if one.data, err = compose(texts[lang], in.Kind, lang, settings, one, link, stored.Ends, p.Now()); err != nil {
			return err
		}
		return tx.AddInvitation(to, in.Kind, way)
	})
	return one, err
}

// languageOf is the language of the page that fits the first of some languages that one fits.
func languageOf(wanted ...string) string {
	var tags []language.Tag
	for _, l := range Languages() {
		tags = append(tags, language.Make(l))
	}
	matcher := language.NewMatcher(tags)
	for _, w := range wanted {
		if w == "" {
			continue
		}
		if _, i, confidence := matcher.Match(language.Make(w)); confidence >= language.High {
			return Languages()[i]
		}
	}
	return Languages()[0]
}

// compose writes a message.
func compose(w wording, kind, lang string, s Settings, one invitation, link string, ends, now time.Time) ([]byte, error) {
	subject, first := w.Invitation, w.First
	if kind == Reminder {
		subject, first = w.Reminder, w.Again
	}
	values := struct{ Name, Ends string }{one.name, ends.Format(time.DateOnly)}
	var lines []string
	for _, text := range []string{w.Hello, first, link, w.Device + " " + w.Ends, s.Note} {
		if text == "" {
			continue
		}
		t, err := template.New("").Parse(text)
		if text == s.Note || text == link { // written by others: no template
			lines = append(lines, text)
			continue
		}
		if err != nil {
			return nil, err
		}
		var b strings.Builder
		if err := t.Execute(&b, values); err != nil {
			return nil, err
		}
		lines = append(lines, b.String())
	}
	var h gomail.Header
	h.SetDate(now)
	h.SetSubject(subject)
	h.SetAddressList("To", []*gomail.Address{{Name: one.name, Address: one.to}})
	if from, err := address(s.From); err == nil {
		h.SetAddressList("From", []*gomail.Address{from})
	} else {
		h.Set("X-Unsent", "1")
	}
	if err := h.GenerateMessageID(); err != nil {
		return nil, err
	}
	h.Set("Content-Language", lang)
	h.Set("Auto-Submitted", "auto-generated") // RFC 3834, 5
	h.SetContentType("text/plain", map[string]string{"charset": "utf-8"})
	h.Set("Content-Transfer-Encoding", "quoted-printable")
	var out bytes.Buffer
	body, err := message.CreateWriter(&out, h.Header)
	if err != nil {
		return nil, err
	}
	if _, err := io.WriteString(body, strings.Join(lines, "\r\n\r\n")+"\r\n"); err != nil {
		return nil, err
	}
	return out.Bytes(), body.Close()
}

// address reads a sender.
func address(text string) (*gomail.Address, error) { return mail.ParseAddress(text) }

// mostDrafts is how many drafts are made at once.
const mostDrafts = 5_000

// Drafts writes a message as a draft for each of the people who would be written to, into an archive.
func (p *Personal) Drafts(ctx context.Context, in Invite, w io.Writer) (out Invited, err error) {
	if out, err = p.Who(ctx, in); err != nil {
		return out, err
	}
	if len(out.People) > mostDrafts {
		return out, problem.New(
			problem.TooLarge,
			"These are %d people; drafts are made for %d at once. Choose an audience.",
			len(out.People),
			mostDrafts,
		)
	}
	archive := zip.NewWriter(w)
	for _, to := range out.People {
		one, err := p.write(ctx, in, to, "draft")
		if err != nil {
			return out, err
		}
		f, err := archive.CreateHeader(&zip.FileHeader{Name: filename.Safe(to) + ".eml", Method: zip.Deflate, Modified: p.Now()})
		if err == nil {
			_, err = f.Write(one.data)
		}
		if err != nil {
			return out, err
		}
	}
	return out, archive.Close()
}

// SendKind is the kind of job that sends invitations.
const SendKind = "invitations"

// Send begins to send messages to the people who would be written to, at the stated rate.
func (p *Personal) Send(ctx context.Context, in Invite) (record store.Job, out Invited, err error) {
	if p.Mail.Server == "" {
		return record, out, problem.New(problem.Refused, "No mail server is set: give invitations.server in the settings, or take drafts.")
	}
	settings, err := p.Settings(ctx)
	if err != nil {
		return record, out, err
	}
	if settings.From == "" {
		return record, out, problem.New(problem.Invalid, "Say first who sends invitations.").In("from")
	}
	if out, err = p.Who(ctx, in); err != nil {
		return record, out, err
	}
	if len(out.People) == 0 {
		return record, out, problem.New(problem.Refused, "Nobody would be written to: %d have proof, %d were written to within %d days, "+
			"%d are not reached by a release.", out.Proved, out.Recent, settings.RemindDays, out.Without)
	}
	in.People = out.People
	err = p.Store.Write(ctx, func(tx *store.Tx) error {
		record, err = p.Jobs.Add(tx, store.Job{Kind: SendKind, Title: "Sending " + in.Kind + "s", Total: len(in.People), Unit: "messages"}, in)
		return err
	})
	return record, out, err
}

// sending says how messages are sent.
func (p *Personal) sending() jobs.Work {
	return jobs.Work{Kind: SendKind, AtOnce: 1, Resume: true, Run: p.send}
}

// SendResult is how a sending ended.
type SendResult struct {
	Sent    int      `json:"sent"`
	Left    int      `json:"left"`    // who had proof by then, or had been written to
	Refused []string `json:"refused"` // "address: what the server said", at most mostRefused
}

const mostRefused = 100

// send sends messages one after the other. Who was written to in a run before that was interrupted is not written to again.
func (p *Personal) send(ctx context.Context, job *jobs.Job) (any, error) {
	var in Invite
	if err := job.Input(&in); err != nil {
		return nil, err
	}
	settings, err := p.Settings(ctx)
	if err != nil {
		return nil, err
	}
	result := SendResult{Refused: []string{}}
	pace := rate.NewLimiter(rate.Limit(float64(settings.Rate)/60), 1)
	var c *smtp.Client
	defer func() {
		if c != nil {
			c.Quit() // the messages are taken: nothing is lost where this fails
		}
	}()
	var still map[string]bool
	for i, to := range in.People {
		if i%lookAgain == 0 {
			if still, err = p.still(ctx, in.Kind); err != nil {
				return result, err
			}
		}
		if !still[to] {
			result.Left++
			job.Progress(i + 1)
			continue
		}
		if err := pace.Wait(ctx); err != nil {
			return result, err
		}
		if c == nil || c.Noop() != nil {
			if c, err = p.Mail.dial(ctx); err != nil {
				return result, err
			}
		}
		one, err := p.write(ctx, in, to, "sent")
		if err != nil {
			return result, err
		}
		if err := c.SendMail(bare(settings.From), []string{to}, bytes.NewReader(one.data)); err != nil {
			var answer *smtp.SMTPError
			if !errors.As(err, &answer) {
				return result, fmt.Errorf("sending to %s: %w", to, err)
			}
			if len(result.Refused) < mostRefused {
				result.Refused = append(result.Refused, fmt.Sprintf("%s: %s", to, answer.Error()))
			}
			if err := c.Reset(); err != nil {
				c = nil
			}
		} else {
			result.Sent++
		}
		job.Progress(i + 1)
	}
	return result, nil
}

// lookAgain is after how many messages it is looked anew who has proof meanwhile.
const lookAgain = 100

// still are the people who would be written to now.
func (p *Personal) still(ctx context.Context, kind string) (map[string]bool, error) {
	now, err := p.Who(ctx, Invite{Kind: kind})
	still := map[string]bool{}
	for _, mail := range now.People {
		still[mail] = true
	}
	return still, err
}

// bare is a sender's address without the name.
func bare(from string) string {
	if a, err := address(from); err == nil {
		return a.Address
	}
	return from
}

// mailTimeout is how long the server has for each answer.
const mailTimeout = time.Minute

// dial connects to the server.
func (m Mail) dial(ctx context.Context) (*smtp.Client, error) {
	host, _, err := net.SplitHostPort(m.Server)
	if err != nil {
		return nil, problem.New(problem.Invalid, "invitations.server is written as mail.brackwater.example:587.")
	}
	settings := &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}
	if m.TLS != nil {
		settings = m.TLS.Clone()
		settings.ServerName = host
	}
	conn, err := (&net.Dialer{Timeout: mailTimeout}).DialContext(ctx, "tcp", m.Server)
	if err != nil {
		return nil, problem.New(problem.Busy, "The mail server %s cannot be reached: %v.", m.Server, err)
	}
	var c *smtp.Client
	switch m.Encrypt {
	case "tls":
		c = smtp.NewClient(tls.Client(conn, settings))
	case "none":
		c = smtp.NewClient(conn)
	default:
		if c, err = smtp.NewClientStartTLS(conn, settings); err != nil {
			conn.Close()
			return nil, problem.New(problem.Busy, "The mail server %s does not encrypt (STARTTLS): %v.", m.Server, err)
		}
	}
	c.CommandTimeout, c.SubmissionTimeout = mailTimeout, mailTimeout
	if m.Hello != "" {
		err = c.Hello(m.Hello)
	}
	if err == nil && m.User != "" {
		err = c.Auth(sasl.NewPlainClient("", m.User, m.Password))
	}
	if err != nil {
		c.Close()
		return nil, problem.New(problem.Busy, "The mail server %s refuses: %v.", m.Server, err)
	}
	return c, nil
}
