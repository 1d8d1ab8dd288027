package cli

import (
	"context"
	"encoding/json"
	"flag"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/diff"
	"oakenlatch/core/guard"
	"oakenlatch/wire"
)

// desk answers requests from a table and keeps what was asked.
type desk struct {
	answers map[string]any // "POST /changes/7/commit"
	mu      sync.Mutex
	bodies  map[string]string
}

func (d *desk) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	key := r.Method + " " + strings.TrimPrefix(r.URL.Path, "/api/v1")
	var body json.RawMessage
	_ = json.NewDecoder(r.Body).Decode(&body)
	d.mu.Lock()
	d.bodies[key] = string(body)
	d.mu.Unlock()
	doc, ok := d.answers[key]
	if !ok {
		w.WriteHeader(http.StatusNotFound)
		doc = wire.Problem{Type: wire.ProblemPrefix + "not-found", Detail: "nothing at " + key}
	}
	if doc == nil {
		w.WriteHeader(http.StatusNoContent)
		return
	}
	_ = json.NewEncoder(w).Encode(doc)
}

func newDesk(answers map[string]any) *desk {
	return &desk{answers: answers, bodies: map[string]string{}}
}

func held(alter func(*wire.Commit)) wire.Change {
	c := wire.Change{Number: 7, State: "holding", Devices: []string{"northmole", "saltern"}, Commit: &wire.Commit{
		Phase: guard.Awaiting, Deadline: at, SecondsLeft: 90,
		Devices: []guard.Device{
			{Name: "northmole", Keeper: guard.ByDevice, Standing: guard.Held},
			{Name: "saltern", Keeper: guard.ByService, Standing: guard.Held},
		},
	}}
	if alter != nil {
		alter(c.Commit)
	}
	return c
}

// What is said by flags is what is asked for.
func TestOrders(t *testing.T) {
	draft := wire.Change{Number: 7, State: "draft"}
	for _, c := range []struct {
		args, body, says string
		status           int
	}{
		{"commit 7", `{"holdSeconds":600,"probeWithinSeconds":10}`, "saltern: only this service can revert it", 0},
		{
			"commit 7 --hold 1d --first a,b --first c --save no --confirm probes --failed-probe revert " +
				"--probe-within 1m",
			`{"holdSeconds":86400,"waves":[["a","b"],["c"]],"probeWithinSeconds":60,"byProbes":true,"revertOnProbe":true,"save":false}`,
			"unless you confirm; on saltern by this service alone", 0,
		},
		{"commit 7 --confirm maybe", "", "--confirm is hand or probes", 2}, {
			"commit 7 --failed-probe x", "", "--failed-probe is wait or revert", 2,
		},
		{
			"commit 7 --save perhaps", "", "--save is yes or no", 2,
		}, {"commit 7 --first ,", "", "--first names no device", 2},
		{"commit 7 --hold soon", "", "is no duration", 2}, {
			"commit 7 --at 02:00 --zone Nowhere/Land", "", "there is no zone", 2,
		},
	} {
		d := newDesk(map[string]any{"GET /changes/7": draft, "POST /changes/7/commit": held(nil)})
		first := true
		h := func(w http.ResponseWriter, r *http.Request) {
			if r.Method == http.MethodGet && !first {
				d.answers["GET /changes/7"] = held(nil)
			}
			first = first && r.Method == http.MethodGet
			d.ServeHTTP(w, r)
			first = false
		}
		status, out, errOut := run(t, h, nil, strings.Fields(c.args)...)
		assert.Equal(t, c.status, status, c.args)
		assert.Contains(t, out+errOut, c.says, c.args)
		assert.Equal(t, c.body, d.bodies["POST /changes/7/commit"], c.args)
	}
}

// What is prepared is begun as it was ordered, and in no other way.
func TestBegin(t *testing.T) {
	ready := held(func(c *wire.Commit) { c.Phase, c.LapsesAt = guard.AllReady, at })
	ready.State = "applying"
	status, out, _ := run(
		t,
		newDesk(map[string]any{"POST /changes/7/commit": ready, "GET /changes/7": ready}).ServeHTTP,
		nil,
		"prepare",
		"7",
		"--for",
		"30m",
	)
	assert.Zero(t, status)
	assert.Contains(t, out, "only the commit itself is missing, nothing is active")
	assert.Contains(t, out, "It lapses at 2026-11-23 02:00:00 UTC")
	d := newDesk(map[string]any{"GET /changes/7": ready, "POST /changes/7/begin": ready})
	status, _, errOut := run(t, d.ServeHTTP, nil, "commit", "7", "--hold", "1m", "--at", "02:00")
	assert.Equal(t, WrongUse, status)
	assert.Contains(t, errOut, "leave out --hold, --at")
	h := func(w http.ResponseWriter, r *http.Request) {
		d.ServeHTTP(w, r)
		if strings.HasSuffix(r.URL.Path, "/begin") {
			d.answers["GET /changes/7"] = held(nil)
		}
	}
	status, out, _ = run(t, h, nil, "commit", "7")
	assert.Zero(t, status)
	assert.Contains(t, d.bodies, "POST /changes/7/begin")
	assert.Contains(t, out, "on hold")
}

