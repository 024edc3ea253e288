package api_test

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"missivum/core/rule"
	"missivum/service/api"
	"missivum/service/messages"
	"missivum/service/rules"
	"missivum/service/store"
)

const triedMessage = "From: Maren Lind <maren.lind@brackwater.example>\r\nTo: runa.holt@quay.example\r\nSubject: Berth 4\r\n\r\nHello\r\n"

// tryOne tries one rule on a message.
var tryOne = triedWith("rules: [{name: one, when: {direction: outgoing}, then: {template: harbour}}]")

// triedWith is a request that tries a document on a message.
func triedWith(document string) string {
	text, err := json.Marshal(map[string]any{"document": document, "message": base64.StdEncoding.EncodeToString([]byte(triedMessage))})
	if err != nil {
		panic(err) // texts are always written
	}
	return string(text)
}

func TestMailRules(t *testing.T) {
	r := loaded(t)
	var s rules.State
	r.want(200, "GET", "/api/v1/rules", "", &s)
	if s.Number != 0 || len(s.Rules) != 1 || s.Rules[0].Sentence == "" {
		t.Errorf("to begin with: %+v", s)
	}
	r.want(404, "POST", "/api/v1/rules/try", triedWith(""), nil)
	put := func(document string, base int) string {
		text, _ := json.Marshal(map[string]any{"document": document, "base": base, "note": "for the winter"})
		return string(text)
	}
	one := "rules:\n  - {name: one, then: {template: harbour}}\n  - {name: two, then: {template: harbour}}\n"
	for document, want := range map[string]string{"rules: [{name: One}]": "line 1", "rules: [{name: one, then: {template: harbor}}]": "harbor",
		"rules: [{name: one, when: {sender: {audience: none}}, then: {template: harbour}}]": "audience",
		"audiences: [{name: a}]\nrules: []":                                                 "audiences"} {
		answer := r.do("PUT", "/api/v1/rules", put(document, 0), "Content-Type", "application/json")
		if answer.Code < 400 || answer.Code > 499 || !strings.Contains(answer.Body.String(), want) {
			t.Errorf("%s: %d %s, wanted …%s…", document, answer.Code, answer.Body, want)
		}
	}
	r.want(200, "PUT", "/api/v1/rules", put(one, 0), &s)
	if s.Number != 1 || len(s.Warnings) != 1 || s.Warnings[0].Rule != "two" {
		t.Errorf("stored: %+v", s)
	}
	r.want(409, "PUT", "/api/v1/rules", put(one, 0), nil)
	r.want(200, "PUT", "/api/v1/rules", put("rules: []", 1), &s)
	first := r.want(200, "GET", "/api/v1/rules/bundle", "", nil)
	tag := first.Header().Get("ETag")
	if answer := r.do("GET", "/api/v1/rules/bundle", "", "If-None-Match", tag); answer.Code != 304 || answer.Body.Len() > 0 {
		t.Errorf("the same bundle: %d", answer.Code)
	}
	var list []store.RulesVersion
	r.want(200, "GET", "/api/v1/rules/versions", "", &list)
	if len(list) != 2 || list[0].Number != 2 || list[1].Note != "for the winter" {
		t.Errorf("versions: %+v", list)
	}
	r.want(200, "GET", "/api/v1/rules?version=1", "", &s)
	if s.Document != one {
		t.Errorf("the first version: %q", s.Document)
	}
	r.want(404, "GET", "/api/v1/rules?version=9", "", nil)
	r.want(422, "GET", "/api/v1/rules?version=x", "", nil)
	var tried rules.Tried
	r.want(200, "POST", "/api/v1/rules/try", triedWith(""), &tried)
	if tried.Trace.Outcome != "unchanged" || tried.Before.Source != tried.After.Source {
		t.Errorf("without rules: %+v", tried)
	}
	r.want(200, "POST", "/api/v1/rules/try", tryOne, &tried)
	if tried.Trace.Outcome != "stamped" || !strings.Contains(tried.After.Source, "Head of Timetables") ||
		!strings.Contains(tried.After.Page, "Head of Timetables") || !strings.HasSuffix(tried.Before.Page, "Hello\r\n</pre>") {
		t.Errorf("tried: %+v", tried)
	}
}

