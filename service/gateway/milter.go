package gateway

import (
	"bytes"
	"context"
	"errors"
	"net"
	"strings"

	"github.com/d--j/go-milter"

	"missivum/core/message"
	"missivum/core/rule"
)

// runMilter serves the milter protocol.
func (g *Gateway) runMilter(ctx context.Context, l net.Listener) error {
	server := milter.NewServer(
		milter.WithDynamicMilter(func(_ uint32, _ milter.OptAction, protocol milter.OptProtocol, _ milter.DataSize) milter.Milter {
			return &session{gateway: g, spaced: protocol&milter.OptHeaderLeadingSpace != 0}
		}),
		milter.WithNegotiationCallback(agree),
		milter.WithActions(milter.OptAddHeader|milter.OptChangeHeader|milter.OptChangeBody),
		milter.WithProtocols(milter.OptNoConnect|milter.OptNoHelo|milter.OptNoUnknown|milter.OptNoData|milter.OptHeaderLeadingSpace|
			milter.OptNoMailReply|milter.OptNoRcptReply|milter.OptNoHeaderReply|milter.OptNoEOHReply|milter.OptSkip),
		milter.WithReadTimeout(idle),
	)
	return until(ctx, func() error { return server.Serve(l) }, func(stop context.Context) error {
		err := server.Shutdown(stop)
		if errors.Is(err, context.DeadlineExceeded) {
			err = server.Close()
		}
		return err
	})
}

// agree takes what a mail server offers of what is wanted: older ones offer less.
func agree(theirs, ours uint32, theirActions, ourActions milter.OptAction, theirProtocol, ourProtocol milter.OptProtocol,
	size milter.DataSize) (uint32, milter.OptAction, milter.OptProtocol, milter.DataSize, error) {
	if theirActions&ourActions != ourActions {
		return 0, 0, 0, 0, errors.New("the mail server lets no milter change headers and bodies")
	}
	return min(theirs, ours), ourActions, theirProtocol & ourProtocol, size, nil
}

// session is a mail server's connection; messages pass one after another.
type session struct {
	milter.NoOpMilter
	gateway    *Gateway
	spaced     bool // values of fields come with the white space behind their colon
	sender     string
	recipients []string
	raw        bytes.Buffer
	large      bool
}

func (s *session) reset() {
	s.sender, s.recipients, s.large = "", nil, false
	if s.raw.Cap() > 4<<20 {
		s.raw = bytes.Buffer{}
	}
	s.raw.Reset()
}

// MailFrom begins a message.
func (s *session) MailFrom(from, _ string, _ milter.Modifier) (*milter.Response, error) {
	s.reset()
	s.sender = from
	return milter.RespContinue, nil
}

// RcptTo takes a recipient.
func (s *session) RcptTo(to, _ string, _ milter.Modifier) (*milter.Response, error) {
	if len(s.recipients) < maxRecipients {
		s.recipients = append(s.recipients, to)
	}
	return milter.RespContinue, nil
}

// Header takes a header field as it stands, with the white space behind its colon.
func (s *session) Header(name, value string, _ milter.Modifier) (*milter.Response, error) {
	s.raw.WriteString(name)
	s.raw.WriteByte(':')
	if !s.spaced {
		s.raw.WriteByte(' ')
	}
	s.raw.Write(crlf([]byte(value)))
	s.raw.WriteString("\r\n")
	return milter.RespContinue, nil
}

// Headers ends the header.
func (s *session) Headers(milter.Modifier) (*milter.Response, error) {
	s.raw.WriteString("\r\n")
	return milter.RespContinue, nil
}

// BodyChunk takes a piece of the body.
func (s *session) BodyChunk(chunk []byte, _ milter.Modifier) (*milter.Response, error) {
	if s.large || s.raw.Len()+len(chunk) > s.gateway.config.MaxSize {
		s.large = true
		return milter.RespSkip, nil
	}
	s.raw.Write(chunk)
	return milter.RespContinue, nil
}

