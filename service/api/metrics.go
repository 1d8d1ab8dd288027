package api

import (
	"context"
	"net/http"
	"runtime"
	"strconv"
	"strings"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"

	"oakenlatch/core/guard"
	"oakenlatch/core/lifecycle"
	"oakenlatch/service/store"
	"oakenlatch/wire"
)

// metricSet is what /metrics tells.
type metricSet struct {
	registry *prometheus.Registry
	requests *prometheus.CounterVec   // by method, route and status
	took     *prometheus.HistogramVec // seconds, by method and route
}

func (a *API) metrics() metricSet {
	m := metricSet{registry: prometheus.NewRegistry()}
	m.requests = prometheus.NewCounterVec(
		prometheus.CounterOpts{
			Name: "http_requests_total", Help: "Requests that were answered, by method, route and status.",
		},
		[]string{"method", "route", "status"},
	)
	m.took = prometheus.NewHistogramVec(prometheus.HistogramOpts{
		Name:    "http_request_duration_seconds",
		Help:    "How long requests took to be answered, by method and route; event streams are not counted.",
		Buckets: []float64{.005, .01, .025, .05, .1, .25, .5, 1, 2.5, 5, 10, 30, 60},
	}, []string{"method", "route"})
	commit, _, _ := wire.Build()
	build := prometheus.NewGaugeFunc(prometheus.GaugeOpts{
		Name: "oaken_latch_build_info", Help: "1; its labels say what runs.",
		ConstLabels: prometheus.Labels{"release": wire.Release, "commit": commit, "go": runtime.Version()},
	}, func() float64 { return 1 })
	watched := prometheus.NewGaugeFunc(prometheus.GaugeOpts{
		Name: "oaken_latch_devices_watched", Help: "Devices to which an idle session stands.",
	}, func() float64 {
		return float64(a.Fleet.Standing())
	})
	journal := prometheus.NewCounterFunc(prometheus.CounterOpts{
		Name: "oaken_latch_journal_seconds_total", Help: "Time spent writing the journals of commits.",
	}, func() float64 {
		return a.Engine.JournalTime().Seconds()
	})
	sessions := prometheus.NewCounterFunc(prometheus.CounterOpts{
		Name: "oaken_latch_device_sessions_total", Help: "NETCONF sessions opened to devices.",
	}, func() float64 {
		return float64(a.Fleet.Traffic.Sessions.Load())
	})
	calls := prometheus.NewCounterFunc(prometheus.CounterOpts{
		Name: "oaken_latch_device_calls_total", Help: "NETCONF operations sent to devices.",
	}, func() float64 {
		return float64(a.Fleet.Traffic.Calls.Load())
	})
	if a.Syslog != nil {
		m.registry.MustRegister(prometheus.NewCounterFunc(prometheus.CounterOpts{
			Name: "oaken_latch_syslog_lines_dropped_total",
			Help: "Lines about copies that the syslog receiver did not take, and that are lost.",
		}, func() float64 { return float64(a.Syslog.Dropped()) }))
	}
	m.registry.MustRegister(
		m.requests, m.took, build, watched, journal, sessions, calls, holds{a}, collectors.NewGoCollector(),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}),
	)
	return m
}

// metricsText gives them to whoever may read of all devices. A collector has a token of its own.
func (a *API) metricsText(c *call) (any, error) {
	return stream(func(w http.ResponseWriter) error {
		a.collected.ServeHTTP(w, c.Request())
		return nil
	}), nil
}

// count counts a request that was answered.
func (m metricSet) count(method, route string, status int, took time.Duration) {
	m.requests.WithLabelValues(method, route, strconv.Itoa(status)).Inc()
	if !strings.HasSuffix(route, "/events") {
		m.took.WithLabelValues(method, route).Observe(took.Seconds())
	}
}

// holds tells of the commits that are not decided, change by change, and of how
// devices, archives and receivers stand.
type holds struct{ a *API }

