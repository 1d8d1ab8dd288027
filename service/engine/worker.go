package engine

import (
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"oakenlatch/core/codec"
	"oakenlatch/core/guard"
	"oakenlatch/core/markup"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
	"oakenlatch/netconf"
	"oakenlatch/service/fleet"
	"oakenlatch/service/store"
)

// deviceWorker performs a run's actions on one device, one after another and in order.
type deviceWorker struct {
	run     *run
	place   int
	name    string
	device  int64
	persist string
	keeper  guard.Keeper
	noSave  bool
	movesTo string // the address the change moves its management to, "" for none

	former, mine *tree.Node // of the part; nil after a restart
	damaged      error      // why base and result cannot be read from the records any more
	exact        bool       // former is what was previewed: nothing else will do

	queue chan guard.Action
	tries int // repeated actions in a row; the worker's

	mu           sync.Mutex
	base, result *tree.Node     // of the device, once prepared
	schema       *schema.Schema // by which they are read
	session      *fleet.Session // of the preparation; where a session is the hold, until it is decided
	asked        *fleet.Session // of the last look before a confirm: what follows goes through it
	stopLooking  func()         // of the look under way, nil if none is
	waiting      int            // actions in the queue that are no watching
	appliedAt    time.Time
	preparedAt   time.Time
}

// maxPause is what the pauses between tries grow to.
const maxPause = time.Minute

// work performs actions until the run is over.
func (h *deviceWorker) work() {
	for {
		select {
		case <-h.run.e.ctx.Done():
			return
		case <-h.run.over:
			return
		case a := <-h.queue:
			h.do(a)
		}
	}
}

// perform orders an action; its outcome comes back as an event. A look that is
// under way, or paused, gives way to anything newer but another watching one.
func (h *deviceWorker) perform(a guard.Action) {
	h.mu.Lock()
	if a.Watch && (h.stopLooking != nil || h.waiting > 0) {
		h.mu.Unlock()
		return // what is under way finds out as well
	}
	h.waiting++
	if h.stopLooking != nil {
		h.stopLooking()
	}
	h.mu.Unlock()
	select {
	case h.queue <- a:
	case <-h.run.e.ctx.Done():
	}
}

func (h *deviceWorker) do(a guard.Action) {
	ctx := h.run.e.ctx
	h.mu.Lock()
	h.waiting--
	if a.Kind == guard.DoLook {
		if h.waiting > 0 {
			h.mu.Unlock()
			return // overtaken before it began
		}
		var stop context.CancelFunc
		ctx, stop = context.WithCancel(ctx)
		defer stop()
		h.stopLooking = stop
	}
	h.mu.Unlock()
	if a.Again {
		h.tries++
		if !sleep(ctx, min(h.run.e.opt.Timing.Pause+time.Duration(h.tries/5)*time.Second, maxPause)) {
			h.endLook(a)
			return
		}
	} else {
		h.tries = 0
	}
	ev := h.act(ctx, a)
	stopped := ctx.Err() != nil
	h.endLook(a)
	if stopped || ev.Kind == "" {
		return // overtaken, or stopping: what came of it says nothing
	}
	ev.Device = h.place
	h.run.happened(ev)
	if ev.Kind == guard.Applied && h.keeper != guard.BySession {
		h.leave() // after it was told: management access may just have been cut
	}
}

func (h *deviceWorker) endLook(a guard.Action) {
	if a.Kind == guard.DoLook {
		h.mu.Lock()
		h.stopLooking = nil
		h.mu.Unlock()
	}
}

func sleep(ctx context.Context, d time.Duration) bool {
	if d <= 0 {
		return ctx.Err() == nil
	}
	select {
	case <-ctx.Done():
		return false
	case <-time.After(d):
		return true
	}
}

