package guard_test

import (
	"encoding/binary"
	"hash/maphash"
	"slices"
	"strconv"
	"strings"
	"time"

	"oakenlatch/core/guard"
)

// box is what is true of one device, whether anyone knows it or not.
type box struct {
	changed bool // running holds the change
	pending bool // its own timer will take it back
	late    bool // an unanswered commit may still be carried out
	session bool // the session that is its hold lives
	odd     bool // a stranger changed the same places
	sure    bool // its timer was last set by an answered word
	backAt  int  // when the timer fires, in seconds
	refuses bool // it does not take what would revert it
	saved   bool // its startup holds the change: losing power does not take it away
	lost    bool // it held the change for good, and lost it
}

// world is the machine's state with everything around it.
type world struct {
	s        guard.State
	boxes    []box
	actions  []guard.Action // outstanding
	now      int
	faults   int  // left to spend
	moved    bool // the hold's end was moved once
	stranger bool // somebody else is at work on the devices

	// How the devices, and what is between, go wrong beside what they always may.
	with  troubles
	skew  int           // how far the service's clock is off, in seconds
	heard []guard.Event // answers that the journal could not take yet
}

// troubles are ways in which things go wrong.
type troubles struct {
	silent   bool // the devices' locks do not tell whether a commit pends
	lies     bool // a confirm may be answered ok and not be carried out
	late     bool // a device's timer may fire late
	foreign  bool // somebody else may confirm, by whatever token
	stubborn bool // a device may refuse for good to be reverted
	clock    bool // the service may come up with another time
	journal  bool // the journal may take what was heard later than it was true
}

var epoch = time.Date(2026, 11, 23, 2, 0, 0, 0, time.UTC)

const hold = 60 * time.Second

func (w world) at() time.Time { return epoch.Add(time.Duration(w.now+w.skew) * time.Second) }

// name tells worlds apart in little room: two hashes of all that is in one.
type name [2]uint64

var seeds = [2]maphash.Seed{maphash.MakeSeed(), maphash.MakeSeed()}

// key names a world. Devices that are alike may change places.
func (w world) key() name {
	b := make([]byte, 0, 256)
	num := func(n int) { b = binary.AppendVarint(b, int64(n)) }
	flag := func(list ...bool) {
		n := 0
		for _, v := range list {
			n <<= 1
			if v {
				n |= 1
			}
		}
		num(n)
	}
	moment := func(t time.Time) {
		if t.IsZero() {
			b = append(b, " -"...)
			return
		}
		num(int(t.Sub(epoch) / time.Second))
	}
	var segments []string
	for i, d := range w.s.Devices {
		b = append(b[:0], d.Keeper...)
		b = append(b, d.Standing...)
		num(d.Wave)
		x := w.boxes[i]
		flag(
			d.Looked, d.Releasing, d.Extending, d.Unreachable, d.Tells, d.Odd, d.Wrote, d.Settled, d.LostAt.IsZero(),
			d.Taken, d.Denied, x.changed, x.pending, x.late, x.session, x.odd, x.sure, x.refuses, x.saved, x.lost,
		)
		num(min(d.Refusals, 3))
		num(int(d.Timer / time.Second))
		moment(d.GoesBackBy)
		moment(d.UnsureUntil)
		num(x.backAt)
		var own []string
		for _, a := range w.actions {
			if a.Device == i && a.Kind != guard.DoProbe {
				own = append(
					own,
					string(a.Kind)+strconv.FormatBool(a.Again)+strconv.FormatBool(a.Watch)+strconv.FormatBool(a.Lock)+
						strconv.FormatInt(a.Until.Unix(), 36),
				)
			}
		}
		slices.Sort(own)
		segments = append(segments, string(b)+strings.Join(own, ";"))
	}
	slices.Sort(segments)
	b = append(append(b[:0], w.s.Phase...), w.s.Outcome...)
	num(w.now)
	num(w.faults)
	num(w.skew)
	for _, e := range w.heard {
		b = append(b, e.Kind...)
		b = append(b, e.Found...)
		b = append(b, e.Pending...)
		num(e.Device)
		moment(e.At)
	}
	num(w.s.Wave)
	flag(w.s.Warned, w.moved)
	moment(w.s.Deadline)
	moment(w.s.NewDeadline)
	for i, p := range w.s.Probes {
		b = append(b, p.Result...)
		num(len(p.Said))
		for _, a := range w.actions {
			flag(a.Kind == guard.DoProbe && a.Probe == i)
		}
	}
	b = append(b, '|')
	for _, s := range segments {
		b = append(append(b, s...), '|')
	}
	return name{maphash.Bytes(seeds[0], b), maphash.Bytes(seeds[1], b)}
}

