package engine

import (
	"fmt"
	"time"

	"oakenlatch/core/diff"
	"oakenlatch/core/guard"
	"oakenlatch/core/ledger"
	"oakenlatch/core/lifecycle"
	"oakenlatch/service/audit"
	"oakenlatch/service/history"
)

// ChangeState gives the state of a change whose commit stands so.
func ChangeState(s guard.State) (state lifecycle.State, reason string) {
	switch {
	case s.Outcome != guard.Undecided:
		return lifecycle.State(s.Outcome), s.Reason
	case s.Phase == guard.Idle, s.Phase == guard.Preparing, s.Phase == guard.AllReady:
		return lifecycle.Applying, ""
	case s.Phase == guard.Applying, s.Phase == guard.Reverting:
		for _, d := range s.Devices {
			switch d.Standing {
			case guard.Held, guard.IsReverting, guard.IsReverted, guard.Confirming, guard.IsConfirmed, guard.IsAccepted:
				return lifecycle.Holding, s.Reason
			}
		}
		return lifecycle.Applying, s.Reason
	}
	return lifecycle.Holding, ""
}

// actions names events in the ledger.
var actions = map[guard.EventKind]string{
	guard.Prepared: "commit.prepared", guard.PrepareFailed: "commit.prepare-failed", guard.Lapsed: "commit.lapsed",
	guard.Applied: "commit.applied", guard.CommitRefused: "commit.refused", guard.CommitUnknown: "commit.unanswered",
	guard.SessionLost: "commit.session-lost", guard.Seen: "device.seen", guard.NotReached: "device.not-reached",
	guard.ProbePassed: "probe.passed", guard.ProbeFailed: "probe.failed", guard.TimerSet: "hold.timer-set",
	guard.TimerNotSet: "hold.timer-not-set", guard.ConfirmTaken: "commit.confirmed",
	guard.ConfirmFailed: "commit.confirm-failed", guard.CancelDone: "commit.cancelled",
	guard.RestoreDone: "commit.restored", guard.ReleaseDone: "commit.released", guard.SettleDone: "commit.settled",
	guard.SayCommit: "commit.begin", guard.SayConfirm: "commit.confirm", guard.SayRevert: "commit.revert",
	guard.SayUntil: "hold.move", guard.SayAccept: "commit.accept", guard.Tick: "hold.ended",
	guard.Restarted: "service.restarted",
}

// tell records an event, on the device it is about, and what it decided.
func (r *run) tell(tx *audit.Tx, s step) error {
	byProbes := s.now.Phase == guard.Asking && s.before.Phase != guard.Asking && s.ev.Kind != guard.SayConfirm
	// the start is recorded with the commit itself
	if s.ev.Kind != guard.Start && (s.ev.Kind != guard.Tick || !byProbes) {
		if err := tx.Record(r.entry(s)); err != nil {
			return err
		}
	}
	if byProbes {
		if err := tx.Record(
			ledger.Entry{
				Actor: audit.Service, Action: "commit.confirm", Change: r.commit.Change,
				Note: "every probe passes, and that was to confirm it",
			},
		); err != nil {
			return err
		}
	}
	for i, d := range s.now.Devices {
		if d.Stuck() && !s.before.Devices[i].Stuck() {
			if err := tx.Record(ledger.Entry{
				Actor: audit.Service, Action: "device.stuck", Change: r.commit.Change, Device: d.Name,
				Note: fmt.Sprintf(
					"it does not revert: %s; this is tried again, and the device can be accepted as it is", d.Said,
				),
			}); err != nil {
				return err
			}
		}
	}
	if s.ev.Kind == guard.Applied {
		if err := r.lines(tx, r.workers[s.ev.Device]); err != nil {
			return err
		}
	}
	if s.now.Phase == guard.Applying && (s.before.Phase == guard.Preparing || s.before.Phase == guard.AllReady) {
		if err := r.snapshot(tx); err != nil {
			return err
		}
	}
	was, reason := ChangeState(s.before)
	is, newReason := ChangeState(s.now)
	if was != is || reason != newReason {
		if err := tx.SetState(r.commit.Change, is, newReason, r.e.log.Now()); err != nil {
			return err
		}
	}
	if was == is || is == lifecycle.Applying {
		return nil
	}
	if err := r.arrive(tx, is); err != nil {
		return err
	}
	e := ledger.Entry{Actor: audit.Service, Action: "change." + string(is), Change: r.commit.Change, Note: s.now.Reason}
	if s.now.By != "" && s.now.By != guard.ByItsProbes {
		e.Actor = s.now.By
	}
	if is == "holding" && s.now.Reason == "" {
		e.Note = "until " + s.now.Deadline.UTC().Format(time.RFC3339)
	}
	return tx.Record(e)
}

