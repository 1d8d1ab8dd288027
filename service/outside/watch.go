// Package outside looks for what was changed on devices behind the service's
// back, and keeps what people decide about it.
package outside

import (
	"context"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"oakenlatch/core/diff"
	"oakenlatch/core/ledger"
	"oakenlatch/core/lifecycle"
	"oakenlatch/core/tree"
	"oakenlatch/netconf"
	"oakenlatch/service/audit"
	"oakenlatch/service/fleet"
	"oakenlatch/service/history"
	"oakenlatch/service/store"
)

// Timing is how often devices are looked at.
type Timing struct {
	Silent    time.Duration // those that do not tell of their events
	Listened  time.Duration // those that do, all the same
	Settle    time.Duration // from an event until the device is read: more may follow
	Apart     time.Duration // between two readings of one device
	Clocks    time.Duration // between two readings of a device's clock
	Alike     time.Duration // visits that changed nothing and are alike are told once in it
	AtOnce    int           // devices that are read at a time
	Untouched bool          // nothing is read by itself
}

// DefaultTiming is the tempo of a service.
var DefaultTiming = Timing{
	Silent: 5 * time.Minute, Listened: time.Hour, Settle: 400 * time.Millisecond, Apart: 3 * time.Second,
	Clocks: time.Hour, Alike: time.Hour, AtOnce: 16,
}

// Watch looks for outside changes: when a device tells of an event, when a
// session to it stands anew, and at times.
type Watch struct {
	store   *store.Store
	log     *audit.Log
	fleet   *fleet.Fleet
	history *history.History
	timing  Timing
	clocks  Clocks
	logger  *slog.Logger

	mu      sync.Mutex
	looks   map[string]*look
	visits  map[string]*alike
	stopped bool

	ctx   context.Context
	turns chan struct{}
	wg    sync.WaitGroup
}

// look is what is to be looked at on a device.
type look struct {
	running bool // somebody is at it
	timer   *time.Timer
	last    time.Time
	events  []fleet.Heard // not answered yet
}

// alike counts visits that changed nothing.
type alike struct {
	told time.Time
	more int
}

// Clocks are the clocks of devices.
type Clocks interface {
	// Clock reads a device's clock and notes it.
	Clock(ctx context.Context, d store.Device) (store.Clock, error)
}

// Options are how a watch works.
type Options struct {
	Timing Timing
	Clocks Clocks // nil reads none
	Logger *slog.Logger
}

// New gives a watch over the devices of a fleet.
func New(s *store.Store, log *audit.Log, f *fleet.Fleet, h *history.History, opt Options) *Watch {
	return &Watch{
		store: s, log: log, fleet: f, history: h, timing: opt.Timing, clocks: opt.Clocks, logger: opt.Logger,
		looks: map[string]*look{}, visits: map[string]*alike{},
	}
}

// Run begins to watch, until the context ends; Stop waits for that.
func (w *Watch) Run(ctx context.Context) {
	if w.timing.Untouched {
		return
	}
	w.ctx, w.turns = ctx, make(chan struct{}, w.timing.AtOnce)
	w.fleet.OnEvent(w.hear)
	w.fleet.OnStanding(func(device string) { w.wake(device, w.timing.Settle) })
	w.wg.Go(w.atTimes)
}

// Stop waits until the watch has ended, after its context has.
func (w *Watch) Stop() {
	w.mu.Lock()
	w.stopped = true
	w.mu.Unlock()
	w.wg.Wait()
}

// atTimes wakes devices whose last reading is too old.
func (w *Watch) atTimes() {
	tick := time.NewTicker(max(min(w.timing.Silent, w.timing.Listened)/10, 50*time.Millisecond))
	defer tick.Stop()
	for {
		select {
		case <-w.ctx.Done():
			return
		case <-tick.C:
		}
		list, err := w.store.Devices(w.ctx, store.Everything)
		if err != nil {
			continue
		}
		for _, d := range list {
			every := w.timing.Silent
			if _, on := w.fleet.Listening(d.Name); on {
				every = w.timing.Listened
			}
			w.mu.Lock()
			due := w.of(d.Name).last.Before(time.Now().Add(-every))
			w.mu.Unlock()
			if due && d.HostKey != "" && len(d.Secret) > 0 {
				w.wake(d.Name, 0)
			}
		}
	}
}

// of gives what is to be looked at on a device; w.mu is held.
func (w *Watch) of(device string) *look {
	l := w.looks[device]
	if l == nil {
		l = &look{last: time.Now()} // it is read when a session stands to it
		w.looks[device] = l
	}
	return l
}

