package engine

import (
	"context"
	"errors"
	"fmt"
	"time"

	"oakenlatch/core/diff"
	"oakenlatch/core/guard"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
	"oakenlatch/netconf"
	"oakenlatch/service/fleet"
	"oakenlatch/service/store"
)

// commit puts what was prepared into effect: on the device's own trial where it
// has one.
func (h *deviceWorker) commit(ctx context.Context) guard.Event {
	s := h.held()
	if s == nil {
		return guard.Event{Kind: guard.CommitRefused, Err: "the session of the preparation is gone, nothing was sent"}
	}
	ctx, cancel := context.WithTimeout(ctx, operation)
	defer cancel()
	if time.Since(h.preparedAt) > 5*time.Second { // it waited for others, or for the hour
		if err := h.stillPrepared(ctx, s); err != nil {
			return guard.Event{Kind: guard.CommitRefused, Err: brief(err)}
		}
	}
	var err error
	switch {
	case direct(s):
		return h.commitDirectly(ctx, s)
	case h.keeper == guard.ByService:
		err = s.Commit(ctx)
	case h.keeper == guard.BySession:
		err = s.CommitConfirmed(ctx, netconf.ConfirmedCommit{Timeout: h.run.timeout()})
	default:
		err = s.CommitConfirmed(ctx, netconf.ConfirmedCommit{Timeout: h.run.timeout(), Persist: h.persist})
	}
	h.appliedAt = time.Now()
	switch {
	case err == nil:
		return guard.Event{Kind: guard.Applied}
	case netconf.Refused(err):
		return guard.Event{Kind: guard.CommitRefused, Refused: true, Err: brief(s.Wrap("committing", err))}
	}
	h.dropSession()
	return guard.Event{Kind: guard.CommitUnknown, Err: brief(s.Wrap("committing", err))}
}

// stillPrepared looks whether a device still is as it was when it was prepared.
func (h *deviceWorker) stillPrepared(ctx context.Context, s *fleet.Session) error {
	base, result := h.trees(s.Schema)
	running, err := s.Read(ctx, netconf.Running)
	if err != nil {
		return err
	}
	if d := diff.Compare(base, running); !d.Empty() {
		return fmt.Errorf(
			"the device moved on since it was prepared, first at %s; nothing was touched: prepare again",
			d.Items()[0].Path,
		)
	}
	if direct(s) {
		return nil
	}
	candidate, err := s.Read(ctx, netconf.Candidate)
	if err != nil {
		return err
	}
	if d := diff.Compare(result.WithoutDefaults(), candidate.WithoutDefaults()); !d.Empty() {
		return fmt.Errorf(
			"its candidate is no longer what was prepared, first at %s; nothing was touched: prepare again",
			d.Items()[0].Path,
		)
	}
	return nil
}

// look opens a new session, which proves management access, and reads what the device
// holds. A patient look keeps trying for a part of the hold.
func (h *deviceWorker) look(ctx context.Context, a guard.Action) guard.Event {
	if h.run.phase() == guard.AllReady {
		return h.lookPrepared(ctx)
	}
	until := time.Now()
	if !sleep(ctx, time.Until(h.appliedAt.Add(h.run.e.opt.Timing.Effect))) {
		return guard.Event{}
	}
	if a.Patient {
		until = until.Add(min(h.run.commit.Hold/2, 30*time.Second))
	}
	for {
		ev := h.lookOnce(ctx, a)
		if ev.Kind == guard.Seen || !time.Now().Before(until) || !sleep(ctx, h.run.e.opt.Timing.Pause*2/3) {
			return ev
		}
	}
}

// lookPrepared looks at what waits prepared, through the session that holds it.
func (h *deviceWorker) lookPrepared(ctx context.Context) guard.Event {
	s := h.held()
	if s == nil {
		return guard.Event{Kind: guard.SessionLost, Err: "it is gone"}
	}
	err := h.stillPrepared(ctx, s)
	switch {
	case err == nil || ctx.Err() != nil:
		return guard.Event{}
	case errors.Is(err, netconf.ErrClosed):
		// The look may be the first to notice: its word for it is the watcher's.
		return guard.Event{Kind: guard.SessionLost, Err: brief(err)}
	}
	return guard.Event{Kind: guard.Lapsed, Err: brief(err)}
}

