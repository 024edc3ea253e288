package cli

import (
	"encoding/json"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"missivum/core/rule"
)

// TestRecordsAfterATornLine: what a killed gateway wrote of a record spoils no other one.
func TestRecordsAfterATornLine(t *testing.T) {
	for before, lines := range map[string]int{
		"":                                 1,
		"{\"messageId\":\"one\"}\n":        2,
		"{\"messageId\":\"o":               2,
		"{\"messageId\":\"one\"}\n{\"mess": 3,
	} {
		file := filepath.Join(t.TempDir(), "records")
		if err := os.WriteFile(file, []byte(before), 0o600); err != nil {
			t.Fatal(err)
		}
		record, done, err := records(file, slog.New(slog.NewTextHandler(io.Discard, nil)))
		if err != nil {
			t.Fatal(err)
		}
		record(rule.Record{MessageID: "last"})
		if err := done(); err != nil {
			t.Fatal(err)
		}
		text, err := os.ReadFile(file)
		if err != nil || !strings.HasPrefix(string(text), before) {
			t.Fatalf("%q, %v", text, err)
		}
		all := strings.Split(strings.TrimSuffix(string(text), "\n"), "\n")
		var r rule.Record
		if err := json.Unmarshal([]byte(all[len(all)-1]), &r); err != nil || r.MessageID != "last" || len(all) != lines {
			t.Errorf("after %q: %d lines, the last one %+v, %v", before, len(all), r, err)
		}
	}
}

// TestRecordsThatCannotBeWritten: a record that the disk does not take is said to be lost.
func TestRecordsThatCannotBeWritten(t *testing.T) {
	var said strings.Builder
	record, done, err := records(filepath.Join(t.TempDir(), "records"), slog.New(slog.NewTextHandler(&said, nil)))
	if err != nil {
		t.Fatal(err)
	}
	done()
	record(rule.Record{MessageID: "late"})
	if !strings.Contains(said.String(), "a record was not written") || !strings.Contains(said.String(), "late") {
		t.Errorf("said: %q", said.String())
	}
}
