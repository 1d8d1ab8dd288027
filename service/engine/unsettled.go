package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"oakenlatch/core/advice"
	"oakenlatch/core/diff"
	"oakenlatch/core/guard"
	"oakenlatch/core/ledger"
	"oakenlatch/core/lifecycle"
	"oakenlatch/core/tree"
	"oakenlatch/netconf"
	"oakenlatch/service/audit"
	"oakenlatch/service/fleet"
	"oakenlatch/service/folder"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// Records that come from a backup may have been taken while a commit was under way. How it
// ended is told by its devices alone: they are read, and a person says what is to be. Nothing
// is done to them by itself: what stands there may have been decided long since.

// Unsettled is a device of such a commit.
type Unsettled struct {
	Device  store.Device
	Found   guard.Found    // "" where it was not looked at, or not reached
	Pending guard.Pending  // whether a confirmed commit pends, as its lock tells
	Err     error          // why it is not known what it holds
	Settled *store.Settled // what was said of it already
	Until   time.Time      // its own timer may run until then; zero where it is known not to

	running *tree.Node
}

func nothingToSettle(c store.Change) error {
	return refusal.New(
		refusal.Conflict, "see how it stands",
		"change %d is %s: there is nothing to settle", c.Number, c.State,
	).Do(advice.ShowChange, c.Number)
}

// Unsettled reads the devices of a change that is unsettled.
func (e *Engine) Unsettled(ctx context.Context, c store.Change) ([]Unsettled, error) {
	if c.State != lifecycle.Unsettled {
		return nil, nothingToSettle(c)
	}
	commit, err := e.store.LastCommit(ctx, c.Number)
	if err != nil {
		return nil, err
	}
	said, err := e.store.SettledOf(ctx, commit.ID)
	if err != nil {
		return nil, err
	}
	out := make([]Unsettled, len(commit.Parts))
	done := make(chan struct{})
	for i, p := range commit.Parts {
		if out[i].Device, err = e.store.DeviceByID(ctx, store.Everything, p.Device); err != nil {
			return nil, err
		}
	}
	for i, p := range commit.Parts {
		if at := slices.IndexFunc(said, func(v store.Settled) bool { return v.Device == p.Device }); at >= 0 {
			out[i].Settled = &said[at]
		}
		go func() {
			if out[i].Settled == nil {
				e.findOut(ctx, &out[i], p)
				out[i].Until = timerUntil(commit, i, out[i].Pending)
			}
			done <- struct{}{}
		}()
	}
	for range commit.Parts {
		<-done
	}
	return out, nil
}

// timerUntil gives until when a device's own timer may run, by what is on record; zero where it
// has none, or tells by its lock that nothing pends.
func timerUntil(c store.Commit, place int, pending guard.Pending) time.Time {
	d := c.State.Devices[place]
	if d.Keeper == guard.ByService || pending == guard.NonePends && d.Tells {
		return time.Time{}
	}
	if !d.GoesBackBy.IsZero() {
		return d.GoesBackBy
	}
	return c.Started.Add(c.Plan.Ahead + c.Plan.Hold + c.State.Margin)
}

// findOut reads a device and compares what it holds.
func (e *Engine) findOut(ctx context.Context, u *Unsettled, p store.CommitPart) {
	u.Err = func() error {
		ctx, cancel := context.WithTimeout(ctx, operation)
		defer cancel()
		s, err := e.fleet.Dial(ctx, store.Everything, u.Device.Name)
		if err != nil {
			return err
		}
		defer part(s)
		if u.running, err = s.Read(ctx, netconf.Running); err != nil {
			return err
		}
		u.Pending = lockTells(ctx, s)
		if p.Base == "" {
			u.Found = guard.FoundBase // nothing was sent to it when the backup was taken
			return nil
		}
		base, err := e.history.Tree(ctx, s.Schema, p.Base)
		if err != nil {
			return err
		}
		result, err := e.history.Tree(ctx, s.Schema, p.Result)
		if err != nil {
			return err
		}
		u.Found = found(base, result, u.running)
		return nil
	}()
}

// found tells what a device holds at the places of a commit. Defaults that are set and
// defaults that are not mean the same.
func found(base, result, running *tree.Node) guard.Found {
	old, new := diff.Compare(base.WithoutDefaults(), result.WithoutDefaults()).Where(running.WithoutDefaults())
	switch {
	case old:
		return guard.FoundBase
	case new:
		return guard.FoundResult
	}
	return guard.FoundOther
}

// standings are what a device is once a person accepts it as it was found.
var standings = map[guard.Found]string{
	guard.FoundBase: string(guard.IsReverted), guard.FoundResult: string(guard.IsConfirmed),
	guard.FoundOther: string(guard.IsAccepted),
}