// clone gives a copy whose slices are its own.
func (w world) clone() world {
	w.boxes, w.actions, w.heard = slices.Clone(w.boxes), slices.Clone(w.actions), slices.Clone(w.heard)
	return w
}

// feed gives the machine an event. As the engine does, a look or probe under
// way gives way to a newer one, and one that only watches to any.
func (w *world) feed(e guard.Event) {
	if e.At.IsZero() {
		e.At = w.at()
	}
	var actions []guard.Action
	w.s, actions = guard.Step(w.s, e)
	for _, a := range actions {
		if a.Kind == guard.Conclude {
			continue
		}
		under := -1
		if a.Kind == guard.DoLook || a.Kind == guard.DoProbe {
			under = slices.IndexFunc(
				w.actions,
				func(b guard.Action) bool { return b.Kind == a.Kind && b.Device == a.Device && b.Probe == a.Probe },
			)
		}
		switch {
		case under < 0:
			w.actions = append(w.actions, a)
		case !a.Watch:
			w.actions[under] = a
		}
	}
}

// outcome is one way an action may end: what becomes of the device, and what
// is heard of it.
type outcome struct {
	fault bool
	box   box
	event guard.Event
}

// outcomes lists all the ways an action may end; the first is the one without
// a fault.
func (w world) outcomes(a guard.Action) []outcome {
	if a.Kind == guard.DoProbe {
		return []outcome{{false, box{}, guard.Event{Kind: guard.ProbePassed, Probe: a.Probe, Err: "open"}},
			{true, box{}, guard.Event{Kind: guard.ProbeFailed, Probe: a.Probe, Err: "shut"}}}
	}
	b := w.boxes[a.Device]
	ev := func(kind guard.EventKind) guard.Event { return guard.Event{Kind: kind, Device: a.Device} }
	failed := func(kind guard.EventKind) guard.Event {
		return guard.Event{Kind: kind, Device: a.Device, Err: "lost"}
	}
	switch a.Kind {
	case guard.DoPrepare:
		return []outcome{{false, b, ev(guard.Prepared)}, {true, b, failed(guard.PrepareFailed)}}
	case guard.DoCommit:
		return w.commits(a, b)
	case guard.DoLook:
		if w.s.Devices[a.Device].Standing == guard.Ready { // what was prepared is looked at
			return []outcome{
				{false, b, ev(guard.Seen)}, {true, b, failed(guard.Lapsed)}, {true, b, failed(guard.SessionLost)},
			}
		}
		seen := guard.Event{Kind: guard.Seen, Device: a.Device, Found: guard.FoundBase, Pending: guard.NonePends}
		if b.changed {
			seen.Found = guard.FoundResult
		}
		if b.odd {
			seen.Found = guard.FoundOther
		}
		seen.Pending = w.tells(b)
		unasked := seen
		unasked.Pending = guard.NotAsked // somebody else has the lock, or the device does not say why it refuses it
		switch {
		case !a.Lock:
			return []outcome{{false, b, unasked}, {true, b, failed(guard.NotReached)}}
		case w.s.Devices[a.Device].Standing != guard.Confirming:
			return []outcome{{false, b, seen}, {true, b, failed(guard.NotReached)}}
		}
		return []outcome{{false, b, seen}, {true, b, unasked}, {true, b, failed(guard.NotReached)}}
	case guard.DoExtend:
		return w.extends(a, b)
	case guard.DoConfirm:
		return w.confirms(a, b)
	case guard.DoCancel:
		if !b.pending || w.s.Devices[a.Device].Keeper == guard.BySession && !b.session {
			return []outcome{{false, b, ev(guard.CancelDone)}}
		}
		unheard := b
		unheard.session = false // ended on our side, and the device does not know yet
		return []outcome{
			{false, box{}, ev(guard.CancelDone)}, {true, box{}, failed(guard.CancelDone)},
			{true, unheard, failed(guard.CancelDone)},
		}
	case guard.DoRestore:
		if b.pending || b.odd || b.refuses { // refused: a commit is pending, or someone's work stands there
			no := failed(guard.RestoreDone)
			no.Refused = true
			return []outcome{{false, b, no}}
		}
		return []outcome{
			{false, box{}, ev(guard.RestoreDone)}, {true, box{}, failed(guard.RestoreDone)},
			{true, b, failed(guard.RestoreDone)},
		}
	case guard.DoRelease:
		return []outcome{{false, b, ev(guard.ReleaseDone)}, {true, b, failed(guard.ReleaseDone)}}
	}
	saved := ev(guard.SettleDone)
	saved.Saved, saved.Found = true, guard.FoundResult
	switch {
	case b.odd:
		saved.Found, saved.Saved = guard.FoundOther, false
	case !b.changed:
		saved.Found, saved.Saved = guard.FoundBase, false
	}
	stored := b
	stored.saved = saved.Saved
	return []outcome{
		{false, stored, saved}, {true, stored, failed(guard.SettleDone)}, {true, b, failed(guard.SettleDone)},
	}
}

