package engine_test

import (
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"oakenlatch/core/guard"
	"oakenlatch/core/markup"
	"oakenlatch/core/tree"
	"oakenlatch/lab"
	"oakenlatch/netconf"
	"oakenlatch/service/order"
	"oakenlatch/test/pace"
	"oakenlatch/test/servicetest"
)

// number reads a number from the environment.
func number(name string, otherwise int64) int64 {
	if n, err := strconv.ParseInt(os.Getenv(name), 10, 64); err == nil {
		return n
	}
	return otherwise
}

// walked is how long tests go on that could for ever: TEST_TIME, or less where a developer waits.
func walked(usual time.Duration) time.Duration {
	if d, err := time.ParseDuration(os.Getenv("TEST_TIME")); err == nil {
		return d
	}
	if testing.Short() {
		return usual / 20
	}
	return usual
}

// stepped is from where on, and how far apart, the steps of something are tried: all of them at length
// (TEST_TIME), else some, from another one each time.
func stepped(apart int) (first, stride int) {
	if os.Getenv("TEST_TIME") != "" {
		return 1, 1
	}
	if testing.Short() || pace.Raced {
		apart *= 3
	}
	return 1 + rand.IntN(apart), apart
}

// TestFaultSchedules runs commits of one to three devices of every kind under
// random faults: sessions cut at any message, replies lost, refusals, delays,
// power failures, cut links, strangers in the candidate, restarts of the
// service, and persons' words at any time. All or none, and never a false word.
//
// It goes on for a time, or SCHEDULES says how many; SEED runs one again.
func TestFaultSchedules(t *testing.T) {
	pace.Long(t)
	t.Parallel()
	count, first := number("SCHEDULES", math.MaxInt64), time.Now().UnixNano()
	workers, atOnce := sync.WaitGroup{}, int64(48)
	if pace.Raced || testing.Short() {
		atOnce = 6
	}
	until := time.Now().Add(walked(40 * time.Second))
	if count != math.MaxInt64 {
		until = time.Now().Add(24 * time.Hour)
	}
	if seed := number("SEED", 0); seed != 0 {
		count, first = 1, seed
	}
	var next, ran atomic.Int64
	var mu sync.Mutex
	ends := map[guard.Outcome]int{}
	// Most of a schedule is waiting, so many run at once. Whichever fails ends
	// its own worker alone.
	for w := range min(count, atOnce) {
		workers.Go(func() {
			r := soakRoom(t, uint64(first+w))
			for i := next.Add(1) - 1; i < count && !t.Failed() && time.Now().Before(until); i = next.Add(1) - 1 {
				end := r.schedule(first + i)
				ran.Add(1)
				mu.Lock()
				ends[end]++
				mu.Unlock()
			}
			_, err := r.Log.Verify(t.Context(), nil)
			require.NoError(t, err)
		})
	}
	workers.Wait()
	fmt.Printf("tell: %d fault schedules run from seed %d on, ends: %v\n", ran.Load(), first, ends)
	require.Positive(t, ran.Load())
}

// soak is a room for many schedules, one after another.
type soak struct {
	*room
	names []string
}

func soakRoom(t *testing.T, seed uint64) *soak {
	rnd := rand.New(rand.NewPCG(seed, 1))
	names := []string{router, quay, "gannet-hall"}[:1+rnd.IntN(3)]
	kinds := []lab.Kind{lab.Full, lab.Full, lab.NoPersist, lab.NoConfirm, lab.NoCandidate}
	base := servicetest.NewWith(t, func(s *lab.Spec) {
		s.Kind, s.OldFraming = kinds[rnd.IntN(len(kinds))], rnd.IntN(4) == 0
	}, names...)
	r := &room{base, t}
	r.hurry()
	return &soak{r, names}
}

