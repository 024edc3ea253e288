package api

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/common/expfmt"
	"github.com/shirou/gopsutil/v4/disk"

	"missivum/service/backup"
	"missivum/service/store"
)

// counted are the figures that grow while the service runs.
type counted struct {
	registry *prometheus.Registry
	requests *prometheus.CounterVec
	seconds  *prometheus.HistogramVec
	refused  *prometheus.CounterVec
}

// newCounted makes them, all zero.
func newCounted() *counted {
	c := &counted{registry: prometheus.NewRegistry()}
	c.requests = prometheus.NewCounterVec(prometheus.CounterOpts{Name: "missivum_requests_total", Help: "Requests that were answered."},
		[]string{"method", "route", "status"})
	c.seconds = prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "missivum_request_seconds", Help: "How long answering took.",
		Buckets: []float64{.005, .02, .1, .5, 2, 10, 60}}, []string{"route"})
	c.refused = prometheus.NewCounterVec(prometheus.CounterOpts{Name: "missivum_refused_total",
		Help: "Requests that were refused because of who sent them: unknown, forbidden, too often."}, []string{"why"})
	c.registry.MustRegister(c.requests, c.seconds, c.refused)
	return c
}

// seen counts a request. Routes are written as the router has them, so that their number is bounded.
func (c *counted) seen(g *gin.Context, took time.Duration) {
	route := g.FullPath()
	if route == "" {
		route = "page"
	}
	status := g.Writer.Status()
	c.requests.WithLabelValues(g.Request.Method, route, strconv.Itoa(status)).Inc()
	c.seconds.WithLabelValues(route).Observe(took.Seconds())
	if why := map[int]string{401: "unknown", 403: "forbidden", 429: "too often"}[status]; why != "" {
		c.refused.WithLabelValues(why).Inc()
	}
}

// gauges are how large things are, and how old the last backup is.
func (a *API) gauges(ctx context.Context) ([]*prometheus.GaugeVec, error) {
	gauge := func(name, help string, labels ...string) *prometheus.GaugeVec {
		return prometheus.NewGaugeVec(prometheus.GaugeOpts{Name: "missivum_" + name, Help: help}, labels)
	}
	bytes, things := gauge("bytes", "Sizes in bytes.", "what"), gauge("things", "How many there are.", "what")
	jobs, age := gauge("jobs", "The newest 200 jobs by kind and state.", "kind", "state"),
		gauge("backup_age_seconds", "How old the last backup is.")
	for what, file := range map[string]string{"database": backup.Database, "journal": backup.Database + "-wal"} {
		if info, err := os.Stat(filepath.Join(a.Data, file)); err == nil {
			bytes.WithLabelValues(what).Set(float64(info.Size()))
		}
	}
	if usage, err := disk.Usage(a.Data); err == nil && a.Data != "" {
		bytes.WithLabelValues("disk free").Set(float64(usage.Free))
	}
	if list, err := backup.In(a.Backups); err == nil && len(list) > 0 {
		age.WithLabelValues().Set(a.Now().Sub(list[0].At).Seconds())
	}
	err := a.Store.Read(ctx, func(tx *store.Tx) error {
		accounts, err := tx.Accounts()
		if err != nil {
			return err
		}
		templates, err := tx.TemplateNames()
		if err != nil {
			return err
		}
		last, _, err := tx.RecordHead()
		if err != nil {
			return err
		}
		recent, err := tx.Jobs("", mostListed)
		for _, j := range recent {
			jobs.WithLabelValues(j.Kind, string(j.State)).Inc()
		}
		for what, n := range map[string]int64{"accounts": int64(len(accounts)), "templates": int64(len(templates)), "record entries ever": last} {
			things.WithLabelValues(what).Set(float64(n))
		}
		return err
	})
	return []*prometheus.GaugeVec{bytes, things, jobs, age}, err
}

// moreFigures writes what is counted and how large things are, as OpenMetrics without its end.
func (a *API) moreFigures(ctx context.Context, into *strings.Builder) error {
	sizes, err := a.gauges(ctx)
	if err != nil {
		return err
	}
	now := prometheus.NewRegistry()
	for _, g := range sizes {
		now.MustRegister(g)
	}
	families, err := prometheus.Gatherers{a.counted.registry, now}.Gather()
	if err != nil {
		return err
	}
	var b bytes.Buffer
	for _, f := range families {
		if _, err := expfmt.MetricFamilyToOpenMetrics(&b, f); err != nil {
			return err
		}
	}
	into.Write(b.Bytes())
	return nil
}
