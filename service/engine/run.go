package engine

import (
	"cmp"
	"context"
	"slices"
	"sync"
	"time"

	"oakenlatch/core/guard"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
	"oakenlatch/service/audit"
	"oakenlatch/service/store"
)

// request is an event on its way to a run, with where to answer a person.
type request struct {
	ev     guard.Event
	answer chan error
	number int // of the run's, once it was taken
}

// run is one commit under way.
type run struct {
	e       *Engine
	commit  store.Commit
	workers []*deviceWorker
	probes  []*prober
	events  chan request
	begun   chan struct{} // closed when the first event has been taken
	over    chan struct{} // closed when the loop has ended
	turns   chan struct{} // has room for the devices that are prepared at once

	// The loop's own: what the state will be once the steps gathered are on record.
	ahead    guard.State
	steps    []step
	gathered <-chan time.Time
	recorded guard.State // as it is on record
	numbers  int         // of what was taken
	reached  bool        // it was noted how far the records reach
	resumed  bool        // since that was looked at last; see resumeFromRecord
	writing  *writing    // of what is on its way to the disk; nil for nothing
	ill      error       // why nothing could be put on record when that was tried last
	tried    time.Time
	told     time.Time
	stalled  []request // what was heard and may only be followed once it is on record

	mu      sync.Mutex
	state   guard.State
	changed chan struct{}
}

func newRun(e *Engine, c store.Commit, workers []*deviceWorker) *run {
	// Every device and probe has one action under way at most, so that nobody
	// waits to be heard.
	room := 64 + 4*len(workers) + len(c.Plan.Probes)
	r := &run{
		e: e, commit: c, workers: workers, events: make(chan request, room), begun: make(chan struct{}),
		over: make(chan struct{}), turns: make(chan struct{}, cmp.Or(e.opt.Timing.AtOnce, DefaultTiming.AtOnce)),
		state: c.State, ahead: c.State, recorded: c.State, changed: make(chan struct{}),
	}
	for i, h := range workers {
		h.run, h.keeper, h.noSave = r, c.Plan.Devices[i].Keeper, c.Plan.Devices[i].NoSave
		h.queue = make(chan guard.Action, 16)
	}
	for i, p := range c.Plan.Probes {
		r.probes = append(r.probes, &prober{run: r, place: i, probe: p})
	}
	return r
}

// active reports whether a run is there and not decided yet.
func (r *run) active() bool { return r != nil && r.phase() != guard.Done }

// Change is the number of the change that it commits.
func (r *run) Change() int64 { return r.commit.Change }

// Active reports whether it is not decided yet.
func (r *run) Active() bool { return r.active() }

// Trees gives what it found on a device and what it makes of it; nil where it is not prepared.
func (r *run) Trees(device int64, by *schema.Schema) (base, result *tree.Node) {
	for _, h := range r.workers {
		if h.device == device {
			return h.trees(by)
		}
	}
	return nil, nil
}

func (r *run) phase() guard.Phase {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.state.Phase
}

// may says whether a word would be taken now.
func (r *run) may(word guard.Event) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.state.May(word)
}

// timeout is the confirm-timeout given with a commit.
func (r *run) timeout() time.Duration {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.state.DeviceTimeout()
}

// timeoutUntil is the confirm-timeout that outlasts a deadline.
func (r *run) timeoutUntil(deadline time.Time) time.Duration {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.state.TimeoutUntil(deadline, r.e.log.Now())
}

// happened brings an event to the run, unless that is over.
func (r *run) happened(ev guard.Event) {
	ev.At = r.e.log.Now()
	for _, h := range r.workers { // devices repeat what they were sent
		base, result := h.trees(nil)
		ev.Err = r.e.log.Redactor.Text(ev.Err, h.former, h.mine, base, result)
	}
	select {
	case r.events <- request{ev: ev}:
	case <-r.over:
	}
}

// loop takes events until the commit is concluded or the engine stops. The
// first comes before any tick: after a restart the machine must know of it
// before it learns that the hold has ended meanwhile.
func (r *run) loop(first guard.Event) {
	defer close(r.over)
	for _, h := range r.workers {
		r.e.wg.Go(h.work)
		defer h.letGo()
	}
	done := r.take(request{ev: first})
	close(r.begun)
	if done {
		return
	}
	watch := time.NewTicker(min(max(r.commit.Hold/20, r.e.opt.Timing.Watch), 30*time.Second))
	defer watch.Stop()
	for {
		end, stop := r.alarm()
		var again <-chan time.Time
		if r.ill != nil || r.writing != nil || len(r.stalled) > 0 {
			again = time.After(retryJournal)
		}
		select {
		case <-r.e.ctx.Done():
			stop()
			return
		case s := <-r.events:
			done = r.take(s)
		case <-watch.C:
			done = r.take(request{ev: guard.Event{Kind: guard.Tick, At: r.e.log.Now(), By: audit.Service}})
		case <-end:
			done = r.take(request{ev: guard.Event{Kind: guard.Tick, At: r.e.log.Now(), By: audit.Service}})
		case <-r.gathered:
			_ = r.flush(r.e.store.Late())
		case <-again:
			done = r.again()
		}
		stop()
		if done || r.concluded() {
			return
		}
	}
}

