package hosting

import (
	"bytes"
	"context"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"missivum/core/picture"
	"missivum/core/problem"
	"missivum/demo"
	"missivum/service/access"
	"missivum/service/store"
)

var acting = access.With(context.Background(), access.Loopback())

func open(t *testing.T) *Hosting {
	t.Helper()
	st, err := store.Open(context.Background(), filepath.Join(t.TempDir(), "x.db"), time.Now)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := st.Close(); err != nil {
			t.Error(err)
		}
	})
	return &Hosting{Store: st, Log: slog.New(slog.DiscardHandler), Tree: filepath.Join(t.TempDir(), "tree")}
}

func logo(t *testing.T) []byte {
	t.Helper()
	tmpl, err := demo.Template("harbour")
	if err != nil {
		t.Fatal(err)
	}
	return tmpl.Picture("logo").Data
}

// TestATreeThatCannotBeWrittenIsAWarning: the picture is hosted all the same, and written at the next start.
func TestATreeThatCannotBeWrittenIsAWarning(t *testing.T) {
	h := open(t)
	if err := os.WriteFile(h.Tree, []byte("in the way"), 0o600); err != nil {
		t.Fatal(err)
	}
	data := logo(t)
	key := picture.KeyOf(data)
	var warnings []string
	if err := h.Store.Write(acting, func(tx *store.Tx) error { return h.Put(tx, &warnings, data) }); err != nil {
		t.Fatal(err)
	}
	if len(warnings) != 1 || !strings.Contains(warnings[0], "Everything is saved") {
		t.Errorf("%q", warnings)
	}
	if have, _, err := h.Get(acting, key); err != nil || !bytes.Equal(have, data) {
		t.Errorf("it is not hosted: %v", err)
	}
	if err := h.Start(acting); err == nil {
		t.Error("a folder that cannot be written is not noticed at the start")
	}
	if err := os.Remove(h.Tree); err != nil {
		t.Fatal(err)
	}
	if err := h.Start(acting); err != nil {
		t.Fatal(err)
	}
	if have, err := os.ReadFile(filepath.Join(h.Tree, key)); err != nil || !bytes.Equal(have, data) {
		t.Errorf("the next start does not write it: %v", err)
	}
	if left, err := filepath.Glob(filepath.Join(h.Tree, ".*")); err != nil || len(left) != 0 {
		t.Errorf("left behind: %v, %v", left, err)
	}
}

func TestWithdrawnPicturesAreGone(t *testing.T) {
	h := open(t)
	data := logo(t)
	key := picture.KeyOf(data)
	var warnings []string
	if err := h.Store.Write(acting, func(tx *store.Tx) error { return h.Put(tx, &warnings, data) }); err != nil || len(warnings) != 0 {
		t.Fatal(err, warnings)
	}
	if err := h.Store.Write(acting, func(tx *store.Tx) error { return h.Withdraw(tx, key) }); err != nil {
		t.Fatal(err)
	}
	if _, _, err := h.Get(acting, key); !problem.Is(err, problem.NotFound) {
		t.Errorf("%v", err)
	}
	if _, err := os.Stat(filepath.Join(h.Tree, key)); !os.IsNotExist(err) {
		t.Errorf("it is still in the tree: %v", err)
	}
	if restored, err := h.Restore(acting, key); restored || err != nil {
		t.Errorf("it is restored: %v, %v", restored, err)
	}
}

func TestSettingsAreJudged(t *testing.T) {
	h := open(t)
	for field, s := range map[string]Settings{"address": {Address: "pictures.brackwater.example"}, "volume": {Volume: -1},
		"hours": {Hours: 24*365 + 1}} {
		if err := h.PutSettings(acting, s); !problem.Is(err, problem.Invalid) {
			t.Errorf("%+v: %v", s, err)
		} else if p, _ := problem.Of(err); p.Field != field {
			t.Errorf("%+v: the field is %q", s, p.Field)
		}
	}
	want := Settings{Address: "https://pictures.brackwater.example/", Volume: 9000, Hours: 24}
	if err := h.PutSettings(acting, want); err != nil {
		t.Fatal(err)
	}
	if got, err := h.Settings(acting); err != nil || got != want {
		t.Errorf("%+v, %v", got, err)
	}
}
