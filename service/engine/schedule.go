package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"oakenlatch/core/ledger"
	"oakenlatch/service/audit"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// Limits of the schedule.
const (
	MaxForward  = 366 * 24 * time.Hour
	MaxLateness = 24 * time.Hour
)

// When says when something is to be done, and how late at most.
type When struct {
	At       time.Time
	Zone     string // the person's, for showing it again
	Lateness time.Duration
}

func (e *Engine) checkWhen(w When) error {
	now := e.log.Now()
	switch {
	case !w.At.After(now):
		return refusal.New(refusal.Invalid, "give a time to come, with its zone", "%s is past, it is %s now", w.At.Format(time.RFC3339), now.Format(time.RFC3339))
	case w.At.Sub(now) > MaxForward:
		return refusal.New(refusal.Invalid, "", "%s is more than a year ahead", w.At.Format(time.RFC3339))
	case w.Lateness < 0 || w.Lateness > MaxLateness:
		return refusal.New(refusal.Invalid, "", "it may be begun up to %s late, not %s", MaxLateness, w.Lateness)
	}
	return nil
}

// Schedule puts a change's commit on the schedule. It is begun at its time as
// if its author said so then: on hold, by the same rules.
func (e *Engine) Schedule(ctx context.Context, actor string, change int64, order Order, w When, works []Work) (store.Scheduled, error) {
	v := store.Scheduled{Kind: "commit", Change: change, At: w.At, Zone: w.Zone, Lateness: w.Lateness, Actor: actor, Made: e.log.Now()}
	if err := e.checkWhen(w); err != nil {
		return v, err
	}
	if order.Ahead != 0 {
		return v, refusal.New(refusal.Invalid, "prepare it when its hour comes", "what is scheduled cannot stay prepared until then")
	}
	plan, err := e.plan(ctx, change, order, works)
	if err != nil {
		return v, err
	}
	text, err := json.Marshal(order)
	if err != nil {
		return v, err
	}
	v.Orders = string(text)
	err = e.log.Write(ctx, func(tx *audit.Tx) error {
		now, err := tx.Change(change)
		if err != nil {
			return err
		}
		switch now.State {
		case "draft", "failed", "reverted":
		default:
			return refusal.New(refusal.Conflict, "", "change %d is %s and cannot be scheduled", change, now.State)
		}
		if v, err = tx.AddScheduled(v); err != nil {
			return err
		}
		if err := tx.SetState(change, "scheduled", "", v.Made); err != nil {
			return err
		}
		return tx.Record(ledger.Entry{Actor: actor, Action: "schedule.commit", Change: change, After: w.At.UTC().Format(time.RFC3339), Note: w.Zone + "; " + orders(plan)})
	})
	e.wake()
	return v, err
}

// ScheduleRestart puts a device's restart on the schedule.
func (e *Engine) ScheduleRestart(ctx context.Context, actor string, d store.Device, w When) (store.Scheduled, error) {
	v := store.Scheduled{Kind: "restart", Device: d.ID, At: w.At, Zone: w.Zone, Lateness: w.Lateness, Actor: actor, Made: e.log.Now()}
	if err := e.checkWhen(w); err != nil {
		return v, err
	}
	err := e.log.Write(ctx, func(tx *audit.Tx) (err error) {
		if v, err = tx.AddScheduled(v); err != nil {
			return err
		}
		return tx.Record(ledger.Entry{Actor: actor, Action: "schedule.restart", Device: d.Name, After: w.At.UTC().Format(time.RFC3339), Note: w.Zone})
	})
	e.wake()
	return v, err
}

// Unschedule takes something off the schedule; its change is a draft again.
func (e *Engine) Unschedule(ctx context.Context, actor string, v store.Scheduled) error {
	err := e.end(ctx, actor, v, "cancelled", "cancelled by "+actor)
	if errors.Is(err, store.ErrNotFound) {
		return refusal.New(refusal.Conflict, "see latch schedule", "number %d does not wait on the schedule any more", v.ID)
	}
	return err
}