// inForce asks the rules that gateways use about a message of somebody.
func (r *rig) inForce(from string) rules.Tried {
	r.t.Helper()
	text, err := json.Marshal(map[string]any{"inForce": true,
		"message": []byte("From: " + from + "\r\nTo: runa.holt@quay.example\r\nSubject: Berth 4\r\n\r\nHello\r\n")})
	if err != nil {
		r.t.Fatal(err)
	}
	var tried rules.Tried
	r.want(200, "POST", "/api/v1/rules/try", string(text), &tried)
	return tried
}

// putRules stores mail rules.
func (r *rig) putRules(document string) {
	r.t.Helper()
	text, err := json.Marshal(map[string]any{"document": document, "base": -1})
	if err != nil {
		r.t.Fatal(err)
	}
	r.want(200, "PUT", "/api/v1/rules", string(text), nil)
}

// TestRulesGoOutWithReleases: what gateways use is what releases hold that are out, by wave; a withdrawn one gives the one before
// back; paused rules stamp nothing.
func TestRulesGoOutWithReleases(t *testing.T) {
	r, _ := released(t)
	expect := func(step, from, outcome string, release int, says string) {
		t.Helper()
		trace := r.inForce(from).Trace
		if string(trace.Outcome) != outcome || trace.Release != release || !strings.Contains(trace.Says, says) {
			t.Errorf("%s, %s: %s by release %d, %q; wanted %s by %d, …%s…", step, from, trace.Outcome, trace.Release,
				trace.Says, outcome, release, says)
		}
	}
	r.putRules("rules: [{name: first}]")
	expect("stored only", crew, "unchanged", 0, "No release with mail rules is out")
	before := r.want(200, "GET", "/api/v1/rules/bundle", "", nil).Header().Get("ETag")
	first := r.out("First", "")
	if first.Rules != 1 {
		t.Errorf("the release holds version %d of the rules", first.Rules)
	}
	expect("out", crew, "stamped", first.ID, "By the rule first")
	if now := r.want(200, "GET", "/api/v1/rules/bundle", "", nil).Header().Get("ETag"); now == before {
		t.Error("the bundle stayed what it was")
	}
	r.putRules("rules: [{name: second, then: {nothing: true}}]")
	expect("changed only", crew, "stamped", first.ID, "By the rule first")
	second := r.out("Second", `{"audience":"crew"}`)
	expect("in the wave", crew, "unchanged", second.ID, "The rule second applies")
	expect("not in the wave", ashore, "stamped", first.ID, "By the rule first")
	expect("a stranger", "robin@quayside.example", "unchanged", first.ID, "nobody in the directory")
	if text := r.want(200, "GET", fmt.Sprintf("/api/v1/releases/%d", second.ID), "",
		nil).Body.String(); !strings.Contains(text, `"kind":"rule"`) {
		t.Errorf("the release does not say that its rules are others: %s", text)
	}
	r.as("Maren", 200, "PUT", "/api/v1/rules/pause", `{"paused":true,"says":"the host moves"}`, nil)
	expect("paused", ashore, "unchanged", 0, "paused: by Maren")
	expect("paused", ashore, "unchanged", 0, "because: the host moves")
	r.want(200, "PUT", "/api/v1/rules/pause", `{"paused":false}`, nil)
	expect("resumed", ashore, "stamped", first.ID, "By the rule first")
	r.as("Bo", 200, "POST", fmt.Sprintf("/api/v1/releases/%d/withdraw", second.ID), "", nil)
	expect("withdrawn", crew, "stamped", first.ID, "By the rule first")
	r.putRules("rules: [{name: third, onFor: crew, state: trial}]")
	r.want(204, "DELETE", "/api/v1/audiences/crew", "", nil)
	if text := r.as("Maren", 422, "POST", "/api/v1/releases", `{"title":"Third"}`, nil); !strings.Contains(text, "crew") {
		t.Errorf("a release whose rules name what is gone: %s", text)
	}
}