var (
	commitsOpen  = prometheus.NewDesc("oaken_latch_commits_open", "Commits that are not decided yet.", nil, nil)
	commitsEnded = prometheus.NewDesc("oaken_latch_commits_total", "Commits by outcome.", []string{"outcome"}, nil)
	holdLeft     = prometheus.NewDesc(
		"oaken_latch_hold_seconds_left", "Seconds until a change on hold reverts by itself.", []string{"change"}, nil,
	)
	writable = prometheus.NewDesc(
		"oaken_latch_records_writable",
		"1 where something can be put on record and there is room for more; else nothing new is begun.", nil, nil,
	)
	stuck = prometheus.NewDesc(
		"oaken_latch_devices_stuck",
		"Devices that do not revert though they are told to: a person has to look, and can accept them as they are.",
		nil, nil,
	)
	outsides = prometheus.NewDesc(
		"oaken_latch_outside_changes", "Outside changes by state; open ones are to be decided.", []string{"state"}, nil,
	)
	unsaved = prometheus.NewDesc(
		"oaken_latch_devices_unsaved", "Devices whose startup does not hold what runs.", nil, nil,
	)
	unreachables = prometheus.NewDesc(
		"oaken_latch_devices_in_trouble", "Devices that could not be reached or read when last tried.", nil, nil,
	)
	deviceUp = prometheus.NewDesc(
		"oaken_latch_device_up", "1 where a device answered when last tried.", []string{"device", "site"}, nil,
	)
	deviceClock = prometheus.NewDesc(
		"oaken_latch_device_clock_ahead_seconds", "What a device's clock is ahead of ours.", []string{"device"}, nil,
	)
	archiveAge = prometheus.NewDesc(
		"oaken_latch_archive_age_seconds", "Seconds since an archive was brought up to date; -1 where it never was.",
		[]string{"archive"}, nil,
	)
	archiveWell = prometheus.NewDesc(
		"oaken_latch_archive_ok", "1 where an archive takes copies.", []string{"archive"}, nil,
	)
	vouchedFor = prometheus.NewDesc(
		"oaken_latch_record_vouched_entries", "Entries of the record that a witness vouches for.", []string{"witness"},
		nil,
	)
	denies = prometheus.NewDesc(
		"oaken_latch_record_denied", "1 where a witness saw another record than this one: somebody altered it.",
		[]string{"witness"}, nil,
	)
	receiverWell = prometheus.NewDesc(
		"oaken_latch_receiver_ok", "1 where a receiver takes what it is told.", []string{"receiver"}, nil,
	)
)

func (h holds) Describe(ch chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{
		commitsOpen, commitsEnded, holdLeft, writable, stuck, outsides, unsaved, unreachables, deviceUp, deviceClock,
		archiveAge, archiveWell, vouchedFor, denies, receiverWell,
	} {
		ch <- d
	}
}

// gauge gives one value.
type gauge func(d *prometheus.Desc, v float64, labels ...string)

func (h holds) Collect(ch chan<- prometheus.Metric) {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	set := func(d *prometheus.Desc, v float64, labels ...string) {
		ch <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, labels...)
	}
	h.commits(ctx, ch, set)
	h.devices(ctx, set)
	if n, err := h.a.Store.OutsideCounts(ctx); err == nil {
		n[string(lifecycle.OutsideOpen)] += 0 // none is a number too
		for state, count := range n {
			set(outsides, float64(count), state)
		}
	}
	if list, err := h.a.Store.Archives(ctx); err == nil {
		for _, x := range list {
			age := -1.0
			if !x.Copied.IsZero() {
				age = h.a.Log.Now().Sub(x.Copied).Seconds()
			}
			set(archiveAge, age, x.Name)
			set(archiveWell, one(x.Trouble == ""), x.Name)
		}
	}
	for _, w := range h.a.Witnesses.Standings() {
		set(vouchedFor, float64(w.Size), w.Name)
		set(denies, one(w.Denies), w.Name)
	}
	if list, err := h.a.Store.Receivers(ctx); err == nil {
		for _, r := range list {
			set(receiverWell, one(r.Trouble == ""), r.Name)
		}
	}
}

func one(yes bool) float64 {
	if yes {
		return 1
	}
	return 0
}

func (h holds) commits(ctx context.Context, ch chan<- prometheus.Metric, set gauge) {
	if n, err := h.a.Store.CommitCounts(ctx); err == nil {
		for _, o := range []guard.Outcome{guard.Confirmed, guard.Reverted, guard.Partly, guard.Failed} {
			ch <- prometheus.MustNewConstMetric(commitsEnded, prometheus.CounterValue, float64(n[string(o)]), string(o))
		}
	}
	open, err := h.a.Store.OpenCommits(ctx)
	if err != nil {
		return
	}
	set(commitsOpen, float64(len(open)))
	odd := 0
	for _, c := range open {
		if s, _, running := h.a.Engine.Status(c.Change); running {
			c.State = s // what is on record may be older, where nothing can be put there
		}
		for _, d := range c.State.Devices {
			if d.Stuck() {
				odd++
			}
		}
		if s := c.State; s.Outcome == guard.Undecided && s.Phase != guard.Reverting && !s.Deadline.IsZero() {
			set(holdLeft, max(0, s.Deadline.Sub(h.a.Log.Now()).Seconds()), strconv.FormatInt(c.Change, 10))
		}
	}
	set(stuck, float64(odd))
	well := 1.0
	if h.a.Store.Check(ctx) != nil {
		well = 0
	}
	set(writable, well)
}

func (h holds) devices(ctx context.Context, set gauge) {
	list, err := h.a.Store.Devices(ctx, store.Everything)
	if err != nil {
		return
	}
	var stale, lost int
	for _, d := range list {
		if d.Unsaved {
			stale++
		}
		if d.Trouble != "" {
			lost++
		}
		set(deviceUp, one(d.Trouble == "" && !d.Seen.IsZero()), d.Name, d.Site)
		if d.Clock != nil {
			set(deviceClock, d.Clock.Ahead.Seconds(), d.Name)
		}
	}
	set(unsaved, float64(stale))
	set(unreachables, float64(lost))
}
