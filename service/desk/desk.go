// Package desk is where changes are made: opened, staged and previewed. It
// touches no device but to read it.
package desk

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"oakenlatch/core/advice"
	"oakenlatch/core/ledger"
	"oakenlatch/core/lifecycle"
	"oakenlatch/core/schema"
	"oakenlatch/core/tree"
	"oakenlatch/service/access"
	"oakenlatch/service/approval"
	"oakenlatch/service/audit"
	"oakenlatch/service/fleet"
	"oakenlatch/service/history"
	"oakenlatch/service/refusal"
	"oakenlatch/service/reservation"
	"oakenlatch/service/store"
)

// Desk makes changes.
type Desk struct {
	store   *store.Store
	log     *audit.Log
	history *history.History
	fleet   *fleet.Fleet
	cache   *partCache

	devices      Devices
	copies       Copies
	approvals    *approval.Approvals
	reservations *reservation.Reservations
}

// Devices is what the desk asks of the engine.
type Devices interface {
	// TryOut has a device validate a result without committing it; said is what speaks against it.
	TryOut(ctx context.Context, device store.Device, running, result *tree.Node) (said string, err error)

	// Holder gives the change whose commit is under way on a device, 0 if none.
	Holder(device int64) int64
}

// Copies are the copies in archives.
type Copies interface {
	// Tree reads one by its number.
	Tree(ctx context.Context, id int64, s *schema.Schema) (*tree.Node, error)
}

// Rooms are those that a desk rests on.
type Rooms struct {
	History      *history.History
	Fleet        *fleet.Fleet
	Devices      Devices
	Copies       Copies
	Approvals    *approval.Approvals
	Reservations *reservation.Reservations
}

// New gives a desk over a store.
func New(s *store.Store, log *audit.Log, r Rooms) *Desk {
	return &Desk{
		store: s, log: log, history: r.History, fleet: r.Fleet, cache: newPartCache(),
		devices: r.Devices, copies: r.Copies, approvals: r.Approvals, reservations: r.Reservations,
	}
}

// Titled checks a title and a ticket.
func Titled(title, ticket string) (string, string, error) {
	title, ticket = strings.TrimSpace(title), strings.TrimSpace(ticket)
	if title == "" || utf8.RuneCountInString(title) > 200 || utf8.RuneCountInString(ticket) > 100 {
		return title, ticket, refusal.New(
			refusal.Invalid, "say in a few words what it is for",
			"a change needs a title of 1 to 200 characters and a ticket of at most 100",
		)
	}
	return title, ticket, nil
}

// Open starts a change.
func (d *Desk) Open(ctx context.Context, p access.Person, title, ticket string) (store.Change, error) {
	title, ticket, err := Titled(title, ticket)
	if err != nil {
		return store.Change{}, err
	}
	c := store.Change{Title: title, Ticket: ticket, Author: p.Name, State: lifecycle.Draft, Opened: d.log.Now()}
	note := title
	if ticket != "" {
		note += " (" + ticket + ")"
	}
	err = d.log.Write(ctx, func(tx *audit.Tx) (err error) {
		c, err = Draft(tx, c, note)
		return err
	})
	return c, err
}

// works reports whether a change is a person's: its author's, or of those the
// author added.
func works(c store.Change, p access.Person, coworkers []string) bool {
	return c.Author == p.Name || slices.Contains(coworkers, p.Name)
}

// visible reports whether a person may see a change: a draft is private to
// those who work on it, what is or was on devices is everybody's.
func visible(c store.Change, p access.Person, coworkers []string) bool {
	return works(c, p, coworkers) || !c.State.Private()
}

// Get gives a change that a person may see.
func (d *Desk) Get(ctx context.Context, p access.Person, number int64) (store.Change, error) {
	c, _, err := d.get(ctx, p, number)
	return c, err
}

func (d *Desk) get(ctx context.Context, p access.Person, number int64) (store.Change, []string, error) {
	c, err := d.store.Change(ctx, number)
	if errors.Is(err, store.ErrNotFound) {
		return c, nil, refusal.New(
			refusal.NotFound, "list yours", "there is no change %d", number,
		).Do(advice.ListChanges)
	}
	if err != nil {
		return c, nil, err
	}
	coworkers, err := d.store.Coworkers(ctx, number)
	if err != nil {
		return c, nil, err
	}
	parts, err := d.store.Parts(ctx, number)
	if err != nil {
		return c, nil, err
	}
	for _, part := range parts {
		if _, err := d.store.DeviceByID(ctx, p.Sight(), part.Device); err != nil {
			return c, nil, refusal.New(
				refusal.Forbidden, "ask an administrator", "change %d is about devices that account %s may not see",
				number, p.Name,
			)
		}
	}
	if len(parts) == 0 && !works(c, p, coworkers) && !p.Grants.Everywhere(access.Read) {
		return c, nil, refusal.New(
			refusal.Forbidden, "they can add you",
			"change %d of %s is on no device that account %s may see", number, c.Author, p.Name,
		).Do(advice.ShareChange, number, p.Name)
	}
	if !visible(c, p, coworkers) {
		if ok, err := d.approvals.Asked(ctx, p, number); err != nil || ok {
			return c, coworkers, err
		}
		return c, nil, refusal.New(
			refusal.Forbidden, "they can add you", "change %d is a draft of %s and private to them", number, c.Author,
		).Do(advice.ShareChange, number, p.Name)
	}
	return c, coworkers, nil
}