func TestRulesAreCheckedAndKeepTheirComments(t *testing.T) {
	r := loaded(t)
	document := "# Ours\nrules:\n  # orders are read by a program\n  - name: orders\n    when: {recipients: " +
		"{addresses: [o@depot.example]}} # the depot\n" +
		"    then: {nothing: true}\n  - name: rest\n    then: {template: harbour}\n"
	check := func(document string, file any) (s rules.State) {
		t.Helper()
		text, err := json.Marshal(map[string]any{"document": document, "file": file})
		if err != nil {
			t.Fatal(err)
		}
		r.want(200, "POST", "/api/v1/rules/check", string(text), &s)
		return s
	}
	s := check(document, nil)
	if s.Document != document || len(s.File.Rules) != 2 || s.File.Rules[1].Then.Place != "newest" {
		t.Errorf("checked: %+v", s)
	}
	s.File.Rules[1].Then.Place = "end"
	changed := check(document, s.File)
	for _, want := range []string{"# Ours", "# orders are read by a program", "# the depot", "place: end"} {
		if !strings.Contains(changed.Document, want) {
			t.Errorf("the document lost %q:\n%s", want, changed.Document)
		}
	}
	if strings.Contains(changed.Document, "unsure") || changed.Rules[1].Sentence == s.Rules[1].Sentence {
		t.Errorf("changed:\n%s", changed.Document)
	}
	var sampled api.Samples
	r.want(200, "POST", "/api/v1/rules/samples",
		`{"document":"rules: [{name: one, when: {direction: outgoing}, then: {template: harbour}}]"}`, &sampled)
	got := map[string]string{}
	for _, one := range sampled.Samples {
		got[one.Name] = string(one.Outcome)
	}
	for name, want := range map[string]string{"new-outside": "stamped", "new-inside": "unchanged", "new-mixed": "stamped", "reply": "stamped",
		"reply-text": "stamped", "forward": "stamped", "automatic": "unchanged", "invitation": "unchanged", "encrypted": "unchanged"} {
		if got[name] != want {
			t.Errorf("the sample %s is %q, wanted %s", name, got[name], want)
		}
	}
	r.want(404, "POST", "/api/v1/rules/samples", `{"document":"rules: [{name: one, then: {template: harbour}}]","sender":"x@y.example"}`, nil)
}

func TestRehearsal(t *testing.T) {
	r := loaded(t)
	r.putRules("rules: [{name: one, when: {direction: outgoing}, then: {template: harbour}}]")
	mailbox := ""
	for i := range 20 {
		mailbox += "From x Mon Nov 23 09:00:00 2026\n" + strings.ReplaceAll(triedMessage, "\r\n", "\n") + fmt.Sprint(i) + "\n\n"
	}
	r.want(422, "POST", "/api/v1/rules/rehearse?name=last-week.mbox", "", nil)
	var job struct {
		ID, State string
		Total     int
		Result    rule.Rehearsal
	}
	r.want(202, "POST", "/api/v1/rules/rehearse?name=last-week.mbox", mailbox, &job)
	for until := time.Now().Add(time.Minute); job.State != "ready" && time.Now().Before(until); time.Sleep(20 * time.Millisecond) {
		r.want(200, "GET", "/api/v1/jobs/"+job.ID, "", &job)
	}
	if job.Total != 20 || job.Result.Messages != 20 || job.Result.Outcomes["stamped"] != 20 {
		t.Errorf("rehearsed: %+v", job)
	}
}

