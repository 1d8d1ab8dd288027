package outside

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"oakenlatch/core/advice"
	"oakenlatch/core/ledger"
	"oakenlatch/core/lifecycle"
	"oakenlatch/service/access"
	"oakenlatch/service/audit"
	"oakenlatch/service/refusal"
	"oakenlatch/service/restore"
	"oakenlatch/service/store"
)

// Decisions keeps what people decide about outside changes.
type Decisions struct {
	Store    *store.Store
	Log      *audit.Log
	Restorer *restore.Restorer
}

// Find gives an outside change by its number, on a device within reach.
func (d *Decisions) Find(ctx context.Context, reach store.Reach, id int64) (store.Outside, store.Device, error) {
	o, err := d.Store.Outside(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return o, store.Device{}, refusal.New(
			refusal.NotFound, "list them", "there is no outside change %d", id,
		).Do(advice.ListOutside)
	}
	if err != nil {
		return o, store.Device{}, err
	}
	dev, err := d.Store.DeviceByID(ctx, reach, o.Device)
	return o, dev, err
}

// undecided gives one that is still to be decided.
func (d *Decisions) undecided(ctx context.Context, reach store.Reach, id int64) (store.Outside, store.Device, error) {
	o, dev, err := d.Find(ctx, reach, id)
	if err == nil && o.State != lifecycle.OutsideOpen {
		err = refusal.New(
			refusal.Conflict, "see it",
			"outside change %d is %s already, by %s", id, o.State, o.DecidedBy,
		).Do(advice.ShowOutside, id)
	}
	return o, dev, err
}

// noteBytes is how long a note may be.
const noteBytes = 4000

func noted(note string) (string, error) {
	note = strings.TrimSpace(note)
	if len(note) > noteBytes {
		return note, refusal.New(
			refusal.Invalid, "", "the note has %d bytes, at most %d are kept", len(note), noteBytes,
		)
	}
	return note, nil
}

func (d *Decisions) decide(
	ctx context.Context, by string, o store.Outside, dev store.Device, state lifecycle.OutsideState, note string,
	change int64,
) (store.Outside, error) {
	o.State, o.DecidedBy, o.DecidedAt, o.Note, o.Change = state, by, d.Log.Now(), note, change
	err := d.Log.Write(ctx, func(tx *audit.Tx) error {
		if err := tx.DecideOutside(o); errors.Is(err, store.ErrNotFound) {
			return refusal.New(
				refusal.Conflict, "see it",
				"outside change %d was decided at this very moment", o.ID,
			).Do(advice.ShowOutside, o.ID)
		} else if err != nil {
			return err
		}
		return tx.Record(
			ledger.Entry{
				Actor: by, Action: "outside." + string(state), Device: dev.Name, Change: change,
				Note: strings.TrimSuffix(
					fmt.Sprintf("outside change %d, revision %d: %s", o.ID, o.Revision, note), ": ",
				),
			},
		)
	})
	return o, err
}

// Adopt takes an outside change as it is.
func (d *Decisions) Adopt(ctx context.Context, p access.Person, id int64, note string) (store.Outside, error) {
	note, err := noted(note)
	if err != nil {
		return store.Outside{}, err
	}
	if note == "" {
		return store.Outside{}, refusal.New(
			refusal.Invalid, "say who did it and why, as far as you know", "adopting an outside change needs a note",
		)
	}
	o, dev, err := d.undecided(ctx, p.Reach(), id)
	if err != nil {
		return o, err
	}
	return d.decide(ctx, p.Name, o, dev, lifecycle.OutsideAdopted, note, 0)
}

