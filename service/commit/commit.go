// Package commit is what a person does with a change that is to go onto its devices: may they, is it
// ready, commit it, put it on the schedule, confirm it, move its end, take it back, leave a device as it
// is. It stands above the desk, which knows whether a change is ready, and the engine, which carries it
// out; whatever commits, a person's request or the schedule, comes through here.
package commit

import (
	"context"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"oakenlatch/core/guard"
	"oakenlatch/service/access"
	"oakenlatch/service/audit"
	"oakenlatch/service/desk"
	"oakenlatch/service/engine"
	"oakenlatch/service/order"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// Commits commits changes, and keeps the schedule.
type Commits struct {
	store    *store.Store
	log      *audit.Log
	accounts *access.Accounts
	desk     *desk.Desk
	engine   *engine.Engine
	logger   *slog.Logger

	ctx   context.Context
	stop  context.CancelFunc
	wg    sync.WaitGroup
	woken chan struct{} // the schedule was changed
}

// New gives the commits over a desk and an engine.
func New(
	s *store.Store, log *audit.Log, a *access.Accounts, d *desk.Desk, e *engine.Engine, logger *slog.Logger,
) *Commits {
	c := &Commits{store: s, log: log, accounts: a, desk: d, engine: e, logger: logger, woken: make(chan struct{}, 1)}
	c.ctx, c.stop = context.WithCancel(context.Background())
	return c
}

// Run begins to keep the schedule, until Stop.
func (c *Commits) Run() { c.wg.Go(c.keepSchedule) }

// Stop ends that, and waits until what it was beginning is begun or not.
func (c *Commits) Stop() {
	c.stop()
	c.wg.Wait()
}

// Session is what a person asks by: some of what is asked needs a second factor shown in it a moment ago.
type Session struct {
	Token string
	Site  access.Site
}

// mostReason is how long the reason of an emergency may be, in bytes.
const mostReason = 500

// Commit brings a change onto its devices, on hold. It returns once the start is on record.
func (c *Commits) Commit(ctx context.Context, p access.Person, s Session, number int64, o order.Order) error {
	ch, err := c.desk.Own(ctx, p, number)
	if err != nil {
		return err
	}
	devices, err := c.store.ChangeDevices(ctx, p.Reach(), ch.Number)
	if err == nil {
		err = c.engine.Free(ch.Number, devices) // before devices are read for nothing
	}
	if err != nil {
		return err
	}
	o.Emergency = strings.TrimSpace(o.Emergency)
	if utf8.RuneCountInString(o.Emergency) > mostReason {
		return refusal.New(refusal.Invalid, "", "the reason of an emergency has at most %d characters", mostReason)
	}
	ready, err := c.desk.Ready(ctx, p.Reach(), ch.Number, p.Name, o)
	if err != nil {
		return err
	}
	start := order.Start{Actor: p.Name, Change: ch.Number, Order: o, Works: ready.Works}
	if ready.Unapproved {
		if err := c.accounts.Fresh(ctx, p, s.Token, s.Site); err != nil {
			return err
		}
		start.Unapproved = &store.Emergency{
			Change: ch.Number, Actor: p.Name, Reason: o.Emergency, Digest: ready.Digest, At: c.log.Now(),
		}
	}
	return c.engine.Begin(ctx, start)
}

// Decidable gives a change whose commit a person may decide: as its author, as somebody the author
// added, or as an administrator.
func (c *Commits) Decidable(ctx context.Context, p access.Person, number int64) (store.Change, error) {
	ch, err := c.desk.Get(ctx, p, number)
	if err != nil || ch.Author == p.Name || p.Administers() {
		return ch, err
	}
	coworkers, err := c.store.Coworkers(ctx, ch.Number)
	if err == nil && !slices.Contains(coworkers, p.Name) {
		err = refusal.New(
			refusal.Forbidden, "ask them, or an administrator",
			"change %d belongs to %s, who alone can decide it, with those they added", ch.Number, ch.Author,
		)
	}
	return ch, err
}

// Begin commits what was prepared ahead.
func (c *Commits) Begin(ctx context.Context, p access.Person, number int64) error {
	ch, err := c.Decidable(ctx, p, number)
	if err != nil {
		return err
	}
	return c.engine.Say(ctx, ch.Number, guard.Event{Kind: guard.SayCommit, By: p.Name})
}

// Confirm keeps what is on hold; it returns once that is decided. despite keeps it where its probes fail.
func (c *Commits) Confirm(ctx context.Context, p access.Person, number int64, despite bool) error {
	ch, err := c.Decidable(ctx, p, number)
	if err != nil {
		return err
	}
	return c.say(ctx, ch, guard.Event{Kind: guard.SayConfirm, Despite: despite, By: p.Name}, func(s guard.State) bool {
		return s.Phase != guard.Asking && s.Phase != guard.ConfirmingAll && s.Phase != guard.Settling
	})
}

// Revert reverts now; it returns once every device is seen to have reverted, or does not let itself be
// reverted.
func (c *Commits) Revert(ctx context.Context, p access.Person, number int64) error {
	ch, err := c.Decidable(ctx, p, number)
	if err != nil {
		return err
	}
	if s, _, running := c.engine.Status(ch.Number); running && s.Phase == guard.Reverting {
		return nil // that is being done: how it stands is the answer
	}
	return c.say(ctx, ch, guard.Event{Kind: guard.SayRevert, By: p.Name}, func(s guard.State) bool {
		return s.Phase == guard.Done || slices.ContainsFunc(s.Devices, guard.Device.Stuck)
	})
}

// Extend moves the end of a hold: to a time, or where add is not 0 by so much.
func (c *Commits) Extend(ctx context.Context, p access.Person, number int64, until time.Time, add time.Duration) error {
	ch, err := c.Decidable(ctx, p, number)
	if err != nil {
		return err
	}
	if (add == 0) == until.IsZero() {
		return refusal.New(
			refusal.Invalid, "give addSeconds or until", "when the hold is to end is not said, or said twice",
		)
	}
	if add != 0 {
		if s, _, running := c.engine.Status(ch.Number); running && !s.Deadline.IsZero() {
			until = s.Deadline.Add(add)
		}
	}
	word := guard.Event{Kind: guard.SayUntil, Until: until.UTC(), By: p.Name}
	return c.say(ctx, ch, word, func(s guard.State) bool { return s.NewDeadline.IsZero() })
}

// Leave settles a device that holds neither configuration: it stays as it is.
func (c *Commits) Accept(ctx context.Context, p access.Person, number int64, device string) error {
	ch, err := c.Decidable(ctx, p, number)
	if err != nil {
		return err
	}
	s, _, _ := c.engine.Status(ch.Number)
	for i, d := range s.Devices {
		if d.Name == device {
			return c.say(
				ctx, ch, guard.Event{Kind: guard.SayAccept, Device: i, By: p.Name},
				func(guard.State) bool { return true },
			)
		}
	}
	return refusal.New(refusal.NotFound, "", "no commit of change %d is under way on %q", ch.Number, device)
}

// sayTimeout is how long a person's word waits for what comes of it; what is still
// under way then is told as that.
const sayTimeout = 20 * time.Second

// say gives a commit a person's word and waits until it is decided.
func (c *Commits) say(ctx context.Context, ch store.Change, word guard.Event, decided func(guard.State) bool) error {
	if err := c.engine.Say(ctx, ch.Number, word); err != nil {
		return err
	}
	timeout := time.After(sayTimeout)
	for {
		s, changed, running := c.engine.Status(ch.Number)
		if !running || decided(s) {
			if running && s.Phase == guard.Awaiting {
				return notDone(ch.Number, word, s)
			}
			return nil
		}
		select {
		case <-changed:
		case <-timeout:
			return nil
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// notDone says that a word was not carried out because a device did not take
// part, and the hold goes on as it was; nil where it was.
func notDone(number int64, word guard.Event, s guard.State) error {
	var why []string
	for _, d := range s.Devices {
		if d.Unreachable || d.Said != "" {
			why = append(why, d.Name+": "+d.Said)
		}
	}
	told := strings.Join(why, "; ")
	until := s.Deadline.UTC().Format(time.RFC3339)
	switch {
	case word.Kind == guard.SayConfirm:
		return refusal.New(refusal.Conflict, fmt.Sprintf("fix that and confirm again before %s, or revert", until),
			"change %d was confirmed nowhere and is still on hold: %s", number, told)
	case word.Kind == guard.SayUntil && s.Deadline.Before(word.Until):
		return refusal.New(refusal.Conflict, "", "the hold of change %d ends at %s as before: %s", number, until, told)
	}
	return nil
}

// Unsettled reads the devices of a change that was under way when the backup was taken that the
// records come from.
func (c *Commits) Unsettled(ctx context.Context, p access.Person, number int64) ([]engine.Unsettled, error) {
	ch, err := c.Decidable(ctx, p, number)
	if err != nil {
		return nil, err
	}
	return c.engine.Unsettled(ctx, ch)
}

// Settle records such devices as they are found to be; none is all that are not settled.
func (c *Commits) Settle(ctx context.Context, p access.Person, number int64, devices []string) error {
	ch, err := c.Decidable(ctx, p, number)
	if err != nil {
		return err
	}
	return c.engine.Settle(ctx, p.Name, ch, devices)
}