// tells gives what a lock tells of a device.
func (w world) tells(b box) guard.Pending {
	if b.pending && !w.with.silent {
		return guard.IsPending
	}
	return guard.NonePends
}

// confirms lists what may come of a confirm. What is read right after it is told
// with it, but where the session was the hold: that is ended then.
func (w world) confirms(a guard.Action, b box) []outcome {
	bySession := w.s.Devices[a.Device].Keeper == guard.BySession
	answer := func(kind guard.EventKind, now box, read bool) guard.Event {
		e := guard.Event{Kind: kind, Device: a.Device}
		if kind == guard.ConfirmFailed {
			e.Err = "lost"
		}
		if read && !bySession {
			if e.Pending, e.Found = w.tells(now), guard.FoundBase; now.changed {
				e.Found = guard.FoundResult
			}
			if now.odd {
				e.Found = guard.FoundOther
			}
		}
		return e
	}
	if !b.pending || bySession && !b.session {
		no := answer(guard.ConfirmFailed, b, false)
		no.Refused = !b.pending
		return []outcome{{false, b, no}}
	}
	kept := box{changed: b.changed, odd: b.odd, refuses: b.refuses}
	list := []outcome{
		{false, kept, answer(guard.ConfirmTaken, kept, true)}, {true, kept, answer(guard.ConfirmTaken, kept, false)},
		{true, kept, answer(guard.ConfirmFailed, kept, false)}, {true, b, answer(guard.ConfirmFailed, b, false)},
	}
	if w.with.lies {
		lied := b
		if bySession { // its end took the change back
			lied = box{}
		}
		list = append(list, outcome{true, lied, answer(guard.ConfirmTaken, lied, true)})
	}
	return list
}

func (w world) commits(a guard.Action, b box) []outcome {
	event := func(kind guard.EventKind) guard.Event {
		return guard.Event{Kind: kind, Device: a.Device, Err: "lost"}
	}
	keeper := w.s.Devices[a.Device].Keeper
	applied := box{changed: true}
	if keeper != guard.ByService {
		applied.pending, applied.sure, applied.backAt = true, true, w.now+int(w.s.DeviceTimeout()/time.Second)
	}
	lost := applied
	applied.session = keeper == guard.BySession
	late := b
	late.late = true
	list := []outcome{
		{false, applied, event(guard.Applied)}, {true, b, event(guard.CommitRefused)},
		{true, lost, event(guard.CommitUnknown)}, {true, b, event(guard.CommitUnknown)},
		{true, late, event(guard.CommitUnknown)},
	}
	if keeper == guard.BySession { // the device saw the session end, and reverted
		list = append(list, outcome{true, box{}, event(guard.CommitUnknown)})
	}
	return list
}

func (w world) extends(a guard.Action, b box) []outcome {
	event := func(kind guard.EventKind) guard.Event {
		return guard.Event{Kind: kind, Device: a.Device, Err: "lost"}
	}
	if !b.pending {
		return []outcome{{false, b, event(guard.TimerNotSet)}}
	}
	set, unheard := b, b
	set.sure = true
	set.backAt = w.now + int(w.s.TimeoutUntil(a.Until, w.at())/time.Second)
	unheard.backAt, unheard.sure = set.backAt, false
	return []outcome{
		{false, set, event(guard.TimerSet)}, {true, unheard, event(guard.TimerNotSet)},
		{true, b, event(guard.TimerNotSet)},
	}
}

