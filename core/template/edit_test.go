package template

import (
	"strings"
	"testing"
)

func TestWithSetting(t *testing.T) {
	for name, c := range map[string]struct {
		settings string
		value    any
		path     []string
		want     string
	}{
		"into nothing":  {"", "hosted", []string{"pictures", "delivery", "message"}, "pictures:\n  delivery:\n    message: hosted\n"},
		"a member more": {"title: Harbour # the best\n", "sv", []string{"language"}, "title: Harbour # the best\nlanguage: sv\n"},
		"in place of one": {"# ours\ntitle: Harbour # the best\nlanguage: en\n", "Quay", []string{"title"},
			"# ours\ntitle: Quay # the best\nlanguage: en\n"},
		"beside others": {"pictures:\n  files:\n    logo: {file: logo.png, alt: x}\n",
			PictureSetting{File: "a.png", Alt: "A: b", From: "ferry", Version: 2}, []string{"pictures", "files", "a"},
			"pictures:\n  files:\n    logo: {file: logo.png, alt: x}\n    a: {file: a.png, alt: 'A: b', from: ferry, version: 2}\n"},
		"another file": {"pictures:\n  files:\n    logo: {file: logo.svg, alt: x} # ours\n",
			PictureSetting{File: "logo.png", Alt: "x"}, []string{"pictures", "files", "logo"},
			"pictures:\n  files:\n    logo: {file: logo.png, alt: x} # ours\n"},
		"a switch": {"title: Harbour\ncompact: false # for now\n", true, []string{"compact"},
			"title: Harbour\ncompact: true # for now\n"},
		"a member of a flow": {"pictures: {naming: content}\n", "data", []string{"pictures", "delivery", "html"},
			"pictures: {naming: content, delivery: {html: data}}\n"},
		"a member of nought": {"pictures:\n", "content", []string{"pictures", "naming"}, "pictures:\n  naming: content\n"},
	} {
		got, err := WithSetting(c.settings, c.value, c.path...)
		if err != nil || got != c.want {
			t.Errorf("%s: %q, want %q, %v", name, got, c.want, err)
		}
	}
	if _, err := WithSetting("title: [", "x", "title"); err == nil || !strings.Contains(err.Error(), "template.yaml") {
		t.Errorf("settings that cannot be read: %v", err)
	}
}