// Settle records devices as they are found to be, by a person's word; none is all that are
// not settled. Once all are, the change has its end.
func (e *Engine) Settle(ctx context.Context, by string, c store.Change, devices []string) error {
	list, err := e.Unsettled(ctx, c)
	if err != nil {
		return err
	}
	commit, err := e.store.LastCommit(ctx, c.Number)
	if err != nil {
		return err
	}
	var now []Unsettled
	for _, name := range devices {
		i := slices.IndexFunc(list, func(u Unsettled) bool { return u.Device.Name == name })
		if i < 0 {
			return refusal.New(refusal.NotFound, "", "change %d has no part on %q", c.Number, name)
		}
		now = append(now, list[i])
	}
	if len(devices) == 0 {
		now = slices.DeleteFunc(slices.Clone(list), func(u Unsettled) bool { return u.Settled != nil })
	}
	for _, u := range now {
		switch {
		case u.Settled != nil:
			return refusal.New(
				refusal.Conflict, "", "%s is settled already: %s, by %s", u.Device.Name, u.Settled.Standing,
				u.Settled.Actor,
			)
		case u.Err != nil:
			return u.Err
		case u.Found == guard.FoundResult && e.log.Now().Before(u.Until):
			return refusal.New(
				refusal.Conflict, "look again then",
				"%s holds the change, and does not tell whether its own timer still runs: by what is on record it "+
					"may until %s",
				u.Device.Name, u.Until.UTC().Format(time.RFC3339),
			)
		case u.Pending == guard.IsPending:
			return refusal.New(
				refusal.Conflict, "wait until its own timer has gone off, then look again",
				"%s has a confirmed commit pending: what it holds now is not final", u.Device.Name,
			)
		}
	}
	for _, u := range now {
		if err := e.kept(ctx, by, c, u); err != nil {
			return err
		}
	}
	return e.log.Write(ctx, func(tx *audit.Tx) error {
		for _, u := range now {
			v := store.Settled{Device: u.Device.ID, Standing: standings[u.Found], Actor: by, At: e.log.Now()}
			if err := tx.Settle(commit.ID, v); err != nil {
				return fmt.Errorf("%s: %w", u.Device.Name, err)
			}
			if err := tx.Record(
				ledger.Entry{
					Actor: by, Action: "device.settle", Change: c.Number, Device: u.Device.Name, After: v.Standing,
					Note: holdsText[u.Found],
				},
			); err != nil {
				return err
			}
			if err := moved(tx, by, c.Number, u.Device, v.Standing); err != nil {
				return err
			}
		}
		said, err := tx.SettledOf(commit.ID)
		if err != nil || len(said) < len(commit.Parts) {
			return err
		}
		state, reason := ended(said, list)
		if err := tx.SetState(c.Number, state, reason, e.log.Now()); err != nil {
			return err
		}
		return tx.Record(ledger.Entry{Actor: by, Action: "change." + string(state), Change: c.Number, Note: reason})
	})
}

var holdsText = map[guard.Found]string{
	guard.FoundBase: "it holds its former configuration", guard.FoundResult: "it holds the change",
	guard.FoundOther: "it holds neither its former configuration nor the change",
}

// kept makes a revision of what a device was found to hold.
func (e *Engine) kept(ctx context.Context, by string, c store.Change, u Unsettled) error {
	s, err := e.fleet.Dial(ctx, store.Everything, u.Device.Name)
	if err != nil {
		return err
	}
	defer part(s)
	change := c.Number
	if u.Found != guard.FoundResult {
		change = 0
	}
	_, err = e.history.Keep(ctx, s, u.running, change, by)
	var fe *fleet.Error
	if err != nil && !errors.As(err, &fe) {
		return err
	}
	return nil
}

// moved ends the moving of a device's management.
func moved(tx *audit.Tx, by string, change int64, d store.Device, standing string) error {
	if d.MovingTo == "" {
		return nil
	}
	if standing != string(guard.IsConfirmed) {
		return tx.SetMoving(d.ID, "")
	}
	address, seenAs, _ := strings.Cut(d.MovingTo, " ")
	if err := tx.SetAddress(d.ID, address, seenAs); err != nil {
		return err
	}
	return tx.Record(
		ledger.Entry{
			Actor: by, Action: "device.address", Change: change, Device: d.Name, Before: d.Address, After: address,
		},
	)
}

// ended gives the end of a change whose devices are all settled.
func ended(said []store.Settled, list []Unsettled) (state lifecycle.State, reason string) {
	names := map[int64]string{}
	for _, u := range list {
		names[u.Device.ID] = u.Device.Name
	}
	same, each := true, []string{}
	for _, v := range said {
		same = same && v.Standing == said[0].Standing
		each = append(each, fmt.Sprintf("%s %s", names[v.Device], v.Standing))
	}
	reason = "settled after a restore: " + strings.Join(each, ", ")
	if same && said[0].Standing != string(guard.IsAccepted) {
		return lifecycle.State(said[0].Standing), reason
	}
	return lifecycle.Partly, reason
}

// Lost lists what was on hold and the records know nothing of.
func (e *Engine) Lost() []folder.Hold {
	if e.opt.Notes == nil {
		return nil
	}
	return slices.DeleteFunc(e.opt.Notes.List(), func(h folder.Hold) bool { return !h.Lost })
}

// Looked takes a hold that the records know nothing of off the list, by the word of a person
// who looked at its devices.
func (e *Engine) Looked(ctx context.Context, by string, change int64) error {
	for _, h := range e.Lost() {
		if h.Change != change {
			continue
		}
		if err := e.log.Write(ctx, func(tx *audit.Tx) error {
			return tx.Record(ledger.Entry{Actor: by, Action: "hold.looked-after", Note: h.String()})
		}); err != nil {
			return err
		}
		return e.opt.Notes.Drop(h.Change, h.Began)
	}
	return refusal.New(refusal.NotFound, "", "no hold of a change %d is missing from the records", change)
}