// concluded reports whether the end of the commit is on record, though what told of it may not
// have been followed: it was on its way to a disk that did not answer.
func (r *run) concluded() bool {
	return r.recorded.Phase == guard.Done && r.writing == nil && len(r.steps) == 0
}

// alarm goes off at the next moment that the time alone decides something. It
// goes by the service's clock, which may be set meanwhile: then the watching
// ticks find out.
func (r *run) alarm() (<-chan time.Time, func()) {
	at := r.ahead.Deadline
	switch r.ahead.Phase {
	case guard.Awaiting:
		if !r.ahead.Warned {
			at = at.Add(-guard.Warning(r.ahead.Hold))
		}
	case guard.AllReady:
		at = r.ahead.LapsesAt
	case guard.ConfirmingAll, guard.Settling, guard.Reverting:
		at = time.Time{}
	}
	if at.IsZero() {
		return nil, func() {}
	}
	t := time.NewTimer(max(at.Sub(r.e.log.Now()), 50*time.Millisecond))
	return t.C, func() { t.Stop() }
}

// step is an event that changed the state.
type step struct {
	ev          guard.Event
	before, now guard.State
}

// gather is how long an event that nothing follows from yet may wait to be
// journalled together with others. Lost with the service, it is as if it had
// not been heard.
const gather = 50 * time.Millisecond

// take takes an event: at once, or together with others, it is journalled, and
// only then acted on. Where it cannot be, as the disk is full or ill, only what reads
// devices or takes a change back goes on: that may be done twice, and after a crash the
// devices are asked where they stand. All else waits, and a person's word for it is
// refused. done is true once the commit is concluded.
func (r *run) take(s request) (done bool) {
	if s.answer != nil {
		if err := r.ahead.May(s.ev); err != nil {
			s.answer <- err
			return false
		}
	}
	if s.number == 0 {
		r.numbers++
		s.number = r.numbers
	}
	before := r.ahead
	actions, changes := r.stepped(s.ev)
	if s.answer == nil && len(actions) == 0 {
		if r.gathered == nil && len(r.steps) > 0 {
			r.gathered = time.After(gather)
		}
		return false
	}
	r.resumed = false
	patience := r.e.store.Late()
	if s.answer != nil && s.ev.Kind != guard.SayRevert { // who said it may wait; what is due may not
		var stop func()
		patience, stop = r.untilDue(r.e.store.Hung(), before.Deadline)
		defer stop()
	}
	err := r.flush(patience)
	if r.resumed {
		actions, changes = nil, false // what follows is worked out anew
	}
	if err != nil {
		if !r.unrecorded(s, actions) {
			if changes {
				r.steps, r.ahead = r.steps[:len(r.steps)-1], before
				if w := r.writing; w != nil && w.kept > len(r.steps) {
					w.kept, w.dropped = len(r.steps), s.number
				}
			}
			if s.answer != nil {
				s.answer <- err
			} else {
				r.stalled = append(r.stalled, s)
			}
			return false
		}
		r.publish()
	}
	if s.answer != nil {
		s.answer <- nil
	}
	if !r.reached && slices.ContainsFunc(actions, func(a guard.Action) bool { return a.Kind == guard.DoCommit }) {
		r.reached = true
		r.e.reached(r.commit.Change, r.commit.Started)
	}
	for _, a := range actions {
		switch a.Kind {
		case guard.Conclude:
			return true
		case guard.DoProbe:
			r.probes[a.Probe].perform(a)
		default:
			r.workers[a.Device].perform(a)
		}
	}
	return false
}

// unrecorded reports whether what follows from an event may be done though it is not on
// record.
func (r *run) unrecorded(s request, actions []guard.Action) bool {
	if s.answer != nil && s.ev.Kind != guard.SayRevert {
		return false
	}
	for _, a := range actions {
		switch a.Kind {
		case guard.DoLook, guard.DoProbe, guard.DoCancel, guard.DoRestore, guard.DoRelease:
		case guard.DoConfirm:
			if r.recorded.Phase != guard.ConfirmingAll { // that it is to be kept is on record
				return false
			}
		default:
			return false
		}
	}
	return true
}

// again tries to put on record what is not, and takes what waited for that.
func (r *run) again() (done bool) {
	_ = r.flush(r.e.store.Late())
	list := r.stalled
	r.stalled = nil
	for i, s := range list {
		if r.take(s) {
			return true
		}
		if len(r.stalled) > 0 { // it is not to be had yet: the others keep behind it
			r.stalled = append(r.stalled, list[i+1:]...)
			break
		}
	}
	return false
}

