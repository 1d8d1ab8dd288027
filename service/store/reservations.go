package store

import (
	"context"
	"errors"
	"slices"
	"time"
)

// Reservation keeps a device to one person for a while.
type Reservation struct {
	ID, Device     int64
	Holder, Reason string
	Made, Until    time.Time
	Ended          time.Time // zero while nobody ended it
	EndedBy        string
	Asks           []Ask
}

// Ask is somebody's word to whoever has a device reserved.
type Ask struct {
	Actor, Text string
	At          time.Time
}

const reservationColumns = "id, device, holder, reason, made_at, until, ended_at, ended_by"

func scanReservation(r scanner) (Reservation, error) {
	var v Reservation
	var made, until, ended string
	if err := r.Scan(&v.ID, &v.Device, &v.Holder, &v.Reason, &made, &until, &ended, &v.EndedBy); err != nil {
		return v, err
	}
	var errs [3]error
	v.Made, errs[0] = parseTime(made)
	v.Until, errs[1] = parseTime(until)
	v.Ended, errs[2] = parseTime(ended)
	return v, errors.Join(errs[:]...)
}

// Reserve keeps a device to somebody.
func (tx *Tx) Reserve(v Reservation) (Reservation, error) {
	err := tx.row(
		"INSERT INTO reservations (device, holder, reason, made_at, until) VALUES (?, ?, ?, ?, ?) RETURNING id",
		v.Device, v.Holder, v.Reason, timeText(v.Made), timeText(v.Until),
	).Scan(&v.ID)
	return v, err
}

// EndReservation ends one; ErrNotFound where it has ended.
func (tx *Tx) EndReservation(id int64, by string, at time.Time) error {
	return affected(
		tx.exec(
			"UPDATE reservations SET ended_at = ?, ended_by = ? WHERE id = ? AND ended_at = ''", timeText(at), by, id,
		),
	)
}

// ExtendReservation gives one another end and reason.
func (tx *Tx) ExtendReservation(id int64, until time.Time, reason string) error {
	return affected(
		tx.exec(
			"UPDATE reservations SET until = ?, reason = ? WHERE id = ? AND ended_at = ''", timeText(until), reason, id,
		),
	)
}

// AddAsk puts somebody's word to a reservation; ErrExists where as many as may
// be are there.
func (tx *Tx) AddAsk(reservation int64, a Ask, most int) error {
	return inserted(tx.exec(
		"INSERT INTO asks (reservation, actor, at, text) SELECT ?1, ?2, ?3, ?4 WHERE (SELECT count(*) FROM asks "+
			"WHERE reservation = ?1) < ?5",
		reservation, a.Actor, timeText(a.At), a.Text, most,
	))
}

// inForce gives the reservations that have neither ended nor run out.
func inForce(q question, at time.Time) ([]Reservation, error) {
	list, err := many(q, scanReservation)
	return slices.DeleteFunc(list, func(v Reservation) bool { return !v.Until.After(at) }), err
}

// Reserved gives the reservation of a device that is in force at a time;
// ErrNotFound where there is none.
func (tx *Tx) Reserved(device int64, at time.Time) (Reservation, error) {
	list, err := inForce(
		tx.ask(
			"SELECT "+reservationColumns+" FROM reservations WHERE device = ? AND ended_at = '' ORDER BY id", device,
		),
		at,
	)
	if err == nil && len(list) == 0 {
		err = ErrNotFound
	}
	if err != nil {
		return Reservation{}, err
	}
	return list[0], nil
}

// Reservations lists those in force at a time, with what others asked.
func (s *Store) Reservations(ctx context.Context, at time.Time) ([]Reservation, error) {
	list, err := inForce(
		s.ask(ctx, "SELECT "+reservationColumns+" FROM reservations WHERE ended_at = '' ORDER BY id"), at,
	)
	for i := 0; err == nil && i < len(list); i++ {
		list[i].Asks, err = s.asks(ctx, list[i].ID)
	}
	return list, err
}

func (s *Store) asks(ctx context.Context, reservation int64) ([]Ask, error) {
	return many(s.ask(
		ctx, "SELECT actor, at, text FROM asks WHERE reservation = ? ORDER BY id", reservation,
	), func(r scanner) (a Ask, err error) {
		var at string
		if err = r.Scan(&a.Actor, &at, &a.Text); err == nil {
			a.At, err = parseTime(at)
		}
		return a, err
	})
}