// hear takes an event of a device.
func (w *Watch) hear(h fleet.Heard) {
	if h.Own && h.Event.Name != "config-change" || h.Event.Name == "session-start" {
		return // it is answered when the session ends
	}
	w.mu.Lock()
	l := w.of(h.Device.Name)
	if len(l.events) < 100 {
		l.events = append(l.events, h)
	}
	w.mu.Unlock()
	w.wake(h.Device.Name, w.timing.Settle)
}

// wake has a device read after a while, once however often it is woken.
func (w *Watch) wake(device string, after time.Duration) {
	w.mu.Lock()
	defer w.mu.Unlock()
	l := w.of(device)
	if l.timer != nil || w.ctx.Err() != nil {
		return
	}
	after = max(after, time.Until(l.last.Add(w.timing.Apart)))
	if l.last.IsZero() || len(l.events) == 0 {
		after = max(after, 0)
	}
	l.timer = time.AfterFunc(after, func() { w.begin(device) })
}

func (w *Watch) begin(device string) {
	w.mu.Lock()
	l := w.of(device)
	l.timer = nil
	if l.running || w.stopped || w.ctx.Err() != nil {
		w.mu.Unlock()
		if w.ctx.Err() == nil {
			w.wake(device, w.timing.Apart)
		}
		return
	}
	l.running = true
	events := l.events
	l.events = nil
	w.wg.Add(1)
	w.mu.Unlock()
	defer w.wg.Done()
	defer func() {
		w.mu.Lock()
		defer w.mu.Unlock()
		l.running, l.last = false, time.Now()
	}()
	select {
	case w.turns <- struct{}{}:
		defer func() { <-w.turns }()
	case <-w.ctx.Done():
		return
	}
	if err := w.look(device, events); err != nil && w.ctx.Err() == nil {
		w.logger.Warn("a device could not be looked at", "device", device, "error", err)
		w.mu.Lock()
		l.events = append(events, l.events...) // they are still to be answered
		w.mu.Unlock()
	}
}

// look reads a device and tells what its events came to.
func (w *Watch) look(device string, events []fleet.Heard) error {
	ctx, cancel := context.WithTimeout(w.ctx, 2*time.Minute)
	defer cancel()
	d, err := w.store.Device(ctx, store.Everything, device)
	if err != nil {
		return err
	}
	before, err := w.store.LastRevision(ctx, d.ID)
	if err != nil {
		before = store.Revision{}
	}
	r, err := w.history.Read(ctx, store.Everything, device, audit.Service)
	if err != nil {
		return err
	}
	if w.clocks != nil && (d.Clock == nil || w.log.Now().Sub(d.Clock.Read) > w.timing.Clocks) {
		_, _ = w.clocks.Clock(ctx, d) // a device that does not tell its clock is no trouble
	}
	since, err := w.store.RevisionsAfter(ctx, d.ID, before.Number)
	if err != nil || r.Trial {
		return err
	}
	return w.answer(ctx, r, since, events)
}

// answer tells what became of what a device told: a visit that changed nothing,
// something that was put back before anybody looked, somebody cut off in the
// middle. What changed the device has become a revision already.
func (w *Watch) answer(ctx context.Context, r history.Reading, since []store.Revision, events []fleet.Heard) error {
	moved := false
	for _, rev := range since {
		moved = moved || rev.Source == lifecycle.ByOutside
	}
	changed := map[string]bool{} // sessions that are told to have changed running
	var foreign []fleet.Heard
	for _, h := range events {
		if h.Own {
			continue
		}
		foreign = append(foreign, h)
		if h.Event.Name == "config-change" && h.Event.Datastore == string(netconf.Running) {
			changed[h.Event.SessionID] = true
		}
	}
	if len(foreign) == 0 {
		return nil
	}
	last, err := w.store.LastRevision(ctx, r.Device.ID)
	if err != nil {
		return err
	}
	if len(changed) > 0 && !moved {
		if err := w.explain(ctx, r.Device, last, foreign); err != nil {
			return err
		}
	}
	for _, h := range foreign {
		if h.Event.Name == "session-end" {
			if err := w.visit(ctx, r, h, changed[h.Event.SessionID] || moved); err != nil {
				return err
			}
		}
	}
	return nil
}

