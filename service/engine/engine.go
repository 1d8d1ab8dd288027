package engine

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"oakenlatch/core/advice"
	"oakenlatch/core/guard"
	"oakenlatch/core/ledger"
	"oakenlatch/core/lifecycle"
	"oakenlatch/service/audit"
	"oakenlatch/service/fleet"
	"oakenlatch/service/folder"
	"oakenlatch/service/history"
	"oakenlatch/service/order"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
	"oakenlatch/service/underway"
)

// Limits of a hold.
const (
	MinHold = 10 * time.Second
	MaxHold = 7 * 24 * time.Hour

	// MaxAhead is how long a change may stay prepared: its devices are locked
	// for everybody else meanwhile.
	MaxAhead = 12 * time.Hour
)

// Engine runs commits.
type Engine struct {
	store   *store.Store
	log     *audit.Log
	fleet   *fleet.Fleet
	history *history.History
	slog    *slog.Logger
	ladders ladders

	board *underway.Board
	opt   Options

	journalTime atomic.Int64 // spent writing journals, ns

	ctx  context.Context
	stop context.CancelFunc
	wg   sync.WaitGroup

	mu       sync.Mutex
	runs     map[int64]*run // by change
	starting map[int64]bool // by change: being put on record
}

// Timing is how long an engine waits where a device needs time.
type Timing struct {
	// Effect is how long a device is given to put a commit into effect before
	// it is proved that the device is reached. Looking sooner would prove nothing but that it was reached before.
	Effect time.Duration

	// Pause is before an action that was tried before. Polling faster than every
	// second keeps some devices' own timers from ever firing.
	Pause time.Duration

	// Watch is the least time between looks at devices on hold.
	Watch time.Duration

	// AtOnce is how many devices of a commit are prepared at a time; it takes effect
	// on all of them at once. Commits do not wait for each other's devices.
	AtOnce int
}

// DefaultTiming is the tempo for devices as they are.
var DefaultTiming = Timing{Effect: time.Second, Pause: 3 * time.Second, Watch: 3 * time.Second, AtOnce: 64}

// Options are how an engine works.
type Options struct {
	Programs string        // folder of the programs that may be run as probes; "" allows none
	Notes    *folder.Notes // what is on hold, beside the records; nil where that is not noted
	Timing   Timing        // how long it waits for devices; the default where it is not set
	Logger   *slog.Logger
}

// New gives an engine; Recover must be called before it is used. On the board it enters which devices
// its commits have to themselves.
func New(
	s *store.Store, log *audit.Log, f *fleet.Fleet, h *history.History, board *underway.Board, opt Options,
) *Engine {
	if opt.Timing == (Timing{}) {
		opt.Timing = DefaultTiming
	}
	e := &Engine{
		store: s, log: log, fleet: f, history: h, board: board, opt: opt, slog: opt.Logger, runs: map[int64]*run{},
		starting: map[int64]bool{},
	}
	e.ctx, e.stop = context.WithCancel(context.Background())
	return e
}

// Stop ends the engine's work at once. Commits under way go on when the
// service starts again; until then the devices guard themselves.
func (e *Engine) Stop() {
	e.stop()
	e.wg.Wait()
}

// Begin starts to bring a change onto its devices, on hold. It returns once
// the start is on record; [Engine.Status] follows it.
func (e *Engine) Begin(ctx context.Context, start order.Start) error {
	if err := e.store.CheckSure(ctx); err != nil {
		return fmt.Errorf("nothing new is begun: %w", err)
	}
	plan, err := e.Plan(ctx, start.Change, start.Order, start.Works)
	if err != nil {
		return err
	}
	started := e.log.Now().Truncate(time.Millisecond) // as it is on record
	starting, err := e.reserve(start)
	if err != nil {
		return err
	}
	// Nothing is held meanwhile that the word for another change needs: the disk may not answer.
	r, err := e.noted(ctx, start, started, plan)
	e.mu.Lock()
	defer e.mu.Unlock()
	delete(e.starting, start.Change)
	if err != nil {
		for _, w := range start.Works {
			e.board.Release(w.Device.ID, starting)
		}
		return err
	}
	e.launch(r, guard.Event{Kind: guard.Start, At: e.log.Now(), By: start.Actor})
	return nil
}

// reserve keeps a change and its devices for a commit that is about to begin.
func (e *Engine) reserve(start order.Start) (*run, error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.runs[start.Change].active() || e.starting[start.Change] {
		return nil, refusal.New(
			refusal.Conflict, "follow it",
			"change %d is being committed already", start.Change,
		).Do(advice.WatchCommit, start.Change)
	}
	starting := &run{commit: store.Commit{Change: start.Change}}
	devices := make([]int64, len(start.Works))
	for i, w := range start.Works {
		devices[i] = w.Device.ID
	}
	if place, other := e.board.Take(starting, devices...); other != nil {
		return nil, held(start.Works[place].Device.Name, other.Change(), start.Change)
	}
	e.starting[start.Change] = true
	return starting, nil
}

