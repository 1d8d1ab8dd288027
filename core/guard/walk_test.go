package guard_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"oakenlatch/core/guard"
)

// The walk drives the machine through every order of replies, faults, restarts
// and persons' words against a model of the devices (world_test.go), and checks
// the promises in every state it comes to.

// check holds the promises against a world.
func (w world) check() error {
	for i, b := range w.boxes {
		d := w.s.Devices[i]
		forGood := b.odd || b.changed && !b.pending
		switch {
		case w.s.Outcome == guard.Confirmed && !forGood && (!b.lost || w.s.Phase == guard.Done && d.Settled &&
			d.Standing == guard.IsConfirmed && d.Saved):
			return fmt.Errorf("kept is said, but %s does not hold it for good: %+v", d.Name, b)
		case (w.s.Outcome == guard.Reverted || w.s.Outcome == guard.Failed) && (b.changed || b.odd):
			return fmt.Errorf("%s is said, but %s does not hold its former configuration", w.s.Outcome, d.Name)
		case w.s.Outcome == guard.Partly && b.changed && d.Standing != guard.IsAccepted &&
			d.Standing != guard.IsConfirmed:
			return fmt.Errorf("%s holds the change, and is said to be %s", d.Name, d.Standing)
		case d.Standing == guard.IsReverted && (b.changed || b.late || b.odd):
			return fmt.Errorf("%s is said to have reverted and has not: %+v", d.Name, b)
		case d.Standing == guard.IsAccepted && !b.odd && !b.refuses:
			return fmt.Errorf("%s was left though it is not stuck: %+v", d.Name, b)
		case w.s.Phase == guard.Done && w.s.Outcome == guard.Undecided:
			return fmt.Errorf("done without an outcome")
		case w.s.Phase == guard.Reverting && w.s.Reason == "":
			return fmt.Errorf("reverting without a reason")
		case !w.s.Deadline.IsZero() && b.pending && b.sure && w.s.Phase == guard.Awaiting && w.skew == 0 && epoch.Add(
			time.Duration(b.backAt)*time.Second,
		).Before(w.s.Deadline):
			return fmt.Errorf("the device's timer fires before the deadline: %d", b.backAt)
		}
	}
	return nil
}

// walk is the states come to, and those from which a way out is known.
type walk struct {
	seen, settled map[name]bool
	transitions   int
	outcomes      map[guard.Outcome]int

	rnd   *rand.Rand // goes another way each time, where it cannot go all of them
	until time.Time  // it goes on so long; zero is to its end
	cut   bool       // it was not gone to its end
}

// settles runs on without further faults or words and reports whether it ends.
func (k *walk) settles(w world) bool {
	w = w.clone()
	w.faults = 0
	var path []name
	done := func() bool {
		for _, key := range path {
			k.settled[key] = true
		}
		return true
	}
	for range 600 {
		if w.s.Phase == guard.Done {
			return done()
		}
		key := w.key()
		if k.settled[key] {
			return done()
		}
		path = append(path, key)
		if left, ok := w.leave(); ok {
			w = left
			continue
		}
		if len(w.heard) > 0 {
			w = w.journalled()
			continue
		}
		if len(w.actions) == 0 {
			next, ok := w.later()
			if !ok {
				return false
			}
			w = next
			continue
		}
		again := w.actions[0].Again
		w = w.perform(0, w.outcomes(w.actions[0])[0])
		if again {
			if next, ok := w.later(); ok {
				w = next
			}
		}
	}
	return false
}

func (k *walk) run(t *testing.T, first world) {
	todo := []world{first}
	for len(todo) > 0 {
		if len(k.seen)%256 == 0 && !k.until.IsZero() && time.Now().After(k.until) {
			k.cut = true
			return
		}
		w := todo[len(todo)-1]
		todo = todo[:len(todo)-1]
		key := w.key()
		if k.seen[key] {
			continue
		}
		k.seen[key] = true
		if err := w.check(); err != nil {
			require.NoError(t, err, "%+v", w)
		}
		if !k.settles(w) {
			require.Fail(t, "no way out", "%+v", w)
		}
		if w.s.Phase == guard.Done {
			k.outcomes[w.s.Outcome]++
			continue
		}
		next := w.successors()
		k.transitions += len(next)
		k.rnd.Shuffle(len(next), func(i, j int) { next[i], next[j] = next[j], next[i] })
		todo = append(todo, next...)
	}
}