// retryJournal is the pause before what could not be put on record is tried again.
const retryJournal = 500 * time.Millisecond

// writing is what is on its way to the disk.
type writing struct {
	done  chan error
	state guard.State // as it is once that is there
	kept  int         // of the steps gathered it holds so many, from the first
	// it holds another, of that number, that was not followed, as the disk did not answer; 0 is none
	dropped int
}

// untilDue gives a channel that is closed with another, or a little after a deadline, if there
// is one.
func (r *run) untilDue(other <-chan struct{}, deadline time.Time) (<-chan struct{}, func()) {
	if deadline.IsZero() {
		return other, func() {}
	}
	ctx, stop := context.WithTimeout(r.e.ctx, max(deadline.Sub(r.e.log.Now()), 0)+time.Second)
	go func() {
		defer stop()
		select {
		case <-other:
		case <-ctx.Done():
		}
	}()
	return ctx.Done(), stop
}

// flush journals what was gathered. A disk that does not answer until patience ends is not
// waited for: what came of it shows later.
func (r *run) flush(patience <-chan struct{}) error {
	r.gathered = nil
	if err := r.landed(nil); err != nil {
		return err
	}
	if len(r.steps) == 0 {
		return nil
	}
	if r.ill != nil && time.Since(r.tried) < retryJournal {
		return r.ill
	}
	w := &writing{done: make(chan error, 1), state: r.ahead, kept: len(r.steps)}
	steps := slices.Clone(r.steps)
	r.writing, r.tried = w, time.Now()
	go func() {
		began := time.Now()
		err := r.record(steps)
		r.e.journalTime.Add(int64(time.Since(began)))
		w.done <- err
	}()
	return r.landed(patience)
}

// landed takes up what came of what was on its way to the disk, waiting for that until patience
// ends, or not at all where that is nil.
func (r *run) landed(patience <-chan struct{}) error {
	w := r.writing
	if w == nil {
		return nil
	}
	if patience == nil {
		closed := make(chan struct{})
		close(closed)
		patience = closed
	}
	var err error
	select {
	case err = <-w.done:
		r.writing = nil
	default:
		select {
		case err = <-w.done:
			r.writing = nil
		case <-patience:
			err = store.ErrSlow
		}
	}
	if err != nil {
		r.ill = err
		if time.Since(r.told) > 30*time.Second {
			r.told = time.Now()
			r.e.slog.Error(
				"the journal cannot be written: nothing is begun or confirmed until it can; what has to revert reverts",
				"change", r.commit.Change, "error", err,
			)
		}
		return err
	}
	if r.ill != nil {
		r.e.slog.Warn("the journal can be written again", "change", r.commit.Change)
	}
	r.ill, r.told, r.recorded, r.steps = nil, time.Time{}, w.state, slices.Clone(r.steps[w.kept:])
	if w.dropped != 0 {
		r.resumeFromRecord(w.dropped)
	}
	r.publish()
	return nil
}

// resumeFromRecord goes on from what is on record where that holds a word that was not followed, as
// nobody knew whether it would be kept: as after a crash.
func (r *run) resumeFromRecord(dropped int) {
	r.stalled = slices.DeleteFunc(r.stalled, func(s request) bool { return s.number == dropped })
	later := r.steps
	r.steps, r.ahead, r.resumed = nil, r.recorded, true
	for _, s := range later {
		r.stepped(s.ev)
	}
	r.stalled = append(r.stalled, request{ev: guard.Event{Kind: guard.Restarted, At: r.e.log.Now(), By: audit.Service}})
}

// stepped takes an event into what is ahead, and gives what follows from it.
func (r *run) stepped(ev guard.Event) (actions []guard.Action, changed bool) {
	before := r.ahead
	next, actions := guard.Step(before, ev)
	if next.Same(before) {
		return actions, false
	}
	r.steps = append(r.steps, step{ev, before, next})
	r.ahead = next
	return actions, true
}

// publish tells the state to whoever asks.
func (r *run) publish() {
	r.mu.Lock()
	r.state = r.ahead
	close(r.changed)
	r.changed = make(chan struct{})
	r.mu.Unlock()
}

func (r *run) record(steps []step) error {
	return r.e.log.WriteSure(context.Background(), func(tx *audit.Tx) error {
		last := steps[len(steps)-1].now
		var ended time.Time
		if last.Phase == guard.Done {
			ended = r.e.log.Now()
		}
		events := make([]guard.Event, len(steps))
		for i, s := range steps {
			events[i] = s.ev
		}
		if err := tx.Journal(r.commit.ID, events, last, ended); err != nil {
			return err
		}
		for _, s := range steps {
			if err := r.tell(tx, s); err != nil {
				return err
			}
		}
		return nil
	})
}
