package engine

import (
	"context"
	"errors"
	"sync"
	"time"

	"oakenlatch/core/diff"
	"oakenlatch/core/guard"
	"oakenlatch/core/tree"
	"oakenlatch/netconf"
	"oakenlatch/service/fleet"
	"oakenlatch/service/store"
)

type commitRecord = store.Commit

// hand performs a run's actions on one device, one after another.
type hand struct {
	run     *run
	place   int
	name    string
	device  int64
	persist string

	former, mine *tree.Node // of the part; nil after a restart

	busy  sync.Mutex // held while an action is performed
	tries int        // repeated actions in a row; guarded by busy

	mu           sync.Mutex
	base, result *tree.Node // of the device, once prepared
	session      *fleet.Session
	stopLooking  context.CancelFunc // of the look under way, nil if none is
	looks        int
}

// pause before an action that was tried before. Polling faster than every
// second keeps some devices' own timers from ever firing.
const (
	pause    = 3 * time.Second
	maxPause = 15 * time.Second
)

// perform starts an action; its outcome comes back as an event. A look that is
// under way gives way to anything newer.
func (h *hand) perform(a guard.Action) {
	h.mu.Lock()
	if a.Watch && h.stopLooking != nil {
		h.mu.Unlock()
		return // one is under way, and what it finds is not to be lost
	}
	if h.stopLooking != nil {
		h.stopLooking()
		h.stopLooking = nil
	}
	ctx := h.run.e.ctx
	done := func() {}
	if a.Kind == guard.DoLook {
		var stop context.CancelFunc
		ctx, stop = context.WithCancel(ctx)
		h.looks++
		this := h.looks
		h.stopLooking = stop
		done = func() {
			stop()
			h.mu.Lock()
			if h.looks == this {
				h.stopLooking = nil
			}
			h.mu.Unlock()
		}
	}
	h.mu.Unlock()
	h.run.e.wg.Go(func() {
		defer done()
		h.busy.Lock()
		defer h.busy.Unlock()
		if a.Again {
			h.tries++
			if !sleep(ctx, min(pause+time.Duration(h.tries/10)*time.Second, maxPause)) {
				return
			}
		} else {
			h.tries = 0
		}
		ev := h.act(ctx, a)
		if ctx.Err() != nil && (a.Kind == guard.DoLook || h.run.e.ctx.Err() != nil) {
			return // overtaken, or stopping: what came of it says nothing
		}
		ev.Device, ev.At = h.place, h.run.e.log.Now()
		select {
		case h.run.events <- said{ev: ev}:
		case <-h.run.over:
		}
	})
}

func sleep(ctx context.Context, d time.Duration) bool {
	select {
	case <-ctx.Done():
		return false
	case <-time.After(d):
		return true
	}
}

func (h *hand) act(ctx context.Context, a guard.Action) guard.Event {
	switch a.Kind {
	case guard.DoPrepare:
		if err := h.prepare(ctx); err != nil {
			return guard.Event{Kind: guard.PrepareFailed, Err: brief(err)}
		}
		return guard.Event{Kind: guard.Prepared}
	case guard.DoCommit:
		return h.commit(ctx)
	case guard.DoLook:
		return h.look(ctx, a.Patient)
	case guard.DoConfirm:
		return outcome(guard.ConfirmTaken, guard.ConfirmFailed, h.inNewSession(ctx, "confirming", func(ctx context.Context, s *fleet.Session) error {
			return s.Confirm(ctx, h.persist)
		}))
	case guard.DoCancel:
		return outcome(guard.CancelDone, guard.CancelDone, h.inNewSession(ctx, "cancelling", func(ctx context.Context, s *fleet.Session) error {
			err := s.CancelCommit(ctx, h.persist)
			if netconf.Refused(err) {
				return nil // mostly: nothing is pending any more; the look that follows tells
			}
			return err
		}))
	case guard.DoRestore:
		return outcome(guard.RestoreDone, guard.RestoreDone, h.inNewSession(ctx, "writing the former configuration back", h.restore))
	case guard.DoRelease:
		return outcome(guard.ReleaseDone, guard.ReleaseDone, h.release(ctx))
	default:
		return h.settle(ctx)
	}
}

func outcome(good, bad guard.EventKind, err error) guard.Event {
	if err != nil {
		return guard.Event{Kind: bad, Err: brief(err)}
	}
	return guard.Event{Kind: good}
}

// brief tells an error without the device's name, which stands beside it.
func brief(err error) string {
	var fe *fleet.Error
	if errors.As(err, &fe) {
		if fe.Next != "" {
			return fe.Msg + "; " + fe.Next
		}
		return fe.Msg
	}
	return err.Error()
}

func (h *hand) trees() (base, result *tree.Node) {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.base, h.result
}

// operation bounds a single operation that a busy device may take long for.
const operation = 45 * time.Second

// inNewSession does something in a session of its own.
func (h *hand) inNewSession(ctx context.Context, doing string, f func(context.Context, *fleet.Session) error) error {
	ctx, cancel := context.WithTimeout(ctx, operation)
	defer cancel()
	s, err := h.run.e.fleet.Dial(ctx, h.name)
	if err != nil {
		return err
	}
	defer func() { _ = s.Close(context.WithoutCancel(ctx)) }()
	err = f(ctx, s)
	var fe *fleet.Error
	if errors.As(err, &fe) {
		return err
	}
	return s.Wrap(doing, err)
}

