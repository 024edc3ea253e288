package rule

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"missivum/core/audience"
	"missivum/core/message"
	"missivum/demo"
)

var day = time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)

// engine compiles rules for the demo organisation.
func engine(t testing.TB, rules string) *Engine {
	t.Helper()
	file := Default()
	if rules != "" {
		var err error
		if file, err = Parse([]byte(rules)); err != nil {
			t.Fatal(err)
		}
	}
	b := bundle(t)
	b.Sets[0].File.Rules, b.Sets[0].File.Inside, b.Sets[0].File.Recipients = file.Rules, file.Inside, file.Recipients
	e, err := b.Engine(day, "test")
	if err != nil {
		t.Fatal(err)
	}
	return e
}

const maren = "From: Maren Lind <maren.lind@brackwater.example>\r\n"

// mail is a message from Maren to somebody outside.
func mail(header, body string) Mail {
	return Mail{Message: message.Read([]byte(maren + "Message-ID: <1@brackwater.example>\r\n" + header + "\r\n" + body)),
		Sender: "maren.lind@brackwater.example", Recipients: []string{"runa.holt@quay.example"}}
}

func TestConditions(t *testing.T) {
	text := "Subject: Berth 4\r\nX-Port: Holm\r\nMIME-Version: 1.0\r\nContent-Type: text/plain; charset=utf-8\r\n"
	both := []string{"runa.holt@quay.example", "pelle.kranvik@brackwater.example"}
	for _, c := range []struct {
		name, when string
		mail       Mail
		to         []string
		holds      bool
	}{
		{"sender's address", "{sender: {addresses: [Maren.Lind@brackwater.example]}}", mail(text, "x"), nil, true},
		{"another sender's address", "{sender: {addresses: [pelle.kranvik@brackwater.example]}}", mail(text, "x"), nil, false},
		{"sender's domain", "{sender: {domains: [example]}}", mail(text, "x"), nil, true},
		{"a part of the domain's name", "{sender: {domains: [water.example]}}", mail(text, "x"), nil, false},
		{"audience", "{sender: {audience: north}}", mail(text, "x"), nil, true},
		{"audience that the sender is not in", "{sender: {audience: german}}", mail(text, "x"), nil, false},
		{"outside", "{recipients: {scope: outside}}", mail(text, "x"), nil, true},
		{"inside of mixed", "{recipients: {scope: inside}}", mail(text, "x"), both, false},
		{"outside of mixed", "{recipients: {scope: outside}}", mail(text, "x"), both, true},
		{"all outside of mixed", "{recipients: {scope: allOutside}}", mail(text, "x"), both, false},
		{"mixed", "{recipients: {scope: mixed}}", mail(text, "x"), both, true},
		{"a recipient's domain", "{recipients: {domains: [quay.example]}}", mail(text, "x"), both, true},
		{"a recipient's audience", "{recipients: {audience: north}}", mail(text, "x"), both, true},
		{"direction", "{direction: internal}", mail(text, "x"), both[1:], true},
		{"outgoing", "{direction: outgoing}", mail(text, "x"), both[1:], false},
		{"new", "{kind: [new]}", mail(text, "x"), nil, true},
		{"reply", "{kind: [reply]}", mail("Subject: AW: x\r\n", "x"), nil, true},
		{"forward", "{kind: [forward]}", mail("Subject: Fwd: x\r\n", "x"), nil, true},
		{"form", "{form: [html, both]}", mail(text, "x"), nil, false},
		{"larger", "{larger: 50}", mail(text, "x"), nil, true},
		{"smaller", "{smaller: 50}", mail(text, "x"), nil, false},
		{"header", "{header: {name: x-port}}", mail(text, "x"), nil, true},
		{"header with", "{header: {name: X-Port, contains: holm}}", mail(text, "x"), nil, true},
		{"header with something else", "{header: {name: X-Port, contains: havsund}}", mail(text, "x"), nil, false},
		{"subject", "{subject: [timetable, berth]}", mail(text, "x"), nil, true},
		{"subject in encoded words", "{subject: [kärr]}", mail("Subject: =?iso-8859-1?q?K=E4rr?=\r\n", "x"), nil, true},
		{"text", "{text: [lorries]}", mail(text, "Two Lorries.\r\n"), nil, true},
		{"text that is only quoted", "{text: [lorries]}",
			mail(text, "Yes.\r\n\r\nOn 3.11.2026 14:05, Runa Holt wrote:\r\n> Two lorries?\r\n"), nil, false},
		{"all of several", "{subject: [berth], form: [html]}", mail(text, "x"), nil, false},
		{"automatic, not named", "{direction: outgoing}", mail(text+"Auto-Submitted: auto-replied\r\n", "x"), nil, false},
		{"automatic, named", "{kind: [automatic]}", mail(text+"Auto-Submitted: auto-replied\r\n", "x"), nil, true},
		{"list", "{direction: outgoing}", mail(text+"List-Id: <berths.lists.example>\r\n", "x"), nil, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			e := engine(t, "rules:\n  - {name: one, when: "+c.when+"}")
			if c.to != nil {
				c.mail.Recipients = c.to
			}
			trace := e.Judge(c.mail, false).Trace
			if got := trace.Rules[0].Applies; got != c.holds {
				t.Errorf("applies %v, wanted %v: %s %+v", got, c.holds, trace.Rules[0].Says, trace.Rules[0].Checked)
			}
			for _, check := range trace.Rules[0].Checked {
				if check.Saw == "" || check.Asks == "" {
					t.Errorf("a check that says nothing: %+v", check)
				}
			}
			if !c.holds && trace.Outcome != Unchanged {
				t.Errorf("the outcome is %s", trace.Outcome)
			}
		})
	}
}

