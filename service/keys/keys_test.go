package keys

import (
	"context"
	"log/slog"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"missivum/core/problem"
	"missivum/service/access"
	"missivum/service/store"
)

var acting = access.With(context.Background(), access.Itself("test"))

// TestAKeyEnds on its day, is known by its beginning, kept as a digest, and says when it was used.
func TestAKeyEnds(t *testing.T) {
	now := time.Date(2026, 11, 28, 9, 0, 0, 0, time.UTC)
	file := filepath.Join(t.TempDir(), "x.db")
	s, err := store.Open(t.Context(), file, func() time.Time { return now })
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	k := &Keys{Store: s, Now: func() time.Time { return now }, Log: slog.New(slog.DiscardHandler)}
	ends := time.Date(2026, 12, 1, 0, 0, 0, 0, time.UTC)
	secret, err := k.Add(acting, store.Key{Name: "a", Scopes: []access.Scope{access.Metrics, access.APIRead}, Ends: ends})
	if err != nil || !strings.HasPrefix(secret, "missivum-") || len(secret) < 50 {
		t.Fatal(secret, err)
	}
	for range 3 {
		if key, err := k.Find(acting, secret); err != nil || key.Name != "a" || !key.Has(access.Metrics) || key.Has(access.APIWrite) {
			t.Errorf("%+v, %v", key, err)
		}
	}
	if _, err := k.Find(acting, secret+"x"); !problem.Is(err, problem.Unknown) {
		t.Errorf("another key: %v", err)
	}
	if err := k.StoreUses(acting); err != nil {
		t.Fatal(err)
	}
	if list, err := k.List(acting); err != nil || len(list) != 1 || !list[0].Used.Equal(now) {
		t.Errorf("used: %+v, %v", list, err)
	}
	now = ends.Add(-time.Second)
	if _, err := k.Find(acting, secret); err != nil {
		t.Errorf("before its end: %v", err)
	}
	now = ends
	if _, err := k.Find(acting, secret); !problem.Is(err, problem.Unknown) || !strings.Contains(err.Error(), "ended on 2026-12-01") {
		t.Errorf("after its end: %v", err)
	}
	if err := k.Remove(acting, "a", "somebody"); !problem.Is(err, problem.NotFound) {
		t.Errorf("a program's key as one's own: %v", err)
	}
}

func TestKeysThatMakeNoSense(t *testing.T) {
	now := time.Date(2026, 11, 28, 9, 0, 0, 0, time.UTC)
	s, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "x.db"), func() time.Time { return now })
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	k := &Keys{Store: s, Now: func() time.Time { return now }}
	read := []access.Scope{access.APIRead}
	for name, key := range map[string]store.Key{
		"a name":           {Name: "A B", Scopes: read},
		"no scope":         {Name: "a"},
		"an unknown scope": {Name: "a", Scopes: []access.Scope{"all"}},
		"one twice":        {Name: "a", Scopes: []access.Scope{access.Desk, access.Desk}},
		"over already":     {Name: "a", Scopes: read, Ends: now},
		"for ever nearly":  {Name: "a", Scopes: read, Ends: now.AddDate(9, 0, 0)},
		"no source":        {Name: "a", Scopes: []access.Scope{access.Directory}},
		"a source too":     {Name: "a", Scopes: read, Source: "hr"},
		"a desk of mine":   {Name: "a", Scopes: []access.Scope{access.Desk}, Account: "ines"},
	} {
		if _, err := k.Add(acting, key); !problem.Is(err, problem.Invalid) {
			t.Errorf("%s: %v", name, err)
		}
	}
}