func TestWalk(t *testing.T) {
	seed := time.Now().UnixNano()
	if n, err := strconv.ParseInt(os.Getenv("SEED"), 10, 64); err == nil {
		seed = n
	}
	device, session, service := guard.ByDevice, guard.BySession, guard.ByService
	for _, c := range []struct {
		name     string
		keepers  []guard.Keeper
		faults   int
		alter    func(*guard.Plan)
		stranger bool
		with     troubles
		large    bool // walked without the race detector only: scripts/test.sh does both
	}{
		{name: "device", keepers: []guard.Keeper{device}, faults: 4},
		{name: "session", keepers: []guard.Keeper{session}, faults: 4},
		{name: "service", keepers: []guard.Keeper{service}, faults: 4},
		{name: "a stranger on it", keepers: []guard.Keeper{device}, faults: 3, stranger: true},
		{name: "a stranger on it, service", keepers: []guard.Keeper{service}, faults: 3, stranger: true},
		{name: "confirms that lie", keepers: []guard.Keeper{device}, faults: 3, with: troubles{lies: true}},
		{
			name: "confirms that lie, silent", keepers: []guard.Keeper{device}, faults: 3,
			with: troubles{lies: true, silent: true},
		},
		{
			name: "confirms that lie, session", keepers: []guard.Keeper{session}, faults: 3,
			with: troubles{lies: true, silent: true},
		},
		{name: "late timers", keepers: []guard.Keeper{device}, faults: 3, with: troubles{late: true, lies: true}},
		{
			name: "late timers, silent", keepers: []guard.Keeper{device}, faults: 3,
			with: troubles{late: true, silent: true},
		},
		{
			name: "late timers, session", keepers: []guard.Keeper{session}, faults: 3,
			with: troubles{late: true, silent: true},
		},
		{name: "tokens ignored", keepers: []guard.Keeper{device}, faults: 3, with: troubles{foreign: true, lies: true}},
		{name: "refuses to revert", keepers: []guard.Keeper{service}, faults: 3, with: troubles{stubborn: true}},
		{
			name: "refuses, device", keepers: []guard.Keeper{device}, faults: 3,
			with: troubles{stubborn: true, foreign: true},
		},
		{
			name: "wrong clock", keepers: []guard.Keeper{device}, faults: 3,
			with: troubles{clock: true, silent: true, lies: true},
		},
		{name: "wrong clock, session", keepers: []guard.Keeper{session}, faults: 3, with: troubles{clock: true}},
		{name: "slow journal", keepers: []guard.Keeper{device}, faults: 3, with: troubles{journal: true, silent: true}},
		{name: "slow journal, service", keepers: []guard.Keeper{service}, faults: 3, with: troubles{journal: true}},
		{
			name: "all of it", large: true, keepers: []guard.Keeper{device}, faults: 3, stranger: true,
			with: troubles{lies: true, late: true, foreign: true, stubborn: true, clock: true, journal: true},
		},
		{
			name: "two that lie", large: true, keepers: []guard.Keeper{device, service}, faults: 1,
			with: troubles{lies: true, silent: true, stubborn: true, journal: true},
		},
		{name: "two devices", large: true, keepers: []guard.Keeper{device, device}, faults: 2},
		{name: "device and session", large: true, keepers: []guard.Keeper{device, session}, faults: 1},
		{name: "device and service", large: true, keepers: []guard.Keeper{device, service}, faults: 2},
		{name: "session and service", large: true, keepers: []guard.Keeper{session, service}, faults: 2},
		{name: "three devices", large: true, keepers: []guard.Keeper{device, device, device}, faults: 1},
		{name: "one of each", large: true, keepers: []guard.Keeper{device, session, service}, faults: 1},
		{
			name: "prepared ahead", large: true, keepers: []guard.Keeper{device, service}, faults: 1,
			alter: func(p *guard.Plan) { p.Ahead = 90 * time.Second },
		},
		{
			name: "two waves", large: true, keepers: []guard.Keeper{device, device}, faults: 1,
			alter: func(p *guard.Plan) { p.Devices[1].Wave = 1 },
		},
		{name: "three waves", large: true, keepers: []guard.Keeper{device, service, device}, faults: 1,
			alter: func(p *guard.Plan) {
				p.Devices[1].Wave, p.Devices[2].Wave = 3, 7
			}},
		{name: "probes decide", keepers: []guard.Keeper{device}, faults: 3, alter: func(p *guard.Plan) {
			p.ByProbes, p.RevertOnProbe = true, true
			p.Probes = []guard.Probe{{Kind: guard.ProbeTCP, Address: "192.0.2.12:22"}}
		}},
		{name: "probes of waves", large: true, keepers: []guard.Keeper{device, device}, faults: 1,
			alter: func(p *guard.Plan) {
				p.Devices[1].Wave = 1
				p.Probes = []guard.Probe{{Kind: guard.ProbeState, Device: "saltern", Path: "/x", Want: "up"}}
			}},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			plan := guard.Plan{Hold: hold}
			for i, keeper := range c.keepers {
				plan.Devices = append(
					plan.Devices,
					guard.PlannedDevice{Name: []string{"northmole", "saltern", "gannet"}[i], Keeper: keeper},
				)
			}
			if c.alter != nil {
				c.alter(&plan)
			}
			k := walk{
				seen: map[name]bool{}, settled: map[name]bool{}, outcomes: map[guard.Outcome]int{},
				rnd: rand.New(rand.NewPCG(uint64(seed), 0)),
			}
			switch {
			case os.Getenv("TEST_TIME") != "": // every walk is gone to its end
			case testing.Short():
				k.until = time.Now().Add(150 * time.Millisecond)
			case c.large:
				k.until = time.Now().Add(8 * time.Second)
			}
			first := start(plan, c.faults)
			first.stranger, first.with = c.stranger, c.with
			k.run(t, first)
			how := ""
			if k.cut {
				how = fmt.Sprintf(", a part of them, with SEED=%d", seed)
			}
			fmt.Printf(
				"tell: walked %-26s %8d states %9d transitions%s, ends: %v\n",
				c.name, len(k.seen), k.transitions, how,
				k.outcomes,
			)
			require.Greater(t, len(k.seen), 100)
			if k.cut {
				return
			}
			for _, o := range []guard.Outcome{guard.Confirmed, guard.Reverted, guard.Failed} {
				require.Positive(t, k.outcomes[o], "the walk never came to %s", o)
			}
		})
	}
}

