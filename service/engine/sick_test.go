package engine_test

import (
	"fmt"
	"log/slog"
	"math"
	"math/rand/v2"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"oakenlatch/core/guard"
	"oakenlatch/lab"
	"oakenlatch/service/engine"
	"oakenlatch/service/order"
	"oakenlatch/test/pace"
	"oakenlatch/test/servicetest"
)

// TestSickSchedules runs commits on devices of every guard while the disk of the records fails
// at a random moment, in a random way: full, full and the service killed, frozen, gone read-only, or
// cut off like the power, with persons' words at any time. While it is ill, what is due reverts all the same; once it
// is mended, what is said of every device is so.
//
// It goes on for a time, or SICK says how many; SEED runs one again.
func TestSickSchedules(t *testing.T) {
	pace.Long(t)
	t.Parallel()
	slog.SetDefault(slog.New(slog.DiscardHandler))
	count, first, atOnce := number("SICK", math.MaxInt64), time.Now().UnixNano(), int64(16)
	if pace.Raced || testing.Short() {
		atOnce = 3
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
	ends := map[string]int{}
	var workers sync.WaitGroup
	for w := range min(count, atOnce) {
		t.Run(fmt.Sprint(w), func(t *testing.T) {
			t.Parallel()
			workers.Add(1)
			defer workers.Done()
			disk := servicetest.NewDisk(t, 48)
			r := newSickRoom(t, disk, router, quay, "saltern-slip", "gannet-hall")
			for i := next.Add(1) - 1; i < count && !t.Failed() && time.Now().Before(until); i = next.Add(1) - 1 {
				end := r.sickly(first + i)
				ran.Add(1)
				mu.Lock()
				ends[end]++
				mu.Unlock()
			}
			_, err := r.Log.Verify(t.Context(), nil)
			require.NoError(t, err)
		})
	}
	t.Cleanup(func() {
		fmt.Printf("tell: %d schedules with a sick disk run from seed %d on, ends: %v\n", ran.Load(), first, ends)
	})
}

type sickRoom struct {
	soak
	disk *servicetest.Disk
}

// newSickRoom has devices of every guard, and its records on a disk that can fail.
func newSickRoom(t *testing.T, disk *servicetest.Disk, names ...string) *sickRoom {
	kinds := map[string]lab.Kind{
		router: lab.Full, quay: lab.NoPersist, "saltern-slip": lab.NoConfirm, "gannet-hall": lab.NoCandidate,
	}
	base := servicetest.NewAt(
		t, disk.Dir, func(s *lab.Spec) { s.Kind = kinds[strings.TrimSuffix(s.Name, "-2")] }, names...,
	)
	r := &sickRoom{soak{&room{base, t}, names}, disk}
	r.Timing = engine.Timing{Effect: 300 * time.Millisecond, Pause: time.Second, Watch: time.Second}
	r.Close()
	r.Open()
	return r
}

// The disk is full from each step of the journal on, of a commit on eight devices of every
// guard, and every other time the service is killed at that step and started on the full disk: all that is
// not kept reverts while it is full.
func TestFullDiskAtEveryStep(t *testing.T) {
	pace.Long(t)
	t.Parallel()
	slog.SetDefault(slog.New(slog.DiscardHandler))
	first, stride := stepped(7)
	fmt.Printf("tell: the disk is full from step %d and every %d on\n", first, stride)
	const rooms = 5
	var whole atomic.Int64 // steps of the longest journal
	for w := range rooms {
		t.Run(fmt.Sprint(w), func(t *testing.T) {
			t.Parallel()
			var names []string
			for _, name := range []string{router, quay, "saltern-slip", "gannet-hall"} {
				names = append(names, name, name+"-2")
			}
			r := newSickRoom(t, servicetest.NewDisk(t, 48), names...)
			for k := first + w*stride; k < 52; k += rooms * stride {
				r.fullAt(k, (k/stride)%2 == 0, &whole)
			}
			_, err := r.Log.Verify(t.Context(), nil)
			require.NoError(t, err)
		})
	}
	t.Cleanup(func() { require.Greater(t, whole.Load(), int64(30), "that is no whole commit") })
}

func (r *sickRoom) fullAt(k int, kill bool, whole *atomic.Int64) {
	require.Eventually(
		r.t, func() bool { return r.Store.Check(r.t.Context()) == nil }, 90*time.Second, 100*time.Millisecond,
	)
	was, value := map[string]string{}, fmt.Sprintf("full at %d", k)
	var edits []string
	for _, name := range r.names {
		was[name] = r.Value(name, contact)
		edits = append(edits, name+" "+contact+" "+value)
	}
	n := r.stage(edits...)
	r.order(n, order.Order{Hold: 10 * time.Second})
	c, err := r.Store.LastCommit(r.t.Context(), n)
	require.NoError(r.t, err)
	steps := 0
	for end := time.Now().Add(12 * time.Second); steps < k && time.Now().Before(end); time.Sleep(time.Millisecond) {
		list, err := r.Store.JournalOf(r.t.Context(), c.ID)
		require.NoError(r.t, err)
		steps = len(list)
	}
	mend := servicetest.Stuff(r.t, r.disk.Dir)
	if kill {
		r.Close()
		r.Open()
	}
	require.Eventually(
		r.t, func() bool { return r.allBack(was) }, 60*time.Second, 100*time.Millisecond,
		"step %d, killed %t: a device did not revert while the disk was full", k, kill,
	)
	mend()
	s := r.wait(n, int64(k))
	require.Contains(
		r.t, []guard.Outcome{guard.Reverted, guard.Failed}, s.Outcome, "step %d, killed %t: %s", k, kill, s.Reason,
	)
	require.True(r.t, r.allBack(was))
	list, err := r.Store.JournalOf(r.t.Context(), c.ID)
	require.NoError(r.t, err)
	whole.Store(max(whole.Load(), int64(len(list))))
}

// sickly runs one commit while the disk fails as a seed has it.
func (r *sickRoom) sickly(seed int64) string {
	rnd := rand.New(rand.NewPCG(uint64(seed), 11))
	was, value := map[string]string{}, fmt.Sprintf("sick %d", seed)
	var edits []string
	for _, name := range r.names {
		was[name] = r.Value(name, contact)
		edits = append(edits, name+" "+contact+" "+value)
	}
	require.Eventually(
		r.t, func() bool { return r.Store.Check(r.t.Context()) == nil }, 90*time.Second, 100*time.Millisecond,
	)
	n := r.stage(edits...)
	began := time.Now()
	const hold = 10 * time.Second
	o := order.Order{Hold: hold}
	if rnd.IntN(4) == 0 {
		o.Waves = [][]string{{r.names[rnd.IntN(4)]}}
	}
	r.order(n, o)
	time.Sleep(time.Duration(rnd.IntN(6000)) * time.Millisecond)
	over, words := make(chan struct{}), sync.WaitGroup{}
	speaks := rnd.IntN(2) == 0
	if speaks {
		own := rand.New(rand.NewPCG(rnd.Uint64(), 3))
		words.Go(func() { r.speak(n, own, over) })
		time.Sleep(time.Duration(rnd.IntN(1500)) * time.Millisecond)
	}
	hush := func() {
		close(over)
		words.Wait()
	}
	how := []string{"full", "full and killed", "frozen", "read-only", "power"}[rnd.IntN(5)]
	ill := time.Duration(1+rnd.IntN(20)) * time.Second
	long := began.Add(hold + 25*time.Second) // by then all that is not kept has reverted
	wait := func() {
		time.Sleep(ill)
		if speaks || ill < 12*time.Second {
			return
		}
		// Nobody said a word: whatever the disk does, nothing stays past the end of the hold.
		for time.Now().Before(long) && !r.allBack(was) {
			time.Sleep(200 * time.Millisecond)
		}
		require.True(r.t, r.allBack(was), "seed %d: %s: a device did not revert while the disk was ill", seed, how)
	}
	switch how {
	case "full":
		mend := servicetest.Stuff(r.t, r.disk.Dir)
		wait()
		hush()
		mend()
	case "full and killed":
		mend := servicetest.Stuff(r.t, r.disk.Dir)
		time.Sleep(time.Duration(rnd.IntN(4000)) * time.Millisecond)
		hush()
		r.Close()
		r.Open()
		wait()
		mend()
	case "frozen":
		r.disk.Freeze()
		wait()
		r.disk.Thaw()
		hush()
	case "read-only", "power":
		if how == "power" {
			r.disk.ShutDown()
		} else {
			r.disk.FailWrites()
		}
		wait()
		hush()
		r.Close()
		r.disk.Remount()
		r.Open()
	}
	s := r.wait(n, seed)
	for i, name := range r.names {
		want := was[name]
		if s.Outcome == guard.Confirmed || s.Outcome == guard.Partly && s.Devices[i].Standing == guard.IsConfirmed {
			want = value
		}
		if s.Devices[i].Standing == guard.IsAccepted {
			want = r.Value(name, contact)
		}
		if got := r.Value(name, contact); got != want || r.Devices[name].Pending() {
			r.t.Errorf(
				"seed %d: %s, %s (%s) is said, and %s holds %q, pending %t: %+v", seed, how, s.Outcome, s.Reason, name,
				got, r.Devices[name].Pending(), s,
			)
		}
	}
	c, err := r.Store.Change(r.t.Context(), n)
	require.NoError(r.t, err)
	require.EqualValues(r.t, s.Outcome, c.State, "seed %d: %s", seed, how)
	require.Empty(r.t, r.Notes.List(), "seed %d: %s: a hold that is over is noted as under way", seed, how)
	return how + ", " + string(s.Outcome)
}

func (r *sickRoom) allBack(was map[string]string) bool {
	for _, name := range r.names {
		if r.Value(name, contact) != was[name] || r.Devices[name].Pending() {
			return false
		}
	}
	return true
}