// schedule runs one commit under the faults that a seed makes.
func (r *soak) schedule(seed int64) guard.Outcome {
	rnd := rand.New(rand.NewPCG(uint64(seed), 5))
	was := map[string]string{}
	var edits []string
	value := fmt.Sprintf("v%d", seed)
	for _, name := range r.names {
		// What the last one kept and could not save is gone with the power: that is
		// told of the last one, and not to be found in this.
		if d := r.Devices[name]; !tree.Same(d.Running(), d.Startup()) {
			d.PowerCycle()
		}
		was[name] = r.Value(name, contact)
		edits = append(edits, name+" "+contact+" "+value)
	}
	n := r.stage(edits...)
	calm := r.faults(rnd)
	var words sync.WaitGroup
	over := make(chan struct{})
	r.order(n, r.orders(rnd))
	if rnd.IntN(4) == 0 {
		time.Sleep(time.Duration(rnd.IntN(2000)) * time.Millisecond)
		r.Close()
		r.Open()
	}
	words.Go(func() { r.speak(n, rnd, over) })
	s := r.wait(n, seed)
	close(over)
	words.Wait()
	calm()
	for i, name := range r.names {
		want := was[name]
		if s.Outcome == guard.Confirmed {
			want = value
		}
		// It may lose power right after it was confirmed, before it was saved or
		// because it would not save, or come back from a power failure with a
		// startup that is neither. Then that is what is told of it.
		d := s.Devices[i]
		if s.Outcome == guard.Partly && d.Standing == guard.IsConfirmed {
			want = value
		}
		if notSaved := d.Standing == guard.IsConfirmed && !d.Saved && d.Said != ""; notSaved ||
			d.Standing == guard.IsAccepted {
			want = r.Value(name, contact)
		}
		if got := r.Value(name, contact); got != want || r.Devices[name].Pending() {
			r.t.Errorf(
				"seed %d: %s (%s) is said, and %s of kind %q holds %q, pending %t: %+v", seed, s.Outcome, s.Reason,
				name, r.Devices[name].Spec.Kind, got, r.Devices[name].Pending(), s,
			)
		}
	}
	c, err := r.Store.Change(r.t.Context(), n)
	require.NoError(r.t, err)
	require.EqualValues(r.t, s.Outcome, c.State)
	return s.Outcome
}

func (r *soak) orders(rnd *rand.Rand) order.Order {
	o := order.Order{Hold: 10 * time.Second, ByProbes: rnd.IntN(3) == 0, RevertOnProbe: rnd.IntN(2) == 0}
	if len(r.names) > 1 && rnd.IntN(3) == 0 {
		o.Waves = [][]string{{r.names[rnd.IntN(len(r.names))]}}
	}
	if rnd.IntN(3) == 0 {
		o.Probes = []guard.Probe{
			{
				Kind: guard.ProbeState, Device: r.names[0], Path: "/interfaces/interface=port1/oper-status", Want: "up",
				Grace: time.Second,
			},
		}
	}
	if rnd.IntN(6) == 0 {
		o.Ahead = time.Minute
	}
	return o
}

// faults orders what is to go wrong; the function it gives mends all of it.
func (r *soak) faults(rnd *rand.Rand) (calm func()) {
	var mu sync.Mutex
	left := 1 + rnd.IntN(4)
	quiet := rnd.IntN(36 * len(r.names)) // operations, so that faults fall anywhere
	own := rand.New(rand.NewPCG(rnd.Uint64(), 9))
	for _, name := range r.names {
		d := r.Devices[name]
		d.OnOperation(func(op *markup.Element) lab.Fault {
			mu.Lock()
			defer mu.Unlock()
			if quiet--; quiet > 0 || left == 0 || own.IntN(4) > 0 {
				return lab.Fault{}
			}
			left--
			switch own.IntN(8) {
			case 0, 1:
				return lab.Fault{DropBefore: true}
			case 2, 3:
				return lab.Fault{DropAfter: true}
			case 4:
				return lab.Fault{Delay: time.Duration(own.IntN(1500)) * time.Millisecond}
			case 5:
				go d.PowerCycle()
				return lab.Fault{Delay: 20 * time.Millisecond}
			case 6:
				d.Cut(true)
				time.AfterFunc(time.Duration(own.IntN(4000))*time.Millisecond, func() { d.Cut(false) })
				return lab.Fault{}
			}
			return lab.Fault{
				Refuse: netconf.RPCErrors{
					{Type: "application", Tag: "operation-failed", Message: "out of rope at " + op.Name.Local},
				},
			}
		})
	}
	return func() {
		for _, name := range r.names {
			r.Devices[name].OnOperation(nil)
			r.Devices[name].Cut(false)
		}
	}
}

