package store

import (
	"fmt"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

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
	ctx := access.With(t.Context(), access.Loopback())
	err = Known(s.Write(ctx, func(tx *Tx) error {
		for i := range 500 {
			if _, err := tx.PutPerson(person1(fmt.Sprintf("p%d@b.example", i), strings.Repeat("x", 4000), 1), []string{"mail", "cn"}); err != nil {
				return err
			}
		}
		return nil
	}))
	if !problem.Is(err, problem.Full) {
		t.Errorf("%v", err)
	}
	if err := s.Read(ctx, func(tx *Tx) error {
		there, _, err := tx.CountPeople()
		if there != 0 {
			t.Errorf("%d people", there)
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
