package guard_test

import (
	"fmt"
	"sort"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"oakenlatch/core/guard"
)

// The walk drives the machine through every order of replies, faults, restarts
// and persons' words against a model of the devices, and checks the promises
// in every state it comes to.

// box is what is true of one device, whether anyone knows it or not.
type box struct {
	changed   bool // running holds the change
	pending   bool // its own timer will take it back
	late      bool // an unanswered commit may still be carried out
	backAt    int  // when the timer fires, in seconds
	permanent bool // it took a confirm
}

// world is the machine's state with everything around it.
type world struct {
	s       guard.State
	boxes   []box
	actions []guard.Action // outstanding
	now     int
	faults  int // left to spend
}

var epoch = time.Date(2026, 11, 23, 2, 0, 0, 0, time.UTC)

const hold = 60 * time.Second

func (w world) at() time.Time { return epoch.Add(time.Duration(w.now) * time.Second) }

func (w world) key() string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s|%s|%d|%d|%v|", w.s.Phase, w.s.Outcome, w.now, w.faults, w.s.Deadline.Sub(epoch))
	for i, d := range w.s.Devices {
		fmt.Fprintf(&b, "%s,%t,%t,%t,%t,%v,%v,%v|", d.Standing, d.Looked, d.Releasing, d.Unreachable, d.Settled, d.GoesBackBy.Sub(epoch), d.UnsureUntil.Sub(epoch), w.boxes[i])
	}
	list := make([]string, len(w.actions))
	for i, a := range w.actions {
		list[i] = fmt.Sprint(a)
	}
	sort.Strings(list)
	return b.String() + strings.Join(list, ";")
}

// clone gives a copy whose slices are its own.
func (w world) clone() world {
	w.boxes = append([]box(nil), w.boxes...)
	w.actions = append([]guard.Action(nil), w.actions...)
	return w
}

// feed gives the machine an event.
func (w *world) feed(e guard.Event) {
	e.At = w.at()
	var actions []guard.Action
	w.s, actions = guard.Step(w.s, e)
	for _, a := range actions {
		if a.Kind == guard.Conclude || a.Kind == guard.DoLook && w.looking(a.Device) {
			continue // as the engine does: a look under way gives way to a newer one
		}
		w.actions = append(w.actions, a)
	}
}

func (w *world) looking(device int) bool {
	for _, a := range w.actions {
		if a.Kind == guard.DoLook && a.Device == device {
			return true
		}
	}
	return false
}

// outcome is one way an action may end: what becomes of the device, and what
// is heard of it. A nil event is a reply that was lost with the service.
type outcome struct {
	fault bool
	box   box
	event guard.Event
}

// outcomes lists all the ways an action may end.
func (w world) outcomes(a guard.Action) []outcome {
	b := w.boxes[a.Device]
	ev := func(kind guard.EventKind) guard.Event { return guard.Event{Kind: kind, Device: a.Device} }
	failed := func(kind guard.EventKind) guard.Event {
		return guard.Event{Kind: kind, Device: a.Device, Err: "lost"}
	}
	applied := box{changed: true, pending: true, backAt: w.now + int(w.s.DeviceTimeout()/time.Second)}
	former := box{}
	switch a.Kind {
	case guard.DoPrepare:
		return []outcome{{false, b, ev(guard.Prepared)}, {true, b, failed(guard.PrepareFailed)}}
	case guard.DoCommit:
		late := b
		late.late = true
		return []outcome{
			{false, applied, ev(guard.Applied)}, {true, b, failed(guard.CommitRefused)},
			{true, applied, failed(guard.CommitUnknown)}, {true, b, failed(guard.CommitUnknown)}, {true, late, failed(guard.CommitUnknown)},
		}
	case guard.DoLook:
		seen := guard.Event{Kind: guard.Seen, Device: a.Device, Found: guard.FoundBase}
		if b.changed {
			seen.Found = guard.FoundResult
		}
		return []outcome{{false, b, seen}, {true, b, failed(guard.NotReached)}}
	case guard.DoConfirm:
		if !b.pending {
			return []outcome{{false, b, failed(guard.ConfirmFailed)}}
		}
		kept := box{changed: true, permanent: true}
		return []outcome{{false, kept, ev(guard.ConfirmTaken)}, {true, kept, failed(guard.ConfirmFailed)}, {true, b, failed(guard.ConfirmFailed)}}
	case guard.DoCancel:
		if !b.pending {
			return []outcome{{false, b, ev(guard.CancelDone)}}
		}
		return []outcome{{false, former, ev(guard.CancelDone)}, {true, former, failed(guard.CancelDone)}, {true, b, failed(guard.CancelDone)}}
	case guard.DoRestore:
		return []outcome{{false, former, ev(guard.RestoreDone)}, {true, former, failed(guard.RestoreDone)}, {true, b, failed(guard.RestoreDone)}}
	case guard.DoRelease:
		return []outcome{{false, b, ev(guard.ReleaseDone)}, {true, b, failed(guard.ReleaseDone)}}
	}
	saved := ev(guard.SettleDone)
	saved.Saved = true
	return []outcome{{false, b, saved}, {true, b, failed(guard.SettleDone)}}
}