func TestOutcomes(t *testing.T) {
	text := "Subject: Berth 4\r\nMIME-Version: 1.0\r\nContent-Type: text/plain; charset=utf-8\r\n"
	signed := "Subject: x\r\nMIME-Version: 1.0\r\nContent-Type: multipart/signed; protocol=\"application/pgp-signature\"; boundary=b\r\n"
	signedBody := "--b\r\n\r\nHello\r\n--b\r\nContent-Type: application/pgp-signature\r\n\r\nx\r\n--b--\r\n"
	broken := "Subject: x\r\nContent-Type: multipart/mixed\r\n"
	for _, c := range []struct {
		name, rules string
		mail        Mail
		outcome     Outcome
		says        string // in what the trace says
		holds       string // in the message as it goes out
	}{
		{"no rules", "rules: []", mail(text, "x"), Unchanged, "no rules", ""},
		{"stamped", "rules: [{name: one}]", mail(text, "x"), Stamped, "rule one: harbour, new", "Head of Timetables"},
		{"the first decides", "rules: [{name: one, then: {template: voyage}}, {name: two}]", mail(text, "x"), Stamped, "rule one: voyage", ""},
		{"goes on", "rules: [{name: one, goOn: true}, {name: two, then: {template: voyage, place: top, already: add}}]", mail(text, "x"), Stamped,
			"one,two", "rules=one,two"},
		{"a banner above, and a signature",
			"rules: [{name: banner, goOn: true, then: {template: voyage, place: top, already: add}}, {name: sig}]",
			mail("Content-Type: text/html\r\n", "<p>A word from the harbour</p>"), Stamped, "sig,banner",
			"<p>A word from the harbour</p>\r\n<div class=\"missivum"},
		{"nothing", "rules: [{name: one, then: {nothing: true}}, {name: two}]", mail(text, "x"), Unchanged, "leaves", ""},
		{"off", "rules: [{name: one, state: 'off'}]", mail(text, "x"), Unchanged, "off", ""},
		{"trial", "rules: [{name: one, state: trial}]", mail(text, "x"), Unchanged, "in trial: It puts in harbour", ""},
		{"trial, on for an audience", "rules: [{name: one, state: trial, onFor: north}]", mail(text, "x"), Stamped, "rule one", ""},
		{"over", "rules: [{name: one, until: 2026-11-22}]", mail(text, "x"), Unchanged, "2026-11-22", ""},
		{"last day", "rules: [{name: one, until: 2026-11-23}]", mail(text, "x"), Stamped, "", ""},
		{"exception", "rules: [{name: one, except: [{subject: [berth]}]}]", mail(text, "x"), Unchanged, "exception", ""},
		{"signed, sent", "rules: [{name: one}]", mail(signed, signedBody), Unchanged, "signed (OpenPGP); it goes out unchanged", ""},
		{"signed, enclosed", "rules: [{name: one, then: {closed: enclose}}]", mail(signed, signedBody), Enclosed, "enclosed", "message/rfc822"},
		{"signed, refused", "rules: [{name: one, then: {closed: refuse, notice: Send it open.}}]", mail(signed, signedBody),
			Refused, "Send it open.", ""},
		{"broken, sent", "rules: [{name: one}]", mail(broken, "x"), Unchanged, "broken", ""},
		{"broken, held", "rules: [{name: one, then: {failure: hold}}]", mail(broken, "x"), Held, "broken", ""},
		{"raised", "rules: [{name: one, then: {text: raise, size: 10pt}}]", mail(text, "x"), Stamped, "", "multipart/alternative"},
		{"carried", "rules: [{name: one, then: {pictures: carried}}]", mail("Content-Type: text/html\r\n", "<p>x</p>"),
			Stamped, "", "multipart/related"},
		{"stamped already", "rules: [{name: one}]", mail(text+message.StampField+": 1\r\n", "x"), Unchanged, "already", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			v := engine(t, c.rules).Judge(c.mail, false)
			if v.Trace.Outcome != c.outcome || !strings.Contains(v.Trace.Says, c.says) {
				t.Errorf("%s: %s\nwanted %s: …%s…", v.Trace.Outcome, v.Trace.Says, c.outcome, c.says)
			}
			if !bytes.Contains(v.Raw, []byte(c.holds)) {
				t.Errorf("%q is missing in\n%s", c.holds, v.Raw)
			}
			if c.outcome == Unchanged || c.outcome == Refused || c.outcome == Held {
				if !bytes.Equal(v.Raw, c.mail.Message.Raw) {
					t.Errorf("it changed:\n%s", v.Raw)
				}
			}
			if c.outcome == Enclosed && !bytes.Contains(v.Raw, c.mail.Message.Raw) {
				t.Error("the enclosed message is not byte for byte")
			}
			if v.Trace.After != len(v.Raw) {
				t.Errorf("after: %d bytes, the message has %d", v.Trace.After, len(v.Raw))
			}
		})
	}
}

