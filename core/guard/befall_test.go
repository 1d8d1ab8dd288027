package guard_test

import (
	"slices"
	"time"

	"oakenlatch/core/guard"
)

// What happens to a commit that is no answer to what was asked: persons' words,
// power failures, strangers, and the end of the service.

// words lists what a person may say now.
func (w world) words() []world {
	var out []world
	words := []guard.Event{{Kind: guard.SayConfirm}, {Kind: guard.SayRevert}, {Kind: guard.SayCommit}}
	if !w.moved {
		words = append(
			words, guard.Event{Kind: guard.SayUntil, Until: w.s.Deadline.Add(hold / 2)},
			guard.Event{Kind: guard.SayUntil, Until: w.at().Add(5 * time.Second)},
		)
	}
	for _, e := range words {
		e.At, e.By = w.at(), "mara"
		if w.s.May(e) == nil && w.s.Phase != guard.Idle {
			next := w.clone()
			next.moved = next.moved || e.Kind == guard.SayUntil
			next.feed(e)
			out = append(out, next)
		}
	}
	if next, ok := w.leave(); ok {
		out = append(out, next)
	}
	return out
}

// befalls lists what may happen to a device by itself.
func (w world) befalls(i int) []world {
	var out []world
	with := func(b box, fault bool, e ...guard.Event) {
		next := w.clone()
		next.boxes[i] = b
		if fault {
			next.faults--
		}
		for _, ev := range e {
			ev.Device = i
			next.feed(ev)
		}
		out = append(out, next)
	}
	b, d := w.boxes[i], w.s.Devices[i]
	if b.late {
		carried := box{changed: true}
		if d.Keeper != guard.ByService {
			carried.pending, carried.backAt = true, w.now+int(w.s.DeviceTimeout()/time.Second)
		}
		with(carried, false)
	}
	if w.faults == 0 || w.s.Phase == guard.Done {
		return out
	}
	// It loses power: startup comes back, the trial is forgotten. Where only the
	// service holds it, that is seen until the last look before it is kept.
	if b.pending || b.changed && d.Keeper == guard.ByService && (w.s.Phase == guard.Probing ||
		w.s.Phase == guard.Awaiting) {
		with(box{}, true)
	}
	if b.session { // it ends; the device notices, or does not yet
		unnoticed := b
		unnoticed.session = false
		lost := guard.Event{Kind: guard.SessionLost, Err: "cut"}
		with(box{}, true, lost)
		with(unnoticed, true, lost)
	}
	if w.stranger && b.changed && !b.odd {
		odd := b
		odd.changed, odd.odd = false, true
		with(odd, true)
	}
	if w.with.late && b.pending && w.now < b.backAt {
		slow := b
		slow.backAt, slow.sure = b.backAt+45, false
		with(slow, true)
	}
	if w.with.foreign && b.pending {
		kept := b
		kept.pending, kept.session = false, false
		if d.Keeper == guard.ByDevice {
			with(kept, true)
		}
	}
	if w.with.stubborn && b.changed && !b.refuses {
		no := b
		no.refuses = true
		with(no, true)
	}
	// it loses power before it could be saved
	if w.s.Outcome == guard.Confirmed && b.changed && !b.saved && !d.Settled {
		with(box{lost: true}, true)
	}
	return out
}

// restarts kills the service: what it had asked of the devices was carried out
// or was not, and nobody heard. Sessions end with it.
func (w world) restarts() []world {
	list := []world{w.clone()}
	for _, a := range w.actions {
		if a.Device < 0 {
			continue
		}
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
	for i, d := range w.s.Devices {
		if d.Keeper != guard.BySession {
			continue
		}
		for _, v := range list {
			if v.boxes[i].session {
				u := v.clone()
				u.boxes[i] = box{} // it noticed at once
				v.boxes[i].session = false
				list = append(list, u)
			}
		}
	}
	if w.with.clock {
		for _, u := range slices.Clone(list) {
			for _, off := range []int{-20, 3600} {
				v := u.clone()
				v.skew += off
				list = append(list, v)
			}
		}
	}
	for i := range list {
		list[i].actions, list[i].heard = nil, nil
		list[i].faults--
		list[i].feed(guard.Event{Kind: guard.Restarted})
	}
	return list
}