func one(keeper guard.Keeper, alter ...func(*guard.Plan)) guard.Plan {
	p := guard.Plan{Hold: hold, Devices: []guard.PlannedDevice{{Name: "northmole", Keeper: keeper}}}
	for _, f := range alter {
		f(&p)
	}
	return p
}

// A commit that goes well is told in these steps.
func TestGoesWell(t *testing.T) {
	w := start(one(guard.ByDevice, func(p *guard.Plan) { p.Ahead = time.Hour }), 0)
	var phases []guard.Phase
	for w.s.Phase != guard.Done {
		if n := len(phases); n == 0 || phases[n-1] != w.s.Phase {
			phases = append(phases, w.s.Phase)
		}
		switch w.s.Phase {
		case guard.AllReady:
			w.feed(guard.Event{Kind: guard.SayCommit, By: "mara"})
		case guard.Awaiting:
			w.feed(guard.Event{Kind: guard.SayConfirm, By: "mara"})
		default:
			w = w.perform(0, w.outcomes(w.actions[0])[0])
		}
	}
	require.Equal(
		t,
		[]guard.Phase{
			guard.Preparing, guard.AllReady, guard.Applying, guard.Probing, guard.Awaiting, guard.Asking,
			guard.ConfirmingAll,
			guard.Settling,
		},
		phases,
	)
	require.Equal(t, guard.Confirmed, w.s.Outcome)
	require.Equal(t, "mara", w.s.By)
	require.True(t, w.s.Devices[0].Saved)
}

// runTo performs what is outstanding until a phase is come to.
func (w *world) runTo(t *testing.T, phase guard.Phase) {
	t.Helper()
	for range 100 {
		if w.s.Phase == phase {
			return
		}
		*w = w.perform(0, w.outcomes(w.actions[0])[0])
	}
	require.Equal(t, phase, w.s.Phase)
}