// takenBackBy names what takes a device back.
var takenBackBy = map[guard.Keeper]string{
	guard.ByDevice: "itself", guard.BySession: "the end of its session", guard.ByService: "this service alone",
}

// begin records a commit that is about to start.
func (e *Engine) begin(ctx context.Context, start order.Start, started time.Time, plan guard.Plan) (*run, error) {
	actor, change := start.Actor, start.Change
	c := store.Commit{
		Change: change, Actor: actor, Hold: plan.Hold, Started: started, Plan: plan, State: guard.New(plan),
	}
	var workers []*deviceWorker
	for i, w := range start.Works {
		p := store.CommitPart{Device: w.Device.ID, Persist: "ol-" + rand.Text()}
		c.Parts = append(c.Parts, p)
		workers = append(
			workers,
			&deviceWorker{
				place: i, name: w.Device.Name, device: w.Device.ID, persist: p.Persist, former: w.Former, mine: w.Mine,
				exact: w.Exact, movesTo: w.MovesTo,
			},
		)
	}
	err := e.log.WriteSure(ctx, func(tx *audit.Tx) error {
		now, err := tx.Change(change)
		if err != nil {
			return err
		}
		switch {
		case now.State == lifecycle.Scheduled && start.Scheduled != 0:
			if err := tx.EndScheduled(start.Scheduled, lifecycle.Begun, "", c.Started); err != nil {
				return err
			}
		case now.State == lifecycle.Scheduled:
			return refusal.New(
				refusal.Conflict, "take it off first",
				"change %d is on the schedule", change,
			).Do(advice.Unschedule, change)
		case !now.State.Open():
			return refusal.New(refusal.Conflict, "", "change %d is %s and cannot be committed", change, now.State)
		}
		if err := unedited(tx, change, start.Works); err != nil {
			return err
		}
		for _, w := range start.Works {
			if err := e.claim(tx, actor, w); err != nil {
				return err
			}
		}
		if c, err = tx.AddCommit(c); err != nil {
			return err
		}
		if err := tx.SetState(change, lifecycle.Applying, "", c.Started); err != nil {
			return err
		}
		if err := unapproved(tx, start.Unapproved); err != nil {
			return err
		}
		return tx.Record(ledger.Entry{Actor: actor, Action: "commit.start", Change: change, Note: PlanText(plan)})
	})
	if err != nil {
		return nil, err
	}
	return newRun(e, c, workers), nil
}

// unapproved enters that a commit begins without the approval it needs; nil is that it has that.
func unapproved(tx *audit.Tx, e *store.Emergency) error {
	if e == nil {
		return nil
	}
	added, err := tx.AddEmergency(*e)
	if err != nil {
		return err
	}
	return tx.Record(
		ledger.Entry{
			Actor: e.Actor, Action: "emergency.commit", Change: e.Change, After: e.Digest,
			Note: fmt.Sprintf("emergency %d, without the approval it needs: %s", added.ID, e.Reason),
		},
	)
}

// launch starts a run's loop with its first event; e.mu is held.
func (e *Engine) launch(r *run, first guard.Event) {
	e.runs[r.commit.Change] = r
	for _, h := range r.workers {
		e.board.Pass(h.device, r)
	}
	e.wg.Go(func() {
		r.loop(first)
		if r.phase() == guard.Done {
			e.unnote(r.commit.Change, r.commit.Started)
		}
		e.mu.Lock()
		defer e.mu.Unlock()
		if e.runs[r.commit.Change] == r { // it may have been committed again already
			delete(e.runs, r.commit.Change)
		}
		for _, h := range r.workers {
			e.board.Release(h.device, r)
		}
	})
}

// Say gives a running commit a person's word: an event of a Say kind. The
// error says why it was not taken.
func (e *Engine) Say(ctx context.Context, change int64, word guard.Event) error {
	e.mu.Lock()
	r := e.runs[change]
	e.mu.Unlock()
	if r == nil {
		return e.over(ctx, change)
	}
	word.At = e.log.Now()
	if word.Kind == guard.SayUntil && word.Until.Sub(word.At) > MaxHold {
		return refusal.New(
			refusal.Invalid, "", "a hold ends within %d days, not at %s", MaxHold/(24*time.Hour),
			word.Until.UTC().Format(time.RFC3339),
		)
	}
	answer := make(chan error, 1)
	select {
	case r.events <- request{ev: word, answer: answer}:
	case <-r.over:
		return e.over(ctx, change)
	case <-ctx.Done():
		return ctx.Err()
	}
	select {
	case err := <-answer:
		var no *guard.Refused
		if errors.As(err, &no) {
			said := refusal.New(
				refusal.Conflict, "see where it stands", "change %d: %s", change, no.Why,
			).Do(advice.ShowChange, change)
			despite := word
			if despite.Despite = true; word.Kind == guard.SayConfirm && !word.Despite && r.may(despite) == nil {
				said = said.Or("or confirm it all the same", advice.ConfirmAllTheSame, change)
			}
			return said
		}
		return err
	case <-r.over:
		return e.over(ctx, change)
	case <-ctx.Done():
		return ctx.Err()
	}
}