func TestNullSenderIsNotStamped(t *testing.T) {
	m := mail("Subject: Undelivered\r\n", "x")
	m.Sender = ""
	if v := engine(t, "").Judge(m, false); v.Trace.Outcome != Unchanged || !v.Trace.Kind.Bounce {
		t.Errorf("%s, %+v", v.Trace.Outcome, v.Trace.Kind)
	}
}

func TestFaultsOfFiles(t *testing.T) {
	for _, c := range []struct {
		rules string
		want  string
	}{
		{"rules: [{name: One}]", "rules"},
		{"rules: [{name: one}, {name: one}]", `two rules "one"`},
		{"rules: [{name: one, from: 2026-13-01}]", "no day"},
		{"rules: [{name: one, from: 2026-02-01, until: 2026-01-01}]", "before it begins"},
		{"rules: [{name: one, then: {already: short}}]", "short form"},
		{"rules: [{name: one, onFor: north}]", "in trial"},
		{"rules: [{name: one, whenever: {}}]", "whenever"},
		{"rules: [{name: one, then: {size: huge}}]", "size"},
	} {
		rules, want := c.rules, c.want
		if _, err := Parse([]byte(rules)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, wanted …%s…", rules, err, want)
		}
	}
	d, _ := demo.Directory()
	templates, _ := demo.Templates()
	s, err := CompileSignatures(templates, nil, d.Schema, day)
	if err != nil {
		t.Fatal(err)
	}
	for rules, want := range map[string]string{
		"rules: [{name: one}]":                                                           "no assignments",
		"rules: [{name: one, then: {template: harbor}}]":                                 `no template "harbor"`,
		"rules: [{name: one, then: {template: harbour, variant: x}}]":                    "variant x",
		"rules: [{name: one, when: {sender: {audience: x}}, then: {template: harbour}}]": `no audience "x"`,
	} {
		file, err := Parse([]byte(rules))
		if err != nil {
			t.Fatal(err)
		}
		if _, err := Compile(Parts{File: file, People: NewIndex(d), Schema: d.Schema, Signatures: s,
			Day: day}); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, wanted …%s…", rules, err, want)
		}
	}
}