// end takes something off the schedule without having done it.
func (e *Engine) end(ctx context.Context, actor string, v store.Scheduled, state, note string) error {
	entry := ledger.Entry{Actor: actor, Action: "schedule." + state, Change: v.Change, Before: v.At.UTC().Format(time.RFC3339), Note: note}
	if v.Kind == "restart" {
		d, err := e.store.DeviceByID(ctx, store.Everything, v.Device)
		if err != nil {
			return err
		}
		entry.Device = d.Name
	}
	return e.log.Write(ctx, func(tx *audit.Tx) error {
		if err := tx.EndScheduled(v.ID, state, note, e.log.Now()); err != nil {
			return err
		}
		if v.Kind == "commit" {
			reason := ""
			if state != "cancelled" {
				reason = note
			}
			if err := tx.SetState(v.Change, "draft", reason, e.log.Now()); err != nil {
				return err
			}
		}
		return tx.Record(entry)
	})
}

func (e *Engine) wake() {
	select {
	case e.woken <- struct{}{}:
	default:
	}
}

// keepSchedule begins what is due, until the engine stops. The clock may be
// set meanwhile, so it looks often. Each is begun by itself: one that has to
// wait for a slow device delays no other.
func (e *Engine) keepSchedule() {
	const often = 10 * time.Second
	since := e.log.Now()
	var mu sync.Mutex
	under := map[int64]bool{} // being begun
	for {
		wait := often
		list, err := e.store.Waiting(e.ctx)
		if err != nil && e.ctx.Err() == nil {
			e.slog.Error("the schedule cannot be read; trying again", "error", err)
		}
		for _, v := range list {
			left := v.At.Sub(e.log.Now())
			if left > 0 {
				wait = min(wait, left)
				break
			}
			mu.Lock()
			begun := under[v.ID]
			under[v.ID] = true
			mu.Unlock()
			if begun {
				continue
			}
			e.wg.Go(func() {
				e.due(v, since)
				mu.Lock()
				defer mu.Unlock()
				delete(under, v.ID)
			})
		}
		select {
		case <-e.ctx.Done():
			return
		case <-e.woken:
		case <-time.After(max(wait, 10*time.Millisecond)):
		}
	}
}

// punctual is how late a service that was there may come to it: a busy machine
// is not one that was down.
const punctual = 5 * time.Second

// due begins something whose time has come, unless that is too long ago. since
// is from when on the schedule is kept.
func (e *Engine) due(v store.Scheduled, since time.Time) {
	late := e.log.Now().Sub(v.At).Round(time.Second)
	allowed := v.Lateness
	if v.At.After(since) {
		allowed = max(allowed, punctual)
	}
	var err error
	if late > allowed {
		err = e.end(e.ctx, audit.Service, v, "missed", fmt.Sprintf("missed: it was due at %s, and the service came to it %s late, which is more than the %s allowed; nothing was done",
			v.At.UTC().Format(time.RFC3339), late, v.Lateness))
	} else if why := e.beginDue(v); why != nil && e.ctx.Err() == nil {
		err = e.end(e.ctx, audit.Service, v, "stopped", "not begun: "+why.Error())
	}
	if err != nil && !errors.Is(err, store.ErrNotFound) && e.ctx.Err() == nil {
		e.slog.Error("the schedule cannot be written; trying again", "id", v.ID, "error", err)
	}
}

func (e *Engine) beginDue(v store.Scheduled) error {
	if v.Kind == "restart" {
		d, err := e.store.DeviceByID(e.ctx, store.Everything, v.Device)
		if err != nil {
			return err
		}
		return e.restart(e.ctx, v.Actor, d, v.ID)
	}
	var order Order
	if err := json.Unmarshal([]byte(v.Orders), &order); err != nil {
		return err
	}
	works, err := e.Due(e.ctx, v.Change, v.Actor, order)
	if err != nil {
		return err
	}
	return e.commit(e.ctx, v.Actor, v.Change, order, works, v.ID)
}