// explain tells what became of a change that a device told of, where nothing
// was found changed just now: it was read before the device told of it, or it
// was put back before anyone looked.
func (w *Watch) explain(ctx context.Context, d store.Device, last store.Revision, events []fleet.Heard) error {
	if w.log.Now().Sub(last.At) < late && (last.Source == lifecycle.ByOutside || last.Source == lifecycle.ByChange) {
		if outside, err := w.history.Named(ctx, d, last); outside || err != nil {
			return err
		}
		return nil // it is this change of ours that it tells of, as of somebody else's
	}
	return w.putBack(ctx, d, events)
}

// late is how late a device may tell of a change.
const late = time.Minute

// putBack records that a device told of a change of which nothing is left.
func (w *Watch) putBack(ctx context.Context, d store.Device, events []fleet.Heard) error {
	for _, h := range events {
		if h.Event.Name != "config-change" || h.Event.Datastore != string(netconf.Running) {
			continue
		}
		return w.log.Write(ctx, func(tx *audit.Tx) error {
			return tx.Record(ledger.Entry{
				Actor: audit.Service, Device: d.Name, Action: "outside.put-back", Address: h.Event.Source,
				Session: h.Event.SessionID,
				Note: fmt.Sprintf(
					"the device told: %s; read at %s it holds what it held before: it was put back before anyone "+
						"looked, and what it was meanwhile is not known",
					h, w.log.Now().Format(time.RFC3339),
				),
			})
		})
	}
	return nil
}

// visit records that somebody was on a device, and what is left of it.
func (w *Watch) visit(ctx context.Context, r history.Reading, h fleet.Heard, changed bool) error {
	left, err := w.leftovers(ctx, r)
	if err != nil {
		return err
	}
	key := r.Device.Name + " " + h.Event.Account + " " + h.Event.Source
	e := ledger.Entry{
		Actor: audit.Service, Device: r.Device.Name, Action: "visit.ended", Address: h.Event.Source,
		Session: h.Event.SessionID, Note: h.String(),
	}
	cut := h.Event.What != "closed"
	switch {
	case changed:
		e.Note += "; the device was changed meanwhile, see its revisions"
	case cut && left != nil:
		e.Action = "visit.cut-off"
		e.Note += "; it was cut off in the middle: running is as before, and its edits stand in the candidate, where " +
			"nobody committed them"
	case left != nil:
		e.Note += "; running is as before, and edits that nobody committed stand in the candidate"
	default:
		e.Action = "visit.nothing"
		e.Note += "; it was read afterwards: nothing was changed"
		more, tell := w.tell(key)
		if !tell {
			return nil
		}
		if more > 0 {
			e.Note += fmt.Sprintf("; %d more like it came and went since the last that is on record", more)
		}
	}
	return w.log.Write(ctx, func(tx *audit.Tx) error {
		if err := tx.Record(e); err != nil || left == nil {
			return err
		}
		for i, item := range w.log.Redactor.Difference(left).Items() {
			if i == 20 {
				break
			}
			if err := tx.Record(
				ledger.Entry{
					Actor: audit.Service, Action: "visit.left-edit", Device: r.Device.Name, Path: item.Path,
					Before: item.Old, After: item.New,
				},
			); err != nil {
				return err
			}
		}
		return nil
	})
}

// tell reports whether a visit that changed nothing is told, and how many like
// it were not since the last.
func (w *Watch) tell(key string) (more int, ok bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	a := w.visits[key]
	if a == nil || w.log.Now().Sub(a.told) >= w.timing.Alike {
		if len(w.visits) > 10_000 {
			clear(w.visits)
		}
		w.visits[key] = &alike{told: w.log.Now()}
		if a != nil {
			more = a.more
		}
		return more, true
	}
	a.more++
	return 0, false
}

// leftovers gives what stands in a device's candidate and is not in running;
// nil where there is nothing, or no candidate, or a commit of ours is at it.
func (w *Watch) leftovers(ctx context.Context, r history.Reading) (left *diff.Difference, err error) {
	if w.history.Holder(r.Device.ID) != 0 {
		return nil, nil
	}
	err = w.fleet.Reading(ctx, store.Everything, r.Device.Name, func(ctx context.Context, s *fleet.Session) error {
		if !s.Capabilities.Has(netconf.CapCandidate) {
			return nil
		}
		var candidate *tree.Node
		if candidate, err = s.Read(ctx, netconf.Candidate); err != nil {
			if netconf.Refused(err) {
				return nil
			}
			return err
		}
		if df := diff.Compare(r.Running.WithoutDefaults(), candidate.WithoutDefaults()); !df.Empty() {
			left = df
		}
		return nil
	})
	return left, err
}