func TestWarnings(t *testing.T) {
	for _, c := range []struct{ rules, want string }{
		{"rules: [{name: one}, {name: two, when: {kind: [reply]}}]", "two: It can never apply: the rule one before it"},
		{"rules: [{name: one, when: {kind: [reply]}}, {name: two}]", ""},
		{"rules: [{name: one, goOn: true}, {name: two}]", ""},
		{"rules: [{name: one, when: {larger: 10, smaller: 5}}]", "one: It can never apply: no message is larger"},
		{"rules: [{name: one, when: {direction: internal, recipients: {scope: outside}}}]",
			"one: It can never apply: mail that is internal"},
		{"rules: [{name: one, when: {kind: [new]}, except: [{kind: [new, reply]}]}]",
			"one: It can never apply: an exception"},
		{"{recipients: each, rules: [{name: one, when: {recipients: {scope: mixed}}}]}",
			"one: It can never apply: each recipient"},
		{"rules: [{name: one, when: {kind: [closed]}}]", "one: It applies to closed messages only"},
		{"rules: [{name: one, when: {sender: {domains: [a.example]}}}, {name: two, when: {sender: {domains: [b.example]}}}]",
			""},
	} {
		rules, want := c.rules, c.want
		file, err := Parse([]byte(rules))
		if err != nil {
			t.Fatal(err)
		}
		var said []string
		for _, w := range file.Warnings() {
			said = append(said, w.Rule+": "+w.Says)
		}
		if got := strings.Join(said, " | "); !strings.HasPrefix(got, want) || want == "" && got != "" {
			t.Errorf("%s: %q, wanted %q", rules, got, want)
		}
	}
}

func TestSentence(t *testing.T) {
	file, err := Parse([]byte("rules: [{name: one, when: {sender: {audience: crew}, kind: [new, reply], direction: outgoing}, " +
		"except: [{subject: [test]}], then: {template: harbour, already: replace, text: raise}}]"))
	if err != nil {
		t.Fatal(err)
	}
	want := `Mail of the kind new or reply from the audience crew that is outgoing, unless it is mail whose subject ` +
		`contains "test", gets the ` +
		`template harbour under the newest text; a signature of the sender in the newest text is replaced; plain text is raised to HTML.`
	if got := file.Rules[0].Sentence(); got != want {
		t.Errorf("got  %s\nwant %s", got, want)
	}
}

func TestAssignedBySituation(t *testing.T) {
	e := engine(t, "")
	e.file.Assignments = []audience.Assignment{{Situation: "internal", Template: "voyage"}, {Template: "harbour"}}
	var err error
	if e.assigned, err = audience.Assign(e.file.Assignments, e.set, audience.Situations); err != nil {
		t.Fatal(err)
	}
	m := mail("Subject: x\r\n", "x")
	if s := e.Judge(m, false).Trace.Rules[0]; s.Template != "harbour" || s.Variant != "new" {
		t.Errorf("outside: %s, %s", s.Template, s.Variant)
	}
	m.Recipients = []string{"pelle.kranvik@brackwater.example"}
	if s := e.Judge(m, false).Trace.Rules[0]; s.Template != "voyage" {
		t.Errorf("inside: %s, %s", s.Template, s.Variant)
	}
}

func TestRehearsal(t *testing.T) {
	h := engine(t, "").Rehearse()
	h.Message("a", mail("Subject: Re: x\r\n", "Yes.\r\n\r\nOn 3.11.2026 14:05, Runa Holt wrote:\r\n> Two lorries?\r\n").Message.Raw, false)
	h.Message("b", mail("Content-Type: multipart/mixed\r\n", "x").Message.Raw, false)
	h.Message("c", []byte("From: runa.holt@quay.example\r\n\r\nx\r\n"), false)
	r := h.Result()
	if r.Messages != 3 || r.Outcomes[Stamped] != 1 || r.Outcomes[Unchanged] != 2 || r.Failed != 1 || len(r.Look) != 1 ||
		r.Look[0].Where != "b" ||
		r.After <= r.Before || len(r.Left) != 2 {
		t.Errorf("%+v", r)
	}
}
