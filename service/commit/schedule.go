package commit

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"oakenlatch/core/advice"
	"oakenlatch/core/ledger"
	"oakenlatch/core/lifecycle"
	"oakenlatch/service/access"
	"oakenlatch/service/audit"
	"oakenlatch/service/engine"
	"oakenlatch/service/order"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// Limits of the schedule.
const (
	MaxForward  = 366 * 24 * time.Hour
	MaxLateness = 24 * time.Hour
)

func (c *Commits) checkWhen(w order.When) error {
	now := c.log.Now()
	switch {
	case !w.At.After(now):
		return refusal.New(
			refusal.Invalid, "give a time to come, with its zone", "%s is past, it is %s now",
			w.At.Format(time.RFC3339), now.Format(time.RFC3339),
		)
	case w.At.Sub(now) > MaxForward:
		return refusal.New(refusal.Invalid, "", "%s is more than a year ahead", w.At.Format(time.RFC3339))
	case w.Lateness < 0 || w.Lateness > MaxLateness:
		return refusal.New(refusal.Invalid, "", "it may be begun up to %s late, not %s", MaxLateness, w.Lateness)
	}
	return nil
}

// Schedule puts a change's commit on the schedule, once it was found that it could be committed now;
// it gives the devices that it is about. It is begun at its time as if its author said so then: on hold,
// by the same rules.
func (c *Commits) Schedule(
	ctx context.Context, p access.Person, number int64, o order.Order, w order.When,
) (store.Scheduled, []store.Device, error) {
	v := store.Scheduled{
		Kind: lifecycle.ScheduledCommit, Change: number, At: w.At, Zone: w.Zone, Lateness: w.Lateness, Actor: p.Name,
		Made: c.log.Now(),
	}
	ch, err := c.desk.Own(ctx, p, number)
	if err != nil {
		return v, nil, err
	}
	if err := c.checkWhen(w); err != nil { // before devices are read for it, which takes a moment
		return v, nil, err
	}
	o.Emergency = "" // an emergency does not wait
	ready, err := c.desk.Ready(ctx, p.Reach(), ch.Number, p.Name, o)
	if err != nil {
		return v, nil, err
	}
	if ready.Works[0].Exact {
		o.Preview = ready.Digest // what the person was shown is what is committed then, or nothing
	}
	if o.Ahead != 0 {
		return v, nil, refusal.New(
			refusal.Invalid, "prepare it when its hour comes", "what is scheduled cannot stay prepared until then",
		)
	}
	plan, err := c.engine.Plan(ctx, number, o, ready.Works)
	if err != nil {
		return v, nil, err
	}
	text, err := json.Marshal(o)
	if err != nil {
		return v, nil, err
	}
	v.Orders = string(text)
	err = c.log.Write(ctx, func(tx *audit.Tx) error {
		if err := c.checkWhen(w); err != nil { // it may have passed while devices were read
			return err
		}
		now, err := tx.Change(number)
		if err != nil {
			return err
		}
		if !now.State.Open() {
			return refusal.New(refusal.Conflict, "", "change %d is %s and cannot be scheduled", number, now.State)
		}
		if v, err = tx.AddScheduled(v); err != nil {
			return err
		}
		if err := tx.SetState(number, lifecycle.Scheduled, "", v.Made); err != nil {
			return err
		}
		return tx.Record(
			ledger.Entry{
				Actor: p.Name, Action: "schedule.commit", Change: number, After: w.At.UTC().Format(time.RFC3339),
				Note: w.Zone + "; " + engine.PlanText(plan),
			},
		)
	})
	c.wake()
	devices := make([]store.Device, len(ready.Works))
	for i, work := range ready.Works {
		devices[i] = work.Device
	}
	return v, devices, err
}

// ScheduleRestart puts a device's restart on the schedule.
func (c *Commits) ScheduleRestart(
	ctx context.Context, actor string, d store.Device, w order.When,
) (store.Scheduled, error) {
	v := store.Scheduled{
		Kind: lifecycle.ScheduledRestart, Device: d.ID, At: w.At, Zone: w.Zone, Lateness: w.Lateness, Actor: actor,
		Made: c.log.Now(),
	}
	if err := c.checkWhen(w); err != nil {
		return v, err
	}
	err := c.log.Write(ctx, func(tx *audit.Tx) (err error) {
		if v, err = tx.AddScheduled(v); err != nil {
			return err
		}
		return tx.Record(
			ledger.Entry{
				Actor: actor, Action: "schedule.restart", Device: d.Name, After: w.At.UTC().Format(time.RFC3339),
				Note: w.Zone,
			},
		)
	})
	c.wake()
	return v, err
}

