package api_test

import (
	"encoding/base64"
	"encoding/json"
	"strings"
	"testing"

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
	if tried.Trace.Outcome != "unchanged" || tried.Before != tried.After {
		t.Errorf("without rules: %+v", tried)
	}
	r.want(200, "POST", "/api/v1/rules/try", tryOne, &tried)
	if tried.Trace.Outcome != "stamped" || !strings.Contains(tried.After, "Head of Timetables") {
		t.Errorf("tried: %+v", tried)
	}
}
