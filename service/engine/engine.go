// Package engine brings changes onto devices: it performs the actions of
// core/guard, journals every event before acting on it, keeps the time, and
// after a crash goes on from what the devices say.
package engine

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"oakenlatch/core/guard"
	"oakenlatch/core/ledger"
	"oakenlatch/core/tree"
	"oakenlatch/service/audit"
	"oakenlatch/service/fleet"
	"oakenlatch/service/history"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// Limits of a hold.
const (
	MinHold = 10 * time.Second
	MaxHold = 7 * 24 * time.Hour
)

// Engine runs commits.
type Engine struct {
	store   *store.Store
	log     *audit.Log
	fleet   *fleet.Fleet
	history *history.History
	slog    *slog.Logger

	ctx  context.Context
	stop context.CancelFunc
	wg   sync.WaitGroup

	mu   sync.Mutex
	runs map[int64]*run // by change
	busy map[int64]*run // by device
}

// New gives an engine; Recover must be called before it is used.
func New(s *store.Store, log *audit.Log, f *fleet.Fleet, h *history.History, logger *slog.Logger) *Engine {
	e := &Engine{store: s, log: log, fleet: f, history: h, slog: logger, runs: map[int64]*run{}, busy: map[int64]*run{}}
	e.ctx, e.stop = context.WithCancel(context.Background())
	return e
}

// Stop ends the engine's work at once. Commits under way go on when the
// service starts again; until then the devices guard themselves.
func (e *Engine) Stop() {
	e.stop()
	e.wg.Wait()
}

// Work is what is to be committed on one device: what the part started from,
// and that with its edits.
type Work struct {
	Device       store.Device
	Former, Mine *tree.Node
}