func TestWordsDuringAHold(t *testing.T) {
	moved := held(func(c *wire.Commit) { c.SecondsLeft = 1290 })
	setting := held(func(c *wire.Commit) { c.NewDeadline = at.Add(time.Hour) })
	kept := wire.Change{
		Number: 7, State: "confirmed",
		Commit: &wire.Commit{
			Phase: guard.Done, By: "mara", Devices: []guard.Device{{Name: "d", Settled: true, NoSave: true}},
			Probes: []wire.ProbeResult{{Probe: "tcp a:1", Result: guard.Missed, Said: "refused", Since: at}},
		},
	}
	left := wire.Change{
		Number: 7, State: "reverted", Reason: "why",
		Commit: &wire.Commit{
			Phase: guard.Done,
			Devices: []guard.Device{
				{
					Name:     "d",
					Standing: guard.IsAccepted,
					Said:     "accepted so by mara",
				}, {Name: "e", Standing: guard.IsReverted},
			},
		},
	}
	for _, c := range []struct {
		args, body, says string
		answer           wire.Change
		status           int
	}{
		{"extend 7 20m", `{"addSeconds":1200}`, "(in 21m 30s) unless it is confirmed", moved, 0},
		{"extend 7 -5m", `{"addSeconds":-300}`, "ends at", moved, 0},
		{
			"extend 7 --until 2026-11-23T03:00:00Z", `{"until":"2026-11-23T03:00:00Z"}`, "timers are still being set",
			setting, 0,
		},
		{"extend 7", "", "say how much more time", moved, 2},
		{"extend 7 20m --until 03:00", "", "say how much more time", moved, 2},
		{"extend 7 soon", "", "is no duration", moved, 2},
		{"confirm 7 --despite-probes", `{"despite":true}`, "probe tcp a:1: failed: refused, since", kept, 0},
		{"confirm 7", `{}`, "NOT saved to startup, as was asked: save it with latch device save d", kept, 0},
		{
			"accept 7 d --yes", `{"device":"d"}`,
			"d: accepted: accepted so by mara\n  e: read back, it holds its former configuration", left, 0,
		},
		{"accept 7 d", "", "without a terminal, give --yes", left, 3},
	} {
		d := newDesk(
			map[string]any{
				"POST /changes/7/hold": c.answer, "POST /changes/7/confirm": c.answer,
				"POST /changes/7/accept-device": c.answer,
			},
		)
		status, out, errOut := run(t, d.ServeHTTP, nil, strings.Fields(c.args)...)
		assert.Equal(t, c.status, status, c.args)
		assert.Contains(t, out+errOut, c.says, c.args)
		body := ""
		for _, b := range d.bodies {
			body = b
		}
		assert.Equal(t, c.body, body, c.args)
	}
}

func TestScheduleCommands(t *testing.T) {
	due := wire.Scheduled{
		ID: 3, Kind: "commit", Change: 7, Title: "Winter", Devices: []string{"d"}, At: time.Now().Add(90 * time.Minute),
		Zone: "Europe/Lisbon", LatenessSeconds: 60, Actor: "mara", State: "waiting",
		Clocks: []wire.Clock{
			{Device: "d", AheadSeconds: -100, Off: true}, {Device: "e", Trouble: "the device does not tell"},
			{Device: "f"},
		},
	}
	restart := wire.Scheduled{
		ID: 4, Kind: "restart", Devices: []string{"d"}, At: due.At, State: "waiting", Actor: "admin",
	}
	missed := wire.Scheduled{
		ID: 2, Kind: "commit", Change: 6, Devices: []string{"d"}, State: "missed", Note: "missed: it was due",
	}
	answers := map[string]any{
		"GET /changes/7": wire.Change{Number: 7, State: "draft"}, "POST /changes/7/schedule": due,
		"GET /schedule": []wire.Scheduled{due, restart, missed}, "DELETE /schedule/3": nil, "DELETE /schedule/4": nil,
		"POST /devices/d/schedule": restart, "POST /devices/d/restart": nil,
		"GET /devices/d/difference": wire.Difference{
			Device: "d", Count: 1, Lines: []diff.Line{{Mark: "−", Text: "contact: x"}},
		},
	}
	for _, c := range []struct {
		args, says, not string
		status          int
	}{
		{"commit 7 --at 2099-01-01T00:00:00Z --late 5m", "clock of d: 1m 40s behind this service's", "clock of f", 0},
		{"schedule", "commit change 7: Winter", "missed", 0},
		{"schedule --all", "missed: it was due", "nothing waits", 0},
		{"unschedule 7", "Change 7 is off the schedule and a draft again", "restart", 0},
		{"unschedule d", "The restart of d is off the schedule", "draft", 0},
		{"unschedule 6", "nothing of 6 waits", "off the schedule and", 3},
		{"device restart d --yes --at 04:00", "d restarts at", "restarts. See", 0},
		{"device restart d", "without a terminal, give --yes", "d restarts", 3},
		{"device restart d --yes", "− contact: x", "at 04:00", 0},
	} {
		d := newDesk(answers)
		status, out, errOut := run(t, d.ServeHTTP, nil, strings.Fields(c.args)...)
		assert.Equal(t, c.status, status, c.args+errOut)
		assert.Contains(t, out+errOut, c.says, c.args)
		assert.NotContains(t, out, c.not, c.args)
		if strings.HasPrefix(c.args, "commit") {
			var sent wire.NewSchedule
			require.NoError(t, json.Unmarshal([]byte(d.bodies["POST /changes/7/schedule"]), &sent))
			assert.Equal(t, int64(300), sent.LatenessSeconds)
			assert.NotEmpty(t, sent.Zone)
			assert.Equal(t, int64(600), sent.Commit.HoldSeconds)
		}
	}
}