func (h *deviceWorker) act(ctx context.Context, a guard.Action) guard.Event {
	if a.Kind != guard.DoConfirm && a.Kind != guard.DoSettle {
		h.dropAsked() // no confirm follows: what it has locked must not stand in the way
	}
	switch a.Kind {
	case guard.DoPrepare:
		if err := h.prepare(ctx); err != nil {
			return guard.Event{Kind: guard.PrepareFailed, Err: brief(err)}
		}
		return guard.Event{Kind: guard.Prepared}
	case guard.DoCommit:
		return h.commit(ctx)
	case guard.DoLook:
		return h.look(ctx, a)
	case guard.DoExtend:
		return outcome(guard.TimerSet, guard.TimerNotSet, h.extend(ctx, a.Until))
	case guard.DoConfirm:
		return h.confirm(ctx)
	case guard.DoCancel:
		return outcome(guard.CancelDone, guard.CancelDone, h.cancel(ctx))
	case guard.DoRestore:
		return outcome(
			guard.RestoreDone, guard.RestoreDone,
			h.inNewSession(ctx, "writing the former configuration back", h.restore),
		)
	case guard.DoRelease:
		return outcome(guard.ReleaseDone, guard.ReleaseDone, h.release(ctx))
	case guard.DoSettle:
		return h.settle(ctx)
	}
	return guard.Event{}
}

func outcome(good, bad guard.EventKind, err error) guard.Event {
	if err != nil {
		// Locks and what others do meanwhile come and go: no answer to what was asked.
		passing := netconf.Tagged(err, "lock-denied") || netconf.Tagged(err, "in-use") ||
			netconf.Tagged(err, "resource-denied")
		return guard.Event{Kind: bad, Err: brief(err), Refused: netconf.Refused(err) && !passing}
	}
	return guard.Event{Kind: good}
}

// brief tells an error without the device's name, which stands beside it.
func brief(err error) string {
	var fe *fleet.Error
	if errors.As(err, &fe) {
		if len(fe.Next) > 0 {
			return fe.Msg + "; " + fe.Next.String()
		}
		return fe.Msg
	}
	return err.Error()
}

// trees gives what the device held, and was to hold, by the modules that it hands out now: other software may
// have begun to run on it during a hold. What those do not know is carried. nil is as they were read last.
func (h *deviceWorker) trees(by *schema.Schema) (base, result *tree.Node) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if by == nil || h.base == nil || h.result == nil || h.schema == by {
		return h.base, h.result
	}
	base, err := read(h.schema, by, h.base)
	result, rerr := read(h.schema, by, h.result)
	if err = errors.Join(err, rerr); err != nil {
		h.run.e.slog.Error(
			"what a device held cannot be read by the modules that it has now", "change", h.run.commit.Change, "device",
			h.name, "error", err,
		)
		return h.base, h.result
	}
	h.base, h.result, h.schema = base, result, by
	return base, result
}

// read reads a configuration that was read by some modules by others.
func read(was, by *schema.Schema, n *tree.Node) (*tree.Node, error) {
	return codec.Decoder{Schema: by}.ParseTree(codec.XML(was, n, markup.Name{Space: codec.NetconfNS, Local: "config"}))
}

// operation bounds a single operation that a busy device may take long for.
const operation = 45 * time.Second

// inNewSession does something in a session of its own.
func (h *deviceWorker) inNewSession(
	ctx context.Context, doing string, f func(context.Context, *fleet.Session) error,
) error {
	ctx, cancel := context.WithTimeout(ctx, operation)
	defer cancel()
	s, err := h.run.e.fleet.Dial(ctx, store.Everything, h.name)
	if err != nil {
		return err
	}
	defer part(s)
	return explained(s, doing, f(ctx, s))
}

// part ends a session in good form, without anybody waiting for it.
func part(s *fleet.Session) {
	go func() {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		_ = s.Close(ctx)
	}()
}

// explained tells an error of a session in words, unless it is told already.
func explained(s *fleet.Session, doing string, err error) error {
	var fe *fleet.Error
	if errors.As(err, &fe) {
		return err
	}
	return s.Wrap(doing, err)
}