// commit puts the prepared candidate into effect, on the device's own trial.
func (h *hand) commit(ctx context.Context) guard.Event {
	h.mu.Lock()
	s := h.session
	h.mu.Unlock()
	ctx, cancel := context.WithTimeout(ctx, operation)
	defer cancel()
	err := s.CommitConfirmed(ctx, netconf.ConfirmedCommit{Timeout: h.run.commit.State.DeviceTimeout(), Persist: h.persist})
	switch {
	case err == nil:
		h.leave(ctx)
		return guard.Event{Kind: guard.Applied}
	case netconf.Refused(err):
		return guard.Event{Kind: guard.CommitRefused, Err: brief(s.Wrap("committing", err))}
	}
	h.dropSession()
	return guard.Event{Kind: guard.CommitUnknown, Err: brief(s.Wrap("committing", err))}
}

// leave frees the locks and ends the session of the preparation. The locks end
// with it in any case, so what cannot be freed in good form is let go.
func (h *hand) leave(ctx context.Context) {
	h.mu.Lock()
	s := h.session
	h.session = nil
	h.mu.Unlock()
	if s == nil {
		return
	}
	// The way in may just have been cut: do not wait long for an answer.
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 3*time.Second)
	defer cancel()
	if s.Unlock(ctx, netconf.Candidate) == nil && s.Unlock(ctx, netconf.Running) == nil {
		_ = s.Close(ctx)
	}
	s.Abort()
}

func (h *hand) dropSession() {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.session != nil {
		h.session.Abort()
		h.session = nil
	}
}

// effect is how long a device is given to put a commit into effect before the
// way in is proved.
const effect = time.Second

// look opens a new session, which proves the way in, and reads what the device
// holds. A patient look keeps trying for a part of the hold.
func (h *hand) look(ctx context.Context, patient bool) guard.Event {
	until := time.Now()
	if patient {
		// A device takes a moment to put a commit into effect. Looking too soon
		// would prove the way in as it was before.
		if !sleep(ctx, effect) {
			return guard.Event{}
		}
		until = until.Add(min(h.run.commit.Hold/2, 30*time.Second))
	}
	for {
		ev := h.lookOnce(ctx)
		if ev.Kind == guard.Seen || !time.Now().Before(until) || !sleep(ctx, 2*time.Second) {
			return ev
		}
	}
}

func (h *hand) lookOnce(ctx context.Context) guard.Event {
	ctx, cancel := context.WithTimeout(ctx, min(max(h.run.commit.Hold/4, 4*time.Second), 10*time.Second))
	defer cancel()
	s, err := h.run.e.fleet.Dial(ctx, h.name)
	if err != nil {
		return guard.Event{Kind: guard.NotReached, Err: brief(err)}
	}
	defer func() { _ = s.Close(context.WithoutCancel(ctx)) }()
	running, err := s.Read(ctx, netconf.Running)
	if err == nil && h.run.phase() == guard.Asking {
		err = foreignEdits(ctx, s, running)
	}
	if err != nil {
		return guard.Event{Kind: guard.NotReached, Err: brief(err)}
	}
	found := h.classify(running)
	if found == guard.FoundBase {
		// What was read is what the device went back to: keep it.
		if _, err := h.run.e.history.Keep(ctx, s, running, 0, h.run.commit.Actor); err != nil {
			return guard.Event{Kind: guard.NotReached, Err: err.Error()}
		}
	}
	return guard.Event{Kind: guard.Seen, Found: found}
}

func (r *run) phase() guard.Phase {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.state.Phase
}

// classify tells what a device holds at the places of this commit. Defaults
// that are set and defaults that are not mean the same.
func (h *hand) classify(running *tree.Node) guard.Found {
	base, result := h.trees()
	if base == nil || result == nil {
		return guard.FoundBase // nothing was ever sent
	}
	old, new := diff.Compare(base.WithoutDefaults(), result.WithoutDefaults()).Where(running.WithoutDefaults())
	switch {
	case old:
		return guard.FoundBase
	case new:
		return guard.FoundResult
	}
	return guard.FoundOther
}

// settle reads back what was kept, makes it a revision and saves it to startup.
func (h *hand) settle(ctx context.Context) guard.Event {
	saved := false
	err := h.inNewSession(ctx, "saving to startup", func(ctx context.Context, s *fleet.Session) error {
		running, err := s.Read(ctx, netconf.Running)
		if err != nil {
			return err
		}
		if _, err := h.run.e.history.Keep(ctx, s, running, h.run.commit.Change, h.run.commit.Actor); err != nil {
			return err
		}
		if !s.Capabilities.Has(netconf.CapStartup) {
			return nil
		}
		copyErr := s.CopyConfig(ctx, netconf.Startup, netconf.Source{Datastore: netconf.Running})
		startup, err := s.Read(ctx, netconf.Startup)
		if err != nil {
			return errors.Join(copyErr, err)
		}
		saved = startup.WithoutDefaults().Digest() == running.WithoutDefaults().Digest()
		noteErr := h.run.e.history.NoteSaved(ctx, s, running)
		if copyErr == nil && !saved {
			copyErr = errors.New("the device said that it saved, but its startup still differs from running")
		}
		return errors.Join(copyErr, noteErr)
	})
	ev := outcome(guard.SettleDone, guard.SettleDone, err)
	ev.Saved = saved
	return ev
}