// Unschedule takes something off the schedule; its change is a draft again.
func (c *Commits) Unschedule(ctx context.Context, p access.Person, id int64) error {
	v, err := c.store.Scheduled(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return refusal.New(
			refusal.NotFound, "see what waits", "there is no number %d on the schedule", id,
		).Do(advice.ShowSchedule)
	}
	if err != nil {
		return err
	}
	owner := v.Actor
	if v.Kind == lifecycle.ScheduledCommit {
		ch, err := c.desk.Get(ctx, p, v.Change)
		if err != nil {
			return err
		}
		owner = ch.Author
	}
	if owner != p.Name && !p.Administers() {
		return refusal.New(
			refusal.Forbidden, "ask them, or an administrator", "number %d was put on the schedule by %s", id, owner,
		)
	}
	err = c.end(ctx, p.Name, v, lifecycle.Cancelled, "cancelled by "+p.Name)
	if errors.Is(err, store.ErrNotFound) {
		return refusal.New(
			refusal.Conflict, "see what waits", "number %d does not wait on the schedule any more", v.ID,
		).Do(advice.ShowSchedule)
	}
	return err
}

// end takes something off the schedule without having done it.
func (c *Commits) end(
	ctx context.Context, actor string, v store.Scheduled, state lifecycle.ScheduledState, note string,
) error {
	entry := ledger.Entry{
		Actor: actor, Action: "schedule." + string(state), Change: v.Change, Before: v.At.UTC().Format(time.RFC3339),
		Note: note,
	}
	if v.Kind == lifecycle.ScheduledRestart {
		d, err := c.store.DeviceByID(ctx, store.Everything, v.Device)
		if err != nil {
			return err
		}
		entry.Device = d.Name
	}
	return c.log.Write(ctx, func(tx *audit.Tx) error {
		if err := tx.EndScheduled(v.ID, state, note, c.log.Now()); err != nil {
			return err
		}
		if v.Kind == lifecycle.ScheduledCommit {
			reason := ""
			if state != lifecycle.Cancelled {
				reason = note
			}
			if err := tx.SetState(v.Change, lifecycle.Draft, reason, c.log.Now()); err != nil {
				return err
			}
		}
		return tx.Record(entry)
	})
}

func (c *Commits) wake() {
	select {
	case c.woken <- struct{}{}:
	default:
	}
}

// keepSchedule begins what is due, until Stop. The clock may be
// set meanwhile, so it looks often. Each is begun by itself: one that has to
// wait for a slow device delays no other.
func (c *Commits) keepSchedule() {
	const often = 10 * time.Second
	since := c.log.Now()
	var mu sync.Mutex
	under := map[int64]bool{} // being begun
	for {
		wait := often
		list, err := c.store.Waiting(c.ctx)
		if err != nil && c.ctx.Err() == nil {
			c.logger.Error("the schedule cannot be read; trying again", "error", err)
		}
		for _, v := range list {
			left := v.At.Sub(c.log.Now())
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
			c.wg.Go(func() {
				c.begin(v, since)
				mu.Lock()
				defer mu.Unlock()
				delete(under, v.ID)
			})
		}
		select {
		case <-c.ctx.Done():
			return
		case <-c.woken:
		case <-time.After(max(wait, 10*time.Millisecond)):
		}
	}
}

// punctual is how late a service that was there may come to it: a busy machine
// is not one that was down.
const punctual = 5 * time.Second

// begin begins something whose time has come, unless that is too long ago. since
// is from when on the schedule is kept.
func (c *Commits) begin(v store.Scheduled, since time.Time) {
	late := c.log.Now().Sub(v.At).Round(time.Second)
	allowed := v.Lateness
	if v.At.After(since) {
		allowed = max(allowed, punctual)
	}
	var err error
	if late > allowed {
		err = c.end(c.ctx, audit.Service, v, lifecycle.Missed, fmt.Sprintf(
			"missed: it was due at %s, and the service came to it %s late, which is more than the %s allowed; "+
				"nothing was done",
			v.At.UTC().Format(time.RFC3339), late, v.Lateness,
		))
	} else if why := c.beginNow(v); why != nil && c.ctx.Err() == nil {
		err = c.end(c.ctx, audit.Service, v, lifecycle.Stopped, "not begun: "+why.Error())
	}
	if err != nil && !errors.Is(err, store.ErrNotFound) && c.ctx.Err() == nil {
		c.logger.Error("the schedule cannot be written; trying again", "id", v.ID, "error", err)
	}
}

func (c *Commits) beginNow(v store.Scheduled) error {
	if v.Kind == lifecycle.ScheduledRestart {
		d, err := c.store.DeviceByID(c.ctx, store.Everything, v.Device)
		if err != nil {
			return err
		}
		return c.engine.Restart(c.ctx, v.Actor, d, v.ID)
	}
	var o order.Order
	if err := json.Unmarshal([]byte(v.Orders), &o); err != nil {
		return err
	}
	if err := c.accounts.StillMay(c.ctx, v.Actor, access.Commit, v.Change); err != nil {
		return err
	}
	ready, err := c.desk.Ready(c.ctx, store.Everything, v.Change, v.Actor, o)
	if err != nil {
		return err
	}
	return c.engine.Begin(
		c.ctx, order.Start{Actor: v.Actor, Change: v.Change, Order: o, Works: ready.Works, Scheduled: v.ID},
	)
}
