package service

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"missivum/core/problem"
	"missivum/core/template"
	"missivum/service/access"
	"missivum/service/packages"
	"missivum/service/people"
	"missivum/service/store"
	"missivum/service/templates"
)

func config(folder, listen string) Config {
	return Config{Data: folder, Listen: listen, Log: slog.New(slog.NewTextHandler(io.Discard, nil)), Now: time.Now, Version: "test"}
}

func TestOnlyLoopback(t *testing.T) {
	for listen, ok := range map[string]bool{
		"127.0.0.1:0": true, "[::1]:0": true, "localhost:0": true,
		"0.0.0.0:0": false, ":0": false, "192.0.2.1:0": false, "[::]:0": false, "brackwater.example:0": false,
	} {
		s, err := Open(context.Background(), config(t.TempDir(), listen))
		if ok != (err == nil) {
			if strings.HasPrefix(listen, "[::1]") && err != nil && !errors.Is(err, ErrNotLoopback) {
				continue // a machine without IPv6
			}
			t.Errorf("%s: %v", listen, err)
		}
		if !ok && !errors.Is(err, ErrNotLoopback) {
			t.Errorf("%s: the reason is not said: %v", listen, err)
		}
		if err == nil {
			ctx, cancel := context.WithCancel(context.Background())
			cancel()
			if err := s.Serve(ctx); err != nil {
				t.Errorf("%s: %v", listen, err)
			}
		}
	}
}

func TestDataOutlivesTheService(t *testing.T) {
	folder := t.TempDir()
	ctx := access.With(context.Background(), access.Loopback())
	s, err := Open(ctx, config(folder, "127.0.0.1:0"))
	if err != nil {
		t.Fatal(err)
	}
	plan, err := s.People.PlanFile(ctx, people.File{Body: strings.NewReader("mail,cn\na@brackwater.example,A\n")})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.People.Apply(ctx, plan.Run.ID, false); err != nil {
		t.Fatal(err)
	}
	if _, err := s.People.Apply(ctx, plan.Run.ID, false); !problem.Is(err, problem.Conflict) {
		t.Errorf("a plan was applied twice: %v", err)
	}
	if _, err := s.Templates.Save(ctx, "crew", template.Whole(template.Parts{Source: "<p>{{ cn }}</p>"}), templates.Edit{}); err != nil {
		t.Fatal(err)
	}
	crew := func(s *Service) templates.State {
		v, err := s.Templates.Get(ctx, "crew", 0)
		if err != nil {
			t.Fatal(err)
		}
		state, err := s.Templates.State(ctx, v)
		if err != nil {
			t.Fatal(err)
		}
		return state
	}
	found := crew(s)
	for end := time.Now().Add(time.Minute); found.Pending && time.Now().Before(end); time.Sleep(5 * time.Millisecond) {
		found = crew(s)
	}
	// a package that was being made when the machine went down
	err = s.Store.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.AddJob(store.Job{ID: "cut", Kind: packages.Kind, Title: "crew", Input: "{}"}); err != nil {
			return err
		}
		return tx.AddPackage(store.Package{ID: "cut", Template: "crew", Version: 1})
	})
	if err != nil {
		t.Fatal(err)
	}
	running, stop := context.WithCancel(ctx)
	ended := make(chan error)
	go func() { ended <- s.Serve(running) }()
	answer, err := http.Get(s.Address() + "/readyz")
	if err != nil || answer.StatusCode != 200 {
		t.Errorf("%v %v", answer, err)
	}
	answer.Body.Close()
	stop()
	if err := <-ended; err != nil {
		t.Errorf("stopping: %v", err)
	}
	again, err := Open(ctx, config(folder, "127.0.0.1:0"))
	if err != nil {
		t.Fatal(err)
	}
	if kept := crew(again); kept.Pending || kept != found || found.Verdict == "" {
		t.Errorf("what the checks found is worked out again: %+v, was %+v", kept, found)
	}
	d, revision, err := again.People.Directory(ctx)
	if err != nil || len(d.People) != 1 || revision != 1 {
		t.Errorf("people: %+v, %d, %v", d, revision, err)
	}
	if v, err := again.Templates.Get(ctx, "crew", 0); err != nil || v.Number != 1 {
		t.Errorf("template: %+v, %v", v, err)
	}
	if p, err := again.Packages.Get(ctx, "cut"); err != nil || p.Job.State != store.Stopped || p.Job.Message == "" {
		t.Errorf("package: %+v, %v", p, err)
	}
	running, stop = context.WithCancel(ctx)
	stop()
	if err := again.Serve(running); err != nil {
		t.Error(err)
	}
}

