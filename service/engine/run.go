package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"sync"
	"time"

	"oakenlatch/core/diff"
	"oakenlatch/core/guard"
	"oakenlatch/core/ledger"
	"oakenlatch/service/audit"
)

// said is an event on its way to a run, with where to answer a person.
type said struct {
	ev     guard.Event
	answer chan error
}

// run is one commit under way.
type run struct {
	e      *Engine
	commit commitRecord
	hands  []*hand
	events chan said
	over   chan struct{} // closed when the loop has ended

	mu      sync.Mutex
	state   guard.State
	changed chan struct{}
}

func newRun(e *Engine, c commitRecord, hands []*hand) *run {
	r := &run{e: e, commit: c, hands: hands, events: make(chan said, 64), over: make(chan struct{}), state: c.State, changed: make(chan struct{})}
	for _, h := range hands {
		h.run = r
	}
	return r
}

// active reports whether a run is there and not decided yet.
func (r *run) active() bool { return r != nil && r.phase() != guard.Done }

// loop takes events one by one until the commit is concluded or the engine
// stops. The first comes before any tick: after a restart the machine must know
// of it before it learns that the hold has ended meanwhile.
func (r *run) loop(first guard.Event) {
	defer close(r.over)
	if r.take(said{ev: first}) {
		return
	}
	var tick <-chan time.Time
	watch := time.NewTicker(min(max(r.commit.Hold/20, 3*time.Second), 30*time.Second))
	defer watch.Stop()
	for {
		if tick == nil && !r.state.Deadline.IsZero() {
			tick = time.After(r.state.Deadline.Sub(r.e.log.Now()))
		}
		var s said
		select {
		case <-r.e.ctx.Done():
			return
		case s = <-r.events:
		case <-watch.C:
			s.ev = guard.Event{Kind: guard.Tick, At: r.e.log.Now(), By: audit.Service}
		case <-tick:
			tick = nil
			s.ev = guard.Event{Kind: guard.Tick, At: r.e.log.Now(), By: audit.Service}
			if s.ev.At.Before(r.state.Deadline) {
				continue // the clock was set back
			}
			tick = make(chan time.Time) // once is enough
		}
		if done := r.take(s); done {
			return
		}
	}
}

// take journals an event and acts on it; done is true once concluded.
func (r *run) take(s said) (done bool) {
	if s.answer != nil {
		if err := r.state.May(s.ev.Kind, s.ev.At); err != nil {
			s.answer <- err
			return false
		}
	}
	next, actions := guard.Step(r.state, s.ev)
	if !equal(next, r.state) {
		if !r.journal(s.ev, next) {
			return true // stopping
		}
		r.mu.Lock()
		r.state = next
		close(r.changed)
		r.changed = make(chan struct{})
		r.mu.Unlock()
	}
	if s.answer != nil {
		s.answer <- nil
	}
	for _, a := range actions {
		if a.Kind == guard.Conclude {
			return true
		}
		r.hands[a.Device].perform(a)
	}
	return false
}

func equal(a, b guard.State) bool {
	x, xerr := json.Marshal(a)
	y, yerr := json.Marshal(b)
	return xerr == nil && yerr == nil && string(x) == string(y)
}

// journal puts an event on record together with what it makes of the change.
// Without the record nothing may be done, so it keeps trying; the devices' own
// timers stand behind it. False means that the engine stops.
func (r *run) journal(ev guard.Event, next guard.State) bool {
	for {
		err := r.record(ev, next)
		if err == nil {
			return true
		}
		r.e.slog.Error("the journal cannot be written; the commit waits, its devices guard themselves", "change", r.commit.Change, "error", err)
		select {
		case <-r.e.ctx.Done():
			return false
		case <-time.After(time.Second):
		}
	}
}

