package packages

import (
	"bytes"
	"context"
	"errors"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"missivum/core/person"
	"missivum/core/template"
	staff "missivum/demo/people"
	"missivum/service/people"
	"missivum/service/store"
	"missivum/service/templates"
)

func start(t *testing.T, count int) *Packages {
	t.Helper()
	ctx := context.Background()
	folder := t.TempDir()
	st, err := store.Open(ctx, filepath.Join(folder, "x.db"))
	if err != nil {
		t.Fatal(err)
	}
	ppl := &people.People{Store: st}
	p := &Packages{Store: st, People: ppl, Templates: &templates.Templates{Store: st, People: ppl, Now: time.Now}, Folder: filepath.Join(folder, "packages"), Now: time.Now, Log: slog.New(slog.NewTextHandler(io.Discard, nil))}
	if err := p.Start(ctx); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		p.Stop()
		if err := st.Close(); err != nil {
			t.Error(err)
		}
	})
	var csv bytes.Buffer
	if err := person.WriteCSV(&csv, staff.Generate(count, 2)); err != nil {
		t.Fatal(err)
	}
	plan, err := ppl.Plan(ctx, &csv, nil, false)
	if err != nil {
		t.Fatal(err)
	}
	if err := ppl.Apply(ctx, plan); err != nil {
		t.Fatal(err)
	}
	if _, err := p.Templates.Save(ctx, "crew", template.Parts{Source: "<p>{{ cn }} {{ mobile | phone }}</p>"}, templates.Edit{}); err != nil {
		t.Fatal(err)
	}
	return p
}

// until waits until a package has a state.
func until(t *testing.T, p *Packages, id string, states ...string) store.Package {
	t.Helper()
	for end := time.Now().Add(time.Minute); time.Now().Before(end); time.Sleep(2 * time.Millisecond) {
		record, err := p.Get(context.Background(), id)
		if err != nil {
			t.Fatal(err)
		}
		for _, state := range states {
			if record.State == state {
				return record
			}
		}
	}
	t.Fatalf("the package never was %v", states)
	return store.Package{}
}

func TestOneAfterTheOther(t *testing.T) {
	p, ctx := start(t, 200), context.Background()
	var ids []string
	for range 3 {
		record, err := p.Create(ctx, "crew", nil)
		if err != nil {
			t.Fatal(err)
		}
		ids = append(ids, record.ID)
	}
	for _, id := range ids {
		record := until(t, p, id, Ready, Failed)
		if record.State != Ready || record.Done != 200 || record.SHA256 == "" {
			t.Errorf("%+v", record)
		}
		f, _, err := p.Open(ctx, id)
		if err != nil {
			t.Fatal(err)
		}
		info, err := f.Stat()
		if err != nil || info.Size() != record.Bytes {
			t.Errorf("%v bytes on disk, %d in the record", info.Size(), record.Bytes)
		}
		f.Close()
	}
	if list, err := p.List(ctx); err != nil || len(list) != 3 {
		t.Errorf("%d, %v", len(list), err)
	}
}

func TestStoppingLeavesNoFile(t *testing.T) {
	p, ctx := start(t, 5000), context.Background()
	record, err := p.Create(ctx, "crew", nil)
	if err != nil {
		t.Fatal(err)
	}
	until(t, p, record.ID, Running)
	if _, _, err := p.Open(ctx, record.ID); !errors.Is(err, ErrNotReady) {
		t.Errorf("half a package can be opened: %v", err)
	}
	if err := p.Remove(ctx, record.ID); err != nil {
		t.Fatal(err)
	}
	record = until(t, p, record.ID, Stopped, Ready)
	if record.State != Stopped || !strings.Contains(record.Message, "of 5000 people") {
		t.Errorf("%+v", record)
	}
	entries, err := os.ReadDir(p.Folder)
	if err != nil || len(entries) != 0 {
		t.Errorf("left in the folder: %v, %v", entries, err)
	}
	if err := p.Remove(ctx, record.ID); err != nil {
		t.Errorf("deleting what was stopped: %v", err)
	}
	if _, err := p.Get(ctx, record.ID); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("%v", err)
	}
}

func TestLeftoversOfACrashAreCleared(t *testing.T) {
	p, ctx := start(t, 10), context.Background()
	part := filepath.Join(p.Folder, "x.zip.part")
	if err := os.WriteFile(part, []byte("half"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := p.Start(ctx); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(part); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("the half file is still there: %v", err)
	}
}