func (h *deviceWorker) lookOnce(ctx context.Context, a guard.Action) guard.Event {
	ctx, cancel := context.WithTimeout(ctx, min(max(h.run.commit.Hold/4, 4*time.Second), 10*time.Second))
	defer cancel()
	missed := func(err error) guard.Event { return guard.Event{Kind: guard.NotReached, Err: brief(err)} }
	s, arrived, err := h.reach(ctx)
	if err != nil {
		return missed(err)
	}
	kept := false
	defer func() {
		if !kept {
			part(s)
		}
	}()
	running, err := s.Read(ctx, netconf.Running)
	if err == nil && a.Asked {
		err = h.undisturbed(ctx, s, running)
	}
	if err != nil {
		return missed(err)
	}
	ev := guard.Event{Kind: guard.Seen, Found: h.classify(s.Schema, running)}
	if ev.Found == guard.FoundResult && !arrived {
		return missed(
			fmt.Errorf(
				"%s holds the change and answers at %s, but not at %s, where the change moves it to", h.name,
				s.Device.Address, h.movesTo,
			),
		)
	}
	if a.Lock {
		ev.Pending = lockTells(ctx, s)
	}
	if ev.Found == guard.FoundBase {
		// What was read is what the device reverted to: keep it.
		if err := h.run.e.history.WentBack(ctx, s, running, h.run.commit.Change, h.run.commit.Actor); store.Sick(err) {
			h.run.e.slog.Error(
				"what a device reverted to could not be stored", "change", h.run.commit.Change, "device", h.name,
				"error", err,
			)
		} else if err != nil {
			return missed(err)
		}
	} else {
		h.beside(ctx, s, running)
	}
	if a.Asked && ev.Found == guard.FoundResult {
		h.mu.Lock()
		h.asked, kept = s, true
		h.mu.Unlock()
	}
	return ev
}

// reach opens a session. Where the change moves the device's management, that is
// tried first: only there is management access proved as it will be. arrived is false
// where it was reached elsewhere.
func (h *deviceWorker) reach(ctx context.Context) (s *fleet.Session, arrived bool, err error) {
	if h.movesTo == "" {
		s, err = h.run.e.fleet.Dial(ctx, store.Everything, h.name)
		return s, true, err
	}
	there, cancel := context.WithTimeout(ctx, movedTimeout)
	s, err = h.run.e.fleet.DialAt(there, store.Everything, h.name, h.movesTo)
	cancel()
	if err == nil {
		return s, true, nil
	}
	s, err = h.run.e.fleet.Dial(ctx, store.Everything, h.name)
	return s, false, err
}

// movedTimeout is how long a device is tried at its new address before it is
// looked for at the former one too.
const movedTimeout = 2500 * time.Millisecond

// undisturbed makes sure before a confirm that the candidate holds nobody's
// edits, which a confirming commit would publish (RFC 6241 section 8.4.1), and
// keeps it so where the device lets it be locked meanwhile.
func (h *deviceWorker) undisturbed(ctx context.Context, s *fleet.Session, running *tree.Node) error {
	if h.keeper == guard.ByService {
		return nil // keeping it takes no commit
	}
	if h.keeper == guard.ByDevice {
		err := s.Lock(ctx, netconf.Candidate)
		switch {
		case err == nil:
		case !netconf.Refused(err):
			return s.Wrap("locking the candidate", err)
		case heldBySomebody(ctx, s, netconf.Candidate):
			// Others may not commit what one has locked (RFC 6241 section 8.3.5.2).
			return errors.New(
				s.Denied(
					ctx, netconf.Candidate, err,
				) + ", so that it cannot be confirmed; have them let it go, then confirm again; until then it can be " +
					"extended and reverted",
			)
		}
	}
	return foreignEdits(ctx, s, running)
}

// classify tells what a device holds at the places of this commit. Defaults
// that are set and defaults that are not mean the same.
func (h *deviceWorker) classify(by *schema.Schema, running *tree.Node) guard.Found {
	base, result := h.trees(by)
	if h.damaged != nil {
		return guard.FoundOther
	}
	if base == nil || result == nil {
		return guard.FoundBase // nothing was ever sent
	}
	return found(base, result, running)
}