// perform ends outstanding action i in one of its ways.
func (w world) perform(i int, o outcome) world {
	next := w.clone()
	next.actions = slices.Delete(next.actions, i, i+1)
	if device := w.actions[i].Device; device >= 0 {
		next.boxes[device] = o.box
	}
	if o.fault {
		next.faults--
	}
	next.feed(o.event)
	return next
}

// performUnheard is perform where the journal cannot take the answer now. Nothing
// else is taken before it is.
func (w world) performUnheard(i int, o outcome) world {
	next := w.clone()
	next.actions = slices.Delete(next.actions, i, i+1)
	if device := w.actions[i].Device; device >= 0 {
		next.boxes[device] = o.box
	}
	next.faults--
	o.event.At = w.at() // when it was true
	next.heard = append(next.heard, o.event)
	return next
}

// journalled has the journal take what was heard; the time goes on ticking then.
func (w world) journalled() world {
	next := w.clone()
	next.heard = next.heard[1:]
	next.feed(w.heard[0])
	if len(next.heard) == 0 && next.s.Phase != guard.Done {
		next.feed(guard.Event{Kind: guard.Tick})
	}
	return next
}

// later lets time pass to the next moment at which anything may change by
// itself: the deadline, a device's timer, the end of a doubt.
func (w world) later() (world, bool) {
	at := -1
	add := func(n int) {
		if n > w.now && (at < 0 || n < at) {
			at = n
		}
	}
	moment := func(t time.Time) {
		if !t.IsZero() {
			add(int(t.Sub(epoch)/time.Second) - w.skew + 1)
		}
	}
	moment(w.s.Deadline.Add(-time.Second))
	moment(w.s.LapsesAt.Add(-time.Second))
	for i, d := range w.s.Devices {
		moment(d.UnsureUntil)
		moment(d.GoesBackBy)
		if w.boxes[i].pending {
			add(max(w.now+1, w.boxes[i].backAt))
		}
	}
	if at < 0 || w.s.Phase == guard.Done {
		return w, false
	}
	next := w.clone()
	next.now = at
	for i := range next.boxes {
		b := &next.boxes[i]
		if b.pending && next.now >= b.backAt {
			*b = box{refuses: b.refuses}
		}
		if d := next.s.Devices[i]; b.late && !next.at().Before(d.UnsureUntil) {
			b.late = false // it never was carried out
		}
	}
	if len(next.heard) == 0 {
		next.feed(guard.Event{Kind: guard.Tick})
	}
	return next, true
}

// leave gives a stuck device up, where there is one.
func (w world) leave() (world, bool) {
	for i := range w.s.Devices {
		e := guard.Event{Kind: guard.SayAccept, Device: i, By: "mara"}
		if w.s.Phase == guard.Reverting && w.s.May(e) == nil && (w.boxes[i].odd || w.boxes[i].refuses) {
			next := w.clone()
			next.feed(e)
			return next, true
		}
	}
	return w, false
}

// successors lists every world that may follow.
func (w world) successors() []world {
	var out []world
	if len(w.heard) > 0 {
		out = append(out, w.journalled())
		if next, ok := w.later(); ok {
			out = append(out, next)
		}
		for i := range w.boxes {
			out = append(out, w.befalls(i)...)
		}
		return out
	}
	for i, a := range w.actions {
		for _, o := range w.outcomes(a) {
			if !o.fault || w.faults > 0 {
				out = append(out, w.perform(i, o))
			}
			if w.with.journal && !o.fault && w.faults > 0 && a.Kind != guard.DoProbe && a.Kind != guard.DoPrepare {
				out = append(out, w.performUnheard(i, o))
			}
		}
	}
	if next, ok := w.later(); ok {
		out = append(out, next)
	}
	out = append(out, w.words()...)
	for i := range w.boxes {
		out = append(out, w.befalls(i)...)
	}
	if w.faults > 0 && w.s.Phase != guard.Done && w.s.Phase != guard.Idle {
		out = append(out, w.restarts()...)
	}
	return out
}

func start(plan guard.Plan, faults int) world {
	w := world{s: guard.New(plan), boxes: make([]box, len(plan.Devices)), faults: faults}
	w.feed(guard.Event{Kind: guard.Start, By: "mara"})
	return w
}