// speak says words to the commit until it is over.
func (r *soak) speak(n int64, rnd *rand.Rand, over <-chan struct{}) {
	kinds := []guard.EventKind{
		guard.SayConfirm, guard.SayConfirm, guard.SayConfirm, guard.SayRevert, guard.SayUntil, guard.SayCommit,
	}
	silent := rnd.IntN(5) == 0
	for {
		select {
		case <-over:
			return
		case <-time.After(time.Duration(200+rnd.IntN(1500)) * time.Millisecond):
		}
		word := guard.Event{
			Kind: kinds[rnd.IntN(len(kinds))], By: "mara",
			Until: time.Now().UTC().Add(time.Duration(4+rnd.IntN(10)) * time.Second),
		}
		s, _, running := r.Engine.Status(n)
		odd := slices.IndexFunc(s.Devices, func(d guard.Device) bool { return d.Odd })
		switch {
		case running && odd >= 0:
			word.Kind, word.Device = guard.SayAccept, odd
		case running && s.Phase == guard.AllReady:
			word.Kind = guard.SayCommit
		case silent:
			continue
		}
		_ = r.Engine.Say(r.t.Context(), n, word)
	}
}

// wait waits until a commit is decided.
func (r *soak) wait(n, seed int64) guard.State {
	timeout := time.After(3 * time.Minute)
	for {
		s, changed, running := r.Engine.Status(n)
		if !running {
			c, err := r.Store.LastCommit(r.t.Context(), n)
			require.NoError(r.t, err)
			require.Equal(r.t, guard.Done, c.State.Phase, "seed %d", seed)
			return c.State
		}
		select {
		case <-changed:
		case <-time.After(time.Second):
		case <-timeout:
			require.FailNow(r.t, "not decided", "seed %d: %+v", seed, s)
		}
	}
}

// The session is cut at every single message of a commit that is confirmed,
// before or after it was carried out, on every kind of device.
func TestCutAtEveryMessage(t *testing.T) {
	pace.Long(t)
	t.Parallel()
	first, stride := stepped(4)
	fmt.Printf("tell: cut at message %d and every %d on\n", first, stride)
	for _, kind := range []lab.Kind{lab.Full, lab.NoPersist, lab.NoConfirm, lab.NoCandidate} {
		for _, after := range []bool{false, true} {
			t.Run(fmt.Sprintf("%s after %t", kind, after), func(t *testing.T) {
				t.Parallel()
				r := &soak{newKind(t, func(s *lab.Spec) { s.Kind = kind }, router), []string{router}}
				n := first
				for r.cutAt(n, after) {
					n += stride
				}
				require.Greater(t, n, 10, "that is no whole commit")
			})
		}
	}
}

// cutAt runs a commit whose n-th message is cut; it reports whether there was
// one.
func (r *soak) cutAt(n int, after bool) bool {
	was, value := r.Value(router, contact), fmt.Sprintf("cut %d %t", n, after)
	change := r.stage(router + " " + contact + " " + value)
	var count atomic.Int32
	r.Devices[router].OnOperation(func(*markup.Element) lab.Fault {
		hit := int(count.Add(1)) == n
		return lab.Fault{DropBefore: hit && !after, DropAfter: hit && after}
	})
	r.commit(change, 10*time.Second)
	over := make(chan struct{})
	go func() {
		for {
			select {
			case <-over:
				return
			case <-time.After(100 * time.Millisecond):
				_ = r.Engine.Say(r.t.Context(), change, guard.Event{Kind: guard.SayConfirm, By: "mara"})
			}
		}
	}()
	s := r.wait(change, int64(n))
	close(over)
	r.Devices[router].OnOperation(nil)
	if s.Outcome == guard.Confirmed {
		was = value
	}
	require.Equal(r.t, was, r.Value(router, contact), "message %d: %s: %s", n, s.Outcome, s.Reason)
	require.False(r.t, r.Devices[router].Pending())
	return int(count.Load()) >= n
}

// The service's clock is set during a hold: forward, and it reverts early;
// back while the service is down, and no more time is left than there was.
func TestClockIsSet(t *testing.T) {
	pace.Long(t)
	t.Parallel()
	for _, kind := range []lab.Kind{lab.Full, lab.NoConfirm} {
		t.Run(string(kind), func(t *testing.T) {
			t.Parallel()
			r := newKind(t, func(s *lab.Spec) { s.Kind = kind }, router)
			n := r.stage(router + " " + contact + " new")
			r.commit(n, time.Minute)
			r.until(n, 20*time.Second, awaiting)
			r.SetClock(time.Hour)
			s := r.until(n, 20*time.Second, done)
			require.Equal(t, guard.Reverted, s.Outcome)
			r.truth(n, s, router)

			r.commit(n, 12*time.Second)
			r.until(n, 20*time.Second, awaiting)
			r.Close()
			r.SetClock(-time.Hour)
			r.Open()
			s = r.until(n, 40*time.Second, done)
			require.Equal(t, guard.Reverted, s.Outcome, s.Reason)
			r.truth(n, s, router)
		})
	}
}
