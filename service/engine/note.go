package engine

import (
	"context"
	"fmt"
	"slices"
	"time"

	"oakenlatch/core/guard"
	"oakenlatch/service/folder"
	"oakenlatch/service/order"
	"oakenlatch/service/store"
)

// noted records a commit that is about to start, and notes it beside the records before.
func (e *Engine) noted(ctx context.Context, start order.Start, started time.Time, plan guard.Plan) (*run, error) {
	if e.opt.Notes == nil {
		return e.begin(ctx, start, started, plan)
	}
	c, err := e.store.Change(ctx, start.Change)
	if err != nil {
		return nil, err
	}
	entries, err := e.store.LedgerLength(ctx)
	if err != nil {
		return nil, err
	}
	note := folder.Hold{
		Change: start.Change, Title: c.Title, By: start.Actor, Began: started,
		Until: started.Add(plan.Ahead + plan.Hold), Entries: entries,
	}
	for i, w := range start.Works {
		note.Devices = append(
			note.Devices,
			folder.HeldDevice{
				Name: w.Device.Name, Address: w.Device.Address, Guard: takenBackBy[plan.Devices[i].Keeper],
			},
		)
	}
	if err := e.opt.Notes.Add(note); err != nil {
		return nil, fmt.Errorf(
			"nothing new is begun: what is to be on hold cannot be noted beside the records: %w", err,
		)
	}
	r, err := e.begin(ctx, start, started, plan)
	if err != nil {
		e.unnote(start.Change, started)
	}
	return r, err
}

// reached notes how far the records reach, before something is put into effect for the first
// time. Where that cannot be noted the commit goes on: it is on record.
func (e *Engine) reached(change int64, began time.Time) {
	if e.opt.Notes == nil {
		return
	}
	done := make(chan error, 1)
	go func() {
		entries, err := e.store.LedgerLength(e.ctx)
		if err == nil {
			err = e.opt.Notes.Reached(change, began, entries)
		}
		done <- err
	}()
	var err error
	select {
	case err = <-done:
	case <-e.store.Late():
		err = store.ErrSlow
	}
	if err != nil {
		e.slog.Error("how far the records reach could not be noted beside them", "change", change, "error", err)
	}
}

// unnote forgets what was noted beside the records.
func (e *Engine) unnote(change int64, began time.Time) {
	if e.opt.Notes == nil {
		return
	}
	if err := e.opt.Notes.Drop(change, began); err != nil {
		e.slog.Error("that a commit is over could not be noted beside the records", "change", change, "error", err)
	}
}

// unknown finds what is noted beside the records as on hold and is not in them: they are older
// than they should be. What they say is over is taken off the notes.
func (e *Engine) unknown(ctx context.Context) {
	if e.opt.Notes == nil {
		return
	}
	lost, err := e.opt.Notes.Unknown(func(h folder.Hold) (over, lost bool) {
		list, err := e.store.Commits(ctx, store.CommitQuery{Change: h.Change, Limit: 1000})
		if err != nil {
			return false, h.Lost
		}
		i := slices.IndexFunc(list, func(c store.Commit) bool { return c.Started.Equal(h.Began) })
		return i >= 0 && !list[i].Ended.IsZero(), i < 0
	})
	if err != nil {
		e.slog.Error("what is on hold could not be noted beside the records", "error", err)
	}
	for _, h := range lost {
		e.slog.Error(
			"the records know nothing of a hold that was under way: look at its devices, and settle it",
			"hold", h.String(),
		)
	}
}