func TestCareCommands(t *testing.T) {
	lines := []diff.Line{{Mark: "+", Text: "contact: x"}}
	answers := map[string]any{
		"GET /devices/d/difference": wire.Difference{Device: "d", Count: 1, Lines: lines},
		"GET /devices/same/difference": wire.Difference{
			Device: "same",
		}, "POST /devices/d/save": wire.Device{Name: "d"},
		"PATCH /devices/d": wire.Device{Name: "d"}, "DELETE /devices/d/candidate": nil,
		"DELETE /devices/d/sessions/12": nil,
		"GET /devices/d/sessions": []wire.Visitor{
			{
				ID: "12", Account: "joss", Source: "198.51.100.7", Since: at,
				Locks: []wire.HeldLock{{Datastore: "running", Since: at}},
			},
			{ID: "13", Own: true},
		},
		"GET /devices/d/clock":    wire.Clock{Device: "d", AheadSeconds: 200, Off: true},
		"GET /devices/same/clock": wire.Clock{Device: "same"},
		"GET /devices/d": wire.Device{
			Name: "d", Trusted: true, Unsaved: true,
			Guard: wire.Guard{Guard: "session", GuardWhy: "no token", Risk: "also when it breaks"},
			Clock: &wire.Clock{AheadSeconds: -5, Read: at},
		},
	}
	for _, c := range []struct {
		args, says string
		status     int
	}{
		{"device save d", "Saved, and read back", 0}, {"device save same", "holds what runs there already", 0},
		{"device sessions d", "running since 2026-11-23 02:00:00 UTC", 0},
		{"device sessions d --end 12", "without a terminal, give --yes", 3},
		{"device sessions d --end 12 --yes", "Session 12 on d is ended", 0},
		{"device clear-candidate d --yes", "Discarded. What it was is on record", 0},
		{"device clear-candidate d", "was left as it is", 3},
		{"device clear-candidate same", "holds nothing but running", 0},
		{"device clock d", "3m 20s ahead of this service's", 1}, {"device clock same", "right to the second", 0},
		{"device set d --save no", "NOT saved to its startup", 0}, {"device set d", "say what to set", 2},
		{"device show d", "session: no token; also when it breaks", 0},
		{"device show d", "5s behind this service's, read", 0}, {"device show d", "it does not hold what runs now", 0},
	} {
		status, out, errOut := run(t, newDesk(answers).ServeHTTP, nil, strings.Fields(c.args)...)
		assert.Equal(t, c.status, status, c.args+errOut)
		assert.Contains(t, out+errOut, c.says, c.args)
	}
}

// What is to be done later is said by a time, or by how long it is until then.
func TestInAndAt(t *testing.T) {
	now := time.Date(2026, 11, 24, 1, 30, 0, 0, time.UTC)
	due := func(args ...string) (wire.NewSchedule, error) {
		fs := flag.NewFlagSet("x", flag.ContinueOnError)
		d := newScheduleFlags(fs, "x")
		require.NoError(t, fs.Parse(args))
		assert.True(t, d.given(), args)
		return d.due(now)
	}
	for _, args := range [][]string{{"--in", "30m"}, {"--at", "02:00", "--zone", "UTC"}} {
		at, err := due(args...)
		require.NoError(t, err)
		assert.True(t, at.At.Equal(now.Add(30*time.Minute)), "%v: %s", args, at.At)
	}
	_, err := due("--in", "30m", "--at", "02:00")
	require.ErrorContains(t, err, "one of them")
}

// Whoever presses Ctrl-C is told that the service goes on, with a status of its own.
func TestInterrupted(t *testing.T) {
	ctx, stop := context.WithCancel(t.Context())
	var out, errs strings.Builder
	srv := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter,
		r *http.Request) {
		stop()
		<-r.Context().Done()
	}))
	defer srv.Close()
	a := &app{
		in: strings.NewReader(""), out: &screen{&out}, err: &screen{&errs},
		getenv: func(k string) string {
			return map[string]string{"OAKEN_LATCH_SERVER": srv.URL, "OAKEN_LATCH_TOKEN": "t"}[k]
		},
	}
	assert.Equal(t, Interrupted, a.run(ctx, []string{"devices"}))
	assert.Contains(t, errs.String(), "goes on there")
}