func TestMessagesAreFound(t *testing.T) {
	r := loaded(t)
	record := func(key, minute, id, sender, outcome string, to ...string) rule.Record {
		at, _ := time.Parse(time.RFC3339, "2026-11-23T09:"+minute+":00Z")
		return rule.Record{Key: key, Time: at, MessageID: "<" + id + ">", Queue: "Q" + key, Way: "milter", Sender: sender, Recipients: to,
			Outcome: rule.Outcome(outcome), Rule: "one", Before: 100, After: 200, Bundle: "b", Says: "Because.", Failed: outcome == "held",
			Steps: []rule.RecordStep{{Rule: "one", State: "on", Says: "It puts in."}}}
	}
	report := func(records ...rule.Record) string {
		text, err := json.Marshal(rule.GatewayReport{Gateway: "mx1", Version: "1", Bundle: "b", Ways: []string{"milter"}, Records: records,
			Counts: rule.GatewayCounts{Outcomes: map[rule.Outcome]int{"stamped": 2}, Took: make([]int, 11)}})
		if err != nil {
			t.Fatal(err)
		}
		return string(text)
	}
	first := report(record("1", "01", "A.one@brackwater.example", crew, "stamped", "robin@quayside.example", ashore),
		record("2", "03", "a.two@brackwater.example", ashore, "unchanged", "x@harbour.example"))
	r.want(204, "POST", "/api/v1/gateways/report", first, nil)
	r.want(204, "POST", "/api/v1/gateways/report", first, nil)
	r.want(204, "POST", "/api/v1/gateways/report", report(record("3", "02", "b@brackwater.example", crew, "held", "x@harbour.example")), nil)
	for query, want := range map[string]string{"": "2 3 1", "find=a.ONE": "1", "find=%3Ca.two@brackwater.example%3E": "2", "find=a.": "2 1",
		"find=robin": "1", "find=bo@": "2 1", "find=q3": "3", "find=nobody": "", "outcome=stamped": "1", "outcome=failed": "3",
		"since=2026-11-23T09:02:00Z": "2 3", "until=2026-11-23T09:02:00Z": "1", "rule=one&find=x@harbour.example": "2 3", "rule=on": "",
		"gateway=mx2": "", "limit=1": "2"} {
		var found messages.Found
		r.want(200, "GET", "/api/v1/messages?"+query, "", &found)
		var got []string
		for _, m := range found.Messages {
			got = append(got, m.Key)
		}
		if strings.Join(got, " ") != want {
			t.Errorf("%s: found %v, wanted %s", query, got, want)
		}
		if query == "limit=1" {
			var rest messages.Found
			r.want(200, "GET", fmt.Sprintf("/api/v1/messages?before=%d", found.Messages[0].ID), "", &rest)
			if !found.More || len(rest.Messages) != 2 || rest.Messages[0].Key != "3" || len(rest.Messages[1].Recipients) != 2 ||
				rest.Messages[0].Steps[0].Says != "It puts in." {
				t.Errorf("the rest: %+v", rest)
			}
		}
	}
	for _, query := range []string{"since=monday", "limit=0", "before=x"} {
		r.want(422, "GET", "/api/v1/messages?"+query, "", nil)
	}
	var counts store.MessageCounts
	r.want(200, "GET", "/api/v1/messages/counts", "", &counts)
	if counts.Total != 3 || counts.Failed != 1 || counts.Outcomes["stamped"] != 1 {
		t.Errorf("counts: %+v", counts)
	}
	var gateways []store.Gateway
	r.want(200, "GET", "/api/v1/gateways", "", &gateways)
	if len(gateways) != 1 || gateways[0].Bundle != "b" {
		t.Errorf("gateways: %+v", gateways)
	}
	if text := r.want(200, "GET", "/metrics", "", nil).Body.String(); !strings.Contains(text,
		`missivum_mail_messages_total{gateway="mx1",outcome="stamped"} 2`) {
		t.Errorf("metrics: %s", text)
	}
	for _, wrong := range []string{`{"gateway":""}`, `{"gateway":"a","records":[{"key":""}]}`} {
		r.want(422, "POST", "/api/v1/gateways/report", wrong, nil)
	}
	r.want(422, "PUT", "/api/v1/messages/settings", `{"days":0}`, nil)
	r.want(200, "PUT", "/api/v1/messages/settings", `{"days":7}`, nil)
	var settings messages.Settings
	if r.want(200, "GET", "/api/v1/messages/settings", "", &settings); settings.Days != 7 {
		t.Errorf("settings: %+v", settings)
	}
}