// perform ends outstanding action i in one of its ways.
func (w world) perform(i int, o outcome) world {
	next := w.clone()
	next.actions = append(next.actions[:i], next.actions[i+1:]...)
	next.boxes[w.actions[i].Device] = o.box
	if o.fault {
		next.faults--
	}
	next.feed(o.event)
	return next
}

// later lets time pass to the next moment at which anything may change by
// itself: the deadline, a device's timer, the end of a doubt.
func (w world) later() (world, bool) {
	var moments []int
	add := func(t time.Time) {
		if at := int(t.Sub(epoch)/time.Second) + 1; !t.IsZero() && at > w.now {
			moments = append(moments, at)
		}
	}
	add(w.s.Deadline.Add(-time.Second))
	for i, d := range w.s.Devices {
		add(d.UnsureUntil)
		add(d.GoesBackBy)
		if w.boxes[i].pending {
			moments = append(moments, max(w.now+1, w.boxes[i].backAt))
		}
	}
	if len(moments) == 0 || w.s.Phase == guard.Done {
		return w, false
	}
	sort.Ints(moments)
	next := w.clone()
	next.now = moments[0]
	for i := range next.boxes {
		b := &next.boxes[i]
		if b.pending && next.now >= b.backAt {
			*b = box{}
		}
		if d := next.s.Devices[i]; b.late && !next.at().Before(d.UnsureUntil) {
			b.late = false // it never was carried out
		}
	}
	next.feed(guard.Event{Kind: guard.Tick})
	return next, true
}

// successors lists every world that may follow.
func (w world) successors() []world {
	var out []world
	for i, a := range w.actions {
		for _, o := range w.outcomes(a) {
			if !o.fault || w.faults > 0 {
				out = append(out, w.perform(i, o))
			}
		}
	}
	if next, ok := w.later(); ok {
		out = append(out, next)
	}
	for _, word := range []guard.EventKind{guard.SayConfirm, guard.SayRevert} {
		if w.s.May(word, w.at()) == nil && w.s.Phase != guard.Idle {
			next := w.clone()
			next.feed(guard.Event{Kind: word, By: "mara"})
			out = append(out, next)
		}
	}
	for i, b := range w.boxes {
		if b.late {
			next := w.clone()
			next.boxes[i] = box{changed: true, pending: true, backAt: w.now + int(w.s.DeviceTimeout()/time.Second)}
			out = append(out, next)
		}
		if w.faults > 0 && b.pending {
			next := w.clone() // it loses power: startup comes back, the trial is forgotten
			next.faults--
			next.boxes[i] = box{}
			out = append(out, next)
		}
	}
	if w.faults > 0 && w.s.Phase != guard.Done && w.s.Phase != guard.Idle {
		out = append(out, w.restarts()...)
	}
	return out
}

// restarts kills the service: what it had asked of the devices was carried out
// or was not, and nobody heard.
func (w world) restarts() []world {
	list := []world{w.clone()}
	for _, a := range w.actions {
		var more []world
		for _, v := range list {
			seen := map[box]bool{}
			for _, o := range v.outcomes(a) {
				if !seen[o.box] {
					seen[o.box] = true
					u := v.clone()
					u.boxes[a.Device] = o.box
					more = append(more, u)
				}
			}
		}
		list = more
	}
	for i := range list {
		list[i].actions = nil
		list[i].faults--
		list[i].feed(guard.Event{Kind: guard.Restarted})
	}
	return list
}

// check holds the promises against a world.
func (w world) check() error {
	for i, b := range w.boxes {
		name := w.s.Devices[i].Name
		switch {
		case w.s.Outcome == guard.Kept && (!b.changed || b.pending):
			return fmt.Errorf("kept is said, but %s does not hold it for good: %+v", name, b)
		case w.s.Phase == guard.Done && w.s.Outcome != guard.Kept && b.changed:
			return fmt.Errorf("%s is said, but %s still holds the change", w.s.Outcome, name)
		case w.s.Devices[i].Standing == guard.IsReverted && (b.changed || b.late):
			return fmt.Errorf("%s is said to have gone back and has not: %+v", name, b)
		case w.s.Phase == guard.Done && w.s.Outcome == guard.Undecided:
			return fmt.Errorf("done without an outcome")
		}
	}
	return nil
}