// extend sets the device's own timer anew by a confirmed commit that follows
// the first (RFC 6241 section 8.4.1). It would publish what anybody left in the
// candidate, so that is looked at first.
func (h *deviceWorker) extend(ctx context.Context, until time.Time) error {
	again := func(ctx context.Context, s *fleet.Session) error {
		running, err := s.Read(ctx, netconf.Running)
		if err != nil {
			return err
		}
		if h.classify(s.Schema, running) != guard.FoundResult {
			return errors.New("it does not hold the change")
		}
		if err := foreignEdits(ctx, s, running); err != nil {
			return err
		}
		cc := netconf.ConfirmedCommit{Timeout: h.run.timeoutUntil(until)}
		if h.keeper == guard.ByDevice {
			cc.Persist, cc.PersistID = h.persist, h.persist
		}
		return s.CommitConfirmed(ctx, cc)
	}
	if h.keeper == guard.ByDevice {
		return h.inNewSession(ctx, "setting its timer", again)
	}
	s := h.held()
	if s == nil {
		return errors.New("the session that was its hold is gone")
	}
	ctx, cancel := context.WithTimeout(ctx, operation)
	defer cancel()
	return explained(s, "setting its timer", again(ctx, s))
}

// confirm makes the device's trial permanent, and reads at once what came of it: an
// answer alone proves nothing.
func (h *deviceWorker) confirm(ctx context.Context) guard.Event {
	if h.keeper == guard.BySession {
		return outcome(guard.ConfirmTaken, guard.ConfirmFailed, h.confirmInSession(ctx))
	}
	ev := guard.Event{Kind: guard.ConfirmTaken}
	err := h.inAsked(ctx, "confirming", func(ctx context.Context, s *fleet.Session, fresh bool) error {
		if fresh {
			running, err := s.Read(ctx, netconf.Running)
			if err != nil {
				return err
			}
			if err := h.undisturbed(ctx, s, running); err != nil {
				return err
			}
		}
		if err := s.Confirm(ctx, h.persist); err != nil {
			return err
		}
		running, err := s.Read(ctx, netconf.Running)
		if err != nil {
			return nil // it is looked at anew
		}
		ev.Found, ev.Pending = h.classify(s.Schema, running), lockTells(ctx, s)
		return nil
	})
	if err != nil {
		return outcome(guard.ConfirmTaken, guard.ConfirmFailed, err)
	}
	return ev
}

// confirmInSession confirms in the session that is the hold, and ends it: had the
// device not taken the confirm, it would revert with that (RFC 6241 section 8.4.1).
// What it holds then is looked at by another.
func (h *deviceWorker) confirmInSession(ctx context.Context) error {
	s := h.held()
	if s == nil {
		return errors.New("the session that was its hold is gone")
	}
	ctx, cancel := context.WithTimeout(ctx, operation)
	defer cancel()
	if err := s.Confirm(ctx, ""); err != nil {
		return explained(s, "confirming", err)
	}
	h.mu.Lock()
	h.session = nil // its end is meant
	h.appliedAt = time.Now()
	h.mu.Unlock()
	defer s.Abort()
	return explained(s, "ending the session that was its hold", s.Close(ctx))
}

// beside keeps what somebody else changed on the device meanwhile: what is taken back
// takes that with it. That it could not be stored is no reason to wait.
func (h *deviceWorker) beside(ctx context.Context, s *fleet.Session, running *tree.Node) {
	base, result := h.trees(s.Schema)
	if base == nil || result == nil || h.classify(s.Schema, running) == guard.FoundBase {
		return
	}
	if err := h.run.e.history.Beside(ctx, s, result, running, h.run.commit.Change, h.run.commit.Actor); err != nil {
		h.run.e.slog.Error(
			"what somebody else changed during a hold could not be stored", "device", h.name, "change",
			h.run.commit.Change, "error", err,
		)
	}
}

// readBeside is beside for what the device holds now, as far as it can be read at
// once.
func (h *deviceWorker) readBeside(ctx context.Context, s *fleet.Session) {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	if running, err := s.Read(ctx, netconf.Running); err == nil {
		h.beside(ctx, s, running)
	}
}

// cancel ends the device's trial.
func (h *deviceWorker) cancel(ctx context.Context) error {
	if h.keeper == guard.BySession {
		if s := h.held(); s != nil {
			h.readBeside(ctx, s)
		}
		h.leave() // that is the way to cancel it (RFC 6241 section 8.4.1)
		return nil
	}
	return h.inNewSession(ctx, "cancelling", func(ctx context.Context, s *fleet.Session) error {
		h.readBeside(ctx, s)
		err := s.CancelCommit(ctx, h.persist)
		if netconf.Refused(err) {
			return nil // mostly: nothing is pending any more; the look that follows tells
		}
		return err
	})
}
