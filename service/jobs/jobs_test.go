package jobs

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"missivum/core/problem"
	"missivum/service/access"
	"missivum/service/store"
)

var acting = access.With(context.Background(), access.Principal{Kind: access.Owner, Name: "maren"})

// open opens a queue on a database file; end ends both.
func open(t *testing.T, file string, works ...Work) (j *Jobs, end func()) {
	t.Helper()
	st, err := store.Open(context.Background(), file, time.Now)
	if err != nil {
		t.Fatal(err)
	}
	j = &Jobs{Store: st, Log: slog.New(slog.DiscardHandler), Now: time.Now}
	for _, w := range works {
		j.Register(w)
	}
	if err := j.Start(context.Background()); err != nil {
		t.Fatal(err)
	}
	var once sync.Once
	end = func() {
		once.Do(func() {
			j.End()
			if err := st.Close(); err != nil {
				t.Error(err)
			}
		})
	}
	t.Cleanup(end)
	return j, end
}

func add(t *testing.T, j *Jobs, kind string, input any) string {
	t.Helper()
	var record store.Job
	err := j.Store.Write(acting, func(tx *store.Tx) (err error) {
		record, err = j.Add(tx, store.Job{Kind: kind, Title: kind, Total: 10, Unit: "people"}, input)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return record.ID
}

func ended(t *testing.T, j *Jobs, id string) store.Job {
	t.Helper()
	ctx, stop := context.WithTimeout(context.Background(), 20*time.Second)
	defer stop()
	if err := j.Wait(ctx, id); err != nil {
		t.Fatal(err)
	}
	record, err := j.Get(ctx, id)
	if err != nil {
		t.Fatal(err)
	}
	return record
}

func TestAJobIsDoneAndRemembered(t *testing.T) {
	file := filepath.Join(t.TempDir(), "x.db")
	var reported atomic.Int32
	work := Work{Kind: "sums", Run: func(ctx context.Context, job *Job) (any, error) {
		var numbers []int
		if err := job.Input(&numbers); err != nil {
			return nil, err
		}
		if by, _ := access.From(ctx); by.Name != "maren" {
			t.Errorf("the work is done as %+v", by)
		}
		sum := 0
		for i, n := range numbers {
			sum += n
			job.Progress(i + 1)
		}
		return map[string]int{"sum": sum}, nil
	}, Ended: func(store.Job) { reported.Add(1) }}
	j, end := open(t, file, work)
	id := add(t, j, "sums", []int{1, 2, 3})
	if r := ended(t, j, id); r.State != store.Ready || r.Result != `{"sum":6}` || r.Done != 10 || r.By.Name != "maren" ||
		r.Started.IsZero() || r.Finished.IsZero() || reported.Load() != 1 {
		t.Errorf("%+v, reported %d times", r, reported.Load())
	}
	if err := j.Stop(acting, id); !problem.Is(err, problem.Conflict) {
		t.Errorf("stopping what has ended: %v", err)
	}
	if err := j.Stop(acting, "none"); !problem.Is(err, problem.NotFound) {
		t.Errorf("stopping what is not there: %v", err)
	}
	end()
	again, _ := open(t, file, work)
	if list, err := again.List(acting, "sums", 10); err != nil || len(list) != 1 || list[0].State != store.Ready {
		t.Errorf("%+v, %v", list, err)
	}
}

func TestFailuresAndPanicsEndTheJobAlone(t *testing.T) {
	j, _ := open(t, filepath.Join(t.TempDir(), "x.db"),
		Work{Kind: "fails", Run: func(context.Context, *Job) (any, error) { return nil, errors.New("no more paper") }},
		Work{Kind: "panics", Run: func(context.Context, *Job) (any, error) { panic("oh") }})
	for kind, want := range map[string]string{"fails": "no more paper", "panics": "the program failed: oh"} {
		if r := ended(t, j, add(t, j, kind, nil)); r.State != store.Failed || r.Message != want {
			t.Errorf("%s: %+v", kind, r)
		}
	}
	err := j.Store.Write(acting, func(tx *store.Tx) error {
		_, err := j.Add(tx, store.Job{Kind: "unknown"}, nil)
		return err
	})
	if err == nil {
		t.Error("a job that nobody does is accepted")
	}
}

// TestLimitsAndOrder: no more of a kind run at once than are allowed, in the order in which they came; another kind
// does not wait for them.
func TestLimitsAndOrder(t *testing.T) {
	var mu sync.Mutex
	var order []string
	var running, most atomic.Int32
	release := make(chan struct{})
	j, _ := open(t, filepath.Join(t.TempDir(), "x.db"), Work{Kind: "slow", AtOnce: 2, Run: func(ctx context.Context, job *Job) (any, error) {
		mu.Lock()
		order = append(order, job.ID())
		mu.Unlock()
		if n := running.Add(1); n > most.Load() {
			most.Store(n)
		}
		defer running.Add(-1)
		select {
		case <-release:
			return nil, nil
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}}, Work{Kind: "quick", Run: func(context.Context, *Job) (any, error) { return nil, nil }})
	var ids []string
	for range 5 {
		ids = append(ids, add(t, j, "slow", nil))
	}
	if r := ended(t, j, add(t, j, "quick", nil)); r.State != store.Ready {
		t.Errorf("the other kind: %+v", r)
	}
	if err := j.Stop(acting, ids[4]); err != nil { // one that waits
		t.Fatal(err)
	}
	if r := ended(t, j, ids[4]); r.State != store.Stopped || r.Message != "Stopped after 0 of 10 people." {
		t.Errorf("%+v", r)
	}
	for begun := 2; begun <= 4; begun++ { // one ends and lets the next begin, so that their order shows
		for until := time.Now().Add(20 * time.Second); time.Now().Before(until); time.Sleep(time.Millisecond) {
			mu.Lock()
			there := len(order)
			mu.Unlock()
			if there >= begun {
				break
			}
		}
		release <- struct{}{}
	}
	close(release)
	for _, id := range ids[:4] {
		if r := ended(t, j, id); r.State != store.Ready {
			t.Errorf("%+v", r)
		}
	}
	if most.Load() != 2 || fmt.Sprint(order[2:]) != fmt.Sprint(ids[2:4]) { // the first two begin together
		t.Errorf("%d at once, order %v of %v", most.Load(), order, ids)
	}
}

// TestAfterACrash: what cannot be begun again is stopped with the reason, what can is done; a job whose unit of work
// was not stored never was.
func TestAfterACrash(t *testing.T) {
	file := filepath.Join(t.TempDir(), "x.db")
	st, err := store.Open(context.Background(), file, time.Now)
	if err != nil {
		t.Fatal(err)
	}
	err = st.Write(acting, func(tx *store.Tx) error {
		for id, kind := range map[string]string{"a": "once", "b": "again"} {
			r, err := tx.AddJob(store.Job{ID: id, Kind: kind, Total: 10, Done: 4, Unit: "people", Input: `7`})
			if err != nil {
				return err
			}
			r.State, r.Started = store.Running, tx.At()
			if err := tx.PutJob(r); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if err := st.Close(); err != nil { // nobody ended the jobs
		t.Fatal(err)
	}
	var got atomic.Int32
	j, _ := open(t, file, Work{Kind: "once"}, Work{Kind: "again", Resume: true, Run: func(_ context.Context, job *Job) (any, error) {
		var n int32
		err := job.Input(&n)
		got.Store(n)
		return nil, err
	}})
	if r := ended(t, j, "a"); r.State != store.Stopped || r.Message == "" || r.Finished.IsZero() {
		t.Errorf("%+v", r)
	}
	if r := ended(t, j, "b"); r.State != store.Ready || got.Load() != 7 {
		t.Errorf("%+v with %d", r, got.Load())
	}
	wrong := errors.New("wrong")
	err = j.Store.Write(acting, func(tx *store.Tx) error {
		_, err := j.Add(tx, store.Job{ID: "c", Kind: "again"}, 1)
		return errors.Join(err, wrong)
	})
	if _, err2 := j.Get(acting, "c"); !errors.Is(err, wrong) || !problem.Is(err2, problem.NotFound) || j.Open("c") {
		t.Errorf("%v, %v", err, err2)
	}
}

// TestEndingLeavesWhatGoesOn: a service that ends stops what runs; what can be begun again waits for the next start.
func TestEndingLeavesWhatGoesOn(t *testing.T) {
	file := filepath.Join(t.TempDir(), "x.db")
	begun := make(chan struct{}, 4)
	wait := func(ctx context.Context, _ *Job) (any, error) {
		begun <- struct{}{}
		<-ctx.Done()
		return nil, ctx.Err()
	}
	j, end := open(t, file, Work{Kind: "once", Run: wait}, Work{Kind: "again", Resume: true, Run: wait})
	once, again := add(t, j, "once", nil), add(t, j, "again", nil)
	<-begun
	<-begun
	end()
	j, _ = open(t, file, Work{Kind: "once"}, Work{Kind: "again", Resume: true,
		Run: func(context.Context, *Job) (any, error) { return nil, nil }})
	if r := ended(t, j, once); r.State != store.Stopped {
		t.Errorf("%+v", r)
	}
	if r := ended(t, j, again); r.State != store.Ready {
		t.Errorf("%+v", r)
	}
}
