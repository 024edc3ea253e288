package sources

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"missivum/core/problem"
	"missivum/core/source"
	"missivum/service/store"
)

// TestAFolder: the newest file that fits is read, once; one that is still being written is left alone.
func TestAFolder(t *testing.T) {
	s := open(t)
	folder := t.TempDir()
	put(t, s, "hr", FolderKind, Settings{Folder: &Folder{Path: folder, Pattern: "export-*.csv"}}, "")
	write := func(name, text string, age time.Duration) {
		file := filepath.Join(folder, name)
		at := time.Now().Add(-age)
		if err := errors.Join(os.WriteFile(file, []byte(text), 0o600), os.Chtimes(file, at, at)); err != nil {
			t.Fatal(err)
		}
	}
	fails(t, s, "hr", "has no file export-*.csv")
	write("notes.txt", "mail\nx@b.example\n", time.Minute)
	write("export-1.csv", "E-Mail;Vorname;Nachname\na@b.example;J\xf6rg;A\nb@b.example;B;B\n", time.Hour)
	result, job := sync(t, s, "hr")
	if job.State != store.Ready || result.Summary.New != 2 || len(result.Summary.Notes) != 1 ||
		!strings.Contains(result.Summary.Notes[0], "1252") {
		t.Errorf("%s %s: %+v", job.State, job.Message, result.Summary)
	}
	if again, _ := sync(t, s, "hr"); again.Run != 0 {
		t.Errorf("the same file again: %+v", again)
	}
	write("export-2.csv", "mail,cn\na@b.example,A\n", 0)
	fails(t, s, "hr", "was written to just now")
	write("export-2.csv", "mail,cn\na@b.example,A\n", time.Minute)
	if result, job := sync(t, s, "hr"); job.State != store.Ready || result.Summary.Gone != 1 {
		t.Errorf("%s %s: %+v", job.State, job.Message, result.Summary)
	}
	src, err := s.Get(acting, "hr")
	if err != nil || src.State.Failures != 0 || src.People != 1 {
		t.Errorf("%+v, %v", src, err)
	}
	put(t, s, "hr", FolderKind, Settings{Folder: &Folder{Path: folder, Pattern: "export-*.csv"}, Look: true}, "")
	write("export-3.csv", "mail,cn\na@b.example,AA\n", time.Second*10)
	if result, _ := sync(t, s, "hr"); result.State != store.Planned || result.Summary.Changed != 1 {
		t.Errorf("every plan is to be looked at: %+v", result)
	}
	put(t, s, "hr", FolderKind, Settings{Folder: &Folder{Path: filepath.Join(folder, "none")}}, "")
	fails(t, s, "hr", "cannot be read")
}

// TestAnAddress: a file is fetched with its secret, only from whom is trusted, and only when it changed.
func TestAnAddress(t *testing.T) {
	s := open(t)
	var asked, full atomic.Int64
	body, tag := "mail,cn\na@b.example,A\n", `"1"`
	server := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked.Add(1)
		user, password, _ := r.BasicAuth()
		switch {
		case r.URL.Path == "/elsewhere":
			http.Redirect(w, r, "https://elsewhere.example/", http.StatusFound)
		case r.Header.Get("Authorization") != "Bearer token-1" && (user != "u" || password != "p"):
			w.WriteHeader(http.StatusUnauthorized)
		case r.Header.Get("If-None-Match") == tag:
			w.WriteHeader(http.StatusNotModified)
		default:
			full.Add(1)
			w.Header().Set("ETag", tag)
			fmt.Fprint(w, body)
		}
	}))
	server.Config.ErrorLog = nil
	defer server.Close()
	authority := string(pemOf(server.Certificate().Raw))
	secret(t, s, "token", "token-1")
	secret(t, s, "password", "p")
	web := Web{Address: server.URL + "/export", Authority: authority, Secret: "token"}
	put(t, s, "hr", WebKind, Settings{Web: &web}, "")
	if result, job := sync(t, s, "hr"); job.State != store.Ready || result.Summary.New != 1 {
		t.Errorf("%s %s: %+v", job.State, job.Message, result.Summary)
	}
	if again, job := sync(t, s, "hr"); job.State != store.Ready || again.Run != 0 || full.Load() != 1 {
		t.Errorf("%s %s: %+v", job.State, job.Message, again)
	}
	tag, body = `"2"`, "mail,cn\na@b.example,AA\n"
	if result, job := sync(t, s, "hr"); job.State != store.Ready || result.Summary.Changed != 1 {
		t.Errorf("%s %s: %+v", job.State, job.Message, result.Summary)
	}
	for _, c := range []struct {
		says   string
		change func(*Web)
	}{
		{"401", func(w *Web) { w.Secret = "password" }},
		{"302", func(w *Web) { w.Address = server.URL + "/elsewhere" }},
		{"is not trusted", func(w *Web) { w.Authority = "" }},
		{"cannot be read", func(w *Web) { w.Secret = "none" }},
	} {
		other := web
		c.change(&other)
		put(t, s, "hr", WebKind, Settings{Web: &other}, "")
		fails(t, s, "hr", c.says)
	}
	other := web
	other.User, other.Secret = "u", "password"
	put(t, s, "hr", WebKind, Settings{Web: &other}, "")
	if _, job := sync(t, s, "hr"); job.State != store.Ready {
		t.Errorf("%s %s", job.State, job.Message)
	}
}