// TestOneListenerFailingEndsAll: nothing goes on with a store that is closed, and the reason is given.
func TestOneListenerFailingEndsAll(t *testing.T) {
	c := config(t.TempDir(), "127.0.0.1:0")
	c.PictureListen = "127.0.0.1:0"
	s, err := Open(context.Background(), c)
	if err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() { ended <- s.Serve(context.Background()) }()
	for end := time.Now().Add(5 * time.Second); ; time.Sleep(5 * time.Millisecond) {
		if answer, err := http.Get(s.Address() + "/readyz"); err == nil {
			answer.Body.Close()
			break
		}
		if time.Now().After(end) {
			t.Fatal("it never answers")
		}
	}
	if err := s.public.Close(); err != nil { // as if its network went away
		t.Fatal(err)
	}
	select {
	case err := <-ended:
		if err == nil || !strings.Contains(err.Error(), "use of closed") {
			t.Errorf("the reason is not given: %v", err)
		}
	case <-time.After(20 * time.Second):
		t.Fatal("the other listener goes on")
	}
	if answer, err := http.Get(s.Address() + "/readyz"); err == nil {
		answer.Body.Close()
		t.Error("it still answers")
	}
}

// TestAFolderThatCannotBeWrittenIsNoticedAtTheStart, and not when somebody saves.
func TestAFolderThatCannotBeWrittenIsNoticedAtTheStart(t *testing.T) {
	c := config(t.TempDir(), "127.0.0.1:0")
	c.PictureTree = filepath.Join(c.Data, "file", "tree")
	if err := os.WriteFile(filepath.Join(c.Data, "file"), nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(context.Background(), c); err == nil || !strings.Contains(err.Error(), "hosted pictures") {
		t.Errorf("%v", err)
	}
}

// A second service on a data folder is refused, and so is one whose address is taken; neither touches what is there.
func TestOneServiceForAFolder(t *testing.T) {
	folder := t.TempDir()
	first, err := Open(t.Context(), config(folder, "127.0.0.1:0"))
	if err != nil {
		t.Fatal(err)
	}
	half := filepath.Join(folder, "packages", ".part-first")
	if err := os.WriteFile(half, []byte("being written"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(t.Context(), config(folder, "127.0.0.1:0")); !problem.Is(err, problem.Conflict) ||
		!strings.Contains(err.Error(), folder) {
		t.Errorf("a second one on the folder: %v", err)
	}
	other := t.TempDir()
	if _, err := Open(t.Context(), config(other, strings.TrimPrefix(first.Address(), "http://"))); err == nil ||
		!strings.Contains(err.Error(), "listening on") {
		t.Errorf("an address that is taken: %v", err)
	}
	if entries, err := os.ReadDir(other); err != nil || len(entries) != 1 {
		t.Errorf("%v was made though the service never ran: %v", entries, err)
	}
	if data, err := os.ReadFile(half); err != nil || string(data) != "being written" {
		t.Errorf("the first one's work is %q, %v", data, err)
	}
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	if err := first.Serve(ended); err != nil {
		t.Fatal(err)
	}
	again, err := Open(t.Context(), config(folder, "127.0.0.1:0"))
	if err != nil {
		t.Fatal(err)
	}
	if err := again.Serve(ended); err != nil {
		t.Error(err)
	}
}