// Sight is what of the changes a person sees: for who asks for several lists, so that it is found once.
func (d *Desk) Sight(ctx context.Context, p access.Person) (*store.Sight, error) {
	out := &store.Sight{Person: p.Name}
	if p.Grants.Everywhere(access.Read) {
		return out, nil
	}
	devices, err := d.store.DevicePlaces(ctx, p.Sight())
	out.Devices = make([]int64, len(devices))
	for i, dev := range devices {
		out.Devices[i] = dev.ID
	}
	return out, err
}

// List gives the changes a person may see, of those asked for, newest first.
func (d *Desk) List(ctx context.Context, p access.Person, q store.ChangeQuery) ([]store.Change, error) {
	if q.Sight == nil {
		var err error
		if q.Sight, err = d.Sight(ctx, p); err != nil {
			return nil, err
		}
	}
	return d.store.ListChanges(ctx, q)
}

// Count counts them, whatever the limit.
func (d *Desk) Count(ctx context.Context, p access.Person, q store.ChangeQuery) (n int, err error) {
	if q.Sight, err = d.Sight(ctx, p); err != nil {
		return 0, err
	}
	return d.store.CountChanges(ctx, q)
}

// Tickets lists the tickets of the changes that a person may see, of those asked for.
func (d *Desk) Tickets(ctx context.Context, p access.Person, q store.ChangeQuery) (list []string, err error) {
	if q.Sight, err = d.Sight(ctx, p); err != nil {
		return nil, err
	}
	return d.store.Tickets(ctx, q)
}

// Visible gives those of some changes that a person may see, by their numbers; sight is found if nil.
func (d *Desk) Visible(
	ctx context.Context, p access.Person, sight *store.Sight, numbers []int64,
) (map[int64]store.Change, error) {
	out := map[int64]store.Change{}
	if len(numbers) == 0 {
		return out, nil
	}
	list, err := d.List(ctx, p, store.ChangeQuery{Numbers: numbers, Sight: sight})
	if err != nil {
		return nil, err
	}
	asked, err := d.approvals.ToApprove(ctx, p)
	if err != nil {
		return nil, err
	}
	for _, c := range append(list, asked...) {
		if slices.Contains(numbers, c.Number) {
			out[c.Number] = c
		}
	}
	return out, nil
}

// Own gives a change that a person may still edit.
func (d *Desk) Own(ctx context.Context, p access.Person, number int64) (store.Change, error) {
	c, coworkers, err := d.get(ctx, p, number)
	if err != nil {
		return c, err
	}
	return c, editable(c, p, coworkers)
}

func editable(c store.Change, p access.Person, coworkers []string) error {
	if !works(c, p, coworkers) {
		return refusal.New(
			refusal.Forbidden, "open one of your own", "change %d belongs to %s", c.Number, c.Author,
		).Do(advice.OpenChange).Or(fmt.Sprintf("or have %s add you", c.Author), advice.ShareChange, c.Number, p.Name)
	}
	switch {
	case c.State.Open():
		return nil
	case c.State == lifecycle.Scheduled:
		return refusal.New(
			refusal.Conflict, "take it off first",
			"change %d is on the schedule and cannot be edited or committed meanwhile", c.Number,
		).Do(advice.Unschedule, c.Number)
	}
	if c.State == lifecycle.Unsettled {
		return refusal.New(
			refusal.Conflict, "say what is to be with its devices",
			"change %d was under way when the backup was taken that the records come from: it cannot be edited",
			c.Number,
		).Do(advice.SettleChange, c.Number)
	}
	if c.State == lifecycle.Partly {
		return refusal.New(
			refusal.Conflict, "undo what of it was confirmed",
			"change %d is partly on its devices and can no longer be edited", c.Number,
		).Do(advice.UndoChange, c.Number).Or("or open a new one", advice.OpenChange)
	}
	return refusal.New(
		refusal.Conflict, "open a new one", "change %d is %s and can no longer be edited", c.Number, c.State,
	).Do(advice.OpenChange)
}

// change writes to a change in one transaction, after it was looked at again
// within: it may have been committed, or its person taken off it, meanwhile.
func (d *Desk) change(ctx context.Context, p access.Person, number int64, f func(tx *audit.Tx) error) error {
	return d.log.Write(ctx, func(tx *audit.Tx) error {
		c, err := tx.Change(number)
		if err != nil {
			return err
		}
		coworkers, err := tx.Coworkers(number)
		if err != nil {
			return err
		}
		if err := editable(c, p, coworkers); err != nil {
			return err
		}
		return f(tx)
	})
}

// Edit is change for what makes the change another one: it is a draft again.
func (d *Desk) Edit(ctx context.Context, p access.Person, number int64, f func(tx *audit.Tx) error) error {
	return d.change(ctx, p, number, func(tx *audit.Tx) error {
		if err := f(tx); err != nil {
			return err
		}
		return tx.SetState(number, lifecycle.Draft, "", d.log.Now())
	})
}

// authored gives a change that is a person's own, not one they were added to.
func (d *Desk) authored(ctx context.Context, p access.Person, number int64, what string) (store.Change, error) {
	c, err := d.Own(ctx, p, number)
	if err == nil && c.Author != p.Name {
		err = refusal.New(
			refusal.Forbidden, "ask "+c.Author, "change %d belongs to %s: only they can %s", number, c.Author, what,
		)
	}
	return c, err
}

// Abandon drops a whole change.
func (d *Desk) Abandon(ctx context.Context, p access.Person, number int64) error {
	if _, err := d.authored(ctx, p, number, "drop it"); err != nil {
		return err
	}
	return d.change(ctx, p, number, func(tx *audit.Tx) error {
		if err := tx.SetState(number, lifecycle.Dropped, "", d.log.Now()); err != nil {
			return err
		}
		return tx.Record(ledger.Entry{Actor: p.Name, Action: "change.drop", Change: number})
	})
}