// settles runs on without further faults or words and reports whether it ends.
func (w world) settles() bool {
	w = w.clone()
	w.faults = 0
	for range 400 {
		if w.s.Phase == guard.Done {
			return true
		}
		if len(w.actions) > 0 {
			again := w.actions[0].Again && w.later1()
			w = w.perform(0, w.outcomes(w.actions[0])[0])
			if again {
				if next, ok := w.later(); ok {
					w = next
				}
			}
			continue
		}
		next, ok := w.later()
		if !ok {
			return false
		}
		w = next
	}
	return false
}

// later1 reports whether time can pass at all.
func (w world) later1() bool {
	_, ok := w.later()
	return ok
}

func start(devices, faults int) world {
	names := []string{"northmole", "saltern", "gannet"}[:devices]
	w := world{s: guard.New(names, hold), boxes: make([]box, devices), faults: faults}
	w.feed(guard.Event{Kind: guard.Start, By: "mara"})
	return w
}

func TestWalk(t *testing.T) {
	for _, c := range []struct{ devices, faults int }{{1, 5}, {2, 2}} {
		t.Run(fmt.Sprintf("%d devices, %d faults", c.devices, c.faults), func(t *testing.T) {
			seen := map[string]bool{}
			outcomes := map[guard.Outcome]int{}
			transitions := 0
			todo := []world{start(c.devices, c.faults)}
			for len(todo) > 0 {
				w := todo[len(todo)-1]
				todo = todo[:len(todo)-1]
				k := w.key()
				if seen[k] {
					continue
				}
				seen[k] = true
				require.NoError(t, w.check(), "%s", k)
				require.True(t, w.settles(), "no way out of: %s", k)
				if w.s.Phase == guard.Done {
					outcomes[w.s.Outcome]++
					continue
				}
				next := w.successors()
				transitions += len(next)
				todo = append(todo, next...)
			}
			t.Logf("%d states, %d transitions, ends: %v", len(seen), transitions, outcomes)
			for _, o := range []guard.Outcome{guard.Kept, guard.Reverted, guard.Failed} {
				require.Positive(t, outcomes[o], "the walk never came to %s", o)
			}
		})
	}
}

// A commit that goes well is told in these steps.
func TestGoesWell(t *testing.T) {
	w := start(1, 0)
	var phases []guard.Phase
	for w.s.Phase != guard.Done {
		if n := len(phases); n == 0 || phases[n-1] != w.s.Phase {
			phases = append(phases, w.s.Phase)
		}
		if w.s.Phase == guard.Awaiting {
			w.feed(guard.Event{Kind: guard.SayConfirm, By: "mara"})
			continue
		}
		w = w.perform(0, w.outcomes(w.actions[0])[0])
	}
	require.Equal(t, []guard.Phase{guard.Preparing, guard.Applying, guard.Probing, guard.Awaiting, guard.Asking, guard.Keeping, guard.Settling}, phases)
	require.Equal(t, guard.Kept, w.s.Outcome)
	require.Equal(t, "mara", w.s.By)
	require.True(t, w.s.Devices[0].Saved)
}

func TestWordsRefused(t *testing.T) {
	w := start(1, 0)
	require.ErrorContains(t, w.s.May(guard.SayConfirm, w.at()), "not in effect yet")
	w = w.perform(0, w.outcomes(w.actions[0])[0])
	w = w.perform(0, w.outcomes(w.actions[0])[0])
	require.ErrorContains(t, w.s.May(guard.SayConfirm, w.at()), "not been proved")
	w = w.perform(0, w.outcomes(w.actions[0])[0])
	require.NoError(t, w.s.May(guard.SayConfirm, w.at()))
	require.ErrorContains(t, w.s.May(guard.SayConfirm, epoch.Add(hold)), "the hold ended at 2026-11-23T02:01:00Z")
	w.feed(guard.Event{Kind: guard.SayRevert, By: "joss"})
	require.ErrorContains(t, w.s.May(guard.SayConfirm, w.at()), "going back: reverted by joss")
}

func TestMargin(t *testing.T) {
	for hold, want := range map[time.Duration]time.Duration{10 * time.Second: 4 * time.Second, time.Minute: 12 * time.Second, time.Hour: time.Minute} {
		require.Equal(t, want, guard.Margin(hold))
	}
}
