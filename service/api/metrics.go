package api

import (
	"context"
	"strconv"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"

	"oakenlatch/core/guard"
)

// metricSet is what /metrics tells.
type metricSet struct {
	registry *prometheus.Registry
	requests *prometheus.CounterVec
}

func (a *API) metrics() metricSet {
	m := metricSet{registry: prometheus.NewRegistry()}
	m.requests = prometheus.NewCounterVec(prometheus.CounterOpts{Name: "oaken_latch_requests_total", Help: "API requests by operation."}, []string{"method", "path"})
	watched := prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: "oaken_latch_devices_watched", Help: "Devices to which an idle session stands."}, func() float64 {
		return float64(a.Fleet.Standing())
	})
	journal := prometheus.NewCounterFunc(prometheus.CounterOpts{Name: "oaken_latch_journal_seconds_total", Help: "Time spent writing the journals of commits."}, func() float64 {
		return a.Engine.JournalTime().Seconds()
	})
	sessions := prometheus.NewCounterFunc(prometheus.CounterOpts{Name: "oaken_latch_device_sessions_total", Help: "NETCONF sessions opened to devices."}, func() float64 {
		return float64(a.Fleet.Traffic.Sessions.Load())
	})
	calls := prometheus.NewCounterFunc(prometheus.CounterOpts{Name: "oaken_latch_device_calls_total", Help: "NETCONF operations sent to devices."}, func() float64 {
		return float64(a.Fleet.Traffic.Calls.Load())
	})
	m.registry.MustRegister(m.requests, watched, journal, sessions, calls, holds{a}, collectors.NewGoCollector())
	return m
}

// holds tells of the commits that are not decided, change by change.
type holds struct{ a *API }

var (
	commitsOpen  = prometheus.NewDesc("oaken_latch_commits_open", "Commits that are not decided yet.", nil, nil)
	holdLeft     = prometheus.NewDesc("oaken_latch_hold_seconds_left", "Seconds until a change on hold goes back by itself.", []string{"change"}, nil)
	unsaved      = prometheus.NewDesc("oaken_latch_devices_unsaved", "Devices whose startup does not hold what runs.", nil, nil)
	unreachables = prometheus.NewDesc("oaken_latch_devices_in_trouble", "Devices that could not be reached or read when last tried.", nil, nil)
)

func (h holds) Describe(ch chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{commitsOpen, holdLeft, unsaved, unreachables} {
		ch <- d
	}
}

func (h holds) Collect(ch chan<- prometheus.Metric) {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	gauge := func(d *prometheus.Desc, v float64, labels ...string) {
		ch <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, labels...)
	}
	if open, err := h.a.Store.OpenCommits(ctx); err == nil {
		gauge(commitsOpen, float64(len(open)))
		for _, c := range open {
			if s := c.State; s.Outcome == guard.Undecided && s.Phase != guard.Reverting && !s.Deadline.IsZero() {
				gauge(holdLeft, max(0, s.Deadline.Sub(h.a.Log.Now()).Seconds()), strconv.FormatInt(c.Change, 10))
			}
		}
	}
	if list, err := h.a.Store.Devices(ctx); err == nil {
		var stale, lost int
		for _, d := range list {
			if d.Unsaved {
				stale++
			}
			if d.Trouble != "" {
				lost++
			}
		}
		gauge(unsaved, float64(stale))
		gauge(unreachables, float64(lost))
	}
}