func (r *run) record(ev guard.Event, next guard.State) error {
	return r.e.log.Write(context.Background(), func(tx *audit.Tx) error {
		var ended time.Time
		if next.Phase == guard.Done {
			ended = r.e.log.Now()
		}
		if err := tx.Journal(r.commit.ID, ev, next, ended); err != nil {
			return err
		}
		was, reason := changeState(r.state)
		is, newReason := changeState(next)
		if was != is || reason != newReason {
			if err := tx.SetState(r.commit.Change, is, newReason, r.e.log.Now()); err != nil {
				return err
			}
		}
		return r.ledger(tx, ev, next, was, is)
	})
}

// changeState gives the state of a change whose commit stands so.
func changeState(s guard.State) (state, reason string) {
	switch {
	case s.Outcome != guard.Undecided:
		return string(s.Outcome), s.Reason
	case s.Phase == guard.Idle, s.Phase == guard.Preparing, s.Phase == guard.Applying:
		return "applying", ""
	case s.Phase == guard.Reverting:
		for _, d := range s.Devices {
			switch d.Standing {
			case guard.Held, guard.GoingBack, guard.IsReverted, guard.Confirming, guard.IsKept:
				return "holding", s.Reason
			}
		}
		return "applying", s.Reason
	}
	return "holding", ""
}

// actions names events in the ledger.
var actions = map[guard.EventKind]string{
	guard.Prepared: "commit.prepared", guard.PrepareFailed: "commit.prepare-failed", guard.Applied: "commit.applied",
	guard.CommitRefused: "commit.refused", guard.CommitUnknown: "commit.unanswered", guard.Seen: "device.seen",
	guard.NotReached: "device.not-reached", guard.ConfirmTaken: "commit.confirmed", guard.ConfirmFailed: "commit.confirm-failed",
	guard.CancelDone: "commit.cancelled", guard.RestoreDone: "commit.restored", guard.ReleaseDone: "commit.released",
	guard.SettleDone: "commit.settled", guard.SayConfirm: "commit.confirm", guard.SayRevert: "commit.revert",
	guard.Tick: "hold.ended", guard.Restarted: "service.restarted",
}

// ledger records an event, on the device it is about, and what it decided.
func (r *run) ledger(tx *audit.Tx, ev guard.Event, next guard.State, was, is string) error {
	e := ledger.Entry{Actor: audit.Service, Action: actions[ev.Kind], Change: r.commit.Change, Note: ev.Err}
	if ev.By != "" {
		e.Actor = ev.By
	}
	switch ev.Kind {
	case guard.Start:
		return nil // recorded with the commit itself
	case guard.SayConfirm, guard.SayRevert, guard.Tick, guard.Restarted:
	default:
		e.Device = next.Devices[ev.Device].Name
		if ev.Kind == guard.Seen {
			e.Note = map[guard.Found]string{
				guard.FoundBase: "holds its former configuration", guard.FoundResult: "holds the change",
				guard.FoundOther: "holds neither the former configuration nor the change",
			}[ev.Found]
		}
		if ev.Kind == guard.SettleDone && ev.Saved {
			e.Note = "startup saved"
		}
	}
	if err := tx.Record(e); err != nil {
		return err
	}
	if ev.Kind == guard.Applied {
		if err := r.lines(tx, r.hands[ev.Device]); err != nil {
			return err
		}
	}
	if was == is || is == "applying" {
		return nil
	}
	e = ledger.Entry{Actor: audit.Service, Action: "change." + is, Change: r.commit.Change, Note: next.Reason}
	if next.By != "" {
		e.Actor = next.By
	}
	if is == "holding" && next.Reason == "" {
		e.Note = fmt.Sprintf("until %s", next.Deadline.UTC().Format(time.RFC3339))
	}
	return tx.Record(e)
}

// lines records what a commit changes on a device, place by place.
func (r *run) lines(tx *audit.Tx, h *hand) error {
	base, result := h.trees()
	for _, item := range diff.Compare(base, result).Items() {
		err := tx.Record(ledger.Entry{
			Actor: r.commit.Actor, Action: "config." + string(item.Kind), Change: r.commit.Change, Device: h.name,
			Path: item.Path, Before: item.Old, After: item.New,
		})
		if err != nil {
			return err
		}
	}
	return nil
}
