package clients

import (
	"context"
	"errors"
	"log/slog"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"missivum/core/problem"
	"missivum/service/access"
	"missivum/service/store"
)

func open(t *testing.T) *Clients {
	t.Helper()
	st, err := store.Open(context.Background(), filepath.Join(t.TempDir(), "x.db"), time.Now)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { st.Close() })
	return &Clients{Store: st, Log: slog.New(slog.DiscardHandler)}
}

func TestAnOwnProfileStandsOverTheShippedOne(t *testing.T) {
	ctx := access.With(context.Background(), access.Loopback())
	c := open(t)
	before, first, err := c.Book(ctx)
	if err != nil || len(before) != 13 {
		t.Fatalf("%d profiles, %v", len(before), err)
	}
	if text, own, err := c.Document(ctx, "gecko-desktop"); err != nil || own || !strings.Contains(text, "based-on: gecko-desktop") {
		t.Errorf("%q, %v, %v", text, own, err)
	}
	p, err := c.Put(ctx, "gecko-desktop",
		"id: gecko-desktop\nbased-on: gecko-desktop\ntitle: Our yard\nshare: 12.5\nwithout: [linked-sheets]\n")
	if err != nil || p.Title != "Our yard" || p.Share != 12.5 || p.Width != 900 {
		t.Fatalf("%+v, %v", p, err)
	}
	if _, err := c.Put(ctx, "pilots", "id: pilots\nbased-on: gecko-desktop\ntitle: Pilots\noff: true\n"); err != nil {
		t.Fatal(err)
	}
	book, second, err := c.Book(ctx)
	if err != nil || len(book) != 14 || second == first || book.Find("pilots").Title != "Pilots" ||
		book.Find("gecko-desktop").Title != "Our yard" {
		t.Fatalf("%d profiles, %v", len(book), err)
	}
	for _, b := range book.Find("gecko-desktop").Behaviours {
		if b.ID == "linked-sheets" {
			t.Error("the behaviour is still there")
		}
	}
	if list, err := book.Select(nil); err != nil || len(list) != 13 {
		t.Errorf("%d chosen, %v", len(list), err)
	}
	if err := c.Remove(ctx, "gecko-desktop"); err != nil {
		t.Fatal(err)
	}
	if book, _, err = c.Book(ctx); err != nil || book.Find("gecko-desktop").Title == "Our yard" {
		t.Errorf("%v", err)
	}
	if err := c.Remove(ctx, "gecko-desktop"); !problem.Is(err, problem.NotFound) {
		t.Error(err)
	}
}

func TestWrongProfilesAreRefused(t *testing.T) {
	ctx := access.With(context.Background(), access.Loopback())
	c := open(t)
	for _, x := range []struct{ id, document, say string }{
		{"x", "id: y\nbased-on: gecko-desktop\n", `its id must be "x"`},
		{"x", "id: x\nbased-on: none\n", `line 2: there is no client profile "none"`},
		{"x", "id: x\ntitle: X\n", "missing"},
		{"x", "id: x\nbased-on: gecko-desktop\nshare: 120\n", "line 3: share"},
		{"x", "id: [", ""},
	} {
		if _, err := c.Put(ctx, x.id, x.document); !problem.Is(err, problem.Refused) || !strings.Contains(err.Error(), x.say) {
			t.Errorf("%q: %v", x.document, err)
		}
	}
	if book, _, err := c.Book(ctx); err != nil || len(book) != 13 {
		t.Errorf("%d profiles, %v", len(book), err)
	}
	if _, err := c.Put(ctx, "base", "id: base\nbased-on: gecko-desktop\n"); err != nil {
		t.Fatal(err)
	}
	if _, err := c.Put(ctx, "other", "id: other\nbased-on: base\n"); err != nil {
		t.Fatal(err)
	}
	if err := c.Remove(ctx, "base"); !problem.Is(err, problem.Refused) {
		t.Errorf("another is based on it: %v", err)
	}
}

// TestTwoWritersCannotLeaveProfilesThatDoNotFit: while one profile is based on another, removing that one and basing a
// third on it happen one after the other, whoever comes first.
func TestTwoWritersCannotLeaveProfilesThatDoNotFit(t *testing.T) {
	ctx := access.With(context.Background(), access.Loopback())
	c := open(t)
	for round := range 20 {
		if _, err := c.Put(ctx, "base", "id: base\nbased-on: gecko-desktop\n"); err != nil {
			t.Fatal(err)
		}
		var wait sync.WaitGroup
		var put, removed error
		wait.Go(func() { _, put = c.Put(ctx, "other", "id: other\nbased-on: base\n") })
		wait.Go(func() { removed = c.Remove(ctx, "base") })
		wait.Wait()
		if (put == nil) == (removed == nil) {
			t.Fatalf("round %d: put %v, removed %v", round, put, removed)
		}
		if put == nil {
			if err := c.Remove(ctx, "other"); err != nil {
				t.Fatal(err)
			}
		}
	}
}

// TestAStoredProfileThatCannotBeReadHidesNoOther: such as one that an older program stored.
func TestAStoredProfileThatCannotBeReadHidesNoOther(t *testing.T) {
	ctx := access.With(context.Background(), access.Loopback())
	c := open(t)
	if _, err := c.Put(ctx, "gecko-desktop", "id: gecko-desktop\nbased-on: gecko-desktop\ntitle: Our yard\n"); err != nil {
		t.Fatal(err)
	}
	err := c.Store.Write(ctx, func(tx *store.Tx) error {
		return errors.Join(tx.PutClientProfile("orphan", "id: orphan\nbased-on: gone\n"),
			tx.PutClientProfile("child", "id: child\nbased-on: orphan\n"), tx.PutClientProfile("broken", "id: ["))
	})
	if err != nil {
		t.Fatal(err)
	}
	book, _, err := c.Book(ctx)
	if err != nil || len(book) != 13 || book.Find("gecko-desktop").Title != "Our yard" {
		t.Errorf("%d profiles, %v", len(book), err)
	}
}
