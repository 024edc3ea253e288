package packages

import (
	"bytes"
	"context"
	"errors"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"missivum/core/problem"
	"missivum/core/source"
	"missivum/core/template"
	staff "missivum/demo/people"
	"missivum/service/access"
	"missivum/service/files"
	"missivum/service/jobs"
	"missivum/service/people"
	"missivum/service/store"
	"missivum/service/templates"
)

func start(t *testing.T, count int) *Packages {
	t.Helper()
	ctx := access.With(context.Background(), access.Loopback())
	folder := t.TempDir()
	st, err := store.Open(ctx, filepath.Join(folder, "x.db"), time.Now)
	if err != nil {
		t.Fatal(err)
	}
	ppl := &people.People{Store: st}
	queue := &jobs.Jobs{Store: st, Log: slog.New(slog.DiscardHandler), Now: time.Now}
	p := &Packages{Store: st, Jobs: queue, People: ppl,
		Templates: &templates.Templates{Store: st, People: ppl, Now: time.Now}, Folder: filepath.Join(folder, "packages"), Now: time.Now}
	if err := errors.Join(p.Start(), queue.Start(ctx)); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		queue.End()
		if err := st.Close(); err != nil {
			t.Error(err)
		}
	})
	var csv bytes.Buffer
	if err := source.WriteCSV(&csv, staff.Generate(count, 2)); err != nil {
		t.Fatal(err)
	}
	plan, err := ppl.PlanFile(ctx, people.File{Body: &csv})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := ppl.Apply(ctx, plan.Run.ID, false); err != nil {
		t.Fatal(err)
	}
	if _, err := p.Templates.Save(ctx, "crew",
		template.Whole(template.Parts{Source: "<p>{{ cn }} {{ mobile | phone }}</p>"}), templates.Edit{}); err != nil {
		t.Fatal(err)
	}
	return p
}

// until waits until a package has a state.
func until(t *testing.T, p *Packages, id string, states ...store.JobState) store.Package {
	t.Helper()
	for end := time.Now().Add(time.Minute); time.Now().Before(end); time.Sleep(2 * time.Millisecond) {
		record, err := p.Get(context.Background(), id)
		if err != nil {
			t.Fatal(err)
		}
		for _, state := range states {
			if record.Job.State == state {
				return record
			}
		}
	}
	t.Fatalf("the package never was %v", states)
	return store.Package{}
}

func TestOneAfterTheOther(t *testing.T) {
	p, ctx := start(t, 200), access.With(context.Background(), access.Loopback())
	var ids []string
	for range 3 {
		record, _, err := p.Create(ctx, "crew", nil)
		if err != nil {
			t.Fatal(err)
		}
		ids = append(ids, record.ID)
	}
	for _, id := range ids {
		record := until(t, p, id, store.Ready, store.Failed)
		if record.Job.State != store.Ready || record.Job.Done != 200 || record.SHA256 == "" {
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
	p, ctx := start(t, 5000), access.With(context.Background(), access.Loopback())
	record, _, err := p.Create(ctx, "crew", nil)
	if err != nil {
		t.Fatal(err)
	}
	until(t, p, record.ID, store.Running)
	if _, _, err := p.Open(ctx, record.ID); !problem.Is(err, problem.Conflict) {
		t.Errorf("half a package can be opened: %v", err)
	}
	if err := p.Remove(ctx, record.ID); err != nil {
		t.Fatal(err)
	}
	record = until(t, p, record.ID, store.Stopped, store.Ready)
	if record.Job.State != store.Stopped || !strings.Contains(record.Job.Message, "of 5000 people") {
		t.Errorf("%+v", record)
	}
	entries, err := os.ReadDir(p.Folder)
	if err != nil || len(entries) != 0 {
		t.Errorf("left in the folder: %v, %v", entries, err)
	}
	if err := p.Remove(ctx, record.ID); err != nil {
		t.Errorf("deleting what was stopped: %v", err)
	}
	if _, err := p.Get(ctx, record.ID); !problem.Is(err, problem.NotFound) {
		t.Errorf("%v", err)
	}
}

func TestLeftoversOfACrashAreCleared(t *testing.T) {
	p := start(t, 10)
	part := filepath.Join(p.Folder, files.Half+"1")
	if err := os.WriteFile(part, []byte("half"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := p.Start(); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(part); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("the half file is still there: %v", err)
	}
}