func TestWordsRefused(t *testing.T) {
	w := start(one(guard.ByDevice, func(p *guard.Plan) {
		p.Ahead, p.Probes = time.Hour, []guard.Probe{{Kind: guard.ProbeTCP, Address: "192.0.2.12:22"}}
	}), 0)
	say := func(e guard.Event) error {
		if e.At.IsZero() {
			e.At = w.at()
		}
		return w.s.May(e)
	}
	require.ErrorContains(t, say(guard.Event{Kind: guard.SayConfirm}), "not active yet")
	w.runTo(t, guard.AllReady)
	require.ErrorContains(t, say(guard.Event{Kind: guard.SayConfirm}), "prepared and not committed")
	w.feed(guard.Event{Kind: guard.SayCommit, By: "mara"})
	require.ErrorContains(t, say(guard.Event{Kind: guard.SayCommit}), "it is applying")
	w.runTo(t, guard.Probing)
	require.ErrorContains(t, say(guard.Event{Kind: guard.SayConfirm}), "not been proved")
	w.runTo(t, guard.Awaiting)
	require.NoError(t, say(guard.Event{Kind: guard.SayConfirm}))
	w.feed(guard.Event{Kind: guard.ProbeFailed, Err: "connection refused"})
	require.ErrorContains(t, say(guard.Event{Kind: guard.SayConfirm}), "tcp 192.0.2.12:22: connection refused")
	require.NoError(t, say(guard.Event{Kind: guard.SayConfirm, Despite: true}))
	require.ErrorContains(
		t, say(guard.Event{Kind: guard.SayConfirm, At: epoch.Add(hold)}), "the hold ended at 2026-11-23T02:01:00Z",
	)
	require.ErrorContains(t, say(guard.Event{Kind: guard.SayUntil, Until: w.at()}), "to end it now, revert")
	require.ErrorContains(t, say(guard.Event{Kind: guard.SayAccept}), "northmole is not stuck")
	require.ErrorContains(t, say(guard.Event{Kind: guard.SayAccept, Device: 4}), "no such device")
	w.feed(guard.Event{Kind: guard.SayUntil, Until: epoch.Add(2 * hold), By: "mara"})
	require.ErrorContains(
		t, say(guard.Event{Kind: guard.SayConfirm, Despite: true}), "hold until 2026-11-23T02:02:00Z",
	)
	w.feed(guard.Event{Kind: guard.SayRevert, By: "joss"})
	require.ErrorContains(t, say(guard.Event{Kind: guard.SayConfirm}), "reverting: reverted by joss")
}

// A longer hold counts only once every device's timer is known to be longer; a
// shorter one at once; one refused leaves the hold as it was, and is told.
func TestHoldMoved(t *testing.T) {
	w := start(one(guard.ByDevice), 0)
	w.runTo(t, guard.Awaiting)
	was := w.s.Deadline
	w.feed(guard.Event{Kind: guard.SayUntil, Until: was.Add(time.Hour), By: "mara"})
	require.Equal(t, was, w.s.Deadline, "not before the device knows")
	w = w.perform(0, w.outcomes(w.actions[0])[0])
	require.Equal(t, was.Add(time.Hour), w.s.Deadline)
	w.feed(guard.Event{Kind: guard.SayUntil, Until: was, By: "mara"})
	require.Equal(t, was, w.s.Deadline, "at once")
	w.actions = nil
	w.feed(guard.Event{Kind: guard.TimerSet})
	w.feed(guard.Event{Kind: guard.SayUntil, Until: was.Add(time.Hour), By: "mara"})
	w.feed(guard.Event{Kind: guard.TimerNotSet, Err: "out of rope"})
	require.Equal(t, was, w.s.Deadline)
	require.Contains(t, w.s.Devices[0].Said, "out of rope")
	w.now = int(was.Sub(epoch)/time.Second) - 10
	w.feed(guard.Event{Kind: guard.Tick})
	require.True(t, w.s.Warned)
}

func TestMargin(t *testing.T) {
	for hold, want := range map[time.Duration]time.Duration{
		10 * time.Second: 4 * time.Second, time.Minute: 12 * time.Second, time.Hour: time.Minute,
	} {
		require.Equal(t, want, guard.Margin(hold))
	}
}

func TestParseProbe(t *testing.T) {
	for line, want := range map[string]guard.Probe{
		"tcp 192.0.2.12:22": {Kind: guard.ProbeTCP, Address: "192.0.2.12:22"},
		" state  northmole /interfaces/interface=port1/oper-status up": {
			Kind: guard.ProbeState, Device: "northmole", Path: "/interfaces/interface=port1/oper-status", Want: "up",
		},
		"program phones --site saltern": {
			Kind: guard.ProbeProgram, Program: "phones", Args: []string{"--site", "saltern"},
		},
	} {
		got, err := guard.ParseProbe(line)
		require.NoError(t, err)
		require.Equal(t, want, got)
		require.Equal(t, strings.Join(strings.Fields(line), " "), got.String())
	}
	for _, line := range []string{"", "tcp", "tcp a b", "state northmole /x", "program", "ping 192.0.2.1"} {
		_, err := guard.ParseProbe(line)
		require.ErrorContains(t, err, "state DEVICE PATH VALUE", line)
	}
}
