package messages

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"testing"
	"time"

	"missivum/core/rule"
	"missivum/service/access"
	"missivum/service/store"
)

// opened is a store with records of messages.
func opened(t *testing.T, now *time.Time) (*Messages, context.Context, string) {
	t.Helper()
	file := filepath.Join(t.TempDir(), "test.db")
	ctx := access.With(t.Context(), access.Itself("test"))
	st, err := store.Open(ctx, file, func() time.Time { return *now })
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { st.Close() })
	return &Messages{Store: st, Now: func() time.Time { return *now }, Log: slog.New(slog.DiscardHandler)}, ctx, file
}

// report is a report with records of messages, from one number on.
func report(from, count int, at time.Time) rule.GatewayReport {
	r := rule.GatewayReport{Gateway: "mx1", Counts: rule.GatewayCounts{Took: make([]int, len(rule.TookBounds)+1)}}
	for i := from; i < from+count; i++ {
		sender := fmt.Sprintf("person-%d@brackwater.example", i%5000)
		r.Records = append(r.Records, rule.Record{Key: fmt.Sprintf("KEY%024d", i),
			Time: at.Add(time.Duration(i) * time.Millisecond), Way: "milter",
			MessageID: fmt.Sprintf("<%024x.%d@brackwater.example>", i*7919, i), Queue: fmt.Sprintf("4F%08X", i), Sender: sender,
			Recipients: []string{fmt.Sprintf("somebody-%d@quay.example", i%20_000), sender}, Outcome: rule.Stamped, Rule: "everybody-outside",
			Says: "By the rule everybody-outside: harbour, reply under the newest text.", Before: 12_000, After: 14_000, Place: "newest",
			Bundle: "0123456789ab", Release: 7, Took: 1.5, Steps: []rule.RecordStep{{Rule: "leave-orders", State: "on",
				Lacks: "it asks for the recipient orders@depot.example"}, {Rule: "everybody-outside", State: "on",
				Says: "It puts in harbour, reply, under the newest text."}}})
	}
	return r
}

// TestManyRecords keeps records, finds one, counts them, and lets old ones go. It prints how large and how fast that is.
func TestManyRecords(t *testing.T) {
	amount := 10_000
	if os.Getenv("MISSIVUM_SOAK") != "" {
		amount = 1_000_000
	}
	now := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	m, ctx, file := opened(t, &now)
	began := time.Now()
	for i := 0; i < amount; i += rule.MaxRecords {
		if err := m.Take(ctx, report(i, rule.MaxRecords, now)); err != nil {
			t.Fatal(err)
		}
	}
	kept := time.Since(began)
	info, err := os.Stat(file)
	if err != nil {
		t.Fatal(err)
	}
	began = time.Now()
	found, err := m.Find(ctx, store.MessageFilter{Find: "person-17@"}, 50)
	if err != nil || len(found.Messages) != min(50, amount/5000) || found.Messages[0].Steps[1].Says == "" ||
		len(found.Messages[0].Recipients) != 2 {
		t.Fatalf("found %d: %v", len(found.Messages), err)
	}
	search := time.Since(began)
	began = time.Now()
	counts, err := m.Count(ctx, store.MessageFilter{Since: now})
	if err != nil || counts.Total != amount || counts.Outcomes[rule.Stamped] != amount {
		t.Fatalf("counted %+v: %v", counts, err)
	}
	t.Logf("%d records kept in %v, %d bytes each; one sender's found in %v, all counted in %v", amount, kept,
		info.Size()/int64(amount), search,
		time.Since(began))
	now = now.AddDate(0, 0, DefaultDays)
	if err := m.drop(ctx); err != nil {
		t.Fatal(err)
	}
	if counts, err = m.Count(ctx, store.MessageFilter{}); err != nil || counts.Total != amount {
		t.Errorf("on the last day there are %d: %v", counts.Total, err)
	}
	now = now.Add(24 * time.Hour)
	if err := m.drop(ctx); err != nil {
		t.Fatal(err)
	}
	if counts, err = m.Count(ctx, store.MessageFilter{}); err != nil || counts.Total != 0 {
		t.Errorf("after their time there are %d: %v", counts.Total, err)
	}
}
