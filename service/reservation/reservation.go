// Package reservation keeps devices to a person for a while: nobody else's commit touches them meanwhile.
package reservation

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"oakenlatch/core/advice"
	"oakenlatch/core/ledger"
	"oakenlatch/service/access"
	"oakenlatch/service/audit"
	"oakenlatch/service/refusal"
	"oakenlatch/service/store"
)

// Reservations knows who has which device for themselves.
type Reservations struct {
	store *store.Store
	log   *audit.Log
}

// New gives the reservations over a store.
func New(s *store.Store, log *audit.Log) *Reservations { return &Reservations{store: s, log: log} }

func (r *Reservations) device(ctx context.Context, reach store.Reach, name string) (store.Device, error) {
	dev, err := r.store.Device(ctx, reach, name)
	if errors.Is(err, store.ErrNotFound) {
		err = refusal.NoDevice(name)
	}
	return dev, err
}

// Longest is how long a device may be reserved at a time.
const Longest = 14 * 24 * time.Hour

// Reserve keeps a device to a person for a while, or longer than so far.
// Nobody else's commit touches it meanwhile.
func (r *Reservations) Reserve(
	ctx context.Context, p access.Person, device, reason string, length time.Duration,
) (store.Reservation, error) {
	now := r.log.Now()
	v := store.Reservation{Holder: p.Name, Reason: strings.TrimSpace(reason), Made: now, Until: now.Add(length)}
	dev, err := r.device(ctx, p.Reach(), device)
	if err != nil {
		return v, err
	}
	v.Device = dev.ID
	if v.Reason == "" || utf8.RuneCountInString(v.Reason) > 500 {
		return v, refusal.New(
			refusal.Invalid, "say why: others will read it",
			"%s: a reservation needs a reason of 1 to 500 characters", device,
		)
	}
	if length < time.Minute || length > Longest {
		return v, refusal.New(
			refusal.Invalid, "give it like 2h", "%s: a reservation lasts from a minute to %d days, not %s",
			device, Longest/(24*time.Hour), length,
		)
	}
	return v, r.log.Write(ctx, func(tx *audit.Tx) error {
		have, err := tx.Reserved(dev.ID, now)
		e := ledger.Entry{
			Actor: p.Name, Action: "device.reserve", Device: device, After: v.Until.Format(time.RFC3339),
			Note: v.Reason,
		}
		switch {
		case errors.Is(err, store.ErrNotFound):
			v, err = tx.Reserve(v)
		case err == nil && have.Holder == p.Name:
			v.ID, v.Made, e.Before = have.ID, have.Made, have.Until.Format(time.RFC3339)
			err = tx.ExtendReservation(have.ID, v.Until, v.Reason)
		case err == nil:
			err = Taken(device, have)
		}
		if err != nil {
			return err
		}
		return tx.Record(e)
	})
}

// Taken says by whom a device is reserved.
func Taken(device string, v store.Reservation) error {
	return refusal.Reserved(device, v.Holder, v.Until, v.Reason)
}

// Release ends a reservation: one's own, or anybody's for an administrator.
func (r *Reservations) Release(ctx context.Context, p access.Person, device string) error {
	dev, err := r.device(ctx, p.Reach(), device)
	if err != nil {
		return err
	}
	return r.log.Write(ctx, func(tx *audit.Tx) error {
		v, err := tx.Reserved(dev.ID, r.log.Now())
		switch {
		case errors.Is(err, store.ErrNotFound):
			return refusal.New(refusal.Conflict, "", "%s is not reserved", device)
		case err != nil:
			return err
		case v.Holder != p.Name && !p.Administers():
			return Taken(device, v)
		}
		if err := tx.EndReservation(v.ID, p.Name, r.log.Now()); err != nil {
			return err
		}
		note := ""
		if v.Holder != p.Name {
			note = "lifted by an administrator; it was reserved by " + v.Holder + ": " + v.Reason
		}
		return tx.Record(
			ledger.Entry{
				Actor: p.Name, Action: "device.release", Device: device, Before: v.Until.Format(time.RFC3339),
				Note: note,
			},
		)
	})
}

// mostAsks bounds what may be asked of one reservation.
const mostAsks = 50

// Ask puts a word to whoever has a device reserved; they see it on the page
// they begin with.
func (r *Reservations) Ask(ctx context.Context, p access.Person, device, text string) (store.Reservation, error) {
	dev, err := r.device(ctx, p.Reach(), device)
	if err != nil {
		return store.Reservation{}, err
	}
	a := store.Ask{Actor: p.Name, Text: strings.TrimSpace(text), At: r.log.Now()}
	if a.Text == "" || utf8.RuneCountInString(a.Text) > 500 {
		return store.Reservation{}, refusal.New(refusal.Invalid, "", "say in 1 to 500 characters what is needed")
	}
	var v store.Reservation
	return v, r.log.Write(ctx, func(tx *audit.Tx) error {
		v, err = tx.Reserved(dev.ID, a.At)
		switch {
		case errors.Is(err, store.ErrNotFound):
			return refusal.New(refusal.Conflict, "go on", "%s is not reserved", device)
		case err != nil:
			return err
		case v.Holder == p.Name:
			return refusal.New(
				refusal.Conflict, "end it", "%s is reserved by yourself", device,
			).Do(advice.ReleaseDevice, device)
		}
		if err := tx.AddAsk(v.ID, a, mostAsks); err != nil {
			if errors.Is(err, store.ErrExists) {
				return refusal.New(
					refusal.Conflict, "an administrator can lift it", "%s has been asked %d times already", v.Holder,
					mostAsks,
				)
			}
			return err
		}
		return tx.Record(
			ledger.Entry{Actor: p.Name, Action: "device.ask", Device: device, After: v.Holder, Note: a.Text},
		)
	})
}

// List lists those in force.
func (r *Reservations) List(ctx context.Context) ([]store.Reservation, error) {
	return r.store.Reservations(ctx, r.log.Now())
}

// Of gives a device's reservation out of a list, nil if none.
func Of(list []store.Reservation, device int64) *store.Reservation {
	i := slices.IndexFunc(list, func(v store.Reservation) bool { return v.Device == device })
	if i < 0 {
		return nil
	}
	return &list[i]
}
