package gateway

import (
	"context"
	"crypto/rand"
	"io"
	"maps"
	"slices"
	"sync"
	"time"

	"missivum/core/rule"
)

// Limits of what a gateway reports.
const (
	maxWaiting    = 100_000 // records that wait for a service that is away; the oldest beyond them are dropped and counted
	reporting     = 2 * time.Second
	signOfLife    = 10 * time.Second // a report without records
	lastReport    = 5 * time.Second  // how long the last one may take when the gateway ends
	maxReportTime = 30 * time.Second
)

// tally counts messages and keeps the records that are to be reported.
type tally struct {
	mutex   sync.Mutex
	counts  rule.GatewayCounts
	keep    bool
	waiting []rule.Record
	dropped int
}

func newTally() tally {
	return tally{counts: rule.GatewayCounts{Outcomes: map[rule.Outcome]int{}, Took: make([]int, len(rule.TookBounds)+1)}}
}

// record keeps what was done with a message.
func (g *Gateway) record(r rule.Record) {
	r.Key = rand.Text()
	g.tally.add(r)
	g.config.Record(r)
}

func (t *tally) add(r rule.Record) {
	t.mutex.Lock()
	defer t.mutex.Unlock()
	t.counts.Outcomes[r.Outcome]++
	if r.Failed {
		t.counts.Failed++
	}
	if r.Unsure {
		t.counts.Unsure++
	}
	at, _ := slices.BinarySearch(rule.TookBounds, r.Took)
	t.counts.Took[at]++
	t.counts.TookSum += r.Took
	if !t.keep {
		return
	}
	if len(t.waiting) >= maxWaiting {
		t.waiting = slices.Delete(t.waiting, 0, rule.MaxRecords)
		t.dropped += rule.MaxRecords
	}
	t.waiting = append(t.waiting, r)
}

// take gives the next records, which stay until they are done.
func (t *tally) take() (records []rule.Record, waiting, dropped int, counts rule.GatewayCounts) {
	t.mutex.Lock()
	defer t.mutex.Unlock()
	records = slices.Clone(t.waiting[:min(len(t.waiting), rule.MaxRecords)])
	counts = t.counts
	counts.Outcomes, counts.Took = maps.Clone(counts.Outcomes), slices.Clone(counts.Took)
	return records, len(t.waiting) - len(records), t.dropped, counts
}

// done takes out records that were reported.
func (t *tally) done(records []rule.Record) {
	t.mutex.Lock()
	defer t.mutex.Unlock()
	reported := map[string]bool{}
	for _, r := range records {
		reported[r.Key] = true
	}
	n := 0 // they stand at the beginning, unless too many waited and some of them were dropped meanwhile
	for n < len(t.waiting) && reported[t.waiting[n].Key] {
		n++
	}
	t.waiting = slices.Delete(t.waiting, 0, n)
}

// Reporting says that records are kept for Report; call it before Run.
func (g *Gateway) Reporting() { g.tally.keep = true }

// Name is how the gateway calls itself in reports: its name and where it listens, so that several on one host differ.
func (g *Gateway) Name() string {
	for _, way := range Ways {
		if address := g.Address(way); address != "" {
			return g.config.Name + " " + address
		}
	}
	return g.config.Name
}

// Ways are those in which a gateway can stand beside a mail server.
var Ways = []string{"milter", "smtp"}

// Report sends reports until the context ends, and then what is left. What cannot be sent waits.
func (g *Gateway) Report(ctx context.Context, version string, send func(context.Context, rule.GatewayReport) error) error {
	look := time.NewTicker(reporting)
	defer look.Stop()
	var last time.Time
	failing := false
	for ending := false; !ending; {
		limit := maxReportTime
		select {
		case <-ctx.Done():
			ending, limit = true, lastReport
		case <-look.C:
		}
		whole, stop := context.WithTimeout(context.WithoutCancel(ctx), limit)
		for more := true; more; {
			r := g.report(version)
			if len(r.Records) == 0 && !ending && time.Since(last) < signOfLife {
				break
			}
			err := send(whole, r)
			if err != nil {
				if !failing {
					g.config.Log.Error("the service does not take the records; they wait", "error", err)
				}
				failing = true
				break
			}
			if failing {
				g.config.Log.Info("the service takes the records again", "waiting", r.Waiting)
			}
			failing, last = false, time.Now()
			g.tally.done(r.Records)
			more = r.Waiting > 0
		}
		stop()
	}
	return nil
}

// report is the next report.
func (g *Gateway) report(version string) rule.GatewayReport {
	r := rule.GatewayReport{Gateway: g.Name(), Version: version, Bundle: g.Bundle(), Started: g.started, Ways: []string{}}
	for _, way := range Ways {
		if g.Address(way) != "" {
			r.Ways = append(r.Ways, way)
		}
	}
	r.Records, r.Waiting, r.Dropped, r.Counts = g.tally.take()
	return r
}

// Figures writes the gateway's figures as OpenMetrics text, without the end line.
func (g *Gateway) Figures(w io.Writer) {
	r := g.report("")
	r.Waiting += len(r.Records)
	rule.Figures(w, r)
}