func (r *run) entry(s step) ledger.Entry {
	e := ledger.Entry{Actor: audit.Service, Action: actions[s.ev.Kind], Change: r.commit.Change, Note: s.ev.Err}
	if s.ev.By != "" {
		e.Actor = s.ev.By
	}
	switch s.ev.Kind {
	case guard.SayCommit, guard.SayRevert, guard.Restarted:
	case guard.SayConfirm:
		if s.ev.Despite {
			e.Note = "in spite of probes that fail"
		}
	case guard.SayUntil:
		e.Before, e.After = s.before.Deadline.UTC().Format(time.RFC3339), s.ev.Until.UTC().Format(time.RFC3339)
	case guard.Tick:
		if s.now.Phase != guard.Reverting {
			e.Action, e.Note = "hold.ending", "reverts at "+s.now.Deadline.UTC().Format(time.RFC3339)+
				" unless it is confirmed"
		}
	case guard.ProbePassed, guard.ProbeFailed:
		p := s.now.Probes[s.ev.Probe]
		e.Device, e.Note = p.Device, p.Text+": "+s.ev.Err
	default:
		e.Device = s.now.Devices[s.ev.Device].Name
		e.Note = deviceNote(s)
	}
	return e
}

func deviceNote(s step) string {
	switch s.ev.Kind {
	case guard.Seen:
		note := map[guard.Found]string{
			guard.FoundBase: "holds its former configuration", guard.FoundResult: "holds the change",
			guard.FoundOther: "holds neither the former configuration nor the change",
		}[s.ev.Found]
		switch s.ev.Pending {
		case guard.IsPending:
			note += "; a confirmed commit is pending"
		case guard.NonePends:
			note += "; no confirmed commit is pending"
		}
		return note
	case guard.Applied:
		d := s.now.Devices[s.ev.Device]
		return fmt.Sprintf("guard: %s", d.Keeper)
	case guard.SettleDone:
		switch d := s.now.Devices[s.ev.Device]; {
		case s.ev.Found == guard.FoundBase:
			return "read back with its former configuration: it lost what it had confirmed"
		case s.ev.Saved:
			return "startup saved"
		case s.ev.Err == "" && d.NoSave:
			return "startup left as it was, as asked"
		}
	}
	return s.ev.Err
}

// lines records what a commit changes on a device, place by place.
func (r *run) lines(tx *audit.Tx, h *deviceWorker) error {
	base, result := h.trees(nil)
	for _, item := range r.e.log.Redactor.Difference(diff.Compare(base, result)).Items() {
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

// arrive ends the moving of devices' management: to where it was to go where
// the change is kept, and to where it was otherwise.
func (r *run) arrive(tx *audit.Tx, is lifecycle.State) error {
	for _, h := range r.workers {
		if h.movesTo == "" || is == lifecycle.Holding {
			continue
		}
		d, err := tx.DeviceByID(h.device)
		if err != nil {
			return err
		}
		if err := moved(tx, r.commit.Actor, r.commit.Change, d, string(is)); err != nil {
			return err
		}
	}
	return nil
}

// snapshot names what the devices hold, before anything is committed on them.
func (r *run) snapshot(tx *audit.Tx) error {
	c, err := tx.Change(r.commit.Change)
	if err != nil {
		return err
	}
	digests := map[int64]string{}
	for _, h := range r.workers {
		base, _ := h.trees(nil)
		digests[h.device] = history.Digest(base)
	}
	return r.e.history.BeforeCommit(tx, c, r.commit.Actor, digests)
}