// EndOfMessage judges the message and tells the mail server what to change.
func (s *session) EndOfMessage(m milter.Modifier) (*milter.Response, error) {
	defer s.reset()
	queue := m.Get(milter.MacroQueueId)
	if s.large {
		begin := message.Read(bytes.Clone(s.raw.Bytes()))
		r := rule.Record{MessageID: begin.Root.Header.Value("Message-ID"), Time: s.gateway.config.Now().UTC(), Way: "milter",
			Queue: queue, Sender: s.sender, Recipients: s.recipients,
			Outcome: rule.Unchanged, Failed: true, Says: "The message is larger than the gateway's limit; it goes out unchanged.",
			Before: s.raw.Len(), After: s.raw.Len(), Bundle: s.gateway.Bundle(), Steps: []rule.RecordStep{}}
		s.gateway.record(r)
		return milter.RespAccept, nil
	}
	raw := bytes.Clone(s.raw.Bytes())
	before := message.Read(raw)
	j := s.gateway.judge("milter", queue, rule.Mail{Message: before, Sender: s.sender, Recipients: s.recipients})
	response, err := s.answer(m, before, &j)
	if err != nil { // the mail server went away, or refuses the change: it tries again, or sends unchanged, as it is set up
		s.gateway.config.Log.Error("the mail server did not take a change", "queue", queue, "error", err)
		return nil, err
	}
	s.gateway.record(j.record)
	return response, nil
}

// answer is what the mail server gets as its answer.
func (s *session) answer(m milter.Modifier, before *message.Message, j *judged) (*milter.Response, error) {
	switch j.Trace.Outcome {
	case rule.Refused:
		return milter.RejectWithCodeAndReason(550, "5.7.1 "+oneLine(j.Trace.Says))
	case rule.Held:
		return milter.RejectWithCodeAndReason(451, "4.3.0 "+oneLine(j.Trace.Says))
	case rule.Stamped, rule.Enclosed:
		after := message.Read(j.Raw)
		if err := s.changeHeader(m, before, after); err != nil {
			return nil, err
		}
		if err := m.ReplaceBody(bytes.NewReader(crlf(after.Raw[after.Root.Body:]))); err != nil {
			return nil, err
		}
	}
	return milter.RespAccept, nil
}

// oneLine is a text that can stand in an SMTP reply.
func oneLine(s string) string {
	s = strings.Map(func(r rune) rune {
		if r < ' ' || r > '~' || r == '%' {
			return ' '
		}
		return r
	}, s)
	return s[:min(len(s), 400)]
}

// changeHeader tells the mail server which header fields differ. Fields are counted by name (RFC of the protocol: index from 1).
func (s *session) changeHeader(m milter.Modifier, before, after *message.Message) error {
	old, new := byName(before), byName(after)
	for _, f := range before.Root.Header.Fields {
		name := strings.ToLower(f.Name)
		if _, there := old[name]; !there {
			continue // done
		}
		was, is := old[name], new[name]
		delete(old, name)
		delete(new, name)
		for i := len(was) - 1; i >= len(is); i-- { // from the last, so that the others keep their index
			if err := m.ChangeHeader(i+1, f.Name, ""); err != nil {
				return err
			}
		}
		for i, value := range is {
			if i < len(was) && was[i] == value {
				continue
			}
			if i >= len(was) {
				if err := m.AddHeader(f.Name, s.valued(value)); err != nil {
					return err
				}
				continue
			}
			if err := m.ChangeHeader(i+1, f.Name, s.valued(value)); err != nil {
				return err
			}
		}
	}
	for _, f := range after.Root.Header.Fields {
		name := strings.ToLower(f.Name)
		for _, value := range new[name] {
			if err := m.AddHeader(f.Name, s.valued(value)); err != nil {
				return err
			}
		}
		delete(new, name)
	}
	return nil
}

// valued is a value as the mail server wants it: with the white space behind its colon, or without.
func (s *session) valued(value string) string {
	if s.spaced {
		return value
	}
	return strings.TrimPrefix(value, " ")
}

// byName are the values of all fields as they stand, with their white space and folds.
func byName(m *message.Message) map[string][]string {
	list := map[string][]string{}
	for _, f := range m.Root.Header.Fields {
		name := strings.ToLower(f.Name)
		list[name] = append(list[name], m.Root.Header.Raw(f))
	}
	return list
}