// held gives the session that is to stay, as long as it lives.
func (h *deviceWorker) held() *fleet.Session {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.session != nil && h.session.Err() == nil {
		return h.session
	}
	return nil
}

// keep makes a session the one that stays. Where its end means something, that
// is told.
func (h *deviceWorker) keep(s *fleet.Session) {
	h.mu.Lock()
	h.session = s
	h.mu.Unlock()
	if h.keeper != guard.BySession && h.run.commit.Plan.Ahead == 0 {
		return
	}
	h.run.e.wg.Go(func() {
		select {
		case <-s.Done():
		case <-h.run.over:
			return
		case <-h.run.e.ctx.Done():
			return
		}
		h.mu.Lock()
		ours := h.session == s
		h.mu.Unlock()
		if ours {
			h.run.happened(guard.Event{Kind: guard.SessionLost, Device: h.place, Err: s.Err().Error()})
		}
	})
}

// leave ends the session of the preparation, and with it its locks (RFC 6241
// section 7.5).
func (h *deviceWorker) leave() {
	h.mu.Lock()
	s := h.session
	h.session = nil
	h.mu.Unlock()
	if s == nil {
		return
	}
	// Management access may just have been cut: do not wait long for an answer.
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	_ = s.Close(ctx)
	s.Abort()
}

func (h *deviceWorker) dropSession() {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.session != nil {
		h.session.Abort()
		h.session = nil
	}
}

// dropAsked ends the session that was kept for a confirm, and with it its lock.
// Management access may be cut: it does not wait long for an answer.
func (h *deviceWorker) dropAsked() {
	h.mu.Lock()
	s := h.asked
	h.asked = nil
	h.mu.Unlock()
	if s == nil {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	_ = s.Close(ctx)
}

// letGo ends whatever sessions are left when the run is over.
func (h *deviceWorker) letGo() {
	h.mu.Lock()
	asked := h.asked
	h.asked = nil
	h.mu.Unlock()
	if asked != nil {
		asked.Abort()
	}
	h.dropSession()
}

// inAsked does something in the session of the last look before a confirm, or
// where that is gone, in a new one. fresh says which.
func (h *deviceWorker) inAsked(
	ctx context.Context, doing string, f func(ctx context.Context, s *fleet.Session, fresh bool) error,
) error {
	h.mu.Lock()
	s := h.asked
	h.mu.Unlock()
	if s != nil && s.Err() == nil {
		ctx, cancel := context.WithTimeout(ctx, operation)
		defer cancel()
		return explained(s, doing, f(ctx, s, false))
	}
	return h.inNewSession(ctx, doing, func(ctx context.Context, s *fleet.Session) error { return f(ctx, s, true) })
}

// lockTells finds out by a lock on running whether a confirmed commit is
// pending: while one is, others are refused it (RFC 6241 section 7.5). One that is
// refused because somebody holds the lock tells nothing.
func lockTells(ctx context.Context, s *fleet.Session) guard.Pending {
	err := s.Lock(ctx, netconf.Running)
	switch {
	case err == nil:
		_ = s.Unlock(ctx, netconf.Running)
		return guard.NonePends
	case netconf.Refused(err) && !heldBySomebody(ctx, s, netconf.Running):
		return guard.IsPending
	}
	return guard.NotAsked
}

// heldBySomebody reports whether a session of somebody else has a datastore locked, as
// far as the device tells.
func heldBySomebody(ctx context.Context, s *fleet.Session, ds netconf.Datastore) bool {
	list, err := s.Visitors(ctx)
	if err != nil {
		return false
	}
	return slices.ContainsFunc(list, func(v fleet.Visitor) bool {
		return !v.Own && slices.ContainsFunc(v.Locks, func(l fleet.HeldLock) bool { return l.Datastore == string(ds) })
	})
}
