package access

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

func marksOf(t testing.TB, key string) *Marks {
	m := &Marks{File: filepath.Join(t.TempDir(), "links.key")}
	err := os.WriteFile(m.File, []byte(key), 0o600)
	if err == nil {
		err = m.Start()
	}
	if err != nil {
		t.Fatal(err)
	}
	return m
}

// A token is read by the service that made it, for what it was made for, until its end.
func TestTokens(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	m := marksOf(t, "0123456789abcdef0123456789abcdef")
	secret := []byte("sixteen letters!")
	token := m.Token("link", 7, now.Add(time.Hour), secret)
	id, again, ok := m.ReadToken("link", token, now)
	if !ok || id != 7 || string(again) != string(secret) {
		t.Fatalf("%d %q %v", id, again, ok)
	}
	if _, _, ok := marksOf(t, "another key of another service!!").ReadToken("link", token, now); ok {
		t.Error("another service reads it")
	}
	if _, _, ok := m.ReadToken("add-on", token, now); ok {
		t.Error("it is read as another kind")
	}
	if _, _, ok := m.ReadToken("link", token, now.Add(time.Hour)); ok {
		t.Error("one that has ended is read")
	}
	if strings.ContainsAny(token, "+/=#&? ") {
		t.Errorf("%s cannot stand in an address as it is", token)
	}
}

// The key is made once, and a file that holds none is refused.
func TestMarksKeepTheirKey(t *testing.T) {
	m := &Marks{File: filepath.Join(t.TempDir(), "secrets", "links.key")}
	if err := m.Start(); err != nil {
		t.Fatal(err)
	}
	token := m.Token("link", 1, time.Now().Add(time.Hour), []byte("sixteen letters!"))
	again := &Marks{File: m.File}
	if err := again.Start(); err != nil {
		t.Fatal(err)
	}
	if _, _, ok := again.ReadToken("link", token, time.Now()); !ok {
		t.Error("a service that starts again does not read its own token")
	}
	if info, err := os.Stat(m.File); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the key can be read by others: %v %v", info, err)
	}
	if err := os.WriteFile(m.File, []byte("short"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := again.Start(); err == nil {
		t.Error("a key of five letters is taken")
	}
}
