package store

import (
	"os"
	"path/filepath"
	"testing"
	"time"
)

// The data folder may have any name that a folder can have.
func TestFoldersWithSigns(t *testing.T) {
	for _, name := range []string{"a?b", "a#b", "a%b", "a%20b", "a b", "a&b", "ä", "a;b", "a'b", "a+b", "?mode=ro"} {
		folder := filepath.Join(t.TempDir(), name)
		if err := os.MkdirAll(folder, 0o750); err != nil {
			t.Fatal(err)
		}
		s, err := Open(t.Context(), filepath.Join(folder, "x.db"), time.Now)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if err := s.Close(); err != nil {
			t.Error(err)
		}
		if entries, err := os.ReadDir(folder); err != nil || len(entries) == 0 || entries[0].Name() != "x.db" {
			t.Errorf("%s holds %v, %v", name, entries, err)
		}
	}
}
