package rule

import (
	"fmt"
	"strings"

	"missivum/core/message"
)

// Sample is a made-up message that shows what rules do.
type Sample struct {
	Name    string
	Title   string
	Message []byte
}

// Sampled is what rules do with a sample.
type Sampled struct {
	Name    string  `json:"name"`
	Title   string  `json:"title"`
	Outcome Outcome `json:"outcome"`
	Says    string  `json:"says"`
	Rule    string  `json:"rule"` // names of those that applied
	Trial   bool    `json:"trial"`
	Message string  `json:"message"` // its source
}

// outsider is somebody outside, of a name that is kept for examples (RFC 2606).
const outsider = "Robin Vale <robin.vale@quayside.example>"

// Samples makes messages of the kinds that rules tell apart, from a sender to a colleague and to somebody outside.
func Samples(name, mail, colleague string) []Sample {
	from := mail
	if name != "" {
		from = fmt.Sprintf("%q <%s>", name, mail)
	}
	const date = "Mon, 23 Nov 2026 09:12:00 +0000"
	make := func(id, title, to, subject, more, content string) Sample {
		head := "From: " + from + "\r\nTo: " + to + "\r\nSubject: " + subject + "\r\nDate: " + date + "\r\nMessage-ID: <sample-" + id +
			"@missivum.example>\r\nMIME-Version: 1.0\r\n" + strings.ReplaceAll(more, "\n", "\r\n")
		return Sample{id, title, []byte(head + "\r\n" + strings.ReplaceAll(content, "\n", "\r\n"))}
	}
	html := "Content-Type: text/html; charset=UTF-8\n"
	text := "Content-Type: text/plain; charset=UTF-8\n"
	page := "<html><body><p>The berth is free from nine.</p></body></html>\n"
	quoted := "<html><body><p>Nine is fine.</p><blockquote type=\"cite\"><p>Is nine too early?</p><p>Robin Vale</p>" +
		"</blockquote></body></html>\n"
	back := "In-Reply-To: <question@quayside.example>\n"
	inside := "Colleague <" + colleague + ">"
	return []Sample{
		make("new-outside", "New, to somebody outside", outsider, "The berth", html, page),
		make("new-inside", "New, to a colleague", inside, "The berth", html, page),
		make("new-mixed", "New, to both", inside+", "+outsider, "The berth", html, page),
		make("reply", "Reply with a quotation", outsider, "Re: The berth", back+html, quoted),
		make("reply-text", "Reply in plain text", outsider, "Re: The berth", back+text,
			"Nine is fine.\n\nOn Sun, 22 Nov 2026, Robin Vale wrote:\n> Is nine too early?\n> Robin Vale\n"),
		make("forward", "Forwarded", outsider, "Fwd: The berth", html,
			"<html><body><p>For you.</p><div>---------- Forwarded message ----------<br>From: Colleague<br>Subject: The berth</div>"+
				"<p>The berth is free.</p></body></html>\n"),
		make("automatic", "Automatic answer", outsider, "Out of office", "Auto-Submitted: auto-replied\n"+text, "I am back on Monday.\n"),
		make("invitation", "Invitation", outsider, "Berth meeting", "Content-Type: text/calendar; method=REQUEST; charset=UTF-8\n",
			"BEGIN:VCALENDAR\nVERSION:2.0\nMETHOD:REQUEST\nEND:VCALENDAR\n"),
		make("encrypted", "Encrypted", outsider, "...",
			"Content-Type: application/pkcs7-mime; smime-type=enveloped-data; name=smime.p7m\nContent-Transfer-Encoding: base64\n", "MIIB\n"),
	}
}

// Sampled judges samples; rules in trial are taken as they are.
func (e *Engine) Sampled(list []Sample) []Sampled {
	out := []Sampled{}
	for _, s := range list {
		v := e.Judge(Mail{Message: message.Read(s.Message), OffEnvelope: true}, false)
		one := Sampled{Name: s.Name, Title: s.Title, Outcome: v.Trace.Outcome, Says: v.Trace.Says, Message: string(s.Message)}
		var names []string
		for _, step := range v.Trace.Rules {
			if step.Applies {
				names = append(names, step.Rule)
				one.Trial = one.Trial || step.State == Trial
			}
		}
		one.Rule = strings.Join(names, ", ")
		out = append(out, one)
	}
	return out
}
