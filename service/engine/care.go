package engine

import (
	"context"
	"errors"
	"fmt"
	"time"

	"oakenlatch/core/advice"
	"oakenlatch/core/diff"
	"oakenlatch/core/ledger"
	"oakenlatch/core/lifecycle"
	"oakenlatch/netconf"
	"oakenlatch/service/audit"
	"oakenlatch/service/fleet"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// What is done to a device beside commits: saving, restarting, clearing up.
// None of it while a commit is under way there.

// free says no where a commit is under way on a device.
func (e *Engine) free(d store.Device, doing string) error {
	if n := e.Holder(d.ID); n != 0 {
		return refusal.New(
			refusal.Conflict, fmt.Sprintf("wait until change %d is decided", n),
			"%s cannot be %s: the commit of change %d is under way on it", d.Name, doing, n,
		).Do(advice.ShowChange, n)
	}
	return nil
}

func (e *Engine) session(ctx context.Context, d store.Device, f func(context.Context, *fleet.Session) error) error {
	ctx, cancel := context.WithTimeout(ctx, operation)
	defer cancel()
	s, err := e.fleet.Dial(ctx, store.Everything, d.Name)
	if err != nil {
		return err
	}
	defer part(s)
	return f(ctx, s)
}

// Save copies a device's running to its startup and reads that back.
func (e *Engine) Save(ctx context.Context, actor string, d store.Device) error {
	if err := e.free(d, "saved"); err != nil {
		return err
	}
	return e.session(ctx, d, func(ctx context.Context, s *fleet.Session) error {
		if !s.Capabilities.Has(netconf.CapStartup) {
			return refusal.New(
				refusal.Conflict, "", "%s has no startup of its own: what runs there is what it boots", d.Name,
			)
		}
		// While it is locked, nobody's trial can be made permanent by this.
		if err := s.Lock(ctx, netconf.Running); err != nil {
			return &fleet.Error{
				Device: d.Name, Address: d.Address, Kind: fleet.Refusal, Err: err,
				Msg:  "not saved: " + s.Denied(ctx, netconf.Running, err),
				Next: advice.Words("saving now could make permanent what may be reverted; try again once that is over"),
			}
		}
		running, err := s.Read(ctx, netconf.Running)
		if err != nil {
			return err
		}
		if _, err := e.history.Keep(ctx, s, running, 0, actor); err != nil {
			return err
		}
		if _, err = e.history.Save(ctx, s, running, 0, actor); err != nil {
			return err
		}
		return e.log.Write(ctx, func(tx *audit.Tx) error {
			return tx.Record(
				ledger.Entry{Actor: actor, Action: "device.save", Device: d.Name, Note: "startup holds what runs"},
			)
		})
	})
}

// Restart restarts a device: what is not in its startup is lost. scheduled is the number on the schedule
// that it is done by; 0 where a person does it.
func (e *Engine) Restart(ctx context.Context, actor string, d store.Device, scheduled int64) error {
	if err := e.free(d, "restarted"); err != nil {
		return err
	}
	return e.session(ctx, d, func(ctx context.Context, s *fleet.Session) error {
		if !s.Restarts() {
			return refusal.New(
				refusal.Conflict, "", "%s cannot be restarted from here: it does not have ietf-system (RFC 7317)",
				d.Name,
			)
		}
		running, err := s.Read(ctx, netconf.Running)
		if err != nil {
			return err
		}
		if _, err := e.history.Keep(ctx, s, running, 0, actor); err != nil { // what may be lost is kept
			return err
		}
		err = e.log.Write(ctx, func(tx *audit.Tx) error {
			if scheduled != 0 {
				if err := tx.EndScheduled(scheduled, lifecycle.Begun, "", e.log.Now()); err != nil {
					return err
				}
			}
			return tx.Record(ledger.Entry{Actor: actor, Action: "device.restart", Device: d.Name})
		})
		if err != nil {
			return err
		}
		if err := s.Restart(ctx); err != nil {
			noteErr := e.log.Write(ctx, func(tx *audit.Tx) error {
				return tx.Record(
					ledger.Entry{Actor: actor, Action: "device.restart-failed", Device: d.Name, Note: err.Error()},
				)
			})
			if scheduled != 0 {
				e.slog.Error("a scheduled restart failed", "device", d.Name, "error", err)
				return noteErr
			}
			return errors.Join(err, noteErr)
		}
		return nil
	})
}

// Left is what somebody left uncommitted in a device's candidate.
func (e *Engine) Left(ctx context.Context, d store.Device) (left *diff.Difference, err error) {
	err = e.session(ctx, d, func(ctx context.Context, s *fleet.Session) error {
		left, err = leftIn(ctx, s)
		return err
	})
	return left, err
}

func leftIn(ctx context.Context, s *fleet.Session) (*diff.Difference, error) {
	if direct(s) {
		return nil, refusal.New(refusal.Conflict, "", "%s has no candidate", s.Device.Name)
	}
	running, err := s.Read(ctx, netconf.Running)
	if err != nil {
		return nil, err
	}
	candidate, err := s.Read(ctx, netconf.Candidate)
	return diff.Compare(running, candidate), err
}

// ClearCandidate discards what somebody left in a device's candidate, because a
// person said so, and keeps on record what that was.
func (e *Engine) ClearCandidate(ctx context.Context, actor string, d store.Device) error {
	if err := e.free(d, "cleared"); err != nil {
		return err
	}
	return e.session(ctx, d, func(ctx context.Context, s *fleet.Session) error {
		left, err := leftIn(ctx, s)
		if err != nil {
			return err
		}
		if left.Empty() {
			return refusal.New(refusal.Conflict, "", "the candidate of %s holds nothing but running", d.Name)
		}
		err = e.log.Write(ctx, func(tx *audit.Tx) error {
			for _, item := range e.log.Redactor.Difference(left).Items() {
				if err := tx.Record(
					ledger.Entry{
						Actor: actor, Action: "candidate.discard", Device: d.Name, Path: item.Path, Before: item.New,
						After: item.Old, Note: "uncommitted edit of someone on the device",
					},
				); err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
		return s.Wrap("discarding", s.DiscardChanges(ctx))
	})
}

// EndVisit ends somebody's session on a device, because a person said so. Its
// locks are free then, and what it had in the candidate may be gone: that goes
// on record first.
func (e *Engine) EndVisit(ctx context.Context, actor string, d store.Device, id string) error {
	if err := e.free(d, "cleared"); err != nil {
		return err
	}
	return e.session(ctx, d, func(ctx context.Context, s *fleet.Session) error {
		list, err := s.Visitors(ctx)
		if err != nil {
			return err
		}
		for _, v := range list {
			if v.ID != id {
				continue
			}
			if v.Own {
				return refusal.New(refusal.Invalid, "", "session %s is the one this question is asked through", id)
			}
			return e.endVisit(ctx, actor, s, v)
		}
		return refusal.New(
			refusal.NotFound, "list them", "there is no session %s on %s", id, d.Name,
		).Do(advice.ListSessions, d.Name)
	})
}

func (e *Engine) endVisit(ctx context.Context, actor string, s *fleet.Session, v fleet.Visitor) error {
	var left *diff.Difference
	if !direct(s) {
		var err error
		if left, err = leftIn(ctx, s); err != nil {
			return err
		}
	}
	err := e.log.Write(ctx, func(tx *audit.Tx) error {
		if err := tx.Record(
			ledger.Entry{Actor: actor, Action: "device.end-session", Device: s.Device.Name, Note: v.String()},
		); err != nil || left == nil {
			return err
		}
		for _, item := range e.log.Redactor.Difference(left).Items() {
			if err := tx.Record(
				ledger.Entry{
					Actor: actor, Action: "candidate.seen", Device: s.Device.Name, Path: item.Path, Before: item.Old,
					After: item.New, Note: "uncommitted when the session was ended",
				},
			); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	return s.Wrap("ending session "+v.ID, s.KillSession(ctx, v.ID))
}

// Clock reads a device's clock and notes it.
func (e *Engine) Clock(ctx context.Context, d store.Device) (store.Clock, error) {
	var c store.Clock
	err := e.session(ctx, d, func(ctx context.Context, s *fleet.Session) error {
		ahead, err := s.Clock(ctx)
		if err != nil {
			return err
		}
		c = store.Clock{Ahead: ahead.Round(time.Millisecond), Read: e.log.Now()}
		return e.store.Write(ctx, func(tx *store.Tx) error { return tx.SetClock(d.ID, c) })
	})
	return c, err
}