// TestSchedules: a source is asked when its time has come, not while it is paused, and a failing one ever more seldom.
func TestSchedules(t *testing.T) {
	var now atomic.Pointer[time.Time]
	set := func(at time.Time) { now.Store(&at) }
	set(time.Now())
	s := openAt(t, func() time.Time { return *now.Load() })
	put(t, s, "hr", FolderKind, Settings{Folder: &Folder{Path: "/nowhere"}, Every: "1m"}, "")
	put(t, s, "quiet", FolderKind, Settings{Folder: &Folder{Path: "/nowhere"}}, "")
	tries := func() int {
		list, err := s.Jobs.List(acting, Job, 100)
		if err != nil {
			t.Fatal(err)
		}
		for _, job := range list {
			for end := time.Now().Add(time.Minute); !job.State.Ended() && time.Now().Before(end); time.Sleep(5 * time.Millisecond) {
				if job, err = s.Jobs.Get(acting, job.ID); err != nil {
					t.Fatal(err)
				}
			}
		}
		return len(list)
	}
	due := func(after time.Duration, want int) {
		t.Helper()
		set(now.Load().Add(after))
		if err := s.due(acting); err != nil {
			t.Fatal(err)
		}
		if got := tries(); got != want {
			t.Errorf("after %v: %d tries, want %d", after, got, want)
		}
	}
	due(time.Second, 1)
	due(30*time.Second, 1)
	due(40*time.Second, 2)
	due(70*time.Second, 2) // the second pause is two minutes
	due(60*time.Second, 3)
	if err := s.Pause(acting, "hr", true); err != nil {
		t.Fatal(err)
	}
	due(24*time.Hour, 3)
	if err := s.Pause(acting, "hr", false); err != nil {
		t.Fatal(err)
	}
	due(time.Second, 4)
	var changes []string
	err := s.Store.Read(acting, func(tx *store.Tx) error {
		list, err := tx.Entries(store.RecordFilter{}, 0, 100)
		for _, c := range list {
			if c.Object == "source" && c.Name == "hr" {
				changes = append(changes, c.Action)
			}
		}
		return err
	})
	if err != nil || strings.Join(changes, " ") != "resumed paused failed added" {
		t.Errorf("on record: %v, %v", changes, err)
	}
	ctx, stop := context.WithCancel(acting)
	stop()
	s.Watch(ctx, time.Hour)
}

// TestFilesThatAreNone are refused with what is wrong.
func TestFilesThatAreNone(t *testing.T) {
	for _, text := range []string{"", "x\n"} {
		file, _, err := fetched(strings.NewReader(text))
		if err != nil {
			t.Fatal(err)
		}
		in, err := fromFile(file, reading{how: source.Reading{}}, false)
		in.Close()
		if !problem.Is(err, problem.Refused) {
			t.Errorf("%q: %v", text, err)
		}
	}
}
