package store

import (
	"fmt"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"missivum/core/person"
	"missivum/core/problem"
	"missivum/service/access"
)

// A full disk is said to be full, and what was there is there as before.
func TestAFullDiskIsSaidToBeFull(t *testing.T) {
	s, err := Open(t.Context(), filepath.Join(t.TempDir(), "x.db"), time.Now)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if _, err := s.write.Exec("PRAGMA max_page_count = 200"); err != nil {
		t.Fatal(err)
	}
	d := &person.Directory{Schema: person.NewSchema("mail", "cn")}
	for i := range 500 {
		d.People = append(d.People, person.Person{Values: []string{fmt.Sprintf("p%d@b.example", i), strings.Repeat("x", 4000)}})
	}
	ctx := access.With(t.Context(), access.Loopback())
	err = Known(s.Write(ctx, func(tx *Tx) error {
		_, revision, err := tx.Directory()
		if err != nil {
			return err
		}
		return tx.ReplaceDirectory(d, revision, "too many")
	}))
	if !problem.Is(err, problem.Full) {
		t.Errorf("%v", err)
	}
	if err := s.Read(ctx, func(tx *Tx) error {
		have, _, err := tx.Directory()
		if err == nil && len(have.People) != 0 {
			t.Errorf("%d people", len(have.People))
		}
		return err
	}); err != nil {
		t.Error(err)
	}
	if err := Known(fmt.Errorf("writing: %w", syscall.ENOSPC)); !problem.Is(err, problem.Full) {
		t.Error(err)
	}
	if err := Known(syscall.EACCES); problem.Is(err, problem.Full) {
		t.Error(err)
	}
	if err := s.Ready(ctx); err != nil {
		t.Error(err)
	}
}