// over says why nothing can be said to a commit that is not running.
func (e *Engine) over(ctx context.Context, change int64) error {
	c, err := e.store.Change(ctx, change)
	if err != nil {
		return err
	}
	if c.State == lifecycle.Draft || c.State == lifecycle.Scheduled {
		return refusal.New(
			refusal.Conflict, "commit it first",
			"change %d has not been committed", change,
		).Do(advice.Commit, change)
	}
	why := ""
	if c.Reason != "" {
		why = ": " + c.Reason
	}
	return refusal.New(
		refusal.Conflict, "", "change %d is already %s since %s%s", change, c.State, c.Updated.Format(time.RFC3339),
		why,
	)
}

// Status gives a running commit's state and a channel that is closed at its
// next change; ok is false where none is running.
func (e *Engine) Status(change int64) (state guard.State, changed <-chan struct{}, ok bool) {
	e.mu.Lock()
	r := e.runs[change]
	e.mu.Unlock()
	if r == nil {
		return guard.State{}, nil, false
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.state, r.changed, true
}

// Running gives how every commit under way stands, by its change.
func (e *Engine) Running() map[int64]guard.State {
	e.mu.Lock()
	defer e.mu.Unlock()
	out := map[int64]guard.State{}
	for change, r := range e.runs {
		r.mu.Lock()
		out[change] = r.state
		r.mu.Unlock()
	}
	return out
}

// Recover takes up the commits that were under way when the service stopped:
// it folds each one's journal and then asks the devices.
func (e *Engine) Recover(ctx context.Context) error {
	open, err := e.store.OpenCommits(ctx)
	if err != nil {
		return err
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	for _, c := range open {
		r, err := e.resume(ctx, c)
		if err != nil {
			return fmt.Errorf("commit of change %d cannot be taken up: %w", c.Change, err)
		}
		e.slog.Info("taking up a commit", "change", c.Change, "phase", r.state.Phase)
		e.launch(r, guard.Event{Kind: guard.Restarted, At: e.log.Now(), By: audit.Service})
		// Nobody is to be told where it stood before.
		select {
		case <-r.begun:
		case <-time.After(5 * time.Second): // the journal cannot be written just now
		}
	}
	e.unknown(ctx)
	return nil
}

func (e *Engine) resume(ctx context.Context, c store.Commit) (*run, error) {
	var workers []*deviceWorker
	for i, p := range c.Parts {
		dev, err := e.store.DeviceByID(ctx, store.Everything, p.Device)
		if err != nil {
			return nil, err
		}
		h := &deviceWorker{place: i, name: dev.Name, device: dev.ID, persist: p.Persist}
		h.movesTo, _, _ = strings.Cut(dev.MovingTo, " ")
		if p.Base != "" {
			if err := e.remember(ctx, h, dev, p); err != nil {
				// Its device is looked after all the same: it may revert by itself.
				h.damaged = fmt.Errorf(
					"its former configuration, or what was to be, cannot be read from the records (%w): put right by "+
						"hand what it holds, from a copy in an archive",
					err,
				)
				e.slog.Error(
					"what is to be put back on a device cannot be read", "change", c.Change, "device", dev.Name,
					"error", err,
				)
			}
		}
		workers = append(workers, h)
	}
	events, err := e.store.JournalOf(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	c.State = guard.New(c.Plan)
	for _, ev := range events {
		c.State, _ = guard.Step(c.State, ev)
	}
	return newRun(e, c, workers), nil
}

// remember reads what a device held before a commit, and what that makes of it.
func (e *Engine) remember(ctx context.Context, h *deviceWorker, dev store.Device, p store.CommitPart) error {
	s, err := e.fleet.Schema(ctx, dev)
	if err != nil {
		return err
	}
	if h.base, err = e.history.Tree(ctx, s, p.Base); err != nil {
		return err
	}
	h.result, err = e.history.Tree(ctx, s, p.Result)
	h.schema = s
	return err
}

// JournalTime is how long the writing of journals took, since the start.
func (e *Engine) JournalTime() time.Duration { return time.Duration(e.journalTime.Load()) }

// Last gives how a change's newest commit stands, running or over, and every
// step it went through.
func (e *Engine) Last(ctx context.Context, change int64) (guard.State, []guard.Event, error) {
	c, err := e.store.LastCommit(ctx, change)
	if err != nil {
		return c.State, nil, err
	}
	steps, err := e.store.JournalOf(ctx, c.ID)
	return c.State, steps, err
}