// Commit starts to bring a change onto its devices, on hold. It returns once
// the start is on record; [Engine.Status] follows it.
func (e *Engine) Commit(ctx context.Context, actor string, change int64, hold time.Duration, works []Work) error {
	if hold < MinHold || hold > MaxHold {
		return refusal.New(refusal.Invalid, "give it like --hold 10m", "a hold lasts from %s to %d days, not %s", MinHold, MaxHold/(24*time.Hour), hold)
	}
	if len(works) == 0 {
		return refusal.New(refusal.Invalid, fmt.Sprintf("stage something with: latch put %d DEVICE PATH VALUE", change), "change %d is empty", change)
	}
	for _, w := range works {
		if kind, why := fleet.Guard(w.Device.Capabilities); kind != "device" {
			return refusal.New(refusal.Conflict, "only devices with their own confirmed commit can be changed by this version", "%s cannot go back by itself: %s", w.Device.Name, why)
		}
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.runs[change].active() {
		return refusal.New(refusal.Conflict, fmt.Sprintf("follow it with: latch watch %d", change), "change %d is being committed already", change)
	}
	for _, w := range works {
		if other := e.busy[w.Device.ID]; other.active() {
			return refusal.New(refusal.Conflict, fmt.Sprintf("wait until it is decided, then preview change %d again", change),
				"%s is held by the commit of change %d, which is not decided yet", w.Device.Name, other.commit.Change)
		}
	}
	r, err := e.begin(ctx, actor, change, hold, works)
	if err != nil {
		return err
	}
	e.launch(r, guard.Event{Kind: guard.Start, At: e.log.Now(), By: actor})
	return nil
}

// begin records a commit that is about to start.
func (e *Engine) begin(ctx context.Context, actor string, change int64, hold time.Duration, works []Work) (*run, error) {
	c := store.Commit{Change: change, Actor: actor, Hold: hold, Started: e.log.Now()}
	var names []string
	var hands []*hand
	for i, w := range works {
		names = append(names, w.Device.Name)
		p := store.CommitPart{Device: w.Device.ID, Persist: "ol-" + rand.Text()}
		c.Parts = append(c.Parts, p)
		hands = append(hands, &hand{place: i, name: w.Device.Name, device: w.Device.ID, persist: p.Persist, former: w.Former, mine: w.Mine})
	}
	c.State = guard.New(names, hold)
	err := e.log.Write(ctx, func(tx *audit.Tx) error {
		now, err := tx.Change(change)
		if err != nil {
			return err
		}
		switch now.State {
		case "draft", "failed", "reverted":
		default:
			return refusal.New(refusal.Conflict, "", "change %d is %s and cannot be committed", change, now.State)
		}
		if c, err = tx.AddCommit(c); err != nil {
			return err
		}
		if err := tx.SetState(change, "applying", "", c.Started); err != nil {
			return err
		}
		return tx.Record(ledger.Entry{Actor: actor, Action: "commit.start", Change: change, Note: fmt.Sprintf("on hold for %s", hold)})
	})
	if err != nil {
		return nil, err
	}
	return newRun(e, c, hands), nil
}

// launch starts a run's loop with its first event; e.mu is held.
func (e *Engine) launch(r *run, first guard.Event) {
	e.runs[r.commit.Change] = r
	for _, h := range r.hands {
		e.busy[h.device] = r
	}
	e.wg.Go(func() {
		r.loop(first)
		e.mu.Lock()
		defer e.mu.Unlock()
		if e.runs[r.commit.Change] == r { // it may have been committed again already
			delete(e.runs, r.commit.Change)
		}
		for _, h := range r.hands {
			if e.busy[h.device] == r {
				delete(e.busy, h.device)
			}
		}
	})
}

// Say gives a running commit a person's word, guard.SayConfirm or
// guard.SayRevert. The error says why it was not taken.
func (e *Engine) Say(ctx context.Context, change int64, kind guard.EventKind, by string) error {
	e.mu.Lock()
	r := e.runs[change]
	e.mu.Unlock()
	if r == nil {
		return e.over(ctx, change)
	}
	answer := make(chan error, 1)
	select {
	case r.events <- said{ev: guard.Event{Kind: kind, At: e.log.Now(), By: by}, answer: answer}:
	case <-r.over:
		return e.over(ctx, change)
	case <-ctx.Done():
		return ctx.Err()
	}
	select {
	case err := <-answer:
		var no *guard.Refused
		if errors.As(err, &no) {
			return refusal.New(refusal.Conflict, fmt.Sprintf("see where it stands with: latch show %d", change), "change %d: %s", change, no.Why)
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
	if c.State == "draft" {
		return refusal.New(refusal.Conflict, fmt.Sprintf("commit it first: latch commit %d --hold 10m", change), "change %d has not been committed", change)
	}
	why := ""
	if c.Reason != "" {
		why = ": " + c.Reason
	}
	return refusal.New(refusal.Conflict, "", "change %d is already %s since %s%s", change, c.State, c.Updated.Format(time.RFC3339), why)
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
	}
	return nil
}

func (e *Engine) resume(ctx context.Context, c store.Commit) (*run, error) {
	var names []string
	var hands []*hand
	for i, p := range c.Parts {
		dev, err := e.store.DeviceByID(ctx, p.Device)
		if err != nil {
			return nil, err
		}
		h := &hand{place: i, name: dev.Name, device: dev.ID, persist: p.Persist}
		if p.Base != "" {
			s, err := e.fleet.Schema(ctx, dev)
			if err != nil {
				return nil, err
			}
			if h.base, err = e.history.Tree(ctx, s, p.Base); err != nil {
				return nil, err
			}
			if h.result, err = e.history.Tree(ctx, s, p.Result); err != nil {
				return nil, err
			}
		}
		names = append(names, dev.Name)
		hands = append(hands, h)
	}
	events, err := e.store.JournalOf(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	c.State = guard.New(names, c.Hold)
	for _, ev := range events {
		c.State, _ = guard.Step(c.State, ev)
	}
	return newRun(e, c, hands), nil
}

// Holder gives the change whose commit is under way on a device, 0 if none.
func (e *Engine) Holder(device int64) int64 {
	e.mu.Lock()
	defer e.mu.Unlock()
	if r := e.busy[device]; r.active() {
		return r.commit.Change
	}
	return 0
}