// PushBack opens a change that takes an outside change back, and nothing of
// what came after it. Only when that change is kept the outside change counts
// as pushed back.
func (d *Decisions) PushBack(
	ctx context.Context, p access.Person, id int64, title, ticket string,
) (store.Outside, store.Change, []restore.Brought, error) {
	o, dev, err := d.undecided(ctx, p.Reach(), id)
	if err != nil {
		return o, store.Change{}, nil, err
	}
	if o.Change != 0 {
		c, err := d.Store.Change(ctx, o.Change)
		if err != nil {
			return o, c, nil, err
		}
		if c.State != lifecycle.Dropped && c.State != lifecycle.Confirmed {
			return o, c, nil, refusal.New(
				refusal.Conflict,
				"go on with it",
				"change %d of %s is to push it back already", c.Number, c.Author,
			).Do(advice.PreviewChange, c.Number).Or("or drop it first", advice.DropChange, c.Number)
		}
	}
	c, brought, err := d.Restorer.PushBack(ctx, p, restore.Push{Device: dev, Outside: o, Title: title, Ticket: ticket})
	if err != nil || c.Number == 0 {
		return o, c, brought, err
	}
	o.Change = c.Number
	err = d.Log.Write(ctx, func(tx *audit.Tx) error {
		if err := tx.PushOutside(o.ID, c.Number); err != nil {
			return err
		}
		return tx.Record(
			ledger.Entry{
				Actor: p.Name, Action: "outside.push-back", Device: dev.Name, Change: c.Number,
				Note: fmt.Sprintf("outside change %d, revision %d is to be undone", o.ID, o.Revision),
			},
		)
	})
	return o, c, brought, err
}

// Open opens a change that goes on from an outside change: the same on other
// devices, where some are named, or a draft to be worked on.
func (d *Decisions) Open(
	ctx context.Context, p access.Person, id int64, devices []string, title, ticket string,
) (store.Outside, store.Change, []restore.Brought, error) {
	o, dev, err := d.undecided(ctx, p.Reach(), id)
	if err != nil {
		return o, store.Change{}, nil, err
	}
	c, brought, err := d.Restorer.GoOn(
		ctx,
		p,
		restore.Push{Device: dev, Outside: o, Title: title, Ticket: ticket},
		devices,
	)
	if err != nil {
		return o, c, brought, err
	}
	o, err = d.decide(
		ctx, p.Name, o, dev, lifecycle.OutsideOpened, fmt.Sprintf("change %d goes on from it", c.Number), c.Number,
	)
	return o, c, brought, err
}

// Silence says of a path that it always moves: what is found changed there and
// nowhere else needs no decision. It stays on record.
func (d *Decisions) Silence(ctx context.Context, p access.Person, device, path, note string) (store.Silence, error) {
	note, err := noted(note)
	if err != nil {
		return store.Silence{}, err
	}
	path = strings.TrimRight(path, "/")
	if !strings.HasPrefix(path, "/") || len(path) > 1000 {
		return store.Silence{}, refusal.New(
			refusal.Invalid, "name a path and all below it, like /system/ntp",
			"%q is no path that can be silenced; all of a configuration cannot be", path,
		)
	}
	s := store.Silence{Path: path, Note: note, Actor: p.Name, At: d.Log.Now()}
	if device != "" {
		dev, err := d.Store.Device(ctx, p.Reach(), device)
		if err != nil {
			return s, refusal.New(refusal.NotFound, "list them", "there is no device %q", device).Do(advice.ListDevices)
		}
		s.Device = dev.ID
	}
	err = d.Log.Write(ctx, func(tx *audit.Tx) error {
		var err error
		if s, err = tx.AddSilence(s); err != nil {
			return err
		}
		return tx.Record(ledger.Entry{Actor: p.Name, Action: "outside.silence", Device: device, Path: path, Note: note})
	})
	return s, err
}

// Unsilence takes that back.
func (d *Decisions) Unsilence(ctx context.Context, p access.Person, id int64) error {
	return d.Log.Write(ctx, func(tx *audit.Tx) error {
		if err := tx.DropSilence(id); errors.Is(err, store.ErrNotFound) {
			return refusal.New(refusal.NotFound, "list them", "there is no silence %d", id).Do(advice.ListSilences)
		} else if err != nil {
			return err
		}
		return tx.Record(ledger.Entry{Actor: p.Name, Action: "outside.unsilence", Note: fmt.Sprintf("silence %d", id)})
	})
}
